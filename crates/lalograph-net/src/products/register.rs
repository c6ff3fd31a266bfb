//! Registers of x86-64 that hold several numbers in single precision.

use std::arch::x86_64 as x86;
use std::arch::x86_64::{__m256, __m256i, __m512};

/// A register of numbers in single precision.
///
/// # Safety
/// All functions need the instruction set of the register, and pointers to as many numbers as they read or write.
pub(super) trait Register: Copy {
    /// Numbers in it.
    const LANES: usize;

    unsafe fn zero() -> Self;
    unsafe fn all(number: f32) -> Self;
    unsafe fn load(from: *const f32) -> Self;
    unsafe fn load_some(from: *const f32, count: usize) -> Self;
    unsafe fn store(self, to: *mut f32);
    unsafe fn store_some(self, to: *mut f32, count: usize);
    unsafe fn plus(self, other: Self) -> Self;
    /// `self` + `a` * `b`, rounded once.
    unsafe fn plus_product(self, a: Self, b: Self) -> Self;
}

impl Register for __m512 {
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

impl Register for __m256 {
    const LANES: usize = 8;

    #[inline(always)]
    unsafe fn zero() -> Self {
        unsafe { x86::_mm256_setzero_ps() }
    }
    #[inline(always)]
    unsafe fn all(number: f32) -> Self {
        unsafe { x86::_mm256_set1_ps(number) }
    }
    #[inline(always)]
    unsafe fn load(from: *const f32) -> Self {
        unsafe { x86::_mm256_loadu_ps(from) }
    }
    #[inline(always)]
    unsafe fn load_some(from: *const f32, count: usize) -> Self {
        unsafe { x86::_mm256_maskload_ps(from, first_of_eight(count)) }
    }
    #[inline(always)]
    unsafe fn store(self, to: *mut f32) {
        unsafe { x86::_mm256_storeu_ps(to, self) }
    }
    #[inline(always)]
    unsafe fn store_some(self, to: *mut f32, count: usize) {
        unsafe { x86::_mm256_maskstore_ps(to, first_of_eight(count), self) }
    }
    #[inline(always)]
    unsafe fn plus(self, other: Self) -> Self {
        unsafe { x86::_mm256_add_ps(self, other) }
    }
    #[inline(always)]
    unsafe fn plus_product(self, a: Self, b: Self) -> Self {
        unsafe { x86::_mm256_fmadd_ps(a, b, self) }
    }
}
