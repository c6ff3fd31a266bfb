//! The units that a text is cut into.

use serde::{Deserialize, Serialize};

use crate::words::each_word;

/// What a token is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Unit {
    /// Words by the Unicode rules for word boundaries (Standard Annex 29), each punctuation mark a token of its own, white space none.
    /// An apostrophe inside a word stays in it; a hyphen parts it.
    #[default]
    Word,
    /// Unicode code points, white space included.
    Character,
}

impl Unit {
    /// The name used in plans and files.
    pub fn name(self) -> &'static str {
        match self {
            Self::Word => "word",
            Self::Character => "character",
        }
    }

    /// The name of several.
    pub fn plural(self) -> &'static str {
        match self {
            Self::Word => "words",
            Self::Character => "characters",
        }
    }

    /// Calls `each` with every token of the text, in order.
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
        }
    }

    /// Puts tokens together again: exactly for characters, readably for words.
    ///
    /// ```
    /// use lalograph_text::Unit;
    /// assert_eq!(Unit::Word.join(["Quiet", ",", "so", "far", "."]), "Quiet, so far.");
    /// ```
    pub fn join<'t>(self, tokens: impl IntoIterator<Item = &'t str>) -> String {
        let mut out = String::new();
        let mut joiner = Joiner::new(self);
        for token in tokens {
            joiner.push(token, &mut out);
        }
        out
    }
}

/// Puts tokens together one at a time, so that text can be shown as it comes.
#[derive(Debug, Clone)]
pub struct Joiner {
    unit: Unit,
    /// Whether the next word stands against what is there.
    tight: bool,
    inside_quotes: bool,
}

impl Joiner {
    /// Starts a text.
    pub fn new(unit: Unit) -> Self {
        Self { unit, tight: true, inside_quotes: false }
    }

    /// Appends a token to `out`, with the space before it that it needs.
    pub fn push(&mut self, token: &str, out: &mut String) {
        if self.unit == Unit::Character {
            out.push_str(token);
            return;
        }
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
    use super::Unit;
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
    fn joined_words_read_well() {
        for text in ["Quiet, so far.", "She said \"go\" (twice): no!", "Is it? \u{201c}Yes\u{201d}; 20%."] {
            assert_eq!(Unit::Word.join(tokens(Unit::Word, text)), text);
        }
    }

    proptest! {
        #[test]
        fn characters_join_to_the_same_text(text in any::<String>()) {
            prop_assert_eq!(Unit::Character.join(tokens(Unit::Character, &text)), text);
        }

        #[test]
        fn words_lose_nothing_but_white_space(text in any::<String>()) {
            let kept: String = tokens(Unit::Word, &text).concat().split_whitespace().collect();
            let whole: String = text.split_whitespace().collect();
            prop_assert_eq!(kept, whole);
        }
    }
}
