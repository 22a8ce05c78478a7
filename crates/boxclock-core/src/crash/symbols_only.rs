//! Program files without their code and data: what following a stack and naming its functions needs, for a box that should stay small.
//!
//! ELF (System V ABI, chapter 4): sections that are left out become `SHT_NOBITS`, as in files that hold debugging data apart. PE (PE
//! format of Microsoft's documentation): sections that are left out have no bytes in the file.

use object::read::elf::{FileHeader, SectionHeader};
use object::{BinaryFormat, Endianness, FileKind, Object, elf};

/// Sections of an ELF file that are kept, and all notes: names of functions, tables of how frames are undone, Go's own table.
const ELF_KEPT: [&str; 12] = [
    ".symtab",
    ".strtab",
    ".dynsym",
    ".dynstr",
    ".shstrtab",
    ".symtab_shndx",
    ".eh_frame",
    ".eh_frame_hdr",
    ".debug_frame",
    ".zdebug_frame",
    ".gopclntab",
    ".data.rel.ro.gopclntab",
];

/// Sections of a PE file that are kept: tables of exceptions and exports, and what names the build.
const PE_KEPT: [&str; 7] = [".pdata", ".xdata", ".rdata", ".edata", ".buildid", ".eh_frame", ".debug_frame"];

/// A program file with its symbols and unwind tables only; `None` where it is not a program, or of a form that is not known.
pub(crate) fn symbols_only(program: &[u8]) -> Option<Vec<u8>> {
    match FileKind::parse(program).ok()? {
        FileKind::Elf32 => of_elf::<elf::FileHeader32<Endianness>>(program, 4),
        FileKind::Elf64 => of_elf::<elf::FileHeader64<Endianness>>(program, 8),
        FileKind::Pe32 | FileKind::Pe64 => of_pe(program),
        _ => None,
    }
}

/// Whether the code of an ELF file is left out.
pub(super) fn is_without_code(file: &object::File<'_>) -> bool {
    use object::{ObjectSection, SectionFlags};
    file.format() == BinaryFormat::Elf && file.sections().any(|section| {
        let runs =
            matches!(section.flags(), SectionFlags::Elf { sh_flags } if sh_flags & u64::from(elf::SHF_EXECINSTR) != 0);
        runs && section.size() > 0 && section.file_range().is_none()
    })
}

/// Writes a number of some bytes in the order of a file.
fn put(out: &mut [u8], at: usize, value: u64, width: usize, is_little: bool) -> Option<()> {
    let field = out.get_mut(at..at.checked_add(width)?)?;
    let (little, big) = (value.to_le_bytes(), value.to_be_bytes());
    field.copy_from_slice(if is_little { little.get(..width)? } else { big.get(8_usize.checked_sub(width)?..)? });
    Some(())
}

/// Adds bytes at the next place that is a multiple of 16: where they begin. Parts of one file are together no longer than it is; a
/// file whose sections lie over each other could make any length of itself.
fn append(out: &mut Vec<u8>, bytes: &[u8], left: &mut usize) -> Option<u64> {
    *left = left.checked_sub(bytes.len())?;
    out.resize(out.len().next_multiple_of(16), 0);
    let at = out.len() as u64;
    out.extend_from_slice(bytes);
    Some(at)
}

fn of_elf<H: FileHeader<Endian = Endianness>>(data: &[u8], word: usize) -> Option<Vec<u8>> {
    let header = H::parse(data).ok()?;
    let endian = header.endian().ok()?;
    let is_little = endian == Endianness::Little;
    let sections = header.sections(endian, data).ok()?;
    // Where the fields stand: after 16 bytes of identification, 8 of type, machine and version, one word of the entry.
    let (ph_at, sh_at) = (24_usize.checked_add(word)?, 24_usize.checked_add(word)?.checked_add(word)?);
    let mut out = data.get(..size_of::<H>())?.to_vec();
    let mut left = data.len();
    let programs = object::pod::bytes_of_slice(header.program_headers(endian, data).ok()?);
    let at = append(&mut out, programs, &mut left)?;
    put(&mut out, ph_at, at, word, is_little)?;
    let mut table = object::pod::bytes_of_slice(header.section_headers(endian, data).ok()?).to_vec();
    let entry = size_of::<H::SectionHeader>();
    for (index, section) in sections.iter().enumerate() {
        let start = index.checked_mul(entry)?;
        let kind = section.sh_type(endian);
        let name = sections.section_name(endian, section).ok().and_then(|name| std::str::from_utf8(name).ok());
        if matches!(kind, elf::SHT_NULL | elf::SHT_NOBITS) {
            continue;
        }
        if kind == elf::SHT_NOTE || name.is_some_and(|name| ELF_KEPT.contains(&name)) {
            let at = append(&mut out, section.data(endian, data).ok()?, &mut left)?;
            // Name, type, flags and address stand before the offset.
            put(&mut table, start.checked_add(8)?.checked_add(word.checked_mul(2)?)?, at, word, is_little)?;
        } else {
            put(&mut table, start.checked_add(4)?, u64::from(elf::SHT_NOBITS), 4, is_little)?;
        }
    }
    let at = append(&mut out, &table, &mut left)?;
    put(&mut out, sh_at, at, word, is_little)?;
    Some(out)
}

fn of_pe(data: &[u8]) -> Option<Vec<u8>> {
    let number = |at: usize, width: usize| -> Option<u64> {
        let bytes = data.get(at..at.checked_add(width)?)?;
        Some(bytes.iter().rev().fold(0, |value, byte| value << 8 | u64::from(*byte)))
    };
    let place = |value: u64| usize::try_from(value).ok();
    // The offset of the PE header, its signature, then the header of COFF: sections, symbols, size of what follows.
    let coff = place(number(60, 4)?)?.checked_add(4)?;
    let count = place(number(coff.checked_add(2)?, 2)?)?;
    let (symbols, symbol_count) = (place(number(coff.checked_add(8)?, 4)?)?, place(number(coff.checked_add(12)?, 4)?)?);
    let table = coff.checked_add(20)?.checked_add(place(number(coff.checked_add(16)?, 2)?)?)?;
    let mut out = data.get(..table.checked_add(count.checked_mul(40)?)?)?.to_vec();
    let mut left = data.len();
    for index in 0..count {
        let start = table.checked_add(index.checked_mul(40)?)?;
        let (size_at, from_at) = (start.checked_add(16)?, start.checked_add(20)?);
        let (size, from) = (place(number(size_at, 4)?)?, place(number(from_at, 4)?)?);
        let name = data.get(start..start.checked_add(8)?)?.split(|byte| *byte == 0).next()?;
        let kept = std::str::from_utf8(name).ok().is_some_and(|name| PE_KEPT.contains(&name));
        let bytes = data.get(from..from.checked_add(size)?).filter(|_| kept).unwrap_or_default();
        let at = if bytes.is_empty() { 0 } else { append(&mut out, bytes, &mut left)? };
        put(&mut out, from_at, at, 4, true)?;
        put(&mut out, size_at, bytes.len() as u64, 4, true)?;
    }
    if symbols > 0 {
        // Symbols of 18 bytes, behind them the table of longer names, whose size stands first.
        let names = symbols.checked_add(symbol_count.checked_mul(18)?)?;
        let end = names.checked_add(place(number(names, 4).unwrap_or(4))?)?.min(data.len());
        let at = append(&mut out, data.get(symbols..end)?, &mut left)?;
        put(&mut out, coff.checked_add(8)?, at, 4, true)?;
    }
    Some(out)
}

#[cfg(test)]
mod tests {
    use std::path::{Path, PathBuf};

    use super::super::{ProgramFile, Programs, examine, recognise};
    use super::*;

    fn sample(name: &str) -> PathBuf {
        Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data/crashes").join(name)
    }

    #[test]
    fn stacks_are_the_same_without_code() {
        let folder = tempfile::tempdir().unwrap();
        for (core, program) in [("feed.core", "feed"), ("pump-x86.core", "pump-x86")] {
            let whole = std::fs::read(sample(program)).unwrap();
            let small = symbols_only(&whole).unwrap();
            assert!(small.len() < whole.len(), "{program}: {} of {}", small.len(), whole.len());
            let path = folder.path().join(program);
            std::fs::write(&path, small).unwrap();
            let told = |path: PathBuf| {
                let files = [ProgramFile { path, name: program.to_owned(), host: None }];
                let mut programs = Programs::new(&files, None);
                programs.this_machine = false;
                let start = std::fs::read(sample(core)).unwrap();
                let report = examine(recognise(&start).unwrap(), &sample(core), &mut programs);
                let frames = report.frames.iter().map(|frame| (frame.module.clone(), frame.function.clone()));
                (frames.collect::<Vec<_>>(), report.missing)
            };
            assert_eq!(told(path), told(sample(program)), "{program}");
        }
    }

    /// Two hundred sections that are all the whole file would make a box of two hundred times its size.
    #[test]
    fn sections_over_each_other_do_not_add_up() {
        let mut program = vec![0; 64 + 24 + 200 * 40];
        program[..2].copy_from_slice(b"MZ");
        program[60] = 64;
        program[64..68].copy_from_slice(b"PE\0\0");
        program[70] = 200;
        let size = u32::try_from(program.len()).unwrap();
        for index in 0..200 {
            let start = 88 + index * 40;
            program[start..start + 6].copy_from_slice(b".pdata");
            program[start + 16..start + 20].copy_from_slice(&size.to_le_bytes());
        }
        assert_eq!(of_pe(&program), None);
    }

    proptest::proptest! {
        #[test]
        fn any_bytes(at in proptest::collection::vec((0_usize..6000, proptest::num::u8::ANY), 1..12), cut in 0_usize..20_000) {
            let mut program = std::fs::read(sample("feed")).unwrap();
            for (at, byte) in at {
                let at = at % program.len();
                program[at] = byte;
            }
            program.truncate(cut.max(64));
            let _ = symbols_only(&program);
            program.splice(..2, *b"MZ");
            let _ = of_pe(&program);
        }
    }
}
