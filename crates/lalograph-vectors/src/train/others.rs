//! What workers have changed, as bytes for other processes.

use std::ops::{Deref, DerefMut};

use lalograph_net::step::bytes::{take, u32_of, u64_of};

use super::worker::Worker;
use crate::rows::{LANES, Line};

/// What workers have changed since the last exchange: of each its loss and predictions so far, the numbers of the rows, how often each was changed, and
/// their numbers now.
pub(super) fn to_others<W: Deref<Target = Worker>>(workers: impl Iterator<Item = W>) -> Vec<u8> {
    let mut bytes = Vec::new();
    for worker in workers {
        let (loss, predictions) = worker.loss_so_far();
        let rows = &worker.touched.rows;
        bytes.extend(loss.to_le_bytes());
        bytes.extend(predictions.to_le_bytes());
        bytes.extend((rows.len() as u64).to_le_bytes());
        bytes.extend_from_slice(bytemuck::cast_slice(rows));
        for &row in rows {
            bytes.extend(worker.touched.changes[row as usize].to_le_bytes());
        }
        for &row in rows {
            worker.row(row).iter().for_each(|line| bytes.extend_from_slice(bytemuck::cast_slice(&line.0)));
        }
    }
    bytes
}

/// Puts what workers of another process have changed into the copies of them that are kept here.
pub(super) fn from_others<W: DerefMut<Target = Worker>>(mut bytes: &[u8], workers: impl Iterator<Item = W>) {
    for mut worker in workers {
        let worker = &mut *worker;
        worker.touched.clear();
        worker.loss = f64::from_bits(u64_of(take(&mut bytes, 8)));
        worker.likelihood = 1.0;
        worker.predictions = u64_of(take(&mut bytes, 8));
        let count = u64_of(take(&mut bytes, 8)) as usize;
        let [rows, changes] = [(), ()].map(|()| take(&mut bytes, 4 * count));
        let numbers = |bytes: &[u8]| -> Vec<u32> { bytes.chunks_exact(4).map(u32_of).collect() };
        worker.touched.rows = numbers(rows);
        for (at, changes) in numbers(changes).into_iter().enumerate() {
            let row = worker.touched.rows[at];
            worker.touched.changes[row as usize] = changes;
            for line in worker.row_mut(row) {
                line.0 = line_of(take(&mut bytes, 4 * LANES)).0;
            }
        }
    }
}

fn line_of(bytes: &[u8]) -> Line<f32> {
    let mut line = Line::ZERO;
    let numbers: &mut [u8] = bytemuck::cast_slice_mut(&mut line.0);
    numbers.copy_from_slice(bytes);
    line
}
