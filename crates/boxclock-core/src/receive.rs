//! Receiving syslog from devices that can only send: RFC 5424 and RFC 3164 messages over UDP (RFC 5426), TCP (RFC 6587) and TLS
//! (RFC 5425), written as they came into a folder that opens as a case: `hosts/SENDER/syslog-udp.log` and so on.
//!
//! Whoever can reach a port can write there: limits on connections, message size, rate and total size hold, and what they
//! turn away is counted.

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, BufWriter, Read, Write};
use std::net::{IpAddr, SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::{ServerConfig, ServerConnection, StreamOwned};

use crate::work::Work;
use crate::{Error, Result};

pub mod framing;

use framing::Framing;

/// Where to listen, where to write, and how much is accepted.
#[derive(Clone, Debug)]
pub struct ReceiveOptions {
    /// The folder to write into.
    pub into: PathBuf,
    /// Listen on UDP here.
    pub udp: Option<SocketAddr>,
    /// Listen on TCP here.
    pub tcp: Option<SocketAddr>,
    /// Listen on TLS here.
    pub tls: Option<SocketAddr>,
    /// Certificate chain and private key for TLS, in PEM.
    pub identity: Option<(PathBuf, PathBuf)>,
    /// Names of senders, by address.
    pub labels: HashMap<IpAddr, String>,
    /// Connections at once.
    pub connections: usize,
    /// Bytes of one message; what is longer is cut.
    pub message_bytes: usize,
    /// Messages a second of one sender; over TCP senders are slowed down, over UDP what is more is dropped and counted.
    pub rate: u64,
    /// Bytes in total; then receiving ends.
    pub total_bytes: u64,
}

impl Default for ReceiveOptions {
    fn default() -> Self {
        Self {
            into: PathBuf::new(),
            udp: None,
            tcp: None,
            tls: None,
            identity: None,
            labels: HashMap::new(),
            connections: 256,
            message_bytes: 64 << 10,
            rate: 200_000,
            total_bytes: 10 << 30,
        }
    }
}

/// What happened so far.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Counts {
    /// Messages that are in the files.
    pub saved: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Messages that were cut to the limit.
    pub cut: u64,
    /// Messages over UDP that came faster than the limit.
    pub dropped: u64,
    /// Datagrams that the system threw away because nobody fetched them in time.
    pub lost: u64,
    /// Connections that were turned away.
    pub refused: u64,
    /// Connections whose TLS handshake failed.
    pub failed: u64,
}

impl std::fmt::Display for Counts {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Self { saved, bytes, cut, dropped, lost, refused, failed } = *self;
        write!(out, "{} saved, {}", crate::many(saved, "message"), crate::many(bytes, "byte"))?;
        let more = [
            (cut, "cut to the limit"),
            (dropped, "dropped over the rate"),
            (lost, "lost by the system (UDP)"),
            (refused, "connections refused"),
            (failed, "TLS handshakes failed"),
        ];
        more.into_iter().filter(|(count, _)| *count > 0).try_for_each(|(count, what)| write!(out, ", {count} {what}"))
    }
}

/// An address to listen on, as people write it: a port alone is one of this machine only.
///
/// # Errors
/// When it is neither.
pub fn listen_on(text: &str) -> Result<SocketAddr> {
    let full = if text.contains(':') { text.to_owned() } else { format!("127.0.0.1:{text}") };
    full.parse().map_err(|_| Error::new(format!("{text}: write a port, or ADDRESS:PORT with a numeric address")))
}

#[derive(Default)]
struct Shared {
    saved: AtomicU64,
    bytes: AtomicU64,
    cut: AtomicU64,
    dropped: AtomicU64,
    lost: AtomicU64,
    refused: AtomicU64,
    failed: AtomicU64,
    open: AtomicUsize,
    trouble: Mutex<Option<String>>,
    /// The second that is counted, and the messages of each sender in it.
    pace: Mutex<(u64, HashMap<IpAddr, u64>)>,
}

/// A file that several connections write to.
type Output = Arc<Mutex<BufWriter<File>>>;

/// A receiver that listens.
pub struct Receiver {
    options: ReceiveOptions,
    udp: Option<UdpSocket>,
    tcp: Option<TcpListener>,
    tls: Option<(TcpListener, Arc<ServerConfig>)>,
    shared: Arc<Shared>,
    files: Mutex<HashMap<(IpAddr, &'static str), Output>>,
    started: Instant,
}

/// Files of senders that are open at once.
const SENDERS: usize = 512;
/// How long a wait for data may keep from noticing that all should end.
const TICK: Duration = Duration::from_millis(100);
/// How long a sender may be silent.
const IDLE: Duration = Duration::from_secs(3600);
/// How long a connection may take to send its first byte.
const FIRST: Duration = Duration::from_secs(10);
/// How long a connection may be silent while others need its place.
const CROWDED: Duration = Duration::from_secs(5);
/// Senders whose messages are counted by themselves; those beyond share one count.
const PACES: usize = 4096;
/// Bytes of the system's buffer for datagrams that are asked for.
const UDP_BUFFER: usize = 32 << 20;

impl Receiver {
    /// Starts to listen, on a port of the system's choice where 0 is asked for.
    ///
    /// # Errors
    /// When an address cannot be used, the folder cannot be made, or certificate and key do not fit.
    pub fn bind(options: ReceiveOptions) -> Result<Self> {
        std::fs::create_dir_all(options.into.join("hosts"))
            .map_err(|error| Error::at(&options.into, "cannot make the folder", error))?;
        let cannot = |what: &str, address: SocketAddr| {
            let what = format!("cannot listen on {what} {address}");
            move |error: io::Error| Error::caused(what, error)
        };
        let udp = options.udp.map(|address| UdpSocket::bind(address).map_err(cannot("UDP", address))).transpose()?;
        if let Some(udp) = &udp {
            // The system gives as much as it allows; what that is too little for is counted as lost.
            let _ = rustix::net::sockopt::set_socket_recv_buffer_size(udp, UDP_BUFFER);
            udp.set_read_timeout(Some(TICK)).map_err(|error| Error::caused("cannot listen on UDP", error))?;
        }
        let listen = |what: &str, address: SocketAddr| {
            let listener = TcpListener::bind(address).map_err(cannot(what, address))?;
            listener.set_nonblocking(true).map_err(cannot(what, address))?;
            Ok::<_, Error>(listener)
        };
        let tcp = options.tcp.map(|address| listen("TCP", address)).transpose()?;
        let tls = match options.tls {
            None => None,
            Some(address) => Some((listen("TLS", address)?, Arc::new(identity(options.identity.as_ref())?))),
        };
        if udp.is_none() && tcp.is_none() && tls.is_none() {
            return Err(Error::new("nowhere to listen: name at least one of UDP, TCP and TLS"));
        }
        let (shared, files) = (Arc::default(), Mutex::default());
        Ok(Self { options, udp, tcp, tls, shared, files, started: Instant::now() })
    }

    /// Where it listens: UDP, TCP, TLS.
    pub fn addresses(&self) -> [Option<SocketAddr>; 3] {
        [
            self.udp.as_ref().and_then(|socket| socket.local_addr().ok()),
            self.tcp.as_ref().and_then(|socket| socket.local_addr().ok()),
            self.tls.as_ref().and_then(|(socket, _)| socket.local_addr().ok()),
        ]
    }

    /// What happened so far.
    pub fn counts(&self) -> Counts {
        let get = |number: &AtomicU64| number.load(Ordering::Relaxed);
        let shared = &self.shared;
        Counts {
            saved: get(&shared.saved),
            bytes: get(&shared.bytes),
            cut: get(&shared.cut),
            dropped: get(&shared.dropped),
            lost: get(&shared.lost),
            refused: get(&shared.refused),
            failed: get(&shared.failed),
        }
    }

    /// Receives until the work is cancelled.
    ///
    /// # Errors
    /// When a file cannot be written, or the limit on bytes is reached; what was received is kept.
    pub fn run(&self, work: &Work) -> Result<Counts> {
        thread::scope(|scope| {
            if let Some(udp) = &self.udp {
                scope.spawn(move || self.datagrams(udp, work));
            }
            let listeners = self.tcp.iter().map(|listener| (listener, None));
            let listeners = listeners.chain(self.tls.iter().map(|(listener, config)| (listener, Some(config))));
            for (listener, config) in listeners {
                scope.spawn(move || {
                    while !work.is_cancelled() {
                        match listener.accept() {
                            Ok((stream, from)) => {
                                if self.shared.open.fetch_add(1, Ordering::Relaxed) >= self.options.connections {
                                    self.shared.open.fetch_sub(1, Ordering::Relaxed);
                                    self.shared.refused.fetch_add(1, Ordering::Relaxed);
                                    continue;
                                }
                                scope.spawn(move || {
                                    self.connection(stream, from.ip(), config, work);
                                    self.shared.open.fetch_sub(1, Ordering::Relaxed);
                                });
                            }
                            Err(_) => thread::sleep(TICK / 5),
                        }
                    }
                });
            }
        });
        let trouble = self.shared.trouble.lock().unwrap_or_else(PoisonError::into_inner).take();
        match trouble {
            Some(trouble) => Err(Error::new(trouble)),
            None => Ok(self.counts()),
        }
    }

    fn fail(&self, trouble: String, work: &Work) {
        self.shared.trouble.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(trouble);
        work.cancel();
    }

    /// The file for a sender and a way of sending.
    fn file(&self, from: IpAddr, way: &'static str) -> io::Result<Output> {
        let mut files = self.files.lock().unwrap_or_else(PoisonError::into_inner);
        // Addresses of datagrams can be made up: what is beyond shares one file.
        let is_new = !files.contains_key(&(from, way));
        // One that was named beforehand always has its place.
        let labelled = self.options.labels.contains_key(&from);
        let from = if is_new && !labelled && files.len() >= SENDERS { IpAddr::from([0, 0, 0, 0]) } else { from };
        if let Some(file) = files.get(&(from, way)) {
            return Ok(Arc::clone(file));
        }
        let unnamed =
            || if from.is_unspecified() { "other-senders".into() } else { from.to_string().replace(':', "_") };
        let label = self.options.labels.get(&from).cloned().unwrap_or_else(unnamed);
        let folder = self.options.into.join("hosts").join(label.replace(['/', '\\'], "_"));
        std::fs::create_dir_all(&folder)?;
        let file = File::options().create(true).append(true).open(folder.join(format!("syslog-{way}.log")))?;
        let file = Arc::new(Mutex::new(BufWriter::with_capacity(256 << 10, file)));
        files.insert((from, way), Arc::clone(&file));
        Ok(file)
    }

    /// Whether one more message of a sender fits into this second.
    fn has_room(&self, from: IpAddr) -> bool {
        let second = self.started.elapsed().as_secs();
        let mut pace = self.shared.pace.lock().unwrap_or_else(PoisonError::into_inner);
        if pace.0 != second {
            pace.0 = second;
            pace.1.clear();
        }
        let known = pace.1.contains_key(&from) || pace.1.len() < PACES || self.options.labels.contains_key(&from);
        let count = pace.1.entry(if known { from } else { IpAddr::from([0, 0, 0, 0]) }).or_default();
        *count += 1;
        *count <= self.options.rate
    }

    /// Writes messages to a file and says so when they are there.
    fn save(&self, file: &Mutex<BufWriter<File>>, messages: &[u8], count: u64, work: &Work) {
        let mut out = file.lock().unwrap_or_else(PoisonError::into_inner);
        if let Err(error) = out.write_all(messages).and_then(|()| out.flush()) {
            return self.fail(format!("cannot write below {}: {error}", self.options.into.display()), work);
        }
        self.shared.saved.fetch_add(count, Ordering::Relaxed);
        let bytes = self.shared.bytes.fetch_add(messages.len() as u64, Ordering::Relaxed) + messages.len() as u64;
        if bytes > self.options.total_bytes {
            self.fail(
                format!("the limit of {} MiB is reached: receiving has ended", self.options.total_bytes >> 20),
                work,
            );
        }
    }

    /// How long a connection may be silent that has sent something (`any`) or nothing yet.
    fn patience(&self, any: bool) -> Duration {
        // From three quarters on, places are scarce.
        let crowded =
            self.shared.open.load(Ordering::Relaxed).saturating_mul(4) >= self.options.connections.saturating_mul(3);
        match (crowded, any) {
            (true, _) => CROWDED,
            (false, false) => FIRST,
            (false, true) => IDLE,
        }
    }

    fn datagrams(&self, udp: &UdpSocket, work: &Work) {
        let mut buffer = vec![0; 1 << 16];
        let mut waiting: HashMap<IpAddr, (Vec<u8>, u64)> = HashMap::new();
        let mut checked = Instant::now();
        while !work.is_cancelled() {
            let got = udp.recv_from(&mut buffer);
            let idle = got.is_err();
            if let Ok((length, from)) = got {
                if self.has_room(from.ip()) {
                    let most = self.options.message_bytes;
                    self.shared.cut.fetch_add(u64::from(length > most), Ordering::Relaxed);
                    let (messages, count) = waiting.entry(from.ip()).or_default();
                    line(&buffer[..length.min(most)], messages);
                    *count += 1;
                } else {
                    self.shared.dropped.fetch_add(1, Ordering::Relaxed);
                }
            }
            let full = waiting.values().any(|(messages, _)| messages.len() > 256 << 10);
            if idle || full || checked.elapsed() > TICK {
                self.save_waiting(&mut waiting, work);
                self.shared.lost.store(crate::platform::lost_datagrams(udp), Ordering::Relaxed);
                checked = Instant::now();
            }
        }
        // What was taken in before the end is kept.
        self.save_waiting(&mut waiting, work);
    }

    fn save_waiting(&self, waiting: &mut HashMap<IpAddr, (Vec<u8>, u64)>, work: &Work) {
        for (from, (messages, count)) in waiting.drain() {
            match self.file(from, "udp") {
                Ok(file) => self.save(&file, &messages, count, work),
                Err(error) => self.fail(format!("cannot write below {}: {error}", self.options.into.display()), work),
            }
        }
    }

    fn connection(&self, stream: TcpStream, from: IpAddr, config: Option<&Arc<ServerConfig>>, work: &Work) {
        // A system that cannot set these gives a connection that ends with its sender.
        let _ = stream.set_nonblocking(false);
        let _ = stream.set_read_timeout(Some(TICK));
        match config {
            None => self.stream(stream, from, "tcp", work),
            Some(config) => match ServerConnection::new(Arc::clone(config)) {
                Ok(connection) => self.stream(StreamOwned::new(connection, stream), from, "tls", work),
                Err(_) => {
                    self.shared.failed.fetch_add(1, Ordering::Relaxed);
                }
            },
        }
    }

    fn stream(&self, mut stream: impl Read, from: IpAddr, way: &'static str, work: &Work) {
        let mut framing = Framing::default();
        let mut buffer = vec![0; 128 << 10];
        let mut messages = Vec::new();
        let mut heard = Instant::now();
        let mut any = false;
        let file = match self.file(from, way) {
            Ok(file) => file,
            Err(error) => {
                return self.fail(format!("cannot write below {}: {error}", self.options.into.display()), work);
            }
        };
        loop {
            let ended = match stream.read(&mut buffer) {
                Ok(0) => true,
                Ok(length) => {
                    (any, heard) = (true, Instant::now());
                    framing.add(&buffer[..length]);
                    false
                }
                Err(error)
                    if matches!(
                        error.kind(),
                        io::ErrorKind::WouldBlock | io::ErrorKind::TimedOut | io::ErrorKind::Interrupted
                    ) =>
                {
                    heard.elapsed() > self.patience(any)
                }
                Err(_) => {
                    let handshake = way == "tls" && !any;
                    self.shared.failed.fetch_add(u64::from(handshake), Ordering::Relaxed);
                    true
                }
            };
            let mut count = 0;
            while let Some(message) = framing.next(self.options.message_bytes) {
                while !self.has_room(from) && !work.is_cancelled() {
                    // The sender waits with us: TCP slows it down.
                    thread::sleep(TICK / 10);
                }
                line(message, &mut messages);
                count += 1;
            }
            let ending = ended || work.is_cancelled();
            if ending && let Some(last) = framing.last(self.options.message_bytes) {
                line(&last, &mut messages);
                count += 1;
            }
            self.shared.cut.fetch_add(std::mem::take(&mut framing.cut), Ordering::Relaxed);
            if count > 0 {
                self.save(&file, &messages, count, work);
                messages.clear();
            }
            if ending {
                return;
            }
        }
    }
}

/// One message as one line: what would end the line is written as `#` and three octal digits, as syslog daemons do.
fn line(message: &[u8], out: &mut Vec<u8>) {
    let end = message.iter().rposition(|byte| !matches!(byte, b'\n' | b'\r' | 0)).map_or(0, |last| last + 1);
    for byte in &message[..end] {
        match byte {
            b'\n' | b'\r' | 0 => out.extend_from_slice(format!("#{byte:03o}").as_bytes()),
            _ => out.push(*byte),
        }
    }
    out.push(b'\n');
}

fn identity(files: Option<&(PathBuf, PathBuf)>) -> Result<ServerConfig> {
    let (certificate, key) = files.ok_or_else(|| Error::new("TLS needs a certificate and a private key, in PEM"))?;
    let cannot =
        |path: &Path, error: &dyn std::fmt::Display| Error::new(format!("cannot use {}: {error}", path.display()));
    let chain: std::result::Result<Vec<_>, _> =
        CertificateDer::pem_file_iter(certificate).map_err(|error| cannot(certificate, &error))?.collect();
    let chain = chain.map_err(|error| cannot(certificate, &error))?;
    let key_der = PrivateKeyDer::from_pem_file(key).map_err(|error| cannot(key, &error))?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|error| Error::caused("cannot use TLS", error))?
        .with_no_client_auth()
        .with_single_cert(chain, key_der)
        .map_err(|error| Error::new(format!("{} and {} cannot be used: {error}", certificate.display(), key.display())))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn receive(options: impl FnOnce(&mut ReceiveOptions), send: impl FnOnce(&Receiver)) -> (Counts, tempfile::TempDir) {
        let folder = tempfile::tempdir().unwrap();
        let any: SocketAddr = "127.0.0.1:0".parse().unwrap();
        let mut all = ReceiveOptions {
            into: folder.path().to_path_buf(),
            udp: Some(any),
            tcp: Some(any),
            ..ReceiveOptions::default()
        };
        options(&mut all);
        let receiver = Receiver::bind(all).unwrap();
        let work = Work::default();
        let counts = thread::scope(|scope| {
            let running = scope.spawn(|| receiver.run(&work));
            let sent = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| send(&receiver)));
            work.cancel();
            // A limit that was reached is an error; the counts are asked for all the same.
            let _ = running.join().unwrap();
            sent.unwrap();
            receiver.counts()
        });
        (counts, folder)
    }

    fn wait(receiver: &Receiver, done: impl Fn(Counts) -> bool) {
        let until = Instant::now() + Duration::from_secs(60);
        while !done(receiver.counts()) {
            assert!(Instant::now() < until, "{:?}", receiver.counts());
            thread::sleep(Duration::from_millis(5));
        }
    }

    fn text(folder: &tempfile::TempDir, way: &str) -> String {
        std::fs::read_to_string(folder.path().join(format!("hosts/127.0.0.1/syslog-{way}.log"))).unwrap()
    }

    #[test]
    fn nothing_is_lost_over_tcp() {
        let (counts, folder) = receive(
            |_| {},
            |receiver| {
                let mut stream = TcpStream::connect(receiver.addresses()[1].unwrap()).unwrap();
                let lines: String = (0..100_000)
                    .map(|index| format!("<13>Apr 12 02:31:07 gw a: {index}\n"))
                    .collect::<Vec<_>>()
                    .concat();
                stream.write_all(lines.as_bytes()).unwrap();
                stream.write_all(b"24 <14>1 - gw a - - - two\nl").unwrap();
                drop(stream);
                wait(receiver, |counts| counts.saved == 100_001);
            },
        );
        assert_eq!((counts.saved, counts.cut, counts.dropped), (100_001, 0, 0));
        let text = text(&folder, "tcp");
        assert_eq!(text.lines().count(), 100_001);
        assert!(text.ends_with("\n<14>1 - gw a - - - two#012l\n"), "{}", &text[text.len() - 80..]);
    }

    #[test]
    fn datagrams_and_limits() {
        let (counts, folder) = receive(
            |options| {
                options.message_bytes = 20;
                options.connections = 0;
            },
            |receiver| {
                let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
                for message in ["<13>short\n", "<13>longer than twenty bytes", "<13>two\nlines\0"] {
                    socket.send_to(message.as_bytes(), receiver.addresses()[0].unwrap()).unwrap();
                }
                let _refused = TcpStream::connect(receiver.addresses()[1].unwrap()).unwrap();
                wait(receiver, |counts| counts.saved == 3 && counts.refused == 1);
            },
        );
        assert_eq!(counts.cut, 1);
        assert_eq!(text(&folder, "udp"), "<13>short\n<13>longer than twen\n<13>two#012lines\n");
    }

    #[test]
    fn a_flood_is_stopped_by_the_limits() {
        let (counts, folder) = receive(
            |options| {
                options.rate = 10;
                options.total_bytes = 60;
            },
            |receiver| {
                let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
                for _ in 0..200 {
                    socket.send_to(b"<13>flood", receiver.addresses()[0].unwrap()).unwrap();
                }
                wait(receiver, |counts| counts.saved + counts.dropped + counts.lost >= 150 || counts.bytes > 60);
            },
        );
        assert!(counts.bytes > 60 && counts.bytes < 4000, "{counts:?}");
        assert!(text(&folder, "udp").lines().all(|line| line == "<13>flood"));
    }
}
