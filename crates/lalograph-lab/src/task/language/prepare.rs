//! From a plan to everything that training needs: the corpus as tokens, the vocabulary, the model's layout.

use std::io::ErrorKind;
use std::path::Path;

use lalograph_net::numbers::chance::stream;
use lalograph_net::{LanguageModel, Network};
use lalograph_text::few::FewDocuments;
use lalograph_text::tokens::{EncodedCorpus, HeldOut, TokenSequence, encode_corpus};
use lalograph_text::{Corpus, Part, Reserved, Vocabulary, VocabularyBuilder};
use rand::seq::SliceRandom;

use super::learner::LanguageTask;
use crate::artefact::texts::{read_split, read_vocabulary};
use crate::data::overlap::seen_share;
use crate::data::source::Windows;
use crate::data::token_cache::{CacheEntry, TokenCache};
use crate::data::windows::TrainingWindows;
use crate::error::LabError;
use crate::measure::baseline::unigram_loss;
use crate::plan::{Plan, PlanError};
use crate::run::description::TextFacts;
use crate::run::folder::RunFolder;
use crate::task::events::{Pass, PreparationEvent, PreparationObserver, ReadingOf};
use crate::task::start::Start;

/// Reads the corpus with `threads` threads and lays the model out. In `cache` encoded corpora are kept; what was encoded before and has
/// not changed since is taken from there. With a `vocabulary`, that is used and none is counted.
///
/// # Errors
/// An unusable plan, corpus or vocabulary; text too short for one batch; a stop.
pub fn prepare(
    plan: Plan,
    threads: usize,
    cache: Option<TokenCache<'_>>,
    vocabulary: Option<Vocabulary>,
    observer: &mut dyn PreparationObserver,
) -> Result<LanguageTask, LabError> {
    let task = lay_out(plan, threads, cache, vocabulary, observer)?;
    task.start.check()?;
    Ok(task)
}

/// The same; what the weights start from may be gone, which is an error only where they do start.
fn lay_out(
    mut plan: Plan,
    threads: usize,
    cache: Option<TokenCache<'_>>,
    vocabulary: Option<Vocabulary>,
    observer: &mut dyn PreparationObserver,
) -> Result<LanguageTask, LabError> {
    plan.check()?;
    let share = plan.corpus.validation_share;
    let (vocabulary, corpus) = read_text(&plan, threads, cache, vocabulary, observer)?;
    plan.vocabulary.unit = vocabulary.unit();
    plan.vocabulary.cleaning.clone_from(&vocabulary.cleaning().steps);
    plan.vocabulary.reserved.clone_from(vocabulary.reserved());
    if share > 0.0 && plan.corpus.split.is_none() && corpus.validation.is_empty() {
        return Err(LabError::NoValidation { documents: corpus.reading.documents, share });
    }
    let (rows, window) = (plan.training.batch, plan.training.window);
    let windows = TrainingWindows::new(&corpus.training, &plan.training).count() as u64;
    if corpus.training.len() < rows * window || windows == 0 {
        return Err(LabError::TooShort {
            tokens: corpus.training.len(),
            rows,
            window,
            needed: rows * window,
        });
    }
    let model = LanguageModel::new(plan.shape(vocabulary.len()))?;
    let start = Start::read(&plan.start, &vocabulary, model.layout())?;
    let steps = plan.training.steps.unwrap_or(plan.training.epochs * windows);
    let EncodedCorpus { training, validation, test, .. } = &corpus;
    let held_out = !validation.is_empty();
    let facts = TextFacts {
        training_tokens: training.len() as u64,
        validation_tokens: validation.len() as u64,
        test_tokens: test.len() as u64,
        unknown_share: held_out.then(|| validation.totals.unknown as f64 / validation.len() as f64),
        seen_share: seen_share(training, validation),
        unigram_loss: held_out.then(|| unigram_loss(&vocabulary, training, validation)),
        training_unigram_loss: Some(unigram_loss(&vocabulary, training, training)),
        changed_share: held_out
            .then(|| validation.totals.changed as f64 / validation.totals.documents.max(1) as f64),
        steps_per_epoch: windows,
        classes: None,
    };
    let mut seed_texts = plan.samples.from.0.clone();
    let mut encoder = vocabulary.encoder();
    for seed_text in &seed_texts {
        let mut indices = Vec::new();
        encoder.encode_into(seed_text, &mut indices);
        if !indices.is_empty() && indices.iter().all(|&index| index == Reserved::UNKNOWN) {
            return Err(LabError::SeedUnknown);
        }
    }
    drop(encoder);
    seed_texts.extend(drawn_seeds(&plan, &vocabulary, validation)?);
    training.check()?;
    validation.check()?;
    Ok(LanguageTask { plan, vocabulary, corpus, model, steps, seed_texts, facts, start })
}

/// The held-out parts of a corpus.
pub(super) fn held_out(plan: &Plan) -> Result<HeldOut, LabError> {
    Ok(match &plan.corpus.split {
        Some(path) => HeldOut::BySplit(Box::new(read_split(path)?)),
        None => {
            let share = plan.corpus.validation_share;
            HeldOut::Share { seed: plan.training.seed, share, test: plan.corpus.test_share }
        }
    })
}

/// Reads a plan's corpus with `threads` threads: the vocabulary, and the tokens in their parts. See [`prepare`] for `cache` and `vocabulary`.
///
/// # Errors
/// As for [`prepare`].
pub fn read_text(
    plan: &Plan,
    threads: usize,
    cache: Option<TokenCache<'_>>,
    vocabulary: Option<Vocabulary>,
    observer: &mut dyn PreparationObserver,
) -> Result<(Vocabulary, EncodedCorpus), LabError> {
    let mut go_on = || observer.event(&PreparationEvent::Finding).is_continue();
    let corpus = Corpus::find_while(&plan.corpus.spec(), &mut go_on)?;
    let held_out = held_out(plan)?;
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
        None => encode(plan, &corpus, &held_out, vocabulary, entry.as_mut(), threads, observer),
    }
}

/// Reads the corpus of a run again as [`prepare`] does, with the run's own vocabulary and by `plan`, which may say more of the training than the run's did. The plan's
/// paths are meant from `base`, if one is given.
///
/// # Errors
/// As for [`prepare`]; a corpus or a vocabulary that is another now.
pub fn prepare_again(
    run: &RunFolder,
    plan: &Plan,
    base: Option<&Path>,
    threads: usize,
    cache: Option<TokenCache<'_>>,
    observer: &mut dyn PreparationObserver,
) -> Result<LanguageTask, LabError> {
    let description = run.description()?;
    let vocabulary = read_vocabulary(&run.vocabulary())?;
    let changed = |what| LabError::Changed { what, run: run.path().to_owned() };
    if vocabulary.hash()? != description.vocabulary_hash {
        return Err(changed("vocabulary"));
    }
    let mut there = plan.clone();
    if let Some(base) = base {
        there.start_paths_at(base);
    }
    let mut prepared = lay_out(there, threads, cache, Some(vocabulary), observer)?;
    // The paths as given: a model file does not reveal where it was trained.
    prepared.plan.paths_mut().zip(plan.clone().paths_mut()).for_each(|(path, given)| path.clone_from(given));
    if prepared.corpus.text_hash != description.text_hash {
        return Err(changed("corpus"));
    }
    if prepared.vocabulary.hash()? != description.vocabulary_hash {
        return Err(changed("vocabulary"));
    }
    Ok(prepared)
}

/// The beginnings of some documents of the validation text that the vocabulary knows all of.
fn drawn_seeds(plan: &Plan, vocabulary: &Vocabulary, text: &TokenSequence) -> Result<Vec<String>, LabError> {
    let (wanted, tokens) = (plan.samples.drawn_seeds, plan.samples.drawn_seed_tokens);
    if wanted == 0 {
        return Ok(Vec::new());
    }
    let known = |start: usize| (start..start + tokens).all(|at| text.index(at) != Reserved::UNKNOWN);
    let mut starts: Vec<usize> = text
        .bounds()
        .filter(|range| range.len() > tokens && known(range.start))
        .map(|range| range.start)
        .collect();
    if starts.is_empty() {
        let key = "samples.drawn_seeds";
        let must = "0 if no validation document is longer than the seed texts";
        return Err(PlanError::Range { key, value: wanted.to_string(), must }.into());
    }
    starts.shuffle(&mut stream(plan.training.seed, "seed texts", &[]));
    let texts = starts.into_iter().take(wanted).map(|start| {
        let mut decoder = vocabulary.decoder();
        let mut text_out = String::new();
        for at in start..start + tokens {
            decoder.push(text.index(at), &mut text_out)?;
        }
        decoder.finish(&mut text_out);
        Ok(text_out)
    });
    texts.collect()
}

/// Reads the corpus: once for the vocabulary, unless the plan names one, and once for the tokens.
fn encode(
    plan: &Plan,
    corpus: &Corpus,
    held_out: &HeldOut,
    given: Option<Vocabulary>,
    mut entry: Option<&mut CacheEntry<'_>>,
    threads: usize,
    observer: &mut dyn PreparationObserver,
) -> Result<(Vocabulary, EncodedCorpus), LabError> {
    let mut reading = ReadingOf { pass: Pass::Counting, total_bytes: corpus.bytes(), observer };
    let vocabulary = match (given, &plan.vocabulary.file) {
        (Some(vocabulary), _) => vocabulary,
        (None, Some(path)) => read_vocabulary(path)?,
        (None, None) => count_vocabulary(plan, corpus, held_out, threads, &mut reading)?,
    };
    reading.pass = Pass::Encoding;
    let stores = match entry.as_mut().map(|entry| entry.places()).transpose() {
        // A folder that may not be written is no hindrance: then nothing is kept.
        Err(LabError::Io { source, .. })
            if matches!(source.kind(), ErrorKind::PermissionDenied | ErrorKind::ReadOnlyFilesystem) =>
        {
            entry = None;
            None
        }
        stores => stores?,
    };
    let encoded = encode_corpus(corpus, &vocabulary, held_out, None, stores, threads, &mut reading);
    match (entry, &encoded) {
        (Some(entry), Ok(encoded)) => entry.keep(&vocabulary, encoded)?,
        (Some(entry), Err(_)) => entry.discard(),
        (None, _) => {}
    }
    Ok((vocabulary, encoded?))
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
        split.part_of(document.text, document.label) == Part::Training
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
