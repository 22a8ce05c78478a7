//! Bytes of a source file as lines of text, with every offset referring to the bytes of the original file.

use std::borrow::Cow;
use std::fs::File;
use std::io;
use std::path::Path;

use crate::platform;

/// A file that is read at any place. Other programs may change it meanwhile.
#[derive(Debug)]
pub struct SourceFile {
    file: File,
}

impl SourceFile {
    /// Opens the file at `path`.
    ///
    /// # Errors
    /// As the system reports them.
    pub fn open(path: &Path) -> io::Result<Self> {
        Ok(Self { file: File::open(path)? })
    }

    /// Fills `buffer` with up to `wanted` bytes from `offset`; fewer where the file ends.
    ///
    /// # Errors
    /// As the system reports them.
    pub fn read_into(&self, offset: u64, wanted: usize, buffer: &mut Vec<u8>) -> io::Result<()> {
        // What is there already is overwritten: only a larger piece than ever before costs clearing.
        if buffer.len() < wanted {
            buffer.resize(wanted, 0);
        } else {
            buffer.truncate(wanted);
        }
        let mut filled = 0;
        while filled < wanted {
            match platform::read_at(&self.file, &mut buffer[filled..], offset + filled as u64) {
                Ok(0) => break,
                Ok(count) => filled += count,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error),
            }
        }
        buffer.truncate(filled);
        Ok(())
    }

    /// Up to `wanted` bytes from `offset`.
    ///
    /// # Errors
    /// As the system reports them.
    pub fn read(&self, offset: u64, wanted: usize) -> io::Result<Vec<u8>> {
        let mut buffer = Vec::new();
        self.read_into(offset, wanted, &mut buffer)?;
        Ok(buffer)
    }
}

/// How the characters of a source are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Encoding {
    /// UTF-8, or ASCII, or bytes that are shown as such where they are not UTF-8.
    Utf8,
    /// UTF-16, low byte first.
    Utf16Le,
    /// UTF-16, high byte first.
    Utf16Be,
    /// Not text.
    Binary,
}

impl Encoding {
    /// The name of the JSON contract.
    pub fn name(self) -> &'static str {
        match self {
            Self::Utf8 => "utf-8",
            Self::Utf16Le => "utf-16le",
            Self::Utf16Be => "utf-16be",
            Self::Binary => "binary",
        }
    }

    /// The encoding that a byte-order mark at the start of a file states, and the mark's length in bytes.
    pub fn by_mark(start: &[u8]) -> (Self, u64) {
        match start {
            [0xEF, 0xBB, 0xBF, ..] => (Self::Utf8, 3),
            [0xFF, 0xFE, ..] => (Self::Utf16Le, 2),
            [0xFE, 0xFF, ..] => (Self::Utf16Be, 2),
            _ => (Self::Utf8, 0),
        }
    }

    /// Bytes of one code unit.
    pub fn unit(self) -> u64 {
        if matches!(self, Self::Utf16Le | Self::Utf16Be) { 2 } else { 1 }
    }

    /// Where the first line feed at or after `from` ends in `bytes`, whose first byte starts a code unit.
    pub fn line_end(self, bytes: &[u8], from: usize) -> Option<usize> {
        let (low, high) = match self {
            Self::Utf8 | Self::Binary => {
                return memchr::memchr(b'\n', bytes.get(from..)?).map(|at| from + at + 1);
            }
            Self::Utf16Le => (0, 1),
            Self::Utf16Be => (1, 0),
        };
        let mut at = from;
        while let Some(found) = memchr::memchr(b'\n', bytes.get(at..)?) {
            let unit = (at + found) & !1;
            if bytes.get(unit + low) == Some(&b'\n') && bytes.get(unit + high) == Some(&0) {
                return Some(unit + 2);
            }
            at += found + 1;
        }
        None
    }

    /// The text of `bytes` as UTF-8. UTF-8 is passed on as it is, with whatever damage it has.
    pub fn decode(self, bytes: &[u8]) -> Cow<'_, [u8]> {
        let decoder = match self {
            Self::Utf8 | Self::Binary => return Cow::Borrowed(bytes),
            Self::Utf16Le => encoding_rs::UTF_16LE,
            Self::Utf16Be => encoding_rs::UTF_16BE,
        };
        Cow::Owned(decoder.decode_without_bom_handling(bytes).0.into_owned().into_bytes())
    }
}

/// A line without its line feed, carriage return, and the NUL bytes that a power loss leaves at its start.
pub fn bare_line(mut line: &[u8]) -> &[u8] {
    if let Some((b'\n', rest)) = line.split_last() {
        line = rest;
    }
    while let Some((b'\r', rest)) = line.split_last() {
        line = rest;
    }
    while let Some((0, rest)) = line.split_first() {
        line = rest;
    }
    line
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn line_ends_in_utf16_respect_code_units() {
        // U+0A0D and U+0D0A hold the byte 0x0A without being a line feed.
        let le: Vec<u8> = "ਊ\u{0A00}a\nb".encode_utf16().flat_map(u16::to_le_bytes).collect();
        assert_eq!(Encoding::Utf16Le.line_end(&le, 0), Some(8));
        let be: Vec<u8> = "ਊ\u{0A00}a\nb".encode_utf16().flat_map(u16::to_be_bytes).collect();
        assert_eq!(Encoding::Utf16Be.line_end(&be, 0), Some(8));
        assert_eq!(Encoding::Utf8.line_end(b"ab\ncd", 0), Some(3));
        assert_eq!(Encoding::Utf8.line_end(b"ab\ncd", 3), None);
    }

    #[test]
    fn marks() {
        assert_eq!(Encoding::by_mark(&[0xEF, 0xBB, 0xBF, b'x']), (Encoding::Utf8, 3));
        assert_eq!(Encoding::by_mark(&[0xFF, 0xFE]), (Encoding::Utf16Le, 2));
        assert_eq!(Encoding::by_mark(b"x"), (Encoding::Utf8, 0));
    }

    #[test]
    fn bare() {
        assert_eq!(bare_line(b"\0\0abc\r\n"), b"abc");
        assert_eq!(bare_line(b"\n"), b"");
        assert_eq!(bare_line(b""), b"");
    }
}
