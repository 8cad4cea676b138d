//! `stand-in`: a small speech or text service.

use crate::args::{StandIn, StandInKind, Times};
use crate::ui;
use anyhow::Result;
use porter::platform;
use porter::services::Secret;
use porter::stand_in::{self, serve};
use std::process::ExitCode;
use words::service::answer::Closeness;
use words::service::openapi;

pub fn stand_in(a: &StandIn) -> Result<ExitCode> {
    let Some(what) = a.what.filter(|_| !a.openapi) else {
        match a.what {
            Some(StandInKind::Platform) => ui::print_json(&porter::publish_api::document())?,
            _ => ui::print_json(&openapi::document())?,
        }
        return Ok(ExitCode::SUCCESS);
    };
    let secret = a.token_file.clone().map(Secret::File).or(a.token_env.clone().map(Secret::Env));
    let token = secret.map(|s| s.read()).transpose().map_err(anyhow::Error::msg)?;
    if let StandInKind::Platform = what {
        let how = platform::Platform {
            port: a.port,
            keep: a.keep.clone(),
            token,
            sign_in: a.sign_in,
            quota: a.quota,
            busy: a.busy,
            delay: a.delay,
            break_after: a.break_after,
            refuse: a.refuse.clone(),
        };
        platform::serve(
            how,
            |address| {
                crate::say!("a stand-in for a platform listens at http://{address}/publish");
                crate::say!("what is published there: http://{address}/");
                if a.sign_in.is_some() {
                    crate::say!("a person signs in at http://{address}/device");
                }
            },
            |line| crate::say!("{line}"),
        )?;
        return Ok(ExitCode::SUCCESS);
    }
    let how = stand_in::StandIn {
        port: a.port,
        token,
        most: a.most,
        busy: a.busy,
        delay: a.delay,
        closeness: match a.times {
            Times::Words => Closeness::Words,
            Times::Segments => Closeness::Segments,
            Times::None => Closeness::Text,
        },
    };
    let path = match what {
        StandInKind::Speech => "speech",
        StandInKind::Text | StandInKind::Platform => "text",
    };
    serve(
        how,
        |address| crate::say!("a stand-in for a {path} service listens at http://{address}/{path}"),
        |line| crate::say!("{line}"),
    )?;
    Ok(ExitCode::SUCCESS)
}
