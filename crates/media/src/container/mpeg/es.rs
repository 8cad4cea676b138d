//! From a stream of bytes to whole packets: pictures and sound frames do not begin where the packets that
//! carry them do.

use crate::bits::start_code;
use crate::codec::aac::adts;
use crate::codec::{aac, h264, hevc, mpeg_audio, mpeg_video, mpeg2};
use crate::container::stream::{Described, Raw};
use crate::container::{AudioTrack, Codec, Media, PcmKind, PcmLayout, Track, VideoTrack};
use crate::limits::MAX_PACKET_BYTES;
use crate::units::Ratio;
use std::collections::VecDeque;

/// What a stream carries, as the tables of its container say.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    H264,
    Hevc,
    MpegVideo,
    Adts,
    MpegAudio,
    Ac3,
    /// Known by name, passed on as it comes.
    Named(&'static str, What),
    /// 16-bit samples of a DVD, behind a header of three bytes.
    DvdPcm,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum What {
    Picture,
    Sound,
    Text,
    Other,
}

/// Collects one stream's bytes and gives whole packets.
pub struct Framer {
    pub kind: Kind,
    buffer: Vec<u8>,
    /// Place in `buffer` from which on it was not looked at yet.
    seen: usize,
    /// Times that arrived: place in `buffer`, moment.
    times: VecDeque<(usize, i64)>,
    ready: VecDeque<Raw>,
    /// Bytes that fit no frame.
    pub lost: u64,
    track: usize,
    in_picture: bool,
    /// H.264: the sequence, and the first field of a frame whose other one may follow.
    sps: Option<h264::Sps>,
    half: Option<(Field, Raw)>,
    group: Group,
    /// The first frame of sound with its header, and the first packets of pictures: they describe the stream.
    pub samples: Vec<Vec<u8>>,
}

/// The number of a field's frame, and whether it is the lower field.
type Field = (u32, bool);

/// MPEG video: pictures have numbers within their group, and not every one has a time.
#[derive(Default)]
struct Group {
    start: Option<i64>,
    count: u32,
    rate: Option<Ratio>,
}

/// Ticks of a second in these streams.
const TICKS: i128 = 90_000;

impl Group {
    /// When so many frames of it are over.
    fn at(&self, number: u32) -> Option<i64> {
        let (start, rate) = (self.start?, self.rate?);
        let ticks = i128::from(number) * TICKS * i128::from(rate.den) / i128::from(rate.num.max(1));
        start.checked_add(i64::try_from(ticks).ok()?)
    }

    /// The time of a picture, which may begin a group, and the field that it is of a frame.
    fn picture(&mut self, data: &[u8], begins: bool, pts: Option<i64>) -> (Option<i64>, Option<Field>) {
        self.rate = mpeg_video::sequence(data).and_then(|s| s.1.rate).or(self.rate);
        if begins {
            // The one before took as long as it has frames.
            (self.start, self.count) = (self.at(self.count), 0);
        }
        let Some((structure, number)) = mpeg2::structure_of(data) else { return (pts, None) };
        self.count = self.count.saturating_add(1);
        if let Some(pts) = pts {
            self.start = Some(0);
            self.start = self.at(number).map(|ticks| pts.saturating_sub(ticks));
        }
        let field = match structure {
            mpeg2::Structure::Frame => None,
            mpeg2::Structure::Top => Some((number, false)),
            mpeg2::Structure::Bottom => Some((number, true)),
        };
        (pts.or_else(|| self.at(number)), field)
    }
}

/// Packets kept to describe a stream by.
const SAMPLES: usize = 40;

/// A buffer that grew over this without a whole packet is thrown away.
const MOST: usize = (MAX_PACKET_BYTES >> 3) as usize;

impl Framer {
    pub fn new(kind: Kind, track: usize) -> Self {
        Framer {
            kind,
            buffer: Vec::new(),
            seen: 0,
            times: VecDeque::new(),
            ready: VecDeque::new(),
            lost: 0,
            track,
            in_picture: false,
            sps: None,
            half: None,
            group: Group::default(),
            samples: Vec::new(),
        }
    }

    pub fn clear(&mut self) {
        let samples = std::mem::take(&mut self.samples);
        *self = Framer { lost: self.lost, samples, ..Framer::new(self.kind, self.track) };
    }

    pub fn pop(&mut self) -> Option<Raw> {
        self.ready.pop_front()
    }

    /// More bytes; `pts` is the moment of the first packet that begins in them.
    pub fn feed(&mut self, bytes: &[u8], pts: Option<i64>) {
        if self.buffer.len() + bytes.len() > MOST {
            self.lost += self.buffer.len() as u64;
            self.buffer.clear();
            self.times.clear();
            self.seen = 0;
        }
        if let Some(t) = pts {
            self.times.push_back((self.buffer.len(), t));
        }
        self.buffer.extend_from_slice(bytes);
        match self.kind {
            Kind::H264 | Kind::Hevc | Kind::MpegVideo => self.pictures(false),
            Kind::Adts => {
                self.sound(|b| adts::Header::parse(b).map(|h| (h.header, h.len)), adts::Header::BYTES)
            }
            Kind::MpegAudio => {
                self.sound(|b| mpeg_audio::Header::parse(b).map(|h| (0, h.len)), mpeg_audio::Header::BYTES)
            }
            Kind::Ac3 => self.sound(|b| ac3(b).map(|h| (0, h.len)), 6),
            Kind::Named(..) | Kind::DvdPcm => self.whole(),
        }
    }

    /// The end of the stream: what is left is a packet.
    pub fn end(&mut self) {
        if matches!(self.kind, Kind::H264 | Kind::Hevc | Kind::MpegVideo) {
            self.pictures(true);
        }
        self.ready.extend(self.half.take().map(|h| h.1));
    }

    fn sample(&mut self, data: &[u8]) {
        // Parameter sets come with key pictures: keep the first few packets until there is one.
        if self.samples.len() < SAMPLES {
            self.samples.push(data[..data.len().min(4096)].to_vec());
        }
    }

    /// Everything that came is one packet.
    fn whole(&mut self) {
        let pts = self.times.pop_front().map(|t| t.1);
        let mut data = std::mem::take(&mut self.buffer);
        self.times.clear();
        if self.kind == Kind::DvdPcm {
            data.drain(..data.len().min(3));
        }
        if !data.is_empty() {
            self.sample(&data);
            self.ready.push_back(Raw { track: self.track, pts, key: true, data, ..Raw::default() });
        }
    }

    /// The time of a packet that begins at this place: of the carrying packet in which it begins.
    fn time_at(&mut self, place: usize) -> Option<i64> {
        let mut found = None;
        while self.times.front().is_some_and(|t| t.0 <= place) {
            found = self.times.pop_front().map(|t| t.1);
        }
        found
    }

    fn drop_front(&mut self, n: usize) {
        self.buffer.drain(..n);
        self.seen = self.seen.saturating_sub(n);
        for t in &mut self.times {
            t.0 = t.0.saturating_sub(n);
        }
    }

    /// Frames whose header tells their length; a header counts where another follows it, or the data ends.
    fn sound(&mut self, parse: impl Fn(&[u8]) -> Option<(usize, usize)>, least: usize) {
        let mut at = 0;
        while self.buffer.len() >= at + least {
            let Some((header, len)) = parse(&self.buffer[at..]) else {
                at += 1;
                self.lost += 1;
                continue;
            };
            if self.buffer.len() < at + len {
                break;
            }
            let next = &self.buffer[at + len..];
            if next.len() >= least && parse(next).is_none() && self.seen == 0 {
                at += 1;
                self.lost += 1;
                continue;
            }
            self.seen = 1;
            let pts = self.time_at(at);
            if self.samples.is_empty() {
                self.samples.push(self.buffer[at..at + len].to_vec());
            }
            let data = self.buffer[at + header..at + len].to_vec();
            self.ready.push_back(Raw { track: self.track, pts, key: true, data, ..Raw::default() });
            at += len;
        }
        let seen = self.seen;
        self.drop_front(at);
        self.seen = seen;
    }

    /// Pictures begin at a start code that can only come first.
    fn pictures(&mut self, end: bool) {
        let mut cuts = Vec::new();
        let mut at = self.seen;
        while let Some(found) = start_code(&self.buffer, at) {
            // The unit's header must be there to be told apart.
            let Some(&code) = self.buffer.get(found + 3) else { break };
            let second = self.buffer.get(found + 4).copied();
            let (opens, picture) = match self.kind {
                // Sequence, group and picture headers open; slices belong to the picture.
                Kind::MpegVideo => (matches!(code, 0x00 | 0xb3 | 0xb8), code == 0),
                Kind::H264 => {
                    let Some(second) = second else { break };
                    let slice = matches!(code & 31, 1 | 5);
                    (matches!(code & 31, 6..=9) || slice && second & 0x80 != 0, slice)
                }
                _ => {
                    // Header of two bytes; then the first slice of a picture starts with a set bit.
                    let Some(&third) = self.buffer.get(found + 5) else { break };
                    let unit = code >> 1 & 63;
                    (matches!(unit, 32..=35 | 39) || unit < 32 && third & 0x80 != 0, unit < 32)
                }
            };
            if opens && self.in_picture {
                // Zeros before a start code belong to it.
                let mut from = found;
                while from > 0 && self.buffer[from - 1] == 0 {
                    from -= 1;
                }
                cuts.push(from);
                self.in_picture = false;
            }
            self.in_picture |= picture;
            at = found + 3;
        }
        if start_code(&self.buffer, at).is_none() {
            at = at.max(self.buffer.len().saturating_sub(2));
        }
        self.seen = at;
        let mut from = 0;
        for cut in cuts {
            self.give(from, cut);
            from = cut;
        }
        if end && self.in_picture {
            let len = self.buffer.len();
            self.give(from, len);
            from = len;
        }
        self.drop_front(from);
    }

    fn give(&mut self, from: usize, to: usize) {
        // Zeros in front may have come with the packet before; two are the first bytes of the start code, which may be cut.
        let zeros = self.buffer[from..to].iter().take_while(|&&b| b == 0).count();
        let pts = self.time_at(from + zeros.saturating_sub(2));
        let bytes = &self.buffer[from..to];
        let data = match self.kind {
            Kind::H264 | Kind::Hevc => h264::with_lengths(bytes),
            _ => bytes.to_vec(),
        };
        let key = match self.kind {
            Kind::H264 => {
                let kind = |u: &[u8]| u.first().map_or(0, |b| b & 31);
                h264::nal_units(&data, 4).flatten().any(|u| matches!(kind(u), h264::NAL_IDR | h264::NAL_SPS))
            }
            Kind::Hevc => h264::stream_units(bytes).any(|u| matches!(u[0] >> 1 & 63, 16..=21 | 32)),
            _ => mpeg_video::begins_group(bytes),
        };
        self.sample(&data);
        let (pts, field) = match self.kind {
            Kind::H264 => (pts, self.field(&data)),
            Kind::MpegVideo => self.group.picture(&data, key, pts),
            _ => (pts, None),
        };
        let mut raw = Raw { track: self.track, pts, key, data, ..Raw::default() };
        // Both fields of a frame are one packet.
        match (self.half.take(), field) {
            (Some(((number, lower), mut first)), Some(f)) if f == (number, !lower) => {
                first.data.append(&mut raw.data);
                self.group.count = self.group.count.saturating_sub(1);
                self.ready.push_back(first);
                return;
            }
            (first, _) => self.ready.extend(first.map(|h| h.1)),
        }
        match field {
            Some(f) => self.half = Some((f, raw)),
            None => self.ready.push_back(raw),
        }
    }

    /// The field that a picture is, if it is one.
    fn field(&mut self, data: &[u8]) -> Option<Field> {
        let mut slice = None;
        for unit in h264::nal_units(data, 4).flatten().filter(|u| !u.is_empty()) {
            match unit[0] & 31 {
                h264::NAL_SPS => self.sps = h264::Sps::parse(unit).ok().or(self.sps.take()),
                1 | h264::NAL_IDR if slice.is_none() => slice = Some(unit),
                _ => (),
            }
        }
        self.sps.as_ref()?.field(slice?)
    }
}

pub struct Ac3 {
    pub rate: u32,
    pub channels: u16,
    pub enhanced: bool,
    pub len: usize,
}

/// The frame header of AC-3 and E-AC-3 (ETSI TS 102 366, 4.3 and E.1.2).
pub fn ac3(b: &[u8]) -> Option<Ac3> {
    let &[0x0b, 0x77, b2, b3, b4, b5, ..] = b else { return None };
    let full = |mode: u8| [2u16, 1, 2, 3, 3, 4, 4, 5][usize::from(mode)];
    if b5 >> 3 > 10 {
        let len = 2 * (usize::from(b2 & 7) << 8 | usize::from(b3)) + 2;
        let rate = match b4 >> 6 {
            3 => [24_000, 22_050, 16_000, 0][usize::from(b4 >> 4 & 3)],
            n => [48_000, 44_100, 32_000][usize::from(n)],
        };
        let channels = full(b4 >> 1 & 7) + u16::from(b4 & 1);
        return (rate > 0 && len > 6).then_some(Ac3 { rate, channels, enhanced: true, len });
    }
    const KBITS: [usize; 19] =
        [32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384, 448, 512, 576, 640];
    let rate = *[48_000u32, 44_100, 32_000].get(usize::from(b4 >> 6))?;
    let kbits = *KBITS.get(usize::from(b4 >> 1 & 31))?;
    // Words of 16 bits in 1536 samples; at 44.1 kHz the odd codes have one more.
    let words = kbits * 96_000 / rate as usize;
    let words = if rate == 44_100 { words + usize::from(b4 & 1) } else { words };
    let mode = b.get(6)? >> 5;
    // Which bit says that there is an effects channel depends on the mode.
    let skip =
        u32::from(mode & 1 != 0 && mode != 1) * 2 + u32::from(mode & 4 != 0) * 2 + u32::from(mode == 2) * 2;
    let low = u16::from_be_bytes([b[6], b.get(7).copied().unwrap_or(0)]) >> (12 - skip) & 1;
    Some(Ac3 { rate, channels: full(mode) + low, enhanced: false, len: words * 2 })
}

/// Describes a stream from its first packets; `None` while they do not say enough.
pub fn describe(kind: Kind, id: u32, packets: &[Vec<u8>], scale: u32) -> Option<Described> {
    let first = packets.first()?;
    let sound = |codec, rate, channels: u16, profile: Option<String>, setup| {
        let mut t = Track::new(
            id,
            codec,
            Media::Audio(AudioTrack { rate, channels: channels.max(1), profile }),
            rate,
        );
        t.setup = setup;
        t
    };
    let named = |name: &'static str| Codec::Other { code: name.into(), name: Some(name) };
    let track = match kind {
        Kind::H264 => {
            let config = packets.iter().find_map(|p| h264::record_of(p))?;
            let mut v = VideoTrack::sized(0, 0);
            config.first_sps().ok()??.describe(&mut v);
            let mut t = Track::new(id, Codec::H264, Media::Video(v), scale);
            t.setup = config.write();
            t
        }
        Kind::Hevc => {
            let config = packets.iter().find_map(|p| hevc::record_of(p))?;
            let mut v = VideoTrack::sized(0, 0);
            config.describe(&mut v)?;
            let mut t = Track::new(id, Codec::Hevc, Media::Video(v), scale);
            t.setup = config.write();
            t
        }
        Kind::MpegVideo => {
            let (codec, v) = packets.iter().find_map(|p| mpeg_video::sequence(p))?;
            Track::new(id, codec, Media::Video(v), scale)
        }
        Kind::Adts => {
            let h = adts::Header::parse(first)?;
            let config = aac::Config::parse(&h.setup()).ok()?;
            sound(
                Codec::Aac,
                config.rate,
                config.channels.unwrap_or(2),
                Some(config.profile.into()),
                h.setup(),
            )
        }
        Kind::MpegAudio => {
            let h = mpeg_audio::Header::parse(first)?;
            sound(Codec::MpegAudio(h.layer), h.rate, h.channels, None, Vec::new())
        }
        Kind::Ac3 => {
            let h = ac3(first)?;
            sound(named(if h.enhanced { "E-AC-3" } else { "AC-3" }), h.rate, h.channels, None, Vec::new())
        }
        Kind::DvdPcm => {
            let layout = PcmLayout { bits: 16, bytes: 2, big_endian: true, kind: PcmKind::Signed };
            sound(Codec::Pcm(layout), 48_000, 2, None, Vec::new())
        }
        Kind::Named(name, What::Picture) => {
            Track::new(id, named(name), Media::Video(VideoTrack::sized(0, 0)), scale)
        }
        Kind::Named(name, What::Sound) => sound(named(name), 48_000, 2, None, Vec::new()),
        Kind::Named(name, What::Text) => Track::new(id, named(name), Media::Text, scale),
        Kind::Named(name, What::Other) => Track::new(id, named(name), Media::Other, scale),
    };
    Some(Described::new(track, scale))
}

/// Number of a DVD's private stream: what the first byte of its packets says.
pub fn private_kind(b: &[u8]) -> Option<(Kind, usize)> {
    match *b.first()? {
        0x20..=0x3f => Some((Kind::Named("caption pictures", What::Text), 1)),
        0x80..=0x87 => Some((Kind::Ac3, 4)),
        0x88..=0x8f => Some((Kind::Named("DTS", What::Sound), 4)),
        0xa0..=0xa7 => Some((Kind::DvdPcm, 4)),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::bits::Put;

    fn all(f: &mut Framer) -> Vec<Raw> {
        std::iter::from_fn(|| f.pop()).collect()
    }

    /// MPEG-2 pictures: their numbers and fields (1 upper, 2 lower, 3 both), each group with the header of one.
    fn mpeg(groups: &[&[(u32, u8)]]) -> Vec<Vec<u8>> {
        let mut all = vec![];
        for (n, group) in groups.iter().enumerate() {
            for (k, (number, structure)) in group.iter().enumerate() {
                let mut p = vec![];
                if (n, k) == (0, 0) {
                    // 96x64 at 25 frames a second, and the extension of a sequence.
                    p.extend([0, 0, 1, 0xb3, 6, 0, 64, 0x13, 0, 0, 0x24, 0]);
                    p.extend([0, 0, 1, 0xb5, 0x14, 0x82, 0, 1, 0, 0]);
                }
                if k == 0 {
                    p.extend([0, 0, 1, 0xb8, 0, 8, 0, 0x40]);
                }
                let header = (number << 22 | 1 << 19).to_be_bytes();
                p.extend([0, 0, 1, 0]);
                p.extend(header);
                p.extend([0, 0, 1, 0xb5, 0x8f, 0xff, 0xf0 | structure, 0x80, 0x80]);
                p.extend([0, 0, 1, 1, 9, 9, 9]);
                all.push(p);
            }
        }
        all
    }

    #[test]
    fn mpeg_pictures_without_a_time_have_that_of_their_number() {
        let mut f = Framer::new(Kind::MpegVideo, 0);
        // Only the first one and one of the third group are told.
        let times = [Some(7200), None, None, None, None, None, None, Some(36_000), None];
        let groups: [&[(u32, u8)]; 3] =
            [&[(2, 3), (0, 3), (1, 3)], &[(0, 3), (1, 3)], &[(1, 3), (3, 3), (2, 3)]];
        for (p, t) in mpeg(&groups).iter().zip(times) {
            f.feed(p, t);
        }
        f.end();
        let got: Vec<Option<i64>> = all(&mut f).iter().map(|r| r.pts).collect();
        assert_eq!(got, [7200, 0, 3600, 10_800, 14_400, 21_600, 28_800, 36_000].map(Some));
    }

    #[test]
    fn both_fields_of_an_mpeg_frame_are_one_packet() {
        let mut f = Framer::new(Kind::MpegVideo, 0);
        let fields: [&[(u32, u8)]; 2] = [&[(0, 1), (0, 2), (1, 2), (1, 1)], &[(0, 1), (0, 2), (1, 1)]];
        for (n, p) in mpeg(&fields).iter().enumerate() {
            f.feed(p, (n == 0).then_some(0));
        }
        f.end();
        let got = all(&mut f);
        assert_eq!(got.iter().map(|r| r.pts).collect::<Vec<_>>(), [0, 3600, 7200, 10_800].map(Some));
        assert_eq!(got.iter().map(|r| r.key).collect::<Vec<_>>(), [true, false, true, false]);
    }

    #[test]
    fn a_start_code_that_is_cut_belongs_to_the_packet_of_its_first_byte() {
        let stream = mpeg(&[&[(0, 3), (1, 3), (2, 3)]]);
        for cut in 1..4 {
            let mut f = Framer::new(Kind::MpegVideo, 0);
            f.feed(&[&stream[0][..], &stream[1][..cut]].concat(), Some(0));
            f.feed(&[&stream[1][cut..], &stream[2][..]].concat(), Some(7200));
            f.end();
            let got: Vec<Option<i64>> = all(&mut f).iter().map(|r| r.pts).collect();
            assert_eq!(got, [0, 3600, 7200].map(Some), "{cut}");
        }
    }

    #[test]
    fn sound_frames_are_found_across_packets_and_noise_before_them_is_passed_over() {
        let frame: Vec<u8> =
            [0xff, 0xfb, 0x10, 0xc0].into_iter().chain(std::iter::repeat_n(7, 100)).collect();
        let stream = [&[1, 2, 0xff, 3][..], &frame, &frame, &frame].concat();
        let mut f = Framer::new(Kind::MpegAudio, 3);
        for (i, piece) in stream.chunks(50).enumerate() {
            f.feed(piece, Some(i as i64 * 10));
        }
        let got = all(&mut f);
        assert_eq!(got.iter().map(|r| r.data.len()).collect::<Vec<_>>(), [104, 104, 104]);
        assert_eq!(got.iter().map(|r| r.pts).collect::<Vec<_>>(), [Some(0), Some(20), Some(40)]);
        assert_eq!(f.lost, 4);
    }

    #[test]
    fn pictures_end_where_the_next_one_begins() {
        let mut f = Framer::new(Kind::MpegVideo, 0);
        let stream = [0, 0, 1, 0xb3, 9, 9, 0, 0, 1, 0, 5, 0, 0, 1, 1, 6, 0, 0, 1, 0, 5, 0, 0, 1, 1, 7, 8];
        for (i, b) in stream.iter().enumerate() {
            f.feed(&[*b], (i % 10 == 0).then_some(i as i64));
        }
        f.end();
        let got = all(&mut f);
        assert_eq!(got.iter().map(|r| (r.data.len(), r.key)).collect::<Vec<_>>(), [(16, true), (11, false)]);
        assert_eq!(got[0].pts, Some(0));
    }

    /// A slice of a sequence that may have fields: number of its frame, and which field.
    fn slice(number: u32, field: Option<bool>) -> Vec<u8> {
        let mut p = Put::default();
        p.bits(0x61, 8).ue(0).ue(5).ue(0).bits(number, 4);
        match field {
            Some(lower) => p.bits(1, 1).bits(u32::from(lower), 1),
            None => p.bits(0, 1),
        };
        [&[0, 0, 1][..], &p.bits(0x7f, 8).bytes()].concat()
    }

    #[test]
    fn both_fields_of_a_frame_are_one_packet() {
        let mut set = Put::default();
        set.bits(77, 8).bits(0, 8).bits(30, 8).ue(0).ue(0).ue(2).ue(1).bits(0, 1).ue(5).ue(3).bits(0, 1);
        set.bits(0, 1).bits(1, 1).bits(0, 1).bits(0, 1).bits(1, 1);
        let delimiter: &[u8] = &[0, 0, 1, 9, 0x10];
        let (upper, lower) = (Some(false), Some(true));
        let pictures = [(1, upper), (1, lower), (2, lower), (3, upper), (3, lower), (4, None), (4, upper)];
        let mut stream = [&[0, 0, 1, 0x67][..], &set.bytes()].concat();
        for (number, field) in pictures {
            stream.extend([delimiter, &slice(number, field)].concat());
        }
        let mut f = Framer::new(Kind::H264, 0);
        for (n, piece) in stream.chunks(7).enumerate() {
            f.feed(piece, Some(n as i64));
        }
        f.end();
        let slices = |raw: &Raw| h264::nal_units(&raw.data, 4).flatten().filter(|u| u[0] & 31 == 1).count();
        assert_eq!(all(&mut f).iter().map(slices).collect::<Vec<_>>(), [2, 1, 2, 1, 1]);
    }

    #[test]
    fn ac3_headers_are_told() {
        let h = ac3(&[0x0b, 0x77, 0, 0, 0x1e, 0x40, 0xe1, 0]).unwrap();
        assert_eq!((h.rate, h.channels, h.len, h.enhanced), (48_000, 6, 1792, false));
        assert!(ac3(&[0x0b, 0x77, 0, 0, 0xff, 0x40, 0, 0]).is_none());
    }
}
