//! `gauge`: how fast this machine is.

use lalograph_lab::Plan;
use lalograph_lab::measure::cost::{cost, zipf_share};
use lalograph_lab::measure::gauge::{Bench, Gauge, Limit, Spread};
use lalograph_lab::measure::gauge_documents::{DocumentBench, DocumentGauge};
use lalograph_lab::plan::NetworkKind;
use lalograph_storage::Existing;
use serde::Serialize;

use super::classify::describe_classifier;
use super::input::threads;
use super::settings::{Sized, check_room, describe, sized_plan};
use crate::cli::GaugeArgs;
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::chart::write_pictures;
use crate::output::number::{bytes, count};
use crate::output::progress::{Measure, Progress};
use crate::output::scale_chart::{ScalePoint, scale_charts};
use crate::output::screen::Screen;
use crate::output::table::{Column, facts, table};
use crate::room;

const HIDDEN: [usize; 5] = [128, 256, 512, 1024, 2048];
const BATCH: [usize; 6] = [8, 16, 32, 64, 128, 256];
const INDICES: [usize; 4] = [100, 1_000, 10_000, 100_000];

/// JSON output of `gauge`.
#[derive(Serialize)]
struct GaugeDocument {
    model: String,
    vocabulary: usize,
    batch: usize,
    window: usize,
    training_operations_per_token: f64,
    #[serde(flatten)]
    gauge: Gauge,
}

/// Runs the command.
pub(super) fn run(args: &GaugeArgs, screen: &Screen) -> Result<(), Failure> {
    if !(args.seconds > 0.0 && args.seconds <= 3600.0) {
        return Err(Failure::Usage(format!("--seconds {} is not above 0 and at most 3600", args.seconds)));
    }
    interrupt::listen();
    let Sized { plan, indices, source } = sized_plan(&args.plan)?;
    if plan.classifier.is_some() {
        return documents(args, &plan, (indices, &source), screen);
    }
    if args.scale {
        return scale(args, &plan, indices, screen);
    }
    let mut progress = Progress::new(screen, "measuring", Measure::Steps, u64::from(args.rounds));
    let found = measure(args, &plan, indices, |round| progress.at(round, ""))?;
    progress.finish();
    if args.plan.json {
        return screen.json(&found);
    }
    let gauge = &found.gauge;
    let reading = format!(
        "GB/s, one thread, reading the {} of weights of a token",
        bytes(gauge.sampling_bytes_per_token)
    );
    let side_by_side = format!("tokens/s, {} texts in parallel, one thread", gauge.batch_sampling_texts);
    let mut rows = limits(&gauge.limits);
    rows.extend([
        figures("products", &gauge.products_gigaflops, one, PRODUCTS),
        figures("products / limit", &gauge.products_share_of_limit, share, RATIO),
        figures("training", &gauge.training_tokens_per_second, tokens, "tokens/s in all"),
        figures("", &gauge.training_gigaflops, one, "GFLOP/s in matrix products"),
        figures("training / limit", &gauge.training_share_of_limit, share, RATIO),
        figures("sampling", &gauge.sampling_tokens_per_second, tokens, "tokens/s, one text, one thread"),
        figures("reading", &gauge.reading_bytes_per_second, |x| format!("{:.1}", x / 1e9), &reading),
        figures(
            "sampling / reading",
            &gauge.sampling_share_of_limit,
            share,
            "of what reading its weights allows",
        ),
        figures("sampling", &gauge.batch_sampling_tokens_per_second, tokens, &side_by_side),
    ]);
    let about = [
        ("model", found.model),
        ("vocabulary", format!("{} indices ({source}), made-up tokens", count(indices as u64))),
        ("step", format!("{} streams x {} tokens", found.batch, found.window)),
        ("threads", format!("{}, {} rounds of {} s", gauge.threads, gauge.rounds, args.seconds)),
    ];
    show(&about, &rows, screen)
}

/// JSON output of `gauge` for a classifier.
#[derive(Serialize)]
struct DocumentGaugeDocument {
    model: String,
    /// Null for rows of numbers.
    vocabulary: Option<usize>,
    batch: usize,
    /// Tokens or rows of each document.
    length: usize,
    #[serde(flatten)]
    gauge: DocumentGauge,
}

/// Measures a classifier on made-up documents.
fn documents(
    args: &GaugeArgs,
    plan: &Plan,
    (indices, source): (usize, &str),
    screen: &Screen,
) -> Result<(), Failure> {
    if args.scale {
        return Err(Failure::Usage(
            "--scale has no effect on a classifier: it varies a language model".into(),
        ));
    }
    let Some(bench) = DocumentBench::new(plan, indices)? else {
        return Err(Failure::Usage(
            "a linear network is solved on its own documents and not trained by steps: `lalograph classify train` shows the time it took".into(),
        ));
    };
    room::check(
        bench.bytes(),
        "training by this plan",
        "lower --hidden, --layers or --batch, or shorten the documents",
    )?;
    let mut progress = Progress::new(screen, "measuring", Measure::Steps, u64::from(args.rounds));
    let gauge =
        bench.measure(threads(args.plan.threads), usize::from(args.rounds), args.seconds, |round| {
            progress.at(round as u64, "");
            !interrupt::asked()
        })?;
    progress.finish();
    if interrupt::asked() {
        return Err(Failure::Interrupted("stopped; nothing was written".into()));
    }
    let text = gauge.vectors.is_some();
    let found = DocumentGaugeDocument {
        model: describe_classifier(plan, indices, DocumentBench::CLASSES),
        vocabulary: text.then_some(indices),
        batch: plan.training.batch,
        length: bench.length(),
        gauge,
    };
    if args.plan.json {
        return screen.json(&found);
    }
    let gauge = &found.gauge;
    let steps = if text { "tokens" } else { "rows" };
    let all = format!("{steps}/s in all");
    // A pooled network multiplies little and reads much.
    let pooled = plan.classifier.as_ref().is_some_and(|own| own.network == NetworkKind::Pooled);
    let learnt = "tokens/s: vectors, gradients and the optimiser's numbers moved, nothing else";
    let (training, predicting) = (&gauge.training_tokens_per_second, &gauge.predicting_tokens_per_second);
    let rows = match &gauge.vectors {
        Some(vectors) if pooled => vec![
            figures("training", training, tokens, &all),
            figures("vectors learnt", &vectors.learning_tokens_per_second, tokens, learnt),
            figures("training / learnt", &vectors.training_share, share, RATIO),
            figures("predicting", predicting, tokens, &all),
            figures(
                "vectors read",
                &vectors.reading_tokens_per_second,
                tokens,
                "tokens/s: vectors read, nothing else",
            ),
            figures("predicting / read", &vectors.predicting_share, share, RATIO),
        ],
        _ => {
            let mut rows = limits(&gauge.limits);
            rows.extend([
                figures("products", &gauge.products_gigaflops, one, PRODUCTS),
                figures("training", training, tokens, &all),
                figures("", &gauge.training_gigaflops, one, "GFLOP/s in matrix products"),
                figures("training / limit", &gauge.training_share_of_limit, share, RATIO),
                figures("predicting", predicting, tokens, &all),
                figures("predicting / limit", &gauge.predicting_share_of_limit, share, RATIO),
            ]);
            rows
        }
    };
    let mut about = vec![("model", found.model)];
    if text {
        about.push(("vocabulary", format!("{} indices ({source})", count(indices as u64))));
    }
    about.extend([
        ("step", format!("{} made-up documents x {} {steps}", found.batch, count(found.length as u64))),
        ("threads", format!("{}, {} rounds of {} s", gauge.threads, gauge.rounds, args.seconds)),
    ]);
    show(&about, &rows, screen)
}

const PRODUCTS: &str = "GFLOP/s, 2,048 x 2,048 x 2,048";
const RATIO: &str = "ratio in each round";

fn one(x: f64) -> String {
    format!("{x:.1}")
}

fn share(x: f64) -> String {
    format!("{x:.3}")
}

/// A row for each set of instructions.
fn limits(limits: &[Limit]) -> Vec<Vec<String>> {
    let row = |limit: &Limit| {
        let what = format!("GFLOP/s, multiply-adds in registers, {}", limit.instructions);
        figures("limit", &limit.gigaflops, one, &what)
    };
    limits.iter().map(row).collect()
}

/// Prints what was measured, and its figures with their spread.
fn show(about: &[(&'static str, String)], rows: &[Vec<String>], screen: &Screen) -> Result<(), Failure> {
    let columns = [Column::Text, Column::Number, Column::Number, Column::Number, Column::Text];
    screen.line(&format!(
        "{}\n{}\n\n{}",
        screen.heading("This machine"),
        facts(screen, about),
        table(screen, &["", "median", "lowest", "highest", ""], &columns, rows),
    ))
}

fn figures(name: &str, spread: &Spread, show: impl Fn(f64) -> String, what: &str) -> Vec<String> {
    vec![name.to_owned(), show(spread.median), show(spread.lowest), show(spread.highest), what.to_owned()]
}

fn tokens(speed: f64) -> String {
    count(speed.round() as u64)
}

/// Operations a second, in words.
pub(super) fn operations_per_second(speed: f64) -> String {
    format!("{:.1} GFLOP/s", speed / 1e9)
}

fn measure(
    args: &GaugeArgs,
    plan: &Plan,
    indices: usize,
    mut progress: impl FnMut(u64) + Send,
) -> Result<GaugeDocument, Failure> {
    check_room(plan, indices)?;
    let bench = Bench::new(plan, indices)?;
    let rounds = usize::from(args.rounds);
    let gauge = bench.measure(threads(args.plan.threads), rounds, args.seconds, |round| {
        progress(round as u64);
        !interrupt::asked()
    })?;
    if interrupt::asked() {
        return Err(Failure::Interrupted("stopped; nothing was written".into()));
    }
    let operations = cost(plan, indices, &zipf_share(indices))?.training_operations_per_token;
    Ok(GaugeDocument {
        model: describe(&plan.shape(indices)),
        vocabulary: indices,
        batch: plan.training.batch,
        window: plan.training.window,
        training_operations_per_token: operations,
        gauge,
    })
}

/// Measures plans that differ from the given one in one size each.
fn scale(args: &GaugeArgs, plan: &Plan, indices: usize, screen: &Screen) -> Result<(), Failure> {
    // Better refused before the work than after it.
    let stems: Vec<_> = args
        .pictures
        .iter()
        .flat_map(|folder| ["hidden", "batch", "vocabulary"].map(|name| folder.join(format!("scale-{name}"))))
        .collect();
    let places: Vec<_> = stems.iter().flat_map(|stem| files::picture(stem)).collect();
    let mut pictures = files::begin("scale", &places, Existing::replaced_if(args.force))?;
    let mut points = Vec::new();
    let mut plans = Vec::new();
    for hidden in HIDDEN {
        let mut other = plan.clone();
        (other.model.hidden, other.model.embedding) = (Some(hidden), Some(hidden));
        plans.push(("hidden", hidden, other, indices));
    }
    for batch in BATCH {
        let mut other = plan.clone();
        other.training.batch = batch;
        plans.push(("batch", batch, other, indices));
    }
    plans.extend(INDICES.map(|indices| ("vocabulary", indices, plan.clone(), indices)));
    let mut progress = Progress::new(screen, "measuring", Measure::Steps, plans.len() as u64);
    for (index, (what, value, plan, indices)) in plans.iter().enumerate() {
        progress.at(index as u64, &format!("{what} {}", count(*value as u64)));
        let GaugeDocument { gauge, .. } = measure(args, plan, *indices, |_| {})?;
        points.push(ScalePoint {
            varied: what,
            value: *value,
            tokens_per_second: gauge.training_tokens_per_second.median,
            gigaflops: gauge.training_gigaflops.median,
            share_of_limit: gauge.training_share_of_limit.median,
        });
    }
    progress.finish();
    for (stem, (_, scene)) in stems.iter().zip(scale_charts(&points)) {
        write_pictures(scene, &mut pictures, stem)?;
    }
    pictures.finish()?;
    if args.plan.json {
        return screen.json(&points);
    }
    let rows: Vec<Vec<String>> = points
        .iter()
        .map(|point| {
            vec![
                point.varied.to_owned(),
                count(point.value as u64),
                tokens(point.tokens_per_second),
                format!("{:.1}", point.gigaflops),
                format!("{:.3}", point.share_of_limit),
            ]
        })
        .collect();
    let columns = [Column::Text, Column::Number, Column::Number, Column::Number, Column::Number];
    let heads = ["varied", "size", "tokens/s", "GFLOP/s", "of the limit"];
    let mut text = format!(
        "{}\n  {}; batch {}, window {}; one size varied at a time\n\n{}",
        screen.heading("Training speed by size"),
        describe(&plan.shape(indices)),
        plan.training.batch,
        plan.training.window,
        table(screen, &heads, &columns, &rows)
    );
    if let Some(folder) = &args.pictures {
        text.push_str(&format!("\n\n  charts: {}", folder.join("scale-*.png and .svg").display()));
    }
    screen.line(&text)
}
