//! Labels of hosts.

use crate::{Error, Result};

/// The most bytes of a label: it becomes the name of a folder.
const LABEL_BYTES: usize = 64;

/// Whether a label can be the name of a folder on every system, as it has to be in a box.
///
/// # Errors
/// When it cannot, with the reason.
pub fn good_label(label: &str) -> Result<()> {
    let reason = match label {
        "" => "it is empty",
        "." | ".." => "it means a folder",
        _ if label.len() > LABEL_BYTES => "it has more than 64 bytes",
        _ if label.contains(['/', '\\', ':']) => "it holds a separator of paths",
        _ if label.chars().any(char::is_control) => "it holds a control character",
        _ if label.starts_with([' ', '-']) || label.ends_with([' ', '.']) => {
            "it begins with a blank or - or ends with a blank or a point"
        }
        _ => return Ok(()),
    };
    Err(Error::new(format!("\"{}\" cannot be the label of a host: {reason}", crate::visible(label, false))))
}
