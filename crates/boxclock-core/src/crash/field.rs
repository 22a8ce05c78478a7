//! Fields of binary structures, read so that no number of a file can make anything panic or grow.

use std::fs::File;

use crate::platform::read_at;

/// A piece of a file whose fields are read by place. Reading beyond its end gives `None`.
pub(super) struct Fields {
    bytes: Vec<u8>,
    big_endian: bool,
}

impl Fields {
    /// The `length` bytes at `offset` of a file, or fewer where the file ends.
    ///
    /// # Errors
    /// When reading fails, or `length` is more than `limit`; the text names the offset.
    pub(super) fn read(file: &File, offset: u64, length: u64, limit: u64, big_endian: bool) -> Result<Self, String> {
        if length > limit {
            return Err(format!("{length} bytes at byte {offset} are more than the {limit} that are read"));
        }
        // Only what the file really holds is reserved: the length is the file's own claim.
        let held = file.metadata().map_err(|error| format!("cannot read its size: {error}"))?.len();
        let wanted = usize::try_from(length.min(held.saturating_sub(offset)))
            .map_err(|error| format!("{length} bytes at byte {offset}: {error}"))?;
        let mut bytes = vec![0; wanted];
        let mut filled = 0;
        while let Some(rest) = bytes.get_mut(filled..).filter(|rest| !rest.is_empty()) {
            match read_at(file, rest, offset.saturating_add(filled as u64)) {
                Ok(0) => break,
                Ok(count) => filled += count,
                Err(error) => return Err(format!("cannot read at byte {offset}: {error}")),
            }
        }
        bytes.truncate(filled);
        Ok(Self { bytes, big_endian })
    }

    /// These bytes.
    pub(super) fn of(bytes: &[u8], big_endian: bool) -> Self {
        Self { bytes: bytes.to_vec(), big_endian }
    }

    /// How many bytes there are.
    pub(super) fn len(&self) -> usize {
        self.bytes.len()
    }

    /// `length` bytes at `at`.
    pub(super) fn slice(&self, at: usize, length: usize) -> Option<&[u8]> {
        self.bytes.get(at..at.checked_add(length)?)
    }

    /// The same kind of fields, of a part.
    pub(super) fn part(&self, at: usize, length: usize) -> Option<Self> {
        Some(Self { bytes: self.slice(at, length)?.to_vec(), big_endian: self.big_endian })
    }

    fn array<const N: usize>(&self, at: usize) -> Option<[u8; N]> {
        self.slice(at, N)?.try_into().ok()
    }

    /// An unsigned 16-bit number.
    pub(super) fn u16(&self, at: usize) -> Option<u16> {
        let bytes = self.array(at)?;
        Some(if self.big_endian { u16::from_be_bytes(bytes) } else { u16::from_le_bytes(bytes) })
    }

    /// An unsigned 32-bit number.
    pub(super) fn u32(&self, at: usize) -> Option<u32> {
        let bytes = self.array(at)?;
        Some(if self.big_endian { u32::from_be_bytes(bytes) } else { u32::from_le_bytes(bytes) })
    }

    /// An unsigned 64-bit number.
    pub(super) fn u64(&self, at: usize) -> Option<u64> {
        let bytes = self.array(at)?;
        Some(if self.big_endian { u64::from_be_bytes(bytes) } else { u64::from_le_bytes(bytes) })
    }

    /// A number of 8 bytes where `wide`, else of 4.
    pub(super) fn word(&self, at: usize, wide: bool) -> Option<u64> {
        if wide { self.u64(at) } else { self.u32(at).map(u64::from) }
    }

    /// Text up to the first NUL of at most `length` bytes.
    pub(super) fn text(&self, at: usize, length: usize) -> Option<String> {
        let available = self.bytes.len().checked_sub(at)?;
        let bytes = self.slice(at, length.min(available))?;
        let end = bytes.iter().position(|byte| *byte == 0).unwrap_or(bytes.len());
        Some(String::from_utf8_lossy(bytes.get(..end)?).into_owned())
    }
}
