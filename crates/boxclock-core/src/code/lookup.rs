//! Answering what a person typed: a code in any writing, or words.
use super::catalogue::{self, entries, entry};
use super::family::state_number;
use super::reading::from_entry;
use super::{Catalogues, Code, CodeInfo, Family, Platform, rank};
use crate::code::NO_CATALOGUES;

/// The most rows that a search by words gives.
pub const MOST_FOUND: usize = 40;

/// Why a text is no code that could be looked up.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NoCode {
    /// It has none of the forms of a code.
    Form,
    /// A number beyond 32 bits that is no sign-extended code.
    TooLarge,
}

/// All readings that a number or name, as somebody typed it, can have; the likeliest first.
///
/// Accepts hexadecimal of up to 16 digits with `0x`, signed and unsigned decimals, bare hexadecimal of eight digits, names
/// (`ENOSPC`, `OOMKilled`), `42P01`, `ORA-00942`, codes of the user's catalogues, and any of these behind the name of a
/// family (`http 503`, `exit 137`, `stop 0xD1`).
///
/// # Errors
/// [`NoCode`] where the text has none of these forms.
pub fn look_up(text: &str, platform: Platform, own: &Catalogues) -> Result<Vec<CodeInfo>, NoCode> {
    let text = text.trim();
    if let Some((family, rest)) = text.split_once([' ', ':'])
        && let Some(family) = Family::parse(&family.to_ascii_lowercase())
        && let Some(number) = family.parse_number(rest.trim(), rest.trim()).or_else(|| number(rest.trim()).ok())
    {
        return Ok(vec![Code { family, number }.info(own)]);
    }
    let mut named = names(text, own);
    if !named.is_empty() {
        named.sort_by_key(|reading| std::cmp::Reverse(rank::system_weight(reading.code.family, platform)));
        return Ok(named);
    }
    if let Some(code) = vendor(text.as_bytes()).or_else(|| own.shaped(text.as_bytes()).map(|(code, _)| code)) {
        return Ok(vec![code.info(own)]);
    }
    // `42P01` is a state; `42501` is one, or a number.
    let state = state_number(text.as_bytes()).map(|number| Code { family: Family::SqlState, number });
    let state = state.filter(|code| entry(*code).is_some()).map(|code| code.info(own));
    match number(text) {
        Ok(number) => {
            let mut readings = rank::readings(number, platform, own);
            // A small negative number is an error number of the system, as its calls give it.
            let small = text.strip_prefix(['-', '\u{2212}']).filter(|digits| digits.len() <= 4);
            if let Some(number) = small.and_then(|digits| digits.parse::<u32>().ok()) {
                let code = Code { family: Family::errno_of(platform), number };
                if entry(code).is_some() {
                    readings.insert(0, code.info(own));
                }
            }
            // Eight digits of a small number are how results are written, of which 0 and 1 are successes.
            if number <= 1 && text.len() == 10 && text.starts_with("0x") {
                readings.insert(0, Code { family: Family::Hresult, number }.info(own));
                readings.dedup_by_key(|reading| reading.code);
            }
            // `80070005` may be either; what it is in decimal comes behind.
            if let Ok(decimal) = text.parse::<u32>()
                && decimal != number
            {
                readings.extend(rank::readings(decimal, platform, own).into_iter().filter(|reading| reading.known));
            }
            readings.extend(state);
            Ok(readings)
        }
        Err(_) if state.is_some() => Ok(state.into_iter().collect()),
        Err(why) => Err(why),
    }
}

/// Rows whose name this is, without regard to case: of the same code, the shown row.
fn names(text: &str, own: &Catalogues) -> Vec<CodeInfo> {
    let named = own.by_name(text).map(|code| code.info(own));
    let upper = text.to_ascii_uppercase();
    let same = entries().iter().filter(|row| !row.name.is_empty() && row.name.eq_ignore_ascii_case(text));
    let mut found: Vec<CodeInfo> = named.into_iter().chain(same.map(|row| from_entry(row.code, row, own))).collect();
    // Another name of a row.
    if found.is_empty()
        && let Some(row) = catalogue::by_name(upper.as_bytes())
    {
        found.push(from_entry(row.code, row, own));
    }
    found
}

/// `ORA-00942`, `TNS-12541`, `SQL0911N`.
pub fn vendor(text: &[u8]) -> Option<Code> {
    let digits = |digits: &[u8]| std::str::from_utf8(digits).ok()?.parse::<u32>().ok();
    let all_digits = |part: &[u8]| (4..=5).contains(&part.len()) && part.iter().all(u8::is_ascii_digit);
    if let [b'O', b'R', b'A', b'-', rest @ ..] | [b'T', b'N', b'S', b'-', rest @ ..] = text {
        return all_digits(rest).then(|| digits(rest)).flatten().map(|number| Code { family: Family::Oracle, number });
    }
    if let [b'S', b'Q', b'L', rest @ .., b'N' | b'C' | b'W'] = text {
        return all_digits(rest).then(|| digits(rest)).flatten().map(|number| Code { family: Family::Db2, number });
    }
    None
}

/// The row that a text names in the platforms' catalogues: a name, a number, or either behind a family.
pub(super) fn built_in(text: &str) -> Option<&'static catalogue::Entry> {
    if let Some((family, rest)) = text.split_once([' ', ':'])
        && let Some(family) = Family::parse(family)
        && let Ok(number) = number(rest.trim())
    {
        return entry(Code { family, number });
    }
    let named = entries().iter().find(|row| !row.name.is_empty() && row.name.eq_ignore_ascii_case(text));
    named.or_else(|| entry(rank::readings(number(text).ok()?, Platform::Unknown, &NO_CATALOGUES).first()?.code))
}

/// A number in any writing, as 32 bits.
pub(super) fn number(text: &str) -> Result<u32, NoCode> {
    let text = text.replace('\u{2212}', "-");
    if let Some(digits) = text.strip_prefix("0x").or(text.strip_prefix("0X")) {
        return hexadecimal(digits);
    }
    let bare = matches!(text.len(), 8 | 16) && text.bytes().all(|byte| byte.is_ascii_hexdigit());
    let letters = text.bytes().any(|byte| byte.is_ascii_alphabetic());
    if bare && (letters || text.starts_with(['8', 'C', 'c']) || text.len() == 16) {
        return hexadecimal(&text);
    }
    let digits = text.strip_prefix('-').unwrap_or(&text);
    if digits.is_empty() || !digits.bytes().all(|byte| byte.is_ascii_digit()) {
        return Err(NoCode::Form);
    }
    let value: i64 = text.parse().map_err(|_| NoCode::TooLarge)?;
    u32::try_from(value).or_else(|_| i32::try_from(value).map(i32::cast_unsigned)).map_err(|_| NoCode::TooLarge)
}

fn hexadecimal(digits: &str) -> Result<u32, NoCode> {
    if digits.is_empty() || !digits.bytes().all(|byte| byte.is_ascii_hexdigit()) {
        return Err(NoCode::Form);
    }
    let value = u64::from_str_radix(digits, 16).map_err(|_| NoCode::TooLarge)?;
    narrow(value).ok_or(NoCode::TooLarge)
}

/// The 32 bits of a value that was widened to 64, with its sign or without.
pub fn narrow(value: u64) -> Option<u32> {
    match value >> 32 {
        0 => Some(value as u32),
        0xFFFF_FFFF if value as u32 >> 31 == 1 => Some(value as u32),
        _ => None,
    }
}

/// Rows that say all of these words: in a few words first, then in the name, then anywhere. At most [`MOST_FOUND`].
pub fn search(words: &str, platform: Platform, own: &Catalogues) -> Vec<CodeInfo> {
    let words: Vec<String> = words.split_whitespace().map(str::to_lowercase).collect();
    if words.is_empty() {
        return Vec::new();
    }
    let all_in = |text: &str| words.iter().all(|word| has(text, word));
    let place = |row: &catalogue::Entry| {
        if all_in(row.gloss) {
            return Some(u8::from(row.gloss.split_whitespace().count() != words.len()));
        }
        if all_in(row.name) {
            return Some(if row.is_explained() { 2 } else { 4 });
        }
        let texts = [row.gloss, row.name, row.meaning, row.causes];
        let anywhere = row.is_explained() && words.iter().all(|word| texts.iter().any(|text| has(text, word)));
        anywhere.then_some(3)
    };
    let rows = own.rows().chain(entries());
    let mut found: Vec<_> = rows.filter_map(|row| Some((place(row)?, row))).collect();
    found.sort_by_key(|(place, row)| (*place, std::cmp::Reverse(rank::system_weight(row.code.family, platform))));
    found.truncate(MOST_FOUND);
    found.into_iter().map(|(_, row)| row.code.info(own)).collect()
}

/// Whether a text has a word in it, which is in small letters.
fn has(text: &str, word: &str) -> bool {
    let (text, word) = (text.as_bytes(), word.as_bytes());
    let Some(first) = word.first() else { return true };
    let mut places = memchr::memchr2_iter(first.to_ascii_lowercase(), first.to_ascii_uppercase(), text);
    places.any(|at| text.get(at..at + word.len()).is_some_and(|part| part.eq_ignore_ascii_case(word)))
}

#[cfg(test)]
mod tests;
