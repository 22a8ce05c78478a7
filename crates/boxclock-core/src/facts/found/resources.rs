//! Resources that were full or grow, as findings.

use super::Places;
use crate::clock::HOUR;
use crate::facts::{Finding, Level};
use crate::resource::Resource;

/// What a resource says; `at` of the `full_ones` that were full, in order of time.
pub(super) fn of_resource(places: &mut Places<'_>, one: &Resource, at: usize, full_ones: usize) -> Option<Finding> {
    let title = one.title();
    if let Some(full) = &one.full {
        let from = places.moment(full.first.time);
        let until = if full.is_over { format!(" to {}", places.moment(full.last.time)) } else { " on".to_owned() };
        let how = if full.first.is_stated { String::new() } else { format!(", {:.0} %", full.first.percent) };
        let (file, line) = places.of(full.first.row);
        let others = [Some(full.last.row).filter(|row| *row != full.first.row), full.first_problem];
        let mut more: Vec<(String, usize)> = others.into_iter().flatten().map(|row| places.of(row)).collect();
        more.dedup();
        let (before, after) = (full.problems_before, full.problems_after);
        let mut evidence = format!(
            "{} of how full it is; {} of its host in the ten minutes before, {after} in the ten minutes after",
            crate::many(one.samples as u64, "value"),
            crate::many(before as u64, "problem")
        );
        if full_ones > 1 {
            evidence.push_str(&format!("; number {} of the {full_ones} that were full, in order of time", at + 1));
        }
        return Some(Finding {
            host: one.host.clone(),
            level: if one.is_followed_by_problems() { Level::Critical } else { Level::Warning },
            check: "resource-full".into(),
            title: format!("Full: {title}, from {from}{until}{how}"),
            evidence,
            file,
            line,
            more,
            reason: "What needs it waits, is refused, or fails from then on. The resource that was full first is the one to look at.".into(),
            advice: "Find out what took it: the newest change, the largest user, a job that ran then.\nFree some of it, or raise its limit, and see whether the problems behind it stop.".into(),
        });
    }
    let growth = one.growth.as_ref()?;
    let (file, line) = places.of(growth.first.row);
    let until_end = growth.full_at.saturating_sub(growth.last.time);
    let soon = until_end < 24 * HOUR;
    Some(Finding {
        host: one.host.clone(),
        level: if soon { Level::Warning } else { Level::Note },
        check: "resource-growing".into(),
        title: format!("Growing: {title}, full at about {} if it goes on", places.moment(growth.full_at)),
        evidence: format!(
            "from {:.0} % at {} to {:.0} % at {}, {:.1} points an hour",
            growth.first.percent,
            places.moment(growth.first.time),
            growth.last.percent,
            places.moment(growth.last.time),
            growth.points_per_hour
        ),
        file,
        line,
        more: vec![places.of(growth.last.row)],
        reason: "It has grown steadily up to the end of what was gathered.".into(),
        advice: "Find what grows, before it is full.".into(),
    })
}
