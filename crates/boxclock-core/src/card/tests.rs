use proptest::prelude::*;

use super::*;
use crate::analysis::CaseView;
use crate::event::Row;
use crate::testing::{case, log};
use crate::work::Work;

fn cards(text: &str) -> Cards {
    let mut cards = Cards::default();
    cards.add("own.toml", text);
    cards
}

/// A card of these signs.
fn card(name: &str, signs: &str, more: &str) -> String {
    format!(
        "[[card]]\nname = \"{name}\"\ntitle = \"t\"\nlevel = \"warning\"\ncause = \"c\"\nsigns = [{signs}]\nremedies = []\n{more}\n"
    )
}

fn fitting(view: &CaseView, cards: Cards) -> Vec<CardMatch> {
    assert_eq!(cards.wrong, []);
    view.run(&CardAnalysis::new(cards), &Work::default()).unwrap().to_vec()
}

/// The names of the shipped cards that fit a log.
fn known(text: &str) -> Vec<String> {
    let case = case(&[("gw/app.log", text)]);
    fitting(&case.view(), Cards::shipped()).into_iter().map(|found| found.card.name.clone()).collect()
}

#[test]
fn shipped_cards_are_good_and_say_what_to_do() {
    let cards = Cards::shipped();
    assert_eq!(cards.wrong, []);
    assert!(cards.good.len() >= 60, "{}", cards.good.len());
    assert_eq!(cards.own_texts(), None);
    for card in &cards.good {
        assert!(!card.remedies.is_empty(), "{}", card.name);
        assert!(card.remedies.iter().all(|remedy| !remedy.proves.is_empty()), "{}", card.name);
        assert!(!card.gone.is_empty() && card.cause.ends_with('.') && !card.title.ends_with('.'), "{}", card.name);
    }
    let mut names: Vec<&str> = cards.good.iter().map(|card| card.name.as_str()).collect();
    names.sort_unstable();
    names.dedup();
    assert_eq!(names.len(), cards.good.len());
}

#[test]
fn faults_that_everybody_meets_are_known() {
    for (line, wanted) in [
        ("write failed: No space left on device", "file-system-full"),
        ("bind(0.0.0.0:514) failed: Address already in use", "port-taken"),
        ("tls: peer's certificate has expired", "certificate-expired"),
        ("EXT4-fs (vda1): Remounting filesystem read-only", "read-only-file-system"),
        ("Out of memory: Killed process 2114 (dosingd)", "killed-for-memory"),
        ("feeder: error while loading shared libraries: libkelp.so.3", "library-missing"),
        ("open(/etc/kelp.key) failed: Permission denied", "permission-after-change"),
        ("dosingd.service: Start request repeated too quickly.", "start-limit-hit"),
        ("FATAL: sorry, too many clients already", "too-many-connections"),
        ("lookup tanks.local: no such host", "name-not-resolved"),
        ("fork: retry: Resource temporarily unavailable", "no-more-processes"),
        ("ERROR: deadlock detected", "deadlock-in-database"),
        ("parsing [h.cfg:2] : unknown keyword 'bogus' in 'global' section", "settings-wrong"),
        ("E: Unable to locate package kelp-tools", "dependency-not-met"),
    ] {
        let found = known(&log().at("02:00:00").info("a", "started").error("a", line).text());
        assert!(found.iter().any(|name| name == wanted), "{line}: {found:?}");
    }
}

#[test]
fn a_healthy_log_is_no_known_fault() {
    let text = log()
        .at("02:00:00")
        .info("dosingd", "plan nightly: 3 tanks, 36 doses")
        .info("bridge", "certificate of gw valid until 2027-01-01")
        .info("disk", "volume /srv is 40 % full, quota 12 of 50 GB")
        .info("dpkg", "status installed kelp-tools 1.4.0")
        .warn("net", "reconnected after 1 retry")
        .info("dpkg", "status half-configured libsigsegv2:amd64 2.14")
        .text();
    assert_eq!(known(&text), Vec::<String>::new());
}

#[test]
fn a_phrase_has_its_parts_in_order_and_in_one_record() {
    let text = "2026-04-12T02:00:00Z a: cannot open the valve\n2026-04-12T02:00:01Z a: denied\n\
                2026-04-12T02:00:02Z a: denied: cannot open\n2026-04-12T02:00:03Z a: Cannot OPEN v3, access is DENIED\n";
    let case = case(&[("gw/app.log", text)]);
    let found = fitting(&case.view(), cards(&card("x", "{ says = [\"cannot open * denied\"] }", "")));
    assert_eq!(found.len(), 1);
    assert_eq!(found[0].signs[0].places.iter().map(|place| place.line).collect::<Vec<_>>(), [4]);
    assert_eq!((found[0].score, found[0].signs[0].count), (1.0, 1));
}

#[test]
fn optional_signs_and_those_needed_weigh() {
    let text = log().at("02:00:00").error("a", "valve stuck open").error("b", "pump runs dry").text();
    let case = case(&[("gw/app.log", text)]);
    let signs = "{ says = [\"valve stuck\"] }, { says = [\"never said\"], optional = true }";
    let found = fitting(&case.view(), cards(&card("x", signs, "")));
    assert_eq!((found[0].score, found[0].unmet), (0.67, 1));
    let signs = "{ says = [\"valve stuck\"] }, { says = [\"never said\"] }, { says = [\"runs dry\"] }";
    assert!(fitting(&case.view(), cards(&card("x", signs, ""))).is_empty());
    assert_eq!(fitting(&case.view(), cards(&card("x", signs, "needs = 2")))[0].signs.len(), 2);
}

#[test]
fn order_level_filter_and_code_are_minded() {
    let text = log()
        .at("02:00:00")
        .error("bridge", "frame refused 0x80070005")
        .at("02:30:00")
        .info("dosingd", "restart asked for")
        .text();
    let case = case(&[("gw/app.log", text)]);
    let fits = |signs: &str| !fitting(&case.view(), cards(&card("x", signs, ""))).is_empty();
    assert!(fits("{ says = [\"frame refused\"] }, { says = [\"restart asked\"], follows = 1 }"));
    assert!(!fits("{ says = [\"frame refused\"] }, { says = [\"restart asked\"], follows = 1, within = \"10m\" }"));
    assert!(!fits("{ says = [\"restart asked\"] }, { says = [\"frame refused\"], follows = 1 }"));
    assert!(!fits("{ says = [\"restart asked\"], level = \"warn\" }"));
    assert!(fits("{ filter = \"component=bridge level>=error\" }"));
    assert!(!fits("{ says = [\"frame refused\"], filter = \"component=dosingd\" }"));
    assert!(fits("{ codes = [\"E_ACCESSDENIED\"] }"));
    assert!(!fits("{ codes = [\"ENOSPC\"] }"));
}

#[test]
fn what_is_below_the_level_takes_no_room_from_what_is_not() {
    // Of each segment only some lines are kept: those that count.
    let noise = (0..200).fold(log().at("02:00:00"), |log, _| log.info("a", "rolled back"));
    let text = noise.error("a", "rolled back").text();
    let case = case(&[("gw/app.log", text)]);
    let found = fitting(&case.view(), cards(&card("x", "{ says = [\"rolled back\"], level = \"warn\" }", "")));
    assert_eq!((found[0].signs[0].count, found[0].signs[0].places[0].line), (1, 201));
}

#[test]
fn a_card_that_was_changed_is_asked_anew() {
    let text = log().at("02:00:00").error("a", "valve stuck open").text();
    let case = case(&[("gw/app.log", text)]);
    let view = case.view();
    let title = |needs: &str| {
        let text = card("x", "{ says = [\"valve stuck\"] }", needs).replace("\"t\"", &format!("\"title {needs}\""));
        fitting(&view, cards(&text))[0].card.title.clone()
    };
    assert_eq!((title("").as_str(), title("needs = 1").as_str()), ("title ", "title needs = 1"));
}

#[test]
fn signs_may_name_codes_of_ones_own_catalogue() {
    let text = log().at("02:00:00").error("a", "frame lost, TW-00417").text();
    let case = case(&[("gw/app.log", text.as_str())]);
    let own = "[[code]]\npattern = \"TW-00417\"\nname = \"TW_FORMAT_REFUSED\"\ngloss = \"refused\"\n\
               meaning = \"The gateway refused it.\"\nlevel = \"failure\"\n";
    std::fs::create_dir_all(case.path().join("codes")).unwrap();
    std::fs::write(case.path().join("codes/tank.toml"), own).unwrap();
    std::fs::create_dir_all(case.path().join("cards")).unwrap();
    let own = card("own", "{ codes = [\"TW_FORMAT_REFUSED\"] }", "");
    std::fs::write(case.path().join("cards/own.toml"), &own).unwrap();
    let view = case.view();
    let cards = Cards::of(&view.case);
    assert_eq!(cards.wrong, [], "{:?}", view.case.left_out);
    assert!(cards.by_name("own").is_some());
    assert_eq!(super::fitting(&view, &Work::default()).unwrap()[0].card.name, "own");
    // Where the catalogue is not known, the code is none.
    assert!(self::cards(&own).wrong[0].1.contains("is not a code"));
}

#[test]
fn mistakes_have_line_and_column() {
    let wrong = |text: &str| {
        let cards = cards(text);
        assert!(cards.good.is_empty(), "{text}");
        cards.wrong[0].1.clone()
    };
    let signs = |signs: &str| wrong(&card("x", signs, ""));
    assert!(signs("").contains("line 1, column 1: card x has no sign"), "{}", signs(""));
    assert_eq!(
        signs("{ says = [\"a\"] }"),
        "line 6, column 20: \"a\" is too short a phrase: it would stand everywhere"
    );
    assert!(
        signs("{ filter = \"level>=nothing\" }").starts_with("line 6, column 29: "),
        "{}",
        signs("{ filter = \"level>=nothing\" }")
    );
    assert!(signs("{ optional = true }").contains("asks for nothing"));
    assert!(signs("{ says = [\"frame refused\"], optional = true }").contains("fit everything"));
    assert!(signs("{ says = [\"frame refused\"], follows = 1 }").contains("sign 1 cannot follow sign 1"));
    assert!(signs("{ says = [\"frame refused\"], wihtin = \"1m\" }").contains("line 6"));
    assert!(wrong(&card("no name", "{ says = [\"frame refused\"] }", "")).contains("is not a name"));
    assert!(wrong(&card("x", "{ says = [\"frame refused\"] }", "needs = 2")).contains("needs = 2 of 1 sign"));
}

#[test]
fn words_of_a_card_are_shown_and_never_obeyed() {
    let text = card("x", "{ says = [\"frame refused\"] }", "gone = \"\\u001b[2Jgone\"")
        .replace("\"c\"", "\"\\u001b]0;x\\u0007\"");
    let all = cards(&text);
    assert_eq!(all.wrong, []);
    let card = &all.good[0];
    assert!(!card.cause.chars().chain(card.gone.chars()).any(char::is_control), "{:?} {:?}", card.cause, card.gone);
    assert!(card.gone.ends_with("gone"));
}

#[test]
fn a_card_of_ones_own_takes_the_place_of_a_shipped_one() {
    let mut all = Cards::shipped();
    let count = all.good.len();
    all.add("own.toml", &card("port-taken", "{ says = [\"valve taken\"] }", ""));
    assert_eq!((all.good.len(), all.own_texts().is_some()), (count, true));
    assert_eq!(all.by_name("port-taken").unwrap().file, "own.toml");
}

#[test]
fn cards_travel_in_a_box() {
    let own = card("stuck-valve", "{ says = [\"valve stuck\"] }", "");
    let case = case(&[("gw/app.log", log().at("02:00:00").error("a", "valve stuck open").text().as_str())]);
    std::fs::create_dir_all(case.path().join("cards")).unwrap();
    std::fs::write(case.path().join("cards/own.toml"), own).unwrap();
    let view = case.view();
    let found = fitting(&view, Cards::of(&view.case));
    assert_eq!(found[0].card.name, "stuck-valve");
    assert_eq!(found[0].host(&view), "gw");
}

#[test]
fn a_card_made_from_a_chain_knows_the_fault_under_other_names() {
    let of = |host: &str, tool: &str, job: &str, time: &str| {
        log()
            .at("01:00:00")
            .info(tool, "heartbeat sent")
            .at(time)
            .warn(tool, &format!("version in use stays 1.4.0: {job} waits for a restart"))
            .error(tool, &format!("frame {job} refused by {host}, format 2 is not known here"))
            .at("04:00:00")
            .error("alarms", "no dosing since the plan started")
            .text()
    };
    let quiet = log().at("01:00:00").info("x", "heartbeat sent").text();
    let first = case(&[("gate-a/x.log", quiet), ("pump-a/app.log", of("gate-a", "bridge", "fr-0412", "02:00:00"))]);
    let view = first.view();
    let row = |line| view.row_of_line("hosts/pump-a/app.log", line).unwrap();
    let from = MadeFrom {
        name: "Frames refused!".into(),
        title: "Frames are \"refused\"".into(),
        cause: "the old bridge".into(),
        chain: vec![row(2), row(3), row(4)],
        remedies: vec![("Restart it.".into(), "Frames pass.".into())],
    };
    let MadeCard { name, text } = make(&view, &from, &Work::default()).unwrap();
    assert_eq!(name, "frames-refused");
    assert!(text.contains("name = \"frames-refused\""), "{text}");
    assert!(!text.contains("bridge, ") && !text.contains("fr-0412") && !text.contains("gate-a"), "{text}");
    let second = case(&[("reef-b/night.log", of("lock-b", "span", "q-77", "03:00:00"))]);
    let found = fitting(&second.view(), cards(&text));
    assert_eq!(found.len(), 1, "{text}");
    assert_eq!((found[0].signs.len(), found[0].unmet), (3, 0));
    assert_eq!(found[0].card.remedies[0].what, "Restart it.");
    let healthy = case(&[("reef-b/night.log", log().at("02:00:00").info("span", "heartbeat sent").text())]);
    assert!(fitting(&healthy.view(), cards(&text)).is_empty());
}

#[test]
fn a_chain_without_words_makes_no_card() {
    let case = case(&[("a/app.log", log().at("02:00:00").error("x", "0x15 17/4").text())]);
    let from = MadeFrom { name: "x".into(), chain: vec![Row(0)], ..MadeFrom::default() };
    assert!(make(&case.view(), &from, &Work::default()).is_err());
}

proptest! {
    #[test]
    fn any_text_gives_cards_or_mistakes(text in "\\PC{0,300}") {
        let mut all = Cards::default();
        all.add("any.toml", &text);
        prop_assert_eq!(all.good.len(), 0);
    }

    #[test]
    fn any_message_makes_a_good_card_or_none(message in "[ -~é\"'\\\\]{0,120}") {
        let line = message.replace(['\n', '\r'], " ");
        let case = case(&[("a/app.log", log().at("02:00:00").error("x", &line).text())]);
        let view = case.view();
        let from = MadeFrom { name: line.clone(), title: line.clone(), cause: line, chain: vec![Row(0)], ..MadeFrom::default() };
        if let Ok(MadeCard { text, .. }) = make(&view, &from, &Work::default()) {
            let made = cards(&text);
            prop_assert_eq!(made.wrong.clone(), vec![], "{}", text);
            prop_assert_eq!(fitting(&view, made).len(), 1, "{}", text);
        }
    }
}
