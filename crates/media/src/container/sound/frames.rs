//! A stream of frames that tell their own length: plain MPEG audio and AAC.

use crate::container::reader::Reader;
use crate::container::stream::{Parts, Raw};
use crate::error::{Error, Result};

/// What a frame's header says.
pub struct Frame {
    /// Bytes before the part that is decoded.
    pub header: usize,
    /// Bytes of the whole.
    pub len: usize,
    /// Samples of each channel that it decodes to.
    pub samples: u32,
}

pub type Parse = fn(&[u8]) -> Option<Frame>;

pub struct Frames {
    pub r: Reader,
    parse: Parse,
    /// Bytes that a header takes.
    least: usize,
    first: u64,
    end: u64,
    cut: Option<String>,
    skim: bool,
}

/// No header that is looked at is longer.
const HEAD: usize = 8;

impl Frames {
    pub fn new(r: Reader, parse: Parse, least: usize, first: u64, end: u64) -> Self {
        let mut f = Frames { r, parse, least, first, end, cut: None, skim: false };
        f.rewind();
        f
    }

    /// The first place from here where two frames follow each other (or one ends the file).
    pub fn sync(r: &mut Reader, parse: Parse, least: usize, most: u64) -> Result<bool> {
        let end = r.at().saturating_add(most);
        while r.at() < end {
            let left = end - r.at();
            if !r.find(least, left, |b| parse(b).is_some())? {
                return Ok(false);
            }
            let at = r.at();
            let Some(frame) = parse(&r.peek(least)?) else { return Ok(false) };
            let next = at + frame.len as u64;
            r.go(next);
            let follows = parse(&r.peek(least)?).is_some() || next >= r.len();
            r.go(at);
            if follows {
                return Ok(true);
            }
            r.skip(1);
        }
        Ok(false)
    }
}

/// Remains of a tag or of a stream's head may stand in front of the first frame: three frames in a row that are alike
/// are no chance.
pub fn behind_junk<H>(
    head: &[u8],
    parse: fn(&[u8]) -> Option<H>,
    len: fn(&H) -> usize,
    alike: fn(&H, &H) -> bool,
) -> bool {
    let next =
        |at: usize, like: &H| head.get(at..).and_then(parse).filter(|h| alike(h, like)).map(|h| at + len(&h));
    let runs = |at: usize| {
        let first = parse(&head[at..])?;
        let second = next(at + len(&first), &first)?;
        next(second, &first)
    };
    (1..head.len()).any(|at| head[at] == 0xff && runs(at).is_some())
        && crate::container::known::name(head).is_none()
}

impl Parts for Frames {
    fn next(&mut self) -> Result<Option<Raw>> {
        let at = self.r.at();
        if at + self.least as u64 > self.end {
            return Ok(None);
        }
        let mut head = [0; HEAD];
        let n = HEAD.min(self.r.left() as usize);
        self.r.look(&mut head[..n])?;
        let Some(Frame { header, len, samples }) = (self.parse)(&head[..n]) else {
            self.r.skip(1);
            if !Self::sync(&mut self.r, self.parse, self.least, u64::MAX)? {
                // Other data may follow the last frame.
                return Ok(None);
            }
            return Err(Error::damaged_at(
                "sound frame",
                at,
                format!("{} bytes that are no frame", self.r.at() - at),
            ));
        };
        if at + len as u64 > self.end {
            self.cut.get_or_insert(format!(
                "cut off, or still being copied: a frame of {len} bytes at byte {at}, but the sound ends at {}",
                self.end
            ));
            self.r.go(self.end);
            return Ok(None);
        }
        if self.skim {
            self.r.skip(len as u64);
            // Only the first has to show what it is.
            // A short one is followed by others here.
            let data = if at == self.first { head[header.min(n)..n.min(len)].to_vec() } else { Vec::new() };
            let left_out = len - header - data.len();
            let duration = Some(samples.into());
            return Ok(Some(Raw { key: true, duration, left_out, data, ..Raw::default() }));
        }
        self.r.skip(header as u64);
        let data = self.r.take((len - header) as u64, "sound frame")?;
        Ok(Some(Raw { key: true, data, ..Raw::default() }))
    }
    fn rewind(&mut self) {
        self.r.go(self.first);
    }
    fn skim(&mut self, on: bool) {
        self.skim = on;
    }
    fn at(&self) -> u64 {
        self.r.at()
    }
    fn cut(&self) -> Option<String> {
        self.cut.clone()
    }
}
