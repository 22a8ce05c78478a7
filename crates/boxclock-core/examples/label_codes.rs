//! Proposes labels for `tests/data/codes/labelled.tsv`: reads `SYSTEM<tab>LINE` and writes `SYSTEM<tab>CODES<tab>LINE`.
//! A person reads every line and mends the labels before they go in; the set measures recognition, not the other way round.

use std::io::{self, BufRead, Write};

use boxclock_core::code::{NO_CATALOGUES, Platform, scan};

fn main() -> io::Result<()> {
    let mut out = io::stdout().lock();
    for line in io::stdin().lock().lines() {
        let line = line?;
        let Some((system, text)) = line.split_once('\t') else { continue };
        let platform = Platform::parse(system).unwrap_or_default();
        let mut found = Vec::new();
        scan(text.as_bytes(), platform, &NO_CATALOGUES, |hit| {
            let code = hit.code;
            found.push(format!(
                "{}={}:{}",
                &text[hit.start..hit.end],
                code.family.name(),
                code.written(&NO_CATALOGUES)
            ));
        });
        let labels = if found.is_empty() { "-".to_owned() } else { found.join(" ; ") };
        writeln!(out, "{system}\t{labels}\t{text}")?;
    }
    Ok(())
}
