//! Resumable uploads: tus 1.0.0 (core protocol and the extension for creation). Such a place has no names that could be
//! looked at, and takes single files: what has its last byte is there.

use super::super::{About, Cargo, Place, Proof, Published, Ticket, Trouble, Whose};
use super::Remote;
use super::feed::Feed;
use super::http::{Http, Sends};
use crate::files::Watching;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use std::io::Read;
use ureq::http::{StatusCode, header};

/// Bytes of one request. A server keeps what it got of one that breaks off, and what stands between may bound how large
/// one is.
const PIECE: u64 = 64 << 20;
/// Of the last one: until it is sent nothing is published.
const LAST: u64 = 1 << 20;
const VERSION: (&str, &str) = ("Tus-Resumable", "1.0.0");

pub struct TusPlace {
    http: Http,
    base: String,
}

impl TusPlace {
    pub fn new(remote: &Remote) -> Result<TusPlace, Trouble> {
        Ok(TusPlace { http: Http::new(remote, false)?, base: remote.base.clone() })
    }

    /// The upload of this very content: one of something that was made before is never gone on with.
    fn of<'t>(&self, ticket: &'t Ticket, cargo: &Cargo) -> Option<&'t str> {
        let wanted = cargo.files.first()?.digest.as_str();
        self.begun(ticket).filter(|_| matches!(ticket, Ticket::Upload { tag, .. } if tag == wanted))
    }

    fn begun<'t>(&self, ticket: &'t Ticket) -> Option<&'t str> {
        match ticket {
            // Nothing is sent anywhere else than to the place itself.
            Ticket::Upload { id, .. } if id.starts_with(self.http.root()) => Some(id),
            _ => None,
        }
    }

    /// How many bytes are there; `None`: such an upload is not known any more.
    fn offset(&self, url: &str) -> Result<Option<u64>, Trouble> {
        let answer = self.http.send("HEAD", url, &[VERSION], Sends::Nothing)?;
        match answer.status() {
            s if s.is_success() => {
                let told = answer.headers().get("Upload-Offset").and_then(|v| v.to_str().ok()?.parse().ok());
                told.map(Some).ok_or_else(|| self.http.remote().away("it does not say how much it has"))
            }
            StatusCode::NOT_FOUND | StatusCode::GONE | StatusCode::FORBIDDEN => Ok(None),
            _ => Err(self.http.trouble("cannot ask for an upload", answer)),
        }
    }

    fn create(&self, name: &str, bytes: u64) -> Result<String, Trouble> {
        let last = name.rsplit('/').next().unwrap_or(name);
        let about = format!("filename {},path {}", STANDARD.encode(last), STANDARD.encode(name));
        let length = bytes.to_string();
        let headers = [VERSION, ("Upload-Length", length.as_str()), ("Upload-Metadata", about.as_str())];
        let answer = self.http.send("POST", &self.http.url(&self.base), &headers, Sends::Bytes(b""))?;
        let at = answer.headers().get(header::LOCATION).and_then(|v| v.to_str().ok()).map(str::to_owned);
        match (answer.status(), at) {
            (StatusCode::CREATED, Some(at)) => {
                let whole = match at.split_once("://") {
                    Some((_, rest)) => {
                        // The same host under its public name, or another one: only the path counts.
                        format!("{}/{}", self.http.root(), rest.split_once('/').map_or("", |(_, p)| p))
                    }
                    None if at.starts_with('/') => format!("{}{at}", self.http.root()),
                    None => format!("{}/{at}", self.http.url(&self.base).trim_end_matches('/')),
                };
                Ok(whole)
            }
            (StatusCode::CREATED, None) => Err(self.http.remote().away("it does not say where to upload")),
            _ => Err(self.http.trouble("cannot begin an upload", answer)),
        }
    }
}

impl Place for TusPlace {
    fn about(&self) -> About {
        About { refuses_taken: true, proof: Proof::Counted, staged_by_name: true }
    }

    /// Asks what it can do.
    fn look(&self) -> Result<(), Trouble> {
        let answer = self.http.send("OPTIONS", &self.http.url(&self.base), &[], Sends::Nothing)?;
        if !answer.status().is_success() {
            return Err(self.http.trouble("cannot ask what it can do", answer));
        }
        let has = |name: &str, wanted: &str| {
            let told = answer.headers().get(name).and_then(|v| v.to_str().ok()).unwrap_or_default();
            told.split(',').any(|v| v.trim() == wanted)
        };
        match has("Tus-Version", "1.0.0") && has("Tus-Extension", "creation") {
            true => Ok(()),
            false => Err(self.http.remote().refused("it does not speak tus 1.0.0 with creation")),
        }
    }

    fn has(&self, _: &str) -> Result<bool, Trouble> {
        Ok(false)
    }

    fn begin(&self, tag: &str) -> Result<Ticket, Trouble> {
        Ok(super::site::new_ticket(tag))
    }

    fn prepare(&self, cargo: &Cargo, name: &str, ticket: &Ticket) -> Result<Ticket, Trouble> {
        if let Some(url) = self.of(ticket, cargo)
            && self.offset(url)?.is_some()
        {
            return Ok(ticket.clone());
        }
        let [file] = cargo.files.as_slice() else {
            return Err(self.http.remote().refused("it takes single files, not folders of them"));
        };
        Ok(Ticket::Upload { tag: file.digest.clone(), id: self.create(name, file.bytes)? })
    }

    fn stage(&self, cargo: &Cargo, name: &str, ticket: &Ticket, w: &dyn Watching) -> Result<Proof, Trouble> {
        super::site::inside(name)?;
        let away = |why: &str| self.http.remote().away(why);
        let url = self.of(ticket, cargo).ok_or_else(|| away("nothing was begun there"))?;
        let file = cargo.files.first().ok_or_else(|| Trouble::Changed("nothing to carry".into()))?;
        let mut at = self.offset(url)?.ok_or_else(|| away("what was begun there is gone"))?;
        if at > file.bytes {
            return Err(away("it has more than was sent"));
        }
        let mut feed = Feed::open(&cargo.path, file.bytes, w)?;
        feed.skip(at)?;
        loop {
            let left = feed.left();
            let mut last = Vec::new();
            if left <= LAST {
                if let Err(e) = feed.read_to_end(&mut last) {
                    return Err(feed.failure().unwrap_or_else(|| Trouble::Changed(e.to_string())));
                }
                // With its last byte it is published: before, it must be what was made.
                feed.verify(&file.digest)?;
                if last.is_empty() {
                    break;
                }
            }
            let bytes = if left > LAST { PIECE.min(left - LAST) } else { left };
            let sends = if left > LAST { Sends::Feed(&mut feed, bytes) } else { Sends::Bytes(&last) };
            let from = at.to_string();
            let headers = [
                VERSION,
                ("Upload-Offset", from.as_str()),
                ("Content-Type", "application/offset+octet-stream"),
            ];
            let answer = self.http.send("PATCH", url, &headers, sends)?;
            if !answer.status().is_success() {
                return Err(self.http.trouble("cannot upload", answer));
            }
            at += bytes;
            let told = answer.headers().get("Upload-Offset").and_then(|v| v.to_str().ok()?.parse().ok());
            if told != Some(at) {
                return Err(away("it did not take all that was sent"));
            }
            w.passed(bytes);
        }
        match self.offset(url) {
            Ok(Some(there)) if there != file.bytes => Err(away("it has another number of bytes")),
            // Taken on as soon as it was whole.
            Ok(_) => Ok(Proof::Counted),
            Err(e) => Err(e),
        }
    }

    fn publish(&self, _: &Ticket, _: &str) -> Result<Published, Trouble> {
        Ok(Published::Done)
    }

    fn whose(&self, _: &str, ticket: &Ticket, cargo: &Cargo) -> Result<Whose, Trouble> {
        let Some(url) = self.of(ticket, cargo) else { return Ok(Whose::Nothing) };
        let whole = cargo.files.iter().map(|f| f.bytes).sum::<u64>();
        Ok(if self.offset(url)? == Some(whole) { Whose::Ours } else { Whose::Nothing })
    }

    fn discard(&self, _: &str, ticket: &Ticket) -> Result<(), Trouble> {
        let Some(url) = self.begun(ticket) else { return Ok(()) };
        let answer = self.http.send("DELETE", url, &[VERSION], Sends::Nothing)?;
        match answer.status() {
            s if s.is_success() => Ok(()),
            // A server need not know how to end one; it forgets it after a while.
            StatusCode::NOT_FOUND | StatusCode::GONE | StatusCode::METHOD_NOT_ALLOWED => Ok(()),
            _ => Err(self.http.trouble("cannot end an upload", answer)),
        }
    }
}
