//! The program: arguments in, work done by the lower crates, words for people out.

mod cli;
mod commands;
mod company;
mod failure;
mod files;
mod interrupt;
mod nearest;
mod output;
mod room;

use std::process::ExitCode;

use clap::error::ErrorKind;
use clap::{Command, FromArgMatches};

use crate::cli::{Cli, definition, refusal};
use crate::failure::Failure;
use crate::output::screen::{Screen, write_err};

fn main() -> ExitCode {
    let cli = match parse() {
        Ok(cli) => cli,
        Err(error) => {
            // Help and version go to standard output and are no failure.
            if error.kind() == ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand {
                write_err(error.render().to_string().trim_end());
                return ExitCode::from(2);
            }
            if error.use_stderr() {
                // Of several processes that were started with the same words, one says what is wrong with them.
                if lalograph_parallel::launched_as() > 0 {
                    return ExitCode::from(2);
                }
                let words: Vec<String> =
                    std::env::args_os().skip(1).map(|word| word.to_string_lossy().into_owned()).collect();
                let text = refusal(&error, &definition(), words.iter().map(String::as_str));
                write_err(&format!("error: {text}"));
                return ExitCode::from(2);
            }
            // With standard output closed, there is no way to report it.
            let _ = error.print();
            return ExitCode::SUCCESS;
        }
    };
    let screen = Screen::new(&cli.general);
    let outcome = match company::join(&cli.command) {
        Ok(None) => commands::run(cli, &screen),
        // Another process carries out the command.
        Ok(Some(())) => Ok(()),
        Err(failure) => Err(failure),
    };
    company::dismiss();
    match outcome {
        Ok(()) => {
            company::part();
            ExitCode::SUCCESS
        }
        Err(failure) => report(&failure, &screen),
    }
}

/// Reads the command line. Values may be negative, so that the error about a number names the number.
fn parse() -> Result<Cli, clap::Error> {
    let matches = with_negative_numbers(definition()).try_get_matches()?;
    Cli::from_arg_matches(&matches)
}

fn with_negative_numbers(command: Command) -> Command {
    let command = command.mut_args(|arg| {
        let takes_value = arg.get_action().takes_values() && !arg.is_positional();
        if takes_value { arg.allow_negative_numbers(true) } else { arg }
    });
    command.mut_subcommands(with_negative_numbers)
}

/// Prints a failure and gives its exit status.
fn report(failure: &Failure, screen: &Screen) -> ExitCode {
    match failure {
        Failure::Work { what, remedy } => {
            screen.error(what);
            if let Some(remedy) = remedy {
                screen.hint(remedy);
            }
            ExitCode::from(1)
        }
        Failure::Usage(what) => {
            screen.error(what);
            ExitCode::from(2)
        }
        Failure::Interrupted(what) => {
            screen.error(what);
            ExitCode::from(130)
        }
        Failure::ClosedPipe => ExitCode::SUCCESS,
    }
}
