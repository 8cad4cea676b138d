//! The configuration as written: plain values, every key known.

use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::BTreeMap;

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct House {
    pub house: HouseTable,
    #[serde(default)]
    pub watch: Vec<Watch>,
    #[serde(default)]
    pub place: Vec<Place>,
    #[serde(default)]
    pub service: Vec<Service>,
    #[serde(default)]
    pub preset: Vec<Preset>,
    #[serde(default)]
    pub rule: Vec<Rule>,
    #[serde(default)]
    pub notice: Vec<Notice>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Notice {
    pub name: String,
    pub on: Vec<String>,
    pub watch: Option<Vec<String>>,
    pub rule: Option<Vec<String>>,
    pub summary: Option<bool>,
    pub gather: Option<String>,
    pub daily: Option<String>,
    pub command: Option<Vec<String>>,
    pub mail: Option<Mail>,
    pub webhook: Option<Webhook>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Mail {
    pub server: String,
    pub port: Option<i64>,
    pub tls: Option<String>,
    pub user: Option<String>,
    pub password_file: Option<String>,
    pub password_env: Option<String>,
    pub certificates: Option<String>,
    pub from: String,
    pub to: Vec<String>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Webhook {
    pub address: String,
    pub secret_file: Option<String>,
    pub secret_env: Option<String>,
    pub certificates: Option<String>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct HouseTable {
    pub name: String,
    pub state: Option<String>,
    pub jobs_at_once: Option<i64>,
    pub retry_after: Option<String>,
    pub hand_work: Option<String>,
    pub metrics: Option<String>,
    pub disk_low: Option<String>,
    pub name_parts: Option<String>,
    pub keep_records: Option<String>,
    pub maker: Option<Maker>,
}

#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Maker {
    pub memory: Option<String>,
    pub stall: Option<String>,
    pub longest: Option<String>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Watch {
    pub name: String,
    pub folder: String,
    pub on: Option<bool>,
    pub subfolders: Option<bool>,
    pub depth: Option<i64>,
    pub unfinished: Option<Vec<String>>,
    pub sidecars: Option<Vec<String>>,
    pub table: Option<String>,
    pub sound_beside: Option<Vec<String>>,
    pub whole_folders: Option<bool>,
    pub join: Option<bool>,
    pub marker: Option<String>,
    pub hours: Option<String>,
    pub most_at_once: Option<i64>,
    pub remove_empty_folders: Option<bool>,
    pub check: Option<String>,
    pub same_content: Option<String>,
    pub from: Option<From>,
    pub include: Option<Vec<String>>,
    pub exclude: Option<Vec<String>>,
    pub kinds: Option<Vec<String>>,
    pub since: Option<String>,
    pub from_file: Option<String>,
    pub steady: Option<String>,
    pub look_every: Option<String>,
    pub second_look: Option<String>,
    pub priority: Option<i64>,
    pub frames: Option<Vec<String>>,
    pub frames_steady: Option<String>,
    pub holes: Option<String>,
    pub holes_after: Option<String>,
    pub frame_rate: Option<String>,
    pub original: Option<String>,
    pub done: Option<String>,
    pub done_name: Option<String>,
    pub turned_away: String,
    pub to: Option<Vec<String>>,
}

/// Where the files of a watch arrive, if that is not this machine.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct From {
    pub address: String,
    pub protocol: Option<String>,
    pub user: Option<String>,
    pub password_file: Option<String>,
    pub password_env: Option<String>,
    pub token_file: Option<String>,
    pub token_env: Option<String>,
    pub key_file: Option<String>,
    pub known_hosts: Option<String>,
    pub host_key: Option<String>,
    pub certificates: Option<String>,
    pub timeout: Option<String>,
    pub region: Option<String>,
    pub after: Option<String>,
    pub move_to: Option<String>,
    pub tag: Option<String>,
    pub told_at: Option<String>,
    pub told_token_file: Option<String>,
    pub told_token_env: Option<String>,
}

#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Place {
    pub name: String,
    pub folder: Option<String>,
    pub address: Option<String>,
    pub protocol: Option<String>,
    pub user: Option<String>,
    pub password_file: Option<String>,
    pub password_env: Option<String>,
    pub token_file: Option<String>,
    pub token_env: Option<String>,
    pub key_file: Option<String>,
    pub known_hosts: Option<String>,
    pub host_key: Option<String>,
    pub certificates: Option<String>,
    pub timeout: Option<String>,
    pub region: Option<String>,
    pub storage_class: Option<String>,
    pub sign_in: Option<String>,
    pub client: Option<String>,
    pub scope: Option<String>,
    pub link: Option<String>,
    pub at_once: Option<i64>,
    pub pace: Option<String>,
    pub hours: Option<String>,
    pub read_back: Option<bool>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Service {
    pub name: String,
    pub address: String,
    pub most: Option<String>,
    pub timeout: Option<String>,
    pub tries: Option<i64>,
    pub token_file: Option<String>,
    pub token_env: Option<String>,
    pub user: Option<String>,
    pub password_file: Option<String>,
    pub password_env: Option<String>,
    pub certificates: Option<String>,
    pub sound_field: Option<String>,
    pub fields: Option<BTreeMap<String, String>>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Preset {
    pub name: String,
    /// What it is for.
    pub about: Option<String>,
    /// Goes up when a shipped preset changes.
    #[allow(dead_code)]
    pub version: Option<i64>,
    pub container: Option<String>,
    pub comment: Option<bool>,
    pub video: Option<Video>,
    pub audio: Option<Audio>,
    pub still: Option<Still>,
    pub sheet: Option<Sheet>,
    pub frames: Option<Frames>,
    pub thumbnails: Option<Thumbnails>,
    pub preview: Option<Preview>,
    pub waveform: Option<Waveform>,
    pub stream: Option<Stream>,
    pub burn: Option<Vec<Burn>>,
    pub overlay: Option<Vec<Overlay>>,
    pub burn_captions: Option<BurnCaptions>,
    pub part: Option<Part>,
    pub transcript: Option<Transcript>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Sheet {
    pub columns: Option<i64>,
    pub rows: Option<i64>,
    pub title: Option<String>,
    pub fit: Option<String>,
    pub format: Option<String>,
    pub quality: Option<i64>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Frames {
    pub every: Option<String>,
    pub fit: Option<String>,
    pub format: Option<String>,
    pub quality: Option<i64>,
    pub alpha: Option<String>,
    pub ground: Option<String>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Thumbnails {
    pub every: Option<String>,
    pub columns: Option<i64>,
    pub rows: Option<i64>,
    pub fit: Option<String>,
    pub format: Option<String>,
    pub quality: Option<i64>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Preview {
    pub pieces: Option<i64>,
    pub piece: Option<String>,
    pub rate: Option<i64>,
    pub fit: Option<String>,
    pub format: Option<String>,
    pub quality: Option<i64>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Waveform {
    pub size: Option<String>,
    pub colour: Option<String>,
    pub ground: Option<String>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Stream {
    pub segment: Option<String>,
    pub rungs: Vec<Rung>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Rung {
    pub fit: String,
    pub bitrate: String,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Burn {
    pub text: String,
    pub at: Option<String>,
    pub size: Option<f64>,
    pub colour: Option<String>,
    pub shade: Option<f64>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct BurnCaptions {
    pub at: Option<String>,
    pub size: Option<f64>,
    pub colour: Option<String>,
    pub shade: Option<f64>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Overlay {
    pub file: String,
    pub at: Option<String>,
    pub size: Option<f64>,
    pub solid: Option<f64>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Part {
    pub from: Option<String>,
    pub to: Option<String>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Video {
    pub codec: Option<String>,
    pub fit: Option<String>,
    pub quantiser: Option<i64>,
    pub bitrate: Option<String>,
    pub quality: Option<i64>,
    pub most_bitrate: Option<String>,
    pub buffer: Option<String>,
    pub passes: Option<i64>,
    pub key_every: Option<String>,
    pub framing: Option<String>,
    pub fill: Option<String>,
    pub frame_rate: Option<String>,
    pub deinterlace: Option<String>,
    pub kernel: Option<String>,
    pub crop: Option<String>,
    pub rate_change: Option<String>,
    pub speed: Option<f64>,
    pub denoise: Option<f64>,
    pub sharpen: Option<f64>,
    pub dither: Option<bool>,
    pub fade_in: Option<String>,
    pub fade_out: Option<String>,
    pub colour: Option<String>,
    pub look: Option<String>,
    pub alpha: Option<String>,
    pub ground: Option<String>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Audio {
    pub codec: Option<String>,
    pub bitrate: Option<String>,
    pub channels: Option<i64>,
    pub rate: Option<i64>,
    pub loudness: Option<f64>,
    pub true_peak: Option<f64>,
    pub gain: Option<f64>,
    pub delay: Option<String>,
    pub dynamics: Option<String>,
    pub fade_in: Option<String>,
    pub fade_out: Option<String>,
    pub if_missing: Option<String>,
    pub split: Option<bool>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Still {
    pub format: Option<String>,
    pub at: Option<String>,
    pub fit: Option<String>,
    pub quality: Option<i64>,
    pub alpha: Option<String>,
    pub ground: Option<String>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Transcript {
    #[serde(rename = "as")]
    pub forms: Option<Vec<String>>,
    pub effort: Option<String>,
    pub track: Option<i64>,
    pub terms: Option<Vec<String>>,
    pub threads: Option<i64>,
    pub model: Option<String>,
    pub service: Option<String>,
    pub summary_service: Option<String>,
    pub if_away: Option<String>,
    pub from_captions: Option<bool>,
    pub word_times: Option<bool>,
    pub captions: Option<Captions>,
}

#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Captions {
    pub line: Option<i64>,
    pub lines: Option<i64>,
    pub shortest: Option<String>,
    pub longest: Option<String>,
    pub speed: Option<f64>,
    pub gap: Option<String>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Rule {
    pub name: String,
    pub watch: Option<Vec<String>>,
    pub when: Option<String>,
    pub last: Option<bool>,
    pub otherwise: Option<bool>,
    pub priority: Option<i64>,
    pub make: Vec<Make>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Make {
    pub preset: Option<String>,
    pub original: Option<bool>,
    pub package: Option<String>,
    pub of: Option<Vec<String>>,
    pub sums: Option<String>,
    pub manifest: Option<bool>,
    pub check: Option<String>,
    pub name: Option<String>,
    pub to: Option<Vec<String>>,
    pub if_taken: Option<String>,
    pub item: Option<Item>,
    pub required: Option<Vec<String>>,
    pub hold: Option<bool>,
    pub with: Option<Vec<String>>,
}

#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Item {
    pub title: Option<String>,
    pub description: Option<String>,
    pub tags: Option<Vec<String>>,
    pub category: Option<String>,
    pub language: Option<String>,
    pub visibility: Option<String>,
    pub publish_at: Option<String>,
    pub notify: Option<bool>,
}
