//! Receiving syslog.

use std::collections::HashMap;
use std::io::{self, Write};
use std::net::{IpAddr, SocketAddr};
use std::thread;
use std::time::{Duration, Instant};

use boxclock_core::clock::human;
use boxclock_core::receive::{Counts, ReceiveOptions, Receiver};

use super::{cancellable, labelled};
use crate::args;
use crate::outcome::{Ended, Failure, Outcome, say};

/// An address to listen on; a port alone is one of this machine only.
fn address(flag: &str, text: Option<&String>) -> Result<Option<SocketAddr>, Failure> {
    let Some(text) = text else { return Ok(None) };
    let full = if text.contains(':') { text.clone() } else { format!("127.0.0.1:{text}") };
    let parsed = full
        .parse()
        .map_err(|_| Failure::Usage(format!("--{flag} {text}: write a port, or ADDRESS:PORT with a numeric address")));
    parsed.map(Some)
}

fn counted(counts: Counts) -> String {
    let Counts { saved, bytes, cut, dropped, lost, refused, failed } = counts;
    let mut text = format!("{saved} messages saved, {bytes} bytes");
    let more = [
        (cut, "cut to the limit"),
        (dropped, "dropped over the rate"),
        (lost, "lost by the system (UDP)"),
        (refused, "connections refused"),
        (failed, "TLS handshakes failed"),
    ];
    for (count, what) in more.into_iter().filter(|(count, _)| *count > 0) {
        text.push_str(&format!(", {count} {what}"));
    }
    text
}

pub fn receive(arguments: &args::Receive) -> Ended {
    let mut labels: HashMap<IpAddr, String> = HashMap::new();
    for text in &arguments.label {
        let (address, label) = labelled("label", text)?;
        let address =
            address.parse().map_err(|_| Failure::Usage(format!("--label {text}: {address} is no address")))?;
        labels.insert(address, label.to_owned());
    }
    let lasting = match &arguments.lasting {
        Some(text) => Some(human::duration(text).map_err(|error| Failure::Usage(format!("--for: {error}")))?),
        None => None,
    };
    let receiver = Receiver::bind(ReceiveOptions {
        into: arguments.into.clone(),
        udp: address("udp", arguments.udp.as_ref())?,
        tcp: address("tcp", arguments.tcp.as_ref())?,
        tls: address("tls", arguments.tls.as_ref())?,
        identity: arguments.cert.clone().zip(arguments.key.clone()),
        labels,
        connections: arguments.connections,
        message_bytes: arguments.message.saturating_mul(1 << 10),
        rate: arguments.rate,
        total_bytes: arguments.most.saturating_mul(1 << 20),
    })?;
    let mut out = io::stdout().lock();
    for (way, address) in ["UDP", "TCP", "TLS"].iter().zip(receiver.addresses()) {
        if let Some(address) = address {
            writeln!(out, "listening on {way} {address}")?;
        }
    }
    out.flush()?;
    let work = cancellable();
    let started = Instant::now();
    let until = lasting.map(|ns| started + Duration::from_nanos(u64::try_from(ns).unwrap_or(0)));
    let ended = thread::scope(|scope| {
        let running = scope.spawn(|| receiver.run(&work));
        let mut shown = Instant::now();
        while !running.is_finished() {
            if until.is_some_and(|until| Instant::now() >= until) {
                work.cancel();
            }
            if arguments.progress && shown.elapsed() > Duration::from_secs(1) {
                say(&counted(receiver.counts()));
                shown = Instant::now();
            }
            thread::sleep(Duration::from_millis(50));
        }
        running.join().unwrap_or_else(|_| Err(boxclock_core::Error::new("receiving broke off")))
    });
    let counts = receiver.counts();
    writeln!(out, "{}: {}", arguments.into.display(), counted(counts))?;
    if let Err(error) = ended {
        say(&error.to_string());
        return Ok(Outcome::Partly);
    }
    let lossless = counts.cut + counts.dropped + counts.lost + counts.refused == 0;
    Ok(if lossless { Outcome::Done } else { Outcome::Partly })
}
