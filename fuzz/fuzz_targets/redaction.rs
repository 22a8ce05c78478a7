//! Redaction of any text: nothing panics, lines keep their number, and what was replaced is gone.
#![no_main]

use std::sync::LazyLock;

use boxclock_core::gather::redact::{Redactor, Rules};
use libfuzzer_sys::fuzz_target;

/// Making the rules ready takes longer than most inputs do.
static RULES: LazyLock<Rules> = LazyLock::new(Rules::shipped);

fuzz_target!(|data: &[u8]| {
    let text = String::from_utf8_lossy(data);
    let mut redactor = Redactor::new(&RULES.good, [7; 32]);
    redactor.learn(&text);
    redactor.spread();
    let out = redactor.text(&text, None);
    assert_eq!(out.matches('\n').count(), text.matches('\n').count());
    redactor.left_in(&out);
});
