//! Packets to pictures.

use super::coder::{Decoder as Coder, usual_ones, zeros};
use super::encode::Lines;
use super::{Config, EVEN, Quants, STATES, States, parity};
use crate::codec::single::OnePicture;
use crate::error::{Error, Result};
use crate::frame::{Chroma, Colour, Fields, Pool, VideoFrame};
use crate::track::VideoTrack;
use crate::units::Ratio;

/// Most slices of a picture: a thousand in each direction would be no picture.
const MOST_SLICES: u32 = 1024;
const MOST_TABLES: u32 = 8;

pub struct Decoder {
    config: Config,
    zeros: Box<[u8; 256]>,
    pool: Pool,
    size: (u32, u32),
    chroma: Chroma,
    colour: Colour,
    fields: Fields,
    pixel_shape: Ratio,
    /// Of each slice: states that go on from picture to picture where not every one is a key.
    kept: Vec<Vec<Vec<States>>>,
}

fn bad(why: impl Into<String>) -> Error {
    Error::damaged("FFV1", why.into())
}

/// What of a setup record is told before a decoder is started.
pub fn describe(setup: &[u8], v: &mut VideoTrack) -> Result<()> {
    let config = Config::parse(setup)?;
    (v.chroma, v.depth) = (Some(config.chroma_form()?), Some(config.depth));
    v.profile = Some("version 3".into());
    Ok(())
}

impl Config {
    pub(super) fn parse(setup: &[u8]) -> Result<Config> {
        if setup.len() < 8 {
            return Err(Error::unsupported("FFV1", "a stream without a setup record (version 0 or 1)"));
        }
        if parity(setup) != 0 {
            return Err(bad("the setup record does not match its checksum"));
        }
        let (ones, none) = (usual_ones(), zeros(&usual_ones()));
        let mut c = Coder::new(&setup[..setup.len() - 4], &ones, &none);
        let mut s = [EVEN; STATES];
        let number = |c: &mut Coder<'_>, s: &mut States| c.number(s, false).unsigned_abs();
        let (version, micro, kind) = (number(&mut c, &mut s), number(&mut c, &mut s), number(&mut c, &mut s));
        if version != 3 {
            return Err(Error::unsupported("FFV1", format!("version {version}; 3 is read")));
        }
        let mut own = usual_ones();
        match kind {
            0 => return Err(Error::unsupported("FFV1", "Golomb codes; those of the range coder are read")),
            1 => (),
            2 => {
                for i in 1..256 {
                    let delta = c.number(&mut s, true);
                    own[i] = (i32::from(own[i]) + delta) as u8;
                }
            }
            n => return Err(Error::unsupported("FFV1", format!("coder {n}"))),
        }
        let space = number(&mut c, &mut s);
        if space > 1 {
            return Err(Error::unsupported("FFV1", format!("colour space {space}")));
        }
        let depth = match number(&mut c, &mut s) {
            0 => 8,
            n @ 8..=16 => n as u8,
            n => return Err(Error::unsupported("FFV1", format!("{n} bits a sample"))),
        };
        let chroma = c.bit(&mut s[0]);
        let (across, down) = (number(&mut c, &mut s), number(&mut c, &mut s));
        let alpha = c.bit(&mut s[0]);
        let (columns, lines) = (number(&mut c, &mut s), number(&mut c, &mut s));
        let count = number(&mut c, &mut s);
        if across > 4
            || down > 4
            || columns >= MOST_SLICES
            || lines >= MOST_SLICES
            || count > MOST_TABLES
            || count == 0
        {
            return Err(bad("the setup record has impossible numbers"));
        }
        let quants = (0..count).map(|_| Quants::parse(&mut c)).collect::<Result<Vec<_>>>()?;
        let mut initial = Vec::new();
        for q in &quants {
            let there = c.bit(&mut s[0]);
            initial.push(there.then(|| {
                let mut all = vec![[EVEN; STATES]; q.contexts];
                for j in 0..q.contexts {
                    let before = if j > 0 { all[j - 1] } else { [EVEN; STATES] };
                    for k in 0..STATES {
                        all[j][k] = (i32::from(before[k]) + c.number(&mut s, true)) as u8;
                    }
                }
                all
            }));
            if c.is_over() {
                return Err(bad("the setup record is cut short"));
            }
        }
        let checked = number(&mut c, &mut s) > 0;
        let intra = micro > 2 && number(&mut c, &mut s) > 0;
        if c.is_over() {
            return Err(bad("the setup record is cut short"));
        }
        let rgb = space == 1;
        Ok(Config {
            micro,
            rgb,
            depth,
            chroma,
            across,
            down,
            alpha,
            columns: columns + 1,
            lines: lines + 1,
            quants,
            initial,
            ones: own,
            checked,
            intra,
        })
    }
}

impl Quants {
    fn parse(c: &mut Coder<'_>) -> Result<Quants> {
        let mut tables = Box::new([[0i16; 256]; 5]);
        let mut scale = 1i32;
        for table in tables.iter_mut() {
            let mut s = [EVEN; STATES];
            let (mut i, mut v) = (0usize, 0i32);
            while i < 128 {
                let run = c.number(&mut s, false).unsigned_abs() as usize + 1;
                if run > 128 - i || c.is_over() {
                    return Err(bad("a table of differences that is too long"));
                }
                table[i..i + run].fill((scale * v) as i16);
                i += run;
                v += 1;
            }
            (1..128).for_each(|i| table[256 - i] = -table[i]);
            table[128] = -table[127];
            scale *= 2 * v - 1;
            if scale > 32_768 {
                return Err(bad("more contexts than there can be"));
            }
        }
        Ok(Quants { tables, contexts: (scale as usize).div_ceil(2) })
    }
}

/// A slice that was read: where it lies, and its samples.
struct Slice {
    at: (u32, u32, u32, u32),
    planes: Vec<Vec<u16>>,
    states: Vec<Vec<States>>,
}

impl Decoder {
    pub fn new(setup: &[u8], track: &mut VideoTrack, pool: Pool) -> Result<Decoder> {
        describe(setup, track)?;
        let config = Config::parse(setup)?;
        crate::frame::video::check_size("FFV1", track.width, track.height)?;
        let (w, h) = (track.width, track.height);
        if config.columns > w || config.lines > h {
            return Err(bad("more slices than the picture has pixels"));
        }
        Ok(Decoder {
            chroma: config.chroma_form()?,
            zeros: zeros(&config.ones),
            kept: vec![Vec::new(); (config.columns * config.lines) as usize],
            config,
            pool,
            size: (w, h),
            colour: track.colour,
            fields: track.fields,
            pixel_shape: track.pixel_shape,
        })
    }

    /// The slices of a packet, by the lengths behind them (4.9), first to last.
    fn cut<'a>(&self, data: &'a [u8]) -> Result<Vec<&'a [u8]>> {
        let behind = if self.config.checked { 8 } else { 3 };
        let (mut rest, mut all) = (data, Vec::new());
        while !rest.is_empty() {
            let foot = rest.len().checked_sub(behind).ok_or_else(|| bad("a slice is cut short"))?;
            let len = u32::from_be_bytes([0, rest[foot], rest[foot + 1], rest[foot + 2]]) as usize;
            let from = foot.checked_sub(len).ok_or_else(|| bad("a slice is longer than its packet"))?;
            if self.config.checked && parity(&rest[from..]) != 0 {
                return Err(bad("a slice does not match its checksum"));
            }
            all.push(&rest[from..foot]);
            rest = &rest[..from];
            if all.len() > self.kept.len() {
                return Err(bad("more slices than were told"));
            }
        }
        all.reverse();
        Ok(all)
    }

    fn slice(&self, bytes: &[u8], number: usize, mut is_key: bool) -> Result<Slice> {
        let c = &self.config;
        let mut coder = Coder::new(bytes, &c.ones, &self.zeros);
        if number == 0 {
            is_key = coder.bit(&mut { EVEN });
        }
        let mut s = [EVEN; STATES];
        let mut read = || coder.number(&mut s, false).unsigned_abs();
        let (x, y, w, h) = (read(), read(), read(), read());
        let inside = |v: u32, len: u32, n: u32| v.checked_add(len).is_some_and(|e| e < n);
        if !inside(x, w, c.columns) || !inside(y, h, c.lines) {
            return Err(bad("a slice lies beside the picture"));
        }
        let kinds = 2 + usize::from(c.alpha);
        let sets: Vec<usize> = (0..kinds).map(|_| read() as usize).collect();
        if sets.iter().any(|s| *s >= c.quants.len()) {
            return Err(bad("a slice asks for tables that are not there"));
        }
        let (_fields, _across, _down) = (read(), read(), read());
        let (left, top, ..) = c.slice(x, y, self.size.0, self.size.1);
        let (right, bottom, rw, rh) = c.slice(x + w, y + h, self.size.0, self.size.1);
        let at = (left, top, right + rw - left, bottom + rh - top);
        let fresh = |set: usize| {
            let initial = c.initial.get(set).cloned().flatten();
            initial.unwrap_or_else(|| vec![[EVEN; STATES]; c.quants[set].contexts])
        };
        let kept = self.kept.get(number).filter(|k| !is_key && k.len() == kinds);
        let mut states = match kept {
            Some(kept) => kept.clone(),
            None if is_key => sets.iter().map(|s| fresh(*s)).collect(),
            None => return Err(bad("a picture that goes on from one that is not there")),
        };
        let count = self.chroma.planes();
        let parts: Vec<_> = (0..count).map(|p| c.part(p, at)).collect();
        let mut planes: Vec<Vec<u16>> = parts.iter().map(|(_, _, w, h)| Vec::with_capacity(w * h)).collect();
        if c.rgb {
            let (w, h) = (at.2 as usize, at.3 as usize);
            let mut lines: Vec<Lines> = (0..count).map(|_| Lines::new(w)).collect();
            let (offset, top) = (1i32 << c.depth, (1i32 << c.depth) - 1);
            for _ in 0..h {
                for (n, line) in lines.iter_mut().enumerate() {
                    let kind = Config::kind(n);
                    self.line(line, &mut coder, &mut states[kind], &c.quants[sets[kind]]);
                }
                let (middle, first) = if c.turned() { (2, 1) } else { (1, 2) };
                for i in 0..w {
                    let (b, r) = (lines[1].now(i) - offset, lines[2].now(i) - offset);
                    let g = lines[0].now(i) - ((b + r) >> 2);
                    planes[middle].push((g & top) as u16);
                    planes[first].push(((b + g) & top) as u16);
                    planes[0].push(((r + g) & top) as u16);
                    if count > 3 {
                        planes[3].push((lines[3].now(i) & top) as u16);
                    }
                }
                if coder.is_over() {
                    return Err(bad("a slice is cut short"));
                }
            }
        } else {
            for (n, (_, _, w, h)) in parts.into_iter().enumerate() {
                let mut lines = Lines::new(w);
                let kind = Config::kind(n);
                for _ in 0..h {
                    lines.next();
                    self.read_line(&mut lines, &mut coder, &mut states[kind], &c.quants[sets[kind]]);
                    planes[n].extend((0..w).map(|x| lines.now(x) as u16));
                    if coder.is_over() {
                        return Err(bad("a slice is cut short"));
                    }
                }
            }
        }
        Ok(Slice { at, planes, states })
    }

    fn line(&self, lines: &mut Lines, coder: &mut Coder<'_>, states: &mut [States], quants: &Quants) {
        lines.next();
        self.read_line(lines, coder, states, quants);
    }

    fn read_line(&self, lines: &mut Lines, coder: &mut Coder<'_>, states: &mut [States], quants: &Quants) {
        let (mask, wide, large) =
            ((1i32 << self.config.bits()) - 1, self.config.is_wide(), quants.is_large());
        lines.edge();
        for x in 0..lines.width {
            let near = lines.near(x);
            let context = quants.context(large, near);
            let d = coder.number(&mut states[context.unsigned_abs() as usize], true);
            let d = if context < 0 { d.wrapping_neg() } else { d };
            lines.put(x, near.guess(wide).wrapping_add(d) & mask);
        }
    }
}

impl OnePicture for Decoder {
    fn picture(&mut self, data: &[u8]) -> Result<VideoFrame> {
        let cut = self.cut(data)?;
        let first = cut.first().ok_or_else(|| bad("a packet without slices"))?;
        let is_key = Coder::new(first, &self.config.ones, &self.zeros).bit(&mut { EVEN });
        let this = &*self;
        let slices: Vec<Result<Slice>> = std::thread::scope(|scope| {
            let all: Vec<_> = cut
                .iter()
                .enumerate()
                .map(|(n, bytes)| scope.spawn(move || this.slice(bytes, n, is_key)))
                .collect();
            all.into_iter().map(|s| s.join().unwrap_or_else(|_| Err(bad("a slice ended early")))).collect()
        });
        let slices = slices.into_iter().collect::<Result<Vec<_>>>()?;
        let covered: u64 = slices.iter().map(|s| u64::from(s.at.2) * u64::from(s.at.3)).sum();
        if covered != u64::from(self.size.0) * u64::from(self.size.1) {
            return Err(bad("the slices do not cover the picture"));
        }
        let mut f = VideoFrame::new(&self.pool, self.size.0, self.size.1, self.chroma, self.config.depth)?;
        (f.colour, f.fields, f.pixel_shape) = (self.colour, self.fields, self.pixel_shape);
        if self.config.rgb {
            f.colour = Colour { matrix: 0, full_range: true, ..f.colour };
        }
        for (number, slice) in slices.into_iter().enumerate() {
            for (n, samples) in slice.planes.iter().enumerate() {
                let (px, py, w, h) = self.config.part(n, slice.at);
                let plane = &mut f.planes[n];
                let (w, h) = (w.min(plane.width as usize - px), h.min(plane.height as usize - py));
                let wide = self.config.part(n, slice.at).2;
                for y in 0..h {
                    for x in 0..w {
                        plane.put(px + x, py + y, samples[y * wide + x]);
                    }
                }
            }
            if !self.config.intra {
                self.kept[number] = slice.states;
            }
        }
        Ok(f)
    }
}
