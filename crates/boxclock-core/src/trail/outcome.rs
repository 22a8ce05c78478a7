//! What the lines of a hop say of the thing: patterns in `outcomes.tsv`.

use std::sync::LazyLock;

use regex::{Regex, RegexBuilder};

use super::HopOutcome;

/// What one line says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Said {
    /// It went wrong.
    Failed,
    /// It did not work, and is tried once more.
    Again,
    /// It went well.
    Answered,
    /// It is over, nothing says how.
    Ended,
    /// It went on to somebody else.
    Handed,
    /// Nothing of the kind.
    Nothing,
}

impl Said {
    /// As the outcome of a hop that says nothing after it.
    pub(super) fn outcome(self) -> HopOutcome {
        match self {
            Self::Failed => HopOutcome::Failed,
            Self::Answered | Self::Ended => HopOutcome::Answered,
            Self::Handed => HopOutcome::Passed,
            Self::Again | Self::Nothing => HopOutcome::Unknown,
        }
    }
}

struct Patterns {
    harmless: Option<Regex>,
    failed: Option<Regex>,
    again: Option<Regex>,
    answered: Option<Regex>,
    ended: Option<Regex>,
    handed: Option<Regex>,
    code: Option<Regex>,
}

/// The patterns of one kind as one.
fn pattern(kind: &str) -> Option<Regex> {
    let rows = include_str!("outcomes.tsv").lines().filter_map(|line| line.split_once('\t'));
    let all: Vec<&str> = rows.filter(|(name, _)| *name == kind).map(|(_, pattern)| pattern).collect();
    RegexBuilder::new(&all.join("|")).case_insensitive(true).build().ok()
}

static PATTERNS: LazyLock<Patterns> = LazyLock::new(|| Patterns {
    harmless: pattern("harmless"),
    failed: pattern("failed"),
    again: pattern("again"),
    answered: pattern("answered"),
    ended: pattern("ended"),
    handed: pattern("handed"),
    code: pattern("code"),
});

/// Severity numbers from here on are errors.
const ERROR: u8 = 17;

/// What a line says, and the number of its answer. `severity` is the number of its level, 0 to 24.
pub(super) fn said(text: &str, severity: u8) -> (Said, Option<i64>) {
    let found = PATTERNS.code.as_ref().and_then(|regex| regex.captures(text));
    let code: Option<i64> = found.and_then(|found| {
        ["code", "reply", "http", "mail"]
            .iter()
            .find_map(|name| found.name(name))
            .and_then(|found| found.as_str().parse().ok())
    });
    let text = PATTERNS.harmless.as_ref().map_or(text.into(), |regex| regex.replace_all(text, " "));
    let is = |regex: &Option<Regex>| regex.as_ref().is_some_and(|regex| regex.is_match(&text));
    let bad_code = code.is_some_and(|code| (400..600).contains(&code));
    // `answered 110`: an answer, but nothing says that it is a good one.
    let other_code = code.is_some_and(|code| code != 0 && !(200..400).contains(&code));
    let good_code = code.is_some_and(|code| (200..400).contains(&code) || code == 0);
    let failed = severity >= ERROR || bad_code || is(&PATTERNS.failed);
    let said = if is(&PATTERNS.again) {
        Said::Again
    } else if failed {
        Said::Failed
    } else if is(&PATTERNS.handed) && !good_code && !is(&PATTERNS.answered) {
        Said::Handed
    } else if good_code || is(&PATTERNS.answered) {
        if other_code { Said::Ended } else { Said::Answered }
    } else if is(&PATTERNS.ended) {
        Said::Ended
    } else {
        Said::Nothing
    };
    (said, code)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_kind_of_pattern_is_one_that_compiles() {
        for kind in ["harmless", "failed", "again", "answered", "ended", "handed", "code"] {
            assert!(pattern(kind).is_some_and(|regex| !regex.is_match("the tank is blue")), "{kind}");
        }
    }

    #[test]
    fn what_lines_say() {
        for (text, severity, expected) in [
            ("frame 7 answered 200 after 12 ms", 9, (Said::Answered, Some(200))),
            ("frame 7 answered 503 after 12 ms", 9, (Said::Failed, Some(503))),
            ("frame 7 done, rc=0", 9, (Said::Answered, Some(0))),
            ("frame 7 done", 9, (Said::Ended, None)),
            ("frame 7 handed to the gateway as G1", 9, (Said::Handed, None)),
            ("attempt 1 failed: timed out, trying again", 13, (Said::Again, None)),
            ("frame 7: protocol version, code 21", 17, (Said::Failed, Some(21))),
            ("frame 7 written, 0 errors", 9, (Said::Nothing, None)),
            ("Auftrag 7 abgelehnt", 9, (Said::Failed, None)),
            ("< 250 ok", 9, (Said::Answered, Some(250))),
            ("worker-6|order evt:836952:7ad7 failed: no space left (code 110)", 13, (Said::Failed, Some(110))),
            ("to=<keeper@kestrel.example>, status=sent (250 2.0.0 Ok: queued as 4C83)", 9, (Said::Answered, Some(250))),
            ("status=bounced (host said: 550 5.1.1 no such keeper)", 9, (Said::Failed, Some(550))),
            ("the gateway answered 110", 9, (Said::Ended, Some(110))),
            ("step 3 of 9", 9, (Said::Nothing, None)),
        ] {
            assert_eq!(said(text, severity), expected, "{text}");
        }
    }
}
