//! The Codes view: every code of the case, failures first or by the time they were first seen.

use std::sync::Arc;

use boxclock_core::Result;
use boxclock_core::clock::human::date_time;
use boxclock_core::code::reading::other_forms;
use boxclock_core::code::{Catalogues, Code, Family, Form, catalogue};
use boxclock_core::report::codes::{CodeAnalysis, CodeCount, Order, Relative, RelativesOf, SLICES, sort};
use ratatui::text::{Line, Span};

use super::{Item, ListState, Spec, View, ViewCommand};
use crate::context::{Context, Then};
use crate::jobs::Kind;
use crate::pane::Pane;
use crate::text::{cut, fit, grouped, many};
use crate::theme::outcome;

static SPEC: Spec = Spec {
    id: "codes",
    key: "4",
    name: "Codes",
    about: "Codes: every code of the case with its meaning",
    head_rows: 1,
    item_rows: 1,
    has_pane: true,
    tab_of: None,
};

const COUNTS: Kind = ("codes", 0);
const RELATIVES: Kind = ("relatives", 0);
/// Relatives that are shown.
const MAX_RELATIVES: usize = 6;

/// The view.
#[derive(Default)]
pub(crate) struct CodesView {
    list: ListState,
    pub(crate) codes: Vec<CodeCount>,
    /// The answer that `codes` were taken from.
    from: Option<Arc<Vec<CodeCount>>>,
    order: Order,
    /// The codes near the chosen one; `None` while they are looked for.
    relatives: Option<(Code, Arc<Vec<Relative>>)>,
}

/// Makes it.
pub fn new() -> Box<dyn View> {
    Box::<CodesView>::default()
}

const COMMANDS: &[ViewCommand<CodesView>] = &[
    ViewCommand {
        name: "code-order",
        keys: &["o"],
        short: "order",
        long: "sort: worst first / first seen first",
        run: |view, cx, _| {
            view.order = if view.order == Order::Worst { Order::FirstSeen } else { Order::Worst };
            sort(&mut view.codes, view.order, &cx.catalogues());
            view.list = ListState::default();
            Ok(Then::Stay)
        },
    },
    ViewCommand {
        name: "code-family",
        keys: &["r"],
        short: "family",
        long: "set the family of this code, wherever it occurs",
        run: |view, cx, _| {
            Ok(match view.chosen() {
                Some(_) if view.is_old(cx) => refreshing(),
                Some(code) => cx.family_menu_of(code),
                None => Then::Stay,
            })
        },
    },
    ViewCommand::PANE_DOWN,
    ViewCommand::PANE_UP,
];

fn refreshing() -> Then {
    Then::say("Code counts are being refreshed. Try again in a moment.")
}

/// Columns of a code.
const CODE: usize = 14;
/// Columns of the name of its family.
const FAMILY: usize = 10;
/// Columns of the small density line.
const LINE: usize = SLICES / 2;

/// The columns that fit.
struct Columns {
    code: usize,
    family: usize,
    first: usize,
    name: usize,
    line: usize,
    hosts: usize,
    gloss: usize,
}

impl Columns {
    fn of(width: usize) -> Self {
        // Whose code it is and what it means come first, whatever the width.
        let (code, family) = if width >= 56 { (CODE, FAMILY) } else { (10, FAMILY) };
        let first = if width >= 72 { 15 } else { 0 };
        let line = if width >= 112 { LINE + 1 } else { 0 };
        let hosts = if width >= 130 { 18 } else { 0 };
        // Count, shape, code.
        let left = width.saturating_sub(1 + 7 + 1 + 2 + code + 1 + family + first + line + hosts);
        let name = if left >= 44 { (left / 2).min(34) } else { 0 };
        Self { code, family, first, name, line, hosts, gloss: left - name }
    }
}

impl CodesView {
    fn chosen(&self) -> Option<&CodeCount> {
        self.codes.get(self.list.cursor)
    }

    /// Whether the list is of another table than the one on the screen: rows have other numbers there.
    fn is_old(&self, cx: &Context) -> bool {
        let known = cx.view.known(&CodeAnalysis { axis: cx.rail_span() });
        !known.zip(self.from.as_ref()).is_some_and(|(known, from)| Arc::ptr_eq(&known, from))
    }

    /// Takes the codes as they are counted now; the chosen one stays chosen.
    fn take(&mut self, counted: Arc<Vec<CodeCount>>, own: &Catalogues) {
        let chosen = self.chosen().map(|row| row.code);
        self.codes = counted.to_vec();
        self.from = Some(counted);
        sort(&mut self.codes, self.order, own);
        if let Some(place) = chosen.and_then(|code| self.codes.iter().position(|row| row.code == code)) {
            self.list.cursor = place;
        }
    }
}

impl View for CodesView {
    view_parts!(SPEC, COMMANDS);

    fn len(&self, _: &Context) -> usize {
        self.codes.len()
    }

    fn prepare(&mut self, cx: &mut Context) {
        // Over the whole span too: the lookup and the ways to a code go by that.
        cx.ask(&CodeAnalysis::default(), ("codes", 1));
        if let Some(counted) = cx.ask(&CodeAnalysis { axis: cx.rail_span() }, COUNTS)
            && !self.from.as_ref().is_some_and(|from| Arc::ptr_eq(from, &counted))
        {
            self.take(counted, &cx.catalogues());
        }
        let chosen = self.chosen().map(|row| row.code);
        let near = chosen.and_then(|code| Some((code, cx.ask(&RelativesOf(code), RELATIVES)?)));
        if chosen != self.relatives.as_ref().map(|(code, _)| *code) || near.is_some() {
            self.relatives = near;
        }
    }

    fn enter(&mut self, cx: &mut Context) -> Result<Then> {
        match self.chosen().map(|row| row.code) {
            Some(_) if self.is_old(cx) => Ok(refreshing()),
            Some(code) => cx.show_code(code),
            None => Ok(Then::Stay),
        }
    }

    fn head(&self, cx: &Context, width: usize) -> Vec<Line<'static>> {
        let columns = Columns::of(width);
        let order = if self.order == Order::Worst { "worst first" } else { "by time" };
        let head = format!(
            " {:>7}   {} {}{}{}{}{}{}",
            "events",
            fit("code", columns.code),
            fit("family", columns.family),
            fit("name", columns.name),
            fit(if columns.line > 0 { "when" } else { "" }, columns.line),
            fit("first", columns.first),
            fit("on", columns.hosts),
            // The order is said where there is room.
            fit(&if columns.gloss >= 21 { format!("meaning · {order}") } else { "meaning".to_owned() }, columns.gloss)
        );
        vec![Line::styled(fit(&head, width), cx.theme.faint())]
    }

    fn item(&self, cx: &Context, index: usize, width: usize) -> Item {
        Item::one(spans(cx, &self.codes[index], &Columns::of(width)))
    }

    fn empty(&self, cx: &Context) -> Vec<String> {
        let text = match (self.from.is_some(), cx.view.loaded.complete) {
            (true, true) => "No codes were found in this case. # looks up any code.",
            (true, false) => "No codes found so far; still reading …",
            (false, _) => "Counting codes …",
        };
        vec![text.into()]
    }

    fn pane(&self, cx: &Context, pane: &mut Pane<'_>) {
        let Some(row) = self.chosen() else { return };
        pane.code(&row.code.info(&cx.catalogues()), true);
        other_writings(cx, pane, row.code);
        stop_parameters(pane, row.code);
        pane.heading("in this case");
        found(cx, pane, row);
        let Some((_, near)) = self.relatives.as_ref().filter(|(code, _)| *code == row.code) else {
            pane.heading("near it");
            return pane.faint("searching …");
        };
        relatives(pane, "up to a minute before it", near, |relative| relative.before);
        relatives(pane, "up to a minute after it", near, |relative| relative.after);
    }
}

fn other_writings(cx: &Context, pane: &mut Pane<'_>, code: Code) {
    let signed = code.number.cast_signed();
    let text = match code.family.form() {
        Form::Hex if signed < 0 => format!("{signed}, {}", code.number),
        Form::Hex => code.number.to_string(),
        Form::Decimal if code.number > 9 => format!("0x{:X}", code.number),
        _ => String::new(),
    };
    pane.facts("also", &text);
    let known = cx.known_codes();
    for (other, words) in other_forms(code) {
        let name = other.info(&cx.catalogues()).name.unwrap_or_default();
        let of_case = known.as_ref().and_then(|codes| codes.iter().find(|row| row.code == other));
        let seen = of_case.map_or(String::new(), |row| format!(": {} here", many(row.count, "event")));
        pane.facts(words, &format!("{} {name}{seen}", other.written(&cx.catalogues())));
    }
}

fn stop_parameters(pane: &mut Pane<'_>, code: Code) {
    if code.family == Family::Stop
        && let Some(parameters) = catalogue::stop_parameters(code.number)
    {
        for (number, text) in (1..).zip(parameters) {
            pane.facts(&format!("param {number}"), text);
        }
    }
}

fn found(cx: &Context, pane: &mut Pane<'_>, row: &CodeCount) {
    let zone = &cx.zone;
    pane.facts("events", &format!("{}; Enter shows them", grouped(row.count)));
    if let Some((first, last)) = row.span {
        pane.facts("first", &date_time(first, zone));
        if last > first {
            pane.facts("last", &date_time(last, zone));
        }
    }
    let hosts: Vec<String> = row.hosts.iter().map(|(host, count)| format!("{host} {}", grouped(*count))).collect();
    pane.facts("on", &hosts.join(", "));
    pane.facts("sources", &row.sources.len().to_string());
    if row.code.family.form() != Form::Name {
        pane.facts("", "r: another family");
    }
}

fn relatives(pane: &mut Pane<'_>, title: &str, all: &[Relative], count: fn(&Relative) -> u64) {
    let own = pane.catalogues();
    let mut list: Vec<&Relative> = all.iter().filter(|relative| count(relative) > 0).collect();
    list.sort_by_key(|relative| (relative.nearness(count(relative), &own), relative.code));
    if list.is_empty() {
        return;
    }
    pane.heading(title);
    for relative in list.iter().take(MAX_RELATIVES) {
        let reading = relative.code.info(&own);
        let words = if reading.gloss.is_empty() { reading.name.unwrap_or("") } else { &reading.gloss };
        let of = format!("{} of {}", grouped(count(relative)), grouped(relative.total));
        pane.line(&format!("{of:>11}  {} {words}", relative.code.written(&own)));
    }
    if list.len() > MAX_RELATIVES {
        pane.faint(&format!("and {} more", list.len() - MAX_RELATIVES));
    }
}

fn spans(cx: &Context, code: &CodeCount, columns: &Columns) -> Vec<Span<'static>> {
    let reading = code.code.info(&cx.catalogues());
    let (shape, hue) = outcome(cx.theme, code.code, &cx.catalogues());
    let mut spans = vec![
        Span::raw(format!(" {:>7} ", grouped(code.count))),
        Span::styled(format!("{shape} "), hue),
        Span::styled(fit(&cut(&code.code.written(&cx.catalogues()), columns.code), columns.code), hue),
        Span::raw(" "),
    ];
    let gap = |width: usize| width.saturating_sub(1);
    spans.push(Span::styled(fit(&cut(code.code.family.name(), gap(columns.family)), columns.family), cx.theme.faint()));
    if columns.name > 0 {
        let name = reading.name.filter(|name| *name != code.code.written(&cx.catalogues())).unwrap_or("-");
        spans.push(Span::raw(fit(&cut(name, gap(columns.name)), columns.name)));
    }
    if columns.line > 0 {
        spans.push(Span::styled(density_line(&code.slices), cx.theme.faint()));
        spans.push(Span::raw(" "));
    }
    let first = code.span.map_or("-".into(), |(first, _)| date_time(first, &cx.zone)[5..19].to_owned());
    spans.push(Span::styled(fit(&first, columns.first), cx.theme.faint()));
    if columns.hosts > 0 {
        let hosts: Vec<&str> = code.hosts.iter().map(|(host, _)| host.as_str()).collect();
        spans.push(Span::raw(fit(&cut(&hosts.join(" "), gap(columns.hosts)), columns.hosts)));
    }
    let words = if reading.gloss.is_empty() { reading.meaning } else { reading.gloss };
    spans.push(Span::raw(cut(&words, columns.gloss)));
    spans
}

/// Two slices a column; the fullest of the code itself is the highest.
fn density_line(slices: &[u32; SLICES]) -> String {
    // Not up to the full height, so that lines below each other stay apart.
    const BARS: [char; 5] = ['▁', '▂', '▃', '▄', '▅'];
    let pairs: Vec<u32> = slices.chunks(2).map(|pair| pair.iter().sum()).collect();
    let most = pairs.iter().copied().max().unwrap_or(0).max(1);
    let bar = |count: u32| match count {
        0 => ' ',
        _ => BARS[(u64::from(count) * BARS.len() as u64).div_ceil(u64::from(most)) as usize - 1],
    };
    pairs.into_iter().map(bar).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_line_is_as_high_as_its_fullest_slice() {
        let mut slices = [0; SLICES];
        (slices[0], slices[1], slices[23]) = (4, 4, 1);
        assert_eq!(density_line(&slices), "▅          ▁");
        assert_eq!(density_line(&[0; SLICES]), " ".repeat(LINE));
    }

    #[test]
    fn columns_fit_any_width() {
        for width in 0..220 {
            let Columns { code, family, first, name, line, hosts, gloss } = Columns::of(width);
            let all = code + family + first + name + line + hosts + gloss;
            assert!(name + line + hosts + gloss == 0 || all < width, "{width}");
            // At 80 columns beside the rail, family and meaning have room.
            assert!(width < 60 || family > 0 && gloss >= 20, "{width}");
        }
    }
}
