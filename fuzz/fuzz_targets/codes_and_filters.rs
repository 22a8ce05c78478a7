//! Any text for codes, catalogues of codes and filters: places inside the text, mistakes with their place, and no panic.
#![no_main]

use boxclock_core::clock::{Zone, human};
use boxclock_core::code::user::Catalogues;
use boxclock_core::code::{NO_CATALOGUES, Platform, rank, scan};
use boxclock_core::query::Filter;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    for platform in [Platform::Linux, Platform::Windows, Platform::Unknown] {
        scan(data, platform, &NO_CATALOGUES, |found| {
            assert!(found.start < found.end && found.end <= data.len());
            rank::candidates(found.code, &rank::Clues::default(), &NO_CATALOGUES);
        });
    }
    let Ok(text) = std::str::from_utf8(data) else { return };
    let zone = Zone::utc();
    if let Err(error) = Filter::parse(text, &zone) {
        assert!(error.at <= text.len());
        error.marked(text);
    }
    // Each may refuse; none may panic.
    let _ = Filter::find(text);
    let _ = human::time(text, &zone);
    let _ = human::duration(text);
    for name in ["own.toml", "own.csv"] {
        let catalogues = Catalogues::read(&[(name.to_owned(), data.to_vec())]);
        assert!(catalogues.mistakes.iter().all(|mistake| mistake.line > 0 && mistake.column > 0));
        catalogues.shaped(data);
    }
});
