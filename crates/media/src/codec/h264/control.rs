//! How finely each picture is quantised, on top of an encoder that is told one quantiser a picture.
//!
//! How hard a picture is to code is looked at first, in a small form of it: what is left when each block is taken from
//! where it was in the picture before, or drawn from its neighbours. Bits are nearly that hardness over the step of the
//! quantiser; by how much is learnt as pictures are coded. A picture that is harder gets more bits, but a coarser
//! quantiser as well (the step goes with the power of [`GIVEN_UP`] of the hardness), because there the eye sees less.
//!
//! What all steps are multiplied with follows from the aim: from a quality it is given once; for an average it is what brings
//! what lies ahead to the bits that are left. What lies ahead is known where the film was gone through before, and else
//! taken to be like what lies behind. A limit is a bucket: bits flow in evenly, and a picture takes its own out, which
//! must be there.

use crate::frame::VideoFrame;
pub use crate::recipe::Most as Cap;
use crate::recipe::quantiser_of as quantiser_for;
use std::sync::Arc;

/// What is wanted of a whole stream.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Aim {
    /// 1 to 100: all of it about as good as each other.
    Quality(u8),
    /// Bits a second.
    Average(u32),
}

/// Part of a hardness that goes into coarser steps; the rest into more bits.
const GIVEN_UP: f64 = 0.4;
/// Key pictures, on which others stand, have a step finer by this factor.
const KEY: f64 = 1.4;
/// Shares of what was learnt before and of a new reading.
const LEARN: f64 = 0.25;
const LEARN_AT_ONCE: f64 = 0.8;
const SURPRISE: f64 = 1.3;
/// Seconds within which too many or too few bits are brought back.
const WITHIN: f64 = 5.0;
/// Largest step of the quantiser from picture to picture.
const MOST_STEP: f64 = 3.0;
/// How full a bucket is at the beginning, and what of it one picture may take by the forecast.
const FULL: f64 = 0.8;
const MAY_TAKE: f64 = 0.5;
/// What of it is kept for key pictures.
const RESERVE: f64 = 0.5;
/// From this part of the hardness of a picture by itself on, it is taken for a new scene.
const NEW_SCENE: f64 = 0.85;
/// Pictures that lie between two key pictures at least.
const SHORTEST_SCENE: u32 = 5;
/// Hardness of a usual picture, for each small sample: what a quality counts from.
const USUAL: f64 = 2.0;
/// Seconds of such pictures that a film is taken to have behind it when it begins.
const PRIOR: f64 = 1.0;
/// The first guess of bits for a hardness of 1 and a step of 1, for each sample of luma.
const GUESS: f64 = 0.9;

pub const FINEST: f64 = 10.0;
pub const COARSEST: f64 = 51.0;

/// The step of a quantiser (ITU-T H.264, 8.5: it doubles every six), and back.
fn step_of(q: f64) -> f64 {
    0.625 * 2f64.powf(q / 6.0)
}
fn quantiser_of(step: f64) -> f64 {
    6.0 * (step / 0.625).max(1e-9).log2()
}

/// How hard a picture is: by itself, and with the one before known. A number for each small sample.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Hard {
    pub alone: f32,
    pub behind: f32,
}

impl Hard {
    fn is_new(&self) -> bool {
        f64::from(self.behind) >= f64::from(self.alone) * NEW_SCENE
    }
}

/// Looks at pictures in their order.
#[derive(Default)]
pub struct Looker {
    before: Option<Small>,
}

/// Luma in a small form.
struct Small {
    w: usize,
    h: usize,
    v: Vec<u8>,
}

/// Sides of blocks that are looked for, and how far.
const BLOCK: usize = 8;
const NEAR: [(isize, isize); 12] =
    [(-1, 0), (1, 0), (0, -1), (0, 1), (-2, 0), (2, 0), (0, -2), (0, 2), (-4, 0), (4, 0), (0, -3), (0, 3)];

/// The mean of each square of so many samples, by a length that is known when this is compiled.
fn means<const BY: usize>(from: &[u8], stride: usize, w: usize, to: &mut [u8]) {
    let mut sums = vec![0u16; w];
    for (y, to) in to.chunks_mut(w).enumerate() {
        sums.fill(0);
        for row in from[y * BY * stride..].chunks(stride).take(BY) {
            for (s, part) in sums.iter_mut().zip(row.as_chunks::<BY>().0) {
                *s += part.iter().map(|v| u16::from(*v)).sum::<u16>();
            }
        }
        to.iter_mut().zip(&sums).for_each(|(t, s)| *t = (s / (BY * BY) as u16) as u8);
    }
}

impl Small {
    fn of(f: &VideoFrame) -> Small {
        let p = &f.planes[0];
        let area = f.width * f.height;
        let by = if area >= 640 * 360 {
            4
        } else if area >= 160 * 120 {
            2
        } else {
            1
        };
        let (w, h) = ((p.width as usize / by).max(1), (p.height as usize / by).max(1));
        let mut v = vec![0u8; w * h];
        let shift = f.depth - 8;
        match (p.bytes(), p.words()) {
            (Some(b), _) if by <= p.width as usize && by <= p.height as usize => match by {
                4 => means::<4>(b, p.stride, w, &mut v),
                2 => means::<2>(b, p.stride, w, &mut v),
                _ => means::<1>(b, p.stride, w, &mut v),
            },
            (_, Some(_)) | (Some(_), _) => {
                for (i, t) in v.iter_mut().enumerate() {
                    *t = (p.at((i % w * by) as u32, (i / w * by) as u32) >> shift) as u8;
                }
            }
            _ => (),
        }
        Small { w, h, v }
    }

    /// Differences of a block from one of another picture, moved.
    fn unlike(
        &self,
        other: &Small,
        (x, y): (usize, usize),
        (bw, bh): (usize, usize),
        by: (isize, isize),
    ) -> u32 {
        let (ox, oy) = (x as isize + by.0, y as isize + by.1);
        if ox < 0 || oy < 0 || ox as usize + bw > self.w || oy as usize + bh > self.h {
            return u32::MAX;
        }
        let (ox, oy) = (ox as usize, oy as usize);
        let rows = (0..bh)
            .map(|r| (&self.v[(y + r) * self.w + x..][..bw], &other.v[(oy + r) * other.w + ox..][..bw]));
        if bw == BLOCK {
            // A length that is known is one instruction.
            let whole = |(a, b): (&[u8], &[u8])| match (a.first_chunk::<BLOCK>(), b.first_chunk::<BLOCK>()) {
                (Some(a), Some(b)) => (0..BLOCK).map(|i| u32::from(a[i].abs_diff(b[i]))).sum(),
                _ => 0,
            };
            return rows.map(whole).sum();
        }
        rows.map(|(a, b)| a.iter().zip(b).map(|(a, b)| u32::from(a.abs_diff(*b))).sum::<u32>()).sum()
    }

    /// Differences of a block's samples from those on the left and above, on average of both.
    fn alone(&self, (x, y): (usize, usize), (bw, bh): (usize, usize)) -> u32 {
        let mut sum = 0;
        for r in 0..bh {
            let row = &self.v[(y + r) * self.w..][..self.w];
            let up = if y + r == 0 { row } else { &self.v[(y + r - 1) * self.w..][..self.w] };
            let part = [row.get(x..), up.get(x..), x.checked_sub(1).and_then(|left| row.get(left..))];
            let part = part.map(|p| p.and_then(|p| p.first_chunk::<BLOCK>()).filter(|_| bw == BLOCK));
            if let [Some(own), Some(up), Some(left)] = part {
                sum += (0..BLOCK)
                    .map(|i| u32::from(own[i].abs_diff(left[i])) + u32::from(own[i].abs_diff(up[i])))
                    .sum::<u32>();
                continue;
            }
            for i in x..x + bw {
                let left = row[i.saturating_sub(1)];
                sum += u32::from(row[i].abs_diff(left)) + u32::from(row[i].abs_diff(up[i]));
            }
        }
        sum / 2
    }
}

impl Looker {
    pub fn look(&mut self, f: &VideoFrame) -> Hard {
        let now = Small::of(f);
        let before = self.before.take().filter(|b| (b.w, b.h) == (now.w, now.h));
        let (mut alone, mut behind) = (0u64, 0u64);
        for y in (0..now.h).step_by(BLOCK) {
            // Neighbours move alike.
            let mut last = (0, 0);
            for x in (0..now.w).step_by(BLOCK) {
                let size = (BLOCK.min(now.w - x), BLOCK.min(now.h - y));
                let by_itself = now.alone((x, y), size);
                alone += u64::from(by_itself);
                let Some(before) = &before else { continue };
                let at = |by| now.unlike(before, (x, y), size, by);
                let (mut best, mut way) = (at((0, 0)), (0, 0));
                if last != (0, 0) && best > 0 {
                    let there = at(last);
                    if there < best {
                        (best, way) = (there, last);
                    }
                }
                // What is nearly the same is not looked for.
                if best > (size.0 * size.1) as u32 {
                    for (dx, dy) in NEAR {
                        let by = (way.0 + dx, way.1 + dy);
                        let there = at(by);
                        if there < best {
                            (best, last) = (there, by);
                        }
                    }
                }
                behind += u64::from(best.min(by_itself));
            }
        }
        let n = (now.w * now.h) as f32;
        let alone = alone as f32 / n;
        let behind = if before.is_some() { behind as f32 / n } else { alone };
        self.before = Some(now);
        Hard { alone, behind }
    }
}

/// All of a film, gone through before.
#[derive(Clone, Debug, Default)]
pub struct Ahead {
    /// When each picture is shown, in seconds, and how hard it is.
    pub pictures: Vec<(f64, Hard)>,
}

impl Guide {
    /// What all pictures up to each one come to, by when it is shown.
    fn sums(&self, key_every: f64) -> Vec<(f64, Rest)> {
        let (mut rest, mut since, mut last) = (Rest::default(), 0.0, self.from);
        let inside = self.ahead.pictures.iter().filter(|p| p.0 >= self.from - 1e-6 && p.0 < self.to - 1e-6);
        let mut sums = Vec::new();
        for (at, hard) in inside {
            since += at - last;
            last = *at;
            let key = sums.is_empty() || hard.is_new() || since >= key_every - 1e-6;
            if key {
                since = 0.0;
            }
            rest.add(*hard, key);
            sums.push((*at, rest));
        }
        sums
    }
}

/// Sums over pictures.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
struct Rest {
    pictures: f64,
    /// Hardness to the power of what goes into bits.
    behind: f64,
    /// The same of key pictures, by themselves.
    keys: f64,
}

impl Rest {
    fn add(&mut self, hard: Hard, key: bool) {
        self.pictures += 1.0;
        if key {
            self.keys += f64::from(hard.alone).max(LEAST) / smooth(f64::from(hard.behind)) * KEY;
        } else {
            self.behind += f64::from(hard.behind).max(LEAST).powf(1.0 - GIVEN_UP);
        }
    }

    fn without(self, other: Rest) -> Rest {
        Rest {
            pictures: self.pictures - other.pictures,
            behind: self.behind - other.behind,
            keys: self.keys - other.keys,
        }
    }

    fn times(self, by: f64) -> Rest {
        Rest { pictures: self.pictures * by, behind: self.behind * by, keys: self.keys * by }
    }
}

/// Nothing is easier than this.
const LEAST: f64 = 0.05;

fn smooth(hard: f64) -> f64 {
    hard.max(LEAST).powf(GIVEN_UP)
}

/// Where the pictures of a stream lie in a film that was gone through before.
#[derive(Clone, Debug)]
pub struct Guide {
    pub ahead: Arc<Ahead>,
    /// Ticks a second of the stream.
    pub timescale: u32,
    /// The second of the film at which the stream is at 0, and where it ends.
    pub from: f64,
    pub to: f64,
}

/// What is handed on to who goes on with the stream.
#[derive(Clone, Debug, Default, PartialEq)]
struct Memory {
    /// Bits for hardness over step: of pictures that stand on others, and of key pictures.
    behind: f64,
    key: f64,
    /// Pictures and bits so far.
    pictures: f64,
    spent: f64,
    /// How hard it was of late, and what lies behind in all, fading.
    late: f64,
    past: Rest,
    last: Option<f64>,
    /// Bits in the bucket.
    bucket: Option<f64>,
    since_key: u32,
}

impl Memory {
    /// Every number as it is, so that the stream goes on as if nothing had been handed on.
    fn write(&self) -> Vec<u8> {
        let Rest { pictures, behind, keys } = self.past;
        // Where there is none: not a number.
        let [last, bucket] = [self.last, self.bucket].map(|v| v.unwrap_or(f64::NAN));
        let all = [
            self.behind,
            self.key,
            self.pictures,
            self.spent,
            self.late,
            pictures,
            behind,
            keys,
            last,
            bucket,
            f64::from(self.since_key),
        ];
        all.iter().flat_map(|v| v.to_le_bytes()).collect()
    }

    fn read(bytes: &[u8]) -> Option<Memory> {
        let all: Vec<f64> = bytes.as_chunks().0.iter().map(|b| f64::from_le_bytes(*b)).collect();
        let [behind, key, pictures, spent, late, count, past_behind, keys, last, bucket, since] = *all else {
            return None;
        };
        let past = Rest { pictures: count, behind: past_behind, keys };
        let [last, bucket] = [last, bucket].map(|v| (!v.is_nan()).then_some(v));
        Some(Memory { behind, key, pictures, spent, late, past, last, bucket, since_key: since as u32 })
    }
}

pub struct Control {
    aim: Aim,
    cap: Option<Cap>,
    fps: f64,
    key_every: u32,
    /// Samples of luma of a picture.
    samples: f64,
    steady_keys: bool,
    guide: Option<(Guide, Vec<(f64, Rest)>)>,
    looker: Looker,
    memory: Memory,
    now: Hard,
    quantiser: f64,
}

impl Control {
    pub fn new(
        (aim, cap): (Aim, Option<Cap>),
        (width, height): (u32, u32),
        (fps, key_every, steady_keys): (f64, u32, bool),
        guide: Option<&Guide>,
        memory: &[u8],
    ) -> Control {
        let memory = Memory::read(memory).unwrap_or_default();
        let samples = f64::from(width) * f64::from(height);
        let fps = if fps.is_finite() { fps.clamp(1.0, 1000.0) } else { 25.0 };
        let key_every = key_every.max(1);
        let sums = |g: &Guide| (g.clone(), g.sums(f64::from(key_every) / fps));
        Control {
            aim,
            cap,
            fps,
            key_every,
            steady_keys,
            samples,
            guide: guide.map(sums),
            looker: Looker::default(),
            memory,
            now: Hard::default(),
            quantiser: 26.0,
        }
    }

    pub fn memory(&self) -> Vec<u8> {
        self.memory.write()
    }

    /// The quantiser of the next picture, and whether it is to be a key picture: the `first` of an encoder is.
    pub fn next(&mut self, f: &VideoFrame, pts: i64, first: bool) -> (u8, bool) {
        self.now = self.looker.look(f);
        let since = self.memory.since_key;
        let cut = !self.steady_keys && self.now.is_new() && since >= SHORTEST_SCENE;
        let key = first || cut || since >= self.key_every;
        let hard = f64::from(self.now.behind);
        let m = &mut self.memory;
        if (m.behind, m.key) == (0.0, 0.0) {
            (m.behind, m.key) = (GUESS, GUESS);
            // As if seconds of usual pictures lay behind: a film that begins with black would spend all at once.
            for n in 0..(PRIOR * self.fps) as u32 {
                m.past.add(Hard { alone: USUAL as f32 * 3.0, behind: USUAL as f32 }, n % self.key_every == 0);
            }
        }
        // A key picture says nothing of how hard those behind it are.
        if !key {
            m.late = if m.late == 0.0 { hard } else { m.late * 0.7 + hard * 0.3 };
        } else if m.late == 0.0 {
            m.late = (f64::from(self.now.alone) * 0.3).max(LEAST);
        }
        let late = m.late;
        let all = self.factor(pts);
        let step = all * smooth(late) / if key { KEY } else { 1.0 };
        let mut q = quantiser_of(step);
        let m = &self.memory;
        if let (Some(last), false) = (m.last, key) {
            q = q.clamp(last - MOST_STEP, last + MOST_STEP);
        }
        let (weight, k) = match key {
            true => (f64::from(self.now.alone).max(LEAST), m.key),
            false => (hard.max(LEAST), m.behind),
        };
        let forecast = |q: f64| k * weight * self.samples / step_of(q);
        if let (Some(cap), Some(bucket)) = (self.cap, self.bucket()) {
            let share = f64::from(cap.bits) / self.fps;
            // Pictures that stand on others leave the bucket half full, for the key picture of a scene that nobody knows yet.
            let may = match (key, cut) {
                (true, true) => bucket * MAY_TAKE * 0.6,
                (true, false) => bucket * MAY_TAKE,
                _ => share * (bucket / self.size().unwrap_or(bucket).max(1.0) / RESERVE).clamp(0.4, 3.0),
            };
            if forecast(q) > may {
                q = quantiser_of(k * weight * self.samples / may.max(1.0));
            }
        }
        self.quantiser = q.clamp(FINEST, COARSEST);
        (self.quantiser.round() as u8, key)
    }

    /// Bits that the bucket holds.
    fn bucket(&self) -> Option<f64> {
        let size = self.size()?;
        Some(self.memory.bucket.unwrap_or(size * FULL))
    }

    fn size(&self) -> Option<f64> {
        self.cap.map(|c| f64::from(c.bits) * f64::from(c.buffer_ms) / 1000.0)
    }

    /// What all steps are multiplied with.
    fn factor(&self, pts: i64) -> f64 {
        let m = &self.memory;
        let bits = match self.aim {
            Aim::Quality(quality) => {
                return step_of(f64::from(quantiser_for(quality))) / smooth(USUAL);
            }
            Aim::Average(bits) => f64::from(bits),
        };
        let bits = self.cap.map_or(bits, |c| bits.min(f64::from(c.bits)));
        let costs = |rest: Rest| (m.behind * rest.behind + m.key * rest.keys) * self.samples;
        if let Some((g, sums)) = &self.guide {
            let at = g.from + pts as f64 / f64::from(g.timescale.max(1));
            let behind = sums.partition_point(|p| p.0 < at - 1e-6);
            let before = behind.checked_sub(1).map_or(Rest::default(), |n| sums[n].1);
            let rest = sums.last().map_or(Rest::default(), |all| all.1.without(before));
            let seconds = (g.to - at).max(1.0 / self.fps);
            // What is over or left is spread over all that comes; at the very end over a second.
            let over = m.spent - m.pictures / self.fps * bits;
            let left = (bits * seconds - over * (seconds / (seconds + 1.0))).max(bits * seconds * 0.2);
            // The stream may have more or fewer pictures than the film.
            let pictures = seconds * self.fps / rest.pictures.max(1.0);
            return costs(rest).max(1e-6) * pictures / left;
        }
        let over = m.spent - m.pictures / self.fps * bits;
        let right = (1.0 - over / (bits * WITHIN)).clamp(0.5, 2.0);
        costs(m.past) / m.past.pictures.max(1e-9) * self.fps / (bits * right)
    }

    /// What the picture came to.
    pub fn took(&mut self, bytes: usize, key: bool) {
        let bits = bytes as f64 * 8.0;
        let step = step_of(self.quantiser.round());
        let m = &mut self.memory;
        let weight = f64::from(if key { self.now.alone } else { self.now.behind }).max(LEAST);
        // Heads and empty blocks cost something whatever the step.
        let reading = (bits - self.samples / 256.0 * 0.3).max(8.0) * step / (weight * self.samples);
        let k = if key { &mut m.key } else { &mut m.behind };
        // One odd picture does not turn it over.
        let reading = reading.clamp(*k / 4.0, *k * 4.0);
        // Under a limit, what took more than was told is believed at once.
        let learn = if self.cap.is_some() && reading > *k * SURPRISE { LEARN_AT_ONCE } else { LEARN };
        let by = 1.0 - learn + reading / *k * learn;
        *k *= by;
        // Whatever begins with a key picture that takes more goes on so.
        if key && learn > LEARN {
            m.behind *= by.sqrt();
        }
        m.pictures += 1.0;
        m.spent += bits;
        m.since_key = if key { 1 } else { m.since_key + 1 };
        m.last = (!key).then_some(self.quantiser).or(m.last);
        // Some ten seconds behind.
        let fade = 1.0 - 1.0 / (10.0 * self.fps);
        m.past = m.past.times(fade);
        m.past.add(self.now, key);
        if let Some(size) = self.size() {
            let flows = self.cap.map_or(0.0, |c| f64::from(c.bits)) / self.fps;
            self.memory.bucket = self.bucket().map(|had| (had - bits + flows).clamp(0.0, size));
        }
    }
}
