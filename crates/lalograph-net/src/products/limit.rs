//! How many multiplications and additions a processor can do at all: in registers, without memory.

use std::hint::black_box;

use super::register::{Plain, Register};

/// Sums that are under way at once. A processor begins two multiply-adds a cycle and has the result of each four cycles later, so eight are the least.
const SUMS: usize = 12;
/// Products for each sum in one call: about a millisecond.
const PRODUCTS: usize = 200_000;

/// A set of instructions of this processor, and how fast it multiplies and adds in them.
#[derive(Debug, Clone, Copy)]
pub struct Instructions {
    /// Its name.
    pub name: &'static str,
    run: fn() -> usize,
}

impl Instructions {
    /// Multiplies and adds for about a millisecond on the calling thread; returns the number of operations, two for each number.
    ///
    /// ```
    /// use lalograph_net::products::limit::Instructions;
    /// let widest = Instructions::of_this_machine()[0];
    /// println!("{}: {} operations", widest.name, widest.run());
    /// assert!(widest.run() > 0);
    /// ```
    pub fn run(self) -> usize {
        (self.run)()
    }

    /// Those of this processor, the widest first; at least one.
    pub fn of_this_machine() -> Vec<Self> {
        let mut all = Vec::new();
        #[cfg(target_arch = "x86_64")]
        {
            if std::arch::is_x86_feature_detected!("avx512f") {
                all.push(Self { name: "AVX-512", run: x86_64::wide });
            }
            if std::arch::is_x86_feature_detected!("avx2") && std::arch::is_x86_feature_detected!("fma") {
                all.push(Self { name: "AVX2", run: x86_64::middle });
            }
        }
        #[cfg(target_arch = "aarch64")]
        all.push(Self { name: "NEON", run: neon });
        if all.is_empty() {
            all.push(Self { name: "plain", run: plain });
        }
        all
    }
}

/// # Safety
/// The instruction set of `R` must be there.
#[inline(always)]
unsafe fn multiply_and_add<R: Register<Number = f32>>() -> usize {
    // SAFETY: the caller sees to the instructions; no memory is read or written but `number`.
    unsafe {
        let (factor, other) = (R::all(black_box(0.999)), R::all(black_box(0.001)));
        let mut sums = [R::all(black_box(0.7)); SUMS];
        for _ in 0..PRODUCTS {
            for sum in &mut sums {
                *sum = other.plus_product(factor, *sum);
            }
        }
        let mut total = R::zero();
        for sum in sums {
            total = total.plus(sum);
        }
        let mut number = 0.0f32;
        total.store_some(&raw mut number, 1);
        black_box(number);
    }
    2 * PRODUCTS * SUMS * R::LANES
}

#[cfg(target_arch = "x86_64")]
mod x86_64 {
    use std::arch::x86_64::{__m256, __m512};

    use super::multiply_and_add;

    #[target_feature(enable = "avx512f")]
    unsafe fn in_avx_512() -> usize {
        // SAFETY: passed on to the caller.
        unsafe { multiply_and_add::<__m512>() }
    }

    #[target_feature(enable = "avx2,fma")]
    unsafe fn in_avx2() -> usize {
        // SAFETY: passed on to the caller.
        unsafe { multiply_and_add::<__m256>() }
    }

    pub(super) fn wide() -> usize {
        // SAFETY: only listed where the processor has these instructions.
        unsafe { in_avx_512() }
    }

    pub(super) fn middle() -> usize {
        // SAFETY: only listed where the processor has these instructions.
        unsafe { in_avx2() }
    }
}

#[cfg(target_arch = "aarch64")]
fn neon() -> usize {
    // SAFETY: every processor of this kind has these instructions.
    unsafe { multiply_and_add::<std::arch::aarch64::float32x4_t>() }
}

/// In whatever registers the compiler finds.
fn plain() -> usize {
    // SAFETY: it needs no instructions that are not everywhere.
    unsafe { multiply_and_add::<Plain<f32, 4>>() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_set_of_instructions_counts_its_operations() {
        for instructions in Instructions::of_this_machine() {
            let lanes = instructions.run() / (2 * PRODUCTS * SUMS);
            let expected = match instructions.name {
                "AVX-512" => 16,
                "AVX2" => 8,
                _ => 4,
            };
            assert_eq!(lanes, expected, "{}", instructions.name);
        }
        assert_eq!(plain(), 4 * 2 * PRODUCTS * SUMS);
    }
}
