//! Checkpoints: all that a run needs to go on as if it had never stopped. `docs/formats/checkpoint.md` describes the file.
//!
//! What chance decides in a step follows from the seed and the step's number, so there is no random state to keep; where the next window
//! begins follows from the step's number as well.

use std::fs;
use std::path::{Path, PathBuf};

use lalograph_net::LanguageModel;
use serde::{Deserialize, Serialize};

use crate::error::LabError;
use crate::files::{Existing, WholeFile};
use crate::model_file::{Described, ModelContent, weights};
use crate::schedule::Plateau;
use crate::score::Score;
use crate::sealed::{Numbers, Sealed, json, write_sealed};
use crate::trainer::Trainer;

const FORMAT: &str = "lalograph checkpoint";
const VERSION: &str = "1";
const BEST: &str = "best";

/// What is done after a step, in this order; each is done once for a step, however often the run is stopped.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub(crate) enum Duty {
    /// How far back gradients reach.
    Flow,
    /// A line of training figures.
    Record,
    /// The validation text.
    Validate,
    /// Samples.
    Sample,
    /// Nothing: the next step.
    Step,
}

/// Sums over the steps since the last line of training figures.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Recent {
    pub(crate) steps: u64,
    pub(crate) loss: f64,
    pub(crate) norm: f64,
    pub(crate) norm_after: f64,
    pub(crate) clipped: u64,
    pub(crate) tokens: u64,
    pub(crate) seconds: f64,
}

/// Bytes of the files of records that belong to the steps so far.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct RecordBytes {
    pub(crate) metrics: u64,
    pub(crate) samples: u64,
    pub(crate) flow: u64,
}

/// Where a run stands, but for its arrays of numbers.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Position {
    /// Steps made.
    pub(crate) step: u64,
    /// What comes next.
    pub(crate) next: Duty,
    pub(crate) tokens: u64,
    pub(crate) seconds: f64,
    pub(crate) training_seconds: f64,
    pub(crate) recent: Recent,
    pub(crate) training_loss: Option<f64>,
    pub(crate) plateau: Plateau,
    /// The step of the best weights, the tokens learnt from until then, and their score.
    pub(crate) best: Option<(u64, u64, Score)>,
    pub(crate) last_validation: Option<Score>,
    /// The loss that `patience` waits to see undercut, and for how many validations it has.
    pub(crate) gain: Option<f64>,
    pub(crate) waited: u64,
    pub(crate) record_bytes: RecordBytes,
    pub(crate) optimiser_steps: u64,
}

/// A checkpoint in memory.
#[derive(Debug, Clone)]
pub struct Checkpoint {
    pub(crate) position: Position,
    weights: Vec<f32>,
    memory: [Vec<f32>; 3],
    states: Vec<Vec<Vec<f32>>>,
    pub(crate) best: Option<Vec<f32>>,
}

/// The names of what the optimiser remembers.
const MEMORY: [&str; 3] = ["optimiser.first", "optimiser.second", "optimiser.average"];

fn state_name(lane: usize, layer: usize) -> String {
    format!("state.lane{lane}.layer{layer}")
}

/// Writes a checkpoint whole, or not at all, in place of an older one of the same step.
pub(crate) fn save(
    path: &Path,
    content: &ModelContent<'_>,
    position: &Position,
    trainer: &Trainer<'_>,
    best: Option<&[f32]>,
) -> Result<(), LabError> {
    let mut metadata = content.metadata(FORMAT, VERSION);
    metadata.insert("position", json(position));
    let mut tensors = content.tensors();
    let flat = |name: String, values| Numbers { name, shape: vec![<[f32]>::len(values)], values };
    let memory = trainer.optimiser.memory().into_iter().zip(MEMORY);
    tensors.extend(
        memory
            .filter(|((_, values), _)| !values.is_empty())
            .map(|((_, values), name)| flat(name.into(), values)),
    );
    for (lane, states) in trainer.team.states().enumerate() {
        let states = states.iter().enumerate();
        tensors.extend(states.map(|(layer, values)| flat(state_name(lane, layer), values)));
    }
    tensors.extend(best.map(|values| flat(BEST.into(), values)));
    let mut file = WholeFile::create(path, Existing::Replace)?;
    write_sealed(metadata, &tensors, &mut file).map_err(LabError::at(path))?;
    file.finish()
}

impl Checkpoint {
    /// Reads and checks a checkpoint.
    ///
    /// # Errors
    /// The file cannot be read; it is damaged, cut short or of another kind.
    pub fn load(path: &Path) -> Result<Self, LabError> {
        let bytes = fs::read(path).map_err(LabError::at(path))?;
        Self::from_bytes(&bytes).map_err(|what| LabError::BadCheckpoint { path: path.to_owned(), what })
    }

    /// The step that it was written after.
    pub fn step(&self) -> u64 {
        self.position.step
    }

    /// The weights at that step.
    pub fn weights(&self) -> &[f32] {
        &self.weights
    }

    fn from_bytes(bytes: &[u8]) -> Result<Self, String> {
        let file = Sealed::read(bytes)?;
        if file.entry("format")? != FORMAT {
            return Err(format!("its format is `{}`, not `{FORMAT}`", file.entry("format")?));
        }
        if file.entry("version")? != VERSION {
            return Err(format!(
                "its version is {}, and this program reads version {VERSION}",
                file.entry("version")?
            ));
        }
        file.check_header()?;
        file.check()?;
        let Described { plan, model, .. } = Described::read(&file)?;
        let position: Position = serde_json::from_str(file.entry("position")?)
            .map_err(|error| format!("its position: {error}"))?;
        let all = [model.layout().len()];
        let numbers = |name: &str| if file.has(name) { file.numbers(name, &all) } else { Ok(Vec::new()) };
        let [first, second, average] = MEMORY.map(numbers);
        let states = read_states(&file, &model, plan.training.batch, plan.training.lanes)?;
        let best = if file.has(BEST) { Some(file.numbers(BEST, &all)?) } else { None };
        Ok(Self {
            position,
            weights: weights(&file, &model)?,
            memory: [first?, second?, average?],
            states,
            best,
        })
    }

    /// Puts everything back.
    ///
    /// # Errors
    /// The checkpoint is of another model or another optimiser.
    pub(crate) fn restore(&self, trainer: &mut Trainer<'_>) -> Result<(), String> {
        let memory = trainer.optimiser.memory().map(|(_, values)| values.len());
        let lengths: Vec<Vec<usize>> =
            trainer.team.states().map(|lane| lane.iter().map(Vec::len).collect()).collect();
        let found: Vec<Vec<usize>> =
            self.states.iter().map(|lane| lane.iter().map(Vec::len).collect()).collect();
        if self.weights.len() != trainer.weights.len()
            || lengths != found
            || memory != self.memory.each_ref().map(Vec::len)
        {
            return Err("it is of another model or another optimiser than the run's plan".into());
        }
        trainer.weights.copy_from_slice(&self.weights);
        trainer.optimiser.remember(self.position.optimiser_steps, self.memory.each_ref().map(Vec::as_slice));
        trainer.go_to(self.position.step);
        for (to, from) in trainer.team.states_mut().zip(&self.states) {
            to.iter_mut().zip(from).for_each(|(to, from)| to.copy_from_slice(from));
        }
        Ok(())
    }
}

/// The state that each lane carries: one array a layer, of any width that divides evenly among its rows.
fn read_states(
    file: &Sealed<'_>,
    model: &LanguageModel,
    batch: usize,
    lanes: usize,
) -> Result<Vec<Vec<Vec<f32>>>, String> {
    let lanes = lanes.clamp(1, batch.max(1));
    (0..lanes)
        .map(|lane| {
            let rows = (lane + 1) * batch / lanes - lane * batch / lanes;
            let widths = model.state_widths().into_iter().enumerate();
            widths.map(|(layer, width)| file.numbers(&state_name(lane, layer), &[rows * width])).collect()
        })
        .collect()
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
        let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        let step = name.strip_prefix("step-").and_then(|rest| rest.strip_suffix(".safetensors"));
        if let Some(step) = step.and_then(|step| step.parse().ok()) {
            found.push((step, path));
        }
    }
    found.sort_by(|a, b| b.cmp(a));
    Ok(found)
}

/// The file of a step's checkpoint.
pub(crate) fn path_of(folder: &Path, step: u64) -> PathBuf {
    folder.join(format!("step-{step:010}.safetensors"))
}

/// The newest checkpoint that is whole; `damaged` is told of newer ones that are not. None if there is none at all.
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

/// Removes all but the newest `keep`.
pub(crate) fn keep_newest(folder: &Path, keep: usize) -> Result<(), LabError> {
    for (_, path) in checkpoints(folder)?.into_iter().skip(keep.max(1)) {
        fs::remove_file(&path).map_err(LabError::at(&path))?;
    }
    Ok(())
}
