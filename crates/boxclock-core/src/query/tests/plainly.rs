//! Any filter against the plain way: every event is asked on its own.

use proptest::prelude::*;

use super::*;
use crate::clock::{DAY, MINUTE, SECOND};
use crate::event::{EventRef, RecordReader, Row};

const DAY_OF_CASE: i64 = 1_775_952_000 * SECOND; // 2026-04-12
const WORDS: [&str; 6] = ["heartbeat", "plan", "refused", "opening the plan", "tank 3", "Plan B"];
const LEVELS: [(&str, u8); 4] = [("DEBUG", 5), ("INFO", 9), ("WARN", 13), ("ERROR", 17)];
const COMPONENTS: [&str; 3] = ["dosing", "valves", "night"];
const HOSTS: [&str; 3] = ["pump-ctl", "dose-gw", "keeper-desk"];

/// What a filter asks for, as a tree of its own.
#[derive(Clone, Debug)]
enum Asks {
    LevelFrom(usize),
    Host(usize),
    Component(usize),
    Word(usize),
    /// One word somewhere before another.
    Then(usize, usize),
    /// Minutes of the day, from and to.
    Time(i64, i64),
    Both(Box<Asks>, Box<Asks>),
    Either(Box<Asks>, Box<Asks>),
    Not(Box<Asks>),
}

impl Asks {
    fn written(&self) -> String {
        let at = |minute: i64| format!("2026-04-12T{:02}:{:02}:00", minute / 60, minute % 60);
        match self {
            Self::LevelFrom(level) => format!("level>={}", LEVELS[*level].0.to_lowercase()),
            Self::Host(host) => format!("host={}", HOSTS[*host]),
            Self::Component(component) => format!("component={}", COMPONENTS[*component]),
            Self::Word(word) => format!("\"{}\"", WORDS[*word]),
            Self::Then(one, other) => format!("/{}.*{}/", WORDS[*one], WORDS[*other]),
            Self::Time(from, to) => format!("time in {}..{}", at(*from), at(*to)),
            Self::Both(one, other) => format!("({}) ({})", one.written(), other.written()),
            Self::Either(one, other) => format!("({} or {})", one.written(), other.written()),
            Self::Not(inner) => format!("not ({})", inner.written()),
        }
    }

    /// Whether an event with this text, of all its lines, passes.
    fn passes(&self, event: EventRef<'_>, text: &str) -> bool {
        match self {
            Self::LevelFrom(level) => event.severity().0 >= LEVELS[*level].1,
            Self::Host(host) => event.host() == HOSTS[*host],
            Self::Component(component) => event.component() == COMPONENTS[*component],
            Self::Word(word) => text.to_lowercase().contains(&WORDS[*word].to_lowercase()),
            Self::Then(one, other) => text.lines().any(|line| {
                let from = line.find(WORDS[*one]).map(|at| at + WORDS[*one].len());
                from.is_some_and(|from| line[from..].contains(WORDS[*other]))
            }),
            Self::Time(from, to) => {
                let time = event.time().unwrap();
                time >= DAY_OF_CASE + from * MINUTE && time <= DAY_OF_CASE + to * MINUTE
            }
            Self::Both(one, other) => one.passes(event, text) && other.passes(event, text),
            Self::Either(one, other) => one.passes(event, text) || other.passes(event, text),
            Self::Not(inner) => !inner.passes(event, text),
        }
    }
}

fn asks() -> impl Strategy<Value = Asks> {
    let leaf = prop_oneof![
        (0..LEVELS.len()).prop_map(Asks::LevelFrom),
        (0..HOSTS.len()).prop_map(Asks::Host),
        (0..COMPONENTS.len()).prop_map(Asks::Component),
        (0..WORDS.len()).prop_map(Asks::Word),
        (0..WORDS.len(), 0..WORDS.len()).prop_map(|(one, other)| Asks::Then(one, other)),
        (0..1440_i64, 0..1440_i64).prop_map(|(one, other)| Asks::Time(one.min(other), one.max(other))),
    ];
    leaf.prop_recursive(4, 16, 2, |inner| {
        let pair = || (inner.clone().prop_map(Box::new), inner.clone().prop_map(Box::new));
        prop_oneof![
            pair().prop_map(|(one, other)| Asks::Both(one, other)),
            pair().prop_map(|(one, other)| Asks::Either(one, other)),
            inner.clone().prop_map(|inner| Asks::Not(Box::new(inner))),
        ]
    })
}

/// One event: its minute, level, component, and the words of its first and perhaps a second line.
type Line = (i64, usize, usize, Vec<usize>, Option<usize>);

fn lines() -> impl Strategy<Value = Vec<Line>> {
    let words = proptest::collection::vec(0..WORDS.len(), 0..3);
    let line =
        (0..1440_i64, 0..LEVELS.len(), 0..COMPONENTS.len(), words, proptest::option::weighted(0.3, 0..WORDS.len()));
    proptest::collection::vec(line, 1..25)
}

fn log_of(lines: &[Line]) -> String {
    let of = |(minute, level, component, words, second): &Line| {
        let words: Vec<&str> = words.iter().map(|word| WORDS[*word]).collect();
        let second = second.map_or(String::new(), |word| format!("  behind: {}\n", WORDS[word]));
        let (hour, minute, level) = (minute / 60, minute % 60, LEVELS[*level].0);
        let component = COMPONENTS[*component];
        format!("2026-04-12 {hour:02}:{minute:02}:00 {level} [main] {component} - {}\n{second}", words.join(" and "))
    };
    lines.iter().map(of).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]
    #[test]
    fn every_filter_passes_what_it_asks_for(
        logs in proptest::collection::vec((lines(), any::<bool>()), HOSTS.len()),
        asked in proptest::collection::vec(asks(), 8),
    ) {
        let files = logs.iter().zip(HOSTS).map(|((lines, sorted), host)| {
            let mut lines = lines.clone();
            if *sorted {
                lines.sort();
            }
            (format!("{host}/app.log"), log_of(&lines))
        });
        let files: Vec<(String, String)> = files.collect();
        let files: Vec<(&str, &str)> = files.iter().map(|(name, text)| (name.as_str(), text.as_str())).collect();
        let root = crate::testing::case(&files);
        let view = root.view();
        let (case, loaded) = (&view.case, &view.loaded);
        let (first, last) = loaded.table.span.unwrap();
        prop_assert!(first >= DAY_OF_CASE && last < DAY_OF_CASE + DAY);
        let mut reader = RecordReader::new(std::sync::Arc::clone(&case.sources));
        for asks in asked {
            let text = asks.written();
            let filter = Filter::parse(&text, &Zone::utc()).unwrap();
            let found = filter.rows_in_order(&view, &Work::default()).unwrap();
            let expected = loaded.table.order.iter().copied().filter(|row| {
                let event = loaded.table.event(Row(*row));
                asks.passes(event, &reader.text(event).unwrap())
            });
            prop_assert_eq!(found, expected.collect::<Vec<_>>(), "{}", text);
        }
    }
}
