//! The story: what happened, in the words of those who report it.

use boxclock_core::Result;
use boxclock_core::logbook::Story;
use ratatui::text::{Line, Span};

use super::{Item, ListState, Spec, View, ViewCommand};
use crate::context::{Context, Question, Then};
use crate::pane::Pane;
use crate::text::{cut, fit};

static SPEC: Spec = Spec {
    id: "story",
    key: "1",
    name: "Story",
    about: "Story: what happened, in the words of those who report it",
    head_rows: 2,
    item_rows: 3,
    has_pane: true,
    tab_of: None,
};

/// The view.
#[derive(Default)]
struct StoryView {
    list: ListState,
}

/// Makes it.
pub fn new() -> Box<dyn View> {
    Box::<StoryView>::default()
}

const COMMANDS: &[ViewCommand<StoryView>] = &[];

impl View for StoryView {
    view_parts!(SPEC, COMMANDS);

    fn len(&self, _: &Context) -> usize {
        Story::FIELDS.len()
    }

    fn enter(&mut self, cx: &mut Context) -> Result<Then> {
        let Some((key, ..)) = Story::FIELDS.get(self.list.cursor) else { return Ok(Then::Stay) };
        let label = key.replace('_', " ");
        let text = cx.story.get(key).to_owned();
        Ok(Then::Ask(Question::new(label, "Enter saves, Esc cancels", text, move |cx, text| {
            // Moments are shown back in full, so that nobody takes one for another.
            let text = Story::in_full(key, text.trim(), &cx.zone, boxclock_core::clock::now())?;
            set_field(cx, key, text)?;
            Ok(Then::Stay)
        })))
    }

    fn head(&self, cx: &Context, _: usize) -> Vec<Line<'static>> {
        vec![Line::styled(" What is known before looking at any log", cx.theme.strong()), Line::raw("")]
    }

    fn item(&self, cx: &Context, index: usize, width: usize) -> Item {
        let (key, label, hint) = Story::FIELDS[index];
        let value = cx.story.get(key);
        let room = width.saturating_sub(4);
        let text = if value.is_empty() {
            Span::styled(cut(hint, room), cx.theme.faint())
        } else {
            Span::raw(cut(value, room))
        };
        Item {
            row: vec![Span::styled(fit(&format!(" {label}"), width), cx.theme.faint())],
            below: vec![Line::from(vec![Span::raw("   "), text]), Line::raw("")],
        }
    }

    fn pane(&self, cx: &Context, pane: &mut Pane<'_>) {
        if let Some((key, label, hint)) = Story::FIELDS.get(self.list.cursor) {
            pane.strong(label);
            pane.faint(hint);
            // What the list has no room for.
            pane.text(cx.story.get(key));
            pane.gap();
        }
        pane.faint(
            "Write it down while it is fresh. Every field is optional and can be changed at any time. The report begins with it.",
        );
    }
}

/// Changes a field of the story, and notes how to take that back.
fn set_field(cx: &mut Context, key: &'static str, text: String) -> Result<()> {
    let before = cx.story.get(key).to_owned();
    cx.logbook.set_story(key, &text)?;
    cx.story.set(key, text);
    cx.note_undo(format!("story: {}", key.replace('_', " ")), move |cx| set_field(cx, key, before));
    Ok(())
}
