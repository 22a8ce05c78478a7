//! The dumps of the demo story, written as the published layouts say (see the readers in the core for their sources).

use crate::scribe::Millis;

/// Bytes that fields are put into at fixed places.
struct Image(Vec<u8>);

impl Image {
    fn new(length: usize) -> Self {
        Self(vec![0; length])
    }

    fn put(&mut self, at: usize, bytes: &[u8]) {
        self.0[at..at + bytes.len()].copy_from_slice(bytes);
    }

    fn u16(&mut self, at: usize, value: u16) {
        self.put(at, &value.to_le_bytes());
    }

    fn u32(&mut self, at: usize, value: u32) {
        self.put(at, &value.to_le_bytes());
    }

    fn u64(&mut self, at: usize, value: u64) {
        self.put(at, &value.to_le_bytes());
    }
}

/// An ELF core of a 64-bit process on x86-64, with the notes `PRSTATUS`, `PRPSINFO`, `SIGINFO` and `FILE`, and one page
/// of stack.
pub fn elf_core(name: &str, command_line: &str, pid: u32, signal: u32) -> Vec<u8> {
    const PAGE: u64 = 4096;
    let mut notes = Vec::new();
    let mut status = Image::new(336);
    status.u32(0, signal);
    status.u16(12, signal as u16);
    status.u32(32, pid);
    status.u64(112 + 16 * 8, 0x7F10_0002_B3EC);
    // Frame and stack pointer: three frames, of the library's abort and of the program.
    status.u64(112 + 4 * 8, STACK + 0x180);
    status.u64(112 + 19 * 8, STACK + 0x100);
    note(&mut notes, 1, &status.0);
    let mut process = Image::new(136);
    process.u32(16, 991);
    process.u32(20, 991);
    process.u32(24, pid);
    process.u32(28, 1);
    process.put(40, &name.as_bytes()[..name.len().min(15)]);
    process.put(56, &command_line.as_bytes()[..command_line.len().min(79)]);
    note(&mut notes, 3, &process.0);
    let mut info = Image::new(128);
    info.u32(0, signal);
    info.u32(8, (-6_i32).cast_unsigned());
    info.u32(16, pid);
    note(&mut notes, 0x5349_4749, &info.0);
    let files = [
        ("/usr/sbin/dosingd", 0x5590_0000_0000, 0x5590_0004_2000),
        ("/usr/lib/x86_64-linux-gnu/libc.so.6", 0x7F10_0000_0000, 0x7F10_001E_0000),
    ];
    let mut mapped = Image::new(16 + files.len() * 24);
    mapped.u64(0, files.len() as u64);
    mapped.u64(8, PAGE);
    for (index, (_, start, end)) in files.iter().enumerate() {
        mapped.u64(16 + index * 24, *start);
        mapped.u64(24 + index * 24, *end);
    }
    for (path, ..) in files {
        mapped.0.extend_from_slice(path.as_bytes());
        mapped.0.push(0);
    }
    note(&mut notes, 0x4649_4C45, &mapped.0);

    let mut image = Image::new(64 + 2 * 56);
    image.put(0, b"\x7FELF\x02\x01\x01");
    image.u16(16, 4);
    image.u16(18, 62);
    image.u32(20, 1);
    image.u64(32, 64);
    image.u16(52, 64);
    image.u16(54, 56);
    image.u16(56, 2);
    let notes_at = 64 + 2 * 56;
    let stack_at = (notes_at + notes.len()).next_multiple_of(PAGE as usize);
    for (index, (kind, offset, address, size)) in
        [(4, notes_at as u64, 0, notes.len() as u64), (1, stack_at as u64, STACK, PAGE)].into_iter().enumerate()
    {
        let at = 64 + index * 56;
        image.u32(at, kind);
        image.u32(at + 4, if kind == 1 { 6 } else { 4 });
        image.u64(at + 8, offset);
        image.u64(at + 16, address);
        image.u64(at + 32, size);
        image.u64(at + 40, size);
    }
    image.0.extend_from_slice(&notes);
    image.0.resize(stack_at + PAGE as usize, 0);
    // Each frame: the frame pointer before it, and where it returns to.
    let frames = [
        (0x180_u64, 0x1D0_u64, 0x7F10_0002_6472_u64),
        (0x1D0, 0x240, 0x5590_0001_F3A2),
        (0x240, 0x2C0, 0x5590_0001_204C),
        (0x2C0, 0, 0x7F10_0002_71CA),
    ];
    for (at, outer, back) in frames {
        image.u64(stack_at + at as usize, if outer == 0 { 0 } else { STACK + outer });
        image.u64(stack_at + at as usize + 8, back);
    }
    image.0
}

/// Where the stack of the demo's core is in memory.
const STACK: u64 = 0x7FFC_0000_0000;

fn note(notes: &mut Vec<u8>, kind: u32, data: &[u8]) {
    for value in [5, data.len() as u32, kind] {
        notes.extend_from_slice(&value.to_le_bytes());
    }
    notes.extend_from_slice(b"CORE\0\0\0\0");
    notes.extend_from_slice(data);
    notes.resize(notes.len().next_multiple_of(4), 0);
}

/// The old driver of the serial bridge: as much of an image as says its date (2016-03-15) and version.
///
/// PE/COFF specification: `MZ`, the header's place at 0x3C, `PE`, the time stamp 8 bytes behind it; `VS_FIXEDFILEINFO` with
/// its signature and the file version.
pub fn driver() -> Vec<u8> {
    let mut image = vec![0; 0x200];
    let mut put = |at: usize, bytes: &[u8]| image[at..at + bytes.len()].copy_from_slice(bytes);
    put(0, b"MZ");
    put(0x3C, &0x80_u32.to_le_bytes());
    put(0x80, b"PE\0\0");
    put(0x84, &0x8664_u16.to_le_bytes());
    put(0x88, &1_458_000_000_u32.to_le_bytes());
    put(0x100, &0xFEEF_04BD_u32.to_le_bytes());
    put(0x108, &0x0001_0004_u32.to_le_bytes());
    put(0x10C, &0x0000_0007_u32.to_le_bytes());
    image
}

/// A minidump of the console: an access violation in the old driver's library.
pub fn minidump(time: Millis) -> Vec<u8> {
    let system = {
        let mut stream = Image::new(56);
        stream.u16(0, 9);
        stream.put(6, &[4, 1]);
        stream.u32(8, 10);
        stream.u32(16, 19_045);
        stream.u32(20, 2);
        stream.0
    };
    let exception = {
        let mut stream = Image::new(168);
        stream.u32(0, 4_712);
        stream.u32(8, 0xC000_0005);
        stream.u64(24, 0x1_8000_3A4C);
        stream.u32(32, 2);
        stream.u64(48, 0x28);
        stream.0
    };
    let misc = {
        let mut stream = Image::new(24);
        stream.u32(0, 24);
        stream.u32(4, 3);
        stream.u32(8, 4_688);
        stream.u32(12, (crate::scribe::at(2, 14, 40, 0) / 1000) as u32);
        stream.0
    };
    let threads = {
        let mut stream = Image::new(4 + 48);
        stream.u32(0, 1);
        stream.u32(4, 4_712);
        stream.0
    };
    // 2016-03-09 and 2026-02-20, in seconds.
    let modules = [
        ("C:\\Tankwarden\\console.exe", 0x1_4000_0000_u64, 0x9_0000_u32, 1_771_545_600_u32, [5_u32, 0, 2, 0]),
        ("C:\\Tankwarden\\serbridge.dll", 0x1_8000_0000, 0x2_4000, 1_457_481_600, [1, 4, 0, 0]),
    ];
    let count = 5_usize;
    let mut image = Image::new(32 + count * 12);
    image.put(0, b"MDMP");
    image.u16(4, 0xA793);
    image.u32(8, count as u32);
    image.u32(12, 32);
    image.u32(20, (time / 1000) as u32);
    let mut list = Image::new(4 + modules.len() * 108);
    list.u32(0, modules.len() as u32);
    let list_at = 32 + count * 12 + system.len() + exception.len() + misc.len() + threads.len();
    let mut name_at = list_at + list.0.len();
    let mut names = Vec::new();
    for (index, (name, base, size, built, version)) in modules.into_iter().enumerate() {
        let at = 4 + index * 108;
        list.u64(at, base);
        list.u32(at + 8, size);
        list.u32(at + 16, built);
        list.u32(at + 20, name_at as u32);
        list.u32(at + 24, 0xFEEF_04BD);
        list.u32(at + 32, version[0] << 16 | version[1]);
        list.u32(at + 36, version[2] << 16 | version[3]);
        let units: Vec<u8> = name.encode_utf16().flat_map(u16::to_le_bytes).collect();
        names.extend_from_slice(&(units.len() as u32).to_le_bytes());
        names.extend_from_slice(&units);
        names.extend_from_slice(&[0, 0]);
        name_at = list_at + list.0.len() + names.len();
    }
    let streams = [(7, system), (6, exception), (15, misc), (3, threads), (4, list.0)];
    let mut at = 32 + count * 12;
    for (index, (kind, bytes)) in streams.iter().enumerate() {
        image.u32(32 + index * 12, *kind);
        image.u32(36 + index * 12, bytes.len() as u32);
        image.u32(40 + index * 12, at as u32);
        at += bytes.len();
    }
    for (_, bytes) in streams {
        image.0.extend_from_slice(&bytes);
    }
    image.0.extend_from_slice(&names);
    image.0
}

/// A small dump of the whole system of `keeper-desk`: stop 0xD1 in the old driver of the serial bridge. The layout is the one that
/// the reader in the core describes.
pub fn kernel_dump(time: Millis) -> Vec<u8> {
    const BASES: u64 = 0xFFFF_F800_0000_0000;
    const TO_1970: u64 = 116_444_736_000_000_000;
    // 2016-03-15 for the driver; the system's own stamps are hashes, as reproducible builds have them.
    let drivers: [(&str, u64, u32, u32); 7] = [
        ("ntoskrnl.exe", BASES + 0x0400_0000, 0x0104_7000, 0xA1B2_4C3D),
        ("hal.dll", BASES + 0x0610_0000, 0x0000_6000, 0x1C8E_02F1),
        ("ndis.sys", BASES + 0x0820_0000, 0x0017_7000, 0xE2C0_9911),
        ("usbport.sys", BASES + 0x0840_0000, 0x0007_4000, 0x7D11_A0C2),
        ("serenum.sys", BASES + 0x0850_0000, 0x0000_F000, 0x9E00_4B7A),
        ("twbridge.sys", BASES + 0x0861_0000, 0x0001_2000, 1_458_000_000),
        ("tcpip.sys", BASES + 0x0870_0000, 0x002E_B000, 0x44E1_8F20),
    ];
    let in_bridge = BASES + 0x0861_0000 + 0x3A4C;
    let stack_top = 0xFFFF_D581_2A40_6B80_u64;
    let mut image = Image::new(0x2000 + 0x200);
    image.put(0, b"PAGEDU64");
    image.u32(8, 15);
    image.u32(12, 19_045);
    image.u32(0x30, 0x8664);
    image.u32(0x34, 4);
    image.u32(0x38, 0xD1);
    for (index, value) in [0xFFFF_C08A_30F1_E010, 2, 0, in_bridge].into_iter().enumerate() {
        image.u64(0x40 + index * 8, value);
    }
    let context = 0x348;
    image.u64(context + 0x98, stack_top);
    image.u64(context + 0xF8, BASES + 0x0400_0000 + 0x003F_71C0);
    image.u32(0xF98, 4);
    image.u64(0xFA8, time as u64 * 10_000 + TO_1970);
    image.u64(0x1030, 1_158_204 * 10_000);
    // The block of a small dump.
    let (stack_at, stack_size) = (0x2200_usize, 0x400_usize);
    let list_at = stack_at + stack_size;
    let pool_at = list_at + drivers.len() * 0x90;
    let mut pool = Vec::new();
    let mut list = Image::new(drivers.len() * 0x90);
    for (index, (name, base, size, stamp)) in drivers.into_iter().enumerate() {
        let at = index * 0x90;
        list.u32(at, (pool_at + pool.len()) as u32);
        list.u64(at + 8 + 0x30, base);
        list.u32(at + 8 + 0x40, size);
        list.u32(at + 8 + 0x80, stamp);
        let units: Vec<u16> = name.encode_utf16().collect();
        pool.extend_from_slice(&(units.len() as u32).to_le_bytes());
        pool.extend(units.into_iter().chain([0]).flat_map(u16::to_le_bytes));
        pool.resize(pool.len().next_multiple_of(8), 0);
    }
    let process_at = pool_at + pool.len();
    let mut process = Image::new(0x800);
    process.put(0x5A8, b"console.exe");
    let size = process_at + process.0.len() + 4;
    let block = [
        0,
        size,
        size - 4,
        context,
        0xF00,
        0,
        0,
        0,
        process_at,
        0,
        stack_at,
        stack_size,
        list_at,
        drivers.len(),
        pool_at,
        pool.len(),
        0,
        0,
    ];
    for (index, value) in block.into_iter().enumerate() {
        image.u32(0x2000 + index * 4, value as u32);
    }
    image.u64(0x2000 + 0x48, stack_top);
    let mut stack = Image::new(stack_size);
    let returns = [
        (0x38, BASES + 0x0400_0000 + 0x0040_9A69),
        (0x178, in_bridge),
        (0x1F0, BASES + 0x0861_0000 + 0x2210),
        (0x260, BASES + 0x0840_0000 + 0x1_1C40),
        (0x300, BASES + 0x0400_0000 + 0x002B_6C05),
    ];
    for (at, address) in returns {
        stack.u64(at, address);
    }
    let parts = [stack.0, list.0, pool, process.0, b"TRGD".to_vec()];
    for part in parts {
        image.0.extend_from_slice(&part);
    }
    image.0
}
