//! `embed train`: word vectors from a corpus.

use std::time::Instant;

use lalograph_lab::artefact::vectors::VectorFile;
use lalograph_lab::data::token_cache::TokenCache;
use lalograph_lab::{Given, LabError, Plan, read_text};
use lalograph_storage::Existing;
use lalograph_text::Vocabulary;
use lalograph_text::tokens::TokenSequence;
use lalograph_vectors::VectorTable;
use lalograph_vectors::pieces::Pieces;
use lalograph_vectors::pmi::{Factorising, factorise};
use lalograph_vectors::train::{Direction, LearningProgress as Reached, Learnt, Settings, train};
use serde::Serialize;

use super::words::{NearWord, counts, spellings};
use crate::cli::{DirectionChoice, EmbedTrainArgs};
use crate::commands::input::threads;
use crate::commands::reading::{found, lay_over, refuse_idle};
use crate::commands::training::{TOKENS, reading_text};
use crate::commands::vocab::vocabularies::apply_token_args;
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

/// Method of making vectors.
enum Way {
    Predicting(Settings),
    Factorising(Factorising),
}

/// Runs the command.
pub(super) fn run(args: &EmbedTrainArgs, screen: &Screen) -> Result<(), Failure> {
    let outputs: Vec<_> = std::iter::once(args.output.as_path()).chain(args.text_output.as_deref()).collect();
    let existing = Existing::replaced_if(args.force);
    let mut written = files::begin("vectors", &outputs, existing)?;
    let way = way(args)?;
    if args.paths.iter().any(|path| path.as_os_str() == "-") {
        return Err(Failure::Usage(
            "training reads the corpus twice, so the corpus cannot come from standard input; save it to a file first"
                .into(),
        ));
    }
    interrupt::listen();
    let (vocabulary, text) = read(args, existing, screen)?;
    let words = spellings(&vocabulary);
    if let Way::Predicting(settings) = &way {
        let workers = settings.lanes.unwrap_or_else(|| threads(args.threads));
        room::check(
            settings.bytes(words.len(), workers),
            "training these vectors",
            "lower --dimensions, --piece-rows, --lanes or --vocabulary-size",
        )?;
    }
    let probes = probes(args, &vocabulary, screen)?;
    let start = Instant::now();
    let mut last_loss = None;
    let pool =
        rayon::ThreadPoolBuilder::new().num_threads(threads(args.threads)).build().map_err(LabError::from)?;
    let table = pool.install(|| match &way {
        Way::Predicting(settings) => {
            predict(settings, &words, &text, (&probes, args.json), screen, &mut last_loss)
        }
        Way::Factorising(settings) => {
            let mut progress = Progress::new(screen, "counting pairs", Measure::Steps, 100);
            let table = factorise(settings, &words, &text, |share| {
                progress.at((100.0 * share) as u64, "");
                !interrupt::asked()
            });
            progress.finish();
            Ok::<_, Failure>(table?)
        }
    })?;
    let seconds = start.elapsed().as_secs_f64();
    let made = match &way {
        Way::Predicting(settings) => serde_json::to_string(settings).map_err(Failure::work)?,
        Way::Factorising(settings) => serde_json::json!({
            "factorised": true, "dimensions": settings.dimensions, "window": settings.window,
            "shift": settings.shift, "seed": settings.seed,
        })
        .to_string(),
    };
    let file = VectorFile { counts: Some(counts(&vocabulary)), vocabulary: Some(vocabulary), table, made };
    file.save(written.file(&args.output)?)?;
    if let Some(path) = &args.text_output {
        file.save_text(written.file(path)?)?;
    }
    written.finish()?;
    let passes = if let Way::Predicting(settings) = &way { settings.epochs } else { 1 };
    let tokens = passes * text.len() as u64;
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

fn way(args: &EmbedTrainArgs) -> Result<Way, Failure> {
    let EmbedTrainArgs { dimensions, window, negative_samples, seed, .. } = *args;
    if args.factorise {
        return Ok(Way::Factorising(Factorising {
            dimensions,
            window,
            shift: negative_samples.max(1) as f64,
            seed,
        }));
    }
    let (direction, default) = match args.direction {
        DirectionChoice::ContextToWord => (Direction::ContextToWord, 0.25),
        DirectionChoice::WordToContext => (Direction::WordToContext, 0.06),
    };
    let settings = Settings {
        direction,
        dimensions,
        window,
        fixed_window: args.fixed_window,
        negative_samples,
        subsample: args.subsample,
        learning_rate: args.learning_rate.unwrap_or(default),
        epochs: args.epochs,
        pieces: args.pieces.map(|(shortest, longest)| Pieces { shortest, longest, rows: args.piece_rows }),
        seed,
        lanes: (!args.fast).then_some(args.lanes),
    };
    settings.check()?;
    Ok(Way::Predicting(settings))
}

/// The corpus as one text, and its vocabulary.
fn read(
    args: &EmbedTrainArgs,
    existing: Existing,
    screen: &Screen,
) -> Result<(Vocabulary, TokenSequence), Failure> {
    let mut plan = Plan::default();
    plan.corpus.paths.clone_from(&args.paths);
    lay_over(&args.reading, &mut plan.corpus);
    (plan.corpus.validation_share, plan.corpus.test_share) = (0.0, 0.0);
    plan.vocabulary.file.clone_from(&args.vocabulary_file);
    apply_token_args(&args.tokens, &mut plan.vocabulary)?;
    plan.check()?;
    refuse_idle(&args.reading, &found(&plan.corpus.spec())?)?;
    let left_out = args.reading.left_out.as_deref();
    // A list of what is left out is only there if the corpus is read.
    let cache = args.runs.join(TOKENS);
    let storage = files::storage();
    let cache = left_out.is_none().then_some(TokenCache { storage: &*storage, path: &cache });
    let (vocabulary, encoded) = reading_text(left_out, existing, screen, |observer| {
        read_text(&plan, threads(args.threads), cache, Given::Nothing, observer)
    })?;
    Ok((vocabulary, encoded.training))
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

/// Learns by prediction, and shows how it goes.
fn predict(
    settings: &Settings,
    words: &[String],
    text: &TokenSequence,
    (probes, json): (&[u32], bool),
    screen: &Screen,
    last_loss: &mut Option<f64>,
) -> Result<VectorTable, Failure> {
    let total = settings.epochs * text.len() as u64;
    let mut progress = Progress::new(screen, "learning", Measure::Tokens, total);
    let start = Instant::now();
    let (mut sum, mut times, mut moment) = (0.0, 0u32, 0);
    let mut failed: Option<Failure> = None;
    let learnt =
        train(settings, words, text, &mut |reached: &Reached, snapshot: &mut dyn FnMut() -> Learnt| {
            if let Some(loss) = reached.loss {
                (sum, times) = (sum + loss, times + 1);
            }
            let loss = (times > 0).then(|| sum / f64::from(times));
            progress.at(reached.tokens, &loss.map_or(String::new(), |loss| format!("loss {loss:.4}")));
            if reached.tokens * MOMENTS >= (moment + 1) * total {
                moment = reached.tokens * MOMENTS / total;
                *last_loss = loss;
                (sum, times) = (0.0, 0);
                let epoch = reached.tokens as f64 / text.len() as f64;
                let words_per_second = reached.tokens as f64 / start.elapsed().as_secs_f64();
                let printed = say(&snapshot(), words, probes, (epoch, loss, words_per_second), json, screen);
                failed = printed.err();
            }
            failed.is_none() && !interrupt::asked()
        });
    progress.finish();
    if let Some(failure) = failed {
        return Err(failure);
    }
    Ok(learnt?.table(words)?)
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

#[cfg(test)]
mod tests {
    use clap::Parser;
    use lalograph_vectors::train::Settings;

    use super::{Way, way};
    use crate::cli::{Cli, Command, EmbedCommand};

    #[test]
    fn options_that_are_not_given_have_the_defaults_of_the_library() {
        let cli = Cli::try_parse_from(["lalograph", "embed", "train", "letters.txt"]).unwrap();
        let Command::Embed { command: EmbedCommand::Train(args) } = cli.command else {
            panic!("another command");
        };
        let Way::Predicting(settings) = way(&args).unwrap() else { panic!("another way") };
        assert_eq!(settings, Settings::default());
    }
}
