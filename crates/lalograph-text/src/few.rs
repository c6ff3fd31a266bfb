//! Corpora of so few documents that the part that is held out is the end of their text, and not some of them.

use crate::corpus::{Batch, Corpus, ReadObserver};
use crate::error::TextError;

/// Bytes to search for white space; without any, a document is cut between two characters.
const LOOKED_FOR: usize = 256;

/// All documents of a small corpus.
#[derive(Debug, Clone, Default)]
pub struct FewDocuments {
    documents: Vec<String>,
}

/// A stretch of one document.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Piece<'t> {
    /// The text.
    pub text: &'t str,
    /// Whether the document ends with it.
    pub ends: bool,
}

impl FewDocuments {
    /// Reads a corpus into memory.
    ///
    /// # Errors
    /// As for [`Corpus::read`]; a stop by the observer.
    pub fn read(corpus: &Corpus, observer: &mut dyn ReadObserver) -> Result<Self, TextError> {
        let mut few = Self::default();
        let work = |(): &mut (), _: &Batch| ();
        corpus.process(
            1,
            observer,
            || (),
            work,
            |batch, ()| {
                batch.documents().for_each(|document| few.push(document.text));
                Ok(())
            },
        )?;
        Ok(few)
    }

    /// Adds a document.
    pub fn push(&mut self, text: &str) {
        self.documents.push(text.to_owned());
    }

    /// The text cut in three by its bytes: what is learnt from, and then these shares for validation and for testing. A cut inside a document
    /// is before white space, so that no word is cut.
    ///
    /// ```
    /// use lalograph_text::few::FewDocuments;
    ///
    /// let mut few = FewDocuments::default();
    /// few.push("the bees came home");
    /// few.push("they slept");
    /// let [training, validation, test] = few.parts(0.5, 0.0);
    /// assert_eq!((training[0].text, training[0].ends), ("the bees came", false));
    /// assert_eq!((validation[0].text, validation[1].text), (" home", "they slept"));
    /// assert!(test.is_empty());
    /// ```
    pub fn parts(&self, validation: f64, test: f64) -> [Vec<Piece<'_>>; 3] {
        let total: usize = self.documents.iter().map(String::len).sum();
        let at = |share: f64| self.cut((total as f64 * share).round() as usize);
        let ends = [at(1.0 - validation - test), at(1.0 - test), total];
        let mut parts = [Vec::new(), Vec::new(), Vec::new()];
        let mut before = 0;
        for text in &self.documents {
            let mut from = 0;
            for (part, end) in parts.iter_mut().zip(ends) {
                let to = end.saturating_sub(before).min(text.len());
                if to > from {
                    let ends = to == text.len();
                    part.push(Piece { text: &text[from..to], ends });
                    from = to;
                }
            }
            before += text.len();
        }
        parts
    }

    /// The first place at or after `wanted`, in bytes of all texts one after the other, where they may be cut; the last one before it where
    /// only a word follows.
    fn cut(&self, wanted: usize) -> usize {
        let mut before = 0;
        for text in &self.documents {
            let within = wanted.saturating_sub(before);
            if within < text.len() {
                let from = (within..text.len()).find(|&at| text.is_char_boundary(at)).unwrap_or(text.len());
                let after = text[from..].char_indices().take_while(|(at, _)| *at <= LOOKED_FOR);
                let after = after.into_iter().find(|(_, c)| c.is_whitespace()).map(|(at, _)| from + at);
                let before_it = || {
                    let back =
                        text[..from].char_indices().rev().take_while(|(at, _)| from - at <= LOOKED_FOR);
                    back.into_iter().find(|(at, c)| *at > 0 && c.is_whitespace()).map(|(at, _)| at)
                };
                let place = match after {
                    Some(place) => place,
                    None if text.len() - from > LOOKED_FOR => from,
                    // In the last word: it is held out, unless it is the whole document.
                    None => before_it().unwrap_or(if text.len() > LOOKED_FOR { from } else { text.len() }),
                };
                return before + place;
            }
            before += text.len();
        }
        before
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::FewDocuments;

    proptest! {
        #[test]
        fn nothing_is_lost_and_no_word_is_cut(
            texts in prop::collection::vec("[a-z\u{e9}]{1,8}( [a-z\u{4e00}]{1,9}){0,30}", 1..6),
            validation in 0.0f64..0.5, test in 0.0f64..0.4,
        ) {
            let mut few = FewDocuments::default();
            texts.iter().for_each(|text| few.push(text));
            let parts = few.parts(validation, test);
            let all: Vec<_> = parts.iter().flatten().collect();
            let joined: String = all.iter().map(|piece| piece.text).collect();
            prop_assert_eq!(joined, texts.concat());
            prop_assert_eq!(all.iter().filter(|piece| piece.ends).count(), texts.len());
            for piece in &all {
                prop_assert!(piece.ends || !piece.text.ends_with(' '));
            }
            let whole: Vec<&str> = texts.iter().flat_map(|text| text.split(' ')).collect();
            let cut: Vec<&str> = all.iter().flat_map(|piece| piece.text.split(' ').filter(|word| !word.is_empty())).collect();
            prop_assert_eq!(whole, cut);
            // Each cut is moved by less than a word.
            let total: usize = texts.iter().map(String::len).sum();
            let held: usize = parts[1].iter().chain(&parts[2]).map(|piece| piece.text.len()).sum();
            prop_assert!((held as f64 - total as f64 * (validation + test)).abs() <= 30.0);
        }
    }

    #[test]
    fn text_without_white_space_is_cut_between_characters() {
        let mut few = FewDocuments::default();
        few.push(&"\u{8702}".repeat(9000));
        let [training, validation, _] = few.parts(0.1, 0.0);
        assert_eq!(training[0].text.chars().count(), 8100);
        assert_eq!(validation[0].text.chars().count(), 900);
        assert!(!training[0].ends && validation[0].ends);
    }

    #[test]
    fn a_share_that_is_less_than_the_last_word_is_that_word_unless_it_is_all() {
        let held_out = |text: &str| {
            let mut few = FewDocuments::default();
            few.push(text);
            few.parts(0.1, 0.0)[1].iter().map(|piece| piece.text.to_owned()).collect::<Vec<_>>()
        };
        assert_eq!(held_out("the hive hums today"), [" today"]);
        assert_eq!(held_out("hive"), [""; 0]);
    }
}
