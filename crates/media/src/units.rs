//! Time and rate as exact numbers.
//!
//! A moment or a span is a count of ticks of a stated scale (ticks per second). Nothing here is a
//! floating-point number of seconds: `seconds()` exists for showing to people only.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::cmp::Ordering;

/// A moment or span: `ticks / scale` seconds.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, JsonSchema)]
pub struct Time {
    pub ticks: i64,
    /// Ticks per second, never 0.
    pub scale: u32,
}

impl Time {
    pub const ZERO: Time = Time { ticks: 0, scale: 1 };

    /// `scale` of 0 is read as 1.
    pub fn new(ticks: i64, scale: u32) -> Self {
        Time { ticks, scale: scale.max(1) }
    }

    /// The same moment in another scale, rounded to the nearest tick (halves away from zero).
    /// Saturates at the ends of `i64`.
    pub fn ticks_at(self, scale: u32) -> i64 {
        rescale(self.ticks, self.scale, scale)
    }

    pub fn checked_add(self, other: Time) -> Option<Time> {
        if self.scale == other.scale {
            return Some(Time::new(self.ticks.checked_add(other.ticks)?, self.scale));
        }
        let scale = common_scale(self.scale, other.scale)?;
        Some(Time::new(self.ticks_at(scale).checked_add(other.ticks_at(scale))?, scale))
    }

    pub fn checked_sub(self, other: Time) -> Option<Time> {
        self.checked_add(Time::new(other.ticks.checked_neg()?, other.scale))
    }

    /// For people; never computed with.
    pub fn seconds(self) -> f64 {
        self.ticks as f64 / f64::from(self.scale)
    }
}

impl PartialEq for Time {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other) == Ordering::Equal
    }
}
impl Eq for Time {}
impl PartialOrd for Time {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}
impl Ord for Time {
    fn cmp(&self, other: &Self) -> Ordering {
        let a = i128::from(self.ticks) * i128::from(other.scale);
        let b = i128::from(other.ticks) * i128::from(self.scale);
        a.cmp(&b)
    }
}

/// `ticks` of `from` ticks a second in `to` ticks a second, rounded to nearest, saturating.
pub fn rescale(ticks: i64, from: u32, to: u32) -> i64 {
    if from == to || from == 0 {
        return ticks;
    }
    let product = i128::from(ticks) * i128::from(to);
    let half = i128::from(from) / 2;
    let rounded = if product >= 0 { product + half } else { product - half } / i128::from(from);
    rounded.clamp(i128::from(i64::MIN), i128::from(i64::MAX)) as i64
}

/// The smallest scale that holds both exactly, if it fits 32 bits.
pub fn common_scale(a: u32, b: u32) -> Option<u32> {
    let (a, b) = (u64::from(a.max(1)), u64::from(b.max(1)));
    u32::try_from(a / gcd(a, b) * b).ok()
}

pub(crate) fn gcd(mut a: u64, mut b: u64) -> u64 {
    while b != 0 {
        (a, b) = (b, a % b);
    }
    a
}

/// A positive fraction in lowest terms: frames per second, pixel shape.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Ratio {
    pub num: u32,
    pub den: u32,
}

impl Ratio {
    pub const ONE: Ratio = Ratio { num: 1, den: 1 };

    /// `None` if either part is 0 or does not fit 32 bits in lowest terms.
    pub fn new(num: u64, den: u64) -> Option<Self> {
        if num == 0 || den == 0 {
            return None;
        }
        let g = gcd(num, den);
        Some(Ratio { num: u32::try_from(num / g).ok()?, den: u32::try_from(den / g).ok()? })
    }

    pub fn value(self) -> f64 {
        f64::from(self.num) / f64::from(self.den)
    }
}

/// `25`, `30000/1001` or `29.97`.
impl std::str::FromStr for Ratio {
    type Err = String;
    fn from_str(s: &str) -> std::result::Result<Self, String> {
        let wrong = || format!("'{s}' is no rate: write 25, 30000/1001 or 23.976");
        let number = |t: &str| t.trim().parse::<u32>().map(u64::from).map_err(|_| wrong());
        let found = if let Some((num, den)) = s.split_once('/') {
            Ratio::new(number(num)?, number(den)?)
        } else if let Some((whole, part)) = s.split_once('.') {
            let den = 10u64.checked_pow(part.len() as u32).filter(|_| part.len() <= 6).ok_or_else(wrong)?;
            let decimal = Ratio::new(number(whole)? * den + number(part)?, den).ok_or_else(wrong)?;
            // Decimals of the television rates are rounded.
            let near = |n: &u32| (f64::from(*n) * 1000.0 / 1001.0 - decimal.value()).abs() < 0.005;
            [24u32, 30, 48, 60, 120]
                .into_iter()
                .find(near)
                .map(|n| Ratio { num: n * 1000, den: 1001 })
                .or(Some(decimal))
        } else {
            Ratio::new(number(s)?, 1)
        };
        found.filter(|r| r.value() <= 1000.0).ok_or_else(wrong)
    }
}

impl std::fmt::Display for Ratio {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        if self.den == 1 { write!(f, "{}", self.num) } else { write!(f, "{}/{}", self.num, self.den) }
    }
}

/// A moment in seconds since 1970 as ISO 8601 in UTC, by the civil calendar's day count.
pub fn iso_utc(unix: u64) -> String {
    let (days, rest) = (unix / 86_400, unix % 86_400);
    // Days since 0000-03-01, in 400-year cycles of 146,097 days.
    let z = days + 719_468;
    let (era, day_of_era) = (z / 146_097, z % 146_097);
    let year_of_era = (day_of_era - day_of_era / 1460 + day_of_era / 36_524 - day_of_era / 146_096) / 365;
    let day_of_year = day_of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let from_march = (5 * day_of_year + 2) / 153;
    let day = day_of_year - (153 * from_march + 2) / 5 + 1;
    let month = if from_march < 10 { from_march + 3 } else { from_march - 9 };
    let year = era * 400 + year_of_era + u64::from(month <= 2);
    format!("{year:04}-{month:02}-{day:02}T{:02}:{:02}:{:02}Z", rest / 3600, rest / 60 % 60, rest % 60)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(1, 24, 24000, 1000)]
    #[case(1001, 30000, 48000, 1602)] // 1601.6
    #[case(-1001, 30000, 48000, -1602)]
    #[case(i64::MAX, 1, 2, i64::MAX)]
    #[case(7, 0, 5, 7)]
    fn rescale_rounds_to_nearest(#[case] t: i64, #[case] from: u32, #[case] to: u32, #[case] want: i64) {
        assert_eq!(rescale(t, from, to), want);
    }

    #[test]
    fn order_is_exact_where_floats_are_not() {
        let a = Time::new(1_000_000_000_000_001, 1_000_000_000);
        let b = Time::new(1_000_000_000_000_000, 1_000_000_000);
        assert!(a > b);
        assert_eq!(Time::new(1, 2), Time::new(24000, 48000));
    }

    #[test]
    fn sums_are_exact_across_scales() {
        let third = Time::new(1, 3);
        let quarter = Time::new(1, 4);
        assert_eq!(third.checked_add(quarter), Some(Time::new(7, 12)));
        assert_eq!(third.checked_sub(third), Some(Time::ZERO));
        assert_eq!(Time::new(i64::MAX, 1).checked_add(Time::new(1, 1)), None);
    }

    #[rstest]
    #[case(0, "1970-01-01T00:00:00Z")]
    #[case(951_826_154, "2000-02-29T12:09:14Z")]
    #[case(1_795_417_549, "2026-11-23T07:05:49Z")]
    fn calendar(#[case] unix: u64, #[case] want: &str) {
        assert_eq!(iso_utc(unix), want);
    }

    #[rstest]
    #[case("25", Some((25, 1)))]
    #[case("30000/1001", Some((30_000, 1001)))]
    #[case("23.976", Some((24_000, 1001)))]
    #[case("29.97", Some((30_000, 1001)))]
    #[case("12.5", Some((25, 2)))]
    #[case("0", None)]
    #[case("fast", None)]
    #[case("1/0", None)]
    #[case("1.9999999999", None)]
    fn rates_are_read_as_people_write_them(#[case] text: &str, #[case] want: Option<(u32, u32)>) {
        let got: Option<Ratio> = text.parse().ok();
        assert_eq!(got.map(|r| (r.num, r.den)), want);
    }

    #[test]
    fn ratios_are_in_lowest_terms() {
        assert_eq!(Ratio::new(60000, 2002), Some(Ratio { num: 30000, den: 1001 }));
        assert_eq!(Ratio::new(0, 5), None);
        assert_eq!(Ratio { num: 25, den: 1 }.to_string(), "25");
        assert_eq!(Ratio { num: 30000, den: 1001 }.to_string(), "30000/1001");
    }
}
