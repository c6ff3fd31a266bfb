//! The effect of each token of a document on its class: leave the token out, and predict again.

use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::mpsc;

use lalograph_text::vocabulary::Located;

use super::input::DocumentInput;
use super::model::{ClassifierReader, EncodedDocument, ROWS, ReadyClassifier};
use crate::data::documents::{EMPTY, kept};

/// A document with the effect of each of its tokens.
#[derive(Debug, Clone)]
pub struct Explanation {
    /// The document, cleaned, with its tokens in their places.
    pub located: Located,
    /// Natural log-probabilities of the classes for the document.
    pub logs: Vec<f64>,
    /// For each token the log-probabilities without it; none for tokens that the classifier does not read.
    without: Vec<Option<Vec<f64>>>,
}

impl Explanation {
    /// Effect of a token on a class: the log-odds of the class in nats with the token, minus those without it. None if the classifier does
    /// not read the token, because the document is longer than its length.
    pub fn effect(&self, token: usize, class: usize) -> Option<f64> {
        let without = self.without.get(token)?.as_ref()?;
        Some(log_odds(&self.logs, class) - log_odds(without, class))
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
        let logs = self.log_probabilities(&[encoded(read.clone())]);
        let mut without = vec![None; length];
        let all: Vec<usize> = (0..read.len()).collect();
        for left_out in all.chunks(ROWS) {
            if !go_on() {
                return None;
            }
            let shorter = |&at: &usize| encoded([&read[..at], &read[at + 1..]].concat());
            let shorter: Vec<EncodedDocument> = left_out.iter().map(shorter).collect();
            let found = self.log_probabilities(&shorter);
            for (&at, logs) in left_out.iter().zip(found.chunks_exact(logs.len())) {
                without[places[at]] = Some(logs.to_vec());
            }
        }
        Some(Explanation { located, logs, without })
    }
}
