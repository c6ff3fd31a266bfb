//! Conversations: created, spoken to, ended.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Extension, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use lalograph_lab::writing::batch::Joining;
use lalograph_lab::writing::conversation::Conversation;
use lalograph_lab::writing::decoding::{Decoding, UnknownTokens};
use lalograph_lab::writing::turn::{Heard, Spoken, chance_of_turn, heard, terms_of_turn};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::fields::{EndedBy, UnknownTreatment, check_count, check_decoding, check_text, wish};
use super::stream::events;
use super::write::{WrittenToken, whole};
use crate::asked::{Asked, Named};
use crate::conversations::{LastTurn, Talk, Turn};
use crate::desk::{DrawnToken, Wish, not_written};
use crate::fault::Fault;
use crate::pool::Wanted;
use crate::service::Shared;
use crate::visit::Arrived;

/// Tokens of a turn where no number is given.
const TOKENS: usize = 100;

/// A request for a conversation.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct ConversationRequest {}

/// A conversation.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ConversationAnswer {
    /// Its name, as it is used in paths.
    id: String,
    model: String,
    /// Turns of the model so far.
    turns: u64,
    /// Seconds without a turn after which it is forgotten.
    kept_seconds: u64,
}

/// A request for a turn.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct TurnRequest {
    /// What is written to the model; a model of prompts and answers answers it, any other continues it to the end of a sentence.
    text: Option<String>,
    /// Take the last turn again, with other draws, instead of saying something.
    #[serde(default)]
    again: bool,
    /// Maximum number of tokens of the turn (default: 100, or the service's bound if that is lower).
    tokens: Option<usize>,
    /// Random seed (default: 1).
    seed: Option<u64>,
    /// Sampling temperature, above 0 (default: greedy decoding).
    temperature: Option<f64>,
    /// Sample from this many of the most probable tokens only (default: all).
    top_k: Option<usize>,
    /// Sample from the smallest set of tokens that covers this share of the distribution (default: all).
    top_p: Option<f64>,
    /// Raise the probability of every token that is already in the text to this power, 1 or above (default: 1).
    repeat_power: Option<f64>,
    /// Treatment of the unknown token (default: leave_out).
    #[schemars(with = "Option<UnknownTreatment>")]
    unknown: Option<UnknownTokens>,
    /// Answer with server-sent events: `token` for each token (WrittenToken), `turn` at the end (TurnAnswer), `error` (Problem).
    #[serde(default)]
    stream: bool,
    /// With `stream`, the most probable tokens beside each token (default: 0).
    alternatives: Option<usize>,
}

/// A turn of the model.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct TurnAnswer {
    /// What the model said.
    text: String,
    /// Tokens drawn.
    tokens: u64,
    /// Why the turn ended.
    ended_by: EndedBy,
    /// Turns of the model so far.
    turns: u64,
    /// Tokens of the turn that the model does not know.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schemars(default)]
    unknown_tokens: Vec<String>,
}

/// `POST /models/{name}/conversations`
pub(crate) async fn begin(
    State(service): State<Shared>,
    Named(name): Named,
    Asked(ConversationRequest {}): Asked<ConversationRequest>,
) -> Result<(StatusCode, Json<ConversationAnswer>), Fault> {
    let desk = service.desk(&name)?;
    let id = service.conversations.begin(&name, Arc::clone(&desk.blank))?;
    let kept_seconds = service.settings.limits.conversation_time.as_secs();
    Ok((StatusCode::CREATED, Json(ConversationAnswer { id, model: name, turns: 0, kept_seconds })))
}

/// `GET /conversations/{id}`
pub(crate) async fn look(
    State(service): State<Shared>,
    Named(id): Named,
) -> Result<Json<ConversationAnswer>, Fault> {
    let (model, turns) = service.conversations.look(&id)?;
    let kept_seconds = service.settings.limits.conversation_time.as_secs();
    Ok(Json(ConversationAnswer { id, model, turns, kept_seconds }))
}

/// `DELETE /conversations/{id}`
pub(crate) async fn end(State(service): State<Shared>, Named(id): Named) -> Result<StatusCode, Fault> {
    service.conversations.end(&id).map(|()| StatusCode::NO_CONTENT)
}

/// `POST /conversations/{id}/turns`
pub(crate) async fn speak(
    State(service): State<Shared>,
    Named(id): Named,
    Extension(arrived): Extension<Arrived>,
    Asked(request): Asked<TurnRequest>,
) -> Result<Response, Fault> {
    let limits = service.settings.limits;
    if request.again == request.text.is_some() {
        return Err(Fault::field("text", "give `text`, or `again`: true"));
    }
    check_text("text", request.text.as_deref().unwrap_or_default(), &limits)?;
    let tokens = check_count("tokens", request.tokens, TOKENS, limits.tokens)?;
    let wish = wish(request.stream, request.alternatives, arrived, &limits)?;
    let decoding = Decoding {
        temperature: request.temperature,
        top_k: request.top_k,
        top_p: request.top_p,
        repeat_power: request.repeat_power.unwrap_or(1.0),
        unknown: request.unknown.unwrap_or_default(),
    };
    let turn = service.conversations.take(&id)?;
    let desk = service.desk(&turn.talk.model)?;
    check_decoding(&decoding, desk.ready.vocabulary())?;
    if request.again && turn.talk.last.is_none() {
        return Err(Fault::field("again", "there is no turn to take again yet"));
    }
    let spoken = Speaking { decoding, tokens, seed: request.seed.unwrap_or(1), said: request.text, wish };
    if !request.stream {
        let answer = spoken.take(&service, turn, &mut |_| true).await?;
        return Ok(Json(answer).into_response());
    }
    let (events, response) = events();
    tokio::spawn(async move {
        let Ok(desk) = service.desk(&turn.talk.model) else { return };
        let ready = Arc::clone(&desk.ready);
        let mut said = Spoken::default();
        let mut each = |mut token: DrawnToken| {
            token.text = said.part(&token.text).to_owned();
            events.send("token", &WrittenToken::new(token, ready.vocabulary()))
        };
        let taken = tokio::select! {
            taken = spoken.take(&service, turn, &mut each) => Some(taken),
            () = events.gone() => None,
        };
        match taken {
            Some(Ok(answer)) => {
                events.send("turn", &answer);
            }
            Some(Err(fault)) => events.fail(&fault),
            None => {}
        }
    });
    Ok(response)
}

/// A turn to be taken.
struct Speaking {
    decoding: Decoding,
    tokens: usize,
    seed: u64,
    /// None to take the last turn again.
    said: Option<String>,
    wish: Wish,
}

impl Speaking {
    /// Takes the turn. The conversation goes on from its end, or stays where it was if the turn does not come to its end.
    async fn take(
        self,
        service: &Shared,
        turn: Turn,
        each: &mut (dyn FnMut(DrawnToken) -> bool + Send),
    ) -> Result<TurnAnswer, Fault> {
        let desk = service.desk(&turn.talk.model)?;
        let ticket = desk.room_for(1)?;
        let last = match (&self.said, &turn.talk.last) {
            (None, Some(last)) => LastTurn { times: last.times + 1, ..last.clone() },
            (None, None) => return Err(not_written()),
            (Some(said), _) => LastTurn { before: Arc::clone(&turn.talk.mark), said: said.clone(), times: 0 },
        };
        let number = turn.talk.turns + u64::from(self.said.is_some());
        let (readers, before, said) = (desk.readers(), Arc::clone(&last.before), last.said.clone());
        let (start, unknown_tokens) = service
            .pool
            .run(move |wanted| {
                let Heard { text, unknown } = heard(readers.ready.vocabulary(), &said);
                let read =
                    |conversation: &mut Conversation| conversation.read_while(text, &|| wanted.go_on());
                Ok((readers.place_after(&before, read)?, unknown))
            })
            .await?;
        let joining = Joining {
            terms: terms_of_turn(desk.ready.vocabulary(), self.decoding, self.tokens),
            random: chance_of_turn(self.seed, number, last.times),
            looked_into: self.wish.alternatives > 0,
            continued: true,
        };
        let parts = desk.order(&start, vec![joining], &self.wish)?;
        let written = whole(parts, 1, each).await?.pop().ok_or_else(not_written)?;
        drop(ticket);
        // The last token is read too.
        let mark = match (written.before_last, written.sample.indices.last().copied()) {
            (Some(before), Some(last)) => {
                let (readers, resets) = (desk.readers(), desk.ready.resets());
                let read = move |_: &Wanted| {
                    Ok(readers.place_after(&before, |conversation| {
                        conversation.follow(last, resets);
                        Ok(())
                    })?)
                };
                service.pool.run(read).await?
            }
            _ => start,
        };
        let sample = written.sample;
        let talk = Talk { mark, turns: number, last: Some(last), ..turn.talk.clone() };
        turn.keep(talk);
        Ok(TurnAnswer {
            text: sample.text.trim_start().to_owned(),
            tokens: sample.tokens(),
            ended_by: EndedBy::of(sample.ended, written.late),
            turns: number,
            unknown_tokens,
        })
    }
}
