//! Every gradient against central differences, in double precision, in every mode that a model has.

use lalograph_net::blocks::dropout::{Dropout, DropoutRates};
use lalograph_net::blocks::recurrent::start::{RecurrentStart, StartingValues};
use lalograph_net::blocks::recurrent::window::{Extent, Window};
use lalograph_net::blocks::regularisation::{LaneUse, Regularisation};
use lalograph_net::blocks::stack::{Penalties, Stack, StackRoom, StackShape, StackTape};
use lalograph_net::heads::clustered::Clusters;
use lalograph_net::heads::loss::IGNORED;
use lalograph_net::heads::sampled::{Candidates, Proposal};
use lalograph_net::heads::softmax::{Softmax, SoftmaxSettings};
use lalograph_net::models::language::{LanguageLane, TokenWindow};
use lalograph_net::models::network::LaneRoom;
use lalograph_net::numbers::chance::stream;
use lalograph_net::numbers::rooms::Rooms;
use lalograph_net::products::pack::Workspace;
use lalograph_net::weights::first_values::first_values;
use lalograph_net::weights::gradient::{Gradient, LaneGradient};
use lalograph_net::weights::packed::{PackedWeights, Pass};
use lalograph_net::{Cell, Choice, LanguageModel, LanguageModelShape, Layout, Network};
use rayon::prelude::*;

const VOCABULARY: usize = 9;
const EXTENT: Extent = Extent { steps: 3, rows: 2 };

/// |a - n| / max(|a|, |n|, floor): relative where a gradient is of any size, and not blown up where it is only rounding.
pub(crate) fn relative_error(analytic: f64, numeric: f64) -> f64 {
    (analytic - numeric).abs() / analytic.abs().max(numeric.abs()).max(1e-4)
}

/// The five-point formula, whose error is of the fourth order in the distance. Where a function has a kink the
/// points must lie close together, so that none is on its other side.
fn central_difference(
    distance: f64,
    weights: &mut [f64],
    index: usize,
    loss: &mut impl FnMut(&[f64]) -> f64,
) -> f64 {
    let kept = weights[index];
    let mut at = |offset: f64| {
        weights[index] = kept + offset;
        loss(weights)
    };
    let (near, far) = (at(distance) - at(-distance), at(2.0 * distance) - at(-2.0 * distance));
    weights[index] = kept;
    (8.0 * near - far) / (12.0 * distance)
}

/// The relative error of one number, by the distance that suits it: a curve that bends sharply or
/// has a kink nearby needs a short one, and rounding a long one.
pub(crate) fn error_of(
    analytic: f64,
    at: &mut [f64],
    index: usize,
    loss: &mut impl FnMut(&[f64]) -> f64,
) -> f64 {
    let mut best = f64::INFINITY;
    for distance in [3e-4, 1e-3, 1e-4, 3e-5, 1e-5, 3e-6, 1e-6] {
        best = best.min(relative_error(analytic, central_difference(distance, at, index, loss)));
        if best < 1e-7 {
            break;
        }
    }
    best
}

/// Checks each weight; returns the largest relative error.
pub(crate) fn check(
    name: &str,
    layout: &Layout,
    gradient: &[f64],
    weights: &mut [f64],
    mut loss: impl FnMut(&[f64]) -> f64,
) -> f64 {
    let mut worst: f64 = 0.0;
    for tensor in layout.tensors() {
        for index in tensor.range.clone() {
            let error = error_of(gradient[index], weights, index, &mut loss);
            assert!(error < 1e-6, "{name}: {} [{}]: {error}", tensor.name, index - tensor.range.start);
            worst = worst.max(error);
        }
    }
    worst
}

/// How the window that is differentiated begins.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Beginning {
    /// With the state that a window before it left, which truncation holds fixed.
    Carried,
    /// At the start, and once more in the middle for one row.
    Reset,
    /// The same, from a state that is learnt.
    ResetLearnt,
}

#[derive(Debug, Clone)]
struct Case {
    shape: LanguageModelShape,
    beginning: Beginning,
    regularisation: Regularisation,
}

/// Large starts, so that every gate leaves its linear range and nothing is zero.
pub(crate) fn start(cell: Cell) -> StartingValues {
    StartingValues {
        recurrent: RecurrentStart::Normal,
        recurrent_gain: 1.0,
        ..StartingValues::default_for(cell)
    }
}

pub(crate) fn weights_of(layout: &Layout) -> Vec<f64> {
    let mut weights = first_values::<f64>(layout, 5);
    // What begins at zero or one must differ from it to be distinguished.
    for (index, w) in weights.iter_mut().enumerate() {
        *w = *w * 1.5 + ((index * 7919 % 101) as f64 - 50.0) / 500.0;
    }
    weights
}

fn tokens(seed: u64) -> Vec<u32> {
    (0..EXTENT.tokens() as u64).map(|i| ((i * 31 + seed * 7 + i * i) % VOCABULARY as u64) as u32).collect()
}

fn resets() -> Vec<bool> {
    (0..EXTENT.tokens()).map(|token| token < EXTENT.rows || token == 2 * EXTENT.rows + 1).collect()
}

struct Run {
    model: LanguageModel,
    case: Case,
    packed: PackedWeights<f64>,
    fixed: Vec<f64>,
    lane: LanguageLane<f64>,
    gradient: LaneGradient<f64>,
    sample: (Proposal, Candidates<f64>),
}

impl Run {
    fn new(case: Case) -> Self {
        let model = LanguageModel::new(case.shape.clone()).unwrap();
        let counts: Vec<u64> = (0..VOCABULARY as u64).rev().collect();
        let proposal = Proposal::new(&counts, &case.shape.softmax.excluded, model.samples().unwrap_or(1));
        let mut candidates = Candidates::default();
        candidates.draw(&proposal, &mut stream(1, "test", &[]));
        let room = LaneRoom {
            extent: EXTENT,
            used_for: LaneUse::Training(case.regularisation),
            resets: case.beginning != Beginning::Carried,
        };
        let rooms = &mut Rooms::making();
        Self {
            packed: PackedWeights::new(model.layout(), true),
            fixed: weights_of(model.layout()),
            lane: model.lane(room, rooms),
            gradient: model.gradient(room, model.dense(), rooms),
            sample: (proposal, candidates),
            model,
            case,
        }
    }

    /// The mean of what training minimises.
    fn objective(&mut self, weights: &[f64], with_gradient: bool) -> f64 {
        let Self { model, case, packed, fixed, lane, gradient, sample } = self;
        let rates = case.regularisation.dropout;
        let draw = || rates.any().then(|| Dropout::draw(rates, 3, 0, 0));
        if case.beginning == Beginning::Carried {
            packed.update(model.layout(), fixed, Pass::Training);
            model.begin(packed.with(fixed), lane);
            model.forward(packed.with(fixed), &tokens(3), None, lane, draw().as_mut());
        }
        packed.update(model.layout(), weights, Pass::Training);
        let both = packed.with(weights);
        let resets = if case.beginning == Beginning::Carried { Vec::new() } else { resets() };
        let mut dropout = draw();
        let mut targets = tokens(2);
        targets[1] = IGNORED;
        let excluded = &case.shape.softmax.excluded;
        targets.iter_mut().filter(|target| excluded.contains(target)).for_each(|target| *target = 3);
        let window = TokenWindow { inputs: tokens(1), targets, resets };
        model.forward(both, &window.inputs, window.resets(), lane, dropout.as_mut());
        let targets = &window.targets;
        let scale = 1.0 / (targets.len() - 1) as f64;
        let plain = Regularisation { dropout: rates, ..Regularisation::default() };
        if !with_gradient && case.regularisation == plain && model.samples().is_none() {
            return model.loss_of(both, targets, lane, None) * scale;
        }
        let sample = model.samples().map(|_| (&sample.0, &sample.1));
        let loss =
            model.backward(both, &window, scale, lane, &mut gradient.parts(), dropout.as_ref(), sample);
        (loss.sum + loss.penalty) * scale
    }
}

fn check_model(case: Case) -> f64 {
    let name = format!("{case:?}");
    let mut run = Run::new(case);
    let layout = run.model.layout().clone();
    let mut weights = weights_of(&layout);
    run.objective(&weights, true);
    let gradient = run.gradient.whole(layout.len());
    for tensor in layout.tensors() {
        // A cluster of which no target is a member has none, nor has what only reaches silent units.
        let may_be_zero = tensor.name.starts_with("output.cluster") || run.case.shape.cell == Cell::PlainRelu;
        let some = gradient[tensor.range.clone()].iter().any(|g| *g != 0.0);
        assert!(some || may_be_zero, "{name}: {} has no gradient", tensor.name);
    }
    check(&name, &layout, &gradient, &mut weights, |weights| run.objective(weights, false))
}

fn dropouts() -> [DropoutRates; 6] {
    let none = DropoutRates::default();
    [
        none,
        DropoutRates { inputs: 0.4, ..none },
        DropoutRates { words: 0.3, ..none },
        DropoutRates { layers: 0.4, ..none },
        DropoutRates { recurrent: 0.4, ..none },
        DropoutRates { output: 0.4, ..none },
    ]
}

/// Each kind over all tokens, or without one of the head's and one of a cluster's.
fn softmaxes(without: bool) -> [SoftmaxSettings; 3] {
    let clusters = Clusters { ends: vec![4, 7], shrink: 2 };
    let excluded = if without { vec![0, 5] } else { Vec::new() };
    [SoftmaxSettings::full(), SoftmaxSettings::clustered(clusters), SoftmaxSettings::sampled(6)]
        .map(|settings| SoftmaxSettings { excluded: excluded.clone(), ..settings })
}

/// Cells x layers x beginnings x dropouts x tied or not x normalised or not x softmaxes.
fn table() -> Vec<Case> {
    let mut cases = Vec::new();
    for &cell in Cell::ALL {
        for layers in 1..=3 {
            for beginning in [Beginning::Carried, Beginning::Reset, Beginning::ResetLearnt] {
                for dropout in dropouts() {
                    for tied in [false, true] {
                        for layer_norm in [false, true] {
                            for softmax in softmaxes(layers == 2) {
                                if tied && softmax.kind == Softmax::Clustered {
                                    continue;
                                }
                                // Two widths, one that of the embedding; wider where units may be silent.
                                let hidden = match cell {
                                    Cell::PlainRelu => 6,
                                    _ => 4 - usize::from(layers == 2),
                                };
                                let shape = LanguageModelShape {
                                    layers,
                                    layer_norm,
                                    residual: layer_norm,
                                    learn_first_state: beginning == Beginning::ResetLearnt,
                                    tied,
                                    softmax,
                                    start: start(cell),
                                    ..LanguageModelShape::new(VOCABULARY, 3, hidden, cell)
                                };
                                let regularisation = Regularisation { dropout, ..Regularisation::default() };
                                cases.push(Case { shape, beginning, regularisation });
                            }
                        }
                    }
                }
            }
        }
    }
    cases
}

#[test]
fn every_weight_of_every_model_in_the_table() {
    let cases = table();
    let count = cases.len();
    let worst = cases.into_par_iter().map(check_model).reduce(|| 0.0, f64::max);
    println!("{count} models, largest relative error {worst:.2e}");
}

#[test]
fn penalties_and_smoothing() {
    let mut cases = Vec::new();
    for &cell in Cell::ALL {
        let kinds = [false, true].map(softmaxes);
        for softmax in kinds.iter().flat_map(|kinds| &kinds[..2]) {
            for layer_norm in [false, true] {
                for (activation_penalty, temporal_penalty, label_smoothing) in
                    [(0.7, 0.0, 0.0), (0.0, 0.9, 0.0), (0.0, 0.0, 0.2), (0.3, 0.2, 0.1)]
                {
                    let dropout = DropoutRates { output: 0.3, recurrent: 0.2, ..DropoutRates::default() };
                    let regularisation =
                        Regularisation { dropout, activation_penalty, temporal_penalty, label_smoothing };
                    let shape = LanguageModelShape {
                        layers: 2,
                        layer_norm,
                        softmax: softmax.clone(),
                        start: start(cell),
                        ..LanguageModelShape::new(VOCABULARY, 3, 4, cell)
                    };
                    cases.push(Case { shape, beginning: Beginning::Reset, regularisation });
                }
            }
        }
    }
    cases.into_par_iter().for_each(|case| {
        check_model(case);
    });
}

/// Layers in one and in both directions, their loss a sum of outputs times fixed numbers.
struct StackRun {
    stack: Stack,
    layout: Layout,
    packed: PackedWeights<f64>,
    tape: StackTape<f64>,
    work: Workspace<f64>,
    rates: DropoutRates,
    states: Vec<Vec<f64>>,
}

impl StackRun {
    fn outputs(&mut self, weights: &[f64], x: &[f64], resets: &[bool]) -> f64 {
        let window = Window { extent: EXTENT, resets: Some(resets) };
        self.packed.update(&self.layout, weights, Pass::Training);
        let mut dropout = self.rates.any().then(|| Dropout::draw(self.rates, 2, 0, 0));
        let Self { stack, packed, tape, work, states, .. } = self;
        stack.forward(packed.with(weights), window, x, states, tape, work, dropout.as_mut());
        stack.outputs(EXTENT, tape).iter().zip(factors()).map(|(y, c)| y * c).sum()
    }
}

fn factors() -> impl Iterator<Item = f64> {
    (0..).map(|i: u32| f64::from(i * 37 % 19) / 10.0 - 0.9)
}

fn check_stack(shape: StackShape, rates: DropoutRates) -> f64 {
    let mut layout = Layout::default();
    let group = layout.group("layers");
    let stack = Stack::new(&mut layout, group, shape);
    let room =
        StackRoom { extent: EXTENT, training: true, resets: true, dropout: true, recurrent_dropout: true };
    let mut run = StackRun {
        packed: PackedWeights::new(&layout, true),
        tape: stack.tape(room, &mut Rooms::making()),
        states: stack.states(EXTENT.rows, &mut Rooms::making()),
        work: Workspace::new(),
        rates,
        layout: layout.clone(),
        stack,
    };
    let mut weights = weights_of(&layout);
    let x: Vec<f64> = factors().skip(5).take(EXTENT.tokens() * shape.inputs).collect();
    let resets = resets();
    run.outputs(&weights, &x, &resets);
    let widest = EXTENT.tokens() * shape.outputs().max(shape.inputs);
    let mut d_out: Vec<f64> = factors().take(widest).collect();
    let mut d_in = vec![0.0; widest];
    let mut gradient = vec![0.0; layout.len()];
    let window = Window { extent: EXTENT, resets: Some(&resets) };
    run.stack.backward(
        run.packed.with(&weights),
        window,
        &x,
        Penalties::default(),
        &mut d_out,
        &mut d_in,
        &mut run.tape,
        &mut Gradient { data: &mut gradient, offset: 0, handover: None },
        &mut run.work,
    );
    let name = format!("{shape:?} {rates:?}");
    let mut worst =
        check(&name, &layout, &gradient, &mut weights, |weights| run.outputs(weights, &x, &resets));
    // The gradient by the inputs too.
    let mut moved = x.clone();
    for (index, &analytic) in d_out.iter().enumerate().take(x.len()) {
        let mut loss = |x: &[f64]| run.outputs(&weights, x, &resets);
        let error = error_of(analytic, &mut moved, index, &mut loss);
        assert!(error < 1e-6, "{name}: input {index}: {error}");
        worst = worst.max(error);
    }
    worst
}

#[test]
fn every_weight_and_input_of_layers_in_one_and_both_directions() {
    let mut cases = Vec::new();
    for &cell in Cell::ALL {
        for layers in 1..=3 {
            for both_directions in [false, true] {
                for layer_norm in [false, true] {
                    for residual in [false, true] {
                        for learn_first_state in [false, true] {
                            for rates in dropouts() {
                                let shape = StackShape {
                                    cell,
                                    inputs: 3,
                                    hidden: 4,
                                    layers,
                                    both_directions,
                                    layer_norm,
                                    residual,
                                    learn_first_state,
                                    start: start(cell),
                                };
                                cases.push((shape, rates));
                            }
                        }
                    }
                }
            }
        }
    }
    let count = cases.len();
    let worst =
        cases.into_par_iter().map(|(shape, rates)| check_stack(shape, rates)).reduce(|| 0.0, f64::max);
    println!("{count} stacks, largest relative error {worst:.2e}");
}

#[test]
fn windows_larger_than_a_chunk_of_scores() {
    // Seventy tokens make two chunks of this vocabulary's scores.
    let shape = LanguageModelShape::new(60_000, 2, 2, Cell::Lstm);
    let extent = Extent { steps: 35, rows: 2 };
    let model = LanguageModel::new(shape).unwrap();
    let mut weights: Vec<f64> = first_values(model.layout(), 5);
    let mut packed = PackedWeights::new(model.layout(), true);
    let room = LaneRoom { extent, used_for: LaneUse::Training(Regularisation::default()), resets: false };
    let mut lane = model.lane(room, &mut Rooms::making());
    let mut lane_gradient = model.gradient(room, model.dense(), &mut Rooms::making());
    let window = TokenWindow {
        inputs: (0..70).map(|i| i * 7919 % 60_000).collect(),
        targets: (0..70).map(|i| i * 104_729 % 60_000).collect(),
        resets: Vec::new(),
    };
    let mut loss = |weights: &[f64], gradient: Option<&mut Vec<f64>>| {
        packed.update(model.layout(), weights, Pass::Training);
        model.begin(packed.with(weights), &mut lane);
        model.forward(packed.with(weights), &window.inputs, None, &mut lane, None);
        let plain = model.loss_of(packed.with(weights), &window.targets, &mut lane, None);
        if let Some(gradient) = gradient {
            let loss = model.backward(
                packed.with(weights),
                &window,
                1.0,
                &mut lane,
                &mut lane_gradient.parts(),
                None,
                None,
            );
            assert!((loss.sum - plain).abs() < 1e-10);
            *gradient = lane_gradient.whole(model.layout().len());
        }
        plain
    };
    let mut gradient = Vec::new();
    loss(&weights, Some(&mut gradient));
    for tensor in model.layout().tensors() {
        let largest = tensor.range.clone().max_by(|&a, &b| gradient[a].abs().total_cmp(&gradient[b].abs()));
        let index = largest.unwrap();
        let numeric = central_difference(1e-3, &mut weights, index, &mut |w| loss(w, None));
        assert!(relative_error(gradient[index], numeric) < 1e-6, "{}", tensor.name);
    }
}
