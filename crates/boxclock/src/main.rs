//! The command `boxclock`: arguments in, exit status out. The work is in the core, the screen in the terminal crate.

use std::process::ExitCode;

mod args;
mod commands;
mod log;
mod outcome;

fn main() -> ExitCode {
    // What this program writes holds the secrets of other machines.
    boxclock_core::platform::make_private();
    let (level, command) = args::parse();
    log::start(level);
    tracing::info!("boxclock {} starts", args::VERSION);
    outcome::report(commands::run(command))
}
