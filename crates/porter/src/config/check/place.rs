//! Places, as the configuration has them.

use super::words::{LoginKeys, login, secret};
use super::{At, Checker, key};
use crate::config::{After, Fetch, Original, Place, Watch, Where, raw, values};
use crate::deliver::Remote;
use crate::deliver::remote::{About, PROTOCOLS, Protocol, decoded, inside};
use crate::services::{Login, Secret, Service, SignIn};
use crate::watch::told::TellAt;
use std::net::SocketAddr;
use std::path::Path;
use std::time::Duration;
use ureq::http::Uri;

const MAX_AT_ONCE: i64 = 32;
/// Of a signature in an address.
const LONGEST_LINK: Duration = Duration::from_secs(7 * 24 * 3600);
const MIN_PACE: u64 = 1000;

pub fn place(
    c: &mut Checker<'_>,
    here: &At,
    p: &raw::Place,
    watches: &[Watch],
    state: &Path,
) -> Option<Place> {
    let at = match (&p.folder, &p.address) {
        (Some(folder), None) => {
            only_remote(c, here, p);
            Some(Where::Folder(folder_of(c, here, folder, watches, state)))
        }
        (None, Some(address)) => {
            let own = sign_in(c, here, p, state);
            remote(c, here, p, address, own).map(|r| Where::Remote(Box::new(r)))
        }
        (Some(_), Some(_)) => {
            c.fault(key(here, "address"), "'address' beside 'folder'", "one of the two");
            None
        }
        (None, None) => {
            let wanted =
                "folder = \"...\" for one of this machine, or address = \"...\" for one of a network";
            c.fault(here.clone(), "a place without a folder or an address", wanted);
            None
        }
    };
    let at_once = p.at_once.map(|n| c.number(key(here, "at_once"), n, 1, MAX_AT_ONCE) as usize);
    let pace = p.pace.as_deref().and_then(|text| {
        let bytes = text.trim().strip_suffix("/s").and_then(|b| values::bytes(b.trim()));
        if bytes.is_none_or(|b| b < MIN_PACE) {
            let wanted = "bytes a second such as \"20 MB/s\", at least \"1 kB/s\"";
            c.fault(key(here, "pace"), format!("\"{text}\""), wanted);
        }
        bytes
    });
    let hours = c.hours(key(here, "hours"), p.hours.as_deref());
    let read_back = p.read_back.unwrap_or(true);
    if p.read_back.is_some() && p.folder.is_none() {
        let wanted = "this key with a folder only: other places verify as their protocol can";
        c.fault(key(here, "read_back"), "'read_back' beside 'address'", wanted);
    }
    if !read_back && let Some(w) = watches.iter().find(|w| w.original == Original::Remove) {
        c.fault(
            key(here, "read_back"),
            format!("false, where watch \"{}\" removes originals", w.name),
            "true, or another word for that watch's 'original': what is removed must have been read back where it went",
        );
    }
    Some(Place { name: p.name.clone(), at: at?, at_once, pace, hours, read_back })
}

/// Where the files of a watch are fetched from.
pub fn fetch(c: &mut Checker<'_>, here: &At, f: &raw::From) -> Option<Fetch> {
    let as_place = raw::Place {
        address: Some(f.address.clone()),
        protocol: f.protocol.clone(),
        user: f.user.clone(),
        password_file: f.password_file.clone(),
        password_env: f.password_env.clone(),
        token_file: f.token_file.clone(),
        token_env: f.token_env.clone(),
        key_file: f.key_file.clone(),
        known_hosts: f.known_hosts.clone(),
        host_key: f.host_key.clone(),
        certificates: f.certificates.clone(),
        timeout: f.timeout.clone(),
        region: f.region.clone(),
        ..raw::Place::default()
    };
    let remote = remote(c, here, &as_place, &f.address, None)?;
    if matches!(remote.protocol, Protocol::Tus | Protocol::Publish) {
        let found = f.protocol.clone().unwrap_or_default();
        c.fault(
            key(here, "protocol"),
            format!("\"{found}\""),
            "a protocol by which files can be listed and read",
        );
    }
    c.one_of(key(here, "after"), f.after.as_deref(), &["leave", "move", "remove", "tag"]);
    let after = match f.after.as_deref() {
        Some("move") => After::Move,
        Some("remove") => After::Remove,
        Some("tag") => After::Tag,
        _ => After::Leave,
    };
    if after == After::Tag && remote.protocol != Protocol::S3 {
        c.fault(
            key(here, "after"),
            "\"tag\" where objects have none",
            "protocol = \"s3\", or another word here",
        );
    }
    let tag = f.tag.as_deref().unwrap_or("fetched=yes");
    let parts = tag.split_once('=').filter(|(n, v)| {
        // What object storage takes for tags.
        let good = |t: &str| t.chars().all(|c| c.is_alphanumeric() || " +-._:/@".contains(c));
        !n.is_empty() && n.len() <= 128 && v.len() <= 256 && good(n) && good(v)
    });
    if parts.is_none() || (f.tag.is_some() && after != After::Tag) {
        let wanted = "a name and a value of letters, digits, blanks and + - . _ : / @, \"fetched=yes\", with after = \"tag\"";
        c.fault(key(here, "tag"), format!("\"{tag}\""), wanted);
    }
    let tag = parts.map_or_else(Default::default, |(n, v)| (n.to_owned(), v.to_owned()));
    let move_to = f.move_to.clone().unwrap_or_default();
    match (after, inside(&move_to).is_ok()) {
        (After::Move, false) => {
            let wanted = "a folder in the one that is looked at, such as \"fetched\"";
            c.fault(key(here, "move_to"), format!("\"{move_to}\""), wanted);
        }
        (After::Leave | After::Remove | After::Tag, _) if f.move_to.is_some() => {
            c.fault(key(here, "move_to"), "'move_to' without after = \"move\"", "both, or neither");
        }
        _ => (),
    }
    let told = f.told_at.as_deref().and_then(|text| told_at(c, here, f, text));
    Some(Fetch { remote, after, move_to, tag, told })
}

/// Where a place says that something came.
fn told_at(c: &mut Checker<'_>, here: &At, f: &raw::From, text: &str) -> Option<TellAt> {
    let names = ["told_token_env", "told_token_file"];
    let token = secret(c, here, names, &f.told_token_env, &f.told_token_file);
    let Ok(address) = text.parse::<SocketAddr>() else {
        let wanted = "an address and a port of this machine, such as \"127.0.0.1:9690\"";
        c.fault(key(here, "told_at"), format!("\"{text}\""), wanted);
        return None;
    };
    if !address.ip().is_loopback() && token.is_none() {
        let wanted = "'told_token_file' or 'told_token_env' where other machines can reach it";
        c.fault(key(here, "told_at"), format!("\"{text}\" without a token"), wanted);
    }
    Some(TellAt { address, token })
}

fn folder_of(
    c: &mut Checker<'_>,
    here: &At,
    text: &str,
    watches: &[Watch],
    state: &Path,
) -> std::path::PathBuf {
    let folder = c.path(key(here, "folder"), text);
    let seen = |w: &&Watch| w.sees(&folder) && !w.gathers(&folder);
    if let Some(w) = watches.iter().find(seen) {
        c.fault(
            key(here, "folder"),
            format!("\"{text}\", which lies in watch folder \"{}\"", w.name),
            "a folder outside every watch folder, or the folder of a watch with whole_folders = true itself: what is delivered there would arrive again",
        );
    }
    if folder.starts_with(state) {
        c.fault(
            key(here, "folder"),
            format!("\"{text}\", which lies in the state folder"),
            "a folder outside the state folder: what lies there is the porter's own, and cleared away",
        );
    }
    folder
}

/// What says nothing of a folder.
fn only_remote(c: &mut Checker<'_>, here: &At, p: &raw::Place) {
    let keys: [(&'static str, bool); 15] = [
        ("sign_in", p.sign_in.is_some()),
        ("protocol", p.protocol.is_some()),
        ("user", p.user.is_some()),
        ("password_file", p.password_file.is_some()),
        ("password_env", p.password_env.is_some()),
        ("token_file", p.token_file.is_some()),
        ("token_env", p.token_env.is_some()),
        ("key_file", p.key_file.is_some()),
        ("known_hosts", p.known_hosts.is_some()),
        ("host_key", p.host_key.is_some()),
        ("certificates", p.certificates.is_some()),
        ("timeout", p.timeout.is_some()),
        ("region", p.region.is_some()),
        ("storage_class", p.storage_class.is_some()),
        ("link", p.link.is_some()),
    ];
    for (name, _) in keys.iter().filter(|(_, there)| *there) {
        c.fault(key(here, name), format!("'{name}' beside 'folder'"), "this key with an address only");
    }
}

/// A token that comes of signing in, kept with the state of the house.
fn sign_in(c: &mut Checker<'_>, here: &At, p: &raw::Place, state: &Path) -> Option<Login> {
    let Some(issuer) = &p.sign_in else {
        for (name, there) in [("client", p.client.is_some()), ("scope", p.scope.is_some())] {
            if there {
                c.fault(key(here, name), format!("'{name}' without 'sign_in'"), "both, or neither");
            }
        }
        return None;
    };
    if let Some(wanted) = Service::wrong_address(issuer) {
        c.fault(key(here, "sign_in"), format!("\"{issuer}\""), wanted);
    }
    let certificates = p.certificates.as_ref().map(|path| c.path(key(here, "certificates"), path));
    Some(Login::Token(Secret::Signed(Box::new(SignIn {
        issuer: issuer.trim_end_matches('/').to_owned(),
        client: p.client.clone().unwrap_or_else(|| "deft-porter".into()),
        scope: p.scope.clone(),
        file: state.join("sign-in").join(format!("{}.json", p.name)),
        certificates,
    }))))
}

fn remote(
    c: &mut Checker<'_>,
    here: &At,
    p: &raw::Place,
    address: &str,
    signed: Option<Login>,
) -> Option<Remote> {
    let uri: Option<Uri> = address.parse().ok();
    let uri = uri.filter(|u| u.scheme_str().is_some() && u.host().is_some_and(|h| !h.is_empty()));
    let Some(uri) = uri else {
        let wanted = "a whole address, such as \"sftp://files.partner.example/incoming\"";
        c.fault(key(here, "address"), format!("\"{address}\""), wanted);
        return None;
    };
    if uri.authority().is_some_and(|a| a.as_str().contains('@')) {
        let wanted = "an address without a login in it; see user, password_file, key_file";
        c.fault(key(here, "address"), "an address with a login in it", wanted);
        return None;
    }
    let scheme = uri.scheme_str().unwrap_or_default();
    let about = protocol(c, here, p, scheme)?;
    let base = decoded(uri.path().trim_end_matches('/'));
    if base.split('/').any(|part| part == ".." || part == ".") {
        let wanted = "an address without \"..\" in it";
        c.fault(key(here, "address"), format!("\"{address}\""), wanted);
    }
    let keys = LoginKeys {
        token_env: &p.token_env,
        token_file: &p.token_file,
        user: &p.user,
        password_env: &p.password_env,
        password_file: &p.password_file,
    };
    let login = match (login(c, here, &keys, true), signed) {
        (Login::None, Some(signed)) => signed,
        (_, Some(_)) => {
            c.fault(key(here, "sign_in"), "'sign_in' beside another login", "one of the two");
            Login::None
        }
        (other, None) => other,
    };
    fits_together(c, here, p, about, &login);
    if about.protocol == Protocol::S3 && base.trim_matches('/').is_empty() {
        let wanted = "an address with a bucket in it, such as \"https://s3.house.example/bucket/folder\"";
        c.fault(key(here, "address"), format!("\"{address}\""), wanted);
    }
    let least = Duration::from_secs(1);
    let usual = format!("{} s", Remote::USUAL_TIMEOUT.as_secs());
    let at = about.schemes.iter().position(|s| *s == scheme).unwrap_or(0);
    Some(Remote {
        protocol: about.protocol,
        address: address.trim_end_matches('/').to_owned(),
        host: uri.host().unwrap_or_default().trim_matches(['[', ']']).to_owned(),
        port: uri.port_u16().unwrap_or(about.usual_ports[at]),
        base,
        tls: at == 1,
        login,
        key: p.key_file.as_ref().map(|f| c.path(key(here, "key_file"), f)),
        known_hosts: p.known_hosts.as_ref().map(|f| c.path(key(here, "known_hosts"), f)),
        host_key: p.host_key.clone(),
        certificates: p.certificates.as_ref().map(|f| c.path(key(here, "certificates"), f)),
        timeout: c.duration(key(here, "timeout"), p.timeout.as_deref(), &usual, least),
        region: p.region.clone().unwrap_or_else(|| "us-east-1".into()),
        storage_class: p.storage_class.clone(),
        link: p.link.as_deref().map(|text| {
            let span = c.duration(key(here, "link"), Some(text), "7 days", Duration::from_secs(60));
            if span > LONGEST_LINK {
                c.fault(
                    key(here, "link"),
                    format!("\"{text}\""),
                    "at most 7 days (\"168 h\"): no signature counts longer",
                );
            }
            span
        }),
    })
}

fn protocol(c: &mut Checker<'_>, here: &At, p: &raw::Place, scheme: &str) -> Option<&'static About> {
    let fitting: Vec<&About> = PROTOCOLS.iter().filter(|a| a.schemes.contains(&scheme)).collect();
    let names =
        |all: &[&About]| all.iter().map(|a| format!("\"{}\"", a.name)).collect::<Vec<_>>().join(" or ");
    match (&p.protocol, fitting.as_slice()) {
        (_, []) => {
            let wanted = "an address that begins with sftp://, ftp://, ftps://, https:// or http://";
            c.fault(key(here, "address"), format!("\"{scheme}://\""), wanted);
            None
        }
        (None, [only]) => PROTOCOLS.iter().find(|a| a.name == only.name),
        (None, several) => {
            let found = format!("no key 'protocol', and an address of {scheme}");
            c.fault(key(here, "protocol"), found, names(several));
            None
        }
        (Some(name), fitting) => match fitting.iter().find(|a| a.name == name) {
            Some(about) => PROTOCOLS.iter().find(|a| a.name == about.name),
            None => {
                let found = format!("\"{name}\" with an address of {scheme}");
                c.fault(key(here, "protocol"), found, names(fitting));
                None
            }
        },
    }
}

/// Keys that say nothing of this protocol would be followed by nobody.
fn fits_together(c: &mut Checker<'_>, here: &At, p: &raw::Place, about: &About, login: &Login) {
    let is = |all: &[Protocol]| all.contains(&about.protocol);
    let ssh = [Protocol::Sftp];
    let http = [Protocol::WebDav, Protocol::Tus, Protocol::Publish];
    let tls = [Protocol::Ftp, Protocol::S3, Protocol::WebDav, Protocol::Tus, Protocol::Publish];
    let checks: [(&'static str, bool, bool); 10] = [
        ("sign_in", p.sign_in.is_some(), is(&http)),
        ("key_file", p.key_file.is_some(), is(&ssh)),
        ("known_hosts", p.known_hosts.is_some(), is(&ssh)),
        ("host_key", p.host_key.is_some(), is(&ssh)),
        ("certificates", p.certificates.is_some(), is(&tls)),
        ("token_file", p.token_file.is_some(), is(&http)),
        ("token_env", p.token_env.is_some(), is(&http)),
        ("region", p.region.is_some(), is(&[Protocol::S3])),
        ("storage_class", p.storage_class.is_some(), is(&[Protocol::S3])),
        ("link", p.link.is_some(), is(&[Protocol::S3])),
    ];
    for (name, _, _) in checks.iter().filter(|(_, there, fits)| *there && !fits) {
        c.fault(key(here, name), format!("'{name}' with protocol {}", about.name), "no such key");
    }
    if let Some(found) = p.host_key.as_ref().filter(|k| !k.starts_with("SHA256:")) {
        c.fault(key(here, "host_key"), format!("\"{found}\""), "a fingerprint such as \"SHA256:...\"");
    }
    match (about.protocol, login) {
        (Protocol::Sftp, Login::None) => {
            c.fault(key(here, "user"), "no key 'user'", "the user's name at that host");
        }
        (Protocol::S3, Login::Password { .. }) => (),
        (Protocol::S3, _) => {
            let wanted = "user (the access key's id) and password_file or password_env (its secret)";
            c.fault(key(here, "user"), "no whole login", wanted);
        }
        (Protocol::Ftp | Protocol::WebDav | Protocol::Tus | Protocol::Publish, Login::User(_)) => {
            c.fault(
                key(here, "user"),
                "a user without a password",
                "password_file or password_env beside it",
            );
        }
        _ => (),
    }
}
