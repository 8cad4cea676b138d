//! What places over HTTP have in common (RFC 9110): a login, certificates, and answers that say who can act.

use super::feed::Feed;
use super::{Remote, Trouble};
use crate::files::Watching;
use crate::services::{Hidden, Login, Secret, authorization, certificates};
use std::io::{self, Read};
use std::time::Duration;
use ureq::http::{Request, Response, StatusCode, header};
use ureq::tls::{Certificate, RootCerts, TlsConfig};
use ureq::{Agent, Body, SendBody};

/// Most bytes of an answer that is no file.
const MAX_ANSWER: u64 = 64_000_000;
/// Most of an answer that is shown.
const MAX_SHOWN: usize = 200;
const BLOCK: usize = 1 << 18;

pub struct Http {
    remote: Remote,
    agent: Agent,
    login: Option<Hidden>,
    secrets: Vec<Hidden>,
    /// Scheme, host and port.
    root: String,
}

/// What goes along with a request.
pub enum Sends<'a, 'f> {
    Nothing,
    Bytes(&'a [u8]),
    /// Many of them, which stop when that is wanted.
    Watched(&'a [u8], &'a dyn Watching),
    /// The next so many bytes of it.
    Feed(&'a mut Feed<'f>, u64),
}

struct Watched<'a> {
    bytes: &'a [u8],
    watching: &'a dyn Watching,
}

impl Read for Watched<'_> {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        match self.watching.stopping() {
            true => Err(io::Error::other("stopped")),
            false => self.bytes.read(to),
        }
    }
}

/// The certificates that are trusted instead of the public ones.
fn trusted(remote: &Remote) -> Result<Option<Vec<Certificate<'static>>>, Trouble> {
    remote.certificates.as_ref().map(|path| certificates(path).map_err(|e| remote.refused(e))).transpose()
}

/// What TLS trusts, for protocols that bring their own connection.
pub fn roots(remote: &Remote) -> Result<rustls::ClientConfig, Trouble> {
    let mut store = rustls::RootCertStore::empty();
    match trusted(remote)? {
        None => store.extend(webpki_roots::TLS_SERVER_ROOTS.iter().cloned()),
        Some(all) => {
            for c in all {
                let der = rustls::pki_types::CertificateDer::from(c.der().to_vec());
                store.add(der).map_err(|e| remote.refused(format!("a certificate is not one: {e}")))?;
            }
        }
    }
    let provider = std::sync::Arc::new(rustls::crypto::ring::default_provider());
    let config = rustls::ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|e| remote.refused(e))?;
    Ok(config.with_root_certificates(store).with_no_client_auth())
}

/// A path as it stands in an address (RFC 3986, section 2.3).
pub fn encoded(path: &str) -> String {
    let mut out = String::new();
    for byte in path.bytes() {
        match byte {
            b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' | b'/' => {
                out.push(byte as char)
            }
            _ => out.push_str(&format!("%{byte:02X}")),
        }
    }
    out
}

/// The other way round; what is no such text stays as it is, what is not UTF-8 is told as [`char::REPLACEMENT_CHARACTER`].
pub fn decoded(text: &str) -> String {
    let (mut out, bytes) = (Vec::new(), text.as_bytes());
    let mut at = 0;
    while at < bytes.len() {
        let two = bytes.get(at + 1..at + 3).and_then(|h| std::str::from_utf8(h).ok());
        match (bytes[at], two.and_then(|h| u8::from_str_radix(h, 16).ok())) {
            (b'%', Some(byte)) => {
                out.push(byte);
                at += 3;
            }
            (byte, _) => {
                out.push(byte);
                at += 1;
            }
        }
    }
    String::from_utf8_lossy(&out).into_owned()
}

impl Http {
    /// `plain`: requests carry their login otherwise.
    pub fn new(remote: &Remote, plain: bool) -> Result<Http, Trouble> {
        let (login, secrets) = match &remote.login {
            login if plain || *login == Login::None => (None, Vec::new()),
            login => {
                let (header, secrets) = authorization(login).map_err(|e| remote.refused(e))?;
                (header, secrets)
            }
        };
        let mut config = Agent::config_builder()
            .timeout_connect(Some(remote.timeout))
            .timeout_resolve(Some(remote.timeout))
            .timeout_per_read(Some(remote.timeout))
            .timeout_per_write(Some(remote.timeout))
            .timeout_await_100(Some(Duration::from_secs(2)))
            .allow_non_standard_methods(true)
            .http_status_as_error(false)
            // What is answered from elsewhere is told: a login is never carried along.
            .max_redirects(0)
            .max_redirects_will_error(false)
            .user_agent(concat!("deft-porter/", env!("CARGO_PKG_VERSION")));
        if let Some(trusted) = trusted(remote)? {
            config = config
                .tls_config(TlsConfig::builder().root_certs(RootCerts::new_with_certs(&trusted)).build());
        }
        let scheme = if remote.tls { "https" } else { "http" };
        let host = if remote.host.contains(':') { format!("[{}]", remote.host) } else { remote.host.clone() };
        let root = format!("{scheme}://{host}:{}", remote.port);
        Ok(Http { remote: remote.clone(), agent: config.build().into(), login, secrets, root })
    }

    pub fn remote(&self) -> &Remote {
        &self.remote
    }

    /// Scheme, host and port.
    pub fn root(&self) -> &str {
        &self.root
    }

    /// The whole address of a path.
    pub fn url(&self, path: &str) -> String {
        format!("{}{}", self.root, encoded(path))
    }

    pub fn send(
        &self,
        method: &str,
        url: &str,
        headers: &[(&str, &str)],
        sends: Sends<'_, '_>,
    ) -> Result<Response<Body>, Trouble> {
        let mut request = Request::builder().method(method).uri(url);
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        // A token that is renewed may be another one by now.
        let renewed = match &self.remote.login {
            Login::Token(Secret::Signed(s)) if self.login.is_some() => {
                let token = s.token().map_err(|e| self.remote.refused(e))?;
                Some(Hidden::new(format!("Bearer {}", token.tell())))
            }
            _ => None,
        };
        // Only to the place itself.
        let login = renewed.as_ref().or(self.login.as_ref());
        if let Some(login) = login.filter(|_| url.starts_with(&self.root)) {
            request = request.header(header::AUTHORIZATION, login.tell());
        }
        let wrong = |e: ureq::http::Error| self.remote.refused(format!("that cannot be asked: {e}"));
        let agent = &self.agent;
        let result = match sends {
            Sends::Nothing => agent.run(request.body(()).map_err(wrong)?),
            Sends::Bytes(bytes) => agent.run(request.body(bytes).map_err(wrong)?),
            Sends::Watched(bytes, watching) => {
                let request = request.header(header::CONTENT_LENGTH, bytes.len());
                let mut body = Watched { bytes, watching };
                let sent = agent.run(request.body(SendBody::from_reader(&mut body)).map_err(wrong)?);
                if sent.is_err() && watching.stopping() {
                    return Err(Trouble::Stopped);
                }
                sent
            }
            Sends::Feed(feed, bytes) => {
                let request = request.header(header::CONTENT_LENGTH, bytes);
                let mut some = feed.by_ref().take(bytes);
                let sent = agent.run(request.body(SendBody::from_reader(&mut some)).map_err(wrong)?);
                if let (Err(_), Some(own)) = (&sent, feed.failure()) {
                    return Err(own);
                }
                sent
            }
        };
        result.map_err(|e| match e {
            ureq::Error::Timeout(_) => {
                self.remote.away(format!("no answer in {} s", self.remote.timeout.as_secs()))
            }
            ureq::Error::Tls(why) => self.remote.refused(why),
            ureq::Error::Rustls(e) => self.remote.refused(e),
            ureq::Error::Io(e) if super::ftp::is_of_tls(&e) => self.remote.refused(e),
            e => self.remote.away(e),
        })
    }

    /// The whole of an answer that is no file.
    pub fn text(&self, response: &mut Response<Body>) -> Result<String, Trouble> {
        let mut bytes = Vec::new();
        let read = response.body_mut().with_config().limit(MAX_ANSWER).reader().read_to_end(&mut bytes);
        read.map_err(|e| self.remote.away(format!("its answer broke off: {e}")))?;
        Ok(String::from_utf8_lossy(&bytes).into_owned())
    }

    /// Who can act when this is the answer.
    pub fn trouble(&self, what: &str, mut response: Response<Body>) -> Trouble {
        let status = response.status();
        let told = self.text(&mut response).unwrap_or_default();
        let elsewhere = response.headers().get(header::LOCATION).and_then(|v| v.to_str().ok());
        let mut why = format!("{what}: {status}");
        // Before it is made short: of a secret that is cut the beginning would be left.
        let told = plain(&self.secrets.iter().fold(told, |t, s| s.cover(&t)));
        if !told.is_empty() {
            why.push_str(&format!(": {told}"));
        }
        match status {
            StatusCode::INSUFFICIENT_STORAGE => Trouble::Full(format!("{}: {why}", self.remote.address)),
            s if s.is_redirection() => {
                let to = elsewhere.map(|e| e.split('?').next().unwrap_or(e)).unwrap_or("elsewhere");
                self.remote.refused(format!("{what}: it answers from {}: write that address", plain(to)))
            }
            StatusCode::REQUEST_TIMEOUT
            | StatusCode::TOO_EARLY
            | StatusCode::TOO_MANY_REQUESTS
            | StatusCode::LOCKED
            | StatusCode::NOT_FOUND
            | StatusCode::CONFLICT => self.remote.away(why),
            s if s.is_server_error() => self.remote.away(why),
            _ => self.remote.refused(why),
        }
    }

    /// What a file that is answered with gives.
    pub fn each_block(
        &self,
        response: &mut Response<Body>,
        take: &mut dyn FnMut(&[u8]) -> Result<(), Trouble>,
    ) -> Result<(), Trouble> {
        let wanted = response.body().content_length();
        let mut reader = response.body_mut().with_config().limit(u64::MAX).reader();
        let (mut block, mut got) = (vec![0; BLOCK], 0u64);
        loop {
            match reader.read(&mut block) {
                Ok(0) if wanted.is_some_and(|w| got < w) => {
                    return Err(self.remote.away("its answer broke off"));
                }
                Ok(0) => return Ok(()),
                Ok(n) => {
                    got += n as u64;
                    take(&block[..n])?;
                }
                Err(e) => return Err(self.remote.away(format!("its answer broke off: {e}"))),
            }
        }
    }
}

/// Words of an answer: without marks of pages, and short.
fn plain(text: &str) -> String {
    let (mut out, mut inside) = (String::new(), false);
    for c in text.chars() {
        match c {
            '<' => inside = true,
            '>' => {
                inside = false;
                out.push(' ');
            }
            _ if inside => (),
            c => out.push(if c.is_control() { ' ' } else { c }),
        }
    }
    let words: Vec<&str> = out.split_whitespace().collect();
    words.join(" ").chars().take(MAX_SHOWN).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("/day 1/a+b_ü.mp4", "/day%201/a%2Bb_%C3%BC.mp4")]
    #[case("/100%", "/100%25")]
    fn paths_go_into_addresses_and_back(#[case] path: &str, #[case] want: &str) {
        assert_eq!(encoded(path), want);
        assert_eq!(decoded(want), path);
    }

    #[test]
    fn what_is_no_encoding_stays() {
        assert_eq!(decoded("a%2"), "a%2");
        assert_eq!(decoded("%zz"), "%zz");
        assert_eq!(decoded("%ff"), "\u{fffd}");
    }

    #[test]
    fn pages_are_told_without_their_marks() {
        assert_eq!(plain("<html><b>No\nroom</b> <i>here</i></html>"), "No room here");
    }
}
