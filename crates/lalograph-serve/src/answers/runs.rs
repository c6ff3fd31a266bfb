//! Runs: their state, their curves and samples, and both as they train.

use std::collections::BTreeMap;
use std::io::{Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::time::Duration;

use axum::Json;
use axum::extract::State;
use axum::response::Response;
use lalograph_lab::RunFolder;
use lalograph_lab::run::history::RunHistory;
use lalograph_lab::run::records::{MetricsRecord, SampleRecord};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::stream::{Events, events};
use crate::asked::Named;
use crate::fault::Fault;
use crate::service::{Service, Shared};

/// How often a run is looked at.
const PAUSE: Duration = Duration::from_millis(400);

/// All runs.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct RunsAnswer {
    runs: Vec<RunSummary>,
}

/// A run in a few figures.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct RunSummary {
    name: String,
    /// `running`, `finished`, `interrupted`, `failed`, `died`.
    state: String,
    /// What was trained.
    task: String,
    /// When it was started.
    started: String,
    steps: u64,
    #[serde(skip_serializing_if = "Option::is_none")]
    planned_steps: Option<u64>,
    /// The figures of the best validation.
    best: BTreeMap<String, f64>,
}

/// A run with its curves and samples.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct RunAnswer {
    run: RunSummary,
    points: Vec<RunPoint>,
    samples: Vec<RunSample>,
}

/// A point of a run's curves.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct RunPoint {
    /// `training`, `validation` or `test`.
    kind: &'static str,
    step: u64,
    loss: f64,
    /// Further figures of the task.
    figures: BTreeMap<String, f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    learning_rate: Option<f64>,
    /// Mean norm of the gradient before clipping.
    #[serde(skip_serializing_if = "Option::is_none")]
    gradient_norm: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    tokens_per_second: Option<f64>,
}

/// A sample of a run.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct RunSample {
    step: u64,
    temperature: f64,
    seed_text: String,
    text: String,
}

/// The state of a run.
#[derive(Debug, PartialEq, Serialize, JsonSchema)]
pub(crate) struct RunState {
    state: String,
    /// Whether the run began again: what was sent before is of no use.
    restarted: bool,
}

impl RunPoint {
    fn of(record: &MetricsRecord) -> Self {
        let all = |figures: &lalograph_lab::run::records::Figures| {
            figures.iter().map(|(name, value)| (name.to_owned(), value)).collect()
        };
        let (kind, figures) = match record {
            MetricsRecord::Training { figures, .. } => ("training", figures),
            MetricsRecord::Validation { figures, .. } => ("validation", figures),
            MetricsRecord::Test { figures, .. } => ("test", figures),
        };
        let (mut learning_rate, mut gradient_norm, mut tokens_per_second) = (None, None, None);
        if let MetricsRecord::Training {
            learning_rate: rate,
            gradient_norm: norm,
            tokens_per_second: speed,
            ..
        } = record
        {
            (learning_rate, gradient_norm, tokens_per_second) = (Some(*rate), Some(*norm), Some(*speed));
        }
        Self {
            kind,
            step: record.step(),
            loss: record.loss(),
            figures: all(figures),
            learning_rate,
            gradient_norm,
            tokens_per_second,
        }
    }
}

impl RunSample {
    fn of(record: SampleRecord) -> Self {
        let SampleRecord { step, temperature, seed_text, text, .. } = record;
        Self { step, temperature, seed_text, text }
    }
}

fn summary(run: &RunFolder) -> Option<RunSummary> {
    let history = RunHistory::read(run.clone()).ok()?;
    Some(summary_of(&history))
}

fn summary_of(history: &RunHistory) -> RunSummary {
    let figures = history.best_figures();
    RunSummary {
        name: history.run.name(),
        state: history.standing.name().to_owned(),
        task: history.description.task.clone(),
        started: history.description.started.clone(),
        steps: history.steps(),
        planned_steps: Some(history.description.planned_steps).filter(|&steps| steps > 0),
        best: figures.map_or_else(BTreeMap::new, |figures| {
            figures.iter().map(|(name, value)| (name.to_owned(), value)).collect()
        }),
    }
}

/// The folder of runs, if runs are shown.
fn folder(service: &Service) -> Result<PathBuf, Fault> {
    let none = || Fault::missing("this service shows no runs").with_remedy("start it with --runs DIR");
    service.settings.runs.clone().ok_or_else(none)
}

/// The run of this name: one of those in the folder, whatever the name is.
fn named(folder: &Path, name: &str) -> Result<RunFolder, Fault> {
    let all = RunFolder::all(folder)?;
    all.into_iter()
        .find(|run| run.name() == name)
        .ok_or_else(|| Fault::missing("there is no run of this name"))
}

/// `GET /runs`
pub(crate) async fn runs(State(service): State<Shared>) -> Result<Json<RunsAnswer>, Fault> {
    let folder = folder(&service)?;
    let found = service.pool.run(move |_| Ok(RunFolder::all(&folder)?.iter().filter_map(summary).collect()));
    Ok(Json(RunsAnswer { runs: found.await? }))
}

/// `GET /runs/{name}`
pub(crate) async fn run(State(service): State<Shared>, Named(name): Named) -> Result<Json<RunAnswer>, Fault> {
    let folder = folder(&service)?;
    let found = service.pool.run(move |_| {
        let history = RunHistory::read(named(&folder, &name)?)?;
        Ok(RunAnswer {
            run: summary_of(&history),
            points: history.metrics.iter().map(RunPoint::of).collect(),
            samples: history.samples.into_iter().map(RunSample::of).collect(),
        })
    });
    Ok(Json(found.await?))
}

/// `GET /runs/{name}/events`
pub(crate) async fn run_events(State(service): State<Shared>, Named(name): Named) -> Result<Response, Fault> {
    let folder = folder(&service)?;
    let run = {
        let (folder, name) = (folder.clone(), name.clone());
        service.pool.run(move |_| named(&folder, &name)).await?
    };
    let (events, response) = events();
    let mut stopping = service.stopping.clone();
    tokio::spawn(async move {
        let mut watched = Watched::new(&run);
        loop {
            let looked = tokio::task::spawn_blocking(move || {
                watched.look();
                watched
            });
            watched = match looked.await {
                Ok(watched) => watched,
                Err(_) => return,
            };
            if !watched.send(&events) {
                return;
            }
            tokio::select! {
                () = tokio::time::sleep(PAUSE) => {}
                () = events.gone() => return,
                _ = stopping.changed() => return,
            }
        }
    });
    Ok(response)
}

/// New lines of a file of records.
struct Tail {
    path: PathBuf,
    read: u64,
}

impl Tail {
    /// The whole lines after those that were read before; `None` if the file is another or was cut.
    fn more(&mut self) -> Option<String> {
        let Ok(mut file) = std::fs::File::open(&self.path) else { return Some(String::new()) };
        let length = file.metadata().map_or(0, |meta| meta.len());
        if length < self.read {
            return None;
        }
        let mut bytes = Vec::new();
        let read = file.seek(SeekFrom::Start(self.read)).and_then(|_| file.read_to_end(&mut bytes));
        let whole = bytes.iter().rposition(|&byte| byte == b'\n').map_or(0, |end| end + 1);
        bytes.truncate(if read.is_ok() { whole } else { 0 });
        self.read += bytes.len() as u64;
        Some(String::from_utf8_lossy(&bytes).into_owned())
    }

    fn records<T: for<'de> Deserialize<'de>>(&mut self) -> Option<Vec<T>> {
        Some(self.more()?.lines().filter_map(|line| serde_json::from_str(line).ok()).collect())
    }
}

/// A run that is watched, and what of it has not been sent yet.
struct Watched {
    run: RunFolder,
    metrics: Tail,
    samples: Tail,
    state: Option<String>,
    points: Vec<RunPoint>,
    new_samples: Vec<RunSample>,
    new_state: Option<RunState>,
}

impl Watched {
    fn new(run: &RunFolder) -> Self {
        let tail = |path: PathBuf| Tail { path, read: 0 };
        Self {
            metrics: tail(run.metrics()),
            samples: tail(run.records(SampleRecord::FILE)),
            run: run.clone(),
            state: None,
            points: Vec::new(),
            new_samples: Vec::new(),
            new_state: None,
        }
    }

    /// Reads what is new. The state is read first, so that the end of a run is reported after its last line.
    fn look(&mut self) {
        let standing = self.run.description().map(|description| self.run.standing(description.status));
        let state = standing.map_or("gone", |standing| standing.name()).to_owned();
        let (points, samples) = (self.metrics.records(), self.samples.records());
        let restarted = points.is_none() || samples.is_none();
        if restarted {
            *self = Self::new(&self.run);
        } else {
            self.points
                .extend(points.into_iter().flatten().map(|record: MetricsRecord| RunPoint::of(&record)));
            self.new_samples.extend(samples.into_iter().flatten().map(RunSample::of));
        }
        if restarted || self.state.as_ref() != Some(&state) {
            self.new_state = Some(RunState { state: state.clone(), restarted });
            self.state = Some(state);
        }
    }

    /// Sends what is new; `false` if nobody listens.
    fn send(&mut self, events: &Events) -> bool {
        let mut heard = true;
        for point in self.points.drain(..) {
            heard &= events.send("point", &point);
        }
        for sample in self.new_samples.drain(..) {
            heard &= events.send("sample", &sample);
        }
        if let Some(state) = self.new_state.take() {
            heard &= events.send("state", &state);
        }
        heard && events.is_heard()
    }
}
