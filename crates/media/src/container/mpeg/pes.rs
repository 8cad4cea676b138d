//! The header of a packetised stream's packet (13818-1, 2.4.3.6 and 2.4.3.7; 11172-1, 2.4.3.3 for the first
//! generation).

/// Moments are 33 bits of 90 kHz.
pub const SCALE: u32 = 90_000;

pub struct Header {
    pub pts: Option<u64>,
    /// Where the stream's own bytes begin.
    pub body: usize,
}

/// Five bytes that hold 33 bits between marker bits.
fn moment(b: &[u8]) -> Option<u64> {
    let &[a, b1, b2, b3, b4, ..] = b else { return None };
    Some(
        u64::from(a >> 1 & 7) << 30
            | u64::from(b1) << 22
            | u64::from(b2 >> 1) << 15
            | u64::from(b3) << 7
            | u64::from(b4 >> 1),
    )
}

/// Reads what follows the start code, stream number and length (6 bytes), which are left out of `b`.
pub fn parse(b: &[u8]) -> Option<Header> {
    let first = *b.first()?;
    if first >> 6 == 2 {
        let (flags, len) = (*b.get(1)?, usize::from(*b.get(2)?));
        let pts = if flags & 0x80 != 0 { moment(b.get(3..)?) } else { None };
        return Some(Header { pts, body: 3 + len });
    }
    // First generation: stuffing, buffer size, moments.
    let mut at = b.iter().take_while(|&&v| v == 0xff).count();
    if at > 16 {
        return None;
    }
    if b.get(at)? >> 6 == 1 {
        at += 2;
    }
    match b.get(at)? >> 4 {
        2 => Some(Header { pts: moment(&b[at..]), body: at + 5 }),
        3 => Some(Header { pts: moment(&b[at..]), body: at + 10 }),
        0 => Some(Header { pts: None, body: at + 1 }),
        _ => None,
    }
}

/// Streams whose packets have no such header (2.4.3.7).
pub fn is_bare(stream: u8) -> bool {
    matches!(stream, 0xbc | 0xbe | 0xbf | 0xf0 | 0xf1 | 0xf2 | 0xf8 | 0xff)
}

/// Moments run over after 26.5 hours: this keeps them going.
#[derive(Clone, Copy, Debug, Default)]
pub struct Unwrap {
    last: Option<i64>,
}

impl Unwrap {
    pub fn place(&mut self, moment: u64) -> i64 {
        const ROUND: i64 = 1 << 33;
        let m = moment as i64;
        let placed = match self.last {
            None => m,
            Some(last) => {
                let near = (last - m + ROUND / 2).div_euclid(ROUND);
                m + near * ROUND
            }
        };
        self.last = Some(placed);
        placed
    }
    pub fn reset(&mut self) {
        self.last = None;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_generations_are_read() {
        let h = parse(&[0x80, 0x80, 5, 0x21, 0x00, 0x01, 0x00, 0x03, 9]).unwrap();
        assert_eq!((h.pts, h.body), (Some(1), 8));
        let h = parse(&[0xff, 0xff, 0x40, 0x20, 0x21, 0x00, 0x01, 0x00, 0x05, 9]).unwrap();
        assert_eq!((h.pts, h.body), (Some(2), 9));
        let h = parse(&[0x0f, 7]).unwrap();
        assert_eq!((h.pts, h.body), (None, 1));
        assert!(parse(&[0xc0]).is_none() && parse(&[]).is_none());
    }

    #[test]
    fn moments_go_on_behind_their_end_and_small_steps_back_stay_small() {
        let mut u = Unwrap::default();
        let last = (1u64 << 33) - 10;
        assert_eq!(
            [u.place(last), u.place(5), u.place(last + 5), u.place(20)],
            [last as i64, (1i64 << 33) + 5, last as i64 + 5, (1i64 << 33) + 20]
        );
    }
}
