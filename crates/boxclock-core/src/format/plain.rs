//! `plain`: lines of which nothing is known. Every line that is not blank is an event without time,
//! but for the lines of a stack trace behind its first.

use std::borrow::Cow;

use super::{Head, Hint, LineFormat, LineState, named_trouble, named_trouble_head, printed_trace};
use crate::trace;

/// The format.
pub(super) struct Plain;

impl LineFormat for Plain {
    fn name(&self) -> &'static str {
        "plain"
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        if line.trim_ascii().is_empty() {
            return None;
        }
        if let Some(severity) = printed_trace::opens(line) {
            return Some(Head { severity, ..Head::default() });
        }
        if let Some(head) = named_trouble_head(line) {
            return Some(head);
        }
        if let Some((severity, word)) = named_trouble::level_first(line) {
            return Some(Head { severity, severity_text: Cow::Borrowed(word), ..Head::default() });
        }
        (!trace::continues(line)).then(Head::default)
    }

    fn remembers(&self) -> bool {
        true
    }

    fn goes_on(&self, line: &[u8], state: &mut LineState) -> bool {
        !line.trim_ascii().is_empty() && printed_trace::goes_on(line, state)
    }

    fn version(&self) -> u32 {
        2
    }

    /// Plain lines fit everything, so they win only where nothing else fits at all.
    fn fit(&self, _: &[&[u8]]) -> super::Fit {
        super::Fit::default()
    }
}
