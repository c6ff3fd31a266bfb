//! The dialogue of a conversation: JSON Lines, written whole after every turn.

use std::path::{Path, PathBuf};

use lalograph_lab::LabError;
use lalograph_lab::writing::generator::Ended;
use lalograph_storage::Existing;
use serde::{Deserialize, Serialize};

use super::orders::Settings;
use super::voice::Turn;
use crate::cli::ConverseArgs;
use crate::failure::Failure;
use crate::files;

/// Name of the person.
const PERSON: &str = "you";

/// A line of a dialogue.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Line {
    /// Who spoke: `you`, or the name of a voice.
    speaker: String,
    /// What was said; of a person also `:again` and `:forget`.
    pub(super) text: String,
    /// Tokens drawn, for a model.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    tokens: Option<u64>,
    /// Why a model's turn ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    ended_by: Option<Ended>,
    /// The settings of the turn.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(super) settings: Option<Settings>,
}

impl Line {
    pub(super) fn of_person(text: &str, settings: &Settings) -> Self {
        let settings = Some(*settings);
        Self { text: text.to_owned(), settings, ..Self::new(PERSON) }
    }

    pub(super) fn of_model(name: &str, turn: &Turn, settings: &Settings) -> Self {
        Self {
            text: turn.text.clone(),
            tokens: Some(turn.tokens),
            ended_by: Some(turn.ended),
            settings: Some(*settings),
            ..Self::new(name)
        }
    }

    fn new(speaker: &str) -> Self {
        Self { speaker: speaker.into(), text: String::new(), tokens: None, ended_by: None, settings: None }
    }
}

/// The lines so far, and their file.
pub(super) struct Dialogue {
    path: Option<PathBuf>,
    lines: Vec<Line>,
}

impl Dialogue {
    /// Begins a dialogue; a file that is there is an error before anything is said.
    pub(super) fn begin(args: &ConverseArgs) -> Result<Self, Failure> {
        if let Some(path) = args.save.as_ref().filter(|path| !args.force && path.exists()) {
            return Err(LabError::Exists(path.clone()).into());
        }
        let dialogue = Self { path: args.save.clone(), lines: Vec::new() };
        dialogue.write()?;
        Ok(dialogue)
    }

    pub(super) fn path(&self) -> Option<&Path> {
        self.path.as_deref()
    }

    pub(super) fn add(&mut self, line: Line) -> Result<(), Failure> {
        self.lines.push(line);
        self.write()
    }

    fn write(&self) -> Result<(), Failure> {
        match &self.path {
            Some(path) => files::write(path, self.text()?.as_bytes(), Existing::Replace),
            None => Ok(()),
        }
    }

    /// Writes a copy to a new file.
    pub(super) fn save_as(&self, path: &Path) -> Result<(), Failure> {
        files::write(path, self.text()?.as_bytes(), Existing::Keep)
    }

    fn text(&self) -> Result<String, Failure> {
        let lines = self.lines.iter().map(|line| serde_json::to_string(line).map(|line| line + "\n"));
        lines.collect::<Result<String, _>>().map_err(Failure::work)
    }
}

/// The lines of the person in a dialogue.
pub(super) fn person_lines(path: &Path) -> Result<Vec<Line>, Failure> {
    let text = std::fs::read_to_string(path).map_err(LabError::at(path))?;
    let mut lines = Vec::new();
    for (number, line) in text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty()) {
        let line: Line = serde_json::from_str(line).map_err(|error| {
            let what = error.to_string();
            let what = what.split(" at line ").next().unwrap_or(&what).to_owned();
            Failure::with_remedy(
                format!("{}, line {}: no line of a dialogue: {what}", path.display(), number + 1),
                "give a file that `lalograph converse --save` wrote",
            )
        })?;
        if line.speaker == PERSON {
            lines.push(line);
        }
    }
    Ok(lines)
}
