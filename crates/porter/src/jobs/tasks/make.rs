//! All outputs of pictures and sound, in one pass, in a child.

use super::original::{self, Source};
use super::{Desk, MAX_TRIES, Next, Worker, go_on};
use crate::clock;
use crate::error::{Error, Result};
use crate::estimate;
use crate::files::copy::digest_of;
use crate::files::{Dir, Watching};
use crate::jobs::room;
use crate::maker::{self, Class, End, Ordered, Outcome, Run, Work};
use crate::offload::manifest::{CHAIN, Entry, History};
use crate::offload::sums::Kind;
use crate::offload::tree::MANIFESTS;
use crate::progress::{Progress, Stage, Unit};
use crate::store::{Change, JobId, MadeFile, NotMade, Output, OutputEnd, Sql, Task, Tx};
use media::facts::Facts;
use std::path::{Path, PathBuf};
use words::Transcript;

pub fn make(d: &Desk<'_>, task: &Task) -> Result<Next> {
    let outputs = d.porter.store.read(|v| v.outputs(d.job.id))?;
    let folder = d.work_folder()?;
    let all = outputs.iter().filter(|o| !o.heard && o.end == OutputEnd::Open);
    let (originals, open): (Vec<&Output>, Vec<&Output>) = all.partition(|o| o.is_original());
    if !originals.is_empty() {
        if let Some(next) = as_they_are(d, &originals)? {
            return Ok(next);
        }
        if open.is_empty() {
            return Ok(Next::Moved);
        }
    }
    if d.job.tree().is_some() && !d.watch.joins {
        let why =
            "a folder that is taken whole goes on as it is, or in a package: its files are not looked into";
        let ends: Vec<_> = open.iter().map(|o| (o.number, End::NotApplicable(why.into()))).collect();
        d.record(&ends)?;
        return Ok(Next::Moved);
    }
    d.find_room(&folder, &open)?;
    let open = d.ordered(&folder, open.into_iter())?;
    // What breaks a child is one output's fault, or the source's: each by itself tells which.
    if task.tries > 0 && open.len() > 1 {
        for o in open {
            match d.in_child(Work::Make(vec![o.clone()]), &folder)? {
                Made::Gone(next) => return Ok(next),
                Made::Did(Outcome::Ended(ends, _)) => d.record(&ends)?,
                Made::Did(Outcome::Failed { class, message }) => {
                    return failed(d, task, class, &message, &[o.number]);
                }
                Made::Did(Outcome::Broke(why)) => {
                    d.record(&[(o.number, End::Failed { class: Class::Limit, why })])?
                }
                Made::Did(_) => return Err(unexpected()),
            }
        }
        return Ok(Next::Moved);
    }
    let numbers: Vec<u32> = open.iter().map(|o| o.number).collect();
    match d.in_child(Work::Make(open), &folder)? {
        Made::Gone(next) => Ok(next),
        Made::Did(Outcome::Ended(ends, _)) => {
            d.record(&ends)?;
            Ok(Next::Moved)
        }
        Made::Did(Outcome::Failed { class, message }) => failed(d, task, class, &message, &numbers),
        Made::Did(Outcome::Broke(why)) => d.child_broke(&numbers, why),
        Made::Did(_) => Err(unexpected()),
    }
}

/// Outputs that are the original: only what it is has to be known.
fn as_they_are(d: &Desk<'_>, outputs: &[&Output]) -> Result<Option<Next>> {
    let look = || original::source(d);
    let found = match look()? {
        Source::Same(found) => found,
        Source::Changed => return d.withdraw(original::CHANGED).map(Some),
        Source::Gone => return d.withdraw(original::GONE).map(Some),
    };
    let of = Some(d.job.seen.size);
    d.worker.tell(Progress { stage: Stage::Looking, output: None, done: 0, of, unit: Unit::Bytes });
    let files = found.files(d.worker as &Worker)?;
    if !matches!(look()?, Source::Same(_)) {
        return d.withdraw(original::CHANGED).map(Some);
    }
    let mut ends = Vec::new();
    for o in outputs {
        let files = match o.recipe.as_ref().ok().and_then(|r| r.beside.as_ref()) {
            None if o.recipe.as_ref().is_ok_and(|r| r.manifest) && d.job.tree().is_some() => {
                d.with_manifest(o, files.clone(), &found.path())?
            }
            None => files.clone(),
            Some(name) => match d.beside_file(name)? {
                Some(file) => vec![file],
                None => {
                    let why = "it changed or went away after the file that it belongs to arrived".to_owned();
                    ends.push((o.number, End::Failed { class: Class::Damaged, why }));
                    continue;
                }
            },
        };
        ends.push((o.number, End::Made { files, made: Default::default() }));
    }
    d.record(&ends)?;
    Ok(None)
}

pub fn unexpected() -> Error {
    Error::Maker("the child did something else than was ordered".into())
}

/// Nothing of these outputs could be made.
pub fn failed(d: &Desk<'_>, task: &Task, class: Class, why: &str, outputs: &[u32]) -> Result<Next> {
    match (class, &task.cause) {
        (Class::System, _) => Err(Error::Away(why.to_owned())),
        (Class::Stopped, _) => Err(Error::Stopped),
        // It may have a slow writer.
        (Class::Damaged, None) => d.damaged(None, why),
        _ => d.not_made(outputs, why),
    }
}

/// What came of asking a child.
pub enum Made {
    Did(Outcome),
    /// The source is not what it was; the job is over.
    Gone(Next),
}

impl Desk<'_> {
    pub fn made_file(&self, folder: &Path, output: &Output) -> PathBuf {
        if output.is_original() {
            let at = self.job.taken_to.clone().unwrap_or_else(|| self.watch.folder.join(&self.job.path));
            if let Some(name) = output.recipe.as_ref().ok().and_then(|r| r.beside.as_ref()) {
                return at.with_file_name(name);
            }
            return if self.job.frames().is_some() { at.parent().unwrap_or(&at).to_owned() } else { at };
        }
        folder.join(format!("output-{}.{}", output.number, output.extension))
    }

    /// Where files of ours lie that go with an original.
    pub fn ours(&self, output: &Output) -> PathBuf {
        self.porter.work_folder(self.job.id).join(format!("output-{}.ours", output.number))
    }

    /// The files of a folder with a manifest of them: the next generation of the history that it came with.
    fn with_manifest(
        &self,
        output: &Output,
        mut files: Vec<MadeFile>,
        source: &Path,
    ) -> Result<Vec<MadeFile>> {
        let ours = self.ours(output);
        let fail = |e| Error::path("cannot write a manifest in", &ours)(e);
        let dir = Dir::open(source).map_err(Error::path("cannot open the folder", source))?;
        let before = History::of(&dir).map_err(Error::path("cannot read the manifests of", source))?;
        let is_listed =
            |f: &&MadeFile| !Path::new(&f.inside).components().any(|c| c.as_os_str() == MANIFESTS);
        let entry = |f: &MadeFile| Entry {
            path: f.inside.clone(),
            size: Some(f.bytes),
            modified: None,
            sums: vec![(Kind::Xxh128, f.digest.rsplit(':').next().unwrap_or_default().to_owned())],
        };
        let entries: Vec<Entry> = files.iter().filter(is_listed).map(entry).collect();
        let title = self.job.path.file_name().map_or("files".into(), |n| n.to_string_lossy().into_owned());
        let made = before.next(&title, &entries, "transfer", clock::now());
        let _ = std::fs::remove_dir_all(&ours);
        std::fs::create_dir_all(ours.join(MANIFESTS)).map_err(fail)?;
        for (name, text) in [(&made.name, &made.list), (&CHAIN.to_owned(), &made.chain)] {
            let inside = format!("{MANIFESTS}/{name}");
            std::fs::write(ours.join(&inside), text).map_err(fail)?;
            let path = ours.join(&inside);
            let mut file = std::fs::File::open(&path).map_err(fail)?;
            let digest = digest_of(&mut file, &path, false, self.worker as &Worker)?;
            // The chain goes on from the one that came with the folder.
            files.retain(|f| f.inside != inside);
            files.push(MadeFile { inside, bytes: text.len() as u64, digest, ours: true });
        }
        Ok(files)
    }

    /// What is expected to need more disk than there is waits until there is more, rather than fill it.
    fn find_room(&self, folder: &Path, outputs: &[&Output]) -> Result<()> {
        let store = &self.porter.store;
        let Some(free) = room::disk(folder) else { return Ok(()) };
        if store.read(|v| v.is_light(self.job.id))? {
            return Ok(());
        }
        let facts = store.read(|v| v.facts(self.job.id))?;
        let facts: Option<Facts> = facts.and_then(|f| serde_json::from_value(f).ok());
        let seconds = facts.and_then(|f| f.duration).map_or(0.0, |d| d.seconds);
        let mut wanted = 0;
        for o in outputs {
            let Ok(recipe) = &o.recipe else { continue };
            wanted += match estimate::stated_bytes(recipe, seconds) {
                Some(bytes) => bytes,
                None => {
                    let past = estimate::past_bytes(store, &o.preset, &o.preset_version)?;
                    estimate::of_length(past, seconds).unwrap_or(0.0) as u64
                }
            };
        }
        if wanted <= free {
            return Ok(());
        }
        let (wanted, free) = (wanted.div_ceil(1_000_000), free / 1_000_000);
        let disk = media::show::path(&self.house.state);
        Err(Error::Away(format!(
            "about {wanted} MB are to be made, and the disk of {disk} has {free} MB free; it goes on when there is room"
        )))
    }

    /// Outputs as an order has them.
    pub fn ordered<'o>(
        &self,
        folder: &Path,
        outputs: impl Iterator<Item = &'o Output>,
    ) -> Result<Vec<Ordered>> {
        outputs
            .map(|o| {
                let mut recipe = o.recipe.clone().map_err(|why| {
                    let start = format!("output {} (preset \"{}\"): {why}", o.number + 1, o.preset);
                    Error::Unreadable(format!(
                        "{start}; use the program that planned it, or move the file out and in again"
                    ))
                })?;
                recipe.media.needed().try_for_each(crate::recipe::read_needed)?;
                recipe.media.comment = Some(self.comment()).filter(|_| !recipe.unmarked);
                Ok(Ordered { number: o.number, path: self.made_file(folder, o), recipe })
            })
            .collect()
    }

    /// What a file says in its own metadata, for whoever finds it: where it comes from.
    fn comment(&self) -> String {
        let name = self.job.known_as();
        let name = name.file_name().unwrap_or_default().to_string_lossy();
        let words = format!("{}, job {}, made of {name}", self.house.name, self.job.id);
        words.chars().filter(|c| !c.is_control()).take(400).collect()
    }

    /// Has a child work on the source, which must be what arrived before and after.
    pub fn in_child(&self, work: Work, folder: &Path) -> Result<Made> {
        let source = match original::source(self)? {
            Source::Same(at) => at,
            Source::Changed => return Ok(Made::Gone(self.withdraw(original::CHANGED)?)),
            Source::Gone => return Ok(Made::Gone(self.withdraw(original::GONE)?)),
        };
        let mut order = self.order(work, folder);
        order.secrets = secrets(&order.work)?;
        let from_captions =
            |o: &Ordered| o.recipe.transcript.as_ref().is_some_and(|t| t.hearing.from_captions);
        let burnt = |o: &Ordered| crate::recipe::takes_captions(&o.recipe.media);
        let wanted = match &order.work {
            Work::Hear { outputs, .. } => outputs.iter().any(from_captions),
            Work::Make(outputs) => outputs.iter().any(burnt),
            Work::Look | Work::Try => false,
        };
        if wanted {
            order.captions = self.captions_beside()?;
        }
        if let Some(why) = self.lost_sound()? {
            return Ok(Made::Gone(self.turn_away(&why)?));
        }
        // Who looked at it has it open, and the same folder.
        let child = match &order.work {
            Work::Make(_) => self.porter.stayed.take(self.job.id),
            _ => None,
        };
        let (source, order) = match child {
            Some(_) => (None, order),
            None => self.with_source(&source, order).map(|(file, order)| (Some(file), order))?,
        };
        let (program, nursery) = (&self.porter.program, Some(&self.porter.nursery));
        let run = Run { program, nursery, limits: &self.house.maker, source, order };
        let (outcome, _) = maker::run_on(run, child, |p| self.worker.tell(p), || self.worker.stopping())?;
        if self.worker.stopping() && matches!(outcome, Outcome::Broke(_)) {
            return Err(Error::Stopped);
        }
        crate::stops::here("made, not recorded");
        // What was made of a file that changed meanwhile is of neither.
        if matches!(outcome, Outcome::Ended(..))
            && let Some(why) = self.lost_sound()?
        {
            return Ok(Made::Gone(self.turn_away(&why)?));
        }
        if matches!(outcome, Outcome::Ended(..)) && !matches!(original::source(self)?, Source::Same(_)) {
            return Ok(Made::Gone(self.withdraw(original::CHANGED)?));
        }
        Ok(Made::Did(outcome))
    }

    /// Records what became of outputs; those that wait for a service have no end yet.
    pub fn record(&self, ends: &[(u32, End)]) -> Result<()> {
        let job = self.job.id;
        self.porter
            .store
            .change(|tx| {
                let presets = presets(tx, job)?;
                for (output, end) in ends {
                    let (output, preset) = (*output, presets(*output));
                    if let End::Made { files, made } = end {
                        let (files, made) = (files.clone(), made.clone());
                        tx.put(Change::Made { job, output, preset, files, made })?;
                    } else if let Some((end, why)) = end.not_made() {
                        tx.put(Change::NotMade { job, output, preset, end, why: why.to_owned() })?;
                    }
                }
                go_on(tx, job)
            })
            .map(|_| ())
    }

    /// Keeps what was heard for the search, and then records.
    pub fn record_heard(&self, ends: &[(u32, End)], heard: &[Transcript]) -> Result<()> {
        if !heard.is_empty() {
            self.porter.keep_said(self.job.id, &self.watch.name, heard)?;
        }
        self.record(ends)
    }

    /// A child broke that made these outputs: once may be chance.
    pub fn child_broke(&self, outputs: &[u32], why: String) -> Result<Next> {
        if self.broke(&why)? >= MAX_TRIES {
            return self.not_made(outputs, &why);
        }
        Ok(Next::Moved)
    }

    fn not_made(&self, outputs: &[u32], why: &str) -> Result<Next> {
        let job = self.job.id;
        self.porter.store.change(|tx| {
            let presets = presets(tx, job)?;
            for &output in outputs {
                let (end, why, preset) = (NotMade::Failed, why.to_owned(), presets(output));
                tx.put(Change::NotMade { job, output, preset, end, why })?;
            }
            go_on(tx, job)
        })?;
        Ok(Next::Moved)
    }
}

/// The names of the presets of a job's outputs.
fn presets(tx: &Tx<'_>, job: JobId) -> Sql<impl Fn(u32) -> String + use<>> {
    let outputs = tx.outputs(job)?;
    Ok(move |n| outputs.iter().find(|o| o.number == n).map_or_else(String::new, |o| o.preset.clone()))
}

/// Secrets of the services that an order asks.
fn secrets(work: &Work) -> Result<Vec<(crate::services::Secret, crate::services::Hidden)>> {
    let Work::Hear { outputs, .. } = work else { return Ok(Vec::new()) };
    let recipes = outputs.iter().filter_map(|o| o.recipe.transcript.as_ref());
    let mut all = Vec::new();
    for service in recipes.flat_map(|t| t.hearing.service.iter().chain(&t.summary)) {
        for secret in service.secrets() {
            // One that cannot be read is told by the service's own try, with its name.
            if let Ok(hidden) = secret.read() {
                all.push((secret.clone(), hidden));
            }
        }
    }
    Ok(all)
}
