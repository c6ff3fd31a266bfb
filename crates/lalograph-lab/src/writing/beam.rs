//! Search for the most probable texts with a beam.

use std::collections::BTreeMap;

use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::models::language::LanguageLane;
use lalograph_net::numbers::chance::Stream;
use lalograph_text::Reserved;
use rand::RngExt;

use super::decoding::log_total;
use crate::error::LabError;
use crate::task::language::model::ReadyModel;

/// Settings of beam search.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Beam {
    /// Texts that are continued at each step.
    pub width: usize,
    /// Texts are compared by their log-probability over their length to this power: 0 for the log-probability itself, which favours short
    /// texts, 1 for its mean.
    pub length_power: f64,
    /// Number of texts to return.
    pub best: usize,
    /// Whether the beam is drawn at random without replacement, each text as likely as the model has it (stochastic beam search, Kool, van Hoof
    /// and Welling, 2019), instead of the most probable.
    pub random: bool,
}

impl Beam {
    /// Refuses a beam that is none.
    ///
    /// # Errors
    /// A width of 0, more best texts than the beam is wide, or a length power outside 0 to 2.
    pub fn check(&self) -> Result<(), LabError> {
        let refuse = |setting, value: String, must| Err(LabError::Decoding { setting, value, must });
        match *self {
            Self { width, .. } if !(1..=10_000).contains(&width) => {
                refuse("beam width", width.to_string(), "from 1 to 10,000")
            }
            Self { best, width, .. } if best == 0 || best > width => {
                refuse("number of texts", best.to_string(), "1 to the width of the beam")
            }
            Self { length_power: power, .. } if !(0.0..=2.0).contains(&power) => {
                refuse("length power", power.to_string(), "from 0 to 2")
            }
            _ => Ok(()),
        }
    }

    /// Score for ranking texts.
    pub fn score(&self, log_probability: f64, tokens: usize) -> f64 {
        log_probability / (tokens.max(1) as f64).powf(self.length_power)
    }
}

/// A text under way, or done.
#[derive(Debug, Clone)]
pub(super) struct Hypothesis {
    pub(super) indices: Vec<u32>,
    pub(super) log_probabilities: Vec<f64>,
    total: f64,
    /// Score among candidates of the same length: the log-probability, or the log-probability with Gumbel noise.
    rank: f64,
    row: usize,
}

/// A candidate: its parent, its token, the token's log-probability, its rank.
type Extension = (usize, u32, f64, f64);

/// Searches on from the states of one row, whose next scores are `first`. `ended` is asked of every text whether it stops before its document does.
/// Texts are returned best first, more than were wanted if more have ended.
#[expect(clippy::too_many_arguments, reason = "where to begin, how to search, when to stop")]
pub(super) fn search(
    ready: &ReadyModel,
    states: &[Vec<f32>],
    first: &[f32],
    tokens: usize,
    beam: &Beam,
    random: &mut Stream,
    ended: &dyn Fn(&[u32]) -> bool,
    progress: &mut dyn FnMut(usize) -> bool,
) -> Vec<Hypothesis> {
    let (model, weights, size) = (ready.model(), ready.parameters(), first.len());
    let mut alive = vec![Hypothesis {
        indices: Vec::new(),
        log_probabilities: Vec::new(),
        total: 0.0,
        rank: 0.0,
        row: 0,
    }];
    let mut done: Vec<Hypothesis> = Vec::new();
    let mut states = states.to_vec();
    // One lane for each number of rows, made at first use: the beam is nearly always full.
    let mut lanes: BTreeMap<usize, LanguageLane<f32>> = BTreeMap::new();
    let mut rows = 1;
    let mut scores = first.to_vec();
    for step in 0..tokens {
        let mut extensions: Vec<Extension> = Vec::new();
        for (parent, hypothesis) in alive.iter().enumerate() {
            let scores = &scores[hypothesis.row * size..(hypothesis.row + 1) * size];
            extend(parent, hypothesis, scores, beam, random, &mut extensions);
        }
        let order = |a: &Extension, b: &Extension| b.3.total_cmp(&a.3).then((a.0, a.1).cmp(&(b.0, b.1)));
        extensions.sort_unstable_by(order);
        extensions.truncate(beam.width);
        let mut next = Vec::new();
        for (parent, token, log, rank) in extensions {
            let mut hypothesis = alive[parent].clone();
            hypothesis.indices.push(token);
            hypothesis.log_probabilities.push(log);
            hypothesis.total += log;
            hypothesis.rank = rank;
            if token == Reserved::END || ended(&hypothesis.indices) {
                done.push(hypothesis);
            } else {
                next.push(hypothesis);
            }
        }
        alive = next;
        if alive.is_empty()
            || step + 1 == tokens
            || !progress(step + 1)
            || settled(&alive, &mut done, beam, tokens)
        {
            break;
        }
        // One row for each that is continued.
        let parents: Vec<usize> = alive.iter().map(|hypothesis| hypothesis.row).collect();
        let extent = Extent { steps: 1, rows: alive.len() };
        let lane = lanes.entry(alive.len()).or_insert_with(|| model.reading_lane(extent, false));
        lane.carry_from(&states, rows, &parents);
        rows = alive.len();
        let last: Vec<u32> =
            alive.iter().filter_map(|hypothesis| hypothesis.indices.last().copied()).collect();
        model.forward(weights, &last, None, lane, None);
        scores.resize(rows * size, 0.0);
        model.last_scores(weights, lane, &mut scores);
        states.clone_from_slice(lane.states());
        alive.iter_mut().enumerate().for_each(|(row, hypothesis)| hypothesis.row = row);
    }
    done.append(&mut alive);
    rank(&mut done, beam);
    done
}

/// Sorts by what texts are compared by; of drawn ones the first drawn comes first.
fn rank(texts: &mut [Hypothesis], beam: &Beam) {
    let key = |h: &Hypothesis| if beam.random { h.rank } else { beam.score(h.total, h.indices.len()) };
    texts.sort_by(|a, b| key(b).total_cmp(&key(a)).then(a.indices.cmp(&b.indices)));
}

/// Whether nothing under way can still be among the best: it can only lose probability, and gain length up to the limit.
fn settled(alive: &[Hypothesis], done: &mut [Hypothesis], beam: &Beam, tokens: usize) -> bool {
    if beam.random || done.len() < beam.best {
        return false;
    }
    rank(done, beam);
    let worst = beam.score(done[beam.best - 1].total, done[beam.best - 1].indices.len());
    alive.iter().all(|hypothesis| beam.score(hypothesis.total, tokens) < worst)
}

/// All ways to continue a text, as many as can matter.
fn extend(
    parent: usize,
    hypothesis: &Hypothesis,
    scores: &[f32],
    beam: &Beam,
    random: &mut Stream,
    out: &mut Vec<Extension>,
) {
    let total = log_total(scores);
    let admitted = scores.iter().enumerate().skip(Reserved::END as usize);
    let mut all: Vec<Extension> = admitted
        .map(|(token, &score)| {
            let log = f64::from(score) - total;
            (parent, token as u32, log, hypothesis.total + log)
        })
        .collect();
    if beam.random {
        // Gumbel noise on each, so that the greatest of them has the parent's rank: drawn from the top down without replacement.
        for extension in &mut all {
            let uniform = random.random::<f64>().max(f64::MIN_POSITIVE);
            extension.3 -= (-uniform.ln()).ln();
        }
        let greatest = all.iter().map(|extension| extension.3).fold(f64::NEG_INFINITY, f64::max);
        for extension in &mut all {
            let v = hypothesis.rank - extension.3 + (-(extension.3 - greatest).exp()).ln_1p();
            extension.3 = hypothesis.rank - v.max(0.0) - (-v.abs()).exp().ln_1p();
        }
    }
    if all.len() > beam.width {
        let order = |a: &Extension, b: &Extension| b.3.total_cmp(&a.3).then(a.1.cmp(&b.1));
        all.select_nth_unstable_by(beam.width - 1, order);
        all.truncate(beam.width);
    }
    out.extend(all);
}
