//! The Thornmere hive diaries: made-up bee-keepers of a made-up valley note each visit to each hive.
//!
//! The text comes from a weighted [`Grammar`] in which every choice has a known probability and every
//! entry can be read in exactly one way, so the entropy of the text is known exactly and with it the
//! lowest perplexity that any model can reach on it ([`Entropy`]).
//!
//! ```
//! let grammar = lalograph_demo::thornmere()?;
//! let first = lalograph_demo::Generator::new(&grammar, 1).next_entry();
//! assert!(first.text.ends_with('.'));
//! # Ok::<(), lalograph_demo::GrammarError>(())
//! ```

mod ceiling;
mod corpus;
mod entropy;
mod generator;
mod grammar;
mod pairs;
mod parser;
mod scales;
mod word_tasks;

pub use ceiling::Ceiling;
pub use corpus::{CORPUS_FILES, Ceilings, CorpusError, CorpusFiles, CorpusPlan, CorpusTruth, write_corpus};
pub use entropy::Entropy;
pub use generator::{Entry, Generator};
pub use grammar::{Grammar, GrammarError};
pub use pairs::{Pair, Pairs, PairsTruth, REFUSAL, pairs_file, pairs_grammar};
pub use parser::{Ambiguity, words_of};
pub use scales::{HOURS, STATES, Scales, ScalesDay, scales_ceiling, state_probabilities};
pub use word_tasks::{analogies_file, similarity_file};

/// The grammar of the hive diaries.
///
/// # Errors
/// Never for the grammar that is shipped; the error type is that of any grammar text.
pub fn thornmere() -> Result<Grammar, GrammarError> {
    Grammar::parse(include_str!("../data/thornmere.grammar"))
}
