//! A connection whose client is given time, but not for ever.

use std::future::Future;
use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::task::{Context, Poll, ready};
use std::time::Duration;

use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::time::{Instant, Sleep};

use crate::fault::{Fault, PROBLEM_TYPE};

/// How long somebody who has nothing more to say may wait for an answer. Whoever closes a connection looks the same, and what is
/// written for them is stopped then.
const ATTENTION: Duration = Duration::from_secs(5);

/// Requests of a connection that are being answered.
#[derive(Debug, Clone, Default)]
pub(crate) struct UnderWay(Arc<AtomicUsize>);

/// A request that is being answered, as long as this lives.
#[derive(Debug)]
pub(crate) struct Answering(UnderWay);

impl UnderWay {
    pub(crate) fn begin(&self) -> Answering {
        self.0.fetch_add(1, Ordering::Relaxed);
        Answering(self.clone())
    }
}

impl Drop for Answering {
    fn drop(&mut self) {
        self.0.0.fetch_sub(1, Ordering::Relaxed);
    }
}

/// A stream that gives up when the other end takes nothing for some time. While a request is being answered, the end of what the client
/// says is not heard at once, so that who closes only that half still gets an answer.
pub(crate) struct Patient<S> {
    stream: S,
    patience: Duration,
    under_way: UnderWay,
    /// Runs while the other end takes nothing.
    stalled: Option<Pin<Box<Sleep>>>,
    /// Runs since the client ended what it says.
    ended: Option<Pin<Box<Sleep>>>,
}

impl<S> Patient<S> {
    pub(crate) fn new(stream: S, patience: Duration, under_way: UnderWay) -> Self {
        Self { stream, patience, under_way, stalled: None, ended: None }
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
        let busy = self.under_way.0.load(Ordering::Relaxed) > 0;
        match &mut self.ended {
            Some(timer) if busy => timer.as_mut().poll(context).map(Ok),
            _ => Poll::Ready(Ok(())),
        }
    }
}

/// What the server itself answers to a request that is none has no body; the answer with one that says what is wrong, if these bytes
/// are such an answer.
fn explained(bytes: &[u8]) -> Option<Vec<u8>> {
    let head = std::str::from_utf8(bytes).ok()?.strip_suffix("\r\n\r\n")?;
    let status: u16 = head.strip_prefix("HTTP/1.1 ")?.get(..3)?.parse().ok()?;
    let detail = match status {
        400 => "the request is no HTTP/1.1",
        414 => "the path of the request is too long",
        431 => "the head of the request is too long",
        _ => return None,
    };
    let is_empty = head.lines().any(|line| line.eq_ignore_ascii_case("content-length: 0"));
    let status = axum::http::StatusCode::from_u16(status).ok().filter(|_| is_empty)?;
    let body = serde_json::to_string(&Fault::new(status, detail).problem()).ok()?;
    let line = head.lines().next()?;
    let head = format!(
        "{line}\r\ncontent-type: {PROBLEM_TYPE}\r\nconnection: close\r\ncontent-length: {}\r\n\r\n{body}",
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
