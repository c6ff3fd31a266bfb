//! Tokens that can no longer be read while they are trained on.

use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

use lalograph_lab::artefact::checkpoint::checkpoints;
use lalograph_lab::data::token_cache::TokenCache;
use lalograph_lab::run::description::RunStatus;
use lalograph_lab::task::language::LanguageNote;
use lalograph_lab::{LabError, TrainingEvent, prepare, train};
use lalograph_storage::{Disk, Existing};
use lalograph_text::TextError;

use crate::common::{created, plan_of, quiet};

/// The only file of this name below a folder of encoded corpora.
fn store(tokens: &Path, name: &str) -> PathBuf {
    let entries = std::fs::read_dir(tokens).unwrap().map(|entry| entry.unwrap().path().join(name));
    entries.into_iter().find(|path| path.exists()).unwrap()
}

#[test]
fn a_token_store_that_is_cut_short_under_a_training_ends_it_with_an_error() {
    let folder = tempfile::tempdir().unwrap();
    let text: String = (0..40_000).map(|i| format!("hive {} hums {i} times a day\n", i % 7)).collect();
    let settings = [
        "corpus.document=line",
        "vocabulary.size=20",
        "model.embedding=2",
        "model.hidden=2",
        "training.batch=2",
        "training.window=8",
        "training.steps=4000",
        "training.validate_every=20",
        "corpus.validation_share=0.5",
        "training.record_every=5",
        "samples.temperatures=[]",
        "checkpoints.every=10",
    ];
    let plan = plan_of(folder.path(), &text, &[&settings]);
    let tokens = folder.path().join(".tokens");
    let cache = TokenCache { storage: &Disk, path: &tokens };
    for (name, kept) in [("training.tokens", 5_000), ("validation.tokens", 300)] {
        // Once to encode it, and once from what was kept.
        for run in ["first", "second"] {
            let task = prepare(plan.clone(), 1, Some(cache), &mut quiet).unwrap();
            let runs = folder.path().join(name);
            let running = created(&Disk, &runs, run, &task, Existing::Keep).unwrap();
            let path = running.run.clone();
            let mut cut = false;
            let mut hears = |event: &TrainingEvent<'_, LanguageNote>| {
                if let (TrainingEvent::Metrics(_), false) = (event, cut) {
                    let file = std::fs::File::options().write(true).open(store(&tokens, name)).unwrap();
                    file.set_len(kept).unwrap();
                    cut = true;
                }
                ControlFlow::Continue(())
            };
            // By a thread that has read nothing of it yet.
            let outcome = std::thread::scope(|scope| {
                scope.spawn(|| train(&task, running, 2, &mut hears)).join().unwrap()
            });
            let error = outcome.err().unwrap();
            assert!(matches!(error, LabError::Text(TextError::StoreLost { .. })), "{name}: {error}");
            // The weights until then are there, and the run has its status.
            assert!(!checkpoints(&path.checkpoints()).unwrap().is_empty());
            assert_eq!(path.description().unwrap().status, RunStatus::Failed);
            std::fs::remove_dir_all(&tokens).unwrap();
        }
    }
}
