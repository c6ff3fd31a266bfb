//! A request for samples: its content, its decoding, its output.

use std::cell::Cell;

use lalograph_lab::writing::beam::Beam;
use lalograph_lab::writing::copying::{Copying, CopyingSettings};
use lalograph_lab::writing::decoding::{Decoding, UnknownTokens};
use lalograph_lab::writing::generator::{Ended, Generator, Request, Sample, Stop, Terms, chance_of_sample};
use lalograph_net::Choice;
use lalograph_net::numbers::chance::Stream;
use serde::Serialize;

use crate::cli::SampleArgs;
use crate::failure::Failure;
use crate::interrupt;
use crate::output::palette::ASH;
use crate::output::screen::Screen;
use crate::output::wrap::beside;

/// A line of `sample --json`.
#[derive(Serialize)]
pub(super) struct SampleLine<'a> {
    pub(super) method: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) temperature: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) top_k: Option<usize>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) top_p: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) repeat_power: Option<f64>,
    /// Treatment of unknown tokens, if any was drawn.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) unknown: Option<&'static str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) beam: Option<usize>,
    /// Score that the beam ranked texts by.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) score: Option<f64>,
    pub(super) number: u64,
    pub(super) seed: u64,
    pub(super) seed_text: &'a str,
    pub(super) text: &'a str,
    pub(super) tokens: u64,
    pub(super) ended: bool,
    pub(super) ended_by: Ended,
    pub(super) log_probability: f64,
    pub(super) token_log_probabilities: &'a [f64],
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) copying: Option<CopyingOfSample<'a>>,
}

/// Shares of a sample that are copied from the training text, and repeated within it.
#[derive(Serialize)]
pub(super) struct CopyingOfSample<'a> {
    #[serde(flatten)]
    pub(super) copying: &'a Copying,
    pub(super) longest_text: &'a str,
    pub(super) training_document: Option<u64>,
    pub(super) training_path: Option<String>,
    pub(super) training_line: Option<u64>,
}

/// A sample and how it came about.
pub(super) struct Written {
    pub(super) decoding: Option<Decoding>,
    pub(super) number: u64,
    pub(super) score: Option<f64>,
    pub(super) how: String,
    pub(super) sample: Sample,
}

/// A way of choosing in words.
pub(super) fn name(decoding: &Decoding) -> String {
    let mut name = decoding.temperature.map_or("greedy".to_owned(), |t| format!("temperature {t:?}"));
    if let Some(k) = decoding.top_k {
        name.push_str(&format!(", top-k {k}"));
    }
    if let Some(p) = decoding.top_p {
        name.push_str(&format!(", top-p {p:?}"));
    }
    if decoding.repeat_power != 1.0 {
        name.push_str(&format!(", repeat power {:?}", decoding.repeat_power));
    }
    match decoding.unknown {
        UnknownTokens::LeaveOut => {}
        UnknownTokens::Draw => name.push_str(", unknown drawn"),
        UnknownTokens::Spell => name.push_str(", unknown spelt"),
    }
    name
}

/// A line of JSON without text, as far as its text: no string holds a quotation mark that is not escaped.
fn up_to_text(mut line: String) -> String {
    const TEXT: &str = ",\"text\":\"";
    if let Some(at) = line.find(TEXT) {
        line.truncate(at + TEXT.len());
    }
    line
}

/// A text as it is within a string of JSON.
fn within_string(text: &str) -> Result<String, Failure> {
    let quoted = serde_json::to_string(text).map_err(Failure::work)?;
    Ok(quoted[1..quoted.len() - 1].to_owned())
}

/// The requested samples and their destination.
pub(super) struct Asked<'a> {
    pub(super) args: &'a SampleArgs,
    pub(super) screen: &'a Screen,
    pub(super) seed_text: &'a str,
    /// The seed text as it is shown before every sample.
    pub(super) shown: &'a str,
    pub(super) stop: &'a Stop,
}

impl Asked<'_> {
    pub(super) fn request(&self, decoding: &Decoding) -> Request<'_> {
        let Self { args, seed_text, stop, .. } = self;
        let (tokens, past_end, stop) = (args.tokens as usize, args.past_end, (*stop).clone());
        Request { seed_text, terms: Terms { decoding: *decoding, tokens, past_end, stop } }
    }

    pub(super) fn beam(&self, width: usize) -> Beam {
        self.args.beam.of_width(width, self.args.best.unwrap_or(1))
    }

    /// From the tokens from which on a run counts as copied.
    pub(super) fn measure(&self) -> CopyingSettings {
        let default = CopyingSettings::default();
        CopyingSettings { run: self.args.copied_run.map_or(default.run, usize::from), ..default }
    }

    pub(super) fn random(&self, decoding: &Decoding, number: u64) -> Stream {
        chance_of_sample(self.args.seed, decoding, number)
    }

    /// Writes one sample, printing it as it comes; with `--json` as one line, the text of which comes as it is written.
    pub(super) fn stream(&self, generator: &mut Generator, decoding: &Decoding) -> Result<Written, Failure> {
        let screen = self.screen;
        let of = |sample| Written {
            decoding: Some(*decoding),
            number: 1,
            score: None,
            how: name(decoding),
            sample,
        };
        let before = match self.args.json {
            true => up_to_text(self.json(&of(Sample::NOTHING), None)?),
            false => self.shown.to_owned(),
        };
        // Shown with the first piece: a seed text that the model cannot read is an error and nothing else.
        let (mut printed, mut failed) = (String::new(), None);
        let random = self.random(decoding, 1);
        let sample = generator.write(&self.request(decoding), random, |piece| {
            let mut show = || {
                let start = printed.len();
                if start == 0 {
                    printed.push_str(&before);
                }
                match self.args.json {
                    true => printed.push_str(&within_string(piece)?),
                    false => printed.push_str(piece),
                }
                screen.print(&printed[start..])
            };
            if failed.is_none() {
                failed = show().err();
            }
            failed.is_none() && !interrupt::asked()
        })?;
        if let Some(failure) = failed {
            return Err(failure);
        }
        let written = of(sample);
        let whole = match self.args.json {
            true => self.json(&written, None)?,
            false => format!("{}{}", self.shown, written.sample.text),
        };
        screen.print(&format!("{}\n", whole.strip_prefix(&printed).unwrap_or_default()))?;
        Ok(written)
    }

    /// Writes `count` samples of one way of choosing, some side by side.
    pub(super) fn draw(
        &self,
        generator: &mut Generator,
        decoding: &Decoding,
        count: u64,
        mut each: impl FnMut(Written) -> Result<(), Failure>,
    ) -> Result<(), Failure> {
        let name = name(decoding);
        let (mut number, mut failed) = (0, None);
        let random = |number: usize| self.random(decoding, number as u64 + 1);
        let stopped = Cell::new(false);
        let mut done = |sample| {
            number += 1;
            let how = format!("{name}, sample {number}");
            if failed.is_none() {
                failed = each(Written { decoding: Some(*decoding), number, score: None, how, sample }).err();
            }
            stopped.set(failed.is_some() || interrupt::asked());
            !stopped.get()
        };
        let mut go_on = |_, _: &str| !stopped.get() && !interrupt::asked();
        let request = self.request(decoding);
        generator.write_many(&request, count as usize, &random, &mut go_on, &mut done)?;
        failed.map_or(Ok(()), Err)
    }

    /// A sample under its head.
    pub(super) fn under_head(&self, written: &Written) -> String {
        let head = self.screen.styled(ASH.style(), &written.how);
        format!("{head}\n{}{}", self.shown, written.sample.text)
    }

    /// All samples for people: those of several ways of choosing beside each other, unless they go to a file.
    pub(super) fn all(&self, written: &[Written]) -> String {
        let mut ways: Vec<Option<Decoding>> = written.iter().map(|sample| sample.decoding).collect();
        ways.dedup();
        if self.args.output.is_some() {
            let headed = written.len() > 1;
            let plain = |sample: &Written| format!("{}{}\n", self.shown, sample.sample.text);
            let one = |sample: &Written| match headed {
                true => format!("{}\n{}", sample.how, plain(sample)),
                false => plain(sample),
            };
            return written.iter().map(one).collect();
        }
        if ways.len() < 2 {
            return match written {
                [sample] => format!("{}{}\n", self.shown, sample.sample.text),
                _ => written.iter().map(|sample| format!("{}\n\n", self.under_head(sample))).collect(),
            };
        }
        let mut numbers: Vec<u64> = written.iter().map(|sample| sample.number).collect();
        numbers.sort_unstable();
        numbers.dedup();
        let row = |number: u64| {
            let of: Vec<(String, String)> = written
                .iter()
                .filter(|sample| sample.number == number)
                .map(|sample| (sample.how.clone(), format!("{}{}", self.shown, sample.sample.text)))
                .collect();
            format!("{}\n\n", beside(self.screen, &of))
        };
        numbers.into_iter().map(row).collect()
    }

    pub(super) fn json(
        &self,
        written: &Written,
        copying: Option<CopyingOfSample<'_>>,
    ) -> Result<String, Failure> {
        let Written { decoding, number, score, sample, .. } = written;
        let method = match decoding {
            None if self.args.beam.random_beam => "random_beam",
            None => "beam",
            Some(Decoding { temperature: None, .. }) => "greedy",
            Some(_) => "temperature",
        };
        let line = SampleLine {
            method,
            temperature: decoding.and_then(|decoding| decoding.temperature),
            top_k: decoding.and_then(|decoding| decoding.top_k),
            top_p: decoding.and_then(|decoding| decoding.top_p),
            repeat_power: decoding.map(|d| d.repeat_power).filter(|&penalty| penalty != 1.0),
            unknown: self.args.unknown.map(|unknown| unknown.name()).filter(|_| decoding.is_some()),
            beam: self.args.beam.beam,
            score: *score,
            number: *number,
            seed: self.args.seed,
            seed_text: self.seed_text,
            text: &sample.text,
            tokens: sample.tokens(),
            ended: matches!(sample.ended, Ended::Document | Ended::Answer),
            ended_by: sample.ended,
            log_probability: sample.log_probability(),
            token_log_probabilities: &sample.log_probabilities,
            copying,
        };
        serde_json::to_string(&line).map_err(Failure::work)
    }
}
