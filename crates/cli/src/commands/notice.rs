//! `notice`: a try of one.

use crate::args;
use crate::ui;
use anyhow::{Context, Result, bail};
use porter::clock;
use porter::config::House;
use porter::notify::Message;
use porter::notify::message::MESSAGE_VERSION;
use std::process::ExitCode;

pub fn notice(a: &args::Notice) -> Result<ExitCode> {
    if a.schema {
        ui::print_json(&schemars::schema_for!(Message))?;
        return Ok(ExitCode::SUCCESS);
    }
    let house = House::load(&a.house.find())?;
    let names = || house.notices.iter().map(|n| format!("\"{}\"", n.name)).collect::<Vec<_>>().join(", ");
    if house.notices.is_empty() {
        bail!("this house has no notice: a [[notice]] table makes one");
    }
    let Some(name) = &a.name else { bail!("which notice? The house has {}", names()) };
    let notice = house
        .notices
        .iter()
        .find(|n| n.name == *name)
        .with_context(|| format!("there is no notice \"{name}\" in this house; it has {}", names()))?;
    let message = Message {
        version: MESSAGE_VERSION,
        house: house.name.clone(),
        notice: name.clone(),
        summary: "a try: nothing happened".into(),
        events: Vec::new(),
        id: format!("{name}-try-{}", clock::nonce()),
    };
    match notice.way.send(&message) {
        Ok(()) => {
            crate::say!("notice \"{name}\" was sent");
            Ok(ExitCode::SUCCESS)
        }
        Err(why) => bail!("notice \"{name}\" cannot be sent: {why}"),
    }
}
