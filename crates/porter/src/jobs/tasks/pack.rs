//! Packages of what was made: when all else is.

use super::{Desk, MAX_TRIES, Next, Worker};
use crate::error::{Error, Result};
use crate::files::copy::digest_of;
use crate::maker::{Class, End};
use crate::package::{self, Part};
use crate::progress::{Progress, Stage, Unit};
use crate::store::{MadeFile, NotMade, Output, OutputEnd};
use media::run::Made;

/// Makes one; the others come in turns of their own.
pub fn pack(d: &Desk<'_>, all: &[Output], output: &Output, tries: u32) -> Result<Next> {
    let number = output.number;
    let (parts, notes) = match parts(d, all, output)? {
        Ok(found) => found,
        Err(why) => {
            d.record(&[(number, End::Failed { class: Class::Damaged, why })])?;
            return Ok(Next::Moved);
        }
    };
    let folder = d.work_folder()?;
    let at = d.made_file(&folder, output);
    let bytes: u64 = parts.iter().map(|p| p.bytes).sum();
    let (unit, of) = (Unit::Bytes, Some(bytes * 2));
    d.worker.tell(Progress { stage: Stage::Packing, output: Some(number), done: 0, of, unit });
    let package = output.recipe.as_ref().ok().and_then(|r| r.package.as_ref());
    let Some(package) = package else { return Err(Error::Unreadable("a package without a form".into())) };
    match package::write(package.form, package.sums, &at, &parts, d.worker as &Worker) {
        Ok(()) => (),
        Err(Error::Stopped) => return Err(Error::Stopped),
        // What is full or away is waited for; what reads back wrong is tried again.
        Err(e) if e.cause().is_some() && tries < MAX_TRIES => return Err(e),
        Err(e) => {
            d.record(&[(number, End::Failed { class: Class::Limit, why: e.to_string() })])?;
            return Ok(Next::Moved);
        }
    }
    let fail = |e| Error::path("cannot read", &at)(e);
    let mut file = std::fs::File::open(&at).map_err(fail)?;
    let digest = digest_of(&mut file, &at, false, d.worker as &Worker)?;
    let bytes = file.metadata().map_err(fail)?.len();
    let files = vec![MadeFile { inside: String::new(), bytes, digest, ours: false }];
    d.record(&[(number, End::Made { files, made: Made { notes, ..Made::default() } })])?;
    Ok(Next::Moved)
}

type Found = (Vec<Part>, Vec<String>);

/// The files that go in, and what is not there; or why there is no package.
fn parts(d: &Desk<'_>, all: &[Output], output: &Output) -> Result<std::result::Result<Found, String>> {
    let (mut parts, mut notes) = (Vec::new(), Vec::new());
    let folder = d.work_folder()?;
    let members = output.recipe.as_ref().ok().and_then(|r| r.package.as_ref()).map(|p| p.members.as_slice());
    for (number, name) in members.unwrap_or_default() {
        let Some(o) = all.iter().find(|o| o.number == *number) else { continue };
        match &o.end {
            OutputEnd::Open => return Ok(Err(format!("\"{}\" in it is not made", o.preset))),
            OutputEnd::NotMade { end: NotMade::Failed, why } => {
                return Ok(Err(format!("\"{}\" in it was not made: {why}", o.preset)));
            }
            OutputEnd::NotMade { end: NotMade::NotApplicable, why } => {
                notes.push(format!("without \"{}\": {why}", o.preset));
            }
            OutputEnd::Made { files, .. } => {
                let at = d.made_file(&folder, o);
                parts.extend(files.iter().map(|f| {
                    let (from, name) = match f.inside.as_str() {
                        "" => (at.clone(), name.clone()),
                        inside => (at.join(inside), format!("{name}/{inside}")),
                    };
                    Part { from, name, bytes: f.bytes, digest: f.digest.clone() }
                }));
            }
        }
    }
    match parts.is_empty() {
        true => Ok(Err("nothing of what goes into it can be made of this file".into())),
        false => Ok(Ok((parts, notes))),
    }
}
