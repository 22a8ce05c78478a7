//! Exit status and diagnostics: 0 done, 1 not done, 2 wrong usage, 3 done in part.

use std::io::{self, ErrorKind};
use std::process::ExitCode;

use boxclock_core::Error;

/// How a command ended.
pub enum Outcome {
    /// All was done.
    Done,
    /// Part was done; what was left out has been named.
    Partly,
}

/// Why a command did not finish.
pub enum Failure {
    /// The reason, for standard error.
    Because(String),
    /// The arguments make no sense together.
    Usage(String),
    /// Whoever read our output went away: nothing to say.
    ReaderGone,
}

impl From<Error> for Failure {
    fn from(error: Error) -> Self {
        Self::Because(error.to_string())
    }
}

impl From<io::Error> for Failure {
    fn from(error: io::Error) -> Self {
        if error.kind() == ErrorKind::BrokenPipe {
            Self::ReaderGone
        } else {
            Self::Because(format!("cannot write: {error}"))
        }
    }
}

/// The result of a command.
pub type Ended = Result<Outcome, Failure>;

/// Says what has to be said on standard error, and gives the exit status.
pub fn report(ended: Ended) -> ExitCode {
    match &ended {
        Ok(_) | Err(Failure::ReaderGone) => tracing::info!("done"),
        Err(Failure::Because(reason)) => tracing::error!("not done: {reason}"),
        Err(Failure::Usage(reason)) => tracing::warn!("wrong usage: {reason}"),
    }
    match ended {
        Ok(Outcome::Done) | Err(Failure::ReaderGone) => ExitCode::SUCCESS,
        Ok(Outcome::Partly) => ExitCode::from(3),
        Err(Failure::Because(reason)) => {
            say(&reason);
            ExitCode::FAILURE
        }
        Err(Failure::Usage(reason)) => {
            say(&reason);
            ExitCode::from(2)
        }
    }
}

/// Writes a line to standard error. Control characters of file names are shown, not obeyed.
#[allow(clippy::print_stderr, reason = "standard error is where diagnostics go")]
pub fn say(text: &str) {
    eprintln!("boxclock: {}", boxclock_core::visible(text, true));
}
