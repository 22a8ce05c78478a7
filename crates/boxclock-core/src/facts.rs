//! Facts about a machine: what is installed, running, full, old or expired. Gathered as JSON of a documented shape (see
//! `docs/formats.md`, "Facts"), and run through declarative checks.
//!
//! A fact that could not be found out is absent, never guessed.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

pub mod checks;
mod found;
mod live;
mod offline;
pub mod restart;

pub use checks::{Check, Checks, Finding, Level};
pub(crate) use live::SCRIPT;
pub use live::parse as parse_live;
pub(crate) use offline::of_root;

/// The version of the shape.
pub const FACTS_VERSION: u32 = 1;
/// The name of the file in the folder of a host.
pub const FACTS_NAME: &str = "facts.json";

/// What is true of a machine.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Facts {
    /// Version of this shape.
    pub version: u32,
    /// When they were gathered, RFC 3339 UTC.
    pub gathered: String,
    /// `live`, or `offline` where they were read from the files of a system that was not running.
    pub from: String,
    /// All facts: objects and lists of objects by name.
    #[serde(flatten)]
    pub facts: Map<String, Value>,
}

impl Facts {
    /// Facts without any content yet.
    pub(crate) fn new(from: &str, now: i64) -> Self {
        let gathered = crate::clock::to_rfc3339(now);
        Self { version: FACTS_VERSION, gathered, from: from.into(), facts: Map::new() }
    }

    /// Sets an object or a list, unless it is empty.
    pub(crate) fn set(&mut self, name: &str, value: Value) {
        let empty = match &value {
            Value::Array(list) => list.is_empty(),
            Value::Object(map) => map.is_empty(),
            Value::Null => true,
            _ => false,
        };
        if !empty {
            self.facts.insert(name.to_owned(), value);
        }
    }

    /// The JSON, indented: each single fact on a line of its own, so that a finding can name the line.
    pub fn to_json(&self) -> String {
        // A map of strings and numbers cannot fail to be written.
        serde_json::to_string_pretty(self).unwrap_or_default()
    }
}

/// An object without its empty members.
pub(crate) fn object<const N: usize>(members: [(&str, Value); N]) -> Value {
    let good = |value: &Value| !value.is_null() && value.as_str() != Some("");
    Value::Object(
        members.into_iter().filter(|(_, value)| good(value)).map(|(name, value)| (name.to_owned(), value)).collect(),
    )
}

/// Says of each certificate whether the chain of its issuers' names leads to one in the trust store: a name that is there, not a
/// signature that was checked. Without a store nothing is said.
pub(crate) fn mark_known_issuers(certificates: &mut [Value], store: &[Value]) {
    if store.is_empty() {
        return;
    }
    let name = |value: &Value, field: &str| value[field].as_str().unwrap_or_default().to_owned();
    let in_store = |field: &str, text: &str| store.iter().any(|root| root[field].as_str() == Some(text));
    let gathered = certificates.to_vec();
    for certificate in certificates {
        let (mut issuer, mut known) = (name(certificate, "issuer"), in_store("sha256", &name(certificate, "sha256")));
        // A chain of more steps is none that a client would follow.
        for _ in 0..8 {
            known |= in_store("subject", &issuer);
            let next =
                gathered.iter().find(|other| name(other, "subject") == issuer && name(other, "issuer") != issuer);
            match next {
                Some(next) if !known => issuer = name(next, "issuer"),
                _ => break,
            }
        }
        if let Some(fields) = certificate.as_object_mut() {
            fields.insert("issuer_in_store".into(), known.into());
        }
    }
}

/// The certificates in a PEM text: subject, issuer, validity, thumbprint. Keys and everything else in it are ignored.
pub(crate) fn certificates(path: &str, text: &[u8]) -> Vec<Value> {
    use sha2::{Digest, Sha256};
    use x509_parser::prelude::{FromDer, Pem, X509Certificate};
    // A trust store holds some 150.
    const MOST: usize = 500;
    let blocks = Pem::iter_from_buffer(text).filter_map(std::result::Result::ok);
    let blocks = blocks.filter(|pem| pem.label == "CERTIFICATE").take(MOST);
    let read = blocks.filter_map(|pem| {
        let (_, certificate) = X509Certificate::from_der(&pem.contents).ok()?;
        let validity = certificate.validity();
        let time = |seconds: i64| seconds.checked_mul(crate::clock::SECOND).map(crate::clock::to_rfc3339);
        Some(object([
            ("path", path.into()),
            ("subject", certificate.subject().to_string().into()),
            ("issuer", certificate.issuer().to_string().into()),
            ("not_before", time(validity.not_before.timestamp()).into()),
            ("not_after", time(validity.not_after.timestamp()).into()),
            ("sha256", crate::text::hex(&Sha256::digest(&pem.contents)).into()),
            ("self_signed", (certificate.subject() == certificate.issuer()).into()),
        ]))
    });
    read.collect()
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn issuers_are_followed_to_the_store() {
        let store = [json!({"subject": "CN=Root", "issuer": "CN=Root", "sha256": "aa"})];
        let mut gathered = [
            json!({"subject": "CN=gw", "issuer": "CN=Middle", "sha256": "01"}),
            json!({"subject": "CN=Middle", "issuer": "CN=Root", "sha256": "02"}),
            json!({"subject": "CN=own", "issuer": "CN=own", "sha256": "03"}),
            json!({"subject": "CN=a", "issuer": "CN=b", "sha256": "04"}),
            json!({"subject": "CN=b", "issuer": "CN=a", "sha256": "05"}),
            json!({"subject": "CN=Root", "issuer": "CN=Root", "sha256": "aa"}),
        ];
        mark_known_issuers(&mut gathered, &store);
        let known: Vec<bool> = gathered.iter().map(|one| one["issuer_in_store"].as_bool().unwrap()).collect();
        assert_eq!(known, [true, true, false, false, false, true]);
        let mut gathered = [json!({"subject": "CN=gw", "issuer": "CN=x"})];
        mark_known_issuers(&mut gathered, &[]);
        assert!(gathered[0].get("issuer_in_store").is_none(), "without a store nothing is said");
    }
}
