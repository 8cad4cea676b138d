//! `sign-in`: a person says yes in a browser, and the house may carry to a place.

use crate::args;
use anyhow::{Result, bail};
use porter::config::House;
use porter::services::{Login, Secret};
use std::process::ExitCode;

pub fn sign_in(a: &args::SignIn) -> Result<ExitCode> {
    let (house, _) = House::load_to_look(&a.house.find())?;
    let all = || house.places.iter().map(|p| format!("\"{}\"", p.name)).collect::<Vec<_>>().join(", ");
    let Some(place) = house.place(&a.place) else {
        bail!("there is no place \"{}\" in this house; it has: {}", a.place, all());
    };
    let Some(Login::Token(Secret::Signed(sign_in))) = place.remote().map(|r| &r.login) else {
        bail!(
            "place \"{}\" has no 'sign_in' in the configuration: nobody signs in there in this way",
            a.place
        );
    };
    let mut show = |asked: &porter::services::Asked| {
        crate::say!("Open {} in a browser, on any machine,", asked.address);
        crate::say!("and enter the code {} there. It is good for {} minutes.", asked.code, asked.minutes);
        if let Some(whole) = &asked.whole {
            crate::say!("Or open {whole}");
        }
    };
    sign_in.sign_in(&mut show, &|| false).map_err(anyhow::Error::msg)?;
    crate::say!("Signed in: place \"{}\" can be carried to.", a.place);
    Ok(ExitCode::SUCCESS)
}
