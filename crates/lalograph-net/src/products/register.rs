//! Registers that hold several numbers.

/// A register of numbers.
///
/// # Safety
/// All functions need the instruction set of the register, and pointers to as many numbers as they read or write.
pub(super) trait Register: Copy {
    /// What it holds.
    type Number: Copy;

    /// Numbers in it.
    const LANES: usize;

    unsafe fn zero() -> Self;
    unsafe fn all(number: Self::Number) -> Self;
    unsafe fn load(from: *const Self::Number) -> Self;
    unsafe fn load_some(from: *const Self::Number, count: usize) -> Self;
    unsafe fn store(self, to: *mut Self::Number);
    unsafe fn store_some(self, to: *mut Self::Number, count: usize);
    unsafe fn plus(self, other: Self) -> Self;
    /// `self` + `a` * `b`, rounded once where the processor has such an instruction.
    unsafe fn plus_product(self, a: Self, b: Self) -> Self;
}

#[cfg(target_arch = "x86_64")]
mod x86_64 {
    use std::arch::x86_64 as x86;
    use std::arch::x86_64::{__m256, __m256d, __m256i, __m512};

    use super::Register;

    impl Register for __m512 {
        type Number = f32;

        const LANES: usize = 16;

        #[inline(always)]
        unsafe fn zero() -> Self {
            unsafe { x86::_mm512_setzero_ps() }
        }
        #[inline(always)]
        unsafe fn all(number: f32) -> Self {
            unsafe { x86::_mm512_set1_ps(number) }
        }
        #[inline(always)]
        unsafe fn load(from: *const f32) -> Self {
            unsafe { x86::_mm512_loadu_ps(from) }
        }
        #[inline(always)]
        unsafe fn load_some(from: *const f32, count: usize) -> Self {
            unsafe { x86::_mm512_maskz_loadu_ps((1 << count) - 1, from) }
        }
        #[inline(always)]
        unsafe fn store(self, to: *mut f32) {
            unsafe { x86::_mm512_storeu_ps(to, self) }
        }
        #[inline(always)]
        unsafe fn store_some(self, to: *mut f32, count: usize) {
            unsafe { x86::_mm512_mask_storeu_ps(to, (1 << count) - 1, self) }
        }
        #[inline(always)]
        unsafe fn plus(self, other: Self) -> Self {
            unsafe { x86::_mm512_add_ps(self, other) }
        }
        #[inline(always)]
        unsafe fn plus_product(self, a: Self, b: Self) -> Self {
            unsafe { x86::_mm512_fmadd_ps(a, b, self) }
        }
    }

    /// The mask of the first `count` of eight numbers.
    #[inline(always)]
    unsafe fn first_of_eight(count: usize) -> __m256i {
        unsafe {
            x86::_mm256_cmpgt_epi32(
                x86::_mm256_set1_epi32(count as i32),
                x86::_mm256_setr_epi32(0, 1, 2, 3, 4, 5, 6, 7),
            )
        }
    }

    /// The mask of the first `count` of four numbers in double precision.
    #[inline(always)]
    unsafe fn first_of_four(count: usize) -> __m256i {
        unsafe {
            x86::_mm256_cmpgt_epi64(
                x86::_mm256_set1_epi64x(count as i64),
                x86::_mm256_setr_epi64x(0, 1, 2, 3),
            )
        }
    }

    /// A register of AVX2: only the instructions differ by its numbers.
    macro_rules! middle_register {
        ($register:ty, $number:ty, $lanes:literal, $first:ident, [$zero:ident, $all:ident, $load:ident, $load_some:ident],
         [$store:ident, $store_some:ident, $add:ident, $fused:ident]) => {
            impl Register for $register {
                type Number = $number;

                const LANES: usize = $lanes;

                #[inline(always)]
                unsafe fn zero() -> Self {
                    unsafe { x86::$zero() }
                }
                #[inline(always)]
                unsafe fn all(number: $number) -> Self {
                    unsafe { x86::$all(number) }
                }
                #[inline(always)]
                unsafe fn load(from: *const $number) -> Self {
                    unsafe { x86::$load(from) }
                }
                #[inline(always)]
                unsafe fn load_some(from: *const $number, count: usize) -> Self {
                    unsafe { x86::$load_some(from, $first(count)) }
                }
                #[inline(always)]
                unsafe fn store(self, to: *mut $number) {
                    unsafe { x86::$store(to, self) }
                }
                #[inline(always)]
                unsafe fn store_some(self, to: *mut $number, count: usize) {
                    unsafe { x86::$store_some(to, $first(count), self) }
                }
                #[inline(always)]
                unsafe fn plus(self, other: Self) -> Self {
                    unsafe { x86::$add(self, other) }
                }
                #[inline(always)]
                unsafe fn plus_product(self, a: Self, b: Self) -> Self {
                    unsafe { x86::$fused(a, b, self) }
                }
            }
        };
    }

    middle_register!(
        __m256,
        f32,
        8,
        first_of_eight,
        [_mm256_setzero_ps, _mm256_set1_ps, _mm256_loadu_ps, _mm256_maskload_ps],
        [_mm256_storeu_ps, _mm256_maskstore_ps, _mm256_add_ps, _mm256_fmadd_ps]
    );
    middle_register!(
        __m256d,
        f64,
        4,
        first_of_four,
        [_mm256_setzero_pd, _mm256_set1_pd, _mm256_loadu_pd, _mm256_maskload_pd],
        [_mm256_storeu_pd, _mm256_maskstore_pd, _mm256_add_pd, _mm256_fmadd_pd]
    );
}

#[cfg(target_arch = "aarch64")]
mod aarch64 {
    use std::arch::aarch64 as arm;
    use std::arch::aarch64::float32x4_t;

    use super::Register;

    impl Register for float32x4_t {
        type Number = f32;

        const LANES: usize = 4;

        #[inline(always)]
        unsafe fn zero() -> Self {
            unsafe { Self::all(0.0) }
        }
        #[inline(always)]
        unsafe fn all(number: f32) -> Self {
            unsafe { arm::vdupq_n_f32(number) }
        }
        #[inline(always)]
        unsafe fn load(from: *const f32) -> Self {
            unsafe { arm::vld1q_f32(from) }
        }
        #[inline(always)]
        unsafe fn load_some(from: *const f32, count: usize) -> Self {
            let mut all = [0.0; Self::LANES];
            unsafe {
                std::ptr::copy_nonoverlapping(from, all.as_mut_ptr(), count);
                Self::load(all.as_ptr())
            }
        }
        #[inline(always)]
        unsafe fn store(self, to: *mut f32) {
            unsafe { arm::vst1q_f32(to, self) }
        }
        #[inline(always)]
        unsafe fn store_some(self, to: *mut f32, count: usize) {
            let mut all = [0.0; Self::LANES];
            unsafe {
                self.store(all.as_mut_ptr());
                std::ptr::copy_nonoverlapping(all.as_ptr(), to, count);
            }
        }
        #[inline(always)]
        unsafe fn plus(self, other: Self) -> Self {
            unsafe { arm::vaddq_f32(self, other) }
        }
        #[inline(always)]
        unsafe fn plus_product(self, a: Self, b: Self) -> Self {
            unsafe { arm::vfmaq_f32(self, a, b) }
        }
    }
}

/// What holds numbers on any processor: the compiler finds registers for them.
#[derive(Debug, Clone, Copy)]
pub(super) struct Plain<T, const LANES: usize>([T; LANES]);

/// Whether products are added with one rounding. Without the instruction for it that takes a hundred times as long.
pub(super) const FUSED: bool = cfg!(any(target_feature = "fma", target_arch = "aarch64"));

macro_rules! plain_register {
    ($number:ty) => {
        impl<const LANES: usize> Register for Plain<$number, LANES> {
            type Number = $number;

            const LANES: usize = LANES;

            #[inline(always)]
            unsafe fn zero() -> Self {
                Self([0.0; LANES])
            }
            #[inline(always)]
            unsafe fn all(number: $number) -> Self {
                Self([number; LANES])
            }
            #[inline(always)]
            unsafe fn load(from: *const $number) -> Self {
                unsafe { Self(from.cast::<[$number; LANES]>().read()) }
            }
            #[inline(always)]
            unsafe fn load_some(from: *const $number, count: usize) -> Self {
                let mut all = [0.0; LANES];
                unsafe { std::ptr::copy_nonoverlapping(from, all.as_mut_ptr(), count) };
                Self(all)
            }
            #[inline(always)]
            unsafe fn store(self, to: *mut $number) {
                unsafe { to.cast::<[$number; LANES]>().write(self.0) }
            }
            #[inline(always)]
            unsafe fn store_some(self, to: *mut $number, count: usize) {
                unsafe { std::ptr::copy_nonoverlapping(self.0.as_ptr(), to, count) }
            }
            #[inline(always)]
            unsafe fn plus(mut self, other: Self) -> Self {
                self.0.iter_mut().zip(other.0).for_each(|(number, other)| *number += other);
                self
            }
            #[inline(always)]
            unsafe fn plus_product(mut self, a: Self, b: Self) -> Self {
                for (sum, (a, b)) in self.0.iter_mut().zip(a.0.into_iter().zip(b.0)) {
                    *sum = if FUSED { a.mul_add(b, *sum) } else { *sum + a * b };
                }
                self
            }
        }
    };
}

plain_register!(f32);
plain_register!(f64);
