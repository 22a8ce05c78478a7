//! Any bytes behind the magic of a core: 64 bits or 32 bits the other way round.
#![no_main]

mod dump;

use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let Some((which, rest)) = data.split_first() else { return };
    let magic: &[u8] = if which % 2 == 0 { b"\x7FELF\x02\x01\x01\0\0\0\0\0\0\0\0\0\x04\0" } else { b"\x7FELF\x01\x02\x01\0\0\0\0\0\0\0\0\0\0\x04" };
    dump::examine(magic, rest);
});
