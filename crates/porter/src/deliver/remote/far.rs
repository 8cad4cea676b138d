//! What lies at a place of a network, to be fetched from there.

use super::s3::S3Place;
use super::site::{Kind, MOST_LISTED, Site, inside};
use super::{Protocol, Published, Remote, Trouble, based};
use crate::clock::{self, Micros};

/// No longer path is on a disk.
const LONGEST_PATH: usize = 4_000;

/// One file there. Its path is inside the folder that is looked at.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct There {
    pub path: String,
    pub bytes: u64,
    pub modified: Option<Micros>,
    /// What changes when its content does, as far as the place tells.
    pub mark: String,
    /// MD5 of the content, where the place tells it.
    pub md5: Option<String>,
}

/// One open connection to look, fetch and tidy up by.
pub trait Far: Send {
    /// Every file in it, so many folders deep.
    fn list(&mut self, deepest: usize) -> Result<Vec<There>, Trouble>;
    fn look(&mut self, path: &str) -> Result<Option<There>, Trouble>;
    /// All of a file from this byte on.
    fn read(
        &mut self,
        path: &str,
        from: u64,
        take: &mut dyn FnMut(&[u8]) -> Result<(), Trouble>,
    ) -> Result<(), Trouble>;
    fn remove(&mut self, path: &str) -> Result<(), Trouble>;
    /// Both paths are inside; nothing is put over anything.
    fn rename(&mut self, path: &str, to: &str) -> Result<Published, Trouble>;
    /// A sign on it, where the protocol has such.
    fn tag(&mut self, path: &str, name: &str, value: &str) -> Result<(), Trouble> {
        let _ = (name, value);
        Err(Trouble::Refused(format!("{path}: this protocol knows no tags")))
    }
}

/// Opens a connection to where files arrive.
pub fn open(remote: &Remote) -> Result<Box<dyn Far>, Trouble> {
    Ok(match remote.protocol {
        Protocol::S3 => Box::new(S3Place::new(remote)?),
        Protocol::Tus | Protocol::Publish => {
            return Err(remote.refused("nothing can be fetched by this protocol"));
        }
        _ => {
            let mut site = remote.connect()?;
            let base = based(site.as_mut(), &remote.base)?;
            Box::new(FarSite { site, base, address: remote.address.clone() })
        }
    })
}

struct FarSite {
    site: Box<dyn Site>,
    base: String,
    address: String,
}

impl FarSite {
    fn at(&self, path: &str) -> Result<String, Trouble> {
        inside(path)?;
        Ok(format!("{}/{path}", self.base))
    }
}

fn there(path: String, bytes: u64, modified: Option<Micros>) -> There {
    let mark = modified.map_or(String::new(), |m| m.to_string());
    There { path, bytes, modified, mark, md5: None }
}

impl Far for FarSite {
    fn list(&mut self, deepest: usize) -> Result<Vec<There>, Trouble> {
        let top = if self.base.is_empty() { "/" } else { &self.base };
        match self.site.look(top)? {
            Some(s) if s.kind != Kind::File => (),
            _ => return Err(Trouble::Away(format!("{}: there is no such folder", self.address))),
        }
        let mut out = Vec::new();
        let mut open = vec![(String::new(), 0)];
        while let Some((folder, depth)) = open.pop() {
            let at = if folder.is_empty() { top.to_owned() } else { format!("{}/{folder}", self.base) };
            for (name, s) in self.site.list(&at)? {
                let path = if folder.is_empty() { name } else { format!("{folder}/{name}") };
                // A name that leads elsewhere, or that no disk here takes, is passed over.
                if inside(&path).is_err() || path.len() > LONGEST_PATH {
                    continue;
                }
                if out.len() + open.len() > MOST_LISTED {
                    return Err(Trouble::Away(format!("{}: its listing has no end", self.address)));
                }
                match s.kind {
                    Kind::Folder if depth < deepest => open.push((path, depth + 1)),
                    Kind::File => out.push(there(path, s.bytes, s.modified)),
                    _ => (),
                }
            }
        }
        Ok(out)
    }

    fn look(&mut self, path: &str) -> Result<Option<There>, Trouble> {
        let at = self.at(path)?;
        let found = self.site.look(&at)?.filter(|s| s.kind == Kind::File);
        Ok(found.map(|s| there(path.to_owned(), s.bytes, s.modified)))
    }

    fn read(
        &mut self,
        path: &str,
        from: u64,
        take: &mut dyn FnMut(&[u8]) -> Result<(), Trouble>,
    ) -> Result<(), Trouble> {
        let at = self.at(path)?;
        self.site.read(&at, from, take)
    }

    fn remove(&mut self, path: &str) -> Result<(), Trouble> {
        let at = self.at(path)?;
        self.site.remove(&at)
    }

    fn rename(&mut self, path: &str, to: &str) -> Result<Published, Trouble> {
        let (from, target) = (self.at(path)?, self.at(to)?);
        for (end, _) in to.match_indices('/') {
            let folder = self.at(&to[..end])?;
            if self.site.look(&folder)?.is_none() {
                self.site.make_folder(&folder)?;
            }
        }
        match self.site.look(&target)? {
            Some(_) => Ok(Published::Taken),
            None => self.site.rename(&from, &target),
        }
    }
}

impl Far for S3Place {
    fn list(&mut self, deepest: usize) -> Result<Vec<There>, Trouble> {
        let all = self.contents()?;
        Ok(all
            .into_iter()
            .filter(|t| t.path.matches('/').count() <= deepest && inside(&t.path).is_ok())
            .collect())
    }

    fn look(&mut self, path: &str) -> Result<Option<There>, Trouble> {
        self.object(path)
    }

    fn read(
        &mut self,
        path: &str,
        from: u64,
        take: &mut dyn FnMut(&[u8]) -> Result<(), Trouble>,
    ) -> Result<(), Trouble> {
        self.get(path, from, take)
    }

    fn remove(&mut self, path: &str) -> Result<(), Trouble> {
        self.delete_named(path)
    }

    fn rename(&mut self, path: &str, to: &str) -> Result<Published, Trouble> {
        self.copy_over(path, to)
    }

    fn tag(&mut self, path: &str, name: &str, value: &str) -> Result<(), Trouble> {
        S3Place::tag(self, path, name, value)
    }
}

/// An object as a listing or a look tells it: its tag is the MD5 of what was put in one piece.
pub fn object(path: String, bytes: u64, etag: &str, modified: &str) -> There {
    let etag = etag.trim().trim_matches('"').to_lowercase();
    let is_md5 = etag.len() == 32 && etag.bytes().all(|b| b.is_ascii_hexdigit());
    let modified = clock::parse_zoned(modified).or_else(|| clock::mail_date(modified));
    There { path, bytes, modified, md5: is_md5.then(|| etag.clone()), mark: etag }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_tag_that_is_one_is_taken_for_a_checksum() {
        let one = object("a".into(), 1, "\"D41D8CD98F00B204E9800998ECF8427E\"", "2026-11-26T23:00:00.000Z");
        assert_eq!(one.md5.as_deref(), Some("d41d8cd98f00b204e9800998ecf8427e"));
        assert!(one.modified.is_some());
        let parts = object("a".into(), 1, "\"d41d8cd98f00b204e9800998ecf8427e-3\"", "");
        assert_eq!((parts.md5, parts.modified), (None, None));
    }
}
