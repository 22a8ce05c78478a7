//! What is going to be gathered: the exact list of files and commands, before anything is copied or run.

use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::thread;
use std::time::Duration;

use super::capture::Snapshot;
use super::local::{self, Found};
use super::member_name::{below_root, common_top, unique_member};
use super::recipe::{Command, Files, Matchers, Recipe, Recipes, System};
use super::remote::Remote;
use super::seal::{Mark, SealedHost, Unreadable, Why};
use super::watch::{Stage, Watch};
use super::window::Window;
use crate::case::{LeftOut, Options, find_files};
use crate::clock::human;
use crate::container::{self, Kind};
use crate::logbook::Story;
use crate::source::Class;
use crate::work::Work;
use crate::{Result, clock, limits, platform};

mod programs;

/// What to put into a box, and how.
#[derive(Clone, Debug, Default)]
pub struct PackOptions {
    /// Catalogues of codes that travel along, beside those of the user: the names of the files and their texts.
    pub codes: Vec<(String, String)>,
    /// Whether the user's own fault cards travel along. They are made of other cases, and may name them.
    pub own_cards: bool,
    /// Files and folders of this machine.
    pub paths: Vec<PathBuf>,
    /// Folders, files or archives of other hosts, or `ssh://[USER@]HOST[:PORT][/ROOT]`, with the host's label.
    pub hosts: Vec<(String, PathBuf)>,
    /// The box to write.
    pub into: PathBuf,
    /// The story to put in.
    pub story: Story,
    /// The case's zone.
    pub zone: Option<String>,
    /// Zones of hosts, by label.
    pub host_zones: Vec<(String, String)>,
    /// When the box is sealed, UTC nanoseconds.
    pub now: i64,
    /// Names of recipes; `auto` means those whose signs a root shows. Without any, all files of folders and archives are
    /// taken, and remote hosts are gathered as with `auto`.
    pub recipes: Vec<String>,
    /// The recipes to choose from.
    pub known: Recipes,
    /// What to cut to.
    pub window: Option<Window>,
    /// How to read what is cut: zones, clock corrections, passwords.
    pub reading: Options,
    /// A configuration file for the SSH client, instead of the user's own.
    pub ssh_config: Option<PathBuf>,
    /// Whether the SSH client may ask for a password.
    pub may_ask: bool,
    /// What stood in the files when capturing began: only what was written since is taken.
    pub since: Option<Arc<Snapshot>>,
    /// Origins are noted as paths below this folder, so that a box does not depend on where it was made.
    pub origins_below: Option<PathBuf>,
    /// Moments to note in the seal.
    pub marks: Vec<Mark>,
    /// How long one host may take; what is missing of it then is left out.
    pub host_limit: Option<Duration>,
    /// Whether the program files that dumps of this machine, or of a folder of another, need to be read are taken along.
    pub programs: TakenPrograms,
    /// Who signs the box.
    pub signer: Option<Arc<super::Signer>>,
    /// Where it can be seen how far each host is, and where one can be stopped.
    pub watch: Watch,
}

/// What is taken of the program files that dumps need to be read.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum TakenPrograms {
    /// Nothing.
    #[default]
    None,
    /// The names of their functions and their unwind tables: enough to follow stacks, and small.
    Symbols,
    /// All of them, which shows also what the code at a place does.
    Whole,
}

/// Where a file is taken from.
#[derive(Clone, Debug)]
pub enum Wanted {
    /// A file of this machine (perhaps a member of an archive, in the cache).
    Local(PathBuf),
    /// A program file of this machine, of which only symbols and unwind tables are taken.
    Symbols(PathBuf),
    /// A file of a remote host: its path there.
    Remote(String),
    /// What a command prints: it is no file of the host.
    Output,
}

/// A file that is going to be taken.
#[derive(Clone, Debug)]
pub struct PlannedFile {
    /// The label of its host.
    pub host: String,
    /// Where it is, for people and the seal.
    pub origin: String,
    /// Its path in the box.
    pub member: String,
    /// What it is for, if a recipe knows.
    pub class: Option<Class>,
    /// The recipe that asks for it.
    pub recipe: Option<String>,
    /// Whether its text may be cut to the window.
    pub may_cut: bool,
    /// Whether it is taken whatever the window: a program file is not written over time.
    pub is_timeless: bool,
    /// The most that is taken of it, in bytes.
    pub most_bytes: u64,
    /// Its size in bytes.
    pub size: u64,
    /// When it was last modified, UTC nanoseconds.
    pub modified: i64,
    /// Where it is taken from.
    pub wanted: Wanted,
}

/// A command that is going to be run.
#[derive(Clone, Debug)]
pub struct PlannedCommand {
    /// The label of its host.
    pub host: String,
    /// The recipe that asks for it.
    pub recipe: String,
    /// What is run.
    pub command: Command,
    /// The path of its output in the box.
    pub member: String,
}

/// Everything that is going to be gathered.
#[derive(Clone, Debug, Default)]
pub struct Plan {
    /// The hosts.
    pub hosts: Vec<SealedHost>,
    /// The files, by host.
    pub files: Vec<PlannedFile>,
    /// The commands, by host.
    pub commands: Vec<PlannedCommand>,
    /// The names of the recipes that are used.
    pub recipes: Vec<String>,
    /// What cannot be taken, as far as it is known already.
    pub left_out: Vec<Unreadable>,
    /// Hosts whose facts are wanted, with the root that they are read from: `None` for a running system that is asked.
    pub(super) facts: Vec<(String, Option<PathBuf>)>,
    /// Connections to remote hosts, by label.
    pub(super) remotes: Vec<(String, Arc<Remote>)>,
}

/// What a plan is made of, host by host.
struct Planner<'o> {
    options: &'o PackOptions,
    plan: Plan,
    taken: HashSet<String>,
    classes: Matchers<'o>,
}

/// Finds out what would be gathered. Remote hosts are asked for their files and clocks; nothing is copied.
///
/// # Errors
/// When a local path does not exist, a recipe is not known, or the work is cancelled. A remote host that cannot be reached is
/// listed as left out.
pub fn plan(options: &PackOptions, work: &Work) -> Result<Plan> {
    let mut planner =
        Planner { options, plan: Plan::default(), taken: HashSet::new(), classes: options.known.matchers() };
    for name in options.recipes.iter().filter(|name| *name != "auto") {
        options.known.by_name(name)?;
    }
    let here = platform::host_name();
    options.watch.clear();
    for path in &options.paths {
        planner.local(&here, path, false, &options.work_of(&here, work))?;
    }
    let mut remote = Vec::new();
    for (label, path) in &options.hosts {
        super::good_label(label)?;
        match path.to_str().filter(|text| text.starts_with("ssh://")) {
            Some(address) => remote.push((label.clone(), address.to_owned())),
            None => planner.local(label, path, true, &options.work_of(label, work))?,
        }
    }
    planner.remote(&remote, work)?;
    work.check()?;
    planner.say_what_is_planned();
    planner.plan.recipes.sort();
    planner.plan.recipes.dedup();
    Ok(planner.plan)
}

impl Plan {
    /// The list for people: each file and command, by host, and what they add up to.
    pub fn lines(&self, window: Option<Window>) -> Vec<String> {
        let mut lines = Vec::new();
        if let Some(window) = window {
            lines.push(format!("window   {} to {}", clock::to_rfc3339(window.from), clock::to_rfc3339(window.to)));
        }
        for host in &self.hosts {
            let origin = host.origin.as_deref().unwrap_or_default();
            let zone = host.zone.as_deref().unwrap_or("unknown");
            lines.push(format!("host     {}  {origin}  zone {zone}", host.label));
            for file in self.files.iter().filter(|file| file.host == host.label) {
                let class = file.class.map_or("-", Class::name);
                let recipe = file.recipe.as_deref().unwrap_or("-");
                let origin = crate::visible(&file.origin, false);
                lines.push(format!("  file   {class:<13} {recipe:<16} {:>12}  {origin}", file.size));
            }
            for planned in self.commands.iter().filter(|command| command.host == host.label) {
                let (class, seconds) = (planned.command.class.name(), planned.command.timeout_s);
                let run = planned.command.run.join(" ");
                lines.push(format!("  run    {class:<13} {:<16} {seconds:>10} s  {run}", planned.recipe));
            }
        }
        let bytes: u64 = self.files.iter().map(|file| file.size).sum();
        let (files, commands) = (self.files.len(), self.commands.len());
        lines.push(format!(
            "{}, {}, {}; nothing was copied or run",
            crate::many(files, "file"),
            crate::many(bytes, "byte"),
            crate::many(commands, "command")
        ));
        lines
    }
}

impl PackOptions {
    /// The work of one host.
    pub(super) fn work_of(&self, label: &str, work: &Work) -> Work {
        self.watch.work(label, work, self.host_limit)
    }
}

/// What a remote host has to offer.
struct Offer<'r> {
    recipes: Vec<&'r Recipe>,
    files: Vec<Found<'r>>,
    left_out: Vec<LeftOut>,
}

impl<'o> Planner<'o> {
    fn say_what_is_planned(&self) {
        for host in &self.plan.hosts {
            let files = self.plan.files.iter().filter(|file| file.host == host.label);
            let (count, bytes) = files.fold((0, 0), |(count, bytes), file| (count + 1, bytes + file.size));
            self.options.watch.planned(&host.label, count, bytes);
        }
    }

    /// The recipes for a root: those that were named, or those whose signs it shows. `None` where all files are wanted.
    fn recipes_for(
        &self,
        live: bool,
        by_default: bool,
        exists: &dyn Fn(&str, System) -> bool,
    ) -> Option<Vec<&'o Recipe>> {
        let names = &self.options.recipes;
        if names.is_empty() && !by_default {
            return None;
        }
        let known = &self.options.known.good;
        let mut chosen: Vec<&Recipe> =
            names.iter().filter_map(|name| known.iter().find(|recipe| recipe.name == *name)).collect();
        if names.is_empty() || names.iter().any(|name| name == "auto") {
            let fits = |recipe: &&Recipe| {
                // Applications first: they know their files better than the system does.
                recipe.fits(|sign| exists(sign, recipe.system)) && (!recipe.live || live)
            };
            let applications = known.iter().filter(|recipe| recipe.system == System::Any).filter(fits);
            let systems: Vec<&Recipe> =
                known.iter().filter(|recipe| recipe.system != System::Any).filter(fits).collect();
            // A running system is not also an offline root.
            let running = systems.iter().any(|recipe| recipe.live);
            let systems = systems.into_iter().filter(|recipe| !running || recipe.live);
            for recipe in applications.chain(systems) {
                if !chosen.iter().any(|other| other.name == recipe.name) {
                    chosen.push(recipe);
                }
            }
        }
        Some(chosen)
    }

    fn local(&mut self, label: &str, path: &Path, labelled: bool, work: &Work) -> Result<()> {
        let is_live = path.is_dir() && std::fs::canonicalize(path).is_ok_and(|path| path == Path::new("/"));
        let kind = if path.is_file() { kind_of(path) } else { None };
        let root_zone = path.is_dir().then(|| platform::zone_of_root(path)).flatten();
        let now = self.options.now;
        self.note_host(SealedHost {
            label: label.to_owned(),
            zone: root_zone,
            origin: Some(self.origin(&path.display().to_string())),
            // The clock of another host cannot be asked from its folder; this machine's is both.
            clock_there: (!labelled || is_live).then(|| clock::to_rfc3339(now)),
            clock_here: clock::to_rfc3339(now),
            clock_within_ms: None,
        });
        if let Some(kind) = kind
            && !self.options.recipes.is_empty()
        {
            return self.archive(label, path, kind, work);
        }
        let mut left_out = Vec::new();
        let options = self.options;
        let recipes = self.recipes_for(is_live, false, &|sign, system| local::has_sign(path, sign, system));
        // A plain folder shows no recipe's signs: somebody named it, so all of it is wanted.
        let recipes = recipes.filter(|recipes| !recipes.is_empty());
        let names: Option<Vec<String>> =
            recipes.as_ref().map(|recipes| recipes.iter().map(|recipe| recipe.name.clone()).collect());
        match names {
            None => {
                for found in local::all_files(path, &mut left_out)? {
                    let member = if labelled { found.below.clone() } else { below_root(&found.file.path) };
                    self.add_local(label, &found, &member);
                }
            }
            Some(names) if path.is_dir() => {
                let recipes: Vec<&Recipe> = names.iter().filter_map(|name| options.known.by_name(name).ok()).collect();
                for found in local::recipe_files(path, &recipes, &mut left_out)? {
                    let member = found.below.clone();
                    self.add_local(label, &found, &member);
                }
                let root = (!is_live).then(|| path.to_path_buf());
                self.plan.facts.push((label.to_owned(), root));
                if is_live {
                    self.add_commands(label, &recipes);
                }
                self.plan.recipes.extend(names);
            }
            Some(_) => {
                // A single file that somebody named is wanted, whatever recipes say.
                for found in local::all_files(path, &mut left_out)? {
                    let member = if labelled { found.below.clone() } else { below_root(&found.file.path) };
                    self.add_local(label, &found, &member);
                }
            }
        }
        self.leave_out(label, left_out);
        if self.options.programs != TakenPrograms::None {
            // A folder that somebody labelled is the root of another machine; what is named without a label is of this one.
            self.programs(label, if labelled && path.is_dir() { path } else { Path::new("/") }, work)?;
        }
        Ok(())
    }

    /// What recipes find in an archive that somebody else made. Its root may stand below one or more folders.
    fn archive(&mut self, label: &str, path: &Path, kind: Kind, work: &Work) -> Result<()> {
        let mut left_out = Vec::new();
        let Some(file) = find_files(path, &mut left_out)?.pop() else {
            self.leave_out(label, left_out);
            return Ok(());
        };
        let opened = container::open(&file, kind, &self.options.reading.passwords, work)?;
        let options = self.options;
        let prefix_bytes = file.name.len() + 1;
        let names: Vec<(String, &container::Member)> = opened
            .members
            .iter()
            .map(|member| (member.file.name.get(prefix_bytes..).unwrap_or_default().replace('!', "/"), member))
            .filter(|(name, _)| !name.is_empty())
            .collect();
        let top = common_top(&names.iter().map(|(name, _)| name.as_str()).collect::<Vec<_>>());
        let below = |name: &str| name.get(top..).unwrap_or(name).to_owned();
        let exists = |sign: &str, system: System| {
            let folder = super::recipe::glob_of(&format!("{sign}/**"), system);
            let itself = super::recipe::glob_of(sign, system);
            names.iter().any(|(name, _)| {
                let name = below(name);
                folder.as_ref().is_ok_and(|glob| glob.is_match(&name))
                    || itself.as_ref().is_ok_and(|glob| glob.is_match(&name))
            })
        };
        let chosen: Vec<String> = self
            .recipes_for(false, false, &exists)
            .unwrap_or_default()
            .iter()
            .map(|recipe| recipe.name.clone())
            .collect();
        let recipes: Vec<&Recipe> = chosen.iter().filter_map(|name| options.known.by_name(name).ok()).collect();
        left_out.extend(opened.left_out);
        if recipes.is_empty() {
            let reason = "no recipe fits what is in it: gather it without --recipe to take it as it is".to_owned();
            left_out.push(LeftOut { path: path.display().to_string(), reason });
        }
        let matchers = Matchers::new(&recipes);
        for (name, member) in &names {
            let below = below(name);
            if let Some(by) = matchers.entry_for(&below) {
                let found = Found { file: member.file.clone(), below: below.clone(), by: Some(by) };
                self.add_local(label, &found, &below);
            }
        }
        self.plan.recipes.extend(chosen);
        self.leave_out(label, left_out);
        Ok(())
    }

    /// Connects to the remote hosts and lists their files, all at once.
    fn remote(&mut self, addresses: &[(String, String)], work: &Work) -> Result<()> {
        let options = self.options;
        let connect = |(label, address): &(String, String)| {
            let of_host = options.work_of(label, work);
            Remote::connect(address, options.ssh_config.as_deref(), options.may_ask, &of_host)
                // Whatever the client said because it was stopped, nothing of it is there.
                .map_err(|error| {
                    of_host.stopped_alone().map_or_else(|| error.to_string(), |stopped| stopped.to_string())
                })
        };
        // Where the client may ask at the terminal, one after the other; else a host that does not answer delays no other.
        let answers: Vec<std::result::Result<Remote, String>> = if options.may_ask {
            addresses.iter().take_while(|_| !work.is_cancelled()).map(connect).collect()
        } else {
            thread::scope(|scope| {
                let asked: Vec<_> = addresses.iter().map(|address| scope.spawn(|| connect(address))).collect();
                let broken = || Err("connecting stopped".to_owned());
                asked.into_iter().map(|thread| thread.join().unwrap_or_else(|_| broken())).collect()
            })
        };
        work.check()?;
        let mut connected = Vec::new();
        for ((label, address), answer) in addresses.iter().zip(answers) {
            match answer {
                Ok(remote) => connected.push((label.clone(), address.clone(), Arc::new(remote))),
                Err(reason) => {
                    self.note_host(SealedHost {
                        label: label.clone(),
                        origin: Some(address.clone()),
                        clock_here: clock::to_rfc3339(options.now),
                        ..SealedHost::default()
                    });
                    options.watch.stage(label, &Stage::Stopped(reason.clone()));
                    self.leave_out(label, vec![LeftOut { path: address.clone(), reason }]);
                }
            }
        }
        let offers: Vec<Offer<'o>> = thread::scope(|scope| {
            let asked = connected.iter().map(|(label, address, remote)| {
                let this = &*self;
                scope.spawn(move || this.offer(label, address, remote, &options.work_of(label, work)))
            });
            let asked: Vec<_> = asked.collect();
            let broken = || LeftOut { path: String::new(), reason: "listing its files stopped".into() };
            let empty = || Offer { recipes: Vec::new(), files: Vec::new(), left_out: vec![broken()] };
            asked.into_iter().map(|thread| thread.join().unwrap_or_else(|_| empty())).collect()
        });
        for ((label, address, remote), offer) in connected.into_iter().zip(offers) {
            let about = remote.about();
            self.note_host(SealedHost {
                label: label.clone(),
                zone: about.zone.clone(),
                origin: Some(address.clone()),
                clock_there: about.clock_there.map(clock::to_rfc3339),
                clock_here: clock::to_rfc3339(about.clock_here),
                clock_within_ms: Some(about.within_ms),
            });
            for found in offer.files {
                self.add(&label, &found, &found.below, Wanted::Remote(found.file.name.clone()));
            }
            if remote.is_live() && !offer.recipes.is_empty() {
                self.plan.facts.push((label.clone(), None));
                self.add_commands(&label, &offer.recipes);
            }
            self.plan.recipes.extend(offer.recipes.iter().map(|recipe| recipe.name.clone()));
            self.leave_out(&label, offer.left_out);
            self.plan.remotes.push((label, remote));
        }
        Ok(())
    }

    /// Asks a remote host which recipes fit it, and for the files that they want.
    fn offer(&self, label: &str, address: &str, remote: &Remote, work: &Work) -> Offer<'o> {
        let known = &self.options.known.good;
        self.options.watch.stage(label, &Stage::Listing);
        let mut offer = Offer { recipes: Vec::new(), files: Vec::new(), left_out: Vec::new() };
        let failed = |error: &crate::Error| {
            let stopped = work.stopped_alone();
            let reason = stopped.map_or_else(|| error.to_string(), |stopped| stopped.to_string());
            self.options.watch.stage(label, &Stage::Stopped(reason.clone()));
            LeftOut { path: address.to_owned(), reason }
        };
        let signs: Vec<String> = known.iter().flat_map(|recipe| recipe.detect.iter().cloned()).collect();
        let there = match remote.existing(&signs, work) {
            Ok(there) => there,
            Err(error) => {
                offer.left_out.push(failed(&error));
                return offer;
            }
        };
        offer.recipes = self.recipes_for(remote.is_live(), true, &|sign, _| there.contains(sign)).unwrap_or_default();
        if offer.recipes.is_empty() {
            let reason = "no recipe fits it: see boxclock recipes, and name one with --recipe".to_owned();
            offer.left_out.push(LeftOut { path: address.to_owned(), reason });
        }
        match remote.list(&offer.recipes, &mut offer.left_out, work) {
            Ok(files) => offer.files = files,
            Err(error) => offer.left_out.push(failed(&error)),
        }
        offer
    }

    fn add_local(&mut self, label: &str, found: &Found<'_>, below: &str) {
        self.add(label, found, below, Wanted::Local(found.file.path.clone()));
    }

    fn add(&mut self, label: &str, found: &Found<'_>, below: &str, wanted: Wanted) {
        let entry: Option<&Files> = found.by.map(|(_, files)| files);
        let member = unique_member(label, below, &mut self.taken);
        let class = entry.map(|files| files.class).or_else(|| self.classes.class_of(&found.below));
        self.plan.files.push(PlannedFile {
            host: label.to_owned(),
            origin: self.origin(&found.file.name),
            member,
            class,
            recipe: found.by.map(|(recipe, _)| recipe.name.clone()),
            may_cut: entry.is_none_or(|files| files.cut),
            is_timeless: false,
            most_bytes: entry.map_or(limits::GATHERED_BYTES, |files| files.most_mib.saturating_mul(1 << 20)),
            size: found.file.len_bytes,
            modified: found.file.modified,
            wanted,
        });
    }

    fn add_commands(&mut self, label: &str, recipes: &[&Recipe]) {
        for recipe in recipes {
            for command in &recipe.commands {
                let mut command = command.clone();
                command.run = fill_in(&command.run, self.options.window);
                let member = unique_member(label, &format!("commands/{}", command.name), &mut self.taken);
                let recipe = recipe.name.clone();
                self.plan.commands.push(PlannedCommand { host: label.to_owned(), recipe, command, member });
            }
        }
    }

    /// Where a file is, as the seal notes it.
    fn origin(&self, name: &str) -> String {
        let below = self.options.origins_below.as_deref();
        below
            .and_then(|below| Path::new(name).strip_prefix(below).ok())
            .map_or_else(|| name.to_owned(), |path| path.display().to_string())
    }

    fn leave_out(&mut self, label: &str, left_out: Vec<LeftOut>) {
        let known = &self.classes;
        let below = &self.options.origins_below;
        let unreadable = left_out.into_iter().map(|left| Unreadable {
            class: known.class_of(&left.path),
            origin: below
                .as_deref()
                .and_then(|below| Path::new(&left.path).strip_prefix(below).ok())
                .map_or_else(|| left.path.clone(), |origin| origin.display().to_string()),
            host: label.to_owned(),
            reason: left.reason,
            why: Why::CannotRead,
        });
        self.plan.left_out.extend(unreadable);
    }

    /// Notes a host once. What was said about its zone counts more than what was found.
    fn note_host(&mut self, mut host: SealedHost) {
        let said = self.options.host_zones.iter().find(|(label, _)| *label == host.label);
        host.zone = said.map(|(_, zone)| zone.clone()).or(host.zone);
        if !self.plan.hosts.iter().any(|other| other.label == host.label) {
            self.plan.hosts.push(host);
        }
    }
}

/// Puts the window into a command's arguments. An argument that needs it is left out where there is none.
fn fill_in(run: &[String], window: Option<Window>) -> Vec<String> {
    let time = |ns: i64| format!("{} UTC", &human::date_time(ns, &clock::Zone::utc())[..19]);
    let filled = run.iter().filter_map(|argument| match window {
        None if argument.contains("{from}") || argument.contains("{to}") => None,
        None => Some(argument.clone()),
        Some(window) => Some(argument.replace("{from}", &time(window.from)).replace("{to}", &time(window.to))),
    });
    filled.collect()
}

/// The start of a file, which tells what it is; `None` where it cannot be read.
fn start_of(path: &Path) -> Option<Vec<u8>> {
    use std::io::Read;
    let mut start = Vec::new();
    let file = platform::open_regular(path).ok()?;
    file.take(container::START_BYTES as u64).read_to_end(&mut start).ok()?;
    Some(start)
}

fn kind_of(path: &Path) -> Option<Kind> {
    Kind::of(&start_of(path)?)
}
