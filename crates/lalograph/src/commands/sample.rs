//! `sample`: write text with a trained model.

use lalograph_lab::files::{Existing, write_whole};
use lalograph_lab::generate::{Choice, Generator, Request};
use lalograph_net::random::stream;
use serde::Serialize;

use super::{load_model, text_or_input};
use crate::cli::SampleArgs;
use crate::failure::Failure;
use crate::interrupt;
use crate::output::palette::SLATE;
use crate::output::screen::Screen;

/// A line of `sample --json`.
#[derive(Serialize)]
struct SampleLine<'a> {
    method: &'static str,
    /// Only when drawn at one.
    #[serde(skip_serializing_if = "Option::is_none")]
    temperature: Option<f64>,
    number: u64,
    seed: u64,
    seed_text: &'a str,
    text: &'a str,
    tokens: u64,
    ended: bool,
}

/// Runs the command.
pub(crate) fn run(args: &SampleArgs, screen: &Screen) -> Result<(), Failure> {
    let choices = if args.greedy {
        vec![Choice::Greedy]
    } else {
        args.temperature.iter().map(|&t| Choice::at_temperature(t)).collect::<Result<Vec<_>, _>>()?
    };
    if args.tokens == 0 || args.count == 0 {
        return Err(Failure::Usage("nothing to write: --tokens and --count must be at least 1".into()));
    }
    let existing = if args.force { Existing::Replace } else { Existing::Keep };
    if let Some(path) = args.output.as_ref().filter(|path| existing == Existing::Keep && path.exists()) {
        return Err(lalograph_lab::LabError::Exists(path.clone()).into());
    }
    interrupt::listen();
    let file = load_model(&args.model)?;
    let seed_text = text_or_input(&args.from)?;
    let seed_text = seed_text.trim_end_matches(['\n', '\r']);
    let packed = file.model.packed_for_reading(&file.weights);
    let mut generator = Generator::new(
        &file.model,
        packed.with(&file.weights),
        &file.vocabulary,
        file.plan.training.reset_at_documents,
    );
    let unknown = generator.unknown_tokens(seed_text);
    if !unknown.is_empty() {
        let listed: Vec<String> = unknown.iter().take(8).map(|token| format!("`{token}`")).collect();
        screen.warn(&format!("not in the model's vocabulary: {}", listed.join(", ")));
    }

    let mut written = String::new();
    let headed = choices.len() > 1 || args.count > 1;
    for &choice in &choices {
        for number in 1..=args.count {
            let temperature = match choice {
                Choice::Greedy => None,
                Choice::Temperature(temperature) => Some(temperature),
            };
            let request = Request { seed_text, choice, tokens: args.tokens, past_end: args.past_end };
            let position = [temperature.unwrap_or(0.0).to_bits(), number];
            let mut random = stream(args.seed, "sampling", &position);
            // On the way to a terminal the text is shown as it comes; anything else is put together first.
            let live = !args.json && args.output.is_none();
            let mut begin = String::new();
            if headed && !args.json {
                let how = temperature.map_or("greedy".to_owned(), |t| format!("temperature {t:?}"));
                let head = screen.styled(SLATE.style(), &format!("{how}, sample {number}"));
                begin.push_str(&format!("{head}\n"));
            }
            if !args.without_seed_text {
                begin.push_str(seed_text);
            }
            if live {
                screen.print(&begin)?;
            }
            let mut failed = None;
            let sample = generator.write(&request, &mut random, |piece| {
                if live && failed.is_none() {
                    failed = screen.print(piece).err();
                }
                failed.is_none() && !interrupt::asked()
            })?;
            if let Some(failure) = failed {
                return Err(failure);
            }
            if args.json {
                let line = SampleLine {
                    method: if temperature.is_some() { "temperature" } else { "greedy" },
                    temperature,
                    number,
                    seed: args.seed,
                    seed_text,
                    text: &sample.text,
                    tokens: sample.tokens,
                    ended: sample.ended,
                };
                let line = serde_json::to_string(&line).map_err(Failure::work)?;
                match args.output {
                    Some(_) => written.push_str(&format!("{line}\n")),
                    None => screen.line(&line)?,
                }
            } else if live {
                screen.print(if headed { "\n\n" } else { "\n" })?;
            } else {
                written.push_str(&format!("{begin}{}\n", sample.text));
            }
            if interrupt::asked() {
                return Err(Failure::Interrupted("stopped".into()));
            }
        }
    }
    if let Some(path) = &args.output {
        write_whole(path, written.as_bytes(), existing)?;
        screen.note(&format!("written to {}", path.display()));
    }
    Ok(())
}
