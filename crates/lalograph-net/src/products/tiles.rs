//! The innermost products: tiles of registers that ask for their right factor ahead of time.
//!
//! The right factor of a tile is longer than the first-level cache, and comes from the second or third. Processors begin to fetch a line when the line before is read,
//! which is too late for both: asking four kilobytes ahead makes products a quarter to a half quicker. The numbers are those of adding up one product
//! after another with one rounding each (fused multiply-add), for any size of a tile and any instruction set that has this.

#[cfg(target_arch = "aarch64")]
use std::arch::aarch64::float32x4_t;
#[cfg(target_arch = "x86_64")]
use std::arch::x86_64::{__m256, __m256d, __m512};

use super::register::{Plain, Register};
use super::tile::Tile;
use crate::numbers::prefetch::{LINE, prefetch_line};

/// Bytes of the right factor between what is read and what is asked for.
const AHEAD: usize = 4608;
/// Places along the depth between two jumps.
const UNROLLED: usize = 4;

/// Rows of a whole tile where there are 32 registers: with [`MANY_PACKS`] it takes 24 of them for sums, 3 for the right factor and 1 for the left.
#[cfg(any(target_arch = "x86_64", target_arch = "aarch64"))]
pub(super) const MANY_ROWS: usize = 8;
/// Registers beside each other in a row of it.
#[cfg(any(target_arch = "x86_64", target_arch = "aarch64"))]
pub(super) const MANY_PACKS: usize = 3;
/// Rows of a whole tile where there are 16 registers: 12 for sums, 2 for the right factor and 1 for the left.
pub(super) const FEW_ROWS: usize = 6;
/// Registers beside each other in a row of it.
pub(super) const FEW_PACKS: usize = 2;

/// The columns of a tile, where it is, and whether the product is added to what is there.
pub(crate) type TileFn<T> = unsafe fn(usize, &Tile<T>, bool);

/// Tiles for a left factor whose rows lie in order, and for a packed one: by number of registers in a row, then of rows, each from 1.
pub(super) type Tiles<T, const PACKS: usize, const ROWS: usize> = [[[TileFn<T>; ROWS]; PACKS]; 2];

/// Adds the products at one place along the depth: of a number of the left factor for each row, `row_step` apart, with some of the right factor.
///
/// # Safety
/// Those numbers must be readable, and the instruction set of `R` there.
#[inline(always)]
unsafe fn add_products<R: Register, const PACKS: usize, const ROWS: usize>(
    left: *const R::Number,
    row_step: usize,
    right: *const R::Number,
    sums: &mut [[R; PACKS]; ROWS],
) {
    // SAFETY: passed on to the caller.
    unsafe {
        let mut factors = [R::zero(); PACKS];
        for (pack, factor) in factors.iter_mut().enumerate() {
            *factor = R::load(right.add(pack * R::LANES));
        }
        for line in 0..(PACKS * size_of::<R>()).div_ceil(LINE) {
            prefetch_line(right.wrapping_add((AHEAD + line * LINE) / size_of::<R::Number>()));
        }
        for (row, sums) in sums.iter_mut().enumerate() {
            let number = R::all(*left.add(row * row_step));
            for (sum, &factor) in sums.iter_mut().zip(&factors) {
                *sum = sum.plus_product(number, factor);
            }
        }
    }
}

/// Computes a tile of `ROWS` rows in `PACKS` registers of each row, of which the last one may have fewer numbers. A packed panel of the right factor has
/// `PANEL` registers a row. If the left factor is packed (`PACKED`) its rows lie beside each other, `HEIGHT` to a place along the depth; else each lies in order.
///
/// # Safety
/// As for [`super::kernel::Kernel::run`]; the instruction set of `R` is needed.
#[inline(always)]
unsafe fn tile<
    R: Register,
    const PANEL: usize,
    const HEIGHT: usize,
    const PACKS: usize,
    const ROWS: usize,
    const PACKED: bool,
>(
    columns: usize,
    tile: &Tile<R::Number>,
    add: bool,
) {
    let width = PANEL * R::LANES;
    // SAFETY: the caller's places are read and written, and none beside them.
    unsafe {
        let mut sums = [[R::zero(); PACKS]; ROWS];
        for row in 0..ROWS {
            for pack in 0..PACKS {
                prefetch_line(
                    tile.out.wrapping_offset(row as isize * tile.out_row).wrapping_add(pack * R::LANES),
                );
            }
        }
        let (mut left, mut right) = (tile.left, tile.right);
        let (row_step, step) = if PACKED { (1, HEIGHT) } else { (tile.left_row as usize, 1) };
        for _ in 0..tile.depth / UNROLLED {
            for place in 0..UNROLLED {
                let (left, right) = (left.wrapping_add(place * step), right.wrapping_add(place * width));
                add_products(left, row_step, right, &mut sums);
            }
            left = left.wrapping_add(UNROLLED * step);
            right = right.wrapping_add(UNROLLED * width);
        }
        for _ in 0..tile.depth % UNROLLED {
            add_products(left, row_step, right, &mut sums);
            left = left.wrapping_add(step);
            right = right.wrapping_add(width);
        }
        for (row, sums) in sums.iter().enumerate() {
            let to = tile.out.offset(row as isize * tile.out_row);
            for (pack, &sum) in sums.iter().enumerate() {
                let (to, count) = (to.add(pack * R::LANES), columns - pack * R::LANES);
                if count >= R::LANES {
                    (if add { R::load(to).plus(sum) } else { sum }).store(to);
                } else {
                    let sum = if add { R::load_some(to, count).plus(sum) } else { sum };
                    sum.store_some(to, count);
                }
            }
        }
    }
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx512f")]
unsafe fn wide<const PACKS: usize, const ROWS: usize, const PACKED: bool>(
    columns: usize,
    at: &Tile<f32>,
    add: bool,
) {
    // SAFETY: passed on to the caller.
    unsafe { tile::<__m512, MANY_PACKS, MANY_ROWS, PACKS, ROWS, PACKED>(columns, at, add) }
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx2,fma")]
unsafe fn middle<const PACKS: usize, const ROWS: usize, const PACKED: bool>(
    columns: usize,
    at: &Tile<f32>,
    add: bool,
) {
    // SAFETY: passed on to the caller.
    unsafe { tile::<__m256, FEW_PACKS, FEW_ROWS, PACKS, ROWS, PACKED>(columns, at, add) }
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx2,fma")]
unsafe fn middle_double<const PACKS: usize, const ROWS: usize, const PACKED: bool>(
    columns: usize,
    at: &Tile<f64>,
    add: bool,
) {
    // SAFETY: passed on to the caller.
    unsafe { tile::<__m256d, FEW_PACKS, FEW_ROWS, PACKS, ROWS, PACKED>(columns, at, add) }
}

#[cfg(target_arch = "aarch64")]
unsafe fn neon<const PACKS: usize, const ROWS: usize, const PACKED: bool>(
    columns: usize,
    at: &Tile<f32>,
    add: bool,
) {
    // SAFETY: passed on to the caller.
    unsafe { tile::<float32x4_t, MANY_PACKS, MANY_ROWS, PACKS, ROWS, PACKED>(columns, at, add) }
}

unsafe fn plain<const PACKS: usize, const ROWS: usize, const PACKED: bool>(
    columns: usize,
    at: &Tile<f32>,
    add: bool,
) {
    // SAFETY: passed on to the caller.
    unsafe { tile::<Plain<f32, 4>, FEW_PACKS, FEW_ROWS, PACKS, ROWS, PACKED>(columns, at, add) }
}

unsafe fn plain_double<const PACKS: usize, const ROWS: usize, const PACKED: bool>(
    columns: usize,
    at: &Tile<f64>,
    add: bool,
) {
    // SAFETY: passed on to the caller.
    unsafe { tile::<Plain<f64, 2>, FEW_PACKS, FEW_ROWS, PACKS, ROWS, PACKED>(columns, at, add) }
}

/// Tiles of one instruction set with these numbers of registers in a row and of rows.
macro_rules! tiles {
    ($tile:ident, ($($packs:literal)*), $rows:tt) => {
        [
            [$(tiles!($tile, $packs, false, $rows)),*],
            [$(tiles!($tile, $packs, true, $rows)),*],
        ]
    };
    ($tile:ident, $packs:literal, $packed:literal, ($($rows:literal)*)) => {
        [$($tile::<$packs, $rows, $packed> as TileFn<_>),*]
    };
}

/// Single precision in AVX-512.
#[cfg(target_arch = "x86_64")]
pub(super) static WIDE: Tiles<f32, MANY_PACKS, MANY_ROWS> = tiles!(wide, (1 2 3), (1 2 3 4 5 6 7 8));

/// Single precision in AVX2.
#[cfg(target_arch = "x86_64")]
pub(super) static MIDDLE: Tiles<f32, FEW_PACKS, FEW_ROWS> = tiles!(middle, (1 2), (1 2 3 4 5 6));

/// Double precision in AVX2.
#[cfg(target_arch = "x86_64")]
pub(super) static MIDDLE_DOUBLE: Tiles<f64, FEW_PACKS, FEW_ROWS> =
    tiles!(middle_double, (1 2), (1 2 3 4 5 6));

/// Single precision in NEON.
#[cfg(target_arch = "aarch64")]
pub(super) static NEON: Tiles<f32, MANY_PACKS, MANY_ROWS> = tiles!(neon, (1 2 3), (1 2 3 4 5 6 7 8));

/// Single precision on any processor.
pub(super) static PLAIN: Tiles<f32, FEW_PACKS, FEW_ROWS> = tiles!(plain, (1 2), (1 2 3 4 5 6));

/// Double precision on any processor.
pub(super) static PLAIN_DOUBLE: Tiles<f64, FEW_PACKS, FEW_ROWS> = tiles!(plain_double, (1 2), (1 2 3 4 5 6));
