//! What training allocates: nothing after its first steps, and before that what lanes state.

use std::alloc::{GlobalAlloc, Layout, System};
use std::cell::Cell as Flag;
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};

use lalograph_net::blocks::dropout::DropoutRates;
use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::blocks::regularisation::{LaneUse, Regularisation};
use lalograph_net::heads::clustered::Clusters;
use lalograph_net::heads::softmax::SoftmaxSettings;
use lalograph_net::learning::clipping::{Clipping, GradientMeter};
use lalograph_net::learning::optimiser::{Optimiser, OptimiserSettings, Rule};
use lalograph_net::models::network::{Draw, LaneRoom};
use lalograph_net::numbers::rooms::Rooms;
use lalograph_net::step::exchange::OneProcess;
use lalograph_net::weights::first_values::first_values;
use lalograph_net::weights::packed::{PackedWeights, Pass};
use lalograph_net::{Cell, LanguageModel, LanguageModelShape, Network};

use crate::common::{Batch, deal, team};

/// Counts what is asked for, on the threads that say so: other tests run beside these.
struct Counting;

thread_local! {
    static COUNTED: Flag<bool> = const { Flag::new(false) };
}

fn count(calls: u64, bytes: u64) {
    if COUNTED.try_with(Flag::get).unwrap_or(false) {
        CALLS.fetch_add(calls, Ordering::Relaxed);
        HELD.fetch_add(bytes, Ordering::Relaxed);
    }
}

static CALLS: AtomicU64 = AtomicU64::new(0);
static HELD: AtomicU64 = AtomicU64::new(0);

// SAFETY: everything is passed on to the system's allocator.
unsafe impl GlobalAlloc for Counting {
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        count(1, layout.size() as u64);
        // SAFETY: as the caller promises.
        unsafe { System.alloc(layout) }
    }

    unsafe fn alloc_zeroed(&self, layout: Layout) -> *mut u8 {
        count(1, layout.size() as u64);
        // SAFETY: as the caller promises.
        unsafe { System.alloc_zeroed(layout) }
    }

    unsafe fn dealloc(&self, pointer: *mut u8, layout: Layout) {
        count(0, (layout.size() as u64).wrapping_neg());
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
    let clusters = SoftmaxSettings::clustered(Clusters { ends: vec![200, 1000], shrink: 2 });
    let of = |cell| LanguageModelShape { layers: 2, ..LanguageModelShape::new(VOCABULARY, 48, 64, cell) };
    vec![
        (of(Cell::Lstm), none, false),
        (LanguageModelShape { layer_norm: true, residual: true, tied: true, ..of(Cell::Lstm) }, all, true),
        (LanguageModelShape { softmax: clusters, learn_first_state: true, ..of(Cell::Gru) }, all, true),
        (LanguageModelShape { softmax: SoftmaxSettings::sampled(300), ..of(Cell::PlainTanh) }, none, false),
        (
            LanguageModelShape { softmax: SoftmaxSettings::sampled(300), tied: true, ..of(Cell::PlainRelu) },
            none,
            true,
        ),
    ]
}

#[test]
fn a_training_step_allocates_nothing_once_it_is_warm() {
    let _turn = TURN.lock().unwrap();
    let pool =
        rayon::ThreadPoolBuilder::new().num_threads(2).start_handler(|_| COUNTED.set(true)).build().unwrap();
    for (shape, regularisation, resets) in kinds() {
        let name = format!("{shape:?}");
        let calls = pool.install(|| {
            let model = LanguageModel::new(shape).unwrap();
            let extent = Extent { steps: 12, rows: 8 };
            let mut weights: Vec<f32> = first_values(model.layout(), 1);
            let mut packed = PackedWeights::new(model.layout(), true);
            let mut team = team::<f32>(&model, extent, 2, LaneUse::Training(regularisation), resets);
            let mut exchange = OneProcess::default();
            let mut meter = GradientMeter::new(model.layout());
            let mut optimiser = Optimiser::new(OptimiserSettings::new(Rule::Adam), model.layout());
            let clipping = Clipping { norm: Some(1.0), value: Some(0.1), ..Clipping::default() };
            let tokens: Vec<u32> = (0..2000).map(|i| i * 7919 % VOCABULARY as u32).collect();
            let begins: Vec<bool> = (0..extent.tokens()).map(|i| i % 13 == 0).collect();
            let mut step = |step: u64| {
                let from = step as usize * 31;
                let batch = Batch {
                    inputs: &tokens[from..from + extent.tokens()],
                    targets: &tokens[from + 8..from + 8 + extent.tokens()],
                    resets: resets.then_some(&begins),
                };
                packed.update(model.layout(), &weights, Pass::Training);
                deal(&mut team, batch);
                team.learn(&model, packed.with(&weights), Draw { seed: 1, step }, &mut exchange);
                let clipped = meter.measure(team.gradient(), &clipping);
                optimiser.step(&mut weights, team.gradient(), 0.01, clipped);
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
fn lanes_hold_their_stated_bytes() {
    let _turn = TURN.lock().unwrap();
    for (shape, regularisation, resets) in kinds() {
        let name = format!("{shape:?}");
        let model = LanguageModel::new(shape).unwrap();
        for used_for in [LaneUse::Reading, LaneUse::Training(regularisation)] {
            let room = LaneRoom { extent: Extent { steps: 40, rows: 16 }, used_for, resets };
            COUNTED.set(true);
            let before = HELD.load(Ordering::Relaxed);
            let lane = model.lane::<f32>(room, &mut Rooms::making());
            let gradient = model.gradient::<f32>(room, model.dense(), &mut Rooms::making());
            let held = HELD.load(Ordering::Relaxed).wrapping_sub(before) as f64;
            COUNTED.set(false);
            let stated = model.lane_bytes(room).iter().sum::<usize>() as f64;
            assert!((held / stated - 1.0).abs() < 0.01, "{name} {used_for:?}: {held} held, {stated} stated");
            drop((lane, gradient));
        }
    }
}
