//! Loops over samples, compiled once more for the vectors of the machine that they run on.

/// Work whose loops are worth it. What it calls must be `#[inline(always)]` all the way, or it is compiled for any machine.
pub trait Work {
    fn work(self);
}

struct Op<W>(W);

impl<W: Work> pulp::WithSimd for Op<W> {
    type Output = ();

    #[inline(always)]
    fn with_simd<S: pulp::Simd>(self, _: S) {
        self.0.work();
    }
}

/// The nearest whole number of one from 0 to below 8,388,608, without the questions that a conversion asks: behind that
/// power of two a number of 32 bits has no fraction, and its lower bits are what was added to it.
#[inline(always)]
pub fn whole(v: f32) -> i32 {
    ((v + 8_388_608.0).to_bits() & 0x7f_ffff) as i32
}

/// The same numbers on every machine: nothing is added in another order, and nothing is fused.
pub fn run(work: impl Work) {
    pulp::Arch::new().dispatch(Op(work));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_rounded_to_the_nearest() {
        for v in [0.0f32, 0.49, 0.51, 1.0, 254.6, 255.0, 65_535.0, 65_534.4, 8_388_607.0] {
            assert_eq!(whole(v), v.round() as i32, "{v}");
        }
    }
}
