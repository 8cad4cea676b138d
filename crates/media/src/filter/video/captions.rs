//! Captions in the pictures: each line of what is said at a moment, in the middle, in a box.

use super::burn::{Burn, Burner, Side};
use super::{Form, Shown, VideoFilter};
use crate::error::Result;
use crate::frame::Pool;
use crate::track::TimecodeTrack;
use crate::units::Ratio;
use serde::{Deserialize, Serialize};

/// What is said from one moment to another, in milliseconds.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Spoken {
    pub from: u64,
    pub to: u64,
    /// Lines are parted by line feeds.
    pub text: String,
}

/// How captions stand in the pictures.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Captions {
    /// Height of a line, in hundredths of the picture's height.
    pub size: f32,
    pub colour: [u8; 3],
    pub shade: f32,
    /// At the top instead of the bottom.
    pub at_top: bool,
    /// What came with the file, once it was looked for.
    #[serde(skip)]
    pub came: Option<Came>,
}

/// Captions that came with a file.
#[derive(Clone, Debug, PartialEq)]
pub enum Came {
    /// In the order of their times, and what had to be passed over in reading them.
    Read { spoken: Vec<Spoken>, notes: Vec<String> },
    /// They cannot be read, and why.
    Broken(String),
}

impl Captions {
    pub fn words(&self) -> String {
        format!("burn in captions, {} of them", self.spoken().len())
    }

    fn spoken(&self) -> &[Spoken] {
        match &self.came {
            Some(Came::Read { spoken, .. }) => spoken,
            _ => &[],
        }
    }
}

/// Distance between lines, as a part of their height.
const LEADING: f32 = 1.7;

pub struct Captioner {
    captions: Captions,
    /// Ticks of the pictures' times, and where the part begins.
    timescale: u32,
    from: f64,
    form: Form,
    pool: Pool,
    shown: String,
    lines: Vec<Burner>,
}

impl Captioner {
    /// `from`: the second of the source that the pictures' times count from.
    pub fn new(captions: Captions, from: f64, form: &Form, pool: Pool) -> Captioner {
        let (timescale, form) = (form.timescale, form.clone());
        Captioner { captions, timescale, from, form, pool, shown: String::new(), lines: Vec::new() }
    }

    fn said_at(&self, ms: u64) -> String {
        let all = self.captions.spoken().iter();
        let now: Vec<&str> = all.filter(|s| s.from <= ms && ms < s.to).map(|s| s.text.as_str()).collect();
        now.join("\n")
    }

    fn set(&mut self, text: String) {
        let lines: Vec<&str> = text.lines().map(str::trim).filter(|l| !l.is_empty()).collect();
        let count = lines.len();
        let code = TimecodeTrack::counting(Ratio { num: 25, den: 1 });
        let c = &self.captions;
        self.lines = lines
            .into_iter()
            .enumerate()
            .map(|(n, line)| {
                let burn = Burn {
                    // A field in it is only what somebody said.
                    text: line.replace(super::burn::TIMECODE, "(timecode)"),
                    across: Side::Middle,
                    down: if c.at_top { Side::Start } else { Side::End },
                    size: c.size,
                    colour: c.colour,
                    shade: c.shade,
                };
                let from_edge = if c.at_top { n } else { count - 1 - n };
                let mut burner = Burner::new(burn, code.clone(), &self.form, self.pool.clone());
                burner.inwards = from_edge as f32 * c.size * LEADING;
                burner
            })
            .collect();
        self.shown = text;
    }
}

impl VideoFilter for Captioner {
    fn push(&mut self, shown: Shown, out: &mut Vec<Shown>) -> Result<()> {
        let seconds = shown.pts as f64 / f64::from(self.timescale.max(1)) + self.from;
        let text = self.said_at((seconds * 1000.0).round().max(0.0) as u64);
        if text != self.shown {
            self.set(text);
        }
        let mut now = vec![shown];
        for line in &mut self.lines {
            let mut next = Vec::new();
            now.drain(..).try_for_each(|s| line.push(s, &mut next))?;
            now = next;
        }
        out.extend(now);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::frame::{Chroma, VideoFrame};
    use std::sync::Arc;

    #[test]
    fn lines_stand_above_each_other_as_long_as_they_are_said() {
        let form = super::super::contract::form(320, 180, Chroma::C420, 8);
        // The part begins ten seconds in.
        let said = |from: u64, to: u64, text: &str| Spoken {
            from: from + 10_000,
            to: to + 10_000,
            text: text.into(),
        };
        let captions = Captions {
            size: 6.0,
            colour: [255; 3],
            shade: 0.6,
            at_top: false,
            came: Some(Came::Read {
                spoken: vec![
                    said(1000, 2000, "The tide is out."),
                    said(3000, 4000, "One line,\nand another."),
                ],
                notes: Vec::new(),
            }),
        };
        let mut c = Captioner::new(captions, 10.0, &form, Pool::new());
        let mut changed = |seconds: f64| -> Vec<u32> {
            let mut f = VideoFrame::new(&Pool::new(), 320, 180, Chroma::C420, 8).unwrap();
            f.planes.iter_mut().for_each(|p| p.bytes_mut().unwrap().fill(128));
            let pts = (seconds * f64::from(form.timescale)).round() as i64;
            let mut out = Vec::new();
            c.push(Shown { frame: Arc::new(f), pts, duration: 1 }, &mut out).unwrap();
            let luma = &out[0].frame.planes[0];
            (0..180).filter(|y| (0..320).any(|x| luma.at(x, *y) != 128)).collect()
        };
        assert!(changed(0.5).is_empty() && changed(2.0).is_empty() && changed(2.9).is_empty());
        let one = changed(1.0);
        assert!(one[0] > 140 && one.len() < 25, "{one:?}");
        let two = changed(3.5);
        assert!(two.len() > one.len() * 3 / 2 && two[0] < one[0] && *two.last().unwrap() < 180, "{two:?}");
        assert!(changed(4.0).is_empty());
    }
}
