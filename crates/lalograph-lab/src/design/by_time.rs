//! The plan for a time: widths are timed on this machine, from a middle one towards those that promise more.

use lalograph_net::Network as _;
use lalograph_net::heads::softmax::Softmax;
use lalograph_text::TextError;

use super::expectation::{Beside, Reach};
use super::recipe::{Network, TextShape, WIDTHS, recipe};
use crate::error::LabError;
use crate::measure::baseline::NgramModel;
use crate::measure::forecast::Forecast;
use crate::measure::score::score_baseline;
use crate::plan::{ExpectedPlan, Plan, PlanError};
use crate::task::language::LanguageTask;
use crate::task::language::seam::forecast;

lalograph_net::choice! {
    /// What a plan for a time is to be good at.
    pub enum Aim = Quality {
        /// The lowest perplexity within the time.
        Quality = "quality",
        /// The narrowest network, quick in use, that is expected within 10 % of the lowest perplexity.
        Speed = "speed",
    }
}

impl Aim {
    /// The aim as part of a sentence.
    pub fn phrase(self) -> &'static str {
        match self {
            Self::Quality => "the lowest perplexity",
            Self::Speed => "a network that is quick in use",
        }
    }
}

/// What is asked of a plan.
#[derive(Debug, Clone, Copy)]
pub struct Wish {
    /// Seconds of training.
    pub seconds: f64,
    /// What it is to be good at.
    pub aim: Aim,
    /// Threads that will train.
    pub threads: usize,
}

/// A network that was timed.
#[derive(Debug, Clone)]
pub struct Considered {
    /// Width of the token vectors.
    pub embedding: usize,
    /// Width of each layer.
    pub hidden: usize,
    /// Softmax.
    pub softmax: Softmax,
    /// Parameters.
    pub parameters: u64,
    /// Training speed on this machine.
    pub tokens_per_second: f64,
    /// Epochs in the time.
    pub epochs: f64,
    /// Expected validation perplexity.
    pub perplexity: f64,
    /// Share of the time that these epochs take.
    pub used: f64,
    network: Network,
    plan: Plan,
    /// The quickest parts of its timings.
    timed: Forecast,
}

impl Considered {
    /// What it is compared by.
    fn rank(&self) -> f64 {
        self.perplexity * (1.0 + IDLE * (1.0 - self.used))
    }
}

/// A plan for a time.
#[derive(Debug)]
pub struct Designed {
    /// The plan, with what is expected of it.
    pub plan: Plan,
    /// The networks that were timed, from narrow to wide.
    pub considered: Vec<Considered>,
    /// The number of the network that was taken.
    pub taken: usize,
    /// Epochs of the plan.
    pub epochs: f64,
    /// Order and validation perplexity of the n-gram model that perplexities are expected from.
    pub ngram: (usize, f64),
}

/// Share of the time that steps are planned for. A machine that is slower than when it was measured makes fewer of them: the run ends after
/// [`LONGEST_SHARE`] of the time, with a schedule that is shortened to it. One that is quicker ends early.
const PLANNED_SHARE: f64 = 1.01;
/// Share of the time after which the run ends.
const LONGEST_SHARE: f64 = 1.05;

/// What a network that uses none of the time has to gain on one that uses all of it, as a share of the perplexity.
const IDLE: f64 = 0.03;

/// Fewest and most validations of a plan for a time; samples are written as often.
const VALIDATIONS: (u64, u64) = (3, 10);
/// Most of the time that they all take, unless the fewest take more.
const VALIDATING_SHARE: f64 = 0.05;

/// Fewest steps that a plan is made for.
const FEWEST_STEPS: u64 = 40;

/// By what factor the perplexity of a narrower network may be above the lowest, where speed is the aim.
const SPEED_FACTOR: f64 = 1.1;

/// Seconds of steps that time a network, as a share of the time, and the fewest and most of them.
const TIMING_SHARE: f64 = 0.004;
const TIMING_SECONDS: (f64, f64) = (0.4, 1.5);
/// The same for the network that is taken.
const LONG_TIMING_SHARE: f64 = 0.03;
const LONG_TIMING_SECONDS: (f64, f64) = (1.5, 20.0);
/// Networks whose expected perplexity is within this factor of the lowest are timed again, so often: the first time may have been a slow moment of
/// the machine.
const NEAR: f64 = 1.1;
const TIMED_AGAIN: usize = 2;

/// Makes the plan. `task` has the text and the settings that hold whatever the network is; `lay` lays over a plan what is asked for besides. `go_on` is
/// asked between steps; `false` stops the work.
///
/// # Errors
/// No validation text; settings that no plan has; a time in which no network makes enough steps; an error of the data; a stop.
pub fn design(
    task: &mut LanguageTask,
    wish: Wish,
    lay: &dyn Fn(Plan) -> Result<Plan, PlanError>,
    go_on: &mut (dyn FnMut() -> bool + Send),
) -> Result<Designed, LabError> {
    if task.corpus.validation.is_empty() {
        let must = "above 0 in a plan for a time: what is expected is checked on validation text";
        let value = task.plan.corpus.validation_share.to_string();
        return Err(PlanError::Range { key: "corpus.validation_share", value, must }.into());
    }
    let beside = beside(task, go_on)?;
    let mut base = task.plan.clone();
    base.training.end_after_minutes = rounded(LONGEST_SHARE * wish.seconds / 60.0);
    let text = TextShape::of(task.vocabulary.unit(), &task.corpus.training);
    let mut search =
        Search { task, base, text, wish, lay, beside, found: vec![Vec::new(); WIDTHS.len()], go_on };
    let mut best = lowest(WIDTHS.len(), |at| search.perplexity(at))?;
    for _ in 0..TIMED_AGAIN {
        search.time_again(best)?;
        // Now another one may promise more, and have neighbours that were not timed.
        best = lowest(WIDTHS.len(), |at| search.perplexity(at))?;
    }
    let taken = match wish.aim {
        Aim::Quality => best,
        Aim::Speed => search.narrowest_near(best)?,
    };
    search.finish(taken)
}

/// The n-gram model that losses are expected from.
fn beside(task: &LanguageTask, go_on: &mut dyn FnMut() -> bool) -> Result<Beside, LabError> {
    let order = Beside::order(task.vocabulary.unit());
    let (training, validation) = (&task.corpus.training, &task.corpus.validation);
    let share = |most: usize, tokens: usize| (most as f64 / tokens.max(1) as f64).min(1.0);
    let counted = training.beginning(share(Beside::COUNTED, training.len()));
    let scored = validation.beginning(share(Beside::SCORED, validation.len()));
    let model = NgramModel::new(order, task.vocabulary.len(), &counted, |_| go_on())?;
    let loss = score_baseline(&scored, &mut model.reader()).score.loss;
    Ok(Beside { unit: task.vocabulary.unit(), order, loss, training_tokens: training.len() as u64 })
}

/// A search over widths.
struct Search<'s> {
    task: &'s mut LanguageTask,
    base: Plan,
    text: TextShape,
    wish: Wish,
    lay: &'s dyn Fn(Plan) -> Result<Plan, PlanError>,
    beside: Beside,
    /// The networks of each width that were timed.
    found: Vec<Vec<Considered>>,
    go_on: &'s mut (dyn FnMut() -> bool + Send),
}

impl Search<'_> {
    /// The narrowest width whose expected perplexity is near that of the best.
    fn narrowest_near(&mut self, best: usize) -> Result<usize, LabError> {
        let highest = SPEED_FACTOR * self.perplexity(best)?;
        let mut at = best;
        while at > 0 && self.perplexity(at - 1)? <= highest {
            at -= 1;
        }
        Ok(at)
    }

    /// The expected perplexity of a width, a little higher if it leaves time unused.
    fn perplexity(&mut self, at: usize) -> Result<f64, LabError> {
        if self.found[at].is_empty() {
            let large = self.base.suits_samples(self.task.vocabulary.len());
            for sampled in [false, true].into_iter().filter(|sampled| !sampled || large) {
                let found = self.consider(Network { width: WIDTHS[at], sampled })?;
                self.found[at].push(found);
            }
        }
        Ok(self.best_of(at).map_or(f64::INFINITY, Considered::rank))
    }

    /// The network of a width with the lowest expected perplexity, of those that were timed.
    fn best_of(&self, at: usize) -> Option<&Considered> {
        self.found[at].iter().min_by(|a, b| a.rank().total_cmp(&b.rank()))
    }

    /// Times a network.
    fn consider(&mut self, network: Network) -> Result<Considered, LabError> {
        // What is slow or quick does not depend on the number of epochs.
        let guess = (self.lay)(recipe(&self.base, self.text, network, 1.0))?;
        // What was asked for is the same, whatever is considered.
        if let Some(same) = self.found.iter().flatten().find(|found| found.plan.model == guess.model) {
            return Ok(same.clone());
        }
        let timed = self.time_shortly(guess)?;
        self.judged(network, timed)
    }

    /// Times all networks again that may be better than the best one.
    fn time_again(&mut self, best: usize) -> Result<(), LabError> {
        let most = NEAR * self.best_of(best).map_or(f64::INFINITY, Considered::rank);
        let mut near: Vec<Considered> =
            self.found.iter().flatten().filter(|one| one.rank() <= most).cloned().collect();
        near.dedup_by(|a, b| a.plan.model == b.plan.model);
        for Considered { network, plan, timed: before, .. } in near {
            let timed = self.time_shortly(plan)?;
            let again = self.judged(network, quickest(timed, &before))?;
            let same = |one: &&mut Considered| one.plan.model == again.plan.model;
            self.found.iter_mut().flatten().filter(same).for_each(|one| one.clone_from(&again));
        }
        Ok(())
    }

    /// Times a plan among others.
    fn time_shortly(&mut self, plan: Plan) -> Result<Forecast, LabError> {
        let seconds = (TIMING_SHARE * self.wish.seconds).clamp(TIMING_SECONDS.0, TIMING_SECONDS.1);
        self.time(plan, seconds)
    }

    /// What the network that was timed last promises.
    fn judged(&self, network: Network, timed: Forecast) -> Result<Considered, LabError> {
        let per_epoch = self.task.facts.steps_per_epoch as f64;
        let all = steps_within(&timed, PLANNED_SHARE * self.wish.seconds) as f64 / per_epoch;
        let epochs = all.min(self.most_steps() as f64 / per_epoch);
        let plan = (self.lay)(recipe(&self.base, self.text, network, epochs))?;
        let (embedding, hidden) = plan.widths();
        Ok(Considered {
            embedding,
            hidden,
            softmax: plan.softmax(self.task.vocabulary.len()),
            parameters: self.task.model.layout().len() as u64,
            tokens_per_second: timed.tokens_per_second,
            epochs,
            perplexity: self.beside.expected_loss(self.reach(&plan, epochs)).exp(),
            used: epochs / all.max(1e-9),
            network,
            plan,
            timed,
        })
    }

    /// What the expectation depends on.
    fn reach(&self, plan: &Plan, epochs: f64) -> Reach {
        Reach { hidden: plan.widths().1, epochs, softmax: plan.softmax(self.task.vocabulary.len()) }
    }

    /// The most steps that help with the plan that was timed last.
    fn most_steps(&self) -> u64 {
        let by_epochs = self.text.most_epochs() * self.task.facts.steps_per_epoch as f64;
        (by_epochs as u64).max(FEWEST_STEPS)
    }

    /// Times the steps, the validations and the samples of a plan.
    fn time(&mut self, mut plan: Plan, seconds: f64) -> Result<Forecast, LabError> {
        let (fewest, most) = VALIDATIONS;
        plan.training.steps = Some(most);
        validate_evenly(&mut plan, most, most);
        self.task.replan(plan)?;
        let found = forecast(self.task, self.wish.threads, seconds, &mut *self.go_on)?;
        let mut found = found.ok_or(TextError::Stopped)?;
        let each: f64 =
            found.besides.iter().filter(|part| part.times > 1).map(|part| part.seconds_each).sum();
        let times = ((VALIDATING_SHARE * self.wish.seconds / each) as u64).clamp(fewest, most);
        found.besides.iter_mut().for_each(|part| part.times = part.times.min(times));
        Ok(found)
    }

    /// The plan of a width, with as many steps as the time has.
    fn finish(mut self, taken: usize) -> Result<Designed, LabError> {
        self.perplexity(taken)?;
        let Some(chosen) = self.best_of(taken).cloned() else {
            return Err(LabError::ShortTime { seconds: self.wish.seconds });
        };
        let mut plan = chosen.plan;
        let (fewest, most) = LONG_TIMING_SECONDS;
        let timed = self.time(plan.clone(), (LONG_TIMING_SHARE * self.wish.seconds).clamp(fewest, most))?;
        // A machine that is slower later shortens the schedule, which costs little; one that is quicker would leave time unused.
        let timed = quickest(timed, &chosen.timed);
        let steps = steps_within(&timed, PLANNED_SHARE * self.wish.seconds).min(self.most_steps());
        if steps < FEWEST_STEPS {
            return Err(LabError::ShortTime { seconds: self.wish.seconds });
        }
        let epochs = steps as f64 / self.task.facts.steps_per_epoch as f64;
        // The steps say how long it is.
        (plan.training.steps, plan.training.epochs) = (Some(steps), None);
        validate_evenly(&mut plan, steps, validations(&timed));
        let [low, high] = self.beside.expected_range(self.reach(&plan, epochs)).map(f64::exp);
        plan.expected = Some(ExpectedPlan {
            minutes: rounded(seconds_of(&timed, steps) / 60.0),
            lowest_perplexity: rounded(low),
            highest_perplexity: rounded(high),
        });
        plan.check()?;
        self.task.replan(plan.clone())?;
        let mut considered: Vec<Considered> = self.found.into_iter().flatten().collect();
        considered.dedup_by(|a, b| a.plan.model == b.plan.model);
        let taken = considered.iter().position(|one| one.plan.model == plan.model).unwrap_or(0);
        Ok(Designed { plan, considered, taken, epochs, ngram: (self.beside.order, self.beside.loss.exp()) })
    }
}

/// Which of `all` widths has the lowest expected perplexity: from the middle one on, as long as a neighbour promises more.
fn lowest(all: usize, mut perplexity: impl FnMut(usize) -> Result<f64, LabError>) -> Result<usize, LabError> {
    let mut best = all / 2;
    // Within a short time, a wide network may not even make a step.
    while best > 0 && perplexity(best)?.is_infinite() {
        best -= 1;
    }
    loop {
        let mut next = best;
        for at in [best.saturating_sub(1), (best + 1).min(all - 1)] {
            if perplexity(at)? < perplexity(next)? {
                next = at;
            }
        }
        if next == best {
            return Ok(best);
        }
        best = next;
    }
}

/// Validations, samples and gradient flow at even distances.
fn validate_evenly(plan: &mut Plan, steps: u64, times: u64) {
    let every = steps.div_ceil(times).max(1);
    (plan.training.validate_every, plan.samples.every, plan.training.flow_every) = (every, every, every);
}

/// How often a run validates.
fn validations(timed: &Forecast) -> u64 {
    timed.besides.iter().map(|part| part.times).max().unwrap_or(1)
}

/// Seconds of a run of so many steps.
fn seconds_of(timed: &Forecast, steps: u64) -> f64 {
    let besides: f64 = timed.besides.iter().map(|part| part.times as f64 * part.seconds_each).sum();
    besides + steps as f64 * timed.seconds_per_step
}

/// The steps of a run of so many seconds.
fn steps_within(timed: &Forecast, seconds: f64) -> u64 {
    let left = seconds - seconds_of(timed, 0);
    (left / timed.seconds_per_step).max(0.0) as u64
}

/// The quicker steps of two timings of one network, and the quicker of everything else: what slows a machine down comes and goes.
fn quickest(mut one: Forecast, other: &Forecast) -> Forecast {
    if other.seconds_per_step < one.seconds_per_step {
        (one.seconds_per_step, one.tokens_per_second) = (other.seconds_per_step, other.tokens_per_second);
    }
    for part in &mut one.besides {
        let same = other.besides.iter().filter(|same| same.name == part.name);
        part.seconds_each = same.map(|same| same.seconds_each).fold(part.seconds_each, f64::min);
    }
    one
}

/// Three significant digits.
fn rounded(value: f64) -> f64 {
    let digits = 10f64.powf(2.0 - value.abs().max(1e-9).log10().floor());
    (value * digits).round() / digits
}

#[cfg(test)]
mod tests {
    use super::{lowest, quickest};
    use crate::measure::forecast::{Forecast, Repeated};
    use crate::measure::several::StepParts;

    #[test]
    fn of_two_timings_each_part_is_the_quicker_one() {
        let timed = |seconds_per_step: f64, besides: &[(&'static str, f64)]| Forecast {
            steps: 100,
            seconds_per_step,
            tokens_per_second: 512.0 / seconds_per_step,
            parts: StepParts {
                lanes: 1,
                lanes_seconds: 0.1,
                own_seconds: 0.0,
                dense_bytes: 0.0,
                row_bytes_per_lane: 0.0,
            },
            besides: besides
                .iter()
                .map(|&(name, seconds_each)| Repeated { name, times: 2, seconds_each })
                .collect(),
        };
        let (one, other) =
            (timed(0.5, &[("validation", 3.0), ("samples", 1.0)]), timed(0.25, &[("samples", 2.0)]));
        let expected = timed(0.25, &[("validation", 3.0), ("samples", 1.0)]);
        assert_eq!(quickest(one.clone(), &other), expected);
        let back = quickest(other, &one);
        assert_eq!((back.seconds_per_step, back.besides[0].seconds_each), (0.25, 1.0));
    }

    #[test]
    fn the_lowest_is_found_from_the_middle_wherever_it_is() {
        const NONE: f64 = f64::INFINITY;
        for (perplexities, expected) in [
            ([9.0, 8.0, 7.0, 6.0, 7.0], 3),
            ([9.0, 8.0, 7.0, 6.0, 5.0], 4),
            ([3.0, 4.0, 5.0, 6.0, 7.0], 0),
            ([9.0, 8.0, NONE, NONE, NONE], 1),
            ([9.0, NONE, NONE, NONE, NONE], 0),
            ([NONE; 5], 0),
        ] {
            assert_eq!(lowest(5, |at| Ok(perplexities[at])).unwrap(), expected, "{perplexities:?}");
        }
    }
}
