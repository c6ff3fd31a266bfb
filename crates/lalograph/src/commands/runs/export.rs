//! `runs export`: a run as one file, or the metrics of runs as a table.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use lalograph_lab::LabError;
use lalograph_lab::run::archive::{Packed, pack};
use lalograph_lab::run::history::RunHistory;
use lalograph_lab::run::records::{MetricsRecord, read_lines};
use lalograph_storage::Existing;
use serde::Serialize;
use serde_json::Value;

use super::report::write_report;
use crate::cli::ExportRunsArgs;
use crate::commands::lookup::find_run;
use crate::failure::Failure;
use crate::files;
use crate::output::number::{bytes, counted};
use crate::output::screen::Screen;

/// The columns of the table of metrics that every record has or may have, before and after the figures of the tasks.
const BEFORE: [&str; 6] = ["kind", "step", "epoch", "tokens", "seconds", "loss"];
const AFTER: [&str; 6] =
    ["learning_rate", "gradient_norm", "clipped_gradient_norm", "clipped_share", "tokens_per_second", "best"];

/// JSON output.
#[derive(Serialize)]
struct Document<'d> {
    output: &'d Path,
    #[serde(flatten)]
    packed: Option<Packed>,
    #[serde(skip_serializing_if = "Option::is_none")]
    records: Option<u64>,
}

/// Runs the command.
pub(super) fn run(args: &ExportRunsArgs, screen: &Screen) -> Result<(), Failure> {
    let existing = Existing::replaced_if(args.force);
    if existing == Existing::Keep && args.output.exists() {
        return Err(LabError::Exists(args.output.clone()).into());
    }
    let document = if args.metrics {
        let (table, records) = metrics(args)?;
        files::write(&args.output, &table, existing)?;
        Document { output: &args.output, packed: None, records: Some(records) }
    } else {
        let [name] = &args.names[..] else {
            return Err(Failure::Usage(
                "an archive has one run; use --metrics to write the metrics of several runs as one table"
                    .into(),
            ));
        };
        Document { output: &args.output, packed: Some(archive(args, name, existing)?), records: None }
    };
    if args.json {
        return screen.json(&document);
    }
    let path = args.output.display();
    screen.line(&match document {
        Document { packed: Some(packed), .. } => {
            let size = std::fs::metadata(&args.output).map_or(0, |found| found.len());
            let files = counted(packed.files, "file", "files");
            format!("written: {path}, {files} ({}) in {}", bytes(packed.bytes), bytes(size))
        }
        Document { records, .. } => {
            format!("written: {path}, {}", counted(records.unwrap_or_default(), "record", "records"))
        }
    })
}

/// Packs a run with its report.
fn archive(args: &ExportRunsArgs, name: &Path, existing: Existing) -> Result<Packed, Failure> {
    let run = find_run(&args.place.runs, name)?;
    let history = RunHistory::read(run.clone())?;
    let temporary = tempfile::tempdir()?;
    let report = write_report(&history, temporary.path(), false)?;
    let pages: Vec<(String, PathBuf)> = report
        .files()
        .map(|path| {
            let name = path.file_name().unwrap_or_default().to_string_lossy();
            (format!("report/{name}"), path.to_owned())
        })
        .collect();
    let file = files::create(&args.output, existing)?;
    Ok(pack(&*files::storage(), &run, &pages, args.checkpoints, file)?)
}

/// The metrics of all runs as CSV, and the number of records.
fn metrics(args: &ExportRunsArgs) -> Result<(Vec<u8>, u64), Failure> {
    let mut rows: Vec<(String, Value)> = Vec::new();
    for name in &args.names {
        let run = find_run(&args.place.runs, name)?;
        for record in read_lines::<MetricsRecord>(&run.metrics())? {
            rows.push((run.name(), serde_json::to_value(&record).map_err(Failure::work)?));
        }
    }
    let figures: BTreeSet<String> = rows
        .iter()
        .filter_map(|(_, record)| record["figures"].as_object())
        .flat_map(|figures| figures.keys().cloned())
        .collect();
    let mut table = csv::Writer::from_writer(Vec::new());
    let heads = ["run"].into_iter().chain(BEFORE).chain(figures.iter().map(String::as_str)).chain(AFTER);
    table.write_record(heads).map_err(Failure::work)?;
    for (run, record) in &rows {
        let cells = BEFORE
            .iter()
            .map(|name| &record[*name])
            .chain(figures.iter().map(|name| &record["figures"][name.as_str()]))
            .chain(AFTER.iter().map(|name| &record[*name]))
            .map(|value| match value {
                Value::Null => String::new(),
                Value::String(text) => text.clone(),
                other => other.to_string(),
            });
        table.write_record(std::iter::once(run.clone()).chain(cells)).map_err(Failure::work)?;
    }
    let table = table.into_inner().map_err(|error| Failure::work(error.error()))?;
    Ok((table, rows.len() as u64))
}
