//! Who may ask: the host that is meant, the origin of a page, the token; and the headers that keep pages safe.

use std::net::IpAddr;

use axum::body::Body;
use axum::extract::Request;
use axum::http::{HeaderValue, Method, StatusCode, header};
use axum::response::Response;
use subtle::ConstantTimeEq;

use crate::fault::Fault;
use crate::settings::{Access, Settings};

/// Paths that need no token: the page, which holds nothing, and what watches the service.
const OPEN: [&str; 6] = ["/", "/page.css", "/page.js", "/health", "/ready", "/openapi.json"];

/// What the page may do: use its own files, ask this service, and nothing else; no page may frame it.
const POLICY: &str = "default-src 'none'; style-src 'self'; script-src 'self'; connect-src 'self'; img-src 'self' data:; \
                      base-uri 'none'; form-action 'none'; frame-ancestors 'none'";

/// The origin of the page that asks, if a browser says so.
pub(crate) fn origin(request: &Request) -> Option<HeaderValue> {
    request.headers().get(header::ORIGIN).cloned()
}

/// Checks host, origin and token.
pub(crate) fn check(settings: &Settings, request: &Request) -> Result<(), Fault> {
    let host = request.headers().get(header::HOST).and_then(|host| host.to_str().ok()).unwrap_or_default();
    if settings.listen.ip().is_loopback() && !is_local(host) {
        // A name of somebody else's that leads here is a page's way around the browser's rules.
        return Err(Fault::new(StatusCode::MISDIRECTED_REQUEST, "this service answers to local names only")
            .with_remedy("ask for localhost or 127.0.0.1"));
    }
    if let Some(origin) = origin(request) {
        let text = origin.to_str().unwrap_or_default();
        let own = text.split_once("://").is_some_and(|(_, place)| place.eq_ignore_ascii_case(host));
        if !own && !settings.origins.iter().any(|allowed| allowed == text) {
            return Err(Fault::new(StatusCode::FORBIDDEN, "pages of this origin may not ask this service")
                .with_remedy("start the service with --allow-origin ORIGIN"));
        }
    }
    if request.method() == Method::OPTIONS || OPEN.contains(&request.uri().path()) {
        return Ok(());
    }
    let Access::Tokens(tokens) = &settings.access else { return Ok(()) };
    let given = request.headers().get(header::AUTHORIZATION).map_or(&[][..], |value| value.as_bytes());
    let given = match given.split_at_checked(7) {
        Some((scheme, token)) if scheme.eq_ignore_ascii_case(b"bearer ") => token,
        _ => &[][..],
    };
    // Every token is compared to its end, so that the time says nothing about them.
    let right = tokens.iter().fold(0u8, |right, token| right | token.as_bytes().ct_eq(given).unwrap_u8());
    match right {
        1 => Ok(()),
        _ => Err(Fault::new(StatusCode::UNAUTHORIZED, "this service needs a token")
            .with_remedy("send the header `authorization: Bearer TOKEN`")),
    }
}

/// Whether a host is a name of this machine for itself.
fn is_local(host: &str) -> bool {
    let name = match host.strip_prefix('[') {
        Some(rest) => rest.split(']').next().unwrap_or_default(),
        None => host.split(':').next().unwrap_or_default(),
    };
    name.eq_ignore_ascii_case("localhost")
        || name.parse::<IpAddr>().is_ok_and(|address| address.is_loopback())
}

/// The answer to a browser that asks whether a page of another origin may ask.
pub(crate) fn preflight() -> Response {
    let mut response = Response::new(Body::empty());
    *response.status_mut() = StatusCode::NO_CONTENT;
    let headers = response.headers_mut();
    headers.insert(header::ACCESS_CONTROL_ALLOW_METHODS, HeaderValue::from_static("GET, POST, DELETE"));
    headers.insert(
        header::ACCESS_CONTROL_ALLOW_HEADERS,
        HeaderValue::from_static("content-type, authorization"),
    );
    headers.insert(header::ACCESS_CONTROL_MAX_AGE, HeaderValue::from_static("600"));
    response
}

/// Adds the headers that every answer has.
pub(crate) fn with_headers(
    mut response: Response,
    settings: &Settings,
    asked_from: Option<&HeaderValue>,
) -> Response {
    let headers = response.headers_mut();
    let fixed = [
        (header::CONTENT_SECURITY_POLICY, POLICY),
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
        (header::X_FRAME_OPTIONS, "DENY"),
        (header::REFERRER_POLICY, "no-referrer"),
    ];
    for (name, value) in fixed {
        headers.insert(name, HeaderValue::from_static(value));
    }
    headers.entry(header::CACHE_CONTROL).or_insert(HeaderValue::from_static("no-store"));
    headers.insert("cross-origin-resource-policy", HeaderValue::from_static("same-origin"));
    if let Some(origin) = asked_from {
        headers.insert(header::VARY, HeaderValue::from_static("origin"));
        if settings.origins.iter().any(|allowed| allowed.as_bytes() == origin.as_bytes()) {
            headers.insert(header::ACCESS_CONTROL_ALLOW_ORIGIN, origin.clone());
            headers.insert("cross-origin-resource-policy", HeaderValue::from_static("cross-origin"));
        }
    }
    response
}

#[cfg(test)]
mod tests {
    use super::is_local;

    #[test]
    fn local_names_are_recognised() {
        for local in ["localhost", "LOCALHOST:80", "127.0.0.1:9", "127.9.9.9", "[::1]:80", "[::1]"] {
            assert!(is_local(local), "{local}");
        }
        for foreign in
            ["", "hive.example", "127.0.0.1.example", "[fe80::1]", "localhost.example:80", "10.0.0.1"]
        {
            assert!(!is_local(foreign), "{foreign}");
        }
    }
}
