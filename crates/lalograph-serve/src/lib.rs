//! A service over HTTP: other programs write, score, classify and talk with models, and people do so on its page.
//!
//! Requests for text are written side by side ([`lalograph_lab::writing::batch`]), and what one becomes does not depend on the others.
//! All paths are in `routes.rs`, of which the OpenAPI document is made too.

mod answers;
mod asked;
mod clients;
mod conversations;
mod description;
mod desk;
mod error;
mod fault;
mod guard;
mod listen;
mod metrics;
pub mod models;
mod page;
mod patience;
mod pool;
mod room;
mod route;
mod routes;
mod service;
pub mod settings;
mod tls;
mod visit;

use std::net::SocketAddr;
use std::sync::Arc;

pub use error::ServeError;
pub use listen::Ended;
use tokio::sync::watch;

use crate::models::Shelf;
use crate::service::Service;
use crate::settings::Settings;

/// Answers requests until `stop` returns `true`, and finishes those that are under way. `listening` is given the address as soon as it is open.
///
/// # Errors
/// See [`ServeError`].
pub fn serve(
    shelf: Shelf,
    settings: Settings,
    listening: &mut dyn FnMut(SocketAddr),
    stop: &(dyn Fn() -> bool + Sync),
) -> Result<Ended, ServeError> {
    listen::raise_open_files();
    let tls = settings.tls.as_ref().map(tls::acceptor).transpose()?;
    let address = settings.listen;
    // Reading and scoring have threads of the pool; more of these would only wait.
    let blocking = pool::THREADS_EACH * settings.threads + 8;
    let runtime = tokio::runtime::Builder::new_multi_thread()
        .worker_threads(settings.threads.clamp(1, 4))
        .max_blocking_threads(blocking)
        .enable_all()
        .build()
        .map_err(ServeError::Threads)?;
    let (stopping, stopped) = watch::channel(false);
    let service = Arc::new(Service::new(settings, shelf, stopped).map_err(ServeError::Threads)?);
    let router = routes::router(Arc::clone(&service));
    let ended = runtime.block_on(async {
        let failed = |source| ServeError::Listen { address, source };
        let listener = listen::bind(address).await.map_err(failed)?;
        listening(listener.local_addr().map_err(failed)?);
        Ok(listen::listen(listener, router, service, tls, stopping, stop).await)
    });
    // Work that nobody waits for is not waited for.
    runtime.shutdown_background();
    ended
}
