//! `runs remove`: runs and what is kept beside them.

use super::super::training::TOKENS;
use crate::cli::RemoveArgs;
use crate::commands::lookup::find_run;
use crate::failure::Failure;
use crate::output::number::bytes;
use crate::output::screen::Screen;
use lalograph_lab::LabError;

/// Runs the command.
pub(super) fn run(args: &RemoveArgs, screen: &Screen) -> Result<(), Failure> {
    // All are found before any is removed.
    let runs: Vec<_> =
        args.names.iter().map(|name| find_run(&args.place.runs, name)).collect::<Result<_, _>>()?;
    for run in runs {
        let (path, size) = (run.path().to_owned(), run.bytes());
        run.remove()?;
        screen.line(&format!("removed {} ({})", path.display(), bytes(size)))?;
    }
    if args.tokens {
        let tokens = args.place.runs.join(TOKENS);
        if tokens.is_dir() {
            std::fs::remove_dir_all(&tokens).map_err(LabError::at(&tokens))?;
            screen.line(&format!("removed the encoded corpora in {}", tokens.display()))?;
        } else {
            screen.note(&format!("there are no encoded corpora in {}", args.place.runs.display()));
        }
    }
    Ok(())
}
