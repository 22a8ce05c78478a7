//! `slow-queries`: what a database server of the MySQL family writes of statements that took long.
//!
//! Source: logs that MariaDB 10.11 wrote, and the public description of the log of slow queries of MySQL 5.7 and 8. A record begins with
//! `# Time:`, or with `# User@Host:` where it began in the same second as the one before. MySQL 8 writes the time with its zone; older
//! ones write it without, and then the line `SET timestamp=` has the same moment as seconds since 1970.

use super::word::number;
use super::{Fit, Head, Hint, LineFormat, LineState, Record};
use crate::clock::scan::{self, Stamp};

/// The format.
pub(super) struct SlowQueries;

const TIME: &[u8] = b"# Time: ";
const USER: &[u8] = b"# User@Host: ";
const COMPONENT: &[u8] = b"slow-queries";

/// Whether a line is the time of a record, in either form.
fn is_time(line: &[u8]) -> bool {
    let Some(rest) = line.strip_prefix(TIME) else { return false };
    let date = rest.get(..6).is_some_and(|date| number(date).is_some()) && rest.get(6) == Some(&b' ');
    date || scan::iso(rest).is_some()
}

impl LineFormat for SlowQueries {
    fn name(&self) -> &'static str {
        "slow-queries"
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        let head = Head { component: COMPONENT.into(), ..Head::default() };
        if line.starts_with(USER) {
            return Some(Head { body: USER.len(), ..head });
        }
        // Without its zone the line of seconds says it better.
        let stamp = scan::iso(line.strip_prefix(TIME)?).map_or(Stamp::None, |(civil, _)| civil.stamp());
        is_time(line).then_some(Head { stamp, body: TIME.len(), ..head })
    }

    fn remembers(&self) -> bool {
        true
    }

    /// Whom it was for belongs to the time in front of it.
    fn goes_on(&self, line: &[u8], state: &mut LineState) -> bool {
        let behind_time = std::mem::replace(state, u64::from(is_time(line))) == 1;
        behind_time && line.starts_with(USER)
    }

    fn has_tails(&self) -> bool {
        true
    }

    fn tail<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        let rest = line.strip_prefix(b"SET timestamp=")?;
        let end = rest.iter().position(|byte| !byte.is_ascii_digit() && *byte != b'.').unwrap_or(rest.len());
        let stamp = Stamp::Utc(scan::epoch(rest.get(..end)?)?, 0);
        Some(Head { stamp, ..Head::default() })
    }

    /// A server may start anew in the middle; its three lines of greeting say nothing of a statement.
    fn judges_words(&self) -> bool {
        false
    }

    fn record(&self, text: &str, _: Hint) -> Record {
        let mut record = Record::default();
        let mut statement: Vec<&str> = Vec::new();
        for line in text.lines() {
            if let Some(who) = line.strip_prefix("# User@Host: ") {
                let (user, host) = who.split_once(" @ ").unwrap_or((who, ""));
                let user = user.split('[').next().unwrap_or_default();
                let host = host.split("  Id:").next().unwrap_or_default();
                for (name, value) in [("user.name", user), ("client.address", host)] {
                    if !value.trim().is_empty() {
                        record.attributes.insert(name.into(), value.trim().into());
                    }
                }
            } else if let Some(rest) = line.strip_prefix("# ").filter(|rest| !rest.starts_with("Time: ")) {
                let words: Vec<&str> = rest.split_whitespace().collect();
                for pair in words.windows(2) {
                    let [name, value] = pair else { continue };
                    let Some(name) = name.strip_suffix(':').filter(|_| !value.ends_with(':')) else { continue };
                    let name = format!("db.{}", name.to_ascii_lowercase());
                    let number = value.parse::<i64>().map(serde_json::Value::from);
                    let number = number.or_else(|_| value.parse::<f64>().map(serde_json::Value::from));
                    record.attributes.insert(name, number.unwrap_or_else(|_| (*value).into()));
                }
            } else if !line.starts_with("# ") && !line.starts_with("SET timestamp=") {
                statement.push(line);
            }
        }
        let took = record.attributes.get("db.query_time").map(|time| format!("{time} s: "));
        record.body = format!("{}{}", took.unwrap_or_default(), statement.join("\n"));
        record
    }

    fn fit(&self, lines: &[&[u8]]) -> Fit {
        let heads = lines.iter().filter(|line| line.starts_with(USER)).count();
        let times = lines.iter().filter(|line| line.starts_with(b"# Query_time:")).count();
        Fit { heads, sure: heads > 0 && times > 0, ..Fit::default() }
    }
}

#[cfg(test)]
mod tests {
    use crate::testing::case;

    const NEWER: &str = "/usr/sbin/mysqld, Version: 8.0.36. started with:\nTcp port: 3306\nTime  Id Command  Argument\n\
        # Time: 2026-04-12T02:31:07.442000Z\n# User@Host: keeper[keeper] @ tank-desk [10.0.0.4]  Id:     8\n\
        # Query_time: 2.000123  Lock_time: 0.000000 Rows_sent: 1  Rows_examined: 41000\nuse tank;\nSET timestamp=1775961067;\n\
        update tanks set level = 4\nwhere id = 7;\n";

    #[test]
    fn a_statement_is_one_event_with_its_figures() {
        let case = case(&[("slow.log", NEWER)]);
        let view = case.view();
        let table = &view.loaded.table;
        assert_eq!(view.case.sources[0].reader.name(), "slow-queries");
        let last = table.event(crate::event::Row(table.len() as u32 - 1));
        assert_eq!(last.time().map(crate::clock::to_rfc3339).as_deref(), Some("2026-04-12T02:31:07.442000000Z"));
        let record = crate::event::RecordReader::new(view.case.sources.clone()).record(last);
        assert_eq!(record.body, "2.000123 s: use tank;\nupdate tanks set level = 4\nwhere id = 7;");
        assert_eq!(record.attributes["user.name"], "keeper");
        assert_eq!(record.attributes["client.address"], "tank-desk [10.0.0.4]");
        assert_eq!(record.attributes["db.rows_examined"], 41000);
    }

    #[test]
    fn a_time_without_zone_is_taken_from_its_line_of_seconds() {
        let text = "# Time: 260412  4:31:07\n# User@Host: keeper[keeper] @ localhost []\n# Query_time: 1.5  Lock_time: 0.0  Rows_sent: 1  Rows_examined: 0\n\
            SET timestamp=1775961067;\nselect 1;\n# User@Host: keeper[keeper] @ localhost []\n\
            # Query_time: 0.5  Lock_time: 0.0  Rows_sent: 1  Rows_examined: 0\nSET timestamp=1775961068;\nselect 2;\n";
        let case = case(&[("slow.log", text)]);
        let view = case.view();
        let times: Vec<String> = (0..view.loaded.table.len())
            .filter_map(|row| {
                view.loaded.table.event(crate::event::Row(row as u32)).time().map(crate::clock::to_rfc3339)
            })
            .collect();
        assert_eq!(times, ["2026-04-12T02:31:07.000000000Z", "2026-04-12T02:31:08.000000000Z"]);
    }
}
