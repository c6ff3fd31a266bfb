//! The person's lines: edited in a terminal, plain from a file or another program.

use std::io::{self, BufRead, IsTerminal};

use rustyline::DefaultEditor;
use rustyline::error::ReadlineError;

use crate::failure::Failure;
use crate::output::screen::Screen;

/// Before a line of the person.
const SIGN: &str = "> ";

/// Where lines come from.
pub(super) enum Lines {
    Edited(Box<DefaultEditor>),
    Plain,
}

impl Lines {
    /// From a terminal with editing and history, unless `wanted` is false or input or output is no terminal.
    pub(super) fn new(wanted: bool, screen: &Screen) -> Self {
        let terminal = wanted && io::stdin().is_terminal() && screen.prints_to_terminal();
        match terminal.then(DefaultEditor::new) {
            Some(Ok(editor)) => Self::Edited(Box::new(editor)),
            _ => Self::Plain,
        }
    }

    pub(super) fn is_edited(&self) -> bool {
        matches!(self, Self::Edited(_))
    }

    /// The next line that is not blank; none at the end of the input or at Ctrl-C.
    pub(super) fn next(&mut self) -> Result<Option<String>, Failure> {
        loop {
            let line = match self {
                Self::Edited(editor) => match editor.readline(SIGN) {
                    Ok(line) => {
                        // History that cannot be kept is no reason to stop talking.
                        let _ = editor.add_history_entry(&line);
                        line
                    }
                    Err(ReadlineError::Eof | ReadlineError::Interrupted) => return Ok(None),
                    Err(error) => return Err(Failure::work(error)),
                },
                Self::Plain => {
                    let mut bytes = Vec::new();
                    if io::stdin().lock().read_until(b'\n', &mut bytes).map_err(Failure::work)? == 0 {
                        return Ok(None);
                    }
                    String::from_utf8(bytes)
                        .map_err(|_| Failure::work("standard input is not UTF-8 text"))?
                        .trim_end_matches(['\n', '\r'])
                        .to_owned()
                }
            };
            if !line.trim().is_empty() {
                return Ok(Some(line));
            }
        }
    }
}
