//! The distribution of the token after a text.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use lalograph_lab::writing::generator::{Generator, NextToken, decoder_after};
use lalograph_text::Reserved;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::fields::{ProbableToken, check_count, check_text, shown, unknown_tokens};
use crate::asked::{Asked, Named};
use crate::fault::Fault;
use crate::service::Shared;

/// Tokens where no number is given, and at most.
const TOKENS: usize = 12;
const MOST: usize = 1000;

/// A request for the distribution of the next token.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NextRequest {
    /// Text before the token; empty for the start of a document.
    #[serde(default)]
    text: String,
    /// The number of tokens to answer with, the most probable first (default: 12).
    count: Option<usize>,
}

/// The distribution of the next token.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct NextAnswer {
    model: String,
    /// Entropy of the whole distribution.
    entropy_bits: f64,
    /// 2 to the power of the entropy.
    perplexity: f64,
    /// The most probable tokens, the most probable first.
    candidates: Vec<ProbableToken>,
    /// Share of the candidates in the distribution.
    covered: f64,
    /// Probability of any token that is not in the vocabulary.
    unknown_probability: f64,
    /// Tokens of the text that the model does not know.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schemars(default)]
    unknown_tokens: Vec<String>,
}

/// `POST /models/{name}/next`
pub(crate) async fn next(
    State(service): State<Shared>,
    Named(name): Named,
    Asked(request): Asked<NextRequest>,
) -> Result<Json<NextAnswer>, Fault> {
    let ready = Arc::clone(&service.desk(&name)?.ready);
    check_text("text", &request.text, &service.settings.limits)?;
    let count = check_count("count", request.count, TOKENS, MOST)?;
    let answer = service.pool.run(move |_| {
        let mut generator = Generator::new(Arc::clone(&ready));
        let all = generator.next(&request.text)?;
        let vocabulary = ready.vocabulary();
        let decoder = decoder_after(vocabulary, generator.tokens())?;
        let entropy_bits: f64 = all
            .iter()
            .filter(|next| next.probability > 0.0)
            .map(|next| -next.probability * next.probability.log2())
            .sum();
        let candidate = |next: &NextToken| {
            let mut text = String::new();
            // A token without a text is shown as none.
            let _ = decoder.clone().push(next.index, &mut text);
            ProbableToken {
                token: shown(vocabulary, next.index),
                index: next.index,
                probability: next.probability,
                text,
            }
        };
        let unknown = all.iter().find(|next| next.index == Reserved::UNKNOWN);
        Ok(NextAnswer {
            entropy_bits,
            perplexity: entropy_bits.exp2(),
            candidates: all.iter().take(count).map(candidate).collect(),
            covered: all.iter().take(count).map(|next| next.probability).sum(),
            unknown_probability: unknown.map_or(0.0, |next| next.probability),
            unknown_tokens: unknown_tokens(&ready, &request.text),
            model: name,
        })
    });
    Ok(Json(answer.await?))
}
