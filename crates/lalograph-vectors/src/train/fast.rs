//! The fast exchange: a worker adds its changes to the shared numbers after every block, without locks and without waiting.

use std::sync::atomic::{AtomicBool, AtomicU32, AtomicUsize, Ordering::Relaxed};

use rayon::prelude::*;

use super::learnt::Observer;
use super::worker::{Job, Worker, share};
use crate::objective::Weights;
use crate::rows::{LANES, Rows};

/// Every worker takes the next block and exchanges after it.
pub(super) fn learn(job: &Job<'_>, common: &mut Weights<f32>, observer: Observer<'_>) -> bool {
    let shared = Shared::of(common);
    let (next, stopped) = (AtomicUsize::new(0), AtomicBool::new(false));
    let observer = std::sync::Mutex::new(observer);
    let all = job.all_blocks();
    let workers = rayon::current_num_threads();
    let first: Vec<Worker> = (0..workers).map(|_| job.worker(common, true)).collect();
    first.into_par_iter().for_each(|mut worker| {
        loop {
            let block = next.fetch_add(1, Relaxed);
            if block >= all || stopped.load(Relaxed) {
                break;
            }
            worker.learn(job, block);
            exchange(&mut worker, &shared, workers);
            // Whoever finds somebody else there has nothing to add.
            if let Ok(mut observer) = observer.try_lock() {
                let loss = worker.take_loss();
                let done = next.load(Relaxed).min(all);
                if !job.say(done, loss, &mut **observer, &mut || worker.own.clone()) {
                    stopped.store(true, Relaxed);
                }
            }
        }
    });
    shared.put(common);
    !stopped.load(Relaxed)
}

/// Adds what has changed to the shared numbers, and takes what they are then. Two workers that do so for a row at once may lose one of the changes.
fn exchange(worker: &mut Worker, shared: &Shared, workers: usize) {
    let Some(before) = &mut worker.before else { return };
    let (inputs, stride) = (worker.touched.inputs as u32, worker.own.input.stride());
    for (&row, before) in worker.touched.rows.iter().zip(before.chunks_exact(stride)) {
        let share = share(workers, worker.touched.changes[row as usize]);
        let (shared, own) = if row < inputs {
            (shared.input.row(row), worker.own.input.row_mut(row))
        } else {
            let row = row - inputs;
            (shared.output.row(row), worker.own.output.row_mut(row))
        };
        for ((shared, own), before) in shared.iter().zip(own).zip(before) {
            for lane in 0..LANES {
                let now =
                    f32::from_bits(shared.0[lane].load(Relaxed)) + share * (own.0[lane] - before.0[lane]);
                shared.0[lane].store(now.to_bits(), Relaxed);
                own.0[lane] = now;
            }
        }
    }
    before.clear();
    worker.touched.clear();
}

/// Numbers that several threads change at once, as their bits.
struct Shared {
    input: Rows<AtomicU32>,
    output: Rows<AtomicU32>,
}

impl Shared {
    fn of(weights: &Weights<f32>) -> Self {
        let bits = |x: &f32| AtomicU32::new(x.to_bits());
        Self { input: weights.input.map(bits), output: weights.output.map(bits) }
    }

    fn put(self, weights: &mut Weights<f32>) {
        let number = |bits: &AtomicU32| f32::from_bits(bits.load(Relaxed));
        *weights = Weights { input: self.input.map(number), output: self.output.map(number) };
    }
}
