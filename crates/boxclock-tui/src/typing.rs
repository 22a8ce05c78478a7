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
}

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
        Self { question, input, chosen: 0, completions: Vec::new(), completion: None, found: Vec::new() }
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
                self.choose(key.code == KeyCode::Up);
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
        self.changed(cx);
        Typed::On
    }

    /// Takes pasted text, as if typed in one go.
    pub fn paste(&mut self, cx: &mut Context, text: &str) {
        for c in text.chars().filter(|c| !c.is_control()) {
            self.input.handle(InputRequest::InsertChar(c));
        }
        self.changed(cx);
    }

    /// Chooses among what is offered.
    fn choose(&mut self, up: bool) {
        if matches!(self.question.live, Live::Finder | Live::Lookup) {
            self.chosen = if up { self.chosen.saturating_sub(1) } else { self.chosen + 1 };
        } else if let Some(last) = self.completions.len().checked_sub(1) {
            let at = self.completion;
            self.completion =
                if up { at.and_then(|at| at.checked_sub(1)) } else { Some(at.map_or(0, |at| (at + 1).min(last))) };
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
