//! Facts that the files of a system tell while it is not running: a mounted disk, an extracted archive.
//!
//! Sources: os-release(5); the status file of dpkg (deb822 stanzas) and the times of its lists; the PE/COFF specification
//! (`PE\0\0` at the offset that stands at 0x3C, time stamp 8 bytes behind it) and the version resource's
//! `VS_FIXEDFILEINFO` (signature 0xFEEF04BD, file version 8 bytes behind it) for the drivers of Windows.

use std::io::Read;
use std::path::Path;
use std::time::UNIX_EPOCH;

use serde_json::{Value, json};

use super::{Facts, certificates, mark_known_issuers, object};
use crate::clock::{SECOND, to_rfc3339};
use crate::{limits, platform};

/// Bytes of one file that are looked at.
const MOST_BYTES: u64 = 32 << 20;

/// Reads what the files below a root say; `None` where they say nothing.
pub(crate) fn of_root(root: &Path, now: i64) -> Option<Facts> {
    let mut facts = Facts::new("offline", now);
    let system = [linux_release(root), windows_release(root), macos_release(root)];
    facts.set("system", system.into_iter().find(|system| system["version"].is_string()).unwrap_or_default());
    facts.set("packages", dpkg_packages(root));
    facts.set("modules", windows_drivers(root));
    facts.set("certificates", root_certificates(root));
    facts.set("plug_ins", plug_ins(root));
    let marker = ["run/reboot-required", "var/run/reboot-required"].iter().any(|name| root.join(name).exists());
    let renames = below(root, &["Windows", "WinSxS", "pending.xml"]).is_some();
    if marker || renames {
        let reason = if marker { "run/reboot-required" } else { "Windows/WinSxS/pending.xml" };
        facts.set("restart", json!({ "needed": true, "reasons": [reason] }));
    }
    (!facts.facts.is_empty()).then_some(facts)
}

/// A path below a root, its names compared without regard to case.
fn below(root: &Path, names: &[&str]) -> Option<std::path::PathBuf> {
    names.iter().try_fold(root.to_path_buf(), |folder, name| {
        let plain = folder.join(name);
        if plain.exists() {
            return Some(plain);
        }
        let entries = std::fs::read_dir(&folder).ok()?.flatten();
        entries.take(limits::FILES).find(|entry| entry.file_name().eq_ignore_ascii_case(name)).map(|entry| entry.path())
    })
}

fn read(path: &Path) -> Option<Vec<u8>> {
    let mut bytes = Vec::new();
    platform::open_regular(path).ok()?.take(MOST_BYTES).read_to_end(&mut bytes).ok()?;
    Some(bytes)
}

fn linux_release(root: &Path) -> Value {
    let text = ["etc/os-release", "usr/lib/os-release"].iter().find_map(|name| read(&root.join(name)));
    let text = String::from_utf8_lossy(&text.unwrap_or_default()).into_owned();
    let get = |name: &str| {
        let line = text.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix('='))?;
        Some(line.trim_matches('"').to_owned())
    };
    object([("name", get("NAME").into()), ("version", get("VERSION_ID").into()), ("build", get("VERSION").into())])
}

/// The version of a Windows is that of its kernel's image: its registry is not read.
fn windows_release(root: &Path) -> Value {
    let kernel = below(root, &["Windows", "System32", "ntoskrnl.exe"]).and_then(|path| read(&path));
    let version = kernel.as_deref().and_then(pe_version);
    let build = version.as_deref().and_then(|version| version.splitn(3, '.').nth(2)).map(str::to_owned);
    object([("name", version.as_ref().map(|_| "Windows").into()), ("version", version.into()), ("build", build.into())])
}

/// `SystemVersion.plist`: keys and strings next to each other in XML.
fn macos_release(root: &Path) -> Value {
    let text = read(&root.join("System/Library/CoreServices/SystemVersion.plist")).unwrap_or_default();
    let text = String::from_utf8_lossy(&text).into_owned();
    let get = |key: &str| {
        let behind = text.split_once(&format!("<key>{key}</key>"))?.1.trim_start();
        Some(behind.strip_prefix("<string>")?.split_once("</string>")?.0.to_owned())
    };
    object([
        ("name", get("ProductName").into()),
        ("version", get("ProductVersion").into()),
        ("build", get("ProductBuildVersion").into()),
    ])
}

fn dpkg_packages(root: &Path) -> Value {
    let Some(status) = read(&root.join("var/lib/dpkg/status")) else { return Value::Null };
    let status = String::from_utf8_lossy(&status);
    let rows = status.split("\n\n").take(limits::FILES).filter_map(|stanza| {
        let get = |name: &str| stanza.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix(": "));
        let name = get("Package")?;
        let lists = [format!("{name}.list"), format!("{name}:{}.list", get("Architecture").unwrap_or_default())];
        let time = lists.iter().find_map(|list| {
            let data = std::fs::metadata(root.join("var/lib/dpkg/info").join(list)).ok()?;
            let since = data.modified().ok()?.duration_since(UNIX_EPOCH).ok()?;
            i64::try_from(since.as_nanos()).ok()
        });
        Some(object([
            ("name", name.into()),
            ("version", get("Version").into()),
            ("installed", time.map(to_rfc3339).into()),
            ("state", get("Status").filter(|state| *state != "install ok installed").into()),
        ]))
    });
    rows.collect()
}

fn windows_drivers(root: &Path) -> Value {
    let Some(folder) = below(root, &["Windows", "System32", "drivers"]) else { return Value::Null };
    let Ok(entries) = std::fs::read_dir(folder) else { return Value::Null };
    let mut rows: Vec<(String, Value)> = Vec::new();
    for entry in entries.flatten().take(10_000) {
        let name = entry.file_name().to_string_lossy().into_owned();
        if !name.to_ascii_lowercase().ends_with(".sys") {
            continue;
        }
        let Some(bytes) = read(&entry.path()) else { continue };
        let date = pe_time(&bytes).map(|seconds| to_rfc3339(seconds * SECOND));
        let version = pe_version(&bytes);
        let path = format!("Windows/System32/drivers/{name}");
        let row = object([
            ("name", name.clone().into()),
            ("version", version.into()),
            ("date", date.into()),
            ("path", path.into()),
        ]);
        rows.push((name, row));
    }
    rows.sort_by(|a, b| a.0.cmp(&b.0));
    rows.into_iter().map(|(_, row)| row).collect()
}

fn u32_at(bytes: &[u8], at: usize) -> Option<u32> {
    bytes.get(at..)?.first_chunk::<4>().map(|bytes| u32::from_le_bytes(*bytes))
}

/// Seconds since the epoch at which an image was linked. Reproducible builds write a hash there: one that lies before 1990 or
/// in the far future is none.
pub(super) fn pe_time(bytes: &[u8]) -> Option<i64> {
    let header = u32_at(bytes, 0x3C)? as usize;
    if !bytes.starts_with(b"MZ") || bytes.get(header..)?.get(..4)? != b"PE\0\0" {
        return None;
    }
    let seconds = i64::from(u32_at(bytes, header.checked_add(8)?)?);
    (631_152_000..2_208_988_800).contains(&seconds).then_some(seconds)
}

/// The file version of an image's version resource.
pub(super) fn pe_version(bytes: &[u8]) -> Option<String> {
    let at = memchr::memmem::find(bytes, &0xFEEF_04BD_u32.to_le_bytes())?;
    let (high, low) = (u32_at(bytes, at + 8)?, u32_at(bytes, at + 12)?);
    Some(format!("{}.{}.{}.{}", high >> 16, high & 0xFFFF, low >> 16, low & 0xFFFF))
}

fn root_certificates(root: &Path) -> Value {
    const FOLDERS: [&str; 4] = ["etc/nginx", "etc/ssl", "etc/pki/tls/certs", "etc/nginx/ssl"];
    let mut found = Vec::new();
    for folder in FOLDERS {
        let Ok(entries) = std::fs::read_dir(root.join(folder)) else { continue };
        let mut paths: Vec<_> = entries.flatten().take(1000).map(|entry| entry.path()).collect();
        paths.sort();
        for path in paths {
            if path.extension().is_some_and(|extension| extension == "pem" || extension == "crt")
                && let Some(bytes) = read(&path)
            {
                let name = path.strip_prefix(root).unwrap_or(&path).to_string_lossy().into_owned();
                found.extend(certificates(&name, &bytes));
            }
        }
    }
    let store = ["etc/ssl/certs/ca-certificates.crt", "etc/pki/tls/certs/ca-bundle.crt", "etc/ssl/ca-bundle.pem"];
    let store = store.iter().find_map(|name| read(&root.join(name)));
    mark_known_issuers(&mut found, &certificates("", &store.unwrap_or_default()));
    found.into()
}

/// Plug-ins of applications, where they usually lie.
fn plug_ins(root: &Path) -> Value {
    let mut rows = Vec::new();
    for folder in ["opt", "srv", "Program Files", "Program Files (x86)", "ProgramData"] {
        let Some(folder) = below(root, &[folder]) else { continue };
        for application in std::fs::read_dir(folder).into_iter().flatten().flatten().take(1000) {
            let Some(plug_ins) = below(&application.path(), &["plugins"]) else { continue };
            for entry in std::fs::read_dir(plug_ins).into_iter().flatten().flatten().take(1000) {
                let path = entry.path();
                let Some(bytes) = path.is_file().then(|| read(&path)).flatten() else { continue };
                let name = entry.file_name().to_string_lossy().into_owned();
                let shown = path.strip_prefix(root).unwrap_or(&path).to_string_lossy().into_owned();
                rows.push(object([
                    ("name", name.into()),
                    ("path", shown.into()),
                    ("version", pe_version(&bytes).into()),
                    ("date", pe_time(&bytes).map(|seconds| to_rfc3339(seconds * SECOND)).into()),
                ]));
            }
        }
    }
    rows.sort_by_key(|row| row["path"].as_str().unwrap_or_default().to_owned());
    rows.into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn drivers_have_dates_and_versions() {
        // By hand from the specifications: MZ, the offset of the header at 0x3C, PE, machine, sections, time stamp.
        let mut image = vec![0; 0x100];
        image[..2].copy_from_slice(b"MZ");
        image[0x3C] = 0x80;
        image[0x80..0x84].copy_from_slice(b"PE\0\0");
        image[0x88..0x8C].copy_from_slice(&1_458_000_000_u32.to_le_bytes());
        image[0xC0..0xC4].copy_from_slice(&0xFEEF_04BD_u32.to_le_bytes());
        image[0xC8..0xCC].copy_from_slice(&0x0002_0003_u32.to_le_bytes());
        image[0xCC..0xD0].copy_from_slice(&0x0004_0005_u32.to_le_bytes());
        let root = tempfile::tempdir().unwrap();
        let folder = root.path().join("WINDOWS/system32/Drivers");
        std::fs::create_dir_all(&folder).unwrap();
        std::fs::write(folder.join("Bridge.SYS"), &image).unwrap();
        std::fs::write(folder.join("cut.sys"), &image[..0x3E]).unwrap();
        let facts = of_root(root.path(), 0).unwrap();
        assert_eq!(
            facts.facts["modules"],
            json!([
                {"name": "Bridge.SYS", "version": "2.3.4.5", "date": "2016-03-15T00:00:00.000000000Z", "path": "Windows/System32/drivers/Bridge.SYS"},
                {"name": "cut.sys", "path": "Windows/System32/drivers/cut.sys"}
            ])
        );
    }

    #[test]
    fn versions_of_other_systems() {
        let root = tempfile::tempdir().unwrap();
        let folder = root.path().join("System/Library/CoreServices");
        std::fs::create_dir_all(&folder).unwrap();
        let plist = "<plist><dict><key>ProductBuildVersion</key>\n\t<string>23F79</string>\n<key>ProductName</key>\
            <string>macOS</string><key>ProductVersion</key><string>14.5</string></dict></plist>";
        std::fs::write(folder.join("SystemVersion.plist"), plist).unwrap();
        let facts = of_root(root.path(), 0).unwrap();
        assert_eq!(facts.facts["system"], json!({"name": "macOS", "version": "14.5", "build": "23F79"}));
        let root = tempfile::tempdir().unwrap();
        let folder = root.path().join("windows/SYSTEM32");
        std::fs::create_dir_all(&folder).unwrap();
        let mut image = vec![0; 0x100];
        image[0xC0..0xC4].copy_from_slice(&0xFEEF_04BD_u32.to_le_bytes());
        image[0xC8..0xCC].copy_from_slice(&0x000A_0000_u32.to_le_bytes());
        image[0xCC..0xD0].copy_from_slice(&0x4A61_0539_u32.to_le_bytes());
        std::fs::write(folder.join("NTOSKRNL.EXE"), image).unwrap();
        let facts = of_root(root.path(), 0).unwrap();
        assert_eq!(
            facts.facts["system"],
            json!({"name": "Windows", "version": "10.0.19041.1337", "build": "19041.1337"})
        );
    }

    #[test]
    fn plug_ins_of_a_root() {
        let root = tempfile::tempdir().unwrap();
        let folder = root.path().join("Program Files/Tankwarden/Plugins");
        std::fs::create_dir_all(&folder).unwrap();
        std::fs::write(folder.join("kelp.dll"), "MZ").unwrap();
        let facts = of_root(root.path(), 0).unwrap();
        assert_eq!(
            facts.facts["plug_ins"],
            json!([{"name": "kelp.dll", "path": "Program Files/Tankwarden/Plugins/kelp.dll"}])
        );
    }

    #[test]
    fn packages_of_a_root() {
        let root = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(root.path().join("var/lib/dpkg/info")).unwrap();
        let status = "Package: dosingd\nStatus: install ok installed\nVersion: 4.2-1\n\nPackage: half\nStatus: install ok half-configured\nVersion: 1\n";
        std::fs::write(root.path().join("var/lib/dpkg/status"), status).unwrap();
        std::fs::write(root.path().join("var/lib/dpkg/info/dosingd.list"), "/.\n").unwrap();
        let facts = of_root(root.path(), 0).unwrap();
        assert_eq!(facts.facts["packages"][0]["version"], "4.2-1");
        assert!(facts.facts["packages"][0]["installed"].is_string());
        assert_eq!(facts.facts["packages"][1]["state"], "install ok half-configured");
        assert_eq!(of_root(Path::new("/no/such/root"), 0), None);
    }
}
