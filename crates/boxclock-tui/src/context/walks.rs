//! Walks: going along the events of a pattern, component, code, ink, or among the pins.

use std::collections::HashSet;
use std::sync::Arc;

use boxclock_core::pattern::PatternAnalysis;
use boxclock_core::timeline::arrange::places_in;

use super::{Context, Then};
use crate::jobs::Apply;
use crate::stream::WalkTarget;

impl Context {
    /// Goes along the walk.
    pub fn walk_to(&mut self, back: bool, times: usize) -> Then {
        let Some((target, label)) = self.stream.walk.clone() else { return self.walk_menu() };
        let Some(places) = self.stream.walk_places.clone() else {
            self.stream.walk_goes = Some((back, times));
            return self.look_for_walk(target);
        };
        let here = self.stream.cursor as u32;
        let times = times.max(1);
        let found = if back {
            let before = places.partition_point(|place| *place < here);
            before.checked_sub(times).or(before.checked_sub(1).map(|_| 0)).and_then(|at| places.get(at))
        } else {
            let after = places.partition_point(|place| *place <= here);
            places.get(after + times - 1).or(places.get(after..).and_then(<[u32]>::last))
        };
        let Some(place) = found.copied() else {
            return Then::say(format!("{label}: none {}", if back { "above" } else { "below" }));
        };
        self.note_jump();
        self.go(place as usize);
        let at = places.partition_point(|other| *other < place) + 1;
        Then::say(format!("{label}: {at} of {}", places.len()))
    }

    fn look_for_walk(&mut self, target: WalkTarget) -> Then {
        let rows = self.stream.rows.rows.clone();
        let pins: HashSet<u32> = self.pinned.keys().copied().collect();
        let ink = match target {
            WalkTarget::Ink(place) => self.stream.inks[place].as_ref().and_then(|ink| ink.rows.clone()),
            _ => None,
        };
        if matches!(target, WalkTarget::Ink(_)) && ink.is_none() {
            return Then::say("Still searching for this ink …");
        }
        self.start(("walk", 0), move |view, work| {
            let rows = rows.as_ref().map_or(&*view.loaded.table.order, |rows| rows.as_slice());
            let by = |test: &dyn Fn(u32) -> bool| {
                rows.iter().zip(0_u32..).filter(|(row, _)| test(**row)).map(|(_, place)| place).collect::<Vec<u32>>()
            };
            let places = match (target, ink) {
                (WalkTarget::Filter(filter), _) => places_in(rows, &filter.rows(view, work)?),
                (WalkTarget::Ink(_), ink) => ink.map_or(Vec::new(), |ink| places_in(rows, &ink)),
                (WalkTarget::Pins, _) => by(&|row| pins.contains(&row)),
                (WalkTarget::Pattern(id), _) => {
                    let patterns = view.run(&PatternAnalysis, work)?;
                    let wanted = patterns.list.iter().position(|pattern| pattern.id == id).map(|at| at as u32);
                    by(&|row| wanted.is_some() && patterns.of_row.get(row as usize).copied() == wanted)
                }
            };
            Ok(Box::new(move |cx: &mut Self| cx.take_walk(places)) as Apply<Self>)
        });
        Then::Stay
    }

    fn take_walk(&mut self, places: Vec<u32>) {
        self.stream.walk_places = Some(Arc::new(places));
        if let Some((back, times)) = self.stream.walk_goes.take()
            && let Then::Say(text) = self.walk_to(back, times)
        {
            self.message = Some(text);
        }
    }
}
