//! Choosing a way to choose tokens is a measurement: many samples of each, beside held-out text.

use lalograph_lab::ModelFile;
use lalograph_lab::measure::score::token_losses;
use lalograph_lab::writing::copying::{Copying, copying, distinct_share, excerpts};
use lalograph_lab::writing::decoding::Decoding;
use lalograph_lab::writing::generator::{Generator, Sample};
use lalograph_lab::writing::trial::{Trial, TrialText};
use lalograph_net::numbers::chance::stream;
use lalograph_storage::Existing;
use lalograph_text::tokens::TokenSequence;
use serde::Serialize;

use super::asked::{Asked, name};
use crate::commands::training_text::training_text;
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::chart::write_pictures;
use crate::output::decoding_charts::{DecodingPoint, decoding_charts};
use crate::output::number::{count, percent_of, perplexity};
use crate::output::progress::{Measure as Units, Progress};
use crate::output::screen::Screen;
use crate::output::table::{Column, table};
use crate::output::wrap::indented;

/// Samples of each way, temperatures, k, p and width where none are given.
const COUNT: u64 = 50;
const TEMPERATURES: [f64; 5] = [0.4, 0.6, 0.8, 1.0, 1.2];
const TOP_K: [usize; 1] = [10];
const TOP_P: [f64; 1] = [0.9];
const WIDTH: usize = 4;

/// JSON output of `sample --measure`.
#[derive(Serialize)]
struct MeasureDocument<'a> {
    seed: u64,
    seed_text: &'a str,
    copied_run_tokens: usize,
    repeated_ngram_tokens: usize,
    decodings: Vec<DecodingTrial>,
    held_out: Option<Trial>,
}

/// One way of choosing, and what came of it.
#[derive(Serialize)]
struct DecodingTrial {
    decoding: String,
    method: &'static str,
    temperature: Option<f64>,
    top_k: Option<usize>,
    top_p: Option<f64>,
    beam: Option<usize>,
    #[serde(flatten)]
    trial: Trial,
}

/// A way of choosing that is measured.
enum Way {
    Drawn(Decoding),
    Beam(usize),
}

impl Way {
    fn decoding(&self) -> Option<&Decoding> {
        match self {
            Self::Drawn(decoding) => Some(decoding),
            Self::Beam(_) => None,
        }
    }

    fn name(&self) -> String {
        match self {
            Self::Drawn(decoding) => name(decoding),
            Self::Beam(width) => format!("beam of {width}"),
        }
    }

    /// Drawn at a temperature; else there is but one text.
    fn temperature(&self) -> Option<f64> {
        self.decoding().and_then(|decoding| decoding.temperature)
    }
}

/// Every temperature by itself, with each k and with each p; and the two ways that write always the same.
fn ways(asked: &Asked<'_>) -> Vec<Way> {
    let args = asked.args;
    fn or<'v, T>(given: &'v [T], default: &'v [T]) -> &'v [T] {
        if given.is_empty() { default } else { given }
    }
    let plain = |temperature| Decoding {
        repeat_power: args.repeat_power,
        unknown: args.unknown.unwrap_or_default(),
        temperature,
        ..Decoding::GREEDY
    };
    let given = args.top_k.is_empty() && args.top_p.is_empty();
    let top_k = if given { &TOP_K[..] } else { &args.top_k };
    let top_p = if given { &TOP_P[..] } else { &args.top_p };
    let mut ways = vec![Way::Drawn(plain(None)), Way::Beam(args.beam.beam.unwrap_or(WIDTH))];
    for &temperature in or(&args.temperatures, &TEMPERATURES) {
        ways.push(Way::Drawn(plain(Some(temperature))));
        ways.extend(
            top_k.iter().map(|&k| Way::Drawn(Decoding { top_k: Some(k), ..plain(Some(temperature)) })),
        );
        ways.extend(
            top_p.iter().map(|&p| Way::Drawn(Decoding { top_p: Some(p), ..plain(Some(temperature)) })),
        );
    }
    ways
}

/// Measures, and prints a table.
pub(super) fn run(asked: &Asked<'_>, file: &ModelFile, generator: &mut Generator) -> Result<(), Failure> {
    let (args, screen) = (asked.args, asked.screen);
    let ways = ways(asked);
    for decoding in ways.iter().filter_map(Way::decoding) {
        decoding.check(file.vocabulary.len())?;
    }
    let names = ["decoding-perplexity", "decoding-copying"];
    let stems: Vec<_> = args.pictures.iter().flat_map(|folder| names.map(|name| folder.join(name))).collect();
    let places: Vec<_> = stems.iter().flat_map(|stem| files::picture(stem)).collect();
    let mut pictures = files::begin("decoding", &places, Existing::replaced_if(args.force))?;
    let prepared = match training_text(&args.model, screen) {
        Err(failure @ Failure::Work { .. }) => {
            // The rest can be measured all the same.
            screen.warn(&format!(
                "{}; copying is not measured, and there is no held-out text",
                failure.words()
            ));
            None
        }
        prepared => Some(prepared?.task),
    };
    let count_of_texts = args.count.unwrap_or(COUNT);
    let texts = write(asked, generator, &ways, count_of_texts)?;
    let measure = asked.measure();
    let lengths: Vec<usize> = texts.iter().flatten().map(|sample| sample.indices.len()).collect();
    // As many stretches of held-out text, of lengths that were written, not of one way alone.
    let lengths: Vec<usize> = spread(&lengths, count_of_texts as usize);
    let held_out = prepared
        .as_ref()
        .map(|prepared| excerpts(&prepared.corpus.validation, &lengths, args.seed))
        .transpose()?
        .unwrap_or_default();
    let held_out: Vec<&[u32]> = held_out.iter().map(Vec::as_slice).filter(|text| !text.is_empty()).collect();
    // One reading of the training text for all of them.
    let mut all: Vec<&[u32]> = texts.iter().flatten().map(|sample| &sample.indices[..]).collect();
    all.extend(&held_out);
    let copied =
        prepared.as_ref().map(|prepared| copying(&all, &prepared.corpus.training, measure)).transpose()?;
    let mut from = 0;
    let mut trial = |texts: &[TrialText<'_>]| {
        let range = from..from + texts.len();
        from = range.end;
        let copied: Option<&[Copying]> = copied.as_ref().map(|copied| &copied[range]);
        let repeated: Vec<Option<f64>> = texts
            .iter()
            .map(|text| distinct_share(&[text.indices], measure.ngram).map(|share| 1.0 - share))
            .collect();
        Trial::new(texts, &repeated, copied)
    };
    let mut decodings = Vec::new();
    for (way, samples) in ways.iter().zip(&texts) {
        let decoding = way.decoding();
        let texts: Vec<TrialText<'_>> = samples
            .iter()
            .map(|sample| TrialText { indices: &sample.indices, log_probability: sample.log_probability() })
            .collect();
        decodings.push(DecodingTrial {
            decoding: way.name(),
            method: match way {
                Way::Beam(_) => "beam",
                Way::Drawn(Decoding { temperature: None, .. }) => "greedy",
                Way::Drawn(_) => "temperature",
            },
            temperature: way.temperature(),
            top_k: decoding.and_then(|decoding| decoding.top_k),
            top_p: decoding.and_then(|decoding| decoding.top_p),
            beam: if let Way::Beam(width) = way { Some(*width) } else { None },
            trial: trial(&texts),
        });
    }
    let judged: Vec<TrialText<'_>> = held_out
        .iter()
        .map(|text| {
            let losses = token_losses(file, &TokenSequence::from_indices(text.to_vec()));
            TrialText { indices: text, log_probability: -losses.iter().sum::<f64>() }
        })
        .collect();
    let held_out = (!judged.is_empty()).then(|| trial(&judged));
    let document = MeasureDocument {
        seed: args.seed,
        seed_text: asked.seed_text,
        copied_run_tokens: measure.run,
        repeated_ngram_tokens: measure.ngram,
        decodings,
        held_out,
    };
    if !stems.is_empty() {
        let points: Vec<DecodingPoint<'_>> = document.decodings.iter().map(DecodingTrial::point).collect();
        for ((_, scene), stem) in decoding_charts(&points, document.held_out.as_ref()).into_iter().zip(&stems)
        {
            write_pictures(scene, &mut pictures, stem)?;
        }
    }
    pictures.finish()?;
    if args.json {
        return screen.json(&document);
    }
    screen.line(&render(&document, screen))?;
    match &args.pictures {
        Some(folder) => {
            screen.line(&format!("\n  charts: {}", folder.join("decoding-*.png and .svg").display()))
        }
        None => Ok(()),
    }
}

/// The texts of each way; those of a way that leaves nothing to chance are all the same one.
fn write(
    asked: &Asked<'_>,
    generator: &mut Generator,
    ways: &[Way],
    texts: u64,
) -> Result<Vec<Vec<Sample>>, Failure> {
    let mut progress = Progress::new(asked.screen, "writing", Units::Steps, ways.len() as u64);
    let mut written = Vec::new();
    for (index, way) in ways.iter().enumerate() {
        progress.at(index as u64, &way.name());
        let mut samples = Vec::new();
        match way {
            Way::Drawn(decoding) => {
                let count = if decoding.temperature.is_some() { texts } else { 1 };
                asked.draw(generator, decoding, count, |sample| {
                    samples.push(sample.sample);
                    Ok(())
                })?;
            }
            Way::Beam(width) => {
                let request = asked.request(&Decoding::GREEDY);
                let mut random = stream(asked.args.seed, "beam", &[]);
                let mut go_on = |_| !interrupt::asked();
                let found = generator.search(&request, &asked.beam(*width), &mut random, &mut go_on)?;
                samples.extend(found.into_iter().map(|(sample, _)| sample));
            }
        }
        if let (None, Some(only)) = (way.temperature(), samples.first().cloned()) {
            samples.resize(texts as usize, only);
        }
        written.push(samples);
        if interrupt::asked() {
            return Err(Failure::Interrupted("stopped; nothing was measured".into()));
        }
    }
    progress.finish();
    Ok(written)
}

/// So many of some lengths, evenly from the shortest to the longest.
fn spread(lengths: &[usize], count: usize) -> Vec<usize> {
    let mut sorted = lengths.to_vec();
    sorted.sort_unstable();
    let at = |index: usize| sorted.get((2 * index + 1) * sorted.len() / (2 * count)).copied();
    (0..count).filter_map(at).collect()
}

impl DecodingTrial {
    fn point(&self) -> DecodingPoint<'_> {
        let series = match (self.top_k, self.top_p) {
            (Some(k), _) => format!("top-k {k}"),
            (_, Some(p)) => format!("top-p {p:?}"),
            _ if self.temperature.is_some() => "temperature alone".to_owned(),
            _ => self.decoding.clone(),
        };
        DecodingPoint { series, temperature: self.temperature, trial: &self.trial }
    }
}

fn render(document: &MeasureDocument<'_>, screen: &Screen) -> String {
    let share = |share: Option<f64>| share.map_or_else(|| "-".to_owned(), percent_of);
    let row = |name: &str, trial: &Trial| {
        let [one, two, three] = trial.distinct_shares;
        vec![
            name.to_owned(),
            perplexity(trial.perplexity),
            count((trial.tokens as f64 / trial.texts.max(1) as f64).round() as u64),
            share(one),
            share(two),
            share(three),
            share(trial.repeated_share),
            trial.longest_run_mean.map_or_else(|| "-".to_owned(), |mean| format!("{mean:.1}")),
            share(trial.copied_share),
        ]
    };
    let short = |trial: &DecodingTrial| match trial.temperature {
        None => trial.decoding.clone(),
        Some(_) => trial.decoding.replace("temperature ", ""),
    };
    let mut rows: Vec<Vec<String>> =
        document.decodings.iter().map(|trial| row(&short(trial), &trial.trial)).collect();
    if let Some(held_out) = &document.held_out {
        rows.push(row("held-out text", held_out));
    }
    let heads = ["decoding", "perplexity", "tokens", "distinct 1", "2", "3", "repeated", "longest", "copied"];
    let columns: Vec<Column> =
        (0..heads.len()).map(|index| if index == 0 { Column::Text } else { Column::Number }).collect();
    let texts = document.decodings.first().map_or(0, |first| first.trial.texts);
    let note = format!(
        "{} texts per decoding; the first number is the temperature. perplexity: of the texts under the model; tokens: mean length; distinct n: share of different n-grams in all texts; repeated: share of {}-grams that occur earlier in the same text; longest: mean length of the longest sequence copied from the training text; copied: share of tokens in copied sequences of {} or more. A good decoding is close to held-out text in every column.",
        count(texts as u64),
        document.repeated_ngram_tokens,
        document.copied_run_tokens
    );
    format!(
        "{}\n{}\n\n{}",
        screen.heading("Decodings compared"),
        table(screen, &heads, &columns, &rows),
        indented(&note, screen.width())
    )
}

#[cfg(test)]
mod tests {
    use super::spread;

    #[test]
    fn lengths_are_drawn_evenly_from_shortest_to_longest() {
        assert_eq!(spread(&[9, 1, 5, 3, 7, 2], 3), [2, 5, 9]);
        assert_eq!(spread(&[4], 3), [4, 4, 4]);
        assert!(spread(&[], 3).is_empty());
    }
}
