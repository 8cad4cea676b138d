//! Notices, as the configuration has them.

use super::words::{LoginKeys, login};
use super::{At, Checker, key, listed};
use crate::config::locate::Step;
use crate::config::{Watch, raw};
use crate::notify::{Mail, Notice, Tls, Way, Webhook, What, When};
use crate::services::{Login, Secret, Service};
use std::time::Duration;

pub fn notice(
    c: &mut Checker<'_>,
    here: &At,
    n: &raw::Notice,
    watches: &[Watch],
    rules: &[String],
) -> Option<Notice> {
    let words: Vec<&str> = What::ALL.iter().map(|(_, w)| *w).collect();
    let mut on = Vec::new();
    for (i, word) in n.on.iter().enumerate() {
        match What::parse(word) {
            Some(what) => on.push(what),
            None => {
                let mut path = key(here, "on");
                path.push(Step::Index(i));
                c.fault(path, format!("\"{word}\""), words.join(", "));
            }
        }
    }
    if n.on.is_empty() {
        c.fault(key(here, "on"), "an empty list", words.join(", "));
    }
    for (i, name) in n.watch.iter().flatten().enumerate() {
        if !watches.iter().any(|w| w.name == *name) {
            let mut path = key(here, "watch");
            path.push(Step::Index(i));
            let all = listed(watches.iter().map(|w| w.name.as_str()).collect());
            c.fault(path, format!("\"{name}\""), format!("the name of a watch: {all}"));
        }
    }
    for (i, name) in n.rule.iter().flatten().enumerate() {
        if !rules.contains(name) {
            let mut path = key(here, "rule");
            path.push(Step::Index(i));
            let all = listed(rules.iter().map(String::as_str).collect());
            c.fault(path, format!("\"{name}\""), format!("the name of a rule: {all}"));
        }
    }
    let when = match (&n.gather, &n.daily) {
        (Some(_), Some(_)) => {
            c.fault(key(here, "daily"), "'daily' beside 'gather'", "one of the two");
            None
        }
        (_, Some(time)) => {
            let minute = minute(time);
            if minute.is_none() {
                c.fault(key(here, "daily"), format!("\"{time}\""), "a time of day such as \"07:30\"");
            }
            minute.map(When::Daily)
        }
        (gather, None) => {
            let span = c.duration(key(here, "gather"), gather.as_deref(), "10 s", Duration::from_millis(100));
            Some(When::Gathered(span))
        }
    };
    let ways = [n.mail.is_some(), n.webhook.is_some(), n.command.is_some()];
    if ways.iter().filter(|w| **w).count() != 1 {
        let wanted = "one of [notice.mail], [notice.webhook] and command = [...]";
        c.fault(here.clone(), "no way to send it, or more than one", wanted);
        return None;
    }
    let way = if let Some(m) = &n.mail {
        Way::Mail(mail(c, &key(here, "mail"), m))
    } else if let Some(w) = &n.webhook {
        Way::Webhook(webhook(c, &key(here, "webhook"), w))
    } else {
        let command = n.command.clone().unwrap_or_default();
        if command.first().is_none_or(|p| p.trim().is_empty()) {
            c.fault(key(here, "command"), "no program", "a program and its arguments, as a list");
        }
        Way::Command(command)
    };
    let watches = n.watch.clone().unwrap_or_default();
    let rules = n.rule.clone().unwrap_or_default();
    let summary = n.summary.unwrap_or(false);
    Some(Notice { name: n.name.clone(), on, watches, rules, summary, when: when?, way })
}

fn minute(text: &str) -> Option<u16> {
    let (hours, minutes) = text.split_once(':')?;
    let (hours, minutes): (u16, u16) = (hours.parse().ok()?, minutes.parse().ok()?);
    (hours < 24 && minutes < 60).then_some(hours * 60 + minutes)
}

fn mail(c: &mut Checker<'_>, here: &At, m: &raw::Mail) -> Mail {
    c.one_of(key(here, "tls"), m.tls.as_deref(), &["start", "whole", "no"]);
    let tls = match m.tls.as_deref() {
        Some("whole") => Tls::Whole,
        Some("no") => Tls::No,
        _ => Tls::Start,
    };
    let usual = match tls {
        Tls::Start => 587,
        Tls::Whole => 465,
        Tls::No => 25,
    };
    let mut is_address = |name: &'static str, text: &str| {
        let shape = text.rsplit_once('@').is_some_and(|(user, host)| !user.is_empty() && !host.is_empty());
        if !shape || text.contains(char::is_control) {
            c.fault(
                key(here, name),
                format!("\"{text}\""),
                "a mail address such as \"porter@house.example\"",
            );
        }
    };
    is_address("from", &m.from);
    m.to.iter().for_each(|to| is_address("to", to));
    if m.to.is_empty() {
        c.fault(key(here, "to"), "an empty list", "at least one mail address");
    }
    let keys = LoginKeys {
        token_env: &None,
        token_file: &None,
        user: &m.user,
        password_env: &m.password_env,
        password_file: &m.password_file,
    };
    let login = login(c, here, &keys, false);
    if tls == Tls::No && login != Login::None {
        c.fault(
            key(here, "tls"),
            "a login without TLS",
            "\"start\" or \"whole\": a password is not sent in the clear",
        );
    }
    Mail {
        server: m.server.clone(),
        port: c.number(key(here, "port"), m.port.unwrap_or(usual), 1, 65_535) as u16,
        tls,
        login,
        certificates: m.certificates.as_ref().map(|p| c.path(key(here, "certificates"), p)),
        from: m.from.clone(),
        to: m.to.clone(),
    }
}

fn webhook(c: &mut Checker<'_>, here: &At, w: &raw::Webhook) -> Webhook {
    if let Some(wanted) = Service::wrong_address(&w.address) {
        c.fault(key(here, "address"), format!("\"{}\"", w.address), wanted);
    }
    let secret = match (&w.secret_env, &w.secret_file) {
        (Some(_), Some(_)) => {
            c.fault(key(here, "secret_file"), "'secret_file' beside 'secret_env'", "one of the two");
            None
        }
        (Some(env), None) => Some(Secret::Env(env.clone())),
        (None, Some(file)) => Some(Secret::File(c.path(key(here, "secret_file"), file))),
        (None, None) => None,
    };
    let certificates = w.certificates.as_ref().map(|p| c.path(key(here, "certificates"), p));
    Webhook { address: w.address.clone(), secret, certificates }
}
