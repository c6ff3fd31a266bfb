//! Input that commands share: text, words that a model does not know, threads.

use lalograph_lab::writing::decoding::UnknownTokens;
use lalograph_parallel::launched_here;
use lalograph_text::Unit;

use crate::failure::Failure;
use crate::output::screen::Screen;

/// Text given as an argument, or standard input for `-`.
pub(crate) fn text_or_input(text: &str) -> Result<String, Failure> {
    if text != "-" {
        return Ok(text.to_owned());
    }
    std::io::read_to_string(std::io::stdin().lock())
        .map_err(|error| Failure::work(format!("standard input: {error}")))
}

/// Words of a text that are named where a model does not know them.
pub(crate) const NAMED: usize = 8;

/// Names the words of a text that are not in a model's vocabulary.
pub(crate) fn say_unknown_words(unknown: &[String], screen: &Screen) {
    if !unknown.is_empty() {
        let listed: Vec<String> = unknown.iter().take(NAMED).map(|token| format!("`{token}`")).collect();
        let more = match unknown.len().checked_sub(NAMED) {
            None | Some(0) => String::new(),
            Some(more) => format!(" and {more} more"),
        };
        screen.warn(&format!("not in the model's vocabulary: {}{more}", listed.join(", ")));
    }
}

/// Refuses a treatment of unknown tokens where there are none.
pub(crate) fn refuse_idle_unknown(unknown: Option<UnknownTokens>, unit: Unit) -> Result<(), Failure> {
    match unknown {
        Some(_) if unit.knows_everything() => Err(Failure::Usage(format!(
            "--unknown has no effect: {} never produce unknown tokens",
            unit.plural()
        ))),
        _ => Ok(()),
    }
}

/// Threads to use: as many as asked for, or all processors.
pub(crate) fn threads(asked: Option<u16>) -> usize {
    asked.map_or_else(
        || {
            let all = std::thread::available_parallelism().map_or(1, std::num::NonZeroUsize::get);
            // Several processes on this machine share its processors, unless the launcher gave each its own.
            let share = processors().unwrap_or(all) / launched_here();
            all.min(share).max(1)
        },
        usize::from,
    )
}

/// Processors of this machine, whether or not this process may use them.
fn processors() -> Option<usize> {
    let listed = std::fs::read_to_string("/sys/devices/system/cpu/online").ok()?;
    let number = |text: &str| text.trim().parse::<usize>().ok();
    let ranges = listed.trim().split(',').map(|range| match range.split_once('-') {
        Some((first, last)) => Some(number(last)? + 1 - number(first)?),
        None => number(range).map(|_| 1),
    });
    ranges.sum()
}
