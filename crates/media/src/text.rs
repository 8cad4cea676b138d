//! Words drawn into pictures, with the one typeface that comes with the program (DejaVu Sans Mono).

use ab_glyph::{Font, FontRef, GlyphId, PxScale, ScaleFont};
use std::sync::LazyLock;

static BYTES: &[u8] = include_bytes!("../assets/font/DejaVuSansMono.ttf");
static FONT: LazyLock<Option<FontRef<'static>>> = LazyLock::new(|| FontRef::try_from_slice(BYTES).ok());

/// Part of a line's height that is between two lines.
const BETWEEN: f32 = 0.15;

/// How much of each point is covered: 0 to 255.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Mask {
    pub width: usize,
    pub height: usize,
    pub covered: Vec<u8>,
}

impl Mask {
    pub fn row(&self, y: usize) -> &[u8] {
        &self.covered[y * self.width..(y + 1) * self.width]
    }
}

/// Letters that the typeface does not have; a box stands for each.
pub fn missing(text: &str) -> String {
    let Some(font) = &*FONT else { return text.to_owned() };
    let mut none: Vec<char> =
        text.chars().filter(|c| !c.is_control() && font.glyph_id(*c) == GlyphId(0)).collect();
    none.dedup();
    none.into_iter().collect()
}

/// Draws lines of text, each `height` points high, from the left. Letters are not joined or turned: what is written from
/// right to left stands in the order it is stored in.
pub fn letters(text: &str, height: f32) -> Mask {
    let Some(font) = &*FONT else { return Mask::default() };
    let scale = PxScale::from(height);
    let scaled = font.as_scaled(scale);
    let line = (height * (1.0 + BETWEEN)).ceil();
    let lines: Vec<&str> = text.lines().collect();
    let across = |l: &str| l.chars().map(|c| scaled.h_advance(scaled.glyph_id(c))).sum::<f32>();
    let width = lines.iter().map(|l| across(l)).fold(0.0, f32::max).ceil() as usize;
    let rows = (line * lines.len() as f32).ceil() as usize;
    let mut mask = Mask { width, height: rows, covered: vec![0; width * rows] };
    for (n, l) in lines.iter().enumerate() {
        let base = n as f32 * line + scaled.ascent();
        let mut x = 0.0;
        for c in l.chars() {
            let id = scaled.glyph_id(c);
            let glyph = id.with_scale_and_position(scale, ab_glyph::point(x, base));
            x += scaled.h_advance(id);
            let Some(outline) = font.outline_glyph(glyph) else { continue };
            let bounds = outline.px_bounds();
            outline.draw(|gx, gy, c| {
                let (px, py) = (bounds.min.x as i64 + i64::from(gx), bounds.min.y as i64 + i64::from(gy));
                let inside = (0..width as i64).contains(&px) && (0..rows as i64).contains(&py);
                if inside && let Some(p) = mask.covered.get_mut(py as usize * width + px as usize) {
                    *p = (*p).max((c.clamp(0.0, 1.0) * 255.0) as u8);
                }
            });
        }
    }
    mask
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("10:00:00:00", "")]
    #[case("Sluice, Übermut, δέλτα, вода", "")]
    #[case("tide 潮", "潮")]
    fn letters_that_are_not_there_are_told(#[case] text: &str, #[case] none: &str) {
        assert_eq!(missing(text), none);
    }

    #[rstest]
    fn text_is_as_large_as_asked_for_and_stays_inside(#[values(8.0, 20.0, 33.3, 90.0)] height: f32) {
        let one = letters("10:00:00:00", height);
        assert!((one.height as f32 - height * 1.15).abs() <= 2.0);
        assert!(one.covered.iter().any(|c| *c > 120));
        // Every letter is as wide as another.
        assert_eq!(letters("00000000000", height).width, one.width);
        let two = letters("a\nbb", height);
        assert!(two.height >= one.height * 2 - 2 && two.width < one.width);
        // The edges are free: nothing was cut off.
        assert!(one.row(0).iter().all(|c| *c == 0));
    }

    #[test]
    fn nothing_is_drawn_of_nothing() {
        assert_eq!(letters("", 20.0).covered.len(), 0);
        assert!(letters("   ", 20.0).covered.iter().all(|c| *c == 0));
    }
}
