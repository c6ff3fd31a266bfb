//! Model files of any task: the weights, and in the metadata all that is needed to use them. `docs/formats/model.md` describes them.

use std::path::Path;

use lalograph_net::Layout;
use lalograph_storage::{StorageError, WholeFile};
use rayon::prelude::*;
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
pub(crate) fn read_weights(file: Container, layout: &Layout) -> Result<Vec<f32>, String> {
    /// Numbers that are looked at together.
    const TOGETHER: usize = 1 << 16;
    let weights = file.into_weights(layout)?;
    let finite = |w: &f32| w.is_finite();
    // All of them, so that the comparisons need no branch.
    let bad = |part: &[f32]| !part.iter().fold(true, |all, w| all & finite(w));
    let first = weights.par_chunks(TOGETHER).position_first(bad);
    match first.and_then(|part| (part * TOGETHER..weights.len()).find(|&index| !finite(&weights[index]))) {
        Some(position) => Err(format!("weight {position} is not a finite number")),
        None => Ok(weights),
    }
}

/// Reads a model file of this task; `take` makes the model of it, or says in a phrase what is wrong.
pub(crate) fn load_model<M>(
    path: &Path,
    task: &'static str,
    take: impl FnOnce(Container) -> Result<M, String>,
) -> Result<M, LabError> {
    let bad = |what| LabError::BadModel { path: path.to_owned(), what };
    let file = Container::open(path, KIND, bad)?;
    match file.asset("task") {
        Ok(found) if found != task => {
            Err(LabError::OtherTask { path: path.to_owned(), found: found.to_owned(), needed: task })
        }
        _ => take(file).map_err(bad),
    }
}
