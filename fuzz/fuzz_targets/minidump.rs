//! Any bytes behind the magic of a minidump.
#![no_main]

mod dump;

use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| dump::examine(b"MDMP\x93\xA7\0\0", data));
