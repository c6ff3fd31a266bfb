//! Input that commands share: text, words that a model does not know, threads.

use lalograph_lab::writing::decoding::UnknownTokens;
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
        || std::thread::available_parallelism().map_or(1, std::num::NonZeroUsize::get),
        usize::from,
    )
}
