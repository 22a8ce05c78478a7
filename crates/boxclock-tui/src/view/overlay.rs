//! What lies over the screen: the help, and the action finder.

use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Block, Clear, Paragraph};

use super::text::{cut, fit};
use crate::app::App;
use crate::keys::{BINDINGS, Binding, Scope};
use crate::update;

/// An area in the middle of the screen.
fn centred(frame: &Frame<'_>, width: u16, height: u16) -> Rect {
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
        ("Cause", Scope::Cause),
        ("Report", Scope::Report),
    ];
    for (title, scope) in parts {
        lines.push(Line::styled(format!(" {title}"), app.theme.faint()));
        lines.extend(BINDINGS.iter().filter(|binding| binding.scope == scope).map(|binding| line(app, binding, width)));
        lines.push(Line::raw(""));
    }
    lines.push(Line::styled(" Shapes", app.theme.faint()));
    for (shape, meaning) in [
        ("△ ▲ ◆", "warning, error, fatal"),
        ("◌", "no level, but its words look like a problem"),
        ("✕", "a crash dump"),
        ("◂ ▸", "pinned; on the rail: the chosen place"),
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
