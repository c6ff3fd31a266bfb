//! The page of surprise.

use std::path::Path;
use std::sync::Arc;

use lalograph_lab::measure::foresight::expected;
use lalograph_lab::{LabError, ModelFile, ReadyModel};
use lalograph_storage::Existing;
use lalograph_text::{Reserved, TextError};

use super::figures::rows;
use super::passages::Whole;
use crate::cli::{ScoreArgs, StateChoice};
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::number::visible;
use crate::output::page::{SHOWN_ON_PAGE, SurpriseToken, surprise_page};
use crate::output::progress::{Measure, Progress};
use crate::output::screen::Screen;

/// Writes the page of surprise.
pub(super) fn write_page(
    path: &Path,
    args: &ScoreArgs,
    file: &ModelFile,
    whole: &Whole<'_>,
    screen: &Screen,
) -> Result<(), Failure> {
    let mut progress = Progress::new(screen, "computing alternatives", Measure::Steps, 100);
    let resets = args.state.map(|state| state == StateChoice::Reset);
    let ready = Arc::new(ReadyModel::new(file.clone()));
    let expected = expected(ready, &whole.found.text, SHOWN_ON_PAGE, resets, &mut |share| {
        progress.at((100.0 * share) as u64, "");
        !interrupt::asked()
    });
    let expected = expected.ok_or(LabError::from(TextError::Stopped))?;
    progress.finish();
    let name = |index: u32| match index {
        Reserved::END => "\u{23ce}".to_owned(),
        _ => visible(&whole.vocabulary.shown(index).unwrap_or_default()),
    };
    let mut surprises = whole.surprises();
    let tokens = surprises.len();
    surprises.truncate(SHOWN_ON_PAGE);
    let shown: Vec<SurpriseToken> = surprises
        .into_iter()
        .zip(expected)
        .map(|(surprise, expected)| SurpriseToken {
            ends_document: surprise.index == Reserved::END,
            unknown: surprise.index == Reserved::UNKNOWN,
            before: surprise.before,
            text: surprise.token,
            bits: surprise.surprise_bits,
            rank: expected.rank,
            most_probable: (expected.most_probable.iter())
                .map(|next| (name(next.index), next.probability))
                .collect(),
        })
        .collect();
    let places: Vec<(String, u64)> = whole
        .documents
        .list
        .iter()
        .map(|document| (document.path.display().to_string(), document.line))
        .collect();
    let facts = rows(&whole.found.judgement);
    let page = surprise_page(&args.model.display().to_string(), &facts, &shown, &places, tokens);
    let existing = Existing::replaced_if(args.force);
    files::write(path, page.as_bytes(), existing)?;
    screen.note(&format!("written to {}", path.display()));
    Ok(())
}
