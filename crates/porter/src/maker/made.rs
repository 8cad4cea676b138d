//! What was made is read back before anything else is done with it.

use crate::error::{Error, Result};
use media::container::{self, Source};
use media::run::Made;
use media::{check, still};
use std::fs::File;
use std::path::Path;
use std::sync::atomic::AtomicU64;

/// `read` counts bytes as it goes on.
pub fn reads_back(path: &Path, made: &Made, read: &AtomicU64) -> Result<()> {
    let mut file: Box<dyn Source> = Box::new(File::open(path).map_err(Error::path("cannot read", path))?);
    let head = container::probe_bytes(&mut file)?;
    let wrong = |e: String| Error::Output(format!("what was made does not read back: {e}"));
    match still::recognise(&head, &mut file)? {
        Some(format) => {
            let held = still::decode(format, &mut file).map_err(|e| wrong(e.to_string()))?;
            if Some((held.width(), held.height())) != made.size {
                return Err(wrong(format!("it is {}x{}", held.width(), held.height())));
            }
            Ok(())
        }
        None => check::output(file, made, read).map(|_| ()).map_err(|e| wrong(e.to_string())),
    }
}
