//! The effect of each token of a document on its class: leave the token out, and predict again; for a linear classifier exactly its part of the
//! class's score.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::mpsc;

use lalograph_text::vocabulary::Located;

use super::input::DocumentInput;
use super::linear::form::Feature;
use super::model::{ClassifierReader, EncodedDocument, LinearModel, ROWS, ReadyClassifier};
use crate::data::documents::{EMPTY, kept};

/// A document with the effect of each of its tokens.
#[derive(Debug, Clone)]
pub struct Explanation {
    /// The document, cleaned, with its tokens in their places.
    pub located: Located,
    /// Natural log-probabilities of the classes for the document.
    pub logs: Vec<f64>,
    /// For each token its effect on each class; none for tokens that the classifier does not read.
    effects: Vec<Option<Vec<f64>>>,
}

impl Explanation {
    /// Effect of a token on a class, in nats. For a network the log-odds of the class with the token, minus those without it. For a linear
    /// classifier weight times value, for each of the token's occurrences its part: with two classes a part of the log-odds, with more a part of
    /// the score of the class less the mean over the classes. None if the classifier does not read the token, because the document is longer
    /// than its length.
    pub fn effect(&self, token: usize, class: usize) -> Option<f64> {
        self.effects.get(token)?.as_ref().map(|effects| effects[class])
    }
}

/// Log-odds of a class, `ln(p / (1 - p))`, from the natural log-probabilities of all classes.
///
/// ```
/// use lalograph_lab::explain::log_odds;
/// let logs = [0.8f64.ln(), 0.15f64.ln(), 0.05f64.ln()];
/// assert!((log_odds(&logs, 0) - 4f64.ln()).abs() < 1e-12);
/// ```
pub fn log_odds(logs: &[f64], class: usize) -> f64 {
    let others = || logs.iter().enumerate().filter(|(other, _)| *other != class).map(|(_, log)| *log);
    let greatest = others().fold(f64::NEG_INFINITY, f64::max);
    logs[class] - greatest - others().map(|log| (log - greatest).exp()).sum::<f64>().ln()
}

/// Explains documents with `threads` threads; the results do not depend on their number. `progress` is given the number of documents that are
/// done and can stop the work by returning `false`. None if it was stopped, or if the classifier reads rows of numbers.
pub fn explain(
    ready: &ReadyClassifier,
    documents: &[&str],
    threads: usize,
    progress: &mut dyn FnMut(usize) -> bool,
) -> Option<Vec<Explanation>> {
    let (next, stopped) = (AtomicUsize::new(0), AtomicBool::new(false));
    let mut found: Vec<Option<Explanation>> = documents.iter().map(|_| None).collect();
    std::thread::scope(|scope| {
        let (sender, receiver) = mpsc::channel();
        for _ in 0..threads.clamp(1, documents.len().max(1)) {
            let (sender, next, stopped) = (sender.clone(), &next, &stopped);
            scope.spawn(move || {
                let mut reader = ready.reader();
                let go_on = || !stopped.load(Ordering::Relaxed);
                loop {
                    let number = next.fetch_add(1, Ordering::Relaxed);
                    let document = documents.get(number);
                    let Some(explanation) = document.and_then(|text| reader.explain(text, &go_on)) else {
                        break;
                    };
                    if sender.send((number, explanation)).is_err() {
                        break;
                    }
                }
            });
        }
        drop(sender);
        let mut done = 0;
        loop {
            match receiver.recv_timeout(std::time::Duration::from_millis(100)) {
                Ok((number, explanation)) => {
                    found[number] = Some(explanation);
                    done += 1;
                }
                Err(mpsc::RecvTimeoutError::Timeout) => {}
                Err(mpsc::RecvTimeoutError::Disconnected) => break,
            }
            if !progress(done) {
                stopped.store(true, Ordering::Relaxed);
            }
        }
    });
    found.into_iter().collect()
}

impl ClassifierReader<'_> {
    /// Explains a document. None if `go_on` returned `false`, or if the classifier reads rows of numbers.
    fn explain(&mut self, document: &str, go_on: &dyn Fn() -> bool) -> Option<Explanation> {
        let ready = self.ready;
        let DocumentInput::Text(vocabulary) = &ready.input else { return None };
        let located = vocabulary.locate(document);
        let length = located.tokens.len();
        let places: Vec<usize> =
            kept(length, ready.longest().unwrap_or(usize::MAX), ready.keep()).into_iter().flatten().collect();
        let read: Vec<u32> = places.iter().map(|&place| located.tokens[place].1).collect();
        let encoded = |mut tokens: Vec<u32>| {
            if tokens.is_empty() {
                tokens.push(EMPTY);
            }
            EncodedDocument { steps: tokens.len(), tokens, ..EncodedDocument::default() }
        };
        let whole = encoded(read.clone());
        let logs = self.log_probabilities(std::slice::from_ref(&whole));
        let mut effects = vec![None; length];
        if let Some(model) = ready.linear() {
            let parts = self.parts(model, &whole);
            for (&place, parts) in places.iter().zip(parts) {
                effects[place] = Some(parts);
            }
            return Some(Explanation { located, logs, effects });
        }
        let odds =
            |logs: &[f64]| -> Vec<f64> { (0..logs.len()).map(|class| log_odds(logs, class)).collect() };
        let with = odds(&logs);
        let all: Vec<usize> = (0..read.len()).collect();
        for left_out in all.chunks(ROWS) {
            if !go_on() {
                return None;
            }
            let shorter = |&at: &usize| encoded([&read[..at], &read[at + 1..]].concat());
            let shorter: Vec<EncodedDocument> = left_out.iter().map(shorter).collect();
            let found = self.log_probabilities(&shorter);
            for (&at, logs) in left_out.iter().zip(found.chunks_exact(logs.len())) {
                let without = odds(logs);
                effects[places[at]] =
                    Some(with.iter().zip(without).map(|(with, without)| with - without).collect());
            }
        }
        Some(Explanation { located, logs, effects })
    }

    /// The part of each token of a document in the scores of the classes of a linear classifier. A product's part is shared by its two terms.
    fn parts(&mut self, model: &LinearModel, document: &EncodedDocument) -> Vec<Vec<f64>> {
        let (classes, temperature) = (model.shape.classes, self.ready.temperature);
        let row = self.row(document);
        let Some(maker) = &self.maker else { return Vec::new() };
        let places: Vec<Option<usize>> = document.tokens.iter().map(|&token| maker.place(token)).collect();
        let mut by_term: BTreeMap<usize, (u32, Vec<f64>)> = BTreeMap::new();
        for &place in places.iter().flatten() {
            by_term.entry(place).or_insert_with(|| (0, vec![0.0; classes])).0 += 1;
        }
        for valued in row {
            let weights = model.class_weights(valued.column as usize);
            let terms = match model.form.feature(valued.column as usize) {
                Feature::Term(term) => vec![term],
                Feature::Product(first, second) => vec![first, second],
                Feature::Number(_) => Vec::new(),
            };
            for term in &terms {
                let Some((_, parts)) = by_term.get_mut(term) else { continue };
                let share = f64::from(valued.value) / terms.len() as f64 / temperature;
                parts.iter_mut().zip(&weights).for_each(|(part, weight)| *part += share * weight);
            }
        }
        let of_token = |place: &Option<usize>| {
            let found = place.and_then(|place| by_term.get(&place));
            found.map_or_else(
                || vec![0.0; classes],
                |(count, parts)| parts.iter().map(|part| part / f64::from(*count)).collect(),
            )
        };
        places.iter().map(of_token).collect()
    }
}

impl LinearModel {
    /// The weights of a feature for each class: with two classes in the log-odds of the class, with more less their mean, which changes no
    /// probability.
    pub fn class_weights(&self, feature: usize) -> Vec<f64> {
        let outputs = self.shape.outputs();
        match &self.parameters[feature * outputs..][..outputs] {
            [weight] => vec![-weight, *weight],
            weights => {
                let mean = weights.iter().sum::<f64>() / outputs as f64;
                weights.iter().map(|weight| weight - mean).collect()
            }
        }
    }
}
