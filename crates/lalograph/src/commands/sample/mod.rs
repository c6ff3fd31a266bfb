//! `sample`: write text with a trained model.

mod copies;
mod measure;

use std::sync::Arc;

use lalograph_lab::storage::files::{Existing, write_whole};
use lalograph_lab::writing::beam::Beam;
use lalograph_lab::writing::copying::{Copying, Measure};
use lalograph_lab::writing::decoding::Decoding;
use lalograph_lab::writing::generator::{Ended, Generator, Request, Sample, Stop};
use lalograph_lab::{LabError, ReadyModel};
use lalograph_net::numbers::chance::{Stream, stream};
use serde::Serialize;

use self::copies::{Copies, HeldOutCopying};
use super::{load_model, say_unknown_words, text_or_input};
use crate::cli::SampleArgs;
use crate::failure::Failure;
use crate::interrupt;
use crate::output::palette::SLATE;
use crate::output::screen::Screen;
use crate::output::wrap::beside;

/// Samples that are written side by side.
const TOGETHER: u64 = 32;

/// The temperature where none is given.
const TEMPERATURE: f64 = 0.8;

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
    #[serde(skip_serializing_if = "Option::is_none")]
    copying: Option<CopyingOfSample<'a>>,
}

/// What of a sample stands in the training text, and in itself.
#[derive(Serialize)]
struct CopyingOfSample<'a> {
    #[serde(flatten)]
    copying: &'a Copying,
    longest_text: &'a str,
    training_document: Option<u64>,
}

/// The last line of `sample --json --copying`.
#[derive(Serialize)]
struct HeldOutLine<'a> {
    held_out: &'a HeldOutCopying,
}

/// A sample and how it came about.
struct Written {
    decoding: Option<Decoding>,
    number: u64,
    score: Option<f64>,
    how: String,
    sample: Sample,
}

/// Runs the command.
pub(crate) fn run(args: &SampleArgs, screen: &Screen) -> Result<(), Failure> {
    refuse_idle(args)?;
    if args.tokens == 0 || args.count == Some(0) {
        return Err(Failure::Usage("nothing to write: --tokens and --count must be at least 1".into()));
    }
    let existing = if args.force { Existing::Replace } else { Existing::Keep };
    if let Some(path) = args.output.as_ref().filter(|path| existing == Existing::Keep && path.exists()) {
        return Err(LabError::Exists(path.clone()).into());
    }
    interrupt::listen();
    let ready = Arc::new(ReadyModel::new(load_model(&args.model)?));
    let file = ready.file();
    let seed_text = match &args.from_file {
        Some(path) => std::fs::read_to_string(path).map_err(LabError::at(path))?,
        None => text_or_input(&args.from)?,
    };
    let seed_text = seed_text.trim_end_matches(['\n', '\r']);
    let mut generator = Generator::new(Arc::clone(&ready));
    say_unknown_words(&generator.unknown_tokens(seed_text), screen);
    let stop = Stop { sentence: args.until_sentence, line: args.until_line, texts: args.until.clone() };
    let asked = Asked { args, screen, seed_text, stop: &stop };
    if args.measure {
        return measure::run(&asked, file, &mut generator);
    }
    let decodings = decodings(args);
    for decoding in &decodings {
        decoding.check(file.vocabulary.len())?;
    }
    let streamed = !args.json && args.output.is_none() && args.beam.is_none() && decodings.len() == 1;
    // One by one as they come to whoever reads along.
    let mut written = Vec::new();
    let alone = streamed && args.count.unwrap_or(1) == 1;
    if alone {
        written.push(asked.stream(&mut generator, &decodings[0])?);
    } else if let Some(width) = args.beam {
        let beam = asked.beam(width);
        let mut random = stream(args.seed, "beam", &[]);
        let mut go_on = |_| !interrupt::asked();
        let found = generator.search(&asked.request(&Decoding::GREEDY), &beam, &mut random, &mut go_on)?;
        written.extend((1..).zip(found).map(|(number, (sample, score))| {
            let how = format!("beam of {width}, text {number}, {score:.3} nats");
            Written { decoding: None, number, score: Some(score), how, sample }
        }));
    } else {
        for decoding in &decodings {
            asked.draw(&mut generator, decoding, args.count.unwrap_or(1), |sample| {
                if streamed {
                    screen.print(&format!("{}\n\n", asked.shown(&sample)))?;
                }
                written.push(sample);
                Ok(())
            })?;
        }
    }
    let copies = if args.copying { Some(Copies::find(&asked, &file, &written)?) } else { None };
    let mut text = String::new();
    if args.json {
        for (index, sample) in written.iter().enumerate() {
            let line = asked.json(sample, copies.as_ref().map(|copies| copies.of(index)))?;
            text.push_str(&line);
            text.push('\n');
        }
        if let Some(held_out) = copies.as_ref().and_then(|copies| copies.held_out.as_ref()) {
            text.push_str(&serde_json::to_string(&HeldOutLine { held_out }).map_err(Failure::work)?);
            text.push('\n');
        }
    } else if !streamed {
        text = asked.all(&written);
    }
    match &args.output {
        Some(path) => {
            write_whole(path, text.as_bytes(), existing)?;
            screen.note(&format!("written to {}", path.display()));
        }
        None => screen.print(&text)?,
    }
    if let Some(copies) = copies.filter(|_| !args.json) {
        let gap = if args.output.is_none() && !alone { "" } else { "\n" };
        screen.line(&format!("{gap}{}", copies.render(screen)))?;
    }
    if interrupt::asked() {
        return Err(Failure::Interrupted("stopped".into()));
    }
    Ok(())
}

/// Refuses what would be taken and not used.
fn refuse_idle(args: &SampleArgs) -> Result<(), Failure> {
    let drawn = [
        (!args.temperature.is_empty(), "--temperature"),
        (!args.top_k.is_empty(), "--top-k"),
        (!args.top_p.is_empty(), "--top-p"),
        (args.repetition_penalty != 1.0, "--repetition-penalty"),
        (args.count.is_some(), "--count"),
    ];
    let given = drawn.into_iter().find(|(given, _)| *given);
    let idle = match given {
        Some((_, flag)) if args.beam.is_some() && !args.measure => Some(format!(
            "{flag} has nothing to work on: a beam does not draw tokens (--best says how many texts)"
        )),
        _ if args.copied_run.is_some() && !args.copying && !args.measure => {
            Some("--copied-run has nothing to work on without --copying or --measure".to_owned())
        }
        _ if args.force && args.output.is_none() && args.pictures.is_none() => {
            Some("--force has nothing to work on without --output or --pictures".to_owned())
        }
        _ if args.greedy && args.measure => Some("--greedy is always among what is measured".to_owned()),
        _ => None,
    };
    idle.map_or(Ok(()), |what| Err(Failure::Usage(what)))
}

/// The ways of choosing that were asked for: each temperature with each k and each p.
fn decodings(args: &SampleArgs) -> Vec<Decoding> {
    fn each<T: Copy>(values: &[T]) -> Vec<Option<T>> {
        if values.is_empty() { vec![None] } else { values.iter().copied().map(Some).collect() }
    }
    let temperatures = match &args.temperature[..] {
        _ if args.greedy => vec![None],
        [] => vec![Some(TEMPERATURE)],
        given => each(given),
    };
    let repetition_penalty = args.repetition_penalty;
    let mut decodings = Vec::new();
    for &temperature in &temperatures {
        for &top_k in &each(&args.top_k) {
            for &top_p in &each(&args.top_p) {
                decodings.push(Decoding { temperature, top_k, top_p, repetition_penalty });
            }
        }
    }
    decodings
}

/// A way of choosing in words.
fn name(decoding: &Decoding) -> String {
    let mut name = decoding.temperature.map_or("greedy".to_owned(), |t| format!("temperature {t:?}"));
    if let Some(k) = decoding.top_k {
        name.push_str(&format!(", top-k {k}"));
    }
    if let Some(p) = decoding.top_p {
        name.push_str(&format!(", top-p {p:?}"));
    }
    if decoding.repetition_penalty != 1.0 {
        name.push_str(&format!(", penalty {:?}", decoding.repetition_penalty));
    }
    name
}

/// What is to be written, and where.
struct Asked<'a> {
    args: &'a SampleArgs,
    screen: &'a Screen,
    seed_text: &'a str,
    stop: &'a Stop,
}

impl Asked<'_> {
    fn request<'r>(&'r self, decoding: &'r Decoding) -> Request<'r> {
        let Self { args, seed_text, stop, .. } = self;
        Request { seed_text, decoding, tokens: args.tokens, past_end: args.past_end, stop }
    }

    fn beam(&self, width: usize) -> Beam {
        let Self { args, .. } = self;
        Beam {
            width,
            length_power: args.length_power.unwrap_or(if args.random_beam { 0.0 } else { 1.0 }),
            best: args.best.unwrap_or(1),
            random: args.random_beam,
        }
    }

    /// From the tokens from which on a run counts as copied.
    fn measure(&self) -> Measure {
        let usual = Measure::default();
        Measure { run: self.args.copied_run.map_or(usual.run, usize::from), ..usual }
    }

    fn random(&self, decoding: &Decoding, number: u64) -> Stream {
        stream(self.args.seed, "sampling", &[decoding.temperature.unwrap_or(0.0).to_bits(), number])
    }

    /// Writes one sample, printing it as it comes.
    fn stream(&self, generator: &mut Generator, decoding: &Decoding) -> Result<Written, Failure> {
        let screen = self.screen;
        screen.print(self.seed_text_shown())?;
        let mut failed = None;
        let mut random = self.random(decoding, 1);
        let sample = generator.write(&self.request(decoding), &mut random, |piece| {
            if failed.is_none() {
                failed = screen.print(piece).err();
            }
            failed.is_none() && !interrupt::asked()
        })?;
        match failed {
            Some(failure) => Err(failure),
            None => {
                screen.print("\n")?;
                Ok(Written { decoding: Some(*decoding), number: 1, score: None, how: name(decoding), sample })
            }
        }
    }

    /// Writes `count` samples of one way of choosing, many at a time.
    fn draw(
        &self,
        generator: &mut Generator,
        decoding: &Decoding,
        count: u64,
        mut each: impl FnMut(Written) -> Result<(), Failure>,
    ) -> Result<(), Failure> {
        let name = name(decoding);
        let mut number = 1;
        while number <= count && !interrupt::asked() {
            let together = TOGETHER.min(count + 1 - number);
            let mut randoms: Vec<Stream> =
                (number..number + together).map(|number| self.random(decoding, number)).collect();
            let request = self.request(decoding);
            let samples = generator.write_all(&request, &mut randoms, &mut |_, _| !interrupt::asked())?;
            for sample in samples {
                let how = format!("{name}, sample {number}");
                each(Written { decoding: Some(*decoding), number, score: None, how, sample })?;
                number += 1;
            }
        }
        Ok(())
    }

    fn seed_text_shown(&self) -> &str {
        if self.args.without_seed_text { "" } else { self.seed_text }
    }

    /// A sample under its head.
    fn shown(&self, written: &Written) -> String {
        let head = self.screen.styled(SLATE.style(), &written.how);
        format!("{head}\n{}{}", self.seed_text_shown(), written.sample.text)
    }

    /// All samples for people: those of several ways of choosing beside each other, unless they go to a file.
    fn all(&self, written: &[Written]) -> String {
        let mut ways: Vec<Option<Decoding>> = written.iter().map(|sample| sample.decoding).collect();
        ways.dedup();
        if self.args.output.is_some() {
            let headed = written.len() > 1;
            let plain = |sample: &Written| format!("{}{}\n", self.seed_text_shown(), sample.sample.text);
            let one = |sample: &Written| match headed {
                true => format!("{}\n{}", sample.how, plain(sample)),
                false => plain(sample),
            };
            return written.iter().map(one).collect();
        }
        if ways.len() < 2 {
            return match written {
                [sample] => format!("{}{}\n", self.seed_text_shown(), sample.sample.text),
                _ => written.iter().map(|sample| format!("{}\n\n", self.shown(sample))).collect(),
            };
        }
        let mut numbers: Vec<u64> = written.iter().map(|sample| sample.number).collect();
        numbers.sort_unstable();
        numbers.dedup();
        let row = |number: u64| {
            let of: Vec<(String, String)> = written
                .iter()
                .filter(|sample| sample.number == number)
                .map(|sample| {
                    (sample.how.clone(), format!("{}{}", self.seed_text_shown(), sample.sample.text))
                })
                .collect();
            format!("{}\n\n", beside(self.screen, &of))
        };
        numbers.into_iter().map(row).collect()
    }

    fn json(&self, written: &Written, copying: Option<CopyingOfSample<'_>>) -> Result<String, Failure> {
        let Written { decoding, number, score, sample, .. } = written;
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
            score: *score,
            number: *number,
            seed: self.args.seed,
            seed_text: self.seed_text,
            text: &sample.text,
            tokens: sample.tokens(),
            ended: sample.ended == Ended::Document,
            ended_by: sample.ended,
            log_probability: sample.log_probability(),
            token_log_probabilities: &sample.log_probabilities,
            copying,
        };
        serde_json::to_string(&line).map_err(Failure::work)
    }
}
