//! What a request names and asks: the name in its path, and its body, which is JSON of a known form.

use std::time::Duration;

use axum::body::Body;
use axum::extract::{FromRequest, FromRequestParts, Path, Request};
use axum::http::request::Parts;
use axum::http::{StatusCode, header};
use http_body_util::{BodyExt, LengthLimitError, Limited};
use hyper::body::Body as _;
use serde::de::DeserializeOwned;

use crate::fault::Fault;
use crate::service::Shared;

/// The name in the path.
pub(crate) struct Named(pub(crate) String);

impl<S: Send + Sync> FromRequestParts<S> for Named {
    type Rejection = Fault;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Fault> {
        let name = Path::from_request_parts(parts, state).await;
        name.map(|Path(name)| Self(name))
            .map_err(|_| Fault::new(StatusCode::BAD_REQUEST, "the name in the path is not UTF-8"))
    }
}

/// The body of a request, read and checked.
pub(crate) struct Asked<T>(pub(crate) T);

impl<T: DeserializeOwned> FromRequest<Shared> for Asked<T> {
    type Rejection = Fault;

    async fn from_request(request: Request, service: &Shared) -> Result<Self, Fault> {
        let kind = request.headers().get(header::CONTENT_TYPE).and_then(|kind| kind.to_str().ok());
        let is_json = kind.is_some_and(|kind| {
            kind.split(';').next().is_some_and(|kind| kind.trim().eq_ignore_ascii_case("application/json"))
        });
        if !is_json {
            // A page of another origin cannot send this type without asking first.
            return Err(Fault::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, "the body of a request must be JSON")
                .with_remedy("send the header `content-type: application/json`"));
        }
        let limits = service.settings.limits;
        let bytes = whole(request.into_body(), limits.body_bytes, limits.patience).await?;
        if service.settings.log_texts {
            tracing::info!(body = %String::from_utf8_lossy(&bytes).escape_debug(), "asked");
        }
        parse(&bytes).map(Self)
    }
}

/// Reads a body of at most so many bytes.
async fn whole(body: Body, most: usize, patience: Duration) -> Result<Vec<u8>, Fault> {
    let too_long =
        || Fault::new(StatusCode::PAYLOAD_TOO_LARGE, format!("the body has more than {most} bytes"));
    // One that says so itself is not waited for.
    if body.size_hint().lower() > most as u64 {
        return Err(too_long());
    }
    let read = Limited::new(body, most).collect();
    match tokio::time::timeout(patience, read).await {
        Err(_) => Err(Fault::new(
            StatusCode::REQUEST_TIMEOUT,
            format!("the body did not arrive within {} seconds", patience.as_secs()),
        )),
        Ok(Err(error)) if error.is::<LengthLimitError>() => Err(too_long()),
        Ok(Err(error)) => Err(Fault::new(StatusCode::BAD_REQUEST, format!("the body is not whole: {error}"))),
        Ok(Ok(body)) => Ok(body.to_bytes().to_vec()),
    }
}

/// Reads JSON, and says where and what is wrong.
fn parse<T: DeserializeOwned>(bytes: &[u8]) -> Result<T, Fault> {
    let text = std::str::from_utf8(bytes).map_err(|error| {
        let at = error.valid_up_to();
        Fault::new(StatusCode::BAD_REQUEST, format!("the body is not UTF-8: byte {} is wrong", at + 1))
    })?;
    serde_json::from_str(text).map_err(|error| {
        let whole = error.to_string();
        let what = whole.split(" at line ").next().unwrap_or(&whole);
        let place = format!("line {}, column {}", error.line(), error.column());
        let quoted: Vec<&str> = what.split('`').skip(1).step_by(2).collect();
        let (unknown, missing) = (what.starts_with("unknown field"), what.starts_with("missing field"));
        if let (true, Some((field, known))) = (unknown || missing, quoted.split_first()) {
            if missing {
                return Fault::field(field, format!("the field `{field}` is missing"));
            }
            // The parser's own list of fields is in its message.
            let fault = Fault::field(field, format!("there is no field `{field}` ({place})"));
            let known: Vec<&str> = known.iter().copied().filter(|name| name != field).collect();
            let distance = |name: &&&str| strsim::damerau_levenshtein(name, field);
            // What the name begins with, or else what is misspelt.
            let prefix = known.iter().find(|name| field.len() > 2 && name.starts_with(field));
            let near = known.iter().filter(|name| distance(name) <= 2).min_by_key(distance);
            return fault.with_remedy(match prefix.or(near) {
                Some(name) => format!("did you mean `{name}`?"),
                None => format!("fields are {}", known.join(", ")),
            });
        }
        let what = if error.is_eof() { "it ends too early" } else { what };
        Fault::new(
            StatusCode::BAD_REQUEST,
            format!("the body is not the JSON that is expected: {what} ({place})"),
        )
    })
}

#[cfg(test)]
mod tests {
    use serde::Deserialize;

    use super::parse;

    #[derive(Debug, Deserialize)]
    #[serde(deny_unknown_fields)]
    struct Example {
        #[serde(rename = "text")]
        _text: String,
        #[serde(default, rename = "temperature")]
        _temperature: f64,
    }

    #[test]
    fn what_is_wrong_is_named_with_its_place() {
        let wrong = |bytes: &[u8]| parse::<Example>(bytes).unwrap_err().problem();
        let typo = wrong(br#"{"text": "a", "temprature": 1}"#);
        assert_eq!(typo.detail, "there is no field `temprature` (line 1, column 26)");
        assert_eq!(
            (typo.field.as_deref(), typo.remedy.as_deref()),
            (Some("temprature"), Some("did you mean `temperature`?"))
        );
        assert_eq!(wrong(br#"{"temp": 1}"#).remedy.as_deref(), Some("did you mean `temperature`?"));
        assert_eq!(wrong(br#"{"hum": 1}"#).remedy.as_deref(), Some("fields are text, temperature"));
        assert_eq!(wrong(b"{}").detail, "the field `text` is missing");
        assert!(
            wrong(br#"{"text": 3}"#)
                .detail
                .contains("invalid type: integer `3`, expected a string (line 1, column 10)")
        );
        assert!(wrong(br#"{"text": "a"#).detail.contains("it ends too early"));
        assert_eq!(wrong(b"{\"text\": \"\xff\"}").detail, "the body is not UTF-8: byte 11 is wrong");
        assert_eq!(wrong(b"").status, 400);
        assert!(parse::<Example>(br#"{"text": "a"}"#).is_ok());
    }
}
