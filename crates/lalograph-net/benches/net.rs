//! Where a training step's time goes: the squashing functions, the recurrent layer, the softmax, the whole step.

#![allow(missing_docs, clippy::unwrap_used, reason = "a benchmark is no interface")]

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use lalograph_net::Cell;
use lalograph_net::activation::{exp_and_sum, tanh, vectorised};
use lalograph_net::initial::initial_weights;
use lalograph_net::matrix::{Into, Matrix, multiply};
use lalograph_net::model::{LanguageModel, LanguageModelShape, Purpose};
use lalograph_net::optimiser::{Adam, AdamSettings, norm};
use lalograph_net::recurrent::Extent;
use lalograph_net::step::{AddLanes, Team};

fn activations(c: &mut Criterion) {
    let mut group = c.benchmark_group("activation");
    let xs: Vec<f32> = (0..4096).map(|i| (i % 200) as f32 / 20.0 - 5.0).collect();
    group.throughput(Throughput::Elements(xs.len() as u64));
    let mut out = xs.clone();
    group.bench_function("tanh, ours", |b| {
        b.iter(|| {
            vectorised(|| {
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
            vectorised(|| exp_and_sum(&mut out, 5.0))
        });
    });
}

/// The step of the demo's model, and the same multiplications alone as a yardstick.
fn step(c: &mut Criterion) {
    let shape =
        LanguageModelShape { vocabulary: 800, embedding: 128, hidden: 256, layers: 1, cell: Cell::Lstm };
    let extent = Extent { steps: 64, rows: 32 };
    let model = LanguageModel::<f32>::new(shape).unwrap();
    let mut weights = initial_weights(model.layout(), 1);
    let tokens: Vec<u32> = (0..extent.tokens()).map(|i| (i * 7919 % 800) as u32).collect();
    let mut group = c.benchmark_group("training step");
    group.sample_size(20).throughput(Throughput::Elements(tokens.len() as u64));
    for lanes in [1, 2, 4] {
        let mut team = Team::new(&model, extent, lanes, Purpose::Training { dropout: false });
        let mut adam = Adam::new(AdamSettings::default(), weights.len());
        group.bench_function(format!("{lanes} lanes"), |b| {
            b.iter(|| {
                team.learn(&model, &weights, &tokens, &tokens, None, &mut AddLanes);
                let factor = 1.0 / norm(team.gradient()).max(1.0);
                adam.step(&mut weights, team.gradient(), 1e-4, factor);
            });
        });
    }
    // Forward, and twice as much backward: (steps x rows) x (embedding + hidden) x (4 hidden), and x hidden x vocabulary.
    let (x, h) = (vec![0.1f32; extent.tokens() * 384], vec![0.1f32; extent.tokens() * 256]);
    let (wide, table) = (vec![0.1f32; 384 * 1024], vec![0.1f32; 256 * 800]);
    let mut gates = vec![0.0f32; extent.tokens() * 1024];
    let mut scores = vec![0.0f32; extent.tokens() * 800];
    group.bench_function("its multiplications alone, in large pieces on one thread", |b| {
        b.iter(|| {
            for _ in 0..3 {
                let (x, h) = (Matrix::new(&x, extent.tokens(), 384), Matrix::new(&h, extent.tokens(), 256));
                multiply(x, Matrix::new(&wide, 384, 1024), &mut gates, Into::Replace);
                multiply(h, Matrix::new(&table, 256, 800), &mut scores, Into::Replace);
            }
        });
    });
}

criterion_group!(benches, activations, step);
criterion_main!(benches);
