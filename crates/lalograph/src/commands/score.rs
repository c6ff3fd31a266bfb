//! `score`: judge a text with a trained model.

use lalograph_lab::files::Existing;
use lalograph_lab::score::score;

use super::reading::{find_corpus, say_unknown, watched};
use super::{load_model, threads};
use crate::cli::ScoreArgs;
use crate::failure::Failure;
use crate::interrupt;
use crate::output::number::{bytes, count, percent, perplexity};
use crate::output::progress::{Measure, Progress};
use crate::output::screen::Screen;
use crate::output::table::facts;

/// Runs the command.
pub(crate) fn run(args: &ScoreArgs, screen: &Screen) -> Result<(), Failure> {
    interrupt::listen();
    let file = load_model(&args.model)?;
    let corpus = find_corpus(&args.corpus, &file.plan.corpus, &[])?;
    let left_out = (args.corpus.reading.left_out.as_deref(), Existing::Keep);
    let total = corpus.bytes();
    let score = watched(&corpus, "reading", left_out, screen, |observer| {
        let mut progress = Progress::new(screen, "scoring", Measure::Bytes, total);
        let result = score(&file, &corpus, threads(None), observer, |share| {
            progress.at((share * total as f64) as u64, "");
            !interrupt::asked()
        });
        progress.finish();
        Ok(result?)
    })?;
    say_unknown(score.unknown_tokens, score.tokens, screen);
    if args.json {
        return screen.json(&score);
    }
    let rows = [
        ("text", format!("{} documents, {}", count(score.documents), bytes(score.bytes))),
        ("tokens", format!("{}, the end of each document counted as one", count(score.tokens))),
        (
            "unknown",
            format!("{} ({})", count(score.unknown_tokens), percent(score.unknown_tokens, score.tokens)),
        ),
        ("loss", format!("{:.5} nats per token", score.loss)),
        ("perplexity", perplexity(score.perplexity)),
        ("bits per token", format!("{:.4}", score.bits_per_token)),
        ("bits per byte", format!("{:.4}", score.bits_per_byte)),
    ];
    screen.line(&format!("{}\n{}", screen.heading("The text under the model"), facts(screen, &rows)))
}
