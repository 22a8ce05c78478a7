//! Catalogues of users: what is taken, what is said of mistakes, and whose they are.

use proptest::prelude::*;

use super::*;
use crate::case::{Case, Loaded, Options};
use crate::code::Outcome;
use crate::event::Row;
use crate::query::Filter;
use crate::work::Work;

fn toml(text: &str) -> Catalogues {
    Catalogues::read(&[("own.toml".to_owned(), text.as_bytes().to_vec())])
}

fn mistakes(catalogues: &Catalogues) -> Vec<String> {
    catalogues.mistakes.iter().map(ToString::to_string).collect()
}

#[test]
fn patterns_numbers_and_whole_codes() {
    let own = toml(
        "[[code]]\npattern = \"TW-#####\"\nmeaning = \"Of Tankwarden.\"\n\
         [[code]]\npattern = \"TW-00417\"\nmeaning = \"Frame refused.\"\nlevel = \"restart\"\n\
         [[code]]\nnumber = 1042\nmeaning = \"No lease.\"\n",
    );
    assert_eq!(mistakes(&own), [] as [&str; 0]);
    let (code, end) = own.shaped(b"TW-00417: refused").unwrap();
    assert_eq!((own.entry(code).unwrap().meaning, end), ("Frame refused.", 8));
    assert_eq!(own.entry(code).unwrap().outcome, Some(Outcome::Restart));
    assert_eq!(own.written(code.number), "TW-00417");
    let (other, _) = own.shaped(b"TW-00009").unwrap();
    assert_eq!(own.entry(other).unwrap().meaning, "Of Tankwarden.");
    assert_eq!(own.written(other.number), "TW-00009");
    for no_code in ["TW-0041", "TW-004170", "TW-00417x", "XTW-00417", "TW00417", "TW-"] {
        assert_eq!(own.shaped(no_code.as_bytes()), None, "{no_code}");
    }
    assert_eq!(own.entry(Code { family: Family::User, number: 1042 }).unwrap().meaning, "No lease.");
}

#[test]
fn a_whole_code_alone_is_no_pattern() {
    let own = toml("[[code]]\npattern = \"TW-00417\"\nmeaning = \"Frame refused.\"\n");
    assert!(own.shaped(b"TW-00417").is_some());
    assert_eq!(own.shaped(b"TW-00418"), None);
}

#[test]
fn what_a_row_does_not_say_it_takes_from_the_one_it_is_like() {
    let own = toml(
        "[[code]]\nnumber = 5\nmeaning = \"Bridge locked.\"\nlike = \"win32 5\"\n\
         [[code]]\nnumber = 6\nlike = \"5\"\n",
    );
    assert_eq!(mistakes(&own), [] as [&str; 0]);
    for number in [5, 6] {
        let row = own.entry(Code { family: Family::User, number }).unwrap();
        assert_eq!(row.meaning, "Bridge locked.");
        assert!(row.causes.starts_with("Missing rights"), "{row:?}");
    }
}

#[test]
fn mistakes_are_named_with_line_and_column() {
    for (text, expected) in [
        (
            "[[code]]\nnumber = 1\nmeaning = \"a\"\nlevel = \"bad\"\n",
            "own.toml, line 4, column 9: \"bad\" is not a level",
        ),
        ("[[code]]\nnumber = 1\nmening = \"a\"\n", "own.toml, line 3, column 1: unknown field"),
        ("[[code]]\nmeaning = \"a\"\n", "own.toml, line 1, column 1: a row needs a number"),
        ("[[code]]\nnumber = 1\n", "own.toml, line 1, column 1: a row needs a meaning"),
        (
            "[[code]]\nnumber = 1\nfamily = \"winn\"\nmeaning = \"a\"\n",
            "own.toml, line 3, column 10: \"winn\" is not a family",
        ),
        (
            "[[code]]\npattern = \"tw-#\"\nmeaning = \"a\"\n",
            "own.toml, line 2, column 11: \"tw-#\": before the hyphen there are",
        ),
        ("[[code]]\npattern = \"TW-12345678\"\nmeaning = \"a\"\n", "after the hyphen there are 1 to 7 digits"),
        (
            "[[code]]\nnumber = 99999999999\nmeaning = \"a\"\n",
            "own.toml, line 2, column 10: \"99999999999\" is not a number",
        ),
        ("[[code]]\nnumber = 99999999\nmeaning = \"a\"\n", ""),
        (
            "[[code]]\nnumber = 1\nmeaning = \"a\"\nlike = \"nobody\"\n",
            "\"nobody\", which it is like, is in no catalogue",
        ),
        (
            "[[code]]\nnumber = 1\nmeaning = \"a\"\n[[code]]\nnumber = 1\nmeaning = \"b\"\n",
            "own.toml, line 4, column 1: the code has a row already",
        ),
        (
            "[[code]]\nnumber = 1\nlike = \"2\"\n[[code]]\nnumber = 2\nlike = \"1\"\n",
            "own.toml, line 1, column 1: \"like\" leads in a circle",
        ),
        ("[[code]\n", "own.toml, line 1, column "),
    ] {
        let all = mistakes(&toml(text)).join("\n");
        assert!(all.contains(expected), "{text}: {all}");
        assert_eq!(all.is_empty(), expected.is_empty(), "{text}: {all}");
    }
}

#[test]
fn csv() {
    let read = |text: &str| Catalogues::read(&[("own.csv".to_owned(), text.as_bytes().to_vec())]);
    let own = read("pattern,meaning,next,level\nTW-00417,\"Refused, by the gateway.\",Compare versions.,failure\n");
    assert_eq!(mistakes(&own), [] as [&str; 0]);
    let (code, _) = own.shaped(b"TW-00417").unwrap();
    let row = own.entry(code).unwrap();
    assert_eq!((row.meaning, row.check), ("Refused, by the gateway.", "Compare versions."));
    let wrong = mistakes(&read("number,meaning,level\n1,a,failure\n2,b,dreadful\n"));
    assert_eq!(wrong, ["own.csv, line 3, column 3: \"dreadful\" is not a level: failure, restart or success"]);
    let wrong = mistakes(&read("number,meening\n1,a\n"));
    assert!(wrong[0].starts_with("own.csv, line 1, column 2: \"meening\" is not a column"), "{wrong:?}");
}

#[test]
fn other_bytes() {
    let own = Catalogues::read(&[("own.toml".to_owned(), vec![b'#', b'\n', 0xFF, 0xFE])]);
    assert_eq!(mistakes(&own), ["own.toml, line 2, column 1: byte 2 is not UTF-8: save the file as UTF-8"]);
}

#[test]
fn limits_are_named_and_large_catalogues_stay_fast() {
    let mut text = String::from("number,meaning,like\n");
    for number in 0..=limits::USER_CODES {
        text.push_str(&format!("{number},x,{}\n", number + 1));
    }
    let catalogues = Catalogues::read(&[("own.csv".into(), text.into_bytes())]);
    assert_eq!(catalogues.len(), limits::USER_CODES);
    let first = &catalogues.mistakes[0];
    assert_eq!(
        (first.line, first.text.starts_with("more than 20000 codes")),
        (limits::USER_CODES + 2, true),
        "{first}"
    );
    assert!(catalogues.mistakes[1].text.contains("leads through too many rows"), "{}", catalogues.mistakes[1]);
    let many = vec![("one.toml".to_owned(), Vec::new()); limits::USER_CATALOGUES + 1];
    assert!(Catalogues::read(&many).mistakes[0].text.starts_with("more than 200 catalogues"));
}

proptest! {
    #[test]
    fn any_file(name in "own\\.(toml|csv)", bytes in proptest::collection::vec(any::<u8>(), 0..300)) {
        Catalogues::read(&[(name, bytes)]);
    }

    #[test]
    fn near_misses(rows in proptest::collection::vec(("(number|pattern|like|level|family|meaning)", "[0-9A-Z#x-]{0,9}"), 0..12)) {
        let text: String = rows.iter().map(|(key, value)| format!("[[code]]\n{key} = \"{value}\"\n")).collect::<Vec<_>>().concat();
        toml(&text);
    }

    #[test]
    fn every_code_of_a_shape_is_written_as_it_was_found(digits in 1_usize..=7, number in 0_u32..16_777_215) {
        let number = number % 10_u32.pow(digits as u32);
        let own = toml(&format!("[[code]]\npattern = \"AB_1-{}\"\nmeaning = \"a\"\n", "#".repeat(digits)));
        let text = format!("AB_1-{number:0digits$}");
        let (code, end) = own.shaped(text.as_bytes()).unwrap();
        prop_assert_eq!(end, text.len());
        prop_assert_eq!(own.written(code.number), text);
    }
}

#[test]
fn two_cases_keep_their_catalogues_apart() {
    let open = |meaning: &str| {
        let root = tempfile::tempdir().unwrap();
        let host = root.path().join("hosts/gw/var/log");
        std::fs::create_dir_all(&host).unwrap();
        std::fs::write(host.join("app.log"), "2026-04-12T02:00:00Z ERROR bridge: TW-00417\n").unwrap();
        if !meaning.is_empty() {
            std::fs::create_dir_all(root.path().join("codes")).unwrap();
            let rows = format!("pattern,meaning,level\nTW-#####,{meaning},failure\n");
            std::fs::write(root.path().join("codes/own.csv"), rows).unwrap();
        }
        let case = Case::open(&[root.path().to_path_buf()], Options::default(), &Work::default()).unwrap();
        let loaded = case.load(&Work::default()).unwrap();
        (root, case, loaded)
    };
    let (first, other, none) = (open("Refused."), open("Late."), open(""));
    let meaning = |(_, case, loaded): &(tempfile::TempDir, Case, Loaded)| {
        let code = loaded.table.event(Row(0)).codes().next();
        code.map(|code| (code.written(&case.catalogues), code.info(&case.catalogues).meaning))
    };
    // The first is asked last: opening the others has changed nothing.
    assert_eq!(meaning(&none), None);
    assert_eq!(meaning(&other), Some(("TW-00417".into(), "Late.".into())));
    assert_eq!(meaning(&first), Some(("TW-00417".into(), "Refused.".into())));
    let filter = |case: &Case| Filter::parse_with("code=TW-00417", &case.zone, &case.catalogues).is_ok();
    assert!(filter(&first.1) && !filter(&none.1));
}
