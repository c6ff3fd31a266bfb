//! Progress on standard error: a bar in a terminal, occasional plain lines in a file.

use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressStyle};

use crate::output::harmless::harmless;
use crate::output::number::{bytes, count, duration};
use crate::output::screen::Screen;

/// Seconds between two plain lines.
const PLAIN_EVERY: Duration = Duration::from_secs(10);

/// Unit of a progress bar.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Measure {
    /// Bytes, shown in decimal units.
    Bytes,
    /// Optimiser steps.
    Steps,
    /// Tokens.
    Tokens,
    /// Trials of a sweep.
    Trials,
    /// Documents.
    Documents,
}

/// A piece of work under way.
pub(crate) struct Progress<'s> {
    screen: &'s Screen,
    what: String,
    measure: Measure,
    bar: Option<ProgressBar>,
    started: Instant,
    last_plain: Instant,
    total: u64,
}

impl<'s> Progress<'s> {
    /// Starts. `total` is 0 if unknown.
    pub(crate) fn new(screen: &'s Screen, what: &str, measure: Measure, total: u64) -> Self {
        let bar = screen.is_live().then(|| {
            let bar = if total > 0 { ProgressBar::new(total) } else { ProgressBar::no_length() };
            let figures = match measure {
                Measure::Bytes => "{decimal_bytes}/{decimal_total_bytes}  {decimal_bytes_per_sec}",
                Measure::Steps => "step {human_pos}/{human_len}",
                Measure::Tokens => "{human_pos}/{human_len} tokens  {per_sec}",
                Measure::Documents => "{human_pos}/{human_len} documents",
                Measure::Trials => "{human_pos}/{human_len} results",
            };
            let bars = screen.styled_note(crate::output::palette::HONEY.style(), "{bar:24}");
            let template = format!("{{prefix}}  {bars}  {figures}  {{msg}}  {{eta}} left");
            if let Ok(style) = ProgressStyle::with_template(&template) {
                bar.set_style(style.progress_chars("\u{2588}\u{2592}\u{2591}"));
            }
            bar.set_prefix(harmless(what).into_owned());
            bar
        });
        let now = Instant::now();
        Self { screen, what: what.to_owned(), measure, bar, started: now, last_plain: now, total }
    }

    /// Moves to `position`, with a message of its own beside the bar.
    pub(crate) fn at(&mut self, position: u64, message: &str) {
        if let Some(bar) = &self.bar {
            bar.set_position(position);
            if !message.is_empty() {
                bar.set_message(harmless(message).into_owned());
            }
        } else if self.last_plain.elapsed() >= PLAIN_EVERY {
            self.last_plain = Instant::now();
            let line = self.plain_line(position, self.started.elapsed().as_secs_f64(), message);
            self.screen.note(&line);
        }
    }

    /// The progress after `seconds`, as a plain line.
    fn plain_line(&self, position: u64, seconds: f64, message: &str) -> String {
        let share = (position as f64 / self.total.max(1) as f64).min(1.0);
        let far = if self.total > 0 && share > 0.0 {
            format!("{:.0} %, {} left", share * 100.0, duration(seconds * (1.0 - share) / share))
        } else {
            match self.measure {
                Measure::Bytes => bytes(position),
                Measure::Steps => format!("step {}", count(position)),
                Measure::Tokens => format!("{} tokens", count(position)),
                Measure::Documents => format!("{} documents", count(position)),
                Measure::Trials => format!("{} results", count(position)),
            }
        };
        let message = if message.is_empty() { String::new() } else { format!(", {message}") };
        format!("{}: {far}{message}", self.what)
    }

    /// Prints a line above the bar.
    pub(crate) fn note(&self, text: &str) {
        match &self.bar {
            Some(bar) => bar.suspend(|| self.screen.note(text)),
            None => self.screen.note(text),
        }
    }

    /// Ends; the bar disappears.
    pub(crate) fn finish(self) {
        if let Some(bar) = self.bar {
            bar.finish_and_clear();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::{Measure, Progress};
    use crate::output::screen::Screen;

    #[test]
    fn a_plain_line_shows_the_share_and_time_left_or_the_known_part() {
        let screen = Screen::plain(80);
        let known = Progress::new(&screen, "reading", Measure::Bytes, 4_000_000);
        assert_eq!(known.plain_line(1_000_000, 10.0, ""), "reading: 25 %, 30 s left");
        assert_eq!(known.plain_line(4_000_000, 61.0, "done"), "reading: 100 %, 0.0 s left, done");
        assert_eq!(known.plain_line(0, 10.0, ""), "reading: 0 bytes");
        // A corpus may grow during reading.
        assert_eq!(known.plain_line(8_000_000, 10.0, ""), "reading: 100 %, 0.0 s left");
        let unknown = Progress::new(&screen, "reading", Measure::Bytes, 0);
        assert_eq!(unknown.plain_line(2_500_000, 5.0, ""), "reading: 2.5 MB");
        let steps = Progress::new(&screen, "training", Measure::Steps, 0);
        assert_eq!(steps.plain_line(1200, 5.0, "perplexity 9"), "training: step 1,200, perplexity 9");
    }
}
