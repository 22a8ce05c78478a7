//! Binary journals, their export, and records of logins.

use super::*;

#[test]
fn journal_export_with_binary_fields() {
    let mut bytes = b"__CURSOR=s=1\n__REALTIME_TIMESTAMP=1775961067442000\n_HOSTNAME=pump-ctl\nPRIORITY=3\nSYSLOG_IDENTIFIER=dosingd\n_PID=1004\nMESSAGE\n".to_vec();
    let message = b"assertion failed:\nseq < window";
    bytes.extend((message.len() as u64).to_le_bytes());
    bytes.extend(message);
    bytes.extend(b"\n\n__CURSOR=s=2\n__REALTIME_TIMESTAMP=1775961068442000\nMESSAGE=second\nTAG=a\nTAG=b\n\n");
    let (events, account) = decoded("journal-export", &bytes);
    assert_eq!((events.len(), account.trouble.as_slice()), (2, &[][..]));
    assert_eq!(events[0].time, "2026-04-12T02:31:07.442000000Z");
    assert_eq!(
        (events[0].severity, events[0].pid, events[0].body.as_str()),
        (17, Some(1004), "assertion failed:\nseq < window")
    );
    assert_eq!(events[1].attributes["journal.tag"], serde_json::json!(["a", "b"]));
    let second = memchr::memmem::find(&bytes, b"__CURSOR=s=2").unwrap() as u64;
    assert_eq!(events[1].place.offset, second);
    // A length beyond the file.
    let cut = [&bytes[..second as usize], b"__REALTIME_TIMESTAMP=1\nMESSAGE\n\xFF\xFF\xFF\xFF\0\0\0\0short"].concat();
    let (events, account) = decoded("journal-export", &cut);
    assert_eq!(events.len(), 2);
    assert!(account.trouble[0].text.contains("claims 4294967295 bytes"), "{:?}", account.trouble);
}

/// A journal of one entry with a field in each form of compression, put together from the published format.
#[test]
fn journal_file_with_every_compression() {
    let mut bytes = vec![0; 256];
    bytes[..8].copy_from_slice(b"LPKSHHRH");
    bytes[12] = 1 | 2 | 8;
    bytes[88..96].copy_from_slice(&256_u64.to_le_bytes());
    let data = |bytes: &mut Vec<u8>, flags: u8, payload: &[u8]| {
        let at = bytes.len() as u64;
        bytes.extend([1, flags, 0, 0, 0, 0, 0, 0]);
        bytes.extend((64 + payload.len() as u64).to_le_bytes());
        bytes.extend([0; 48]);
        bytes.extend(payload);
        bytes.resize(bytes.len().next_multiple_of(8), 0);
        at
    };
    let text = format!("XZ_FIELD={}", "valve ".repeat(200));
    let mut xz = lzma_rust2::XzWriter::new(Vec::new(), lzma_rust2::XzOptions::default()).unwrap();
    xz.write_all(text.as_bytes()).unwrap();
    let xz = xz.finish().unwrap();
    let lz4_text = format!("MESSAGE={}", "dose ".repeat(200));
    let lz4 = [&(lz4_text.len() as u64).to_le_bytes()[..], &lz4_flex::block::compress(lz4_text.as_bytes())].concat();
    // A zstd frame with one raw block (RFC 8878): magic, descriptor with the size in one byte, size, block header, bytes.
    let plain = b"_HOSTNAME=pump-ctl";
    let block = ((plain.len() as u32) << 3 | 1).to_le_bytes();
    let zstd = [&[0x28, 0xB5, 0x2F, 0xFD, 0x20, plain.len() as u8][..], &block[..3], plain].concat();
    let places = [
        data(&mut bytes, 1, &xz),
        data(&mut bytes, 2, &lz4),
        data(&mut bytes, 4, &zstd),
        data(&mut bytes, 0, b"PRIORITY=4"),
    ];
    let entry = bytes.len() as u64;
    bytes.extend([3, 0, 0, 0, 0, 0, 0, 0]);
    bytes.extend((64 + 16 * places.len() as u64).to_le_bytes());
    bytes.extend(1_u64.to_le_bytes());
    bytes.extend(1_775_961_067_442_000_u64.to_le_bytes());
    bytes.extend(5_000_000_u64.to_le_bytes());
    bytes.extend([0xAB; 16]);
    bytes.extend([0; 8]);
    for place in places {
        bytes.extend(place.to_le_bytes());
        bytes.extend([0; 8]);
    }
    let size = bytes.len() as u64 - 256;
    bytes[96..104].copy_from_slice(&size.to_le_bytes());
    bytes[136..144].copy_from_slice(&entry.to_le_bytes());
    let (events, account) = decoded("journal-binary", &bytes);
    assert_eq!((events.len(), account.trouble.as_slice()), (1, &[][..]));
    let event = &events[0];
    assert_eq!(event.time, "2026-04-12T02:31:07.442000000Z");
    assert_eq!((event.severity, event.host.as_str(), event.place.offset), (13, "pump-ctl", entry));
    assert_eq!(event.body, "dose ".repeat(200));
    assert_eq!(event.attributes["journal.xz_field"], "valve ".repeat(200));
    assert_eq!(event.attributes["journal.boot_id"], "ab".repeat(16));
    // A field that claims more than the file has: the others are there.
    let wide = places[0] as usize + 8;
    bytes[wide..wide + 8].copy_from_slice(&(1_u64 << 32).to_le_bytes());
    let (events, account) = decoded("journal-binary", &bytes);
    assert!(
        account.trouble.iter().any(|trouble| trouble.text.contains("no object at byte 256")),
        "{:?}",
        account.trouble
    );
    assert_eq!(events.len(), 0);
}

/// Found by fuzzing: a header that says that it is as long as numbers go.
/// Found by a fuzzer: the system refuses to read at such an offset, and the whole file was left out for it.
#[test]
fn a_journal_that_names_offsets_beyond_any_file() {
    for offset in [i64::MAX as u64 - 7, i64::MAX as u64 - 4096, 1 << 63, u64::MAX - 7] {
        let mut bytes = vec![0; 272];
        bytes[..8].copy_from_slice(b"LPKSHHRH");
        bytes[88..96].copy_from_slice(&256_u64.to_le_bytes());
        for field in [88, 96, 176, 184, 208] {
            let mut with = bytes.clone();
            with[field..field + 8].copy_from_slice(&offset.to_le_bytes());
            let (events, totals) = decoded("journal-binary", &with);
            assert!(events.is_empty() && totals.bytes == 272, "{offset:x} at {field}");
        }
    }
}

#[test]
fn a_journal_header_without_end() {
    let mut bytes = vec![0; 240];
    bytes[..8].copy_from_slice(b"LPKSHHRH");
    bytes[88..96].fill(0xFF);
    let (events, account) = decoded("journal-binary", &bytes);
    assert_eq!(events.len(), 0);
    assert!(account.trouble[0].text.contains("cut off at byte 240"), "{:?}", account.trouble);
}

/// Entry arrays that lie in each other would take forever to follow.
#[test]
fn a_journal_whose_entry_arrays_overlap() {
    let mut bytes = vec![0; 208];
    bytes[..8].copy_from_slice(b"LPKSHHRH");
    bytes[88..96].copy_from_slice(&208_u64.to_le_bytes());
    bytes[136..144].copy_from_slice(&u64::MAX.to_le_bytes());
    bytes[176..184].copy_from_slice(&216_u64.to_le_bytes());
    bytes.extend([0xEE; 8]);
    for at in (216..200_000_u64).step_by(24) {
        bytes.extend([6, 0, 0, 0, 0, 0, 0, 0]);
        bytes.extend((200_016 - at).to_le_bytes());
        bytes.extend((at + 24).to_le_bytes());
    }
    bytes.resize(200_016, 0);
    let (events, account) = decoded("journal-binary", &bytes);
    assert_eq!(events.len(), 0);
    assert!(account.trouble.iter().any(|trouble| trouble.text.contains("no object at byte 208")));
}

/// Found by fuzzing: an entry whose field lies beyond what a system can be asked for, and damaged characters in XML.
#[test]
fn places_that_cannot_be() {
    let mut bytes = vec![0; 208];
    bytes[..8].copy_from_slice(b"LPKSHHRH");
    bytes[88..96].copy_from_slice(&208_u64.to_le_bytes());
    bytes[136..144].copy_from_slice(&208_u64.to_le_bytes());
    bytes.extend([3, 0, 0, 0, 0, 0, 0, 0]);
    bytes.extend(80_u64.to_le_bytes());
    bytes.extend([0; 48]);
    bytes.extend([0xF8, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0, 0, 0, 0, 0, 0, 0, 0]);
    let (events, account) = decoded("journal-binary", &bytes);
    assert_eq!(events.len(), 1);
    assert!(account.trouble.iter().any(|trouble| trouble.text.contains("1 fields that cannot be read")));
    let xml = [&b"<Event><System><Computer>\xBB\xBB\xBB</Computer></System></Event>"[..], &[0xBB; 20]].concat();
    let (events, account) = decoded("event-xml", &xml);
    assert_eq!(events.len(), 1);
    assert!(account.event_bytes <= account.bytes);
}

#[test]
fn logins_by_the_c_library_layout() {
    let record = |kind: u16, pid: u32, line: &str, user: &str, host: &str, seconds: u32| {
        let mut bytes = vec![0_u8; 384];
        bytes[..2].copy_from_slice(&kind.to_le_bytes());
        bytes[4..8].copy_from_slice(&pid.to_le_bytes());
        bytes[8..8 + line.len()].copy_from_slice(line.as_bytes());
        bytes[44..44 + user.len()].copy_from_slice(user.as_bytes());
        bytes[76..76 + host.len()].copy_from_slice(host.as_bytes());
        bytes[340..344].copy_from_slice(&seconds.to_le_bytes());
        bytes[344..348].copy_from_slice(&442_000_u32.to_le_bytes());
        bytes[348..352].copy_from_slice(&[192, 0, 2, 7]);
        bytes
    };
    let bytes = [
        record(2, 0, "~", "reboot", "6.1.0-keeper", 1_775_961_060),
        record(7, 1234, "pts/0", "keeper", "192.0.2.7", 1_775_961_067),
        record(6, 99, "ssh:notty", "root", "192.0.2.9", 1_775_961_068),
        record(8, 1234, "pts/0", "", "", 1_775_961_069),
    ]
    .concat();
    let (events, account) = decoded("login-records", &bytes[..bytes.len() - 100]);
    assert_eq!(events.len(), 3);
    assert!(account.trouble[0].text.contains("cut off at byte 1436"), "{:?}", account.trouble);
    let (events, _) = decoded("login-records", &bytes);
    let bodies: Vec<&str> = events.iter().map(|event| event.body.as_str()).collect();
    assert_eq!(
        bodies,
        [
            "system boot, kernel 6.1.0-keeper",
            "login of keeper on pts/0 from 192.0.2.7",
            "login attempt of root on ssh:notty from 192.0.2.9",
            "logout on pts/0"
        ]
    );
    assert_eq!(events[1].time, "2026-04-12T02:31:07.442000000Z");
    assert_eq!(events[1].attributes["network.peer.address"], "192.0.2.7");
    assert_eq!(events[3].place, Place { line: 4, offset: 1152, length: 384 });
}
