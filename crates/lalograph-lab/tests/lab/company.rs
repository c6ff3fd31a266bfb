//! Several processes: the models, scores and vectors of one, whatever their number, and whatever number goes on with a run. Threads stand for processes.

use std::ops::ControlFlow;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};

use lalograph_lab::measure::documents::Documents;
use lalograph_lab::measure::score::{Scoring, score, score_together};
use lalograph_lab::measure::token_losses::follow_scoring;
use lalograph_lab::plan::VectorsWay;
use lalograph_lab::run::description::{EarlyEnd, RunStatus};
use lalograph_lab::run::records::{MetricsRecord, read_lines};
use lalograph_lab::task::language::LanguageNote;
use lalograph_lab::task::vectors::{follow_vectors, make_vectors};
use lalograph_lab::training::company::follow;
use lalograph_lab::training::resume::{Changes, Resumable};
use lalograph_lab::{
    Base, LabError, LanguageTask, ModelFile, Plan, RunFolder, Running, TrainingEvent, TrainingObserver,
    TrainingOutcome, prepare, prepare_tuned, train,
};
use lalograph_net::step::exchange::{Exchange, OneProcess};
use lalograph_net::step::processes::Processes;
use lalograph_storage::{Disk, Existing};
use lalograph_text::tokens::TokenSequence;
use lalograph_text::vocabulary::VocabularySpec;
use lalograph_text::{Corpus, TextError, VocabularyBuilder};
use lalograph_vectors::VectorError;
use lalograph_vectors::pieces::Pieces;
use lalograph_vectors::train::{Direction, LearningProgress, Learnt, Settings};

use crate::channels::Channels;
use crate::common::{created, letters, plan_of, quiet};

/// A plan of 18 steps with five lanes.
fn plan(folder: &Path, settings: &[&str]) -> Plan {
    let base = [
        "corpus.document=line",
        "corpus.test_share=0.1",
        "model.embedding=6",
        "model.hidden=8",
        "training.dropout=0.1",
        "training.batch=10",
        "training.lanes=5",
        "training.window=9",
        "training.steps=18",
        "training.warmup_steps=4",
        "training.validate_every=7",
        "training.record_every=5",
        "training.flow_every=6",
        "samples.every=8",
        "samples.tokens=6",
        "checkpoints.every=5",
    ];
    plan_of(folder, &letters(), &[&base, settings])
}

/// Trains in so many processes. `stops` is asked by the last one.
fn together(
    prepared: &LanguageTask,
    running: Running,
    count: usize,
    observer: &mut (dyn TrainingObserver<LanguageNote> + Send),
    stops: &(dyn Fn() -> bool + Sync),
) -> TrainingOutcome {
    std::thread::scope(|scope| {
        let mut links = Channels::between(count).into_iter();
        let first = Processes::new(links.next().unwrap());
        for link in links {
            let exchange = Box::new(Processes::new(link));
            scope.spawn(move || follow(prepared, exchange, 2, stops).unwrap());
        }
        let running = Running { exchange: Box::new(first), ..running };
        train(prepared, running, 1, observer).unwrap()
    })
}

fn go_on(_: &TrainingEvent<'_, LanguageNote>) -> ControlFlow<()> {
    ControlFlow::Continue(())
}

/// The model file, and the losses of each validation and of the test.
fn left(run: &RunFolder) -> (Vec<u8>, Vec<f64>) {
    let metrics: Vec<MetricsRecord> = read_lines(&run.metrics()).unwrap();
    let losses = metrics.iter().map(|record| match record {
        MetricsRecord::Training { loss, .. }
        | MetricsRecord::Validation { loss, .. }
        | MetricsRecord::Test { loss, .. } => *loss,
    });
    (std::fs::read(run.model()).unwrap(), losses.collect())
}

const KINDS: [&[&str]; 6] = [
    &[],
    &["model.cell=gru", "model.layers=2", "model.shared_vectors=true", "training.reset_at_documents=false"],
    &["model.cell=plain_tanh", "optimiser.rule=sgd", "optimiser.average_from=0.3", "training.lanes=4"],
    &["training.windows=documents", "model.softmax=sampled", "model.softmax_samples=4"],
    &["model.softmax=clustered", "model.clusters=[8]", "model.shared_vectors=false", "optimiser.rule=adamw"],
    &["training.windows=independent", "model.shared_vectors=false", "regularisation.dropout_recurrent=0.1"],
];

#[test]
fn any_number_of_processes_leaves_the_same_model_and_the_same_records() {
    for settings in KINDS {
        let folder = tempfile::tempdir().unwrap();
        let prepared = prepare(plan(folder.path(), settings), 1, None, &mut quiet).unwrap();
        let alone = created(&Disk, folder.path(), "alone", &prepared, Existing::Keep).unwrap();
        let run = alone.run.clone();
        assert_eq!(train(&prepared, alone, 1, &mut go_on).unwrap().status, RunStatus::Finished);
        let expected = left(&run);
        for count in 1..=4 {
            let name = format!("processes-{count}");
            let running = created(&Disk, folder.path(), &name, &prepared, Existing::Keep).unwrap();
            let run = running.run.clone();
            let outcome = together(&prepared, running, count, &mut go_on, &|| false);
            assert_eq!(outcome.status, RunStatus::Finished);
            let found = left(&run);
            assert_eq!(found.1, expected.1, "{settings:?}, {count} processes");
            assert!(found.0 == expected.0, "{settings:?}, {count} processes: the model files differ");
        }
    }
}

#[test]
fn another_number_of_processes_goes_on_where_one_was_stopped() {
    for settings in KINDS {
        let folder = tempfile::tempdir().unwrap();
        let prepared = prepare(plan(folder.path(), settings), 1, None, &mut quiet).unwrap();
        let alone = created(&Disk, folder.path(), "alone", &prepared, Existing::Keep).unwrap();
        let run = alone.run.clone();
        train(&prepared, alone, 1, &mut go_on).unwrap();
        let expected = left(&run);
        let path = folder.path().join("stopped");
        // The last process wants to stop after some steps, again and again.
        let mut outcome = None;
        for (turn, count) in [3, 2, 4, 1].into_iter().enumerate() {
            let running = match turn {
                0 => created(&Disk, folder.path(), "stopped", &prepared, Existing::Keep).unwrap(),
                _ => {
                    let resumable = Resumable::open(&Disk, &path, &Changes::default(), false).unwrap();
                    resumable.running(&prepared, "later".into(), |error| panic!("{error}")).unwrap()
                }
            };
            let (wanted, mut steps) = (AtomicBool::new(false), 0);
            let mut observer = |event: &TrainingEvent<'_, LanguageNote>| {
                steps += u64::from(matches!(event, TrainingEvent::Step { .. }));
                wanted.store(count > 1 && steps >= 4, Ordering::SeqCst);
                ControlFlow::Continue(())
            };
            outcome =
                Some(together(&prepared, running, count, &mut observer, &|| wanted.load(Ordering::SeqCst)));
            if turn == 0 {
                assert_eq!(outcome.as_ref().unwrap().status, RunStatus::Interrupted);
            }
        }
        assert_eq!(outcome.unwrap().status, RunStatus::Finished, "{settings:?}");
        assert!(left(&RunFolder::open(&path).unwrap()) == expected, "{settings:?}");
    }
}

#[test]
fn all_processes_start_the_mean_of_the_weights_sooner_if_the_time_is_up_sooner() {
    let folder = tempfile::tempdir().unwrap();
    let settings = [
        "training.steps=1000000",
        "training.end_after_minutes=0.01",
        "training.validate_every=1000000",
        "training.flow_every=0",
        "samples.every=0",
        "checkpoints.every=0",
        "optimiser.average_from=0.7",
    ];
    let prepared = prepare(plan(folder.path(), &settings), 1, None, &mut quiet).unwrap();
    let running = created(&Disk, folder.path(), "timed", &prepared, Existing::Keep).unwrap();
    let run = running.run.clone();
    let outcome = together(&prepared, running, 2, &mut go_on, &|| false);
    assert_eq!(outcome.ended_early, Some(EarlyEnd::Time));
    let found = outcome.validation.unwrap().loss;

    // What both processes validated is what was saved: the first validation of a run that starts from it is the same.
    let file = ModelFile::load(&run.model()).unwrap();
    let mut again = file.plan.clone();
    again.start.model = Some(run.model());
    again.tune = Some(lalograph_lab::plan::TunePlan::default());
    (again.training.steps, again.training.end_after_minutes) = (Some(1), 0.0);
    let base = Base { vocabulary: file.vocabulary.clone(), plan: Some(run.read_plan().unwrap()) };
    let prepared = prepare_tuned(again, base, 1, None, &mut quiet).unwrap();
    let running = created(&Disk, folder.path(), "again", &prepared, Existing::Keep).unwrap();
    let expected = train(&prepared, running, 1, &mut go_on).unwrap().base.unwrap().loss;
    assert!((found - expected).abs() < 1e-6, "{found} {expected}");
}

/// Carries out the work of the first of so many processes, beside what the others do with theirs.
fn beside<R>(
    count: usize,
    others: impl Fn(Box<dyn Exchange<f32>>) + Sync,
    first: impl FnOnce(&mut dyn Exchange<f32>) -> R,
) -> R {
    std::thread::scope(|scope| {
        let mut links = Channels::between(count).into_iter();
        let mut own = Processes::new(links.next().unwrap());
        for link in links {
            let others = &others;
            scope.spawn(move || others(Box::new(Processes::new(link))));
        }
        first(&mut own)
    })
}

#[test]
fn any_number_of_processes_finds_the_same_score() {
    let folder = tempfile::tempdir().unwrap();
    for settings in [
        &["model.cell=gru", "training.reset_at_documents=true"][..],
        &[
            "training.reset_at_documents=true",
            "model.softmax=clustered",
            "model.clusters=[8]",
            "model.shared_vectors=false",
        ],
        // The state is carried from document to document: the others have nothing to do.
        &["model.cell=plain_tanh", "training.reset_at_documents=false"],
    ] {
        let prepared = prepare(plan(folder.path(), settings), 1, None, &mut quiet).unwrap();
        let running = created(&Disk, folder.path(), "scored", &prepared, Existing::Replace).unwrap();
        let run = running.run.clone();
        train(&prepared, running, 1, &mut go_on).unwrap();
        let file = ModelFile::load(&run.model()).unwrap();
        let corpus = Corpus::find(&prepared.plan.corpus.spec()).unwrap();
        let documents = Documents::read(&corpus, &mut |_: u64| true).unwrap();
        let scoring = Scoring { tokens: true, window: 5, ..Scoring::default() };
        let alone = score(&file, &documents, scoring, &mut |_| true).unwrap().judgement;
        for count in 1..=4 {
            let follow = |exchange| follow_scoring(exchange, 1, &|| false).unwrap();
            // Several models one after another, as `score` compares them.
            let found = beside(count, follow, |exchange| {
                [(); 2].map(|()| {
                    score_together(&file, &documents, scoring, exchange, &mut |_| true).unwrap().judgement
                })
            });
            for found in found {
                assert_eq!(found.score, alone.score, "{settings:?}, {count} processes");
                assert_eq!(found.token_losses, alone.token_losses, "{settings:?}, {count} processes");
            }
        }
        if settings.contains(&"training.reset_at_documents=true") {
            let follow = |exchange| follow_scoring(exchange, 1, &|| true).unwrap();
            let stopped = beside(2, follow, |exchange| {
                score_together(&file, &documents, scoring, exchange, &mut |_| true).map(|_| ())
            });
            assert!(matches!(stopped, Err(LabError::Text(TextError::Stopped))), "{stopped:?}");
        }
    }
}

#[test]
fn any_number_of_processes_learns_the_same_word_vectors() {
    let mut builder = VocabularyBuilder::new(&VocabularySpec::default());
    letters().lines().for_each(|line| builder.add(line));
    let vocabulary = builder.finish(1).unwrap();
    let text = TokenSequence::of_texts(&vocabulary, [letters().repeat(12).as_str()]).unwrap();
    let base = Settings { dimensions: 20, epochs: 2, lanes: Some(5), subsample: 0.0, ..Settings::default() };
    let pieces = Pieces { shortest: 2, longest: 3, rows: 50 };
    for settings in [
        base.clone(),
        Settings { pieces: Some(pieces), direction: Direction::ContextToWord, ..base.clone() },
        Settings { negative_samples: 0, lanes: Some(4), ..base.clone() },
    ] {
        let way = VectorsWay::Predicting(settings.clone());
        let learn = |exchange: &mut dyn Exchange<f32>, go_on: bool| {
            let mut losses = Vec::new();
            let mut observer = |reached: &LearningProgress, _: Option<&mut dyn FnMut() -> Learnt>| {
                losses.push((reached.tokens, reached.loss));
                go_on
            };
            let made = make_vectors(&way, &vocabulary, &text, exchange, &mut observer);
            made.map(|table| (table.values().to_vec(), losses))
        };
        let alone = learn(&mut OneProcess::default(), true).unwrap();
        assert!(alone.1.len() > 2, "one round is no test of rounds");
        for count in 1..=4 {
            for threads in [1, 2] {
                let follow = |mut exchange: Box<dyn Exchange<f32>>| {
                    follow_vectors(exchange.as_mut(), threads, &|| false).unwrap();
                };
                let found = beside(count, follow, |exchange| learn(exchange, true)).unwrap();
                assert!(found == alone, "{settings:?}, {count} processes of {threads} threads");
            }
        }
        // Whoever wants it to stop, it stops.
        for (first, second) in [(false, false), (true, true)] {
            let follow = |mut exchange: Box<dyn Exchange<f32>>| {
                follow_vectors(exchange.as_mut(), 1, &|| second).unwrap()
            };
            let stopped = beside(3, follow, |exchange| learn(exchange, first));
            assert!(matches!(stopped, Err(VectorError::Text(TextError::Stopped))), "{first} {second}");
        }
        let few = beside(
            6,
            |mut exchange| follow_vectors(exchange.as_mut(), 1, &|| false).unwrap(),
            |exchange| learn(exchange, true),
        );
        assert!(matches!(few, Err(VectorError::Setting { .. })));
    }
}
