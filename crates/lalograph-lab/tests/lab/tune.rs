//! Tuned models: what they take from their base, what they learn from pairs, and what they forget.

use std::hash::{DefaultHasher, Hasher};
use std::io::Write;
use std::ops::ControlFlow;
use std::path::Path;
use std::sync::Arc;

use lalograph_lab::run::description::RunStatus;
use lalograph_lab::run::records::{MetricsRecord, read_lines};
use lalograph_lab::task::Task;
use lalograph_lab::task::language::LanguageNote;
use lalograph_lab::training::resume::{Changes, Resumable};
use lalograph_lab::writing::conversation::Conversation;
use lalograph_lab::writing::generator::Generator;
use lalograph_lab::{
    Base, LanguageTask, ModelFile, Plan, ReadyModel, RunFolder, TrainingEvent, TrainingOutcome, prepare,
    prepare_again, prepare_tuned, train,
};
use lalograph_net::Network;
use lalograph_storage::{Disk, Existing};
use lalograph_text::Reserved;
use lalograph_text::tokens::TokenSequence;

use crate::common::{created, plan_of, quiet};

const SETTINGS: [&str; 12] = [
    "corpus.document=line",
    "model.embedding=5",
    "model.hidden=6",
    "training.batch=4",
    "training.window=6",
    "training.steps=24",
    "training.warmup_steps=0",
    "training.schedule=constant",
    "training.validate_every=8",
    "training.record_every=4",
    "samples.tokens=4",
    "samples.every=9",
];

fn base_plan(folder: &Path, settings: &[&str]) -> Plan {
    let words = ["hive", "queen", "drone", "clover", "smoke"];
    let text: String = (0..240)
        .map(|i| format!("the {} is {} of {} today\n", words[i % 5], i % 7, words[(i * i) % 5]))
        .collect();
    plan_of(folder, &text, &[&SETTINGS, settings])
}

fn run(folder: &Path, name: &str, task: &LanguageTask, stop: usize) -> (RunFolder, TrainingOutcome) {
    let running = created(&Disk, folder, name, task, Existing::Keep).unwrap();
    let run = running.run.clone();
    let outcome = train(task, running, 1, &mut breaking_at(stop)).unwrap();
    (run, outcome)
}

fn breaking_at(stop: usize) -> impl FnMut(&TrainingEvent<'_, LanguageNote>) -> ControlFlow<()> + Send {
    let mut heard = 0;
    move |_: &TrainingEvent<'_, LanguageNote>| {
        heard += 1;
        if heard == stop { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    }
}

/// A trained base.
fn base(folder: &Path, settings: &[&str]) -> (RunFolder, ModelFile) {
    let task = prepare(base_plan(folder, settings), 1, None, &mut quiet).unwrap();
    let (run, _) = run(folder, "base", &task, usize::MAX);
    let file = ModelFile::load(&run.model()).unwrap();
    (run, file)
}

fn write(folder: &Path, name: &str, text: &str) -> std::path::PathBuf {
    let path = folder.join(name);
    std::fs::File::create(&path).and_then(|mut file| file.write_all(text.as_bytes())).unwrap();
    path
}

/// A task that tunes the base on a file, by further settings.
fn tuned(base: &(RunFolder, ModelFile), path: &Path, settings: &[&str]) -> LanguageTask {
    let (run, file) = base;
    let mut plan = file.plan.clone();
    plan.start.model = Some(run.model());
    plan.tune = Some(lalograph_lab::plan::TunePlan::default());
    plan.model.clusters.clone_from(&file.model.shape().softmax.clusters.ends);
    plan.corpus.paths = vec![path.to_owned()];
    let settings: Vec<String> = settings.iter().map(|&setting| setting.to_owned()).collect();
    let plan = Plan::from_toml(&plan.to_toml().unwrap(), &settings).unwrap();
    let base = Base { vocabulary: file.vocabulary.clone(), plan: Some(run.read_plan().unwrap()) };
    prepare_tuned(plan, base, 1, None, &mut quiet).unwrap()
}

/// New lines with words that the base does not know.
fn new_lines(folder: &Path) -> std::path::PathBuf {
    let text: String = (0..200)
        .map(|i| format!("the wasp {} eats the {}\n", i % 7, ["queen", "moth", "clover"][i % 3]))
        .collect();
    write(folder, "wasps.txt", &text)
}

/// Prompts and answers.
fn pairs(folder: &Path) -> std::path::PathBuf {
    let rows: String =
        (0..160).map(|i| format!("where is the queen {},the queen is in hive {}\n", i % 40, i % 7)).collect();
    write(folder, "pairs.csv", &format!("prompt,answer\n{rows}"))
}

const PAIRS: [&str; 3] = ["corpus.document=file", "corpus.prompt=prompt", "corpus.answer=answer"];

/// The distribution of the token after a text.
fn distribution(file: &ModelFile, seed: &str) -> Vec<f64> {
    let mut probabilities = vec![0.0; file.vocabulary.len()];
    let ready = Arc::new(ReadyModel::new(file.clone()));
    for next in Generator::new(ready).next(seed).unwrap() {
        probabilities[next.index as usize] = next.probability;
    }
    probabilities
}

#[test]
fn without_a_step_it_is_the_base_and_new_tokens_only_take_their_share() {
    let kinds: [&[&str]; 6] = [
        &[],
        &["model.cell=gru", "model.layers=2", "model.layer_norm=true"],
        &["model.shared_vectors=true"],
        &["model.softmax=sampled", "model.softmax_samples=4"],
        &["model.softmax=clustered", "model.clusters=[8]", "model.cluster_shrink=2"],
        &["model.softmax=clustered", "model.clusters=[8]", "model.shared_vectors=false", "model.layers=2"],
    ];
    for settings in kinds {
        let folder = tempfile::tempdir().unwrap();
        let base = base(folder.path(), settings);
        let path = new_lines(folder.path());
        for (name, vectors) in [("a", "beside"), ("b", "unknown"), ("c", "random")] {
            let vectors = format!("tune.new_vectors={vectors}");
            let task = tuned(&base, &path, &["training.steps=0", "tune.new_tokens=2", &vectors]);
            let (run, outcome) = run(folder.path(), name, &task, usize::MAX);
            assert_eq!((outcome.status, outcome.kept_step), (RunStatus::Finished, 0));
            let file = ModelFile::load(&run.model()).unwrap();
            let old = base.1.vocabulary.len();
            assert_eq!(file.vocabulary.len(), old + 2);
            // Every number of the base is there, to the bit.
            let mut found = 0;
            for (own, theirs) in file.model.layout().tensors().iter().zip(base.1.model.layout().tensors()) {
                assert_eq!(own.name, theirs.name);
                let (start, length) = (own.range.start, theirs.range.len());
                assert!(file.weights[start..start + length] == base.1.weights[theirs.range.clone()]);
                found += length;
            }
            assert_eq!(found, base.1.weights.len());
            // The old tokens share what the new ones leave: all of them, or those of the last cluster.
            let (before, after) =
                (distribution(&base.1, "the queen is"), distribution(&file, "the queen is"));
            let from = if settings.contains(&"model.clusters=[8]") { 8 } else { 0 };
            for index in 0..from {
                assert!((after[index] - before[index]).abs() < 1e-6, "{settings:?}");
            }
            let (whole, taken): (f64, f64) = (before[from..].iter().sum(), after[old..].iter().sum());
            for index in from..old {
                let expected = before[index] * (1.0 - taken / whole);
                assert!((after[index] - expected).abs() < 1e-6, "{settings:?}: {} {expected}", after[index]);
            }
        }
        let same = tuned(&base, &path, &["training.steps=0"]);
        let (run, _) = run(folder.path(), "same", &same, usize::MAX);
        assert!(ModelFile::load(&run.model()).unwrap().weights == base.1.weights);
    }
}

#[test]
fn on_its_own_corpus_it_continues_as_the_base_would() {
    let folder = tempfile::tempdir().unwrap();
    // Nothing that depends on the number of the step, and an optimiser without memory.
    let plain = ["optimiser.rule=sgd", "training.learning_rate=0.5", "training.dropout=0"];
    let task = prepare(base_plan(folder.path(), &plain), 1, None, &mut quiet).unwrap();
    let epoch = task.facts.steps_per_epoch;
    let steps = format!("training.steps={epoch}");
    let (settings, twice) = ([&plain[..], &[&steps]].concat(), 2 * epoch);
    let base = base(folder.path(), &settings);
    let of_base = base.0.description().unwrap().best_validation_loss.unwrap();
    let path = folder.path().join("letters.txt");
    let (one, tuned) = run(folder.path(), "tuned", &tuned(&base, &path, &[&steps]), usize::MAX);
    let more = Changes { steps: Some(twice), ..Changes::default() };
    let resumable = Resumable::open(&Disk, base.0.path(), &more, false).unwrap();
    let task = prepare_again(resumable.run(), resumable.plan(), None, 1, None, &mut quiet).unwrap();
    let running = resumable.running(&task, "later".into(), |error| panic!("{error}")).unwrap();
    let resumed = train(&task, running, 1, &mut breaking_at(usize::MAX)).unwrap();
    let (found, expected) = (tuned.validation.unwrap().loss, resumed.validation.unwrap().loss);
    assert!((found - expected).abs() < 1e-6, "{found} {expected}");
    // Before the first step both texts are one, and the base is what it was.
    let metrics: Vec<MetricsRecord> = read_lines(&one.metrics()).unwrap();
    let first = &metrics[0];
    let MetricsRecord::Validation { step: 0, loss, .. } = first else { panic!("{first:?}") };
    assert!((first.figure("old_perplexity").unwrap() - loss.exp()).abs() < 1e-9);
    assert_eq!(first.figure("moved"), Some(0.0));
    assert!((loss - of_base).abs() < 1e-6, "{loss} {of_base}");
}

#[test]
fn the_loss_of_pairs_and_its_gradient_are_those_of_answers_by_hand() {
    let folder = tempfile::tempdir().unwrap();
    let base = base(folder.path(), &["training.dropout=0"]);
    let path = pairs(folder.path());
    // One step of gradient descent over the whole text in one window.
    let one = ["optimiser.rule=sgd", "training.steps=1", "training.batch=1", "training.clip_norm=0"];
    let rate = ["training.learning_rate=0.01", "training.lanes=1", "corpus.validation_share=0.5"];
    for on in ["answers", "all"] {
        let on_answers = on == "answers";
        let loss_on = format!("tune.loss_on={on}");
        let settings = [&PAIRS[..], &one, &rate, &[&loss_on]].concat();
        let window = tuned(&base, &path, &settings).corpus.training.len();
        let window = format!("training.window={window}");
        let task = tuned(&base, &path, &[&settings[..], &[&window]].concat());
        let mut start = lalograph_net::weights::first_values::first_values(task.model.layout(), 1);
        task.start(&mut start).unwrap();
        let file = ModelFile {
            plan: task.plan.clone(),
            vocabulary: task.vocabulary.clone(),
            trained: Default::default(),
            model: task.model.clone(),
            weights: start.clone(),
        };
        let (training, bias) = by_hand(&file, &task.corpus.training, on_answers);
        let (validation, _) = by_hand(&file, &task.corpus.validation, on_answers);
        let (run, _) = run(folder.path(), on, &task, usize::MAX);
        let metrics: Vec<MetricsRecord> = read_lines(&run.metrics()).unwrap();
        let losses: Vec<f64> = metrics.iter().map(MetricsRecord::loss).collect();
        assert!((losses[0] - validation).abs() < 1e-5, "{on}: {} {validation}", losses[0]);
        let trained = metrics.iter().find(|record| matches!(record, MetricsRecord::Training { .. })).unwrap();
        assert!((trained.loss() - training).abs() < 1e-5, "{on}: {} {training}", trained.loss());
        // What the bias of the output moved by: the mean over scored places of what was predicted less what came.
        let newest =
            lalograph_lab::artefact::checkpoint::newest(&run.checkpoints(), |_| ()).unwrap().unwrap();
        let tensor = task.model.layout().tensor("output.bias").unwrap().range.clone();
        for (token, expected) in bias.iter().enumerate() {
            let at = tensor.start + token;
            let moved = f64::from(newest.weights()[at] - start[at]);
            assert!((moved + 0.01 * expected).abs() < 1e-6, "{on}: token {token}: {moved} {expected}");
        }
    }
}

/// The mean loss over the scored places of a text of pairs, read pair by pair, and the mean there of the distribution less the target.
fn by_hand(file: &ModelFile, text: &TokenSequence, on_answers: bool) -> (f64, Vec<f64>) {
    let turns = file.vocabulary.turns().unwrap();
    let mut conversation = Conversation::new(Arc::new(ReadyModel::new(file.clone())));
    let (mut sum, mut count, mut bias) = (0.0, 0.0, vec![0.0; file.vocabulary.len()]);
    for document in text.bounds() {
        conversation.restart();
        let mut in_answer = false;
        for at in document {
            let token = text.index(at);
            let scored = if on_answers { in_answer } else { true };
            if scored {
                let scores: Vec<f64> = conversation.scores().iter().map(|&score| f64::from(score)).collect();
                let most = scores.iter().copied().fold(f64::NEG_INFINITY, f64::max);
                let total: f64 = scores.iter().map(|score| (score - most).exp()).sum();
                sum += most + total.ln() - scores[token as usize];
                count += 1.0;
                for (bias, score) in bias.iter_mut().zip(&scores) {
                    *bias += (score - most).exp() / total;
                }
                bias[token as usize] -= 1.0;
            }
            in_answer = token == turns.prompt_end || (in_answer && token != turns.answer_end);
            if token != Reserved::END {
                conversation.follow(token, true);
            }
        }
    }
    (sum / count, bias.into_iter().map(|bias| bias / count).collect())
}

#[test]
fn stopped_anywhere_it_ends_as_if_it_had_not_been() {
    let folder = tempfile::tempdir().unwrap();
    let base = base(folder.path(), &["model.layers=2", "training.dropout=0.2"]);
    let (lines, pairs) = (new_lines(folder.path()), pairs(folder.path()));
    let pair_settings = [&PAIRS[..], &["samples.drawn_seeds=1", "tune.longest_prompt=3"]].concat();
    let kinds: [(&Path, &[&str]); 3] = [
        (&lines, &["tune.new_tokens=3", "tune.keep_old=0.3", "groups.layer_rates=[0.0]"]),
        (&pairs, &pair_settings),
        (&lines, &["training.windows=documents", "tune.keep_old=0.5", "tune.measure_old=false"]),
    ];
    for (path, settings) in kinds {
        let whole = run(folder.path(), "whole", &tuned(&base, path, settings), usize::MAX).0;
        for stop in (1..60).step_by(4) {
            let (stopped, mut outcome) = run(folder.path(), "stopped", &tuned(&base, path, settings), stop);
            let mut again = 0;
            while outcome.status == RunStatus::Interrupted {
                again += 1;
                let resumable = Resumable::open(&Disk, stopped.path(), &Changes::default(), false).unwrap();
                let task =
                    prepare_again(resumable.run(), resumable.plan(), None, 1, None, &mut quiet).unwrap();
                let running = resumable.running(&task, "later".into(), |error| panic!("{error}")).unwrap();
                outcome = train(&task, running, 1, &mut breaking_at(5 + 7 * again)).unwrap();
            }
            assert_eq!(left(&stopped), left(&whole), "{settings:?} stopped at event {stop}");
            std::fs::remove_dir_all(stopped.path()).unwrap();
        }
        std::fs::remove_dir_all(whole.path()).unwrap();
    }
}

/// Step, loss and old perplexity of a line of metrics.
type Figures = (u64, f64, Option<f64>);

/// The model by its hash, the losses and figures, and the samples of a run.
fn left(run: &RunFolder) -> (u64, Vec<Figures>, String) {
    let metrics: Vec<MetricsRecord> = read_lines(&run.metrics()).unwrap();
    let figures =
        metrics.iter().map(|record| (record.step(), record.loss(), record.figure("old_perplexity")));
    let samples = std::fs::read_to_string(run.records("samples")).unwrap();
    // A hash, so that a failure can be read.
    let mut hash = DefaultHasher::new();
    hash.write(&std::fs::read(run.model()).unwrap());
    (hash.finish(), figures.collect(), samples)
}

#[test]
fn frozen_parts_stay_and_old_text_that_is_mixed_in_is_forgotten_less() {
    let folder = tempfile::tempdir().unwrap();
    let base = base(folder.path(), &["model.layers=2", "training.steps=120"]);
    let lines = new_lines(folder.path());
    let frozen = ["groups.embedding_rate=0", "groups.layer_rates=[0.0, 1.0]"];
    let (one, _) = run(folder.path(), "frozen", &tuned(&base, &lines, &frozen), usize::MAX);
    let file = ModelFile::load(&one.model()).unwrap();
    for tensor in file.model.layout().tensors() {
        let same = file.weights[tensor.range.clone()] == base.1.weights[tensor.range.clone()];
        let stays = tensor.name == "embedding" || tensor.name.starts_with("layer.1.");
        assert_eq!(same, stays, "{}", tensor.name);
    }
    let forgotten = |name: &str, keep: &str| {
        let settings = ["training.steps=60", "training.learning_rate=0.02", keep];
        let (run, _) = run(folder.path(), name, &tuned(&base, &lines, &settings), usize::MAX);
        let metrics: Vec<MetricsRecord> = read_lines(&run.metrics()).unwrap();
        let old: Vec<f64> = metrics.iter().filter_map(|record| record.figure("old_perplexity")).collect();
        (old[0], *old.last().unwrap())
    };
    let (before, without) = forgotten("without", "tune.keep_old=0");
    let (_, with) = forgotten("with", "tune.keep_old=0.5");
    assert!(without > 1.5 * before && with < 1.1 * before, "{before} {without} {with}");
}
