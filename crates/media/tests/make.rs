//! What can be made: every container and codec, every framing, in one pass; each read back by another path than the one it
//! was made on.

mod room;

use ebur128::{EbuR128, Mode};
use media::codec::Coded;
use media::container::wrap::{Ending, OutTrack, OutTrackKind, Sink, Target, WRAPPERS, Wrap};
use media::container::{self, Demux};
use media::facts;
use media::filter::video::Fill;
use media::frame::Pool;
use media::plan::{plan, plan_each};
use media::recipe::*;
use media::run::{self, Control};
use media::testkit::{Clip, psnr};
use media::track::{Codec, Track};
use media::units::{Ratio, Time};
use media::{check, still};
use room::{Room, all_of, film, mono, new_file, shift, target};
use rstest::rstest;
use std::fs::File;

fn picture(codec: VideoCodec) -> Option<VideoRecipe> {
    Some(VideoRecipe { codec, fit: (160, 90), ..VideoRecipe::default() })
}

/// Every container: as many pictures at the same times, sound at the same moment and as long.
#[rstest]
#[case::mp4(film(picture(VideoCodec::H264), Some(AudioCodec::Aac), None), "MP4")]
#[case::webm(film(picture(VideoCodec::Vp9), Some(AudioCodec::Opus), None), "WebM")]
#[case::mkv(film(picture(VideoCodec::H264), Some(AudioCodec::Opus), Some(Wrap::Mkv)), "Matroska")]
#[case::mkv_pcm(film(picture(VideoCodec::Vp9), Some(AudioCodec::Pcm16), Some(Wrap::Mkv)), "Matroska")]
#[case::webm_av1(film(picture(VideoCodec::Av1), Some(AudioCodec::Opus), Some(Wrap::Webm)), "WebM")]
#[case::mp4_av1(film(picture(VideoCodec::Av1Ten), Some(AudioCodec::Aac), None), "MP4")]
#[case::mp4_opus(film(picture(VideoCodec::Av1), Some(AudioCodec::Opus), Some(Wrap::Mp4)), "MP4")]
#[case::mkv_av1(film(picture(VideoCodec::Av1Ten), Some(AudioCodec::Flac16), None), "Matroska")]
#[case::webm_silent(film(picture(VideoCodec::Vp9), None, Some(Wrap::Webm)), "WebM")]
#[case::mov(film(picture(VideoCodec::H264), Some(AudioCodec::Aac), Some(Wrap::Mov)), "MP4")]
#[case::mov_pcm(film(picture(VideoCodec::H264), Some(AudioCodec::Pcm16), Some(Wrap::Mov)), "MP4")]
#[case::mov_pcm_24(film(picture(VideoCodec::H264), Some(AudioCodec::Pcm24), Some(Wrap::Mov)), "MP4")]
#[case::mkv_flac(film(picture(VideoCodec::H264), Some(AudioCodec::Flac24), Some(Wrap::Mkv)), "Matroska")]
#[case::mov_jpeg(film(picture(VideoCodec::MotionJpeg), Some(AudioCodec::Pcm16), Some(Wrap::Mov)), "MP4")]
#[case::mov_v210(film(picture(VideoCodec::V210), Some(AudioCodec::Pcm24), Some(Wrap::Mov)), "MP4")]
#[case::mkv_ffv1(film(picture(VideoCodec::Ffv1), Some(AudioCodec::Flac24), None), "Matroska")]
#[case::y4m(film(picture(VideoCodec::Planes), None, None), "YUV4MPEG2")]
#[case::mkv_jpeg(film(picture(VideoCodec::MotionJpeg), Some(AudioCodec::Opus), Some(Wrap::Mkv)), "Matroska")]
#[case::flac_16(film(None, Some(AudioCodec::Flac16), None), "FLAC")]
#[case::flac_24(film(None, Some(AudioCodec::Flac24), None), "FLAC")]
#[case::mp3(film(None, Some(AudioCodec::Mp3), None), "MP3")]
#[case::aiff(film(None, Some(AudioCodec::Pcm16), Some(Wrap::Aiff)), "AIFF")]
#[case::aiff_24(film(None, Some(AudioCodec::Pcm24), Some(Wrap::Aiff)), "AIFF")]
#[case::m4a(film(None, Some(AudioCodec::Aac), None), "MP4")]
#[case::opus(film(None, Some(AudioCodec::Opus), None), "Ogg")]
#[case::wav(film(None, Some(AudioCodec::Pcm16), None), "WAV")]
#[case::wav_24(film(None, Some(AudioCodec::Pcm24), None), "WAV")]
fn what_is_made_is_what_the_source_was(#[case] recipe: Recipe, #[case] format: &str) {
    let room = Room::with(&Clip { rate: Ratio { num: 30_000, den: 1001 }, ..Clip::default() });
    let made = room.make(std::slice::from_ref(&recipe));
    let f = room.facts(0);
    assert_eq!((f.format.as_str(), f.damage.clone()), (format, None));
    let (pictures, sound, start, channels) = all_of(&room.path(0));
    let (source, heard, from, _) = all_of(&room.source);
    if recipe.video.is_some() {
        assert_eq!((pictures.len(), made[0].frames), (50, 50));
        for ((at, p), (want, s)) in pictures.iter().zip(&source) {
            assert!((at - want).abs() < 0.001, "a picture at {at}, not {want}");
            let small = media::filter::video::Scaler::new(160, 90, Pool::new()).scale(s).unwrap();
            let p = &media::filter::video::Converter::new(Pool::new()).convert(p).unwrap();
            assert!(psnr(p, &small) > 30.0, "at {at}: {} dB", psnr(p, &small));
        }
    }
    if recipe.audio.is_some() {
        assert!((start - from).abs() < 0.001, "sound from {start}, not {from}");
        let (a, b) = (mono(&heard, 2), mono(&sound, channels));
        assert_eq!(a.len(), b.len(), "as many samples");
        assert_eq!(shift(&a, &b), 0, "at the same moment");
    }
}

/// A container that knows no times, of a source whose pictures begin after its sound and lack four in the middle: they
/// begin with the file, and one stands for those that are missing; the notes say both.
#[test]
fn pictures_keep_their_pace_where_no_times_are_written() {
    let mut room = Room::with(&Clip::default());
    let mut demux = container::open(Box::new(File::open(&room.source).unwrap())).unwrap();
    let of = demux.tracks()[..2].to_vec();
    let picture = of[0].video().unwrap();
    let kinds = [
        OutTrackKind::Video {
            width: picture.width,
            height: picture.height,
            rotation: 0,
            pixel_shape: Ratio::ONE,
            colour: picture.colour,
            fields: picture.fields,
            rate: picture.rate,
        },
        OutTrackKind::Audio { rate: 48_000, channels: 2, bits: 128_000 },
    ];
    let tracks = of.iter().zip(kinds).map(|(t, kind)| out_track(t.codec.clone(), kind, t.timescale));
    let path = room.dir.path().join("late.mkv");
    let mkv = WRAPPERS.iter().find(|w| w.wrap == Wrap::Mkv).unwrap();
    let mut writer = (mkv.open)(Box::new(new_file(&path)), tracks.collect()).unwrap();
    of.iter().enumerate().for_each(|(n, t)| writer.setup(n, &t.setup));
    let mut n = 0;
    while let Some(p) = demux.next_packet().unwrap() {
        let later = match p.track {
            0 => {
                n += 1;
                n - 1
            }
            1 => -1,
            _ => continue,
        };
        if (20..24).contains(&later) {
            continue;
        }
        let pts = p.pts.max(0) + if later < 0 { 0 } else { p.duration };
        writer.write(p.track, &Coded::new(pts, p.duration, p.key, p.data)).unwrap();
    }
    let ending = |t: &Track| Ending { setup: t.setup.clone(), start: Time::ZERO, skip: 0, length: 50 };
    writer.finish(&[ending(&of[0]), ending(&of[1])]).unwrap();
    room.source = path;
    let made = room.make(&[film(picture_as_it_is(), None, Some(Wrap::Y4m))]);
    assert_eq!(made[0].frames, 50);
    assert_eq!(
        made[0].notes,
        [
            "the first picture is shown 0.040 s after the beginning: here it is the beginning",
            "4 pictures were repeated where some are missing"
        ]
    );
    let (written, read) = (all_of(&room.path(0)).0, all_of(&room.source).0);
    assert_eq!((written.len(), read.len()), (50, 46));
    assert!(psnr(&written[23].1, &read[19].1) > 60.0 && psnr(&written[24].1, &read[20].1) > 60.0);
}

fn out_track(codec: Codec, kind: OutTrackKind, timescale: u32) -> OutTrack {
    OutTrack { codec, kind, timescale, language: None, expected: 100, skip: 0, reordered: false, began: None }
}

/// ProRes in a MOV, which another's encoder coded: named by its kind, and a proxy of it shows the same.
#[test]
fn prores_in_a_mov_is_read() {
    let all = include_bytes!("fixtures/prores.frames");
    let frame = &all[32..32 + u32::from_le_bytes(all[20..24].try_into().unwrap()) as usize];
    let mut room = Room::with(&Clip { frames: 1, ..Clip::default() });
    let path = room.dir.path().join("mezzanine.mov");
    let (width, height, rate) = (64, 48, Ratio { num: 25, den: 1 });
    let kind = OutTrackKind::Video {
        width,
        height,
        rotation: 0,
        pixel_shape: Ratio::ONE,
        colour: Default::default(),
        fields: media::frame::Fields::Progressive,
        rate: Some(rate),
    };
    let mov = WRAPPERS.iter().find(|w| w.wrap == Wrap::Mov).unwrap();
    let track = out_track(Codec::MotionJpeg, kind, 25);
    let mut writer = (mov.open)(Box::new(new_file(&path)), vec![track]).unwrap();
    (0..3).for_each(|n| writer.write(0, &Coded::new(n, 1, true, frame.to_vec())).unwrap());
    writer.finish(&[Ending { setup: Vec::new(), start: Time::ZERO, skip: 0, length: 3 }]).unwrap();
    let mut bytes = std::fs::read(&path).unwrap();
    let code = bytes.windows(4).position(|w| w == b"jpeg").unwrap();
    bytes[code..code + 4].copy_from_slice(b"apch");
    std::fs::write(&path, bytes).unwrap();
    room.source = path;
    let read = facts::of(Box::new(File::open(&room.source).unwrap())).unwrap();
    let seen = read.picture().unwrap();
    assert_eq!((seen.codec.as_str(), seen.depth, seen.frames), ("ProRes 422 HQ", Some(10), Some(3)));
    room.make(&[film(picture_as_it_is(), None, None), film(picture(VideoCodec::Ffv1), None, None)]);
    let (planes, read) = (all_of(&room.path(0)).0, all_of(&room.source).0);
    assert_eq!((planes.len(), read.len(), planes[0].1.depth), (3, 3, 10));
    assert_eq!(planes[2].1.planes, read[0].1.planes);
}

fn picture_as_it_is() -> Option<VideoRecipe> {
    Some(VideoRecipe { codec: VideoCodec::Planes, ..VideoRecipe::default() })
}

/// Uncompressed pictures are the source's, sample for sample, in its own form.
#[test]
fn uncompressed_planes_are_the_source() {
    let room = Room::with(&Clip { width: 322, height: 182, ..Clip::default() });
    let codec = VideoCodec::Planes;
    room.make(&[film(Some(VideoRecipe { codec, ..VideoRecipe::default() }), None, None)]);
    let ((made, ..), (source, ..)) = (all_of(&room.path(0)), all_of(&room.source));
    assert_eq!(made.len(), source.len());
    for ((_, p), (_, s)) in made.iter().zip(&source) {
        assert!(psnr(p, s).is_infinite() || psnr(p, s) > 90.0);
    }
    let bytes = std::fs::read(room.path(0)).unwrap();
    let line = bytes.split(|b| *b == b'\n').next().unwrap();
    assert_eq!(String::from_utf8_lossy(line), "YUV4MPEG2 W322 H182 F25:1 Ip A1:1 C420mpeg2");
}

/// A word on the file stands where its form has room for one, and nothing else of the file changes.
#[rstest]
#[case::mp4(film(picture(VideoCodec::H264), Some(AudioCodec::Aac), None))]
#[case::mov(film(picture(VideoCodec::H264), Some(AudioCodec::Pcm16), Some(Wrap::Mov)))]
#[case::mkv(film(picture(VideoCodec::H264), Some(AudioCodec::Opus), Some(Wrap::Mkv)))]
#[case::flac(film(None, Some(AudioCodec::Flac16), None))]
#[case::mp3(film(None, Some(AudioCodec::Mp3), None))]
#[case::aiff(film(None, Some(AudioCodec::Pcm24), Some(Wrap::Aiff)))]
#[case::opus(film(None, Some(AudioCodec::Opus), None))]
#[case::wav(film(None, Some(AudioCodec::Pcm24), None))]
fn a_file_can_say_where_it_comes_from(#[case] recipe: Recipe) {
    let words = "Estuary Hours, job 7, made of Ebb & flow é.mov";
    let room = Room::with(&Clip::default());
    room.make(&[Recipe { comment: Some(words.into()), ..recipe.clone() }, recipe]);
    let tags = |n| container::open(Box::new(File::open(room.path(n)).unwrap())).unwrap().about().tags.clone();
    assert!(tags(0).iter().any(|(key, value)| key == "comment" && value == words), "{:?}", tags(0));
    assert!(!tags(1).iter().any(|(key, _)| key == "comment"));
    let (one, other) = (all_of(&room.path(0)), all_of(&room.path(1)));
    assert_eq!((one.0.len(), one.1 == other.1, one.2), (other.0.len(), true, other.2));
}

/// Sound comes later or earlier than it was; what would come before the beginning is not heard.
#[rstest]
#[case(film(picture(VideoCodec::H264), Some(AudioCodec::Aac), None), 120)]
#[case(film(picture(VideoCodec::H264), Some(AudioCodec::Aac), None), -80)]
#[case(film(None, Some(AudioCodec::Pcm24), Some(Wrap::Wav)), 250)]
#[case(film(None, Some(AudioCodec::Pcm24), Some(Wrap::Wav)), -250)]
fn sound_is_delayed(#[case] recipe: Recipe, #[case] delay_ms: i64) {
    let room = Room::with(&Clip::default());
    let audio = recipe.audio.clone().map(|a| AudioRecipe { delay_ms, ..a });
    room.make(&[Recipe { audio, ..recipe.clone() }, recipe]);
    let ((_, late, late_from, channels), (_, plain, from, _)) =
        (all_of(&room.path(0)), all_of(&room.path(1)));
    let (late, plain) = (mono(&late, channels), mono(&plain, channels));
    let by = delay_ms * 48;
    // A file of sound alone begins with silence, another says when its sound begins.
    let told = ((late_from - from) * 48_000.0).round() as i64;
    let put = if delay_ms > 0 && told == 0 { by } else { 0 };
    assert_eq!(if delay_ms > 0 { told + put } else { told }, by.max(0));
    assert_eq!(late.len() as i64, plain.len() as i64 + if put > 0 { put } else { by.min(0) });
    let at = 20_000i64;
    let near = |n: i64| plain[(at + n) as usize];
    let off: f32 = (0..4_000)
        .map(|n| (late[(at + n + if by < 0 { by } else { put }) as usize] - near(n)).abs())
        .sum::<f32>()
        / 4_000.0;
    assert!(off < 0.01, "{off}");
}

/// A transport stream cannot say what of a packet is heard: the same pictures, and the same sound at the same moment.
#[test]
fn a_transport_stream_holds_the_same() {
    let room = Room::with(&Clip { rate: Ratio { num: 30_000, den: 1001 }, ..Clip::default() });
    let recipe = film(picture(VideoCodec::H264), Some(AudioCodec::Aac), Some(Wrap::Ts));
    let made = room.make(&[recipe]);
    let f = room.facts(0);
    assert_eq!((f.format.as_str(), f.damage.clone(), made[0].frames), ("MPEG transport stream", None, 50));
    let (pictures, sound, start, channels) = all_of(&room.path(0));
    let (source, heard, from, _) = all_of(&room.source);
    let first = pictures[0].0;
    assert_eq!(pictures.len(), 50);
    for ((at, p), (want, s)) in pictures.iter().zip(&source) {
        assert!((at - first - want).abs() < 0.001, "a picture at {at}, not {want}");
        let small = media::filter::video::Scaler::new(160, 90, Pool::new()).scale(s).unwrap();
        assert!(psnr(p, &small) > 30.0, "at {at}: {} dB", psnr(p, &small));
    }
    assert!((start - first - from).abs() < 0.001, "sound from {start}, pictures from {first}");
    let (a, b) = (mono(&heard, 2), mono(&sound, channels));
    assert_eq!(shift(&a, &b), 0, "at the same moment");
    assert!(b.len() >= a.len() && b.len() - a.len() < 2048);
}

/// Sound of a film with timecode says when it was recorded, and a part of it, when that was.
#[rstest]
#[case(None, 0.0)]
#[case(Some(Part { from: Some(Moment::Ms(1000)), to: None }), 1.0)]
fn a_recording_keeps_its_time(#[case] part: Option<Part>, #[case] later: f64) {
    let room = Room::with(&Clip::default());
    let recipe = film(None, Some(AudioCodec::Pcm24), Some(Wrap::Wav));
    room.make(&[Recipe { part, ..recipe }]);
    let demux = container::open(Box::new(File::open(room.path(0)).unwrap())).unwrap();
    // 10:00:00:00 at 25 pictures a second.
    assert_eq!(demux.about().start_samples, Some(((36_000.0 + later) * 48_000.0) as u64));
    let whole = String::from_utf8_lossy(&std::fs::read(room.path(0)).unwrap()).into_owned();
    assert!(
        whole.contains("<TIMECODE_RATE>25/1</TIMECODE_RATE>")
            && whole.contains("A=PCM,F=48000,W=24,M=stereo")
    );
}

/// Captions stand in the pictures while they are said, also in a part; without any the output is not applicable.
#[test]
fn captions_are_burnt_in_when_they_are_said() {
    use media::filter::video::{Came, Captions, Spoken};
    let room = Room::with(&Clip::default());
    let captions = |came| Captions { size: 8.0, colour: [255; 3], shade: 1.0, at_top: false, came };
    let said = vec![Spoken { from: 1000, to: 1400, text: "The tide turns.".into() }];
    let video = |came| VideoRecipe {
        captions: Some(captions(came)),
        rate: BitRecipe::Quantiser(16),
        ..VideoRecipe::default()
    };
    let part = Part { from: Some(Moment::Ms(800)), to: None };
    let recipes = [
        Recipe {
            video: Some(video(Some(Came::Read { spoken: said, notes: Vec::new() }))),
            part: Some(part.clone()),
            ..Recipe::default()
        },
        Recipe {
            video: Some(VideoRecipe { rate: BitRecipe::Quantiser(16), ..VideoRecipe::default() }),
            part: Some(part),
            ..Recipe::default()
        },
    ];
    room.make(&recipes);
    let ((with, ..), (without, ..)) = (all_of(&room.path(0)), all_of(&room.path(1)));
    for ((at, p), (_, q)) in with.iter().zip(&without) {
        let spoken = (0.2..0.599).contains(at);
        let like = psnr(p, q);
        assert_eq!(like < 30.0, spoken, "at {at}: {like} dB");
    }
    let tracks = container::open(Box::new(File::open(&room.source).unwrap())).unwrap().tracks().to_vec();
    let e = plan(&tracks, &[Recipe { video: Some(video(None)), ..Recipe::default() }]).unwrap_err();
    assert!(e.to_string().contains("none came with the file"), "{e}");
    let broken = Recipe { video: Some(video(Some(Came::Broken("why".into())))), ..Recipe::default() };
    assert!(matches!(plan(&tracks, &[broken]), Err(media::Error::Damaged(f)) if f.what == "why"));
}

/// Every channel by itself is that channel of the source, bit for bit where nothing is rounded.
#[rstest]
#[case::wav(AudioCodec::Pcm24, "wav")]
#[case::flac(AudioCodec::Flac24, "flac")]
fn channels_are_split_into_files(#[case] codec: AudioCodec, #[case] ending: &str) {
    let room = Room::with(&Clip::default());
    let audio = AudioRecipe { codec, split: true, ..AudioRecipe::default() };
    let made = room.make(&[Recipe { audio: Some(audio), ..Recipe::default() }]);
    assert_eq!(made[0].inside.len(), 2);
    let (_, heard, ..) = all_of(&room.source);
    for (n, name) in ["left", "right"].into_iter().enumerate() {
        let (_, sound, start, channels) = all_of(&room.path(0).join(format!("{name}.{ending}")));
        assert_eq!((channels, start), (1, 0.0));
        let want: Vec<f32> = heard.iter().skip(n).step_by(2).copied().collect();
        assert_eq!(sound.len(), want.len());
        let off = sound.iter().zip(&want).map(|(a, b)| (a - b).abs()).fold(0.0, f32::max);
        assert!(off < 1.0 / 8_000_000.0 * 2.0, "{name}: {off}");
    }
}

#[test]
fn equal_beginnings_are_done_once() {
    let room = Room::with(&Clip { width: 640, height: 352, ..Clip::default() });
    let tracks = container::open(Box::new(File::open(&room.source).unwrap())).unwrap().tracks().to_vec();
    let size = |fit, codec| film(Some(VideoRecipe { fit, codec, ..VideoRecipe::default() }), None, None);
    let recipes = [
        size((320, 0), VideoCodec::H264),
        size((320, 0), VideoCodec::Vp9),
        size((160, 0), VideoCodec::H264),
        size((80, 0), VideoCodec::H264),
    ];
    let p = plan(&tracks, &recipes).unwrap();
    let told: Vec<_> = (0..4).map(|n| p.told(n).unwrap()).collect();
    // The two of one size share all; the two that shrink a lot share both halvings.
    assert_eq!(told[0].pictures.iter().map(|s| s.shared_with.clone()).collect::<Vec<_>>(), [vec![2]]);
    assert_eq!(told[2].pictures[0].shared_with, [4]);
    assert_eq!((told[2].pictures.len(), told[2].pictures[1].shared_with.len()), (2, 1));
    assert_eq!((told[3].pictures.len(), told[3].pictures[2].shared_with.len()), (3, 0));
    let made = room.make(&recipes);
    assert!(made.iter().all(|m| m.frames == 50));
    // The same pictures as made alone.
    let alone = Room::with(&Clip { width: 640, height: 352, ..Clip::default() });
    alone.make(&recipes[3..]);
    let (a, b) = (std::fs::read(room.path(3)).unwrap(), std::fs::read(alone.path(0)).unwrap());
    assert!(a == b, "an output is the same beside others");
}

#[rstest]
#[case::padded(Framing::Pad(Fill::Black), (200, 200))]
#[case::coloured(Framing::Pad(Fill::Colour([255, 0, 0])), (100, 300))]
#[case::blurred(Framing::Pad(Fill::Blur), (180, 320))]
#[case::cropped(Framing::Crop, (180, 180))]
#[case::stretched(Framing::Stretch, (200, 400))]
fn framings_have_the_size_that_is_asked_for(
    #[case] framing: Framing,
    #[case] fit: (u32, u32),
    #[values(0, 90)] turned: u16,
) {
    let room = Room::with(&Clip { rotation: turned, frames: 8, ..Clip::default() });
    let video = Some(VideoRecipe { fit, framing, ..VideoRecipe::default() });
    let made = room.make(&[Recipe { video, ..Recipe::default() }]);
    let f = room.facts(0);
    let p = f.picture().unwrap();
    assert_eq!(((p.width, p.height), made[0].frames), (fit, 8));
    if framing == Framing::Pad(Fill::Colour([255, 0, 0])) {
        let (pictures, ..) = all_of(&room.path(0));
        let (luma, cr) = (pictures[3].1.planes[0].at(50, 4), pictures[3].1.planes[2].at(25, 2));
        assert!(luma.abs_diff(63) < 6 && cr.abs_diff(240) < 6, "red beside it: {luma}, {cr}");
    }
}

#[rstest]
#[case(Ratio { num: 50, den: 1 }, 100)]
#[case(Ratio { num: 12, den: 1 }, 24)]
#[case(Ratio { num: 30_000, den: 1001 }, 60)]
fn another_frame_rate_has_its_count_and_exact_times(#[case] rate: Ratio, #[case] count: usize) {
    let room = Room::with(&Clip::default());
    let video = Some(VideoRecipe { fit: (160, 90), frame_rate: Some(rate), ..VideoRecipe::default() });
    room.make(&[Recipe { video, audio: Some(AudioRecipe::default()), ..Recipe::default() }]);
    let f = room.facts(0);
    assert_eq!(f.picture().unwrap().rate, Some(rate));
    let (pictures, ..) = all_of(&room.path(0));
    assert!(pictures.len().abs_diff(count) <= 1, "{}", pictures.len());
    for (n, (at, _)) in pictures.iter().enumerate() {
        assert!((at - n as f64 / rate.value()).abs() < 1e-6, "picture {n} at {at}");
    }
}

/// The loudness that is asked for, as a meter finds it in what was decoded; no true peak above the limit.
#[rstest]
#[case::listening(-16.0, -1.0, AudioCodec::Pcm24)]
#[case::broadcast(-23.0, -1.0, AudioCodec::Pcm24)]
#[case::coded(-18.0, -2.0, AudioCodec::Opus)]
fn sound_is_brought_to_its_loudness(#[case] target: f64, #[case] peak: f64, #[case] codec: AudioCodec) {
    let speech = |i: usize| {
        // Bursts like words, of changing level.
        let t = i as f32 / 48_000.0;
        let word = ((t * 2.7).sin() * (t * 0.9).cos()).max(0.0);
        (t * 180.0 * std::f32::consts::TAU).sin() * word * 0.2 + (t * 1_900.0).sin() * word * 0.03
    };
    let sound = (0..48_000 * 8).flat_map(|i| [speech(i), speech(i) * 0.8]).collect();
    let room =
        Room::with(&Clip { frames: 200, width: 64, height: 48, sound: Some(sound), ..Clip::default() });
    let audio = AudioRecipe { codec, loudness: Some(Loudness { target, peak }), ..AudioRecipe::default() };
    room.make(&[Recipe { audio: Some(audio), ..Recipe::default() }]);
    let (_, out, _, channels) = all_of(&room.path(0));
    let mut meter = EbuR128::new(channels.into(), 48_000, Mode::I | Mode::TRUE_PEAK).unwrap();
    meter.add_frames_f32(&out).unwrap();
    let found = meter.loudness_global().unwrap();
    let highest = (0..2).map(|c| meter.true_peak(c).unwrap()).fold(0.0, f64::max);
    let highest = 20.0 * highest.log10();
    assert!((found - target).abs() < 0.1, "{found:.2} LUFS for {target}");
    // A lossy codec moves peaks a little.
    let slack = if codec == AudioCodec::Opus { 0.5 } else { 0.0 };
    assert!(highest <= peak + slack, "{highest:.2} dBTP for {peak}");
}

#[test]
fn one_pass_makes_films_sound_and_a_telling_still() {
    let room = Room::with(&Clip { frames: 60, ..Clip::default() });
    let still = |at_ms: Option<u64>| Recipe {
        still: Some(StillRecipe {
            fit: (160, 0),
            format: StillChoice::Png,
            at: at_ms.map(Moment::Ms),
            alpha: Default::default(),
        }),
        ..Recipe::default()
    };
    let recipes = [
        film(picture(VideoCodec::H264), Some(AudioCodec::Aac), None),
        film(None, Some(AudioCodec::Opus), None),
        still(None),
        still(Some(1000)),
    ];
    let made = room.make(&recipes);
    assert_eq!(made.iter().map(|m| m.frames).collect::<Vec<_>>(), [60, 0, 1, 1]);
    // The picture of one second is the source's 25th, within what scaling and 8 bits of red, green and blue do.
    let (source, ..) = all_of(&room.source);
    let want = media::filter::video::Scaler::new(160, 90, Pool::new()).scale(&source[25].1).unwrap();
    let png = still::frame_of(&mut File::open(room.path(3)).unwrap(), &Pool::new()).unwrap();
    let back = media::filter::video::Converter::new(Pool::new()).convert(&png).unwrap();
    assert!(psnr(&back, &want) > 34.0, "{} dB", psnr(&back, &want));
}

/// One that cannot be made does not keep the others back, and says why.
#[test]
fn an_output_that_fails_ends_alone() {
    struct Full(File, u64);
    impl std::io::Write for Full {
        fn write(&mut self, b: &[u8]) -> std::io::Result<usize> {
            self.1 = self.1.saturating_sub(b.len() as u64);
            if self.1 == 0 {
                return Err(std::io::Error::from(std::io::ErrorKind::StorageFull));
            }
            self.0.write(b)
        }
        fn flush(&mut self) -> std::io::Result<()> {
            Ok(())
        }
    }
    impl std::io::Read for Full {
        fn read(&mut self, b: &mut [u8]) -> std::io::Result<usize> {
            self.0.read(b)
        }
    }
    impl std::io::Seek for Full {
        fn seek(&mut self, to: std::io::SeekFrom) -> std::io::Result<u64> {
            self.0.seek(to)
        }
    }
    let room = Room::with(&Clip { frames: 100, ..Clip::default() });
    let recipes = [
        film(picture(VideoCodec::H264), Some(AudioCodec::Aac), None),
        film(picture(VideoCodec::H264), Some(AudioCodec::Aac), None),
        film(None, Some(AudioCodec::Pcm16), None),
    ];
    for room_for in [1_000, 20_000, 60_000] {
        let mut demux = container::open(Box::new(File::open(&room.source).unwrap())).unwrap();
        let plan = plan(demux.tracks(), &recipes).unwrap();
        let sinks: Vec<Box<dyn Sink>> = vec![
            Box::new(new_file(&room.path(0))),
            Box::new(Full(new_file(&room.path(1)), room_for)),
            Box::new(new_file(&room.path(2))),
        ];
        let sinks = sinks.into_iter().map(Target::from).collect();
        let made = run::run(demux.as_mut(), &plan, sinks, &Control::new(3)).unwrap();
        assert_eq!((made[0].as_ref().unwrap().frames, made[2].is_ok()), (100, true), "{room_for}");
        assert_eq!(made[1].as_ref().unwrap_err().class(), "system", "{room_for}");
        check::output(
            Box::new(File::open(room.path(0)).unwrap()),
            made[0].as_ref().unwrap(),
            &Default::default(),
        )
        .unwrap();
    }
}

/// A filter that several share fails: each of them ends with its reason, and who does not share it is made.
#[test]
fn a_shared_filter_that_fails_is_the_reason_of_all_it_let_down() {
    let room = Room::with(&Clip { frames: 20, ..Clip::default() });
    let padded = |q| VideoRecipe {
        fit: (200, 200),
        framing: Framing::Pad(Fill::Black),
        rate: BitRecipe::Quantiser(q),
        ..VideoRecipe::default()
    };
    let of = |video| Recipe { video: Some(video), ..Recipe::default() };
    let recipes = [of(VideoRecipe::default()), of(padded(20)), of(padded(30))];
    let mut demux = container::open(Box::new(File::open(&room.source).unwrap())).unwrap();
    let mut plan = plan(demux.tracks(), &recipes).unwrap();
    // As if the stream had grown beyond its frame.
    for n in &mut plan.nodes {
        if let media::filter::video::Step::Place(p) = &mut n.step {
            p.width = 20;
        }
    }
    let targets = (0..3).map(|n| target(&room.path(n), false)).collect();
    let made = run::run(demux.as_mut(), &plan, targets, &Control::new(3)).unwrap();
    assert_eq!(made[0].as_ref().unwrap().frames, 20);
    for end in &made[1..] {
        let e = end.as_ref().unwrap_err();
        assert!(e.class() == "setting" && e.to_string().contains("does not go into"), "{e}");
    }
}

#[rstest]
#[case::container(film(picture(VideoCodec::Vp9), Some(AudioCodec::Aac), Some(Wrap::Mp4)), "does not hold")]
#[case::pair(film(picture(VideoCodec::Vp9), Some(AudioCodec::Aac), None), "none holds")]
#[case::half_a_frame(
    Recipe { video: Some(VideoRecipe { fit: (100, 0), framing: Framing::Crop, ..VideoRecipe::default() }), ..Recipe::default() },
    "both sides"
)]
fn what_cannot_be_says_why_and_the_others_are_planned(#[case] bad: Recipe, #[case] words: &str) {
    let room = Room::with(&Clip { frames: 5, ..Clip::default() });
    let tracks = container::open(Box::new(File::open(&room.source).unwrap())).unwrap().tracks().to_vec();
    let good = film(picture(VideoCodec::H264), None, None);
    let (plan, ends) = plan_each(&tracks, &[bad, good]);
    let why = ends[0].as_ref().unwrap_err().to_string();
    assert!(why.contains(words), "{why}");
    assert_eq!((plan.outputs.len(), ends[1].as_ref().ok()), (1, Some(&0)));
}

/// A bar that moves eight pixels from field to field, in fields: combed where it moves, until it is made whole.
#[rstest]
#[case::told(Deinterlace::Auto, 10)]
#[case::each_field(Deinterlace::Always(media::filter::video::Deinterlacing { every_field: true, ..Default::default() }), 20)]
#[case::never(Deinterlace::Never, 10)]
fn fields_are_made_whole_where_the_source_has_them(#[case] deinterlace: Deinterlace, #[case] frames: usize) {
    let dir = tempfile::tempdir().unwrap();
    let source = dir.path().join("fields.y4m");
    let mut bytes = b"YUV4MPEG2 W128 H64 F25:1 It A1:1 C420jpeg\n".to_vec();
    for n in 0..10usize {
        bytes.extend(b"FRAME\n");
        for y in 0..64usize {
            let at = (2 * n + y % 2) * 5 + 8;
            bytes.extend((0..128usize).map(|x| if (at..at + 12).contains(&x) { 200u8 } else { 60 }));
        }
        bytes.extend([128; 2 * 64 * 32]);
    }
    std::fs::write(&source, bytes).unwrap();
    let room = Room { dir, source };
    let video = VideoRecipe { deinterlace, rate: BitRecipe::Quantiser(14), ..VideoRecipe::default() };
    let recipe = Recipe { video: Some(video), ..Recipe::default() };
    let made = room.make(&[recipe]);
    assert_eq!(made[0].frames as usize, frames);
    let (pictures, ..) = all_of(&room.path(0));
    // Combing: each line unlike both of its neighbours, which are alike.
    let combed = |f: &media::frame::VideoFrame| {
        let at = |x, y| i32::from(f.planes[0].at(x, y));
        let comb = |x: u32, y: u32| {
            let (a, b, c) = (at(x, y - 1), at(x, y), at(x, y + 1));
            (a - c).abs() < 25 && (a - b).abs() > 60
        };
        (2..62).flat_map(|y| (0..128).map(move |x| (x, y))).filter(|&(x, y)| comb(x, y)).count()
    };
    let most = pictures.iter().map(|(_, f)| combed(f)).max().unwrap();
    if deinterlace == Deinterlace::Never {
        assert!(most > 300, "the source is combed: {most} points");
    } else {
        assert!(most < 30, "{most} points are combed");
    }
    assert!(pictures.windows(2).all(|p| (p[1].0 - p[0].0 - 10.0 / 25.0 / frames as f64).abs() < 1e-6));
}
