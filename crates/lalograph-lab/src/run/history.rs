//! A run read back from its folder: its description, records and figures.

use super::description::{RunDescription, Standing};
use super::folder::RunFolder;
use super::records::{Figures, FlowRecord, MetricsRecord, SampleRecord, read_lines};
use crate::error::LabError;
use crate::plan::Plan;
use crate::plan::reference::sections;
use crate::training::hints::{Evidence, Hint, Stage, hints};

/// Everything that a run has written down.
#[derive(Debug, Clone)]
pub struct RunHistory {
    /// Its folder.
    pub run: RunFolder,
    /// The run's description.
    pub description: RunDescription,
    /// Its state.
    pub standing: Standing,
    /// Its settings.
    pub plan: Plan,
    /// Its lines of metrics.
    pub metrics: Vec<MetricsRecord>,
    /// Its samples.
    pub samples: Vec<SampleRecord>,
    /// Its measurements of gradients.
    pub flow: Vec<FlowRecord>,
}

impl RunHistory {
    /// Reads a run.
    ///
    /// # Errors
    /// A file of it that cannot be read or is not what it should be.
    pub fn read(run: RunFolder) -> Result<Self, LabError> {
        let description = run.description()?;
        Ok(Self {
            standing: run.standing(description.status),
            plan: run.read_plan()?,
            metrics: read_lines(&run.metrics())?,
            samples: read_lines(&run.records(SampleRecord::FILE))?,
            flow: read_lines(&run.records(FlowRecord::FILE))?,
            description,
            run,
        })
    }

    /// Its hints.
    pub fn hints(&self) -> Vec<Hint> {
        let stage = match (self.standing, self.description.not_finite_step) {
            (_, Some(step)) => Stage::NotFinite(step),
            (Standing::Finished, None) => Stage::Ended,
            _ => Stage::UnderWay,
        };
        let (plan, text) = (&self.plan, &self.description.text);
        hints(&Evidence { plan, text, metrics: &self.metrics, flow: self.flow.last(), stage })
    }

    /// The last steps made, by what was written down: a run that died has no better count.
    pub fn steps(&self) -> u64 {
        let recorded = self.metrics.iter().map(MetricsRecord::step);
        recorded.max().unwrap_or(0).max(self.description.steps)
    }

    /// Seconds trained, by the last record.
    pub fn seconds(&self) -> Option<f64> {
        self.metrics.iter().rev().find_map(|record| match record {
            MetricsRecord::Training { seconds, .. } | MetricsRecord::Validation { seconds, .. } => {
                Some(*seconds)
            }
            MetricsRecord::Test { .. } => None,
        })
    }

    /// Training perplexity over the last steps; none where the softmax was trained against a sample of the vocabulary.
    pub fn training_perplexity(&self) -> Option<f64> {
        let records = self.metrics.iter().filter_map(|record| match record {
            MetricsRecord::Training { step, loss, figures, .. } => {
                Some((*step, *loss, figures.get("perplexity").is_some()))
            }
            _ => None,
        });
        let records: Vec<_> = records.collect();
        // The last record has the steps that were left, perhaps a single one: the records before it make up what is missing.
        let (mut steps, mut sum) = (0, 0.0);
        for (index, &(step, loss, exact)) in records.iter().enumerate().rev() {
            let before = index.checked_sub(1).map_or(0, |index| records[index].0);
            let covered = step.saturating_sub(before).max(1);
            (steps, sum) = (steps + covered, sum + loss * covered as f64);
            if !exact {
                return None;
            }
            if steps >= self.plan.training.record_every {
                break;
            }
        }
        (steps > 0).then(|| (sum / steps as f64).exp())
    }

    /// The task's figures of the best validation, if there was a validation.
    pub fn best_figures(&self) -> Option<&Figures> {
        self.metrics.iter().rev().find_map(|record| match record {
            MetricsRecord::Validation { best: true, figures, .. } => Some(figures),
            _ => None,
        })
    }

    /// The samples of the last step that there were any.
    pub fn last_samples(&self) -> &[SampleRecord] {
        self.samples.chunk_by(|a, b| a.step == b.step).last().unwrap_or_default()
    }
}

/// Every setting of a plan as `section.key` and its value as TOML, in the order of the reference page; what is not set is left out.
///
/// # Errors
/// A plan that TOML has no form for.
pub fn settings(plan: &Plan) -> Result<Vec<(String, String)>, LabError> {
    let values = toml::Table::try_from(plan).map_err(|error| LabError::Write(error.to_string()))?;
    let sections = sections();
    let all = sections
        .iter()
        .flat_map(|section| section.settings.iter().map(move |setting| (&section.name, &setting.key)));
    let set = all.filter_map(|(section, key)| {
        let value = values.get(section)?.get(key)?;
        Some((format!("{section}.{key}"), value.to_string()))
    });
    Ok(set.collect())
}

/// Settings, each with its value in every plan.
pub type Differing = Vec<(String, Vec<Option<String>>)>;

/// The settings in which plans differ: each with its value in every plan, `None` if it is not set.
///
/// # Errors
/// A plan that TOML has no form for.
pub fn differing_settings(plans: &[&Plan]) -> Result<Differing, LabError> {
    let listed = plans.iter().map(|plan| settings(plan)).collect::<Result<Vec<_>, _>>()?;
    let sections = sections();
    let keys = sections.iter().flat_map(|section| {
        section.settings.iter().map(|setting| format!("{}.{}", section.name, setting.key))
    });
    let differing = keys.filter_map(|key| {
        let value =
            |of: &Vec<(String, String)>| of.iter().find(|(k, _)| *k == key).map(|(_, value)| value.clone());
        let values: Vec<Option<String>> = listed.iter().map(value).collect();
        values.windows(2).any(|pair| pair[0] != pair[1]).then_some((key, values))
    });
    Ok(differing.collect())
}

#[cfg(test)]
mod tests {
    use super::{differing_settings, settings};
    use crate::Plan;

    #[test]
    fn only_differing_settings_are_listed_each_with_all_its_values() {
        let plan = |settings: &[&str]| Plan::with_settings(settings).unwrap();
        let (one, two) =
            (plan(&["model.hidden=8", "training.seed=3"]), plan(&["model.hidden=9", "training.steps=4"]));
        let three = plan(&["model.hidden=8"]);
        let found = differing_settings(&[&one, &two, &three]).unwrap();
        let some = |text: &str| Some(text.to_owned());
        assert_eq!(
            found,
            [
                ("model.hidden".to_owned(), vec![some("8"), some("9"), some("8")]),
                ("training.seed".to_owned(), vec![some("3"), some("1"), some("1")]),
                ("training.steps".to_owned(), vec![None, some("4"), None]),
            ]
        );
        assert!(differing_settings(&[&one, &one]).unwrap().is_empty());
        assert!(settings(&three).unwrap().contains(&("model.hidden".to_owned(), "8".to_owned())));
    }
}
