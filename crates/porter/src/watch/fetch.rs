//! Files that arrive at a place of a network: looked at, fetched when they are steady, and put into the watch folder when
//! they are whole here. What is half here is gone on with; what was fetched is recorded before it gets its name, so that
//! nothing is fetched twice and nothing is lost.

use super::service::News;
use super::steady::unfinished;
use super::told::Ear;
use crate::config::{After, Fetch, Watch};
use crate::deliver::Trouble;
use crate::deliver::remote::{Far, There, far};
use crate::error::{Error, Result};
use crate::files::{Dir, Seen};
use crate::jobs::Porter;
use crate::store::Change;
use md5::{Digest, Md5};
use media::show;
use std::collections::{HashMap, HashSet};
use std::ffi::OsStr;
use std::fs::File;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError};
use std::time::{Duration, Instant, UNIX_EPOCH};
use xxhash_rust::xxh3::xxh3_64;

const STAGE_START: &str = ".fetch-";
const STAGE_END: &str = ".deft-porter.part";
/// After a line broke it is tried again at once so often.
const TRIES: usize = 3;

/// How often it is asked whether something was told: so often it is looked at most.
const HEARD_EVERY: Duration = Duration::from_millis(250);

/// So many files that cannot be had end a look.
const MOST_FAILURES: usize = 5;

/// Whoever fetches for one watch.
pub struct Fetcher {
    porter: Arc<Porter>,
    watch: Watch,
    from: Fetch,
    index: usize,
    news: Box<dyn Fn(News) + Send>,
    far: Option<Box<dyn Far>>,
    /// Since when each file has been as it is.
    seen: HashMap<String, (u64, String, Instant)>,
    lost: bool,
    /// When something was put into the folder.
    put: Option<Instant>,
    /// Hears when something came there.
    ear: Option<Ear>,
    /// What was given its tag there since the start.
    tagged: HashSet<(String, String)>,
    /// What was listed and could not be found, and what of it was told.
    missed: HashSet<String>,
    told: HashSet<String>,
}

/// What a look came to.
#[derive(Default)]
struct Looked {
    /// Something is not steady yet.
    waits: bool,
}

impl Fetcher {
    pub fn new(
        porter: Arc<Porter>,
        watch: Watch,
        from: Fetch,
        index: usize,
        news: impl Fn(News) + Send + 'static,
    ) -> Fetcher {
        let news = Box::new(news);
        Fetcher {
            porter,
            watch,
            from,
            index,
            news,
            far: None,
            seen: HashMap::new(),
            lost: false,
            put: None,
            ear: None,
            tagged: HashSet::new(),
            missed: HashSet::new(),
            told: HashSet::new(),
        }
    }

    /// Until nobody holds the other end of `stop` any more, or says so.
    pub fn work(mut self, stop: &Receiver<()>) {
        let mut quiet = false;
        loop {
            let waits = match self.listen().and_then(|()| self.look()) {
                Ok(looked) => {
                    if std::mem::take(&mut self.lost) {
                        (self.news)(News::Back { watch: self.index });
                    }
                    looked.waits
                }
                Err(Error::Stopped) => return,
                Err(e) => {
                    self.far = None;
                    if !std::mem::replace(&mut self.lost, true) {
                        let why = match e {
                            Error::Away(why) => why,
                            e => e.to_string(),
                        };
                        (self.news)(News::Lost { watch: self.index, why });
                    }
                    false
                }
            };
            // What was put into the folder is seen there before it is quiet here.
            let settled = self.put.is_none_or(|at| at.elapsed() > self.watch.look_every * 2);
            let is_quiet = !waits && settled;
            if is_quiet != quiet {
                let watch = self.index;
                (self.news)(if is_quiet { News::Quiet { watch } } else { News::Busy { watch } });
                quiet = is_quiet;
            }
            if self.rest(stop, waits) {
                return;
            }
        }
    }

    fn listen(&mut self) -> Result<()> {
        if let (None, Some(at)) = (&self.ear, &self.from.told) {
            self.ear = Some(Ear::open(at)?);
        }
        Ok(())
    }

    /// Until the next look; true when it is told to end.
    fn rest(&self, stop: &Receiver<()>, waits: bool) -> bool {
        let Some(ear) = &self.ear else {
            return !matches!(stop.recv_timeout(self.watch.look_every), Err(RecvTimeoutError::Timeout));
        };
        // What waits to be steady is looked at when it may be, however seldom it is looked at otherwise.
        let soon = self.watch.steady.max(HEARD_EVERY);
        let pause = if waits { soon.min(self.watch.look_every) } else { self.watch.look_every };
        let begun = Instant::now();
        while begun.elapsed() < pause {
            let left = pause.saturating_sub(begun.elapsed());
            match stop.recv_timeout(left.min(HEARD_EVERY)) {
                Err(RecvTimeoutError::Timeout) if ear.heard() => return false,
                Err(RecvTimeoutError::Timeout) => (),
                _ => return true,
            }
        }
        false
    }

    fn stopping(&self) -> bool {
        self.porter.stopping()
    }

    fn far(&mut self) -> Result<&mut dyn Far> {
        if self.far.is_none() {
            self.far = Some(far::open(&self.from.remote).map_err(away)?);
        }
        match self.far.as_mut() {
            Some(far) => Ok(far.as_mut()),
            None => Err(Error::Away("no connection".into())),
        }
    }

    fn look(&mut self) -> Result<Looked> {
        let folder = self.porter.open_watch(&self.watch)?;
        self.finish(&folder)?;
        if !self.watch.hours.is_none_or(|h| h.is_open_now()) {
            return Ok(Looked::default());
        }
        let deepest = self.watch.depth;
        let all = self.far()?.list(deepest).map_err(away)?;
        let mut looked = Looked::default();
        let there: HashSet<&str> = all.iter().map(|t| t.path.as_str()).collect();
        self.seen.retain(|path, _| there.contains(path.as_str()));
        self.missed.retain(|path| there.contains(path.as_str()));
        self.forget(&there)?;
        let (mut wrong, mut failures) = (None, 0);
        let wanted: Vec<&There> = all.iter().filter(|t| self.is_wanted(t)).collect();
        for t in wanted {
            if self.stopping() {
                return Err(Error::Stopped);
            }
            let watch = &self.watch.name;
            if self.porter.store.read(|v| v.was_fetched(watch, &t.path, t.bytes, &t.mark))? {
                self.tidy(t)?;
                continue;
            }
            let now = Instant::now();
            let before =
                self.seen.get(&t.path).filter(|(bytes, mark, _)| (*bytes, mark) == (t.bytes, &t.mark));
            let since = before.map_or(now, |b| b.2);
            self.seen.insert(t.path.clone(), (t.bytes, t.mark.clone(), since));
            if since.elapsed() < self.watch.steady {
                looked.waits = true;
                continue;
            }
            if self.is_not_there(t)? {
                continue;
            }
            // One that cannot be had keeps no other from being fetched.
            match self.fetch(&folder, t) {
                Ok(()) => (),
                Err(Error::Stopped) => return Err(Error::Stopped),
                Err(e) => {
                    self.far = None;
                    // It went away, or cannot be asked for: the next look tells.
                    if let Ok(None) = self.far().and_then(|f| f.look(&t.path).map_err(away)) {
                        self.missed.insert(t.path.clone());
                        looked.waits = true;
                        continue;
                    }
                    failures += 1;
                    wrong.get_or_insert(e);
                }
            }
            if failures >= MOST_FAILURES {
                break;
            }
        }
        wrong.map_or(Ok(looked), Err)
    }

    /// What was moved or removed there is not known any more: what comes under its name is another.
    fn forget(&self, there: &HashSet<&str>) -> Result<()> {
        if matches!(self.from.after, After::Leave | After::Tag) {
            return Ok(());
        }
        let watch = &self.watch.name;
        for (path, bytes, mark) in self.porter.store.read(|v| v.fetched(watch))? {
            if !there.contains(path.as_str()) {
                self.tidied(&path, bytes, &mark)?;
            }
        }
        Ok(())
    }

    fn tidied(&self, path: &str, bytes: u64, mark: &str) -> Result<()> {
        let (watch, path, mark) = (self.watch.name.clone(), path.to_owned(), mark.to_owned());
        self.porter.store.commit([Change::Tidied { watch, path, bytes, mark }]).map(|_| ())
    }

    /// As a file in the folder here would be.
    fn is_wanted(&self, t: &There) -> bool {
        let path = Path::new(&t.path);
        let moved = self.from.after == After::Move && path.starts_with(&self.from.move_to);
        let modified = t.modified.unwrap_or(i64::MAX / 2000) * 1000;
        let seen = Seen { size: t.bytes, modified, changed: modified, inode: 0 };
        !moved && t.bytes > 0 && !unfinished(path, &self.watch.unfinished) && self.watch.takes(path, &seen)
    }

    /// Whether what is listed cannot be found, as when its name there is not UTF-8, which these protocols are spoken in. It
    /// is told once, and keeps no other from coming.
    fn is_not_there(&mut self, t: &There) -> Result<bool> {
        let is_text = !t.path.contains(char::REPLACEMENT_CHARACTER);
        if is_text && !self.missed.contains(&t.path) {
            return Ok(false);
        }
        if self.far()?.look(&t.path).map_err(away)?.is_some() {
            self.missed.remove(&t.path);
            return Ok(false);
        }
        if self.told.insert(t.path.clone()) {
            let why = match is_text {
                true => "it is listed, but cannot be found by this name: is it of another encoding?",
                false => "its name there is not UTF-8, and it cannot be asked for.",
            };
            let (watch, path) = (self.watch.name.clone(), t.path.clone());
            let why = format!("{why} Give it another name");
            self.porter.store.commit([Change::NotFetched { watch, path, why }])?;
        }
        Ok(true)
    }

    fn stage_of(&self, t: &There) -> String {
        let key = format!("{}\n{}\n{}\n{}", self.watch.name, t.path, t.bytes, t.mark);
        format!("{STAGE_START}{:016x}{STAGE_END}", xxh3_64(key.as_bytes()))
    }

    fn fetch(&mut self, folder: &Dir, t: &There) -> Result<()> {
        let stage = self.stage_of(t);
        let mut tries = 0;
        loop {
            match self.bring(folder, t, &stage) {
                Ok(()) => break,
                // The line broke: it is gone on with over a new one.
                Err(Error::Away(_)) if tries < TRIES && !self.stopping() => {
                    tries += 1;
                    self.far = None;
                }
                Err(e) => return Err(e),
            }
        }
        // While it was fetched it may have become another.
        let now = self.far()?.look(&t.path).map_err(away)?;
        let same = |n: &There| n.bytes == t.bytes && (n.mark == t.mark || n.modified == t.modified);
        let name = OsStr::new(&stage);
        let at = folder.path().join(name);
        let fail = |e| Error::path("cannot read", &at)(e);
        let Some(now) = now.filter(same) else {
            self.seen.remove(&t.path);
            folder.remove(name).map_err(fail)?;
            return Ok(());
        };
        if let Some(wanted) = now.md5
            && self.md5_of(&mut folder.read(name).map_err(fail)?, &at)? != wanted
        {
            folder.remove(name).map_err(fail)?;
            return Err(Error::Away(format!("{} did not arrive as it is there (MD5)", t.path)));
        }
        let fetched = Change::Fetched {
            watch: self.watch.name.clone(),
            path: t.path.clone(),
            bytes: t.bytes,
            mark: t.mark.clone(),
            stage,
        };
        self.porter.store.commit([fetched])?;
        crate::stops::here("fetched, not named");
        self.finish(folder)?;
        self.tidy(t)
    }

    /// All of it into its stage, synced and counted.
    fn bring(&mut self, folder: &Dir, t: &There, stage: &str) -> Result<()> {
        let name = OsStr::new(stage);
        let at = folder.path().join(name);
        let fail = |e| Error::path("cannot write", &at)(e);
        let mut have = folder.look(name).map_err(fail)?.map_or(0, |e| e.seen.size);
        if have > t.bytes {
            folder.remove(name).map_err(fail)?;
            have = 0;
        }
        let mut file = folder.append(name).map_err(fail)?;
        let mut wrong = None;
        if have < t.bytes {
            let porter = self.porter.clone();
            let mut left = t.bytes - have;
            let result = self.far()?.read(&t.path, have, &mut |block| {
                if porter.stopping() {
                    return Err(Trouble::Stopped);
                }
                let Some(rest) = left.checked_sub(block.len() as u64) else {
                    return Err(Trouble::Changed("it grows while it is fetched".into()));
                };
                left = rest;
                file.write_all(block).map_err(|e| {
                    let full = e.kind() == std::io::ErrorKind::StorageFull;
                    wrong = Some(e);
                    if full { Trouble::Full(String::new()) } else { Trouble::Changed(String::new()) }
                })
            });
            if let Some(e) = wrong {
                return Err(fail(e));
            }
            match result {
                Ok(()) if left == 0 => (),
                Ok(()) => {
                    return Err(Error::Away(format!(
                        "{}: it gave less than it said",
                        self.from.remote.address
                    )));
                }
                Err(Trouble::Changed(why)) => {
                    folder.remove(name).map_err(fail)?;
                    self.seen.remove(&t.path);
                    return Err(Error::Away(format!("{}: {why}", t.path)));
                }
                Err(e) => return Err(away(e)),
            }
        }
        file.sync_all().map_err(fail)?;
        if let Some(modified) = t.modified.and_then(|m| u64::try_from(m).ok()) {
            let _ = file.set_modified(UNIX_EPOCH + Duration::from_micros(modified));
        }
        Ok(())
    }

    fn md5_of(&self, file: &mut File, at: &Path) -> Result<String> {
        let (mut all, mut block) = (Md5::new(), vec![0; 1 << 18]);
        loop {
            if self.stopping() {
                return Err(Error::Stopped);
            }
            match file.read(&mut block).map_err(Error::path("cannot read", at))? {
                0 => return Ok(all.finalize().iter().map(|b| format!("{b:02x}")).collect()),
                n => all.update(&block[..n]),
            }
        }
    }

    /// What is whole and recorded gets its name, or the next that is free.
    fn finish(&mut self, folder: &Dir) -> Result<()> {
        let fail = |e| Error::path("cannot look through", folder.path())(e);
        for stage in folder.names().map_err(fail)? {
            let is_ours = stage.to_str().filter(|s| s.starts_with(STAGE_START) && s.ends_with(STAGE_END));
            let Some(text) = is_ours else { continue };
            let watch = &self.watch.name;
            let Some(path) = self.porter.store.read(|v| v.fetched_as(watch, text))? else { continue };
            let path = PathBuf::from(path);
            let at = folder.path().join(&path);
            let fail = |e| Error::path("cannot name", &at)(e);
            let (holder, name) = folder.holder(&path, true).map_err(fail)?;
            let mut n = 1;
            while !folder
                .rename_if_free(&stage, &holder, &crate::jobs::numbered_file(name, n))
                .map_err(fail)?
            {
                n += 1;
            }
            holder.sync();
            folder.sync();
            self.put = Some(Instant::now());
            crate::stops::here("fetched and named");
        }
        Ok(())
    }

    /// What is whole here is treated there as the watch says.
    fn tidy(&mut self, t: &There) -> Result<()> {
        match self.from.after {
            After::Leave => return Ok(()),
            After::Tag => {
                // It stays, and is known by the record; a start looks at the tag of each once more.
                let sign = (t.path.clone(), t.mark.clone());
                if !self.tagged.contains(&sign) {
                    let (name, value) = self.from.tag.clone();
                    self.far()?.tag(&t.path, &name, &value).map_err(away)?;
                    self.tagged.insert(sign);
                }
                return Ok(());
            }
            After::Remove => self.far()?.remove(&t.path).map_err(away)?,
            After::Move => {
                let wanted = format!("{}/{}", self.from.move_to, t.path);
                for n in 1.. {
                    let to = crate::naming::numbered(&wanted, n);
                    if self.far()?.rename(&t.path, &to).map_err(away)? == crate::deliver::Published::Done {
                        break;
                    }
                }
            }
        }
        self.tidied(&t.path, t.bytes, &t.mark)
    }
}

fn away(t: Trouble) -> Error {
    match t {
        Trouble::Stopped => Error::Stopped,
        Trouble::Away(why) => Error::Away(show::text(&why)),
        // Another line gives no other answer.
        t => Error::NotConfigured(show::text(&t.to_string())),
    }
}
