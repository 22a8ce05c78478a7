//! Exit status and diagnostics: 0 done, 1 not done, 2 wrong usage, 3 done in part.

use std::io::{self, ErrorKind, IsTerminal, LineWriter, StdoutLock, Write};
use std::process::ExitCode;

use boxclock_core::Error;
use boxclock_core::visible::Visible;

use crate::args::ListForm;

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
pub fn say(text: &str) {
    // Where nobody reads it, or the disk behind it is full, the work still counts.
    let _ = writeln!(io::stderr(), "boxclock: {}", boxclock_core::visible(text, true));
}

/// Standard output for text that people read: control characters of logs are shown, not obeyed.
pub fn shown() -> LineWriter<Visible<StdoutLock<'static>>> {
    // Line by line: an error of the last one must not be lost when this goes out of scope.
    LineWriter::new(Visible::new(io::stdout().lock()))
}

/// Standard output for a list: see [`shown`] and [`plain`].
pub fn of_form(form: ListForm) -> Box<dyn Write> {
    if form == ListForm::Jsonl { plain() } else { Box::new(shown()) }
}

/// Standard output for other programs: bytes go out as they are, unless a terminal reads them.
pub fn plain() -> Box<dyn Write> {
    if io::stdout().is_terminal() { Box::new(shown()) } else { Box::new(io::stdout().lock()) }
}
