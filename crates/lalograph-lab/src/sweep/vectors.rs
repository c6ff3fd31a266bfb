//! A trial of word vectors: it is short, so it is trained in one go, and is no run.

use std::ops::ControlFlow;
use std::time::Instant;

use lalograph_net::step::exchange::OneProcess;
use lalograph_storage::{Existing, Folder, WholeFile};
use lalograph_vectors::train::{LearningProgress, Learnt};

use super::error::SweepError;
use super::ledger::{Reached, now};
use super::spec::Trial;
use super::turn::{Ended, Known, Place, Steps};
use crate::data::token_cache::TokenCache;
use crate::error::LabError;
use crate::plan::{Plan, VectorsWay};
use crate::task::events::PreparationEvent;
use crate::task::vectors::{Judges, make_vectors, read_for_vectors, tokens_to_read, vector_file};

/// Trains the vectors of a trial, judges them, and writes them down. Its steps are epochs.
pub(super) fn train_vectors(
    place: &Place<'_>,
    trial: Trial,
    plan: &Plan,
    threads: usize,
    stop: &(dyn Fn() -> bool + Sync),
    admit: &mut dyn FnMut(&Known) -> Result<(), SweepError>,
    each: &mut Steps<'_>,
) -> Result<Ended, SweepError> {
    let mut there = plan.clone();
    if let Some(base) = place.base {
        there.start_paths_at(base);
    }
    let own = there.vectors.clone().unwrap_or_default();
    let way = own.way(there.training.seed);
    let judges = Judges::read(&own)?;
    let cache = TokenCache { storage: place.storage, path: place.tokens };
    let mut observer = |_: &PreparationEvent<'_>| match stop() {
        true => ControlFlow::Break(()),
        false => ControlFlow::Continue(()),
    };
    let (vocabulary, corpus) = read_for_vectors(&there, threads, Some(cache), &mut observer)?;
    let (text, words) = (&corpus.training, vocabulary.len());
    let length = (text.len() as u64).max(1);
    let steps = tokens_to_read(&way, text) / length;
    let (bytes, rows) = match &way {
        VectorsWay::Predicting(settings) => {
            let pieces = settings.pieces.as_ref().map_or(0, |pieces| u64::from(pieces.rows));
            (settings.bytes(words, own.lanes), words as u64 + pieces)
        }
        VectorsWay::Factorising(_) => (0, words as u64),
    };
    admit(&Known { steps, bytes })?;
    let started = Instant::now();
    let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().map_err(LabError::from)?;
    let made = pool.install(|| {
        let mut hear = |reached: &LearningProgress, _: Option<&mut dyn FnMut() -> Learnt>| {
            each(reached.tokens / length, steps).is_continue() && !stop()
        };
        make_vectors(&way, &vocabulary, text, &mut OneProcess::default(), &mut hear)
    });
    let table = match made {
        Err(_) if stop() => return Ok(Ended::Stopped),
        made => made.map_err(LabError::from)?,
    };
    let seconds = started.elapsed().as_secs_f64();
    let evaluation = judges.evaluate(&table);
    let folder = place.sweep.run(trial);
    Folder::make(place.storage, &folder)?;
    // A process may have died after it wrote them and before the ledger heard of it: they are the same.
    let file = WholeFile::create(place.storage, &place.sweep.vectors(trial), Existing::Replace)?;
    vector_file(&way, vocabulary, table)?.save(file)?;
    Ok(Ended::Reached(Box::new(Reached {
        trial: place.sweep.spec().number(trial),
        rung: 0,
        steps,
        finished: true,
        evaluation,
        seconds,
        tokens_per_second: (steps * length) as f64 / seconds.max(1e-9),
        parameters: rows * own.dimensions as u64,
        time: now(),
    })))
}
