//! `csv` and `event-csv`: tables with a line of column names, parted by commas, semicolons, tabs or bars.
//!
//! Source of the syntax: RFC 4180 (quotes, doubled quotes, line breaks inside quotes). What a column means is guessed
//! from its name. A table with a column for the level and one for the event's number, as the event viewers of Windows
//! export it, is `event-csv`; PostgreSQL's csvlog has no line of names and is known by its fixed columns (the server's
//! documentation, "Using CSV-Format Log Output"). A record starts where its time column reads as a time: lines inside
//! quoted values do not.

use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::{LazyLock, Mutex};

use serde_json::Value;

use super::json_lines::Role;
use super::word::number;
use super::{Fit, Head, Hint, LineFormat, Record, Settled, body_text, postgres_text};
use crate::clock::forms::{self, DateOrder, Evidence};
use crate::clock::{Civil, Stamp, scan};
use crate::code::Family;
use crate::severity::Severity;

/// A table with these columns. The registry's own has none and only recognises.
pub(super) struct Csv {
    kind: Kind,
    delimiter: u8,
    columns: Vec<String>,
    roles: Vec<Option<Role>>,
    /// The column of the time, and that of the time of day where the date stands apart.
    time: Option<(usize, Option<usize>)>,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Table,
    Events,
    Postgres,
}

/// Formats made for the columns that files have, so that equal files share one.
static MADE: LazyLock<Mutex<HashMap<String, &'static Csv>>> = LazyLock::new(Mutex::default);

/// The columns of the server's csvlog; older versions have fewer at the end.
const POSTGRES: &str = "log_time,user.name,db.namespace,process_id,client.address,db.session.id,db.session.line,\
db.operation.name,db.session.start,db.transaction.virtual_id,db.transaction.id,error_severity,db.response.status_code,\
message,db.error.detail,db.error.hint,db.error.internal_query,db.error.internal_query_position,db.error.context,\
db.query.text,db.error.query_position,db.error.location,db.client.application,db.backend.type,db.parallel.leader_pid,\
db.query.id";

/// The fields of a line; quotes are left on.
pub(super) struct Fields<'a> {
    rest: Option<&'a [u8]>,
    delimiter: u8,
}

pub(super) fn fields(line: &[u8], delimiter: u8) -> Fields<'_> {
    Fields { rest: Some(line), delimiter }
}

impl<'a> Iterator for Fields<'a> {
    type Item = &'a [u8];

    fn next(&mut self) -> Option<&'a [u8]> {
        let rest = self.rest?;
        let blanks = rest.iter().take_while(|byte| **byte == b' ').count();
        let end = if rest.get(blanks) == Some(&b'"') {
            let mut at = blanks + 1;
            loop {
                match memchr::memchr(b'"', rest.get(at..).unwrap_or_default()) {
                    // The quote is closed on a later line.
                    None => break rest.len(),
                    Some(quote) if rest.get(at + quote + 1) == Some(&b'"') => at += quote + 2,
                    Some(quote) => {
                        let after = at + quote + 1;
                        let more = memchr::memchr(self.delimiter, rest.get(after..).unwrap_or_default());
                        break more.map_or(rest.len(), |more| after + more);
                    }
                }
            }
        } else {
            memchr::memchr(self.delimiter, rest).unwrap_or(rest.len())
        };
        self.rest = rest.get(end + 1..).filter(|_| end < rest.len());
        rest.get(..end)
    }
}

/// A field without its quotes.
pub(super) fn bare(field: &[u8]) -> Cow<'_, [u8]> {
    let field = field.trim_ascii();
    let Some(inner) = field.strip_prefix(b"\"") else { return Cow::Borrowed(field) };
    let inner = inner.strip_suffix(b"\"").unwrap_or(inner);
    if !inner.contains(&b'"') {
        return Cow::Borrowed(inner);
    }
    Cow::Owned(String::from_utf8_lossy(inner).replace("\"\"", "\"").into_bytes())
}

/// What a column means by its name.
fn role(name: &str) -> Option<Role> {
    let plain: String = name.chars().filter(|letter| letter.is_alphanumeric()).flat_map(char::to_lowercase).collect();
    Some(match plain.as_str() {
        "time" | "timestamp" | "datetime" | "dateandtime" | "timecreated" | "timegenerated" | "timewritten"
        | "eventtime" | "logtime" | "date" | "datum" | "fecha" | "zeit" | "uhrzeit" | "hora" | "heure"
        | "zeitstempel" | "horodatage" | "ts" | "created" | "createdat" | "occurred" | "when" | "timeutc"
        | "datumunduhrzeit" | "dateetheure" | "timelocal" | "systemtime" => Role::Time,
        "level" | "severity" | "leveldisplayname" | "entrytype" | "loglevel" | "errorseverity" | "ebene" | "niveau"
        | "stufe" | "priority" => Role::Level,
        "message" | "msg" | "meldung" | "nachricht" | "mensaje" | "messaggio" | "text" | "description" | "body"
        | "details" | "renderedmessage" => Role::Message,
        "source" | "providername" | "provider" | "logger" | "component" | "module" | "program" | "process" | "app"
        | "application" | "sourcename" | "service" | "quelle" => Role::Component,
        "host" | "hostname" | "computer" | "machinename" | "machine" | "server" | "computername" => Role::Host,
        "pid" | "processid" => Role::Pid,
        "tid" | "threadid" => Role::Tid,
        _ => return None,
    })
}

fn is_event_number(name: &str) -> bool {
    let plain: String = name.chars().filter(|letter| letter.is_alphanumeric()).flat_map(char::to_lowercase).collect();
    matches!(plain.as_str(), "eventid" | "instanceid" | "ereignisid" | "id")
}

/// Whether a column holds the keywords of events, in the languages of the usual viewers.
fn is_keywords(name: &str) -> bool {
    let plain = name.trim_matches(['\u{FEFF}', '"']).trim().to_lowercase();
    matches!(
        plain.as_str(),
        "keywords" | "schlüsselwörter" | "mots clés" | "mots-clés" | "palabras clave" | "parole chiave" | "trefwoorden"
    )
}

/// What a column of an export of the event log is called as an attribute, as in the other forms of that log.
fn event_attribute(name: &str) -> &str {
    match name {
        "LogName" | "Log Name" | "Channel" => "event.channel",
        "RecordId" | "EventRecordID" => "event.record_id",
        "Task Category" | "TaskDisplayName" | "Task" => "event.task",
        "Keywords" => "event.keywords",
        "ActivityId" => "event.activity_id",
        "UserId" => "user.id",
        "OpcodeDisplayName" | "Opcode" => "event.opcode",
        "Version" => "event.version",
        other => other,
    }
}

impl Csv {
    /// The registry's entries.
    pub(super) const TABLE: Self = Self::empty(Kind::Table);
    pub(super) const EVENTS: Self = Self::empty(Kind::Events);

    const fn empty(kind: Kind) -> Self {
        Self { kind, delimiter: b',', columns: Vec::new(), roles: Vec::new(), time: None }
    }

    /// This format as one that lives as long as the program; equal ones are one.
    fn kept(self) -> &'static Self {
        let key = format!(
            "{} {} {} {:?} {:?}",
            self.kind as u8,
            self.delimiter,
            self.columns.join("\u{1F}"),
            self.roles,
            self.time
        );
        let mut made = MADE.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        made.entry(key).or_insert_with(|| Box::leak(Box::new(self)))
    }

    fn new(kind: Kind, delimiter: u8, columns: Vec<String>) -> Self {
        let mut roles: Vec<Option<Role>> = columns.iter().map(|name| role(name)).collect();
        if kind == Kind::Postgres {
            roles = columns
                .iter()
                .map(|name| match name.as_str() {
                    "log_time" => Some(Role::Time),
                    "process_id" => Some(Role::Pid),
                    "error_severity" => Some(Role::Level),
                    "message" => Some(Role::Message),
                    _ => None,
                })
                .collect();
        }
        let plain = |index: usize| columns.get(index).map(|name| name.trim().to_ascii_lowercase()).unwrap_or_default();
        let times: Vec<usize> =
            roles.iter().enumerate().filter(|(_, role)| **role == Some(Role::Time)).map(|(index, _)| index).collect();
        let named = |index: &usize, names: &[&str]| names.contains(&plain(*index).as_str());
        let date = times.iter().copied().find(|index| named(index, &["date", "datum", "fecha"]));
        let of_day = times.iter().copied().find(|index| named(index, &["time", "zeit", "uhrzeit", "hora", "heure"]));
        let time = match (date, of_day) {
            (Some(date), Some(time)) => Some((date, Some(time))),
            _ => times.iter().copied().find(|index| Some(*index) != date).or(date).map(|index| (index, None)),
        };
        // The export of the security log has no level: its keywords tell success from failure.
        if kind == Kind::Events && !roles.contains(&Some(Role::Level)) {
            let keywords = columns.iter().position(|name| is_keywords(name));
            if let Some(role) = keywords.and_then(|index| roles.get_mut(index)) {
                *role = Some(Role::Level);
            }
        }
        // Of several columns with a role only the first has it.
        let mut taken = Vec::new();
        for (index, role) in roles.iter_mut().enumerate() {
            let is_time = time.is_some_and(|(first, second)| index == first || Some(index) == second);
            match *role {
                Some(Role::Time) if !is_time => *role = None,
                Some(Role::Time) | None => {}
                Some(own) if taken.contains(&own) => *role = None,
                Some(own) => taken.push(own),
            }
        }
        Self { kind, delimiter, columns, roles, time }
    }

    /// Recognises a table by its first lines.
    fn recognise(lines: &[&[u8]], wanted: Kind) -> Option<Self> {
        if wanted == Kind::Table
            && let Some(found) = Self::postgres(lines)
        {
            return Some(found);
        }
        // Exports of shells start with a line of their own about the type of the objects.
        let header = lines.iter().take(3).find(|line| !line.starts_with(b"#TYPE ") && !line.starts_with(b"sep="))?;
        let text = std::str::from_utf8(header).ok()?;
        let delimiter = [b',', b';', b'\t', b'|']
            .into_iter()
            .max_by_key(|mark| (memchr::memchr_iter(*mark, header).count(), std::cmp::Reverse(*mark)))?;
        let columns: Vec<String> = fields(text.as_bytes(), delimiter)
            .map(|field| String::from_utf8_lossy(&bare(field)).trim().to_owned())
            .collect();
        let name_like = |name: &String| {
            !name.is_empty()
                && name.len() <= 64
                && !name.starts_with(|first: char| first.is_ascii_digit())
                && !name.contains(['=', '{'])
        };
        let distinct = columns.iter().collect::<std::collections::HashSet<_>>().len() == columns.len();
        if columns.len() < 3 || columns.len() > 256 || !columns.iter().all(name_like) || !distinct {
            return None;
        }
        let has = |role: Role| columns.iter().any(|name| self::role(name) == Some(role));
        let levelled = has(Role::Level) || columns.iter().any(|name| is_keywords(name));
        let events = levelled && columns.iter().any(|name| is_event_number(name)) && has(Role::Time);
        let kind = if events { Kind::Events } else { Kind::Table };
        (kind == wanted && (has(Role::Time) || columns.len() >= 4)).then(|| Self::new(kind, delimiter, columns))
    }

    fn postgres(lines: &[&[u8]]) -> Option<Self> {
        let names: Vec<String> = POSTGRES.split(',').map(str::to_owned).collect();
        let counts = lines.iter().take(20).filter_map(|line| {
            let list: Vec<&[u8]> = fields(line, b',').collect();
            let severity = list.get(11).is_some_and(|word| postgres_text::severity(&bare(word)).is_some());
            let timed = list.first().is_some_and(|time| scan::iso(time).is_some());
            (list.len() >= 14 && list.len() <= names.len() && severity && timed).then_some(())
        });
        (counts.count() > 0).then(|| Self::new(Kind::Postgres, b',', names))
    }

    fn civil(&self, list: &[&[u8]], order: DateOrder) -> Option<Stamp> {
        let (first, second) = self.time?;
        let first = bare(list.get(first)?);
        let text = match second {
            Some(second) => Cow::Owned([&*first, b" ", &*bare(list.get(second)?)].concat()),
            None => first,
        };
        time_of(&text, order)
    }

    fn list<'a>(&self, line: &'a [u8]) -> Vec<&'a [u8]> {
        let mut list = Vec::with_capacity(self.columns.len() + 1);
        list.extend(fields(line, self.delimiter).take(self.columns.len() + 1));
        list
    }

    fn severity(&self, word: &[u8]) -> Severity {
        if self.kind == Kind::Postgres {
            return postgres_text::severity(word).unwrap_or_default();
        }
        match word {
            // The worst level of the event log means that the system cannot go on.
            _ if self.kind == Kind::Events && level_word(word) == Severity::CRITICAL => Severity::FATAL,
            // Levels of the event log as numbers.
            b"1" if self.kind == Kind::Events => Severity::FATAL,
            b"2" if self.kind == Kind::Events => Severity::ERROR,
            b"3" if self.kind == Kind::Events => Severity::WARN,
            b"0" | b"4" if self.kind == Kind::Events => Severity::INFO,
            b"5" if self.kind == Kind::Events => Severity::DEBUG,
            _ => level_word(word),
        }
    }
}

/// A level word, also as the event viewers of Windows show it in other languages.
pub(crate) fn level_word(word: &[u8]) -> Severity {
    if let Some(severity) = Severity::from_word(word) {
        return severity;
    }
    let word = std::str::from_utf8(word).unwrap_or_default();
    // Capitals alone are as good as one.
    let capital = || {
        let mut letters = word.chars();
        letters.next().into_iter().chain(letters.flat_map(char::to_lowercase)).collect::<String>()
    };
    match if word.contains(' ') { word.to_owned() } else { capital() }.as_str() {
        "Informationen"
        | "Información"
        | "Informations"
        | "Informazioni"
        | "Informatie"
        | "Success Audit"
        | "SuccessAudit"
        | "Audit Success"
        | "Überwachung erfolgreich"
        | "0" => Severity::INFO,
        "Warnung"
        | "Avertissement"
        | "Advertencia"
        | "Avviso"
        | "Waarschuwing"
        | "Failure Audit"
        | "FailureAudit"
        | "Audit Failure"
        | "Überwachung gescheitert" => Severity::WARN,
        "Fehler" | "Erreur" | "Errore" | "Fout" => Severity::ERROR,
        "Kritisch" | "Critique" | "Crítico" | "Critico" | "Kritiek" => Severity::CRITICAL,
        "Ausführlich" | "Detallado" | "Verbos" => Severity::DEBUG,
        _ => Severity::NONE,
    }
}

/// A time in any form that stands alone in a field.
pub(super) fn time_of(text: &[u8], order: DateOrder) -> Option<Stamp> {
    let whole =
        |found: Option<(Civil, usize)>| found.filter(|(_, end)| text.len() < end + 12).map(|(civil, _)| civil.stamp());
    whole(forms::dated(text, order))
        .or_else(|| whole(forms::time_of_day(text)))
        .or_else(|| scan::epoch(text).map(|ns| Stamp::Utc(ns, 0)))
}

/// The roles that can be chosen, by the names of the JSON contract.
const ROLES: [(&str, Role); 7] = [
    ("time", Role::Time),
    ("level", Role::Level),
    ("body", Role::Message),
    ("component", Role::Component),
    ("host", Role::Host),
    ("pid", Role::Pid),
    ("tid", Role::Tid),
];

impl LineFormat for Csv {
    fn name(&self) -> &'static str {
        if self.kind == Kind::Events { "event-csv" } else { "csv" }
    }

    fn families(&self) -> &'static [Family] {
        if self.kind == Kind::Events { &[Family::Win32, Family::Hresult, Family::NtStatus] } else { &[] }
    }

    fn has_named_columns(&self) -> bool {
        true
    }

    fn holds_figures(&self) -> bool {
        true
    }

    fn columns(&self) -> Option<String> {
        let name = |index: &usize| self.columns.get(*index).map_or("", String::as_str);
        let mut parts = Vec::new();
        for (called, role) in ROLES {
            let of_role: Vec<usize> = match role {
                Role::Time => self.time.iter().flat_map(|(first, second)| [Some(*first), *second]).flatten().collect(),
                _ => (0..self.columns.len()).filter(|index| self.roles.get(*index) == Some(&Some(role))).collect(),
            };
            parts.extend(of_role.iter().map(|index| format!("{called} {}", name(index))));
        }
        (!self.columns.is_empty()).then(|| parts.join(", "))
    }

    fn with_columns(&self, chosen: &str) -> crate::Result<&'static dyn LineFormat> {
        let mut changed = Self {
            kind: self.kind,
            delimiter: self.delimiter,
            columns: self.columns.clone(),
            roles: self.roles.clone(),
            time: self.time,
        };
        let set = |changed: &mut Self, index: usize, role: Role| {
            changed.roles.get_mut(index).into_iter().for_each(|slot| *slot = Some(role));
        };
        let mut times = Vec::new();
        for part in chosen.split(',').map(str::trim).filter(|part| !part.is_empty()) {
            let (called, column) = part.split_once(' ').unwrap_or((part, ""));
            let role = ROLES.iter().find(|(name, _)| *name == called).map(|(_, role)| *role).ok_or_else(|| {
                let known = ROLES.map(|(name, _)| name).join(", ");
                crate::Error::new(format!(
                    "a column cannot be \"{called}\": write {known}, each with the name of a column"
                ))
            })?;
            let index = self.columns.iter().position(|name| name == column.trim()).ok_or_else(|| {
                crate::Error::new(format!("no column is called \"{column}\": there are {}", self.columns.join(", ")))
            })?;
            changed.roles.iter_mut().filter(|other| **other == Some(role)).for_each(|other| *other = None);
            set(&mut changed, index, role);
            if role == Role::Time {
                times.push(index);
            }
        }
        if let Some(first) = times.first() {
            changed.time = Some((*first, times.get(1).copied()));
            for index in times {
                set(&mut changed, index, Role::Time);
            }
        }
        Ok(changed.kept())
    }

    fn head<'a>(&self, line: &'a [u8], hint: Hint) -> Option<Head<'a>> {
        if self.columns.is_empty() {
            return None;
        }
        let list = self.list(line);
        let stamp = match self.time {
            Some(_) => self.civil(&list, DateOrder::from_bits(hint))?,
            None if list.len() == self.columns.len()
                && list.iter().zip(&self.columns).any(|(field, name)| *bare(field) != *name.as_bytes()) =>
            {
                Stamp::None
            }
            None => return None,
        };
        let mut head = Head { stamp, ..Head::default() };
        for (role, field) in self.roles.iter().zip(&list) {
            let Some(role) = role else { continue };
            match role {
                Role::Level | Role::PythonLevel | Role::OtelLevel => {
                    head.severity_text = bare(field);
                    head.severity = self.severity(&head.severity_text);
                }
                Role::Component => head.component = bare(field),
                Role::Host => head.host = bare(field),
                Role::Pid => head.pid = number(&bare(field)),
                Role::Tid => head.tid = number(&bare(field)),
                Role::Time | Role::Message => {}
            }
        }
        if self.kind == Kind::Postgres {
            head.component = Cow::Borrowed(b"postgres");
        }
        Some(head)
    }

    fn version(&self) -> u32 {
        2
    }

    fn keeps_leading_lines(&self) -> bool {
        self.kind == Kind::Postgres
    }

    fn record(&self, text: &str, _: Hint) -> Record {
        let text = text.trim_end_matches(['\r', '\n']);
        let list: Vec<String> = fields(text.as_bytes(), self.delimiter)
            .map(|field| String::from_utf8_lossy(&bare(field)).into_owned())
            .collect();
        let mut record = Record::default();
        let mut body = None;
        for (index, value) in list.iter().enumerate().filter(|(_, value)| !value.is_empty()) {
            let name = self.columns.get(index).map(String::as_str);
            match (self.roles.get(index).copied().flatten(), name) {
                (Some(Role::Message), _) => body = Some(value.clone()),
                (Some(Role::Level | Role::PythonLevel | Role::OtelLevel), name) => {
                    record.severity_text = Some(value.clone());
                    if name.is_some_and(is_keywords) {
                        record.attributes.insert("event.keywords".into(), Value::from(value.as_str()));
                    }
                }
                (Some(Role::Time | Role::Pid | Role::Tid | Role::Component), _) => {}
                (Some(Role::Host), _) => {
                    record.attributes.insert("host.name".into(), Value::from(value.as_str()));
                }
                (None, Some(name)) if self.kind == Kind::Events && is_event_number(name) => {
                    let number = value.parse::<u64>().map_or_else(|_| Value::from(value.as_str()), Value::from);
                    record.attributes.insert("event.id".into(), number);
                }
                (None, Some(name)) => {
                    let name = if self.kind == Kind::Events { event_attribute(name) } else { name };
                    record.attributes.insert(name.to_owned(), Value::from(value.as_str()));
                }
                // The viewer's export has a column more than names: the message.
                (None, None) => body = body.or_else(|| Some(value.clone())),
            }
        }
        record.body = body_text(&body.unwrap_or_else(|| text.to_owned()));
        record
    }

    fn settle(
        &self,
        samples: &[&[u8]],
        whole: &mut dyn Iterator<Item = Vec<u8>>,
        _: Hint,
        dates: Option<DateOrder>,
        _: i64,
    ) -> Option<Settled> {
        let (column, _) = self.time?;
        let date = |line: &[u8]| -> Option<Vec<u8>> { Some(bare(self.list(line).get(column)?).into_owned()) };
        let mut evidence = Evidence::default();
        samples.iter().filter_map(|line| date(line)).for_each(|text| evidence.take(&text));
        if !evidence.any() {
            return None;
        }
        if let Some(order) = dates {
            return Some(Settled { hint: order as Hint, dates: Some((order, false)), ..Settled::default() });
        }
        for line in whole {
            if evidence.certain().is_some() {
                break;
            }
            evidence.take(&date(&line).unwrap_or_default());
        }
        let (order, guessed) = evidence.order();
        let trouble = guessed
            .then(|| format!("nothing in the file tells day from month in its dates: they are read {}", order.name()));
        Some(Settled { hint: order as Hint, trouble, made: None, dates: Some((order, guessed)) })
    }

    fn fit(&self, lines: &[&[u8]]) -> Fit {
        let Some(made) = Self::recognise(lines, self.kind) else { return Fit::default() };
        let (heads, hint) = [DateOrder::DayFirst, DateOrder::MonthFirst, DateOrder::YearFirst]
            .into_iter()
            .map(|order| (lines.iter().filter(|line| made.head(line, order as Hint).is_some()).count(), order as Hint))
            .rev()
            .max_by_key(|(heads, _)| *heads)
            .unwrap_or_default();
        // A header over nothing is a table without rows; otherwise most lines outside quotes are rows.
        let whole = lines.iter().filter(|line| fields(line, made.delimiter).count() + 1 >= made.columns.len()).count();
        let good = heads > 0 && (heads * 3 >= lines.len() || heads * 10 >= whole * 8);
        if !good {
            return Fit::default();
        }
        Fit { heads: (heads + 1).min(lines.len()), hint, sure: made.kind != Kind::Table, made: Some(made.kept()) }
    }
}
