//! From tokens to an expression.

use super::lex::{Kind, Token, tokens};
use super::text::TextTest;
use super::{Expr, FIELDS, FilterError, Leaf, Names, Ordered, TimeTest, ValueTest};
use crate::clock::human::{self, LEAP_YEAR, Typed, of_leap_year};
use crate::clock::{DAY, Zone};
use crate::code::{Catalogues, Form, Platform, lookup};
use crate::limits;
use crate::severity::Severity;

/// Before and after have no meaning in any year.
const NO_YEAR: &str = "write the year too: 2026-04-12T02:31";

type Parsed<T> = Result<T, FilterError>;

/// Reads a filter.
pub(super) fn parse(text: &str, zone: &Zone, own: &Catalogues) -> Parsed<Expr> {
    let mut parser = Parser { tokens: tokens(text)?, next: 0, end: text.len(), zone, own, depth: 0 };
    let expr = parser.any()?;
    match parser.peek() {
        Some(token) => Err(error(token, "this ) has no ( before it")),
        None => Ok(expr),
    }
}

/// A literal text, without regard to case.
pub(super) fn phrase(text: &str, at: usize) -> Parsed<TextTest> {
    TextTest::phrase(text).map_err(|problem| no_regex(&problem, at, text.len()))
}

/// A regular expression.
pub(super) fn regex(pattern: &str, at: usize, length: usize) -> Parsed<TextTest> {
    TextTest::regex(pattern).map_err(|problem| no_regex(&problem, at, length))
}

fn no_regex(problem: &regex::Error, at: usize, length: usize) -> FilterError {
    let text = problem.to_string();
    let last = text.lines().last().unwrap_or_default().trim().trim_start_matches("error: ").to_owned();
    FilterError { at, length, message: format!("not a regular expression: {last}") }
}

fn error(token: &Token, message: impl Into<String>) -> FilterError {
    FilterError { at: token.at, length: token.length, message: message.into() }
}

struct Parser<'a> {
    tokens: Vec<Token>,
    next: usize,
    end: usize,
    zone: &'a Zone,
    own: &'a Catalogues,
    depth: usize,
}

impl Parser<'_> {
    fn peek(&self) -> Option<&Token> {
        self.tokens.get(self.next)
    }

    fn take(&mut self) -> Option<Token> {
        let token = self.tokens.get(self.next).cloned();
        self.next += 1;
        token
    }

    /// Whether the next token is this bare word; takes it then.
    fn takes_word(&mut self, wanted: &str) -> bool {
        let found = matches!(self.peek(), Some(Token { kind: Kind::Word { text, quoted: false }, .. })
            if text.eq_ignore_ascii_case(wanted));
        self.next += usize::from(found);
        found
    }

    fn missing(&self, what: &str) -> FilterError {
        FilterError { at: self.end, length: 0, message: what.to_owned() }
    }

    fn any(&mut self) -> Parsed<Expr> {
        let mut all = vec![self.every()?];
        while self.takes_word("or") {
            all.push(self.every()?);
        }
        if all.len() > 1
            && let Some(Expr::And(last)) = all.last()
            && last.is_empty()
        {
            return Err(self.missing("something must follow \"or\""));
        }
        Ok(if all.len() == 1 { all.remove(0) } else { Expr::Or(all) })
    }

    fn every(&mut self) -> Parsed<Expr> {
        let mut all = Vec::new();
        loop {
            match self.peek() {
                None | Some(Token { kind: Kind::Close, .. }) => break,
                Some(Token { kind: Kind::Word { text, quoted: false }, .. }) if text.eq_ignore_ascii_case("or") => {
                    if all.is_empty() {
                        let token = &self.tokens[self.next];
                        return Err(error(
                            token,
                            "something must come before \"or\"; to search for the word write \"or\" in quotes",
                        ));
                    }
                    break;
                }
                Some(_) => {}
            }
            if !self.takes_word("and") || all.is_empty() {
                all.push(self.one()?);
            }
        }
        Ok(if all.len() == 1 { all.remove(0) } else { Expr::And(all) })
    }

    fn one(&mut self) -> Parsed<Expr> {
        self.depth += 1;
        if self.depth > limits::FILTER_DEPTH {
            return Err(self.missing("too many parentheses inside each other"));
        }
        let expr = self.one_inside();
        self.depth -= 1;
        expr
    }

    fn one_inside(&mut self) -> Parsed<Expr> {
        if self.takes_word("not") {
            if self.peek().is_none() {
                return Err(self.missing("something must follow \"not\""));
            }
            return Ok(Expr::Not(Box::new(self.one()?)));
        }
        let Some(token) = self.take() else { return Err(self.missing("something is missing here")) };
        match &token.kind {
            Kind::Open => {
                let inner = self.any()?;
                match self.take() {
                    Some(Token { kind: Kind::Close, .. }) => Ok(inner),
                    _ => Err(error(&token, "this ( has no ) after it")),
                }
            }
            Kind::Close => Err(error(&token, "this ) has no ( before it")),
            Kind::Operator(_) => Err(error(&token, "a field's name must come before this")),
            Kind::Regex(pattern) => Ok(Expr::Leaf(Leaf::Text(regex(pattern, token.at, token.length)?.into()))),
            Kind::Word { text, quoted } => self.word(&token, text, *quoted),
        }
    }

    fn word(&mut self, token: &Token, text: &str, quoted: bool) -> Parsed<Expr> {
        if !quoted && text.eq_ignore_ascii_case("time") {
            if self.takes_word("in") {
                return self.time_in().map(|test| Expr::Leaf(Leaf::Time(test)));
            }
            if self.takes_word("within") {
                return self.time_within().map(|test| Expr::Leaf(Leaf::Time(test)));
            }
        }
        if let Some(Token { kind: Kind::Operator(operator), .. }) = self.peek() {
            let operator = *operator;
            self.next += 1;
            return self.field(token, &text.to_ascii_lowercase(), operator);
        }
        Ok(Expr::Leaf(Leaf::Text(phrase(text, token.at)?.into())))
    }

    fn field(&mut self, field: &Token, name: &str, operator: &'static str) -> Parsed<Expr> {
        let attribute = name.contains('.');
        if !attribute && !FIELDS.iter().any(|(known, _)| *known == name) {
            let known: Vec<&str> = FIELDS.iter().map(|(known, _)| *known).collect();
            return Err(error(
                field,
                format!("no field \"{name}\"; fields are {}, and attributes such as event.id", known.join(" ")),
            ));
        }
        let Some(value) = self.take() else {
            return Err(self.missing(&format!("a value must follow {name}{operator}")));
        };
        let Kind::Word { text, .. } = &value.kind else {
            return Err(error(&value, format!("a value must follow {name}{operator}")));
        };
        let items: Vec<&str> = text.split(',').map(str::trim).filter(|item| !item.is_empty()).collect();
        if items.is_empty() {
            return Err(error(&value, format!("a value must follow {name}{operator}")));
        }
        let negated = operator == "!=";
        let leaf = match name {
            "level" => return level(&value, operator, &items),
            "time" => Leaf::Time(self.time_compared(&value, operator, text)?),
            "firstseen" => match self.time_compared(&value, operator, text)? {
                TimeTest::Between(from, to) => Leaf::FirstSeen(from, to),
                TimeTest::Daily(..) | TimeTest::Yearly(..) => return Err(error(&value, "write the date too")),
            },
            "count" => count(&value, operator, text)?,
            _ if attribute && Ordered::of(operator).is_some() => {
                let number = text.trim().parse::<f64>().ok().filter(|number| number.is_finite());
                let number = number.ok_or_else(|| {
                    error(&value, format!("\"{text}\" is not a number: {name} is compared with {operator} as a number"))
                })?;
                Leaf::Attribute(
                    name.to_owned(),
                    ValueTest::Number(Ordered::of(operator).unwrap_or(Ordered::Less), number),
                )
            }
            _ if !matches!(operator, "=" | "!=" | "~") => {
                return Err(error(&value, format!("{name} takes = or != or ~ (contains), not {operator}")));
            }
            _ if attribute => Leaf::Attribute(name.to_owned(), ValueTest::Names(names(&items, operator))),
            "host" => Leaf::Host(names(&items, operator)),
            "source" => Leaf::Source(names(&items, operator)),
            "component" => Leaf::Component(names(&items, operator)),
            "format" => Leaf::Format(names(&items, operator)),
            "pid" => Leaf::Pid(numbers(&value, &items)?),
            "tid" => Leaf::Tid(numbers(&value, &items)?),
            "pin" => Leaf::Pin(match items.as_slice() {
                [word] if word.eq_ignore_ascii_case("yes") => true,
                [word] if word.eq_ignore_ascii_case("no") => false,
                _ => return Err(error(&value, "pin is yes or no")),
            }),
            "pattern" => Leaf::Pattern(patterns(&value, &items)?),
            _ => Leaf::Code(codes(&value, &items, self.own)?),
        };
        let leaf = Expr::Leaf(leaf);
        Ok(if negated { Expr::Not(Box::new(leaf)) } else { leaf })
    }

    fn value(&mut self, what: &str) -> Parsed<(Token, String)> {
        match self.take() {
            Some(token) => match &token.kind {
                Kind::Word { text, .. } => Ok((token.clone(), text.clone())),
                _ => Err(error(&token, what)),
            },
            None => Err(self.missing(what)),
        }
    }

    fn time_in(&mut self) -> Parsed<TimeTest> {
        let what = "write time in FROM..TO, for example time in 02:10..02:35";
        let (token, text) = self.value(what)?;
        let Some((from, to)) = text.split_once("..") else { return Err(error(&token, what)) };
        let read = |part: &str| human::time(part, self.zone).map_err(|problem| error(&token, problem.to_string()));
        let (from, to) = (read(from)?, read(to)?);
        if let (Typed::Instant(from), Typed::Instant(to)) = (from, to)
            && from > to
        {
            return Err(error(&token, "the end is before the start"));
        }
        TimeTest::between(from, to, self.zone).ok_or_else(|| error(&token, "the start needs a date too"))
    }

    fn time_within(&mut self) -> Parsed<TimeTest> {
        let what = "write time within 5m of TIME, for example time within 5m of 02:31:07";
        let (token, text) = self.value(what)?;
        let span = human::duration(&text).map_err(|problem| error(&token, problem.to_string()))?.saturating_abs();
        if !self.takes_word("of") {
            return Err(self.peek().map_or_else(|| self.missing(what), |token| error(token, what)));
        }
        let (token, text) = self.value(what)?;
        match human::time(&text, self.zone).map_err(|problem| error(&token, problem.to_string()))? {
            Typed::Instant(ns) => Ok(TimeTest::Between(ns.saturating_sub(span), ns.saturating_add(span))),
            Typed::OfYear(month, day, ns) => {
                let place = of_leap_year(month, day, ns).unwrap_or_default();
                let half = span.min(LEAP_YEAR / 2 - 1);
                let (from, to) = ((place - half).rem_euclid(LEAP_YEAR), (place + half).rem_euclid(LEAP_YEAR));
                Ok(TimeTest::Yearly(from, to, self.zone.clone()))
            }
            Typed::OfDay(_) if span * 2 >= DAY => Ok(TimeTest::Daily(0, DAY - 1, self.zone.clone())),
            Typed::OfDay(ns) => {
                Ok(TimeTest::Daily((ns - span).rem_euclid(DAY), (ns + span).rem_euclid(DAY), self.zone.clone()))
            }
        }
    }

    fn time_compared(&self, value: &Token, operator: &str, text: &str) -> Parsed<TimeTest> {
        let time = human::time(text, self.zone).map_err(|problem| error(value, problem.to_string()))?;
        let ns = match time {
            Typed::Instant(ns) => ns,
            Typed::OfYear(..) => return Err(error(value, NO_YEAR)),
            Typed::OfDay(_) => return Err(error(value, "write the date too, or use time in 02:10..02:35")),
        };
        Ok(match operator {
            ">=" => TimeTest::Between(ns, i64::MAX),
            ">" => TimeTest::Between(ns.saturating_add(1), i64::MAX),
            "<=" => TimeTest::Between(i64::MIN, ns),
            "<" => TimeTest::Between(i64::MIN, ns.saturating_sub(1)),
            _ => return Err(error(value, "time takes >= > <= < or \"in FROM..TO\" or \"within 5m of TIME\"")),
        })
    }
}

/// How many events have the same pattern.
fn count(value: &Token, operator: &str, text: &str) -> Parsed<Leaf> {
    let number: u32 = text.trim().parse().map_err(|_| error(value, format!("\"{text}\" is not a number")))?;
    Ok(match operator {
        "=" => Leaf::Count(number, number),
        "<" => Leaf::Count(0, number.saturating_sub(1)),
        "<=" => Leaf::Count(0, number),
        ">" => Leaf::Count(number.saturating_add(1), u32::MAX),
        ">=" => Leaf::Count(number, u32::MAX),
        _ => return Err(error(value, "count takes = < <= > >=")),
    })
}

fn names(items: &[&str], operator: &str) -> Names {
    Names { list: items.iter().map(|item| item.to_lowercase()).collect(), part: operator == "~" }
}

fn numbers(value: &Token, items: &[&str]) -> Parsed<Vec<u32>> {
    let read = |item: &&str| item.parse().map_err(|_| error(value, format!("\"{item}\" is not a number")));
    items.iter().map(read).collect()
}

fn patterns(value: &Token, items: &[&str]) -> Parsed<Vec<crate::pattern::PatternId>> {
    let wrong =
        |item: &str| error(value, format!("\"{item}\" is not a pattern: its number has ten hexadecimal digits"));
    items.iter().map(|item| item.parse().map_err(|_| wrong(item))).collect()
}

fn codes(value: &Token, items: &[&str], own: &Catalogues) -> Parsed<Vec<crate::code::Code>> {
    let mut codes = Vec::new();
    for item in items {
        let Ok(readings) = lookup::look_up(item, Platform::Unknown, own) else {
            return Err(error(
                value,
                format!("\"{item}\" is not a code: write for example 0x80070005, -2147024891, 1603 or ENOSPC"),
            ));
        };
        // Any family: the reader of a filter does not know which one the log meant.
        let number = readings.first().map_or(0, |reading| reading.code.number);
        codes.extend(readings.iter().map(|reading| reading.code));
        // `win32:5` says whose number it is.
        let is_number = !item.contains([':', ' '])
            && item.strip_prefix("0x").unwrap_or(item).bytes().any(|byte| byte.is_ascii_digit())
            && readings.iter().all(|reading| !matches!(reading.code.family.form(), Form::Name | Form::Worded));
        if is_number && readings.iter().all(|reading| reading.name.is_none_or(|name| !name.eq_ignore_ascii_case(item)))
        {
            let families = crate::code::Family::ALL.into_iter().filter(|family| family.form() != Form::Name);
            codes.extend(families.map(|family| crate::code::Code { family, number }));
        }
    }
    Ok(codes)
}

/// The severity numbers that a level's name stands for.
fn level_range(name: &str) -> Option<(u8, u8)> {
    if name.eq_ignore_ascii_case("none") {
        return Some((0, 0));
    }
    let severity = Severity::from_word(name.as_bytes()).filter(|_| name.len() > 1)?;
    let whole = severity.name() == Severity(severity.0).name() && (severity.0 - 1) % 4 == 0;
    Some(if whole { (severity.0, severity.0 + 3) } else { (severity.0, severity.0) })
}

fn level(value: &Token, operator: &str, items: &[&str]) -> Parsed<Expr> {
    let mut ranges = Vec::new();
    for item in items {
        let Some(range) = level_range(item) else {
            return Err(error(
                value,
                format!("\"{item}\" is not a level; levels are trace debug info warn error fatal none"),
            ));
        };
        ranges.push(range);
    }
    let (low, high) = ranges[0];
    let leaf = |low, high| Expr::Leaf(Leaf::Level(low, high));
    Ok(match operator {
        "=" => Expr::Or(ranges.into_iter().map(|(low, high)| leaf(low, high)).collect()),
        "!=" => Expr::Not(Box::new(Expr::Or(ranges.into_iter().map(|(low, high)| leaf(low, high)).collect()))),
        _ if items.len() > 1 => return Err(error(value, "only one level may follow this comparison")),
        ">=" => leaf(low.max(1), u8::MAX),
        ">" => leaf(high.saturating_add(1), u8::MAX),
        "<=" => leaf(1, high),
        "<" => leaf(1, low.saturating_sub(1)),
        _ => return Err(error(value, "level takes = != < <= > >=")),
    })
}
