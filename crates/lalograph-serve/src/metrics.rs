//! What monitoring reads: counts and times in the open text format of metrics.

use std::sync::atomic::AtomicU64;
use std::time::Duration;

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::metrics::histogram::Histogram;
use prometheus_client::registry::{Registry, Unit};

/// Labels of a finished request.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct RequestLabels {
    method: String,
    route: String,
    status: u16,
}

/// Counts and times since the start.
#[derive(Debug)]
pub(crate) struct Metrics {
    registry: Registry,
    requests: Family<RequestLabels, Counter>,
    durations: Histogram,
    first_token: Histogram,
    pub(crate) tokens: Counter,
    pub(crate) texts: Counter,
    pub(crate) stopped_texts: Counter,
    pub(crate) refused: Counter,
    pub(crate) writing: Gauge,
    pub(crate) waiting: Gauge,
    pub(crate) open_requests: Gauge,
    pub(crate) connections: Gauge,
    pub(crate) conversations: Gauge,
    tokens_per_second: Gauge<f64, AtomicU64>,
    rate: std::sync::Mutex<(std::time::Instant, u64)>,
}

impl Metrics {
    pub(crate) fn new() -> Self {
        const SECONDS: [f64; 14] =
            [0.001, 0.002, 0.005, 0.01, 0.015, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 10.0, 60.0];
        let mut registry = Registry::with_prefix("lalograph");
        let (durations, first_token) = (Histogram::new(SECONDS), Histogram::new(SECONDS));
        let requests = Family::default();
        let counters: [Counter; 4] = std::array::from_fn(|_| Counter::default());
        let gauges: [Gauge; 5] = std::array::from_fn(|_| Gauge::default());
        let tokens_per_second = Gauge::default();
        registry.register("requests", "Finished requests by method, route and status", requests.clone());
        let unit = || Unit::Seconds;
        registry.register_with_unit(
            "request_duration",
            "Time from the head of a request to the end of its answer",
            unit(),
            durations.clone(),
        );
        registry.register_with_unit(
            "first_token",
            "Time from the head of a request to the first token of its text",
            unit(),
            first_token.clone(),
        );
        let named = [
            ("tokens", "Tokens written"),
            ("texts", "Texts written to their end"),
            (
                "stopped_texts",
                "Texts that were stopped because nobody waited for them or their time was over",
            ),
            ("refused_requests", "Requests that were refused because there was too much to do"),
        ];
        named.into_iter().zip(&counters).for_each(|((name, help), counter)| {
            registry.register(name, help, counter.clone());
        });
        let named = [
            ("texts_being_written", "Texts that are being written"),
            ("queue", "Texts and other work that wait for their turn"),
            ("open_requests", "Requests that are being answered"),
            ("connections", "Open connections"),
            ("conversations", "Conversations that are remembered"),
        ];
        named.into_iter().zip(&gauges).for_each(|((name, help), gauge)| {
            registry.register(name, help, gauge.clone());
        });
        registry.register(
            "tokens_per_second",
            "Tokens written in a second, since these metrics were read last",
            tokens_per_second.clone(),
        );
        let [tokens, texts, stopped_texts, refused] = counters;
        let [writing, waiting, open_requests, connections, conversations] = gauges;
        Self {
            registry,
            requests,
            durations,
            first_token,
            tokens,
            texts,
            stopped_texts,
            refused,
            writing,
            waiting,
            open_requests,
            connections,
            conversations,
            tokens_per_second,
            rate: std::sync::Mutex::new((std::time::Instant::now(), 0)),
        }
    }

    /// A request was answered.
    pub(crate) fn finished(&self, method: &str, route: &str, status: u16, time: Duration) {
        let labels = RequestLabels { method: method.to_owned(), route: route.to_owned(), status };
        self.requests.get_or_create(&labels).inc();
        self.durations.observe(time.as_secs_f64());
    }

    /// A text has its first token.
    pub(crate) fn first_token(&self, time: Duration) {
        self.first_token.observe(time.as_secs_f64());
    }

    /// All metrics as text.
    pub(crate) fn text(&self) -> String {
        if let Ok(mut rate) = self.rate.lock() {
            let (now, tokens) = (std::time::Instant::now(), self.tokens.get());
            let seconds = now.duration_since(rate.0).as_secs_f64();
            if seconds > 0.0 {
                self.tokens_per_second.set((tokens - rate.1) as f64 / seconds);
                *rate = (now, tokens);
            }
        }
        let mut text = String::new();
        // Writing to a string cannot fail.
        let _ = encode(&mut text, &self.registry);
        text
    }
}

/// A gauge that is one higher as long as this lives.
#[derive(Debug)]
pub(crate) struct Counted(Gauge);

impl Counted {
    pub(crate) fn new(gauge: &Gauge) -> Self {
        gauge.inc();
        Self(gauge.clone())
    }
}

impl Drop for Counted {
    fn drop(&mut self) {
        self.0.dec();
    }
}
