//! Scoring a text: its perplexity, and the surprise of each token.

use std::path::PathBuf;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use lalograph_lab::LabError;
use lalograph_lab::measure::documents::{Documents, ReadDocument};
use lalograph_lab::measure::foresight::{Expected, expected};
use lalograph_lab::measure::score::{Scoring, score};
use lalograph_lab::measure::surprise::{TokenSurprise, token_surprises};
use lalograph_text::{Reserved, TextError};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::fields::{check_text, shown};
use crate::asked::{Asked, Named};
use crate::fault::Fault;
use crate::service::Shared;

/// A request for a score.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct ScoreRequest {
    /// The text: one document.
    text: String,
    /// Whether every token is answered with its surprise (default: false).
    #[serde(default)]
    tokens: bool,
    /// With `tokens`, the rank of each token and the most probable ones at its place (default: false).
    #[serde(default)]
    most_probable: bool,
}

/// The score of a text. The end of the document is a predicted token.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ScoreAnswer {
    model: String,
    /// Mean natural-log cross-entropy per token.
    loss: f64,
    /// e to the power of the loss.
    perplexity: f64,
    /// The loss over ln 2.
    bits_per_token: f64,
    /// Bits of the text's whole code over the bytes of the text.
    bits_per_byte: f64,
    /// Tokens predicted.
    predicted_tokens: u64,
    /// Those that the vocabulary does not know.
    unknown_tokens: u64,
    /// Every token in order, if asked for.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schemars(default)]
    tokens: Vec<ScoredToken>,
}

/// A token with its surprise.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ScoredToken {
    /// White space before it that no token holds.
    before: String,
    /// The token as spelt in the text, after cleaning.
    token: String,
    index: u32,
    /// Negative base-2 logarithm of its probability.
    surprise_bits: f64,
    probability: f64,
    /// Whether it is the end of the document.
    ends_document: bool,
    /// Whether the vocabulary does not know it.
    unknown: bool,
    /// Place among all tokens by probability, from 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    rank: Option<u64>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schemars(default)]
    most_probable: Vec<ExpectedToken>,
}

/// A token that was probable at a place.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ExpectedToken {
    token: String,
    index: u32,
    probability: f64,
}

/// `POST /models/{name}/score`
pub(crate) async fn score_text(
    State(service): State<Shared>,
    Named(name): Named,
    Asked(request): Asked<ScoreRequest>,
) -> Result<Json<ScoreAnswer>, Fault> {
    let ready = Arc::clone(&service.desk(&name)?.ready);
    check_text("text", &request.text, &service.settings.limits)?;
    if request.most_probable && !request.tokens {
        return Err(Fault::field("most_probable", "`most_probable` has no effect without `tokens`"));
    }
    let answer = service.pool.run(move |wanted| {
        let vocabulary = ready.vocabulary();
        if request.text.trim().is_empty() {
            return Err(Fault::field("text", "the text is empty"));
        }
        let document =
            ReadDocument { path: PathBuf::new(), line: 1, label: None, text: request.text.clone() };
        let documents = Documents { list: vec![document], ..Documents::default() };
        let scoring = Scoring { tokens: request.tokens, ..Scoring::default() };
        let found = score(ready.file(), &documents, scoring, &mut |_| wanted.go_on())?;
        let mut foresight: Vec<Option<Expected>> = Vec::new();
        if request.most_probable {
            let all =
                expected(Arc::clone(&ready), &found.text, found.text.len(), None, &mut |_| wanted.go_on());
            foresight = all.ok_or(LabError::from(TextError::Stopped))?.into_iter().map(Some).collect();
        }
        let surprises = match request.tokens {
            true => token_surprises(vocabulary, [request.text.as_str()], &found.judgement.token_losses),
            false => Vec::new(),
        };
        foresight.resize(surprises.len(), None);
        let token = |(surprise, foresight): (TokenSurprise, Option<Expected>)| ScoredToken {
            probability: (-surprise.surprise_bits).exp2(),
            ends_document: surprise.index == Reserved::END,
            unknown: surprise.index == Reserved::UNKNOWN,
            rank: foresight.as_ref().map(|expected| expected.rank as u64),
            most_probable: foresight.map_or_else(Vec::new, |expected| {
                let token = |next: &lalograph_lab::writing::generator::NextToken| ExpectedToken {
                    token: shown(vocabulary, next.index),
                    index: next.index,
                    probability: next.probability,
                };
                expected.most_probable.iter().map(token).collect()
            }),
            before: surprise.before,
            token: surprise.token,
            index: surprise.index,
            surprise_bits: surprise.surprise_bits,
        };
        let whole = &found.judgement.score;
        Ok(ScoreAnswer {
            loss: whole.loss,
            perplexity: whole.perplexity,
            bits_per_token: whole.bits_per_token,
            bits_per_byte: whole.bits_per_byte,
            predicted_tokens: whole.tokens,
            unknown_tokens: whole.unknown_tokens,
            tokens: surprises.into_iter().zip(foresight).map(token).collect(),
            model: name,
        })
    });
    Ok(Json(answer.await?))
}
