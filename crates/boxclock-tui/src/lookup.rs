//! The lookup of codes, over the screen: what is known of what is typed, and what the case has of it.

use boxclock_core::clock::human::time_of_day;
use boxclock_core::code::CodeInfo;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Block, Clear, Paragraph};

use crate::context::Context;
use crate::overlay;
use crate::text::{cut, fit, many, wrap};
use crate::theme::outcome;
use crate::view::row;

/// Columns of a code.
const CODE_WIDTH: usize = 14;

/// The lookup: what is known of what is typed, and what this case has of it.
pub fn draw(cx: &Context, chosen: usize, text: &str, found: &[CodeInfo], frame: &mut Frame<'_>) {
    const MAX_ROWS: usize = 10;
    // As high as it needs to be, right above the line that is typed.
    let floor = cx.layout.line.y;
    let most = floor.min(28);
    let area = overlay::centred(cx.layout.whole, 96, most);
    let (width, inner) = (usize::from(area.width.saturating_sub(2)), usize::from(most.saturating_sub(2)));
    let chosen = chosen.min(found.len().saturating_sub(1));
    let rows = found.len().min(MAX_ROWS).min(inner.saturating_sub(8).max(1));
    let top = (chosen + 1).saturating_sub(rows);
    let mut lines: Vec<Line<'_>> = Vec::new();
    for (index, info) in found.iter().enumerate().skip(top).take(rows) {
        let (shape, hue) = outcome(cx.theme, info.code, &cx.catalogues());
        let name = info.name.unwrap_or("-");
        let words = if info.gloss.is_empty() { &info.meaning } else { &info.gloss };
        let name_width = (width / 3).min(34);
        let spans = vec![
            Span::styled(format!(" {shape} "), hue),
            Span::styled(fit(&info.code.written(&cx.catalogues()), CODE_WIDTH), hue),
            Span::raw(format!(" {} ", fit(&cut(name, name_width), name_width))),
            Span::raw(cut(words, width.saturating_sub(CODE_WIDTH + name_width + 6))),
        ];
        lines.push(row(cx, index == chosen, width, spans));
    }
    if found.len() > rows {
        lines.push(Line::styled(format!("   {} of {}", chosen + 1, found.len()), cx.theme.faint()));
    }
    if let Some(info) = found.get(chosen) {
        lines.push(Line::raw(""));
        let known = cx.known_codes();
        let seen = match known.as_ref().and_then(|codes| codes.iter().find(|row| row.code == info.code)) {
            Some(row) => {
                let first =
                    row.span.map_or(String::new(), |(first, _)| format!(", first at {}", time_of_day(first, &cx.zone)));
                format!("In this case: {}{first}. Enter shows them.", many(row.count, "event"))
            }
            None if known.is_some() => "Not in this case.".to_owned(),
            None => "Searching this case for it …".to_owned(),
        };
        let causes = if info.causes.is_empty() { String::new() } else { format!("Causes: {}", info.causes) };
        let check = if info.check.is_empty() { String::new() } else { format!("Look at: {}", info.check) };
        let title = format!("{}, {}", info.code.family.title(), info.outcome.words());
        for (text, style) in [
            (title, cx.theme.faint()),
            (info.meaning.clone(), Style::new()),
            (causes, Style::new()),
            (check, Style::new()),
            (seen, cx.theme.strong()),
        ] {
            lines.extend(
                wrap(&text, width.saturating_sub(2)).into_iter().map(|line| Line::styled(format!(" {line}"), style)),
            );
        }
    } else {
        let text = if text.trim().is_empty() {
            "A code in any writing: 0x80070005, -2147024891, 1603, ENOSPC, 42P01, http 503, exit 137; or words: disk full"
        } else {
            "Not a code, and no meaning contains these words."
        };
        lines.extend(
            wrap(text, width.saturating_sub(2))
                .into_iter()
                .map(|line| Line::styled(format!(" {line}"), cx.theme.faint())),
        );
    }
    let height = (lines.len() as u16 + 2).min(most);
    let area = Rect { y: floor - height, height, ..area };
    let block = Block::bordered().title(" What does it mean? ").border_style(cx.theme.faint());
    frame.render_widget(Clear, area);
    frame.render_widget(Paragraph::new(lines).block(block), area);
}
