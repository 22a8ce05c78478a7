//! Writes the demo case of Box Clock, and large synthetic cases for measuring.
//!
//! Everything is deterministic: equal seeds give equal bytes. The story of the demo case: the Saltmere Aquarium keeps
//! its tanks alive with an application called Tankwarden. At night the console on `keeper-desk` is upgraded; its
//! installer ends with "success, restart needed", the update script takes that for done and starts the new console
//! against the old driver of the serial bridge. The gateway `dose-gw` refuses the new frames, the dosing service on
//! `pump-ctl` retries until an assertion fails, the old driver brings the console down, and in the morning a keeper
//! notices that dosing alarms have stopped. The gateway's clock is 6 min 41 s fast, so that without correction the
//! service seems to fail before the gateway has refused anything.

mod before;
mod dumps;
mod elsewhere;
mod event_log;
mod hosts;
mod large;
mod scribe;

use std::io;
use std::path::Path;

use boxclock_core::logbook::Story;

pub use large::{Mix, Written, write_large};

/// Which case is written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Tale {
    /// The night of the failure.
    #[default]
    Night,
    /// The night before it, in which all goes well: what the bad one is compared with.
    NightBefore,
    /// The same failure at another site, where hosts, programs, folders and identifiers are called otherwise.
    Elsewhere,
}

/// When the demo box is sealed: 12 April 2026, 08:00 UTC+02:00, in UTC nanoseconds.
pub const SEALED_AT: i64 = 1_775_973_600 * 1_000_000_000;

/// The recipe of the demo's application.
pub const RECIPE: &str = include_str!("tankwarden.toml");

/// The catalogue of the application's own codes, which travels in the demo box.
pub const CODES: &str = include_str!("tankwarden-codes.toml");

/// Writes the hosts of the demo story below `folder`, one folder each, and gives their labels.
///
/// # Errors
/// When a file cannot be written.
pub fn write_demo(folder: &Path) -> io::Result<[&'static str; 3]> {
    hosts::pump_ctl(&folder.join("pump-ctl"))?;
    hosts::keeper_desk(&folder.join("keeper-desk"), &str::to_owned)?;
    hosts::dose_gw(&folder.join("dose-gw"))?;
    Ok(HOSTS)
}

/// Writes the hosts of a tale below `folder`, one folder each, and gives their labels.
///
/// # Errors
/// When a file cannot be written.
pub fn write_tale(tale: Tale, folder: &Path) -> io::Result<[&'static str; 3]> {
    match tale {
        Tale::Night => write_demo(folder),
        Tale::NightBefore => {
            before::night_before(folder)?;
            Ok(HOSTS)
        }
        Tale::Elsewhere => write_elsewhere(folder),
    }
}

/// The labels of the demo's hosts.
const HOSTS: [&str; 3] = ["pump-ctl", "keeper-desk", "dose-gw"];

/// Writes the same failure at another site, where hosts, programs, folders and identifiers are called otherwise, and gives the labels.
fn write_elsewhere(folder: &Path) -> io::Result<[&'static str; 3]> {
    write_demo(folder)?;
    // The event log is written with its names: they are under its checksums.
    hosts::system_events(&folder.join("keeper-desk"), &elsewhere::renamed)?;
    elsewhere::rename_all(folder)?;
    Ok(["flow-mgr", "dosing-seat", "brine-x"])
}

/// The recipe of a tale's application.
pub fn recipe(tale: Tale) -> String {
    if tale == Tale::Elsewhere { elsewhere::renamed(RECIPE) } else { RECIPE.to_owned() }
}

/// The story of a tale, as it was reported; of the night before there is nothing to report.
pub fn story_of(tale: Tale) -> Story {
    match tale {
        Tale::Night => story(),
        Tale::NightBefore => Story { title: "The night before: all tanks dosed".into(), ..Story::default() },
        Tale::Elsewhere => story_elsewhere(),
    }
}

/// The story at the other site.
fn story_elsewhere() -> Story {
    Story {
        title: "No mixing since the night".into(),
        happened: "In the morning nothing had been mixed since the night, and nobody was warned".into(),
        expected: "a warning within a minute".into(),
        since: "2026-04-12 02:31:00 +02:00".into(),
        last_good: "2026-04-12 01:50:00 +02:00".into(),
        roles: "flow-mgr mixes, dosing-seat shows warnings, brine-x links the two".into(),
        ..Story::default()
    }
}

/// The story as the keeper on duty reported it.
fn story() -> Story {
    Story {
        title: "Saltmere dosing alarms stopped".into(),
        happened: "At 06:05 the keeper on duty saw that no dosing alarms had come in since the night".into(),
        expected: "an alarm at each dosing that does not happen, within a minute".into(),
        since: "2026-04-12 02:31:00 +02:00".into(),
        last_good: "2026-04-12 01:50:00 +02:00".into(),
        changed: "the console on keeper-desk was updated in the night".into(),
        impact: "three reef tanks were not dosed; nobody was warned".into(),
        affected: "tanks 4, 7 and 9".into(),
        reproduce: "not tried".into(),
        roles: "pump-ctl doses, keeper-desk shows alarms, dose-gw links the two".into(),
        ..Story::default()
    }
}

#[cfg(test)]
mod tests;
