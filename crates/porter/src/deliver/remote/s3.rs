//! Object storage of the S3 protocol. One file is an upload of parts, each with its checksum, that the last request makes
//! an object; an output of many files is put under a name of its own and copied over there, what lists the others last.

use super::super::{About, Cargo, Place, Proof, Published, Ticket, Trouble, Whose};
use super::Remote;
use super::far::{self, There};
use super::feed::Feed;
use super::http::{Http, Sends, decoded, encoded};
use super::site::inside;
use crate::files::Watching;
use crate::services::Hidden;
use crate::store::MadeFile;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use md5::{Digest, Md5};
use quick_xml::escape::{escape, unescape};
use rusty_s3::actions::list_objects_v2::ListObjectsContent;
use rusty_s3::actions::{CreateMultipartUpload, ListObjectsV2, ListParts, ListPartsResponse, PartsContent};
use rusty_s3::{Bucket, Credentials, S3Action, UrlStyle};
use std::collections::HashMap;
use std::io::Read;
use std::sync::mpsc::sync_channel;
use std::sync::{Mutex, MutexGuard};
use std::time::Duration;
use ureq::Body;
use ureq::http::{Response, StatusCode};

/// Bytes of a part; more of a file that would have too many.
const PART: u64 = 8 << 20;
const MOST_PARTS: u64 = 9_000;
/// Parts that are under way at once, and bytes of them in memory: of large parts fewer.
const AT_ONCE: u64 = 4;
const HELD: u64 = 64 << 20;
/// A file of many that is larger than this is sent in parts.
const SENT_AT_ONCE: u64 = 64 << 20;
/// An object that is larger than this is copied in parts (5 GB are the most that may go at once).
const COPIED_AT_ONCE: u64 = 1 << 30;
/// No file is copied in more pieces than an object may have.
const MOST_COPIED: u64 = 10_000;
/// More objects are in no place of a house: a list of them that goes on has no end.
const MOST_LISTED: usize = 5_000_000;
/// How long a signature counts.
const SIGNED_FOR: Duration = Duration::from_secs(900);
/// In the metadata of an object: whose delivery it is.
const TICKET: &str = "x-amz-meta-deft-porter-ticket";
/// And of a file of many, what is in it: what is staged may be of an output that was made again since.
const DIGEST: &str = "x-amz-meta-deft-porter-digest";

pub struct S3Place {
    http: Http,
    bucket: Bucket,
    credentials: Credentials,
    secret: Hidden,
    /// In front of every key: empty, or with a `/` at its end.
    prefix: String,
    storage_class: Option<String>,
    /// How long a link to what was delivered counts.
    link: Option<Duration>,
    /// Of each upload that was sent whole: what its parts must be, as this side counted them, and its bytes.
    sent: Mutex<HashMap<String, Sent>>,
}

#[derive(Clone)]
struct Sent {
    etags: Vec<String>,
    bytes: u64,
}

/// Percent-encoded MD5 of a part, as the protocol writes it.
fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}

/// An object's, as a request for its head is answered.
fn length_of(answer: &Response<Body>) -> Option<u64> {
    answer.headers().get("content-length")?.to_str().ok()?.parse().ok()
}

/// What another end told, fit to be shown.
fn shown(text: &str) -> String {
    text.chars().filter(|c| !c.is_control()).take(200).collect()
}

fn unquoted(etag: &str) -> &str {
    etag.trim().trim_matches('"')
}

fn part_size(bytes: u64) -> u64 {
    PART.max(bytes.div_ceil(MOST_PARTS))
}

/// The text of an element that stands once in an answer.
fn element<'t>(text: &'t str, name: &str) -> Option<&'t str> {
    let from = text.find(&format!("<{name}>"))? + name.len() + 2;
    Some(&text[from..from + text[from..].find("</")?])
}

/// The tags that an answer tells (`GetObjectTagging`).
fn tags_of(text: &str) -> Vec<(String, String)> {
    let plain = |t: &str| unescape(t).map_or_else(|_| t.to_owned(), |t| t.into_owned());
    let each = text.split("<Tag>").skip(1);
    each.filter_map(|t| Some((plain(element(t, "Key")?), plain(element(t, "Value").unwrap_or_default()))))
        .collect()
}

impl S3Place {
    pub fn new(remote: &Remote) -> Result<S3Place, Trouble> {
        let http = Http::new(remote, true)?;
        let (Some(user), Some(secret)) = (remote.user(), remote.password()?) else {
            return Err(remote.refused("it needs a user (the access key) and its secret"));
        };
        let whole = remote.base.trim_matches('/');
        let (bucket, prefix) = whole.split_once('/').unwrap_or((whole, ""));
        let prefix = if prefix.is_empty() { String::new() } else { format!("{prefix}/") };
        let endpoint = http.root().parse().map_err(|e| remote.refused(e))?;
        let bucket = Bucket::new(endpoint, UrlStyle::Path, bucket.to_owned(), remote.region.clone())
            .map_err(|e| remote.refused(e))?;
        let credentials = Credentials::new(user, secret.tell());
        let storage_class = remote.storage_class.clone();
        let link = remote.link;
        let sent = Mutex::default();
        Ok(S3Place { http, bucket, credentials, secret, prefix, storage_class, link, sent })
    }

    fn key(&self, name: &str) -> Result<String, Trouble> {
        inside(name)?;
        Ok(format!("{}{name}", self.prefix))
    }

    /// Sends a request that is signed, headers and all.
    fn send<'a>(
        &self,
        method: &str,
        action: impl S3Action<'a>,
        headers: &[(&'static str, String)],
        body: &[u8],
    ) -> Result<Response<Body>, Trouble> {
        let sends = if body.is_empty() && method != "PUT" && method != "POST" {
            Sends::Nothing
        } else {
            Sends::Bytes(body)
        };
        self.send_all(method, action, headers, sends)
    }

    fn send_all<'a>(
        &self,
        method: &str,
        mut action: impl S3Action<'a>,
        headers: &[(&'static str, String)],
        sends: Sends<'_, '_>,
    ) -> Result<Response<Body>, Trouble> {
        for (name, value) in headers {
            action.headers_mut().insert(*name, value.clone());
        }
        let url = action.sign(SIGNED_FOR);
        let told: Vec<(&str, &str)> = headers.iter().map(|(n, v)| (*n, v.as_str())).collect();
        self.http.send(method, url.as_str(), &told, sends)
    }

    /// The words of a refusal without the signature that it may repeat.
    fn trouble(&self, what: &str, mut answer: Response<Body>) -> Trouble {
        let status = answer.status();
        let text = self.http.text(&mut answer).unwrap_or_default();
        let code = element(&text, "Code").unwrap_or_default().to_owned();
        let message = element(&text, "Message").unwrap_or(&text);
        let message = shown(&self.secret.cover(message));
        let mut why = format!("{what}: {status}");
        for more in [code.as_str(), message.as_str()] {
            if !more.is_empty() {
                why.push_str(&format!(": {more}"));
            }
        }
        let remote = self.http.remote();
        match code.as_str() {
            "RequestTimeTooSkewed" => remote.refused(format!("{why} (is the clock of this machine right?)")),
            "NoSuchBucket" | "SlowDown" | "InternalError" | "ServiceUnavailable" => remote.away(why),
            "QuotaExceeded" => Trouble::Full(format!("{}: {why}", remote.address)),
            _ if status == StatusCode::INSUFFICIENT_STORAGE => {
                Trouble::Full(format!("{}: {why}", remote.address))
            }
            _ if status.is_server_error()
                || matches!(
                    status,
                    StatusCode::NOT_FOUND | StatusCode::REQUEST_TIMEOUT | StatusCode::TOO_MANY_REQUESTS
                ) =>
            {
                remote.away(why)
            }
            _ => remote.refused(why),
        }
    }

    fn good(&self, what: &str, mut answer: Response<Body>) -> Result<String, Trouble> {
        if !answer.status().is_success() {
            return Err(self.trouble(what, answer));
        }
        let text = self.http.text(&mut answer)?;
        // A copy or a completion can fail behind its first line.
        if text.contains("<Error>") {
            let why = shown(&self.secret.cover(element(&text, "Message").unwrap_or("an error")));
            return Err(self.http.remote().away(format!("{what}: {why}")));
        }
        Ok(text)
    }

    fn head(&self, key: &str) -> Result<Option<Response<Body>>, Trouble> {
        let answer = self.send("HEAD", self.bucket.head_object(Some(&self.credentials), key), &[], b"")?;
        match answer.status() {
            s if s.is_success() => Ok(Some(answer)),
            StatusCode::NOT_FOUND => Ok(None),
            _ => Err(self.trouble(&format!("cannot look at {key}"), answer)),
        }
    }

    /// Whose delivery an object is.
    fn ticket_of(answer: &Response<Body>) -> String {
        answer.headers().get(TICKET).and_then(|v| v.to_str().ok()).unwrap_or_default().to_owned()
    }

    /// What is behind a prefix, so many at most, and nothing else: what is listed is removed by its name.
    fn list(&self, prefix: &str, most: usize) -> Result<Vec<ListObjectsContent>, Trouble> {
        let away = |why: &str| self.http.remote().away(format!("its listing {why}"));
        let mut all = Vec::new();
        let mut token: Option<String> = None;
        loop {
            let mut list = ListObjectsV2::new(&self.bucket, Some(&self.credentials));
            list.with_prefix(prefix.to_owned());
            list.with_max_keys(most.min(1000));
            if let Some(token) = &token {
                list.with_continuation_token(token.clone());
            }
            let text = self.good("cannot list", self.send("GET", list, &[], b"")?)?;
            let told =
                ListObjectsV2::parse_response(&text).map_err(|e| away(&format!("is not understood: {e}")))?;
            for c in told.contents {
                // Some write a space as in a form.
                let plain = [decoded(&c.key), decoded(&c.key.replace('+', " "))];
                let Some(key) = plain.iter().find(|k| k.starts_with(prefix)).cloned() else {
                    return Err(away(&format!("names what was not asked for: {}", shown(&plain[0]))));
                };
                all.push(ListObjectsContent { key, ..c });
            }
            if told.next_continuation_token.is_none() || all.len() >= most {
                return Ok(all);
            }
            if told.next_continuation_token == token || all.len() > MOST_LISTED {
                return Err(away("has no end"));
            }
            token = told.next_continuation_token;
        }
    }

    fn keys(&self, prefix: &str, most: usize) -> Result<Vec<String>, Trouble> {
        Ok(self.list(prefix, most)?.into_iter().map(|c| c.key).collect())
    }

    /// Every object of the place.
    pub fn contents(&self) -> Result<Vec<There>, Trouble> {
        let each = self.list(&self.prefix, usize::MAX)?.into_iter().filter_map(|c| {
            let path = c.key.strip_prefix(&self.prefix)?.to_owned();
            let (etag, modified) = (c.etag.unwrap_or_default(), c.last_modified.unwrap_or_default());
            Some(far::object(path, c.size.unwrap_or(0), &etag, &modified))
        });
        Ok(each.collect())
    }

    /// Within the bucket.
    fn copy(&self, from: &str, to: &str) -> Result<(), Trouble> {
        let source = format!("/{}/{}", self.bucket.name(), encoded(from));
        if let Some(answer) = self.head(from)? {
            let told = |name: &str| answer.headers().get(name).and_then(|v| v.to_str().ok());
            let bytes = length_of(&answer).unwrap_or(0);
            if bytes > COPIED_AT_ONCE {
                // What it is stands with the parts' beginning: it is not taken over as with a copy.
                let ours = Ticket::Staged(Self::ticket_of(&answer).to_owned());
                let headers = self.tags(&ours, told("content-type").unwrap_or("application/octet-stream"));
                return self.copy_in_parts(&source, bytes, to, &headers);
            }
        }
        let put = self.bucket.put_object(Some(&self.credentials), to);
        let answer = self.send("PUT", put, &[("x-amz-copy-source", source)], b"")?;
        self.good(&format!("cannot copy to {to}"), answer).map(|_| ())
    }

    /// A large object, which is copied there in parts (UploadPartCopy).
    fn copy_in_parts(
        &self,
        source: &str,
        bytes: u64,
        to: &str,
        headers: &[(&'static str, String)],
    ) -> Result<(), Trouble> {
        if bytes.div_ceil(COPIED_AT_ONCE) > MOST_COPIED {
            return Err(self.http.remote().away(format!("it says that an object has {bytes} bytes")));
        }
        let id = self.begin_upload(to, headers)?;
        let copied = (0..bytes.div_ceil(COPIED_AT_ONCE)).try_for_each(|n| {
            let (from, end) = (n * COPIED_AT_ONCE, bytes.min((n + 1) * COPIED_AT_ONCE));
            let part = self.bucket.upload_part(Some(&self.credentials), to, n as u16 + 1, &id);
            let headers = [
                ("x-amz-copy-source", source.to_owned()),
                ("x-amz-copy-source-range", format!("bytes={from}-{}", end - 1)),
            ];
            self.good(&format!("cannot copy to {to}"), self.send("PUT", part, &headers, b"")?).map(|_| ())
        });
        match copied.and_then(|()| self.end_upload(to, &id, false)) {
            Ok(_) => Ok(()),
            Err(e) => {
                let _ = self.abort(to, &id);
                Err(e)
            }
        }
    }

    fn begin_upload(&self, key: &str, headers: &[(&'static str, String)]) -> Result<String, Trouble> {
        let create = self.bucket.create_multipart_upload(Some(&self.credentials), key);
        let text = self.good("cannot begin an upload", self.send("POST", create, headers, b"")?)?;
        let told = CreateMultipartUpload::parse_response(&text)
            .map_err(|e| self.http.remote().away(format!("its answer is not understood: {e}")))?;
        Ok(told.upload_id().to_owned())
    }

    /// Its parts become an object; `new`: on condition that there is none.
    fn end_upload(&self, key: &str, id: &str, new: bool) -> Result<Published, Trouble> {
        // A list of parts that lacks the last ones would make an object without its end.
        let sent = self.sent().get(id).cloned();
        let etags = match &sent {
            Some(sent) => sent.etags.clone(),
            None => {
                let parts = self.parts(key, id)?.filter(|p| !p.is_empty());
                let parts = parts.ok_or_else(|| self.http.remote().away("what was begun there is gone"))?;
                parts.iter().map(|p| unquoted(&p.etag).to_owned()).collect()
            }
        };
        let mut complete = self.bucket.complete_multipart_upload(
            Some(&self.credentials),
            key,
            id,
            etags.iter().map(String::as_str),
        );
        let mut headers = vec![("content-type", "application/xml")];
        if new {
            // Where it is known, it refuses a name that was taken in this moment.
            complete.headers_mut().insert("if-none-match", "*");
            headers.push(("if-none-match", "*"));
        }
        let url = complete.sign(SIGNED_FOR);
        let body = complete.body();
        let answer = self.http.send("POST", url.as_str(), &headers, Sends::Bytes(body.as_bytes()))?;
        if answer.status() == StatusCode::PRECONDITION_FAILED {
            return Ok(Published::Taken);
        }
        self.good("cannot end the upload", answer)?;
        if let Some(sent) = sent {
            let length = self.head(key)?.and_then(|a| length_of(&a));
            if length != Some(sent.bytes) {
                let has = length.map_or("nothing".into(), |n| format!("{n} bytes"));
                let why = format!("it has {has} of {key} after all {} were sent", sent.bytes);
                return Err(self.http.remote().away(why));
            }
            self.sent().remove(id);
        }
        Ok(Published::Done)
    }

    fn sent(&self) -> MutexGuard<'_, HashMap<String, Sent>> {
        self.sent.lock().unwrap_or_else(|e| e.into_inner())
    }

    pub fn object(&self, path: &str) -> Result<Option<There>, Trouble> {
        let Some(answer) = self.head(&self.key(path)?)? else { return Ok(None) };
        let told = |name: &str| answer.headers().get(name).and_then(|v| v.to_str().ok()).unwrap_or_default();
        let bytes = told("content-length").parse().unwrap_or(0);
        let found = far::object(path.to_owned(), bytes, told("etag"), told("last-modified"));
        // Encrypted with a key of its own, an object has a tag that is no checksum.
        let plain = matches!(told("x-amz-server-side-encryption"), "" | "AES256");
        Ok(Some(There { md5: found.md5.filter(|_| plain), ..found }))
    }

    pub fn get(
        &self,
        path: &str,
        from: u64,
        take: &mut dyn FnMut(&[u8]) -> Result<(), Trouble>,
    ) -> Result<(), Trouble> {
        let key = self.key(path)?;
        let headers: Vec<(&'static str, String)> =
            if from > 0 { vec![("range", format!("bytes={from}-"))] } else { Vec::new() };
        let get = self.bucket.get_object(Some(&self.credentials), &key);
        let mut answer = self.send("GET", get, &headers, b"")?;
        match answer.status() {
            StatusCode::OK if from == 0 => self.http.each_block(&mut answer, take),
            StatusCode::PARTIAL_CONTENT => self.http.each_block(&mut answer, take),
            _ => Err(self.trouble(&format!("cannot read {path}"), answer)),
        }
    }

    /// Puts a tag on an object, beside those that it has.
    pub fn tag(&self, path: &str, name: &str, value: &str) -> Result<(), Trouble> {
        let key = self.key(path)?;
        let mut get = self.bucket.get_object(Some(&self.credentials), &key);
        get.query_mut().insert("tagging", "");
        let answer = self.send("GET", get, &[], b"")?;
        let mut tags = match answer.status() {
            StatusCode::NOT_FOUND => Vec::new(),
            _ => tags_of(&self.good(&format!("cannot read the tags of {path}"), answer)?),
        };
        if tags.iter().any(|t| *t == (name.to_owned(), value.to_owned())) {
            return Ok(());
        }
        tags.retain(|t| t.0 != name);
        tags.push((name.to_owned(), value.to_owned()));
        let each = tags.iter().map(|(k, v)| {
            format!("<Tag><Key>{}</Key><Value>{}</Value></Tag>", escape(k.as_str()), escape(v.as_str()))
        });
        let body = format!("<Tagging><TagSet>{}</TagSet></Tagging>", each.collect::<String>());
        let mut put = self.bucket.put_object(Some(&self.credentials), &key);
        put.query_mut().insert("tagging", "");
        let sum = STANDARD.encode(Md5::digest(body.as_bytes()));
        let answer = self.send("PUT", put, &[("content-md5", sum)], body.as_bytes())?;
        self.good(&format!("cannot tag {path}"), answer).map(|_| ())
    }

    pub fn delete_named(&self, path: &str) -> Result<(), Trouble> {
        self.delete(&self.key(path)?)
    }

    /// Under another name, unless that is taken; then the first goes.
    pub fn copy_over(&self, path: &str, to: &str) -> Result<Published, Trouble> {
        let (from, to) = (self.key(path)?, self.key(to)?);
        if self.head(&to)?.is_some() {
            return Ok(Published::Taken);
        }
        self.copy(&from, &to)?;
        self.delete(&from)?;
        Ok(Published::Done)
    }

    fn tags(&self, ticket: &Ticket, kind: &str) -> Vec<(&'static str, String)> {
        let mut headers = vec![(TICKET, tag_of(ticket).to_owned()), ("content-type", kind.to_owned())];
        if let Some(class) = &self.storage_class {
            headers.push(("x-amz-storage-class", class.clone()));
        }
        headers
    }

    fn upload(ticket: &Ticket) -> Option<&str> {
        match ticket {
            Ticket::Upload { id, .. } => Some(id),
            _ => None,
        }
    }

    fn parts(&self, key: &str, id: &str) -> Result<Option<Vec<PartsContent>>, Trouble> {
        let mut all = Vec::new();
        let mut from = None;
        loop {
            let mut list = ListParts::new(&self.bucket, Some(&self.credentials), key, id);
            if let Some(from) = from {
                list.set_part_number_marker(from);
            }
            let answer = self.send("GET", list, &[], b"")?;
            if answer.status() == StatusCode::NOT_FOUND {
                return Ok(None);
            }
            let text = self.good("cannot list the parts", answer)?;
            let told: ListPartsResponse = ListParts::parse_response(&text)
                .map_err(|e| self.http.remote().away(format!("its list of parts is not understood: {e}")))?;
            let is_last = told.next_part_number_marker.is_none() || told.parts.is_empty();
            all.extend(told.parts);
            if is_last {
                all.sort_by_key(|p| p.number);
                return Ok(Some(all));
            }
            if told.next_part_number_marker <= from {
                return Err(self.http.remote().away("its list of parts has no end"));
            }
            from = told.next_part_number_marker;
        }
    }

    /// One file as parts; those that are there and are right are not sent again.
    fn send_parts(
        &self,
        cargo: &Cargo,
        key: &str,
        id: &str,
        f: &MadeFile,
        w: &dyn Watching,
    ) -> Result<Proof, Trouble> {
        let gone = || self.http.remote().away("what was begun there is gone");
        let there = self.parts(key, id)?.ok_or_else(gone)?;
        let path = cargo.at(f);
        let mut feed = Feed::open(&path, f.bytes, w)?;
        let size = part_size(f.bytes);
        let count = f.bytes.div_ceil(size).max(1) as u16;
        // Of something longer that was made before: its last parts would be taken for ours.
        if there.iter().any(|p| p.number > count) {
            self.abort(key, id)?;
            return Err(self.http.remote().away("what was begun there is of another file: it begins anew"));
        }
        // A place answers a part when it has it on its disk: meanwhile others are sent.
        let (give, parts) = sync_channel::<(u16, Vec<u8>)>(0);
        let (parts, failed) = (Mutex::new(parts), Mutex::new(None::<Trouble>));
        let etags = Mutex::new(vec![String::new(); count.into()]);
        let failed_now = || failed.lock().unwrap_or_else(|e| e.into_inner());
        let work = || {
            loop {
                let next = parts.lock().unwrap_or_else(|e| e.into_inner()).recv();
                let Ok((number, block)) = next else { return };
                let has = there.iter().find(|p| p.number == number);
                match self.send_part(key, id, number, &block, has, w) {
                    Ok(etag) => {
                        etags.lock().unwrap_or_else(|e| e.into_inner())[usize::from(number) - 1] = etag;
                        w.passed(block.len() as u64);
                    }
                    // The first counts: others may be of its making.
                    Err(e) => _ = failed_now().get_or_insert(e),
                }
            }
        };
        let fed = std::thread::scope(|scope| {
            let give = give;
            for _ in 0..(HELD / size).clamp(1, AT_ONCE).min(count.into()) {
                scope.spawn(work);
            }
            for number in 1..=count {
                let mut block = Vec::with_capacity(size.min(feed.left()) as usize);
                if let Err(e) = (&mut feed).take(size).read_to_end(&mut block) {
                    return Err(feed.failure().unwrap_or_else(|| Trouble::Changed(e.to_string())));
                }
                if failed_now().is_some() || give.send((number, block)).is_err() {
                    break;
                }
            }
            Ok(())
        });
        if let Some(e) = failed_now().take() {
            return Err(e);
        }
        fed?;
        feed.verify(&f.digest)?;
        let etags = etags.into_inner().unwrap_or_else(|e| e.into_inner());
        self.sent().insert(id.to_owned(), Sent { etags, bytes: f.bytes });
        Ok(Proof::Checksum)
    }

    /// Its checksum there; a part, unless it is there as it is.
    fn send_part(
        &self,
        key: &str,
        id: &str,
        number: u16,
        block: &[u8],
        there: Option<&PartsContent>,
        w: &dyn Watching,
    ) -> Result<String, Trouble> {
        let sum = Md5::digest(block);
        if there.is_some_and(|p| unquoted(&p.etag) == hex(&sum) && p.size == block.len() as u64) {
            return Ok(hex(&sum));
        }
        let part = self.bucket.upload_part(Some(&self.credentials), key, number, id);
        let headers = [("content-md5", STANDARD.encode(sum))];
        let answer = self.send_all("PUT", part, &headers, Sends::Watched(block, w))?;
        let etag = answer.headers().get("etag").and_then(|v| v.to_str().ok()).map(str::to_owned);
        self.good(&format!("cannot send part {number}"), answer)?;
        // The place's own checksum of what it got.
        if etag.as_deref().map(unquoted) == Some(hex(&sum).as_str()) {
            return Ok(hex(&sum));
        }
        let etag = etag.unwrap_or_default();
        let why = format!("part {number} has another checksum there ({etag}, expected {})", hex(&sum));
        Err(self.http.remote().away(why))
    }

    /// A file of many that an earlier try of this ticket sent whole.
    fn is_staged(&self, key: &str, ticket: &Ticket, f: &MadeFile) -> Result<bool, Trouble> {
        let Some(answer) = self.head(key)? else { return Ok(false) };
        let told = |name: &str| answer.headers().get(name).and_then(|v| v.to_str().ok());
        let is_of_it = Self::ticket_of(&answer) == tag_of(ticket) && told(DIGEST) == Some(f.digest.as_str());
        Ok(is_of_it && length_of(&answer) == Some(f.bytes))
    }

    /// The files of an output of many, each under the ticket's own name.
    fn stage_many(&self, cargo: &Cargo, ticket: &Ticket, w: &dyn Watching) -> Result<Proof, Trouble> {
        for f in &cargo.files {
            let key = self.key(&format!("{}/{}", tag_of(ticket), f.inside))?;
            if self.is_staged(&key, ticket, f)? {
                w.passed(f.bytes);
                continue;
            }
            if f.bytes > SENT_AT_ONCE {
                let mut headers = self.tags(ticket, kind_of(&f.inside));
                headers.push((DIGEST, f.digest.clone()));
                let id = self.begin_upload(&key, &headers)?;
                let sent = self.send_parts(cargo, &key, &id, f, w);
                if let Err(e) = sent.and_then(|_| self.end_upload(&key, &id, false)) {
                    let _ = self.abort(&key, &id);
                    return Err(e);
                }
                continue;
            }
            let path = cargo.at(f);
            let mut feed = Feed::open(&path, f.bytes, w)?;
            let mut bytes = Vec::new();
            if let Err(e) = feed.read_to_end(&mut bytes) {
                return Err(feed.failure().unwrap_or_else(|| Trouble::Changed(e.to_string())));
            }
            feed.verify(&f.digest)?;
            let sum = Md5::digest(&bytes);
            let mut headers = self.tags(ticket, kind_of(&f.inside));
            headers.push(("content-md5", STANDARD.encode(sum)));
            headers.push((DIGEST, f.digest.clone()));
            let put = self.bucket.put_object(Some(&self.credentials), &key);
            let answer = self.send_all("PUT", put, &headers, Sends::Watched(&bytes, w))?;
            let etag = answer.headers().get("etag").and_then(|v| v.to_str().ok()).map(str::to_owned);
            self.good(&format!("cannot send {}", f.inside), answer)?;
            if etag.as_deref().map(unquoted) != Some(hex(&sum).as_str()) {
                return Err(self.http.remote().away(format!("{} has another checksum there", f.inside)));
            }
            w.passed(f.bytes);
        }
        Ok(Proof::Checksum)
    }

    /// Copies what is staged over, unless something else is there.
    fn publish_many(&self, ticket: &Ticket, name: &str) -> Result<Published, Trouble> {
        let (from, to) = (self.key(tag_of(ticket))?, self.key(name)?);
        for key in self.keys(&format!("{to}/"), usize::MAX)? {
            // Of a publishing that a kill broke off.
            if self.head(&key)?.is_none_or(|a| Self::ticket_of(&a) != tag_of(ticket)) {
                return Ok(Published::Taken);
            }
        }
        if self.head(&to)?.is_some() {
            return Ok(Published::Taken);
        }
        let mut staged = self.keys(&format!("{from}/"), usize::MAX)?;
        if staged.is_empty() {
            return Err(self.http.remote().away("what was staged is gone"));
        }
        // What others stand in comes when they are there: the deepest first, and lists behind all.
        staged.sort_by_key(|k| {
            (
                k.ends_with(".m3u8") || k.ends_with(".mpd") || k.ends_with(".vtt"),
                usize::MAX - k.matches('/').count(),
            )
        });
        for key in &staged {
            let inner = &key[from.len() + 1..];
            let target = format!("{to}/{inner}");
            self.copy(key, &target)?;
        }
        for key in &staged {
            self.delete(key)?;
        }
        Ok(Published::Done)
    }

    fn abort(&self, key: &str, id: &str) -> Result<(), Trouble> {
        let abort = self.bucket.abort_multipart_upload(Some(&self.credentials), key, id);
        let answer = self.send("DELETE", abort, &[], b"")?;
        match answer.status() {
            StatusCode::NOT_FOUND => Ok(()),
            _ => self.good("cannot end the upload", answer).map(|_| ()),
        }
    }

    fn delete(&self, key: &str) -> Result<(), Trouble> {
        let answer =
            self.send("DELETE", self.bucket.delete_object(Some(&self.credentials), key), &[], b"")?;
        match answer.status() {
            StatusCode::NOT_FOUND => Ok(()),
            _ => self.good(&format!("cannot remove {key}"), answer).map(|_| ()),
        }
    }
}

fn tag_of(ticket: &Ticket) -> &str {
    match ticket {
        Ticket::Staged(name) => name,
        Ticket::Upload { tag, .. } => tag,
        Ticket::Unknown => "",
    }
}

/// The media type that a browser or a player asks for.
fn kind_of(name: &str) -> &'static str {
    match name.rsplit('.').next().unwrap_or_default() {
        "mp4" | "m4s" | "m4v" => "video/mp4",
        "mov" => "video/quicktime",
        "webm" => "video/webm",
        "mkv" => "video/matroska",
        "m4a" => "audio/mp4",
        "mp3" => "audio/mpeg",
        "wav" => "audio/wav",
        "flac" => "audio/flac",
        "ogg" | "opus" => "audio/ogg",
        "jpg" => "image/jpeg",
        "png" => "image/png",
        "gif" => "image/gif",
        "webp" => "image/webp",
        "vtt" => "text/vtt",
        "txt" | "srt" => "text/plain; charset=utf-8",
        "html" => "text/html; charset=utf-8",
        "json" => "application/json",
        "m3u8" => "application/vnd.apple.mpegurl",
        "mpd" => "application/dash+xml",
        _ => "application/octet-stream",
    }
}

impl Place for S3Place {
    fn about(&self) -> About {
        About { refuses_taken: true, proof: Proof::Checksum, staged_by_name: true }
    }

    fn look(&self) -> Result<(), Trouble> {
        let key = self.key(&format!(".try-{}", crate::clock::nonce()))?;
        let put = self.bucket.put_object(Some(&self.credentials), &key);
        self.good("cannot write there", self.send("PUT", put, &[], b"a try\n")?)?;
        self.delete(&key)
    }

    fn has(&self, name: &str) -> Result<bool, Trouble> {
        let key = self.key(name)?;
        Ok(self.head(&key)?.is_some() || !self.keys(&format!("{key}/"), 1)?.is_empty())
    }

    fn begin(&self, tag: &str) -> Result<Ticket, Trouble> {
        Ok(super::site::new_ticket(tag))
    }

    fn prepare(&self, cargo: &Cargo, name: &str, ticket: &Ticket) -> Result<Ticket, Trouble> {
        if cargo.is_folder() {
            return Ok(ticket.clone());
        }
        let key = self.key(name)?;
        if let Some(id) = Self::upload(ticket)
            && self.parts(&key, id)?.is_some()
        {
            return Ok(ticket.clone());
        }
        let id = self.begin_upload(&key, &self.tags(ticket, kind_of(name)))?;
        Ok(Ticket::Upload { tag: tag_of(ticket).to_owned(), id })
    }

    fn stage(&self, cargo: &Cargo, name: &str, ticket: &Ticket, w: &dyn Watching) -> Result<Proof, Trouble> {
        let key = self.key(name)?;
        if cargo.is_folder() {
            return self.stage_many(cargo, ticket, w);
        }
        let file = cargo.files.first().ok_or_else(|| Trouble::Changed("nothing to carry".into()))?;
        let id = Self::upload(ticket).ok_or_else(|| self.http.remote().away("nothing was begun there"))?;
        let sent = self.send_parts(cargo, &key, id, file, w);
        if let Err(Trouble::Changed(_)) = sent {
            let _ = self.discard(name, ticket);
        }
        sent
    }

    fn publish(&self, ticket: &Ticket, name: &str) -> Result<Published, Trouble> {
        let Some(id) = Self::upload(ticket) else { return self.publish_many(ticket, name) };
        let key = self.key(name)?;
        if self.has(name)? {
            return Ok(Published::Taken);
        }
        self.end_upload(&key, id, true)
    }

    fn whose(&self, name: &str, ticket: &Ticket, cargo: &Cargo) -> Result<Whose, Trouble> {
        let key = self.key(name)?;
        let is_ours = |key: &str, bytes: u64| -> Result<Option<bool>, Trouble> {
            Ok(self.head(key)?.map(|a| Self::ticket_of(&a) == tag_of(ticket) && length_of(&a) == Some(bytes)))
        };
        if !cargo.is_folder() {
            let bytes = cargo.files.iter().map(|f| f.bytes).sum();
            return Ok(match is_ours(&key, bytes)? {
                Some(true) => Whose::Ours,
                Some(false) => Whose::Other,
                None if !self.keys(&format!("{key}/"), 1)?.is_empty() => Whose::Other,
                None => Whose::Nothing,
            });
        }
        if self.head(&key)?.is_some() {
            return Ok(Whose::Other);
        }
        let mut missing = 0;
        for f in &cargo.files {
            match is_ours(&format!("{key}/{}", f.inside), f.bytes)? {
                Some(true) => (),
                Some(false) => return Ok(Whose::Other),
                None => missing += 1,
            }
        }
        // Of ours some may be there already: the rest comes.
        Ok(if missing == 0 { Whose::Ours } else { Whose::Nothing })
    }

    /// A link that anybody can open who has it, for a while (SigV4 in the query).
    fn address(&self, name: &str, _: &Ticket) -> Result<Option<String>, Trouble> {
        let Some(span) = self.link else { return Ok(None) };
        let key = self.key(name)?;
        // A folder of many files has no address of its own.
        if self.head(&key)?.is_none() {
            return Ok(None);
        }
        let get = self.bucket.get_object(Some(&self.credentials), &key);
        Ok(Some(get.sign(span).to_string()))
    }

    fn discard(&self, name: &str, ticket: &Ticket) -> Result<(), Trouble> {
        if tag_of(ticket).is_empty() {
            return Ok(());
        }
        if let Some(id) = Self::upload(ticket) {
            let key = self.key(name)?;
            return self.abort(&key, id);
        }
        // What was published of it, and what is staged: by the names that it alone has.
        for key in self.keys(&format!("{}/", self.key(tag_of(ticket))?), usize::MAX)? {
            self.delete(&key)?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0, PART)]
    #[case(5_000_000_000_000, 5_000_000_000_000u64.div_ceil(MOST_PARTS))]
    fn parts_are_never_too_many(#[case] bytes: u64, #[case] want: u64) {
        assert_eq!(part_size(bytes), want);
        assert!(bytes.div_ceil(part_size(bytes)) <= 10_000);
    }

    #[test]
    fn tags_are_read_as_they_are_told() {
        let text = "<Tagging><TagSet><Tag><Key>a&amp;b</Key><Value>1</Value></Tag><Tag><Key>c</Key><Value></Value></Tag></TagSet></Tagging>";
        let want = [("a&b", "1"), ("c", "")].map(|(k, v)| (k.to_owned(), v.to_owned()));
        assert_eq!(tags_of(text), want);
        assert_eq!(tags_of("<Tagging><TagSet/></Tagging>"), []);
    }

    #[test]
    fn words_of_a_refusal_are_found() {
        let text = "<Error><Code>AccessDenied</Code><Message>No.</Message></Error>";
        assert_eq!((element(text, "Code"), element(text, "Message")), (Some("AccessDenied"), Some("No.")));
        assert_eq!(element("<Code>", "Code"), None);
    }
}
