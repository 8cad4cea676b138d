//! Timecode labels and the frames they stand for (SMPTE ST 12-1).

/// Labels that drop frame leaves out at the beginning of each minute but every tenth (5.2.2): two of 30 a second, four of 60.
fn left_out(per_second: u64, drop: bool) -> u64 {
    if drop && per_second.is_multiple_of(30) { 2 * per_second / 30 } else { 0 }
}

/// The label of a frame, counted from midnight.
pub fn label(frame: u32, per_second: u32, drop: bool) -> String {
    let n = u64::from(per_second.max(1));
    let mut frame = u64::from(frame);
    let skip = left_out(n, drop);
    if skip > 0 {
        let minute = n * 60 - skip;
        let ten = minute * 10 + skip;
        let (tens, rest) = (frame / ten, frame % ten);
        frame += tens * 9 * skip;
        if rest >= n * 60 {
            frame += skip * (1 + (rest - n * 60) / minute);
        }
    }
    let (s, f) = (frame / n, frame % n);
    let mark = if drop { ';' } else { ':' };
    format!("{:02}:{:02}:{:02}{mark}{f:02}", s / 3600 % 24, s / 60 % 60, s % 60)
}

/// The frame of a label, counted from midnight; `None` for a text that is no label at this rate. `;` before the frames says
/// drop frame, where that is not known already.
pub fn frame(label: &str, per_second: u32, drop: bool) -> Option<u32> {
    let parts: Vec<&str> = label.split([':', ';']).collect();
    let digits = |t: &&str| t.len() == 2 && t.bytes().all(|b| b.is_ascii_digit());
    let [h, m, s, f] = parts.as_slice() else { return None };
    if !parts.iter().all(digits) || label.find(';').is_some_and(|at| at != 8) {
        return None;
    }
    let number = |t: &str| t.parse::<u64>().ok();
    let (h, m, s, f) = (number(h)?, number(m)?, number(s)?, number(f)?);
    let n = u64::from(per_second.max(1));
    let skip = left_out(n, drop || label.contains(';'));
    let missing = s == 0 && f < skip && m % 10 != 0;
    if h > 23 || m > 59 || s > 59 || f >= n || missing {
        return None;
    }
    let minutes = h * 60 + m;
    u32::try_from((minutes * 60 + s) * n + f - skip * (minutes - minutes / 10)).ok()
}

/// Whether a text has the shape of a label.
pub fn is_label(text: &str) -> bool {
    frame(text, 100, false).is_some()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0, 25, false, "00:00:00:00")]
    #[case(900_000, 25, false, "10:00:00:00")]
    #[case(1799, 30, true, "00:00:59;29")]
    #[case(1800, 30, true, "00:01:00;02")]
    #[case(17_982, 30, true, "00:10:00;00")]
    #[case(107_892, 30, true, "01:00:00;00")]
    #[case(3600, 60, true, "00:01:00;04")]
    fn labels_and_frames(#[case] number: u32, #[case] n: u32, #[case] drop: bool, #[case] want: &str) {
        assert_eq!(label(number, n, drop), want);
        assert_eq!(frame(want, n, false), Some(number));
    }

    #[test]
    fn every_frame_of_an_hour_has_a_label_of_its_own() {
        for number in 0..107_892 {
            assert_eq!(frame(&label(number, 30, true), 30, true), Some(number));
        }
    }

    #[rstest]
    #[case("00:01:00;00", 30)]
    #[case("00:00:00:25", 25)]
    #[case("24:00:00:00", 25)]
    #[case("00:60:00:00", 25)]
    #[case("1:00:00:00", 25)]
    #[case("00;00:00:00", 25)]
    #[case("00:00:00", 25)]
    #[case("00:00:00:0x", 25)]
    #[case("", 25)]
    fn what_is_no_label_has_no_frame(#[case] text: &str, #[case] n: u32) {
        assert_eq!(frame(text, n, false), None);
    }

    #[test]
    fn a_label_with_colons_is_drop_frame_where_the_track_is() {
        assert_eq!(frame("00:01:00:02", 30, true), Some(1800));
        assert_eq!(frame("00:01:00:02", 30, false), Some(1802));
    }
}
