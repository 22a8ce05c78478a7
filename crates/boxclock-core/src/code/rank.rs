//! Which family a number belongs to, with the reason: the words before it, the system, the format, the program, and the
//! other codes of the same source.

use super::catalogue::entry;
use super::{Catalogues, Code, CodeInfo, Family, Form, Platform};

/// A reading of a number, and what speaks for it.
#[derive(Clone, Debug)]
pub struct Candidate {
    /// The reading.
    pub reading: CodeInfo,
    /// What speaks for it, in words; empty where nothing does.
    pub reason: String,
    /// How much speaks for it: for comparing candidates of one number.
    pub weight: u32,
}

/// What is known of the place where a number stands.
#[derive(Clone, Debug, Default)]
pub struct Clues<'a> {
    /// The system that wrote the source.
    pub platform: Platform,
    /// The source's format.
    pub format: &'a str,
    /// Families that are at home in that format.
    pub at_home: &'static [Family],
    /// The program that wrote the line.
    pub component: &'a str,
    /// How many other codes of each family the source has.
    pub in_source: Vec<(Family, u64)>,
    /// What the person who works on the case chose for it.
    pub chosen: Option<Family>,
}

/// All readings that a number can have, the likeliest first: its rows in every family, else the shape that fits.
pub fn readings(number: u32, platform: Platform, own: &Catalogues) -> Vec<CodeInfo> {
    let mut found: Vec<CodeInfo> = families_of(number, own).map(|family| Code { family, number }.info(own)).collect();
    // A system's own error numbers are of interest where they differ, or where it was asked for.
    let linux = entry(Code { family: Family::Errno, number }).map(|row| row.name);
    found.retain(|reading| {
        let family = reading.code.family;
        !family.is_errno()
            || family == Family::errno_of(platform)
            || (!platform.is_unix() && (family == Family::Errno || reading.name != linux))
    });
    if found.is_empty() {
        let family = match number {
            0xC000_0000..0xD000_0000 => Family::NtStatus,
            0x8000_0000.. => Family::Hresult,
            0..=99 => Family::Exit,
            100..=599 => Family::Http,
            _ => Family::Win32,
        };
        found.push(Code { family, number }.info(own));
    }
    found.sort_by_key(|reading| std::cmp::Reverse(system_weight(reading.code.family, platform)));
    found
}

/// The families in whose catalogue a number is, or whose rule gives it a meaning.
fn families_of(number: u32, own: &Catalogues) -> impl Iterator<Item = Family> {
    Family::ALL.into_iter().filter(move |family| {
        let code = Code { family: *family, number };
        match family.form() {
            Form::Name | Form::State => return false,
            Form::Hex if number <= 1 && *family != Family::Stop => return false,
            _ => {}
        }
        let by_rule = match family {
            Family::Exit => (129..=192).contains(&number),
            Family::Hresult => number >> 31 == 1 && !super::reading::read(code, own).gloss.is_empty(),
            _ => false,
        };
        by_rule || entry(code).is_some() || own.entry(code).is_some()
    })
}

/// How likely a family is by the system alone.
pub fn system_weight(family: Family, platform: Platform) -> u32 {
    let own = if platform.prefers(family) { 100 } else { 0 };
    own + match family {
        Family::User => 60,
        Family::Win32 | Family::Hresult | Family::NtStatus => 40,
        Family::Errno => 38,
        Family::Signal | Family::Exit => 36,
        Family::Http => 34,
        Family::Stop | Family::Msi => 20,
        Family::ErrnoMacos | Family::ErrnoFreebsd | Family::ErrnoSolaris | Family::ErrnoAix => 2,
        _ => 10,
    }
}

/// Every family that a code found in a text could be of, the likeliest first, each with what speaks for it.
///
/// The first is what recognition took, unless a person chose another: recognition knows the words around the number.
pub fn candidates(found: Code, clues: &Clues<'_>, own: &Catalogues) -> Vec<Candidate> {
    let mut families: Vec<Family> = families_of(found.number, own).collect();
    if found.family.form() == Form::Name || found.family.form() == Form::State {
        families.clear();
    }
    for family in [Some(found.family), clues.chosen].into_iter().flatten() {
        if !families.contains(&family) {
            families.push(family);
        }
    }
    let mut candidates: Vec<Candidate> = families
        .into_iter()
        .map(|family| candidate(Code { family, number: found.number }, found, clues, own))
        .collect();
    candidates.sort_by_key(|candidate| std::cmp::Reverse(candidate.weight));
    candidates
}

fn candidate(code: Code, found: Code, clues: &Clues<'_>, own: &Catalogues) -> Candidate {
    let family = code.family;
    let mut reasons = Vec::new();
    let mut weight = system_weight(family, clues.platform);
    if clues.chosen == Some(family) {
        reasons.push("chosen by you".to_owned());
        weight += 10_000;
    }
    if family == found.family {
        reasons.push(match family.form() {
            Form::Hex if code.number > 0xFFFF => "its shape".to_owned(),
            _ => "the words and signs around it".to_owned(),
        });
        weight += 1_000;
    }
    if clues.platform.prefers(family) {
        reasons.push(format!("the source is from {}", clues.platform.title()));
    }
    if clues.at_home.contains(&family) {
        reasons.push(format!("the format {}", clues.format));
        weight += 120;
    }
    let component = clues.component.to_ascii_lowercase();
    if program_families(&component).contains(&family) {
        reasons.push(format!("the program {}", clues.component));
        weight += 140;
    }
    if let Some((_, count)) = clues.in_source.iter().find(|(other, count)| *other == family && *count > 0) {
        reasons.push(format!("{count} other codes of this source are of it"));
        weight += (*count).min(50) as u32;
    }
    Candidate { reading: code.info(own), reason: reasons.join("; "), weight }
}

/// The list of a program's own that has this number, where the words around it leave it open.
pub fn home_family(component: &str, number: u32) -> Option<Family> {
    // What else is at home in programs are lists that recognition takes by itself.
    const OWN: [Family; 8] = [
        Family::Ldap,
        Family::Kerberos,
        Family::Dns,
        Family::Smtp,
        Family::Ftp,
        Family::Sip,
        Family::MySql,
        Family::MsSql,
    ];
    let families = program_families(&component.to_ascii_lowercase()).iter();
    families.copied().find(|family| OWN.contains(family) && entry(Code { family: *family, number }).is_some())
}

/// Families that are at home in a program, by a part of its name.
fn program_families(component: &str) -> &'static [Family] {
    const PROGRAMS: [(&str, &[Family]); 16] = [
        ("slapd", &[Family::Ldap]),
        ("ldap", &[Family::Ldap]),
        ("krb", &[Family::Kerberos]),
        ("kdc", &[Family::Kerberos]),
        ("sshd", &[Family::Ssh]),
        ("named", &[Family::Dns]),
        ("resolve", &[Family::Dns]),
        ("smtp", &[Family::Smtp]),
        ("mail", &[Family::Smtp]),
        ("ftp", &[Family::Ftp]),
        ("sip", &[Family::Sip]),
        ("mysqld", &[Family::MySql]),
        ("mariadbd", &[Family::MySql]),
        ("sqlservr", &[Family::MsSql]),
        ("msiinstaller", &[Family::Msi, Family::Win32]),
        ("kernel", &[Family::Errno]),
    ];
    PROGRAMS.iter().find(|(name, _)| component.contains(name)).map_or(&[], |(_, families)| families)
}

#[cfg(test)]
mod tests;
