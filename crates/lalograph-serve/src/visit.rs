//! A request from its arrival to the end of its answer: who may ask, what is counted and logged.

use std::net::SocketAddr;
use std::panic::AssertUnwindSafe;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::task::{Context, Poll, ready};
use std::time::Instant;

use axum::body::Body;
use axum::extract::{MatchedPath, Request, State};
use axum::http::{Method, StatusCode};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use futures_util::FutureExt;
use hyper::body::{Body as HttpBody, Bytes, Frame, SizeHint};

use crate::clients::OpenRequest;
use crate::fault::{Fault, RETRY_AFTER};
use crate::guard;
use crate::metrics::Counted;
use crate::patience::Answering;
use crate::service::Shared;

/// When a request arrived.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Arrived(pub(crate) Instant);

/// Where a request comes from.
#[derive(Debug, Clone)]
pub(crate) struct Peer {
    /// The address of the client.
    pub(crate) address: SocketAddr,
    /// Held until the request is answered.
    pub(crate) answering: Arc<Answering>,
}

/// An open request. Dropped with the last byte of its answer, or when the client has gone, it is counted and logged.
struct Visit {
    service: Shared,
    number: u64,
    arrived: Instant,
    method: &'static str,
    /// The pattern of the path, and never the path: that may hold anything.
    route: String,
    status: Option<StatusCode>,
    /// Whether the whole answer was sent.
    whole: bool,
    _counted: Counted,
    _open: Option<OpenRequest>,
    _answering: Option<Arc<Answering>>,
}

impl Drop for Visit {
    fn drop(&mut self) {
        let time = self.arrived.elapsed();
        // The conventional status for a client that has gone.
        let status = self.status.map_or(499, |status| status.as_u16());
        self.service.metrics.finished(self.method, &self.route, status, time);
        tracing::info!(
            request = self.number,
            method = self.method,
            route = %self.route,
            status,
            whole = self.whole,
            seconds = time.as_secs_f64(),
            "answered"
        );
    }
}

static NUMBER: AtomicU64 = AtomicU64::new(1);

/// Methods are few; any other word of a client has no place in metrics and logs.
fn known(method: &Method) -> &'static str {
    ["GET", "POST", "DELETE", "OPTIONS", "HEAD", "PUT"]
        .into_iter()
        .find(|known| method == known)
        .unwrap_or("other")
}

/// Lets a request in, or sends it away; counts and logs it.
pub(crate) async fn visit(State(service): State<Shared>, mut request: Request, next: Next) -> Response {
    let arrived = Instant::now();
    let route = request.extensions().get::<MatchedPath>().map_or("(none)", MatchedPath::as_str).to_owned();
    let peer = request.extensions_mut().remove::<Peer>();
    let is_work = request.method() == Method::POST || route.ends_with("/events");
    let open = peer.as_ref().filter(|_| is_work).map(|peer| service.clients.open(peer.address.ip()));
    let mut visit = Visit {
        number: NUMBER.fetch_add(1, Ordering::Relaxed),
        arrived,
        method: known(request.method()),
        route,
        status: None,
        whole: false,
        _counted: Counted::new(&service.metrics.open_requests),
        _open: None,
        _answering: peer.map(|peer| peer.answering),
        service: service.clone(),
    };
    request.extensions_mut().insert(Arrived(arrived));
    let asked_from = guard::origin(&request);
    let response = match (guard::check(&service.settings, &request), open) {
        (Err(fault), _) => fault.into_response(),
        (Ok(()), Some(None)) => {
            service.metrics.refused.inc();
            let detail = format!(
                "this client has {} requests open, which is as many as it may",
                service.settings.limits.requests_per_client
            );
            let busy = Fault::busy(detail, RETRY_AFTER).into_response();
            with_status(busy, StatusCode::TOO_MANY_REQUESTS)
        }
        (Ok(()), open) => {
            visit._open = open.flatten();
            if request.method() == Method::OPTIONS {
                guard::preflight()
            } else {
                AssertUnwindSafe(next.run(request)).catch_unwind().await.unwrap_or_else(|_| {
                    tracing::error!("a request failed");
                    Fault::new(StatusCode::INTERNAL_SERVER_ERROR, "the request failed").into_response()
                })
            }
        }
    };
    let response = guard::with_headers(response, &service.settings, asked_from.as_ref());
    visit.status = Some(response.status());
    let (parts, body) = response.into_parts();
    visit.whole = body.is_end_stream();
    Response::from_parts(parts, Body::new(WatchedBody { body, visit }))
}

/// The body of an answer, with its visit.
struct WatchedBody {
    body: Body,
    visit: Visit,
}

impl HttpBody for WatchedBody {
    type Data = Bytes;
    type Error = axum::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, axum::Error>>> {
        let frame = ready!(Pin::new(&mut self.body).poll_frame(context));
        self.visit.whole |= frame.is_none() || self.body.is_end_stream();
        Poll::Ready(frame)
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.body.size_hint()
    }
}

fn with_status(mut response: Response, status: StatusCode) -> Response {
    *response.status_mut() = status;
    response
}
