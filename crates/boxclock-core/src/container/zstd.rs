//! Zstandard data of several frames. Source: RFC 8878, section 3 (frames may stand one after the other, so do then their
//! contents) and section 3.1.2 (skippable frames).

use std::io::{self, BufRead, Read};

use ruzstd::decoding::errors::{FrameDecoderError, ReadFrameHeaderError};
use ruzstd::decoding::{BlockDecodingStrategy, FrameDecoder};

use crate::limits;

/// Reads the contents of all frames of `inner`, one after the other.
pub(crate) struct Frames<R: BufRead> {
    inner: R,
    decoder: FrameDecoder,
    inside: bool,
}

impl<R: BufRead> Frames<R> {
    pub(crate) fn new(inner: R) -> Self {
        let mut decoder = FrameDecoder::new();
        decoder.set_max_window_size(limits::ZSTD_WINDOW_BYTES);
        Self { inner, decoder, inside: false }
    }

    /// Starts the next frame; `false` at the end of the data.
    fn next_frame(&mut self) -> io::Result<bool> {
        while !self.inner.fill_buf()?.is_empty() {
            match self.decoder.init(&mut self.inner) {
                Ok(()) => return Ok(true),
                Err(FrameDecoderError::ReadFrameHeaderError(ReadFrameHeaderError::SkipFrame { length, .. })) => {
                    let skipped = io::copy(&mut (&mut self.inner).take(u64::from(length)), &mut io::sink())?;
                    if skipped < u64::from(length) {
                        return Err(io::ErrorKind::UnexpectedEof.into());
                    }
                }
                Err(error) => return Err(io::Error::new(io::ErrorKind::InvalidData, error.to_string())),
            }
        }
        Ok(false)
    }
}

impl<R: BufRead> Read for Frames<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        loop {
            if !self.inside {
                if !self.next_frame()? {
                    return Ok(0);
                }
                self.inside = true;
            }
            while self.decoder.can_collect() == 0 && !self.decoder.is_finished() {
                let step = self.decoder.decode_blocks(&mut self.inner, BlockDecodingStrategy::UptoBlocks(1));
                step.map_err(|error| io::Error::new(io::ErrorKind::InvalidData, error.to_string()))?;
            }
            let count = self.decoder.read(buffer)?;
            if count > 0 || buffer.is_empty() {
                return Ok(count);
            }
            self.inside = false;
            let stated = self.decoder.get_checksum_from_data();
            if stated.is_some() && stated != self.decoder.get_calculated_checksum() {
                return Err(io::Error::new(io::ErrorKind::InvalidData, "the checksum of a frame is wrong"));
            }
        }
    }
}
