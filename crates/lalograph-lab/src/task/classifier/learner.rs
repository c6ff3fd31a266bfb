//! A classifier and its documents, ready to be trained.

use std::path::PathBuf;

use lalograph_net::Network;
use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::blocks::regularisation::LaneUse;
use lalograph_net::models::classifier::Classifier;
use lalograph_net::models::network::LaneRoom;
use lalograph_net::step::lanes::Lanes;
use lalograph_net::weights::packed::PackedWeights;
use lalograph_text::{Split, Vocabulary};

use super::data::ClassifierData;
use super::evaluate::ROWS as READING_ROWS;
use super::linear::LinearTask;
use super::model::TASK;
use crate::error::LabError;
use crate::run::description::RunDescription;
use crate::task::Startable;
use crate::task::start::Start;

/// A classifier with a network, ready for training: weights laid out.
pub struct ClassifierTask {
    /// The documents.
    pub data: ClassifierData,
    /// The architecture.
    pub net: Classifier,
    /// Steps to make.
    pub steps: u64,
    /// Origin of the initial weights.
    pub(super) start: Start,
}

/// A classifier ready for training.
pub enum PreparedClassifier {
    /// By steps.
    Network(Box<ClassifierTask>),
    /// By a solver.
    Linear(Box<LinearTask>),
}

/// The hash of a split's file.
pub(super) fn split_hash(split: &Split) -> Result<String, LabError> {
    Ok(blake3::hash(split.to_json()?.as_bytes()).to_hex().to_string())
}

impl PreparedClassifier {
    /// The task of runs of classifiers, as their descriptions name it.
    pub const KIND: &str = TASK;

    /// The documents.
    pub fn data(&self) -> &ClassifierData {
        match self {
            Self::Network(task) => &task.data,
            Self::Linear(task) => &task.data,
        }
    }

    pub(crate) fn data_mut(&mut self) -> &mut ClassifierData {
        match self {
            Self::Network(task) => &mut task.data,
            Self::Linear(task) => &mut task.data,
        }
    }

    /// Steps to make; for a linear classifier the iterations at most.
    pub fn steps(&self) -> u64 {
        match self {
            Self::Network(task) => task.steps,
            Self::Linear(task) => task.steps(),
        }
    }

    /// Numbers that are trained.
    pub fn parameters(&self) -> usize {
        match self {
            Self::Network(task) => task.net.layout().len(),
            Self::Linear(task) => task.shape.parameters(),
        }
    }

    /// Bytes that training needs, without the documents.
    pub fn bytes(&self) -> u64 {
        match self {
            Self::Network(task) => task.bytes(),
            Self::Linear(task) => task.bytes(),
        }
    }

    /// The number of vocabulary words with a vector in the plan's file, and the words without one, the most frequent first; `None` without
    /// such a file.
    pub fn vectors_found(&self) -> Option<(usize, &[String])> {
        match self {
            Self::Network(task) => task.start.found(),
            Self::Linear(_) => None,
        }
    }

    /// The description of a new run of this.
    ///
    /// # Errors
    /// The vocabulary has no written form.
    pub fn describe(
        &self,
        name: &str,
        started: String,
        program_version: &str,
        working_folder: Option<PathBuf>,
    ) -> Result<RunDescription, LabError> {
        let data = self.data();
        Ok(RunDescription {
            name: name.to_owned(),
            task: TASK.to_owned(),
            started,
            program_version: program_version.to_owned(),
            documents: data.reading.documents,
            text_bytes: data.reading.bytes,
            text_hash: data.text_hash.clone(),
            vocabulary_hash: data.input.vocabulary().map_or(Ok(String::new()), Vocabulary::hash)?,
            split_hash: Some(split_hash(&data.split)?),
            working_folder,
            vocabulary_size: data.input.vocabulary().map_or(0, Vocabulary::len) as u64,
            parameters: self.parameters() as u64,
            planned_steps: self.steps(),
            text: data.facts,
            ..RunDescription::default()
        })
    }
}

impl Startable for PreparedClassifier {
    fn check_start(&self) -> Result<(), LabError> {
        match self {
            Self::Network(task) => task.start.check(),
            Self::Linear(_) => Ok(()),
        }
    }
}

impl ClassifierTask {
    /// Bytes that training needs, without the documents.
    fn bytes(&self) -> u64 {
        let (plan, data) = (&self.data.plan, &self.data);
        let (weights, layout) = (self.net.layout().len(), self.net.layout());
        // Weights, best weights, the sum of the gradients, and the optimiser's state.
        let arrays = 3 + plan.optimiser(1).state_parts();
        let mut bytes = weights * size_of::<f32>() * arrays + PackedWeights::<f32>::bytes_for(layout);
        let training = LaneUse::Training(plan.regularisation());
        let parts = [
            (&data.training, training, plan.training.batch),
            (&data.validation, LaneUse::Reading, READING_ROWS),
        ];
        for (documents, used_for, rows) in parts {
            let lanes = Lanes::new(rows, plan.training.lanes);
            for lane in 0..lanes.count() {
                let extent = Extent { steps: documents.longest(), rows: lanes.rows_of(lane).len() };
                bytes +=
                    self.net.lane_bytes(LaneRoom { extent, used_for, resets: false }).iter().sum::<usize>();
            }
        }
        bytes as u64
    }
}
