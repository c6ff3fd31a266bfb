//! `sample`: write text with a trained model.

use lalograph_lab::LabError;
use lalograph_lab::files::{Existing, write_whole};
use lalograph_lab::generate::{Beam, Decoding, Ended, Generator, Request, Sample, Stop};
use lalograph_net::random::{Stream, stream};
use serde::Serialize;

use super::{load_model, text_or_input};
use crate::cli::SampleArgs;
use crate::failure::Failure;
use crate::interrupt;
use crate::output::palette::SLATE;
use crate::output::screen::Screen;

/// Samples that are written side by side.
const TOGETHER: u64 = 32;

/// A line of `sample --json`.
#[derive(Serialize)]
struct SampleLine<'a> {
    method: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    temperature: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    top_k: Option<usize>,
    #[serde(skip_serializing_if = "Option::is_none")]
    top_p: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    repetition_penalty: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    beam: Option<usize>,
    /// What the beam compared texts by.
    #[serde(skip_serializing_if = "Option::is_none")]
    score: Option<f64>,
    number: u64,
    seed: u64,
    seed_text: &'a str,
    text: &'a str,
    tokens: u64,
    ended: bool,
    ended_by: Ended,
    log_probability: f64,
    token_log_probabilities: &'a [f64],
}

/// Where samples go.
struct Sink<'a> {
    args: &'a SampleArgs,
    screen: &'a Screen,
    seed_text: &'a str,
    /// Whether each is told from the others by a head.
    headed: bool,
    written: String,
}

/// Runs the command.
pub(crate) fn run(args: &SampleArgs, screen: &Screen) -> Result<(), Failure> {
    if args.tokens == 0 || args.count == 0 {
        return Err(Failure::Usage("nothing to write: --tokens and --count must be at least 1".into()));
    }
    let existing = if args.force { Existing::Replace } else { Existing::Keep };
    if let Some(path) = args.output.as_ref().filter(|path| existing == Existing::Keep && path.exists()) {
        return Err(LabError::Exists(path.clone()).into());
    }
    interrupt::listen();
    let file = load_model(&args.model)?;
    let decodings = decodings(args);
    for decoding in &decodings {
        decoding.check(file.vocabulary.len())?;
    }
    let seed_text = match &args.from_file {
        Some(path) => std::fs::read_to_string(path).map_err(LabError::at(path))?,
        None => text_or_input(&args.from)?,
    };
    let seed_text = seed_text.trim_end_matches(['\n', '\r']);
    let packed = file.model.packed_for_reading(&file.weights);
    let weights = packed.with(&file.weights);
    let mut generator =
        Generator::new(&file.model, weights, &file.vocabulary, file.plan.training.reset_at_documents);
    let unknown = generator.unknown_tokens(seed_text);
    if !unknown.is_empty() {
        let listed: Vec<String> = unknown.iter().take(8).map(|token| format!("`{token}`")).collect();
        let more = if unknown.len() > 8 { format!(" and {} more", unknown.len() - 8) } else { String::new() };
        screen.warn(&format!("not in the model's vocabulary: {}{more}", listed.join(", ")));
    }
    let stop = Stop { sentence: args.until_sentence, line: args.until_line, texts: args.until.clone() };
    let request =
        |decoding| Request { seed_text, decoding, tokens: args.tokens, past_end: args.past_end, stop: &stop };
    let headed = decodings.len() > 1 || args.count > 1 || args.best.is_some_and(|best| best > 1);
    let mut sink = Sink { args, screen, seed_text, headed, written: String::new() };
    match args.beam {
        Some(width) => {
            let beam = Beam {
                width,
                length_power: args.length_power.unwrap_or(if args.random_beam { 0.0 } else { 1.0 }),
                best: args.best.unwrap_or(1),
                random: args.random_beam,
            };
            let mut random = stream(args.seed, "beam", &[]);
            let mut go_on = |_| !interrupt::asked();
            let found = generator.search(&request(&Decoding::GREEDY), &beam, &mut random, &mut go_on)?;
            for (number, (sample, score)) in (1..).zip(&found) {
                let how = format!("beam of {width}, text {number}, {score:.3} nats");
                sink.take(None, number, sample, Some(*score), &how)?;
            }
        }
        None => {
            for decoding in &decodings {
                draw(&mut generator, &request(decoding), decoding, &mut sink)?;
                if interrupt::asked() {
                    break;
                }
            }
        }
    }
    if let Some(path) = &args.output {
        write_whole(path, sink.written.as_bytes(), existing)?;
        screen.note(&format!("written to {}", path.display()));
    }
    if interrupt::asked() {
        return Err(Failure::Interrupted("stopped".into()));
    }
    Ok(())
}

/// The ways of choosing that were asked for.
fn decodings(args: &SampleArgs) -> Vec<Decoding> {
    let decoding = |temperature| Decoding {
        temperature,
        top_k: args.top_k,
        top_p: args.top_p,
        repetition_penalty: args.repetition_penalty,
    };
    if args.greedy {
        vec![decoding(None)]
    } else {
        args.temperature.iter().map(|&t| decoding(Some(t))).collect()
    }
}

/// Writes all samples of one way of choosing: one by one as they come to whoever reads along, else side by side.
fn draw(
    generator: &mut Generator<'_>,
    request: &Request<'_>,
    decoding: &Decoding,
    sink: &mut Sink<'_>,
) -> Result<(), Failure> {
    let (args, screen) = (sink.args, sink.screen);
    let random = |number: u64| -> Stream {
        stream(args.seed, "sampling", &[decoding.temperature.unwrap_or(0.0).to_bits(), number])
    };
    let how = |number: u64| {
        let how = decoding.temperature.map_or("greedy".to_owned(), |t| format!("temperature {t:?}"));
        format!("{how}, sample {number}")
    };
    if args.count == 1 && !args.json && args.output.is_none() {
        screen.print(&sink.begin(&how(1)))?;
        let mut failed = None;
        generator.write(request, &mut random(1), |piece| {
            if failed.is_none() {
                failed = screen.print(piece).err();
            }
            failed.is_none() && !interrupt::asked()
        })?;
        return match failed {
            Some(failure) => Err(failure),
            None => screen.print(if sink.headed { "\n\n" } else { "\n" }),
        };
    }
    let mut number = 1;
    while number <= args.count && !interrupt::asked() {
        let together = TOGETHER.min(args.count + 1 - number);
        let mut randoms: Vec<Stream> = (number..number + together).map(random).collect();
        let samples = generator.write_all(request, &mut randoms, &mut |_, _| !interrupt::asked())?;
        for sample in &samples {
            sink.take(Some(decoding), number, sample, None, &how(number))?;
            number += 1;
        }
    }
    Ok(())
}

impl Sink<'_> {
    /// What stands before a sample.
    fn begin(&self, how: &str) -> String {
        let head =
            if self.headed { format!("{}\n", self.screen.styled(SLATE.style(), how)) } else { String::new() };
        format!("{head}{}", if self.args.without_seed_text { "" } else { self.seed_text })
    }

    fn take(
        &mut self,
        decoding: Option<&Decoding>,
        number: u64,
        sample: &Sample,
        score: Option<f64>,
        how: &str,
    ) -> Result<(), Failure> {
        let text = if self.args.json {
            let method = match decoding {
                None if self.args.random_beam => "random_beam",
                None => "beam",
                Some(Decoding { temperature: None, .. }) => "greedy",
                Some(_) => "temperature",
            };
            let line = SampleLine {
                method,
                temperature: decoding.and_then(|decoding| decoding.temperature),
                top_k: decoding.and_then(|decoding| decoding.top_k),
                top_p: decoding.and_then(|decoding| decoding.top_p),
                repetition_penalty: decoding.map(|d| d.repetition_penalty).filter(|&penalty| penalty != 1.0),
                beam: self.args.beam,
                score,
                number,
                seed: self.args.seed,
                seed_text: self.seed_text,
                text: &sample.text,
                tokens: sample.tokens(),
                ended: sample.ended == Ended::Document,
                ended_by: sample.ended,
                log_probability: sample.log_probability(),
                token_log_probabilities: &sample.log_probabilities,
            };
            serde_json::to_string(&line).map_err(Failure::work)? + "\n"
        } else {
            let gap = if self.headed && self.args.output.is_none() { "\n\n" } else { "\n" };
            format!("{}{}{gap}", self.begin(how), sample.text)
        };
        match self.args.output {
            Some(_) => self.written.push_str(&text),
            None => self.screen.print(&text)?,
        }
        Ok(())
    }
}
