//! What is published with an output.

use super::{At, Checker, Step, key};
use crate::config::{ItemMake, Place, raw};
use crate::deliver::remote::Protocol;
use crate::item::{self, FIELDS};
use crate::naming;

pub fn item(
    c: &mut Checker<'_>,
    here: &At,
    m: &raw::Make,
    r: &raw::Rule,
    to: &[String],
    places: &[Place],
) -> Option<ItemMake> {
    let publishes = to.iter().find(|name| {
        let place = places.iter().find(|p| p.name == **name);
        place.and_then(Place::remote).is_some_and(|r| r.protocol == Protocol::Publish)
    });
    let asked = m.item.is_some() || m.required.is_some() || m.hold.is_some() || m.with.is_some();
    if !asked {
        if let Some(place) = publishes {
            let found = format!("no key 'item', and place \"{place}\" publishes");
            c.fault(here.clone(), found, "item = { title = \"{stem}\" } or more of it");
        }
        return None;
    }
    let none = raw::Item::default();
    let i = m.item.as_ref().unwrap_or(&none);
    let texts = [
        ("title", i.title.clone()),
        ("description", i.description.clone()),
        ("tags", i.tags.as_ref().map(|t| t.join(", "))),
        ("category", i.category.clone()),
        ("language", i.language.clone()),
        ("visibility", i.visibility.clone()),
        ("publish_at", i.publish_at.clone()),
        ("notify", i.notify.map(|yes| if yes { "yes" } else { "no" }.to_owned())),
    ];
    let within = key(here, "item");
    let mut fields = Vec::new();
    for (name, text) in texts.into_iter().filter_map(|(n, t)| Some((n, t?))) {
        let wrong = match text.contains('{') {
            true => naming::check_text(&text).err(),
            false => item::check(name, &text).err(),
        };
        if let Some(wanted) = wrong {
            c.fault(key(&within, name), format!("\"{text}\""), wanted);
        }
        fields.push((name, text));
    }
    let required = m.required.clone().unwrap_or_else(|| vec!["title".to_owned()]);
    for (n, name) in required.iter().enumerate().filter(|(_, name)| !FIELDS.iter().any(|f| f.0 == **name)) {
        let mut at = key(here, "required");
        at.push(Step::Index(n));
        let all: Vec<&str> = FIELDS.iter().map(|f| f.0).collect();
        c.fault(at, format!("\"{name}\""), all.join(", "));
    }
    let with = m.with.clone().unwrap_or_default();
    let made: Vec<&str> = r.make.iter().filter_map(|m| m.preset.as_deref()).collect();
    for (n, name) in with.iter().enumerate().filter(|(_, name)| !made.contains(&name.as_str())) {
        let mut at = key(here, "with");
        at.push(Step::Index(n));
        let wanted = format!("a preset that this rule makes: {}", made.join(", "));
        c.fault(at, format!("\"{name}\""), wanted);
    }
    Some(ItemMake { fields, required, hold: m.hold.unwrap_or(false), with })
}
