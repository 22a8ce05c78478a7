//! Gathering with real components: OpenSSH's server on a loopback port, rsyslog as a sender, the kernel's own files. What they need
//! is installed by `./check`.

mod common;

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::thread;
use std::time::{Duration, Instant};

use common::{Home, Ran};

fn run(program: &str, arguments: &[&str]) {
    let output = Command::new(program).args(arguments).output().unwrap_or_else(|error| panic!("{program}: {error}"));
    assert!(output.status.success(), "{program}: {}", String::from_utf8_lossy(&output.stderr));
}

fn wait_for(what: &str, mut done: impl FnMut() -> bool) {
    let until = Instant::now() + Duration::from_secs(60);
    while !done() {
        assert!(Instant::now() < until, "never came: {what}");
        thread::sleep(Duration::from_millis(10));
    }
}

fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

/// A process that ends with the test.
struct Ends(Child);

impl Drop for Ends {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// A private SSH server with throw-away keys, and a client configuration for it.
struct Sshd {
    _server: Ends,
    port: u16,
    config: PathBuf,
}

fn sshd(home: &Home) -> Sshd {
    let path = |name: &str| home.path(name).display().to_string();
    for key in ["host", "good", "bad"] {
        run("ssh-keygen", &["-q", "-t", "ed25519", "-N", "", "-f", &path(key)]);
    }
    let port = free_port();
    home.write(
        "sshd.conf",
        format!(
            "Port {port}\nListenAddress 127.0.0.1\nHostKey {}\nAuthorizedKeysFile {}\nStrictModes no\nUsePAM no\nPidFile none\nMaxSessions 100\n",
            path("host"),
            path("good.pub")
        ),
    );
    // The server insists on its own absolute path and this folder.
    let _ = std::fs::create_dir_all("/run/sshd");
    let server =
        Command::new("/usr/sbin/sshd").args(["-D", "-e", "-f", &path("sshd.conf")]).stderr(Stdio::null()).spawn();
    let server = Ends(server.expect("openssh-server is installed by ./check"));
    wait_for("sshd", || TcpStream::connect(("127.0.0.1", port)).is_ok());
    let public = std::fs::read_to_string(home.path("host.pub")).unwrap();
    home.write("known", format!("tank {public}"));
    home.write("unknown", "");
    let user = std::env::var("USER").unwrap_or_else(|_| "root".into());
    let host = |name: &str, port: u16, key: &str, known: &str| {
        format!(
            "Host {name}\n HostName 127.0.0.1\n HostKeyAlias tank\n Port {port}\n User {user}\n IdentityFile {}\n IdentitiesOnly yes\n UserKnownHostsFile {}\n",
            path(key),
            path(known)
        )
    };
    let text = [
        host("pump", port, "good", "known"),
        host("refused", port, "bad", "known"),
        host("stranger", port, "good", "unknown"),
    ];
    let config = home.write("ssh.conf", text.concat());
    Sshd { _server: server, port, config }
}

/// The root of a host, as a folder that the SSH server of this machine can see.
fn root(home: &Home, name: &str) -> PathBuf {
    home.write(&format!("{name}/etc/os-release"), "NAME=\"Saltmere Linux\"\nVERSION_ID=\"12\"\n");
    home.write(&format!("{name}/etc/timezone"), "Europe/Lisbon\n");
    let lines: String = (0..60)
        .map(|minute| format!("Apr 12 02:{minute:02}:07 {name} dosingd[7]: round {minute}\n"))
        .collect::<Vec<_>>()
        .concat();
    home.write(&format!("{name}/var/log/syslog"), lines);
    home.write(&format!("{name}/var/log/it's a log.log"), "2026-04-12T02:31:07+01:00 odd name\n");
    home.path(name)
}

fn seal(path: &Path) -> serde_json::Value {
    let mut archive = zip::ZipArchive::new(std::fs::File::open(path).unwrap()).unwrap();
    serde_json::from_reader(archive.by_name("box.json").unwrap()).unwrap()
}

fn paths(seal: &serde_json::Value) -> Vec<&str> {
    seal["files"].as_array().unwrap().iter().map(|file| file["path"].as_str().unwrap()).collect()
}

#[test]
fn hosts_over_ssh() {
    let home = Home::new();
    let sshd = sshd(&home);
    let root = root(&home, "pump-ctl");
    let config = sshd.config.to_str().unwrap();
    let pump = format!("pump-ctl=ssh://pump{}", root.display());
    let closed = format!("gone=ssh://127.0.0.1:{}", free_port());
    let ran = home.run(&[
        "pack",
        "--host",
        &pump,
        "--host",
        "a=ssh://refused",
        "--host",
        "b=ssh://stranger",
        "--host",
        &closed,
        "--ssh-config",
        config,
        "--recipe",
        "linux-root",
        "--around",
        "2026-04-12T01:20:00Z",
        "--within",
        "5m",
        "--into",
        "x.box.zip",
    ]);
    assert_eq!(ran.status, Some(3), "{}", ran.err);
    for reason in
        ["(a): ", "Permission denied", "(b): ", "Host key verification failed", "(gone): ", "Connection refused"]
    {
        assert!(ran.err.contains(reason), "lacks {reason}: {}", ran.err);
    }
    let seal = seal(&home.path("x.box.zip"));
    let host = seal["hosts"].as_array().unwrap().iter().find(|host| host["label"] == "pump-ctl").unwrap();
    assert_eq!(host["zone"], "Europe/Lisbon");
    assert!(host["clock_there"].is_string() && host["clock_within_ms"].as_u64().unwrap() < 60_000, "{host}");
    assert_eq!(
        paths(&seal),
        ["hosts/pump-ctl/etc/os-release", "hosts/pump-ctl/etc/timezone", "hosts/pump-ctl/var/log/syslog"]
    );
    let syslog = &seal["files"][2];
    assert_eq!((&syslog["class"], &syslog["recipe"]), (&"system".into(), &"linux-root".into()));
    // Local time in Lisbon is an hour ahead: 02:15 to 02:25, both ends included.
    let events = home.run(&["events", "x.box.zip", "--where", "component=dosingd"]).json();
    let times: Vec<&str> = events.iter().map(|event| event["time"].as_str().unwrap()).collect();
    assert_eq!(
        (times.len(), times[0], times[9]),
        (10, "2026-04-12T01:15:07.000000000Z", "2026-04-12T01:24:07.000000000Z")
    );
    assert_eq!(events[0]["time_known"], "assumed-year");
    assert!(ran.out.contains("pump-ctl") && ran.out.contains("covered"), "coverage is shown: {}", ran.out);
    // Without a window the file with the odd name comes too, byte for byte.
    let ran =
        home.run(&["pack", "--host", &pump, "--ssh-config", config, "--recipe", "linux-root", "--into", "y.box.zip"]);
    assert_eq!(ran.status, Some(0), "{}", ran.err);
    let mut archive = zip::ZipArchive::new(std::fs::File::open(home.path("y.box.zip")).unwrap()).unwrap();
    let mut text = String::new();
    archive.by_name("hosts/pump-ctl/var/log/it's a log.log").unwrap().read_to_string(&mut text).unwrap();
    assert_eq!(text, "2026-04-12T02:31:07+01:00 odd name\n");
}

/// Passes bytes on to a port: slowly, or only so many of them to the client, and then never again.
fn proxy(to: u16, most: Option<usize>, delay: Duration) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    thread::spawn(move || {
        let mut left = most;
        for client in listener.incoming().flatten() {
            let Ok(server) = TcpStream::connect(("127.0.0.1", to)) else { return };
            let (mut up, mut server_in) = (client.try_clone().unwrap(), server.try_clone().unwrap());
            thread::spawn(move || std::io::copy(&mut up, &mut server_in));
            let (mut server, mut client) = (server, client);
            let mut buffer = [0; 16 << 10];
            while let Ok(count) = server.read(&mut buffer) {
                let send = left.map_or(count, |left| left.min(count));
                left = left.map(|left| left - send);
                if count == 0 || client.write_all(&buffer[..send]).is_err() || left == Some(0) {
                    break;
                }
                thread::sleep(delay);
            }
            let _ = client.shutdown(std::net::Shutdown::Both);
            let _ = server.shutdown(std::net::Shutdown::Both);
            if left == Some(0) {
                return;
            }
        }
    });
    port
}

#[test]
fn a_slow_host_and_one_that_dies_in_the_middle() {
    let home = Home::new();
    let sshd = sshd(&home);
    let (slow, dying) = (root(&home, "pump-ctl"), root(&home, "keeper-desk"));
    let big = "2026-04-12T02:31:07Z a line of a log that is much longer than the line to it lives\n".repeat(100_000);
    home.write("keeper-desk/var/log/tankwarden/big.log", &big);
    home.write("pump-ctl/var/log/tankwarden/some.log", &big[..100_000 / 84 * 84]);
    let known = std::fs::read_to_string(&sshd.config).unwrap();
    let through = |name: &str, port: u16| {
        let block = known.split("Host refused").next().unwrap();
        block
            .replace("Host pump", &format!("Host {name}"))
            .replace(&format!("Port {}", sshd.port), &format!("Port {port}"))
    };
    let slow_port = proxy(sshd.port, None, Duration::from_millis(2));
    let dying_port = proxy(sshd.port, Some(2_000_000), Duration::ZERO);
    let config = home.write("proxies.conf", through("slow", slow_port) + &through("dying", dying_port));
    let slow = format!("pump-ctl=ssh://slow{}", slow.display());
    let dying = format!("keeper-desk=ssh://dying{}", dying.display());
    let ran = home.run(&[
        "pack",
        "--host",
        &slow,
        "--host",
        &dying,
        "--ssh-config",
        config.to_str().unwrap(),
        "--recipe",
        "linux-root",
        "--into",
        "x.box.zip",
    ]);
    assert_eq!(ran.status, Some(3), "{}", ran.err);
    let seal = seal(&home.path("x.box.zip"));
    let files = paths(&seal);
    assert!(files.contains(&"hosts/pump-ctl/var/log/tankwarden/some.log"), "the slow one is whole: {files:?}");
    assert!(!files.contains(&"hosts/keeper-desk/var/log/tankwarden/big.log"), "half a file is none: {files:?}");
    let unreadable = seal["unreadable"].to_string();
    assert!(unreadable.contains("var/log/tankwarden/big.log"), "{unreadable}");
    assert_eq!(home.run(&["check", "x.box.zip"]).status, Some(0));
    let left: Vec<_> = std::fs::read_dir(home.path(".")).unwrap().flatten().map(|entry| entry.file_name()).collect();
    assert!(!left.iter().any(|name| name.to_string_lossy().contains("boxclock-")), "{left:?}");
}

#[test]
fn capture_takes_what_was_written_meanwhile() {
    let home = Home::new();
    home.write("logs/app.log", "2026-04-12T02:00:00Z before\n");
    home.write("logs/old.log", "2026-04-12T02:00:00Z old\n");
    let mut capture = home
        .command()
        .args(["pack", "logs", "--capture", "--into", "x.box.zip"])
        .stdin(Stdio::piped())
        .stderr(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut said = [0; 19];
    capture.stderr.as_mut().unwrap().read_exact(&mut said).unwrap();
    assert_eq!(&said, b"boxclock: capturing");
    // A real rotation meanwhile.
    home.write("rotate.conf", format!("{} {{\n rotate 3\n create\n}}\n", home.path("logs/app.log").display()));
    let append = |text: &str| {
        let path = home.path("logs/app.log");
        std::fs::File::options().append(true).create(true).open(path).unwrap().write_all(text.as_bytes()).unwrap();
    };
    append("2026-04-12T02:00:01Z failing\n");
    let (state, config) = (home.path("state"), home.path("rotate.conf"));
    run("/usr/sbin/logrotate", &["-f", "-s", state.to_str().unwrap(), config.to_str().unwrap()]);
    append("2026-04-12T02:00:02Z failed\n");
    capture.stdin.take().unwrap().write_all(b"\n").unwrap();
    let ran = Ran::of(&capture.wait_with_output().unwrap());
    assert_eq!(ran.status, Some(0), "{}", ran.err);
    let bodies: Vec<String> = home
        .run(&["events", "x.box.zip"])
        .json()
        .iter()
        .map(|event| event["body"].as_str().unwrap().to_owned())
        .collect();
    assert_eq!(bodies, ["failing", "failed"]);
    let marks = seal(&home.path("x.box.zip"))["marks"].clone();
    assert_eq!((&marks[0]["text"], &marks[1]["text"]), (&"capture began".into(), &"capture ended".into()));
}

/// Starts `boxclock receive` and gives its ports: UDP, TCP, TLS.
fn receiver(home: &Home) -> (Child, [u16; 3]) {
    let ports = [free_port(), free_port(), free_port()];
    run(
        "openssl",
        &[
            "req",
            "-x509",
            "-newkey",
            "rsa:2048",
            "-nodes",
            "-days",
            "2",
            "-subj",
            "/CN=localhost",
            "-addext",
            "subjectAltName=DNS:localhost,IP:127.0.0.1",
            "-keyout",
            home.path("key.pem").to_str().unwrap(),
            "-out",
            home.path("cert.pem").to_str().unwrap(),
        ],
    );
    let [udp, tcp, tls] = ports.map(|port| port.to_string());
    let child = home
        .command()
        .args([
            "receive", "--into", "in", "--udp", &udp, "--tcp", &tcp, "--tls", &tls, "--cert", "cert.pem", "--key",
            "key.pem",
        ])
        .args(["--label", "127.0.0.1=dose-gw"])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    wait_for("the receiver", || TcpStream::connect(("127.0.0.1", ports[2])).is_ok());
    (child, ports)
}

#[test]
fn rsyslog_sends_over_udp_tcp_and_tls() {
    let home = Home::new();
    let (child, [udp, tcp, tls]) = receiver(&home);
    let input = free_port();
    let folder = home.path(".").display().to_string();
    home.write(
        "rsyslog.conf",
        format!(
            "global(workDirectory=\"{folder}\" defaultNetstreamDriverCAFile=\"{folder}/cert.pem\")\n\
             module(load=\"imtcp\")\ninput(type=\"imtcp\" port=\"{input}\" address=\"127.0.0.1\")\n\
             *.* action(type=\"omfwd\" target=\"127.0.0.1\" port=\"{udp}\" protocol=\"udp\" template=\"RSYSLOG_TraditionalForwardFormat\")\n\
             *.* action(type=\"omfwd\" target=\"127.0.0.1\" port=\"{tcp}\" protocol=\"tcp\" TCP_Framing=\"octet-counted\" template=\"RSYSLOG_SyslogProtocol23Format\")\n\
             *.* action(type=\"omfwd\" target=\"127.0.0.1\" port=\"{tls}\" protocol=\"tcp\" TCP_Framing=\"octet-counted\" StreamDriver=\"gtls\" StreamDriverMode=\"1\" \
             StreamDriverAuthMode=\"x509/name\" StreamDriverPermittedPeers=\"localhost\" template=\"RSYSLOG_SyslogProtocol23Format\")\n"
        ),
    );
    let (config, pid) = (home.path("rsyslog.conf"), home.path("rsyslog.pid"));
    let rsyslog = Command::new("/usr/sbin/rsyslogd")
        .args(["-n", "-f", config.to_str().unwrap(), "-i", pid.to_str().unwrap()])
        .spawn()
        .expect("rsyslog is installed by ./check");
    let _rsyslog = Ends(rsyslog);
    wait_for("rsyslog", || TcpStream::connect(("127.0.0.1", input)).is_ok());
    let mut sender = TcpStream::connect(("127.0.0.1", input)).unwrap();
    for number in 0..500 {
        writeln!(sender, "<{}>Apr 12 02:31:07 dose-gw bridge[7]: frame {number}", 8 + number % 8).unwrap();
    }
    drop(sender);
    let lines = |way: &str| {
        let text =
            std::fs::read_to_string(home.path(&format!("in/hosts/dose-gw/syslog-{way}.log"))).unwrap_or_default();
        text.lines().filter(|line| line.contains("frame ")).count()
    };
    wait_for("all messages", || lines("udp") >= 500 && lines("tcp") >= 500 && lines("tls") >= 500);
    for way in ["udp", "tcp", "tls"] {
        assert_eq!(lines(way), 500, "{way}");
    }
    let counted = |format: &str, level: &str| {
        let filter = format!("format={format} {level} frame");
        home.run(&["events", "in", "--where", &filter]).json().len()
    };
    // Eight severities in turn: 0 to 3 are errors or worse, half of all.
    assert_eq!((counted("rfc3164", "level>=error"), counted("rfc5424", "level>=error")), (252, 504));
    run("kill", &["-INT", &child.id().to_string()]);
    let ran = Ran::of(&child.wait_with_output().unwrap());
    assert!(ran.out.contains("messages saved"), "{} {}", ran.out, ran.err);
}

#[test]
fn a_client_that_does_not_trust_us_is_counted_and_a_kill_loses_nothing_that_was_saved() {
    let home = Home::new();
    let (mut child, [_, tcp, tls]) = receiver(&home);
    // The client refuses our certificate: it knows no authority that signed it.
    let client = Command::new("openssl")
        .args(["s_client", "-connect", &format!("127.0.0.1:{tls}"), "-verify_return_error", "-CAfile", "/dev/null"])
        .stdin(Stdio::null())
        .output()
        .unwrap();
    assert!(!client.status.success());
    let mut sender = TcpStream::connect(("127.0.0.1", tcp)).unwrap();
    sender.write_all("<13>Apr 12 02:31:07 dose-gw a: kept\n".repeat(1000).as_bytes()).unwrap();
    let lines =
        || std::fs::read_to_string(home.path("in/hosts/dose-gw/syslog-tcp.log")).unwrap_or_default().lines().count();
    wait_for("what was sent", || lines() == 1000);
    child.kill().unwrap();
    child.wait().unwrap();
    assert_eq!(home.run(&["events", "in"]).json().len(), 1000);
}

/// A receiver that is stopped for a while cannot fetch its datagrams: the system throws away what its buffer does not hold. Every one
/// is either saved or counted.
#[test]
fn datagrams_that_the_system_loses_are_counted() {
    const SENT: u64 = 200_000;
    let home = Home::new();
    let (child, [udp, ..]) = receiver(&home);
    let signal = |name: &str| run("kill", &[name, &child.id().to_string()]);
    signal("-STOP");
    let socket = std::net::UdpSocket::bind("127.0.0.1:0").unwrap();
    let message = format!("<13>Apr 12 02:31:07 dose-gw a: {}", "x".repeat(900));
    for _ in 0..SENT {
        socket.send_to(message.as_bytes(), ("127.0.0.1", udp)).unwrap();
    }
    signal("-CONT");
    // Datagrams come in their order: once a last one has been saved, all before it were saved or lost. It may be lost itself while
    // the buffer is still full: then another one is the last.
    let saved = || std::fs::read_to_string(home.path("in/hosts/dose-gw/syslog-udp.log")).unwrap_or_default();
    let (mut last, mut looks) = (0_u64, 0);
    wait_for("the last datagram", || {
        if looks % 50 == 0 {
            last += 1;
            socket
                .send_to(format!("<13>Apr 12 02:31:07 dose-gw a: last {last};").as_bytes(), ("127.0.0.1", udp))
                .unwrap();
        }
        looks += 1;
        saved().contains(&format!("last {last};"))
    });
    signal("-INT");
    let output = child.wait_with_output().unwrap();
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    let number = |behind: &str| {
        let before = said.split(behind).next().unwrap_or_default();
        before.rsplit([' ', ',']).find(|word| !word.is_empty()).and_then(|word| word.parse::<u64>().ok()).unwrap_or(0)
    };
    let (saved, lost) = (number(" messages saved"), number(" lost by the system (UDP)"));
    assert!(lost > 0, "nothing was lost, so nothing was proved: {said}");
    assert_eq!(saved + lost, SENT + last, "{said}");
    assert_eq!(output.status.code(), Some(3), "what is missing is said in the exit status too");
}

/// A journal that the system's own program writes from an export stream, gathered by the recipe for a root of Linux.
#[test]
fn a_journal_is_gathered_by_recipe() {
    let home = Home::new();
    let entry = |at: u64| {
        format!(
            "__REALTIME_TIMESTAMP={}\n__MONOTONIC_TIMESTAMP={at}\n_BOOT_ID=0123456789abcdef0123456789abcdef\n\
             _HOSTNAME=pump-ctl\nPRIORITY=3\nSYSLOG_IDENTIFIER=dosingd\nMESSAGE=frame {at} refused\n\n",
            1_775_953_867_000_000_u64 + at * 1_000_000
        )
    };
    home.write("root/etc/os-release", "NAME=Saltmere\n");
    std::fs::create_dir_all(home.path("root/var/log/journal")).unwrap();
    let mut writer = Command::new("/lib/systemd/systemd-journal-remote")
        .arg("--output")
        .arg(home.path("root/var/log/journal/system.journal"))
        .arg("-")
        .stdin(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .expect("systemd-journal-remote is installed");
    let text: String = (0..50).map(entry).collect::<Vec<_>>().concat();
    writer.stdin.take().unwrap().write_all(text.as_bytes()).unwrap();
    assert!(writer.wait().unwrap().success());
    let packed = ["pack", "--host", "pump-ctl=root", "--recipe", "auto", "--around", "2026-04-12T00:31:10Z"];
    let ran = home.run(&[&packed[..], &["--into", "x.box.zip"]].concat());
    assert_eq!(ran.status, Some(0), "{}", ran.err);
    let events = home.run(&["events", "x.box.zip", "--where", "format=journal-binary"]).json();
    assert_eq!(events.len(), 50, "binary files are taken whole where their span touches the window");
    assert_eq!((&events[0]["host"], &events[0]["body"]), (&"pump-ctl".into(), &"frame 0 refused".into()));
    // A window far from it leaves it out, and says so.
    let far = ["pack", "--host", "pump-ctl=root", "--recipe", "auto", "--around", "2026-04-20T00:00:00Z"];
    let ran = home.run(&[&far[..], &["--into", "y.box.zip"]].concat());
    assert!(ran.out.contains("outside of it"), "{}", ran.out);
    assert!(home.run(&["events", "y.box.zip", "--where", "format=journal-binary"]).json().is_empty());
}

#[test]
fn redacting_and_slimming() {
    let home = Home::new();
    home.write(
        "gw/var/log/auth.log",
        "Apr 12 02:31:07 gw sshd[7]: Accepted password for keeper from 10.1.2.3 port 7\n",
    );
    home.write(
        "gw/var/log/app/app.log",
        "2026-04-12T02:31:07Z login keeper.one@saltmere.example token=abcdef123456\n2026-04-12T09:00:00Z later\n",
    );
    home.write("gw/core", include_bytes!("../../boxclock-core/tests/data/feeder.core"));
    home.run(&["pack", "--host", "gw=gw", "--into", "x.box.zip"]);
    let before = std::fs::read(home.path("x.box.zip")).unwrap();
    let preview = home.run(&["redact", "x.box.zip"]);
    assert!(preview.out.contains("keeper.one@saltmere.example -> [mail-"), "{}", preview.out);
    assert_eq!(preview.status, Some(3), "a dump cannot be redacted: {}", preview.err);
    let ran = home.run(&["redact", "x.box.zip", "--into", "y.box.zip", "--hide-hosts"]);
    assert!(ran.err.contains("core") && !ran.out.contains("keeper.one"), "{} {}", ran.out, ran.err);
    assert_eq!(home.run(&["check", "y.box.zip"]).status, Some(0));
    let bytes = home.run(&["events", "y.box.zip"]).out;
    for secret in ["keeper.one", "10.1.2.3", "abcdef123456", "for keeper", "\"gw\""] {
        assert!(!bytes.contains(secret), "{secret} in {bytes}");
    }
    assert_eq!(home.run(&["events", "y.box.zip"]).json().len(), 3);
    let sealed = seal(&home.path("y.box.zip")).to_string();
    assert!(
        !sealed.contains("\"gw\"") && !sealed.contains("hosts/gw/"),
        "the label of the host is in the seal: {sealed}"
    );
    let rules = seal(&home.path("y.box.zip"))["redaction"]["rules"].to_string();
    assert!(rules.contains("\"mail\"") && rules.contains("\"address\""), "{rules}");
    assert_eq!(std::fs::read(home.path("x.box.zip")).unwrap(), before, "the original stays as it is");
    let ran = home.run(&["redact", "x.box.zip", "--into", "z.box.zip", "--around", "2026-04-12T02:31:00Z"]);
    assert!(ran.out.contains("2 files"), "{} {}", ran.out, ran.err);
    assert_eq!(home.run(&["events", "z.box.zip"]).json().len(), 2);
    assert_eq!(home.run(&["redact", "x.box.zip", "--except", "nothing"]).status, Some(1));
    // What still looks like a secret stops the copy: a rule that was switched off, until that is confirmed.
    let ran = home.run(&["redact", "x.box.zip", "--into", "w.box.zip", "--except", "secret"]);
    assert!(ran.status == Some(1) && ran.err.contains("still look like secrets"), "{} {}", ran.out, ran.err);
    assert!(!home.path("w.box.zip").exists());
    let ran = home.run(&["redact", "x.box.zip", "--into", "w.box.zip", "--except", "secret", "--confirm"]);
    assert_eq!(ran.status, Some(3), "{}", ran.err);
    assert!(home.run(&["events", "w.box.zip"]).out.contains("abcdef123456"));
}

#[test]
fn facts_and_checks_of_this_machine() {
    let home = Home::new();
    let ran = home.run(&["pack", "/", "--recipe", "linux-live", "--from", "1 s ago", "--into", "x.box.zip"]);
    assert!(matches!(ran.status, Some(0 | 3)), "{}", ran.err);
    let mut archive = zip::ZipArchive::new(std::fs::File::open(home.path("x.box.zip")).unwrap()).unwrap();
    let name =
        archive.file_names().map(|name| name.unwrap().into_owned()).find(|name| name.ends_with("facts.json")).unwrap();
    let facts: serde_json::Value = serde_json::from_reader(archive.by_name(&name).unwrap()).unwrap();
    let kernel = Command::new("uname").arg("-r").output().unwrap();
    assert_eq!(facts["system"]["kernel"], String::from_utf8(kernel.stdout).unwrap().trim());
    let installed = Command::new("dpkg-query").args(["-W", "-f", "x\n"]).output().unwrap();
    let counted = String::from_utf8_lossy(&installed.stdout).lines().count();
    assert_eq!(facts["packages"].as_array().unwrap().len(), counted);
    // A check of one's own.
    home.write(
        ".config/boxclock/checks/own.toml",
        "[[check]]\nname = \"own\"\nlevel = \"note\"\ntitle = \"Own\"\neach = \"system\"\nwhen = [\"kernel present\"]\nevidence = \"{kernel}\"\nreason = \"r\"\nadvice = \"a\"\n",
    );
    let findings = home.run(&["checks", "x.box.zip", "--as", "jsonl"]).json();
    let own = findings.iter().find(|finding| finding["check"] == "own").unwrap();
    assert_eq!(own["evidence"], facts["system"]["kernel"]);
    home.write(".config/boxclock/recipes/bad.toml", "name = \"bad\"\ntitle = 5\n");
    let ran = home.run(&["recipes"]);
    assert_eq!(ran.status, Some(1));
    assert!(ran.err.contains("bad.toml") && ran.err.contains("line 2, column 9"), "{}", ran.err);
    let plan = home.run(&["pack", "/", "--recipe", "linux-live", "--plan"]);
    assert!(plan.out.contains("nothing was copied or run") && plan.out.contains("journalctl"), "{}", plan.out);
}

/// Programs are taken along whole, or as what names the functions on a stack; the box without them says how to get them.
#[test]
fn programs_of_dumps_are_taken_whole_or_as_symbols() {
    let home = Home::new();
    let sample = |name: &str| {
        let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../boxclock-core/tests/data/crashes").join(name);
        std::fs::read(path).unwrap()
    };
    home.write("desk/srv/dosing/pump-x86", sample("pump-x86"));
    home.write("desk/var/crash/pump-x86.core", sample("pump-x86.core"));
    let desk = format!("desk={}", home.path("desk").display());
    let mut crashes = Vec::new();
    for (way, only) in [("--programs", None), ("--programs=symbols", Some("symbols"))] {
        let into = format!("{}.box.zip", only.unwrap_or("whole"));
        let packed = home.run(&["pack", "--host", &desk, "--recipe", "linux-root", way, "--into", &into]);
        assert_eq!(packed.status, Some(0), "{}", packed.err);
        let seal = seal(&home.path(&into));
        let program =
            seal["files"].as_array().unwrap().iter().find(|file| file["path"].as_str().unwrap().ends_with("/pump-x86"));
        assert_eq!(program.unwrap()["only"].as_str(), only, "{seal}");
        assert_eq!(home.run(&["check", &into]).status, Some(0));
        let told = home.run(&["crashes", &into, "--as", "jsonl"]);
        let crash: serde_json::Value = serde_json::from_str(told.out.lines().next().unwrap()).unwrap();
        crashes.push((crash["frames"].clone(), crash["missing_programs"].clone()));
    }
    assert_eq!(crashes[0], crashes[1]);
    assert!(crashes[0].0.to_string().contains("\"function\":\""), "{}", crashes[0].0);
    let wrong = home.run(&["pack", "--host", &desk, "--programs=some", "--into", "x.box.zip"]);
    assert_eq!(wrong.status, Some(2), "{}", wrong.err);
}
