//! `survey`: look before training.

use lalograph_text::Corpus;
use lalograph_text::survey::{Survey, SurveyLimits, length_keeping, survey};

use super::{find_corpus, say_skipped};
use crate::cli::SurveyArgs;
use crate::failure::Failure;
use crate::interrupt;
use crate::output::number::{bytes, count, counted, percent};
use crate::output::palette::{HONEY, SLATE};
use crate::output::progress::{Measure, Progress};
use crate::output::screen::Screen;
use crate::output::table::{Column, facts, table};

/// Bars of the length histogram.
const BARS: u64 = 12;
/// Width of its longest bar.
const BAR_WIDTH: usize = 40;

/// Runs the command.
pub(crate) fn run(args: &SurveyArgs, screen: &Screen) -> Result<(), Failure> {
    interrupt::listen();
    let corpus = find_corpus(&args.corpus)?;
    let limits = SurveyLimits { commonest: args.top, first_rows: args.rows, row_characters: 600 };
    let (survey, reading) = look(&corpus, limits, screen)?;
    say_skipped(&reading, screen);
    if args.json {
        return screen.json(&survey);
    }
    screen.line(&render(&survey, screen))
}

/// Surveys with a progress bar.
pub(crate) fn look(
    corpus: &Corpus,
    limits: SurveyLimits,
    screen: &Screen,
) -> Result<(Survey, lalograph_text::Reading), Failure> {
    let mut progress = Progress::new(screen, "surveying", Measure::Bytes, corpus.bytes());
    let result = survey(corpus, limits, |bytes| {
        progress.at(bytes, "");
        !interrupt::asked()
    });
    progress.finish();
    Ok(result?)
}

/// The whole survey as text.
pub(crate) fn render(survey: &Survey, screen: &Screen) -> String {
    let mut parts = vec![render_counts(survey, screen)];
    parts.push(format!("\n{}", screen.heading("Lengths of documents, in words and punctuation marks")));
    parts.push(histogram(survey, screen));
    if !survey.commonest.is_empty() {
        let heading = format!("The {} commonest words", count(survey.commonest.len() as u64));
        parts.push(format!("\n{}", screen.heading(&heading)));
        parts.push(commonest(survey, screen));
    }
    if !survey.first_rows.is_empty() {
        parts.push(format!("\n{}", screen.heading("First documents")));
        for row in &survey.first_rows {
            let place = screen.styled(SLATE.style(), &format!("{}, line {}", row.path, row.line));
            parts.push(format!("  {place}\n{}", indented(&row.text, screen.width())));
        }
    }
    parts.join("\n")
}

/// The counts alone.
pub(crate) fn render_counts(survey: &Survey, screen: &Screen) -> String {
    let lengths = survey.lengths;
    let rows = [
        ("documents", format!("{} in {}", count(survey.documents), counted(survey.files, "file", "files"))),
        ("left out", count(survey.skipped)),
        ("text", format!("{}, {} characters", bytes(survey.bytes), count(survey.characters))),
        ("words", format!("{}, punctuation marks counted", count(survey.words))),
        (
            "distinct",
            format!(
                "{}, {} of them seen once ({})",
                count(survey.distinct_words),
                count(survey.words_seen_once),
                percent(survey.words_seen_once, survey.distinct_words)
            ),
        ),
        (
            "length",
            format!(
                "shortest {}, median {}, 95 % up to {}, longest {}",
                count(lengths.minimum_words),
                count(lengths.median_words),
                count(lengths.percentile_95_words),
                count(lengths.maximum_words)
            ),
        ),
    ];
    let rows: Vec<(&str, String)> =
        rows.into_iter().filter(|(name, _)| *name != "left out" || survey.skipped > 0).collect();
    format!("{}\n{}", screen.heading("The corpus"), facts(screen, &rows))
}

fn histogram(survey: &Survey, screen: &Screen) -> String {
    // The last bar gathers what lies beyond 99 of 100 documents, so that one long one does not flatten the rest.
    let reach = length_keeping(&survey.length_counts, 0.99);
    let lowest = survey.lengths.minimum_words;
    let width = ((reach.saturating_sub(lowest) + 1).div_ceil(BARS)).max(1);
    let mut bars = vec![0u64; (reach.saturating_sub(lowest) / width + 1) as usize];
    let mut beyond = 0;
    for (&length, &documents) in &survey.length_counts {
        match bars.get_mut(((length - lowest) / width) as usize) {
            Some(bar) => *bar += documents,
            None => beyond += documents,
        }
    }
    let tallest = bars.iter().copied().max().unwrap_or(1).max(1);
    let mut rows: Vec<Vec<String>> = Vec::new();
    for (index, &documents) in bars.iter().enumerate() {
        let from = lowest + index as u64 * width;
        let filled = (documents as f64 / tallest as f64 * BAR_WIDTH as f64).round() as usize;
        let range = if width == 1 {
            count(from)
        } else {
            format!("{}\u{2013}{}", count(from), count(from + width - 1))
        };
        rows.push(vec![range, count(documents), "\u{2588}".repeat(filled)]);
    }
    if beyond > 0 {
        let from = lowest + bars.len() as u64 * width;
        rows.push(vec![format!("{} and more", count(from)), count(beyond), String::new()]);
    }
    let kept = [0.9, 0.95, 0.99].map(|share| {
        format!("{:.0} % whole at {}", share * 100.0, count(length_keeping(&survey.length_counts, share)))
    });
    let drawn =
        table(screen, &["words", "documents", ""], &[Column::Number, Column::Number, Column::Text], &rows);
    let lines: Vec<String> = drawn.lines().map(|line| coloured_bar(line, screen)).collect();
    let drawn = lines.join("\n");
    format!("{drawn}\n  A fixed length keeps {}.", kept.join(", "))
}

/// Colours the bar at the end of a line.
fn coloured_bar(line: &str, screen: &Screen) -> String {
    match line.find('\u{2588}') {
        Some(start) => format!("{}{}", &line[..start], screen.styled(HONEY.style(), &line[start..])),
        None => line.to_owned(),
    }
}

fn commonest(survey: &Survey, screen: &Screen) -> String {
    let rows: Vec<Vec<String>> = survey
        .commonest
        .iter()
        .enumerate()
        .map(|(index, (word, n))| {
            vec![(index + 1).to_string(), word.clone(), count(*n), percent(*n, survey.words)]
        })
        .collect();
    let columns = [Column::Number, Column::Text, Column::Number, Column::Number];
    table(screen, &["rank", "word", "count", "share"], &columns, &rows)
}

/// Wraps a text to the width, two spaces in.
pub(crate) fn indented(text: &str, width: usize) -> String {
    let mut out = String::new();
    for line in text.lines() {
        let mut used = width;
        for word in line.split_whitespace() {
            let needed = unicode_width::UnicodeWidthStr::width(word);
            if used + 1 + needed > width.saturating_sub(2) {
                out.push_str(if out.is_empty() { "  " } else { "\n  " });
                used = 2;
            } else {
                out.push(' ');
                used += 1;
            }
            out.push_str(word);
            used += needed;
        }
    }
    out
}
