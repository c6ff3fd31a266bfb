//! `runs import`: a run from an archive that was exported elsewhere.

use std::path::Path;

use lalograph_lab::run::archive::{Packed, unpack};
use lalograph_storage::Existing;
use serde::Serialize;

use crate::cli::ImportRunArgs;
use crate::commands::lookup::check_there;
use crate::failure::Failure;
use crate::files;
use crate::output::number::{bytes, counted};
use crate::output::screen::Screen;

/// JSON output.
#[derive(Serialize)]
struct Document<'d> {
    run: &'d Path,
    #[serde(flatten)]
    unpacked: Packed,
}

/// Runs the command.
pub(super) fn run(args: &ImportRunArgs, screen: &Screen) -> Result<(), Failure> {
    check_there(&args.archive, "give a file of `lalograph runs export`")?;
    let existing = Existing::replaced_if(args.force);
    let (run, unpacked) =
        unpack(&*files::storage(), &args.archive, &args.place.runs, args.name.as_deref(), existing)?;
    if args.json {
        return screen.json(&Document { run: run.path(), unpacked });
    }
    let files = counted(unpacked.files, "file", "files");
    screen.line(&format!("{}: {files} ({}), all verified", run.path().display(), bytes(unpacked.bytes)))
}
