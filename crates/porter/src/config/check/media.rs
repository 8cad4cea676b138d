//! Presets of pictures, sound and stills.

use super::super::raw;
use super::super::values;
use super::bits::{self, bitrate};
use super::{At, Checker, Step, key};
use crate::naming;
use media::codec::coders;
use media::container::wrap::{self, WRAPPERS, Wrap};
use media::filter::audio::fade::Fade;
use media::filter::video::grade::Table;
use media::filter::video::{Burn, Captions, Deinterlacing, Fill, Kernel, Overlay, Rect, Side};
use media::recipe::{
    Alpha, AlphaWay, AudioCodec, AudioRecipe, Deinterlace, Framing, Loudness, Moment, Moving, Needed, Part,
    PicturesKind, PicturesRecipe, Recipe, Rung, StillChoice, StillRecipe, StreamRecipe, VideoCodec,
    VideoRecipe, WaveRecipe,
};
use media::timecode;
use std::time::Duration;

pub fn recipe(c: &mut Checker<'_>, here: &At, p: &raw::Preset) -> Recipe {
    let burn: Vec<Burn> = p.burn.iter().flatten().enumerate().map(|(n, b)| burn(c, here, n, b)).collect();
    let pictures = pictures(c, here, p, &burn);
    if !burn.is_empty() && p.video.is_none() && pictures.is_none() {
        c.fault(
            key(here, "burn"),
            "'burn' without pictures of a film",
            "[preset.video], or a sheet, frames or such",
        );
    }
    let copies = p.video.as_ref().is_some_and(|v| v.codec.as_deref() == Some("copy"));
    let overlays: Vec<Overlay> =
        p.overlay.iter().flatten().enumerate().map(|(n, o)| overlay(c, here, n, o)).collect();
    let captions = p.burn_captions.as_ref().map(|b| burn_captions(c, &key(here, "burn_captions"), b));
    if captions.is_some() && (p.video.is_none() || copies) {
        c.fault(
            key(here, "burn_captions"),
            "'burn_captions' without pictures that are coded",
            "[preset.video]",
        );
    }
    if !overlays.is_empty() && (p.video.is_none() || copies) {
        c.fault(key(here, "overlay"), "'overlay' without pictures that are coded", "[preset.video]");
    }
    if copies && !burn.is_empty() {
        c.fault(key(here, "burn"), "'burn' in pictures that are copied", "pictures that are coded");
    }
    if copies && p.part.is_some() && !matches!(p.container.as_deref(), None | Some("mp4" | "mov")) {
        c.fault(
            key(here, "container"),
            "a part of pictures that are copied",
            "\"mp4\" or \"mov\": they begin at a key picture before it, and only those say so",
        );
    }
    Recipe {
        wrap: p.container.as_deref().and_then(|text| container(c, key(here, "container"), text)),
        video: p.video.as_ref().map(|v| VideoRecipe {
            burn,
            overlays,
            captions,
            ..video(c, &key(here, "video"), v)
        }),
        audio: p.audio.as_ref().map(|a| audio(c, &key(here, "audio"), a)),
        still: p.still.as_ref().map(|s| still(c, &key(here, "still"), s)),
        pictures,
        waveform: p.waveform.as_ref().map(|w| waveform(c, &key(here, "waveform"), w)),
        stream: p.stream.as_ref().map(|s| stream(c, here, p, s)),
        part: p.part.as_ref().map(|x| part(c, &key(here, "part"), x)),
        comment: None,
    }
}

/// A sheet, a run of files, thumbnails, a preview.
fn pictures(c: &mut Checker<'_>, here: &At, p: &raw::Preset, burn: &[Burn]) -> Option<PicturesRecipe> {
    let burn = burn.to_vec();
    let most = i64::from(PicturesKind::MOST_CELLS);
    let cells =
        |c: &mut Checker<'_>, here: &At, columns: Option<i64>, rows: Option<i64>, usual: (i64, i64)| {
            let columns = c.number(key(here, "columns"), columns.unwrap_or(usual.0), 1, 40);
            let rows = c.number(key(here, "rows"), rows.unwrap_or(usual.1), 1, 100);
            if columns * rows > most {
                let found = format!("{columns} by {rows}, {} in all", columns * rows);
                c.fault(key(here, "rows"), found, format!("up to {most} pictures on a sheet"));
            }
            (columns as u32, rows as u32)
        };
    let ms = |d: Duration| d.as_millis().max(1) as u64;
    if let Some(s) = &p.sheet {
        let here = &key(here, "sheet");
        let (columns, rows) = cells(c, here, s.columns, s.rows, (5, 6));
        let title = s.title.clone().unwrap_or_else(|| "{name}".into());
        text(c, key(here, "title"), &title);
        let (fit, format) = look(c, here, (s.fit.as_deref(), "320x*"), s.format.as_deref(), s.quality);
        return Some(PicturesRecipe {
            kind: PicturesKind::Sheet { columns, rows, title },
            fit,
            format,
            burn,
            alpha: Alpha::default(),
        });
    }
    if let Some(f) = &p.frames {
        let here = &key(here, "frames");
        let every = f.every.as_deref().map(|t| ms(c.duration(key(here, "every"), Some(t), "", MS)));
        let (fit, format) = look(c, here, (f.fit.as_deref(), "*x*"), f.format.as_deref(), f.quality);
        let alpha = alpha(c, here, f.alpha.as_deref(), f.ground.as_deref());
        let kind = PicturesKind::Run { every_ms: every };
        return Some(PicturesRecipe { kind, fit, format, burn, alpha });
    }
    if let Some(t) = &p.thumbnails {
        let here = &key(here, "thumbnails");
        let (columns, rows) = cells(c, here, t.columns, t.rows, (10, 10));
        let every_ms = ms(c.duration(key(here, "every"), t.every.as_deref(), "10 s", MS));
        let (fit, format) = look(c, here, (t.fit.as_deref(), "160x*"), t.format.as_deref(), t.quality);
        let kind = PicturesKind::Strip { every_ms, columns, rows };
        return Some(PicturesRecipe { kind, fit, format, burn, alpha: Alpha::default() });
    }
    if let Some(v) = &p.preview {
        let here = &key(here, "preview");
        let pieces = c.number(key(here, "pieces"), v.pieces.unwrap_or(6), 1, 60) as u32;
        let piece_ms = ms(c.duration(key(here, "piece"), v.piece.as_deref(), "1 s", MS));
        if piece_ms > 30_000 {
            c.fault(key(here, "piece"), format!("{} s", piece_ms / 1000), "up to \"30 s\"");
        }
        let rate = c.number(key(here, "rate"), v.rate.unwrap_or(8), 1, 50) as u32;
        let fit = c.size(key(here, "fit"), Some(v.fit.as_deref().unwrap_or("320x*")));
        let quality = c.number(key(here, "quality"), v.quality.unwrap_or(75), 1, 100) as u8;
        let forms = [("gif", Moving::Gif), ("webp", Moving::Webp(quality))];
        let form = choice(c, key(here, "format"), v.format.as_deref(), &forms, Moving::Gif);
        let kind = PicturesKind::Preview { pieces, piece_ms, rate, form };
        let alpha = Alpha::default();
        return Some(PicturesRecipe { kind, fit, format: StillChoice::Png, burn, alpha });
    }
    None
}

const MS: Duration = Duration::from_millis(1);

/// What becomes of what can be seen through.
fn alpha(c: &mut Checker<'_>, here: &At, way: Option<&str>, ground: Option<&str>) -> Alpha {
    let ways = [("keep", AlphaWay::Keep), ("fill", AlphaWay::Fill), ("drop", AlphaWay::Drop)];
    let way = choice(c, key(here, "alpha"), way, &ways, AlphaWay::Keep);
    if ground.is_some() && way == AlphaWay::Drop {
        c.fault(key(here, "ground"), "'ground' where alpha is left out", "alpha = \"keep\" or \"fill\"");
    }
    Alpha { way, ground: ground.map_or([0; 3], |g| colour(c, key(here, "ground"), g)) }
}

/// Size and format of pictures.
fn look(
    c: &mut Checker<'_>,
    here: &At,
    (fit, usual): (Option<&str>, &str),
    format: Option<&str>,
    quality: Option<i64>,
) -> ((u32, u32), StillChoice) {
    let quality = c.number(key(here, "quality"), quality.unwrap_or(85), 1, 100) as u8;
    let formats = StillChoice::ALL.map(|(name, codec)| (name, codec(quality)));
    let format = choice(c, key(here, "format"), format, &formats, StillChoice::Jpeg(quality));
    let size = match fit.unwrap_or(usual) {
        "*x*" => (0, 0),
        text => c.size(key(here, "fit"), Some(text)),
    };
    (size, format)
}

fn waveform(c: &mut Checker<'_>, here: &At, w: &raw::Waveform) -> WaveRecipe {
    let (width, height) = c.size(key(here, "size"), Some(w.size.as_deref().unwrap_or("1800x280")));
    if width == 0 || height == 0 {
        let found = format!("\"{}\"", w.size.as_deref().unwrap_or_default());
        c.fault(key(here, "size"), found, "a size with both sides, such as \"1800x280\"");
    }
    let mut colour = |name: &'static str, text: &Option<String>, usual: [u8; 3]| {
        text.as_deref().map_or(usual, |t| colour(c, key(here, name), t))
    };
    WaveRecipe {
        width: width.max(1),
        height: height.max(1),
        colour: colour("colour", &w.colour, [79, 140, 201]),
        ground: colour("ground", &w.ground, [255, 255, 255]),
    }
}

const SEGMENTS: std::ops::RangeInclusive<u128> = 1000..=20_000;

fn stream(c: &mut Checker<'_>, preset: &At, p: &raw::Preset, s: &raw::Stream) -> StreamRecipe {
    let here = &key(preset, "stream");
    let segment = c.duration(key(here, "segment"), s.segment.as_deref(), "4 s", MS);
    if !SEGMENTS.contains(&segment.as_millis()) {
        let found = format!("\"{}\"", s.segment.as_deref().unwrap_or_default());
        c.fault(key(here, "segment"), found, "\"1 s\" to \"20 s\"");
    }
    if s.rungs.is_empty() || s.rungs.len() > 12 {
        c.fault(key(here, "rungs"), format!("{} rungs", s.rungs.len()), "1 to 12");
    }
    if p.container.is_some() {
        c.fault(key(preset, "container"), "'container' beside 'stream'", "none: a stream has its own files");
    }
    if let Some(codec) = p.audio.as_ref().and_then(|a| a.codec.as_deref()).filter(|c| *c != "aac") {
        c.fault(key(&key(preset, "audio"), "codec"), format!("\"{codec}\" in a stream"), "\"aac\"");
    }
    let rungs = s.rungs.iter().enumerate().map(|(n, r)| {
        let mut here = key(here, "rungs");
        here.push(Step::Index(n));
        let fit = c.size(key(&here, "fit"), Some(&r.fit));
        let bits = bitrate(c, key(&here, "bitrate"), &r.bitrate);
        Rung { fit, bits }
    });
    let rungs = rungs.collect();
    StreamRecipe { segment_ms: segment.as_millis().min(u32::MAX.into()) as u32, rungs, captions: None }
}

/// Of pictures.
/// Where something stands in a picture.
const PLACES: [(&str, (Side, Side)); 9] = {
    use Side::{End, Middle, Start};
    [
        ("top-left", (Start, Start)),
        ("top", (Middle, Start)),
        ("top-right", (End, Start)),
        ("left", (Start, Middle)),
        ("middle", (Middle, Middle)),
        ("right", (End, Middle)),
        ("bottom-left", (Start, End)),
        ("bottom", (Middle, End)),
        ("bottom-right", (End, End)),
    ]
};

/// A file beside the configuration, which is there and is read.
fn needed<T>(
    c: &mut Checker<'_>,
    path: At,
    file: &str,
    wanted: &str,
    read: impl FnOnce(&Needed) -> media::Result<T>,
) -> Needed {
    let at = c.base.join(file);
    let mut needed = Needed { file: at.to_string_lossy().into_owned(), bytes: Vec::new() };
    match crate::recipe::read_needed(&mut needed) {
        Ok(()) => {
            if let Err(e) = read(&needed) {
                c.fault(path, format!("\"{file}\": {e}"), wanted);
            }
        }
        Err(e) => c.fault(path, e.to_string(), wanted),
    }
    // The file is read again for each job.
    Needed { file: at.to_string_lossy().into_owned(), bytes: Vec::new() }
}

fn overlay(c: &mut Checker<'_>, preset: &At, n: usize, o: &raw::Overlay) -> Overlay {
    let mut here = key(preset, "overlay");
    here.push(Step::Index(n));
    let usual = (Side::End, Side::Start);
    let (across, down) = choice(c, key(&here, "at"), o.at.as_deref(), &PLACES, usual);
    let size = o.size.unwrap_or(10.0) as f32;
    if !Overlay::SIZES.contains(&size) {
        let (least, most) = (Overlay::SIZES.start(), Overlay::SIZES.end());
        c.fault(
            key(&here, "size"),
            size.to_string(),
            format!("{least} to {most}, in hundredths of the height"),
        );
    }
    let solid = o.solid.unwrap_or(1.0) as f32;
    if !(0.0..=1.0).contains(&solid) {
        c.fault(key(&here, "solid"), solid.to_string(), "0 (not seen) to 1 (solid)");
    }
    let made = |picture: Needed| Overlay { picture, across, down, size, solid };
    let picture = needed(c, key(&here, "file"), &o.file, "a picture (PNG) beside the configuration", |n| {
        made(n.clone()).picture()
    });
    made(picture)
}

fn burn(c: &mut Checker<'_>, preset: &At, n: usize, b: &raw::Burn) -> Burn {
    let mut here = key(preset, "burn");
    here.push(Step::Index(n));
    text(c, key(&here, "text"), &b.text);
    let (across, down) = choice(c, key(&here, "at"), b.at.as_deref(), &PLACES, (Side::Middle, Side::End));
    let (size, shade, colour) = letters(c, &here, (b.size, 5.0), b.shade, b.colour.as_deref());
    Burn { text: b.text.clone(), across, down, size, colour, shade }
}

/// Size, darkness behind, and colour of words in a picture.
fn letters(
    c: &mut Checker<'_>,
    here: &At,
    (size, usual): (Option<f64>, f32),
    shade: Option<f64>,
    ink: Option<&str>,
) -> (f32, f32, [u8; 3]) {
    let size = size.map_or(usual, |s| s as f32);
    if !Burn::SIZES.contains(&size) {
        let (least, most) = (Burn::SIZES.start(), Burn::SIZES.end());
        c.fault(
            key(here, "size"),
            size.to_string(),
            format!("{least} to {most}, in hundredths of the height"),
        );
    }
    let shade = shade.unwrap_or(0.5) as f32;
    if !(0.0..=1.0).contains(&shade) {
        c.fault(key(here, "shade"), shade.to_string(), "0 (no box) to 1 (black)");
    }
    (size, shade, ink.map_or([255; 3], |t| colour(c, key(here, "colour"), t)))
}

fn burn_captions(c: &mut Checker<'_>, here: &At, b: &raw::BurnCaptions) -> Captions {
    let sides = [("bottom", false), ("top", true)];
    let at_top = choice(c, key(here, "at"), b.at.as_deref(), &sides, false);
    let (size, shade, colour) = letters(c, here, (b.size, 5.5), b.shade, b.colour.as_deref());
    Captions { size, colour, shade, at_top, came: None }
}

/// Writing in a picture: fields that there are, and letters that the typeface has.
fn text(c: &mut Checker<'_>, path: At, text: &str) {
    if let Err(wanted) = naming::check_text(text) {
        c.fault(path, format!("\"{text}\""), wanted);
        return;
    }
    let none = media::text::missing(text);
    if !none.is_empty() {
        let wanted = "letters of the typeface (Latin, Greek, Cyrillic and more)";
        c.fault(path, format!("\"{none}\" in \"{text}\""), wanted);
    }
}

fn colour(c: &mut Checker<'_>, path: At, text: &str) -> [u8; 3] {
    hex(text).unwrap_or_else(|| {
        c.fault(path, format!("\"{text}\""), "a colour such as \"#203040\"");
        [0; 3]
    })
}

fn hex(text: &str) -> Option<[u8; 3]> {
    let part = |at: usize| u8::from_str_radix(text.get(at..at + 2)?, 16).ok();
    (text.len() == 7 && text.starts_with('#')).then_some(())?;
    Some([part(1)?, part(3)?, part(5)?])
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
    if let Some(p) = &r.pictures {
        return match &p.kind {
            PicturesKind::Preview { form, .. } => form.extension(),
            kind if kind.is_folder() => "",
            _ => p.format.extension(),
        };
    }
    if r.audio.as_ref().is_some_and(|a| a.split) {
        if r.video.is_some() {
            c.fault(key(&key(here, "audio"), "split"), "'split' beside pictures", "sound alone");
        }
        return "";
    }
    if r.waveform.is_some() {
        return "png";
    }
    if r.stream.is_some() {
        return "";
    }
    let (video, audio) = (r.video.as_ref().map(|v| v.codec), r.audio.as_ref().map(|a| a.codec));
    match wrap::wrapper(r.wrap, video, audio) {
        Ok(w) if video.is_some() => w.extension,
        Ok(w) => w.sound_extension,
        Err(_) => {
            // Codecs that are not together in any, or not in the one that is named.
            let holds = |w: &&wrap::Wrapper| w.takes(video, audio);
            let good: Vec<&str> = WRAPPERS.iter().filter(holds).map(|w| w.name).collect();
            let found = match r.wrap {
                Some(_) => "a container that does not hold these codecs",
                None if video == Some(VideoCodec::Copy) || audio == Some(AudioCodec::Copy) => {
                    "no container for tracks that are copied"
                }
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

/// A time with a sign.
fn delay(c: &mut Checker<'_>, here: &At, text: &str) -> i64 {
    let (sign, rest) = text.strip_prefix('-').map_or((1, text), |rest| (-1, rest.trim_start()));
    match values::duration(rest).filter(|d| *d <= Duration::from_secs(3600)) {
        Some(d) => sign * d.as_millis() as i64,
        None => {
            c.fault(
                here.clone(),
                format!("\"{text}\""),
                "a time up to an hour, such as \"40 ms\" or \"-80 ms\"",
            );
            0
        }
    }
}

fn video(c: &mut Checker<'_>, here: &At, v: &raw::Video) -> VideoRecipe {
    let codecs = [
        ("h264", VideoCodec::H264),
        ("vp9", VideoCodec::Vp9),
        ("av1", VideoCodec::Av1),
        ("av1-10", VideoCodec::Av1Ten),
        ("mjpeg", VideoCodec::MotionJpeg),
        ("v210", VideoCodec::V210),
        ("ffv1", VideoCodec::Ffv1),
        ("planes", VideoCodec::Planes),
        ("copy", VideoCodec::Copy),
    ];
    let codec = choice(c, key(here, "codec"), v.codec.as_deref(), &codecs, VideoCodec::H264);
    let row = coders::VIDEO_CODERS.iter().find(|r| r.codec == codec);
    let lossless = codec == VideoCodec::Ffv1;
    if codec == VideoCodec::Copy {
        let stated = [
            ("fit", v.fit.is_some()),
            ("framing", v.framing.is_some()),
            ("fill", v.fill.is_some()),
            ("frame_rate", v.frame_rate.is_some()),
            ("deinterlace", v.deinterlace.is_some()),
            ("kernel", v.kernel.is_some()),
            ("quantiser", v.quantiser.is_some()),
            ("bitrate", v.bitrate.is_some()),
            ("quality", v.quality.is_some()),
            ("most_bitrate", v.most_bitrate.is_some()),
            ("buffer", v.buffer.is_some()),
            ("passes", v.passes.is_some()),
            ("key_every", v.key_every.is_some()),
            ("crop", v.crop.is_some()),
            ("rate_change", v.rate_change.is_some()),
            ("speed", v.speed.is_some()),
            ("denoise", v.denoise.is_some()),
            ("sharpen", v.sharpen.is_some()),
            ("dither", v.dither.is_some()),
            ("fade_in", v.fade_in.is_some()),
            ("fade_out", v.fade_out.is_some()),
            ("colour", v.colour.is_some()),
            ("look", v.look.is_some()),
        ];
        for (name, _) in stated.into_iter().filter(|s| s.1) {
            c.fault(key(here, name), format!("'{name}' for pictures that are copied"), "no such key");
        }
    }
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
        ("film", Deinterlace::Film),
    ];
    let deinterlace =
        // Nothing is lost of what is kept for ever.
        choice(
            c,
            key(here, "deinterlace"),
            v.deinterlace.as_deref(),
            &deinterlaces,
            if lossless { Deinterlace::Never } else { Deinterlace::Auto },
        );
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
    let rate = bits::rate(c, here, v, row);
    let bars = v.crop.as_deref() == Some("bars");
    let crop = v.crop.as_deref().filter(|_| !bars).and_then(|text| {
        let found = rect(text);
        if found.is_none() {
            let wanted = "\"bars\", or a size and its upper left corner such as \"1440x1080 at 240,0\"";
            c.fault(key(here, "crop"), format!("\"{text}\""), wanted);
        }
        found
    });
    let changes = [("repeat", false), ("blend", true)];
    let blend = choice(c, key(here, "rate_change"), v.rate_change.as_deref(), &changes, false);
    let mut part = |name: &'static str, v: Option<f64>, most: f64| {
        let v = v.unwrap_or(0.0);
        if !(0.0..=most).contains(&v) {
            c.fault(key(here, name), v.to_string(), format!("0 to {most}"));
        }
        (v.clamp(0.0, most) * 1000.0).round() as u32
    };
    let (denoise, sharpen) = (part("denoise", v.denoise, 1.0), part("sharpen", v.sharpen, 2.0));
    let pace = v.speed.map(|speed| {
        if !(0.1..=1000.0).contains(&speed) {
            c.fault(key(here, "speed"), speed.to_string(), "0.1 to 1000 times as fast");
        }
        (speed.clamp(0.1, 1000.0) * 1000.0).round() as u32
    });
    let fade = fade(c, here, &v.fade_in, &v.fade_out);
    let colours = [("source", false), ("bt709", true)];
    let to_hd = choice(c, key(here, "colour"), v.colour.as_deref(), &colours, false);
    let look = v.look.as_deref().map(|file| {
        let wanted = "a table of colours (.cube) beside the configuration";
        needed(c, key(here, "look"), file, wanted, |n| Table::parse(&String::from_utf8_lossy(&n.bytes)))
    });
    let key_every_ms = key_every.as_millis().min(u32::MAX.into()) as u32;
    VideoRecipe {
        codec,
        fit,
        framing,
        rate,
        key_every_ms,
        frame_rate,
        deinterlace,
        crop,
        bars,
        blend,
        pace,
        denoise,
        sharpen,
        dither: v.dither.unwrap_or(false),
        fade,
        to_hd,
        look,
        captions: None,
        overlays: Vec::new(),
        kernel,
        keep_pixels: lossless,
        burn: Vec::new(),
        alpha: alpha(c, here, v.alpha.as_deref(), v.ground.as_deref()),
    }
}

fn fade(c: &mut Checker<'_>, here: &At, from: &Option<String>, to: &Option<String>) -> Fade {
    let mut fade = |name: &'static str, text: &Option<String>| {
        let d = c.duration(key(here, name), text.as_deref(), "0 s", Duration::ZERO);
        let ms = d.as_millis().min(u32::MAX.into()) as u32;
        if ms > Fade::MOST_MS {
            let found = format!("\"{}\"", text.as_deref().unwrap_or_default());
            c.fault(key(here, name), found, format!("up to \"{} s\"", Fade::MOST_MS / 1000));
        }
        ms
    };
    Fade { in_ms: fade("fade_in", from), out_ms: fade("fade_out", to) }
}

/// "1440x1080 at 240,0".
fn rect(text: &str) -> Option<Rect> {
    let (size, corner) = text.split_once(" at ")?;
    let (width, height) = size.split_once('x')?;
    let (x, y) = corner.split_once(',')?;
    let n = |t: &str| t.trim().parse::<u32>().ok();
    let rect = Rect { x: n(x)?, y: n(y)?, width: n(width)?, height: n(height)? };
    (rect.width > 1 && rect.height > 1).then_some(rect)
}

fn fill(c: &mut Checker<'_>, path: At, text: &str) -> Fill {
    match text {
        "black" => Fill::Black,
        "blur" => Fill::Blur,
        _ => hex(text).map(Fill::Colour).unwrap_or_else(|| {
            c.fault(path, format!("\"{text}\""), "\"black\", \"blur\" or a colour such as \"#203040\"");
            Fill::Black
        }),
    }
}

fn audio(c: &mut Checker<'_>, here: &At, a: &raw::Audio) -> AudioRecipe {
    let codecs = [
        ("aac", AudioCodec::Aac),
        ("opus", AudioCodec::Opus),
        ("mp3", AudioCodec::Mp3),
        ("flac16", AudioCodec::Flac16),
        ("flac24", AudioCodec::Flac24),
        ("pcm16", AudioCodec::Pcm16),
        ("pcm24", AudioCodec::Pcm24),
        ("copy", AudioCodec::Copy),
    ];
    let codec = choice(c, key(here, "codec"), a.codec.as_deref(), &codecs, AudioCodec::Aac);
    let row = coders::AUDIO_CODERS.iter().find(|r| r.codec == codec);
    if codec == AudioCodec::Copy {
        let stated = [
            ("bitrate", a.bitrate.is_some()),
            ("channels", a.channels.is_some()),
            ("rate", a.rate.is_some()),
            ("loudness", a.loudness.is_some()),
            ("gain", a.gain.is_some()),
            ("delay", a.delay.is_some()),
            ("dynamics", a.dynamics.is_some()),
            ("fade_in", a.fade_in.is_some()),
            ("fade_out", a.fade_out.is_some()),
            ("if_missing", a.if_missing.is_some()),
            ("split", a.split.is_some()),
        ];
        for (name, _) in stated.into_iter().filter(|s| s.1) {
            c.fault(key(here, name), format!("'{name}' for sound that is copied"), "no such key");
        }
        return AudioRecipe { codec, ..AudioRecipe::default() };
    }
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
    let fade = fade(c, here, &a.fade_in, &a.fade_out);
    let missing = [("leave-out", false), ("silence", true)];
    let silence = choice(c, key(here, "if_missing"), a.if_missing.as_deref(), &missing, false);
    let split = a.split.unwrap_or(false);
    let whole = [("channels", a.channels.is_some()), ("loudness", a.loudness.is_some())];
    for (name, _) in whole.into_iter().filter(|w| split && w.1) {
        c.fault(
            key(here, name),
            format!("'{name}' beside 'split'"),
            "one of the two: every channel stays as it is",
        );
    }
    let delay_ms = a.delay.as_deref().map_or(0, |text| delay(c, &key(here, "delay"), text));
    AudioRecipe { codec, bits, channels, rate, delay_ms, loudness, gain, even, fade, silence, split }
}

fn still(c: &mut Checker<'_>, here: &At, s: &raw::Still) -> StillRecipe {
    let (fit, format) = look(c, here, (s.fit.as_deref(), "*x*"), s.format.as_deref(), s.quality);
    let at = s.at.as_deref().map(|text| moment(c, key(here, "at"), text));
    let alpha = alpha(c, here, s.alpha.as_deref(), s.ground.as_deref());
    StillRecipe { fit, format, at, alpha }
}
