//! Answers that come piece by piece: server-sent events, as the standard of web pages has them.

use std::convert::Infallible;

use axum::body::Body;
use axum::http::{HeaderValue, header};
use axum::response::Response;
use futures_util::stream;
use hyper::body::Bytes;
use serde::Serialize;
use tokio::sync::mpsc::{UnboundedReceiver, UnboundedSender, unbounded_channel};

use crate::fault::Fault;

/// Sends events to a client.
#[derive(Debug)]
pub(crate) struct Events(UnboundedSender<String>);

impl Events {
    /// Sends an event; `false` if the client has gone.
    pub(crate) fn send(&self, name: &str, data: &impl Serialize) -> bool {
        // JSON has no line ends of its own.
        let data = serde_json::to_string(data).unwrap_or_default();
        self.0.send(format!("event: {name}\ndata: {data}\n\n")).is_ok()
    }

    /// Sends a comment, so that somebody who has gone is noticed.
    pub(crate) fn is_heard(&self) -> bool {
        self.0.send(":\n\n".to_owned()).is_ok()
    }

    /// Sends what went wrong.
    pub(crate) fn fail(&self, fault: &Fault) {
        self.send("error", &fault.problem());
    }

    /// Whether the client has gone.
    pub(crate) async fn gone(&self) {
        self.0.closed().await;
    }
}

/// A channel of events, and the answer that carries them.
pub(crate) fn events() -> (Events, Response) {
    let (sender, receiver) = unbounded_channel();
    let pieces = stream::unfold(receiver, |mut receiver: UnboundedReceiver<String>| async move {
        let mut piece = receiver.recv().await?;
        // What has gathered goes in one piece.
        while let Ok(more) = receiver.try_recv() {
            piece.push_str(&more);
        }
        Some((Ok::<_, Infallible>(Bytes::from(piece)), receiver))
    });
    let mut response = Response::new(Body::from_stream(pieces));
    let headers = response.headers_mut();
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static("text/event-stream"));
    headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    (Events(sender), response)
}
