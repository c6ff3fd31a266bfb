//! A text of any length in parts that are encoded one by one, and together are what the whole would be.

use std::io::{Error, ErrorKind, Read, Result};

use super::Vocabulary;

/// Reads a text in parts for a vocabulary. A part ends where neither cleaning nor a unit looks across: between two words of ASCII letters or digits with a
/// space or a line end between them. Where cleaning has to see the whole text, as a replacement does, the only part is the whole.
///
/// ```
/// use lalograph_text::{Unit, VocabularyBuilder, vocabulary::{TextParts, VocabularySpec}};
/// let spec = VocabularySpec { unit: Unit::Word, ..VocabularySpec::default() };
/// let mut builder = VocabularyBuilder::new(&spec);
/// builder.add("the bee and the hive");
/// let vocabulary = builder.finish(1)?;
/// let parts = TextParts::new("the bee and the wasp".as_bytes(), &vocabulary, 11).collect::<std::io::Result<Vec<_>>>();
/// assert_eq!(parts.unwrap(), ["the bee", " and the", " wasp"]);
/// # Ok::<(), lalograph_text::TextError>(())
/// ```
#[derive(Debug)]
pub struct TextParts<R> {
    source: R,
    /// Bytes of a part, about; none if the text is one part.
    size: Option<usize>,
    held: Vec<u8>,
    ended: bool,
}

impl<R: Read> TextParts<R> {
    /// Parts of about `size` bytes; longer ones where a text has no place to end them.
    pub fn new(source: R, vocabulary: &Vocabulary, size: usize) -> Self {
        let size = vocabulary.cleaning().is_local().then_some(size.max(1));
        Self { source, size, held: Vec::new(), ended: false }
    }

    fn read_part(&mut self) -> Result<Option<String>> {
        let mut wanted = self.size;
        while !self.ended {
            let most = wanted.map_or(usize::MAX, |wanted| wanted.saturating_sub(self.held.len()));
            let read = self.source.by_ref().take(most as u64).read_to_end(&mut self.held)?;
            self.ended = read < most;
            if !self.ended {
                if let Some(end) = last_end(&self.held) {
                    let rest = self.held.split_off(end);
                    return text(std::mem::replace(&mut self.held, rest)).map(Some);
                }
                wanted = wanted.map(|wanted| wanted.saturating_mul(2));
            }
        }
        let rest = std::mem::take(&mut self.held);
        if rest.is_empty() { Ok(None) } else { text(rest).map(Some) }
    }
}

impl<R: Read> Iterator for TextParts<R> {
    type Item = Result<String>;

    fn next(&mut self) -> Option<Self::Item> {
        self.read_part().transpose()
    }
}

/// The last place at which a part may end.
fn last_end(bytes: &[u8]) -> Option<usize> {
    let is_word = |byte: u8| byte.is_ascii_alphanumeric();
    // Of `a b` the space goes with the second, as in pieces of subwords.
    bytes
        .windows(3)
        .rposition(|three| match three {
            [before, b' ', after] => is_word(*before) && is_word(*after),
            _ => false,
        })
        .map(|at| at + 1)
        .into_iter()
        .chain(bytes.windows(2).rposition(|two| two[0] == b'\n' && is_word(two[1])).map(|at| at + 1))
        .max()
}

fn text(bytes: Vec<u8>) -> Result<String> {
    String::from_utf8(bytes).map_err(|_| Error::new(ErrorKind::InvalidData, "the text is not UTF-8"))
}

#[cfg(test)]
mod tests {
    use std::sync::LazyLock;

    use proptest::prelude::*;

    use super::{TextParts, last_end};
    use crate::vocabulary::{Vocabulary, VocabularyBuilder, VocabularySpec};
    use crate::{Cleaning, CleaningStep, Unit};

    const TEXT: &str = "The queen's cells, 14 kilos.\r\nE\u{301}t\u{e9} \u{3a3}\u{3a3} bees\n\nfly  home (3.5 km) \u{2009}to-day\u{2026} a\u{308} b \u{301}c";

    fn vocabulary(unit: Unit, steps: Vec<CleaningStep>) -> Vocabulary {
        let cleaning = Cleaning { steps };
        let mut builder = VocabularyBuilder::new(&VocabularySpec {
            unit,
            cleaning,
            size: Some(300),
            minimum_count: 1,
            ..VocabularySpec::default()
        });
        builder.add(TEXT);
        builder.finish(1).unwrap()
    }

    /// Vocabularies of every unit behind every cleaning that does not need the whole text.
    static LOCAL: LazyLock<Vec<Vocabulary>> = LazyLock::new(|| {
        let local = CleaningStep::SIMPLE.into_iter().filter(CleaningStep::is_local);
        let several =
            vec![CleaningStep::NormalFormC, CleaningStep::LowerCase, CleaningStep::SplitPunctuation];
        let cleanings: Vec<_> = local.map(|step| vec![step]).chain([Vec::new(), several]).collect();
        let of_unit = |unit| cleanings.iter().map(move |steps| vocabulary(unit, steps.clone()));
        Unit::ALL.into_iter().flat_map(of_unit).collect()
    });

    fn parts(vocabulary: &Vocabulary, text: &str, size: usize) -> Vec<String> {
        TextParts::new(text.as_bytes(), vocabulary, size).collect::<Result<_, _>>().unwrap()
    }

    #[test]
    fn a_part_ends_between_words_only() {
        for (text, end) in [
            ("a b", Some(1)),
            ("a\nb", Some(2)),
            ("a b\nc d", Some(5)),
            ("a  b", None),
            ("a. b", None),
            ("a \u{e9}", None),
            ("a\n b", None),
            ("ab", None),
            ("", None),
        ] {
            assert_eq!(last_end(text.as_bytes()), end, "{text:?}");
        }
    }

    #[test]
    fn a_text_that_cleaning_sees_whole_is_one_part_and_no_text_is_none() {
        let words = vocabulary(Unit::Word, vec![CleaningStep::CollapseSpace]);
        assert_eq!(parts(&words, TEXT, 1), [TEXT]);
        assert!(parts(&words, "", 1).is_empty());
        let words = vocabulary(Unit::Word, Vec::new());
        assert!(parts(&words, "", 1).is_empty());
        assert_eq!(parts(&words, "one two three four", 9), ["one two", " three", " four"]);
        let wrong = TextParts::new(&b"a b \xff c d"[..], &words, 2).collect::<Vec<_>>();
        assert!(wrong.iter().any(Result::is_err));
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(300))]
        #[test]
        fn parts_are_encoded_as_the_whole(
            text in "([a-cA9 \n,'.-]|\r\n|\u{301}|\u{e9}|\u{3a3}|\u{2009}|\u{fb01}|  ){0,60}",
            size in 1_usize..20,
        ) {
            for vocabulary in LOCAL.iter() {
                let (mut whole, mut together) = (Vec::new(), Vec::new());
                vocabulary.encoder().encode_into(&text, &mut whole);
                let mut encoder = vocabulary.encoder();
                for part in parts(vocabulary, &text, size) {
                    encoder.encode_into(&part, &mut together);
                }
                prop_assert_eq!(&whole, &together, "{:?} {:?}", vocabulary.unit(), vocabulary.cleaning());
            }
        }
    }
}
