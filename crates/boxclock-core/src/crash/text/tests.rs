//! Crashes in text, against what the real runtimes wrote.

use proptest::prelude::*;

use super::*;
use crate::crash::{Access, Kind};

mod ends;

fn lines(text: &str) -> Vec<TextLine> {
    text.lines().zip(1..).map(|(text, line)| TextLine { line, text: text.to_owned() }).collect()
}

fn told(text: &str) -> Option<Told> {
    let lines = lines(text);
    (0..lines.len()).find_map(|from| read(&lines[from..]))
}

fn sample(name: &str) -> String {
    let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data/crashes").join(name);
    std::fs::read_to_string(path).unwrap()
}

#[test]
fn all_beginnings_compile() {
    assert_eq!(beginnings().unwrap().1.len(), KINDS.len());
}

#[test]
fn reports_of_real_runtimes() {
    for (name, kind, what, first) in [
        ("asan.txt", Kind::Exception, "heap-buffer-overflow", "feed"),
        ("tsan.txt", Kind::Exception, "data race", "w"),
        ("go-panic.txt", Kind::Panic, "SIGSEGV", "main.(*tank).read"),
        ("go-deadlock.txt", Kind::Hang, "fatal error", "main.main"),
        ("rust-panic.txt", Kind::Panic, "panic", "rs::dose"),
        ("python-fatal.txt", Kind::Signal, "SIGSEGV", "string_at"),
        ("node-uncaught.txt", Kind::Exception, "TypeError", "readGauge"),
        ("node-oom.txt", Kind::OutOfMemory, "FATAL ERROR", "node::OOMErrorHandler"),
        ("java-uncaught.txt", Kind::Exception, "java.lang.IllegalStateException", "K.feed"),
        ("jvm.txt", Kind::Signal, "SIGSEGV", "Unsafe_PutInt"),
    ] {
        let told = told(&sample(name)).unwrap_or_else(|| panic!("{name}: nothing told"));
        assert_eq!(told.crash.what.kind, kind, "{name}");
        assert_eq!(told.crash.what.name.as_deref(), Some(what), "{name}");
        assert_eq!(told.crash.frames[0].bare_function(), Some(first), "{name}");
    }
    let stripped = told(&sample("asan-stripped.txt")).unwrap().crash;
    assert_eq!((stripped.frames[0].module.as_deref(), stripped.frames[0].offset), (Some("as"), Some(0x11bf)));
    assert_eq!(stripped.what.access, Some(Access::Read));
    let report = read_document(&lines(&sample("node-report.json"))).unwrap().crash;
    assert_eq!(report.frames[0].function.as_deref(), Some("readGauge"));
    assert!(report.time.is_some() && report.pid.is_some());
}

#[test]
fn lines_of_kernels_and_managers() {
    let fault =
        told("dosingd[2114]: segfault at 18 ip 00005590b0001a2c sp 00007ffd0 error 4 in dosingd[5590b0000000+42000]")
            .unwrap();
    assert_eq!((fault.crash.pid, fault.crash.what.access), (Some(2114), Some(Access::Read)));
    assert_eq!(fault.crash.frames[0].offset, Some(0x1a2c));
    assert!(fault.is_mark);
    let memory = told("Out of memory: Killed process 812 (console) total-vm:91kB, anon-rss:2048000kB, file-rss:0kB")
        .unwrap()
        .crash;
    assert_eq!((memory.what.kind, memory.process.as_deref()), (Kind::OutOfMemory, Some("console")));
    assert!(memory.what.words.unwrap().contains("it held 2000 MiB"));
    let child = told("server process (PID 812) was terminated by signal 11: Segmentation fault").unwrap().crash;
    assert_eq!((child.pid, child.what.number), (Some(812), Some(11)));
    let child = told("worker process 4713 exited on signal 11 (core dumped)").unwrap().crash;
    assert_eq!((child.pid, child.what.number), (Some(4713), Some(11)));
    for line in [
        "lamp.service: Main process exited, code=killed, status=15/TERM",
        "worker process 4713 exited on signal 15",
        "panic: no goroutine follows, so it is any word",
        "the console panicked at the disco",
    ] {
        assert!(told(line).is_none(), "{line}");
    }
}

#[test]
fn a_report_of_the_kernel_ends_where_it_ends() {
    let text = "BUG: kernel NULL pointer dereference, address: 0000000000000018\n\
                #PF: supervisor read access in kernel mode\n\
                Oops: 0000 [#1] PREEMPT SMP PTI\n\
                CPU: 1 PID: 812 Comm: bridge Tainted: G           OE      6.1.0-18-amd64 #1\n\
                RIP: 0010:tw_submit+0x2c/0x90 [twbridge]\n\
                Call Trace:\n <TASK>\n ? __die+0x1f/0x70\n tw_write+0x44/0xa0 [twbridge]\n vfs_write+0xd1/0x3f0\n </TASK>\n\
                Modules linked in: twbridge(OE) usbserial\n\
                ---[ end trace 0000000000000000 ]---\n\
                usb 1-1: new device";
    let told = told(text).unwrap();
    assert_eq!(told.lines, 13);
    let modules: Vec<Option<&str>> = told.crash.frames.iter().map(|at| at.module.as_deref()).collect();
    assert_eq!(modules, [Some("twbridge"), Some("twbridge"), Some("kernel")]);
    assert_eq!(told.crash.process.as_deref(), Some("bridge"));
    assert!(told.crash.what.words.unwrap().starts_with("it read from address 0x18"));
}

#[test]
fn events_of_windows() {
    let text = "Faulting application name: console.exe, version: 5.0.2.0, time stamp: 0x69976e00\nFaulting module name: serbridge.dll, version: 1.4.0.0, time stamp: 0x56df6580\nException code: 0xc0000005\nFault offset: 0x0000000000003a4c\nFaulting process id: 0x1250\nFaulting application path: C:\\Tankwarden\\console.exe";
    let crash = told(text).unwrap().crash;
    assert_eq!((crash.pid, crash.process.as_deref()), (Some(0x1250), Some("console.exe")));
    assert_eq!((crash.frames[0].module.as_deref(), crash.frames[0].offset), (Some("serbridge.dll"), Some(0x3a4c)));
    assert_eq!(crash.modules.len(), 2);
    let stop = told("The computer has rebooted from a bugcheck.  The bugcheck was: 0x000000d1 (0xffffc08a30f1e010, 0x2, 0x0, 0xfffff80008613a4c). A dump was saved in: C:\\Windows\\MEMORY.DMP.").unwrap();
    assert_eq!(stop.crash.what.number, Some(0xD1));
    assert_eq!(stop.crash.what.parameters[3].0, 0xffff_f800_0861_3a4c);
}

proptest! {
    #[test]
    fn any_lines_are_read(text in "(\\PC{0,80}\n){0,12}", kind in 0..KINDS.len()) {
        let lines = lines(&text);
        (KINDS[kind].1)(&lines);
        read(&lines);
        read_document(&lines);
    }
}
