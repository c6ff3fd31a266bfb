//! Turns of a conversation: what is read of what was said, how the model's turn is written, and what of it is said.

use lalograph_net::numbers::chance::{Stream, stream};
use lalograph_text::{Reserved, Vocabulary};

use super::decoding::Decoding;
use super::text::{Stop, Terms};

/// What a model reads of what was said.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Heard<'t> {
    /// The text that it reads. A model that continues texts can make nothing of words that it does not know: if it knows none, it reads nothing.
    pub text: &'t str,
    /// The tokens that it does not know, in order.
    pub unknown: Vec<String>,
}

/// What a model of this vocabulary reads of what was said.
pub fn heard<'t>(vocabulary: &Vocabulary, said: &'t str) -> Heard<'t> {
    let tokens = vocabulary.encode(said);
    let all = tokens.len();
    let known = |(token, index): (String, u32)| (index == Reserved::UNKNOWN).then_some(token);
    let unknown: Vec<String> = tokens.into_iter().filter_map(known).collect();
    let nothing = all > 0 && unknown.len() == all && vocabulary.turns().is_none();
    Heard { text: if nothing { "" } else { said }, unknown }
}

/// How a turn is written: a model of prompts and answers ends its answer itself, any other is stopped after a sentence.
pub fn terms_of_turn(vocabulary: &Vocabulary, decoding: Decoding, tokens: usize) -> Terms {
    let stop = Stop { sentence: vocabulary.turns().is_none(), ..Stop::default() };
    Terms { stop, ..Terms::new(decoding, tokens) }
}

/// The source of chance of a turn, by its number and by how often it was taken before.
pub fn chance_of_turn(seed: u64, turn: u64, times: u64) -> Stream {
    stream(seed, "conversation", &[turn, times])
}

/// What is said of a turn, piece by piece: not the space between what was said before and what follows.
#[derive(Debug, Clone, Copy, Default)]
pub struct Spoken {
    started: bool,
}

impl Spoken {
    /// The part of a piece that is said.
    pub fn part<'p>(&mut self, piece: &'p str) -> &'p str {
        let said = if self.started { piece } else { piece.trim_start() };
        self.started |= !said.is_empty();
        said
    }
}
