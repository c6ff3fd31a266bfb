//! `completions` and `manual`: made from the same definition as the commands themselves.

use std::path::Path;

use lalograph_storage::Existing;

use crate::cli::definition;
use crate::failure::Failure;
use crate::files;
use crate::output::number::counted;
use crate::output::screen::Screen;

/// Prints a shell's completions.
pub(crate) fn completions(shell: clap_complete::Shell, screen: &Screen) -> Result<(), Failure> {
    let mut text = Vec::new();
    clap_complete::generate(shell, &mut definition(), "lalograph", &mut text);
    screen.print(&String::from_utf8_lossy(&text))
}

/// Writes the manual pages.
pub(crate) fn manual(folder: &Path, force: bool, screen: &Screen) -> Result<(), Failure> {
    let mut pages = Vec::new();
    let mut open = vec![("lalograph".to_owned(), definition().disable_help_subcommand(true))];
    while let Some((name, command)) = open.pop() {
        for inner in command.get_subcommands() {
            open.push((format!("{name}-{}", inner.get_name()), inner.clone()));
        }
        let mut page = Vec::new();
        clap_mangen::Man::new(command.name(name.clone())).render(&mut page)?;
        pages.push((folder.join(format!("{name}.1")), page));
    }
    let places: Vec<_> = pages.iter().map(|(path, _)| path).collect();
    let mut set = files::begin("manual", &places, Existing::replaced_if(force))?;
    for (path, page) in &pages {
        set.write(path, page)?;
    }
    set.finish()?;
    screen.line(&format!("{} in {}", counted(pages.len() as u64, "page", "pages"), folder.display()))
}
