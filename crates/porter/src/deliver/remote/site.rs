//! Files and folders somewhere else, and the contract of places on them.

use super::super::{About, Cargo, Place, Proof, Published, Ticket, Trouble, Whose};
use super::feed::{Back, Feed};
use crate::clock::Micros;
use crate::files::{Quiet, Watching};
use crate::store::MadeFile;
use std::path::Path;
use std::sync::Mutex;

/// The end of the names of what is not whole yet; see the folder's.
const STAGE_ENDING: &str = ".deft-porter.part";

/// More files are in no folder of a house: a listing that goes on has no end.
pub const MOST_LISTED: usize = 5_000_000;

/// What is under a name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stands {
    pub bytes: u64,
    pub kind: Kind,
    pub modified: Option<Micros>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    File,
    Folder,
    /// A link, a device: nothing that is gone through or written to.
    Other,
}

/// One open connection. Paths are whole, with `/`.
pub trait Site: Send {
    /// The thing itself where it is a link.
    fn look(&mut self, path: &str) -> Result<Option<Stands>, Trouble>;
    /// Names that are not UTF-8 have [`char::REPLACEMENT_CHARACTER`] in them. No more than [`MOST_LISTED`].
    fn list(&mut self, folder: &str) -> Result<Vec<(String, Stands)>, Trouble>;
    fn make_folder(&mut self, path: &str) -> Result<(), Trouble>;
    /// From this byte on, all that is left of the source; from 0, a new file.
    fn write(&mut self, path: &str, from: u64, source: &mut Feed<'_>) -> Result<(), Trouble>;
    /// All of a file from this byte on.
    fn read(
        &mut self,
        path: &str,
        from: u64,
        take: &mut dyn FnMut(&[u8]) -> Result<(), Trouble>,
    ) -> Result<(), Trouble>;
    /// Both are of the same place, and nothing stood under `to` a moment ago.
    fn rename(&mut self, from: &str, to: &str) -> Result<Published, Trouble>;
    /// What is gone is gone.
    fn remove(&mut self, path: &str) -> Result<(), Trouble>;
    /// An empty one.
    fn remove_folder(&mut self, path: &str) -> Result<(), Trouble>;
    /// The folder in which a login starts.
    fn home(&mut self) -> Result<String, Trouble> {
        Ok(String::new())
    }
    /// Whether a file can be written on.
    fn resumes(&self) -> bool;
    /// Whether the other end itself refuses a name that is taken.
    fn refuses_taken(&self) -> bool;
}

type GivesBack = Box<dyn Fn(Box<dyn Site>) + Send + Sync>;

/// A folder of a site. Its connection is given back when nothing broke it.
pub struct SitePlace {
    site: Mutex<(Option<Box<dyn Site>>, bool)>,
    base: String,
    address: String,
    refuses_taken: bool,
    back: GivesBack,
}

impl Drop for SitePlace {
    fn drop(&mut self) {
        let seat = self.site.get_mut().unwrap_or_else(|e| e.into_inner());
        if let (Some(site), false) = (seat.0.take(), seat.1) {
            (self.back)(site);
        }
    }
}

/// No name leads out of the place.
pub fn inside(name: &str) -> Result<(), Trouble> {
    let fits =
        |part: &str| !part.is_empty() && part != "." && part != ".." && !part.contains(char::is_control);
    match name.split('/').all(fits) {
        true => Ok(()),
        false => Err(Trouble::Refused(format!("\"{name}\" is no name inside a place"))),
    }
}

/// Folders above a name, from the top.
fn above(name: &str) -> impl Iterator<Item = &str> {
    name.match_indices('/').map(|(at, _)| &name[..at])
}

pub fn stage_name(ticket: &Ticket) -> Result<&str, Trouble> {
    match ticket {
        Ticket::Staged(name) => Ok(name),
        _ => Err(Trouble::Changed("what was begun there was begun in another way".into())),
    }
}

pub fn new_ticket(tag: &str) -> Ticket {
    Ticket::Staged(format!(".{tag}{STAGE_ENDING}"))
}

impl SitePlace {
    pub fn new(
        site: Box<dyn Site>,
        base: String,
        address: String,
        back: impl Fn(Box<dyn Site>) + Send + Sync + 'static,
    ) -> SitePlace {
        let refuses_taken = site.refuses_taken();
        SitePlace {
            site: Mutex::new((Some(site), false)),
            base,
            address,
            refuses_taken,
            back: Box::new(back),
        }
    }

    fn with<R>(&self, work: impl FnOnce(&mut dyn Site) -> Result<R, Trouble>) -> Result<R, Trouble> {
        let mut seat = self.site.lock().unwrap_or_else(|e| e.into_inner());
        let (Some(site), broken) = &mut *seat else { return Err(Trouble::Away("no connection".into())) };
        let result = work(site.as_mut());
        // What was under way on it when it was stopped is not over.
        *broken |= matches!(result, Err(Trouble::Away(_) | Trouble::Stopped));
        result
    }

    fn path(&self, name: &str) -> Result<String, Trouble> {
        inside(name)?;
        Ok(format!("{}/{name}", self.base))
    }

    /// Beside the final name.
    fn stage(&self, ticket: &Ticket, name: &str) -> Result<String, Trouble> {
        inside(name)?;
        let folder = name.rsplit_once('/').map_or(String::new(), |(f, _)| format!("{f}/"));
        self.path(&format!("{folder}{}", stage_name(ticket)?))
    }

    /// The folder must be there and stay the one it was: it is never made, and nothing is gone through that is no folder.
    fn folders(&self, site: &mut dyn Site, name: &str, make: bool) -> Result<bool, Trouble> {
        match site.look(if self.base.is_empty() { "/" } else { &self.base })? {
            Some(s) if s.kind != Kind::File => (),
            Some(_) => return Err(Trouble::Refused(format!("{} is no folder", self.address))),
            None => return Err(Trouble::Away(format!("{}: there is no such folder", self.address))),
        }
        for folder in above(name) {
            let path = self.path(folder)?;
            match site.look(&path)? {
                Some(s) if s.kind == Kind::Folder => (),
                Some(_) => {
                    let why = format!("{}: \"{folder}\" is there and is no folder", self.address);
                    return Err(Trouble::Refused(why));
                }
                None if make => site.make_folder(&path)?,
                None => return Ok(false),
            }
        }
        Ok(true)
    }

    /// One file: what an earlier try left of it is written on, and all of it read back.
    fn put(
        &self,
        site: &mut dyn Site,
        path: &str,
        from: &Path,
        f: &MadeFile,
        w: &dyn Watching,
    ) -> Result<(), Trouble> {
        let there = match site.look(path)? {
            Some(s) if s.kind == Kind::File && site.resumes() && (1..=f.bytes).contains(&s.bytes) => s.bytes,
            Some(s) if s.kind == Kind::Folder => {
                return Err(Trouble::Refused(format!("{}: {path} is a folder", self.address)));
            }
            Some(_) => {
                site.remove(path)?;
                0
            }
            None => 0,
        };
        let mut feed = Feed::open(from, f.bytes, w)?;
        feed.skip(there)?;
        if feed.left() > 0 || f.bytes == 0 {
            let written = site.write(path, there, &mut feed);
            if let Err(trouble) = written {
                return Err(feed.failure().unwrap_or(trouble));
            }
        }
        if let Err(changed) = feed.verify(&f.digest) {
            let _ = site.remove(path);
            return Err(changed);
        }
        crate::stops::here("staged, not read back");
        let found = digest(site, path, f.bytes, w)?;
        if found != f.digest {
            let _ = site.remove(path);
            return Err(Trouble::Away(format!(
                "{}: {path} reads back wrong (checksum {found}, expected {})",
                self.address, f.digest
            )));
        }
        Ok(())
    }

    /// Whether what stands under a name has the content of the cargo.
    fn holds(&self, site: &mut dyn Site, name: &str, cargo: &Cargo) -> Result<bool, Trouble> {
        // Of what is not made any more nothing can be told.
        if cargo.files.is_empty() {
            return Ok(false);
        }
        for f in &cargo.files {
            let path = self.path(&inner(name, f))?;
            match site.look(&path)? {
                Some(s) if s.kind == Kind::File && s.bytes == f.bytes => (),
                _ => return Ok(false),
            }
            if digest(site, &path, f.bytes, &Quiet)? != f.digest {
                return Ok(false);
            }
        }
        Ok(true)
    }

    fn remove_all(&self, site: &mut dyn Site, path: &str, deep: usize) -> Result<(), Trouble> {
        match site.look(path)? {
            None => Ok(()),
            Some(s) if s.kind == Kind::Folder && deep > 0 => {
                for (name, _) in site.list(path)? {
                    // Some list the folder itself and the one above; nothing of those is ours.
                    if inside(&name).is_err() || name.contains('/') {
                        continue;
                    }
                    self.remove_all(site, &format!("{path}/{name}"), deep - 1)?;
                }
                site.remove_folder(path)
            }
            Some(_) => site.remove(path),
        }
    }
}

fn inner(name: &str, f: &MadeFile) -> String {
    if f.inside.is_empty() { name.to_owned() } else { format!("{name}/{}", f.inside) }
}

fn digest(site: &mut dyn Site, path: &str, bytes: u64, w: &dyn Watching) -> Result<String, Trouble> {
    let mut back = Back::new(bytes, w);
    site.read(path, 0, &mut |block| back.take(block))?;
    Ok(back.digest())
}

/// Deepest folder of an output of many files.
const MAX_DEEP: usize = 8;

impl Place for SitePlace {
    fn about(&self) -> About {
        About { refuses_taken: self.refuses_taken, proof: Proof::ReadBack, staged_by_name: false }
    }

    fn look(&self) -> Result<(), Trouble> {
        let probe = self.path(&format!(".try-{}{STAGE_ENDING}", crate::clock::nonce()))?;
        let work = tempfile::NamedTempFile::new().map_err(|e| Trouble::Changed(e.to_string()))?;
        std::fs::write(work.path(), b"a try\n").map_err(|e| Trouble::Changed(e.to_string()))?;
        self.with(|site| {
            self.folders(site, "", false)?;
            let mut feed = Feed::open(work.path(), 6, &Quiet)?;
            site.write(&probe, 0, &mut feed)?;
            site.remove(&probe)
        })
    }

    fn has(&self, name: &str) -> Result<bool, Trouble> {
        let path = self.path(name)?;
        self.with(|site| Ok(self.folders(site, name, false)? && site.look(&path)?.is_some()))
    }

    fn begin(&self, tag: &str) -> Result<Ticket, Trouble> {
        Ok(new_ticket(tag))
    }

    fn stage(&self, cargo: &Cargo, name: &str, ticket: &Ticket, w: &dyn Watching) -> Result<Proof, Trouble> {
        let stage = self.stage(ticket, name)?;
        let result = self.with(|site| {
            self.folders(site, name, true)?;
            if !cargo.is_folder() {
                let file = cargo.files.first().ok_or_else(|| Trouble::Changed("nothing to carry".into()))?;
                return self.put(site, &stage, &cargo.path, file, w);
            }
            for f in &cargo.files {
                let within = stage_name(ticket)?;
                let at = name.rsplit_once('/').map_or(String::new(), |(folder, _)| format!("{folder}/"));
                let whole = format!("{at}{within}/{}", f.inside);
                self.folders(site, &whole, true)?;
                self.put(site, &self.path(&whole)?, &cargo.at(f), f, w)?;
            }
            Ok(())
        });
        // Half a file on a full disk keeps everybody from ending anything.
        if let Err(Trouble::Changed(_) | Trouble::Full(_)) = result {
            let _ = self.discard(name, ticket);
        }
        result.map(|()| Proof::ReadBack)
    }

    fn publish(&self, ticket: &Ticket, name: &str) -> Result<Published, Trouble> {
        let (stage, to) = (self.stage(ticket, name)?, self.path(name)?);
        self.with(|site| {
            self.folders(site, name, false)?;
            if site.look(&to)?.is_some() {
                return Ok(Published::Taken);
            }
            site.rename(&stage, &to)
        })
    }

    fn set_aside(&self, name: &str, aside: &str) -> Result<Published, Trouble> {
        let (from, to) = (self.path(name)?, self.path(aside)?);
        self.with(|site| {
            self.folders(site, aside, false)?;
            match site.look(&to)? {
                Some(_) => Ok(Published::Taken),
                None => site.rename(&from, &to),
            }
        })
    }

    fn whose(&self, name: &str, ticket: &Ticket, cargo: &Cargo) -> Result<Whose, Trouble> {
        let (stage, at) = (self.stage(ticket, name)?, self.path(name)?);
        self.with(|site| {
            if !self.folders(site, name, false)? || site.look(&at)?.is_none() {
                return Ok(Whose::Nothing);
            }
            // What was published is not staged any more.
            if site.look(&stage)?.is_some() || !self.holds(site, name, cargo)? {
                return Ok(Whose::Other);
            }
            Ok(Whose::Ours)
        })
    }

    fn discard(&self, name: &str, ticket: &Ticket) -> Result<(), Trouble> {
        let stage = self.stage(ticket, name)?;
        self.with(|site| {
            if !self.folders(site, name, false)? {
                return Ok(());
            }
            self.remove_all(site, &stage, MAX_DEEP)
        })
    }
}
