//! The command `boxclock`: arguments in, exit status out. The work is in the core, the screen in the terminal crate.

use std::process::ExitCode;

mod args;
mod commands;
mod outcome;

fn main() -> ExitCode {
    outcome::report(commands::run(args::parse()))
}
