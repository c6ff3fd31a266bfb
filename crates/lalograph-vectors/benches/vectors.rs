//! Learning and looking up word vectors, beside what the machine allows: `cargo bench -p lalograph-vectors`.
#![allow(missing_docs, reason = "criterion's macros make public functions")]

use std::hint::black_box;
use std::time::Instant;

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use lalograph_net::numbers::chance::stream;
use lalograph_net::vectorised;
use lalograph_vectors::VectorTable;
use lalograph_vectors::objective::{Scratch, Weights, learn_against_samples};
use rand::RngExt;

const DIMENSIONS: usize = 100;
const NOISE: usize = 5;

/// Multiply-adds of one prediction: a product, a share of the gradient and a change of the row, for the target and each negative sample; and the change of the input row.
const MULTIPLY_ADDS: f64 = ((NOISE + 1) * 3 * DIMENSIONS + DIMENSIONS) as f64;

/// Bytes of rows that one prediction reads and writes.
const BYTES: f64 = ((NOISE + 2) * 2 * DIMENSIONS * 4) as f64;

/// Multiply-adds a second on numbers in the nearest cache, multiplied and added apart as in learning.
fn vector_rate() -> f64 {
    #[inline(always)]
    fn pass(y: &mut [f32], x: &[f32]) {
        y.iter_mut().zip(x).for_each(|(y, x)| *y += 0.999 * x);
    }
    let (mut y, x) = (vec![0.5f32; 1024], vec![1e-3f32; 1024]);
    let rounds = 2_000_000;
    let start = Instant::now();
    for _ in 0..rounds {
        let (y, x) = (black_box(&mut y[..]), black_box(&x[..]));
        vectorised!(pass(y, x));
    }
    f64::from(rounds) * 1024.0 / start.elapsed().as_secs_f64()
}

/// Bytes a second of a pass over more numbers than any cache holds, read and written.
fn memory_rate() -> f64 {
    let mut numbers = vec![1.0f32; 64 << 20];
    let start = Instant::now();
    for _ in 0..4 {
        vectorised!(numbers.iter_mut().for_each(|x| *x += 1.0));
        black_box(&mut numbers);
    }
    4.0 * 2.0 * 4.0 * numbers.len() as f64 / start.elapsed().as_secs_f64()
}

fn learning(criterion: &mut Criterion) {
    let (compute, memory) = (vector_rate() / MULTIPLY_ADDS, memory_rate() / BYTES);
    println!(
        "limit by multiply-adds: {compute:.0} predictions/s; by memory, nothing in the cache: {memory:.0}"
    );
    let mut group = criterion.benchmark_group("learning, one thread");
    for words in [1_000u32, 50_000] {
        let mut random = stream(1, "bench", &[]);
        let mut weights = Weights::<f32>::new(DIMENSIONS, words as usize, words as usize);
        weights.input.numbers_mut().for_each(|x| *x = random.random_range(-0.005..0.005));
        let drawn: Vec<[u32; NOISE + 2]> =
            (0..4096).map(|_| std::array::from_fn(|_| random.random_range(0..words))).collect();
        let mut scratch = Scratch::default();
        group.throughput(Throughput::Elements(drawn.len() as u64));
        group.bench_function(format!("predictions, {words} words"), |bencher| {
            bencher.iter(|| {
                vectorised!(for words in &drawn {
                    learn_against_samples(&mut weights, &[(words[0], 1.0)], &words[1..], 0.01, &mut scratch);
                });
            });
        });
    }
    group.finish();
}

fn looking_up(criterion: &mut Criterion) {
    let (words, dimensions) = (100_000, 300);
    let mut random = stream(2, "bench", &[]);
    let values: Vec<f32> = (0..words * dimensions).map(|_| random.random_range(-1.0..1.0)).collect();
    let names = (0..words).map(|word| word.to_string()).collect();
    let Ok(table) = VectorTable::new(names, dimensions, values) else { return };
    let mut group = criterion.benchmark_group("neighbours among 100,000 x 300");
    group.sample_size(10);
    for queries in [1usize, 1000] {
        let rows: Vec<u32> = (0..queries as u32).collect();
        let vectors: Vec<f32> = rows.iter().flat_map(|&row| table.at(row).to_vec()).collect();
        let without: Vec<&[u32]> = rows.iter().map(std::slice::from_ref).collect();
        group.throughput(Throughput::Elements(queries as u64));
        group.bench_function(format!("{queries} queries, 10 nearest"), |bencher| {
            bencher.iter(|| table.nearest_of_all(black_box(&vectors), 10, &without));
        });
    }
    group.finish();
}

criterion_group!(benches, learning, looking_up);
criterion_main!(benches);
