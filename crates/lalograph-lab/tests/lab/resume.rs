//! A run that was stopped anywhere and continued ends as the run that never stopped.

use std::ops::ControlFlow;
use std::path::Path;

use lalograph_lab::artefact::checkpoint::{Checkpoint, checkpoints, newest};
use lalograph_lab::run::description::{EarlyEnd, RunStatus};
use lalograph_lab::run::records::{MetricsRecord, read_lines};
use lalograph_lab::task::language::LanguageNote;
use lalograph_lab::training::resume::{Changes, Resumable};
use lalograph_lab::{
    LabError, Plan, RunFolder, TrainingEvent, TrainingOutcome, prepare, prepare_again, train,
};
use lalograph_storage::{Disk, Existing};

use crate::common::{created, letters, plan_of, quiet};

/// A corpus in which something can be learnt, and a plan that does everything in 24 steps.
fn plan(folder: &Path, settings: &[&str]) -> Plan {
    let base = [
        "corpus.document=line",
        "corpus.test_share=0.1",
        "model.embedding=6",
        "model.hidden=8",
        "training.dropout=0.1",
        "training.batch=4",
        "training.window=9",
        "training.steps=24",
        "training.warmup_steps=4",
        "training.validate_every=7",
        "training.record_every=5",
        "training.flow_every=6",
        "samples.every=8",
        "samples.at=[3]",
        "samples.tokens=6",
        "checkpoints.every=5",
    ];
    plan_of(folder, &letters(), &[&base, settings])
}

/// Begins a run and has the observer break at its `stop`th event.
fn begin(parent: &Path, name: &str, plan: &Plan, stop: usize) -> (RunFolder, TrainingOutcome) {
    let prepared = prepare(plan.clone(), 1, None, &mut quiet).unwrap();
    let running = created(&Disk, parent, name, &prepared, Existing::Keep).unwrap();
    let run = running.run.clone();
    let outcome = train(&prepared, running, 1, &mut breaking_at(stop)).unwrap();
    (run, outcome)
}

fn breaking_at(stop: usize) -> impl FnMut(&TrainingEvent<'_, LanguageNote>) -> ControlFlow<()> + Send {
    let mut heard = 0;
    move |_: &TrainingEvent<'_, LanguageNote>| {
        heard += 1;
        if heard == stop { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    }
}

fn go_on(run: &RunFolder, changes: &Changes, stop: usize) -> Result<TrainingOutcome, LabError> {
    let resumable = Resumable::open(&Disk, run.path(), changes, false)?;
    let prepared = prepare_again(resumable.run(), resumable.plan(), None, 1, None, &mut quiet)?;
    let running = resumable.running(&prepared, "later".into(), |error| panic!("{error}"))?;
    train(&prepared, running, 1, &mut breaking_at(stop))
}

/// What a run leaves, but for times.
fn left(run: &RunFolder) -> (Vec<u8>, Vec<MetricsRecord>, String, String) {
    let mut metrics: Vec<MetricsRecord> = read_lines(&run.metrics()).unwrap();
    for record in &mut metrics {
        match record {
            MetricsRecord::Training { seconds, tokens_per_second, .. } => {
                (*seconds, *tokens_per_second) = (0.0, 0.0)
            }
            MetricsRecord::Validation { seconds, .. } => *seconds = 0.0,
            MetricsRecord::Test { .. } => {}
        }
    }
    let text = |path: &Path| std::fs::read_to_string(path).unwrap();
    (std::fs::read(run.model()).unwrap(), metrics, text(&run.records("samples")), text(&run.records("flow")))
}

#[test]
fn stopped_at_any_event_of_any_kind_of_run_it_ends_as_if_it_had_not_been() {
    let kinds: [&[&str]; 8] = [
        &[],
        &["model.cell=gru", "model.layers=2", "optimiser.rule=momentum", "training.reset_at_documents=false"],
        &[
            "model.cell=plain_tanh",
            "optimiser.rule=sgd",
            "optimiser.average_from=0.3",
            "training.dropout=0.3",
        ],
        &["training.windows=documents", "optimiser.rule=rmsprop", "model.learn_first_state=true"],
        &["training.windows=independent", "training.stride=4", "optimiser.rule=adamw", "training.lanes=3"],
        &["model.softmax=sampled", "model.softmax_samples=4", "training.window_jitter=0.4"],
        &[
            "training.schedule=plateau",
            "training.schedule_patience=1",
            "training.learning_rate=0.5",
            "training.validate_every=2",
        ],
        &[
            "training.patience=2",
            "training.minimum_gain=0.5",
            "training.validate_every_epochs=0.05",
            "training.validate_share=0.5",
        ],
    ];
    for (number, settings) in kinds.iter().enumerate() {
        let folder = tempfile::tempdir().unwrap();
        let plan = plan(folder.path(), settings);
        let (whole, outcome) = begin(folder.path(), "whole", &plan, usize::MAX);
        assert_eq!(outcome.status, RunStatus::Finished);
        assert_eq!(outcome.ended_early, (number == 7).then_some(EarlyEnd::Patience), "{settings:?}");
        let expected = left(&whole);
        // Every third event in one kind, fewer in the others.
        for stop in (1..200).step_by(if number == 0 { 3 } else { 17 }) {
            let (run, mut outcome) = begin(folder.path(), &format!("stopped-{stop}"), &plan, stop);
            // Stopped again a few events on, and again.
            let mut again = 0;
            while outcome.status == RunStatus::Interrupted {
                again += 1;
                outcome = go_on(&run, &Changes::default(), 5 + 7 * again).unwrap();
            }
            let found = left(&run);
            assert_eq!(found.1, expected.1, "{settings:?} stopped at event {stop}");
            assert_eq!(
                (&found.2, &found.3),
                (&expected.2, &expected.3),
                "{settings:?} stopped at event {stop}"
            );
            assert!(found.0 == expected.0, "{settings:?} stopped at event {stop}: the model files differ");
            let kept = checkpoints(&run.checkpoints()).unwrap();
            assert!(kept.len() == 2 && kept[0].0 == outcome.steps, "{kept:?}");
            std::fs::remove_dir_all(run.path()).unwrap();
        }
    }
}

#[test]
fn a_finished_run_is_done_unless_it_is_given_more() {
    let folder = tempfile::tempdir().unwrap();
    let constant = ["training.schedule=constant", "training.steps=20"];
    let (run, _) = begin(folder.path(), "short", &plan(folder.path(), &constant), usize::MAX);
    assert!(matches!(go_on(&run, &Changes::default(), usize::MAX), Err(LabError::AllDone(_))));
    let more = Changes { steps: Some(33), ..Changes::default() };
    let outcome = go_on(&run, &more, usize::MAX).unwrap();
    assert_eq!((outcome.status, outcome.steps), (RunStatus::Finished, 33));
    let longer = plan(folder.path(), &["training.schedule=constant", "training.steps=33"]);
    let (whole, _) = begin(folder.path(), "long", &longer, usize::MAX);
    let weights = |run: &RunFolder| newest(&run.checkpoints(), |_| ()).unwrap().unwrap().weights().to_vec();
    assert!(weights(&run) == weights(&whole), "the same weights, whenever the number of steps was raised");
    let described = run.description().unwrap();
    assert_eq!(described.resumed[0].changed, ["training.steps = 33"]);
    assert_eq!((described.resumed[0].step, described.steps), (20, 33));
    assert_eq!(run.read_plan().unwrap().training.steps, Some(33));
    // Fewer than were made are refused, and the plan stays.
    let fewer = Changes { steps: Some(10), ..Changes::default() };
    assert!(matches!(go_on(&run, &fewer, usize::MAX), Err(LabError::FewerSteps { made: 33, asked: 10, .. })));
    assert_eq!(run.read_plan().unwrap().training.steps, Some(33));
}

#[test]
fn a_byte_flipped_anywhere_is_found_and_the_checkpoint_before_is_used() {
    let folder = tempfile::tempdir().unwrap();
    let plan = plan(folder.path(), &[]);
    let (whole, _) = begin(folder.path(), "whole", &plan, usize::MAX);
    let (run, _) = begin(folder.path(), "hurt", &plan, 60);
    let kept = checkpoints(&run.checkpoints()).unwrap();
    let (newest_step, path) = kept[0].clone();
    let sound = std::fs::read(&path).unwrap();
    let put = |bytes: &[u8]| {
        std::fs::File::create(&path)
            .and_then(|mut file| std::io::Write::write_all(&mut file, bytes))
            .unwrap();
    };
    for place in (0..200).map(|i| i * (sound.len() - 1) / 199) {
        for bits in [0xff, 0x01, 0x09] {
            let mut hurt = sound.clone();
            hurt[place] ^= bits;
            put(&hurt);
            let mut damaged = 0;
            let found = newest(&run.checkpoints(), |_| damaged += 1).unwrap().unwrap();
            assert_eq!((damaged, found.step()), (1, kept[1].0), "byte {place} ^ {bits:x}");
        }
    }
    for length in [0, 1, 7, 8, 100, sound.len() / 2, sound.len() - 1] {
        put(&sound[..length]);
        assert!(matches!(Checkpoint::load(&path), Err(LabError::BadCheckpoint { .. })), "{length}");
    }
    put(&[&sound[..], b"x"].concat());
    assert!(matches!(Checkpoint::load(&path), Err(LabError::BadCheckpoint { .. })));

    // Gone on with from the one before, it ends the same.
    let resumable = Resumable::open(&Disk, run.path(), &Changes::default(), false).unwrap();
    let prepared = prepare_again(resumable.run(), resumable.plan(), None, 1, None, &mut quiet).unwrap();
    let mut found = Vec::new();
    let running =
        resumable.running(&prepared, "later".into(), |error| found.push(error.to_string())).unwrap();
    assert!(found.len() == 1 && found[0].contains(&format!("step-{newest_step:010}")), "{found:?}");
    train(&prepared, running, 1, &mut breaking_at(usize::MAX)).unwrap();
    assert!(left(&run) == left(&whole));

    // With none that is whole nothing is started, unless it is asked for.
    for (_, path) in checkpoints(&run.checkpoints()).unwrap() {
        std::fs::File::create(path).unwrap();
    }
    let open = |from_start| {
        Resumable::open(&Disk, run.path(), &Changes { steps: Some(30), ..Changes::default() }, from_start)
            .unwrap()
    };
    assert!(matches!(
        open(false).running(&prepared, "x".into(), |_| ()),
        Err(LabError::BadCheckpoint { .. })
    ));
    assert!(open(true).running(&prepared, "x".into(), |_| ()).unwrap().from.is_none());
}

#[test]
fn another_corpus_or_vocabulary_than_the_runs_own_is_refused() {
    let folder = tempfile::tempdir().unwrap();
    let (run, _) = begin(folder.path(), "one", &plan(folder.path(), &[]), 20);
    let letters = folder.path().join("letters.txt");
    let text = std::fs::read_to_string(&letters).unwrap();
    let put = |path: &Path, text: &str| {
        std::fs::File::create(path)
            .and_then(|mut file| std::io::Write::write_all(&mut file, text.as_bytes()))
            .unwrap();
    };
    put(&letters, &format!("{text}one more line\n"));
    assert!(matches!(go_on(&run, &Changes::default(), 9), Err(LabError::Changed { what: "corpus", .. })));
    put(&letters, &text);
    let vocabulary = std::fs::read_to_string(run.vocabulary()).unwrap();
    put(&run.vocabulary(), &vocabulary.replace("queen", "quean"));
    let error = go_on(&run, &Changes::default(), 9).unwrap_err();
    assert!(
        matches!(error, LabError::Changed { what: "vocabulary", .. } | LabError::BadFile { .. }),
        "{error}"
    );
    put(&run.vocabulary(), &vocabulary);
    assert_eq!(go_on(&run, &Changes::default(), usize::MAX).unwrap().status, RunStatus::Finished);
}

#[test]
fn a_run_that_failed_goes_on_with_a_lower_rate_from_before() {
    let folder = tempfile::tempdir().unwrap();
    let plan = plan(
        folder.path(),
        &["training.learning_rate=1e6", "training.warmup_steps=20", "checkpoints.every=1"],
    );
    let prepared = prepare(plan, 1, None, &mut quiet).unwrap();
    let running = created(&Disk, folder.path(), "one", &prepared, Existing::Keep).unwrap();
    let run = running.run.clone();
    let mut hints = Vec::new();
    let failed = train(&prepared, running, 1, &mut |event: &TrainingEvent<'_, LanguageNote>| {
        if let TrainingEvent::Hint(hint) = event {
            hints.push(hint.name());
        }
        ControlFlow::Continue(())
    });
    assert!(failed.is_err());
    assert!(hints.contains(&"learning_rate_too_high"), "{hints:?}");
    let described = run.description().unwrap();
    assert_eq!(described.status, RunStatus::Failed);
    assert!(described.failure.unwrap().starts_with("step "));
    let calmer = Changes { learning_rate: Some(0.01), ..Changes::default() };
    let outcome = go_on(&run, &calmer, usize::MAX);
    // From weights that had gone far already it may fail again, but it is tried, and written down.
    assert_eq!(run.description().unwrap().resumed[0].changed, ["training.learning_rate = 0.01"]);
    assert_eq!(outcome.is_ok(), run.description().unwrap().failure.is_none());
}

#[test]
fn a_run_whose_time_is_up_ends_with_a_validation_and_makes_more_steps_if_they_are_asked_for() {
    let folder = tempfile::tempdir().unwrap();
    let settings = [
        "training.steps=1000000",
        "training.end_after_minutes=0.01",
        "training.schedule=cosine",
        "training.record_every=1",
        "optimiser.average_from=0.7",
    ];
    let (run, outcome) = begin(folder.path(), "timed", &plan(folder.path(), &settings), usize::MAX);
    assert_eq!((outcome.status, outcome.ended_early), (RunStatus::Finished, Some(EarlyEnd::Time)));
    assert!(outcome.steps < 1_000_000 && outcome.seconds >= 0.6, "{outcome:?}");
    let metrics: Vec<MetricsRecord> = read_lines(&run.metrics()).unwrap();
    let validated = metrics.iter().rev().find(|record| matches!(record, MetricsRecord::Validation { .. }));
    assert_eq!(validated.map(MetricsRecord::step), Some(outcome.steps));
    assert!(outcome.test.is_some());
    // The schedule kept to the steps at first, and ended with the time.
    let rates: Vec<f64> = metrics
        .iter()
        .filter_map(|record| match record {
            MetricsRecord::Training { learning_rate, .. } => Some(*learning_rate),
            _ => None,
        })
        .collect();
    let highest = rates.iter().copied().fold(0.0, f64::max);
    assert!(rates[rates.len() / 4] > 0.999 * highest, "{rates:?}");
    assert!(*rates.last().unwrap() < 0.5 * highest, "{rates:?}");

    let again = go_on(&run, &Changes::default(), usize::MAX);
    assert!(matches!(again, Err(LabError::AllDone(_))), "{again:?}");
    let more = Changes { steps: Some(outcome.steps + 5), ..Changes::default() };
    let longer = go_on(&run, &more, usize::MAX).unwrap();
    assert_eq!((longer.steps, longer.ended_early), (outcome.steps + 5, None));
}
