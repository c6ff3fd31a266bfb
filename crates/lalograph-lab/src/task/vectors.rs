//! Word vectors by a plan: learnt from a corpus, judged by what people or a grammar know of its words.

use std::fs;
use std::path::Path;

use lalograph_net::step::exchange::Exchange;
use lalograph_text::Vocabulary;
use lalograph_text::tokens::{EncodedCorpus, TokenSequence};
use lalograph_vectors::judge::{Method, Pair, Section, analogies, read_pairs, read_questions, similarity};
use lalograph_vectors::pmi::factorise;
use lalograph_vectors::train::{LearningProgress, Learnt, Settings, train_together};
use lalograph_vectors::{VectorError, VectorTable};

use crate::artefact::container::json;
use crate::artefact::vectors::VectorFile;
use crate::data::token_cache::TokenCache;
use crate::error::LabError;
use crate::plan::{Plan, VectorsPlan, VectorsWay};
use crate::run::records::{Evaluation, Figures};
use crate::task::events::PreparationObserver;
use crate::task::language::text::{Given, read_text};
use crate::training::company::next_tokens;

/// Reads the corpus of a plan of word vectors whole, as no part of it is held out.
///
/// # Errors
/// An unusable plan, corpus or vocabulary; a stop.
pub fn read_for_vectors(
    plan: &Plan,
    threads: usize,
    cache: Option<TokenCache<'_>>,
    observer: &mut dyn PreparationObserver,
) -> Result<(Vocabulary, EncodedCorpus), LabError> {
    let mut whole = plan.clone();
    (whole.corpus.validation_share, whole.corpus.test_share, whole.corpus.split) = (0.0, 0.0, None);
    read_text(&whole, threads, cache, Given::Nothing, observer)
}

/// Tokens that are read while vectors are made.
pub fn tokens_to_read(way: &VectorsWay, text: &TokenSequence) -> u64 {
    match way {
        VectorsWay::Predicting(settings) => settings.epochs * text.len() as u64,
        VectorsWay::Factorising(_) => text.len() as u64,
    }
}

/// Hears how far vectors have come, with what was learnt by then if there is anything to look at; `false` stops the work.
pub type Observer<'o> = dyn FnMut(&LearningProgress, Option<&mut dyn FnMut() -> Learnt>) -> bool + Send + 'o;

/// Makes vectors for the words of a vocabulary on the threads of the current pool. `observer` hears of the tokens read, with what was learnt by then if
/// there is anything to look at, and stops the work by returning `false`. Vectors that are learnt by predicting are learnt by all processes of an exchange, of which this is the
/// first and the others [`follow_vectors`].
///
/// # Errors
/// Settings outside their ranges; fewer lanes than processes; a text without neighbours; numbers beyond all bounds; a stop.
pub fn make_vectors(
    way: &VectorsWay,
    vocabulary: &Vocabulary,
    text: &TokenSequence,
    exchange: &mut dyn Exchange<f32>,
    observer: &mut Observer<'_>,
) -> Result<VectorTable, VectorError> {
    let words = vocabulary.spellings();
    match way {
        VectorsWay::Predicting(settings) => {
            let mut each = |reached: &LearningProgress, snapshot: &mut dyn FnMut() -> Learnt| {
                observer(reached, Some(snapshot))
            };
            send_vectors(exchange, settings, &words, text);
            train_together(settings, &words, text, exchange, &mut each)?.table(&words)
        }
        VectorsWay::Factorising(settings) => factorise(settings, &words, text, |share| {
            let tokens = (share * text.len() as f64) as u64;
            let total_tokens = text.len() as u64;
            observer(&LearningProgress { tokens, total_tokens, loss: None }, None)
        }),
    }
}

/// Sends the other processes what they learn vectors from.
fn send_vectors(
    exchange: &mut dyn Exchange<f32>,
    settings: &Settings,
    words: &[String],
    text: &TokenSequence,
) {
    if exchange.rank().count > 1 {
        exchange.lead(&serde_json::to_vec(&(settings, words)).unwrap_or_default());
        exchange.lead(bytemuck::cast_slice(&text.iter().collect::<Vec<u32>>()));
    }
}

/// Learns vectors with process 0, as another one, if it begins. `stops` says whether somebody here wants it to stop.
///
/// # Errors
/// A process that speaks another language; as for [`make_vectors`], as it is in process 0.
pub fn follow_vectors(
    exchange: &mut dyn Exchange<f32>,
    threads: usize,
    stops: &(dyn Fn() -> bool + Sync),
) -> Result<(), LabError> {
    let Some(word) = exchange.follow() else { return Ok(()) };
    let (settings, words): (Settings, Vec<String>) =
        serde_json::from_slice(&word).map_err(|_| LabError::OtherProgram)?;
    let text = next_tokens(exchange)?;
    let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build()?;
    let mut observer = |_: &LearningProgress, _: &mut dyn FnMut() -> Learnt| !stops();
    // Process 0 says why it failed or stopped.
    let _ = pool.install(|| train_together(&settings, &words, &text, exchange, &mut observer));
    Ok(())
}

/// Vectors as a file, with what is known of them.
///
/// # Errors
/// Their settings have no written form.
pub fn vector_file(
    way: &VectorsWay,
    vocabulary: Vocabulary,
    table: VectorTable,
) -> Result<VectorFile, LabError> {
    let made = match way {
        VectorsWay::Predicting(settings) => json(settings)?,
        VectorsWay::Factorising(settings) => serde_json::json!({
            "factorised": true, "dimensions": settings.dimensions, "window": settings.window,
            "shift": settings.shift, "seed": settings.seed,
        })
        .to_string(),
    };
    Ok(VectorFile { counts: Some(vocabulary.counts()), vocabulary: Some(vocabulary), table, made })
}

/// The files that vectors are judged by.
#[derive(Debug)]
pub struct Judges {
    pairs: Option<Vec<Pair>>,
    sections: Option<Vec<Section>>,
}

impl Judges {
    /// Reads the files that a plan names.
    ///
    /// # Errors
    /// A file that cannot be read, or a line of it that is none of its form.
    pub fn read(plan: &VectorsPlan) -> Result<Self, LabError> {
        Ok(Self {
            pairs: plan.similarity.as_deref().map(|path| read(path, read_pairs)).transpose()?,
            sections: plan.analogies.as_deref().map(|path| read(path, read_questions)).transpose()?,
        })
    }

    /// The figures of vectors: the rank correlation of their cosines with the similarities (0 where it has no value), and the share of analogies answered first.
    /// The loss is what is missing to 1 of their mean.
    pub fn evaluate(&self, table: &VectorTable) -> Evaluation {
        let mut figures = Figures::default();
        if let Some(pairs) = &self.pairs {
            figures = figures.with([("similarity", similarity(table, pairs).spearman.unwrap_or(0.0))]);
        }
        if let Some(sections) = &self.sections {
            let found = analogies(table, sections, Method::Additive);
            let sum = |of: fn(&_) -> usize| found.iter().map(of).sum::<usize>();
            let (known, right) = (sum(|section| section.known), sum(|section| section.right));
            figures = figures.with([("analogies", right as f64 / known.max(1) as f64)]);
        }
        let found: Vec<f64> = figures.iter().map(|(_, figure)| figure).collect();
        let mean = found.iter().sum::<f64>() / found.len().max(1) as f64;
        Evaluation { loss: 1.0 - mean, figures }
    }
}

/// Reads a file; a wrong line is named with it.
///
/// # Errors
/// The file cannot be read; a line that is none of its form.
pub fn read<T>(path: &Path, parse: impl Fn(&str) -> Result<T, VectorError>) -> Result<T, LabError> {
    let text = fs::read_to_string(path).map_err(LabError::at(path))?;
    parse(&text).map_err(|error| LabError::BadWordTask { path: path.to_owned(), source: Box::new(error) })
}

#[cfg(test)]
mod tests {
    use lalograph_vectors::VectorTable;
    use std::io::Write;

    use super::Judges;
    use crate::error::LabError;
    use crate::plan::VectorsPlan;

    /// Writes a file and has a plan name it.
    fn plan(folder: &std::path::Path, name: &str, text: &str) -> VectorsPlan {
        let path = folder.join(name);
        std::fs::File::create(&path).and_then(|mut file| file.write_all(text.as_bytes())).unwrap();
        match name {
            "pairs" => VectorsPlan { similarity: Some(path), ..VectorsPlan::default() },
            _ => VectorsPlan { analogies: Some(path), ..VectorsPlan::default() },
        }
    }

    #[test]
    fn the_loss_is_what_is_missing_to_one_of_the_mean_of_both_figures() {
        let folder = tempfile::tempdir().unwrap();
        let words = ["hive", "hives", "bee", "bees", "smoke"].map(str::to_owned).to_vec();
        let table =
            VectorTable::new(words, 2, vec![1.0, 0.0, 1.0, 0.5, 0.0, 1.0, 0.1, 1.4, -1.0, -1.0]).unwrap();
        // The cosines fall from pair to pair, as the given similarities do.
        let pairs = plan(folder.path(), "pairs", "hive hives 3\nhive bee 2\nhive smoke 1\n");
        let found = Judges::read(&pairs).unwrap().evaluate(&table);
        assert!((found.figure("similarity").unwrap() - 1.0).abs() < 1e-12 && found.loss.abs() < 1e-12);
        let questions = plan(folder.path(), "questions", "hive hives bee bees\nhive hives bee smoke\n");
        let both = VectorsPlan { analogies: questions.analogies, ..pairs };
        let found = Judges::read(&both).unwrap().evaluate(&table);
        assert_eq!(found.figure("analogies"), Some(0.5));
        assert!((found.loss - 0.25).abs() < 1e-12, "{found:?}");
    }

    #[test]
    fn a_wrong_line_is_named_with_its_file() {
        let folder = tempfile::tempdir().unwrap();
        let error = Judges::read(&plan(folder.path(), "pairs", "hive hives 3\nhive\n")).unwrap_err();
        let LabError::BadWordTask { path, source } = error else { panic!("{error}") };
        assert!(path.ends_with("pairs") && source.to_string().contains("line 2"), "{source}");
    }
}
