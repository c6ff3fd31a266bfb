//! `embed map`: words in a plane.

use lalograph_storage::Existing;
use lalograph_text::function_words::is_function_word;
use lalograph_vectors::map::{Neighbourhood, Plane, neighbourhood, principal};
use serde::Serialize;

use super::words::{load, words_of};
use crate::cli::{EmbedMapArgs, LayoutChoice};
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::chart::Picture;
use crate::output::number::{count, counted};
use crate::output::page::map_page;
use crate::output::progress::{Measure, Progress};
use crate::output::screen::Screen;
use crate::output::word_map::word_map;

/// JSON output of `embed map`.
#[derive(Serialize)]
struct MapDocument {
    picture: String,
    page: String,
    layout: &'static str,
    /// Function words and punctuation marks among the first words of the file that are not on the map.
    left_out: u64,
    /// Shares of the spread along the two axes, of principal components.
    #[serde(skip_serializing_if = "Option::is_none")]
    variance_shares: Option<[f64; 2]>,
    words: Vec<PlacedWord>,
}

/// A word and its place.
#[derive(Serialize)]
struct PlacedWord {
    word: String,
    x: f64,
    y: f64,
}

/// Runs the command.
pub(super) fn run(args: &EmbedMapArgs, screen: &Screen) -> Result<(), Failure> {
    if args.perplexity.is_some() && args.layout == LayoutChoice::Principal {
        return Err(Failure::Usage("--perplexity has no effect on principal components".into()));
    }
    let [svg, png, page] = ["svg", "png", "html"].map(|form| args.output.with_extension(form));
    let mut set = files::begin("map", &[&svg, &png, &page], Existing::replaced_if(args.force))?;
    let file = load(&args.vectors, screen)?;
    let table = &file.table;
    let mut rows: Vec<u32> = Vec::new();
    for word in words_of(&args.word, args.words_from.as_ref())? {
        rows.push(table.row(&word).ok_or_else(|| table.unknown(&word))?);
    }
    let mut left_out = 0;
    if rows.is_empty() {
        let is_left_out = |row: u32| !args.function_words && is_function_word(table.word(row));
        for row in 0..table.words().len() as u32 {
            if rows.len() == args.top {
                break;
            }
            if is_left_out(row) {
                left_out += 1;
            } else {
                rows.push(row);
            }
        }
    }
    // By direction, as cosine is.
    let vectors: Vec<&[f32]> = rows.iter().map(|&row| table.direction(row)).collect();
    let (layout, plane) = match args.layout {
        LayoutChoice::Principal => ("principal", principal(&vectors, args.seed)?),
        LayoutChoice::Neighbours => {
            let default =
                (rows.len() as f64 / 10.0).clamp(2.0, 30.0).min((rows.len() as f64 - 1.0) / 3.0).max(1.0);
            let how = Neighbourhood {
                perplexity: args.perplexity.unwrap_or(default),
                seed: args.seed,
                ..Neighbourhood::default()
            };
            let mut progress = Progress::new(screen, "computing the map", Measure::Steps, how.steps as u64);
            let plane = neighbourhood(&vectors, &how, |steps| {
                progress.at(steps as u64, "");
                !interrupt::asked()
            })?;
            progress.finish();
            ("neighbours", plane)
        }
    };
    let Plane { points, shares } = plane;
    let words: Vec<&str> = rows.iter().map(|&row| table.word(row)).collect();
    let scene = word_map(&words, &points, shares);
    let picture = Picture::of(scene)?;
    picture.write(&mut set, &args.output)?;
    let near: Vec<Vec<(String, f32)>> = table
        .nearest_of_all(
            &rows.iter().flat_map(|&row| table.at(row).to_vec()).collect::<Vec<f32>>(),
            5,
            &rows.iter().map(std::slice::from_ref).collect::<Vec<_>>(),
        )
        .into_iter()
        .map(|found| found.iter().map(|other| (table.word(other.row).to_owned(), other.cosine)).collect())
        .collect();
    let source = args.vectors.display().to_string();
    set.write(&page, map_page(&source, &words, &points, &near, shares).as_bytes())?;
    set.finish()?;
    if args.json {
        let place = |(word, point): (&&str, &[f64; 2])| PlacedWord {
            word: (*word).to_owned(),
            x: point[0],
            y: point[1],
        };
        return screen.json(&MapDocument {
            picture: png.display().to_string(),
            page: page.display().to_string(),
            layout,
            left_out,
            variance_shares: shares,
            words: words.iter().zip(&points).map(place).collect(),
        });
    }
    let without = match left_out {
        0 => String::new(),
        left_out => {
            format!(" ({} left out)", counted(left_out, "function word or mark", "function words and marks"))
        }
    };
    screen.line(&format!(
        "{} words drawn{without}: {}, {} and {}",
        count(words.len() as u64),
        page.display(),
        png.display(),
        svg.display()
    ))
}
