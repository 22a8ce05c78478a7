//! Any bytes as a container: members come out, or a reason does; nothing is written outside of the cache.
#![no_main]

use boxclock_core::case::FileFound;
use boxclock_core::container::{self, Kind, START_BYTES};
use boxclock_core::work::Work;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let Some(kind) = Kind::of(&data[..data.len().min(START_BYTES)]) else { return };
    let mut file = tempfile::NamedTempFile::new().expect("a temporary file");
    std::io::Write::write_all(&mut file, data).expect("a temporary file");
    let found = FileFound {
        path: file.path().to_path_buf(),
        name: "x".into(),
        modified: 0,
        len_bytes: data.len() as u64,
    };
    let folder = tempfile::tempdir().expect("a temporary folder");
    let opened = container::extract_into(&found, kind, folder.path(), &["tide".to_owned()], &Work::default());
    let opened = opened.expect("the folder can be written");
    assert!(opened.members.iter().all(|member| member.file.path.starts_with(folder.path())));
});
