//! Presets of pictures, sound and stills.

use super::super::raw;
use super::super::values;
use super::{At, Checker, key};
use media::codec::coders;
use media::codec::h264::Rate;
use media::container::wrap::{self, WRAPPERS, Wrap};
use media::filter::audio::fade::Fade;
use media::filter::video::{Deinterlacing, Fill, Kernel};
use media::recipe::{
    AudioCodec, AudioRecipe, BitRecipe, Deinterlace, Framing, Loudness, Moment, Part, Recipe, StillChoice,
    StillRecipe, VideoCodec, VideoRecipe,
};
use media::timecode;
use std::time::Duration;

pub fn recipe(c: &mut Checker<'_>, here: &At, p: &raw::Preset) -> Recipe {
    Recipe {
        wrap: p.container.as_deref().and_then(|text| container(c, key(here, "container"), text)),
        video: p.video.as_ref().map(|v| video(c, &key(here, "video"), v)),
        audio: p.audio.as_ref().map(|a| audio(c, &key(here, "audio"), a)),
        still: p.still.as_ref().map(|s| still(c, &key(here, "still"), s)),
        part: p.part.as_ref().map(|x| part(c, &key(here, "part"), x)),
    }
}

/// A time from the beginning (`"90 s"`), or a timecode.
fn moment(c: &mut Checker<'_>, path: At, text: &str) -> Moment {
    if timecode::is_label(text) {
        return Moment::Timecode(text.to_owned());
    }
    match values::duration(text) {
        Some(d) => Moment::Ms(d.as_millis() as u64),
        None => {
            let wanted = "a time from the beginning such as \"90 s\", or a timecode such as \"10:00:04:12\"";
            c.fault(path, format!("\"{text}\""), wanted);
            Moment::Ms(0)
        }
    }
}

fn part(c: &mut Checker<'_>, here: &At, x: &raw::Part) -> Part {
    let mut read =
        |name: &'static str, text: &Option<String>| text.as_deref().map(|t| moment(c, key(here, name), t));
    let part = Part { from: read("from", &x.from), to: read("to", &x.to) };
    if let (Some(Moment::Ms(from)), Some(Moment::Ms(to))) = (&part.from, &part.to)
        && from >= to
    {
        let found = format!("\"{}\"", x.to.as_deref().unwrap_or_default());
        c.fault(key(here, "to"), found, "a moment behind 'from'");
    }
    part
}

/// Extension of what is made; a container that does not hold it is a fault.
pub fn extension(c: &mut Checker<'_>, here: &At, r: &Recipe) -> &'static str {
    if let Some(s) = &r.still {
        return s.format.extension();
    }
    let (video, audio) = (r.video.as_ref().map(|v| v.codec), r.audio.as_ref().map(|a| a.codec));
    match wrap::wrapper(r.wrap, video, audio) {
        Ok(w) if video.is_some() => w.extension,
        Ok(w) => w.sound_extension,
        Err(_) => {
            // Codecs that are not together in any, or not in the one that is named.
            let holds = |w: &&wrap::Wrapper| {
                video.is_none_or(|v| w.video.contains(&v)) && audio.is_none_or(|a| w.audio.contains(&a))
            };
            let good: Vec<&str> = WRAPPERS.iter().filter(holds).map(|w| w.name).collect();
            let found = match r.wrap {
                Some(_) => "a container that does not hold these codecs",
                None => "codecs that no container holds together",
            };
            let wanted = match good.is_empty() {
                true => "H.264 with AAC, or VP9 with Opus".to_owned(),
                false => format!("one of {}", good.join(", ")),
            };
            c.fault(key(here, "container"), found, wanted);
            "mp4"
        }
    }
}

fn container(c: &mut Checker<'_>, path: At, text: &str) -> Option<Wrap> {
    let found = WRAPPERS.iter().find(|w| w.name == text);
    if found.is_none() {
        let names: Vec<&str> = WRAPPERS.iter().map(|w| w.name).collect();
        c.one_of(path, Some(text), &names);
    }
    found.map(|w| w.wrap)
}

/// The value whose name is stated; the usual one, and a fault, for another name.
fn choice<T: Copy>(c: &mut Checker<'_>, path: At, found: Option<&str>, all: &[(&str, T)], usual: T) -> T {
    let Some(found) = found else { return usual };
    match all.iter().find(|(name, _)| *name == found) {
        Some((_, v)) => *v,
        None => {
            let names: Vec<&str> = all.iter().map(|(name, _)| *name).collect();
            c.one_of(path, Some(found), &names);
            usual
        }
    }
}

fn video(c: &mut Checker<'_>, here: &At, v: &raw::Video) -> VideoRecipe {
    let codecs = [("h264", VideoCodec::H264), ("vp9", VideoCodec::Vp9)];
    let codec = choice(c, key(here, "codec"), v.codec.as_deref(), &codecs, VideoCodec::H264);
    let fit = c.size(key(here, "fit"), v.fit.as_deref());
    let fill = v.fill.as_deref().map_or(Fill::Black, |text| fill(c, key(here, "fill"), text));
    let framings = [
        ("within", Framing::Within),
        ("pad", Framing::Pad(fill)),
        ("crop", Framing::Crop),
        ("stretch", Framing::Stretch),
    ];
    let framing = choice(c, key(here, "framing"), v.framing.as_deref(), &framings, Framing::Within);
    if framing != Framing::Within && (fit.0 == 0 || fit.1 == 0) {
        let found = v.fit.as_ref().map_or("no key 'fit'".to_owned(), |f| format!("\"{f}\""));
        c.fault(key(here, "fit"), found, "a size with both sides, such as \"1920x1080\", for this framing");
    }
    if v.fill.is_some() && !matches!(framing, Framing::Pad(_)) {
        c.fault(key(here, "fill"), "'fill' without framing = \"pad\"", "framing = \"pad\", or no 'fill'");
    }
    let always = |every_field| Deinterlace::Always(Deinterlacing { every_field, ..Deinterlacing::default() });
    let deinterlaces = [
        ("auto", Deinterlace::Auto),
        ("never", Deinterlace::Never),
        ("frames", always(false)),
        ("fields", always(true)),
    ];
    let deinterlace =
        choice(c, key(here, "deinterlace"), v.deinterlace.as_deref(), &deinterlaces, Deinterlace::Auto);
    let kernels =
        [("bilinear", Kernel::Bilinear), ("catmull-rom", Kernel::CatmullRom), ("lanczos", Kernel::Lanczos)];
    let kernel = choice(c, key(here, "kernel"), v.kernel.as_deref(), &kernels, Kernel::CatmullRom);
    let frame_rate = v.frame_rate.as_deref().and_then(|text| {
        let found = text.parse::<media::units::Ratio>().ok().filter(|r| (1.0..=240.0).contains(&r.value()));
        if found.is_none() {
            let wanted = "frames a second from \"1\" to \"240\", such as \"25\" or \"30000/1001\"";
            c.fault(key(here, "frame_rate"), format!("\"{text}\""), wanted);
        }
        found
    });
    let key_every =
        c.duration(key(here, "key_every"), v.key_every.as_deref(), "2 s", Duration::from_millis(1));
    let rate = match (v.quantiser, v.bitrate.as_deref()) {
        (Some(_), Some(_)) => {
            c.fault(key(here, "bitrate"), "'bitrate' beside 'quantiser'", "one of the two");
            BitRecipe::Quantiser(Rate::MIN_QUANTISER)
        }
        (None, Some(text)) => match values::bitrate(text) {
            Some(n) if (Rate::MIN_AVERAGE..=Rate::MAX_AVERAGE).contains(&n) => BitRecipe::Average(n),
            _ => {
                c.fault(
                    key(here, "bitrate"),
                    format!("\"{text}\""),
                    "a rate such as \"2.5 Mbit/s\", from \"32 kbit/s\" to \"200 Mbit/s\"",
                );
                BitRecipe::Average(Rate::MIN_AVERAGE)
            }
        },
        (q, None) => {
            let (least, most) = (Rate::MIN_QUANTISER.into(), Rate::MAX_QUANTISER.into());
            BitRecipe::Quantiser(c.number(key(here, "quantiser"), q.unwrap_or(26), least, most) as u8)
        }
    };
    let key_every_ms = key_every.as_millis().min(u32::MAX.into()) as u32;
    VideoRecipe { codec, fit, framing, rate, key_every_ms, frame_rate, deinterlace, crop: None, kernel }
}

fn fill(c: &mut Checker<'_>, path: At, text: &str) -> Fill {
    let hex = |at: usize| u8::from_str_radix(text.get(at..at + 2)?, 16).ok();
    let colour = || {
        (text.len() == 7 && text.starts_with('#')).then_some(())?;
        Some(Fill::Colour([hex(1)?, hex(3)?, hex(5)?]))
    };
    match text {
        "black" => Fill::Black,
        "blur" => Fill::Blur,
        _ => colour().unwrap_or_else(|| {
            c.fault(path, format!("\"{text}\""), "\"black\", \"blur\" or a colour such as \"#203040\"");
            Fill::Black
        }),
    }
}

fn audio(c: &mut Checker<'_>, here: &At, a: &raw::Audio) -> AudioRecipe {
    let codecs = [
        ("aac", AudioCodec::Aac),
        ("opus", AudioCodec::Opus),
        ("pcm16", AudioCodec::Pcm16),
        ("pcm24", AudioCodec::Pcm24),
    ];
    let codec = choice(c, key(here, "codec"), a.codec.as_deref(), &codecs, AudioCodec::Aac);
    let row = coders::AUDIO_CODERS.iter().find(|r| r.codec == codec);
    if let (Some(text), Some(row)) = (&a.bitrate, row)
        && !row.has_bits
    {
        c.fault(key(here, "bitrate"), format!("\"{text}\" for {}", row.name), "no 'bitrate': it has its own");
    }
    let text = a.bitrate.as_deref().unwrap_or("128 kbit/s");
    let bits = match values::bitrate(text) {
        Some(n) if (AudioRecipe::MIN_BITS..=AudioRecipe::MAX_BITS).contains(&n) => n,
        _ => {
            c.fault(
                key(here, "bitrate"),
                format!("\"{text}\""),
                "a rate such as \"128 kbit/s\", from \"16 kbit/s\" to \"512 kbit/s\"",
            );
            AudioRecipe::MIN_BITS
        }
    };
    let most = row.map_or(2, |r| r.most_channels.min(16));
    let usual = i64::from(if most > 2 { most } else { 2 });
    let channels = c.number(key(here, "channels"), a.channels.unwrap_or(usual), 1, most.into()) as u16;
    let rates = row.map_or(&[][..], |r| r.rates);
    let rate = a.rate.and_then(|r| {
        let fine = |r: &u32| if rates.is_empty() { (8_000..=192_000).contains(r) } else { rates.contains(r) };
        let known = u32::try_from(r).ok().filter(fine);
        if known.is_none() {
            let wanted = if rates.is_empty() { "8000 to 192000".into() } else { format!("one of {rates:?}") };
            c.fault(key(here, "rate"), r.to_string(), wanted);
        }
        known
    });
    let loudness = a.loudness.map(|target| {
        let (least, most) = (Loudness::MIN_TARGET, Loudness::MAX_TARGET);
        if !(least..=most).contains(&target) {
            c.fault(key(here, "loudness"), target.to_string(), format!("{least} to {most} LUFS"));
        }
        let peak = a.true_peak.unwrap_or(-1.0);
        let (least, most) = (Loudness::MIN_PEAK, Loudness::MAX_PEAK);
        if !(least..=most).contains(&peak) {
            c.fault(key(here, "true_peak"), peak.to_string(), format!("{least} to {most} dBTP"));
        }
        Loudness { target, peak }
    });
    if a.true_peak.is_some() && a.loudness.is_none() {
        c.fault(key(here, "true_peak"), "'true_peak' without 'loudness'", "both, or neither");
    }
    let gain = a.gain.unwrap_or(0.0);
    if gain.abs() > AudioRecipe::MAX_GAIN || gain.is_nan() {
        let most = AudioRecipe::MAX_GAIN;
        c.fault(key(here, "gain"), gain.to_string(), format!("-{most} to {most} decibels"));
    }
    let dynamics = [("whole", false), ("narrow", true)];
    let even = choice(c, key(here, "dynamics"), a.dynamics.as_deref(), &dynamics, false);
    let mut fade = |name: &'static str, text: &Option<String>| {
        let d = c.duration(key(here, name), text.as_deref(), "0 s", Duration::ZERO);
        let ms = d.as_millis().min(u32::MAX.into()) as u32;
        if ms > Fade::MOST_MS {
            let found = format!("\"{}\"", text.as_deref().unwrap_or_default());
            c.fault(key(here, name), found, format!("up to \"{} s\"", Fade::MOST_MS / 1000));
        }
        ms
    };
    let fade = Fade { in_ms: fade("fade_in", &a.fade_in), out_ms: fade("fade_out", &a.fade_out) };
    let missing = [("leave-out", false), ("silence", true)];
    let silence = choice(c, key(here, "if_missing"), a.if_missing.as_deref(), &missing, false);
    AudioRecipe { codec, bits, channels, rate, loudness, gain, even, fade, silence }
}

fn still(c: &mut Checker<'_>, here: &At, s: &raw::Still) -> StillRecipe {
    c.one_of(key(here, "format"), s.format.as_deref(), &["jpeg", "png"]);
    let fit = c.size(key(here, "fit"), s.fit.as_deref());
    let quality = c.number(key(here, "quality"), s.quality.unwrap_or(85), 1, 100) as u8;
    let format =
        if s.format.as_deref() == Some("png") { StillChoice::Png } else { StillChoice::Jpeg(quality) };
    let at = s.at.as_deref().map(|text| moment(c, key(here, "at"), text));
    StillRecipe { fit, format, at }
}
