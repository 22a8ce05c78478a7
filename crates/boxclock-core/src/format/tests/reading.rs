//! Whole files as programs write them, read from the first line to the last: what each event is, beside what its attributes say.

use super::*;
use crate::testing::case;

/// A file, and what is read of it: the line of each event, its time, level, program with process, its first line, and how many more it has.
struct Sample {
    file: &'static str,
    format: &'static str,
    text: &'static str,
    events: &'static [&'static str],
}

const SAMPLES: [Sample; 14] = [
    Sample {
        file: "rfc3164.log",
        format: "rfc3164",
        text: concat!(
            "<30>Apr 12 02:31:07 pump-ctl dosingd[1004]: frame 4096 accepted\n",
            "<27>Apr 12 02:31:08 pump-ctl dosingd[1004]: frame 4097 refused: EACCES\n",
            "Apr 12 02:31:09 pump-ctl kernel: [ 1200.100001] eth0: link is down\n",
            "Apr 12 02:31:10 pump-ctl CRON[2211]: (root) CMD (/usr/local/bin/feed --quiet)\n",
            "Apr 12 02:31:10 pump-ctl sudo:     anna : TTY=pts/0 ; PWD=/srv ; USER=root ; COMMAND=/bin/ls\n",
            "Apr 12 02:31:11 pump-ctl systemd[1]: dosing.service: Main process exited, code=killed, status=9/KILL\n",
            "<165>Apr 12 02:31:12 dose-gw bridge: asks for frame format 2\n",
        ),
        events: &[
            "1 00:31:07 info dosingd/1004 frame 4096 accepted",
            "2 00:31:08 error dosingd/1004 frame 4097 refused: EACCES",
            "3 00:31:09 - kernel [ 1200.100001] eth0: link is down",
            "4 00:31:10 - CRON/2211 (root) CMD (/usr/local/bin/feed --quiet)",
            "5 00:31:10 - sudo anna : TTY=pts/0 ; PWD=/srv ; USER=root ; COMMAND=/bin/ls",
            "6 00:31:11 - systemd/1 dosing.service: Main process exited, code=killed, status=9/KILL",
            "7 00:31:12 info bridge asks for frame format 2",
        ],
    },
    Sample {
        file: "rfc5424.log",
        format: "rfc5424",
        text: concat!(
            "<165>1 2026-04-12T02:31:07.442Z pump-ctl dosingd 1004 ID47 - frame 4096 accepted\n",
            "<27>1 2026-04-12T02:31:08.000001+02:00 pump-ctl dosingd 1004 - [ctx@32473 tank=\"7\" frame=\"4097\"] refused\n",
            "<13>1 2026-04-12T02:31:09Z - - - - - nobody knows who says this\n",
            "<34>1 2026-04-12T02:31:10.5-03:00 dose-gw su - ID1 [a@1 q=\"with \\\"quotes\\\" and \\] bracket\"] \u{feff}'su root' failed\n",
        ),
        events: &[
            "1 02:31:07.442 info dosingd/1004 frame 4096 accepted",
            "2 00:31:08.000001 error dosingd/1004 refused",
            "3 02:31:09 info - nobody knows who says this",
            "4 05:31:10.5 error su 'su root' failed",
        ],
    },
    Sample {
        file: "iso-text.log",
        format: "iso-text",
        text: concat!(
            "2026-04-12 02:31:07,442 INFO  [main] dosing.frames - frame 4096 accepted\n",
            "2026-04-12 02:31:08,001 ERROR [worker-3] dosing.frames - frame 4097 refused\n",
            "java.lang.IllegalStateException: tank 7 is locked\n",
            "\tat dosing.Frames.take(Frames.java:88)\n",
            "Caused by: java.io.IOException: port closed\n",
            "\tat dosing.Port.write(Port.java:12)\n",
            "2026-04-12 02:31:09,100 WARN  [worker-3] dosing.frames - frame 4098 late by 900 ms\n",
            "2026-04-12 02:31:10,000 DEBUG [io-0] dosing.port - 12 bytes written\n",
            "2026-04-12 02:31:11,000 FATAL [main] dosing.main - giving up\n",
        ),
        events: &[
            "1 00:31:07.442 info dosing.frames frame 4096 accepted",
            "2 00:31:08.001 error dosing.frames frame 4097 refused +4",
            "7 00:31:09.1 warn dosing.frames frame 4098 late by 900 ms",
            "8 00:31:10 debug dosing.port 12 bytes written",
            "9 00:31:11 fatal dosing.main giving up",
        ],
    },
    Sample {
        file: "json.log",
        format: "json-lines",
        text: concat!(
            "{\"ts\":\"2026-04-12T02:31:07.442Z\",\"level\":\"info\",\"logger\":\"gate\",\"msg\":\"frame taken\",\"frame\":4096}\n",
            "{\"ts\":\"2026-04-12T02:31:08Z\",\"level\":\"error\",\"logger\":\"gate\",\"msg\":\"frame refused\",\"frame\":4097,\"err\":{\"code\":13,\"text\":\"EACCES\"}}\n",
            "{\"time\":1775961069000,\"lvl\":50,\"name\":\"gate\",\"msg\":\"number as level\"}\n",
            "{\"@timestamp\":\"2026-04-12T02:31:10.123456Z\",\"severity\":\"WARNING\",\"service\":\"gate\",\"message\":\"late\"}\n",
            "{\"timestamp\":\"2026-04-12T04:31:11+02:00\",\"level\":\"debug\",\"message\":\"with zone\"}\n",
            "{\"ts\":1775961072.5,\"level\":\"critical\",\"msg\":\"seconds with a fraction\"}\n",
        ),
        events: &[
            "1 02:31:07.442 info gate frame taken",
            "2 02:31:08 error gate frame refused",
            "3 02:31:09 error gate number as level",
            "4 02:31:10.123456 warn gate late",
            "5 02:31:11 debug - with zone",
            "6 02:31:12.5 error - seconds with a fraction",
        ],
    },
    Sample {
        file: "logfmt.log",
        format: "logfmt",
        text: concat!(
            "ts=2026-04-12T02:31:07.442Z level=info caller=gate.go:41 msg=\"frame taken\" frame=4096\n",
            "ts=2026-04-12T02:31:08Z level=error caller=gate.go:88 msg=\"frame refused\" err=\"permission denied\" frame=4097\n",
            "ts=2026-04-12T02:31:09Z level=warn msg=late ms=900\n",
            "time=\"2026-04-12T02:31:10Z\" level=debug msg=\"quoted \\\"twice\\\"\"\n",
        ),
        events: &[
            "1 02:31:07.442 info - frame taken",
            "2 02:31:08 error - frame refused",
            "3 02:31:09 warn - late",
            "4 02:31:10 debug - quoted \"twice\"",
        ],
    },
    Sample {
        file: "access.log",
        format: "ncsa-access",
        text: concat!(
            "10.0.0.9 - anna [12/Apr/2026:02:31:07 +0200] \"GET /panel HTTP/1.1\" 200 5120 \"-\" \"console/5.0\"\n",
            "10.0.0.9 - - [12/Apr/2026:02:31:08 +0200] \"POST /frames HTTP/1.1\" 500 17 \"-\" \"console/5.0\"\n",
            "10.0.0.7 - - [12/Apr/2026:02:31:09 +0200] \"GET /missing HTTP/1.1\" 404 0 \"-\" \"-\"\n",
            "2001:db8::7 - - [12/Apr/2026:02:31:10 +0200] \"-\" 408 0 \"-\" \"-\"\n",
        ),
        events: &[
            "1 00:31:07 - - 10.0.0.9 - anna [12/Apr/2026:02:31:07 +0200] \"GET /panel HTTP/1.1\" 200 5120 \"-\" \"console/5.0\"",
            "2 00:31:08 - - 10.0.0.9 - - [12/Apr/2026:02:31:08 +0200] \"POST /frames HTTP/1.1\" 500 17 \"-\" \"console/5.0\"",
            "3 00:31:09 - - 10.0.0.7 - - [12/Apr/2026:02:31:09 +0200] \"GET /missing HTTP/1.1\" 404 0 \"-\" \"-\"",
            "4 00:31:10 - - 2001:db8::7 - - [12/Apr/2026:02:31:10 +0200] \"-\" 408 0 \"-\" \"-\"",
        ],
    },
    Sample {
        file: "nginx-error.log",
        format: "nginx-error",
        text: concat!(
            "2026/04/12 02:31:07 [error] 88#88: *4096 connect() failed (111: Connection refused) while connecting to upstream, client: 10.0.0.9, server: panel, request: \"GET / HTTP/1.1\"\n",
            "2026/04/12 02:31:08 [warn] 88#88: *4097 an upstream response is buffered to a temporary file\n",
            "2026/04/12 02:31:09 [notice] 1#1: signal 17 (SIGCHLD) received from 88\n",
            "2026/04/12 02:31:10 [emerg] 1#1: bind() to 0.0.0.0:80 failed (98: Address already in use)\n",
        ),
        events: &[
            "1 00:31:07 error nginx/88 *4096 connect() failed (111: Connection refused) while connecting to upstream, client: 10.0.0.9, server: panel, request: \"GET / HTTP/1.1\"",
            "2 00:31:08 warn nginx/88 *4097 an upstream response is buffered to a temporary file",
            "3 00:31:09 info nginx/1 signal 17 (SIGCHLD) received from 88",
            "4 00:31:10 fatal nginx/1 bind() to 0.0.0.0:80 failed (98: Address already in use)",
        ],
    },
    Sample {
        file: "postgresql.log",
        format: "postgres-text",
        text: concat!(
            "2026-04-12 02:31:07.442 CEST [1004] LOG:  checkpoint complete: wrote 12 buffers\n",
            "2026-04-12 02:31:08.000 CEST [1005] plan@tanks ERROR:  relation \"frames\" does not exist at character 15\n",
            "2026-04-12 02:31:08.000 CEST [1005] plan@tanks STATEMENT:  SELECT * FROM frames\n",
            "2026-04-12 02:31:09.000 CEST [1006] plan@tanks FATAL:  password authentication failed for user \"plan\"\n",
            "2026-04-12 02:31:09.000 CEST [1006] plan@tanks DETAIL:  Role \"plan\" has no password assigned.\n",
            "2026-04-12 02:31:10.000 CEST [1004] WARNING:  there is already a transaction in progress\n",
        ),
        events: &[
            "1 00:31:07.442 info postgres/1004 checkpoint complete: wrote 12 buffers",
            "2 00:31:08 error postgres/1005 relation \"frames\" does not exist at character 15 +1",
            "4 00:31:09 fatal postgres/1006 password authentication failed for user \"plan\" +1",
            "6 00:31:10 warn postgres/1004 there is already a transaction in progress",
        ],
    },
    Sample {
        file: "dpkg.log",
        format: "dpkg",
        text: concat!(
            "2026-04-12 02:31:07 startup archives unpack\n",
            "2026-04-12 02:31:07 upgrade serbridge:amd64 1.4.0 2.0.0\n",
            "2026-04-12 02:31:08 status half-configured serbridge:amd64 1.4.0\n",
            "2026-04-12 02:31:09 status installed serbridge:amd64 2.0.0\n",
            "2026-04-12 02:31:10 conffile /etc/serbridge.conf keep\n",
        ),
        events: &[
            "1 00:31:07 - dpkg startup archives unpack",
            "2 00:31:07 - dpkg upgrade serbridge:amd64 1.4.0 2.0.0",
            "3 00:31:08 - dpkg status half-configured serbridge:amd64 1.4.0",
            "4 00:31:09 - dpkg status installed serbridge:amd64 2.0.0",
            "5 00:31:10 - dpkg conffile /etc/serbridge.conf keep",
        ],
    },
    Sample {
        file: "kernel.log",
        format: "kernel-ring",
        text: concat!(
            "[    0.000000] Linux version 6.1.0\n",
            "[ 1200.100001] eth0: link is down\n",
            "[ 1201.000000] Out of memory: Killed process 1004 (dosingd) total-vm:9121212kB\n",
            "[ 1202.000000] EXT4-fs error (device sda2): ext4_find_entry:1455: inode #2: comm dosingd: reading directory lblock 0\n",
        ),
        events: &[
            "1 - - kernel Linux version 6.1.0",
            "2 - - kernel eth0: link is down",
            "3 - - kernel Out of memory: Killed process 1004 (dosingd) total-vm:9121212kB",
            "4 - - kernel EXT4-fs error (device sda2): ext4_find_entry:1455: inode #2: comm dosingd: reading directory lblock 0",
        ],
    },
    Sample {
        file: "jul.log",
        format: "java-util-logging",
        text: concat!(
            "Apr 12, 2026 2:31:07 AM dosing.Frames take\n",
            "INFO: frame 4096 accepted\n",
            "Apr 12, 2026 2:31:08 AM dosing.Frames take\n",
            "SEVERE: frame 4097 refused\n",
            "java.lang.IllegalStateException: tank 7 is locked\n",
            "\tat dosing.Frames.take(Frames.java:88)\n",
            "Apr 12, 2026 2:31:09 PM dosing.Port write\n",
            "WARNING: late\n",
        ),
        events: &[
            "1 00:31:07 info dosing.Frames frame 4096 accepted",
            "3 00:31:08 error dosing.Frames frame 4097 refused +2",
            "7 12:31:09 warn dosing.Port late",
        ],
    },
    Sample {
        file: "w3c.log",
        format: "w3c-extended",
        text: concat!(
            "#Software: Panel\n",
            "#Version: 1.0\n",
            "#Date: 2026-04-12 02:31:00\n",
            "#Fields: date time s-ip cs-method cs-uri-stem sc-status time-taken\n",
            "2026-04-12 02:31:07 10.0.0.9 GET /panel 200 15\n",
            "2026-04-12 02:31:08 10.0.0.9 POST /frames 500 900\n",
            "2026-04-12 02:31:09 10.0.0.9 GET /missing 404 3\n",
        ),
        events: &[
            "5 02:31:07 - - 2026-04-12 02:31:07 10.0.0.9 GET /panel 200 15",
            "6 02:31:08 - - 2026-04-12 02:31:08 10.0.0.9 POST /frames 500 900",
            "7 02:31:09 - - 2026-04-12 02:31:09 10.0.0.9 GET /missing 404 3",
        ],
    },
    Sample {
        file: "table.csv",
        format: "csv",
        text: concat!(
            "time,level,program,message\n",
            "2026-04-12 02:31:07,info,gate,frame taken\n",
            "2026-04-12 02:31:08,error,gate,\"frame refused, twice\"\n",
            "2026-04-12 02:31:09,warning,bridge,\"said \"\"late\"\" here\"\n",
        ),
        events: &[
            "2 00:31:07 info gate frame taken",
            "3 00:31:08 error gate frame refused, twice",
            "4 00:31:09 warn bridge said \"late\" here",
        ],
    },
    Sample {
        file: "apt-history.log",
        format: "apt-history",
        text: concat!(
            "\n",
            "Start-Date: 2026-04-12  02:00:01\n",
            "Commandline: apt-get install serbridge\n",
            "Requested-By: anna (1000)\n",
            "Upgrade: serbridge:amd64 (1.4.0, 2.0.0)\n",
            "End-Date: 2026-04-12  02:00:09\n",
        ),
        events: &["2 00:00:01 - apt Start-Date: 2026-04-12  02:00:01 +4"],
    },
];

fn read_of(sample: &Sample, text: &str) -> Vec<String> {
    let of_case = case(&[(&format!("pump-ctl/var/log/{}", sample.file), text)]).zone("+02:00");
    let view = of_case.view();
    let table = &view.loaded.table;
    let mut reader = crate::event::RecordReader::new(view.case.sources.clone());
    let mut rows: Vec<(u64, String)> = table
        .rows_of(0)
        .map(|row| {
            let event = table.event(row);
            let time = event.time().map_or("-".into(), |time| {
                let text = to_rfc3339(time);
                text[11..].trim_end_matches('Z').trim_end_matches('0').trim_end_matches('.').to_owned()
            });
            let level = event.severity().name().unwrap_or("-");
            let name = Some(event.component()).filter(|name| !name.is_empty()).unwrap_or("-");
            let who = event.actor().pid.map_or_else(|| name.to_owned(), |pid| format!("{name}/{pid}"));
            let body = reader.record(event).body;
            let mut lines = body.split('\n');
            let first = lines.next().unwrap_or_default().trim();
            let more = lines.count();
            let more = if more == 0 { String::new() } else { format!(" +{more}") };
            let line = reader.place(event).line;
            (line, format!("{line} {time} {level} {who} {first}{more}"))
        })
        .collect();
    rows.sort();
    rows.into_iter().map(|(_, text)| text).collect()
}

#[test]
fn whole_files_are_read_as_they_are_meant() {
    for sample in &SAMPLES {
        assert_eq!(read_of(sample, sample.text), sample.events, "{}", sample.file);
    }
}

#[test]
fn the_format_of_a_whole_file_is_known_by_its_lines() {
    for sample in &SAMPLES {
        // The name of the file says nothing.
        let of_case = case(&[("pump-ctl/var/log/some.log", sample.text)]).zone("+02:00");
        let view = of_case.view();
        assert_eq!(view.case.sources[0].reader.name(), sample.format, "{}", sample.file);
    }
}

#[test]
fn line_ends_of_another_system_change_nothing() {
    for sample in &SAMPLES {
        let text = sample.text.replace('\n', "\r\n");
        assert_eq!(read_of(sample, &text), sample.events, "{}", sample.file);
    }
}

#[test]
fn a_last_line_without_its_end_is_an_event_too() {
    for sample in &SAMPLES {
        assert_eq!(read_of(sample, sample.text.trim_end_matches('\n')), sample.events, "{}", sample.file);
    }
}

#[test]
fn no_event_is_lost_where_a_file_is_cut_in_a_line() {
    // Half an object is no event: it is a line of the one before.
    for sample in SAMPLES.iter().filter(|sample| sample.format != "json-lines") {
        let cut = sample.text.trim_end_matches('\n');
        let at = (cut.len() - 4..cut.len()).find(|at| cut.is_char_boundary(*at)).unwrap_or(cut.len());
        let found = read_of(sample, &cut[..at]);
        assert_eq!(found.len(), sample.events.len(), "{}: {found:#?}", sample.file);
        assert_eq!(found[..found.len() - 1], sample.events[..found.len() - 1], "{}", sample.file);
    }
}

#[test]
fn what_stands_twice_is_read_twice() {
    for sample in
        SAMPLES.iter().filter(|sample| !matches!(sample.format, "csv" | "w3c-extended" | "kernel-ring" | "rfc5424"))
    {
        let twice = format!("{0}{0}", sample.text);
        assert_eq!(read_of(sample, &twice).len(), 2 * sample.events.len(), "{}", sample.file);
    }
}
