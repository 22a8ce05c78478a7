//! Looking for text in records: a regular expression, and where there is one the literal that finds its matches faster.

use std::ops::Range;

use memchr::memmem;
use regex::bytes::{Regex, RegexBuilder};
use regex_syntax::ParserBuilder;
use regex_syntax::hir::Hir;
use regex_syntax::hir::literal::{ExtractKind, Extractor};

use crate::limits;

/// What the text of a record must hold.
#[derive(Clone, Debug)]
pub(super) struct TextTest {
    /// What must match.
    pub regex: Regex,
    literal: Option<Literal>,
}

/// A text that is in every match. Searching for one literal is several times as fast as searching for what begins a
/// regular expression, or for the literal in every mix of capitals.
#[derive(Clone, Debug)]
struct Literal {
    finder: memmem::Finder<'static>,
    /// It is in small letters and stands for any mix of capitals.
    any_case: bool,
    /// Nothing else is asked for: where it is, there is a match.
    whole: bool,
}

/// Letters that a literal has at least: shorter ones are everywhere.
const SHORTEST: usize = 3;

impl TextTest {
    /// A literal text, without regard to case.
    ///
    /// # Errors
    /// Where it is too long.
    pub fn phrase(text: &str) -> Result<Self, regex::Error> {
        let regex = RegexBuilder::new(&regex::escape(text))
            .case_insensitive(true)
            .unicode(!text.is_ascii())
            .size_limit(limits::REGEX_BYTES)
            .build()?;
        let literal = (text.is_ascii() && text.len() >= SHORTEST).then(|| Literal {
            finder: memmem::Finder::new(&text.to_ascii_lowercase()).into_owned(),
            any_case: true,
            whole: true,
        });
        Ok(Self { regex, literal })
    }

    /// A regular expression as the `regex` crate reads it, with `^` and `$` at the ends of lines.
    ///
    /// # Errors
    /// Where it is none, or would take too much memory.
    pub fn regex(pattern: &str) -> Result<Self, regex::Error> {
        let regex = RegexBuilder::new(pattern).multi_line(true).size_limit(limits::REGEX_BYTES).build()?;
        Ok(Self { regex, literal: literal_in(pattern) })
    }

    /// Clears the bits of those records that do not match. `bytes` are the records, one behind the other, and are changed;
    /// `offsets` is where each starts, less where the first does.
    pub fn narrow(&self, bytes: &mut [u8], offsets: &[u32], bits: &mut [bool]) {
        let Some(Literal { finder, any_case, whole }) = &self.literal else {
            let find = |at| self.regex.find_at(bytes, at).map(|hit| hit.range());
            return self.narrow_by(find, true, bytes, offsets, bits);
        };
        if *any_case {
            bytes.make_ascii_lowercase();
        }
        let bytes = &*bytes;
        let find = |at: usize| {
            let start = at + finder.find(&bytes[at..])?;
            Some(start..start + finder.needle().len())
        };
        self.narrow_by(find, *whole, bytes, offsets, bits);
    }

    /// `find` gives the next hit from a place on; `sure` is whether that is a match, and not only where one could be.
    fn narrow_by(
        &self,
        find: impl Fn(usize) -> Option<Range<usize>>,
        sure: bool,
        bytes: &[u8],
        offsets: &[u32],
        bits: &mut [bool],
    ) {
        let start_of = |index: usize| offsets.get(index).map(|at| (*at - offsets[0]) as usize);
        let (mut at, mut open) = (0, 0);
        while let Some(hit) = find(at) {
            let index = offsets.partition_point(|offset| (*offset - offsets[0]) as usize <= hit.start) - 1;
            let from = start_of(index).unwrap_or(0);
            let to = start_of(index + 1).unwrap_or(bytes.len()).min(bytes.len());
            bits[open..index].fill(false);
            // A hit across the end of a record is none, but the record may hold another.
            bits[index] &= (sure && hit.end <= to) || self.regex.is_match(&bytes[from..to]);
            open = index + 1;
            if to >= bytes.len() {
                break;
            }
            at = to;
        }
        bits[open..].fill(false);
    }
}

/// The longest literal that every match of a pattern holds, if there is one: what all matches begin or end with.
fn literal_in(pattern: &str) -> Option<Literal> {
    let hir = ParserBuilder::new().utf8(false).multi_line(true).build().parse(pattern).ok()?;
    let found = [false, true].into_iter().filter_map(|ends| common(&hir, ends));
    let longest = found.filter(|literal| literal.len() >= SHORTEST).max_by_key(Vec::len)?;
    Some(Literal { finder: memmem::Finder::new(&longest).into_owned(), any_case: false, whole: false })
}

/// Of the literals that matches begin or end with: the one that is in all others, or what they have in common.
fn common(hir: &Hir, ends: bool) -> Option<Vec<u8>> {
    let mut extractor = Extractor::new();
    extractor.kind(if ends { ExtractKind::Suffix } else { ExtractKind::Prefix });
    let found = extractor.extract(hir);
    let literals = found.literals()?;
    let shortest = literals.iter().min_by_key(|literal| literal.as_bytes().len())?.as_bytes();
    let in_all = literals.iter().all(|literal| memmem::find(literal.as_bytes(), shortest).is_some());
    let same = if ends { found.longest_common_suffix() } else { found.longest_common_prefix() };
    [in_all.then_some(shortest), same].into_iter().flatten().max_by_key(|literal| literal.len()).map(<[u8]>::to_vec)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn literal(pattern: &str) -> Option<String> {
        literal_in(pattern).map(|literal| String::from_utf8_lossy(literal.finder.needle()).into_owned())
    }

    #[test]
    fn what_every_match_holds() {
        assert_eq!(literal("plan.*refused|opening the plan").as_deref(), Some("plan"));
        assert_eq!(literal("[0-9]+ tries").as_deref(), Some(" tries"));
        assert_eq!(literal("^job (12|13) in queue").as_deref(), Some(" in queue"));
        assert_eq!(literal("dosing (12|13)").as_deref(), Some("dosing 1"));
        for none in ["(?i)refused", "refused|denied", "ab", "[a-z]+", "", "x*"] {
            assert_eq!(literal(none), None, "{none}");
        }
    }

    /// Which of the records match, by the plain way.
    fn plainly(test: &TextTest, records: &[String]) -> Vec<bool> {
        records.iter().map(|record| test.regex.is_match(record.as_bytes())).collect()
    }

    proptest! {
        #[test]
        fn the_fast_way_finds_the_same(
            records in proptest::collection::vec("(plan|Plan|PLA|N| |refused|\n|é|ſ|k|opening the ){0,6}\n", 1..12),
            pattern in proptest::sample::select(vec![
                "plan.*refused|opening the plan", "plan", "refused$", "^plan", "n p", "é plan", "[NP]lan", "Plan ", "",
            ]),
            is_phrase in any::<bool>(),
        ) {
            let test = if is_phrase { TextTest::phrase(pattern) } else { TextTest::regex(pattern) }.unwrap();
            let mut bytes = records.concat().into_bytes();
            let mut at = 7;
            let mut offsets = Vec::new();
            for record in &records {
                offsets.push(at);
                at += record.len() as u32;
            }
            let mut bits = vec![true; records.len()];
            test.narrow(&mut bytes, &offsets, &mut bits);
            prop_assert_eq!(bits, plainly(&test, &records), "{}", pattern);
        }
    }
}
