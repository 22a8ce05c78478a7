//! The Codes view: every code of the case, failures first or by the time they were seen first; and the lookup of any code.

use boxclock_core::clock::human::time_of_day;
use boxclock_core::code::{Code, Outcome};
use boxclock_core::report::codes::{CodeCount, Order, SLICES};
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Block, Clear, Paragraph};

use super::text::{cut, fit, grouped, many, wrap};
use super::{list, overlay, row};
use crate::app::App;
use crate::theme::Hue;

/// Columns of a code.
const CODE: usize = 14;
/// Columns of the small density line.
const LINE: usize = SLICES / 2;

/// The columns that fit.
struct Columns {
    code: usize,
    first: usize,
    name: usize,
    line: usize,
    hosts: usize,
    gloss: usize,
}

impl Columns {
    fn of(width: usize) -> Self {
        let line = if width >= 70 { LINE + 1 } else { 0 };
        let hosts = if width >= 110 { 18 } else { 0 };
        // Count, shape, code, first.
        let (code, first) = if width >= 56 { (CODE, 9) } else { (10, 0) };
        let left = width.saturating_sub(1 + 7 + 1 + 2 + code + 1 + first + line + hosts);
        let name = if left >= 34 { (left / 2).min(34) } else { 0 };
        Self { code, first, name, line, hosts, gloss: left - name }
    }
}

/// A failure, a restart that is needed, or neither: a shape and a hue.
fn outcome(app: &App, code: Code) -> (&'static str, Style) {
    match code.reading().outcome {
        Outcome::Failure if code.lifts() => ("▲", app.theme.hue(Hue::Vermilion)),
        // Part of healthy work, mostly.
        Outcome::Failure => ("△", app.theme.hue(Hue::Orange)),
        Outcome::Restart => ("↻", app.theme.hue(Hue::Orange)),
        Outcome::Success => (" ", app.theme.faint()),
    }
}

/// Draws it.
pub(super) fn draw(app: &App, frame: &mut Frame<'_>, area: Rect) {
    if app.codes.list.is_empty() {
        let text = match (app.codes.known, app.loaded.complete) {
            (true, true) => " No codes were found in this case. # looks up any code.",
            (true, false) => " No codes were found so far; reading …",
            (false, _) => " counting …",
        };
        frame.render_widget(Clear, area);
        frame.render_widget(Paragraph::new(text).style(app.theme.faint()), area);
        return;
    }
    let width = usize::from(area.width);
    let columns = Columns::of(width);
    let order = if app.codes.order == Order::Worst { "worst first" } else { "by time" };
    let head = format!(
        " {:>7}   {} {}{}{}{}{}",
        "events",
        fit("code", columns.code),
        fit("name", columns.name),
        fit(if columns.line > 0 { "when" } else { "" }, columns.line),
        fit("first", columns.first),
        fit("on", columns.hosts),
        // The order is said where there is room.
        fit(&if columns.gloss >= 21 { format!("meaning · {order}") } else { "meaning".to_owned() }, columns.gloss)
    );
    let header = vec![Line::styled(fit(&head, width), app.theme.faint())];
    list(app, frame, area, header, |index, chosen| {
        let spans = spans(app, &app.codes.list[index], &columns);
        vec![row(app, chosen, width, spans)]
    });
}

fn spans(app: &App, code: &CodeCount, columns: &Columns) -> Vec<Span<'static>> {
    let reading = code.code.reading();
    let (shape, hue) = outcome(app, code.code);
    let mut spans = vec![
        Span::raw(format!(" {:>7} ", grouped(code.count))),
        Span::styled(format!("{shape} "), hue),
        Span::styled(fit(&cut(&code.code.written(), columns.code), columns.code), hue),
        Span::raw(" "),
    ];
    let gap = |width: usize| width.saturating_sub(1);
    if columns.name > 0 {
        let name = reading.name.filter(|name| *name != code.code.written()).unwrap_or("-");
        spans.push(Span::raw(fit(&cut(name, gap(columns.name)), columns.name)));
    }
    if columns.line > 0 {
        spans.push(Span::styled(density_line(&code.slices), app.theme.faint()));
        spans.push(Span::raw(" "));
    }
    let first = code.span.map_or("-".into(), |(first, _)| time_of_day(first, &app.zone)[..8].to_owned());
    spans.push(Span::styled(fit(&first, columns.first), app.theme.faint()));
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

/// The lookup: what is known of what is typed, and what this case has of it.
pub(super) fn lookup(app: &App, chosen: usize, text: &str, frame: &mut Frame<'_>) {
    const ROWS: usize = 10;
    let found = &app.codes.found;
    // As high as it needs to be, right above the line that is typed.
    let floor = app.layout.line.y;
    let most = floor.min(28);
    let area = overlay::centred(app.layout.whole, 96, most);
    let (width, inner) = (usize::from(area.width.saturating_sub(2)), usize::from(most.saturating_sub(2)));
    let chosen = chosen.min(found.len().saturating_sub(1));
    let rows = found.len().min(ROWS).min(inner.saturating_sub(8).max(1));
    let top = (chosen + 1).saturating_sub(rows);
    let mut lines: Vec<Line<'_>> = Vec::new();
    for (index, reading) in found.iter().enumerate().skip(top).take(rows) {
        let (shape, hue) = outcome(app, reading.code);
        let name = reading.name.unwrap_or("-");
        let words = if reading.gloss.is_empty() { &reading.meaning } else { &reading.gloss };
        let name_width = (width / 3).min(34);
        let spans = vec![
            Span::styled(format!(" {shape} "), hue),
            Span::styled(fit(&reading.code.written(), CODE), hue),
            Span::raw(format!(" {} ", fit(&cut(name, name_width), name_width))),
            Span::raw(cut(words, width.saturating_sub(CODE + name_width + 6))),
        ];
        lines.push(row(app, index == chosen, width, spans));
    }
    if found.len() > rows {
        lines.push(Line::styled(format!("   {} of {}", chosen + 1, found.len()), app.theme.faint()));
    }
    if let Some(reading) = found.get(chosen) {
        lines.push(Line::raw(""));
        let seen = match app.codes.of(reading.code) {
            Some(row) => {
                let first = row
                    .span
                    .map_or(String::new(), |(first, _)| format!(", first at {}", time_of_day(first, &app.zone)));
                format!("In this case: {}{first}. Enter shows what is there.", many(row.count, "event"))
            }
            None if app.codes.known => "Not in this case.".to_owned(),
            None => "Looking whether this case has it …".to_owned(),
        };
        let causes = if reading.causes.is_empty() { String::new() } else { format!("Causes: {}", reading.causes) };
        let check = if reading.check.is_empty() { String::new() } else { format!("Look at: {}", reading.check) };
        let title = format!("{}, {}", reading.code.family.title(), reading.outcome.words());
        for (text, style) in [
            (title, app.theme.faint()),
            (reading.meaning.clone(), Style::new()),
            (causes, Style::new()),
            (check, Style::new()),
            (seen, app.theme.strong()),
        ] {
            lines.extend(
                wrap(&text, width.saturating_sub(2)).into_iter().map(|line| Line::styled(format!(" {line}"), style)),
            );
        }
    } else {
        let text = if text.trim().is_empty() {
            "A code in any writing: 0x80070005, -2147024891, 1603, ENOSPC, 42P01, http 503, exit 137; or words: disk full"
        } else {
            "Not a code, and no meaning has these words."
        };
        lines.extend(
            wrap(text, width.saturating_sub(2))
                .into_iter()
                .map(|line| Line::styled(format!(" {line}"), app.theme.faint())),
        );
    }
    let height = (lines.len() as u16 + 2).min(most);
    let area = Rect { y: floor - height, height, ..area };
    let block = Block::bordered().title(" What does it mean? ").border_style(app.theme.faint());
    frame.render_widget(Clear, area);
    frame.render_widget(Paragraph::new(lines).block(block), area);
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
            let Columns { code, first, name, line, hosts, gloss } = Columns::of(width);
            assert!(name + line + hosts + gloss == 0 || code + first + name + line + hosts + gloss < width, "{width}");
        }
    }
}
