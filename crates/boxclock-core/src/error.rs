//! The one error type of the core: what happened, to which thing, and what to do about it.

use std::io;
use std::path::{Path, PathBuf};

use crate::limits;

/// What went wrong, said for the person who has to act on it.
///
/// The text names the file (and the byte, where there is one) that it is about. What a caller does about an error hangs on its
/// variant, never on its words.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Error {
    /// Somebody asked the work to stop.
    #[error("cancelled")]
    Cancelled,
    /// A part of the work was stopped while the rest went on.
    #[error("{0}")]
    Stopped(Stopped),
    /// The system could not read, write or connect.
    #[error("{what}{}", causes(cause))]
    System {
        /// What was tried, and with which file or host.
        what: String,
        /// What the system says.
        cause: io::Error,
    },
    /// Something that was given (a file, an option, a text) is not what it has to be.
    #[error("{what}{}", cause.as_ref().map_or_else(String::new, |cause| causes(&**cause)))]
    Input {
        /// What is wrong, and what would be right.
        what: String,
        /// What found it, if that has words of its own.
        cause: Option<Box<dyn std::error::Error + Send + Sync>>,
    },
    /// A box would take more of the disk than it may. [`Self::room_is_a_question`] says whether a person can allow it.
    #[error("{}", no_room(path, *needed_bytes, *free_bytes, folder))]
    NoRoom {
        /// The box.
        path: PathBuf,
        /// What its files take.
        needed_bytes: u64,
        /// What is free where they would go.
        free_bytes: u64,
        /// The folder where they would go.
        folder: PathBuf,
    },
    /// A mistake in this program: some of its work panicked.
    #[error("a fault in boxclock: {0}")]
    Fault(String),
}

/// Why a part of the work stopped alone.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Stopped {
    /// A person stopped it.
    #[error("stopped by hand")]
    ByHand,
    /// It took longer than it was given.
    #[error("stopped: it took longer than {seconds} s")]
    TooLong {
        /// What it was given.
        seconds: u64,
    },
}

/// A result of the core.
pub type Result<T> = std::result::Result<T, Error>;

/// What [`Error::NoRoom`] says.
fn no_room(path: &Path, needed_bytes: u64, free_bytes: u64, folder: &Path) -> String {
    let (path, folder) = (path.display(), folder.display());
    let ways = "make room there (boxclock forget BOX wipes what another box left), or set XDG_CACHE_HOME to a folder with more";
    if needed_bytes > free_bytes {
        return format!(
            "unpacking {path} takes {needed_bytes} bytes, and {folder} has {free_bytes} bytes free: {ways}"
        );
    }
    let percent = limits::UNPACK_PERCENT;
    format!(
        "unpacking {path} takes {needed_bytes} bytes, more than {percent} % of the {free_bytes} bytes that are free in {folder}: \
         allow it with --use-all-space, {ways}"
    )
}

impl Error {
    /// Whether a box may be unpacked if a person says so: it takes more than its share of the free space, but not more than there is.
    pub fn room_is_a_question(&self) -> bool {
        matches!(self, Self::NoRoom { needed_bytes, free_bytes, .. } if needed_bytes <= free_bytes)
    }

    /// An error about something that was given, which says `what`.
    pub fn new(what: impl Into<String>) -> Self {
        Self::Input { what: what.into(), cause: None }
    }

    /// An error that says `what` and keeps what caused it: [`Self::System`] where that is an error of the system.
    pub fn caused(what: impl Into<String>, cause: impl std::error::Error + Send + Sync + 'static) -> Self {
        let what = what.into();
        let cause: Box<dyn std::error::Error + Send + Sync> = Box::new(cause);
        match cause.downcast::<io::Error>() {
            Ok(cause) => Self::System { what, cause: *cause },
            Err(cause) => Self::Input { what, cause: Some(cause) },
        }
    }

    /// An error about the file or folder at `path`: "`what` PATH: cause".
    pub fn at(path: &Path, what: &str, cause: impl std::error::Error + Send + Sync + 'static) -> Self {
        Self::caused(format!("{what} {}", path.display()), cause)
    }

    /// What a thread panicked with, as [`Self::Fault`].
    pub fn fault(panic: &(dyn std::any::Any + Send)) -> Self {
        let words = panic.downcast_ref::<&str>().map(|words| (*words).to_owned());
        let words = words.or_else(|| panic.downcast_ref::<String>().cloned());
        Self::Fault(words.unwrap_or_else(|| "no words".into()))
    }

    /// Whether somebody asked for it: then there is nothing to tell.
    pub fn is_cancelled(&self) -> bool {
        match self {
            Self::Cancelled => true,
            Self::System { cause, .. } => cause.kind() == io::ErrorKind::Interrupted,
            _ => false,
        }
    }

    /// Whether the disk is full, or the user's share of it.
    pub fn is_disk_full(&self) -> bool {
        let full =
            |cause: &io::Error| matches!(cause.kind(), io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded);
        matches!(self, Self::System { cause, .. } if full(cause))
    }
}

/// The causes of an error, each behind a colon.
fn causes(first: &(dyn std::error::Error + 'static)) -> String {
    let chain = std::iter::successors(Some(first), |error| error.source());
    chain.map(|cause| format!(": {cause}")).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn says_the_file_and_the_cause() {
        let cause = io::Error::from_raw_os_error(13);
        let text = Error::at(Path::new("/var/log/secure"), "cannot read", cause).to_string();
        assert_eq!(text, "cannot read /var/log/secure: Permission denied (os error 13)");
        let inner = Error::caused("line 3", Error::new("no zone \"X\""));
        assert_eq!(Error::caused("settings.toml", inner).to_string(), "settings.toml: line 3: no zone \"X\"");
    }

    #[test]
    fn kinds_are_told_apart() {
        let full = Error::at(Path::new("a.svg"), "cannot write", io::Error::from(io::ErrorKind::StorageFull));
        assert!(full.is_disk_full() && !full.is_cancelled());
        assert!(Error::Cancelled.is_cancelled());
        assert!(Error::caused("events", io::Error::from(io::ErrorKind::Interrupted)).is_cancelled());
        let fault = std::panic::catch_unwind(|| panic!("row {} is not there", 7)).unwrap_err();
        assert_eq!(Error::fault(&*fault).to_string(), "a fault in boxclock: row 7 is not there");
    }
}
