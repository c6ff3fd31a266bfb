//! The exchange between processes: sums in the order of the lanes, over any means of sending bytes.
//!
//! Process 0 computes the first lanes, process 1 those after them, and so on. Dense gradients go along this chain piece by piece: each process adds its
//! lanes, in order, to what the processes before have added up, and passes the sum on; from the last one, the whole sum comes back the other way while later
//! pieces are still under way. The output's part comes first, while the layers still compute theirs. So every process sends the gradient about twice, as in the quickest sums in any order, and the additions are those of one process.
//! Rows of tables are few: every process gets those of all others and adds them up itself.

use std::ops::Range;
use std::sync::mpsc::{Receiver, channel};

use half::bf16;
use half::slice::HalfFloatSliceExt;
use rayon::prelude::*;

use super::bytes::{take, u32_of, u64_of};
use super::exchange::{Compute, Exchange, GradientSum, OneProcess, Rank, total};
use crate::heads::loss::Loss;
use crate::learning::piece;
use crate::numbers::real::Real;
use crate::vectorised;
use crate::weights::gradient::{Finished, LaneGradient, RowGradient};

/// Bytes between the processes of a run, which are numbered from 0. A process that can no longer reach the others ends.
pub trait Link: Send + std::fmt::Debug {
    /// The number of this process.
    fn rank(&self) -> usize;

    /// Processes.
    fn count(&self) -> usize;

    /// Sends and receives side by side, and returns when all of it is done. Messages between two processes arrive in the order of these calls.
    fn swap(&mut self, out: &[(usize, &[u8])], into: &mut [(usize, &mut [u8])]);

    /// Adds up numbers of all processes, in any order: all are left with the same sums.
    fn add_up(&mut self, numbers: &mut [f32]);
}

impl Link for Box<dyn Link> {
    fn rank(&self) -> usize {
        (**self).rank()
    }

    fn count(&self) -> usize {
        (**self).count()
    }

    fn swap(&mut self, out: &[(usize, &[u8])], into: &mut [(usize, &mut [u8])]) {
        (**self).swap(out, into);
    }

    fn add_up(&mut self, numbers: &mut [f32]) {
        (**self).add_up(numbers);
    }
}

/// Numbers of a piece of the dense gradient.
pub const PIECE: usize = 1 << 16;

/// Pieces from which on the dense gradient is added up while the lanes are still computing: fewer are not worth a thread.
const OVERLAPPED: usize = 4;

/// Bytes of the message that a word begins with: its length, and what of it fits. Most words are short, and one message each.
const FRAME: usize = 64;

/// Bytes of the longest message: libraries count them in 31 bits.
const LONGEST: usize = 1 << 30;

/// In place of the length of a word: there will be none any more.
const END: u64 = u64::MAX;

/// The lanes of several processes. When it is dropped in process 0, the others hear that it has ended.
#[derive(Debug)]
pub struct Processes<L: Link, T: Real> {
    link: L,
    own: OneProcess,
    /// What of the weights has a dense gradient.
    dense: Range<usize>,
    sum: GradientSum,
    /// Whether every process computes all its lanes at once. Of lanes that a thread computes one after another, only the last leaves time to wait for a network.
    side_by_side: bool,
    /// Whether the dense parts of this step are added up already.
    added: bool,
    /// Messages that arrive: from the process before, and from the one after.
    arriving: [Vec<T>; 2],
}

impl<L: Link, T: Real> Processes<L, T> {
    /// The exchange over a link.
    pub fn new(link: L) -> Self {
        Self {
            link,
            own: OneProcess::default(),
            dense: 0..0,
            sum: GradientSum::Ordered,
            side_by_side: false,
            added: false,
            arriving: [Vec::new(), Vec::new()],
        }
    }

    /// What all processes say, in their order, each as many bytes as this one.
    fn gather_alike(&mut self, here: &[u8]) -> Vec<Vec<u8>> {
        let all = vec![vec![0; here.len()]; self.link.count()];
        self.gather_into(here, all)
    }

    fn gather_into(&mut self, here: &[u8], mut all: Vec<Vec<u8>>) -> Vec<Vec<u8>> {
        let (rank, count) = (self.link.rank(), self.link.count());
        all[rank].copy_from_slice(here);
        let out: Vec<(usize, &[u8])> = (0..count).filter(|&to| to != rank).map(|to| (to, here)).collect();
        let mut into: Vec<(usize, &mut [u8])> = all
            .iter_mut()
            .enumerate()
            .filter(|(from, _)| *from != rank)
            .map(|(from, bytes)| (from, &mut bytes[..]))
            .collect();
        self.link.swap(&out, &mut into);
        all
    }

    /// Sends bytes to all others.
    fn tell_others(&mut self, bytes: &[u8]) {
        let rank = self.link.rank();
        let others = (0..self.link.count()).filter(|&to| to != rank);
        let out: Vec<(usize, &[u8])> = others.map(|to| (to, bytes)).collect();
        self.link.swap(&out, &mut []);
    }

    /// Adds the dense parts of all lanes, of which every process has some, and leaves the sum in the first one here. Pieces go from the end of the layout to its beginning,
    /// as the lanes finish them.
    ///
    /// At tick t, process r adds its lanes to piece t - r, which arrived in the tick before. Of p processes the last sends its sum back at once, so that piece
    /// t - 2p + 3 + r of the whole sum arrives at process r.
    fn add_dense(&mut self, mut lanes: LaneParts<'_, T>) {
        let (rank, count) = (self.link.rank(), self.link.count());
        // Alone, a process adds up its lanes in one tick.
        let (dense, pieces) = (self.dense.clone(), self.dense.len().div_ceil(PIECE));
        let piece = |number: usize| {
            let to = dense.end - number * PIECE;
            to.saturating_sub(PIECE).max(dense.start)..to
        };
        let within = |number: isize| usize::try_from(number).ok().filter(|&number| number < pieces);
        let (way, last) = (Way::of::<T>(self.sum), rank + 1 == count);
        let [before, after] = &mut self.arriving;
        let (mut passing, mut returning) = (Vec::new(), Vec::new());
        // The sum so far of one piece, and the whole sum of another.
        let (mut sum, mut whole) = (Vec::new(), Vec::new());
        for tick in 0..(pieces + 2 * count).saturating_sub(3).max(pieces) {
            let at = tick as isize - rank as isize;
            if let Some(number) = within(at) {
                let range = piece(number);
                lanes.wait_for(range.start);
                match rank {
                    0 => sum.resize(range.len(), T::ZERO),
                    _ => way.unpack(before, range.len(), &mut sum),
                }
                lanes.add_to(&mut sum, range.start, rank > 0);
                if last && count > 1 {
                    way.round(&mut sum);
                }
                if last {
                    lanes.put(&sum, range.start);
                }
            }
            let coming = tick as isize - 2 * count as isize + 3 + rank as isize;
            let mut out: Vec<(usize, &[u8])> = Vec::new();
            if within(at).is_some() && !last {
                way.pack(&sum, &mut passing);
                out.push((rank + 1, bytemuck::cast_slice(&passing)));
            }
            let (back, of) = if last { (at, &sum) } else { (coming - 1, &whole) };
            if within(back).is_some() && rank > 0 {
                way.pack(of, &mut returning);
                out.push((rank - 1, bytemuck::cast_slice(&returning)));
            }
            let mut into: Vec<(usize, &mut [u8])> = Vec::new();
            if let Some(number) = within(at + 1).filter(|_| rank > 0) {
                before.resize(way.packed(piece(number).len()), T::ZERO);
                into.push((rank - 1, bytemuck::cast_slice_mut(before)));
            }
            let arrives = within(coming).filter(|_| !last);
            if let Some(number) = arrives {
                after.resize(way.packed(piece(number).len()), T::ZERO);
                into.push((rank + 1, bytemuck::cast_slice_mut(after)));
            }
            self.link.swap(&out, &mut into);
            if let Some(number) = arrives {
                let range = piece(number);
                way.unpack(after, range.len(), &mut whole);
                lanes.put(&whole, range.start);
            }
        }
    }
}

/// The dense gradients of the lanes here, as far as they are finished: parts from the end of the layout to its beginning.
struct LaneParts<'g, T> {
    lanes: Vec<Vec<Finished<'g, T>>>,
    /// Where more come from.
    coming: Option<Receiver<Finished<'g, T>>>,
}

impl<'g, T: Real> LaneParts<'g, T> {
    /// Of lanes that are all finished.
    fn whole(gradients: &'g mut [LaneGradient<T>]) -> Self {
        let lanes = gradients.iter_mut().enumerate().map(|(lane, gradient)| {
            vec![Finished { lane, offset: gradient.offset, numbers: &mut gradient.dense }]
        });
        Self { lanes: lanes.collect(), coming: None }
    }

    /// Waits until all lanes are finished from a place in the layout on.
    fn wait_for(&mut self, from: usize) {
        let Some(coming) = &self.coming else { return };
        while self.lanes.iter().any(|parts| parts.last().is_none_or(|part| part.offset > from)) {
            // Nothing more comes where a lane has panicked, which the thread of the lanes passes on.
            let Ok(part) = coming.recv() else { return };
            self.lanes[part.lane].push(part);
        }
    }

    /// Adds the numbers of all lanes, in their order, from a place in the layout on; the first lane's are the first of the sum if it is not `started`.
    fn add_to(&self, sum: &mut [T], from: usize, started: bool) {
        let lanes = &self.lanes[..];
        let add =
            |(number, sum): (usize, &mut [T])| add_piece(lanes, sum, from + number * piece::PIECE, started);
        match self.coming {
            // The threads have nothing else to do.
            None => sum.par_chunks_mut(piece::PIECE).enumerate().for_each(add),
            Some(_) => sum.chunks_mut(piece::PIECE).enumerate().for_each(add),
        }
    }

    /// Puts a sum into the first lane, from a place in the layout on.
    fn put(&mut self, sum: &[T], from: usize) {
        for Finished { offset, numbers, .. } in self.lanes.iter_mut().take(1).flatten() {
            if let Some((in_sum, in_part)) = overlap((from, sum.len()), (*offset, numbers.len())) {
                numbers[in_part].copy_from_slice(&sum[in_sum]);
            }
        }
    }
}

/// The same for one piece.
fn add_piece<T: Real>(lanes: &[Vec<Finished<'_, T>>], sum: &mut [T], from: usize, started: bool) {
    for (lane, parts) in lanes.iter().enumerate() {
        for Finished { offset, numbers, .. } in parts {
            let Some((in_sum, in_part)) = overlap((from, sum.len()), (*offset, numbers.len())) else {
                continue;
            };
            let (sum, numbers) = (&mut sum[in_sum], &numbers[in_part]);
            if lane == 0 && !started {
                sum.copy_from_slice(numbers);
            } else {
                vectorised!(sum.iter_mut().zip(numbers).for_each(|(x, &y)| *x += y));
            }
        }
    }
}

/// What two stretches, given by their begin and length, have in common: where it is in each of them.
fn overlap(one: (usize, usize), other: (usize, usize)) -> Option<(Range<usize>, Range<usize>)> {
    let common = one.0.max(other.0)..(one.0 + one.1).min(other.0 + other.1);
    let within = |begin: usize| common.start - begin..common.end - begin;
    (!common.is_empty()).then(|| (within(one.0), within(other.0)))
}

impl<L: Link, T: Real> Processes<L, T> {
    /// Adds the dense parts of all lanes in any order, if that is wanted of numbers that the link can add.
    fn add_unordered(&mut self, gradients: &mut [LaneGradient<T>]) -> bool {
        if self.sum != GradientSum::Unordered || !is_single::<T>() {
            return false;
        }
        let Some((first, others)) = gradients.split_first_mut() else { return false };
        let sum = &mut first.dense[self.dense.clone()];
        add_lanes(sum, others, self.dense.start);
        self.link.add_up(bytemuck::cast_slice_mut(sum));
        true
    }
}

/// Whether these are numbers of 32 bits.
fn is_single<T: Real>() -> bool {
    size_of::<T>() == size_of::<f32>()
}

/// The form of dense gradients on their way between processes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Way {
    Whole,
    /// Two numbers of 16 bits in the place of one of 32.
    Half,
}

impl Way {
    fn of<T: Real>(sum: GradientSum) -> Self {
        if sum == GradientSum::Half && is_single::<T>() { Self::Half } else { Self::Whole }
    }

    /// Numbers of a message of so many.
    fn packed(self, numbers: usize) -> usize {
        match self {
            Self::Whole => numbers,
            Self::Half => numbers.div_ceil(2),
        }
    }

    fn pack<T: Real>(self, values: &[T], message: &mut Vec<T>) {
        message.resize(self.packed(values.len()), T::ZERO);
        match self {
            Self::Whole => message.copy_from_slice(values),
            Self::Half => {
                let halves: &mut [bf16] = bytemuck::cast_slice_mut(message);
                halves[..values.len()].convert_from_f32_slice(bytemuck::cast_slice(values));
            }
        }
    }

    fn unpack<T: Real>(self, message: &[T], numbers: usize, values: &mut Vec<T>) {
        values.resize(numbers, T::ZERO);
        match self {
            Self::Whole => values.copy_from_slice(message),
            Self::Half => {
                let halves: &[bf16] = bytemuck::cast_slice(message);
                halves[..numbers].convert_to_f32_slice(bytemuck::cast_slice_mut(values));
            }
        }
    }

    /// What others receive of these numbers.
    fn round<T: Real>(self, values: &mut [T]) {
        if self == Self::Half {
            let single: &mut [f32] = bytemuck::cast_slice_mut(values);
            single.iter_mut().for_each(|x| *x = bf16::from_f32(*x).to_f32());
        }
    }
}

impl<L: Link, T: Real> Drop for Processes<L, T> {
    fn drop(&mut self) {
        if self.link.rank() == 0 {
            self.tell_others(&frame(END, &[]));
        }
    }
}

impl<L: Link, T: Real> Exchange<T> for Processes<L, T> {
    fn begin(&mut self, dense: Range<usize>, sum: GradientSum) {
        self.dense = dense;
        self.sum = sum;
    }

    fn leave_rows(&mut self, table: Range<usize>) {
        Exchange::<T>::leave_rows(&mut self.own, table);
    }

    fn rank(&self) -> Rank {
        Rank { number: self.link.rank(), count: self.link.count() }
    }

    fn gather(&mut self, here: &[u8]) -> Vec<Vec<u8>> {
        let lengths = self.gather_alike(&(here.len() as u64).to_le_bytes());
        let all = lengths.iter().map(|length| vec![0; u64_of(length) as usize]).collect();
        self.gather_into(here, all)
    }

    fn lead(&mut self, word: &[u8]) {
        let (short, rest) = word.split_at(word.len().min(FRAME - 8));
        self.tell_others(&frame(word.len() as u64, short));
        rest.chunks(LONGEST).for_each(|part| self.tell_others(part));
    }

    fn follow(&mut self) -> Option<Vec<u8>> {
        let mut frame = [0; FRAME];
        self.link.swap(&[], &mut [(0, &mut frame)]);
        let (length, short) = frame.split_at(8);
        let length = u64_of(length);
        if length == END {
            return None;
        }
        let mut word = vec![0; length as usize];
        let (begin, rest) = word.split_at_mut(short.len().min(length as usize));
        begin.copy_from_slice(&short[..begin.len()]);
        rest.chunks_mut(LONGEST).for_each(|part| self.link.swap(&[], &mut [(0, part)]));
        Some(word)
    }

    fn all_rows(&mut self, rows: &mut Vec<u32>) {
        let all = self.gather(bytemuck::cast_slice(rows));
        rows.clear();
        rows.extend(all.iter().flat_map(|block| block.chunks_exact(4)).map(u32_of));
    }

    fn counted(&mut self, [scored, tokens]: [u64; 2], lanes: usize) -> [u64; 2] {
        let crowded = u64::from(lanes > rayon::current_num_threads());
        let here = [scored, tokens, crowded].map(u64::to_le);
        let all = self.gather_alike(bytemuck::cast_slice(&here));
        let [scored, tokens, crowded] =
            [0, 8, 16].map(|at| all.iter().map(|bytes| u64_of(&bytes[at..at + 8])).sum());
        self.side_by_side = crowded == 0;
        [scored, tokens]
    }

    fn overlap<'g>(&mut self, lanes: usize, compute: Compute<'_, 'g, T>) {
        let pieces = self.dense.len().div_ceil(PIECE);
        let (alone, side_by_side) = (self.link.count() == 1, self.side_by_side);
        if alone || pieces < OVERLAPPED || !side_by_side || self.sum == GradientSum::Unordered {
            return compute(None);
        }
        let (to, coming) = channel();
        let lanes = LaneParts { lanes: (0..lanes).map(|_| Vec::new()).collect(), coming: Some(coming) };
        std::thread::scope(|scope| {
            scope.spawn(|| self.add_dense(lanes));
            compute(Some(to));
        });
        self.added = true;
    }

    fn sum(&mut self, gradients: &mut [LaneGradient<T>], losses: &[Loss]) -> Loss {
        let mut here = Vec::new();
        write_block(losses, gradients, &mut here);
        let blocks = self.gather(&here);
        if !std::mem::take(&mut self.added) && !self.add_unordered(gradients) {
            self.add_dense(LaneParts::whole(gradients));
        }
        let lanes: Vec<LaneBlock<T>> =
            blocks.iter().flat_map(|block| read_block(block, &gradients[0])).collect();
        self.own.add_tables(&mut gradients[0].dense, lanes.len(), |lane| &lanes[lane].tables);
        total(lanes.iter().map(|lane| &lane.loss))
    }

    fn agree(&mut self, stop: bool) -> bool {
        self.gather_alike(&[u8::from(stop)]).iter().any(|bytes| bytes[0] == 1)
    }
}

/// Adds to the first lane's part of the dense gradient, which begins with the number `from`, the other lanes here.
fn add_lanes<T: Real>(first: &mut [T], others: &[LaneGradient<T>], from: usize) {
    let chunks = first.par_chunks_mut(piece::PIECE).enumerate();
    chunks.for_each(|(number, sum)| {
        let at = number * piece::PIECE..number * piece::PIECE + sum.len();
        vectorised!({
            for other in others {
                let begin = from - other.offset;
                let lane = &other.dense[begin + at.start..begin + at.end];
                sum.iter_mut().zip(lane).for_each(|(x, &y)| *x += y);
            }
        });
    });
}

/// The message that a word begins with.
fn frame(length: u64, short: &[u8]) -> [u8; FRAME] {
    let mut frame = [0; FRAME];
    frame[..8].copy_from_slice(&length.to_le_bytes());
    frame[8..8 + short.len()].copy_from_slice(short);
    frame
}

/// What a process tells of one of its lanes.
struct LaneBlock<T> {
    loss: Loss,
    tables: Vec<RowGradient<T>>,
}

/// The losses and the rows of all lanes as bytes.
fn write_block<T: Real>(losses: &[Loss], gradients: &[LaneGradient<T>], block: &mut Vec<u8>) {
    for (loss, gradient) in losses.iter().zip(gradients) {
        block.extend(loss.sum.to_le_bytes());
        block.extend(loss.penalty.to_le_bytes());
        block.extend(loss.right.to_le_bytes());
        for table in &gradient.tables {
            block.extend((table.rows.len() as u64).to_le_bytes());
            block.extend_from_slice(bytemuck::cast_slice(&table.rows));
            block.extend_from_slice(bytemuck::cast_slice(&table.values));
        }
    }
}

/// The lanes of a block; their tables are those of `like`.
fn read_block<T: Real>(mut block: &[u8], like: &LaneGradient<T>) -> Vec<LaneBlock<T>> {
    let mut lanes = Vec::new();
    while !block.is_empty() {
        let sum = f64::from_bits(u64_of(take(&mut block, 8)));
        let penalty = f64::from_bits(u64_of(take(&mut block, 8)));
        let right = u64_of(take(&mut block, 8));
        let tables = like.tables.iter().map(|table| {
            let rows = u64_of(take(&mut block, 8)) as usize;
            let mut read = RowGradient {
                table: table.table.clone(),
                width: table.width,
                rows: vec![0; rows],
                values: vec![T::ZERO; rows * table.width],
            };
            // Bytes of a message need not lie where numbers may.
            let own: &mut [u8] = bytemuck::cast_slice_mut(&mut read.rows);
            own.copy_from_slice(take(&mut block, own.len()));
            let own: &mut [u8] = bytemuck::cast_slice_mut(&mut read.values);
            own.copy_from_slice(take(&mut block, own.len()));
            read
        });
        let tables = tables.collect();
        lanes.push(LaneBlock { loss: Loss { sum, penalty, right }, tables });
    }
    lanes
}
