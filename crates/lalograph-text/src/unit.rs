//! The units that a text is cut into.

use serde::{Deserialize, Serialize};
use unicode_segmentation::UnicodeSegmentation;

use crate::pieces::each_piece;
use crate::words::each_word;

/// Unit of a token.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Unit {
    /// Words by the Unicode rules for word boundaries (Standard Annex 29), each punctuation mark a token of its own, white space none.
    /// An apostrophe inside a word stays in it; a hyphen parts it and is a token.
    #[default]
    Word,
    /// Unicode code points, white space included.
    Character,
    /// Extended grapheme clusters (Unicode Standard Annex 29), white space included.
    Grapheme,
    /// Bytes of UTF-8; nothing is unknown.
    Byte,
    /// Subwords by byte-pair merging; nothing is unknown.
    BytePair,
    /// Subwords of a unigram language model; nothing is unknown.
    Unigram,
}

impl Unit {
    /// All units.
    pub const ALL: [Self; 6] =
        [Self::Word, Self::Character, Self::Grapheme, Self::Byte, Self::BytePair, Self::Unigram];

    /// The name used in plans and files.
    pub fn name(self) -> &'static str {
        match self {
            Self::Word => "word",
            Self::Character => "character",
            Self::Grapheme => "grapheme",
            Self::Byte => "byte",
            Self::BytePair => "byte_pair",
            Self::Unigram => "unigram",
        }
    }

    /// One token in words.
    pub fn noun(self) -> &'static str {
        match self {
            Self::BytePair | Self::Unigram => "subword",
            other => other.name(),
        }
    }

    /// Several tokens in words.
    pub fn plural(self) -> &'static str {
        match self {
            Self::Word => "words",
            Self::Character => "characters",
            Self::Grapheme => "graphemes",
            Self::Byte => "bytes",
            Self::BytePair | Self::Unigram => "subwords",
        }
    }

    /// Whether tokens are parts of words that have to be learnt.
    pub fn is_subword(self) -> bool {
        matches!(self, Self::BytePair | Self::Unigram)
    }

    /// Whether a vocabulary of this unit has an index for every text.
    pub fn knows_everything(self) -> bool {
        matches!(self, Self::Byte | Self::BytePair | Self::Unigram)
    }

    /// Whether the tokens of a text, one after another, are the text.
    pub fn is_exact(self) -> bool {
        self != Self::Word
    }

    /// Calls `each` with every token of the text, in order. Units that have to be learnt, and bytes, give the whole text as
    /// one: only their vocabulary can cut it.
    #[inline]
    pub fn tokenise<'t>(self, text: &'t str, mut each: impl FnMut(&'t str)) {
        match self {
            Self::Word => each_word(text, each),
            Self::Character => {
                let mut rest = text;
                while let Some(c) = rest.chars().next() {
                    let (token, after) = rest.split_at(c.len_utf8());
                    each(token);
                    rest = after;
                }
            }
            Self::Grapheme => text.graphemes(true).for_each(each),
            Self::Byte | Self::BytePair | Self::Unigram => each(text),
        }
    }
}

impl Unit {
    /// Calls `each` with the parts of a text that a vocabulary of this unit is counted on: pieces for subwords, tokens
    /// otherwise.
    #[inline]
    pub(crate) fn parts<'t>(self, text: &'t str, each: impl FnMut(&'t str)) {
        if self.is_subword() { each_piece(text, each) } else { self.tokenise(text, each) }
    }
}

/// Puts words together one at a time, with the spaces between them that they need.
#[derive(Debug, Clone)]
pub(crate) struct Joiner {
    /// Whether the next word follows without a space.
    tight: bool,
    inside_quotes: bool,
}

impl Joiner {
    /// Starts a text.
    pub(crate) fn new() -> Self {
        Self { tight: true, inside_quotes: false }
    }

    /// Appends a word to `out`.
    pub(crate) fn push(&mut self, token: &str, out: &mut String) {
        let quote = token == "\"";
        let closes = matches!(
            token,
            "." | "," | ";" | ":" | "!" | "?" | ")" | "]" | "}" | "\u{201d}" | "\u{2019}" | "%" | "\u{2026}"
        ) || (quote && self.inside_quotes);
        if !closes && !self.tight {
            out.push(' ');
        }
        out.push_str(token);
        self.inside_quotes ^= quote;
        self.tight =
            matches!(token, "(" | "[" | "{" | "\u{201c}" | "\u{2018}") || (quote && self.inside_quotes);
    }
}

#[cfg(test)]
mod tests {
    use super::{Joiner, Unit};
    use proptest::prelude::*;

    fn tokens(unit: Unit, text: &str) -> Vec<&str> {
        let mut tokens = Vec::new();
        unit.tokenise(text, |token| tokens.push(token));
        tokens
    }

    #[test]
    fn words_and_marks_are_parted() {
        let cases: [(&str, &[&str]); 6] = [
            ("The queen's cells, 14 kilos.", &["The", "queen's", "cells", ",", "14", "kilos", "."]),
            ("well-fed (mostly)", &["well", "-", "fed", "(", "mostly", ")"]),
            ("", &[]),
            ("  \n\t", &[]),
            ("na\u{ef}ve \u{1f41d}!", &["na\u{ef}ve", "\u{1f41d}", "!"]),
            ("'twas 3.5", &["'", "twas", "3.5"]),
        ];
        for (text, expected) in cases {
            assert_eq!(tokens(Unit::Word, text), expected, "{text:?}");
        }
    }

    #[test]
    fn graphemes_are_user_perceived_characters() {
        let text = "e\u{301}a\u{1f468}\u{200d}\u{1f33e}\r\n";
        assert_eq!(tokens(Unit::Grapheme, text), ["e\u{301}", "a", "\u{1f468}\u{200d}\u{1f33e}", "\r\n"]);
        assert_eq!(tokens(Unit::Character, text).len(), 8);
    }

    #[test]
    fn joined_words_read_well() {
        for text in ["Quiet, so far.", "She said \"go\" (twice): no!", "Is it? \u{201c}Yes\u{201d}; 20%."] {
            let (mut joiner, mut out) = (Joiner::new(), String::new());
            tokens(Unit::Word, text).into_iter().for_each(|token| joiner.push(token, &mut out));
            assert_eq!(out, text);
        }
    }

    proptest! {
        #[test]
        fn words_lose_nothing_but_white_space(text in any::<String>()) {
            let kept: String = tokens(Unit::Word, &text).concat().split_whitespace().collect();
            let whole: String = text.split_whitespace().collect();
            prop_assert_eq!(kept, whole);
        }
    }
}
