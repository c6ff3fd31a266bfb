//! Writing texts.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Extension, State};
use axum::response::{IntoResponse, Response};
use lalograph_lab::LabError;
use lalograph_lab::writing::batch::Joining;
use lalograph_lab::writing::beam::Beam;
use lalograph_lab::writing::conversation::{Conversation, Mark};
use lalograph_lab::writing::decoding::{Decoding, UnknownTokens};
use lalograph_lab::writing::generator::{
    Ended, Generator, Request, Sample, Stop, Terms, chance_of_beam, chance_of_sample,
};
use lalograph_text::Vocabulary;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use tokio::sync::mpsc::UnboundedReceiver;

use super::fields::{
    EndedBy, ProbableToken, UnknownTreatment, check_count, check_decoding, check_text, shown, unknown_tokens,
    wish,
};
use super::stream::events;
use crate::asked::{Asked, Named};
use crate::desk::{Desk, DrawnToken, Part, Written, not_written};
use crate::fault::Fault;
use crate::pool::Wanted;
use crate::service::{Service, Shared};
use crate::visit::Arrived;

/// The temperature where none is given.
const TEMPERATURE: f64 = 0.8;
/// Tokens where no number is given.
const TOKENS: usize = 200;

/// A request for texts.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct WriteRequest {
    /// Seed text to continue; empty for the start of a document.
    #[serde(default)]
    text: String,
    /// Number of texts (default: 1).
    count: Option<usize>,
    /// Maximum number of tokens of a text (default: 200, or the service's bound if that is lower).
    tokens: Option<usize>,
    /// Random seed (default: 1). The same request gives the same texts.
    seed: Option<u64>,
    /// Sampling temperature, above 0 (default: 0.8).
    temperature: Option<f64>,
    /// Always take the most probable token, instead of sampling.
    #[serde(default)]
    greedy: bool,
    /// Sample from this many of the most probable tokens only (default: all).
    top_k: Option<usize>,
    /// Sample from the smallest set of tokens that covers this share of the distribution (default: all).
    top_p: Option<f64>,
    /// Raise the probability of every token that is already in the text to this power, 1 or above (default: 1).
    repeat_power: Option<f64>,
    /// Treatment of the unknown token (default: leave_out).
    #[schemars(with = "Option<UnknownTreatment>")]
    unknown: Option<UnknownTokens>,
    /// Beam search instead of sampling.
    beam: Option<BeamRequest>,
    /// Stop after the first sentence.
    #[serde(default)]
    until_sentence: bool,
    /// Stop at the end of the line.
    #[serde(default)]
    until_line: bool,
    /// Stop before any of these texts.
    #[serde(default)]
    until: Vec<String>,
    /// Continue with another document where one ends.
    #[serde(default)]
    past_end: bool,
    /// Answer with server-sent events, token by token: `token` for each (WrittenToken), `text` at the end of each text (WrittenText), `error` (Problem).
    #[serde(default)]
    stream: bool,
    /// With `stream`, the most probable tokens beside each token (default: 0).
    alternatives: Option<usize>,
}

/// Beam search.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct BeamRequest {
    /// Texts that are continued at each step.
    width: usize,
    /// Number of texts to answer with, the best first (default: 1).
    best: Option<usize>,
    /// Rank by log-probability divided by length to this power (default: 1, or 0 if random).
    length_power: Option<f64>,
    /// Stochastic beam search: sample texts without replacement.
    #[serde(default)]
    random: bool,
}

/// Texts that were written.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct WriteAnswer {
    /// The model.
    model: String,
    /// The texts, by number.
    texts: Vec<WrittenText>,
    /// Tokens of the seed text that the model does not know.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schemars(default)]
    unknown_tokens: Vec<String>,
}

/// A text that was written.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct WrittenText {
    /// Number of the text, from 1.
    number: u64,
    /// The text without the seed text, with the space that it needs after it.
    text: String,
    /// Tokens drawn.
    tokens: u64,
    /// Why it ended.
    ended_by: EndedBy,
    /// Natural logarithm of the probability of all tokens together, under the model.
    log_probability: f64,
    /// The same of each token.
    token_log_probabilities: Vec<f64>,
    /// What the beam ranked it by.
    #[serde(skip_serializing_if = "Option::is_none")]
    score: Option<f64>,
}

/// A token of a text that is being written.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct WrittenToken {
    /// Number of its text, from 1.
    number: u64,
    /// Text that is sure now, most often that of this token.
    text: String,
    /// The token as shown.
    token: String,
    /// Its index.
    index: u32,
    /// Its probability under the model.
    probability: f64,
    /// The most probable tokens at this place.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schemars(default)]
    alternatives: Vec<ProbableToken>,
}

impl WrittenText {
    fn new(number: u64, sample: &Sample, late: bool, score: Option<f64>) -> Self {
        Self {
            number,
            text: sample.text.clone(),
            tokens: sample.tokens(),
            ended_by: EndedBy::of(sample.ended, late),
            log_probability: sample.log_probability(),
            token_log_probabilities: sample.log_probabilities.clone(),
            score,
        }
    }
}

impl WrittenToken {
    pub(super) fn new(token: DrawnToken, vocabulary: &Vocabulary) -> Self {
        let DrawnToken { number, index, text, probability, alternatives } = token;
        let alternatives = alternatives.into_iter().map(|other| ProbableToken {
            token: shown(vocabulary, other.index),
            index: other.index,
            probability: other.probability,
            text: other.text,
        });
        Self {
            number,
            text,
            token: shown(vocabulary, index),
            index,
            probability,
            alternatives: alternatives.collect(),
        }
    }
}

impl WriteRequest {
    fn decoding(&self) -> Result<Decoding, Fault> {
        if self.greedy && self.temperature.is_some() {
            return Err(Fault::field("greedy", "greedy decoding has no temperature"));
        }
        Ok(Decoding {
            temperature: (!self.greedy).then(|| self.temperature.unwrap_or(TEMPERATURE)),
            top_k: self.top_k,
            top_p: self.top_p,
            repeat_power: self.repeat_power.unwrap_or(1.0),
            unknown: self.unknown.unwrap_or_default(),
        })
    }

    fn terms(&self, decoding: Decoding, most: usize) -> Result<Terms, Fault> {
        let tokens = check_count("tokens", self.tokens, TOKENS, most)?;
        let stop = Stop { sentence: self.until_sentence, line: self.until_line, texts: self.until.clone() };
        Ok(Terms { decoding, tokens, past_end: self.past_end, stop })
    }

    /// Refuses what a beam would not use.
    fn check_beam(&self) -> Result<(), Fault> {
        let idle = [
            (self.temperature.is_some(), "temperature"),
            (self.greedy, "greedy"),
            (self.top_k.is_some(), "top_k"),
            (self.top_p.is_some(), "top_p"),
            (self.repeat_power.is_some(), "repeat_power"),
            (self.unknown.is_some(), "unknown"),
            (self.count.is_some(), "count"),
            (self.past_end, "past_end"),
            (self.alternatives.is_some(), "alternatives"),
        ];
        match idle.into_iter().find(|(given, _)| *given) {
            Some((_, field)) => {
                Err(Fault::field(field, format!("`{field}` has no effect: beam search draws no tokens"))
                    .with_remedy("leave it out, or leave `beam` out"))
            }
            None => Ok(()),
        }
    }
}

/// `POST /models/{name}/write`
pub(crate) async fn write(
    State(service): State<Shared>,
    Named(name): Named,
    Extension(arrived): Extension<Arrived>,
    Asked(request): Asked<WriteRequest>,
) -> Result<Response, Fault> {
    let limits = service.settings.limits;
    let desk = service.desk(&name)?;
    check_text("text", &request.text, &limits)?;
    request.until.iter().try_for_each(|text| check_text("until", text, &limits))?;
    if request.until.len() > limits.texts {
        return Err(Fault::field("until", format!("at most {} texts to stop at", limits.texts)));
    }
    let wish = wish(request.stream, request.alternatives, arrived, &limits)?;
    if request.beam.is_some() {
        request.check_beam()?;
        return search(service.clone(), name, request).await;
    }
    let decoding = request.decoding()?;
    check_decoding(&decoding, desk.ready.vocabulary())?;
    let terms = request.terms(decoding, limits.tokens)?;
    let count = check_count("count", request.count, 1, limits.texts)?;
    let ticket = desk.room_for(count)?;
    let (start, unknown_tokens) = read(&service, desk, request.text).await?;
    let joining = |number: u64| Joining {
        terms: terms.clone(),
        random: chance_of_sample(request.seed.unwrap_or(1), &decoding, number),
        looked_into: wish.alternatives > 0,
        continued: false,
    };
    let parts = desk.order(&start, (1..=count as u64).map(joining).collect(), &wish)?;
    if !request.stream {
        let mut texts = whole(parts, count, &mut |_| true).await?;
        texts.sort_by_key(|written| written.number);
        let text = |written: &Written| WrittenText::new(written.number, &written.sample, written.late, None);
        let texts = texts.iter().map(text).collect();
        return Ok(Json(WriteAnswer { model: name, texts, unknown_tokens }).into_response());
    }
    let (events, response) = events();
    let ready = Arc::clone(&desk.ready);
    tokio::spawn(async move {
        let _ticket = ticket;
        let (mut parts, mut left) = (parts, count);
        while left > 0 {
            let part = tokio::select! {
                part = parts.recv() => part,
                () = events.gone() => return,
            };
            let sent = match part {
                None => return events.fail(&not_written()),
                Some(Part::Token(token)) => {
                    events.send("token", &WrittenToken::new(token, ready.vocabulary()))
                }
                Some(Part::End(written)) => {
                    left -= 1;
                    let Written { number, sample, late, .. } = *written;
                    events.send("text", &WrittenText::new(number, &sample, late, None))
                }
            };
            if !sent {
                return;
            }
        }
    });
    Ok(response)
}

/// The place after a seed text, and the tokens of it that the model does not know.
async fn read(service: &Service, desk: &Desk, text: String) -> Result<(Arc<Mark>, Vec<String>), Fault> {
    if text.is_empty() {
        return Ok((Arc::clone(&desk.blank), Vec::new()));
    }
    let (readers, blank) = (desk.readers(), Arc::clone(&desk.blank));
    service
        .pool
        .run(move |wanted| {
            let unknown = unknown_tokens(&readers.ready, &text);
            let read = |conversation: &mut Conversation| conversation.read_while(&text, &|| wanted.go_on());
            Ok((readers.place_after(&blank, read)?, unknown))
        })
        .await
}

/// All texts, whole; `each` is given the tokens and stops the work by returning `false`.
pub(super) async fn whole(
    mut parts: UnboundedReceiver<Part>,
    count: usize,
    each: &mut (dyn FnMut(DrawnToken) -> bool + Send),
) -> Result<Vec<Written>, Fault> {
    let mut texts = Vec::with_capacity(count);
    while let Some(part) = parts.recv().await {
        match part {
            Part::Token(token) => {
                if !each(token) {
                    break;
                }
            }
            Part::End(written) => texts.push(*written),
        }
    }
    if texts.len() < count { Err(not_written()) } else { Ok(texts) }
}

/// Searches for texts with a beam.
async fn search(service: Shared, name: String, request: WriteRequest) -> Result<Response, Fault> {
    let ready = Arc::clone(&service.desk(&name)?.ready);
    let limits = service.settings.limits;
    let terms = request.terms(Decoding::GREEDY, limits.tokens)?;
    let Some(asked) = &request.beam else { return Err(not_written()) };
    let most = limits.side_by_side;
    let width = check_count("beam.width", Some(asked.width), 1, most)?;
    let beam = Beam {
        width,
        best: check_count("beam.best", asked.best, 1, limits.texts.min(width))?,
        length_power: asked.length_power.unwrap_or(if asked.random { 0.0 } else { 1.0 }),
        random: asked.random,
    };
    if asked.random && asked.length_power.is_some() {
        return Err(Fault::field("beam.length_power", "`length_power` has no effect on a random beam"));
    }
    beam.check()?;
    let (seed, text, stream) = (request.seed.unwrap_or(1), request.text, request.stream);
    let work = move |wanted: &Wanted| {
        let unknown = unknown_tokens(&ready, &text);
        let request = Request { seed_text: &text, terms };
        let mut late = false;
        let found = Generator::new(ready).search(&request, &beam, &mut chance_of_beam(seed), &mut |_| {
            late = !wanted.go_on();
            !late
        })?;
        if found.is_empty() {
            return Err(Fault::from(LabError::SeedUnknown));
        }
        let texts = (1..).zip(&found).map(|(number, (sample, score))| {
            let stopped = late && sample.ended == Ended::Limit;
            let text = WrittenText::new(number, sample, late, Some(*score));
            WrittenText { ended_by: if stopped { EndedBy::Time } else { text.ended_by }, ..text }
        });
        Ok((texts.collect::<Vec<_>>(), unknown))
    };
    if !stream {
        let (texts, unknown_tokens) = service.pool.run(work).await?;
        return Ok(Json(WriteAnswer { model: name, texts, unknown_tokens }).into_response());
    }
    let (events, response) = events();
    tokio::spawn(async move {
        let found = tokio::select! {
            found = service.pool.run(work) => found,
            () = events.gone() => return,
        };
        match found {
            Ok((texts, _)) => texts.iter().for_each(|text| {
                events.send("text", text);
            }),
            Err(fault) => events.fail(&fault),
        }
    });
    Ok(response)
}
