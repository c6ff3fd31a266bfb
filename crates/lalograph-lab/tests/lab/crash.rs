//! Power and processes that fail at every operation: whatever is found afterwards is whole, and a run that continues ends as if nothing had
//! happened.

use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::path::Path;

use lalograph_lab::data::token_cache::TokenCache;
use lalograph_lab::run::claim::Claim;
use lalograph_lab::run::description::RunStatus;
use lalograph_lab::run::shelf;
use lalograph_lab::task::language::LanguageNote;
use lalograph_lab::training::resume::{Changes, Resumable};
use lalograph_lab::{LabError, LanguageTask, ModelFile, RunFolder, TrainingEvent, prepare, train};
use lalograph_storage::failing::{Fault, Loss};
use lalograph_storage::{Disk, Existing, FailingDisk, Storage};
use tempfile::TempDir;

use crate::common::{created, plan_of, quiet};

/// A folder where making sure of a file takes no time: thousands are. On disk, where there is none in memory.
fn folder_in_memory() -> TempDir {
    TempDir::new_in("/dev/shm").or_else(|_| TempDir::new()).unwrap()
}

fn task(folder: &Path, settings: &[&str]) -> LanguageTask {
    let text: String = (0..120).map(|i| format!("hive {} hums {} times\n", i % 7, (i * i) % 5)).collect();
    let base = [
        "corpus.document=line",
        "model.embedding=3",
        "model.hidden=4",
        "training.batch=4",
        "training.window=8",
        "training.steps=7",
        "training.validate_every=3",
        "training.record_every=2",
        "training.flow_every=4",
        "samples.every=4",
        "samples.tokens=3",
        "samples.temperatures=[1.0]",
        "checkpoints.every=2",
    ];
    prepare(plan_of(folder, &text, &[&base, settings]), 1, None, &mut quiet).unwrap()
}

fn unseen(_: &TrainingEvent<'_, LanguageNote>) -> ControlFlow<()> {
    ControlFlow::Continue(())
}

/// Trains a run called `one` from its beginning.
fn trained(
    storage: &dyn Storage,
    task: &LanguageTask,
    runs: &Path,
    existing: Existing,
) -> Result<RunFolder, LabError> {
    let running = created(storage, runs, "one", task, existing)?;
    let run = running.run.clone();
    train(task, running, 1, &mut unseen)?;
    Ok(run)
}

/// Goes on with a run to its end.
fn resumed(
    storage: &dyn Storage,
    task: &LanguageTask,
    path: &Path,
    changes: &Changes,
) -> Result<(), LabError> {
    let resumable = Resumable::open(storage, path, changes, false)?;
    let running = resumable.running(task, "later".into(), |damaged| panic!("{damaged}"))?;
    train(task, running, 1, &mut unseen).map(|_| ())
}

/// The model that a run ends with.
fn model(run: &RunFolder) -> Vec<u8> {
    std::fs::read(run.model()).unwrap()
}

/// Names in a folder that begin with a point, but for the lock of a folder of runs.
fn hidden(folder: &Path) -> Vec<String> {
    let names = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().file_name());
    let names = names.map(|name| name.to_string_lossy().into_owned());
    names.filter(|name| name.starts_with('.') && name != ".lalograph-lock").collect()
}

/// Does some work with a stop at every operation from `first` on, and looks at what is found after each loss. Returns how many operations
/// were tried.
fn stopped_everywhere(
    prepare: impl Fn(&Path),
    work: impl Fn(&FailingDisk, &Path),
    judge: impl Fn(&Path, &str),
) -> BTreeMap<&'static str, u64> {
    let whole = folder_in_memory();
    prepare(whole.path());
    let disk = FailingDisk::new(Fault::None);
    work(&disk, whole.path());
    for number in 1..=disk.count() {
        let folder = folder_in_memory();
        prepare(folder.path());
        let stopping = FailingDisk::new(Fault::Stop(number));
        work(&stopping, folder.path());
        for loss in Loss::ALL {
            let found = folder_in_memory();
            let after = found.path().join("after");
            stopping.after(loss, folder.path(), &after).unwrap();
            judge(&after, &format!("operation {number}, {loss:?} lost"));
        }
    }
    let operations = disk.operations();
    println!("stopped at each of {operations:?}, with every loss");
    operations
}

#[test]
fn a_run_resumes_to_the_bit_after_a_power_failure_at_any_operation() {
    let texts = folder_in_memory();
    let task = task(texts.path(), &[]);
    let reference = model(&trained(&Disk, &task, &texts.path().join("runs"), Existing::Keep).unwrap());
    let operations = stopped_everywhere(
        |_| {},
        |disk, folder| {
            let _ = trained(disk, &task, &folder.join("runs"), Existing::Keep);
        },
        |folder, when| {
            let runs = folder.join("runs");
            shelf::tidy(&Disk, &runs);
            let found = RunFolder::all(&runs).unwrap();
            let Some(run) = found.first() else {
                // It had not started; the name is free.
                let run = trained(&Disk, &task, &runs, Existing::Keep).unwrap();
                assert_eq!(hidden(&runs), [""; 0], "{when}");
                assert!(model(&run) == reference, "{when}");
                return;
            };
            match resumed(&Disk, &task, run.path(), &Changes::default()) {
                Ok(()) | Err(LabError::AllDone(_)) => {}
                Err(error) => panic!("{when}: {error}"),
            }
            assert!(model(run) == reference, "{when}");
            let description = run.description().unwrap();
            assert_eq!((description.status, description.steps), (RunStatus::Finished, 7), "{when}");
            for place in [run.path(), &run.checkpoints(), &runs] {
                assert_eq!(hidden(place), [""; 0], "{when}");
            }
        },
    );
    let all: u64 = operations.values().sum();
    assert!(all > 100, "{operations:?}");
}

#[test]
fn a_disk_that_fails_or_is_full_at_any_operation_loses_no_run() {
    let texts = folder_in_memory();
    let task = task(texts.path(), &[]);
    let reference = model(&trained(&Disk, &task, &texts.path().join("runs"), Existing::Keep).unwrap());
    let disk = FailingDisk::new(Fault::None);
    trained(&disk, &task, &texts.path().join("counted"), Existing::Keep).unwrap();
    for number in 1..=disk.count() {
        for fault in [Fault::Once(number), Fault::Full(number)] {
            let folder = folder_in_memory();
            let runs = folder.path().join("runs");
            let ended = trained(&FailingDisk::new(fault), &task, &runs, Existing::Keep);
            let run = match (ended, RunFolder::all(&runs).unwrap().first()) {
                (Ok(run), _) => run,
                (Err(_), None) => trained(&Disk, &task, &runs, Existing::Keep).unwrap(),
                (Err(_), Some(run)) => match resumed(&Disk, &task, run.path(), &Changes::default()) {
                    Ok(()) | Err(LabError::AllDone(_)) => run.clone(),
                    Err(error) => panic!("{fault:?}: {error}"),
                },
            };
            assert!(model(&run) == reference, "{fault:?}");
        }
    }
}

#[test]
fn a_run_that_gives_way_is_there_or_the_new_one_is() {
    let texts = folder_in_memory();
    let (old, new) = (task(texts.path(), &[]), task(texts.path(), &["training.seed=2"]));
    let before = model(&trained(&Disk, &old, &texts.path().join("old"), Existing::Keep).unwrap());
    stopped_everywhere(
        |folder| {
            trained(&Disk, &old, &folder.join("runs"), Existing::Keep).unwrap();
        },
        |disk, folder| {
            let _ = created(disk, &folder.join("runs"), "one", &new, Existing::Replace);
        },
        |folder, when| {
            let runs = folder.join("runs");
            shelf::tidy(&Disk, &runs);
            let run = RunFolder::open(&runs.join("one")).unwrap_or_else(|error| panic!("{when}: {error}"));
            let seed = run.read_plan().unwrap_or_else(|error| panic!("{when}: {error}")).training.seed;
            match seed {
                1 => assert!(model(&run) == before, "{when}"),
                _ => assert!(!run.model().exists(), "{when}"),
            }
            assert_eq!(hidden(&runs), [""; 0], "{when}");
            drop(Claim::of(&Disk, &run).unwrap());
        },
    );
}

#[test]
fn a_run_is_removed_whole_or_not_at_all() {
    let texts = folder_in_memory();
    let task = task(texts.path(), &[]);
    let before = model(&trained(&Disk, &task, &texts.path().join("old"), Existing::Keep).unwrap());
    stopped_everywhere(
        |folder| {
            trained(&Disk, &task, &folder.join("runs"), Existing::Keep).unwrap();
        },
        |disk, folder| {
            let run = RunFolder::open(&folder.join("runs/one")).unwrap();
            let _ = shelf::remove(disk, &run);
        },
        |folder, when| {
            let runs = folder.join("runs");
            shelf::tidy(&Disk, &runs);
            assert_eq!(hidden(&runs), [""; 0], "{when}");
            for run in RunFolder::all(&runs).unwrap() {
                run.read_plan().unwrap();
                assert!(model(&run) == before, "{when}");
            }
        },
    );
}

#[test]
fn plan_and_description_of_a_run_change_together() {
    let texts = folder_in_memory();
    let (task, longer) = (task(texts.path(), &[]), task(texts.path(), &["training.steps=9"]));
    let changes = Changes { steps: Some(9), ..Changes::default() };
    let reference = folder_in_memory();
    let run = trained(&Disk, &task, &reference.path().join("runs"), Existing::Keep).unwrap();
    resumed(&Disk, &longer, run.path(), &changes).unwrap();
    let reference = model(&run);
    stopped_everywhere(
        |folder| {
            trained(&Disk, &task, &folder.join("runs"), Existing::Keep).unwrap();
        },
        |disk, folder| {
            let _ = resumed(disk, &longer, &folder.join("runs/one"), &changes);
        },
        |folder, when| {
            let run = RunFolder::open(&folder.join("runs/one")).unwrap();
            let steps = run.read_plan().unwrap_or_else(|error| panic!("{when}: {error}")).training.steps;
            assert!([Some(7), Some(9)].contains(&steps), "{when}: {steps:?}");
            // Asked for again it is done, or was.
            match resumed(&Disk, &longer, run.path(), &changes) {
                Ok(()) => {}
                Err(LabError::AllDone(_)) => assert_eq!(run.description().unwrap().steps, 9, "{when}"),
                Err(error) => panic!("{when}: {error}"),
            }
            assert!(model(&run) == reference, "{when}");
            assert!(!run.path().join("plan.next.toml").exists(), "{when}");
        },
    );
}

#[test]
fn a_cache_of_tokens_is_used_only_where_it_is_whole() {
    let texts = folder_in_memory();
    let task = task(texts.path(), &[]);
    let read = |storage: &dyn Storage, cache: &Path| {
        let cache = TokenCache { storage, path: cache };
        prepare(task.plan.clone(), 1, Some(cache), &mut quiet)
    };
    stopped_everywhere(
        |_| {},
        |disk, folder| {
            let _ = read(disk, &folder.join(".tokens"));
        },
        |folder, when| {
            for _ in 0..2 {
                let again = read(&Disk, &folder.join(".tokens")).unwrap();
                assert_eq!(again.corpus.text_hash, task.corpus.text_hash, "{when}");
                assert!(again.corpus.training.iter().eq(task.corpus.training.iter()), "{when}");
                assert!(again.corpus.validation.iter().eq(task.corpus.validation.iter()), "{when}");
                assert_eq!(again.vocabulary.hash().unwrap(), task.vocabulary.hash().unwrap(), "{when}");
            }
        },
    );
}

#[test]
fn a_model_file_is_the_old_one_or_the_new_one() {
    let texts = folder_in_memory();
    let task = task(texts.path(), &[]);
    let run = trained(&Disk, &task, &texts.path().join("runs"), Existing::Keep).unwrap();
    let file = ModelFile::load(&run.model()).unwrap();
    let mut other = file.clone();
    other.weights[0] += 1.0;
    stopped_everywhere(
        |folder| file.save(&Disk, &folder.join("m.safetensors"), Existing::Keep).unwrap(),
        |disk, folder| {
            let _ = other.save(disk, &folder.join("m.safetensors"), Existing::Replace);
        },
        |folder, when| {
            let found = ModelFile::load(&folder.join("m.safetensors"));
            let found = found.unwrap_or_else(|error| panic!("{when}: {error}"));
            assert!(found.weights == file.weights || found.weights == other.weights, "{when}");
        },
    );
}

#[test]
fn a_restart_removes_every_earlier_checkpoint() {
    let texts = folder_in_memory();
    let task = task(texts.path(), &[]);
    let run = trained(&Disk, &task, &texts.path().join("runs"), Existing::Keep).unwrap();
    let reference = model(&run);
    // Stopped after its first step, under another rate.
    let changes = Changes { learning_rate: Some(0.5), ..Changes::default() };
    let faster = { texts.path().join("other") };
    std::fs::create_dir(&faster).unwrap();
    let faster = self::task(&faster, &["training.learning_rate=0.5"]);
    let resumable = Resumable::open(&Disk, run.path(), &changes, true).unwrap();
    let running = resumable.running(&faster, "later".into(), |_| {}).unwrap();
    assert!(running.from.is_none());
    let mut stop = |event: &TrainingEvent<'_, LanguageNote>| match event {
        TrainingEvent::Step { .. } => ControlFlow::Break(()),
        _ => ControlFlow::Continue(()),
    };
    train(&faster, running, 1, &mut stop).unwrap();
    assert_eq!(run.description().unwrap().steps, 1);
    resumed(&Disk, &faster, run.path(), &Changes::default()).unwrap();
    let other = trained(&Disk, &faster, &texts.path().join("alone"), Existing::Keep).unwrap();
    assert!(model(&run) == model(&other) && model(&run) != reference);
    // Fewer steps than were made are refused, and change nothing.
    let fewer = Changes { steps: Some(3), ..Changes::default() };
    let refused = Resumable::open(&Disk, run.path(), &fewer, false);
    assert!(matches!(refused, Err(LabError::FewerSteps { made: 7, asked: 3, .. })));
    assert_eq!(run.read_plan().unwrap().training.steps, Some(7));
}

#[test]
fn a_run_whose_folder_is_moved_is_written_where_it_is_and_one_that_is_gone_fails() {
    let texts = folder_in_memory();
    let task = task(texts.path(), &[]);
    let runs = texts.path().join("runs");
    let reference = model(&trained(&Disk, &task, &texts.path().join("reference"), Existing::Keep).unwrap());
    for gone in [false, true] {
        let _ = std::fs::remove_dir_all(&runs);
        let running = created(&Disk, &runs, "one", &task, Existing::Keep).unwrap();
        let unchanged = running.description.clone();
        let mut moved = |event: &TrainingEvent<'_, LanguageNote>| {
            if let TrainingEvent::Step { step: 3, .. } = event {
                let away = runs.join("away");
                std::fs::rename(runs.join("one"), &away).unwrap();
                if gone {
                    std::fs::remove_dir_all(&away).unwrap();
                }
                // Another takes its name.
                created(&Disk, &runs, "one", &task, Existing::Keep).unwrap();
            }
            ControlFlow::Continue(())
        };
        let ended = train(&task, running, 1, &mut moved);
        let second = RunFolder::open(&runs.join("one")).unwrap();
        assert_eq!(second.description().unwrap(), unchanged, "nothing was written into another run");
        assert!(!second.model().exists() && !second.metrics().exists());
        if gone {
            assert!(matches!(ended, Err(LabError::Io { .. })), "{ended:?}");
        } else {
            ended.unwrap();
            let moved = RunFolder::open(&runs.join("away")).unwrap();
            assert!(model(&moved) == reference);
            assert_eq!(moved.description().unwrap().status, RunStatus::Finished);
        }
    }
}
