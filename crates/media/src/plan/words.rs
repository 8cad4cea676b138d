//! A plan for people: what is decoded, what every output goes through, and what they share.

use super::{AudioPlan, CopyPlan, FilmPlan, MadePlan, OutputPlan, PicturesPlan, Plan, VideoPlan};
use crate::container::Track;
use crate::filter::video::{Form, Step};
use crate::recipe::{BitRecipe, Moving, PicturesKind};
use serde::Serialize;
use std::collections::HashSet;

/// One output of a plan, told.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Told {
    /// What is done, in order; empty parts of the way do nothing.
    pub pictures: Vec<ToldStep>,
    /// What the pictures are coded as; several for a stream.
    pub picture: Vec<String>,
    pub sounds: Vec<String>,
    pub container: String,
    pub notes: Vec<String>,
}

#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct ToldStep {
    pub does: String,
    /// Other outputs (from 1) for which this is done as well, once for all.
    pub shared_with: Vec<usize>,
    pub width: u32,
    pub height: u32,
}

/// What is decoded of the source.
pub fn decoded(plan: &Plan, tracks: &[Track]) -> Vec<String> {
    let all = plan.video.iter().chain(&plan.audio);
    all.map(|&i| {
        let t = &tracks[i];
        let what = match (&plan.source, t.audio()) {
            (_, Some(a)) => format!("{} Hz, {} channels", a.rate, a.channels),
            (Some(form), None) => form_words(form),
            _ => String::new(),
        };
        format!("track {}: {}, {what}", i + 1, t.codec.name())
    })
    .collect()
}

fn form_words(f: &Form) -> String {
    let rate = f.rate.map_or(String::new(), |r| format!(", {r} frames a second"));
    format!("{}x{}, {}-bit{rate}", f.width, f.height, f.depth)
}

impl Plan {
    /// What an output (from 0) goes through.
    pub fn told(&self, output: usize) -> Option<Told> {
        let o = self.outputs.get(output)?;
        let way = |node: Option<usize>| -> Vec<usize> {
            let mut way: Vec<usize> =
                std::iter::successors(node, |n| self.nodes.get(*n).and_then(|n| n.from)).collect();
            way.reverse();
            way
        };
        let ways = |o: &OutputPlan| -> Vec<usize> {
            let mut all: Vec<usize> =
                o.made.lines().iter().filter_map(|line| line.node()).flat_map(way).collect();
            // Beginnings that rungs share are told once.
            let mut known = HashSet::new();
            all.retain(|n| known.insert(*n));
            all
        };
        let mine = ways(o);
        let pictures = mine.iter().filter_map(|n| {
            let node = self.nodes.get(*n)?;
            let before = match node.from {
                Some(n) => &self.nodes.get(n)?.form,
                None => self.source.as_ref()?,
            };
            // What changes nothing is not told.
            if matches!(node.step, Step::As(_)) && node.form == *before {
                return None;
            }
            let others = self.outputs.iter().enumerate().filter(|(i, o)| *i != output && ways(o).contains(n));
            Some(ToldStep {
                does: node.step.words(before),
                shared_with: others.map(|(i, _)| i + 1).collect(),
                width: node.form.width,
                height: node.form.height,
            })
        });
        let pictures: Vec<ToldStep> = pictures.collect();
        let (picture, sounds, container) = match &o.made {
            MadePlan::Film(FilmPlan { wrapper, video, audio, copies, timecode, .. }) => {
                let copied = |picture: bool| {
                    let those = copies.iter().filter(move |c| c.is_picture() == picture);
                    those.map(|c| format!("track {}: {} as it is", c.track + 1, c.codec.name()))
                };
                let sounds = audio.iter().map(sound_words).chain(copied(false)).collect();
                let with = timecode.as_ref().map_or("", |_| ", with timecode");
                let pictures = video.is_some() || copies.iter().any(CopyPlan::is_picture);
                let name = if pictures { wrapper.extension } else { wrapper.sound_extension };
                (video.iter().map(video_words).chain(copied(true)).collect(), sounds, format!("{name}{with}"))
            }
            MadePlan::Still(s) => {
                let words = format!("{}x{} {}", s.form.width, s.form.height, s.format.words());
                (vec![words], Vec::new(), s.format.extension().to_owned())
            }
            MadePlan::Pictures(p) => (vec![pictures_words(p)], Vec::new(), pictures_file(p).to_owned()),
            MadePlan::Stream(s) => {
                let films = || s.rungs.iter().filter_map(|r| r.made.film());
                let videos: Vec<String> = films().filter_map(|f| f.video.as_ref()).map(video_words).collect();
                let sounds = films().flat_map(|f| &f.audio).map(sound_words).collect();
                let what = if s.lists { "HLS and DASH playlists" } else { "a file for each channel" };
                (videos, sounds, format!("a folder with {what}"))
            }
            MadePlan::Wave(w) => {
                let words = format!("track {}: drawn {}x{}", w.track + 1, w.look.width, w.look.height);
                (Vec::new(), vec![words], "png".to_owned())
            }
        };
        Some(Told { pictures, picture, sounds, container, notes: o.notes.clone() })
    }
}

fn video_words(v: &VideoPlan) -> String {
    let rate = match v.rate {
        BitRecipe::Quantiser(q) => format!("quantiser {q}"),
        BitRecipe::Average(b) => format!("{} kbit/s", b / 1000),
        BitRecipe::Quality(q) => format!("quality {q}"),
        BitRecipe::Steered(s) => {
            let aim = match (s.average, s.quality) {
                (Some(b), _) => format!("{} kbit/s", b / 1000),
                (None, q) => format!("quality {}", q.unwrap_or(BitRecipe::USUAL_QUALITY)),
            };
            let most = s.most.map_or(String::new(), |m| {
                format!(", at most {} kbit/s over {} ms", m.bits / 1000, m.buffer_ms)
            });
            format!("{aim}{most}{}", if s.twice { ", gone through before" } else { "" })
        }
    };
    format!("{} {}, {rate}, a key picture every {} at most", v.coder.name, form_words(&v.form), v.key_every)
}

fn sound_words(a: &AudioPlan) -> String {
    let bits = if a.coder.has_bits { format!(", {} kbit/s", a.bits / 1000) } else { String::new() };
    let of = a.source.map_or_else(|| "silence".to_owned(), |(track, _)| format!("track {}", track + 1));
    let mut form = a.form_in;
    let steps = a.steps.iter().map(|s| {
        let words = format!(", {}", s.words(form));
        form = s.form(form);
        words
    });
    let steps: String = steps.collect();
    format!("{of}: {} {} Hz, {} channels{bits}{steps}", a.coder.name, a.form.rate, a.form.channels)
}

fn pictures_words(p: &PicturesPlan) -> String {
    let one = format!("{}x{}", p.form.width, p.form.height);
    let format = p.format.words();
    match &p.kind {
        PicturesKind::Sheet { columns, rows, .. } => {
            format!("a sheet of {columns} by {rows} pictures of {one}, {format}")
        }
        PicturesKind::Run { every_ms: None } => format!("every picture, {one}, {format}"),
        PicturesKind::Run { every_ms: Some(ms) } => {
            format!("a picture every {} s, {one}, {format}", *ms as f64 / 1000.0)
        }
        PicturesKind::Strip { every_ms, columns, rows } => format!(
            "sheets of {columns} by {rows} pictures of {one}, one every {} s, {format}",
            *every_ms as f64 / 1000.0
        ),
        PicturesKind::Preview { pieces, rate, form, .. } => {
            let form = match form {
                Moving::Gif => "GIF".into(),
                Moving::Webp(q) => format!("WebP, quality {q}"),
            };
            format!(
                "{} pictures of {one} from {pieces} places, {rate} a second, {form}",
                p.count.unwrap_or(0)
            )
        }
    }
}

fn pictures_file(p: &PicturesPlan) -> &'static str {
    match &p.kind {
        PicturesKind::Preview { form, .. } => form.extension(),
        PicturesKind::Sheet { .. } => p.format.extension(),
        PicturesKind::Run { .. } => "a folder",
        PicturesKind::Strip { .. } => "a folder, with a WebVTT index",
    }
}
