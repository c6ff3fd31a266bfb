//! Finding the model or the run that an argument means.

use std::path::{Path, PathBuf};

use lalograph_lab::run::folder::model_in;
use lalograph_lab::run::shelf;
use lalograph_lab::sweep::folder::SweepFolder;
use lalograph_lab::{LabError, ModelFile, RunFolder};

use crate::failure::Failure;
use crate::files;
use crate::nearest::nearest_name;

/// The folder of runs where no command line names another.
const RUNS: &str = "runs";

/// The path that an argument means: itself, or the run of that name if the path does not exist.
pub(crate) fn path_meant(path: &Path) -> PathBuf {
    let is_name = path.file_name() == Some(path.as_os_str());
    let run = Path::new(RUNS).join(path);
    if is_name && !path.exists() && run.is_dir() { run } else { path.to_owned() }
}

/// The model file that an argument means: itself, or the one in a run's folder.
pub(crate) fn model_path(path: &Path) -> PathBuf {
    let path = path_meant(path);
    if path.is_dir() { model_in(&path) } else { path }
}

/// The kind that a file names in its first key, if it is one of the program's JSON files.
fn said_kind(path: &Path) -> Option<&'static str> {
    use std::io::Read;
    let mut head = Vec::new();
    std::fs::File::open(path).ok()?.take(4096).read_to_end(&mut head).ok()?;
    // A container begins with a length, which is no text.
    let head = String::from_utf8(head).ok().filter(|head| !head.contains('\0'))?;
    let kinds = [
        ("\"lalograph vocabulary\"", "a vocabulary"),
        ("\"lalograph split\"", "a split"),
        ("\"lalograph run\"", "the description of a run"),
        ("[model]", "a plan"),
    ];
    kinds.into_iter().find(|(phrase, _)| head.contains(phrase)).map(|(_, kind)| kind)
}

/// The last part of a path, as words.
pub(crate) fn last_part(path: &Path) -> String {
    path.file_name().unwrap_or_default().to_string_lossy().into_owned()
}

/// A suggestion for a missing path: a run of that name, or a similarly spelt file beside it.
pub(crate) fn meant_instead(path: &Path) -> Option<PathBuf> {
    let run = Path::new(RUNS).join(path);
    if run.exists() {
        return Some(run);
    }
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let beside: Vec<String> =
        std::fs::read_dir(folder).ok()?.flatten().map(|entry| last_part(&entry.path())).collect();
    nearest_name(&last_part(path), &beside).map(|name| path.with_file_name(name))
}

/// Refuses a missing path; `wanted` is the advice if nothing has a similar name.
pub(crate) fn check_there(path: &Path, wanted: &str) -> Result<(), Failure> {
    if path.exists() {
        return Ok(());
    }
    let remedy = match meant_instead(path) {
        Some(meant) => format!("did you mean `{}`?", meant.display()),
        None => wanted.to_owned(),
    };
    Err(Failure::with_remedy(format!("{}: no such file or folder", path.display()), remedy))
}

/// Loads the language model that a path means.
pub(crate) fn load_model(path: &Path) -> Result<ModelFile, Failure> {
    load_with(path, ModelFile::load)
}

/// Loads the model that a path means, as `load` reads it.
pub(crate) fn load_with<M>(
    path: &Path,
    load: impl FnOnce(&Path) -> Result<M, LabError>,
) -> Result<M, Failure> {
    let path = &path_meant(path);
    check_there(path, "give the folder of a run, the name of a run in `runs`, or a model file")?;
    let file = model_path(path);
    if path.is_dir() && !file.is_file() {
        return Err(Failure::with_remedy(
            format!("{}: no model file in this folder", path.display()),
            "give the folder of a run that has been validated at least once, or a model file",
        ));
    }
    load(&file).map_err(|error| match said_kind(&file) {
        Some(kind) => Failure::with_remedy(
            format!("{}: this is {kind}, not a model", file.display()),
            "give the folder of a run, the name of a run in `runs`, or a model file (.safetensors)",
        ),
        None => error.into(),
    })
}

/// The run that a name or a path means, to be looked at or continued.
pub(crate) fn find_run(runs: &Path, name: &Path) -> Result<RunFolder, Failure> {
    shelf::tidy(&*files::storage(), runs);
    let inside = runs.join(name);
    let found = [name, &inside].into_iter().find_map(|path| RunFolder::open(path).ok());
    found.map_or_else(|| Err(no_run(runs, name)), Ok)
}

/// The folder of a sweep that a path or a name means.
pub(crate) fn sweep_meant(runs: &Path, path: &Path) -> Option<PathBuf> {
    let inside = runs.join(path);
    [path, &inside].into_iter().find(|path| SweepFolder::is_one(path)).map(Path::to_owned)
}

/// The run that is to be removed: a name means one in the folder of runs and no other, anything else is a path.
pub(crate) fn run_meant(runs: &Path, name: &Path) -> Result<RunFolder, Failure> {
    shelf::tidy(&*files::storage(), runs);
    let is_name = name.file_name() == Some(name.as_os_str());
    let path = if is_name { runs.join(name) } else { name.to_owned() };
    RunFolder::open(&path).map_err(|error| {
        // What is there and is no run is left alone; what is not there may be misspelt.
        if path.exists() { error.into() } else { no_run(runs, name) }
    })
}

fn no_run(runs: &Path, name: &Path) -> Failure {
    let wanted = name.to_string_lossy();
    let all: Vec<String> =
        RunFolder::all(runs).unwrap_or_else(|_| Vec::new()).iter().map(RunFolder::name).collect();
    let remedy = match nearest_name(&last_part(name), &all) {
        Some(near) => format!("did you mean `{near}`?"),
        None if all.is_empty() => {
            format!("no runs in {}; use --runs DIR for runs in another folder", runs.display())
        }
        None => format!("`lalograph runs list --runs {}` lists them", runs.display()),
    };
    Failure::with_remedy(format!("no run `{wanted}` here or in {}", runs.display()), remedy)
}
