//! What is published with an output: its title and the like, who has to say yes, and when it goes.

use crate::clock::{self, Micros};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

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
