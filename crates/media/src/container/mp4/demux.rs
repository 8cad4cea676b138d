//! Reading: the index into tracks, then packets by time of decoding.

use super::boxes::{self, FileBox, be16, be32, be64, find, find_path, inside, version};
use super::edits::{self, Segment};
use super::tables::{Cursor, Sample, Tables};
use super::{elsewhere, entry, fragments};
use crate::codec::mpeg_audio;
use crate::container::block::BlockReader;
use crate::container::{About, Codec, Demux, Media, Packet, Source, Track, rotation_of};
use crate::error::{Error, Result};
use crate::limits::{MAX_INDEX_BYTES, MAX_PACKET_BYTES, MAX_TRACKS};
use crate::units::{Ratio, Time, rescale};
use std::io::SeekFrom;
use std::sync::Arc;

/// Uncompressed sound is given in packets of at most this many samples.
const PCM_RUN: u32 = 4096;

/// Packets of sound that are read before a moment: decoders need some to begin well.
const SOUND_BEFORE: u32 = 4;

pub struct Mp4Reader {
    source: BlockReader,
    file_end: u64,
    tracks: Vec<Track>,
    walks: Vec<Walk>,
    about: About,
}

/// Where reading of one track stands.
struct Walk {
    tables: Tables,
    media_scale: u32,
    segments: Vec<Segment>,
    segment: usize,
    cursor: Cursor,
    /// The sample that comes next, and how many are in its packet.
    next: Option<(Sample, u32)>,
    chosen: bool,
    /// Uncompressed sound: bytes of one sample of all channels.
    pcm_frame: Option<u32>,
    /// Length of a packet as the coder made it, to know a shortened last one.
    usual: Option<u32>,
}

impl Mp4Reader {
    pub fn open(mut source: Box<dyn Source>) -> Result<Self> {
        let top = boxes::top_level(&mut source)?;
        let file_end = source.seek(SeekFrom::End(0))?;
        let moov = top.iter().find(|b| &b.kind == b"moov");
        let Some(moov) = moov.filter(|b| !b.cut) else {
            return Err(no_index(&top, file_end, moov.copied()));
        };
        let size = moov.end - moov.body;
        if size > MAX_INDEX_BYTES {
            return Err(Error::limit("moov", format!("an index of {size} bytes; up to {MAX_INDEX_BYTES}")));
        }
        source.seek(SeekFrom::Start(moov.body))?;
        let mut index = vec![0u8; size as usize];
        source.read_exact(&mut index)?;
        if let Some(packed) = find(&index, b"cmov") {
            index = fragments::inflate(packed)?;
        }
        let mut index: Arc<[u8]> = index.into();
        if find(&index, b"mvex").is_some() && top.iter().any(|b| &b.kind == b"moof") {
            index = fragments::plain(&index, &top, &mut source, file_end)?;
        }

        let mut reader = Mp4Reader {
            source: BlockReader::new(source),
            file_end,
            tracks: Vec::new(),
            walks: Vec::new(),
            about: About::default(),
        };
        if let Some(cut) = top.iter().find(|b| b.cut && &b.kind == b"mdat") {
            reader.about.damage = Some(format!(
                "cut off, or still being copied: the media data from byte {} goes past the file's end at {file_end}",
                cut.start
            ));
        }
        reader.read_index(&index)?;
        if reader.tracks.is_empty() {
            return Err(Error::damaged("moov", "the index describes no track"));
        }
        reader.look_for_missing_data();
        reader.read_timecode_starts();
        reader.read_audio_layers();
        reader.read_picture_headers();
        Ok(reader)
    }

    fn read_index(&mut self, index: &Arc<[u8]>) -> Result<()> {
        elsewhere::refuse_reference(index)?;
        let mvhd = find(index, b"mvhd").ok_or_else(|| Error::damaged("moov", "no movie header ('mvhd')"))?;
        let long = version(mvhd) == 1;
        let movie_scale = be32(mvhd, if long { 20 } else { 12 }).unwrap_or(0).max(1);
        self.about.created =
            if long { be64(mvhd, 4) } else { be32(mvhd, 4).map(u64::from) }.and_then(created);
        let mut first = None;
        for trak in inside(index).filter(|b| &b.kind == b"trak").take(MAX_TRACKS) {
            let number = self.tracks.len() + 1;
            match read_track(index, trak.body, movie_scale) {
                Ok(Some((track, walk))) => {
                    self.tracks.push(track);
                    self.walks.push(walk);
                }
                Ok(None) => (),
                // One bad track does not spoil the others.
                Err(e) => {
                    self.about.remarks.push(format!("track {number} cannot be used: {e}"));
                    first.get_or_insert(e);
                }
            }
        }
        if self.tracks.is_empty()
            && let Some(first) = first
        {
            return Err(match (first, self.about.remarks.first()) {
                (e @ Error::Unsupported(_), _) | (e, None) => e,
                (_, Some(why)) => Error::damaged("moov", why.clone()),
            });
        }
        super::about::read(index, &mut self.about);
        Ok(())
    }

    /// Packets that lie past the end of the file: the index came first and the rest is missing.
    fn look_for_missing_data(&mut self) {
        if self.about.damage.is_some() {
            return;
        }
        for walk in &self.walks {
            let end = walk.tables.furthest_chunk();
            if end > self.file_end {
                self.about.damage = Some(format!(
                    "cut off, or still being copied: the index points to byte {end}, but the file ends at {}",
                    self.file_end
                ));
                return;
            }
        }
    }

    /// MPEG audio of every layer has one code: its first frame says which it is.
    fn read_audio_layers(&mut self) {
        for (track, walk) in self.tracks.iter_mut().zip(&self.walks) {
            if let Codec::MpegAudio(layer) = &mut track.codec
                && let Some(first) = walk.tables.cursor().next(&walk.tables)
                && first.size >= 4
                && let Ok(data) = self.source.read(first.offset, 4)
                && let Some(head) = mpeg_audio::Header::parse(&data)
            {
                *layer = head.layer;
            }
        }
    }

    /// Where nothing outside the packets tells how pictures are sampled, the first of them does.
    fn read_picture_headers(&mut self) {
        for (track, walk) in self.tracks.iter_mut().zip(&self.walks) {
            if track.video().is_some_and(|v| v.chroma.is_none())
                && let Some(first) = walk.tables.cursor().next(&walk.tables)
                && let Ok(data) = self.source.read(first.offset, (first.size as usize).min(4096))
            {
                crate::codec::look_at_packet(track, &data);
            }
        }
    }

    /// The first frame number of each timecode track is its first sample.
    fn read_timecode_starts(&mut self) {
        for (track, walk) in self.tracks.iter_mut().zip(&self.walks) {
            if let Media::Timecode(tc) = &mut track.media
                && let Some(first) = walk.tables.cursor().next(&walk.tables)
                && first.size >= 4
                && let Ok(data) = self.source.read(first.offset, 4)
            {
                tc.start = u32::from_be_bytes([data[0], data[1], data[2], data[3]]);
            }
        }
    }
}

fn no_index(top: &[FileBox], file_end: u64, cut_moov: Option<FileBox>) -> Error {
    if let Some(moov) = cut_moov {
        return Error::damaged_at(
            "moov",
            moov.start,
            format!("cut off, or still being copied: the index goes past the file's end at {file_end}"),
        );
    }
    // A part of a stream for players: its description is a file of its own.
    if top.iter().any(|b| &b.kind == b"moof") && top.iter().all(|b| !b.cut) {
        return Error::unsupported(
            "",
            "it is a part of something else: fragments ('moof') of a stream whose beginning ('moov') is another file; put \
             the beginning in front of it (the two files, one behind the other, are a whole one)",
        );
    }
    match top.last() {
        Some(last) if last.cut => Error::damaged_at(
            boxes::show(last.kind),
            last.start,
            format!(
                "cut off, or still being copied: this part goes past the file's end at {file_end}, and there is no index ('moov')"
            ),
        ),
        _ => Error::damaged(
            "",
            format!("cut off, or the recording was not finished: no index ('moov') in {file_end} bytes"),
        ),
    }
}

/// Seconds since 1904 as ISO 8601. 0 and dates before 1970 are "not stated".
fn created(seconds: u64) -> Option<String> {
    const FROM_1904_TO_1970: u64 = 2_082_844_800;
    let unix = seconds.checked_sub(FROM_1904_TO_1970)?;
    (unix > 0).then(|| crate::units::iso_utc(unix))
}

fn read_track(index: &Arc<[u8]>, trak: &[u8], movie_scale: u32) -> Result<Option<(Track, Walk)>> {
    let tkhd = find(trak, b"tkhd").ok_or_else(|| Error::damaged("moov/trak", "no track header ('tkhd')"))?;
    let mdia = find(trak, b"mdia").ok_or_else(|| Error::damaged("moov/trak", "no media box ('mdia')"))?;
    let mdhd =
        find(mdia, b"mdhd").ok_or_else(|| Error::damaged("moov/trak/mdia", "no media header ('mdhd')"))?;
    let handler =
        find(mdia, b"hdlr").and_then(|h| h.get(8..12)).map_or(*b"    ", |k| [k[0], k[1], k[2], k[3]]);
    let minf = find(mdia, b"minf");
    let stbl = minf
        .and_then(|minf| find(minf, b"stbl"))
        .ok_or_else(|| Error::damaged("moov/trak/mdia/minf", "no sample tables ('stbl')"))?;
    let stsd =
        find(stbl, b"stsd").ok_or_else(|| Error::damaged("moov/trak/mdia/minf/stbl", "no 'stsd' table"))?;
    elsewhere::refuse_elsewhere(minf.unwrap_or_default(), stsd)?;

    let long = version(tkhd) == 1;
    let id = be32(tkhd, if long { 20 } else { 12 }).unwrap_or(0);
    let matrix = if long { 52 } else { 40 };
    let long = version(mdhd) == 1;
    let media_scale = be32(mdhd, if long { 20 } else { 12 }).unwrap_or(0);
    if media_scale == 0 {
        return Err(Error::damaged("mdhd", "a time scale of 0 ticks a second"));
    }
    let language = be16(mdhd, if long { 32 } else { 20 }).and_then(language);

    let mut entry = entry::parse(stsd, handler)?;
    let mut tables = Tables::parse(index, stbl)?;
    let mut pcm_frame = None;
    if let (Codec::Pcm(p), Media::Audio(a)) = (&entry.codec, &entry.media) {
        let frame = u32::from(p.bytes) * u32::from(a.channels);
        tables.make_uniform(frame);
        pcm_frame = Some(frame);
    }
    let (first, last) = tables.presented();
    let edits = find_path(trak, &[b"edts", b"elst"]).map(edits::parse).unwrap_or_default();
    let segments = edits::segments(&edits, movie_scale, media_scale, last);

    let mut walk = Walk {
        usual: tables.constant_delta(),
        tables,
        media_scale,
        segments,
        segment: 0,
        cursor: Cursor::default(),
        next: None,
        chosen: true,
        pcm_frame,
    };
    walk.enter_segment();

    // What the packets will be counted in: the sample rate for sound, the media's own scale otherwise.
    let timescale = entry_scale(&entry.media, media_scale);
    let (start, end) = walk.span(first, last);
    let packets = u64::from(walk.tables.samples);
    let plain =
        walk.segments.len() == 1 && walk.segments[0].from <= first && walk.segments[0].length.is_none();
    let is_video = matches!(entry.media, Media::Video(_));
    let shown = if is_video && !plain { walk.count_shown() } else { packets };
    if let Media::Video(v) = &mut entry.media {
        let corner = |i: usize| be32(tkhd, matrix + i * 4).map_or(0, |n| n as i32);
        v.rotation = rotation_of(corner(0), corner(1), corner(3), corner(4));
        if let Some(delta) = walk.usual {
            v.rate = Ratio::new(media_scale.into(), delta.into());
            v.constant_rate = true;
        } else if end > start {
            v.rate = Ratio::new(u64::from(media_scale) * shown, (end - start) as u64);
        }
    }
    let track = Track {
        id,
        codec: entry.codec,
        media: entry.media,
        timescale,
        setup: entry.setup,
        start: Time::new(start, media_scale),
        duration: Time::new((end - start).max(0), media_scale),
        packets: Some(packets),
        shown: Some(shown),
        language,
        bytes: Some(walk.tables.total_bytes()),
        decode_times: false,
    };
    Ok(Some((track, walk)))
}

fn entry_scale(media: &Media, media_scale: u32) -> u32 {
    match media {
        Media::Audio(a) => a.rate,
        _ => media_scale,
    }
}

/// Three letters of five bits each (14496-12, 8.4.2.3); QuickTime's own small numbers are not decoded.
fn language(packed: u16) -> Option<String> {
    let letters: String = [10, 5, 0].iter().map(|s| char::from((packed >> s & 0x1f) as u8 + 0x60)).collect();
    (packed >= 0x400 && letters.chars().all(|c| c.is_ascii_lowercase()) && letters != "und")
        .then_some(letters)
}

impl Walk {
    fn segment(&self) -> Option<&Segment> {
        self.segments.get(self.segment)
    }

    /// Starts the current segment: at the sync sample its first moment needs.
    fn enter_segment(&mut self) {
        self.cursor = self.tables.cursor();
        self.next = None;
        let Some(segment) = self.segment().copied() else { return };
        // The very first segment is read from the first sample: what comes before it primes decoders.
        if self.segment > 0 {
            let mut probe = self.tables.cursor();
            let mut number = 0;
            while let Some((s, n)) = probe.next_run(&self.tables, PCM_RUN) {
                if s.dts.max(s.pts) > segment.from {
                    break;
                }
                number = s.number + if self.pcm_frame.is_some() { 0 } else { n - 1 };
            }
            self.skip_to(self.tables.sync_before(number));
        }
        self.advance();
    }

    /// Goes to the sync sample at or before a moment of the presentation, less so many samples; gives the moment that it
    /// is shown at, in seconds.
    fn seek(&mut self, seconds: f64, less: u32) -> f64 {
        let Some(segment) = self.segment().copied() else { return seconds };
        let scale = f64::from(self.media_scale);
        let wanted = (seconds * scale).round() as i64 - segment.at + segment.from;
        let mut probe = self.tables.cursor();
        let mut number = 0;
        while let Some((s, n)) = probe.next_run(&self.tables, PCM_RUN) {
            if s.dts > wanted {
                break;
            }
            if s.pts <= wanted {
                number = s.number + if self.pcm_frame.is_some() { 0 } else { n - 1 };
            }
        }
        let start = self.tables.sync_before(number).saturating_sub(less);
        self.cursor = self.tables.cursor();
        self.skip_to(start);
        self.advance();
        self.next.as_ref().map_or(seconds, |(s, _)| (s.pts - segment.from + segment.at) as f64 / scale)
    }

    fn skip_to(&mut self, number: u32) {
        while self.cursor.number() < number {
            let left = number - self.cursor.number();
            if self.cursor.next_run(&self.tables, left.min(PCM_RUN)).is_none() {
                break;
            }
        }
    }

    fn advance(&mut self) {
        let run = if self.pcm_frame.is_some() { PCM_RUN } else { 1 };
        self.next = self.cursor.next_run(&self.tables, run);
        let Some(segment) = self.segment().copied() else { return };
        let over = match &self.next {
            None => true,
            Some((s, _)) => s.dts >= segment.until() && s.pts >= segment.until(),
        };
        if over {
            self.segment += 1;
            if self.segment < self.segments.len() { self.enter_segment() } else { self.next = None }
        }
    }

    /// Presentation start and end over all segments, in media ticks.
    fn span(&self, first: i64, last: i64) -> (i64, i64) {
        let mut span: Option<(i64, i64)> = None;
        for s in &self.segments {
            let begin = s.at + (first - s.from).max(0);
            let end = s.at + s.length.unwrap_or(last - s.from).min(last - s.from);
            span = Some(span.map_or((begin, end), |(b, e)| (b.min(begin), e.max(end))));
        }
        span.map_or((0, 0), |(b, e)| (b, e.max(b)))
    }

    fn count_shown(&self) -> u64 {
        let mut shown = 0;
        for segment in &self.segments {
            let mut cursor = self.tables.cursor();
            while let Some(s) = cursor.next(&self.tables) {
                let end = s.pts.saturating_add(i64::from(s.duration));
                shown += u64::from(end > segment.from && s.pts < segment.until());
            }
        }
        shown
    }

    /// Moment of decoding on the presentation line, to order tracks by.
    fn due(&self) -> Option<Time> {
        let (sample, _) = self.next.as_ref()?;
        let segment = self.segment()?;
        Some(Time::new(segment.at.saturating_add(sample.dts.saturating_sub(segment.from)), self.media_scale))
    }
}

impl Demux for Mp4Reader {
    fn format(&self) -> &'static str {
        super::FORMAT.name
    }
    fn tracks(&self) -> &[Track] {
        &self.tracks
    }
    fn about(&self) -> &About {
        &self.about
    }
    fn choose(&mut self, tracks: &[usize]) {
        for (i, walk) in self.walks.iter_mut().enumerate() {
            walk.chosen = tracks.contains(&i);
        }
    }

    fn seek(&mut self, seconds: f64) -> Result<bool> {
        // Edits that play parts of a track in another order are read from their beginning.
        if self.walks.iter().any(|w| w.chosen && w.segments.len() != 1) {
            return Ok(false);
        }
        // Sound from the picture on that the pictures begin at.
        let mut at = seconds;
        for is_video in [true, false] {
            for (walk, track) in self.walks.iter_mut().zip(&self.tracks) {
                if walk.chosen && track.video().is_some() == is_video {
                    let reached = walk.seek(at, if is_video { 0 } else { SOUND_BEFORE });
                    at = if is_video { at.min(reached) } else { at };
                }
            }
        }
        Ok(true)
    }

    fn next_packet(&mut self) -> Result<Option<Packet>> {
        let due = self.walks.iter().enumerate().filter(|(_, w)| w.chosen);
        let Some((index, _)) = due.filter_map(|(i, w)| Some((i, w.due()?))).min_by_key(|(_, t)| *t) else {
            return Ok(None);
        };
        let walk = &mut self.walks[index];
        let (Some((sample, run)), Some(segment)) = (walk.next, walk.segment().copied()) else {
            return Ok(None);
        };
        walk.advance();
        let (usual, media_scale) = (walk.usual, walk.media_scale);

        let size = u64::from(sample.size) * u64::from(run);
        if size > MAX_PACKET_BYTES {
            return Err(Error::damaged_at(
                "stsz",
                sample.offset,
                format!("a packet of {size} bytes; up to {MAX_PACKET_BYTES}"),
            ));
        }
        if sample.offset.saturating_add(size) > self.file_end {
            return Err(Error::damaged_at(
                "mdat",
                sample.offset,
                format!(
                    "packet {} ({size} bytes) lies past the end of the file at {}",
                    sample.number + 1,
                    self.file_end
                ),
            ));
        }
        let data = self.source.read(sample.offset, size as usize)?;

        // Edits: what of the packet is presented, and when.
        let length = i64::from(sample.duration).saturating_mul(run.into());
        let end = sample.pts.saturating_add(length);
        let (from, until) = (sample.pts.max(segment.from), end.min(segment.until()));
        let shown =
            until > from || (length == 0 && sample.pts >= segment.from && sample.pts < segment.until());
        let at = if shown { from } else { sample.pts } - segment.from + segment.at;
        let track = &self.tracks[index];
        let scale = |t: i64| rescale(t, media_scale, track.timescale);
        let (mut trim_start, mut keep) = (0, None);
        if track.audio().is_some() && shown {
            trim_start = scale(from - sample.pts).max(0) as u32;
            let shortened = usual.is_some_and(|u| run == 1 && sample.duration < u);
            if until < end || shortened {
                keep = Some(scale(until - from).max(0) as u32);
            }
        }
        Ok(Some(Packet {
            track: index,
            pts: scale(at),
            duration: scale(if shown { until - from } else { length }),
            key: sample.key,
            shown,
            trim_start,
            keep,
            data,
            beside: Vec::new(),
        }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0x15c7, Some("eng"))]
    #[case(0x55c4, None)] // und
    #[case(0, None)]
    fn languages_unpack(#[case] packed: u16, #[case] want: Option<&str>) {
        assert_eq!(language(packed).as_deref(), want);
    }

    #[test]
    fn dates_before_1970_are_not_dates() {
        assert_eq!(created(0), None);
        assert_eq!(created(2_082_844_800 + 86_400).as_deref(), Some("1970-01-02T00:00:00Z"));
    }
}
