//! Checking real answers against the description that the service gives of itself.

use serde_json::Value;

/// What is wrong with a value by a schema of JSON Schema, of which the service's descriptions use a part; a keyword that is not known
/// here is an error.
pub(super) fn check(schema: &Value, value: &Value, document: &Value) -> Result<(), String> {
    let Some(schema) = schema.as_object() else {
        return if schema == &Value::Bool(true) { Ok(()) } else { Err(format!("no schema: {schema}")) };
    };
    for (keyword, rule) in schema {
        match keyword.as_str() {
            "description" | "title" | "format" | "default" => {}
            "$ref" => {
                let path = rule.as_str().unwrap().trim_start_matches('#');
                let target = document.pointer(path).ok_or_else(|| format!("no {path}"))?;
                check(target, value, document)?;
            }
            "type" => {
                let kinds: Vec<&str> = match rule {
                    Value::Array(kinds) => kinds.iter().filter_map(Value::as_str).collect(),
                    kind => kind.as_str().into_iter().collect(),
                };
                let fits = |kind: &&str| match *kind {
                    "null" => value.is_null(),
                    "boolean" => value.is_boolean(),
                    "integer" => value.is_u64() || value.is_i64(),
                    "number" => value.is_number(),
                    "string" => value.is_string(),
                    "array" => value.is_array(),
                    "object" => value.is_object(),
                    other => panic!("type {other}"),
                };
                if !kinds.iter().any(fits) {
                    return Err(format!("{value} is no {rule}"));
                }
            }
            "enum" => {
                if !rule.as_array().unwrap().contains(value) {
                    return Err(format!("{value} is none of {rule}"));
                }
            }
            "const" => {
                if rule != value {
                    return Err(format!("{value} is not {rule}"));
                }
            }
            "oneOf" | "anyOf" => {
                let fitting =
                    rule.as_array().unwrap().iter().filter(|one| check(one, value, document).is_ok());
                if fitting.count() == 0 {
                    return Err(format!("{value} is none of {rule}"));
                }
            }
            "minimum" => {
                if value.as_f64().is_some_and(|number| number < rule.as_f64().unwrap()) {
                    return Err(format!("{value} is below {rule}"));
                }
            }
            "maximum" => {
                if value.as_f64().is_some_and(|number| number > rule.as_f64().unwrap()) {
                    return Err(format!("{value} is above {rule}"));
                }
            }
            "items" => {
                for (place, item) in value.as_array().into_iter().flatten().enumerate() {
                    check(rule, item, document).map_err(|what| format!("[{place}]: {what}"))?;
                }
            }
            "required" => {
                let missing = rule.as_array().unwrap().iter().filter_map(Value::as_str);
                if let Some(name) = missing.into_iter().find(|name| value.get(*name).is_none()) {
                    return Err(format!("{name} is missing in {value}"));
                }
            }
            "properties" => {
                // What an answer has and its schema does not is not described.
                for (name, own) in value.as_object().into_iter().flatten() {
                    let rule = rule.get(name).ok_or_else(|| format!("{name} is not described"))?;
                    check(rule, own, document).map_err(|what| format!("{name}: {what}"))?;
                }
            }
            "additionalProperties" => {
                if !schema.contains_key("properties") {
                    for (name, own) in value.as_object().into_iter().flatten() {
                        check(rule, own, document).map_err(|what| format!("{name}: {what}"))?;
                    }
                }
            }
            other => return Err(format!("the keyword {other}")),
        }
    }
    Ok(())
}

/// The pattern of the description that a path fits.
pub(super) fn pattern<'d>(document: &'d Value, method: &str, path: &str) -> Option<(&'d str, &'d Value)> {
    let path = path.split('?').next().unwrap_or(path);
    let fits = |pattern: &str| {
        let (mine, theirs) = (path.split('/').count(), pattern.split('/').count());
        mine == theirs && pattern.split('/').zip(path.split('/')).all(|(a, b)| a == b || a.starts_with('{'))
    };
    let paths = document["paths"].as_object().unwrap();
    let (pattern, of_path) = paths.iter().find(|(pattern, _)| fits(pattern))?;
    Some((pattern.as_str(), of_path.get(method.to_lowercase())?))
}

#[test]
fn the_checker_finds_what_is_wrong() {
    let document = serde_json::json!({"schemas": {"name": {"type": "string"}}});
    let schema = serde_json::json!({
        "type": "object",
        "properties": {"name": {"$ref": "#/schemas/name"}, "count": {"type": ["integer", "null"], "minimum": 0}},
        "required": ["name"],
    });
    let wrong = |value: Value| check(&schema, &value, &document).unwrap_err();
    assert!(check(&schema, &serde_json::json!({"name": "a", "count": null}), &document).is_ok());
    assert!(wrong(serde_json::json!({"count": 1})).contains("name is missing"));
    assert!(wrong(serde_json::json!({"name": 1})).contains("is no \"string\""));
    assert!(wrong(serde_json::json!({"name": "a", "count": -1})).contains("below"));
    assert!(wrong(serde_json::json!({"name": "a", "hum": 1})).contains("not described"));
    assert!(check(&schema, &serde_json::json!(3), &document).is_err());
}
