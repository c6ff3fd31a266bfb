//! The models, the state of the service, its metrics.

use axum::Json;
use axum::extract::State;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use schemars::JsonSchema;
use serde::Serialize;

use crate::asked::Named;
use crate::fault::{Fault, RETRY_AFTER};
use crate::models::Card;
use crate::service::Shared;

/// The models of the service.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ModelsAnswer {
    models: Vec<Card>,
    /// Whether runs are shown.
    runs: bool,
    /// Bounds of requests.
    limits: Bounds,
}

/// Bounds of requests.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct Bounds {
    body_bytes: usize,
    text_bytes: usize,
    tokens: usize,
    texts: usize,
    seconds: u64,
}

/// The state of the service.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct StateAnswer {
    /// `ok`.
    state: &'static str,
}

/// `GET /models`
pub(crate) async fn models(State(service): State<Shared>) -> Json<ModelsAnswer> {
    let limits = service.settings.limits;
    Json(ModelsAnswer {
        models: service.shelf.all().map(|model| model.card.clone()).collect(),
        runs: service.settings.runs.is_some(),
        limits: Bounds {
            body_bytes: limits.body_bytes,
            text_bytes: limits.text_bytes,
            tokens: limits.tokens,
            texts: limits.texts,
            seconds: limits.time.as_secs(),
        },
    })
}

/// `GET /models/{name}`
pub(crate) async fn model(State(service): State<Shared>, Named(name): Named) -> Result<Json<Card>, Fault> {
    Ok(Json(service.shelf.get(&name)?.card.clone()))
}

/// `GET /health`
pub(crate) async fn health() -> Json<StateAnswer> {
    Json(StateAnswer { state: "ok" })
}

/// `GET /ready`
pub(crate) async fn ready(State(service): State<Shared>) -> Result<Json<StateAnswer>, Fault> {
    match service.is_ready() {
        true => Ok(Json(StateAnswer { state: "ok" })),
        false => Err(Fault::busy("the service is about to end", RETRY_AFTER)),
    }
}

/// `GET /metrics`
pub(crate) async fn metrics(State(service): State<Shared>) -> Response {
    const TYPE: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";
    ([(header::CONTENT_TYPE, TYPE)], service.metrics.text()).into_response()
}
