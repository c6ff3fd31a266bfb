//! Word vectors of the demo: learnt, looked at, evaluated by what the grammar planted.

use std::path::Path;

use lalograph_demo::{analogies_file, similarity_file};
use lalograph_lab::plan::VectorsWay;
use lalograph_lab::task::vectors::vector_file;
use lalograph_lab::{LabError, LanguageTask};
use lalograph_storage::FileSet;
use lalograph_vectors::judge::{Method, analogies, read_pairs, read_questions, similarity};
use lalograph_vectors::train::{LearningProgress as Reached, Settings, train};

use crate::failure::Failure;
use crate::interrupt;
use crate::output::number::{count, percent};
use crate::output::progress::{Measure, Progress};
use crate::output::screen::Screen;
use crate::output::table::facts;

/// Words whose neighbours are shown, and how many of them.
const SHOWN: [&str; 3] = ["Hesper", "June", "clover"];
const NEIGHBOURS: usize = 4;

/// Learns vectors from a run's training text, writes them as `vectors.safetensors` and `vectors.txt`, and prints what they know.
pub(crate) fn vectors_of(
    prepared: &LanguageTask,
    settings: &Settings,
    (set, folder): (&mut FileSet, &Path),
    threads: usize,
    screen: &Screen,
) -> Result<(), Failure> {
    let (vocabulary, text) = (&prepared.vocabulary, &prepared.corpus.training);
    let words = vocabulary.spellings();
    let mut progress =
        Progress::new(screen, "word vectors", Measure::Tokens, settings.epochs * text.len() as u64);
    let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().map_err(LabError::from)?;
    let learnt = pool.install(|| {
        train(settings, &words, text, &mut |reached: &Reached, _| {
            progress.at(reached.tokens, "");
            !interrupt::asked()
        })
    });
    progress.finish();
    let table = learnt?.table(&words)?;
    let mut rows = vec![(
        "vectors",
        format!(
            "{} words x {} numbers: {} and .txt",
            count(table.words().len() as u64),
            table.dimensions(),
            folder.join("vectors.safetensors").display()
        ),
    )];
    for word in SHOWN {
        if let Some(row) = table.row(word) {
            let found = table.nearest(table.at(row), NEIGHBOURS, &[row]);
            let near: Vec<&str> = found.iter().map(|other| table.word(other.row)).collect();
            rows.push((word, format!("near {}", near.join(", "))));
        }
    }
    let alike = similarity(&table, &read_pairs(&similarity_file())?);
    if let Some(rho) = alike.spearman {
        let known = format!("{} of {} word pairs", alike.known, alike.pairs);
        rows.push(("similarity", format!("rank correlation {rho:.2} with the grammar, {known}")));
    }
    let sections = analogies(&table, &read_questions(&analogies_file())?, Method::Additive);
    let sum = |of: fn(&_) -> usize| sections.iter().map(of).sum::<usize>() as u64;
    let (known, right, five) =
        (sum(|section| section.known), sum(|section| section.right), sum(|section| section.right_among_five));
    rows.push((
        "analogies",
        format!(
            "{} answered first, {} among the first five, of {known}",
            percent(right, known),
            percent(five, known)
        ),
    ));
    let file = vector_file(&VectorsWay::Predicting(settings.clone()), vocabulary.clone(), table)?;
    file.save(set.file(&folder.join("vectors.safetensors"))?)?;
    file.save_text(set.file(&folder.join("vectors.txt"))?)?;
    screen.line(&format!("\n{}\n{}", screen.heading("Word vectors"), facts(screen, &rows)))
}
