//! The description of the service as an OpenAPI document.

use schemars::generate::SchemaSettings;
use serde_json::{Map, Value, json};

use crate::fault::{PROBLEM_TYPE, Problem};
use crate::route::{Content, Route, SchemaOf};

/// The whole document.
pub(crate) fn description(routes: Vec<Route>) -> Value {
    let settings = SchemaSettings::draft2020_12().with(|settings| {
        settings.definitions_path = "/components/schemas".into();
        settings.meta_schema = None;
    });
    let mut generator = settings.into_generator();
    let problem = generator.subschema_for::<Problem>().to_value();
    let mut paths: Map<String, Value> = Map::new();
    for Route { method, path, summary, request, status, content, query, .. } in routes {
        let mut parameters: Vec<Value> = path
            .split('/')
            .filter_map(|part| part.strip_prefix('{')?.strip_suffix('}'))
            .map(|name| json!({"name": name, "in": "path", "required": true, "schema": {"type": "string"}}))
            .collect();
        parameters.extend(query.iter().map(|(name, about)| {
            json!({"name": name, "in": "query", "description": about, "schema": {"type": "integer", "minimum": 1}})
        }));
        let mut schemas =
            |all: &[SchemaOf]| -> Vec<Value> { all.iter().map(|schema| schema(&mut generator)).collect() };
        let events = |data: Vec<Value>| json!({"schema": {"type": "string"}, "x-event-data": data});
        let content = match content {
            Content::Json(schema) => json!({"application/json": {"schema": schemas(&[schema])[0]}}),
            Content::JsonOrEvents(schema, data) => json!({
                "application/json": {"schema": schemas(&[schema])[0]},
                "text/event-stream": events(schemas(&data)),
            }),
            Content::Events(data) => json!({"text/event-stream": events(schemas(&data))}),
            Content::Text(kind) => json!({kind: {"schema": {"type": "string"}}}),
            Content::Nothing => json!({}),
        };
        let error = json!({"description": "What is wrong.", "content": {PROBLEM_TYPE: {"schema": problem}}});
        let mut success = json!({"description": summary});
        if content.as_object().is_some_and(|content| !content.is_empty()) {
            success["content"] = content;
        }
        let mut operation = json!({
            "summary": summary,
            "parameters": parameters,
            "responses": {status.to_string(): success, "default": error},
        });
        if let Some(request) = request {
            let schema = schemas(&[request]).remove(0);
            operation["requestBody"] =
                json!({"required": true, "content": {"application/json": {"schema": schema}}});
        }
        let method = method.as_str().to_lowercase();
        if let Some(of_path) = paths.entry(path).or_insert_with(|| json!({})).as_object_mut() {
            of_path.insert(method, operation);
        }
    }
    json!({
        "openapi": "3.1.0",
        "info": {
            "title": "Lalograph",
            "version": env!("CARGO_PKG_VERSION"),
            "description": "Writes, scores, classifies and talks with the models that it was started with.",
        },
        "paths": paths,
        "components": {
            "schemas": generator.take_definitions(true),
            "securitySchemes": {"token": {"type": "http", "scheme": "bearer"}},
        },
        "security": [{}, {"token": []}],
    })
}
