//! The same failure at another site: other hosts, programs, folders and identifiers, so that what is known of the one can be tried on
//! the other. Names are as long as those that they stand for: dumps and exports keep their inner lengths.

use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};

/// What is called how there, in the order in which it is replaced.
const NAMES: [(&str, &str); 16] = [
    ("pump-ctl", "flow-mgr"),
    ("keeper-desk", "dosing-seat"),
    ("dose-gw", "brine-x"),
    ("Tankwarden", "Poolmaster"),
    ("tankwarden", "poolmaster"),
    ("dosingd", "mixingd"),
    ("serbridge", "linelinks"),
    ("twbridge", "pmlinker"),
    ("bridge[", "linker["),
    ("Bridge", "Linker"),
    ("plan-0412", "task-0977"),
    ("fr-0412-", "qx-0977-"),
    ("update-0412", "alters-0977"),
    ("COM4", "COM7"),
    ("reef-", "pond-"),
    ("MSI4f2a1", "MSI9c0d7"),
];

/// A text with the names of the other site.
pub fn renamed(text: &str) -> String {
    NAMES.iter().fold(text.to_owned(), |text, (here, there)| text.replace(here, there))
}

fn replace(bytes: &mut [u8], here: &[u8], there: &[u8]) {
    let mut at = 0;
    while let Some(found) = bytes.get(at..).and_then(|rest| rest.windows(here.len()).position(|part| part == here)) {
        bytes[at + found..at + found + here.len()].copy_from_slice(there);
        at += found + here.len();
    }
}

/// Renames everything below a folder that the demo case was written to. Event logs carry checksums and are written anew elsewhere:
/// they are left as they are here.
///
/// # Errors
/// When a file cannot be read, written or renamed.
pub fn rename_all(folder: &Path) -> io::Result<()> {
    for entry in fs::read_dir(folder)?.collect::<io::Result<Vec<_>>>()? {
        let path = entry.path();
        if entry.file_type()?.is_dir() {
            rename_all(&path)?;
        } else if path.extension().is_none_or(|extension| extension != "evtx") {
            let modified = entry.metadata()?.modified()?;
            let mut bytes = fs::read(&path)?;
            for (here, there) in NAMES {
                replace(&mut bytes, here.as_bytes(), there.as_bytes());
                let wide = |text: &str| text.encode_utf16().flat_map(u16::to_le_bytes).collect::<Vec<u8>>();
                replace(&mut bytes, &wide(here), &wide(there));
            }
            fs::write(&path, bytes)?;
            File::options().write(true).open(&path)?.set_modified(modified)?;
        }
        let name = entry.file_name().to_string_lossy().into_owned();
        let other = renamed(&name);
        if other != name {
            let mut to = PathBuf::from(folder);
            to.push(other);
            fs::rename(&path, to)?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_keep_their_length() {
        for (here, there) in NAMES {
            assert_eq!(here.len(), there.len(), "{here} and {there}");
        }
    }
}
