//! What was made is read back before anything else is done with it.

use crate::error::{Error, Result};
use media::container::{self, Source};
use media::run::Made;
use media::{check, still};
use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::sync::atomic::AtomicU64;

/// The files of an output, by their names inside it; the one of a single file has none.
pub fn files_of(path: &Path) -> Result<Vec<(String, PathBuf)>> {
    let wrong = Error::path("cannot read", path);
    if !path.is_dir() {
        return Ok(vec![(String::new(), path.to_owned())]);
    }
    let mut all = Vec::new();
    for entry in std::fs::read_dir(path).map_err(wrong)? {
        let entry = entry.map_err(Error::path("cannot read", path))?;
        let name = entry.file_name().to_string_lossy().into_owned();
        all.push((name, entry.path()));
    }
    all.sort();
    Ok(all)
}

/// Whether what was written is whole: every file of it. `read` counts bytes as it goes on.
pub fn reads_back(path: &Path, made: &Made, read: &AtomicU64) -> Result<()> {
    if !path.is_dir() {
        return file_reads_back(path, Some(made), read);
    }
    let mut good = 0;
    for (name, file) in files_of(path)? {
        let film = made.inside.iter().find(|(n, _)| *n == name).map(|(_, made)| made);
        if film.is_some() || is_picture(&name) {
            file_reads_back(&file, film, read)?;
            good += 1;
        }
    }
    if good == 0 || made.inside.iter().any(|(name, _)| !path.join(name).exists()) {
        return Err(Error::Output("what was made does not read back: it lacks files".into()));
    }
    Ok(())
}

fn is_picture(name: &str) -> bool {
    let endings = still::StillCodec::ALL.map(|(_, codec)| codec(1).extension());
    name.rsplit_once('.').is_some_and(|(_, ending)| endings.contains(&ending))
}

/// Every file of an output that is pictures or sound decodes from its beginning to its end.
pub fn is_whole(path: &Path, told: impl Fn(u64) + Clone + Send + 'static) -> Result<()> {
    for (_, path) in files_of(path)? {
        let file = File::open(&path).map_err(Error::path("cannot read", &path))?;
        match media::deep::of(Box::new(Telling { file, told: told.clone() })) {
            Ok(deep) => match deep.spoilt() {
                None => (),
                Some(why) => return Err(Error::Output(format!("what was made does not decode: {why}"))),
            },
            // Lists and indexes are none of these.
            Err(media::Error::Unsupported(_)) => (),
            Err(e) => return Err(Error::Output(format!("what was made does not decode: {e}"))),
        }
    }
    Ok(())
}

/// Tells how much of a file is read.
struct Telling<F> {
    file: File,
    told: F,
}

impl<F: Fn(u64)> Read for Telling<F> {
    fn read(&mut self, block: &mut [u8]) -> std::io::Result<usize> {
        let n = self.file.read(block)?;
        (self.told)(n as u64);
        Ok(n)
    }
}

impl<F> Seek for Telling<F> {
    fn seek(&mut self, to: SeekFrom) -> std::io::Result<u64> {
        self.file.seek(to)
    }
}

/// A picture of several has its own size, which is not that of the whole.
fn file_reads_back(path: &Path, made: Option<&Made>, read: &AtomicU64) -> Result<()> {
    let mut file: Box<dyn Source> = Box::new(File::open(path).map_err(Error::path("cannot read", path))?);
    let head = container::probe_bytes(&mut file)?;
    let wrong = |e: String| Error::Output(format!("what was made does not read back: {e}"));
    match (still::recognise(&head, &mut file)?, made) {
        (Some(format), made) => {
            let held = still::decode(format, &mut file).map_err(|e| wrong(e.to_string()))?;
            if made.is_some_and(|m| Some((held.width(), held.height())) != m.size) {
                return Err(wrong(format!("it is {}x{}", held.width(), held.height())));
            }
            Ok(())
        }
        (None, Some(made)) => check::output(file, made, read).map(|_| ()).map_err(|e| wrong(e.to_string())),
        (None, None) => Err(wrong(format!("{} is no picture", media::show::path(path)))),
    }
}
