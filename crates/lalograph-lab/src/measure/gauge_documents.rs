//! Speed of this machine with a classifier: training and prediction by a plan on made-up documents, beside matrix products and the reading of token
//! vectors.

use lalograph_net::blocks::regularisation::LaneUse;
use lalograph_net::models::classifier::{Classifier, ClassifierInput};
use lalograph_net::models::network::LaneRoom;
use lalograph_net::numbers::chance::stream;
use lalograph_net::numbers::sampler::Sampler;
use lalograph_net::products::limit::Instructions;
use lalograph_net::step::exchange::OneProcess;
use lalograph_net::step::lanes::Lanes;
use lalograph_net::step::team::Team;
use lalograph_net::weights::first_values::first_values;
use lalograph_net::weights::packed::PackedWeights;
use lalograph_net::{Network, vectorised};
use lalograph_text::Reserved;
use lalograph_text::tokens::TokenSequence;
use rand::RngExt;
use rayon::prelude::*;
use serde::Serialize;

use super::cost::zipf_counts;
use super::gauge::{Limit, Product, Spread, multiply_and_add, taking_turns};
use crate::data::documents::{DocumentBatches, Documents, NumberRows};
use crate::data::source::Windows;
use crate::error::LabError;
use crate::plan::{DocumentLength, Keep, Plan, PlanError};
use crate::training::settings::trainer_settings;
use crate::training::trainer::Trainer;

/// Tokens or rows of a made-up document, if the plan's length is no number.
const LENGTH: usize = 200;
/// Batches of made-up documents, at most: enough that none is soon met again.
const BATCHES: usize = 20;
/// Tokens of all batches, about, and of one at most.
const TOKENS: [usize; 2] = [20_000_000, 1 << 26];

/// The measurements.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct DocumentGauge {
    /// Threads used.
    pub threads: usize,
    /// Rounds measured; every figure is taken in each.
    pub rounds: usize,
    /// How fast this machine multiplies and adds in registers.
    pub limits: Vec<Limit>,
    /// Matrix products of 2,048 x 2,048 numbers, in thousand million operations a second.
    pub products_gigaflops: Spread,
    /// Tokens or rows learnt from in a second: everything included, from taking a batch to moving the weights.
    pub training_tokens_per_second: Spread,
    /// The matrix operations in that, in thousand million a second.
    pub training_gigaflops: Spread,
    /// Those over the limit, round by round.
    pub training_share_of_limit: Spread,
    /// Tokens or rows read for predictions in a second.
    pub predicting_tokens_per_second: Spread,
    /// The matrix operations in that over the limit, round by round.
    pub predicting_share_of_limit: Spread,
    /// For text: what the memory allows a network that does little else than read token vectors.
    pub vectors: Option<VectorGauge>,
}

/// Token vectors alone, read and moved by all threads as a pooled network does it.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct VectorGauge {
    /// Tokens whose vectors can be added to a sum in a second.
    pub reading_tokens_per_second: Spread,
    /// The same where every vector's gradient is added to as well, and weights, gradient and two numbers of the optimiser for each are read
    /// and written for the vectors that a batch has.
    pub learning_tokens_per_second: Spread,
    /// Tokens predicted from over the first, round by round.
    pub predicting_share: Spread,
    /// Tokens learnt from over the second, round by round.
    pub training_share: Spread,
}

/// A classifier that is trained on made-up documents.
pub struct DocumentBench {
    plan: Plan,
    net: Classifier,
    documents: Documents,
    length: usize,
    /// Tokens of all documents, for the reading of their vectors alone.
    tokens: Vec<u32>,
}

impl DocumentBench {
    /// Classes of the documents.
    pub const CLASSES: usize = 4;

    /// Lays out a plan's network over a vocabulary, and makes up documents: of one length, their tokens with counts that fall as one over the
    /// rank. `None` for a linear network, which is solved and not trained by steps.
    ///
    /// # Errors
    /// A network that cannot be made.
    pub fn new(plan: &Plan, vocabulary: usize) -> Result<Option<Self>, LabError> {
        let own = plan.classifier.clone().unwrap_or_default();
        let input = match own.features {
            Some(features) => ClassifierInput::Numbers { features },
            None => ClassifierInput::Tokens { vocabulary, embedding: plan.widths().0 },
        };
        let Some(shape) = plan.classifier_shape(input, Self::CLASSES, Vec::new()) else { return Ok(None) };
        let net = Classifier::new(shape)?;
        let length = match (own.time_steps, own.length) {
            (Some(steps), _) if own.features.is_some() => steps,
            (_, DocumentLength::Tokens(tokens)) => tokens,
            _ => LENGTH,
        };
        let batch_tokens = plan.training.batch.saturating_mul(length);
        if batch_tokens > TOKENS[1] {
            let must = "a length of which a batch has at most 67,108,864 tokens";
            return Err(PlanError::Range { key: "classifier.length", value: length.to_string(), must }.into());
        }
        let count = plan.training.batch * (TOKENS[0] / batch_tokens.max(1)).clamp(1, BATCHES);
        let classes: Vec<u32> = (0..count).map(|number| (number % Self::CLASSES) as u32).collect();
        let mut random = stream(plan.training.seed, "made-up documents", &[]);
        let (documents, tokens) = match own.features {
            Some(features) => {
                let numbers = (0..count * length * features).map(|_| random.random_range(-1.0f32..1.0));
                let rows = NumberRows { numbers: numbers.collect(), steps: vec![length; count], classes };
                (Documents::of_numbers(rows, features, None, Keep::Beginning), Vec::new())
            }
            None => {
                let sampler = Sampler::new(&zipf_counts(vocabulary), &Reserved::NEVER_PREDICTED);
                // An end token inside would be the end of a document.
                let draw = |random: &mut _| {
                    Some(sampler.draw(random))
                        .filter(|&token| token != Reserved::END)
                        .unwrap_or(Reserved::UNKNOWN)
                };
                let tokens: Vec<u32> = (0..count * length).map(|_| draw(&mut random)).collect();
                let with_ends = tokens
                    .chunks(length)
                    .flat_map(|document| document.iter().copied().chain([Reserved::END]));
                let text = TokenSequence::from_indices(with_ends.collect()).with_labels(classes);
                (Documents::new(text, None, Keep::Beginning), tokens)
            }
        };
        Ok(Some(Self { plan: plan.clone(), net, documents, length, tokens }))
    }

    /// Tokens or rows of each document.
    pub fn length(&self) -> usize {
        self.length
    }

    /// Bytes that training needs.
    pub fn bytes(&self) -> u64 {
        let layout = self.net.layout();
        let extent = DocumentBatches::new(&self.documents, self.plan.training.batch, 0).extent();
        let room =
            LaneRoom { extent, used_for: LaneUse::Training(self.plan.regularisation()), resets: false };
        let lane: usize = self.net.lane_bytes(room).iter().sum();
        let arrays = 2 + self.plan.optimiser(1).state_parts();
        (layout.len() * size_of::<f32>() * arrays + PackedWeights::<f32>::bytes_for(layout) + lane) as u64
    }

    /// Measures in `rounds` rounds of about `seconds` each, on `threads` threads. In each round everything takes turns, so that what else the
    /// machine does falls on all. `progress` is given the rounds done, and stops by returning `false`.
    ///
    /// # Errors
    /// Threads that cannot be started.
    pub fn measure(
        &self,
        threads: usize,
        rounds: usize,
        seconds: f64,
        mut progress: impl FnMut(usize) -> bool + Send,
    ) -> Result<DocumentGauge, LabError> {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build()?;
        Ok(pool.install(|| self.measure_in_pool(threads, rounds, seconds, &mut progress)))
    }

    fn measure_in_pool(
        &self,
        threads: usize,
        rounds: usize,
        seconds: f64,
        progress: &mut dyn FnMut(usize) -> bool,
    ) -> DocumentGauge {
        let mut product = Product::new(threads);
        let mut training = Training::new(self);
        let mut prediction = Prediction::new(self);
        let mut reading = (!self.tokens.is_empty()).then(|| Vectors::new(self, threads));
        let mut learning = (!self.tokens.is_empty()).then(|| Vectors::new(self, threads));
        let sets = Instructions::of_this_machine();
        let mut limits: Vec<_> = sets.iter().map(|&set| move || multiply_and_add(set)).collect();
        let mut columns = vec![Vec::new(); sets.len() + 5];
        for round in 0..rounds.max(1) {
            let (mut product, mut train) = (|| product.run(), || training.step());
            let mut predict = || prediction.step();
            let mut read = reading.as_mut().map(|vectors| || vectors.read());
            let mut learn = learning.as_mut().map(|vectors| || vectors.learn());
            let mut things: Vec<&mut dyn FnMut() -> f64> = Vec::new();
            things.extend(limits.iter_mut().map(|limit| limit as &mut dyn FnMut() -> f64));
            things.extend([&mut product as &mut dyn FnMut() -> f64, &mut train, &mut predict]);
            things.extend(read.as_mut().map(|read| read as &mut dyn FnMut() -> f64));
            things.extend(learn.as_mut().map(|learn| learn as &mut dyn FnMut() -> f64));
            let speeds = taking_turns(seconds, &mut things);
            columns.iter_mut().zip(speeds).for_each(|(column, speed)| column.push(speed));
            if !progress(round + 1) {
                break;
            }
        }
        let mut rest = columns.split_off(sets.len());
        let limits = columns;
        let [products, trained, predicted, read, learnt] =
            std::array::from_fn(|index| std::mem::take(&mut rest[index]));
        let work = self.net.operations(self.length as f64);
        let share = |speeds: &[f64], operations: f64, of: &[f64]| {
            Spread::of(speeds.iter().zip(of).map(|(speed, of)| speed * operations / of).collect())
        };
        let vectors = (!read.is_empty()).then(|| VectorGauge {
            predicting_share: share(&predicted, 1.0, &read),
            training_share: share(&trained, 1.0, &learnt),
            reading_tokens_per_second: Spread::of(read),
            learning_tokens_per_second: Spread::of(learnt),
        });
        DocumentGauge {
            threads,
            rounds: products.len(),
            training_gigaflops: Spread::of(trained.iter().map(|speed| speed * work.training / 1e9).collect()),
            training_share_of_limit: share(&trained, work.training, &limits[0]),
            predicting_share_of_limit: share(&predicted, work.forward, &limits[0]),
            vectors,
            limits: Limit::of(&sets, &limits),
            products_gigaflops: Spread::of(products.iter().map(|speed| speed / 1e9).collect()),
            training_tokens_per_second: Spread::of(trained),
            predicting_tokens_per_second: Spread::of(predicted),
        }
    }
}

/// Training steps as a run makes them.
struct Training<'b>(Trainer<'b, Classifier>);

impl<'b> Training<'b> {
    fn new(bench: &'b DocumentBench) -> Self {
        let plan = &bench.plan;
        let windows = DocumentBatches::new(&bench.documents, plan.training.batch, plan.training.seed);
        let (settings, exchange) = (trainer_settings(plan, 1000), Box::new(OneProcess::default()));
        Self(Trainer::new(&bench.net, settings, Box::new(windows), exchange, ()))
    }

    fn step(&mut self) -> f64 {
        // The documents are in memory, where nothing is lost.
        let Ok(learnt) = self.0.learn() else { return 0.0 };
        // Small, so that made-up documents do not drive the weights anywhere.
        self.0.apply(1e-5);
        learnt.tokens as f64
    }
}

/// Documents side by side while they are predicted, as `classify predict` reads them.
const ROWS: usize = 32;

/// Predictions of batches of documents, a batch for each thread.
struct Prediction<'b> {
    bench: &'b DocumentBench,
    weights: Vec<f32>,
    packed: PackedWeights<f32>,
    team: Team<Classifier, f32>,
    next: usize,
}

impl<'b> Prediction<'b> {
    fn new(bench: &'b DocumentBench) -> Self {
        let net = &bench.net;
        let weights = first_values(net.layout(), 1);
        let threads = rayon::current_num_threads();
        let mut extent = DocumentBatches::new(&bench.documents, ROWS, 0).extent();
        extent.rows = ROWS * threads;
        let room = LaneRoom { extent, used_for: LaneUse::Reading, resets: false };
        Self {
            packed: PackedWeights::reading(net.layout(), &weights),
            weights,
            team: Team::new(net, room, Lanes::new(extent.rows, threads), 0..threads, ()),
            next: 0,
            bench,
        }
    }

    fn step(&mut self) -> f64 {
        let documents = &self.bench.documents;
        for (rows, window) in self.team.windows_mut() {
            window.clear();
            for _ in rows {
                documents.put(self.next, window);
                self.next = (self.next + 1) % documents.count();
            }
        }
        let (net, weights) = (&self.bench.net, self.packed.with(&self.weights));
        let read = self.team.each(|window, lane| {
            let mut logs = Vec::new();
            net.log_probabilities(weights, window, 1.0, lane, &mut logs);
            std::hint::black_box(&logs);
            window.steps()
        });
        read.into_iter().sum::<usize>() as f64
    }
}

/// The vectors of tokens alone: what the memory allows a network that does little else.
struct Vectors<'b> {
    tokens: &'b [u32],
    /// Tokens of a batch.
    batch: usize,
    width: usize,
    table: Vec<f32>,
    /// Of each thread the gradient of the table.
    gradients: Vec<Vec<f32>>,
    /// What the optimiser has of each number of the table.
    first: Vec<f32>,
    second: Vec<f32>,
    read: Vec<bool>,
    from: usize,
}

impl<'b> Vectors<'b> {
    fn new(bench: &'b DocumentBench, threads: usize) -> Self {
        let ClassifierInput::Tokens { vocabulary, embedding } = bench.net.shape().input else {
            return Self {
                tokens: &[],
                batch: 0,
                width: 1,
                table: Vec::new(),
                gradients: Vec::new(),
                first: Vec::new(),
                second: Vec::new(),
                read: Vec::new(),
                from: 0,
            };
        };
        Self {
            tokens: &bench.tokens,
            batch: bench.plan.training.batch * bench.length,
            width: embedding,
            table: vec![0.5; vocabulary * embedding],
            gradients: vec![vec![0.0; vocabulary * embedding]; threads],
            first: vec![0.0; vocabulary * embedding],
            second: vec![0.0; vocabulary * embedding],
            read: vec![false; vocabulary],
            from: 0,
        }
    }

    /// The tokens of the next step, a batch of a run.
    fn batch(&mut self) -> &'b [u32] {
        self.from = (self.from + self.batch) % self.tokens.len();
        &self.tokens[self.from..self.from + self.batch]
    }

    fn read(&mut self) -> f64 {
        let batch = self.batch();
        let (table, width) = (&self.table, self.width);
        batch.par_chunks(batch.len().div_ceil(self.gradients.len())).for_each(|tokens| {
            std::hint::black_box(sum_of(table, width, tokens));
        });
        batch.len() as f64
    }

    fn learn(&mut self) -> f64 {
        let batch = self.batch();
        let (table, width) = (&self.table, self.width);
        let parts = batch.par_chunks(batch.len().div_ceil(self.gradients.len()));
        parts.zip(&mut self.gradients).for_each(|(tokens, gradient)| {
            let sum = sum_of(table, width, tokens);
            vectorised!({
                for &token in tokens {
                    let to = &mut gradient[token as usize * width..][..width];
                    to.iter_mut().zip(&sum).for_each(|(to, &x)| *to += x);
                }
            });
        });
        self.read.fill(false);
        batch.iter().for_each(|&token| self.read[token as usize] = true);
        let size = 64 * width;
        let moved = self
            .table
            .par_chunks_mut(size)
            .zip(self.first.par_chunks_mut(size))
            .zip(self.second.par_chunks_mut(size));
        let read = self.gradients[0].par_chunks(size).zip(self.read.par_chunks(64));
        moved.zip(read).for_each(|(((weights, first), second), (gradient, read))| {
            vectorised!({
                for row in (0..read.len()).filter(|&row| read[row]) {
                    let at = row * width..(row + 1) * width;
                    let numbers = weights[at.clone()]
                        .iter_mut()
                        .zip(&mut first[at.clone()])
                        .zip(&mut second[at.clone()]);
                    for (((weight, first), second), &gradient) in numbers.zip(&gradient[at]) {
                        *first += gradient;
                        *second += gradient;
                        *weight += 1e-9 * (*first + *second);
                    }
                }
            });
        });
        batch.len() as f64
    }
}

/// The sum of the vectors of tokens.
fn sum_of(table: &[f32], width: usize, tokens: &[u32]) -> Vec<f32> {
    let mut sum = vec![0.0f32; width];
    vectorised!({
        for &token in tokens {
            let row = &table[token as usize * width..][..width];
            sum.iter_mut().zip(row).for_each(|(sum, &x)| *sum += x);
        }
    });
    sum
}
