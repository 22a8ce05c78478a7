//! Text from logs is shown, never obeyed.

/// The text with control characters and escape sequences as visible symbols (U+2400…), and without characters that
/// change the direction or the shape of their neighbours. With `keep_lines`, line feeds and tabs stay.
pub fn visible(text: &str, keep_lines: bool) -> String {
    text.chars()
        .map(|c| match c {
            '\n' | '\t' if keep_lines => c,
            '\n' => '\u{240A}',
            '\t' => ' ',
            '\0'..='\x1F' => char::from_u32(0x2400 + c as u32).unwrap_or('\u{FFFD}'),
            '\x7F' => '\u{2421}',
            // C1 controls, bidirectional controls, zero-width characters, variation selectors, the byte-order mark.
            '\u{80}'..='\u{9F}'
            | '\u{200B}'..='\u{200F}'
            | '\u{202A}'..='\u{202E}'
            | '\u{2060}'..='\u{206F}'
            | '\u{FEFF}'
            | '\u{FE00}'..='\u{FE0F}'
            | '\u{E0000}'..='\u{E0FFF}' => '\u{FFFD}',
            _ => c,
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_is_obeyed() {
        assert_eq!(visible("a\x1b[31mred\x07\r\n\tb", false), "a␛[31mred␇␍␊ b");
        assert_eq!(visible("x\ny\u{202E}z", true), "x\ny\u{FFFD}z");
    }
}
