//! Signing in at a place without a password in any file of ours: a person says yes in a browser, on any machine (OAuth 2.0
//! Device Authorization Grant, RFC 8628; where the place has its doors, RFC 8414). What comes of it is a token that is good
//! for a while, and one with which it is renewed (RFC 6749, section 6); both are kept in a file that only its owner can read.

use super::http::certificates;
use super::{Hidden, Secret};
use crate::clock::{self, Micros};
use media::show;
use serde::{Deserialize, Serialize};
use std::io::Write;
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::PathBuf;
use std::sync::Mutex;
use std::time::{Duration, Instant};
use ureq::Agent;
use ureq::http::StatusCode;
use ureq::tls::{RootCerts, TlsConfig};

/// Who is asked, as whom, and where is kept what comes of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SignIn {
    /// The address of whoever gives tokens.
    pub issuer: String,
    pub client: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub scope: Option<String>,
    pub file: PathBuf,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certificates: Option<PathBuf>,
}

/// What is kept.
#[derive(Serialize, Deserialize)]
struct Held {
    issuer: String,
    client: String,
    token_endpoint: String,
    access_token: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    refresh_token: Option<String>,
    /// Until when the token is good; for ever, if nothing was said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    until: Option<Micros>,
}

/// What a person has to do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Asked {
    pub address: String,
    pub code: String,
    /// The address with the code in it, where there is one.
    pub whole: Option<String>,
    pub minutes: u64,
}

#[derive(Deserialize)]
struct Doors {
    #[serde(default)]
    device_authorization_endpoint: Option<String>,
    #[serde(default)]
    token_endpoint: Option<String>,
}

#[derive(Deserialize)]
struct Begun {
    device_code: String,
    user_code: String,
    verification_uri: String,
    #[serde(default)]
    verification_uri_complete: Option<String>,
    expires_in: u64,
    #[serde(default)]
    interval: Option<u64>,
}

#[derive(Deserialize)]
struct Token {
    access_token: String,
    #[serde(default)]
    refresh_token: Option<String>,
    #[serde(default)]
    expires_in: Option<u64>,
}

#[derive(Default, Deserialize)]
struct Refusal {
    #[serde(default)]
    error: String,
    #[serde(default)]
    error_description: String,
}

/// A token is renewed so long before it ends.
const EARLY: Micros = 60_000_000;
/// Between two questions whether the person has said yes, unless another time is asked for.
const USUAL_INTERVAL: u64 = 5;
const MOST: u64 = 1_000_000;
const PATIENCE: Duration = Duration::from_secs(30);

/// One at a time: what two renew at once, one of them loses.
static RENEWING: Mutex<()> = Mutex::new(());

/// A time of seconds as others say it, however long.
fn micros(seconds: u64) -> Micros {
    Micros::try_from(seconds).unwrap_or(Micros::MAX).saturating_mul(1_000_000)
}

impl SignIn {
    fn agent(&self) -> Result<Agent, String> {
        let mut config = Agent::config_builder()
            .timeout_global(Some(PATIENCE))
            .http_status_as_error(false)
            // A token goes to nobody else.
            .max_redirects(0)
            .user_agent(concat!("deft-porter/", env!("CARGO_PKG_VERSION")));
        if let Some(path) = &self.certificates {
            let trusted = certificates(path)?;
            config = config
                .tls_config(TlsConfig::builder().root_certs(RootCerts::new_with_certs(&trusted)).build());
        }
        Ok(config.build().into())
    }

    /// A form is posted; its answer, or what was refused.
    fn post<T: serde::de::DeserializeOwned>(
        &self,
        agent: &Agent,
        url: &str,
        form: &[(&str, &str)],
    ) -> Result<Result<T, Refusal>, String> {
        let fail = |e: &dyn std::fmt::Display| format!("{}: {e}", self.issuer);
        let mut answer = agent.post(url).send_form(form.iter().copied()).map_err(|e| fail(&e))?;
        let text = answer.body_mut().with_config().limit(MOST).read_to_string().map_err(|e| fail(&e))?;
        if answer.status() == StatusCode::OK {
            return serde_json::from_str(&text)
                .map(Ok)
                .map_err(|e| fail(&format!("its answer is not understood: {e}")));
        }
        match serde_json::from_str::<Refusal>(&text) {
            Ok(refusal) if !refusal.error.is_empty() => Ok(Err(refusal)),
            _ => Err(fail(&format!("it answered {}", answer.status()))),
        }
    }

    /// A door that is named must be of whoever was asked: https, or the very same host.
    fn is_trusted(&self, url: &str) -> bool {
        let root = |a: &str| a.split('/').take(3).collect::<Vec<_>>().join("/");
        url.starts_with("https://") || root(url) == root(&self.issuer)
    }

    fn doors(&self, agent: &Agent) -> Result<(String, String), String> {
        let url = format!("{}/.well-known/oauth-authorization-server", self.issuer.trim_end_matches('/'));
        let fail = |e: &dyn std::fmt::Display| format!("{url}: {e}");
        let mut answer = agent.get(&url).call().map_err(|e| fail(&e))?;
        if answer.status() != StatusCode::OK {
            return Err(fail(&format!(
                "it answered {}: nobody can sign in there in this way",
                answer.status()
            )));
        }
        let text = answer.body_mut().with_config().limit(MOST).read_to_string().map_err(|e| fail(&e))?;
        let doors: Doors = serde_json::from_str(&text).map_err(|e| fail(&e))?;
        match (doors.device_authorization_endpoint, doors.token_endpoint) {
            (Some(device), Some(token)) if self.is_trusted(&device) && self.is_trusted(&token) => {
                Ok((device, token))
            }
            (Some(_), Some(_)) => Err(fail(&"it names addresses of others that are not https")),
            _ => Err(fail(&"it knows no devices without a browser (RFC 8628)")),
        }
    }

    /// Asks, tells what a person has to do, and waits until it is done or over. `stopping`: nobody waits any more.
    pub fn sign_in(&self, show: &mut dyn FnMut(&Asked), stopping: &dyn Fn() -> bool) -> Result<(), String> {
        let agent = self.agent()?;
        let (device, token) = self.doors(&agent)?;
        let mut form = vec![("client_id", self.client.as_str())];
        form.extend(self.scope.as_deref().map(|s| ("scope", s)));
        let begun: Begun = self.post(&agent, &device, &form)?.map_err(|r| self.refused(&r))?;
        show(&Asked {
            address: show::text(&begun.verification_uri),
            code: show::text(&begun.user_code),
            whole: begun.verification_uri_complete.as_deref().map(show::text),
            minutes: begun.expires_in.div_ceil(60),
        });
        let until = Instant::now() + Duration::from_secs(begun.expires_in.min(3600));
        let mut pause = Duration::from_secs(begun.interval.unwrap_or(USUAL_INTERVAL).clamp(1, 60));
        let form = [
            ("grant_type", "urn:ietf:params:oauth:grant-type:device_code"),
            ("device_code", begun.device_code.as_str()),
            ("client_id", self.client.as_str()),
        ];
        loop {
            let next = Instant::now() + pause;
            while Instant::now() < next {
                if stopping() {
                    return Err("it was broken off".into());
                }
                std::thread::sleep(Duration::from_millis(100));
            }
            if Instant::now() > until {
                return Err("nobody said yes in time: try again".into());
            }
            match self.post::<Token>(&agent, &token, &form)? {
                Ok(found) => return self.keep(&token, found, None),
                Err(r) if r.error == "authorization_pending" => (),
                // RFC 8628, 3.5: five seconds more, for all questions from now on.
                Err(r) if r.error == "slow_down" => pause += Duration::from_secs(5),
                Err(r) if r.error == "access_denied" => return Err("a person said no".into()),
                Err(r) if r.error == "expired_token" => {
                    return Err("nobody said yes in time: try again".into());
                }
                Err(r) => return Err(self.refused(&r)),
            }
        }
    }

    fn refused(&self, r: &Refusal) -> String {
        let more = if r.error_description.is_empty() {
            String::new()
        } else {
            format!(" ({})", r.error_description)
        };
        format!("{} refused it: {}{}", self.issuer, show::text(&r.error), show::text(&more))
    }

    fn keep(&self, endpoint: &str, token: Token, before: Option<String>) -> Result<(), String> {
        let held = Held {
            issuer: self.issuer.clone(),
            client: self.client.clone(),
            token_endpoint: endpoint.to_owned(),
            access_token: token.access_token,
            // One that is not given anew stays good (RFC 6749, 6).
            refresh_token: token.refresh_token.or(before),
            until: token.expires_in.map(|s| clock::now().saturating_add(micros(s))),
        };
        let at = show::path(&self.file);
        let fail = |e: std::io::Error| format!("cannot write {at}: {e}");
        if let Some(folder) = self.file.parent() {
            std::fs::DirBuilder::new().recursive(true).mode(0o700).create(folder).map_err(fail)?;
        }
        let beside = self.file.with_extension(format!("{}.part", clock::nonce()));
        let mut file =
            std::fs::File::options().write(true).create_new(true).mode(0o600).open(&beside).map_err(fail)?;
        let text = serde_json::to_vec(&held).unwrap_or_default();
        let kept = file.write_all(&text).and_then(|()| file.sync_all());
        kept.and_then(|()| std::fs::rename(&beside, &self.file)).map_err(|e| {
            _ = std::fs::remove_file(&beside);
            fail(e)
        })
    }

    fn held(&self) -> Result<Held, String> {
        let text = match Secret::File(self.file.clone()).read() {
            Ok(text) => text,
            Err(_) if !self.file.exists() => {
                return Err(format!("nobody signed in at {} yet: \"deft-porter sign-in\"", self.issuer));
            }
            Err(e) => return Err(e),
        };
        let held: Held = serde_json::from_str(text.tell())
            .map_err(|_| format!("{} is damaged: sign in again", show::path(&self.file)))?;
        match held.issuer == self.issuer && held.client == self.client {
            true => Ok(held),
            false => Err(format!("what is kept is of {}: sign in again at {}", held.issuer, self.issuer)),
        }
    }

    /// A token that is good now.
    pub fn token(&self) -> Result<Hidden, String> {
        let is_good = |h: &Held| h.until.is_none_or(|until| until - EARLY > clock::now());
        let _one = RENEWING.lock().unwrap_or_else(|e| e.into_inner());
        let held = self.held()?;
        if is_good(&held) {
            return Ok(Hidden::new(held.access_token));
        }
        let Some(refresh) = held.refresh_token.clone() else {
            return Err(format!("what was signed in at {} is over: sign in again", self.issuer));
        };
        let form = [
            ("grant_type", "refresh_token"),
            ("refresh_token", refresh.as_str()),
            ("client_id", self.client.as_str()),
        ];
        match self.post::<Token>(&self.agent()?, &held.token_endpoint, &form)? {
            Ok(token) => {
                let found = Hidden::new(token.access_token.clone());
                self.keep(&held.token_endpoint, token, Some(refresh))?;
                Ok(found)
            }
            // Another process of this house may have renewed it in this moment.
            Err(_) if self.held().is_ok_and(|h| is_good(&h)) => Ok(Hidden::new(self.held()?.access_token)),
            Err(r) => Err(format!("{}: sign in again", self.refused(&r))),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn signed(file: PathBuf) -> SignIn {
        let issuer = "https://tokens.example".to_owned();
        SignIn { issuer, client: "house".into(), scope: None, file, certificates: None }
    }

    /// A server may say any number.
    #[test]
    fn a_token_that_is_good_for_ever_is_kept_as_that() {
        let dir = tempfile::tempdir().unwrap();
        let s = signed(dir.path().join("token"));
        for seconds in [u64::MAX, i64::MAX as u64, 3600] {
            let token = Token { access_token: "t1".into(), refresh_token: None, expires_in: Some(seconds) };
            s.keep("https://tokens.example/token", token, None).unwrap();
            assert_eq!(s.token().unwrap().tell(), "t1");
        }
    }

    #[test]
    fn what_cannot_be_kept_leaves_nothing_behind() {
        let dir = tempfile::tempdir().unwrap();
        let s = signed(dir.path().join("token"));
        std::fs::create_dir_all(s.file.join("in the way")).unwrap();
        let token = Token { access_token: "t1".into(), refresh_token: None, expires_in: None };
        let e = s.keep("https://tokens.example/token", token, None).unwrap_err();
        assert!(e.starts_with("cannot write "), "{e}");
        assert_eq!(std::fs::read_dir(dir.path()).unwrap().count(), 1);
    }
}
