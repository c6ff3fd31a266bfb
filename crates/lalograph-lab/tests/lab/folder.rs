//! A run's folder and its records: made once, never over something else, and readable line by line.

use std::io::Write;
use std::path::Path;

use lalograph_lab::measure::score::Score;
use lalograph_lab::run::claim::Claim;
use lalograph_lab::run::description::{RunDescription, RunStatus, Standing};
use lalograph_lab::run::records::{Figures, Lines, MetricsRecord, SampleRecord, read_lines};
use lalograph_lab::run::shelf;
use lalograph_lab::{LabError, Plan, RunFolder};
use lalograph_storage::{Disk, Existing, Folder};
use lalograph_text::store::Totals;
use lalograph_text::tokens::TokenSequence;

fn description(name: &str) -> RunDescription {
    RunDescription { name: name.into(), started: "2026-03-01T09:30:00+00:00".into(), ..Default::default() }
}

fn create(
    parent: &Path,
    plan: &Plan,
    name: &str,
    existing: Existing,
) -> Result<(RunFolder, Claim), LabError> {
    let files = [("vocabulary.json", "{}".into())];
    let (run, claim, _) = shelf::create(&Disk, parent, plan, description(name), &files, existing)?;
    Ok((run, claim))
}

fn write(path: &Path, bytes: &[u8]) {
    std::fs::File::create(path).and_then(|mut file| file.write_all(bytes)).unwrap();
}

#[test]
fn a_run_is_made_with_its_plan_and_its_description_can_be_replaced() {
    let folder = tempfile::tempdir().unwrap();
    let mut plan = Plan::default();
    plan.model.hidden = Some(77);
    let (run, claim) = create(&folder.path().join("deep/runs"), &plan, "one", Existing::Keep).unwrap();
    assert_eq!(Plan::from_toml(&std::fs::read_to_string(run.plan()).unwrap(), &[]).unwrap(), plan);
    let mut later = run.description().unwrap();
    (later.status, later.steps, later.best_validation_loss) = (RunStatus::Finished, 12, Some(1.5));
    claim.describe(&later).unwrap();
    let read: RunDescription =
        serde_json::from_slice(&std::fs::read(run.path().join("run.json")).unwrap()).unwrap();
    assert_eq!(read, later);
    assert_eq!((run.description().unwrap(), run.read_plan().unwrap()), (later, plan));
    let made: Vec<_> = std::fs::read_dir(folder.path().join("deep/runs")).unwrap().collect();
    assert_eq!(made.len(), 2, "nothing is left beside it but the lock");
}

#[test]
fn only_a_run_gives_way_to_a_run_and_only_on_request() {
    let folder = tempfile::tempdir().unwrap();
    let again = |existing| create(folder.path(), &Plan::default(), "one", existing);
    let (run, claim) = again(Existing::Keep).unwrap();
    write(&run.model(), b"weights");
    assert!(matches!(again(Existing::Keep), Err(LabError::Exists(_))));
    assert!(matches!(again(Existing::Replace), Err(LabError::Busy(_))), "it is being trained");
    assert_eq!(std::fs::read(run.model()).unwrap(), b"weights");
    drop(claim);
    again(Existing::Replace).unwrap();
    assert!(!run.model().exists());
    // A model file has the name of its run, and keeps it where the folder is renamed.
    assert!(run.model().ends_with("one/one.safetensors"));
    write(&run.model(), b"weights");
    std::fs::rename(run.path(), folder.path().join("two")).unwrap();
    let renamed = RunFolder::open(&folder.path().join("two")).unwrap();
    assert!(renamed.model().ends_with("two/one.safetensors"));

    let letters = folder.path().join("letters");
    std::fs::create_dir(&letters).unwrap();
    write(&letters.join("one.txt"), b"dear bees");
    let over = create(folder.path(), &Plan::default(), "letters", Existing::Replace);
    assert!(matches!(over, Err(LabError::NotARun(_))));
    assert_eq!(std::fs::read(letters.join("one.txt")).unwrap(), b"dear bees");
}

#[test]
fn a_run_has_one_claim_and_its_status_follows_its_process() {
    let folder = tempfile::tempdir().unwrap();
    let (run, claim) = create(folder.path(), &Plan::default(), "one", Existing::Keep).unwrap();
    assert!(matches!(Claim::of(&Disk, &run), Err(LabError::Busy(_))));
    assert!(matches!(shelf::remove(&Disk, &run), Err(LabError::Busy(_))));
    assert_eq!(run.standing(RunStatus::Running), Standing::Running);
    drop(claim);
    assert_eq!(run.standing(RunStatus::Running), Standing::Died);
    assert_eq!(run.standing(RunStatus::Finished), Standing::Finished);
    assert!(run.bytes() > 0);
    let _again = Claim::of(&Disk, &run).unwrap();
    assert_eq!(run.standing(RunStatus::Failed), Standing::Failed);
    drop(_again);
    // Other things in the folder are no runs.
    std::fs::create_dir(folder.path().join("letters")).unwrap();
    std::fs::create_dir(folder.path().join(".tokens")).unwrap();
    write(&folder.path().join("notes.txt"), b"bees");
    let names =
        || -> Vec<String> { RunFolder::all(folder.path()).unwrap().iter().map(RunFolder::name).collect() };
    assert_eq!(names(), ["one"]);
    shelf::remove(&Disk, &run).unwrap();
    assert!(names().is_empty());
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 4);
    assert!(RunFolder::all(&folder.path().join("nowhere")).unwrap().is_empty());
}

#[test]
fn records_are_read_back_unchanged() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("metrics.jsonl");
    let records = [
        MetricsRecord::Training {
            step: 20,
            epoch: 0.5,
            tokens: 20_480,
            seconds: 1.25,
            loss: 5.5,
            figures: Figures::of([("perplexity", 5.5f64.exp())]),
            learning_rate: 0.002,
            gradient_norm: 0.75,
            clipped_gradient_norm: 1.0,
            clipped_share: 0.1,
            tokens_per_second: 50_000.0,
        },
        MetricsRecord::Validation {
            step: 20,
            epoch: 0.5,
            seconds: 1.5,
            loss: 5.25,
            figures: Figures::of([("perplexity", 5.25f64.exp()), ("bits_per_byte", 1.5)]),
            best: true,
        },
    ];
    let open = Folder::open(&Disk, folder.path()).unwrap();
    let after = |bytes| Lines::after(&open, "metrics.jsonl", bytes).unwrap();
    let mut lines = after(0);
    for record in &records {
        lines.push(record).unwrap();
    }
    assert_eq!(read_lines::<MetricsRecord>(&path).unwrap(), records);
    let text = std::fs::read_to_string(&path).unwrap();
    assert_eq!(lines.synced_bytes().unwrap(), text.len() as u64);
    assert_eq!(text.lines().count(), 2);
    assert!(text.starts_with("{\"kind\":\"training\",\"step\":20,"), "{text}");
    // Gone on with after the first line: what came after it is made again.
    let first = text.find('\n').unwrap() as u64 + 1;
    let mut lines = after(first);
    lines.push(&records[1]).unwrap();
    lines.push(&records[1]).unwrap();
    assert_eq!(read_lines::<MetricsRecord>(&path).unwrap().len(), 3);
    // A file that is shorter than it was thought to be is continued where it ends.
    assert_eq!(after(1 << 40).synced_bytes().unwrap(), std::fs::metadata(&path).unwrap().len());
}

#[test]
fn a_damaged_or_foreign_record_is_an_error_and_no_panic() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("samples.jsonl");
    let whole = SampleRecord {
        step: 3,
        validation_perplexity: None,
        temperature: 0.7,
        seed_text: "Old \"Pell\"".into(),
        text: "\n\u{1f41d} went home".into(),
        tokens: 4,
        ended: true,
    };
    let line = serde_json::to_string(&whole).unwrap();
    write(&path, format!("{line}\n").as_bytes());
    assert_eq!(read_lines::<SampleRecord>(&path).unwrap(), [whole]);
    for cut in 1..line.len() {
        // Inside a character too.
        write(&path, &line.as_bytes()[..cut]);
        assert!(read_lines::<SampleRecord>(&path).unwrap().is_empty(), "its writer died: {cut}");
        if line.is_char_boundary(cut) {
            write(&path, format!("{}\n", &line[..cut]).as_bytes());
            assert!(read_lines::<SampleRecord>(&path).is_err(), "{cut}");
        }
    }
    write(&path, format!("{}\n", line.replace("\"step\"", "\"stride\"")).as_bytes());
    assert!(read_lines::<SampleRecord>(&path).unwrap_err().to_string().contains("samples.jsonl"));
    write(&path, b"\xff\xfe\n");
    assert!(read_lines::<SampleRecord>(&path).is_err());
}

#[test]
fn a_score_has_its_stated_units() {
    let mut text = TokenSequence::from_indices(vec![4, 5, 6, 3]);
    let (spelling_bits, spacing_bits) = (11.0, 1.0);
    text.totals = Totals { bytes: 16, unknown: 1, spelling_bits, spacing_bits, ..text.totals };
    // One bit a token, and twelve beside them.
    let score = Score::new(&text, 4.0 * std::f64::consts::LN_2);
    assert!((score.loss - std::f64::consts::LN_2).abs() < 1e-15);
    assert!((score.perplexity - 2.0).abs() < 1e-12);
    assert!((score.bits_per_token - 1.0).abs() < 1e-12);
    assert!((score.bits_per_byte - 1.0).abs() < 1e-12);
    assert_eq!((score.documents, score.bytes, score.tokens, score.unknown_tokens), (1, 16, 4, 1));
}
