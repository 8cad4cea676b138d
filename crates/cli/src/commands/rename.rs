//! `rename`: files by a template, shown first, done when asked, undone by the record.

use crate::args::Rename;
use anyhow::{Result, anyhow};
use media::show;
use porter::config::House;
use porter::naming::Template;
use porter::rename;
use std::process::ExitCode;

pub fn rename(a: &Rename) -> Result<ExitCode> {
    let (house, _) = House::load_to_look(&a.house.find())?;
    if let Some(number) = a.undo {
        return undo(&house, number);
    }
    let text = a.template.as_deref().unwrap_or_default();
    let template =
        Template::parse(text).map_err(|wanted| anyhow!("the template \"{text}\" should be {wanted}"))?;
    let all = rename::plan(&template, &a.files, &a.watch)?;
    for r in &all {
        let folder = r.from.parent().unwrap_or(&r.from);
        let new = r.to.strip_prefix(folder).unwrap_or(&r.to);
        let same = if r.from == r.to { "   (as it is)" } else { "" };
        crate::say!("{} -> {}{same}", show::path(&r.from), show::path(new));
    }
    if !a.yes {
        crate::say!("nothing was renamed: add --yes to do it");
        return Ok(ExitCode::SUCCESS);
    }
    let (number, refused) = rename::rename(&house, &all)?;
    refused.iter().for_each(|why| crate::ui::errors::show(&anyhow!("not renamed: {why}")));
    let done = all.iter().filter(|r| r.from != r.to).count() - refused.len();
    crate::say!("{done} renamed; \"deft-porter rename --undo {number}\" gives the names back");
    Ok(ExitCode::from(u8::from(!refused.is_empty())))
}

fn undo(house: &House, number: Option<i64>) -> Result<ExitCode> {
    let undone = rename::undo(house, number)?;
    for r in &undone.back {
        crate::say!("{} -> {}", show::path(&r.from), show::path(&r.to));
    }
    undone.left.iter().for_each(|why| crate::ui::errors::show(&anyhow!("left as it is: {why}")));
    crate::say!("{} of number {} have their old names", undone.back.len(), undone.batch);
    Ok(ExitCode::from(u8::from(!undone.left.is_empty())))
}
