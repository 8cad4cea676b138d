//! Where someone speaks: likelihoods every 32 ms become spans (MODEL.md, "Voice activity detector").

use crate::model::activity::CHUNK;

/// Samples from `start` up to `end`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Span {
    pub start: u64,
    pub end: u64,
}

impl Span {
    pub fn len(&self) -> u64 {
        self.end - self.start
    }
    pub fn is_empty(&self) -> bool {
        self.end <= self.start
    }
}

const BEGIN: f32 = 0.5;
const STOP: f32 = 0.35;
/// Chunks below [`STOP`] that end a span: 0.1 s.
const QUIET: u64 = 4;
/// A span of fewer chunks is a click.
const SHORTEST: u64 = 4;

#[derive(Default)]
pub struct Spans {
    chunk: u64,
    open: Option<u64>,
    /// First chunk of the quiet that goes on.
    quiet: Option<u64>,
}

impl Spans {
    /// What is known after one more chunk: a span that has ended.
    pub fn push(&mut self, likelihood: f32) -> Option<Span> {
        let now = self.chunk;
        self.chunk += 1;
        match self.open {
            None if likelihood >= BEGIN => self.open = Some(now),
            None => (),
            Some(_) if likelihood >= STOP => self.quiet = None,
            Some(start) => {
                let quiet = *self.quiet.get_or_insert(now);
                if now + 1 - quiet >= QUIET {
                    (self.open, self.quiet) = (None, None);
                    return span(start, quiet);
                }
            }
        }
        None
    }

    /// Start of the span that is still open, in samples.
    pub fn open(&self) -> Option<u64> {
        self.open.map(|c| c * CHUNK as u64)
    }

    pub fn finish(&mut self) -> Option<Span> {
        let start = self.open.take()?;
        span(start, self.quiet.take().unwrap_or(self.chunk))
    }
}

fn span(start: u64, end: u64) -> Option<Span> {
    let chunk = CHUNK as u64;
    (end - start >= SHORTEST).then_some(Span { start: start * chunk, end: end * chunk })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("....######....", &[(4, 10)])]
    #[case("..###.###-#....####", &[(2, 11), (15, 19)])]
    #[case("..##......", &[])]
    #[case("####----####....", &[(0, 12)])]
    #[case("....", &[])]
    fn likelihoods_become_spans(#[case] line: &str, #[case] want: &[(u64, u64)]) {
        let mut s = Spans::default();
        let value = |c| match c {
            '#' => 0.9,
            '-' => 0.4,
            _ => 0.1,
        };
        let mut got: Vec<Span> = line.chars().filter_map(|c| s.push(value(c))).collect();
        got.extend(s.finish());
        let want: Vec<Span> = want.iter().map(|&(a, b)| Span { start: a * 512, end: b * 512 }).collect();
        assert_eq!(got, want);
    }
}
