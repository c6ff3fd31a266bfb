//! `embed train`: word vectors from a corpus.

use std::time::Instant;

use lalograph_lab::data::token_cache::TokenCache;
use lalograph_lab::plan::{VectorsPlan, VectorsWay};
use lalograph_lab::task::vectors::{make_vectors, read_for_vectors, tokens_to_read, vector_file};
use lalograph_lab::{LabError, Plan};
use lalograph_net::step::exchange::Exchange;
use lalograph_storage::Existing;
use lalograph_text::Vocabulary;
use lalograph_text::tokens::TokenSequence;
use lalograph_vectors::VectorTable;
use lalograph_vectors::train::{LearningProgress as Reached, Learnt};
use serde::Serialize;

use super::words::NearWord;
use crate::cli::EmbedTrainArgs;
use crate::commands::input::threads;
use crate::commands::reading::{found, refuse_idle};
use crate::commands::settings::{lay, lay_over_none, lay_text, read_plan, refuse_other_plan};
use crate::commands::training::reading_text;
use crate::company::{alone, check_lanes, enlist_for_vectors};
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::number::{count, duration};
use crate::output::palette::{ASH, HONEY};
use crate::output::progress::{Measure, Progress};
use crate::output::screen::Screen;
use crate::output::table::facts;
use crate::room;

/// Neighbours of a probe, and words that are probes where none are named.
const NEIGHBOURS: usize = 5;
const PROBES: usize = 4;

/// Number of times that neighbours are shown.
const MOMENTS: u64 = 5;

/// The words that are first in a table say little: marks, and words that occur with everything.
const MOST_FREQUENT: usize = 40;

/// A line of `embed train --json`.
#[derive(Serialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
enum Line<'a> {
    Progress {
        epoch: f64,
        loss: Option<f64>,
        words_per_second: f64,
    },
    Neighbours {
        epoch: f64,
        word: &'a str,
        neighbours: Vec<NearWord<'a>>,
    },
    Outcome {
        vectors: String,
        words: u64,
        dimensions: usize,
        tokens: u64,
        seconds: f64,
        words_per_second: f64,
        loss: Option<f64>,
    },
}

/// Runs the command.
pub(super) fn run(args: &EmbedTrainArgs, screen: &Screen) -> Result<(), Failure> {
    let outputs: Vec<_> = std::iter::once(args.output.as_path()).chain(args.text_output.as_deref()).collect();
    let existing = Existing::replaced_if(args.force);
    let mut written = files::begin("vectors", &outputs, existing)?;
    let plan = resolve(args)?;
    let own = plan.vectors.clone().unwrap_or_default();
    let mut way = own.way(plan.training.seed);
    if let (true, VectorsWay::Predicting(settings)) = (args.fast, &mut way) {
        settings.lanes = None;
    }
    match &way {
        VectorsWay::Factorising(_) => alone("the factorisation of counts")?,
        VectorsWay::Predicting(settings) => match settings.lanes {
            Some(lanes) => check_lanes(lanes, "--lanes")?,
            None => alone("training with --fast")?,
        },
    }
    if plan.corpus.paths.iter().any(|path| path.as_os_str() == "-") {
        return Err(Failure::Usage(
            "training reads the corpus twice, so the corpus cannot come from standard input; save it to a file first"
                .into(),
        ));
    }
    interrupt::listen();
    let (vocabulary, text) = read(args, &plan, existing, screen)?;
    if let VectorsWay::Predicting(settings) = &way {
        let workers = settings.lanes.unwrap_or_else(|| threads(args.threads));
        room::check(
            settings.bytes(vocabulary.len(), workers),
            "training these vectors",
            "lower --dimensions, --piece-rows, --lanes or --vocabulary-size",
        )?;
    }
    let probes = probes(args, &vocabulary, screen)?;
    let start = Instant::now();
    let mut last_loss = None;
    let pool =
        rayon::ThreadPoolBuilder::new().num_threads(threads(args.threads)).build().map_err(LabError::from)?;
    let mut exchange = enlist_for_vectors(screen)?;
    let shown = Shown { probes: &probes, json: args.json, screen };
    let table = pool.install(|| learn(&way, &vocabulary, &text, exchange.as_mut(), shown, &mut last_loss))?;
    let seconds = start.elapsed().as_secs_f64();
    let file = vector_file(&way, vocabulary, table)?;
    file.save(written.file(&args.output)?)?;
    if let Some(path) = &args.text_output {
        file.save_text(written.file(path)?)?;
    }
    written.finish()?;
    let tokens = tokens_to_read(&way, &text);
    let passes = tokens / (text.len() as u64).max(1);
    let words_per_second = tokens as f64 / seconds.max(1e-9);
    if args.json {
        return screen.json(&Line::Outcome {
            vectors: args.output.display().to_string(),
            words: file.table.words().len() as u64,
            dimensions: file.table.dimensions(),
            tokens,
            seconds,
            words_per_second,
            loss: last_loss,
        });
    }
    let mut rows = vec![
        (
            "vectors",
            format!("{} words x {} numbers", count(file.table.words().len() as u64), file.table.dimensions()),
        ),
        (
            "text",
            format!(
                "{} tokens, {passes} {}",
                count(text.len() as u64),
                if passes == 1 { "epoch" } else { "epochs" }
            ),
        ),
    ];
    if let Some((pieces, _)) = file.table.pieces() {
        rows.push((
            "pieces",
            format!(
                "{} to {} characters, {} rows",
                pieces.shortest,
                pieces.longest,
                count(u64::from(pieces.rows))
            ),
        ));
    }
    if let Some(loss) = last_loss {
        rows.push(("loss", format!("{loss:.4} nats per prediction, at the end")));
    }
    rows.push(("time", format!("{}, {} words/s", duration(seconds), count(words_per_second as u64))));
    rows.push((
        "written to",
        outputs.iter().map(|path| path.display().to_string()).collect::<Vec<_>>().join(", "),
    ));
    screen.line(&format!("{}\n{}", screen.heading("Word vectors"), facts(screen, &rows)))?;
    if probes.is_empty() {
        return Ok(());
    }
    screen.line(&format!("\n{}", screen.heading("Nearest neighbours")))?;
    let rows: Vec<(&str, String)> =
        probes.iter().map(|&probe| (file.table.word(probe), near(&file.table, probe))).collect();
    screen.line(&facts(screen, &rows))
}

/// Lays the flags over the plan file, and the plan file over the defaults.
fn resolve(args: &EmbedTrainArgs) -> Result<Plan, Failure> {
    let mut plan = read_plan(args.plan.as_deref(), &args.settings)?;
    if plan.vectors.is_none() {
        refuse_other_plan(&plan)?;
    }
    lay_text((&args.paths, &args.reading), (&args.vocabulary_file, &args.tokens), &mut plan)?;
    lay(&args.seed, &mut plan.training.seed);
    let own = plan.vectors.get_or_insert_with(VectorsPlan::default);
    lay(&args.direction, &mut own.direction);
    lay(&args.dimensions, &mut own.dimensions);
    lay(&args.window, &mut own.window);
    own.fixed_window |= args.fixed_window;
    lay(&args.negative_samples, &mut own.negative_samples);
    lay(&args.subsample, &mut own.subsample);
    lay_over_none(&args.learning_rate, &mut own.learning_rate);
    lay(&args.epochs, &mut own.epochs);
    if let Some((shortest, longest)) = args.pieces {
        own.pieces = vec![shortest, longest];
    }
    lay(&args.piece_rows, &mut own.piece_rows);
    own.factorise |= args.factorise;
    lay(&args.lanes, &mut own.lanes);
    let (factorised, pieces) = (own.factorise, !own.pieces.is_empty());
    plan.check()?;
    for (given, flag, idle) in [
        (args.fast, "--fast", factorised.then_some("--factorise has no threads to synchronise")),
        (args.piece_rows.is_some(), "--piece-rows", (!pieces).then_some("no pieces are trained (--pieces)")),
    ] {
        if let (true, Some(why)) = (given, idle) {
            return Err(Failure::Usage(format!("{flag} has no effect: {why}")));
        }
    }
    Ok(plan)
}

/// The corpus as one text, and its vocabulary.
fn read(
    args: &EmbedTrainArgs,
    plan: &Plan,
    existing: Existing,
    screen: &Screen,
) -> Result<(Vocabulary, TokenSequence), Failure> {
    refuse_idle(&args.reading, &found(&plan.corpus.spec())?)?;
    let left_out = args.reading.left_out.as_deref();
    // A list of what is left out is only there if the corpus is read.
    let cache = args.runs.join(files::TOKENS);
    let storage = files::storage();
    let cache = left_out.is_none().then_some(TokenCache { storage: &*storage, path: &cache });
    let (vocabulary, corpus) = reading_text(left_out, existing, screen, |observer| {
        read_for_vectors(plan, threads(args.threads), cache, observer)
    })?;
    Ok((vocabulary, corpus.training))
}

/// The rows of the words whose neighbours are shown.
fn probes(args: &EmbedTrainArgs, vocabulary: &Vocabulary, screen: &Screen) -> Result<Vec<u32>, Failure> {
    let tokens = vocabulary.tokens();
    let row = |word: &String| {
        let at = tokens.iter().position(|token| *token.bytes == *word.as_bytes());
        if at.is_none() {
            screen.warn(&format!("`{word}` is not in the vocabulary, so it has no neighbours"));
        }
        at.map(|at| at as u32)
    };
    if !args.probe.is_empty() {
        return Ok(args.probe.iter().filter_map(row).collect());
    }
    let first = MOST_FREQUENT.min(tokens.len() / 4);
    Ok((0..PROBES)
        .map(|at| (first + at * first.max(1)) as u32)
        .filter(|&row| (row as usize) < tokens.len())
        .collect())
}

/// What is shown while vectors are learnt, and where.
struct Shown<'s> {
    probes: &'s [u32],
    json: bool,
    screen: &'s Screen,
}

/// Makes the vectors, and shows how it goes.
fn learn(
    way: &VectorsWay,
    vocabulary: &Vocabulary,
    text: &TokenSequence,
    exchange: &mut dyn Exchange<f32>,
    Shown { probes, json, screen }: Shown<'_>,
    last_loss: &mut Option<f64>,
) -> Result<VectorTable, Failure> {
    let (total, words) = (tokens_to_read(way, text), vocabulary.spellings());
    let what = if let VectorsWay::Predicting(_) = way { "learning" } else { "counting pairs" };
    let mut progress = Progress::new(screen, what, Measure::Tokens, total);
    let start = Instant::now();
    let (mut sum, mut times, mut moment) = (0.0, 0u32, 0);
    let mut failed: Option<Failure> = None;
    let mut observer = |reached: &Reached, snapshot: Option<&mut dyn FnMut() -> Learnt>| {
        if let Some(loss) = reached.loss {
            (sum, times) = (sum + loss, times + 1);
        }
        let loss = (times > 0).then(|| sum / f64::from(times));
        progress.at(reached.tokens, &loss.map_or(String::new(), |loss| format!("loss {loss:.4}")));
        if let Some(snapshot) = snapshot.filter(|_| reached.tokens * MOMENTS >= (moment + 1) * total) {
            moment = reached.tokens * MOMENTS / total;
            *last_loss = loss;
            (sum, times) = (0.0, 0);
            let epoch = reached.tokens as f64 / text.len() as f64;
            let words_per_second = reached.tokens as f64 / start.elapsed().as_secs_f64();
            let printed = say(&snapshot(), &words, probes, (epoch, loss, words_per_second), json, screen);
            failed = printed.err();
        }
        failed.is_none() && !interrupt::asked()
    };
    let made = make_vectors(way, vocabulary, text, exchange, &mut observer);
    progress.finish();
    match failed {
        Some(failure) => Err(failure),
        None => Ok(made?),
    }
}

/// Shows how far it has come and what is near the probes by now.
fn say(
    learnt: &Learnt,
    words: &[String],
    probes: &[u32],
    (epoch, loss, words_per_second): (f64, Option<f64>, f64),
    json: bool,
    screen: &Screen,
) -> Result<(), Failure> {
    let table = learnt.table(words)?;
    if json {
        screen.json(&Line::Progress { epoch, loss, words_per_second })?;
        for &probe in probes {
            let found = table.nearest(table.at(probe), NEIGHBOURS, &[probe]);
            let neighbours = NearWord::all(&table, &found);
            screen.json(&Line::Neighbours { epoch, word: table.word(probe), neighbours })?;
        }
        return Ok(());
    }
    let loss = loss.map_or(String::new(), |loss| format!(", loss {loss:.4}"));
    let head = format!("after {epoch:.1} epochs{loss}, {} words/s", count(words_per_second as u64));
    screen.note(&screen.styled_note(ASH.style(), &head));
    for &probe in probes {
        let word = screen.styled_note(HONEY.style().bold(), table.word(probe));
        screen.note(&format!("  {word}: {}", near(&table, probe)));
    }
    Ok(())
}

/// The nearest neighbours of a word, in one line.
fn near(table: &VectorTable, probe: u32) -> String {
    let found = table.nearest(table.at(probe), NEIGHBOURS, &[probe]);
    let near: Vec<String> =
        found.iter().map(|other| format!("{} {:.2}", table.word(other.row), other.cosine)).collect();
    near.join(" \u{b7} ")
}
