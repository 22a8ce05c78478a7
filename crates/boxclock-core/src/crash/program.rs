//! Program files: where a crash's modules can be looked into, if the box holds them or this machine has the very same build.

use std::borrow::Cow;
use std::cell::OnceCell;
use std::collections::HashMap;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::rc::Rc;
use std::sync::Arc;

use object::{Object, ObjectKind, ObjectSection, ObjectSegment, ObjectSymbol, SymbolKind};

use super::Module;
use super::memory::Machine;
use super::symbols_only::is_without_code;
use crate::platform;

/// Bytes of a program file that is read; larger ones are not looked into.
const MOST_BYTES: u64 = 1 << 30;
/// Bytes of a section of debugging data, unpacked: more is not looked into, whatever the file claims.
const SECTION_BYTES: u64 = 512 << 20;

/// A program file that is in the case.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ProgramFile {
    /// Where its bytes are now.
    pub path: PathBuf,
    /// Its name in the case.
    pub name: String,
    /// The label of its host.
    pub host: Option<String>,
}

impl ProgramFile {
    /// Whether a file is a program, and of this build where one is asked for.
    ///
    /// # Errors
    /// When it is not; the text says what it is.
    pub(crate) fn is_build(path: &Path, wanted: Option<&str>) -> Result<(), &'static str> {
        let program = Program::open(path).ok_or("it is not a program")?;
        match wanted {
            Some(wanted) if program.build_id.as_deref() != Some(wanted) => Err("it is of another build by now"),
            _ => Ok(()),
        }
    }

    /// Whether a file that starts with these bytes (some hundred) is a program or library: ELF that is no core, or PE.
    pub(crate) fn recognises(head: &[u8]) -> bool {
        let word = |at: usize| head.get(at..at + 2).and_then(|bytes| bytes.try_into().ok()).map(u16::from_le_bytes);
        if head.starts_with(b"\x7FELF") {
            return matches!(word(16), Some(2 | 3));
        }
        let pe = head.get(60..64).and_then(|bytes| bytes.try_into().ok()).map(u32::from_le_bytes);
        head.starts_with(b"MZ")
            && pe.and_then(|at| usize::try_from(at).ok()).and_then(|at| head.get(at..at.checked_add(4)?))
                == Some(b"PE\0\0")
    }
}

/// The slice type that gimli reads from.
pub(super) type Slice = gimli::EndianArcSlice<gimli::RunTimeEndian>;

/// The program files of one host, opened as they are asked for.
pub struct Programs<'a> {
    files: &'a [ProgramFile],
    host: Option<&'a str>,
    /// Whether files of this machine may be used, where their build id is the module's.
    pub this_machine: bool,
    opened: HashMap<String, Option<Rc<Program>>>,
}

impl<'a> Programs<'a> {
    /// Those of a host; without a host all.
    pub fn new(files: &'a [ProgramFile], host: Option<&'a str>) -> Self {
        Self { files, host, this_machine: true, opened: HashMap::new() }
    }

    /// The file of a module: the one with its build id, or, where no build id is known, the one of its path or name in the box.
    pub(super) fn of(&mut self, module: &Module) -> Option<Rc<Program>> {
        let key = format!("{}\0{}", module.path, module.build_id.as_deref().unwrap_or_default());
        if let Some(known) = self.opened.get(&key) {
            return known.clone();
        }
        let found = self.find(module).map(Rc::new);
        self.opened.insert(key, found.clone());
        found
    }

    fn find(&self, module: &Module) -> Option<Program> {
        if let Some(image) = &module.image {
            return Program::of_bytes(Arc::clone(image));
        }
        let path = module.path.replace('\\', "/");
        let name = path.rsplit('/').next().unwrap_or(&path);
        let mut named: Vec<&ProgramFile> =
            self.files.iter().filter(|file| file.name.rsplit('/').next() == Some(name)).collect();
        // Those with the whole path first, and those of the host.
        named.sort_by_key(|file| {
            (!file.name.ends_with(path.trim_start_matches('/')), file.host.as_deref() != self.host)
        });
        let in_box = named.into_iter().find_map(|file| {
            let program = Program::open(&file.path)?;
            match (&module.build_id, &program.build_id) {
                (Some(wanted), Some(has)) => wanted == has,
                // Without a build id on one of the sides the name has to do, of the same host only.
                _ => file.host.as_deref() == self.host || self.host.is_none(),
            }
            .then_some(program)
        });
        in_box.or_else(|| {
            let wanted = module.build_id.as_ref().filter(|_| self.this_machine)?;
            let program = Program::open(Path::new(&module.path))?;
            (program.build_id.as_ref() == Some(wanted)).then_some(program)
        })
    }
}

/// A function of a program file.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Symbol {
    address: u64,
    size: u64,
    name: String,
}

/// Where a program's address is in its source.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct SourceLine {
    pub file: Option<String>,
    pub line: Option<u32>,
    pub function: Option<String>,
}

/// A program file that was read.
pub(super) struct Program {
    pub build_id: Option<String>,
    bytes: Arc<[u8]>,
    symbols: OnceCell<Vec<Symbol>>,
    lines: OnceCell<Option<addr2line::Context<Slice>>>,
    tables: OnceCell<Option<Tables>>,
    /// Parts of the file in memory: address, size, offset in the file, size there.
    segments: Vec<(u64, u64, u64, u64)>,
    /// Whether only its symbols and unwind tables are at hand.
    is_without_code: bool,
}

/// Unwind tables and where their sections are.
pub(super) struct Tables {
    pub eh_frame: gimli::EhFrame<Slice>,
    pub debug_frame: gimli::DebugFrame<Slice>,
    pub bases: gimli::BaseAddresses,
}

/// A section as it is in memory, unpacked where it is packed; empty where it is missing, damaged, or claims to be larger than
/// [`SECTION_BYTES`].
fn section_data<'a>(file: &object::File<'a>, name: &str) -> Cow<'a, [u8]> {
    let packed = file.section_by_name(name).and_then(|section| section.compressed_data().ok());
    let packed = packed.filter(|packed| packed.uncompressed_size <= SECTION_BYTES);
    packed.and_then(|packed| packed.decompress().ok()).unwrap_or_default()
}

fn slice(data: &[u8]) -> Slice {
    gimli::EndianArcSlice::new(Arc::from(data), gimli::RunTimeEndian::Little)
}

impl Program {
    /// Opens a file; `None` where it is not there or is no program.
    fn open(path: &Path) -> Option<Self> {
        let mut bytes = Vec::new();
        platform::open_regular(path).ok()?.take(MOST_BYTES + 1).read_to_end(&mut bytes).ok()?;
        Self::of_bytes(Some(bytes).filter(|bytes| bytes.len() as u64 <= MOST_BYTES)?.into())
    }

    /// A file that is in memory already; `None` where it is not a program.
    fn of_bytes(bytes: Arc<[u8]>) -> Option<Self> {
        let file = object::File::parse(&*bytes).ok()?;
        if !matches!(file.kind(), ObjectKind::Executable | ObjectKind::Dynamic) {
            return None;
        }
        let build_id = file.build_id().ok().flatten().map(crate::text::hex).or_else(|| go_build_id(&file));
        let segments = file.segments().map(|segment| {
            let (offset, size) = segment.file_range();
            (segment.address(), segment.size(), offset, size)
        });
        let segments = segments.collect();
        let is_without_code = is_without_code(&file);
        Some(Self {
            build_id,
            bytes,
            symbols: OnceCell::new(),
            lines: OnceCell::new(),
            tables: OnceCell::new(),
            segments,
            is_without_code,
        })
    }

    fn file(&self) -> Option<object::File<'_>> {
        object::File::parse(&*self.bytes).ok()
    }

    /// The address in the file's own numbering of a byte of the file.
    pub(super) fn address_of_offset(&self, offset: u64) -> Option<u64> {
        self.segments.iter().find_map(|(address, _, start, size)| {
            let inside = offset.checked_sub(*start).filter(|inside| inside < size)?;
            address.checked_add(inside)
        })
    }

    /// Bytes at an address in the file's own numbering.
    pub(super) fn bytes_at(&self, at: u64, length: usize) -> Option<&[u8]> {
        if self.is_without_code {
            return None;
        }
        let (address, _, offset, size) = self
            .segments
            .iter()
            .find(|(address, _, _, size)| at.checked_sub(*address).is_some_and(|inside| inside < *size))?;
        let inside = at.checked_sub(*address)?;
        let start = usize::try_from(offset.checked_add(inside)?).ok()?;
        let end =
            start.saturating_add(length).min(usize::try_from(offset.checked_add(*size)?).ok()?).min(self.bytes.len());
        self.bytes.get(start..end)
    }

    /// The file's base in its own numbering, where it is not built for address 0.
    pub(super) fn relative_base(&self) -> u64 {
        const PAGE: u64 = 0xFFF;
        // ELF files do not state it: it is where their first part goes.
        let first = || self.segments.iter().map(|(address, ..)| *address).min().unwrap_or(0) & !PAGE;
        self.file().map_or(0, |file| match file.format() {
            object::BinaryFormat::Elf => first(),
            _ => file.relative_address_base(),
        })
    }

    fn symbols(&self) -> &[Symbol] {
        self.symbols.get_or_init(|| {
            let Some(file) = self.file() else { return Vec::new() };
            // What the calling conventions of 32-bit Windows add to a name; C++ of these compilers has marks of its own.
            let decorates =
                file.format() != object::BinaryFormat::Elf && file.architecture() == object::Architecture::I386;
            let plain = |name: &str| if decorates { undecorated(name).to_owned() } else { name.to_owned() };
            let mut all: Vec<Symbol> = file
                .symbols()
                .chain(file.dynamic_symbols())
                .filter(|symbol| symbol.kind() == SymbolKind::Text && symbol.is_definition())
                .filter_map(|symbol| {
                    Some(Symbol { address: symbol.address(), size: symbol.size(), name: plain(symbol.name().ok()?) })
                })
                .filter(|symbol| !symbol.name.is_empty())
                .collect();
            if let Ok(exports) = file.exports() {
                let exported = exports.iter().map(|export| Symbol {
                    address: export.address(),
                    size: 0,
                    name: String::from_utf8_lossy(export.name()).into_owned(),
                });
                if all.is_empty() {
                    all.extend(exported);
                }
            }
            if all.is_empty() {
                let of_go = super::go_table::functions(&file).into_iter();
                all.extend(of_go.map(|(address, name)| Symbol { address, size: 0, name }));
            }
            // Of several names of one address the one with a size, then the shortest.
            all.sort_by(|a, b| {
                (a.address, a.size == 0, a.name.len(), &a.name).cmp(&(b.address, b.size == 0, b.name.len(), &b.name))
            });
            all.dedup_by_key(|symbol| symbol.address);
            all
        })
    }

    /// The function that an address in the file's own numbering lies in, and how far into it.
    pub(super) fn function(&self, address: u64) -> Option<(String, u64)> {
        let symbols = self.symbols();
        let at = symbols.partition_point(|symbol| symbol.address <= address).checked_sub(1)?;
        let symbol = symbols.get(at)?;
        let inside = address.checked_sub(symbol.address)?;
        // A symbol without a size reaches to the next one, but not over a gap that no function has.
        const MOST: u64 = 1 << 16;
        let holds = if symbol.size > 0 { inside < symbol.size } else { inside < MOST };
        holds.then(|| (demangled(&symbol.name), inside))
    }

    /// The line of the source of an address, where the file has debugging data.
    pub(super) fn line(&self, address: u64) -> SourceLine {
        let context = self.lines.get_or_init(|| {
            let file = self.file()?;
            let load =
                |id: gimli::SectionId| -> Result<Slice, gimli::Error> { Ok(slice(&section_data(&file, id.name()))) };
            let dwarf = gimli::Dwarf::load(load).ok()?;
            addr2line::Context::from_dwarf(dwarf).ok()
        });
        let Some(context) = context else { return SourceLine::default() };
        let Ok(mut frames) = context.find_frames(address).skip_all_loads() else { return SourceLine::default() };
        let mut found = SourceLine::default();
        let mut is_first = true;
        while let Ok(Some(frame)) = frames.next() {
            if is_first {
                let location = frame.location;
                found.file = location.as_ref().and_then(|location| location.file).map(str::to_owned);
                found.line = location.and_then(|location| location.line);
                is_first = false;
            }
            // The last one is the function that the code is compiled into.
            found.function = frame.function.and_then(|name| name.raw_name().ok().map(|name| demangled(name.as_ref())));
        }
        found
    }

    /// Its unwind tables.
    pub(super) fn tables(&self) -> Option<&Tables> {
        self.tables
            .get_or_init(|| {
                let file = self.file()?;
                let address = |name: &str| file.section_by_name(name).map_or(0, |section| section.address());
                let bases = gimli::BaseAddresses::default()
                    .set_text(address(".text"))
                    .set_eh_frame(address(".eh_frame"))
                    .set_got(address(".got"));
                let word = if file.is_64() { 8 } else { 4 };
                let mut eh_frame = gimli::EhFrame::from(slice(&section_data(&file, ".eh_frame")));
                let mut debug_frame = gimli::DebugFrame::from(slice(&section_data(&file, ".debug_frame")));
                eh_frame.set_address_size(word);
                debug_frame.set_address_size(word);
                Some(Tables { eh_frame, debug_frame, bases })
            })
            .as_ref()
    }

    /// The processor it is built for.
    pub(super) fn machine(&self) -> Option<Machine> {
        match self.file()?.architecture() {
            object::Architecture::X86_64 => Some(Machine::X86_64),
            object::Architecture::I386 => Some(Machine::X86),
            object::Architecture::Aarch64 => Some(Machine::Arm64),
            _ => None,
        }
    }

    /// The exception table of a program of 64-bit Windows: start, end and place of what undoes each function.
    pub(super) fn exception_table(&self) -> Option<&[u8]> {
        let file = self.file()?;
        let section = file.section_by_name(".pdata")?;
        let (offset, size) = section.file_range()?;
        let start = usize::try_from(offset).ok()?;
        self.bytes.get(start..start.saturating_add(usize::try_from(size).ok()?).min(self.bytes.len()))
    }
}

/// The build id that Go's linker writes: a note of its own, of text.
fn go_build_id(file: &object::File<'_>) -> Option<String> {
    let section = file.section_by_name(".note.go.buildid")?;
    let data = section.data().ok()?;
    let size = u32::from_le_bytes(data.get(4..8)?.try_into().ok()?) as usize;
    data.get(16..16 + size).map(crate::text::hex)
}

/// A function's name without what 32-bit compilers of Windows put around it: `_name` (cdecl), `_name@8` (stdcall), `@name@8`
/// (fastcall). Source: the public description of the calling conventions.
fn undecorated(name: &str) -> &str {
    if name.starts_with('?') {
        return name;
    }
    let bare = name.strip_prefix(['_', '@']).unwrap_or(name);
    match bare.rsplit_once('@') {
        Some((function, bytes)) if !function.is_empty() && bytes.bytes().all(|byte| byte.is_ascii_digit()) => function,
        _ => bare,
    }
}

/// A function's name as its source has it.
pub(super) fn demangled(name: &str) -> String {
    // Names nest; the reader of these recurses, so that what is longer than compilers write is left as it is.
    const MOST: usize = 1024;
    if name.starts_with('?') && name.len() <= MOST {
        let told = msvc_demangler::demangle(name, msvc_demangler::DemangleFlags::NAME_ONLY);
        return told.unwrap_or_else(|_| name.to_owned());
    }
    // Versions of symbols are no part of the name.
    let name = name.split('@').next().filter(|bare| !bare.is_empty()).unwrap_or(name);
    if let Ok(rust) = rustc_demangle::try_demangle(name) {
        return format!("{rust:#}");
    }
    let mangled = name.starts_with("_Z") || name.starts_with("__Z");
    if mangled
        && let Ok(symbol) = cpp_demangle::Symbol::new(name)
        && let Ok(text) = symbol.demangle()
    {
        return text;
    }
    name.to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_without_what_a_calling_convention_adds() {
        let samples = [
            ("_main", "main"),
            ("_open@8", "open"),
            ("@fill@4", "fill"),
            ("__ZN4tank4feedEi", "_ZN4tank4feedEi"),
            ("feed", "feed"),
        ];
        for (name, bare) in samples {
            assert_eq!(undecorated(name), bare, "{name}");
        }
    }

    #[test]
    fn names_as_their_sources_have_them() {
        for (mangled, name) in [
            ("_ZN4tank4feedEi", "tank::feed(int)"),
            ("_ZN4tank4feed17h0123456789abcdefE", "tank::feed"),
            ("main", "main"),
            ("malloc@@GLIBC_2.2.5", "malloc"),
            ("_Znope", "_Znope"),
            ("?feed@tank@@YAXH@Z", "tank::feed"),
            ("??1Tank@@UEAA@XZ", "Tank::~Tank"),
            ("?", "?"),
        ] {
            assert_eq!(demangled(mangled), name, "{mangled}");
        }
    }
}
