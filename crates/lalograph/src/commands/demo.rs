//! `demo`: the whole job on the hive diaries, from nothing to a report.

use std::fs;
use std::path::{Path, PathBuf};

use lalograph_demo::{CorpusPlan, CorpusTruth, analogies_file, similarity_file, thornmere, write_corpus};
use lalograph_lab::run::records::{MetricsRecord, read_lines};
use lalograph_lab::storage::files::{Existing, write_whole};
use lalograph_lab::{LabError, LanguageTask, Plan, RunFolder, TrainingOutcome};
use lalograph_text::survey::SurveySpec;
use lalograph_text::{Corpus, Division};
use lalograph_vectors::train::Settings;

use super::embed::vectors_of;
use super::input::threads;
use super::survey::look;
use super::train::begin;
use super::training::{carry_out, read, refuse_interrupted, render_start};
use super::vocab::vocabularies::render_size;
use crate::cli::DemoArgs;
use crate::failure::Failure;
use crate::interrupt;
use crate::output::chart::{Level, learning_curve, write_pictures};
use crate::output::number::{bytes, count, duration, perplexity};
use crate::output::progress::{Measure, Progress};
use crate::output::screen::Screen;
use crate::output::survey_text::render_counts;
use crate::output::table::{Column, facts, table};
use crate::output::training::Output;
use crate::output::wrap::indented;

/// The file that marks a folder as a demo's.
const MARK: &str = "diaries.truth.json";

/// Runs the command.
pub(crate) fn run(args: &DemoArgs, screen: &Screen) -> Result<(), Failure> {
    interrupt::listen();
    let usual = if args.quick { 150_000 } else { 1_000_000 };
    let corpus = CorpusPlan { bytes: args.size.unwrap_or(usual), seed: args.seed, tables: !args.no_tables };
    // Before an older demo has to give way.
    corpus.check()?;
    let folder = make_folder(args)?;
    let (diaries, truth) = write_diaries(&corpus, &folder, screen)?;
    for (name, text) in [("similarity.tsv", similarity_file()), ("analogies.txt", analogies_file())] {
        write_whole(&folder.join(name), text.as_bytes(), Existing::Keep)?;
    }
    if args.corpus_only {
        return Ok(());
    }

    let mut plan = demo_plan(args);
    plan.corpus.paths = vec![diaries];
    let corpus = Corpus::find(&plan.corpus.spec())?;
    let spec = SurveySpec { first_rows: 2, row_characters: 1000, ..SurveySpec::default() };
    let survey = look(&corpus, &spec, (None, Existing::Keep), screen)?;
    screen.line(&render_counts(&survey, screen))?;
    for row in &survey.first_rows {
        screen.line(&format!("\n{}", indented(&row.text, screen.width())))?;
    }

    let runs = folder.join("runs");
    let prepared = read(plan, &runs, threads(args.threads), None, Existing::Keep, screen)?;
    let vocabulary = folder.join("vocabulary.json");
    write_whole(&vocabulary, prepared.vocabulary.to_json().as_bytes(), Existing::Keep)?;
    screen.line(&format!("\n{}", render_size(&prepared.vocabulary, screen)))?;
    let settings =
        Settings { epochs: if args.quick { 20 } else { 8 }, seed: args.seed, ..Settings::default() };
    vectors_of(&prepared, &settings, &folder, threads(args.threads), screen)?;
    screen.line(&format!("\n{}\n", render_start(&prepared, screen)))?;

    let running = begin(&prepared, &runs, "demo", Existing::Keep)?;
    let (run, outcome) = carry_out(&prepared, running, threads(args.threads), Output::Words, screen)?;
    let records: Vec<MetricsRecord> = read_lines(&run.metrics())?;
    draw(&run, &records, &prepared, &truth)?;
    screen.line(&format!("\n{}", report(&run, &vocabulary, &prepared, &outcome, &truth, screen)))?;
    refuse_interrupted(&run, &outcome)
}

/// Makes the folder to write into: the one asked for, or the first free one of the usual name.
fn make_folder(args: &DemoArgs) -> Result<PathBuf, Failure> {
    let folder = match &args.dir {
        Some(folder) => folder.clone(),
        None => std::iter::once("thornmere".to_owned())
            .chain((2..).map(|n| format!("thornmere-{n}")))
            .map(PathBuf::from)
            .find(|folder| !folder.exists())
            .unwrap_or_default(),
    };
    if folder.exists() {
        if !args.force {
            return Err(LabError::Exists(folder).into());
        }
        if !folder.join(MARK).is_file() {
            return Err(Failure::with_remedy(
                format!("{} is not a demo's folder, so it is left alone", folder.display()),
                "give another --dir",
            ));
        }
        fs::remove_dir_all(&folder).map_err(LabError::at(&folder))?;
    }
    fs::create_dir_all(&folder).map_err(LabError::at(&folder))?;
    Ok(folder)
}

fn write_diaries(
    plan: &CorpusPlan,
    folder: &Path,
    screen: &Screen,
) -> Result<(PathBuf, CorpusTruth), Failure> {
    let grammar = thornmere().map_err(Failure::work)?;
    let mut progress = Progress::new(screen, "writing diaries", Measure::Bytes, plan.bytes);
    let written = write_corpus(&grammar, plan, folder, |bytes| {
        progress.at(bytes, "");
        !interrupt::asked()
    });
    progress.finish();
    let (files, truth) = written?;
    let entropy = truth.entropy;
    let mut places = vec![format!("{}{}", files.diaries.display(), std::path::MAIN_SEPARATOR)];
    places.extend(files.csv.iter().chain(&files.json_lines).map(|path| path.display().to_string()));
    let rows = [
        ("written", places.join(", ")),
        (
            "entries",
            format!(
                "{}, {} of text, seed {}, {} rule families",
                count(truth.entries),
                bytes(truth.bytes),
                truth.seed,
                grammar.rule_count()
            ),
        ),
        (
            "true entropy",
            format!(
                "{:.2} bits per entry, {:.4} per word, {:.4} per character, exactly",
                entropy.bits_per_entry,
                entropy.bits_per_word(),
                entropy.bits_per_character()
            ),
        ),
        (
            "floor",
            format!(
                "no model can reach a perplexity below {:.4} per word, {:.4} per character",
                truth.word_perplexity_floor, truth.character_perplexity_floor
            ),
        ),
    ];
    let heading = screen.heading("The Thornmere hive diaries: made-up keepers of a made-up valley");
    screen.line(&format!("{heading}\n{}\n", facts(screen, &rows)))?;
    Ok((files.diaries, truth))
}

/// Settings that learn the diaries in about two minutes on two processors, or in a few seconds.
fn demo_plan(args: &DemoArgs) -> Plan {
    let mut plan = Plan::default();
    plan.corpus.document = Some(Division::Line);
    plan.training.seed = args.seed;
    plan.samples.tokens = 130;
    plan.model.embedding = 64;
    plan.model.hidden = 128;
    plan.training.batch = 16;
    plan.training.learning_rate = 0.01;
    plan.training.clip_norm = 0.25;
    if args.quick {
        plan.training.epochs = 16;
        plan.training.validate_every = 80;
        plan.samples.every = 160;
    } else {
        plan.training.epochs = 36;
        plan.training.validate_every = 300;
        plan.samples.every = 900;
    }
    plan
}

fn draw(
    run: &RunFolder,
    records: &[MetricsRecord],
    prepared: &LanguageTask,
    truth: &CorpusTruth,
) -> Result<(), Failure> {
    let mut levels =
        vec![Level { perplexity: truth.word_perplexity_floor, name: "floor: the text's own entropy" }];
    if let Some(loss) = prepared.facts.unigram_loss {
        levels.push(Level { perplexity: loss.exp(), name: "unigram model" });
    }
    match learning_curve("Learning the hive diaries", records, &levels) {
        Some(scene) => write_pictures(scene, &run.path().join("learning"), Existing::Keep),
        None => Ok(()),
    }
}

/// The table that the demo ends with.
fn report(
    run: &RunFolder,
    vocabulary: &Path,
    prepared: &LanguageTask,
    outcome: &TrainingOutcome,
    truth: &CorpusTruth,
    screen: &Screen,
) -> String {
    let floor = truth.word_perplexity_floor;
    let mut rows: Vec<Vec<String>> = Vec::new();
    let mut row = |name: &str, value: f64, what: &str| {
        let ratio = value / floor;
        let over = match ratio {
            _ if ratio <= 1.0 => "1".to_owned(),
            _ if ratio < 10.0 => format!("{ratio:.3}"),
            _ => count(ratio.round() as u64),
        };
        rows.push(vec![name.to_owned(), perplexity(value), over, what.to_owned()]);
    };
    row("uniform", prepared.vocabulary.len() as f64, "every index as likely as every other");
    if let Some(loss) = prepared.facts.unigram_loss {
        row("unigram", loss.exp(), "knows only how common each word is");
    }
    if let Some(found) = &outcome.validation {
        row("this model", found.perplexity(), "after training, on text it never saw");
    }
    row("floor", floor, "the text's own entropy: nothing gets below");
    let columns = [Column::Text, Column::Number, Column::Number, Column::Text];
    let figures =
        table(screen, &["model", "perplexity", "times the floor", "on validation text"], &columns, &rows);

    let picture = run.path().join("learning.png");
    let places = [
        ("model", run.model().display().to_string()),
        ("vocabulary", vocabulary.display().to_string()),
        ("metrics, samples", format!("{}, {}", run.metrics().display(), run.records("samples").display())),
        ("chart", format!("{} and .svg", picture.display())),
        (
            "time",
            format!(
                "{} for {} steps, {} tokens/s while learning",
                duration(outcome.seconds),
                count(outcome.steps),
                count(outcome.tokens_per_second as u64)
            ),
        ),
    ];
    let next = format!(
        "  lalograph sample {0} --temperature 0.3,0.7,1.0 --from 'Hesper'\n  lalograph score {0} {1}\n  lalograph embed near {2} Hesper Foxgate\n  lalograph runs report {0}",
        run.path().display(),
        prepared
            .plan
            .corpus
            .paths
            .first()
            .map_or_else(String::new, |path| path.join("volume-00001.txt").display().to_string()),
        vocabulary.with_file_name("vectors.safetensors").display(),
    );
    format!(
        "{}\n{figures}\n\n{}\n{}\n\n{}\n{next}",
        screen.heading("How well it learnt"),
        screen.heading("Where everything is"),
        facts(screen, &places),
        screen.heading("What to try next"),
    )
}
