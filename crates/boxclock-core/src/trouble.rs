//! What could not be read or understood: reported, never silent.

use serde::{Deserialize, Serialize};

/// Something about a source that could not be read or understood, with the place in the file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Trouble {
    /// What, for people.
    pub text: String,
    /// Whether bytes are missing from what is shown. Otherwise all is there, only not understood.
    pub lost: bool,
}

impl Trouble {
    /// Trouble that cost nothing: everything is shown.
    pub fn note(text: impl Into<String>) -> Self {
        Self { text: text.into(), lost: false }
    }

    /// Trouble that cost bytes.
    pub fn lost(text: impl Into<String>) -> Self {
        Self { text: text.into(), lost: true }
    }
}

/// Something that was not read, and why.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LeftOut {
    /// Its path, as shown.
    pub path: String,
    /// The reason.
    pub reason: String,
}
