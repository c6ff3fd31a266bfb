//! Documents in memory, so that several models score the same ones, and what they find can be shown in the text itself.

use std::path::PathBuf;

use lalograph_text::corpus::{Batch, ReadObserver};
use lalograph_text::tokens::TokenSequence;
use lalograph_text::{Corpus, Document, Reading, TextError, Vocabulary};

/// A document and its place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReadDocument {
    /// Its file.
    pub path: PathBuf,
    /// Its first line there, from 1.
    pub line: u64,
    /// Its class, if labels were asked for.
    pub label: Option<String>,
    /// Its text.
    pub text: String,
}

impl ReadDocument {
    /// A copy of a document that is being read.
    pub(crate) fn of(document: &Document<'_>) -> Self {
        Self {
            path: document.path.to_owned(),
            line: document.line,
            label: document.label.map(str::to_owned),
            text: document.text.to_owned(),
        }
    }
}

/// Documents in the order of reading.
#[derive(Debug, Clone, Default)]
pub struct Documents {
    /// All of them, in order.
    pub list: Vec<ReadDocument>,
    /// Counts of read and left out documents.
    pub reading: Reading,
}

impl Documents {
    /// Reads a corpus into memory.
    ///
    /// # Errors
    /// As for [`Corpus::read`]; a stop by the observer.
    pub fn read(corpus: &Corpus, observer: &mut dyn ReadObserver) -> Result<Self, TextError> {
        let mut list = Vec::new();
        let work = |(): &mut (), _: &Batch| ();
        let (reading, _) = corpus.process(
            1,
            observer,
            || (),
            work,
            |batch, ()| {
                list.extend(batch.documents().map(|document| ReadDocument::of(&document)));
                Ok(())
            },
        )?;
        Ok(Self { list, reading })
    }

    /// The tokens of all of them.
    ///
    /// # Errors
    /// As for [`TokenSequence::of_texts`].
    pub fn encode(&self, vocabulary: &Vocabulary) -> Result<TokenSequence, TextError> {
        TokenSequence::of_texts(vocabulary, self.list.iter().map(|document| document.text.as_str()))
    }
}
