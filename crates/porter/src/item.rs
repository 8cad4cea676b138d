//! What is published with an output: its title and the like, who has to say yes, and when it goes.

use crate::clock::{self, Micros};
use crate::files::Dir;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::io::Read;
use std::path::Path;

/// The fields of an item, each with what it may be.
pub const FIELDS: [(&str, &str); 8] = [
    ("title", "a text"),
    ("description", "a text"),
    ("tags", "words with commas between"),
    ("category", "a text"),
    ("language", "a language such as \"en\" or \"de-AT\" (BCP 47)"),
    ("visibility", "\"private\", \"unlisted\" or \"public\""),
    ("publish_at", "a moment such as \"2026-11-30T18:00:00+01:00\" (RFC 3339), or \"2026-11-30 18:00\" here"),
    ("notify", "\"yes\" or \"no\": whether those who follow are told"),
];

pub type Fields = BTreeMap<String, String>;

/// What is wrong with the value of a field: what would be right.
pub fn check(field: &str, value: &str) -> Result<(), String> {
    let Some((_, form)) = FIELDS.iter().find(|(name, _)| *name == field) else {
        let names: Vec<&str> = FIELDS.iter().map(|f| f.0).collect();
        return Err(format!("a field of these: {}", names.join(", ")));
    };
    let good = match field {
        _ if value.is_empty() => true,
        "visibility" => ["private", "unlisted", "public"].contains(&value),
        "publish_at" => moment(value).is_some(),
        "notify" => ["yes", "no"].contains(&value),
        "language" => {
            value.len() <= 35
                && value.split('-').all(|part| {
                    (1..=8).contains(&part.len()) && part.bytes().all(|b| b.is_ascii_alphanumeric())
                })
        }
        _ => value.len() <= 20_000,
    };
    if good { Ok(()) } else { Err((*form).to_owned()) }
}

/// A moment with its zone, or one here.
pub fn moment(text: &str) -> Option<Micros> {
    clock::parse_zoned(text).or_else(|| clock::parse_local(text))
}

/// An output's item, as it was planned and as people changed it.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Item {
    pub fields: Fields,
    /// Fields without which it does not go.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub required: Vec<String>,
    /// It waits until a person says yes.
    #[serde(default)]
    pub hold: bool,
    /// Numbers of outputs that go with it: captions, and a picture.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub with: Vec<u32>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub said: Option<Said>,
}

/// What a person said of it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Said {
    pub yes: bool,
    pub by: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    pub at: Micros,
}

/// Why an item does not go yet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Waits {
    Fields(Vec<String>),
    Release,
    Until(Micros),
}

impl Waits {
    pub fn words(&self) -> String {
        match self {
            Waits::Fields(missing) => format!("waits for fields: {}", missing.join(", ")),
            Waits::Release => "waits for a person to release it".into(),
            Waits::Until(at) => format!("goes at {}", clock::local(*at)),
        }
    }
}

impl Item {
    pub fn missing(&self) -> Vec<String> {
        let empty = |f: &&String| self.fields.get(*f).is_none_or(|v| v.trim().is_empty());
        self.required.iter().filter(empty).cloned().collect()
    }

    /// `scheduled`: the place itself keeps the time.
    pub fn waits(&self, now: Micros, scheduled: bool) -> Option<Waits> {
        let missing = self.missing();
        if !missing.is_empty() {
            return Some(Waits::Fields(missing));
        }
        if self.hold && !self.said.as_ref().is_some_and(|s| s.yes) {
            return Some(Waits::Release);
        }
        let at = self.fields.get("publish_at").and_then(|t| moment(t));
        at.filter(|at| *at > now && !scheduled).map(Waits::Until)
    }
}

/// Fields from a sidecar file: a JSON object, or a text that is the description. What is no field is passed over.
pub fn from_sidecar(ending: &str, text: &str) -> Fields {
    let mut all = said(ending, text);
    all.retain(|name, value| check(name, value).is_ok());
    all
}

/// Whatever a sidecar says, by name: what conditions ask.
pub fn said(ending: &str, text: &str) -> Fields {
    let mut out = Fields::new();
    let last = ending.rsplit('.').next().unwrap_or_default().to_lowercase();
    match last.as_str() {
        "json" => {
            let Ok(serde_json::Value::Object(all)) = serde_json::from_str(text) else { return out };
            for (name, value) in all {
                let value = match value {
                    serde_json::Value::String(s) => s,
                    serde_json::Value::Bool(b) => if b { "yes" } else { "no" }.to_owned(),
                    serde_json::Value::Array(list) => {
                        let words: Vec<&str> = list.iter().filter_map(|v| v.as_str()).collect();
                        words.join(", ")
                    }
                    serde_json::Value::Number(n) => n.to_string(),
                    _ => continue,
                };
                out.insert(name, value);
            }
        }
        "md" | "txt" => {
            out.insert("description".into(), text.trim().to_owned());
        }
        _ => (),
    }
    out
}

/// Largest sidecar that is read.
const MOST_SIDECAR: u64 = 1_000_000;

/// What a sidecar says; nothing where it cannot be read.
pub fn in_sidecar(dir: &Dir, name: &OsStr) -> Fields {
    let mut text = String::new();
    let is_small = dir.look(name).is_ok_and(|e| e.is_some_and(|e| e.seen.size <= MOST_SIDECAR));
    match dir.read(name).and_then(|f| f.take(MOST_SIDECAR).read_to_string(&mut text)) {
        Ok(_) if is_small => said(&Path::new(name).extension().unwrap_or_default().to_string_lossy(), &text),
        _ => Fields::new(),
    }
}

/// Largest table that is read.
const MOST_TABLE: u64 = 16_000_000;

/// What tables of this name say of a file: one in its own folder counts for more than those in the folders above.
pub fn in_tables(watch: &Dir, path: &Path, table: &str) -> Fields {
    let mut out = Fields::new();
    let mut folders: Vec<&Path> = path.parent().map_or(Vec::new(), |p| p.ancestors().collect());
    folders.reverse();
    for folder in folders {
        let mut text = String::new();
        let read = watch.inside(folder).and_then(|dir| dir.read(table.as_ref()));
        if read.and_then(|file| file.take(MOST_TABLE).read_to_string(&mut text)).is_ok() {
            out.extend(row(&text, path.strip_prefix(folder).unwrap_or(path)));
        }
    }
    out
}

/// The row of a table (RFC 4180, or with `;` or tabs) that is of a file: its column `file` has the file's path, name or
/// stem. The other columns are fields by their names; what is empty says nothing.
fn row(table: &str, path: &Path) -> Fields {
    let table = table.trim_start_matches('\u{feff}');
    let head = table.lines().next().unwrap_or_default();
    let between = [b',', b';', b'\t'].into_iter().max_by_key(|s| head.bytes().filter(|b| b == s).count());
    let mut reader = csv::ReaderBuilder::new()
        .flexible(true)
        .delimiter(between.unwrap_or(b','))
        .trim(csv::Trim::All)
        .from_reader(table.as_bytes());
    let Ok(head) = reader.headers().cloned() else { return Fields::new() };
    let Some(at) = head.iter().position(|h| h.eq_ignore_ascii_case("file")) else { return Fields::new() };
    let text = |p: Option<&OsStr>| p.map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    let names = [path.to_string_lossy().into_owned(), text(path.file_name()), text(path.file_stem())];
    let rows: Vec<csv::StringRecord> = reader.records().flatten().collect();
    // Of several rows that fit, the one that says it most exactly.
    let found = names.iter().find_map(|name| {
        rows.iter().find(|r| r.get(at).is_some_and(|f| !f.is_empty() && f.eq_ignore_ascii_case(name)))
    });
    let Some(found) = found else { return Fields::new() };
    let each = head.iter().zip(found).enumerate().filter(|(n, (_, value))| *n != at && !value.is_empty());
    each.map(|(_, (name, value))| (name.to_lowercase(), value.to_owned())).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("title", "Low tide", true)]
    #[case("visibility", "public", true)]
    #[case("visibility", "secret", false)]
    #[case("publish_at", "2026-11-30T18:00:00+01:00", true)]
    #[case("publish_at", "2026-11-30 18:00", true)]
    #[case("publish_at", "tomorrow", false)]
    #[case("notify", "maybe", false)]
    #[case("language", "de-AT", true)]
    #[case("language", "german language", false)]
    #[case("colour", "blue", false)]
    fn fields_have_their_forms(#[case] field: &str, #[case] value: &str, #[case] good: bool) {
        assert_eq!(check(field, value).is_ok(), good);
    }

    fn item(fields: &[(&str, &str)]) -> Item {
        let fields = fields.iter().map(|(n, v)| ((*n).to_owned(), (*v).to_owned())).collect();
        Item { fields, required: vec!["title".into(), "description".into()], hold: true, ..Item::default() }
    }

    #[test]
    fn an_item_waits_for_its_fields_then_for_a_person_then_for_its_time() {
        let said = |yes| Some(Said { yes, by: "Anna".into(), why: None, at: 1 });
        let full = [("title", "Low tide"), ("description", "x"), ("publish_at", "2026-11-30T18:00:00Z")];
        let early = item(&[("title", "Low tide"), ("description", " ")]);
        assert_eq!(early.waits(0, true), Some(Waits::Fields(vec!["description".into()])));
        assert_eq!(item(&full).waits(0, true), Some(Waits::Release));
        let released = Item { said: said(true), ..item(&full) };
        let at = moment("2026-11-30T18:00:00Z").unwrap();
        assert_eq!((released.waits(0, true), released.waits(0, false)), (None, Some(Waits::Until(at))));
        assert_eq!(released.waits(at, false), None);
        assert_eq!(Item { said: said(false), ..item(&full) }.waits(at, true), Some(Waits::Release));
    }

    #[rstest]
    #[case("file,title,tags\nebb.mov,Ebb,\"sea, mud\"\n", "ebb.mov", &[("tags", "sea, mud"), ("title", "Ebb")])]
    #[case("\u{feff}Title;File\r\nEbb;EBB\r\n", "ebb.mov", &[("title", "Ebb")])]
    #[case("title\tfile\nWrong\tebb\nRight\tday1/ebb.mov\n", "day1/ebb.mov", &[("title", "Right")])]
    #[case("file,title\nebb.mov,\n", "ebb.mov", &[])]
    #[case("file,title\nother.mov,x\n", "ebb.mov", &[])]
    #[case("title\nx\n", "ebb.mov", &[])]
    #[case("file,title\nebb.mov,Ebb,more,and more\n", "ebb.mov", &[("title", "Ebb")])]
    #[case("", "ebb.mov", &[])]
    fn a_table_has_a_row_for_a_file(#[case] table: &str, #[case] path: &str, #[case] want: &[(&str, &str)]) {
        let found = row(table, Path::new(path));
        let found: Vec<(&str, &str)> = found.iter().map(|(n, v)| (n.as_str(), v.as_str())).collect();
        assert_eq!(found, want);
    }

    #[test]
    fn a_table_nearer_to_the_file_counts_for_more() {
        let top = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(top.path().join("day1")).unwrap();
        let write = |at: &str, text: &str| std::fs::write(top.path().join(at), text).unwrap();
        write("titles.csv", "file,title,category\nday1/ebb.mov,Far,Film\n");
        write("day1/titles.csv", "file,title\nebb,Near\n");
        let dir = Dir::open(top.path()).unwrap();
        let found = in_tables(&dir, Path::new("day1/ebb.mov"), "titles.csv");
        assert_eq!((found["title"].as_str(), found["category"].as_str()), ("Near", "Film"));
        assert!(in_tables(&dir, Path::new("ebb.mov"), "none.csv").is_empty());
    }

    #[test]
    fn sidecars_bring_fields() {
        let all = from_sidecar(
            "json",
            r#"{"title":"Ebb","tags":["sea","mud"],"notify":true,"age":7,"visibility":"x"}"#,
        );
        let all: Vec<(&str, &str)> = all.iter().map(|(n, v)| (n.as_str(), v.as_str())).collect();
        assert_eq!(all, [("notify", "yes"), ("tags", "sea, mud"), ("title", "Ebb")]);
        assert_eq!(from_sidecar("en.md", " Long ago. \n")["description"], "Long ago.");
        assert!(from_sidecar("json", "[1]").is_empty() && from_sidecar("xml", "<a/>").is_empty());
    }
}
