//! Containers written by the general tools (see `tests/data/README.md`), and what harm can be made of them.

use std::io::Write;

use proptest::prelude::*;

use super::*;

const A: &str = "2026-04-12 02:31:07 ERROR bridge: frame refused\n";
const B: &str = "2026-04-12 02:31:08 INFO bridge: retry 1\n";

fn data(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data/containers").join(name)
}

fn found(path: &Path) -> FileFound {
    let len_bytes = std::fs::metadata(path).unwrap().len();
    FileFound { path: path.to_path_buf(), name: "X".into(), modified: 5, len_bytes }
}

/// Members as name, text and time; what was left out as name and reason; trouble.
type Extracted = (Vec<(String, String, i64)>, Vec<(String, String)>, Vec<Trouble>);

fn extracted(path: &Path, passwords: &[&str]) -> Extracted {
    let start = std::fs::read(path).unwrap();
    let kind = Kind::of(&start[..start.len().min(START_BYTES)]).expect("a container");
    let folder = tempfile::tempdir().unwrap();
    let passwords: Vec<String> = passwords.iter().map(|password| (*password).to_owned()).collect();
    let contents = extract::extract(&found(path), kind, folder.path(), &passwords, &Work::default()).unwrap();
    let text = |number: usize| {
        String::from_utf8_lossy(&std::fs::read(folder.path().join(number.to_string())).unwrap()).into_owned()
    };
    let trouble = contents.members.iter().flat_map(|member| member.trouble.clone()).collect();
    let members = contents.members.iter().map(|member| (member.name.clone(), text(member.number), member.modified));
    (members.collect(), contents.left_out, trouble)
}

#[test]
fn compressed_streams_of_several_parts() {
    for name in ["two-members.gz", "one.xz", "two-frames.zst", "two-streams.bz2"] {
        let (members, left_out, trouble) = extracted(&data(name), &[]);
        let [(member, text, modified)] = members.as_slice() else { panic!("{name}: {members:?}") };
        assert_eq!((member.as_str(), text.as_str()), ("", format!("{A}{B}").as_str()), "{name}");
        let expected = if name == "two-members.gz" { 1_775_961_069 * SECOND } else { 5 };
        assert_eq!(*modified, expected, "{name}: gzip keeps the time of the file");
        assert!(left_out.is_empty() && trouble.is_empty(), "{name}");
    }
}

#[test]
fn archives_and_their_nesting() {
    let inner = |prefix: &str| {
        vec![
            (format!("{prefix}!logs/app.log"), B.to_owned()),
            (format!("{prefix}!logs/app.log.2.gz"), A.to_owned()),
            (format!("{prefix}!inner.tar.gz!logs/app.log"), B.to_owned()),
            (format!("{prefix}!inner.tar.gz!logs/app.log.2.gz"), A.to_owned()),
        ]
    };
    for (name, prefix) in [("bundle.zip", ""), ("deep.tar.xz", "!bundle.zip")] {
        let (members, left_out, _) = extracted(&data(name), &[]);
        let mut names: Vec<_> = members.iter().map(|(name, text, _)| (name.clone(), text.clone())).collect();
        names.sort();
        let mut expected = inner(prefix);
        expected.sort();
        assert_eq!(names, expected, "{name}");
        assert!(left_out.is_empty(), "{left_out:?}");
        assert!(
            members.iter().all(|(_, _, modified)| (*modified - 1_775_961_069 * SECOND).abs() <= SECOND),
            "{members:?}"
        );
    }
    for name in ["plain.tar", "d64.zip"] {
        let (members, left_out, _) = extracted(&data(name), &[]);
        assert_eq!((members.len(), left_out.len()), (1, 0), "{name}");
    }
}

#[test]
fn encrypted_members_are_asked_for() {
    for name in ["secret.zip", "aes.zip"] {
        let (members, left_out, _) = extracted(&data(name), &[]);
        assert!(members.is_empty());
        assert_eq!(left_out, [("!b.log".to_owned(), "encrypted: needs a password".to_owned())], "{name}");
        let (members, left_out, _) = extracted(&data(name), &["ebb", "flow"]);
        assert!(members.is_empty());
        assert_eq!(left_out, [("!b.log".to_owned(), "encrypted: none of the passwords opens it".to_owned())], "{name}");
        let (members, left_out, _) = extracted(&data(name), &["ebb", "tide"]);
        assert_eq!((members[0].1.as_str(), left_out.len()), (B, 0), "{name}");
    }
}

fn file(bytes: &[u8]) -> tempfile::NamedTempFile {
    let mut file = tempfile::NamedTempFile::new().unwrap();
    file.write_all(bytes).unwrap();
    file
}

#[test]
fn what_is_cut_off_is_read_as_far_as_it_goes() {
    let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    (0..20_000).for_each(|line| writeln!(encoder, "2026-04-12 02:31:07 line {line}").unwrap());
    let whole = encoder.finish().unwrap();
    let (members, _, trouble) = extracted(file(&whole[..whole.len() / 2]).path(), &[]);
    assert!(members[0].1.len() > 100_000, "half of it");
    assert!(trouble[0].lost && trouble[0].text.contains("damaged in its container after"), "{trouble:?}");
    let cut = std::fs::read(data("bundle.zip")).unwrap();
    let (members, left_out, _) = extracted(file(&cut[..cut.len() - 30]).path(), &[]);
    assert!(members.is_empty() && left_out[0].1.contains("is it complete?"), "{left_out:?}");
}

#[test]
fn a_bomb_is_stopped() {
    let gzip = || flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::best());
    let mut encoder = gzip();
    let zeros = vec![b'0'; 1 << 20];
    (0..400).for_each(|_| encoder.write_all(&zeros).unwrap());
    let mut outer = gzip();
    outer.write_all(&encoder.finish().unwrap()).unwrap();
    let (members, _, trouble) = extracted(file(&outer.finish().unwrap()).path(), &[]);
    assert!(members[0].1.len() as u64 > limits::UNPACK_FLOOR_BYTES / 2, "what came before the limit is kept");
    assert!(trouble[0].text.contains("bomb"), "{trouble:?}");
}

#[test]
fn nesting_has_an_end() {
    let mut bytes = A.as_bytes().to_vec();
    for _ in 0..limits::CONTAINER_DEPTH + 2 {
        let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        encoder.write_all(&bytes).unwrap();
        bytes = encoder.finish().unwrap();
    }
    let (members, left_out, _) = extracted(file(&bytes).path(), &[]);
    assert!(members.is_empty() && left_out[0].1.contains("inside more than"), "{left_out:?}");
}

#[test]
fn names_lead_nowhere() {
    let mut builder = tar::Builder::new(Vec::new());
    for name in ["../../up", "/etc/absolute", "a/../../b"] {
        let mut header = tar::Header::new_gnu();
        header.as_gnu_mut().unwrap().name[..name.len()].copy_from_slice(name.as_bytes());
        header.set_size(A.len() as u64);
        header.set_cksum();
        builder.append(&header, A.as_bytes()).unwrap();
    }
    let (members, _, _) = extracted(file(&builder.into_inner().unwrap()).path(), &[]);
    let names: Vec<_> = members.iter().map(|(name, ..)| name.as_str()).collect();
    // They are only names: the bytes lie under numbers in the cache.
    assert_eq!(names, ["!../../up", "!/etc/absolute", "!a/../../b"]);
}

#[test]
fn cancelling_stops() {
    let work = Work::default();
    work.cancel();
    let folder = tempfile::tempdir().unwrap();
    assert!(extract::extract(&found(&data("bundle.zip")), Kind::Zip, folder.path(), &[], &work).is_err());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    /// Any cut of, and any change in, a real container: an end, and no more than it can hold.
    #[test]
    fn damage(which in 0_usize..8, at in 0_usize..2000, byte in any::<u8>(), cut in any::<bool>()) {
        let name = ["two-members.gz", "one.xz", "two-frames.zst", "two-streams.bz2", "bundle.zip", "plain.tar", "secret.zip", "deep.tar.xz"][which];
        let mut bytes = std::fs::read(data(name)).unwrap();
        let at = at % bytes.len();
        if cut { bytes.truncate(at) } else { bytes[at] = byte }
        if Kind::of(&bytes[..bytes.len().min(START_BYTES)]).is_some() {
            extracted(file(&bytes).path(), &["tide"]);
        }
    }
}
