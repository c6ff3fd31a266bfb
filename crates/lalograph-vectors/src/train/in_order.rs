//! The repeatable exchange: lanes learn from a block each, then all changes are added, lane by lane, and every lane continues from the sum.
//!
//! A thread keeps its lanes, whose numbers are in its cache. Threads wait for each other twice a round and stay awake meanwhile: a round takes some milliseconds, and what sleeps is woken late, above all on
//! a virtual machine, which gives a sleeper's processor to others. With threads that slept, two of them were 1.3 times one.

use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard};
use std::time::Duration;

use lalograph_net::step::exchange::{Exchange, Rank};

use super::learnt::Observer;
use super::others::{from_others, to_others};
use super::worker::{Job, Worker, share};
use crate::objective::Weights;
use crate::rows::{LANES, Line};

/// Learns from all blocks; `false` if the observer has stopped it.
pub(super) fn learn(
    job: &Job<'_>,
    common: &mut Weights<f32>,
    lanes: usize,
    exchange: &mut dyn Exchange<f32>,
    observer: Observer<'_>,
) -> bool {
    let (rank, here) = (exchange.rank(), exchange.rank().lanes(lanes));
    let workers: Vec<_> = (0..lanes).map(|_| RwLock::new(job.worker(common, false))).collect();
    let chunks: Vec<_> = Chunk::cut(common).into_iter().map(RwLock::new).collect();
    let threads = rayon::current_num_threads().min(here.len());
    let meeting = Meeting::new(threads);
    let (observer, exchange) = (Mutex::new(observer), Mutex::new(exchange));
    let (wanted, stopped) = (AtomicBool::new(false), AtomicBool::new(false));
    let all = job.all_blocks();
    rayon::broadcast(|thread| {
        let me = thread.index();
        if me >= threads {
            return;
        }
        let _guard = BreakOnPanic(&meeting);
        for first in (0..all).step_by(lanes) {
            let mine = || here.clone().skip(me).step_by(threads);
            for lane in mine().take_while(|lane| first + lane < all) {
                write(&workers[lane]).learn(job, first + lane);
            }
            if !meeting.wait() {
                return;
            }
            if rank.count > 1 {
                // The first thread hears what the lanes of other processes have learnt, and whether somebody wants to stop.
                if me == 0 {
                    let mut exchange = exchange.lock().unwrap_or_else(PoisonError::into_inner);
                    stopped.store(exchange.agree(wanted.load(Ordering::Relaxed)), Ordering::Relaxed);
                    let all = exchange.gather(&to_others(here.clone().map(|lane| read(&workers[lane]))));
                    for (number, learnt) in all.iter().enumerate().filter(|(other, _)| *other != rank.number)
                    {
                        let theirs = Rank { number, ..rank }.lanes(lanes);
                        from_others(learnt, theirs.map(|lane| write(&workers[lane])));
                    }
                }
                if !meeting.wait() {
                    return;
                }
            }
            if stopped.load(Ordering::Relaxed) {
                return;
            }
            let learnt: Vec<_> = workers.iter().map(read).collect();
            for chunk in chunks.iter().skip(me).step_by(threads) {
                write(chunk).add(&learnt);
            }
            let loss = learnt.iter().map(|worker| worker.loss_so_far());
            let loss = loss.fold((0.0, 0), |(loss, count), (more, others)| (loss + more, count + others));
            drop(learnt);
            if !meeting.wait() {
                return;
            }
            for lane in mine() {
                let mut worker = write(&workers[lane]);
                chunks.iter().for_each(|chunk| read(chunk).copy_to(&mut worker.own));
                worker.touched.clear();
                worker.take_loss();
            }
            // The first thread reports; its sums are the same as the others'.
            if me == 0 {
                let mut observer = observer.lock().unwrap_or_else(PoisonError::into_inner);
                let mut latest = || read(&workers[here.start]).own.clone();
                if !job.say((first + lanes).min(all), loss, &mut **observer, &mut latest) {
                    // Several processes stop after the same round, the next one.
                    let stop = if rank.count > 1 { &wanted } else { &stopped };
                    stop.store(true, Ordering::Relaxed);
                }
            }
        }
    });
    // Every lane here has the sum.
    common.clone_from(&read(&workers[here.start]).own);
    !stopped.load(Ordering::Relaxed)
}

fn read<T>(lock: &RwLock<T>) -> RwLockReadGuard<'_, T> {
    lock.read().unwrap_or_else(PoisonError::into_inner)
}

fn write<T>(lock: &RwLock<T>) -> RwLockWriteGuard<'_, T> {
    lock.write().unwrap_or_else(PoisonError::into_inner)
}

/// Rows of a chunk.
const ROWS: usize = 64;

/// Some rows of the common numbers, which one thread adds up.
struct Chunk {
    /// Whether they are output rows.
    outputs: bool,
    /// Their first row.
    first: usize,
    /// The place of their first row among the counts of changes.
    place: usize,
    stride: usize,
    lines: Vec<Line<f32>>,
    /// Which rows the last exchange has changed.
    changed: Vec<bool>,
}

impl Chunk {
    fn cut(common: &Weights<f32>) -> Vec<Self> {
        let inputs = common.input.count();
        let mut chunks = Vec::new();
        for (outputs, rows) in [(false, &common.input), (true, &common.output)] {
            let stride = rows.stride();
            for (number, lines) in rows.lines.chunks(ROWS * stride).enumerate() {
                let first = number * ROWS;
                let place = if outputs { inputs + first } else { first };
                let changed = vec![false; lines.len() / stride];
                chunks.push(Self { outputs, first, place, stride, lines: lines.to_vec(), changed });
            }
        }
        chunks
    }

    /// Adds the changes of all workers in the order of the lanes.
    fn add(&mut self, workers: &[RwLockReadGuard<'_, Worker>]) {
        let Self { outputs, first, place, stride, .. } = *self;
        for ((at, lines), changed) in self.lines.chunks_mut(stride).enumerate().zip(&mut self.changed) {
            let all = || workers.iter().filter(|worker| worker.touched.changes[place + at] > 0);
            let count = all().count();
            *changed = count > 0;
            if count == 0 {
                continue;
            }
            let changes: u32 = all().map(|worker| worker.touched.changes[place + at]).sum();
            let share = share(count, changes / count as u32);
            for (number, line) in lines.iter_mut().enumerate() {
                let before = *line;
                for worker in all() {
                    let rows = if outputs { &worker.own.output } else { &worker.own.input };
                    let own = &rows.row((first + at) as u32)[number];
                    for lane in 0..LANES {
                        line.0[lane] += share * (own.0[lane] - before.0[lane]);
                    }
                }
            }
        }
    }

    /// Copies the rows that the last exchange has changed.
    fn copy_to(&self, weights: &mut Weights<f32>) {
        let rows = if self.outputs { &mut weights.output } else { &mut weights.input };
        for ((row, lines), changed) in (self.first..).zip(self.lines.chunks(self.stride)).zip(&self.changed) {
            if *changed {
                rows.row_mut(row as u32).copy_from_slice(lines);
            }
        }
    }
}

/// Meeting point of the threads.
struct Meeting {
    threads: usize,
    arrived: AtomicUsize,
    round: AtomicUsize,
    broken: AtomicBool,
}

impl Meeting {
    fn new(threads: usize) -> Self {
        let (arrived, round) = (AtomicUsize::new(0), AtomicUsize::new(0));
        Self { threads, arrived, round, broken: AtomicBool::new(false) }
    }

    /// Waits until all threads are here; `false` if one of them never will be.
    fn wait(&self) -> bool {
        // Looks at once; then, for some tenths of a second, between what else the processor has to do. Who takes longer has reasons, such as output that nobody takes.
        const AT_ONCE: u32 = 1_000;
        const AWAKE: u32 = 200_000;
        let round = self.round.load(Ordering::Acquire);
        if self.arrived.fetch_add(1, Ordering::AcqRel) + 1 == self.threads {
            self.arrived.store(0, Ordering::Relaxed);
            self.round.store(round + 1, Ordering::Release);
        }
        let mut looks = 0;
        while self.round.load(Ordering::Acquire) == round && !self.broken.load(Ordering::Relaxed) {
            looks += 1;
            match looks {
                0..AT_ONCE => std::hint::spin_loop(),
                AT_ONCE..AWAKE => std::thread::yield_now(),
                _ => {
                    looks = AWAKE;
                    std::thread::sleep(Duration::from_micros(200));
                }
            }
        }
        !self.broken.load(Ordering::Relaxed)
    }
}

/// Lets the others go where a thread panics.
struct BreakOnPanic<'m>(&'m Meeting);

impl Drop for BreakOnPanic<'_> {
    fn drop(&mut self) {
        if std::thread::panicking() {
            self.0.broken.store(true, Ordering::Relaxed);
        }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicUsize, Ordering};

    use super::{BreakOnPanic, Meeting};

    #[test]
    fn nobody_leaves_a_meeting_before_all_have_come() {
        const THREADS: usize = 5;
        let (meeting, come) = (Meeting::new(THREADS), AtomicUsize::new(0));
        std::thread::scope(|scope| {
            for _ in 0..THREADS {
                scope.spawn(|| {
                    for round in 1..=300 {
                        come.fetch_add(1, Ordering::Relaxed);
                        assert!(meeting.wait());
                        assert!(come.load(Ordering::Relaxed) >= round * THREADS);
                        assert!(meeting.wait());
                    }
                });
            }
        });
        assert_eq!(come.into_inner(), 300 * THREADS);
    }

    #[test]
    fn a_thread_that_panics_leaves_nobody_waiting() {
        let meeting = Meeting::new(2);
        let waited = std::thread::scope(|scope| {
            let waiting = scope.spawn(|| meeting.wait());
            let panicking = scope.spawn(|| {
                let _guard = BreakOnPanic(&meeting);
                panic!("as it should");
            });
            assert!(panicking.join().is_err());
            waiting.join().unwrap()
        });
        assert!(!waited);
    }
}
