//! The directories of a file in the form of TIFF (revision 6.0, section 2), which camera makers' files have as well.

const MAX_ENTRIES: usize = 4096;
/// Values of one entry, and with them the strips or tiles of a picture.
const MAX_VALUES: u64 = 4_000_000;

pub struct Directory<'a> {
    pub bytes: &'a [u8],
    pub little: bool,
    entries: Vec<Entry>,
}

#[derive(Clone, Copy)]
struct Entry {
    tag: u16,
    kind: u16,
    count: u32,
    /// Where the value stands.
    at: usize,
}

impl Entry {
    /// Bytes of one value of its kind.
    fn size(&self) -> usize {
        match self.kind {
            1 | 2 | 6 | 7 => 1,
            3 | 8 => 2,
            4 | 9 | 11 | 13 => 4,
            _ => 8,
        }
    }
}

impl<'a> Directory<'a> {
    fn number(&self, at: usize, size: usize) -> Option<u64> {
        let b = self.bytes.get(at..at.checked_add(size)?)?;
        let add = |n: u64, v: &u8| n << 8 | u64::from(*v);
        Some(if self.little { b.iter().rev().fold(0, add) } else { b.iter().fold(0, add) })
    }

    /// The first one of a file that says that it is a TIFF.
    pub fn read(bytes: &'a [u8]) -> Option<Directory<'a>> {
        matches!(bytes.get(..4)?, b"II*\0" | b"MM\0*").then(|| Directory::first(bytes))?
    }

    /// The first one of a file of a maker's own mark, ordered in the same way.
    pub fn first(bytes: &'a [u8]) -> Option<Directory<'a>> {
        let little = match bytes.get(..2)? {
            b"II" => true,
            b"MM" => false,
            _ => return None,
        };
        let none = Directory { bytes, little, entries: Vec::new() };
        none.at(none.number(4, 4)?)
    }

    /// The one that stands here in the same file.
    fn at(&self, at: u64) -> Option<Directory<'a>> {
        let mut d = Directory { bytes: self.bytes, little: self.little, entries: Vec::new() };
        let first = usize::try_from(at).ok()?;
        let count = (d.number(first, 2)? as usize).min(MAX_ENTRIES);
        for n in 0..count {
            let at = first.checked_add(2 + n * 12)?;
            let mut e = Entry {
                tag: d.number(at, 2)? as u16,
                kind: d.number(at + 2, 2)? as u16,
                count: d.number(at + 4, 4)? as u32,
                at: at + 8,
            };
            if u64::from(e.count) * e.size() as u64 > 4 {
                e.at = d.number(at + 8, 4)? as usize;
            }
            d.entries.push(e);
        }
        Some(d)
    }

    /// Those that stand under it (TIFF, supplement 1: SubIFDs).
    pub fn inner(&self) -> Vec<Directory<'a>> {
        const SUB_IFDS: u16 = 330;
        const MOST: usize = 64;
        self.all(SUB_IFDS).unwrap_or_default().iter().take(MOST).filter_map(|at| self.at(*at)).collect()
    }

    fn entry(&self, tag: u16) -> Option<&Entry> {
        self.entries.iter().find(|e| e.tag == tag)
    }

    pub fn has(&self, tag: u16) -> bool {
        self.entry(tag).is_some()
    }

    /// All values of it, each made of the bytes that stand at a place.
    fn values<T>(&self, e: &Entry, one: impl Fn(usize) -> Option<T>) -> Option<Vec<T>> {
        if u64::from(e.count) > MAX_VALUES {
            return None;
        }
        (0..e.count as usize).map(|n| one(e.at.checked_add(n * e.size())?)).collect()
    }

    /// Whole numbers without a sign.
    pub fn all(&self, tag: u16) -> Option<Vec<u64>> {
        let e = self.entry(tag)?;
        matches!(e.kind, 1 | 3 | 4 | 7 | 13).then(|| self.values(e, |at| self.number(at, e.size())))?
    }

    pub fn one(&self, tag: u16) -> Option<u64> {
        self.all(tag)?.first().copied()
    }

    /// Numbers of any kind; one that is none, as a fraction over 0 is, makes none of them.
    pub fn reals(&self, tag: u16) -> Option<Vec<f64>> {
        let e = self.entry(tag)?;
        let word = |at| self.number(at, 4).map(|n| n as u32);
        let real = |at: usize| {
            Some(match e.kind {
                1 | 3 | 4 | 7 => self.number(at, e.size())? as f64,
                5 => f64::from(word(at)?) / f64::from(word(at + 4)?),
                6 => f64::from(self.number(at, 1)? as i8),
                8 => f64::from(self.number(at, 2)? as i16),
                9 => f64::from(word(at)? as i32),
                10 => f64::from(word(at)? as i32) / f64::from(word(at + 4)? as i32),
                11 => f64::from(f32::from_bits(word(at)?)),
                12 => f64::from_bits(self.number(at, 8)?),
                _ => return None,
            })
            .filter(|v| v.is_finite())
        };
        self.values(e, real)
    }

    pub fn one_real(&self, tag: u16) -> Option<f64> {
        self.reals(tag)?.first().copied()
    }

    pub fn raw(&self, tag: u16) -> Option<&'a [u8]> {
        let e = self.entry(tag)?;
        self.bytes.get(e.at..e.at.checked_add(e.count as usize)?)
    }

    /// The turn that it asks for (TIFF 6.0, tag 274).
    pub fn turn(&self) -> Option<u8> {
        self.one(274).and_then(|t| u8::try_from(t).ok())
    }
}
