//! Prompts and answers: a document of two texts, of which the answer is learnt.

use serde::{Deserialize, Serialize};

pub use crate::corpus::Pair;
use crate::spelling::Remainder;
use crate::vocabulary::{Encoder, Turns};

/// How pairs of a prompt and an answer become tokens.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct PairRule {
    /// Tokens of a prompt, at most: of a longer one the last are kept.
    pub longest_prompt: Option<usize>,
    /// Tokens of an answer, at most: of a longer one the first are kept, without the end of an answer.
    pub longest_answer: Option<usize>,
    /// Whether prompts are learnt too.
    pub loss_on_prompts: bool,
}

/// Pairs of which something was cut off.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PairCuts {
    /// Pairs with a prompt that is longer than the limit.
    pub prompts: u64,
    /// Pairs with an answer that is longer than the limit.
    pub answers: u64,
}

impl PairCuts {
    pub(crate) fn add(&mut self, other: Self) {
        self.prompts += other.prompts;
        self.answers += other.answers;
    }
}

/// What the tokens of a pair do not say.
#[derive(Debug, Clone, Copy, Default)]
pub struct EncodedPair {
    /// Bits beside the tokens that are scored.
    pub remainder: Remainder,
    /// Bytes of the text that is scored.
    pub bytes: usize,
    /// What was cut off.
    pub cuts: PairCuts,
}

impl Encoder<'_> {
    /// Cuts a pair and appends its tokens (the prompt, the prompt's end, the answer, the answer's end), and for each of them whether it is scored.
    pub fn encode_pair(
        &mut self,
        pair: Pair<'_>,
        turns: Turns,
        rule: PairRule,
        indices: &mut Vec<u32>,
        scored: &mut Vec<bool>,
    ) -> EncodedPair {
        let mut cuts = PairCuts::default();
        let from = indices.len();
        let of_prompt = self.encode_whole(pair.prompt, indices);
        let length = indices.len() - from;
        if let Some(longest) = rule.longest_prompt.filter(|&longest| length > longest) {
            indices.drain(from..indices.len() - longest);
            cuts.prompts = 1;
        }
        indices.push(turns.prompt_end);
        scored.resize(scored.len() + indices.len() - from, rule.loss_on_prompts);
        let answer_from = indices.len();
        let mut remainder = self.encode_whole(pair.answer, indices);
        match rule.longest_answer.filter(|&longest| indices.len() - answer_from > longest) {
            Some(longest) => {
                indices.truncate(answer_from + longest);
                cuts.answers = 1;
            }
            None => indices.push(turns.answer_end),
        }
        scored.resize(scored.len() + indices.len() - answer_from, true);
        let mut bytes = pair.answer.len();
        if rule.loss_on_prompts {
            bytes += pair.prompt.len() + 1;
            remainder += of_prompt;
        } else {
            remainder.changed |= of_prompt.changed;
        }
        EncodedPair { remainder, bytes, cuts }
    }

    /// The tokens that an answer to a prompt follows.
    pub fn encode_prompt(
        &mut self,
        prompt: &str,
        turns: Turns,
        longest: Option<usize>,
        indices: &mut Vec<u32>,
    ) {
        let from = indices.len();
        self.encode_into(prompt, indices);
        let length = indices.len() - from;
        if let Some(longest) = longest.filter(|&longest| length > longest) {
            indices.drain(from..indices.len() - longest);
        }
        indices.push(turns.prompt_end);
    }
}

#[cfg(test)]
mod tests {
    use super::{Pair, PairCuts, PairRule};
    use crate::unit::Unit;
    use crate::vocabulary::{Vocabulary, VocabularyBuilder, VocabularySpec};

    fn words(text: &str) -> Vocabulary {
        let mut builder =
            VocabularyBuilder::new(&VocabularySpec { unit: Unit::Word, ..VocabularySpec::default() });
        builder.add(text);
        builder.finish(1).unwrap().with_turns().unwrap()
    }

    /// The tokens of a pair as text, the scored ones in capitals, and what was cut.
    fn encoded(rule: PairRule) -> (String, PairCuts, usize) {
        let vocabulary = words("where is the queen in hive seven");
        let turns = vocabulary.turns().unwrap();
        let (mut indices, mut scored) = (Vec::new(), Vec::new());
        let pair = Pair { prompt: "where is the queen", answer: "in hive seven" };
        let found = vocabulary.encoder().encode_pair(pair, turns, rule, &mut indices, &mut scored);
        assert_eq!(indices.len(), scored.len());
        let words = indices.iter().zip(&scored).map(|(&index, &scored)| {
            let word = vocabulary.shown(index).unwrap().into_owned();
            if scored { word.to_uppercase() } else { word }
        });
        (words.collect::<Vec<_>>().join(" "), found.cuts, found.bytes)
    }

    #[test]
    fn the_answer_and_its_end_are_scored_and_what_is_too_long_is_cut() {
        let whole = encoded(PairRule::default());
        let expected = "where is the queen ‹prompt end› IN HIVE SEVEN ‹ANSWER END›";
        assert_eq!(whole, (expected.into(), PairCuts::default(), 13));
        let all = encoded(PairRule { loss_on_prompts: true, ..PairRule::default() });
        let expected = "WHERE IS THE QUEEN ‹PROMPT END› IN HIVE SEVEN ‹ANSWER END›";
        assert_eq!(all, (expected.into(), PairCuts::default(), 32));
        let cut =
            encoded(PairRule { longest_prompt: Some(2), longest_answer: Some(1), loss_on_prompts: false });
        assert_eq!(cut, ("the queen ‹prompt end› IN".into(), PairCuts { prompts: 1, answers: 1 }, 13));
        let exact =
            encoded(PairRule { longest_prompt: Some(4), longest_answer: Some(3), ..PairRule::default() });
        assert_eq!(exact, whole);
    }

    #[test]
    fn the_ends_are_no_text_and_keep_their_places() {
        let vocabulary = words("where is the queen");
        let turns = vocabulary.turns().unwrap();
        let (ends, length) = ([turns.prompt_end, turns.answer_end], vocabulary.len() as u32);
        assert_eq!(ends, [length - 2, length - 1]);
        let spelt = vocabulary.shown(turns.prompt_end).unwrap().into_owned();
        assert_eq!(vocabulary.index_of(&spelt), crate::Reserved::UNKNOWN);
        assert_eq!(
            vocabulary.decode(&[4, ends[0], 5, ends[1]]).unwrap(),
            vocabulary.decode(&[4, 5]).unwrap()
        );
        // They are added once, and kept by the file and by an extension.
        assert!(vocabulary.with_turns().unwrap() == vocabulary);
        assert!(Vocabulary::from_json(&vocabulary.to_json().unwrap()).unwrap() == vocabulary);
        let larger = vocabulary.extended(&words("the drone"), 10, 1).unwrap();
        assert_eq!(larger.turns(), Some(turns));
        assert_eq!(larger.len(), vocabulary.len() + 1);
        assert!(larger.continues(&vocabulary) && !vocabulary.continues(&larger));
        for unit in [Unit::Character, Unit::Byte, Unit::BytePair, Unit::Unigram] {
            let mut builder = VocabularyBuilder::new(&VocabularySpec { unit, ..VocabularySpec::default() });
            builder.add("where is the queen, the queen is where");
            let plain = builder.finish(1).unwrap();
            let with = plain.with_turns().unwrap();
            assert!(with.continues(&plain) && with.len() == plain.len() + 2, "{unit:?}");
            assert_eq!(with.encode("the queen ‹prompt end›"), plain.encode("the queen ‹prompt end›"));
            assert!(Vocabulary::from_json(&with.to_json().unwrap()).unwrap() == with, "{unit:?}");
        }
    }
}
