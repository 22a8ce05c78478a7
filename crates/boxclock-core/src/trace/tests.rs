//! Traces as the runtimes print them.

use proptest::prelude::*;

use super::*;

fn short(text: &str) -> String {
    let Some(trace) = parse(text) else { return "none".into() };
    format!("{} | {} | {} | {}", trace.exception, trace.message, trace.frames.join("; "), trace.causes.join("; "))
}

#[test]
fn java_with_causes() {
    let text = "valve 3 does not answer\njava.lang.RuntimeException: dosing failed\n\tat Dosing.open(Dosing.java:4)\n\tat Dosing.main(Dosing.java:7)\n\
                Caused by: java.lang.IllegalStateException: no reply from valve 3\n\tat Dosing.feed(Dosing.java:5)\n\t... 2 more\n";
    assert_eq!(
        short(text),
        "java.lang.RuntimeException | dosing failed | Dosing.open(Dosing.java:4); Dosing.main(Dosing.java:7) | \
         java.lang.IllegalStateException: no reply from valve 3"
    );
    assert_eq!(
        short("Exception in thread \"main\" java.lang.OutOfMemoryError\n\tat A.b(A.java:1)\n"),
        "java.lang.OutOfMemoryError |  | A.b(A.java:1) | "
    );
}

#[test]
fn python_with_chained_exceptions() {
    let text = "dose failed\nTraceback (most recent call last):\n  File \"/srv/keeper/dosing.py\", line 6, in feed\n    try: {}['valve3']\n         ~~^^^^^^^^^^\n\
                KeyError: 'valve3'\n\nThe above exception was the direct cause of the following exception:\n\nTraceback (most recent call last):\n  \
                File \"/srv/keeper/dosing.py\", line 9, in main\n    feed()\n  File \"/srv/keeper/dosing.py\", line 7, in feed\n    raise\nRuntimeError: no such valve\n";
    assert_eq!(
        short(text),
        "RuntimeError | no such valve | feed (/srv/keeper/dosing.py:7); main (/srv/keeper/dosing.py:9) | KeyError: 'valve3'"
    );
}

#[test]
fn dotnet_with_inner_exception() {
    let text = "System.InvalidOperationException: dose failed\r\n ---> System.TimeoutException: no reply\r\n   at Tank.Valve.Read() in C:\\k\\Valve.cs:line 9\r\n   \
                --- End of inner exception stack trace ---\r\n   at Tank.Dosing.Open(Int32 valve) in C:\\k\\Dosing.cs:line 4\r\n";
    assert_eq!(
        short(text),
        "System.InvalidOperationException | dose failed | Tank.Dosing.Open(Int32 valve) in C:\\k\\Dosing.cs:line 4 | System.TimeoutException: no reply"
    );
}

#[test]
fn go_rust_and_node() {
    let go = "panic: valve 3: no reply\n\ngoroutine 1 [running]:\nmain.feed(0x3)\n\t/srv/keeper/dosing.go:12 +0x1d\nmain.main()\n\t/srv/keeper/dosing.go:20 +0x2a\nexit status 2\n";
    assert_eq!(
        short(go).split(" | ").nth(2),
        Some("main.feed(0x3) (/srv/keeper/dosing.go:12); main.main() (/srv/keeper/dosing.go:20)")
    );
    let rust = "thread 'main' panicked at src/link.rs:14:5:\nseq < window\nstack backtrace:\n   0: rust_begin_unwind\n             at library/std/src/panicking.rs:1:5\n   1: dosing::link::step\n";
    assert_eq!(
        short(rust),
        "panic | seq < window | rust_begin_unwind (library/std/src/panicking.rs:1:5); dosing::link::step | "
    );
    let node = "TypeError: Cannot read properties of undefined (reading 'valve')\n    at feed (/srv/keeper/dosing.js:4:15)\n    at /srv/keeper/dosing.js:9:1\n";
    assert_eq!(
        short(node),
        "TypeError | Cannot read properties of undefined (reading 'valve') | feed (/srv/keeper/dosing.js:4:15); /srv/keeper/dosing.js:9:1 | "
    );
}

#[test]
fn native_and_kernel() {
    let native = "dosingd: caught signal 11\n#0  0x00007f12 in raise () from /lib/libc.so.6\n#1  0x00005501 in feed (valve=3) at link.c:9\n";
    assert_eq!(
        short(native),
        "backtrace | dosingd: caught signal 11 | raise () from /lib/libc.so.6; feed (valve=3) at link.c:9 | "
    );
    let kernel = "BUG: kernel NULL pointer dereference, address: 0000000000000008\nRIP: 0010:bridge_read+0x12/0x40 [bridge]\nCall Trace:\n <TASK>\n ? __die+0x1/0x2\n vfs_read+0x9d/0x300\n ksys_read+0x6f/0xf0\n </TASK>\n";
    assert_eq!(
        short(kernel),
        "kernel oops | BUG: kernel NULL pointer dereference, address: 0000000000000008 | bridge_read+0x12/0x40; vfs_read+0x9d/0x300; ksys_read+0x6f/0xf0 | "
    );
}

#[test]
fn prose_is_no_trace() {
    for text in ["two\nlines", "arrived\n  at noon\n", "list:\n#1\n#2\n", "Error: x\nnothing more"] {
        assert_eq!(parse(text), None, "{text}");
    }
}

proptest! {
    #[test]
    fn any_text_parses(text in "(?s).{0,400}") {
        parse(&text);
    }

    #[test]
    fn any_lines_of_traces_parse(picks in proptest::collection::vec(0..12_usize, 0..20)) {
        let lines = ["Traceback (most recent call last):", "  File \"a\", line 1, in b", "KeyError: 'x'", "\tat a.b(c)", "Caused by: a.B: c", "panic: x",
            "goroutine 1 [running]:", "main.f()", "\t/a.go:1 +0x1", "Call Trace:", "thread 'x' panicked at y:", " ---> A.B: c"];
        let text: Vec<&str> = picks.iter().map(|pick| lines[*pick]).collect();
        parse(&text.join("\n"));
    }
}
