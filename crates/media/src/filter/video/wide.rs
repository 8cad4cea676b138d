//! Loops over samples, compiled once more for the vectors of the machine that they run on.

/// Work whose loops are worth it. What it calls must be `#[inline(always)]` all the way, or it is compiled for any machine.
pub trait Work {
    fn work(self, machine: impl Machine);
}

/// Sixteen numbers that lie beside each other.
pub type Sixteen = [i16; 16];

/// What compilers do not find by themselves.
pub trait Machine: Copy {
    /// Products of fractions, of which 32,768 is one, rounded to the nearest. Never of -1 and -1.
    fn product(self, a: Sixteen, b: Sixteen) -> Sixteen;
}

/// Any processor.
#[derive(Clone, Copy)]
struct Plain;

impl Machine for Plain {
    #[inline(always)]
    fn product(self, a: Sixteen, b: Sixteen) -> Sixteen {
        std::array::from_fn(|n| ((i32::from(a[n]) * i32::from(b[n]) + (1 << 14)) >> 15) as i16)
    }
}

#[cfg(target_arch = "x86_64")]
mod avx2 {
    use super::{Machine, Sixteen, Work};
    use pulp::x86::V3;

    #[derive(Clone, Copy)]
    struct Avx2(V3);

    impl Machine for Avx2 {
        #[inline(always)]
        fn product(self, a: Sixteen, b: Sixteen) -> Sixteen {
            bytemuck::cast(self.0.avx2._mm256_mulhrs_epi16(bytemuck::cast(a), bytemuck::cast(b)))
        }
    }

    struct Op<W>(W, V3);

    impl<W: Work> pulp::NullaryFnOnce for Op<W> {
        type Output = ();

        #[inline(always)]
        fn call(self) {
            self.0.work(Avx2(self.1));
        }
    }

    /// Gives it back where this machine has no such vectors.
    pub fn run<W: Work>(work: W) -> Option<W> {
        match V3::try_new() {
            Some(v3) => {
                v3.vectorize(Op(work, v3));
                None
            }
            None => Some(work),
        }
    }
}

/// Rows of sixteen as columns.
#[inline(always)]
pub fn transposed<T: Copy + Default>(rows: &[[T; 16]; 16]) -> [[T; 16]; 16] {
    let mut now = *rows;
    // Each time the upper half between the lower: after four times every place has found its own.
    for _ in 0..4 {
        let mut next = [[T::default(); 16]; 16];
        for (n, two) in next.chunks_exact_mut(2).enumerate() {
            let (a, b) = (&now[n], &now[n + 8]);
            for i in 0..8 {
                (two[0][2 * i], two[0][2 * i + 1]) = (a[i], b[i]);
                (two[1][2 * i], two[1][2 * i + 1]) = (a[8 + i], b[8 + i]);
            }
        }
        now = next;
    }
    now
}

/// The nearest whole number of one from 0 to below 8,388,608, without the questions that a conversion asks: behind that
/// power of two a number of 32 bits has no fraction, and its lower bits are what was added to it.
#[inline(always)]
pub fn whole(v: f32) -> i32 {
    ((v + 8_388_608.0).to_bits() & 0x7f_ffff) as i32
}

/// The same numbers on every machine: nothing is added in another order, and nothing is fused.
pub fn run(work: impl Work) {
    #[cfg(target_arch = "x86_64")]
    let Some(work) = avx2::run(work) else { return };
    work.work(Plain);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_machine_has_the_same_products() {
        struct Products<'a>(&'a mut Vec<Sixteen>);
        impl Work for Products<'_> {
            fn work(self, machine: impl Machine) {
                for n in 0..500i32 {
                    let of = |by: i32| -> Sixteen {
                        std::array::from_fn(|i| ((n * by + i as i32 * 7919) % 65_535 - 32_767) as i16)
                    };
                    self.0.push(machine.product(of(131), of(977)));
                }
            }
        }
        let (mut here, mut plain) = (Vec::new(), Vec::new());
        run(Products(&mut here));
        Products(&mut plain).work(Plain);
        assert_eq!(here, plain);
    }

    #[test]
    fn rows_become_columns() {
        let rows: [[u16; 16]; 16] = std::array::from_fn(|y| std::array::from_fn(|x| (y * 16 + x) as u16));
        let columns = transposed(&rows);
        assert!((0..256).all(|n| columns[n % 16][n / 16] == n as u16));
    }

    #[test]
    fn numbers_are_rounded_to_the_nearest() {
        for v in [0.0f32, 0.49, 0.51, 1.0, 254.6, 255.0, 65_535.0, 65_534.4, 8_388_607.0] {
            assert_eq!(whole(v), v.round() as i32, "{v}");
        }
    }
}
