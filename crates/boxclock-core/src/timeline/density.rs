//! How much happened when, per host: what the rail and the report's drawing show.

use super::axis::Axis;
use crate::Result;
use crate::clock::ClockCorrection;
use crate::event::{NO_TIME, Table, flag};
use crate::severity::Severity;
use crate::work::{Work, parallel, workers};

/// One slice of one lane.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Cell {
    /// Events.
    pub count: u32,
    /// The worst severity number; bad-looking text without severity counts as warning.
    pub worst: u8,
    /// Crash dumps.
    pub dumps: u32,
    /// Warnings that are no problems.
    pub warnings: u32,
    /// Problems ([`crate::event::EventRef::is_problem`]).
    pub problems: u32,
}

impl Cell {
    fn add(&mut self, other: Self) {
        self.count += other.count;
        self.worst = self.worst.max(other.worst);
        self.dumps += other.dumps;
        self.warnings += other.warnings;
        self.problems += other.problems;
    }
}

/// The density of a time span: one lane per host, cut into the slices of an axis.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Density {
    /// Start of the span, UTC nanoseconds.
    pub from: i64,
    /// End of the span, UTC nanoseconds, inclusive.
    pub to: i64,
    /// Its slices.
    pub axis: Axis,
    /// Numbers of the hosts that have a lane; of sources where [`Lanes::Sources`] was asked for.
    pub hosts: Vec<u32>,
    /// Whether the lanes are sources.
    pub of_sources: bool,
    /// How many hosts (or sources) share one more lane, behind those of [`Self::hosts`]; 0 where each has its own.
    pub others: usize,
    /// Cells: lane by lane.
    pub cells: Vec<Cell>,
}

/// What has a lane of its own.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Lanes {
    /// Each host that has events.
    #[default]
    Hosts,
    /// These sources, by their numbers.
    Sources(Vec<u32>),
}

impl Density {
    /// Slices of each lane.
    pub fn slices(&self) -> usize {
        self.axis.len()
    }

    /// The slice that an instant is in; instants outside are at the ends.
    pub fn slice_of(&self, utc_ns: i64) -> usize {
        self.axis.slice_of(utc_ns)
    }

    /// The instant at which a slice starts.
    pub fn start_of(&self, slice: usize) -> i64 {
        self.axis.start_of(slice)
    }

    /// How long the silence is that is folded into a slice; `None` where nothing is folded.
    pub fn silence(&self, slice: usize) -> Option<i64> {
        self.axis.silence(slice)
    }

    /// The cells of one lane.
    pub fn lane(&self, lane: usize) -> &[Cell] {
        self.cells.get(lane * self.slices()..(lane + 1) * self.slices()).unwrap_or_default()
    }

    /// Number of lanes.
    pub fn lanes(&self) -> usize {
        self.hosts.len() + usize::from(self.others > 0)
    }

    /// With at most `most` lanes: those with the worst keep theirs, in their order; all others share the last one.
    #[must_use]
    pub fn folded(self, most: usize) -> Self {
        self.folded_but(most, &[])
    }

    /// The same, but these hosts (or sources) keep their lanes before all others.
    #[must_use]
    pub fn folded_but(self, most: usize, kept: &[u32]) -> Self {
        if self.hosts.len() <= most {
            return self;
        }
        let badness = |lane: usize| {
            let cells = self.lane(lane).iter();
            let worst = cells.clone().map(|cell| (cell.dumps > 0, cell.worst)).max();
            let is_kept = self.hosts.get(lane).is_some_and(|host| kept.contains(host));
            (is_kept, worst, cells.filter(|cell| cell.worst >= Severity::WARN.0).count())
        };
        let mut order: Vec<usize> = (0..self.hosts.len()).collect();
        // Of equals the first stays first.
        order.sort_by_cached_key(|lane| std::cmp::Reverse(badness(*lane)));
        let (own, others) = order.split_at_mut(most.saturating_sub(1));
        own.sort_unstable();
        let mut cells: Vec<Cell> = own.iter().flat_map(|lane| self.lane(*lane)).copied().collect();
        let mut rest = vec![Cell::default(); self.slices()];
        for lane in others.iter() {
            rest.iter_mut().zip(self.lane(*lane)).for_each(|(sum, cell)| sum.add(*cell));
        }
        cells.extend(rest);
        let hosts = own.iter().map(|lane| self.hosts[*lane]).collect();
        Self { hosts, others: others.len(), cells, ..self }
    }

    /// The largest count of any cell.
    pub fn peak(&self) -> u32 {
        self.cells.iter().map(|cell| cell.count).max().unwrap_or(0)
    }
}

/// As [`density_by`], with a lane for each host that has events and equal slices.
///
/// # Errors
/// When cancelled.
pub fn density(table: &Table, from: i64, to: i64, slices: usize, work: &Work) -> Result<Density> {
    density_by(table, &Lanes::Hosts, Axis::even((from, to), slices), work)
}

/// Counts the rows of an ordered list between `from` and `to` into slices: where hits are in the whole span.
pub fn counts_of(table: &Table, shape: &Density, rows: impl Iterator<Item = u32>) -> Vec<u32> {
    let mut counts = vec![0_u32; shape.slices()];
    for row in rows {
        if let Some(time) = table.event(crate::event::Row(row)).time()
            && time >= shape.from
            && time <= shape.to
            && let Some(count) = counts.get_mut(shape.slice_of(time))
        {
            *count += 1;
        }
    }
    counts
}

/// Counts the events of the span of an axis into its slices, for each lane. Uses all cores.
///
/// # Errors
/// When cancelled.
pub fn density_by(table: &Table, lanes: &Lanes, axis: Axis, work: &Work) -> Result<Density> {
    let slices = axis.len().max(1);
    let (from, to) = axis.span();
    let hosts = match lanes {
        Lanes::Hosts => hosts_with_events(table),
        Lanes::Sources(sources) => sources.clone(),
    };
    let of_sources = matches!(lanes, Lanes::Sources(_));
    let lane_of: Vec<usize> =
        (0..table.hosts.len() as u32).map(|host| hosts.iter().position(|other| *other == host).unwrap_or(0)).collect();
    let lane_of_actor: Vec<usize> = table.actors.iter().map(|actor| lane_of[actor.host as usize]).collect();
    let shape = Density { from, to, axis, hosts, of_sources, others: 0, cells: Vec::new() };
    let cells = shape.hosts.len() * slices;
    // Each group has cells of its own: few groups, or thousands of lanes would take much memory.
    let group_parts = table.parts.len().div_ceil(workers() * 4).max(64);
    let groups = parallel(table.parts.len().div_ceil(group_parts), work, |group| {
        let mut counted = vec![Cell::default(); cells];
        for part in table.parts.iter().skip(group * group_parts).take(group_parts) {
            let segment = &part.segment;
            let own_lane = shape.hosts.iter().position(|source| *source == segment.source);
            if of_sources && own_lane.is_none() {
                continue;
            }
            let place: Vec<(usize, ClockCorrection)> = part
                .actor_ids
                .iter()
                .map(|id| {
                    let by_host = || lane_of_actor[*id as usize];
                    let lane = if of_sources { own_lane.unwrap_or(0) } else { by_host() };
                    (lane * slices, table.drift_of(part.segment.source, *id))
                })
                .collect();
            let columns =
                segment.times.iter().zip(&segment.actor_ids).zip(segment.severities.iter().zip(&segment.flags));
            let escalated = table.escalated(part);
            // Events next to each other are mostly of one slice: it is not searched for again.
            let (mut slice, mut range) = (0, (i64::MAX, i64::MIN));
            for (index, ((time, actor), (severity, flags))) in columns.enumerate() {
                let (lane, drift) = place[usize::from(*actor)];
                let time = drift.correct(*time);
                if time < from || time > to || time == NO_TIME {
                    continue;
                }
                if time < range.0 || time >= range.1 {
                    slice = shape.axis.slice_of(time);
                    range = shape.axis.range_of(slice);
                }
                let cell = &mut counted[lane + slice];
                cell.count += 1;
                let bad = flags & flag::SUSPECT != 0
                    || (flags & flag::HAS_CODE != 0 && escalated.binary_search(&(index as u16)).is_ok());
                let severity = if bad { (*severity).max(Severity::WARN.0) } else { *severity };
                cell.worst = cell.worst.max(severity);
                let is_dump = flags & flag::DUMP != 0;
                cell.dumps += u32::from(is_dump);
                let is_problem = bad || is_dump || severity >= Severity::ERROR.0;
                cell.problems += u32::from(is_problem);
                cell.warnings += u32::from(!is_problem && severity >= Severity::WARN.0);
            }
        }
        counted
    });
    work.check()?;
    let mut total = vec![Cell::default(); cells];
    for (sum, cell) in groups.iter().flat_map(|group| group.iter().enumerate()) {
        total[sum].add(*cell);
    }
    Ok(Density { cells: total, ..shape })
}

/// The hosts that have at least one actor, by first appearance.
fn hosts_with_events(table: &Table) -> Vec<u32> {
    let mut seen = vec![false; table.hosts.len()];
    let mut hosts = Vec::new();
    for actor in table.parts.iter().flat_map(|part| part.actor_ids.iter()) {
        let host = table.actors[*actor as usize].host;
        if !std::mem::replace(&mut seen[host as usize], true) {
            hosts.push(host);
        }
    }
    hosts
}
