//! Boxes: sealing, checking, unpacking, and what damage does.

use std::fs;
use std::io::Write;
use std::path::Path;

use super::*;

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
    assert!(pack(&options, &Work::default()).unwrap_err().to_string().contains("exists already"));
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
