//! A connection whose client is given time, but not for ever.

use std::future::Future;
use std::io;
use std::pin::Pin;
use std::task::{Context, Poll, ready};
use std::time::Duration;

use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::time::{Instant, Sleep};

use crate::fault::{Fault, PROBLEM_TYPE};

/// How long somebody who has nothing more to say may wait for an answer. Whoever closes a connection looks the same, and what is
/// written for them is stopped then.
const ATTENTION: Duration = Duration::from_secs(2);

/// A stream that gives up when the other end takes nothing for some time. The end of what the client says is not heard at once, so that
/// who closes only that half still gets an answer.
pub(crate) struct Patient<S> {
    stream: S,
    patience: Duration,
    /// Runs while the other end takes nothing.
    stalled: Option<Pin<Box<Sleep>>>,
    /// Runs since the client ended what it says.
    ended: Option<Pin<Box<Sleep>>>,
}

impl<S> Patient<S> {
    pub(crate) fn new(stream: S, patience: Duration) -> Self {
        Self { stream, patience, stalled: None, ended: None }
    }

    /// Fails if the other end has taken nothing for too long.
    fn wait<T>(&mut self, poll: Poll<io::Result<T>>, context: &mut Context<'_>) -> Poll<io::Result<T>> {
        if poll.is_ready() {
            self.stalled = None;
            return poll;
        }
        let until = Instant::now() + self.patience;
        let timer = self.stalled.get_or_insert_with(|| Box::pin(tokio::time::sleep_until(until)));
        ready!(timer.as_mut().poll(context));
        Poll::Ready(Err(io::ErrorKind::TimedOut.into()))
    }
}

impl<S: AsyncRead + Unpin> AsyncRead for Patient<S> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        if self.ended.is_none() {
            let before = buffer.filled().len();
            ready!(Pin::new(&mut self.stream).poll_read(context, buffer))?;
            if buffer.filled().len() > before || buffer.remaining() == 0 {
                return Poll::Ready(Ok(()));
            }
            self.ended = Some(Box::pin(tokio::time::sleep(ATTENTION)));
        }
        match &mut self.ended {
            Some(timer) => timer.as_mut().poll(context).map(Ok),
            None => Poll::Ready(Ok(())),
        }
    }
}

/// What the server itself answers to a request that is none, and what is sent instead.
const FRAMING: [(&[u8], u16, &str); 2] = [
    (b"HTTP/1.1 400 Bad Request\r\ncontent-length: 0\r\n", 400, "the request is no HTTP/1.1"),
    (
        b"HTTP/1.1 431 Request Header Fields Too Large\r\ncontent-length: 0\r\n",
        431,
        "the head of the request is too long",
    ),
];

/// The answer with a body that says what is wrong, if these bytes are an answer without one.
fn explained(bytes: &[u8]) -> Option<Vec<u8>> {
    let (start, status, detail) = FRAMING.iter().find(|(start, ..)| bytes.starts_with(start))?;
    let status = axum::http::StatusCode::from_u16(*status).ok()?;
    let body = serde_json::to_string(&Fault::new(status, *detail).problem()).ok()?;
    let line = start.split(|&byte| byte == b'\r').next()?;
    let head = format!(
        "{}\r\ncontent-type: {PROBLEM_TYPE}\r\nconnection: close\r\ncontent-length: {}\r\n\r\n{body}",
        String::from_utf8_lossy(line),
        body.len()
    );
    Some(head.into_bytes())
}

impl<S: AsyncWrite + Unpin> AsyncWrite for Patient<S> {
    fn poll_write(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<io::Result<usize>> {
        if let Some(explained) = explained(bytes) {
            // It is short, and nothing was written before on this connection that waits: it goes in one piece or not at all.
            let written = ready!(Pin::new(&mut self.stream).poll_write(context, &explained))?;
            return Poll::Ready(if written == explained.len() {
                Ok(bytes.len())
            } else {
                Err(io::ErrorKind::WriteZero.into())
            });
        }
        let poll = Pin::new(&mut self.stream).poll_write(context, bytes);
        self.wait(poll, context)
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        let poll = Pin::new(&mut self.stream).poll_flush(context);
        self.wait(poll, context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        let poll = Pin::new(&mut self.stream).poll_shutdown(context);
        self.wait(poll, context)
    }
}
