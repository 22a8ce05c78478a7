//! Large synthetic cases: many lines in mixed formats, and a truth file that says what is in them.

use std::fs::{self, File};
use std::io::{self, BufWriter, Write};
use std::path::Path;

use fastrand::Rng;
use serde_json::{Value, json};

use crate::scribe::{Millis, START, bsd, iso, set_time};

/// What was written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Written {
    /// Bytes of all logs.
    pub bytes: u64,
    /// Events in them.
    pub events: u64,
    /// Files.
    pub files: u64,
}

/// One kind of log: its name, its share of the bytes, and how a line is written.
struct Kind {
    name: &'static str,
    share: u64,
    format: &'static str,
    line: fn(&mut Rng, Millis, &str, usize, &mut Vec<u8>) -> io::Result<()>,
}

const LEVELS: [&str; 4] = ["DEBUG", "INFO", "WARN", "ERROR"];
/// Syslog severities that mean the same.
const SYSLOG: [u8; 4] = [7, 6, 4, 3];
const PARTS: [&str; 8] = ["dosing", "valves", "feed", "alarms", "scheduler", "probe", "link", "store"];

/// What a large case holds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Mix {
    /// The aquarium's own programs: short lines, 0.3 % errors.
    #[default]
    Tanks,
    /// Services as they are met elsewhere: lines of 150 to 250 bytes with hexadecimal ids and durations in each, 4 % warnings, 1.5 %
    /// errors, a quarter of the bytes in each of four shapes.
    Services,
}

const SERVICES: [Kind; 4] = [
    Kind { name: "hosts/pump-ctl/opt/orders/orders.log", share: 25, format: "iso-text", line: service_iso },
    Kind { name: "hosts/pump-ctl/var/log/messages", share: 25, format: "rfc3164", line: service_3164 },
    Kind { name: "hosts/keeper-desk/srv/billing.json", share: 25, format: "json-lines", line: service_json },
    Kind { name: "hosts/dose-gw/var/log/syslog", share: 25, format: "rfc5424", line: service_5424 },
];

const KINDS: [Kind; 5] = [
    Kind { name: "hosts/pump-ctl/var/log/syslog", share: 30, format: "rfc5424", line: rfc5424 },
    Kind { name: "hosts/pump-ctl/var/log/tankwarden.json", share: 25, format: "json-lines", line: json_line },
    Kind { name: "hosts/keeper-desk/console.log", share: 20, format: "iso-text", line: iso_text },
    Kind { name: "hosts/keeper-desk/service.log", share: 10, format: "iso-text", line: iso_text },
    Kind { name: "hosts/dose-gw/var/log/messages", share: 15, format: "rfc3164", line: rfc3164 },
];

/// Writes about `bytes` bytes of logs below `folder`, and `truth.json` beside its `hosts` folder.
///
/// # Errors
/// When a file cannot be written.
pub fn write_large(folder: &Path, bytes: u64, seed: u64, mix: Mix) -> io::Result<Written> {
    let mut total = Written::default();
    let mut truth = Vec::new();
    let kinds: &[Kind] = match mix {
        Mix::Tanks => &KINDS,
        Mix::Services => &SERVICES,
    };
    for (index, kind) in kinds.iter().enumerate() {
        let mut rng = Rng::with_seed(seed.wrapping_mul(31).wrapping_add(index as u64));
        let path = folder.join(kind.name);
        if let Some(parent) = path.parent() {
            fs::create_dir_all(parent)?;
        }
        let one = write_kind(kind, &path, bytes * kind.share / 100, mix, &mut rng)?;
        total.bytes += one["bytes"].as_u64().unwrap_or(0);
        total.events += one["events"].as_u64().unwrap_or(0);
        total.files += 1;
        truth.push(one);
    }
    fs::write(folder.join("truth.json"), serde_json::to_vec_pretty(&json!({ "seed": seed, "files": truth }))?)?;
    Ok(total)
}

fn write_kind(kind: &Kind, path: &Path, bytes: u64, mix: Mix, rng: &mut Rng) -> io::Result<Value> {
    let mut out = BufWriter::with_capacity(1 << 20, File::create(path)?);
    let (mut written, mut events, mut lines) = (0_u64, 0_u64, 0_u64);
    let mut levels = [0_u64; 4];
    let mut denied = 0_u64;
    let mut time = START;
    let first = time;
    let mut line = Vec::new();
    // Eleven hours, however large: the lines only get denser.
    let step = 39_600_000.0 / (bytes as f64 / 160.0);
    let mut exact = 0.0;
    while written < bytes {
        let roll = rng.u16(0..1000);
        let level = match roll {
            0..=14 if mix == Mix::Services => 3,
            15..=54 if mix == Mix::Services => 2,
            0..=2 => 3,
            3..=22 => 2,
            23..=299 => 0,
            _ => 1,
        };
        let code = level == 3 && rng.u8(0..4) == 0;
        denied += u64::from(code);
        let text = match mix {
            Mix::Tanks => message(rng, level, code),
            Mix::Services => service_message(rng, level, code),
        };
        line.clear();
        (kind.line)(rng, time, &text, level, &mut line)?;
        line.push(b'\n');
        // Now and then an error brings its trace along.
        if kind.format == "iso-text" && level == 3 {
            line.extend_from_slice(
                b"Tankwarden.LinkException: no answer\n   at Console5.Feed.Read()\n   at Console5.Feed.Run()\n",
            );
            lines += 3;
        }
        out.write_all(&line)?;
        written += line.len() as u64;
        events += 1;
        lines += 1;
        levels[level] += 1;
        exact += step * f64::from(rng.u8(0..200)) / 100.0;
        time = START + exact as Millis;
    }
    out.flush()?;
    set_time(out.get_ref(), time)?;
    Ok(json!({
        "source": kind.name, "format": kind.format, "bytes": written, "lines": lines, "events": events,
        "first_ms": first, "debug": levels[0], "info": levels[1], "warn": levels[2], "error": levels[3],
        "code_0x80070005": denied,
    }))
}

fn message(rng: &mut Rng, level: usize, code: bool) -> String {
    let part = PARTS[rng.usize(..PARTS.len())];
    let job = rng.u32(1000..9_999_999);
    match level {
        3 if code => format!("job {job} of {part} failed: access refused 0x80070005 while opening the plan"),
        3 => format!("job {job} of {part} failed after {} tries, no answer from the gateway", rng.u8(3..9)),
        2 => format!("job {job} of {part} is slow: {} ms, limit 900 ms, queue {}", rng.u16(900..5000), rng.u8(0..40)),
        1 => format!(
            "job {job} of {part} done in {} ms, {} bytes sent to 192.0.2.{}:{} and acknowledged",
            rng.u16(3..800),
            rng.u32(100..90_000),
            rng.u8(1..250),
            rng.u16(1024..60_000)
        ),
        _ => format!(
            "tick {job}: queue {} of {part}, window {}, all channels within their limits",
            rng.u8(0..40),
            rng.u16(0..4096)
        ),
    }
}

fn service_message(rng: &mut Rng, level: usize, code: bool) -> String {
    let (request, span) = (rng.u64(..), rng.u32(..));
    let took = f64::from(rng.u32(10..900_000)) / 1000.0;
    let object = ["plan", "tank", "valve", "order", "invoice", "probe"][rng.usize(..6)];
    match level {
        3 if code => format!(
            "request {request:016x} span {span:08x} could not open {object} {}: 0x80070005 access refused after {took:.3} ms, client 192.0.2.{}:{}",
            rng.u32(1..99_999),
            rng.u8(1..250),
            rng.u16(1024..60_000)
        ),
        3 => format!(
            "request {request:016x} span {span:08x} failed with status {} for {object} {} after {took:.3} ms, {} tries, no answer from upstream",
            500 + rng.u16(0..5),
            rng.u32(1..99_999),
            rng.u8(1..9)
        ),
        2 => format!(
            "request {request:016x} span {span:08x} is slow: {took:.3} ms for {object} {}, pool {}/{} in use, retry in {} ms",
            rng.u32(1..99_999),
            rng.u8(1..64),
            64,
            rng.u16(10..5000)
        ),
        _ => format!(
            "request {request:016x} span {span:08x} done in {took:.3} ms, {object}={} bytes={} cache={} client=192.0.2.{}:{}",
            rng.u32(1..99_999),
            rng.u32(100..9_000_000),
            ["hit", "miss", "stale"][rng.usize(..3)],
            rng.u8(1..250),
            rng.u16(1024..60_000)
        ),
    }
}

const SERVICE_LOGGERS: [&str; 6] = [
    "net.saltmere.orders.OrderController",
    "net.saltmere.orders.store.PlanRepository",
    "net.saltmere.http.RequestFilter",
    "net.saltmere.billing.InvoiceJob",
    "net.saltmere.link.UpstreamClient",
    "net.saltmere.pool.WorkerPool",
];

fn service_iso(rng: &mut Rng, time: Millis, text: &str, level: usize, out: &mut Vec<u8>) -> io::Result<()> {
    let logger = SERVICE_LOGGERS[rng.usize(..6)];
    write!(out, "{} [http-worker-{}] {:<5} {logger} - {text}", iso(time, 0, ' '), rng.u8(0..48), LEVELS[level])
}

fn service_3164(rng: &mut Rng, time: Millis, text: &str, level: usize, out: &mut Vec<u8>) -> io::Result<()> {
    let program = ["orders", "billing", "gatewayd", "store"][rng.usize(..4)];
    let (priority, pid) = (128 + SYSLOG[level], 800 + rng.u16(0..60));
    write!(out, "<{priority}>{} pump-ctl {program}[{pid}]: {text} trace={:032x}", bsd(time, 0), rng.u128(..))
}

fn service_json(rng: &mut Rng, time: Millis, text: &str, level: usize, out: &mut Vec<u8>) -> io::Result<()> {
    write!(
        out,
        "{{\"timestamp\":\"{}Z\",\"level\":\"{}\",\"service\":\"billing\",\"trace_id\":\"{:032x}\",\"duration_ms\":{},\"message\":\"{text}\"}}",
        iso(time, 0, 'T'),
        LEVELS[level],
        rng.u128(..),
        rng.u32(1..90_000)
    )
}

fn service_5424(rng: &mut Rng, time: Millis, text: &str, level: usize, out: &mut Vec<u8>) -> io::Result<()> {
    let priority = 128 + SYSLOG[level];
    write!(
        out,
        "<{priority}>1 {}+02:00 dose-gw gatewayd {} REQ [meta seq=\"{}\"] {text}",
        iso(time, 7_200_000, 'T'),
        300 + rng.u16(0..12),
        rng.u32(..)
    )
}

fn rfc5424(rng: &mut Rng, time: Millis, text: &str, level: usize, out: &mut Vec<u8>) -> io::Result<()> {
    let priority = 24 + SYSLOG[level];
    let pid = 400 + rng.u16(0..40);
    write!(out, "<{priority}>1 {}+02:00 pump-ctl {} {pid} - - {text}", iso(time, 7_200_000, 'T'), PARTS[rng.usize(..8)])
}

fn rfc3164(rng: &mut Rng, time: Millis, text: &str, level: usize, out: &mut Vec<u8>) -> io::Result<()> {
    let priority = 128 + SYSLOG[level];
    write!(out, "<{priority}>{} dose-gw {}[{}]: {text}", bsd(time, 0), PARTS[rng.usize(..8)], 80 + rng.u8(0..20))
}

fn json_line(rng: &mut Rng, time: Millis, text: &str, level: usize, out: &mut Vec<u8>) -> io::Result<()> {
    let level = LEVELS[level].to_ascii_lowercase();
    let (logger, pid) = (PARTS[rng.usize(..8)], 2000 + rng.u16(0..30));
    write!(
        out,
        "{{\"time\":\"{}Z\",\"level\":\"{level}\",\"logger\":\"{logger}\",\"pid\":{pid},\"message\":\"{text}\"}}",
        iso(time, 0, 'T')
    )
}

fn iso_text(rng: &mut Rng, time: Millis, text: &str, level: usize, out: &mut Vec<u8>) -> io::Result<()> {
    write!(
        out,
        "{} {:<5} [worker-{}] Console5.{} - {text}",
        iso(time, 0, ' '),
        LEVELS[level],
        rng.u8(0..16),
        PARTS[rng.usize(..8)]
    )
}
