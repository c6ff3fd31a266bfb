//! Measures what is between the processes that a launcher starts: the time of a short message, bytes a second, and sums in the order of the lanes beside
//! those of the message passing library.
//!
//! `cargo build --release -p lalograph-parallel --features mpi --example sums && mpirun -n 2 target/release/examples/sums`

use std::time::Instant;

use lalograph_net::heads::loss::Loss;
use lalograph_net::step::exchange::{Exchange, GradientSum};
use lalograph_net::step::processes::{Link, Processes};
use lalograph_net::weights::gradient::LaneGradient;
use lalograph_parallel::Messages;

/// Seconds of one of many repetitions, in the median of five rounds.
fn seconds(repetitions: usize, mut work: impl FnMut()) -> f64 {
    let mut rounds: Vec<f64> = (0..5)
        .map(|_| {
            let start = Instant::now();
            (0..repetitions).for_each(|_| work());
            start.elapsed().as_secs_f64() / repetitions as f64
        })
        .collect();
    rounds.sort_by(f64::total_cmp);
    rounds[2]
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let (meeting, mut messages) = Messages::meet(|gone| {
        eprintln!("process {gone} is gone");
        #[expect(clippy::disallowed_methods, reason = "the others can no longer be reached")]
        std::process::exit(1);
    })?;
    let (rank, count) = (messages.rank(), messages.count());
    let pool = rayon::ThreadPoolBuilder::new().num_threads(1).build()?;
    // Process 0 sends to the last one, which sends back.
    let partner =
        [count - 1, 0].into_iter().find(|&other| other != rank).filter(|_| rank == 0 || rank + 1 == count);
    for bytes in [8usize, 1 << 18, 1 << 24] {
        let (here, mut there) = (vec![1u8; bytes], vec![0u8; bytes]);
        if let Some(partner) = partner {
            let time = seconds(if bytes < 1 << 20 { 200 } else { 10 }, || {
                if rank == 0 {
                    messages.swap(&[(partner, &here)], &mut []);
                    messages.swap(&[], &mut [(partner, &mut there)]);
                } else {
                    messages.swap(&[], &mut [(partner, &mut there)]);
                    messages.swap(&[(partner, &here)], &mut []);
                }
            }) / 2.0;
            if rank == 0 {
                println!(
                    "message of {bytes} bytes: {:.1} us, {:.2} Gb/s",
                    1e6 * time,
                    8e-9 * bytes as f64 / time
                );
            }
        }
    }
    let mut exchange: Processes<_, f32> = Processes::new(messages);
    for numbers in [100_000usize, 1_000_000, 10_000_000] {
        let mut gradients =
            vec![LaneGradient { dense: vec![0.5f32; numbers], offset: 0, tables: Vec::new() }];
        for sum in [GradientSum::Ordered, GradientSum::Half, GradientSum::Unordered] {
            exchange.begin(0..numbers, sum);
            let time = pool.install(|| {
                seconds(10, || {
                    std::hint::black_box(exchange.sum(&mut gradients, &[Loss::default()]));
                })
            });
            if rank == 0 {
                println!("{numbers} numbers, {sum:?}: {:.2} ms", 1e3 * time);
            }
        }
    }
    drop(exchange);
    drop(meeting);
    Ok(())
}
