//! Threads for work that is done in one go: reading seed texts, scoring, classifying, searching.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use axum::http::StatusCode;
use tokio::sync::Semaphore;

use crate::fault::{Fault, RETRY_AFTER};
use crate::metrics::{Counted, Metrics};
use crate::room::Room;

/// Threads for each processor: the system shares its time among them, so that long work does not hold up short work.
pub(crate) const THREADS_EACH: usize = 4;

/// The threads, and those who wait for one.
#[derive(Debug)]
pub(crate) struct Pool {
    threads: Arc<Semaphore>,
    room: Arc<Room>,
    time: Duration,
    metrics: Arc<Metrics>,
}

/// Whether work is still wanted.
#[derive(Debug, Clone)]
pub(crate) struct Wanted {
    dropped: Arc<AtomicBool>,
    until: Instant,
}

impl Wanted {
    pub(crate) fn go_on(&self) -> bool {
        !self.dropped.load(Ordering::Relaxed) && Instant::now() < self.until
    }
}

/// Says that nobody waits any more.
struct Waiting(Arc<AtomicBool>);

impl Drop for Waiting {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

impl Pool {
    pub(crate) fn new(threads: usize, queue: usize, time: Duration, metrics: Arc<Metrics>) -> Self {
        Self { threads: Arc::new(Semaphore::new(threads)), room: Room::new(threads + queue), time, metrics }
    }

    /// Does work on a thread of its own, and waits for it. It hears when nobody waits any more, or its time is over.
    pub(crate) async fn run<R: Send + 'static>(
        &self,
        work: impl FnOnce(&Wanted) -> Result<R, Fault> + Send + 'static,
    ) -> Result<R, Fault> {
        let Some(ticket) = self.room.take(1) else {
            self.metrics.refused.inc();
            return Err(Fault::busy("there is too much to do at the moment", RETRY_AFTER));
        };
        let waiting = Counted::new(&self.metrics.waiting);
        let failed = || Fault::new(StatusCode::INTERNAL_SERVER_ERROR, "the work failed");
        let permit = Arc::clone(&self.threads).acquire_owned().await.map_err(|_| failed())?;
        drop(waiting);
        let dropped = Arc::new(AtomicBool::new(false));
        let wanted = Wanted { dropped: Arc::clone(&dropped), until: Instant::now() + self.time };
        let waiting = Waiting(dropped);
        let done = tokio::task::spawn_blocking(move || {
            let _held = (permit, ticket);
            work(&wanted)
        });
        let done = done.await.map_err(|_| failed())?;
        drop(waiting);
        done
    }
}
