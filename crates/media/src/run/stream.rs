//! The index of a stream: playlists of HTTP Live Streaming (RFC 8216) and a manifest of DASH (ISO/IEC 23009-1), over the same
//! files. Each file is one track in fragments; the playlists say where in it a fragment lies.

use super::Made;
use super::pictures::clock;
use crate::container::mp4::fragment_mux::HEAD;
use crate::container::wrap::{Folder, Fragment, Target};
use crate::error::Result;
use crate::filter::video::Spoken;
use crate::plan::{CaptionsPlan, FilmPlan, MadePlan};
use std::fmt::Write as _;

pub const MASTER: &str = "master.m3u8";
pub const MANIFEST: &str = "manifest.mpd";
/// Ticks a second of the manifest's times.
const TICKS: f64 = 1_000_000.0;

/// The folder that the lists of a stream go to; none for what is no stream.
type Lists = Option<Box<dyn Folder>>;

/// Targets of what is made side by side, and the folder they lie in, where the output is a stream.
pub fn begin(made: &MadePlan, to: Target) -> Result<(Vec<Target>, Lists)> {
    let MadePlan::Stream(stream) = made else { return Ok((vec![to], None)) };
    let mut folder = to.folder()?;
    let files = stream
        .rungs
        .iter()
        .map(|r| Ok(Target::File(folder.create(&format!("{}.{}", r.name, stream.extension))?)));
    Ok((files.collect::<Result<_>>()?, Some(folder)))
}

/// One file of the stream, with what its index says.
struct Part<'a> {
    name: &'a str,
    film: &'a FilmPlan,
    made: &'a Made,
}

/// What came of all of them: the one, or the stream with its index.
pub fn end(plan: &MadePlan, folder: Lists, mut made: Vec<Made>) -> Result<Made> {
    let (MadePlan::Stream(stream), Some(mut folder)) = (plan, folder) else {
        return Ok(made.pop().unwrap_or_default());
    };
    let mut whole = Made {
        size: made.first().and_then(|m| m.size),
        frames: made.first().map_or(0, |m| m.frames),
        sound: made.iter().flat_map(|m| m.sound.clone()).collect(),
        seconds: made.iter().map(|m| m.seconds).fold(0.0, f64::max),
        notes: made.iter_mut().flat_map(|m| std::mem::take(&mut m.notes)).collect(),
        ..Made::default()
    };
    let names = stream.rungs.iter().map(|r| format!("{}.{}", r.name, stream.extension));
    if !stream.lists {
        whole.inside = names.zip(made).collect();
        return Ok(whole);
    }
    let parts = stream
        .rungs
        .iter()
        .zip(&made)
        .filter_map(|(r, made)| Some(Part { name: &r.name, film: r.made.film()?, made }));
    let parts: Vec<Part<'_>> = parts.collect();
    for p in &parts {
        folder.create(&format!("{}.m3u8", p.name))?.write_all(p.playlist().as_bytes())?;
    }
    let captions = stream.captions.as_ref();
    if let Some(c) = captions {
        folder.create(&format!("{CAPTIONS}.vtt"))?.write_all(web_vtt(&c.spoken).as_bytes())?;
        folder.create(&format!("{CAPTIONS}.m3u8"))?.write_all(captions_list(whole.seconds).as_bytes())?;
    }
    folder.create(MASTER)?.write_all(master(&parts, captions).as_bytes())?;
    folder.create(MANIFEST)?.write_all(manifest(&parts, captions).as_bytes())?;
    whole.inside = names.zip(made).collect();
    Ok(whole)
}

/// The file of captions, without its ending.
const CAPTIONS: &str = "captions-1";

/// The captions as WebVTT (W3C, 2019): what would be markup there is none.
fn web_vtt(spoken: &[Spoken]) -> String {
    let mut text = String::from("WEBVTT\n");
    for s in spoken {
        let (from, to) = (clock(s.from as f64 / 1000.0), clock(s.to as f64 / 1000.0));
        let said = s.text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;");
        // An empty line would end the cue.
        let lines: Vec<&str> = said.lines().map(str::trim_end).filter(|l| !l.is_empty()).collect();
        let _ = write!(text, "\n{from} --> {to}\n{}\n", lines.join("\n"));
    }
    text
}

/// All captions are one segment.
fn captions_list(seconds: f64) -> String {
    format!(
        "#EXTM3U\n#EXT-X-VERSION:7\n#EXT-X-TARGETDURATION:{}\n#EXT-X-PLAYLIST-TYPE:VOD\n#EXTINF:{seconds:.6},\n{CAPTIONS}.vtt\n\
         #EXT-X-ENDLIST\n",
        seconds.ceil().max(1.0)
    )
}

impl Part<'_> {
    fn fragments(&self) -> &[Fragment] {
        &self.made.fragments
    }

    fn is_video(&self) -> bool {
        self.film.video.is_some()
    }

    /// As RFC 6381 names it.
    fn codec(&self) -> String {
        match self.made.setup.get(1..4) {
            // Profile, constraints and level stand in the setup record (14496-15, 5.3.3.1).
            Some([profile, constraints, level]) if self.is_video() => {
                format!("avc1.{profile:02x}{constraints:02x}{level:02x}")
            }
            _ => "mp4a.40.2".into(),
        }
    }

    /// Bits a second of the largest fragment.
    fn peak(&self) -> u64 {
        let rate = |f: &Fragment| (f.bytes as f64 * 8.0 / f.seconds.max(0.1)).ceil() as u64;
        self.fragments().iter().map(rate).max().unwrap_or(0)
    }

    fn average(&self) -> u64 {
        let bytes: u64 = self.fragments().iter().map(|f| f.bytes).sum();
        let seconds: f64 = self.fragments().iter().map(|f| f.seconds).sum();
        (bytes as f64 * 8.0 / seconds.max(0.1)).ceil() as u64
    }

    fn playlist(&self) -> String {
        let longest = self.fragments().iter().map(|f| f.seconds).fold(0.0, f64::max);
        let name = self.name;
        let mut text = String::from("#EXTM3U\n#EXT-X-VERSION:7\n");
        // Rounded, no fragment may be longer (4.3.3.1).
        let _ = writeln!(text, "#EXT-X-TARGETDURATION:{}", longest.round().max(1.0) as u64);
        text += "#EXT-X-PLAYLIST-TYPE:VOD\n#EXT-X-INDEPENDENT-SEGMENTS\n";
        let _ = writeln!(text, "#EXT-X-MAP:URI=\"{name}.mp4\",BYTERANGE=\"{HEAD}@0\"");
        for f in self.fragments() {
            let _ = writeln!(
                text,
                "#EXTINF:{:.6},\n#EXT-X-BYTERANGE:{}@{}\n{name}.mp4",
                f.seconds, f.bytes, f.at
            );
        }
        text += "#EXT-X-ENDLIST\n";
        text
    }
}

fn master(parts: &[Part<'_>], captions: Option<&CaptionsPlan>) -> String {
    let mut text = String::from("#EXTM3U\n#EXT-X-VERSION:7\n#EXT-X-INDEPENDENT-SEGMENTS\n");
    let sounds: Vec<&Part<'_>> = parts.iter().filter(|p| !p.is_video()).collect();
    for (n, p) in sounds.iter().enumerate() {
        let language = p.film.audio.first().and_then(|a| a.language.as_deref());
        let language = language.map_or(String::new(), |l| format!(",LANGUAGE=\"{l}\""));
        let usual = if n == 0 { "YES" } else { "NO" };
        let _ = writeln!(
            text,
            "#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID=\"sound\",NAME=\"Sound {}\"{language},DEFAULT={usual},AUTOSELECT=YES,URI=\"{}.m3u8\"",
            n + 1,
            p.name
        );
    }
    if let Some(c) = captions {
        let language =
            if c.language.is_empty() { String::new() } else { format!(",LANGUAGE=\"{}\"", c.language) };
        let _ = writeln!(
            text,
            "#EXT-X-MEDIA:TYPE=SUBTITLES,GROUP-ID=\"captions\",NAME=\"Captions\"{language},DEFAULT=NO,AUTOSELECT=YES,URI=\"{CAPTIONS}.m3u8\""
        );
    }
    let peak = sounds.iter().map(|p| p.peak()).max().unwrap_or(0);
    let average = sounds.iter().map(|p| p.average()).max().unwrap_or(0);
    let codec = sounds.first().map_or(String::new(), |p| format!(",{}", p.codec()));
    let mut group = String::from(if sounds.is_empty() { "" } else { ",AUDIO=\"sound\"" });
    if captions.is_some() {
        group.push_str(",SUBTITLES=\"captions\"");
    }
    for p in parts.iter().filter(|p| p.is_video()) {
        let Some(v) = &p.film.video else { continue };
        let rate = v.form.rate.map_or(String::new(), |r| format!(",FRAME-RATE={:.3}", r.value()));
        let _ = writeln!(
            text,
            "#EXT-X-STREAM-INF:BANDWIDTH={},AVERAGE-BANDWIDTH={},CODECS=\"{}{codec}\",RESOLUTION={}x{}{rate}{group}\n{}.m3u8",
            p.peak() + peak,
            p.average() + average,
            p.codec(),
            v.form.width,
            v.form.height,
            p.name
        );
    }
    // For lines that carry no pictures.
    if let Some(p) = sounds.first() {
        let _ = writeln!(
            text,
            "#EXT-X-STREAM-INF:BANDWIDTH={},AVERAGE-BANDWIDTH={},CODECS=\"{}\",AUDIO=\"sound\"\n{}.m3u8",
            p.peak(),
            p.average(),
            p.codec(),
            p.name
        );
    }
    text
}

fn manifest(parts: &[Part<'_>], captions: Option<&CaptionsPlan>) -> String {
    let length =
        parts.iter().map(|p| p.fragments().iter().map(|f| f.seconds).sum::<f64>()).fold(0.0, f64::max);
    let longest = parts.iter().flat_map(|p| p.fragments()).map(|f| f.seconds).fold(1.0, f64::max);
    let mut text = format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<MPD xmlns=\"urn:mpeg:dash:schema:mpd:2011\" type=\"static\" \
         profiles=\"urn:mpeg:dash:profile:full:2011\" mediaPresentationDuration=\"PT{length:.3}S\" \
         minBufferTime=\"PT{longest:.3}S\">\n <Period>\n"
    );
    let videos: Vec<&Part<'_>> = parts.iter().filter(|p| p.is_video()).collect();
    let _ = writeln!(
        text,
        "  <AdaptationSet contentType=\"video\" mimeType=\"video/mp4\" segmentAlignment=\"true\" startWithSAP=\"1\">"
    );
    videos.iter().for_each(|p| representation(&mut text, p));
    text += "  </AdaptationSet>\n";
    for p in parts.iter().filter(|p| !p.is_video()) {
        let language = p.film.audio.first().and_then(|a| a.language.as_deref());
        let language = language.map_or(String::new(), |l| format!(" lang=\"{l}\""));
        let _ = writeln!(
            text,
            "  <AdaptationSet contentType=\"audio\" mimeType=\"audio/mp4\"{language} segmentAlignment=\"true\" startWithSAP=\"1\">"
        );
        representation(&mut text, p);
        text += "  </AdaptationSet>\n";
    }
    if let Some(c) = captions {
        let language =
            if c.language.is_empty() { String::new() } else { format!(" lang=\"{}\"", c.language) };
        let _ = writeln!(
            text,
            "  <AdaptationSet contentType=\"text\" mimeType=\"text/vtt\"{language}>\n   <Role schemeIdUri=\"urn:mpeg:dash:role:2011\" \
             value=\"subtitle\"/>\n   <Representation id=\"{CAPTIONS}\" bandwidth=\"256\">\n    <BaseURL>{CAPTIONS}.vtt</BaseURL>\n   \
             </Representation>\n  </AdaptationSet>"
        );
    }
    text += " </Period>\n</MPD>\n";
    text
}

fn representation(text: &mut String, p: &Part<'_>) {
    let look = match (&p.film.video, p.film.audio.first()) {
        (Some(v), _) => {
            let rate = v.form.rate.map_or(String::new(), |r| format!(" frameRate=\"{}/{}\"", r.num, r.den));
            format!("width=\"{}\" height=\"{}\"{rate}", v.form.width, v.form.height)
        }
        (None, Some(a)) => format!("audioSamplingRate=\"{}\"", a.form.rate),
        (None, None) => String::new(),
    };
    let (name, codec, bandwidth) = (p.name, p.codec(), p.peak());
    let _ = writeln!(
        text,
        "   <Representation id=\"{name}\" codecs=\"{codec}\" bandwidth=\"{bandwidth}\" {look}>\n    \
         <BaseURL>{name}.mp4</BaseURL>\n    <SegmentList timescale=\"{TICKS}\">\n     \
         <Initialization range=\"0-{}\"/>\n     <SegmentTimeline>",
        HEAD - 1
    );
    let (mut at, mut from) = (0.0, 0u64);
    for f in p.fragments() {
        at += f.seconds;
        let until = (at * TICKS).round() as u64;
        let _ = writeln!(text, "      <S t=\"{from}\" d=\"{}\"/>", until - from);
        from = until;
    }
    text.push_str("     </SegmentTimeline>\n");
    for f in p.fragments() {
        let _ = writeln!(text, "     <SegmentURL mediaRange=\"{}-{}\"/>", f.at, f.at + f.bytes - 1);
    }
    text.push_str("    </SegmentList>\n   </Representation>\n");
}
