//! `embed import`: vectors from elsewhere.

use lalograph_lab::LabError;
use lalograph_lab::artefact::vectors::{VectorFile, import};
use lalograph_storage::Existing;
use lalograph_vectors::import::BadLine;
use serde::Serialize;

use super::words::{own_words, words_of};
use crate::cli::EmbedImportArgs;
use crate::commands::vocab::vocabularies;
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::number::{count, percent};
use crate::output::progress::{Measure, Progress};
use crate::output::screen::Screen;
use crate::output::table::facts;

/// Bad lines and missing words that are named.
const NAMED: usize = 8;

/// JSON output of `embed import`.
#[derive(Serialize)]
struct ImportDocument<'a> {
    vectors: String,
    read: u64,
    kept: u64,
    dimensions: usize,
    duplicates: u64,
    bad_lines: u64,
    first_bad_lines: Vec<BadLineNamed<'a>>,
    missing: u64,
    #[serde(skip_serializing_if = "Option::is_none")]
    text_covered_share: Option<f64>,
    missing_words: &'a [String],
}

/// A line that was left out.
#[derive(Serialize)]
struct BadLineNamed<'a> {
    line: u64,
    what: &'a str,
}

/// Runs the command.
pub(super) fn run(args: &EmbedImportArgs, screen: &Screen) -> Result<(), Failure> {
    let output = files::create(&args.output, Existing::replaced_if(args.force))?;
    interrupt::listen();
    let vocabulary = args.vocabulary_file.as_deref().map(vocabularies::load).transpose()?;
    let wanted = vocabulary.as_ref().map(own_words);
    let rows = args.words.as_ref().map(|path| words_of(&[], Some(path))).transpose()?;
    let rows = args.tensor.as_deref().zip(rows.as_deref());
    let bytes = std::fs::metadata(&args.file).map_err(LabError::at(&args.file))?.len();
    let mut progress = Progress::new(screen, "reading vectors", Measure::Bytes, bytes);
    let mut bad: Vec<BadLine> = Vec::new();
    let imported = import(
        &args.file,
        rows,
        wanted.as_deref(),
        |line| {
            if bad.len() < NAMED {
                bad.push(line.clone());
            }
        },
        |bytes| {
            progress.at(bytes, "");
            !interrupt::asked()
        },
    )?;
    progress.finish();
    for line in &bad {
        screen.warn(&format!(
            "{}: line {}: {}; the line is left out",
            args.file.display(),
            line.line,
            line.what
        ));
    }
    if imported.bad_lines > bad.len() as u64 {
        screen
            .warn(&format!("and {} more lines were left out", count(imported.bad_lines - bad.len() as u64)));
    }
    let kept = imported.table.words().len() as u64;
    // By frequency, too: a few frequent words missing are worse than many rare ones.
    let found_counts: Option<Vec<u64>> = vocabulary.as_ref().map(|vocabulary| {
        let all = vocabulary.counts();
        let words = own_words(vocabulary);
        words
            .iter()
            .zip(all)
            .filter(|(word, _)| imported.table.exact_row(word).is_some())
            .map(|(_, n)| n)
            .collect()
    });
    let all_counts: Option<u64> = vocabulary.as_ref().map(|vocabulary| vocabulary.counts().iter().sum());
    let covered = found_counts.as_ref().map(|counts| counts.iter().sum::<u64>()).zip(all_counts);
    let file = VectorFile {
        table: imported.table,
        counts: found_counts,
        vocabulary,
        made: serde_json::json!({ "imported": true }).to_string(),
    };
    file.save(output)?;
    if args.json {
        return screen.json(&ImportDocument {
            vectors: args.output.display().to_string(),
            read: imported.vectors,
            kept,
            dimensions: file.table.dimensions(),
            duplicates: imported.duplicates,
            bad_lines: imported.bad_lines,
            first_bad_lines: bad.iter().map(|bad| BadLineNamed { line: bad.line, what: &bad.what }).collect(),
            missing: imported.missing.len() as u64,
            text_covered_share: covered.map(|(found, all)| found as f64 / all.max(1) as f64),
            missing_words: &imported.missing,
        });
    }
    let mut rows = vec![
        ("read", format!("{} vectors of {} numbers", count(imported.vectors), file.table.dimensions())),
        ("kept", format!("{} words", count(kept))),
    ];
    if let (Some(wanted), Some((found, all))) = (&wanted, covered) {
        let missing: Vec<&str> = imported.missing.iter().take(NAMED).map(String::as_str).collect();
        let total = wanted.len() as u64;
        rows.push((
            "found",
            format!(
                "{} of {} words of the vocabulary ({}), which are {} of its text",
                count(kept),
                count(total),
                percent(kept, total),
                percent(found, all)
            ),
        ));
        if !missing.is_empty() {
            let more = if imported.missing.len() > NAMED { ", ..." } else { "" };
            rows.push((
                "missing",
                format!(
                    "{}, the most frequent first: {}{more}",
                    count(imported.missing.len() as u64),
                    missing.join(", ")
                ),
            ));
        }
    }
    if imported.duplicates > 0 {
        rows.push((
            "repeated",
            format!("{} lines; the first vector of each word is used", count(imported.duplicates)),
        ));
    }
    if imported.bad_lines > 0 {
        rows.push(("left out", format!("{} lines", count(imported.bad_lines))));
    }
    rows.push(("written to", args.output.display().to_string()));
    screen.line(&format!("{}\n{}", screen.heading("Imported vectors"), facts(screen, &rows)))
}
