//! Plans for a text and a time.

use lalograph_lab::design::by_time::{Aim, Designed, Wish, design};
use lalograph_lab::{LabError, Plan, PlanError, prepare};
use lalograph_net::Cell;

use crate::common::{plan_of, quiet};

/// A text that a machine of any speed trains a narrow network on for seconds.
fn text() -> String {
    (0..900).map(|n| format!("hive {} hums {} times in the {} wood\n", n % 7, n * n % 11, n % 3)).collect()
}

fn designed(settings: &[&str], wish: Wish, go_on: bool) -> Result<Designed, LabError> {
    let folder = tempfile::tempdir().unwrap();
    let plan = plan_of(folder.path(), &text(), &[&["corpus.document=line"]]);
    let settings: Vec<String> = settings.iter().map(|&one| one.to_owned()).collect();
    let lay = |plan: Plan| -> Result<Plan, PlanError> { Plan::from_toml(&plan.to_toml()?, &settings) };
    let mut task = prepare(lay(plan)?, 1, None, &mut quiet)?;
    design(&mut task, wish, &lay, &mut || go_on)
}

const WISH: Wish = Wish { seconds: 20.0, aim: Aim::Quality, threads: 1 };

#[test]
fn a_plan_for_a_time_can_be_trained_and_says_what_to_expect() {
    let found = designed(&[], WISH, true).unwrap();
    let Designed { plan, considered, taken, .. } = &found;
    plan.check().unwrap();
    assert!(plan.training.steps.unwrap() >= 40);
    assert_eq!(plan.training.end_after_minutes, 0.35, "1.05 of 20 seconds");
    let expected = plan.expected.as_ref().unwrap();
    assert!(expected.minutes > 0.0 && expected.minutes < 1.0, "{expected:?}");
    assert!(expected.lowest_perplexity < expected.highest_perplexity, "{expected:?}");
    assert!(considered.is_sorted_by(|a, b| a.hidden <= b.hidden), "{considered:?}");
    let own = &considered[*taken];
    assert_eq!((Some(own.embedding), Some(own.hidden)), (plan.model.embedding, plan.model.hidden));
    let lowest = considered.iter().map(|one| one.perplexity).fold(f64::INFINITY, f64::min);
    assert!(
        own.perplexity <= 1.03 * lowest,
        "the lowest, or one near it that uses more of the time: {own:?}"
    );
    assert!(considered.iter().all(|one| 0.0 < one.used && one.used <= 1.0), "{considered:?}");
    assert_eq!(Plan::from_toml(&plan.to_toml().unwrap(), &[]).unwrap(), *plan);
}

#[test]
fn what_is_set_holds_whatever_the_time() {
    let settings = ["model.hidden=24", "model.embedding=12", "model.cell=lstm", "training.batch=4"];
    let found = designed(&settings, WISH, true).unwrap();
    assert_eq!(found.considered.len(), 1, "{:?}", found.considered);
    let (model, training) = (&found.plan.model, &found.plan.training);
    assert_eq!((model.hidden, model.embedding, training.batch), (Some(24), Some(12), 4));
    assert_eq!(model.cell, Cell::Lstm);
    // So narrow a network reads so short a text far more often in the time than helps.
    let own = &found.considered[0];
    assert!(own.epochs == 20.0 && own.used < 0.9, "{own:?}");
    assert!(found.plan.expected.as_ref().unwrap().minutes < 0.3, "{:?}", found.plan.expected);
}

#[test]
fn a_quick_network_is_expected_near_the_best_one() {
    let quick = designed(&[], Wish { aim: Aim::Speed, ..WISH }, true).unwrap();
    let lowest = quick.considered.iter().map(|one| one.perplexity).fold(f64::INFINITY, f64::min);
    let own = &quick.considered[quick.taken];
    assert!(own.perplexity <= 1.03 * 1.1 * lowest, "{own:?}");
}

#[test]
fn what_no_plan_can_be_made_for_is_said() {
    let error = designed(&["corpus.validation_share=0"], WISH, true).unwrap_err().to_string();
    assert!(error.contains("corpus.validation_share"), "{error}");
    let error = designed(&[], Wish { seconds: 0.001, ..WISH }, true).unwrap_err();
    assert!(matches!(error, LabError::ShortTime { .. }), "{error}");
    let error = designed(&["model.hidden=0"], WISH, true);
    assert!(error.is_err());
}

#[test]
fn a_stop_ends_the_search() {
    let error = designed(&[], WISH, false).unwrap_err().to_string();
    assert_eq!(error, LabError::from(lalograph_text::TextError::Stopped).to_string());
}
