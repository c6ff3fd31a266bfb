//! From text to token indices: corpora as streams of documents, cleaning, tokenising, vocabularies, splits.
//!
//! The order in which data flows: [`corpus`] reads documents one at a time, [`cleaning`] puts each in shape, [`unit`] cuts it into
//! tokens, [`vocabulary`] counts them and turns them into indices, [`tokens`] strings the indices of a
//! whole corpus together, on the side that [`split`] gives each document. [`survey`] looks before any of it.

pub mod cleaning;
pub mod corpus;
mod error;
pub mod split;
pub mod survey;
pub mod tokens;
pub mod unit;
pub mod vocabulary;

pub use cleaning::{Cleaning, CleaningStep};
pub use corpus::{Corpus, CorpusSpec, Division, Document, Reading};
pub use error::TextError;
pub use unit::Unit;
pub use vocabulary::{Reserved, Vocabulary, VocabularyBuilder};
