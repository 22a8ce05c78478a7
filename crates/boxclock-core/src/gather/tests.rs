//! Boxes: sealing, checking, unpacking, and what damage does.

use std::fs;
use std::io::Write;
use std::path::Path;

use super::*;
use crate::source::Class;

fn hosts(folder: &Path) -> PathBuf {
    let root = folder.join("gw");
    fs::create_dir_all(root.join("var/log")).unwrap();
    fs::write(root.join("var/log/messages"), "Apr 12 02:31:07 gw a: x\n".repeat(1000)).unwrap();
    fs::write(root.join("var/log/empty"), "").unwrap();
    root
}

fn pack_into(folder: &Path) -> (PathBuf, Packed) {
    let into = folder.join("x.box.zip");
    let options =
        PackOptions { hosts: vec![("gw".into(), hosts(folder))], into: into.clone(), ..PackOptions::default() };
    let packed = pack(&options, &Work::default()).unwrap();
    (into, packed)
}

/// Writes the box again, each member passed through `change`: `None` drops it.
fn rewrite(path: &Path, change: impl Fn(&str, Vec<u8>) -> Option<Vec<u8>>, extra: &[(&str, &str)]) {
    let mut archive = open_zip(path).unwrap();
    let mut out = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    let options = zip::write::SimpleFileOptions::default();
    for index in 0..archive.len() {
        let mut member = archive.by_index(index).unwrap();
        let name = member.name().unwrap().into_owned();
        let mut bytes = Vec::new();
        member.read_to_end(&mut bytes).unwrap();
        if let Some(bytes) = change(&name, bytes) {
            out.start_file(name, options).unwrap();
            out.write_all(&bytes).unwrap();
        }
    }
    for (name, text) in extra {
        out.start_file(*name, options).unwrap();
        out.write_all(text.as_bytes()).unwrap();
    }
    fs::write(path, out.finish().unwrap().into_inner()).unwrap();
}

#[test]
fn a_folder_that_no_recipe_fits_is_taken_whole_and_no_box_is_empty() {
    let root = tempfile::tempdir().unwrap();
    let logs = root.path().join("logs");
    std::fs::create_dir(&logs).unwrap();
    let options = PackOptions {
        hosts: vec![("gw".into(), logs.clone())],
        recipes: vec!["auto".into()],
        known: recipe::Recipes::shipped(),
        into: root.path().join("x.box.zip"),
        ..PackOptions::default()
    };
    let nothing = plan(&options, &Work::default()).unwrap();
    assert!(nothing.files.is_empty());
    let error = pack(&options, &Work::default()).unwrap_err().to_string();
    assert!(error.starts_with("nothing to pack, so no box was written"), "{error}");
    assert!(!options.into.exists());
    std::fs::write(logs.join("app.out"), "2026-04-12T02:31:07Z x\n").unwrap();
    let plan = plan(&options, &Work::default()).unwrap();
    assert_eq!(plan.files.len(), 1);
}

#[test]
fn a_host_that_takes_too_long_leaves_the_others() {
    let root = tempfile::tempdir().unwrap();
    for name in ["slow", "quick"] {
        std::fs::create_dir(root.path().join(name)).unwrap();
        std::fs::write(root.path().join(name).join("x.log"), "2026-04-12T02:31:07Z x\n").unwrap();
    }
    let host = |name: &str| (name.to_owned(), root.path().join(name));
    let options = PackOptions {
        hosts: vec![host("slow"), host("quick")],
        into: root.path().join("x.box.zip"),
        ..PackOptions::default()
    };
    let plan = plan(&options, &Work::default()).unwrap();
    options.watch.stop("slow");
    let packed = super::pack::seal_plan(&plan, &options, &Work::default()).unwrap();
    assert_eq!(packed.seal.files.iter().map(|file| file.host.as_str()).collect::<Vec<_>>(), ["quick"]);
    assert_eq!(packed.seal.unreadable[0].reason, "stopped by hand");
    let stages: Vec<String> = options.watch.hosts().iter().map(|host| host.stage.words().to_owned()).collect();
    assert_eq!(stages, ["stopped by hand", "done"]);
}

#[test]
fn a_sealed_box_holds() {
    let folder = tempfile::tempdir().unwrap();
    let (path, packed) = pack_into(folder.path());
    let names: Vec<&str> = packed.seal.files.iter().map(|file| file.path.as_str()).collect();
    assert_eq!(names, ["hosts/gw/var/log/empty", "hosts/gw/var/log/messages"]);
    // The SHA-256 of nothing, from FIPS 180-4's usual test vectors.
    assert_eq!(packed.seal.files[0].sha256, "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855");
    let verdict = check(&path, &Work::default()).unwrap();
    assert!(verdict.findings.is_empty(), "{:?}", verdict.findings);
    assert_eq!(verdict.seal, packed.seal);
    let left: Vec<_> = fs::read_dir(folder.path()).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    assert_eq!(left.len(), 2, "no temporary file is left: {left:?}");
}

#[test]
fn every_difference_is_named() {
    let folder = tempfile::tempdir().unwrap();
    let (path, _) = pack_into(folder.path());
    let change = |name: &str, mut bytes: Vec<u8>| match name {
        "hosts/gw/var/log/empty" => None,
        "hosts/gw/var/log/messages" => {
            bytes[0] ^= 1;
            Some(bytes)
        }
        _ => Some(bytes),
    };
    rewrite(&path, change, &[("../escape", "x"), ("hosts/gw/new", "y")]);
    let found: Vec<(&str, String)> =
        check(&path, &Work::default()).unwrap().findings.into_iter().map(|f| (f.kind, f.path)).collect();
    assert_eq!(
        found,
        [
            ("missing", "hosts/gw/var/log/empty".to_owned()),
            ("changed", "hosts/gw/var/log/messages".to_owned()),
            ("extra", "../escape".to_owned()),
            ("extra", "hosts/gw/new".to_owned()),
        ]
    );
}

#[test]
fn a_cut_box_is_no_box() {
    let folder = tempfile::tempdir().unwrap();
    let (path, _) = pack_into(folder.path());
    let bytes = fs::read(&path).unwrap();
    for length in [0, 3, 30, bytes.len() / 2, bytes.len() - 1] {
        fs::write(&path, &bytes[..length]).unwrap();
        let error = is_box(&path).map(|_| ()).and_then(|()| check(&path, &Work::default()).map(|_| ())).unwrap_err();
        assert!(error.to_string().contains("x.box.zip"), "{length}: {error}");
    }
}

#[test]
fn an_existing_box_is_never_overwritten() {
    let folder = tempfile::tempdir().unwrap();
    let (path, _) = pack_into(folder.path());
    let before = fs::read(&path).unwrap();
    let options = PackOptions { paths: vec![folder.path().join("gw")], into: path.clone(), ..PackOptions::default() };
    assert!(pack(&options, &Work::default()).unwrap_err().to_string().contains("A sealed box is never changed"));
    assert_eq!(fs::read(&path).unwrap(), before);
}

#[test]
fn cancelled_packing_leaves_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let work = Work::default();
    work.cancel();
    let into = folder.path().join("x.box.zip");
    let options = PackOptions { hosts: vec![("gw".into(), hosts(folder.path()))], into, ..PackOptions::default() };
    assert!(pack(&options, &work).is_err());
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1);
}

#[test]
fn links_out_of_the_folder_are_not_followed() {
    let folder = tempfile::tempdir().unwrap();
    let root = hosts(folder.path());
    let secret = folder.path().join("secret");
    fs::write(&secret, "not for the box").unwrap();
    std::os::unix::fs::symlink(&secret, root.join("link")).unwrap();
    std::os::unix::fs::symlink("/nowhere/at/all", root.join("dangling")).unwrap();
    let options = PackOptions {
        hosts: vec![("gw".into(), root)],
        into: folder.path().join("y.box.zip"),
        ..PackOptions::default()
    };
    let seal = pack(&options, &Work::default()).unwrap().seal;
    assert_eq!(seal.files.len(), 2);
    let reasons: Vec<&str> = seal.unreadable.iter().map(|left| left.reason.as_str()).collect();
    assert!(reasons.iter().any(|reason| reason.contains("a link out of the folder")), "{reasons:?}");
    assert!(reasons.contains(&"a link to nothing"), "{reasons:?}");
}

#[test]
fn unsafe_names_never_leave_the_box() {
    for name in ["../x", "hosts/../../x", "/etc/passwd", "hosts//x", "hosts/./x", "box.json", "", "hosts/a\0b"] {
        assert_eq!(safe_path(name), None, "{name:?}");
    }
    assert_eq!(safe_path("hosts/a/b").unwrap(), Path::new("hosts/a/b"));
}

#[test]
fn a_member_that_lies_about_its_size() {
    // 4 MiB of zeros pack to 4 KiB; a seal that claims a terabyte for them is not believed.
    let folder = tempfile::tempdir().unwrap();
    let (path, mut packed) = pack_into(folder.path());
    packed.seal.files[1].size = 1 << 41; // beyond limits::UNPACKED_BYTES
    let seal = serde_json::to_vec(&packed.seal).unwrap();
    rewrite(&path, |name, bytes| Some(if name == SEAL_NAME { seal.clone() } else { bytes }), &[]);
    let mut archive = open_zip(&path).unwrap();
    let (seal, _) = read_seal(&mut archive, &path).unwrap();
    assert_eq!(seal.files[1].size, 1 << 41);
    let verdict = check(&path, &Work::default()).unwrap();
    assert_eq!(verdict.findings[0].kind, "changed");
}

/// Gathers one folder as host `gw` by recipes, cut to a window.
fn gather(root: &Path, recipes: &[&str], window: Option<Window>) -> (tempfile::TempDir, Packed, PathBuf) {
    let folder = tempfile::tempdir().unwrap();
    let into = folder.path().join("x.box.zip");
    let options = PackOptions {
        hosts: vec![("gw".into(), root.to_path_buf())],
        into: into.clone(),
        recipes: recipes.iter().map(|name| (*name).to_owned()).collect(),
        known: recipe::Recipes::shipped(),
        window,
        now: 1_775_973_600_000_000_000,
        ..PackOptions::default()
    };
    let packed = pack(&options, &Work::default()).unwrap();
    (folder, packed, into)
}

fn member(path: &Path, name: &str) -> Vec<u8> {
    let mut archive = open_zip(path).unwrap();
    let mut bytes = Vec::new();
    archive.by_name(name).unwrap().read_to_end(&mut bytes).unwrap();
    bytes
}

fn write(root: &Path, name: &str, bytes: impl AsRef<[u8]>) {
    let path = root.join(name);
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    fs::write(path, bytes).unwrap();
}

/// A window on 2026-04-12, from minutes of 02:xx UTC.
fn minutes(from: u32, to: u32) -> Window {
    let ns = |minute: u32| time_of(&format!("2026-04-12T02:{minute:02}:00Z")).unwrap();
    Window { from: ns(from), to: ns(to) }
}

/// A line for each minute of the hour, two lines each.
fn hour(line: impl Fn(u32) -> String) -> String {
    (0..60).map(line).collect()
}

#[test]
fn logs_are_cut_at_records() {
    let root = tempfile::tempdir().unwrap();
    let plain = hour(|minute| format!("2026-04-12T02:{minute:02}:00Z warn pump slow\n  at valve {minute}\n"));
    write(root.path(), "var/log/pump.log", &plain);
    let csv = hour(|minute| format!("2026-04-12 02:{minute:02}:00,error,level {minute}\n"));
    write(root.path(), "var/log/levels.csv", format!("time,level,message\n{csv}"));
    let wide: Vec<u8> = [0xFEFF].into_iter().chain(plain.encode_utf16()).flat_map(u16::to_le_bytes).collect();
    write(root.path(), "var/log/wide.log", wide);
    let web = hour(|minute| format!("2026-04-12 02:{minute:02}:00 GET /tank 200\n"));
    let head = "#Version: 1.0\n#Fields: date time cs-method cs-uri-stem sc-status\n";
    write(root.path(), "var/log/web.log", format!("{head}{web}"));
    let (_folder, packed, into) = gather(root.path(), &["linux-root"], Some(minutes(10, 14)));
    assert_eq!(packed.seal.unreadable, []);
    let text = |name: &str| String::from_utf8(member(&into, &format!("hosts/gw/var/log/{name}"))).unwrap();
    assert_eq!(text("pump.log"), plain.split_inclusive('\n').skip(20).take(10).collect::<String>());
    let rows: Vec<String> = text("levels.csv").lines().map(str::to_owned).collect();
    assert_eq!((rows.len(), rows[0].as_str()), (6, "time,level,message"));
    assert_eq!(
        (rows[1].as_str(), rows[5].as_str()),
        ("2026-04-12 02:10:00,error,level 10", "2026-04-12 02:14:00,error,level 14")
    );
    assert_eq!(text("web.log"), format!("{head}{}", web.split_inclusive('\n').skip(10).take(5).collect::<String>()));
    let wide = member(&into, "hosts/gw/var/log/wide.log");
    assert_eq!(&wide[..4], [0xFF, 0xFE, b'2', 0], "the byte-order mark is kept");
    let sealed = packed.seal.files.iter().find(|file| file.path.ends_with("pump.log")).unwrap();
    let cut = sealed.cut.clone().unwrap();
    assert_eq!(cut.original_size, plain.len() as u64);
    assert_eq!(cut.original_sha256, hex(&Sha256::digest(plain.as_bytes())));
    assert_eq!(&plain[cut.from_byte as usize..cut.to_byte as usize], text("pump.log"));
    assert_eq!(cut.first.as_deref(), Some("2026-04-12T02:10:00.000000000Z"));
    assert_eq!(cut.last.as_deref(), Some("2026-04-12T02:14:00.000000000Z"));
    // The cut is read like the original.
    let case = crate::case::Case::open(&[into], crate::case::Options::default(), &Work::default()).unwrap();
    let loaded = case.load(&Work::default()).unwrap();
    let counts: Vec<u64> = loaded.reports.iter().map(|report| report.events).collect();
    assert_eq!(counts, [5, 5, 5, 5]);
}

#[test]
fn rotated_generations_and_whole_files() {
    use flate2::{Compression, write::GzEncoder};
    let root = tempfile::tempdir().unwrap();
    let lines = |from: u32, to: u32| -> String {
        (from..to).map(|m| format!("2026-04-12T02:{m:02}:00Z gw feeder[7]: minute {m}\n")).collect::<Vec<_>>().concat()
    };
    let mut packed = GzEncoder::new(Vec::new(), Compression::default());
    packed.write_all(lines(0, 20).as_bytes()).unwrap();
    write(root.path(), "var/log/syslog.2.gz", packed.finish().unwrap());
    write(root.path(), "var/log/syslog.1", lines(20, 40));
    write(root.path(), "var/log/syslog", lines(40, 60));
    write(root.path(), "etc/os-release", "ID=saltmere\n");
    // A dump is taken by its own time: this one was made long after.
    fs::create_dir_all(root.path().join("var/lib/feeder")).unwrap();
    let core = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data/feeder.core");
    fs::copy(core, root.path().join("var/lib/feeder/core.77")).unwrap();
    let (_folder, packed, into) = gather(root.path(), &["auto"], Some(minutes(15, 24)));
    assert_eq!(packed.seal.unreadable, []);
    assert_eq!(packed.seal.recipes, ["linux-root"]);
    let names: Vec<&str> = packed.seal.files.iter().map(|file| file.path.as_str()).collect();
    assert_eq!(names, ["hosts/gw/etc/os-release", "hosts/gw/var/log/syslog.1", "hosts/gw/var/log/syslog.2.gz"]);
    let outside: Vec<&str> = packed.seal.outside.iter().map(|left| left.reason.as_str()).collect();
    assert!(outside[0].ends_with("outside the window"), "the dump: {outside:?}");
    assert_eq!(outside[1..], ["2026-04-12T02:40:00.000000000Z to 2026-04-12T02:59:00.000000000Z, outside the window"]);
    // What was cut from a compressed file is text.
    let text = String::from_utf8(member(&into, "hosts/gw/var/log/syslog.2.gz")).unwrap();
    assert_eq!(text, lines(15, 20));
    assert_eq!(String::from_utf8(member(&into, "hosts/gw/var/log/syslog.1")).unwrap(), lines(20, 25));
}

#[test]
fn an_archive_of_others_is_gathered_by_recipes() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("sent.zip");
    let mut zip = zip::ZipWriter::new(fs::File::create(&path).unwrap());
    for name in [
        "case 12/C/WINDOWS/system32/winevt/logs/App.evtx",
        "case 12/C/Windows/Temp/MSI12.LOG",
        "case 12/C/Users/a/Desktop/x.docx",
    ] {
        zip.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
        zip.write_all(b"text\n").unwrap();
    }
    zip.finish().unwrap();
    let (_folder, packed, _) = gather(&path, &["auto"], None);
    let taken: Vec<(&str, Option<Class>)> =
        packed.seal.files.iter().map(|file| (file.path.as_str(), file.class)).collect();
    assert_eq!(
        taken,
        [
            ("hosts/gw/WINDOWS/system32/winevt/logs/App.evtx", Some(Class::System)),
            ("hosts/gw/Windows/Temp/MSI12.LOG", Some(Class::Installer)),
        ]
    );
}

#[test]
fn what_cannot_be_taken_is_named() {
    let root = tempfile::tempdir().unwrap();
    write(root.path(), "var/log/syslog", "Apr 12 02:31:07 gw a: x\n");
    write(root.path(), "etc/os-release", "ID=x\n");
    write(root.path(), "var/log/line\nfeed.log", "2026-04-12T02:31:07Z x\n");
    std::os::unix::fs::symlink("/etc/passwd", root.path().join("var/log/leak.log")).unwrap();
    std::os::unix::fs::symlink("nothing", root.path().join("var/log/gone.log")).unwrap();
    rustix::fs::mknodat(rustix::fs::CWD, root.path().join("var/log/pipe"), rustix::fs::FileType::Fifo, 0o600.into(), 0)
        .unwrap();
    let sparse = fs::File::create(root.path().join("var/log/sparse.log")).unwrap();
    sparse.set_len(5000 << 20).unwrap();
    let (_folder, packed, into) = gather(root.path(), &["linux-root"], None);
    let named: Vec<(String, &str)> = packed
        .seal
        .unreadable
        .iter()
        .map(|left| (left.origin.rsplit('/').next().unwrap().to_owned(), left.reason.as_str()))
        .collect();
    let expected = [
        ("gone.log", "a link to nothing"),
        ("leak.log", "a link out of the folder, to /etc/passwd"),
        ("pipe", "a FIFO, not a file"),
        ("sparse.log", "5000 MiB: larger than the 4096 that are taken"),
    ];
    let mut named: Vec<(&str, &str)> = named.iter().map(|(name, reason)| (name.as_str(), *reason)).collect();
    named.sort_unstable();
    assert_eq!(named, expected);
    assert_eq!(packed.seal.files.len(), 3);
    assert!(check(&into, &Work::default()).unwrap().findings.is_empty());
}

#[test]
fn a_plan_lists_commands_only_for_what_runs() {
    let root = tempfile::tempdir().unwrap();
    write(root.path(), "proc/version", "x");
    write(root.path(), "var/log/syslog", "x");
    let options = PackOptions {
        hosts: vec![("gw".into(), root.path().to_path_buf())],
        recipes: vec!["auto".into()],
        known: recipe::Recipes::shipped(),
        ..PackOptions::default()
    };
    let plan_of = |options: &PackOptions| plan(options, &Work::default()).unwrap();
    assert!(plan_of(&options).commands.is_empty(), "a folder does not run");
    assert_eq!(plan_of(&options).recipes, ["linux-root"]);
    let live = PackOptions { hosts: vec![("here".into(), "/".into())], window: Some(minutes(1, 2)), ..options.clone() };
    let commands = plan_of(&live).commands;
    let journal = commands.iter().find(|planned| planned.command.name == "journal.export").unwrap();
    assert_eq!(journal.member, "hosts/here/commands/journal.export");
    assert_eq!(
        journal.command.run[3..],
        ["--since=2026-04-12 02:01:00 UTC".to_owned(), "--until=2026-04-12 02:02:00 UTC".to_owned()]
    );
    let unknown = PackOptions { recipes: vec!["linx".into()], ..options };
    assert!(plan(&unknown, &Work::default()).unwrap_err().to_string().contains("linux-root"));
}
