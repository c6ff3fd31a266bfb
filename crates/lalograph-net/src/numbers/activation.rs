//! The squashing functions, branch-free so that loops over them vectorise, and the one place where the
//! instruction set is chosen.
//!
//! Errors of the `f32` forms are bounded by the tests below: relative 2e-7 for [`exp_f32`](super::exp::exp_f32) within its range, absolute 2e-7 for
//! [`sigmoid`] and [`tanh`]. Multiplications and additions are kept apart on purpose: every
//! instruction set then gives the same bits.

use super::real::Real;

/// Computes an expression compiled for the best instruction set that this machine has: loops over slices and calls of
/// `#[inline(always)]` functions.
///
/// A macro, because all of it must be inlined into the function that is compiled for the instruction set, and only a closure that says so is.
///
/// ```
/// let mut xs = [1.0f32, 2.0, 3.0];
/// let sum: f32 = lalograph_net::vectorised!({
///     xs.iter_mut().for_each(|x| *x *= 2.0);
///     xs.iter().sum()
/// });
/// assert_eq!(sum, 12.0);
/// ```
#[macro_export]
macro_rules! vectorised {
    ($work:expr) => {
        $crate::numbers::activation::for_this_machine({
            #[inline(always)]
            || $work
        })
    };
}

/// Runs `work` with the widest vector instructions of this machine; [`vectorised!`] calls it.
#[cfg(not(target_arch = "x86_64"))]
#[inline(always)]
pub fn for_this_machine<R>(work: impl FnOnce() -> R) -> R {
    work()
}

/// Runs `work` with the widest vector instructions of this machine; [`vectorised!`] calls it.
#[cfg(target_arch = "x86_64")]
#[inline(always)]
pub fn for_this_machine<R>(work: impl FnOnce() -> R) -> R {
    /// # Safety
    /// The processor must have these instructions.
    #[target_feature(enable = "avx512f,avx512bw,avx512cd,avx512dq,avx512vl,avx2,fma,bmi1,bmi2,lzcnt,popcnt")]
    unsafe fn wide<R>(work: impl FnOnce() -> R) -> R {
        work()
    }
    /// # Safety
    /// The processor must have these instructions.
    #[target_feature(enable = "avx2,fma,bmi1,bmi2,lzcnt,popcnt")]
    unsafe fn middle<R>(work: impl FnOnce() -> R) -> R {
        work()
    }
    match *VECTORS {
        // SAFETY: the processor was asked.
        Vectors::Wide => unsafe { wide(work) },
        // SAFETY: the same.
        Vectors::Middle => unsafe { middle(work) },
        Vectors::Plain => work(),
    }
}

/// Vector instructions of a processor of x86-64.
#[cfg(target_arch = "x86_64")]
#[derive(Debug, Clone, Copy)]
enum Vectors {
    /// AVX-512.
    Wide,
    /// AVX2.
    Middle,
    /// Those that all have.
    Plain,
}

#[cfg(target_arch = "x86_64")]
static VECTORS: std::sync::LazyLock<Vectors> = std::sync::LazyLock::new(|| {
    macro_rules! all {
        ($($feature:tt)*) => { $(std::arch::is_x86_feature_detected!($feature))&&* };
    }
    if !all!("avx2" "fma" "bmi1" "bmi2" "lzcnt" "popcnt") {
        Vectors::Plain
    } else if all!("avx512f" "avx512bw" "avx512cd" "avx512dq" "avx512vl") {
        Vectors::Wide
    } else {
        Vectors::Middle
    }
});

/// 1 / (1 + e^-x); zero where that is negligible, below -69.
#[inline(always)]
pub fn sigmoid<T: Real>(x: T) -> T {
    (T::ONE / (T::ONE + (-x).exp())).without_dust()
}

/// The hyperbolic tangent, as 1 - 2 / (e^2x + 1).
#[inline(always)]
pub fn tanh<T: Real>(x: T) -> T {
    let two = T::ONE + T::ONE;
    T::ONE - two / ((x + x).exp() + T::ONE)
}

/// The greatest of `xs`, or `floor` if they are fewer or smaller.
#[inline(always)]
pub fn greatest<T: Real>(xs: &[T], floor: T) -> T {
    const WIDTH: usize = 16;
    let mut lanes = [floor; WIDTH];
    let chunks = xs.chunks_exact(WIDTH);
    let rest = chunks.remainder();
    for chunk in chunks {
        for (lane, &x) in lanes.iter_mut().zip(chunk) {
            *lane = x.greater(*lane);
        }
    }
    let whole = lanes.iter().fold(floor, |best, &x| x.greater(best));
    rest.iter().fold(whole, |best, &x| x.greater(best))
}

/// Replaces each x by e^(x - shift) and returns their sum, added in a fixed order.
#[inline(always)]
pub fn exp_and_sum<T: Real>(xs: &mut [T], shift: T) -> T {
    const WIDTH: usize = 16;
    let mut lanes = [T::ZERO; WIDTH];
    let mut chunks = xs.chunks_exact_mut(WIDTH);
    for chunk in &mut chunks {
        for (lane, x) in lanes.iter_mut().zip(chunk) {
            *x = (*x - shift).exp();
            *lane += *x;
        }
    }
    let mut sum: T = lanes.iter().copied().sum();
    for x in chunks.into_remainder() {
        *x = (*x - shift).exp();
        sum += *x;
    }
    sum
}

#[cfg(test)]
mod tests {
    use super::{exp_and_sum, greatest, sigmoid, tanh};
    use crate::numbers::exp::exp_f32;

    /// Every representable number from -100 to 100 at a spacing fine enough to meet each exponent many times.
    fn grid() -> impl Iterator<Item = f32> {
        (-2_000_000..=2_000_000).map(|i| i as f32 * 5e-5)
    }

    #[test]
    fn exp_is_within_its_stated_error() {
        for x in grid().filter(|x| (-87.0..=88.0).contains(x)) {
            let exact = f64::from(x).exp();
            let error = (f64::from(exp_f32(x)) - exact).abs() / exact;
            assert!(error < 2e-7, "{x}: {error}");
        }
        assert_eq!(exp_f32(0.0), 1.0);
        assert!(exp_f32(f32::NAN).is_nan());
        assert!(exp_f32(1e30).is_finite());
        assert!(exp_f32(f32::NEG_INFINITY) > 0.0);
    }

    #[test]
    fn sigmoid_and_tanh_are_within_their_stated_error() {
        for x in grid() {
            let exact = f64::from(x);
            assert!((f64::from(sigmoid(x)) - 1.0 / (1.0 + (-exact).exp())).abs() < 2e-7, "sigmoid {x}");
            assert!((f64::from(tanh(x)) - exact.tanh()).abs() < 2e-7, "tanh {x}");
        }
    }

    #[test]
    fn the_vectorised_forms_give_the_bits_of_the_plain_ones_at_every_length() {
        for length in [0, 1, 15, 16, 17, 31, 33, 100] {
            let xs: Vec<f32> = (0..length).map(|i| ((i * 37) % 19) as f32 - 9.0).collect();
            let plain: Vec<f32> = xs.iter().map(|&x| exp_f32(x - 1.5)).collect();
            let mut fast = xs.clone();
            let sum = vectorised!(exp_and_sum(&mut fast, 1.5));
            assert_eq!(fast, plain, "length {length}");
            let exact: f64 = plain.iter().map(|&x| f64::from(x)).sum();
            assert!((f64::from(sum) - exact).abs() <= exact * 1e-6);
            let best = xs.iter().copied().fold(f32::MIN, f32::max);
            assert_eq!(vectorised!(greatest(&xs, f32::MIN)), best, "length {length}");
        }
    }
}
