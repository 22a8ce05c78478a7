//! The program's own log: what it was asked to do, how that ended, and what went wrong inside. No text of any case goes in.

use std::fs::{File, OpenOptions};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, OnceLock};

use boxclock_core::platform;
use tracing::level_filters::LevelFilter;

/// The environment variable that sets the level, where `--log` does not.
pub const VARIABLE: &str = "BOXCLOCK_LOG";
/// Bytes from which on the log is put aside at the next start; one older one is kept.
const MAX_BYTES: u64 = 1 << 20;

static PATH: OnceLock<PathBuf> = OnceLock::new();

/// Where the log is; `None` where none is kept.
pub fn path() -> Option<&'static Path> {
    PATH.get().map(PathBuf::as_path)
}

/// Begins to write the log. Where there is no folder for it, none is kept: that must not keep anybody from reading logs.
pub fn start(level: LevelFilter) {
    let Some(folder) = platform::state_dir().filter(|_| level != LevelFilter::OFF) else { return };
    let path = folder.join("boxclock.log");
    let Ok(file) = open(&folder, &path) else { return };
    let subscriber = tracing_subscriber::fmt().with_max_level(level).with_ansi(false).with_writer(Mutex::new(file));
    if tracing::subscriber::set_global_default(subscriber.finish()).is_ok() {
        // It is started once.
        let _ = PATH.set(path);
    }
}

fn open(folder: &Path, path: &Path) -> io::Result<File> {
    platform::private_folder(folder)?;
    if std::fs::metadata(path).is_ok_and(|data| data.len() > MAX_BYTES) {
        std::fs::rename(path, path.with_extension("log.1"))?;
    }
    let mut options = OpenOptions::new();
    options.create(true).append(true);
    platform::private_file(&mut options);
    options.open(path)
}

/// The level of a word: `off`, `error`, `warn`, `info`, `debug` or `trace`.
///
/// # Errors
/// When it is none.
pub fn level(word: &str) -> Result<LevelFilter, String> {
    word.parse().map_err(|_| format!("\"{word}\" is not a level: write off, error, warn, info, debug or trace"))
}
