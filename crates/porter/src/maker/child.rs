//! The child's side.

use super::made;
use super::source::Reader;
use super::{
    Class, End, FileName, InFolder, Order, Ordered, Pieces, RunOf, Said, Work, memory, sandbox, stills,
    transcripts,
};
use crate::error::{Error, Result};
use crate::files::copy::{Quiet, digest_of};
use crate::files::pieces;
use crate::progress::{Progress, Stage, Unit};
use crate::store::{MadeFile, NotMade};
use media::container::with_sound::WithSound;
use media::container::wrap::{Sink, Target};
use media::container::{self, Demux, Source, listed};
use media::join::Joined;
use media::plan::{self, OutputPlan, Plan};
use media::recipe::Recipe;
use media::run::kept::{Keeps, Kept};
use media::run::{Control, Made};
use media::{deep, facts, run, still};
use rustix::event::{PollFd, PollFlags};
use rustix::time::Timespec;
use std::cell::OnceCell;
use std::fs::File;
use std::io::{BufRead, BufReader, Read, Write};
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use xxhash_rust::xxh3::xxh3_128;

const REPORT_EVERY: Duration = Duration::from_millis(200);
const COPIED: &str = "it is still being copied";
/// A child that waits does not tell that it goes on.
const MOST_STEADY: Duration = Duration::from_secs(20);
/// Exit status after a panic.
const PANICKED: i32 = 70;
pub(super) const TOO_MUCH: &str = "more of the file would have to be read to tell what it is than is allowed";

/// Where all that a child says goes.
type Out = Arc<Mutex<Box<dyn Write + Send>>>;

/// The porter's words come in where the child's own go out.
struct Heard;

impl Read for Heard {
    fn read(&mut self, to: &mut [u8]) -> std::io::Result<usize> {
        Ok(rustix::io::read(std::io::stdout(), to)?)
    }
}

/// Reads an order, does it, and says how it went. Returns the exit status.
pub fn main() -> u8 {
    sandbox::close_inherited();
    let out: Out = Arc::new(Mutex::new(Box::new(std::io::stdout())));
    let mut input = BufReader::new(Heard);
    let Some(mut order) = next_order(&mut input) else {
        say(&out, &Said::Failed { class: Class::System, message: "no order could be read".into() });
        return 2;
    };
    // A library's panic that is caught where it is called is part of decoding; any other ends the child at once, with
    // its words on the error output. Nothing may wait for a thread that has ended.
    let told = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |panic| {
        if !media::guard::is_on() {
            told(panic);
            std::process::exit(PANICKED);
        }
    }));
    memory::tell_refusals();
    // A child that was borne is where its mother is. All paths of an order are whole.
    let _ = std::env::set_current_dir(&order.folder);
    crate::services::give(order.secrets.clone());
    let parts = sandbox::enter(&sandbox::Walls::of(&order));
    let at: Arc<At> = Arc::default();
    tell(out.clone(), at.clone());
    if let Work::Try = order.work {
        say(&out, &Said::Tried { parts, tried: sandbox::try_all() });
        return 0;
    }
    let source = match std::io::stdin().as_fd().try_clone_to_owned() {
        Ok(source) => Arc::new(File::from(source)),
        Err(e) => {
            let message = format!("the source cannot be used: {e}");
            say(&out, &Said::Failed { class: Class::System, message });
            return 2;
        }
    };
    loop {
        let folder = source.clone();
        let opened = match &order.beside {
            None => Ok((source.clone(), Vec::new())),
            Some(names) => open_in(&source, names),
        };
        let at = at.clone();
        let parts = OnceCell::new();
        match opened
            .and_then(|(source, sounds)| Desk { order: &order, folder, source, sounds, at, parts }.work())
        {
            Ok(said) => said.iter().for_each(|s| say(&out, s)),
            Err(e) => {
                say(&out, &Said::Failed { class: Class::of(&e), message: e.to_string() });
                return 1;
            }
        }
        // The walls stay as they are.
        match order.stays.then(|| next_order(&mut input)).flatten() {
            Some(next) => order = next,
            None => return 0,
        }
    }
}

fn next_order(input: &mut impl BufRead) -> Option<Order> {
    let mut line = String::new();
    input.read_line(&mut line).ok()?;
    serde_json::from_str(&line).ok()
}

/// Tells how far it is, now and then, as long as this process lives; and ends it when the porter is gone, as nobody waits
/// for the result then.
fn tell(out: Out, at: Arc<At>) {
    std::thread::spawn(move || {
        let mut asked = None;
        let every = Timespec { tv_sec: 0, tv_nsec: i64::from(REPORT_EVERY.subsec_nanos()) };
        loop {
            let porter = std::io::stdout();
            let mut gone = [PollFd::new(&porter, PollFlags::RDHUP)];
            match rustix::event::poll(&mut gone, Some(&every)) {
                Ok(0) => say(&out, &Said::Progress(at.read(&mut asked))),
                Err(rustix::io::Errno::INTR) => (),
                _ => std::process::exit(3),
            }
        }
    });
}

/// Files with their names.
type Named = Vec<(String, Arc<File>)>;

/// A file and what is its sound, by their names in a folder.
fn open_in(folder: &File, names: &InFolder) -> Result<(Arc<File>, Named)> {
    let open = |name: &FileName| open_name(folder, &name.0).map_err(Error::path("cannot read", &name.0));
    let sounds = names.sounds.iter().map(|s| Ok((media::show::path(&s.0), Arc::new(open(s)?))));
    Ok((Arc::new(open(&names.main)?), sounds.collect::<Result<_>>()?))
}

/// An error of one file of several.
fn of_file(name: &str, e: media::Error) -> media::Error {
    match e {
        media::Error::Damaged(fault) => media::Error::damaged(name, fault.to_string()),
        media::Error::Unsupported(fault) => media::Error::unsupported(name, fault.to_string()),
        e => e,
    }
}

fn open_name(folder: &File, name: &Path) -> std::io::Result<File> {
    use rustix::fs::{Mode, OFlags, openat};
    let how = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::CLOEXEC | OFlags::NONBLOCK;
    Ok(File::from(openat(folder, name, how, Mode::empty())?))
}

/// Files in a folder and below, for what is read together.
struct Near {
    folder: Arc<File>,
    left: Arc<AtomicU64>,
}

impl Near {
    fn file(&self, name: &str) -> media::Result<File> {
        use rustix::fs::{Mode, OFlags, openat};
        let path = listed::relative(name)?;
        let mut folder = None;
        // Each folder on the way by itself, so that no link leads out.
        for part in path.parent().into_iter().flat_map(Path::components).map(|c| c.as_os_str()) {
            let at = folder.as_ref().map_or(self.folder.as_fd(), |f: &File| f.as_fd());
            // Only to go through: the walls allow no more in every case.
            let how = OFlags::PATH | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
            folder = Some(File::from(openat(at, part, how, Mode::empty()).map_err(std::io::Error::from)?));
        }
        let last = Path::new(path.file_name().unwrap_or_default());
        let file = open_name(folder.as_ref().unwrap_or(&self.folder), last)?;
        if !file.metadata()?.is_file() {
            return Err(media::Error::unsupported(name, "a list names it, and it is no file"));
        }
        Ok(file)
    }
}

impl listed::Near for Near {
    fn open(&self, name: &str) -> media::Result<Box<dyn Source>> {
        Ok(Box::new(Reader::counted(Arc::new(self.file(name)?), self.left.clone())))
    }

    fn names(&self) -> media::Result<Vec<String>> {
        let read = rustix::fs::Dir::read_from(self.folder.as_ref()).map_err(std::io::Error::from)?;
        let mut names = Vec::new();
        for entry in read {
            let entry = entry.map_err(std::io::Error::from)?;
            names.extend(entry.file_name().to_str().ok().map(str::to_owned));
        }
        names.sort();
        Ok(names)
    }

    fn state(&self, name: &str) -> media::Result<listed::State> {
        Ok(listed::State::of(&self.file(name)?.metadata()?))
    }
}

fn say(out: &Out, said: &Said) {
    let Ok(mut line) = serde_json::to_vec(said) else { return };
    line.push(b'\n');
    let mut out = out.lock().unwrap_or_else(|e| e.into_inner());
    let _ = out.write_all(&line).and_then(|()| out.flush());
}

/// What became of an output, from how its making went.
pub(super) fn end_of(o: &Ordered, made: Result<Made>) -> End {
    let finished = made.and_then(|made| Ok((made, made_files(&o.path)?)));
    match finished {
        Ok((made, files)) => End::Made { made, files },
        Err(e) => failed(&e),
    }
}

pub(super) fn failed(e: &Error) -> End {
    match Class::of(e) {
        Class::Unsupported => End::NotApplicable(without_class(e)),
        class => End::Failed { class, why: e.to_string() },
    }
}

/// What fails every output is the source, the machine, or the wish to stop.
fn is_of_all(e: &Error) -> bool {
    matches!(Class::of(e), Class::Damaged | Class::Stopped | Class::System)
}

/// The message of an error whose class is told by itself.
fn without_class(e: &Error) -> String {
    match e {
        Error::Media(media::Error::Unsupported(fault)) => fault.to_string(),
        e => e.to_string(),
    }
}

/// Beside an output: what is whole of its pictures (0), or of one of its sound tracks.
fn kept_at(path: &Path, part: usize) -> PathBuf {
    let mut name = path.as_os_str().to_owned();
    name.push(if part == 0 { ".kept".to_owned() } else { format!(".kept-{part}") });
    PathBuf::from(name)
}

/// Of whole files, taken after they were closed.
fn made_files(path: &Path) -> Result<Vec<MadeFile>> {
    let one = |(inside, path): (String, PathBuf)| {
        let mut file = File::open(&path).map_err(Error::path("cannot read", &path))?;
        let bytes = file.metadata().map_err(Error::path("cannot look at", &path))?.len();
        Ok(MadeFile { inside, bytes, digest: digest_of(&mut file, &path, false, &Quiet)?, ours: false })
    };
    made::files_of(path)?.into_iter().map(one).collect()
}

/// What is on the disk must be what was made, before anything else is done with it.
pub(crate) fn sync(path: &Path) -> Result<()> {
    for (_, path) in made::files_of(path)? {
        let file = File::open(&path).map_err(Error::path("cannot read", &path))?;
        file.sync_all().map_err(Error::path("cannot write", &path))?;
    }
    Ok(())
}

/// Where an output is written; what an earlier try left goes.
fn target(path: &Path, is_folder: bool) -> Result<Target> {
    if !is_folder {
        let file = File::options().read(true).write(true).create(true).truncate(true).open(path);
        let file: Box<dyn Sink> = Box::new(file.map_err(Error::path("cannot write", path))?);
        return Ok(file.into());
    }
    if path.exists() {
        std::fs::remove_dir_all(path).map_err(Error::path("cannot remove", path))?;
    }
    std::fs::create_dir(path).map_err(Error::path("cannot make the folder", path))?;
    Ok(Target::Folder(Box::new(path.to_owned())))
}

/// How far it is: what the reporting thread reads while the rest works.
#[derive(Default)]
pub(super) struct At {
    now: Mutex<Progress>,
    /// A run of the media room, asked for its count itself.
    run: Mutex<Option<Arc<Control>>>,
    checked: AtomicU64,
    /// Bytes that may be read to learn what the source is, and how many of them are left.
    looked: Mutex<Option<(u64, Arc<AtomicU64>)>>,
    /// A service is asked and has not answered yet.
    pub asking: Arc<AtomicBool>,
}

impl At {
    pub fn set(&self, now: Progress) {
        *self.now.lock().unwrap_or_else(|e| e.into_inner()) = now;
    }

    fn read(&self, asked: &mut Option<Instant>) -> Progress {
        let mut now = *self.now.lock().unwrap_or_else(|e| e.into_inner());
        match now.stage {
            Stage::Making => {
                if let Some(c) = &*self.run.lock().unwrap_or_else(|e| e.into_inner()) {
                    // A little more than a part is read for it.
                    now.done = c.done().min(now.of.unwrap_or(u64::MAX));
                }
            }
            Stage::Checking => now.done = self.checked.load(Ordering::Relaxed),
            Stage::Looking => {
                if let Some((most, left)) = &*self.looked.lock().unwrap_or_else(|e| e.into_inner()) {
                    now.done = most - left.load(Ordering::Relaxed);
                }
            }
            _ => (),
        }
        if self.asking.load(Ordering::Relaxed) {
            let since = *asked.get_or_insert_with(Instant::now);
            let done = since.elapsed().as_millis() as u64;
            return Progress { stage: Stage::Asking, done, of: None, unit: Unit::Milliseconds, ..now };
        }
        *asked = None;
        now
    }
}

/// One order and what it needs.
struct Desk<'a> {
    order: &'a Order,
    /// Where the source is, if it is not by itself.
    folder: Arc<File>,
    source: Arc<File>,
    /// Files of its own that its sound is in, with their names.
    sounds: Named,
    at: Arc<At>,
    /// The files of a list as they were when it was opened first.
    parts: OnceCell<Option<listed::Parts>>,
}

/// Nothing is made of files that change meanwhile.
fn is_as_it_was(parts: &listed::Parts, what: &str) -> Result<()> {
    match parts.changed()? {
        None => Ok(()),
        Some(name) => {
            Err(Error::Away(format!("{what}: {} changed while it was read", media::show::text(name))))
        }
    }
}

impl Desk<'_> {
    fn reader(&self) -> Box<dyn Source> {
        Box::new(Reader::new(self.source.clone(), u64::MAX))
    }

    /// The frames of a run, opened in the folder that came along, one at a time.
    fn run_of(&self, run: &RunOf, left: Arc<AtomicU64>) -> media::Result<Box<dyn Demux>> {
        let (folder, names) = (self.source.clone(), run.frames.clone());
        let numbers: Vec<u64> = run.frames.numbers().collect();
        let of = numbers.clone();
        let open = move |n: u64| -> media::Result<Box<dyn Source>> {
            let name = names.name(*of.get(n as usize).unwrap_or(&0));
            let file = open_name(&folder, Path::new(&name))?;
            Ok(Box::new(Reader::counted(Arc::new(file), left.clone())))
        };
        Ok(Box::new(still::run::Run::with_numbers(Box::new(open), numbers, run.rate)?))
    }

    fn demux(&self) -> media::Result<Box<dyn Demux>> {
        let left = Arc::new(AtomicU64::new(u64::MAX));
        match (&self.order.frames, &self.order.joined) {
            (Some(run), _) => self.run_of(run, left),
            (None, Some(pieces)) => self.joined(pieces, &left),
            (None, None) => self.opened(left),
        }
    }

    /// Files of the folder that came along, one behind the other.
    fn joined(&self, pieces: &Pieces, left: &Arc<AtomicU64>) -> media::Result<Box<dyn Demux>> {
        let near = self.near_by(left);
        let open = |name: &String| {
            let file = near.open(name).and_then(container::open).map_err(|e| of_file(name, e))?;
            Ok((media::show::text(name), file))
        };
        if let [one] = pieces.names.as_slice() {
            return Ok(open(one)?.1);
        }
        Ok(Box::new(Joined::new(pieces.names.iter().map(open).collect::<media::Result<_>>()?)?))
    }

    fn near_by(&self, left: &Arc<AtomicU64>) -> Arc<dyn listed::Near> {
        Arc::new(Near { folder: self.folder.clone(), left: left.clone() })
    }

    /// As long as a file of the watch must be as it is.
    fn wait_steady(&self) {
        std::thread::sleep(Duration::from_millis(self.order.steady_ms).min(MOST_STEADY));
    }

    /// The file as one of several that are read together.
    fn near(&self, left: &Arc<AtomicU64>) -> media::Result<Option<listed::Opened>> {
        let Some(names) = self.order.beside.as_ref().filter(|b| b.near) else { return Ok(None) };
        let near = self.near_by(left);
        let name = names.main.0.to_str().unwrap_or_default();
        listed::open(&mut Reader::counted(self.source.clone(), left.clone()), name, &near)
    }

    /// The file, with the sound that lies beside it.
    fn opened(&self, left: Arc<AtomicU64>) -> media::Result<Box<dyn Demux>> {
        let open = |file: &Arc<File>| container::open(Box::new(Reader::counted(file.clone(), left.clone())));
        if let Some(near) = self.near(&left)? {
            let _ = self.parts.set(near.parts);
            return Ok(near.demux);
        }
        let main = open(&self.source)?;
        if self.sounds.is_empty() {
            return Ok(main);
        }
        let sound = |(name, file): &(String, Arc<File>)| {
            open(file).map(|demux| (name.clone(), demux)).map_err(|e| of_file(name, e))
        };
        let sounds = self.sounds.iter().map(sound).collect::<media::Result<_>>()?;
        Ok(Box::new(WithSound::new(main, sounds)?))
    }

    /// What is heard: the first sound beside it, or what is in it.
    fn heard(&self) -> media::Result<Box<dyn Demux>> {
        match self.sounds.first() {
            Some((name, file)) => {
                container::open(Box::new(Reader::new(file.clone(), u64::MAX))).map_err(|e| of_file(name, e))
            }
            None => self.demux(),
        }
    }

    fn work(&self) -> Result<Vec<Said>> {
        match &self.order.work {
            Work::Look => self.look().map(|f| vec![Said::Facts(Box::new(f))]),
            Work::Make(outputs) => self.make(outputs).map(|ends| vec![Said::Ended(ends)]),
            Work::Hear { outputs, media } => {
                let hearing = transcripts::Hearing {
                    name: &self.order.name,
                    folder: &self.order.folder,
                    sound: &|| self.heard(),
                    at: &self.at,
                    captions: self.order.captions.as_ref(),
                };
                let (ends, heard) = hearing.make(outputs, media)?;
                let mut said: Vec<Said> = heard.into_iter().map(|t| Said::Heard(Box::new(t))).collect();
                said.push(Said::Ended(ends));
                Ok(said)
            }
            Work::Try => Ok(Vec::new()),
        }
    }

    fn look(&self) -> Result<facts::Facts> {
        // A slow share takes its time: what is read tells that it goes on.
        let left = Arc::new(AtomicU64::new(self.order.bounds.look));
        *self.at.looked.lock().unwrap_or_else(|e| e.into_inner()) =
            Some((self.order.bounds.look, left.clone()));
        let found = match (&self.order.frames, &self.order.joined) {
            (Some(run), _) => self.run_of(run, left).map(|demux| facts::of_tracks(demux.as_ref(), run.bytes)),
            (None, Some(pieces)) => {
                self.joined(pieces, &left).map(|demux| facts::of_tracks(demux.as_ref(), pieces.bytes))
            }
            (None, None) if !self.sounds.is_empty() => {
                let bytes = self.source.metadata().map_or(0, |m| m.len());
                self.opened(left).map(|demux| facts::of_tracks(demux.as_ref(), bytes))
            }
            (None, None) => match self.near(&left) {
                Ok(Some(near)) => {
                    let found = facts::of_tracks(near.demux.as_ref(), near.bytes);
                    // A list is small and there at once; what it names may still be copied.
                    if let Some(parts) = &near.parts {
                        self.wait_steady();
                        is_as_it_was(parts, COPIED)?;
                    }
                    Ok(found)
                }
                Err(e @ media::Error::Damaged(_)) => {
                    // What it lacks may be what comes just now.
                    let near = self.near_by(&Arc::new(AtomicU64::new(u64::MAX)));
                    let folder = || listed::Parts::of(near.names()?.iter().map(String::as_str), &near);
                    let before = folder()?;
                    self.wait_steady();
                    match before.came(&folder()?) {
                        None => Err(e),
                        Some(name) => {
                            let name = media::show::text(name);
                            return Err(Error::Away(format!("{COPIED}: {name} came meanwhile")));
                        }
                    }
                }
                Ok(None) => facts::of(Box::new(Reader::counted(self.source.clone(), left))),
                Err(e) => Err(e),
            },
        };
        match found {
            Err(media::Error::System(e)) if e.kind() == std::io::ErrorKind::QuotaExceeded => {
                let why = format!("{TOO_MUCH} ({} bytes)", self.order.bounds.look);
                Err(media::Error::limit("", why).into())
            }
            other => {
                let mut found = other?;
                if self.order.whole && found.damage.is_none() {
                    found.damage = self.spoilt(&found)?;
                }
                Ok(found)
            }
        }
    }

    /// Decodes all of the source.
    fn spoilt(&self, found: &facts::Facts) -> Result<Option<String>> {
        let left = Arc::new(AtomicU64::new(u64::MAX));
        *self.at.looked.lock().unwrap_or_else(|e| e.into_inner()) = Some((u64::MAX, left.clone()));
        let deep = match (&self.order.frames, &self.order.joined) {
            (Some(run), _) => deep::examine(self.run_of(run, left)?.as_mut())?,
            (None, Some(pieces)) => deep::examine(self.joined(pieces, &left)?.as_mut())?,
            (None, None) if found.kind == facts::Kind::Image => {
                deep::of(Box::new(Reader::counted(self.source.clone(), left)))?
            }
            (None, None) => deep::examine(self.opened(left)?.as_mut())?,
        };
        Ok(deep.spoilt())
    }

    fn make(&self, outputs: &[Ordered]) -> Result<Vec<(u32, End)>> {
        if self.order.frames.is_none() && self.order.joined.is_none() {
            let mut source = self.reader();
            let head = container::probe_bytes(&mut source)?;
            if let Some(format) = still::recognise(&head, &mut source)? {
                let of = Some(outputs.len() as u64);
                return stills::make(format, &mut source, outputs, |done| {
                    self.at.set(Progress {
                        stage: Stage::Making,
                        done,
                        of,
                        unit: Unit::Frames,
                        output: None,
                    });
                });
            }
        }
        let several = self.order.joined.as_ref().is_some_and(|p| p.names.len() > 1);
        let copied = |o: &&Ordered| several && o.recipe.media.copies();
        let (copied, outputs): (Vec<&Ordered>, Vec<&Ordered>) = outputs.iter().partition(copied);
        let of_copied = |o: &Ordered| (o.number, End::NotApplicable(pieces::NOT_COPIED.into()));
        let mut ends: Vec<_> = copied.into_iter().map(of_copied).collect();
        let mut demux = self.demux()?;
        let mut recipes: Vec<Recipe> = outputs.iter().map(|o| o.recipe.media.clone()).collect();
        if let Some(came) = &self.order.captions {
            crate::recipe::put_captions(&mut recipes, &came.name, &came.language, &came.bytes);
        }
        if recipes.iter().any(|r| r.video.as_ref().is_some_and(|v| v.bars)) {
            let inside = run::bars(&mut || self.demux(), &Control::new(0))?;
            let videos = recipes.iter_mut().filter_map(|r| r.video.as_mut());
            videos.filter(|v| v.bars).for_each(|v| v.crop = inside);
        }
        let (mut plan, planned) = plan::plan_each(demux.tracks(), &recipes);
        let mut good = Vec::new();
        for (o, planned) in outputs.into_iter().zip(planned) {
            match planned {
                Ok(_) => good.push(o),
                Err(e) => ends.push((o.number, failed(&e.into()))),
            }
        }
        if !good.is_empty() {
            let made = self.pass(demux.as_mut(), &mut plan, &good)?;
            for (o, made) in good.iter().zip(made) {
                match made {
                    Err(e) if is_of_all(&e) => return Err(e),
                    made => ends.push((o.number, end_of(o, made))),
                }
            }
        }
        Ok(ends)
    }

    /// What is gone through before anything is made. Loudness is measured in a pass of its own over the sound: of long
    /// outputs what it found is kept as well.
    fn measure(&self, plan: &mut Plan, outputs: &[&Ordered], control: &Control) -> Result<()> {
        let is_long = plan.outputs.iter().any(OutputPlan::is_long) && !run::levels(plan).is_empty();
        let recipes: Vec<_> = outputs.iter().map(|o| &o.recipe.media).collect();
        let of = serde_json::to_vec(&recipes).ok().filter(|_| is_long);
        let at = of.map(|of| self.order.folder.join(format!("levels-{:032x}", xxh3_128(&of))));
        run::look_ahead(&mut || self.demux(), plan, control)?;
        let known = at
            .as_ref()
            .and_then(|at| serde_json::from_slice::<Vec<Option<f32>>>(&std::fs::read(at).ok()?).ok());
        if known.is_some_and(|known| run::set_levels(plan, &known)) {
            return Ok(());
        }
        run::measure(&mut || self.demux(), plan, control)?;
        // What cannot be kept is measured again.
        if let (Some(at), Ok(text)) = (at, serde_json::to_vec(&run::levels(plan))) {
            let whole = at.with_extension("part");
            let _ = std::fs::write(&whole, text).and_then(|()| std::fs::rename(&whole, &at));
        }
        Ok(())
    }

    /// What an earlier try kept of a long output, and where this one does. Without it all is made anew.
    fn kept(&self, o: &Ordered, plan: &OutputPlan) -> Keeps {
        let sounds = plan.film().map_or(0, |f| f.audio.len());
        match plan.is_long() {
            true => Keeps {
                pictures: self.kept_of(o, 0),
                sounds: (1..=sounds).map(|n| self.kept_of(o, n)).collect(),
            },
            false => Keeps::default(),
        }
    }

    fn kept_of(&self, o: &Ordered, part: usize) -> Option<Kept> {
        // Whatever the packets depend on, but for the source: that is the same, or the job would be over.
        let captions = self.order.captions.as_ref().map_or(&[][..], |c| &c.bytes);
        let recipe = serde_json::to_vec(&o.recipe.media).ok()?;
        let of = [recipe.as_slice(), captions, env!("CARGO_PKG_VERSION").as_bytes()].concat();
        let mut how = File::options();
        let file =
            how.read(true).write(true).create(true).truncate(false).open(kept_at(&o.path, part)).ok()?;
        Kept::open(Box::new(file), xxh3_128(&of).wrapping_add(part as u128)).ok()
    }

    fn pass(
        &self,
        demux: &mut dyn Demux,
        plan: &mut Plan,
        outputs: &[&Ordered],
    ) -> Result<Vec<Result<Made>>> {
        let unit = if plan.video.is_some() { Unit::Frames } else { Unit::Samples };
        let control = Arc::new(Control::new(outputs.len()));
        self.measure(plan, outputs, &control)?;
        *self.at.run.lock().unwrap_or_else(|e| e.into_inner()) = Some(control.clone());
        self.at.set(Progress { stage: Stage::Making, done: 0, of: plan.total, unit, output: None });
        let targets = outputs.iter().zip(&plan.outputs).map(|(o, p)| target(&o.path, p.is_folder()));
        let targets = targets.collect::<Result<Vec<_>>>()?;
        let kept = outputs.iter().zip(&plan.outputs).map(|(o, p)| self.kept(o, p)).collect();
        let made = run::run_on(demux, plan, targets, kept, &control)?;
        if let Some(Some(parts)) = self.parts.get() {
            is_as_it_was(parts, "what belongs to it is written to")?;
        }
        let size = |p: &Path| std::fs::metadata(p).map_or(0, |m| m.len());
        let sizes = outputs.iter().map(|o| {
            let files = made::files_of(&o.path).unwrap_or_default();
            // Read back once, and decoded once more where that is asked for.
            files.iter().map(|(_, p)| size(p)).sum::<u64>() * (1 + u64::from(o.recipe.checked))
        });
        let sizes: u64 = sizes.sum();
        self.at.checked.store(0, Ordering::Relaxed);
        self.at.set(Progress {
            stage: Stage::Checking,
            done: 0,
            of: Some(sizes),
            unit: Unit::Bytes,
            output: None,
        });
        let checked = outputs.iter().zip(&plan.outputs).zip(made).map(|((o, p), made)| {
            let made = made?;
            sync(&o.path)?;
            made::reads_back(&o.path, &made, &self.at.checked)?;
            if o.recipe.checked {
                let at = self.at.clone();
                made::is_whole(&o.path, move |n| _ = at.checked.fetch_add(n, Ordering::Relaxed))?;
            }
            let sounds = p.film().map_or(0, |f| f.audio.len());
            (0..=sounds).for_each(|part| _ = std::fs::remove_file(kept_at(&o.path, part)));
            Ok(made)
        });
        Ok(checked.collect())
    }
}

impl End {
    /// As it is recorded; an output that waits for a service has no end yet.
    pub fn not_made(&self) -> Option<(NotMade, &str)> {
        match self {
            End::NotApplicable(why) => Some((NotMade::NotApplicable, why)),
            End::Failed { class: Class::Service, .. } | End::Made { .. } => None,
            End::Failed { why, .. } => Some((NotMade::Failed, why)),
        }
    }
}
