//! Every channel of every sound track as a file of its own.

use super::{FilmPlan, MadePlan, OutputPlan, Planner, RungPlan, Span, StreamPlan};
use crate::container::wrap;
use crate::error::{Error, Result};
use crate::filter::audio::{AudioForm, AudioStep};
use crate::recipe::{AudioRecipe, Recipe};

impl Planner<'_> {
    pub(super) fn split(&mut self, r: &Recipe, a: &AudioRecipe, span: Option<Span>) -> Result<OutputPlan> {
        let wrapper = wrap::wrapper(r.wrap, None, Some(a.codec))?;
        let notes = self.left_out.clone();
        if self.plan.audio.is_empty() {
            let why = notes.first().cloned().unwrap_or_else(|| "the file has no sound".into());
            return Err(Error::unsupported("", why));
        }
        let whole = AudioRecipe { channels: u16::MAX, ..a.clone() };
        // All tracks, whatever a file holds.
        let planned = self.sound_plans(&whole, span, &mut Vec::new())?;
        let several = planned.len() > 1;
        let mut rungs = Vec::new();
        for (n, plan) in planned.into_iter().enumerate() {
            let channels = plan.form_in.channels;
            for channel in 0..channels {
                let mut one = plan.clone();
                one.steps.retain(|s| !matches!(s, AudioStep::Mix(_)));
                one.steps.insert(0, AudioStep::Pick(channel));
                one.form = AudioForm { channels: 1, ..one.form };
                one.bits = (a.bits / 2).max(AudioRecipe::MIN_BITS);
                let name = match several {
                    true => format!("{}-{}", n + 1, channel_name(channel, channels)),
                    false => channel_name(channel, channels),
                };
                rungs.push(RungPlan {
                    name,
                    made: MadePlan::Film(FilmPlan {
                        wrapper,
                        video: None,
                        audio: vec![one],
                        copies: Vec::new(),
                        timecode: None,
                        fragments: None,
                        comment: r.comment.clone(),
                    }),
                });
            }
        }
        let extension = wrapper.sound_extension;
        Ok(OutputPlan {
            made: MadePlan::Stream(StreamPlan { rungs, extension, lists: false, captions: None }),
            span,
            notes,
        })
    }
}

/// In the order that decoders give them: that of WAVE.
fn channel_name(channel: u16, of: u16) -> String {
    let names: &[&str] = match of {
        1 => &["mono"],
        2 => &["left", "right"],
        6 => &["left", "right", "centre", "lfe", "left-surround", "right-surround"],
        _ => &[],
    };
    names.get(usize::from(channel)).map_or_else(|| format!("channel-{:02}", channel + 1), |n| (*n).to_owned())
}
