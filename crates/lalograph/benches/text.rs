//! How fast text becomes tokens, on one thread: `cargo bench -p lalograph --bench text`.
#![allow(clippy::unwrap_used, missing_docs, reason = "a bench")]

use std::hint::black_box;

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use lalograph_demo::{Generator, thornmere};
use lalograph_text::vocabulary::VocabularySpec;
use lalograph_text::{Cleaning, CleaningStep, Unit, VocabularyBuilder};

/// Entries of the diaries, about a megabyte.
fn entries() -> Vec<String> {
    let grammar = thornmere().unwrap();
    let mut generator = Generator::new(&grammar, 1);
    (0..2400).map(|_| generator.next_entry().text).collect()
}

fn text(criterion: &mut Criterion) {
    let entries = entries();
    let bytes: u64 = entries.iter().map(|entry| entry.len() as u64).sum();
    let mut group = criterion.benchmark_group("text");
    group.throughput(Throughput::Bytes(bytes)).sample_size(30);
    for unit in Unit::ALL {
        let size = unit.is_subword().then_some(1000);
        let spec = VocabularySpec { unit, size, ..VocabularySpec::default() };
        let mut builder = VocabularyBuilder::new(&spec);
        entries.iter().for_each(|entry| builder.add(entry));
        let vocabulary = builder.finish(2).unwrap();
        let mut encoder = vocabulary.encoder();
        let mut indices = Vec::new();
        group.bench_function(format!("encode/{}", unit.name()), |bencher| {
            bencher.iter(|| {
                indices.clear();
                entries.iter().for_each(|entry| encoder.encode_into(entry, &mut indices));
                black_box(indices.len())
            });
        });
        let mut builder = VocabularyBuilder::new(&spec);
        group.bench_function(format!("count/{}", unit.name()), |bencher| {
            bencher.iter(|| entries.iter().for_each(|entry| builder.add(black_box(entry))));
        });
    }
    for step in CleaningStep::SIMPLE {
        let name = step.name();
        let cleaning = Cleaning { steps: vec![step] };
        group.bench_function(format!("clean/{name}"), |bencher| {
            bencher.iter(|| entries.iter().map(|entry| cleaning.apply(entry).len()).sum::<usize>());
        });
    }
    group.finish();
}

criterion_group!(benches, text);
criterion_main!(benches);
