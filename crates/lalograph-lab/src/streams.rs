//! Windows of text for the network: parallel streams read in order, the state carried from window to window.

use lalograph_net::softmax::IGNORED;
use lalograph_text::Reserved;
use lalograph_text::tokens::TokenSequence;

/// The training text cut into `rows` streams of equal length, each read from left to right in windows of nearly equal length.
#[derive(Debug)]
pub(crate) struct TrainingStreams<'t> {
    text: &'t TokenSequence,
    rows: usize,
    length: usize,
    windows: usize,
}

impl<'t> TrainingStreams<'t> {
    /// Streams whose windows are at most `window` long. Fewer than `rows` tokens at the end of the text are left out.
    pub(crate) fn new(text: &'t TokenSequence, rows: usize, window: usize) -> Self {
        let length = text.len() / rows;
        Self { text, rows, length, windows: length.div_ceil(window) }
    }

    /// Windows in one pass over the text.
    pub(crate) fn windows(&self) -> usize {
        self.windows
    }

    /// Writes window `index` of a pass, step-major. Windows after the first go on where the last ended.
    pub(crate) fn window(&self, index: usize, inputs: &mut Vec<u32>, targets: &mut Vec<u32>) {
        inputs.clear();
        targets.clear();
        let bound = |index: usize| index * self.length / self.windows;
        for step in bound(index)..bound(index + 1) {
            for row in 0..self.rows {
                let at = row * self.length + step;
                inputs.push(self.text.input(at));
                targets.push(self.text.index(at));
            }
        }
    }
}

/// A text to be judged, cut into rows at ends of documents where there are any, so that no document is read without its
/// beginning. Every token is predicted exactly once.
#[derive(Debug)]
pub(crate) struct JudgedRows {
    /// Where each row begins, and the text's length.
    bounds: Vec<usize>,
    window: usize,
}

impl JudgedRows {
    pub(crate) fn new(text: &TokenSequence, rows: usize, window: usize) -> Self {
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
        Self { bounds, window }
    }

    pub(crate) fn rows(&self) -> usize {
        self.bounds.len() - 1
    }

    pub(crate) fn windows(&self) -> usize {
        let longest = self.bounds.windows(2).map(|pair| pair[1] - pair[0]).max().unwrap_or(0);
        longest.div_ceil(self.window)
    }

    /// Writes window `index`, step-major; rows that have ended are filled up with padding that is not scored.
    pub(crate) fn window(
        &self,
        text: &TokenSequence,
        index: usize,
        inputs: &mut Vec<u32>,
        targets: &mut Vec<u32>,
    ) {
        inputs.clear();
        targets.clear();
        for step in index * self.window..(index + 1) * self.window {
            for pair in self.bounds.windows(2) {
                let at = pair[0] + step;
                let inside = at < pair[1];
                inputs.push(if inside { text.input(at) } else { Reserved::PADDING });
                targets.push(if inside { text.index(at) } else { IGNORED });
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::{JudgedRows, TrainingStreams};
    use lalograph_net::softmax::IGNORED;
    use lalograph_text::Reserved;
    use lalograph_text::tokens::TokenSequence;
    use proptest::prelude::*;

    fn text(lengths: &[usize]) -> TokenSequence {
        let mut indices = Vec::new();
        for (document, &length) in lengths.iter().enumerate() {
            indices.extend((0..length).map(|i| 4 + ((document * 7 + i) % 50) as u32));
            indices.push(Reserved::END);
        }
        TokenSequence::from_indices(indices)
    }

    proptest! {
        #[test]
        fn each_stream_is_read_once_and_in_order(
            lengths in prop::collection::vec(0usize..30, 1..40), rows in 1usize..6, window in 1usize..20,
        ) {
            let text = text(&lengths);
            prop_assume!(text.len() >= rows);
            let streams = TrainingStreams::new(&text, rows, window);
            let (mut inputs, mut targets) = (Vec::new(), Vec::new());
            let mut read = vec![Vec::new(); rows];
            for index in 0..streams.windows() {
                streams.window(index, &mut inputs, &mut targets);
                prop_assert!(targets.len() <= rows * window && !targets.is_empty());
                for (at, &target) in targets.iter().enumerate() {
                    read[at % rows].push((inputs[at], target));
                }
            }
            let length = text.len() / rows;
            for (row, read) in read.iter().enumerate() {
                let expected: Vec<(u32, u32)> =
                    (row * length..(row + 1) * length).map(|at| (text.input(at), text.index(at))).collect();
                prop_assert_eq!(read, &expected);
            }
        }

        #[test]
        fn a_judged_text_is_predicted_exactly_once(
            lengths in prop::collection::vec(0usize..30, 1..40), rows in 1usize..9, window in 1usize..20,
        ) {
            let text = text(&lengths);
            let judged = JudgedRows::new(&text, rows, window);
            let (mut inputs, mut targets) = (Vec::new(), Vec::new());
            let mut read = vec![Vec::new(); judged.rows()];
            for index in 0..judged.windows() {
                judged.window(&text, index, &mut inputs, &mut targets);
                for (at, &target) in targets.iter().enumerate() {
                    if target != IGNORED {
                        read[at % judged.rows()].push((inputs[at], target));
                    }
                }
            }
            let expected: Vec<(u32, u32)> =
                (0..text.len()).map(|at| (text.input(at), text.index(at))).collect();
            prop_assert_eq!(read.concat(), expected);
        }
    }
}
