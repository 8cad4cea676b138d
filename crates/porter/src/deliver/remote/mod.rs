//! Places that are reached over a network. A [`Site`] speaks one protocol of files and folders (SFTP, FTP, WebDAV), and
//! [`SitePlace`] keeps the contract of places on it; object storage and uploads keep it by themselves.
//!
//! To add a protocol of files: a row in [`PROTOCOLS`] and a [`Site`]; its test runs the contract.

pub mod far;
mod feed;
mod ftp;
mod http;
mod publish;
mod s3;
mod sftp;
mod site;
mod tus;
mod webdav;

pub use far::{Far, There};
pub use http::decoded;
pub use publish::Told;
pub use site::{Site, SitePlace, Stands, inside};

use super::{Place, Published, Trouble};
use crate::services::{Hidden, Login, Secret};
use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

/// A connection that nobody used for this long is not used again.
const IDLE: Duration = Duration::from_secs(20);

/// How a place is spoken to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Protocol {
    Sftp,
    Ftp,
    S3,
    WebDav,
    Tus,
    Publish,
}

/// What the configuration may say of a protocol.
pub struct About {
    pub protocol: Protocol,
    pub name: &'static str,
    /// Schemes of its addresses; the second is the one with TLS.
    pub schemes: &'static [&'static str],
    pub usual_ports: &'static [u16],
}

pub const PROTOCOLS: [About; 6] = [
    About { protocol: Protocol::Sftp, name: "sftp", schemes: &["sftp"], usual_ports: &[22] },
    About { protocol: Protocol::Ftp, name: "ftp", schemes: &["ftp", "ftps"], usual_ports: &[21, 21] },
    About { protocol: Protocol::S3, name: "s3", schemes: &["http", "https"], usual_ports: &[80, 443] },
    About {
        protocol: Protocol::WebDav,
        name: "webdav",
        schemes: &["http", "https"],
        usual_ports: &[80, 443],
    },
    About { protocol: Protocol::Tus, name: "tus", schemes: &["http", "https"], usual_ports: &[80, 443] },
    About {
        protocol: Protocol::Publish,
        name: "publish",
        schemes: &["http", "https"],
        usual_ports: &[80, 443],
    },
];

/// A place of a network, and how it is logged in to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Remote {
    pub protocol: Protocol,
    /// As people read it; without a login.
    pub address: String,
    pub host: String,
    pub port: u16,
    /// The folder there: `/in/coming`, or empty.
    pub base: String,
    /// Whether what is sent is hidden from others on the way.
    pub tls: bool,
    pub login: Login,
    /// A private key in place of a password, which then opens the key.
    pub key: Option<PathBuf>,
    /// Keys of hosts, in the form of OpenSSH.
    pub known_hosts: Option<PathBuf>,
    /// The one host key that is right: `SHA256:...`.
    pub host_key: Option<String>,
    /// Certificates that are trusted instead of the public ones.
    pub certificates: Option<PathBuf>,
    /// For one answer.
    pub timeout: Duration,
    pub region: String,
    pub storage_class: Option<String>,
    /// `s3`: how long links to what was delivered count.
    pub link: Option<Duration>,
}

impl Remote {
    pub const USUAL_TIMEOUT: Duration = Duration::from_secs(30);

    /// Whether what is there can be given another name.
    pub fn renames(&self) -> bool {
        !matches!(self.protocol, Protocol::S3 | Protocol::Tus | Protocol::Publish)
    }

    fn user(&self) -> Option<&str> {
        match &self.login {
            Login::Password { user, .. } | Login::User(user) => Some(user),
            _ => None,
        }
    }

    fn password(&self) -> Result<Option<Hidden>, Trouble> {
        let secret: Option<&Secret> = self.login.secret();
        secret.map(|s| s.read().map_err(Trouble::Refused)).transpose()
    }

    /// Where something stands, for messages.
    fn at(&self, path: &str) -> String {
        let host = self.address.split("://").nth(1).unwrap_or_default();
        let host = host.split('/').next().unwrap_or_default();
        format!("{host}:{}", if path.is_empty() { "/" } else { path })
    }

    fn away(&self, why: impl std::fmt::Display) -> Trouble {
        Trouble::Away(format!("{}: {why}", self.address))
    }

    fn refused(&self, why: impl std::fmt::Display) -> Trouble {
        Trouble::Refused(format!("{}: {why}", self.address))
    }

    fn connect(&self) -> Result<Box<dyn Site>, Trouble> {
        Ok(match self.protocol {
            Protocol::Sftp => Box::new(sftp::Sftp::connect(self)?),
            Protocol::Ftp => Box::new(ftp::Ftp::connect(self)?),
            Protocol::WebDav => Box::new(webdav::WebDav::connect(self)?),
            Protocol::S3 | Protocol::Tus | Protocol::Publish => {
                return Err(self.refused("it has no files and folders"));
            }
        })
    }
}

/// The folder that is meant: `/~/incoming` lies where a login starts, everything else at the top.
fn based(site: &mut dyn Site, base: &str) -> Result<String, Trouble> {
    match base.strip_prefix("/~") {
        Some(rest) if rest.is_empty() || rest.starts_with('/') => {
            Ok(format!("{}{rest}", site.home()?.trim_end_matches('/')))
        }
        _ => Ok(base.to_owned()),
    }
}

/// A connection, and since when nobody used it.
type Idle = (Instant, Box<dyn Site>);

/// Connections that are open and wait for their next use.
#[derive(Default)]
pub struct Remotes {
    idle: Mutex<HashMap<String, Vec<Idle>>>,
}

impl Remotes {
    pub fn open(self: &Arc<Self>, remote: &Remote) -> Result<Box<dyn Place>, Trouble> {
        Ok(match remote.protocol {
            Protocol::S3 => Box::new(s3::S3Place::new(remote)?),
            Protocol::Tus => Box::new(tus::TusPlace::new(remote)?),
            Protocol::Publish => Box::new(publish::PublishPlace::new(remote)?),
            _ => {
                let mut site = self.take(remote)?;
                let base = based(site.as_mut(), &remote.base)?;
                Box::new(SitePlace::new(site, base, remote.address.clone(), self.back(remote)))
            }
        })
    }

    /// One that was used a moment ago and still answers, or a new one.
    fn take(&self, remote: &Remote) -> Result<Box<dyn Site>, Trouble> {
        let key = format!("{remote:?}");
        loop {
            let mut idle = self.idle.lock().unwrap_or_else(|e| e.into_inner());
            let found = idle.get_mut(&key).and_then(Vec::pop);
            drop(idle);
            match found {
                Some((since, mut site)) if since.elapsed() < IDLE => {
                    if site.look("").is_ok() {
                        return Ok(site);
                    }
                }
                Some(_) => (),
                None => return remote.connect(),
            }
        }
    }

    /// Where a connection goes that is not needed any more.
    fn back(self: &Arc<Self>, remote: &Remote) -> impl Fn(Box<dyn Site>) + Send + Sync + 'static {
        let (all, key) = (self.clone(), format!("{remote:?}"));
        move |site| {
            let mut idle = all.idle.lock().unwrap_or_else(|e| e.into_inner());
            // What was left lying is closed on the way.
            idle.values_mut().for_each(|v| v.retain(|(since, _)| since.elapsed() < IDLE));
            idle.entry(key.clone()).or_default().push((Instant::now(), site));
        }
    }
}
