//! Requests to a service: with its login, tried again when that can help, and every failure with its reason.

use super::multipart::Form;
use super::{Hidden, Login, Service};
use crate::error::{Error, Result};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use std::io::Read;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use ureq::http::{Response, StatusCode, header};
use ureq::tls::{Certificate, PemItem, RootCerts, TlsConfig, parse_pem};
use ureq::{Agent, Body};
use words::service::{Answer, Part, Reply, SpeechService, TextAnswer, TextRequest, TextService};

/// Most bytes of an answer.
const MAX_ANSWER: u64 = 256_000_000;
/// Most of an answer that is shown when it is not understood.
const MAX_SHOWN: usize = 200;
/// Bodies from this size on are announced, so that a service can refuse them unseen.
const ANNOUNCED: usize = 100_000;
const FIRST_WAIT: Duration = Duration::from_secs(1);
/// Longest wait before a further try, whatever the service asks for.
const MAX_WAIT: Duration = Duration::from_secs(300);

pub struct Client {
    service: Service,
    agent: Agent,
    /// Value of the Authorization header.
    login: Option<Hidden>,
    /// What must not come back out: the secret itself, and the forms in which it is sent.
    secrets: Vec<Hidden>,
    /// True while an answer is waited for.
    asking: Arc<AtomicBool>,
}

/// Up while it lives.
struct Flag<'a>(&'a AtomicBool);

impl Flag<'_> {
    fn up(flag: &AtomicBool) -> Flag<'_> {
        flag.store(true, Ordering::Relaxed);
        Flag(flag)
    }
}

impl Drop for Flag<'_> {
    fn drop(&mut self) {
        self.0.store(false, Ordering::Relaxed);
    }
}

/// What came of one try.
enum Tried {
    Answered(Vec<u8>),
    TooLarge,
    /// It may go better later; in this time, if the service says so.
    Later(String, Option<Duration>),
    /// The request itself is at fault: it is sent with other sound only.
    Refused(String),
    Failed(String),
}

/// The value of the Authorization header, and all that must not come back out: the secret itself, and the forms in which
/// it is sent.
pub fn authorization(login: &Login) -> std::result::Result<(Option<Hidden>, Vec<Hidden>), String> {
    Ok(match login {
        Login::None | Login::User(_) => (None, Vec::new()),
        Login::Token(secret) => {
            let token = secret.read()?;
            let header = format!("Bearer {}", token.tell());
            (Some(Hidden::new(header)), vec![token])
        }
        Login::Password { user, password } => {
            let password = password.read()?;
            let both = STANDARD.encode(format!("{user}:{}", password.tell()));
            let header = format!("Basic {both}");
            (Some(Hidden::new(header)), vec![Hidden::new(both), password])
        }
    })
}

/// The certificates of a PEM file; one without any is no such file.
pub fn certificates(path: &Path) -> std::result::Result<Vec<Certificate<'static>>, String> {
    let at = media::show::path(path);
    let pem = std::fs::read(path).map_err(|e| format!("cannot read {at}: {e}"))?;
    let all: Vec<_> = parse_pem(&pem)
        .filter_map(|item| match item {
            Ok(PemItem::Certificate(c)) => Some(c),
            _ => None,
        })
        .collect();
    if all.is_empty() { Err(format!("{at} holds no certificate")) } else { Ok(all) }
}

impl Client {
    /// Reads what is needed to ask: the login, the certificates.
    pub fn new(service: &Service) -> Result<Client> {
        let fail = |why: String| Error::Words(words::Error::Service(described(service, &why)));
        let (login, secrets) = authorization(&service.login).map_err(fail)?;
        let mut config = Agent::config_builder()
            .timeout_global(Some(service.timeout))
            .timeout_await_100(Some(Duration::from_secs(2)))
            .http_status_as_error(false)
            .user_agent(concat!("deft-porter/", env!("CARGO_PKG_VERSION")));
        if let Some(path) = &service.certificates {
            let trusted = certificates(path).map_err(fail)?;
            config = config
                .tls_config(TlsConfig::builder().root_certs(RootCerts::new_with_certs(&trusted)).build());
        }
        let agent = config.build().into();
        Ok(Client { service: service.clone(), agent, login, secrets, asking: Arc::default() })
    }

    /// This is true while it waits for an answer.
    pub fn with_flag(self, asking: &Arc<AtomicBool>) -> Client {
        Client { asking: asking.clone(), ..self }
    }

    /// Sends a body until it is answered, or trying again is of no use. `None`: it is too large.
    fn send(&self, kind: &str, body: &[u8]) -> words::Result<Option<Vec<u8>>> {
        let mut wait = FIRST_WAIT;
        let mut tries = 1;
        let fail = |why: String| Err(words::Error::Service(described(&self.service, &why)));
        let _flag = Flag::up(&self.asking);
        loop {
            match self.once(kind, body) {
                Tried::Answered(answer) => return Ok(Some(answer)),
                Tried::TooLarge => return Ok(None),
                Tried::Refused(why) => {
                    return Err(media::Error::unsupported("", described(&self.service, &why)).into());
                }
                Tried::Failed(why) => return fail(why),
                Tried::Later(why, _) if tries >= self.service.tries => {
                    return fail(if tries > 1 { format!("{why} (tried {tries} times)") } else { why });
                }
                Tried::Later(_, asked) => {
                    std::thread::sleep(asked.unwrap_or(wait).min(MAX_WAIT));
                    wait = (wait * 2).min(MAX_WAIT);
                    tries += 1;
                }
            }
        }
    }

    fn once(&self, kind: &str, body: &[u8]) -> Tried {
        let mut request = self
            .agent
            .post(&self.service.address)
            .header(header::CONTENT_TYPE, kind)
            .header(header::ACCEPT, "application/json, application/problem+json");
        if let Some(login) = &self.login {
            request = request.header(header::AUTHORIZATION, login.tell());
        }
        if body.len() >= ANNOUNCED {
            request = request.header(header::EXPECT, "100-continue");
        }
        match request.send(body) {
            Ok(response) => told(response, &self.secrets),
            Err(ureq::Error::BadUri(why)) => Tried::Failed(format!("its address is wrong: {why}")),
            Err(ureq::Error::Timeout(_)) => {
                Tried::Later(format!("no answer within {} s", self.service.timeout.as_secs_f64()), None)
            }
            Err(e) => Tried::Later(format!("it cannot be reached: {e}"), None),
        }
    }
}

/// What came, without the secrets that an answer may repeat.
fn covered(bytes: Vec<u8>, secrets: &[Hidden]) -> Vec<u8> {
    if secrets.is_empty() {
        return bytes;
    }
    match String::from_utf8(bytes) {
        Ok(text) => secrets.iter().fold(text, |t, s| s.cover(&t)).into_bytes(),
        Err(e) => {
            let text = String::from_utf8_lossy(e.as_bytes()).into_owned();
            secrets.iter().fold(text, |t, s| s.cover(&t)).into_bytes()
        }
    }
}

/// What a response says.
fn told(mut response: Response<Body>, secrets: &[Hidden]) -> Tried {
    let status = response.status();
    let asked =
        response.headers().get(header::RETRY_AFTER).and_then(|v| v.to_str().ok()?.trim().parse().ok());
    let mut bytes = Vec::new();
    let read = response.body_mut().with_config().limit(MAX_ANSWER).reader().read_to_end(&mut bytes);
    if let Err(e) = read {
        return Tried::Later(format!("its answer broke off: {e}"), None);
    }
    let bytes = covered(bytes, secrets);
    let why = || format!("{status}: {}", reason(&bytes));
    match status {
        s if s.is_success() => Tried::Answered(bytes),
        StatusCode::PAYLOAD_TOO_LARGE => Tried::TooLarge,
        StatusCode::UNSUPPORTED_MEDIA_TYPE | StatusCode::UNPROCESSABLE_ENTITY => Tried::Refused(why()),
        StatusCode::REQUEST_TIMEOUT | StatusCode::TOO_EARLY | StatusCode::TOO_MANY_REQUESTS => {
            Tried::Later(why(), asked.map(Duration::from_secs))
        }
        s if s.is_server_error() => Tried::Later(why(), asked.map(Duration::from_secs)),
        _ => Tried::Failed(why()),
    }
}

/// What a refusal says of itself: problem details (RFC 9457), or the start of what came.
fn reason(body: &[u8]) -> String {
    let text = String::from_utf8_lossy(body);
    let json: Option<serde_json::Value> = serde_json::from_str(&text).ok();
    let said = |key: &str| json.as_ref()?.get(key)?.as_str().map(String::from);
    let said = match (said("title"), said("detail")) {
        (Some(title), Some(detail)) => format!("{title}: {detail}"),
        (title, detail) => title.or(detail).unwrap_or_else(|| text.trim().to_owned()),
    };
    let plain: String = said.chars().map(|c| if c.is_control() { ' ' } else { c }).take(MAX_SHOWN).collect();
    if plain.is_empty() { "it gives no reason".into() } else { plain }
}

fn described(service: &Service, why: &str) -> String {
    format!("service \"{}\" ({}): {why}", service.name, service.address)
}

impl Client {
    fn understood<T>(&self, parsed: words::Result<T>) -> words::Result<T> {
        parsed.map_err(|e| words::Error::Service(described(&self.service, &e.to_string())))
    }
}

impl SpeechService for Client {
    fn name(&self) -> &str {
        &self.service.name
    }

    fn most(&self) -> u64 {
        self.service.most
    }

    fn hear(&self, part: &Part<'_>) -> words::Result<Reply> {
        let mut form = Form::new(&part.wav);
        form.text("language", part.language);
        if !part.terms.is_empty() {
            form.text("terms", &part.terms.join("\n"));
        }
        for (name, value) in &self.service.fields {
            form.text(name, value);
        }
        let name = format!("from-{}.wav", part.start.clock('-').replace(':', "-"));
        form.file(&self.service.sound_field, &name, "audio/wav", &part.wav);
        let (kind, body) = form.finish();
        match self.send(&kind, &body)? {
            Some(answer) => Ok(Reply::Heard(self.understood(Answer::parse(&answer))?)),
            None => Ok(Reply::TooLarge),
        }
    }
}

impl TextService for Client {
    fn name(&self) -> &str {
        &self.service.name
    }

    fn most(&self) -> u64 {
        self.service.most
    }

    fn read(&self, request: &TextRequest) -> words::Result<TextAnswer> {
        let body = serde_json::to_vec(request).map_err(|e| words::Error::Service(e.to_string()))?;
        match self.send("application/json", &body)? {
            Some(answer) => self.understood(TextAnswer::parse(&answer)),
            None => Err(words::Error::Service(described(
                &self.service,
                &format!("it says that {} bytes of text are too many; lower its `most`", body.len()),
            ))),
        }
    }
}
