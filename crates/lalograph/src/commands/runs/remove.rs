//! `runs remove`: runs and what is kept beside them.

use crate::cli::RemoveArgs;
use crate::commands::lookup::run_meant;
use crate::failure::Failure;
use crate::files;
use crate::output::number::bytes;
use crate::output::screen::Screen;
use lalograph_lab::run::shelf;
use lalograph_storage::Folder;

/// Runs the command.
pub(super) fn run(args: &RemoveArgs, screen: &Screen) -> Result<(), Failure> {
    let storage = files::storage();
    // All are found before any is removed.
    let runs: Vec<_> =
        args.names.iter().map(|name| run_meant(&args.place.runs, name)).collect::<Result<_, _>>()?;
    for run in runs {
        let (path, size) = (run.path().to_owned(), run.bytes());
        shelf::remove(&*storage, &run)?;
        screen.line(&format!("removed {} ({})", path.display(), bytes(size)))?;
    }
    if args.encoded_corpora {
        let tokens = args.place.runs.join(files::TOKENS);
        if tokens.is_dir() {
            Folder::open(&*storage, &args.place.runs)?.remove_all(files::TOKENS)?;
            screen.line(&format!("removed the encoded corpora in {}", tokens.display()))?;
        } else {
            screen.note(&format!("there are no encoded corpora in {}", args.place.runs.display()));
        }
    }
    Ok(())
}
