//! What hosts share: the same text or identifier, rarely and about as often on each of two hosts.

use std::collections::{BTreeMap, HashMap};

use rustc_hash::FxHashMap;

use super::{ClockPiece, Edge, Ground, Offset, Sample, offset};
use crate::analysis::{CaseView, Pieces};
use crate::event::{NO_TIME, Row, Table};
use crate::work::{Work, parallel};

/// Texts or identifiers of several hosts that are compared; more of them say no more.
const MAX_SHARED: usize = 50_000;
/// What a host has more often is no mark of one moment.
pub(super) const MAX_TIMES: u32 = 8;
/// Hosts of one text or identifier that are compared with each other.
const MAX_HOSTS_OF_ONE: usize = 32;

/// What two hosts share, by the numbers of host and other host: the same text or identifier, once on each.
type Pairs = HashMap<(u32, u32), Vec<SharedPair>>;

/// One text or identifier on two hosts: corrected times.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct SharedPair {
    /// The time here minus that there, nanoseconds.
    pub(super) ahead_ns: i64,
    pub(super) here: (Row, i64),
    pub(super) there: (Row, i64),
}

pub(super) struct Shared {
    /// Sources of each host.
    pub(super) sources: BTreeMap<u32, usize>,
    messages: Pairs,
    identifiers: Pairs,
    numbers: Pairs,
}

impl Shared {
    /// The hosts that can be compared: by messages, else by identifiers, else by plain numbers.
    pub(super) fn edges(&self, work: &Work) -> crate::Result<Vec<Edge>> {
        let mut of_pair: BTreeMap<(u32, u32), (Ground, Offset)> = BTreeMap::new();
        let grounds = [
            (Ground::SameMessage, &self.messages),
            (Ground::SameIdentifier, &self.identifiers),
            (Ground::SameIdentifier, &self.numbers),
        ];
        for (ground, pairs) in grounds {
            for (pair, shared) in pairs {
                work.check()?;
                if !of_pair.contains_key(pair)
                    && let Some(offset) = offset(shared)
                {
                    of_pair.insert(*pair, (ground, offset));
                }
            }
        }
        let edge = |((host, against), (ground, offset))| Edge { host, against, ground, offset };
        Ok(of_pair.into_iter().map(edge).collect())
    }

    /// What the hosts share; `None` where there is one host at most.
    pub(super) fn of(view: &CaseView, pieces: &Pieces<'_, ClockPiece>, work: &Work) -> crate::Result<Option<Self>> {
        let table = &view.loaded.table;
        let mut sources: BTreeMap<u32, Vec<u32>> = BTreeMap::new();
        for part in &table.parts {
            for actor in part.actor_ids.iter() {
                let host = table.actors[*actor as usize].host;
                let of_host = sources.entry(host).or_default();
                if host > 0 && of_host.last() != Some(&part.segment.source) {
                    of_host.push(part.segment.source);
                }
            }
        }
        sources.remove(&0);
        let sources: BTreeMap<u32, usize> = sources.into_iter().map(|(host, sources)| (host, sources.len())).collect();
        if sources.len() < 2 {
            return Ok(None);
        }
        let of_parts = parallel(table.parts.len(), work, |part| pieces.of_part(part));
        work.check()?;
        let of_parts = of_parts.into_iter().collect::<crate::Result<Vec<_>>>()?;
        let kinds: [fn(&ClockPiece) -> &Sample; 3] =
            [|piece| &piece.messages, |piece| &piece.identifiers, |piece| &piece.numbers];
        let mut found = parallel(kinds.len(), work, |kind| {
            let samples: Vec<&Sample> = of_parts.iter().map(kinds[kind]).collect();
            pairs(table, &samples, &sources)
        })
        .into_iter();
        work.check()?;
        let mut next = || found.next().unwrap_or_default();
        let (messages, identifiers, numbers) = (next(), next(), next());
        Ok(Some(Self { sources, messages, identifiers, numbers }))
    }
}

/// A text or identifier of a part: hash, host, row, corrected time, and how often.
type Placed = (u64, u32, Row, i64, u32);

/// Those of a part's texts or identifiers that `counts` (by hash and host) lets through.
fn placed(table: &Table, part: usize, sample: &Sample, counts: impl Fn(u64, u32) -> bool) -> Vec<Placed> {
    let part = &table.parts[part];
    let placed = sample.seen.iter().filter_map(|(hash, event, count)| {
        let actor = *part.segment.actor_ids.get(usize::from(*event))?;
        let actor = part.actor_ids[usize::from(actor)];
        let host = table.actors[actor as usize].host;
        if host == 0 || !counts(*hash, host) {
            return None;
        }
        let time = *part.segment.times.get(usize::from(*event))?;
        let corrected = || table.drift_of(part.segment.source, actor).correct(time);
        (time != NO_TIME).then(|| (*hash, host, Row(part.first_row + u32::from(*event)), corrected(), *count))
    });
    placed.collect()
}

/// A sieve for hashes that stand on several hosts. Almost all stand on one, and need neither be placed nor sorted.
struct Several {
    /// By the lowest bits of a hash: 0 for none, the number of the one host, or `SEVERAL`.
    host_of: Vec<u16>,
    /// Hashes of which another host had the place before: about as many as stand on several.
    hits: usize,
}

impl Several {
    const SEVERAL: u16 = u16::MAX;

    /// The sieve of the hashes up to `bound`.
    fn of(table: &Table, samples: &[&Sample], bound: u64) -> Self {
        let hashes: usize = samples.iter().map(|sample| sample.seen.len()).sum();
        let places = (hashes * 2).next_power_of_two().clamp(1 << 10, 1 << 23);
        let mut found = Self { host_of: vec![0; places], hits: 0 };
        for (part, sample) in table.parts.iter().zip(samples) {
            // Hosts beyond the numbers of the sieve pass it always.
            let host_of = |actor: &u32| u16::try_from(table.actors[*actor as usize].host).unwrap_or(Self::SEVERAL);
            let hosts: Vec<u16> = part.actor_ids.iter().map(host_of).collect();
            // They stand in order of their hashes.
            for (hash, event, _) in sample.seen.iter().take_while(|(hash, ..)| *hash <= bound) {
                let Some(actor) = part.segment.actor_ids.get(usize::from(*event)) else { continue };
                let host = hosts[usize::from(*actor)];
                let at = found.place(*hash);
                let slot = &mut found.host_of[at];
                let is_first = *slot == 0 || *slot == host;
                *slot = if is_first { host } else { Self::SEVERAL };
                found.hits += usize::from(!is_first);
            }
        }
        found
    }

    fn place(&self, hash: u64) -> usize {
        hash as usize & (self.host_of.len() - 1)
    }

    /// Whether it may stand on several hosts; if not, it does not.
    fn may_have(&self, hash: u64) -> bool {
        self.host_of[self.place(hash)] == Self::SEVERAL
    }
}

/// Pairs of hosts that have the same, each of them rarely and about as often.
fn pairs(table: &Table, samples: &[&Sample], sources: &BTreeMap<u32, usize>) -> Pairs {
    // What one part of a host left out may stand in it more often than is known.
    let mut complete: FxHashMap<u32, u64> = FxHashMap::default();
    for (part, sample) in table.parts.iter().zip(samples) {
        for actor in part.actor_ids.iter() {
            let of_host = complete.entry(table.actors[*actor as usize].host).or_insert(u64::MAX);
            *of_host = (*of_host).min(sample.complete_up_to);
        }
    }
    // What two hosts share is known on both: no hash above the second highest bound counts.
    let mut bounds: Vec<u64> = complete.values().copied().collect();
    bounds.sort_unstable_by_key(|bound| std::cmp::Reverse(*bound));
    let Some(bound) = bounds.get(1).copied() else { return Pairs::new() };
    let on_several = Several::of(table, samples, bound);
    // So many that stand on several hosts are enough: the smaller hashes are a fair sample.
    let bound = if on_several.hits > MAX_SHARED {
        (u128::from(bound) * MAX_SHARED as u128 / on_several.hits as u128) as u64
    } else {
        bound
    };
    let counts = |hash: u64, host: u32| {
        hash <= bound && on_several.may_have(hash) && complete.get(&host).is_some_and(|complete| hash <= *complete)
    };
    let mut all: Vec<Placed> =
        samples.iter().enumerate().flat_map(|(part, sample)| placed(table, part, sample, counts)).collect();
    // The first of each host stands first.
    all.sort_unstable_by_key(|(hash, host, row, ..)| (*hash, *host, *row));
    let weight = |host: u32| (std::cmp::Reverse(sources.get(&host).copied().unwrap_or(0)), host);
    let mut pairs: Pairs = Pairs::new();
    for same in all.chunk_by(|one, other| one.0 == other.0) {
        let of_hosts = same.chunk_by(|one, other| one.1 == other.1).map(|of_host| {
            let (_, host, row, time, _) = of_host[0];
            (host, (row, time), of_host.iter().map(|(.., count)| *count).sum::<u32>())
        });
        let mut of_hosts: Vec<_> = of_hosts.filter(|(.., count)| *count <= MAX_TIMES).collect();
        of_hosts.sort_by_key(|(host, ..)| weight(*host));
        of_hosts.truncate(MAX_HOSTS_OF_ONE);
        for (at, (against, there, often)) in of_hosts.iter().enumerate() {
            for (host, here, _) in of_hosts.iter().skip(at + 1).filter(|(.., count)| count.abs_diff(*often) <= 6) {
                let pair = SharedPair { ahead_ns: here.1.saturating_sub(there.1), here: *here, there: *there };
                pairs.entry((*host, *against)).or_default().push(pair);
            }
        }
    }
    pairs
}
