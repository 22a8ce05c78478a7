//! Messages in a stream: both framings of RFC 6587. A message that starts with a digit other than 0 has its length in front
//! (section 3.4.1, octet counting); any other ends with a line feed (3.4.2, non-transparent framing). TLS (RFC 5425) counts
//! octets only; senders that do not are understood all the same.

/// Takes messages out of a stream that comes in pieces.
#[derive(Debug, Default)]
pub struct Framing {
    buffer: Vec<u8>,
    /// Where the next message starts in the buffer.
    at: usize,
    /// Bytes of a message beyond the limit that are still to come.
    to_skip: u64,
    /// Whether the rest of a line beyond the limit is still to come.
    skips_line: bool,
    /// Messages that were cut to the limit.
    pub cut: u64,
}

/// Digits of a length: more is none.
const LENGTH_DIGITS: usize = 10;

impl Framing {
    /// Adds bytes that came.
    pub fn add(&mut self, bytes: &[u8]) {
        if self.at > 0 {
            self.buffer.drain(..self.at);
            self.at = 0;
        }
        self.buffer.extend_from_slice(bytes);
    }

    /// The next whole message, cut to `most` bytes.
    pub fn next(&mut self, most: usize) -> Option<&[u8]> {
        if self.to_skip > 0 {
            let here = self.to_skip.min((self.buffer.len() - self.at) as u64);
            self.at += here as usize;
            self.to_skip -= here;
            if self.to_skip > 0 {
                return None;
            }
        }
        if self.skips_line {
            let Some(end) = memchr::memchr(b'\n', &self.buffer[self.at..]) else {
                self.at = self.buffer.len();
                return None;
            };
            self.at += end + 1;
            self.skips_line = false;
        }
        // Between messages some senders leave line ends or zeros.
        while matches!(self.buffer.get(self.at), Some(b'\n' | b'\r' | 0)) {
            self.at += 1;
        }
        let rest = self.buffer.get(self.at..)?;
        if rest.is_empty() {
            return None;
        }
        let digits = rest.iter().take(LENGTH_DIGITS + 1).take_while(|byte| byte.is_ascii_digit()).count();
        let is_counted = digits > 0 && rest[0] != b'0' && digits <= LENGTH_DIGITS;
        if is_counted && digits == rest.len() {
            // More digits may come.
            return None;
        }
        if is_counted && rest[digits] == b' ' {
            let length = rest[..digits].iter().fold(0_u64, |sum, digit| sum * 10 + u64::from(digit - b'0'));
            let start = self.at + digits + 1;
            let wanted = length.min(most as u64) as usize;
            if self.buffer.len() - start < wanted {
                return None;
            }
            self.at = start + wanted;
            self.to_skip = length - wanted as u64;
            self.cut += u64::from(self.to_skip > 0);
            return Some(trimmed(&self.buffer[start..start + wanted]));
        }
        let start = self.at;
        match memchr::memchr(b'\n', &rest[..rest.len().min(most + 1)]) {
            Some(end) => {
                self.at += end + 1;
                Some(trimmed(&self.buffer[start..start + end]))
            }
            None if rest.len() > most => {
                self.at += most;
                self.skips_line = true;
                self.cut += 1;
                Some(trimmed(&self.buffer[start..start + most]))
            }
            None => None,
        }
    }

    /// What is left when the stream ends: a last message without its end.
    pub fn last(&mut self, most: usize) -> Option<Vec<u8>> {
        if self.to_skip > 0 || self.skips_line {
            return None;
        }
        let rest = self.buffer.get(self.at..)?;
        let rest = trimmed(&rest[..rest.len().min(most)]).to_vec();
        self.at = self.buffer.len();
        (!rest.is_empty()).then_some(rest)
    }
}

fn trimmed(message: &[u8]) -> &[u8] {
    let end = message.iter().rposition(|byte| !matches!(byte, b'\n' | b'\r' | 0)).map_or(0, |last| last + 1);
    &message[..end]
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn messages(pieces: &[&[u8]], most: usize) -> Vec<String> {
        let mut framing = Framing::default();
        let mut all = Vec::new();
        for piece in pieces {
            framing.add(piece);
            while let Some(message) = framing.next(most) {
                all.push(String::from_utf8_lossy(message).into_owned());
            }
        }
        all.extend(framing.last(most).map(|message| String::from_utf8_lossy(&message).into_owned()));
        all
    }

    #[test]
    fn both_framings() {
        // RFC 6587, 3.4.1: MSG-LEN SP SYSLOG-MSG; 3.4.2: trailer %d10.
        assert_eq!(messages(&[b"7 <13>a\nb5 <14>c"], 100), ["<13>a\nb", "<14>c"]);
        assert_eq!(messages(&[b"<13>a\n<14>b\r\n<15>c"], 100), ["<13>a", "<14>b", "<15>c"]);
        assert_eq!(messages(&[b"5 <13>a\n<14>b\n5 <15>c\n"], 100), ["<13>a", "<14>b", "<15>c"]);
        assert_eq!(
            messages(&[b"1", b"1 <13>", b"hello w", b"12 <14>a new one"], 100),
            ["<13>hello w", "<14>a new on", "e"]
        );
    }

    #[test]
    fn too_long_messages_are_cut_and_the_next_is_found() {
        assert_eq!(messages(&[b"20 <13>0123456789012345", b"5 <14>a"], 8), ["<13>0123", "<14>a"]);
        assert_eq!(messages(&[b"<13>0123456789", b"012345\n<14>a\n"], 8), ["<13>0123", "<14>a"]);
        assert_eq!(messages(&[b"9999999999 <13>0123456789"], 8), ["<13>0123"]);
    }

    proptest! {
        #[test]
        fn pieces_do_not_matter(texts in proptest::collection::vec("<[0-9]{1,3}>[a-z ]{0,30}", 1..20), cuts in proptest::collection::vec(1..40_usize, 1..60), counted in any::<bool>()) {
            let stream: Vec<u8> = texts.iter().flat_map(|text| {
                if counted { format!("{} {text}", text.len()).into_bytes() } else { format!("{text}\n").into_bytes() }
            }).collect();
            let mut pieces = Vec::new();
            let mut rest = &stream[..];
            for cut in cuts.iter().cycle() {
                if rest.is_empty() { break; }
                let (piece, behind) = rest.split_at((*cut).min(rest.len()));
                pieces.push(piece);
                rest = behind;
            }
            let expected: Vec<String> = texts.clone();
            prop_assert_eq!(messages(&pieces, 1000), expected);
        }

        #[test]
        fn any_stream_ends(bytes in proptest::collection::vec(any::<u8>(), 0..2000), most in 1..64_usize) {
            let out = messages(&bytes.chunks(7).collect::<Vec<_>>(), most);
            prop_assert!(out.iter().map(String::len).sum::<usize>() <= bytes.len() * 3);
        }
    }
}
