//! Pieces of files, read as one.

use super::near::is_gone;
use super::{MOST_PIECES, Near};
use crate::container::Source;
use crate::error::{Error, Result};
use std::io::{self, Read, Seek, SeekFrom};
use std::sync::Arc;

/// A part of a file.
#[derive(Clone, Debug, PartialEq)]
pub struct Piece {
    pub name: String,
    /// Where it begins and how long it is; the whole file otherwise.
    pub range: Option<(u64, u64)>,
}

impl Piece {
    pub fn whole(name: &str) -> Piece {
        Piece { name: name.to_owned(), range: None }
    }
}

/// A piece that is there.
struct Place {
    name: String,
    from: u64,
    len: u64,
    /// Where it is in the whole.
    at: u64,
}

pub struct Pieces {
    near: Arc<dyn Near>,
    all: Vec<Place>,
    pub bytes: u64,
    /// Names of pieces that are not there.
    pub missing: Vec<String>,
    at: u64,
    /// The file that was read last.
    open: Option<(String, Box<dyn Source>)>,
}

impl Pieces {
    /// Looks for all of them. `what` names the list where none is there.
    pub fn open(pieces: Vec<Piece>, near: Arc<dyn Near>, what: &str) -> Result<Pieces> {
        if pieces.len() > MOST_PIECES {
            return Err(Error::limit(what, format!("{} parts; up to {MOST_PIECES}", pieces.len())));
        }
        let mut whole = Pieces { near, all: Vec::new(), bytes: 0, missing: Vec::new(), at: 0, open: None };
        let mut last: Option<(String, Option<u64>)> = None;
        for piece in pieces {
            let size = match &last {
                Some((name, size)) if *name == piece.name => *size,
                _ => match whole.near.open(&piece.name).and_then(|mut f| Ok(f.seek(SeekFrom::End(0))?)) {
                    Ok(size) => Some(size),
                    Err(e) if is_gone(&e) => None,
                    // A share that is away is no part that is missing.
                    Err(e) => return Err(e),
                },
            };
            last = Some((piece.name.clone(), size));
            let (from, len) = piece.range.unwrap_or((0, size.unwrap_or(0)));
            let is_there = size.is_some_and(|s| from.checked_add(len).is_some_and(|end| end <= s));
            if !is_there {
                whole.missing.push(piece.name);
                continue;
            }
            whole.all.push(Place { name: piece.name, from, len, at: whole.bytes });
            whole.bytes = whole.bytes.saturating_add(len);
        }
        if whole.bytes == 0 {
            let why = match whole.missing.first() {
                Some(name) => format!("none of the parts it names is there: {name}"),
                None => "it names no parts".into(),
            };
            return Err(Error::damaged(what, why));
        }
        Ok(whole)
    }
}

impl Read for Pieces {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        let n = self.all.partition_point(|p| p.at.saturating_add(p.len) <= self.at);
        let Some(place) = self.all.get(n) else { return Ok(0) };
        if self.open.as_ref().is_none_or(|(name, _)| *name != place.name) {
            let file = self.near.open(&place.name).map_err(io::Error::other)?;
            self.open = Some((place.name.clone(), file));
        }
        let Some((_, file)) = &mut self.open else { return Ok(0) };
        let within = self.at - place.at;
        let most = usize::try_from(place.len - within).unwrap_or(usize::MAX).min(to.len());
        file.seek(SeekFrom::Start(place.from + within))?;
        let n = file.read(&mut to[..most])?;
        if n == 0 && most > 0 {
            // It was longer when it was looked at.
            return Err(io::Error::new(
                io::ErrorKind::UnexpectedEof,
                format!("{} became shorter", place.name),
            ));
        }
        self.at += n as u64;
        Ok(n)
    }
}

impl Seek for Pieces {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let (base, by) = match to {
            SeekFrom::Start(n) => (n, 0),
            SeekFrom::Current(by) => (self.at, by),
            SeekFrom::End(by) => (self.bytes, by),
        };
        self.at = base.checked_add_signed(by).ok_or(io::ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Cursor;

    /// A folder with two files, and a share that goes away.
    struct Share;

    impl Near for Share {
        fn open(&self, name: &str) -> Result<Box<dyn Source>> {
            match name {
                "a" | "b" => Ok(Box::new(Cursor::new(name.as_bytes().repeat(3)))),
                "away" => Err(io::Error::from(io::ErrorKind::StaleNetworkFileHandle).into()),
                "slow" => Err(io::Error::from(io::ErrorKind::TimedOut).into()),
                _ => Err(io::Error::from(io::ErrorKind::NotFound).into()),
            }
        }
        fn names(&self) -> Result<Vec<String>> {
            Ok(Vec::new())
        }
        fn state(&self, _: &str) -> Result<super::super::near::State> {
            Err(io::Error::from(io::ErrorKind::TimedOut).into())
        }
    }

    fn opened(names: &[&str]) -> Result<Pieces> {
        Pieces::open(names.iter().map(|n| Piece::whole(n)).collect(), Arc::new(Share), "a list")
    }

    #[test]
    fn pieces_are_one_behind_the_other() {
        let mut all = opened(&["a", "gone", "b"]).unwrap();
        assert_eq!(all.missing, ["gone"]);
        let mut text = String::new();
        all.read_to_string(&mut text).unwrap();
        assert_eq!((text.as_str(), all.bytes), ("aaabbb", 6));
        all.seek(SeekFrom::End(-4)).unwrap();
        text.clear();
        all.read_to_string(&mut text).unwrap();
        assert_eq!(text, "abbb");
    }

    /// Nothing is made of what was still there of it.
    #[test]
    fn a_share_that_is_away_is_no_missing_part() {
        for away in ["away", "slow"] {
            let result = opened(&["a", away, "b"]).map(|p| p.missing);
            assert!(matches!(result, Err(Error::System(_))), "{result:?}");
        }
        assert!(matches!(opened(&["gone"]).map(|p| p.bytes), Err(Error::Damaged(_))));
    }
}
