//! The innermost matrix products: a tile of the output held in registers. Which tiles are the fastest depends on the processor, and is found out when the program
//! runs.

use super::tile::Tile;
use super::tiles::{self, TileFn, Tiles};

/// The tiles of one instruction set. A tile has up to `packs * lanes` columns, which are computed side by side in vector
/// registers, and up to `rows` rows.
#[derive(Debug)]
pub struct Kernel<T: 'static> {
    lanes: usize,
    packs: usize,
    rows: usize,
    /// For a left factor whose rows lie in order, and for a packed one: by number of packs and then of rows, each from 1.
    tiles: [&'static [TileFn<T>]; 2],
}

impl<T: Copy> Kernel<T> {
    const fn new<const PACKS: usize, const ROWS: usize>(
        lanes: usize,
        tiles: &'static Tiles<T, PACKS, ROWS>,
    ) -> Self {
        let [in_order, packed] = tiles;
        Self { lanes, packs: PACKS, rows: ROWS, tiles: [in_order.as_flattened(), packed.as_flattened()] }
    }

    /// Columns of a whole tile, and of a packed panel.
    pub(crate) fn columns(&self) -> usize {
        self.lanes * self.packs
    }

    /// Rows of a whole tile.
    pub(crate) fn rows(&self) -> usize {
        self.rows
    }

    /// Computes a tile of `rows` x `columns`; it replaces what is in the output or is added to it.
    ///
    /// # Safety
    /// All places that the sizes and distances reach must be readable, those of the output writable and not shared.
    #[inline(always)]
    pub(crate) unsafe fn run(&self, rows: usize, columns: usize, tile: Tile<T>, add: bool) {
        let packs = columns.div_ceil(self.lanes);
        let [in_order, packed] = self.tiles;
        let tiles = if tile.left_depth == 1 { in_order } else { packed };
        // SAFETY: passed on to the caller; a kernel is only chosen where its instruction set is.
        unsafe { tiles[(packs - 1) * self.rows + rows - 1](columns, &tile, add) }
    }
}

/// Numbers that have kernels: `f32` and `f64`.
pub trait HasKernel: Sized + 'static {
    /// The fastest one that this processor can run.
    fn kernel() -> &'static Kernel<Self>;
}

#[cfg(target_arch = "x86_64")]
static WIDE: Kernel<f32> = Kernel::new(16, &tiles::WIDE);
#[cfg(target_arch = "x86_64")]
static MIDDLE: Kernel<f32> = Kernel::new(8, &tiles::MIDDLE);
#[cfg(target_arch = "x86_64")]
static MIDDLE_DOUBLE: Kernel<f64> = Kernel::new(4, &tiles::MIDDLE_DOUBLE);
#[cfg(target_arch = "aarch64")]
static NEON: Kernel<f32> = Kernel::new(4, &tiles::NEON);
#[cfg(any(test, not(target_arch = "aarch64")))]
static PLAIN: Kernel<f32> = Kernel::new(4, &tiles::PLAIN);
static PLAIN_DOUBLE: Kernel<f64> = Kernel::new(2, &tiles::PLAIN_DOUBLE);

/// Whether this processor multiplies and adds in AVX2.
#[cfg(target_arch = "x86_64")]
fn has_middle() -> bool {
    std::arch::is_x86_feature_detected!("avx2") && std::arch::is_x86_feature_detected!("fma")
}

impl HasKernel for f32 {
    #[cfg(target_arch = "aarch64")]
    fn kernel() -> &'static Kernel<Self> {
        // Every processor of this kind has it.
        &NEON
    }

    #[cfg(not(target_arch = "aarch64"))]
    fn kernel() -> &'static Kernel<Self> {
        #[cfg(target_arch = "x86_64")]
        {
            if std::arch::is_x86_feature_detected!("avx512f") {
                return &WIDE;
            }
            if has_middle() {
                return &MIDDLE;
            }
        }
        &PLAIN
    }
}

impl HasKernel for f64 {
    fn kernel() -> &'static Kernel<Self> {
        #[cfg(target_arch = "x86_64")]
        if has_middle() {
            return &MIDDLE_DOUBLE;
        }
        &PLAIN_DOUBLE
    }
}

#[cfg(test)]
mod tests {
    use super::{Kernel, Tile};
    use crate::numbers::real::Real;

    fn numbers<T: Real>(count: usize, seed: usize) -> Vec<T> {
        (0..count).map(|i| T::of(((i * 7919 + seed * 104_729) % 2111) as f64 / 700.0 - 1.5)).collect()
    }

    /// A tile beside the same sums added up one product after another, with a margin around the output that must not change.
    fn check<T: Real>(
        kernel: &Kernel<T>,
        plus_product: impl Fn(T, T, T) -> T,
        (rows, columns, depth): (usize, usize, usize),
        packed: bool,
        add: bool,
    ) {
        let (width, height, stride) = (kernel.columns(), kernel.rows(), columns + 3);
        let (left, right) = (numbers::<T>(height * (depth + 2), 1), numbers::<T>(width * depth, 2));
        let (row_step, step) = if packed { (1, height) } else { (depth + 2, 1) };
        let before = numbers::<T>(rows * stride + width, 3);
        let mut out = before.clone();
        let tile = Tile {
            depth,
            left: left.as_ptr(),
            left_row: row_step as isize,
            left_depth: step as isize,
            right: right.as_ptr(),
            out: out.as_mut_ptr(),
            out_row: stride as isize,
        };
        // SAFETY: all arrays are as large as the sizes say, and the kernel is one of this processor.
        unsafe { kernel.run(rows, columns, tile, add) };
        let mut expected = before.clone();
        for row in 0..rows {
            for column in 0..columns {
                let sum = (0..depth).fold(T::ZERO, |sum, place| {
                    plus_product(sum, left[row * row_step + place * step], right[place * width + column])
                });
                let to = &mut expected[row * stride + column];
                *to = if add { *to + sum } else { sum };
            }
        }
        assert_eq!(out, expected, "{rows} x {columns}, depth {depth}, packed {packed}, added {add}");
    }

    fn check_all<T: Real>(kernel: &Kernel<T>, plus_product: impl Fn(T, T, T) -> T + Copy) {
        for rows in 1..=kernel.rows() {
            for columns in 1..=kernel.columns() {
                for depth in [1, 2, 3, 4, 5, 7, 8, 21] {
                    for mode in 0..4 {
                        let sizes = (rows, columns, depth);
                        check(kernel, plus_product, sizes, mode & 1 == 1, mode & 2 == 2);
                    }
                }
            }
        }
    }

    #[test]
    fn tiles_of_every_size_give_the_bits_of_adding_up_one_product_after_another() {
        // Plain tiles round once where every processor of the kind can do so.
        if super::super::register::FUSED {
            check_all(&super::PLAIN, |sum, a, b| f32::mul_add(a, b, sum));
            check_all(&super::PLAIN_DOUBLE, |sum, a, b| f64::mul_add(a, b, sum));
        } else {
            check_all(&super::PLAIN, |sum, a, b| sum + a * b);
            check_all(&super::PLAIN_DOUBLE, |sum, a, b| sum + a * b);
        }
        #[cfg(target_arch = "x86_64")]
        {
            if std::arch::is_x86_feature_detected!("avx512f") {
                check_all(&super::WIDE, |sum, a, b| f32::mul_add(a, b, sum));
            }
            if super::has_middle() {
                check_all(&super::MIDDLE, |sum, a, b| f32::mul_add(a, b, sum));
                check_all(&super::MIDDLE_DOUBLE, |sum, a, b| f64::mul_add(a, b, sum));
            }
        }
        #[cfg(target_arch = "aarch64")]
        check_all(&super::NEON, |sum, a, b| f32::mul_add(a, b, sum));
    }
}
