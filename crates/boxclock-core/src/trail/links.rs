//! Other names of the same thing: values that stand beside a known name, one for one, and go on without it.
//!
//! What other lines of the same form say decides. If each of their values at that place stands beside one of the known kind only,
//! and most of them are found elsewhere too, then values at that place are names of the same things; a port or a count is found
//! nowhere else, and a session or user stands beside many. Where a form comes too seldom to say so, the look of the value decides.

use std::collections::hash_map::Entry;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::rc::Rc;

use crate::Result;
use crate::analysis::CaseView;
use crate::clock::{MINUTE, SECOND};
use crate::event::{RecordReader, Row};
use crate::work::Work;

use super::names::{Look, Parsed, alike, mentions, parse};
use super::{Alias, MOST_ALIASES, MOST_STEPS, Named, span, whole_text};

/// Rows before and after a line in which others of its form are looked for.
const NEAR: u32 = 1500;
/// Others of a form that are looked at, and values of these that are looked for everywhere.
const MOST_OTHERS: usize = 60;
const SAMPLES: usize = 6;
/// So many others of a form say what its values are.
const LEAST: usize = 3;
/// So many are asked for where the value is a bare number.
const LEAST_FOR_NUMBERS: usize = 4;
const LEAST_FOR_SHORT: usize = 20;
/// Rows of a name that are looked at for other names.
const MOST_ROWS: usize = 400;
/// Lines that are kept taken apart.
const MOST_PARSED: usize = 60_000;
/// Forms that are looked at in one step, and names that are looked for at once.
const MOST_FORMS: usize = 400;
const MOST_NAMES: usize = 4000;

/// A place in lines of one form of one program.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
struct Form {
    source: usize,
    form: u64,
}

/// A value beside a known name.
struct Beside {
    /// The known name.
    of: String,
    /// Where both stand.
    row: Row,
    form: Form,
    /// Their places in the form.
    known_slot: usize,
    slot: usize,
    strong: bool,
}

/// What the other lines of a form say of two of its places.
struct Others {
    /// Values at both places and the first row of each, nearest lines first.
    pairs: Vec<(String, String, Row)>,
    /// Whether each value of one goes with one of the other.
    one_for_one: bool,
}

/// Reads lines once each.
pub(super) struct Lines<'a> {
    pub(super) view: &'a CaseView,
    pub(super) reader: RecordReader,
    parsed: HashMap<Row, Rc<Parsed>>,
    /// The words with which lines begin that list many things: there are some of them with one thing only.
    list_heads: HashSet<(usize, u64)>,
}

impl<'a> Lines<'a> {
    pub(super) fn new(view: &'a CaseView) -> Self {
        let reader = RecordReader::new(view.case.sources.clone());
        Self { view, reader, parsed: HashMap::new(), list_heads: HashSet::new() }
    }

    /// A line taken apart.
    pub(super) fn parsed(&mut self, row: Row) -> Rc<Parsed> {
        if let Some(parsed) = self.parsed.get(&row) {
            return parsed.clone();
        }
        if self.parsed.len() >= MOST_PARSED {
            self.parsed.clear();
        }
        let parsed = Rc::new(parse(&whole_text(&mut self.reader, self.view, row)));
        if parsed.tokens.first().is_some_and(|token| token.listed && token.start > 2) {
            self.list_heads.insert((self.view.loaded.table.event(row).source(), parsed.head));
        }
        self.parsed.insert(row, parsed.clone());
        parsed
    }

    fn form(&mut self, row: Row) -> Form {
        Form { source: self.view.loaded.table.event(row).source(), form: self.parsed(row).form }
    }

    /// The other lines of a form, nearest first.
    fn others(&mut self, row: Row, form: Form, known_slot: usize, slot: usize) -> Others {
        let near = self.view.loaded.table.rows_near(row, NEAR);
        let mut rows: Vec<Row> = near.filter(|other| *other != row).collect();
        rows.sort_by_key(|other| other.0.abs_diff(row.0));
        let own = self.parsed(row);
        let (mut pairs, mut by_known, mut by_value) = (Vec::new(), BTreeMap::new(), BTreeMap::new());
        let mut add = |pairs: &mut Vec<(String, String, Row)>, row: Row, parsed: &Parsed, slots: (usize, usize)| {
            let (Some(known), Some(value)) = (parsed.tokens.get(slots.0), parsed.tokens.get(slots.1)) else { return };
            let pair = (known.text.clone(), value.text.clone(), row);
            by_known.entry(pair.0.clone()).or_insert_with(HashSet::new).insert(pair.1.clone());
            by_value.entry(pair.1.clone()).or_insert_with(HashSet::new).insert(pair.0.clone());
            if !pairs.iter().any(|one| (&one.0, &one.1) == (&pair.0, &pair.1)) {
                pairs.push(pair);
            }
        };
        for other in &rows {
            let parsed = self.parsed(*other);
            if parsed.form == form.form && parsed.tokens.len() == own.tokens.len() {
                add(&mut pairs, *other, &parsed, (known_slot, slot));
                if pairs.len() >= MOST_OTHERS {
                    break;
                }
            }
        }
        // Where no line says quite the same: those of the program in which both stand behind the same words.
        if pairs.len() < LEAST {
            let table = &self.view.loaded.table;
            let program = table.event(row).component();
            let company = (own.tokens[known_slot].company, own.tokens[slot].company);
            for other in rows.iter().filter(|other| table.event(**other).component() == program) {
                let parsed = self.parsed(*other);
                let behind = |company: u64| parsed.tokens.iter().position(|token| token.company == company);
                if let Some(slots) = behind(company.0).zip(behind(company.1)).filter(|(one, other)| one != other) {
                    add(&mut pairs, *other, &parsed, slots);
                }
                if pairs.len() >= MOST_OTHERS {
                    break;
                }
            }
        }
        let mut with_own = Vec::new();
        add(&mut with_own, row, &own, (known_slot, slot));
        let single = |sides: &BTreeMap<String, HashSet<String>>| {
            let singles = sides.values().filter(|others| others.len() == 1).count();
            singles * 10 >= sides.len() * 8
        };
        let one_for_one = single(&by_known) && single(&by_value);
        pairs.retain(|pair| with_own.iter().all(|own| (&own.0, &own.1) != (&pair.0, &pair.1)));
        Others { pairs, one_for_one }
    }
}

/// Finds all names of a thing, step by step; `known` holds the one asked for.
pub(super) fn find(
    lines: &mut Lines<'_>,
    known: &mut BTreeMap<String, Named>,
    refused: &mut HashSet<String>,
    work: &Work,
) -> Result<Vec<Alias>> {
    let view = lines.view;
    let table = &view.loaded.table;
    let mut aliases: Vec<Alias> = Vec::new();
    for step in 1..=MOST_STEPS {
        work.check()?;
        if known.len() >= MOST_ALIASES {
            break;
        }
        let beside = beside(lines, known, refused, step, work)?;
        if beside.is_empty() {
            break;
        }
        let mut others: HashMap<(Form, usize, usize), Others> = HashMap::new();
        // The names themselves come first: of many, the samples are fewer.
        let mut wanted: Vec<String> = beside.keys().cloned().collect();
        for places in beside.values() {
            for place in places {
                work.check()?;
                let key = (place.form, place.known_slot, place.slot);
                if let Entry::Vacant(vacant) = others.entry(key) {
                    let found = lines.others(place.row, place.form, place.known_slot, place.slot);
                    wanted.extend(found.pairs.iter().take(SAMPLES).map(|(_, value, _)| value.clone()));
                    vacant.insert(found);
                }
            }
        }
        let mut seen = HashSet::new();
        wanted.retain(|name| seen.insert(name.clone()));
        wanted.truncate(MOST_NAMES);
        let found = mentions(view, wanted, work)?;
        let Some((from, to)) = span(view, &known.values().flat_map(|named| named.rows.clone()).collect::<Vec<_>>())
        else {
            break;
        };
        let slack = to.saturating_sub(from).max(30 * SECOND).saturating_mul(3).saturating_add(2 * MINUTE);
        let window = (from.saturating_sub(slack), to.saturating_add(slack));
        for (name, places) in beside {
            work.check()?;
            if known.len() >= MOST_ALIASES {
                break;
            }
            let rows = found.get(&name).map_or(&[][..], Vec::as_slice);
            let accepted = places.iter().find_map(|place| {
                let others = others.get(&(place.form, place.known_slot, place.slot))?;
                goes_on(lines, &found, known, place, others, rows, window).map(|rows| (place, rows))
            });
            let Some((place, rows)) = accepted else {
                refused.insert(name);
                continue;
            };
            let event = table.event(place.row);
            let others = &others[&(place.form, place.known_slot, place.slot)];
            let mut why = format!(
                "appears beside {} there, and goes on with it in {}",
                place.of,
                crate::plural::many(rows.len() as u64, "event")
            );
            if others.pairs.len() >= LEAST {
                let more = if others.pairs.len() >= MOST_OTHERS { " and more" } else { "" };
                let count = others.pairs.len();
                why.push_str(&format!("; {count}{more} other lines there pair such names one for one"));
            }
            let source = view.case.sources[event.source()].name.clone();
            aliases.push(Alias { identifier: name.clone(), source, line: lines.reader.place(event).line, why });
            known.insert(name, Named { rows, depth: step });
        }
    }
    Ok(aliases)
}

/// Values that stand beside the names of the last step, with the places.
fn beside(
    lines: &mut Lines<'_>,
    known: &BTreeMap<String, Named>,
    refused: &HashSet<String>,
    step: usize,
    work: &Work,
) -> Result<BTreeMap<String, Vec<Beside>>> {
    const MOST_PLACES: usize = 6;
    let view = lines.view;
    let mut beside: BTreeMap<String, Vec<Beside>> = BTreeMap::new();
    let mut forms: HashSet<(Form, usize)> = HashSet::new();
    for (name, named) in known.iter().filter(|(_, named)| named.depth + 1 == step) {
        for row in named.rows.iter().take(MOST_ROWS) {
            work.check()?;
            let parsed = lines.parsed(*row);
            let Some(known_slot) = parsed.slot(name) else { continue };
            if parsed.tokens[known_slot].listed {
                continue;
            }
            let form = lines.form(*row);
            for (slot, token) in parsed.tokens.iter().enumerate() {
                let is_known = known.keys().any(|known| known.eq_ignore_ascii_case(&token.text));
                if slot == known_slot
                    || token.listed
                    || token.look == Look::Other
                    || is_known
                    || refused.contains(&token.text)
                    || is_a_place(view, &token.text)
                {
                    continue;
                }
                forms.insert((form, slot));
                let places = beside.entry(token.text.clone()).or_default();
                if places.len() < MOST_PLACES {
                    places.push(Beside {
                        of: name.clone(),
                        row: *row,
                        form,
                        known_slot,
                        slot,
                        strong: token.look == Look::Name,
                    });
                }
            }
            if forms.len() > MOST_FORMS {
                return Ok(beside);
            }
        }
    }
    Ok(beside)
}

/// Whether a word names a host or a program of the case.
fn is_a_place(view: &CaseView, word: &str) -> bool {
    let table = &view.loaded.table;
    // A line that begins with a name and a colon makes it look like a program.
    let is_word = word.bytes().filter(u8::is_ascii_digit).count() < 4;
    table.hosts.iter().any(|host| host == word)
        || (is_word && table.components.iter().any(|component| component == word))
}

/// The rows of a value, if it is another name of the thing.
fn goes_on(
    lines: &mut Lines<'_>,
    found: &HashMap<String, Vec<Row>>,
    known: &BTreeMap<String, Named>,
    place: &Beside,
    others: &Others,
    rows: &[Row],
    (from, to): (i64, i64),
) -> Option<Vec<Row>> {
    let table = &lines.view.loaded.table;
    if others.pairs.len() >= LEAST && !others.one_for_one {
        return None;
    }
    let of = &known[&place.of];
    let is_near = |row: &Row| table.event(*row).time().is_none_or(|time| (from..=to).contains(&time));
    // Of the others: where their values stand without the partner.
    let mut joined: HashSet<usize> = HashSet::new();
    let samples: Vec<&(String, String, Row)> = others.pairs.iter().take(SAMPLES).collect();
    let mut go_on = 0;
    for (partner, value, at) in &samples {
        let mut elsewhere = false;
        // Far away the same number is another thing's.
        let at = table.event(*at).time();
        let is_near_it = |row: &&Row| {
            let gap = table.event(**row).time().zip(at).map(|(time, at)| time.saturating_sub(at).saturating_abs());
            gap.is_none_or(|gap| gap <= to.saturating_sub(from))
        };
        for row in found.get(value).map_or(&[][..], Vec::as_slice).iter().filter(is_near_it).take(12) {
            let parsed = lines.parsed(*row);
            let Some(slot) = parsed.slot(value) else { continue };
            if parsed.slot(partner).is_none() && !parsed.tokens[slot].listed {
                joined.insert(table.event(*row).source());
                elsewhere = true;
            }
        }
        go_on += usize::from(elsewhere);
    }
    let known_enough = samples.len() >= LEAST;
    let own = lines.parsed(place.row).tokens[place.slot].text.clone();
    // A word of the logs, not the name of one thing: it is not worth reading all its lines.
    if place.strong && rows.len() > MOST_ROWS * 4 {
        return None;
    }
    let worth_reading = rows.iter().copied().filter(|row| place.strong || is_near(row)).take(MOST_ROWS * 4);
    let own_rows: Vec<Row> = worth_reading.filter(|row| without_lists(lines, &own, *row)).collect();
    let alone = own_rows.iter().any(|row| !of.rows.contains(row));
    if !place.strong {
        // Short numbers are codes and counts, unless many lines pair them one for one.
        let least = if own.len() <= 3 { LEAST_FOR_SHORT } else { LEAST_FOR_NUMBERS };
        if others.pairs.len() < least || go_on * 4 < samples.len() * 3 {
            return None;
        }
        // The same number elsewhere is another thing's, but in the programs in which the others stand, too.
        let rows: Vec<Row> = own_rows
            .into_iter()
            .filter(|row| *row == place.row || of.rows.contains(row) || joined.contains(&table.event(*row).source()))
            .filter(|row| lines.parsed(*row).slot(&own).is_some())
            .collect();
        return (!rows.is_empty()).then_some(rows);
    }
    if own_rows.len() > MOST_ROWS || !own_rows.iter().all(is_near) {
        return None;
    }
    let lost = known_enough && go_on * 10 >= samples.len() * 7;
    if known_enough && !lost && go_on * 10 < samples.len() * 4 {
        return None;
    }
    if !alone && !lost {
        return None;
    }
    if !known_enough && alike(&own, &place.of) {
        return None;
    }
    // Other things of the known kind beside it: many share it. One alone can be the next name of the same thing.
    let is_bare = place.of.bytes().all(|byte| byte.is_ascii_digit());
    if !alike(&own, &place.of) {
        let mut beside: HashSet<String> = HashSet::new();
        for row in own_rows.iter().take(60) {
            let parsed = lines.parsed(*row);
            let others = parsed.tokens.iter().filter(|token| {
                (token.look == Look::Name || is_bare)
                    && alike(&token.text, &place.of)
                    && (!is_bare || token.text.len() == place.of.len())
            });
            beside.extend(others.map(|token| token.text.to_ascii_lowercase()));
        }
        beside.retain(|other| !known.keys().any(|known| known.eq_ignore_ascii_case(other)));
        // Of numbers of one length, some are counts.
        let allowed = usize::from(known_enough) + if is_bare { 2 } else { 0 };
        if beside.len() > allowed {
            return None;
        }
    }
    (!own_rows.is_empty()).then_some(own_rows)
}

/// Whether a row says something of a name itself, and does not only list it with others.
pub(super) fn without_lists(lines: &mut Lines<'_>, name: &str, row: Row) -> bool {
    let parsed = lines.parsed(row);
    let source = lines.view.loaded.table.event(row).source();
    parsed.slot(name).is_none_or(|slot| {
        let alone_in_list = parsed.tokens.len() == 1 && lines.list_heads.contains(&(source, parsed.head));
        !parsed.tokens[slot].listed && !alone_in_list
    })
}

/// Of the rows in which a bare number stands, those in which it is the name of something: a word in front says so, or the values
/// there differ from line to line and go on elsewhere. All, if none is so.
pub(super) fn rows_of_number(lines: &mut Lines<'_>, name: &str, rows: Vec<Row>, work: &Work) -> Result<Vec<Row>> {
    let mut of_form: BTreeMap<(Form, usize), (bool, Vec<Row>)> = BTreeMap::new();
    for row in rows.iter().take(MOST_ROWS * 10) {
        work.check()?;
        let parsed = lines.parsed(*row);
        let Some(slot) = parsed.slot(name) else { continue };
        let form = lines.form(*row);
        let entry = of_form.entry((form, slot)).or_default();
        entry.0 |= parsed.tokens[slot].look == Look::Name;
        entry.1.push(*row);
    }
    let mut samples: BTreeMap<(Form, usize), Vec<(String, Row)>> = BTreeMap::new();
    for (key, (strong, rows)) in &of_form {
        if *strong {
            continue;
        }
        let others = lines.others(rows[0], key.0, key.1, key.1);
        let values = others.pairs.into_iter().take(SAMPLES).map(|(_, value, row)| (value, row)).collect();
        samples.insert(*key, values);
    }
    let values: HashSet<String> = samples.values().flatten().map(|(value, _)| value.clone()).collect();
    let found = mentions(lines.view, values.into_iter().collect(), work)?;
    let table = &lines.view.loaded.table;
    // Far away the same number is another thing's.
    let gap = |one: Row, other: Row| {
        let times = table.event(one).time().zip(table.event(other).time());
        times.map_or(0, |(one, other)| one.saturating_sub(other).saturating_abs())
    };
    let mut is_name = |key: &(Form, usize), strong: bool| {
        let values = samples.get(key).map_or(&[][..], Vec::as_slice);
        let mut goes_on = |(value, at): &(String, Row)| {
            let rows = found.get(value).map_or(&[][..], Vec::as_slice);
            let near = rows.iter().filter(|row| gap(**row, *at) < 10 * MINUTE);
            near.take(12).any(|row| lines.parsed(*row).slot(value).is_some() && lines.form(*row) != key.0)
        };
        strong
            || (values.len() >= LEAST && values.iter().filter(|value| goes_on(value)).count() * 10 >= values.len() * 6)
    };
    let named: Vec<bool> = of_form.iter().map(|(key, (strong, _))| is_name(key, *strong)).collect();
    // Lines that come too seldom to say it belong to it where others of their source do.
    let sources: HashSet<usize> =
        of_form.keys().zip(&named).filter(|(_, named)| **named).map(|((form, _), _)| form.source).collect();
    let mut kept: Vec<Row> = Vec::new();
    for ((key, (_, rows)), named) in of_form.iter().zip(named) {
        let too_few = samples.get(key).is_some_and(|values| values.len() < LEAST);
        if named || (too_few && sources.contains(&key.0.source)) {
            kept.extend(rows);
        }
    }
    kept.sort_unstable();
    Ok(if kept.is_empty() { rows } else { kept })
}
