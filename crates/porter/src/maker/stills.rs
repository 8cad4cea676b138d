//! Stills among a job's outputs: the picture is decoded once for all of them.

use super::child::sync;
use super::{End, Ordered};
use crate::error::{Error, Result};
use media::container::Source;
use media::run::Made;
use media::still;
use std::fs::File;

pub fn make(
    format: &'static still::StillFormat,
    source: &mut dyn Source,
    outputs: &[Ordered],
    mut made_one: impl FnMut(u64),
) -> Result<Vec<(u32, End)>> {
    let wanted: Vec<(u32, u32)> =
        outputs.iter().filter_map(|o| o.recipe.media.still.as_ref()).map(|s| s.fit).collect();
    let picture = match wanted.is_empty() {
        false => Some(still::decode_for(format, source, &wanted)?),
        true => None,
    };
    let mut ends = Vec::new();
    for (n, o) in outputs.iter().enumerate() {
        let end = match (&picture, &o.recipe.media.still) {
            (Some(picture), Some(recipe)) => super::child::end_of(o, one(picture, recipe, o)),
            _ => End::NotApplicable("the preset makes no stills, and the file is one picture".into()),
        };
        ends.push((o.number, end));
        made_one(n as u64 + 1);
    }
    Ok(ends)
}

fn one(picture: &still::Decoded, recipe: &media::recipe::StillRecipe, o: &Ordered) -> Result<Made> {
    let mut file = File::create(&o.path).map_err(Error::path("cannot write", &o.path))?;
    let size = still::convert_with(picture, recipe.fit, (recipe.format, recipe.alpha), &mut file)?;
    sync(&o.path)?;
    let made = Made { size: Some(size), frames: 1, ..Made::default() };
    super::made::reads_back(&o.path, &made, &Default::default())?;
    Ok(made)
}
