//! Checkpoints: the complete state of a run, enough to continue to the bit. `docs/formats/checkpoint.md` describes the file.
//!
//! The random draws of a step follow from the seed and the step's number, so no random state is kept; the position of the next window
//! follows from the step's number as well.

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::fs;
use std::path::{Path, PathBuf};

use lalograph_net::Network;
use lalograph_storage::{Existing, Folder, StorageError, WholeFile};
use serde::{Deserialize, Serialize};

use super::container::{Assets, Container, Kind, Numbers, json, write_container};
use super::model_file::tensors;
use crate::error::LabError;
use crate::training::meters::Meters;
use crate::training::schedule::Plateau;
use crate::training::selection::Selection;
use crate::training::time_limit::Shortened;
use crate::training::trainer::{LaneLayer, Trainer};

const KIND: Kind = Kind { format: "lalograph checkpoint", version: "1" };

/// The position of a run, but for its arrays of numbers.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Position {
    /// Steps made.
    pub(crate) step: u64,
    /// The next action: the name of a duty, `record`, `validate`, or `step`.
    pub(crate) next: String,
    pub(crate) seconds: f64,
    pub(crate) meters: Meters,
    pub(crate) plateau: Plateau,
    pub(crate) shortened: Shortened,
    pub(crate) selection: Selection,
    /// Bytes of each file of records that belong to the steps so far.
    pub(crate) record_bytes: BTreeMap<String, u64>,
    pub(crate) optimiser_steps: u64,
}

/// A checkpoint in memory.
#[derive(Debug, Clone)]
pub struct Checkpoint {
    pub(crate) position: Position,
    /// The names and shapes of the weights, in their order.
    layout: Vec<(String, Vec<usize>)>,
    weights: Vec<f32>,
    memory: [Vec<f32>; 3],
    /// The states of lanes, by the names of their tensors.
    states: BTreeMap<String, Vec<f32>>,
    pub(crate) best: Option<Vec<f32>>,
}

const BEST: &str = "best";
/// The names of what the optimiser remembers.
const MEMORY: [&str; 3] = ["optimiser.first", "optimiser.second", "optimiser.average"];
const STATES: &str = "state.";

fn state_name(LaneLayer { lane, layer }: LaneLayer) -> String {
    format!("{STATES}lane{lane}.layer{layer}")
}

/// Writes a checkpoint whole, or not at all, in place of an older one of the same step. `assets` are those of the task.
pub(crate) fn save<N: Network>(
    folder: &Folder,
    mut assets: Assets,
    position: &Position,
    trainer: &mut Trainer<'_, N>,
    best: Option<&[f32]>,
) -> Result<(), LabError> {
    assets.insert("position", json(position)?);
    let states = trainer.states();
    let mut all = tensors(trainer.net().layout(), trainer.weights());
    let flat = |name: String, values| Numbers { name, shape: vec![<[f32]>::len(values)], values };
    let memory = trainer.optimiser().memory().into_iter().zip(MEMORY);
    all.extend(
        memory
            .filter(|((_, values), _)| !values.is_empty())
            .map(|((_, values), name)| flat(name.into(), values)),
    );
    all.extend(states.iter().map(|(name, values)| flat(state_name(*name), values)));
    all.extend(best.map(|values| flat(BEST.into(), values)));
    let mut file = WholeFile::within(folder, name_of(position.step).as_ref(), Existing::Replace)?;
    let path = file.path();
    write_container(KIND, assets, &all, &mut file).map_err(StorageError::at(&path))?;
    Ok(file.finish()?)
}

impl Checkpoint {
    /// Reads and checks a checkpoint.
    ///
    /// # Errors
    /// The file cannot be read; it is damaged, cut short or of another kind.
    pub fn load(path: &Path) -> Result<Self, LabError> {
        let bad = |what| LabError::BadCheckpoint { path: path.to_owned(), what };
        Self::of(&Container::open(path, KIND, bad)?).map_err(bad)
    }

    /// The step that it was written after.
    pub fn step(&self) -> u64 {
        self.position.step
    }

    /// The weights at that step.
    pub fn weights(&self) -> &[f32] {
        &self.weights
    }

    /// The states of all lanes, in the order of their names.
    pub(crate) fn states(&self, names: impl Iterator<Item = LaneLayer>) -> Vec<f32> {
        names.filter_map(|name| self.states.get(&state_name(name))).flatten().copied().collect()
    }

    fn of(file: &Container) -> Result<Self, String> {
        let position: Position = serde_json::from_str(file.asset("position")?)
            .map_err(|error| format!("its position: {error}"))?;
        let (mut layout, mut weights, mut states) = (Vec::new(), Vec::new(), BTreeMap::new());
        for name in file.names() {
            if name.starts_with(STATES) {
                states.insert(name.to_owned(), file.all_numbers(name)?.to_vec());
            } else if name != BEST && !MEMORY.contains(&name) {
                layout.push((name.to_owned(), file.shape(name)?.to_vec()));
                weights.extend(file.all_numbers(name)?);
            }
        }
        let all = [weights.len()];
        let numbers = |name: &str| match file.has(name) {
            true => file.numbers(name, &all).map(<[f32]>::to_vec),
            false => Ok(Vec::new()),
        };
        let [first, second, average] = MEMORY.map(numbers);
        let best = if file.has(BEST) { Some(numbers(BEST)?) } else { None };
        Ok(Self { position, layout, weights, memory: [first?, second?, average?], states, best })
    }

    /// Puts everything back.
    ///
    /// # Errors
    /// The checkpoint is of another model or another optimiser than that of the run, whose checkpoints are at `path`; the data cannot be
    /// read any more.
    pub(crate) fn restore<N: Network>(
        &self,
        trainer: &mut Trainer<'_, N>,
        path: PathBuf,
    ) -> Result<(), LabError> {
        let tensors = trainer.net().layout().tensors();
        let same_layout = tensors.len() == self.layout.len()
            && tensors
                .iter()
                .zip(&self.layout)
                .all(|(own, (name, shape))| own.name == *name && own.shape == *shape);
        let memory = trainer.optimiser().memory().map(|(_, values)| values.len());
        let lengths = trainer.state_lengths();
        let fits = |(name, length): &(LaneLayer, usize)| {
            self.states.get(&state_name(*name)).is_some_and(|found| found.len() == *length)
        };
        let same_states = lengths.len() == self.states.len() && lengths.iter().all(fits);
        if !same_layout || !same_states || memory != self.memory.each_ref().map(Vec::len) {
            let what = "it belongs to another model or optimiser than the run's plan".into();
            return Err(LabError::BadCheckpoint { path, what });
        }
        trainer.weights_mut().copy_from_slice(&self.weights);
        let memory = self.memory.each_ref().map(Vec::as_slice);
        trainer.optimiser_mut().remember(self.position.optimiser_steps, memory);
        trainer.go_to(self.position.step)?;
        for (lane, states) in trainer.states_mut() {
            for (layer, to) in states.iter_mut().enumerate() {
                if let Some(from) = self.states.get(&state_name(LaneLayer { lane, layer })) {
                    to.copy_from_slice(from);
                }
            }
        }
        Ok(())
    }
}

/// The checkpoints in a folder by their names, the newest first; none if there is no such folder.
///
/// # Errors
/// A folder that cannot be read.
pub fn checkpoints(folder: &Path) -> Result<Vec<(u64, PathBuf)>, LabError> {
    let entries = match fs::read_dir(folder) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
        entries => entries.map_err(LabError::at(folder))?,
    };
    let mut found = Vec::new();
    for entry in entries {
        let path = entry.map_err(LabError::at(folder))?.path();
        found.extend(path.file_name().and_then(step_of).map(|step| (step, path.clone())));
    }
    found.sort_by(|a, b| b.cmp(a));
    Ok(found)
}

/// The file of a step's checkpoint.
fn name_of(step: u64) -> String {
    format!("step-{step:010}.safetensors")
}

/// The step whose checkpoint a file is, by its name.
fn step_of(name: &OsStr) -> Option<u64> {
    name.to_str()?.strip_prefix("step-")?.strip_suffix(".safetensors")?.parse().ok()
}

/// The newest checkpoint that is whole; `damaged` is given newer ones that are not. None if there is none at all.
///
/// # Errors
/// A folder that cannot be read.
pub fn newest(folder: &Path, mut damaged: impl FnMut(&LabError)) -> Result<Option<Checkpoint>, LabError> {
    for (_, path) in checkpoints(folder)? {
        match Checkpoint::load(&path) {
            Ok(checkpoint) => return Ok(Some(checkpoint)),
            Err(error) => damaged(&error),
        }
    }
    Ok(None)
}

/// Removes all but the newest `keep`, the newest of them first: if it is stopped halfway, the older ones are still there.
pub(crate) fn keep_newest(folder: &Folder, keep: usize) -> Result<(), LabError> {
    let entries = folder.entries()?;
    let mut steps: Vec<_> = entries.iter().filter_map(|(name, _)| Some((step_of(name)?, name))).collect();
    steps.sort_unstable_by(|a, b| b.cmp(a));
    for (_, name) in steps.into_iter().skip(keep) {
        folder.remove_file(name)?;
    }
    Ok(())
}
