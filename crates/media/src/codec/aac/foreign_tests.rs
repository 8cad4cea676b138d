//! Tests of AAC that we do not write ourselves: more channels, replicated bands, parametric stereo.
#![allow(unsafe_code)]

use super::{Config, Decoder};
use crate::codec::DecodeAudio;
use crate::track::Packet;
use fdk_aac_sys as sys;
use rstest::rstest;
use std::ffi::{c_int, c_uint, c_void};

/// Packets of some sound, channels in the order of WAVE, and the setup record.
fn encoded(object: u32, mode: u32, rate: u32, channels: usize, sound: &[i16]) -> (Vec<u8>, Vec<Vec<u8>>) {
    let ok = |e: sys::AACENC_ERROR| assert_eq!(e, sys::AACENC_ERROR_AACENC_OK);
    let mut handle: sys::HANDLE_AACENCODER = std::ptr::null_mut();
    // SAFETY: the library's own calls in its own order; buffers outlive the calls that they are named in.
    unsafe {
        ok(sys::aacEncOpen(&mut handle, 0, channels as c_uint));
        for (name, value) in [
            (sys::AACENC_PARAM_AACENC_AOT, object),
            (sys::AACENC_PARAM_AACENC_SAMPLERATE, rate),
            (sys::AACENC_PARAM_AACENC_CHANNELMODE, mode),
            (sys::AACENC_PARAM_AACENC_CHANNELORDER, 1),
            (sys::AACENC_PARAM_AACENC_BITRATE, 32_000 * channels as u32),
            (sys::AACENC_PARAM_AACENC_TRANSMUX, 0),
        ] {
            ok(sys::aacEncoder_SetParam(handle, name, value));
        }
        let none = std::ptr::null();
        ok(sys::aacEncEncode(handle, none, none, none.cast(), std::ptr::null_mut()));
        let mut info: sys::AACENC_InfoStruct = std::mem::zeroed();
        ok(sys::aacEncInfo(handle, &mut info));
        let mut packets = Vec::new();
        let mut buffer = vec![0u8; 16_384];
        for frame in sound.chunks_exact(info.frameLength as usize * channels) {
            let describe = |data: *mut *mut c_void, id: *mut c_int, size: *mut c_int, element: *mut c_int| {
                sys::AACENC_BufDesc {
                    numBufs: 1,
                    bufs: data,
                    bufferIdentifiers: id,
                    bufSizes: size,
                    bufElSizes: element,
                }
            };
            let mut data = frame.as_ptr().cast_mut().cast::<c_void>();
            let (mut id, mut size, mut element) = (0, (frame.len() * 2) as c_int, 2);
            let input = describe(&mut data, &mut id, &mut size, &mut element);
            let mut data = buffer.as_mut_ptr().cast::<c_void>();
            let (mut id, mut size, mut element) = (3, buffer.len() as c_int, 1);
            let output = describe(&mut data, &mut id, &mut size, &mut element);
            let given = sys::AACENC_InArgs { numInSamples: frame.len() as c_int, numAncBytes: 0 };
            let mut taken = std::mem::zeroed();
            ok(sys::aacEncEncode(handle, &input, &output, &given, &mut taken));
            if taken.numOutBytes > 0 {
                packets.push(buffer[..taken.numOutBytes as usize].to_vec());
            }
        }
        let setup = info.confBuf[..info.confSize as usize].to_vec();
        sys::aacEncClose(&mut handle);
        (setup, packets)
    }
}

/// How much of a tone is in some sound (Goertzel), 0 to 1 of full scale.
fn tone(sound: impl Iterator<Item = f32>, frequency: f32, rate: u32) -> f32 {
    let step = std::f32::consts::TAU * frequency / rate as f32;
    let (mut re, mut im, mut n) = (0.0, 0.0, 0.0f32);
    for (i, v) in sound.enumerate() {
        re += v * (step * i as f32).cos();
        im += v * (step * i as f32).sin();
        n += 1.0;
    }
    2.0 * (re * re + im * im).sqrt() / n
}

/// A tone of its own in each channel comes back in that channel, and hardly in another.
#[rstest]
#[case::five_and_one(2, 6, 48_000, &[440.0, 660.0, 990.0, 60.0, 1320.0, 1760.0], "AAC-LC", 1024)]
#[case::seven_and_one(2, 12, 48_000, &[440.0, 660.0, 990.0, 60.0, 1320.0, 1760.0, 2200.0, 2640.0], "AAC-LC", 1024)]
#[case::three(2, 3, 44_100, &[440.0, 660.0, 990.0], "AAC-LC", 1024)]
#[case::high_efficiency(5, 2, 44_100, &[440.0, 660.0], "HE-AAC", 2048)]
#[case::high_efficiency_mono(5, 1, 48_000, &[880.0], "HE-AAC", 2048)]
#[case::high_efficiency_two(29, 2, 44_100, &[440.0, 440.0], "HE-AAC v2", 2048)]
fn every_channel_has_its_own_sound(
    #[case] object: u32,
    #[case] mode: u32,
    #[case] rate: u32,
    #[case] tones: &[f32],
    #[case] profile: &str,
    #[case] frame: usize,
) {
    let channels = tones.len();
    let wave = |i: usize, f: f32| (std::f32::consts::TAU * f * i as f32 / rate as f32).sin() * 8000.0;
    let sound: Vec<i16> =
        (0..rate as usize).flat_map(|i| tones.iter().map(move |&f| wave(i, f) as i16)).collect();
    let (setup, packets) = encoded(object, mode, rate, channels, &sound);
    let config = Config::parse(&setup).unwrap();
    assert_eq!((config.profile, config.rate, config.frame() as usize), (profile, rate, frame));
    let mut decoder = Decoder::new(&setup).unwrap();
    let mut back = Vec::new();
    for data in packets {
        let f = decoder.decode(&Packet { data, ..Packet::default() }).unwrap();
        assert_eq!((usize::from(f.channels), f.rate, f.len()), (channels, rate, frame));
        back.extend(f.samples);
    }
    let settled = &back[8192 * channels..];
    for c in 0..channels {
        let heard = |f| tone(settled.chunks_exact(channels).map(|s| s[c]), f, rate);
        let own = heard(tones[c]);
        assert!((0.2..0.28).contains(&own), "channel {c}: {own}");
        for &other in tones.iter().filter(|&&f| f != tones[c]) {
            assert!(heard(other) < 0.02, "channel {c} has {other} Hz: {}", heard(other));
        }
    }
}
