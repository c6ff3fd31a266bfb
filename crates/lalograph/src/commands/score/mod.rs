//! `score`: judge a text with trained models.

mod comparison;
mod figures;
mod page;
mod passages;

use std::path::Path;

use lalograph_lab::measure::baseline::Unigram;
use lalograph_lab::measure::classes::{ClassScore, by_class};
use lalograph_lab::measure::documents::Documents;
use lalograph_lab::measure::recency::with_recent_tokens;
use lalograph_lab::measure::score::{
    Judgement, Score, Scoring, TextScore, average, score_baseline, score_together,
};
use lalograph_lab::measure::surprise::TokenSurprise;
use lalograph_lab::{LabError, ModelFile};
use lalograph_net::step::exchange::Exchange;
use lalograph_storage::Existing;
use serde::Serialize;

use self::comparison::{ModelScore, baselines, classes, difference, side_by_side};
use self::figures::rows;
use self::page::write_page;
use self::passages::{Listed, MARKED, Whole, show_surprise};
use super::input::threads;
use super::lookup::load_model;
use super::reading::{find_corpus, say_unknown, watched};
use crate::cli::{PassageChoice, ScoreArgs, StateChoice};
use crate::company::{alone, enlist_for_scoring};
use crate::failure::Failure;
use crate::interrupt;
use crate::output::number::{count, counted, perplexity};
use crate::output::palette::ASH;
use crate::output::progress::{Measure, Progress};
use crate::output::screen::Screen;
use crate::output::table::facts;
use crate::output::wrap::indented;

/// JSON output of `score`.
#[derive(Serialize)]
struct ScoreDocument<'a> {
    #[serde(flatten)]
    score: &'a Score,
    loss_standard_error: Option<f64>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    classes: Vec<ClassScore>,
    #[serde(flatten)]
    listed: Listed,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    tokens_by_surprise: Vec<TokenSurprise>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    models: Vec<ModelScore<'a>>,
}

/// Runs the command.
pub(crate) fn run(args: &ScoreArgs, screen: &Screen) -> Result<(), Failure> {
    interrupt::listen();
    if let Some(page) = args.page.as_ref().filter(|page| page.exists() && !args.force) {
        return Err(LabError::Exists(page.clone()).into());
    }
    let models: Vec<&Path> = std::iter::once(&args.model).chain(&args.beside).map(AsRef::as_ref).collect();
    let files = models.iter().map(|model| load_model(model)).collect::<Result<Vec<_>, _>>()?;
    let Some(file) = files.first() else {
        return Ok(());
    };
    // All of them score the same documents: what the flags do not say of the text is as in the plan of the first.
    let corpus = find_corpus(&args.corpus, &file.plan.corpus, &[])?;
    let left_out = (args.corpus.reading.left_out.as_deref(), Existing::Keep);
    let documents = watched(&corpus, "reading", left_out, screen, |observer| {
        let documents = Documents::read(&corpus, observer)?;
        let reading = documents.reading.clone();
        Ok((documents, reading))
    })?;
    let resets = |file: &ModelFile| {
        args.state.map_or(file.plan.training.reset_at_documents, |state| state == StateChoice::Reset)
    };
    if !files.iter().all(resets) {
        alone::<()>("scoring with the state carried from document to document")?;
    }
    let mut exchange = enlist_for_scoring(screen)?;
    let mut scored = Vec::new();
    for file in &files {
        let found = score_one(args, file, &documents, exchange.as_mut(), screen)?;
        say_unknown(found.judgement.score.unknown_tokens, found.judgement.score.tokens, screen);
        scored.push(found);
    }
    let adapted: Vec<(String, Judgement)> = models
        .iter()
        .zip(&scored)
        .filter(|_| args.cache)
        .filter_map(|(model, found)| {
            Some((format!("{}, with cache", model.display()), with_recent_tokens(found)?))
        })
        .collect();
    let averaged = if args.average { Some(average_of(&files, &scored)?) } else { None };
    let found = &scored[0];
    let baselines = match args.baselines {
        Some(order) => baselines(&args.model, order.into(), &found.text, screen)?,
        None => Vec::new(),
    };
    let names = models.iter().map(|model| model.display().to_string());
    let judgements = scored.iter().map(|found| found.judgement.clone());
    let several: Vec<(String, Judgement)> =
        names.zip(judgements).chain(adapted).chain(averaged).chain(baselines).collect();
    // Whether the cleaning of each is that of the first; baselines have its own.
    let of_models = files.len() * (1 + usize::from(args.cache));
    let alike: Vec<bool> = (0..several.len())
        .map(|at| {
            let own = (at < of_models).then(|| files[at % files.len()].vocabulary.cleaning());
            own.is_none_or(|own| own == file.vocabulary.cleaning())
        })
        .collect();
    let several = if several.len() > 1 { &several[..] } else { &[] };
    let whole = Whole { documents: &documents, found, vocabulary: &file.vocabulary };
    let listed = whole.extremes(args);
    if let Some(path) = &args.page {
        write_page(path, args, file, &whole, screen)?;
    }
    if args.json {
        let tokens_by_surprise = if args.surprise { whole.surprises() } else { Vec::new() };
        let models = several.iter().zip(&alike).map(|((model, judgement), alike)| ModelScore {
            model,
            score: &judgement.score,
            loss_standard_error: judgement.loss_standard_error,
            difference: difference(judgement, &several[0].1, *alike),
            classes: by_class(judgement, &documents),
        });
        return screen.json(&ScoreDocument {
            score: &found.judgement.score,
            loss_standard_error: found.judgement.loss_standard_error,
            classes: by_class(&found.judgement, &documents),
            listed,
            tokens_by_surprise,
            models: models.collect(),
        });
    }
    let with_classes = |models: &[(String, Vec<ClassScore>)]| match models.first() {
        Some((_, first)) if !first.is_empty() => screen.line(&format!("\n{}", classes(models, screen))),
        _ => Ok(()),
    };
    if !args.beside.is_empty() {
        screen.line(&side_by_side(several, &alike, screen))?;
        let each = several.iter().map(|(model, found)| (model.clone(), by_class(found, &documents)));
        return with_classes(&each.collect::<Vec<_>>());
    }
    screen.line(&format!("{}\n{}", screen.heading("The score"), facts(screen, &rows(&found.judgement))))?;
    let unigram = score_baseline(&found.text, &mut Unigram::of_vocabulary(&file.vocabulary)).score.perplexity;
    if found.judgement.score.perplexity > unigram {
        screen.warn(&format!(
            "worse than a unigram model, which knows only the frequency of each token in the training text and has a perplexity of {}; the text may differ from the training text, or the model needs more steps",
            perplexity(unigram)
        ));
    }
    if !several.is_empty() {
        screen.line(&format!("\n{}", side_by_side(several, &alike, screen)))?;
    }
    with_classes(&[(String::new(), by_class(&found.judgement, &documents))])?;
    let what = if args.by == Some(PassageChoice::Sentence) { "sentences" } else { "documents" };
    for (heading, passages) in [("Most surprising", &listed.worst), ("Least surprising", &listed.best)] {
        if !passages.is_empty() {
            screen.line(&format!("\n{}", screen.heading(&format!("{heading} {what}"))))?;
        }
        for passage in passages {
            let head = format!(
                "  {}, line {}: perplexity {} over {}",
                passage.path.display(),
                count(passage.line),
                perplexity(passage.perplexity),
                counted(passage.score.tokens, "token", "tokens")
            );
            screen.line(&screen.styled(ASH.style().bold(), &head))?;
            screen.line(&indented(&passage.text, screen.width()))?;
        }
    }
    if listed.worst.iter().chain(&listed.best).any(|passage| passage.score.unknown_tokens > 0) {
        screen.line(&format!("\n{MARKED}"))?;
    }
    if args.surprise {
        screen.line(&format!("\n{}", show_surprise(&whole, screen)))?;
    }
    Ok(())
}

/// The mean of the probabilities of all models, as one more model.
fn average_of(files: &[ModelFile], scored: &[TextScore]) -> Result<(String, Judgement), Failure> {
    let name = format!("average of {}", files.len());
    let other = files.iter().position(|file| file.vocabulary != files[0].vocabulary);
    match (other, average(scored)) {
        (None, Some(found)) => Ok((name, found)),
        (at, _) => Err(Failure::with_remedy(
            format!(
                "model {} has another vocabulary than the first, so their probabilities have no mean",
                at.unwrap_or(1) + 1
            ),
            "average models of one vocabulary, such as runs with other seeds; --beside alone compares any models",
        )),
    }
}

fn score_one(
    args: &ScoreArgs,
    file: &ModelFile,
    documents: &Documents,
    exchange: &mut dyn Exchange<f32>,
    screen: &Screen,
) -> Result<TextScore, Failure> {
    let scoring = Scoring {
        window: args.window as usize,
        resets: args.state.map(|state| state == StateChoice::Reset),
        tokens: args.average
            || args.cache
            || args.surprise
            || args.page.is_some()
            || args.by == Some(PassageChoice::Sentence),
    };
    let mut progress = Progress::new(screen, "scoring", Measure::Steps, 100);
    let mut go_on = |share: f64| {
        progress.at((100.0 * share) as u64, "");
        !interrupt::asked()
    };
    let pool = rayon::ThreadPoolBuilder::new().num_threads(threads(None)).build().map_err(LabError::from)?;
    let found = pool.install(|| score_together(file, documents, scoring, exchange, &mut go_on))?;
    progress.finish();
    Ok(found)
}
