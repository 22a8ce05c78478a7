//! A request to gather, as people write it: hosts, recipes, moment and name of the box as texts, with defaults from the story.

use std::path::PathBuf;

use super::recipe::Recipes;
use super::{PackOptions, TakenPrograms, Window};
use crate::clock::{Zone, human};
use crate::logbook::Story;
use crate::{Error, Result};

/// What is asked for. Empty texts mean the default.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct PackRequest {
    /// `LABEL=PATH`, `LABEL=ssh://HOST` or paths of this machine, with blanks between; a path with blanks in `"…"`.
    pub hosts: String,
    /// Names of recipes, with blanks between; empty for those that fit, `all` for all files.
    pub recipes: String,
    /// The moment of the failure; empty for all times.
    pub moment: String,
    /// How much before and after it.
    pub within: String,
    /// How long one host may take; empty for as long as it needs.
    pub limit: String,
    /// What is taken of the program files that dumps need: `symbols`, `whole`, or `none`; empty for none.
    pub programs: String,
    /// The box to write.
    pub into: String,
}

impl PackRequest {
    /// What the story suggests: its moment, and its title as the name of the box.
    pub fn from_story(story: &Story) -> Self {
        Self {
            recipes: "auto".into(),
            moment: story.since.clone(),
            within: "10m".into(),
            into: format!("{}.box.zip", file_name(&story.title)),
            ..Self::default()
        }
    }

    /// What the texts mean. Times without zone are meant in `zone`; "yesterday" and "2 h ago" count from `now`.
    ///
    /// # Errors
    /// When nothing is to be gathered, or a text cannot be understood; the error says which.
    pub fn options(&self, story: Story, zone: &Zone, now: i64) -> Result<PackOptions> {
        let named = |what: &str| {
            let what = what.to_owned();
            move |error: Error| Error::new(format!("{what}: {error}"))
        };
        let mut options = PackOptions {
            into: PathBuf::from(self.into.trim()),
            story,
            zone: Some(zone.name().to_owned()),
            now,
            known: Recipes::load(),
            ..PackOptions::default()
        };
        for word in words(&self.hosts) {
            match word.split_once('=') {
                Some((label, path)) if !label.is_empty() && !label.contains('/') => {
                    options.hosts.push((label.to_owned(), path.into()));
                }
                _ if word.starts_with("ssh://") => {
                    return Err(Error::new(format!("hosts: give {word} a label: LABEL={word}")));
                }
                _ => options.paths.push(word.into()),
            }
        }
        if options.hosts.is_empty() && options.paths.is_empty() {
            return Err(Error::new(
                "hosts: enter what to gather: pump-ctl=ssh://pump-ctl keeper-desk=/mnt/desk /var/log",
            ));
        }
        if options.into.as_os_str().is_empty() {
            return Err(Error::new("into: enter the name of the box"));
        }
        options.recipes = match self.recipes.trim() {
            "" => vec!["auto".into()],
            "all" => Vec::new(),
            names => words(names),
        };
        for name in options.recipes.iter().filter(|name| *name != "auto") {
            options.known.by_name(name).map_err(named("recipes"))?;
        }
        if !self.moment.trim().is_empty() {
            let within = if self.within.trim().is_empty() { "10m" } else { self.within.trim() };
            options.window =
                Window::asked((Some(&self.moment), within), (None, None), zone, now).map_err(named("moment"))?;
        }
        options.reading.zone = Some(zone.clone());
        options.programs = match self.programs.trim() {
            "" | "none" => TakenPrograms::None,
            "symbols" => TakenPrograms::Symbols,
            "whole" => TakenPrograms::Whole,
            other => return Err(Error::new(format!("programs: \"{other}\": enter symbols, whole, or none"))),
        };
        if !self.limit.trim().is_empty() {
            options.host_limit = Some(human::length(&self.limit).map_err(named("limit"))?);
        }
        Ok(options)
    }
}

impl Window {
    /// The window that somebody asks for: around a moment, or from one moment to another; `None` for all times.
    ///
    /// # Errors
    /// When a time cannot be understood, the span is negative, or the end lies before the start.
    pub fn asked(
        (around, within): (Option<&str>, &str),
        (from, to): (Option<&str>, Option<&str>),
        zone: &Zone,
        now: i64,
    ) -> Result<Option<Self>> {
        let moment = |text: &str| human::moment(text, zone, now);
        if let Some(around) = around {
            let within = i64::try_from(human::length(within)?.as_nanos()).unwrap_or(i64::MAX);
            return Ok(Some(Self::around(moment(around)?, within)));
        }
        if from.is_none() && to.is_none() {
            return Ok(None);
        }
        let window = Self { from: from.map_or(Ok(i64::MIN / 2), moment)?, to: to.map_or(Ok(now), moment)? };
        if window.from > window.to {
            return Err(Error::new("the start of the window is after its end"));
        }
        Ok(Some(window))
    }
}

/// Words with blanks between; `"…"` keeps blanks.
fn words(text: &str) -> Vec<String> {
    let mut words = vec![String::new()];
    let mut quoted = false;
    for character in text.chars() {
        match character {
            '"' => quoted = !quoted,
            _ if character.is_whitespace() && !quoted => words.push(String::new()),
            _ => {
                if let Some(word) = words.last_mut() {
                    word.push(character);
                }
            }
        }
    }
    words.retain(|word| !word.is_empty());
    words
}

/// A title as the name of a file.
fn file_name(title: &str) -> String {
    let plain: String = title.chars().map(|c| if c.is_alphanumeric() { c } else { ' ' }).collect();
    let name = plain.split_whitespace().take(6).collect::<Vec<_>>().join("-").to_lowercase();
    if name.is_empty() { "case".into() } else { name }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::clock::{HOUR, MINUTE};

    /// 2026-04-12T06:05:00Z.
    const NOW: i64 = 1_775_973_900_000_000_000;

    #[test]
    fn texts_become_options() {
        let story = Story { title: "Dosing alarms stopped!".into(), since: "2 h ago".into(), ..Story::default() };
        let request = PackRequest {
            hosts: r#"pump-ctl=ssh://keeper@pump-ctl:22 keeper-desk="/mnt/old desk" /var/log"#.into(),
            limit: "5m".into(),
            ..PackRequest::from_story(&story)
        };
        let options = request.options(story, &Zone::utc(), NOW).unwrap();
        assert_eq!(options.hosts[1], ("keeper-desk".into(), "/mnt/old desk".into()));
        assert_eq!((options.hosts.len(), options.paths.len()), (2, 1));
        assert_eq!(options.into, PathBuf::from("dosing-alarms-stopped.box.zip"));
        let window = options.window.unwrap();
        assert_eq!((window.from, window.to), (NOW - 2 * HOUR - 10 * MINUTE, NOW - 2 * HOUR + 10 * MINUTE));
        assert_eq!(options.host_limit.unwrap().as_secs(), 300);
    }

    #[test]
    fn mistakes_say_where() {
        let wrong = |change: &dyn Fn(&mut PackRequest)| {
            let mut request = PackRequest { hosts: "a=/x".into(), into: "x.box.zip".into(), ..PackRequest::default() };
            change(&mut request);
            request.options(Story::default(), &Zone::utc(), NOW).map(|_| ()).unwrap_err().to_string()
        };
        assert!(wrong(&|request| request.hosts.clear()).starts_with("hosts: enter what"));
        assert!(wrong(&|request| request.hosts = "ssh://pump-ctl".into()).contains("a label"));
        assert!(wrong(&|request| request.moment = "soon".into()).starts_with("moment: "));
        assert!(wrong(&|request| request.recipes = "nothing-such".into()).starts_with("recipes: "));
        assert!(wrong(&|request| request.limit = "long".into()).starts_with("limit: "));
        assert!(wrong(&|request| request.into.clear()).starts_with("into: "));
    }
}
