//! Playlists of HTTP Live Streaming (RFC 8216).

use super::near::{folder_of, resolve};
use super::pieces::Piece;
use super::{Listed, Lists, MOST_BYTES, Near, Stream};
use crate::error::{Error, Result};
use std::io::Read;

const WHAT: &str = "an HLS playlist";

/// Lists of songs begin in the same way; what they name are no parts of one thing.
pub fn is(head: &[u8]) -> bool {
    let head = head.strip_prefix(b"\xef\xbb\xbf").unwrap_or(head);
    head.starts_with(b"#EXTM3U") && head.windows(7).any(|w| w == b"#EXT-X-")
}

pub fn read(text: &str, name: &str, near: &dyn Near) -> Result<Lists> {
    let all: Vec<&str> = text.lines().map(str::trim).collect();
    let tags = |tag: &'static str| all.iter().filter_map(move |l| l.strip_prefix(tag));
    if !all.iter().any(|l| l.starts_with("#EXT-X-STREAM-INF:")) {
        return lists(media(text, folder_of(name))?, None);
    }
    // The largest picture, of these the one with most bits; lists of sound alone only where nothing else is there.
    let mut best: Option<(u64, u64, &str, Option<String>)> = None;
    for (n, line) in all.iter().enumerate() {
        let Some(list) = line.strip_prefix("#EXT-X-STREAM-INF:") else { continue };
        let Some(uri) = all[n + 1..].iter().find(|l| !l.is_empty() && !l.starts_with('#')) else { continue };
        let size = attribute(list, "RESOLUTION");
        let size = size.as_deref().and_then(|s| s.split_once('x'));
        let pixels = size.map_or(0, |(w, h)| number(w).saturating_mul(number(h)));
        let bits = attribute(list, "BANDWIDTH").map_or(0, |b| number(&b));
        if best.as_ref().is_none_or(|b| (pixels, bits) > (b.0, b.1)) {
            best = Some((pixels, bits, uri, attribute(list, "AUDIO")));
        }
    }
    let Some((.., uri, group)) = best else { return Err(Error::damaged(WHAT, "it names no stream")) };
    let variants = all.iter().filter(|l| l.starts_with("#EXT-X-STREAM-INF:")).count();
    let mut main = nested(&resolve(folder_of(name), uri)?, near)?;
    if variants > 1 {
        main[0].remarks.push(format!("the best of {variants} streams: {uri}"));
    }
    let sounds = tags("#EXT-X-MEDIA:").filter(|l| {
        attribute(l, "TYPE").as_deref() == Some("AUDIO")
            && group.is_some()
            && attribute(l, "GROUP-ID") == group
    });
    let mut sounds: Vec<(bool, String)> = sounds
        .filter_map(|l| Some((attribute(l, "DEFAULT").as_deref() == Some("YES"), attribute(l, "URI")?)))
        .collect();
    sounds.sort_by_key(|(is_default, _)| !is_default);
    let sound = match sounds.first() {
        Some((_, uri)) => Some(nested(&resolve(folder_of(name), uri)?, near)?),
        None => None,
    };
    if sounds.len() > 1 {
        main[0].remarks.push(format!("the first of {} sounds", sounds.len()));
    }
    lists(main, sound)
}

/// Pictures, and the sound that belongs to them: both change at the same places.
fn lists(main: Vec<Stream>, sound: Option<Vec<Stream>>) -> Result<Lists> {
    let Some(sound) = sound else {
        return Ok(main.into_iter().map(|main| Listed { main, sound: None }).collect());
    };
    if sound.len() != main.len() {
        let why = format!(
            "its pictures are {} streams one behind the other and its sound {}; each can be read by itself",
            main.len(),
            sound.len()
        );
        return Err(Error::unsupported(WHAT, why));
    }
    Ok(main.into_iter().zip(sound).map(|(main, sound)| Listed { main, sound: Some(sound) }).collect())
}

fn nested(name: &str, near: &dyn Near) -> Result<Vec<Stream>> {
    let mut text = Vec::new();
    let file = near.open(name).map_err(|e| match e {
        Error::System(e) => Error::damaged(WHAT, format!("{name}, which it names, cannot be read: {e}")),
        e => e,
    })?;
    file.take(MOST_BYTES).read_to_end(&mut text)?;
    media(&String::from_utf8_lossy(&text), folder_of(name))
}

/// A media playlist (4.3.2, 4.3.3): a stream for each beginning in it, in their order; at least one.
fn media(text: &str, folder: &str) -> Result<Vec<Stream>> {
    const MOST_STREAMS: usize = 1_000;
    let mut done = Vec::new();
    let mut stream = Stream::default();
    let mut range = None;
    let mut map: Option<Piece> = None;
    let mut is_whole = false;
    let mut is_gap = false;
    for line in text.trim_start_matches('\u{feff}').lines().map(str::trim) {
        if let Some(list) = line.strip_prefix("#EXT-X-MAP:") {
            let uri =
                attribute(list, "URI").ok_or_else(|| Error::damaged(WHAT, "a beginning without a name"))?;
            let own =
                attribute(list, "BYTERANGE").and_then(|r| bytes(&r)).map(|(n, at)| (at.unwrap_or(0), n));
            let piece = Piece { name: resolve(folder, &uri)?, range: own };
            if map.as_ref() != Some(&piece) {
                if !stream.pieces.is_empty() {
                    done.push(std::mem::take(&mut stream));
                }
                if done.len() > MOST_STREAMS {
                    return Err(Error::limit(WHAT, format!("more than {MOST_STREAMS} streams in one")));
                }
                stream.pieces.push(piece.clone());
                map = Some(piece);
            }
        } else if let Some(list) = line.strip_prefix("#EXT-X-KEY:") {
            if attribute(list, "METHOD").is_some_and(|m| m != "NONE") {
                let why = "its parts are encrypted: only who has the key can read them";
                return Err(Error::unsupported(WHAT, why));
            }
        } else if let Some(list) = line.strip_prefix("#EXT-X-BYTERANGE:") {
            range = bytes(list);
        } else if line == "#EXT-X-ENDLIST" {
            is_whole = true;
        } else if line == "#EXT-X-GAP" {
            is_gap = true;
        } else if !line.is_empty() && !line.starts_with('#') {
            let name = resolve(folder, line)?;
            let range = range.take().map(|(n, at)| {
                // Without a place it follows the part before it, of the same file.
                let before = stream.pieces.last().filter(|p| p.name == name).and_then(|p| p.range);
                (at.unwrap_or(before.map_or(0, |(at, n)| at.saturating_add(n))), n)
            });
            if !std::mem::take(&mut is_gap) {
                stream.pieces.push(Piece { name, range });
            }
        }
    }
    done.push(stream);
    if !is_whole {
        done[0].remarks.push("the playlist says of no end: more may come".into());
    }
    Ok(done)
}

fn number(text: &str) -> u64 {
    text.trim().parse().unwrap_or(0)
}

/// `n[@o]`
fn bytes(text: &str) -> Option<(u64, Option<u64>)> {
    match text.trim().split_once('@') {
        Some((n, at)) => Some((n.parse().ok()?, at.parse().ok())),
        None => Some((text.trim().parse().ok()?, None)),
    }
}

/// A value of a list of attributes (4.2).
fn attribute(list: &str, name: &str) -> Option<String> {
    let mut rest = list;
    loop {
        let (key, after) = rest.split_once('=')?;
        let (value, next) = match after.strip_prefix('"') {
            Some(quoted) => {
                let (value, next) = quoted.split_once('"')?;
                (value, next.trim_start_matches(','))
            }
            None => after.split_once(',').unwrap_or((after, "")),
        };
        if key.trim() == name {
            return Some(value.to_owned());
        }
        rest = next;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn attributes_are_found_behind_commas_in_quotes() {
        let list = r#"BANDWIDTH=800000,CODECS="avc1.4d401f,mp4a.40.2",RESOLUTION=1280x720,AUDIO="a""#;
        let get = |n| attribute(list, n);
        assert_eq!(get("RESOLUTION").as_deref(), Some("1280x720"));
        assert_eq!(get("CODECS").as_deref(), Some("avc1.4d401f,mp4a.40.2"));
        assert_eq!((get("AUDIO").as_deref(), get("FRAME-RATE")), (Some("a"), None));
    }

    /// A beginning that is named again as it was is no other.
    #[test]
    fn each_beginning_is_a_stream() {
        let text = "#EXTM3U\n#EXT-X-MAP:URI=\"a\"\n#EXTINF:4,\n1\n#EXT-X-MAP:URI=\"b\"\n#EXTINF:4,\n2\n#EXT-X-MAP:URI=\"b\"\n\
                    #EXTINF:4,\n3\n#EXT-X-MAP:URI=\"a\"\n#EXTINF:4,\n4\n#EXT-X-ENDLIST\n";
        let got = media(text, "").unwrap();
        let names = |s: &Stream| s.pieces.iter().map(|p| p.name.clone()).collect::<Vec<_>>();
        assert_eq!(
            got.iter().map(names).collect::<Vec<_>>(),
            [vec!["a", "1"], vec!["b", "2", "3"], vec!["a", "4"]]
        );
        assert!(lists(media(text, "").unwrap(), Some(vec![Stream::default()])).is_err());
        assert_eq!(lists(got, None).unwrap().len(), 3);
    }

    #[test]
    fn parts_ranges_and_beginnings() {
        let text = "#EXTM3U\n#EXT-X-MAP:URI=\"i.mp4\",BYTERANGE=\"700@0\"\n#EXTINF:4,\n#EXT-X-BYTERANGE:100@700\ni.mp4\n\
                    #EXTINF:4,\n#EXT-X-BYTERANGE:50\ni.mp4\n#EXT-X-GAP\n#EXTINF:4,\ngone.m4s\n#EXT-X-ENDLIST\n";
        let [got] = &media(text, "v").unwrap()[..] else { panic!("one stream") };
        let want =
            [(0, 700), (700, 100), (800, 50)].map(|r| Piece { name: "v/i.mp4".into(), range: Some(r) });
        assert_eq!((got.pieces.as_slice(), got.remarks.len()), (&want[..], 0));
        assert!(is(b"#EXTM3U\n#EXT-X-VERSION:7\n") && !is(b"#EXTM3U\n#EXTINF:200,Song\nsong.mp3\n"));
        for (line, words) in
            [("#EXT-X-KEY:METHOD=AES-128,URI=\"k\"", "encrypted"), ("../up.ts", "does not lie in")]
        {
            let e = media(&format!("#EXTM3U\n{line}\n"), "").unwrap_err().to_string();
            assert!(e.contains(words), "{e}");
        }
    }
}
