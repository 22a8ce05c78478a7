//! Series of counters and messages, with what is told of each.

use proptest::prelude::*;

use super::*;
use crate::facts::{Checks, Finding, checks};
use crate::testing::case;

fn resources(files: &[(&str, &str)]) -> Vec<Resource> {
    let case = case(files);
    case.view().run(&ResourceAnalysis, &Work::default()).unwrap().to_vec()
}

fn findings(files: &[(&str, &str)]) -> Vec<Finding> {
    let case = case(files);
    checks::all_findings(&case.view(), &Checks::load(), &Work::default()).unwrap().0
}

/// `sadf -d`: a value a minute from 02:00 on.
fn sadf(column: &str, instance: Option<(&str, &str)>, values: &[f64]) -> String {
    let (head, of) =
        instance.map_or((String::new(), String::new()), |(head, of)| (format!("{head};"), format!("{of};")));
    let mut text = format!("# hostname;interval;timestamp;{head}{column}\n");
    for (minute, value) in values.iter().enumerate() {
        text.push_str(&format!("basin-4;60;2026-04-12 {:02}:{:02}:00 UTC;{of}{value}\n", 2 + minute / 60, minute % 60));
    }
    text
}

#[test]
fn the_words_compile_and_each_message_passes_the_sieve() {
    let words = compile(include_str!("words.toml")).unwrap();
    assert!(words.resources.len() >= 7);
    for (line, resource, instance, percent) in [
        ("disk /srv/tanks 93 % full", "disk space", "/srv/tanks", 93.0),
        ("WARN volume D: is at 97.5% used", "disk space", "d:", 97.5),
        ("/var/spool: 99% of capacity", "disk space", "/var/spool", 99.0),
        ("cannot write frame: No space left on device", "disk space", "", 100.0),
        ("memory usage 96%", "memory", "", 96.0),
        ("worker pool: 100% busy", "pool", "worker pool", 100.0),
        ("48 of 50 database connections in use", "pool", "database connections", 96.0),
        ("connection pool 20/20", "pool", "connection pool", 100.0),
        ("accept failed: Too many open files", "pool", "too many open files", 100.0),
    ] {
        assert!(words.any.is_match(line.as_bytes()), "{line}");
        let mut piece = Vec::new();
        let rule = words.messages.matches(line.as_bytes()).into_iter().next().unwrap_or_else(|| panic!("{line}"));
        let (at, is_stated, regex) = &words.message_of[rule];
        let captures = regex.captures(line.as_bytes()).unwrap();
        let of = captures
            .name("instance")
            .map_or(String::new(), |part| String::from_utf8_lossy(part.as_bytes()).to_ascii_lowercase());
        note(&mut piece, 0, *at, if *is_stated { 100.0 } else { super::percent(&captures).unwrap() }, *is_stated, of);
        assert_eq!((words.resources[*at].name.as_str(), piece[0].instance.trim()), (resource, instance), "{line}");
        assert!((f64::from(piece[0].percent) - percent).abs() < 0.01, "{line}: {}", piece[0].percent);
    }
    for line in [
        "step 3 of 9 done",
        "copied 45 % of /srv/tanks",
        "read 10/12 pages",
        "progress: 80%",
        "ratio 99% hits",
        "queue 10/10 processed",
        "sessions 12 of 12 restored",
    ] {
        assert!(words.messages.matches(line.as_bytes()).iter().next().is_none(), "{line}");
    }
}

#[test]
fn what_was_full_first_comes_first_and_what_failed_behind_it_is_counted() {
    let memory = sadf("%memused", None, &[60.0, 70.0, 80.0, 96.0, 97.0, 60.0]);
    let disk = sadf("%ufsused", Some(("FILESYSTEM", "/dev/sda1")), &[90.0, 98.0, 99.0, 99.0, 99.0, 99.0]);
    let mut log = String::new();
    for second in 0..20 {
        log.push_str(&format!("2026-04-12T02:02:{second:02}Z ERROR dosing cannot write frame {second}\n"));
    }
    let found = resources(&[
        ("basin-4/memory.csv", &memory),
        ("basin-4/disk.csv", &disk),
        ("basin-4/dosing.log", &format!("2026-04-12T01:50:00Z INFO dosing starts\n{log}")),
    ]);
    let names: Vec<(&str, &str)> = found.iter().map(|one| (one.name.as_str(), one.instance.as_str())).collect();
    assert_eq!(names, [("disk space", "/dev/sda1"), ("memory", "")]);
    let disk = found[0].full.as_ref().unwrap();
    assert_eq!((disk.first.percent, disk.is_over), (98.0, false));
    assert_eq!((disk.problems_before, disk.problems_after), (0, 20));
    assert!(found[0].is_followed_by_problems());
    let memory = found[1].full.as_ref().unwrap();
    assert!(memory.is_over, "it fell to 60");
}

#[test]
fn a_line_that_only_says_full_adds_nothing_to_a_number() {
    let disk = sadf("%ufsused", Some(("FILESYSTEM", "/dev/sda1")), &[90.0, 98.0, 99.0]);
    let line = "2026-04-12T02:01:20Z ERROR dosing cannot write frame: No space left on device\n";
    let found = resources(&[("basin-4/disk.csv", &disk), ("basin-4/dosing.log", line)]);
    assert_eq!(found.iter().map(|one| one.instance.as_str()).collect::<Vec<_>>(), ["/dev/sda1"]);
    assert_eq!(found[0].full.as_ref().unwrap().problems_after, 1);
    // On another host it is all that is known.
    let found = resources(&[("basin-4/disk.csv", &disk), ("basin-7/dosing.log", line)]);
    assert_eq!(found.len(), 2);
}

#[test]
fn columns_in_percent_count_where_they_say_how_full() {
    let csv = |name: &str| {
        let rows: String = (0..10)
            .map(|minute| format!("2026-04-12T02:0{minute}:00Z,basin,round {minute},{}\n", 91 + minute))
            .collect();
        format!("time,tank,message,{name}\n{rows}")
    };
    let found = |name: &str| resources(&[("basin-4/levels.csv", &csv(name))]).len();
    assert_eq!(found("queue_fill_percent"), 1);
    assert_eq!(found("heap usage %"), 1);
    assert_eq!(found("success_percent"), 0, "a hundred of it is good");
    assert_eq!(found("frames_used"), 0, "it is no share");
}

#[test]
fn a_segment_full_of_values_is_thinned_series_by_series() {
    let said = |event: u16, instance: &str| Said {
        event,
        resource: 0,
        percent: 50.0,
        is_stated: false,
        instance: instance.into(),
    };
    let mut piece: Vec<Said> =
        (0..4 * MOST_KEPT).map(|at| said(at as u16, if at % 4 == 0 { "a" } else { "b" })).collect();
    ResourceAnalysis.end(&mut piece);
    assert!(piece.len() <= MOST_KEPT + 2, "{}", piece.len());
    let of_a = piece.iter().filter(|said| said.instance == "a").count();
    assert!((MOST_KEPT / 5..MOST_KEPT / 3).contains(&of_a), "a quarter of them: {of_a}");
    let mut small = vec![said(0, "a"), said(1, "b")];
    ResourceAnalysis.end(&mut small);
    assert_eq!(small.len(), 2);
}

#[test]
fn a_short_peak_of_a_processor_is_not_full() {
    let peak = sadf("%idle", Some(("CPU", "-1")), &[50.0, 1.0, 60.0, 50.0]);
    assert!(resources(&[("basin-4/cpu.csv", &peak)]).is_empty());
    let long = sadf("%idle", Some(("CPU", "-1")), &[50.0, 1.0, 1.0, 0.0, 2.0, 50.0]);
    let found = resources(&[("basin-4/cpu.csv", &long)]);
    assert_eq!(found.len(), 1);
    assert_eq!(found[0].name, "processor");
}

#[test]
fn growth_says_when_it_will_be_full_and_noise_says_nothing() {
    let steady: Vec<f64> = (0..60).map(|minute| 40.0 + 0.5 * f64::from(minute) + f64::from(minute % 3) * 0.4).collect();
    let found = resources(&[("basin-4/disk.csv", &sadf("%ufsused", Some(("FILESYSTEM", "/dev/sda1")), &steady))]);
    let growth = found[0].growth.as_ref().unwrap();
    assert!((29.0..31.0).contains(&growth.points_per_hour), "{}", growth.points_per_hour);
    // 69.9 % and 30 points an hour: an hour more.
    let left = growth.full_at - growth.last.time;
    assert!((55 * MINUTE..65 * MINUTE).contains(&left), "{left}");
    let noise: Vec<f64> = (0..60).map(|minute| 40.0 + f64::from(minute * 7 % 30)).collect();
    assert!(
        resources(&[("basin-4/disk.csv", &sadf("%ufsused", Some(("FILESYSTEM", "/dev/sda1")), &noise))]).is_empty()
    );
    let falling: Vec<f64> = (0..60).map(|minute| 90.0 - f64::from(minute)).collect();
    assert!(
        resources(&[("basin-4/disk.csv", &sadf("%ufsused", Some(("FILESYSTEM", "/dev/sda1")), &falling))]).is_empty()
    );
}

/// Two tables of `sar`: of the same number of columns, told apart by what stands in them; and one that could be either of two.
#[test]
fn tables_of_activity_reports_are_numbers() {
    let text = "Linux 6.1.0-18-amd64 (basin-4) \t04/12/2026 \t_x86_64_\t(2 CPU)\n\n\
        02:00:01        CPU     %user     %nice   %system   %iowait    %steal     %idle\n\
        02:01:01        all     50.00      0.00      0.50      0.00      0.00     49.50\n\
        02:02:01        all     99.00      0.00      0.50      0.00      0.00      0.50\n\
        02:04:01        all     99.00      0.00      0.50      0.00      0.00      0.50\n\
        02:06:01        all     99.00      0.00      0.50      0.00      0.00      0.50\n\
        Average:        all     86.75      0.00      0.50      0.00      0.00     12.75\n\n\
        02:00:01          tps      rtps      wtps      dtps   bread/s   bwrtn/s   bdscd/s\n\
        02:01:01        17.00      1.00     16.00      0.00      8.00  23648.00      0.00\n\n\
        02:00:01    MBfsfree  MBfsused   %fsused  %ufsused     Ifree     Iused    %Iused FILESYSTEM\n\
        02:01:01          33         0      0.04      8.60     10229        11      0.11 /dev/sdb1\n\
        02:02:01           1        32     96.00     99.50     10207        33      0.32 /dev/sdb1\n\
        Average:          17        16     48.02     54.05     10218        22      0.21 /dev/sdb1\n";
    let found = resources(&[("basin-4/sar12.txt", text)]);
    let names: Vec<(&str, &str)> = found.iter().map(|one| (one.name.as_str(), one.instance.as_str())).collect();
    assert_eq!(names, [("processor", ""), ("disk space", "/dev/sdb1")], "{found:#?}");
    assert!((found[0].full.as_ref().unwrap().first.percent - 99.5).abs() < 0.01);
}

#[test]
fn resources_stand_among_the_findings() {
    let disk = sadf("%ufsused", Some(("FILESYSTEM", "/dev/sda1")), &[90.0, 98.0, 99.0]);
    let found = findings(&[("basin-4/disk.csv", &disk)]);
    let one = found.iter().find(|finding| finding.check == "resource-full").unwrap();
    assert_eq!(one.json()["from"], "counter");
    assert!(
        one.title.starts_with("Full: disk space /dev/sda1 on basin-4, from 2026-04-12 02:01:00 on, 98 %"),
        "{}",
        one.title
    );
    assert_eq!(one.line, 3);
}

#[test]
fn a_message_that_stays_away_and_a_log_that_keeps_little_are_findings() {
    let mut beat = String::new();
    for minute in 0..600 {
        if minute < 300 {
            beat.push_str(&format!("2026-04-12T{:02}:{:02}:30Z INFO gauge level reported\n", minute / 60, minute % 60));
        }
        beat.push_str(&format!("2026-04-12T{:02}:{:02}:40Z INFO pump cycle {minute} ends\n", minute / 60, minute % 60));
    }
    let found = findings(&[("basin-4/gauge.log", &beat)]);
    let away = found.iter().find(|finding| finding.check == "silence").unwrap();
    assert!(away.title.contains("level reported"), "{}", away.title);
    assert_eq!(away.json()["from"], "pattern");

    let hour = |day: u8, hour: u8| {
        format!("2026-04-{day:02}T{hour:02}:00:00Z INFO gauge a\n2026-04-{day:02}T{hour:02}:59:00Z INFO gauge b\n")
    };
    let found = findings(&[
        ("basin-4/app.log", &hour(12, 6)),
        ("basin-4/app.log.1", &hour(12, 5)),
        ("basin-4/app.log.2", &hour(12, 4)),
        ("basin-4/system.log", &format!("{}{}", hour(2, 1), hour(12, 6))),
    ]);
    let short = found.iter().find(|finding| finding.check == "retention").unwrap();
    assert_eq!(short.title, "hosts/basin-4/app.log keeps 2h59m only");
    assert!(short.file.ends_with("app.log.2"), "{}", short.file);
}

proptest! {
    #[test]
    fn any_line_gives_a_percentage_or_nothing(text in "[0-9a-zA-Z/:%. ]{0,60}", used in any::<u64>(), limit in any::<u64>()) {
        let words = WORDS.as_ref().unwrap();
        for line in [text.clone(), format!("{text} {used} of {limit} connections in use"), format!("disk /srv {used}% full {text}")] {
            for rule in words.messages.matches(line.as_bytes()) {
                if let Some(captures) = words.message_of[rule].2.captures(line.as_bytes())
                    && let Some(percent) = super::percent(&captures)
                {
                    let mut piece = Vec::new();
                    note(&mut piece, 0, 0, percent, false, String::new());
                    prop_assert!(piece.iter().all(|one| (0.0..=100.0).contains(&one.percent)));
                }
            }
        }
    }

    #[test]
    fn any_series_is_judged(values in proptest::collection::vec((any::<i64>(), 0.0..100.0_f64), 0..40)) {
        let mut samples: Vec<Sample> = values
            .into_iter()
            .map(|(time, percent)| Sample { time, percent, row: Row(0), is_stated: false })
            .collect();
        samples.sort_by_key(|sample| sample.time);
        let numbers: Vec<&Sample> = samples.iter().collect();
        if let Some(growth) = Growth::of(&numbers) {
            prop_assert!(growth.points_per_hour > 0.0 && growth.full_at >= growth.last.time);
        }
        for kind in &WORDS.as_ref().unwrap().resources {
            if let Some(full) = full(kind, &samples) {
                prop_assert!(full.first.percent >= kind.full && full.last.time >= full.first.time);
            }
        }
    }
}

#[test]
fn a_course_keeps_the_peaks_and_has_an_end() {
    let text: String = (0..3_000)
        .map(|at| {
            let percent = if at == 1_501 { 99 } else { 40 + at / 100 };
            format!(
                "2026-04-12T{:02}:{:02}:{:02}Z WARN fill: disk /srv {percent} % full\n",
                at / 3600,
                at / 60 % 60,
                at % 60
            )
        })
        .collect();
    let case = case(&[("gw/app.log", &text)]);
    let found = case.view().run(&ResourceAnalysis, &Work::default()).unwrap();
    let curve = &found[0].curve;
    assert!(curve.len() <= MOST_POINTS && curve.len() > 100, "{}", curve.len());
    assert!(curve.windows(2).all(|pair| pair[0].0 < pair[1].0));
    assert!(curve.iter().any(|(_, percent)| *percent > 98.0), "the peak is kept");
}
