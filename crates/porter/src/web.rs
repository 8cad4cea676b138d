//! The board in a browser: one page over HTTP on this machine alone, kept up to date by server-sent events (WHATWG HTML, 9.2).
//!
//! It is for reading; orders are taken with a token only, which is not sent by the page's address (it stands behind its `#`)
//! and never by a page of anybody else: the host and the origin that a request names must be this machine.

use crate::control::Order;
use crate::error::{Error, Result};
use axum::Router;
use axum::body::to_bytes;
use axum::extract::{Path as UrlPath, Request, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::middleware::Next;
use axum::response::sse::{Event, KeepAlive, Sse};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use futures_util::stream::{self, Stream};
use std::convert::Infallible;
use std::net::{SocketAddr, TcpListener};
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

/// The page, whole.
const PAGE: &str = include_str!("web/page.html");
/// How often the house is looked at for those who watch.
const LOOK: Duration = Duration::from_secs(1);
const MOST_ORDER: usize = 64 << 10;
/// Nothing from anywhere but the page itself.
const POLICY: &str = "default-src 'none'; style-src 'unsafe-inline'; script-src 'unsafe-inline'; connect-src 'self'; \
    img-src data:; base-uri 'none'; form-action 'none'; frame-ancestors 'none'";

/// JSON, or why not.
type Told = std::result::Result<String, String>;

/// What the page is made of.
pub struct Desk {
    /// The whole house.
    pub status: Box<dyn Fn() -> Told + Send + Sync>,
    /// A job with its history; none if there is no such job.
    pub job: Box<dyn Fn(i64) -> std::result::Result<Option<String>, String> + Send + Sync>,
    /// Whoever gives orders says this token.
    pub token: Option<String>,
    /// Does an order and says what came of it.
    pub order: Box<dyn Fn(Order) -> Told + Send + Sync>,
}

type Shared = Arc<Desk>;

/// A token that nobody guesses.
pub fn token() -> Result<String> {
    let mut bytes = [0u8; 16];
    let wrong = |e: std::io::Error| Error::path("cannot read", Path::new("/dev/urandom"))(e);
    let mut file = std::fs::File::open("/dev/urandom").map_err(wrong)?;
    std::io::Read::read_exact(&mut file, &mut bytes).map_err(wrong)?;
    Ok(bytes.iter().map(|b| format!("{b:02x}")).collect())
}

/// Listens where it is told to, which must be this machine.
pub fn listen(at: SocketAddr) -> Result<TcpListener> {
    let name = at.to_string();
    let fail = |e| Error::path("cannot listen for the board at", Path::new(&name))(e);
    if !at.ip().is_loopback() {
        let why = "an address of this machine alone is wanted, such as 127.0.0.1:8765";
        return Err(fail(std::io::Error::other(why)));
    }
    TcpListener::bind(at).map_err(fail)
}

/// Answers until the program ends.
pub fn serve(listener: TcpListener, desk: Desk) -> Result<()> {
    let fail = |e| Error::path("cannot serve", Path::new("the board"))(e);
    let at = listener.local_addr().map_err(fail)?;
    listener.set_nonblocking(true).map_err(fail)?;
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().map_err(fail)?;
    runtime.block_on(async {
        let listener = tokio::net::TcpListener::from_std(listener).map_err(fail)?;
        let router = Router::new()
            .route("/", get(page))
            .route("/status", get(status))
            .route("/events", get(events))
            .route("/job/{number}", get(job))
            .route("/order", post(order))
            .layer(axum::middleware::from_fn(move |r: Request, next: Next| guarded(at, r, next)))
            .with_state(Arc::new(desk));
        axum::serve(listener, router).await.map_err(fail)
    })
}

/// Only who names this machine is answered: a name of somebody else that leads here is no way in.
async fn guarded(at: SocketAddr, request: Request, next: Next) -> Response {
    let port = at.port();
    let ours = |text: &str| {
        let host = text.strip_suffix(&format!(":{port}")).unwrap_or_default();
        matches!(host, "localhost" | "127.0.0.1" | "[::1]") || host == at.ip().to_string()
    };
    let is_ours = |headers: &HeaderMap| {
        let value = |name| headers.get(name).and_then(|v: &HeaderValue| v.to_str().ok());
        value(header::HOST).is_some_and(ours)
            && value(header::ORIGIN).is_none_or(|o| o.strip_prefix("http://").is_some_and(ours))
    };
    if !is_ours(request.headers()) {
        return (StatusCode::FORBIDDEN, "the board answers this machine only\n").into_response();
    }
    let mut response = next.run(request).await;
    let headers = response.headers_mut();
    headers.insert(header::CONTENT_SECURITY_POLICY, HeaderValue::from_static(POLICY));
    headers.insert(header::X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
    headers.insert(header::REFERRER_POLICY, HeaderValue::from_static("no-referrer"));
    headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    response
}

/// The page, with the house as it is now: it is whole before the first event comes.
async fn page(State(desk): State<Shared>) -> Response {
    let now = aside(move || (desk.status)().ok()).await.flatten();
    // Nothing in it ends the script that it stands in.
    let now = now.map_or("null".into(), |text| text.replace('<', "\\u003c"));
    let page = PAGE.replacen("const first = null;", &format!("const first = {now};"), 1);
    ([(header::CONTENT_TYPE, "text/html; charset=utf-8")], page).into_response()
}

fn json(told: Told) -> Response {
    match told {
        Ok(text) => ([(header::CONTENT_TYPE, "application/json")], text).into_response(),
        Err(why) => (StatusCode::INTERNAL_SERVER_ERROR, why).into_response(),
    }
}

/// What takes a while is done beside.
async fn aside<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> Option<T> {
    tokio::task::spawn_blocking(work).await.ok()
}

async fn status(State(desk): State<Shared>) -> Response {
    json(aside(move || (desk.status)()).await.unwrap_or_else(|| Err("it ended early".into())))
}

/// The house whenever it is another than before.
async fn events(
    State(desk): State<Shared>,
) -> Sse<impl Stream<Item = std::result::Result<Event, Infallible>>> {
    let changes = stream::unfold((desk, String::new()), |(desk, before)| async move {
        loop {
            let asked = desk.clone();
            let now = aside(move || (asked.status)()).await?;
            let (kind, text) = match now {
                Ok(text) => ("status", text),
                Err(why) => ("trouble", why),
            };
            if comparable(&text) != comparable(&before) {
                let event = Event::default().event(kind).data(text.replace(['\n', '\r'], " "));
                tokio::time::sleep(if before.is_empty() { Duration::ZERO } else { LOOK }).await;
                return Some((Ok(event), (desk, text)));
            }
            tokio::time::sleep(LOOK).await;
        }
    });
    Sse::new(changes).keep_alive(KeepAlive::default())
}

/// Without the moment at which it was looked at.
fn comparable(text: &str) -> String {
    let mut value: serde_json::Value = serde_json::from_str(text).unwrap_or_default();
    if let Some(map) = value.as_object_mut() {
        map.remove("at");
    }
    value.to_string()
}

async fn job(State(desk): State<Shared>, UrlPath(number): UrlPath<i64>) -> Response {
    match aside(move || (desk.job)(number)).await {
        Some(Ok(Some(text))) => json(Ok(text)),
        Some(Ok(None)) => (StatusCode::NOT_FOUND, format!("there is no job {number}")).into_response(),
        Some(Err(why)) => json(Err(why)),
        None => json(Err("it ended early".into())),
    }
}

/// Whether a request says the token; every byte is compared.
fn may(headers: &HeaderMap, token: &str) -> bool {
    let said = headers.get(header::AUTHORIZATION).and_then(|v| v.to_str().ok());
    let said = said.and_then(|v| v.strip_prefix("Bearer ")).unwrap_or_default();
    said.len() == token.len() && said.bytes().zip(token.bytes()).fold(0, |d, (a, b)| d | (a ^ b)) == 0
}

async fn order(State(desk): State<Shared>, request: Request) -> Response {
    let Some(token) = &desk.token else {
        let why = "this board is for reading; 'deft-porter board --web --control' takes orders";
        return (StatusCode::FORBIDDEN, why).into_response();
    };
    if !may(request.headers(), token) {
        return (StatusCode::UNAUTHORIZED, "the token is missing or wrong").into_response();
    }
    let Ok(body) = to_bytes(request.into_body(), MOST_ORDER).await else {
        return (StatusCode::PAYLOAD_TOO_LARGE, "too long for an order").into_response();
    };
    let wanted: Order = match serde_json::from_slice(&body) {
        Ok(order) => order,
        Err(e) => return (StatusCode::BAD_REQUEST, format!("no order that is known: {e}")).into_response(),
    };
    match aside(move || (desk.order)(wanted)).await {
        Some(Ok(said)) => said.into_response(),
        Some(Err(why)) => (StatusCode::CONFLICT, why).into_response(),
        None => json(Err("it ended early".into())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tokens_differ_and_only_the_whole_one_is_good() {
        let (a, b) = (token().unwrap(), token().unwrap());
        assert_ne!(a, b);
        let with = |text: &str| {
            let mut h = HeaderMap::new();
            h.insert(header::AUTHORIZATION, text.parse().unwrap());
            h
        };
        assert!(may(&with(&format!("Bearer {a}")), &a));
        for wrong in [b.as_str(), &a[..31], "", &a.to_uppercase()[..]] {
            assert!(!may(&with(&format!("Bearer {wrong}")), &a) || wrong == a);
        }
        assert!(!may(&HeaderMap::new(), &a));
    }

    #[test]
    fn only_this_machine_is_listened_on() {
        assert!(listen("0.0.0.0:0".parse().unwrap()).is_err());
        assert!(listen("127.0.0.1:0".parse().unwrap()).is_ok());
    }
}
