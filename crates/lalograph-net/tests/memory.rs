//! What training allocates: nothing after its first steps, and before that what the sizes of lanes say.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::alloc::{GlobalAlloc, Layout, System};
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};

use lalograph_net::Cell;
use lalograph_net::clipping::{Clipping, GradientMeter};
use lalograph_net::dropout::DropoutRates;
use lalograph_net::initial::initial_weights;
use lalograph_net::model::{LanguageModel, LanguageModelShape, Purpose, Regularisation};
use lalograph_net::optimiser::{Optimiser, OptimiserSettings, Rule};
use lalograph_net::output::{Clusters, SoftmaxKind};
use lalograph_net::parameters::PackedWeights;
use lalograph_net::recurrent::Extent;
use lalograph_net::step::{AddLanes, Batch, Draw, Team};

/// Counts what is asked for, on all threads.
struct Counting;

static CALLS: AtomicU64 = AtomicU64::new(0);
static HELD: AtomicU64 = AtomicU64::new(0);

// SAFETY: everything is passed on to the system's allocator.
unsafe impl GlobalAlloc for Counting {
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        CALLS.fetch_add(1, Ordering::Relaxed);
        HELD.fetch_add(layout.size() as u64, Ordering::Relaxed);
        // SAFETY: as the caller promises.
        unsafe { System.alloc(layout) }
    }

    unsafe fn alloc_zeroed(&self, layout: Layout) -> *mut u8 {
        CALLS.fetch_add(1, Ordering::Relaxed);
        HELD.fetch_add(layout.size() as u64, Ordering::Relaxed);
        // SAFETY: as the caller promises.
        unsafe { System.alloc_zeroed(layout) }
    }

    unsafe fn dealloc(&self, pointer: *mut u8, layout: Layout) {
        HELD.fetch_sub(layout.size() as u64, Ordering::Relaxed);
        // SAFETY: as the caller promises.
        unsafe { System.dealloc(pointer, layout) }
    }
}

#[global_allocator]
static ALLOCATOR: Counting = Counting;

/// One test at a time: the counters are everybody's.
static TURN: Mutex<()> = Mutex::new(());

const VOCABULARY: usize = 3000;

fn kinds() -> Vec<(LanguageModelShape, Regularisation, bool)> {
    let none = Regularisation::default();
    let rates = DropoutRates { inputs: 0.1, words: 0.1, layers: 0.1, recurrent: 0.1, output: 0.1 };
    let all = Regularisation {
        dropout: rates,
        activation_penalty: 1.0,
        temporal_penalty: 1.0,
        label_smoothing: 0.1,
    };
    let clusters = SoftmaxKind::Clustered(Clusters { ends: vec![200, 1000], shrink: 2 });
    let of = |cell| LanguageModelShape { layers: 2, ..LanguageModelShape::new(VOCABULARY, 48, 64, cell) };
    vec![
        (of(Cell::Lstm), none, false),
        (LanguageModelShape { layer_norm: true, residual: true, tied: true, ..of(Cell::Lstm) }, all, true),
        (LanguageModelShape { softmax: clusters, learn_first_state: true, ..of(Cell::Gru) }, all, true),
        (LanguageModelShape { softmax: SoftmaxKind::Sampled(300), ..of(Cell::PlainTanh) }, none, false),
        (
            LanguageModelShape { softmax: SoftmaxKind::Sampled(300), tied: true, ..of(Cell::PlainRelu) },
            none,
            true,
        ),
    ]
}

#[test]
fn a_training_step_allocates_nothing_once_it_is_warm() {
    let _turn = TURN.lock().unwrap();
    let pool = rayon::ThreadPoolBuilder::new().num_threads(2).build().unwrap();
    for (shape, regularisation, fresh) in kinds() {
        let name = format!("{shape:?}");
        let calls = pool.install(|| {
            let model = LanguageModel::new(shape).unwrap();
            let extent = Extent { steps: 12, rows: 8 };
            let mut weights: Vec<f32> = initial_weights(model.layout(), 1);
            let mut packed = PackedWeights::new(model.layout(), true);
            let mut team = Team::new(&model, extent, 2, Purpose::Training(regularisation), fresh)
                .sampling_by(&vec![1; VOCABULARY]);
            let mut meter = GradientMeter::new(model.layout());
            let mut optimiser = Optimiser::new(OptimiserSettings::new(Rule::ADAM), model.layout());
            let clipping = Clipping { norm: Some(1.0), value: Some(0.1), ..Clipping::default() };
            let tokens: Vec<u32> = (0..2000).map(|i| i * 7919 % VOCABULARY as u32).collect();
            let begins: Vec<bool> = (0..extent.tokens()).map(|i| i % 13 == 0).collect();
            let mut step = |step: u64| {
                let from = step as usize * 31;
                let batch = Batch {
                    inputs: &tokens[from..from + extent.tokens()],
                    targets: &tokens[from + 8..from + 8 + extent.tokens()],
                    fresh: fresh.then_some(&begins),
                };
                packed.update(model.layout(), &weights);
                team.learn(&model, packed.with(&weights), batch, Draw { seed: 1, step }, &mut AddLanes);
                let clipped = meter.measure(team.gradient(), &clipping);
                optimiser.step(&mut weights, team.gradient(), 0.01, &clipped);
            };
            (0..10).for_each(&mut step);
            let before = CALLS.load(Ordering::Relaxed);
            (10..30).for_each(&mut step);
            CALLS.load(Ordering::Relaxed) - before
        });
        assert_eq!(calls, 0, "{name}");
    }
}

#[test]
fn lanes_hold_what_their_sizes_say() {
    let _turn = TURN.lock().unwrap();
    for (shape, regularisation, fresh) in kinds() {
        let name = format!("{shape:?}");
        let model = LanguageModel::new(shape).unwrap();
        for purpose in [Purpose::Reading, Purpose::Training(regularisation)] {
            let extent = Extent { steps: 40, rows: 16 };
            let before = HELD.load(Ordering::Relaxed);
            let lane = model.lane::<f32>(extent, purpose, fresh);
            let held = (HELD.load(Ordering::Relaxed) - before) as f64;
            let (numbers, _) = model.lane_len(extent, purpose, fresh);
            let said = numbers as f64 * 4.0;
            assert!((held / said - 1.0).abs() < 0.03, "{name} {purpose:?}: {held} held, {said} said");
            drop(lane);
        }
    }
}
