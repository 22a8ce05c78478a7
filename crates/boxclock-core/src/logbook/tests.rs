//! What a logbook keeps, and what becomes of older and damaged ones.

use super::*;

#[test]
fn survives_closing() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("deep/case.logbook");
    {
        let book = Logbook::open(&path).unwrap();
        book.set_story("title", "alarms stopped").unwrap();
        book.set_pin("hosts/a/x.log", 100, "first").unwrap();
        book.set_pin("hosts/a/x.log", 100, "the first refusal").unwrap();
        book.set_pin("hosts/b/y.log", u64::MAX, "odd").unwrap();
        book.set_drift("dose-gw", (-401_000_000_000).into()).unwrap();
        let pin = book.pins().unwrap()[0].id;
        book.set_chain(&[ChainLink { pin, kind: Link::Root, reason: "changed then".into() }]).unwrap();
    }
    let book = Logbook::open(&path).unwrap();
    let base = Story { impact: "fish".into(), ..Story::default() };
    let story = book.story(&base).unwrap();
    assert_eq!((story.title.as_str(), story.impact.as_str()), ("alarms stopped", "fish"));
    let pins = book.pins().unwrap();
    assert_eq!(pins.len(), 2);
    assert_eq!((pins[0].note.as_str(), pins[1].offset), ("the first refusal", u64::MAX));
    assert_eq!(book.drift().unwrap()["dose-gw"], ClockCorrection::from(-401_000_000_000));
    assert_eq!(book.chain().unwrap()[0].kind, Link::Root);
}

#[test]
fn a_logbook_of_an_older_version_is_brought_up_to_date() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("case.logbook");
    let old = Connection::open(&path).unwrap();
    let tables =
        "CREATE TABLE pin (id INTEGER PRIMARY KEY AUTOINCREMENT, source TEXT NOT NULL, offset INTEGER NOT NULL,
        note TEXT NOT NULL, UNIQUE (source, offset));
        INSERT INTO pin (source, offset, note) VALUES ('x', 7, 'kept'); PRAGMA user_version = 2;";
    old.execute_batch(tables).unwrap();
    drop(old);
    let book = Logbook::open(&path).unwrap();
    let pin = book.pins().unwrap().remove(0);
    assert_eq!((pin.note.as_str(), pin.kind, pin.colour), ("kept", PinKind::Evidence, None));
    book.set_pin_kind(pin.id, PinKind::RuledOut, Some(3)).unwrap();
    book.set_pin("x", 7, "changed").unwrap();
    let pin = book.pins().unwrap().remove(0);
    assert_eq!((pin.note.as_str(), pin.kind, pin.colour), ("changed", PinKind::RuledOut, Some(3)));
}

#[test]
fn what_cannot_be_brought_up_to_date_stays_as_it_was() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("case.logbook");
    let old = Connection::open(&path).unwrap();
    // The second step fails: there is no table of pins.
    let tables = "CREATE TABLE drift (host TEXT PRIMARY KEY, ns INTEGER NOT NULL);
        INSERT INTO drift VALUES ('dose-gw', -7); PRAGMA user_version = 1;";
    old.execute_batch(tables).unwrap();
    let error = Logbook::open(&path).map(|_| ()).unwrap_err().to_string();
    assert!(error.contains("case.logbook"), "{error}");
    let columns: i64 = old.query_row("SELECT count(*) FROM pragma_table_info('drift')", [], |row| row.get(0)).unwrap();
    let version: i64 = old.query_row("PRAGMA user_version", [], |row| row.get(0)).unwrap();
    assert_eq!((columns, version), (2, 1));
}

#[test]
fn inks_and_lenses_are_kept() {
    let book = Logbook::in_memory().unwrap();
    book.set_ink(2, "refused").unwrap();
    book.set_ink(0, "/lease .* lost/").unwrap();
    assert_eq!(book.inks().unwrap(), [(0, "/lease .* lost/".to_owned()), (2, "refused".to_owned())]);
    book.set_ink(2, "").unwrap();
    assert_eq!(book.inks().unwrap().len(), 1);
    book.set_lens("night", "level>=warn").unwrap();
    assert_eq!(book.lenses().unwrap()[0].filter, "level>=warn");
    book.set_lens("night", "").unwrap();
    assert!(book.lenses().unwrap().is_empty());
}

#[test]
fn removing_a_pin_removes_its_link() {
    let book = Logbook::in_memory().unwrap();
    book.set_pin("x", 1, "").unwrap();
    let pin = book.pins().unwrap()[0].id;
    book.set_chain(&[ChainLink { pin, kind: Link::Step, reason: String::new() }]).unwrap();
    book.remove_pin(pin).unwrap();
    assert!(book.chain().unwrap().is_empty());
}

#[test]
fn no_correction_is_no_row() {
    let book = Logbook::in_memory().unwrap();
    book.set_drift("a", ClockCorrection { add_ns: 5, rate_ppb: 7, since: 9 }).unwrap();
    book.set_drift("a", ClockCorrection::default()).unwrap();
    assert!(book.drift().unwrap().is_empty());
}

#[test]
fn a_damaged_logbook_is_named() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("case.logbook");
    std::fs::write(&path, "this is no database, but long enough to look at".repeat(40)).unwrap();
    let Err(error) = Logbook::open(&path) else { panic!("opened") };
    assert!(error.to_string().contains("case.logbook"), "{error}");
}
