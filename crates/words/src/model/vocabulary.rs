//! The tokens that the recogniser writes.

use crate::error::{Error, Result};

pub const START: u32 = 1;
pub const END: u32 = 2;
/// Tokens before this one write nothing.
const FIRST: u32 = 3;

pub struct Vocabulary {
    /// Bytes of each token; the leading space is a real one.
    tokens: Vec<Vec<u8>>,
}

impl Vocabulary {
    /// One token a line; `\xHH` is one byte, `\\` a backslash; U+2581 stands for a space.
    pub fn read(text: &str) -> Result<Vocabulary> {
        let tokens = text.lines().enumerate().map(|(i, l)| {
            token(l).map_err(|why| Error::model("vocab.txt", format!("line {}: {why}", i + 1)))
        });
        let tokens = tokens.collect::<Result<Vec<_>>>()?;
        if tokens.len() < 259 {
            return Err(Error::model("vocab.txt", format!("{} tokens, which is too few", tokens.len())));
        }
        Ok(Vocabulary { tokens })
    }

    /// What a token writes: nothing for the special ones and those behind the list.
    pub fn bytes(&self, id: u32) -> &[u8] {
        if id < FIRST { &[] } else { self.tokens.get(id as usize).map_or(&[], Vec::as_slice) }
    }

    pub fn starts_word(&self, id: u32) -> bool {
        self.bytes(id).first() == Some(&b' ')
    }

    pub fn text(&self, ids: &[u32]) -> String {
        let bytes: Vec<u8> = ids.iter().flat_map(|&id| self.bytes(id)).copied().collect();
        String::from_utf8_lossy(&bytes).trim().to_owned()
    }
}

fn token(line: &str) -> std::result::Result<Vec<u8>, String> {
    let mut out = Vec::new();
    let mut rest = line;
    while let Some(c) = rest.chars().next() {
        rest = &rest[c.len_utf8()..];
        match c {
            '\u{2581}' => out.push(b' '),
            '\\' if rest.starts_with('\\') => {
                out.push(b'\\');
                rest = &rest[1..];
            }
            '\\' => {
                let hex = rest.strip_prefix('x').and_then(|r| r.get(..2));
                let byte = hex.and_then(|h| u8::from_str_radix(h, 16).ok());
                out.push(byte.ok_or("a backslash that starts neither \\xHH nor \\\\")?);
                rest = &rest[3..];
            }
            c => out.extend(c.encode_utf8(&mut [0; 4]).as_bytes()),
        }
    }
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tokens_become_text() {
        let mut lines = vec!["<unk>".to_owned(), "<s>".into(), "</s>".into()];
        lines.extend((0..=255).map(|b| format!("\\x{b:02X}")));
        lines.extend(["\u{2581}salt".into(), "m\\\\".into(), "é".into()]);
        let v = Vocabulary::read(&lines.join("\n")).unwrap();
        assert_eq!(v.text(&[1, 259, 261, 260, 2, 40_000]), "saltém\\");
        assert_eq!(v.text(&[259, 3 + 0xe2, 3 + 0x82, 3 + 0xac, 3 + 0xff]), "salt€\u{fffd}");
        assert!(v.starts_word(259) && !v.starts_word(260) && !v.starts_word(0));
        assert!(Vocabulary::read("a\\q").is_err() && Vocabulary::read("a").is_err());
    }
}
