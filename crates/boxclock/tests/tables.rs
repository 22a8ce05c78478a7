//! Tables: codes by published lists, pairs of settings with what is different, things with their way.

mod common;

use common::Home;
use serde_json::Value;

/// A code, the system that it is from, its name and its family, by the lists that their makers publish.
const CODES: [(&str, &str, &str, &str); 62] = [
    ("0x80070005", "windows", "E_ACCESSDENIED", "hresult"),
    ("0x80070002", "windows", "ERROR_FILE_NOT_FOUND", "hresult"),
    ("0x80070643", "windows", "ERROR_INSTALL_FAILURE", "hresult"),
    ("0x80004005", "windows", "E_FAIL", "hresult"),
    ("0x8007000E", "windows", "E_OUTOFMEMORY", "hresult"),
    ("0x80070070", "windows", "ERROR_DISK_FULL", "hresult"),
    ("0x80072EE7", "windows", "ERROR_INTERNET_NAME_NOT_RESOLVED", "hresult"),
    ("0x800B0109", "windows", "CERT_E_UNTRUSTEDROOT", "hresult"),
    ("0x80096010", "windows", "TRUST_E_BAD_DIGEST", "hresult"),
    ("0x80240022", "windows", "WU_E_ALL_UPDATES_FAILED", "hresult"),
    ("0xC0000005", "windows", "STATUS_ACCESS_VIOLATION", "ntstatus"),
    ("0xC0000017", "windows", "STATUS_NO_MEMORY", "ntstatus"),
    ("0xC000021A", "windows", "STATUS_SYSTEM_PROCESS_TERMINATED", "ntstatus"),
    ("0xC0000135", "windows", "STATUS_DLL_NOT_FOUND", "ntstatus"),
    ("0xC00000FD", "windows", "STATUS_STACK_OVERFLOW", "ntstatus"),
    ("5", "windows", "ERROR_ACCESS_DENIED", "win32"),
    ("2", "windows", "ERROR_FILE_NOT_FOUND", "win32"),
    ("32", "windows", "ERROR_SHARING_VIOLATION", "win32"),
    ("1053", "windows", "ERROR_SERVICE_REQUEST_TIMEOUT", "win32"),
    ("1058", "windows", "ERROR_SERVICE_DISABLED", "win32"),
    ("1067", "windows", "ERROR_PROCESS_ABORTED", "win32"),
    ("1219", "windows", "ERROR_SESSION_CREDENTIAL_CONFLICT", "win32"),
    ("1326", "windows", "ERROR_LOGON_FAILURE", "win32"),
    ("1603", "windows", "ERROR_INSTALL_FAILURE", "win32"),
    ("1618", "windows", "ERROR_INSTALL_ALREADY_RUNNING", "win32"),
    ("1722", "windows", "RPC_S_SERVER_UNAVAILABLE", "win32"),
    ("3010", "windows", "ERROR_SUCCESS_REBOOT_REQUIRED", "win32"),
    ("10060", "windows", "WSAETIMEDOUT", "win32"),
    ("10061", "windows", "WSAECONNREFUSED", "win32"),
    ("11001", "windows", "WSAHOST_NOT_FOUND", "win32"),
    ("1", "linux", "EPERM", "errno"),
    ("2", "linux", "ENOENT", "errno"),
    ("5", "linux", "EIO", "errno"),
    ("12", "linux", "ENOMEM", "errno"),
    ("13", "linux", "EACCES", "errno"),
    ("17", "linux", "EEXIST", "errno"),
    ("24", "linux", "EMFILE", "errno"),
    ("28", "linux", "ENOSPC", "errno"),
    ("30", "linux", "EROFS", "errno"),
    ("32", "linux", "EPIPE", "errno"),
    ("98", "linux", "EADDRINUSE", "errno"),
    ("104", "linux", "ECONNRESET", "errno"),
    ("110", "linux", "ETIMEDOUT", "errno"),
    ("111", "linux", "ECONNREFUSED", "errno"),
    ("113", "linux", "EHOSTUNREACH", "errno"),
    ("122", "linux", "EDQUOT", "errno"),
    ("ENOSPC", "linux", "ENOSPC", "errno"),
    ("EADDRINUSE", "linux", "EADDRINUSE", "errno"),
    ("ECONNRESET", "linux", "ECONNRESET", "errno"),
    ("SIGSEGV", "linux", "SIGSEGV", "signal"),
    ("SIGKILL", "linux", "SIGKILL", "signal"),
    ("42P01", "linux", "undefined_table", "sqlstate"),
    ("40P01", "linux", "deadlock_detected", "sqlstate"),
    ("ORA-00942", "linux", "ORA-00942", "oracle"),
    ("0x0000007E", "windows", "ERROR_MOD_NOT_FOUND", "win32"),
    ("0x000000D1", "windows", "ERROR_INVALID_SIGNAL_NUMBER", "win32"),
    ("0x0000003B", "windows", "ERROR_UNEXP_NET_ERR", "win32"),
    ("STATUS_ACCESS_VIOLATION", "windows", "STATUS_ACCESS_VIOLATION", "ntstatus"),
    ("ERROR_SHARING_VIOLATION", "windows", "ERROR_SHARING_VIOLATION", "win32"),
    ("E_FAIL", "windows", "E_FAIL", "hresult"),
    ("CERT_E_EXPIRED", "windows", "CERT_E_EXPIRED", "hresult"),
    ("WSAECONNREFUSED", "windows", "WSAECONNREFUSED", "win32"),
];

#[test]
fn codes_have_the_names_of_their_makers() {
    let home = Home::new();
    for system in ["windows", "linux"] {
        let of_system: Vec<_> = CODES.iter().filter(|(_, of, ..)| *of == system).collect();
        for (code, _, name, family) in of_system {
            let found = home.run(&["code", code, "--os", system, "--as", "jsonl"]).json();
            assert_eq!(
                (&found[0]["name"], &found[0]["family"]),
                (&Value::from(*name), &Value::from(*family)),
                "{code}"
            );
        }
    }
}

#[test]
fn a_code_is_the_same_in_all_its_writings() {
    let home = Home::new();
    for (code, system, name, family) in
        CODES.iter().filter(|(code, ..)| code.starts_with("0x8") || code.starts_with("0xC"))
    {
        let number = u32::from_str_radix(&code[2..], 16).unwrap();
        for writing in
            [number.to_string(), number.cast_signed().to_string(), code.to_lowercase(), format!("{number:#010X}")]
        {
            let found = home.run(&["code", &writing, "--os", system, "--as", "jsonl"]).json();
            let named = found.iter().find(|one| one["family"] == *family);
            assert_eq!(named.map(|one| &one["name"]), Some(&Value::from(*name)), "{code} as {writing}: {found:#?}");
        }
    }
}

/// Settings of a bad and a good side, and what is said first of them.
struct Pair {
    file: &'static str,
    bad: &'static str,
    good: &'static str,
    kind: &'static str,
    what: &'static str,
}

const PAIRS: [Pair; 20] = [
    Pair {
        file: "pump-ctl/etc/cron.d/feed",
        bad: "SHELL=/bin/sh\n0 2 * * * root /opt/feed/nightly\n30 5 * * 1 root /opt/feed/weekly\n",
        good: "SHELL=/bin/sh\n0 3 * * * root /opt/feed/nightly\n30 5 * * 1 root /opt/feed/weekly\n",
        kind: "value",
        what: "root /opt/feed/nightly is 0 2 * * *, and was 0 3 * * *",
    },
    Pair {
        file: "pump-ctl/facts/packages.txt",
        bad: "ii  libalpha1:amd64  1.0-1  amd64  a library\nii  bridge  1.4.0-1  amd64  the bridge\nii  dosing  5.0.1-1  amd64  dosing service\nii  zlib  1.2  amd64  z\n",
        good: "ii  libalpha1:amd64  1.0-1  amd64  a library\nii  bridge  2.0.0-1  amd64  the bridge\nii  dosing  5.0.1-1  amd64  dosing service\nii  zlib  1.2  amd64  z\n",
        kind: "value",
        what: "bridge is 1.4.0-1, and was 2.0.0-1",
    },
    Pair {
        file: "pump-ctl/proc/environ.txt",
        bad: "PATH=/usr/bin\nTZ=UTC\nFEED_DIR=/srv/feed\nSECRET_KEY=abc\n",
        good: "PATH=/usr/bin\nTZ=Europe/Lisbon\nFEED_DIR=/srv/feed\nSECRET_KEY=xyz\n",
        kind: "value",
        what: "TZ is UTC, and was Europe/Lisbon",
    },
    Pair {
        file: "pump-ctl/etc/fstab",
        bad: "UUID=aa-1 / ext4 defaults 0 1\nUUID=bb-2 /srv ext4 defaults,noexec 0 2\n10.0.0.5:/pool /pool nfs ro 0 0\n",
        good: "UUID=aa-1 / ext4 defaults 0 1\nUUID=bb-2 /srv ext4 defaults 0 2\n10.0.0.5:/pool /pool nfs ro 0 0\n",
        kind: "value",
        what: "/srv is UUID=bb-2 ext4 defaults,noexec, and was UUID=bb-2 ext4 defaults",
    },
    Pair {
        file: "pump-ctl/etc/hosts",
        bad: "127.0.0.1 localhost\n10.0.0.9 dose-gw\n10.0.0.7 keeper-desk\n",
        good: "127.0.0.1 localhost\n10.0.0.8 dose-gw\n10.0.0.7 keeper-desk\n",
        kind: "value",
        what: "dose-gw is 10.0.0.9, and was 10.0.0.8",
    },
    Pair {
        file: "pump-ctl/facts/ip-route.txt",
        bad: "default via 10.0.0.254 dev eth0 proto dhcp metric 100\n10.0.0.0/24 dev eth0 proto kernel scope link src 10.0.0.4\n",
        good: "default via 10.0.0.1 dev eth0 proto dhcp metric 100\n10.0.0.0/24 dev eth0 proto kernel scope link src 10.0.0.4\n10.8.0.0/16 via 10.0.0.2 dev eth0\n",
        kind: "value",
        what: "default is via 10.0.0.254 dev eth0 proto dhcp metric 100, and was via 10.0.0.1 dev eth0 proto dhcp metric 100",
    },
    Pair {
        file: "pump-ctl/etc/tw/panel.json",
        bad: "{\"tanks\":[{\"id\":7,\"limit\":30},{\"id\":8,\"limit\":3}],\"log\":{\"level\":\"info\",\"keep\":7}}",
        good: "{\n \"log\": {\"keep\": 7, \"level\": \"info\"},\n \"tanks\": [\n  {\"id\": 7, \"limit\": 30},\n  {\"id\": 8, \"limit\": 30}\n ]\n}",
        kind: "value",
        what: "tanks/[2]/limit is 3, and was 30",
    },
    Pair {
        file: "pump-ctl/facts/ls.txt",
        bad: "-rw-r----- 1 root root 1200 Apr 12 02:00 /etc/tw/key.pem\ndrwxr-xr-x 2 dosing dosing 4096 Apr 12 02:00 /srv/feed\n",
        good: "-rw-r----- 1 root dosing 1200 Apr 11 02:00 /etc/tw/key.pem\ndrwxr-xr-x 2 dosing dosing 4096 Apr 11 02:00 /srv/feed\n",
        kind: "value",
        what: "/etc/tw/key.pem is -rw-r----- root root, and was -rw-r----- root dosing",
    },
    Pair {
        file: "pump-ctl/srv/app/requirements.txt",
        bad: "feedlib==2.1\nnumlib==1.26.4\n",
        good: "numlib==1.26.4\nfeedlib==2.0\n",
        kind: "value",
        what: "feedlib is 2.1, and was 2.0",
    },
    Pair {
        file: "pump-ctl/export/tw.reg",
        bad: "Windows Registry Editor Version 5.00\r\n\r\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\Tankwarden]\r\n\"Port\"=dword:00001b59\r\n\"Mode\"=\"single\"\r\n\r\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\Tankwarden\\Bridge]\r\n\"Frame\"=dword:00000001\r\n\"Path\"=\"C:\\\\Program Files\\\\Bridge\"\r\n",
        good: "Windows Registry Editor Version 5.00\r\n\r\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\Tankwarden]\r\n\"Port\"=dword:00001b59\r\n\"Mode\"=\"single\"\r\n\r\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\Tankwarden\\Bridge]\r\n\"Frame\"=dword:00000002\r\n\"Path\"=\"C:\\\\Program Files\\\\Bridge\"\r\n",
        kind: "value",
        what: "HKEY_LOCAL_MACHINE\\SOFTWARE\\Tankwarden\\Bridge/Frame is dword:00000001, and was dword:00000002",
    },
    Pair {
        file: "pump-ctl/facts/packages-rpm.txt",
        bad: "bridge-1.4.0-1.x86_64\ndosing-5.0.1-1.x86_64\nkernel-core-5.14.0-70.x86_64\n",
        good: "dosing-5.0.1-1.x86_64\nbridge-2.0.0-1.x86_64\nkernel-core-5.14.0-70.x86_64\n",
        kind: "value",
        what: "bridge is 1.4.0-1 x86_64, and was 2.0.0-1 x86_64",
    },
    Pair {
        file: "pump-ctl/etc/ssh/sshd_config",
        bad: "Port 22\nPermitRootLogin no\nPasswordAuthentication no\nAllowGroups ops\nMaxSessions 10\nSubsystem sftp /usr/lib/openssh/sftp-server\n",
        good: "# managed\nPort 22\nPermitRootLogin no\nPasswordAuthentication no\nAllowGroups ops feed\nMaxSessions 10\nSubsystem sftp /usr/lib/openssh/sftp-server\n",
        kind: "value",
        what: "AllowGroups is ops, and was ops feed",
    },
    Pair {
        file: "pump-ctl/facts/services.txt",
        bad: "dosing.service loaded active running Dosing\nbridge.service loaded failed failed Bridge\ncron.service loaded active running Cron\n",
        good: "dosing.service loaded active running Dosing\nbridge.service loaded active running Bridge\ncron.service loaded active running Cron\n",
        kind: "value",
        what: "bridge.service is loaded failed failed Bridge, and was loaded active running Bridge",
    },
    Pair {
        file: "pump-ctl/facts/sysctl.txt",
        bad: "net.core.somaxconn = 128\nvm.swappiness = 60\nkernel.pid_max = 32768\nfs.file-nr = 2144\t0\t9223372\n",
        good: "net.core.somaxconn = 4096\nvm.swappiness = 60\nkernel.pid_max = 32768\nfs.file-nr = 3144\t0\t9223372\n",
        kind: "value",
        what: "net.core.somaxconn is 128, and was 4096",
    },
    Pair {
        file: "pump-ctl/etc/tw/gate.toml",
        bad: "title = \"gate\"\n[serial]\nbaud = 9600 # slow\nparity = \"even\"\n[[pumps]]\nname = \"a\"\nmax = 3\n[[pumps]]\nname = \"b\"\nmax = 5\n",
        good: "title = \"gate\"\n[serial]\nparity = \"even\"\nbaud = 19200\n[[pumps]]\nname = \"a\"\nmax = 3\n[[pumps]]\nname = \"b\"\nmax = 5\n",
        kind: "value",
        what: "serial/baud is 9600, and was 19200",
    },
    Pair {
        file: "pump-ctl/etc/systemd/system/dosing.service",
        bad: "[Unit]\nAfter=network.target\n[Service]\nExecStart=/opt/dosing/run --plan nightly\nUser=dosing\nLimitNOFILE=256\nRestart=always\n",
        good: "[Unit]\nAfter=network.target\n[Service]\nExecStart=/opt/dosing/run --plan nightly\nUser=dosing\nLimitNOFILE=65536\nRestart=always\n",
        kind: "value",
        what: "Service/LimitNOFILE is 256, and was 65536",
    },
    Pair {
        file: "pump-ctl/etc/web/web.conf",
        bad: "worker_processes auto;\nevents { worker_connections 768; }\nhttp {\n  upstream feed {\n    server 10.0.0.5:8080;\n    server 10.0.0.6:8080 down;\n  }\n  server {\n    listen 80;\n    location /feed {\n      proxy_pass http://feed;\n      proxy_read_timeout 60s;\n    }\n    location /panel {\n      proxy_pass http://127.0.0.1:3000;\n      proxy_read_timeout 60s;\n    }\n  }\n}\n",
        good: "worker_processes auto;\nevents { worker_connections 768; }\nhttp {\n  upstream feed {\n    server 10.0.0.5:8080;\n    server 10.0.0.6:8080;\n  }\n  server {\n    listen 80;\n    location /feed {\n      proxy_pass http://feed;\n      proxy_read_timeout 60s;\n    }\n    location /panel {\n      proxy_pass http://127.0.0.1:3000;\n      proxy_read_timeout 60s;\n    }\n  }\n}\n",
        kind: "value",
        what: "http/upstream feed/server (2) is 10.0.0.6:8080 down, and was 10.0.0.6:8080",
    },
    Pair {
        file: "pump-ctl/etc/web/web.conf",
        bad: "worker_processes auto;\nevents { worker_connections 768; }\nhttp {\n  upstream feed {\n    server 10.0.0.5:8080;\n    server 10.0.0.6:8080;\n  }\n  server {\n    listen 80;\n    location /feed {\n      proxy_pass http://feed;\n      proxy_read_timeout 5s;\n    }\n    location /panel {\n      proxy_pass http://127.0.0.1:3000;\n      proxy_read_timeout 60s;\n    }\n  }\n}\n",
        good: "worker_processes auto;\nevents { worker_connections 768; }\nhttp {\n  upstream feed {\n    server 10.0.0.5:8080;\n    server 10.0.0.6:8080;\n  }\n  server {\n    listen 80;\n    location /feed {\n      proxy_pass http://feed;\n      proxy_read_timeout 60s;\n    }\n    location /panel {\n      proxy_pass http://127.0.0.1:3000;\n      proxy_read_timeout 60s;\n    }\n  }\n}\n",
        kind: "value",
        what: "http/server/location /feed/proxy_read_timeout is 5s, and was 60s",
    },
    Pair {
        file: "pump-ctl/etc/tw/bridge.xml",
        bad: "<bridge frame=\"1\"><port baud=\"9600\" parity=\"even\"/><log level=\"info\"/></bridge>",
        good: "<bridge frame=\"2\">\n <log level=\"info\"/>\n <port parity=\"even\" baud=\"9600\"/>\n</bridge>",
        kind: "value",
        what: "bridge/@frame is 1, and was 2",
    },
    Pair {
        file: "pump-ctl/etc/tw/services.yaml",
        bad: "services:\n  - name: dosing\n    port: 7001\n    retries: 3\n    hosts:\n      - pump-a\n      - pump-b\n  - name: bridge\n    port: 7002\n    retries: 3\n    hosts:\n      - gate-a\nlimits:\n  feeds: 10\n",
        good: "services:\n  - name: dosing\n    port: 7001\n    retries: 3\n    hosts:\n      - pump-a\n      - pump-b\n  - name: bridge\n    port: 7002\n    retries: 3\n    hosts:\n      - gate-a\n      - gate-b\nlimits:\n  feeds: 10\n",
        kind: "only-good",
        what: "services/[2]/hosts/[2] = gate-b is missing on the bad side",
    },
];

#[test]
fn what_is_different_in_settings_and_tables_comes_first() {
    let home = Home::new();
    for (at, pair) in PAIRS.iter().enumerate() {
        let (bad, good) = (format!("bad{at}"), format!("good{at}"));
        home.write(&format!("{bad}/hosts/{}", pair.file), pair.bad);
        home.write(&format!("{good}/hosts/{}", pair.file), pair.good);
        let ran = home.run(&["compare", &bad, &good, "--as", "jsonl"]);
        let found = ran.json();
        assert!(!found.is_empty(), "{}: {}", pair.file, ran.err);
        assert_eq!((&found[0]["kind"], &found[0]["what"]), (&pair.kind.into(), &pair.what.into()), "{found:#?}");
        // And nothing of a side against itself.
        let same = home.run(&["compare", &bad, &bad, "--as", "jsonl"]);
        assert_eq!((same.status, same.out.as_str()), (Some(0), ""), "{}", pair.file);
    }
}

/// A moment of the night, by its second.
fn at(second: u32) -> String {
    format!("2026-04-12T02:{:02}:{:02}Z", second / 60, second % 60)
}

#[test]
fn a_request_an_order_and_a_job_are_one_thing() {
    let home = Home::new();
    let (mut front, mut orders, mut printer) = (String::new(), String::new(), String::new());
    for number in 0..60_u32 {
        let (time, request, order, job) = (
            number * 20,
            format!("{:016x}", u64::from(number + 3).wrapping_mul(0x9E37_79B9_7F4A_7C15)),
            70_000 + number,
            900 + number,
        );
        let fails = number == 40;
        front.push_str(&format!("{} INFO front: req {request} POST /order\n", at(time)));
        orders.push_str(&format!("{} INFO orders: request={request} accepted as order {order}\n", at(time + 1)));
        orders.push_str(&format!("{} INFO orders: order {order} queued to print as J-{job}\n", at(time + 2)));
        printer.push_str(&format!("{} INFO printd: J-{job} received\n", at(time + 4)));
        let (said, answer) =
            if fails { ("ERROR printd: J-X failed: tray empty", 500) } else { ("INFO printd: J-X printed", 200) };
        printer.push_str(&format!("{} {}\n", at(time + 5), said.replace('X', &job.to_string())));
        front.push_str(&format!(
            "{} {} front: req {request} answered {answer}\n",
            at(time + 7),
            if fails { "ERROR" } else { "INFO" }
        ));
    }
    home.write("case/hosts/desk/front.log", front.clone());
    home.write("case/hosts/pump-ctl/orders.log", orders);
    home.write("case/hosts/dose-gw/printd.log", printer);
    let request =
        front.lines().find(|line| line.contains("answered 500")).unwrap().split(' ').nth(4).unwrap().to_owned();
    let trail = home.run(&["trail", "case", "--of", &request, "--as", "jsonl"]).json();
    let (end, hops) = trail.split_last().unwrap();
    let way: Vec<(&str, &str)> =
        hops.iter().map(|hop| (hop["component"].as_str().unwrap(), hop["identifier"].as_str().unwrap())).collect();
    assert_eq!(way, [("front", request.as_str()), ("orders", "70040"), ("printd", "J-940")], "{trail:#?}");
    assert_eq!((&end["end"]["state"], &end["end"]["line"]), (&"failed".into(), &82.into()), "{end:#?}");
    let names: Vec<&str> =
        end["aliases"].as_array().unwrap().iter().map(|one| one["identifier"].as_str().unwrap()).collect();
    assert_eq!(names, ["70040", "J-940"]);
}

#[test]
fn what_is_handed_on_and_does_not_arrive_is_lost() {
    let home = Home::new();
    let (mut gate, mut plan, mut dose) = (String::new(), String::new(), String::new());
    for number in 0..60_u32 {
        let trace = format!("{:032x}", 0x5e54_1093_44e2_3058_u128 * u128::from(number + 7));
        let line = |second: u32, service: &str, text: &str| {
            format!(
                "{{\"ts\":\"{}\",\"level\":\"info\",\"svc\":\"{service}\",\"trace_id\":\"{trace}\",\"msg\":\"{text}\"}}\n",
                at(second)
            )
        };
        gate.push_str(&line(number * 15, "gate", "in"));
        plan.push_str(&line(number * 15 + 1, "plan", "planned"));
        if number != 35 {
            dose.push_str(&line(number * 15 + 2, "dose", "dosed"));
            gate.push_str(&line(number * 15 + 3, "gate", "answered"));
        }
    }
    home.write("case/hosts/dose-gw/gate.jsonl", gate);
    home.write("case/hosts/desk/plan.jsonl", plan);
    home.write("case/hosts/pump-ctl/dose.jsonl", dose);
    let lost = format!("{:032x}", 0x5e54_1093_44e2_3058_u128 * 42);
    let trail = home.run(&["trail", "case", "--of", &lost, "--as", "jsonl"]).json();
    let (end, hops) = trail.split_last().unwrap();
    assert_eq!(hops.len(), 2, "{trail:#?}");
    assert_eq!(end["end"]["state"], "lost", "{end:#?}");
    assert!(end["end"]["source"].as_str().unwrap().ends_with("plan.jsonl") && end["end"]["line"] == 36, "{end:#?}");
    let well = format!("{:032x}", 0x5e54_1093_44e2_3058_u128 * 41);
    let trail = home.run(&["trail", "case", "--of", &well, "--as", "jsonl"]).json();
    assert_eq!((trail.len(), &trail.last().unwrap()["end"]["state"]), (4, &"answered".into()), "{trail:#?}");
}

/// The error numbers of Linux, as its header has them.
const ERRNO: [(u32, &str); 129] = [
    (1, "EPERM"),
    (2, "ENOENT"),
    (3, "ESRCH"),
    (4, "EINTR"),
    (5, "EIO"),
    (6, "ENXIO"),
    (7, "E2BIG"),
    (8, "ENOEXEC"),
    (9, "EBADF"),
    (10, "ECHILD"),
    (11, "EAGAIN"),
    (12, "ENOMEM"),
    (13, "EACCES"),
    (14, "EFAULT"),
    (15, "ENOTBLK"),
    (16, "EBUSY"),
    (17, "EEXIST"),
    (18, "EXDEV"),
    (19, "ENODEV"),
    (20, "ENOTDIR"),
    (21, "EISDIR"),
    (22, "EINVAL"),
    (23, "ENFILE"),
    (24, "EMFILE"),
    (25, "ENOTTY"),
    (26, "ETXTBSY"),
    (27, "EFBIG"),
    (28, "ENOSPC"),
    (29, "ESPIPE"),
    (30, "EROFS"),
    (31, "EMLINK"),
    (32, "EPIPE"),
    (33, "EDOM"),
    (34, "ERANGE"),
    (36, "ENAMETOOLONG"),
    (37, "ENOLCK"),
    (38, "ENOSYS"),
    (39, "ENOTEMPTY"),
    (40, "ELOOP"),
    (42, "ENOMSG"),
    (43, "EIDRM"),
    (44, "ECHRNG"),
    (45, "EL2NSYNC"),
    (46, "EL3HLT"),
    (47, "EL3RST"),
    (48, "ELNRNG"),
    (49, "EUNATCH"),
    (50, "ENOCSI"),
    (51, "EL2HLT"),
    (52, "EBADE"),
    (53, "EBADR"),
    (54, "EXFULL"),
    (55, "ENOANO"),
    (56, "EBADRQC"),
    (57, "EBADSLT"),
    (59, "EBFONT"),
    (60, "ENOSTR"),
    (61, "ENODATA"),
    (62, "ETIME"),
    (63, "ENOSR"),
    (64, "ENONET"),
    (65, "ENOPKG"),
    (66, "EREMOTE"),
    (67, "ENOLINK"),
    (68, "EADV"),
    (69, "ESRMNT"),
    (70, "ECOMM"),
    (71, "EPROTO"),
    (72, "EMULTIHOP"),
    (73, "EDOTDOT"),
    (74, "EBADMSG"),
    (75, "EOVERFLOW"),
    (76, "ENOTUNIQ"),
    (77, "EBADFD"),
    (78, "EREMCHG"),
    (79, "ELIBACC"),
    (80, "ELIBBAD"),
    (81, "ELIBSCN"),
    (82, "ELIBMAX"),
    (83, "ELIBEXEC"),
    (84, "EILSEQ"),
    (85, "ERESTART"),
    (86, "ESTRPIPE"),
    (87, "EUSERS"),
    (88, "ENOTSOCK"),
    (89, "EDESTADDRREQ"),
    (90, "EMSGSIZE"),
    (91, "EPROTOTYPE"),
    (92, "ENOPROTOOPT"),
    (93, "EPROTONOSUPPORT"),
    (94, "ESOCKTNOSUPPORT"),
    (95, "EOPNOTSUPP"),
    (96, "EPFNOSUPPORT"),
    (97, "EAFNOSUPPORT"),
    (98, "EADDRINUSE"),
    (99, "EADDRNOTAVAIL"),
    (100, "ENETDOWN"),
    (101, "ENETUNREACH"),
    (102, "ENETRESET"),
    (103, "ECONNABORTED"),
    (104, "ECONNRESET"),
    (105, "ENOBUFS"),
    (106, "EISCONN"),
    (107, "ENOTCONN"),
    (108, "ESHUTDOWN"),
    (109, "ETOOMANYREFS"),
    (110, "ETIMEDOUT"),
    (111, "ECONNREFUSED"),
    (112, "EHOSTDOWN"),
    (113, "EHOSTUNREACH"),
    (114, "EALREADY"),
    (115, "EINPROGRESS"),
    (116, "ESTALE"),
    (117, "EUCLEAN"),
    (118, "ENOTNAM"),
    (119, "ENAVAIL"),
    (120, "EISNAM"),
    (121, "EREMOTEIO"),
    (122, "EDQUOT"),
    (123, "ENOMEDIUM"),
    (124, "EMEDIUMTYPE"),
    (125, "ECANCELED"),
    (126, "ENOKEY"),
    (127, "EKEYEXPIRED"),
    (128, "EKEYREVOKED"),
    (129, "EKEYREJECTED"),
    (130, "EOWNERDEAD"),
    (131, "ENOTRECOVERABLE"),
    (132, "ERFKILL"),
];

#[test]
fn error_numbers_of_linux() {
    let home = Home::new();
    let numbers: Vec<String> = ERRNO.iter().map(|(number, _)| number.to_string()).collect();
    let mut arguments = vec!["code", "--os", "linux", "--as", "jsonl"];
    arguments.extend(numbers.iter().map(String::as_str));
    let found = home.run(&arguments).json();
    for (number, name) in ERRNO {
        let of_number = found.iter().find(|one| one["family"] == "errno" && one["number"] == number);
        assert_eq!(of_number.map(|one| &one["name"]), Some(&Value::from(name)), "{number}");
    }
}
