//! What is worth a look: messages that come once, that are new and stay, whose values change for good, packages and their states, and
//! trouble that names what the story names.

use std::collections::{HashMap, HashSet};

use serde_json::Value;

use super::people;
use super::shift::{FEWEST_USUAL, differs_from_its_own_past, last_differs, moved_in_day, shifts, slots};
use super::wording::{self, Class, Effect};
use super::words::{self, Lexicon};
use crate::Result;
use crate::analysis::{CaseView, Pieces};
use crate::clock::human::duration_text;
use crate::clock::{DAY, HOUR, MINUTE};
use crate::event::{EventRef, RecordReader, Row};
use crate::format::{LineFormat, Record};
use crate::install::{InstallAnalysis, Outcome};
use crate::work::Work;

mod groups;

/// Records that are read to find changes of values.
const MOST_READ_FOR_SHIFTS: usize = 150_000;
/// Records of one kind from one log that are looked at closely; of more, as many at even distances.
const MOST_OF_A_GROUP: usize = 1500;
/// Records of trouble that are searched for names.
const MOST_SEARCHED: usize = 60_000;
/// Signs that are weighed against each other.
const MOST_SIGNS: usize = 900;
/// Messages of one kind from one log of which the last is held against the others: of a job that runs once or twice a day.
const OF_A_JOB: std::ops::RangeInclusive<usize> = 3..=40;
/// Starts of a program before the last, from which on it is known what it usually says then.
const FEWEST_STARTS: usize = 2;
/// How much a setting that a job says, and that was another each time before, can be a root.
const CHANGED_SETTING: f64 = 0.8;
/// How much what a person did can be a root, where its words tell of no change.
const DONE_BY_A_PERSON: f64 = 0.8;
/// Messages of a kind up to which each is worth a look.
pub(super) const RARE: usize = 3;

/// Why a message is worth a look.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum SignKind {
    /// Its kind comes at most [`RARE`] times.
    Once,
    /// Its kind is new, and then comes as often as it would have come before.
    Onset,
    /// A value in it is another from here on.
    Shift,
    /// A package is put in, taken out, or left half way.
    Package,
    /// It is trouble, and names what the story names.
    Named,
}

/// A message that is worth a look.
pub(super) struct Sign {
    pub row: Row,
    /// When, in nanoseconds since the epoch, by corrected clocks.
    pub time: i64,
    /// When its kind came last, where it lasts.
    pub until: i64,
    pub host: u32,
    pub source: usize,
    pub kind: SignKind,
    pub component: String,
    pub text: String,
    /// What changed, of a [`SignKind::Shift`].
    pub shift: Option<String>,
    /// Its words, as sorted numbers.
    pub words: Vec<u32>,
    /// The names of the program that wrote it.
    pub identity: Vec<u32>,
    /// What it was done to.
    pub objects: Vec<u32>,
    /// The number of its kind of message.
    pub message: u32,
    /// How many of its kind there are.
    pub count: usize,
    /// How many of them came before the moment at which the story says that all was well.
    pub while_well: usize,
    /// How bad it is, 0 to 1.
    pub bad: f64,
    /// How much it can be a root, 0 to 1.
    pub change: f64,
    pub class: Class,
    /// What it can lead to.
    pub leads_to: Effect,
    /// Of what it can be the effect.
    pub effects: Effect,
    /// Whether it is a job that came at another time of the day: only a clock, a zone or a schedule does that.
    pub moved: bool,
}

/// All signs, by time.
#[derive(Default)]
pub(super) struct Signs {
    pub list: Vec<Sign>,
    pub lexicon: Lexicon,
    /// How many kinds of messages there are.
    pub kinds: usize,
    /// The program, or log, that writes each kind.
    owner_of_kind: Vec<u32>,
    /// Words that a program says all the time.
    everyday: HashSet<(u32, u32)>,
    /// Words that the messages of a kind have in common.
    of_kind: HashSet<(u32, u32)>,
    /// The word of each host's name.
    pub hosts: Vec<Option<u32>>,
    /// The words that are accounts of people.
    pub people: HashSet<u32>,
}

impl Signs {
    /// Whether the program of one of two messages of different programs says that word all the time: it then is as good as its name.
    pub(super) fn is_everyday_of_one(&self, a: &Sign, b: &Sign, word: u32) -> bool {
        let is_plain = self.lexicon.word(word).bytes().all(|byte| byte.is_ascii_alphabetic());
        let mut owners = [a, b].into_iter().filter_map(|sign| self.owner_of_kind.get(sign.message as usize));
        is_plain && owners.any(|owner| self.everyday.contains(&(*owner, word)))
    }

    /// Whether two messages would share that word anyway: they are of one kind, or of one program that says it all the time.
    pub(super) fn is_said_anyway(&self, a: &Sign, b: &Sign, word: u32) -> bool {
        let owner = |sign: &Sign| self.owner_of_kind.get(sign.message as usize);
        let everyday = owner(a).filter(|owner| self.everyday.contains(&(**owner, word)));
        a.message == b.message && self.of_kind.contains(&(a.message, word))
            || everyday.is_some() && everyday == owner(b)
    }
}

/// Attributes that say where a line was written, not what about.
fn is_of_the_machine(name: &str) -> bool {
    const STARTS: [&str; 12] = [
        "host.",
        "thread.",
        "syslog.",
        "process.",
        "severity",
        "boxclock.",
        "log.",
        "code.",
        "service.",
        "level",
        "journal.",
        "source.",
    ];
    STARTS.iter().any(|start| name.starts_with(start)) || matches!(name, "pid" | "tid" | "caller" | "logger" | "func")
}

/// A message with what its attributes say.
pub(super) fn text_of(record: &Record) -> String {
    let mut text: String = record.body.lines().take(4).collect::<Vec<_>>().join(" ").chars().take(500).collect();
    let mut add = |name: &str, value: &Value| {
        let value = match value {
            Value::String(value) => value.clone(),
            Value::Number(value) => value.to_string(),
            _ => return,
        };
        // What the message says is not said again.
        if value.len() < 160 && !record.body.contains(value.as_str()) {
            text.push_str(&format!(" {name}={value}"));
        }
    };
    for (name, value) in record.attributes.iter().filter(|(name, _)| !is_of_the_machine(name)).take(24) {
        match value {
            Value::Object(inner) => inner.iter().for_each(|(name, value)| add(name, value)),
            value => add(name, value),
        }
    }
    text.chars().take(700).collect()
}

/// Messages of one kind from one log of one host.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
struct GroupKey {
    kind: u32,
    host: u32,
    log: u32,
}

struct Finder<'a> {
    view: &'a CaseView,
    work: &'a Work,
    reader: RecordReader,
    /// Whether the components of each source are programs.
    shared: Vec<bool>,
    signs: Signs,
    taken: HashSet<Row>,
    count_of_kind: Vec<usize>,
    /// How many of each kind came while all was well.
    while_well: Vec<usize>,
    /// The accounts of people.
    accounts: HashSet<String>,
}

/// The signs of a case. `forms` are the forms of all messages, see [`super::kinds::form_of`].
pub(super) fn find(view: &CaseView, forms: &Pieces<'_, Vec<u32>>, work: &Work) -> Result<Signs> {
    let shared =
        view.case.sources.iter().map(|source| source.reader.lines().is_some_and(LineFormat::names_programs)).collect();
    let mut finder = Finder {
        view,
        work,
        reader: RecordReader::new(view.case.sources.clone()),
        shared,
        signs: Signs::default(),
        taken: HashSet::new(),
        count_of_kind: Vec::new(),
        while_well: Vec::new(),
        accounts: HashSet::new(),
    };
    let groups = finder.groups(forms)?;
    finder.spread_words(&groups)?;
    finder.lasting(&groups)?;
    finder.rare(&groups)?;
    finder.packages(&groups)?;
    finder.named(&groups)?;
    finder.unfinished_installations()?;
    finder.done_by_people();
    Ok(finder.finish())
}

impl Finder<'_> {
    fn event(&self, row: Row) -> EventRef<'_> {
        self.view.loaded.table.event(row)
    }

    fn record(&mut self, row: Row) -> Record {
        let table = &self.view.loaded.table;
        self.reader.record(table.event(row))
    }

    /// Adds a message, unless it is a sign already.
    fn add(&mut self, row: Row, group: GroupKey, kind: SignKind, shift: Option<String>, until: Option<i64>) {
        if !self.taken.insert(row) {
            return;
        }
        let record = self.record(row);
        let text = text_of(&record);
        let event = self.event(row);
        let Some(time) = event.time() else { return };
        let is_plain = kind == SignKind::Once && shift.is_none();
        let own =
            is_plain.then(|| differs_from_its_own_past(&slots(&record, |name| !is_of_the_machine(name)))).flatten();
        let (kind, shift, until) = match own {
            Some(own) => (SignKind::Shift, Some(own), Some(time.saturating_add(DAY))),
            None => (kind, shift, until),
        };
        let (source, host, severity) = (event.source(), event.actor().host, event.severity().0);
        let component = event.component().to_owned();
        let (change, class) = match wording::change(&text) {
            (_, Class::None) => wording::change_by(&component),
            // What goes on from then on is no single act.
            (_, Class::Done) if kind != SignKind::Once => (0.0, Class::None),
            other => other,
        };
        let log = (!self.shared[source]).then(|| self.view.case.sources[source].name.as_str());
        let identity = words::identity(&component, log);
        let mut words = words::words_of(&text);
        words::leave_out_loggers(&mut words, &identity);
        let lexicon = &mut self.signs.lexicon;
        self.signs.list.push(Sign {
            row,
            time,
            until: until.unwrap_or(time),
            host,
            source,
            kind,
            shift,
            words: lexicon.ids(words),
            identity: lexicon.ids(identity),
            objects: lexicon.ids(words::objects_of(&text)),
            message: group.kind,
            count: self.count_of_kind[group.kind as usize],
            while_well: self.while_well[group.kind as usize],
            bad: wording::badness(&text, severity),
            change,
            class,
            leads_to: wording::can_lead_to(&text),
            effects: wording::is_effect(&text),
            moved: false,
            component,
            text,
        });
    }

    /// Kinds that are new and stay, and values that change for good.
    fn lasting(&mut self, groups: &[(GroupKey, Vec<Row>)]) -> Result<()> {
        let time = |finder: &Self, row: Row| finder.event(row).time().unwrap_or_default();
        let mut spans: HashMap<(u32, u32), (i64, i64)> = HashMap::new();
        for (key, rows) in groups {
            if let (Some(first), Some(last)) = (rows.first(), rows.last()) {
                let (first, last) = (time(self, *first), time(self, *last));
                let span = spans.entry((key.host, key.log)).or_insert((first, last));
                *span = (span.0.min(first), span.1.max(last));
            }
        }
        let mut budget = MOST_READ_FOR_SHIFTS;
        for (key, rows) in groups {
            self.work.check()?;
            let (Some(first_row), Some(last_row)) = (rows.first().copied(), rows.last().copied()) else { continue };
            let count = self.count_of_kind[key.kind as usize];
            let (first, last) = (time(self, first_row), time(self, last_row));
            let (begin, _) = spans[&(key.host, key.log)];
            if OF_A_JOB.contains(&rows.len()) && last.saturating_sub(first) >= DAY + 12 * HOUR {
                self.last_of_a_job(*key, rows, &mut budget);
            }
            // What people run is no message that lasts.
            if count <= RARE || self.record(first_row).body.contains("COMMAND=") {
                continue;
            }
            let quiet = first.saturating_sub(begin);
            let lasted = last.saturating_sub(first).saturating_add(MINUTE).max(MINUTE);
            let expected = rows.len() as f64 * quiet as f64 / lasted as f64;
            if rows.len() > RARE && quiet > 30 * MINUTE && expected > 6.0 {
                self.add(first_row, *key, SignKind::Onset, None, Some(last));
            }
            let looked_at = rows.len().min(MOST_OF_A_GROUP);
            if rows.len() >= 12 && looked_at <= budget {
                budget -= looked_at;
                self.shifts_of(*key, rows, last);
            }
        }
        Ok(())
    }

    /// The last run of a job that came, or said, what none before did. `budget` is how many records may still be read for that.
    fn last_of_a_job(&mut self, key: GroupKey, rows: &[Row], budget: &mut usize) {
        let times: Vec<i64> = rows.iter().filter_map(|row| self.event(*row).time()).collect();
        let (Some(last), [first_time, .., last_time]) = (rows.last().copied(), times.as_slice()) else { return };
        let moved = moved_in_day(&times);
        // Once or twice a day, not some in a row.
        let is_daily = rows.len() as i64 <= 2 * (last_time.saturating_sub(*first_time) / DAY) + 2;
        if (moved.is_none() && !is_daily) || rows.len() > *budget {
            return;
        }
        *budget -= rows.len();
        // What people run is no job.
        if self.record(last).body.contains("COMMAND=") {
            return;
        }
        let until = last_time.saturating_add(DAY);
        if let Some(moved) = moved {
            let way = if moved > 0 { "later" } else { "earlier" };
            let (apart, before) = (duration_text(moved.abs()), times.len() - 1);
            let what = format!("it came {apart} {way} in the day than the {before} times before");
            self.add(last, key, SignKind::Shift, Some(what), Some(until));
            // Its hour is that of a clock or of a schedule.
            if let Some(sign) = self.signs.list.last_mut().filter(|sign| sign.row == last) {
                sign.effects |= wording::effect_of("clock") | wording::effect_of("schedule");
                sign.moved = true;
            }
        } else {
            let messages: Vec<_> =
                rows.iter().map(|row| slots(&self.record(*row), |name| !is_of_the_machine(name))).collect();
            // What a program says when it starts are its settings, numbers too.
            let is_start = wording::change(&text_of(&self.record(last))).1 == Class::Start;
            let fewest = if is_start { FEWEST_STARTS } else { FEWEST_USUAL };
            if let Some((what, is_setting)) = last_differs(&messages, fewest) {
                self.add(last, key, SignKind::Shift, Some(what), Some(until));
                // Who says another setting than ever before was changed.
                if let Some(sign) =
                    self.signs.list.last_mut().filter(|sign| sign.row == last && (is_setting || is_start))
                {
                    (sign.change, sign.class) = (f64::max(sign.change, CHANGED_SETTING), Class::Change);
                }
            }
        }
    }

    fn shifts_of(&mut self, key: GroupKey, rows: &[Row], last: i64) {
        let step = rows.len().div_ceil(MOST_OF_A_GROUP).max(1);
        let looked_at: Vec<usize> = (0..rows.len()).step_by(step).collect();
        let messages: Vec<_> =
            looked_at.iter().map(|at| slots(&self.record(rows[*at]), |name| !is_of_the_machine(name))).collect();
        for shift in shifts(&messages) {
            // Between what was looked at before and here.
            let (from, to) = (looked_at[shift.at.saturating_sub(1)] + 1, looked_at[shift.at]);
            let first = (from..to)
                .find(|at| shift.is_after(&slots(&self.record(rows[*at]), |name| !is_of_the_machine(name))))
                .unwrap_or(to);
            self.add(rows[first], key, SignKind::Shift, Some(shift.what), Some(last));
        }
    }

    /// Kinds that come at most a few times.
    fn rare(&mut self, groups: &[(GroupKey, Vec<Row>)]) -> Result<()> {
        for (key, rows) in groups {
            self.work.check()?;
            let count = self.count_of_kind[key.kind as usize];
            let of_few = count <= RARE || (count <= 400 && rows.len() <= 2);
            for row in rows.iter().take(8) {
                if of_few || count <= 8 && wording::change(&text_of(&self.record(*row))).0 >= 0.9 {
                    self.add(*row, *key, SignKind::Once, None, None);
                }
            }
        }
        Ok(())
    }

    /// Packages that come, go, and stay half way.
    fn packages(&mut self, groups: &[(GroupKey, Vec<Row>)]) -> Result<()> {
        let mut all: Vec<(Row, GroupKey, String, String)> = Vec::new();
        let mut last: HashMap<(u32, String), Row> = HashMap::new();
        for (key, rows) in groups {
            self.work.check()?;
            let Some(first) = rows.first() else { continue };
            if rows.len() > 20_000 || !self.record(*first).attributes.contains_key("package.name") {
                continue;
            }
            for row in rows {
                let record = self.record(*row);
                let text =
                    |name: &str| record.attributes.get(name).and_then(Value::as_str).unwrap_or_default().to_owned();
                let (action, state, name) = (text("package.action"), text("package.state"), text("package.name"));
                let newest = last.entry((key.host, name)).or_insert(*row);
                if self.event(*newest).order_time() <= self.event(*row).order_time() {
                    *newest = *row;
                }
                all.push((*row, *key, action, state));
            }
        }
        let last: HashSet<Row> = last.into_values().collect();
        for (row, key, action, state) in all {
            let is_step = matches!(action.as_str(), "install" | "upgrade" | "remove" | "purge");
            if is_step || action == "status" && (state == "installed" || last.contains(&row)) {
                self.add(row, key, SignKind::Package, None, None);
            }
        }
        Ok(())
    }

    /// Trouble that names what the story names, or the address or file that the trouble found so far names.
    fn named(&mut self, groups: &[(GroupKey, Vec<Row>)]) -> Result<()> {
        let kinds = self.signs.kinds.max(super::link::FEWEST_KINDS) as f64;
        let affected = self.signs.lexicon.ids(words::words_of(&self.view.case.story.affected));
        let is_telling = |lexicon: &Lexicon, id: u32| {
            let spread = f64::from(lexicon.spread[id as usize]);
            spread > 0.0 && (kinds / spread).ln() > 2.5
        };
        let mut wanted: HashSet<u32> = affected.into_iter().filter(|id| is_telling(&self.signs.lexicon, *id)).collect();
        let from = super::told_at(self.view).saturating_sub(48 * HOUR);
        for sign in self.signs.list.iter().filter(|sign| sign.bad >= 0.5 && sign.time > from) {
            if sign.kind != SignKind::Onset && !sign.words.iter().any(|id| wanted.contains(id)) {
                continue;
            }
            let lexicon = &self.signs.lexicon;
            let places = sign.words.iter().filter(|id| {
                let word = lexicon.word(**id);
                let is_port = word.split_once(':').is_some_and(|(address, port)| {
                    address.matches('.').count() == 3
                        && !port.is_empty()
                        && port.bytes().all(|byte| byte.is_ascii_digit())
                });
                (is_port || word.matches('/').count() > 1) && is_telling(lexicon, **id)
            });
            wanted.extend(places.copied().collect::<Vec<_>>());
        }
        let mut done: HashSet<(u32, u32)> = HashSet::new();
        let mut budget = MOST_SEARCHED;
        for (key, rows) in groups {
            self.work.check()?;
            let Some(first) = rows.first().copied() else { continue };
            let record = self.record(first);
            let is_bad = wording::badness(&record.body, self.event(first).severity().0) >= 0.5;
            if self.count_of_kind[key.kind as usize] <= RARE || !is_bad {
                continue;
            }
            for row in rows {
                if budget == 0 {
                    break;
                }
                if self.event(*row).time().is_none_or(|time| time < from) {
                    continue;
                }
                budget -= 1;
                let text = text_of(&self.record(*row));
                let ids = self.signs.lexicon.ids(words::words_of(&text));
                let names: Vec<u32> = ids.into_iter().filter(|id| wanted.contains(id)).collect();
                let mut is_new = false;
                for id in names {
                    is_new |= done.insert((key.kind, id));
                }
                if is_new {
                    self.add(*row, *key, SignKind::Named, None, None);
                }
            }
        }
        Ok(())
    }

    /// What an installation that failed, or waits for a restart, says of what it left behind is a change that was not carried
    /// through, and so is its first failure.
    fn unfinished_installations(&mut self) -> Result<()> {
        let runs = self.view.run(&InstallAnalysis, self.work)?;
        let unfinished: Vec<_> =
            runs.iter().filter(|run| !matches!(run.outcome, Outcome::Succeeded | Outcome::Running)).collect();
        let (table, sources) = (&self.view.loaded.table, &self.view.case.sources);
        for sign in self.signs.list.iter_mut().filter(|_| !unfinished.is_empty()) {
            let source = sources[sign.source].name.as_str();
            // Runs tell the lines of the file, also of one that is decoded.
            let line = self.reader.place(table.event(sign.row)).line;
            let is_left_behind = unfinished.iter().any(|run| {
                let failure = run.first_failure.as_ref().map(|failure| &failure.place);
                let is_inside = source == run.source && (run.line..=run.last_line).contains(&line);
                failure.is_some_and(|place| place.source == source && place.line == line)
                    || is_inside && sign.class == Class::Incomplete
            });
            if is_left_behind {
                (sign.change, sign.class) = (1.0, Class::Incomplete);
            }
        }
        Ok(())
    }

    /// What comes once and a person did is a change, whatever its words.
    fn done_by_people(&mut self) {
        let programs: HashSet<u32> = self.signs.list.iter().flat_map(|sign| sign.identity.iter().copied()).collect();
        let lexicon = &self.signs.lexicon;
        let is_program = |name: &str| lexicon.known(name).is_some_and(|id| programs.contains(&id));
        for sign in &mut self.signs.list {
            let is_told_apart =
                sign.kind != SignKind::Once || !matches!(sign.class, Class::None | Class::Done) || sign.bad >= 0.5;
            if !is_told_apart && people::was_done_by_one(&sign.text, &self.accounts, is_program) {
                (sign.change, sign.class) = (DONE_BY_A_PERSON, Class::Deed);
            }
        }
    }

    fn finish(mut self) -> Signs {
        let told = super::told_at(self.view);
        let signs = &mut self.signs;
        signs.list.retain(|sign| sign.time <= told.saturating_add(MINUTE));
        if signs.list.len() > MOST_SIGNS {
            // What can be a root or an effect first.
            let weight = |sign: &Sign| {
                let lasts = matches!(sign.kind, SignKind::Onset | SignKind::Shift | SignKind::Named);
                sign.change.max(sign.bad) + if lasts { 0.5 } else { 0.0 } + 1.0 / sign.count.max(1) as f64
            };
            signs.list.sort_by(|a, b| weight(b).total_cmp(&weight(a)).then(a.time.cmp(&b.time)));
            signs.list.truncate(MOST_SIGNS);
        }
        signs.list.sort_by_key(|sign| (sign.time, sign.row));
        let hosts = self.view.loaded.table.hosts.iter();
        let named = hosts.map(|host| (host.len() > 2).then(|| signs.lexicon.id(&host.to_lowercase())));
        let named: Vec<_> = named.collect();
        signs.hosts = named;
        let known = self.accounts.iter().filter_map(|account| signs.lexicon.known(account));
        signs.people = known.collect();
        self.signs
    }
}
