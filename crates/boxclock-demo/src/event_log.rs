//! A Windows event log for the demo: header, chunks of 64 KiB, records of binary XML with one template a chunk.
//!
//! Layout: see `decode/evtx.rs` and `decode/binxml.rs` of the core, and the sources named there.

use super::scribe::Millis;

const CHUNK_BYTES: usize = 65_536;

/// One event.
#[derive(Clone, Debug)]
pub struct Entry {
    pub time: Millis,
    pub provider: &'static str,
    pub id: u16,
    /// 1 critical to 4 information.
    pub level: u8,
    pub pid: u32,
    pub data: Vec<(&'static str, String)>,
}

fn utf16(text: &str) -> Vec<u8> {
    text.encode_utf16().flat_map(u16::to_le_bytes).collect()
}

/// 100-ns ticks since 1601.
fn ticks(time: Millis) -> i64 {
    116_444_736_000_000_000 + time * 10_000
}

/// A value that a record puts into the template, or the template itself.
enum Part<'a> {
    Text(&'a str),
    Value(u16, u8),
}

struct Chunk {
    bytes: Vec<u8>,
    template: Option<u32>,
    first: u64,
}

impl Chunk {
    fn new(first: u64) -> Self {
        let mut bytes = vec![0; 512];
        bytes[..8].copy_from_slice(b"ElfChnk\0");
        Self { bytes, template: None, first }
    }

    fn u16(&mut self, value: u16) {
        self.bytes.extend(value.to_le_bytes());
    }

    fn u32(&mut self, value: u32) {
        self.bytes.extend(value.to_le_bytes());
    }

    fn name(&mut self, name: &str) {
        let here = self.bytes.len() as u32 + 4;
        self.u32(here);
        self.u32(0);
        self.u16(0);
        self.u16(name.encode_utf16().count() as u16);
        self.bytes.extend(utf16(name));
        self.u16(0);
    }

    fn part(&mut self, part: &Part<'_>) {
        match part {
            Part::Text(text) => {
                self.bytes.extend([0x05, 0x01]);
                self.u16(text.encode_utf16().count() as u16);
                self.bytes.extend(utf16(text));
            }
            Part::Value(index, kind) => {
                self.bytes.push(0x0E);
                self.u16(*index);
                self.bytes.push(*kind);
            }
        }
    }

    /// An element with its attributes, up to the place of its content. In templates a dependency stands before the size.
    fn start(&mut self, name: &str, attributes: &[(&str, Part<'_>)], in_template: bool) {
        self.bytes.push(if attributes.is_empty() { 0x01 } else { 0x41 });
        if in_template {
            self.u16(0xFFFF);
        }
        self.u32(0);
        self.name(name);
        if !attributes.is_empty() {
            let size_at = self.bytes.len();
            self.u32(0);
            for (index, (name, part)) in attributes.iter().enumerate() {
                self.bytes.push(if index + 1 < attributes.len() { 0x46 } else { 0x06 });
                self.name(name);
                self.part(part);
            }
            self.set_u32(size_at, (self.bytes.len() - size_at - 4) as u32);
        }
    }

    fn empty(&mut self, name: &str, attributes: &[(&str, Part<'_>)]) {
        self.start(name, attributes, true);
        self.bytes.push(0x03);
    }

    fn leaf(&mut self, name: &str, index: u16, kind: u8) {
        self.start(name, &[], true);
        self.bytes.push(0x02);
        self.part(&Part::Value(index, kind));
        self.bytes.push(0x04);
    }

    fn set_u32(&mut self, at: usize, value: u32) {
        self.bytes[at..at + 4].copy_from_slice(&value.to_le_bytes());
    }

    fn definition(&mut self) {
        self.bytes.extend([0x0F, 1, 1, 0]);
        let space = Part::Text("http://schemas.microsoft.com/win/2004/08/events/event");
        self.start("Event", &[("xmlns", space)], true);
        self.bytes.push(0x02);
        self.start("System", &[], true);
        self.bytes.push(0x02);
        self.empty("Provider", &[("Name", Part::Value(0, 1))]);
        self.leaf("EventID", 1, 6);
        self.leaf("Level", 2, 4);
        self.empty("TimeCreated", &[("SystemTime", Part::Value(3, 0x11))]);
        self.leaf("EventRecordID", 4, 0x0A);
        self.empty("Execution", &[("ProcessID", Part::Value(5, 8))]);
        self.leaf("Channel", 6, 1);
        self.leaf("Computer", 7, 1);
        self.bytes.push(0x04);
        self.part(&Part::Value(8, 0x21));
        self.bytes.extend([0x04, 0x00]);
    }

    /// The event's own data, as the binary XML that is the template's last value. Its names stand at their place in the chunk,
    /// which is known only when it is written: `at` is where it will be.
    fn data(&self, entry: &Entry, at: usize) -> Vec<u8> {
        let mut part = Self { bytes: vec![0; at], template: None, first: 0 };
        part.bytes.extend([0x0F, 1, 1, 0]);
        part.start("EventData", &[], false);
        part.bytes.push(0x02);
        for (name, value) in &entry.data {
            part.start("Data", &[("Name", Part::Text(name))], false);
            part.bytes.push(0x02);
            part.part(&Part::Text(value));
            part.bytes.push(0x04);
        }
        part.bytes.extend([0x04, 0x00]);
        part.bytes.split_off(at)
    }

    fn event(&mut self, entry: &Entry, number: u64, channel: &str, computer: &str) {
        let at = self.bytes.len();
        self.bytes.extend([0x2A, 0x2A, 0, 0]);
        self.u32(0);
        self.bytes.extend(number.to_le_bytes());
        self.bytes.extend(ticks(entry.time).to_le_bytes());
        self.bytes.extend([0x0F, 1, 1, 0, 0x0C, 1]);
        self.u32(1);
        let here = self.bytes.len() as u32 + 4;
        let place = *self.template.get_or_insert(here);
        self.u32(place);
        if place == here {
            self.u32(0);
            self.bytes.extend([1; 16]);
            let size_at = self.bytes.len();
            self.u32(0);
            self.definition();
            self.set_u32(size_at, (self.bytes.len() - size_at - 4) as u32);
        }
        let mut values: Vec<(u8, Vec<u8>)> = vec![
            (1, utf16(entry.provider)),
            (6, entry.id.to_le_bytes().to_vec()),
            (4, vec![entry.level]),
            (0x11, ticks(entry.time).to_le_bytes().to_vec()),
            (0x0A, number.to_le_bytes().to_vec()),
            (8, entry.pid.to_le_bytes().to_vec()),
            (1, utf16(channel)),
            (1, utf16(computer)),
        ];
        let before: usize = values.iter().map(|(_, data)| data.len()).sum();
        let data_at = self.bytes.len() + 4 + 4 * (values.len() + 1) + before;
        values.push((0x21, self.data(entry, data_at)));
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
        self.set_u32(at + 4, size);
    }

    fn finish(mut self, last: u64) -> Vec<u8> {
        let free = self.bytes.len() as u32;
        for (at, value) in [(8, self.first), (16, last), (24, self.first), (32, last)] {
            self.bytes[at..at + 8].copy_from_slice(&value.to_le_bytes());
        }
        self.set_u32(40, 128);
        self.set_u32(48, free);
        let records = crc32fast::hash(&self.bytes[512..]);
        self.set_u32(52, records);
        let head = crc32fast::hash(&[&self.bytes[..120], &self.bytes[128..512]].concat());
        self.set_u32(124, head);
        self.bytes.resize(CHUNK_BYTES, 0);
        self.bytes
    }
}

/// The file of a channel of a computer, with these events in order.
pub fn event_log(entries: &[Entry], channel: &str, computer: &str) -> Vec<u8> {
    let mut chunks: Vec<Vec<u8>> = Vec::new();
    let mut chunk = Chunk::new(1);
    let mut number = 0;
    for entry in entries {
        if chunk.bytes.len() > CHUNK_BYTES - 6000 {
            let full = std::mem::replace(&mut chunk, Chunk::new(number + 1));
            chunks.push(full.finish(number));
        }
        number += 1;
        chunk.event(entry, number, channel, computer);
    }
    chunks.push(chunk.finish(number));
    let mut file = vec![0; 4096];
    file[..8].copy_from_slice(b"ElfFile\0");
    file[16..24].copy_from_slice(&(chunks.len() as u64 - 1).to_le_bytes());
    file[24..32].copy_from_slice(&(number + 1).to_le_bytes());
    file[32..36].copy_from_slice(&128_u32.to_le_bytes());
    file[36..44].copy_from_slice(&[1, 0, 3, 0, 0, 16, chunks.len() as u8, 0]);
    let crc = crc32fast::hash(&file[..120]);
    file[124..128].copy_from_slice(&crc.to_le_bytes());
    file.extend(chunks.concat());
    file
}
