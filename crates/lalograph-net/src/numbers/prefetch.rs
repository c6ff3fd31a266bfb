//! Telling the processor what will be read soon.

/// Asks for numbers that will be read soon, so that they are in the cache by then: rows of a table here and there, which a processor cannot foresee. On processors other
/// than those of x86-64 it does nothing.
#[inline(always)]
pub fn prefetch<T>(numbers: &[T]) {
    #[cfg(target_arch = "x86_64")]
    for line in numbers.chunks((LINE / size_of::<T>()).max(1)) {
        use std::arch::x86_64::{_MM_HINT_T0, _mm_prefetch};
        // SAFETY: asking for a line of the cache reads nothing, and the address is that of numbers that are there.
        unsafe { _mm_prefetch::<_MM_HINT_T0>(line.as_ptr().cast()) };
    }
    #[cfg(not(target_arch = "x86_64"))]
    let _ = numbers;
}

/// Bytes of a line of the cache.
#[cfg(target_arch = "x86_64")]
const LINE: usize = 64;
