//! The arguments, as one table that help, completions and the manual page are made from.

use std::path::PathBuf;

use clap::{Args, CommandFactory, Parser, Subcommand, ValueEnum};
use tracing::level_filters::LevelFilter;

use crate::log::{self, VARIABLE};

mod gathering;

pub use gathering::{Check, Coverage, Forget, Pack, Programs, Receive, Redact};

/// Version and commit of the program, and the versions of what it writes.
pub const VERSION: &str = env!("BOXCLOCK_VERSION");

const EXAMPLES: &str = "\
Examples:
  boxclock                                       the cases opened before; the first time a new one
  boxclock demo                                  the demo case, full-screen
  boxclock open /var/log                         a folder, full-screen
  boxclock pack --host pump-ctl=/mnt/pump --into night.box.zip
  boxclock check night.box.zip
  boxclock events night.box.zip --where 'level>=error time in 02:10..02:35'
  boxclock code 0x80070005 -2147024891 ENOSPC

Exit status: 0 done, 1 not done, 2 wrong usage, 3 done in part (what was left out is named on standard error).";

/// Boxes up what a failing system left behind, puts it on one clock, and finds the root cause.
#[derive(Parser)]
#[command(name = "boxclock", version = VERSION, after_help = EXAMPLES, max_term_width = 100)]
pub struct Cli {
    /// How much goes into the program's own log: off, error, warn, info, debug, trace
    #[arg(long, global = true, value_name = "LEVEL", env = VARIABLE, default_value = "info", value_parser = log::level, hide_env = false)]
    pub log: LevelFilter,
    /// What to do; without a command, the cases opened before are shown full-screen, the first time a new case
    #[command(subcommand)]
    pub command: Option<Command>,
}

#[derive(Subcommand)]
pub enum Command {
    /// Unpack the demo case and open it full-screen
    Demo(Demo),
    /// Open a box, a folder, or loose files full-screen
    #[command(after_help = "Example:\n  boxclock open night.box.zip --drift dose-gw=-6m41s")]
    Open(Open),
    /// Gather files into a sealed box
    #[command(after_help = "Examples:\n  boxclock pack /var/log --host dose-gw=/mnt/gw --into night.box.zip\n  \
        boxclock pack --host pump-ctl=ssh://keeper@pump-ctl --host keeper-desk=/mnt/desk --recipe auto \\\n    \
        --around '12 Apr 02:31' --within 30m --into night.box.zip\n  \
        boxclock pack / --recipe linux-live --plan --into x.box.zip\n\n\
        What cannot be read is listed in the seal and on standard error; the exit status is then 3.")]
    Pack(Box<Pack>),
    /// Show whether the logs of each host and class cover the moment
    #[command(after_help = "Example:\n  boxclock coverage night.box.zip --at '12 Apr 04:31' --within 30m")]
    Coverage(Coverage),
    /// Run the checks over the facts of the hosts
    #[command(
        after_help = "Own checks are TOML files in the folder checks of the configuration; see docs/formats.md, \"Checks\"."
    )]
    Checks(Listing),
    /// Show which clocks seem wrong, by how much, with the evidence
    #[command(
        after_help = "Example:\n  boxclock drift night.box.zip\n  boxclock events night.box.zip --drift dose-gw=-6m41s\n\n\
        Compares the two clocks in the seal, and the same messages and identifiers seen on two hosts. Nothing is corrected."
    )]
    Drift(Listing),
    /// Write a copy of a box for others: secrets replaced, and only what they need
    #[command(
        after_help = "Examples:\n  boxclock redact night.box.zip                        what would be replaced\n  \
        boxclock redact night.box.zip --into hand-on.box.zip --hide-hosts\n  \
        boxclock redact night.box.zip --into slim.box.zip --around '12 Apr 02:31' --pinned\n\n\
        Own rules are TOML files in the folder redaction of the configuration; see docs/formats.md, \"Redaction\"."
    )]
    Redact(Redact),
    /// Receive syslog from devices that can only send, into a folder that opens as a case
    #[command(after_help = "Examples:\n  boxclock receive --into night --udp 5514 --tcp 5514\n  \
        boxclock receive --into night --tls 0.0.0.0:6514 --cert gw.pem --key gw.key --label 10.1.2.3=dose-gw\n\n\
        A port alone listens on this machine only. Ctrl-C ends it; what was received is kept.")]
    Receive(Receive),
    /// Wipe what was unpacked, decoded and indexed of boxes, folders or files
    #[command(after_help = "Examples:\n  boxclock forget night.box.zip\n  boxclock forget --all")]
    Forget(Forget),
    /// Verify the seal of a box, and list every changed, missing or extra member
    Check(Check),
    /// Print the merged events
    #[command(
        after_help = "Example:\n  boxclock events night.box.zip --where 'level>=warn host=pump-ctl' --as jsonl\n\n\
        Filters: level host source component pid tid code format time, bare words, \"phrases\", /regular expressions/,\n\
        and, or, not, parentheses."
    )]
    Events(Events),
    /// Print what was read: format, encoding, zone, events, bytes, trouble
    #[command(after_help = "Examples:\n  boxclock sources night.box.zip\n  boxclock sources --explain app.log\n  \
        boxclock sources /var/log --format /var/log/odd.log=iso-text --remember")]
    Sources(Sources),
    /// List the text formats, and check your own
    #[command(
        after_help = "Own formats are TOML files in the folder that this prints; see the guide, \"Own formats\"."
    )]
    Formats {
        /// Check these files instead of the folder
        #[arg(value_name = "FILE.toml")]
        paths: Vec<PathBuf>,
    },
    /// List the lenses: filters with a name. With FILE.toml: check these
    #[command(after_help = "Example:\n  boxclock events night.box.zip --lens storage\n\n\
        Own lenses are TOML files in the folder that this prints: name, about, filter.")]
    Lenses {
        /// Check these files instead
        #[arg(value_name = "FILE.toml")]
        paths: Vec<PathBuf>,
    },
    /// List the recipes for gathering, and check your own
    #[command(
        after_help = "Own recipes are TOML files in the folder that this prints; see docs/formats.md, \"Recipes\"."
    )]
    Recipes {
        /// Check these files instead
        #[arg(value_name = "FILE.toml")]
        paths: Vec<PathBuf>,
    },
    /// Explain codes, in any writing: hexadecimal, signed or unsigned decimal, or a name; or find codes by words
    #[command(
        after_help = "Examples:\n  boxclock code 0x80070005 1603\n  boxclock code 5 --os linux\n  boxclock code -2147024891\n  \
        boxclock code 42P01 ORA-00942 OOMKilled 'exit 137' 'http 503'\n  boxclock code disk full"
    )]
    Code(Code),
    /// Print the crashes: dumps, reports, and ends without either, each with its stack and who is to blame
    #[command(
        after_help = "Examples:\n  boxclock crashes night.box.zip\n  boxclock crashes feeder.core --as jsonl\n\n\
        Put the program files beside the dump, or into the box: the stack then has the names of functions."
    )]
    Crashes(Listing),
    /// Print the installations: each run with its outcome, its phases and what failed first
    #[command(
        after_help = "Examples:\n  boxclock installs night.box.zip\n  boxclock installs setup.log --as jsonl\n\n\
        Own words of installers are TOML files in the folder installers of the configuration; see docs/formats.md."
    )]
    Installs(Listing),
    /// Follow one request, job, mail or session through sources and hosts, under all names that it goes by
    #[command(after_help = "Example:\n  boxclock trail night.box.zip --of fr-0412-4096")]
    Trail(Trail),
    /// Compare a bad run with a good one: what is different and matters, the most telling first
    #[command(
        after_help = "Examples:\n  boxclock compare bad.box.zip good.box.zip\n  boxclock compare bad/strace.log good/strace.log\n  \
        boxclock compare night.box.zip --bad 'time in 02:00..03:00' --good 'time in 01:00..02:00'"
    )]
    Compare(Compare),
    /// Print what is wrong or strange in the case, worst first, with evidence and advice
    #[command(
        after_help = "Examples:\n  boxclock findings night.box.zip\n  boxclock findings night.box.zip --as jsonl"
    )]
    Findings(Listing),
    /// Print the kinds of messages, the rarest first
    #[command(
        after_help = "Examples:\n  boxclock patterns night.box.zip --most 40\n  boxclock patterns /var/log --as jsonl"
    )]
    Patterns(Patterns),
    /// Suggest causes: from the symptom back to the first thing that went wrong, or say that the box does not prove it
    #[command(
        after_help = "Examples:\n  boxclock cause night.box.zip\n  boxclock cause /cases/saltmere --as jsonl\n\n\
        The story of the case (story.json) says what was seen, and when; without it the worst new trouble is taken."
    )]
    Cause(Listing),
    /// Check whether the failure is gone: compare a box gathered after the fix with the box of the failure
    #[command(after_help = "Example:\n  boxclock verify night.box.zip --after morning.box.zip\n\n\
        The chain of the logbook is looked for, else that of the first suggestion of boxclock cause. The exit status is 1 where the\n\
        symptom is still there, or where the later box cannot tell.")]
    Verify(Verify),
    /// Print the fault cards that fit a case; without a case list all cards. With FILE.toml: check these
    #[command(after_help = "Examples:\n  boxclock cards night.box.zip\n  boxclock cards own.toml\n  \
        boxclock cards night.box.zip --make frames-refused --into frames-refused.toml\n\n\
        Own cards are TOML files in the folder that this prints, in folders named in BOXCLOCK_CARDS, or in the folder cards of a\n\
        box; see docs/formats.md, \"Fault cards\".")]
    Cards(Cards),
    /// Print the codes found: counted, first and last seen
    #[command(
        after_help = "Examples:\n  boxclock codes night.box.zip\n  boxclock codes /var/log --first --as jsonl\n\n\
        Failures come first, then what asks for a restart, then success."
    )]
    Codes(Codes),
    /// List the known families of codes, and check your own catalogues
    #[command(
        after_help = "Own catalogues are TOML or CSV files in the folder that this prints; see docs/formats.md, \"Catalogues of codes\"."
    )]
    Catalogues {
        /// Check these files instead of the folder
        #[arg(value_name = "FILE.(toml|csv)")]
        paths: Vec<PathBuf>,
    },
    /// Write the report from the logbook: Markdown, or a drawing of the timeline as SVG
    #[command(after_help = "Example:\n  boxclock report night.box.zip --into night.md")]
    Report(Report),
    /// Draw the volume and severity of events over time by host, or single events in swim lanes
    #[command(after_help = "Examples:\n  boxclock chart night.box.zip --into density.pdf\n  \
        boxclock chart night.box.zip --lanes --where 'level>=error time in 02:10..02:40' --into lanes.svg")]
    Chart(Chart),
    /// Print the completions for a shell
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
    /// Print the manual page
    Manual,
}

/// What every command that reads takes.
#[derive(Args, Clone, Default)]
pub struct Reading {
    /// Boxes, folders or files
    #[arg(value_name = "PATH")]
    pub paths: Vec<PathBuf>,
    /// A folder or file with the label of its host
    #[arg(long, value_name = "LABEL=PATH")]
    pub host: Vec<String>,
    /// The zone of sources that carry none, for all, for one host or for one source: +02:00, Europe/Lisbon
    #[arg(long, value_name = "[LABEL=]ZONE", allow_hyphen_values = true)]
    pub zone: Vec<String>,
    /// What to add to the clock of a host or of one source, perhaps with a rate: dose-gw=-6m41s,
    /// dose-gw=+2s,20ppm@2026-04-12T02:00:00Z
    #[arg(long, value_name = "LABEL=±DURATION", allow_hyphen_values = true)]
    pub drift: Vec<String>,
    /// A file with passwords for encrypted members of archives, one a line
    #[arg(long, value_name = "FILE")]
    pub password_file: Option<PathBuf>,
    /// Read a source in this format (see boxclock formats)
    #[arg(long, value_name = "SOURCE=FORMAT")]
    pub format: Vec<String>,
    /// Read a source in this encoding: utf-8, utf-16le, utf-16be, windows-1252, iso-8859-1
    #[arg(long, value_name = "SOURCE=ENCODING")]
    pub encoding: Vec<String>,
    /// Read the dates of a source in this order: day-first, month-first, year-first
    #[arg(long, value_name = "SOURCE=ORDER")]
    pub dates: Vec<String>,
    /// The host that a source belongs to, instead of the one that it was found at
    #[arg(long, value_name = "SOURCE=HOST")]
    pub label: Vec<String>,
    /// When a host's system started, for logs whose times count from there
    #[arg(long, value_name = "[LABEL=]TIME")]
    pub boot: Vec<String>,
    /// Do not count a line as a problem because it carries the code of a failure
    #[arg(long = "no-escalate", alias = "no-lift")]
    pub no_escalation: bool,
    /// Unpack a box even if it takes more than 80 % of the free space
    #[arg(long)]
    pub use_all_space: bool,
    /// Keep what --zone SOURCE=, --drift, --format, --encoding, --dates and --label say in the case's logbook
    #[arg(long)]
    pub remember: bool,
    /// Show progress on standard error
    #[arg(long)]
    pub progress: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum LargeMix {
    Tanks,
    Services,
}

#[derive(Args)]
pub struct Demo {
    /// Write the demo box to this file and stop
    #[arg(long, value_name = "FILE")]
    pub into: Option<PathBuf>,
    /// With --into: the same failure at another site, where hosts, programs and folders are called otherwise
    #[arg(long, requires = "into")]
    pub elsewhere: bool,
    /// With --into: the night before the failure, in which all went well, to compare with
    #[arg(long, requires = "into", conflicts_with = "elsewhere")]
    pub night_before: bool,
    /// Write a large synthetic case of about this many MiB into a folder, not the demo case, and stop
    #[arg(long, value_name = "MIB", requires = "folder")]
    pub large: Option<u64>,
    /// The folder for --large
    #[arg(long, value_name = "FOLDER")]
    pub folder: Option<PathBuf>,
    /// What --large writes: the aquarium's own programs, or services with longer lines
    #[arg(long, value_enum, default_value_t = LargeMix::Tanks)]
    pub mix: LargeMix,
    /// The seed for --large: equal seeds give equal bytes
    #[arg(long, default_value_t = 1)]
    pub seed: u64,
}

#[derive(Args)]
pub struct Open {
    #[command(flatten)]
    pub reading: Reading,
    /// Follow files that grow: new lines appear, through rotation and truncation
    #[arg(long)]
    pub follow: bool,
}

#[derive(Clone, Copy, ValueEnum)]
pub enum Form {
    /// One JSON object a line
    Jsonl,
    /// Lines for people
    Text,
    /// Comma-separated values
    Csv,
    /// XML
    Xml,
    /// Events of Windows as the system exports them, in XML
    EventXml,
    /// The text as it was read, with source and line
    Raw,
    /// OpenTelemetry logs as JSON, one a line
    Otlp,
}

#[derive(Args)]
pub struct Events {
    #[command(flatten)]
    pub reading: Reading,
    /// Only the events that pass this filter
    #[arg(long = "where", value_name = "FILTER")]
    pub filter: Option<String>,
    /// Only the events that pass this lens (see boxclock lenses)
    #[arg(long, value_name = "NAME", conflicts_with = "filter")]
    pub lens: Option<String>,
    /// The form of the output
    #[arg(long = "as", value_name = "FORM", default_value = "jsonl")]
    pub form: Form,
    /// Fold runs of the same pattern into their first event, with count and duration (jsonl and text)
    #[arg(long)]
    pub fold: bool,
    /// Sort worst first, not by time
    #[arg(long)]
    pub worst_first: bool,
    /// Keep running and write new events as the files grow, until Ctrl-C
    #[arg(long, conflicts_with_all = ["out", "fold", "worst_first"])]
    pub follow: bool,
    /// Write to this file instead of standard output
    #[arg(long, value_name = "FILE")]
    pub out: Option<PathBuf>,
    /// Replace the file if it exists
    #[arg(long, requires = "out")]
    pub force: bool,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum ListForm {
    /// One JSON object a line
    Jsonl,
    /// A table for people
    Text,
}

#[derive(Args)]
pub struct Listing {
    #[command(flatten)]
    pub reading: Reading,
    /// The form of the output
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    pub form: ListForm,
}

#[derive(Args)]
pub struct Verify {
    #[command(flatten)]
    pub listing: Listing,
    /// A box, folder or file gathered after the fix
    #[arg(long, value_name = "PATH", required = true)]
    pub after: Vec<PathBuf>,
    /// Keep the verdict in the logbook of the first box, for its report
    #[arg(long)]
    pub keep: bool,
}

#[derive(Args)]
pub struct Cards {
    #[command(flatten)]
    pub listing: Listing,
    /// Make a card of this name from the chain in the logbook of the case
    #[arg(long, value_name = "NAME")]
    pub make: Option<String>,
    /// Write the card to this file instead of standard output
    #[arg(long, value_name = "FILE.toml", requires = "make")]
    pub into: Option<PathBuf>,
    /// Replace the file where it exists
    #[arg(long, requires = "into")]
    pub force: bool,
}

#[derive(Args)]
pub struct Sources {
    #[command(flatten)]
    pub listing: Listing,
    /// Show which formats were tried on each source and why one won; reads no events
    #[arg(long)]
    pub explain: bool,
}

#[derive(Args)]
pub struct Code {
    /// Codes, or words of their meaning
    #[arg(required = true, value_name = "CODE", allow_negative_numbers = true)]
    pub codes: Vec<String>,
    /// The system they come from
    #[arg(long, value_name = "SYSTEM", value_parser = ["linux", "windows", "macos", "freebsd", "solaris", "aix", "unix"])]
    pub os: Option<String>,
    /// The form of the output
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    pub form: ListForm,
}

#[derive(Args)]
pub struct Trail {
    #[command(flatten)]
    pub listing: Listing,
    /// What is followed: its number or name, as a log writes it
    #[arg(long = "of", value_name = "IDENTIFIER")]
    pub identifier: String,
}

#[derive(Args)]
pub struct Compare {
    /// BAD and GOOD: files, folders or boxes; with --bad and --good one case
    #[command(flatten)]
    pub listing: Listing,
    /// The bad part of the case
    #[arg(long = "bad", value_name = "FILTER", requires = "good_filter")]
    pub bad_filter: Option<String>,
    /// The good part of the case
    #[arg(long = "good", value_name = "FILTER", requires = "bad_filter")]
    pub good_filter: Option<String>,
    /// At most so many differences
    #[arg(long, default_value_t = 50)]
    pub most: usize,
}

#[derive(Args)]
pub struct Patterns {
    #[command(flatten)]
    pub listing: Listing,
    /// Take patterns together that differ only in a value without digits
    #[arg(long)]
    pub kinds: bool,
    /// What the values in messages of one pattern usually are, and which are unusual
    #[arg(long, value_name = "PATTERN", conflicts_with = "kinds")]
    pub values: Option<String>,
    /// Lists in the logs that say what went wrong ("failed items:"), each item with the event it tells of
    #[arg(long, conflicts_with_all = ["kinds", "values"])]
    pub summaries: bool,
    /// At most so many
    #[arg(long)]
    pub most: Option<usize>,
}

#[derive(Args)]
pub struct Codes {
    #[command(flatten)]
    pub listing: Listing,
    /// Sort first seen first, not worst first
    #[arg(long)]
    pub first: bool,
}

#[derive(Args)]
pub struct Chart {
    #[command(flatten)]
    pub reading: Reading,
    /// Only the events that pass this filter
    #[arg(long = "where", value_name = "FILTER")]
    pub filter: Option<String>,
    /// Draw every event, in a lane of its host and component
    #[arg(long)]
    pub lanes: bool,
    /// Draw stability by day instead: crashes, stops, starts and installations, counted
    #[arg(long, conflicts_with_all = ["lanes", "filter"])]
    pub stability: bool,
    /// Draw this run of an installer instead (its number in boxclock installs): phases over time, workers as lanes
    #[arg(long, value_name = "NUMBER", conflicts_with_all = ["lanes", "filter", "stability"])]
    pub run: Option<usize>,
    /// The file to write, ending in .svg or .pdf
    #[arg(long, value_name = "FILE.(svg|pdf)")]
    pub into: PathBuf,
    /// Replace the file if it exists
    #[arg(long)]
    pub force: bool,
}

#[derive(Args)]
pub struct Report {
    #[command(flatten)]
    pub reading: Reading,
    /// The file to write, ending in .md or .svg
    #[arg(long, value_name = "FILE.(md|svg)")]
    pub into: PathBuf,
    /// Replace the file if it exists
    #[arg(long)]
    pub force: bool,
}

/// Reads the arguments; wrong ones end the program with status 2 and a hint.
pub fn parse() -> (LevelFilter, Option<Command>) {
    let Cli { log, command } = Cli::parse();
    (log, command)
}

/// The whole command, for completions and the manual page.
pub fn command() -> clap::Command {
    Cli::command()
}
