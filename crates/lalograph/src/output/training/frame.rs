//! The training view for a terminal of a given size.

use std::time::Duration;

use anstyle::Style;
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

use super::state::{State, Validation, Watched};
use crate::output::curve::{Heights, curve as drawn_curve};
use crate::output::cut::cut;
use crate::output::number::{count, duration, percent_of, perplexity};
use crate::output::palette::{ASH, HONEY};
use crate::output::screen::Screen;

/// Rows that figures and headings take; the rest is shared by the curve and the samples.
const CURVE_SHARE: f64 = 0.45;

/// Elapsed time, and the clock that counts it.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Clock {
    /// Since this process began to train.
    pub(crate) elapsed: Duration,
    /// Since the last checkpoint, if there was one.
    pub(crate) since_checkpoint: Option<Duration>,
}

/// The lines of the view: none wider than `width`, and no more than `height`.
pub(crate) fn frame(
    state: &State,
    clock: Clock,
    width: usize,
    height: usize,
    screen: &Screen,
) -> Vec<String> {
    let mut lines = vec![title(state, clock, width, screen), bar(state, clock, width, screen)];
    lines.extend(figures(state, clock, width, screen));
    lines.extend(hints(state, width, height.saturating_sub(lines.len()) / 2, screen));
    let room = height.saturating_sub(lines.len());
    let curve_rows = ((room as f64 * CURVE_SHARE) as usize).min(16);
    let samples = samples(state, width, room - if room >= 8 { curve_rows } else { 0 }, screen);
    // What the samples leave is the curve's.
    let left = room.saturating_sub(samples.len());
    if left >= 5 {
        lines.extend(curves(state, width, left, screen));
    }
    lines.extend(samples);
    lines.truncate(height);
    lines
}

fn paint(screen: &Screen, style: Style, text: &str) -> String {
    screen.styled_note(style, text)
}

fn title(state: &State, clock: Clock, width: usize, screen: &Screen) -> String {
    let time = format!("{} so far", duration(clock.elapsed.as_secs_f64()));
    let name = cut(&format!("training {}", state.name), width.saturating_sub(time.width() + 2));
    let gap = width.saturating_sub(name.width() + time.width());
    format!("{}{}{time}", paint(screen, HONEY.style().bold(), &name), " ".repeat(gap))
}

fn bar(state: &State, clock: Clock, width: usize, screen: &Screen) -> String {
    let share = state.step as f64 / state.steps.max(1) as f64;
    let what = match state.validating {
        Some(share) => format!("validating, {:.0} %", share * 100.0),
        None => state
            .seconds_left(clock.elapsed)
            .map_or_else(String::new, |left| format!("{} left", duration(left))),
    };
    let figures =
        format!("step {} of {}  {:.0} %  {what}", count(state.step), count(state.steps), share * 100.0);
    let cells = width.saturating_sub(figures.width() + 2).min(60);
    if cells < 6 {
        return cut(&figures, width);
    }
    let eighths = (share.clamp(0.0, 1.0) * (cells * 8) as f64).round() as usize;
    let mut filled = "\u{2588}".repeat(eighths / 8);
    if let Some(part) = char::from_u32(0x2590 - (eighths % 8) as u32).filter(|_| !eighths.is_multiple_of(8)) {
        filled.push(part);
    }
    let rest = "\u{2500}".repeat(cells - filled.width());
    format!("{}{}  {figures}", paint(screen, HONEY.style(), &filled), paint(screen, ASH.style(), &rest))
}

fn figures(state: &State, clock: Clock, width: usize, screen: &Screen) -> Vec<String> {
    let mut rows: Vec<Vec<String>> = Vec::new();
    if let Some(loss) = state.training_loss() {
        let mut parts = Vec::new();
        parts.push(match state.watched {
            Watched::Perplexity => format!("training perplexity {} (loss {loss:.3})", perplexity(loss.exp())),
            Watched::SampledLoss => format!("training loss {loss:.3}, sampled softmax"),
            Watched::Accuracy => format!("training loss {loss:.3}"),
        });
        parts.extend(
            state.figures.and_then(|figures| figures.accuracy).map(|a| format!("accuracy {}", percent_of(a))),
        );
        if let Some(figures) = &state.figures {
            parts.push(format!("{} tokens/s", count(figures.tokens_per_second as u64)));
            parts.push(format!("epoch {:.2}", figures.epoch));
        }
        rows.push(parts);
    }
    if let Some((last, before)) = state.last_two_validations() {
        let mut parts = validation_parts(state.watched, last, before);
        match state.best() {
            _ if last.best => parts.push("best so far".to_owned()),
            Some(best) => {
                let figure = match state.watched {
                    Watched::Accuracy => {
                        format!("loss {:.3}, accuracy {}", best.loss, percent_of(best.accuracy))
                    }
                    _ => perplexity(best.perplexity),
                };
                parts.push(format!("best {figure} at step {}", count(best.step)))
            }
            None => {}
        }
        rows.push(parts);
    }
    if let Some(figures) = &state.figures {
        let mut parts = vec![
            format!("learning rate {}", rate(figures.learning_rate)),
            format!("gradient norm {:.3}", figures.norm),
            format!("{:.0} % of steps clipped", figures.clipped_share * 100.0),
        ];
        if let (Some((step, _)), Some(since)) = (state.checkpoint, clock.since_checkpoint) {
            let ago = duration(since.as_secs_f64().round());
            parts.push(format!("checkpoint: step {}, {ago} ago", count(step)));
        }
        rows.push(parts);
    }
    rows.iter().flat_map(|parts| flowing(parts, width, screen)).collect()
}

/// The figures of a validation, with their changes since the one before.
pub(super) fn validation_parts(
    watched: Watched,
    last: Validation,
    before: Option<Validation>,
) -> Vec<String> {
    let change = |of: fn(&Validation) -> f64, places: usize| {
        before.map_or_else(String::new, |before| format!(" ({:+.places$})", of(&last) - of(&before)))
    };
    if watched == Watched::Accuracy {
        return vec![
            format!("validation loss {:.3}{}", last.loss, change(|v| v.loss, 3)),
            format!("accuracy {}{}", percent_of(last.accuracy), change(|v| 100.0 * v.accuracy, 1)),
            format!("macro F1 {:.3}{}", last.macro_f1, change(|v| v.macro_f1, 3)),
        ];
    }
    let mut parts = vec![
        format!("validation perplexity {}{}", perplexity(last.perplexity), change(|v| v.perplexity, 2)),
        format!("{:.3} bits/byte{}", last.bits_per_byte, change(|v| v.bits_per_byte, 3)),
    ];
    parts.extend(last.old_perplexity.map(|old| {
        let change = change(|v| v.old_perplexity.unwrap_or(f64::NAN), 2);
        format!("old perplexity {}{change}", perplexity(old))
    }));
    parts
}

/// Parts beside each other, and below where there is no more room. The first is what the line is about.
fn flowing(parts: &[String], width: usize, screen: &Screen) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    let mut used = width;
    for part in parts {
        let part = cut(part, width.saturating_sub(4));
        if used + 3 + part.width() <= width {
            used += 3 + part.width();
            if let Some(line) = lines.last_mut() {
                line.push_str(&format!("   {part}"));
            }
            continue;
        }
        let indent = if lines.is_empty() { 2 } else { 4 };
        used = indent + part.width();
        let shown = if lines.is_empty() { paint(screen, Style::new().bold(), &part) } else { part };
        lines.push(format!("{}{shown}", " ".repeat(indent)));
    }
    lines
}

/// A learning rate to three figures.
fn rate(rate: f64) -> String {
    if rate >= 1e-3 { format!("{rate:.4}") } else { format!("{rate:.2e}") }
}

/// Hints, the latest first, whole sentences while there is room.
fn hints(state: &State, width: usize, room: usize, screen: &Screen) -> Vec<String> {
    let head = paint(screen, HONEY.style().bold(), "note:");
    let mut lines = Vec::new();
    for hint in state.hints.iter().rev() {
        let wrapped = wrap(hint, width.saturating_sub(8));
        if lines.len() + wrapped.len() > room {
            break;
        }
        lines.extend(wrapped.iter().enumerate().map(|(row, line)| match row {
            0 => format!("  {head} {line}"),
            _ => format!("        {line}"),
        }));
    }
    lines
}

/// The curve of loss or perplexity, and below it that of a classifier's accuracy, if there is room for both.
fn curves(state: &State, width: usize, height: usize, screen: &Screen) -> Vec<String> {
    let scale = state.watched.scale();
    let loss = |height| {
        let line = if state.watched == Watched::SampledLoss { &[][..] } else { &state.training_curve };
        curve(state, scale.heights(), line, state.points().collect(), (width, height), screen)
    };
    if state.watched != Watched::Accuracy || height < 16 {
        return loss(height.min(18));
    }
    let heights = Heights { name: "accuracy", label: percent_of, logarithmic: false };
    let half = (height / 2).min(18);
    let points =
        state.validations.iter().map(|validation| (validation.step as f64, validation.accuracy)).collect();
    let accuracy = curve(state, heights, &state.accuracy_curve, points, (width, half), screen);
    [loss(half), accuracy].concat()
}

fn curve(
    state: &State,
    heights: Heights,
    line: &[(f64, f64)],
    points: Vec<(f64, f64)>,
    (width, height): (usize, usize),
    screen: &Screen,
) -> Vec<String> {
    // The first steep fall would flatten the rest of the curve: it is left out once there are enough points.
    let from = if points.len() > 3 { state.step as f64 / 10.0 } else { 0.0 };
    let points: Vec<(f64, f64)> = points.into_iter().filter(|(step, _)| *step >= from).collect();
    let line = &line[line.partition_point(|(step, _)| *step < from)..];
    let size = (width, height.saturating_sub(1));
    let drawn =
        drawn_curve(heights, line, &points, size, |step| step, &|style, text| paint(screen, style, text));
    let gap = if drawn.is_empty() { None } else { Some(String::new()) };
    gap.into_iter().chain(drawn).collect()
}

/// The latest samples, each over some lines, so that all together are no more than `room`.
fn samples(state: &State, width: usize, room: usize, screen: &Screen) -> Vec<String> {
    let Some(first) = state.samples.first() else {
        return Vec::new();
    };
    if room < 3 {
        return Vec::new();
    }
    let perplexity = first
        .validation_perplexity
        .map_or_else(String::new, |p| format!(", validation perplexity {}", perplexity(p)));
    let head = cut(&format!("  samples by temperature after step {}{perplexity}", count(first.step)), width);
    let mut lines = vec![String::new(), paint(screen, ASH.style(), &head)];
    let shown = state.samples.len().min(room - 2);
    // Lines are dealt out one by one, to those that still have something to show.
    let wrapped: Vec<Vec<String>> = state.samples[..shown]
        .iter()
        .map(|sample| {
            let end = if sample.ended { "" } else { " \u{2026}" };
            wrap(&format!("{}{}{end}", sample.seed_text, sample.text), width.saturating_sub(8))
        })
        .collect();
    let mut given = vec![1; shown];
    let mut left = room - 2 - shown;
    while left > 0 {
        let Some(next) = (0..shown).filter(|&i| given[i] < wrapped[i].len()).min_by_key(|&i| given[i]) else {
            break;
        };
        given[next] += 1;
        left -= 1;
    }
    for ((sample, text), given) in state.samples.iter().zip(&wrapped).zip(given) {
        for (row, line) in text.iter().take(given).enumerate() {
            let head = if row == 0 { format!("{:>5?}", sample.temperature) } else { " ".repeat(5) };
            let more = row + 1 == given && text.len() > given;
            let line =
                if more { cut(&format!("{line}\u{2026}"), width.saturating_sub(8)) } else { line.clone() };
            lines.push(format!("{}   {line}", paint(screen, ASH.style().bold(), &head)));
        }
    }
    lines
}

/// A text in lines of at most `width` columns, broken between words if possible.
fn wrap(text: &str, width: usize) -> Vec<String> {
    let width = width.max(8);
    let mut lines = vec![String::new()];
    // Spaces of the text are kept within a line; its own line ends are shown as a sign.
    let text = text.trim().replace('\n', " \u{23ce} ");
    // More than any terminal shows, and breaking a long word takes the square of its length.
    let clean: String = text.chars().filter(|c| !c.is_control()).take(10_000).collect();
    for word in clean.split_inclusive(' ') {
        let mut word = word;
        loop {
            let Some(line) = lines.last_mut() else {
                return lines;
            };
            if line.width() + word.trim_end().width() <= width {
                line.push_str(word);
                break;
            }
            if line.is_empty() {
                let mut used = 0;
                let end = word
                    .char_indices()
                    .find(|(_, c)| {
                        used += c.width().unwrap_or(0);
                        used > width
                    })
                    .map_or(word.len(), |(at, _)| at);
                line.push_str(&word[..end]);
                word = &word[end..];
                if word.is_empty() {
                    break;
                }
            }
            lines.push(String::new());
        }
    }
    lines.iter_mut().for_each(|line| line.truncate(line.trim_end().len()));
    lines
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use lalograph_lab::TrainingEvent;
    use lalograph_lab::run::records::{Figures, MetricsRecord, SampleRecord};
    use lalograph_lab::task::language::LanguageNote;

    use super::{Clock, State, Watched, cut, frame, wrap};
    use crate::output::live::{plain, shown_width};
    use crate::output::screen::Screen;

    /// A run that has come some way.
    fn state(validations: u64, hints: usize) -> State {
        let mut state =
            State::new("a-run-with-a-rather-long-name-20261125-094512", 12_000, Watched::Perplexity);
        state.hear(&TrainingEvent::Started { steps: 12_000, made: 0, parameters: 9 });
        for step in 1..=validations * 100 {
            let loss = 5.0 / (1.0 + step as f64 / 300.0) + 0.6;
            state.hear(&TrainingEvent::Step { step, tokens: 512, loss });
            if step % 20 == 0 {
                state.hear(&TrainingEvent::Metrics(&MetricsRecord::Training {
                    step,
                    epoch: step as f64 / 333.0,
                    tokens: step * 512,
                    seconds: 1.0,
                    loss,
                    figures: Figures::of([("perplexity", loss.exp())]),
                    learning_rate: 0.0081,
                    gradient_norm: 0.412,
                    clipped_gradient_norm: 0.25,
                    clipped_share: 0.23,
                    tokens_per_second: 54_321.0,
                }));
            }
            if step % 100 == 0 {
                state.hear(&TrainingEvent::Metrics(&MetricsRecord::Validation {
                    step,
                    epoch: 1.0,
                    seconds: 1.0,
                    loss,
                    figures: Figures::of([("perplexity", loss.exp()), ("bits_per_byte", 1.234)]),
                    best: step < 900,
                }));
                for temperature in [0.3, 0.7, 1.0] {
                    let text = "Maudry walked to Foxgate and found the brood well laid out, \u{8702}\u{8702} the queen seen.\n".repeat(3);
                    let seed_text = "Hesper".to_owned();
                    let sample = SampleRecord {
                        step,
                        validation_perplexity: Some(12.3),
                        temperature,
                        seed_text,
                        text,
                        tokens: 40,
                        ended: false,
                    };
                    state.hear(&TrainingEvent::Note(&LanguageNote::Sample(sample)));
                }
                state.hear(&TrainingEvent::Checkpoint(step));
            }
        }
        let sentence = "exploding gradients: at step 300 the gradient grows 15.0 times on its way 12 tokens back; a shorter window would tame it";
        state.hints = vec![sentence.to_owned(); hints];
        state
    }

    const CLOCK: Clock =
        Clock { elapsed: Duration::from_secs(754), since_checkpoint: Some(Duration::from_millis(42_345)) };

    #[test]
    fn a_classifier_is_shown_by_loss_and_accuracy() {
        let mut state = State::new("sorts", 1000, Watched::Accuracy);
        state.hear(&TrainingEvent::Started { steps: 1000, made: 0, parameters: 9 });
        for step in 1..=400u64 {
            let (loss, accuracy) =
                (1.5 / (1.0 + step as f64 / 100.0), 1.0 - 0.6 / (1.0 + step as f64 / 100.0));
            state.hear(&TrainingEvent::Step { step, tokens: 512, loss });
            let (epoch, seconds) = (1.0, 1.0);
            if step % 20 == 0 {
                state.hear(&TrainingEvent::Metrics(&MetricsRecord::Training {
                    step,
                    epoch,
                    tokens: 1,
                    seconds,
                    loss,
                    figures: Figures::of([("accuracy", accuracy)]),
                    learning_rate: 0.0081,
                    gradient_norm: 0.412,
                    clipped_gradient_norm: 0.25,
                    clipped_share: 0.23,
                    tokens_per_second: 54_321.0,
                }));
            }
            if step % 100 == 0 {
                let figures = Figures::of([("accuracy", accuracy), ("macro_f1", 0.5)]);
                let record = MetricsRecord::Validation { step, epoch, seconds, loss, figures, best: true };
                state.hear(&TrainingEvent::Metrics(&record));
            }
        }
        for (height, both) in [(39, true), (18, false)] {
            let lines = frame(&state, CLOCK, 100, height, &Screen::plain(100));
            let text = lines.iter().map(|line| plain(line)).collect::<Vec<_>>().join("\n");
            assert!(lines.len() <= height && !text.contains("perplexity"), "{text}");
            assert!(text.contains("validation loss 0.300") && text.contains("accuracy 88.0 %"), "{text}");
            assert!(text.contains("  loss: ") && text.contains("  accuracy: ") == both, "{text}");
        }
    }

    #[test]
    fn nothing_is_wider_or_higher_than_the_terminal() {
        for (validations, hints) in [(0, 0), (1, 0), (12, 0), (12, 3)] {
            let state = state(validations, hints);
            for width in [40, 60, 80, 120, 200] {
                for height in [1, 3, 6, 9, 12, 23, 39, 59] {
                    let lines = frame(&state, CLOCK, width, height, &Screen::plain(width));
                    assert!(lines.len() <= height, "{width}x{height}: {} lines", lines.len());
                    for line in &lines {
                        assert!(shown_width(line) <= width, "{width}x{height}: {line:?}");
                        assert!(!line.contains('\n'));
                    }
                }
            }
        }
    }

    #[test]
    fn a_terminal_of_common_size_shows_everything() {
        let text = frame(&state(12, 0), CLOCK, 80, 23, &Screen::plain(80)).join("\n");
        for part in [
            "training a-run",
            "12 min 34 s so far",
            "step 1,200 of 12,000  10 %",
            "left",
            "training perplexity",
            "54,321 tokens/s",
            "validation perplexity",
            "(-",
            "1.234 bits/byte (+0.000)",
            "learning rate 0.0081",
            "gradient norm 0.412",
            "23 % of steps clipped",
            "\u{25c6} validation",
            "  0.3   HesperMaudry",
            "  0.7",
            "  1.0",
            "samples by temperature after step 1,200",
        ] {
            assert!(text.contains(part), "no `{part}` in\n{text}");
        }
        let narrow = frame(&state(12, 1), CLOCK, 80, 23, &Screen::plain(80)).join("\n");
        assert!(narrow.contains("  note: exploding gradients: at step 300"), "{narrow}");
        assert!(narrow.contains("would tame it"), "nothing is cut: {narrow}");
    }

    #[test]
    fn texts_are_cut_and_wrapped_by_columns() {
        assert_eq!(cut("bees", 4), "bees");
        assert_eq!(cut("bees and", 4), "bee\u{2026}");
        assert_eq!(plain(&cut("\u{1b}[1mbees\u{1b}[0m and", 5)), "bees\u{2026}");
        assert_eq!(shown_width(&cut("\u{8702}\u{8702}\u{8702}", 4)), 3);
        assert_eq!(wrap("the bees came home", 9), ["the bees", "came home"]);
        assert_eq!(wrap("abcdefghijklmnopqrs", 8), ["abcdefgh", "ijklmnop", "qrs"]);
        assert_eq!(wrap("one\ntwo\u{7}", 20), ["one \u{23ce} two"]);
        assert_eq!(wrap("", 20), [""]);
    }
}
