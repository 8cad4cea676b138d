//! Publishing: a platform that takes an item with its fields, captions and picture, and the film itself by a resumable upload
//! (tus 1.0.0). The interface is described in docs/schema/publish.openapi.json.

use super::super::{About, Cargo, Place, Proof, Published, Ticket, Trouble, Whose};
use super::Remote;
use super::http::{Http, Sends};
use super::tus::TusPlace;
use crate::clock;
use crate::files::Watching;
use crate::item::{Fields, moment};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use ureq::Body;
use ureq::http::{Response, StatusCode};

pub struct PublishPlace {
    http: Http,
    tus: TusPlace,
    base: String,
}

/// An item as the platform tells it.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Told {
    pub id: String,
    /// Where the film is uploaded to.
    pub upload: String,
    /// "draft", "scheduled" or "published".
    pub state: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
}

/// The fields as the interface has them.
pub fn described(key: &str, fields: &Fields, bytes: u64, digest: &str, name: &str) -> Value {
    let mut out = json!({ "key": key, "media": { "name": name, "bytes": bytes, "checksum": digest } });
    for (field, value) in fields.iter().filter(|(_, v)| !v.trim().is_empty()) {
        out[field] = match field.as_str() {
            "tags" => value.split(',').map(str::trim).filter(|t| !t.is_empty()).collect(),
            "notify" => Value::Bool(value == "yes"),
            "publish_at" => moment(value).map_or(Value::Null, |m| clock::zoned_text(m).into()),
            _ => value.clone().into(),
        };
    }
    out
}

impl PublishPlace {
    pub fn new(remote: &Remote) -> Result<PublishPlace, Trouble> {
        let base = remote.base.trim_end_matches('/').to_owned();
        Ok(PublishPlace { http: Http::new(remote, false)?, tus: TusPlace::new(remote)?, base })
    }

    fn url(&self, path: &str) -> String {
        self.http.url(&format!("{}/{path}", self.base))
    }

    fn told(&self, what: &str, mut answer: Response<Body>) -> Result<Told, Trouble> {
        if !answer.status().is_success() {
            return Err(self.http.trouble(what, answer));
        }
        let text = self.http.text(&mut answer)?;
        serde_json::from_str(&text)
            .map_err(|e| self.http.remote().away(format!("{what}: its answer is not understood: {e}")))
    }

    fn send(&self, method: &str, url: &str, body: &Value) -> Result<Response<Body>, Trouble> {
        let bytes = serde_json::to_vec(body).unwrap_or_default();
        self.http.send(method, url, &[("Content-Type", "application/json")], Sends::Bytes(&bytes))
    }

    /// The item of a ticket, and where it is uploaded to.
    fn begun<'t>(&self, ticket: &'t Ticket) -> Option<(&'t str, &'t str)> {
        match ticket {
            Ticket::Upload { id, .. } => id.split_once(' '),
            _ => None,
        }
    }

    fn item(&self, id: &str) -> Result<Option<Told>, Trouble> {
        let answer = self.http.send("GET", &self.url(&format!("items/{id}")), &[], Sends::Nothing)?;
        match answer.status() {
            StatusCode::NOT_FOUND | StatusCode::GONE => Ok(None),
            _ => self.told("cannot look at an item", answer).map(Some),
        }
    }

    /// The upload of an item, as the place for uploads has it.
    fn upload(&self, ticket: &Ticket, cargo: &Cargo) -> Option<Ticket> {
        let (_, upload) = self.begun(ticket)?;
        let whole = match upload.split_once("://") {
            // Only the path counts: nothing is sent anywhere else than to the place itself.
            Some((_, rest)) => {
                format!("{}/{}", self.http.root(), rest.split_once('/').map_or("", |(_, p)| p))
            }
            None => format!("{}/{}", self.http.root(), upload.trim_start_matches('/')),
        };
        Some(Ticket::Upload { tag: cargo.files.first()?.digest.clone(), id: whole })
    }
}

fn is_over(state: &str) -> bool {
    matches!(state, "published" | "scheduled")
}

impl Place for PublishPlace {
    fn about(&self) -> About {
        About { refuses_taken: true, proof: Proof::Counted, staged_by_name: true }
    }

    fn look(&self) -> Result<(), Trouble> {
        let mut answer = self.http.send("GET", &self.http.url(&self.base), &[], Sends::Nothing)?;
        if !answer.status().is_success() {
            return Err(self.http.trouble("cannot ask what it can do", answer));
        }
        let told: Value = serde_json::from_str(&self.http.text(&mut answer)?).unwrap_or_default();
        match told["publish"].as_i64() {
            Some(1) => Ok(()),
            _ => Err(self.http.remote().refused("it does not speak version 1 of publishing")),
        }
    }

    fn has(&self, _: &str) -> Result<bool, Trouble> {
        Ok(false)
    }

    fn begin(&self, tag: &str) -> Result<Ticket, Trouble> {
        Ok(super::site::new_ticket(tag))
    }

    fn prepare(&self, cargo: &Cargo, name: &str, ticket: &Ticket) -> Result<Ticket, Trouble> {
        let [file] = cargo.files.as_slice() else {
            return Err(self.http.remote().refused("it takes single files, not folders of them"));
        };
        if let (Some((id, _)), Ticket::Upload { tag, .. }) = (self.begun(ticket), ticket)
            && *tag == file.digest
            && self.item(id)?.is_some()
        {
            return Ok(ticket.clone());
        }
        // The same key is the same item, however often it is asked for.
        let key = match ticket {
            Ticket::Staged(tag) => format!("{tag} {}", file.digest),
            // What it had is gone there.
            Ticket::Upload { id, .. } => format!("{id} once more"),
            Ticket::Unknown => return Err(Trouble::Changed("it was begun by a newer program".into())),
        };
        let last = name.rsplit('/').next().unwrap_or(name);
        let item = described(&key, &cargo.item, file.bytes, &file.digest, last);
        let told = self.told("cannot make an item", self.send("POST", &self.url("items"), &item)?)?;
        if told.id.contains([' ', '/']) {
            return Err(self.http.remote().away("the id of its item is none"));
        }
        Ok(Ticket::Upload { tag: file.digest.clone(), id: format!("{} {}", told.id, told.upload) })
    }

    fn stage(&self, cargo: &Cargo, name: &str, ticket: &Ticket, w: &dyn Watching) -> Result<Proof, Trouble> {
        super::site::inside(name)?;
        let lost = || self.http.remote().away("nothing was begun there");
        let (id, _) = self.begun(ticket).ok_or_else(lost)?;
        let upload = self.upload(ticket, cargo).ok_or_else(lost)?;
        let proof = self.tus.stage(cargo, name, &upload, w)?;
        for with in &cargo.with {
            let bytes = std::fs::read(&with.path).map_err(|e| Trouble::Changed(e.to_string()))?;
            let url = self.url(&format!("items/{id}/{}", with.part()));
            let answer =
                self.http.send("PUT", &url, &[("Content-Type", with.kind())], Sends::Bytes(&bytes))?;
            if !answer.status().is_success() {
                return Err(self.http.trouble("cannot bring what goes with the item", answer));
            }
        }
        Ok(proof)
    }

    fn publish(&self, ticket: &Ticket, _: &str) -> Result<Published, Trouble> {
        let (id, _) = self.begun(ticket).ok_or_else(|| self.http.remote().away("nothing was begun there"))?;
        let answer = self.send("POST", &self.url(&format!("items/{id}/publish")), &json!({}))?;
        let told = self.told("cannot publish", answer)?;
        match is_over(&told.state) {
            true => Ok(Published::Done),
            false => Err(self.http.remote().away(format!("it left the item as \"{}\"", told.state))),
        }
    }

    fn whose(&self, _: &str, ticket: &Ticket, _: &Cargo) -> Result<Whose, Trouble> {
        let Some((id, _)) = self.begun(ticket) else { return Ok(Whose::Nothing) };
        let is_ours = self.item(id)?.is_some_and(|t| is_over(&t.state));
        Ok(if is_ours { Whose::Ours } else { Whose::Nothing })
    }

    fn discard(&self, _: &str, ticket: &Ticket) -> Result<(), Trouble> {
        let Some((id, _)) = self.begun(ticket) else { return Ok(()) };
        let answer = self.http.send("DELETE", &self.url(&format!("items/{id}")), &[], Sends::Nothing)?;
        match answer.status() {
            s if s.is_success() => Ok(()),
            StatusCode::NOT_FOUND | StatusCode::GONE | StatusCode::CONFLICT => Ok(()),
            _ => Err(self.http.trouble("cannot take an item away", answer)),
        }
    }

    fn address(&self, _: &str, ticket: &Ticket) -> Result<Option<String>, Trouble> {
        let Some((id, _)) = self.begun(ticket) else { return Ok(None) };
        Ok(self.item(id)?.and_then(|t| t.address))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fields_go_as_what_they_are() {
        let fields = [
            ("title", "Ebb"),
            ("tags", "sea, , mud"),
            ("notify", "yes"),
            ("publish_at", "2026-11-30T18:00:00Z"),
            ("category", " "),
        ];
        let fields = fields.iter().map(|(n, v)| ((*n).to_owned(), (*v).to_owned())).collect();
        let told = described("k", &fields, 7, "xxh3-128:1", "a.mp4");
        assert_eq!(told["tags"], json!(["sea", "mud"]));
        assert_eq!((told["notify"].as_bool(), &told["category"]), (Some(true), &Value::Null));
        assert!(told["publish_at"].as_str().unwrap().starts_with("2026-11-30T"));
        assert_eq!(told["media"], json!({ "name": "a.mp4", "bytes": 7, "checksum": "xxh3-128:1" }));
    }
}
