//! The tasks of the Collect view, with the fields of their forms.

/// What Collect is set to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Task {
    Gather,
    Capture,
    Receive,
    Redact,
}

impl Task {
    /// All, in the order of the screen.
    pub const ALL: [Self; 4] = [Self::Gather, Self::Capture, Self::Receive, Self::Redact];

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Gather => "gather",
            Self::Capture => "capture",
            Self::Receive => "receive",
            Self::Redact => "redact",
        }
    }

    /// What it is for.
    pub fn about(self) -> &'static str {
        match self {
            Self::Gather => "One box from many machines: what their recipes ask for, near the moment.",
            Self::Capture => {
                "Note the state of the logs, reproduce the failure, and take only what was written in between."
            }
            Self::Receive => {
                "Syslog from devices that can only send, over UDP, TCP or TLS, into a folder that opens as a case."
            }
            Self::Redact => {
                "A copy of this box in which secrets are replaced, the same value by the same mark. The box itself stays as it is."
            }
        }
    }

    /// Its fields: key, label, and what to write there.
    pub fn fields(self) -> &'static [(&'static str, &'static str, &'static str)] {
        const HOSTS: (&str, &str, &str) = (
            "hosts",
            "Hosts",
            "LABEL=PATH of a folder or archive, LABEL=ssh://[USER@]HOST[:PORT], or a path of this machine; blanks between",
        );
        const RECIPES: (&str, &str, &str) =
            ("recipes", "Recipes", "names (see boxclock recipes), auto for those that fit, all for all files");
        const LIMIT: (&str, &str, &str) =
            ("limit", "Limit", "how long one host may take: 10m; empty: as long as it needs");
        const PROGRAMS: (&str, &str, &str) =
            ("programs", "Programs", "symbols, whole, or none: what to take of the programs whose dumps are gathered");
        const INTO: (&str, &str, &str) = ("into", "Into", "the box to write: night.box.zip");
        match self {
            Self::Gather => &[
                HOSTS,
                RECIPES,
                ("moment", "Moment", "of the failure: yesterday 7:20, Wed 07:22, 2 h ago; empty: all times"),
                ("within", "Within", "how much before and after the moment: 10m"),
                LIMIT,
                PROGRAMS,
                INTO,
            ],
            Self::Capture => &[HOSTS, RECIPES, LIMIT, PROGRAMS, INTO],
            Self::Receive => &[
                ("folder", "Into", "the folder to write into"),
                ("udp", "UDP", "PORT, or ADDRESS:PORT; a port alone listens on this machine only"),
                ("tcp", "TCP", "PORT, or ADDRESS:PORT"),
                ("tls", "TLS", "PORT, or ADDRESS:PORT; needs certificate and key"),
                ("cert", "Certificate", "PEM file with the certificate chain for TLS"),
                ("key", "Key", "PEM file with its private key"),
            ],
            Self::Redact => &[
                ("copy", "Into", "the new box: redacted.box.zip"),
                ("around", "Around", "only what was written near this moment; empty: all"),
                ("span", "Within", "how much before and after it: 10m"),
                ("pinned", "Pins", "yes: include pinned records wherever they lie"),
                ("hide", "Host names", "yes: replace the labels of the hosts too"),
                ("words", "Words", "more words to replace, separated by blanks"),
                ("except", "Except", "names of rules to skip (v lists them)"),
                ("keep", "Keep", "values that stay as they are, separated by commas (v lists what would go)"),
                ("binary", "Binaries", "yes: include dumps and event logs, which cannot be redacted"),
                ("confirm", "Confirm", "yes: write the copy although something in it still looks like a secret"),
            ],
        }
    }
}
