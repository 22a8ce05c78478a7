//! `login-records`: logins, logouts, boots and changes of the clock, as `utmp`, `wtmp` and `btmp` hold them.
//!
//! Source: the manual page utmp(5) and the C library's `struct utmp` (`utmp.h`, `bits/utmp.h`) on 64-bit Linux: 384 bytes
//! a record, little-endian: type (2), pad (2), process (4), line (32), id (4), user (32), host (256), exit status (2 + 2),
//! session (4), seconds (4), microseconds (4), address (16), reserved (20). Seconds are unsigned here: they last to 2106.

use std::io;

use serde_json::{Map, Value};

use super::{Decoder, Entry, Input, Output, Place, Rewriting};
use crate::clock::{SECOND, Stamp};
use crate::code::Platform;
use crate::trouble::Trouble;

/// The decoder.
pub(super) struct LoginRecords;

const RECORD_BYTES: usize = 384;

struct Login {
    kind: u16,
    pid: u32,
    line: String,
    user: String,
    host: String,
    time: i64,
    address: [u8; 16],
}

/// Text up to its first NUL; `None` if bytes that are no text stand there.
fn text(bytes: &[u8]) -> Option<String> {
    let end = bytes.iter().position(|byte| *byte == 0).unwrap_or(bytes.len());
    let text = std::str::from_utf8(bytes.get(..end)?).ok()?;
    (!text.contains(|letter: char| letter.is_control())).then(|| text.to_owned())
}

fn parse(bytes: &[u8]) -> Option<Login> {
    let bytes = bytes.first_chunk::<RECORD_BYTES>()?;
    let number = |at: usize| Some(u32::from_le_bytes(*bytes.get(at..)?.first_chunk()?));
    let (kind, rest) = bytes.split_first_chunk()?;
    let kind = u16::from_le_bytes(*kind);
    let (seconds, micros) = (number(340)?, number(344)?);
    let address = *bytes.get(348..)?.first_chunk()?;
    let login = Login {
        kind,
        pid: number(4)?,
        line: text(bytes.get(8..40)?)?,
        user: text(bytes.get(44..76)?)?,
        host: text(bytes.get(76..332)?)?,
        time: i64::from(seconds).saturating_mul(SECOND).saturating_add(i64::from(micros).saturating_mul(1000)),
        address,
    };
    (kind <= 9 && rest.starts_with(&[0, 0]) && micros < 1_000_000).then_some(login)
}

impl Login {
    fn name(&self) -> &'static str {
        match self.kind {
            1 => "run-level",
            2 => "boot",
            3 => "new-time",
            4 => "old-time",
            5 => "init",
            6 => "login-process",
            7 => "login",
            8 => "logout",
            9 => "accounting",
            _ => "empty",
        }
    }

    fn body(&self) -> String {
        let from = if self.host.is_empty() { String::new() } else { format!(" from {}", self.host) };
        let on = if self.line.is_empty() { String::new() } else { format!(" on {}", self.line) };
        match self.kind {
            1 if self.user == "shutdown" => format!("system shutdown, kernel {}", self.host),
            1 => format!("run level {}, kernel {}", self.pid & 0xFF, self.host),
            2 => format!("system boot, kernel {}", self.host),
            3 => "clock set: the new time".to_owned(),
            4 => "clock set: the old time".to_owned(),
            // A name here means that somebody tried: `btmp` holds such records.
            6 if !self.user.is_empty() && self.user != "LOGIN" => format!("login attempt of {}{on}{from}", self.user),
            6 => format!("waiting for a login{on}"),
            7 => format!("login of {}{on}{from}", self.user),
            8 if self.user.is_empty() => format!("logout{on}"),
            8 => format!("logout of {}{on}{from}", self.user),
            _ => format!("{}{on}{from}", self.name()),
        }
    }

    fn address(&self) -> Option<String> {
        let [a, b, c, d, rest @ ..] = self.address;
        if rest.iter().all(|byte| *byte == 0) {
            let address = std::net::Ipv4Addr::new(a, b, c, d);
            return (!address.is_unspecified()).then(|| address.to_string());
        }
        Some(std::net::Ipv6Addr::from(self.address).to_string())
    }
}

impl Decoder for LoginRecords {
    fn name(&self) -> &'static str {
        "login-records"
    }

    fn rewriting(&self) -> Rewriting {
        Rewriting::Impossible
    }

    fn recognise(&self, start: &[u8]) -> bool {
        let good = |record: &[u8]| {
            parse(record).is_some_and(|login| {
                // A record of a kind has a time and something to say; the years are 1990 to 2100.
                let said = !login.line.is_empty() || !login.user.is_empty();
                (1..=9).contains(&login.kind) && said && (631_152_000..4_102_444_800).contains(&(login.time / SECOND))
            }) || record.iter().all(|byte| *byte == 0)
        };
        let mut records = start.chunks_exact(RECORD_BYTES).take(20).peekable();
        records.peek().is_some_and(|first| first.first() != Some(&0)) && records.all(good)
    }

    fn platform(&self) -> Platform {
        Platform::Linux
    }

    fn decode(&self, input: &Input<'_>, out: &mut Output) -> io::Result<()> {
        let mut offset = 0;
        let mut number = 0_u64;
        loop {
            let bytes = input.read(offset, RECORD_BYTES * 1024)?;
            if bytes.is_empty() {
                break;
            }
            for record in bytes.chunks(RECORD_BYTES) {
                number = number.saturating_add(1);
                let place = Place { line: number, offset, length: record.len() as u64 };
                offset = offset.saturating_add(record.len() as u64);
                match parse(record) {
                    None if record.len() < RECORD_BYTES => {
                        out.trouble(Trouble::lost(format!("cut off at byte {offset}: in the middle of a record")));
                    }
                    None => out.trouble(Trouble::lost(format!(
                        "no record at byte {}: {RECORD_BYTES} bytes were skipped",
                        place.offset
                    ))),
                    Some(login) if login.kind == 0 => {}
                    Some(login) => entry(&login, place, out)?,
                }
            }
        }
        out.account.lines = number;
        Ok(())
    }
}

fn entry(login: &Login, place: Place, out: &mut Output) -> io::Result<()> {
    let mut attributes = Map::new();
    attributes.insert("login.type".into(), login.name().into());
    for (name, value) in [("user.name", &login.user), ("login.line", &login.line), ("client.address", &login.host)] {
        // Records of the system have its kernel where logins have their origin.
        let is_kernel = name == "client.address" && matches!(login.kind, 1 | 2);
        if !value.is_empty() && !is_kernel {
            attributes.insert(name.into(), Value::from(value.as_str()));
        }
    }
    attributes.extend(login.address().map(|address| ("network.peer.address".to_owned(), Value::from(address))));
    out.entry(&Entry {
        stamp: Stamp::Utc(login.time, 0),
        component: "login",
        pid: Some(login.pid).filter(|pid| *pid > 0 && login.kind > 4),
        body: &login.body(),
        fields: &Value::Object(attributes).to_string(),
        ..Entry::at(place)
    })
}
