//! Bytes of a source file as lines of text, with every offset referring to the bytes of the original file.

use std::borrow::Cow;
use std::fs::File;
use std::io;
use std::path::Path;

use crate::platform;

mod guess;
pub(crate) mod needed;
pub use guess::guess;

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
            match platform::read_at(&self.file, &mut buffer[filled..], offset.saturating_add(filled as u64)) {
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
    /// The one-byte encoding of western Windows systems.
    Windows1252,
    /// ISO 8859-1, read as the web reads it (as Windows-1252, which differs in control characters only).
    Latin1,
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
            Self::Windows1252 => "windows-1252",
            Self::Latin1 => "iso-8859-1",
            Self::Binary => "binary",
        }
    }

    /// The encoding of a name as people write it, for choosing one by hand.
    pub fn parse(name: &str) -> Option<Self> {
        Some(match name.to_ascii_lowercase().as_str() {
            "utf-8" | "utf8" | "ascii" => Self::Utf8,
            "utf-16le" | "utf-16" | "utf16" => Self::Utf16Le,
            "utf-16be" => Self::Utf16Be,
            "windows-1252" | "cp1252" => Self::Windows1252,
            "iso-8859-1" | "latin1" | "latin-1" => Self::Latin1,
            _ => return None,
        })
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

    /// Where the first line that `bytes` hold from `from` on ends, behind its `end` (a line feed or a carriage return).
    /// The first byte starts a code unit.
    pub fn line_end(self, bytes: &[u8], from: usize, end: LineEnd) -> Option<usize> {
        let byte = end as u8;
        let (low, high) = match self {
            Self::Utf16Le => (0, 1),
            Self::Utf16Be => (1, 0),
            _ => return memchr::memchr(byte, bytes.get(from..)?).map(|at| from + at + 1),
        };
        let mut at = from;
        while let Some(found) = memchr::memchr(byte, bytes.get(at..)?) {
            let unit = (at + found) & !1;
            if bytes.get(unit + low) == Some(&byte) && bytes.get(unit + high) == Some(&0) {
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
            Self::Windows1252 | Self::Latin1 => encoding_rs::WINDOWS_1252,
        };
        match decoder.decode_without_bom_handling(bytes).0 {
            Cow::Borrowed(text) => Cow::Borrowed(text.as_bytes()),
            Cow::Owned(text) => Cow::Owned(text.into_bytes()),
        }
    }

    /// The text of a record for people, without the line end at its end. In a source of UTF-8, a line that is not UTF-8 at all but plausible in a one-byte
    /// encoding is read as such (several programs may write to one log); other damage becomes U+FFFD.
    pub fn text(self, bytes: &[u8]) -> String {
        let decoded = self.decode(bytes);
        let bare = bare_line(&decoded);
        if let Ok(text) = std::str::from_utf8(bare) {
            return text.to_owned();
        }
        bare.split_inclusive(|byte| *byte == b'\n').map(line_text).collect()
    }
}

/// What ends the lines of a source.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub enum LineEnd {
    /// A line feed, perhaps with a carriage return before it.
    Feed = b'\n',
    /// A lone carriage return.
    Return = b'\r',
}

impl LineEnd {
    /// The line end of text (decoded): carriage returns only where there is no line feed at all.
    pub fn of(text: &[u8]) -> Self {
        let feeds = memchr::memchr(b'\n', text).is_some();
        if !feeds && memchr::memchr_iter(b'\r', text).count() > 1 { Self::Return } else { Self::Feed }
    }
}

fn line_text(line: &[u8]) -> Cow<'_, str> {
    if std::str::from_utf8(line).is_err() {
        let high = line.iter().filter(|byte| **byte >= 0x80).count();
        let lossy = String::from_utf8_lossy(line);
        let sound = lossy.chars().any(|c| !c.is_ascii() && c != '\u{FFFD}');
        if !sound && guess::letters_among_letters(line) == high && high * 2 < line.len() && !line.contains(&0xFF) {
            return encoding_rs::WINDOWS_1252.decode_without_bom_handling(line).0;
        }
        return Cow::Owned(lossy.into_owned());
    }
    String::from_utf8_lossy(line)
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

/// Lower-case hexadecimal.
pub fn hex(bytes: &[u8]) -> String {
    use std::fmt::Write as _;
    bytes.iter().fold(String::with_capacity(bytes.len() * 2), |mut text, byte| {
        // Writing to a string cannot fail.
        let _ = write!(text, "{byte:02x}");
        text
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn line_ends_in_utf16_respect_code_units() {
        // U+0A0D and U+0D0A hold the byte 0x0A without being a line feed.
        let le: Vec<u8> = "ਊ\u{0A00}a\nb".encode_utf16().flat_map(u16::to_le_bytes).collect();
        assert_eq!(Encoding::Utf16Le.line_end(&le, 0, LineEnd::Feed), Some(8));
        let be: Vec<u8> = "ਊ\u{0A00}a\nb".encode_utf16().flat_map(u16::to_be_bytes).collect();
        assert_eq!(Encoding::Utf16Be.line_end(&be, 0, LineEnd::Feed), Some(8));
        assert_eq!(Encoding::Utf8.line_end(b"ab\ncd", 0, LineEnd::Feed), Some(3));
        assert_eq!(Encoding::Utf8.line_end(b"ab\ncd", 3, LineEnd::Feed), None);
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
