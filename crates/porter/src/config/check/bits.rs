//! How many bits pictures get.

use super::{At, Checker, key};
use crate::config::{raw, values};
use media::codec::coders::{Rates, VideoCoder};
use media::codec::h264::Rate;
use media::recipe::{BitRecipe, Most, Steered};
use std::time::Duration;

/// What a bucket may hold.
const SHORTEST: Duration = Duration::from_millis(100);
const LONGEST: Duration = Duration::from_secs(30);

pub fn rate(c: &mut Checker<'_>, here: &At, v: &raw::Video, row: Option<&VideoCoder>) -> BitRecipe {
    let stated = stated(v);
    let copied = row.is_none();
    let rates = row.map_or(Rates::None, |r| r.rates);
    let name = row.map_or("it", |r| r.name);
    let text = |key: &str| match key {
        "bitrate" => format!("\"{}\" for {name}", v.bitrate.as_deref().unwrap_or_default()),
        key => format!("'{key}' for {name}"),
    };
    for key_name in stated.iter().filter(|_| !copied) {
        let wanted = match (rates, *key_name) {
            (Rates::None, "quantiser" | "quality") => format!("no '{key_name}': nothing is rounded"),
            (Rates::None | Rates::Quantiser, "bitrate") => "no 'bitrate': it has its own".into(),
            (Rates::All, _) | (_, "quantiser" | "quality" | "bitrate") => continue,
            (_, key) => format!("no '{key}': it is for H.264"),
        };
        c.fault(key(here, key_name), text(key_name), wanted);
    }
    let aims: Vec<&str> =
        stated.iter().copied().filter(|k| ["quantiser", "quality", "bitrate"].contains(k)).collect();
    if let [first, second, ..] = aims[..] {
        c.fault(key(here, second), format!("'{second}' beside '{first}'"), "one of the two");
        return BitRecipe::Quantiser(Rate::MIN_QUANTISER);
    }
    let average = v.bitrate.as_deref().map(|text| bitrate(c, key(here, "bitrate"), text));
    let quality = v.quality.map(|q| c.number(key(here, "quality"), q, 1, 100) as u8);
    let most = v.most_bitrate.as_deref().map(|text| bitrate(c, key(here, "most_bitrate"), text));
    let buffer = c.duration(key(here, "buffer"), v.buffer.as_deref(), "1 s", SHORTEST);
    if buffer > LONGEST {
        let found = v.buffer.as_deref().unwrap_or_default();
        c.fault(key(here, "buffer"), format!("\"{found}\""), "a time from \"100 ms\" to \"30 s\"");
    }
    if v.buffer.is_some() && most.is_none() {
        c.fault(key(here, "buffer"), "'buffer' without 'most_bitrate'", "both, or neither");
    }
    if let (Some(a), Some(m)) = (average, most)
        && a > m
    {
        let found = format!("\"{}\"", v.most_bitrate.as_deref().unwrap_or_default());
        c.fault(key(here, "most_bitrate"), found, "not less than 'bitrate'");
    }
    let twice = c.number(key(here, "passes"), v.passes.unwrap_or(1), 1, 2) == 2;
    if twice && average.is_none() {
        c.fault(
            key(here, "passes"),
            "2 without 'bitrate'",
            "'bitrate', which the first pass shares out; or no 'passes'",
        );
    }
    if v.quantiser.is_some() && most.is_some() {
        let found = "'most_bitrate' beside 'quantiser'";
        c.fault(key(here, "most_bitrate"), found, "'quality' or 'bitrate': a quantiser stays as it is");
    }
    let most = most.map(|bits| Most { bits, buffer_ms: buffer.as_millis() as u32 });
    match (average, quality) {
        (Some(bits), _) if most.is_none() && !twice => BitRecipe::Average(bits),
        (None, Some(q)) if most.is_none() => BitRecipe::Quality(q),
        (None, None) if most.is_none() => {
            let (least, most) = (Rate::MIN_QUANTISER.into(), Rate::MAX_QUANTISER.into());
            BitRecipe::Quantiser(
                c.number(key(here, "quantiser"), v.quantiser.unwrap_or(26), least, most) as u8
            )
        }
        (average, quality) => BitRecipe::Steered(Steered { average, quality, most, twice }),
    }
}

/// The keys about bits that are there.
fn stated(v: &raw::Video) -> Vec<&'static str> {
    let all = [
        ("quantiser", v.quantiser.is_some()),
        ("quality", v.quality.is_some()),
        ("bitrate", v.bitrate.is_some()),
        ("most_bitrate", v.most_bitrate.is_some()),
        ("buffer", v.buffer.is_some()),
        ("passes", v.passes.is_some()),
    ];
    all.into_iter().filter(|k| k.1).map(|k| k.0).collect()
}

pub fn bitrate(c: &mut Checker<'_>, path: At, text: &str) -> u32 {
    match values::bitrate(text) {
        Some(n) if (Rate::MIN_AVERAGE..=Rate::MAX_AVERAGE).contains(&n) => n,
        _ => {
            let wanted = "a rate such as \"2.5 Mbit/s\", from \"32 kbit/s\" to \"200 Mbit/s\"";
            c.fault(path, format!("\"{text}\""), wanted);
            Rate::MIN_AVERAGE
        }
    }
}
