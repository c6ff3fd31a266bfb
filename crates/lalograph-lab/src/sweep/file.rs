//! A file that describes a sweep, beside its plan.

use serde::Deserialize;

use super::error::SweepError;
use super::spec::Terms;

/// What a file says of a sweep.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct SweepFile {
    /// What is varied, each as `section.key=values`.
    pub vary: Vec<String>,
    /// The numbers of the sweep: what the file does not say has its default.
    pub terms: Terms,
}

/// The file as it is written.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Written {
    #[serde(default)]
    vary: toml::Table,
    method: Option<super::spec::Method>,
    trials: Option<u64>,
    seeds: Option<u64>,
    budget_steps: Option<u64>,
    rungs: Option<u32>,
    keep: Option<u64>,
}

impl SweepFile {
    /// Reads a file in TOML: a table `[vary]` of settings with a list of values or a range in a string, and any of the numbers of a sweep.
    ///
    /// # Errors
    /// [`SweepError::File`]: no TOML, an unknown key, values of another form.
    ///
    /// ```
    /// use lalograph_lab::sweep::file::SweepFile;
    ///
    /// let file = SweepFile::read("seeds = 3\n[vary]\nmodel.hidden = [64, 128]\n")?;
    /// assert_eq!(file.vary, ["model.hidden=64,128"]);
    /// # Ok::<(), lalograph_lab::sweep::error::SweepError>(())
    /// ```
    pub fn read(text: &str) -> Result<Self, SweepError> {
        let written: Written = toml::from_str(text)
            .map_err(|error| SweepError::File(error.to_string().trim_end().to_owned()))?;
        let mut vary = Vec::new();
        for (key, value) in &written.vary {
            match value {
                // `model.hidden = ...` is a table in the table.
                toml::Value::Table(inner) => {
                    for (name, value) in inner {
                        vary.push(format!("{key}.{name}={}", values(value)?));
                    }
                }
                value => vary.push(format!("{key}={}", values(value)?)),
            }
        }
        let default = Terms::default();
        let terms = Terms {
            method: written.method.unwrap_or(default.method),
            trials: written.trials,
            seeds: written.seeds.unwrap_or(default.seeds),
            budget_steps: written.budget_steps,
            rungs: written.rungs.unwrap_or(default.rungs),
            keep: written.keep.unwrap_or(default.keep),
        };
        Ok(Self { vary, terms })
    }
}

/// A list of values, or a range in a string.
fn values(value: &toml::Value) -> Result<String, SweepError> {
    match value {
        toml::Value::String(range) => Ok(range.clone()),
        toml::Value::Array(list) => Ok(list.iter().map(ToString::to_string).collect::<Vec<_>>().join(",")),
        other => Err(SweepError::File(format!(
            "the values of a setting are a list, or a range in quotation marks, and not {other}"
        ))),
    }
}

#[cfg(test)]
mod tests {
    use super::SweepFile;
    use crate::sweep::spec::Method;

    #[test]
    fn a_file_has_lists_ranges_and_numbers() {
        let text = "method = \"racing\"\ntrials = 8\nkeep = 1\n[vary]\n\"model.cell\" = [\"lstm\", \"gru\"]\ntraining.learning_rate = \"0.001..0.1:ratio\"\ntraining.batch = [8, 16]\n";
        let file = SweepFile::read(text).unwrap();
        assert_eq!(
            file.vary,
            ["model.cell=\"lstm\",\"gru\"", "training.batch=8,16", "training.learning_rate=0.001..0.1:ratio"]
        );
        assert_eq!((file.terms.method, file.terms.trials, file.terms.keep), (Method::Racing, Some(8), 1));
        for (wrong, named) in [
            ("metod = \"grid\"", "metod"),
            ("method = \"guess\"", "guess"),
            ("[vary]\nmodel.hidden = 8", "a list"),
            ("seeds = \"three\"", "seeds"),
        ] {
            let error = SweepFile::read(wrong).unwrap_err().to_string();
            assert!(error.contains(named), "{wrong}: {error}");
        }
    }
}
