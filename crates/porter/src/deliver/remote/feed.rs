//! What is sent, with its checksum on the way.

use super::super::Trouble;
use crate::files::Watching;
use crate::files::copy::show;
use crate::files::known::plain;
use std::fs::File;
use std::io::{self, Read};
use std::path::Path;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use xxhash_rust::xxh3::Xxh3;

/// A larger file is read and summed by a thread of its own while it is sent.
const LARGE: u64 = 4 << 20;
const BLOCK: usize = 1 << 18;
/// So many blocks wait to be sent.
const WAITING: usize = 4;

/// A made file on its way out.
pub struct Feed<'a> {
    from: From,
    path: &'a Path,
    watching: &'a dyn Watching,
    left: u64,
    failed: Option<Trouble>,
}

enum From {
    Here { file: File, hash: Box<Xxh3> },
    Ahead { next: Receiver<Next>, block: Vec<u8>, at: usize, digest: Option<String> },
}

/// What a thread that reads has to give.
enum Next {
    Block(Vec<u8>),
    Failed(io::Error),
    /// The checksum of all of it.
    End(String),
}

impl From {
    fn open(file: File, bytes: u64) -> From {
        if bytes >= LARGE
            && let Ok(again) = file.try_clone()
        {
            let (give, next) = sync_channel(WAITING);
            let read = move || read_ahead(again, bytes, &give);
            if std::thread::Builder::new().spawn(read).is_ok() {
                return From::Ahead { next, block: Vec::new(), at: 0, digest: None };
            }
        }
        From::Here { file, hash: Box::default() }
    }

    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        match self {
            From::Here { file, hash } => {
                let n = file.read(to)?;
                hash.update(&to[..n]);
                Ok(n)
            }
            From::Ahead { next, block, at, digest } => {
                while *at == block.len() && digest.is_none() {
                    match next.recv() {
                        Ok(Next::Block(b)) => (*block, *at) = (b, 0),
                        Ok(Next::Failed(e)) => return Err(e),
                        Ok(Next::End(sum)) => *digest = Some(sum),
                        Err(_) => return Err(io::Error::other("a thread that read broke")),
                    }
                }
                let n = to.len().min(block.len() - *at);
                to[..n].copy_from_slice(&block[*at..*at + n]);
                *at += n;
                Ok(n)
            }
        }
    }

    /// Of all that was read; everything was.
    fn digest(&mut self) -> Option<String> {
        match self {
            From::Here { hash, .. } => Some(show(hash)),
            From::Ahead { next, digest, .. } => {
                if digest.is_none()
                    && let Ok(Next::End(sum)) = next.recv()
                {
                    *digest = Some(sum);
                }
                digest.clone()
            }
        }
    }
}

/// Until all is read, or nobody takes it any more.
fn read_ahead(mut file: File, bytes: u64, give: &SyncSender<Next>) {
    let (mut hash, mut left) = (Xxh3::new(), bytes);
    while left > 0 {
        let mut block = vec![0; left.min(BLOCK as u64) as usize];
        match file.read(&mut block) {
            Ok(0) => break,
            Ok(n) => {
                block.truncate(n);
                hash.update(&block);
                left -= n as u64;
                if give.send(Next::Block(block)).is_err() {
                    return;
                }
            }
            Err(e) if e.kind() == io::ErrorKind::Interrupted => (),
            Err(e) => return drop(give.send(Next::Failed(e))),
        }
    }
    let _ = give.send(Next::End(show(&hash)));
}

impl<'a> Feed<'a> {
    /// Of a file of so many bytes, all of it.
    pub fn open(path: &'a Path, bytes: u64, watching: &'a dyn Watching) -> Result<Feed<'a>, Trouble> {
        let file = File::open(path).map_err(|e| changed(path, &e))?;
        Ok(Feed { from: From::open(file, bytes), path, watching, left: bytes, failed: None })
    }

    /// Passes over what is there already.
    pub fn skip(&mut self, bytes: u64) -> Result<(), Trouble> {
        let mut block = vec![0; 1 << 18];
        let mut left = bytes;
        while left > 0 {
            let n = left.min(block.len() as u64) as usize;
            match self.read(&mut block[..n]) {
                Ok(0) => return Err(self.failed.take().unwrap_or_else(|| self.short())),
                Ok(n) => left -= n as u64,
                Err(e) => return Err(self.failed.take().unwrap_or_else(|| changed(self.path, &e))),
            }
        }
        Ok(())
    }

    fn short(&self) -> Trouble {
        Trouble::Changed(format!("{} is shorter than what was made", media::show::path(self.path)))
    }

    /// What went wrong here, not at the other end.
    pub fn failure(&mut self) -> Option<Trouble> {
        self.failed.take()
    }

    pub fn left(&self) -> u64 {
        self.left
    }

    /// All was read, and is what was made.
    pub fn verify(&mut self, wanted: &str) -> Result<(), Trouble> {
        if self.left > 0 {
            return Err(self.short());
        }
        let found = self.from.digest().unwrap_or_default();
        match found == wanted {
            true => Ok(()),
            false => Err(Trouble::Changed(format!(
                "{} is not what was made (checksum {found}, expected {wanted})",
                media::show::path(self.path)
            ))),
        }
    }
}

fn changed(path: &Path, e: &io::Error) -> Trouble {
    Trouble::Changed(format!("cannot read {}: {}", media::show::path(path), plain(e)))
}

impl Read for Feed<'_> {
    fn read(&mut self, block: &mut [u8]) -> io::Result<usize> {
        if self.watching.stopping() {
            self.failed = Some(Trouble::Stopped);
            return Err(io::Error::other("stopped"));
        }
        let n = (block.len() as u64).min(self.left) as usize;
        let n = match self.from.read(&mut block[..n]) {
            Ok(n) => n,
            Err(e) => {
                self.failed = Some(changed(self.path, &e));
                return Err(e);
            }
        };
        self.left -= n as u64;
        self.watching.passed(n as u64);
        Ok(n)
    }
}

/// The checksum of what comes back: as much as was sent, and not a byte more.
pub struct Back<'a> {
    hash: Xxh3,
    left: u64,
    watching: &'a dyn Watching,
}

impl<'a> Back<'a> {
    pub fn new(bytes: u64, watching: &'a dyn Watching) -> Back<'a> {
        Back { hash: Xxh3::new(), left: bytes, watching }
    }

    pub fn take(&mut self, block: &[u8]) -> Result<(), Trouble> {
        if self.watching.stopping() {
            return Err(Trouble::Stopped);
        }
        let more = || Trouble::Away("more comes back from there than was sent".into());
        self.left = self.left.checked_sub(block.len() as u64).ok_or_else(more)?;
        self.hash.update(block);
        self.watching.passed(block.len() as u64);
        Ok(())
    }

    pub fn digest(&self) -> String {
        show(&self.hash)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::files::Quiet;
    use rstest::rstest;

    /// In small pieces and large ones, by a thread or not: every byte, and its checksum.
    #[rstest]
    fn all_of_a_file_is_fed(
        #[values(0, 1, 70_000, LARGE as usize, LARGE as usize + 300_001)] bytes: usize,
        #[values(7_001, 1 << 20)] piece: usize,
    ) {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("made");
        let content: Vec<u8> = (0..bytes).map(|n| (n % 251) as u8).collect();
        std::fs::write(&path, &content).unwrap();
        let wanted = crate::files::copy::digest(&path, false).unwrap();
        for skipped in [0, bytes / 3, bytes] {
            let mut feed = Feed::open(&path, bytes as u64, &Quiet).unwrap();
            feed.skip(skipped as u64).unwrap();
            let (mut got, mut block) = (Vec::new(), vec![0; piece]);
            loop {
                match feed.read(&mut block).unwrap() {
                    0 => break,
                    n => got.extend_from_slice(&block[..n]),
                }
            }
            assert!(got == content[skipped..]);
            feed.verify(&wanted).unwrap();
            assert!(matches!(feed.verify("xxh3-128:0"), Err(Trouble::Changed(_))));
        }
    }

    /// It became shorter since, or longer: only as much as was made is sent, and it is told.
    #[rstest]
    fn a_file_that_changed_is_told(#[values(90_000, LARGE as usize * 2)] bytes: usize) {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("made");
        std::fs::write(&path, vec![5; bytes]).unwrap();
        let wanted = crate::files::copy::digest(&path, false).unwrap();
        let fed = |of: usize| {
            let mut feed = Feed::open(&path, of as u64, &Quiet).unwrap();
            let mut got = Vec::new();
            feed.read_to_end(&mut got).unwrap();
            (got.len(), feed.verify(&wanted))
        };
        let (n, short) = fed(bytes + 5);
        assert!(
            n == bytes && matches!(&short, Err(Trouble::Changed(why)) if why.contains("shorter")),
            "{short:?}"
        );
        let (n, other) = fed(bytes - 5);
        assert!(
            n == bytes - 5 && matches!(&other, Err(Trouble::Changed(why)) if why.contains("expected")),
            "{other:?}"
        );
        // One that nobody reads to its end lets its thread go.
        drop(Feed::open(&path, bytes as u64, &Quiet).unwrap());
    }
}
