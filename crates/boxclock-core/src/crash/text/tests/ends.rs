//! What the runtimes of script languages, the C library and Rust print when a program ends, and what hangs.

use super::*;

/// The functions of the stack, innermost first.
fn stack(crash: &Crash) -> Vec<&str> {
    crash.frames.iter().filter_map(|at| at.function.as_deref()).collect()
}

#[test]
fn what_scripts_say_when_nothing_catches_their_error() {
    let php = told(&sample("php-uncaught.txt")).unwrap();
    assert_eq!(php.crash.what.name.as_deref(), Some("RuntimeException"));
    assert_eq!(php.crash.what.detail.as_deref(), Some("tank 7 has no gauge"));
    // Each line of its stack says where a function was called from; the first error is the cause of the next.
    assert_eq!(stack(&php.crash), ["pump_fail", "dose"]);
    let places: Vec<Option<u32>> = php.crash.frames.iter().map(|at| at.line).collect();
    assert_eq!(places, [Some(2), Some(3), Some(4)]);
    assert_eq!(php.lines, sample("php-uncaught.txt").trim_end().lines().count());
    // Behind a time, "PHP Fatal error" is the level of the record, and no part of its text.
    let in_log = sample("php-uncaught.txt").replacen("PHP Fatal error:  ", "", 1);
    assert_eq!(told(&in_log).unwrap().crash.frames, php.crash.frames);
    let memory = told(&sample("php-memory.txt").replacen("PHP Fatal error:  ", "", 1)).unwrap().crash;
    assert_eq!(memory.what.kind, Kind::OutOfMemory);
    let memory = told(&sample("php-memory.txt")).unwrap().crash;
    assert_eq!(memory.what.kind, Kind::OutOfMemory);
    assert_eq!(memory.frames[0].line, Some(2));

    let ruby = told(&sample("ruby-cause.txt")).unwrap();
    assert_eq!(ruby.crash.what.name.as_deref(), Some("RuntimeError"));
    assert_eq!(ruby.crash.what.detail.as_deref(), Some("dosing stopped; caused by ArgumentError: tank 7 has no gauge"),);
    assert_eq!(stack(&ruby.crash), ["pump_fail", "dose", "<main>"]);
    assert_eq!(ruby.lines, 5);
    // The code that it shows between the error and its stack belongs to it.
    let shown = told(&sample("ruby-shown-code.txt")).unwrap();
    assert_eq!((stack(&shown.crash), shown.lines), (vec!["pump_fail", "dose", "<main>"], 6));
    // A thread says its error, and the program says it again.
    let thread = told(&sample("ruby-thread.txt")).unwrap();
    assert_eq!(stack(&thread.crash), ["pump_fail", "dose", "block in <main>"]);
    assert_eq!((thread.lines, thread.crash.what.detail.as_deref()), (6, Some("tank 3 has no gauge")));
}

#[test]
fn an_interpreter_that_fails_itself() {
    let fault = told(&sample("ruby-fault.txt")).unwrap().crash;
    assert_eq!((fault.what.kind, fault.what.number), (Kind::Signal, Some(11)));
    assert_eq!(stack(&fault), ["kill", "pump_fail", "dose", "<main>"], "the outermost comes first in its report");
    let other = told("[BUG] object allocation during garbage collection phase").unwrap().crash;
    assert_eq!(other.what.kind, Kind::Panic);
    assert_eq!(other.what.name.as_deref(), Some("object allocation during garbage collection phase"));
}

#[test]
fn programs_that_do_not_go_on() {
    let python = told(&sample("python-timeout.txt")).unwrap();
    assert_eq!(python.crash.what.kind, Kind::Hang);
    assert_eq!(stack(&python.crash), ["pump_fail", "dose", "<module>"]);
    assert_eq!(python.lines, 5);
    let java = told(&sample("java-deadlock.txt")).unwrap();
    assert_eq!((java.crash.what.kind, java.crash.what.detail.as_deref()), (Kind::Hang, Some("doser-1, doser-2")));
    assert_eq!(java.crash.threads.len(), 2, "the threads with their stacks, not those that only wait");
    assert_eq!(java.crash.frames[0].function.as_deref(), Some("K.lambda$main$1"));
    assert_eq!(java.crash.threads[1].frames[0].file.as_deref(), Some("K.java"));
    let ended = sample("java-deadlock.txt").lines().position(|line| line == "Found 1 deadlock.").unwrap();
    assert_eq!(java.lines, ended + 1);
    let cut =
        sample("java-deadlock.txt").replace("Found 1 deadlock.", "2026-04-12 02:31:07 INFO fed tank 3\nfed tank 4");
    assert_eq!(told(&cut).unwrap().lines, ended, "what another line says is not of the dump");
    let go = told(&sample("go-waits.txt")).unwrap().crash;
    assert_eq!(go.what.kind, Kind::Hang);
    assert_eq!(stack(&go)[0], "main.pumpFail", "it waits in Go's own library, but that is not who is asked");
}

#[test]
fn the_library_of_the_compiler_is_not_where_it_failed() {
    let index = told(&sample("rust-index.txt")).unwrap().crash;
    assert_eq!(index.frames[0].bare_function(), Some("rs::pump_fail"));
    let ours = "panic: x\n\ngoroutine 1 [running]:\nreef.example/pump/sync.Wait()\n\t/srv/pump/sync/wait.go:3 +0x1\nmain.main()\n\t/srv/pump/m.go:9 +0x2\n";
    assert_eq!(stack(&told(ours).unwrap().crash)[0], "reef.example/pump/sync.Wait", "a package of others");
    let local =
        "panic: x\n\ngoroutine 1 [running]:\npump.Feed()\n\t/srv/app/feed.go:3 +0x1\nmain.main()\n\t/srv/m.go:9 +0x2\n";
    assert_eq!(
        stack(&told(local).unwrap().crash)[0],
        "pump.Feed",
        "a package whose name has no dot is not Go's own for that"
    );
}

#[test]
fn conditions_that_did_not_hold() {
    for (text, program, function, line, what) in [
        ("pump: c.c:15: pump_fail: Assertion `n==8' failed.", Some("pump"), "pump_fail", 15, "n==8"),
        (
            "ea: <stdin>:2: int pump::fail(T) [with T = int]: Assertion `x==8 && \"no gauge\"' failed.",
            Some("ea"),
            "pump::fail",
            2,
            "x==8 && \"no gauge\"",
        ),
        ("Assertion failed: (n == 8), function pump_fail, file c.c, line 15.", None, "pump_fail", 15, "n == 8"),
        ("Assertion failed: n == 8 (c.c: pump_fail: 15)", None, "pump_fail", 15, "n == 8"),
    ] {
        let told = told(text).unwrap_or_else(|| panic!("{text}: nothing told"));
        assert!(told.is_mark, "there is no report");
        let crash = told.crash;
        assert_eq!((crash.what.kind, crash.process.as_deref()), (Kind::Assertion, program), "{text}");
        assert_eq!((stack(&crash), crash.frames[0].line), (vec![function], Some(line)), "{text}");
        assert_eq!(crash.what.detail.as_deref(), Some(what), "{text}");
    }
}

#[test]
fn damage_that_the_c_library_notices() {
    for (text, program, words) in [
        ("free(): double free detected in tcache 2", None, "it freed the same block twice"),
        ("double free or corruption (!prev)", None, "it freed the same block twice"),
        ("malloc(): corrupted top size", None, "the memory of the heap was damaged before"),
        ("corrupted size vs. prev_size while consolidating", None, "the memory of the heap was damaged before"),
        ("munmap_chunk(): invalid pointer", None, "the memory of the heap was damaged before"),
        ("*** stack smashing detected ***: terminated", None, "it went beyond the end of a local variable"),
        ("*** stack smashing detected ***: <unknown> terminated", None, "it went beyond the end of a local variable"),
        ("*** buffer overflow detected ***: ./pump terminated", Some("./pump"), "it was about to go beyond"),
        (
            "*** Error in `./pump': double free or corruption (fasttop): 0x0000000001c0f010 ***",
            Some("./pump"),
            "it freed the same block twice",
        ),
    ] {
        let told = told(text).unwrap_or_else(|| panic!("{text}: nothing told"));
        assert_eq!(told.crash.what.number, Some(6), "{text}: it then aborts");
        assert_eq!(told.crash.process.as_deref(), program, "{text}");
        assert!(told.crash.what.words.unwrap().starts_with(words), "{text}");
    }
}

#[test]
fn stack_and_memory_that_are_used_up() {
    let stack = told(&sample("rust-stack.txt")).unwrap();
    assert_eq!((stack.crash.what.name.as_deref(), stack.lines), (Some("stack-overflow"), 2));
    let memory = told(&sample("rust-memory.txt")).unwrap().crash;
    assert_eq!(memory.what.kind, Kind::OutOfMemory);
    assert_eq!(memory.what.detail.as_deref(), Some("70368744177664 bytes asked for"));
}

#[test]
fn lines_that_only_sound_like_an_end() {
    for line in [
        "free(): 12 blocks returned to the pool today, none left over that anybody has to look after",
        "free() was called by the pump",
        "Assertion failed: see the manual",
        "tests/pump.c: Assertion `n' is checked below",
        "Fatal error: no gauge",
        "Uncaught TypeError: no gauge in /srv/panel/app.js:3",
        "Uncaught gauges in the reef:7 of them",
        "/srv/pump/r.rb:6:in `dose': method redefined (Warning)",
        "[BUGS] three are open",
        "Timeout (30 s) waiting for the gauge!",
        "Found one Java-level thing",
        "memory allocation of the pump failed",
        "thread 'main' has slept",
        "double free or no charge",
    ] {
        assert!(told(line).is_none(), "{line}");
    }
}

#[test]
fn an_end_that_is_cut_off_anywhere_is_still_read() {
    for name in ["php-uncaught.txt", "ruby-cause.txt", "ruby-fault.txt", "python-timeout.txt", "java-deadlock.txt"] {
        let whole = sample(name);
        let all = lines(&whole);
        for end in 0..all.len() {
            // Fewer lines say less, and never more than there are.
            if let Some(told) = all.get(..end).and_then(read) {
                assert!(told.lines <= end, "{name} to line {end}");
            }
        }
        for (at, _) in whole.char_indices().step_by(7) {
            told(&whole[..at]);
        }
    }
}
