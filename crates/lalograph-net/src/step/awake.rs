//! Threads that stay awake between the short parts of a training step.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use rayon::Yield;

/// How often a thread looks for work before it may fall asleep: for about a tenth of a millisecond.
const LOOKS: usize = 300;

/// Keeps the threads of the pool awake while steps follow each other. A step has several parts that run on all threads, some of them shorter
/// than the time in which the system wakes a thread; a pool lets its threads sleep after a few microseconds without work.
#[derive(Debug, Clone, Default)]
pub struct Awake {
    /// Threads that are kept awake.
    threads: Arc<AtomicUsize>,
}

impl Awake {
    /// Wakes the other threads of the pool of the thread that calls, if none of them is awake any more. They fall asleep when there is nothing to do for
    /// about a tenth of a millisecond.
    pub fn wake(&self) {
        let caller = rayon::current_thread_index();
        let others = rayon::current_num_threads() - usize::from(caller.is_some());
        if others == 0 || self.threads.load(Ordering::Relaxed) > 0 {
            return;
        }
        self.threads.store(others, Ordering::Relaxed);
        let awake = Arc::clone(&self.threads);
        rayon::spawn_broadcast(move |context| {
            // The thread that calls comes here while it waits for others, and must not wait for work.
            if Some(context.index()) != caller {
                stay();
                awake.fetch_sub(1, Ordering::Relaxed);
            }
        });
    }
}

/// Does whatever work there is, until there is none for some time.
fn stay() {
    let mut looks = 0;
    while looks < LOOKS {
        match rayon::yield_now() {
            Some(Yield::Executed) => looks = 0,
            _ => {
                looks += 1;
                std::thread::yield_now();
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use rayon::prelude::*;

    use super::*;

    /// Waits until all have fallen asleep.
    fn rest(awake: &Awake) {
        while awake.threads.load(Ordering::Relaxed) > 0 {
            std::thread::yield_now();
        }
    }

    #[test]
    fn work_is_done_while_threads_are_kept_awake_and_they_sleep_when_there_is_none() {
        for threads in [1, 2, 5] {
            let awake = Awake::default();
            let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
            pool.install(|| {
                for step in 0..200u64 {
                    awake.wake();
                    assert!(awake.threads.load(Ordering::Relaxed) < threads);
                    let sum: u64 = (0..1000u64).into_par_iter().map(|x| x * step).sum();
                    assert_eq!(sum, 499_500 * step);
                }
            });
            rest(&awake);
            // Woken again after that, and left while they are awake.
            pool.install(|| awake.wake());
            drop(pool);
            rest(&awake);
        }
    }

    #[test]
    fn a_thread_outside_of_any_pool_wakes_all_threads() {
        let awake = Awake::default();
        awake.wake();
        assert!(awake.threads.load(Ordering::Relaxed) <= rayon::current_num_threads());
        rest(&awake);
    }
}
