//! A text that is read once, for validation and scoring.

use std::ops::Range;

use lalograph_net::models::language::TokenWindow;
use lalograph_text::Reserved;
use lalograph_text::tokens::TokenSequence;

use super::filler::Filler;

/// A text that is read once, cut into rows at ends of documents where there are any, so that no document is read without its
/// beginning. Every token is predicted exactly once.
#[derive(Debug)]
pub(crate) struct ReadingRows {
    /// Start of each row, and length of the text.
    bounds: Vec<usize>,
    window: usize,
    filler: Filler,
}

impl ReadingRows {
    pub(crate) fn new(text: &TokenSequence, rows: usize, window: usize, reset: bool) -> Self {
        let mut bounds = vec![0];
        for row in 1..rows {
            let ideal = row * text.len() / rows;
            let from = bounds[bounds.len() - 1];
            // The end of the document that the ideal place falls into, unless that leaves a row out of proportion.
            let reach = (ideal + text.len() / rows / 2).min(text.len());
            let end = (ideal..reach).find(|&at| text.index(at) == Reserved::END).map(|at| at + 1);
            let cut = end.unwrap_or(ideal);
            if cut > from && cut < text.len() {
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

    /// Fills a lane's window with window `index`; rows that have ended are filled up with padding that is not scored.
    pub(crate) fn window(
        &self,
        text: &TokenSequence,
        index: usize,
        rows: Range<usize>,
        to: &mut TokenWindow,
    ) {
        to.clear();
        for step in index * self.window..(index + 1) * self.window {
            for pair in self.bounds[rows.start..=rows.end].windows(2) {
                let at = pair[0] + step;
                if at < pair[1] {
                    self.filler.push(text, at, step == 0, true, to);
                } else {
                    self.filler.pad(false, to);
                }
            }
        }
    }
}
