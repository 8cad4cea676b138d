//! Where in the file a problem is: from a key's path to line and column.

use super::parts;
use crate::route::fields::nearest;
use std::sync::Arc;
use toml::de::{DeTable, DeValue};

/// One problem of a configuration.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Problem {
    /// From 1; 0 if it is about the file as a whole.
    pub line: usize,
    pub column: usize,
    /// Characters it covers on that line.
    pub width: usize,
    /// `watch[0].steady`, counted from 0 as programs see it; empty if unknown.
    pub key: String,
    /// The same for people, by the names in the file: `watch "cards": steady`.
    pub place: String,
    /// What was found.
    pub found: String,
    /// What would be right.
    pub wanted: String,
    /// The file it is in, where that is a part of the configuration.
    pub part: Option<Arc<parts::File>>,
}

/// A problem by key, before it was located.
#[derive(Debug)]
pub struct Fault {
    pub path: Vec<Step>,
    pub found: String,
    pub wanted: String,
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Step {
    Key(&'static str),
    Index(usize),
}

fn show(path: &[Step]) -> String {
    let mut out = String::new();
    for step in path {
        match step {
            Step::Key(k) if out.is_empty() => out.push_str(k),
            Step::Key(k) => out.push_str(&format!(".{k}")),
            Step::Index(i) => out.push_str(&format!("[{i}]")),
        }
    }
    out
}

fn position(text: &str, at: usize) -> (usize, usize) {
    let before = &text[..text.floor_char_boundary(at.min(text.len()))];
    let line = before.matches('\n').count() + 1;
    let column = before.rsplit('\n').next().map_or(0, |l| l.chars().count()) + 1;
    (line, column)
}

fn problem(text: &str, span: std::ops::Range<usize>, key: String, found: String, wanted: String) -> Problem {
    let place = DeTable::parse(text).map_or_else(|_| key.clone(), |root| words(root.get_ref(), &key));
    let (line, column) = position(text, span.start);
    let covered = text.get(span).unwrap_or("").lines().next().unwrap_or("").chars().count();
    Problem { line, column, width: covered.max(1), key, place, found, wanted, part: None }
}

/// A key in the words of the file: tables of a list by their names, other things of a list by their number from 1.
fn words(root: &DeTable<'_>, key: &str) -> String {
    let Some((list, rest)) = key.split_once('[') else { return key.to_owned() };
    let Some((number, rest)) = rest.split_once(']') else { return key.to_owned() };
    let index: usize = number.parse().unwrap_or(0);
    let name = root.get(list).and_then(|v| match v.get_ref() {
        DeValue::Array(a) => match a.get(index)?.get_ref() {
            DeValue::Table(t) => t.get("name")?.get_ref().as_str(),
            _ => None,
        },
        _ => None,
    });
    let name = name.map_or_else(|| (index + 1).to_string(), |n| format!("\"{}\"", media::show::text(n)));
    let mut out = format!("{list} {name}");
    for (n, part) in rest.split(['.', '[']).filter(|p| !p.is_empty()).enumerate() {
        let part = match part.strip_suffix(']').and_then(|i| i.parse::<usize>().ok()) {
            Some(index) => format!(" {}", index + 1),
            None if n == 0 => format!(": {part}"),
            None => format!(" {part}"),
        };
        out.push_str(&part);
    }
    out
}

/// The key and value that cover a byte, to read on without them; `None`: there is no such entry.
pub fn entry_at(text: &str, at: usize) -> Option<std::ops::Range<usize>> {
    fn inside(table: &DeTable<'_>, at: usize) -> Option<std::ops::Range<usize>> {
        for (key, value) in table {
            let deeper = match value.get_ref() {
                DeValue::Table(t) => inside(t, at),
                DeValue::Array(a) => a.iter().find_map(|v| match v.get_ref() {
                    DeValue::Table(t) => inside(t, at),
                    _ => None,
                }),
                _ => None,
            };
            let is_plain = !matches!(value.get_ref(), DeValue::Table(_));
            if deeper.is_some() {
                return deeper;
            }
            if is_plain && (key.span().contains(&at) || value.span().contains(&at)) {
                return Some(key.span().start..value.span().end);
            }
        }
        None
    }
    inside(DeTable::parse(text).ok()?.get_ref(), at)
}

/// All faults with their places; a key that is not there is placed at the nearest table around it.
pub fn all(text: &str, faults: Vec<Fault>) -> Vec<Problem> {
    let root = DeTable::parse(text).ok();
    let mut problems: Vec<Problem> = faults
        .into_iter()
        .map(|f| {
            let span = root.as_ref().and_then(|r| span_of(r.get_ref(), &f.path)).unwrap_or(0..0);
            problem(text, span, show(&f.path), f.found, f.wanted)
        })
        .collect();
    problems.sort_by_key(|p| (p.line, p.column));
    problems
}

fn span_of(root: &DeTable<'_>, path: &[Step]) -> Option<std::ops::Range<usize>> {
    let (Step::Key(first), rest) = path.split_first()? else { return None };
    let mut here = root.get(*first)?;
    for step in rest {
        let next = match (step, here.get_ref()) {
            (Step::Key(k), DeValue::Table(t)) => t.get(*k),
            (Step::Index(i), DeValue::Array(a)) => a.get(*i),
            _ => None,
        };
        match next {
            Some(next) => here = next,
            None => break,
        }
    }
    Some(here.span())
}

/// What the reader of the format itself found wrong: syntax, types, unknown and missing keys.
pub fn syntax(text: &str, e: &toml::de::Error) -> Problem {
    let span = e.span().unwrap_or(0..0);
    let key =
        DeTable::parse(text).ok().and_then(|root| key_at(root.get_ref(), span.start)).unwrap_or_default();
    let message = e.message().trim().replace('\n', "; ");
    let (found, wanted) = match message.split_once(", expected ") {
        Some((found, wanted)) => {
            let wanted = match wanted {
                w if w.starts_with("struct ") => "a table of keys".to_owned(),
                "a sequence" => "a list: [ ... ]".to_owned(),
                w => w.replace("one of ", "one of these keys: ").replace('`', "'"),
            };
            let typed = found.strip_prefix("unknown field ").map(|f| f.trim_matches('`'));
            let near = typed.and_then(|t| nearest(t, wanted.split('\'').skip(1).step_by(2)));
            let wanted = near.map_or(wanted.clone(), |n| format!("'{n}'; {wanted}"));
            (found.to_owned(), wanted)
        }
        None => match message.strip_prefix("missing field ") {
            Some(field) => {
                (format!("no key {}", field.replace('`', "'")), "this key must be there".to_owned())
            }
            None => (message, "see docs/config.md for the form of this file".to_owned()),
        },
    };
    problem(text, span, key, found.replace('`', "'"), wanted)
}

/// The innermost key whose value or name covers a byte.
fn key_at(table: &DeTable<'_>, at: usize) -> Option<String> {
    for (key, value) in table {
        let name = key.get_ref().to_string();
        let inside = match value.get_ref() {
            DeValue::Table(t) => key_at(t, at).map(|k| format!("{name}.{k}")),
            DeValue::Array(a) => a.iter().enumerate().find_map(|(i, v)| match v.get_ref() {
                DeValue::Table(t) => key_at(t, at)
                    .map(|k| format!("{name}[{i}].{k}"))
                    .or_else(|| v.span().contains(&at).then(|| format!("{name}[{i}]"))),
                _ => None,
            }),
            _ => None,
        };
        if inside.is_some() {
            return inside;
        }
        if value.span().contains(&at) || key.span().contains(&at) {
            return Some(name);
        }
    }
    None
}
