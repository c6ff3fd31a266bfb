//! Runs that are killed at random moments, resumed, and must end as if they had not been.
//!
//! The long form takes minutes: `cargo test -p lalograph --test program endurance -- --ignored --nocapture`.

use std::process::Stdio;
use std::time::{Duration, Instant};

use crate::common::{Workshop, workshop_with_demo};

/// A run that writes checkpoints, samples and validations all the time.
const RUN: &str = "train thornmere/diaries --document line --embedding 16 --hidden 48 --steps 90 --batch 8 --window 16 --validate-every 8 \
                   --sample-every 8 --sample-tokens 8 --checkpoint-every 3 --test-share 0.05 --set training.flow_every=10 --quiet --name";

/// Numbers that look random and are the same every time (Steele, Lea and Flood, 2014).
struct Moments(u64);

impl Moments {
    fn next(&mut self) -> f64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        ((z ^ (z >> 31)) >> 11) as f64 / (1u64 << 53) as f64
    }
}

/// Starts the program and kills it after so long, unless it has ended by itself; whether it was killed.
fn killed_after(workshop: &Workshop, words: &str, wait: Duration) -> bool {
    let mut command = workshop.command();
    command.args(words.split_whitespace()).stdout(Stdio::null()).stderr(Stdio::null());
    let mut child = command.spawn().unwrap();
    let begun = Instant::now();
    while begun.elapsed() < wait {
        if child.try_wait().unwrap().is_some() {
            return false;
        }
        std::thread::sleep(Duration::from_millis(1));
    }
    child.kill().unwrap();
    child.wait().unwrap();
    true
}

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
    let begun = Instant::now();
    workshop.run(&format!("{RUN} whole")).ok();
    let whole = begun.elapsed();
    let expected = left(&workshop, "whole");
    let mut moments = Moments(seed);
    let (mut killed, mut again, mut before, mut done) = (0, 0, 0, 0);
    for number in 0..kills {
        let name = format!("run-{number}");
        let train = format!("{RUN} {name}");
        if killed_after(&workshop, &train, whole.mul_f64(moments.next() * 1.05)) {
            killed += 1;
        } else {
            done += 1;
        }
        let run = workshop.path(&format!("runs/{name}"));
        if run.is_dir() {
            // Some are killed while they are resumed, too.
            while moments.next() < 0.4 {
                let resume = format!("resume {name} --quiet");
                again += u64::from(killed_after(&workshop, &resume, whole.mul_f64(moments.next() * 0.8)));
            }
            let resumed = workshop.run(&format!("resume {name} --quiet"));
            assert!(
                resumed.status == 0 || resumed.err.contains("has made all its steps"),
                "{name}: {resumed:?}"
            );
        } else {
            // It had not begun: there was nothing to lose.
            before += 1;
            workshop.run(&train).ok();
        }
        assert!(left(&workshop, &name) == expected, "{name} ended otherwise");
        workshop.run(&format!("score runs/{name} thornmere/diaries --first 2")).ok();
        std::fs::remove_dir_all(run).unwrap();
    }
    println!(
        "{kills} runs: {killed} killed ({before} before they had begun), {again} killed again while resumed, {done} ended first; all of \
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
fn killed_at_two_hundred_moments_a_run_is_resumed_to_the_same_end() {
    campaign(200, 2);
}

/// Needs the right to mount; where there is none, it says so.
#[test]
#[ignore = "mounts file systems"]
fn a_full_disk_and_a_folder_that_cannot_be_written_lose_nothing() {
    let workshop = workshop_with_demo();
    let runs = workshop.path("runs");
    std::fs::create_dir(&runs).unwrap();
    let mount = |options: &str| {
        let status = std::process::Command::new("mount")
            .args(["-t", "tmpfs", "-o", options, "tmpfs"])
            .arg(&runs)
            .status();
        status.is_ok_and(|status| status.success())
    };
    if !mount("size=1m") {
        println!("skipped: file systems cannot be mounted here");
        return;
    }
    let full = workshop.run(&format!("{RUN} one"));
    full.fails(1, &["runs"]);
    let kept = std::fs::read_dir(runs.join("one/checkpoints")).map_or(0, Iterator::count);
    println!("full: {kept} whole checkpoints are there");
    let remount = |options: &str| {
        let status = std::process::Command::new("mount")
            .args(["-o", &format!("remount,{options}")])
            .arg(&runs)
            .status();
        assert!(status.unwrap().success());
    };
    remount("size=100m");
    workshop.run("resume one --quiet").ok();
    workshop.run(&format!("{RUN} whole")).ok();
    assert!(left(&workshop, "one") == left(&workshop, "whole"));
    remount("ro");
    workshop.run(&format!("{RUN} two")).fails(1, &["runs"]);
    workshop.run("resume one --steps 95").fails(1, &["one"]);
    remount("rw");
    workshop.run("resume one --steps 95 --quiet").ok();
    std::process::Command::new("umount").arg(&runs).status().unwrap();
}
