//! Learning word vectors from a text, in two ways and on several threads.
//!
//! The text is cut into blocks. A worker learns from a block in numbers of its own and then exchanges what has changed with the others, row by row. There are two
//! kinds of exchange. *Repeatable*: all workers wait for each other, and their changes are added in a fixed order; the same seed gives the same vectors, to the bit, on any number of threads.
//! *Fast*: a worker adds its changes to the common numbers whenever it is done, without locks and without waiting; which changes the others have
//! seen by then is left to chance, and so is now and then a lost change.

mod in_order;

use std::sync::atomic::{AtomicBool, AtomicU32, AtomicUsize, Ordering::Relaxed};

use lalograph_net::heads::sampled::Sampler;
use lalograph_net::numbers::chance::{Stream, stream};
use lalograph_net::vectorised;
use lalograph_text::Reserved;
use lalograph_text::tokens::TokenSequence;
use rand::RngExt;
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::error::VectorError;
use crate::objective::{Scratch, Weights, learn_against_noise, learn_among_all};
use crate::pieces::Pieces;
use crate::pieces::weight_of;
use crate::rows::{LANES, Rows};
use crate::sampling;
use crate::table::VectorTable;

/// Which predicts which.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Direction {
    /// The mean of the words around predicts the word in the middle.
    ContextToWord,
    /// A word predicts each of the words around it.
    #[default]
    WordToContext,
}

/// How vectors are learnt.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Settings {
    /// Which predicts which.
    pub direction: Direction,
    /// Numbers of a vector.
    pub dimensions: usize,
    /// Words to either side that are the context, at most.
    pub window: usize,
    /// Whether it is always so wide, and not drawn from 1 to that for every word.
    pub fixed_window: bool,
    /// Noise words for each prediction; 0 for a softmax over the whole vocabulary.
    pub noise: usize,
    /// The share of the text above which words are left out now and then; 0 for none.
    pub subsample: f64,
    /// The learning rate at the beginning; it falls to almost nothing along a line.
    pub learning_rate: f64,
    /// Passes over the text.
    pub epochs: u64,
    /// Pieces of words that have rows of their own.
    pub pieces: Option<Pieces>,
    /// The seed of initial values and draws.
    pub seed: u64,
    /// Workers that wait for each other and add up their changes in order; none for the fast exchange, a worker a thread.
    pub lanes: Option<usize>,
}

impl Default for Settings {
    fn default() -> Self {
        Self {
            direction: Direction::WordToContext,
            dimensions: 100,
            window: 5,
            fixed_window: false,
            noise: 5,
            subsample: 1e-3,
            learning_rate: 0.05,
            epochs: 5,
            pieces: None,
            seed: 1,
            lanes: Some(2),
        }
    }
}

/// The share of the first learning rate that is left at the end.
const LAST_RATE: f64 = 1e-4;

/// Tokens between two exchanges, at least and at most. Large vocabularies have large blocks, since most of an exchange is rows that were touched once.
const BLOCKS: (usize, usize) = (512, 8192);

/// A text has so many blocks at most, as long as they do not grow too long: in a long text, an exchange less often is soon made up for.
const MOST_BLOCKS: usize = 500;

/// Changes of a row in a block from which on it counts as one that every worker has moved most of its way.
const MANY: f32 = 20.0;

/// The share of the changes of `workers` that is added where each of them has changed a row about `changes` times. Few changes are added in full, as if they had come one after the other. After many, every worker
/// has gone most of the way by itself, and their mean is taken: the sum would be as many times too far.
fn share(workers: usize, changes: u32) -> f32 {
    let changes = changes as f32;
    1.0 / (1.0 + (workers as f32 - 1.0) * changes / (changes + MANY))
}

impl Settings {
    /// Refuses what cannot be learnt by.
    ///
    /// # Errors
    /// A setting outside its range.
    pub fn check(&self) -> Result<(), VectorError> {
        let refuse = |setting, value: String, must| Err(VectorError::Setting { setting, value, must });
        let Self { dimensions, window, noise, subsample, learning_rate, epochs, .. } = *self;
        if !(1..=4096).contains(&dimensions) {
            return refuse("the number of dimensions", dimensions.to_string(), "1 to 4096");
        }
        if !(1..=1000).contains(&window) {
            return refuse("the window", window.to_string(), "1 to 1000");
        }
        if noise > 1000 {
            return refuse("the number of noise words", noise.to_string(), "at most 1000");
        }
        if !(0.0..=1.0).contains(&subsample) {
            return refuse("the share from which words are left out", subsample.to_string(), "0 to 1");
        }
        if !(learning_rate > 0.0 && learning_rate.is_finite()) {
            return refuse("the learning rate", learning_rate.to_string(), "above 0");
        }
        if epochs == 0 {
            return refuse("the number of epochs", epochs.to_string(), "1 or more");
        }
        if let Some(lanes) = self.lanes.filter(|lanes| !(1..=64).contains(lanes)) {
            return refuse("the number of lanes", lanes.to_string(), "1 to 64");
        }
        self.pieces.as_ref().map_or(Ok(()), Pieces::check)
    }
}

/// How far it has come.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Progress {
    /// Tokens read, of all passes.
    pub tokens: u64,
    /// Tokens to read.
    pub total_tokens: u64,
    /// Mean loss of the predictions since the last time this was said, in nats; none if there were none.
    pub loss: Option<f64>,
}

/// What was learnt.
#[derive(Debug)]
pub struct Learnt {
    weights: Weights<f32>,
    rows: WordRows,
    pieces: Option<Pieces>,
}

impl Learnt {
    /// The vectors of words as a table; `words` are the spellings of all indices, reserved ones first.
    ///
    /// # Errors
    /// Numbers that are not finite.
    pub fn table(&self, words: &[String]) -> Result<VectorTable, VectorError> {
        let first = Reserved::COUNT as usize;
        let input = &self.weights.input;
        let dimensions = input.width();
        let mut values = Vec::with_capacity((words.len() - first) * dimensions);
        for index in first..words.len() {
            let mut sum = vec![0.0; dimensions];
            let rows = self.rows.of(index as u32);
            for &row in rows {
                let weight = weight_of(rows.len());
                sum.iter_mut().zip(input.numbers_of(row)).for_each(|(sum, x)| *sum += weight * x);
            }
            values.extend(sum);
        }
        let table = VectorTable::new(words[first..].to_vec(), dimensions, values)?;
        Ok(match self.pieces {
            Some(pieces) => {
                let rows = (0..pieces.rows).map(|row| words.len() as u32 + row);
                table.with_pieces(pieces, rows.flat_map(|row| input.numbers_of(row).copied()).collect())
            }
            None => table,
        })
    }
}

/// The input rows of every word: its own, and those of its pieces.
#[derive(Debug)]
struct WordRows {
    rows: Vec<u32>,
    starts: Vec<usize>,
}

impl WordRows {
    fn new(words: &[String], pieces: Option<&Pieces>) -> Self {
        let (mut rows, mut starts) = (Vec::new(), vec![0]);
        for (index, word) in (0..).zip(words) {
            rows.push(index);
            if let Some(pieces) = pieces.filter(|_| index >= Reserved::COUNT) {
                rows.extend(pieces.of(word).into_iter().map(|row| words.len() as u32 + row));
            }
            starts.push(rows.len());
        }
        Self { rows, starts }
    }

    #[inline(always)]
    fn of(&self, word: u32) -> &[u32] {
        &self.rows[self.starts[word as usize]..self.starts[word as usize + 1]]
    }
}

/// What all workers read.
struct Task<'t> {
    settings: &'t Settings,
    text: &'t TokenSequence,
    rows: &'t WordRows,
    keep: Vec<f64>,
    noise: Sampler,
    words: u32,
    total_tokens: u64,
    /// Tokens of a block.
    block: usize,
    /// Blocks of the text.
    blocks: usize,
}

/// Numbers of one worker's own. Workers stand next to each other, and what one of them counts must not lie in a
/// cache line of another's: that alone took a third of the speed.
#[repr(align(128))]
struct Worker {
    own: Weights<f32>,
    /// What rows were when they were first touched after an exchange, where the common numbers may have changed since.
    before: Option<Weights<f32>>,
    touched: Touched,
    scratch: Scratch<f32>,
    kept: Vec<u32>,
    inputs: Vec<(u32, f32)>,
    /// A word that is predicted, and noise.
    drawn: Vec<u32>,
    loss: f64,
    /// The product of what predictions were given that are not yet in the loss: a logarithm takes long.
    likelihood: f64,
    predictions: u64,
}

/// Rows that have changed since the last exchange: inputs first, then outputs.
struct Touched {
    rows: Vec<u32>,
    /// How often each was changed.
    changes: Vec<u32>,
    inputs: usize,
}

impl Touched {
    fn clear(&mut self) {
        for &row in &self.rows {
            self.changes[row as usize] = 0;
        }
        self.rows.clear();
    }
}

/// Learns vectors for the indices of a vocabulary whose spellings are `words`, reserved ones first, from a text over it. Unknown words are passed over. `observer` is told how far
/// it has come, with what was learnt by then if it asks for it, and stops the work by returning `false`. Runs on the threads of the current pool.
///
/// # Errors
/// Settings outside their ranges; a text in which no word has a neighbour; numbers that grow beyond all bounds; a stop.
pub fn train(
    settings: &Settings,
    words: &[String],
    text: &TokenSequence,
    observer: &mut (dyn FnMut(&Progress, &mut dyn FnMut() -> Learnt) -> bool + Send),
) -> Result<Learnt, VectorError> {
    settings.check()?;
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
    let task = Task {
        settings,
        text,
        rows: &rows,
        keep: sampling::keep(&counts, settings.subsample),
        noise: sampling::noise(&counts),
        words: words.len() as u32,
        total_tokens: settings.epochs * text.len() as u64,
        block,
        blocks: text.len().div_ceil(block),
    };
    let done = match settings.lanes {
        Some(lanes) => in_order::learn(&task, &mut common, lanes, observer),
        None => task.without_waiting(&mut common, observer),
    };
    if !done {
        return Err(lalograph_text::TextError::Stopped.into());
    }
    if common.input.numbers().any(|x| !x.is_finite()) {
        return Err(VectorError::NotFinite);
    }
    Ok(Learnt { weights: common, rows, pieces: settings.pieces })
}

type Observer<'o> = &'o mut (dyn FnMut(&Progress, &mut dyn FnMut() -> Learnt) -> bool + Send);

impl Task<'_> {
    /// Blocks of all passes.
    fn all_blocks(&self) -> usize {
        self.blocks * self.settings.epochs as usize
    }

    fn worker(&self, common: &Weights<f32>, before: Option<Weights<f32>>) -> Worker {
        let (inputs, outputs) = (common.input.count(), common.output.count());
        Worker {
            own: common.clone(),
            before,
            touched: Touched { rows: Vec::new(), changes: vec![0; inputs + outputs], inputs },
            scratch: Scratch::default(),
            kept: Vec::new(),
            inputs: Vec::new(),
            drawn: Vec::new(),
            loss: 0.0,
            likelihood: 1.0,
            predictions: 0,
        }
    }

    /// The learning rate before a block.
    fn rate(&self, block: usize) -> f32 {
        let done = block as f64 / self.all_blocks() as f64;
        (self.settings.learning_rate * (1.0 - done).max(LAST_RATE)) as f32
    }

    fn tokens_before(&self, block: usize) -> u64 {
        let (pass, within) = (block / self.blocks, block % self.blocks);
        (pass * self.text.len() + (within * self.block).min(self.text.len())) as u64
    }

    fn snapshot(&self, weights: Weights<f32>) -> Learnt {
        let rows = WordRows { rows: self.rows.rows.clone(), starts: self.rows.starts.clone() };
        Learnt { weights, rows, pieces: self.settings.pieces }
    }

    /// Tells the observer how far it has come, and the loss of so many predictions since the last time; `latest` are the numbers by then.
    fn say(
        &self,
        block: usize,
        (loss, predictions): (f64, u64),
        observer: Observer<'_>,
        latest: &mut dyn FnMut() -> Weights<f32>,
    ) -> bool {
        let progress = Progress {
            tokens: self.tokens_before(block),
            total_tokens: self.total_tokens,
            loss: (predictions > 0).then(|| loss / predictions as f64),
        };
        observer(&progress, &mut || self.snapshot(latest()))
    }

    /// Every worker takes the next block and exchanges when it is done with it.
    fn without_waiting(&self, common: &mut Weights<f32>, observer: Observer<'_>) -> bool {
        let shared = Shared::of(common);
        let (next, stopped) = (AtomicUsize::new(0), AtomicBool::new(false));
        let observer = std::sync::Mutex::new(observer);
        let all = self.all_blocks();
        let workers = rayon::current_num_threads();
        let first: Vec<Worker> = (0..workers).map(|_| self.worker(common, Some(common.clone()))).collect();
        first.into_par_iter().for_each(|mut worker| {
            loop {
                let block = next.fetch_add(1, Relaxed);
                if block >= all || stopped.load(Relaxed) {
                    break;
                }
                worker.learn(self, block);
                worker.exchange(&shared, workers);
                // Whoever finds somebody else there has nothing to add.
                if let Ok(mut observer) = observer.try_lock() {
                    let loss = worker.take_loss();
                    let done = next.load(Relaxed).min(all);
                    if !self.say(done, loss, &mut **observer, &mut || worker.own.clone()) {
                        stopped.store(true, Relaxed);
                    }
                }
            }
        });
        shared.put(common);
        !stopped.load(Relaxed)
    }
}

/// Numbers that several threads change at once, as their bits.
struct Shared {
    input: Rows<AtomicU32>,
    output: Rows<AtomicU32>,
}

impl Shared {
    fn of(weights: &Weights<f32>) -> Self {
        let bits = |x: &f32| AtomicU32::new(x.to_bits());
        Self { input: weights.input.map(bits), output: weights.output.map(bits) }
    }

    fn put(self, weights: &mut Weights<f32>) {
        let number = |bits: &AtomicU32| f32::from_bits(bits.load(Relaxed));
        *weights = Weights { input: self.input.map(number), output: self.output.map(number) };
    }
}

impl Worker {
    /// The loss of so many predictions.
    fn loss_so_far(&self) -> (f64, u64) {
        (self.loss - self.likelihood.ln(), self.predictions)
    }

    /// The same; what comes then is counted anew.
    fn take_loss(&mut self) -> (f64, u64) {
        let loss = self.loss_so_far();
        (self.loss, self.likelihood, self.predictions) = (0.0, 1.0, 0);
        loss
    }

    /// Remembers that a row is changed, and what it was before.
    #[inline(always)]
    fn touch(own: &Weights<f32>, before: &mut Option<Weights<f32>>, touched: &mut Touched, row: usize) {
        touched.changes[row] += 1;
        if touched.changes[row] == 1 {
            touched.rows.push(row as u32);
            let Some(before) = before else { return };
            let (inputs, row) = (touched.inputs as u32, row as u32);
            if row < inputs {
                before.input.row_mut(row).copy_from_slice(own.input.row(row));
            } else {
                before.output.row_mut(row - inputs).copy_from_slice(own.output.row(row - inputs));
            }
        }
    }

    /// Adds what has changed to the shared numbers, and takes what they are then. Two workers that do so for a row at once may lose one of the changes.
    fn exchange(&mut self, shared: &Shared, workers: usize) {
        let Some(before) = &self.before else { return };
        let inputs = self.touched.inputs as u32;
        for &row in &self.touched.rows {
            let share = share(workers, self.touched.changes[row as usize]);
            let (shared, own, before) = if row < inputs {
                (shared.input.row(row), self.own.input.row_mut(row), before.input.row(row))
            } else {
                let row = row - inputs;
                (shared.output.row(row), self.own.output.row_mut(row), before.output.row(row))
            };
            for ((shared, own), before) in shared.iter().zip(own).zip(before) {
                for lane in 0..LANES {
                    let now =
                        f32::from_bits(shared.0[lane].load(Relaxed)) + share * (own.0[lane] - before.0[lane]);
                    shared.0[lane].store(now.to_bits(), Relaxed);
                    own.0[lane] = now;
                }
            }
        }
        self.touched.clear();
    }

    /// Learns from a block.
    fn learn(&mut self, task: &Task<'_>, block: usize) {
        let (pass, within) = (block / task.blocks, block % task.blocks);
        let range = within * task.block..((within + 1) * task.block).min(task.text.len());
        let mut random = stream(task.settings.seed, "word vectors", &[pass as u64, within as u64]);
        let rate = task.rate(block);
        let mut kept = std::mem::take(&mut self.kept);
        kept.clear();
        for at in range.clone() {
            let index = task.text.index(at);
            let ends = index == Reserved::END || at + 1 == range.end;
            let chance = task.keep[index as usize];
            if index >= Reserved::COUNT && (chance >= 1.0 || random.random::<f64>() < chance) {
                kept.push(index);
            }
            if ends {
                vectorised!(self.learn_document(task, &kept, rate, &mut random));
                kept.clear();
            }
        }
        self.kept = kept;
    }

    #[inline(always)]
    fn learn_document(&mut self, task: &Task<'_>, words: &[u32], rate: f32, random: &mut Stream) {
        let Settings { window, fixed_window, direction, .. } = *task.settings;
        for (at, &word) in words.iter().enumerate() {
            let reach = if fixed_window { window } else { random.random_range(1..=window) };
            let (from, to) = (at.saturating_sub(reach), (at + reach + 1).min(words.len()));
            let around = words[from..at].iter().chain(&words[at + 1..to]);
            match direction {
                Direction::ContextToWord => {
                    self.inputs.clear();
                    let share = 1.0 / around.clone().count().max(1) as f32;
                    for &other in around {
                        let rows = task.rows.of(other);
                        let weight = share * weight_of(rows.len());
                        self.inputs.extend(rows.iter().map(|&row| (row, weight)));
                    }
                    if !self.inputs.is_empty() {
                        self.predict(task, word, rate, random);
                    }
                }
                Direction::WordToContext => {
                    self.inputs.clear();
                    let rows = task.rows.of(word);
                    let weight = weight_of(rows.len());
                    self.inputs.extend(rows.iter().map(|&row| (row, weight)));
                    for &other in around {
                        self.predict(task, other, rate, random);
                    }
                }
            }
        }
    }

    /// Predicts a word from what `inputs` holds.
    #[inline(always)]
    fn predict(&mut self, task: &Task<'_>, target: u32, rate: f32, random: &mut Stream) {
        let Self { own, before, touched, scratch, inputs, drawn, .. } = self;
        for &(row, _) in inputs.iter() {
            Self::touch(own, before, touched, row as usize);
        }
        let outputs = touched.inputs;
        let likelihood = if task.settings.noise > 0 {
            drawn.clear();
            drawn.push(target);
            for _ in 0..task.settings.noise {
                let word = task.noise.draw(random);
                // A word is no noise to itself.
                if word != target {
                    drawn.push(word);
                }
            }
            for &word in drawn.iter() {
                Self::touch(own, before, touched, outputs + word as usize);
            }
            learn_against_noise(own, inputs, drawn, rate, scratch)
        } else {
            let words = Reserved::COUNT..task.words;
            for word in words.clone() {
                Self::touch(own, before, touched, outputs + word as usize);
            }
            learn_among_all(own, inputs, target, words, rate, scratch)
        };
        self.likelihood *= f64::from(likelihood);
        if self.likelihood < 1e-200 {
            self.loss -= std::mem::replace(&mut self.likelihood, 1.0).ln();
        }
        self.predictions += 1;
    }
}

#[cfg(test)]
mod tests {
    use super::{Direction, Progress, Settings, train};
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
        let mut observer = |progress: &Progress, _: &mut dyn FnMut() -> super::Learnt| {
            losses.extend(progress.loss);
            true
        };
        let learnt = pool.install(|| train(settings, &words, &text, &mut observer)).unwrap();
        (learnt.table(&words).unwrap(), losses)
    }

    #[test]
    fn words_of_one_kind_come_together_in_every_way_of_learning() {
        let pieces = crate::pieces::Pieces { shortest: 3, longest: 4, rows: 500 };
        for (noise, pieces, lanes) in
            [(5, None, Some(2)), (5, None, None), (0, None, Some(1)), (3, Some(pieces), Some(3))]
        {
            for direction in [Direction::ContextToWord, Direction::WordToContext] {
                let settings = Settings { direction, noise, pieces, lanes, ..settings() };
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
    fn what_cannot_be_learnt_by_or_from_is_refused_and_work_can_be_stopped() {
        let (words, text) = two_kinds(2);
        let usual = settings();
        for bad in [
            Settings { dimensions: 0, ..usual.clone() },
            Settings { window: 0, ..usual.clone() },
            Settings { learning_rate: f64::NAN, ..usual.clone() },
            Settings { subsample: -1.0, ..usual.clone() },
            Settings { epochs: 0, ..usual.clone() },
            Settings { lanes: Some(0), ..usual.clone() },
        ] {
            let refused = train(&bad, &words, &text, &mut |_, _| true);
            assert!(matches!(refused, Err(VectorError::Setting { .. })), "{bad:?}");
        }
        let lonely = TokenSequence::from_indices(vec![4, Reserved::END, Reserved::UNKNOWN, 5, Reserved::END]);
        assert!(matches!(train(&usual, &words, &lonely, &mut |_, _| true), Err(VectorError::TooLittle)));
        assert!(matches!(train(&usual, &words, &text, &mut |_, _| false), Err(VectorError::Text(_))));
        let wild = Settings { learning_rate: 1e30, ..usual };
        assert!(matches!(train(&wild, &words, &text, &mut |_, _| true), Err(VectorError::NotFinite)));
    }
}
