//! Every limit on input, in one table: name, unit, value, and why it is that.
//!
//! Nothing is reserved or followed beyond these because a file says so. Where a limit cuts something off, the source
//! gets a trouble line that names it.

/// Bytes of one scan chunk. Chunks are the unit of work of the readers.
pub const CHUNK_BYTES: u64 = 4 << 20;

/// Bytes of a line that are looked at for its time, level, component and codes. What follows is kept and shown.
pub const LINE_HEAD_BYTES: usize = 64 << 10;

/// Events in one segment of the event table: lets a segment refer to its actors by 16 bits.
pub const SEGMENT_EVENTS: usize = 1 << 16;

/// Different actors in one segment of the event table: events refer to them by 16 bits.
pub const SEGMENT_ACTORS: usize = 1 << 16;

/// Events of one case: rows are numbered by 32 bits. What lies beyond is left out, and its source says so.
pub const ROWS: usize = u32::MAX as usize;

/// Bytes of one record that are decoded for display, output and search highlights. The rest stays in the file.
pub const RECORD_BYTES: usize = 1 << 20;

/// Bytes of a JSON line from which on it may be one that was cut at [`RECORD_BYTES`] (less what encodings and line ends take).
pub const LONGEST_JSON_BYTES: usize = RECORD_BYTES / 2;

/// Bytes at the start, the middle and the end of a file that the format detector looks at.
pub const SAMPLE_BYTES: usize = 64 << 10;

/// Bytes at the seam of two generations of a log that are searched for repeated lines.
pub const SEAM_BYTES: u64 = 1 << 20;

/// Bytes at the start of a log that are searched for the start of the system.
pub const BOOT_BYTES: usize = 4 << 20;

/// Different codes that one case can hold. Beyond it a source gets a trouble line.
pub const DISTINCT_CODES: usize = 1 << 20;

/// Codes noted for one event. A line of 64 KiB full of numbers stays bounded.
pub const CODES_PER_EVENT: usize = 64;

/// Lines of one log of an installer that are read. A run whose log goes on says so.
pub const INSTALLER_LINES: usize = 4_000_000;

/// Files that are read from one folder or box.
pub const FILES: usize = 1_000_000;

/// Bytes of the largest file that is gathered without a recipe that says otherwise.
pub const GATHERED_BYTES: u64 = 256 << 30;

/// Bytes of one program file that is gathered for a dump.
pub const PROGRAM_BYTES: u64 = 128 << 20;

/// Bytes of all program files that are gathered for the dumps of one host.
pub const PROGRAMS_BYTES: u64 = 1 << 30;

/// Formats, recipes, checks or rules of the user's own that are read from one folder.
pub const OWN_FILES: usize = 1000;

/// Bytes from which on an index of a source is kept: a smaller one is read anew as fast.
pub const INDEX_MIN_BYTES: u64 = 1 << 20;

/// Bytes of one piece of an analysis, unpacked: of 65 536 events, so some hundred bytes an event.
pub const PIECE_BYTES: usize = 16 << 20;

/// Folder levels that are entered below a path.
pub const FOLDER_DEPTH: usize = 64;

/// Bytes that a box may unpack to, in total.
pub const UNPACKED_BYTES: u64 = 1 << 40;

/// How much of the free space of the cache's disk a box may unpack to, in percent.
pub const UNPACK_PERCENT: u64 = 80;

/// How much of the free space an archive may unpack to, in percent: less than a box, which people made with this program.
pub const ARCHIVE_PERCENT: u64 = 50;

/// How many times larger than its packed form one member of a box may become. Plain logs reach 50; runs of one byte
/// reach about 1030 with deflate, which only a trap does for long.
pub const UNPACK_RATIO: u64 = 1200;

/// Bytes that any compressed stream may become, however small it is: a stream of equal lines packs far better than logs.
pub const UNPACK_FLOOR_BYTES: u64 = 256 << 20;

/// Containers inside containers.
pub const CONTAINER_DEPTH: usize = 8;

/// Bytes of the window that a zstd frame may ask for: the most that its own tools accept without being told.
pub const ZSTD_WINDOW_BYTES: u64 = 128 << 20;

/// KiB of memory that an xz stream may ask for: the strongest preset needs 65 MiB.
pub const XZ_MEMORY_KIB: u32 = 512 << 10;

/// Bytes of the seal or the story inside a box.
pub const SEAL_BYTES: u64 = 1 << 30;

/// Program headers, notes and mapped files that are read from one ELF core.
pub const ELF_ENTRIES: usize = 1 << 16;

/// Bytes of the notes of an ELF core.
pub const ELF_NOTE_BYTES: u64 = 64 << 20;

/// Streams, modules and threads that are read from one minidump.
pub const MINIDUMP_ENTRIES: usize = 1 << 16;

/// Trouble lines that one source keeps; the last says how many more there were.
pub const TROUBLES: usize = 50;

/// Nesting of parentheses and `not` in a filter.
pub const FILTER_DEPTH: usize = 100;

/// Bytes that one regular expression of a filter may compile to.
pub const REGEX_BYTES: usize = 10 << 20;

/// Files with codes of the user's own that are read.
pub const USER_CATALOGUES: usize = 200;

/// Rows of the user's catalogues.
pub const USER_CODES: usize = 20_000;

/// Rows that a row of a user's catalogue may take from, one from the other.
pub const USER_LIKE_DEPTH: usize = 16;

/// Letters before the hyphen of a user's code.
pub const USER_PREFIX: usize = 12;

/// Letters of one text in a user's catalogue.
pub const USER_TEXT: usize = 2000;

/// Bytes of one of the user's catalogues.
pub const USER_CATALOGUE_BYTES: u64 = 16 << 20;
