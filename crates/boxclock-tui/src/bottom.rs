//! The line at the bottom: filter and counts, or what is being typed; and the keys.

use ratatui::Frame;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;
use ratatui::text::{Line, Span};
use ratatui::widgets::Paragraph;
use unicode_width::UnicodeWidthStr;

use crate::commands::Binding;
use crate::context::{Context, Live, Question, STREAM};
use crate::jobs::WRITE;
use crate::text::{cut, grouped, many, skip};
use crate::theme::Hue;
use crate::typing::Typing;

/// Draws what is being typed, with what is wrong with it or what can be written.
pub fn draw_typing(cx: &Context, typing: &Typing, counts: &str, frame: &mut Frame<'_>) {
    let (line, hints) = (cx.layout.line, cx.layout.hints);
    let question = &typing.question;
    let (text, cursor) = (typing.input.value(), typing.input.visual_cursor());
    // Somebody may look over the shoulder.
    let hidden = "*".repeat(text.chars().count());
    let text = if question.is_secret { hidden } else { text.replace('\n', "\u{23CE}") };
    let label = format!(" {}  ", question.label);
    let counts = match question.live {
        Live::Find if cx.stream.find.is_some() => hits(cx),
        Live::Filter if !cx.stream.filter_text.is_empty() => counts.to_owned(),
        _ => String::new(),
    };
    let width = usize::from(line.width);
    // What is typed comes first.
    let counts = if label.width() + text.width() + counts.width() + 4 > width { String::new() } else { counts };
    let room = width.saturating_sub(label.width() + 1);
    let scrolled = cursor.saturating_sub(room);
    let shown = skip(&text, scrolled);
    let spans = vec![Span::styled(label.clone(), cx.theme.strong()), Span::raw(cut(&shown, room + 1))];
    frame.render_widget(Paragraph::new(Line::from(spans)), line);
    if !counts.is_empty() {
        let from = line.width.saturating_sub(counts.width() as u16 + 1);
        let place = Rect { x: line.x + from, width: line.width - from, ..line };
        frame.render_widget(Paragraph::new(counts).style(cx.theme.faint()), place);
    }
    let column = (label.width() + cursor - scrolled) as u16;
    frame.set_cursor_position(Position::new(line.x + column.min(line.width.saturating_sub(1)), line.y));
    let help = help_line(cx, question, label.width(), usize::from(hints.width));
    frame.render_widget(Paragraph::new(Line::from(help)), hints);
}

/// What is wrong with what is typed, marked below it; or what can be written.
fn help_line(cx: &Context, question: &Question, indent: usize, width: usize) -> Span<'static> {
    if let (Live::Filter, Some(error)) = (question.live, &cx.stream.filter_error) {
        let text = format!("{}^ {}", " ".repeat(indent + error.at), error.message);
        let text = if text.width() > width { format!(" at {}: {}", error.at + 1, error.message) } else { text };
        return Span::styled(cut(&text, width), cx.theme.hue(Hue::Orange));
    }
    match &cx.message {
        Some(message) => Span::styled(cut(&format!(" {message}"), width), cx.theme.hue(Hue::Orange)),
        None => Span::styled(cut(&format!(" {}", question.help), width), cx.theme.faint()),
    }
}

/// Draws filter and counts, and the keys that matter here.
pub fn draw(cx: &Context, counts: &str, times: &str, frame: &mut Frame<'_>) {
    let (line, hints) = (cx.layout.line, cx.layout.hints);
    let (left, style) = status(cx, times);
    let room = usize::from(line.width).saturating_sub(counts.width() + 3);
    let left = cut(&left, room);
    let gap = room.saturating_sub(left.width());
    let spans = vec![
        Span::raw(" "),
        Span::styled(left, style),
        Span::raw(" ".repeat(gap + 1)),
        Span::styled(counts.to_owned(), cx.theme.faint()),
    ];
    frame.render_widget(Paragraph::new(Line::from(spans)), line);
    frame.render_widget(Paragraph::new(keys(cx, hints.width)), hints);
}

/// Which hit of how many this is.
fn hits(cx: &Context) -> String {
    let Some(hits) = &cx.stream.hits else { return "searching …".into() };
    let at = hits.partition_point(|hit| (*hit as usize) < cx.stream.cursor);
    let here = hits.get(at).is_some_and(|hit| *hit as usize == cx.stream.cursor);
    let place = if here { format!("{} of ", at + 1) } else { String::new() };
    format!("{place}{}", many(hits.len() as u64, "hit"))
}

fn status(cx: &Context, times: &str) -> (String, Style) {
    if !times.is_empty() {
        return (format!("{} times …", times.trim_start_matches('0')), cx.theme.strong());
    }
    if let Some(percent) = cx.jobs.percent(WRITE) {
        return (format!("writing … {percent} %   Esc stops"), cx.theme.hue(Hue::Sky));
    }
    if let Some(message) = cx.message.as_ref().filter(|_| cx.stream.hits.is_none()) {
        return (message.clone(), cx.theme.hue(Hue::Sky));
    }
    if let Some(notice) = &cx.logbook_notice {
        return (notice.clone(), cx.theme.hue(Hue::Orange));
    }
    if cx.stream.find.is_some() {
        let message = cx.message.as_ref().filter(|_| cx.stream.hits.is_some());
        let message = message.map_or(String::new(), |message| format!("   {message}"));
        return (format!("find  {}   {}{message}", cx.stream.find_text, hits(cx)), Style::new());
    }
    if let Some(place) = &cx.stream.selected {
        let count = place.end() - place.start() + 1;
        return (format!("{} selected   {}", grouped(count as u64), cx.stream.filter_text), cx.theme.strong());
    }
    if cx.is_new() {
        let key = |name| cx.keymap.everywhere().find(|row| row.name == name).map_or("", |row| row.keys[0].as_str());
        let (story, collect) = (key("story"), key("collect"));
        let text = format!("Next: {story} writes down what happened, then {collect} gathers the logs of the machines.");
        return (text, cx.theme.hue(Hue::Sky));
    }
    if cx.stream.filter_text.is_empty() && !cx.host_folders.is_empty() {
        let names: Vec<&str> = cx.host_folders.iter().map(|(label, _)| label.as_str()).collect();
        let text = format!("One folder for each host? Ctrl-O opens them so: {}", names.join(", "));
        return (text, cx.theme.hue(Hue::Sky));
    }
    if cx.stream.filter_text.is_empty() {
        return ("no filter".into(), cx.theme.faint());
    }
    (format!("filter  {}", cx.stream.filter_text), Style::new())
}

/// Commands of the Stream for the first hour; the finder and the help know all.
const FIRST: [&str; 14] = [
    "previous-problem",
    "next-problem",
    "filter",
    "values",
    "find",
    "next-hit",
    "go-to-time",
    "pin",
    "ink",
    "lenses",
    "choose-walk",
    "fold-runs",
    "unfold",
    "next-link",
];
/// Commands for everywhere that are shown where there is room; the last two always.
const COMMON: [&str; 4] = ["jump-back", "finder", "help", "quit"];

/// Which keys matter here: those of the view first.
fn keys(cx: &Context, width: u16) -> Line<'static> {
    let mut own: Vec<&Binding> = cx.keymap.of(cx.at).collect();
    if cx.at == STREAM {
        let place = |binding: &&Binding| FIRST.iter().position(|name| *name == binding.name);
        own.retain(|binding| place(binding).is_some());
        own.sort_by_key(place);
    }
    let enter = cx.keymap.everywhere().filter(|binding| binding.name == "enter" && cx.at != STREAM);
    let common: Vec<&Binding> =
        COMMON.iter().filter_map(|name| cx.keymap.everywhere().find(|binding| binding.name == *name)).collect();
    let wide = |binding: &Binding| binding.keys[0].width() + binding.short.width() + 3;
    let mut room = usize::from(width).saturating_sub(1 + common.iter().skip(2).map(|row| wide(row)).sum::<usize>());
    let mut shown: Vec<&Binding> = Vec::new();
    for binding in enter.chain(own).chain(common.iter().take(2).copied()) {
        if let Some(left) = room.checked_sub(wide(binding)) {
            room = left;
            shown.push(binding);
        }
    }
    let mut spans = vec![Span::raw(" ")];
    for binding in shown.into_iter().chain(common.iter().skip(2).copied()) {
        spans.push(Span::raw(binding.keys[0].clone()));
        spans.push(Span::styled(format!(" {}  ", binding.short), cx.theme.faint()));
    }
    Line::from(spans)
}
