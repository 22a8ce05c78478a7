//! Pins and the chain of causes.

use boxclock_core::Result;
use boxclock_core::analysis::EventKey;
use boxclock_core::logbook::{ChainLink, Link, Pin, PinKind};

use super::{Context, Question, Then};

/// Colours that a pin can have.
const COLOURS: u8 = 8;

impl Context {
    fn pin_at(&self, source: &str, offset: u64) -> Option<&Pin> {
        self.pins.iter().find(|pin| pin.source == source && pin.offset == offset)
    }

    /// Asks for the note of a pin at the chosen event.
    pub fn ask_for_pin(&mut self) -> Then {
        let Some(key) = self.chosen_key() else { return Then::Stay };
        let note = self.pin_at(&key.source, key.offset).map_or(String::new(), |pin| pin.note.clone());
        self.remember();
        Then::Ask(Question::new("note", "Enter saves, Esc cancels", note, move |cx, note| {
            cx.set_pin(&key.source, key.offset, note)?;
            Ok(Then::say("Pinned; 9 shows all pins."))
        }))
    }

    fn set_pin(&mut self, source: &str, offset: u64, note: &str) -> Result<()> {
        let before = self.pin_at(source, offset).map(|pin| pin.note.clone());
        self.logbook.set_pin(source, offset, note)?;
        let of = source.to_owned();
        self.note_undo("pin", move |cx| match before {
            Some(note) => cx.logbook.set_pin(&of, offset, &note),
            None => cx.pin_at(&of, offset).map_or(Ok(()), |pin| cx.logbook.remove_pin(pin.id)),
        });
        self.reload_logbook()
    }

    /// Takes a pin away.
    ///
    /// # Errors
    /// When the logbook cannot be written.
    pub fn remove_pin(&mut self, pin: &Pin) -> Result<Then> {
        let (before, pin) = (self.chain_by_place(), pin.clone());
        self.logbook.remove_pin(pin.id)?;
        self.note_undo("pin removed", move |cx| {
            cx.logbook.set_pin(&pin.source, pin.offset, &pin.note)?;
            (cx.pins, cx.chain) = (cx.logbook.pins()?, cx.logbook.chain()?);
            if let Some(id) = cx.pin_at(&pin.source, pin.offset).map(|pin| pin.id) {
                cx.logbook.set_pin_kind(id, pin.kind, pin.colour)?;
            }
            cx.set_chain_by_place(&before)
        });
        self.reload_logbook()?;
        Ok(Then::say("Pin removed; u undoes this."))
    }

    /// Gives a pin the next kind, or the next colour.
    ///
    /// # Errors
    /// When the logbook cannot be written.
    pub fn change_pin(&mut self, pin: &Pin, colour: bool) -> Result<Then> {
        let next = match pin.colour {
            None => Some(0),
            Some(at) if at + 1 < COLOURS => Some(at + 1),
            Some(_) => None,
        };
        let (kind, tint) = if colour { (pin.kind, next) } else { (pin.kind.next(), pin.colour) };
        let (source, offset, before) = (pin.source.clone(), pin.offset, (pin.kind, pin.colour));
        self.set_pin_look(&source, offset, (kind, tint))?;
        let what = if colour { "colour of a pin" } else { "kind of a pin" };
        self.note_undo(what, move |cx| cx.set_pin_look(&source, offset, before));
        Ok(Then::Stay)
    }

    /// Pins are named by their place: numbers in the logbook change when one is removed and brought back.
    fn set_pin_look(&mut self, source: &str, offset: u64, (kind, colour): (PinKind, Option<u8>)) -> Result<()> {
        if let Some(id) = self.pin_at(source, offset).map(|pin| pin.id) {
            self.logbook.set_pin_kind(id, kind, colour)?;
        }
        self.reload_logbook()
    }

    /// The pins in the order of the Cause view: the chain first, then the others by time.
    pub fn cause_order(&self) -> Vec<(Option<usize>, &Pin)> {
        let in_chain = self.chain.iter().enumerate();
        let mut order: Vec<(Option<usize>, &Pin)> = in_chain
            .filter_map(|(link, of)| self.pins.iter().find(|pin| pin.id == of.pin).map(|pin| (Some(link), pin)))
            .collect();
        let mut loose: Vec<&Pin> =
            self.pins.iter().filter(|pin| !self.chain.iter().any(|link| link.pin == pin.id)).collect();
        loose.sort_by_key(|pin| self.row_of_pin(pin).map_or(i64::MAX, |row| self.event(row).order_time()));
        order.extend(loose.into_iter().map(|pin| (None, pin)));
        order
    }

    /// The chain with the places of its pins.
    fn chain_by_place(&self) -> Vec<(String, u64, Link, String)> {
        let place = |link: &ChainLink| {
            let pin = self.pins.iter().find(|pin| pin.id == link.pin)?;
            Some((pin.source.clone(), pin.offset, link.kind, link.reason.clone()))
        };
        self.chain.iter().filter_map(place).collect()
    }

    fn set_chain_by_place(&mut self, chain: &[(String, u64, Link, String)]) -> Result<()> {
        let links = chain.iter().filter_map(|(source, offset, kind, reason)| {
            let pin = self.pin_at(source, *offset)?.id;
            Some(ChainLink { pin, kind: *kind, reason: reason.clone() })
        });
        let links: Vec<ChainLink> = links.collect();
        self.logbook.set_chain(&links)?;
        self.reload_logbook()?;
        self.note_on_shelf();
        Ok(())
    }

    /// Makes a suggested chain one's own: pins what is not pinned yet, and puts all into the chain in place of what was there.
    /// One undo takes it back.
    ///
    /// # Errors
    /// When the logbook cannot be written.
    pub fn accept_chain(&mut self, links: &[(EventKey, String, Link, String)]) -> Result<()> {
        let before = self.chain_by_place();
        let new: Vec<(EventKey, String)> = links
            .iter()
            .filter(|(key, ..)| self.pin_at(&key.source, key.offset).is_none())
            .map(|(key, note, ..)| (key.clone(), note.clone()))
            .collect();
        for (key, note) in &new {
            self.logbook.set_pin(&key.source, key.offset, note)?;
        }
        self.reload_logbook()?;
        let chain: Vec<(String, u64, Link, String)> = links
            .iter()
            .map(|(key, _, kind, reason)| (key.source.to_string(), key.offset, *kind, reason.clone()))
            .collect();
        self.set_chain_by_place(&chain)?;
        self.note_undo("suggested chain", move |cx| {
            for (key, _) in &new {
                if let Some(id) = cx.pin_at(&key.source, key.offset).map(|pin| pin.id) {
                    cx.logbook.remove_pin(id)?;
                }
            }
            cx.reload_logbook()?;
            cx.set_chain_by_place(&before)
        });
        Ok(())
    }

    /// Stores a changed chain, so that it can be undone.
    ///
    /// # Errors
    /// When the logbook cannot be written.
    pub fn set_chain(&mut self, chain: Vec<ChainLink>) -> Result<()> {
        let before = self.chain_by_place();
        self.logbook.set_chain(&chain)?;
        self.chain = chain;
        self.note_on_shelf();
        self.note_undo("chain", move |cx| cx.set_chain_by_place(&before));
        Ok(())
    }
}
