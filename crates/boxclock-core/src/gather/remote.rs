//! Remote hosts, through the installed OpenSSH client: so the user's own configuration, keys, agent, jump hosts and known hosts
//! count, and the checks of host keys are as the user set them.
//!
//! The remote side needs a POSIX shell, `cat`, `find`, `stat` and `date`. Scripts go to the shell's standard input; nothing
//! is written there. One connection is shared by all that is asked of a host.

use std::collections::HashSet;
use std::fs::File;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::OnceLock;
use std::time::{Duration, Instant};

use super::command::{Ran, run, run_asking};
use super::local::Found;
use super::recipe::{Matchers, Recipe};
use crate::case::{FileFound, LeftOut};
use crate::clock::{SECOND, now};
use crate::work::Work;
use crate::{Error, Result, limits};

/// How long a host may take for a question.
const ASK: Duration = Duration::from_secs(120);
/// How long it may take to connect, with what the user may have to type.
const CONNECT: Duration = Duration::from_secs(180);
/// How much a file may grow while it is copied, beside a quarter of what was listed: an endless one must not fill the disk.
const GROWTH_BYTES: u64 = 16 << 20;
/// How long any file may take, and how slow it may come beyond that: the files behind it wait.
const SLOW: Duration = Duration::from_secs(120);
const SLOW_BYTES_A_SECOND: u64 = 16 << 10;
/// How long one file may take. A dead line is noticed much earlier, see [`Remote::ssh`].
const FETCH: Duration = Duration::from_secs(6 * 3600);
/// Bytes of a host's list of files.
const LIST_BYTES: u64 = 256 << 20;

/// A host that answers.
#[derive(Debug)]
pub(super) struct Remote {
    destination: String,
    port: Option<u16>,
    root: String,
    config: Option<PathBuf>,
    may_ask: bool,
    /// Holds the socket of the shared connection.
    folder: tempfile::TempDir,
    about: OnceLock<About>,
}

/// What a host says about itself.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct About {
    /// Its clock, UTC nanoseconds.
    pub clock_there: Option<i64>,
    /// Our clock at the same moment.
    pub clock_here: i64,
    /// Half of what asking took and the coarseness of the answer, in milliseconds.
    pub within_ms: u64,
    /// Its zone.
    pub zone: Option<String>,
}

/// Takes `ssh://[USER@]HOST[:PORT][/ROOT]` apart: destination, port, root without a `/` at its end.
fn parse_address(address: &str) -> Result<(String, Option<u16>, String)> {
    let wrong = || Error::new(format!("\"{address}\" is not an address: write ssh://[USER@]HOST[:PORT][/ROOT]"));
    let rest = address.strip_prefix("ssh://").ok_or_else(wrong)?;
    let (host, root) = rest.split_at(rest.find('/').unwrap_or(rest.len()));
    let (host, port) = match host.rsplit_once(':') {
        Some((before, port)) if !port.contains(']') => (before, Some(port.parse().map_err(|_| wrong())?)),
        _ => (host, None),
    };
    // Brackets stand around IPv6 addresses only, and go before anything is checked.
    let (user, bare) = match host.rsplit_once('@') {
        Some((user, name)) => (Some(user), name),
        None => (None, host),
    };
    let name = match bare.strip_prefix('[').and_then(|inner| inner.strip_suffix(']')) {
        Some(inner) if inner.parse::<std::net::Ipv6Addr>().is_ok() || inner.contains('%') => inner,
        Some(_) => return Err(wrong()),
        None if bare.contains(['[', ']']) => return Err(wrong()),
        None => bare,
    };
    let host = user.map_or_else(|| name.to_owned(), |user| format!("{user}@{name}"));
    // A destination that starts with - would be taken for an option.
    let good =
        |text: &str| !text.is_empty() && !text.starts_with('-') && !text.contains(|c: char| c.is_control() || c == ' ');
    if !good(&host) || !good(name) || user.is_some_and(|user| !good(user) || user.contains('@')) {
        return Err(wrong());
    }
    Ok((host, port, root.trim_end_matches('/').to_owned()))
}

/// A word for a POSIX shell.
fn quoted(text: &str) -> String {
    format!("'{}'", text.replace('\'', "'\\''"))
}

impl Remote {
    /// Connects to a host and asks for its clock and zone.
    ///
    /// # Errors
    /// With what the SSH client says: a wrong host key, a refused key, no route.
    pub(super) fn connect(address: &str, config: Option<&Path>, may_ask: bool, work: &Work) -> Result<Self> {
        let (destination, port, root) = parse_address(address)?;
        // The path of a socket may have about 100 bytes.
        let folder = tempfile::Builder::new().prefix("bxc-").tempdir_in("/tmp").or_else(|_| tempfile::tempdir());
        let folder = folder.map_err(|error| Error::caused("no folder for the connection's socket", error))?;
        let about = OnceLock::new();
        let remote = Self { destination, port, root, config: config.map(Path::to_path_buf), may_ask, folder, about };
        let mut out = Vec::new();
        remote.ask(":", &mut out, (1024, CONNECT), work)?;
        let about = remote.ask_about(work)?;
        let _ = remote.about.set(about);
        Ok(remote)
    }

    /// The client with our settings; whatever the user's configuration says about identity and trust stays as it is.
    fn ssh(&self) -> Command {
        let mut command = Command::new("ssh");
        if let Some(config) = &self.config {
            command.arg("-F").arg(config);
        }
        if let Some(port) = self.port {
            command.arg("-p").arg(port.to_string());
        }
        let socket = self.folder.path().join("s");
        command.args(["-T", "-o", "ControlMaster=auto", "-o", "ControlPersist=30"]);
        command.arg("-o").arg(format!("ControlPath={}", socket.display()));
        // A line that is cut is noticed within 45 seconds.
        command.args(["-o", "ConnectTimeout=20", "-o", "ServerAliveInterval=15", "-o", "ServerAliveCountMax=3"]);
        if !self.may_ask {
            command.args(["-o", "BatchMode=yes"]);
        }
        command
    }

    /// Runs a script on the host. It fails where the client does; what the script itself ends with is in the result.
    fn ask(
        &self,
        script: &str,
        into: &mut (impl std::io::Write + Send),
        limits: (u64, Duration),
        work: &Work,
    ) -> Result<Ran> {
        let mut command = self.ssh();
        // Behind `--` nothing is taken for an option, whatever a destination looks like.
        command.arg("--").arg(&self.destination).arg("exec sh -s");
        let ran = if self.may_ask && self.about.get().is_none() {
            run_asking(&mut command, script, into, limits, work)
        } else {
            run(&mut command, script, into, limits, work)
        };
        let ran = ran.map_err(|error| {
            if error.kind() == std::io::ErrorKind::NotFound {
                Error::new("the program ssh is not installed: install the OpenSSH client")
            } else {
                Error::caused("cannot run ssh", error)
            }
        })?;
        work.check()?;
        if ran.timed_out {
            return Err(Error::new(format!("no answer within {} s", limits.1.as_secs())));
        }
        // 255 is the client's own; a script of ours does not end with it.
        if ran.exit == Some(255) || ran.exit.is_none() && !ran.is_cut {
            let said = if ran.said.is_empty() { "the connection was lost".to_owned() } else { one_line(&ran.said) };
            return Err(Error::new(said));
        }
        Ok(ran)
    }

    /// What the host said about itself when it was connected.
    pub(super) fn about(&self) -> About {
        self.about.get().cloned().unwrap_or_default()
    }

    /// Whether its running system is gathered, not a folder in it.
    pub(super) fn is_live(&self) -> bool {
        self.root.is_empty()
    }

    fn ask_about(&self, work: &Work) -> Result<About> {
        let mut out = Vec::new();
        let script = format!(
            "LC_ALL=C; date -u +%s.%N; date +%z; cat {0}/etc/timezone 2>/dev/null || readlink {0}/etc/localtime || echo",
            quoted(&self.root)
        );
        let started = Instant::now();
        let before = now();
        self.ask(&script, &mut out, (4096, ASK), work)?;
        let took = i64::try_from(started.elapsed().as_nanos()).unwrap_or(i64::MAX);
        let text = String::from_utf8_lossy(&out).into_owned();
        let mut lines = text.lines();
        let (clock_there, coarse_ns) = lines.next().map_or((None, 0), epoch);
        let offset = lines.next().unwrap_or_default().trim();
        let named = lines.next().unwrap_or_default().trim();
        let named = named.split_once("zoneinfo/").map_or(named, |(_, name)| name);
        let zone = [named, offset].into_iter().find(|zone| crate::clock::Zone::parse(zone).is_ok());
        let within_ms = u64::try_from((took / 2 + coarse_ns) / 1_000_000).unwrap_or(0) + 1;
        Ok(About { clock_there, clock_here: before + took / 2, within_ms, zone: zone.map(str::to_owned) })
    }

    /// Which of these signs exist below the root.
    pub(super) fn existing(&self, signs: &[String], work: &Work) -> Result<HashSet<String>> {
        let mut script = String::from("LC_ALL=C\n");
        for (index, sign) in signs.iter().enumerate() {
            let glob = shell_glob(&self.root, sign);
            script.push_str(&format!("for f in {glob}; do [ -e \"$f\" ] && echo {index}; break; done\n"));
        }
        script.push_str("exit 0\n");
        let mut out = Vec::new();
        self.ask(&script, &mut out, (1 << 20, ASK), work)?;
        let numbers = String::from_utf8_lossy(&out).into_owned();
        Ok(numbers.lines().filter_map(|line| signs.get(line.parse::<usize>().ok()?).cloned()).collect())
    }

    /// The files that recipes ask for.
    pub(super) fn list<'r>(
        &self,
        recipes: &[&'r Recipe],
        left_out: &mut Vec<LeftOut>,
        work: &Work,
    ) -> Result<Vec<Found<'r>>> {
        let mut script = String::from(LIST);
        let mut globs: Vec<&String> =
            recipes.iter().flat_map(|recipe| recipe.files.iter().flat_map(|files| &files.paths)).collect();
        globs.sort();
        globs.dedup();
        for glob in globs {
            match glob.split_once("**") {
                None => script.push_str(&format!("one {}\n", shell_glob(&self.root, glob))),
                Some((before, _)) => {
                    script.push_str(&format!("all {}\n", shell_glob(&self.root, before.trim_end_matches('/'))));
                }
            }
        }
        script.push_str("exit 0\n");
        let mut out = Vec::new();
        let ran = self.ask(&script, &mut out, (LIST_BYTES, ASK), work)?;
        if ran.is_cut {
            let reason = format!("its list of files is longer than {} MiB", LIST_BYTES >> 20);
            left_out.push(LeftOut { path: self.root.clone(), reason });
        }
        // What find could not enter.
        for line in ran.said.lines().take(50) {
            left_out.push(LeftOut { path: format!("{}/", self.root), reason: line.to_owned() });
        }
        let matchers = Matchers::new(recipes);
        let mut seen = HashSet::new();
        let mut files = Vec::new();
        for entry in out.split(|byte| *byte == 0) {
            let text = String::from_utf8_lossy(entry);
            let mut parts = text.trim_start_matches('\n').splitn(3, ' ');
            let (Some(size), Some(modified), Some(path)) = (parts.next(), parts.next(), parts.next()) else { continue };
            let below = path.strip_prefix(&self.root).unwrap_or(path).trim_start_matches('/');
            let Some(by) = matchers.entry_for(below) else { continue };
            if !seen.insert(path.to_owned()) {
                continue;
            }
            if text.contains('\u{FFFD}') {
                let reason = "its name is not UTF-8: it cannot be asked for".to_owned();
                left_out.push(LeftOut { path: path.to_owned(), reason });
                continue;
            }
            if files.len() >= limits::FILES {
                left_out.push(LeftOut { path: path.to_owned(), reason: format!("more than {} files", limits::FILES) });
                break;
            }
            let modified = modified.parse::<i64>().unwrap_or(0).saturating_mul(SECOND);
            let file = FileFound {
                path: PathBuf::new(),
                name: path.to_owned(),
                modified,
                len_bytes: size.parse().unwrap_or(0),
            };
            files.push(Found { file, below: below.to_owned(), by: Some(by) });
        }
        files.sort_by(|a, b| a.below.cmp(&b.below));
        Ok(files)
    }

    /// What a script says there.
    pub(super) fn say(&self, script: &str, work: &Work) -> Result<String> {
        let mut out = Vec::new();
        self.ask(script, &mut out, (64 << 20, ASK), work)?;
        Ok(String::from_utf8_lossy(&out).into_owned())
    }

    /// Copies a file of the host.
    ///
    /// # Errors
    /// When it cannot be read there, comes slower than [`SLOW_BYTES_A_SECOND`], or the connection is lost; what was copied by then
    /// is no whole file.
    pub(super) fn fetch(&self, path: &str, into: &mut File, listed_bytes: u64, work: &Work) -> Result<Option<String>> {
        let script = format!("LC_ALL=C cat -- {} || exit 1\n", quoted(path));
        let most_bytes = listed_bytes.saturating_add((listed_bytes / 4).max(GROWTH_BYTES));
        let patience = FETCH.min(SLOW + Duration::from_secs(listed_bytes / SLOW_BYTES_A_SECOND));
        let ran = self.ask(&script, into, (most_bytes, patience), work)?;
        if ran.is_cut {
            let grown = most_bytes - listed_bytes;
            return Ok(Some(format!(
                "it grew by more than {} MiB while it was copied: the first {most_bytes} bytes are kept",
                grown >> 20
            )));
        }
        if ran.exit != Some(0) {
            return Err(Error::new(if ran.said.is_empty() {
                "cannot be read".to_owned()
            } else {
                one_line(&ran.said)
            }));
        }
        Ok(None)
    }

    /// Runs a command there; 127 is the shell's for one that is not installed.
    pub(super) fn run(
        &self,
        arguments: &[String],
        into: &mut File,
        limits: (u64, Duration),
        work: &Work,
    ) -> Result<Ran> {
        let words: Vec<String> = arguments.iter().map(|argument| quoted(argument)).collect();
        let mut command = self.ssh();
        // Its standard input is the script: it must not read from there.
        // Behind `--` nothing is taken for an option, whatever a destination looks like.
        command.arg("--").arg(&self.destination).arg("exec sh -s");
        let script = format!("LC_ALL=C; export LC_ALL; {} </dev/null\n", words.join(" "));
        run(&mut command, &script, into, limits, work).map_err(|error| Error::caused("cannot run ssh", error))
    }
}

impl Drop for Remote {
    fn drop(&mut self) {
        // The shared connection would end by itself half a minute later.
        let mut command = self.ssh();
        command.args(["-O", "exit", "--"]).arg(&self.destination);
        let limits = (1024, Duration::from_secs(5));
        let _ = run(&mut command, "", &mut std::io::sink(), limits, &Work::default());
    }
}

/// Prints size, time of change and path of files, each ended by NUL.
const LIST: &str = r#"LC_ALL=C; export LC_ALL
out='for f do
  [ -f "$f" ] || continue
  s=$(stat -L -c "%s %Y" -- "$f" 2>/dev/null) || s=$(stat -L -f "%z %m" -- "$f" 2>/dev/null) || s="$(wc -c <"$f" 2>/dev/null || echo 0) 0"
  printf "%s %s\0" "$s" "$f"
done'
one() { sh -c "$out" sh "$@"; }
all() { for d do [ -e "$d" ] && find -L "$d" -type f -exec sh -c "$out" sh {} +; done; }
"#;

/// A glob for a POSIX shell. It may mean more than ours does: what it finds is compared with the recipe again.
fn shell_glob(root: &str, glob: &str) -> String {
    let mut text = quoted(&format!("{root}/"));
    let mut literal = String::new();
    let mut in_braces = 0_u32;
    let mut in_brackets = false;
    for character in glob.chars() {
        if in_brackets {
            in_brackets = character != ']';
            continue;
        }
        match character {
            '{' => {
                if in_braces == 0 {
                    text.push_str(&format!("{}*", quoted(&literal)));
                    literal.clear();
                }
                in_braces += 1;
            }
            '}' => in_braces = in_braces.saturating_sub(1),
            _ if in_braces > 0 => {}
            '*' | '?' | '[' => {
                if !literal.is_empty() {
                    text.push_str(&quoted(&literal));
                    literal.clear();
                }
                in_brackets = character == '[';
                text.push(if in_brackets { '?' } else { character });
            }
            _ => literal.push(character),
        }
    }
    if !literal.is_empty() {
        text.push_str(&quoted(&literal));
    }
    text
}

/// `1775953867.442000000`, or without fraction: nanoseconds, and how coarse they are.
fn epoch(line: &str) -> (Option<i64>, i64) {
    let (whole, fraction) = line.trim().split_once('.').unwrap_or((line.trim(), ""));
    let Some(seconds) = whole.parse::<i64>().ok().and_then(|seconds| seconds.checked_mul(SECOND)) else {
        return (None, 0);
    };
    match fraction.parse::<i64>() {
        Ok(nanos) if fraction.len() == 9 => (Some(seconds + nanos), 0),
        _ => (Some(seconds), SECOND),
    }
}

fn one_line(text: &str) -> String {
    let lines = text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('@'));
    lines.collect::<Vec<_>>().join("; ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses() {
        let parsed = |text: &str| parse_address(text).map_err(|error| error.to_string());
        assert_eq!(parsed("ssh://pump-ctl"), Ok(("pump-ctl".into(), None, String::new())));
        assert_eq!(
            parsed("ssh://keeper@pump-ctl:2222/mnt/disk/"),
            Ok(("keeper@pump-ctl".into(), Some(2222), "/mnt/disk".into()))
        );
        assert_eq!(parsed("ssh://[fe80::1]:22"), Ok(("fe80::1".into(), Some(22), String::new())));
        for bad in [
            "ssh://",
            "ssh://-oProxyCommand=x",
            "ssh://[-oX]",
            "ssh://[x]",
            "ssh://a[b]c",
            "ssh://-x@h",
            "ssh://a@-x",
            "ssh://h:port",
            "ssh://h x",
            "pump-ctl",
        ] {
            assert!(parsed(bad).unwrap_err().contains("ssh://[USER@]HOST"), "{bad}");
        }
    }

    #[test]
    fn globs_for_the_shell() {
        assert_eq!(shell_glob("", "var/log/syslog*"), "'/''var/log/syslog'*");
        assert_eq!(shell_glob("/mnt/a b", "x/it's?"), "'/mnt/a b/''x/it'\\''s'?");
        assert_eq!(shell_glob("", "var/{a,b}/[xy].log"), "'/''var/'*'/'?'.log'");
    }

    #[test]
    fn clocks() {
        assert_eq!(epoch("1775953867.442000000"), (Some(1_775_953_867_442_000_000), 0));
        assert_eq!(epoch("1775953867.N"), (Some(1_775_953_867_000_000_000), SECOND));
        assert_eq!(epoch("?"), (None, 0));
    }
}
