//! Any bytes behind the magic of a system dump of 64 or 32 bits.
#![no_main]

mod dump;

use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let Some((which, rest)) = data.split_first() else { return };
    let magic: &[u8] = if which % 2 == 0 { b"PAGEDU64" } else { b"PAGEDUMP" };
    dump::examine(magic, rest);
});
