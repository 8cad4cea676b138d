//! WebDAV (RFC 4918).

use super::super::Published;
use super::feed::Feed;
use super::http::{Http, Sends, decoded, encoded};
use super::site::{Kind, Site, Stands};
use super::{Remote, Trouble};
use crate::clock;
use quick_xml::Reader;
use quick_xml::events::Event;
use ureq::http::StatusCode;

const ASKED: &[u8] = b"<?xml version=\"1.0\" encoding=\"utf-8\"?><D:propfind xmlns:D=\"DAV:\"><D:prop>\
<D:resourcetype/><D:getcontentlength/><D:getlastmodified/></D:prop></D:propfind>";

pub struct WebDav {
    http: Http,
}

impl WebDav {
    pub fn connect(remote: &Remote) -> Result<WebDav, Trouble> {
        Ok(WebDav { http: Http::new(remote, false)? })
    }

    fn ask(&self, path: &str, depth: &str) -> Result<Option<Vec<(String, Stands)>>, Trouble> {
        let headers = [("Depth", depth), ("Content-Type", "application/xml; charset=utf-8")];
        let url = self.http.url(path);
        let mut answer = self.http.send("PROPFIND", &url, &headers, Sends::Bytes(ASKED))?;
        match answer.status() {
            StatusCode::MULTI_STATUS => {
                let text = self.http.text(&mut answer)?;
                told(&text)
                    .map(Some)
                    .map_err(|e| self.http.remote().away(format!("its listing is not understood: {e}")))
            }
            StatusCode::NOT_FOUND => Ok(None),
            _ => Err(self.http.trouble(&format!("cannot look at {path}"), answer)),
        }
    }

    fn done(&self, what: &str, answer: ureq::http::Response<ureq::Body>) -> Result<(), Trouble> {
        match answer.status() {
            s if s.is_success() && s != StatusCode::MULTI_STATUS => Ok(()),
            _ => Err(self.http.trouble(what, answer)),
        }
    }
}

/// Each thing of a multi-status answer: its path and what it is.
fn told(text: &str) -> Result<Vec<(String, Stands)>, quick_xml::Error> {
    let mut reader = Reader::from_str(text);
    let mut all = Vec::new();
    let nothing = Stands { bytes: 0, kind: Kind::File, modified: None };
    let (mut path, mut stands, mut words) = (String::new(), nothing, String::new());
    loop {
        match reader.read_event()? {
            Event::Eof => return Ok(all),
            Event::Start(e) | Event::Empty(e) if e.local_name().as_ref() == "collection" => {
                stands.kind = Kind::Folder;
            }
            Event::Start(e) => {
                words.clear();
                if e.local_name().as_ref() == "response" {
                    (path, stands) = (String::new(), nothing);
                }
            }
            Event::Text(t) => words.push_str(t.as_ref()),
            Event::GeneralRef(r) => match r.resolve_char_ref() {
                Ok(Some(c)) => words.push(c),
                _ => words.push_str(match r.as_ref() {
                    "amp" => "&",
                    "lt" => "<",
                    "gt" => ">",
                    "quot" => "\"",
                    "apos" => "'",
                    _ => "",
                }),
            },
            Event::End(e) => match e.local_name().as_ref() {
                "href" => {
                    // An address or a path.
                    let whole = words.trim();
                    let from = whole.find("://").and_then(|at| whole[at + 3..].find('/').map(|n| at + 3 + n));
                    path = decoded(whole[from.unwrap_or(0)..].trim_end_matches('/'));
                }
                "getcontentlength" => stands.bytes = words.trim().parse().unwrap_or(0),
                "getlastmodified" => stands.modified = clock::mail_date(words.trim()),
                "response" => all.push((path.clone(), stands)),
                _ => (),
            },
            _ => (),
        }
    }
}

impl Site for WebDav {
    fn look(&mut self, path: &str) -> Result<Option<Stands>, Trouble> {
        let path = if path.is_empty() { "/" } else { path };
        Ok(self.ask(path, "0")?.and_then(|all| all.first().map(|(_, s)| *s)))
    }

    fn list(&mut self, folder: &str) -> Result<Vec<(String, Stands)>, Trouble> {
        let all = self.ask(&format!("{folder}/"), "1")?.unwrap_or_default();
        let inside = all.into_iter().filter(|(path, _)| path != folder);
        Ok(inside.map(|(path, s)| (path.rsplit('/').next().unwrap_or_default().to_owned(), s)).collect())
    }

    fn make_folder(&mut self, path: &str) -> Result<(), Trouble> {
        let answer = self.http.send("MKCOL", &self.http.url(path), &[], Sends::Nothing)?;
        // Another task made it in this moment.
        if answer.status() == StatusCode::METHOD_NOT_ALLOWED && self.look(path)?.is_some() {
            return Ok(());
        }
        self.done(&format!("cannot make the folder {path}"), answer)
    }

    fn write(&mut self, path: &str, _: u64, source: &mut Feed<'_>) -> Result<(), Trouble> {
        let headers = [("Content-Type", "application/octet-stream")];
        let all = source.left();
        let answer = self.http.send("PUT", &self.http.url(path), &headers, Sends::Feed(source, all))?;
        self.done(&format!("cannot write {path}"), answer)
    }

    fn read(
        &mut self,
        path: &str,
        from: u64,
        take: &mut dyn FnMut(&[u8]) -> Result<(), Trouble>,
    ) -> Result<(), Trouble> {
        let range = format!("bytes={from}-");
        let headers: &[(&str, &str)] = if from > 0 { &[("Range", &range)] } else { &[] };
        let mut answer = self.http.send("GET", &self.http.url(path), headers, Sends::Nothing)?;
        match answer.status() {
            StatusCode::OK if from == 0 => self.http.each_block(&mut answer, take),
            StatusCode::PARTIAL_CONTENT => self.http.each_block(&mut answer, take),
            _ => Err(self.http.trouble(&format!("cannot read {path}"), answer)),
        }
    }

    fn rename(&mut self, from: &str, to: &str) -> Result<Published, Trouble> {
        let target = format!("{}{}", self.http.root(), encoded(to));
        let headers = [("Destination", target.as_str()), ("Overwrite", "F")];
        let answer = self.http.send("MOVE", &self.http.url(from), &headers, Sends::Nothing)?;
        if answer.status() == StatusCode::PRECONDITION_FAILED {
            return Ok(Published::Taken);
        }
        self.done(&format!("cannot rename to {to}"), answer).map(|()| Published::Done)
    }

    fn remove(&mut self, path: &str) -> Result<(), Trouble> {
        let answer = self.http.send("DELETE", &self.http.url(path), &[], Sends::Nothing)?;
        if answer.status() == StatusCode::NOT_FOUND {
            return Ok(());
        }
        self.done(&format!("cannot remove {path}"), answer)
    }

    fn remove_folder(&mut self, path: &str) -> Result<(), Trouble> {
        self.remove(path)
    }

    /// A file is put whole or not at all.
    fn resumes(&self) -> bool {
        false
    }

    fn refuses_taken(&self) -> bool {
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_listing_of_several_things_is_read() {
        let text = r#"<?xml version="1.0"?><d:multistatus xmlns:d="DAV:">
            <d:response><d:href>http://nas.house.example/in/day%201/</d:href><d:propstat><d:prop>
              <d:resourcetype><d:collection/></d:resourcetype></d:prop></d:propstat></d:response>
            <d:response><d:href>/in/day%201/a&amp;b.mp4</d:href><d:propstat><d:prop>
              <d:resourcetype/><d:getcontentlength>5</d:getcontentlength>
              <d:getlastmodified>Thu, 01 Jan 1970 00:00:02 GMT</d:getlastmodified>
              </d:prop></d:propstat></d:response></d:multistatus>"#;
        let all = told(text).unwrap();
        let folder = Stands { bytes: 0, kind: Kind::Folder, modified: None };
        let file = Stands { bytes: 5, kind: Kind::File, modified: Some(2_000_000) };
        assert_eq!(all, [("/in/day 1".to_owned(), folder), ("/in/day 1/a&b.mp4".to_owned(), file)]);
        assert!(told("<d:multistatus><d:response>").map_or(true, |all| all.is_empty()));
        assert!(told("<a></b>").is_err());
    }
}
