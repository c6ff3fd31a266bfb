//! The n-gram model against one written again from the formulas, with nothing in common but the definition.

use std::collections::{BTreeMap, BTreeSet};

use lalograph_lab::LabError;
use lalograph_lab::measure::baseline::{NgramModel, Unigram};
use lalograph_lab::measure::score::score_baseline;
use lalograph_text::Reserved;
use lalograph_text::tokens::TokenSequence;
use proptest::prelude::*;

type Ngrams = BTreeMap<Vec<u32>, f64>;

/// Interpolated modified Kneser-Ney, all n-grams written out.
struct Plain {
    order: usize,
    size: usize,
    counts: Ngrams,
}

impl Plain {
    fn new(order: usize, size: usize, documents: &[Vec<u32>]) -> Self {
        let mut raw = Ngrams::new();
        for document in documents {
            let text = [&[Reserved::START], &document[..], &[Reserved::END]].concat();
            for end in 1..text.len() {
                for start in (0..=end).rev().take(order) {
                    *raw.entry(text[start..=end].to_vec()).or_default() += 1.0;
                }
            }
        }
        let mut before: BTreeMap<Vec<u32>, BTreeSet<u32>> = BTreeMap::new();
        for ngram in raw.keys().filter(|ngram| ngram.len() > 1) {
            before.entry(ngram[1..].to_vec()).or_default().insert(ngram[0]);
        }
        let count = |ngram: &Vec<u32>, raw: f64| {
            let whole = ngram.len() == order || ngram[0] == Reserved::START;
            if whole { raw } else { before[ngram].len() as f64 }
        };
        let counts = raw.iter().map(|(ngram, &raw)| (ngram.clone(), count(ngram, raw))).collect();
        Self { order, size, counts }
    }

    fn discount(&self, length: usize, count: f64) -> f64 {
        let n = |times: f64| {
            self.counts.iter().filter(|(ngram, count)| ngram.len() == length && **count == times).count()
                as f64
        };
        let k = count.min(3.0);
        let y = n(1.0) / (n(1.0) + 2.0 * n(2.0));
        let discount = k - (k + 1.0) * y * n(k + 1.0) / n(k);
        if count == 0.0 {
            0.0
        } else if discount > 0.0 && discount < k {
            discount
        } else {
            k / 2.0
        }
    }

    fn probability(&self, context: &[u32], token: u32) -> f64 {
        let context = &context[context.len().saturating_sub(self.order - 1)..];
        let shorter = match context {
            [] => 1.0 / (self.size as f64 - 2.0),
            [_, rest @ ..] => self.probability(rest, token),
        };
        let length = context.len() + 1;
        let after: Vec<(u32, f64)> = self
            .counts
            .iter()
            .filter(|(ngram, _)| ngram.len() == length && ngram.starts_with(context))
            .map(|(ngram, &count)| (ngram[length - 1], count))
            .collect();
        let total: f64 = after.iter().map(|(_, count)| count).sum();
        if total == 0.0 {
            return shorter;
        }
        let taken: f64 = after.iter().map(|(_, count)| self.discount(length, *count)).sum();
        let count = after.iter().find(|(other, _)| *other == token).map_or(0.0, |(_, count)| *count);
        (count - self.discount(length, count)) / total + taken / total * shorter
    }

    fn loss(&self, documents: &[Vec<u32>]) -> f64 {
        let (mut sum, mut tokens) = (0.0, 0.0);
        for document in documents {
            let text = [&[Reserved::START], &document[..], &[Reserved::END]].concat();
            for at in 1..text.len() {
                sum -= self.probability(&text[..at], text[at]).ln();
                tokens += 1.0;
            }
        }
        sum / tokens
    }
}

fn sequence(documents: &[Vec<u32>]) -> TokenSequence {
    let closed = |document: &Vec<u32>| [&document[..], &[Reserved::END]].concat();
    TokenSequence::from_indices(documents.iter().flat_map(closed).collect())
}

fn documents(longest: usize) -> impl Strategy<Value = Vec<Vec<u32>>> {
    prop::collection::vec(prop::collection::vec(4u32..9, 0..longest), 1..8)
}

const SIZE: usize = 10;

proptest! {
    #![proptest_config(ProptestConfig::with_cases(120))]
    #[test]
    fn perplexity_is_that_of_the_plain_model(order in 1usize..6, training in documents(12), judged in documents(8)) {
        let model = NgramModel::new(order, SIZE, &sequence(&training), |_| true).unwrap();
        let plain = Plain::new(order, SIZE, &training);
        let found = score_baseline(&sequence(&judged), &mut model.reader()).score.loss;
        let expected = plain.loss(&judged);
        prop_assert!((found - expected).abs() < 1e-10 * expected, "{} against {}", found, expected);
    }

    #[test]
    fn probabilities_sum_to_one_after_seen_and_unseen_contexts(
        order in 1usize..6,
        training in documents(12),
        context in prop::collection::vec(prop_oneof![4u32..10, Just(Reserved::UNKNOWN)], 0..8),
    ) {
        let model = NgramModel::new(order, SIZE, &sequence(&training), |_| true).unwrap();
        let mut reader = model.reader();
        for end in 0..=context.len() {
            let all: f64 = (0..SIZE as u32)
                .filter(|index| ![Reserved::PADDING, Reserved::START].contains(index))
                .map(|index| reader.of(index))
                .sum();
            prop_assert!((all - 1.0).abs() < 1e-9, "{all} after {:?}", &context[..end]);
            context.get(end).into_iter().for_each(|&token| reader.read(token));
        }
    }
}

#[test]
fn longer_contexts_are_worth_it_on_text_that_has_them() {
    // Every third token follows from the two before it.
    let training: Vec<Vec<u32>> =
        (0..200u32).map(|i| vec![4 + i % 2, 6 + (i / 2) % 2, 4 + (i + i / 2) % 2, 8]).collect();
    let (text, judged) = (sequence(&training), sequence(&training[..40]));
    let loss = |order| {
        let model = NgramModel::new(order, SIZE, &text, |_| true).unwrap();
        assert_eq!(model.order(), order);
        score_baseline(&judged, &mut model.reader()).score.loss
    };
    let unigram = score_baseline(&judged, &mut Unigram::new(SIZE, &text)).score.loss;
    assert!(loss(3) < 0.75 * loss(1) && loss(2) < loss(1), "{} {} {}", loss(1), loss(2), loss(3));
    assert!((loss(1) - unigram).abs() < 0.05, "{} {unigram}", loss(1));
}

#[test]
fn orders_that_cannot_be_are_refused_and_counting_can_be_stopped() {
    let text = sequence(&[vec![4, 5]]);
    for order in [0, 33] {
        assert!(matches!(NgramModel::new(order, SIZE, &text, |_| true), Err(LabError::Order { .. })));
    }
    assert!(matches!(NgramModel::new(2, SIZE, &text, |_| false), Err(LabError::Text(_))));
    let nothing = NgramModel::new(3, SIZE, &TokenSequence::default(), |_| true).unwrap();
    assert!((nothing.reader().of(5) - 1.0 / 8.0).abs() < 1e-12);
}
