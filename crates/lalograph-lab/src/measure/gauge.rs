//! Speed of this machine: matrix products, and training and sampling by a plan on made-up tokens.

use std::time::Instant;

use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::models::language::LanguageLane;
use lalograph_net::numbers::chance::{Stream, stream};
use lalograph_net::numbers::sampler::Sampler;
use lalograph_net::products::limit::Instructions;
use lalograph_net::products::multiply::multiply_packed;
use lalograph_net::products::pack::{Packed, Workspace};
use lalograph_net::products::view::{Accumulation, Matrix, MatrixMut};
use lalograph_net::step::exchange::OneProcess;
use lalograph_net::weights::first_values::first_values;
use lalograph_net::weights::packed::PackedWeights;
use lalograph_net::{LanguageModel, Network, vectorised};
use lalograph_text::Reserved;
use lalograph_text::tokens::TokenSequence;
use rayon::prelude::*;
use serde::Serialize;

use super::cost::{zipf_counts, zipf_share};
use crate::data::windows::TrainingWindows;
use crate::error::LabError;
use crate::plan::Plan;
use crate::training::settings::trainer_settings;
use crate::training::trainer::Trainer;
use crate::writing::decoding::{Decoding, choose};

/// Rows, columns and depth of the product that products are measured by.
const SIDE: usize = 2048;

/// A spread of measurements.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Spread {
    /// The middle one.
    pub median: f64,
    /// The lowest.
    pub lowest: f64,
    /// The highest.
    pub highest: f64,
}

impl Spread {
    pub(super) fn of(mut values: Vec<f64>) -> Self {
        values.sort_by(f64::total_cmp);
        let at = |index: usize| values.get(index).copied().unwrap_or(f64::NAN);
        Self { median: at(values.len() / 2), lowest: at(0), highest: at(values.len().saturating_sub(1)) }
    }
}

/// What no program can exceed: multiplications and additions in registers alone, on all threads.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Limit {
    /// Name of the set of instructions; the widest of the machine comes first, and shares are shares of it.
    pub instructions: &'static str,
    /// Thousand million operations a second.
    pub gigaflops: Spread,
}

impl Limit {
    /// The spread of each set of instructions over rounds, in operations a second.
    pub(super) fn of(sets: &[Instructions], rounds: &[Vec<f64>]) -> Vec<Self> {
        let limit = |(set, speeds): (&Instructions, &Vec<f64>)| Self {
            instructions: set.name,
            gigaflops: Spread::of(speeds.iter().map(|speed| speed / 1e9).collect()),
        };
        sets.iter().zip(rounds).map(limit).collect()
    }
}

/// Multiplies and adds in registers on all threads; returns the number of operations.
pub(super) fn multiply_and_add(instructions: Instructions) -> f64 {
    rayon::broadcast(|_| instructions.run()).into_iter().sum::<usize>() as f64
}

/// The measurements.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Gauge {
    /// Threads used.
    pub threads: usize,
    /// Rounds measured; every figure is taken in each.
    pub rounds: usize,
    /// How fast this machine multiplies and adds in registers.
    pub limits: Vec<Limit>,
    /// Matrix products of 2,048 x 2,048 numbers, in thousand million operations a second.
    pub products_gigaflops: Spread,
    /// The second over the first, round by round.
    pub products_share_of_limit: Spread,
    /// Tokens learnt from in a second: everything included, from taking a window to moving the weights.
    pub training_tokens_per_second: Spread,
    /// The matrix operations in that, in thousand million a second.
    pub training_gigaflops: Spread,
    /// Those over the limit, round by round.
    pub training_share_of_limit: Spread,
    /// Tokens written in a second, one after the other.
    pub sampling_tokens_per_second: Spread,
    /// Weights that are read for one of them, in bytes: all but the token vectors, of which one is.
    pub sampling_bytes_per_token: u64,
    /// Bytes that one thread reads in a second from as many numbers, again and again: how fast weights can be read at all.
    pub reading_bytes_per_second: Spread,
    /// Tokens a second over those that reading alone would allow, round by round.
    pub sampling_share_of_limit: Spread,
    /// Sampled tokens a second, for some number of texts side by side on one thread.
    pub batch_sampling_tokens_per_second: Spread,
    /// Number of texts.
    pub batch_sampling_texts: usize,
}

/// Texts that are written side by side.
const TEXTS: usize = 32;

/// A model that is trained on made-up tokens, and the matrix product beside it.
pub struct Bench {
    plan: Plan,
    model: LanguageModel,
    text: TokenSequence,
    operations_per_token: f64,
}

impl Bench {
    /// Lays out a plan's model over a vocabulary, and makes up tokens whose counts fall as one over the rank.
    ///
    /// # Errors
    /// A model that cannot be made.
    pub fn new(plan: &Plan, vocabulary: usize) -> Result<Self, LabError> {
        let model = LanguageModel::new(plan.shape(vocabulary))?;
        let sampler = Sampler::new(&zipf_counts(vocabulary), &Reserved::NEVER_PREDICTED);
        let mut random = stream(plan.training.seed, "made-up tokens", &[]);
        // Enough windows that none is soon met again.
        let tokens = plan.training.batch * plan.training.window * 20;
        let text = TokenSequence::from_indices((0..tokens).map(|_| sampler.draw(&mut random)).collect());
        let share = zipf_share(vocabulary);
        let operations_per_token = model.operations(plan.training.window, &share).training;
        Ok(Self { plan: plan.clone(), model, text, operations_per_token })
    }

    /// Measures in `rounds` rounds of about `seconds` each, on `threads` threads. In each round limit, product and training take turns, so
    /// that what else the machine does falls on both. `progress` is given the rounds done, and stops by returning `false`.
    ///
    /// # Errors
    /// Threads that cannot be started.
    pub fn measure(
        &self,
        threads: usize,
        rounds: usize,
        seconds: f64,
        progress: impl FnMut(usize) -> bool + Send,
    ) -> Result<Gauge, LabError> {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build()?;
        Ok(pool.install(|| self.measure_in_pool(threads, rounds, seconds, progress)))
    }

    fn measure_in_pool(
        &self,
        threads: usize,
        rounds: usize,
        seconds: f64,
        mut progress: impl FnMut(usize) -> bool,
    ) -> Gauge {
        let mut product = Product::new(threads);
        let mut training = Training::new(self);
        let mut sampling = Sampling::new(self, 1);
        let mut side_by_side = Sampling::new(self, TEXTS);
        let read_bytes = 4 * weights_read(&self.model);
        let numbers = vec![1.0f32; read_bytes / 4];
        // Once each before it counts: pages, caches and clocks settle.
        product.run();
        training.step();
        sampling.step();
        side_by_side.step();
        let sets = Instructions::of_this_machine();
        let mut limits = vec![Vec::new(); sets.len()];
        let mut products = Vec::new();
        let mut speeds = Vec::new();
        let mut samplings = Vec::new();
        let mut readings = Vec::new();
        let mut batches = Vec::new();
        for round in 0..rounds.max(1) {
            // In turns of about a tenth of the round each.
            let (mut product_done, mut product_time) = (0.0, 0.0);
            let (mut tokens_done, mut training_time) = (0.0, 0.0);
            let mut limits_done = vec![(0.0, 0.0); sets.len()];
            let start = Instant::now();
            while start.elapsed().as_secs_f64() < seconds || product_done == 0.0 {
                let (count, time) = repeat(seconds / 20.0, || product.run());
                product_done += count;
                product_time += time;
                let (count, time) = repeat(seconds / 10.0, || training.step());
                tokens_done += count;
                training_time += time;
                for (&set, (done, total)) in sets.iter().zip(&mut limits_done) {
                    let (count, time) = repeat(seconds / 50.0, || multiply_and_add(set));
                    *done += count;
                    *total += time;
                }
            }
            for (speeds, (done, time)) in limits.iter_mut().zip(limits_done) {
                speeds.push(done / time);
            }
            products.push(product_done / product_time);
            speeds.push(tokens_done / training_time);
            let (mut written, mut writing_time) = (0.0, 0.0);
            let (mut read, mut reading_time) = (0.0, 0.0);
            for _ in 0..5 {
                let (count, time) = repeat(seconds / 25.0, || sampling.step());
                written += count;
                writing_time += time;
                let (count, time) = repeat(seconds / 50.0, || read_all(&numbers));
                read += count;
                reading_time += time;
            }
            samplings.push(written / writing_time);
            readings.push(read / reading_time);
            let (count, time) = repeat(seconds / 10.0, || side_by_side.step());
            batches.push(count / time);
            if !progress(round + 1) {
                break;
            }
        }
        let flops = |speed: f64| speed * self.operations_per_token / 1e9;
        Gauge {
            threads,
            rounds: products.len(),
            training_share_of_limit: Spread::of(
                speeds.iter().zip(&limits[0]).map(|(&speed, limit)| flops(speed) * 1e9 / limit).collect(),
            ),
            products_share_of_limit: Spread::of(
                products.iter().zip(&limits[0]).map(|(product, limit)| product / limit).collect(),
            ),
            limits: Limit::of(&sets, &limits),
            training_gigaflops: Spread::of(speeds.iter().map(|&speed| flops(speed)).collect()),
            training_tokens_per_second: Spread::of(speeds),
            products_gigaflops: Spread::of(products.iter().map(|speed| speed / 1e9).collect()),
            sampling_share_of_limit: Spread::of(
                samplings.iter().zip(&readings).map(|(&s, read)| s * read_bytes as f64 / read).collect(),
            ),
            sampling_tokens_per_second: Spread::of(samplings),
            sampling_bytes_per_token: read_bytes as u64,
            reading_bytes_per_second: Spread::of(readings),
            batch_sampling_tokens_per_second: Spread::of(batches),
            batch_sampling_texts: TEXTS,
        }
    }
}

/// Repeats something for about so long; returns the sum of what it yields and the seconds taken.
fn repeat(seconds: f64, mut once: impl FnMut() -> f64) -> (f64, f64) {
    let start = Instant::now();
    let mut sum = 0.0;
    loop {
        sum += once();
        let elapsed = start.elapsed().as_secs_f64();
        if elapsed >= seconds {
            return (sum, elapsed);
        }
    }
}

/// Repeats several things in turns for about so long in all; returns for each what it yields in a second.
pub(super) fn taking_turns(seconds: f64, things: &mut [&mut dyn FnMut() -> f64]) -> Vec<f64> {
    const TURNS: usize = 5;
    let each = seconds / (TURNS * things.len()) as f64;
    let mut found = vec![(0.0, 0.0); things.len()];
    for _ in 0..TURNS {
        for (thing, (sum, time)) in things.iter_mut().zip(&mut found) {
            // Once before it counts: caches and clocks settle.
            thing();
            let (count, seconds) = repeat(each, &mut **thing);
            *sum += count;
            *time += seconds;
        }
    }
    found.into_iter().map(|(sum, time)| sum / time).collect()
}

/// A square product, each thread some of its rows.
pub(super) struct Product {
    left: Vec<f32>,
    right: Vec<f32>,
    packed: Packed<f32>,
    parts: Vec<(Vec<f32>, Workspace<f32>)>,
}

impl Product {
    pub(super) fn new(threads: usize) -> Self {
        let numbers =
            |seed: usize| (0..SIDE * SIDE).map(|i| ((i * 31 + seed) % 17) as f32 / 17.0 - 0.5).collect();
        let rows = |part: usize| (part + 1) * SIDE / threads - part * SIDE / threads;
        Self {
            left: numbers(1),
            right: numbers(2),
            packed: Packed::new(SIDE, SIDE),
            parts: (0..threads).map(|part| (vec![0.0; rows(part) * SIDE], Workspace::new())).collect(),
        }
    }

    pub(super) fn run(&mut self) -> f64 {
        let threads = self.parts.len();
        self.packed.pack_side_by_side(Matrix::new(&self.right, SIDE, SIDE));
        let left = Matrix::new(&self.left, SIDE, SIDE);
        let packed = &self.packed;
        self.parts.par_iter_mut().enumerate().for_each(|(part, (out, work))| {
            let (from, to) = (part * SIDE / threads, (part + 1) * SIDE / threads);
            let mut out = MatrixMut::new(out, to - from, SIDE);
            multiply_packed(left.rows(from, to), packed, &mut out, Accumulation::Replace, work);
        });
        2.0 * (SIDE * SIDE * SIDE) as f64
    }
}

/// Training steps as a run makes them.
struct Training<'b>(Trainer<'b, LanguageModel>);

impl<'b> Training<'b> {
    fn new(bench: &'b Bench) -> Self {
        let shared = bench.model.shared(|| zipf_counts(bench.model.shape().vocabulary));
        let windows = Box::new(TrainingWindows::new(&bench.text, &bench.plan.training));
        let (settings, exchange) = (trainer_settings(&bench.plan, 1000), Box::new(OneProcess::default()));
        Self(Trainer::new(&bench.model, settings, windows, exchange, shared))
    }

    fn step(&mut self) -> f64 {
        // The text is in memory, where nothing is lost.
        let Ok(learnt) = self.0.learn() else { return 0.0 };
        // Small, so that made-up text does not drive the weights anywhere.
        self.0.apply(1e-5);
        learnt.tokens as f64
    }
}

/// Weights that one step of one text has to read.
fn weights_read(model: &LanguageModel) -> usize {
    let shape = model.shape();
    // The token vectors of a tied model are its output as well.
    let idle = if shape.tied { 0 } else { (shape.vocabulary - 1) * shape.embedding };
    model.layout().len() - idle
}

/// Reads numbers as fast as one thread can; returns how many bytes.
fn read_all(numbers: &[f32]) -> f64 {
    const WIDTH: usize = 64;
    let sum: f32 = vectorised!({
        let mut lanes = [0.0f32; WIDTH];
        for chunk in numbers.chunks_exact(WIDTH) {
            for (lane, x) in lanes.iter_mut().zip(chunk) {
                *lane += x;
            }
        }
        lanes.iter().sum()
    });
    std::hint::black_box(sum);
    4.0 * numbers.len() as f64
}

/// Texts that are written token by token, side by side.
struct Sampling<'b> {
    bench: &'b Bench,
    weights: Vec<f32>,
    packed: PackedWeights<f32>,
    lane: LanguageLane<f32>,
    scores: Vec<f32>,
    random: Stream,
    tokens: Vec<u32>,
}

impl<'b> Sampling<'b> {
    fn new(bench: &'b Bench, texts: usize) -> Self {
        let model = &bench.model;
        let weights = first_values(model.layout(), 1);
        Self {
            packed: PackedWeights::reading(model.layout(), &weights),
            weights,
            lane: model.reading_lane(Extent { steps: 1, rows: texts }, false),
            scores: vec![0.0; texts * model.shape().vocabulary],
            random: stream(1, "sampling", &[]),
            tokens: vec![1; texts],
            bench,
        }
    }

    fn step(&mut self) -> f64 {
        let model = &self.bench.model;
        let weights = self.packed.with(&self.weights);
        model.forward(weights, &self.tokens, None, &mut self.lane, None);
        model.last_scores(weights, &mut self.lane, &mut self.scores);
        let decoding = Decoding::at_temperature(1.0);
        for (token, scores) in self.tokens.iter_mut().zip(self.scores.chunks_exact(model.shape().vocabulary))
        {
            *token = choose(scores, &decoding, &[], &mut self.random);
        }
        self.tokens.len() as f64
    }
}
