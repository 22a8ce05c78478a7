//! What depends on the operating system, in one place. Linux first; another system is a port of this file.

use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};

/// Reads at `offset` without moving a shared position; gives how many bytes there were, 0 at the end.
///
/// Reading (rather than mapping) means that a file that shrinks or is replaced meanwhile gives fewer bytes, and can
/// never kill the program.
///
/// # Errors
/// As the system reports them.
pub fn read_at(file: &File, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
    std::os::unix::fs::FileExt::read_at(file, buffer, offset)
}

/// When a file's bytes or name, rights or owner last changed, nanoseconds since the epoch; 0 if that is unknown. Unlike the time
/// of modification it cannot be set back.
pub fn changed_ns(path: &Path) -> i64 {
    use std::os::unix::fs::MetadataExt;
    std::fs::metadata(path)
        .map_or(0, |data| data.ctime().saturating_mul(1_000_000_000).saturating_add(data.ctime_nsec()))
}

/// Whether opening this kind of file could block or have effects: FIFOs, sockets, devices.
pub fn special_kind(kind: std::fs::FileType) -> Option<&'static str> {
    use std::os::unix::fs::FileTypeExt;
    match () {
        () if kind.is_fifo() => Some("a FIFO"),
        () if kind.is_socket() => Some("a socket"),
        () if kind.is_block_device() || kind.is_char_device() => Some("a device"),
        () => None,
    }
}

/// The rights of a file that others may read as far as the user's settings (umask) allow.
pub fn shared_file() -> std::fs::Permissions {
    std::os::unix::fs::PermissionsExt::from_mode(0o666)
}

/// The zone that a Linux root folder states: the text of `etc/timezone`, or the target of `etc/localtime`.
pub fn zone_of_root(root: &Path) -> Option<String> {
    if let Ok(text) = std::fs::read_to_string(root.join("etc/timezone")) {
        let name = text.trim();
        if !name.is_empty() {
            return Some(name.to_owned());
        }
    }
    let target = std::fs::read_link(root.join("etc/localtime")).ok()?;
    let text = target.to_str()?;
    text.split_once("zoneinfo/").map(|(_, name)| name.to_owned())
}

fn base(kind: fn(&etcetera::base_strategy::Xdg) -> PathBuf) -> Option<PathBuf> {
    etcetera::base_strategy::Xdg::new().ok().map(|strategy| kind(&strategy).join("boxclock"))
}

/// The folder for what people add and keep (logbooks, the shelf): `$XDG_DATA_HOME/boxclock`.
pub fn data_dir() -> Option<PathBuf> {
    base(etcetera::BaseStrategy::data_dir)
}

/// The folder for what can be made again (unpacked boxes): `$XDG_CACHE_HOME/boxclock`.
pub fn cache_dir() -> Option<PathBuf> {
    // Tests leave nothing in the folders of the person who runs them.
    if cfg!(test) {
        return Some(std::env::temp_dir().join(format!("boxclock-tests-{}", std::process::id())));
    }
    base(etcetera::BaseStrategy::cache_dir)
}

/// The folder for what people set: `$XDG_CONFIG_HOME/boxclock`.
pub fn config_dir() -> Option<PathBuf> {
    base(etcetera::BaseStrategy::config_dir)
}
