//! `plain`: lines of which nothing is known. Every line that is not blank is an event without time,
//! but for the lines of a stack trace behind its first.

use super::{Head, Hint, LineFormat};
use crate::trace;

/// The format.
pub(super) struct Plain;

impl LineFormat for Plain {
    fn name(&self) -> &'static str {
        "plain"
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        (!line.trim_ascii().is_empty() && !trace::continues(line)).then(Head::default)
    }

    /// Plain lines fit everything, so they win only where nothing else fits at all.
    fn fit(&self, _: &[&[u8]]) -> super::Fit {
        super::Fit::default()
    }
}
