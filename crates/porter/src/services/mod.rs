//! Speech and text services over HTTP: engines somewhere else, for transcripts and summaries.

mod http;
mod multipart;
mod secret;
mod sign_in;

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::net::{TcpStream, ToSocketAddrs};
use std::path::PathBuf;
use std::time::Duration;

pub use http::{Client, authorization, certificates};
pub use secret::{Hidden, Secret, give};
pub use sign_in::{Asked, SignIn};

/// Longest wait for somebody to answer when only looking.
const LOOK: Duration = Duration::from_secs(3);

/// A service and how it is asked. Secrets stay where they are: only their places are here.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Service {
    pub name: String,
    /// The whole address, http or https.
    pub address: String,
    /// Most bytes of one request's sound or text.
    pub most: u64,
    /// For one request, from the first byte to the last.
    pub timeout: Duration,
    /// How often a request is tried in all.
    pub tries: u32,
    #[serde(default)]
    pub login: Login,
    /// PEM file with the certificates that are trusted instead of the public ones.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certificates: Option<PathBuf>,
    /// What the sound is called in the form.
    #[serde(default = "sound")]
    pub sound_field: String,
    /// Further fields of the form.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub fields: BTreeMap<String, String>,
}

fn sound() -> String {
    "sound".into()
}

#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Login {
    #[default]
    None,
    /// A bearer token (RFC 6750).
    Token(Secret),
    /// A name alone: what proves it lies elsewhere.
    User(String),
    /// Basic authentication (RFC 7617).
    Password { user: String, password: Secret },
}

impl Login {
    pub fn secret(&self) -> Option<&Secret> {
        match self {
            Login::None | Login::User(_) => None,
            Login::Token(secret) | Login::Password { password: secret, .. } => Some(secret),
        }
    }
}

impl Service {
    pub const USUAL_MOST: u64 = 20_000_000;
    pub const MAX_MOST: u64 = 1_000_000_000;
    pub const USUAL_TIMEOUT: Duration = Duration::from_secs(600);
    pub const USUAL_TRIES: u32 = 5;
    pub const MAX_TRIES: u32 = 100;

    /// With the usual settings.
    pub fn at(name: &str, address: &str) -> Service {
        Service {
            name: name.to_owned(),
            address: address.to_owned(),
            most: Self::USUAL_MOST,
            timeout: Self::USUAL_TIMEOUT,
            tries: Self::USUAL_TRIES,
            login: Login::None,
            certificates: None,
            sound_field: sound(),
            fields: BTreeMap::new(),
        }
    }

    /// Whether its login can be read and somebody listens there. Nothing is asked of it.
    pub fn look(&self) -> Result<(), String> {
        Client::new(self).map_err(|e| e.to_string())?;
        let uri: ureq::http::Uri = self.address.parse().map_err(|e| format!("{e}"))?;
        let host = uri.host().unwrap_or_default().trim_matches(['[', ']']);
        let port = uri.port_u16().unwrap_or(if uri.scheme_str() == Some("https") { 443 } else { 80 });
        let places = (host, port).to_socket_addrs().map_err(|e| format!("{host} is not known: {e}"))?;
        let mut why = format!("{host} has no address");
        for place in places {
            match TcpStream::connect_timeout(&place, LOOK) {
                Ok(_) => return Ok(()),
                Err(e) => why = format!("nobody answers at {place}: {e}"),
            }
        }
        Err(why)
    }

    /// The secrets it is asked with.
    pub fn secrets(&self) -> impl Iterator<Item = &Secret> {
        self.login.secret().into_iter()
    }

    /// What is wrong with an address, if anything.
    pub fn wrong_address(address: &str) -> Option<&'static str> {
        let uri: Option<ureq::http::Uri> = address.parse().ok();
        let known = uri.filter(|u| matches!(u.scheme_str(), Some("http" | "https")) && u.host().is_some());
        match known {
            None => Some("a whole address, such as \"https://speech.house.example/hear\""),
            Some(u) if u.authority().is_some_and(|a| a.as_str().contains('@')) => {
                Some("an address without a login in it; see token_file, token_env, user")
            }
            Some(_) => None,
        }
    }
}
