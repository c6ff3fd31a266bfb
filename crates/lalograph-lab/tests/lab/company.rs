//! Runs of several processes: the model of one, whatever their number, and whatever number goes on with it. Threads stand for processes.

use std::ops::ControlFlow;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};

use lalograph_lab::run::description::RunStatus;
use lalograph_lab::run::records::{MetricsRecord, read_lines};
use lalograph_lab::task::language::LanguageNote;
use lalograph_lab::training::company::follow;
use lalograph_lab::training::resume::{Changes, Resumable};
use lalograph_lab::{
    LanguageTask, Plan, RunFolder, Running, TrainingEvent, TrainingObserver, TrainingOutcome, prepare, train,
};
use lalograph_net::step::processes::Processes;
use lalograph_storage::{Disk, Existing};

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
