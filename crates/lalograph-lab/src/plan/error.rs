//! Errors of a plan, with their places.

use std::fmt::{self, Display};

use thiserror::Error;

/// A place in a file, both from 1.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Place {
    /// The line.
    pub line: usize,
    /// The column, in characters.
    pub column: usize,
}

impl Display for Place {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(formatter, "line {}, column {}", self.line, self.column)
    }
}

impl Place {
    /// The place of a byte.
    pub(super) fn of(text: &str, byte: usize) -> Self {
        let boundary = (0..=byte.min(text.len())).rev().find(|&at| text.is_char_boundary(at)).unwrap_or(0);
        let before = &text[..boundary];
        let line_start = before.rfind('\n').map_or(0, |at| at + 1);
        Self { line: before.matches('\n').count() + 1, column: before[line_start..].chars().count() + 1 }
    }
}

/// A problem of a plan.
#[derive(Debug, Error)]
pub enum PlanError {
    /// Not TOML, or a value of the wrong kind; the text draws the place.
    #[error("{0}")]
    Syntax(String),
    /// Values that TOML has no form for.
    #[error("it cannot be written as TOML: {0}")]
    Unwritable(String),
    /// A key that no plan has.
    #[error("no setting `{key}`{}", .nearest.as_ref().map(|near| format!("; did you mean `{near}`?")).unwrap_or_default())]
    Unknown {
        /// The key, with its section.
        key: String,
        /// The known key most like it.
        nearest: Option<String>,
    },
    /// A value that its setting cannot have.
    #[error("`{key}` {what}")]
    Kind {
        /// The key, with its section.
        key: String,
        /// The value, and the allowed values.
        what: String,
    },
    /// A value outside its range.
    #[error("`{key}` is {value} and must be {must}")]
    Range {
        /// The key, with its section.
        key: &'static str,
        /// Its value.
        value: String,
        /// The allowed values.
        must: &'static str,
    },
    /// Something wrong at a place of the file.
    #[error("{place}: {problem}")]
    Placed {
        /// Place of the setting's name.
        place: Place,
        /// The problem.
        problem: Box<PlanError>,
    },
    /// An override that is not `section.key=value`.
    #[error("`{0}` is not of the form section.key=value")]
    Override(String),
}
