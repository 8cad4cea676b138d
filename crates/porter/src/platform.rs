//! A stand-in for a platform that films are published on: it keeps what it gets, shows it as pages, and can be made slow, full,
//! strict and unsteady. Its interface is the one of docs/schema/publish.openapi.json.

mod signing;

use crate::clock;
use crate::deliver::remote::Told;
use crate::error::{Error, Result};
use crate::services::Hidden;
use axum::Router;
use axum::body::{Body, to_bytes};
use axum::extract::{Path, Request, State};
use axum::http::{HeaderMap, Method, StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::{any, get, post, put};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use signing::Signed;
use std::collections::BTreeMap;
use std::fs::File;
use std::io::{Seek, SeekFrom, Write};
use std::net::{Ipv4Addr, SocketAddr};
use std::path::PathBuf;
use std::sync::atomic::{AtomicU32, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::Duration;

/// How it behaves.
#[derive(Clone, Debug)]
pub struct Platform {
    /// 0: any that is free.
    pub port: u16,
    /// Where it keeps what it gets.
    pub keep: PathBuf,
    /// A bearer token that every request must bring.
    pub token: Option<Hidden>,
    /// Tokens are given to whom a person signs in for: `/device`. They are good for so long.
    pub sign_in: Option<Duration>,
    /// Most items that it takes.
    pub quota: Option<usize>,
    /// So many requests are told to come again.
    pub busy: u32,
    /// Every answer waits this long.
    pub delay: Duration,
    /// The line of an upload breaks behind so many bytes, once.
    pub break_after: Option<u64>,
    /// Publishing is refused with these words.
    pub refuse: Option<String>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
struct Kept {
    id: String,
    key: String,
    state: String,
    about: Value,
    /// By part: where it lies, and what it is.
    parts: BTreeMap<String, String>,
}

struct Desk {
    how: Platform,
    items: Mutex<Vec<Kept>>,
    busy: AtomicU32,
    left: AtomicU64,
    root: String,
    told: Box<dyn Fn(&str) + Send + Sync>,
    signed: Signed,
}

type Shared = Arc<Desk>;

fn refusal(status: StatusCode, detail: &str) -> Response {
    let problem = json!({
        "title": status.canonical_reason().unwrap_or("refused"), "status": status.as_u16(), "detail": detail
    });
    (status, [(header::CONTENT_TYPE, "application/problem+json")], problem.to_string()).into_response()
}

fn answer(status: StatusCode, value: &impl Serialize) -> Response {
    let text = serde_json::to_string(value).unwrap_or_default();
    (status, [(header::CONTENT_TYPE, "application/json")], text).into_response()
}

impl Desk {
    fn items(&self) -> MutexGuard<'_, Vec<Kept>> {
        self.items.lock().unwrap_or_else(|e| e.into_inner())
    }

    fn file(&self, id: &str) -> PathBuf {
        self.how.keep.join(format!("{id}.media"))
    }

    fn has(&self, id: &str) -> u64 {
        std::fs::metadata(self.file(id)).map_or(0, |m| m.len())
    }

    fn tell(&self, k: &Kept) -> Told {
        let is_over = k.state != "draft";
        Told {
            id: k.id.clone(),
            upload: format!("{}/publish/uploads/{}", self.root, k.id),
            state: k.state.clone(),
            address: is_over.then(|| format!("{}/watch/{}", self.root, k.id)),
        }
    }

    /// What is kept is there after a restart.
    fn keep(&self, items: &[Kept]) {
        let text = serde_json::to_string_pretty(items).unwrap_or_default();
        let _ = std::fs::write(self.how.keep.join("items.json"), text);
    }
}

/// Serves until the process ends.
pub fn serve(
    how: Platform,
    started: impl FnOnce(SocketAddr),
    told: impl Fn(&str) + Send + Sync + 'static,
) -> Result<()> {
    std::fs::create_dir_all(&how.keep).map_err(Error::path("cannot make the folder", &how.keep))?;
    let before = std::fs::read_to_string(how.keep.join("items.json")).ok();
    let items = before.and_then(|t| serde_json::from_str(&t).ok()).unwrap_or_default();
    let address = SocketAddr::from((Ipv4Addr::LOCALHOST, how.port));
    let shown = PathBuf::from(address.to_string());
    let fail = |e| Error::path("cannot listen for the stand-in at", &shown)(e);
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().map_err(fail)?;
    runtime.block_on(async {
        let listener = tokio::net::TcpListener::bind(address).await.map_err(fail)?;
        let at = listener.local_addr().map_err(fail)?;
        started(at);
        let desk = Arc::new(Desk {
            items: Mutex::new(items),
            busy: AtomicU32::new(how.busy),
            left: AtomicU64::new(how.break_after.unwrap_or(u64::MAX)),
            root: format!("http://{at}"),
            told: Box::new(told),
            signed: Signed::default(),
            how,
        });
        let guarded = Router::new()
            .route("/publish", get(|| async { answer(StatusCode::OK, &json!({ "publish": 1 })) }))
            .route("/publish/items", post(make))
            .route("/publish/items/{id}", get(look).delete(remove))
            .route("/publish/items/{id}/publish", post(publish))
            .route("/publish/items/{id}/captions/{language}", put(captions))
            .route("/publish/items/{id}/picture", put(picture))
            .route("/publish/uploads/{id}", any(upload))
            .layer(axum::middleware::from_fn_with_state(desk.clone(), admitted));
        let router = Router::new()
            .route("/", get(front))
            .route("/watch/{id}", get(page))
            .route("/media/{id}/{part}", get(part))
            .merge(guarded)
            .route("/.well-known/oauth-authorization-server", get(signing::doors))
            .route("/oauth/device", post(signing::begin))
            .route("/oauth/token", post(signing::token))
            .route("/device", get(signing::page).post(signing::decide))
            .with_state(desk);
        axum::serve(listener, router).await.map_err(fail)
    })
}

async fn admitted(State(desk): State<Shared>, request: Request, next: axum::middleware::Next) -> Response {
    let (method, path) = (request.method().clone(), request.uri().path().to_owned());
    tokio::time::sleep(desk.how.delay).await;
    let login = request.headers().get(header::AUTHORIZATION).and_then(|v| v.to_str().ok());
    let wanted = desk.how.token.as_ref().map(|t| format!("Bearer {}", t.tell()));
    let is_let_in = match desk.how.sign_in {
        Some(_) => {
            login.and_then(|l| l.strip_prefix("Bearer ")).is_some_and(|token| desk.signed.knows(token))
        }
        None => wanted.is_none_or(|w| login == Some(&w)),
    };
    let response = if !is_let_in {
        refusal(StatusCode::UNAUTHORIZED, "the token is missing or wrong")
    } else if desk.busy.fetch_update(Ordering::Relaxed, Ordering::Relaxed, |n| n.checked_sub(1)).is_ok() {
        refusal(StatusCode::SERVICE_UNAVAILABLE, "busy; come again")
    } else {
        next.run(request).await
    };
    (desk.told)(&format!("{method} {path}: {}", response.status().as_u16()));
    response
}

const MOST: usize = 1 << 30;

async fn body(request: Request) -> std::result::Result<Vec<u8>, Response> {
    let all = to_bytes(request.into_body(), MOST).await;
    all.map(|b| b.to_vec()).map_err(|e| refusal(StatusCode::BAD_REQUEST, &e.to_string()))
}

async fn make(State(desk): State<Shared>, request: Request) -> Response {
    let bytes = match body(request).await {
        Ok(bytes) => bytes,
        Err(refused) => return refused,
    };
    let about: Value = serde_json::from_slice(&bytes).unwrap_or_default();
    let Some(key) = about["key"].as_str().map(str::to_owned) else {
        return refusal(StatusCode::BAD_REQUEST, "an item has a key");
    };
    if about["title"].as_str().is_none_or(|t| t.trim().is_empty()) {
        return refusal(StatusCode::UNPROCESSABLE_ENTITY, "an item has a title");
    }
    if about["media"]["bytes"].as_u64().is_none() {
        return refusal(StatusCode::UNPROCESSABLE_ENTITY, "it is said how many bytes the film has");
    }
    let mut items = desk.items();
    if let Some(known) = items.iter().find(|k| k.key == key) {
        return answer(StatusCode::OK, &desk.tell(known));
    }
    if desk.how.quota.is_some_and(|most| items.len() >= most) {
        return refusal(StatusCode::TOO_MANY_REQUESTS, "the quota is used up");
    }
    let last = items.iter().filter_map(|k| k.id.parse::<u64>().ok()).max().unwrap_or(0);
    let id = (last + 1).to_string();
    let kept = Kept { id, key, state: "draft".into(), about, parts: BTreeMap::new() };
    let told = desk.tell(&kept);
    items.push(kept);
    desk.keep(&items);
    answer(StatusCode::CREATED, &told)
}

async fn look(State(desk): State<Shared>, Path(id): Path<String>) -> Response {
    match desk.items().iter().find(|k| k.id == id) {
        Some(k) => answer(StatusCode::OK, &desk.tell(k)),
        None => refusal(StatusCode::NOT_FOUND, "there is no such item"),
    }
}

async fn remove(State(desk): State<Shared>, Path(id): Path<String>) -> Response {
    let mut items = desk.items();
    match items.iter().position(|k| k.id == id) {
        Some(n) if items[n].state == "draft" => {
            items.remove(n);
            desk.keep(&items);
            let _ = std::fs::remove_file(desk.file(&id));
            StatusCode::NO_CONTENT.into_response()
        }
        Some(_) => refusal(StatusCode::CONFLICT, "it is published"),
        None => refusal(StatusCode::NOT_FOUND, "there is no such item"),
    }
}

async fn publish(State(desk): State<Shared>, Path(id): Path<String>) -> Response {
    if let Some(words) = &desk.how.refuse {
        return refusal(StatusCode::FORBIDDEN, words);
    }
    let mut items = desk.items();
    let Some(k) = items.iter_mut().find(|k| k.id == id) else {
        return refusal(StatusCode::NOT_FOUND, "there is no such item");
    };
    let wanted = k.about["media"]["bytes"].as_u64().unwrap_or(u64::MAX);
    if desk.has(&id) != wanted {
        return refusal(StatusCode::CONFLICT, "the film is not whole yet");
    }
    let at = k.about["publish_at"].as_str().and_then(clock::parse_zoned);
    k.state = if at.is_some_and(|at| at > clock::now()) { "scheduled" } else { "published" }.into();
    let told = desk.tell(k);
    desk.keep(&items);
    answer(StatusCode::OK, &told)
}

async fn with_item(desk: Shared, id: String, part: String, headers: HeaderMap, request: Request) -> Response {
    let bytes = match body(request).await {
        Ok(bytes) => bytes,
        Err(refused) => return refused,
    };
    let kind = headers.get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or_default().to_owned();
    let mut items = desk.items();
    let Some(k) = items.iter_mut().find(|k| k.id == id) else {
        return refusal(StatusCode::NOT_FOUND, "there is no such item");
    };
    if std::fs::write(desk.how.keep.join(format!("{id}.{part}")), bytes).is_err() {
        return refusal(StatusCode::INSUFFICIENT_STORAGE, "it cannot be kept");
    }
    k.parts.insert(part, kind);
    desk.keep(&items);
    StatusCode::NO_CONTENT.into_response()
}

async fn captions(
    State(desk): State<Shared>,
    Path((id, language)): Path<(String, String)>,
    headers: HeaderMap,
    request: Request,
) -> Response {
    let plain: String = language.chars().filter(|c| c.is_ascii_alphanumeric() || *c == '-').collect();
    with_item(desk, id, format!("captions-{plain}"), headers, request).await
}

async fn picture(
    State(desk): State<Shared>,
    Path(id): Path<String>,
    headers: HeaderMap,
    request: Request,
) -> Response {
    with_item(desk, id, "picture".into(), headers, request).await
}

/// tus 1.0.0: how much is there, and more of it.
async fn upload(State(desk): State<Shared>, Path(id): Path<String>, request: Request) -> Response {
    let known =
        desk.items().iter().find(|k| k.id == id).map(|k| k.about["media"]["bytes"].as_u64().unwrap_or(0));
    let Some(whole) = known else { return refusal(StatusCode::NOT_FOUND, "there is no such upload") };
    let tus = |status: StatusCode, at: u64| {
        let headers = [
            ("Tus-Resumable", "1.0.0".to_owned()),
            ("Upload-Offset", at.to_string()),
            ("Upload-Length", whole.to_string()),
        ];
        let mut response = status.into_response();
        for (name, value) in headers {
            if let Ok(value) = value.parse() {
                response.headers_mut().insert(name, value);
            }
        }
        response
    };
    match *request.method() {
        Method::HEAD => tus(StatusCode::OK, desk.has(&id)),
        Method::PATCH => {
            let told =
                request.headers().get("Upload-Offset").and_then(|v| v.to_str().ok()?.parse::<u64>().ok());
            let at = desk.has(&id);
            if told != Some(at) {
                return tus(StatusCode::CONFLICT, at);
            }
            let mut bytes = match body(request).await {
                Ok(bytes) => bytes,
                Err(refused) => return refused,
            };
            let left = desk.left.load(Ordering::Relaxed);
            let breaks = (bytes.len() as u64) > left;
            if breaks {
                bytes.truncate(left as usize);
                desk.left.store(u64::MAX, Ordering::Relaxed);
            } else if left != u64::MAX {
                desk.left.store(left - bytes.len() as u64, Ordering::Relaxed);
            }
            if at + bytes.len() as u64 > whole {
                return refusal(StatusCode::PAYLOAD_TOO_LARGE, "that is more than was said");
            }
            let put = || -> std::io::Result<()> {
                let mut file =
                    File::options().create(true).write(true).truncate(false).open(desk.file(&id))?;
                file.seek(SeekFrom::Start(at))?;
                file.write_all(&bytes)
            };
            match put() {
                Err(e) => refusal(StatusCode::INSUFFICIENT_STORAGE, &e.to_string()),
                Ok(()) if breaks => refusal(StatusCode::BAD_GATEWAY, "the line broke"),
                Ok(()) => tus(StatusCode::NO_CONTENT, at + bytes.len() as u64),
            }
        }
        _ => refusal(StatusCode::METHOD_NOT_ALLOWED, "HEAD or PATCH"),
    }
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

fn html(title: &str, inner: &str) -> Response {
    let text = format!(
        "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><title>{}</title>\
         <meta name=\"viewport\" content=\"width=device-width\"><style>\
         :root{{color-scheme:light dark}}body{{font:16px/1.5 system-ui,sans-serif;max-width:60rem;margin:2rem auto;padding:0 1rem}}\
         video,img{{max-width:100%;background:#111}}dt{{font-weight:600}}dd{{margin:0 0 .6rem}}li{{margin:.4rem 0}}\
         h1 .state{{font-size:.45em;vertical-align:middle}}.state{{font-size:.85em;border:1px solid;border-radius:.3em;padding:0 .4em;margin-left:.5em}}</style>\
         <body>{inner}<p><small>A stand-in of Deft Porter: nothing here is on any platform.</small></p></body></html>",
        escaped(title)
    );
    ([(header::CONTENT_TYPE, "text/html; charset=utf-8")], text).into_response()
}

async fn front(State(desk): State<Shared>) -> Response {
    let items = desk.items();
    let list: String = items
        .iter()
        .rev()
        .map(|k| {
            let title = escaped(k.about["title"].as_str().unwrap_or_default());
            format!(
                "<li><a href=\"/watch/{}\">{title}</a><span class=\"state\">{}</span></li>",
                k.id,
                escaped(&k.state)
            )
        })
        .collect();
    let inner =
        if list.is_empty() { "<p>Nothing was published yet.</p>".into() } else { format!("<ul>{list}</ul>") };
    html("Published", &format!("<h1>Published</h1>{inner}"))
}

async fn page(State(desk): State<Shared>, Path(id): Path<String>) -> Response {
    let items = desk.items();
    let Some(k) = items.iter().find(|k| k.id == id) else {
        return refusal(StatusCode::NOT_FOUND, "there is no such item");
    };
    let title = k.about["title"].as_str().unwrap_or_default();
    let tracks: String = k
        .parts
        .keys()
        .filter_map(|p| p.strip_prefix("captions-"))
        .map(|l| format!("<track kind=\"captions\" srclang=\"{l}\" label=\"{l}\" src=\"/media/{id}/captions-{l}\" default>"))
        .collect();
    let poster = if k.parts.contains_key("picture") {
        format!(" poster=\"/media/{id}/picture\"")
    } else {
        String::new()
    };
    let fields: String = k
        .about
        .as_object()
        .into_iter()
        .flatten()
        .filter(|(name, _)| !matches!(name.as_str(), "key" | "media" | "title"))
        .map(|(name, value)| {
            let text = match value {
                Value::String(s) => s.clone(),
                Value::Array(all) => all.iter().filter_map(Value::as_str).collect::<Vec<_>>().join(", "),
                other => other.to_string(),
            };
            format!("<dt>{}</dt><dd>{}</dd>", escaped(name), escaped(&text))
        })
        .collect();
    let inner = format!(
        "<p><a href=\"/\">All</a></p><h1>{}<span class=\"state\">{}</span></h1>\
         <video controls preload=\"metadata\"{poster} src=\"/media/{id}/media\">{tracks}</video><dl>{fields}</dl>",
        escaped(title),
        escaped(&k.state)
    );
    html(title, &inner)
}

async fn part(
    State(desk): State<Shared>,
    Path((id, part)): Path<(String, String)>,
    headers: HeaderMap,
) -> Response {
    let kind = {
        let items = desk.items();
        let Some(k) = items.iter().find(|k| k.id == id) else { return StatusCode::NOT_FOUND.into_response() };
        match part.as_str() {
            "media" => "video/mp4".to_owned(),
            other => match k.parts.get(other) {
                Some(kind) => kind.clone(),
                None => return StatusCode::NOT_FOUND.into_response(),
            },
        }
    };
    let Ok(bytes) = std::fs::read(desk.how.keep.join(format!("{id}.{part}"))) else {
        return StatusCode::NOT_FOUND.into_response();
    };
    // Players ask for parts (RFC 9110, section 14).
    let range =
        headers.get(header::RANGE).and_then(|v| v.to_str().ok()?.strip_prefix("bytes=")?.split_once('-'));
    let asked = range.and_then(|(from, to)| {
        let from: usize = from.parse().ok()?;
        let last = to.parse().unwrap_or(usize::MAX).min(bytes.len().checked_sub(1)?);
        (from <= last).then_some((from, last))
    });
    let all = bytes.len();
    let kind = [(header::CONTENT_TYPE, kind), (header::ACCEPT_RANGES, "bytes".into())];
    match asked {
        Some((from, last)) => {
            let told = [(header::CONTENT_RANGE, format!("bytes {from}-{last}/{all}"))];
            (StatusCode::PARTIAL_CONTENT, kind, told, Body::from(bytes[from..=last].to_vec())).into_response()
        }
        None => (kind, bytes).into_response(),
    }
}
