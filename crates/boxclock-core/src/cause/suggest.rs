//! From the symptom backwards: what leads to it, how well, and what of that can be the root.

use std::collections::{HashMap, HashSet};

use super::link::{Link, Links, Why, recovered, shared};
use super::signs::{RARE, Sign, SignKind, Signs};
use super::wording::{self, Class};
use super::words::words_of;
use super::{MOST_ROOTS, Suggestion};
use crate::analysis::CaseView;
use crate::clock::{HOUR, MINUTE, SECOND};
use crate::event::RecordReader;

mod telling;
mod ways;

/// Scores below this are no proof.
const UNPROVEN: f64 = 0.05;
/// A change that nothing but the name of a program or host, or the moment, ties to the symptom is a root from here on only.
const SURE_ALONE: f64 = 0.6;
/// A change counts before other trouble, unless that scores this many times as much.
const CHANGE_FIRST: f64 = 2.0;
/// How much trouble counts that was there when the story says that all was well.
const WHILE_ALL_WAS_WELL: f64 = 0.6;
/// How much trouble counts for the symptom of which as much came while all was well.
const NO_NEWS: f64 = 0.35;
/// How much a word of the story counts for the symptom where a change names it too.
const BLAMED_SHARE: f64 = 0.4;

/// How much what happened once and names what then is trouble can be a root, where its words tell of no change; and how surely it has to
/// name that.
const OCCURRENCE: f64 = 0.6;
const NAMES_TROUBLE: f64 = 0.6;

/// What is known of a sign as a step to the symptom.
#[derive(Clone, Default)]
struct Step {
    /// How well it leads to the symptom, 0 to 1.
    reach: f64,
    /// By which later sign, how well, and why.
    next: Option<(usize, f64, Why)>,
    /// Whether nothing but a name or the moment ties it to that.
    by_name_alone: bool,
}

struct Search<'a> {
    view: &'a CaseView,
    signs: &'a Signs,
    links: Links<'a>,
    steps: Vec<Step>,
    /// Changes to what the case does not speak of.
    unrelated: Vec<bool>,
    /// Changes to what the story says was undone or tried, and changed nothing.
    tried: Vec<bool>,
    /// Trouble of a kind that came about as often while all was well.
    no_news: Vec<bool>,
    /// When the symptom came.
    symptom_time: i64,
}

/// The suggestions for a case, the best first.
pub(super) fn suggest(view: &CaseView, signs: &Signs) -> Vec<Suggestion> {
    let mut search = Search {
        view,
        signs,
        links: Links::new(signs, busy(view, signs)),
        steps: vec![Step::default(); signs.list.len()],
        unrelated: Vec::new(),
        tried: Vec::new(),
        no_news: no_news(view, signs),
        symptom_time: i64::MAX,
    };
    let Some(symptom) = search.symptoms() else { return Vec::new() };
    search.symptom_time = signs.list[symptom].time;
    search.judge_changes();
    search.reach_back();
    let found = search.suggestions(symptom);
    if found.first().is_some_and(|first| first.provable) || !search.count_occurrences() {
        return found;
    }
    search.suggestions(symptom)
}

/// What the members of a kind have in common, of a name that ends in a letter or number of its own: `link-` of `link-a`.
fn member_of(name: &str) -> Option<&str> {
    const LONGEST: usize = 2;
    let at = name.rfind(['-', '_'])?;
    let (stem, member) = name.split_at_checked(at + 1)?;
    let is_member = (1..=LONGEST).contains(&member.len()) && member.bytes().all(|byte| byte.is_ascii_alphanumeric());
    (is_member && stem.bytes().filter(u8::is_ascii_alphabetic).count() >= 3).then_some(stem)
}

/// For each sign, whether its kind came about as often while the story says that all was well.
fn no_news(view: &CaseView, signs: &Signs) -> Vec<bool> {
    // Nights are quiet: by day a kind comes some times as often as on the whole.
    const MORE: f64 = 6.0;
    let told_at = super::told_at(view);
    let good = super::told(&view.case.story.last_good, view).map(|good| good.from).filter(|good| *good < told_at);
    let (Some((begin, _)), Some(good)) = (view.loaded.table.span, good) else { return vec![false; signs.list.len()] };
    let hours = |from: i64, to: i64| to.saturating_sub(from).max(MINUTE) as f64 / HOUR as f64;
    let is_none = |sign: &Sign| {
        let before = sign.while_well as f64 / hours(begin, good);
        let after = sign.count.saturating_sub(sign.while_well) as f64 / hours(good, told_at);
        sign.while_well > RARE && after < MORE * before
    };
    signs.list.iter().map(is_none).collect()
}

/// When each source of a sign wrote something, in ascending order.
fn busy(view: &CaseView, signs: &Signs) -> HashMap<usize, Vec<i64>> {
    let mut busy: HashMap<usize, Vec<i64>> = HashMap::new();
    for sign in &signs.list {
        busy.entry(sign.source).or_insert_with(|| {
            let table = &view.loaded.table;
            let mut times: Vec<i64> = table.rows_of(sign.source).filter_map(|row| table.event(row).time()).collect();
            times.sort_unstable();
            times
        });
    }
    busy
}

impl Search<'_> {
    fn known(&self, text: &str) -> HashSet<u32> {
        words_of(text).iter().filter_map(|word| self.signs.lexicon.known(word)).collect()
    }

    /// Where the story meets trouble. Sets how well each sign fits it, and gives the best.
    fn symptoms(&mut self) -> Option<usize> {
        let story = &self.view.case.story;
        let told =
            self.known(&[&story.title, &story.happened, &story.impact, &story.expected].map(String::as_str).join(" "));
        let affected = self.known(&story.affected);
        let told_at = super::told_at(self.view);
        let since = super::told(&story.since, self.view);
        // What a change names is what people blame, and not what they see.
        let blamed: HashSet<u32> = self
            .signs
            .list
            .iter()
            .filter(|sign| sign.change >= 0.8 && sign.bad < 0.5 && sign.kind == SignKind::Once)
            .flat_map(|sign| sign.words.iter().copied())
            .filter(|id| told.contains(id) && !affected.contains(id))
            .collect();
        let mut found: Vec<(usize, f64)> = Vec::new();
        // Where nobody says what failed, only what is an error, or new and lasting, is taken for it.
        let is_told =
            [&story.title, &story.happened, &story.impact, &story.affected].iter().any(|text| !text.is_empty());
        let is_symptom = |sign: &Sign| sign.bad >= if is_told || sign.kind == SignKind::Onset { 0.5 } else { 1.0 };
        for (at, sign) in self.signs.list.iter().enumerate().filter(|(_, sign)| is_symptom(sign)) {
            let fits = |with: &HashSet<u32>| -> f64 {
                let share = |id: &u32| if blamed.contains(id) { BLAMED_SHARE } else { 1.0 };
                sign.words.iter().filter(|id| with.contains(id)).map(|id| self.links.weight(*id) * share(id)).sum()
            };
            let hours = told_at.saturating_sub(sign.time).max(0) as f64 / HOUR as f64;
            let near_since =
                since.map_or(0.0, |since| 0.3 / (1.0 + since.apart(sign.time) as f64 / (30 * MINUTE) as f64));
            // What then comes again and again is what people see.
            let again = ((sign.count.max(1) as f64).ln() * 0.12).min(0.6);
            let new = if sign.kind == SignKind::Onset { 0.3 } else { 0.0 };
            let fit = fits(&told).min(12.0) * 0.07 + fits(&affected).min(14.0) * 0.12;
            let sum = fit + 1.0 / (1.0 + 0.25 * hours) + near_since + again + new;
            let news = if self.no_news[at] { NO_NEWS } else { 1.0 };
            found.push((at, sum * (0.5 + 0.5 * sign.bad) * news));
        }
        found.sort_by(|a, b| b.1.total_cmp(&a.1).then(a.0.cmp(&b.0)));
        found.truncate(6);
        let (best, best_fit) = found.first().copied()?;
        for (at, fit) in found {
            self.steps[at].reach = (fit / best_fit).powi(2);
        }
        // What the story names by an identifier of its own is a symptom too.
        let lexicon = &self.signs.lexicon;
        let is_identifier = |id: &u32| {
            let word = lexicon.word(*id);
            self.links.weight(*id) > 2.0
                && word.contains(|letter: char| letter.is_ascii_digit() || letter == '.' || letter == '-')
        };
        let identifiers: HashSet<u32> = affected.into_iter().filter(is_identifier).collect();
        for (sign, step) in self.signs.list.iter().zip(&mut self.steps) {
            let component = sign.component.to_lowercase();
            let names = sign.words.iter().any(|id| identifiers.contains(id))
                || identifiers.iter().any(|id| lexicon.word(*id) == component);
            if sign.bad >= 0.5 && names && matches!(sign.kind, SignKind::Named | SignKind::Onset | SignKind::Once) {
                step.reach = step.reach.max(0.55);
            }
        }
        Some(best)
    }

    /// How much each sign can be a root, now that the symptom is known.
    fn judge_changes(&mut self) {
        let signs = &self.signs.list;
        let mut involved: HashSet<u32> = HashSet::new();
        for (sign, step) in signs.iter().zip(&self.steps) {
            let lasts = matches!(sign.kind, SignKind::Onset | SignKind::Named | SignKind::Shift);
            if step.reach > 0.0 || sign.bad >= 0.5 && lasts || sign.kind == SignKind::Shift {
                involved.extend(sign.words.iter().chain(&sign.identity));
            }
        }
        let recovered = recovered(signs);
        self.unrelated = signs
            .iter()
            .map(|sign| {
                let objects = &sign.objects;
                let is_none_involved = !objects.iter().any(|id| self.is_involved(*id, &involved));
                !objects.is_empty() && (is_none_involved || self.are_siblings(objects, &involved))
            })
            .collect();
        let in_vain = self.tried_words();
        let tried = |sign: &Sign| sign.bad < 0.5 && sign.words.iter().any(|id| in_vain.contains(id));
        self.tried = signs.iter().map(tried).collect();
        let judged = signs.iter().zip(&recovered).zip(&self.unrelated).map(|((sign, recovered), unrelated)| {
            sign.change * if *recovered { 0.3 } else { 1.0 } * if *unrelated { 0.35 } else { 1.0 }
        });
        self.links.change = judged.collect();
    }

    /// Whether something is spoken of, by its name or by all parts of it: the unit `gate-sync` by the log `gate/sync.out`.
    fn is_involved(&self, id: u32, involved: &HashSet<u32>) -> bool {
        let lexicon = &self.signs.lexicon;
        let mut parts = lexicon.word(id).split(['-', '_']).peekable();
        let first = parts.next();
        let is_known = |part: &str| lexicon.known(part).is_some_and(|part| involved.contains(&part));
        involved.contains(&id) || parts.peek().is_some() && first.into_iter().chain(parts).all(is_known)
    }

    /// Whether what was changed is one of several of a kind, and the trouble is about another: `link-c.conf` and `link-a`.
    fn are_siblings(&self, objects: &[u32], involved: &HashSet<u32>) -> bool {
        let lexicon = &self.signs.lexicon;
        let named: Vec<&str> = objects.iter().filter_map(|id| lexicon.word(*id).split('.').next()).collect();
        let stems: HashSet<&str> = named.iter().filter_map(|name| member_of(name)).collect();
        if stems.is_empty() {
            return false;
        }
        let members = involved
            .iter()
            .map(|id| lexicon.word(*id))
            .filter(|word| member_of(word).is_some_and(|stem| stems.contains(stem)));
        let mut members = members.peekable();
        members.peek().is_some() && members.all(|member| !named.contains(&member))
    }

    /// Telling words of what the story says was undone or tried in vain, and says nowhere else.
    fn tried_words(&self) -> HashSet<u32> {
        let story = &self.view.case.story;
        let sentences = wording::tried_in_vain(&story.happened);
        let mut rest = [&story.title, &story.happened, &story.impact, &story.affected].map(String::as_str).join(" . ");
        for sentence in &sentences {
            rest = rest.replace(sentence, " ");
        }
        let elsewhere = self.known(&rest);
        let words = self.known(&sentences.join(" "));
        words.into_iter().filter(|id| !elsewhere.contains(id) && self.links.weight(*id) >= 2.0).collect()
    }

    /// From the last sign to the first: by which later one it leads to the symptom best.
    fn reach_back(&mut self) {
        let list = &self.signs.list;
        let good = super::told(&self.view.case.story.last_good, self.view);
        // Trouble that was there while all was well is hardly on the way.
        let was_harmless = |sign: &Sign| {
            sign.bad >= 0.5
                && sign.class != Class::State
                && good.is_some_and(|good| sign.time < good.from && good.from < self.symptom_time)
        };
        for at in (0..list.len()).rev() {
            let sign = &list[at];
            for (later, other) in list.iter().enumerate().skip(at + 1) {
                let after = self.steps[later].reach;
                if after < 0.03 || after <= self.steps[at].reach {
                    continue;
                }
                // What a person does has its cause in what that person saw, and not in another change.
                if matches!(other.class, Class::Person | Class::Deed) && sign.bad < 0.5 {
                    continue;
                }
                let Some(link) = self.link(at, later) else { continue };
                let is_plain = other.bad < 0.3 && self.links.change[later] < 0.3 && other.kind == SignKind::Once;
                if link.strength < if is_plain { 0.4 } else { 0.2 } {
                    continue;
                }
                // What comes soon follows more likely; what lasts is still there.
                let minutes = other.time.saturating_sub(sign.until).max(0) as f64 / MINUTE as f64;
                let soon = 1.0 / (1.0 + 0.03 * (1.0 + minutes).ln());
                let reach = after
                    * (0.1 + 0.9 * link.strength)
                    * soon
                    * 0.97
                    * (0.6 + 0.4 * self.standing(later))
                    * if was_harmless(other) || was_harmless(sign) { WHILE_ALL_WAS_WELL } else { 1.0 };
                if reach > self.steps[at].reach {
                    self.steps[at] =
                        Step { reach, next: Some((later, link.strength, link.why)), by_name_alone: link.by_name_alone };
                }
            }
        }
    }

    /// What happened once, was no trouble, and names what then is trouble, can be a root whatever its words: nobody knows all words by
    /// which programs tell of a change. Gives whether there is any.
    fn count_occurrences(&mut self) -> bool {
        let mut is_any = false;
        for at in 0..self.signs.list.len() {
            let sign = &self.signs.list[at];
            let is_plain = sign.kind == SignKind::Once && sign.count == 1 && sign.bad < 0.5;
            let is_untold = matches!(sign.class, Class::None | Class::Done);
            let names_trouble = || {
                let Some((next, strength, Why::Names(word))) = &self.steps[at].next else { return false };
                let next = &self.signs.list[*next];
                // What a log says of one thing is its work, unless that is a file.
                let is_work = next.source == sign.source && !self.signs.lexicon.word(*word).contains('/');
                *strength >= NAMES_TROUBLE && next.bad >= 0.5 && !is_work
            };
            if is_plain && is_untold && names_trouble() {
                self.links.change[at] = self.links.change[at].max(OCCURRENCE);
                is_any = true;
            }
        }
        is_any
    }

    fn link(&self, at: usize, later: usize) -> Option<Link> {
        self.links.between(at, later)
    }

    /// How surely a sign means something.
    fn standing(&self, at: usize) -> f64 {
        let sign = &self.signs.list[at];
        match sign.kind {
            SignKind::Onset => 1.0,
            SignKind::Shift => 0.95,
            SignKind::Named => 0.9,
            SignKind::Package => 0.6,
            SignKind::Once if sign.bad >= 0.5 || self.links.change[at] >= 0.4 => 0.7,
            SignKind::Once => 0.35,
        }
    }

    /// How much each sign is the root, for those that lead to the symptom.
    fn scores(&self) -> Vec<(f64, usize)> {
        let list = &self.signs.list;
        let best = self.steps.iter().map(|step| step.reach).fold(0.0, f64::max);
        let first_trouble = list
            .iter()
            .zip(&self.steps)
            .zip(&self.links.change)
            .filter(|((sign, step), change)| {
                let lasts = matches!(sign.kind, SignKind::Onset | SignKind::Named | SignKind::Shift);
                sign.bad >= 0.5 && **change < 0.8 && step.reach >= 0.4 * best && lasts
            })
            .map(|((sign, _), _)| sign.time)
            .min();
        let explained = self.explained();
        let times_of_kind = self.times_of_kinds();
        let mut scores = Vec::new();
        for (at, sign) in list.iter().enumerate() {
            if self.steps[at].next.is_none() {
                continue;
            }
            let rare = match (sign.kind, sign.count) {
                (SignKind::Package, _) => 0.8,
                (SignKind::Onset | SignKind::Shift, _) => 0.7,
                (SignKind::Named, _) => 0.5,
                (SignKind::Once, 1) => 1.0,
                (SignKind::Once, 2) => 0.85,
                (SignKind::Once, 3) => 0.7,
                (SignKind::Once, _) => 0.6,
            };
            let as_change = match sign.bad {
                _ if sign.class == Class::Incomplete => 1.0,
                // Programs start all the time, and most often because of something else.
                _ if sign.class == Class::Start => 0.65,
                bad if bad < 0.5 => 1.0,
                bad if bad < 0.7 => 0.7,
                _ => 0.5,
            };
            let role = 0.12 + 0.88 * f64::max(self.links.change[at] * as_change, 0.35 * sign.bad);
            // What came after the first trouble did not cause it; what has a cause itself is not the root.
            let late = first_trouble.is_some_and(|first| sign.time > first.saturating_add(MINUTE));
            let score = self.steps[at].reach
                * rare
                * role
                * if late { 0.5 } else { 1.0 }
                * if self.is_repeated(at, &times_of_kind) { 0.5 } else { 1.0 }
                * if sign.kind == SignKind::Once && sign.while_well > 1 { 0.5 } else { 1.0 }
                * if self.is_chance(at) { 0.5 } else { 1.0 }
                * if self.tried[at] { 0.3 } else { 1.0 }
                // A state that came with the symptom is a part of it.
                * if sign.class == Class::State && self.came_with_next(at) { 0.5 } else { 1.0 }
                * explained.get(&at).copied().unwrap_or(1.0);
            scores.push((score, at));
        }
        scores.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(&b.1)));
        scores
    }

    /// When each kind of message came on each host, among the signs.
    fn times_of_kinds(&self) -> HashMap<(u32, u32), Vec<i64>> {
        let mut times: HashMap<(u32, u32), Vec<i64>> = HashMap::new();
        for sign in &self.signs.list {
            times.entry((sign.host, sign.message)).or_default().push(sign.time);
        }
        times
    }

    /// Whether a change of the same kind was made at another time before the symptom, hours apart, and all went on: what recurs on
    /// healthy days is no root.
    fn is_repeated(&self, at: usize, times: &HashMap<(u32, u32), Vec<i64>>) -> bool {
        const APART: i64 = 6 * HOUR;
        let sign = &self.signs.list[at];
        let others = times.get(&(sign.host, sign.message)).map(Vec::as_slice).unwrap_or_default();
        sign.kind == SignKind::Once
            && matches!(sign.class, Class::Change | Class::Person | Class::Start | Class::Done)
            && others
                .iter()
                .any(|other| sign.time.abs_diff(*other) > APART.unsigned_abs() && *other < self.symptom_time)
    }

    /// Whether a sign is a change or a lasting state, and not just trouble.
    fn can_be_root(&self, at: usize) -> bool {
        let (sign, change) = (&self.signs.list[at], self.links.change[at]);
        match sign.class {
            Class::Incomplete => change >= 0.6,
            // A state that lasts, and is trouble itself: full, expired.
            Class::State => change >= if sign.bad < 0.5 { 0.6 } else { 0.75 },
            _ => change >= 0.6 && sign.bad < 0.7,
        }
    }

    /// Signs that a change before them explains, and what share of their score is left to them.
    fn explained(&self) -> HashMap<usize, f64> {
        const BY_A_CHANGE: f64 = 0.6;
        const BY_ITS_VERSION: f64 = 0.35;
        let list = &self.signs.list;
        let mut explained = HashMap::new();
        for (at, sign) in list.iter().enumerate() {
            let is_change = self.links.change[at] >= 0.8
                && sign.bad < 0.7
                && !matches!(sign.class, Class::State | Class::Deed | Class::Done)
                && !self.unrelated[at];
            let mut step = &self.steps[at];
            for _ in 0..3 {
                let Some((next, ..)) = step.next.as_ref().filter(|(_, strength, _)| is_change && *strength >= 0.5)
                else {
                    break;
                };
                let other = &list[*next];
                let is_effect =
                    other.bad >= 0.5 || matches!(other.class, Class::State | Class::Incomplete | Class::Start);
                if is_effect || self.links.change[*next] < 0.8 {
                    explained.insert(*next, BY_A_CHANGE);
                }
                step = &self.steps[*next];
            }
            // A program starts because of something: of what was changed before and surely leads to it.
            let is_started = sign.class == Class::Start && sign.bad < 0.5;
            let by = |before: usize| {
                let other = &list[before];
                self.links.change[before] >= 0.8
                    && other.class != Class::Start
                    && other.bad < 0.7
                    && !self.unrelated[before]
                    && self
                        .link(before, at)
                        .is_some_and(|link| link.strength >= 0.6 && matches!(link.why, Why::Names(_)))
            };
            // So does a line that names the version that was put in before.
            let is_version = |id: u32| {
                let word = self.signs.lexicon.word(id);
                word.contains('.') && word.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.')
            };
            let names_version = |before: usize| {
                let other = &list[before];
                other.kind == SignKind::Package
                    && sign.kind != SignKind::Package
                    && shared(&other.words, &sign.words).any(is_version)
                    && shared(&other.words, &sign.identity).next().is_some()
            };
            if self.steps[at].next.is_none() {
                continue;
            }
            if sign.bad < 0.5 && (0..at).any(names_version) {
                explained.insert(at, BY_ITS_VERSION);
            } else if is_started && (0..at).any(by) {
                explained.insert(at, BY_A_CHANGE);
            }
        }
        explained
    }

    /// The earliest trouble that surely leads to the symptom.
    fn end_of_evidence(&self, symptom: usize) -> usize {
        let best = self.steps.iter().map(|step| step.reach).fold(0.0, f64::max);
        // When all was well, that trouble was of no account.
        let good = super::told(&self.view.case.story.last_good, self.view)
            .map(|good| good.from)
            .filter(|good| *good < self.signs.list[symptom].time)
            .unwrap_or(i64::MIN);
        let leads = |(at, sign): &(usize, &Sign)| {
            let step = &self.steps[*at];
            let strength = step.next.as_ref().map_or(1.0, |(_, strength, _)| *strength);
            let is_trouble = sign.bad >= 0.5 || sign.kind == SignKind::Shift;
            // Trouble that came and did not last is over after some hours.
            let apart = self.signs.list[symptom].time.saturating_sub(sign.until);
            let lasts = matches!(sign.kind, SignKind::Onset | SignKind::Shift) || sign.class == Class::State;
            let carries = lasts || apart <= 2 * HOUR;
            is_trouble
                && carries
                && !self.no_news[*at]
                && (sign.time >= good || sign.class == Class::State && sign.count <= RARE)
                && (step.reach >= 0.3 * best && strength >= 0.3 && sign.kind != SignKind::Once
                    || step.reach >= 0.5 * best && strength >= 0.5 && sign.bad >= 0.5)
        };
        self.signs.list.iter().enumerate().find(leads).map_or(symptom, |(at, _)| at)
    }

    fn suggestions(&self, symptom: usize) -> Vec<Suggestion> {
        let list = &self.signs.list;
        let mut reader = RecordReader::new(self.view.case.sources.clone());
        let mut scores = self.scores();
        let times_of_kind = self.times_of_kinds();
        // Nothing but a name or the moment, or the kind of a change that was also made on healthy days.
        let is_weak = |score: f64, at: usize| {
            let by_kind = matches!(self.steps[at].next, Some((_, _, Why::Effect(_))));
            let is_told = !matches!(list[at].class, Class::Deed | Class::Done);
            (score < SURE_ALONE || !is_told)
                && !self.took_effect_at_once(at)
                && !self.is_complained_of_at_once(at)
                && (self.steps[at].by_name_alone
                    || self.goes_by_names(at)
                    // Programs start all the time, and many changes are made on healthy days too.
                    || (by_kind || list[at].class == Class::Start) && self.is_repeated(at, &times_of_kind))
        };
        // What was done in words that tell of no change is one where more than a name ties it.
        let is_change = |(score, at): &(f64, usize)| {
            self.can_be_root(*at)
                && match list[*at].class {
                    Class::Deed => !is_weak(*score, *at),
                    Class::Done => !is_weak(*score, *at) && self.is_named_by_next(*at),
                    _ => true,
                }
        };
        // The best change; where only a name ties it to the symptom, the best that more than a name leads there from.
        let best_change = scores.iter().position(is_change).and_then(|place| {
            let (score, at) = scores[place];
            if !is_weak(score, at) {
                return Some(place);
            }
            let sure = |(score, at): &(f64, usize)| {
                is_change(&(*score, *at)) && !self.tried[*at] && !is_weak(*score, *at) && !self.ends_by_name_alone(*at)
            };
            scores.iter().skip(place).position(sure).map(|further| place + further)
        });
        // What the change leads to is no rival of it, nor is a change that is none of the kind.
        let led_to: HashSet<usize> = best_change
            .map(|place| self.way(scores[place].1).into_iter().map(|(at, _)| at).collect())
            .unwrap_or_default();
        let rival = |at: usize| {
            let is_none = self.can_be_root(at) && self.is_tied_by_name_alone(at);
            !is_none && !led_to.contains(&at)
        };
        let best = scores.iter().find(|(_, at)| rival(*at)).map_or(0.0, |(score, _)| *score);
        let proven = best_change.is_some_and(|place| {
            let (score, _) = scores[place];
            score >= UNPROVEN && score * CHANGE_FIRST >= best
        });
        if let Some(place) = best_change.filter(|_| proven) {
            let first = scores.remove(place);
            scores.insert(0, first);
        }
        let mut found: Vec<Suggestion> = Vec::new();
        if !proven {
            found.push(self.unproven(&mut reader, self.end_of_evidence(symptom), symptom));
        }
        let mut seen: HashSet<(usize, i64)> = HashSet::new();
        for (score, at) in scores {
            // Lines of one moment in one source are one suggestion.
            if found.len() >= MOST_ROOTS || !seen.insert((list[at].source, list[at].time / (5 * SECOND))) {
                continue;
            }
            let is_first = found.is_empty();
            found.push(self.suggestion(&mut reader, at, score, symptom, is_first));
        }
        // The others by what they are worth: leads count half.
        if let Some(others) = found.get_mut(1..) {
            others.sort_by(|a, b| b.score.total_cmp(&a.score));
        }
        found
    }
}

#[cfg(test)]
mod tests {
    use super::member_of;

    #[test]
    fn members_of_a_kind() {
        assert_eq!(member_of("link-a"), Some("link-"));
        assert_eq!(member_of("pump_12"), Some("pump_"));
        for other in ["link", "link-north", "4-1", "a-b", "link-"] {
            assert_eq!(member_of(other), None, "{other}");
        }
    }
}
