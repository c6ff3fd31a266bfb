//! The innermost matrix products: a tile of the output held in registers. Which tile is the fastest depends on the processor, and is found out when the program
//! runs. In single precision x86-64 has tiles of our own; everything else those of the `gemm` crates.

use gemm_common::microkernel::MicroKernelFn;

use super::tile::Tile;
#[cfg(target_arch = "x86_64")]
use super::{tile::TileFn, tiles};

/// The tiles of one instruction set. A tile has up to `packs * lanes` columns, which are computed side by side in vector
/// registers, and up to `rows` rows.
#[derive(Debug)]
pub struct Kernel<T: 'static> {
    lanes: usize,
    packs: usize,
    rows: usize,
    tiles: Tiles<T>,
}

/// Tiles by number of packs and then of rows, each from 1.
#[derive(Debug)]
enum Tiles<T: 'static> {
    /// Our own: for a left factor whose rows lie in order, and for a packed one.
    #[cfg(target_arch = "x86_64")]
    Own([&'static [TileFn<T>]; 2]),
    /// Those of the `gemm` crates, and the number one, by which they multiply.
    Crate(&'static [MicroKernelFn<T>], T),
}

impl<T: Copy> Kernel<T> {
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
        let number = (packs - 1) * self.rows + rows - 1;
        match &self.tiles {
            #[cfg(target_arch = "x86_64")]
            Tiles::Own([in_order, packed]) => {
                let tiles = if tile.left_depth == 1 { in_order } else { packed };
                // SAFETY: passed on to the caller; a kernel is only chosen where its instruction set is.
                unsafe { tiles[number](columns, &tile, add) }
            }
            Tiles::Crate(tiles, one) => {
                // SAFETY: passed on to the caller.
                unsafe {
                    tiles[number](
                        columns,
                        rows,
                        tile.depth,
                        tile.out,
                        tile.right,
                        tile.left,
                        tile.out_row,
                        1,
                        self.columns() as isize,
                        tile.left_depth,
                        tile.left_row,
                        *one,
                        *one,
                        u8::from(add),
                        false,
                        false,
                        false,
                        std::ptr::null(),
                    );
                }
            }
        }
    }
}

/// The kernel of a `gemm` crate with its tiles of one instruction set.
macro_rules! kernel_of_crate {
    ($number:ty, $tiles:path, $lanes:expr) => {{
        use $tiles as tiles;
        static KERNEL: Kernel<$number> = Kernel {
            lanes: $lanes,
            packs: tiles::MR_DIV_N,
            rows: tiles::NR,
            tiles: Tiles::Crate(tiles::UKR.as_flattened(), 1.0),
        };
        &KERNEL
    }};
}

/// Numbers that have kernels: `f32` and `f64`.
pub trait HasKernel: Sized + 'static {
    /// The fastest one that this processor can run.
    fn kernel() -> &'static Kernel<Self>;
}

impl HasKernel for f32 {
    fn kernel() -> &'static Kernel<Self> {
        #[cfg(target_arch = "x86_64")]
        {
            if std::arch::is_x86_feature_detected!("avx512f") {
                return &WIDE;
            }
            if std::arch::is_x86_feature_detected!("avx2") && std::arch::is_x86_feature_detected!("fma") {
                return &MIDDLE;
            }
        }
        #[cfg(target_arch = "aarch64")]
        if std::arch::is_aarch64_feature_detected!("neon") {
            return kernel_of_crate!(f32, gemm_f32::microkernel::neon::f32, 4);
        }
        kernel_of_crate!(f32, gemm_f32::microkernel::scalar::f32, 1)
    }
}

#[cfg(target_arch = "x86_64")]
static WIDE: Kernel<f32> = Kernel {
    lanes: 16,
    packs: tiles::WIDE_PACKS,
    rows: tiles::WIDE_ROWS,
    tiles: Tiles::Own([tiles::WIDE[0].as_flattened(), tiles::WIDE[1].as_flattened()]),
};

#[cfg(target_arch = "x86_64")]
static MIDDLE: Kernel<f32> = Kernel {
    lanes: 8,
    packs: tiles::MIDDLE_PACKS,
    rows: tiles::MIDDLE_ROWS,
    tiles: Tiles::Own([tiles::MIDDLE[0].as_flattened(), tiles::MIDDLE[1].as_flattened()]),
};

impl HasKernel for f64 {
    fn kernel() -> &'static Kernel<Self> {
        #[cfg(target_arch = "x86_64")]
        {
            if std::arch::is_x86_feature_detected!("avx512f") {
                return kernel_of_crate!(f64, gemm_f64::microkernel::avx512f::f64, 8);
            }
            if std::arch::is_x86_feature_detected!("fma") {
                return kernel_of_crate!(f64, gemm_f64::microkernel::fma::f64, 4);
            }
        }
        #[cfg(target_arch = "aarch64")]
        if std::arch::is_aarch64_feature_detected!("neon") {
            return kernel_of_crate!(f64, gemm_f64::microkernel::neon::f64, 2);
        }
        kernel_of_crate!(f64, gemm_f64::microkernel::scalar::f64, 1)
    }
}

#[cfg(all(test, target_arch = "x86_64"))]
mod tests {
    use super::{Kernel, MIDDLE, Tile, WIDE};

    /// The tiles that this processor can run.
    fn own() -> Vec<&'static Kernel<f32>> {
        let wide = std::arch::is_x86_feature_detected!("avx512f").then_some(&WIDE);
        let fma = std::arch::is_x86_feature_detected!("avx2") && std::arch::is_x86_feature_detected!("fma");
        wide.into_iter().chain(fma.then_some(&MIDDLE)).collect()
    }

    fn numbers(count: usize, seed: usize) -> Vec<f32> {
        (0..count).map(|i| ((i * 7919 + seed * 104_729) % 2111) as f32 / 700.0 - 1.5).collect()
    }

    /// A tile beside the same sums added up one product after another, with a margin around the output that must not change.
    fn check(kernel: &Kernel<f32>, (rows, columns, depth): (usize, usize, usize), packed: bool, add: bool) {
        let (width, height, stride) = (kernel.columns(), kernel.rows(), columns + 3);
        let (left, right) = (numbers(height * (depth + 2), 1), numbers(width * depth, 2));
        let (row_step, step) = if packed { (1, height) } else { (depth + 2, 1) };
        let before = numbers(rows * stride + width, 3);
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
                let sum = (0..depth).fold(0.0f32, |sum, place| {
                    left[row * row_step + place * step].mul_add(right[place * width + column], sum)
                });
                let to = &mut expected[row * stride + column];
                *to = if add { *to + sum } else { sum };
            }
        }
        assert_eq!(out, expected, "{rows} x {columns}, depth {depth}, packed {packed}, added {add}");
    }

    #[test]
    fn tiles_of_every_size_give_the_bits_of_adding_up_one_product_after_another() {
        for kernel in own() {
            for rows in 1..=kernel.rows() {
                for columns in 1..=kernel.columns() {
                    for depth in [1, 2, 3, 4, 5, 7, 8, 21] {
                        for mode in 0..4 {
                            check(kernel, (rows, columns, depth), mode & 1 == 1, mode & 2 == 2);
                        }
                    }
                }
            }
        }
    }
}
