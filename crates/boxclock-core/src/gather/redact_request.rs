//! What somebody wants to be redacted and handed over, in names and words; checked against the box before anything is written.

use std::path::PathBuf;
use std::sync::Arc;

use super::redact::{RedactPlan, Rules};
use super::{Signer, Window, is_box};
use crate::case::{Case, Options};
use crate::format::Detected;
use crate::logbook::Logbook;
use crate::source::{Reader, Source};
use crate::work::Work;
use crate::{Error, Result};

/// What to put into the redacted copy. What is empty means: all, or none.
#[derive(Clone, Debug, Default)]
pub struct RedactRequest {
    /// The box.
    pub from: PathBuf,
    /// The new box; `None` only looks what would be replaced.
    pub into: Option<PathBuf>,
    /// More rules, as TOML files.
    pub rules: Vec<PathBuf>,
    /// Names of rules that are not applied.
    pub except: Vec<String>,
    /// Values that stay as they are, whatever rule finds them.
    pub keep: Vec<String>,
    /// Words to replace too.
    pub words: Vec<String>,
    /// Whether the labels of hosts are replaced.
    pub hide_hosts: bool,
    /// Only these sources.
    pub only: Vec<String>,
    /// Only what was written near this moment, as people write it.
    pub around: Option<String>,
    /// How much before and after it; empty for ten minutes.
    pub within: String,
    /// Whether pinned records go along wherever they lie.
    pub pinned: bool,
    /// Whether files that cannot be redacted go along as they are.
    pub keep_binary: bool,
    /// Whether the copy is written although something in it still looks like a secret.
    pub confirmed: bool,
    /// Who signs the copy.
    pub signer: Option<Arc<Signer>>,
}

/// A request that can be carried out by [`super::redact::redact`].
pub struct RedactReady {
    /// What goes along.
    pub plan: RedactPlan,
    /// The rules.
    pub rules: Rules,
    /// The key of the case.
    pub key: [u8; 32],
}

/// How the lines of a source are read.
fn detected(source: &Source) -> Option<Detected> {
    match source.reader {
        Reader::Lines(detected) => Some(detected),
        Reader::Dump(_) => None,
    }
}

impl RedactRequest {
    /// Checks it.
    ///
    /// # Errors
    /// When the box cannot be opened, a rule is wrong or unknown, a source is not in the box, or a time is none.
    pub fn prepare(&self, now: i64, work: &Work) -> Result<RedactReady> {
        if !self.from.exists() {
            return Err(Error::new(format!("no such file or folder: {}", self.from.display())));
        }
        if !is_box(&self.from)? {
            return Err(Error::new(format!("{} is not a box", self.from.display())));
        }
        let case = Case::open(std::slice::from_ref(&self.from), Options::default(), work)?;
        let rules = self.rules(&case)?;
        for source in &self.only {
            let known = |name: &str| name == source || name.split('!').next() == Some(source);
            if !case.sources.iter().any(|other| known(&other.name))
                && !case.documents.iter().any(|other| other.name == *source)
            {
                return Err(Error::new(format!("the box holds no source {source}: see boxclock sources")));
            }
        }
        let logbook = match &case.logbook_path {
            Some(path) => Logbook::open(path)?,
            None => Logbook::in_memory()?,
        };
        let within = if self.within.trim().is_empty() { "10m" } else { self.within.trim() };
        let window = Window::asked((self.around.as_deref(), within), (None, None), &case.zone, now)?;
        let pins = if self.pinned { logbook.pins()? } else { Vec::new() };
        let plan = RedactPlan {
            from: self.from.clone(),
            into: self.into.clone(),
            now,
            only: self.only.clone(),
            window,
            pins: pins.into_iter().map(|pin| (pin.source, pin.offset)).collect(),
            keep_binary: self.keep_binary,
            formats: case.sources.iter().filter_map(|source| Some((source.name.clone(), detected(source)?))).collect(),
            confirmed: self.confirmed,
            signer: self.signer.clone(),
            keep: self.keep.clone(),
        };
        Ok(RedactReady { plan, rules, key: logbook.redaction_key()? })
    }

    fn rules(&self, case: &Case) -> Result<Rules> {
        let mut rules = Rules::load();
        for path in &self.rules {
            let text = crate::platform::read_small_text(path)?;
            rules.add(&path.display().to_string(), &text);
        }
        if let Some((file, mistake)) = rules.wrong.first() {
            // A rule that is wrong would leave in what it should replace.
            return Err(Error::new(format!("{file}: {mistake}")));
        }
        for name in &self.except {
            if !rules.good.iter().any(|rule| rule.name == *name) {
                let known: Vec<&str> = rules.good.iter().map(|rule| rule.name.as_str()).collect();
                return Err(Error::new(format!("no rule is called \"{name}\": there are {}", known.join(", "))));
            }
        }
        rules.good.retain(|rule| !self.except.contains(&rule.name));
        rules.add_words("word", "Words of the user", &self.words);
        if self.hide_hosts {
            let labels = case.seal.iter().flat_map(|seal| seal.hosts.iter().map(|host| host.label.clone()));
            rules.add_words("host", "Labels of hosts", &labels.collect::<Vec<_>>());
        }
        Ok(rules)
    }
}
