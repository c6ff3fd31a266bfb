//! One path of the service: what it takes, what it answers with, and the handler.

use axum::handler::Handler;
use axum::http::Method;
use axum::routing::{MethodFilter, MethodRouter, on};
use schemars::{JsonSchema, SchemaGenerator};
use serde_json::Value;

use crate::service::Shared;

/// The schema of a type, with those it needs put among the generator's.
pub(crate) type SchemaOf = fn(&mut SchemaGenerator) -> Value;

pub(crate) fn schema<T: JsonSchema>(generator: &mut SchemaGenerator) -> Value {
    generator.subschema_for::<T>().to_value()
}

/// What a path answers with.
pub(crate) enum Content {
    /// JSON of this form.
    Json(SchemaOf),
    /// The same, or events whose data have these forms.
    JsonOrEvents(SchemaOf, Vec<SchemaOf>),
    /// Events only.
    Events(Vec<SchemaOf>),
    /// Text of this type.
    Text(&'static str),
    /// Nothing.
    Nothing,
}

/// One path and method.
pub(crate) struct Route {
    pub(crate) method: Method,
    pub(crate) path: &'static str,
    /// What it does, in one sentence.
    pub(crate) summary: &'static str,
    pub(crate) request: Option<SchemaOf>,
    /// The status of success.
    pub(crate) status: u16,
    pub(crate) content: Content,
    /// Parameters after `?`, each with what it is.
    pub(crate) query: &'static [(&'static str, &'static str)],
    pub(crate) handler: MethodRouter<Shared>,
}

pub(crate) fn get<H: Handler<T, Shared>, T: 'static>(
    path: &'static str,
    summary: &'static str,
    content: Content,
    handler: H,
) -> Route {
    let handler = on(MethodFilter::GET, handler);
    Route { method: Method::GET, path, summary, request: None, status: 200, content, query: &[], handler }
}

pub(crate) fn post<H: Handler<T, Shared>, T: 'static>(
    path: &'static str,
    summary: &'static str,
    request: SchemaOf,
    content: Content,
    handler: H,
) -> Route {
    let handler = on(MethodFilter::POST, handler);
    Route {
        method: Method::POST,
        path,
        summary,
        request: Some(request),
        status: 200,
        content,
        query: &[],
        handler,
    }
}
