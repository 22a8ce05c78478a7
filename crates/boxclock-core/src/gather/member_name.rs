//! What files are called in a box.

use std::collections::HashSet;
use std::path::{Component, Path};

/// Bytes of the folders that all names share, up to the first folder that a recipe could mean.
pub(super) fn common_top(names: &[&str]) -> usize {
    const ROOTS: [&str; 16] = [
        "var",
        "etc",
        "usr",
        "opt",
        "srv",
        "run",
        "home",
        "proc",
        "Windows",
        "Users",
        "ProgramData",
        "Temp",
        "Program Files",
        "private",
        "Library",
        "System",
    ];
    let mut top = 0;
    loop {
        let Some(first) = names.first().and_then(|name| name.get(top..)) else { return 0 };
        let Some((folder, _)) = first.split_once('/') else { return top };
        let is_root = ROOTS.iter().any(|root| root.eq_ignore_ascii_case(folder));
        let shared = names.iter().all(|name| {
            name.get(top..).and_then(|rest| rest.split_once('/')).is_some_and(|(other, _)| other == folder)
        });
        if is_root || !shared {
            return top;
        }
        top += folder.len() + 1;
    }
}

/// The whole path without its root, with `/`.
pub(super) fn below_root(path: &Path) -> String {
    let parts = path.components().filter_map(|part| match part {
        Component::Normal(part) => Some(part.to_string_lossy().into_owned()),
        _ => None,
    });
    parts.collect::<Vec<_>>().join("/")
}

/// `hosts/LABEL/` and the path below it; a number behind it where that is taken.
pub(super) fn unique_member(label: &str, below: &str, taken: &mut HashSet<String>) -> String {
    let good = below.split('/').filter(|part| !part.is_empty() && *part != "." && *part != "..");
    let below: Vec<String> = good.map(|part| part.replace('\0', "_")).collect();
    let name = format!("hosts/{}/{}", label.replace(['/', '\\'], "_"), below.join("/"));
    let mut unique = name.clone();
    let mut number = 2;
    while !taken.insert(unique.clone()) {
        unique = format!("{name}~{number}");
        number += 1;
    }
    unique
}
