//! Edit lists (14496-12, 8.6.5 and 8.6.6): which part of a track's media is presented when.

use super::boxes::{be16, be32, be64, version};
use crate::units::rescale;

/// One presented stretch of media, in ticks of the media's scale.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Segment {
    /// When it is presented.
    pub at: i64,
    /// Media time of its first moment.
    pub from: i64,
    /// How long it lasts; `None` is to the end of the media.
    pub length: Option<i64>,
}

impl Segment {
    pub fn whole() -> Self {
        Segment { at: 0, from: 0, length: None }
    }
    /// Media time behind its last moment.
    pub fn until(&self) -> i64 {
        self.length.map_or(i64::MAX, |l| self.from.saturating_add(l))
    }
}

/// An edit as stored.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Edit {
    pub duration: u64,
    pub media_time: i64,
    /// 16.16 fixed point; 0 is a dwell.
    pub rate: u32,
}

pub fn parse(elst: &[u8]) -> Vec<Edit> {
    let long = version(elst) == 1;
    let size = if long { 20 } else { 12 };
    let count = be32(elst, 4).unwrap_or(0) as usize;
    let entries = elst.get(8..).unwrap_or(&[]).chunks_exact(size);
    entries
        .take(count)
        .filter_map(|e| {
            let (duration, media_time, rest) = if long {
                (be64(e, 0)?, be64(e, 8)? as i64, 16)
            } else {
                (u64::from(be32(e, 0)?), i64::from(be32(e, 4)? as i32), 8)
            };
            let rate = u32::from(be16(e, rest)?) << 16 | u32::from(be16(e, rest + 2)?);
            Some(Edit { duration, media_time, rate })
        })
        .collect()
}

/// The stretches to present. Empty edits move later ones; an edit that ends within a movie tick of the
/// media's end is taken to reach it, because its length was rounded to the movie's coarser scale.
pub fn segments(edits: &[Edit], movie_scale: u32, media_scale: u32, media_length: i64) -> Vec<Segment> {
    let slack = i64::from(media_scale.div_ceil(movie_scale.max(1)));
    let mut at = 0i64;
    let mut out = Vec::new();
    for edit in edits {
        let length = rescale(i64::try_from(edit.duration).unwrap_or(i64::MAX), movie_scale, media_scale);
        if edit.media_time >= 0 && edit.media_time < media_length {
            let open = edit.duration == 0 || {
                let left = media_length - edit.media_time;
                (left - length).abs() <= slack || length > left
            };
            out.push(Segment { at, from: edit.media_time, length: (!open).then_some(length) });
        }
        at = at.saturating_add(length);
    }
    if out.is_empty() {
        out.push(Segment::whole());
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn edit(duration: u64, media_time: i64) -> Edit {
        Edit { duration, media_time, rate: 0x10000 }
    }

    #[rstest]
    // No list: all of it.
    #[case(vec![], vec![Segment::whole()])]
    // B-frame delay of 2 frames, length rounded to 1/600 s.
    #[case(vec![edit(600, 1001)], vec![Segment { at: 0, from: 1001, length: None }])]
    // Half a second late.
    #[case(vec![edit(300, -1), edit(600, 0)], vec![Segment { at: 12000, from: 0, length: Some(24000) }])]
    // Two pieces.
    #[case(vec![edit(100, 0), edit(100, 12000)],
           vec![Segment { at: 0, from: 0, length: Some(4000) }, Segment { at: 4000, from: 12000, length: Some(4000) }])]
    // Media time beyond the media: ignored, all is shown.
    #[case(vec![edit(100, 99999)], vec![Segment::whole()])]
    fn edits_become_segments(#[case] edits: Vec<Edit>, #[case] want: Vec<Segment>) {
        assert_eq!(segments(&edits, 600, 24000, 25025), want);
    }

    #[test]
    fn both_versions_are_read_and_a_false_count_is_harmless() {
        let mut v0 = vec![0, 0, 0, 0, 0xff, 0xff, 0xff, 0xff];
        v0.extend(5u32.to_be_bytes());
        v0.extend((-1i32).to_be_bytes());
        v0.extend([0, 1, 0, 0]);
        assert_eq!(parse(&v0), [edit(5, -1)]);
        let mut v1 = vec![1, 0, 0, 0, 0, 0, 0, 1];
        v1.extend(7u64.to_be_bytes());
        v1.extend(9i64.to_be_bytes());
        v1.extend([0, 1, 0, 0]);
        assert_eq!(parse(&v1), [edit(7, 9)]);
    }
}
