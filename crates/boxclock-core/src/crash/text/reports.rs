//! Reports of operating systems about programs: problem reports and events of Windows (their public texts), crash reports of
//! macOS as text and as JSON.

#![allow(clippy::indexing_slicing, reason = "a member of JSON that is missing reads as null")]

use serde_json::Value;

use super::{Pattern, TextLine, Told, frame, hex, number, part, set_signal, signal_number};
use crate::clock::scan::filetime;
use crate::code::Platform;
use crate::crash::{Crash, Kind, Module, Thread, exception};

/// Says of the address that was touched what that comes to.
fn touch(crash: &mut Crash) {
    if let Some(address) = crash.what.address {
        crash.what.touch(address, None, None, &crash.memory);
    }
}

fn joined(lines: &[TextLine], most: usize) -> String {
    lines.iter().take(most).map(|line| line.text.as_str()).collect::<Vec<_>>().join("\n")
}

fn windows(code: u32, crash: &mut Crash) {
    let code = exception::code_of(code);
    crash.code = Some(code);
    crash.what = exception::what(code, &[], None, &crash.memory);
    crash.platform = Platform::Windows;
}

/// The event of a program that failed: application, module, code and offset.
pub(super) fn windows_application(lines: &[TextLine]) -> Option<Told> {
    static TEXT: Pattern = Pattern::new(
        r"(?s)Faulting application name: (?P<name>[^,\n]+?), version: (?P<version>[^,\n]*), time stamp: (?P<stamp>0x[0-9a-fA-F]+).*?Faulting module name: (?P<module>[^,\n]+?), version: (?P<mversion>[^,\n]*), time stamp: (?P<mstamp>0x[0-9a-fA-F]+).*?Exception code: (?P<code>0x[0-9a-fA-F]+).*?Fault offset: (?P<offset>0x[0-9a-fA-F]+)(?:.*?Faulting process id: (?P<pid>0x[0-9a-fA-F]+))?(?:.*?Faulting application path: (?P<path>[^\n]+))?(?:.*?Faulting module path: (?P<mpath>[^\n]+))?",
    );
    let text = joined(lines, 20);
    let found = TEXT.of(&text)?;
    let mut told = Told { lines: lines.len().min(16), ..Told::default() };
    let crash = &mut told.crash;
    windows(u32::try_from(hex(&found, "code")?).ok()?, crash);
    crash.process = part(&found, "name");
    crash.executable = part(&found, "path");
    crash.pid = hex(&found, "pid").and_then(|pid| u32::try_from(pid).ok());
    let mut at = frame(None, part(&found, "module"));
    at.offset = hex(&found, "offset");
    crash.frames.push(at);
    let stamp = |name: &str| hex(&found, name).and_then(|stamp| u32::try_from(stamp).ok()).filter(|stamp| *stamp != 0);
    crash.modules.push(Module {
        path: part(&found, "path").or(part(&found, "name")).unwrap_or_default(),
        version: part(&found, "version"),
        built_s: stamp("stamp"),
        ..Module::default()
    });
    if part(&found, "module") != part(&found, "name") {
        crash.modules.push(Module {
            path: part(&found, "mpath").or(part(&found, "module")).unwrap_or_default(),
            version: part(&found, "mversion"),
            built_s: stamp("mstamp"),
            ..Module::default()
        });
    }
    Some(told)
}

/// The event after a stop: its code with four parameters, and where the dump is.
pub(super) fn bugcheck(lines: &[TextLine]) -> Option<Told> {
    static TEXT: Pattern = Pattern::new(
        r"bugcheck was:? (?P<code>0x[0-9a-fA-F]+) \((?P<p1>0x[0-9a-fA-F]+), (?P<p2>0x[0-9a-fA-F]+), (?P<p3>0x[0-9a-fA-F]+), (?P<p4>0x[0-9a-fA-F]+)\)",
    );
    let text = joined(lines, 6).replace('\n', " ");
    let found = TEXT.of(&text)?;
    let mut told = Told { lines: 1, is_mark: true, ..Told::default() };
    let stop = u32::try_from(hex(&found, "code")?).ok()?;
    let values = ["p1", "p2", "p3", "p4"].into_iter().filter_map(|name| hex(&found, name));
    let (code, what) = exception::stop(stop, values);
    told.crash.code = Some(code);
    told.crash.what = what;
    told.crash.platform = Platform::Windows;
    Some(told)
}

/// The event of a program that did not answer.
pub(super) fn hang(lines: &[TextLine]) -> Option<Told> {
    static TEXT: Pattern = Pattern::new(
        r"The program (?P<name>\S+) version (?P<version>\S+) stopped interacting with Windows(?s:.*?Process ID: (?P<pid>[0-9a-fA-F]+))?",
    );
    let text = joined(lines, 20);
    let found = TEXT.of(&text)?;
    let mut told = Told { lines: lines.len().min(12), ..Told::default() };
    let crash = &mut told.crash;
    crash.process = part(&found, "name");
    crash.pid = hex(&found, "pid").and_then(|pid| u32::try_from(pid).ok());
    crash.what.kind = Kind::Hang;
    crash.what.name = Some("not answering".into());
    crash.platform = Platform::Windows;
    Some(told)
}

/// A problem report of Windows: lines of `key=value`.
pub(super) fn windows_report(lines: &[TextLine]) -> Option<Told> {
    let mut told = Told { lines: lines.len(), ..Told::default() };
    let mut names: Vec<(String, String)> = Vec::new();
    let value = |key: &str| {
        lines
            .iter()
            .find_map(|line| line.text.split_once('=').filter(|(name, _)| name.trim() == key))
            .map(|(_, value)| value.trim().to_owned())
    };
    let kind = value("EventType")?;
    for index in 0..16 {
        if let (Some(name), Some(value)) = (value(&format!("Sig[{index}].Name")), value(&format!("Sig[{index}].Value")))
        {
            names.push((name.to_ascii_lowercase(), value));
        }
    }
    let field = |words: &[&str]| {
        names.iter().find(|(name, _)| words.iter().all(|word| name.contains(word))).map(|(_, value)| value.clone())
    };
    let crash = &mut told.crash;
    crash.platform = Platform::Windows;
    crash.time = value("EventTime").and_then(|text| filetime(text.parse().ok()?));
    let code =
        field(&["exception", "code"]).and_then(|text| u32::from_str_radix(text.trim_start_matches("0x"), 16).ok());
    match (kind.as_str(), code) {
        (_, Some(code)) => windows(code, crash),
        (kind, None) if kind.contains("Hang") => {
            crash.what.kind = Kind::Hang;
            crash.what.name = Some("not answering".into());
        }
        ("BlueScreen", None) => {
            let stop = names
                .first()
                .map(|(_, value)| value.clone())
                .and_then(|text| u32::from_str_radix(text.trim_start_matches("0x"), 16).ok())?;
            let (code, what) = exception::stop(stop, std::iter::empty());
            crash.code = Some(code);
            crash.what = what;
        }
        _ => crash.what.name = Some(kind.clone()),
    }
    crash.process = value("AppName")
        .filter(|_| field(&["application", "name"]).is_none())
        .or(field(&["application", "name"]))
        .or(value("TargetAppId"));
    crash.executable = value("AppPath");
    if let Some(module) = field(&["module", "name"]) {
        let mut at = frame(None, Some(module.clone()));
        at.offset = field(&["exception", "offset"])
            .and_then(|text| u64::from_str_radix(text.trim_start_matches("0x"), 16).ok());
        crash.frames.push(at);
        let stamp = field(&["module", "timestamp"]).and_then(|text| u32::from_str_radix(&text, 16).ok());
        crash.modules.push(Module {
            path: module,
            version: field(&["module", "version"]),
            built_s: stamp,
            ..Module::default()
        });
    }
    let loaded =
        lines.iter().filter_map(|line| line.text.split_once('=')).filter(|(name, _)| name.starts_with("LoadedModule["));
    for (_, path) in loaded {
        let name = path.rsplit('\\').next().unwrap_or(path).trim().to_ascii_lowercase();
        match crash.modules.iter_mut().find(|module| module.name().to_ascii_lowercase() == name) {
            Some(known) => path.trim().clone_into(&mut known.path),
            None => crash.modules.push(Module { path: path.trim().to_owned(), ..Module::default() }),
        }
    }
    Some(told)
}

/// A crash report of macOS as text.
pub(super) fn macos(lines: &[TextLine]) -> Option<Told> {
    static PROCESS: Pattern = Pattern::new(r"^Process:\s+(?P<name>.+?) \[(?P<pid>\d+)\]");
    static FIELD: Pattern = Pattern::new(
        r"^(?P<name>Path|Version|Exception Type|Exception Codes|Exception Note|Crashed Thread|Date/Time|Termination Reason|Application Specific Information|Triggered by Thread):\s*(?P<value>.*)$",
    );
    static TYPE: Pattern = Pattern::new(r"(?P<name>EXC_\w+)(?: \((?P<signal>SIG\w+)\))?");
    static ADDRESS: Pattern = Pattern::new(r"(?P<code>KERN_\w+) at (?P<address>0x[0-9a-fA-F]+)");
    static THREAD: Pattern = Pattern::new(r"^Thread (?P<id>\d+)(?: Crashed)?(?:::?\s*(?P<name>.*?))?:?\s*$");
    static FRAME: Pattern = Pattern::new(
        r"^(?P<index>\d+)\s+(?P<module>\S.*?)\s+(?P<address>0x[0-9a-f]+) (?P<function>.+?)(?: \+ (?P<offset>\d+))?(?: \((?P<file>[^():]+):(?P<line>\d+)\))?$",
    );
    static IMAGE: Pattern = Pattern::new(
        r"^\s*(?P<start>0x[0-9a-f]+) -\s+(?P<end>0x[0-9a-f]+) \+?(?P<id>\S+) (?:\((?P<version>[^)]*)\) )?<(?P<uuid>[0-9a-fA-F-]+)> (?P<path>/.*)$",
    );
    let found = PROCESS.of(&lines.first()?.text)?;
    let mut told = Told { lines: lines.len(), ..Told::default() };
    let crash = &mut told.crash;
    crash.process = part(&found, "name");
    crash.pid = number(&found, "pid");
    crash.platform = Platform::Macos;
    let (mut current, mut failed) = (None::<u32>, None::<u32>);
    for line in lines {
        let text = line.text.as_str();
        if let Some(found) = FIELD.of(text) {
            let value = part(&found, "value").unwrap_or_default();
            match &found["name"] {
                "Path" => crash.executable = Some(value),
                "Exception Type" => {
                    if let Some(found) = TYPE.of(&value) {
                        if let Some(number) = part(&found, "signal").and_then(|name| signal_number(&name)) {
                            set_signal(crash, number);
                        }
                        crash.what.detail = part(&found, "name");
                        if crash.what.name.is_none() {
                            crash.what.name = part(&found, "name");
                        }
                    }
                }
                "Exception Codes" => {
                    if let Some(found) = ADDRESS.of(&value) {
                        crash.what.address = hex(&found, "address");
                        crash.what.detail = part(&found, "code");
                        touch(crash);
                    }
                }
                "Crashed Thread" | "Triggered by Thread" => {
                    failed = value.split_whitespace().next().and_then(|text| text.parse().ok());
                }
                "Date/Time" => {
                    crash.attributes.insert("crash.time_text".into(), value.into());
                }
                _ => {}
            }
        } else if let Some(found) = THREAD.of(text) {
            let id: Option<u32> = number(&found, "id");
            if text.contains("Crashed") {
                failed = id;
            }
            if current != id {
                crash.threads.push(Thread {
                    id: id.unwrap_or(0),
                    name: part(&found, "name").filter(|name| !name.starts_with("Dispatch queue")),
                    ..Thread::default()
                });
            }
            current = id;
        } else if current.is_some()
            && let Some(found) = FRAME.of(text)
        {
            let function = part(&found, "function").filter(|name| !name.starts_with("0x"));
            let mut at = frame(function, part(&found, "module"));
            at.address = hex(&found, "address");
            at.function_offset = number(&found, "offset");
            (at.file, at.line) = (part(&found, "file"), number(&found, "line"));
            if let Some(thread) = crash.threads.last_mut() {
                thread.frames.push(at);
            }
        } else if text.trim().is_empty() || text.starts_with("Binary Images") {
            current = None;
        } else if let Some(found) = IMAGE.of(text)
            && let (Some(base), Some(end)) = (hex(&found, "start"), hex(&found, "end"))
        {
            crash.modules.push(Module {
                path: part(&found, "path").unwrap_or_default(),
                base,
                end,
                version: part(&found, "version"),
                build_id: part(&found, "uuid"),
                ..Module::default()
            });
        }
    }
    crash.tid = failed;
    let at =
        crash.threads.iter().position(|thread| Some(thread.id) == failed).or((!crash.threads.is_empty()).then_some(0));
    crash.frames = at.and_then(|at| crash.threads.get(at)).map(|thread| thread.frames.clone()).unwrap_or_default();
    crash.address = crash.frames.first().and_then(|first| first.address);
    Some(told)
}

/// A crash report of macOS as JSON: a line about the report, then the report.
pub(super) fn macos_json(lines: &[TextLine]) -> Option<Told> {
    let text = joined(lines, usize::MAX);
    let (head, rest) = text.split_once('\n').unwrap_or(("", &text));
    let head: Value = serde_json::from_str(head).unwrap_or_default();
    let value: Value = serde_json::from_str(rest).or_else(|_| serde_json::from_str(&text)).ok()?;
    let mut told = Told { lines: lines.len(), ..Told::default() };
    let crash = &mut told.crash;
    let small = |value: &Value| value.as_u64().and_then(|number| u32::try_from(number).ok());
    crash.platform = Platform::Macos;
    crash.process = value["procName"].as_str().or(head["app_name"].as_str()).map(str::to_owned);
    crash.process.as_ref()?;
    crash.pid = small(&value["pid"]);
    crash.executable = value["procPath"].as_str().map(str::to_owned);
    if let Some(time) = value["captureTime"].as_str().or(head["timestamp"].as_str()) {
        crash.attributes.insert("crash.time_text".into(), time.into());
    }
    let exception = &value["exception"];
    if let Some(number) = exception["signal"].as_str().and_then(signal_number) {
        set_signal(crash, number);
    }
    crash.what.detail = exception["subtype"].as_str().or(exception["type"].as_str()).map(str::to_owned);
    if crash.what.name.is_none() {
        crash.what.name = exception["type"].as_str().map(str::to_owned);
    }
    static ADDRESS: Pattern = Pattern::new(r"at (?P<address>0x[0-9a-fA-F]+)");
    crash.what.address = exception["subtype"].as_str().and_then(|text| hex(&ADDRESS.of(text)?, "address"));
    touch(crash);
    let images = value["usedImages"].as_array().into_iter().flatten();
    crash.modules = images
        .map(|image| {
            let base = image["base"].as_u64().unwrap_or(0);
            Module {
                path: image["path"].as_str().or(image["name"].as_str()).unwrap_or_default().to_owned(),
                base,
                end: base.saturating_add(image["size"].as_u64().unwrap_or(0)),
                build_id: image["uuid"].as_str().map(str::to_owned),
                ..Module::default()
            }
        })
        .collect();
    let failed = value["faultingThread"].as_u64().and_then(|at| usize::try_from(at).ok()).unwrap_or(0);
    for (index, thread) in value["threads"].as_array().into_iter().flatten().enumerate() {
        let frames = thread["frames"].as_array().into_iter().flatten().map(|one| {
            let module =
                one["imageIndex"].as_u64().and_then(|at| usize::try_from(at).ok()).and_then(|at| crash.modules.get(at));
            let offset = one["imageOffset"].as_u64();
            let mut at = frame(one["symbol"].as_str().map(str::to_owned), module.map(|module| module.path.clone()));
            at.offset = offset;
            at.address = module.and_then(|module| module.base.checked_add(offset?));
            at.function_offset = one["symbolLocation"].as_u64();
            (at.file, at.line) = (one["sourceFile"].as_str().map(str::to_owned), small(&one["sourceLine"]));
            at
        });
        let frames = frames.collect();
        let id = u32::try_from(index).unwrap_or(u32::MAX);
        let name = thread["name"].as_str().or(thread["queue"].as_str()).map(str::to_owned);
        crash.threads.push(Thread { id, name, frames, ..Thread::default() });
    }
    crash.tid = u32::try_from(failed).ok();
    crash.frames = crash.threads.get(failed).map(|thread| thread.frames.clone()).unwrap_or_default();
    crash.address = crash.frames.first().and_then(|first| first.address);
    Some(told)
}
