//! Text from logs is shown, never obeyed: on the screen, on a terminal, in tables and in JSON.

use std::io::{self, Write};

/// Marks that a letter may carry; more would run over the lines around it.
const MOST_MARKS: usize = 4;

/// The text with control characters in caret notation (`^[` for escape), and without characters that change the
/// direction or the shape of their neighbours. With `keep_lines`, line feeds and tabs stay; else a line feed is shown
/// as `⏎` and a tab as a blank.
pub fn visible(text: &str, keep_lines: bool) -> String {
    let mut shown = String::with_capacity(text.len());
    let mut marks = 0;
    for c in text.chars() {
        marks = if is_mark(c) { marks + 1 } else { 0 };
        match c {
            _ if marks > MOST_MARKS => {}
            '\n' | '\t' if keep_lines => shown.push(c),
            '\n' => shown.push('\u{23CE}'),
            '\t' => shown.push(' '),
            '\0'..='\x1F' => {
                shown.push('^');
                shown.push(char::from(c as u8 + 64));
            }
            '\x7F' => shown.push_str("^?"),
            // C1 controls, bidirectional controls, zero-width characters, variation selectors, the byte-order mark.
            '\u{80}'..='\u{9F}'
            | '\u{200B}'..='\u{200F}'
            | '\u{2028}'..='\u{202E}'
            | '\u{2060}'..='\u{206F}'
            | '\u{FEFF}'
            | '\u{FFF9}'..='\u{FFFB}'
            | '\u{FE00}'..='\u{FE0F}'
            | '\u{E0000}'..='\u{E0FFF}' => shown.push('\u{FFFD}'),
            _ => shown.push(c),
        }
    }
    shown
}

/// Whether a character stands on the one before it.
fn is_mark(letter: char) -> bool {
    matches!(letter, '\u{300}'..='\u{36F}' | '\u{483}'..='\u{489}' | '\u{591}'..='\u{5BD}' | '\u{610}'..='\u{61A}'
        | '\u{64B}'..='\u{65F}' | '\u{E31}' | '\u{E34}'..='\u{E3A}' | '\u{E47}'..='\u{E4E}' | '\u{1AB0}'..='\u{1AFF}'
        | '\u{1DC0}'..='\u{1DFF}' | '\u{20D0}'..='\u{20FF}' | '\u{302A}'..='\u{302F}' | '\u{FE20}'..='\u{FE2F}')
}

/// A line of JSON in which no character is left that a terminal would obey: DEL, C1 controls, and line ends of Unicode are escaped.
/// (Those below a blank are escaped by whatever wrote the JSON.)
pub fn safe_json(line: String) -> String {
    let bad = |letter: char| matches!(letter, '\u{7F}'..='\u{9F}' | '\u{2028}' | '\u{2029}' | '\u{202A}'..='\u{202E}' | '\u{2066}'..='\u{2069}');
    if line.is_ascii() && !line.contains('\u{7F}') || !line.contains(bad) {
        return line;
    }
    let mut safe = String::with_capacity(line.len() + 16);
    for letter in line.chars() {
        if bad(letter) {
            safe.push_str(&format!("\\u{:04x}", u32::from(letter)));
        } else {
            safe.push(letter);
        }
    }
    safe
}

/// A field of a table: without control characters, and no formula for whoever opens it in a program that computes.
pub fn table_field(text: &str) -> String {
    let shown = visible(text, true);
    let formula = shown.starts_with(['=', '+', '-', '@', '\t']) && shown.parse::<f64>().is_err();
    if formula { format!("'{shown}") } else { shown }
}

/// What is written through this is shown by a terminal, not obeyed; line feeds and tabs stay.
pub struct Visible<W: Write> {
    out: W,
    /// The start of a character whose other bytes have not come yet.
    cut: Vec<u8>,
}

impl<W: Write> Visible<W> {
    /// Writes to `out`.
    pub fn new(out: W) -> Self {
        Self { out, cut: Vec::new() }
    }
}

impl<W: Write> Write for Visible<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let mut all = std::mem::take(&mut self.cut);
        all.extend_from_slice(bytes);
        let whole = match std::str::from_utf8(&all) {
            Err(error) if error.error_len().is_none() => error.valid_up_to(),
            _ => all.len(),
        };
        let cut = all.split_off(whole);
        self.out.write_all(visible(&String::from_utf8_lossy(&all), true).as_bytes())?;
        self.cut = cut;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn through_a_writer_in_pieces() {
        let mut out = Vec::new();
        let mut writer = Visible::new(&mut out);
        for byte in "ü\x1b]0;x\x07\u{9b}é\n".bytes() {
            writer.write_all(&[byte]).unwrap();
        }
        assert_eq!(String::from_utf8(out).unwrap(), "ü^[]0;x^G\u{FFFD}é\n");
    }

    #[test]
    fn marks_tables_and_json() {
        let zalgo = format!("a{}b", "\u{301}".repeat(1000));
        assert_eq!(visible(&zalgo, false).chars().count(), 2 + MOST_MARKS);
        assert_eq!(visible("a\u{2028}b\u{FFF9}", false), "a\u{FFFD}b\u{FFFD}");
        assert_eq!((table_field("=1+1").as_str(), table_field("-5").as_str()), ("'=1+1", "-5"));
        assert_eq!(table_field("a\x1b[1m"), "a^[[1m");
        assert_eq!(safe_json("{\"a\":\"\u{9b}\u{7f}ü\"}".into()), r#"{"a":"\u009b\u007fü"}"#);
    }

    #[test]
    fn nothing_is_obeyed() {
        assert_eq!(visible("a\x1b[31mred\x07\r\n\tb", false), "a^[[31mred^G^M\u{23CE} b");
        assert_eq!(visible("x\ny\u{202E}z", true), "x\ny\u{FFFD}z");
    }
}
