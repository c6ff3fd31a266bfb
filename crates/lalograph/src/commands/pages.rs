//! `completions` and `manual`: made from the same definition as the commands themselves.

use std::path::Path;

use clap::CommandFactory;
use lalograph_lab::LabError;
use lalograph_lab::storage::files::{Existing, write_whole};

use crate::cli::Cli;
use crate::failure::Failure;
use crate::output::number::counted;
use crate::output::screen::Screen;

/// Prints a shell's completions.
pub(crate) fn completions(shell: clap_complete::Shell, screen: &Screen) -> Result<(), Failure> {
    let mut text = Vec::new();
    clap_complete::generate(shell, &mut Cli::command(), "lalograph", &mut text);
    screen.print(&String::from_utf8_lossy(&text))
}

/// Writes the manual pages.
pub(crate) fn manual(folder: &Path, force: bool, screen: &Screen) -> Result<(), Failure> {
    std::fs::create_dir_all(folder).map_err(LabError::at(folder))?;
    let existing = if force { Existing::Replace } else { Existing::Keep };
    let mut pages = 0;
    let mut open = vec![("lalograph".to_owned(), Cli::command().disable_help_subcommand(true))];
    while let Some((name, command)) = open.pop() {
        for inner in command.get_subcommands() {
            open.push((format!("{name}-{}", inner.get_name()), inner.clone()));
        }
        let mut page = Vec::new();
        clap_mangen::Man::new(command.name(name.clone())).render(&mut page)?;
        write_whole(&folder.join(format!("{name}.1")), &page, existing)?;
        pages += 1;
    }
    screen.line(&format!("{} in {}", counted(pages, "page", "pages"), folder.display()))
}
