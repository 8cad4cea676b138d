//! Signing in at the stand-in (RFC 8628): doors, codes, a page for the person, tokens that end and are renewed.

use super::{Shared, answer};
use crate::clock::{self, Micros};
use crate::notify::message::page as safe;
use axum::body::to_bytes;
use axum::extract::{Request, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde_json::json;
use std::collections::BTreeMap;
use std::sync::{Mutex, MutexGuard};

/// Seconds that a code is good, and between two questions.
const GOOD_FOR: u64 = 600;
const INTERVAL: u64 = 1;

#[derive(Clone, Copy, PartialEq)]
enum Said {
    Nothing,
    Yes,
    No,
}

#[derive(Default)]
struct Inner {
    /// By the device's code: the person's code, what was said, and until when.
    devices: BTreeMap<String, (String, Said, Micros)>,
    /// Until when each is good.
    tokens: BTreeMap<String, Micros>,
    refreshes: Vec<String>,
}

#[derive(Default)]
pub struct Signed(Mutex<Inner>);

impl Signed {
    fn inner(&self) -> MutexGuard<'_, Inner> {
        self.0.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// Whether a token is good now.
    pub fn knows(&self, token: &str) -> bool {
        self.inner().tokens.get(token).is_some_and(|until| *until > clock::now())
    }
}

/// Fields of a form that was sent.
async fn form(request: Request) -> BTreeMap<String, String> {
    let body = to_bytes(request.into_body(), 100_000).await.unwrap_or_default();
    let text = String::from_utf8_lossy(&body).into_owned();
    let plain = |t: &str| crate::deliver::remote::decoded(&t.replace('+', " "));
    text.split('&').filter_map(|p| p.split_once('=')).map(|(n, v)| (plain(n), plain(v))).collect()
}

fn refused(error: &str) -> Response {
    answer(StatusCode::BAD_REQUEST, &json!({ "error": error }))
}

pub async fn doors(State(desk): State<Shared>) -> Response {
    if desk.how.sign_in.is_none() {
        return StatusCode::NOT_FOUND.into_response();
    }
    let root = &desk.root;
    answer(
        StatusCode::OK,
        &json!({
            "issuer": root,
            "device_authorization_endpoint": format!("{root}/oauth/device"),
            "token_endpoint": format!("{root}/oauth/token"),
            "grant_types_supported": ["urn:ietf:params:oauth:grant-type:device_code", "refresh_token"],
        }),
    )
}

pub async fn begin(State(desk): State<Shared>, request: Request) -> Response {
    let form = form(request).await;
    if desk.how.sign_in.is_none() || !form.contains_key("client_id") {
        return refused("invalid_client");
    }
    let nonce = clock::nonce();
    // Letters that nobody takes for others.
    let letters: Vec<char> = "BCDFGHJKLMNPQRSTVWXZ".chars().collect();
    let mut number = xxhash_rust::xxh3::xxh3_64(nonce.as_bytes());
    let mut code = String::new();
    for n in 0..8 {
        code.push_str(if n == 4 { "-" } else { "" });
        code.push(letters[(number % 20) as usize]);
        number /= 20;
    }
    let until = clock::now() + GOOD_FOR as Micros * 1_000_000;
    desk.signed.inner().devices.insert(nonce.clone(), (code.clone(), Said::Nothing, until));
    let at = format!("{}/device", desk.root);
    answer(
        StatusCode::OK,
        &json!({
            "device_code": nonce, "user_code": code, "verification_uri": at,
            "verification_uri_complete": format!("{at}?code={code}"), "expires_in": GOOD_FOR, "interval": INTERVAL,
        }),
    )
}

pub async fn token(State(desk): State<Shared>, request: Request) -> Response {
    let form = form(request).await;
    let field = |name: &str| form.get(name).map(String::as_str).unwrap_or_default();
    let Some(good_for) = desk.how.sign_in else { return refused("invalid_client") };
    let mut inner = desk.signed.inner();
    match field("grant_type") {
        "urn:ietf:params:oauth:grant-type:device_code" => {
            let code = field("device_code");
            match inner.devices.get(code).map(|(_, said, until)| (*said, *until > clock::now())) {
                None => return refused("invalid_grant"),
                Some((_, false)) => return refused("expired_token"),
                Some((Said::Nothing, true)) => return refused("authorization_pending"),
                Some((Said::No, true)) => return refused("access_denied"),
                Some((Said::Yes, true)) => _ = inner.devices.remove(code),
            }
        }
        "refresh_token" => {
            let Some(at) = inner.refreshes.iter().position(|r| r == field("refresh_token")) else {
                return refused("invalid_grant");
            };
            // Each is good once.
            inner.refreshes.remove(at);
        }
        _ => return refused("unsupported_grant_type"),
    }
    let (access, refresh) = (format!("a-{}", clock::nonce()), format!("r-{}", clock::nonce()));
    inner.tokens.insert(access.clone(), clock::now() + good_for.as_micros() as Micros);
    inner.refreshes.push(refresh.clone());
    answer(
        StatusCode::OK,
        &json!({ "access_token": access, "token_type": "Bearer", "expires_in": good_for.as_secs(), "refresh_token": refresh }),
    )
}

fn html(words: &str) -> Response {
    let page = format!(
        "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><title>Sign in</title>\
         <body style=\"font:16px/1.5 sans-serif;max-width:30em;margin:3em auto\">{words}</body></html>"
    );
    ([(header::CONTENT_TYPE, "text/html; charset=utf-8")], page).into_response()
}

pub async fn page(State(desk): State<Shared>, request: Request) -> Response {
    if desk.how.sign_in.is_none() {
        return StatusCode::NOT_FOUND.into_response();
    }
    let code = request.uri().query().and_then(|q| q.strip_prefix("code=")).unwrap_or_default();
    html(&format!(
        "<h1>A program asks to publish here</h1><form method=\"post\"><p><label>The code that it shows \
         <input name=\"code\" value=\"{}\" autofocus></label></p>\
         <p><button name=\"say\" value=\"yes\">Let it in</button> <button name=\"say\" value=\"no\">No</button></p></form>",
        safe(code)
    ))
}

pub async fn decide(State(desk): State<Shared>, request: Request) -> Response {
    let form = form(request).await;
    let code = form.get("code").map(|c| c.trim().to_uppercase()).unwrap_or_default();
    let said = if form.get("say").is_some_and(|s| s == "yes") { Said::Yes } else { Said::No };
    let mut inner = desk.signed.inner();
    match inner.devices.values_mut().find(|d| d.0 == code && d.1 == Said::Nothing) {
        Some(device) => {
            device.1 = said;
            html(if said == Said::Yes { "<p>It is let in.</p>" } else { "<p>It is not let in.</p>" })
        }
        None => html("<p>There is no such code, or it was answered already.</p>"),
    }
}
