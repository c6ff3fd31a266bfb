//! The state that all requests share.

use std::collections::BTreeMap;
use std::sync::Arc;

use tokio::sync::watch;

use crate::clients::Clients;
use crate::conversations::Conversations;
use crate::desk::Desk;
use crate::fault::Fault;
use crate::metrics::Metrics;
use crate::models::{Engine, ModelKind, Shelf};
use crate::pool::{Pool, THREADS_EACH};
use crate::settings::Settings;

/// The service, shared by all requests.
pub(crate) type Shared = Arc<Service>;

/// A service.
pub(crate) struct Service {
    pub(crate) settings: Settings,
    pub(crate) shelf: Shelf,
    desks: BTreeMap<String, Desk>,
    pub(crate) pool: Pool,
    pub(crate) conversations: Conversations,
    pub(crate) clients: Clients,
    pub(crate) metrics: Arc<Metrics>,
    /// Whether the service is about to end.
    pub(crate) stopping: watch::Receiver<bool>,
}

impl Service {
    pub(crate) fn new(
        settings: Settings,
        shelf: Shelf,
        stopping: watch::Receiver<bool>,
    ) -> std::io::Result<Self> {
        let (metrics, limits) = (Arc::new(Metrics::new()), settings.limits);
        let mut desks = BTreeMap::new();
        for model in shelf.all() {
            if let Engine::Language(ready) = &model.engine {
                let desk = Desk::open(Arc::clone(ready), &settings, &metrics)?;
                desks.insert(model.card.name.clone(), desk);
            }
        }
        let threads = THREADS_EACH * settings.threads;
        Ok(Self {
            pool: Pool::new(threads, limits.queue, limits.time, Arc::clone(&metrics)),
            conversations: Conversations::new(limits, metrics.conversations.clone()),
            clients: Clients::new(limits.requests_per_client),
            settings,
            shelf,
            desks,
            metrics,
            stopping,
        })
    }

    /// Where the texts of a language model are written.
    pub(crate) fn desk(&self, model: &str) -> Result<&Desk, Fault> {
        self.shelf.get(model)?;
        let other = || self.shelf.other_kind(model, ModelKind::LanguageModel, "a language model");
        self.desks.get(model).ok_or_else(other)
    }

    /// Whether the service takes requests.
    pub(crate) fn is_ready(&self) -> bool {
        !*self.stopping.borrow()
    }
}
