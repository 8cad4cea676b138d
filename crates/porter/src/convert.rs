//! Files made by presets without a house: planned, made in one pass, read back, and put under a name that is free.

use crate::clock;
use crate::config::Preset;
use crate::error::{Error, Result};
use crate::maker::made::reads_back;
use crate::naming::Template;
use crate::route::Item;
use crate::route::fields::Subject;
use media::container::wrap::Sink;
use media::container::{self, Demux, Source, Track};
use media::facts::Facts;
use media::plan::words::{Told, decoded};
use media::plan::{self, Plan};
use media::recipe::{Recipe, StillChoice};
use media::run::{self, Control, Made};
use media::still::{self, StillCodec};
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Most names that are tried for one output.
const MAX_TRIES: u32 = 100_000;
/// What an output is called, unless it is said.
pub const USUAL_NAME: &str = "{stem}_{preset}";

/// A file and what is to be made of it.
pub struct Planned {
    pub source: PathBuf,
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

/// Looks at a file and plans; nothing is made.
pub fn plan(path: &Path, presets: &[Arc<Preset>]) -> Result<Planned> {
    let mut source = open(path)?;
    let head = container::probe_bytes(&mut source)?;
    let still = still::recognise(&head, &mut source)?;
    let facts = media::facts::of(source)?;
    let mut planned = Planned {
        source: path.to_owned(),
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
    let demux = container::open(open(path)?)?;
    planned.tracks = demux.tracks().to_vec();
    let good: Vec<Recipe> = presets.iter().filter_map(|p| recipe(p).ok().cloned()).collect();
    let (plan, ends) = plan::plan_each(&planned.tracks, &good);
    planned.plan = plan;
    let mut ends = ends.into_iter();
    for p in presets {
        let end = match recipe(p) {
            Ok(_) => ends.next().unwrap_or(Ok(0)).map_err(|e| plain(&e)),
            Err(e) => Err(e.to_string()),
        };
        planned.each.push((p.clone(), end));
    }
    Ok(planned)
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
    pub fn run(mut self, to: &Path, name: &Template, control: &Control) -> Result<Vec<Converted>> {
        std::fs::create_dir_all(to).map_err(Error::path("cannot make the folder", to))?;
        let presets = self.outputs();
        let temporary = |_: &Arc<Preset>| {
            tempfile::Builder::new()
                .prefix(".convert")
                .tempfile_in(to)
                .map_err(Error::path("cannot write in", to))
        };
        let files: Vec<tempfile::NamedTempFile> = presets.iter().map(temporary).collect::<Result<_>>()?;
        let made: Vec<Result<Made>> = match self.still {
            Some(format) => self.stills(format, &presets, &files, control)?,
            None => self.films(&files, control)?,
        };
        let mut done = presets.into_iter().zip(files).zip(made).map(|((preset, file), made)| {
            let end = made.and_then(|made| {
                file.as_file().sync_all().map_err(Error::path("cannot write", file.path()))?;
                reads_back(file.path(), &made, &Default::default())?;
                Ok((self.publish(to, name, &preset, file)?, made))
            });
            Converted { preset, end }
        });
        let mut all = Vec::new();
        for (preset, end) in &self.each {
            match end {
                Ok(_) => all.extend(done.next()),
                Err(why) => {
                    all.push(Converted { preset: preset.clone(), end: Err(Error::Output(why.clone())) });
                }
            }
        }
        Ok(all)
    }

    fn films(&mut self, files: &[tempfile::NamedTempFile], control: &Control) -> Result<Vec<Result<Made>>> {
        if files.is_empty() {
            return Ok(Vec::new());
        }
        let source = self.source.clone();
        let again = || File::open(&source).map(|f| Box::new(f) as Box<dyn Source>);
        run::measure(&mut || container::open(again()?), &mut self.plan, control)?;
        let mut demux: Box<dyn Demux> = container::open(open(&self.source)?)?;
        let sinks = files.iter().map(|f| {
            f.reopen().map(|f| Box::new(f) as Box<dyn Sink>).map_err(Error::path("cannot write", f.path()))
        });
        let made = run::run(demux.as_mut(), &self.plan, sinks.collect::<Result<_>>()?, control)?;
        Ok(made.into_iter().map(|m| m.map_err(Error::from)).collect())
    }

    fn stills(
        &self,
        format: &'static still::StillFormat,
        presets: &[Arc<Preset>],
        files: &[tempfile::NamedTempFile],
        control: &Control,
    ) -> Result<Vec<Result<Made>>> {
        if presets.is_empty() {
            return Ok(Vec::new());
        }
        let picture = still::decode(format, &mut open(&self.source)?)?;
        let one = |p: &Arc<Preset>, file: &tempfile::NamedTempFile| -> Result<Made> {
            if control.stopping() {
                return Err(Error::Stopped);
            }
            let Some(s) = &recipe(p)?.still else { return Err(Error::Output("no still".into())) };
            let codec = match s.format {
                StillChoice::Jpeg(q) => StillCodec::Jpeg(q),
                StillChoice::Png => StillCodec::Png,
            };
            let mut sink = file.reopen().map_err(Error::path("cannot write", file.path()))?;
            let size = still::convert(&picture, s.fit, codec, &mut sink)?;
            Ok(Made { size: Some(size), frames: 1, ..Made::default() })
        };
        Ok(presets.iter().zip(files).map(|(p, f)| one(p, f)).collect())
    }

    /// Under the wanted name, or a numbered one; never over anything.
    fn publish(
        &self,
        to: &Path,
        name: &Template,
        preset: &Preset,
        mut file: tempfile::NamedTempFile,
    ) -> Result<PathBuf> {
        let item = Item {
            watch: "",
            path: Path::new(self.source.file_name().unwrap_or_default()),
            arrived: clock::now(),
            job: 0,
        };
        let extension = preset.parts.first().map_or("", |p| p.extension.as_str());
        let wanted = name.fill(&Subject { facts: &self.facts, item: &item, preset: &preset.name }, extension);
        let stem = wanted.strip_suffix(&format!(".{extension}")).unwrap_or(&wanted);
        if let Some(folder) = to.join(&wanted).parent() {
            std::fs::create_dir_all(folder).map_err(Error::path("cannot make the folder", folder))?;
        }
        let mode = std::os::unix::fs::PermissionsExt::from_mode(0o644);
        file.as_file().set_permissions(mode).map_err(Error::path("cannot write", file.path()))?;
        for n in 1..MAX_TRIES {
            let number = if n > 1 { format!("_{n}") } else { String::new() };
            let path = to.join(format!("{stem}{number}.{extension}"));
            match file.persist_noclobber(&path) {
                Ok(_) => return Ok(path),
                Err(e) if e.error.kind() == std::io::ErrorKind::AlreadyExists => file = e.file,
                Err(e) => return Err(Error::path("cannot write", &path)(e.error)),
            }
        }
        Err(Error::path("no free name in", to)(std::io::Error::other(wanted)))
    }
}
