//! Running a command with a limit on time and output.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::process::{Child, Command, Stdio};
use std::thread;
use std::time::{Duration, Instant};

use crate::platform;
use crate::work::Work;

/// What a command came to.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Ran {
    /// Bytes of its output that were kept.
    pub bytes: u64,
    /// Its exit status, if it ended by itself.
    pub exit: Option<i32>,
    /// Whether it was stopped because it took too long.
    pub timed_out: bool,
    /// Whether its output was longer than what was kept.
    pub is_cut: bool,
    /// The start of what it said on standard error.
    pub said: String,
}

/// Bytes of standard error that are kept.
const SAID_BYTES: u64 = 4096;
const POLL: Duration = Duration::from_millis(10);
/// Bytes that a command may write to its standard error.
const MOST_SAID_BYTES: u64 = 8 << 20;
/// How long output is waited for behind the end of a command that left others running.
const GRACE: Duration = Duration::from_secs(2);

/// Runs a command with `input` on its standard input and writes its output to `into`.
///
/// It is stopped, with all it started, after `timeout`, when the work is cancelled, and when it has written more than
/// `most_bytes`.
///
/// # Errors
/// When it cannot be started, or its output cannot be written.
pub(super) fn run(
    command: &mut Command,
    input: &str,
    into: &mut (impl Write + Send),
    limits: (u64, Duration),
    work: &Work,
) -> io::Result<Ran> {
    platform::own_group(command);
    run_as(command, input, into, limits, (&platform::stop_group, work))
}

/// As [`run`], for a command that may ask at the terminal: it stays in our group of processes, since the system stops others that
/// read from there. What it starts itself is not stopped with it.
///
/// # Errors
/// As [`run`].
pub(super) fn run_asking(
    command: &mut Command,
    input: &str,
    into: &mut (impl Write + Send),
    limits: (u64, Duration),
    work: &Work,
) -> io::Result<Ran> {
    run_as(command, input, into, limits, (&|_: &Child| {}, work))
}

fn run_as(
    command: &mut Command,
    input: &str,
    into: &mut (impl Write + Send),
    (most_bytes, timeout): (u64, Duration),
    (stop_group, work): (&dyn Fn(&Child), &Work),
) -> io::Result<Ran> {
    // A file, not a pipe: what a command leaves running in the background keeps its standard error.
    let mut said = tempfile::tempfile()?;
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(said.try_clone()?);
    let mut child = command.spawn()?;
    let stdin = child.stdin.take();
    let Some(mut stdout) = child.stdout.take() else { return Err(io::Error::other("no pipe to the command")) };
    let mut ran = Ran::default();
    let started = Instant::now();
    let copied: io::Result<(u64, bool)> = thread::scope(|scope| {
        scope.spawn(move || {
            // A command that does not read its input ends without it.
            let _ = stdin.map(|mut stdin| stdin.write_all(input.as_bytes()));
        });
        let reader = scope.spawn(move || copy(&mut stdout, into, most_bytes, work));
        let mut ended: Option<Instant> = None;
        loop {
            if ended.is_none()
                && let Some(status) = child.try_wait()?
            {
                ran.exit = status.code();
                ended = Some(Instant::now());
            }
            let finished = reader.is_finished();
            if ended.is_some() && finished {
                break;
            }
            // What is said belongs to no file: who says megabytes of it fills the disk.
            let late = started.elapsed() > timeout || said.metadata().is_ok_and(|data| data.len() > MOST_SAID_BYTES);
            let lingers = ended.is_some_and(|ended| ended.elapsed() > GRACE);
            if late || lingers || work.is_cancelled() || (finished && ended.is_none()) {
                // Its output has reached the limit, or nobody waits for it any more.
                let wait = if finished && !late && !work.is_cancelled() { GRACE } else { Duration::ZERO };
                let until = Instant::now() + wait;
                while Instant::now() < until && ended.is_none() {
                    if let Some(status) = child.try_wait()? {
                        ran.exit = status.code();
                        ended = Some(Instant::now());
                    }
                    thread::sleep(POLL);
                }
                ran.timed_out = late && ended.is_none();
                stop_group(&child);
                if ended.is_none() {
                    // It may have ended meanwhile.
                    let _ = child.kill();
                    child.wait()?;
                }
                break;
            }
            thread::sleep(POLL);
        }
        reader.join().unwrap_or_else(|_| Err(io::Error::other("the output could not be read")))
    });
    // Whatever happened, nothing of it is left running.
    stop_group(&child);
    let (bytes, is_cut) = copied?;
    (ran.bytes, ran.is_cut) = (bytes, is_cut);
    ran.said = said_text(&mut said);
    Ok(ran)
}

fn copy(from: &mut impl Read, into: &mut impl Write, most_bytes: u64, work: &Work) -> io::Result<(u64, bool)> {
    let mut buffer = vec![0; 128 << 10];
    let mut bytes = 0_u64;
    loop {
        let count = match from.read(&mut buffer) {
            Ok(0) => return Ok((bytes, false)),
            Ok(count) => count,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
            Err(error) => return Err(error),
        };
        let kept = (count as u64).min(most_bytes - bytes) as usize;
        into.write_all(&buffer[..kept])?;
        bytes += kept as u64;
        work.advance(kept as u64);
        if kept < count {
            return Ok((bytes, true));
        }
        if work.is_cancelled() {
            return Ok((bytes, false));
        }
    }
}

fn said_text(said: &mut File) -> String {
    let mut bytes = Vec::new();
    let read = said.seek(SeekFrom::Start(0)).and_then(|_| said.take(SAID_BYTES).read_to_end(&mut bytes));
    if read.is_err() {
        return String::new();
    }
    String::from_utf8_lossy(&bytes).trim().to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sh(script: &str, most: u64, timeout_ms: u64) -> (Ran, String) {
        let mut out = Vec::new();
        let limits = (most, Duration::from_millis(timeout_ms));
        let ran = run(Command::new("sh").arg("-s"), script, &mut out, limits, &Work::default()).unwrap();
        (ran, String::from_utf8(out).unwrap())
    }

    #[test]
    fn output_status_and_complaints() {
        let (ran, out) = sh("echo deep; echo bad >&2; exit 3", 1000, 10_000);
        assert_eq!(out, "deep\n");
        assert_eq!(ran, Ran { bytes: 5, exit: Some(3), said: "bad".into(), ..Ran::default() });
    }

    #[test]
    fn a_command_that_never_ends_is_stopped_with_its_children() {
        let started = Instant::now();
        let (ran, out) = sh("echo start; (sleep 1000; echo no) & wait", 1000, 300);
        assert!(ran.timed_out && ran.exit.is_none(), "{ran:?}");
        assert_eq!(out, "start\n");
        assert!(started.elapsed() < Duration::from_secs(20));
    }

    #[test]
    fn output_without_end_is_cut() {
        let (ran, out) = sh("while :; do echo 0123456789; done", 100_000, 60_000);
        assert!(ran.is_cut && !ran.timed_out, "{ran:?}");
        assert_eq!((ran.bytes, out.len()), (100_000, 100_000));
    }

    #[test]
    fn what_is_left_in_the_background_is_not_waited_for() {
        let started = Instant::now();
        let (ran, out) = sh("sleep 1000 & echo done", 1000, 60_000);
        assert_eq!((ran.exit, out.as_str()), (Some(0), "done\n"));
        assert!(started.elapsed() < Duration::from_secs(30));
    }

    #[test]
    fn what_is_not_there_is_an_error() {
        let limits = (10, Duration::from_secs(1));
        let error = run(&mut Command::new("/no/such/program"), "", &mut Vec::new(), limits, &Work::default());
        assert_eq!(error.unwrap_err().kind(), io::ErrorKind::NotFound);
    }
}
