//! Training as a library: what the observer hears, what is kept, and what a model file holds.

use std::ops::ControlFlow;
use std::path::Path;
use std::sync::Arc;

use lalograph_lab::run::description::RunStatus;
use lalograph_lab::task::language::LanguageNote;
use lalograph_lab::writing::decoding::Decoding;
use lalograph_lab::writing::generator::{Generator, Request, Terms};
use lalograph_lab::{
    LabError, ModelFile, Plan, ReadyModel, RunFolder, TrainingEvent, TrainingOutcome, prepare, train,
};
use lalograph_net::numbers::chance::stream;
use lalograph_storage::{Disk, Existing};

use crate::common::{created, plan_of, quiet};

fn plan(folder: &Path) -> Plan {
    let words = ["hive", "queen", "drone", "clover"];
    let lines: String = (0..300).map(|i| format!("the {} is {} today\n", words[i % 4], i)).collect();
    let mut plan = plan_of(folder, &lines, &[&["corpus.document=line"]]);
    (plan.model.embedding, plan.model.hidden) = (Some(6), Some(8));
    (plan.training.batch, plan.training.window) = (4, 8);
    plan.training.steps = Some(20);
    plan.training.validate_every = 5;
    plan.samples.every = 10;
    plan.samples.tokens = 6;
    plan
}

/// Trains in `folder`, stopping after `stop` steps, and gives the kinds of events in order.
fn run(folder: &Path, plan: Plan, stop: u64) -> (RunFolder, TrainingOutcome, Vec<&'static str>) {
    let prepared = prepare(plan, 2, None, &mut quiet).unwrap();
    let running = created(&Disk, folder, "one", &prepared, Existing::Keep).unwrap();
    let run = running.run.clone();
    let mut heard = Vec::new();
    let outcome = train(&prepared, running, 1, &mut |event: &TrainingEvent<'_, LanguageNote>| {
        heard.push(match event {
            TrainingEvent::Started { .. } => "started",
            TrainingEvent::Step { .. } => "step",
            TrainingEvent::Metrics(_) => "metrics",
            TrainingEvent::Validating(_) => "validating",
            TrainingEvent::Note(LanguageNote::Flow(_)) => "flow",
            TrainingEvent::Note(LanguageNote::Sample(_)) => "sample",
            TrainingEvent::Checkpoint(_) => "checkpoint",
            TrainingEvent::Hint(_) => "hint",
            TrainingEvent::AtWork => "at work",
        });
        match event {
            TrainingEvent::Step { step, .. } if *step == stop => ControlFlow::Break(()),
            _ => ControlFlow::Continue(()),
        }
    });
    (run, outcome.unwrap(), heard)
}

#[test]
fn the_observer_hears_every_step_and_sample() {
    let folder = tempfile::tempdir().unwrap();
    let (_, outcome, heard) = run(folder.path(), plan(folder.path()), u64::MAX);
    let count = |kind: &str| heard.iter().filter(|&&h| h == kind).count();
    assert_eq!(heard[0], "started");
    assert_eq!((count("step"), count("sample")), (20, 6));
    // One line of training figures (every 20 steps) and four of validation.
    assert_eq!(count("metrics"), 5);
    assert_eq!((outcome.status, outcome.steps), (RunStatus::Finished, 20));
    assert!(outcome.validation.unwrap().loss.is_finite());
}

#[test]
fn a_stop_ends_after_the_step_in_hand_and_leaves_a_model() {
    let folder = tempfile::tempdir().unwrap();
    let (run, outcome, heard) = run(folder.path(), plan(folder.path()), 3);
    assert_eq!((outcome.status, outcome.steps, outcome.kept_step), (RunStatus::Interrupted, 3, 3));
    assert_eq!(heard.iter().filter(|&&h| h == "step").count(), 3);
    assert_eq!(ModelFile::load(&run.model()).unwrap().trained.step, 3);
}

#[test]
fn without_validation_text_the_last_weights_are_kept() {
    let folder = tempfile::tempdir().unwrap();
    let mut plan = plan(folder.path());
    plan.corpus.validation_share = 0.0;
    let (run, outcome, _) = run(folder.path(), plan, u64::MAX);
    assert_eq!((outcome.validation, outcome.kept_step), (None, 20));
    assert_eq!(ModelFile::load(&run.model()).unwrap().trained.validation_loss, None);
}

#[test]
fn a_model_file_reads_back_and_contradictions_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let (run, ..) = run(folder.path(), plan(folder.path()), u64::MAX);
    let bytes = std::fs::read(run.model()).unwrap();
    let again = folder.path().join("again.safetensors");
    let to_bytes = |file: &ModelFile| {
        file.save(&Disk, &again, Existing::Replace).unwrap();
        std::fs::read(&again).unwrap()
    };
    let file = ModelFile::from_bytes(&bytes).unwrap();
    assert!(to_bytes(&file) == bytes, "a file written again is the same file");

    let mut wider = ModelFile::from_bytes(&bytes).unwrap();
    wider.plan.model.hidden = wider.plan.model.hidden.map(|hidden| hidden + 1);
    assert!(ModelFile::from_bytes(&to_bytes(&wider)).err().unwrap().contains("its plan has"));
    // A small file whose plan asks for more than any machine has is refused before anything is reserved.
    let mut huge = ModelFile::from_bytes(&bytes).unwrap();
    (huge.plan.model.hidden, huge.plan.model.layers) = (Some(16_384), 64);
    assert!(ModelFile::from_bytes(&to_bytes(&huge)).err().unwrap().contains("its plan has"));
    let mut broken = ModelFile::from_bytes(&bytes).unwrap();
    broken.weights[7] = f32::NAN;
    assert!(ModelFile::from_bytes(&to_bytes(&broken)).err().unwrap().contains("weight 7"));
    let mut altered = bytes;
    let last = altered.len() - 1;
    altered[last] ^= 1;
    assert!(ModelFile::from_bytes(&altered).err().unwrap().contains("does not match its hash"));
}

#[test]
fn a_text_is_written_within_its_limit_and_read_from_its_seed() {
    let folder = tempfile::tempdir().unwrap();
    let (run, ..) = run(folder.path(), plan(folder.path()), u64::MAX);
    let file = ModelFile::load(&run.model()).unwrap();
    let mut generator = Generator::new(Arc::new(ReadyModel::new(file)));
    let terms = Terms { past_end: true, ..Terms::new(Decoding::GREEDY, 5) };
    let request = Request { seed_text: "the hive", terms };
    let mut pieces = String::new();
    let random = stream(1, "sampling", &[]);
    let sample = generator
        .write(&request, random.clone(), |piece| {
            pieces.push_str(piece);
            true
        })
        .unwrap();
    assert_eq!(sample.tokens(), 5);
    assert_eq!(pieces, sample.text, "what came piece by piece is the whole");
    let unknown = Request { seed_text: "zzz", ..request };
    assert!(matches!(generator.write(&unknown, random, |_| true), Err(LabError::SeedUnknown)));
}

#[test]
fn nothing_of_a_text_s_held_out_end_is_in_the_vocabulary() {
    let folder = tempfile::tempdir().unwrap();
    // Half of the words of the last fifth are nowhere else.
    let beginning: String = (0..800).map(|i| format!("hive{} hums ", i % 30)).collect();
    let end: String = (0..200).map(|i| format!("late{i} hums ")).collect();
    let settings = ["corpus.validation_share=0.1", "training.batch=2", "training.window=8"];
    for unit in ["vocabulary.unit=word", "vocabulary.unit=byte_pair"] {
        let mut plan = plan_of(folder.path(), &format!("{beginning}{end}"), &[&settings, &[unit]]);
        plan.vocabulary.size = Some(400);
        plan.vocabulary.minimum_count = Some(1);
        let task = prepare(plan, 2, None, &mut quiet).unwrap();
        let (training, validation) = (&task.corpus.training, &task.corpus.validation);
        assert_eq!((training.totals.documents, validation.totals.documents), (1, 1));
        let share = validation.totals.bytes as f64 / (training.totals.bytes + validation.totals.bytes) as f64;
        assert!((share - 0.1).abs() < 0.01, "{share}");
        if unit.ends_with("word") {
            let words = task.vocabulary.tokens().len();
            // 31 of the beginning, and the first half of the late ones or a little more.
            assert!((110..160).contains(&words), "{words}");
            let unknown = validation.totals.unknown as f64 / validation.len() as f64;
            assert!((0.4..0.55).contains(&unknown), "{unknown}");
        } else {
            let late = task.vocabulary.tokens().iter().filter(|token| token.bytes.ends_with(b"199")).count();
            assert_eq!(late, 0);
        }
    }
}
