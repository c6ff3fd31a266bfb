//! Writing tokens into windows.

use lalograph_net::heads::loss::IGNORED;
use lalograph_net::models::language::TokenWindow;
use lalograph_text::Reserved;
use lalograph_text::tokens::TokenSequence;

/// Writes tokens into windows: the one place that decides where a row is reset.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Filler {
    /// Whether rows may be reset at all.
    pub(crate) resets: bool,
    /// Whether they are where a document begins, besides where the row itself does.
    pub(crate) at_documents: bool,
}

impl Filler {
    /// Writes the token at a place of a text, and the one to be predicted there. `first` is whether its row begins with it.
    pub(super) fn push(
        self,
        text: &TokenSequence,
        at: usize,
        first: bool,
        scored: bool,
        to: &mut TokenWindow,
    ) {
        let input = text.input(at);
        to.inputs.push(input);
        to.targets.push(if scored && text.is_scored(at) { text.index(at) } else { IGNORED });
        self.mark(resets_before(input, first, self.at_documents), to);
    }

    /// Writes padding that is not scored.
    pub(super) fn pad(self, first: bool, to: &mut TokenWindow) {
        to.inputs.push(Reserved::PADDING);
        to.targets.push(IGNORED);
        self.mark(first, to);
    }

    fn mark(self, reset: bool, to: &mut TokenWindow) {
        if self.resets {
            to.resets.push(reset);
        }
    }
}

/// Whether a row's state is reset before a token: where the row begins, and where a document does if that is asked for.
pub(crate) fn resets_before(input: u32, first: bool, at_documents: bool) -> bool {
    first || (at_documents && input == Reserved::START)
}
