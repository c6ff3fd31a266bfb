//! A survey as text.

use lalograph_text::survey::{
    CharacterKind, DocumentPlace, Lengths, PairSurvey, PlainCounts, Survey, length_keeping,
};

use crate::output::number::{bytes, count, counted, percent, visible};
use crate::output::palette::{ASH, BRICK, HONEY};
use crate::output::screen::Screen;
use crate::output::table::{Column, coloured_bars, facts, table};
use crate::output::wrap::indented;

/// Bars of the length histogram.
const BARS: u64 = 12;
/// Width of the longest bar.
const BAR_WIDTH: usize = 40;
/// Classes listed one by one.
const CLASSES: usize = 20;
/// Ranks in the table of ranks.
const RANKS: [u64; 7] = [1, 10, 100, 1_000, 10_000, 100_000, 1_000_000];

/// The whole survey.
pub(crate) fn render(survey: &Survey, screen: &Screen) -> String {
    let mut parts = vec![render_counts(survey, screen)];
    let mut section = |heading: &str, body: String| {
        parts.push(format!("\n{}\n{body}", screen.heading(heading)));
    };
    if !survey.classes.is_empty() {
        section("Classes", classes(survey, screen));
    }
    if let Some(found) = &survey.pairs {
        section("Prompts and answers", pairs(found, survey, screen));
    }
    section("Lengths of documents, in words and punctuation marks", histogram(survey, screen));
    if !survey.most_frequent.is_empty() {
        section(
            &format!("The {} most frequent words", count(survey.most_frequent.len() as u64)),
            most_frequent(survey, screen),
        );
        section("Words by rank", ranks(survey, screen));
        section(
            &format!("Characters: {} different ones", count(survey.distinct_characters)),
            characters(survey, screen),
        );
    }
    if let Some(matches) = &survey.matches {
        let heading = format!(
            "Documents that match {}: {} ({})",
            matches.pattern,
            count(matches.documents),
            percent(matches.documents, survey.documents)
        );
        let examples: Vec<String> = matches
            .examples
            .iter()
            .map(|example| {
                let found =
                    screen.styled(BRICK.style().bold(), &format!("\u{27e6}{}\u{27e7}", example.found));
                let line = format!("{}{found}{}", example.before, example.after);
                format!("{}\n{}", place(&example.place, screen), indented(&line, screen.width()))
            })
            .collect();
        section(&heading, examples.join("\n"));
    }
    section("Duplicates", duplicates(survey, screen));
    if !survey.first_rows.is_empty() {
        let rows: Vec<String> = survey
            .first_rows
            .iter()
            .map(|row| {
                let label = row.label.as_ref().map(|label| format!("  [{label}]")).unwrap_or_default();
                format!("{}{label}\n{}", place(&row.place, screen), indented(&row.text, screen.width()))
            })
            .collect();
        section("First documents", rows.join("\n"));
    }
    parts.join("\n")
}

/// Lengths in one line.
fn lengths(lengths: &Lengths) -> String {
    format!(
        "shortest {}, median {}, 95 % up to {}, longest {}",
        count(lengths.minimum_words),
        count(lengths.median_words),
        count(lengths.percentile_95_words),
        count(lengths.maximum_words)
    )
}

/// Lengths of prompts and answers, and what is empty, repeated or matched.
fn pairs(found: &PairSurvey, survey: &Survey, screen: &Screen) -> String {
    let mut rows = vec![
        ("prompts", lengths(&found.prompts)),
        ("answers", lengths(&found.answers)),
        (
            "empty",
            format!(
                "{} without a prompt, {} without an answer; left out",
                counted(found.empty_prompts, "pair", "pairs"),
                count(found.empty_answers)
            ),
        ),
        (
            "repeated",
            format!(
                "{} of the pairs have the prompt of an earlier pair ({})",
                count(found.repeated_prompts),
                percent(found.repeated_prompts, survey.documents)
            ),
        ),
    ];
    if let Some(matching) = found.matching_answers {
        let share = percent(matching, survey.documents);
        rows.push(("matching", format!("{} answers match the pattern ({share})", count(matching))));
    }
    facts(screen, &rows)
}

fn place(at: &DocumentPlace, screen: &Screen) -> String {
    format!("  {}", screen.styled(ASH.style(), &format!("{}, line {}", at.path, at.line)))
}

/// The plain counts.
pub(crate) fn render_plain(counts: &PlainCounts, screen: &Screen) -> String {
    let rows = [
        ("documents", format!("{} in {}", count(counts.documents), counted(counts.files, "file", "files"))),
        ("left out", count(counts.skipped)),
        ("text", bytes(counts.bytes)),
        ("words", format!("{}, punctuation marks counted", count(counts.words))),
    ];
    facts(screen, &rows)
}

/// The counts alone.
pub(crate) fn render_counts(survey: &Survey, screen: &Screen) -> String {
    let rows = [
        ("documents", format!("{} in {}", count(survey.documents), counted(survey.files, "file", "files"))),
        ("left out", count(survey.skipped)),
        ("text", format!("{}, {} characters", bytes(survey.bytes), count(survey.characters))),
        ("words", format!("{}, punctuation marks counted", count(survey.words))),
        (
            "distinct",
            format!(
                "{}, {} of them once ({})",
                count(survey.distinct_words),
                count(survey.words_seen_once),
                percent(survey.words_seen_once, survey.distinct_words)
            ),
        ),
        ("length", lengths(&survey.lengths)),
    ];
    let rows: Vec<(&str, String)> =
        rows.into_iter().filter(|(name, _)| *name != "left out" || survey.skipped > 0).collect();
    format!("{}\n{}", screen.heading("The corpus"), facts(screen, &rows))
}

fn classes(survey: &Survey, screen: &Screen) -> String {
    let largest = survey.classes.first().map_or(1, |class| class.documents.max(1));
    // The column of matches takes its room from the bars.
    let width = if survey.matches.is_some() { BAR_WIDTH / 2 } else { BAR_WIDTH };
    let mut rows: Vec<Vec<String>> = survey
        .classes
        .iter()
        .take(CLASSES)
        .map(|class| {
            let matching = class
                .matching_documents
                .map(|matching| format!("{} ({})", count(matching), percent(matching, class.documents)));
            [
                class.label.clone(),
                count(class.documents),
                percent(class.documents, survey.documents),
                format!("{:.1}", class.words as f64 / class.documents.max(1) as f64),
            ]
            .into_iter()
            .chain(matching)
            .chain([bar(class.documents, largest, width)])
            .collect()
        })
        .collect();
    let mut columns = vec![Column::Text, Column::Number, Column::Number, Column::Number, Column::Text];
    let mut heads = vec!["class", "documents", "share", "words each", ""];
    if survey.matches.is_some() {
        columns.insert(4, Column::Number);
        heads.insert(4, "matching");
    }
    let rest = survey.classes.iter().skip(CLASSES).map(|class| class.documents).sum::<u64>()
        + survey.documents_of_other_classes;
    if rest > 0 {
        let others = survey.classes.len().saturating_sub(CLASSES) as u64;
        let more = if survey.documents_of_other_classes > 0 { " and more" } else { "" };
        let mut row = vec![
            format!("{}{more}", counted(others, "other", "others")),
            count(rest),
            percent(rest, survey.documents),
        ];
        row.resize(heads.len(), String::new());
        rows.push(row);
    }
    let drawn = table(screen, &heads, &columns, &rows);
    let smallest = survey.classes.last().map_or(1, |class| class.documents.max(1));
    let most_frequent = survey.classes.first().map_or(String::new(), |class| class.label.clone());
    format!(
        "{}\n  Always predicting `{most_frequent}` is right for {} of documents. The largest class has {:.1} times as many as the smallest.",
        coloured_bars(&drawn, HONEY, screen),
        percent(largest, survey.documents),
        largest as f64 / smallest as f64
    )
}

fn bar(value: u64, largest: u64, width: usize) -> String {
    "\u{2588}".repeat((value as f64 / largest.max(1) as f64 * width as f64).round() as usize)
}

fn ranks(survey: &Survey, screen: &Screen) -> String {
    let last = survey.rank_frequency.last().map(|point| point.rank);
    let rows: Vec<Vec<String>> = survey
        .rank_frequency
        .iter()
        .filter(|point| RANKS.contains(&point.rank) || Some(point.rank) == last)
        .map(|point| vec![count(point.rank), count(point.count), percent(point.covered_words, survey.words)])
        .collect();
    let columns = [Column::Number, Column::Number, Column::Number];
    table(screen, &["rank", "count", "share of text up to this rank"], &columns, &rows)
}

fn characters(survey: &Survey, screen: &Screen) -> String {
    let total: u64 = survey.kinds.iter().map(|kind| kind.bytes).sum();
    let rows: Vec<Vec<String>> = survey
        .kinds
        .iter()
        .map(|kind| {
            let name = match kind.kind {
                CharacterKind::LatinLetter => "letters A to Z",
                CharacterKind::OtherLetter => "other letters",
                CharacterKind::Digit => "digits",
                CharacterKind::Mark => "punctuation and symbols",
                CharacterKind::Space => "white space",
                CharacterKind::Other => "control and other",
            };
            vec![name.to_owned(), count(kind.characters), percent(kind.bytes, total)]
        })
        .collect();
    let columns = [Column::Text, Column::Number, Column::Number];
    let drawn = table(screen, &["kind", "characters", "share of bytes"], &columns, &rows);
    let listed: Vec<String> = survey
        .most_frequent_characters
        .iter()
        .map(|(c, n)| format!("{} {}", visible(&c.to_string()), percent(*n, survey.characters)))
        .collect();
    format!("{drawn}\n{}", indented(&format!("most frequent: {}", listed.join(" \u{b7} ")), screen.width()))
}

fn duplicates(survey: &Survey, screen: &Screen) -> String {
    let found = &survey.duplicates;
    let mut lines = vec![match found.documents {
        0 => "  No two documents are equal.".to_owned(),
        documents => format!(
            "  {} an earlier one exactly ({}); {} repeated.",
            counted(documents, "document repeats", "documents repeat"),
            percent(documents, survey.documents),
            counted(found.repeated_texts, "text is", "texts are")
        ),
    }];
    for repeated in &found.most_repeated {
        let at = format!("{}, line {}", repeated.place.path, repeated.place.line);
        lines.push(format!("  {} times: {}", count(repeated.copies), screen.styled(ASH.style(), &at)));
    }
    if let Some(near) = &survey.near_duplicates {
        let alike =
            format!("{:.0} % or more of their five-word sequences in common", near.least_resemblance * 100.0);
        lines.push(match near.documents {
            0 => format!("  No two documents have {alike}."),
            documents => format!(
                "  {} an earlier one nearly or exactly ({}): {alike}.",
                counted(documents, "document repeats", "documents repeat"),
                percent(documents, survey.documents)
            ),
        });
        for pair in &near.examples {
            let at = |place: &DocumentPlace| format!("{}, line {}", place.path, place.line);
            let both = format!("{} and {}", at(&pair.earlier), at(&pair.later));
            lines.push(format!(
                "  {:.0} % alike: {}",
                pair.resemblance * 100.0,
                screen.styled(ASH.style(), &both)
            ));
        }
    }
    lines.join("\n")
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
        let range = if width == 1 {
            count(from)
        } else {
            format!("{}\u{2013}{}", count(from), count(from + width - 1))
        };
        rows.push(vec![range, count(documents), bar(documents, tallest, BAR_WIDTH)]);
    }
    if beyond > 0 {
        let from = lowest + bars.len() as u64 * width;
        rows.push(vec![format!("{} and more", count(from)), count(beyond), String::new()]);
    }
    let kept = [0.9, 0.95, 0.99].map(|share| {
        format!("{:.0} % at {}", share * 100.0, count(length_keeping(&survey.length_counts, share)))
    });
    let drawn =
        table(screen, &["words", "documents", ""], &[Column::Number, Column::Number, Column::Text], &rows);
    format!(
        "{}\n  Documents that fit a fixed length: {}.",
        coloured_bars(&drawn, HONEY, screen),
        kept.join(", ")
    )
}

fn most_frequent(survey: &Survey, screen: &Screen) -> String {
    let rows: Vec<Vec<String>> = survey
        .most_frequent
        .iter()
        .enumerate()
        .map(|(index, (word, n))| {
            vec![(index + 1).to_string(), word.clone(), count(*n), percent(*n, survey.words)]
        })
        .collect();
    let columns = [Column::Number, Column::Text, Column::Number, Column::Number];
    table(screen, &["rank", "word", "count", "share"], &columns, &rows)
}
