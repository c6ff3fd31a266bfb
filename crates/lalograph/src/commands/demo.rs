//! `demo`: the whole job on the hive diaries, from nothing to a report.

use std::path::{Path, PathBuf};

use lalograph_demo::{
    CORPUS_FILES, CorpusPlan, CorpusTruth, analogies_file, pairs_file, pairs_grammar, similarity_file,
    thornmere, write_corpus,
};
use lalograph_lab::run::records::{MetricsRecord, read_lines};
use lalograph_lab::run::shelf;
use lalograph_lab::{LabError, LanguageTask, Plan, RunFolder, TrainingOutcome};
use lalograph_net::Cell;
use lalograph_storage::{Existing, FileSet, Folder, StorageError};
use lalograph_text::Division;
use lalograph_text::function_words::is_function_word;
use lalograph_text::survey::SurveySpec;
use lalograph_vectors::train::Settings;

use super::demo_classifiers::{RUNS as CLASSIFIERS, classify};
use super::embed::vectors_of;
use super::input::threads;
use super::reading::found;
use super::survey::look;
use super::train::begin;
use super::training::{carry_out, read, refuse_interrupted, render_start};
use super::vocab::vocabularies::render_size;
use crate::cli::DemoArgs;
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::chart::{Level, Picture, learning_curve};
use crate::output::loss_scale::LossScale;
use crate::output::number::{bytes, count, duration, perplexity};
use crate::output::progress::{Measure, Progress};
use crate::output::screen::Screen;
use crate::output::survey_text::render_counts;
use crate::output::table::{Column, facts, table};
use crate::output::training::Output;
use crate::output::wrap::indented;

/// Files that a demo writes besides its corpus and its run.
const OWN_FILES: [&str; 7] = [
    "similarity.tsv",
    "analogies.txt",
    PAIRS,
    PAIRS_TRUTH,
    "vocabulary.json",
    "vectors.safetensors",
    "vectors.txt",
];
/// Prompts and answers, if they are asked for, and their true figures.
const PAIRS: &str = "pairs.csv";
const PAIRS_TRUTH: &str = "pairs.truth.json";
/// Bytes of diaries for each pair, and the least and most pairs.
const BYTES_PER_PAIR: u64 = 50;
const PAIR_COUNTS: (u64, u64) = (2_000, 50_000);
/// The folder of its runs, and the name of its run there.
const RUNS: &str = "runs";
const RUN: &str = "demo";
/// Name of the file set: its list is kept under this name while the demo is incomplete.
const SET: &str = "demo";

/// Runs the command.
pub(crate) fn run(args: &DemoArgs, screen: &Screen) -> Result<(), Failure> {
    interrupt::listen();
    let default = if args.quick { 150_000 } else { 1_000_000 };
    let corpus = CorpusPlan {
        bytes: args.size.unwrap_or(default),
        seed: args.seed,
        tables: !args.no_tables,
        is_function_word,
    };
    // Before an older demo has to give way.
    corpus.check()?;
    let (folder, mut set) = begin_demo(args)?;
    set.begin_others();
    let (diaries, truth) = write_diaries(&corpus, &folder, screen)?;
    for (name, text) in [("similarity.tsv", similarity_file()), ("analogies.txt", analogies_file())] {
        set.write(&folder.join(name), text.as_bytes())?;
    }
    if args.pairs {
        write_pairs(corpus.bytes, args.seed, (&mut set, &folder), screen)?;
    }
    if args.corpus_only {
        return Ok(set.finish()?);
    }

    let mut plan = demo_plan(args);
    plan.corpus.paths = vec![diaries];
    let corpus = found(&plan.corpus.spec())?;
    let spec = SurveySpec { first_rows: 2, row_characters: 1000, ..SurveySpec::default() };
    let survey = look(&corpus, &spec, (None, Existing::Keep), screen)?;
    screen.line(&render_counts(&survey, screen))?;
    for row in &survey.first_rows {
        screen.line(&format!("\n{}", indented(&row.text, screen.width())))?;
    }

    let runs = folder.join(RUNS);
    let prepared = read(plan, &runs, threads(args.threads), None, Existing::Keep, screen)?;
    let vocabulary = folder.join("vocabulary.json");
    set.write(&vocabulary, prepared.vocabulary.to_json()?.as_bytes())?;
    screen.line(&format!("\n{}", render_size(&prepared.vocabulary, screen)))?;
    let settings =
        Settings { epochs: if args.quick { 20 } else { 8 }, seed: args.seed, ..Settings::default() };
    vectors_of(&prepared, &settings, (&mut set, &folder), threads(args.threads), screen)?;
    // Before the run that can be continued: a demo that is stopped here is made again.
    if !args.no_tables {
        let grammar = thornmere().map_err(Failure::work)?;
        let rest = (args.seed, threads(args.threads));
        classify((&folder, &runs), &grammar, &truth.ceilings, rest, screen)?;
    }
    screen.line(&format!("\n{}\n", render_start(&prepared, screen)))?;

    let running = begin(&prepared, &runs, RUN, Existing::Keep)?;
    // From here on it is a run, which can be continued. Not before: a folder without it would be mistaken for a demo that is there.
    set.finish()?;
    let (run, outcome) = carry_out(&prepared, running, (threads(args.threads), None), Output::Words, screen)?;
    let records: Vec<MetricsRecord> = read_lines(&run.metrics())?;
    draw(&run, &records, &prepared, &truth)?;
    screen.line(&format!("\n{}", report(&run, &vocabulary, &prepared, &outcome, &truth, screen)))?;
    refuse_interrupted(&run, &outcome)
}

/// Writes prompts and answers, as many as suit so many bytes of diaries.
fn write_pairs(
    bytes: u64,
    seed: u64,
    (set, folder): (&mut FileSet, &Path),
    screen: &Screen,
) -> Result<(), Failure> {
    let grammar = pairs_grammar().map_err(Failure::work)?;
    let pairs = (bytes / BYTES_PER_PAIR).clamp(PAIR_COUNTS.0, PAIR_COUNTS.1);
    let (table, truth) = pairs_file(&grammar, seed, pairs);
    set.write(&folder.join(PAIRS), table.as_bytes())?;
    let json = serde_json::to_string_pretty(&truth).map_err(Failure::work)?;
    set.write(&folder.join(PAIRS_TRUTH), json.as_bytes())?;
    screen.note(&format!(
        "{} prompts and answers in {}; lowest possible perplexity of the answers {:.3}",
        count(truth.pairs),
        folder.join(PAIRS).display(),
        truth.answer_perplexity_floor
    ));
    Ok(())
}

/// Begins a demo in the folder that was asked for, or in the first of the usual name that is free, is empty, or holds one that was never
/// finished.
fn begin_demo(args: &DemoArgs) -> Result<(PathBuf, FileSet), Failure> {
    let storage = files::storage();
    let is_unfinished = |folder: &Path| FileSet::is_unfinished(&*storage, folder, SET);
    let has_run = |folder: &Path| folder.join(RUNS).join(RUN).exists();
    let is_free = |folder: &Path| {
        let is_empty =
            |folder: &Path| std::fs::read_dir(folder).is_ok_and(|mut inside| inside.next().is_none());
        !folder.exists() || is_empty(folder) || (is_unfinished(folder) && !has_run(folder))
    };
    let places = |folder: &Path| -> Vec<PathBuf> {
        CORPUS_FILES.iter().chain(&OWN_FILES).map(|name| folder.join(name)).collect()
    };
    let folder = match &args.dir {
        Some(folder) => folder.clone(),
        None => std::iter::once("thornmere".to_owned())
            .chain((2..).map(|n| format!("thornmere-{n}")))
            .map(PathBuf::from)
            .find(|folder| is_free(folder))
            .unwrap_or_default(),
    };
    if !is_free(&folder) {
        if is_unfinished(&folder) {
            // Its process died when the run had just started: all else was in its place.
            FileSet::begin(&*storage, SET, &places(&folder), Existing::Replace)?.finish()?;
        }
        if !args.force {
            return Err(LabError::Exists(folder).into());
        }
        let [.., truth] = CORPUS_FILES;
        let truth = std::fs::read(folder.join(truth)).unwrap_or_else(|_| Vec::new());
        if serde_json::from_slice::<CorpusTruth>(&truth).is_err() {
            return Err(Failure::with_remedy(
                format!("{} is not the folder of a demo, so nothing in it was changed", folder.display()),
                "use another --dir",
            ));
        }
    }
    let set = FileSet::begin(&*storage, SET, &places(&folder), Existing::Replace)?;
    clear(&folder)?;
    Ok((folder, set))
}

/// Takes away what an earlier demo wrote into a folder, and nothing else.
fn clear(folder: &Path) -> Result<(), Failure> {
    let storage = files::storage();
    for name in std::iter::once(RUN).chain(CLASSIFIERS) {
        let run = folder.join(RUNS).join(name);
        if run.exists() {
            shelf::remove(&*storage, &RunFolder::open(&run)?)?;
        }
    }
    let open = Folder::open(&*storage, folder)?;
    if open.entry(RUNS)?.is_some() {
        let runs = open.folder(RUNS)?;
        runs.remove_all(files::TOKENS)?;
        // Where nobody trained anything else there.
        if runs.entries()?.iter().all(|(name, _)| name == shelf::LOCK) {
            open.remove_all(RUNS)?;
        }
    }
    let [diaries, tables @ ..] = CORPUS_FILES;
    // The truth first: without it nothing there is mistaken for a demo's.
    for name in tables.iter().rev().chain(&OWN_FILES) {
        open.remove_file(name)?;
    }
    if open.entry(diaries)?.is_some() {
        let volumes = open.folder(diaries)?;
        for (name, _) in volumes.entries()? {
            let is_volume = name.to_str().is_some_and(|name| {
                name.strip_prefix("volume-").and_then(|rest| rest.strip_suffix(".txt")).is_some()
            });
            if is_volume {
                volumes.remove_file(&name)?;
            }
        }
        open.remove_folder(diaries).map_err(|error| match error {
            StorageError::Io { source, .. } if source.kind() == std::io::ErrorKind::DirectoryNotEmpty => {
                Failure::with_remedy(
                    format!("{} holds files that are not the demo's", volumes.path().display()),
                    "move them away, or use another --dir",
                )
            }
            other => other.into(),
        })?;
    }
    Ok(())
}

fn write_diaries(
    plan: &CorpusPlan,
    folder: &Path,
    screen: &Screen,
) -> Result<(PathBuf, CorpusTruth), Failure> {
    let grammar = thornmere().map_err(Failure::work)?;
    let mut progress = Progress::new(screen, "writing diaries", Measure::Bytes, plan.bytes);
    let open = Folder::open(&*files::storage(), folder)?;
    let written = write_corpus(&grammar, plan, &open, |bytes| {
        progress.at(bytes, "");
        !interrupt::asked()
    });
    progress.finish();
    let (files, truth) = written?;
    let entropy = truth.entropy;
    let mut places = vec![format!("{}{}", files.diaries.display(), std::path::MAIN_SEPARATOR)];
    places.extend(
        files.csv.iter().chain(&files.json_lines).chain(&files.scales).map(|path| path.display().to_string()),
    );
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
                "lowest perplexity that a model can reach: {:.4} per word, {:.4} per character",
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
    // The floor is that of the whole text, so no word may be unknown.
    plan.vocabulary.minimum_count = Some(1);
    plan.training.seed = args.seed;
    plan.samples.tokens = 130;
    plan.model.embedding = Some(64);
    plan.model.hidden = Some(128);
    plan.training.window = 48;
    plan.training.dropout = Some(0.1);
    if args.quick {
        // In few steps a GRU learns more.
        plan.model.cell = Cell::Gru;
        plan.training.epochs = Some(12);
        plan.training.validate_every = 80;
        plan.samples.every = 160;
    } else {
        // The grammar agrees over fifty tokens and more: the memory has to last.
        plan.model.keep_bias = Some(3.0);
        plan.training.learning_rate = 0.01;
        plan.training.epochs = Some(28);
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
    let unigram = prepared.facts.unigram_loss.map(|loss| Level::Unigram(loss.exp()));
    let levels: Vec<Level> = [Level::Floor(truth.word_perplexity_floor)].into_iter().chain(unigram).collect();
    let dropout = prepared.plan.regularisation().dropout.any();
    match learning_curve(LossScale::Perplexity, "Perplexity on the hive diaries", records, &levels, dropout) {
        Some(scene) => {
            // Each for itself and not as a set: nobody asks again for pictures of a run that has ended.
            Picture::of(scene)?.write_alone(&run.path().join("learning"))
        }
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
    row("uniform", prepared.vocabulary.len() as f64, "all indices equally probable");
    if let Some(loss) = prepared.facts.unigram_loss {
        row("unigram", loss.exp(), "the frequency of each word only");
    }
    if let Some(found) = &outcome.validation {
        row("this model", found.perplexity(), "after training");
    }
    row("floor", floor, "the entropy of the text; no model can be better");
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
                "{} for {} steps, {} tokens/s in training",
                duration(outcome.seconds),
                count(outcome.steps),
                count(outcome.tokens_per_second as u64)
            ),
        ),
    ];
    let next = format!(
        "  lalograph sample {0} --temperatures 0.3,0.7,1.0 --from 'Hesper'\n  lalograph score {0} {1}\n  lalograph embed near {2} Hesper Foxgate\n  lalograph classify score {3}\n  lalograph runs report {0}",
        run.path().display(),
        prepared
            .plan
            .corpus
            .paths
            .first()
            .map_or_else(String::new, |path| path.join("volume-00001.txt").display().to_string()),
        vocabulary.with_file_name("vectors.safetensors").display(),
        run.path().with_file_name("keeper").display(),
    );
    format!(
        "{}\n{figures}\n\n{}\n{}\n\n{}\n{next}",
        screen.heading("How good the model is"),
        screen.heading("Files"),
        facts(screen, &places),
        screen.heading("Try next"),
    )
}
