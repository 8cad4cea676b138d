//! Names of outputs, from a template: `"{date}/{stem}_proxy"`. The extension comes from the preset. In brackets stands a
//! field, or an expression over fields in the language of conditions: `{stem.part("_", 2).upperAscii()}`.
//!
//! A `/` in the template makes folders; one that comes out of a value never does. No name can leave its
//! place: values lose what a file system or a careless script would trip over, and `..` cannot arise.

use crate::route::fields::{self, Field, Subject, Value, nearest};
use crate::route::script::{Gives, Script, Wrong};
use crate::route::versions;
use crate::store::IfTaken;
use media::filter::video::burn::TIMECODE;
use std::sync::Arc;

/// Stands in a name for the version, until the name is given at a place. A sign for private use: no value brings one in.
pub const FREE_VERSION: &str = "\u{f8ff}";

/// A name as systems compare it that do not tell large letters from small, nor a letter with its mark from the two as one
/// sign (Unicode NFC).
pub fn folded(name: &str) -> String {
    if name.is_ascii() {
        return name.to_ascii_lowercase();
    }
    let nfc = icu_normalizer::ComposingNormalizerBorrowed::new_nfc();
    nfc.normalize(&nfc.normalize(name).to_lowercase()).into_owned()
}

/// Longest name of a file or folder, in bytes, leaving room for a running number and an extension.
const MAX_PART: usize = 200;
/// Longest ending of a file that keeps its own, in bytes.
const MAX_ENDING: usize = 32;

#[derive(Clone)]
enum Piece {
    Text(String),
    Field(&'static Field),
    /// What is worked out from fields.
    Worked(Arc<Script>),
}

impl std::fmt::Debug for Piece {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Piece::Text(t) => f.write_str(t),
            Piece::Field(field) => write!(f, "{{{}}}", field.name),
            Piece::Worked(script) => write!(f, "{{{}}}", script.text()),
        }
    }
}

/// Where the bracket that opens here closes: one inside a quoted text does not count.
fn close_of(text: &str, open: usize) -> Option<usize> {
    let (mut quote, mut escaped) = (None, false);
    for (at, c) in text.char_indices().skip_while(|(at, _)| *at <= open) {
        match (quote, c) {
            _ if escaped => escaped = false,
            (Some(_), '\\') => escaped = true,
            (Some(q), c) if c == q => quote = None,
            (None, '"' | '\'') => quote = Some(c),
            (None, '}') => return Some(at),
            _ => (),
        }
    }
    None
}

/// Where the parts of a template end: slashes outside brackets.
fn parts(text: &str) -> Vec<&str> {
    let (mut out, mut from, mut at) = (Vec::new(), 0, 0);
    while let Some(next) = text[at..].find(['{', '/']).map(|n| at + n) {
        if text.as_bytes()[next] == b'/' {
            out.push(&text[from..next]);
            from = next + 1;
            at = from;
        } else {
            at = close_of(text, next).map_or(text.len(), |c| c + 1);
        }
    }
    out.push(&text[from..]);
    out
}

/// Text, the fields in it, and what is worked out from fields.
fn pieces(text: &str) -> Result<Vec<Piece>, String> {
    let (mut pieces, mut rest) = (Vec::new(), text);
    while let Some(open) = rest.find(['{', '}']) {
        if rest.as_bytes()[open] == b'}' {
            return Err("a '{' before every '}'".into());
        }
        let close = close_of(rest, open).ok_or("a '}' behind every '{'")?;
        let inside = &rest[open + 1..close];
        if open > 0 {
            pieces.push(Piece::Text(rest[..open].to_owned()));
        }
        pieces.push(match fields::find(inside) {
            Some(field) => Piece::Field(field),
            None => worked(inside)?,
        });
        rest = &rest[close + 1..];
    }
    if !rest.is_empty() {
        pieces.push(Piece::Text(rest.to_owned()));
    }
    Ok(pieces)
}

/// An expression that gives a text or a number.
fn worked(text: &str) -> Result<Piece, String> {
    if text.chars().all(|c| c.is_alphanumeric() || c == '_') {
        return Err(match nearest(text, fields::names(false)) {
            Some(near) => format!("{{{near}}}, not {{{text}}}"),
            None => format!("fields of these: {}", fields::names(false).join(", ")),
        });
    }
    const EXAMPLE: &str = "such as {stem.upperAscii()}";
    match Script::parse(text) {
        Ok((script, _)) if script.fields().iter().any(|f| f.name == fields::VERSION) => {
            Err("{version} by itself: it is filled in when the name is given at a place".into())
        }
        Ok((_, Some(Gives::True(_) | Gives::Other(_)))) => {
            Err(format!("an expression that gives a text or a number, {EXAMPLE}, not {{{text}}}"))
        }
        Ok((script, _)) => Ok(Piece::Worked(Arc::new(script))),
        Err(Wrong::Wanted(wanted)) => Err(wanted),
        Err(Wrong::Types) => Err(format!(
            "an expression whose parts go together, {EXAMPLE}, not {{{text}}}: a text and a number do not, and functions are called with what they take"
        )),
        Err(Wrong::Form) => Err(format!("a field, or an expression in CEL {EXAMPLE}, not {{{text}}}")),
    }
}

/// What an expression gives, as it stands in a name; nothing where it cannot be told.
fn words(script: &Script, value: &impl Fn(&Field) -> Value) -> String {
    match script.with(value) {
        Ok(Gives::Known(known)) => known.words(),
        _ => String::new(),
    }
}

/// Whether a text that is shown, and is no name, has fields that there are; the error says what would be right.
pub fn check_text(text: &str) -> Result<(), String> {
    let has_version = |p: &Piece| matches!(p, Piece::Field(f) if f.name == fields::VERSION);
    match pieces(text)?.iter().any(has_version) {
        true => Err("fields without {version}: it is known only when a name is given at a place".into()),
        false => Ok(()),
    }
}

/// A text with its fields filled in as they are; `{timecode}` stays, for it runs with the pictures.
pub fn fill_text(text: &str, subject: &Subject<'_>) -> String {
    let Ok(pieces) = pieces(text) else { return text.to_owned() };
    let each = pieces.iter().map(|p| match p {
        Piece::Text(t) => t.clone(),
        Piece::Field(f) if format!("{{{}}}", f.name) == TIMECODE => TIMECODE.to_owned(),
        Piece::Field(f) => f.get(subject).words(),
        Piece::Worked(script) => words(script, &|f: &Field| f.get(subject)),
    });
    each.collect()
}

/// The n-th name to try for one that is wanted: the next version where the name has one, otherwise the next number.
pub fn candidate(wanted: &str, n: u32) -> String {
    match wanted.contains(FREE_VERSION) {
        true => wanted.replace(FREE_VERSION, &format!("v{n:03}")),
        false => numbered(wanted, n),
    }
}

/// The n-th name to try by what a rule wants done where it is taken.
pub fn candidate_by(policy: IfTaken, wanted: &str, n: u32) -> String {
    match policy {
        IfTaken::Version if !wanted.contains(FREE_VERSION) => next_version(wanted, n),
        _ => candidate(wanted, n),
    }
}

/// The n-th version of a name: of `sh010.mov` the second is `sh010_v002.mov`, of `sh010_v07.mov` it is `sh010_v08.mov`.
fn next_version(wanted: &str, n: u32) -> String {
    if n <= 1 {
        return wanted.to_owned();
    }
    let (folder, name) = wanted.rsplit_once('/').map_or(("", wanted), |(f, n)| (&wanted[..=f.len()], n));
    let (stem, ending) = name.rfind('.').filter(|at| *at > 0).map_or((name, ""), |at| name.split_at(at));
    match versions::split(stem) {
        Some((rest, number)) => {
            let mark = &stem[rest.len()..];
            let width = mark.len() - 2;
            format!("{folder}{rest}{}{:0width$}{ending}", &mark[..2], number.saturating_add(n - 1))
        }
        None => marked(wanted, &format!("_v{n:03}")),
    }
}

/// A checked template.
#[derive(Clone, Debug)]
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
        for part in self::parts(text) {
            let pieces = pieces(part)?;
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

    /// Whether it has numbers in it that are counted.
    pub fn counts(&self) -> bool {
        self.parts.iter().flatten().any(|p| match p {
            Piece::Text(_) => false,
            Piece::Field(f) => f.count.is_some(),
            Piece::Worked(script) => script.fields().iter().any(|f| f.count.is_some()),
        })
    }

    /// A relative path of safe names with the extension (a folder has none); never empty, never outside.
    pub fn fill(&self, subject: &Subject<'_>, extension: &str) -> String {
        self.fill_with(|f| f.get(subject), extension)
    }

    fn fill_with(&self, value: impl Fn(&Field) -> Value, extension: &str) -> String {
        let mut parts = Vec::new();
        let last = self.parts.len() - 1;
        for (n, pieces) in self.parts.iter().enumerate() {
            // {folder} alone mirrors the tree: its slashes make folders, and at the top there is none.
            if let [Piece::Field(f)] = pieces.as_slice()
                && f.name == "folder"
                && n < last
            {
                let folders = value(f).words().replace(FREE_VERSION, "_");
                parts.extend(folders.split('/').filter(|p| !p.is_empty()).map(clean));
                continue;
            }
            let text = joined(pieces, &value);
            // A folder whose fields are all empty is none.
            if n < last && text.is_empty() {
                continue;
            }
            parts.push(clean(&text));
        }
        let dot = if extension.is_empty() { "" } else { "." };
        format!("{}{dot}{extension}", parts.join("/"))
    }
}

const BETWEEN: [char; 4] = ['_', '-', '.', ' '];

/// The pieces of one part. A field that is empty takes the sign along that parts it from what stands before or, at the
/// beginning, behind it.
fn joined(pieces: &[Piece], value: &impl Fn(&Field) -> Value) -> String {
    let mut out = String::new();
    let mut swallow = false;
    for p in pieces {
        match p {
            Piece::Text(t) => {
                out.push_str(if std::mem::take(&mut swallow) { t.trim_start_matches(BETWEEN) } else { t });
            }
            Piece::Field(_) | Piece::Worked(_) => {
                let text = match p {
                    Piece::Worked(script) => words(script, value),
                    Piece::Field(f) => value(f).words(),
                    Piece::Text(_) => String::new(),
                };
                let is_version = matches!(p, Piece::Field(f) if f.name == fields::VERSION);
                let text = match is_version {
                    true => text,
                    false => text.replace([':', ';'], "-").replace(FREE_VERSION, "_"),
                };
                if text.is_empty() {
                    out.truncate(out.trim_end_matches(BETWEEN).len());
                    swallow = out.is_empty();
                } else {
                    out.push_str(&text);
                    swallow = false;
                }
            }
        }
    }
    out
}

/// Names that systems of the Windows family keep for devices, with any extension.
const DEVICES: [&str; 6] = ["con", "prn", "aux", "nul", "conin$", "conout$"];

fn is_device(name: &str) -> bool {
    let stem = name.split('.').next().unwrap_or("").trim_end().to_lowercase();
    let numbered = |start| {
        let rest = stem.strip_prefix(start);
        rest.is_some_and(|r| {
            matches!(r, "0" | "1" | "2" | "3" | "4" | "5" | "6" | "7" | "8" | "9" | "¹" | "²" | "³")
        })
    };
    DEVICES.contains(&stem.as_str()) || numbered("com") || numbered("lpt")
}

/// A name that every common file system and share takes, and that shows what it is: no separators, no control,
/// reserved, invisible or direction-changing characters, no leading dots, dashes or blanks, no trailing dots or
/// blanks, no device's name, at most [`MAX_PART`] bytes, never empty.
pub fn clean(text: &str) -> String {
    let swapped: String = text
        .chars()
        .map(|c| {
            let reserved =
                matches!(c, '/' | '\\' | ':' | '*' | '?' | '"' | '<' | '>' | '|' | media::show::HIDDEN);
            if reserved || media::show::hides(c) { '_' } else { c }
        })
        .collect();
    let trimmed = swapped.trim_start_matches(['.', '-', ' ']).trim_end_matches(['.', ' ']);
    let mut end = trimmed.len().min(MAX_PART);
    while !trimmed.is_char_boundary(end) {
        end -= 1;
    }
    let cut = trimmed[..end].trim_end_matches(['.', ' ']);
    match cut {
        "" => "unnamed".into(),
        cut if is_device(cut) => format!("_{cut}"),
        cut => cut.into(),
    }
}

/// The ending of a file as it arrived, fit to stand behind a name.
pub fn ending(text: &str) -> String {
    let clean = if text.is_empty() { String::new() } else { clean(text).replace(FREE_VERSION, "_") };
    let mut end = clean.len().min(MAX_ENDING);
    while !clean.is_char_boundary(end) {
        end -= 1;
    }
    clean[..end].trim_end_matches(['.', ' ']).to_owned()
}

/// `name.ext` with a number before the extension: `name_2.ext`.
pub fn numbered(path: &str, n: u32) -> String {
    if n < 2 { path.to_owned() } else { marked(path, &format!("_{n}")) }
}

/// With something before the extension.
pub fn marked(path: &str, mark: &str) -> String {
    let (folder, file) = path.rsplit_once('/').map_or(("", path), |(d, f)| (d, f));
    let (stem, ext) = file
        .rsplit_once('.')
        .filter(|(s, _)| !s.is_empty())
        .map_or((file, String::new()), |(s, e)| (s, format!(".{e}")));
    let slash = if folder.is_empty() { "" } else { "/" };
    format!("{folder}{slash}{stem}{mark}{ext}")
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn filled(template: &str, values: &[(&str, &str)]) -> String {
        let value = |f: &Field| {
            let known = values.iter().find(|(n, _)| *n == f.name);
            Value::Text(known.map_or(String::new(), |(_, v)| (*v).to_owned()))
        };
        Template::parse(template).unwrap().fill_with(value, "mp4")
    }

    #[rstest]
    #[case("{stem}_proxy", "Bittern 01", "Bittern 01_proxy.mp4")]
    #[case("{date}/{stem}", "a/b\\c", "2026-11-23/a_b_c.mp4")]
    #[case("{stem}", "..", "unnamed.mp4")]
    #[case("{stem}", "-rf", "rf.mp4")]
    #[case("{stem}", "two\nlines", "two_lines.mp4")]
    #[case("{reel}", "x", "unnamed.mp4")]
    #[case("{stem}_{reel}_", "cup", "cup_.mp4")]
    #[case("{stem}_{reel}_proxy", "cup", "cup_proxy.mp4")]
    #[case("{reel}_{stem}", "cup", "cup.mp4")]
    #[case("{reel}/{stem}", "cup", "cup.mp4")]
    #[case("{stem}", "CON", "_CON.mp4")]
    #[case("{stem}", "com1.tar", "_com1.tar.mp4")]
    #[case("{stem}", "nul ", "_nul.mp4")]
    #[case("{stem}", "console", "console.mp4")]
    #[case("{stem.part('_', 2).upperAscii()}_x", "ep03_sc12", "SC12_x.mp4")]
    #[case("{stem.find('[0-9]+')}/{stem}", "ep03", "03/ep03.mp4")]
    #[case("{stem.find('[0-9]+')}/{stem}", "bittern", "bittern.mp4")]
    #[case("{stem.replace('}', '/')}", "a}b", "a_b.mp4")]
    #[case("{stem.substring(2, 40)}_{stem}", "cup", "cup.mp4")]
    #[case("{stem}", "a\u{202e}4pm.b\u{200b}", "a_4pm.b_.mp4")]
    fn templates_fill(#[case] template: &str, #[case] stem: &str, #[case] want: &str) {
        assert_eq!(filled(template, &[("stem", stem), ("date", "2026-11-23")]), want);
    }

    #[rstest]
    #[case("{folder}/{stem}", "day1/camA", "day1/camA/clip.mp4")]
    #[case("{folder}/{stem}", "", "clip.mp4")]
    #[case("x/{folder}/{stem}", "../..", "x/unnamed/unnamed/clip.mp4")]
    #[case("{folder}_{stem}", "day1/camA", "day1_camA_clip.mp4")]
    fn folders_are_mirrored(#[case] template: &str, #[case] folder: &str, #[case] want: &str) {
        assert_eq!(filled(template, &[("stem", "clip"), ("folder", folder)]), want);
    }

    #[rstest]
    #[case("/abs", "may not start")]
    #[case("../{stem}", "in place of \"..\"")]
    #[case("a//b", "no empty parts")]
    #[case("{stam}", "{stem}, not {stam}")]
    #[case("{xyzzy}", "fields of these")]
    #[case("{stem.uper()}", "whose parts go together")]
    #[case("{stem ==}", "an expression in CEL")]
    #[case("{stem == 'a'}", "a text or a number")]
    #[case("{stam.slug()}", "'stem', not 'stam'")]
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

    #[test]
    fn no_value_brings_a_version_in() {
        let odd = format!("a{FREE_VERSION}b");
        let name = filled(
            "{folder}/{stem}_{version}",
            &[("folder", &odd), ("stem", &odd), ("version", FREE_VERSION)],
        );
        assert_eq!(candidate(&name, 3), "a_b/a_b_v003.mp4");
        assert_eq!(ending(&odd), "a_b");
        assert!(
            check_text("{stem} {version}").unwrap_err().contains("{version}") && check_text("{stem}").is_ok()
        );
    }

    proptest! {
        #[test]
        fn no_value_leaves_the_place(stem in ".*", folder in ".*", date in ".*") {
            let name = filled("{folder}/{date}x/{stem}", &[("stem", &stem), ("folder", &folder), ("date", &date)]);
            let parts: Vec<&str> = name.split('/').collect();
            prop_assert!(parts.len() >= 2);
            for p in parts {
                prop_assert!(!p.is_empty() && p.len() <= 210 && !p.starts_with('.') && p != "..");
                prop_assert!(!p.chars().any(|c| media::show::hides(c) || c == '\\') && !is_device(p), "{p:?}");
            }
        }
    }
}
