//! FTP (RFC 959, with the listings of RFC 3659), and the same within TLS (RFC 4217).

use super::super::Published;
use super::feed::Feed;
use super::http::roots;
use super::site::{Kind, MOST_LISTED, Site, Stands};
use super::{Remote, Trouble};
use crate::clock;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::net::{TcpStream, ToSocketAddrs};
use std::sync::Arc;
use std::time::Duration;
use suppaftp::types::{FileType, FtpError, Mode};
use suppaftp::{RustlsConnector, RustlsFtpStream, Status};

const BLOCK: usize = 1 << 18;
/// Of a listing.
const LONGEST_LINE: u64 = 1 << 16;

pub struct Ftp {
    remote: Remote,
    stream: RustlsFtpStream,
}

fn timed(stream: TcpStream, limit: Duration) -> io::Result<TcpStream> {
    stream.set_read_timeout(Some(limit))?;
    stream.set_write_timeout(Some(limit))?;
    Ok(stream)
}

impl Ftp {
    pub fn connect(remote: &Remote) -> Result<Ftp, Trouble> {
        let away = |e: &dyn std::fmt::Display| remote.away(format!("it cannot be reached: {e}"));
        let addresses = (remote.host.as_str(), remote.port).to_socket_addrs().map_err(|e| away(&e))?;
        let mut found = Err(io::Error::other("the host has no address"));
        for address in addresses {
            found = TcpStream::connect_timeout(&address, remote.timeout);
            if found.is_ok() {
                break;
            }
        }
        let limit = remote.timeout;
        let tcp = found.and_then(|s| timed(s, limit)).map_err(|e| away(&e))?;
        let is_six = tcp.peer_addr().is_ok_and(|a| a.is_ipv6());
        let mut stream = RustlsFtpStream::connect_with_stream(tcp)
            .map_err(|e| trouble(remote, "greeting of", "", e))?
            .passive_stream_builder(move |address| {
                let made = TcpStream::connect_timeout(&address, limit).and_then(|s| timed(s, limit));
                made.map_err(FtpError::ConnectionError)
            });
        if remote.tls {
            let config = Arc::new(roots(remote)?);
            stream =
                stream.into_secure(RustlsConnector::from(config), &remote.host).map_err(|e| match e {
                    FtpError::UnexpectedResponse(r) => {
                        remote.refused(format!("it does not speak TLS: {}", said(remote, &r.body)))
                    }
                    FtpError::SecureError(why) => remote.refused(why),
                    FtpError::ConnectionError(e) if is_of_tls(&e) => remote.refused(e),
                    e => away(&e),
                })?;
        }
        stream.set_mode(if is_six { Mode::ExtendedPassive } else { Mode::Passive });
        // What a server behind a router says of its own address is of no use out here.
        stream.set_passive_nat_workaround(true);
        let password = remote.password()?;
        let (user, password) =
            (remote.user().unwrap_or("anonymous"), password.as_ref().map_or("deft-porter@", |p| p.tell()));
        stream.login(user, password).map_err(|e| match e {
            FtpError::UnexpectedResponse(r) if r.status != Status::NotAvailable => {
                remote.refused(format!("user \"{user}\" is not let in: {}", said(remote, &r.body)))
            }
            // The handshake happens with the first bytes.
            FtpError::ConnectionError(e) if is_of_tls(&e) => remote.refused(e),
            e => trouble(remote, "login at", "", e),
        })?;
        stream.transfer_type(FileType::Binary).map_err(|e| trouble(remote, "login at", "", e))?;
        Ok(Ftp { remote: remote.clone(), stream })
    }

    fn trouble(&self, what: &str, path: &str, e: FtpError) -> Trouble {
        trouble(&self.remote, what, path, e)
    }
}

pub fn is_of_tls(e: &io::Error) -> bool {
    e.get_ref().is_some_and(|e| e.is::<rustls::Error>())
}

/// A server's words, fit to be shown: it may repeat what it was sent.
fn said(remote: &Remote, body: &[u8]) -> String {
    let text = String::from_utf8_lossy(body);
    let text = match remote.password() {
        Ok(Some(password)) => password.cover(&text),
        _ => text.into_owned(),
    };
    text.trim().chars().map(|c| if c.is_control() { ' ' } else { c }).take(200).collect()
}

fn trouble(remote: &Remote, what: &str, path: &str, e: FtpError) -> Trouble {
    let why = |e: &dyn std::fmt::Display| format!("{what} {}: {e}", remote.at(path));
    match e {
        FtpError::UnexpectedResponse(r) => match r.status.code() {
            452 | 552 => Trouble::Full(why(&said(remote, &r.body))),
            // Some say it this way, too.
            _ if said(remote, &r.body).to_lowercase().contains("no space") => {
                Trouble::Full(why(&said(remote, &r.body)))
            }
            530 | 532 | 550 | 553 => Trouble::Refused(why(&said(remote, &r.body))),
            _ => Trouble::Away(why(&said(remote, &r.body))),
        },
        e => Trouble::Away(why(&e)),
    }
}

/// `type=file;size=5;modify=20261126120000; name` (RFC 3659, section 7.2).
fn facts(line: &str) -> Option<(String, Stands)> {
    let (facts, name) = line.trim_start().split_once(' ')?;
    let mut stands = Stands { bytes: 0, kind: Kind::Other, modified: None };
    for fact in facts.split(';') {
        let Some((key, value)) = fact.split_once('=') else { continue };
        match key.to_ascii_lowercase().as_str() {
            "type" => {
                stands.kind = match value.to_ascii_lowercase().as_str() {
                    "file" => Kind::File,
                    "dir" => Kind::Folder,
                    // The listed folder itself and the one above.
                    "cdir" | "pdir" => return None,
                    _ => Kind::Other,
                }
            }
            "size" => stands.bytes = value.parse().unwrap_or(0),
            "modify" => stands.modified = clock::compact(value),
            _ => (),
        }
    }
    Some((name.rsplit('/').next().unwrap_or(name).to_owned(), stands))
}

fn is_gone(e: &FtpError) -> bool {
    matches!(e, FtpError::UnexpectedResponse(r) if matches!(r.status.code(), 450 | 550))
}

fn is_unknown(e: &FtpError) -> bool {
    matches!(e, FtpError::UnexpectedResponse(r) if matches!(r.status.code(), 500..=504))
}

impl Site for Ftp {
    fn look(&mut self, path: &str) -> Result<Option<Stands>, Trouble> {
        let path = if path.is_empty() { "/" } else { path };
        match self.stream.mlst(Some(path)) {
            // The folder itself is called `cdir` by some.
            Ok(line) => Ok(Some(
                facts(&line.replace("type=cdir", "type=dir"))
                    .map(|(_, s)| s)
                    .ok_or_else(|| self.remote.away("its listing is not understood"))?,
            )),
            Err(e) if is_gone(&e) => Ok(None),
            Err(e) if is_unknown(&e) => match self.stream.size(path) {
                Ok(bytes) => Ok(Some(Stands { bytes: bytes as u64, kind: Kind::File, modified: None })),
                Err(e) if is_gone(&e) => match self.stream.cwd(path) {
                    Ok(()) => Ok(Some(Stands { bytes: 0, kind: Kind::Folder, modified: None })),
                    Err(e) if is_gone(&e) => Ok(None),
                    Err(e) => Err(self.trouble("cannot look at", path, e)),
                },
                Err(e) => Err(self.trouble("cannot look at", path, e)),
            },
            Err(e) => Err(self.trouble("cannot look at", path, e)),
        }
    }

    fn list(&mut self, folder: &str) -> Result<Vec<(String, Stands)>, Trouble> {
        let asked = [Status::AboutToSend, Status::AlreadyOpen];
        let begun = self.stream.custom_data_command(format!("MLSD {folder}"), &asked);
        let (_, stream) = begun.map_err(|e| self.trouble("cannot list", folder, e))?;
        let mut lines = BufReader::new(stream);
        let mut found = Vec::new();
        let mut line = Vec::new();
        loop {
            line.clear();
            let read = (&mut lines).take(LONGEST_LINE).read_until(b'\n', &mut line);
            match read.map_err(|e| self.trouble("cannot list", folder, FtpError::ConnectionError(e)))? {
                0 => break,
                n if n as u64 == LONGEST_LINE || found.len() > MOST_LISTED => {
                    return Err(self.remote.away("its listing has no end"));
                }
                _ => found.extend(facts(String::from_utf8_lossy(&line).trim_end_matches(['\r', '\n']))),
            }
        }
        lines.into_inner().finish().map_err(|e| self.trouble("cannot list", folder, e))?;
        Ok(found)
    }

    fn make_folder(&mut self, path: &str) -> Result<(), Trouble> {
        match self.stream.mkdir(path) {
            Ok(()) => Ok(()),
            Err(_) if self.look(path)?.is_some_and(|s| s.kind == Kind::Folder) => Ok(()),
            Err(e) => Err(self.trouble("cannot make the folder", path, e)),
        }
    }

    fn write(&mut self, path: &str, from: u64, source: &mut Feed<'_>) -> Result<(), Trouble> {
        let begun = match from {
            0 => self.stream.put_with_stream(path),
            _ => self.stream.append_with_stream(path),
        };
        let mut to = begun.map_err(|e| self.trouble("cannot write", path, e))?;
        let mut block = vec![0; BLOCK];
        let sent = loop {
            match source.read(&mut block) {
                Ok(0) => break to.flush(),
                Ok(n) => {
                    if let Err(e) = to.write_all(&block[..n]) {
                        break Err(e);
                    }
                }
                Err(e) => break Err(e),
            }
        };
        // What the server says tells more than a line that broke.
        let ended = to.finish();
        match (sent, ended) {
            (Ok(()), Ok(())) => Ok(()),
            (_, Err(e @ FtpError::UnexpectedResponse(_))) => Err(self.trouble("cannot write", path, e)),
            (Err(e), _) => Err(self.trouble("cannot write", path, FtpError::ConnectionError(e))),
            (_, Err(e)) => Err(self.trouble("cannot write", path, e)),
        }
    }

    fn read(
        &mut self,
        path: &str,
        from: u64,
        take: &mut dyn FnMut(&[u8]) -> Result<(), Trouble>,
    ) -> Result<(), Trouble> {
        if from > 0 {
            self.stream
                .resume_transfer(from as usize)
                .map_err(|e| self.trouble("cannot read on in", path, e))?;
        }
        let mut stream =
            self.stream.retr_as_stream(path).map_err(|e| self.trouble("cannot read", path, e))?;
        let mut block = vec![0; BLOCK];
        let mut got = Ok(());
        loop {
            match stream.read(&mut block) {
                Ok(0) => break,
                Ok(n) => {
                    // After an error the connection is of no use any more.
                    take(&block[..n])?;
                }
                Err(e) => {
                    got = Err(FtpError::ConnectionError(e));
                    break;
                }
            }
        }
        let ended = stream.finish();
        got.and(ended).map_err(|e| self.trouble("cannot read", path, e))
    }

    /// Most servers put the file over what is there: the name was looked at just before, which is all that can be done.
    fn rename(&mut self, from: &str, to: &str) -> Result<Published, Trouble> {
        self.stream.rename(from, to).map_err(|e| self.trouble("cannot rename to", to, e))?;
        Ok(Published::Done)
    }

    fn remove(&mut self, path: &str) -> Result<(), Trouble> {
        match self.stream.rm(path) {
            Ok(()) => Ok(()),
            Err(e) if is_gone(&e) && self.look(path)?.is_none() => Ok(()),
            Err(e) => Err(self.trouble("cannot remove", path, e)),
        }
    }

    fn remove_folder(&mut self, path: &str) -> Result<(), Trouble> {
        match self.stream.rmdir(path) {
            Ok(()) => Ok(()),
            Err(e) if is_gone(&e) && self.look(path)?.is_none() => Ok(()),
            Err(e) => Err(self.trouble("cannot remove", path, e)),
        }
    }

    fn home(&mut self) -> Result<String, Trouble> {
        self.stream.pwd().map_err(|e| self.trouble("cannot ask for the home at", "", e))
    }

    fn resumes(&self) -> bool {
        true
    }

    fn refuses_taken(&self) -> bool {
        false
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("type=file;size=5;modify=20261126120000; a b.mp4", Some(("a b.mp4", 5, Kind::File)))]
    #[case(" Type=dir;Size=4096;perm=el; /in/day 1", Some(("day 1", 4096, Kind::Folder)))]
    #[case("type=OS.unix=slink:/etc;size=9; link", Some(("link", 9, Kind::Other)))]
    #[case("type=cdir;modify=20261126120000; .", None)]
    #[case("nonsense", None)]
    fn listings_are_read(#[case] line: &str, #[case] want: Option<(&str, u64, Kind)>) {
        let got = facts(line).map(|(name, s)| (name, s.bytes, s.kind));
        assert_eq!(got, want.map(|(n, b, k)| (n.to_owned(), b, k)));
    }

    #[test]
    fn times_of_listings_are_universal() {
        let (_, s) = facts("type=file;size=5;modify=19700101000002.5; a").unwrap();
        assert_eq!(s.modified, Some(2_000_000));
    }
}
