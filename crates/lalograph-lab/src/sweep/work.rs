//! Work on a sweep: threads of this process that take trials, beside any other process that does.

use std::collections::BTreeSet;
use std::path::Path;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use lalograph_storage::Storage;
use lalograph_vectors::VectorError;

use super::course::{Due, Job, due, racing};
use super::error::SweepError;
use super::folder::SweepFolder;
use super::keeping::{Kept, kept};
use super::ledger::{Entry, Ledger, Reached, now};
use super::ranking::rank;
use super::spec::Trial;
use super::trial::{test_trial, train_trial};
use super::turn::{Ended, Known, Place};
use crate::error::LabError;
use crate::run::records::Evaluation;

/// How often a thread that waits for others looks again.
const PAUSE: Duration = Duration::from_millis(100);

/// How this process works on a sweep.
pub struct Work<'w> {
    /// Where everything is written.
    pub storage: &'w dyn Storage,
    /// The folder of encoded corpora, which all trials share.
    pub tokens: &'w Path,
    /// The folder that the plan's paths are meant from, if it is not the current one.
    pub base: Option<&'w Path>,
    /// Trials at once.
    pub jobs: usize,
    /// Threads of all of them together.
    pub threads: usize,
    /// No trial begins that would not end within this time, by the mean of those that did.
    pub limit: Option<Duration>,
    /// The version of the program, for the runs' descriptions.
    pub program_version: &'w str,
    /// The time, as a run's description has it.
    pub clock: &'w (dyn Fn() -> String + Sync),
    /// Says why what needs so many bytes of memory cannot be trained, if so.
    pub memory: &'w (dyn Fn(u64) -> Result<(), String> + Sync),
}

/// Something that happened to a sweep.
#[derive(Debug)]
pub enum SweepEvent<'e> {
    /// A trial is about to be trained as far as a rung.
    Started {
        /// The trial.
        trial: Trial,
        /// The rung, from 0.
        rung: usize,
    },
    /// A trial made a step, or is validated (step 0).
    Step {
        /// The trial.
        trial: Trial,
        /// Its step.
        step: u64,
        /// Its steps.
        steps: u64,
    },
    /// A trial came to its rung.
    Reached(Trial, &'e Reached),
    /// A trial cannot be trained.
    Failed(Trial, &'e str),
    /// The test part is being scored under the best model.
    Testing(Trial),
    /// Nothing happens: is this process to go on?
    Waiting,
}

/// Somebody who hears of a sweep, from several threads. Stopping lets every trial finish its step and write a checkpoint.
pub trait SweepObserver: Sync {
    /// Hears of an event; `false` stops.
    fn event(&self, event: &SweepEvent<'_>) -> bool;
}

impl<F: Fn(&SweepEvent<'_>) -> bool + Sync> SweepObserver for F {
    fn event(&self, event: &SweepEvent<'_>) -> bool {
        self(event)
    }
}

/// How work on a sweep ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WorkEnd {
    /// Nothing is left to do.
    Over,
    /// The observer stopped it.
    Stopped,
    /// The time was up.
    OutOfTime,
}

/// Works on a sweep until nothing is left, beside any other process that does. In the end the best plan is written and the test part scored once.
///
/// # Errors
/// What is no trial's own fault: a corpus that is not there, a disk that is full. The trials under way are given back.
pub fn work(
    sweep: &SweepFolder,
    how: &Work<'_>,
    observer: &dyn SweepObserver,
) -> Result<WorkEnd, SweepError> {
    let crew = Crew {
        sweep,
        how,
        observer,
        ledger: Mutex::new(sweep.ledger(how.storage)?),
        taken: Mutex::new(BTreeSet::new()),
        bare: Mutex::new(BTreeSet::new()),
        stopped: AtomicBool::new(false),
        started: Instant::now(),
        pace: Mutex::new((0.0, 0)),
    };
    let jobs = how.jobs.clamp(1, sweep.spec().trials().count().max(1));
    let threads = |worker: usize| (how.threads / jobs + usize::from(worker < how.threads % jobs)).max(1);
    let ends: Vec<Result<WorkEnd, SweepError>> = std::thread::scope(|scope| {
        let crew = &crew;
        let workers: Vec<_> =
            (0..jobs).map(|worker| scope.spawn(move || crew.take_trials(threads(worker)))).collect();
        workers
            .into_iter()
            .map(|worker| worker.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
            .collect()
    });
    let mut end = WorkEnd::Over;
    for one in ends {
        match one? {
            WorkEnd::Over => {}
            WorkEnd::Stopped => end = WorkEnd::Stopped,
            WorkEnd::OutOfTime if end == WorkEnd::Over => end = WorkEnd::OutOfTime,
            WorkEnd::OutOfTime => {}
        }
    }
    if end == WorkEnd::Over && !crew.finish()? {
        end = WorkEnd::Stopped;
    }
    Ok(end)
}

struct Crew<'c> {
    sweep: &'c SweepFolder,
    how: &'c Work<'c>,
    observer: &'c dyn SweepObserver,
    ledger: Mutex<Ledger>,
    /// Trials that a thread of this process has.
    taken: Mutex<BTreeSet<Trial>>,
    /// Trials of which only records are left.
    bare: Mutex<BTreeSet<Trial>>,
    stopped: AtomicBool,
    started: Instant,
    /// Seconds of the turns that ended, and their number.
    pace: Mutex<(f64, u32)>,
}

/// A mutex whose holder panicked is no reason for another panic.
fn held<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

impl Crew<'_> {
    fn hear(&self, event: &SweepEvent<'_>) -> bool {
        if !self.observer.event(event) {
            self.stopped.store(true, Ordering::SeqCst);
        }
        self.goes_on()
    }

    fn goes_on(&self) -> bool {
        !self.stopped.load(Ordering::SeqCst)
    }

    fn place(&self) -> Place<'_> {
        let Work { storage, tokens, base, program_version, clock, .. } = *self.how;
        Place { storage, sweep: self.sweep, tokens, base, program_version, clock }
    }

    /// Takes trials until nothing is left.
    fn take_trials(&self, threads: usize) -> Result<WorkEnd, SweepError> {
        let end = self.trials(threads);
        if end.is_err() {
            // What hinders one hinders all: the others finish their step and write a checkpoint.
            self.stopped.store(true, Ordering::SeqCst);
        }
        end
    }

    fn trials(&self, threads: usize) -> Result<WorkEnd, SweepError> {
        loop {
            if !self.goes_on() {
                return Ok(WorkEnd::Stopped);
            }
            let due = {
                let mut ledger = held(&self.ledger);
                due(self.sweep.spec(), self.sweep.figure(), ledger.refresh()?)
            };
            let Due::Jobs(jobs) = due else { return Ok(WorkEnd::Over) };
            if self.is_out_of_time() {
                return Ok(WorkEnd::OutOfTime);
            }
            let mut any = false;
            for job in jobs {
                if self.try_job(job, threads)? {
                    any = true;
                    break;
                }
            }
            if !any {
                self.hear(&SweepEvent::Waiting);
                std::thread::sleep(PAUSE);
            }
        }
    }

    /// Whether a further trial would end too late. The first always starts.
    fn is_out_of_time(&self) -> bool {
        let (seconds, turns) = *held(&self.pace);
        let expected = if turns == 0 { 0.0 } else { seconds / f64::from(turns) };
        self.how.limit.is_some_and(|limit| {
            turns > 0 && self.started.elapsed().as_secs_f64() + expected > limit.as_secs_f64()
        })
    }

    /// Does a job if nobody else has its trial; returns whether it was done.
    fn try_job(&self, job: Job, threads: usize) -> Result<bool, SweepError> {
        if !held(&self.taken).insert(job.trial) {
            return Ok(false);
        }
        let done = self.try_claim(job, threads);
        held(&self.taken).remove(&job.trial);
        done
    }

    fn try_claim(&self, job: Job, threads: usize) -> Result<bool, SweepError> {
        let spec = self.sweep.spec();
        let Some(_claim) = self.sweep.claim(self.how.storage, &spec.name(job.trial))? else {
            return Ok(false);
        };
        // Whoever had it before may have done it.
        let still_due = {
            let mut ledger = held(&self.ledger);
            let state = ledger.refresh()?.trial(spec, job.trial);
            state.failed.is_none() && state.at(job.rung).is_none()
        };
        if still_due {
            self.carry_out(job, threads)?;
        }
        Ok(still_due)
    }

    fn carry_out(&self, job: Job, threads: usize) -> Result<(), SweepError> {
        let (spec, trial) = (self.sweep.spec(), job.trial);
        let (number, started) = (spec.number(trial), Instant::now());
        self.hear(&SweepEvent::Started { trial, rung: job.rung });
        let stop = || !self.goes_on();
        let mut admit = |known: &Known| {
            // What one trial needs is its own matter; what several need together is that of this process.
            let (memory, jobs) = (self.how.memory, self.how.jobs);
            memory(known.bytes).map_err(SweepError::Memory)?;
            memory(known.bytes.saturating_mul(jobs as u64))
                .map_err(|what| SweepError::Crowded { jobs, what })?;
            if spec.terms.budget_steps.is_some() {
                held(&self.ledger).push(&Entry::Planned { trial: number, steps: known.steps })?;
            }
            Ok(())
        };
        let mut each = |step: u64, steps: u64| match self.hear(&SweepEvent::Step { trial, step, steps }) {
            true => std::ops::ControlFlow::Continue(()),
            false => std::ops::ControlFlow::Break(()),
        };
        let ended = train_trial(&self.place(), (trial, job.rung), threads, &stop, &mut admit, &mut each);
        let entry = match ended {
            Ok(Ended::Stopped) => return Ok(()),
            Ok(Ended::Reached(reached)) => Entry::Reached(*reached),
            Err(_) if !self.goes_on() => return Ok(()),
            Err(error) if is_its_own(&error) => {
                Entry::Failed { trial: number, reason: error.to_string(), time: now() }
            }
            Err(error) => return Err(error),
        };
        held(&self.ledger).push(&entry)?;
        {
            let mut pace = held(&self.pace);
            *pace = (pace.0 + started.elapsed().as_secs_f64(), pace.1 + 1);
        }
        match &entry {
            Entry::Reached(reached) => self.hear(&SweepEvent::Reached(trial, reached)),
            Entry::Failed { reason, .. } => self.hear(&SweepEvent::Failed(trial, reason)),
            _ => true,
        };
        self.shed()
    }

    /// Removes weights that are not needed any more.
    fn shed(&self) -> Result<(), SweepError> {
        let (spec, figure) = (self.sweep.spec(), self.sweep.figure());
        let all = {
            let ledger = held(&self.ledger);
            let results = ledger.results();
            let states = kept(spec, figure, results, &racing(spec, figure, results));
            let seen = |trial: &Trial| {
                let state = results.trial(spec, *trial);
                state.failed.is_some() || state.last().is_some()
            };
            spec.trials().zip(states).filter(|(trial, _)| seen(trial)).collect::<Vec<_>>()
        };
        for (trial, kept) in all {
            if kept != Kept::All && !held(&self.bare).contains(&trial) {
                self.sweep.shed(self.how.storage, trial, kept == Kept::Records)?;
                if kept == Kept::Records {
                    held(&self.bare).insert(trial);
                }
            }
        }
        Ok(())
    }

    /// Writes the best plan and scores the test part under the best model, once; `false` if it was stopped.
    fn finish(&self) -> Result<bool, SweepError> {
        let (spec, figure) = (self.sweep.spec(), self.sweep.figure());
        self.shed()?;
        loop {
            let (best, tested) = {
                let mut ledger = held(&self.ledger);
                let results = ledger.refresh()?;
                (rank(spec, figure, results).ranked.into_iter().next(), results.tested.is_some())
            };
            let Some(best) = best else { return Ok(true) };
            self.sweep.write_best(self.how.storage, &best)?;
            if tested {
                return Ok(true);
            }
            let trial = Trial { setting: best.setting, seed: best.best_seed };
            if let Some(_claim) = self.sweep.claim(self.how.storage, "test")? {
                if held(&self.ledger).refresh()?.tested.is_some() {
                    return Ok(true);
                }
                self.hear(&SweepEvent::Testing(trial));
                let stop = || !self.hear(&SweepEvent::Waiting);
                let found = test_trial(&self.place(), trial, self.how.threads, &stop);
                return match found {
                    Err(_) if !self.goes_on() => Ok(false),
                    Err(error) => Err(error),
                    Ok(None) => Ok(self.goes_on()),
                    Ok(Some(evaluation)) => {
                        let trial = spec.number(trial);
                        held(&self.ledger).push(&Entry::Tested { trial, evaluation, time: now() })?;
                        Ok(true)
                    }
                };
            }
            if !self.hear(&SweepEvent::Waiting) {
                return Ok(false);
            }
            std::thread::sleep(PAUSE);
        }
    }
}

/// Whether an error is of one trial alone: others with other settings may well be trained.
fn is_its_own(error: &SweepError) -> bool {
    match error {
        SweepError::Plan(_) | SweepError::Memory(_) | SweepError::NoValidation | SweepError::Rungs { .. } => {
            true
        }
        SweepError::Lab(error) => match error {
            LabError::Text(error) => !matches!(
                error,
                lalograph_text::TextError::Io { .. }
                    | lalograph_text::TextError::Missing(_)
                    | lalograph_text::TextError::Scratch(_)
                    | lalograph_text::TextError::Stopped
            ),
            LabError::Plan(_)
            | LabError::Shape(_)
            | LabError::TooShort { .. }
            | LabError::NotFinite { .. }
            | LabError::Diverged { .. }
            | LabError::Start { .. }
            | LabError::SeedUnknown
            | LabError::NoValidation { .. }
            | LabError::ClassUnseen { .. }
            | LabError::Vectors(
                VectorError::NotFinite | VectorError::TooLittle | VectorError::Setting { .. },
            ) => true,
            _ => false,
        },
        _ => false,
    }
}

/// The figures of the test part that a sweep has, with the setting whose model it was.
pub fn tested<'r>(
    sweep: &SweepFolder,
    results: &'r super::ledger::Results,
) -> Option<(Trial, &'r Evaluation)> {
    let (number, evaluation) = results.tested.as_ref()?;
    let seeds = sweep.spec().seeds();
    Some((Trial { setting: number / seeds, seed: number % seeds }, evaluation))
}
