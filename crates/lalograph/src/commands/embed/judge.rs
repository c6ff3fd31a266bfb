//! `embed judge`: similarity and analogies.

use std::path::Path;

use lalograph_lab::LabError;
use lalograph_vectors::VectorError;
use lalograph_vectors::judge::{
    Pair, Section, SectionScore, Similarity, analogies, read_pairs, read_questions, similarity,
};
use serde::Serialize;

use super::near::method;
use super::words::load;
use crate::cli::EmbedJudgeArgs;
use crate::failure::Failure;
use crate::output::number::{count, percent};
use crate::output::screen::Screen;
use crate::output::table::{Column, table};

/// JSON output of `embed judge`, for each file.
#[derive(Serialize)]
struct Judged {
    vectors: String,
    words: u64,
    dimensions: usize,
    #[serde(skip_serializing_if = "Option::is_none")]
    similarity: Option<Similarity>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    analogies: Vec<SectionScore>,
}

/// Runs the command.
pub(super) fn run(args: &EmbedJudgeArgs, screen: &Screen) -> Result<(), Failure> {
    if args.similarity.is_none() && args.analogies.is_none() {
        return Err(Failure::Usage("no evaluation file given; use --similarity, --analogies or both".into()));
    }
    let pairs: Option<Vec<Pair>> =
        args.similarity.as_deref().map(|path| read(path, read_pairs)).transpose()?;
    let sections: Option<Vec<Section>> =
        args.analogies.as_deref().map(|path| read(path, read_questions)).transpose()?;
    let mut judged = Vec::new();
    for path in &args.vectors {
        let table = load(path, screen)?.table;
        judged.push(Judged {
            vectors: path.display().to_string(),
            words: table.words().len() as u64,
            dimensions: table.dimensions(),
            similarity: pairs.as_ref().map(|pairs| similarity(&table, pairs)),
            analogies: sections
                .as_ref()
                .map_or_else(Vec::new, |sections| analogies(&table, sections, method(args.method))),
        });
    }
    if args.json {
        return screen.json(&judged);
    }
    if pairs.is_some() {
        let rows = judged.iter().filter_map(|judged| {
            let found = judged.similarity.as_ref()?;
            Some(vec![
                judged.vectors.clone(),
                found.spearman.map_or_else(|| "-".to_owned(), |rho| format!("{rho:.3}")),
                found.interval.map_or_else(|| "-".to_owned(), |[low, high]| format!("{low:.3} to {high:.3}")),
                format!("{} of {}", count(found.known as u64), count(found.pairs as u64)),
            ])
        });
        let heads = ["vectors", "rank correlation", "with 95 % confidence", "pairs known"];
        let columns = [Column::Text, Column::Number, Column::Number, Column::Number];
        let rows: Vec<Vec<String>> = rows.collect();
        screen.line(&format!(
            "{}\n{}",
            screen.heading("Similarity: rank correlation (Spearman) of cosines with the file"),
            table(screen, &heads, &columns, &rows)
        ))?;
    }
    if sections.is_some() {
        let gap = if pairs.is_some() { "\n" } else { "" };
        screen.line(&format!(
            "{gap}{}\n{}",
            screen.heading("Analogies: share answered first, and among the first five"),
            render(&judged, screen)
        ))?;
    }
    Ok(())
}

/// Reads a file; a wrong line is named with it.
fn read<T>(path: &Path, parse: impl Fn(&str) -> Result<T, VectorError>) -> Result<T, Failure> {
    let text = std::fs::read_to_string(path).map_err(LabError::at(path))?;
    parse(&text).map_err(|error| Failure::work(format!("{}: {error}", path.display())))
}

/// Every section, and all of them, of every file.
fn render(judged: &[Judged], screen: &Screen) -> String {
    let mut rows = Vec::new();
    for judged in judged {
        let sum = |of: fn(&SectionScore) -> usize| judged.analogies.iter().map(of).sum::<usize>();
        let all = SectionScore {
            name: "all".to_owned(),
            questions: sum(|section| section.questions),
            known: sum(|section| section.known),
            right: sum(|section| section.right),
            right_among_five: sum(|section| section.right_among_five),
        };
        for section in judged.analogies.iter().chain([&all]) {
            rows.push(vec![
                judged.vectors.clone(),
                section.name.clone(),
                percent(section.right as u64, section.known as u64),
                percent(section.right_among_five as u64, section.known as u64),
                format!("{} of {}", count(section.known as u64), count(section.questions as u64)),
            ]);
        }
    }
    let heads = ["vectors", "section", "first", "first five", "questions known"];
    let columns = [Column::Text, Column::Text, Column::Number, Column::Number, Column::Number];
    table(screen, &heads, &columns, &rows)
}
