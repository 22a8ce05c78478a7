//! The table of functions that every program of Go carries, also one that was stripped of its symbols.
//!
//! Source: the runtime's own reader, `runtime/symtab.go` and `internal/abi/symtab.go` (`pcHeader`, `functab`), versions 1.18 and 1.20.

use object::{Object, ObjectSection};

use super::field::Fields;

/// Functions of one program that are read.
const MOST: usize = 1 << 20;

/// The address and name of each function, in order; empty where the program is none of Go, or of another version of the table.
pub(super) fn functions(file: &object::File<'_>) -> Vec<(u64, String)> {
    let names = [".gopclntab", ".data.rel.ro.gopclntab", "__gopclntab"];
    let table = names.iter().find_map(|name| file.section_by_name(name)?.data().ok());
    let text = file.section_by_name(".text").map_or(0, |section| section.address());
    let table = table.map(|data| Fields::of(data, !file.is_little_endian()));
    table.and_then(|table| read(&table, file.is_64(), text)).unwrap_or_default()
}

/// Reads the table of a program whose code starts at `text`.
fn read(table: &Fields, wide: bool, text: u64) -> Option<Vec<(u64, String)>> {
    const VERSIONS: [u32; 2] = [0xFFFF_FFF0, 0xFFFF_FFF1];
    if !VERSIONS.contains(&table.u32(0)?) {
        return None;
    }
    let word = if wide { 8 } else { 4 };
    // Behind eight bytes of head: numbers of functions and files, start of the text, and where the parts are.
    let field = |place: usize| table.word(8 + place * word, wide).and_then(|value| usize::try_from(value).ok());
    let count = field(0)?.min(MOST);
    // Programs that are moved when they start have no start of the text there: the loader writes it.
    let text = table.word(8 + 2 * word, wide).filter(|stated| *stated != 0).unwrap_or(text);
    let (names, functions) = (field(3)?, field(7)?);
    let function = |place: usize| {
        let at = functions.checked_add(place.checked_mul(8)?)?;
        let (entry, data) = (table.u32(at)?, usize::try_from(table.u32(at.checked_add(4)?)?).ok()?);
        let name = table.u32(functions.checked_add(data)?.checked_add(4)?)?;
        Some((text.checked_add(u64::from(entry))?, table.text(names.checked_add(usize::try_from(name).ok()?)?, 4096)?))
    };
    Some((0..count).map_while(function).collect())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// Two functions, 64 bits, version 1.20; the text starts where the section does.
    fn table() -> Vec<u8> {
        let mut table = 0xFFFF_FFF1_u32.to_le_bytes().to_vec();
        table.extend([0, 0, 1, 8]);
        let (names, functions) = (72_u64, 96_u64);
        for word in [2, 0, 0, names, 0, 0, 0, functions] {
            table.extend(word.to_le_bytes());
        }
        table.extend(b"main.main\0main.pump\0");
        table.resize(96, 0);
        // Where each starts, and where what is known of it is; the end closes the list.
        for half in [0_u32, 24, 0x40, 32, 0x80, 0] {
            table.extend(half.to_le_bytes());
        }
        for half in [0_u32, 0, 0x40, 10] {
            table.extend(half.to_le_bytes());
        }
        table
    }

    #[test]
    fn functions_of_a_stripped_program_have_their_names() {
        let found = read(&Fields::of(&table(), false), true, 0x40_1000).unwrap();
        assert_eq!(found, [(0x40_1000, "main.main".to_owned()), (0x40_1040, "main.pump".to_owned())]);
        let mut other = table();
        other[0] = 0xFB;
        assert_eq!(read(&Fields::of(&other, false), true, 0), None, "a version that is not known");
    }

    proptest! {
        #[test]
        fn any_bytes_of_it_changed(at in 8..150_usize, value in any::<[u8; 4]>(), length in 0..160_usize) {
            let mut bytes = table();
            bytes.resize(160, 0);
            bytes[at..at + 4].copy_from_slice(&value);
            bytes.truncate(length);
            read(&Fields::of(&bytes, false), true, 0);
        }
    }
}
