//! Values with a unit: `"5 s"`, `"1.5 GB"`, `"128 kbit/s"`, `"960x540"`.

use std::time::Duration;

/// A number and what is behind it.
fn split(text: &str) -> Option<(f64, &str)> {
    let text = text.trim();
    let end = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
    let number: f64 = text[..end].parse().ok()?;
    number.is_finite().then_some((number, text[end..].trim()))
}

fn scaled(text: &str, units: &[(&str, f64)]) -> Option<f64> {
    let (number, unit) = split(text)?;
    units.iter().find(|(u, _)| *u == unit).map(|(_, by)| number * by)
}

/// Units ms, s, min, h. The unit must be there.
pub fn duration(text: &str) -> Option<Duration> {
    let units = [("ms", 0.001), ("s", 1.0), ("min", 60.0), ("h", 3600.0)];
    Duration::try_from_secs_f64(scaled(text, &units)?).ok()
}

/// Units B, kB, MB, GB, TB, of 1000 each.
pub fn bytes(text: &str) -> Option<u64> {
    let units = [("B", 1.0), ("kB", 1e3), ("MB", 1e6), ("GB", 1e9), ("TB", 1e12)];
    scaled(text, &units).filter(|v| *v < 9e18).map(|v| v as u64)
}

/// Units bit/s, kbit/s, Mbit/s.
pub fn bitrate(text: &str) -> Option<u32> {
    let units = [("bit/s", 1.0), ("kbit/s", 1e3), ("Mbit/s", 1e6)];
    scaled(text, &units).filter(|v| *v <= f64::from(u32::MAX)).map(|v| v.round() as u32)
}

/// `WxH`; either side may be `*`, which leaves it free and is read as 0.
pub fn size(text: &str) -> Option<(u32, u32)> {
    let (w, h) = text.trim().split_once('x')?;
    let side = |s: &str| if s.trim() == "*" { Some(0) } else { s.trim().parse().ok().filter(|&n| n > 0) };
    Some((side(w)?, side(h)?))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("5 s", Some(5_000))]
    #[case("250ms", Some(250))]
    #[case("1.5 min", Some(90_000))]
    #[case("5", None)]
    #[case("soon", None)]
    #[case("-1 s", None)]
    fn durations(#[case] text: &str, #[case] ms: Option<u128>) {
        assert_eq!(duration(text).map(|d| d.as_millis()), ms);
    }

    #[rstest]
    #[case("1 GB", Some(1_000_000_000))]
    #[case("250MB", Some(250_000_000))]
    #[case("1 gb", None)]
    fn sizes_in_bytes(#[case] text: &str, #[case] want: Option<u64>) {
        assert_eq!(bytes(text), want);
    }

    #[rstest]
    #[case("960x540", Some((960, 540)))]
    #[case("* x 720", Some((0, 720)))]
    #[case("0x5", None)]
    #[case("960", None)]
    fn sizes(#[case] text: &str, #[case] want: Option<(u32, u32)>) {
        assert_eq!(size(text), want);
    }

    #[test]
    fn bitrates() {
        assert_eq!(bitrate("2.5 Mbit/s"), Some(2_500_000));
        assert_eq!(bitrate("9000 Mbit/s"), None);
    }
}
