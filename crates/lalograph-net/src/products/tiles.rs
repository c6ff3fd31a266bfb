//! Innermost products of our own, for processors of x86-64 with wide registers: tiles in single precision that ask for their right factor ahead of time.
//!
//! The right factor of a tile is longer than the first-level cache, and comes from the second or third. Processors begin to fetch a line when the line before is read,
//! which is too late for both: asking four kilobytes ahead makes products a quarter to a half quicker. The numbers are those of adding up one product
//! after another with one rounding each (fused multiply-add), for any size of a tile and any of the instruction sets.

use std::arch::x86_64::{__m256, __m512, _MM_HINT_T0, _mm_prefetch};

use super::register::Register;
use super::tile::{Tile, TileFn};

/// Numbers of the right factor between the one that is read and the one that is asked for.
const AHEAD: usize = 1152;
/// Numbers of a line of the cache.
const LINE: usize = 16;
/// Places along the depth between two jumps.
const UNROLLED: usize = 4;

/// Rows of a whole tile of AVX-512: with [`WIDE_PACKS`] it takes 24 of 32 registers for sums, 3 for the right factor and 1 for the left.
pub(super) const WIDE_ROWS: usize = 8;
/// Registers beside each other in a row of it.
pub(super) const WIDE_PACKS: usize = 3;
/// Rows of a whole tile of AVX2: 12 of 16 registers for sums, 2 for the right factor and 1 for the left.
pub(super) const MIDDLE_ROWS: usize = 6;
/// Registers beside each other in a row of it.
pub(super) const MIDDLE_PACKS: usize = 2;

/// Asks for the line of the cache that holds a number, wherever it is.
#[inline(always)]
fn ask_for(number: *const f32) {
    // SAFETY: asking reads nothing, and may be about any address.
    unsafe { _mm_prefetch::<_MM_HINT_T0>(number.cast()) };
}

/// Adds the products at one place along the depth: of a number of the left factor for each row, `row_step` apart, with some of the right factor.
///
/// # Safety
/// Those numbers must be readable, and the instruction set of `R` there.
#[inline(always)]
unsafe fn add_products<R: Register, const PACKS: usize, const ROWS: usize>(
    left: *const f32,
    row_step: usize,
    right: *const f32,
    sums: &mut [[R; PACKS]; ROWS],
) {
    // SAFETY: passed on to the caller.
    unsafe {
        let mut factors = [R::zero(); PACKS];
        for (pack, factor) in factors.iter_mut().enumerate() {
            *factor = R::load(right.add(pack * R::LANES));
        }
        for line in 0..(PACKS * R::LANES).div_ceil(LINE) {
            ask_for(right.wrapping_add(AHEAD + line * LINE));
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
    tile: &Tile<f32>,
    add: bool,
) {
    let width = PANEL * R::LANES;
    // SAFETY: the caller's places are read and written, and none beside them.
    unsafe {
        let mut sums = [[R::zero(); PACKS]; ROWS];
        for row in 0..ROWS {
            for pack in 0..PACKS {
                ask_for(tile.out.wrapping_offset(row as isize * tile.out_row).wrapping_add(pack * R::LANES));
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

#[target_feature(enable = "avx512f")]
unsafe fn wide<const PACKS: usize, const ROWS: usize, const PACKED: bool>(
    columns: usize,
    at: &Tile<f32>,
    add: bool,
) {
    // SAFETY: passed on to the caller.
    unsafe { tile::<__m512, WIDE_PACKS, WIDE_ROWS, PACKS, ROWS, PACKED>(columns, at, add) }
}

#[target_feature(enable = "avx2,fma")]
unsafe fn middle<const PACKS: usize, const ROWS: usize, const PACKED: bool>(
    columns: usize,
    at: &Tile<f32>,
    add: bool,
) {
    // SAFETY: passed on to the caller.
    unsafe { tile::<__m256, MIDDLE_PACKS, MIDDLE_ROWS, PACKS, ROWS, PACKED>(columns, at, add) }
}

macro_rules! by_rows {
    ($tile:ident, $packs:literal, $packed:literal: $($rows:literal)*) => {
        [$($tile::<$packs, $rows, $packed> as TileFn<f32>),*]
    };
}

/// Tiles of AVX-512 by number of registers in a row, then of rows: for a left factor whose rows lie in order, and for a packed one.
pub(super) static WIDE: [[[TileFn<f32>; WIDE_ROWS]; WIDE_PACKS]; 2] = [
    [
        by_rows!(wide, 1, false: 1 2 3 4 5 6 7 8),
        by_rows!(wide, 2, false: 1 2 3 4 5 6 7 8),
        by_rows!(wide, 3, false: 1 2 3 4 5 6 7 8),
    ],
    [
        by_rows!(wide, 1, true: 1 2 3 4 5 6 7 8),
        by_rows!(wide, 2, true: 1 2 3 4 5 6 7 8),
        by_rows!(wide, 3, true: 1 2 3 4 5 6 7 8),
    ],
];

/// The same of AVX2.
pub(super) static MIDDLE: [[[TileFn<f32>; MIDDLE_ROWS]; MIDDLE_PACKS]; 2] = [
    [by_rows!(middle, 1, false: 1 2 3 4 5 6), by_rows!(middle, 2, false: 1 2 3 4 5 6)],
    [by_rows!(middle, 1, true: 1 2 3 4 5 6), by_rows!(middle, 2, true: 1 2 3 4 5 6)],
];
