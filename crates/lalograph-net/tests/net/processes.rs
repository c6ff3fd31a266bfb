//! Several processes beside one: the same numbers to the bit. Threads stand for processes, and channels for what is between them.

use lalograph_net::blocks::dropout::DropoutRates;
use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::blocks::regularisation::{LaneUse, Regularisation};
use lalograph_net::heads::clustered::Clusters;
use lalograph_net::heads::softmax::SoftmaxSettings;
use lalograph_net::models::network::{Draw, LaneRoom};
use lalograph_net::step::exchange::{Exchange, GradientSum, OneProcess};
use lalograph_net::step::lanes::Lanes;
use lalograph_net::step::processes::{Link, Processes};
use lalograph_net::step::team::{Read, Team};
use lalograph_net::weights::first_values::first_values;
use lalograph_net::weights::packed::{PackedWeights, Pass};
use lalograph_net::{Cell, LanguageModel, LanguageModelShape, Network};

use crate::channels::Channels;
use crate::common::{Batch, deal};

/// The sums of six steps and the losses, as one process sees them.
fn sums(
    model: &LanguageModel,
    lanes: usize,
    (regularisation, sum): (Regularisation, GradientSum),
    exchange: &mut dyn Exchange<f32>,
) -> Vec<(Vec<f32>, f64, u64)> {
    let layout = model.layout();
    let weights: Vec<f32> = first_values(layout, 7);
    let mut packed = PackedWeights::new(layout, true);
    packed.update(layout, &weights, Pass::Training);
    let extent = Extent { steps: 5, rows: 9 };
    let room = LaneRoom { extent, used_for: LaneUse::Training(regularisation), resets: false };
    let lanes = Lanes::new(extent.rows, lanes);
    exchange.begin(model.dense(), sum);
    let counts = || vec![3; model.shape().vocabulary];
    let mut team = Team::new(model, room, lanes, exchange.rank().lanes(lanes.count()), model.shared(counts));
    (0..6u64)
        .map(|step| {
            let token =
                |at: u64| 4 + ((at * 7919 + step * 31) % (model.shape().vocabulary as u64 - 4)) as u32;
            let inputs: Vec<u32> = (0..45).map(token).collect();
            let targets: Vec<u32> = (3..48).map(token).collect();
            deal(&mut team, Batch { inputs: &inputs, targets: &targets, resets: None });
            let Read { loss, scored, .. } =
                team.learn(model, packed.with(&weights), Draw { seed: 1, step }, exchange);
            (team.gradient().to_vec(), loss.sum, scored)
        })
        .collect()
}

/// The same in so many processes.
fn together(
    model: &LanguageModel,
    lanes: usize,
    how: (Regularisation, GradientSum),
    count: usize,
) -> Vec<Vec<(Vec<f32>, f64, u64)>> {
    std::thread::scope(|scope| {
        let all: Vec<_> = Channels::between(count)
            .into_iter()
            .map(|link| scope.spawn(move || sums(model, lanes, how, &mut Processes::new(link))))
            .collect();
        all.into_iter().map(|thread| thread.join().unwrap()).collect()
    })
}

#[test]
fn sums_in_half_precision_or_any_order_are_close_and_the_same_in_every_process() {
    let model = LanguageModel::new(LanguageModelShape::new(41, 64, 161, Cell::Lstm)).unwrap();
    let some = Regularisation::default();
    let one = sums(&model, 4, (some, GradientSum::Ordered), &mut OneProcess::default());
    for (sum, most) in [(GradientSum::Half, 2e-2), (GradientSum::Unordered, 1e-5)] {
        // Alone, a process has nothing to send.
        assert!(together(&model, 4, (some, sum), 1)[0] == one, "{sum:?}");
        for count in 2..=4 {
            let found = together(&model, 4, (some, sum), count);
            assert!(found.iter().all(|other| *other == found[0]), "{sum:?}: processes differ");
            for (found, one) in found[0].iter().zip(&one) {
                let square = |numbers: &mut dyn Iterator<Item = f32>| {
                    numbers.map(|x| f64::from(x).powi(2)).sum::<f64>()
                };
                let away = square(&mut found.0.iter().zip(&one.0).map(|(a, b)| a - b));
                let share = (away / square(&mut one.0.iter().copied())).sqrt();
                assert!(share < most && (share > 0.0 || count == 2), "{sum:?}, {count} processes: {share}");
                assert_eq!((found.1, found.2), (one.1, one.2));
            }
        }
    }
}

#[test]
fn one_process_or_many_compute_the_same_bits() {
    let dropout = DropoutRates { inputs: 0.1, words: 0.1, layers: 0.1, recurrent: 0.1, output: 0.1 };
    let some =
        Regularisation { dropout, activation_penalty: 0.1, temporal_penalty: 0.1, label_smoothing: 0.0 };
    let clusters = SoftmaxSettings::clustered(Clusters { ends: vec![8], shrink: 2 });
    for (cell, softmax, tied, widths) in [
        (Cell::Lstm, SoftmaxSettings::full(), false, (12, 16)),
        (Cell::Gru, SoftmaxSettings::full(), true, (12, 12)),
        (Cell::PlainTanh, clusters.clone(), false, (8, 16)),
        (Cell::Lstm, SoftmaxSettings::sampled(15), true, (12, 16)),
        // Several pieces of the dense gradient.
        (Cell::Lstm, SoftmaxSettings::sampled(15), false, (64, 160)),
        // So many that they are added up while the lanes compute.
        (Cell::Gru, SoftmaxSettings::full(), false, (40, 200)),
        (Cell::PlainTanh, SoftmaxSettings::full(), true, (300, 300)),
        (Cell::PlainTanh, clusters, false, (40, 400)),
        (Cell::Lstm, SoftmaxSettings::sampled(15), true, (40, 190)),
    ] {
        let layers = if widths.1 > 160 { 2 } else { 1 };
        let small = LanguageModelShape::new(41, widths.0, widths.1, cell);
        let shape = LanguageModelShape { softmax, tied, layers, ..small };
        let model = LanguageModel::new(shape).unwrap();
        for lanes in [4, 9] {
            let how = (some, GradientSum::Ordered);
            let one = sums(&model, lanes, how, &mut OneProcess::default());
            for count in 1..=4 {
                let found = together(&model, lanes, how, count);
                for (rank, found) in found.iter().enumerate() {
                    assert!(*found == one, "{cell:?}, {lanes} lanes, process {rank} of {count}");
                }
            }
        }
    }
}

#[test]
fn whoever_wants_to_stop_stops_all() {
    for stopping in [None, Some(0), Some(2)] {
        std::thread::scope(|scope| {
            for link in Channels::between(3) {
                scope.spawn(move || {
                    let rank = link.rank();
                    let mut exchange: Processes<_, f32> = Processes::new(link);
                    assert_eq!(exchange.agree(stopping == Some(rank)), stopping.is_some());
                    assert_eq!(exchange.counted([rank as u64 + 1, 1], 1), [6, 3]);
                });
            }
        });
    }
}
