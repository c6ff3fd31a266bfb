//! A second task that the laboratory has never heard of: does a line hold a certain token an odd number of times? It brings a network, its
//! data and its figures, all in this file, and is trained, checkpointed, killed, resumed and read back like any other.

use std::ops::{ControlFlow, Range};
use std::path::Path;
use std::process::{Command, Stdio};

use lalograph_lab::artefact::container::Assets;
use lalograph_lab::data::source::Windows;
use lalograph_lab::run::description::{RunDescription, RunStatus, TextFacts};
use lalograph_lab::run::history::RunHistory;
use lalograph_lab::run::records::{Evaluation, Figures, MetricsRecord};
use lalograph_lab::run::shelf;
use lalograph_lab::task::{Duty, Evaluator, Moment, Note, Startable, Task};
use lalograph_lab::training::resume::{Changes, Resumable};
use lalograph_lab::training::run_loop::train;
use lalograph_lab::{LabError, Plan, RunFolder, Running, TrainingEvent};
use lalograph_net::blocks::embedding;
use lalograph_net::blocks::recurrent::start::StartingValues;
use lalograph_net::blocks::recurrent::window::{Extent, Window};
use lalograph_net::blocks::regularisation::LaneUse;
use lalograph_net::blocks::stack::{Penalties, Stack, StackRoom, StackShape, StackTape};
use lalograph_net::heads::loss::Loss;
use lalograph_net::heads::table::Table;
use lalograph_net::models::network::{Draw, LaneRoom, LaneStep};
use lalograph_net::numbers::chance::stream;
use lalograph_net::numbers::rooms::Rooms;
use lalograph_net::products::pack::Workspace;
use lalograph_net::step::exchange::{Exchange, Rank};
use lalograph_net::weights::gradient::{GradientParts, LaneGradient};
use lalograph_net::weights::layout::Initial;
use lalograph_net::weights::packed::Parameters;
use lalograph_net::{Cell, Layout, Network, Real};
use lalograph_storage::{Disk, Existing};
use rand::RngExt;
use rand::seq::SliceRandom;
use serde::{Deserialize, Serialize};

const TOKENS: usize = 4;
const COUNTED: u32 = 2;
const LONGEST: usize = 9;
const WIDTH: usize = 6;
const HIDDEN: usize = 10;

/// Lines side by side, step-major and padded at their ends; where each ends, and whether its count is odd.
#[derive(Default)]
struct Lines {
    inputs: Vec<u32>,
    last: Vec<usize>,
    odd: Vec<u32>,
}

/// Embedding, a recurrent layer, and two outcomes from its state after the last token.
struct OddNetwork {
    layout: Layout,
    embedding: Range<usize>,
    stack: Stack,
    head: Table,
}

struct OddLane<T> {
    extent: Extent,
    embedded: Vec<T>,
    tape: StackTape<T>,
    states: Vec<Vec<T>>,
    top: Vec<T>,
    d_top: Vec<T>,
    scores: Vec<T>,
    losses: Vec<f64>,
    work: Workspace<T>,
    d_outputs: Vec<T>,
    d_inputs: Vec<T>,
}

impl OddNetwork {
    fn new(cell: Cell) -> Self {
        let mut layout = Layout::default();
        let group = layout.group("everything");
        let start = StartingValues::default_for(cell);
        let embedding = layout.push("embedding", &[TOKENS, WIDTH], group, Initial::Uniform(1.0));
        let shape = StackShape {
            cell,
            inputs: WIDTH,
            hidden: HIDDEN,
            layers: 1,
            both_directions: false,
            layer_norm: false,
            residual: false,
            learn_first_state: false,
            start,
        };
        let stack = Stack::new(&mut layout, group, shape);
        let head = Table::new(&mut layout, "outcome", group, (HIDDEN, 2), &[], start);
        Self { layout, embedding, stack, head }
    }

    /// Reads lines and leaves the state after the last token of each in the lane.
    fn read<T: Real>(&self, weights: Parameters<'_, T>, lines: &Lines, lane: &mut OddLane<T>) {
        let rows = lane.extent.rows;
        self.stack.begin(weights, rows, &mut lane.states);
        embedding::forward(weights.part(&self.embedding), WIDTH, &lines.inputs, &mut lane.embedded);
        let window = Window { extent: lane.extent, resets: None };
        let OddLane { embedded, states, tape, work, .. } = lane;
        self.stack.forward(weights, window, embedded, states, tape, work, None);
        let outputs = self.stack.outputs(lane.extent, &lane.tape);
        for (row, (top, &last)) in lane.top.chunks_exact_mut(HIDDEN).zip(&lines.last).enumerate() {
            top.copy_from_slice(&outputs[(last * rows + row) * HIDDEN..][..HIDDEN]);
        }
    }

    /// How many lines are reported right.
    fn right(&self, weights: Parameters<'_, f32>, lines: &Lines, lane: &mut OddLane<f32>) -> usize {
        self.read(weights, lines, lane);
        let scores = &mut lane.scores[..lines.odd.len() * 2];
        self.head.scores(weights, &lane.top, scores, &mut lane.work);
        scores.chunks_exact(2).zip(&lines.odd).filter(|(s, odd)| u32::from(s[1] > s[0]) == **odd).count()
    }
}

impl Network for OddNetwork {
    type Window = Lines;
    type Lane<T: Real> = OddLane<T>;
    type Shared<T: Real> = ();

    fn layout(&self) -> &Layout {
        &self.layout
    }

    fn dense(&self) -> Range<usize> {
        0..self.layout.len()
    }

    fn lane<T: Real>(&self, room: LaneRoom, rooms: &mut Rooms) -> OddLane<T> {
        let (extent, training) = (room.extent, room.used_for.is_training());
        let stack = StackRoom { extent, training, resets: false, dropout: false, recurrent_dropout: false };
        OddLane {
            extent,
            embedded: rooms.zeros(extent.tokens() * WIDTH),
            tape: self.stack.tape(stack, rooms),
            states: self.stack.states(extent.rows, rooms),
            top: rooms.zeros(extent.rows * HIDDEN),
            d_top: rooms.zeros(extent.rows * HIDDEN),
            scores: rooms.zeros(self.head.scratch_len(extent.rows)),
            losses: rooms.zeros(extent.rows),
            work: Workspace::within(rooms),
            d_outputs: rooms.zeros_if(training, extent.tokens() * HIDDEN),
            d_inputs: rooms.zeros_if(training, extent.tokens() * HIDDEN),
        }
    }

    fn gradient<T: Real>(&self, room: LaneRoom, dense: Range<usize>, rooms: &mut Rooms) -> LaneGradient<T> {
        let dense = if room.used_for.is_training() { dense } else { 0..0 };
        LaneGradient::within(rooms, dense, Vec::new())
    }

    fn draw<T: Real>(&self, (): &mut (), _: Draw) {}

    fn scored(&self, lines: &Lines) -> u64 {
        lines.odd.len() as u64
    }

    fn begin<T: Real>(&self, weights: Parameters<'_, T>, lane: &mut OddLane<T>) {
        self.stack.begin(weights, lane.extent.rows, &mut lane.states);
    }

    fn loss<T: Real>(&self, weights: Parameters<'_, T>, lines: &Lines, lane: &mut OddLane<T>) -> f64 {
        self.read(weights, lines, lane);
        let OddLane { top, scores, losses, work, .. } = lane;
        losses.fill(0.0);
        self.head.losses(weights, top, &lines.odd, scores, losses, work);
        losses.iter().sum()
    }

    fn learn<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        lines: &Lines,
        step: LaneStep,
        (): &(),
        lane: &mut OddLane<T>,
        gradient: &mut GradientParts<'_, T>,
    ) -> Loss {
        self.read(weights, lines, lane);
        let rows = lane.extent.rows;
        let gradient = &mut gradient.dense;
        let OddLane { embedded, tape, top, d_top, scores, losses, work, d_outputs, d_inputs, .. } = lane;
        losses.fill(0.0);
        let scale = T::of(step.scale);
        self.head.learn(weights, top, &lines.odd, scale, 0.0, scores, gradient, d_top, losses, work);
        d_outputs.fill(T::ZERO);
        for (row, (d, &last)) in d_top.chunks_exact(HIDDEN).zip(&lines.last).enumerate() {
            d_outputs[(last * rows + row) * HIDDEN..][..HIDDEN].copy_from_slice(d);
        }
        let window = Window { extent: lane.extent, resets: None };
        let none = Penalties::default();
        self.stack.backward(weights, window, embedded, none, d_outputs, d_inputs, tape, gradient, work);
        let table = gradient.part(&self.embedding);
        table.fill(T::ZERO);
        embedding::backward(table, WIDTH, &lines.inputs, &d_outputs[..lines.inputs.len() * WIDTH]);
        Loss { sum: losses.iter().sum(), ..Loss::default() }
    }

    fn state_widths(&self) -> Vec<usize> {
        self.stack.state_widths()
    }

    fn states<'l, T: Real>(&self, lane: &'l OddLane<T>) -> &'l [Vec<T>] {
        &lane.states
    }

    fn states_mut<'l, T: Real>(&self, lane: &'l mut OddLane<T>) -> &'l mut [Vec<T>] {
        &mut lane.states
    }
}

type Line = (Vec<u32>, u32);

/// Some lines, and whether the counted token comes an odd number of times.
fn lines(seed: u64, count: usize) -> Vec<Line> {
    let mut random = stream(seed, "lines", &[]);
    let mut line = || {
        let length = random.random_range(1..=LONGEST);
        let tokens: Vec<u32> = (0..length).map(|_| random.random_range(0..TOKENS as u32)).collect();
        let odd = tokens.iter().filter(|&&token| token == COUNTED).count() as u32 % 2;
        (tokens, odd)
    };
    (0..count).map(|_| line()).collect()
}

fn put<'a>(chosen: impl Iterator<Item = &'a Line> + Clone, to: &mut Lines) {
    to.inputs.clear();
    for step in 0..LONGEST {
        to.inputs.extend(chosen.clone().map(|(tokens, _)| tokens.get(step).copied().unwrap_or(0)));
    }
    to.last = chosen.clone().map(|(tokens, _)| tokens.len() - 1).collect();
    to.odd = chosen.map(|(_, odd)| *odd).collect();
}

/// All lines in an order of its own each epoch.
struct Shuffled<'t> {
    lines: &'t [Line],
    batch: usize,
}

impl Windows<Lines> for Shuffled<'_> {
    fn count(&self) -> usize {
        self.lines.len() / self.batch
    }

    fn extent(&self) -> Extent {
        Extent { steps: LONGEST, rows: self.batch }
    }

    fn resets(&self) -> bool {
        false
    }

    fn fill(
        &mut self,
        epoch: u64,
        index: usize,
        lanes: &mut dyn Iterator<Item = (Range<usize>, &mut Lines)>,
    ) -> Result<(), LabError> {
        let mut order: Vec<usize> = (0..self.lines.len()).collect();
        order.shuffle(&mut stream(1, "line order", &[epoch]));
        let batch = &order[index * self.batch..(index + 1) * self.batch];
        for (rows, to) in lanes {
            put(batch[rows].iter().map(|&line| &self.lines[line]), to);
        }
        Ok(())
    }

    fn go_to(&mut self, _: u64, _: usize) {}
}

struct HeldOut {
    lines: Lines,
    lane: OddLane<f32>,
}

impl Evaluator<OddNetwork> for HeldOut {
    fn evaluate(
        &mut self,
        net: &OddNetwork,
        weights: Parameters<'_, f32>,
        _: &mut dyn Exchange<f32>,
        progress: &mut dyn FnMut(f64) -> bool,
    ) -> Result<Option<Evaluation>, LabError> {
        let count = self.lines.odd.len() as f64;
        let loss = net.loss(weights, &self.lines, &mut self.lane) / count;
        let accuracy = net.right(weights, &self.lines, &mut self.lane) as f64 / count;
        Ok(progress(1.0).then(|| Evaluation { loss, figures: Figures::of([("accuracy", accuracy)]) }))
    }
}

/// The largest weight now and then.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
struct Largest {
    step: u64,
    weight: f32,
}

impl Note for Largest {}

struct LargestDuty;

impl Duty<OddTask> for LargestDuty {
    fn name(&self) -> &'static str {
        "largest"
    }

    fn is_due(&self, step: u64, over: bool) -> bool {
        over || step.is_multiple_of(30)
    }

    fn perform(&mut self, moment: Moment<'_, '_, OddNetwork>) -> Result<Option<Vec<Largest>>, LabError> {
        let weight = moment.trainer.settled().iter().fold(0.0f32, |most, w| most.max(w.abs()));
        Ok(Some(vec![Largest { step: moment.trainer.step(), weight }]))
    }
}

struct OddTask {
    plan: Plan,
    net: OddNetwork,
    training: Vec<Line>,
    held_out: Vec<Line>,
}

impl OddTask {
    fn new(settings: &[&str]) -> Self {
        let base = [
            "training.steps=1500",
            "training.batch=16",
            "training.learning_rate=0.02",
            "training.validate_every=100",
            "checkpoints.every=70",
        ];
        let plan = Plan::with_settings(&[&base[..], settings].concat()).unwrap();
        let net = OddNetwork::new(plan.model.cell);
        Self { plan, net, training: lines(1, 800), held_out: lines(2, 200) }
    }

    fn begin(&self, parent: &Path, name: &str) -> Running {
        let description =
            RunDescription { name: name.into(), task: Self::KIND.into(), ..RunDescription::default() };
        let (run, claim, description) =
            shelf::create(&Disk, parent, &self.plan, description, &[], Existing::Keep).unwrap();
        Running::new(run, claim, description)
    }
}

impl Startable for OddTask {
    fn check_start(&self) -> Result<(), LabError> {
        Ok(())
    }
}

impl Task for OddTask {
    type Net = OddNetwork;
    type Note = Largest;

    const KIND: &'static str = "odd counts";

    fn plan(&self) -> &Plan {
        &self.plan
    }

    fn net(&self) -> &OddNetwork {
        &self.net
    }

    fn steps(&self) -> u64 {
        self.plan.training.steps.unwrap()
    }

    fn facts(&self) -> TextFacts {
        TextFacts { steps_per_epoch: self.windows().count() as u64, ..TextFacts::default() }
    }

    fn windows(&self) -> Box<dyn Windows<Lines> + '_> {
        Box::new(Shuffled { lines: &self.training, batch: self.plan.training.batch })
    }

    fn shared(&self) {}

    fn start(&self, _: &mut [f32]) -> Result<(), LabError> {
        Ok(())
    }

    fn validation(&self, _: Rank) -> Option<Box<dyn Evaluator<OddNetwork> + '_>> {
        let mut lines = Lines::default();
        put(self.held_out.iter(), &mut lines);
        let extent = Extent { steps: LONGEST, rows: self.held_out.len() };
        let room = LaneRoom { extent, used_for: LaneUse::Reading, resets: false };
        Some(Box::new(HeldOut { lines, lane: self.net.lane(room, &mut Rooms::making()) }))
    }

    fn test(&self, _: Rank) -> Option<Box<dyn Evaluator<OddNetwork> + '_>> {
        None
    }

    fn duties(&self) -> Vec<Box<dyn Duty<Self> + '_>> {
        vec![Box::new(LargestDuty)]
    }

    fn training_figures(&self, _: f64, _: f64) -> Figures {
        Figures::default()
    }

    fn assets(&self) -> Result<Assets, LabError> {
        Ok(Assets::from([("task", Self::KIND.to_owned()), ("plan", self.plan.to_toml()?)]))
    }
}

fn quiet(_: &TrainingEvent<'_, Largest>) -> ControlFlow<()> {
    ControlFlow::Continue(())
}

/// What a run leaves, but for times.
fn left(run: &RunFolder) -> (Vec<u8>, Vec<(u64, f64)>, String) {
    let history = RunHistory::read(run.clone()).unwrap();
    let metrics = history.metrics.iter().map(|record| (record.step(), record.loss())).collect();
    let largest = std::fs::read_to_string(run.records("largest")).unwrap();
    (std::fs::read(run.model()).unwrap(), metrics, largest)
}

#[test]
fn it_learns_and_is_read_back() {
    let folder = tempfile::tempdir().unwrap();
    let task = OddTask::new(&[]);
    let running = task.begin(folder.path(), "odd");
    let run = running.run.clone();
    let outcome = train(&task, running, 2, &mut quiet).unwrap();
    assert_eq!((outcome.status, outcome.steps), (RunStatus::Finished, 1500));
    let found = outcome.validation.clone().unwrap();
    assert!(found.figure("accuracy").unwrap() > 0.95, "{found:?}");
    let history = RunHistory::read(run).unwrap();
    assert_eq!((history.description.task.as_str(), history.steps()), ("odd counts", 1500));
    let validations =
        history.metrics.iter().filter(|record| matches!(record, MetricsRecord::Validation { .. }));
    assert_eq!(validations.filter(|record| record.figure("accuracy").is_some()).count(), 15);
    assert_eq!(history.hints(), outcome.hints, "hints about any training are read off the records");
    // A language model's reader says what it is.
    let error = lalograph_lab::ModelFile::load(&history.run.model()).err().unwrap().to_string();
    assert!(error.contains("another task: odd counts"), "{error}");
}

const FOLDER: &str = "LALOGRAPH_TEST_FOLDER";

#[test]
#[ignore = "the process that the test below kills"]
fn trains_until_it_is_killed() {
    if let Some(folder) = std::env::var_os(FOLDER) {
        let task = OddTask::new(&[]);
        let running = task.begin(Path::new(&folder), "killed");
        let _ = train(&task, running, 1, &mut |_: &TrainingEvent<'_, Largest>| {
            std::thread::sleep(std::time::Duration::from_micros(300));
            ControlFlow::Continue(())
        });
    }
}

#[test]
fn killed_at_any_time_it_ends_as_if_it_had_not_been() {
    let folder = tempfile::tempdir().unwrap();
    let task = OddTask::new(&[]);
    let running = task.begin(folder.path(), "whole");
    let whole = running.run.clone();
    train(&task, running, 3, &mut quiet).unwrap();
    let expected = left(&whole);
    let mut interrupted = 0;
    for milliseconds in [40, 150, 300] {
        let path = folder.path().join("killed");
        let mut child = Command::new(std::env::current_exe().unwrap())
            .args(["--exact", "second_task::trains_until_it_is_killed", "--ignored"])
            .env(FOLDER, folder.path())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        // From the first whole checkpoint on, at another time each: a slow disk may leave a half-written file for long.
        let some = |folder: &Path| {
            lalograph_lab::artefact::checkpoint::checkpoints(folder).is_ok_and(|files| !files.is_empty())
        };
        while !some(&path.join("checkpoints")) && child.try_wait().unwrap().is_none() {
            std::thread::sleep(std::time::Duration::from_millis(2));
        }
        std::thread::sleep(std::time::Duration::from_millis(milliseconds));
        child.kill().unwrap();
        child.wait().unwrap();
        let run = RunFolder::open(&path).unwrap();
        if run.description().unwrap().status == RunStatus::Running {
            interrupted += 1;
            let resumable = Resumable::open(&Disk, &path, &Changes::default(), false).unwrap();
            let running = resumable.running(&task, "later".into(), |error| panic!("{error}")).unwrap();
            assert!(running.from.is_some());
            train(&task, running, 1, &mut quiet).unwrap();
        }
        assert!(left(&run) == expected, "killed after {milliseconds} ms");
        shelf::remove(&Disk, &run).unwrap();
    }
    assert!(interrupted > 0, "none was killed before its end");
}
