//! Reading on one thread, working on several, and everything back in order.

use std::collections::BTreeMap;
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel, sync_channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::ScopedJoinHandle;
use std::time::Duration;

use super::batch::{Batch, Document};
use super::meter::Meter;
use super::reader::Corpus;
use super::reading::{ReadObserver, Reading};
use crate::error::TextError;

/// Nothing may come for so long before somebody is asked whether to continue.
const PATIENCE: Duration = Duration::from_millis(200);

impl Corpus {
    /// Works on all documents with `threads` threads besides the one that reads.
    ///
    /// Every thread has a state made by `new`; `work` turns a batch into a result, and `fold` is given the results in the
    /// order of the documents, whichever was ready first. The number of batches under way is fixed, so memory does not
    /// grow with the corpus. The states come back in no order.
    ///
    /// # Errors
    /// As for [`Corpus::read`]; [`TextError::Stopped`] when the observer stops the work; what `fold` returns.
    pub fn process<S: Send, R: Send>(
        &self,
        threads: usize,
        observer: &mut dyn ReadObserver,
        new: impl Fn() -> S + Sync,
        work: impl Fn(&mut S, &Batch) -> R + Sync,
        mut fold: impl FnMut(&Batch, R) -> Result<(), TextError>,
    ) -> Result<(Reading, Vec<S>), TextError> {
        let threads = threads.max(1);
        let meter = Arc::new(Meter::default());
        let (free, empties) = channel::<Batch>();
        for _ in 0..threads * 2 {
            let _ = free.send(Batch::default());
        }
        let (filled, waiting) = sync_channel::<(u64, Batch)>(threads * 2);
        let waiting = Mutex::new(waiting);
        let (done, results) = channel::<(u64, Batch, R)>();
        std::thread::scope(|scope| {
            let reader = scope.spawn({
                let meter = Arc::clone(&meter);
                move || {
                    let mut number = 0;
                    self.scan(Batch::default(), &meter, &mut |batch| {
                        filled.send((number, batch)).ok()?;
                        number += 1;
                        empties.recv().ok()
                    })
                }
            });
            let workers: Vec<_> = (0..threads)
                .map(|_| {
                    let (done, new, work, waiting) = (done.clone(), &new, &work, &waiting);
                    scope.spawn(move || {
                        let mut state = new();
                        while let Some((number, batch)) = next(waiting) {
                            let result = work(&mut state, &batch);
                            if done.send((number, batch, result)).is_err() {
                                break;
                            }
                        }
                        state
                    })
                })
                .collect();
            drop(done);
            let mut reading = Reading::default();
            let folded = (|| {
                let mut early = BTreeMap::new();
                let mut number = 0;
                loop {
                    let (of, batch, result) = match results.recv_timeout(PATIENCE) {
                        Ok(done) => done,
                        Err(RecvTimeoutError::Disconnected) => break,
                        // Whoever waits for a pipe may be asked to stop meanwhile.
                        Err(RecvTimeoutError::Timeout) if observer.progress(meter.bytes()) => continue,
                        Err(RecvTimeoutError::Timeout) => return Err(TextError::Stopped),
                    };
                    early.insert(of, (batch, result));
                    while let Some((mut batch, result)) = early.remove(&number) {
                        number += 1;
                        self.note(&mut reading, &batch, observer)?;
                        fold(&batch, result)?;
                        batch.clear();
                        let _ = free.send(batch);
                        if !observer.progress(meter.bytes()) {
                            return Err(TextError::Stopped);
                        }
                    }
                }
                Ok(())
            })();
            // With both ends gone the threads come to their end, wherever they are.
            meter.stop();
            drop((free, results));
            let states: Vec<S> = workers.into_iter().map(joined).collect();
            let scanned = joined(reader);
            folded?;
            scanned?;
            Ok((reading.whole()?, states))
        })
    }

    /// Passes on every document in order from the first to the last, with progress.
    ///
    /// # Errors
    /// As for [`Corpus::read`], and [`TextError::Stopped`] after a stop.
    pub fn read_through(
        &self,
        observer: &mut dyn ReadObserver,
        mut each: impl FnMut(Document<'_>),
    ) -> Result<Reading, TextError> {
        let nothing = |_: &mut (), _: &Batch| ();
        let (reading, _) = self.process(
            1,
            observer,
            || (),
            nothing,
            |batch, ()| {
                batch.documents().for_each(&mut each);
                Ok(())
            },
        )?;
        Ok(reading)
    }
}

/// The result of a thread. If it panicked, the panic continues here: a result without a part of the corpus must not pass for a whole one.
pub(crate) fn joined<T>(thread: ScopedJoinHandle<'_, T>) -> T {
    thread.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
}

fn next(waiting: &Mutex<Receiver<(u64, Batch)>>) -> Option<(u64, Batch)> {
    waiting.lock().unwrap_or_else(PoisonError::into_inner).recv().ok()
}
