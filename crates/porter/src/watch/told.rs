//! A place of a network says that something came: bucket notifications in the S3 event form, as a webhook. What is said is not
//! believed, only a reason to look at once.

use crate::error::{Error, Result};
use crate::services::Hidden;
use axum::Router;
use axum::body::to_bytes;
use axum::extract::{Request, State};
use axum::http::{StatusCode, header};
use axum::routing::any;
use serde::Deserialize;
use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// A notice longer than this is none.
const LONGEST: usize = 1 << 20;

/// Where to listen, and what has to be said there.
#[derive(Clone, Debug)]
pub struct TellAt {
    pub address: SocketAddr,
    pub token: Option<crate::services::Secret>,
}

/// The part of an event that is looked at: that it is one.
#[derive(Deserialize)]
struct Notice {
    #[serde(alias = "Records", default)]
    records: Vec<serde_json::Value>,
    /// A trial, as object storage sends it when the webhook is set up.
    #[serde(alias = "Event", default)]
    event: Option<String>,
}

/// Listens as long as it is kept.
pub struct Ear {
    heard: Arc<AtomicBool>,
    runtime: Option<tokio::runtime::Runtime>,
}

impl Drop for Ear {
    fn drop(&mut self) {
        if let Some(runtime) = self.runtime.take() {
            runtime.shutdown_background();
        }
    }
}

struct Desk {
    heard: Arc<AtomicBool>,
    token: Option<Hidden>,
}

impl Ear {
    pub fn open(at: &TellAt) -> Result<Ear> {
        let name = at.address.to_string();
        let fail = |e| Error::path("cannot listen for notifications at", Path::new(&name))(e);
        let token = match &at.token {
            Some(secret) => Some(secret.read().map_err(|why| fail(std::io::Error::other(why.to_string())))?),
            None => None,
        };
        let listener = std::net::TcpListener::bind(at.address).map_err(fail)?;
        listener.set_nonblocking(true).map_err(fail)?;
        let runtime = tokio::runtime::Builder::new_multi_thread()
            .worker_threads(1)
            .enable_all()
            .build()
            .map_err(fail)?;
        let heard = Arc::new(AtomicBool::new(false));
        let desk = Arc::new(Desk { heard: heard.clone(), token });
        let router = Router::new().fallback(any(take)).with_state(desk);
        runtime.spawn(async move {
            if let Ok(listener) = tokio::net::TcpListener::from_std(listener) {
                let _ = axum::serve(listener, router).await;
            }
        });
        Ok(Ear { heard, runtime: Some(runtime) })
    }

    /// True once for all that was said since it was asked last.
    pub fn heard(&self) -> bool {
        self.heard.swap(false, Ordering::Relaxed)
    }
}

/// Every byte is compared, wherever the first other one is.
fn same(a: &[u8], b: &[u8]) -> bool {
    a.len() == b.len() && a.iter().zip(b).fold(0, |d, (x, y)| d | (x ^ y)) == 0
}

async fn take(State(desk): State<Arc<Desk>>, request: Request) -> StatusCode {
    if let Some(token) = &desk.token {
        let said =
            request.headers().get(header::AUTHORIZATION).and_then(|v| v.to_str().ok()).unwrap_or_default();
        let said = said.strip_prefix("Bearer ").unwrap_or(said);
        if !same(said.as_bytes(), token.tell().as_bytes()) {
            return StatusCode::UNAUTHORIZED;
        }
    }
    if request.method() == axum::http::Method::GET || request.method() == axum::http::Method::HEAD {
        // Whether somebody is there.
        return StatusCode::OK;
    }
    let Ok(body) = to_bytes(request.into_body(), LONGEST).await else { return StatusCode::PAYLOAD_TOO_LARGE };
    match serde_json::from_slice::<Notice>(&body) {
        Ok(n) if !n.records.is_empty() || n.event.is_some() => {
            desk.heard.store(true, Ordering::Relaxed);
            StatusCode::OK
        }
        _ => StatusCode::BAD_REQUEST,
    }
}
