//! Which encoding the bytes of a file most plausibly are.

use super::Encoding;

/// Decides the encoding of a file from samples of it, and the length of its byte-order mark; `None` if it is no text.
///
/// A mark decides. Without one, NUL bytes on one side of most pairs mean UTF-16; bytes beyond ASCII that are mostly
/// valid UTF-8 mean UTF-8; bytes beyond ASCII that stand like letters among letters mean a one-byte encoding. The first
/// sample is the start of the file, all start at even offsets.
pub fn guess(samples: &[Vec<u8>]) -> Option<(Encoding, u64)> {
    let start = samples.first().map(Vec::as_slice).unwrap_or_default();
    let (marked, mark_bytes) = Encoding::by_mark(start);
    if mark_bytes > 0 {
        return Some((marked, mark_bytes));
    }
    if let Some(wide) = wide(samples) {
        return Some((wide, 0));
    }
    if !samples.iter().all(|sample| is_text(sample)) {
        return None;
    }
    Some((narrow(samples), 0))
}

/// UTF-16 without mark: most pairs that are not empty have their high byte empty.
fn wide(samples: &[Vec<u8>]) -> Option<Encoding> {
    if samples.iter().all(|sample| memchr::memchr(0, sample).is_none()) {
        return None;
    }
    let (mut little, mut big, mut solid) = (0_usize, 0_usize, 0_usize);
    // Control characters, and where runs of empty pairs begin: text has none of the former and few of the latter.
    let (mut control, mut runs, mut was_empty) = (0_usize, 0_usize, false);
    for pair in samples.iter().flat_map(|sample| sample.chunks_exact(2)) {
        match pair {
            [0, 0] => runs += usize::from(!was_empty),
            [byte, 0] => {
                little += 1;
                control += usize::from(IS_CONTROL[usize::from(*byte)]);
            }
            [0, byte] => {
                big += 1;
                control += usize::from(IS_CONTROL[usize::from(*byte)]);
            }
            _ => solid += 1,
        }
        was_empty = *pair == [0, 0];
    }
    let all = little + big + solid;
    if runs * 30 > all || control * 20 > all {
        return None;
    }
    // Line feeds and blanks have an empty high byte in every script, so half of the pairs are rarely without.
    let enough = |count: usize, other: usize| count >= 4 && count * 3 > solid && count > other * 20;
    if enough(little, big) {
        Some(Encoding::Utf16Le)
    } else if enough(big, little) {
        Some(Encoding::Utf16Be)
    } else {
        None
    }
}

/// For each byte: whether it is a control character that text does not hold.
static IS_CONTROL: [bool; 256] = {
    let mut table = [false; 256];
    let mut byte = 0;
    while byte < 256 {
        table[byte] = matches!(byte, 1..=8 | 11 | 12 | 14..=26 | 28..=31 | 127);
        byte += 1;
    }
    table
};

/// Whether bytes are text of one-byte units: few control characters. NUL bytes do not count as such: a power loss leaves
/// runs of them in good logs.
fn is_text(bytes: &[u8]) -> bool {
    let solid = bytes.iter().filter(|byte| **byte != 0).count();
    // A power loss leaves few and long runs of NUL bytes; data has many short ones.
    let runs = bytes.windows(2).filter(|pair| pair[0] != 0 && pair[1] == 0).count();
    if runs > 4 && runs * 30 > solid {
        return false;
    }
    let control: usize = bytes.iter().map(|byte| usize::from(IS_CONTROL[usize::from(*byte)])).sum();
    if control * 20 > solid || (solid == 0 && !bytes.is_empty()) {
        return false;
    }
    // Most samples are all good: the rest costs more.
    if std::str::from_utf8(bytes).is_ok() {
        return true;
    }
    let high = bytes.iter().filter(|byte| **byte >= 0x80).count();
    let text = String::from_utf8_lossy(bytes);
    let damaged = text.chars().filter(|c| *c == '\u{FFFD}').count();
    damaged * 3 <= solid || (control * 100 <= solid && letters_among_letters(bytes) * 2 > high)
}

/// UTF-8, or a one-byte encoding.
fn narrow(samples: &[Vec<u8>]) -> Encoding {
    if samples.iter().all(|sample| sample.is_ascii()) {
        return Encoding::Utf8;
    }
    let (mut valid, mut invalid, mut letters, mut c1, mut carriage) = (0, 0, 0, 0, 0);
    for sample in samples {
        let mut rest = sample.as_slice();
        while !rest.is_empty() {
            let (good, bad) = match std::str::from_utf8(rest) {
                Ok(text) => (text.len(), 0),
                // A sample may end inside a character, and start inside one.
                Err(error) => (error.valid_up_to(), error.error_len().unwrap_or(0)),
            };
            valid += rest[..good].iter().filter(|byte| **byte >= 0xC0).count();
            if bad == 0 {
                break;
            }
            let inside_cut = rest.len() == sample.len() && good == 0 && (0x80..0xC0).contains(&rest[0]);
            invalid += usize::from(!inside_cut);
            rest = rest.get(good + bad..).unwrap_or_default();
        }
        letters += letters_among_letters(sample);
        c1 += sample.iter().filter(|byte| (0x80..0xA0).contains(*byte)).count();
        carriage += memchr::memmem::find_iter(sample, b"\r\n").count();
    }
    if invalid <= valid || letters * 2 < invalid {
        return Encoding::Utf8;
    }
    // The two differ in 0x80 to 0x9F only: quotes and dashes in one, control characters that no log holds in the other.
    if c1 > 0 || carriage > 0 { Encoding::Windows1252 } else { Encoding::Latin1 }
}

/// Counts the bytes that are letters beyond ASCII in the one-byte encodings of western Europe and have an ASCII letter
/// beside them, or are the quotes and dashes of Windows-1252 beside text.
pub(super) fn letters_among_letters(bytes: &[u8]) -> usize {
    let near = |at: Option<&u8>| at.is_some_and(|byte| byte.is_ascii_alphabetic() || *byte == b' ');
    bytes
        .iter()
        .enumerate()
        .filter(|(at, byte)| {
            let letter = matches!(byte, 0xC0..=0xD6 | 0xD8..=0xF6 | 0xF8..=0xFD);
            let sign =
                matches!(byte, 0x80 | 0x82 | 0x84 | 0x85 | 0x8A | 0x8E | 0x91..=0x97 | 0x9A | 0x9E | 0xA0..=0xBF);
            (letter || sign) && (near(bytes.get(at + 1)) || at.checked_sub(1).is_some_and(|at| near(bytes.get(at))))
        })
        .count()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(bytes: &[u8]) -> Option<(Encoding, u64)> {
        guess(&[bytes.to_vec()])
    }

    #[test]
    fn plausible_encodings() {
        let german = "12.04.2026 02:31:07 Gerät nicht gefunden, Prüfung läuft\n";
        let latin: Vec<u8> = german.chars().map(|c| c as u8).collect();
        assert_eq!(of(german.as_bytes()), Some((Encoding::Utf8, 0)));
        assert_eq!(of(&latin), Some((Encoding::Latin1, 0)));
        let crlf: Vec<u8> = german.replace('\n', "\r\n").chars().map(|c| c as u8).collect();
        assert_eq!(of(&crlf), Some((Encoding::Windows1252, 0)));
        assert_eq!(of(b"could not open \x93plan\x94 \x96 denied\n"), Some((Encoding::Windows1252, 0)));
        for text in ["2026-04-12 opened\r\n", "2026-04-12 02:31:07 開始しました\n"] {
            let le: Vec<u8> = text.encode_utf16().flat_map(u16::to_le_bytes).collect();
            let be: Vec<u8> = text.encode_utf16().flat_map(u16::to_be_bytes).collect();
            assert_eq!(of(&le), Some((Encoding::Utf16Le, 0)), "{text}");
            assert_eq!(of(&be), Some((Encoding::Utf16Be, 0)), "{text}");
        }
    }

    #[test]
    fn damage_does_not_change_the_encoding() {
        assert_eq!(
            of(b"2026-04-12 02:31:07 caf\xC3\xA9 and one bad \xFF byte, na\xC3\xAFve\n"),
            Some((Encoding::Utf8, 0))
        );
        assert_eq!(of(b"2026-04-12 02:31:07 a\n\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0"), Some((Encoding::Utf8, 0)));
        assert_eq!(of(b"2026-04-12 02:31:07 bad \xFF\xFE bytes\n"), Some((Encoding::Utf8, 0)));
        assert_eq!(of(&[0; 100]), None);
        assert_eq!(of(&b"PAGE\0\0DRIVER\0SYS\0abc\0\0\0name\0".repeat(20)), None);
        assert_eq!(of(&[0x89, 0x50, 1, 2, 3, 4, 5, 6, 7, 0x1A, 0xFF, 0xD8, 2, 2].repeat(20)), None);
        assert_eq!(of(b""), Some((Encoding::Utf8, 0)));
    }

    #[test]
    fn a_sample_cut_inside_a_character() {
        let text = "Ünïcödé 開始 ".repeat(50);
        let bytes = text.as_bytes();
        for from in 0..8 {
            for to in bytes.len() - 4..bytes.len() {
                assert_eq!(narrow(&[b"2026\n".to_vec(), bytes[from..to].to_vec()]), Encoding::Utf8, "{from} {to}");
            }
        }
    }
}
