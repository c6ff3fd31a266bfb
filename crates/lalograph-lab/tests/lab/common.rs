//! Small plans and runs.

use std::io::Write;
use std::ops::ControlFlow;
use std::path::Path;

use lalograph_lab::run::shelf;
use lalograph_lab::{LabError, LanguageTask, Plan, PreparationEvent, Running};
use lalograph_storage::{Existing, Storage};

/// A corpus of 260 lines in which something can be learnt.
pub(crate) fn letters() -> String {
    let words = ["hive", "queen", "drone", "clover", "smoke"];
    let line = |i: usize| format!("the {} is {} of {} today\n", words[i % 5], i % 7, words[(i * i) % 5]);
    (0..260).map(line).collect()
}

/// A plan of these settings for a text that is written into the folder.
pub(crate) fn plan_of(folder: &Path, text: &str, settings: &[&[&str]]) -> Plan {
    let path = folder.join("letters.txt");
    std::fs::File::create(&path).and_then(|mut file| file.write_all(text.as_bytes())).unwrap();
    let mut plan = Plan::with_settings(&settings.concat()).unwrap();
    plan.corpus.paths = vec![path];
    plan
}

/// Hears of a preparation and never stops it.
pub(crate) fn quiet(_: &PreparationEvent<'_>) -> ControlFlow<()> {
    ControlFlow::Continue(())
}

/// Makes and claims the folder of a new run.
pub(crate) fn created(
    storage: &dyn Storage,
    runs: &Path,
    name: &str,
    task: &LanguageTask,
    existing: Existing,
) -> Result<Running, LabError> {
    let description = task.describe(name, "now".into(), "0", None)?;
    let (run, claim, description) =
        shelf::create(storage, runs, &task.plan, description, &task.run_files()?, existing)?;
    Ok(Running::new(run, claim, description))
}
