//! Sweeps over real runs: the same results whoever works on them, however often they are stopped.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};

use lalograph_lab::run::records::{Evaluation, MetricsRecord, read_lines};
use lalograph_lab::run::shelf;
use lalograph_lab::sweep::error::SweepError;
use lalograph_lab::sweep::folder::SweepFolder;
use lalograph_lab::sweep::ledger::Results;
use lalograph_lab::sweep::most_kept;
use lalograph_lab::sweep::ranking::rank;
use lalograph_lab::sweep::spec::{Method, SweepSpec, Terms, Trial};
use lalograph_lab::sweep::work::{SweepEvent, Work, WorkEnd, tested, work};
use lalograph_lab::task::language::LanguageNote;
use lalograph_lab::{Plan, RunFolder, Running, TrainingEvent, prepare, train};
use lalograph_storage::{Disk, Existing};

use crate::common::{plan_of, quiet};

const SMALL: [&str; 13] = [
    "corpus.document=line",
    "corpus.test_share=0.2",
    "model.embedding=4",
    "model.hidden=6",
    "training.steps=32",
    "training.batch=2",
    "training.window=8",
    "training.validate_every=2",
    "training.validate_share=1",
    "samples.every=0",
    "samples.tokens=4",
    "checkpoints.every=5",
    "checkpoints.minutes=0",
];

fn text() -> String {
    (0..90).map(|n| format!("hive {} hums {} times in the {} wood\n", n % 7, n * n % 11, n % 3)).collect()
}

fn plan(folder: &Path) -> Plan {
    plan_of(folder, &text(), &[&SMALL])
}

fn spec(folder: &Path, vary: &[&str], terms: Terms) -> SweepSpec {
    let vary: Vec<String> = vary.iter().map(|&one| one.to_owned()).collect();
    SweepSpec::new(plan(folder), &vary, terms, None).unwrap()
}

fn clock() -> String {
    "now".to_owned()
}

/// So many jobs with a thread each, and this memory.
fn how<'w>(
    tokens: &'w Path,
    jobs: usize,
    memory: &'w (dyn Fn(u64) -> Result<(), String> + Sync),
) -> Work<'w> {
    Work {
        storage: &Disk,
        tokens,
        base: None,
        jobs,
        threads: jobs,
        limit: None,
        program_version: "0",
        clock: &clock,
        memory,
    }
}

/// Works on a sweep with so many jobs, until the observer stops it.
fn work_on(
    sweep: &SweepFolder,
    tokens: &Path,
    jobs: usize,
    observer: &(dyn Fn(&SweepEvent<'_>) -> bool + Sync),
) -> Result<WorkEnd, SweepError> {
    let how = how(tokens, jobs, &|_| Ok(()));
    work(sweep, &how, &|event: &SweepEvent<'_>| observer(event))
}

fn made(path: &Path, spec: SweepSpec) -> SweepFolder {
    SweepFolder::make_or_join(&Disk, path, spec).unwrap().0
}

fn results(sweep: &SweepFolder) -> Results {
    sweep.ledger(&Disk).unwrap().refresh().unwrap().clone()
}

/// What does not depend on the clock: of each trial the figures at each rung, or why it failed; the test; the plan and the model of the best.
type Table = (
    BTreeMap<String, Vec<(u64, bool, Evaluation)>>,
    BTreeMap<String, String>,
    Option<(Trial, Evaluation)>,
    String,
    Vec<u8>,
);

fn table(sweep: &SweepFolder) -> Table {
    let (spec, results) = (sweep.spec(), results(sweep));
    let (mut reached, mut failed) = (BTreeMap::new(), BTreeMap::new());
    for trial in spec.trials() {
        let state = results.trial(spec, trial);
        let rungs = state.reached.iter().flatten();
        let figures = rungs.map(|one| (one.steps, one.finished, one.evaluation.clone())).collect();
        reached.insert(spec.name(trial), figures);
        failed.extend(state.failed.clone().map(|why| (spec.name(trial), why)));
    }
    let ranking = rank(spec, sweep.figure(), &results);
    let best = &ranking.ranked[0];
    let run = RunFolder::open(&sweep.run(Trial { setting: best.setting, seed: best.best_seed })).unwrap();
    let test = tested(sweep, &results).map(|(trial, evaluation)| (trial, evaluation.clone()));
    let best_plan = std::fs::read_to_string(sweep.best_plan()).unwrap();
    (reached, failed, test, best_plan, std::fs::read(run.model()).unwrap())
}

/// The models and checkpoints in the folder of the trials.
fn weights(sweep: &SweepFolder) -> (Vec<String>, usize) {
    let (mut models, mut checkpoints) = (Vec::new(), 0);
    for run in RunFolder::all(&sweep.trials()).unwrap() {
        if run.model().is_file() {
            models.push(run.name());
        }
        checkpoints += std::fs::read_dir(run.checkpoints()).map_or(0, Iterator::count);
    }
    (models, checkpoints)
}

#[test]
fn a_trial_is_the_run_that_it_would_be_by_itself() {
    let place = tempfile::tempdir().unwrap();
    let terms = Terms { keep: 2, seeds: 2, ..Terms::default() };
    let spec = spec(place.path(), &["model.hidden=4,8", "training.learning_rate=0.01,0.03"], terms);
    let sweep = made(&place.path().join("sweep"), spec);
    let seen = Mutex::new(Vec::new());
    let end = work_on(&sweep, &place.path().join("tokens"), 2, &|event| {
        if let SweepEvent::Reached(trial, _) = event {
            seen.lock().unwrap().push(*trial);
            let (most, (models, checkpoints)) = (most_kept(sweep.spec(), 2), weights(&sweep));
            assert!(
                models.len() <= most.models && checkpoints <= most.checkpoints,
                "{models:?} {checkpoints}"
            );
        }
        true
    });
    assert_eq!(end.unwrap(), WorkEnd::Over);
    assert_eq!(seen.into_inner().unwrap().len(), 8);
    let spec = sweep.spec();
    let results = results(&sweep);
    for trial in spec.trials() {
        let own = spec.plan_of(trial).unwrap();
        assert_eq!(own.training.seed, 1 + trial.seed as u64);
        assert_eq!(own.corpus.split_seed, Some(1), "one split for all seeds");
        let task = prepare(own, 1, None, &mut quiet).unwrap();
        let description = task.describe("alone", "now".into(), "0", None).unwrap();
        let runs = place.path().join("alone");
        let files = task.run_files().unwrap();
        let (run, claim, description) =
            shelf::create(&Disk, &runs, &task.plan, description, &files, Existing::Replace).unwrap();
        let running = Running::new(run, claim, description);
        let outcome = train(&task, running, 1, &mut |_: &TrainingEvent<'_, LanguageNote>| {
            std::ops::ControlFlow::Continue(())
        })
        .unwrap();
        let reached = results.trial(spec, trial).last().unwrap();
        assert_eq!(Some(&reached.evaluation), outcome.validation.as_ref());
        // The test of the best was scored once, with the weights that were kept: as the run by itself did.
        if let Some((best, test)) = tested(&sweep, &results).filter(|(best, _)| *best == trial) {
            let difference = (test.loss - outcome.test.unwrap().loss).abs();
            assert!(difference < 1e-9, "{best:?}: {difference}");
        }
    }
    // Only the model of the best has met the test part.
    let tests: usize = RunFolder::all(&sweep.trials())
        .unwrap()
        .iter()
        .map(|run| {
            let records: Vec<MetricsRecord> = read_lines(&run.metrics()).unwrap();
            records.iter().filter(|record| matches!(record, MetricsRecord::Test { .. })).count()
        })
        .sum();
    assert_eq!(tests, 1);
    let ranking = rank(spec, sweep.figure(), &results);
    let mut kept: Vec<String> = ranking.ranked[..2]
        .iter()
        .map(|one| spec.name(Trial { setting: one.setting, seed: one.best_seed }))
        .collect();
    kept.sort();
    assert_eq!(weights(&sweep), (kept, 0));
    // Nothing is left to do, and doing it again changes nothing.
    let before = table(&sweep);
    assert_eq!(work_on(&sweep, &place.path().join("tokens"), 1, &|_| true).unwrap(), WorkEnd::Over);
    assert!(table(&sweep) == before);
}

/// Stops the work at its n-th step, over and over, with another number of jobs each time.
fn done_in_pieces(sweep: &SweepFolder, tokens: &Path, first: u64) -> u64 {
    for turn in 1.. {
        // A linear network is solved from its first step each time, so it needs a turn that is long enough.
        let steps = first + turn * 5 % 37 + turn;
        let made = AtomicU64::new(0);
        let jobs = 1 + (turn % 3) as usize;
        let end = work_on(sweep, tokens, jobs, &|event| {
            let stop =
                matches!(event, SweepEvent::Step { .. }) && made.fetch_add(1, Ordering::SeqCst) >= steps;
            !stop
        });
        if end.unwrap() == WorkEnd::Over {
            return turn;
        }
        assert!(turn < 500, "it gets nowhere");
    }
    0
}

#[test]
fn stopped_and_shared_races_and_grids_have_the_same_results() {
    let place = tempfile::tempdir().unwrap();
    let tokens = place.path().join("tokens");
    let vary = ["model.hidden=3..9", "training.learning_rate=0.003..0.1", "training.dropout=0..0.4:even"];
    let race = Terms { method: Method::Racing, trials: Some(8), rungs: 3, keep: 2, ..Terms::default() };
    let grid = Terms { keep: 1, seeds: 2, ..Terms::default() };
    for (name, vary, terms) in
        [("race", &vary[..], race), ("grid", &["model.cell=gru,plain_tanh", "training.batch=2,3"], grid)]
    {
        let at = |how: &str| place.path().join(format!("{name}-{how}"));
        let whole = made(&at("whole"), spec(place.path(), vary, terms.clone()));
        assert_eq!(work_on(&whole, &tokens, 1, &|_| true).unwrap(), WorkEnd::Over);
        let expected = table(&whole);
        assert!(expected.2.is_some());
        let pieces = made(&at("pieces"), spec(place.path(), vary, terms.clone()));
        assert!(done_in_pieces(&pieces, &tokens, 11) > 5);
        assert!(table(&pieces) == expected, "{name} in pieces");
        // Three workers that know of each other by the folder alone.
        let shared = made(&at("shared"), spec(place.path(), vary, terms.clone()));
        std::thread::scope(|scope| {
            for _ in 0..3 {
                let (shared, tokens) = (&shared, &tokens);
                scope.spawn(move || {
                    let joined = SweepFolder::open(shared.path()).unwrap();
                    assert_eq!(work_on(&joined, tokens, 1, &|_| true).unwrap(), WorkEnd::Over);
                });
            }
        });
        assert!(table(&shared) == expected, "{name} shared");
        for sweep in [&whole, &pieces, &shared] {
            let (models, checkpoints) = weights(sweep);
            assert_eq!((models.len() as u64, checkpoints), (terms.keep, 0), "{models:?}");
        }
    }
}

#[test]
fn a_race_is_a_third_of_the_work_and_its_winner_an_uninterrupted_run() {
    let place = tempfile::tempdir().unwrap();
    let race = Terms { method: Method::Racing, ..Terms::default() };
    let vary = ["training.learning_rate=0.0001,0.0003,0.001,0.003,0.01,0.03,0.05,0.08"];
    let sweep = made(&place.path().join("race"), spec(place.path(), &vary, race));
    work_on(&sweep, &place.path().join("tokens"), 1, &|_| true).unwrap();
    let steps: u64 = results(&sweep).trials().iter().map(|trial| trial.last().unwrap().steps).sum();
    assert!(steps <= 8 * 32 / 3, "{steps}");
    let whole = made(&place.path().join("grid"), spec(place.path(), &vary, Terms::default()));
    work_on(&whole, &place.path().join("tokens"), 2, &|_| true).unwrap();
    let best = |sweep: &SweepFolder| {
        let ranked = rank(sweep.spec(), sweep.figure(), &results(sweep)).ranked;
        (ranked[0].setting, ranked[0].costs.clone())
    };
    assert_eq!(best(&sweep), best(&whole));
}

#[test]
fn a_corner_that_cannot_be_trained_is_marked_and_the_rest_goes_on() {
    let place = tempfile::tempdir().unwrap();
    // A window longer than the text, and a learning rate at which numbers overflow.
    let vary = ["training.window=8,4000", "training.learning_rate=0.01,1e30"];
    let sweep = made(&place.path().join("sweep"), spec(place.path(), &vary, Terms::default()));
    assert_eq!(work_on(&sweep, &place.path().join("tokens"), 1, &|_| true).unwrap(), WorkEnd::Over);
    let found = results(&sweep);
    let failed: Vec<bool> = found.trials().iter().map(|trial| trial.failed.is_some()).collect();
    assert_eq!(failed, [false, true, true, true]);
    let reason = |trial: usize| found.trials()[trial].failed.clone().unwrap();
    assert!(reason(1).contains("not a finite number"), "{}", reason(1));
    assert!(reason(2).contains("one batch"), "{}", reason(2));
    assert_eq!(rank(sweep.spec(), sweep.figure(), &found).ranked.len(), 1);
}

#[test]
fn what_is_no_trials_fault_ends_the_work_and_marks_none() {
    let place = tempfile::tempdir().unwrap();
    let sweep =
        made(&place.path().join("sweep"), spec(place.path(), &["model.hidden=4,8"], Terms::default()));
    let letters = place.path().join("letters.txt");
    let aside = place.path().join("aside.txt");
    std::fs::rename(&letters, &aside).unwrap();
    work_on(&sweep, &place.path().join("tokens"), 1, &|_| true).unwrap_err();
    assert!(results(&sweep).trials().iter().all(|trial| trial.failed.is_none()));
    std::fs::rename(&aside, &letters).unwrap();
    assert_eq!(work_on(&sweep, &place.path().join("tokens"), 1, &|_| true).unwrap(), WorkEnd::Over);
    // Another sweep, a changed plan: the folder stays with its own.
    let path = place.path().join("sweep");
    let other = spec(place.path(), &["model.hidden=4,9"], Terms::default());
    let error = SweepFolder::make_or_join(&Disk, &path, other).unwrap_err().to_string();
    assert!(error.contains("model.hidden=4,8") && error.contains("model.hidden=4,9"), "{error}");
    let mut plan = plan(place.path());
    plan.training.batch = 3;
    let other = SweepSpec::new(plan, &["model.hidden=4,8".into()], Terms::default(), None).unwrap();
    let error = SweepFolder::make_or_join(&Disk, &path, other).unwrap_err().to_string();
    assert!(error.contains("`training.batch` is 2 there and 3 here"), "{error}");
    let error = SweepFolder::make_or_join(
        &Disk,
        place.path(),
        spec(place.path(), &["model.hidden=4,8"], Terms::default()),
    );
    assert!(matches!(error, Err(SweepError::NotASweep(_))));
}

#[test]
fn classifiers_are_swept_too_and_the_solved_ones_beside_the_trained() {
    let place = tempfile::tempdir().unwrap();
    let rows: String = (0..120)
        .map(|n| match n % 2 {
            0 => format!("bees fly over {} fields,good\n", n % 9),
            _ => format!("bees lie below {} stones,bad\n", n % 9),
        })
        .collect();
    let table_file = place.path().join("rows.csv");
    std::fs::copy(
        {
            plan_of(place.path(), &format!("text,class\n{rows}"), &[]);
            place.path().join("letters.txt")
        },
        &table_file,
    )
    .unwrap();
    let settings = [
        "classifier.network=pooled",
        "corpus.label=class",
        "corpus.test_share=0.2",
        "model.embedding=4",
        "training.steps=20",
        "training.batch=4",
        "training.validate_every=5",
        "checkpoints.every=3",
    ];
    let mut plan = Plan::with_settings(&settings).unwrap();
    plan.corpus.paths = vec![table_file];
    let vary = ["classifier.network=pooled,linear,convolution".to_owned()];
    let spec = SweepSpec::new(plan, &vary, Terms { seeds: 2, ..Terms::default() }, None).unwrap();
    let tokens = place.path().join("tokens");
    let whole = made(&place.path().join("whole"), spec.clone());
    assert_eq!(work_on(&whole, &tokens, 2, &|_| true).unwrap(), WorkEnd::Over);
    let pieces = made(&place.path().join("pieces"), spec);
    done_in_pieces(&pieces, &tokens, 7);
    assert!(table(&pieces) == table(&whole));
    assert!(table(&whole).2.is_some_and(|(_, test)| test.figure("accuracy").is_some()));
}

#[test]
fn memory_for_one_is_a_trials_own_matter_and_memory_for_several_is_not() {
    let place = tempfile::tempdir().unwrap();
    let tokens = place.path().join("tokens");
    let sweep =
        made(&place.path().join("sweep"), spec(place.path(), &["model.hidden=4,6"], Terms::default()));
    let needed = Mutex::new(Vec::new());
    let with = |jobs: usize, most: u64| {
        let memory = |bytes: u64| {
            needed.lock().unwrap().push(bytes);
            if bytes > most { Err(format!("{bytes} are too many")) } else { Ok(()) }
        };
        work(&sweep, &how(&tokens, jobs, &memory), &|_: &SweepEvent<'_>| true)
    };
    assert!(matches!(with(3, 0), Ok(WorkEnd::Over)), "neither fits by itself");
    assert!(results(&sweep).trials().iter().all(|trial| trial.failed.is_some()));
    let sizes = needed.lock().unwrap().clone();
    let (small, large) = (*sizes.iter().min().unwrap(), *sizes.iter().max().unwrap());
    assert!(small < large);
    let again =
        made(&place.path().join("again"), spec(place.path(), &["model.hidden=4,6"], Terms::default()));
    let memory = |bytes: u64| if bytes > 2 * small - 1 { Err("too many".to_owned()) } else { Ok(()) };
    let crowded = work(&again, &how(&tokens, 2, &memory), &|_: &SweepEvent<'_>| true);
    assert!(matches!(crowded, Err(SweepError::Crowded { jobs: 2, .. })), "{crowded:?}");
    assert!(results(&again).trials().iter().all(|trial| trial.failed.is_none()));
    work(&again, &how(&tokens, 1, &memory), &|_: &SweepEvent<'_>| true).unwrap();
    assert_eq!(rank(again.spec(), again.figure(), &results(&again)).ranked.len(), 2);
}

#[test]
fn a_budget_of_steps_holds_whoever_works() {
    let place = tempfile::tempdir().unwrap();
    let terms =
        || Terms { method: Method::Random, trials: Some(9), budget_steps: Some(100), ..Terms::default() };
    let vary = ["model.hidden=3..9"];
    for jobs in [1, 3] {
        let path = place.path().join(format!("jobs-{jobs}"));
        let sweep = made(&path, spec(place.path(), &vary, terms()));
        assert_eq!(work_on(&sweep, &place.path().join("tokens"), jobs, &|_| true).unwrap(), WorkEnd::Over);
        let done = results(&sweep).trials().iter().filter(|trial| trial.last().is_some()).count();
        assert_eq!(done, 4, "32 steps each: the fourth goes beyond 96");
    }
}
