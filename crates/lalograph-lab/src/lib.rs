//! Runs of any task: the plan, the training loop, records, model files, validation, generation.
//!
//! A [`Plan`] has all settings of a run. [`prepare`] makes a [`LanguageTask`] of it, [`train`] carries it out in a [`RunFolder`] and
//! reports to an observer; what it leaves is a [`ModelFile`], from which [`writing`] generates text and [`measure::score`] scores it, with
//! no other file needed.
//!
//! The rooms: [`plan`]; [`data`] on its way to the network; [`task`], what is trained; [`training`], how; [`run`], what a run leaves, in
//! [`artefact`]s and records; [`writing`] and [`measure`], what is done with a model. Everything is written through `lalograph_storage`.
//!
//! ```
//! use std::ops::ControlFlow;
//! use std::sync::Arc;
//!
//! use lalograph_lab::writing::{decoding::Decoding, generator::{Generator, Request, Terms}};
//! use lalograph_lab::task::language::LanguageNote;
//! use lalograph_lab::run::shelf;
//! use lalograph_lab::{ModelFile, Plan, PreparationEvent, ReadyModel, Running, TrainingEvent, prepare, train};
//! use lalograph_storage::{Disk, Existing};
//!
//! let folder = tempfile::tempdir()?;
//! let text = folder.path().join("letters.txt");
//! # use std::io::Write;
//! let lines: String = (0..60).map(|hive| format!("the hive hums {hive} times\n")).collect();
//! std::fs::File::create(&text)?.write_all(lines.as_bytes())?;
//! let settings = ["corpus.document=line", "model.embedding=4", "model.hidden=8", "training.steps=20", "training.batch=4", "training.window=8"];
//! let mut plan = Plan::with_settings(&settings)?;
//! plan.corpus.paths = vec![text];
//! let task = prepare(plan, 1, None, &mut |_: &PreparationEvent<'_>| ControlFlow::Continue(()))?;
//! let description = task.describe("small", "now".into(), "0", None)?;
//! let files = task.run_files()?;
//! let (run, claim, description) = shelf::create(&Disk, folder.path(), &task.plan, description, &files, Existing::Keep)?;
//! let running = Running::new(run.clone(), claim, description);
//! let outcome = train(&task, running, 1, &mut |_: &TrainingEvent<'_, LanguageNote>| ControlFlow::Continue(()))?;
//! assert_eq!(outcome.steps, 20);
//!
//! let ready = Arc::new(ReadyModel::new(ModelFile::load(&run.model())?));
//! let request = Request { seed_text: "the hive", terms: Terms::new(Decoding::GREEDY, 3) };
//! let chance = lalograph_net::numbers::chance::stream(1, "sampling", &[]);
//! let sample = Generator::new(ready).write(&request, chance, |_| true)?;
//! assert!(sample.tokens() <= 3);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

pub mod artefact;
pub mod data;
pub mod design;
mod error;
pub mod measure;
pub mod plan;
pub mod run;
pub mod sweep;
pub mod task;
pub mod training;
pub mod writing;

pub use artefact::model_file::Trained;
pub use error::LabError;
pub use plan::{Plan, PlanError};
pub use run::folder::RunFolder;
pub use task::classifier::explain;
pub use task::classifier::linear::{Feature, LinearForm, LinearTask, TermForm};
pub use task::classifier::model::{
    ClassifierForm, ClassifierNetwork, ClassifierReader, LinearModel, ReadDocument, ReadyClassifier,
};
pub use task::classifier::{
    ClassifierData, ClassifierTask, DocumentInput, PreparedClassifier, follow_classifier,
    forecast_classifier, not_numbers, prepare_classifier, prepare_classifier_again, train_classifier,
};
pub use task::events::{Pass, PreparationEvent, PreparationObserver};
pub use task::language::LanguageTask;
pub use task::language::base::Base;
pub use task::language::model::{ModelFile, ReadyModel};
pub use task::language::prepare::{prepare, prepare_again, prepare_tuned};
pub use task::language::seam::{follow, forecast, train};
pub use task::language::text::{Given, read_text};
pub use task::language::training_documents::training_documents;
pub use training::events::{TrainingEvent, TrainingObserver};
pub use training::run_loop::{Running, TrainingOutcome};
