//! From settings and tracks to the graph: what is refused, with which words, before any work.

use media::container::{AudioTrack, Codec, Media, PcmKind, PcmLayout, TimecodeTrack, Track, VideoTrack};
use media::frame::{Chroma, Colour, Fields};
use media::plan::plan;
use media::recipe::{AudioRecipe, BitRecipe, Recipe, VideoRecipe};
use media::units::{Ratio, Time};
use rstest::rstest;

fn video() -> VideoTrack {
    VideoTrack {
        width: 1920,
        height: 1080,
        pixel_shape: Ratio::ONE,
        rotation: 0,
        fields: Fields::Progressive,
        chroma: Some(Chroma::C420),
        depth: Some(8),
        profile: None,
        level: None,
        colour: Colour::default(),
        rate: Ratio::new(25, 1),
        constant_rate: true,
        coverage: false,
    }
}

fn track(codec: Codec, media: Media, timescale: u32) -> Track {
    Track {
        id: 1,
        codec,
        media,
        timescale,
        setup: vec![0x11, 0x90],
        start: Time::ZERO,
        duration: Time::new(4, 1),
        packets: Some(100),
        shown: Some(100),
        language: None,
        bytes: None,
        decode_times: false,
    }
}

fn picture(v: VideoTrack) -> Track {
    track(Codec::H264, Media::Video(v), 25)
}

fn sound(rate: u32, channels: u16) -> Track {
    let layout = PcmLayout { bits: 24, bytes: 3, big_endian: false, kind: PcmKind::Signed };
    track(Codec::Pcm(layout), Media::Audio(AudioTrack { rate, channels, profile: None }), rate)
}

fn other(name: &'static str, media: Media) -> Track {
    track(Codec::Other { code: "xxxx".into(), name: Some(name) }, media, 1000)
}

fn proxy(fit: (u32, u32)) -> Recipe {
    Recipe {
        video: Some(VideoRecipe { fit, rate: BitRecipe::Quantiser(26), ..VideoRecipe::default() }),
        audio: Some(AudioRecipe::default()),
        ..Recipe::default()
    }
}

fn listening() -> Recipe {
    Recipe { audio: proxy((0, 0)).audio, ..Recipe::default() }
}

#[rstest]
#[case::deep(VideoTrack { depth: Some(12), ..video() }, "12-bit H.264")]
#[case::full(VideoTrack { chroma: Some(Chroma::C444), ..video() }, "4:4:4 H.264")]
#[case::tiny(VideoTrack { width: 4000, height: 20, ..video() }, "H.264 is made from 16x16 on")]
fn pictures_that_cannot_be_made_are_refused_by_name(#[case] v: VideoTrack, #[case] words: &str) {
    let e = plan(&[picture(v)], &[proxy((960, 540))]).unwrap_err();
    assert!(e.class() == "unsupported" && e.to_string().contains(words), "{e}");
}

#[rstest]
#[case::vc1("VC-1", "VC-1 cannot be decoded; H.264, HEVC, AV1")]
#[case::part2("MPEG-4 part 2", "MPEG-4 part 2 cannot be decoded")]
fn other_codecs_are_refused_by_name(#[case] name: &'static str, #[case] words: &str) {
    let e = plan(&[other(name, Media::Video(video()))], &[proxy((0, 0))]).unwrap_err();
    assert!(e.to_string().contains(words), "{e}");
}

#[rstest]
#[case::plain(video(), "")]
#[case::wide(VideoTrack { chroma: Some(Chroma::C422), ..video() }, if media::codec::hevc::WIDE_PRESENT { "" } else { "HEVC in 4:2:2 needs libde265" })]
#[case::deep(VideoTrack { depth: Some(16), ..video() }, "HEVC of more than 12 bits")]
#[case::fields(VideoTrack { fields: Fields::Interlaced, ..video() }, "HEVC of separate fields")]
fn hevc_is_decoded_or_refused_by_name(#[case] v: VideoTrack, #[case] words: &str) {
    let why = media::codec::why_not(&track(Codec::Hevc, Media::Video(v), 25));
    assert!(why.as_deref().unwrap_or("").starts_with(words) && why.is_some() != words.is_empty(), "{why:?}");
}

#[rstest]
#[case::plain(video(), (960, 540), (960, 540))]
#[case::no_limit(video(), (0, 0), (1920, 1080))]
#[case::never_larger(video(), (4000, 4000), (1920, 1080))]
#[case::turned(VideoTrack { rotation: 90, ..video() }, (540, 960), (960, 540))]
#[case::oblong_pixels(VideoTrack { width: 1440, pixel_shape: Ratio { num: 4, den: 3 }, ..video() }, (960, 0), (960, 540))]
fn sizes_are_planned_for_what_is_shown(
    #[case] v: VideoTrack,
    #[case] fit: (u32, u32),
    #[case] want: (u32, u32),
) {
    let p = plan(&[picture(v)], &[proxy(fit)]).unwrap();
    let out = p.outputs[0].film().unwrap().video.as_ref().unwrap();
    assert_eq!(((out.form.width, out.form.height), out.key_every, p.total), (want, 50, Some(100)));
}

#[rstest]
#[case::as_it_is(48_000, 2, (48_000, 2), 0)]
#[case::too_fast(192_000, 1, (48_000, 1), 0)]
#[case::odd(12_345, 2, (48_000, 2), 0)]
#[case::many(48_000, 6, (48_000, 2), 1)]
fn sound_is_planned_within_what_the_codec_takes(
    #[case] rate: u32,
    #[case] channels: u16,
    #[case] want: (u32, u16),
    #[case] notes: usize,
) {
    let p = plan(&[sound(rate, channels)], &[listening()]).unwrap();
    let out = &p.outputs[0];
    let sound = &out.film().unwrap().audio[0];
    assert_eq!((sound.form.rate, sound.form.channels), want);
    assert_eq!((out.notes.len(), p.total), (notes, Some(u64::from(rate) * 4)));
}

#[test]
fn mono_gets_half_the_bits() {
    let p = plan(&[sound(48_000, 1)], &[listening()]).unwrap();
    assert_eq!(p.outputs[0].film().unwrap().audio[0].bits, 64_000);
}

#[test]
fn sound_that_cannot_be_decoded_is_left_out_and_said_so() {
    let strange = other("DTS", Media::Audio(AudioTrack { rate: 48_000, channels: 6, profile: None }));
    let p = plan(&[picture(video()), strange.clone(), sound(48_000, 2)], &[proxy((0, 0))]).unwrap();
    assert_eq!(p.audio, [2]);
    assert!(
        p.outputs[0].notes[0].contains("sound track 2 was left out") && p.outputs[0].notes[0].contains("DTS")
    );
    // If it is all there is, the reason is the error.
    let e = plan(&[strange], &[listening()]).unwrap_err();
    assert!(e.to_string().contains("DTS"), "{e}");
}

#[rstest]
#[case::pictures_from_sound(Recipe { audio: None, ..proxy((0, 0)) }, vec![sound(48_000, 2)], "no picture track")]
#[case::sound_from_pictures(listening(), vec![picture(video())], "no track this preset could use")]
fn presets_that_do_not_suit_say_so(#[case] recipe: Recipe, #[case] tracks: Vec<Track>, #[case] words: &str) {
    let e = plan(&tracks, &[recipe]).unwrap_err();
    assert!(e.to_string().contains(words), "{e}");
}

#[test]
fn timecode_goes_with_pictures_only() {
    let tc =
        TimecodeTrack { rate: Ratio::ONE, frames_per_count: 25, drop_frame: false, start: 7, reel: None };
    let tracks =
        [picture(video()), sound(48_000, 2), track(Codec::Timecode, Media::Timecode(tc.clone()), 25)];
    let p = plan(&tracks, &[proxy((0, 0)), listening()]).unwrap();
    assert_eq!(p.outputs[0].film().unwrap().timecode, Some(tc));
    assert_eq!(p.outputs[1].film().unwrap().timecode, None);
}
