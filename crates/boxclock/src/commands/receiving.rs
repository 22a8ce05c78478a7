//! Receiving syslog.

use std::collections::HashMap;
use std::io::Write;
use std::net::{IpAddr, SocketAddr};
use std::thread;
use std::time::{Duration, Instant};

use boxclock_core::clock::human;
use boxclock_core::receive::{ReceiveOptions, Receiver, listen_on};

use super::{cancellable, labelled};
use crate::args;
use crate::outcome::{Ended, Failure, Outcome, say, shown};

fn address(flag: &str, text: Option<&String>) -> Result<Option<SocketAddr>, Failure> {
    let usage = |error: boxclock_core::Error| Failure::Usage(format!("--{flag} {error}"));
    text.map(|text| listen_on(text).map_err(usage)).transpose()
}

pub fn receive(arguments: &args::Receive) -> Ended {
    let mut labels: HashMap<IpAddr, String> = HashMap::new();
    for text in &arguments.label {
        let (address, label) = labelled("label", text)?;
        let address =
            address.parse().map_err(|_| Failure::Usage(format!("--label {text}: {address} is not an address")))?;
        labels.insert(address, label.to_owned());
    }
    let lasting = match &arguments.lasting {
        Some(text) => Some(human::length(text).map_err(|error| Failure::Usage(format!("--for: {error}")))?),
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
    let mut out = shown();
    for (way, address) in ["UDP", "TCP", "TLS"].iter().zip(receiver.addresses()) {
        if let Some(address) = address {
            writeln!(out, "listening on {way} {address}")?;
        }
    }
    out.flush()?;
    let work = cancellable();
    let started = Instant::now();
    let until = lasting.map(|lasting| started + lasting);
    let ended = thread::scope(|scope| {
        let running = scope.spawn(|| receiver.run(&work));
        let mut shown = Instant::now();
        while !running.is_finished() {
            if until.is_some_and(|until| Instant::now() >= until) {
                work.cancel();
            }
            if arguments.progress && shown.elapsed() > Duration::from_secs(1) {
                say(&receiver.counts().to_string());
                shown = Instant::now();
            }
            thread::sleep(Duration::from_millis(50));
        }
        running.join().unwrap_or_else(|_| Err(boxclock_core::Error::new("receiving stopped")))
    });
    let counts = receiver.counts();
    writeln!(out, "{}: {}", arguments.into.display(), counts)?;
    if let Err(error) = ended {
        say(&error.to_string());
        return Ok(Outcome::Partly);
    }
    let lossless = counts.cut + counts.dropped + counts.lost + counts.refused == 0;
    Ok(if lossless { Outcome::Done } else { Outcome::Partly })
}
