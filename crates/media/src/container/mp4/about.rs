//! What a file says of itself: user data (14496-12, 8.10; QuickTime File Format, "User data atoms") and
//! metadata items with keys ("Metadata", same document).

use super::boxes::{be16, be32, find, inside};
use crate::container::About;

/// Most tags kept, and the longest kept text.
const MAX_TAGS: usize = 200;
const MAX_TEXT: usize = 4096;

pub fn read(moov: &[u8], about: &mut About) {
    if let Some(udta) = find(moov, b"udta") {
        for item in inside(udta).filter(|b| b.kind[0] == 0xa9).take(MAX_TAGS) {
            // Two bytes of length, two of language, text.
            let Some(len) = be16(item.body, 0) else { continue };
            if let Some(text) = item.body.get(4..4 + usize::from(len)).and_then(text) {
                let key = String::from_utf8_lossy(&item.kind[1..]).into_owned();
                about.note(&key, text);
            }
        }
        if let Some(meta) = find(udta, b"meta") {
            items(meta.get(4..).unwrap_or(&[]), about);
        }
    }
    if let Some(meta) = find(moov, b"meta") {
        // A full box in ISO files, a plain one in QuickTime's.
        let body = if meta.get(4..8) == Some(b"hdlr") { meta } else { meta.get(4..).unwrap_or(&[]) };
        items(body, about);
    }
}

fn items(meta: &[u8], about: &mut About) {
    let keys: Vec<String> = find(meta, b"keys")
        .map(|k| {
            inside(k.get(8..).unwrap_or(&[]))
                .take(MAX_TAGS)
                .map(|b| String::from_utf8_lossy(b.body).into_owned())
                .collect()
        })
        .unwrap_or_default();
    let Some(ilst) = find(meta, b"ilst") else { return };
    for item in inside(ilst).take(MAX_TAGS) {
        let number = u32::from_be_bytes(item.kind) as usize;
        let key = match keys.get(number.wrapping_sub(1)) {
            Some(key) => key.clone(),
            None if item.kind[0] == 0xa9 => String::from_utf8_lossy(&item.kind[1..]).into_owned(),
            None => String::from_utf8_lossy(&item.kind).into_owned(),
        };
        let Some(data) = find(item.body, b"data") else { continue };
        // Type 1 is UTF-8 text.
        if be32(data, 0) == Some(1)
            && let Some(text) = data.get(8..).and_then(text)
        {
            about.note(&key, text);
        }
    }
}

fn text(bytes: &[u8]) -> Option<String> {
    let bytes = &bytes[..bytes.len().min(MAX_TEXT)];
    let t = String::from_utf8_lossy(bytes);
    let t = t.trim_matches(['\0', ' ', '\n']).to_owned();
    (!t.is_empty()).then_some(t)
}

#[cfg(test)]
mod tests {
    use super::super::boxes::Builder;
    use super::*;

    #[test]
    fn user_data_and_keyed_items_are_read() {
        let mut b = Builder::new();
        b.put(b"udta", |b| {
            b.put(b"\xa9nam", |b| {
                b.u16(5);
                b.u16(0);
                b.raw(b"Marsh");
            })
        });
        b.put(b"meta", |b| {
            b.put(b"hdlr", |b| b.zeros(24));
            b.full(b"keys", 0, 0, |b| {
                b.u32(1);
                b.put(b"mdta", |b| b.raw(b"com.apple.quicktime.make"));
            });
            b.put(b"ilst", |b| {
                b.put(&1u32.to_be_bytes(), |b| {
                    b.put(b"data", |b| {
                        b.u32(1);
                        b.u32(0);
                        b.raw(b"Heron Optics");
                    })
                })
            });
        });
        let mut about = About::default();
        read(&b.bytes, &mut about);
        assert_eq!(about.tags, [("title".to_owned(), "Marsh".to_owned())]);
        assert_eq!(about.maker.as_deref(), Some("Heron Optics"));
    }
}
