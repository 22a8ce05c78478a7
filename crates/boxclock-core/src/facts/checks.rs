//! Declarative checks over facts: TOML data that says what is worth a finding, why, and what to do.
//!
//! ```toml
//! [[check]]
//! name = "volume-nearly-full"
//! level = "critical"
//! title = "A volume is nearly full"
//! each = "volumes"
//! when = ["used_percent >= 95"]
//! evidence = "{mount} is {used_percent} % full"
//! reason = "Writes fail soon, and logs stop first."
//! advice = "Free space there, or enlarge it."
//! ```
//!
//! A condition is `FIELD OP VALUE`, with the operators `=` `!=` `<` `<=` `>` `>=` for numbers and texts, `~` (contains), `in`
//! (a list with commas), `older-than` (a duration, `3y`), `before` and `after` (a time, or `window`: what was gathered for, else
//! when the facts were gathered), and `FIELD present` or `FIELD missing`. All of a check's conditions must hold for the
//! same object.

use std::path::PathBuf;

use serde::{Deserialize, Serialize};
use serde_json::Value;

use super::Facts;
use super::restart::RestartAnalysis;
use crate::analysis::CaseView;
use crate::case::Case;
use crate::clock::{DAY, human};
use crate::gather::{Window, time_of};
use crate::source::Class;
use crate::work::Work;
use crate::{Error, Result, platform};

/// How bad a finding is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Level {
    /// Explains or causes failures.
    Critical,
    /// Should be mended.
    Warning,
    /// Worth knowing.
    Note,
}

impl Level {
    /// The word of the JSON contract.
    pub fn word(self) -> &'static str {
        if self == Self::Note { "info" } else { self.name() }
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Critical => "critical",
            Self::Warning => "warning",
            Self::Note => "note",
        }
    }
}

/// One check.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Check {
    /// Its name.
    pub name: String,
    /// How bad it is.
    pub level: Level,
    /// What is found, in one line.
    pub title: String,
    /// The fact: an object, or a list of which each is looked at.
    pub each: String,
    /// All of these must hold.
    pub when: Vec<String>,
    /// What was seen, with `{field}` of the object.
    pub evidence: String,
    /// Why that matters.
    pub reason: String,
    /// What to do.
    pub advice: String,
}

/// What a check found.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Finding {
    /// The host.
    pub host: String,
    /// How bad it is.
    pub level: Level,
    /// The check.
    pub check: String,
    /// What, in one line.
    pub title: String,
    /// What was seen.
    pub evidence: String,
    /// The file of the case that it was seen in.
    pub file: String,
    /// The line there, from 1.
    pub line: usize,
    /// More of the evidence: files of the case, with lines from 1.
    #[serde(skip)]
    pub more: Vec<(String, usize)>,
    /// Why it matters.
    pub reason: String,
    /// What to do, a step a line.
    pub advice: String,
}

impl Finding {
    /// As the JSON contract of `findings` has it.
    pub fn json(&self) -> serde_json::Value {
        let from = match self.check.as_str() {
            "crash" => "crash",
            "install" => "install",
            "restart-asked-for" => "code",
            "card" => "card",
            "knot" | "silence" => "pattern",
            "resource-full" | "resource-growing" => "counter",
            "clock" => "clock",
            _ => "check",
        };
        let first = std::iter::once((&self.file, self.line));
        let evidence: Vec<serde_json::Value> = first
            .chain(self.more.iter().map(|(file, line)| (file, *line)))
            .map(|(file, line)| serde_json::json!({"source": file, "line": line}))
            .collect();
        serde_json::json!({
            "level": self.level.word(), "what": self.title, "advice": self.advice.lines().collect::<Vec<_>>(), "host": self.host, "from": from, "check": self.check,
            "evidence": evidence, "seen": self.evidence, "reason": self.reason,
        })
    }
}

/// The checks that can be run, and what is wrong with others.
#[derive(Clone, Debug, Default)]
pub struct Checks {
    /// Good ones.
    pub good: Vec<Check>,
    /// File and mistake, with line and column.
    pub wrong: Vec<(String, String)>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct CheckFile {
    check: Vec<Check>,
}

const SHIPPED: &str = include_str!("checks/machine.toml");

#[derive(Clone, Debug, PartialEq)]
enum Op {
    Is(String),
    IsNot(String),
    Number(&'static str, f64),
    Contains(String),
    In(Vec<String>),
    OlderThan(i64),
    Before(Moment),
    After(Moment),
    Present,
    Missing,
}

#[derive(Clone, Copy, Debug, PartialEq)]
enum Moment {
    Window,
    At(i64),
}

fn condition(text: &str) -> Result<(String, Op)> {
    let wrong =
        || Error::new(format!("\"{text}\" is not a condition: write FIELD OP VALUE, for example used_percent >= 95"));
    let mut words = text.splitn(3, ' ');
    let (Some(field), Some(op)) = (words.next(), words.next()) else { return Err(wrong()) };
    let value = words.next().unwrap_or_default().trim();
    let op = match op {
        "present" | "missing" if value.is_empty() => {
            if op == "present" {
                Op::Present
            } else {
                Op::Missing
            }
        }
        _ if value.is_empty() => return Err(wrong()),
        "=" => Op::Is(value.to_owned()),
        "!=" => Op::IsNot(value.to_owned()),
        "<" | "<=" | ">" | ">=" => {
            let op = ["<", "<=", ">", ">="].into_iter().find(|known| *known == op).unwrap_or("<");
            Op::Number(op, value.parse().map_err(|_| wrong())?)
        }
        "~" => Op::Contains(value.to_lowercase()),
        "in" => Op::In(value.split(',').map(|item| item.trim().to_owned()).collect()),
        "older-than" => Op::OlderThan(age(value).ok_or_else(wrong)?),
        "before" => Op::Before(moment(value).ok_or_else(wrong)?),
        "after" => Op::After(moment(value).ok_or_else(wrong)?),
        _ => return Err(wrong()),
    };
    Ok((field.to_owned(), op))
}

/// A duration that may be in years.
fn age(text: &str) -> Option<i64> {
    match text.strip_suffix('y').map(str::parse::<i64>) {
        Some(Ok(years)) => years.checked_mul(365 * DAY + DAY / 4),
        _ => human::duration(text).ok(),
    }
}

fn moment(text: &str) -> Option<Moment> {
    if text == "window" { Some(Moment::Window) } else { time_of(text).map(Moment::At) }
}

/// When facts were gathered, and what they were gathered for.
#[derive(Clone, Copy)]
struct Times {
    gathered: i64,
    window: Window,
}

impl Op {
    fn holds(&self, value: Option<&Value>, times: Times) -> bool {
        let value = value.filter(|value| !value.is_null());
        match self {
            Self::Present => return value.is_some(),
            Self::Missing => return value.is_none(),
            _ => {}
        }
        let Some(value) = value else { return false };
        let text = text_of(value);
        let time = || value.as_str().and_then(time_of);
        match self {
            Self::Present | Self::Missing => false,
            Self::Is(wanted) => text == *wanted,
            Self::IsNot(wanted) => text != *wanted,
            Self::Contains(wanted) => text.to_lowercase().contains(wanted),
            Self::In(list) => list.contains(&text),
            Self::Number(op, wanted) => value.as_f64().is_some_and(|number| match *op {
                "<" => number < *wanted,
                "<=" => number <= *wanted,
                ">" => number > *wanted,
                _ => number >= *wanted,
            }),
            Self::OlderThan(age) => time().is_some_and(|time| times.gathered.saturating_sub(time) > *age),
            Self::Before(Moment::At(at)) => time().is_some_and(|time| time < *at),
            Self::After(Moment::At(at)) => time().is_some_and(|time| time > *at),
            Self::Before(Moment::Window) => time().is_some_and(|time| time < times.window.to),
            Self::After(Moment::Window) => time().is_some_and(|time| time > times.window.from),
        }
    }
}

fn text_of(value: &Value) -> String {
    value.as_str().map_or_else(|| value.to_string(), str::to_owned)
}

/// Puts the fields of an object into a text with `{field}`.
fn fill_in(text: &str, object: &Value) -> String {
    let mut filled = String::new();
    let mut rest = text;
    while let Some((before, after)) = rest.split_once('{') {
        filled.push_str(before);
        let Some((field, behind)) = after.split_once('}') else { break };
        let value = object.get(field).map_or_else(|| "unknown".to_owned(), text_of);
        // Times as people read them; a date alone where no time of day is known.
        let time = value.strip_suffix(".000000000Z").or_else(|| value.strip_suffix('Z'));
        match time.filter(|_| time_of(&value).is_some()) {
            Some(time) => match time.strip_suffix("T00:00:00") {
                Some(date) => filled.push_str(date),
                None => filled.push_str(&format!("{} UTC", time.replace('T', " "))),
            },
            None => filled.push_str(&value),
        }
        rest = behind;
    }
    filled.push_str(rest);
    filled
}

impl Checks {
    /// Those that ship with the program and those of the user.
    pub fn load() -> Self {
        let mut checks = Self::shipped();
        for (file, text) in Self::folder().map_or(Vec::new(), |folder| platform::toml_texts(&folder)) {
            match text {
                Ok(text) => checks.add(&file, &text),
                Err(error) => checks.wrong.push((file, error.to_string())),
            }
        }
        checks
    }

    /// The user's folder of checks.
    pub fn folder() -> Option<PathBuf> {
        platform::config_dir().map(|folder| folder.join("checks"))
    }

    /// Those that ship with the program.
    pub fn shipped() -> Self {
        let mut checks = Self::default();
        checks.add("machine.toml", SHIPPED);
        checks
    }

    /// Adds the checks of a file; one with the name of another takes its place.
    pub fn add(&mut self, file: &str, text: &str) {
        let parsed: std::result::Result<CheckFile, _> = toml::from_str(text);
        let parsed = match parsed {
            Ok(parsed) => parsed.check,
            Err(error) => return self.wrong.push((file.to_owned(), error.to_string().trim_end().to_owned())),
        };
        for check in parsed {
            if let Some((text_of_it, error)) =
                check.when.iter().find_map(|text| condition(text).err().map(|error| (text, error)))
            {
                let at = text.find(text_of_it.as_str()).unwrap_or(0);
                let line = text[..at].matches('\n').count() + 1;
                self.wrong.push((file.to_owned(), format!("line {line}: {error}")));
                continue;
            }
            self.good.retain(|other| other.name != check.name);
            self.good.push(check);
        }
    }
}

/// Where an object of a fact stands in the JSON as this program writes it.
fn line_of(json: &str, each: &str, index: usize) -> usize {
    let head = format!("  \"{each}\": ");
    let mut lines = json.lines().enumerate().skip_while(|(_, line)| !line.starts_with(&head));
    let Some((start, line)) = lines.next() else { return 1 };
    if line.ends_with('{') {
        return start + 1;
    }
    lines.filter(|(_, line)| *line == "    {").nth(index).map_or(start + 1, |(number, _)| number + 1)
}

/// Runs checks over the facts of a host.
fn run(
    checks: &[Check],
    facts: &Facts,
    json: &str,
    (host, file): (&str, &str),
    window: Option<Window>,
) -> Vec<Finding> {
    let gathered = time_of(&facts.gathered).unwrap_or(0);
    let window = window.unwrap_or(Window { from: gathered, to: gathered });
    let times = Times { gathered, window };
    let mut findings = Vec::new();
    for check in checks {
        let conditions: Vec<(String, Op)> = check.when.iter().filter_map(|text| condition(text).ok()).collect();
        let objects: Vec<&Value> = match facts.facts.get(&check.each) {
            Some(Value::Array(list)) => list.iter().collect(),
            Some(object) => vec![object],
            None => continue,
        };
        for (index, object) in objects.into_iter().enumerate() {
            if conditions.iter().all(|(field, op)| op.holds(object.get(field), times)) {
                findings.push(Finding {
                    host: host.to_owned(),
                    level: check.level,
                    check: check.name.clone(),
                    title: check.title.clone(),
                    evidence: fill_in(&check.evidence, object),
                    file: file.to_owned(),
                    line: line_of(json, &check.each, index),
                    more: Vec::new(),
                    reason: check.reason.clone(),
                    advice: check.advice.clone(),
                });
            }
        }
    }
    findings
}

/// Files of facts that could not be read: each with what is wrong.
pub type Unread = Vec<(String, String)>;

/// All that is found in a case, worst first: by checks of its facts, and restarts that were asked for. With what could not be
/// read.
///
/// # Errors
/// When cancelled.
pub fn all_findings(view: &CaseView, checks: &Checks, work: &Work) -> Result<(Vec<Finding>, Unread)> {
    let (mut findings, wrong) = findings(&view.case, checks);
    findings.extend(view.run(&RestartAnalysis, work)?.iter().cloned());
    findings.extend(super::found::findings(view, work)?);
    findings.sort_by_key(|finding| finding.level);
    Ok((findings, wrong))
}

/// Runs checks over all facts of a case, worst first; with what could not be read.
pub fn findings(case: &Case, checks: &Checks) -> (Vec<Finding>, Vec<(String, String)>) {
    const MOST_BYTES: u64 = 256 << 20;
    let window = case.seal.as_ref().and_then(|seal| seal.window.as_ref()?.window());
    let mut all = Vec::new();
    let mut wrong = Vec::new();
    let of_facts = |name: &str| name.rsplit('/').next() == Some(super::FACTS_NAME);
    for document in case.documents.iter().filter(|document| document.class == Class::Facts && of_facts(&document.name))
    {
        if document.len_bytes > MOST_BYTES {
            wrong.push((document.name.clone(), format!("larger than {} MiB", MOST_BYTES >> 20)));
            continue;
        }
        let read = std::fs::read_to_string(&document.path).map_err(|error| error.to_string());
        let facts = read.and_then(|json| match serde_json::from_str::<Facts>(&json) {
            Ok(facts) => Ok((facts, json)),
            Err(error) => Err(error.to_string()),
        });
        match facts {
            Ok((facts, json)) => {
                all.extend(run(&checks.good, &facts, &json, (&document.host, &document.name), window));
            }
            Err(reason) => wrong.push((document.name.clone(), reason)),
        }
    }
    all.sort_by(|a: &Finding, b| (a.level, &a.host, &a.check).cmp(&(b.level, &b.host, &b.check)));
    (all, wrong)
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn found(name: &str, fact: Value, window: Option<Window>) -> Vec<(String, String, usize)> {
        let mut facts = Facts::new("live", time_of("2026-04-12T06:00:00Z").unwrap());
        facts.set(name, fact);
        let json = facts.to_json();
        let checks = Checks::shipped();
        assert_eq!(checks.wrong, []);
        let found = run(&checks.good, &facts, &json, ("gw", "hosts/gw/facts.json"), window);
        found.into_iter().map(|finding| (finding.check, finding.evidence, finding.line)).collect()
    }

    #[test]
    fn what_the_shipped_checks_find() {
        let volumes = json!([{"mount": "/", "used_percent": 40.5}, {"mount": "/srv", "used_percent": 97.1}]);
        // {, version, gathered, from, volumes, two objects of four lines each: the second starts at line 10.
        assert_eq!(found("volumes", volumes, None), [("volume-nearly-full".into(), "/srv is 97.1 % full".into(), 10)]);
        let drivers = json!([
            {"name": "bridge.sys", "version": "2.3.4.5", "date": "2016-03-15T00:00:00Z"},
            {"name": "new.sys", "date": "2025-03-15T00:00:00Z"},
            {"name": "unknown.sys"}
        ]);
        let old = found("modules", drivers, None);
        assert_eq!(old.len(), 1, "{old:?}");
        assert_eq!((old[0].0.as_str(), old[0].1.as_str()), ("old-driver", "bridge.sys 2.3.4.5 is from 2016-03-15"));
        assert_eq!(found("time", json!({"in_step": false, "service_on": true}), None)[0].0, "time-not-in-step");
        assert_eq!(found("time", json!({"in_step": true}), None), []);
        let shop =
            json!([{"subject": "CN=gw", "issuer": "CN=Tank CA", "issuer_in_store": false, "path": "etc/gw.crt"}]);
        assert_eq!(found("certificates", shop, None)[0].0, "certificate-issuer-unknown");
        let plug_ins = json!([{"name": "kelp.so", "package": "none", "path": "opt/x/kelp.so"}, {"name": "own.so", "package": "x"}]);
        assert_eq!(found("plug_ins", plug_ins, None).len(), 1);
        let limits =
            json!([{"name": "vm.max_map_count", "value": 1000}, {"name": "net.core.somaxconn", "value": 4096}]);
        assert_eq!(found("limits", limits, None)[0].0, "few-memory-maps");
        assert_eq!(found("restart", json!({"needed": true, "reasons": ["x"]}), None)[0].0, "restart-needed");
        assert_eq!(found("processes", json!([{"name": "chronyd", "count": 2}]), None)[0].0, "second-instance");
        assert_eq!(
            found("services", json!([{"name": "dosingd.service", "active": "failed"}]), None)[0].0,
            "service-failed"
        );
    }

    #[test]
    fn certificates_are_judged_at_the_moment_of_the_case() {
        let time = |text: &str| time_of(text).unwrap();
        let certificate = json!([{"subject": "CN=dose-gw", "not_before": "2026-04-12T02:00:00Z", "not_after": "2026-04-12T04:00:00Z"}]);
        let at = |from: &str, to: &str| {
            let window = Window { from: time(from), to: time(to) };
            found("certificates", certificate.clone(), Some(window)).into_iter().map(|row| row.0).collect::<Vec<_>>()
        };
        assert_eq!(at("2026-04-12T02:30:00Z", "2026-04-12T03:00:00Z"), Vec::<String>::new());
        assert_eq!(at("2026-04-12T01:30:00Z", "2026-04-12T03:00:00Z"), ["certificate-not-yet-valid"]);
        assert_eq!(at("2026-04-12T03:30:00Z", "2026-04-12T05:00:00Z"), ["certificate-expired"]);
    }

    #[test]
    fn mistakes_are_named() {
        let mut checks = Checks::default();
        let good = "[[check]]\nname = \"x\"\nlevel = \"note\"\ntitle = \"t\"\neach = \"volumes\"\nwhen = [\"size > 5\"]\nevidence = \"e\"\nreason = \"r\"\nadvice = \"a\"\n";
        checks.add("good.toml", good);
        checks.add("op.toml", &good.replace("size > 5", "size => 5"));
        checks.add("level.toml", &good.replace("note", "bad"));
        assert_eq!(checks.good.len(), 1);
        assert!(checks.wrong[0].1.starts_with("line 6: \"size => 5\" is not a condition"), "{:?}", checks.wrong);
        assert!(checks.wrong[1].1.contains("line 3, column 9"), "{:?}", checks.wrong);
    }
}
