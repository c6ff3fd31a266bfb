//! View of a training run: a live view in a terminal, plain lines elsewhere, JSON Lines on request.

mod frame;
mod state;

use std::ops::ControlFlow;
use std::time::{Duration, Instant};

use lalograph_lab::TrainingEvent;
use lalograph_lab::run::records::{FlowRecord, MetricsRecord, SampleRecord};
use lalograph_lab::task::language::LanguageNote;
use lalograph_lab::training::hints::Hint;
use serde::Serialize;

use frame::{Clock, frame, validation_parts};
use state::State;
pub(crate) use state::Watched;

use crate::failure::Failure;
use crate::interrupt;
use crate::output::live::Live;
use crate::output::number::{count, duration, percent_of, perplexity};
use crate::output::palette::{ASH, TEAL};
use crate::output::screen::Screen;
use crate::output::wrap::indented;

/// The view is drawn again so often, at most.
const DRAWN_EVERY: Duration = Duration::from_millis(400);
/// Interval of progress lines, if there is no live view.
const PRINTED_EVERY: Duration = Duration::from_secs(20);

/// Presentation of events.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Output {
    /// For people, on standard error.
    Words,
    /// JSON Lines on standard output.
    Json,
}

/// Shows what happens.
pub(crate) struct TrainingView<'s> {
    screen: &'s Screen,
    output: Output,
    state: State,
    live: Option<Live>,
    drawn: Option<Instant>,
    printed: Instant,
    /// The last validation that was printed, for the change since.
    sampled_at: Option<u64>,
    failure: Option<Failure>,
}

impl<'s> TrainingView<'s> {
    /// A view of a run that has not started.
    pub(crate) fn new(screen: &'s Screen, output: Output, name: &str, steps: u64, watched: Watched) -> Self {
        // Lines of JSON in the same terminal would run into the view.
        let live = screen.is_live() && (output == Output::Words || !screen.prints_to_terminal());
        Self {
            screen,
            output,
            state: State::new(name, steps, watched),
            live: live.then(Live::default),
            drawn: None,
            printed: Instant::now(),
            sampled_at: None,
            failure: None,
        }
    }

    /// Shows an event; breaks when somebody asked the program to end, or nobody reads what it prints.
    pub(crate) fn show(&mut self, event: &TrainingEvent<'_, LanguageNote>) -> ControlFlow<()> {
        self.state.hear(event);
        if self.output == Output::Json {
            self.print(event);
        }
        if self.live.is_some() {
            self.redraw(matches!(
                event,
                TrainingEvent::Note(LanguageNote::Sample(_)) | TrainingEvent::Hint(_)
            ));
        } else if self.output == Output::Words {
            self.say(event);
        }
        if self.failure.is_some() { ControlFlow::Break(()) } else { interrupt::flow() }
    }

    /// Ends the view, which stays on the screen, and returns what failed.
    pub(crate) fn finish(mut self) -> Option<Failure> {
        if self.state.step > 0 || self.drawn.is_some() {
            self.drawn = None;
            self.redraw(true);
        }
        if let Some(live) = &mut self.live {
            live.leave();
        }
        self.failure
    }

    fn redraw(&mut self, at_once: bool) {
        let Some(live) = &mut self.live else {
            return;
        };
        let pause = if at_once { DRAWN_EVERY / 5 } else { DRAWN_EVERY };
        if self.drawn.is_some_and(|drawn| drawn.elapsed() < pause) {
            return;
        }
        self.drawn = Some(Instant::now());
        let (width, height) = self.screen.terminal();
        let clock = Clock {
            elapsed: self.state.started.elapsed(),
            since_checkpoint: self.state.checkpoint.map(|(_, written)| written.elapsed()),
        };
        // The last row is where the cursor is.
        let lines = frame(&self.state, clock, width, height.saturating_sub(1), self.screen);
        live.draw(&lines, width);
    }

    fn json<T: Serialize>(&mut self, record: &T) {
        if let Err(failure) = self.screen.json(record) {
            self.failure = Some(failure);
        }
    }

    fn print(&mut self, event: &TrainingEvent<'_, LanguageNote>) {
        match *event {
            TrainingEvent::Metrics(record) => self.json(record),
            TrainingEvent::Note(LanguageNote::Sample(record)) => {
                self.json(&SampleLine { kind: "sample", record });
            }
            TrainingEvent::Note(LanguageNote::Flow(record)) => self.json(&FlowLine { kind: "flow", record }),
            TrainingEvent::Checkpoint(step) => self.json(&CheckpointLine { kind: "checkpoint", step }),
            TrainingEvent::Hint(hint) => self.json(&HintLine::new(hint)),
            _ => {}
        }
    }

    fn say(&mut self, event: &TrainingEvent<'_, LanguageNote>) {
        match event {
            TrainingEvent::Step { step, .. } if self.printed.elapsed() >= PRINTED_EVERY => {
                let far = 100.0 * *step as f64 / self.state.steps.max(1) as f64;
                let left = self.state.seconds_left(self.state.started.elapsed()).unwrap_or(0.0);
                let speed = self.state.figures.map_or_else(String::new, |figures| {
                    format!(", {} tokens/s", count(figures.tokens_per_second as u64))
                });
                self.note(&format!(
                    "training: step {}, {far:.0} %, {} left{speed}",
                    count(*step),
                    duration(left)
                ));
            }
            TrainingEvent::Metrics(MetricsRecord::Validation { step, best, .. }) => {
                self.say_validation(*step, *best)
            }
            TrainingEvent::Metrics(record @ MetricsRecord::Test { loss, .. }) => {
                let bits = record
                    .figure("bits_per_byte")
                    .map_or_else(String::new, |b| format!(", {b:.3} bits/byte"));
                self.note(&match record.figure("accuracy") {
                    Some(accuracy) => format!("test loss {loss:.3}, accuracy {}", percent_of(accuracy)),
                    None => format!("test perplexity {}{bits}", perplexity(loss.exp())),
                });
            }
            TrainingEvent::Note(LanguageNote::Sample(record)) => self.say_sample(record),
            TrainingEvent::Hint(hint) => {
                self.printed = Instant::now();
                self.screen.warn(&hint.to_string());
            }
            _ => {}
        }
    }

    fn note(&mut self, text: &str) {
        self.printed = Instant::now();
        self.screen.note(text);
    }

    fn say_validation(&mut self, step: u64, best: bool) {
        let Some((last, before)) = self.state.last_two_validations() else {
            return;
        };
        let mut parts = vec![self.screen.styled_note(TEAL.style().bold(), &format!("step {}", count(step)))];
        if let Some(loss) = self.state.training_loss() {
            match self.state.watched {
                Watched::Perplexity => parts.push(format!("training perplexity {}", perplexity(loss.exp()))),
                Watched::Accuracy => parts.push(format!("training loss {loss:.3}")),
                Watched::SampledLoss => {}
            }
        }
        parts.extend(validation_parts(self.state.watched, last, before));
        if let Some(figures) = self.state.figures {
            parts.push(format!(
                "gradient norm {:.2}, {:.0} % clipped",
                figures.norm,
                figures.clipped_share * 100.0
            ));
        }
        if best {
            parts.push("best so far".to_owned());
        }
        self.note(&parts.join("  "));
    }

    fn say_sample(&mut self, record: &SampleRecord) {
        if self.sampled_at != Some(record.step) {
            self.sampled_at = Some(record.step);
            self.note(&format!("  samples after step {}", count(record.step)));
        }
        // Written out as 1.0, not as 1.
        let head = format!("{:>5?}", record.temperature);
        let head = self.screen.styled_note(ASH.style().bold(), &head);
        let whole = format!("{}{}", record.seed_text, record.text);
        let text = indented(whole.trim_start(), self.screen.width().saturating_sub(6));
        let text = text.trim_start().replace('\n', "\n      ");
        self.note(&format!("{head}   {text}{}", if record.ended { "" } else { " \u{2026}" }));
    }
}

/// A sample among the lines of `train --json`, distinguished by its kind like the other lines.
#[derive(Serialize)]
struct SampleLine<'a> {
    kind: &'static str,
    #[serde(flatten)]
    record: &'a SampleRecord,
}

/// Gradient by distance in time, among the lines of `train --json`.
#[derive(Serialize)]
struct FlowLine<'a> {
    kind: &'static str,
    #[serde(flatten)]
    record: &'a FlowRecord,
}

/// A checkpoint was written, among the lines of `train --json`.
#[derive(Serialize)]
struct CheckpointLine {
    kind: &'static str,
    step: u64,
}

/// A hint with its sentence, for every JSON output.
#[derive(Serialize)]
pub(crate) struct HintLine<'a> {
    kind: &'static str,
    #[serde(flatten)]
    hint: &'a Hint,
    message: String,
}

impl<'a> HintLine<'a> {
    pub(crate) fn new(hint: &'a Hint) -> Self {
        Self { kind: "hint", hint, message: hint.to_string() }
    }
}
