//! The innermost matrix products, taken from the `gemm` family: a tile of the output held in registers. Which tile is the
//! fastest depends on the processor, and is found out when the program runs.

use gemm_common::microkernel::MicroKernelFn;

/// The tiles of one instruction set. A tile has up to `packs * lanes` columns, which are computed side by side in vector
/// registers, and up to `rows` rows.
#[derive(Debug)]
pub struct Kernel<T: 'static> {
    lanes: usize,
    packs: usize,
    rows: usize,
    /// The number one, by which the tiles multiply.
    one: T,
    /// By number of packs and then of rows, each from 1.
    tiles: &'static [MicroKernelFn<T>],
}

/// Positions of a tile's factors and of its product.
pub(crate) struct Tile<T> {
    /// Products added up for each number.
    pub(crate) depth: usize,
    /// Left factor: the first number, the distance between rows, and between numbers along the depth.
    pub(crate) left: *const T,
    pub(crate) left_row: isize,
    pub(crate) left_depth: isize,
    /// Right factor, packed: [`Kernel::columns`] numbers for each place along the depth.
    pub(crate) right: *const T,
    /// Output: the first number and the distance between rows.
    pub(crate) out: *mut T,
    pub(crate) out_row: isize,
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
        let function = self.tiles[(packs - 1) * self.rows + rows - 1];
        // SAFETY: passed on to the caller.
        unsafe {
            function(
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
                self.one,
                self.one,
                u8::from(add),
                false,
                false,
                false,
                std::ptr::null(),
            );
        }
    }
}

macro_rules! kernels {
    ($number:ty, $of:ident, $module:ident, $lanes_256:expr) => {
        impl HasKernel for $number {
            fn kernel() -> &'static Kernel<Self> {
                #[cfg(target_arch = "x86_64")]
                {
                    use $of::microkernel::{avx512f, fma};
                    static WIDE: Kernel<$number> = Kernel {
                        lanes: 2 * $lanes_256,
                        packs: avx512f::$module::MR_DIV_N,
                        rows: avx512f::$module::NR,
                        one: 1.0,
                        tiles: avx512f::$module::UKR.as_flattened(),
                    };
                    static MIDDLE: Kernel<$number> = Kernel {
                        lanes: $lanes_256,
                        packs: fma::$module::MR_DIV_N,
                        rows: fma::$module::NR,
                        one: 1.0,
                        tiles: fma::$module::UKR.as_flattened(),
                    };
                    if std::arch::is_x86_feature_detected!("avx512f") {
                        return &WIDE;
                    }
                    if std::arch::is_x86_feature_detected!("fma") {
                        return &MIDDLE;
                    }
                }
                #[cfg(target_arch = "aarch64")]
                {
                    use $of::microkernel::neon;
                    static NEON: Kernel<$number> = Kernel {
                        lanes: $lanes_256 / 2,
                        packs: neon::$module::MR_DIV_N,
                        rows: neon::$module::NR,
                        one: 1.0,
                        tiles: neon::$module::UKR.as_flattened(),
                    };
                    if std::arch::is_aarch64_feature_detected!("neon") {
                        return &NEON;
                    }
                }
                use $of::microkernel::scalar;
                static PLAIN: Kernel<$number> = Kernel {
                    lanes: 1,
                    packs: scalar::$module::MR_DIV_N,
                    rows: scalar::$module::NR,
                    one: 1.0,
                    tiles: scalar::$module::UKR.as_flattened(),
                };
                &PLAIN
            }
        }
    };
}

/// Numbers that have kernels: `f32` and `f64`.
pub trait HasKernel: Sized + 'static {
    /// The fastest one that this processor can run.
    fn kernel() -> &'static Kernel<Self>;
}

kernels!(f32, gemm_f32, f32, 8);
kernels!(f64, gemm_f64, f64, 4);
