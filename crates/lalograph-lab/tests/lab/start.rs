//! What a run starts from besides chance.

use std::ops::ControlFlow;
use std::path::Path;

use lalograph_lab::run::folder::RunFolder;
use lalograph_lab::task::Task;
use lalograph_lab::task::language::LanguageNote;
use lalograph_lab::{LabError, LanguageTask, ModelFile, Plan, TrainingEvent, prepare, train};
use lalograph_net::Network;
use lalograph_storage::{Disk, Existing};

use crate::common::{created, plan_of, quiet};

fn plan(folder: &Path, settings: &[&str]) -> Plan {
    let text: String = (0..200).map(|i| format!("the hive {} hums {}\n", i % 7, (i * i) % 5)).collect();
    let base = [
        "corpus.document=line",
        "model.embedding=5",
        "model.hidden=6",
        "training.batch=4",
        "training.window=6",
        "training.steps=12",
        "samples.temperatures=[]",
    ];
    plan_of(folder, &text, &[&base, settings])
}

fn ready(plan: Plan) -> Result<LanguageTask, LabError> {
    prepare(plan, 1, None, &mut quiet)
}

fn trained(folder: &Path, name: &str, task: &LanguageTask) -> (RunFolder, ModelFile) {
    let running = created(&Disk, folder, name, task, Existing::Keep).unwrap();
    let run = running.run.clone();
    train(task, running, 1, &mut |_: &TrainingEvent<'_, LanguageNote>| ControlFlow::Continue(())).unwrap();
    let file = ModelFile::load(&run.model()).unwrap();
    (run, file)
}

/// The first values of a task's weights, after its start.
fn first(task: &LanguageTask) -> Vec<f32> {
    let mut weights = lalograph_net::weights::first_values::first_values(task.model.layout(), 1);
    task.start(&mut weights).unwrap();
    weights
}

#[test]
fn a_model_gives_its_tensors_by_name_and_the_rest_is_drawn() {
    let folder = tempfile::tempdir().unwrap();
    let (run, base) = trained(folder.path(), "base", &ready(plan(folder.path(), &[])).unwrap());
    let from = |path: &Path| format!("start.model={}", path.display());
    for path in [run.path().to_owned(), run.model()] {
        let same = ready(plan(folder.path(), &[&from(&path)])).unwrap();
        assert!(first(&same) == base.weights, "the same network starts where the other ended");
    }
    // One layer more: its weights are drawn as they would be without a start.
    let deeper = ready(plan(folder.path(), &[&from(run.path()), "model.layers=2"])).unwrap();
    let alone = ready(plan(folder.path(), &["model.layers=2"])).unwrap();
    let (started, drawn) = (first(&deeper), first(&alone));
    for tensor in deeper.model.layout().tensors() {
        let here = &started[tensor.range.clone()];
        match base.model.layout().tensor(&tensor.name) {
            Some(of) => assert_eq!(here, &base.weights[of.range.clone()], "{}", tensor.name),
            None => assert_eq!(here, &drawn[tensor.range.clone()], "{}", tensor.name),
        }
    }
    let (_, file) = trained(folder.path(), "deeper", &deeper);
    assert_eq!(file.plan.start.model.as_deref(), Some(run.path()));
}

#[test]
fn a_model_of_another_shape_or_vocabulary_is_refused_by_name() {
    let folder = tempfile::tempdir().unwrap();
    let (run, _) = trained(folder.path(), "base", &ready(plan(folder.path(), &[])).unwrap());
    let from = format!("start.model={}", run.path().display());
    for (setting, expected) in [("model.hidden=7", "layer.1"), ("vocabulary.size=6", "vocabulary")] {
        let error = ready(plan(folder.path(), &[&from, setting])).err().unwrap();
        assert!(matches!(error, LabError::Start { .. }), "{error}");
        assert!(error.to_string().contains(expected), "{error}");
    }
    let nowhere = ready(plan(folder.path(), &["start.model=nowhere.safetensors"]));
    assert!(matches!(nowhere, Err(LabError::Io { .. })));
}
