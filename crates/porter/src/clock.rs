//! The one place that asks what time it is.

use std::time::{SystemTime, UNIX_EPOCH};

/// Microseconds since 1970, UTC.
pub type Micros = i64;

pub fn now() -> Micros {
    micros(SystemTime::now())
}

pub fn micros(at: SystemTime) -> Micros {
    at.duration_since(UNIX_EPOCH).map_or(0, |d| d.as_micros() as i64)
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

/// Year, month, day, hour, minute and second here.
pub fn civil(at: Micros) -> (u16, [u8; 5]) {
    let here = zoned(at);
    let rest = [here.month(), here.day(), here.hour(), here.minute(), here.second()];
    (u16::try_from(here.year()).unwrap_or(0), rest.map(i8::unsigned_abs))
}

fn zoned(at: Micros) -> jiff::Zoned {
    jiff::Timestamp::from_microsecond(at).unwrap_or_default().to_zoned(jiff::tz::TimeZone::system())
}

/// Here, with the zone: ISO 8601, `2026-11-23T07:05:49.123+00:00`. The one form of times for programs.
pub fn zoned_text(at: Micros) -> String {
    zoned(at).strftime("%Y-%m-%dT%H:%M:%S%.3f%:z").to_string()
}

/// The first moment of a day here (or, for `last`, the first behind it); `None` if the text is no day.
pub fn day(text: &str, last: bool) -> Option<Micros> {
    let day: jiff::civil::Date = text.parse().ok()?;
    let day = if last { day.tomorrow().ok()? } else { day };
    Some(day.to_zoned(jiff::tz::TimeZone::system()).ok()?.timestamp().as_microsecond())
}

/// A moment as mail and HTTP write it: `Thu, 26 Nov 2026 19:45:46 GMT`.
pub fn mail_date(text: &str) -> Option<Micros> {
    Some(jiff::fmt::rfc2822::parse(text).ok()?.timestamp().as_microsecond())
}

/// A moment in universal time as `20261126194546`, with a fraction or not.
pub fn compact(text: &str) -> Option<Micros> {
    let whole = text.split('.').next()?;
    let at = jiff::civil::DateTime::strptime("%Y%m%d%H%M%S", whole).ok()?;
    Some(at.to_zoned(jiff::tz::TimeZone::UTC).ok()?.timestamp().as_microsecond())
}

/// The first moment behind this one at which it is so many minutes after midnight here.
pub fn next_minute(at: Micros, minute: u16) -> Option<Micros> {
    let here = zoned(at);
    let time = jiff::civil::time((minute / 60) as i8, (minute % 60) as i8, 0, 0);
    let on = |date: jiff::civil::Date| -> Option<Micros> {
        let moment = date.to_datetime(time).to_zoned(here.time_zone().clone()).ok()?;
        Some(moment.timestamp().as_microsecond())
    };
    on(here.date()).filter(|due| *due > at).or_else(|| on(here.date().tomorrow().ok()?))
}

/// A moment here, as `2026-11-30 18:00` with seconds or without.
pub fn parse_local(text: &str) -> Option<Micros> {
    let at: jiff::civil::DateTime = text.trim().parse().ok()?;
    Some(at.to_zoned(jiff::tz::TimeZone::system()).ok()?.timestamp().as_microsecond())
}

/// Minutes since midnight here.
pub fn minute_of_day(at: Micros) -> u16 {
    let here = zoned(at);
    here.hour() as u16 * 60 + here.minute() as u16
}

/// In universal time, as names of manifests have it: `2026-11-26_194546Z`.
pub fn universal(at: Micros) -> String {
    jiff::Timestamp::from_microsecond(at).unwrap_or_default().strftime("%Y-%m-%d_%H%M%SZ").to_string()
}

/// A moment with its zone, as [`zoned_text`] writes it.
pub fn parse_zoned(text: &str) -> Option<Micros> {
    Some(text.trim().parse::<jiff::Timestamp>().ok()?.as_microsecond())
}

/// A random id: 16 letters and digits that nobody else has.
pub fn random_id() -> String {
    let mut bytes = [0u8; 10];
    let mut filled = 0;
    while filled < bytes.len() {
        match rustix::rand::getrandom(&mut bytes[filled..], rustix::rand::GetRandomFlags::empty()) {
            Ok(n) => filled += n,
            Err(rustix::io::Errno::INTR) => (),
            // No random numbers here: the time and the process tell two ids apart as well.
            Err(_) => {
                bytes[..8].copy_from_slice(&(now() as u64).to_le_bytes());
                bytes[8..].copy_from_slice(&(std::process::id() as u16).to_le_bytes());
                break;
            }
        }
    }
    const SIGNS: &[u8; 32] = b"abcdefghijkmnpqrstuvwxyz23456789";
    let mut out = String::new();
    let mut held = 0u32;
    let mut bits = 0;
    for byte in bytes {
        held = held << 8 | u32::from(byte);
        bits += 8;
        while bits >= 5 {
            bits -= 5;
            out.push(SIGNS[(held >> bits & 31) as usize] as char);
        }
    }
    out
}

/// A short random text, for names that are used for a moment.
pub fn nonce() -> String {
    random_id()[..8].to_owned()
}
