//! Files made by presets without a house: planned, made in one pass, read back, and put under a name that is free.

use crate::clock;
use crate::config::Preset;
use crate::error::{Error, Result};
use crate::files::dir::rename_if_free;
use crate::files::pieces;
use crate::maker::child::sync;
use crate::maker::made::reads_back;
use crate::naming;
use crate::naming::Template;
use crate::route::Item;
use crate::route::fields::Subject;
use media::container::wrap::{Sink, Target};
use media::container::{self, Demux, Source, Track, listed};
use media::facts::Facts;
use media::join::Joined;
use media::plan::words::{Told, decoded};
use media::plan::{self, Plan};
use media::recipe::Recipe;
use media::run::{self, Control, Made};
use media::still;
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Most names that are tried for one output.
const MAX_TRIES: u32 = 100_000;
/// What an output is called, unless it is said.
pub const USUAL_NAME: &str = "{stem}_{preset}";

/// A file, or several as one, and what is to be made of it.
pub struct Planned {
    /// The first gives its name to what is made.
    pub sources: Vec<PathBuf>,
    /// Of the first; as long as all together.
    pub facts: Facts,
    pub tracks: Vec<Track>,
    pub plan: Plan,
    /// For each preset: the number of its output in the plan, or why there is none.
    pub each: Vec<(Arc<Preset>, std::result::Result<usize, String>)>,
    /// The source is one picture.
    still: Option<&'static still::StillFormat>,
}

/// What became of one preset.
pub struct Converted {
    pub preset: Arc<Preset>,
    /// Where it is, or why it is not.
    pub end: Result<(PathBuf, Made)>,
}

fn open(path: &Path) -> Result<Box<dyn Source>> {
    Ok(Box::new(File::open(path).map_err(Error::path("cannot read", path))?))
}

fn recipe(p: &Preset) -> Result<&Recipe> {
    match p.parts.as_slice() {
        [part] if part.recipe.transcript.is_none() => Ok(&part.recipe.media),
        _ => Err(Error::Output("it makes transcripts: that is what 'transcribe' does".into())),
    }
}

/// A reader of a file, or of several one behind the other.
fn demux(sources: &[PathBuf]) -> media::error::Result<Box<dyn Demux>> {
    let one = |path: &PathBuf| Ok(listed::open_path(path)?.demux);
    match sources {
        [path] => one(path),
        several => {
            let named = several.iter().map(|p| Ok((media::show::path(p), one(p)?)));
            Ok(Box::new(Joined::new(named.collect::<media::error::Result<_>>()?)?))
        }
    }
}

/// What several files are together.
pub fn facts_of_joined(sources: &[PathBuf], bytes: u64) -> Result<Facts> {
    Ok(media::facts::of_tracks(demux(sources)?.as_ref(), bytes))
}

/// Looks at a file and plans; nothing is made.
pub fn plan(path: &Path, presets: &[Arc<Preset>]) -> Result<Planned> {
    plan_joined(&[path.to_owned()], presets)
}

/// The same of several files, of which one is made.
pub fn plan_joined(sources: &[PathBuf], presets: &[Arc<Preset>]) -> Result<Planned> {
    let Some(path) = sources.first() else { return Err(Error::Output("no file to plan for".into())) };
    let mut source = open(path)?;
    let head = container::probe_bytes(&mut source)?;
    let still = still::recognise(&head, &mut source)?;
    drop(source);
    let mut facts = media::facts::of_path(path)?;
    for other in &sources[1..] {
        let named = |e: media::Error| Error::Output(format!("{}: {e}", media::show::path(other)));
        let mut source = open(other)?;
        let head = container::probe_bytes(&mut source).map_err(named)?;
        if still.is_some() || still::recognise(&head, &mut source).map_err(named)?.is_some() {
            return Err(Error::Output("pictures by themselves are not joined: films and sound are".into()));
        }
        facts.duration = match (facts.duration, media::facts::of_path(other).map_err(named)?.duration) {
            (Some(a), Some(b)) => Some(a.and(b)),
            _ => None,
        };
    }
    let mut planned = Planned {
        sources: sources.to_vec(),
        facts,
        tracks: Vec::new(),
        plan: Plan::default(),
        each: Vec::new(),
        still,
    };
    if still.is_some() {
        for (n, p) in presets.iter().enumerate() {
            let end = match recipe(p) {
                Ok(r) if r.still.is_some() => Ok(n),
                Ok(_) => Err("the preset makes no stills, and the file is one picture".into()),
                Err(e) => Err(e.to_string()),
            };
            planned.each.push((p.clone(), end));
        }
        return Ok(planned);
    }
    planned.tracks = demux(sources)?.tracks().to_vec();
    let item = item_of(path);
    // What is not planned has no place among the plan's outputs.
    let usable = |p: &Preset| match recipe(p) {
        Ok(r) if sources.len() > 1 && r.copies() => Err(Error::Output(pieces::NOT_COPIED.into())),
        found => found.cloned(),
    };
    let filled = |p: &Arc<Preset>| {
        let mut recipe = usable(p).ok()?;
        let subject = Subject { facts: &planned.facts, item: &item, preset: &p.name, rule: "" };
        recipe.texts().for_each(|t| *t = naming::fill_text(t, &subject));
        recipe.needed().for_each(|n| drop(crate::recipe::read_needed(n)));
        Some(recipe)
    };
    let mut good: Vec<Recipe> = presets.iter().filter_map(filled).collect();
    // Captions of one file tell nothing of several.
    if let Some((name, bytes)) = captions_of(path).filter(|_| sources.len() == 1) {
        crate::recipe::put_captions(&mut good, &name, "und", &bytes);
    }
    let with_bars = |r: &Recipe| r.video.as_ref().is_some_and(|v| v.bars);
    if good.iter().any(with_bars) {
        let inside = run::bars(&mut || demux(sources), &Control::new(0))?;
        let videos = good.iter_mut().filter_map(|r| r.video.as_mut());
        videos.filter(|v| v.bars).for_each(|v| v.crop = inside);
    }
    let (plan, ends) = plan::plan_each(&planned.tracks, &good);
    planned.plan = plan;
    let mut ends = ends.into_iter();
    for p in presets {
        let end = match usable(p) {
            Ok(_) => ends.next().unwrap_or(Ok(0)).map_err(|e| plain(&e)),
            Err(e) => Err(e.to_string()),
        };
        planned.each.push((p.clone(), end));
    }
    Ok(planned)
}

/// Captions beside a file: of its name with another ending.
fn captions_of(path: &Path) -> Option<(String, Vec<u8>)> {
    const MOST: u64 = 4_000_000;
    ["srt", "vtt", "ttml", "dfxp"].iter().find_map(|ending| {
        let beside = path.with_extension(ending);
        let small = beside.metadata().ok().filter(|m| m.is_file() && m.len() <= MOST);
        small?;
        let name = beside.file_name()?.to_string_lossy().into_owned();
        Some((name, std::fs::read(&beside).ok()?))
    })
}

/// As a file that arrives is, without a watch.
fn item_of(path: &Path) -> Item<'_> {
    Item::new("", Path::new(path.file_name().unwrap_or_default()), clock::now(), 0)
}

/// The message without its class where that is "not supported".
fn plain(e: &media::Error) -> String {
    match e {
        media::Error::Unsupported(fault) => fault.to_string(),
        e => e.to_string(),
    }
}

impl Planned {
    /// For people: what is decoded.
    pub fn decoded(&self) -> Vec<String> {
        decoded(&self.plan, &self.tracks)
    }

    /// For people: what the output of a preset goes through.
    pub fn told(&self, output: usize) -> Option<Told> {
        self.plan.told(output)
    }

    /// Outputs that will be made, with the preset of each.
    pub fn outputs(&self) -> Vec<Arc<Preset>> {
        self.each.iter().filter(|(_, end)| end.is_ok()).map(|(p, _)| p.clone()).collect()
    }

    /// Makes all in one pass. `control` has one place for each of [`Planned::outputs`].
    pub fn run(self, to: &Path, name: &Template, control: &Control) -> Result<Vec<Converted>> {
        let mut made = self.make(to, control)?;
        for (_, end) in &mut made.outputs {
            if let Ok((staged, _)) = end
                && let Err(e) = sync(staged.path())
            {
                *end = Err(e);
            }
        }
        Ok(made.publish(to, name))
    }

    /// The same as far as to where outputs are read back; they have no names yet, and are not on the disk for certain.
    pub fn make(mut self, to: &Path, control: &Control) -> Result<Unpublished> {
        std::fs::create_dir_all(to).map_err(Error::path("cannot make the folder", to))?;
        let presets = self.outputs();
        let staged = presets.iter().enumerate().map(|(n, _)| {
            let is_folder = self.plan.outputs.get(n).is_some_and(|o| o.is_folder());
            Staged::begin(to, is_folder)
        });
        let staged: Vec<Staged> = staged.collect::<Result<_>>()?;
        let made: Vec<Result<Made>> = match self.still {
            Some(format) => self.stills(format, &presets, &staged, control)?,
            None => self.films(&staged, control)?,
        };
        let end = |((preset, staged), made): ((Arc<Preset>, Staged), Result<Made>)| {
            let end = made.and_then(|made| {
                reads_back(staged.path(), &made, &Default::default())?;
                Ok((staged, made))
            });
            (preset, end)
        };
        let outputs = presets.into_iter().zip(staged).zip(made).map(end).collect();
        Ok(Unpublished { planned: self, outputs })
    }

    fn films(&mut self, staged: &[Staged], control: &Control) -> Result<Vec<Result<Made>>> {
        if staged.is_empty() {
            return Ok(Vec::new());
        }
        run::measure(&mut || demux(&self.sources), &mut self.plan, control)?;
        run::look_ahead(&mut || demux(&self.sources), &mut self.plan, control)?;
        let mut demux = demux(&self.sources)?;
        let targets = staged.iter().map(Staged::target).collect::<Result<Vec<_>>>()?;
        let made = run::run(demux.as_mut(), &self.plan, targets, control)?;
        Ok(made.into_iter().map(|m| m.map_err(Error::from)).collect())
    }

    fn stills(
        &self,
        format: &'static still::StillFormat,
        presets: &[Arc<Preset>],
        staged: &[Staged],
        control: &Control,
    ) -> Result<Vec<Result<Made>>> {
        if presets.is_empty() {
            return Ok(Vec::new());
        }
        let wanted: Vec<_> =
            presets.iter().filter_map(|p| Some(recipe(p).ok()?.still.as_ref()?.fit)).collect();
        let picture = still::decode_for(format, &mut open(&self.sources[0])?, &wanted)?;
        let one = |p: &Arc<Preset>, staged: &Staged| -> Result<Made> {
            if control.stopping() {
                return Err(Error::Stopped);
            }
            let Some(s) = &recipe(p)?.still else { return Err(Error::Output("no still".into())) };
            let mut sink = staged.target()?.file()?;
            let size = still::convert_with(&picture, s.fit, (s.format, s.alpha), &mut sink)?;
            Ok(Made { size: Some(size), frames: 1, ..Made::default() })
        };
        Ok(presets.iter().zip(staged).map(|(p, s)| one(p, s)).collect())
    }

    /// Under the wanted name, or a numbered one; never over anything.
    fn publish(&self, to: &Path, name: &Template, preset: &Preset, mut staged: Staged) -> Result<PathBuf> {
        let item = item_of(&self.sources[0]);
        let extension = preset.parts.first().map_or("", |p| p.extension.as_str());
        let wanted = name
            .fill(&Subject { facts: &self.facts, item: &item, preset: &preset.name, rule: "" }, extension);
        if let Some(folder) = to.join(&wanted).parent() {
            std::fs::create_dir_all(folder).map_err(Error::path("cannot make the folder", folder))?;
        }
        for n in 1..MAX_TRIES {
            let path = to.join(naming::numbered(&wanted, n));
            match staged.give_name(&path)? {
                None => return Ok(path),
                Some(back) => staged = back,
            }
        }
        Err(Error::path("no free name in", to)(std::io::Error::other(wanted)))
    }
}

/// What was made of a file, before it has its names.
pub struct Unpublished {
    planned: Planned,
    outputs: Vec<(Arc<Preset>, Result<Unnamed>)>,
}

type Unnamed = (Staged, Made);

impl Unpublished {
    pub fn publish(self, to: &Path, name: &Template) -> Vec<Converted> {
        let Unpublished { planned, outputs } = self;
        let mut done = outputs.into_iter().map(|(preset, end)| {
            let end = end.and_then(|(staged, made)| Ok((planned.publish(to, name, &preset, staged)?, made)));
            Converted { preset, end }
        });
        let mut all = Vec::new();
        for (preset, end) in &planned.each {
            match end {
                Ok(_) => all.extend(done.next()),
                Err(why) => {
                    all.push(Converted { preset: preset.clone(), end: Err(Error::Output(why.clone())) });
                }
            }
        }
        all
    }
}

/// Many small files at once: all that was written on the disk of a folder is on it then.
pub fn sync_all(folder: &Path) -> Result<()> {
    let dir = File::open(folder).map_err(Error::path("cannot open the folder", folder))?;
    rustix::fs::syncfs(dir).map_err(|e| Error::path("cannot write in", folder)(e.into()))
}

/// An output that is being made, beside where it will be; it goes away by itself if nothing comes of it.
enum Staged {
    File(tempfile::NamedTempFile),
    Folder(tempfile::TempDir),
}

impl Staged {
    fn begin(to: &Path, is_folder: bool) -> Result<Staged> {
        let mut how = tempfile::Builder::new();
        let how = how.prefix(".convert");
        let begun = if is_folder {
            how.tempdir_in(to).map(Staged::Folder)
        } else {
            how.tempfile_in(to).map(Staged::File)
        };
        begun.map_err(Error::path("cannot write in", to))
    }

    fn path(&self) -> &Path {
        match self {
            Staged::File(f) => f.path(),
            Staged::Folder(d) => d.path(),
        }
    }

    fn target(&self) -> Result<Target> {
        Ok(match self {
            Staged::File(f) => {
                let file: Box<dyn Sink> =
                    Box::new(f.reopen().map_err(Error::path("cannot write", f.path()))?);
                file.into()
            }
            Staged::Folder(d) => Target::Folder(Box::new(d.path().to_owned())),
        })
    }

    /// Itself again, if the name is taken.
    fn give_name(self, path: &Path) -> Result<Option<Staged>> {
        let mode = if matches!(self, Staged::File(_)) { 0o644 } else { 0o755 };
        let mode = std::os::unix::fs::PermissionsExt::from_mode(mode);
        // Not every disk keeps rights.
        let _ = std::fs::set_permissions(self.path(), mode);
        if !rename_if_free(self.path(), path).map_err(Error::path("cannot write", path))? {
            return Ok(Some(self));
        }
        // It is not there any more under the name that would be taken away.
        match self {
            Staged::File(f) => _ = f.into_temp_path().keep(),
            Staged::Folder(d) => _ = d.keep(),
        }
        Ok(None)
    }
}
