//! `event-xml`: events of the Windows event log exported as XML: a document `<Events>`, or one `<Event>` after the other.
//!
//! Source: the vendor's published event schema, see `windows_event.rs`. An event goes from `<Event` to `</Event>`; it is
//! read on its own, so that damage to one leaves the others whole, and no entity of a document type is ever resolved.

use std::io;

use serde_json::{Map, Value};

use super::windows_event::{self, Element};
use super::{Decoder, Input, Output, Place};
use crate::code::{Family, Platform};
use crate::limits;
use crate::text::{self, Encoding};
use crate::trouble::Trouble;

/// The decoder.
pub(super) struct EventXml;

/// Where the next `<Event` that is an element of that name starts.
fn find_start(text: &str, from: usize) -> Option<usize> {
    let mut from = from;
    loop {
        let at = from + text.get(from..)?.find("<Event")?;
        match text.as_bytes().get(at + 6) {
            Some(b' ' | b'>' | b'\t' | b'\r' | b'\n' | b'/') => return Some(at),
            None => return None,
            Some(_) => from = at + 6,
        }
    }
}

impl Decoder for EventXml {
    fn name(&self) -> &'static str {
        "event-xml"
    }

    fn names_programs(&self) -> bool {
        true
    }

    fn families(&self) -> &'static [Family] {
        &[Family::Win32, Family::Hresult, Family::NtStatus]
    }

    fn recognise(&self, start: &[u8]) -> bool {
        let Some((encoding, mark)) = text::guess(&[start.to_vec()]) else { return false };
        let text = encoding.text(usize::try_from(mark).ok().and_then(|mark| start.get(mark..)).unwrap_or_default());
        let lead = text.trim_start();
        let lead = match lead.strip_prefix("<?xml") {
            Some(rest) => rest.split_once("?>").map_or("", |(_, rest)| rest).trim_start(),
            None => lead,
        };
        let event = find_start(lead, 0);
        let begins = lead.starts_with("<Event") || lead.starts_with("<!--") || lead.starts_with("<!DOCTYPE");
        begins
            && event
                .is_some_and(|at| lead.get(at..).is_some_and(|rest| rest.contains("<System") || rest.len() > 30_000))
    }

    fn version(&self) -> u32 {
        2
    }

    fn platform(&self) -> Platform {
        Platform::Windows
    }

    fn structured(&self, _: &str, fields: &str) -> Option<String> {
        Element::parse(fields).map(|event| event.to_pretty_xml())
    }

    fn attributes(&self, _: &str, fields: &str) -> Map<String, Value> {
        windows_event::attributes(fields)
    }

    fn decode(&self, input: &Input<'_>, out: &mut Output) -> io::Result<()> {
        let mut lines = input.lines()?;
        let encoding = lines.encoding;
        encoding.name().clone_into(&mut out.account.encoding);
        let unit = |text: &str| -> u64 {
            match encoding {
                Encoding::Utf16Le | Encoding::Utf16Be => (text.encode_utf16().count() as u64).saturating_mul(2),
                Encoding::Windows1252 | Encoding::Latin1 => text.chars().count() as u64,
                _ => text.len() as u64,
            }
        };
        let mut event: Option<(Place, String)> = None;
        while let Some(line) = lines.next_line()? {
            out.account.lines = out.account.lines.saturating_add(1);
            let mut at = 0;
            let mut met = event.is_some();
            // A line may end one event and start others.
            loop {
                if let Some((place, text)) = &mut event {
                    let rest = line.text.get(at..).unwrap_or_default();
                    if let Some(end) = rest.find("</Event>") {
                        text.push_str(&rest[..end + 8]);
                        at += end + 8;
                        let stop = line.place.offset.saturating_add(unit(&line.text[..at]).min(line.place.length));
                        place.length = stop.saturating_sub(place.offset);
                        write(*place, text, out)?;
                        event = None;
                    } else {
                        text.push_str(rest);
                        text.push('\n');
                        if text.len() > limits::RECORD_BYTES {
                            out.trouble(Trouble::lost(format!(
                                "the event at byte {} is longer than {} bytes, or has no end",
                                place.offset,
                                limits::RECORD_BYTES
                            )));
                            event = None;
                        }
                        break;
                    }
                } else {
                    let Some(start) = find_start(&line.text, at) else { break };
                    met = true;
                    at = start;
                    // Damaged characters are longer as text than in the file.
                    let offset = line.place.offset.saturating_add(unit(&line.text[..start]).min(line.place.length));
                    event = Some((Place { line: line.place.line, offset, length: 0 }, String::new()));
                }
            }
            let own = event.as_ref().is_some_and(|(place, _)| place.line == line.place.line);
            out.account.attached_lines = out
                .account
                .attached_lines
                .saturating_add(u64::from(met && !own && !line.text.trim_start().starts_with("<Event")));
        }
        if let Some((place, _)) = event {
            out.trouble(Trouble::lost(format!("cut off: the event at byte {} has no end", place.offset)));
        }
        Ok(())
    }
}

fn write(place: Place, xml: &str, out: &mut Output) -> io::Result<()> {
    if let Some(event) = Element::parse(xml) {
        windows_event::write(&event, None, place, out)
    } else {
        out.trouble(Trouble::lost(format!("the event at byte {} is not well-formed XML", place.offset)));
        out.entry(&super::Entry { body: xml, ..super::Entry::at(place) })
    }
}
