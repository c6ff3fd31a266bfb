//! What a sweep is: a plan, what is varied in it, and how. The settings of all trials follow from it, so any process knows them all.

use std::collections::BTreeSet;
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use super::effect::no_effect;
use super::error::SweepError;
use super::space::{Values, Varied};
use crate::error::LabError;
use crate::plan::{NetworkKind, Plan, PlanError};
use crate::run::history::differing_settings;
use crate::training::schedule::warmup_steps;

/// Format name of a sweep's description.
pub const FORMAT: &str = "lalograph sweep";
/// The version of its form.
pub const VERSION: u32 = 1;
/// Trials of a sweep at most.
const MOST_TRIALS: u64 = 100_000;
/// Seeds of a setting at most.
const MOST_SEEDS: u64 = 100;

lalograph_net::choice! {
    /// How the settings of trials are chosen, and how far trials go.
    pub enum Method = Grid {
        /// Every combination of the values.
        Grid = "grid",
        /// Combinations drawn at random.
        Random = "random",
        /// All begin; at each rung the worse half stops, and the others go on from their checkpoints.
        Racing = "racing",
    }
}

/// The numbers of a sweep besides its plan and what is varied.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Terms {
    /// How the settings of trials are chosen.
    pub method: Method,
    /// Settings that are drawn; for racing none, to race all of the grid.
    pub trials: Option<u64>,
    /// Seeds that each setting is trained with.
    pub seeds: u64,
    /// No trial begins once so many steps are planned.
    pub budget_steps: Option<u64>,
    /// How often racing compares; each time the steps are twice those of the time before.
    pub rungs: u32,
    /// Settings whose models are kept.
    pub keep: u64,
}

impl Default for Terms {
    fn default() -> Self {
        Self { method: Method::Grid, trials: None, seeds: 1, budget_steps: None, rungs: 4, keep: 3 }
    }
}

/// Settings that random drawing makes, if their number is not given.
pub const DEFAULT_TRIALS: u64 = 24;

/// A sweep as its file describes it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Description {
    format: String,
    version: u32,
    /// What is varied, each as `section.key=values`.
    vary: Vec<String>,
    terms: Terms,
    working_folder: Option<PathBuf>,
    /// The plan, as TOML.
    plan: String,
}

/// A sweep: its plan, what is varied in it, and how.
#[derive(Debug, Clone, PartialEq)]
pub struct SweepSpec {
    /// The plan that the varied settings are laid over.
    pub plan: Plan,
    /// What is varied, in the order of the combinations: the last changes fastest.
    pub varied: Vec<Varied>,
    /// The numbers of the sweep.
    pub terms: Terms,
    /// The folder that the plan's paths are meant from.
    pub working_folder: Option<PathBuf>,
    plan_text: String,
    settings: Vec<Vec<String>>,
}

/// One run of a sweep: a setting with one of the seeds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Trial {
    /// The number of the setting, from 0.
    pub setting: usize,
    /// The number of the seed, from 0.
    pub seed: usize,
}

impl SweepSpec {
    /// A sweep over a plan, checked.
    ///
    /// # Errors
    /// Whatever makes it unusable: unknown or doubled settings, values that no plan takes, settings without effect, numbers out of range.
    pub fn new(
        mut plan: Plan,
        vary: &[String],
        terms: Terms,
        working_folder: Option<PathBuf>,
    ) -> Result<Self, SweepError> {
        if plan.tune.is_some() {
            return Err(SweepError::Tuned);
        }
        match &plan.vectors {
            Some(own) if own.similarity.is_none() && own.analogies.is_none() => {
                return Err(SweepError::NoWordTask);
            }
            None if plan.corpus.validation_share == 0.0 && plan.corpus.split.is_none() => {
                return Err(SweepError::NoValidation);
            }
            _ => {}
        }
        // Of other settings something else is to be expected.
        plan.expected = None;
        let plan_text = plan.to_toml()?;
        let mut varied: Vec<Varied> = Vec::new();
        for text in vary {
            let one = Varied::read(text, &plan)?;
            if varied.iter().any(|other| other.key == one.key) {
                return Err(SweepError::Twice(one.key));
            }
            varied.push(one);
        }
        if varied.is_empty() {
            return Err(SweepError::Nothing);
        }
        for one in &varied {
            check_values(&plan_text, one)?;
        }
        let keys: Vec<&str> = varied.iter().map(|one| one.key.as_str()).collect();
        for one in &varied {
            if let Some(why) = no_effect(&one.key, &plan, &keys, terms.seeds > 1) {
                return Err(SweepError::NoEffect { key: one.key.clone(), why });
            }
        }
        check_terms(&terms, &plan)?;
        let settings = settings(&varied, &terms, plan.training.seed)?;
        let trials = settings.len() as u128 * u128::from(terms.seeds);
        if trials > u128::from(MOST_TRIALS) {
            return Err(SweepError::TooMany { trials, most: MOST_TRIALS });
        }
        Ok(Self { plan, varied, terms, working_folder, plan_text, settings })
    }

    /// As it is written down.
    ///
    /// # Errors
    /// A path that is not UTF-8.
    pub fn to_json(&self) -> Result<String, SweepError> {
        let description = Description {
            format: FORMAT.to_owned(),
            version: VERSION,
            vary: self.varied.iter().map(|one| format!("{}={}", one.key, one.text())).collect(),
            terms: self.terms.clone(),
            working_folder: self.working_folder.clone(),
            plan: self.plan_text.clone(),
        };
        let mut text =
            serde_json::to_string_pretty(&description).map_err(|error| LabError::Write(error.to_string()))?;
        text.push('\n');
        Ok(text)
    }

    /// Reads what [`SweepSpec::to_json`] wrote.
    ///
    /// # Errors
    /// A phrase that says what is wrong.
    pub fn from_json(bytes: &[u8]) -> Result<Self, String> {
        let found: Description = serde_json::from_slice(bytes).map_err(|error| error.to_string())?;
        if found.format != FORMAT || found.version != VERSION {
            let Description { format, version, .. } = found;
            return Err(format!("its format is `{format}` {version}, not `{FORMAT}` {VERSION}"));
        }
        let plan = Plan::from_toml(&found.plan, &[]).map_err(|error| format!("its plan: {error}"))?;
        Self::new(plan, &found.vary, found.terms, found.working_folder).map_err(|error| error.to_string())
    }

    /// How another sweep differs, a line each: what it is here, and what it is there.
    ///
    /// # Errors
    /// A plan that TOML has no form for.
    pub fn differences(&self, other: &Self) -> Result<Vec<String>, SweepError> {
        let mut lines = Vec::new();
        let mut differs = |what: &str, here: String, there: String| {
            if here != there {
                lines.push(format!("{what} is {here} there and {there} here"));
            }
        };
        let method = |spec: &Self| lalograph_net::Choice::name(spec.terms.method).to_owned();
        let or = |number: Option<u64>| number.map_or_else(|| "not set".to_owned(), |n| n.to_string());
        differs("the method", method(self), method(other));
        let vary = |spec: &Self| {
            let all: Vec<String> =
                spec.varied.iter().map(|one| format!("{}={}", one.key, one.text())).collect();
            all.join(" ")
        };
        differs("what is varied", vary(self), vary(other));
        let (own, theirs) = (&self.terms, &other.terms);
        differs("the number of trials", or(own.trials), or(theirs.trials));
        differs("the number of seeds", own.seeds.to_string(), theirs.seeds.to_string());
        differs("the budget of steps", or(own.budget_steps), or(theirs.budget_steps));
        differs("the number of rungs", own.rungs.to_string(), theirs.rungs.to_string());
        differs("the number of models kept", own.keep.to_string(), theirs.keep.to_string());
        for (key, values) in differing_settings(&[&self.plan, &other.plan])? {
            let value = |at: usize| values[at].clone().unwrap_or_else(|| "not set".to_owned());
            differs(&format!("`{key}`"), value(0), value(1));
        }
        Ok(lines)
    }

    /// Settings, each the values of what is varied.
    pub fn settings(&self) -> &[Vec<String>] {
        &self.settings
    }

    /// Seeds of each setting.
    pub fn seeds(&self) -> usize {
        self.terms.seeds as usize
    }

    /// Trials, in their order: all seeds of a setting one after another.
    pub fn trials(&self) -> impl Iterator<Item = Trial> + use<> {
        let (settings, seeds) = (self.settings.len(), self.seeds());
        (0..settings).flat_map(move |setting| (0..seeds).map(move |seed| Trial { setting, seed }))
    }

    /// The place of a trial in their order.
    pub fn number(&self, trial: Trial) -> usize {
        trial.setting * self.seeds() + trial.seed
    }

    /// The name of a trial's run: the number of its setting from 1, and that of its seed where there are several.
    pub fn name(&self, trial: Trial) -> String {
        let setting = format!("{:04}", trial.setting + 1);
        match self.seeds() {
            1 => setting,
            _ => format!("{setting}-{}", trial.seed + 1),
        }
    }

    /// The values of a setting as `section.key=value`.
    pub fn overrides(&self, setting: usize) -> Vec<String> {
        let values = self.varied.iter().zip(&self.settings[setting]);
        values.map(|(one, value)| format!("{}={value}", one.key)).collect()
    }

    /// The plan of a setting.
    ///
    /// # Errors
    /// Values that do not go together.
    pub fn plan_of_setting(&self, setting: usize) -> Result<Plan, PlanError> {
        let plan = Plan::from_toml(&self.plan_text, &self.overrides(setting))?;
        plan.check()?;
        Ok(plan)
    }

    /// The plan of a trial: the split is that of the sweep's plan, whatever the seed.
    ///
    /// # Errors
    /// Values that do not go together.
    pub fn plan_of(&self, trial: Trial) -> Result<Plan, PlanError> {
        let mut plan = self.plan_of_setting(trial.setting)?;
        plan.corpus.split_seed = Some(self.plan.split_seed());
        plan.training.seed = plan.training.seed.wrapping_add(trial.seed as u64);
        Ok(plan)
    }

    /// Rungs of the race; 1 where there is none.
    pub fn rungs(&self) -> usize {
        if self.terms.method == Method::Racing { self.terms.rungs as usize } else { 1 }
    }

    /// The step of a race's first comparison and the steps of warm-up, where the first is less than twice the second: until then the learning
    /// rates that are compared are hardly reached. `None` where it is later, or its step is not known from the plan.
    pub fn compares_in_warmup(&self) -> Option<(u64, u64)> {
        let steps = self.plan.training.steps.filter(|_| self.rungs() > 1)?;
        let (first, warmup) = (self.rung_step(0, steps), warmup_steps(&self.plan.training, steps));
        (first < 2 * warmup).then_some((first, warmup))
    }

    /// The step after which trials of so many steps are compared at a rung; the last rung is their end.
    pub fn rung_step(&self, rung: usize, steps: u64) -> u64 {
        steps.div_ceil(1 << (self.rungs() - 1 - rung))
    }
}

/// Checks that a plan takes the values of a setting, each alone.
fn check_values(plan: &str, one: &Varied) -> Result<(), PlanError> {
    let values = match one.values() {
        Values::Listed(listed) => listed.clone(),
        Values::Range(_) => {
            let grid = one.grid();
            grid.first().into_iter().chain(grid.last()).cloned().collect()
        }
    };
    values.iter().try_for_each(|value| Plan::from_toml(plan, &[format!("{}={value}", one.key)]).map(drop))
}

fn check_terms(terms: &Terms, plan: &Plan) -> Result<(), SweepError> {
    let number = |what, value: u64, range: std::ops::RangeInclusive<u64>, must| match range.contains(&value) {
        true => Ok(()),
        false => Err(SweepError::Number { what, value, must }),
    };
    number("seeds", terms.seeds, 1..=MOST_SEEDS, "1 to 100")?;
    number("models kept", terms.keep, 1..=1000, "1 to 1,000")?;
    if let Some(trials) = terms.trials {
        number("trials", trials, 1..=MOST_TRIALS, "1 to 100,000")?;
        if terms.method == Method::Grid {
            return Err(SweepError::Unused(
                "a grid trains every combination, so the number of trials has no effect; use random or racing",
            ));
        }
    }
    if terms.budget_steps == Some(0) {
        return Err(SweepError::Number { what: "steps", value: 0, must: "1 or more" });
    }
    if terms.method == Method::Racing {
        number("rungs", u64::from(terms.rungs), 2..=12, "2 to 12")?;
        if terms.budget_steps.is_some() {
            return Err(SweepError::Unused(
                "a race has a fixed number of steps, so a budget of steps has no effect; use fewer trials or more rungs",
            ));
        }
        if plan.vectors.is_some() {
            return Err(SweepError::Unused(
                "word vectors are trained in one go, so they cannot race; use grid or random",
            ));
        }
        if plan.classifier.as_ref().is_some_and(|own| own.network == NetworkKind::Linear) {
            return Err(SweepError::Unused(
                "a linear network is solved and not trained by steps, so it cannot race; use grid or random",
            ));
        }
    } else if terms.rungs != Terms::default().rungs {
        return Err(SweepError::Unused("the number of rungs has no effect without racing"));
    }
    Ok(())
}

/// The settings of all trials.
fn settings(varied: &[Varied], terms: &Terms, seed: u64) -> Result<Vec<Vec<String>>, SweepError> {
    let trials = match (terms.method, terms.trials) {
        (Method::Grid, _) | (Method::Racing, None) => return grid(varied),
        (_, trials) => trials.unwrap_or(DEFAULT_TRIALS),
    };
    let different = varied.iter().try_fold(1u64, |all, one| Some(all.saturating_mul(one.count()?)));
    let wanted = different.map_or(trials, |different| trials.min(different));
    let (mut settings, mut seen) = (Vec::new(), BTreeSet::new());
    // Few combinations come again and again: those that are missing in the end are not worth the search.
    for draw in 0..wanted.saturating_mul(50) {
        let drawn: Vec<String> =
            varied.iter().zip(0..).map(|(one, number)| one.draw(seed, draw, number)).collect();
        if seen.insert(drawn.clone()) {
            settings.push(drawn);
        }
        if settings.len() as u64 == wanted {
            break;
        }
    }
    Ok(settings)
}

fn grid(varied: &[Varied]) -> Result<Vec<Vec<String>>, SweepError> {
    let values: Vec<Vec<String>> = varied.iter().map(Varied::grid).collect();
    let count = values.iter().fold(1u128, |all, values| all.saturating_mul(values.len() as u128));
    if count > u128::from(MOST_TRIALS) {
        return Err(SweepError::TooMany { trials: count, most: MOST_TRIALS });
    }
    let mut settings = vec![Vec::new()];
    for values in &values {
        settings = settings
            .into_iter()
            .flat_map(|prefix: Vec<String>| {
                values.iter().map(move |value| [&prefix[..], std::slice::from_ref(value)].concat())
            })
            .collect();
    }
    Ok(settings)
}
