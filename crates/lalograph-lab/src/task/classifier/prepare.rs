//! From a plan to everything that training needs: the split, the vocabulary or the form of numbers, the documents, the classifier's layout.

use std::collections::BTreeMap;
use std::path::Path;

use lalograph_net::Network;
use lalograph_net::models::classifier::Classifier;
use lalograph_text::corpus::{ReadObserver, Reading};
use lalograph_text::partition::{Amount, SplitSpec, apply, make};
use lalograph_text::split::PartCount;
use lalograph_text::tokens::{EncodedCorpus, HeldOut, Learnt, encode_corpus};
use lalograph_text::{Corpus, Document, Part, Split, TextError, Vocabulary, VocabularyBuilder};

use super::data::ClassifierData;
use super::input::DocumentInput;
use super::learner::{ClassifierTask, PreparedClassifier, split_hash};
use super::linear::LinearTask;
use crate::artefact::texts::{read_split, read_vocabulary};
use crate::data::copies::near_copies;
use crate::data::documents::{Documents, NumberRows, length_keeping, lengths_of};
use crate::data::numbers::{NumberError, NumberForm};
use crate::data::scratch_stores::{is_large, scratch_stores};
use crate::error::LabError;
use crate::plan::{ClassWeights, ClassifierPlan, CorpusPlan, DocumentLength, NetworkKind, Plan, PlanError};
use crate::run::description::{ClassFacts, TextFacts};
use crate::run::folder::RunFolder;
use crate::task::Startable;
use crate::task::events::{Pass, PreparationEvent, PreparationObserver, ReadingOf};
use crate::task::start::Start;

/// Share of the training documents that the default length keeps whole.
const WHOLE_SHARE: f64 = 0.95;

/// Epochs of a plan that sets none...
const EPOCHS: u64 = 10;
/// ...or more, until so many steps are made, a pooled network and another.
const FEWEST_STEPS: [u64; 2] = [1000, 300];

/// Reads the corpus of a classifier's plan with `threads` threads and lays the network out.
///
/// # Errors
/// An unusable plan, corpus or vocabulary; no labels, one class only, a class without training documents; rows that are no numbers; a stop.
pub fn prepare_classifier(
    plan: Plan,
    threads: usize,
    observer: &mut dyn PreparationObserver,
) -> Result<PreparedClassifier, LabError> {
    let task = lay_out(plan, threads, None, observer)?;
    task.check_start()?;
    Ok(task)
}

/// Reads the corpus of a run again, with the run's own vocabulary and split and by `plan`. The plan's paths are meant from `base`, if one is
/// given.
///
/// # Errors
/// As for [`prepare_classifier`]; a corpus, a vocabulary or a split that is another now.
pub fn prepare_classifier_again(
    run: &RunFolder,
    plan: &Plan,
    base: Option<&Path>,
    threads: usize,
    observer: &mut dyn PreparationObserver,
) -> Result<PreparedClassifier, LabError> {
    let description = run.description()?;
    let changed = |what| LabError::Changed { what, run: run.path().to_owned() };
    let text = plan.classifier.as_ref().is_none_or(|own| own.features.is_none());
    let vocabulary = text.then(|| read_vocabulary(&run.vocabulary())).transpose()?;
    if vocabulary.as_ref().map_or(Ok(String::new()), Vocabulary::hash)? != description.vocabulary_hash {
        return Err(changed("vocabulary"));
    }
    let split = read_split(&run.split())?;
    if description.split_hash != Some(split_hash(&split)?) {
        return Err(changed("split"));
    }
    let mut there = plan.clone();
    if let Some(base) = base {
        there.start_paths_at(base);
    }
    let mut task = lay_out(there, threads, Some((vocabulary, split)), observer)?;
    // The paths as given: a model file does not reveal where it was trained.
    let data = task.data_mut();
    data.plan.paths_mut().zip(plan.clone().paths_mut()).for_each(|(path, given)| path.clone_from(given));
    if data.text_hash != description.text_hash {
        return Err(changed("corpus"));
    }
    Ok(task)
}

fn lay_out(
    mut plan: Plan,
    threads: usize,
    given: Option<(Option<Vocabulary>, Split)>,
    observer: &mut dyn PreparationObserver,
) -> Result<PreparedClassifier, LabError> {
    plan.check()?;
    let mut own = plan.classifier.clone().unwrap_or_default();
    if plan.corpus.label.is_none() && !plan.corpus.folder_labels {
        return Err(LabError::NoLabels);
    }
    let mut go_on = || observer.event(&PreparationEvent::Finding).is_continue();
    let mut corpus = Corpus::find_while(&plan.corpus.spec(), &mut go_on)?;
    if own.features.is_some() {
        plan.corpus.text = number_columns(&plan, &corpus)?;
        corpus = Corpus::find_while(&plan.corpus.spec(), &mut go_on)?;
    }
    let mut reading = ReadingOf { pass: Pass::Splitting, total_bytes: corpus.bytes(), observer };
    let (vocabulary, split) = match given {
        Some((vocabulary, split)) => (vocabulary, split),
        None => (None, split_of(&plan, &own, &corpus, threads, &mut reading)?),
    };
    let classes = classes_of(&split)?;
    let read = match own.features {
        None => {
            read_text(&mut plan, &mut own, &corpus, (&split, &classes), vocabulary, threads, &mut reading)?
        }
        Some(features) => read_numbers(&plan, &mut own, features, &corpus, (&split, &classes), &mut reading)?,
    };
    let Read { input, parts: [training, validation, test], reading, text_hash, mut facts } = read;
    if validation.is_empty() {
        let share = plan.corpus.validation_share;
        return Err(LabError::NoValidation { documents: reading.documents, share });
    }
    let by_class = training.by_class(classes.len());
    if let Some(class) = by_class.iter().position(|&documents| documents == 0) {
        return Err(LabError::ClassUnseen { class: classes[class].clone() });
    }
    let weights = class_weights(&own, &classes, &by_class)?;
    let steps_per_epoch = match own.network {
        NetworkKind::Linear => 1,
        _ => training.count().div_ceil(plan.training.batch) as u64,
    };
    let fewest = FEWEST_STEPS[usize::from(own.network != NetworkKind::Pooled)];
    let epochs = *plan.training.epochs.get_or_insert(EPOCHS.max(fewest.div_ceil(steps_per_epoch)));
    let held = validation.by_class(classes.len());
    facts.training_tokens = training.steps();
    facts.validation_tokens = validation.steps();
    facts.test_tokens = test.steps();
    facts.steps_per_epoch = steps_per_epoch;
    facts.classes = Some(ClassFacts {
        classes: classes.len() as u64,
        training_documents: training.count() as u64,
        validation_documents: validation.count() as u64,
        test_documents: test.count() as u64,
        smallest_class: by_class.iter().copied().min().unwrap_or(0),
        majority_share: share(held.iter().copied().max().unwrap_or(0), validation.count() as u64),
        cut_share: share(training.cut(), training.count() as u64),
        validation_copies: copies(&validation),
        test_copies: copies(&test),
    });
    plan.classifier = Some(own);
    let data =
        ClassifierData { plan, input, classes, split, training, validation, test, reading, facts, text_hash };
    let plan = &data.plan;
    let Some(shape) = plan.classifier_shape(data.input.of_network(plan), data.classes.len(), weights.clone())
    else {
        return Ok(PreparedClassifier::Linear(Box::new(LinearTask::new(data, weights, threads)?)));
    };
    let net = Classifier::new(shape)?;
    let start = match data.input.vocabulary() {
        Some(vocabulary) => Start::read(&plan.start, vocabulary, net.layout())?,
        None => Start::default(),
    };
    let steps = plan.training.steps.unwrap_or(epochs * steps_per_epoch);
    Ok(PreparedClassifier::Network(Box::new(ClassifierTask { data, net, steps, start })))
}

fn copies(documents: &Documents) -> u64 {
    documents.copies().iter().filter(|&&copy| copy).count() as u64
}

fn share(part: u64, whole: u64) -> f64 {
    part as f64 / whole.max(1) as f64
}

/// A corpus that was read: its input form, its parts, and facts about its text.
struct Read {
    input: DocumentInput,
    parts: [Documents; 3],
    reading: Reading,
    text_hash: String,
    facts: TextFacts,
}

/// Reads text: counts the vocabulary unless it is given, and encodes all parts.
fn read_text(
    plan: &mut Plan,
    own: &mut ClassifierPlan,
    corpus: &Corpus,
    (split, classes): (&Split, &[String]),
    vocabulary: Option<Vocabulary>,
    threads: usize,
    reading: &mut ReadingOf<'_>,
) -> Result<Read, LabError> {
    reading.pass = Pass::Counting;
    // A listed term is a token, however rare it is.
    plan.vocabulary.include.extend(own.term_list.iter().cloned());
    plan.vocabulary.include.sort();
    plan.vocabulary.include.dedup();
    let vocabulary = match (vocabulary, &plan.vocabulary.file) {
        (Some(vocabulary), _) => vocabulary,
        (None, Some(path)) => read_vocabulary(path)?,
        (None, None) => {
            let spec = plan.vocabulary.spec();
            let (builder, _) = VocabularyBuilder::count(&spec, corpus, threads, reading, |document| {
                split.part_of(document.text, document.label) == Part::Training
            })?;
            builder.finish(threads)?
        }
    };
    plan.vocabulary.unit = vocabulary.unit();
    plan.vocabulary.cleaning.clone_from(&vocabulary.cleaning().steps);
    plan.vocabulary.reserved.clone_from(vocabulary.reserved());
    reading.pass = Pass::Encoding;
    let held_out = HeldOut::BySplit(Box::new(split.clone()));
    // The folder goes when the stores are open.
    let scratch = if is_large(corpus.bytes()) { Some(scratch_stores()?) } else { None };
    let (_folder, stores) = scratch.unzip();
    let encoded =
        encode_corpus(corpus, &vocabulary, &held_out, Learnt::Classes(classes), stores, threads, reading)?;
    let EncodedCorpus { training, validation, test, reading, text_hash, .. } = encoded;
    let longest = resolve_length(own, || lengths_of(&training));
    let totals = &validation.totals;
    let facts = TextFacts {
        unknown_share: Some(share(totals.unknown, validation.len() as u64)),
        changed_share: Some(share(totals.changed, totals.documents)),
        ..TextFacts::default()
    };
    let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build()?;
    let [in_validation, in_test] = pool.install(|| near_copies(&training, [&validation, &test]));
    let [training, validation, test] =
        [training, validation, test].map(|tokens| Documents::new(tokens, longest, own.keep_part));
    let parts = [training, validation.with_copies(in_validation), test.with_copies(in_test)];
    Ok(Read { input: DocumentInput::Text(Box::new(vocabulary)), parts, reading, text_hash, facts })
}

/// Steps of the longest document that is read whole, which the plan's length becomes; none if every one is.
fn resolve_length(own: &mut ClassifierPlan, lengths: impl FnOnce() -> Vec<usize>) -> Option<usize> {
    let longest = match own.length {
        DocumentLength::Most if own.network == NetworkKind::Linear => None,
        DocumentLength::Most => Some(length_keeping(WHOLE_SHARE, lengths())),
        DocumentLength::Whole => None,
        DocumentLength::Tokens(tokens) => Some(tokens),
    };
    own.length = longest.map_or(DocumentLength::Whole, DocumentLength::Tokens);
    longest
}

/// The columns of a table that hold numbers: those that are named, with any characters for `*`; if none are, all but the label and the group.
fn number_columns(plan: &Plan, corpus: &Corpus) -> Result<Vec<String>, LabError> {
    let CorpusPlan { text, label, group, group_order, .. } = &plan.corpus;
    if !text.is_empty() && text.iter().all(|name| !name.contains('*')) {
        return Ok(text.clone());
    }
    let columns = corpus.columns()?.ok_or(LabError::NoNumberColumns)?;
    if text.is_empty() {
        let others = [label, group, group_order];
        let is_other = |column: &String| others.iter().any(|other| other.as_ref() == Some(column));
        return Ok(columns.into_iter().filter(|column| !is_other(column)).collect());
    }
    let mut chosen = Vec::new();
    for name in text {
        let pattern =
            glob::Pattern::new(&name.split('*').map(glob::Pattern::escape).collect::<Vec<_>>().join("*"))
                .map_err(|_| LabError::NoColumnLike { pattern: name.clone(), columns: columns.clone() })?;
        let matching = columns.iter().filter(|column| *column == name || pattern.matches(column));
        let before = chosen.len();
        chosen.extend(matching.cloned());
        if chosen.len() == before {
            return Err(LabError::NoColumnLike { pattern: name.clone(), columns });
        }
    }
    Ok(chosen)
}

/// Reads rows of numbers, and standardises them by the training part.
fn read_numbers(
    plan: &Plan,
    own: &mut ClassifierPlan,
    features: usize,
    corpus: &Corpus,
    (split, classes): (&Split, &[String]),
    observer: &mut ReadingOf<'_>,
) -> Result<Read, LabError> {
    observer.pass = Pass::Encoding;
    let columns = plan.corpus.text.len();
    let grouped = plan.corpus.group.is_some();
    let steps_of_row = if grouped { 1 } else { own.time_steps.unwrap_or(columns / features) };
    if steps_of_row * features != columns {
        return Err(match grouped {
            true => LabError::GroupColumns { columns, features },
            false => LabError::NumberColumns { columns, steps: own.time_steps, features },
        });
    }
    if !grouped {
        own.time_steps = Some(steps_of_row);
    }
    let mut form = NumberForm::new(own.time_steps, features, own.order);
    let mut rows: [NumberRows; 3] = Default::default();
    let mut all = blake3::Hasher::new();
    let mut failure = None;
    let read = corpus.process(
        1,
        observer,
        || (),
        |_, _| (),
        |batch, ()| {
            for document in batch.documents() {
                all.update(&(document.text.len() as u64).to_le_bytes());
                all.update(document.text.as_bytes());
                let part = match split.part_of(document.text, document.label) {
                    Part::Training => 0,
                    Part::Validation => 1,
                    Part::Test => 2,
                    Part::SetAside => continue,
                };
                let rows = &mut rows[part];
                match form.read(document.text, &mut rows.numbers) {
                    Ok(steps) => rows.steps.push(steps),
                    Err(error) => {
                        failure = Some(not_numbers(&document, &plan.corpus.text, error));
                        return Err(TextError::Stopped);
                    }
                }
                let label = document.label.unwrap_or_default();
                let class = classes.binary_search_by(|class| class.as_str().cmp(label));
                rows.classes.push(class.map_or(u32::MAX, |class| class as u32));
            }
            Ok(())
        },
    );
    if let Some(failure) = failure {
        return Err(failure);
    }
    let (reading, _) = read?;
    form.fit(&rows[0].numbers);
    rows.iter_mut().for_each(|rows| form.standardise(&mut rows.numbers));
    let longest = match own.time_steps {
        Some(_) => None,
        None => resolve_length(own, || rows[0].steps.clone()),
    };
    let parts = rows.map(|rows| Documents::of_numbers(rows, features, longest, own.keep_part));
    Ok(Read {
        input: DocumentInput::Numbers(form),
        parts,
        reading,
        text_hash: all.finalize().to_hex().to_string(),
        facts: TextFacts::default(),
    })
}

/// The error of a document that is no row of numbers, or no group of such rows; `columns` are the names of a row's numbers.
pub fn not_numbers(document: &Document<'_>, columns: &[String], error: NumberError) -> LabError {
    let (width, rows) = (columns.len().max(1), document.row_lines.len());
    let mut line = document.line;
    let what = match error {
        NumberError::NotANumber { column, found } => {
            line = document.row_lines.get(column / width).copied().unwrap_or(line);
            let column = column % width;
            let name = columns.get(column).map_or_else(|| (column + 1).to_string(), Clone::clone);
            format!("column `{name}` has `{found}`, which is not a finite number")
        }
        NumberError::Count { found, expected: Some(expected) } if found == rows * width => {
            format!("the first of a group of {rows} rows, and {} are expected", expected / width)
        }
        NumberError::Count { found, .. } => {
            let expected = width * rows.max(1);
            format!("{found} numbers, and {expected} are expected; empty fields are not numbers")
        }
    };
    LabError::NotNumbers { path: document.path.to_owned(), line, what }
}

/// The split of a plan's corpus: stratified by its shares, or read from its split file.
fn split_of(
    plan: &Plan,
    own: &ClassifierPlan,
    corpus: &Corpus,
    threads: usize,
    observer: &mut dyn ReadObserver,
) -> Result<Split, LabError> {
    let (split, _) = match &plan.corpus.split {
        Some(path) => {
            let mut split = read_split(path)?;
            split.set_aside_labels.extend(own.set_aside.iter().cloned());
            apply(split, corpus, observer, |_, _| Ok(()))?
        }
        None => {
            let spec = SplitSpec {
                seed: plan.split_seed(),
                validation: Amount::Share(plan.corpus.validation_share),
                test: Amount::Share(plan.corpus.test_share),
                set_aside_labels: own.set_aside.iter().cloned().collect(),
                near: own.near,
            };
            make(corpus, &spec, threads, observer, |_, _| Ok(()))?
        }
    };
    Ok(split)
}

/// The labels of all documents that are not set aside, in ascending order.
fn classes_of(split: &Split) -> Result<Vec<String>, LabError> {
    let parts = [Part::Training, Part::Validation, Part::Test];
    let mut all: BTreeMap<&str, PartCount> = BTreeMap::new();
    for (label, count) in parts.iter().filter_map(|part| split.counted.get(part)).flatten() {
        all.entry(label).or_default().documents += count.documents;
    }
    let classes: Vec<String> = all.into_keys().map(str::to_owned).collect();
    match &classes[..] {
        [] => Err(LabError::NoLabels),
        [one] => Err(LabError::OneClass { class: one.clone() }),
        _ => Ok(classes),
    }
}

/// Weights of the classes in the loss; empty if all are 1.
fn class_weights(own: &ClassifierPlan, classes: &[String], by_class: &[u64]) -> Result<Vec<f64>, LabError> {
    let total: u64 = by_class.iter().sum();
    let mut weights: Vec<f64> = match own.class_weights {
        ClassWeights::Equal => vec![1.0; classes.len()],
        ClassWeights::Balanced => by_class
            .iter()
            .map(|&documents| total as f64 / (classes.len() as u64 * documents) as f64)
            .collect(),
    };
    for (label, &weight) in &own.weights {
        let Ok(class) = classes.binary_search(label) else {
            let key = "classifier.weights";
            return Err(
                PlanError::Range { key, value: format!("`{label}`"), must: "labels of the corpus" }.into()
            );
        };
        weights[class] = weight;
    }
    Ok(if weights.iter().all(|&weight| weight == 1.0) { Vec::new() } else { weights })
}
