//! Telling the processor what will be read soon.

/// Bytes of a line of the cache.
pub const LINE: usize = 64;

/// Asks for numbers that will be read soon, so that they are in the cache by then: rows of a table here and there, which a processor cannot foresee. On processors other
/// than those of x86-64 it does nothing.
#[inline(always)]
pub fn prefetch<T>(numbers: &[T]) {
    for line in numbers.chunks((LINE / size_of::<T>()).max(1)) {
        prefetch_line(line.as_ptr());
    }
}

/// Asks for the line of the cache that holds a number, wherever it is: nothing is read.
#[inline(always)]
pub fn prefetch_line<T>(number: *const T) {
    #[cfg(target_arch = "x86_64")]
    {
        use std::arch::x86_64::{_MM_HINT_T0, _mm_prefetch};
        // SAFETY: asking reads nothing, and may be about any address.
        unsafe { _mm_prefetch::<_MM_HINT_T0>(number.cast()) };
    }
    #[cfg(not(target_arch = "x86_64"))]
    let _ = number;
}
