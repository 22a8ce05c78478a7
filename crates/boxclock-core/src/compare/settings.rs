//! Settings by key: ini, properties, TOML, YAML, JSON, XML, registry exports, environment lists, package lists. Comments and order
//! are ignored, and so are ways of writing the same value.

use std::collections::{BTreeMap, HashMap};

use super::{Difference, Kind, Place, tables};

/// Settings by key: a value and its line.
#[derive(Default)]
pub(super) struct Entries {
    of: BTreeMap<String, (String, u64)>,
    /// How often each key has come.
    counts: HashMap<String, usize>,
}

/// Maps and lists in each other that are followed; what lies deeper is left out.
const MOST_DEPTH: usize = 100;

/// Differences up to which each new one is held against all settings of the other side.
const MOST_TWINS: usize = 200;

const EXTENSIONS: [&str; 24] = [
    "ini",
    "conf",
    "cfg",
    "cnf",
    "config",
    "toml",
    "yaml",
    "yml",
    "json",
    "xml",
    "properties",
    "env",
    "reg",
    "service",
    "socket",
    "timer",
    "plist",
    "txt",
    "list",
    "rc",
    "tf",
    "limits",
    "policy",
    "sysctl",
];

/// Whether a file may hold settings, by its name.
pub(super) fn can_be(name: &str) -> bool {
    let lower = name.to_ascii_lowercase();
    let file = lower.rsplit('/').next().unwrap_or(&lower);
    let extension = file.rsplit_once('.').map_or("", |(_, extension)| extension);
    file != "story.json"
        && (EXTENSIONS.contains(&extension)
            || lower.contains("/etc/")
            || lower.starts_with("etc/")
            || file.contains("config")
            || file.contains("settings")
            || file.contains("packages")
            || file == "environ")
}

/// The settings of a text.
pub(super) fn entries(name: &str, text: &str) -> Entries {
    let is = |extension: &str| name.rsplit_once('.').is_some_and(|(_, end)| end.eq_ignore_ascii_case(extension));
    let start = text.trim_start();
    if start.starts_with('{') || start.starts_with('[') && is("json") {
        return json(text);
    }
    if start.starts_with('<') {
        return xml(text);
    }
    if is("yaml") || is("yml") {
        return yaml(text);
    }
    lines(name, text)
}

/// `key=value`, `key: value`, `key value`, in sections or in blocks of braces; rows of tables that are known.
fn lines(name: &str, text: &str) -> Entries {
    let mut found = Entries::default();
    let mut section = String::new();
    let mut blocks: Vec<String> = Vec::new();
    for (number, line) in (1_u64..).zip(text.lines()) {
        let line = line.trim();
        if line.is_empty() || line.starts_with(['#', ';', '!']) || line.starts_with("//") || line.starts_with("--") {
            continue;
        }
        if line.starts_with('[') && line.ends_with(']') {
            line.trim_matches(['[', ']']).clone_into(&mut section);
            continue;
        }
        let rows = tables::rows(name, line);
        for (key, value) in &rows {
            found.add(&section, key, value, number);
        }
        if !rows.is_empty() {
            continue;
        }
        if line.trim_end_matches(';') == "}" {
            section = blocks.pop().unwrap_or_default();
            continue;
        }
        if let Some(block) = line.strip_suffix('{').map(str::trim).filter(|_| blocks.len() < MOST_DEPTH) {
            let inner = if section.is_empty() { block.to_owned() } else { format!("{section}/{block}") };
            blocks.push(std::mem::replace(&mut section, inner));
            continue;
        }
        let separator = line.find(['=', ':']).filter(|at| {
            let key = &line[..*at];
            !key.trim().is_empty()
                && (!key.trim().contains(' ') || line.as_bytes()[*at] == b'=')
                && !line[*at..].starts_with("://")
        });
        let (key, value) = match separator {
            Some(at) => (&line[..at], line[at + 1..].trim_start_matches('=')),
            None => line.split_once(char::is_whitespace).unwrap_or((line, "")),
        };
        found.add(&section, key.trim().trim_matches('"'), value, number);
    }
    found
}

impl Entries {
    /// Adds a value; a key that stands several times is counted.
    fn add(&mut self, section: &str, key: &str, value: &str, line: u64) {
        let base = if section.is_empty() { key.to_owned() } else { format!("{section}/{key}") };
        let count = self.counts.entry(base.clone()).or_default();
        *count += 1;
        let name = if *count == 1 { base } else { format!("{base} ({count})") };
        // A comment behind the value is none of it.
        let value = value.split(" #").next().unwrap_or(value).split(" ;").next().unwrap_or(value);
        let value = value.trim().trim_end_matches([',', ';']).trim().trim_matches(['"', '\'']).to_owned();
        self.of.insert(name, (value, line));
    }
}

fn yaml(text: &str) -> Entries {
    let mut found = Entries::default();
    let mut stack: Vec<(usize, String)> = Vec::new();
    let mut counts: BTreeMap<String, usize> = BTreeMap::new();
    for (number, line) in (1_u64..).zip(text.lines()) {
        let bare = line.trim_start();
        if bare.is_empty() || bare.starts_with('#') || bare.starts_with("---") {
            continue;
        }
        let mut indent = line.len() - bare.len();
        let mut rest = bare;
        while stack.last().is_some_and(|(depth, _)| *depth >= indent) {
            stack.pop();
        }
        let path = |stack: &[(usize, String)]| stack.iter().map(|(_, key)| key.as_str()).collect::<Vec<_>>().join("/");
        if let Some(item) = rest.strip_prefix("- ").or((rest == "-").then_some("")) {
            let parent = path(&stack);
            let count = counts.entry(parent).or_default();
            *count += 1;
            let name = format!("[{count}]");
            rest = item.trim_start();
            let is_map = rest
                .split_once(':')
                .is_some_and(|(key, value)| !key.contains(['"', ' ']) && (value.is_empty() || value.starts_with(' ')));
            if !is_map {
                found.add(&path(&stack), &name, rest, number);
                continue;
            }
            stack.push((indent, name));
            indent += 2;
        }
        let Some((key, value)) = rest.split_once(':') else { continue };
        let value = value.trim();
        if value.is_empty() || value == "|" || value == ">" {
            stack.push((indent, key.trim().to_owned()));
        } else {
            found.add(&path(&stack), key.trim(), value, number);
        }
    }
    found
}

/// The leaves of a JSON text with their lines. A broken text gives what stands before the break.
fn json(text: &str) -> Entries {
    let mut found = Entries::default();
    let mut path: Vec<(String, usize)> = Vec::new();
    let (mut line, mut key, mut chars) = (1_u64, None::<String>, text.char_indices().peekable());
    while let Some((at, letter)) = chars.next() {
        match letter {
            '\n' => line += 1,
            '{' | '[' => {
                let name = name_of(&mut path, key.take());
                path.push((name, usize::from(letter == '[')));
            }
            '}' | ']' => {
                path.pop();
            }
            ':' | ',' | ' ' | '\t' | '\r' => {}
            '"' => {
                let mut value = String::new();
                while let Some((_, letter)) = chars.next() {
                    match letter {
                        '"' => break,
                        '\\' => value.extend(chars.next().map(|(_, letter)| letter)),
                        _ => value.push(letter),
                    }
                }
                let behind = text[chars.peek().map_or(text.len(), |(at, _)| *at)..].trim_start();
                let in_map = path.last().is_some_and(|(_, count)| *count == 0);
                if in_map && key.is_none() && behind.starts_with(':') {
                    key = Some(value);
                } else {
                    leaf(&mut found, &mut path, key.take(), &value, line);
                }
            }
            _ => {
                let rest = &text[at..];
                let end = rest.find([',', '}', ']', '\n', ' ', '\r']).unwrap_or(rest.len());
                leaf(&mut found, &mut path, key.take(), &rest[..end], line);
                while chars.peek().is_some_and(|(next, _)| *next < at + end) {
                    chars.next();
                }
            }
        }
    }
    found
}

/// Adds a leaf of a JSON text.
fn leaf(found: &mut Entries, path: &mut [(String, usize)], key: Option<String>, value: &str, line: u64) {
    let name = name_of(path, key);
    if path.len() <= MOST_DEPTH {
        let names = path.iter().map(|(name, _)| name.as_str()).filter(|name| !name.is_empty());
        found.add(&names.collect::<Vec<_>>().join("/"), &name, value, line);
    }
}

/// The key, or the place in a list.
fn name_of(path: &mut [(String, usize)], key: Option<String>) -> String {
    match (key, path.last_mut()) {
        (Some(key), _) => key,
        (None, Some((_, count))) if *count > 0 => {
            let name = format!("[{count}]");
            *count += 1;
            name
        }
        _ => String::new(),
    }
}

fn xml(text: &str) -> Entries {
    use quick_xml::events::Event;
    let mut found = Entries::default();
    let mut reader = quick_xml::Reader::from_str(text);
    let mut path: Vec<String> = Vec::new();
    // Elements deeper than what is followed, and the lines counted so far.
    let (mut deeper, mut counted, mut line) = (0_usize, 0_usize, 1_u64);
    let lines_in = |part: Option<&[u8]>| memchr::memchr_iter(b'\n', part.unwrap_or_default()).count() as u64;
    loop {
        let at = usize::try_from(reader.buffer_position()).unwrap_or(usize::MAX);
        line += lines_in(text.as_bytes().get(counted..at));
        counted = at;
        match reader.read_event() {
            Ok(Event::Eof) | Err(_) => return found,
            Ok(Event::Start(element)) if path.len() < MOST_DEPTH => {
                path.push(element_of(&element, &path.join("/"), line, &mut found));
            }
            Ok(Event::Start(_)) => deeper += 1,
            Ok(Event::Empty(element)) if path.len() < MOST_DEPTH => {
                element_of(&element, &path.join("/"), line, &mut found);
            }
            Ok(Event::End(_)) if deeper > 0 => deeper -= 1,
            Ok(Event::End(_)) => {
                path.pop();
            }
            Ok(Event::Text(inner)) if deeper == 0 => {
                let value = String::from_utf8_lossy(&inner).trim().to_owned();
                if let Some((last, parent)) = path.split_last().filter(|_| !value.is_empty()) {
                    let blank = inner.iter().take_while(|byte| byte.is_ascii_whitespace()).count();
                    found.add(&parent.join("/"), last, &value, line + lines_in(inner.get(..blank)));
                }
            }
            Ok(_) => {}
        }
    }
}

/// Adds the attributes of an element, and gives its name in a path: what names the element is a part of it.
fn element_of(element: &quick_xml::events::BytesStart<'_>, parent: &str, line: u64, found: &mut Entries) -> String {
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    let attributes: Vec<(String, String)> =
        element.attributes().flatten().map(|one| (text(one.key.as_ref()), text(&one.value))).collect();
    let named = attributes.iter().find(|(key, _)| matches!(key.as_str(), "name" | "key" | "id"));
    let name = text(element.name().as_ref());
    let label = named.map_or(name.clone(), |(_, value)| format!("{name}[{value}]"));
    let own = if parent.is_empty() { label.clone() } else { format!("{parent}/{label}") };
    // `<add key="depth" value="3"/>` is a setting called depth.
    let value_of_name = attributes.iter().find(|(key, _)| key == "value").zip(named);
    if let Some(((_, value), (_, name))) = value_of_name {
        found.add(parent, name, value, line);
    }
    let rest = attributes.iter().filter(|one| Some(*one) != named && (value_of_name.is_none() || one.0 != "value"));
    for (key, value) in rest {
        found.add(&own, &format!("@{key}"), value, line);
    }
    label
}

/// A value in its plainest form: so that two ways of writing it are the same.
fn plain(value: &str) -> String {
    let lower = value.trim().trim_matches(['"', '\'', ';']).to_lowercase();
    let lower = lower.split_whitespace().collect::<Vec<_>>().join(" ");
    match lower.as_str() {
        "yes" | "true" | "on" | "enabled" => "true".into(),
        "no" | "false" | "off" | "disabled" => "false".into(),
        other => match other.parse::<f64>() {
            Ok(number) => number.to_string(),
            Err(_) => other.trim_end_matches('/').to_owned(),
        },
    }
}

/// Whether a difference is one that two machines or runs have anyway.
fn is_harmless(key: &str, bad: &str, good: &str) -> Option<&'static str> {
    let last = key.rsplit('/').next().unwrap_or(key).to_lowercase();
    let last = last.trim_start_matches('@');
    let words: Vec<&str> = last.split(['_', '-', '.', ' ']).collect();
    let has = |names: &[&str]| words.iter().any(|word| names.contains(word)) || names.contains(&last);
    if has(&[
        "id",
        "uuid",
        "guid",
        "serial",
        "seed",
        "nonce",
        "token",
        "cookie",
        "instance",
        "runid",
        "machineid",
        "etag",
    ]) {
        return Some("an id of its own");
    }
    if has(&[
        "date",
        "generated",
        "created",
        "modified",
        "updated",
        "stamp",
        "timestamp",
        "mtime",
        "built",
        "saved",
        "time",
    ]) && bad.chars().any(|letter| letter.is_ascii_digit())
    {
        return Some("when it was written");
    }
    if has(&[
        "hostname",
        "host",
        "node",
        "nodename",
        "machine",
        "computername",
        "name",
        "label",
        "server",
        "fqdn",
        "alias",
    ]) && looks_like_name(bad)
        && looks_like_name(good)
    {
        return Some("the name of the machine");
    }
    const COUNTED: [&str; 6] = ["file-nr", "inode-nr", "inode-state", "dentry-state", "entropy_avail", "uptime"];
    if COUNTED.iter().any(|name| last.ends_with(name)) {
        return Some("what the system counts");
    }
    if has(&["pid", "comment", "description", "checksum", "md5", "sha1", "sha256", "hash", "signature"]) {
        return Some("not a setting");
    }
    let is_address = |value: &str| {
        value.split(['/', ':', ',']).next().is_some_and(|first| first.parse::<std::net::IpAddr>().is_ok())
            || value.parse::<std::net::IpAddr>().is_ok()
    };
    if is_address(bad)
        && is_address(good)
        && has(&["listen", "bind", "address", "addr", "ip", "own", "local", "self", "advertise", "source"])
    {
        return Some("the machine's own address");
    }
    let random = |value: &str| {
        value.len() >= 8
            && value.bytes().all(|byte| byte.is_ascii_hexdigit() || byte == b'-')
            && value.bytes().any(|byte| byte.is_ascii_digit())
            && value.bytes().any(|byte| byte.is_ascii_alphabetic())
    };
    if random(bad) && random(good) {
        return Some("a random id");
    }
    None
}

/// Whether two keys are one setting in two places or spellings: the same name in another section, or one or two letters apart.
fn is_twin(one: &str, other: &str) -> bool {
    let split = |key: &str| -> (String, String) {
        let (section, name) = key.rsplit_once('/').unwrap_or(("", key));
        (section.to_owned(), name.split(" (").next().unwrap_or(name).to_lowercase())
    };
    let ((section, name), (other_section, other_name)) = (split(one), split(other));
    if section != other_section {
        return name == other_name;
    }
    name.len() >= 5 && other_name.len() >= 5 && one != other && strsim::levenshtein(&name, &other_name) <= 2
}

fn looks_like_name(value: &str) -> bool {
    !value.is_empty()
        && value.len() <= 64
        && !value.contains('/')
        && value.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-._".contains(&byte))
}

/// What is shown of a secret.
const HIDDEN: &str = "(hidden)";

/// Secrets are compared and not shown.
fn shown(key: &str, value: &str) -> String {
    let lower = key.to_lowercase();
    let is_secret = ["password", "passwd", "secret", "token", "apikey", "api_key", "private", "credential", "pwd"]
        .iter()
        .any(|word| lower.contains(word));
    if is_secret {
        HIDDEN.into()
    } else if value.is_empty() {
        "(empty)".into()
    } else {
        value.to_owned()
    }
}

/// The differences of two files of settings.
pub(super) fn differences(bad: (&str, &str), good: (&str, &str), complaints: &str) -> Vec<Difference> {
    let (of_bad, of_good) = (entries(bad.0, bad.1).of, entries(good.0, good.1).of);
    let mut found = Vec::new();
    let place = |name: &str, line: u64| Some(Place { source: name.to_owned(), line });
    // Two files that share nothing are not versions of one.
    let shared = of_bad.keys().filter(|key| of_good.contains_key(*key)).count();
    if shared * 4 < of_bad.len().min(of_good.len()) {
        return found;
    }
    let mentioned = |key: &str, value: &str| {
        let last = key.rsplit('/').next().unwrap_or(key).split(" (").next().unwrap_or(key).to_lowercase();
        let says = |word: &str| word.len() >= 4 && complaints.contains(word);
        // `store.cache_size`, `STORE_CACHE_SIZE`: sections joined to the name.
        let joined = last.match_indices(['.', '_']).any(|(at, _)| says(&last[at + 1..]));
        says(&last)
            || joined
            || says(&last.replace(['_', '-'], " "))
            || (value.len() >= 3
                && !value.chars().all(|letter| letter.is_ascii_digit())
                && complaints.contains(&value.to_lowercase()))
    };
    let mut twins: Vec<&String> = Vec::new();
    for (key, (bad_value, bad_line)) in &of_bad {
        let Some((good_value, good_line)) = of_good.get(key) else {
            let points = mentioned(key, bad_value);
            // The same setting in another section, or written a little otherwise, is there and not read.
            let looked_for = if found.len() < MOST_TWINS { of_good.len() } else { 0 };
            let twin = of_good.iter().take(looked_for).find(|(other, (value, _))| {
                !of_bad.contains_key(*other) && plain(value) == plain(bad_value) && is_twin(key, other)
            });
            if let Some((other, (_, line))) = twin.filter(|_| is_harmless(key, bad_value, bad_value).is_none()) {
                twins.push(other);
                found.push(Difference {
                    kind: Kind::Value,
                    bad: place(bad.0, *bad_line),
                    good: place(good.0, *line),
                    what: format!("{key} is set, and {other} on the good side, to the same"),
                    why: "the same value under another name".into(),
                    score: if points { 0.95 } else { 0.8 },
                });
                continue;
            }
            // Set once more: where the last one counts, that is another value.
            let before = key.rsplit_once(" (").and_then(|(base, turn)| {
                let turn: usize = turn.trim_end_matches(')').parse().ok()?;
                let name = if turn > 2 { format!("{base} ({})", turn - 1) } else { base.to_owned() };
                of_good.get(&name).map(|(value, line)| (base, value, line))
            });
            if let Some((base, value, line)) = before.filter(|(_, value, _)| plain(value) != plain(bad_value)) {
                found.push(Difference {
                    kind: Kind::Value,
                    bad: place(bad.0, *bad_line),
                    good: place(good.0, *line),
                    what: format!(
                        "{base} is set once more, to {}, and was {}",
                        shown(key, bad_value),
                        shown(key, value)
                    ),
                    why: "only the bad side sets it again".into(),
                    score: if points { 0.95 } else { 0.78 },
                });
                continue;
            }
            if let Some(why) = is_harmless(key, bad_value, bad_value).filter(|_| !points) {
                found.push(Difference {
                    kind: Kind::OnlyBad,
                    bad: place(bad.0, *bad_line),
                    good: None,
                    what: format!("{key} = {} is set only on the bad side", shown(key, bad_value)),
                    why: format!("differs on any two machines: {why}"),
                    score: 0.1,
                });
                continue;
            }
            found.push(Difference {
                kind: Kind::OnlyBad,
                bad: place(bad.0, *bad_line),
                good: None,
                what: format!("{key} = {} is set only on the bad side", shown(key, bad_value)),
                why: if points {
                    "the bad side complains about it".into()
                } else {
                    "a setting that the good side does not have".into()
                },
                score: if points { 0.9 } else { 0.76 },
            });
            continue;
        };
        if plain(bad_value) == plain(good_value) {
            continue;
        }
        let harmless = is_harmless(key, bad_value, good_value);
        let points = mentioned(key, bad_value);
        let (why, score) = match harmless {
            Some(why) if !points => (format!("differs on any two machines: {why}"), 0.1),
            _ if points => ("the bad side complains about it".to_owned(), 0.95),
            // Of what is not shown nobody can see what it means.
            _ if shown(key, bad_value) == HIDDEN => ("the same setting has another value".to_owned(), 0.7),
            _ => ("the same setting has another value".to_owned(), 0.78),
        };
        found.push(Difference {
            kind: Kind::Value,
            bad: place(bad.0, *bad_line),
            good: place(good.0, *good_line),
            what: format!("{key} is {}, and was {}", shown(key, bad_value), shown(key, good_value)),
            why,
            score,
        });
    }
    for (key, (good_value, good_line)) in of_good.iter().filter(|(key, _)| !of_bad.contains_key(*key)) {
        if twins.contains(&key) {
            continue;
        }
        let points = mentioned(key, good_value);
        let harmless = is_harmless(key, good_value, good_value).filter(|_| !points);
        found.push(Difference {
            kind: Kind::OnlyGood,
            bad: None,
            good: place(good.0, *good_line),
            what: format!("{key} = {} is missing on the bad side", shown(key, good_value)),
            why: match harmless {
                Some(why) => format!("differs on any two machines: {why}"),
                None if points => "the bad side complains about it".into(),
                None => "a setting that the bad side does not have".into(),
            },
            score: if harmless.is_some() {
                0.1
            } else if points {
                0.9
            } else {
                0.7
            },
        });
    }
    found
}
