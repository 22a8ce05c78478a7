//! A box of any bytes: checking and opening it gives an answer, and unpacks nothing outside its folder.
#![no_main]

use boxclock_core::gather;
use boxclock_core::work::Work;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let Ok(folder) = tempfile::tempdir() else { return };
    let path = folder.path().join("x.box.zip");
    if std::fs::write(&path, data).is_ok() {
        let _ = gather::check(&path, &Work::default());
        let _ = gather::is_box(&path);
    }
});
