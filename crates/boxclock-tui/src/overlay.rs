//! What lies over the screen: the help, and the action finder.

use ratatui::Frame;
use ratatui::layout::{Margin, Position, Rect};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Block, Clear, Paragraph};

use crate::commands::Binding;
use crate::context::{Context, Menu};
use crate::text::{cut, fit};
use crate::typing::Typing;
use crate::view::Spec;

/// Where the items of a list stand that lies over the screen.
pub struct Items {
    /// The area, with its border.
    area: Rect,
    /// The area of the items.
    inner: Rect,
    /// The first item that is shown.
    top: usize,
    /// How many are shown.
    rows: usize,
}

impl Items {
    fn bordered(area: Rect, top: usize, rows: usize) -> Self {
        Self { area, inner: area.inner(Margin::new(1, 1)), top, rows }
    }

    /// The item at a place of the screen.
    pub fn at(&self, position: Position) -> Option<usize> {
        let line = usize::from(position.y.checked_sub(self.inner.y)?);
        (self.inner.contains(position) && line < self.rows).then_some(self.top + line)
    }
}

/// Where the items of a menu are.
pub fn menu_items(cx: &Context, menu: &Menu) -> Items {
    const MOST: usize = 24;
    let rows = menu.shown().len().clamp(1, MOST).min(usize::from(cx.layout.whole.height.saturating_sub(2)));
    let area = centred(cx.layout.whole, 100, (rows + 2) as u16);
    Items::bordered(area, (menu.chosen + 1).saturating_sub(rows), rows)
}

/// Where the actions are that the finder offers.
pub fn finder_items(cx: &Context, chosen: usize, offered: usize) -> Items {
    const MOST: usize = 14;
    let rows = offered.min(MOST);
    let area = centred(cx.layout.whole, 90, (rows + 2) as u16);
    Items::bordered(area, (chosen.min(offered.saturating_sub(1)) + 1).saturating_sub(MOST), rows)
}

/// Where the completions of the filter are.
pub fn completion_items(cx: &Context, typing: &Typing) -> Items {
    let (offered, line) = (&typing.completions, cx.layout.line);
    let rows = offered.len().min(usize::from(line.y));
    let width = (widest(typing) + 46).min(usize::from(line.width));
    let area = Rect::new(line.x, line.y - rows as u16, width as u16, rows as u16);
    Items { area, inner: area, top: 0, rows }
}

/// Columns of the completions' texts.
fn widest(typing: &Typing) -> usize {
    let lengths = typing.completions.iter().map(|one| one.text.chars().count());
    lengths.max().unwrap_or(0).clamp(12, 50)
}

/// An area in the middle of the screen.
pub fn centred(all: Rect, width: u16, height: u16) -> Rect {
    let (width, height) = (width.min(all.width), height.min(all.height));
    Rect::new((all.width - width) / 2, (all.height - height) / 2, width, height)
}

fn line(cx: &Context, binding: &Binding, width: usize) -> Line<'static> {
    Line::from(vec![
        Span::raw(" "),
        Span::styled(fit(&binding.keys.join("  "), 24), cx.theme.strong()),
        Span::raw(cut(binding.long, width.saturating_sub(26))),
    ])
}

/// The help: all commands with their keys, by where they can be given.
pub fn help(cx: &Context, specs: &[&'static Spec], scrolled: usize, frame: &mut Frame<'_>) {
    let area = centred(cx.layout.whole, 100, cx.layout.whole.height.saturating_sub(2));
    let width = usize::from(area.width.saturating_sub(2));
    let mut lines = vec![Line::styled(" everywhere", cx.theme.faint())];
    lines.extend(cx.keymap.everywhere().map(|binding| line(cx, binding, width)));
    lines.push(Line::raw(""));
    for spec in specs.iter().filter(|spec| cx.keymap.of(spec.id).next().is_some()) {
        lines.push(Line::styled(format!(" {}", spec.name), cx.theme.faint()));
        lines.extend(cx.keymap.of(spec.id).map(|binding| line(cx, binding, width)));
        lines.push(Line::raw(""));
    }
    lines.push(Line::styled(" Shapes", cx.theme.faint()));
    for (shape, meaning) in [
        ("△ ▲ ◆", "warning, error, fatal"),
        ("◌", "counts as a problem by its text or its code, though its level does not say so"),
        ("✕", "a crash dump"),
        ("▲ △ ↻", "in the Codes view: a failure, one that healthy work has too, a needed restart"),
        ("◂ ▸", "pinned; on the rail: the selected event"),
        (
            "▴ ▾ ▪ ◷ ┊ ◆",
            "on the rail: start, unclean stop, installation, clock set, silence, moment marked while gathering",
        ),
        ("▁ ▄ █  ¹ to ⁸", "on the rail: events that pass the filter; which ink is there"),
    ] {
        lines.push(Line::from(vec![
            Span::raw(" "),
            Span::raw(fit(shape, 24)),
            Span::raw(cut(meaning, width.saturating_sub(26))),
        ]));
    }
    let most = lines.len().saturating_sub(usize::from(area.height.saturating_sub(2)));
    let block = Block::bordered().title(" Keys ").title_bottom(" any other key closes ").border_style(cx.theme.faint());
    frame.render_widget(Clear, area);
    frame.render_widget(Paragraph::new(lines).scroll((scrolled.min(most) as u16, 0)).block(block), area);
}

/// The action finder: what fits the words that are typed.
pub fn finder(cx: &Context, chosen: usize, text: &str, frame: &mut Frame<'_>) {
    let offered = cx.keymap.offered(text);
    let Items { area, top, rows, .. } = finder_items(cx, chosen, offered.len());
    let width = usize::from(area.width.saturating_sub(2));
    let chosen = chosen.min(offered.len().saturating_sub(1));
    let lines: Vec<Line<'_>> = offered
        .iter()
        .enumerate()
        .skip(top)
        .take(rows)
        .map(|(index, binding)| {
            let line = line(cx, binding, width);
            if index == chosen { line.style(cx.theme.chosen()) } else { line }
        })
        .collect();
    frame.render_widget(Clear, area);
    frame.render_widget(
        Paragraph::new(lines).block(Block::bordered().title(" Commands ").border_style(cx.theme.faint())),
        area,
    );
}

/// A menu: what can be chosen.
pub fn menu(cx: &Context, menu: &Menu, frame: &mut Frame<'_>) {
    let Items { area, top, rows, .. } = menu_items(cx, menu);
    let width = usize::from(area.width.saturating_sub(2));
    let shown = menu.shown();
    let mut lines: Vec<Line<'_>> = (shown.iter().enumerate().skip(top).take(rows))
        .map(|(index, at)| {
            let line = Line::raw(fit(&format!(" {}", menu.items[*at].0), width));
            if index == menu.chosen { line.style(cx.theme.chosen()) } else { line }
        })
        .collect();
    if lines.is_empty() {
        lines.push(Line::styled(" nothing fits; Backspace takes a letter back", cx.theme.faint()));
    }
    let title = match menu.typed.as_str() {
        "" => format!(" {} ", menu.title),
        typed => format!(" {} · {typed} ", menu.title),
    };
    let block = Block::bordered().title(title).title_bottom(" letters narrow, Enter selects, Esc closes ");
    frame.render_widget(Clear, area);
    frame.render_widget(Paragraph::new(lines).block(block.border_style(cx.theme.faint())), area);
}

/// What can complete the filter that is being typed, above its line.
pub fn completions(cx: &Context, typing: &Typing, frame: &mut Frame<'_>) {
    let offered = &typing.completions;
    let Items { area, rows, .. } = completion_items(cx, typing);
    if rows == 0 {
        return;
    }
    let (widest, width) = (widest(typing), usize::from(area.width));
    let lines: Vec<Line<'_>> = offered
        .iter()
        .take(rows)
        .enumerate()
        .map(|(index, one)| {
            let text = fit(&format!(" {}", one.text), widest + 2);
            let about = fit(&one.about, width.saturating_sub(widest + 2));
            let line = Line::from(vec![Span::raw(text), Span::styled(about, cx.theme.faint())]);
            if typing.completion == Some(index) { line.style(cx.theme.chosen()) } else { line }
        })
        .collect();
    frame.render_widget(Clear, area);
    frame.render_widget(Paragraph::new(lines), area);
}
