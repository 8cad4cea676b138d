//! A message to a web address: JSON, signed as the open Standard Webhooks say (an id, a time, and an HMAC-SHA256 over both
//! and the body, RFC 2104).

use super::{Message, Webhook};
use crate::services::certificates;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, KeyInit, Mac};
use sha2::Sha256;
use std::time::Duration;
use ureq::Agent;
use ureq::tls::{RootCerts, TlsConfig};

const TIMEOUT: Duration = Duration::from_secs(30);

/// What the header says: `v1,` and the sum.
pub fn signature(secret: &[u8], id: &str, seconds: i64, body: &[u8]) -> Option<String> {
    let mut mac = Hmac::<Sha256>::new_from_slice(secret).ok()?;
    mac.update(format!("{id}.{seconds}.").as_bytes());
    mac.update(body);
    Some(format!("v1,{}", STANDARD.encode(mac.finalize().into_bytes())))
}

pub fn send(to: &Webhook, message: &Message) -> Result<(), String> {
    let body = serde_json::to_vec(message).map_err(|e| e.to_string())?;
    let mut config = Agent::config_builder()
        .timeout_global(Some(TIMEOUT))
        .http_status_as_error(false)
        .max_redirects(0)
        .max_redirects_will_error(false)
        .user_agent(concat!("deft-porter/", env!("CARGO_PKG_VERSION")));
    if let Some(path) = &to.certificates {
        let trusted = certificates(path)?;
        config =
            config.tls_config(TlsConfig::builder().root_certs(RootCerts::new_with_certs(&trusted)).build());
    }
    let agent: Agent = config.build().into();
    let seconds = crate::clock::now() / 1_000_000;
    let mut request = agent
        .post(&to.address)
        .header("Content-Type", "application/json")
        .header("webhook-id", &message.id)
        .header("webhook-timestamp", seconds.to_string());
    if let Some(secret) = &to.secret {
        let secret = secret.read()?;
        let signed = signature(secret.tell().as_bytes(), &message.id, seconds, &body);
        request = request.header("webhook-signature", signed.unwrap_or_default());
    }
    // The address may carry a secret of its own behind its question mark.
    let shown = to.address.split('?').next().unwrap_or_default();
    match request.send(&body) {
        Ok(answer) if answer.status().is_success() => Ok(()),
        Ok(answer) => Err(format!("{shown} answers {}", answer.status())),
        Err(e) => Err(format!("{shown}: {e}")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Computed with Python's `hmac`: base64(HMAC-SHA256("tide", "n-9.1700000000.{}")).
    #[test]
    fn signatures_are_those_of_another_program() {
        let got = signature(b"tide", "n-9", 1_700_000_000, b"{}").unwrap();
        assert_eq!(got, "v1,YZ+pazrkvo0YmnRpTn8E3EGWKJWBgfCDO3p1kRMxYoo=");
    }
}
