//! From a plan to everything that training needs: the corpus as tokens, the vocabulary, the model's layout.

use std::ops::Range;
use std::path::Path;

use lalograph_net::models::language::TokenWindow;
use lalograph_net::numbers::chance::stream;
use lalograph_net::{LanguageModel, Network};
use lalograph_text::tokens::{EncodedCorpus, TokenSequence};
use lalograph_text::{Reserved, Vocabulary};
use rand::seq::SliceRandom;

use super::base::{Base, OldText};
use super::learner::LanguageTask;
use super::text::{Given, read_text};
use crate::artefact::texts::read_vocabulary;
use crate::data::mixed::MixedWindows;
use crate::data::overlap::seen_share;
use crate::data::source::Windows;
use crate::data::token_cache::TokenCache;
use crate::data::windows::TrainingWindows;
use crate::error::LabError;
use crate::measure::baseline::unigram_loss;
use crate::plan::{Plan, PlanError};
use crate::run::description::TextFacts;
use crate::run::folder::RunFolder;
use crate::task::events::PreparationObserver;
use crate::task::growth::Growth;
use crate::task::start::Start;

/// Reads the corpus with `threads` threads and lays the model out. In `cache` encoded corpora are kept; what was encoded before and has
/// not changed since is taken from there.
///
/// # Errors
/// An unusable plan, corpus or vocabulary; text too short for one batch; a stop.
pub fn prepare(
    plan: Plan,
    threads: usize,
    cache: Option<TokenCache<'_>>,
    observer: &mut dyn PreparationObserver,
) -> Result<LanguageTask, LabError> {
    let task = lay_out(plan, threads, cache, Given::Nothing, None, observer)?;
    task.start.check()?;
    Ok(task)
}

/// The same for a model that continues from a base, with the base's vocabulary and the tokens that the plan adds.
///
/// # Errors
/// As for [`prepare`]; a base that does not fit the plan; old text that cannot be read.
pub fn prepare_tuned(
    plan: Plan,
    base: Base,
    threads: usize,
    cache: Option<TokenCache<'_>>,
    observer: &mut dyn PreparationObserver,
) -> Result<LanguageTask, LabError> {
    let old = base.old_text(&plan, None, threads, cache, observer)?;
    let given = Given::Base(base.vocabulary.clone());
    let task = lay_out(plan, threads, cache, given, Some((base, old)), observer)?;
    task.start.check()?;
    Ok(task)
}

/// The same; what the weights start from may be gone, which is an error only where they do start.
fn lay_out(
    mut plan: Plan,
    threads: usize,
    cache: Option<TokenCache<'_>>,
    given: Given,
    base: Option<(Base, Option<OldText>)>,
    observer: &mut dyn PreparationObserver,
) -> Result<LanguageTask, LabError> {
    plan.check()?;
    let share = plan.corpus.validation_share;
    let (vocabulary, corpus) = read_text(&plan, threads, cache, given, observer)?;
    plan.vocabulary.unit = vocabulary.unit();
    plan.vocabulary.cleaning.clone_from(&vocabulary.cleaning().steps);
    plan.vocabulary.reserved.clone_from(vocabulary.reserved());
    if share > 0.0 && plan.corpus.split.is_none() && corpus.validation.is_empty() {
        return Err(LabError::NoValidation { documents: corpus.reading.documents, share });
    }
    plan.settle(vocabulary.len(), Some(corpus.training.len() as u64));
    let (base, old) = base.unzip();
    let old = old.flatten();
    let model = LanguageModel::new(plan.shape(vocabulary.len()))?;
    let start = Start::read(&plan.start, &vocabulary, model.layout())?.grown_by(growth(
        &plan,
        base.as_ref(),
        &vocabulary,
        &corpus.training,
    ));
    let (windows, steps) = length_of(&plan, &corpus.training, old.as_ref())?;
    let EncodedCorpus { training, validation, test, .. } = &corpus;
    let held_out = !validation.is_empty();
    let facts = TextFacts {
        training_tokens: training.len() as u64,
        validation_tokens: validation.len() as u64,
        test_tokens: test.len() as u64,
        unknown_share: held_out.then(|| validation.totals.unknown as f64 / validation.len() as f64),
        training_unknown_share: Some(training.totals.unknown as f64 / training.len().max(1) as f64),
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
    for seed_text in seed_texts.iter().filter(|_| vocabulary.turns().is_none()) {
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
    Ok(LanguageTask { plan, vocabulary, corpus, model, steps, seed_texts, facts, old, start, base })
}

/// The windows of an epoch, and the steps of the whole training.
fn length_of(plan: &Plan, training: &TokenSequence, old: Option<&OldText>) -> Result<(u64, u64), LabError> {
    let (rows, window) = (plan.training.batch, plan.training.window);
    let windows = windows_of(plan, training, old).count() as u64;
    if training.len() < rows * window || windows == 0 {
        return Err(LabError::TooShort { tokens: training.len(), rows, window, needed: rows * window });
    }
    Ok((windows, plan.training.steps.unwrap_or(plan.training.epochs.unwrap_or(1) * windows)))
}

impl LanguageTask {
    /// Lays the same text out for another network and another training.
    pub(crate) fn replan(&mut self, mut plan: Plan) -> Result<(), LabError> {
        plan.settle(self.vocabulary.len(), Some(self.corpus.training.len() as u64));
        let (windows, steps) = length_of(&plan, &self.corpus.training, self.old.as_ref())?;
        self.model = LanguageModel::new(plan.shape(self.vocabulary.len()))?;
        (self.facts.steps_per_epoch, self.steps) = (windows, steps);
        self.plan = plan;
        Ok(())
    }
}

/// The tokens that a tuned model has and its base has not.
fn growth(
    plan: &Plan,
    base: Option<&Base>,
    vocabulary: &Vocabulary,
    training: &TokenSequence,
) -> Option<Growth> {
    let sizes = (base?.vocabulary.len(), vocabulary.len());
    let marks = vocabulary.turns().map(|turns| [turns.prompt_end, turns.answer_end]);
    let vectors = plan.tune.as_ref()?.new_vectors;
    (sizes.0 < sizes.1).then(|| Growth::of(training, sizes, marks.as_slice().as_flattened(), vectors))
}

/// The windows that a plan makes of its text.
pub(super) fn windows_of<'t>(
    plan: &Plan,
    training: &'t TokenSequence,
    old: Option<&'t OldText>,
) -> Box<dyn Windows<TokenWindow> + 't> {
    let keep_old = plan.tune.as_ref().map_or(0.0, |tune| tune.keep_old);
    match old.filter(|_| keep_old > 0.0) {
        Some(old) => Box::new(MixedWindows::new(training, &old.training, &plan.training, keep_old)),
        None => Box::new(TrainingWindows::new(training, &plan.training)),
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
    let based = match &plan.tune {
        Some(_) => {
            let of_run = Base::of_run(run)?;
            let old = of_run.old_text(plan, base, threads, cache, observer)?;
            Some((of_run, old))
        }
        None => None,
    };
    let mut prepared = lay_out(there, threads, cache, Given::Whole(vocabulary), based, observer)?;
    // The paths as given: a model file does not reveal where it was trained.
    prepared.plan.paths_mut().zip(plan.clone().paths_mut()).for_each(|(path, given)| path.clone_from(given));
    if prepared.corpus.text_hash != description.text_hash {
        return Err(changed("corpus"));
    }
    if prepared.old.as_ref().map(|old| &old.text_hash) != description.old_text_hash.as_ref() {
        return Err(changed("old text"));
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
    // Of a pair the prompt is the seed text, whatever its length.
    let seed = |document: Range<usize>| match vocabulary.turns() {
        Some(turns) => {
            let end = document.clone().find(|&at| text.index(at) == turns.prompt_end)?;
            Some(document.start..end)
        }
        None => (document.len() > tokens).then(|| document.start..document.start + tokens),
    };
    let known = |seed: &Range<usize>| seed.clone().all(|at| text.index(at) != Reserved::UNKNOWN);
    let mut seeds: Vec<Range<usize>> = text.bounds().filter_map(seed).collect();
    // A prompt may be answered though it has unknown words.
    if vocabulary.turns().is_none() || seeds.iter().any(known) {
        seeds.retain(known);
    }
    if seeds.is_empty() {
        let key = "samples.drawn_seeds";
        let must = "0 if no validation document is longer than the seed texts";
        return Err(PlanError::Range { key, value: wanted.to_string(), must }.into());
    }
    seeds.shuffle(&mut stream(plan.training.seed, "seed texts", &[]));
    let texts = seeds.into_iter().take(wanted).map(|seed| {
        let mut decoder = vocabulary.decoder();
        let mut text_out = String::new();
        for at in seed {
            decoder.push(text.index(at), &mut text_out)?;
        }
        decoder.finish(&mut text_out);
        Ok(text_out)
    });
    texts.collect()
}
