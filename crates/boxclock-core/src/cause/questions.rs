//! What to try or gather next about a suggestion, and what each outcome would prove. The sentences are data (`questions.toml`).

use std::sync::LazyLock;

use serde::Deserialize;

/// Something to find out, and what it would prove.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OpenQuestion {
    /// What to try or gather.
    pub what: String,
    /// What each outcome would prove.
    pub proves: String,
}

#[derive(Deserialize)]
struct QuestionFile {
    question: Vec<Row>,
}

#[derive(Deserialize)]
struct Row {
    of: Vec<String>,
    what: String,
    proves: String,
}

static ROWS: LazyLock<Vec<Row>> = LazyLock::new(|| {
    let file: Result<QuestionFile, _> = toml::from_str(include_str!("questions.toml"));
    file.map(|file| file.question).unwrap_or_default()
});

/// What the sentences are about.
pub(super) struct About<'a> {
    /// The class of the root as `changes.tsv` has it, or `unproven`.
    pub class: &'a str,
    /// What the line of the root says.
    pub root: &'a str,
    /// The host of the root.
    pub host: &'a str,
    /// The hosts of the chain, in order, each once.
    pub hosts: &'a [String],
    /// What the line of the symptom says.
    pub symptom: &'a str,
    /// When the root was.
    pub time: &'a str,
}

/// The open questions about it.
pub(super) fn questions(about: &About<'_>) -> Vec<OpenQuestion> {
    let fits = |row: &&Row| row.of.iter().any(|of| of == about.class || of == "several-hosts" && about.hosts.len() > 1);
    let rows = ROWS.iter().filter(fits);
    rows.map(|row| OpenQuestion { what: about.filled(&row.what), proves: about.filled(&row.proves) }).collect()
}

impl About<'_> {
    /// A sentence with what it is about. What is filled in is never looked at again: a line of a log may hold braces.
    fn filled(&self, sentence: &str) -> String {
        let host = if self.host.is_empty() { "the machine" } else { self.host };
        let mut text = String::new();
        let mut rest = sentence;
        while let Some(open) = rest.find('{') {
            let (before, after) = rest.split_at(open);
            text.push_str(before);
            let end = after.find('}').map_or(after.len(), |end| end + 1);
            match &after[..end] {
                "{root}" => text.push_str(self.root),
                "{host}" => text.push_str(host),
                "{hosts}" => text.push_str(&self.hosts.join(", ")),
                "{symptom}" => text.push_str(self.symptom),
                "{time}" => text.push_str(self.time),
                other => text.push_str(other),
            }
            rest = &after[end..];
        }
        text.push_str(rest);
        text
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_class_that_can_be_a_root_has_a_question_and_all_places_are_filled() {
        for class in ["change", "done", "deed", "person", "incomplete", "state", "start", "unproven", "none", "routine"]
        {
            let hosts = ["dose-gw".to_owned(), "pump-ctl".to_owned()];
            let about = About {
                class,
                root: "retry limit {host} 3",
                host: "dose-gw",
                hosts: &hosts,
                symptom: "frame refused",
                time: "2026-04-12 02:14",
            };
            let asked = questions(&about);
            assert!(asked.len() > 1, "{class}: one of its own, and the clocks");
            for one in &asked {
                let text = format!("{} {}", one.what, one.proves).replace("{host} 3", "");
                assert!(!text.contains('{') && !text.contains('}'), "{class}: {text}");
            }
        }
    }

    #[test]
    fn clocks_are_asked_for_where_there_are_several() {
        let about =
            About { class: "start of nothing", root: "", host: "", hosts: &["gw".into()], symptom: "", time: "" };
        assert_eq!(questions(&about), []);
    }
}
