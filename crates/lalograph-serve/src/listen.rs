//! Connections: accepted, bounded, given time, and brought to an end.

use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use axum::Router;
use hyper::Request;
use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::{TokioIo, TokioTimer};
use hyper_util::server::graceful::GracefulShutdown;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;
use tokio_rustls::TlsAcceptor;
use tower::ServiceExt;

use crate::metrics::Counted;
use crate::patience::{Patient, UnderWay};
use crate::service::Shared;
use crate::visit::Peer;

/// Bytes of the head of a request.
const HEAD_BYTES: usize = 16 << 10;
/// Headers of a request.
const HEADERS: usize = 64;
/// A pause where no connection can be accepted, as when there are too many open files.
const PAUSE: Duration = Duration::from_millis(50);
/// How often it is asked whether the service is to end.
const LOOK: Duration = Duration::from_millis(50);

/// How a service ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Ended {
    /// Connections that were cut because their time was over.
    pub cut: usize,
}

/// Everything that connections share.
struct Door {
    router: Router,
    service: Shared,
    tls: Option<TlsAcceptor>,
    graceful: GracefulShutdown,
    open: Arc<AtomicUsize>,
}

/// Answers requests until `stop` says so, and then finishes those that are under way.
pub(crate) async fn listen(
    listener: TcpListener,
    router: Router,
    service: Shared,
    tls: Option<TlsAcceptor>,
    stopping: watch::Sender<bool>,
    stop: &(dyn Fn() -> bool + Sync),
) -> Ended {
    let limits = service.settings.limits;
    let open = Arc::new(AtomicUsize::new(0));
    let door = Door { router, service, tls, graceful: GracefulShutdown::new(), open: Arc::clone(&open) };
    let mut look = tokio::time::interval(LOOK);
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            _ = look.tick() => {
                if stop() {
                    break;
                }
                continue;
            }
        };
        match accepted {
            Ok((stream, peer)) if open.load(Ordering::Relaxed) < limits.connections => {
                door.open(stream, peer)
            }
            // A closed door says more than a wait.
            Ok((stream, _)) => drop(stream),
            Err(error) => {
                tracing::warn!(%error, "no connection accepted");
                tokio::time::sleep(PAUSE).await;
            }
        }
    }
    drop(listener);
    tracing::info!(connections = open.load(Ordering::Relaxed), "ending");
    let _ = stopping.send(true);
    let until = Instant::now() + limits.grace;
    let finished = tokio::time::timeout(limits.grace, door.graceful.shutdown()).await;
    while finished.is_ok() && open.load(Ordering::Relaxed) > 0 && Instant::now() < until {
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
    Ended { cut: open.load(Ordering::Relaxed) }
}

/// An open connection, counted as long as this lives.
struct Open {
    open: Arc<AtomicUsize>,
    _counted: Counted,
}

impl Drop for Open {
    fn drop(&mut self) {
        self.open.fetch_sub(1, Ordering::Relaxed);
    }
}

impl Door {
    fn open(&self, stream: TcpStream, peer: SocketAddr) {
        // Tokens are sent when they come.
        let _ = stream.set_nodelay(true);
        self.open.fetch_add(1, Ordering::Relaxed);
        let counted = Counted::new(&self.service.metrics.connections);
        let held = Open { open: Arc::clone(&self.open), _counted: counted };
        let patience = self.service.settings.limits.patience;
        let (router, watcher) = (self.router.clone(), self.graceful.watcher());
        match self.tls.clone() {
            None => {
                tokio::spawn(async move {
                    let _held = held;
                    converse(stream, peer, router, patience, watcher).await;
                });
            }
            Some(tls) => {
                tokio::spawn(async move {
                    let _held = held;
                    match tokio::time::timeout(patience, tls.accept(stream)).await {
                        Ok(Ok(stream)) => converse(stream, peer, router, patience, watcher).await,
                        Ok(Err(error)) => tracing::debug!(%error, "no TLS connection"),
                        Err(_) => tracing::debug!("no TLS connection in time"),
                    }
                });
            }
        }
    }
}

/// Answers the requests of one connection.
async fn converse<S: AsyncRead + AsyncWrite + Unpin + Send + 'static>(
    stream: S,
    peer: SocketAddr,
    router: Router,
    patience: Duration,
    watcher: hyper_util::server::graceful::Watcher,
) {
    let under_way = UnderWay::default();
    let answered = under_way.clone();
    // The request counts from here on, before any more is read of the connection.
    let service = service_fn(move |mut request: Request<Incoming>| {
        let answering = Arc::new(answered.begin());
        request.extensions_mut().insert(Peer { address: peer, answering });
        router.clone().oneshot(request)
    });
    let connection = http1::Builder::new()
        .timer(TokioTimer::new())
        .header_read_timeout(patience)
        .max_buf_size(HEAD_BYTES)
        .max_headers(HEADERS)
        .serve_connection(TokioIo::new(Patient::new(stream, patience, under_way)), service);
    if let Err(error) = watcher.watch(connection).await {
        tracing::debug!(%error, "connection ended");
    }
}

/// Lets this process open as many files as it may.
pub(crate) fn raise_open_files() {
    use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
    let Rlimit { maximum, .. } = getrlimit(Resource::Nofile);
    let raised = setrlimit(Resource::Nofile, Rlimit { current: maximum, maximum });
    if let Err(error) = raised {
        tracing::debug!(%error, "open files stay limited");
    }
}

/// Binds the address.
pub(crate) async fn bind(address: SocketAddr) -> io::Result<TcpListener> {
    TcpListener::bind(address).await
}
