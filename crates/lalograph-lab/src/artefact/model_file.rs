//! Model files of any task: the weights, and in the metadata all that is needed to use them. `docs/formats/model.md` describes them.

use std::path::Path;

use lalograph_net::Layout;
use lalograph_storage::{StorageError, WholeFile};
use serde::{Deserialize, Serialize};

use super::container::{Assets, Container, Kind, Numbers, json, write_container};
use crate::error::LabError;

/// The container of a model file.
pub const KIND: Kind = Kind { format: "lalograph model", version: "1" };

/// Training progress of a model.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Trained {
    /// Optimiser steps made.
    pub step: u64,
    /// Tokens, or other examples, trained on.
    pub tokens: u64,
    /// Mean loss on validation data at that step, if it was measured.
    pub validation_loss: Option<f64>,
}

/// The weights as tensors by their names.
pub(crate) fn tensors<'w>(layout: &Layout, weights: &'w [f32]) -> Vec<Numbers<'w>> {
    let tensors = layout.tensors().iter();
    tensors
        .map(|tensor| Numbers {
            name: tensor.name.clone(),
            shape: tensor.shape.clone(),
            values: &weights[tensor.range.clone()],
        })
        .collect()
}

/// Writes a model file. `assets` are those of the task.
pub(crate) fn save_model(
    mut file: WholeFile,
    mut assets: Assets,
    trained: &Trained,
    layout: &Layout,
    weights: &[f32],
) -> Result<(), LabError> {
    assets.insert("trained", json(trained)?);
    let path = file.path();
    write_container(KIND, assets, &tensors(layout, weights), &mut file).map_err(StorageError::at(&path))?;
    Ok(file.finish()?)
}

/// All weights of a model, each tensor where its layout has it. The shapes are checked against the file before anything is reserved.
pub(crate) fn read_weights(file: &Container<'_>, layout: &Layout) -> Result<Vec<f32>, String> {
    file.check_layout(layout)?;
    let mut weights = Vec::with_capacity(layout.len());
    for tensor in layout.tensors() {
        weights.extend(file.numbers(&tensor.name, &tensor.shape)?);
    }
    match weights.iter().position(|w| !w.is_finite()) {
        Some(position) => Err(format!("weight {position} is not a finite number")),
        None => Ok(weights),
    }
}

/// The error for a file that is no model of this task, for the reason given: it is a model of another task, or damaged.
pub(crate) fn unusable(path: &Path, bytes: &[u8], task: &'static str, what: String) -> LabError {
    let path = path.to_owned();
    match Container::read(bytes, KIND).and_then(|file| Ok(file.asset("task")?.to_owned())) {
        Ok(found) if found != task => LabError::OtherTask { path, found, needed: task },
        _ => LabError::BadModel { path, what },
    }
}
