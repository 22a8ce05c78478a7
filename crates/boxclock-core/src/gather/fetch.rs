//! Bringing here what is not on this machine's disk: files of remote hosts, and what commands print. All hosts at once.

use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;
use std::thread;
use std::time::Duration;

use super::command;
use super::pack::Ready;
use super::plan::{PackOptions, Plan, PlannedCommand, PlannedFile, Wanted};
use super::remote::Remote;
use super::seal::{SealedCommand, Unreadable, Why};
use super::watch::Stage;
use super::window::Part;
use crate::source::Class;
use crate::work::Work;
use crate::{Error, Result};

/// What was brought here from hosts and commands.
#[derive(Default)]
pub(super) struct Fetched {
    pub ready: Vec<Ready>,
    pub outputs: Vec<Ready>,
    pub commands: Vec<SealedCommand>,
    pub unreadable: Vec<Unreadable>,
}

/// Fetches remote files and runs commands, all hosts at once. A host that fails does not keep the others.
pub(super) fn fetch_all(plan: &Plan, options: &PackOptions, staging: &Path, work: &Work) -> Result<Fetched> {
    let mut labels: Vec<&str> = plan.remotes.iter().map(|(label, _)| label.as_str()).collect();
    labels.extend(plan.commands.iter().map(|command| command.host.as_str()));
    labels.sort_unstable();
    labels.dedup();
    let of_hosts: Vec<Result<Fetched>> = thread::scope(|scope| {
        let threads = labels.iter().enumerate().map(|(index, label)| {
            scope.spawn(move || {
                let remote = plan.remotes.iter().find(|(other, _)| other == label).map(|(_, remote)| remote);
                let folder = staging.join(index.to_string());
                std::fs::create_dir(&folder).map_err(|error| Error::at(&folder, "cannot write", error))?;
                options.watch.stage(label, &Stage::Fetching);
                fetch_host(plan, (label, remote), options, &folder, &options.work_of(label, work))
            })
        });
        let threads: Vec<_> = threads.collect();
        let joined = threads.into_iter().map(thread::ScopedJoinHandle::join);
        joined.map(|result| result.unwrap_or_else(|_| Err(Error::new("gathering from a host stopped")))).collect()
    });
    work.check()?;
    let mut all = Fetched::default();
    for fetched in of_hosts {
        let fetched = fetched?;
        all.ready.extend(fetched.ready);
        all.outputs.extend(fetched.outputs);
        all.commands.extend(fetched.commands);
        all.unreadable.extend(fetched.unreadable);
    }
    Ok(all)
}

fn fetch_host(
    plan: &Plan,
    (label, remote): (&str, Option<&Arc<Remote>>),
    options: &PackOptions,
    folder: &Path,
    work: &Work,
) -> Result<Fetched> {
    let mut fetched = Fetched::default();
    let mut number = 0;
    let mut staged = || {
        number += 1;
        let path = folder.join(number.to_string());
        File::create_new(&path).map(|file| (file, path)).map_err(|error| Error::at(folder, "cannot write into", error))
    };
    let give_up = |origin: String, class: Option<Class>| -> Result<Option<Unreadable>> {
        match (work.is_cancelled(), work.stopped_alone()) {
            (false, _) => Ok(None),
            (true, Some(stopped)) => {
                let (reason, why) = (stopped.to_string(), Why::Stopped);
                Ok(Some(Unreadable { origin, host: label.to_owned(), reason, why, class }))
            }
            (true, None) => Err(Error::Cancelled),
        }
    };
    for planned in plan.commands.iter().filter(|command| command.host == label) {
        let origin = || format!("command: {}", planned.command.run.join(" "));
        if let Some(left) = give_up(origin(), Some(planned.command.class))? {
            fetched.unreadable.push(left);
            continue;
        }
        let (mut out, path) = staged()?;
        let (sealed, trouble) = run_planned(planned, remote, &mut out, work);
        let kept = sealed.path.is_some();
        fetched.commands.push(sealed);
        let stopped = work.stopped_alone().map(|stopped| (stopped.to_string(), Why::Stopped));
        if let Some((reason, why)) = stopped.or(trouble.map(|trouble| (trouble, Why::CannotRead))) {
            let class = Some(planned.command.class);
            fetched.unreadable.push(Unreadable { origin: origin(), host: label.to_owned(), reason, why, class });
        }
        if kept {
            fetched.outputs.push(Ready { file: output_of(planned, options.now, &path), path, part: Part::Whole });
        }
    }
    let Some(remote) = remote else { return Ok(fetched) };
    for file in plan.files.iter().filter(|file| file.host == label) {
        let Wanted::Remote(there) = &file.wanted else { continue };
        options.watch.file_done(label);
        if let Some(left) = give_up(file.origin.clone(), file.class)? {
            fetched.unreadable.push(left);
            continue;
        }
        let unreadable = |reason: String| Unreadable {
            origin: file.origin.clone(),
            host: label.to_owned(),
            reason,
            why: Why::CannotRead,
            class: file.class,
        };
        if let Some(window) = options.window
            && file.class.is_none_or(crate::source::Class::is_over_time)
            && !window.may_hold(file.modified)
        {
            // Named as outside the window when everything is cut to it; it need not come over the line for that.
            let ready = Ready { file: file.clone(), path: PathBuf::new(), part: Part::Whole };
            fetched.ready.push(ready);
            continue;
        }
        if file.size > file.most_bytes {
            let reason = format!("{} MiB: larger than the {} that are taken", file.size >> 20, file.most_bytes >> 20);
            fetched.unreadable.push(unreadable(reason));
            continue;
        }
        let (mut out, path) = staged()?;
        match remote.fetch(there, &mut out, file.size, work) {
            Ok(grown) => {
                fetched.unreadable.extend(grown.map(&unreadable));
                fetched.ready.push(Ready { file: file.clone(), path, part: Part::Whole });
            }
            Err(error) => {
                let stopped = work.stopped_alone();
                if stopped.is_none() {
                    work.check()?;
                }
                let why = if stopped.is_some() { Why::Stopped } else { Why::CannotRead };
                let reason = stopped.map_or_else(|| error.to_string(), |stopped| stopped.to_string());
                fetched.unreadable.push(Unreadable { why, ..unreadable(reason) });
                // What came of it is no whole file: it is not kept.
                let _ = std::fs::remove_file(&path);
            }
        }
    }
    Ok(fetched)
}

/// Runs one command; gives what to note, and what kept it from being done in full.
fn run_planned(
    planned: &PlannedCommand,
    remote: Option<&Arc<Remote>>,
    out: &mut File,
    work: &Work,
) -> (SealedCommand, Option<String>) {
    let PlannedCommand { host, command, member, .. } = planned;
    let limits = (command.most_mib.saturating_mul(1 << 20), Duration::from_secs(command.timeout_s));
    let ran = if let Some(remote) = remote {
        remote.run(&command.run, out, limits, work).map_err(|error| error.to_string())
    } else {
        let [program, arguments @ ..] = command.run.as_slice() else {
            return (SealedCommand::default(), Some("nothing to run".into()));
        };
        let mut run = Command::new(program);
        run.args(arguments).env("LC_ALL", "C");
        match command::run(&mut run, "", out, limits, work) {
            // As a shell would say it.
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                Ok(command::Ran { exit: Some(127), ..command::Ran::default() })
            }
            other => other.map_err(|error| error.to_string()),
        }
    };
    let mut sealed = SealedCommand { host: host.clone(), run: command.run.clone(), ..SealedCommand::default() };
    let ran = match ran {
        Ok(ran) => ran,
        Err(reason) => {
            sealed.note.clone_from(&reason);
            return (sealed, Some(reason));
        }
    };
    sealed.exit = ran.exit;
    sealed.path = (ran.bytes > 0).then(|| member.clone());
    let said = ran.said.lines().next().unwrap_or_default().to_owned();
    let lost = remote.is_some() && ran.exit == Some(255);
    let trouble = match () {
        () if ran.timed_out => {
            Some(format!("stopped after {} s; {} bytes of output are kept", command.timeout_s, ran.bytes))
        }
        () if ran.is_cut => Some(format!("its output is longer than the {} MiB that are kept", command.most_mib)),
        () if lost => Some(if said.is_empty() { "the connection was lost".to_owned() } else { said.clone() }),
        () => None,
    };
    sealed.note = match &trouble {
        Some(trouble) => trouble.clone(),
        None if ran.exit == Some(127) => "not installed".into(),
        None => said,
    };
    (sealed, trouble)
}

fn output_of(planned: &PlannedCommand, now: i64, path: &Path) -> PlannedFile {
    PlannedFile {
        host: planned.host.clone(),
        origin: format!("command: {}", planned.command.run.join(" ")),
        member: planned.member.clone(),
        class: Some(planned.command.class),
        recipe: Some(planned.recipe.clone()),
        may_cut: true,
        is_timeless: true,
        most_bytes: u64::MAX,
        size: std::fs::metadata(path).map_or(0, |data| data.len()),
        modified: now,
        wanted: Wanted::Output,
    }
}
