//! Text on the screen: cut, padded and wrapped by the width that it really takes.

use unicode_segmentation::UnicodeSegmentation;
use unicode_width::UnicodeWidthStr;

/// The text without control characters, cut to `width` columns; `…` says that something is missing.
pub fn cut(text: &str, width: usize) -> String {
    let shown = boxclock_core::visible(text, false);
    if shown.width() <= width {
        return shown;
    }
    let mut out = String::new();
    let mut used = 0;
    for cluster in shown.graphemes(true) {
        let wide = cluster.width();
        if used + wide + 1 > width {
            break;
        }
        out.push_str(cluster);
        used += wide;
    }
    if width > 0 {
        out.push('…');
    }
    out
}

/// A text in a column of that width, with a blank before the next one.
pub fn column(text: &str, width: usize) -> String {
    format!("{}{}", fit(text, width.saturating_sub(1)), if width > 0 { " " } else { "" })
}

/// Cut or filled with blanks to exactly `width` columns.
pub fn fit(text: &str, width: usize) -> String {
    let mut out = cut(text, width);
    let used = out.width();
    out.extend(std::iter::repeat_n(' ', width.saturating_sub(used)));
    out
}

/// The text from column `from` on.
pub fn skip(text: &str, from: usize) -> String {
    let mut passed = 0;
    let mut out = String::new();
    for cluster in text.graphemes(true) {
        if passed >= from {
            out.push_str(cluster);
        }
        passed += cluster.width();
    }
    out
}

/// Lines of at most `width` columns, broken behind blanks and slashes where possible.
pub fn wrap(text: &str, width: usize) -> Vec<String> {
    let width = width.max(1);
    let mut lines = Vec::new();
    for paragraph in boxclock_core::visible(text, true).replace('\t', "    ").split('\n') {
        let mut line = String::new();
        let mut used = 0;
        for word in paragraph.split_inclusive([' ', '/', '\\']) {
            let wide = word.trim_end().width();
            if used + wide > width && used > 0 {
                lines.push(std::mem::take(&mut line));
                used = 0;
            }
            for cluster in word.graphemes(true) {
                if used + cluster.width() > width {
                    // A blank at the end of a full line is not carried over.
                    if cluster == " " {
                        continue;
                    }
                    lines.push(std::mem::take(&mut line));
                    used = 0;
                }
                line.push_str(cluster);
                used += cluster.width();
            }
        }
        lines.push(line);
    }
    lines
}

/// A size for people: `728 B`, `31 kB`, `12 MB`.
pub fn bytes(count: u64) -> String {
    match count {
        0..10_000 => format!("{count} B"),
        10_000..10_000_000 => format!("{} kB", count / 1000),
        10_000_000..10_000_000_000 => format!("{} MB", count / 1_000_000),
        _ => format!("{} GB", count / 1_000_000_000),
    }
}

/// A count of things, of which there may be one: `1 event`, `48 112 events`.
pub fn many(number: u64, thing: &str) -> String {
    let plural = if number == 1 { "" } else { "s" };
    format!("{} {thing}{plural}", grouped(number))
}

/// A number in groups of three: `48 112`.
pub fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut out = String::new();
    for (index, digit) in digits.chars().enumerate() {
        if index > 0 && (digits.len() - index).is_multiple_of(3) {
            out.push('\u{a0}');
        }
        out.push(digit);
    }
    out
}

/// A text that fits: what is too long loses its middle.
pub fn cut_middle(text: &str, width: usize) -> String {
    if text.width() <= width || width < 8 {
        return cut(text, width);
    }
    let behind = (width - 1) / 2;
    let (mut end, mut used) = (text.len(), 0);
    for (at, c) in text.char_indices().rev() {
        used += unicode_width::UnicodeWidthChar::width(c).unwrap_or(0);
        if used > behind {
            break;
        }
        end = at;
    }
    let rest = text.get(end..).unwrap_or_default();
    let front = cut(text, width - rest.width());
    format!("{front}{rest}")
}

/// The last part of a path or of a member of an archive.
pub fn last_part(name: &str) -> &str {
    name.rsplit(['/', '!']).next().unwrap_or(name)
}

/// Bytes as text with their values: sixteen a line.
pub fn hex_lines(bytes: &[u8], from: u64, per_line: usize) -> Vec<String> {
    let lines = bytes.chunks(per_line.max(1)).enumerate().map(|(index, chunk)| {
        let hex: String = chunk.iter().map(|byte| format!("{byte:02x} ")).collect::<Vec<_>>().concat();
        let text: String =
            chunk.iter().map(|byte| if (0x20..0x7f).contains(byte) { char::from(*byte) } else { '·' }).collect();
        format!("{:>8}  {hex:<width$} {text}", from + (index * per_line) as u64, width = per_line * 3)
    });
    lines.collect()
}

/// One or two characters that tell a host from all others, as far as so few can: its first letter; what it does not have in
/// common with those that begin alike; its end; its first letter and its last.
pub fn host_mark(name: &str, all: &[String]) -> String {
    let first = |name: &str| name.chars().next().map(|letter| letter.to_uppercase().to_string()).unwrap_or_default();
    if name.is_empty() {
        return "·".into();
    }
    let alike = all.iter().filter(|other| first(other) == first(name));
    let same = |other: &String| name.chars().zip(other.chars()).take_while(|(one, other)| one == other).count();
    let common = alike.map(same).min().unwrap_or(0);
    let behind = |name: &str| name.chars().skip(common).take(2).collect::<String>();
    let end = |name: &str| name.chars().skip(name.chars().count().saturating_sub(2)).collect::<String>();
    let both = |name: &str| first(name) + &name.chars().next_back().map(String::from).unwrap_or_default();
    let is_own = |of: &dyn Fn(&str) -> String| {
        let own = of(name);
        !own.is_empty() && all.iter().filter(|other| of(other) == own).count() < 2
    };
    let forms: [&dyn Fn(&str) -> String; 3] = [&first, &behind, &end];
    forms.into_iter().find(|of| is_own(*of)).map_or_else(|| both(name), |of| of(name))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn widths_follow_unicode() {
        assert_eq!(fit("日本語", 5), "日本…");
        assert_eq!(fit("日本語", 4), "日… ");
        assert_eq!(fit("e\u{301}a", 3), "e\u{301}a ");
        assert_eq!(cut("abc", 0), "");
        assert_eq!(cut_middle("/var/log/tankwarden/dosing.log", 16), "/var/log…ing.log".to_owned());
        assert_eq!(cut_middle("/var/log", 16), "/var/log");
        for width in 0..40 {
            assert!(cut_middle("日本語/var/log/日本語/dosing.log", width).width() <= width, "{width}");
        }
        assert_eq!(skip("日本語", 2), "本語");
    }

    #[test]
    fn wrapping() {
        assert_eq!(wrap("one two three", 8), ["one two ", "three"]);
        assert_eq!(wrap("abcd ef", 4), ["abcd", "ef"]);
        assert_eq!(wrap("abcdefghij", 4), ["abcd", "efgh", "ij"]);
        assert_eq!(wrap("a\nb", 4), ["a", "b"]);
        assert_eq!(wrap("x", 0), ["x"]);
    }

    #[test]
    fn groups() {
        assert_eq!(grouped(48_112).replace('\u{a0}', " "), "48 112");
        assert_eq!(grouped(7), "7");
    }

    #[test]
    fn bytes_have_a_place() {
        assert_eq!(hex_lines(b"ab\x00", 4096, 2), ["    4096  61 62  ab", "    4098  00     ·"]);
    }

    #[test]
    fn labels_tell_hosts_apart() {
        let labels = |names: &[&str]| {
            let all: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
            names.iter().map(|name| host_mark(name, &all)).collect::<Vec<_>>()
        };
        assert_eq!(labels(&["pump-ctl", "keeper-desk", "dose-gw"]), ["P", "K", "D"]);
        assert_eq!(labels(&["tank-01", "tank-02", "tank-11", "dose-gw"]), ["01", "02", "11", "D"]);
        assert_eq!(labels(&["Dose", "dose-2", "", "élan"]), ["Do", "do", "·", "É"]);
        assert_eq!(labels(&["tank", "tank-2"]), ["nk", "-2"]);
        assert_eq!(labels(&["tank-01", "tank-02", "title"]), ["01", "02", "it"]);
        assert_eq!(labels(&["pump-01", "tank-01", "tank-02"]), ["P", "T1", "2"]);
    }
}
