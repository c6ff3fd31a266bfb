//! The two streams that a person reads: results on standard output, everything else on standard error.

use std::io::{self, IsTerminal, Write};

use anstyle::Style;

use crate::cli::{ColourChoice, General};
use crate::failure::Failure;
use crate::output::harmless::{HarmlessJson, harmless};
use crate::output::palette::{ASH, BRICK, HONEY};

/// Width of a table without a terminal.
const USUAL_WIDTH: usize = 100;

/// Properties of the output's destination.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Screen {
    colour_out: bool,
    colour_err: bool,
    quiet: bool,
    live: bool,
    to_terminal: bool,
    width: usize,
}

impl Screen {
    /// Looks at the options, the environment and the streams.
    pub(crate) fn new(general: &General) -> Self {
        let plain = std::env::var_os("NO_COLOR").is_some_and(|value| !value.is_empty());
        let colour = |terminal: bool| match general.color {
            ColourChoice::Always => true,
            ColourChoice::Never => false,
            ColourChoice::Auto => terminal && !plain,
        };
        let (out, err) = (io::stdout().is_terminal(), io::stderr().is_terminal());
        let width = terminal_size::terminal_size().map_or(USUAL_WIDTH, |(width, _)| usize::from(width.0));
        Self {
            colour_out: colour(out),
            colour_err: colour(err),
            quiet: general.quiet,
            live: err && !general.quiet,
            to_terminal: out,
            width: width.clamp(40, 200),
        }
    }

    /// Columns to fit tables into.
    pub(crate) fn width(&self) -> usize {
        self.width
    }

    /// Whether progress may move on standard error.
    pub(crate) fn is_live(&self) -> bool {
        self.live
    }

    /// Whether results are printed to a terminal.
    pub(crate) fn prints_to_terminal(&self) -> bool {
        self.to_terminal
    }

    /// Current columns and rows of the terminal, within reason.
    pub(crate) fn terminal(&self) -> (usize, usize) {
        let size = terminal_size::terminal_size_of(io::stderr());
        let (width, height) = size.map_or((80, 24), |(width, height)| (width.0.into(), height.0.into()));
        (usize::clamp(width, 40, 240), usize::clamp(height, 4, 200))
    }

    /// Text in a style, for standard output.
    pub(crate) fn styled(&self, style: Style, text: &str) -> String {
        paint(self.colour_out, style, text)
    }

    /// Text in a style, for standard error.
    pub(crate) fn styled_note(&self, style: Style, text: &str) -> String {
        paint(self.colour_err, style, text)
    }

    /// A heading, for standard output.
    pub(crate) fn heading(&self, text: &str) -> String {
        self.styled(HONEY.style().bold(), text)
    }

    /// Writes to standard output: unchanged to a file or another program, and without control sequences to a terminal.
    pub(crate) fn print(&self, text: &str) -> Result<(), Failure> {
        let shown = if self.to_terminal { harmless(text) } else { text.into() };
        self.send(shown.as_bytes())
    }

    /// The same with what need not be text.
    pub(crate) fn bytes(&self, bytes: &[u8]) -> Result<(), Failure> {
        if self.to_terminal { self.print(&String::from_utf8_lossy(bytes)) } else { self.send(bytes) }
    }

    fn send(&self, bytes: &[u8]) -> Result<(), Failure> {
        // Tests of the program's own parts look at files, not at what is printed.
        if cfg!(test) {
            return Ok(());
        }
        let mut out = io::stdout().lock();
        out.write_all(bytes)?;
        out.flush()?;
        Ok(())
    }

    /// Writes a line to standard output.
    pub(crate) fn line(&self, text: &str) -> Result<(), Failure> {
        self.print(&format!("{text}\n"))
    }

    /// Writes JSON to standard output, on one line.
    pub(crate) fn json<T: serde::Serialize>(&self, value: &T) -> Result<(), Failure> {
        if cfg!(test) {
            return Ok(());
        }
        let mut out = HarmlessJson::new(io::stdout().lock());
        serde_json::to_writer(&mut out, value).map_err(io::Error::from)?;
        out.write_all(b"\n")?;
        out.flush()?;
        Ok(())
    }

    /// Prints a note on standard error, unless only results are wanted.
    pub(crate) fn note(&self, text: &str) {
        if !self.quiet {
            write_err(text);
        }
    }

    /// Warns, unless only results are wanted.
    pub(crate) fn warn(&self, text: &str) {
        self.note(&format!("{} {text}", self.styled_note(HONEY.style().bold(), "note:")));
    }

    /// Prints an error.
    pub(crate) fn error(&self, text: &str) {
        write_err(&format!("{} {text}", self.styled_note(BRICK.style().bold(), "error:")));
    }

    /// Prints the remedy.
    pub(crate) fn hint(&self, text: &str) {
        write_err(&format!("{} {text}", self.styled_note(ASH.style(), "try:")));
    }
}

fn paint(colour: bool, style: Style, text: &str) -> String {
    if colour { format!("{style}{text}{style:#}") } else { text.to_owned() }
}

/// With standard error closed, there is no way to report it.
pub(crate) fn write_err(text: &str) {
    let _ = writeln!(io::stderr(), "{}", harmless(text));
}

#[cfg(test)]
impl Screen {
    /// A screen of this width that shows no colour and no progress.
    pub(crate) fn plain(width: usize) -> Self {
        Self { colour_out: false, colour_err: false, quiet: true, live: false, to_terminal: false, width }
    }
}

#[cfg(test)]
mod tests {
    use super::{Screen, paint};
    use crate::cli::{ColourChoice, General};
    use crate::output::palette::{ASH, BRICK, HONEY, PLUM, TEAL};

    #[test]
    fn colour_is_added_removed_or_omitted() {
        let style = HONEY.style().bold();
        let painted = paint(true, style, "bee");
        assert!(painted.starts_with("\u{1b}[1m") && painted.ends_with("bee\u{1b}[0m"), "{painted:?}");
        assert_eq!(paint(false, style, "bee"), "bee");
    }

    #[test]
    fn an_explicit_choice_overrides_the_detected_terminal() {
        let screen = |color| Screen::new(&General { color, quiet: true });
        assert!(screen(ColourChoice::Always).heading("x").contains('\u{1b}'));
        assert_eq!(screen(ColourChoice::Never).heading("x"), "x");
        assert!(!screen(ColourChoice::Always).is_live(), "quiet means no bars");
    }

    #[test]
    fn the_palette_stays_apart_in_grey() {
        // Rec. 709 luma of each colour, which is what is left without hue.
        let luma = |c: crate::output::palette::Colour| {
            0.2126 * f64::from(c.0) + 0.7152 * f64::from(c.1) + 0.0722 * f64::from(c.2)
        };
        let curves = [HONEY, TEAL, PLUM];
        for (index, a) in curves.iter().enumerate() {
            for b in &curves[..index] {
                assert!((luma(*a) - luma(*b)).abs() > 15.0, "{a:?} {b:?}");
            }
        }
        assert_eq!([ASH.hex(), BRICK.hex()], ["#7a7266", "#b83a1e"]);
    }
}
