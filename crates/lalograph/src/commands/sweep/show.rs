//! `sweep show`: settings by rank, what mattered, charts and a page.

use std::path::{Path, PathBuf};

use kuva::render::render::Scene;
use lalograph_lab::sweep::figure::Figure;
use lalograph_lab::sweep::folder::SweepFolder;
use lalograph_lab::sweep::ledger::Results;
use lalograph_lab::sweep::ranking::Ranked;

use super::document::{Document, at_an_end, model_of, shown_figure};
use crate::cli::SweepShowArgs;
use crate::commands::lookup::sweep_meant;
use crate::commands::runs::begin_pages;
use crate::failure::Failure;
use crate::files;
use crate::nearest::nearest_name;
use crate::output::chart::Picture;
use crate::output::number::{count, counted, duration, percent_of};
use crate::output::page::{SweepPage, sweep_page};
use crate::output::palette::HONEY;
use crate::output::screen::Screen;
use crate::output::sweep_charts::{Traced, parallel_axes, progress_chart, value_panels};
use crate::output::table::{Column, coloured_bars, facts, table};

/// Runs the command.
pub(super) fn run(args: &SweepShowArgs, screen: &Screen) -> Result<(), Failure> {
    let folder =
        sweep_meant(&args.place.runs, &args.sweep).ok_or_else(|| no_sweep(&args.place.runs, &args.sweep))?;
    let sweep = SweepFolder::open(&folder)?;
    let storage = files::storage();
    let mut ledger = sweep.ledger(&*storage)?;
    let results = ledger.refresh()?;
    let document = Document::new(&sweep, results);
    let page = match &args.output {
        Some(folder) => Some(write(folder, args.force, &sweep, &document, results)?),
        None => None,
    };
    if args.json {
        return screen.json(&document);
    }
    show(&sweep, &document, args.top, screen)?;
    match page {
        Some(page) => screen.line(&format!("\n{}", facts(screen, &[("page", page.display().to_string())]))),
        None => Ok(()),
    }
}

fn no_sweep(runs: &Path, name: &Path) -> Failure {
    let entries = std::fs::read_dir(runs).into_iter().flatten().flatten();
    let all: Vec<String> = entries
        .filter(|entry| SweepFolder::is_one(&entry.path()))
        .map(|entry| entry.file_name().to_string_lossy().into_owned())
        .collect();
    let wanted = name.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let remedy = match nearest_name(&wanted, &all) {
        Some(near) => format!("did you mean `{near}`?"),
        None if all.is_empty() => {
            format!("no sweeps in {}; use --runs DIR for another folder", runs.display())
        }
        None => format!("sweeps in {}: {}", runs.display(), all.join(", ")),
    };
    Failure::with_remedy(format!("no sweep `{}` here or in {}", name.display(), runs.display()), remedy)
}

/// Prints the results.
pub(super) fn show(
    sweep: &SweepFolder,
    document: &Document<'_>,
    top: usize,
    screen: &Screen,
) -> Result<(), Failure> {
    let ranking = &document.ranking;
    let mut parts = Vec::new();
    if !ranking.ranked.is_empty() {
        let shown = if top == 0 { ranking.ranked.len() } else { top.min(ranking.ranked.len()) };
        let heading = match shown < ranking.ranked.len() {
            true => {
                format!("The best {} of {} settings", count(shown as u64), count(ranking.ranked.len() as u64))
            }
            false => "Settings by rank".to_owned(),
        };
        let rows = rank_rows(sweep, &ranking.ranked[..shown], false);
        let heads: Vec<&str> = rows.heads.iter().map(String::as_str).collect();
        let drawn = table(screen, &heads, &vec![Column::Number; heads.len()], &rows.rows);
        parts.push(format!("{}\n{drawn}", screen.heading(&heading)));
    }
    if let Some(shares) = share_rows(sweep, document) {
        let columns = [Column::Text, Column::Number, Column::Number, Column::Text];
        let drawn = table(screen, &["", "share", "±", ""], &columns, &shares);
        parts.push(format!(
            "{}\n{}",
            screen.heading("What explains the results: shares of their variance"),
            coloured_bars(&drawn, HONEY, screen)
        ));
    }
    if !ranking.failed.is_empty() {
        let rows: Vec<(String, String)> = ranking
            .failed
            .iter()
            .take(if top == 0 { usize::MAX } else { top })
            .map(|one| {
                let values = sweep.spec().overrides(one.setting).join(" ");
                (format!("setting {}", one.setting + 1), format!("{values}: {}", one.reason))
            })
            .collect();
        let rows: Vec<(&str, String)> = rows.iter().map(|(name, why)| (name.as_str(), why.clone())).collect();
        let heading = format!("Failed: {}", counted(ranking.failed.len() as u64, "setting", "settings"));
        parts.push(format!("{}\n{}", screen.heading(&heading), facts(screen, &rows)));
    }
    let rows = outcome_rows(sweep, document);
    parts.push(format!("{}\n{}", screen.heading("Outcome"), facts(screen, &rows)));
    screen.line(&parts.join("\n\n"))
}

/// A table of settings.
struct RankRows {
    heads: Vec<String>,
    rows: Vec<Vec<String>>,
}

/// The settings of a ranking as rows; `whole` adds what a terminal has no room for.
fn rank_rows(sweep: &SweepFolder, ranked: &[Ranked], whole: bool) -> RankRows {
    let (spec, figure) = (sweep.spec(), sweep.figure());
    let seeds = spec.seeds() > 1;
    let mut heads = vec!["rank".to_owned(), "setting".to_owned()];
    heads.extend(short_keys(&spec.varied.iter().map(|one| one.key.as_str()).collect::<Vec<_>>()));
    heads.push(figure.name().trim_start_matches("validation ").to_owned());
    if seeds {
        let interval = if whole { "95 % interval" } else { "\u{b1}" };
        heads.extend([interval, "like the best"].map(str::to_owned));
    }
    if spec.rungs() > 1 {
        heads.push("rung".to_owned());
    }
    if whole {
        heads.extend(["steps", "parameters"].map(str::to_owned));
    }
    heads.push("time".to_owned());
    let rows = ranked.iter().enumerate().map(|(at, one)| {
        let mut row = vec![(at + 1).to_string(), (one.setting + 1).to_string()];
        row.extend(spec.settings()[one.setting].iter().cloned());
        row.push(shown_figure(figure, one.cost));
        if seeds {
            let shown = |cost| shown_figure(figure, cost);
            row.push(one.interval.map_or_else(
                || "-".to_owned(),
                |(low, high)| match (whole, figure.rises()) {
                    (true, true) => format!("{} to {}", shown(high), shown(low)),
                    (true, false) => format!("{} to {}", shown(low), shown(high)),
                    (false, _) => half_width(figure, low, high),
                },
            ));
            row.push(match (&one.difference, at) {
                (_, 0) => "best".to_owned(),
                (Some(difference), _) if difference.is_noise() => "yes".to_owned(),
                (Some(_), _) => "no".to_owned(),
                (None, _) => "-".to_owned(),
            });
        }
        if spec.rungs() > 1 {
            row.push(format!("{}", one.rung + 1));
        }
        if whole {
            row.extend([count(one.steps), count(one.parameters)]);
        }
        row.push(duration(one.seconds));
        row
    });
    RankRows { rows: rows.collect(), heads }
}

/// Half of an interval, in two digits.
fn half_width(figure: Figure, low: f64, high: f64) -> String {
    let half = (figure.of_cost(high) - figure.of_cost(low)).abs() / 2.0;
    match figure {
        Figure::Accuracy => percent_of(half),
        _ => format!("{half:.*}", (1 - half.max(1e-9).log10().floor() as i32).clamp(0, 6) as usize),
    }
}

/// Keys without their section, where that leaves them different.
fn short_keys(keys: &[&str]) -> Vec<String> {
    let last = |key: &str| key.rsplit('.').next().unwrap_or(key).to_owned();
    keys.iter()
        .map(|key| {
            let alone = keys.iter().filter(|other| last(other) == last(key)).count() == 1;
            if alone { last(key) } else { (*key).to_owned() }
        })
        .collect()
}

/// Shares of the variance, the greatest first, each with a bar.
fn share_rows(sweep: &SweepFolder, document: &Document<'_>) -> Option<Vec<Vec<String>>> {
    /// Letters of a bar for the whole variance.
    const BAR: f64 = 30.0;
    let shares = document.shares.as_ref()?;
    let keys = sweep.spec().varied.iter().map(|one| one.key.clone());
    let mut rows: Vec<(String, f64, Option<f64>)> =
        keys.zip(&shares.shares).map(|(key, share)| (key, share.share, Some(share.error))).collect();
    rows.sort_by(|a, b| b.1.total_cmp(&a.1));
    rows.extend(shares.seeds.map(|share| ("seeds (chance)".to_owned(), share, None)));
    let rest = if shares.seeds.is_some() { "settings together" } else { "settings together, and chance" };
    rows.push((rest.to_owned(), shares.rest, None));
    let row = |(name, share, error): (String, f64, Option<f64>)| {
        let bar = "\u{2588}".repeat((share * BAR).round() as usize);
        vec![name, percent_of(share), error.map_or_else(String::new, percent_of), bar]
    };
    Some(rows.into_iter().map(row).collect())
}

/// What came of it, in a few lines.
fn outcome_rows(sweep: &SweepFolder, document: &Document<'_>) -> Vec<(&'static str, String)> {
    let (spec, figure, ranking) = (sweep.spec(), sweep.figure(), &document.ranking);
    let mut rows = Vec::new();
    if document.waiting > 0 {
        rows.push((
            "waiting",
            format!(
                "{} without a result of all seeds",
                counted(document.waiting as u64, "setting", "settings")
            ),
        ));
    }
    let Some(best) = ranking.ranked.first() else {
        if rows.is_empty() {
            rows.push(("best", "no setting has a result".to_owned()));
        }
        return rows;
    };
    rows.push((
        "best",
        format!(
            "setting {}: {} with {} {}",
            best.setting + 1,
            spec.overrides(best.setting).join(" "),
            figure.name(),
            shown_figure(figure, best.cost)
        ),
    ));
    rows.push(("chance", chance(&ranking.ranked, spec.seeds())));
    for (key, end) in at_an_end(spec, best.setting) {
        rows.push(("range", format!("the best {key} is the {end} that was tried: vary it beyond")));
    }
    if let Some(test) = document.test() {
        let name = figure.name().trim_start_matches("validation ");
        rows.push((
            "test",
            format!(
                "{name} {} on the test part, which was scored once, under this model",
                shown_figure(figure, test.cost)
            ),
        ));
    }
    if let Some(path) = &document.best_plan {
        rows.push(("best plan", path.display().to_string()));
    }
    let kept = ranking.ranked.iter().take(spec.terms.keep as usize).filter_map(|one| model_of(sweep, one));
    let kept: Vec<String> = kept.map(|path| path.display().to_string()).collect();
    if !kept.is_empty() {
        rows.push(("models kept", kept.join("\n")));
    }
    rows
}

/// Which settings chance alone may have put behind the best.
fn chance(ranked: &[Ranked], seeds: usize) -> String {
    if seeds == 1 {
        return "with one seed, differences by chance look like any others; use --seeds 3 or more".to_owned();
    }
    let alike: Vec<String> = ranked
        .iter()
        .skip(1)
        .filter(|one| one.difference.is_some_and(|difference| difference.is_noise()))
        .map(|one| (one.setting + 1).to_string())
        .collect();
    match alike.len() {
        0 => "no other setting is as good within chance".to_owned(),
        1 => format!("setting {} is as good within chance", alike[0]),
        n if n <= 12 => format!("settings {} are as good within chance", alike.join(", ")),
        n => format!("{} settings are as good within chance", count(n as u64)),
    }
}

/// The results of trials at all rungs in the order of time: hours since the first began, and the cost.
fn in_time(sweep: &SweepFolder, results: &Results) -> Vec<(f64, f64)> {
    let all = || results.trials().iter().flat_map(|trial| trial.reached.iter().flatten());
    let started = all().map(|one| one.time - one.seconds).fold(f64::INFINITY, f64::min);
    let mut ended: Vec<(f64, f64)> = all()
        .map(|one| ((one.time - started) / 3600.0, sweep.figure().cost(&one.evaluation)))
        .filter(|(_, cost)| cost.is_finite())
        .collect();
    ended.sort_by(|a, b| a.0.total_cmp(&b.0));
    ended
}

/// Writes the page and its charts; returns where the page is.
fn write(
    folder: &Path,
    force: bool,
    sweep: &SweepFolder,
    document: &Document<'_>,
    results: &Results,
) -> Result<PathBuf, Failure> {
    let (spec, figure) = (sweep.spec(), sweep.figure());
    let page = folder.join("sweep.html");
    let ranked = &document.ranking.ranked;
    let furthest = ranked.first().map_or(0, |best| best.rung);
    let traced: Vec<Traced> = ranked
        .iter()
        .map(|one| {
            let values = spec.varied.iter().zip(&spec.settings()[one.setting]);
            let places = values.map(|(varied, value)| varied.place(value)).collect();
            Traced { places, cost: one.cost, at_end: one.rung == furthest }
        })
        .collect();
    let scenes: Vec<(&'static str, Scene)> = [
        ("parallel-axes", parallel_axes(spec, figure, &traced)),
        ("values", value_panels(spec, figure, &traced)),
        ("progress", progress_chart(figure, &in_time(sweep, results))),
    ]
    .into_iter()
    .filter_map(|(name, scene)| Some((name, scene?)))
    .collect();
    let stems: Vec<PathBuf> = scenes.iter().map(|(name, _)| folder.join(name)).collect();
    let places: Vec<PathBuf> =
        std::iter::once(page.clone()).chain(stems.iter().flat_map(|stem| files::picture(stem))).collect();
    let mut set = begin_pages("sweep", &places, force)?;
    let mut pictures = Vec::new();
    for ((name, scene), stem) in scenes.into_iter().zip(&stems) {
        let picture = Picture::of(scene)?;
        picture.write(&mut set, stem)?;
        pictures.push((name, picture.svg));
    }
    let shown = &document.ranking.ranked[..document.ranking.ranked.len().min(200)];
    let failed: Vec<(String, String, String)> = document
        .ranking
        .failed
        .iter()
        .take(200)
        .map(|one| {
            let values = spec.overrides(one.setting).join(" ");
            ((one.setting + 1).to_string(), values, one.reason.clone())
        })
        .collect();
    let rows = rank_rows(sweep, shown, true);
    let name = sweep.path().file_name().unwrap_or_default().to_string_lossy();
    let content = SweepPage {
        name: &name,
        outcome: outcome_rows(sweep, document),
        heads: &rows.heads,
        rows: &rows.rows,
        settings: document.ranking.ranked.len(),
        shares: share_rows(sweep, document),
        failed: &failed,
        pictures: &pictures,
    };
    set.write(&page, sweep_page(&content).as_bytes())?;
    set.finish()?;
    Ok(page)
}
