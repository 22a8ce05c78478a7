//! Text from logs is shown, never obeyed.

/// The text with control characters in caret notation (`^[` for escape), and without characters that change the
/// direction or the shape of their neighbours. With `keep_lines`, line feeds and tabs stay; else a line feed is shown
/// as `⏎` and a tab as a blank.
pub fn visible(text: &str, keep_lines: bool) -> String {
    let mut shown = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
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
            | '\u{202A}'..='\u{202E}'
            | '\u{2060}'..='\u{206F}'
            | '\u{FEFF}'
            | '\u{FE00}'..='\u{FE0F}'
            | '\u{E0000}'..='\u{E0FFF}' => shown.push('\u{FFFD}'),
            _ => shown.push(c),
        }
    }
    shown
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_is_obeyed() {
        assert_eq!(visible("a\x1b[31mred\x07\r\n\tb", false), "a^[[31mred^G^M\u{23CE} b");
        assert_eq!(visible("x\ny\u{202E}z", true), "x\ny\u{FFFD}z");
    }
}
