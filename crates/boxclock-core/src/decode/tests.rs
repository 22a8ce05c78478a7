//! The decoders on bytes assembled by hand from the specifications, on files that real programs wrote, and on any bytes.

use proptest::prelude::*;
use serde_json::Value;

use super::*;

mod records;

/// One decoded entry, as the engine reads it: time, severity, host, component, ids, place, body, attributes.
#[derive(Debug)]
struct Event {
    time: String,
    severity: u8,
    host: String,
    component: String,
    pid: Option<u32>,
    place: Place,
    body: String,
    attributes: Map<String, Value>,
}

fn decoded(name: &str, bytes: &[u8]) -> (Vec<Event>, ByteTotals) {
    let decoder = DECODERS.iter().find(|decoder| decoder.name() == name && decoder.0.recognise(bytes)).unwrap();
    let (text, account) = decode_bytes(decoder, bytes).unwrap();
    let text = String::from_utf8(text).unwrap();
    let events = text.split_inclusive('\n').fold(Vec::<String>::new(), |mut records, line| {
        if line.starts_with('\u{1E}') {
            records.push(String::new());
        }
        records.last_mut().unwrap().push_str(line);
        records
    });
    let events = events.iter().map(|text| {
        let head = decoder.head(text.lines().next().unwrap().as_bytes(), 0).unwrap();
        let record = decoder.record(text, 0);
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        let time = match head.stamp {
            Stamp::Utc(ns, _) => crate::clock::to_rfc3339(ns),
            other => format!("{other:?}"),
        };
        Event {
            time,
            severity: head.severity.0,
            host: text(&head.host),
            component: text(&head.component),
            pid: head.pid,
            place: record.place.unwrap(),
            body: record.body,
            attributes: record.attributes,
        }
    });
    (events.collect(), account)
}

/// Bytes of an event log, put together from the specifications.
mod log {
    pub fn utf16(text: &str) -> Vec<u8> {
        text.encode_utf16().flat_map(u16::to_le_bytes).collect()
    }

    /// A chunk that is being filled.
    pub struct Chunk {
        pub bytes: Vec<u8>,
        pub number: u64,
        /// Where the template of [`Chunk::event`] stands, once it was written.
        template: Option<u32>,
    }

    impl Chunk {
        pub fn new(number: u64) -> Self {
            let mut bytes = vec![0; 512];
            bytes[..8].copy_from_slice(b"ElfChnk\0");
            Self { bytes, number, template: None }
        }

        fn u16(&mut self, value: u16) {
            self.bytes.extend(value.to_le_bytes());
        }

        fn u32(&mut self, value: u32) {
            self.bytes.extend(value.to_le_bytes());
        }

        /// A name at its first place: the offset of what follows, then next, hash, count, units, zero.
        fn name(&mut self, name: &str) {
            let here = self.bytes.len() as u32 + 4;
            self.u32(here);
            self.u32(0);
            self.u16(0);
            self.u16(name.encode_utf16().count() as u16);
            self.bytes.extend(utf16(name));
            self.u16(0);
        }

        fn start(&mut self, name: &str, attributes: &[(&str, Option<&str>, u16, u8)]) {
            self.bytes.push(if attributes.is_empty() { 0x01 } else { 0x41 });
            self.u16(0xFFFF);
            self.u32(0);
            self.name(name);
            if attributes.is_empty() {
                return;
            }
            let size_at = self.bytes.len();
            self.u32(0);
            for (index, (name, text, substitution, kind)) in attributes.iter().enumerate() {
                self.bytes.push(if index + 1 < attributes.len() { 0x46 } else { 0x06 });
                self.name(name);
                match text {
                    Some(text) => self.text(text),
                    None => self.substitution(*substitution, *kind),
                }
            }
            let size = (self.bytes.len() - size_at - 4) as u32;
            self.bytes[size_at..size_at + 4].copy_from_slice(&size.to_le_bytes());
        }

        fn text(&mut self, text: &str) {
            self.bytes.extend([0x05, 0x01]);
            self.u16(text.encode_utf16().count() as u16);
            self.bytes.extend(utf16(text));
        }

        fn substitution(&mut self, index: u16, kind: u8) {
            self.bytes.push(0x0E);
            self.u16(index);
            self.bytes.push(kind);
        }

        /// `<NAME>substitution</NAME>`
        fn leaf(&mut self, name: &str, index: u16, kind: u8) {
            self.start(name, &[]);
            self.bytes.push(0x02);
            self.substitution(index, kind);
            self.bytes.push(0x04);
        }

        /// The definition of the one template: an event with these substitutions.
        fn definition(&mut self) {
            self.bytes.extend([0x0F, 1, 1, 0]);
            self.start("Event", &[("xmlns", Some("http://schemas.microsoft.com/win/2004/08/events/event"), 0, 0)]);
            self.bytes.push(0x02);
            self.start("System", &[]);
            self.bytes.push(0x02);
            self.start("Provider", &[("Name", Some("Serial Bridge"), 0, 0), ("Guid", None, 8, 0x0F)]);
            self.bytes.push(0x03);
            self.leaf("EventID", 0, 0x06);
            self.leaf("Level", 1, 0x04);
            self.leaf("Keywords", 7, 0x15);
            self.start("TimeCreated", &[("SystemTime", None, 2, 0x11)]);
            self.bytes.push(0x03);
            self.leaf("EventRecordID", 3, 0x0A);
            self.start("Execution", &[("ProcessID", None, 4, 0x08), ("ThreadID", None, 4, 0x08)]);
            self.bytes.push(0x03);
            self.leaf("Computer", 5, 0x01);
            self.start("Security", &[("UserID", None, 6, 0x13)]);
            self.bytes.push(0x03);
            self.bytes.push(0x04);
            self.start("EventData", &[]);
            self.bytes.push(0x02);
            self.start("Data", &[("Name", Some("Status"), 0, 0)]);
            self.bytes.push(0x02);
            self.substitution(9, 0x14);
            self.bytes.push(0x04);
            self.start("Data", &[("Name", Some("Parts"), 0, 0)]);
            self.bytes.push(0x02);
            self.substitution(10, 0x81);
            self.bytes.extend([0x04, 0x04, 0x04, 0x00]);
        }

        /// A record with the template, in full the first time, referred to after that.
        pub fn event(&mut self, id: u16, level: u8, ticks: i64) {
            let at = self.bytes.len();
            self.bytes.extend([0x2A, 0x2A, 0, 0]);
            self.u32(0);
            self.bytes.extend(self.number.to_le_bytes());
            self.bytes.extend(ticks.to_le_bytes());
            self.bytes.extend([0x0F, 1, 1, 0, 0x0C, 1]);
            self.u32(7);
            let here = self.bytes.len() as u32 + 4;
            let place = *self.template.get_or_insert(here);
            self.u32(place);
            if place == here {
                self.u32(0);
                self.bytes.extend([7; 16]);
                let size_at = self.bytes.len();
                self.u32(0);
                self.definition();
                let size = (self.bytes.len() - size_at - 4) as u32;
                self.bytes[size_at..size_at + 4].copy_from_slice(&size.to_le_bytes());
            }
            let sid = [&[1, 2, 0, 0, 0, 0, 0, 5][..], &32_u32.to_le_bytes(), &544_u32.to_le_bytes()].concat();
            let values: [(u8, Vec<u8>); 11] = [
                (0x06, id.to_le_bytes().to_vec()),
                (0x04, vec![level]),
                (0x11, ticks.to_le_bytes().to_vec()),
                (0x0A, self.number.to_le_bytes().to_vec()),
                (0x08, 1234_u32.to_le_bytes().to_vec()),
                (0x01, utf16("keeper-desk")),
                (0x13, sid),
                (0x15, 0x8000_0000_0000_0000_u64.to_le_bytes().to_vec()),
                // No identifier: the attribute is left out.
                (0x00, Vec::new()),
                (0x14, 0x8007_0005_u32.to_le_bytes().to_vec()),
                (0x81, utf16("pump\0valve <3>\0")),
            ];
            self.u32(values.len() as u32);
            for (kind, data) in &values {
                self.u16(data.len() as u16);
                self.bytes.extend([*kind, 0]);
            }
            for (_, data) in &values {
                self.bytes.extend(data);
            }
            self.bytes.push(0x00);
            let size = (self.bytes.len() - at + 4) as u32;
            self.u32(size);
            self.bytes[at + 4..at + 8].copy_from_slice(&size.to_le_bytes());
            self.number += 1;
        }

        /// The 64 KiB of the chunk, with its checksums.
        pub fn finish(mut self) -> Vec<u8> {
            let free = self.bytes.len();
            self.bytes[40..44].copy_from_slice(&128_u32.to_le_bytes());
            self.bytes[48..52].copy_from_slice(&(free as u32).to_le_bytes());
            let data = crc32fast::hash(&self.bytes[512..]);
            self.bytes[52..56].copy_from_slice(&data.to_le_bytes());
            let head = crc32fast::hash(&[&self.bytes[..120], &self.bytes[128..512]].concat());
            self.bytes[124..128].copy_from_slice(&head.to_le_bytes());
            self.bytes.resize(65_536, 0);
            self.bytes
        }
    }

    pub fn header(flags: u32) -> Vec<u8> {
        let mut bytes = vec![0; 4096];
        bytes[..8].copy_from_slice(b"ElfFile\0");
        bytes[32..36].copy_from_slice(&128_u32.to_le_bytes());
        bytes[36..42].copy_from_slice(&[1, 0, 3, 0, 0, 16]);
        bytes[120..124].copy_from_slice(&flags.to_le_bytes());
        let crc = crc32fast::hash(&bytes[..120]);
        bytes[124..128].copy_from_slice(&crc.to_le_bytes());
        bytes
    }

    /// 2026-04-12T02:31:07.442Z in 100-ns ticks since 1601.
    pub const TICKS: i64 = 116_444_736_000_000_000 + 17_759_610_674_420_000;

    /// A file of two chunks with three events each.
    pub fn file() -> Vec<u8> {
        let chunk = |first: u64| {
            let mut chunk = Chunk::new(first);
            for (index, level) in [2, 3, 4].into_iter().enumerate() {
                chunk.event(7034, level, TICKS + index as i64 * 10_000_000);
            }
            chunk.finish()
        };
        [header(0), chunk(1), chunk(4)].concat()
    }
}

#[test]
fn event_log_by_the_specification() {
    let bytes = log::file();
    let (events, account) = decoded("evtx", &bytes);
    assert_eq!(account.trouble, []);
    assert_eq!(events.len(), 6);
    let first = &events[0];
    assert_eq!(first.time, "2026-04-12T02:31:07.442000000Z");
    assert_eq!((first.severity, first.host.as_str(), first.component.as_str()), (17, "keeper-desk", "Serial Bridge"));
    assert_eq!((first.pid, first.place.line, first.place.offset), (Some(1234), 1, 4096 + 512));
    assert_eq!(first.body, "event 7034: Status=0x80070005, Parts=pump, valve <3>");
    assert_eq!(first.attributes["event.id"], 7034);
    assert_eq!(first.attributes["event.record_id"], 1);
    assert_eq!(first.attributes["user.id"], "S-1-5-32-544");
    assert_eq!(first.attributes["event.keywords"], "0x8000000000000000");
    assert_eq!(first.attributes["event.data.Parts"], "pump, valve <3>");
    assert!(!first.attributes.contains_key("event.provider_guid"));
    let severities: Vec<u8> = events.iter().map(|event| event.severity).collect();
    assert_eq!(severities, [17, 13, 9, 17, 13, 9]);
    // The records lie where the file has them, one behind the other.
    assert_eq!(events[1].place.offset, first.place.offset + first.place.length);
    assert_eq!(events[5].place.line, 6);
    let sum: u64 = events.iter().map(|event| event.place.length).sum();
    assert_eq!((account.bytes, account.event_bytes), (bytes.len() as u64, sum));
}

#[test]
fn damaged_event_log_gives_what_is_left() {
    // The first chunk's header is gone: its records are found by their marks.
    let mut bytes = log::file();
    bytes[4096..4096 + 8].fill(0xEE);
    let (events, account) = decoded("evtx", &bytes);
    assert_eq!(events.len(), 6);
    assert!(
        account.trouble[0].text.contains("the chunk at byte 4096 has no header: 3 records"),
        "{:?}",
        account.trouble
    );
    // A record's size is wrong: those behind it are read.
    let mut bytes = log::file();
    let second = events[1].place.offset as usize;
    bytes[second + 4..second + 8].copy_from_slice(&u32::MAX.to_le_bytes());
    let (events, account) = decoded("evtx", &bytes);
    assert_eq!(events.len(), 5);
    assert!(account.trouble.iter().any(|trouble| trouble.text.contains(&format!("no record at byte {second}"))));
    assert!(account.trouble.iter().any(|trouble| trouble.text.contains("checksum of the records")));
    // Cut in the middle of the second chunk, and not closed.
    let mut bytes = log::file();
    bytes[120] = 1;
    bytes.truncate(4096 + 65_536 + 1700);
    let (events, account) = decoded("evtx", &bytes);
    assert!((3..6).contains(&events.len()));
    assert!(account.trouble.iter().any(|trouble| trouble.text.contains("not closed")));
    assert!(account.trouble.iter().any(|trouble| trouble.text.contains("cut off at byte")));
}

#[test]
fn a_template_that_contains_itself_ends() {
    let mut bytes = log::file();
    // The first element of the definition becomes an instance of the template it is in.
    let record = 4096 + 512;
    let definition = record + 24 + 4 + 10 + 24 + 4;
    let own = (512 + 24 + 4 + 10) as u32;
    bytes[definition..definition + 6].copy_from_slice(&[0x0C, 1, 7, 0, 0, 0]);
    bytes[definition + 6..definition + 10].copy_from_slice(&own.to_le_bytes());
    bytes[definition + 10..definition + 14].fill(0);
    let (events, account) = decoded("evtx", &bytes);
    assert_eq!(events.len(), 6);
    assert!(account.trouble.iter().any(|trouble| trouble.text.contains("nested too deep")), "{:?}", account.trouble);
}

#[test]
fn events_as_xml_in_both_shapes() {
    let event = |id: u32, level: u8| {
        format!(
            "<Event xmlns='http://schemas.microsoft.com/win/2004/08/events/event'><System><Provider Name='Service Control Manager'/>\
             <EventID Qualifiers='16384'>{id}</EventID><Level>{level}</Level><TimeCreated SystemTime='2026-04-12T02:31:07.4420000Z'/>\
             <EventRecordID>9</EventRecordID><Execution ProcessID='700' ThreadID='8'/><Channel>System</Channel>\
             <Computer>keeper-desk</Computer></System><EventData><Data Name='param1'>a &lt; b &amp; c</Data><Data>two\nlines</Data>\
             </EventData></Event>"
        )
    };
    let one_a_line =
        format!("{}\r\n{}\r\n", event(7036, 4).replace('\n', "&#10;"), event(7034, 2).replace('\n', "&#10;"));
    let document = format!(
        "\u{FEFF}<?xml version=\"1.0\" encoding=\"utf-8\" standalone=\"yes\"?>\r\n<Events>{}{}</Events>",
        event(7036, 4),
        event(7034, 2)
    );
    for text in [one_a_line, document.clone()] {
        let (events, account) = decoded("event-xml", text.as_bytes());
        assert_eq!(account.trouble, []);
        assert_eq!(events.len(), 2, "{text}");
        let last = &events[1];
        assert_eq!(last.time, "2026-04-12T02:31:07.442000000Z");
        assert_eq!(
            (last.severity, last.host.as_str(), last.component.as_str()),
            (17, "keeper-desk", "Service Control Manager")
        );
        assert_eq!(last.attributes["event.id"], 7034);
        assert_eq!(last.attributes["event.channel"], "System");
        assert_eq!(last.attributes["event.data.param1"], "a < b & c");
        assert_eq!(last.attributes["event.data.1"], "two\nlines");
        let at = text.rfind("<Event ").unwrap();
        assert_eq!(last.place.offset, at as u64);
        assert_eq!(last.place.length as usize, text.rfind("</Event>").unwrap() + 8 - at);
    }
    // The same in UTF-16.
    let wide = log::utf16(&document);
    let (events, account) = decoded("event-xml", &wide);
    assert_eq!((events.len(), account.encoding.as_str()), (2, "utf-16le"));
    let at = document[..document.rfind("<Event ").unwrap()].encode_utf16().count() as u64 * 2;
    assert_eq!(events[1].place.offset, at);
}

#[test]
fn entities_that_grow_stay_what_they_are() {
    let text = "<?xml version=\"1.0\"?><!DOCTYPE x [<!ENTITY a \"aaaaaaaaaa\"><!ENTITY b \"&a;&a;&a;&a;\">]>\n<Events>\
                <Event><System><EventID>1</EventID><Computer>&b;&b;</Computer></System></Event></Events>";
    let (events, _) = decoded("event-xml", text.as_bytes());
    assert_eq!(events.len(), 1);
    assert_eq!(events[0].host, "&b;&b;");
}

#[test]
fn audit_records_of_one_event_are_joined() {
    let text = "type=SYSCALL msg=audit(1775961067.442:101): arch=c000003e syscall=257 success=no exit=-13 pid=1004 uid=7 comm=\"dosingd\" exe=\"/usr/sbin/dosingd\"\n\
                type=SYSCALL msg=audit(1775961067.443:102): arch=c000003e syscall=2 success=yes pid=7 comm=\"sh\"\n\
                type=CWD msg=audit(1775961067.442:101): cwd=\"/\"\n\
                type=PROCTITLE msg=audit(1775961067.442:101): proctitle=646F73696E6764002D66\n\
                type=EOE msg=audit(1775961067.442:101): \n\
                node=dose-gw type=USER_LOGIN msg=audit(1775961068.001:103): pid=9 uid=0 msg='op=login acct=\"root\" exe=\"/usr/sbin/sshd\" addr=192.0.2.9 res=failed'\n";
    let (events, account) = decoded("audit", text.as_bytes());
    assert_eq!(events.len(), 3);
    assert_eq!((account.lines, account.attached_lines), (6, 3));
    assert_eq!(account.event_bytes, text.len() as u64);
    assert_eq!(events[0].time, "2026-04-12T02:31:07.442000000Z");
    assert_eq!((events[0].component.as_str(), events[0].pid), ("dosingd", Some(1004)));
    assert_eq!(events[0].attributes["process.command_line"], "dosingd -f");
    assert_eq!(events[0].attributes["audit.exit"], "-13");
    assert_eq!(events[0].attributes["audit.serial"], 101);
    assert_eq!((events[2].host.as_str(), events[2].attributes["user.name"].as_str()), ("dose-gw", Some("root")));
    assert_eq!(events[2].attributes["audit.res"], "failed");
}

#[test]
fn calls_in_two_parts_are_joined() {
    let text = "99 02:31:07.442000 openat(AT_FDCWD, \"/dev/bridge\", O_RDWR <unfinished ...>\n\
                100 02:31:07.442100 read(3, \"x\", 1) = 1 <0.000006>\n\
                99 02:31:07.442200 <... openat resumed>) = -1 EACCES (Permission denied) <0.000200>\n\
                [pid   101] 02:31:07.500000 --- SIGSEGV {si_signo=SIGSEGV} ---\n\
                101 02:31:07.600000 +++ killed by SIGSEGV (core dumped) +++\n";
    let (events, account) = decoded("syscall-trace", text.as_bytes());
    assert_eq!(events.len(), 4);
    assert_eq!((account.attached_lines, account.event_bytes), (1, text.len() as u64));
    let open = &events[0];
    assert_eq!(open.body, "openat(AT_FDCWD, \"/dev/bridge\", O_RDWR) = -1 EACCES (Permission denied) <0.000200>");
    assert_eq!(
        (open.pid, open.component.as_str(), open.attributes["error.type"].as_str()),
        (Some(99), "openat", Some("EACCES"))
    );
    assert_eq!(open.attributes["syscall.result"], "-1");
    assert_eq!(events[1].attributes["syscall.duration_s"], 0.000_006);
    assert_eq!(events[2].pid, Some(101));
}

#[test]
fn reports_of_keys_and_values() {
    let text = "Version=1\r\nEventType=APPCRASH\r\nEventTime=134204346674420000\r\nReportType=2\r\nSig[0].Name=Application Name\r\n\
                Sig[0].Value=console.exe\r\nAppName=Tankwarden Console\r\n";
    let wide = [&[0xFF, 0xFE][..], &log::utf16(text)].concat();
    let (events, account) = decoded("key-value-report", &wide);
    assert_eq!((events.len(), account.encoding.as_str(), account.lines), (1, "utf-16le", 7));
    assert_eq!(events[0].time, "2026-04-12T02:31:07.442000000Z");
    assert_eq!(
        (events[0].component.as_str(), &events[0].attributes["report.Sig[0].Value"]),
        ("Tankwarden Console", &Value::from("console.exe"))
    );
    let long = format!(
        "ProblemType: Crash\nDate: Sun Apr 12 02:31:07 2026\nSignal: 6\nPackage: x\nCoreDump:\n{}",
        " AAAABBBB\n".repeat(300_000)
    );
    let (events, account) = decoded("key-value-report", long.as_bytes());
    assert_eq!((events.len(), account.event_bytes), (1, long.len() as u64));
    assert!(account.trouble[0].text.contains("longer than"), "{:?}", account.trouble);
    let text = "ProblemType: Crash\nDate: Sun Apr 12 02:31:07 2026\nExecutablePath: /usr/sbin/dosingd\nSignal: 6\nStacktrace:\n #0 raise\n #1 abort\n";
    let (events, _) = decoded("key-value-report", text.as_bytes());
    assert_eq!(events[0].attributes["report.Stacktrace"], "\n#0 raise\n#1 abort");
    assert!(events[0].time.starts_with("Local("));
}

#[test]
fn json_that_is_not_one_event_a_line() {
    let text = "[\n  {\n    \"time\": \"2026-04-12T02:31:07.442Z\",\n    \"level\": \"error\",\n    \"msg\": \"a } in \\\" text\"\n  },\n  {\"time\": 1775961068, \"msg\": \"two\"}\n]\n";
    let (events, account) = decoded("json-lines", text.as_bytes());
    assert_eq!((events.len(), account.trouble.as_slice()), (2, &[][..]));
    assert_eq!((events[0].severity, events[0].body.as_str(), events[0].place.line), (17, "a } in \" text", 2));
    assert_eq!(events[0].place.offset, text.find('{').unwrap() as u64);
    assert_eq!(events[1].time, "2026-04-12T02:31:08.000000000Z");
    // OpenTelemetry's export, as its JSON mapping is published.
    let text = r#"{"resourceLogs":[{"resource":{"attributes":[{"key":"service.name","value":{"stringValue":"dosing"}},{"key":"host.name","value":{"stringValue":"pump-ctl"}}]},"scopeLogs":[{"scope":{"name":"link"},"logRecords":[{"timeUnixNano":"1775961067442000000","severityNumber":17,"severityText":"Error","body":{"stringValue":"lost"},"attributes":[{"key":"retry","value":{"intValue":"4"}}],"traceId":"5b8efff798038103d269b633813fc60c"},{"timeUnixNano":"1775961068442000000","severityNumber":9,"body":{"stringValue":"found"}}]}]}]}"#;
    let (events, account) = decoded("json-lines", format!("{text}\n{text}\n").as_bytes());
    assert_eq!(events.len(), 4);
    assert_eq!(account.event_bytes, 2 * text.len() as u64);
    let first = &events[0];
    assert_eq!(
        (first.time.as_str(), first.severity, first.host.as_str(), first.component.as_str()),
        ("2026-04-12T02:31:07.442000000Z", 17, "pump-ctl", "link")
    );
    assert_eq!(
        (&first.attributes["retry"], &first.attributes["service.name"]),
        (&Value::from(4), &Value::from("dosing"))
    );
}

/// Whatever a file holds, decoding ends, and its account adds up.
/// Found by a fuzzer: what stands between two arrays was cut in the middle of a letter.
#[test]
fn letters_between_arrays_are_not_cut() {
    let entry = r#"{"pri":5,"time":1.0,"msg":"valve open"}"#;
    for shift in 0..2 {
        let between = format!("{}{}", "x".repeat(shift), "é".repeat(5_000));
        let text = format!("{{\"dmesg\":[{entry}],\"note\":\"{between}\",\"dmesg\":[{entry}]}}");
        let (events, _) = decoded("kernel-ring", text.as_bytes());
        assert_eq!(events.len(), 2);
    }
}

fn total(decoder: &Decoded, bytes: &[u8]) {
    let (text, account) = decode_bytes(decoder, bytes).unwrap();
    assert!(account.event_bytes <= account.bytes, "{}: {} of {}", decoder.name(), account.event_bytes, account.bytes);
    assert!(String::from_utf8(text).is_ok());
}

fn samples() -> Vec<Vec<u8>> {
    let mut journal = b"__REALTIME_TIMESTAMP=1\nMESSAGE\n\x02\0\0\0\0\0\0\0ab\n\n".to_vec();
    journal.extend(b"LPKSHHRH");
    vec![
        log::file()[..4096 + 2048].to_vec(),
        journal,
        b"type=SYSCALL msg=audit(1.2:3): a=1\n".to_vec(),
        b"1 02:31:07 read(3 <unfinished ...>\n1 02:31:08 <... read resumed>) = 0\n".to_vec(),
        b"<Event><System><EventID>1</EventID></System></Event>".to_vec(),
        b"[{\"a\":\"b\"}]".to_vec(),
        b"A=1\nB=2\nC=3\nD=4\n".to_vec(),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn any_bytes_decode(bytes in proptest::collection::vec(any::<u8>(), 0..2000)) {
        for decoder in &DECODERS {
            total(decoder, &bytes);
        }
    }

    #[test]
    fn any_change_decodes(sample in 0..7_usize, at in any::<prop::sample::Index>(), byte in any::<u8>(), cut in any::<prop::sample::Index>()) {
        let mut bytes = samples()[sample].clone();
        let at = at.index(bytes.len());
        bytes[at] = byte;
        bytes.truncate(cut.index(bytes.len()) + 1);
        for decoder in &DECODERS {
            total(decoder, &bytes);
        }
    }
}
