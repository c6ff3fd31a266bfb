//! Documents of the training text as they are in their files: tokens alone do not say where they come from.

use std::cell::Cell;
use std::collections::{BTreeMap, BTreeSet};

use lalograph_text::corpus::Document;
use lalograph_text::tokens::SplitKind;
use lalograph_text::{Corpus, Part, TextError};

use super::text::held_out;
use crate::error::LabError;
use crate::measure::documents::ReadDocument;
use crate::plan::Plan;

/// Reads a plan's corpus again as far as it takes to find the documents of these numbers, counted from 0 among those of the training text.
/// Of a text whose end is held out (`split`), the last training document is given whole. `go_on` stops the work by returning `false`.
///
/// # Errors
/// As for [`super::text::read_text`]; a stop.
pub fn training_documents(
    plan: &Plan,
    split: SplitKind,
    numbers: &BTreeSet<u64>,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<BTreeMap<u64, ReadDocument>, LabError> {
    let corpus = Corpus::find_while(&plan.corpus.spec(), go_on)?;
    let parts = held_out(plan)?.split();
    let is_training = |document: &Document<'_>| {
        split == SplitKind::Tail || parts.part_of(document.parted_by(), document.label) == Part::Training
    };
    let (mut found, mut number) = (BTreeMap::new(), 0);
    let missing = Cell::new(numbers.len());
    let read = corpus.read_through(&mut |_: u64| missing.get() > 0 && go_on(), |document| {
        if !is_training(&document) {
            return;
        }
        if numbers.contains(&number) {
            found.insert(number, ReadDocument::of(&document));
            missing.set(numbers.len() - found.len());
        }
        number += 1;
    });
    match read {
        // Nothing more is wanted.
        Err(TextError::Stopped) if missing.get() == 0 => Ok(found),
        read => read.map(|_| found).map_err(LabError::from),
    }
}
