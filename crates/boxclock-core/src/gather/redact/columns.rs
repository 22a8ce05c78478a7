//! Values in columns whose name says what they are: logs of web servers with a line of fields (W3C Extended Log File Format, working
//! draft of 1996), tables with a head (RFC 4180, also with `;` or tabs), what a database writes to be read in again (`COPY … FROM stdin;`,
//! `INSERT INTO … VALUES`).

use super::keys::{Keys, Named};

/// Bytes of the longest head of a table that is looked at, and columns of the widest.
const HEAD_BYTES: usize = 8 << 10;
const MOST_COLUMNS: usize = 512;

/// How the values of a row stand beside each other.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Between {
    /// Runs of blanks.
    Blanks,
    /// One sign; a quoted value may hold it.
    Sign(char),
}

/// Adds the places of values in columns that these words name.
pub(super) fn find(keys: &Keys, text: &str, spans: &mut Vec<(usize, usize)>) {
    let mut columns: Option<(Vec<Option<Named>>, Between)> = None;
    let mut in_copy = false;
    let has_inserts = ["INSERT INTO ", "insert into "]
        .iter()
        .any(|word| memchr::memmem::find(text.as_bytes(), word.as_bytes()).is_some());
    let mut at = 0;
    let mut is_first = true;
    for whole in text.split_inclusive('\n') {
        let start = at;
        at += whole.len();
        let line = whole.trim_end_matches(['\n', '\r']);
        if let Some(names) = line.strip_prefix("#Fields:") {
            columns = names_of(keys, names.split_ascii_whitespace()).map(|names| (names, Between::Blanks));
        } else if line.is_empty() || line.starts_with('#') && !matches!(columns, Some((_, Between::Sign(_)))) {
            // A comment; a row of a table may begin so.
            continue;
        } else if let Some(names) = copied(line) {
            columns = names_of(keys, names.split(',')).map(|names| (names, Between::Sign('\t')));
            in_copy = true;
        } else if in_copy && line == "\\." {
            (columns, in_copy) = (None, false);
        } else if std::mem::take(&mut is_first)
            && columns.is_none()
            && let Some((names, sign)) = head(line)
        {
            columns = names_of(keys, names.into_iter()).map(|names| (names, Between::Sign(sign)));
        } else if let Some((names, between)) = &columns {
            row(keys, text, start, line, names, *between, spans);
        }
        if has_inserts && columns.is_none() && line.len() < 64 << 10 {
            inserted(keys, text, start, line, spans);
        }
        is_first = false;
    }
}

/// The line that names the columns at the end of a text, which what follows the text needs.
pub(super) fn last_head(text: &str) -> Option<&str> {
    let line = match last_line_with(text, "#Fields:").or_else(|| open_copy(text)) {
        Some(at) => text.get(at..)?.lines().next()?,
        None => {
            text.lines().find(|line| !line.is_empty() && !line.starts_with('#')).filter(|line| head(line).is_some())?
        }
    };
    (line.len() <= HEAD_BYTES).then_some(line)
}

/// Where the last line stands that begins with a word.
fn last_line_with(text: &str, word: &str) -> Option<usize> {
    let inner = text.rfind(&format!("\n{word}")).map(|feed| feed + 1);
    inner.or_else(|| text.starts_with(word).then_some(0))
}

/// Where the last `COPY … FROM stdin;` stands whose rows do not end in this text.
fn open_copy(text: &str) -> Option<usize> {
    let at = last_line_with(text, "COPY ")?;
    let rest = text.get(at..)?;
    let ends = rest.contains("\n\\.\n") || rest.contains("\n\\.\r\n");
    (copied(rest.lines().next()?).is_some() && !ends).then_some(at)
}

/// Which columns are of these words; none where no column is.
fn names_of<'a>(keys: &Keys, names: impl Iterator<Item = &'a str>) -> Option<Vec<Option<Named>>> {
    let bare = |name: &'a str| name.trim().trim_matches(['"', '\'', '`', '[', ']']);
    let names: Vec<Option<Named>> = names.take(MOST_COLUMNS).map(|name| keys.names_column(bare(name))).collect();
    names.iter().any(Option::is_some).then_some(names)
}

/// The names in a head of a table, and the sign between them: at least two, each of letters, none of a number.
fn head(line: &str) -> Option<(Vec<&str>, char)> {
    if line.len() > HEAD_BYTES {
        return None;
    }
    let line = line.trim_start_matches('\u{FEFF}');
    let sign = ['\t', ';', ',', '|'].into_iter().find(|sign| line.contains(*sign))?;
    let names: Vec<&str> = line.split(sign).map(|name| name.trim().trim_matches('"')).collect();
    let is_name = |name: &&str| {
        name.len() <= 60
            && name.starts_with(char::is_alphabetic)
            && name
                .chars()
                .all(|letter| letter.is_alphanumeric() || matches!(letter, '_' | '-' | ' ' | '.' | '(' | ')'))
            && name.split(' ').count() <= 4
    };
    (names.len() >= 2 && names.iter().all(is_name)).then_some((names, sign))
}

/// The names of columns in `COPY table (a, b) FROM stdin;`.
fn copied(line: &str) -> Option<&str> {
    let rest = line.strip_prefix("COPY ")?;
    let (names, behind) = rest.split_once('(')?.1.split_once(')')?;
    behind.trim().eq_ignore_ascii_case("FROM stdin;").then_some(names)
}

fn row(
    keys: &Keys,
    text: &str,
    start: usize,
    line: &str,
    names: &[Option<Named>],
    between: Between,
    spans: &mut Vec<(usize, usize)>,
) {
    let mut index = 0;
    let mut at = 0;
    while at <= line.len() && index < names.len() {
        let rest = line.get(at..).unwrap_or_default();
        let (from, length, taken) = match between {
            Between::Blanks => {
                let lead = rest.len() - rest.trim_start_matches([' ', '\t']).len();
                let length = rest[lead..].find([' ', '\t']).unwrap_or(rest.len() - lead);
                (lead, length, lead + length + 1)
            }
            Between::Sign(sign) => cell(rest, sign),
        };
        if let Some(named) = names.get(index).copied().flatten() {
            spans.extend(keys.cell(text, start + at + from, length, named));
        }
        at += taken.max(1);
        index += 1;
    }
}

/// Where the value of the next cell starts, its length, and how far the cell goes with the sign behind it.
fn cell(rest: &str, sign: char) -> (usize, usize, usize) {
    let blanks = rest.len() - rest.trim_start_matches(' ').len();
    let lead = &rest[blanks..];
    if let Some(quote) = lead.chars().next().filter(|quote| matches!(quote, '"' | '\'')) {
        let inner = &lead[1..];
        // A quote in the value is written twice, or behind a backslash.
        let mut letters = inner.char_indices().peekable();
        let mut end = inner.len();
        while let Some((at, letter)) = letters.next() {
            match letter {
                '\\' => drop(letters.next()),
                _ if letter == quote && letters.peek().is_some_and(|(_, next)| *next == quote) => drop(letters.next()),
                _ if letter == quote => {
                    end = at;
                    break;
                }
                _ => {}
            }
        }
        let behind = inner.get(end..).unwrap_or_default();
        let next = behind.find(sign).map_or(behind.len() + 1, |at| at + sign.len_utf8());
        return (blanks + 1, end, blanks + 1 + end + next);
    }
    let length = lead.find(sign).unwrap_or(lead.len());
    (blanks, lead[..length].trim_end().len(), blanks + length + sign.len_utf8())
}

/// `INSERT INTO table (a, b) VALUES ('x', 'y'), ('z', 'w');`
fn inserted(keys: &Keys, text: &str, start: usize, line: &str, spans: &mut Vec<(usize, usize)>) {
    let Some(at) = find_word(line, "insert into ") else { return };
    let Some(open) = line[at..].find('(').map(|open| at + open) else { return };
    let Some(close) = line[open..].find(')').map(|close| open + close) else { return };
    let Some(values) = find_word(&line[close..], "values").filter(|gap| *gap <= 4).map(|gap| close + gap + 6) else {
        return;
    };
    let Some(names) = names_of(keys, line[open + 1..close].split(',')) else { return };
    let mut at = values;
    // Each row in brackets, up to the first thing that is none.
    while let Some(open) =
        line[at..].find('(').filter(|gap| line[at..at + gap].trim().trim_start_matches(',').trim().is_empty())
    {
        at += open + 1;
        let mut index = 0;
        loop {
            let rest = &line[at..];
            let (from, length, _) = cell(rest, ',');
            let quoted = rest.get(..from).is_some_and(|lead| lead.ends_with(['"', '\'']));
            let behind = if quoted { from + length } else { from };
            let Some(end) = end_of_cell(rest, behind) else { return };
            if let Some(named) = names.get(index).copied().flatten().filter(|_| quoted) {
                spans.extend(keys.cell(text, start + at + from, length, named));
            }
            index += 1;
            at += end + 1;
            if rest.as_bytes().get(end) == Some(&b')') {
                break;
            }
            if index > MOST_COLUMNS {
                return;
            }
        }
    }
}

/// Where a cell ends that is looked at from `from` on: at a comma, or at the bracket that closes its row.
fn end_of_cell(rest: &str, from: usize) -> Option<usize> {
    let mut depth = 0_usize;
    for (at, byte) in rest.bytes().enumerate().skip(from) {
        match byte {
            b'(' => depth += 1,
            b')' if depth > 0 => depth -= 1,
            b',' | b')' if depth == 0 => return Some(at),
            _ => {}
        }
    }
    None
}

/// Where a word in small letters stands, in any letters.
fn find_word(line: &str, word: &str) -> Option<usize> {
    let first = word.as_bytes().first()?;
    memchr::memchr2_iter(*first, first.to_ascii_uppercase(), line.as_bytes()).find(|at| {
        line.as_bytes().get(*at..at + word.len()).is_some_and(|found| found.eq_ignore_ascii_case(word.as_bytes()))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn keys(names: bool) -> Keys {
        let words = if names { ["user", "username", "login"] } else { ["password", "secret", "api key"] };
        let weak = if names { vec![] } else { vec!["cookie".to_owned()] };
        let prose = ["root".to_owned()];
        Keys::new(&words.map(str::to_owned), &weak, &["agent".to_owned()], &prose, names).unwrap()
    }

    fn found(names: bool, text: &str) -> Vec<&str> {
        let mut spans = Vec::new();
        find(&keys(names), text, &mut spans);
        spans.into_iter().map(|(start, end)| &text[start..end]).collect()
    }

    #[test]
    fn tables_of_all_forms() {
        let w3c = "#Version: 1.0\n#Fields: date time cs-username cs(User-Agent) cs(Cookie) sc-status\n\
                   2026-04-12 02:31:07 mona Feeder/2 sid=Zx81abcd77 200\n2026-04-12 02:31:08 - Feeder/2 - 200\n";
        assert_eq!(found(true, w3c), ["mona"]);
        assert_eq!(found(false, w3c), ["sid=Zx81abcd77"]);
        let csv =
            "Name,User Name,Password,Last Login\nMona Dahl,mona,\"Ide, 7\",2026-04-12\nOle,ole,Nase3,2026-04-11\n";
        assert_eq!(found(true, csv), ["mona", "ole"]);
        assert_eq!(found(false, csv), ["Ide, 7", "Nase3"]);
        assert_eq!(found(false, "host;api_key\ngw;k-5-k\n#1;k-6-k\n"), ["k-5-k", "k-6-k"]);
        let copy =
            "COPY public.keepers (id, username, password) FROM stdin;\n1\tmona\tIde7\n2\tole\t\\N\n\\.\n3\tx\ty\n";
        assert_eq!(found(false, copy), ["Ide7", "\\N"]);
        assert_eq!(found(true, copy), ["mona", "ole"]);
        let insert = "INSERT INTO keepers (id, username, password, since) VALUES (1,'mona','Ide, (7)',now()), (2, 'ole', 'it''s', null);";
        assert_eq!(found(false, insert), ["Ide, (7)", "it''s"]);
        assert_eq!(found(true, insert), ["mona", "ole"]);
    }

    #[test]
    fn what_is_no_table() {
        for text in [
            "Connected, user mona, password ok, done\nx,y,z,w\n",
            "user,2026\na,b\n",
            "password\nabc\n",
            "INSERT INTO keepers VALUES ('mona','Ide7')",
            "insert into x (password) select 'a'",
            "insert into x (password) values (",
        ] {
            assert_eq!(found(false, text), [""; 0], "{text}");
        }
    }

    #[test]
    fn heads_go_along_with_what_follows() {
        assert_eq!(last_head("user,password\na,b\n"), Some("user,password"));
        assert_eq!(last_head("#Fields: a b\n1 2\n#Fields: c d\n3 4\n"), Some("#Fields: c d"));
        assert_eq!(last_head("2026-04-12 started, all well\n"), None);
        let copy = "COPY a (b) FROM stdin;";
        assert_eq!(last_head(&format!("-- dump\n{copy}\n1\nsays COPY x\n")), Some(copy));
        assert_eq!(last_head(&format!("-- dump\n{copy}\n1\n\\.\n")), None);
    }

    proptest::proptest! {
        #[test]
        fn any_text(parts in proptest::collection::vec(proptest::sample::select(vec![
            "#Fields: ", "cs-username ", "user", ",", ";", "\t", "\"", "'", "\\", "\n", "(", ")", "INSERT INTO x (password) VALUES ", "ü", "密", " ",
            "COPY t (password) FROM stdin;\n", "\\.\n", "password",
        ]), 0..60)) {
            let text = parts.concat();
            let mut spans = Vec::new();
            find(&keys(false), &text, &mut spans);
            find(&keys(true), &text, &mut spans);
            for (start, end) in spans {
                proptest::prop_assert!(start <= end && text.get(start..end).is_some());
            }
            let _ = last_head(&text);
        }
    }
}
