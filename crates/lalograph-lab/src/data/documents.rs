//! Documents on their way to a classifier: cut to a length, in batches of documents of like length.

use std::ops::Range;

use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::models::classifier::DocumentWindow;
use lalograph_net::numbers::chance::stream;
use lalograph_text::Reserved;
use lalograph_text::tokens::TokenSequence;
use rand::seq::SliceRandom;

use super::source::Windows;
use crate::error::LabError;
use crate::plan::Keep;

/// The steps of a document that are kept: up to two stretches of its tokens.
pub fn kept(length: usize, longest: usize, keep: Keep) -> [Range<usize>; 2] {
    if length <= longest {
        return [0..length, length..length];
    }
    match keep {
        Keep::Beginning => [0..longest, length..length],
        Keep::End => [0..0, length - longest..length],
        Keep::BothEnds => [0..longest.div_ceil(2), length - longest / 2..length],
    }
}

/// Documents of numbers before they are cut.
#[derive(Debug, Clone, Default)]
pub struct NumberRows {
    /// The numbers of all steps of all documents.
    pub numbers: Vec<f32>,
    /// The number of steps of each document.
    pub steps: Vec<usize>,
    /// The class of each document.
    pub classes: Vec<u32>,
}

#[derive(Debug, Clone)]
enum Content {
    /// Tokens; longer documents than `longest` keep a part.
    Tokens { tokens: TokenSequence, longest: usize, keep: Keep },
    /// Numbers of all documents, and the place of the first and the class of each.
    Numbers { numbers: Vec<f32>, starts: Vec<usize>, features: usize, classes: Vec<u32> },
}

/// Documents of a part of a corpus, each with its class.
#[derive(Debug, Clone)]
pub struct Documents {
    content: Content,
    /// Steps of each document, after it is cut.
    lengths: Vec<u32>,
    cut: u64,
    /// Whether each is a near copy of a training document; empty if none is, or if that is not known.
    copies: Vec<bool>,
}

impl Documents {
    /// The documents of a sequence with classes; longer ones are cut to `longest` tokens, if it is given.
    pub fn new(tokens: TokenSequence, longest: Option<usize>, keep: Keep) -> Self {
        let longest = longest.unwrap_or(usize::MAX);
        let (mut lengths, mut cut) = (Vec::new(), 0);
        for bounds in tokens.bounds() {
            let length = steps(&bounds);
            cut += u64::from(length > longest);
            lengths.push(length.min(longest) as u32);
        }
        Self { content: Content::Tokens { tokens, longest, keep }, lengths, cut, copies: Vec::new() }
    }

    /// Documents of numbers: of each the steps, whose numbers are one after another, and the class.
    pub fn of_numbers(
        NumberRows { mut numbers, steps, classes }: NumberRows,
        features: usize,
        longest: Option<usize>,
        keep: Keep,
    ) -> Self {
        let longest = longest.unwrap_or(usize::MAX);
        let (mut starts, mut lengths, mut cut) = (Vec::new(), Vec::new(), 0);
        let (mut from, mut to) = (0, 0);
        for &length in &steps {
            starts.push(to);
            lengths.push(length.min(longest) as u32);
            cut += u64::from(length > longest);
            for part in kept(length, longest, keep) {
                numbers
                    .copy_within((from + part.start) * features..(from + part.end) * features, to * features);
                to += part.len();
            }
            from += length;
        }
        numbers.truncate(to * features);
        numbers.shrink_to_fit();
        Self {
            content: Content::Numbers { numbers, starts, features, classes },
            lengths,
            cut,
            copies: Vec::new(),
        }
    }

    /// Whether everything that was asked for so far could be read.
    ///
    /// # Errors
    /// As for [`TokenSequence::check`].
    pub(crate) fn check(&self) -> Result<(), LabError> {
        match &self.content {
            Content::Tokens { tokens, .. } => Ok(tokens.check()?),
            Content::Numbers { .. } => Ok(()),
        }
    }

    /// Number of documents.
    pub fn count(&self) -> usize {
        self.lengths.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.lengths.is_empty()
    }

    /// The same documents, of which some are near copies of training documents.
    pub(crate) fn with_copies(mut self, copies: Vec<bool>) -> Self {
        self.copies = if copies.contains(&true) { copies } else { Vec::new() };
        self
    }

    /// Whether each document is a near copy of a training document; empty if none is, or if that is not known.
    pub(crate) fn copies(&self) -> &[bool] {
        &self.copies
    }

    /// Documents that are cut.
    pub fn cut(&self) -> u64 {
        self.cut
    }

    /// Steps of the longest document.
    pub fn longest(&self) -> usize {
        self.lengths.iter().copied().max().unwrap_or(1) as usize
    }

    /// Steps of all documents.
    pub fn steps(&self) -> u64 {
        self.lengths.iter().map(|&length| u64::from(length)).sum()
    }

    /// Class of a document.
    pub fn class(&self, number: usize) -> u32 {
        match &self.content {
            Content::Tokens { tokens, .. } => tokens.label(number as u64).unwrap_or(u32::MAX),
            Content::Numbers { classes, .. } => classes[number],
        }
    }

    /// Documents of each of `classes` classes.
    pub fn by_class(&self, classes: usize) -> Vec<u64> {
        let mut counts = vec![0; classes];
        for number in 0..self.count() {
            if let Some(count) = counts.get_mut(self.class(number) as usize) {
                *count += 1;
            }
        }
        counts
    }

    /// The numbers of all documents, the shortest first.
    pub(crate) fn by_length(&self) -> Vec<u32> {
        let mut order: Vec<u32> = (0..self.count() as u32).collect();
        order.sort_by_key(|&number| self.lengths[number as usize]);
        order
    }

    /// Appends a document to a window.
    pub fn put(&self, number: usize, to: &mut DocumentWindow) {
        match &self.content {
            Content::Tokens { tokens, longest, keep } => {
                let Some(place) = tokens.document(number as u64) else { return };
                let start = place.tokens.start;
                for part in kept(steps(&place.tokens), *longest, *keep) {
                    to.tokens.extend(part.map(|at| tokens.index(start + at)));
                }
            }
            Content::Numbers { numbers, starts, features, .. } => {
                let start = starts[number];
                let end = start + self.lengths[number] as usize;
                to.numbers.extend_from_slice(&numbers[start * features..end * features]);
            }
        }
        to.lengths.push(self.lengths[number] as usize);
        to.classes.push(self.class(number));
    }
}

/// Steps of a document in a sequence: its tokens without the end token, which alone is an empty document.
fn steps(bounds: &Range<usize>) -> usize {
    bounds.len().saturating_sub(1).max(1)
}

/// Steps of each document of a sequence.
pub(crate) fn lengths_of(tokens: &TokenSequence) -> Vec<usize> {
    tokens.bounds().map(|bounds| steps(&bounds)).collect()
}

/// The shortest length that keeps this share of the documents whole.
pub(crate) fn length_keeping(share: f64, mut lengths: Vec<usize>) -> usize {
    lengths.sort_unstable();
    let place = (share * lengths.len() as f64).ceil() as usize;
    lengths.get(place.saturating_sub(1)).copied().unwrap_or(1)
}

/// The step that an empty document has.
pub(crate) const EMPTY: u32 = Reserved::END;

/// Batches among which documents are sorted by length: more leave less padding, and fewer leave batches more mixed.
const SORTED_TOGETHER: usize = 50;

/// All documents in batches, in an order of its own each epoch: shuffled, then sorted by length within stretches of batches, then the
/// batches shuffled.
pub(crate) struct DocumentBatches<'t> {
    documents: &'t Documents,
    batch: usize,
    seed: u64,
    order: Option<(u64, Vec<u32>)>,
}

impl<'t> DocumentBatches<'t> {
    pub(crate) fn new(documents: &'t Documents, batch: usize, seed: u64) -> Self {
        Self { documents, batch, seed, order: None }
    }

    fn order(&self, epoch: u64) -> Vec<u32> {
        let mut random = stream(self.seed, "document order", &[epoch]);
        let mut numbers: Vec<u32> = (0..self.documents.count() as u32).collect();
        numbers.shuffle(&mut random);
        for stretch in numbers.chunks_mut(self.batch * SORTED_TOGETHER) {
            stretch.sort_by_key(|&number| self.documents.lengths[number as usize]);
        }
        // The last batch may be smaller, and stays the last.
        let whole = numbers.len() / self.batch;
        let mut batches: Vec<usize> = (0..whole).collect();
        batches.shuffle(&mut random);
        let mut order = Vec::with_capacity(numbers.len());
        for batch in batches {
            order.extend_from_slice(&numbers[batch * self.batch..(batch + 1) * self.batch]);
        }
        order.extend_from_slice(&numbers[whole * self.batch..]);
        order
    }
}

impl Windows<DocumentWindow> for DocumentBatches<'_> {
    fn count(&self) -> usize {
        self.documents.count().div_ceil(self.batch)
    }

    fn extent(&self) -> Extent {
        Extent { steps: self.documents.longest(), rows: self.batch }
    }

    fn resets(&self) -> bool {
        false
    }

    fn fill(
        &mut self,
        epoch: u64,
        index: usize,
        lanes: &mut dyn Iterator<Item = (Range<usize>, &mut DocumentWindow)>,
    ) -> Result<(), LabError> {
        if self.order.as_ref().is_none_or(|(of, _)| *of != epoch) {
            self.order = Some((epoch, self.order(epoch)));
        }
        let order = self.order.as_ref().map_or(&[][..], |(_, order)| order);
        let from = index * self.batch;
        let batch = &order[from..(from + self.batch).min(order.len())];
        for (rows, to) in lanes {
            to.clear();
            let rows = rows.start.min(batch.len())..rows.end.min(batch.len());
            batch[rows].iter().for_each(|&number| self.documents.put(number as usize, to));
        }
        self.documents.check()
    }

    fn go_to(&mut self, _: u64, _: usize) {}
}

#[cfg(test)]
mod tests {
    use lalograph_net::models::classifier::DocumentWindow;
    use lalograph_text::Reserved;
    use lalograph_text::tokens::TokenSequence;

    use super::{DocumentBatches, Documents, NumberRows, kept, length_keeping};
    use crate::data::source::Windows;
    use crate::plan::Keep;

    /// Documents of these lengths: of document i, the tokens 100 i, 100 i + 1 and so on, of a hundred in turn.
    fn documents(lengths: &[usize], longest: Option<usize>, keep: Keep) -> Documents {
        let tokens = lengths.iter().enumerate().flat_map(|(i, &length)| {
            (0..length as u32).map(move |at| 100 * (i as u32 + 1) + at % 100).chain([Reserved::END])
        });
        let labels = (0..lengths.len() as u32).map(|i| i % 3).collect();
        Documents::new(TokenSequence::from_indices(tokens.collect()).with_labels(labels), longest, keep)
    }

    #[test]
    fn longer_documents_keep_the_part_that_is_chosen() {
        assert_eq!(kept(4, 5, Keep::End), [0..4, 4..4]);
        for (keep, expected) in [
            (Keep::Beginning, vec![100, 101, 102]),
            (Keep::End, vec![104, 105, 106]),
            (Keep::BothEnds, vec![100, 101, 106]),
        ] {
            let documents = documents(&[7, 0, 2], Some(3), keep);
            let mut window = DocumentWindow::default();
            (0..3).for_each(|number| documents.put(number, &mut window));
            // A document without tokens has its end token alone.
            let expected = [expected, vec![Reserved::END, 300, 301]].concat();
            assert_eq!(window.tokens, expected, "{keep:?}");
            assert_eq!((window.lengths, window.classes), (vec![3, 1, 2], vec![0, 1, 2]));
            assert_eq!((documents.cut(), documents.longest(), documents.steps()), (1, 3, 6));
        }
    }

    #[test]
    fn documents_of_numbers_keep_the_part_that_is_chosen() {
        let rows = NumberRows {
            numbers: (0..16).map(|number| number as f32).collect(),
            steps: vec![2, 5, 1],
            classes: vec![1, 0, 1],
        };
        for (longest, keep, expected) in [
            (None, Keep::End, (4..14).collect::<Vec<_>>()),
            (Some(3), Keep::Beginning, (4..10).collect()),
            (Some(3), Keep::BothEnds, vec![4, 5, 6, 7, 12, 13]),
        ] {
            let documents = Documents::of_numbers(rows.clone(), 2, longest, keep);
            let mut window = DocumentWindow::default();
            (0..3).for_each(|number| documents.put(number, &mut window));
            let found: Vec<i32> = window.numbers.iter().map(|&number| number as i32).collect();
            assert_eq!(found, [vec![0, 1, 2, 3], expected, vec![14, 15]].concat(), "{keep:?}");
            assert_eq!((window.lengths[0], window.lengths[2], &window.classes[..]), (2, 1, &[1, 0, 1][..]));
            assert_eq!(documents.cut(), u64::from(longest.is_some()));
        }
    }

    #[test]
    fn the_default_length_keeps_the_share_whole() {
        assert_eq!(length_keeping(0.95, (1..=100).collect()), 95);
        assert_eq!(length_keeping(0.95, vec![5, 5, 90]), 90);
        assert_eq!(length_keeping(0.95, Vec::new()), 1);
    }

    #[test]
    fn each_epoch_has_every_document_once_beside_documents_of_like_length() {
        let like: Vec<usize> = (0..1003).map(|i| 1 + i * 7919 % 200).collect();
        check_batches(&documents(&like, None, Keep::Beginning));
        // Most are short and a few are very long, as documents are; the longest are cut, as they are unless all is asked for.
        let different: Vec<usize> =
            (0..1003).map(|i| (20.0 * (1003.0 / (1 + i * 7919 % 1003) as f64).powf(0.9)) as usize).collect();
        let longest = length_keeping(0.95, different.clone());
        assert!((200..400).contains(&longest) && different.iter().max() > Some(&9000), "{longest}");
        check_batches(&documents(&different, Some(longest), Keep::Beginning));
    }

    fn check_batches(documents: &Documents) {
        let mut batches = DocumentBatches::new(documents, 16, 3);
        let mut epochs = Vec::new();
        for epoch in [0, 1, 0] {
            let (mut seen, mut padded, mut steps) = (Vec::new(), 0, 0);
            for index in 0..batches.count() {
                let mut lanes = [DocumentWindow::default(), DocumentWindow::default()];
                let [a, b] = &mut lanes;
                batches.fill(epoch, index, &mut [(0..8, a), (8..16, b)].into_iter()).unwrap();
                for lane in lanes {
                    padded += lane.lengths.len() * lane.lengths.iter().max().unwrap_or(&0);
                    steps += lane.steps();
                    let mut at = 0;
                    for length in lane.lengths {
                        seen.push(lane.tokens[at] / 100);
                        at += length;
                    }
                }
            }
            assert!((padded as f64) < 1.05 * steps as f64, "{padded} positions for {steps} steps");
            epochs.push(seen);
        }
        assert!(epochs[0] == epochs[2] && epochs[0] != epochs[1]);
        epochs[1].sort_unstable();
        assert!(epochs[1].iter().copied().eq(1..=1003));
    }
}
