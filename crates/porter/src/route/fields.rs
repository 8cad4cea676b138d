//! What conditions and names can say of an arrival: one table for both, one word with one meaning.

use super::{Item, versions};
use crate::clock;
use crate::files::many::Many;
use crate::naming;
use crate::store::Counts;
use media::facts::Facts;

/// What a field is asked of.
#[derive(Clone, Copy)]
pub struct Subject<'a> {
    pub facts: &'a Facts,
    pub item: &'a Item<'a>,
    /// Empty where no output is asked about.
    pub preset: &'a str,
    pub rule: &'a str,
}

#[derive(Clone, Debug, PartialEq)]
pub enum Value {
    Text(String),
    Int(i64),
    Float(f64),
    List(Vec<Value>),
    Record(Vec<(String, Value)>),
}

impl Value {
    /// As it stands in a name.
    pub fn words(&self) -> String {
        match self {
            Value::Text(t) => t.clone(),
            Value::Int(n) => n.to_string(),
            Value::Float(x) => {
                let text = format!("{x:.3}");
                text.trim_end_matches('0').trim_end_matches('.').to_owned()
            }
            Value::List(all) => all.iter().map(Value::words).collect::<Vec<_>>().join(", "),
            Value::Record(all) => {
                let said = all.iter().map(|(_, v)| v.words()).filter(|w| !w.is_empty());
                said.collect::<Vec<_>>().join(" ")
            }
        }
    }
}

/// One field.
pub struct Field {
    pub name: &'static str,
    /// For lists of what there is.
    pub help: &'static str,
    /// Conditions know it too.
    pub in_conditions: bool,
    /// Every value it can have, where those are few.
    pub values: Option<fn() -> Vec<&'static str>>,
    /// A value of the right type, for trying a condition.
    pub sample: fn() -> Value,
    value: fn(&Subject<'_>) -> Value,
    /// It is one of the numbers that are counted for a job.
    pub count: Option<fn(&Counts, &str) -> i64>,
}

const fn field(
    name: &'static str,
    help: &'static str,
    sample: fn() -> Value,
    value: fn(&Subject<'_>) -> Value,
) -> Field {
    Field { name, help, in_conditions: true, values: None, sample, value, count: None }
}

fn text(s: impl Into<String>) -> Value {
    Value::Text(s.into())
}

fn int(n: impl TryInto<i64>) -> Value {
    Value::Int(n.try_into().unwrap_or(i64::MAX))
}

fn os(s: Option<&std::ffi::OsStr>) -> String {
    s.map_or(String::new(), |s| s.to_string_lossy().into_owned())
}

const WORD: fn() -> Value = || text("sample");
const COUNT: fn() -> Value = || Value::Int(1);
const NONE: fn() -> Value = || Value::Record(Vec::new());
const REAL: fn() -> Value = || Value::Float(25.0);

/// Texts by their names.
fn texts<'t>(all: impl IntoIterator<Item = (&'t str, &'t str)>) -> Value {
    Value::Record(all.into_iter().map(|(k, v)| (k.to_owned(), text(v))).collect())
}

fn sound(codec: &str, rate: u32, channels: u16, layout: &str, language: &str) -> Value {
    let all = [
        ("codec", text(codec)),
        ("rate", int(rate)),
        ("channels", int(channels)),
        ("layout", text(layout)),
        ("language", text(language)),
    ];
    Value::Record(all.map(|(k, v)| (k.to_owned(), v)).to_vec())
}

/// Letters and digits that are not taken for each other.
const SIGNS: &[u8; 32] = b"abcdefghjkmnpqrstuvwxyz023456789";
/// Six of them.
const IDS: u64 = 1 << 30;

/// Numbers that follow each other give signs that do not look alike: an odd factor leads every number below [`IDS`] to
/// another one. Later jobs have a longer sign.
fn short_id(job: i64) -> String {
    let job = job.unsigned_abs();
    let mixed = (job % IDS).wrapping_mul(0x2545_f491) % IDS;
    let mut out = String::new();
    for n in 0..6 {
        out.push(char::from(SIGNS[(mixed >> (5 * n)) as usize % 32]));
    }
    let mut more = job / IDS;
    while more > 0 {
        out.push(char::from(SIGNS[more as usize % 32]));
        more /= 32;
    }
    out
}

/// Kinds of files that [`media::facts`] tells.
fn kinds() -> Vec<&'static str> {
    vec!["video", "audio", "image", "folder", "other"]
}

fn formats() -> Vec<&'static str> {
    let containers = media::container::FORMATS.iter().map(|f| f.name);
    containers.chain(media::still::FORMATS.iter().map(|f| f.name)).collect()
}

/// To add one: a line here.
pub static FIELDS: &[Field] = &[
    Field {
        values: Some(kinds),
        ..field(
            "kind",
            "video, audio, image, folder or other",
            || text("video"),
            |s| text(s.facts.kind.to_string()),
        )
    },
    Field {
        values: Some(formats),
        ..field("format", "container or picture format, MP4", WORD, |s| text(s.facts.format.clone()))
    },
    Field {
        values: Some(media::track::codec_names),
        ..field("codec", "codec of the picture, or of the sound where there is no picture", WORD, |s| {
            let f = s.facts;
            let sound = || f.audio.first().map(|a| a.codec.clone());
            text(f.picture().map(|v| v.codec.clone()).or_else(sound).unwrap_or_default())
        })
    },
    field(
        "width",
        "picture width as shown, 0 without a picture",
        || Value::Int(1920),
        |s| int(s.facts.picture().map_or(0, |v| v.width)),
    ),
    field(
        "height",
        "picture height as shown, 0 without a picture",
        || Value::Int(1080),
        |s| int(s.facts.picture().map_or(0, |v| v.height)),
    ),
    field("fps", "frames a second, 0.0 without a rate", REAL, |s| {
        Value::Float(s.facts.picture().and_then(|v| v.rate).map_or(0.0, |r| r.value()))
    }),
    field("seconds", "duration in seconds", REAL, |s| {
        Value::Float(s.facts.duration.map_or(0.0, |d| d.seconds))
    }),
    field("bytes", "file size", COUNT, |s| int(s.facts.bytes)),
    field("sound_tracks", "number of sound tracks", COUNT, |s| int(s.facts.audio.len())),
    field("channels", "channels of the first sound track, 0 without one", COUNT, |s| {
        int(s.facts.audio.first().map_or(0, |a| a.channels))
    }),
    field(
        "sounds",
        "every sound track, each with codec, rate, channels, layout and language: sounds.exists(s, s.channels == 6)",
        || Value::List(vec![sound("AAC", 48_000, 2, "stereo", "eng")]),
        |s| {
            let each = s.facts.audio.iter().map(|a| {
                let word = |w: &Option<String>| w.clone().unwrap_or_default();
                sound(&a.codec, a.rate, a.channels, &word(&a.layout), &word(&a.language))
            });
            Value::List(each.collect())
        },
    ),
    field("tags", "what the file says of itself, by name: \"title\" in tags", NONE, |s| {
        texts(s.facts.tags.iter().map(|(k, v)| (k.as_str(), v.as_str())))
    }),
    field("sidecar", "fields of its sidecar files, by name: \"scene\" in sidecar", NONE, |s| {
        texts(s.item.said.into_iter().flatten().map(|(k, v)| (k.as_str(), v.as_str())))
    }),
    field("parts", "parts of its stem by the house's name_parts, empty where that does not fit", NONE, |s| {
        let Some(pattern) = s.item.name_parts else { return texts([]) };
        let stem = os(s.item.path.file_stem());
        let found = pattern.captures(&stem);
        let names = pattern.capture_names().flatten();
        let part = |name| found.as_ref().and_then(|f| f.name(name)).map_or("", |m| m.as_str());
        texts(names.map(|name| (name, part(name))))
    }),
    field("captions", "number of caption tracks", COUNT, |s| int(s.facts.captions)),
    field("timecode", "start timecode, empty without one", WORD, |s| {
        text(s.facts.timecode.as_ref().map_or(String::new(), |t| t.start.clone()))
    }),
    field("reel", "reel name, empty without one", WORD, |s| {
        text(s.facts.timecode.as_ref().and_then(|t| t.reel.clone()).unwrap_or_default())
    }),
    field("frames", "number of frames of a run, 0 for a file", COUNT, |s| {
        int(s.item.frames().map_or(0, |f| f.count()))
    }),
    field("first_frame", "number of the first frame of a run, 0 for a file", COUNT, |s| {
        int(s.item.frames().map_or(0, |f| f.first))
    }),
    field("files", "number of files of a folder that is taken whole, otherwise 0", COUNT, |s| {
        match s.item.many {
            Some(Many::Tree(tree)) => int(tree.files),
            _ => int(0),
        }
    }),
    field("beside", "endings of what belongs to it, with blanks between: srt en.xml", WORD, |s| {
        let all: Vec<String> =
            s.item.beside.iter().filter(|b| !b.marker).map(|b| b.ending(s.item.path)).collect();
        text(all.join(" "))
    }),
    field("name", "the original's name with its extension", WORD, |s| text(os(s.item.path.file_name()))),
    field("stem", "the original's name without its extension", WORD, |s| text(os(s.item.path.file_stem()))),
    field("extension", "the original's extension in lower case, empty without one", WORD, |s| {
        text(os(s.item.path.extension()).to_lowercase())
    }),
    field("folder", "the original's folder inside the watch folder, empty at its top", WORD, |s| {
        text(s.item.path.parent().map_or(String::new(), |p| p.to_string_lossy().into_owned()))
    }),
    field("watch", "name of the watch", WORD, |s| text(s.item.watch)),
    field(
        "source",
        "the original without the mark of its version: shots/sh010 of shots/v003/sh010.mov",
        WORD,
        |s| text(versions::of(s.item.path).thing.with_extension("").to_string_lossy()),
    ),
    field("source_version", "the number of that mark, 0 without one", COUNT, |s| {
        int(versions::of(s.item.path).number)
    }),
    field(
        "earlier",
        "how many arrivals of the same source came before: other versions, or the same name with other content",
        COUNT,
        |s| int(s.item.others.earlier),
    ),
    field("newer", "how many of those have a higher source_version", COUNT, |s| int(s.item.others.newer)),
    field("date", "the day the file arrived, here: 2026-11-23", WORD, |s| {
        text(clock::local_date(s.item.arrived))
    }),
    field("time", "the time of day it arrived, here: 07:05:49", WORD, |s| {
        text(clock::local_time(s.item.arrived))
    }),
    field("job", "the job's number", COUNT, |s| int(s.item.job)),
    field(
        "id",
        "a short sign of the job, of letters and digits, that no other job of the house has: q4t7a2",
        WORD,
        |s| text(short_id(s.item.job)),
    ),
    Field { in_conditions: false, ..field("preset", "name of the preset", WORD, |s| text(s.preset)) },
    Field { in_conditions: false, ..field("rule", "name of the rule", WORD, |s| text(s.rule)) },
    counted(
        "count_watch",
        "how many arrivals of its watch were worked on so far, this one among them",
        |c, _| c.watch,
    ),
    counted("count_day", "the same of its watch and its day", |c, _| c.day),
    counted("count_folder", "the same of its folder in the watch", |c, _| c.folder),
    counted("count_rule", "how many arrivals the rule held for so far", |c, rule| {
        c.rules.get(rule).copied().unwrap_or(0)
    }),
    Field {
        in_conditions: false,
        ..field(VERSION, "the next version that is free at the place, v001 for the first", WORD, |_| {
            text(naming::FREE_VERSION)
        })
    },
];

/// The field that is filled in when a name is given at a place.
pub const VERSION: &str = "version";

/// A number that is counted, for names.
const fn counted(name: &'static str, help: &'static str, get: fn(&Counts, &str) -> i64) -> Field {
    Field { in_conditions: false, count: Some(get), ..field(name, help, COUNT, |_| Value::Int(0)) }
}

impl Field {
    pub fn get(&self, s: &Subject<'_>) -> Value {
        match (self.count, s.item.counts) {
            // One that is only tried would be the first.
            (Some(get), counts) => Value::Int(counts.map_or(1, |c| get(c, s.rule))),
            (None, _) => (self.value)(s),
        }
    }
}

/// A field by name.
pub fn find(name: &str) -> Option<&'static Field> {
    FIELDS.iter().find(|f| f.name == name)
}

/// Names of all fields, or of those that conditions know.
pub fn names(in_conditions: bool) -> Vec<&'static str> {
    FIELDS.iter().filter(|f| f.in_conditions || !in_conditions).map(|f| f.name).collect()
}

/// The nearest of some words, if one is near.
pub fn nearest<'w>(wanted: &str, words: impl IntoIterator<Item = &'w str>) -> Option<&'w str> {
    let plain =
        |s: &str| s.chars().filter(|c| c.is_alphanumeric()).flat_map(char::to_lowercase).collect::<String>();
    let wanted = plain(wanted);
    let far = |w: &str| distance(&wanted, &plain(w));
    words
        .into_iter()
        .map(|w| (far(w), w))
        .filter(|(d, w)| *d <= 1 + w.chars().count() / 4)
        .min_by_key(|(d, _)| *d)
        .map(|(_, w)| w)
}

/// Letters to change, add, leave out or swap (optimal string alignment).
fn distance(a: &str, b: &str) -> usize {
    let (a, b): (Vec<char>, Vec<char>) = (a.chars().take(80).collect(), b.chars().take(80).collect());
    let mut rows: Vec<Vec<usize>> = vec![(0..=b.len()).collect()];
    for i in 1..=a.len() {
        let mut row = vec![i];
        for j in 1..=b.len() {
            let mut least = (rows[i - 1][j] + 1).min(row[j - 1] + 1);
            least = least.min(rows[i - 1][j - 1] + usize::from(a[i - 1] != b[j - 1]));
            if i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1] {
                least = least.min(rows[i - 2][j - 2] + 1);
            }
            row.push(least);
        }
        rows.push(row);
    }
    rows[a.len()][b.len()]
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("hight", Some("height"))]
    #[case("ext", None)]
    #[case("fodler", Some("folder"))]
    #[case("sound_track", Some("sound_tracks"))]
    #[case("qqqq", None)]
    fn the_nearest_word_is_found(#[case] typed: &str, #[case] want: Option<&str>) {
        assert_eq!(nearest(typed, names(false)), want);
    }

    #[test]
    fn short_signs_are_of_one_job_each() {
        let all: std::collections::HashSet<String> = (0..200_000).map(short_id).collect();
        assert_eq!((all.len(), all.iter().all(|s| s.len() == 6)), (200_000, true));
        assert_ne!(short_id(5), short_id(5 + (1 << 30)));
        assert_eq!(short_id(i64::MAX).len(), 13);
    }

    #[test]
    fn formats_and_codecs_are_named_as_people_write_them() {
        assert_eq!(nearest("h264", media::track::codec_names()), Some("H.264"));
        assert_eq!(nearest("mov", formats()), None);
        assert_eq!(nearest("mp4", formats()), Some("MP4"));
    }

    #[rstest]
    #[case(Value::Float(25.0), "25")]
    #[case(Value::Float(30_000.0 / 1001.0), "29.97")]
    #[case(Value::Int(7), "7")]
    fn values_stand_in_names(#[case] v: Value, #[case] want: &str) {
        assert_eq!(v.words(), want);
    }
}
