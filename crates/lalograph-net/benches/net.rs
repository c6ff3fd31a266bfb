//! Where a training step's time goes: the squashing functions, products of the shapes that matter, the softmax, the whole step.

#![allow(missing_docs, clippy::unwrap_used, reason = "a benchmark is no interface")]

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::blocks::regularisation::{LaneUse, Regularisation};
use lalograph_net::learning::clipping::{Clipping, GradientMeter};
use lalograph_net::learning::optimiser::{Optimiser, OptimiserSettings, Rule};
use lalograph_net::models::network::{Draw, LaneRoom};
use lalograph_net::numbers::activation::{exp_and_sum, tanh};
use lalograph_net::products::multiply::{multiply, multiply_packed};
use lalograph_net::products::pack::{Packed, Workspace};
use lalograph_net::products::view::{Accumulation, Matrix, MatrixMut};
use lalograph_net::step::exchange::OneProcess;
use lalograph_net::step::lanes::Lanes;
use lalograph_net::step::team::Team;
use lalograph_net::weights::first_values::first_values;
use lalograph_net::weights::packed::{PackedWeights, Pass};
use lalograph_net::{Cell, LanguageModel, LanguageModelShape, Network, vectorised};

fn activations(c: &mut Criterion) {
    let mut group = c.benchmark_group("activation");
    let xs: Vec<f32> = (0..4096).map(|i| (i % 200) as f32 / 20.0 - 5.0).collect();
    group.throughput(Throughput::Elements(xs.len() as u64));
    let mut out = xs.clone();
    group.bench_function("tanh, ours", |b| {
        b.iter(|| {
            vectorised!({
                for (y, &x) in out.iter_mut().zip(&xs) {
                    *y = tanh(x);
                }
            });
        });
    });
    group.bench_function("tanh, standard library", |b| {
        b.iter(|| out.iter_mut().zip(&xs).for_each(|(y, &x)| *y = x.tanh()));
    });
    group.bench_function("softmax row", |b| {
        b.iter(|| {
            out.copy_from_slice(&xs);
            vectorised!(exp_and_sum(&mut out, 5.0))
        });
    });
}

/// Operations a second (as "elements") of one thread.
fn products(c: &mut Criterion) {
    let mut group = c.benchmark_group("product");
    let mut work = Workspace::new();
    for (name, m, n, k) in [
        ("square", 1024, 1024, 1024),
        ("a step of 32 rows, LSTM of 512", 32, 2048, 512),
        ("the same backwards", 32, 512, 2048),
        ("a step of 16 rows, GRU of 256", 16, 768, 256),
    ] {
        let (a, b) = (vec![0.5f32; m * k], vec![0.25f32; k * n]);
        let mut out = vec![0.0f32; m * n];
        let packed = Packed::of(Matrix::new(&b, k, n));
        group.throughput(Throughput::Elements(2 * (m * n * k) as u64));
        group.bench_function(format!("{name}, packed before"), |bench| {
            bench.iter(|| {
                let mut out = MatrixMut::new(&mut out, m, n);
                multiply_packed(Matrix::new(&a, m, k), &packed, &mut out, Accumulation::Add, &mut work);
            });
        });
        group.bench_function(format!("{name}, packed meanwhile"), |bench| {
            bench.iter(|| {
                let mut out = MatrixMut::new(&mut out, m, n);
                multiply(
                    Matrix::new(&a, m, k),
                    Matrix::new(&b, k, n),
                    &mut out,
                    Accumulation::Add,
                    &mut work,
                );
            });
        });
    }
}

/// Whole training steps of two models, by the number of lanes.
fn step(c: &mut Criterion) {
    for (name, shape, extent) in [
        ("demo", LanguageModelShape::new(800, 64, 128, Cell::Lstm), Extent { steps: 64, rows: 16 }),
        ("GRU of 256", LanguageModelShape::new(10_000, 256, 256, Cell::Gru), Extent { steps: 35, rows: 32 }),
    ] {
        let model = LanguageModel::new(shape).unwrap();
        let mut weights: Vec<f32> = first_values(model.layout(), 1);
        let mut packed = PackedWeights::new(model.layout(), true);
        let mut meter = GradientMeter::new(model.layout());
        let vocabulary = model.shape().vocabulary as u32;
        let tokens: Vec<u32> = (0..extent.tokens() as u32).map(|i| i * 7919 % vocabulary).collect();
        let mut group = c.benchmark_group(format!("training step, {name}"));
        group.sample_size(20).throughput(Throughput::Elements(tokens.len() as u64));
        for lanes in [1, 2, 4] {
            let room =
                LaneRoom { extent, used_for: LaneUse::Training(Regularisation::default()), resets: false };
            let lanes_of = Lanes::new(extent.rows, lanes);
            let mut team = Team::new(&model, room, lanes_of, 0..lanes, model.shared(Vec::new));
            for (rows, window) in team.windows_mut() {
                let steps = tokens.chunks_exact(extent.rows);
                window.inputs = steps.flat_map(|step| step[rows.clone()].iter().copied()).collect();
                window.targets.clone_from(&window.inputs);
            }
            let mut exchange = OneProcess::default();
            let mut optimiser = Optimiser::new(OptimiserSettings::new(Rule::Adam), model.layout());
            group.bench_function(format!("{lanes} lanes"), |b| {
                b.iter(|| {
                    packed.update(model.layout(), &weights, Pass::Training);
                    let draw = Draw { seed: 1, step: 0 };
                    team.learn(&model, packed.with(&weights), draw, &mut exchange);
                    let clipped = meter.measure(team.gradient(), &Clipping::default());
                    optimiser.step(&mut weights, team.gradient(), 1e-4, clipped);
                });
            });
        }
    }
}

criterion_group!(benches, activations, products, step);
criterion_main!(benches);
