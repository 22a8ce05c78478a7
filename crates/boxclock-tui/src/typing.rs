//! The line that is being typed, and what typing shows at once.

use boxclock_core::code::lookup::{look_up, search};
use boxclock_core::code::{CodeInfo, Platform};
use boxclock_core::query::values::{Completion, ValueAnalysis, completions};
use boxclock_core::query::{FIELDS, Filter};
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use tui_input::{Input, InputRequest};

use crate::context::{Context, Live, Question};

/// A line that is being typed.
pub struct Typing {
    pub question: Question,
    pub input: Input,
    /// The chosen line of the finder or the lookup.
    pub chosen: usize,
    /// What can complete the filter, and which one is chosen.
    pub completions: Vec<Completion>,
    pub completion: Option<usize>,
    /// What the lookup has found.
    pub found: Vec<CodeInfo>,
    /// Which of the lines typed before stands here, from the end; and what had been typed when going back began.
    earlier: Option<(usize, String)>,
}

/// Lines of a kind that are remembered.
const MAX_EARLIER: usize = 50;

/// What a key asks of the application.
pub enum Typed {
    /// The line goes on.
    On,
    /// Enter.
    Accept,
    /// Esc.
    GiveUp,
}

impl Typing {
    /// Begins a line.
    pub fn new(question: Question) -> Self {
        let input = Input::new(question.text.clone());
        Self { question, input, chosen: 0, completions: Vec::new(), completion: None, found: Vec::new(), earlier: None }
    }

    /// Takes a key.
    pub fn key(&mut self, cx: &mut Context, key: KeyEvent) -> Typed {
        let control = key.modifiers.contains(KeyModifiers::CONTROL);
        let request = match key.code {
            KeyCode::Enter if self.completion.is_some() => {
                // An arrow has chosen one: Enter takes it, and typing goes on.
                self.complete(cx);
                return Typed::On;
            }
            KeyCode::Enter => return Typed::Accept,
            KeyCode::Esc => return Typed::GiveUp,
            KeyCode::Char('c') if control => return Typed::GiveUp,
            KeyCode::Up | KeyCode::Down => {
                let up = key.code == KeyCode::Up;
                if !self.choose(up) {
                    self.recall(cx, up);
                }
                return Typed::On;
            }
            KeyCode::Char('p' | 'n') if control => {
                self.recall(cx, key.code == KeyCode::Char('p'));
                return Typed::On;
            }
            KeyCode::Tab => {
                self.complete(cx);
                return Typed::On;
            }
            KeyCode::Char('u') if control => InputRequest::DeleteLine,
            KeyCode::Char('w') if control => InputRequest::DeletePrevWord,
            KeyCode::Char('a') if control => InputRequest::GoToStart,
            KeyCode::Char('e') if control => InputRequest::GoToEnd,
            KeyCode::Char(c) if !control => InputRequest::InsertChar(c),
            KeyCode::Backspace => InputRequest::DeletePrevChar,
            KeyCode::Delete => InputRequest::DeleteNextChar,
            KeyCode::Left => InputRequest::GoToPrevChar,
            KeyCode::Right => InputRequest::GoToNextChar,
            KeyCode::Home => InputRequest::GoToStart,
            KeyCode::End => InputRequest::GoToEnd,
            _ => return Typed::On,
        };
        self.input.handle(request);
        self.earlier = None;
        self.changed(cx);
        Typed::On
    }

    /// Takes pasted text, as if typed in one go. Two lines of a note stay two; what is looked for is one line.
    pub fn paste(&mut self, cx: &mut Context, text: &str) {
        let between = if self.question.live == Live::Nothing { '\n' } else { ' ' };
        let text = text.replace("\r\n", "\n").replace('\r', "\n");
        for c in text.trim_end_matches('\n').chars() {
            let c = if c == '\n' { between } else { c };
            if c == '\n' || !c.is_control() {
                self.input.handle(InputRequest::InsertChar(c));
            }
        }
        self.changed(cx);
    }

    /// Chooses among what is offered; gives whether there was something to choose. Going up with nothing chosen goes back to what was
    /// typed before.
    fn choose(&mut self, up: bool) -> bool {
        if matches!(self.question.live, Live::Finder | Live::Lookup) {
            self.chosen = if up { self.chosen.saturating_sub(1) } else { self.chosen + 1 };
            return true;
        }
        let Some(last) = self.completions.len().checked_sub(1) else { return false };
        match (self.completion, up) {
            (None, true) => return false,
            (None, false) if self.earlier.is_some() => return false,
            (at, true) => self.completion = at.and_then(|at| at.checked_sub(1)),
            (at, false) => self.completion = Some(at.map_or(0, |at| (at + 1).min(last))),
        }
        true
    }

    /// Puts the line that was typed before this one in its place, or the one after it.
    fn recall(&mut self, cx: &mut Context, back: bool) {
        let Some(lines) = cx.typed_before.get(&self.question.label) else { return };
        let at = self.earlier.as_ref().map_or(0, |(at, _)| *at);
        let to = if back { (at + 1).min(lines.len()) } else { at.saturating_sub(1) };
        let typed = self.earlier.take().map_or_else(|| self.input.value().to_owned(), |(_, typed)| typed);
        let line = if to == 0 { typed.clone() } else { lines[lines.len() - to].clone() };
        self.earlier = (to > 0).then_some((to, typed));
        self.input = Input::new(line);
        self.changed(cx);
    }

    /// Notes the line, for going back to it.
    pub fn note(&self, cx: &mut Context) {
        let text = self.input.value();
        if text.trim().is_empty() || self.question.is_secret {
            return;
        }
        let lines = cx.typed_before.entry(self.question.label.clone()).or_default();
        lines.retain(|line| line != text);
        lines.push(text.to_owned());
        if lines.len() > MAX_EARLIER {
            lines.remove(0);
        }
    }

    /// Puts the chosen completion, or the first one, in the place of the word that is being typed.
    pub fn complete(&mut self, cx: &mut Context) {
        let Some(one) = self.completions.get(self.completion.unwrap_or(0)).cloned() else { return };
        let at = self.cursor_byte();
        let (before, after) =
            (self.input.value().get(..one.from).unwrap_or_default(), self.input.value().get(at..).unwrap_or_default());
        let completed = format!("{before}{}", one.text);
        let cursor = completed.chars().count();
        self.input = Input::new(format!("{completed}{after}")).with_cursor(cursor);
        self.changed(cx);
    }

    /// Where the cursor stands, in bytes of the text.
    fn cursor_byte(&self) -> usize {
        let text = self.input.value();
        text.char_indices().nth(self.input.cursor()).map_or(text.len(), |(at, _)| at)
    }

    /// What typing shows at once.
    fn changed(&mut self, cx: &mut Context) {
        let text = self.input.value().to_owned();
        match self.question.live {
            Live::Filter => {
                let values = cx.view.known(&ValueAnalysis).unwrap_or_default();
                self.completions = completions(&text, self.cursor_byte(), &values);
                self.completion = None;
                preview_filter(cx, &text);
            }
            Live::Find => cx.look_for(&text),
            Live::Finder => self.chosen = 0,
            Live::Lookup => {
                self.chosen = 0;
                self.found = match text.trim() {
                    "" => Vec::new(),
                    text => look_up(text, Platform::Unknown, &cx.catalogues())
                        .unwrap_or_else(|_| search(text, Platform::Unknown, &cx.catalogues())),
                };
            }
            Live::Nothing => {}
        }
    }
}

/// Shows the rows of a filter while it is typed. While it is wrong, the last good one stays in force.
fn preview_filter(cx: &mut Context, text: &str) {
    // The name of a field is being typed: as a text it would hide nearly everything for that moment.
    if names_a_field(text) {
        cx.stream.filter_error = None;
        return;
    }
    match Filter::parse_with(text, &cx.zone, &cx.catalogues()) {
        Ok(filter) => cx.use_filter(text, filter),
        Err(error) => cx.stream.filter_error = Some(error),
    }
}

/// Whether the last word is the beginning of a field's name.
fn names_a_field(text: &str) -> bool {
    let word = text.rsplit([' ', '(']).next().unwrap_or_default();
    !word.is_empty() && FIELDS.iter().any(|(name, _)| name.starts_with(&word.to_lowercase()))
}
