//! Transcripts and services, as the configuration has them.

use super::{At, Checker, key, listed};
use crate::config::locate::Step;
use crate::config::{Part, raw, values};
use crate::recipe::{Away, Hearing, Recipe, TranscriptRecipe};
use crate::services::{Login, Secret, Service};
use ::words::captions::Style;
use ::words::recognise::engine::{Effort, Settings};
use ::words::service::summary::MIN_MOST;
use ::words::transcribe::Options;
use ::words::write::{Form, Writing};
use std::time::Duration;

/// The keys of a login, as they are written.
pub struct LoginKeys<'a> {
    pub token_env: &'a Option<String>,
    pub token_file: &'a Option<String>,
    pub user: &'a Option<String>,
    pub password_env: &'a Option<String>,
    pub password_file: &'a Option<String>,
}

/// Where one stands, by two keys of which one may be there.
pub fn secret(
    c: &mut Checker<'_>,
    here: &At,
    names: [&'static str; 2],
    env: &Option<String>,
    file: &Option<String>,
) -> Option<Secret> {
    match (env, file) {
        (Some(_), Some(_)) => {
            let found = format!("'{}' beside '{}'", names[1], names[0]);
            c.fault(key(here, names[1]), found, "one of the two");
            None
        }
        (Some(env), None) => Some(Secret::Env(env.clone())),
        (None, Some(file)) => Some(Secret::File(c.path(key(here, names[1]), file))),
        (None, None) => None,
    }
}

/// `user_alone`: a user's name may stand without a password.
pub fn login(c: &mut Checker<'_>, here: &At, k: &LoginKeys<'_>, user_alone: bool) -> Login {
    let token = secret(c, here, ["token_env", "token_file"], k.token_env, k.token_file);
    let password = secret(c, here, ["password_env", "password_file"], k.password_env, k.password_file);
    match (token, k.user, password) {
        (None, None, None) => Login::None,
        (None, Some(user), None) if user_alone => Login::User(user.clone()),
        (Some(token), None, None) => Login::Token(token),
        (None, Some(user), Some(password)) if !user.contains(':') => {
            Login::Password { user: user.clone(), password }
        }
        _ => {
            let wanted = "a token, or a user (without ':') with a password_file or password_env";
            c.fault(key(here, "user"), "a login that is not whole, or two of them", wanted);
            Login::None
        }
    }
}

pub fn service(c: &mut Checker<'_>, here: &At, s: &raw::Service) -> Service {
    if let Some(wanted) = Service::wrong_address(&s.address) {
        c.fault(key(here, "address"), format!("\"{}\"", s.address), wanted);
    }
    let most = match s.most.as_deref() {
        None => Service::USUAL_MOST,
        Some(text) => values::bytes(text).unwrap_or(0),
    };
    if !(MIN_MOST..=Service::MAX_MOST).contains(&most) {
        let found = format!("\"{}\"", s.most.as_deref().unwrap_or_default());
        c.fault(key(here, "most"), found, "a size such as \"20 MB\", from \"10 kB\" to \"1 GB\"");
    }
    let usual = format!("{} s", Service::USUAL_TIMEOUT.as_secs());
    let least = Duration::from_millis(100);
    let timeout = c.duration(key(here, "timeout"), s.timeout.as_deref(), &usual, least);
    let tries = s.tries.unwrap_or(Service::USUAL_TRIES.into());
    let tries = c.number(key(here, "tries"), tries, 1, Service::MAX_TRIES.into()) as u32;
    let keys = LoginKeys {
        token_env: &s.token_env,
        token_file: &s.token_file,
        user: &s.user,
        password_env: &s.password_env,
        password_file: &s.password_file,
    };
    let login = login(c, here, &keys, false);
    Service {
        most,
        timeout,
        tries,
        login,
        certificates: s.certificates.as_ref().map(|p| c.path(key(here, "certificates"), p)),
        sound_field: s.sound_field.clone().unwrap_or_else(|| Service::at("", "").sound_field),
        fields: s.fields.clone().unwrap_or_default(),
        ..Service::at(&s.name, &s.address)
    }
}

pub fn transcript(c: &mut Checker<'_>, here: &At, t: &raw::Transcript, services: &[Service]) -> Vec<Part> {
    let usual = vec!["txt".to_owned()];
    let mut forms = Vec::new();
    for (i, name) in t.forms.as_ref().unwrap_or(&usual).iter().enumerate() {
        let mut path = key(here, "as");
        path.push(Step::Index(i));
        match name.parse::<Form>() {
            Ok(f) if forms.contains(&f) => c.fault(path, format!("\"{name}\" twice"), "each form once"),
            Ok(f) => forms.push(f),
            Err(wanted) => c.fault(path, format!("\"{name}\""), wanted),
        }
    }
    if t.forms.as_ref().is_some_and(Vec::is_empty) {
        c.fault(key(here, "as"), "an empty list", "at least one form, such as \"srt\"");
    }
    c.one_of(key(here, "effort"), t.effort.as_deref(), &["careful", "quick"]);
    let effort = if t.effort.as_deref() == Some("quick") { Effort::Quick } else { Effort::Careful };
    let track = t.track.map(|n| c.number(key(here, "track"), n, 1, 64) as usize);
    let threads = c.number(key(here, "threads"), t.threads.unwrap_or(0), 0, Settings::MAX_THREADS as i64);
    let model = t.model.as_ref().map(|m| c.base.join(m));
    if let Some(m) = model.as_ref().filter(|m| !m.join("model.safetensors").is_file()) {
        let found = format!("\"{}\"", media::show::path(m));
        c.fault(key(here, "model"), found, "the folder of a speech model, with model.safetensors in it");
    }
    let terms = t.terms.clone().unwrap_or_default();
    let mut known = |name: &'static str, wanted: &Option<String>, least: u64| {
        let wanted = wanted.as_ref()?;
        let found = services.iter().find(|s| s.name == *wanted);
        match found {
            None => c.fault(
                key(here, name),
                format!("\"{wanted}\""),
                format!(
                    "the name of a service: {}",
                    listed(services.iter().map(|s| s.name.as_str()).collect())
                ),
            ),
            Some(s) if s.most < least => {
                let found = format!("\"{wanted}\", which takes at most {} bytes", s.most);
                c.fault(key(here, name), found, format!("a service that takes {least} bytes at least"));
            }
            Some(_) => (),
        }
        found.cloned()
    };
    let service = known("service", &t.service, ::words::service::hear::MIN_MOST);
    let summary = known("summary_service", &t.summary_service, ::words::service::summary::MIN_MOST);
    c.one_of(key(here, "if_away"), t.if_away.as_deref(), &["wait", "here"]);
    let if_away = if t.if_away.as_deref() == Some("here") { Away::Here } else { Away::Wait };
    let options = Options { threads: threads as usize, effort, track, terms };
    let from_captions = t.from_captions.unwrap_or(false);
    let hearing = Hearing { options, model, service, from_captions };
    let style = t.captions.as_ref().map_or_else(Style::default, |s| captions(c, &key(here, "captions"), s));
    let writing = Writing { style, word_times: t.word_times.unwrap_or(false), ..Writing::default() };
    let part = |form: Form| Part {
        recipe: Recipe {
            transcript: Some(TranscriptRecipe {
                form,
                hearing: hearing.clone(),
                writing: writing.clone(),
                summary: summary.clone().filter(|_| form.is_summary()),
                if_away,
            }),
            ..Recipe::default()
        },
        extension: form.extension().into(),
    };
    forms.into_iter().map(part).collect()
}

fn captions(c: &mut Checker<'_>, here: &At, s: &raw::Captions) -> Style {
    let usual = Style::default();
    let ms = |n: i64| format!("{n} ms");
    let mut time = |name, text: &Option<String>, usual: i64| {
        c.duration(key(here, name), text.as_deref(), &ms(usual), Duration::ZERO).as_millis() as i64
    };
    let (shortest, longest) =
        (time("shortest", &s.shortest, usual.shortest), time("longest", &s.longest, usual.longest));
    let style = Style {
        line: s.line.map_or(usual.line, |n| usize::try_from(n).unwrap_or(0)),
        lines: s.lines.map_or(usual.lines, |n| usize::try_from(n).unwrap_or(0)),
        shortest,
        longest,
        speed: s.speed.unwrap_or(usual.speed),
        gap: time("gap", &s.gap, usual.gap),
    };
    if let Err(::words::Error::Setting { what, why }) = style.validate() {
        c.fault(key(here, what), why, "a value in its range");
    }
    style
}
