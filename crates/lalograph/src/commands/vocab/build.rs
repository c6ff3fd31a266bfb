//! Vocabularies made: from a corpus, and from other vocabularies.

use std::path::Path;

use lalograph_lab::LabError;
use lalograph_lab::plan::{CorpusPlan, VocabularyPlan};
use lalograph_storage::Existing;
use lalograph_text::vocabulary::{OneSided, VocabularySpec};
use lalograph_text::{Vocabulary, VocabularyBuilder};

use super::super::input::threads;
use super::super::reading::{find_corpus, watched};
use super::vocabularies::{load, render_size, vocabulary_of};
use crate::cli::{CorpusArgs, VocabBuildArgs, VocabCompareArgs, VocabExtendArgs, VocabMergeArgs};
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::number::{count, counted, percent, visible};
use crate::output::screen::Screen;
use crate::output::table::{Column, facts, table};

/// Whether something may be replaced; refuses at once what may not, before the work, not after it.
fn place(output: &Path, force: bool) -> Result<Existing, Failure> {
    match force {
        true => Ok(Existing::Replace),
        false if output.exists() => Err(LabError::Exists(output.to_owned()).into()),
        false => Ok(Existing::Keep),
    }
}

fn write(vocabulary: &Vocabulary, output: &Path, existing: Existing, screen: &Screen) -> Result<(), Failure> {
    files::write(output, vocabulary.to_json()?.as_bytes(), existing)?;
    screen.line(&format!("{}\n  written to {}", render_size(vocabulary, screen), output.display()))
}

/// Counts a corpus and chooses the tokens.
fn count_corpus(
    args: &CorpusArgs,
    spec: &VocabularySpec,
    existing: Existing,
    screen: &Screen,
) -> Result<Vocabulary, Failure> {
    interrupt::listen();
    let corpus = find_corpus(args, &CorpusPlan::default(), &[])?;
    let left_out = (args.reading.left_out.as_deref(), existing);
    let builder = watched(&corpus, "counting", left_out, screen, |observer| {
        Ok(VocabularyBuilder::count(spec, &corpus, threads(None), observer, |_| true)?)
    })?;
    if spec.unit.is_subword() {
        screen.note("learning subwords");
    }
    Ok(builder.finish(threads(None))?)
}

/// `vocab build`.
pub(super) fn build(args: &VocabBuildArgs, screen: &Screen) -> Result<(), Failure> {
    let existing = place(&args.output, args.force)?;
    let plan = vocabulary_of(&args.tokens, VocabularyPlan::default())?;
    let vocabulary = count_corpus(&args.corpus, &plan.spec(), existing, screen)?;
    write(&vocabulary, &args.output, existing, screen)
}

/// `vocab merge`.
pub(super) fn merge(args: &VocabMergeArgs, screen: &Screen) -> Result<(), Failure> {
    let existing = place(&args.output, args.force)?;
    let merged = load(&args.first)?.merged(&load(&args.second)?)?;
    write(&merged, &args.output, existing, screen)
}

/// `vocab extend`.
pub(super) fn extend(args: &VocabExtendArgs, screen: &Screen) -> Result<(), Failure> {
    let existing = place(&args.output, args.force)?;
    let old = load(&args.file)?;
    // What the vocabulary has already must not take the room of what is new.
    let spec = VocabularySpec {
        unit: old.unit(),
        cleaning: old.cleaning().clone(),
        size: None,
        minimum_count: 1,
        reserved: old.reserved().clone(),
        include: Vec::new(),
        exclude: Vec::new(),
    };
    let new = count_corpus(&args.corpus, &spec, existing, screen)?;
    let extended = old.extended(&new, args.add.unwrap_or(usize::MAX), args.minimum_count)?;
    screen.note(&format!(
        "{} added; {} keep their indices",
        counted((extended.len() - old.len()) as u64, "token", "tokens"),
        count(old.len() as u64)
    ));
    write(&extended, &args.output, existing, screen)
}

/// `vocab compare`.
pub(super) fn compare(args: &VocabCompareArgs, screen: &Screen) -> Result<(), Failure> {
    let (first, second) = (load(&args.first)?, load(&args.second)?);
    let compared = first.compare(&second, args.top);
    if args.json {
        return screen.json(&compared);
    }
    let names = [&args.first, &args.second].map(|path| path.display().to_string());
    let same = if compared.same_tokens {
        "the same: a text has the same tokens in both"
    } else {
        "different: a text has different tokens in each"
    };
    let rows = [
        ("unit and cleaning", same.to_owned()),
        (
            "in both",
            format!(
                "{} tokens, {} of them at the same index",
                count(compared.shared_tokens),
                count(compared.same_index)
            ),
        ),
    ];
    let mut lines = vec![screen.heading("The two vocabularies"), facts(screen, &rows)];
    for (name, own) in names.iter().zip([&compared.only_first, &compared.only_second]) {
        let OneSided { tokens, count: uses, total_count, most_frequent } = own;
        lines.push(format!(
            "\n{}",
            screen.heading(&format!(
                "Only in {name}: {} tokens, {} of its counts",
                count(*tokens),
                percent(*uses, *total_count)
            ))
        ));
        let rows: Vec<Vec<String>> =
            most_frequent.iter().map(|(token, n)| vec![visible(token), count(*n)]).collect();
        if !rows.is_empty() {
            lines.push(table(screen, &["token", "count"], &[Column::Text, Column::Number], &rows));
        }
    }
    screen.line(&lines.join("\n"))
}
