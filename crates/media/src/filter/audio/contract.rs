//! What every filter on sound keeps, for all of them.

use super::*;
use rstest::rstest;

fn loudness() -> Loudness {
    Loudness { target: -16.0, peak: -1.0 }
}

#[rstest]
#[case(AudioStep::Mix(1))]
#[case(AudioStep::Mix(2))]
#[case(AudioStep::Gain(-6.0))]
#[case(AudioStep::Even)]
#[case(AudioStep::Fade(fade::Fade { in_ms: 30, out_ms: 50 }))]
#[case(AudioStep::Level { to: loudness(), factor: Some(1.5) })]
#[case(AudioStep::Level { to: loudness(), factor: None })]
#[case(AudioStep::Resample(16_000))]
#[case(AudioStep::Resample(48_000))]
fn length_is_kept_however_it_comes(
    #[case] step: AudioStep,
    #[values(1, 2, 6)] channels: u16,
    #[values(44_100, 48_000, 8000)] rate: u32,
    #[values(0, 1, 4321)] frames: usize,
) {
    let from = AudioForm { rate, channels };
    let to = step.form(from);
    let wave = |i: usize| (i as f32 * 0.02).sin() * 0.7;
    let sound: Vec<f32> = (0..frames * usize::from(channels)).map(wave).collect();
    let in_parts = |size: usize| {
        let mut filter = step.start(from).unwrap();
        let mut out = filter.push(Vec::new()).unwrap();
        for part in sound.chunks(size * usize::from(channels)) {
            out.extend(filter.push(part.to_vec()).unwrap());
        }
        out.extend(filter.finish().unwrap());
        out
    };
    let out = in_parts(1000);
    let want = (frames as u64 * u64::from(to.rate) + u64::from(rate) / 2) / u64::from(rate);
    assert_eq!(out.len() as u64, want * u64::from(to.channels));
    assert!(out.iter().all(|v| v.is_finite()));
    // How it is cut up changes nothing.
    assert_eq!(in_parts(77), out);
    assert!(!step.words(from).is_empty());
}

#[test]
fn a_chain_gives_all_that_its_filters_hold_back() {
    let from = AudioForm { rate: 44_100, channels: 2 };
    let steps = [
        AudioStep::Fade(fade::Fade { in_ms: 5, out_ms: 100 }),
        AudioStep::Level { to: loudness(), factor: Some(0.5) },
        AudioStep::Resample(48_000),
        AudioStep::Mix(1),
    ];
    let mut chain = AudioChain::new(&steps, from).unwrap();
    let mut out = Vec::new();
    for _ in 0..10 {
        out.extend(chain.push(vec![0.25; 441 * 2]).unwrap());
    }
    out.extend(chain.finish().unwrap());
    assert_eq!(out.len(), 4800);
}
