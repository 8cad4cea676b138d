//! Manifests: the ASC Media Hash List 2.0 (American Society of Cinematographers, 2022), with its history of generations in
//! the folder `ascmhl`; and lists of checksums as text.

use super::sums::{Kind, Sum};
use crate::clock::{self, Micros};
use crate::files::Dir;
use quick_xml::Reader;
use quick_xml::events::Event;
use std::io::{self, Read, Write};
use std::path::{Component, Path};

const FOLDER: &str = super::tree::MANIFESTS;
pub const CHAIN: &str = "ascmhl_chain.xml";
/// Largest manifest that is read.
const MAX_BYTES: u64 = 1 << 30;

/// One file as a manifest has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// Inside the folder, with `/`.
    pub path: String,
    pub size: Option<u64>,
    pub modified: Option<Micros>,
    pub sums: Vec<(Kind, String)>,
}

/// What a manifest says.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Listed {
    pub entries: Vec<Entry>,
    /// Sums of a kind that is not known here.
    pub unknown: usize,
}

fn text(s: &str) -> String {
    s.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// Whole seconds with a zone, as the schema wants it.
fn date(at: Micros) -> String {
    let whole = clock::zoned_text(at);
    // Without the fraction.
    format!("{}{}", &whole[..19], &whole[23..])
}

/// A path that stays inside.
pub fn is_inside(path: &str) -> bool {
    !path.is_empty() && Path::new(path).components().all(|c| matches!(c, Component::Normal(_)))
}

/// A manifest of the form 2.0. `known`: in an earlier generation already, by path.
pub fn write_mhl(entries: &[Entry], process: &str, now: Micros, known: &dyn Fn(&str) -> bool) -> String {
    let host = rustix::system::uname().nodename().to_string_lossy().into_owned();
    let mut out = format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<hashlist version=\"2.0\" xmlns=\"urn:ASC:MHL:v2.0\">\n\
         \x20 <creatorinfo>\n    <creationdate>{}</creationdate>\n    <hostname>{}</hostname>\n\
         \x20   <tool version=\"{}\">Deft Porter</tool>\n  </creatorinfo>\n\
         \x20 <processinfo>\n    <process>{process}</process>\n    <ignore>\n",
        date(now),
        text(&host),
        env!("CARGO_PKG_VERSION"),
    );
    for pattern in [".DS_Store", "ascmhl", "ascmhl/", crate::files::known::MARKER] {
        out.push_str(&format!("      <pattern>{}</pattern>\n", text(pattern)));
    }
    out.push_str("    </ignore>\n  </processinfo>\n  <hashes>\n");
    for e in entries {
        let size = e.size.map_or(String::new(), |s| format!(" size=\"{s}\""));
        let modified = e.modified.map_or(String::new(), |m| format!(" lastmodificationdate=\"{}\"", date(m)));
        out.push_str(&format!("    <hash>\n      <path{size}{modified}>{}</path>\n", text(&e.path)));
        let action = if known(&e.path) { "verified" } else { "original" };
        for (kind, sum) in &e.sums {
            let name = kind.name();
            let when = date(now);
            out.push_str(&format!("      <{name} action=\"{action}\" hashdate=\"{when}\">{sum}</{name}>\n"));
        }
        out.push_str("    </hash>\n");
    }
    out.push_str("  </hashes>\n</hashlist>\n");
    out
}

/// Reads a manifest of the form 2.0 (or 1, whose names are the same).
pub fn read_mhl(whole: &str) -> Result<Listed, String> {
    let mut reader = Reader::from_str(whole);
    let mut out = Listed::default();
    let blank = || Entry { path: String::new(), size: None, modified: None, sums: Vec::new() };
    let (mut entry, mut words, mut is_list) = (blank(), String::new(), false);
    // A sum that was found to be another one than before is no word of what the file should be.
    let mut failed = false;
    let mut inside = Vec::new();
    loop {
        let event = reader.read_event().map_err(|e| format!("at byte {}: {e}", reader.buffer_position()))?;
        match event {
            Event::Eof => break,
            Event::Start(e) => {
                let name = e.local_name().as_ref().to_owned();
                words.clear();
                is_list |= name == "hashlist";
                if name == "hash" {
                    entry = blank();
                }
                failed = e
                    .attributes()
                    .flatten()
                    .any(|a| a.key.as_ref() == "action" && a.value.as_ref() == "failed");
                if name == "path" {
                    for a in e.attributes().flatten() {
                        let value =
                            a.normalized_value(quick_xml::XmlVersion::Implicit1_0).unwrap_or_default();
                        match a.key.as_ref() {
                            "size" => entry.size = value.parse().ok(),
                            "lastmodificationdate" => entry.modified = clock::parse_zoned(&value),
                            _ => (),
                        }
                    }
                }
                inside.push(name);
            }
            Event::Text(t) => words.push_str(t.as_ref()),
            Event::GeneralRef(r) => match (r.resolve_char_ref(), r.as_ref()) {
                (Ok(Some(c)), _) => words.push(c),
                (_, "amp") => words.push('&'),
                (_, "lt") => words.push('<'),
                (_, "gt") => words.push('>'),
                (_, "quot") => words.push('"'),
                (_, "apos") => words.push('\''),
                _ => (),
            },
            Event::End(_) => {
                let Some(name) = inside.pop() else { break };
                let of_hash = inside.last().is_some_and(|n| n == "hash");
                match name.as_str() {
                    "path" | "file" if of_hash => entry.path = words.trim().to_owned(),
                    "size" if of_hash => entry.size = words.trim().parse().ok(),
                    "hash" => out.entries.push(entry.clone()),
                    _ if of_hash && failed => failed = false,
                    name if of_hash => match Kind::parse(name) {
                        Some(kind) => entry.sums.push((kind, words.trim().to_lowercase_unless_c4(kind))),
                        None if name.starts_with("xxh") || name.starts_with("sha") => out.unknown += 1,
                        None => (),
                    },
                    _ => (),
                }
            }
            _ => (),
        }
    }
    if !is_list {
        return Err("it is no media hash list".into());
    }
    Ok(out)
}

trait Lower {
    fn to_lowercase_unless_c4(&self, kind: Kind) -> String;
}

impl Lower for str {
    fn to_lowercase_unless_c4(&self, kind: Kind) -> String {
        if kind == Kind::C4 { self.to_owned() } else { self.to_lowercase() }
    }
}

/// Checksums as text: `SUM  name`, `SUM *name` (coreutils) or `KIND (name) = SUM` (BSD).
pub fn read_text(whole: &str) -> Result<Listed, String> {
    let mut out = Listed::default();
    for (n, line) in whole.lines().enumerate() {
        let line = line.trim_start_matches('\u{feff}').trim_end();
        if line.is_empty() || line.starts_with('#') || line.starts_with(';') {
            continue;
        }
        let bsd = || {
            let (kind, rest) = line.split_once(" (")?;
            let (path, sum) = rest.rsplit_once(") = ")?;
            Some((Kind::parse(kind)?, sum.to_owned(), path.to_owned()))
        };
        let plain = || {
            let (sum, path) = line.split_once(' ')?;
            let path = path.strip_prefix([' ', '*']).unwrap_or(path);
            Some((Kind::of_length(sum)?, sum.to_owned(), path.to_owned()))
        };
        let Some((kind, sum, path)) = bsd().or_else(plain) else {
            let known = "MD5, SHA-1, SHA-256, xxHash and C4 are known";
            return Err(format!("line {}: no checksum and name ({known})", n + 1));
        };
        let path = path.strip_prefix("./").unwrap_or(&path).replace('\\', "/");
        let sums = vec![(kind, sum.to_lowercase_unless_c4(kind))];
        out.entries.push(Entry { path, size: None, modified: None, sums });
    }
    if out.entries.is_empty() { Err("no checksums in it".into()) } else { Ok(out) }
}

/// Lines that other programs read as well.
pub fn write_text(entries: &[Entry], kind: Kind) -> String {
    let sum = |e: &Entry| e.sums.iter().find(|(k, _)| *k == kind).map(|(_, s)| s.clone());
    entries.iter().filter_map(|e| Some(format!("{}  {}\n", sum(e)?, e.path))).collect()
}

/// The generations in a folder, oldest first: the file's name and what it says.
pub fn history(folder: &Dir) -> io::Result<Vec<(String, Listed)>> {
    let dir = match folder.inside(Path::new(FOLDER)) {
        Ok(dir) => dir,
        Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(e) => return Err(e),
    };
    let mut names: Vec<String> = dir
        .names()?
        .into_iter()
        .filter_map(|n| n.into_string().ok())
        .filter(|n| n.ends_with(".mhl"))
        .collect();
    names.sort();
    let mut out = Vec::new();
    for name in names {
        let whole = read_whole(dir.read(name.as_ref())?)?;
        let listed = read_mhl(&whole).map_err(|why| io::Error::other(format!("{FOLDER}/{name}: {why}")))?;
        out.push((name, listed));
    }
    Ok(out)
}

pub fn read_whole(file: std::fs::File) -> io::Result<String> {
    let mut whole = String::new();
    file.take(MAX_BYTES).read_to_string(&mut whole)?;
    Ok(whole)
}

/// Whether a chain is another one with further generations behind.
pub fn goes_on(longer: &str, shorter: &str) -> bool {
    let body = |whole: &str| whole.rfind("</ascmhldirectory>").map(|at| whole[..at].trim_end().to_owned());
    matches!((body(longer), body(shorter)), (Some(l), Some(s)) if l.starts_with(&s))
}

/// The manifests that a folder has already.
pub struct History {
    before: Vec<(String, Listed)>,
    /// The list of them, as it stands.
    chain: Option<String>,
}

/// One more of them.
pub struct Generation {
    /// Of its file.
    pub name: String,
    pub list: String,
    /// The list of all generations with this one.
    pub chain: String,
}

impl History {
    pub fn of(folder: &Dir) -> io::Result<History> {
        let before = history(folder)?;
        let chain = match folder.inside(Path::new(FOLDER)).and_then(|dir| dir.read(CHAIN.as_ref())) {
            Ok(file) => Some(read_whole(file)?),
            Err(e) if e.kind() == io::ErrorKind::NotFound => None,
            Err(e) => return Err(e),
        };
        Ok(History { before, chain })
    }

    pub fn next(&self, title: &str, entries: &[Entry], process: &str, now: Micros) -> Generation {
        let known: std::collections::HashSet<&str> =
            self.before.iter().flat_map(|(_, l)| &l.entries).map(|e| e.path.as_str()).collect();
        let numbers = self.before.iter().filter_map(|(n, _)| n.get(..4)?.parse::<u32>().ok());
        let number = numbers.max().unwrap_or(0) + 1;
        let name = format!("{number:04}_{title}_{}.mhl", clock::universal(now));
        let list = write_mhl(entries, process, now, &|path| known.contains(path));
        let mut sum = Sum::new(Kind::C4);
        sum.add(list.as_bytes());
        let line = format!(
            "  <hashlist sequencenr=\"{number}\">\n    <path>{}</path>\n    <c4>{}</c4>\n  </hashlist>\n",
            text(&name),
            sum.end()
        );
        let start = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<ascmhldirectory xmlns=\"urn:ASC:MHL:DIRECTORY:v2.0\">\n";
        let body = self.chain.as_deref().map_or(start, |old| {
            old.rfind("</ascmhldirectory>").map_or(start, |at| old[..at].trim_end_matches(' '))
        });
        Generation { name, list, chain: format!("{body}{line}</ascmhldirectory>\n") }
    }
}

/// Writes the next generation of a folder's history; gives its path inside.
pub fn add_generation(folder: &Dir, entries: &[Entry], process: &str, now: Micros) -> io::Result<String> {
    let title = folder.path().file_name().map_or("files".into(), |n| n.to_string_lossy().into_owned());
    let Generation { name, list, chain } = History::of(folder)?.next(&title, entries, process, now);
    let dir = folder.make(Path::new(FOLDER))?;
    let mut file = dir.create(name.as_ref())?;
    file.write_all(list.as_bytes())?;
    file.sync_all()?;
    // The chain is written beside, and then has its name: never half of it.
    let stage = std::ffi::OsString::from(format!(".{}.deft-porter.part", clock::nonce()));
    let mut file = dir.create(&stage)?;
    file.write_all(chain.as_bytes())?;
    file.sync_all()?;
    dir.rename_over(&stage, CHAIN.as_ref())?;
    dir.sync();
    Ok(format!("{FOLDER}/{name}"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn entry(path: &str) -> Entry {
        let sums = vec![(Kind::Xxh64, "44bc2cf5ad770999".to_owned())];
        Entry { path: path.into(), size: Some(3), modified: Some(1_700_000_000_000_000), sums }
    }

    #[test]
    fn a_manifest_is_read_as_it_was_written() {
        let all = [entry("day 1/a&b <c>.mov"), entry("鷺.wav")];
        let whole = write_mhl(&all, "transfer", 1_700_000_000_000_000, &|p| p.starts_with("day"));
        assert_eq!(read_mhl(&whole).unwrap(), Listed { entries: all.to_vec(), unknown: 0 });
        assert!(whole.contains("action=\"verified\"") && whole.contains("action=\"original\""));
        assert!(
            read_mhl("<html/>").is_err() && read_mhl("<hashlist><hash>").is_ok_and(|l| l.entries.is_empty())
        );
    }

    #[rstest]
    #[case("900150983cd24fb0d6963f7d28e17f72  a b.mov", Kind::Md5, "a b.mov")]
    #[case("900150983CD24FB0D6963F7D28E17F72 *./day1/a.mov", Kind::Md5, "day1/a.mov")]
    #[case("MD5 (a (2).mov) = 900150983cd24fb0d6963f7d28e17f72", Kind::Md5, "a (2).mov")]
    #[case("a9993e364706816aba3e25717850c26c9cd0d89d  a.mov", Kind::Sha1, "a.mov")]
    #[case("SHA1 (a.mov) = a9993e364706816aba3e25717850c26c9cd0d89d", Kind::Sha1, "a.mov")]
    #[case("44bc2cf5ad770999  day1\\a.mov", Kind::Xxh64, "day1/a.mov")]
    fn lists_of_checksums_are_read(#[case] line: &str, #[case] kind: Kind, #[case] path: &str) {
        let got = read_text(&format!("# made by hand\n\n{line}\n")).unwrap();
        assert_eq!((got.entries[0].path.as_str(), got.entries[0].sums[0].0), (path, kind));
    }

    #[rstest]
    #[case("../a", false)]
    #[case("/a", false)]
    #[case("a/../../b", false)]
    #[case("", false)]
    #[case("a/b", true)]
    fn no_path_of_a_manifest_leads_out(#[case] path: &str, #[case] want: bool) {
        assert_eq!(is_inside(path), want);
    }

    #[test]
    fn generations_follow_each_other() {
        let dir = tempfile::tempdir().unwrap();
        let folder = Dir::open(dir.path()).unwrap();
        let first = add_generation(&folder, &[entry("a")], "transfer", 1_700_000_000_000_000).unwrap();
        let second =
            add_generation(&folder, &[entry("a"), entry("b")], "transfer", 1_700_000_060_000_000).unwrap();
        assert!(first.starts_with("ascmhl/0001_") && second.starts_with("ascmhl/0002_"), "{first} {second}");
        let all = history(&folder).unwrap();
        assert_eq!((all.len(), all[1].1.entries.len()), (2, 2));
        let chain = std::fs::read_to_string(dir.path().join("ascmhl").join(CHAIN)).unwrap();
        let first =
            chain.split("  <hashlist sequencenr=\"2\"").next().unwrap().to_owned() + "</ascmhldirectory>";
        assert!(goes_on(&chain, &first) && goes_on(&chain, &chain) && !goes_on(&first, &chain));
        assert_eq!((chain.matches("<c4>").count(), chain.matches("</ascmhldirectory>").count()), (2, 1));
    }
}
