//! Whose a module is, and when it was built.

use super::judge::{has_extension, is_core_module};
use super::{Crash, Kind, Module};
use crate::clock::SECOND;

/// Whose a module is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Own {
    /// The operating system's.
    System,
    /// Of another maker than system and application.
    Vendor,
    /// The application's.
    Application,
    /// Nobody knows.
    Unknown,
}

impl Own {
    /// The word of the JSON contract.
    pub fn name(self) -> &'static str {
        match self {
            Self::System => "system",
            Self::Vendor => "vendor",
            Self::Application => "application",
            Self::Unknown => "unknown",
        }
    }
}

/// Whose a module is: by its folder and by whose folder it shares.
pub fn own(module: &Module, crash: &Crash) -> Own {
    let path = module.path.replace('\\', "/").to_ascii_lowercase();
    let program = crash.executable.as_deref().or(crash.modules.first().map(|first| first.path.as_str()));
    let program = program.unwrap_or_default().replace('\\', "/").to_ascii_lowercase();
    let folder = |path: &str| path.rsplit_once('/').map_or(String::new(), |(folder, _)| folder.to_owned());
    let in_system = |path: &str| {
        [
            "/lib/",
            "/lib64/",
            "/lib32/",
            "/usr/lib/",
            "/usr/lib64/",
            "/usr/lib32/",
            "/usr/libexec/",
            "/bin/",
            "/sbin/",
            "/usr/bin/",
            "/usr/sbin/",
            "/system/",
            "/usr/libx32/",
        ]
        .iter()
        .any(|start| path.starts_with(start))
            || ["/windows/system32/", "/windows/syswow64/", "/windows/winsxs/", "/systemroot/system32/"]
                .iter()
                .any(|part| path.contains(part))
    };
    if crash.what.kind == Kind::Stop || has_extension(&path, "sys") {
        return if is_core_module(&path) { Own::System } else { Own::Unknown };
    }
    if path == program {
        return Own::Application;
    }
    if path.starts_with('[') || path.starts_with("linux-vdso") || is_core_module(&path) {
        return Own::System;
    }
    if !path.contains('/') {
        return Own::Unknown;
    }
    let (of_module, of_program) = (folder(&path), folder(&program));
    // Programs of the system's folders may be anybody's; their neighbours there are the distribution's.
    if in_system(&path) {
        return Own::System;
    }
    let top = |folder: &str| folder.splitn(4, '/').take(3).collect::<Vec<_>>().join("/");
    if !of_program.is_empty() && (of_module.starts_with(&of_program) || top(&of_module) == top(&of_program)) {
        return Own::Application;
    }
    Own::Vendor
}

/// When a module was built, UTC seconds, where its stamp can be one: reproducible builds keep a hash in its place.
pub fn built(module: &Module, crash: &Crash, time: Option<i64>) -> Option<i64> {
    const YEAR_1990: i64 = 631_152_000;
    const DAY_S: i64 = 86_400;
    let now = time.map(|time| time.div_euclid(SECOND));
    let plausible = |stamp: u32| {
        let stamp = i64::from(stamp);
        stamp >= YEAR_1990 && now.is_none_or(|now| stamp <= now.saturating_add(DAY_S))
    };
    let stamp = module.built_s.filter(|stamp| plausible(*stamp))?;
    if is_core_module(&module.path) || own(module, crash) == Own::System {
        // Of one build: one stamp among them that is none, and none of them is.
        let of_system =
            crash.modules.iter().filter(|other| is_core_module(&other.path) || own(other, crash) == Own::System);
        if of_system.filter_map(|other| other.built_s).any(|stamp| !plausible(stamp)) {
            return None;
        }
    }
    Some(i64::from(stamp))
}

/// Whole days between a module's build and the crash.
pub fn age_days(module: &Module, crash: &Crash, time: Option<i64>) -> Option<i64> {
    let built = built(module, crash, time)?;
    time?.div_euclid(SECOND).checked_sub(built)?.checked_div(86_400)
}
