//! An event of the Windows event log as a tree of elements, and what it says.
//!
//! Source: the event schema that the vendor publishes with its event log interfaces ("Event Schema": `System` with
//! `Provider`, `EventID`, `Level`, `TimeCreated`, …; `EventData`, `UserData`, `RenderingInfo`), the standard levels (1
//! critical, 2 error, 3 warning, 4 information, 5 verbose, 0 always) and keywords (audit failure and success).

use std::borrow::Cow;
use std::fmt::Write;
use std::io;
use std::rc::Rc;

use quick_xml::Reader;
use quick_xml::escape::{escape, resolve_predefined_entity};
use quick_xml::events::{BytesStart, Event};
use serde_json::{Map, Value};

use super::{Entry, Output, Place};
use crate::clock::{Stamp, scan};
use crate::severity::Severity;

/// Elements inside elements.
pub(super) const DEPTH: usize = 64;

/// An element with its attributes, text and children.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Element {
    pub name: Rc<str>,
    pub attributes: Vec<(Rc<str>, String)>,
    pub text: String,
    pub children: Vec<Element>,
}

impl Element {
    pub(super) fn named(name: impl Into<Rc<str>>) -> Self {
        Self { name: name.into(), attributes: Vec::new(), text: String::new(), children: Vec::new() }
    }

    /// The child of a name, whatever prefix it has.
    pub(super) fn child(&self, name: &str) -> Option<&Self> {
        self.children.iter().find(|child| &*child.name == name || child.local() == name)
    }

    fn local(&self) -> &str {
        match memchr::memchr(b':', self.name.as_bytes()) {
            Some(colon) => &self.name[colon + 1..],
            None => &self.name,
        }
    }

    fn attribute(&self, name: &str) -> Option<&str> {
        self.attributes.iter().find(|(key, _)| &**key == name).map(|(_, value)| value.as_str())
    }

    /// The text of the child of a name.
    pub(super) fn text_of(&self, name: &str) -> Option<&str> {
        self.child(name).map(|child| child.text.trim()).filter(|text| !text.is_empty())
    }

    /// The element as XML in one line.
    pub(super) fn to_xml(&self) -> String {
        let mut xml = String::with_capacity(1024);
        self.write(&mut xml);
        xml
    }

    /// The element as XML, each child on a line of its own.
    pub(super) fn to_pretty_xml(&self) -> String {
        let mut xml = String::new();
        self.write_pretty(&mut xml, 0);
        xml
    }

    fn write_pretty(&self, xml: &mut String, depth: usize) {
        let indent = "  ".repeat(depth);
        if self.children.is_empty() {
            let _ = writeln!(xml, "{indent}{}", self.to_xml());
            return;
        }
        xml.push_str(&indent);
        self.write_start(xml);
        let _ = writeln!(xml, ">{}", escape(self.text.as_str()));
        self.children.iter().for_each(|child| child.write_pretty(xml, depth + 1));
        let _ = writeln!(xml, "{indent}</{}>", self.name);
    }

    fn write_start(&self, xml: &mut String) {
        xml.push('<');
        xml.push_str(&self.name);
        for (name, value) in &self.attributes {
            xml.push(' ');
            xml.push_str(name);
            xml.push_str("=\"");
            escape_to(xml, value);
            xml.push('"');
        }
    }

    fn write(&self, xml: &mut String) {
        self.write_start(xml);
        if self.text.is_empty() && self.children.is_empty() {
            xml.push_str("/>");
            return;
        }
        xml.push('>');
        escape_to(xml, &self.text);
        for child in &self.children {
            child.write(xml);
        }
        xml.push_str("</");
        xml.push_str(&self.name);
        xml.push('>');
    }

    /// Reads one element from XML. Only the predefined entities and character references are resolved, so nothing can
    /// grow beyond its own text; a document type is an error.
    pub(super) fn parse(xml: &str) -> Option<Self> {
        let mut reader = Reader::from_str(xml);
        let mut open: Vec<Self> = Vec::new();
        loop {
            match reader.read_event().ok()? {
                Event::Start(start) => {
                    if open.len() >= DEPTH {
                        return None;
                    }
                    open.push(element_of(&start));
                }
                Event::Empty(start) => {
                    let element = element_of(&start);
                    match open.last_mut() {
                        Some(parent) => parent.children.push(element),
                        None => return Some(element),
                    }
                }
                Event::End(_) => {
                    let element = open.pop()?;
                    match open.last_mut() {
                        Some(parent) => parent.children.push(element),
                        None => return Some(element),
                    }
                }
                Event::Text(text) => {
                    if let Some(element) = open.last_mut() {
                        let text = String::from_utf8_lossy(&text).into_owned();
                        if !(text.trim().is_empty() && text.contains('\n')) {
                            element.text.push_str(&text);
                        }
                    }
                }
                Event::CData(text) => {
                    if let Some(element) = open.last_mut() {
                        element.text.push_str(&String::from_utf8_lossy(&text));
                    }
                }
                Event::GeneralRef(reference) => {
                    if let Some(element) = open.last_mut() {
                        let name = String::from_utf8_lossy(&reference).into_owned();
                        match reference.resolve_char_ref().ok().flatten() {
                            Some(character) => element.text.push(character),
                            None => match resolve_predefined_entity(&name) {
                                Some(text) => element.text.push_str(text),
                                None => {
                                    let _ = write!(element.text, "&{name};");
                                }
                            },
                        }
                    }
                }
                Event::DocType(_) | Event::Eof => return None,
                _ => {}
            }
        }
    }
}

/// Adds text with what XML needs escaped, and line ends as references, so that it stays on one line.
fn escape_to(xml: &mut String, text: &str) {
    if text.bytes().any(|byte| matches!(byte, b'<' | b'>' | b'&' | b'"' | b'\'' | b'\n' | b'\r')) {
        xml.push_str(&escape(text).replace('\n', "&#10;").replace('\r', "&#13;"));
    } else {
        xml.push_str(text);
    }
}

fn element_of(start: &BytesStart<'_>) -> Element {
    let mut element = Element::named(String::from_utf8_lossy(start.name().as_ref()).into_owned());
    for attribute in start.attributes().with_checks(false).flatten().take(256) {
        let name = String::from_utf8_lossy(attribute.key.as_ref()).into_owned();
        let raw = String::from_utf8_lossy(&attribute.value).into_owned();
        let value = quick_xml::escape::unescape(&raw).map_or_else(|_| raw.clone(), std::borrow::Cow::into_owned);
        element.attributes.push((name.into(), value));
    }
    element
}

/// The severity of a level, and of an audit's keywords where the level is 0.
fn severity(level: Option<&str>, keywords: Option<&str>) -> Severity {
    match level.and_then(|level| level.parse::<u32>().ok()) {
        Some(1) => Severity::FATAL,
        Some(2) => Severity::ERROR,
        Some(3) => Severity::WARN,
        Some(5) => Severity::DEBUG,
        Some(4) => Severity::INFO,
        Some(0) => {
            let bits = keywords.and_then(|text| u64::from_str_radix(text.strip_prefix("0x")?, 16).ok()).unwrap_or(0);
            if bits & 0x0010_0000_0000_0000 != 0 { Severity::WARN } else { Severity::INFO }
        }
        _ => Severity::NONE,
    }
}

/// The names and values of the event's own data, in order. Values of one name are one, joined by commas; empty values count
/// only where they keep a place: without a name.
fn data(event: &Element) -> Vec<(Cow<'_, str>, Cow<'_, str>)> {
    let mut pairs: Vec<(Cow<'_, str>, Cow<'_, str>)> = Vec::new();
    let mut add = |name: Cow<'static, str>, value: &str| {
        let known = pairs.iter_mut().find(|(other, _)| *other == name && !name.is_empty());
        match known {
            _ if value.is_empty() && !name.is_empty() => {}
            Some((_, joined)) => {
                let joined = joined.to_mut();
                joined.push_str(", ");
                joined.push_str(value);
            }
            None => pairs.push((name, Cow::Owned(value.to_owned()))),
        }
    };
    for part in ["EventData", "UserData", "ProcessingErrorData", "DebugData"] {
        let Some(part) = event.child(part) else { continue };
        part.children.iter().for_each(|child| values(child, &mut add));
    }
    pairs
}

/// The values of an element of data: its attributes, its text, those of the elements in it.
fn values(element: &Element, add: &mut impl FnMut(Cow<'static, str>, &str)) {
    let is_data = element.local() == "Data";
    let name = element.attribute("Name").filter(|_| is_data);
    let name = name.unwrap_or(if is_data { "" } else { element.local() });
    for (key, value) in &element.attributes {
        let is_name = is_data && &**key == "Name";
        let is_of_xml = key.starts_with("xmlns") || key.contains(':');
        if !is_name && !is_of_xml {
            add(Cow::Owned(format!("{name}.{key}")), value);
        }
    }
    if element.children.is_empty() {
        add(Cow::Owned(name.to_owned()), &element.text);
    } else {
        element.children.iter().for_each(|child| values(child, add));
    }
}

/// A field's value as a number where it is one.
fn number_or_text(text: &str) -> Value {
    text.parse::<u64>().map_or_else(|_| Value::from(text), Value::from)
}

/// What the event carries, as attributes.
pub(super) fn attributes(xml: &str) -> Map<String, Value> {
    let mut attributes = Map::new();
    let Some(event) = Element::parse(xml) else { return attributes };
    let nothing = Element::named("");
    let system = event.child("System").unwrap_or(&nothing);
    let mut add = |name: &str, value: Option<&str>| {
        if let Some(value) = value.filter(|value| !value.is_empty()) {
            attributes.insert(name.to_owned(), number_or_text(value));
        }
    };
    let of = |child: &str, name: &str| system.child(child).and_then(|child| child.attribute(name));
    add("event.id", system.text_of("EventID"));
    add("event.qualifiers", of("EventID", "Qualifiers"));
    add("event.provider", of("Provider", "Name"));
    add("event.provider_guid", of("Provider", "Guid"));
    add("event.channel", system.text_of("Channel"));
    add("event.record_id", system.text_of("EventRecordID"));
    for (name, child) in [("event.version", "Version"), ("event.level", "Level"), ("event.task", "Task")] {
        add(name, system.text_of(child));
    }
    add("event.opcode", system.text_of("Opcode"));
    add("event.keywords", system.text_of("Keywords"));
    add("event.activity_id", of("Correlation", "ActivityID"));
    add("user.id", of("Security", "UserID"));
    add("host.name", system.text_of("Computer"));
    let mut unnamed = 0_u32;
    for (name, value) in data(&event) {
        if name.is_empty() {
            unnamed = unnamed.saturating_add(1);
            if !value.is_empty() {
                attributes.insert(format!("event.data.{unnamed}"), Value::from(value.into_owned()));
            }
        } else {
            attributes.insert(format!("event.data.{name}"), Value::from(value.into_owned()));
        }
    }
    attributes
}

/// Writes the entry of an event.
///
/// # Errors
/// When it cannot be written.
pub(super) fn write(event: &Element, written: Option<i64>, place: Place, out: &mut Output) -> io::Result<()> {
    let nothing = Element::named("");
    let system = event.child("System").unwrap_or(&nothing);
    let rendering = event.child("RenderingInfo").unwrap_or(&nothing);
    let of = |child: &str, name: &str| system.child(child).and_then(|child| child.attribute(name));
    let created = of("TimeCreated", "SystemTime").and_then(|text| {
        let (mut civil, _) = scan::iso(text.as_bytes())?;
        civil.offset.get_or_insert(0);
        Some(civil.stamp())
    });
    let stamp = created.or(written.map(|ns| Stamp::Utc(ns, 0))).unwrap_or(Stamp::None);
    let id = |name: &str| of("Execution", name).and_then(|text| text.parse().ok());
    let level = system.text_of("Level");
    let provider = of("Provider", "Name").or_else(|| of("Provider", "EventSourceName")).unwrap_or_default();
    let data = data(event);
    let message = rendering.text_of("Message").map_or_else(
        || {
            let mut text = format!("event {}", system.text_of("EventID").unwrap_or("without number"));
            for (index, (name, value)) in data.iter().filter(|(_, value)| !value.is_empty()).enumerate() {
                text.push_str(if index == 0 { ": " } else { ", " });
                if !name.is_empty() {
                    let _ = write!(text, "{name}=");
                }
                text.push_str(value);
            }
            text
        },
        str::to_owned,
    );
    out.entry(&Entry {
        stamp,
        severity: severity(level, system.text_of("Keywords")),
        severity_text: rendering.text_of("Level").or(level).unwrap_or_default(),
        host: system.text_of("Computer").unwrap_or_default(),
        component: provider,
        pid: id("ProcessID"),
        tid: id("ThreadID"),
        place,
        body: &message,
        fields: &event.to_xml(),
    })
}
