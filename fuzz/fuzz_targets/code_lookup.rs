//! Any text as a code or as words of its meaning: an answer or a reason, and no panic. On its own, since it walks all codes.
#![no_main]

use boxclock_core::code::{NO_CATALOGUES, Platform, lookup};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let _ = lookup::look_up(text, Platform::Unknown, &NO_CATALOGUES);
    lookup::search(text, Platform::Windows, &NO_CATALOGUES);
});
