//! Measures what it gains that dense gradients are added up between processes while the layers still compute theirs: two threads stand for processes, and a
//! link of a stated speed, which takes no time of a processor, for the network between them.
//!
//! `cargo run --release -p lalograph-net --example overlap`

use std::ops::Range;
use std::time::{Duration, Instant};

use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::blocks::regularisation::{LaneUse, Regularisation};
use lalograph_net::heads::loss::Loss;
use lalograph_net::models::network::{Draw, LaneRoom};
use lalograph_net::step::exchange::{Exchange, GradientSum, Rank};
use lalograph_net::step::lanes::Lanes;
use lalograph_net::step::processes::{Link, Processes};
use lalograph_net::step::team::Team;
use lalograph_net::weights::first_values::first_values;
use lalograph_net::weights::gradient::LaneGradient;
use lalograph_net::weights::packed::{PackedWeights, Pass};
use lalograph_net::{Cell, LanguageModel, LanguageModelShape, Network};

#[path = "../tests/net/channels.rs"]
#[allow(clippy::unwrap_used, reason = "the channels of the tests")]
mod channels;

use channels::Channels;

/// Seconds until the first byte of a message arrives.
const LATENCY: f64 = 50e-6;

/// A link whose messages take as long as on a network of so many bytes a second, both ways at once.
#[derive(Debug)]
struct Slowed {
    link: Channels,
    bytes_per_second: f64,
}

impl Link for Slowed {
    fn rank(&self) -> usize {
        self.link.rank()
    }

    fn count(&self) -> usize {
        self.link.count()
    }

    fn swap(&mut self, out: &[(usize, &[u8])], into: &mut [(usize, &mut [u8])]) {
        let sent: usize = out.iter().map(|(_, bytes)| bytes.len()).sum();
        let received: usize = into.iter().map(|(_, bytes)| bytes.len()).sum();
        self.link.swap(out, into);
        let seconds = LATENCY + sent.max(received) as f64 / self.bytes_per_second;
        std::thread::sleep(Duration::from_secs_f64(seconds));
    }

    fn add_up(&mut self, numbers: &mut [f32]) {
        self.link.add_up(numbers);
    }
}

/// An exchange that begins when all lanes have ended.
#[derive(Debug)]
struct Afterwards(Processes<Slowed, f32>);

impl Exchange<f32> for Afterwards {
    fn begin(&mut self, dense: Range<usize>, sum: GradientSum) {
        self.0.begin(dense, sum);
    }

    fn leave_rows(&mut self, table: Range<usize>) {
        self.0.leave_rows(table);
    }

    fn rank(&self) -> Rank {
        self.0.rank()
    }

    fn counted(&mut self, here: [u64; 2], lanes: usize) -> [u64; 2] {
        Exchange::<f32>::counted(&mut self.0, here, lanes)
    }

    fn sum(&mut self, gradients: &mut [LaneGradient<f32>], losses: &[Loss]) -> Loss {
        self.0.sum(gradients, losses)
    }
}

/// Seconds of a step of two lanes, in the median of seven. A lane for each thread: of several lanes one after another, only the last can wait for the network.
fn step(model: &LanguageModel, extent: Extent, exchange: &mut dyn Exchange<f32>) -> f64 {
    let layout = model.layout();
    let weights: Vec<f32> = first_values(layout, 7);
    let mut packed = PackedWeights::new(layout, true);
    packed.update(layout, &weights, Pass::Training);
    let room = LaneRoom { extent, used_for: LaneUse::Training(Regularisation::default()), resets: false };
    let lanes = Lanes::new(extent.rows, 2);
    exchange.begin(model.dense(), GradientSum::Ordered);
    let here = exchange.rank().lanes(lanes.count());
    let mut team = Team::new(model, room, lanes, here, model.shared(Vec::new));
    for (rows, window) in team.windows_mut() {
        let tokens = extent.steps * rows.len();
        window.inputs = (0..tokens).map(|at| (at * 7919 % model.shape().vocabulary) as u32).collect();
        window.targets.clone_from(&window.inputs);
    }
    let mut times: Vec<f64> = (0..8)
        .map(|step| {
            let start = Instant::now();
            team.learn(model, packed.with(&weights), Draw { seed: 1, step }, exchange);
            start.elapsed().as_secs_f64()
        })
        .skip(1)
        .collect();
    times.sort_by(f64::total_cmp);
    times[times.len() / 2]
}

/// The same in two processes of one thread.
fn two(model: &LanguageModel, extent: Extent, gigabits: f64, overlaps: bool) -> f64 {
    std::thread::scope(|scope| {
        let all = Channels::between(2).into_iter().map(|link| {
            scope.spawn(move || {
                let together = Processes::new(Slowed { link, bytes_per_second: gigabits * 1e9 / 8.0 });
                let mut exchange: Box<dyn Exchange<f32>> =
                    if overlaps { Box::new(together) } else { Box::new(Afterwards(together)) };
                let pool = rayon::ThreadPoolBuilder::new().num_threads(1).build();
                pool.map(|pool| pool.install(|| step(model, extent, exchange.as_mut())))
            })
        });
        let all: Vec<_> = all.collect();
        let times = all.into_iter().map(|thread| thread.join().ok().and_then(Result::ok).unwrap_or(f64::NAN));
        times.fold(0.0, f64::max)
    })
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    for (name, shape, extent) in [
        ("GRU 2 x 256, 10,000 words", (256, Cell::Gru, 2), Extent { steps: 35, rows: 32 }),
        ("LSTM 2 x 512, 10,000 words", (512, Cell::Lstm, 2), Extent { steps: 35, rows: 64 }),
    ] {
        let (width, cell, layers) = shape;
        let shape = LanguageModelShape { layers, ..LanguageModelShape::new(10_000, width, width, cell) };
        let model = LanguageModel::new(shape)?;
        for gigabits in [1.0, 10.0] {
            for round in 1..=3 {
                let [after, meanwhile] =
                    [false, true].map(|overlaps| two(&model, extent, gigabits, overlaps));
                println!(
                    "{name}, {gigabits} Gb/s, round {round}: a step {:.0} ms, {:.0} ms with the exchange meanwhile: {:.2} times as quick",
                    1e3 * after,
                    1e3 * meanwhile,
                    after / meanwhile
                );
            }
        }
    }
    Ok(())
}
