//! Program files as they lie in the memory of a core: their build id, and, where the core has no list of mapped files, what is
//! mapped where.
//!
//! Sources: the System V ABI (ELF header, program headers, dynamic section, notes), and `link.h` of the C library for the list that
//! the dynamic loader keeps (`r_debug`, `link_map`).

use std::collections::HashMap;
use std::fs::File;
use std::sync::Arc;

use super::Module;
use super::field::Fields;
use super::memory::Memory;

const PT_LOAD: u32 = 1;
const PT_DYNAMIC: u32 = 2;
const PT_NOTE: u32 = 4;
const DT_NULL: u64 = 0;
const DT_STRTAB: u64 = 5;
const DT_SONAME: u64 = 14;
const DT_DEBUG: u64 = 21;
/// Bytes from the start of a file in memory that hold its headers; cores hold this page of every file by default.
const HEAD_BYTES: u64 = 4096;
/// Bytes of a path.
const PATH_BYTES: usize = 4096;
/// Program headers of one file.
const MOST_HEADERS: usize = 256;
/// Program files of one core.
const MOST_IMAGES: usize = 4096;
/// Entries of a dynamic section, and libraries in the loader's list.
const MOST_ENTRIES: usize = 4096;
/// Bytes of the kernel's own library in a process.
const OWN_LIBRARY_BYTES: usize = 64 << 10;
/// The name of the kernel's own library in a process.
const OWN_LIBRARY: &str = "[vdso]";

/// What a kernel tells a program when it starts it: the parts of the auxiliary vector that say what is mapped.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Auxiliary {
    /// Where the program's own headers are.
    pub headers: Option<u64>,
    /// Where the program begins.
    pub entry: Option<u64>,
    /// Where the program's path is.
    pub path: Option<u64>,
    /// Where the kernel's own library is.
    pub own_library: Option<u64>,
}

impl Auxiliary {
    /// Takes one entry of the vector (getauxval(3)).
    pub(super) fn take(&mut self, kind: u64, value: u64) {
        match kind {
            3 => self.headers = Some(value),
            9 => self.entry = Some(value),
            31 => self.path = Some(value),
            33 => self.own_library = Some(value),
            _ => {}
        }
    }
}

/// The memory of a core, read as program files.
pub(super) struct Images<'a> {
    pub file: &'a File,
    pub memory: &'a Memory,
    pub wide: bool,
    pub big_endian: bool,
}

/// A part of a program file that is in memory.
struct Header {
    kind: u32,
    offset: u64,
    address: u64,
    size_in_file: u64,
    size: u64,
}

/// A program file's headers, and by how much its addresses are moved.
struct Image {
    base: u64,
    moved: u64,
    headers: Vec<Header>,
}

impl Image {
    fn end(&self) -> u64 {
        let end = |header: &Header| self.moved.wrapping_add(header.address).saturating_add(header.size);
        self.loaded().map(end).max().unwrap_or(self.base)
    }

    fn loaded(&self) -> impl Iterator<Item = &Header> {
        self.headers.iter().filter(|header| header.kind == PT_LOAD)
    }

    fn dynamic(&self) -> Option<u64> {
        let header = self.headers.iter().find(|header| header.kind == PT_DYNAMIC)?;
        Some(self.moved.wrapping_add(header.address))
    }

    fn module(&self, path: String) -> Module {
        let mapping = |header: &Header| {
            let into_page = header.address & (HEAD_BYTES - 1);
            let start = self.moved.wrapping_add(header.address).saturating_sub(into_page);
            let end = self.moved.wrapping_add(header.address).saturating_add(header.size);
            (start, end, header.offset.saturating_sub(into_page))
        };
        let mappings = self.loaded().map(mapping).collect();
        Module { path, base: self.base, end: self.end(), mappings, ..Module::default() }
    }
}

impl Images<'_> {
    fn fields(&self, address: u64, length: u64) -> Option<Fields> {
        let range = self.memory.range(address)?;
        let inside = address.checked_sub(range.start)?;
        let length = length.min(range.held.checked_sub(inside)?);
        Fields::read(self.file, range.offset.checked_add(inside)?, length, length, self.big_endian).ok()
    }

    fn word(&self, address: u64) -> Option<u64> {
        self.fields(address, 8)?.word(0, self.wide)
    }

    fn text(&self, address: u64) -> Option<String> {
        self.fields(address, HEAD_BYTES)?.text(0, PATH_BYTES).filter(|text| !text.is_empty())
    }

    fn image(&self, base: u64) -> Option<Image> {
        let head = self.fields(base, HEAD_BYTES)?;
        if head.slice(0, 4)? != b"\x7FELF" {
            return None;
        }
        let (table, entry, count) = if self.wide {
            (head.u64(32)?, head.u16(54)?, head.u16(56)?)
        } else {
            (u64::from(head.u32(28)?), head.u16(42)?, head.u16(44)?)
        };
        let table = usize::try_from(table).ok()?;
        let mut headers = Vec::new();
        for index in 0..usize::from(count).min(MOST_HEADERS) {
            let at = table.checked_add(index * usize::from(entry))?;
            let field =
                |wide_at: usize, at_32: usize| head.word(at + if self.wide { wide_at } else { at_32 }, self.wide);
            let Some(kind) = head.u32(at) else { break };
            headers.push(Header {
                kind,
                offset: field(8, 4)?,
                address: field(16, 8)?,
                size_in_file: field(32, 16)?,
                size: field(40, 20)?,
            });
        }
        // The first part in memory holds the headers.
        let first = headers.iter().find(|header| header.kind == PT_LOAD && header.offset == 0)?;
        let moved = base.wrapping_sub(first.address);
        Some(Image { base, moved, headers })
    }

    /// The build id of the program file that starts at an address.
    pub(super) fn build_id(&self, base: u64) -> Option<String> {
        let image = self.image(base)?;
        let notes = image.headers.iter().filter(|header| header.kind == PT_NOTE);
        notes
            .filter_map(|header| self.fields(image.moved.wrapping_add(header.address), header.size_in_file))
            .find_map(|notes| build_id_in(&notes))
    }

    /// The kernel's own library, which no file holds.
    pub(super) fn own_library(&self, base: u64) -> Option<Module> {
        let mut module = self.image(base)?.module(OWN_LIBRARY.to_owned());
        let bytes = self.memory.read(self.file, base, OWN_LIBRARY_BYTES);
        module.image = Some(Arc::from(bytes));
        Some(module)
    }

    /// All program files in memory, for cores without a list of mapped files. The program has its path from the kernel, libraries
    /// from the loader's list, else the name that they call themselves.
    pub(super) fn modules(&self, auxiliary: &Auxiliary, process: Option<&str>) -> Vec<Module> {
        let images: Vec<Image> = self.memory.starts().filter_map(|start| self.image(start)).take(MOST_IMAGES).collect();
        let is_program = |image: &Image| {
            let holds = |address: Option<u64>| address.is_some_and(|at| (image.base..image.end()).contains(&at));
            holds(auxiliary.headers) || (auxiliary.headers.is_none() && holds(auxiliary.entry))
        };
        let loaded =
            images.iter().find(|image| is_program(image)).map_or_else(HashMap::new, |image| self.loaded(image));
        let module = |image: &Image| {
            let path = if is_program(image) {
                let of_kernel = auxiliary.path.and_then(|at| self.text(at));
                of_kernel.or_else(|| process.map(str::to_owned))
            } else {
                let by_loader = image.dynamic().and_then(|dynamic| loaded.get(&dynamic).cloned());
                by_loader.or_else(|| self.own_name(image))
            };
            Some(image.module(path?))
        };
        let mut modules: Vec<Module> =
            images.iter().filter(|image| Some(image.base) != auxiliary.own_library).filter_map(module).collect();
        if !images.iter().any(is_program) {
            modules.extend(self.program_without_headers(auxiliary, process));
        }
        modules
    }

    /// The program where the core's filter left out its headers: only where they were is known, and its path.
    fn program_without_headers(&self, auxiliary: &Auxiliary, process: Option<&str>) -> Option<Module> {
        let headers = auxiliary.headers?;
        let base = headers.checked_sub(headers & (HEAD_BYTES - 1))?;
        let path = auxiliary.path.and_then(|at| self.text(at)).or_else(|| process.map(str::to_owned))?;
        let mut end = base;
        while let Some(range) = self.memory.range(end).filter(|range| range.size > 0) {
            end = range.start.checked_add(range.size)?;
        }
        Some(Module { path, base, end, ..Module::default() })
    }

    /// The entries of a dynamic section, by their kind.
    fn dynamic(&self, image: &Image) -> Vec<(u64, u64)> {
        let size = if self.wide { 16 } else { 8 };
        let read = |start| self.fields(start, (MOST_ENTRIES * size) as u64);
        let Some(section) = image.dynamic().and_then(read) else { return Vec::new() };
        let entry = |place: usize| {
            let kind = section.word(place * size, self.wide).filter(|kind| *kind != DT_NULL)?;
            Some((kind, section.word(place * size + size / 2, self.wide)?))
        };
        (0..MOST_ENTRIES).map_while(entry).collect()
    }

    fn own_name(&self, image: &Image) -> Option<String> {
        let entries = self.dynamic(image);
        let value = |wanted: u64| entries.iter().find(|(kind, _)| *kind == wanted).map(|(_, value)| *value);
        let strings = value(DT_STRTAB)?;
        // Some loaders write the moved address there, some leave the file's.
        let strings = if strings < image.base { image.moved.wrapping_add(strings) } else { strings };
        self.text(strings.checked_add(value(DT_SONAME)?)?)
    }

    /// The paths in the loader's list, by where each library's dynamic section is.
    fn loaded(&self, program: &Image) -> HashMap<u64, String> {
        let word = if self.wide { 8 } else { 4 };
        let mut paths = HashMap::new();
        let debug = self.dynamic(program).into_iter().find(|(kind, _)| *kind == DT_DEBUG).map(|(_, value)| value);
        // Behind the version of the list, which takes a word.
        let mut entry = debug.and_then(|debug| self.word(debug.checked_add(word)?));
        for _ in 0..MOST_ENTRIES {
            let Some(at) = entry.filter(|at| *at != 0) else { break };
            let field = |place: u64| self.word(at.checked_add(place.checked_mul(word)?)?);
            if let (Some(name), Some(dynamic)) = (field(1), field(2))
                && let Some(path) = self.text(name)
            {
                paths.insert(dynamic, path);
            }
            entry = field(3);
        }
        paths
    }
}

/// The build id among the notes of a program.
fn build_id_in(notes: &Fields) -> Option<String> {
    const NT_GNU_BUILD_ID: u32 = 3;
    const NT_GO_BUILD_ID: u32 = 4;
    let padded = |size: u32| (size as usize).saturating_add(3) & !3;
    let mut at = 0_usize;
    while at < notes.len() {
        let (name, data, kind) = (notes.u32(at)?, notes.u32(at + 4)?, notes.u32(at + 8)?);
        let data_at = (at + 12).checked_add(padded(name))?;
        let (gnu, go) = (notes.slice(at + 12, 3) == Some(b"GNU"), notes.slice(at + 12, 2) == Some(b"Go"));
        if (kind == NT_GNU_BUILD_ID && gnu) || (kind == NT_GO_BUILD_ID && go) {
            return notes.slice(data_at, data as usize).map(crate::text::hex);
        }
        at = data_at.checked_add(padded(data))?;
    }
    None
}
