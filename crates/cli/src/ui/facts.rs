//! Facts of files for people.

use super::{bytes, seconds, table as new_table};
use media::deep::{Deep, DeepKind, DeepTrack};
use media::facts::{AudioFacts, Facts, VideoFacts};
use media::frame::{Chroma, Fields};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;

/// One file and what is known of it, or why nothing is.
#[derive(Serialize, JsonSchema)]
#[schemars(title = "Inspected")]
pub struct Inspected {
    pub file: String,
    #[serde(flatten)]
    pub facts: Option<Facts>,
    #[serde(skip_serializing_if = "Option::is_none")]
    /// Why nothing is known of it; then only the file is told.
    pub error: Option<String>,
    /// What decoding all of it showed, if that was asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub deep: Option<Deep>,
}

/// Everything about one file.
pub fn one(i: &Inspected) -> String {
    let mut out = format!("{}\n", i.file);
    let Some(f) = &i.facts else {
        return format!("{out}  cannot be used: {}\n", i.error.as_deref().unwrap_or(""));
    };
    let mut line = |name: &str, value: String| out.push_str(&format!("  {name:<12} {value}\n"));
    let length =
        f.duration.filter(|d| d.seconds > 0.0).map_or(String::new(), |d| format!(", {}", seconds(d.seconds)));
    line(&f.kind.to_string(), format!("{}, {}{length}", f.format, bytes(f.bytes)));
    for v in &f.video {
        line("picture", picture(v));
        if let Some(rate) = timing(v) {
            line("", rate);
        }
        line("", colour(v));
        if let Some(why) = &v.cannot_decode {
            line("", why.clone());
        }
    }
    for a in &f.audio {
        line("sound", sound(a));
        if a.start.seconds.abs() >= 0.0005 {
            line("", format!("starts at {:.3} s", a.start.seconds));
        }
        if let Some(why) = &a.cannot_decode {
            line("", why.clone());
        }
    }
    if let Some(t) = &f.timecode {
        let reel = t.reel.as_ref().map_or(String::new(), |r| format!(", reel {r}"));
        line("timecode", format!("{} at {} frames/s{reel} ({})", t.start, t.rate, t.source));
    }
    if f.captions > 0 {
        line("captions", format!("{} track(s)", f.captions));
    }
    let camera: Vec<&str> = [f.maker.as_deref(), f.model.as_deref()].into_iter().flatten().collect();
    if !camera.is_empty() {
        line("camera", camera.join(" "));
    }
    if let Some(created) = &f.created {
        line("created", created.clone());
    }
    for (key, value) in &f.tags {
        line("tag", format!("{key}: {value}"));
    }
    for remark in &f.remarks {
        line("remark", remark.clone());
    }
    if let Some(damage) = &f.damage {
        line("DAMAGED", damage.clone());
    }
    if let Some(deep) = &i.deep {
        for t in &deep.tracks {
            line("decoded", decoded(t));
            if let Some(b) = &t.first_bad {
                line("", format!("first bad one: number {} at {:.3} s: {}", b.number, b.seconds, b.why));
            }
            if let Some(d) = &t.digest {
                line("", d.clone());
            }
        }
        if deep.unreadable > 0 {
            let first = deep.first_unreadable.as_deref().unwrap_or("");
            line("UNREADABLE", format!("{} packets; first: {first}", deep.unreadable));
        }
    }
    out
}

fn decoded(t: &DeepTrack) -> String {
    if let Some(why) = &t.not_decoded {
        return format!("nothing of track {}: {why}", t.track);
    }
    let what = match t.kind {
        DeepKind::Picture => "frames",
        DeepKind::Sound => "samples",
    };
    let mut out = format!("track {}: {} {what} from {} packets", t.track, t.decoded, t.packets);
    if t.bad > 0 {
        out.push_str(&format!(", {} BAD", t.bad));
    } else {
        out.push_str(", all good");
    }
    if t.concealed > 0 {
        out.push_str(&format!(", {} with parts filled in", t.concealed));
    }
    out
}

/// In a table: a word on the decoding.
fn decoded_word(d: &Deep) -> String {
    if d.is_clean() {
        return "good".into();
    }
    let bad: u64 = d.tracks.iter().map(|t| t.bad + t.concealed).sum::<u64>() + d.unreadable;
    let not = d.tracks.iter().filter(|t| t.not_decoded.is_some()).count();
    match (bad, not) {
        (0, _) => "not all".into(),
        (n, _) => format!("{n} BAD"),
    }
}

fn picture(v: &VideoFacts) -> String {
    let mut out = v.codec.clone();
    if let Some(p) = &v.profile {
        out.push_str(&format!(" {p}"));
    }
    if let Some(l) = &v.level {
        out.push_str(&format!(" level {l}"));
    }
    out.push_str(&format!(", {}x{}", v.width, v.height));
    if v.rotation != 0 {
        out.push_str(&format!(", turned {} degrees", v.rotation));
    }
    if v.pixel_shape.num != v.pixel_shape.den {
        out.push_str(&format!(
            ", pixels {}:{} ({}x{} coded)",
            v.pixel_shape.num, v.pixel_shape.den, v.coded_width, v.coded_height
        ));
    }
    out
}

/// Rate, count, bit rate; nothing for a still.
fn timing(v: &VideoFacts) -> Option<String> {
    let rate = v.rate?;
    let mut out = fps(v);
    if rate.den != 1 {
        out.push_str(&format!(" ({rate})"));
    }
    if !v.constant_rate {
        out.push_str(" on average");
    }
    if let Some(n) = v.frames {
        out.push_str(&format!(", {n} frames"));
    }
    if let Some(b) = v.bits_per_second {
        out.push_str(&match b {
            0..1_000_000 => format!(", {} kbit/s", b / 1000),
            _ => format!(", {:.1} Mbit/s", b as f64 / 1e6),
        });
    }
    if v.start.seconds.abs() >= 0.0005 {
        out.push_str(&format!(", starts at {:.3} s", v.start.seconds));
    }
    Some(out)
}

fn fps(v: &VideoFacts) -> String {
    v.rate.map_or(String::new(), |r| {
        let text = format!("{:.3}", r.value());
        format!("{} frames/s", text.trim_end_matches('0').trim_end_matches('.'))
    })
}

fn colour(v: &VideoFacts) -> String {
    let scan = match v.scan {
        Fields::Progressive => "progressive",
        Fields::TopFirst => "interlaced, top field first",
        Fields::BottomFirst => "interlaced, bottom field first",
        Fields::Interlaced => "interlaced",
    };
    let depth = v.depth.map_or(String::new(), |d| format!(", {d}-bit"));
    let chroma = v
        .chroma
        .and_then(|c| serde_json::to_value(c).ok())
        .and_then(|c| c.as_str().map(|s| format!(" {s}")))
        .unwrap_or_default();
    // ITU-T H.273, tables 2 to 4: the names people use.
    let name = match (v.colour.primaries, v.colour.transfer) {
        (1, 1) => ", Rec. 709",
        (9, 16) => ", Rec. 2100 PQ",
        (9, 18) => ", Rec. 2100 HLG",
        (9, _) => ", Rec. 2020",
        (5 | 6, _) => ", Rec. 601",
        _ => "",
    };
    let coverage = if v.coverage && v.chroma != Some(Chroma::Rgba) { " with coverage" } else { "" };
    format!("{scan}{depth}{chroma}{coverage}{name}{}", if v.colour.full_range { ", full range" } else { "" })
}

fn sound(a: &AudioFacts) -> String {
    // AAC's profiles have the codec in their names; of others the profile is an addition.
    let name = match &a.profile {
        Some(p) if p.contains(&a.codec) => p.clone(),
        Some(p) => format!("{} {p}", a.codec),
        None => a.codec.clone(),
    };
    let channels = a.layout.clone().unwrap_or_else(|| format!("{} channels", a.channels));
    let rate = a.bits_per_second.map_or(String::new(), |b| format!(", {} kbit/s", b / 1000));
    let language = a.language.as_ref().map_or(String::new(), |l| format!(", {l}"));
    format!("{name}, {} Hz, {channels}, {}{rate}{language}", a.rate, seconds(a.duration.seconds))
}

/// A line a file.
pub fn table(all: &[Inspected], common: Option<PathBuf>) -> String {
    let deep = all.iter().any(|i| i.deep.is_some());
    let mut heads = vec!["file", "kind", "format", "picture", "rate", "sound", "length", "size"];
    if deep {
        heads.push("decoded");
    }
    let mut t = new_table(&heads);
    let prefix = common.map(|c| format!("{}/", media::show::path(&c))).filter(|c| c != "/");
    let short =
        |file: &str| prefix.as_ref().and_then(|p| file.strip_prefix(p.as_str())).unwrap_or(file).to_owned();
    let mut unusable = String::new();
    let mut not_decoded = String::new();
    for i in all {
        match &i.facts {
            Some(f) => {
                let mut cells = row(short(&i.file), f);
                if deep {
                    cells.push(i.deep.as_ref().map_or(String::new(), decoded_word));
                }
                t.add_row(cells);
                for why in f
                    .video
                    .iter()
                    .filter_map(|v| v.cannot_decode.as_ref())
                    .chain(f.audio.iter().filter_map(|a| a.cannot_decode.as_ref()))
                {
                    not_decoded.push_str(&format!("{}: {why}\n", short(&i.file)));
                }
                if let Some(why) = &f.damage {
                    unusable.push_str(&format!("{}: damaged: {why}\n", short(&i.file)));
                }
            }
            None => unusable.push_str(&format!("{}: {}\n", short(&i.file), i.error.as_deref().unwrap_or(""))),
        }
    }
    let mut out = if t.row_count() > 0 {
        format!("{}\n", t.to_string().lines().map(str::trim_end).collect::<Vec<_>>().join("\n"))
    } else {
        String::new()
    };
    for (head, lines) in [("Known, but not decoded", not_decoded), ("Not usable", unusable)] {
        if !lines.is_empty() {
            let gap = if out.is_empty() { "" } else { "\n" };
            out.push_str(&format!("{gap}{head}\n{lines}"));
        }
    }
    out
}

fn row(file: String, f: &Facts) -> Vec<String> {
    let v = f.picture();
    let sounds = match f.audio.as_slice() {
        [] => String::new(),
        [a] => format!("{} {}ch", a.codec, a.channels),
        [a, ..] => format!("{} {}ch x{}", a.codec, a.channels, f.audio.len()),
    };
    vec![
        file,
        f.kind.to_string(),
        f.format.clone(),
        v.map_or(String::new(), |v| format!("{} {}x{}", v.codec, v.width, v.height)),
        v.map_or(String::new(), fps),
        sounds,
        f.duration.map_or(String::new(), |d| seconds(d.seconds)),
        bytes(f.bytes),
    ]
}
