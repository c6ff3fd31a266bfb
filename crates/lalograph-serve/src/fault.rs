//! What is wrong with a request, in the one form that errors have.

use std::time::Duration;

use axum::body::Body;
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use lalograph_lab::LabError;
use lalograph_text::TextError;
use lalograph_vectors::VectorError;
use schemars::JsonSchema;
use serde::Serialize;

/// An error: problem details as of RFC 9457.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub(crate) struct Problem {
    /// Status of the response.
    pub status: u16,
    /// Short name of the status.
    pub title: &'static str,
    /// What is wrong.
    pub detail: String,
    /// The field or header that it is about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// What to do about it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub remedy: Option<String>,
}

/// How long those wait who are sent away because there is too much to do.
pub(crate) const RETRY_AFTER: Duration = Duration::from_secs(1);

/// A request that is answered with an error.
#[derive(Debug)]
pub(crate) struct Fault {
    status: StatusCode,
    detail: String,
    field: Option<String>,
    remedy: Option<String>,
    retry_after: Option<Duration>,
}

impl Fault {
    pub(crate) fn new(status: StatusCode, detail: impl Into<String>) -> Self {
        Self { status, detail: detail.into(), field: None, remedy: None, retry_after: None }
    }

    /// A field with a value that is refused.
    pub(crate) fn field(field: &str, detail: impl Into<String>) -> Self {
        Self { field: Some(field.to_owned()), ..Self::new(StatusCode::BAD_REQUEST, detail) }
    }

    /// Something that is not there.
    pub(crate) fn missing(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::NOT_FOUND, detail)
    }

    /// More work than there is room for.
    pub(crate) fn busy(detail: impl Into<String>, retry_after: Duration) -> Self {
        Self { retry_after: Some(retry_after), ..Self::new(StatusCode::SERVICE_UNAVAILABLE, detail) }
    }

    pub(crate) fn with_remedy(self, remedy: impl Into<String>) -> Self {
        Self { remedy: Some(remedy.into()), ..self }
    }

    /// The body of the response.
    pub(crate) fn problem(&self) -> Problem {
        Problem {
            status: self.status.as_u16(),
            title: self.status.canonical_reason().unwrap_or("Error"),
            detail: self.detail.clone(),
            field: self.field.clone(),
            remedy: self.remedy.clone(),
        }
    }
}

/// The content type of problem details.
pub(crate) const PROBLEM_TYPE: &str = "application/problem+json";

impl IntoResponse for Fault {
    fn into_response(self) -> Response {
        let body = serde_json::to_vec(&self.problem()).unwrap_or_default();
        let mut response = Response::new(Body::from(body));
        *response.status_mut() = self.status;
        let headers = response.headers_mut();
        headers.insert(header::CONTENT_TYPE, HeaderValue::from_static(PROBLEM_TYPE));
        if let Some(after) = self.retry_after {
            headers.insert(header::RETRY_AFTER, HeaderValue::from(after.as_secs().max(1)));
        }
        if self.status == StatusCode::UNAUTHORIZED {
            headers.insert(header::WWW_AUTHENTICATE, HeaderValue::from_static("Bearer"));
        }
        response
    }
}

impl From<LabError> for Fault {
    fn from(error: LabError) -> Self {
        match error {
            LabError::Temperature(_) => Self::field("temperature", error.to_string()).with_remedy(
                "give a temperature above 0, or \"greedy\": true for the most probable token each time",
            ),
            LabError::SeedUnknown => Self::field("text", error.to_string())
                .with_remedy("use words of the training text, or an empty text to start a document"),
            LabError::Decoding { setting, .. } => {
                Self::field(&setting.replace([' ', '-'], "_"), error.to_string())
            }
            LabError::Text(TextError::Stopped) => {
                Self::new(StatusCode::SERVICE_UNAVAILABLE, "the request took longer than its time limit")
                    .with_remedy("send a shorter text")
            }
            LabError::Text(TextError::NoText { .. }) => Self::field("text", "the text is empty"),
            LabError::Vectors(error) => error.into(),
            other => Self::new(StatusCode::INTERNAL_SERVER_ERROR, other.to_string()),
        }
    }
}

impl From<VectorError> for Fault {
    fn from(error: VectorError) -> Self {
        match &error {
            VectorError::Unknown { near, .. } if !near.is_empty() => {
                let remedy = format!("words with vectors: {}", near.join(", "));
                Self::missing(error.to_string()).with_remedy(remedy)
            }
            VectorError::Unknown { .. } | VectorError::NothingKnown(_) => Self::missing(error.to_string()),
            _ => Self::new(StatusCode::BAD_REQUEST, error.to_string()),
        }
    }
}
