//! The files of records that a run writes.

use std::collections::BTreeMap;

use crate::error::LabError;
use crate::run::claim::Claim;
use crate::run::folder::records_file;
use crate::run::records::{Evaluation, Lines, MetricsRecord, read_lines};
use crate::task::Note;

/// The name of the file of metrics.
const METRICS: &str = "metrics";

/// The files, and what was written to them that is still needed.
pub(crate) struct Notebook<N> {
    metrics: Lines,
    /// Lines of the duties, by the duty's name.
    duties: BTreeMap<&'static str, Lines>,
    /// All metrics so far, for what they say together.
    pub(crate) so_far: Vec<MetricsRecord>,
    /// The last note of each duty.
    pub(crate) last: BTreeMap<&'static str, N>,
}

impl<N: Note> Notebook<N> {
    /// Goes on with the files of a run after so many bytes of each: what comes after them is made again.
    pub(crate) fn open(
        claim: &Claim,
        names: impl IntoIterator<Item = &'static str>,
        bytes: &BTreeMap<String, u64>,
    ) -> Result<Self, LabError> {
        let folder = claim.folder();
        let after =
            |name: &str| Lines::after(folder, &records_file(name), bytes.get(name).copied().unwrap_or(0));
        let metrics = after(METRICS)?;
        let (mut duties, mut last) = (BTreeMap::new(), BTreeMap::new());
        for name in names {
            duties.insert(name, after(name)?);
            if let Some(note) = read_lines(&folder.path_of(records_file(name)))?.pop() {
                last.insert(name, note);
            }
        }
        Ok(Self { metrics, duties, so_far: read_lines(&folder.path_of(records_file(METRICS)))?, last })
    }

    /// The validation before the first step, if there was one.
    pub(crate) fn first_validation(&self) -> Option<Evaluation> {
        self.so_far.iter().find_map(|record| match record {
            MetricsRecord::Validation { step: 0, loss, figures, .. } => {
                Some(Evaluation { loss: *loss, figures: figures.clone() })
            }
            _ => None,
        })
    }

    /// Writes a line of metrics.
    pub(crate) fn push_metrics(&mut self, record: MetricsRecord) -> Result<(), LabError> {
        self.metrics.push(&record)?;
        self.so_far.push(record);
        Ok(())
    }

    /// Writes a note of a duty.
    pub(crate) fn push_note(&mut self, name: &'static str, note: N) -> Result<(), LabError> {
        if let Some(lines) = self.duties.get_mut(name) {
            lines.push(&note)?;
        }
        self.last.insert(name, note);
        Ok(())
    }

    /// Bytes of each file, once they are all sure to be there.
    pub(crate) fn synced_bytes(&mut self) -> Result<BTreeMap<String, u64>, LabError> {
        let mut bytes = BTreeMap::from([(METRICS.to_owned(), self.metrics.synced_bytes()?)]);
        for (name, lines) in &mut self.duties {
            bytes.insert((*name).to_owned(), lines.synced_bytes()?);
        }
        Ok(bytes)
    }
}
