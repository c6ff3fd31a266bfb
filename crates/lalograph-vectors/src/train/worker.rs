//! A worker: it learns from blocks of a text in numbers of its own.

use lalograph_net::numbers::chance::{Stream, stream};
use lalograph_net::numbers::sampler::Sampler;
use lalograph_net::vectorised;
use lalograph_text::Reserved;
use lalograph_text::tokens::TokenSequence;
use rand::RngExt;

use super::learnt::{LearningProgress, Learnt, Observer, WordRows};
use super::settings::{Direction, Settings};
use crate::objective::{Scratch, Weights, learn_against_samples, learn_among_all};
use crate::pieces::weight_of;
use crate::rows::Line;

/// The share of the first learning rate that is left at the end.
pub(super) const LAST_RATE: f64 = 1e-4;

/// Changes of a row in a block from which on it counts as one that every worker has moved most of its way.
pub(super) const MANY: f32 = 20.0;

/// The share of the changes of `workers` that is added where each of them has changed a row about `changes` times. Few changes are added in full, as if they had come one after the other. After many, every worker
/// has gone most of the way by itself, and their mean is taken: the sum would be as many times too far.
pub(super) fn share(workers: usize, changes: u32) -> f32 {
    let changes = changes as f32;
    1.0 / (1.0 + (workers as f32 - 1.0) * changes / (changes + MANY))
}

/// Data shared by all workers.
pub(super) struct Job<'t> {
    pub(super) settings: &'t Settings,
    pub(super) text: &'t TokenSequence,
    pub(super) rows: &'t WordRows,
    pub(super) keep: Vec<f64>,
    pub(super) sampler: Sampler,
    pub(super) words: u32,
    pub(super) total_tokens: u64,
    /// Tokens of a block.
    pub(super) block: usize,
    /// Blocks of the text.
    pub(super) blocks: usize,
}

/// Numbers of one worker's own. Workers are next to each other, and what one of them counts must not lie in a
/// cache line of another's: that alone took a third of the speed.
#[repr(align(128))]
pub(super) struct Worker {
    pub(super) own: Weights<f32>,
    /// The values of the rows touched since the last exchange, as they were then, in the order of [`Touched::rows`]; kept if the shared
    /// numbers may have changed since.
    pub(super) before: Option<Vec<Line<f32>>>,
    pub(super) touched: Touched,
    pub(super) scratch: Scratch<f32>,
    pub(super) kept: Vec<u32>,
    pub(super) inputs: Vec<(u32, f32)>,
    /// The target and its negative samples.
    pub(super) drawn: Vec<u32>,
    pub(super) loss: f64,
    /// The product of what predictions were given that are not yet in the loss: a logarithm takes long.
    pub(super) likelihood: f64,
    pub(super) predictions: u64,
}

/// Rows that have changed since the last exchange: inputs first, then outputs.
pub(super) struct Touched {
    pub(super) rows: Vec<u32>,
    /// Number of changes of each.
    pub(super) changes: Vec<u32>,
    pub(super) inputs: usize,
}

impl Touched {
    pub(super) fn clear(&mut self) {
        for &row in &self.rows {
            self.changes[row as usize] = 0;
        }
        self.rows.clear();
    }
}

impl Job<'_> {
    /// Blocks of all passes.
    pub(super) fn all_blocks(&self) -> usize {
        self.blocks * self.settings.epochs as usize
    }

    pub(super) fn worker(&self, common: &Weights<f32>, remembers: bool) -> Worker {
        let (inputs, outputs) = (common.input.count(), common.output.count());
        Worker {
            own: common.clone(),
            before: remembers.then(Vec::new),
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
    pub(super) fn rate(&self, block: usize) -> f32 {
        let done = block as f64 / self.all_blocks() as f64;
        (self.settings.learning_rate * (1.0 - done).max(LAST_RATE)) as f32
    }

    pub(super) fn tokens_before(&self, block: usize) -> u64 {
        let (pass, within) = (block / self.blocks, block % self.blocks);
        (pass * self.text.len() + (within * self.block).min(self.text.len())) as u64
    }

    pub(super) fn snapshot(&self, weights: Weights<f32>) -> Learnt {
        let rows = WordRows { rows: self.rows.rows.clone(), starts: self.rows.starts.clone() };
        Learnt { weights, rows, pieces: self.settings.pieces }
    }

    /// Reports progress and the loss since the last report to the observer; `latest` are the current numbers.
    pub(super) fn say(
        &self,
        block: usize,
        (loss, predictions): (f64, u64),
        observer: Observer<'_>,
        latest: &mut dyn FnMut() -> Weights<f32>,
    ) -> bool {
        let progress = LearningProgress {
            tokens: self.tokens_before(block),
            total_tokens: self.total_tokens,
            loss: (predictions > 0).then(|| loss / predictions as f64),
        };
        observer(&progress, &mut || self.snapshot(latest()))
    }
}

impl Worker {
    /// The loss of so many predictions.
    pub(super) fn loss_so_far(&self) -> (f64, u64) {
        (self.loss - self.likelihood.ln(), self.predictions)
    }

    /// The same; what comes then is counted again.
    pub(super) fn take_loss(&mut self) -> (f64, u64) {
        let loss = self.loss_so_far();
        (self.loss, self.likelihood, self.predictions) = (0.0, 1.0, 0);
        loss
    }

    /// The numbers of a row, counted as in [`Touched::rows`].
    pub(super) fn row(&self, row: u32) -> &[Line<f32>] {
        let inputs = self.touched.inputs as u32;
        if row < inputs { self.own.input.row(row) } else { self.own.output.row(row - inputs) }
    }

    /// The same, to be changed.
    pub(super) fn row_mut(&mut self, row: u32) -> &mut [Line<f32>] {
        let inputs = self.touched.inputs as u32;
        if row < inputs { self.own.input.row_mut(row) } else { self.own.output.row_mut(row - inputs) }
    }

    /// Remembers that a row is changed, and what it was before.
    #[inline(always)]
    pub(super) fn touch(
        own: &Weights<f32>,
        before: &mut Option<Vec<Line<f32>>>,
        touched: &mut Touched,
        row: usize,
    ) {
        touched.changes[row] += 1;
        if touched.changes[row] == 1 {
            touched.rows.push(row as u32);
            let Some(before) = before else { return };
            let (inputs, row) = (touched.inputs as u32, row as u32);
            let now = if row < inputs { own.input.row(row) } else { own.output.row(row - inputs) };
            before.extend_from_slice(now);
        }
    }

    /// Learns from a block.
    pub(super) fn learn(&mut self, job: &Job<'_>, block: usize) {
        let (pass, within) = (block / job.blocks, block % job.blocks);
        let range = within * job.block..((within + 1) * job.block).min(job.text.len());
        let mut random = stream(job.settings.seed, "word vectors", &[pass as u64, within as u64]);
        let rate = job.rate(block);
        let mut kept = std::mem::take(&mut self.kept);
        kept.clear();
        for at in range.clone() {
            let index = job.text.index(at);
            let ends = index == Reserved::END || at + 1 == range.end;
            let chance = job.keep[index as usize];
            if index >= Reserved::COUNT && (chance >= 1.0 || random.random::<f64>() < chance) {
                kept.push(index);
            }
            if ends {
                vectorised!(self.learn_document(job, &kept, rate, &mut random));
                kept.clear();
            }
        }
        self.kept = kept;
    }

    #[inline(always)]
    pub(super) fn learn_document(&mut self, job: &Job<'_>, words: &[u32], rate: f32, random: &mut Stream) {
        let Settings { window, fixed_window, direction, .. } = *job.settings;
        for (at, &word) in words.iter().enumerate() {
            let reach = if fixed_window { window } else { random.random_range(1..=window) };
            let (from, to) = (at.saturating_sub(reach), (at + reach + 1).min(words.len()));
            let around = words[from..at].iter().chain(&words[at + 1..to]);
            match direction {
                Direction::ContextToWord => {
                    self.inputs.clear();
                    let share = 1.0 / around.clone().count().max(1) as f32;
                    for &other in around {
                        let rows = job.rows.of(other);
                        let weight = share * weight_of(rows.len());
                        self.inputs.extend(rows.iter().map(|&row| (row, weight)));
                    }
                    if !self.inputs.is_empty() {
                        self.predict(job, word, rate, random);
                    }
                }
                Direction::WordToContext => {
                    self.inputs.clear();
                    let rows = job.rows.of(word);
                    let weight = weight_of(rows.len());
                    self.inputs.extend(rows.iter().map(|&row| (row, weight)));
                    for &other in around {
                        self.predict(job, other, rate, random);
                    }
                }
            }
        }
    }

    /// Predicts a word from what `inputs` holds.
    #[inline(always)]
    pub(super) fn predict(&mut self, job: &Job<'_>, target: u32, rate: f32, random: &mut Stream) {
        let Self { own, before, touched, scratch, inputs, drawn, .. } = self;
        for &(row, _) in inputs.iter() {
            Self::touch(own, before, touched, row as usize);
        }
        let outputs = touched.inputs;
        let likelihood = if job.settings.negative_samples > 0 {
            drawn.clear();
            drawn.push(target);
            for _ in 0..job.settings.negative_samples {
                let word = job.sampler.draw(random);
                // The target is never its own negative sample.
                if word != target {
                    drawn.push(word);
                }
            }
            for &word in drawn.iter() {
                Self::touch(own, before, touched, outputs + word as usize);
            }
            learn_against_samples(own, inputs, drawn, rate, scratch)
        } else {
            let words = Reserved::COUNT..job.words;
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
