//! All that can be done, in one table: it drives the input, the help, the action finder, the bottom line and the guide.

use std::collections::BTreeMap;
use std::sync::OnceLock;

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

/// What can be done.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Action {
    Story,
    Box,
    Stream,
    Codes,
    Cause,
    Report,
    Up,
    Down,
    PageUp,
    PageDown,
    First,
    Last,
    Left,
    Right,
    Enter,
    JumpBack,
    Find,
    NextHit,
    PreviousHit,
    Filter,
    ClearFilter,
    GoToTime,
    PreviousProblem,
    NextProblem,
    Pin,
    Narrower,
    Wider,
    WholeSpan,
    Clock,
    SourceClock,
    SourceZone,
    ReadAs,
    PreviousOnWalk,
    NextOnWalk,
    ChooseWalk,
    Count,
    Ink,
    Inks,
    Values,
    Pieces,
    FilterBefore,
    FilterAfter,
    Lenses,
    KeepLens,
    Select,
    Copy,
    Export,
    Chart,
    Unfold,
    UnfoldAll,
    Wrap,
    Collapse,
    WorstFirst,
    Zero,
    ShownZone,
    Columns,
    ThisSource,
    JumpForward,
    NextLink,
    ReadingDown,
    ReadingUp,
    Lanes,
    Earlier,
    Later,
    Hold,
    PinKind,
    PinColour,
    Suspend,
    Password,
    SwitchSource,
    Label,
    Accept,
    Desk,
    TaskBefore,
    TaskNext,
    Preview,
    Run,
    Stop,
    OpenMade,
    Chain,
    LinkUp,
    LinkDown,
    LinkKind,
    LinkReason,
    Unpin,
    WriteReport,
    Reading,
    Structured,
    CodeOrder,
    CodeFamily,
    Lookup,
    Lift,
    Undo,
    Finder,
    Help,
    Quit,
}

/// Where an action can be done.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Scope {
    /// Everywhere.
    Everywhere,
    /// In the Stream.
    Stream,
    /// In the Box view.
    Box,
    /// In the Codes view.
    Codes,
    /// In the Cause view.
    Cause,
    /// In the Report view.
    Report,
    /// At the desk.
    Desk,
}

/// One row of the table.
#[derive(Clone, Copy, Debug)]
pub struct Binding {
    /// What it does.
    pub action: Action,
    /// Its keys, the first one is shown.
    pub keys: &'static [&'static str],
    /// Where it can be done.
    pub scope: Scope,
    /// A word or two, for the bottom line.
    pub short: &'static str,
    /// A phrase, for the help and the action finder.
    pub long: &'static str,
}

const fn row(
    action: Action,
    keys: &'static [&'static str],
    scope: Scope,
    short: &'static str,
    long: &'static str,
) -> Binding {
    Binding { action, keys, scope, short, long }
}

use Scope::{
    Box as InBox, Cause as InCause, Codes as InCodes, Desk as AtDesk, Everywhere, Report as InReport,
    Stream as InStream,
};

/// The table.
pub const BINDINGS: &[Binding] = &[
    row(Action::Story, &["1"], Everywhere, "story", "Story: what happened, in the words of those who report it"),
    row(Action::Box, &["2"], Everywhere, "box", "Box: the sources, how they were read, clocks, what was left out"),
    row(Action::Stream, &["3"], Everywhere, "stream", "Stream: all events on one clock"),
    row(Action::Codes, &["4"], Everywhere, "codes", "Codes: every code of the case with its meaning"),
    row(Action::Cause, &["9"], Everywhere, "cause", "Cause: pins, and the chain from root to symptom"),
    row(Action::Report, &["0"], Everywhere, "report", "Report: what goes out"),
    row(Action::Desk, &["b"], Everywhere, "desk", "desk: gather, capture, receive, hand on"),
    row(Action::Up, &["Up", "k"], Everywhere, "up", "one up"),
    row(Action::Down, &["Down", "j"], Everywhere, "down", "one down"),
    row(Action::PageUp, &["PageUp"], Everywhere, "page up", "one page up"),
    row(Action::PageDown, &["PageDown", "Space"], Everywhere, "page down", "one page down"),
    row(Action::First, &["Home", "g"], Everywhere, "first", "to the first"),
    row(Action::Last, &["End", "G"], Everywhere, "last", "to the last"),
    row(Action::Left, &["Left", "h"], InStream, "left", "text to the left"),
    row(Action::Right, &["Right", "l"], InStream, "right", "text to the right"),
    row(Action::Enter, &["Enter"], Everywhere, "open", "open: edit the field, or go to its place in the Stream"),
    row(Action::PreviousProblem, &["["], InStream, "problem ↑", "to the problem before"),
    row(Action::NextProblem, &["]"], InStream, "problem ↓", "to the next problem"),
    row(Action::Filter, &["f"], InStream, "filter", "filter: level>=warn host=NAME time in 02:10..02:35 words /regex/"),
    row(Action::ClearFilter, &["F"], InStream, "no filter", "take the filter away"),
    row(Action::Find, &["/"], InStream, "find", "find a text, or /a regular expression/"),
    row(Action::NextHit, &["n"], InStream, "next hit", "to the next hit"),
    row(Action::PreviousHit, &["N"], InStream, "hit before", "to the hit before"),
    row(Action::GoToTime, &["t"], InStream, "time", "go to a time"),
    row(Action::PreviousOnWalk, &["{"], InStream, "walk ↑", "to the one before on the walk that was chosen (w)"),
    row(Action::NextOnWalk, &["}"], InStream, "walk ↓", "to the next one on the walk"),
    row(
        Action::ChooseWalk,
        &["w"],
        InStream,
        "walk",
        "choose what { and } go along: pattern, component, process, code, ink, pins",
    ),
    row(Action::Count, &[";"], InStream, "count", "a number for the next movement: ;25] goes 25 problems on"),
    row(
        Action::Values,
        &["v"],
        InStream,
        "by value",
        "filter by a value of this event: only it, without it, around it",
    ),
    row(Action::Pieces, &["X"], InStream, "pieces", "take a piece of the filter away"),
    row(Action::FilterBefore, &["<"], InStream, "filter ←", "the filter that was in force before"),
    row(Action::FilterAfter, &[">"], InStream, "filter →", "the filter that was in force after it"),
    row(Action::ThisSource, &[","], InStream, "its file", "this source only, unmerged; again: all as before"),
    row(Action::Lenses, &["e"], InStream, "lenses", "choose a lens: a filter with a name"),
    row(Action::KeepLens, &["E"], InStream, "keep lens", "keep the filter as a lens of this case"),
    row(
        Action::Ink,
        &["m"],
        InStream,
        "ink",
        "colour a text, /a regular expression/, or =a filter, here and on the rail",
    ),
    row(Action::Inks, &["M"], InStream, "inks", "walk along an ink, change it, take it away"),
    row(Action::Unfold, &["z"], InStream, "unfold", "show all lines of this record, or only the first"),
    row(Action::UnfoldAll, &["Z"], InStream, "unfold all", "show all lines of all records, or only the first"),
    row(Action::Wrap, &["a"], InStream, "wrap", "wrap long lines, or cut them"),
    row(Action::Collapse, &["c"], InStream, "fold runs", "fold runs of the same pattern into one line, or open them"),
    row(Action::WorstFirst, &["o"], InStream, "worst", "the worst first, or in the order of time"),
    row(Action::Zero, &["T"], InStream, "zero", "count times from this event on, or show them as they are"),
    row(Action::ShownZone, &["D"], InStream, "zone", "show times in another zone"),
    row(Action::Columns, &["C"], InStream, "columns", "choose the columns and their widths"),
    row(Action::Select, &["s"], InStream, "select", "begin a selection here, or end it"),
    row(Action::Copy, &["y"], InStream, "copy", "copy the selection or this record to the terminal's clipboard"),
    row(
        Action::Export,
        &["W"],
        InStream,
        "write",
        "write the selection, or all that the filter lets pass, into a file",
    ),
    row(
        Action::Chart,
        &["Y"],
        InStream,
        "chart",
        "draw the selection in swim lanes, or how much there is over time: SVG, PDF",
    ),
    row(Action::NextLink, &["Tab"], InStream, "link", "the next link of the reading pane; Enter follows it"),
    row(Action::ReadingDown, &["J"], InStream, "read ↓", "scroll the reading pane down"),
    row(Action::ReadingUp, &["K"], InStream, "read ↑", "scroll the reading pane up"),
    row(Action::Earlier, &["("], InStream, "earlier", "rail: the window half its width earlier"),
    row(Action::Later, &[")"], InStream, "later", "rail: the window half its width later"),
    row(Action::Lanes, &["R"], InStream, "lanes", "rail: a lane for each source of this host, or for each host"),
    row(Action::Hold, &["H"], InStream, "hold", "following: hold back what comes, or let it through"),
    row(Action::Pin, &["p"], InStream, "pin", "pin this place with a note"),
    row(Action::Narrower, &["+", "="], InStream, "narrower", "rail: a narrower window around this place"),
    row(Action::Wider, &["-"], InStream, "wider", "rail: a wider window"),
    row(Action::WholeSpan, &["*"], InStream, "whole", "rail: the whole span"),
    row(Action::Clock, &["d"], InStream, "clock", "correct the clock of this host"),
    row(Action::Clock, &["d"], InBox, "clock", "correct the clock of this host"),
    row(Action::SourceClock, &["D"], InBox, "its clock", "correct the clock of this source only"),
    row(Action::SourceZone, &["z"], InBox, "zone", "say the zone of this source's times"),
    row(Action::ReadAs, &["e"], InBox, "read as", "choose the format, encoding or order of dates of this source"),
    row(Action::SwitchSource, &["o"], InBox, "off/on", "switch this source off in the stream, or on again"),
    row(Action::Label, &["L"], InBox, "label", "say which host this source belongs to"),
    row(Action::Accept, &["a"], InBox, "accept", "accept the suggested correction of this clock"),
    row(Action::Password, &["P"], InBox, "password", "give a password for encrypted archives"),
    row(Action::JumpBack, &["Backspace"], Everywhere, "back", "back to where you came from"),
    row(Action::JumpForward, &["'"], Everywhere, "forward", "forward again, where you jumped back"),
    row(Action::Suspend, &["Ctrl-Z"], Everywhere, "suspend", "to the shell for a while; fg comes back"),
    row(Action::CodeOrder, &["o"], InCodes, "order", "the worst first, or those seen first, first"),
    row(Action::CodeFamily, &["r"], InCodes, "family", "say of which family this code is, wherever it stands"),
    row(Action::ReadingDown, &["J"], InCodes, "read ↓", "scroll the reading pane down"),
    row(Action::ReadingUp, &["K"], InCodes, "read ↑", "scroll the reading pane up"),
    row(
        Action::CodeFamily,
        &["r"],
        InStream,
        "code is",
        "say of which family a code of this event is, here or in its source",
    ),
    row(Action::Lookup, &["#"], Everywhere, "look up", "look up a code in any writing, or by words of its meaning"),
    row(Action::Lift, &["!"], Everywhere, "lift", "count lines that carry the code of a failure as problems, or not"),
    row(Action::Chain, &["c"], InCause, "chain", "put this pin into the chain, or take it out"),
    row(Action::LinkUp, &["K"], InCause, "earlier", "move this link towards the root"),
    row(Action::LinkDown, &["J"], InCause, "later", "move this link towards the symptom"),
    row(Action::LinkKind, &["s"], InCause, "kind", "root, step or symptom"),
    row(Action::LinkReason, &["e"], InCause, "reason", "say why this link follows from the one before"),
    row(Action::PinKind, &["t"], InCause, "pin is", "what this pin is: evidence, symptom, change, root, ruled out"),
    row(Action::PinColour, &["C"], InCause, "colour", "another colour for this pin"),
    row(Action::Unpin, &["x"], InCause, "unpin", "take this pin away"),
    row(
        Action::WriteReport,
        &["w"],
        InReport,
        "write",
        "write the report (Markdown) and the drawing of the timeline (SVG)",
    ),
    row(Action::TaskBefore, &["Left", "h"], AtDesk, "task ←", "the task before"),
    row(Action::TaskNext, &["Right", "l"], AtDesk, "task →", "the next task: gather, capture, receive, hand on"),
    row(Action::Preview, &["v"], AtDesk, "preview", "show exactly what would be done, without doing it"),
    row(Action::Run, &["r"], AtDesk, "run", "do it; while capturing: the failure has been reproduced"),
    row(Action::Stop, &["x"], AtDesk, "stop", "stop the chosen host, or everything"),
    row(Action::OpenMade, &["o"], AtDesk, "open", "open what was made"),
    row(Action::Reading, &["i"], Everywhere, "reading", "show or hide the reading pane"),
    row(
        Action::Structured,
        &["x"],
        InStream,
        "fields",
        "show the event as the XML or JSON that it is, as its bytes, or in words",
    ),
    row(Action::Undo, &["u"], Everywhere, "undo", "undo the last change of the logbook"),
    row(Action::Finder, &["Ctrl-K"], Everywhere, "actions", "find any action by name"),
    row(Action::Help, &["?"], Everywhere, "help", "this help"),
    row(Action::Quit, &["q", "Ctrl-C"], Everywhere, "quit", "leave; everything is kept"),
];

/// The name of a key as the table writes it, or `None` for keys that it does not use.
pub fn name(key: KeyEvent) -> Option<String> {
    let control = key.modifiers.contains(KeyModifiers::CONTROL);
    Some(match key.code {
        KeyCode::Char(c) if control => format!("Ctrl-{}", c.to_ascii_uppercase()),
        KeyCode::Char(' ') => "Space".into(),
        KeyCode::Char(c) => c.to_string(),
        KeyCode::Up => "Up".into(),
        KeyCode::Down => "Down".into(),
        KeyCode::Left => "Left".into(),
        KeyCode::Right => "Right".into(),
        KeyCode::PageUp => "PageUp".into(),
        KeyCode::PageDown => "PageDown".into(),
        KeyCode::Home => "Home".into(),
        KeyCode::End => "End".into(),
        KeyCode::Enter => "Enter".into(),
        KeyCode::Backspace => "Backspace".into(),
        KeyCode::Tab => "Tab".into(),
        KeyCode::F(number) => format!("F{number}"),
        _ => return None,
    })
}

/// The action of a key in a scope.
pub fn action(key: KeyEvent, scope: Option<Scope>) -> Option<Action> {
    let name = name(key)?;
    let here = |binding: &&Binding| binding.scope == Everywhere || Some(binding.scope) == scope;
    bindings().iter().filter(here).find(|binding| binding.keys.contains(&name.as_str())).map(|binding| binding.action)
}

static CHOSEN: OnceLock<Vec<Binding>> = OnceLock::new();

/// The table with the keys that the user's settings name in the place of ours.
pub fn bindings() -> &'static [Binding] {
    CHOSEN.get().map_or(BINDINGS, Vec::as_slice)
}

/// Takes the keys of the settings; once, before the first key.
pub fn choose(keys: &BTreeMap<String, Vec<String>>) {
    if keys.is_empty() {
        return;
    }
    let chosen = BINDINGS.iter().map(|binding| match keys.get(&action_name(binding.action)) {
        None => *binding,
        // They live as long as the program.
        Some(keys) => {
            let keys: Vec<&'static str> = keys.iter().map(|key| &*Box::leak(key.clone().into_boxed_str())).collect();
            Binding { keys: Box::leak(keys.into_boxed_slice()), ..*binding }
        }
    });
    // A second choice would be one too many: the first holds.
    let _ = CHOSEN.set(chosen.filter(|binding| !binding.keys.is_empty()).collect());
}

/// The name of an action in the settings: `NextProblem` is `next-problem`.
pub fn action_name(action: Action) -> String {
    let mut name = String::new();
    for c in format!("{action:?}").chars() {
        if c.is_ascii_uppercase() && !name.is_empty() {
            name.push('-');
        }
        name.push(c.to_ascii_lowercase());
    }
    name
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_key_means_two_things_in_one_place() {
        for (index, one) in BINDINGS.iter().enumerate() {
            for other in &BINDINGS[index + 1..] {
                let meet = one.scope == other.scope || one.scope == Everywhere || other.scope == Everywhere;
                let shared = one.keys.iter().find(|key| other.keys.contains(key));
                assert!(!meet || shared.is_none(), "{shared:?}: {:?} and {:?}", one.action, other.action);
            }
        }
    }

    #[test]
    fn actions_have_names_for_settings() {
        assert_eq!(action_name(Action::NextProblem), "next-problem");
        assert_eq!(action_name(Action::Up), "up");
    }

    #[test]
    fn texts_are_there_and_fit() {
        for binding in BINDINGS {
            assert!(!binding.keys.is_empty() && !binding.long.is_empty());
            assert!(binding.short.chars().count() <= 10 && binding.long.len() <= 76, "{:?}", binding.action);
        }
    }

    #[test]
    fn the_guide_lists_every_key() {
        let guide = include_str!("../../../docs/guide.md");
        for binding in BINDINGS {
            let row = format!("| `{}` | {} |", binding.keys.join("` `"), binding.long.replace('|', "\\|"));
            assert!(guide.contains(&row), "docs/guide.md lacks the row\n{row}");
        }
    }
}
