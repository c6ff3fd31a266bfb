//! The ledger of a sweep: one line for each result, appended under a lock by whichever process has it. What is in it is never changed, so
//! every process that reads it knows the same.

use std::fs::File;
use std::io::{Read, Seek, SeekFrom, Write};
use std::path::PathBuf;
use std::time::{Duration, SystemTime};

use lalograph_storage::storage::StoredFile;
use lalograph_storage::{Folder, StorageError};
use serde::{Deserialize, Serialize};

use super::error::SweepError;
use super::spec::{SweepSpec, Trial};
use crate::run::records::Evaluation;

/// The file.
pub(super) const LEDGER: &str = "ledger.jsonl";

/// A line of the ledger. Trials are numbered from 0, in the order of [`SweepSpec::trials`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum Entry {
    /// The steps that a trial is going to make.
    Planned {
        /// The trial.
        trial: usize,
        /// Its steps.
        steps: u64,
    },
    /// A trial was trained as far as a rung.
    Reached(Reached),
    /// A trial that cannot be trained.
    Failed {
        /// The trial.
        trial: usize,
        /// Why.
        reason: String,
        /// Seconds since the beginning of 1970.
        time: f64,
    },
    /// The test part under the model of the best setting.
    Tested {
        /// The trial whose model it is.
        trial: usize,
        /// The figures.
        evaluation: Evaluation,
        /// Seconds since the beginning of 1970.
        time: f64,
    },
}

/// What a trial had reached at a rung.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Reached {
    /// The trial.
    pub trial: usize,
    /// The rung, from 0.
    pub rung: usize,
    /// Steps made.
    pub steps: u64,
    /// Whether it makes no further step.
    pub finished: bool,
    /// Its best validation so far.
    pub evaluation: Evaluation,
    /// Seconds of training so far.
    pub seconds: f64,
    /// Tokens trained on in a second of training.
    pub tokens_per_second: f64,
    /// Numbers that are learnt.
    pub parameters: u64,
    /// When, in seconds since the beginning of 1970.
    pub time: f64,
}

/// Now, in seconds since the beginning of 1970.
pub(super) fn now() -> f64 {
    SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or(Duration::ZERO).as_secs_f64()
}

/// What is known of a trial.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct TrialState {
    /// The steps that it is going to make, where they are counted beforehand.
    pub planned: Option<u64>,
    /// What it reached at each rung that it came to.
    pub reached: Vec<Option<Reached>>,
    /// Why it cannot be trained.
    pub failed: Option<String>,
}

impl TrialState {
    /// What it reached at a rung: a trial that makes no further steps stays as it is.
    pub fn at(&self, rung: usize) -> Option<&Reached> {
        let there = self.reached.get(rung)?.as_ref();
        there.or_else(|| self.reached[..rung].iter().flatten().find(|earlier| earlier.finished))
    }

    /// The furthest that it came.
    pub fn last(&self) -> Option<&Reached> {
        self.reached.iter().rev().flatten().next()
    }
}

/// All that the ledger says.
#[derive(Debug, Clone, PartialEq)]
pub struct Results {
    trials: Vec<TrialState>,
    /// The trial whose model was tested, with its figures.
    pub tested: Option<(usize, Evaluation)>,
}

impl Results {
    /// Nothing yet.
    pub fn new(spec: &SweepSpec) -> Self {
        let none = TrialState { reached: vec![None; spec.rungs()], ..TrialState::default() };
        Self { trials: vec![none; spec.settings().len() * spec.seeds()], tested: None }
    }

    /// Takes in a line. The first of several about the same thing counts; what is about no trial of the sweep does not.
    pub fn add(&mut self, entry: Entry) {
        match entry {
            Entry::Planned { trial, steps } => {
                if let Some(state) = self.trials.get_mut(trial) {
                    state.planned.get_or_insert(steps);
                }
            }
            Entry::Reached(reached) => {
                let place = self.trials.get_mut(reached.trial).and_then(|s| s.reached.get_mut(reached.rung));
                if let Some(place) = place {
                    place.get_or_insert(reached);
                }
            }
            Entry::Failed { trial, reason, .. } => {
                if let Some(state) = self.trials.get_mut(trial) {
                    state.failed.get_or_insert(reason);
                }
            }
            Entry::Tested { trial, evaluation, .. } => {
                self.tested.get_or_insert((trial, evaluation));
            }
        }
    }

    /// What is known of a trial.
    pub fn trial(&self, spec: &SweepSpec, trial: Trial) -> &TrialState {
        &self.trials[spec.number(trial)]
    }

    /// What is known of all trials, in their order.
    pub fn trials(&self) -> &[TrialState] {
        &self.trials
    }
}

/// The ledger, read as far as it is written.
#[derive(Debug)]
pub struct Ledger {
    folder: Folder,
    path: PathBuf,
    /// Bytes that were read.
    read: u64,
    results: Results,
}

impl Ledger {
    /// The ledger in the folder of a sweep, which may not have one yet.
    pub fn new(folder: Folder, spec: &SweepSpec) -> Self {
        Self { path: folder.path_of(LEDGER), folder, read: 0, results: Results::new(spec) }
    }

    /// What it says so far.
    pub fn results(&self) -> &Results {
        &self.results
    }

    /// Reads what was written since. A last line without its end was cut off, or is just being written: it does not count.
    ///
    /// # Errors
    /// The file cannot be read; a whole line of it is no entry.
    pub fn refresh(&mut self) -> Result<&Results, SweepError> {
        let mut bytes = Vec::new();
        match self.folder.entry(LEDGER)? {
            None => return Ok(&self.results),
            Some(_) => {
                let wrong = || StorageError::at(&self.path);
                let mut file = File::open(&self.path).map_err(wrong())?;
                file.seek(SeekFrom::Start(self.read)).map_err(wrong())?;
                file.read_to_end(&mut bytes).map_err(wrong())?;
            }
        }
        let whole = bytes.iter().rposition(|&byte| byte == b'\n').map_or(0, |end| end + 1);
        for line in bytes[..whole].split(|&byte| byte == b'\n').filter(|line| !line.is_empty()) {
            let entry = serde_json::from_slice(line)
                .map_err(|error| SweepError::Bad { path: self.path.clone(), what: error.to_string() })?;
            self.results.add(entry);
        }
        self.read += whole as u64;
        Ok(&self.results)
    }

    /// Appends a line, whole and synchronised, and reads it with what others have written.
    ///
    /// # Errors
    /// What the file system refuses; another process that holds the ledger for a minute.
    pub fn push(&mut self, entry: &Entry) -> Result<(), SweepError> {
        let mut line =
            serde_json::to_vec(entry).map_err(|error| crate::LabError::Write(error.to_string()))?;
        line.push(b'\n');
        let mut file = self.folder.append(LEDGER)?;
        self.hold(&*file)?;
        let wrong = || StorageError::at(&self.path);
        let length = file.length().map_err(wrong())?;
        // The end of a line that a process died in.
        let whole = self.whole_bytes(length)?;
        if whole < length {
            file.cut(whole).map_err(wrong())?;
        }
        file.write_all(&line).map_err(wrong())?;
        file.sync().map_err(wrong())?;
        drop(file);
        self.refresh()?;
        Ok(())
    }

    /// Waits for the lock.
    fn hold(&self, file: &dyn StoredFile) -> Result<(), SweepError> {
        /// Others hold it while they write a line.
        const PATIENCE: Duration = Duration::from_secs(60);
        const PAUSE: Duration = Duration::from_millis(5);
        let mut waited = Duration::ZERO;
        while !file.try_lock().map_err(StorageError::at(&self.path))? {
            if waited >= PATIENCE {
                return Err(StorageError::Busy(self.path.clone()).into());
            }
            std::thread::sleep(PAUSE);
            waited += PAUSE;
        }
        Ok(())
    }

    /// Bytes up to the end of the last whole line.
    fn whole_bytes(&self, length: u64) -> Result<u64, SweepError> {
        /// Longer than any line.
        const TAIL: u64 = 1 << 16;
        let wrong = || StorageError::at(&self.path);
        let from = length.saturating_sub(TAIL);
        let mut file = File::open(&self.path).map_err(wrong())?;
        file.seek(SeekFrom::Start(from)).map_err(wrong())?;
        let mut tail = Vec::new();
        file.read_to_end(&mut tail).map_err(wrong())?;
        Ok(tail.iter().rposition(|&byte| byte == b'\n').map_or(from, |end| from + end as u64 + 1))
    }
}

#[cfg(test)]
mod tests {
    use super::{Entry, LEDGER, Ledger, Reached};
    use crate::Plan;
    use crate::run::records::Evaluation;
    use crate::sweep::spec::{SweepSpec, Terms};
    use lalograph_storage::{Disk, Folder};
    use std::io::Write;

    fn reached(trial: usize, rung: usize, loss: f64, finished: bool) -> Entry {
        Entry::Reached(Reached {
            trial,
            rung,
            steps: 10,
            finished,
            evaluation: Evaluation { loss, ..Evaluation::default() },
            seconds: 1.0,
            tokens_per_second: 5.0,
            parameters: 7,
            time: 0.5,
        })
    }

    #[test]
    fn lines_of_several_writers_are_whole_and_a_torn_one_is_cut_off() {
        let place = tempfile::tempdir().unwrap();
        let spec =
            SweepSpec::new(Plan::default(), &["model.hidden=4,8,16".into()], Terms::default(), None).unwrap();
        let ledger = || Ledger::new(Folder::open(&Disk, place.path()).unwrap(), &spec);
        let (mut one, mut two) = (ledger(), ledger());
        assert!(one.refresh().unwrap().trials().iter().all(|trial| trial.last().is_none()));
        one.push(&reached(0, 0, 2.0, true)).unwrap();
        let path = place.path().join(LEDGER);
        // Another process died in the middle of a line.
        let mut file = std::fs::OpenOptions::new().append(true).open(&path).unwrap();
        file.write_all(b"{\"kind\":\"reached\",\"tri").unwrap();
        drop(file);
        assert_eq!(two.refresh().unwrap().trials()[0].last().unwrap().evaluation.loss, 2.0);
        two.push(&Entry::Failed { trial: 1, reason: "too wide".into(), time: 1.0 }).unwrap();
        // The first line about a trial counts.
        one.push(&reached(0, 0, 1.0, true)).unwrap();
        for ledger in [&mut one, &mut two] {
            let results = ledger.refresh().unwrap();
            assert_eq!(results.trials()[0].last().unwrap().evaluation.loss, 2.0);
            assert_eq!(results.trials()[1].failed.as_deref(), Some("too wide"));
            assert_eq!(results.trials()[2], super::Results::new(&spec).trials()[2]);
        }
        let text = std::fs::read_to_string(&path).unwrap();
        assert_eq!(text.lines().count(), 3, "{text}");
        let mut file = std::fs::OpenOptions::new().append(true).open(&path).unwrap();
        file.write_all(b"{\"kind\":\"bees\"}\n").unwrap();
        assert!(one.refresh().unwrap_err().to_string().contains(LEDGER));
    }

    #[test]
    fn a_trial_that_is_finished_stays_as_it_is_at_later_rungs() {
        let mut spec =
            SweepSpec::new(Plan::default(), &["model.hidden=4,8".into()], Terms::default(), None).unwrap();
        spec.terms.method = super::super::spec::Method::Racing;
        let mut results = super::Results::new(&spec);
        results.add(reached(0, 0, 3.0, false));
        results.add(reached(0, 1, 2.0, true));
        results.add(reached(9, 0, 2.0, true));
        let trial = &results.trials()[0];
        let losses: Vec<f64> = (0..4).map(|rung| trial.at(rung).unwrap().evaluation.loss).collect();
        assert_eq!(losses, [3.0, 2.0, 2.0, 2.0]);
        assert!(results.trials()[1].at(3).is_none());
    }
}
