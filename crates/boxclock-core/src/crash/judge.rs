//! Who is to blame for a crash, who merely saw it, and whether the dump can prove it.

use std::sync::LazyLock;

use serde::Deserialize;
use serde::de::IntoDeserializer;
use serde::de::value::StrDeserializer;
use sha2::{Digest, Sha256};

use super::stack::{Found, Frame, Sure};
use super::whose::{Own, age_days, own};
use super::{Crash, Kind, Nature};

/// What kind of failure it is: decides what can be concluded, and what to do.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Class {
    /// It touched what it may not, or did what has no result.
    #[default]
    Fault,
    /// It used up its stack.
    Stack,
    /// The heap was damaged.
    Heap,
    /// A stack frame was damaged.
    Smash,
    /// A checked library function would have gone too far.
    Fortify,
    /// A condition that the program checks did not hold.
    Assertion,
    /// The same, in the words of a runtime or kernel.
    Panic,
    /// An exception that nothing caught.
    Uncaught,
    /// It ended itself.
    Abort,
    /// There was no more memory.
    MemoryFull,
    /// Somebody ended it.
    Killed,
    /// It did not go on.
    Hang,
    /// Hardware.
    Hardware,
    /// A mapped file was cut or could not be read.
    File,
    /// A driver.
    Driver,
    /// Memory of the whole system was damaged.
    DamagedMemory,
    /// A stop that says nothing of a module.
    None,
}

impl Class {
    /// The class of that word in the data.
    fn of(word: &str) -> Option<Self> {
        let word: StrDeserializer<'_, serde::de::value::Error> = word.into_deserializer();
        Self::deserialize(word).ok()
    }
}

/// A module that may be to blame.
#[derive(Clone, Debug, PartialEq)]
pub struct Suspect {
    /// Its name, without folders.
    pub module: String,
    /// How likely, 0 to 1.
    pub score: f64,
    /// Why.
    pub why: Vec<String>,
}

/// A module that stands in the stack and says nothing of the cause.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Witness {
    /// Its name, without folders.
    pub module: String,
    /// Why it is none to blame.
    pub why: String,
}

/// What a dump lets be concluded.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Verdict {
    /// Who may be to blame, the likeliest first.
    pub suspects: Vec<Suspect>,
    /// Who stands there and is not.
    pub witnesses: Vec<Witness>,
    /// Whether the dump proves the first suspect.
    pub provable: bool,
    /// Why not, or what speaks against it.
    pub doubts: Vec<String>,
    /// What kind of failure it is.
    pub class: Class,
}

/// What a function's name says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum How {
    Is,
    Starts,
    Module,
}

struct Role {
    /// The class of failure that it tells of; none for a mere witness.
    class: Option<Class>,
    how: How,
    name: &'static str,
    words: &'static str,
}

static ROLES: LazyLock<Vec<Role>> = LazyLock::new(|| {
    let rows = include_str!("data/roles.tsv").lines().filter(|line| !line.starts_with('#'));
    let role = |line: &'static str| {
        let mut columns = line.split('\t');
        let class = Class::of(columns.next()?);
        let how = match columns.next()? {
            "is" => How::Is,
            "starts" => How::Starts,
            "module" => How::Module,
            _ => return None,
        };
        Some(Role { class, how, name: columns.next()?, words: columns.next().unwrap_or_default() })
    };
    rows.filter_map(role).collect()
});

/// What a stop code says of blame.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct StopBlame {
    pub blame: Class,
    pub parameter: usize,
}

/// What the stop code says, where its reference says something.
pub(super) fn stop_blame(number: u32) -> Option<StopBlame> {
    static STOPS: LazyLock<Vec<(u32, StopBlame)>> = LazyLock::new(|| {
        let rows = include_str!("data/stops.tsv").lines().filter(|line| !line.starts_with('#'));
        let row = |line: &'static str| {
            let mut columns = line.split('\t');
            let number = u32::from_str_radix(columns.next()?.strip_prefix("0x")?, 16).ok()?;
            let blame = Class::of(columns.next()?)?;
            Some((number, StopBlame { blame, parameter: columns.next()?.parse().ok()? }))
        };
        rows.filter_map(row).collect()
    });
    STOPS.iter().find(|(known, _)| *known == number).map(|(_, blame)| *blame)
}

/// A module's name up to its first digits or extension, in small letters: `libc` of `libc-2.31.so`, `ntdll` of `NTDLL.DLL`.
pub(super) fn stem(module: &str) -> String {
    let name = module.rsplit(['/', '\\']).next().unwrap_or(module).to_ascii_lowercase();
    let name = name.split(".so").next().unwrap_or(&name);
    let name = [".dll", ".exe", ".sys", ".dylib", ".ko"].iter().find_map(|end| name.strip_suffix(end)).unwrap_or(name);
    name.to_owned()
}

/// Whether a name has this extension, in letters of any size.
pub(super) fn has_extension(name: &str, extension: &str) -> bool {
    name.rsplit_once('.').is_some_and(|(_, end)| end.eq_ignore_ascii_case(extension))
}

pub(super) fn is_core_module(module: &str) -> bool {
    let stem = stem(module);
    let bare = stem.trim_end_matches(|letter: char| letter.is_ascii_digit() || ".-_".contains(letter));
    let upto =
        stem.split(|letter: char| letter.is_ascii_digit()).next().unwrap_or(&stem).trim_end_matches(['-', '.', '_']);
    ROLES.iter().filter(|role| role.how == How::Module).any(|role| {
        role.name == stem
            || role.name == bare
            || (role.name == upto && !upto.is_empty())
            || (role.name.ends_with('_') && stem.starts_with(role.name))
    })
}

/// The role of a frame's function, if it has one.
fn role(frame: &Frame) -> Option<&'static Role> {
    let name = frame.bare_function()?;
    let name = name.trim_start_matches('?');
    let fits = |role: &&Role| match role.how {
        How::Is => name == role.name,
        How::Starts => {
            name.starts_with(role.name) || name.strip_prefix('<').is_some_and(|rest| rest.starts_with(role.name))
        }
        How::Module => false,
    };
    // What says more than that it is a witness comes first.
    let telling = ROLES.iter().filter(|role| role.class.is_some()).find(fits);
    telling.or_else(|| ROLES.iter().find(fits))
}

/// Whether a frame only shows where it came out.
pub(super) fn is_witness(frame: &Frame) -> bool {
    frame.module.as_deref().is_some_and(is_core_module)
        || role(frame).is_some()
        || frame.is_signal_handler_return
        || (frame.module.is_none() && frame.is_in_library_source())
}

/// What the frames say of the kind of end, where the signal alone does not: an assertion, a panic, a damaged heap.
pub(super) fn refine(crash: &mut Crash, frames: &[Frame]) -> Class {
    let stop = crash.what.number.filter(|_| crash.what.kind == Kind::Stop);
    if let Some(blame) = stop.and_then(stop_blame) {
        return blame.blame;
    }
    let number = crash.what.number.filter(|_| crash.what.kind == Kind::Signal);
    if matches!((number, crash.what.detail.as_deref()), (Some(7), Some("BUS_MCEERR_AR" | "BUS_MCEERR_AO"))) {
        return Class::Hardware;
    }
    // Nearly all are mapped files that were cut; without a sub-code that has to do.
    if matches!((number, crash.what.detail.as_deref()), (Some(7), Some("BUS_ADRERR") | None)) {
        return Class::File;
    }
    // Reports in text name no sub-code, and seldom the functions that send.
    let is_dump = frames.iter().all(|frame| frame.found != Found::Text);
    if is_dump && crash.what.detail.is_none() && is_sent(number, frames) {
        crash.what.kind = Kind::Killed;
        crash.what.words = Some(SENT.to_owned());
        return Class::Killed;
    }
    let aborted = matches!(number, Some(5 | 6)) || crash.what.kind != Kind::Signal;
    let roles: Vec<&Role> = frames
        .iter()
        .take(24)
        .filter(|frame| frame.sure != Sure::Guess || frame.found == Found::Context)
        .filter_map(role)
        .collect();
    const TELLING: [Class; 7] =
        [Class::Assertion, Class::Smash, Class::Fortify, Class::Heap, Class::MemoryFull, Class::Panic, Class::Uncaught];
    for class in TELLING {
        let Some(role) = roles.iter().find(|role| role.class == Some(class)).filter(|_| aborted) else { continue };
        crash.what.words = Some(role.words.to_owned());
        crash.what.kind = match class {
            Class::Assertion => Kind::Assertion,
            Class::Panic => Kind::Panic,
            Class::MemoryFull => Kind::OutOfMemory,
            _ => crash.what.kind,
        };
        return class;
    }
    // A fault inside the allocator: before any frame of the program's own.
    let allocator =
        ["free", "malloc", "realloc", "calloc", "cfree", "_int_free", "_int_malloc", "RtlFreeHeap", "RtlAllocateHeap"];
    let inner = frames.iter().take(9).take_while(|frame| is_witness(frame));
    let in_allocator = inner
        .filter_map(Frame::bare_function)
        .any(|name| allocator.contains(&name.trim_start_matches("__libc_").trim_start_matches("__GI___libc_")));
    if in_allocator {
        let words =
            "the allocator met damaged or freed memory: something wrote there earlier, or the pointer is not its own";
        crash.what.words = Some(words.to_owned());
        return Class::Heap;
    }
    if let Some(at) = frames.iter().position(|frame| frame.is_signal_handler_return)
        && aborted
        && let Some(failed) = frames.get(at + 1..).and_then(|rest| rest.first())
    {
        if crash.what.nature != Nature::Handled {
            crash.what.words = Some(format!(
                "the program's own handler of a signal ended it; what the signal interrupted is {}",
                failed.text()
            ));
        }
        return Class::Fault;
    }
    match (crash.what.kind, crash.what.nature) {
        (_, Nature::DamagedFrame) => Class::Smash,
        (Kind::Killed, _) => Class::Killed,
        (Kind::OutOfMemory, _) => Class::MemoryFull,
        (Kind::Hang, _) => Class::Hang,
        (Kind::Assertion, _) => Class::Assertion,
        (Kind::Panic, _) => Class::Panic,
        _ if number == Some(6) => Class::Abort,
        (_, Nature::StackOverflow) => Class::Stack,
        _ => Class::Fault,
    }
}

const SENT: &str = "it was sent by another process, as far as the stack shows: the program did not send it to itself";

/// Whether a signal of which the dump does not say who sent it was sent by another process: one that no processor raises, while
/// nothing on the stack sends it.
fn is_sent(number: Option<u32>, frames: &[Frame]) -> bool {
    const SENDS: [&str; 6] = ["abort", "raise", "kill", "pthread_kill", "tgkill", "runtime.raise"];
    let sends = |frame: &Frame| {
        let name = frame.bare_function().unwrap_or_default().trim_start_matches("__GI_");
        SENDS.contains(&name.trim_end_matches(".abi0"))
    };
    let told = frames.len() > 1 && frames.iter().all(|frame| frame.function.is_some() || frame.module.is_none());
    match number {
        // Quit, from a terminal or another process.
        Some(3) => true,
        Some(6) => told && !frames.iter().any(sends),
        _ => false,
    }
}

/// The frames that count: where a handler aborts, those that it interrupted.
pub(super) fn telling(frames: &[Frame]) -> &[Frame] {
    let behind = frames.iter().rposition(|frame| frame.is_signal_handler_return);
    behind.and_then(|at| frames.get(at + 1..)).filter(|rest| !rest.is_empty()).unwrap_or(frames)
}

/// Judges a crash by its frames (innermost first) and modules.
pub(super) fn judge(crash: &Crash, frames: &[Frame], class: Class, time: Option<i64>) -> Verdict {
    let mut verdict = Verdict { class, ..Verdict::default() };
    let frames = telling(frames);
    let mut add = |module: &str, score: f64, why: String| match verdict
        .suspects
        .iter_mut()
        .find(|suspect| suspect.module == module)
    {
        Some(known) => {
            if known.score < score {
                known.score = score;
            }
            if !why.starts_with("it stands further out") && known.why.len() < 4 {
                known.why.push(why);
            }
        }
        None => verdict.suspects.push(Suspect { module: module.to_owned(), score, why: vec![why] }),
    };
    // Where the stop's own parameter names the code that did it.
    let stop = crash.what.number.filter(|_| crash.what.kind == Kind::Stop);
    if let Some(blame) = stop.and_then(stop_blame).filter(|blame| blame.blame == Class::Driver) {
        let address =
            blame.parameter.checked_sub(1).and_then(|place| crash.what.parameters.get(place)).map(|(value, _)| *value);
        if let Some(address) = address.filter(|address| *address != 0)
            && let Some(module) = crash.module_at(address).filter(|module| !is_core_module(&module.path))
        {
            add(
                module.name(),
                0.85,
                format!("parameter {} of the stop, 0x{address:x}, is an address in it", blame.parameter),
            );
        }
        if let Some(address) = crash.address
            && let Some(module) = crash.module_at(address).filter(|module| !is_core_module(&module.path))
        {
            add(module.name(), 0.85, format!("the failing instruction, 0x{address:x}, is in it"));
        }
    }
    let mut rank = 0_usize;
    for (place, frame) in frames.iter().enumerate() {
        let Some(module) = frame.unit() else { continue };
        if is_witness(frame) {
            continue;
        }
        let base: f64 = match (rank, frame.sure) {
            _ if frame.is_unloaded && frame.sure != Sure::Guess => 0.9,
            (0, Sure::Certain) if place == 0 => 0.9,
            (0, Sure::Certain) => 0.8,
            (0, Sure::Likely) => 0.7,
            (0, Sure::Guess) => 0.5,
            (_, Sure::Certain) => 0.35,
            (_, Sure::Likely) => 0.3,
            (_, Sure::Guess) => 0.2,
        };
        let function = frame.function.as_deref().map_or(String::new(), |function| format!(" {function}"));
        let why = match (rank, place) {
            _ if frame.is_unloaded => {
                format!("the stack leads into it (frame {place}), and it had been unloaded by then")
            }
            (0, 0) => format!("the failing instruction is in its function{function}"),
            (0, _) => format!(
                "it is first on the stack after frames of system and runtime, with{}",
                if function.is_empty() { " code without a name".to_owned() } else { function }
            ),
            _ => format!("it is further out on the stack (frame {place})"),
        };
        add(module, base, why);
        rank += 1;
        if rank >= 4 {
            break;
        }
    }
    for suspect in &mut verdict.suspects {
        let Some(module) = crash.modules.iter().chain(&crash.unloaded).find(|module| module.name() == suspect.module)
        else {
            continue;
        };
        if let Some(days) = age_days(module, crash, time).filter(|days| *days > 3 * 365)
            && own(module, crash) != Own::System
        {
            suspect.why.push(format!("it was built {} years before", days / 365));
            suspect.score += 0.05;
        }
        if module.deleted {
            suspect.why.push("its file had been replaced or deleted since the program started".into());
            suspect.score += 0.03;
        }
        if own(module, crash) == Own::System {
            suspect.score -= 0.25;
            suspect.why.push("but it is the system's own".into());
        }
    }
    verdict.suspects.sort_by(|a, b| b.score.total_cmp(&a.score));
    witnesses(&mut verdict, frames);
    doubts(&mut verdict, frames);
    verdict.suspects.truncate(5);
    for suspect in &mut verdict.suspects {
        suspect.score = (suspect.score.clamp(0.0, 0.99) * 100.0).round() / 100.0;
    }
    verdict
}

fn witnesses(verdict: &mut Verdict, frames: &[Frame]) {
    for frame in frames.iter().take(16).filter(|frame| is_witness(frame)) {
        let Some(module) = frame.module.as_ref().filter(|module| is_core_module(module)) else { continue };
        if verdict.witnesses.iter().any(|known| known.module == *module)
            || verdict.suspects.iter().any(|suspect| suspect.module == *module)
        {
            continue;
        }
        let why = match role(frame) {
            Some(Role { words, .. }) if !words.is_empty() => (*words).to_owned(),
            _ => "core of the system or runtime: the failure came out here and was made elsewhere".to_owned(),
        };
        verdict.witnesses.push(Witness { module: module.clone(), why });
    }
}

fn doubts(verdict: &mut Verdict, frames: &[Frame]) {
    let scale = |verdict: &mut Verdict, by: f64| verdict.suspects.iter_mut().for_each(|suspect| suspect.score *= by);
    let mut proven = verdict.suspects.first().is_some_and(|first| first.score >= 0.6);
    let doubt = match verdict.class {
        Class::Hardware => {
            verdict.suspects.clear();
            proven = false;
            Some("the stop is one that hardware causes: it blames no driver")
        }
        Class::Heap | Class::DamagedMemory => {
            scale(verdict, 0.5);
            proven = false;
            Some("memory was damaged before: the place where it showed is not the cause")
        }
        Class::File => {
            scale(verdict, 0.6);
            proven = false;
            Some("a mapped file was cut or could not be read: who did that is not in the dump")
        }
        Class::Killed => {
            verdict.suspects.clear();
            proven = false;
            Some("another process ended it: what it did at that moment is not the cause")
        }
        Class::MemoryFull => {
            proven = false;
            scale(verdict, 0.6);
            Some("memory ran out: who asked last need not be who took it")
        }
        Class::None => {
            proven = false;
            scale(verdict, 0.6);
            Some("this stop says by itself nothing of a module")
        }
        Class::Hang => {
            proven = false;
            scale(verdict, 0.7);
            Some("it did not go on: where it stood is where it waited")
        }
        _ => None,
    };
    verdict.doubts.extend(doubt.map(str::to_owned));
    if verdict.suspects.is_empty() && doubt.is_none() {
        proven = false;
        let all_core = frames.iter().any(|frame| frame.unit().is_some());
        verdict.doubts.push(
            if all_core {
                "only core modules of system and runtime are on the stack"
            } else {
                "the stack leads to no module"
            }
            .to_owned(),
        );
        // Core modules are named only when nothing else is there.
        if let Some(module) = frames.iter().find_map(Frame::unit) {
            verdict.suspects.push(Suspect {
                module: module.to_owned(),
                score: 0.15,
                why: vec!["nothing else is on the stack; it is a core module, and rarely the cause".into()],
            });
        }
    } else if !proven && doubt.is_none() {
        verdict.doubts.push("the frames that lead to the first suspect were found by scanning the stack".into());
    }
    verdict.provable = proven;
}

/// What the same crash has in common wherever it happens: kind and name of the end, and the functions behind the runtime's frames.
/// Addresses, thread numbers, folders and hashes are no part of it.
pub(super) fn fingerprint(crash: &Crash, frames: &[Frame]) -> String {
    const FRAMES: usize = 4;
    let frames = telling(frames);
    let named = |frame: &&Frame| frame.module.is_some() || frame.function.is_some();
    let own: Vec<&Frame> = frames
        .iter()
        .filter(named)
        .filter(|frame| !is_witness(frame) && (frame.sure != Sure::Guess))
        .take(FRAMES)
        .collect();
    let chosen = if own.is_empty() { frames.iter().filter(named).take(FRAMES).collect() } else { own };
    let mut hash = Sha256::new();
    let number = crash.what.number.map_or(String::new(), |number| number.to_string());
    hash.update(format!("{}\n{}", number, crash.what.name.as_deref().unwrap_or_default()));
    if chosen.is_empty() {
        hash.update(crash.process.as_deref().unwrap_or_default());
        hash.update(crash.module().map(|module| stem(module.name())).unwrap_or_default());
    }
    for frame in chosen {
        let module = frame.module.as_deref().map(stem).unwrap_or_default();
        // What differs from build to build is left out.
        let module: String = module.chars().filter(|letter| !letter.is_ascii_digit()).collect();
        let place = match (frame.bare_function(), frame.offset) {
            (Some(function), _) => function.to_owned(),
            (None, Some(offset)) => format!("+0x{offset:x}"),
            (None, None) => String::new(),
        };
        hash.update(format!("\n{}!{place}", module.trim_end_matches(['.', '-', '_'])));
    }
    crate::text::hex(&hash.finalize()).chars().take(16).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn all_words_of_the_data_are_known() {
        let rows = |text: &'static str| text.lines().filter(|line| !line.starts_with('#') && !line.is_empty());
        let roles = include_str!("data/roles.tsv");
        assert_eq!(ROLES.len(), rows(roles).count());
        for line in rows(roles) {
            let kind = line.split('\t').next().unwrap();
            assert!(kind == "witness" || Class::of(kind).is_some(), "{line}");
        }
        for line in rows(include_str!("data/stops.tsv")) {
            let number = u32::from_str_radix(line.split('\t').next().unwrap().trim_start_matches("0x"), 16).unwrap();
            assert!(stop_blame(number).is_some(), "{line}");
        }
    }
}
