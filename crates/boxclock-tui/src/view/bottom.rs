//! The line at the bottom: filter and counts, or what is being typed; and the keys.

use ratatui::Frame;
use ratatui::layout::{Position, Rect};
use ratatui::text::{Line, Span};
use ratatui::widgets::Paragraph;
use unicode_width::UnicodeWidthStr;

use super::text::{cut, grouped, many};
use crate::app::{App, Mode, Prompt, Step};
use crate::jobs::Kind;
use crate::keys::{Action, Binding, Scope, bindings};
use crate::theme::Hue;
use crate::update;

/// Draws it.
pub(super) fn draw(app: &App, frame: &mut Frame<'_>) {
    let (line, hints) = (app.layout.line, app.layout.hints);
    if let Mode::Typing(prompt, input) = &app.mode {
        let (text, cursor) = update::typed(input);
        // Somebody may look over the shoulder.
        let hidden = "*".repeat(text.chars().count());
        let text = if matches!(prompt, Prompt::Password) { hidden.as_str() } else { text };
        let label = format!(" {}  ", label(prompt));
        let counts = counts_while_typing(app, prompt);
        let width = usize::from(line.width);
        // What is typed comes first.
        let counts = if label.width() + text.width() + counts.width() + 4 > width { String::new() } else { counts };
        let room = width.saturating_sub(label.width() + 1);
        let scrolled = cursor.saturating_sub(room);
        let shown = super::text::skip(text, scrolled);
        let spans = vec![Span::styled(label.clone(), app.theme.strong()), Span::raw(cut(&shown, room + 1))];
        frame.render_widget(Paragraph::new(Line::from(spans)), line);
        if !counts.is_empty() {
            let from = line.width.saturating_sub(counts.width() as u16 + 1);
            let place = Rect { x: line.x + from, width: line.width - from, ..line };
            frame.render_widget(Paragraph::new(counts).style(app.theme.faint()), place);
        }
        let column = (label.width() + cursor - scrolled) as u16;
        frame.set_cursor_position(Position::new(line.x + column.min(line.width.saturating_sub(1)), line.y));
        frame.render_widget(Paragraph::new(Line::from(help_for(app, prompt, label.width(), hints.width))), hints);
        return;
    }
    let counts = counts(app);
    let (left, style) = status(app);
    let room = usize::from(line.width).saturating_sub(counts.width() + 3);
    let left = cut(&left, room);
    let gap = room.saturating_sub(left.width());
    let spans = vec![
        Span::raw(" "),
        Span::styled(left, style),
        Span::raw(" ".repeat(gap + 1)),
        Span::styled(counts, app.theme.faint()),
    ];
    frame.render_widget(Paragraph::new(Line::from(spans)), line);
    frame.render_widget(Paragraph::new(keys(app, hints.width)), hints);
}

fn label(prompt: &Prompt) -> String {
    match prompt {
        Prompt::Filter => "filter".into(),
        Prompt::Find => "find".into(),
        Prompt::Time => "go to".into(),
        Prompt::Note => "note".into(),
        Prompt::Clock(host) => format!("add to the clock of {host}"),
        Prompt::Zone(_) => "zone of this source".into(),
        Prompt::ReadAs(_) => "read this source as".into(),
        Prompt::Password => "password".into(),
        Prompt::Field(key) => (*key).replace('_', " "),
        Prompt::Reason(_) => "it follows because".into(),
        Prompt::ReportPath | Prompt::ExportPath | Prompt::ChartPath => "write to".into(),
        Prompt::Ink(place) => format!("ink {}", place + 1),
        Prompt::LensName => "name of the lens".into(),
        Prompt::Columns => "columns".into(),
        Prompt::ShownZone => "show times in".into(),
        Prompt::Desk(key) => (*key).into(),
        Prompt::Label(_) => "host of this source".into(),
        Prompt::Finder(_) => "action".into(),
        Prompt::Lookup(_) => "code or words".into(),
    }
}

/// What is wrong with what is typed, marked below it; or what can be typed.
fn help_for(app: &App, prompt: &Prompt, indent: usize, width: u16) -> Vec<Span<'static>> {
    if let (Prompt::Filter, Some(error)) = (prompt, &app.filter_error) {
        let column = indent + error.at;
        let text = format!("{}^ {}", " ".repeat(column), error.message);
        let text =
            if text.width() > usize::from(width) { format!(" at {}: {}", error.at + 1, error.message) } else { text };
        return vec![Span::styled(cut(&text, usize::from(width)), app.theme.hue(Hue::Orange))];
    }
    if let Some(message) = &app.message {
        return vec![Span::styled(cut(&format!(" {message}"), usize::from(width)), app.theme.hue(Hue::Orange))];
    }
    let text = match prompt {
        Prompt::Filter => {
            "level>=warn  host=NAME  source~part  time in 02:10..02:35  words  /regex/  not or ( )   Tab completes, Enter keeps, Esc undoes"
        }
        Prompt::Find => "a text, or /a regular expression/   Enter stays here, Esc goes back, then n and N",
        Prompt::Time => "02:31  02:31:07  2026-04-12 02:31",
        Prompt::Clock(_) => "-6m41s if it is fast, +90s if it is slow, 0 for as written",
        Prompt::Zone(_) => "+02:00  UTC  Europe/Lisbon   nothing: as found out",
        Prompt::ReadAs(_) => "rfc3164  windows-1252  day-first   nothing: as found out",
        Prompt::Password => "it is tried on every encrypted member, and kept in memory only",
        Prompt::Finder(_) => "words of what you want to do; arrows choose, Enter does it",
        Prompt::Lookup(_) => "arrows choose, Enter shows its events in this case, Esc leaves",
        Prompt::Ink(_) => "a text, /a regular expression/, or =level>=error host=NAME; nothing takes it away",
        Prompt::LensName => "Enter keeps the filter under this name",
        Prompt::Columns => "time level host:10 source component pid tid line; nothing: as it fits",
        Prompt::ShownZone => "+02:00  UTC  Europe/Lisbon   nothing: the zone of the case",
        Prompt::ChartPath => "NAME.svg or NAME.pdf",
        Prompt::ExportPath => ".log as it was read, .txt, .csv, .jsonl, .xml, .otlp.json",
        Prompt::Label(_) => "the label of its host; nothing: where it was found",
        Prompt::Desk(key) => {
            app.desk.task().fields().iter().find(|(field, ..)| field == key).map_or("", |(.., hint)| hint)
        }
        Prompt::Note | Prompt::Field(_) | Prompt::Reason(_) | Prompt::ReportPath => "Enter keeps, Esc gives up",
    };
    vec![Span::styled(cut(&format!(" {text}"), usize::from(width)), app.theme.faint())]
}

/// Which hit of how many this is.
fn hits(app: &App) -> String {
    let Some(hits) = &app.hits else { return "looking …".into() };
    let at = hits.partition_point(|hit| (*hit as usize) < app.cursor);
    let here = hits.get(at).is_some_and(|hit| *hit as usize == app.cursor);
    let place = if here { format!("{} of ", at + 1) } else { String::new() };
    format!("{place}{}", many(hits.len() as u64, "hit"))
}

/// How much there is of what is being typed.
fn counts_while_typing(app: &App, prompt: &Prompt) -> String {
    match prompt {
        Prompt::Find if app.find.is_some() => hits(app),
        Prompt::Filter if !app.filter_text.is_empty() => counts(app),
        _ => String::new(),
    }
}

fn status(app: &App) -> (String, ratatui::style::Style) {
    if !app.workspace.count.is_empty() {
        let count = app.workspace.count.trim_start_matches('0');
        return (format!("{count} times …"), app.theme.strong());
    }
    if let Some(percent) = app.jobs.writing() {
        return (format!("writing … {percent} %   Esc stops"), app.theme.hue(Hue::Sky));
    }
    if let Some(message) = app.message.as_ref().filter(|_| app.hits.is_none()) {
        return (message.clone(), app.theme.hue(Hue::Sky));
    }
    if let Some(notice) = &app.logbook_notice {
        return (notice.clone(), app.theme.hue(Hue::Orange));
    }
    if app.find.is_some() {
        let message = app.message.as_ref().filter(|_| app.hits.is_some());
        let message = message.map_or(String::new(), |message| format!("   {message}"));
        return (format!("find  {}   {}{message}", app.find_text, hits(app)), ratatui::style::Style::new());
    }
    if let Some(place) = &app.selected {
        let count = place.end() - place.start() + 1;
        return (format!("{} selected   {}", grouped(count as u64), app.filter_text), app.theme.strong());
    }
    if app.filter_text.is_empty() {
        return ("no filter".into(), app.theme.faint());
    }
    (format!("filter  {}", app.filter_text), ratatui::style::Style::new())
}

fn counts(app: &App) -> String {
    if app.step != Step::Stream {
        return format!(
            "{} of {}",
            (app.list_cursor(app.step) + 1).min(app.list_len(app.step)),
            app.list_len(app.step)
        );
    }
    if app.jobs.is_running(Kind::View) {
        return "looking …".into();
    }
    let problems = &app.view.problems;
    let above = problems.partition_point(|place| (*place as usize) < app.cursor);
    let below = problems.len() - problems.partition_point(|place| (*place as usize) <= app.cursor);
    let total = app.loaded.table.len();
    let events = if app.view.rows.is_some() {
        format!("{} of {}", grouped(app.view_len() as u64), grouped(total as u64))
    } else {
        format!("{} of {}", grouped((app.cursor + 1).min(total) as u64), grouped(total as u64))
    };
    format!("{events}   problems {} ↑ {} ↓", grouped(above as u64), grouped(below as u64))
}

/// Which keys matter here, from the table: those of the view first.
fn keys(app: &App, width: u16) -> Line<'static> {
    const COMMON: [Action; 4] = [Action::JumpBack, Action::Finder, Action::Help, Action::Quit];
    let scope = app.step.scope();
    // Of the many keys of the Stream those for the first hour; the finder and the help know all.
    const FIRST: [Action; 14] = [
        Action::PreviousProblem,
        Action::NextProblem,
        Action::Filter,
        Action::Values,
        Action::Find,
        Action::NextHit,
        Action::GoToTime,
        Action::Pin,
        Action::Ink,
        Action::Lenses,
        Action::ChooseWalk,
        Action::Collapse,
        Action::Unfold,
        Action::NextLink,
    ];
    let mut own: Vec<&Binding> = bindings().iter().filter(|binding| Some(binding.scope) == scope).collect();
    if scope == Some(Scope::Stream) {
        let place = |binding: &&Binding| FIRST.iter().position(|action| *action == binding.action);
        own.retain(|binding| place(binding).is_some());
        own.sort_by_key(place);
    }
    let enter = bindings()
        .iter()
        .filter(|binding| binding.action == Action::Enter && !matches!(scope, Some(Scope::Stream | Scope::Report)));
    let common: Vec<_> = bindings().iter().filter(|binding| COMMON.contains(&binding.action)).collect();
    let wide = |binding: &Binding| binding.keys[0].width() + binding.short.width() + 3;
    // Help and quit are always there; the others as far as there is room.
    let mut room =
        usize::from(width).saturating_sub(1 + common.iter().skip(2).map(|binding| wide(binding)).sum::<usize>());
    let mut shown: Vec<&Binding> = Vec::new();
    for binding in enter.chain(own).chain(common.iter().take(2).copied()) {
        if let Some(left) = room.checked_sub(wide(binding)) {
            room = left;
            shown.push(binding);
        }
    }
    let mut spans = vec![Span::raw(" ")];
    for binding in shown.into_iter().chain(common.iter().skip(2).copied()) {
        spans.push(Span::raw(binding.keys[0]));
        spans.push(Span::styled(format!(" {}  ", binding.short), app.theme.faint()));
    }
    Line::from(spans)
}
