//! The demo from nothing to its report.

use crate::common::{Workshop, files_below};
use lalograph_lab::run::records::{MetricsRecord, SampleRecord, read_lines};

/// A figure of the closing table: the first number of the row that begins with `name`.
fn figure(out: &str, name: &str) -> f64 {
    let row = out.lines().rev().find(|line| line.trim_start().starts_with(name)).unwrap();
    row.trim_start()[name.len()..].split_whitespace().next().unwrap().replace(',', "").parse().unwrap()
}

#[test]
fn the_quick_demo_learns_and_leaves_everything_it_names() {
    let workshop = Workshop::new();
    let out = workshop.run("demo --quick").ok();
    let (model, unigram, floor) =
        (figure(&out, "this model"), figure(&out, "unigram"), figure(&out, "floor"));
    assert!(floor < model && model < unigram / 5.0, "{out}");

    for file in [
        "vocabulary.json",
        "diaries.csv",
        "diaries.jsonl",
        "diaries.truth.json",
        "diaries/volume-00001.txt",
        "runs/demo/plan.toml",
        "runs/demo/run.json",
        "runs/demo/demo.safetensors",
        "runs/demo/vocabulary.json",
    ] {
        assert!(workshop.path("thornmere").join(file).is_file(), "{file}");
    }
    assert!(out.contains("thornmere/runs/demo/demo.safetensors"), "{out}");
    let svg = workshop.read("thornmere/runs/demo/learning.svg");
    assert!(svg.starts_with("<svg") && !svg.contains("<text"), "letters are drawn as outlines");
    let png = std::fs::read(workshop.path("thornmere/runs/demo/learning.png")).unwrap();
    assert!(png.starts_with(b"\x89PNG"));

    let metrics: Vec<MetricsRecord> =
        read_lines(&workshop.path("thornmere/runs/demo/metrics.jsonl")).unwrap();
    let best = metrics
        .iter()
        .filter_map(|record| match record {
            MetricsRecord::Validation { loss, .. } => Some(loss.exp()),
            MetricsRecord::Training { .. } | MetricsRecord::Test { .. } => None,
        })
        .fold(f64::INFINITY, f64::min);
    assert!((best - model).abs() < 0.01 * model, "the table's figure comes from the run");
    let samples: Vec<SampleRecord> = read_lines(&workshop.path("thornmere/runs/demo/samples.jsonl")).unwrap();
    for temperature in [0.3, 0.7, 1.0] {
        assert!(samples.iter().any(|sample| sample.temperature == temperature));
    }
    assert!(samples.iter().any(|sample| sample.step != samples[0].step), "samples as it goes");

    // Again in the same place: nothing is overwritten.
    let again = workshop.run("demo --corpus-only --size 50kB").ok();
    assert!(again.contains("thornmere-2/diaries"), "{again}");
    workshop.run("demo --quick --dir thornmere").fails(1, &["thornmere exists already", "--force"]);
    workshop.run("demo --dir thornmere --force --corpus-only --size 50kB").ok();
    assert!(!workshop.path("thornmere/runs").exists());
}

#[test]
fn a_demo_whose_run_never_began_is_made_again_and_one_whose_run_did_is_left_alone() {
    // A demo of its own: the one that tests have in common stays as it is.
    let workshop = Workshop::new();
    workshop.run("demo --quick --size 50kB --quiet").ok();
    let list = "thornmere/.lalograph-unfinished-demo";
    // As after a kill when the run had just started.
    workshop.write(list, "\ndiaries.csv\n");
    let before = files_below(&workshop.path("thornmere/runs/demo"));
    workshop.run("demo --quick --dir thornmere").fails(1, &["thornmere exists already"]);
    assert!(!workshop.path(list).exists(), "the list is done away with");
    assert_eq!(files_below(&workshop.path("thornmere/runs/demo")), before);
    // As after a kill just before.
    workshop.write(list, "\ndiaries.csv\n");
    std::fs::remove_dir_all(workshop.path("thornmere/runs/demo")).unwrap();
    workshop.run("demo --quick --size 50kB --dir thornmere --quiet").ok();
    assert!(workshop.path("thornmere/runs/demo/demo.safetensors").exists() && !workshop.path(list).exists());
}

#[test]
fn only_a_demo_gives_way_to_a_demo() {
    let workshop = Workshop::new();
    let kept = workshop.write("mine/letters.txt", "dear me");
    workshop.run("demo --quick --dir mine --force").fails(1, &["nothing in it was changed"]);
    assert_eq!(std::fs::read_to_string(kept).unwrap(), "dear me");
}

#[test]
fn sizes_are_checked_before_anything_is_written() {
    let workshop = Workshop::new();
    for (size, word) in [("10kB", "too small"), ("5parsecs", "no unit of size"), ("-3", "")] {
        workshop.run(&format!("demo --corpus-only --dir d --size={size}")).fails(2, &[word]);
        assert!(!workshop.path("d").exists());
    }
    workshop.run("demo --corpus-only --dir d --size=50kB").ok();
    workshop.run("demo --corpus-only --dir d --force --size=10kB").fails(2, &["too small"]);
    assert!(workshop.path("d/diaries/volume-00001.txt").is_file(), "the older demo is still there");
}
