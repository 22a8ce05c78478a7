//! Why there is no dump of a crash that is only told of: as far as its kind and the facts of its host say.

use serde_json::Value;

use super::Kind;
use super::report::CrashReport;
use crate::case::Case;
use crate::code::Platform;
use crate::source::Class;

/// Bytes of a file of facts that are read.
const FACTS_BYTES: u64 = 64 << 20;
/// A volume with less room than this has none for a core.
const ROOM_BYTES: u64 = 16 << 20;

/// What the facts of a host say of where cores go.
#[derive(Clone, Debug, Default)]
pub(super) struct DumpFacts {
    pattern: Option<String>,
    limit: Option<String>,
    service_limit: Option<String>,
    /// Mount points and their free bytes.
    volumes: Vec<(String, u64)>,
}

impl DumpFacts {
    /// Those of a host; empty where none were gathered.
    pub(super) fn of(case: &Case, host: Option<&str>) -> Self {
        let of_host = case.documents.iter().filter(|document| {
            document.class == Class::Facts && Some(document.host.as_str()) == host && document.len_bytes <= FACTS_BYTES
        });
        let read = of_host.filter_map(|document| serde_json::from_slice(&std::fs::read(&document.path).ok()?).ok());
        let facts: Vec<Value> = read.collect();
        let text =
            |name: &str| facts.iter().find_map(|facts| facts.get("dumps")?.get(name)?.as_str().map(str::to_owned));
        let volumes = facts.iter().filter_map(|facts| facts.get("volumes")?.as_array()).flatten();
        Self {
            pattern: text("core_pattern"),
            limit: text("core_limit"),
            service_limit: text("service_core_limit"),
            volumes: volumes
                .filter_map(|volume| {
                    Some((volume.get("mount")?.as_str()?.to_owned(), volume.get("free_bytes")?.as_u64()?))
                })
                .collect(),
        }
    }

    /// The room on the volume of a path.
    fn room(&self, path: &str) -> Option<(&str, u64)> {
        let holds = |mount: &str| {
            mount == "/" || path.strip_prefix(mount).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
        };
        let volume = self.volumes.iter().filter(|(mount, _)| holds(mount)).max_by_key(|(mount, _)| mount.len())?;
        Some((&volume.0, volume.1))
    }

    /// What they say of a crash without a dump, in sentences.
    pub(super) fn tell(&self) -> Vec<String> {
        let mut told = Vec::new();
        let is_none = |limit: &&String| limit.as_str() == "0";
        if let Some(pattern) = &self.pattern {
            told.push(match pattern.strip_prefix('|') {
                Some(program) => format!("cores of this host are handed to `{}`: look for it there", program.trim()),
                None if pattern.starts_with('/') => format!("cores of this host go to `{pattern}`"),
                None if pattern.is_empty() => "this host writes no cores: its core_pattern is empty".to_owned(),
                None => format!("cores of this host go into the working folder of the process, as `{pattern}`"),
            });
            // A pipe is given the core whatever the limit, unless it is 1.
            let piped = pattern.starts_with('|');
            if !piped && let Some(limit) = self.service_limit.as_ref().or(self.limit.as_ref()).filter(is_none) {
                told.push(format!(
                    "the limit for cores was {limit} on this host when the facts were gathered: none is written"
                ));
            }
            if let Some((mount, free)) =
                Some(pattern).filter(|pattern| pattern.starts_with('/')).and_then(|path| self.room(path))
                && free < ROOM_BYTES
            {
                told.push(format!(
                    "{mount} had only {} MiB left when the facts were gathered: no room for a core",
                    free >> 20
                ));
            }
        }
        told
    }
}

/// What the kind of end says: signals that end a process without a core. Source: signal(7).
pub(super) fn of_kind(report: &CrashReport) -> Option<String> {
    const WITHOUT: [u32; 9] = [1, 2, 9, 10, 12, 13, 14, 15, 16];
    let what = &report.crash.what;
    let is_signal = !matches!(report.crash.platform, Platform::Windows)
        && matches!(what.kind, Kind::Signal | Kind::Killed | Kind::OutOfMemory);
    let number = what.number.filter(|number| is_signal && WITHOUT.contains(number));
    match (what.kind, number) {
        (_, Some(_)) => {
            let name = what.name.as_deref().unwrap_or("this signal");
            Some(format!("{name} ends a process without a core: there is none to find"))
        }
        (Kind::OutOfMemory, None) if report.crash.platform == Platform::Linux => {
            Some("the memory killer ends a process without a core: there is none to find".to_owned())
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn facts_say_where_cores_go() {
        let facts = |pattern: &str, limit: &str| DumpFacts {
            pattern: Some(pattern.into()),
            limit: Some(limit.into()),
            volumes: vec![("/".into(), 1 << 40), ("/var".into(), 1 << 20)],
            ..DumpFacts::default()
        };
        let told = facts("/var/cores/core.%p", "0").tell().join("; ");
        assert!(
            told.contains("go to `/var/cores/core.%p`")
                && told.contains("was 0")
                && told.contains("/var had only 1 MiB"),
            "{told}"
        );
        let told = facts("|/usr/lib/feeder %P", "0").tell().join("; ");
        assert!(told.contains("handed to `/usr/lib/feeder %P`") && !told.contains("limit"), "{told}");
        assert!(DumpFacts::default().tell().is_empty());
    }
}
