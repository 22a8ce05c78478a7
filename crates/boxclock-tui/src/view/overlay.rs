//! What lies over the screen: the help, and the action finder.

use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Block, Clear, Paragraph};

use super::text::{cut, fit};
use crate::app::App;
use crate::keys::{Binding, Scope, bindings};
use crate::update;
use crate::workspace::Menu;

/// An area in the middle of the screen.
pub(super) fn centred(frame: &Frame<'_>, width: u16, height: u16) -> Rect {
    let all = frame.area();
    let (width, height) = (width.min(all.width), height.min(all.height));
    Rect::new((all.width - width) / 2, (all.height - height) / 2, width, height)
}

fn line(app: &App, binding: &Binding, width: usize) -> Line<'static> {
    Line::from(vec![
        Span::raw(" "),
        Span::styled(fit(&binding.keys.join("  "), 18), app.theme.strong()),
        Span::raw(cut(binding.long, width.saturating_sub(20))),
    ])
}

/// The help: the key table, by where the keys hold.
pub(super) fn help(app: &App, scrolled: usize, frame: &mut Frame<'_>) {
    let area = centred(frame, 100, frame.area().height.saturating_sub(2));
    let width = usize::from(area.width.saturating_sub(2));
    let mut lines = Vec::new();
    let parts = [
        ("everywhere", Scope::Everywhere),
        ("Stream", Scope::Stream),
        ("Box", Scope::Box),
        ("Codes", Scope::Codes),
        ("Cause", Scope::Cause),
        ("Report", Scope::Report),
        ("Desk", Scope::Desk),
    ];
    for (title, scope) in parts {
        lines.push(Line::styled(format!(" {title}"), app.theme.faint()));
        lines.extend(
            bindings().iter().filter(|binding| binding.scope == scope).map(|binding| line(app, binding, width)),
        );
        lines.push(Line::raw(""));
    }
    lines.push(Line::styled(" Shapes", app.theme.faint()));
    for (shape, meaning) in [
        ("△ ▲ ◆", "warning, error, fatal"),
        ("◌", "no level, but its words look like a problem"),
        ("✕", "a crash dump"),
        ("▲ △ ↻", "in the Codes view: a failure, one that healthy work has too, a restart that is needed"),
        ("◂ ▸", "pinned; on the rail: the chosen place"),
        (
            "▴ ▾ ▪ ◷ ┊ ◆",
            "on the rail: start, unclean stop, installation, clock set, silence, moment marked while gathering",
        ),
        ("▁ ▄ █  ¹ to ⁸", "on the rail: where the filter's events are; which ink is there"),
    ] {
        lines.push(Line::from(vec![
            Span::raw(" "),
            Span::raw(fit(shape, 18)),
            Span::raw(cut(meaning, width.saturating_sub(20))),
        ]));
    }
    let most = lines.len().saturating_sub(usize::from(area.height.saturating_sub(2)));
    let block =
        Block::bordered().title(" Keys ").title_bottom(" any other key leaves ").border_style(app.theme.faint());
    frame.render_widget(Clear, area);
    frame.render_widget(Paragraph::new(lines).scroll((scrolled.min(most) as u16, 0)).block(block), area);
}

/// The action finder: what fits the words that are typed.
pub(super) fn finder(app: &App, chosen: usize, text: &str, frame: &mut Frame<'_>) {
    let offered = update::offered(text);
    let height = (offered.len().min(14) + 2) as u16;
    let area = centred(frame, 90, height);
    let width = usize::from(area.width.saturating_sub(2));
    let chosen = chosen.min(offered.len().saturating_sub(1));
    let top = chosen.saturating_sub(13);
    let lines: Vec<Line<'_>> = offered
        .iter()
        .enumerate()
        .skip(top)
        .take(14)
        .map(|(index, binding)| {
            let line = line(app, binding, width);
            if index == chosen { line.style(app.theme.chosen()) } else { line }
        })
        .collect();
    frame.render_widget(Clear, area);
    frame.render_widget(
        Paragraph::new(lines).block(Block::bordered().title(" Actions ").border_style(app.theme.faint())),
        area,
    );
}

/// A menu: what can be chosen.
pub(super) fn menu(app: &App, menu: &Menu, frame: &mut Frame<'_>) {
    const MOST: usize = 24;
    let rows = menu.items.len().min(MOST).min(usize::from(frame.area().height.saturating_sub(2)));
    let area = centred(frame, 100, (rows + 2) as u16);
    let width = usize::from(area.width.saturating_sub(2));
    let top = (menu.chosen + 1).saturating_sub(rows);
    let items = menu.items.iter().enumerate().skip(top).take(rows);
    let lines: Vec<Line<'_>> = items
        .map(|(index, (text, _))| {
            let line = Line::raw(fit(&format!(" {text}"), width));
            if index == menu.chosen { line.style(app.theme.chosen()) } else { line }
        })
        .collect();
    let title = format!(" {} ", menu.title);
    let block = Block::bordered().title(title).title_bottom(" Enter chooses, Esc leaves ");
    frame.render_widget(Clear, area);
    frame.render_widget(Paragraph::new(lines).block(block.border_style(app.theme.faint())), area);
}

/// What can complete the filter that is being typed, above its line.
pub(super) fn completions(app: &App, frame: &mut Frame<'_>) {
    let offered = &app.workspace.completions;
    let line = app.layout.line;
    let rows = offered.len().min(usize::from(line.y)) as u16;
    if rows == 0 {
        return;
    }
    let widest = offered.iter().map(|one| one.text.chars().count()).max().unwrap_or(0).clamp(12, 50);
    let width = (widest + 46).min(usize::from(line.width));
    let area = Rect::new(line.x, line.y - rows, width as u16, rows);
    let lines: Vec<Line<'_>> = offered
        .iter()
        .take(usize::from(rows))
        .enumerate()
        .map(|(index, one)| {
            let text = fit(&format!(" {}", one.text), widest + 2);
            let about = fit(&one.about, width.saturating_sub(widest + 2));
            let line = Line::from(vec![Span::raw(text), Span::styled(about, app.theme.faint())]);
            if app.workspace.completion == Some(index) { line.style(app.theme.chosen()) } else { line }
        })
        .collect();
    frame.render_widget(Clear, area);
    frame.render_widget(Paragraph::new(lines), area);
}
