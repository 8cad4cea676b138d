//! The arithmetic of the networks: products of 8-bit weights with 32-bit floats, and the few functions between
//! them. Plain loops, compiled once for each kind of processor and chosen when the program runs; results differ
//! between kinds of processor in the last bits only.

mod curve;
mod product;
mod step;

pub use curve::{gelu, layer_norm, sigmoid, softmax, tanh, tanh_all};
pub use product::{Columns, Rows, product};
pub use step::{across, dot, times};

/// What the processor can do for us.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Level {
    /// Vectors of 512 bits.
    #[cfg(target_arch = "x86_64")]
    Wide,
    /// Vectors of 256 bits with fused multiplication.
    #[cfg(target_arch = "x86_64")]
    Middle,
    Plain,
}

/// Asking is cheap: the answer is kept by the standard library.
fn level() -> Level {
    #[cfg(target_arch = "x86_64")]
    {
        if is_x86_feature_detected!("avx512f")
            && is_x86_feature_detected!("avx512bw")
            && is_x86_feature_detected!("avx512vl")
            && is_x86_feature_detected!("avx512dq")
        {
            return Level::Wide;
        }
        if is_x86_feature_detected!("avx2") && is_x86_feature_detected!("fma") {
            return Level::Middle;
        }
    }
    Level::Plain
}

/// `a * b + c`, in one instruction where `FUSED` says that there is one.
#[inline(always)]
fn madd<const FUSED: bool>(a: f32, b: f32, c: f32) -> f32 {
    if FUSED { a.mul_add(b, c) } else { a * b + c }
}

/// Defines a function that runs `body` in the best version for this processor. `body` is generic over whether
/// multiplication is fused, vectors per row of a tile and their length.
macro_rules! by_level {
    ($(#[$doc:meta])* $vis:vis fn $name:ident($($arg:ident: $type:ty),* $(,)?) $(-> $out:ty)? = $body:ident) => {
        $(#[$doc])*
        $vis fn $name($($arg: $type),*) $(-> $out)? {
            #[cfg(target_arch = "x86_64")]
            #[target_feature(enable = "avx512f,avx512bw,avx512vl,avx512dq")]
            #[allow(clippy::too_many_arguments)]
            fn wide($($arg: $type),*) $(-> $out)? { $body::<true, 8, 32>($($arg),*) }
            #[cfg(target_arch = "x86_64")]
            #[target_feature(enable = "avx2,fma")]
            #[allow(clippy::too_many_arguments)]
            fn middle($($arg: $type),*) $(-> $out)? { $body::<true, 6, 16>($($arg),*) }
            match $crate::math::level() {
                // SAFETY: `level` has found these features in the processor that runs this.
                #[cfg(target_arch = "x86_64")]
                #[allow(unsafe_code)]
                $crate::math::Level::Wide => unsafe { wide($($arg),*) },
                // SAFETY: as above.
                #[cfg(target_arch = "x86_64")]
                #[allow(unsafe_code)]
                $crate::math::Level::Middle => unsafe { middle($($arg),*) },
                $crate::math::Level::Plain => {
                    $body::<{ cfg!(target_arch = "aarch64") }, 4, 16>($($arg),*)
                }
            }
        }
    };
}
use by_level;
