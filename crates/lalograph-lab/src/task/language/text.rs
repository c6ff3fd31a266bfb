//! From a plan's corpus to its vocabulary and its tokens.

use std::io::ErrorKind;
use std::path::Path;

use lalograph_text::few::FewDocuments;
use lalograph_text::tokens::{EncodedCorpus, HeldOut, Learnt, encode_corpus};
use lalograph_text::{Corpus, Part, Vocabulary, VocabularyBuilder};

use crate::artefact::texts::{read_split, read_vocabulary};
use crate::data::scratch_stores::{is_large, scratch_stores};
use crate::data::token_cache::{CacheEntry, TokenCache};
use crate::error::LabError;
use crate::plan::Plan;
use crate::task::events::{Pass, PreparationEvent, PreparationObserver, ReadingOf};

/// A vocabulary for a corpus, if there is one before the corpus is read.
#[derive(Debug, Clone)]
pub enum Given {
    /// None: it is the plan's file, or it is counted.
    Nothing,
    /// The whole vocabulary.
    Whole(Vocabulary),
    /// That of a base, to which the plan may add tokens.
    Base(Vocabulary),
}

/// The held-out parts of a corpus.
pub(super) fn held_out(plan: &Plan) -> Result<HeldOut, LabError> {
    Ok(match &plan.corpus.split {
        Some(path) => HeldOut::BySplit(Box::new(read_split(path)?)),
        None => {
            let share = plan.corpus.validation_share;
            HeldOut::Share { seed: plan.split_seed(), share, test: plan.corpus.test_share }
        }
    })
}

/// Reads a plan's corpus with `threads` threads: the vocabulary, and the tokens in their parts. In `cache` encoded corpora are kept, but for
/// those of tuned models; what was encoded before and has not changed since is taken from there.
///
/// # Errors
/// An unusable plan, corpus or vocabulary; a stop.
pub fn read_text(
    plan: &Plan,
    threads: usize,
    cache: Option<TokenCache<'_>>,
    given: Given,
    observer: &mut dyn PreparationObserver,
) -> Result<(Vocabulary, EncodedCorpus), LabError> {
    let mut go_on = || observer.event(&PreparationEvent::Finding).is_continue();
    let corpus = Corpus::find_while(&plan.corpus.spec(), &mut go_on)?;
    let held_out = held_out(plan)?;
    let cache = cache.filter(|_| plan.tune.is_none());
    let mut entry = cache.map(|cache| CacheEntry::of(cache, plan, &corpus)).transpose()?;
    // A strict reading is to happen, not to be remembered.
    let kept = match entry.as_ref().filter(|_| !plan.corpus.strict).map(CacheEntry::load) {
        None | Some(Ok(None)) => None,
        Some(Ok(kept)) => kept,
        Some(Err(error)) => {
            let _ = observer.event(&PreparationEvent::NotReused(&error));
            None
        }
    };
    match kept {
        Some(kept) => {
            let folder = entry.as_ref().map(CacheEntry::path).unwrap_or(Path::new(""));
            let _ = observer.event(&PreparationEvent::Reused(folder));
            Ok(kept)
        }
        None => encode(plan, &corpus, &held_out, given, entry.as_mut(), threads, observer),
    }
}

/// Reads the corpus: once for the vocabulary, unless the plan names one, and once for the tokens.
fn encode(
    plan: &Plan,
    corpus: &Corpus,
    held_out: &HeldOut,
    given: Given,
    mut entry: Option<&mut CacheEntry<'_>>,
    threads: usize,
    observer: &mut dyn PreparationObserver,
) -> Result<(Vocabulary, EncodedCorpus), LabError> {
    let mut reading = ReadingOf { pass: Pass::Counting, total_bytes: corpus.bytes(), observer };
    let vocabulary = match (given, &plan.vocabulary.file) {
        (Given::Whole(vocabulary), _) => vocabulary,
        (Given::Base(base), _) => {
            grown(plan, base, |plan| count_vocabulary(plan, corpus, held_out, threads, &mut reading))?
        }
        (Given::Nothing, Some(path)) => read_vocabulary(path)?,
        (Given::Nothing, None) => count_vocabulary(plan, corpus, held_out, threads, &mut reading)?,
    };
    reading.pass = Pass::Encoding;
    let stores = match entry.as_mut().map(|entry| entry.places()).transpose() {
        // A folder that may not be written, or that another process writes just now, is no hindrance: then nothing is kept.
        Err(error) if is_no_hindrance(&error) => {
            entry = None;
            None
        }
        stores => stores?,
    };
    // What is not kept between runs lies in memory if it is small.
    let scratch = (entry.is_none() && is_large(corpus.bytes())).then(scratch_stores).transpose()?;
    let (_files, scratch) = scratch.unzip();
    let stores = stores.or(scratch);
    let learnt = plan.pair_rule().map_or(Learnt::Text, Learnt::Answers);
    let encoded = encode_corpus(corpus, &vocabulary, held_out, learnt, stores, threads, &mut reading);
    match (entry, &encoded) {
        (Some(entry), Ok(encoded)) => entry.keep(&vocabulary, encoded)?,
        (Some(entry), Err(_)) => entry.discard(),
        (None, _) => {}
    }
    Ok((vocabulary, encoded?))
}

/// Whether a corpus can be read though its encoded form cannot be kept.
fn is_no_hindrance(error: &LabError) -> bool {
    match error {
        LabError::Written(_) => true,
        LabError::Io { source, .. } => {
            matches!(source.kind(), ErrorKind::PermissionDenied | ErrorKind::ReadOnlyFilesystem)
        }
        _ => false,
    }
}

/// The vocabulary of a base with the tokens that a plan adds: the most frequent ones of the training text that it does not have, and the marks of
/// pairs. `count` counts the tokens of the text by a plan.
fn grown(
    plan: &Plan,
    base: Vocabulary,
    count: impl FnOnce(&Plan) -> Result<Vocabulary, LabError>,
) -> Result<Vocabulary, LabError> {
    let new_tokens = plan.tune.as_ref().map_or(0, |tune| tune.new_tokens);
    let mut vocabulary = base;
    if new_tokens > 0 {
        let mut whole = plan.clone();
        whole.vocabulary.size = None;
        whole.vocabulary.minimum_count = Some(1);
        whole.vocabulary.unit = vocabulary.unit();
        whole.vocabulary.cleaning.clone_from(&vocabulary.cleaning().steps);
        whole.vocabulary.reserved.clone_from(vocabulary.reserved());
        vocabulary = vocabulary.extended(&count(&whole)?, new_tokens, 1)?;
    }
    Ok(if plan.corpus.prompt.is_some() { vocabulary.with_turns()? } else { vocabulary })
}

/// Counts the training part only, so that validation text shows how much of unseen text is unknown.
fn count_vocabulary(
    plan: &Plan,
    corpus: &Corpus,
    held_out: &HeldOut,
    threads: usize,
    reading: &mut ReadingOf<'_>,
) -> Result<Vocabulary, LabError> {
    let (spec, split) = (plan.vocabulary.spec(), held_out.split());
    let (mut builder, read) = VocabularyBuilder::count(&spec, corpus, threads, reading, |document| {
        split.part_of(document.parted_by(), document.label) == Part::Training
    })?;
    if !held_out.parts_by_document(read.documents) {
        // Too few documents to be parted whole: the beginning of their text is what is learnt from.
        builder = VocabularyBuilder::new(&spec);
        if let HeldOut::Share { share, test, .. } = held_out {
            let few = FewDocuments::read(corpus, reading)?;
            let [training, ..] = few.parts(*share, *test);
            training.iter().for_each(|piece| builder.add(piece.text));
        }
    }
    Ok(builder.finish(threads)?)
}
