//! The modules of a crash as a list for reading: in which order, which of them are suspected, and which are there in two versions.

use std::collections::{BTreeMap, HashSet};

use super::report::CrashReport;
use super::whose;
use crate::clock::{SECOND, to_rfc3339};

/// In which order modules are listed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum ModuleOrder {
    /// Suspects, then what stands in the stack, then the others.
    #[default]
    Suspicion,
    /// The oldest first; those whose age is not known last.
    Age,
    /// By name.
    Name,
}

impl ModuleOrder {
    /// For people.
    pub fn name(self) -> &'static str {
        match self {
            Self::Suspicion => "suspicion",
            Self::Age => "age",
            Self::Name => "name",
        }
    }

    /// The order after this one.
    #[must_use]
    pub fn next(self) -> Self {
        match self {
            Self::Suspicion => Self::Age,
            Self::Age => Self::Name,
            Self::Name => Self::Suspicion,
        }
    }
}

/// A module in the list.
#[derive(Clone, Debug, PartialEq)]
pub struct ListedModule {
    /// Its name, without folders.
    pub name: String,
    /// Its version, where the dump says.
    pub version: Option<String>,
    /// The day when it was built, where that is known and no hash.
    pub built: Option<String>,
    /// Whole days from then to the crash.
    pub age_days: Option<i64>,
    /// Whose it is: `system`, `application` and so on.
    pub own: &'static str,
    /// How likely it is to blame, 0 to 1; 0 where it is not suspected.
    pub score: f64,
    /// Whether it stands in the stack.
    pub in_stack: bool,
}

impl CrashReport {
    /// Its modules in an order.
    pub fn listed_modules(&self, order: ModuleOrder) -> Vec<ListedModule> {
        let in_stack: HashSet<&str> = self.frames.iter().filter_map(|frame| frame.module.as_deref()).collect();
        let score = |name: &str| {
            self.verdict.suspects.iter().find(|suspect| suspect.module == name).map_or(0.0, |suspect| suspect.score)
        };
        let listed = self.crash.modules.iter().map(|module| {
            let built = whose::built(module, &self.crash, self.time);
            let day = built.map(|built| to_rfc3339(built.saturating_mul(SECOND)));
            ListedModule {
                name: module.name().to_owned(),
                version: module.version.clone(),
                built: day.and_then(|day| day.get(..10).map(str::to_owned)),
                age_days: whose::age_days(module, &self.crash, self.time),
                own: whose::own(module, &self.crash).name(),
                score: score(module.name()),
                in_stack: in_stack.contains(module.name()),
            }
        });
        let mut listed: Vec<ListedModule> = listed.collect();
        listed.sort_by(|a, b| {
            let by_name = || a.name.to_lowercase().cmp(&b.name.to_lowercase());
            match order {
                ModuleOrder::Suspicion => {
                    b.score.total_cmp(&a.score).then(b.in_stack.cmp(&a.in_stack)).then_with(by_name)
                }
                ModuleOrder::Age => (a.age_days.is_none(), std::cmp::Reverse(a.age_days))
                    .cmp(&(b.age_days.is_none(), std::cmp::Reverse(b.age_days)))
                    .then_with(by_name),
                ModuleOrder::Name => by_name(),
            }
        });
        listed
    }

    /// Libraries that are loaded from two places: their names and paths. One of them may be meant where the other is called.
    pub fn doubled_libraries(&self) -> Vec<(String, Vec<String>)> {
        let mut paths: BTreeMap<String, Vec<String>> = BTreeMap::new();
        for module in self.crash.modules.iter().filter(|module| module.path != module.name()) {
            // `libz.so.1.2` and `libz.so.1.3` are one library.
            let name = module.name().to_lowercase();
            let stem = name.split_once(".so").map_or(name.as_str(), |(stem, _)| stem).to_owned();
            let known = paths.entry(stem).or_default();
            if !known.contains(&module.path) {
                known.push(module.path.clone());
            }
        }
        paths.into_iter().filter(|(_, paths)| paths.len() > 1).collect()
    }
}
