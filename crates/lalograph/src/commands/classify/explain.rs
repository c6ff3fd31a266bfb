//! `classify explain`: how much each token of a document changes the odds of its class.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use lalograph_lab::explain::{Explanation, explain};
use lalograph_lab::measure::decisions::most_probable;
use lalograph_lab::measure::documents::{Documents, ReadDocument};
use lalograph_lab::{DocumentInput, Feature, LabError, LinearModel, ReadyClassifier};
use lalograph_storage::Existing;
use lalograph_text::{Reserved, TextError};
use serde::Serialize;

use super::documents::{Named, any};
use super::model::{load, place_of};
use crate::cli::ClassifyExplainArgs;
use crate::commands::input::threads;
use crate::commands::reading::watched;
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::chart::write_pictures;
use crate::output::decision_charts::token_chart;
use crate::output::number::{count, counted, percent_of, visible};
use crate::output::page::{ExplainedDocument, ExplainedToken, explanation_page};
use crate::output::palette::{ASH, HONEY, PLUM};
use crate::output::progress::{Measure, Progress};
use crate::output::screen::Screen;
use crate::output::table::facts;
use crate::output::wrap::indented;

/// Documents that a listed token occurs in, at least: the mean effect of a rare token is that of one text.
const FEWEST_DOCUMENTS: u64 = 3;

/// Weights of a class that can be listed, at most.
const MOST_WEIGHTS: usize = 10_000;

/// Tokens of a document that are printed, at most.
const SHOWN: usize = 2000;

/// Runs the command.
pub(super) fn run(args: &ClassifyExplainArgs, screen: &Screen) -> Result<(), Failure> {
    interrupt::listen();
    let model = load(&args.model)?;
    let DocumentInput::Text(_) = &model.input else {
        return Err(Failure::work(
            "only tokens of text can be explained; this classifier reads rows of numbers",
        ));
    };
    let class = args.class.as_ref().map(|class| place_of(class, &model)).transpose()?;
    let existing = Existing::replaced_if(args.force);
    let named = Named { model: &args.model, paths: &args.paths, reading: &args.reading, part: &args.part };
    let corpus = any(named, &model, screen)?;
    let left_out = (args.reading.left_out.as_deref(), Existing::Keep);
    let documents = watched(&corpus, "reading", left_out, screen, |observer| {
        let documents = Documents::read(&corpus, observer)?;
        let reading = documents.reading.clone();
        Ok((documents, reading))
    })?;
    let texts: Vec<&str> = documents.list.iter().map(|document| document.text.as_str()).collect();
    let mut progress = Progress::new(screen, "explaining", Measure::Documents, texts.len() as u64);
    let found = explain(&model, &texts, threads(args.threads), &mut |done| {
        progress.at(done as u64, "");
        !interrupt::asked()
    });
    progress.finish();
    let found = found.ok_or(LabError::from(TextError::Stopped))?;
    let all: Vec<Explained<'_>> = documents
        .list
        .iter()
        .zip(&found)
        .map(|(document, found)| Explained::of(document, found, class))
        .collect();
    let by_class = match model.linear() {
        Some(linear) => weights_by_class(linear, &model),
        None => tokens_by_class(&found, &model),
    };
    let wording = Wording::of(&model);
    if let Some(folder) = &args.pictures {
        let listed: Vec<(&str, Vec<(String, f64)>)> = model
            .classes
            .iter()
            .zip(&by_class)
            .map(|(class, tokens)| {
                let tokens = strongest(tokens.clone(), args.listed).into_iter();
                (class.as_str(), tokens.map(|token| (token.token, token.effect)).collect())
            })
            .collect();
        let stem = folder.join("tokens");
        let mut set = files::begin("chart", &files::picture(&stem), existing)?;
        if let Some(scene) = token_chart(wording.by_class.split(" (").next().unwrap_or_default(), &listed) {
            write_pictures(scene, &mut set, &stem)?;
            set.finish()?;
            screen.note(&format!("written to {}: tokens", folder.display()));
        }
    }
    if let Some(path) = &args.page {
        let shown: Vec<ExplainedDocument> =
            all.iter().map(|explained| explained.on_page(&model.classes)).collect();
        let listed: Vec<(String, String)> = rows(&by_class, args.listed, &model.classes);
        let page = explanation_page(
            &args.model.display().to_string(),
            (wording.effect, wording.by_class),
            &listed,
            &shown,
        );
        files::write(path, page.as_bytes(), existing)?;
        screen.note(&format!("written to {}", path.display()));
    }
    if args.json {
        let documents = all.iter().map(|explained| explained.line(&model.classes)).collect();
        let by_class = by_class
            .into_iter()
            .zip(&model.classes)
            .map(|(tokens, class)| TokensOfClass { class, tokens: strongest(tokens, args.listed) })
            .collect();
        return screen.json(&ExplainDocument { classes: &model.classes, documents, by_class });
    }
    if args.documents > 0 {
        let what = format!(
            "  Effect: {} ({}, {}); shown from {}, bold from {}.",
            wording.effect,
            screen.styled(HONEY.style(), "for the class"),
            screen.styled(PLUM.style(), "against it"),
            STEPS[0],
            STEPS[1]
        );
        screen.line(&format!("{}\n", indented(what.trim(), screen.width())))?;
    }
    for explained in all.iter().take(args.documents) {
        screen.line(&explained.render(&model.classes, screen))?;
    }
    let rest = all.len().saturating_sub(args.documents);
    if rest > 0 && args.documents > 0 && args.page.is_none() {
        screen.line(&format!(
            "  {}: --documents N prints N of them, --page FILE writes all\n",
            counted(rest as u64, "more document", "more documents")
        ))?;
    }
    let listed = rows(&by_class, args.listed, &model.classes);
    if listed.is_empty() {
        return Ok(());
    }
    let listed: Vec<(&str, String)> =
        listed.iter().map(|(class, tokens)| (class.as_str(), tokens.clone())).collect();
    screen.line(&format!("{}\n{}", screen.heading(wording.by_class), facts(screen, &listed)))
}

/// A document with the effects of its tokens on one class.
struct Explained<'e> {
    document: &'e ReadDocument,
    found: &'e Explanation,
    class: usize,
}

/// Effects from which on a token is coloured, and strongly: factors of 1.2 and 2 in the odds.
const STEPS: [f64; 2] = [0.2, 0.7];

/// Strength of an effect: 0, 1 or 2.
fn strength(effect: f64) -> usize {
    STEPS.iter().filter(|&&step| effect.abs() >= step).count()
}

impl<'e> Explained<'e> {
    fn of(document: &'e ReadDocument, found: &'e Explanation, class: Option<usize>) -> Self {
        let class = class.unwrap_or_else(|| most_probable(&found.logs));
        Self { document, found, class }
    }

    /// For each token: the white space before it, its text, its index, and its effect.
    fn tokens(&self) -> impl Iterator<Item = (String, String, u32, Option<f64>)> {
        let bytes = self.found.located.text.as_bytes();
        let text = |range: std::ops::Range<usize>| String::from_utf8_lossy(&bytes[range]).into_owned();
        let mut end = 0;
        self.found.located.tokens.iter().enumerate().map(move |(number, (range, index))| {
            let before = text(end..range.start);
            end = range.end;
            (before, text(range.clone()), *index, self.found.effect(number, self.class))
        })
    }

    fn heading(&self, classes: &[String]) -> String {
        let ReadDocument { path, line, label, .. } = self.document;
        let predicted = most_probable(&self.found.logs);
        let mut heading = format!(
            "{}, line {}: predicted {} with {}",
            path.display(),
            count(*line),
            classes[predicted],
            percent_of(self.found.logs[predicted].exp())
        );
        if self.class != predicted {
            let probability = percent_of(self.found.logs[self.class].exp());
            heading.push_str(&format!("; explained: {} with {probability}", classes[self.class]));
        }
        if let Some(label) = label {
            heading.push_str(&format!("; actual: {label}"));
        }
        heading
    }

    /// The text with its tokens in the colour of their effect, and the effects of the strongest.
    fn render(&self, classes: &[String], screen: &Screen) -> String {
        let mut text = String::new();
        let mut cut = false;
        for (before, token, index, effect) in self.tokens().take(SHOWN) {
            let shown = if index == Reserved::UNKNOWN { format!("\u{2039}{token}\u{203a}") } else { token };
            text.push_str(&before);
            let strength = effect.map_or(0, strength);
            let colour = if effect.unwrap_or(0.0) > 0.0 { HONEY.style() } else { PLUM.style() };
            cut |= effect.is_none();
            text.push_str(&match (strength, effect) {
                (2, Some(effect)) => screen.styled(colour.bold(), &format!("{shown}[{effect:+.1}]")),
                (1, Some(effect)) => screen.styled(colour, &format!("{shown}[{effect:+.1}]")),
                (_, Some(_)) => shown,
                (_, None) => screen.styled(ASH.style(), &shown),
            });
        }
        let more = self.found.located.tokens.len().saturating_sub(SHOWN);
        if more > 0 {
            text.push_str(&format!(" \u{2026} and {} more tokens", count(more as u64)));
        }
        let note = if cut { "\n  Grey tokens are beyond the classifier's length." } else { "" };
        format!(
            "{}\n{}{note}\n",
            screen.styled(ASH.style().bold(), &self.heading(classes)),
            indented(text.trim(), screen.width())
        )
    }

    fn on_page(&self, classes: &[String]) -> ExplainedDocument {
        let tokens = self.tokens().map(|(before, text, index, effect)| ExplainedToken {
            before,
            unknown: index == Reserved::UNKNOWN,
            strength: effect.map_or(0, strength),
            text,
            effect,
        });
        ExplainedDocument { heading: self.heading(classes), tokens: tokens.collect() }
    }

    fn line<'c>(&'c self, classes: &'c [String]) -> ExplainedLine<'c> {
        let predicted = most_probable(&self.found.logs);
        let tokens =
            self.tokens().map(|(before, token, index, effect)| TokenLine { before, token, index, effect });
        ExplainedLine {
            path: &self.document.path,
            line: self.document.line,
            actual: self.document.label.as_deref(),
            predicted: &classes[predicted],
            probability: self.found.logs[predicted].exp(),
            class: &classes[self.class],
            tokens: tokens.collect(),
        }
    }
}

/// What the figures of a classifier are.
struct Wording {
    effect: &'static str,
    by_class: &'static str,
}

impl Wording {
    fn of(model: &ReadyClassifier) -> Self {
        match (model.linear(), model.classes.len()) {
            (None, _) => Self {
                effect: "log-odds of the class with a token, minus those without it",
                by_class: "Tokens with the greatest mean effect on each class (number of documents)",
            },
            (Some(_), 2) => Self {
                effect: "weight times value, the token's part of the log-odds of the class",
                by_class: "Greatest weights for each class (number of training documents)",
            },
            (Some(_), _) => Self {
                effect: "weight times value, the token's part of the score of the class less the mean of the classes",
                by_class: "Greatest weights for each class (number of training documents)",
            },
        }
    }
}

/// A token with its effects in all documents, or its weight.
#[derive(Debug, Clone, PartialEq, Serialize)]
struct TokenEffect {
    token: String,
    /// Mean over its occurrences, or its weight.
    effect: f64,
    #[serde(skip_serializing_if = "Option::is_none")]
    occurrences: Option<u64>,
    /// Documents, or training documents, that have it.
    documents: u64,
}

/// For each class the weights of the features, the greatest first.
fn weights_by_class(linear: &LinearModel, model: &ReadyClassifier) -> Vec<Vec<TokenEffect>> {
    let (DocumentInput::Text(vocabulary), Some(form)) = (&model.input, &linear.form.terms) else {
        return Vec::new();
    };
    let name = |term: usize| visible(&vocabulary.shown(form.terms[term]).unwrap_or_default());
    let listed = |class: usize| {
        let of = |(effect, feature): (f64, usize)| {
            let (token, documents) = match linear.form.feature(feature) {
                Feature::Term(term) => (name(term), form.documents[term]),
                Feature::Product(a, b) => {
                    (format!("{} \u{d7} {}", name(a), name(b)), form.documents[a].min(form.documents[b]))
                }
                Feature::Number(place) => (place.to_string(), 0),
            };
            TokenEffect { token, effect, occurrences: None, documents }
        };
        let weight = |feature: usize| (linear.class_weights(feature)[class], feature);
        let mut order: Vec<(f64, usize)> = (0..linear.form.features).map(weight).collect();
        order.sort_by(|a, b| b.0.total_cmp(&a.0));
        order.into_iter().take(MOST_WEIGHTS).map(of).collect()
    };
    (0..model.classes.len()).map(listed).collect()
}

/// For each class the tokens of enough documents, those with the greatest effect first.
fn tokens_by_class(found: &[Explanation], model: &ReadyClassifier) -> Vec<Vec<TokenEffect>> {
    let DocumentInput::Text(vocabulary) = &model.input else { return Vec::new() };
    let classes = model.classes.len();
    // For each index its occurrences, its documents, and the sum of its effects on each class.
    let mut sums: BTreeMap<u32, (u64, BTreeSet<usize>, Vec<f64>)> = BTreeMap::new();
    for (number, explanation) in found.iter().enumerate() {
        for (token, (_, index)) in explanation.located.tokens.iter().enumerate() {
            if explanation.effect(token, 0).is_none() || *index == Reserved::UNKNOWN {
                continue;
            }
            let (occurrences, documents, sum) =
                sums.entry(*index).or_insert_with(|| (0, BTreeSet::new(), vec![0.0; classes]));
            *occurrences += 1;
            documents.insert(number);
            for (class, sum) in sum.iter_mut().enumerate() {
                *sum += explanation.effect(token, class).unwrap_or(0.0);
            }
        }
    }
    let listed = |class: usize| {
        let enough = sums.iter().filter(|(_, (_, documents, _))| documents.len() as u64 >= FEWEST_DOCUMENTS);
        let mut tokens: Vec<TokenEffect> = enough
            .map(|(index, (occurrences, documents, sum))| TokenEffect {
                token: visible(&vocabulary.shown(*index).unwrap_or_default()),
                effect: sum[class] / *occurrences as f64,
                occurrences: Some(*occurrences),
                documents: documents.len() as u64,
            })
            .collect();
        tokens.sort_by(|a, b| b.effect.total_cmp(&a.effect));
        tokens
    };
    (0..classes).map(listed).collect()
}

/// The first tokens whose effect is for the class.
fn strongest(tokens: Vec<TokenEffect>, most: usize) -> Vec<TokenEffect> {
    tokens.into_iter().filter(|token| token.effect > 0.0).take(most).collect()
}

/// A row for each class with its tokens.
fn rows(by_class: &[Vec<TokenEffect>], most: usize, classes: &[String]) -> Vec<(String, String)> {
    let shown = |token: &TokenEffect| {
        format!("{}\u{a0}{:+.2}\u{a0}({})", token.token, token.effect, count(token.documents))
    };
    by_class
        .iter()
        .zip(classes)
        .map(|(tokens, class)| {
            let tokens: Vec<String> = strongest(tokens.clone(), most).iter().map(shown).collect();
            (class.clone(), tokens.join(", "))
        })
        .filter(|(_, tokens)| !tokens.is_empty())
        .collect()
}

/// JSON output of `classify explain`.
#[derive(Serialize)]
struct ExplainDocument<'e> {
    classes: &'e [String],
    documents: Vec<ExplainedLine<'e>>,
    by_class: Vec<TokensOfClass<'e>>,
}

#[derive(Serialize)]
struct ExplainedLine<'e> {
    path: &'e Path,
    line: u64,
    #[serde(skip_serializing_if = "Option::is_none")]
    actual: Option<&'e str>,
    predicted: &'e str,
    probability: f64,
    class: &'e str,
    tokens: Vec<TokenLine>,
}

#[derive(Serialize)]
struct TokenLine {
    before: String,
    token: String,
    index: u32,
    effect: Option<f64>,
}

#[derive(Serialize)]
struct TokensOfClass<'e> {
    class: &'e str,
    tokens: Vec<TokenEffect>,
}
