//! Facts of a running Linux host: one script for its shell, and what is made of its output.
//!
//! The script needs a POSIX shell and asks only what is there; each part starts with a line `=== NAME`. It changes nothing.

use std::collections::BTreeMap;

use serde_json::{Value, json};

use super::{Facts, certificates, mark_known_issuers, object};
use crate::clock::{SECOND, to_rfc3339};

/// What is asked of a running host.
pub(crate) const SCRIPT: &str = r#"LC_ALL=C; export LC_ALL
has() { command -v "$1" >/dev/null 2>&1; }
echo '=== release'; cat /etc/os-release 2>/dev/null
echo '=== kernel'; uname -s; uname -r; uname -v; uname -m
echo '=== uptime'; cat /proc/uptime 2>/dev/null
echo '=== boot'; grep btime /proc/stat 2>/dev/null
echo '=== now'; date -u +%s
echo '=== memory'; cat /proc/meminfo 2>/dev/null
echo '=== disks'; df -P -k 2>/dev/null
echo '=== inodes'; df -P -i 2>/dev/null
echo '=== modules'; cat /proc/modules 2>/dev/null
echo '=== module-versions'; for f in /sys/module/*/version; do [ -f "$f" ] && echo "$f $(cat "$f")"; done
echo '=== module-files'; r=$(uname -r); [ -d "/lib/modules/$r" ] && cut -d' ' -f1 /proc/modules 2>/dev/null | while read -r m; do f=$(has modinfo && modinfo -n "$m" 2>/dev/null) && [ -f "$f" ] && stat -c "%Y $m %n" "$f"; done
echo '=== packages'
if has dpkg-query; then dpkg-query -W -f '${Package}\t${Version}\t${db:Status-Abbrev}\n'; fi
if has rpm; then rpm -qa --qf '%{NAME}\t%{VERSION}-%{RELEASE}\tii\t%{INSTALLTIME}\n' 2>/dev/null; fi
echo '=== installed'; stat -c '%Y %n' /var/lib/dpkg/info/*.list 2>/dev/null
echo '=== services'; has systemctl && systemctl list-units --type=service --all --plain --no-legend --no-pager 2>/dev/null
echo '=== processes'; ps -eo pid=,comm= 2>/dev/null
echo '=== timedatectl'; has timedatectl && timedatectl show 2>/dev/null
echo '=== chrony'; has chronyc && chronyc -n tracking 2>/dev/null
echo '=== limits'; for f in fs/file-nr fs/file-max kernel/pid_max vm/max_map_count net/core/somaxconn; do [ -f "/proc/sys/$f" ] && echo "$f $(cat /proc/sys/$f)"; done
for p in /proc/sys/kernel/threads-max; do [ -f "$p" ] && echo "kernel/threads-max $(cat $p)"; done
echo '=== dumps'; [ -f /proc/sys/kernel/core_pattern ] && echo "pattern $(cat /proc/sys/kernel/core_pattern)"; grep '^Max core file size' /proc/1/limits 2>/dev/null; has systemctl && systemctl show --property=DefaultLimitCORE 2>/dev/null
echo '=== plug-ins'; for f in /usr/lib/nginx/modules/*.so /usr/lib/*/nginx/modules/*.so /usr/lib/apache2/modules/*.so /usr/lib/postgresql/*/lib/*.so /usr/lib/*/rsyslog/*.so /opt/*/plugins/* /srv/*/plugins/* /var/lib/*/plugins/*; do [ -f "$f" ] && stat -c '%Y %n' "$f"; done
echo '=== plug-in-owners'; if has dpkg-query; then echo asked; dpkg-query -S /usr/lib/nginx/modules/*.so /usr/lib/*/nginx/modules/*.so /usr/lib/apache2/modules/*.so /usr/lib/postgresql/*/lib/*.so /usr/lib/*/rsyslog/*.so 2>/dev/null; fi
echo '=== trust-store'; for f in /etc/ssl/certs/ca-certificates.crt /etc/pki/tls/certs/ca-bundle.crt /etc/ssl/ca-bundle.pem; do [ -f "$f" ] && cat "$f" && break; done
echo '=== restart'; [ -e /run/reboot-required ] && cat /run/reboot-required /run/reboot-required.pkgs 2>/dev/null
has needs-restarting && needs-restarting -r 2>/dev/null | grep -i 'reboot is required'
for f in /etc/nginx/*.crt /etc/nginx/*.pem /etc/nginx/*/*.crt /etc/nginx/*/*.pem /etc/ssl/*.pem /etc/ssl/*.crt /etc/letsencrypt/live/*/cert.pem /etc/pki/tls/certs/localhost.crt /opt/*/conf/*.crt /opt/*/conf/*.pem /srv/*/conf/*.crt /srv/*/conf/*.pem; do
  if [ -f "$f" ] && [ -r "$f" ]; then
    echo "=== certificate $f"
    sed -n '/-----BEGIN CERTIFICATE-----/,/-----END CERTIFICATE-----/p' "$f"
  fi
done
exit 0
"#;

/// Makes facts of the script's output.
pub fn parse(output: &str, now: i64) -> Facts {
    let mut parts: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    let mut part = "";
    for line in output.lines() {
        match line.strip_prefix("=== ") {
            Some(name) => part = name,
            None => parts.entry(part).or_default().push(line),
        }
    }
    let lines = |name: &str| parts.get(name).map_or(&[][..], Vec::as_slice);
    let mut facts = Facts::new("live", now);
    let release = pairs(lines("release"), '=');
    let get = |name: &str| release.get(name).map(|text| text.trim_matches('"').to_owned());
    let kernel = lines("kernel");
    let kernel_line = |index: usize| kernel.get(index).map(|line| (*line).to_owned());
    facts.set(
        "system",
        object([
            ("name", get("NAME").into()),
            ("version", get("VERSION_ID").into()),
            ("build", get("BUILD_ID").or_else(|| get("VERSION")).into()),
            ("kernel", kernel_line(1).into()),
            ("kernel_build", kernel_line(2).into()),
            ("architecture", kernel_line(3).into()),
        ]),
    );
    let uptime = lines("uptime").first().and_then(|line| line.split(' ').next()?.parse::<f64>().ok());
    let boot = lines("boot").first().and_then(|line| line.strip_prefix("btime ")?.trim().parse::<i64>().ok());
    facts.set(
        "boot",
        object([
            ("started", boot.and_then(|at| at.checked_mul(SECOND)).map(to_rfc3339).into()),
            ("uptime_s", uptime.into()),
        ]),
    );
    let memory = pairs(lines("memory"), ':');
    let bytes = |name: &str| -> Value {
        let kib = memory.get(name).and_then(|text| text.split_whitespace().next()?.parse::<u64>().ok());
        kib.and_then(|kib| kib.checked_mul(1024)).into()
    };
    facts.set(
        "memory",
        object([
            ("total_bytes", bytes("MemTotal")),
            ("available_bytes", bytes("MemAvailable")),
            ("swap_total_bytes", bytes("SwapTotal")),
            ("swap_free_bytes", bytes("SwapFree")),
        ]),
    );
    facts.set("volumes", volumes(lines("disks"), lines("inodes")));
    facts.set("modules", modules(lines("modules"), lines("module-versions"), lines("module-files")));
    facts.set("plug_ins", plug_ins(lines("plug-ins"), lines("plug-in-owners")));
    facts.set("packages", packages(lines("packages"), lines("installed")));
    facts.set("services", services(lines("services")));
    facts.set("processes", processes(lines("processes")));
    facts.set("time", time_service(lines("timedatectl"), lines("chrony")));
    let limits = lines("limits").iter().filter_map(|line| {
        let (name, value) = line.split_once(' ')?;
        let number = value.split_whitespace().next_back()?.parse::<u64>().ok()?;
        let used = (name == "fs/file-nr").then(|| value.split_whitespace().next()?.parse::<u64>().ok()).flatten();
        Some(object([("name", name.replace('/', ".").into()), ("value", number.into()), ("used", used.into())]))
    });
    facts.set("limits", limits.collect());
    facts.set("dumps", dumps(lines("dumps")));
    let reasons: Vec<&str> = lines("restart").iter().copied().filter(|line| !line.is_empty()).collect();
    facts.set("restart", json!({ "needed": !reasons.is_empty(), "reasons": reasons }));
    let found = parts.iter().filter_map(|(name, lines)| Some((name.strip_prefix("certificate ")?, lines)));
    let mut found: Vec<Value> =
        found.flat_map(|(path, lines)| certificates(path, lines.join("\n").as_bytes())).collect();
    mark_known_issuers(&mut found, &certificates("", lines("trust-store").join("\n").as_bytes()));
    facts.set("certificates", found.into());
    facts
}

/// Where cores of processes go, and how large they may be: `core_pattern` of proc(5), the limit of the first process, which services
/// inherit, and the service manager's own default.
fn dumps(lines: &[&str]) -> Value {
    let pattern = lines.iter().find_map(|line| line.strip_prefix("pattern ")).map(str::trim);
    let limit = lines.iter().find_map(|line| line.strip_prefix("Max core file size")?.split_whitespace().next());
    let service = lines.iter().find_map(|line| line.strip_prefix("DefaultLimitCORE=")).map(str::trim);
    object([("core_pattern", pattern.into()), ("core_limit", limit.into()), ("service_core_limit", service.into())])
}

fn pairs<'l>(lines: &[&'l str], between: char) -> BTreeMap<&'l str, &'l str> {
    lines.iter().filter_map(|line| line.split_once(between)).map(|(name, value)| (name.trim(), value.trim())).collect()
}

/// `df -P`: device, blocks, used, available, capacity, mount point (which may hold spaces).
fn table<'l>(lines: &[&'l str]) -> Vec<(&'l str, [u64; 3], String)> {
    let rows = lines.iter().skip(1).filter_map(|line| {
        let mut words = line.split_whitespace();
        let device = words.next()?;
        let mut number = || words.next()?.parse::<u64>().ok();
        let numbers = [number()?, number()?, number()?];
        let mount = words.skip(1).collect::<Vec<_>>().join(" ");
        Some((device, numbers, mount))
    });
    rows.collect()
}

fn volumes(disks: &[&str], inodes: &[&str]) -> Value {
    let percent = |[_, used, free]: [u64; 3]| {
        let all = used.saturating_add(free);
        (all > 0).then(|| (used as f64 * 1000.0 / all as f64).round() / 10.0)
    };
    let inodes = table(inodes);
    let rows = table(disks).into_iter().filter(|(_, [size, ..], _)| *size > 0).map(|(device, numbers, mount)| {
        let inodes = inodes.iter().find(|(_, _, other)| *other == mount).and_then(|(_, numbers, _)| percent(*numbers));
        object([
            ("mount", mount.into()),
            ("device", device.into()),
            ("size_bytes", numbers[0].saturating_mul(1024).into()),
            ("used_bytes", numbers[1].saturating_mul(1024).into()),
            ("free_bytes", numbers[2].saturating_mul(1024).into()),
            ("used_percent", percent(numbers).into()),
            ("inodes_used_percent", inodes.into()),
        ])
    });
    rows.collect()
}

/// `/proc/modules`: name, size, users, …, and in parentheses what taints the kernel.
fn modules(lines: &[&str], versions: &[&str], files: &[&str]) -> Value {
    let files: BTreeMap<&str, (i64, &str)> = files
        .iter()
        .filter_map(|line| {
            let mut parts = line.splitn(3, ' ');
            let time = parts.next()?.parse::<i64>().ok()?.checked_mul(SECOND)?;
            Some((parts.next()?, (time, parts.next()?)))
        })
        .collect();
    let versions: BTreeMap<&str, &str> = versions
        .iter()
        .filter_map(|line| {
            let (path, version) = line.split_once(' ')?;
            Some((path.strip_prefix("/sys/module/")?.strip_suffix("/version")?, version))
        })
        .collect();
    let rows = lines.iter().filter_map(|line| {
        let name = line.split(' ').next()?;
        let taint = line.rsplit_once(" (").map(|(_, taint)| taint.trim_end_matches(')').to_owned());
        Some(object([
            ("name", name.into()),
            ("version", versions.get(name).map(|version| (*version).to_owned()).into()),
            ("taint", taint.into()),
            // The file's own time: a module carries no date inside.
            ("file_date", files.get(name).map(|(time, _)| to_rfc3339(*time)).into()),
            ("path", files.get(name).map(|(_, path)| (*path).to_owned()).into()),
        ]))
    });
    rows.collect()
}

/// Plug-ins of applications, with the package that brought each, or `none` where the package manager knows none.
fn plug_ins(lines: &[&str], owners: &[&str]) -> Value {
    let asked = owners.first() == Some(&"asked");
    let owners: BTreeMap<&str, &str> =
        owners.iter().filter_map(|line| line.split_once(": ")).map(|(package, path)| (path.trim(), package)).collect();
    let rows = lines.iter().filter_map(|line| {
        let (time, path) = line.split_once(' ')?;
        let owner = owners.get(path).copied().or(asked.then_some("none"));
        Some(object([
            ("name", path.rsplit('/').next()?.into()),
            ("path", path.into()),
            ("date", time.parse::<i64>().ok().and_then(|time| time.checked_mul(SECOND)).map(to_rfc3339).into()),
            ("package", owner.map(str::to_owned).into()),
        ]))
    });
    rows.collect()
}

fn packages(lines: &[&str], installed: &[&str]) -> Value {
    let times: BTreeMap<&str, i64> = installed
        .iter()
        .filter_map(|line| {
            let (time, path) = line.split_once(' ')?;
            let name = path.rsplit('/').next()?.strip_suffix(".list")?;
            Some((name.split(':').next()?, time.parse().ok()?))
        })
        .collect();
    let rows = lines.iter().filter_map(|line| {
        let mut parts = line.split('\t');
        let (name, version, state) = (parts.next()?, parts.next()?, parts.next()?);
        let time = parts.next().and_then(|time| time.trim().parse::<i64>().ok()).or_else(|| times.get(name).copied());
        Some(object([
            ("name", name.into()),
            ("version", version.into()),
            ("installed", time.and_then(|time| time.checked_mul(SECOND)).map(to_rfc3339).into()),
            // `ii` is wanted and installed; anything else is half done or removed.
            ("state", Some(state.trim()).filter(|state| *state != "ii").into()),
        ]))
    });
    rows.collect()
}

fn services(lines: &[&str]) -> Value {
    let rows = lines.iter().filter_map(|line| {
        let mut words = line.split_whitespace();
        let (name, loaded, active, sub) = (words.next()?, words.next()?, words.next()?, words.next()?);
        Some(object([
            ("name", name.into()),
            ("loaded", loaded.into()),
            ("active", active.into()),
            ("state", sub.into()),
            ("about", words.collect::<Vec<_>>().join(" ").into()),
        ]))
    });
    rows.collect()
}

/// Processes by name, with how many of each there are.
fn processes(lines: &[&str]) -> Value {
    let mut by_name: BTreeMap<&str, Vec<u64>> = BTreeMap::new();
    for line in lines {
        if let Some((pid, name)) = line.trim().split_once(' ')
            && let Ok(pid) = pid.parse()
        {
            by_name.entry(name.trim()).or_default().push(pid);
        }
    }
    let rows = by_name.into_iter().map(|(name, pids)| {
        object([("name", name.into()), ("count", pids.len().into()), ("pids", pids.into_iter().take(20).collect())])
    });
    rows.collect()
}

fn time_service(timedatectl: &[&str], chrony: &[&str]) -> Value {
    let pairs_of = pairs(timedatectl, '=');
    let chrony = pairs(chrony, ':');
    let yes = |name: &str| pairs_of.get(name).map(|value| *value == "yes");
    let stratum = chrony.get("Leap status").map(|status| *status == "Normal");
    let offset = chrony.get("System time").and_then(|text| {
        let seconds = text.split(' ').next()?.parse::<f64>().ok()?;
        Some(if text.contains("slow") { seconds } else { -seconds })
    });
    object([
        ("zone", pairs_of.get("Timezone").map(|zone| (*zone).to_owned()).into()),
        ("service_on", yes("NTP").into()),
        ("in_step", yes("NTPSynchronized").or(stratum).into()),
        ("behind_s", offset.into()),
    ])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_host_says() {
        let output = "=== release\nNAME=\"Saltmere Linux\"\nVERSION_ID=\"12\"\n=== kernel\nLinux\n6.1.0\n#1 SMP\nx86_64\n\
            === uptime\n93784.53 180000.00\n=== boot\nbtime 1775860083\n=== memory\nMemTotal:  2048000 kB\nMemAvailable: 512 kB\n\
            === disks\nFilesystem 1024-blocks Used Available Capacity Mounted on\n/dev/vda1 1000 960 40 96% /srv/tank data\n\
            === inodes\nFilesystem Inodes IUsed IFree IUse% Mounted on\n/dev/vda1 100 10 90 10% /srv/tank data\n\
            === modules\nbridge 4096 2 - Live 0x0 (OE)\nloop 4096 0 - Live 0x0\n=== module-versions\n/sys/module/bridge/version 2.3\n\
            === plug-ins\n1775953867 /opt/tankwarden/plugins/kelp.so\n1775953867 /usr/lib/nginx/modules/geo.so\n\
            === plug-in-owners\nasked\nnginx-geo: /usr/lib/nginx/modules/geo.so\n\
            === module-files\n1775953867 bridge /lib/modules/6.1.0/bridge.ko\n=== packages\ndosingd\t4.2-1\tii \nold\t1.0\trc \n=== installed\n1775953867 /var/lib/dpkg/info/dosingd.list\n\
            === processes\n  1 init\n 12 dosingd\n 14 dosingd\n=== timedatectl\nTimezone=Europe/Lisbon\nNTP=yes\nNTPSynchronized=no\n\
            === limits\nfs/file-nr 100 0 2000\n=== restart\n*** System restart required ***\n";
        let facts = parse(output, 1_775_973_600 * SECOND).facts;
        assert_eq!(
            facts["system"],
            json!({"name": "Saltmere Linux", "version": "12", "kernel": "6.1.0", "kernel_build": "#1 SMP", "architecture": "x86_64"})
        );
        assert_eq!(facts["boot"], json!({"started": "2026-04-10T22:28:03.000000000Z", "uptime_s": 93784.53}));
        assert_eq!(facts["memory"], json!({"total_bytes": 2_097_152_000_u64, "available_bytes": 524_288}));
        assert_eq!(facts["volumes"][0]["mount"], "/srv/tank data");
        assert_eq!(facts["volumes"][0]["used_percent"], 96.0);
        assert_eq!(facts["volumes"][0]["inodes_used_percent"], 10.0);
        assert_eq!(
            facts["modules"],
            json!([{"name": "bridge", "version": "2.3", "taint": "OE", "file_date": "2026-04-12T00:31:07.000000000Z",
                "path": "/lib/modules/6.1.0/bridge.ko"}, {"name": "loop"}])
        );
        assert_eq!(
            facts["packages"][0],
            json!({"name": "dosingd", "version": "4.2-1", "installed": "2026-04-12T00:31:07.000000000Z"})
        );
        assert_eq!(facts["packages"][1]["state"], "rc");
        assert_eq!(facts["plug_ins"][0]["package"], "none");
        assert_eq!(facts["plug_ins"][1]["package"], "nginx-geo");
        assert_eq!(facts["processes"][0], json!({"name": "dosingd", "count": 2, "pids": [12, 14]}));
        assert_eq!(facts["time"], json!({"zone": "Europe/Lisbon", "service_on": true, "in_step": false}));
        assert_eq!(facts["limits"], json!([{"name": "fs.file-nr", "value": 2000, "used": 100}]));
        assert_eq!(facts["restart"], json!({"needed": true, "reasons": ["*** System restart required ***"]}));
    }

    #[test]
    fn any_output_gives_facts() {
        use proptest::prelude::*;
        let words = [
            "=== disks",
            "=== packages",
            "=== modules",
            "1 2 3",
            "a\tb",
            "\t\t\t",
            "-1",
            "99999999999999999999",
            "=== now",
            " ",
        ];
        proptest!(|(picks in proptest::collection::vec((0..words.len(), "\\PC{0,20}"), 0..30))| {
            let text: String = picks.iter().map(|(word, rest)| format!("{}{rest}\n", words[*word])).collect::<Vec<_>>().concat();
            parse(&text, 0);
        });
    }
}
