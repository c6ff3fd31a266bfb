//! Runs that are killed at random moments, resumed, and must end as if they had not been.
//!
//! The long form is part of the campaign (`docs/limits.md`): `LALOGRAPH_RUN_KILLS` and `LALOGRAPH_SEED` change it.

use std::time::Instant;

use crate::common::{Chance, Workshop, killed_after, number_from, workshop_with_demo};

/// A run that writes checkpoints, samples and validations all the time.
const RUN: &str = "train thornmere/diaries --document line --embedding 16 --hidden 48 --steps 90 --batch 8 --window 16 --validate-every 8 \
                   --samples-every 8 --samples-tokens 8 --checkpoints-every 3 --test-share 0.05 --set training.flow_every=10 --quiet --name";

/// What a run leaves, but for times.
fn left(workshop: &Workshop, name: &str) -> (Vec<u8>, String, String) {
    let model = std::fs::read(workshop.path(&format!("runs/{name}/{name}.safetensors"))).unwrap();
    let read = |file: &str| workshop.read(&format!("runs/{name}/{file}"));
    (model, read("samples.jsonl"), read("flow.jsonl"))
}

fn campaign(kills: u64, seed: u64) {
    let workshop = workshop_with_demo();
    // The tokens are there before it is timed, as they are for all others.
    workshop.run(&format!("{RUN} warm")).ok();
    let start = Instant::now();
    workshop.run(&format!("{RUN} whole")).ok();
    let whole = start.elapsed();
    let expected = left(&workshop, "whole");
    let mut moments = Chance::of(seed, 0);
    let (mut killed, mut again, mut before, mut done) = (0, 0, 0, 0);
    for number in 0..kills {
        let name = format!("run-{number}");
        let train = format!("{RUN} {name}");
        if killed_after(&workshop, &train, whole.mul_f64(moments.share() * 1.05)) {
            killed += 1;
        } else {
            done += 1;
        }
        let run = workshop.path(&format!("runs/{name}"));
        if run.is_dir() {
            // Some are killed while they are resumed, too.
            while moments.share() < 0.4 {
                let resume = format!("resume {name} --quiet");
                again += u64::from(killed_after(&workshop, &resume, whole.mul_f64(moments.share() * 0.8)));
            }
            let resumed = workshop.run(&format!("resume {name} --quiet"));
            assert!(
                resumed.status == 0 || resumed.err.contains("has completed all its steps"),
                "{name}: {resumed:?}"
            );
        } else {
            // It had not started: there was nothing to lose.
            before += 1;
            workshop.run(&train).ok();
        }
        assert!(left(&workshop, &name) == expected, "{name} ended otherwise");
        workshop.run(&format!("score runs/{name} thornmere/diaries --first 2")).ok();
        std::fs::remove_dir_all(run).unwrap();
    }
    println!(
        "{kills} runs: {killed} killed ({before} before they had start), {again} killed again while resumed, {done} ended first; all of \
         them ended with the model, samples and flow of the run that was not killed"
    );
    assert!(killed > 0);
}

#[test]
fn killed_anywhere_a_run_is_resumed_to_the_same_end() {
    campaign(6, 1);
}

#[test]
#[ignore = "takes minutes"]
fn campaign_of_runs_that_are_killed() {
    campaign(number_from("LALOGRAPH_RUN_KILLS", 200), number_from("LALOGRAPH_SEED", 2));
}
