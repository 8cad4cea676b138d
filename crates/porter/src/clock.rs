//! The one place that asks what time it is.

use std::time::{SystemTime, UNIX_EPOCH};

/// Microseconds since 1970, UTC.
pub type Micros = i64;

pub fn now() -> Micros {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_micros() as i64)
}

/// Date and time here, `2026-11-23 07:05:49`.
pub fn local(at: Micros) -> String {
    zoned(at).strftime("%Y-%m-%d %H:%M:%S").to_string()
}

/// Time of day here, `07:05:49`.
pub fn local_time(at: Micros) -> String {
    zoned(at).strftime("%H:%M:%S").to_string()
}

/// The date here, `2026-11-23`.
pub fn local_date(at: Micros) -> String {
    zoned(at).strftime("%Y-%m-%d").to_string()
}

fn zoned(at: Micros) -> jiff::Zoned {
    jiff::Timestamp::from_microsecond(at).unwrap_or_default().to_zoned(jiff::tz::TimeZone::system())
}

/// UTC in ISO 8601 with milliseconds.
pub fn iso(at: Micros) -> String {
    jiff::Timestamp::from_microsecond(at).unwrap_or_default().strftime("%Y-%m-%dT%H:%M:%S%.3fZ").to_string()
}

/// The first moment of a day here (or, for `last`, the first behind it); `None` if the text is no day.
pub fn day(text: &str, last: bool) -> Option<Micros> {
    let day: jiff::civil::Date = text.parse().ok()?;
    let day = if last { day.tomorrow().ok()? } else { day };
    Some(day.to_zoned(jiff::tz::TimeZone::system()).ok()?.timestamp().as_microsecond())
}
