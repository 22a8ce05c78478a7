//! What depends on the operating system, in one place. Linux first; another system is a port of this file.

use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};
use std::process::{Child, Command};

use rustix::fs::OFlags;
use rustix::process::{Pid, Signal, kill_process_group};

/// Reads at `offset` without moving a shared position; gives how many bytes there were, 0 at the end.
///
/// Reading (rather than mapping) means that a file that shrinks or is replaced meanwhile gives fewer bytes, and can
/// never kill the program.
///
/// A file may name any offset in its bytes: beyond the largest that the system takes there is nothing, as beyond its end.
///
/// # Errors
/// As the system reports them.
pub fn read_at(file: &File, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
    if offset.checked_add(buffer.len() as u64).is_none_or(|end| i64::try_from(end).is_err()) {
        return Ok(0);
    }
    std::os::unix::fs::FileExt::read_at(file, buffer, offset)
}

/// When a file's bytes or name, rights or owner last changed, nanoseconds since the epoch; 0 if that is unknown. Unlike the time
/// of modification it cannot be set back.
pub fn changed_ns(path: &Path) -> i64 {
    use std::os::unix::fs::MetadataExt;
    std::fs::metadata(path)
        .map_or(0, |data| data.ctime().saturating_mul(1_000_000_000).saturating_add(data.ctime_nsec()))
}

/// Opens a file for reading if it is a regular one. It cannot block, whatever takes the file's place in between.
///
/// # Errors
/// As the system reports them; and where it is no regular file.
pub fn open_regular(path: &Path) -> io::Result<File> {
    use std::os::unix::fs::OpenOptionsExt;
    let file = File::options().read(true).custom_flags((OFlags::NONBLOCK | OFlags::NOCTTY).bits() as i32).open(path)?;
    let kind = file.metadata()?.file_type();
    if kind.is_file() {
        return Ok(file);
    }
    Err(io::Error::other(format!("{}, not a file", special_kind(kind).unwrap_or("a folder"))))
}

/// What stays the same of a file while it is renamed: device and number.
pub fn identity(data: &std::fs::Metadata) -> (u64, u64) {
    use std::os::unix::fs::MetadataExt;
    (data.dev(), data.ino())
}

/// Whether no folder has a file any more: it lives as long as it is held open.
pub fn is_deleted(data: &std::fs::Metadata) -> bool {
    use std::os::unix::fs::MetadataExt;
    data.nlink() == 0
}

/// A path by which a file can be read that is held open, whatever its folder says; `None` where the system has none.
pub fn path_of_open(file: &File) -> Option<PathBuf> {
    use std::os::fd::AsRawFd;
    // Linux (proc(5)): a link for each open file of the process.
    let path = PathBuf::from(format!("/proc/self/fd/{}", file.as_raw_fd()));
    path.exists().then_some(path)
}

/// The most bytes of a file of settings, rules, keys or words.
const SMALL_BYTES: u64 = 16 << 20;

/// Reads a file that should be small: settings, rules, keys. It cannot block, and what is no file is named.
///
/// # Errors
/// When it cannot be read, is no regular file, or is larger than 16 MiB.
pub fn read_small(path: &Path) -> crate::Result<Vec<u8>> {
    let cannot = |error: io::Error| crate::Error::at(path, "cannot read", error);
    let mut bytes = Vec::new();
    let file = open_regular(path).map_err(cannot)?;
    io::Read::read_to_end(&mut io::Read::take(file, SMALL_BYTES + 1), &mut bytes).map_err(cannot)?;
    if bytes.len() as u64 > SMALL_BYTES {
        return Err(crate::Error::new(format!("{} has more than {} MiB", path.display(), SMALL_BYTES >> 20)));
    }
    Ok(bytes)
}

/// Reads a text of UTF-8 that should be small, see [`read_small`].
///
/// # Errors
/// As [`read_small`]; or when a byte is no UTF-8.
pub fn read_small_text(path: &Path) -> crate::Result<String> {
    String::from_utf8(read_small(path)?).map_err(|error| {
        crate::Error::new(format!("{}: no UTF-8 at byte {}", path.display(), error.utf8_error().valid_up_to()))
    })
}

/// The share of the free bytes where a folder is that may be filled; all where the system does not say.
pub fn free_share(folder: &Path, percent: u64) -> u64 {
    free_bytes(folder).map_or(u64::MAX, |free| free / 100 * percent)
}

/// Bytes that are free where a folder is; `None` where the system does not say.
pub fn free_bytes(folder: &Path) -> Option<u64> {
    let stat = rustix::fs::statvfs(folder).ok()?;
    Some(stat.f_bavail.saturating_mul(stat.f_frsize))
}

/// Whether a file belongs to the user who runs the program.
pub fn is_mine(data: &std::fs::Metadata) -> bool {
    use std::os::unix::fs::MetadataExt;
    data.uid() == rustix::process::geteuid().as_raw()
}

/// Takes away what others may do with a file or folder of the user's own. Where that cannot be, it stays as it is.
pub fn tighten(path: &Path) {
    use std::os::unix::fs::PermissionsExt;
    let Ok(data) = std::fs::symlink_metadata(path) else { return };
    let mode = data.permissions().mode();
    if is_mine(&data) && !data.is_symlink() && mode & 0o077 != 0 {
        let _ = std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode & 0o700));
    }
}

/// Has all files and folders that are made from now on be readable for their user only, whatever the shell says.
pub fn make_private() {
    rustix::process::umask(rustix::fs::Mode::from_raw_mode(0o077));
    // Folders of older programs were open to all.
    [data_dir(), cache_dir(), state_dir()].iter().flatten().for_each(|folder| tighten(folder));
}

/// Makes a command the head of a group of processes of its own, so that all it starts can be stopped with it.
pub fn own_group(command: &mut Command) {
    std::os::unix::process::CommandExt::process_group(command, 0);
}

/// Stops this program until it is continued, as Ctrl-Z in a shell does.
pub fn suspend() {
    // Where the system does not stop it, it simply goes on.
    let _ = rustix::process::kill_current_process_group(Signal::TSTP);
}

/// Stops a process that [`own_group`] started, and all that it started itself.
pub fn stop_group(child: &Child) {
    if let Some(pid) = i32::try_from(child.id()).ok().and_then(Pid::from_raw) {
        // It may have ended meanwhile.
        let _ = kill_process_group(pid, Signal::KILL);
    }
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

/// Datagrams that the system threw away for a socket because they were not fetched in time; 0 if that is unknown.
///
/// Source: `/proc/net/udp`, whose second column is the local address in hexadecimal and whose last one counts drops.
pub fn lost_datagrams(socket: &std::net::UdpSocket) -> u64 {
    let Ok(address) = socket.local_addr() else { return 0 };
    let table = if address.is_ipv4() { "/proc/net/udp" } else { "/proc/net/udp6" };
    let port = format!(":{:04X}", address.port());
    let text = std::fs::read_to_string(table).unwrap_or_default();
    let rows =
        text.lines().skip(1).filter(|line| line.split_whitespace().nth(1).is_some_and(|local| local.ends_with(&port)));
    rows.filter_map(|line| line.split_whitespace().next_back()?.parse::<u64>().ok()).sum()
}

/// The name of this machine.
pub fn host_name() -> String {
    let name = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    let name = name.trim();
    if name.is_empty() { "here".to_owned() } else { name.to_owned() }
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

/// The folder for the program's own log: `$XDG_STATE_HOME/boxclock`.
pub fn state_dir() -> Option<PathBuf> {
    etcetera::base_strategy::Xdg::new()
        .ok()
        .and_then(|strategy| Some(etcetera::BaseStrategy::state_dir(&strategy)?.join("boxclock")))
}

/// Makes a folder that only its user can look into, if it is not there yet.
///
/// # Errors
/// As the system reports them.
pub fn private_folder(path: &Path) -> io::Result<()> {
    use std::os::unix::fs::DirBuilderExt;
    std::fs::DirBuilder::new().recursive(true).mode(0o700).create(path)
}

/// Has a new file be one that only its user can read.
pub fn private_file(options: &mut std::fs::OpenOptions) {
    use std::os::unix::fs::OpenOptionsExt;
    options.mode(0o600);
}

/// The folder for what can be made again (unpacked boxes): `$XDG_CACHE_HOME/boxclock`.
pub fn cache_dir() -> Option<PathBuf> {
    // Tests leave nothing in the folders of the person who runs them.
    if cfg!(test) {
        return Some(std::env::temp_dir().join(format!("boxclock-tests-{}", std::process::id())));
    }
    base(etcetera::BaseStrategy::cache_dir)
}

/// The texts of the `*.toml` in a folder of the user's, in order of name, each with its path: recipes, checks, rules.
pub fn toml_texts(folder: &Path) -> Vec<(String, io::Result<String>)> {
    let name = |path: &Path| path.display().to_string();
    let mut paths: Vec<PathBuf> = match std::fs::read_dir(folder) {
        Ok(entries) => entries.flatten().map(|entry| entry.path()).collect(),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Vec::new(),
        Err(error) => return vec![(name(folder), Err(error))],
    };
    paths.retain(|path| path.extension().is_some_and(|extension| extension == "toml"));
    paths.sort();
    paths.truncate(crate::limits::OWN_FILES);
    paths.into_iter().map(|path| (name(&path), read_small_text(&path).map_err(io::Error::other))).collect()
}

/// The folder for what people set: `$XDG_CONFIG_HOME/boxclock`.
pub fn config_dir() -> Option<PathBuf> {
    base(etcetera::BaseStrategy::config_dir)
}

/// Who uses the program, for what is written for others: `$BOXCLOCK_AUTHOR`, else the name of the user's account.
pub fn author() -> Option<String> {
    let name = |variable| std::env::var(variable).ok().filter(|name: &String| !name.trim().is_empty());
    ["BOXCLOCK_AUTHOR", "LOGNAME", "USER"].into_iter().find_map(name)
}
