//! Loops over samples, compiled once more for the vectors of the machine that they run on.

/// Work whose loops are worth it. What it calls must be `#[inline(always)]` all the way, or it is compiled for any machine.
pub trait Work {
    fn work(self, machine: impl Machine);
}

/// Numbers that lie beside each other.
pub type Sixteen = [i16; 16];
pub type Eight = [i16; 8];

/// What compilers do not find by themselves.
pub trait Machine: Copy {
    /// Products of fractions, of which 32,768 is one, rounded to the nearest. Never of -1 and -1.
    fn product(self, a: Sixteen, b: Sixteen) -> Sixteen;

    /// Eight sums of eight values with a weight each, as samples.
    fn mixed(self, values: [&Eight; 8], weights: [&Eight; 8], end: End) -> [u16; 8];

    /// The same for four places that have two kinds of values under one weight each: four of the one kind, four of the other,
    /// and once more. All of the first kind, then all of the second.
    fn mixed_pairs(self, values: [&Sixteen; 4], weights: [&Eight; 4], end: End) -> [u16; 8];
}

/// How sums become samples: rounded, without so many of their bits, and no more than the most.
#[derive(Clone, Copy)]
pub struct End {
    pub bits: u32,
    pub most: u16,
}

/// Any processor.
#[derive(Clone, Copy)]
struct Plain;

impl Machine for Plain {
    #[inline(always)]
    fn product(self, a: Sixteen, b: Sixteen) -> Sixteen {
        std::array::from_fn(|n| ((i32::from(a[n]) * i32::from(b[n]) + (1 << 14)) >> 15) as i16)
    }

    #[inline(always)]
    fn mixed(self, values: [&Eight; 8], weights: [&Eight; 8], end: End) -> [u16; 8] {
        std::array::from_fn(|i| {
            let sum: i32 = (0..8).map(|n| i32::from(values[i][n]) * i32::from(weights[i][n])).sum();
            ((sum + (1 << (end.bits - 1))) >> end.bits).clamp(0, end.most.into()) as u16
        })
    }

    #[inline(always)]
    fn mixed_pairs(self, values: [&Sixteen; 4], weights: [&Eight; 4], end: End) -> [u16; 8] {
        let of: [Eight; 8] = std::array::from_fn(|i| {
            let first = i / 4 * 4;
            std::array::from_fn(|n| values[i % 4][n / 4 * 8 + first + n % 4])
        });
        self.mixed(of.each_ref(), std::array::from_fn(|i| weights[i % 4]), end)
    }
}

#[cfg(target_arch = "x86_64")]
mod avx2 {
    use super::{Eight, End, Machine, Sixteen, Work};
    use pulp::x86::V3;
    use std::arch::x86_64::{__m128i, __m256i};

    #[derive(Clone, Copy)]
    struct Avx2(V3);

    impl Machine for Avx2 {
        #[inline(always)]
        fn product(self, a: Sixteen, b: Sixteen) -> Sixteen {
            bytemuck::cast(self.0.avx2._mm256_mulhrs_epi16(bytemuck::cast(a), bytemuck::cast(b)))
        }

        #[inline(always)]
        fn mixed(self, values: [&Eight; 8], weights: [&Eight; 8], end: End) -> [u16; 8] {
            let m = self.0.avx2;
            // Two of the eight are worked on at once, so that they lie in their order when they are added up.
            let two = |of: &[&Eight; 8], i: usize| -> __m256i { bytemuck::cast([*of[i], *of[i + 4]]) };
            let sums = |i: usize| m._mm256_madd_epi16(two(&values, i), two(&weights, i));
            let (a, b) = (m._mm256_hadd_epi32(sums(0), sums(1)), m._mm256_hadd_epi32(sums(2), sums(3)));
            self.ended(m._mm256_hadd_epi32(a, b), end)
        }

        #[inline(always)]
        fn mixed_pairs(self, values: [&Sixteen; 4], weights: [&Eight; 4], end: End) -> [u16; 8] {
            let m = self.0.avx2;
            // The weights of this step beside each other twice, then those of the next one.
            let twice = |i: usize| {
                let order: [u8; 32] = std::array::from_fn(|at| (at % 8 + at / 16 * 8) as u8);
                m._mm256_shuffle_epi8(
                    m._mm256_broadcastsi128_si256(bytemuck::cast(*weights[i])),
                    bytemuck::cast(order),
                )
            };
            let sums = |i: usize| m._mm256_madd_epi16(bytemuck::cast(*values[i]), twice(i));
            let added = |i: usize| -> __m128i {
                let [low, high]: [__m128i; 2] = bytemuck::cast(m._mm256_hadd_epi32(sums(i), sums(i + 1)));
                self.0.sse2._mm_add_epi32(low, high)
            };
            // Pairs beside each other, and then all of one kind: for each two places, of which there are two.
            let [a, b] = [added(0), added(2)].map(|two| self.0.sse2._mm_shuffle_epi32::<0b11_01_10_00>(two));
            let (first, second) =
                (self.0.sse2._mm_unpacklo_epi64(a, b), self.0.sse2._mm_unpackhi_epi64(a, b));
            self.ended(bytemuck::cast([first, second]), end)
        }
    }

    impl Avx2 {
        #[inline(always)]
        fn ended(self, sums: __m256i, end: End) -> [u16; 8] {
            let m = self.0.avx2;
            let half: __m256i = bytemuck::cast([1i32 << (end.bits - 1); 8]);
            let bits: __m128i = bytemuck::cast([u64::from(end.bits), 0]);
            let all = m._mm256_sra_epi32(m._mm256_add_epi32(sums, half), bits);
            let [low, high]: [__m128i; 2] = bytemuck::cast(all);
            let sse = self.0.sse4_1;
            let most: __m128i = bytemuck::cast([end.most; 8]);
            bytemuck::cast(sse._mm_min_epu16(sse._mm_packus_epi32(low, high), most))
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
    fn every_machine_has_the_same_sums() {
        struct Sums<'a>(&'a mut Vec<[u16; 8]>, &'a mut Vec<[u16; 8]>);
        impl Work for Sums<'_> {
            fn work(self, machine: impl Machine) {
                for n in 0..500i32 {
                    let of = |by: i32, most: i32| -> [Eight; 8] {
                        let at = |k: i32, i: i32| (n * by + k * 613 + i * 7919) % (2 * most) - most;
                        std::array::from_fn(|k| std::array::from_fn(|i| at(k as i32, i as i32) as i16))
                    };
                    let (values, weights) = (of(977, 31_000), of(131, 2048));
                    let end = End { bits: 14, most: 1023 };
                    let sums = machine.mixed(values.each_ref(), weights.each_ref(), end);
                    for (k, sum) in sums.iter().enumerate() {
                        let all = values[k].iter().zip(&weights[k]);
                        let want = all.map(|(v, w)| f64::from(*v) * f64::from(*w)).sum::<f64>() / 16_384.0;
                        assert_eq!(f64::from(*sum), (want + 0.5).floor().clamp(0.0, 1023.0));
                    }
                    self.0.push(sums);
                    // In pairs the same as one by one.
                    let pairs: [Sixteen; 4] = std::array::from_fn(|k| {
                        std::array::from_fn(|n| values[k + n / 4 % 2 * 4][n / 8 * 4 + n % 4])
                    });
                    let four = std::array::from_fn(|k| &weights[k]);
                    let both = std::array::from_fn(|k| &weights[k % 4]);
                    self.1.push(machine.mixed_pairs(pairs.each_ref(), four, end));
                    assert_eq!(self.1.last(), Some(&machine.mixed(values.each_ref(), both, end)));
                }
            }
        }
        let (mut here, mut plain) = (Vec::new(), Vec::new());
        let (mut pairs, mut plain_pairs) = (Vec::new(), Vec::new());
        run(Sums(&mut here, &mut pairs));
        Sums(&mut plain, &mut plain_pairs).work(Plain);
        assert_eq!((&here, pairs), (&plain, plain_pairs));
        let between = here.iter().flatten().filter(|v| (1..1023).contains(*v)).count();
        assert!(between > 300, "{between}");
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
