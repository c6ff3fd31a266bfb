//! A text that is read once, for validation and scoring.

use std::ops::Range;

use lalograph_net::models::language::TokenWindow;
use lalograph_text::Reserved;
use lalograph_text::tokens::TokenSequence;

use super::filler::Filler;

/// A text that is read once, in rows. Every token is predicted exactly once.
#[derive(Debug)]
pub(crate) struct ReadingRows {
    /// Start of each row, and length of the text.
    bounds: Vec<usize>,
    window: usize,
    filler: Filler,
}

impl ReadingRows {
    /// Rows of nearly equal length, cut at ends of documents where there are any, so that few documents are read without their beginning.
    pub(crate) fn new(text: &TokenSequence, rows: usize, window: usize, reset: bool) -> Self {
        // The end of the document that the ideal place falls into, unless that leaves a row out of proportion.
        let reach = text.len() / rows / 2;
        let cuts = (1..rows).map(|row| {
            let ideal = row * text.len() / rows;
            end_of_document(text, ideal, ideal + reach).unwrap_or(ideal)
        });
        Self::cut(text, cuts, window, reset)
    }

    /// At most so many rows of whole documents, whose state is reset before each of them: what is predicted does not depend on the number of rows.
    pub(crate) fn of_documents(text: &TokenSequence, rows: usize, window: usize) -> Self {
        let mut cuts = vec![0];
        for ideal in (1..rows).map(|row| row * text.len() / rows) {
            // Within a long document, its end is the next cut of several.
            if ideal >= cuts[cuts.len() - 1] {
                cuts.push(end_of_document(text, ideal, text.len()).unwrap_or(text.len()));
            }
        }
        Self::cut(text, cuts.into_iter(), window, true)
    }

    fn cut(text: &TokenSequence, cuts: impl Iterator<Item = usize>, window: usize, reset: bool) -> Self {
        let mut bounds = vec![0];
        for cut in cuts {
            if cut > bounds[bounds.len() - 1] && cut < text.len() {
                bounds.push(cut);
            }
        }
        bounds.push(text.len());
        Self { bounds, window, filler: Filler { resets: true, at_documents: reset } }
    }

    pub(crate) fn rows(&self) -> usize {
        self.bounds.len() - 1
    }

    pub(crate) fn windows(&self) -> usize {
        let longest = self.bounds.windows(2).map(|pair| pair[1] - pair[0]).max().unwrap_or(0);
        longest.div_ceil(self.window)
    }

    /// The places in the text of window `index` of a lane, step by step; none where a row has ended.
    pub(crate) fn places(&self, index: usize, rows: Range<usize>) -> impl Iterator<Item = Option<usize>> {
        let bounds = &self.bounds[rows.start..=rows.end];
        (index * self.window..(index + 1) * self.window).flat_map(move |step| {
            bounds.windows(2).map(move |pair| Some(pair[0] + step).filter(|&at| at < pair[1]))
        })
    }

    /// The stretch of the text that some rows read.
    pub(crate) fn stretch(&self, rows: Range<usize>) -> Range<usize> {
        self.bounds[rows.start]..self.bounds[rows.end]
    }

    /// Fills a lane's window with window `index`; rows that have ended are filled up with padding that is not scored.
    pub(crate) fn window(
        &self,
        text: &TokenSequence,
        index: usize,
        rows: Range<usize>,
        to: &mut TokenWindow,
    ) {
        to.clear();
        let steps = self.places(index, rows.clone()).zip(0..);
        for (place, number) in steps {
            match place {
                Some(at) => self.filler.push(text, at, index == 0 && number < rows.len(), true, to),
                None => self.filler.pad(false, to),
            }
        }
    }
}

/// The place after the first end of a document in a part of a text.
fn end_of_document(text: &TokenSequence, from: usize, to: usize) -> Option<usize> {
    (from..to.min(text.len())).find(|&at| text.index(at) == Reserved::END).map(|at| at + 1)
}
