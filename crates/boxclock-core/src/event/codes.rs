//! The codes that events carry: which family a person chose for them, and which lines they make problems.

use std::sync::Arc;

use rustc_hash::FxHashMap;

use super::{EventRef, Part, Row, Table, flag};
use crate::code::{Catalogues, Code, Family};

/// The highest severity number that a failure code lifts: from a warning on, the source itself called for attention.
const ESCALATED_UP_TO: u8 = 12;

/// What was decided about the codes of a case.
#[derive(Clone, Debug)]
pub struct CodeRules {
    /// The catalogues that say what codes mean.
    pub catalogues: Arc<Catalogues>,
    /// By source and the code as it was recognised: the family that it is.
    pub by_source: FxHashMap<(u32, Code), Family>,
    /// By row and the code as it was recognised: the family that it is in this place.
    pub by_row: FxHashMap<(u32, Code), Family>,
    /// Whether failure codes make lines problems that were logged as information, or without a level.
    pub escalate: bool,
    /// For each source: whether its lines are never escalated, since failing calls are its daily bread.
    pub quiet: Vec<bool>,
}

impl Default for CodeRules {
    fn default() -> Self {
        Self {
            catalogues: Arc::default(),
            by_source: FxHashMap::default(),
            by_row: FxHashMap::default(),
            escalate: true,
            quiet: Vec::new(),
        }
    }
}

impl CodeRules {
    fn is_empty(&self) -> bool {
        self.by_source.is_empty() && self.by_row.is_empty()
    }

    fn escalates_in(&self, source: u32) -> bool {
        self.escalate && !self.quiet.get(source as usize).copied().unwrap_or(false)
    }
}

impl Table {
    /// The catalogues that say what the codes of its events mean.
    pub fn catalogues(&self) -> &Arc<Catalogues> {
        &self.code_rules.catalogues
    }

    /// A code of an event as it is meant: as recognised, or of the family that a person chose.
    pub fn code_of(&self, source: u32, row: Row, code: Code) -> Code {
        let rules = &self.code_rules;
        if rules.is_empty() {
            return code;
        }
        let chosen = rules.by_row.get(&(row.0, code)).or_else(|| rules.by_source.get(&(source, code)));
        chosen.map_or(code, |family| Code { family: *family, ..code })
    }

    /// The events of a part that a failure code makes problems: indexes in its segment, ascending.
    pub fn escalated(&self, part: &Part) -> Vec<u16> {
        let segment = &part.segment;
        if !self.code_rules.escalates_in(segment.source) {
            return Vec::new();
        }
        let mut known: FxHashMap<Code, bool> = FxHashMap::default();
        let mut escalated: Vec<u16> = Vec::new();
        for (event, code) in &segment.codes {
            let index = usize::from(*event);
            if escalated.last() == Some(event) || segment.severities[index] > ESCALATED_UP_TO {
                continue;
            }
            let code = self.code_of(segment.source, Row(part.first_row + u32::from(*event)), *code);
            if *known.entry(code).or_insert_with(|| code.escalates(self.catalogues())) {
                escalated.push(*event);
            }
        }
        escalated
    }
}

impl EventRef<'_> {
    /// The catalogues that say what its codes mean.
    pub fn catalogues(&self) -> &Catalogues {
        self.table.catalogues()
    }

    /// A code that was found in the text of this event, as it is meant: see [`Table::code_of`].
    pub fn meant(&self, code: Code) -> Code {
        self.table.code_of(self.part.segment.source, self.row, code)
    }

    /// The codes as recognition found them, whatever a person chose.
    pub fn codes_as_found(&self) -> Vec<Code> {
        let mut codes: Vec<Code> = self.part.segment.codes_of(self.index).iter().map(|(_, code)| *code).collect();
        codes.dedup();
        codes
    }

    /// The code that makes this event a problem although it was logged as information, or without a level.
    pub fn escalating_code(&self) -> Option<Code> {
        let low = self.severity().0 <= ESCALATED_UP_TO && self.flags() & flag::HAS_CODE != 0;
        (low && self.table.code_rules.escalates_in(self.part.segment.source))
            .then(|| self.codes().find(|code| code.escalates(self.table.catalogues())))
            .flatten()
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashMap;

    use super::*;
    use crate::case::{Case, Choice, CodeChoice, Loaded, Options};
    use crate::work::Work;

    const LOG: &str = "2026-04-12T02:00:00Z INFO bridge: failed with error 5\n\
                       2026-04-12T02:00:01Z INFO bridge: failed with error 5\n\
                       2026-04-12T02:00:02Z INFO web: GET /feed HTTP/1.1 404\n\
                       2026-04-12T02:00:03Z WARN bridge: failed with error 5\n";

    fn case() -> (tempfile::TempDir, Case, Loaded) {
        let root = tempfile::tempdir().unwrap();
        std::fs::write(root.path().join("app.log"), LOG).unwrap();
        let case = Case::open(&[root.path().to_path_buf()], Options::default(), &Work::default()).unwrap();
        let loaded = case.load(&Work::default()).unwrap();
        (root, case, loaded)
    }

    fn choosing(case: &Case, what: &str, family: &str) -> Options {
        let mut choice = Choice::default();
        choice.set(what, family).unwrap();
        Options { choices: HashMap::from([(case.sources[0].name.clone(), choice)]), ..Options::default() }
    }

    fn families(loaded: &Loaded) -> Vec<&'static str> {
        let rows = (0..loaded.table.len() as u32).filter(|row| *row != 2);
        rows.map(|row| loaded.table.event(Row(row)).codes().next().unwrap().family.name()).collect()
    }

    #[test]
    fn a_family_is_chosen_for_a_source_or_for_one_place() {
        let (_root, case, loaded) = case();
        let found = loaded.table.event(Row(0)).codes_as_found()[0];
        let whole = loaded.with_codes(&case.sources, &choosing(&case, &CodeChoice::what(found, None), "kerberos"));
        assert_eq!(families(&whole), ["kerberos"; 3]);
        let second = loaded.table.event(Row(1)).offset();
        let place = choosing(&case, &CodeChoice::what(found, Some(second)), "kerberos");
        let one = families(&loaded.with_codes(&case.sources, &place));
        let own = found.family.name();
        assert_eq!(one, [own, "kerberos", own]);
        // A place that is not there any more changes nothing; what is no choice is said.
        let gone = choosing(&case, &CodeChoice::what(found, Some(second + 1)), "kerberos");
        assert_eq!(families(&loaded.with_codes(&case.sources, &gone)), [own; 3]);
        assert!(Choice::default().set("code win32 5", "fish").unwrap_err().to_string().contains("no family"));
    }

    #[test]
    fn failures_lift_what_was_logged_as_information_and_nothing_else() {
        let (_root, case, loaded) = case();
        let escalated = |loaded: &Loaded| -> Vec<u32> {
            (0..4).filter(|row| loaded.table.event(Row(*row)).escalating_code().is_some()).collect()
        };
        assert_eq!(
            escalated(&loaded),
            [0, 1],
            "a page that is not there is part of healthy work; a warning is one already"
        );
        let part: Vec<u16> = loaded.table.parts.iter().flat_map(|part| loaded.table.escalated(part)).collect();
        assert_eq!(part, [0, 1], "the whole part says the same as its events");
        let off = Options { no_escalation: true, ..Options::default() };
        assert!(escalated(&loaded.with_codes(&case.sources, &off)).is_empty());
    }
}
