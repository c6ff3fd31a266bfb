//! Pages: HTML files that need nothing besides themselves.

mod answers;
mod comparison;
mod decisions;
mod explanation;
mod map;
mod parts;
mod report;
mod samples;
mod surprise;
mod sweep;

pub(crate) use answers::{AnsweredPair, AnswersPage, answers_page};
pub(crate) use comparison::{Rows as ComparisonRows, comparison_page};
pub(crate) use decisions::{DecisionsPage, DocumentOnPage, decisions_page};
pub(crate) use explanation::{ExplainedDocument, ExplainedToken, explanation_page};
pub(crate) use map::map_page;
pub(crate) use report::{ReportPictures, report_page};
pub(crate) use samples::samples_page;
pub(crate) use surprise::{SHOWN_ON_PAGE, SurpriseToken, surprise_page};
pub(crate) use sweep::{SweepPage, sweep_page};
