//! Stand-ins: small services that ship with the program, to try a house with before the real ones are there. They do
//! what they say with the built-in recogniser and summary, and can be made slow, busy, small and strict.

use crate::error::{Error, Result};
use crate::services::Hidden;
use axum::Router;
use axum::body::{Body, Bytes, to_bytes};
use axum::extract::{FromRequest, Multipart, Request, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::post;
use media::container::Source;
use serde::Serialize;
use std::io::Cursor;
use std::net::{Ipv4Addr, SocketAddr};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use std::time::Duration;
use words::service::answer::{Closeness, Moments};
use words::service::openapi::Problem;
use words::service::summary::TextSegment;
use words::service::{Answer, AnswerSegment, AnswerWord, TextAnswer, TextRequest};
use words::transcribe::Options;
use words::transcript::{Segment, Transcript, Word};
use words::{Model, summary};

/// How a stand-in behaves.
#[derive(Clone, Debug)]
pub struct StandIn {
    /// 0: any that is free.
    pub port: u16,
    /// A bearer token that every request must bring.
    pub token: Option<Hidden>,
    /// Most bytes of a request's body.
    pub most: u64,
    /// So many requests are told to come again.
    pub busy: u32,
    /// Every answer waits this long.
    pub delay: Duration,
    pub closeness: Closeness,
}

/// What the handlers share.
struct Desk {
    how: StandIn,
    model: Model,
    busy: AtomicU32,
    told: Box<dyn Fn(&str) + Send + Sync>,
}

/// An answer that is a refusal.
struct Refusal(StatusCode, String);

impl IntoResponse for Refusal {
    fn into_response(self) -> Response {
        let problem = Problem {
            title: self.0.canonical_reason().unwrap_or("refused").into(),
            status: self.0.as_u16(),
            detail: Some(self.1),
        };
        let body = serde_json::to_vec(&problem).unwrap_or_default();
        let mut response =
            (self.0, [(header::CONTENT_TYPE, "application/problem+json")], body).into_response();
        if self.0 == StatusCode::SERVICE_UNAVAILABLE {
            response.headers_mut().insert(header::RETRY_AFTER, header::HeaderValue::from_static("0"));
        }
        response
    }
}

/// Serves until the process ends. `started` is told the address, `told` a line for every request.
pub fn serve(
    how: StandIn,
    started: impl FnOnce(SocketAddr),
    told: impl Fn(&str) + Send + Sync + 'static,
) -> Result<()> {
    let model = Model::open(None)?;
    let busy = AtomicU32::new(how.busy);
    let address = SocketAddr::from((Ipv4Addr::LOCALHOST, how.port));
    let fail = |e| Error::path("cannot listen for the stand-in at", Path::new(&address.to_string()))(e);
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().map_err(fail)?;
    runtime.block_on(async {
        let listener = tokio::net::TcpListener::bind(address).await.map_err(fail)?;
        started(listener.local_addr().map_err(fail)?);
        let desk = Arc::new(Desk { how, model, busy, told: Box::new(told) });
        let router = Router::new()
            .route("/speech", post(|State(desk), r| answered(desk, r, "speech", hear)))
            .route("/text", post(|State(desk), r| answered(desk, r, "text", read)))
            .with_state(desk);
        axum::serve(listener, router).await.map_err(fail)
    })
}

/// Everything that is the same for both: who asks, how much, and when; then the work itself, and a line about it.
async fn answered<F>(
    desk: Arc<Desk>,
    request: Request,
    what: &str,
    work: fn(Arc<Desk>, Request) -> F,
) -> Response
where
    F: Future<Output = std::result::Result<Vec<u8>, Refusal>>,
{
    let size: u64 = request
        .headers()
        .get(header::CONTENT_LENGTH)
        .and_then(|v| v.to_str().ok()?.parse().ok())
        .unwrap_or_default();
    let result = match admitted(&desk, &request, size) {
        Ok(()) => {
            tokio::time::sleep(desk.how.delay).await;
            work(desk.clone(), request).await
        }
        Err(refusal) => Err(refusal),
    };
    let (line, response) = match result {
        Ok(json) => {
            let kind = [(header::CONTENT_TYPE, "application/json")];
            ("200".to_owned(), (kind, json).into_response())
        }
        Err(refusal) => (format!("{}: {}", refusal.0.as_u16(), refusal.1), refusal.into_response()),
    };
    (desk.told)(&format!("{what}, {size} bytes: {line}"));
    response
}

fn admitted(desk: &Desk, request: &Request, size: u64) -> std::result::Result<(), Refusal> {
    let login = request.headers().get(header::AUTHORIZATION).and_then(|v| v.to_str().ok());
    if let Some(token) = &desk.how.token
        && login != Some(&format!("Bearer {}", token.tell()))
    {
        return Err(Refusal(StatusCode::UNAUTHORIZED, "the token is missing or wrong".into()));
    }
    if size > desk.how.most {
        let why = format!("{size} bytes, and at most {} are taken", desk.how.most);
        return Err(Refusal(StatusCode::PAYLOAD_TOO_LARGE, why));
    }
    let fewer = desk.busy.fetch_update(Ordering::Relaxed, Ordering::Relaxed, |n| n.checked_sub(1));
    match fewer {
        Ok(_) => Err(Refusal(StatusCode::SERVICE_UNAVAILABLE, "busy; come again".into())),
        Err(_) => Ok(()),
    }
}

fn bad(why: impl ToString) -> Refusal {
    Refusal(StatusCode::BAD_REQUEST, why.to_string())
}

fn json(value: &impl Serialize) -> std::result::Result<Vec<u8>, Refusal> {
    serde_json::to_vec(value).map_err(|e| Refusal(StatusCode::INTERNAL_SERVER_ERROR, e.to_string()))
}

/// Work that takes a processor for a while, away from the thread that listens.
async fn aside<T: Send + 'static>(
    work: impl FnOnce() -> std::result::Result<T, Refusal> + Send + 'static,
) -> std::result::Result<T, Refusal> {
    let done = tokio::task::spawn_blocking(work).await;
    done.unwrap_or_else(|e| Err(Refusal(StatusCode::INTERNAL_SERVER_ERROR, e.to_string())))
}

async fn hear(desk: Arc<Desk>, request: Request) -> std::result::Result<Vec<u8>, Refusal> {
    let limited = request.map(|body| Body::new(http_body_util::Limited::new(body, desk.how.most as usize)));
    let mut form = Multipart::from_request(limited, &()).await.map_err(bad)?;
    let (mut sound, mut terms) = (None::<Bytes>, String::new());
    while let Some(field) = form.next_field().await.map_err(bad)? {
        match field.name() {
            Some("sound") => sound = Some(field.bytes().await.map_err(bad)?),
            Some("terms") => terms = field.text().await.map_err(bad)?,
            _ => (),
        }
    }
    let sound = sound.ok_or_else(|| bad("the form has no field \"sound\""))?;
    aside(move || {
        let options = Options { terms: terms.lines().map(String::from).collect(), ..Options::default() };
        let source: Box<dyn Source> = Box::new(Cursor::new(sound));
        let stop = AtomicBool::new(false);
        let heard = words::transcribe(&desk.model, source, "sound", &options, |_, _| (), &stop);
        let heard = heard.map_err(|e| Refusal(StatusCode::UNPROCESSABLE_ENTITY, e.to_string()))?;
        json(&said(&heard, desk.how.closeness))
    })
    .await
}

/// A transcript as a service answers it that knows times so closely.
fn said(t: &Transcript, closeness: Closeness) -> Answer {
    let word = |w: &Word| AnswerWord {
        when: Moments::of(w.start_ms.0, w.end_ms.0),
        text: w.text.clone(),
        confidence: w.confidence,
    };
    let segment = |s: &Segment| AnswerSegment {
        when: Moments::of(s.start_ms.0, s.end_ms.0),
        text: s.text.clone(),
        words: match closeness {
            Closeness::Words => s.words.iter().map(word).collect(),
            _ => Vec::new(),
        },
    };
    Answer {
        text: Some(t.text()),
        segments: (closeness != Closeness::Text).then(|| t.segments.iter().map(segment).collect()),
        words: None,
        language: Some(t.language.clone()),
        model: Some(t.made_by.model.clone()),
    }
}

async fn read(desk: Arc<Desk>, request: Request) -> std::result::Result<Vec<u8>, Refusal> {
    let body = to_bytes(request.into_body(), desk.how.most as usize).await.map_err(bad)?;
    let asked: TextRequest = serde_json::from_slice(&body).map_err(bad)?;
    aside(move || {
        let mut answer = TextAnswer::from(summary::summarise(&transcript(&asked)));
        answer.model = Some("extractive, as without a service".into());
        json(&answer)
    })
    .await
}

/// What was sent, as a transcript again: the times of words do not count here.
fn transcript(asked: &TextRequest) -> Transcript {
    let segment = |s: &TextSegment| {
        let word =
            |w: &str| Word { text: w.into(), start_ms: s.start_ms, end_ms: s.end_ms, ..Word::default() };
        Segment::of(s.text.split_whitespace().map(word).collect(), false)
    };
    Transcript {
        source: words::transcript::Source {
            name: asked.source.clone(),
            duration_ms: asked.duration_ms,
            timecode: None,
        },
        language: asked.language.clone(),
        segments: asked.segments.iter().filter_map(segment).collect(),
        ..Transcript::default()
    }
}
