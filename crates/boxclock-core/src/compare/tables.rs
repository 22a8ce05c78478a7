//! Lists and tables of which a line is no `name = value`: packages, files with their rights, mounts, jobs, hosts. Each row has the name of
//! what it is about as its key, so that a row put in between moves none of the others.

use std::sync::LazyLock;

use regex::Regex;

/// A form of rows: which groups are the key, and which the value, in that order.
struct Form {
    /// A word in the name of the file, where the form alone does not tell; none for all files.
    file: Option<&'static str>,
    pattern: &'static str,
    key: usize,
    value: &'static [usize],
}

/// The forms, from the manuals of the programs that print them.
const FORMS: [Form; 6] = [
    // Installed packages as the low-level manager lists them: state, name, version.
    Form {
        file: None,
        pattern: r"^([uirph][nicurUFHWt]R?)\s+([a-z0-9][a-z0-9+.-]+(?::[a-z0-9]+)?)\s+(\d\S*)(?:\s|$)",
        key: 2,
        value: &[3, 1],
    },
    // name-version-release.architecture
    Form {
        file: None,
        pattern: r"^([A-Za-z0-9][\w.+-]*?)-((?:\d+:)?\d[\w.~^+]*-\d[\w.~^+]*)\.(x86_64|noarch|i[3-6]86|aarch64|ppc64le|s390x|armv7hl|src)$",
        key: 1,
        value: &[2, 3],
    },
    // Files with their rights: what was written when, and how much, is none of it.
    Form {
        file: None,
        pattern: r"^([-dlbcps][-rwxsStT]{9}[.+@]?)\s+\d+\s+(\S+)\s+(\S+)\s+[\d,]+\s+(?:\w{3}\s+\d{1,2}\s+[\d:]{4,5}|\d{4}-\d\d-\d\d \d\d:\d\d(?::\S+ [+-]\d{4})?)\s+(/?\S.*)$",
        key: 4,
        value: &[1, 2, 3],
    },
    // What is mounted: device, folder, type, options.
    Form { file: None, pattern: r"^(\S+) on (/\S*) type (\S+) \((\S+)\)$", key: 2, value: &[1, 3, 4] },
    Form {
        file: Some("fstab"),
        pattern: r"^(\S+)\s+(/\S*|none|swap)\s+(\S+)\s+(\S+)(?:\s+\d+\s+\d+)?$",
        key: 2,
        value: &[1, 3, 4],
    },
    // Jobs: when, and what.
    Form {
        file: Some("cron"),
        pattern: r"^((?:[\d*/,-]+\s+){3}[\d*/,A-Za-z-]+\s+[\d*/,A-Za-z-]+|@\w+)\s+(\S.*)$",
        key: 2,
        value: &[1],
    },
];

static PATTERNS: LazyLock<Vec<Option<Regex>>> =
    LazyLock::new(|| FORMS.iter().map(|form| Regex::new(form.pattern).ok()).collect());

/// The rows of a line, each with key and value; none where it is of no table that is known. `file` is the name of its file.
pub(super) fn rows(file: &str, line: &str) -> Vec<(String, String)> {
    let name = file.rsplit('/').next().unwrap_or(file);
    if name == "hosts" {
        return hosts(line);
    }
    let known = FORMS.iter().zip(PATTERNS.iter()).filter(|(form, _)| form.file.is_none_or(|word| file.contains(word)));
    for (form, pattern) in known {
        let Some(found) = pattern.as_ref().and_then(|pattern| pattern.captures(line)) else { continue };
        let part = |group: usize| found.get(group).map_or("", |part| part.as_str()).trim();
        // "ii" is what is expected of a package.
        let values = form.value.iter().map(|group| part(*group)).filter(|value| *value != "ii");
        return vec![(part(form.key).to_owned(), values.collect::<Vec<_>>().join(" "))];
    }
    Vec::new()
}

/// Each name of a line of `/etc/hosts`, with its address.
fn hosts(line: &str) -> Vec<(String, String)> {
    let line = line.split('#').next().unwrap_or_default();
    let mut words = line.split_whitespace();
    let Some(address) = words.next().filter(|word| word.parse::<std::net::IpAddr>().is_ok()) else { return Vec::new() };
    words.map(|name| (name.to_owned(), address.to_owned())).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn row(file: &str, line: &str) -> String {
        rows(file, line).into_iter().map(|(key, value)| format!("{key} = {value}")).collect::<Vec<_>>().join("; ")
    }

    #[test]
    fn the_forms_compile() {
        assert!(PATTERNS.iter().all(Option::is_some));
    }

    #[test]
    fn rows_by_what_they_are_about() {
        for (file, line, expected) in [
            ("facts/packages.txt", "ii  bridge:amd64  2.0.0-1  amd64  the bridge", "bridge:amd64 = 2.0.0-1"),
            ("facts/packages.txt", "iF  bridge        2.0.0-1  amd64  the bridge", "bridge = 2.0.0-1 iF"),
            ("facts/rpm.txt", "kernel-core-5.14.0-70.22.1.el9.x86_64", "kernel-core = 5.14.0-70.22.1.el9 x86_64"),
            (
                "facts/ls.txt",
                "-rw-r----- 1 root dosing 1200 Apr 12 02:00 /etc/tw/key.pem",
                "/etc/tw/key.pem = -rw-r----- root dosing",
            ),
            (
                "facts/ls.txt",
                "drwxr-xr-x 2 dosing dosing 4096 2026-04-12 02:00 /srv/feed plans",
                "/srv/feed plans = drwxr-xr-x dosing dosing",
            ),
            ("facts/mount.txt", "/dev/sda2 on /srv type ext4 (rw,noexec)", "/srv = /dev/sda2 ext4 rw,noexec"),
            ("etc/fstab", "UUID=bb-2 /srv ext4 defaults,noexec 0 2", "/srv = UUID=bb-2 ext4 defaults,noexec"),
            ("etc/cron.d/feed", "0 2 * * 1-5 root /opt/feed/nightly", "root /opt/feed/nightly = 0 2 * * 1-5"),
            ("etc/cron.d/feed", "@reboot root /opt/feed/first", "root /opt/feed/first = @reboot"),
            ("etc/hosts", "10.0.0.9 dose-gw gw # the gateway", "dose-gw = 10.0.0.9; gw = 10.0.0.9"),
        ] {
            assert_eq!(row(file, line), expected, "{line}");
        }
    }

    #[test]
    fn settings_are_no_rows() {
        for (file, line) in [
            ("etc/tw.conf", "limit = 3"),
            ("etc/tw.conf", "UUID=bb-2 /srv ext4 defaults 0 2"),
            ("etc/tw.conf", "0 2 * * 1 root x"),
            ("etc/cron.d/feed", "SHELL=/bin/sh"),
            ("etc/hosts", "# no host"),
            ("etc/hosts", "nowhere dose-gw"),
            ("facts/packages.txt", "Desired=Unknown/Install/Remove/Purge/Hold"),
            ("facts/packages.txt", "||/ Name Version Architecture Description"),
        ] {
            assert_eq!(row(file, line), "", "{line}");
        }
    }
}
