//! `sample`: write text with a trained model.

mod asked;
mod copies;
mod measure;

use std::sync::Arc;

use lalograph_lab::writing::decoding::Decoding;
use lalograph_lab::writing::generator::{Generator, Stop, chance_of_beam};
use lalograph_lab::{LabError, ReadyModel};
use lalograph_storage::Existing;
use serde::Serialize;

use self::asked::{Asked, Written};
use self::copies::{Copies, HeldOutCopying};
use super::input::{refuse_idle_unknown, say_unknown_words, text_or_input};
use super::lookup::load_model;
use crate::cli::SampleArgs;
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::screen::Screen;

/// The temperature where none is given.
const TEMPERATURE: f64 = 0.8;

/// The last line of `sample --json --copying`.
#[derive(Serialize)]
struct HeldOutLine<'a> {
    held_out: &'a HeldOutCopying,
}

/// Runs the command.
pub(crate) fn run(args: &SampleArgs, screen: &Screen) -> Result<(), Failure> {
    refuse_idle(args)?;
    let existing = Existing::replaced_if(args.force);
    if let Some(path) = args.output.as_ref().filter(|path| existing == Existing::Keep && path.exists()) {
        return Err(LabError::Exists(path.clone()).into());
    }
    interrupt::listen();
    let ready = Arc::new(ReadyModel::new(load_model(&args.model)?));
    let file = ready.file();
    refuse_idle_unknown(args.unknown, file.vocabulary.unit())?;
    let seed_text = match &args.from_file {
        Some(path) => std::fs::read_to_string(path).map_err(LabError::at(path))?,
        None => text_or_input(&args.from)?,
    };
    let seed_text = seed_text.trim_end_matches(['\n', '\r']);
    let mut generator = Generator::new(Arc::clone(&ready));
    say_unknown_words(&generator.unknown_tokens(seed_text), screen);
    let stop = Stop { sentence: args.until_sentence, line: args.until_line, texts: args.until.clone() };
    // An answer is shown below its prompt.
    let is_prompt = file.vocabulary.turns().is_some() && !seed_text.is_empty();
    let shown = match args.without_seed_text {
        true => String::new(),
        false => format!("{seed_text}{}", if is_prompt { "\n" } else { "" }),
    };
    let asked = Asked { args, screen, seed_text, shown: &shown, stop: &stop };
    if args.measure {
        return measure::run(&asked, file, &mut generator);
    }
    let decodings = decodings(args);
    for decoding in &decodings {
        decoding.check(file.vocabulary.len())?;
    }
    let at_once = args.output.is_none() && args.beam.beam.is_none();
    let streamed = at_once && !args.json && decodings.len() == 1;
    // A line of JSON is printed when its sample is done, unless more is found out about all of them.
    let lines = at_once && args.json && !args.copying;
    // Each sample is shown as it is written, one alone as it comes.
    let mut written = Vec::new();
    let alone = (streamed || lines) && decodings.len() == 1 && args.count.unwrap_or(1) == 1;
    if alone {
        written.push(asked.stream(&mut generator, &decodings[0])?);
    } else if let Some(width) = args.beam.beam {
        let beam = asked.beam(width);
        let mut random = chance_of_beam(args.seed);
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
                    screen.print(&format!("{}\n\n", asked.under_head(&sample)))?;
                }
                if lines {
                    screen.print(&format!("{}\n", asked.json(&sample, None)?))?;
                }
                written.push(sample);
                Ok(())
            })?;
        }
    }
    let copies = if args.copying { Some(Copies::find(&asked, &written)?) } else { None };
    let mut text = String::new();
    if args.json && !lines {
        for (index, sample) in written.iter().enumerate() {
            let line = asked.json(sample, copies.as_ref().map(|copies| copies.of(index)))?;
            text.push_str(&line);
            text.push('\n');
        }
        if let Some(held_out) = copies.as_ref().and_then(|copies| copies.held_out.as_ref()) {
            text.push_str(&serde_json::to_string(&HeldOutLine { held_out }).map_err(Failure::work)?);
            text.push('\n');
        }
    } else if !streamed && !lines {
        text = asked.all(&written);
    }
    match &args.output {
        Some(path) => {
            files::write(path, text.as_bytes(), existing)?;
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
        (!args.temperatures.is_empty(), "--temperatures"),
        (!args.top_k.is_empty(), "--top-k"),
        (!args.top_p.is_empty(), "--top-p"),
        (args.repeat_power != 1.0, "--repeat-power"),
        (args.count.is_some(), "--count"),
        (args.unknown.is_some(), "--unknown"),
    ];
    let given = drawn.into_iter().find(|(given, _)| *given);
    let idle = match given {
        Some((_, flag)) if args.beam.beam.is_some() && !args.measure => Some(format!(
            "{flag} has no effect: beam search draws no tokens (see --best for the number of texts)"
        )),
        _ if args.copied_run.is_some() && !args.copying && !args.measure => {
            Some("--copied-run has no effect without --copying or --measure".to_owned())
        }
        _ if args.force && args.output.is_none() && args.pictures.is_none() => {
            Some("--force has no effect without --output or --pictures".to_owned())
        }
        _ if args.greedy && args.measure => {
            Some("--greedy has no effect: greedy decoding is always measured".to_owned())
        }
        _ => None,
    };
    idle.map_or(Ok(()), |what| Err(Failure::Usage(what)))
}

/// The ways of choosing that were asked for: each temperature with each k and each p.
fn decodings(args: &SampleArgs) -> Vec<Decoding> {
    fn each<T: Copy>(values: &[T]) -> Vec<Option<T>> {
        if values.is_empty() { vec![None] } else { values.iter().copied().map(Some).collect() }
    }
    let temperatures = match &args.temperatures[..] {
        _ if args.greedy => vec![None],
        [] => vec![Some(TEMPERATURE)],
        given => each(given),
    };
    let repeat_power = args.repeat_power;
    let unknown = args.unknown.unwrap_or_default();
    let mut decodings = Vec::new();
    for &temperature in &temperatures {
        for &top_k in &each(&args.top_k) {
            for &top_p in &each(&args.top_p) {
                decodings.push(Decoding { temperature, top_k, top_p, repeat_power, unknown });
            }
        }
    }
    decodings
}
