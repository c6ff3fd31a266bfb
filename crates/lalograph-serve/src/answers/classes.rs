//! Classifying documents, and explaining a class.

use axum::Json;
use axum::extract::State;
use lalograph_lab::data::numbers::NumberError;
use lalograph_lab::measure::decisions::most_probable;
use lalograph_lab::{ReadyClassifier, explain};
use lalograph_text::Reserved;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::fields::check_text;
use crate::asked::{Asked, Named};
use crate::fault::Fault;
use crate::service::Shared;

/// Documents of one request.
const DOCUMENTS: usize = 200;

/// A request for classes: texts, or rows of numbers.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct ClassifyRequest {
    /// Documents, for a classifier of texts.
    texts: Option<Vec<String>>,
    /// For a classifier of rows of numbers: for each document its numbers, in the order of the columns that the classifier was trained on.
    rows: Option<Vec<Vec<f64>>>,
}

/// The classes of documents.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ClassifyAnswer {
    model: String,
    /// One for each document, in order.
    documents: Vec<ClassifiedDocument>,
}

/// The class of a document.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ClassifiedDocument {
    /// The most probable class.
    class: String,
    /// Its probability.
    probability: f64,
    /// All classes with their probabilities, the most probable first.
    classes: Vec<ClassProbability>,
    /// Tokens of the document, or steps of the row.
    tokens: u64,
    /// Those that the classifier read: the rest is beyond its length.
    read_tokens: u64,
    /// Those that the vocabulary does not know.
    unknown_tokens: u64,
}

/// A class and its probability.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ClassProbability {
    class: String,
    probability: f64,
}

/// A request for an explanation.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct ExplainRequest {
    /// The document.
    text: String,
    /// The class to explain (default: the most probable).
    class: Option<String>,
}

/// What each token did for a class.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ExplainAnswer {
    model: String,
    /// The class that is explained.
    class: String,
    /// Its probability.
    probability: f64,
    /// All classes with their probabilities, the most probable first.
    classes: Vec<ClassProbability>,
    /// Meaning of the effects.
    effect: &'static str,
    /// The tokens of the document, in order.
    tokens: Vec<TokenEffect>,
}

/// The effect of a token.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct TokenEffect {
    /// White space before it.
    before: String,
    /// The token as spelt in the text, after cleaning.
    token: String,
    index: u32,
    /// Whether the vocabulary does not know it.
    unknown: bool,
    /// Its effect in nats; none if the classifier does not read it.
    effect: Option<f64>,
}

fn by_probability(ready: &ReadyClassifier, logs: &[f64]) -> Vec<ClassProbability> {
    let class =
        |(class, log): (&String, &f64)| ClassProbability { class: class.clone(), probability: log.exp() };
    let mut classes: Vec<ClassProbability> = ready.classes.iter().zip(logs).map(class).collect();
    classes.sort_by(|a, b| b.probability.total_cmp(&a.probability));
    classes
}

/// Documents as the classifier reads them.
fn documents(ready: &ReadyClassifier, request: ClassifyRequest) -> Result<Vec<String>, Fault> {
    let found = match (request.texts, request.rows, ready.features()) {
        (Some(texts), None, None) => texts,
        (None, Some(rows), Some(_)) => {
            let row = |numbers: Vec<f64>| {
                numbers.iter().map(|number| number.to_string()).collect::<Vec<_>>().join("\n")
            };
            rows.into_iter().map(row).collect()
        }
        (_, _, None) => return Err(Fault::field("texts", "this classifier reads `texts`, and nothing else")),
        (_, _, Some(_)) => {
            return Err(Fault::field("rows", "this classifier reads `rows` of numbers, and nothing else"));
        }
    };
    let field = if ready.features().is_some() { "rows" } else { "texts" };
    match found.len() {
        0 => Err(Fault::field(field, format!("`{field}` is empty"))),
        count if count > DOCUMENTS => {
            Err(Fault::field(field, format!("{count} documents, and at most {DOCUMENTS} are read")))
        }
        _ => Ok(found),
    }
}

/// `POST /models/{name}/classify`
pub(crate) async fn classify(
    State(service): State<Shared>,
    Named(name): Named,
    Asked(request): Asked<ClassifyRequest>,
) -> Result<Json<ClassifyAnswer>, Fault> {
    let ready = service.shelf.classifier(&name)?;
    let documents = documents(&ready, request)?;
    documents.iter().try_for_each(|text| check_text("texts", text, &service.settings.limits))?;
    let answer = service.pool.run(move |_| {
        let texts = documents.iter().map(String::as_str);
        let (read, logs) =
            ready.reader().read(texts).map_err(|(number, error)| unreadable(number, &error))?;
        let found = read.iter().zip(logs.chunks_exact(ready.classes.len())).map(|(read, logs)| {
            let best = most_probable(logs);
            ClassifiedDocument {
                class: ready.classes[best].clone(),
                probability: logs[best].exp(),
                classes: by_probability(&ready, logs),
                tokens: read.tokens,
                read_tokens: read.read,
                unknown_tokens: read.unknown,
            }
        });
        Ok(ClassifyAnswer { documents: found.collect(), model: name })
    });
    Ok(Json(answer.await?))
}

fn unreadable(number: usize, error: &NumberError) -> Fault {
    let what = match error {
        NumberError::NotANumber { column, found } => format!("number {}, {found}, is not finite", column + 1),
        NumberError::Count { found, expected: Some(expected) } => {
            format!("it has {found} numbers, and every row must have {expected}")
        }
        NumberError::Count { found, expected: None } => {
            format!("it has {found} numbers, which is no whole number of steps")
        }
    };
    Fault::field("rows", format!("row {}: {what}", number + 1))
}

/// `POST /models/{name}/explain`
pub(crate) async fn explain_text(
    State(service): State<Shared>,
    Named(name): Named,
    Asked(request): Asked<ExplainRequest>,
) -> Result<Json<ExplainAnswer>, Fault> {
    let ready = service.shelf.classifier(&name)?;
    check_text("text", &request.text, &service.settings.limits)?;
    let asked = match &request.class {
        None => None,
        Some(class) => Some(ready.classes.binary_search(class).map_err(|_| {
            Fault::field("class", "the classifier has no such class")
                .with_remedy(format!("its classes are {}", ready.classes.join(", ")))
        })?),
    };
    let answer = service.pool.run(move |wanted| {
        if ready.features().is_some() {
            return Err(Fault::field("text", "rows of numbers are not explained"));
        }
        let found = explain::explain(&ready, &[request.text.as_str()], 1, &mut |_| wanted.go_on());
        let Some(found) = found.and_then(|mut all| all.pop()) else {
            return Err(lalograph_lab::LabError::from(lalograph_text::TextError::Stopped).into());
        };
        let class = asked.unwrap_or_else(|| most_probable(&found.logs));
        let bytes = found.located.text.as_bytes();
        let text = |range: std::ops::Range<usize>| String::from_utf8_lossy(&bytes[range]).into_owned();
        let mut end = 0;
        let token = |(number, (range, index)): (usize, &(std::ops::Range<usize>, u32))| {
            let before = text(end..range.start);
            end = range.end;
            TokenEffect {
                before,
                token: text(range.clone()),
                index: *index,
                unknown: *index == Reserved::UNKNOWN,
                effect: found.effect(number, class),
            }
        };
        Ok(ExplainAnswer {
            class: ready.classes[class].clone(),
            probability: found.logs[class].exp(),
            classes: by_probability(&ready, &found.logs),
            effect: match ready.linear() {
                None => "log-odds of the class with the token, minus those without it",
                Some(_) => "weight times value: the token's part of the score of the class",
            },
            tokens: found.located.tokens.iter().enumerate().map(token).collect(),
            model: name,
        })
    });
    Ok(Json(answer.await?))
}
