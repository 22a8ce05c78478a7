//! The commands of the Stream.

use super::StreamView;
use super::draw::Columns;
use super::menus::ink_question;
use crate::context::{Context, Live, Question, Then};
use crate::pane_state::DetailMode;
use crate::stream::parse_columns;
use crate::view::ViewCommand;

/// Columns that the text is scrolled by.
const SHIFT: usize = 16;

pub(super) const COMMANDS: &[ViewCommand<StreamView>] = &[
    ViewCommand {
        name: "left",
        keys: &["Left", "h"],
        short: "left",
        long: "scroll the text left",
        run: |_, cx, _| {
            cx.stream.shifted = cx.stream.shifted.saturating_sub(SHIFT);
            Ok(Then::Stay)
        },
    },
    ViewCommand {
        name: "right",
        keys: &["Right", "l"],
        short: "right",
        long: "scroll the text right",
        run: |_, cx, _| {
            cx.stream.shifted += SHIFT;
            Ok(Then::Stay)
        },
    },
    ViewCommand {
        name: "previous-problem",
        keys: &["["],
        short: "problem ↑",
        long: "go to the previous problem",
        run: |_, cx, times| Ok(repeat(cx, times, |cx| cx.go_to_problem(true))),
    },
    ViewCommand {
        name: "next-problem",
        keys: &["]"],
        short: "problem ↓",
        long: "go to the next problem",
        run: |_, cx, times| Ok(repeat(cx, times, |cx| cx.go_to_problem(false))),
    },
    ViewCommand {
        name: "filter",
        keys: &["f"],
        short: "filter",
        long: "filter: level>=warn host=NAME time in 02:10..02:35 words /regex/",
        run: |_, cx, _| Ok(ask_filter(cx)),
    },
    ViewCommand {
        name: "clear-filter",
        keys: &["F"],
        short: "no filter",
        long: "remove the filter",
        run: |_, cx, _| cx.set_filter("").map(|()| Then::Stay),
    },
    ViewCommand {
        name: "find",
        keys: &["/"],
        short: "find",
        long: "find a text, or /a regular expression/",
        run: |_, cx, _| Ok(ask_find(cx)),
    },
    ViewCommand {
        name: "next-hit",
        keys: &["n"],
        short: "next hit",
        long: "go to the next hit",
        run: |_, cx, times| Ok(repeat(cx, times, |cx| hit(cx, false))),
    },
    ViewCommand {
        name: "previous-hit",
        keys: &["N"],
        short: "prev. hit",
        long: "go to the previous hit",
        run: |_, cx, times| Ok(repeat(cx, times, |cx| hit(cx, true))),
    },
    ViewCommand {
        name: "go-to-time",
        keys: &["t"],
        short: "time",
        long: "go to a time",
        run: |_, _cx, _| {
            Ok(Then::Ask(Question::new("go to", "02:31  02:31:07  2026-04-12 02:31", "", Context::go_to_time)))
        },
    },
    ViewCommand {
        name: "previous-on-walk",
        keys: &["{"],
        short: "walk ↑",
        long: "go to the previous one on the walk (w)",
        run: |_, cx, times| Ok(cx.walk_to(true, times)),
    },
    ViewCommand {
        name: "next-on-walk",
        keys: &["}"],
        short: "walk ↓",
        long: "go to the next one on the walk",
        run: |_, cx, times| Ok(cx.walk_to(false, times)),
    },
    ViewCommand {
        name: "choose-walk",
        keys: &["w"],
        short: "walk",
        long: "select what { and } go along: pattern, component, code, ink, pins",
        run: |_, cx, _| Ok(cx.walk_menu()),
    },
    ViewCommand {
        name: "values",
        keys: &["v"],
        short: "by value",
        long: "filter by a value of this event: only it, without it, around it",
        run: |_, cx, _| Ok(cx.value_menu()),
    },
    ViewCommand {
        name: "pieces",
        keys: &["X"],
        short: "pieces",
        long: "remove a piece of the filter",
        run: |_, cx, _| Ok(cx.piece_menu()),
    },
    ViewCommand {
        name: "filter-before",
        keys: &["<"],
        short: "filter ←",
        long: "go back to the filter before",
        run: |_, cx, _| cx.step_filter(true),
    },
    ViewCommand {
        name: "filter-after",
        keys: &[">"],
        short: "filter →",
        long: "go forward to the filter after",
        run: |_, cx, _| cx.step_filter(false),
    },
    ViewCommand {
        name: "this-source",
        keys: &[","],
        short: "its file",
        long: "show only this source, unmerged; again: show all",
        run: |_, cx, _| cx.toggle_this_source(),
    },
    ViewCommand {
        name: "lenses",
        keys: &["e"],
        short: "lenses",
        long: "select a lens: a filter with a name",
        run: |_, cx, _| Ok(cx.lens_menu()),
    },
    ViewCommand {
        name: "keep-lens",
        keys: &["E"],
        short: "keep lens",
        long: "save the filter as a lens of this case",
        run: |_, _cx, _| Ok(Then::Ask(lens_question())),
    },
    ViewCommand {
        name: "ink",
        keys: &["m"],
        short: "ink",
        long: "colour a text, /a regular expression/, or =a filter, here and on the rail",
        run: |_, cx, _| Ok(ask_ink(cx)),
    },
    ViewCommand {
        name: "inks",
        keys: &["M"],
        short: "inks",
        long: "walk along an ink, change it, remove it",
        run: |_, cx, _| Ok(cx.ink_menu()),
    },
    ViewCommand {
        name: "unfold",
        keys: &["z"],
        short: "unfold",
        long: "show all lines of this record, or only the first",
        run: |_, cx, _| Ok(unfold(cx)),
    },
    ViewCommand {
        name: "unfold-all",
        keys: &["Z"],
        short: "unfold all",
        long: "show all lines of all records, or only the first",
        run: |_, cx, _| {
            cx.stream.unfold_all = !cx.stream.unfold_all;
            Ok(Then::Stay)
        },
    },
    ViewCommand {
        name: "wrap",
        keys: &["a"],
        short: "wrap",
        long: "wrap long lines, or cut them",
        run: |_, cx, _| {
            cx.stream.wrap = !cx.stream.wrap;
            Ok(Then::Stay)
        },
    },
    ViewCommand {
        name: "fold-runs",
        keys: &["c"],
        short: "fold runs",
        long: "fold runs of the same pattern into one line, or unfold them",
        run: |_, cx, _| Ok(cx.toggle_fold()),
    },
    ViewCommand {
        name: "worst-first",
        keys: &["o"],
        short: "worst",
        long: "sort: worst first / by time",
        run: |_, cx, _| Ok(cx.toggle_worst_first()),
    },
    ViewCommand {
        name: "zero",
        keys: &["T"],
        short: "zero",
        long: "count times from this event, or show them as they are",
        run: |_, cx, _| Ok(zero(cx)),
    },
    ViewCommand {
        name: "shown-zone",
        keys: &["D"],
        short: "zone",
        long: "show times in another zone",
        run: |_, cx, _| Ok(ask_zone(cx)),
    },
    ViewCommand {
        name: "columns",
        keys: &["C"],
        short: "columns",
        long: "set the columns and their widths",
        run: |_, cx, _| Ok(ask_columns(cx)),
    },
    ViewCommand {
        name: "select",
        keys: &["s"],
        short: "select",
        long: "start a selection here, or end it",
        run: |_, cx, _| Ok(cx.toggle_selection()),
    },
    ViewCommand {
        name: "copy",
        keys: &["y"],
        short: "copy",
        long: "copy the selection or this record to the terminal's clipboard",
        run: |_, cx, _| cx.copy(),
    },
    ViewCommand {
        name: "export",
        keys: &["W"],
        short: "write",
        long: "write the selection, or all that passes the filter, to a file",
        run: |_, _cx, _| Ok(Then::Ask(export_question())),
    },
    ViewCommand {
        name: "chart",
        keys: &["Y"],
        short: "chart",
        long: "draw the selection in swim lanes, or the volume over time: SVG, PDF",
        run: |_, cx, _| Ok(ask_chart(cx)),
    },
    ViewCommand {
        name: "next-link",
        keys: &["Tab"],
        short: "link",
        long: "select the next link of the reading pane; Enter follows it",
        run: |_, cx, _| Ok(next_link(cx)),
    },
    ViewCommand::PANE_DOWN,
    ViewCommand::PANE_UP,
    ViewCommand {
        name: "pane-mode",
        keys: &["x"],
        short: "fields",
        long: "show the event as the XML or JSON that it is, as raw bytes, or in words",
        run: |_, cx, _| Ok(next_mode(cx)),
    },
    ViewCommand {
        name: "earlier",
        keys: &["("],
        short: "earlier",
        long: "rail: move the window half its width earlier",
        run: |_, cx, _| Ok(cx.shift_window(false)),
    },
    ViewCommand {
        name: "later",
        keys: &[")"],
        short: "later",
        long: "rail: move the window half its width later",
        run: |_, cx, _| Ok(cx.shift_window(true)),
    },
    ViewCommand {
        name: "narrower",
        keys: &["+", "="],
        short: "narrower",
        long: "rail: narrow the window around this event",
        run: |_, cx, _| {
            cx.rail.window = cx.scaled_window(true);
            Ok(Then::Stay)
        },
    },
    ViewCommand {
        name: "wider",
        keys: &["-"],
        short: "wider",
        long: "rail: widen the window",
        run: |_, cx, _| {
            cx.rail.window = cx.scaled_window(false);
            Ok(Then::Stay)
        },
    },
    ViewCommand {
        name: "whole-span",
        keys: &["*"],
        short: "whole",
        long: "rail: show the whole span",
        run: |_, cx, _| {
            cx.rail.window = None;
            Ok(Then::Stay)
        },
    },
    ViewCommand {
        name: "lanes",
        keys: &["R"],
        short: "lanes",
        long: "rail: a lane for each source of this host, or for each host",
        run: |_, cx, _| Ok(lanes(cx)),
    },
    ViewCommand {
        name: "hold",
        keys: &["H"],
        short: "hold",
        long: "following: hold back new events, or let them through",
        run: |_, cx, _| Ok(cx.toggle_hold()),
    },
    ViewCommand {
        name: "pin",
        keys: &["p"],
        short: "pin",
        long: "pin this event with a note",
        run: |_, cx, _| Ok(cx.ask_for_pin()),
    },
    ViewCommand {
        name: "clock",
        keys: &["d"],
        short: "clock",
        long: "correct the clock of this host",
        run: |_, cx, _| Ok(ask_clock(cx)),
    },
    ViewCommand {
        name: "code-family",
        keys: &["r"],
        short: "code is",
        long: "set the family of a code of this event, here or in its source",
        run: |_, cx, _| Ok(cx.chosen().map_or(Then::Stay, |event| cx.family_menu(event))),
    },
];

/// Does a movement so many times, as long as it moves.
fn repeat(cx: &mut Context, times: usize, step: impl Fn(&mut Context) -> Then) -> Then {
    let mut then = Then::Stay;
    for _ in 0..times.max(1) {
        let before = cx.stream.cursor;
        then = step(cx);
        if cx.stream.cursor == before {
            break;
        }
    }
    then
}

fn hit(cx: &mut Context, back: bool) -> Then {
    cx.go_to_hit(cx.stream.cursor, back, false).map_or(Then::Stay, Then::Say)
}

fn ask_filter(cx: &mut Context) -> Then {
    cx.stream.filter_before.clone_from(&cx.stream.filter_text);
    let help = "level>=warn  host=NAME  source~part  time in 02:10..02:35  words  /regex/  not or ( )   Tab completes, Enter \
                keeps it, Esc undoes it";
    let question = Question::new("filter", help, cx.stream.filter_text.clone(), |cx, text| {
        cx.set_filter(text).map(|()| Then::Stay)
    });
    Then::Ask(Question { live: Live::Filter, ..question })
}

fn ask_find(cx: &mut Context) -> Then {
    cx.stream.find_from = cx.stream.cursor;
    let help = "a text, or /a regular expression/   Enter stays here, Esc goes back, then n and N";
    let question = Question::new("find", help, "", |cx, _| {
        cx.note_jump();
        Ok(Then::Stay)
    });
    Then::Ask(Question { live: Live::Find, ..question })
}

fn lens_question() -> Question {
    Question::new("name of the lens", "Enter saves the filter under this name", "", |cx, name| {
        let (name, filter) = (name.trim().to_owned(), cx.stream.filter_text.clone());
        cx.set_lens(&name, &filter)?;
        Ok(Then::Say(format!("Saved as the lens {name}; e offers it.")))
    })
}

/// Asks for the next ink, with the word that is being looked for, if any.
fn ask_ink(cx: &Context) -> Then {
    let Some(free) = cx.stream.inks.iter().position(Option::is_none) else {
        return Then::say("All eight inks are in use; M removes one.");
    };
    let text = if cx.stream.find.is_some() { cx.stream.find_text.clone() } else { String::new() };
    Then::Ask(ink_question(free, text))
}

fn unfold(cx: &mut Context) -> Then {
    if let Some(row) = cx.chosen().map(|event| event.row)
        && !cx.stream.unfolded.remove(&row)
    {
        cx.stream.unfolded.insert(row);
    }
    Then::Stay
}

fn zero(cx: &mut Context) -> Then {
    cx.stream.zero = match cx.stream.zero {
        Some(_) => None,
        None => cx.chosen().and_then(|event| event.time()),
    };
    Then::Stay
}

fn ask_zone(cx: &Context) -> Then {
    let help = "+02:00  UTC  Europe/Lisbon   leave empty for the zone of the case";
    Then::Ask(Question::new("show times in", help, cx.zone.name().to_owned(), Context::show_zone))
}

fn ask_columns(cx: &Context) -> Then {
    let now = Columns::of(cx.layout.middle.width, cx).list;
    let now = now.into_iter().map(|(column, width)| format!("{}:{width}", column.name())).collect::<Vec<_>>().join(" ");
    let help = "time level host:10 source component pid tid line; leave empty for automatic columns";
    Then::Ask(Question::new("columns", help, now, |cx, text| {
        let none = text.trim().is_empty();
        cx.stream.chosen_columns = (!none).then_some(parse_columns(text)?);
        Ok(Then::Stay)
    }))
}

fn export_question() -> Question {
    let help = ".log as it was read, .txt, .csv, .jsonl, .xml, .otlp.json";
    Question::new("write to", help, "events.log", Context::export)
}

fn ask_chart(cx: &Context) -> Then {
    let name = if cx.selection().is_some() { "lanes.svg" } else { "density.svg" };
    Then::Ask(Question::new("write to", "NAME.svg or NAME.pdf", name, Context::write_chart))
}

/// Selects the next link of the reading pane, and after the last none.
fn next_link(cx: &mut Context) -> Then {
    let count = cx.pane.links.len();
    cx.pane.link = match cx.pane.link {
        None if count > 0 => Some(0),
        Some(at) if at + 1 < count => Some(at + 1),
        _ => None,
    };
    if count == 0 { Then::say("This event has no links.") } else { Then::Stay }
}

/// The next way to show the chosen event: words, its own form, its bytes.
fn next_mode(cx: &mut Context) -> Then {
    // A key may come before the frame that shows another event.
    cx.prepare_detail();
    let has_form = cx.pane.detail.as_ref().is_some_and(|detail| detail.structured.is_some());
    cx.pane.mode = match cx.pane.mode {
        DetailMode::Words if has_form => DetailMode::Structured,
        DetailMode::Words | DetailMode::Structured => DetailMode::Raw,
        DetailMode::Raw => DetailMode::Words,
    };
    cx.pane.top = 0;
    Then::Stay
}

/// Gives each source of the chosen host a lane of the rail, or each host one again.
fn lanes(cx: &mut Context) -> Then {
    cx.rail.host = match cx.rail.host {
        Some(_) => None,
        None => cx.chosen().map(|event| event.actor().host).filter(|host| *host > 0),
    };
    Then::Stay
}

fn ask_clock(cx: &Context) -> Then {
    match cx.chosen().map(|event| event.host().to_owned()).filter(|host| !host.is_empty()) {
        Some(host) => cx.ask_for_clock(&host),
        None => Then::say("This event belongs to no host."),
    }
}
