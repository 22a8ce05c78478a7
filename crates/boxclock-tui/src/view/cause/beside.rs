//! The suggestions side by side, on one time axis: each line that one of them rests on is a row, each suggestion a column. What they
//! share, and where they part, is seen at once.

use std::collections::BTreeMap;

use boxclock_core::cause::Suggestion;
use boxclock_core::event::Row;
use boxclock_core::logbook::Link;
use ratatui::text::{Line, Span};

use super::axis::Station;
use super::shown::time_and_host;
use crate::context::Context;
use crate::pane::Pane;
use crate::text::{cut, fit, host_mark};
use crate::theme::Hue;
use crate::view::Item;

/// A line that suggestions rest on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct SharedLine {
    pub(super) row: Row,
    /// What the line says.
    pub(super) text: String,
    /// What it is in each suggestion.
    stations: Vec<Option<Station>>,
}

impl SharedLine {
    /// What it is in a chain that takes it over: a root or symptom if it is one in any suggestion.
    pub(super) fn kind(&self) -> Link {
        let is = |station| self.stations.contains(&Some(station));
        match () {
            () if is(Station::Root) => Link::Root,
            () if is(Station::Symptom) => Link::Symptom,
            () => Link::Step,
        }
    }
}

/// What a link of a suggestion is, by its place in the chain.
pub(super) fn station(one: &Suggestion, at: usize) -> Station {
    match at {
        0 if one.provable => Station::Root,
        at if at + 1 == one.chain.len() => Station::Symptom,
        _ => Station::Step,
    }
}

/// All lines of the suggestions, in order of corrected time; what has no time comes last.
pub(super) fn lines(cx: &Context, all: &[Suggestion]) -> Vec<SharedLine> {
    let mut lines: BTreeMap<(bool, i64, u32), SharedLine> = BTreeMap::new();
    for (number, one) in all.iter().enumerate() {
        for (at, link) in one.chain.iter().enumerate() {
            let event = cx.event(link.place.row);
            let key = (event.time().is_none(), event.order_time(), link.place.row.0);
            let line = lines.entry(key).or_insert_with(|| SharedLine {
                row: link.place.row,
                text: link.text.clone(),
                stations: vec![None; all.len()],
            });
            line.stations[number] = Some(station(one, at));
        }
    }
    lines.into_values().collect()
}

/// The heading of the columns: the number of each suggestion.
pub(super) fn head(all: &[Suggestion]) -> String {
    (1..=all.len()).map(|number| format!("{number} ")).collect()
}

/// A line as an item of the list.
pub(super) fn item(cx: &Context, all: &[Suggestion], line: &SharedLine, width: usize) -> Item {
    let (time, host, lane) = time_and_host(cx, line.row);
    // A narrow screen has room for the text only where day and name go.
    let (time, host) = if is_narrow(width) {
        let mark = host_mark(&host, &cx.view.loaded.table.hosts);
        (time.get(6..).unwrap_or(&time).to_owned(), fit(&mark, NARROW_HOST))
    } else {
        (time, fit(&host, WIDE_HOST))
    };
    let mut row = vec![Span::raw(format!(" {time}  ")), Span::styled(host, cx.theme.host(lane)), Span::raw(" ")];
    for station in &line.stations {
        row.push(match station {
            Some(station) => Span::styled(format!("{} ", station.sign()), cx.theme.hue(station.hue())),
            None => Span::styled("· ", cx.theme.faint()),
        });
    }
    let used = before_columns(width) + 2 * line.stations.len();
    row.push(Span::raw(format!(" {}", cut(&line.text, width.saturating_sub(used + 1)))));
    let below = format!("{}{}", " ".repeat(used + 2), whys(all, line));
    Item { row, below: vec![Line::styled(cut(&below, width.saturating_sub(2)), cx.theme.faint())] }
}

/// Columns of a host's name, and of its mark.
const WIDE_HOST: usize = 12;
const NARROW_HOST: usize = 2;

fn is_narrow(width: usize) -> bool {
    width < 70
}

/// The columns before those of the suggestions.
fn before_columns(width: usize) -> usize {
    if is_narrow(width) { 1 + 8 + 2 + NARROW_HOST + 1 } else { 1 + 14 + 2 + WIDE_HOST + 1 }
}

/// Why it follows from the line before, in which suggestions: `1, 3: both name format=2`.
fn whys(all: &[Suggestion], line: &SharedLine) -> String {
    let mut by_why: Vec<(&str, Vec<String>)> = Vec::new();
    for (number, one) in all.iter().enumerate() {
        let Some(link) = one.chain.iter().find(|link| link.place.row == line.row && !link.why.is_empty()) else {
            continue;
        };
        let number = (number + 1).to_string();
        match by_why.iter_mut().find(|(why, _)| *why == link.why) {
            Some((_, numbers)) => numbers.push(number),
            None => by_why.push((&link.why, vec![number])),
        }
    }
    let texts: Vec<String> =
        by_why.into_iter().map(|(why, numbers)| format!("{}: {why}", numbers.join(", "))).collect();
    texts.join("; ")
}

/// The lines of the heading above the list.
pub(super) fn heading(cx: &Context, all: &[Suggestion], width: usize) -> Vec<Line<'static>> {
    let counts = "   ◆ root  ● step  ✕ symptom   d goes back to the list";
    vec![
        Line::from(vec![
            Span::styled(" The suggestions side by side", cx.theme.strong()),
            Span::styled(cut(counts, width.saturating_sub(29)), cx.theme.faint()),
        ]),
        Line::styled(fit(&format!("{}{}", " ".repeat(before_columns(width)), head(all)), width), cx.theme.faint()),
    ]
}

/// The chosen line in the reading pane: what it is in each suggestion, and what speaks for and against these.
pub(super) fn explain(cx: &Context, all: &[Suggestion], line: &SharedLine, pane: &mut Pane<'_>) {
    pane.strong(&line.text);
    for (number, (one, station)) in all.iter().zip(&line.stations).enumerate() {
        let Some(station) = station else { continue };
        let what = match station {
            Station::Root => "the root",
            Station::Step => "a step",
            Station::Symptom => "the symptom",
        };
        pane.heading(&format!("suggestion {}{}: {what}", number + 1, score(one)));
        let link = one.chain.iter().find(|link| link.place.row == line.row);
        if let Some(link) = link.filter(|link| !link.why.is_empty()) {
            pane.faint(&format!("because {}", link.why));
        }
        if *station == Station::Root {
            for reason in &one.reasons {
                match reason.strip_prefix("against it: ") {
                    Some(against) => pane.paragraph(&format!("against: {against}"), cx.theme.hue(Hue::Orange)),
                    None => pane.text(reason),
                }
            }
        }
    }
    pane.gap();
    pane.faint("Enter goes to this line. a adds it to your chain.");
}

fn score(one: &Suggestion) -> String {
    if one.provable { format!(" ({:.2})", one.score) } else { " (not provable)".to_owned() }
}
