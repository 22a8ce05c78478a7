//! What hosts say and what users write for gathering and reading: facts, recipes, checks, rules of redaction, lenses, filters that are
//! being typed, patterns. Each gives something or a named mistake.
#![no_main]

use boxclock_core::facts::{Checks, parse_live};
use boxclock_core::gather::PackRequest;
use boxclock_core::gather::recipe::Recipe;
use boxclock_core::gather::redact::Rules;
use boxclock_core::pattern::{PatternId, template};
use boxclock_core::query::Lens;
use boxclock_core::query::values::{Values, completions, pieces, quoted};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let pattern = PatternId::of(data);
    let Ok(text) = std::str::from_utf8(data) else { return };
    parse_live(text, 0).to_json();
    // Each may refuse; none may panic.
    let _ = Recipe::parse(text);
    Checks::default().add("x", text);
    Rules::default().add("x", text);
    let _ = Lens::parse(text, &boxclock_core::code::NO_CATALOGUES);
    assert_eq!(PatternId::of(text.as_bytes()), pattern);
    template(text);
    for range in pieces(text) {
        assert!(text.get(range).is_some_and(|piece| !piece.is_empty()));
    }
    for at in [0, text.len() / 2, text.len()] {
        for one in completions(text, at, &Values::default()) {
            assert!(one.from <= text.len());
        }
    }
    assert!(!quoted(text).is_empty());
    let request = PackRequest { hosts: text.into(), moment: text.into(), into: "x".into(), ..PackRequest::default() };
    let _ = request.options(Default::default(), &boxclock_core::clock::Zone::utc(), 0);
});
