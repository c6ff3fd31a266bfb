//! Commands of every kind that are killed at random moments: asked for again they make what they would have made, and nothing else is
//! touched.
//!
//! The long form is part of the campaign (`docs/limits.md`): `LALOGRAPH_KILLS` and `LALOGRAPH_SEED` change it.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use crate::common::{Chance, Workshop, differing, files_below, killed_after, number_from, without_times};

/// How a command that was killed is continued.
#[derive(Clone, Copy)]
enum After {
    /// It is asked for again; if it had ended already, it reports that.
    Again,
    /// A run of this path is resumed where it was started.
    Resume(&'static str),
}
use After::{Again, Resume};

const SMALL: &str = "--document line --embedding 4 --hidden 6 --batch 2 --window 8 --samples-tokens 5 --validate-every 3 --checkpoints-every 2 --quiet";

const SORT: &str = "--network pooled --embedding 4 --batch 4 --checkpoints-every 2 --quiet";

/// Every command that writes anything; `{small}` represents the settings of a small run, `{sort}` those of a small classifier.
const COMMANDS: [(&str, After); 39] = [
    ("train letters.txt --name three --steps 8 {small}", Resume("runs/three")),
    ("train letters.txt --name two --force --steps 8 {small}", Resume("runs/two")),
    (
        "train letters.txt --name three --steps 4 --cell gru --unit byte-pair --vocabulary-size 280 {small}",
        Resume("runs/three"),
    ),
    ("resume one --steps 12 --quiet", Again),
    ("resume one --restart --quiet", Again),
    ("resume one --epochs 1 --quiet", Again),
    (
        "tune one letters.txt --document line --new-tokens 2 --keep-old 0.5 --name tuned --steps 8 --batch 2 --window 8 --samples-tokens 5 --validate-every 3 --checkpoints-every 2 --quiet",
        Resume("runs/tuned"),
    ),
    (
        "tune compare one two --pairs rows.csv --prompt class --answer text --tokens 5 --page page.html --quiet",
        Again,
    ),
    ("runs remove two", Again),
    ("export one --output one.onnx --readme one.md", Again),
    ("export one --form tables --output one.npz", Again),
    ("runs export one --output one.tar.zst", Again),
    ("runs import two.tar.zst --name three", Again),
    (
        "import runs/one/one.safetensors --plan runs/one/plan.toml --vocabulary runs/one/vocabulary.json --output new.safetensors",
        Again,
    ),
    ("runs report one --output report", Again),
    ("runs compare one two --output compared", Again),
    ("demo --quick --size 60000 --dir demo", Resume("demo/runs/demo")),
    ("demo --corpus-only --size 60000 --dir demo", Again),
    ("manual man", Again),
    ("vocab build letters.txt --output new.json", Again),
    ("vocab build letters.txt --unit unigram --vocabulary-size 300 --output new.json", Again),
    ("vocab merge words.json other.json --output both.json", Again),
    ("vocab coverage letters.txt --document line --pictures coverage", Again),
    ("split letters.txt --document line --output s.json --files parts", Again),
    ("survey letters.txt --document line --pictures survey", Again),
    (
        "embed train letters.txt --document line --dimensions 4 --lanes 2 --output w.safetensors --text-output w.txt",
        Again,
    ),
    ("embed import v.txt --output i.safetensors --vocabulary-file words.json", Again),
    ("embed map v.safetensors --layout principal --output map", Again),
    ("flow runs/one letters.txt --document line --pictures flow", Again),
    ("sample runs/one --tokens 200 --seed 3 --output sample.txt", Again),
    ("plan new --all --output plan.toml", Again),
    ("classify train rows.csv --label class --name sorts --steps 8 {sort}", Resume("runs/sorts")),
    (
        "classify train rows.csv --label class --name line --network linear --term-choice all --quiet",
        Resume("runs/line"),
    ),
    ("classify score runs/sort --calibrate --quiet", Again),
    ("classify score runs/sort rows.csv --label class --pictures charts --page score.html", Again),
    ("classify predict runs/sort rows.csv --output guesses.csv", Again),
    ("classify explain runs/sort rows.csv --page explained.html", Again),
    ("sweep runs/one/plan.toml --vary model.hidden=3,6 --seeds 2 --keep 1 --name swept --quiet", Again),
    (
        "sweep runs/one/plan.toml --vary model.hidden=2..9 --method racing --trials 4 --rungs 2 --jobs 2 --set training.steps=12 --name raced --quiet",
        Again,
    ),
];

fn workshop() -> Workshop {
    let workshop = Workshop::new();
    let lines: String = (0..150).map(|i| format!("the hive {} hums {i} times\n", i % 7)).collect();
    workshop.write("letters.txt", lines);
    let rows: String = (0..60).map(|i| format!("hive {i} hums,{}\n", ["low", "high"][i % 2])).collect();
    workshop.write("rows.csv", format!("text,class\n{rows}"));
    workshop.write("other.txt", "the mill grinds slowly\n".repeat(30));
    workshop.write("v.txt", "4 3\nhive 1 2 3\nmill 3 2 1\nhums -1 0 1\ntimes 0.5 0 2\n");
    for words in [
        "train letters.txt --name one --steps 8 {small}",
        "train letters.txt --name two --steps 6 {small}",
        "classify train rows.csv --label class --name sort --steps 6 {sort}",
        "runs export two --output two.tar.zst",
        "vocab build letters.txt --output words.json",
        "vocab build other.txt --output other.json",
        "embed train letters.txt --document line --dimensions 4 --output v.safetensors",
    ] {
        workshop.run(&words.replace("{small}", SMALL).replace("{sort}", SORT)).ok();
    }
    workshop
}

/// All that counts in a workshop.
fn kept(workshop: &Workshop) -> BTreeMap<PathBuf, Vec<u8>> {
    without_times(files_below(&workshop.path("")))
}

/// What one kill came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Outcome {
    Killed,
    EndedFirst,
}

/// A command, what it leaves where nothing happens to it, and how long that takes.
struct Whole {
    words: String,
    after: After,
    left: BTreeMap<PathBuf, Vec<u8>>,
    takes: Duration,
}

fn whole(base: &Workshop, words: &str, after: After) -> Whole {
    let words = words.replace("{small}", SMALL).replace("{sort}", SORT);
    let (mut left, mut takes) = (None, Duration::ZERO);
    // Twice, so that it is known to do the same every time.
    for _ in 0..2 {
        let workshop = base.copy();
        let started_once = Instant::now();
        workshop.run(&words).ok();
        takes = started_once.elapsed();
        let found = kept(&workshop);
        if let Some(left) = &left {
            let other = differing(left, &found);
            assert!(other.is_empty(), "`{words}` does not do the same twice: {other:?}");
        }
        left = Some(found);
    }
    Whole { words, after, left: left.unwrap(), takes }
}

fn kill(base: &Workshop, of: &Whole, chance: &mut Chance) -> Outcome {
    let workshop = base.copy();
    let wait = of.takes.mul_f64(chance.share() * 1.05);
    let killed = killed_after(&workshop, &of.words, wait);
    let started_once = match of.after {
        Resume(run) if workshop.path(run).join("run.json").exists() => Some(Path::new(run)),
        _ => None,
    };
    let again = match started_once {
        // A run that gave way was the older one if the kill came before: then it is as it was.
        Some(run) if !of.words.contains("--force") => {
            let (runs, name) = (run.parent().unwrap().display(), run.file_name().unwrap().display());
            format!("resume {name} --runs {runs} --quiet")
        }
        _ => of.words.clone(),
    };
    let done = workshop.run(&again);
    let ended = ["exists already", "has completed all its steps", "is solved", "no run"];
    assert!(
        done.status == 0 || ended.iter().any(|words| done.err.contains(words)),
        "`{}` killed after {wait:?}, then `{again}`: {done:?}",
        of.words
    );
    if started_once.is_some() && again != of.words {
        // What was continued is there, and the command finds it so.
        workshop.run(&of.words).fails(1, &["exists already"]);
    }
    let found = kept(&workshop);
    let other = differing(&found, &of.left);
    assert!(
        other.is_empty(),
        "`{}` killed after {wait:?}, then `{again}`: otherwise are {other:?}",
        of.words
    );
    if killed { Outcome::Killed } else { Outcome::EndedFirst }
}

/// Kills commands so many times in turn; what came of it, by command.
fn campaign(kills: u64, seed: u64, commands: &[(&str, After)]) {
    let base = workshop();
    let whole: Vec<Whole> = commands.iter().map(|(words, after)| whole(&base, words, *after)).collect();
    let mut counts = BTreeMap::<(usize, Outcome), u64>::new();
    for number in 0..kills {
        let which = (number % whole.len() as u64) as usize;
        let outcome = kill(&base, &whole[which], &mut Chance::of(seed, number));
        *counts.entry((which, outcome)).or_default() += 1;
    }
    for ((which, outcome), count) in &counts {
        println!("{count} times {outcome:?}: {}", whole[*which].words);
    }
    println!("{kills} kills of {} commands: nothing lost, nothing else touched", whole.len());
    assert!(counts.keys().any(|(_, outcome)| *outcome == Outcome::Killed));
}

#[test]
fn a_command_killed_at_any_moment_can_be_repeated() {
    let quick = [3, 6, 7, 12, 16, 18, 24, 25, 38].map(|which| COMMANDS[which]);
    campaign(27, 1, &quick);
}

#[test]
#[ignore = "part of the campaign: takes minutes"]
fn campaign_of_commands_that_are_killed() {
    campaign(number_from("LALOGRAPH_KILLS", 1_000), number_from("LALOGRAPH_SEED", 2), &COMMANDS);
}
