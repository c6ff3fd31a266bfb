//! Learning word vectors from a text, in two ways and on several threads.
//!
//! The text is cut into blocks. A worker learns from a block in numbers of its own and then exchanges what has changed with the others, row by row. There are two
//! kinds of exchange. *Repeatable*: all workers wait for each other, and their changes are added in a fixed order; the same seed gives the same vectors, to the bit, on any number of threads.
//! Several processes, each with some of the workers, learn the same vectors: they tell each other what their workers have changed.
//! *Fast*: a worker adds its changes to the common numbers whenever it is done, without locks and without waiting; which changes the others have
//! seen by then is left to chance, and so is now and then a lost change.

mod fast;
mod in_order;
mod learnt;
mod others;
mod settings;
mod worker;

use lalograph_net::numbers::chance::stream;
use lalograph_net::step::exchange::{Exchange, OneProcess};
use lalograph_text::Reserved;
use lalograph_text::tokens::TokenSequence;
use rand::RngExt;

pub use learnt::{LearningProgress, Learnt};
pub use settings::{Direction, Settings};

use crate::error::VectorError;
use crate::objective::Weights;
use crate::sampling;
use learnt::WordRows;
use worker::Job;

/// Tokens between two exchanges, at least and at most. Large vocabularies have large blocks, since most of an exchange is rows that were touched once.
const BLOCKS: (usize, usize) = (512, 8192);

/// A text has so many blocks at most, as long as they do not grow too long: in a long text, an exchange less often is soon made up for.
const MOST_BLOCKS: usize = 500;

/// Learns vectors for the indices of a vocabulary whose spellings are `words`, reserved ones first, from a text over it. Unknown words are skipped. `observer` is given how far
/// it has come, with what was learnt by then if it asks for it, and stops the work by returning `false`. Runs on the threads of the current pool.
///
/// # Errors
/// Settings outside their ranges; a text in which no word has a neighbour; numbers that grow beyond all bounds; a stop.
pub fn train(
    settings: &Settings,
    words: &[String],
    text: &TokenSequence,
    observer: &mut (dyn FnMut(&LearningProgress, &mut dyn FnMut() -> Learnt) -> bool + Send),
) -> Result<Learnt, VectorError> {
    train_together(settings, words, text, &mut OneProcess::default(), observer)
}

/// The same by several processes, which all call this with the same settings, words and text; each learns the lanes of its rank, and all end with the
/// vectors of one process. The observer of any of them stops all.
///
/// # Errors
/// As for [`train`]; fewer lanes than processes, of which the fast exchange has none.
pub fn train_together(
    settings: &Settings,
    words: &[String],
    text: &TokenSequence,
    exchange: &mut dyn Exchange<f32>,
    observer: &mut (dyn FnMut(&LearningProgress, &mut dyn FnMut() -> Learnt) -> bool + Send),
) -> Result<Learnt, VectorError> {
    settings.check()?;
    let processes = exchange.rank().count;
    if processes > 1 && settings.lanes.is_none_or(|lanes| lanes < processes) {
        return Err(VectorError::Setting {
            setting: "the number of lanes",
            value: settings.lanes.map_or_else(|| "none".into(), |lanes| lanes.to_string()),
            must: "that of the processes or more",
        });
    }
    let rows = WordRows::new(words, settings.pieces.as_ref());
    let inputs = words.len() + settings.pieces.map_or(0, |pieces| pieces.rows as usize);
    let mut common = Weights::new(settings.dimensions, inputs, words.len());
    let mut random = stream(settings.seed, "initial vectors", &[]);
    let half = 0.5 / settings.dimensions as f32;
    common.input.numbers_mut().for_each(|x| *x = random.random_range(-half..half));
    let counts = text.counts(words.len());
    if !text
        .bounds()
        .any(|document| document.clone().filter(|&at| text.index(at) >= Reserved::COUNT).take(2).count() == 2)
    {
        return Err(VectorError::TooLittle);
    }
    let block = (4 * words.len()).max(text.len() / MOST_BLOCKS).clamp(BLOCKS.0, BLOCKS.1);
    let job = Job {
        settings,
        text,
        rows: &rows,
        keep: sampling::keep(&counts, settings.subsample),
        sampler: sampling::negative_samples(&counts),
        words: words.len() as u32,
        total_tokens: settings.epochs * text.len() as u64,
        block,
        blocks: text.len().div_ceil(block),
    };
    let done = match settings.lanes {
        Some(lanes) => in_order::learn(&job, &mut common, lanes, exchange, observer),
        None => fast::learn(&job, &mut common, observer),
    };
    if !done {
        return Err(lalograph_text::TextError::Stopped.into());
    }
    text.check()?;
    if common.input.numbers().any(|x| !x.is_finite()) {
        return Err(VectorError::NotFinite);
    }
    Ok(Learnt { weights: common, rows, pieces: settings.pieces })
}

#[cfg(test)]
mod tests {
    use super::{Direction, LearningProgress, Settings, train};
    use crate::{VectorError, VectorTable};
    use lalograph_net::numbers::chance::stream;
    use lalograph_text::Reserved;
    use lalograph_text::tokens::TokenSequence;
    use rand::RngExt;

    /// Ten words of two kinds that never meet: 4 to 8 and 9 to 13.
    fn two_kinds(documents: usize) -> (Vec<String>, TokenSequence) {
        let words =
            (0..14).map(|index| format!("{}{index}", if index < 9 { "low" } else { "high" })).collect();
        let mut random = stream(9, "test", &[]);
        let mut indices = Vec::new();
        for document in 0..documents {
            let first = if document % 2 == 0 { 4 } else { 9 };
            indices.extend((0..20).map(|_| first + random.random_range(0..5u32)));
            indices.push(Reserved::END);
        }
        (words, TokenSequence::from_indices(indices))
    }

    fn settings() -> Settings {
        Settings { dimensions: 10, epochs: 8, subsample: 0.0, ..Settings::default() }
    }

    fn learn(settings: &Settings, threads: usize) -> (VectorTable, Vec<f64>) {
        let (words, text) = two_kinds(400);
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
        let mut losses = Vec::new();
        let mut observer = |progress: &LearningProgress, _: &mut dyn FnMut() -> super::Learnt| {
            losses.extend(progress.loss);
            true
        };
        let learnt = pool.install(|| train(settings, &words, &text, &mut observer)).unwrap();
        (learnt.table(&words).unwrap(), losses)
    }

    #[test]
    fn words_of_one_kind_come_together_in_every_way_of_learning() {
        let pieces = crate::pieces::Pieces { shortest: 3, longest: 4, rows: 500 };
        for (negative_samples, pieces, lanes) in
            [(5, None, Some(2)), (5, None, None), (0, None, Some(1)), (3, Some(pieces), Some(3))]
        {
            for direction in [Direction::ContextToWord, Direction::WordToContext] {
                let settings = Settings { direction, negative_samples, pieces, lanes, ..settings() };
                let (table, losses) = learn(&settings, 2);
                for row in 0..10 {
                    let near = table.nearest(table.at(row), 4, &[row]);
                    assert!(near.iter().all(|other| other.row / 5 == row / 5), "{settings:?}: {near:?}");
                }
                // The best is soon reached, and then stays.
                let last = &losses[losses.len() - losses.len() / 4..];
                let mean = last.iter().sum::<f64>() / last.len() as f64;
                assert!(mean < losses[0], "{settings:?}: {} {mean}", losses[0]);
            }
        }
    }

    #[test]
    fn repeatable_learning_is_the_same_to_the_bit_on_any_number_of_threads() {
        let settings = Settings { lanes: Some(3), subsample: 0.05, ..settings() };
        let (one, _) = learn(&settings, 1);
        for threads in [2, 5] {
            assert_eq!(learn(&settings, threads).0.values(), one.values());
        }
        let other = Settings { seed: 2, ..settings };
        assert_ne!(learn(&other, 1).0.values(), one.values());
    }

    #[test]
    fn impossible_settings_and_texts_are_refused_and_work_can_be_stopped() {
        let (words, text) = two_kinds(2);
        let default = settings();
        for bad in [
            Settings { dimensions: 0, ..default.clone() },
            Settings { window: 0, ..default.clone() },
            Settings { learning_rate: f64::NAN, ..default.clone() },
            Settings { subsample: -1.0, ..default.clone() },
            Settings { epochs: 0, ..default.clone() },
            Settings { lanes: Some(0), ..default.clone() },
        ] {
            let refused = train(&bad, &words, &text, &mut |_, _| true);
            assert!(matches!(refused, Err(VectorError::Setting { .. })), "{bad:?}");
        }
        let lonely = TokenSequence::from_indices(vec![4, Reserved::END, Reserved::UNKNOWN, 5, Reserved::END]);
        assert!(matches!(train(&default, &words, &lonely, &mut |_, _| true), Err(VectorError::TooLittle)));
        assert!(matches!(train(&default, &words, &text, &mut |_, _| false), Err(VectorError::Text(_))));
        let wild = Settings { learning_rate: 1e30, ..default };
        assert!(matches!(train(&wild, &words, &text, &mut |_, _| true), Err(VectorError::NotFinite)));
    }
}
