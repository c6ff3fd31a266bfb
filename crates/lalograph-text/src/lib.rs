//! From text to token indices: corpora as streams of documents, cleaning, tokenising, vocabularies, splits.
//!
//! The order in which data flows: [`corpus`] reads documents one at a time, [`cleaning`] puts each in shape, [`unit`] cuts it into
//! tokens, [`vocabulary`] counts them and turns them into indices, [`tokens`] strings the indices of a
//! whole corpus together, in the part that [`split`] gives each document, in memory or in a [`store`]. [`survey`] looks before any of it, and
//! [`partition`] finds a split that suits a corpus.
//!
//! ```
//! use lalograph_text::vocabulary::VocabularySpec;
//! use lalograph_text::VocabularyBuilder;
//!
//! let mut builder = VocabularyBuilder::new(&VocabularySpec::default());
//! builder.add("The bees came home, the bees slept.");
//! let vocabulary = builder.finish(1)?;
//! let tokens = vocabulary.encode("the bees hummed");
//! let spelt: Vec<&str> = tokens.iter().map(|(token, _)| token.as_str()).collect();
//! assert_eq!(spelt, ["the", "bees", "hummed"]);
//! assert_eq!(tokens[2].1, lalograph_text::Reserved::UNKNOWN);
//! # Ok::<(), lalograph_text::TextError>(())
//! ```

mod byte_pair;
pub mod cleaning;
pub mod corpus;
pub mod coverage;
mod error;
pub mod few;
pub mod function_words;
mod near;
mod packed;
mod pages;
pub mod pairs;
pub mod partition;
mod pieces;
pub mod rules;
mod scratch;
pub mod spelling;
pub mod split;
pub mod store;
pub mod survey;
mod tally;
pub mod tokens;
mod unigram;
pub mod unit;
pub mod vocabulary;
mod words;

pub use cleaning::{Cleaning, CleaningStep};
pub use corpus::{Corpus, CorpusSpec, Division, Document, Form, Reading};
pub use error::TextError;
pub use split::{Part, Split};
pub use unit::Unit;
pub use vocabulary::{Reserved, Vocabulary, VocabularyBuilder};
