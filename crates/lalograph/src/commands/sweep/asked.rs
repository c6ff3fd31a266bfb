//! From options and a file to a sweep.

use std::path::Path;

use lalograph_lab::sweep::file::SweepFile;
use lalograph_lab::sweep::spec::{SweepSpec, Terms};

use crate::cli::SweepArgs;
use crate::commands::settings::{plan_text, read_plan};
use crate::failure::Failure;

/// The sweep that options and their file describe.
pub(super) fn asked(args: &SweepArgs, plan: &Path) -> Result<SweepSpec, Failure> {
    let file = match &args.sweep_file {
        Some(path) => SweepFile::read(&plan_text(path)?)
            .map_err(|error| Failure::Usage(format!("{}: {error}", path.display())))?,
        None => SweepFile::default(),
    };
    let key_of = |text: &String| text.split_once('=').map(|(key, _)| key.trim().to_owned());
    // An option takes the place of what the file says of the same setting.
    let given: Vec<_> = args.vary.iter().map(key_of).collect();
    let of_file = file.vary.iter().filter(|text| !given.contains(&key_of(text)));
    let vary: Vec<String> = of_file.chain(&args.vary).cloned().collect();
    let terms = Terms {
        method: args.method.unwrap_or(file.terms.method),
        trials: args.trials.or(file.terms.trials),
        seeds: args.seeds.unwrap_or(file.terms.seeds),
        budget_steps: args.budget_steps.or(file.terms.budget_steps),
        rungs: args.rungs.unwrap_or(file.terms.rungs),
        keep: args.keep.unwrap_or(file.terms.keep),
    };
    // Of a run, its plan.
    let file = if plan.is_dir() { plan.join("plan.toml") } else { plan.to_owned() };
    let plan = read_plan(Some(&file), &args.settings)?;
    let spec = SweepSpec::new(plan, &vary, terms, std::env::current_dir().ok())?;
    let varied: Vec<String> = vary.iter().filter_map(key_of).collect();
    if let Some(key) = args.settings.iter().filter_map(key_of).find(|key| varied.contains(key)) {
        return Err(Failure::Usage(format!("`{key}` is varied, so that --set has no effect on it")));
    }
    Ok(spec)
}
