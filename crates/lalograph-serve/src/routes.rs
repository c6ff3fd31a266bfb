//! All paths with what they do: the router and the description are made of the same list.

use axum::extract::{Request, State};
use axum::http::{Method, StatusCode, header};
use axum::middleware::from_fn_with_state;
use axum::response::{IntoResponse, Response};
use axum::routing::{MethodFilter, on};
use axum::{Json, Router};
use serde_json::Value;

use crate::answers::classes::{
    ClassifyAnswer, ClassifyRequest, ExplainAnswer, ExplainRequest, classify, explain_text,
};
use crate::answers::models::{ModelsAnswer, StateAnswer, health, metrics, model, models, ready};
use crate::answers::next::{NextAnswer, NextRequest, next};
use crate::answers::runs::{RunAnswer, RunsAnswer, run, run_events, runs};
use crate::answers::runs::{RunPoint, RunSample};
use crate::answers::score::{ScoreAnswer, ScoreRequest, score_text};
use crate::answers::talk::{
    ConversationAnswer, ConversationRequest, TurnAnswer, TurnRequest, begin, end, look, speak,
};
use crate::answers::vectors::{MapAnswer, NeighboursAnswer, NeighboursRequest, map, neighbours};
use crate::answers::write::{WriteAnswer, WriteRequest, WrittenText, WrittenToken, write};
use crate::description::description;
use crate::fault::Fault;
use crate::models::Card;
use crate::page;
use crate::route::{Content, Route, get, post, schema};
use crate::service::Shared;
use crate::visit::visit;

/// All paths.
pub(crate) fn routes() -> Vec<Route> {
    let json = Content::Json;
    vec![
        get(
            "/models",
            "All models with their cards, and the bounds of requests.",
            json(schema::<ModelsAnswer>),
            models,
        ),
        get("/models/{name}", "The card of a model.", json(schema::<Card>), model),
        post(
            "/models/{name}/write",
            "Write texts with a language model, whole or token by token.",
            schema::<WriteRequest>,
            Content::JsonOrEvents(schema::<WriteAnswer>, vec![schema::<WrittenToken>, schema::<WrittenText>]),
            write,
        ),
        post(
            "/models/{name}/next",
            "The distribution of the token after a text.",
            schema::<NextRequest>,
            json(schema::<NextAnswer>),
            next,
        ),
        post(
            "/models/{name}/score",
            "Perplexity and bits of a text, in all and by token.",
            schema::<ScoreRequest>,
            json(schema::<ScoreAnswer>),
            score_text,
        ),
        post(
            "/models/{name}/classify",
            "The classes of documents, each with its probabilities.",
            schema::<ClassifyRequest>,
            json(schema::<ClassifyAnswer>),
            classify,
        ),
        post(
            "/models/{name}/explain",
            "The effect of each token of a text on its class.",
            schema::<ExplainRequest>,
            json(schema::<ExplainAnswer>),
            explain_text,
        ),
        post(
            "/models/{name}/neighbours",
            "The words nearest to a word, a sum of words or a sentence.",
            schema::<NeighboursRequest>,
            json(schema::<NeighboursAnswer>),
            neighbours,
        ),
        Route {
            query: &[("words", "The number of words (default: 200).")],
            ..get(
                "/models/{name}/map",
                "Words in the plane of their first two principal directions.",
                json(schema::<MapAnswer>),
                map,
            )
        },
        Route {
            status: 201,
            ..post(
                "/models/{name}/conversations",
                "Begin a conversation with a language model.",
                schema::<ConversationRequest>,
                json(schema::<ConversationAnswer>),
                begin,
            )
        },
        get(
            "/conversations/{id}",
            "What is known of a conversation.",
            json(schema::<ConversationAnswer>),
            look,
        ),
        Route {
            method: Method::DELETE,
            status: 204,
            handler: on(MethodFilter::DELETE, end),
            ..get("/conversations/{id}", "End a conversation.", Content::Nothing, end)
        },
        post(
            "/conversations/{id}/turns",
            "Say something to the model and take its turn.",
            schema::<TurnRequest>,
            Content::JsonOrEvents(schema::<TurnAnswer>, vec![schema::<WrittenToken>, schema::<TurnAnswer>]),
            speak,
        ),
        get("/runs", "All runs with their state and best figures.", json(schema::<RunsAnswer>), runs),
        get("/runs/{name}", "A run with its curves and samples.", json(schema::<RunAnswer>), run),
        get(
            "/runs/{name}/events",
            "A run as it trains: `point` and `sample` for each new line, `state` when its state changes.",
            Content::Events(vec![schema::<RunPoint>, schema::<RunSample>]),
            run_events,
        ),
        get("/health", "Whether the process is alive.", json(schema::<StateAnswer>), health),
        get("/ready", "Whether the service takes requests.", json(schema::<StateAnswer>), ready),
        get(
            "/metrics",
            "Counts and times for monitoring.",
            Content::Text("application/openmetrics-text"),
            metrics,
        ),
        get("/openapi.json", "This description.", json(schema::<Value>), document),
        get("/", "The page.", Content::Text("text/html"), page::html),
        get("/page.css", "The look of the page.", Content::Text("text/css"), page::css),
        get("/page.js", "The script of the page.", Content::Text("text/javascript"), page::script),
    ]
}

/// `GET /openapi.json`
async fn document() -> Json<Value> {
    Json(description(routes()))
}

/// The router over all paths.
pub(crate) fn router(service: Shared) -> Router {
    let mut router = Router::new();
    for Route { path, handler, .. } in routes() {
        router = router.route(path, handler);
    }
    router
        .fallback(nowhere)
        .method_not_allowed_fallback(not_so)
        .layer(from_fn_with_state(service.clone(), visit))
        .with_state(service)
}

async fn nowhere(request: Request) -> Fault {
    let fault = Fault::missing("there is nothing at this path");
    let path = request.uri().path();
    let known = |route: &Route| route.path.trim_end_matches('/') == path.trim_end_matches('/') && path != "/";
    match routes().iter().find(|route| known(route)) {
        Some(route) => fault.with_remedy(format!("did you mean {}?", route.path)),
        None => fault.with_remedy("GET /openapi.json lists all paths"),
    }
}

async fn not_so(State(_): State<Shared>, request: Request) -> Response {
    let path = request.uri().path().split('/').filter(|part| !part.is_empty()).count();
    let matched =
        request.extensions().get::<axum::extract::MatchedPath>().map(|path| path.as_str().to_owned());
    let allowed: Vec<String> = routes()
        .iter()
        .filter(|route| match &matched {
            Some(matched) => route.path == matched,
            None => route.path.split('/').filter(|part| !part.is_empty()).count() == path,
        })
        .map(|route| route.method.to_string())
        .collect();
    let allowed = allowed.join(", ");
    let fault = Fault::new(StatusCode::METHOD_NOT_ALLOWED, "this path does not take this method");
    let mut response = fault.with_remedy(format!("use {allowed}")).into_response();
    if let Ok(value) = allowed.parse() {
        response.headers_mut().insert(header::ALLOW, value);
    }
    response
}
