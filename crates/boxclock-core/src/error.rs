//! The one error type of the core: what happened, to which thing, and what to do about it.

use std::fmt;
use std::path::Path;

/// What went wrong, said for the person who has to act on it.
///
/// The text names the file (and the byte, where there is one) that it is about.
#[derive(Debug)]
pub struct Error {
    message: String,
    cause: Option<Box<dyn std::error::Error + Send + Sync>>,
}

/// A result of the core.
pub type Result<T> = std::result::Result<T, Error>;

impl Error {
    /// An error that says `message`.
    pub fn new(message: impl Into<String>) -> Self {
        Self { message: message.into(), cause: None }
    }

    /// An error that says `message` and keeps what caused it.
    pub fn caused(message: impl Into<String>, cause: impl std::error::Error + Send + Sync + 'static) -> Self {
        Self { message: message.into(), cause: Some(Box::new(cause)) }
    }

    /// An error about the file or folder at `path`: "`what` PATH: cause".
    pub fn at(path: &Path, what: &str, cause: impl std::error::Error + Send + Sync + 'static) -> Self {
        Self::caused(format!("{what} {}", path.display()), cause)
    }
}

impl fmt::Display for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)?;
        let mut next = self.cause.as_deref().map(|cause| cause as &dyn std::error::Error);
        while let Some(cause) = next {
            write!(f, ": {cause}")?;
            next = cause.source();
        }
        Ok(())
    }
}

impl std::error::Error for Error {}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn says_the_file_and_the_cause() {
        let cause = std::io::Error::from_raw_os_error(13);
        let text = Error::at(Path::new("/var/log/secure"), "cannot read", cause).to_string();
        assert_eq!(text, "cannot read /var/log/secure: Permission denied (os error 13)");
    }
}
