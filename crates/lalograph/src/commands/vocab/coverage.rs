//! `vocab coverage`: what a size costs and brings.

use lalograph_lab::artefact::texts::read_split;
use lalograph_lab::plan::{CorpusPlan, VocabularyPlan};
use lalograph_storage::Existing;
use lalograph_text::coverage::{Coverage, coverage};
use lalograph_text::split::{Cutoffs, Split};

use super::super::input::threads;
use super::super::reading::{find_corpus, watched};
use super::vocabularies::vocabulary_of;
use crate::cli::VocabCoverageArgs;
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::chart::write_pictures;
use crate::output::coverage_chart::coverage_chart;
use crate::output::number::{count, counted, percent};
use crate::output::screen::Screen;
use crate::output::table::{Column, facts, table};

/// Sizes that are tried when none are named: about three for every factor of ten.
const STEPS: [usize; 14] = [
    100, 200, 500, 1_000, 2_000, 5_000, 10_000, 20_000, 50_000, 100_000, 200_000, 500_000, 1_000_000,
    2_000_000,
];

/// Runs the command.
pub(super) fn run(args: &VocabCoverageArgs, screen: &Screen) -> Result<(), Failure> {
    interrupt::listen();
    let plan = vocabulary_of(&args.tokens, VocabularyPlan { size: None, ..VocabularyPlan::default() })?;
    if !(0.0..1.0).contains(&args.held_out) {
        return Err(Failure::Usage("--held-out is a share below 1".into()));
    }
    let split = match &args.held_out_by {
        Some(path) => read_split(path)?,
        None => Split::even(args.seed, Cutoffs::shares(args.held_out, 0.0)),
    };
    let corpus = find_corpus(&args.corpus, &CorpusPlan::default(), &[])?;
    let existing = Existing::replaced_if(args.force);
    // Better refused before the work than after it.
    let stem = args.pictures.as_ref().map(|folder| folder.join("coverage"));
    let pictures =
        stem.as_ref().map(|stem| files::begin("coverage", &files::picture(stem), existing)).transpose()?;
    let left_out = (args.corpus.reading.left_out.as_deref(), existing);
    let spec = plan.spec();
    let mut sizes = if args.sizes.is_empty() { STEPS.to_vec() } else { args.sizes.clone() };
    sizes.sort_unstable();
    sizes.dedup();
    let found = watched(&corpus, "counting", left_out, screen, |observer| {
        Ok(coverage(&corpus, &spec, &split, &sizes, threads(None), observer)?)
    })?;
    if args.json {
        screen.json(&found)?;
    } else {
        screen.line(&render(&found, screen))?;
    }
    if let (Some(mut set), Some(stem), Some(chart)) = (pictures, stem, coverage_chart(&found)) {
        write_pictures(chart, &mut set, &stem)?;
        set.finish()?;
        screen.note(&format!("drawn: {}.png and .svg", stem.display()));
    }
    Ok(())
}

fn render(found: &Coverage, screen: &Screen) -> String {
    let facts = facts(
        screen,
        &[
            ("counted on", counted(found.training_documents, "document", "documents")),
            (
                "held-out text",
                format!(
                    "{}, {} words and punctuation marks",
                    counted(found.held_out_documents, "document", "documents"),
                    count(found.held_out_words)
                ),
            ),
        ],
    );
    let rows: Vec<Vec<String>> = found
        .points
        .iter()
        .map(|point| {
            vec![
                count(point.size),
                percent(point.unknown_tokens, point.tokens),
                count(point.distinct_unknown),
                format!("{:.3}", point.tokens_per_word),
                format!("{:.2}", point.bytes_per_token),
            ]
        })
        .collect();
    let plural = found.unit.plural();
    let heads = [plural, "unknown", "different ones", "tokens per word", "bytes per token"];
    format!(
        "{}\n{facts}\n{}",
        screen.heading(&format!("Coverage by vocabulary size, in {plural}")),
        table(screen, &heads, &[Column::Number; 5], &rows)
    )
}
