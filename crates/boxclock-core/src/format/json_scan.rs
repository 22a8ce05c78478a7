//! A fast look over the members of one JSON object, without building a tree.
//!
//! Source: RFC 8259. The index pass needs five of an object's members; building all of them for millions of lines
//! would cost more than everything else. The full record is read by `serde_json`.

/// A member's value as it stands in the text.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Raw<'a> {
    /// A string: the bytes between the quotes, and whether they hold escapes.
    Text(&'a [u8], bool),
    /// A number, `true`, `false` or `null`.
    Word(&'a [u8]),
    /// An object, from brace to brace.
    Object(&'a [u8]),
    /// An array, from bracket to bracket.
    Array,
}

/// Calls `visit` with each member of the object that `text` starts with. `false` if it is not a whole object; the
/// members before the damage have been visited then.
pub(super) fn members<'a>(text: &'a [u8], mut visit: impl FnMut(&'a [u8], Raw<'a>)) -> bool {
    walk(text, &mut visit).is_some()
}

fn walk<'a>(text: &'a [u8], visit: &mut impl FnMut(&'a [u8], Raw<'a>)) -> Option<usize> {
    let mut at = blanks(text, 0);
    if text.get(at) != Some(&b'{') {
        return None;
    }
    at = blanks(text, at + 1);
    if text.get(at) == Some(&b'}') {
        return Some(at + 1);
    }
    loop {
        let (key, _, end) = string(text, at)?;
        at = blanks(text, end);
        if text.get(at) != Some(&b':') {
            return None;
        }
        let (value, end) = value(text, blanks(text, at + 1))?;
        visit(key, value);
        at = blanks(text, end);
        match text.get(at)? {
            b',' => at = blanks(text, at + 1),
            b'}' => return Some(at + 1),
            _ => return None,
        }
    }
}

fn blanks(text: &[u8], at: usize) -> usize {
    let mut at = at;
    while matches!(text.get(at), Some(b' ' | b'\t' | b'\r' | b'\n')) {
        at += 1;
    }
    at
}

/// The bytes between the quotes at `at`, whether they hold escapes, and where the string ends.
fn string(text: &[u8], at: usize) -> Option<(&[u8], bool, usize)> {
    if text.get(at) != Some(&b'"') {
        return None;
    }
    let start = at + 1;
    let mut at = start;
    let mut escaped = false;
    loop {
        let found = at + memchr::memchr2(b'"', b'\\', text.get(at..)?)?;
        if text.get(found) == Some(&b'"') {
            return Some((text.get(start..found)?, escaped, found + 1));
        }
        escaped = true;
        at = found + 2;
    }
}

fn value(text: &[u8], at: usize) -> Option<(Raw<'_>, usize)> {
    match text.get(at)? {
        b'"' => string(text, at).map(|(bytes, escaped, end)| (Raw::Text(bytes, escaped), end)),
        b'{' => nested_end(text, at).map(|end| (Raw::Object(text.get(at..end).unwrap_or_default()), end)),
        b'[' => nested_end(text, at).map(|end| (Raw::Array, end)),
        _ => {
            let rest = text.get(at..)?;
            let length =
                rest.iter().position(|byte| matches!(byte, b',' | b'}' | b']' | b' ' | b'\t' | b'\r' | b'\n'))?;
            let word = rest.get(..length)?;
            let plain = word.iter().all(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'+' | b'.'));
            (plain && !word.is_empty()).then_some((Raw::Word(word), at + length))
        }
    }
}

/// Where the object or array at `at` ends. Depth is only counted, so nesting costs nothing.
fn nested_end(text: &[u8], at: usize) -> Option<usize> {
    let mut depth = 0_usize;
    let mut at = at;
    loop {
        match text.get(at)? {
            b'"' => {
                at = string(text, at)?.2;
                continue;
            }
            b'{' | b'[' => depth += 1,
            b'}' | b']' => {
                depth -= 1;
                if depth == 0 {
                    return Some(at + 1);
                }
            }
            _ => {}
        }
        at += 1;
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn list(text: &str) -> (bool, Vec<String>) {
        let mut seen = Vec::new();
        let whole = members(text.as_bytes(), |key, _| seen.push(String::from_utf8_lossy(key).into_owned()));
        (whole, seen)
    }

    #[test]
    fn visits_every_member() {
        let text = r#"{"a":"x","b": {"c":[1,"}"]}, "d":-1.5e3,"e":null , "f":"\"q\\"}"#;
        assert_eq!(list(text), (true, ["a", "b", "d", "e", "f"].map(String::from).to_vec()));
        assert_eq!(list("{}"), (true, vec![]));
    }

    #[test]
    fn damage_keeps_what_was_before() {
        assert_eq!(list(r#"{"a":1,"b":"cut"#), (false, vec!["a".into()]));
        assert_eq!(list(r"{a:1}"), (false, vec![]));
        assert_eq!(list("[1]"), (false, vec![]));
    }

    proptest! {
        #[test]
        fn any_text(text in "[{}\\[\\]\":,a1 \\\\]{0,60}") {
            members(text.as_bytes(), |_, _| {});
        }

        #[test]
        fn agrees_with_serde(pairs in proptest::collection::btree_map("[a-z]{1,6}", ".{0,12}", 0..6)) {
            let text = serde_json::to_string(&pairs).unwrap();
            let mut keys = Vec::new();
            prop_assert!(members(text.as_bytes(), |key, _| keys.push(String::from_utf8_lossy(key).into_owned())));
            prop_assert_eq!(keys, pairs.keys().cloned().collect::<Vec<_>>());
        }
    }
}
