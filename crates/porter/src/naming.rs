//! Names of outputs, from a template: `"{date}/{stem}_proxy"`. The extension comes from the preset.
//!
//! A `/` in the template makes folders; one that comes out of a value never does. No name can leave its
//! place: values lose what a file system or a careless script would trip over, and `..` cannot arise.

use std::collections::BTreeMap;

/// What a template may name, and what it is filled with.
pub const FIELDS: &[(&str, &str)] = &[
    ("stem", "the original's name without its extension"),
    ("ext", "the original's extension, in lower case"),
    ("folder", "the original's folder inside the watch folder, with - for /"),
    ("watch", "the name of the watch"),
    ("preset", "the name of the preset"),
    ("date", "the day of arrival, 2026-11-23"),
    ("time", "the time of arrival, 070549"),
    ("job", "the job's number"),
    ("width", "picture width of the original"),
    ("height", "picture height of the original"),
    ("timecode", "start timecode of the original, 10-00-00-00"),
    ("reel", "reel name of the original"),
];

/// Values for the fields, by name.
pub type Values = BTreeMap<&'static str, String>;

/// Longest name of a file or folder, in bytes, leaving room for a running number and an extension.
const MAX_PART: usize = 200;

#[derive(Clone, Debug, PartialEq, Eq)]
enum Piece {
    Text(String),
    Field(&'static str),
}

/// A checked template.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Template {
    /// Folders, then the file's stem.
    parts: Vec<Vec<Piece>>,
}

impl Template {
    /// The error says what would be right.
    pub fn parse(text: &str) -> Result<Template, String> {
        let mut parts = Vec::new();
        if text.starts_with('/') {
            return Err("a name inside the place: it may not start with '/'".into());
        }
        for part in text.split('/') {
            let mut pieces = Vec::new();
            let mut rest = part;
            while let Some(open) = rest.find(['{', '}']) {
                if rest.as_bytes()[open] == b'}' {
                    return Err("a '{' before every '}'".into());
                }
                let close = rest[open..].find('}').ok_or("a '}' behind every '{'")? + open;
                let name = &rest[open + 1..close];
                let field = FIELDS.iter().find(|(f, _)| *f == name).ok_or_else(|| {
                    let known: Vec<&str> = FIELDS.iter().map(|f| f.0).collect();
                    format!("fields of these: {}", known.join(", "))
                })?;
                if open > 0 {
                    pieces.push(Piece::Text(rest[..open].to_owned()));
                }
                pieces.push(Piece::Field(field.0));
                rest = &rest[close + 1..];
            }
            if !rest.is_empty() {
                pieces.push(Piece::Text(rest.to_owned()));
            }
            let fixed = |p: &Piece| matches!(p, Piece::Text(_));
            if pieces.iter().all(fixed) && clean(part) != part {
                return Err(format!(
                    "\"{}\" in place of \"{part}\": no empty parts, no leading dots, nothing a file system refuses",
                    clean(part)
                ));
            }
            parts.push(pieces);
        }
        Ok(Template { parts })
    }

    /// A relative path of safe names with the extension; never empty, never outside.
    pub fn fill(&self, values: &Values, extension: &str) -> String {
        let part = |pieces: &Vec<Piece>| {
            let text: String = pieces
                .iter()
                .map(|p| match p {
                    Piece::Text(t) => t.as_str(),
                    Piece::Field(f) => values.get(f).map_or("", String::as_str),
                })
                .collect();
            clean(&text)
        };
        let parts: Vec<String> = self.parts.iter().map(part).collect();
        format!("{}.{extension}", parts.join("/"))
    }
}

/// A name that every common file system and share takes: no separators, no control or reserved characters,
/// no leading dots, dashes or blanks, no trailing dots or blanks, at most [`MAX_PART`] bytes, never empty.
pub fn clean(text: &str) -> String {
    let swapped: String = text
        .chars()
        .map(|c| {
            if c.is_control() || matches!(c, '/' | '\\' | ':' | '*' | '?' | '"' | '<' | '>' | '|') {
                '_'
            } else {
                c
            }
        })
        .collect();
    let trimmed = swapped.trim_start_matches(['.', '-', ' ']).trim_end_matches(['.', ' ']);
    let mut end = trimmed.len().min(MAX_PART);
    while !trimmed.is_char_boundary(end) {
        end -= 1;
    }
    let cut = trimmed[..end].trim_end_matches(['.', ' ']);
    if cut.is_empty() { "unnamed".into() } else { cut.into() }
}

/// `name.ext` with a number before the extension: `name_2.ext`.
pub fn numbered(path: &str, n: u32) -> String {
    if n < 2 {
        return path.to_owned();
    }
    let (folder, file) = path.rsplit_once('/').map_or(("", path), |(d, f)| (d, f));
    let (stem, ext) = file
        .rsplit_once('.')
        .filter(|(s, _)| !s.is_empty())
        .map_or((file, String::new()), |(s, e)| (s, format!(".{e}")));
    let slash = if folder.is_empty() { "" } else { "/" };
    format!("{folder}{slash}{stem}_{n}{ext}")
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn values(stem: &str) -> Values {
        Values::from([("stem", stem.to_owned()), ("date", "2026-11-23".into())])
    }

    #[rstest]
    #[case("{stem}_proxy", "Bittern 01", "Bittern 01_proxy.mp4")]
    #[case("{date}/{stem}", "a/b\\c", "2026-11-23/a_b_c.mp4")]
    #[case("{stem}", "..", "unnamed.mp4")]
    #[case("{stem}", "-rf", "rf.mp4")]
    #[case("{stem}", "two\nlines", "two_lines.mp4")]
    #[case("{reel}", "x", "unnamed.mp4")]
    fn templates_fill(#[case] template: &str, #[case] stem: &str, #[case] want: &str) {
        assert_eq!(Template::parse(template).unwrap().fill(&values(stem), "mp4"), want);
    }

    #[rstest]
    #[case("/abs", "may not start")]
    #[case("../{stem}", "in place of \"..\"")]
    #[case("a//b", "no empty parts")]
    #[case("{stam}", "fields of these")]
    #[case("{stem", "a '}'")]
    #[case("stem}", "a '{'")]
    fn false_templates_say_what_is_right(#[case] template: &str, #[case] words: &str) {
        let e = Template::parse(template).unwrap_err();
        assert!(e.contains(words), "{e}");
    }

    #[rstest]
    #[case("a/b.mp4", 2, "a/b_2.mp4")]
    #[case("b.mp4", 1, "b.mp4")]
    #[case("a.b/c", 3, "a.b/c_3")]
    #[case(".hidden", 2, ".hidden_2")]
    fn numbers_stand_before_the_extension(#[case] path: &str, #[case] n: u32, #[case] want: &str) {
        assert_eq!(numbered(path, n), want);
    }

    proptest! {
        #[test]
        fn no_value_leaves_the_place(stem in ".*", date in ".*") {
            let v = Values::from([("stem", stem), ("date", date)]);
            let name = Template::parse("{date}/{stem}").unwrap().fill(&v, "mp4");
            let parts: Vec<&str> = name.split('/').collect();
            prop_assert_eq!(parts.len(), 2);
            for p in parts {
                prop_assert!(!p.is_empty() && p.len() <= 210 && !p.starts_with('.') && !p.contains(['\0', '\n', '\\']));
            }
        }
    }
}
