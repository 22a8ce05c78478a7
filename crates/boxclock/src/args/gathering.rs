//! The arguments of what gathers, checks, redacts, receives and wipes.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

use super::{Listing, Reading};

/// What is taken of program files.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum Programs {
    /// All of them
    Whole,
    /// Names of functions and unwind tables: stacks are named, and the box stays small
    Symbols,
}

#[derive(Args)]
pub struct Pack {
    #[command(flatten)]
    pub reading: Reading,
    /// The box to write; it must not exist yet
    #[arg(long, value_name = "X.box.zip", required_unless_present = "plan")]
    pub into: Option<PathBuf>,
    /// Sign the seal with this key (Ed25519, PKCS #8 in PEM)
    #[arg(long, value_name = "KEY.pem")]
    pub sign: Option<PathBuf>,
    /// Who signs, in your own words
    #[arg(long, value_name = "NAME", requires = "sign")]
    pub signer: Option<String>,
    /// Include your own fault cards. They were made from other cases: review them first
    #[arg(long)]
    pub cards: bool,
    /// Include the program files needed to read dumps (build ids compared; at most 128 MiB each, 1 GiB for a host):
    /// whole, or only their symbols and unwind tables
    #[arg(long, value_name = "WHAT", num_args = 0..=1, require_equals = true, default_missing_value = "whole")]
    pub programs: Option<Programs>,
    /// A title for the case
    #[arg(long)]
    pub title: Option<String>,
    /// The story, as in a box (story.json): its "since" is the moment where no other is said
    #[arg(long, value_name = "FILE.json")]
    pub story: Option<PathBuf>,
    /// How long one host may take; files not fetched by then are left out and listed
    #[arg(long, value_name = "DURATION")]
    pub host_limit: Option<String>,
    /// Gather by this recipe (see boxclock recipes); auto selects those that fit, or all files where none does.
    /// Without it, all files of a folder are taken
    #[arg(long, value_name = "NAME")]
    pub recipe: Vec<String>,
    /// The moment of the failure: only what was written near it is taken. Examples: "yesterday 7:20", "Wed 07:22",
    /// "2 h ago", 2026-04-12T02:31:07Z
    #[arg(long, value_name = "TIME", conflicts_with_all = ["from", "to"])]
    pub around: Option<String>,
    /// How much before and after that moment
    #[arg(long, value_name = "DURATION", default_value = "10m")]
    pub within: String,
    /// Take what was written from this moment on
    #[arg(long, value_name = "TIME")]
    pub from: Option<String>,
    /// Take what was written up to this moment
    #[arg(long, value_name = "TIME")]
    pub to: Option<String>,
    /// Take whole files despite the window; the window is noted in the seal
    #[arg(long)]
    pub whole: bool,
    /// Take only what is written from now until you press Enter (or --for ends): reproduce the failure meanwhile
    #[arg(long, conflicts_with_all = ["around", "from", "to", "plan"])]
    pub capture: bool,
    /// How long --capture lasts
    #[arg(long = "for", value_name = "DURATION", requires = "capture")]
    pub lasting: Option<String>,
    /// Print the exact list of files and commands, and stop
    #[arg(long)]
    pub plan: bool,
    /// A configuration file for the SSH client instead of the user's own
    #[arg(long, value_name = "FILE")]
    pub ssh_config: Option<PathBuf>,
}

#[derive(Args)]
pub struct Forget {
    /// Boxes, folders or files
    #[arg(value_name = "PATH", required_unless_present = "all")]
    pub paths: Vec<PathBuf>,
    /// Wipe the whole cache
    #[arg(long, conflicts_with = "paths")]
    pub all: bool,
}

#[derive(Args)]
pub struct Check {
    /// The box
    #[arg(value_name = "X.box.zip")]
    pub path: PathBuf,
    /// The seal must be signed with the key of which this is the public half (PEM)
    #[arg(long, value_name = "KEY.pub")]
    pub key: Option<PathBuf>,
    /// Show progress on standard error
    #[arg(long)]
    pub progress: bool,
}

#[derive(Args)]
pub struct Coverage {
    #[command(flatten)]
    pub listing: Listing,
    /// The moment; default: that of gathering, else that of the last problems
    #[arg(long, value_name = "TIME")]
    pub at: Option<String>,
    /// How much before and after it
    #[arg(long, value_name = "DURATION", default_value = "10m")]
    pub within: String,
}

#[derive(Args)]
pub struct Redact {
    /// The box
    #[arg(value_name = "X.box.zip")]
    pub path: PathBuf,
    /// The new box; without it, the replacements are only listed
    #[arg(long, value_name = "Y.box.zip")]
    pub into: Option<PathBuf>,
    /// Leave this rule out
    #[arg(long, value_name = "RULE")]
    pub except: Vec<String>,
    /// Leave this value as it is, whatever rule finds it
    #[arg(long, value_name = "VALUE")]
    pub keep: Vec<String>,
    /// More rules, as a TOML file
    #[arg(long, value_name = "FILE.toml")]
    pub rules: Vec<PathBuf>,
    /// Replace this word too
    #[arg(long, value_name = "WORD")]
    pub word: Vec<String>,
    /// Replace the labels of the hosts
    #[arg(long)]
    pub hide_hosts: bool,
    /// Take only this source (its name as boxclock sources prints it)
    #[arg(long, value_name = "SOURCE")]
    pub source: Vec<String>,
    /// Take only what was written near this moment
    #[arg(long, value_name = "TIME")]
    pub around: Option<String>,
    /// How much before and after it
    #[arg(long, value_name = "DURATION", default_value = "10m")]
    pub within: String,
    /// Also take pinned records outside the window
    #[arg(long)]
    pub pinned: bool,
    /// Take files that cannot be redacted (dumps, packed files, event logs) unchanged
    #[arg(long)]
    pub keep_binary: bool,
    /// Sign the seal of the copy with this key (Ed25519, PKCS #8 in PEM)
    #[arg(long, value_name = "KEY.pem", requires = "into")]
    pub sign: Option<PathBuf>,
    /// Who signs, in your own words
    #[arg(long, value_name = "NAME", requires = "sign")]
    pub signer: Option<String>,
    /// Write the copy although something in it still looks like a secret
    #[arg(long)]
    pub confirm: bool,
    /// Show progress on standard error
    #[arg(long)]
    pub progress: bool,
}

#[derive(Args)]
pub struct Receive {
    /// The folder to write into
    #[arg(long, value_name = "FOLDER")]
    pub into: PathBuf,
    /// Listen on UDP (RFC 5426)
    #[arg(long, value_name = "[ADDRESS:]PORT")]
    pub udp: Option<String>,
    /// Listen on TCP (RFC 6587, both framings)
    #[arg(long, value_name = "[ADDRESS:]PORT")]
    pub tcp: Option<String>,
    /// Listen on TLS (RFC 5425)
    #[arg(long, value_name = "[ADDRESS:]PORT", requires = "cert", requires = "key")]
    pub tls: Option<String>,
    /// The certificate for TLS, with its chain, in PEM
    #[arg(long, value_name = "FILE")]
    pub cert: Option<PathBuf>,
    /// Its private key, in PEM
    #[arg(long, value_name = "FILE")]
    pub key: Option<PathBuf>,
    /// The label of the host that sends from an address
    #[arg(long, value_name = "ADDRESS=LABEL")]
    pub label: Vec<String>,
    /// Connections at once
    #[arg(long, default_value_t = 256)]
    pub connections: usize,
    /// KiB of one message; longer messages are cut
    #[arg(long, value_name = "KIB", default_value_t = 64)]
    pub message: usize,
    /// Messages a second
    #[arg(long, default_value_t = 200_000)]
    pub rate: u64,
    /// MiB in total
    #[arg(long, value_name = "MIB", default_value_t = 10_240)]
    pub most: u64,
    /// Stop after this time
    #[arg(long = "for", value_name = "DURATION")]
    pub lasting: Option<String>,
    /// Show counts on standard error every second
    #[arg(long)]
    pub progress: bool,
}
