//! The two kinds of number that everything here is generic over.

use std::fmt::Debug;
use std::iter::Sum;
use std::ops::{Add, AddAssign, Div, Mul, MulAssign, Neg, Sub, SubAssign};

/// `f32` for training, `f64` for checking it.
pub trait Real:
    crate::products::kernel::HasKernel
    + Copy
    + Debug
    + Default
    + PartialEq
    + PartialOrd
    + bytemuck::Pod
    + Send
    + Sync
    + Sum
    + Add<Output = Self>
    + Sub<Output = Self>
    + Mul<Output = Self>
    + Div<Output = Self>
    + Neg<Output = Self>
    + AddAssign
    + SubAssign
    + MulAssign
    + 'static
{
    /// 0.
    const ZERO: Self;
    /// 1.
    const ONE: Self;

    /// The nearest value to `x`.
    fn of(x: f64) -> Self;
    /// The same value in double precision.
    fn to_f64(self) -> f64;
    /// The square root.
    fn sqrt(self) -> Self;
    /// e to the power of `self`. In `f32` an approximation that compilers can vectorise, see [`super::exp`].
    fn exp(self) -> Self;
    /// The greater of the two.
    fn greater(self, other: Self) -> Self;

    /// Zero for what is smaller than 2^-100 and so counts for nothing in any sum of a network, but whose products are subnormal numbers in single
    /// precision, with which processors compute a hundred times as slowly. Done number by number and not by a mode of the processor, so that
    /// it is the same on every machine.
    fn without_dust(self) -> Self;
}

impl Real for f64 {
    const ZERO: Self = 0.0;
    const ONE: Self = 1.0;

    #[inline(always)]
    fn of(x: f64) -> Self {
        x
    }
    #[inline(always)]
    fn to_f64(self) -> f64 {
        self
    }
    #[inline(always)]
    fn sqrt(self) -> Self {
        self.sqrt()
    }
    #[inline(always)]
    fn exp(self) -> Self {
        self.exp()
    }
    #[inline(always)]
    fn greater(self, other: Self) -> Self {
        if self > other { self } else { other }
    }
    #[inline(always)]
    fn without_dust(self) -> Self {
        if self.abs() < 7.888_609e-31 { 0.0 } else { self }
    }
}

impl Real for f32 {
    const ZERO: Self = 0.0;
    const ONE: Self = 1.0;

    #[inline(always)]
    fn of(x: f64) -> Self {
        x as f32
    }
    #[inline(always)]
    fn to_f64(self) -> f64 {
        f64::from(self)
    }
    #[inline(always)]
    fn sqrt(self) -> Self {
        self.sqrt()
    }
    #[inline(always)]
    fn exp(self) -> Self {
        super::exp::exp_f32(self)
    }
    #[inline(always)]
    fn greater(self, other: Self) -> Self {
        if self > other { self } else { other }
    }
    #[inline(always)]
    fn without_dust(self) -> Self {
        if self.abs() < 7.888_609e-31 { 0.0 } else { self }
    }
}

#[cfg(test)]
mod tests {
    use super::Real;

    #[test]
    fn only_dust_is_taken_away() {
        for kept in [1.0f32, -1e-30, 8e-31, f32::INFINITY, f32::NEG_INFINITY, 0.0] {
            assert_eq!(kept.without_dust(), kept);
        }
        for dust in [7e-31f32, -7e-31, f32::MIN_POSITIVE, 1e-45, -1e-45] {
            assert_eq!(dust.without_dust(), 0.0);
        }
        assert!(f32::NAN.without_dust().is_nan());
    }
}
