//! The story of a case: what happened, in the words of those who report it.

use serde::{Deserialize, Serialize};

use crate::Result;
use crate::clock::{Zone, human};

/// What happened, in the words of those who report it. Everything is optional.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Story {
    /// A short title.
    #[serde(deserialize_with = "words")]
    pub title: String,
    /// What happened.
    #[serde(deserialize_with = "words")]
    pub happened: String,
    /// What was expected instead.
    #[serde(deserialize_with = "words")]
    pub expected: String,
    /// Since when.
    #[serde(deserialize_with = "words")]
    pub since: String,
    /// When it last worked.
    #[serde(deserialize_with = "words")]
    pub last_good: String,
    /// What changed before.
    #[serde(deserialize_with = "words")]
    pub changed: String,
    /// How bad it is, and for whom.
    #[serde(deserialize_with = "words")]
    pub impact: String,
    /// Who and what is affected: users, mailboxes, jobs, sessions, devices.
    #[serde(deserialize_with = "words")]
    pub affected: String,
    /// How to see it again.
    #[serde(deserialize_with = "words")]
    pub reproduce: String,
    /// Which machines play which role.
    #[serde(deserialize_with = "words")]
    pub roles: String,
    /// When it was reported.
    #[serde(deserialize_with = "words", skip_serializing_if = "String::is_empty")]
    pub reported: String,
    /// The zone of the site, for times that carry none: an offset or a name.
    #[serde(deserialize_with = "words", skip_serializing_if = "String::is_empty")]
    pub zone: String,
}

/// A text, or a list of texts, as people and programs write it: a list is joined by commas.
fn words<'de, D: serde::Deserializer<'de>>(from: D) -> std::result::Result<String, D::Error> {
    fn text(value: &serde_json::Value) -> Option<String> {
        match value {
            serde_json::Value::Null => Some(String::new()),
            serde_json::Value::String(text) => Some(text.clone()),
            serde_json::Value::Number(number) => Some(number.to_string()),
            serde_json::Value::Array(list) => {
                list.iter().map(text).collect::<Option<Vec<String>>>().map(|list| list.join(", "))
            }
            _ => None,
        }
    }
    let value = serde_json::Value::deserialize(from)?;
    text(&value).ok_or_else(|| serde::de::Error::custom("a text or a list of texts is wanted"))
}

impl Story {
    /// The fields: key, label, what to write there.
    pub const FIELDS: [(&'static str, &'static str, &'static str); 10] = [
        ("title", "Title", "one line that names the case"),
        ("happened", "What happened", "what was seen, by whom, on which machine"),
        ("expected", "What was expected", "what should have been seen instead"),
        ("since", "Since when", "the first moment at which it was surely wrong: yesterday 7:20, Wed 07:22, 2 h ago"),
        ("last_good", "Last good", "the last moment at which it surely worked"),
        ("changed", "What changed", "updates, settings, moves, new devices before that"),
        ("impact", "Impact", "who is affected, and how badly"),
        ("affected", "Identifiers", "of users, mailboxes, jobs, sessions, devices: what to search for"),
        ("reproduce", "How to reproduce", "the steps, or that it cannot be"),
        ("roles", "Machines", "which machine plays which role"),
    ];

    /// The fields that are moments.
    pub const MOMENTS: [&'static str; 2] = ["since", "last_good"];

    /// A field by its key; an unknown key is none.
    pub fn get(&self, key: &str) -> &str {
        match key {
            "title" => &self.title,
            "happened" => &self.happened,
            "expected" => &self.expected,
            "since" => &self.since,
            "last_good" => &self.last_good,
            "changed" => &self.changed,
            "impact" => &self.impact,
            "affected" => &self.affected,
            "reproduce" => &self.reproduce,
            "roles" => &self.roles,
            _ => "",
        }
    }

    /// Sets a field by its key; an unknown key changes nothing.
    pub fn set(&mut self, key: &str, value: String) {
        match key {
            "title" => self.title = value,
            "happened" => self.happened = value,
            "expected" => self.expected = value,
            "since" => self.since = value,
            "last_good" => self.last_good = value,
            "changed" => self.changed = value,
            "impact" => self.impact = value,
            "affected" => self.affected = value,
            "reproduce" => self.reproduce = value,
            "roles" => self.roles = value,
            _ => {}
        }
    }

    /// A field with its moment in full, in a zone: `Wed 07:22` was 2026-04-08 07:22:00 +02:00. Other fields stay as typed, and so
    /// does an empty one.
    ///
    /// # Errors
    /// When the field is a moment and the text is none.
    pub fn in_full(key: &str, text: &str, zone: &Zone, now: i64) -> Result<String> {
        if text.is_empty() || !Self::MOMENTS.contains(&key) {
            return Ok(text.to_owned());
        }
        let ns = human::moment(text, zone, now)?;
        Ok(format!("{} {}", &human::date_time(ns, zone)[..19], zone.name()))
    }
}
