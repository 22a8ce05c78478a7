//! What the way from a sign to the symptom is like: by names alone, by chance, at once.

use super::Search;
use crate::cause::link::{Why, shared};
use crate::cause::signs::{Sign, SignKind};
use crate::cause::wording::Class;
use crate::clock::MINUTE;

impl Search<'_> {
    /// Whether a sign is tied to the symptom itself by nothing but the name of a program or host, or by the moment.
    pub(super) fn is_tied_by_name_alone(&self, at: usize) -> bool {
        let step = &self.steps[at];
        step.next.as_ref().is_some_and(|(next, ..)| self.steps[*next].next.is_none()) && step.by_name_alone
    }

    /// Whether the way from a sign comes to the symptom by nothing but a name, or the moment.
    pub(super) fn ends_by_name_alone(&self, at: usize) -> bool {
        let mut step = &self.steps[at];
        let mut alone = step.by_name_alone;
        while let Some((next, ..)) = step.next.as_ref().filter(|(next, ..)| self.steps[*next].next.is_some()) {
            step = &self.steps[*next];
            alone = step.by_name_alone;
        }
        alone
    }

    /// Whether the way from a sign to the symptom is of several steps, and each goes by the name of a program or host, or by the moment.
    pub(super) fn goes_by_names(&self, at: usize) -> bool {
        let mut steps = 0;
        let mut at = at;
        while let Some((next, _, why)) = &self.steps[at].next {
            if matches!(why, Why::Names(_) | Why::Effect(_) | Why::Alike(_) | Why::Together) {
                return false;
            }
            (at, steps) = (*next, steps + 1);
        }
        steps > 1
    }

    /// Whether a program was started soon after a change that names it, and at once did what then lasts.
    pub(super) fn took_effect_at_once(&self, at: usize) -> bool {
        let list = &self.signs.list;
        let change = &list[at];
        let mut onset = at;
        while let Some((next, ..)) = self.steps[onset].next.as_ref().filter(|_| list[onset].kind != SignKind::Onset) {
            onset = *next;
        }
        if list[onset].kind != SignKind::Onset
            || !matches!(change.class, Class::Change | Class::Person)
            || change.bad >= 0.5
        {
            return false;
        }
        let (end, names) = (list[onset].time, &list[onset].identity);
        let is_it = |start: &Sign| {
            start.class == Class::Start
                && start.time.saturating_sub(change.time) < 5 * MINUTE
                && end.saturating_sub(start.time) < MINUTE
                && shared(&start.words, names).any(|name| change.words.binary_search(&name).is_ok())
        };
        list[at..onset].iter().any(is_it)
    }

    /// Whether another program complains of the one in which a change was made within minutes.
    pub(super) fn is_complained_of_at_once(&self, at: usize) -> bool {
        let (list, step) = (&self.signs.list, &self.steps[at]);
        let is_told = self.links.change[at] >= 0.8
            && list[at].bad < 0.5
            && matches!(list[at].class, Class::Change | Class::Person | Class::Incomplete);
        is_told && step.next.as_ref().is_some_and(|(next, ..)| self.links.is_complained_of(&list[at], &list[*next]))
    }

    /// Whether a sign and what follows from it name the same rare thing.
    pub(super) fn is_named_by_next(&self, at: usize) -> bool {
        const SURE: f64 = 0.5;
        matches!(self.steps[at].next, Some((_, strength, Why::Names(_))) if strength >= SURE)
    }

    /// Whether a sign and what follows from it began to fail together.
    pub(super) fn came_with_next(&self, at: usize) -> bool {
        matches!(self.steps[at].next, Some((_, _, Why::Together)))
    }

    /// Whether nothing but the moment ties a sign to what follows.
    pub(super) fn is_chance(&self, at: usize) -> bool {
        matches!(self.steps[at].next, Some((_, _, Why::AtOnce)))
    }
}
