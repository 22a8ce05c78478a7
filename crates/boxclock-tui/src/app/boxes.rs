//! The lines of the Box view: hosts, what checks and clocks say of them, classes, sources, what was left out.

use std::collections::BTreeMap;

use boxclock_core::clock::SECOND;
use boxclock_core::gather::recipe::Class;
use boxclock_core::report::sources::SourceOut;
use boxclock_core::timeline::drift::Suggestion;

use super::{App, BoxRow, HostSums};

impl App {
    /// What a source is for.
    pub fn class_of(&self, source: &SourceOut) -> Class {
        let last = self.case.sources.get(source.members.end.saturating_sub(1));
        last.and_then(|source| source.class).unwrap_or(Class::Application)
    }

    /// Puts hosts, classes, sources and findings into the order of the Box view.
    pub fn arrange_box(&mut self) {
        let mut hosts: BTreeMap<&str, (HostSums, BTreeMap<usize, Vec<usize>>)> = BTreeMap::new();
        let place = |class: Class| Class::ALL.iter().position(|other| *other == class).unwrap_or(0);
        for (index, source) in self.sources.iter().enumerate() {
            let (sums, classes) = hosts.entry(source.host.as_deref().unwrap_or_default()).or_default();
            sums.sources += 1;
            sums.bytes += source.bytes;
            sums.events += source.events;
            classes.entry(place(self.class_of(source))).or_default().push(index);
        }
        for row in &self.box_state.cover {
            hosts.entry(&row.host).or_default().1.entry(place(row.class)).or_default();
        }
        let mut findings: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
        for (index, finding) in self.box_state.findings.iter().enumerate() {
            hosts.entry(&finding.host).or_default();
            findings.entry(&finding.host).or_default().push(index);
        }
        for document in self.case.documents.iter() {
            hosts.entry(&document.host).or_default().0.others += 1;
        }
        let mut rows = Vec::new();
        for (host, (sums, classes)) in hosts {
            rows.push(BoxRow::Host(HostSums { host: host.to_owned(), ..sums }));
            let wrong = self.box_state.drift.iter().enumerate().filter(|(_, one)| one.host == host);
            rows.extend(wrong.filter(|(_, one)| !self.is_corrected(one)).map(|(index, _)| BoxRow::Drift(index)));
            rows.extend(findings.remove(host).unwrap_or_default().into_iter().map(BoxRow::Finding));
            for (class, sources) in classes {
                rows.push(BoxRow::Class(host.to_owned(), Class::ALL[class]));
                rows.extend(sources.into_iter().map(BoxRow::Source));
            }
        }
        rows.extend((0..self.case.left_out.len()).map(BoxRow::LeftOut));
        self.box_rows = rows;
    }

    /// Whether the clock of a suggestion is corrected by about as much already.
    pub fn is_corrected(&self, one: &Suggestion) -> bool {
        let now = self.drift.get(&one.host).map_or(0, |drift| drift.add_ns);
        now != 0 && now.abs_diff(one.add_ns) <= 5 * SECOND.unsigned_abs()
    }
}
