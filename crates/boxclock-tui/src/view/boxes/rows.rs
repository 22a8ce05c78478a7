//! Which lines the Box view has, in which order.

use std::cmp::Reverse;
use std::collections::BTreeMap;

use boxclock_core::clock::SECOND;
use boxclock_core::facts::Finding;
use boxclock_core::source::Class;
use boxclock_core::timeline::drift::Suggestion;

use super::draw::class_of;
use super::{BoxRow, BoxView, HostSums};
use crate::context::Context;

/// More hosts than that are folded until somebody opens one.
const MOST_OPEN: usize = 12;

/// In which order the sources of a host stand.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) enum Order {
    /// Under the class that they are of.
    #[default]
    Class,
    /// Those with the most problems first.
    Problems,
    /// The largest first.
    Size,
    /// Those that begin first.
    First,
    /// By name.
    Name,
}

impl Order {
    /// The next one.
    pub(super) fn next(self) -> Self {
        match self {
            Self::Class => Self::Problems,
            Self::Problems => Self::Size,
            Self::Size => Self::First,
            Self::First => Self::Name,
            Self::Name => Self::Class,
        }
    }

    /// In words.
    pub(super) fn words(self) -> &'static str {
        match self {
            Self::Class => "by class",
            Self::Problems => "most problems first",
            Self::Size => "largest first",
            Self::First => "earliest first",
            Self::Name => "by name",
        }
    }
}

impl BoxView {
    /// Problems in a source, by its place among the sources.
    pub(super) fn problems(&self, cx: &Context, source: usize) -> u64 {
        let members = cx.sources.get(source).map_or(0..0, |source| source.members.clone());
        members.filter_map(|member| self.state.problems.get(member)).sum()
    }

    /// Whether a text has all words that are searched for.
    fn fits(&self, text: &str) -> bool {
        let text = text.to_lowercase();
        self.search.to_lowercase().split_whitespace().all(|word| text.contains(word))
    }

    /// Whether the lines of a host are shown, of so many hosts.
    pub(super) fn is_open(&self, host: &str, hosts: usize) -> bool {
        self.opened.get(host).copied().unwrap_or(hosts <= MOST_OPEN || !self.search.is_empty())
    }

    /// The sources of a host in the order that was chosen.
    fn sort(&self, cx: &Context, sources: &mut [usize]) {
        let of = |index: &usize| &cx.sources[*index];
        match self.order {
            Order::Class => {}
            Order::Problems => sources.sort_by_key(|index| Reverse(self.problems(cx, *index))),
            Order::Size => sources.sort_by_key(|index| Reverse(of(index).bytes)),
            Order::First => sources.sort_by_key(|index| of(index).first.unwrap_or(i64::MAX)),
            Order::Name => sources.sort_by(|one, other| of(one).source.cmp(&of(other).source)),
        }
    }

    /// Puts hosts, classes, sources and findings into the order of the Box view.
    pub(super) fn arrange(&mut self, cx: &Context) {
        let mut hosts: BTreeMap<&str, (HostSums, BTreeMap<usize, Vec<usize>>)> = BTreeMap::new();
        let place = |class: Class| Class::ALL.iter().position(|other| *other == class).unwrap_or(0);
        for (index, source) in cx.sources.iter().enumerate() {
            let host = source.host.as_deref().unwrap_or_default();
            if !self.fits(&format!("{host} {} {}", source.format, source.source)) {
                continue;
            }
            let (sums, classes) = hosts.entry(source.host.as_deref().unwrap_or_default()).or_default();
            sums.sources += 1;
            sums.bytes += source.bytes;
            sums.events += source.events;
            sums.problems += self.problems(cx, index);
            classes.entry(place(class_of(cx, source))).or_default().push(index);
        }
        let state = &self.state;
        // While something is searched for, only what fits is shown.
        for row in state.cover.iter().filter(|_| self.search.is_empty()) {
            hosts.entry(&row.host).or_default().1.entry(place(row.class)).or_default();
        }
        let mut findings: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
        let fits = |finding: &Finding| self.fits(&format!("{} {} {}", finding.host, finding.title, finding.evidence));
        for (index, finding) in state.findings.iter().enumerate().filter(|(_, finding)| fits(finding)) {
            hosts.entry(&finding.host).or_default();
            findings.entry(&finding.host).or_default().push(index);
        }
        if self.search.is_empty() {
            for document in cx.view.case.documents.iter() {
                hosts.entry(&document.host).or_default().0.others += 1;
            }
            for program in cx.view.case.programs.iter() {
                hosts.entry(program.host.as_deref().unwrap_or_default()).or_default().0.others += 1;
            }
        }
        let mut rows = Vec::new();
        if cx.view.case.seal.is_some() && self.search.is_empty() {
            rows.push(BoxRow::Seal);
        }
        let count = hosts.len();
        let mut hosts: Vec<_> = hosts.into_iter().collect();
        match self.order {
            Order::Class | Order::Name => {}
            Order::Problems => hosts.sort_by_key(|(_, (sums, _))| Reverse(sums.problems)),
            Order::Size => hosts.sort_by_key(|(_, (sums, _))| Reverse(sums.bytes)),
            Order::First => {
                let first = |classes: &BTreeMap<usize, Vec<usize>>| {
                    classes.values().flatten().filter_map(|index| cx.sources[*index].first).min().unwrap_or(i64::MAX)
                };
                hosts.sort_by_key(|(_, (_, classes))| first(classes));
            }
        }
        for (host, (sums, classes)) in hosts {
            let is_open = self.is_open(host, count);
            rows.push(BoxRow::Host(HostSums { host: host.to_owned(), is_open, ..sums }));
            if !is_open {
                continue;
            }
            let wrong = self.clocks.iter().enumerate().filter(|(_, one)| one.host == host);
            rows.extend(wrong.filter(|(_, one)| !is_corrected(cx, one)).map(|(index, _)| BoxRow::Clock(index)));
            rows.extend(findings.remove(host).unwrap_or_default().into_iter().map(BoxRow::Finding));
            if self.order != Order::Class {
                let mut sources: Vec<usize> = classes.into_values().flatten().collect();
                self.sort(cx, &mut sources);
                rows.extend(sources.into_iter().map(BoxRow::Source));
                continue;
            }
            for (class, sources) in classes {
                rows.push(BoxRow::Class(host.to_owned(), Class::ALL[class]));
                rows.extend(sources.into_iter().map(BoxRow::Source));
            }
        }
        let left = cx.view.case.left_out.iter().enumerate();
        rows.extend(
            left.filter(|(_, left)| self.fits(&format!("{} {}", left.path, left.reason)))
                .map(|(at, _)| BoxRow::LeftOut(at)),
        );
        self.rows = rows;
    }
}

/// Whether the clock of a suggestion is corrected by about as much already.
fn is_corrected(cx: &Context, one: &Suggestion) -> bool {
    let now = cx.drift().get(&one.host).map_or(0, |drift| drift.add_ns);
    now != 0 && now.abs_diff(one.add_ns) <= 5 * SECOND.unsigned_abs()
}
