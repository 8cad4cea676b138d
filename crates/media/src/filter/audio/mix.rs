//! Fewer channels, by the coefficients of ITU-R BS.775-3, table 2: -3 dB for centre and surrounds.

/// `samples` of `from` channels as `to` channels (1 or 2). More than enough channels are mixed down; too
/// few are repeated. Channel order is L R C LFE Ls Rs; of layouts with more than six, and of three and
/// four, the further ones go left and right in turn. The bass channel is left out.
pub fn mix_down(samples: Vec<f32>, from: u16, to: u16) -> Vec<f32> {
    if from == to || from == 0 {
        return samples;
    }
    const HALF_POWER: f32 = std::f32::consts::FRAC_1_SQRT_2;
    // What each channel adds to left and right.
    let gains: Vec<(f32, f32)> = (0..from)
        .map(|c| match (from, c) {
            (1, _) => (1.0, 1.0),
            (_, 0) => (1.0, 0.0),
            (_, 1) => (0.0, 1.0),
            (3 | 5.., 2) => (HALF_POWER, HALF_POWER),
            (6.., 3) => (0.0, 0.0),
            (_, c) if c % 2 == 0 => (HALF_POWER, 0.0),
            _ => (0.0, HALF_POWER),
        })
        .collect();
    // Full scale in every channel must not clip.
    let sum = gains.iter().fold((0.0f32, 0.0f32), |s, g| (s.0 + g.0, s.1 + g.1));
    let norm = 1.0 / sum.0.max(sum.1).max(1.0);
    let mut out = Vec::with_capacity(samples.len() / usize::from(from) * usize::from(to));
    for frame in samples.chunks_exact(usize::from(from)) {
        let (l, r) = frame.iter().zip(&gains).fold((0.0, 0.0), |s, (v, g)| (s.0 + v * g.0, s.1 + v * g.1));
        if to == 1 { out.push((l + r) * 0.5 * norm) } else { out.extend([l * norm, r * norm]) }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(1, 2, vec![0.5], vec![0.5, 0.5])]
    #[case(2, 1, vec![0.5, -0.5], vec![0.0])]
    #[case(2, 2, vec![0.5, 0.1], vec![0.5, 0.1])]
    fn small_layouts(#[case] from: u16, #[case] to: u16, #[case] s: Vec<f32>, #[case] want: Vec<f32>) {
        assert_eq!(mix_down(s, from, to), want);
    }

    #[rstest]
    #[case(3)]
    #[case(4)]
    #[case(6)]
    #[case(8)]
    fn full_scale_everywhere_does_not_clip(#[case] from: u16) {
        let out = mix_down(vec![1.0; usize::from(from)], from, 2);
        assert!(out.iter().all(|v| *v <= 1.0 + 1e-6 && *v > 0.9), "{out:?}");
    }

    #[test]
    fn the_centre_goes_to_both_and_the_bass_to_none() {
        let out = mix_down(vec![0.0, 0.0, 1.0, 1.0, 0.0, 0.0], 6, 2);
        assert!((out[0] - out[1]).abs() < 1e-6 && out[0] > 0.2);
    }
}
