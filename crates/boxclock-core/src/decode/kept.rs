//! Decoding a file into the cache, or finding there what was decoded the last time.

use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::path::PathBuf;

use super::{Decoded, Input, Output};
use crate::files::FileFound;
use crate::format::LineFormat;
use crate::source::ByteTotals;
use crate::text::SourceFile;
use crate::work::Work;
use crate::{Error, Result, cache};

/// A decoded file.
#[derive(Clone, Debug)]
pub struct Text {
    /// Where the text is.
    pub path: PathBuf,
    /// Its bytes.
    pub len_bytes: u64,
    /// What decoding came to.
    pub account: ByteTotals,
}

impl Text {
    /// Whether nothing was found in a file of text: it is then better read line by line.
    pub fn is_in_vain(&self) -> bool {
        self.account.entries == 0 && self.account.encoding != "binary"
    }
}

const TEXT_NAME: &str = "text";

const ACCOUNT_NAME: &str = "account.json";

/// Decodes a file into the cache, or finds it there from the last time.
///
/// # Errors
/// When the file cannot be read, the cache cannot be written (the disk is full), or the work is cancelled.
pub fn decode(file: &FileFound, decoder: &Decoded, work: &Work) -> Result<Text> {
    let folder = cache_folder(file, decoder)?;
    if let Some(text) = stored(&folder) {
        work.advance(file.len_bytes);
        return Ok(text);
    }
    let parent = folder.parent().unwrap_or(&folder);
    let cannot = |error: io::Error| Error::at(parent, "cannot decode into", error);
    std::fs::create_dir_all(parent).map_err(cannot)?;
    let fresh = tempfile::Builder::new().prefix(".decoding-").tempdir_in(parent).map_err(cannot)?;
    let text = File::create(fresh.path().join(TEXT_NAME)).map_err(cannot)?;
    let account = decode_to(file, decoder, BufWriter::with_capacity(1 << 18, text), work)?;
    let json = serde_json::to_vec(&account).map_err(|error| Error::caused("cannot note what was decoded", error))?;
    std::fs::write(fresh.path().join(ACCOUNT_NAME), json).map_err(cannot)?;
    cache::put_in_place(&fresh, &folder, |folder| stored(folder).is_some()).map_err(cannot)?;
    stored(&folder).ok_or_else(|| Error::new(format!("{} has vanished meanwhile", folder.display())))
}

fn decode_to(file: &FileFound, decoder: &Decoded, to: impl Write + 'static, work: &Work) -> Result<ByteTotals> {
    let cannot = |error: io::Error| Error::at(&file.path, "cannot decode", error);
    let source = SourceFile::open(&file.path).map_err(cannot)?;
    let input = Input { file: source, len_bytes: file.len_bytes, modified: file.modified, work };
    let mut out = Output::new(to);
    let done = decoder.0.decode(&input, &mut out).and_then(|()| out.to.flush());
    work.check()?;
    done.map_err(cannot)?;
    work.advance(file.len_bytes);
    out.account.bytes = file.len_bytes;
    Ok(out.account)
}

/// Decodes bytes into entries' text, for tests and fuzzing.
///
/// # Errors
/// As [`decode`].
#[doc(hidden)]
pub fn decode_bytes(decoder: &Decoded, bytes: &[u8]) -> Result<(Vec<u8>, ByteTotals)> {
    let mut temp = tempfile::NamedTempFile::new().map_err(|error| Error::caused("no temporary file", error))?;
    temp.write_all(bytes).map_err(|error| Error::caused("cannot write a temporary file", error))?;
    let file =
        FileFound { path: temp.path().to_path_buf(), name: "bytes".into(), modified: 0, len_bytes: bytes.len() as u64 };
    let target = tempfile::NamedTempFile::new().map_err(|error| Error::caused("no temporary file", error))?;
    let to = target.reopen().map_err(|error| Error::caused("no temporary file", error))?;
    let account = decode_to(&file, decoder, BufWriter::new(to), &Work::default())?;
    let text = std::fs::read(target.path()).map_err(|error| Error::caused("cannot read back", error))?;
    Ok((text, account))
}

fn cache_folder(file: &FileFound, decoder: &Decoded) -> Result<PathBuf> {
    cache::folder_of_file("decoded", file, [decoder.name().as_bytes(), &decoder.version().to_le_bytes()[..]])
}

fn stored(folder: &std::path::Path) -> Option<Text> {
    let account = serde_json::from_slice(&std::fs::read(folder.join(ACCOUNT_NAME)).ok()?).ok()?;
    let path = folder.join(TEXT_NAME);
    let len_bytes = std::fs::metadata(&path).ok()?.len();
    Some(Text { path, len_bytes, account })
}
