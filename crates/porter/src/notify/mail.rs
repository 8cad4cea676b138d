//! Mail (RFC 5321 and 5322), as text and as a page.

use super::{Mail, Message, Tls};
use crate::services::Login;
use lettre::message::{Mailbox, MultiPart, header};
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Certificate, Tls as Secured, TlsParameters};
use lettre::{SmtpTransport, Transport};
use std::time::Duration;

const TIMEOUT: Duration = Duration::from_secs(30);

pub fn send(mail: &Mail, message: &Message) -> Result<(), String> {
    let mut letter = lettre::Message::builder()
        .from(address(&mail.from)?)
        .subject(format!("{}: {}", message.house, message.summary))
        // The same message, should it come twice.
        .message_id(Some(format!("<{}.{}@deft-porter>", plain(&message.id), plain(&message.house))))
        .header(header::MIME_VERSION_1_0);
    for to in &mail.to {
        letter = letter.to(address(to)?);
    }
    let body = MultiPart::alternative_plain_html(message.text(), message.html());
    let letter = letter.multipart(body).map_err(|e| e.to_string())?;
    let mut parameters = TlsParameters::builder(mail.server.clone());
    if let Some(path) = &mail.certificates {
        let pem = std::fs::read(path).map_err(|e| format!("cannot read {}: {e}", media::show::path(path)))?;
        parameters = parameters.add_root_certificate(Certificate::from_pem(&pem).map_err(|e| e.to_string())?);
    }
    let tls = match mail.tls {
        Tls::No => Secured::None,
        Tls::Start => Secured::Required(parameters.build().map_err(|e| e.to_string())?),
        Tls::Whole => Secured::Wrapper(parameters.build().map_err(|e| e.to_string())?),
    };
    let mut transport =
        SmtpTransport::builder_dangerous(&mail.server).port(mail.port).tls(tls).timeout(Some(TIMEOUT));
    let mut secret = None;
    if let Login::Password { user, password } = &mail.login {
        let password = password.read()?;
        transport = transport.credentials(Credentials::new(user.clone(), password.tell().to_owned()));
        secret = Some(password);
    }
    transport.build().send(&letter).map(|_| ()).map_err(|e| {
        let why = format!("{}:{}: {e}", mail.server, mail.port);
        secret.map_or(why.clone(), |s| s.cover(&why))
    })
}

pub fn address(text: &str) -> Result<Mailbox, String> {
    text.parse().map_err(|e| format!("\"{text}\" is no mail address: {e}"))
}

fn plain(text: &str) -> String {
    text.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect()
}
