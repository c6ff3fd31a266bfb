//! The tokens that mark where a prompt and where an answer ends.

use super::build::unigram_method;
use super::{Lookup, Method, Reserved, Token, Turns, Vocabulary};
use crate::error::TextError;
use crate::packed::pack;

/// Spellings of the two tokens, as people see them.
const SPELLINGS: [&str; 2] = ["\u{2039}prompt end\u{203a}", "\u{2039}answer end\u{203a}"];

impl Turns {
    /// Whether an index is one of them.
    pub fn has(self, index: u32) -> bool {
        index == self.prompt_end || index == self.answer_end
    }
}

impl Lookup {
    fn remove(&mut self, bytes: &[u8]) {
        match pack(bytes) {
            Some(packed) => drop(self.short.remove(&packed)),
            None => drop(self.long.remove(bytes)),
        }
    }
}

impl Vocabulary {
    /// The tokens that mark the ends of prompts and answers, if it has them.
    pub fn turns(&self) -> Option<Turns> {
        self.turns
    }

    /// The same with two more tokens behind all others, which mark the ends of prompts and answers; as it is if it has them.
    ///
    /// # Errors
    /// [`TextError::BadVocabulary`] if it is full, or a token is spelt like one of them.
    pub fn with_turns(&self) -> Result<Self, TextError> {
        if self.turns.is_some() {
            return Ok(self.clone());
        }
        let mut tokens = self.tokens.clone();
        let next = self.len() as u32;
        tokens.extend(SPELLINGS.map(|spelling| Token::new(spelling.as_bytes(), 0)));
        let method = match &self.method {
            Method::Unigram { scores, .. } => {
                unigram_method(&tokens, scores.iter().copied().chain([None; 2]).collect())
            }
            method => method.clone(),
        };
        Self::assemble(
            self.unit,
            self.cleaning.clone(),
            self.reserved.clone(),
            self.counted,
            tokens,
            method,
            self.rest.clone(),
        )
        .map_err(|(_, what)| what)
        .and_then(|larger| larger.marked(Some(Turns { prompt_end: next, answer_end: next + 1 })))
        .map_err(TextError::BadVocabulary)
    }

    /// The same with these tokens as the marks.
    pub(super) fn marked(mut self, turns: Option<Turns>) -> Result<Self, String> {
        if let Some(Turns { prompt_end, answer_end }) = turns {
            for index in [prompt_end, answer_end] {
                let position = index.checked_sub(Reserved::COUNT).map(|position| position as usize);
                let token = position.and_then(|position| self.tokens.get(position));
                let Some(token) = token.filter(|_| prompt_end != answer_end) else {
                    return Err("its ends of prompts and answers are not two tokens of its own".into());
                };
                self.lookup.remove(&token.bytes);
            }
        }
        self.turns = turns;
        Ok(self)
    }

    /// The tokens that are text.
    pub(super) fn spelt(&self) -> impl Iterator<Item = &Token> {
        (Reserved::COUNT..)
            .zip(&self.tokens)
            .filter(|(index, _)| !self.is_silent(*index))
            .map(|(_, token)| token)
    }

    /// Whether this vocabulary is another with tokens added behind: an index of the other is the same token here, and texts are cleaned and cut alike.
    pub fn continues(&self, other: &Self) -> bool {
        let same = |(own, theirs): (&Token, &Token)| own.bytes == theirs.bytes;
        self.unit == other.unit
            && self.cleaning == other.cleaning
            && self.reserved == other.reserved
            && other.turns.is_none_or(|turns| self.turns == Some(turns))
            && self.tokens.len() >= other.tokens.len()
            && self.tokens.iter().zip(&other.tokens).all(same)
    }
}
