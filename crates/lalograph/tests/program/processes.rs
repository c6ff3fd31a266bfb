//! Runs of several processes that a launcher starts. All but the refusal need message passing:
//!
//! `cargo test --release -p lalograph --features mpi --test program processes -- --include-ignored`

use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::common::{Chance, Workshop, number_from, program};

/// A corpus in which something can be learnt.
fn corpus(workshop: &Workshop) {
    let words = ["hive", "queen", "drone", "clover", "smoke"];
    let line = |i: usize| format!("the {} is {} of {} today\n", words[i % 5], i % 7, words[(i * i) % 5]);
    workshop.write("letters.txt", (0..400).map(line).collect::<String>());
}

const SMALL: &str = "train letters.txt --document line --embedding 8 --hidden 16 --batch 16 --window 9 --set training.lanes=8 --epochs 3 --samples-every 0 --validate-every 10 --checkpoints-every 5 --minimum-count 1 --quiet";

/// The launcher with so many processes of one thread, and these words.
fn launched(workshop: &Workshop, processes: usize, words: &str) -> Command {
    let mut command = Command::new("mpirun");
    command
        .current_dir(workshop.path("."))
        .args(["--allow-run-as-root", "--oversubscribe", "-n", &processes.to_string()])
        .arg(program())
        .args(words.split(' '))
        .stdin(Stdio::null());
    command
}

fn succeeds(workshop: &Workshop, processes: usize, words: &str) {
    let done = launched(workshop, processes, words).output().unwrap();
    assert!(done.status.success(), "{words}: {}", String::from_utf8_lossy(&done.stderr));
}

fn model(workshop: &Workshop, name: &str) -> Vec<u8> {
    std::fs::read(workshop.path(&format!("runs/{name}/{name}.safetensors"))).unwrap()
}

#[test]
fn a_program_without_messages_does_not_train_several_times_side_by_side() {
    if cfg!(feature = "mpi") {
        return;
    }
    let workshop = Workshop::new();
    corpus(&workshop);
    let mut command = workshop.command();
    let done = command.env("OMPI_COMM_WORLD_SIZE", "3").args(SMALL.split(' ')).output().unwrap();
    let said = String::from_utf8(done.stderr).unwrap();
    assert_eq!(done.status.code(), Some(1), "{said}");
    assert!(
        said.contains("error: 3 processes were started together, and this program cannot exchange messages"),
        "{said}"
    );
    assert!(!workshop.path("runs").exists());
}

/// Trainings of all kinds: language models of every cell and softmax, classifiers, tuning.
const KINDS: [&str; 11] = [
    "",
    " --cell gru --layers 2 --dropout 0.2",
    " --cell plain-tanh --softmax clustered --set model.clusters=[8] --shared-vectors false",
    " --softmax sampled --windows documents --shared-vectors false",
    " --cell plain-relu --windows independent --set optimiser.average_from=0.5",
    " --unit character --softmax full --set optimiser.rule=sgd",
    "classify pooled",
    "classify convolution",
    "classify recurrent --cell gru --directions both",
    "classify recurrent --length whole",
    "tune",
];

/// The words of a training of that kind.
fn training(kind: &str) -> String {
    match kind.split_once(' ').map_or((kind, ""), |(first, rest)| (first, rest)) {
        ("classify", rest) => format!("classify train keepers.csv --label keeper --network {rest} --test-share 0.2 --set training.lanes=8 --epochs 2 --batch 16 --dropout 0.1 --checkpoints-every 5 --quiet"),
        ("tune", _) => "tune runs/base others.txt --document line --new-tokens 2 --keep-old 0.3 --set training.lanes=8 --steps 12 --batch 16 --window 8 --dropout 0.1 --samples-tokens 5 --validate-every 5 --checkpoints-every 4 --quiet".to_owned(),
        _ => format!("{SMALL}{kind}"),
    }
}

/// A workshop with texts for all kinds, and a base to tune.
fn equipped(kind: &str) -> Workshop {
    let workshop = Workshop::new();
    corpus(&workshop);
    let keepers = ["Hesper", "Oda"];
    let row = |i: usize| {
        format!(
            "{},the {} flow of day {} was {}\n",
            keepers[i % 2],
            ["clover", "heather"][i % 2],
            i % 9,
            i % 5
        )
    };
    workshop.write("keepers.csv", format!("keeper,text\n{}", (0..120).map(row).collect::<String>()));
    workshop.write(
        "others.txt",
        (0..200).map(|i| format!("the drone is {} of lime today\n", i % 7)).collect::<String>(),
    );
    if kind == "tune" {
        workshop.run(&format!("{SMALL} --name base")).ok();
    }
    workshop
}

#[test]
#[ignore = "needs message passing"]
fn models_of_any_number_of_processes_are_equal_to_the_byte() {
    for kind in KINDS {
        let (workshop, words) = (equipped(kind), training(kind));
        workshop.run(&format!("{words} --name alone")).ok();
        for count in [1, 2, 3, 4, 8] {
            succeeds(&workshop, count, &format!("{words} --name several-{count} --threads 1"));
            assert!(
                model(&workshop, "alone") == model(&workshop, &format!("several-{count}")),
                "{kind}, {count}"
            );
        }
    }
}

#[test]
#[ignore = "needs message passing"]
fn another_number_of_processes_goes_on_with_a_run_that_was_stopped() {
    let mut stopped = 0;
    for kind in KINDS {
        let (workshop, words) = (equipped(kind), training(kind));
        workshop.run(&format!("{words} --name alone")).ok();
        // Ctrl-C reaches one process, which stops all of them after a step.
        let mut child = launched(&workshop, 3, &format!("{words} --name stopped --threads 1"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let checkpoints = workshop.path("runs/stopped/checkpoints");
        while !checkpoints.exists() && child.try_wait().unwrap().is_none() {
            std::thread::sleep(Duration::from_millis(2));
        }
        if let Some(last) = children(child.id()).last() {
            let _ = Command::new("kill").args(["-INT", &last.to_string()]).status();
        }
        assert!(ends_within(&mut child, Duration::from_secs(30)), "{kind}");
        let finished = |name: &str| {
            workshop.run(&format!("runs show {name} --json")).ok().contains("\"status\":\"finished\"")
        };
        if !finished("stopped") {
            stopped += 1;
            succeeds(&workshop, 2, "resume stopped --quiet --threads 1");
        }
        assert!(finished("stopped") && model(&workshop, "alone") == model(&workshop, "stopped"), "{kind}");
    }
    assert!(2 * stopped > KINDS.len(), "only {stopped} were stopped before their end");
}

#[test]
#[ignore = "needs message passing"]
fn more_processes_than_lanes_are_refused() {
    let workshop = Workshop::new();
    corpus(&workshop);
    let done =
        launched(&workshop, 3, &format!("{SMALL} --set training.lanes=2 --name few")).output().unwrap();
    let said = String::from_utf8_lossy(&done.stderr).into_owned();
    assert!(!done.status.success() && said.contains("error: 3 processes for 2 lanes"), "{said}");
}

#[test]
#[ignore = "needs message passing"]
fn scores_and_word_vectors_of_any_number_of_processes_are_equal() {
    let workshop = Workshop::new();
    corpus(&workshop);
    let scored = "score runs/read letters.txt --document line --state reset --surprise --json";
    let vectors = "embed train letters.txt --document line --dimensions 20 --lanes 4 --epochs 2 --minimum-count 1 --quiet --output";
    workshop.run(&format!("{SMALL} --name read")).ok();
    let alone = workshop.run(scored).ok();
    workshop.run(&format!("{vectors} alone.safetensors")).ok();
    let expected = std::fs::read(workshop.path("alone.safetensors")).unwrap();
    for processes in [2, 3, 4] {
        let done = launched(&workshop, processes, scored).output().unwrap();
        let said = String::from_utf8_lossy(&done.stderr).into_owned();
        assert!(
            done.status.success() && said.contains(&format!("{processes} processes share the documents")),
            "{said}"
        );
        assert_eq!(String::from_utf8_lossy(&done.stdout), alone, "{processes}");
        succeeds(&workshop, processes, &format!("{vectors} {processes}.safetensors"));
        let found = std::fs::read(workshop.path(&format!("{processes}.safetensors"))).unwrap();
        assert!(found == expected, "{processes}");
    }
    let plain = vectors.replace("--lanes 4 --epochs 2 ", "");
    for (processes, words, why) in [
        (5, format!("{vectors} few.safetensors"), "error: 5 processes for 4 lanes"),
        (2, format!("{plain} fast.safetensors --fast"), "error: training with --fast is done by one process"),
        (
            2,
            format!("{plain} counts.safetensors --factorise"),
            "error: the factorisation of counts is done by one process",
        ),
        (
            2,
            "score runs/read letters.txt --document line --state carried".into(),
            "error: scoring with the state carried from document to document is done by one process",
        ),
    ] {
        let done = launched(&workshop, processes, &words).output().unwrap();
        let said = String::from_utf8_lossy(&done.stderr).into_owned();
        assert!(!done.status.success() && said.contains(why), "{words}: {said}");
    }
    assert!(
        ["few", "fast", "counts"].iter().all(|name| !workshop.path(&format!("{name}.safetensors")).exists())
    );
}

/// Two processes, of which each is started in its own way.
fn two(workshop: &Workshop, first: &[&str], second: &[&str], words: &str) -> std::process::Output {
    let mut command = Command::new("mpirun");
    command.current_dir(workshop.path(".")).args(["--allow-run-as-root", "--oversubscribe", "-n", "1"]);
    command.args(first).args(words.split(' ')).args([":", "-n", "1"]).args(second).args(words.split(' '));
    let mut child =
        command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    assert!(ends_within(&mut child, Duration::from_secs(30)), "{words} hangs");
    child.wait_with_output().unwrap()
}

#[test]
#[ignore = "needs message passing"]
fn another_program_is_refused_by_the_number_of_its_process() {
    let workshop = Workshop::new();
    corpus(&workshop);
    let (own, other) = (program().display().to_string(), workshop.path("other"));
    std::fs::copy(program(), &other).unwrap();
    let mut file = std::fs::OpenOptions::new().append(true).open(&other).unwrap();
    std::io::Write::write_all(&mut file, b"another").unwrap();
    drop(file);
    let words = format!("{SMALL} --name mixed");
    let done = two(&workshop, &[&own], &[&other.display().to_string()], &words);
    let said = String::from_utf8_lossy(&done.stderr).into_owned();
    assert!(
        !done.status.success() && said.contains("error: process 1: its program is another one"),
        "{said}"
    );
}

#[test]
#[ignore = "needs message passing"]
fn a_full_disk_at_the_first_process_ends_all_and_keeps_what_was_whole() {
    let workshop = Workshop::new();
    corpus(&workshop);
    let own = program().display().to_string();
    // Blocks of 1 KiB: enough for the run's small files, not for a checkpoint.
    let limited = format!("trap '' XFSZ; ulimit -f 60; exec {own} \"$@\"");
    let words = format!("{} --name full", SMALL.replace("--hidden 16", "--hidden 64"));
    let done = two(&workshop, &["bash", "-c", &limited, "first"], &[&own], &words);
    let said = String::from_utf8_lossy(&done.stderr).into_owned();
    assert!(
        !done.status.success() && said.contains("try: write to another disk, or raise the limit"),
        "{said}"
    );
    succeeds(&workshop, 2, "resume full --quiet --threads 1");
}

/// Kills one process after another of a run that goes on with another number of them: none hangs, and the model is that of one process.
#[test]
#[ignore = "needs message passing; LALOGRAPH_KILLS and LALOGRAPH_SEED change it"]
fn killed_processes_neither_hang_nor_lose_the_run() {
    let (kills, seed) = (number_from("LALOGRAPH_KILLS", 10), number_from("LALOGRAPH_SEED", 1));
    let workshop = Workshop::new();
    corpus(&workshop);
    let long = SMALL.replace("--epochs 3", "--epochs 40");
    let begun = Instant::now();
    workshop.run(&format!("{long} --name alone")).ok();
    let whole = begun.elapsed();
    let (mut made, mut number) = (0, 0);
    while made < kills {
        number += 1;
        let name = format!("killed-{number}");
        let mut words = format!("{long} --name {name} --threads 1");
        let mut chance = Chance::of(seed, number);
        loop {
            let count = 2 + chance.below(3);
            let mut child = launched(&workshop, count, &words)
                .stdout(Stdio::null())
                .stderr(Stdio::null())
                .spawn()
                .unwrap();
            std::thread::sleep(whole.mul_f64(0.3 + chance.share()));
            let ranks = children(child.id());
            if ranks.is_empty() || made >= kills {
                assert!(ends_within(&mut child, Duration::from_secs(120)));
            } else {
                made += 1;
                let rank = ranks[chance.below(ranks.len())];
                let _ = Command::new("kill").args(["-9", &rank.to_string()]).status();
                assert!(ends_within(&mut child, Duration::from_secs(30)), "{name} hangs after a kill");
            }
            let run = workshop.path(&format!("runs/{name}"));
            if !run.exists() {
                continue;
            }
            words = format!("resume {name} --quiet --threads 1");
            if workshop.run(&format!("runs show {name} --json")).ok().contains("\"status\":\"finished\"") {
                break;
            }
        }
        assert!(model(&workshop, "alone") == model(&workshop, &name), "{name}");
    }
}

/// The programs that a launcher started.
fn children(launcher: u32) -> Vec<u32> {
    let found = Command::new("pgrep").args(["-P", &launcher.to_string()]).output().unwrap();
    String::from_utf8(found.stdout).unwrap().lines().filter_map(|line| line.parse().ok()).collect()
}

fn ends_within(child: &mut std::process::Child, most: Duration) -> bool {
    let begun = Instant::now();
    while begun.elapsed() < most {
        if child.try_wait().unwrap().is_some() {
            return true;
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    let _ = child.kill();
    false
}
