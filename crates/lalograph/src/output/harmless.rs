//! Text from outside as a terminal may have it.
//!
//! Corpora, file names, labels, tokens and messages may hold what a terminal obeys: it would move the cursor, change the title, write to the
//! clipboard. Everything that is printed passes through here on its way, and of what a terminal obeys only the program's own colours
//! are let through.

use std::borrow::Cow;
use std::fmt::Write;
use std::io;
use std::sync::LazyLock;

use super::palette::{ASH, BRICK, HONEY, PLUM, TEAL};

/// The escape sequences of the program's own colours.
static OWN: LazyLock<Vec<String>> = LazyLock::new(|| {
    let colours = [HONEY, TEAL, PLUM, ASH, BRICK].map(|colour| colour.style().to_string());
    let plain = [anstyle::Style::new().bold().to_string(), anstyle::Reset.to_string()];
    colours.into_iter().chain(plain).collect()
});

/// Whether a terminal would obey a character, or show what follows it in another order.
fn is_obeyed(c: char) -> bool {
    matches!(c, '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
        || (c.is_control() && c != '\n' && c != '\t')
}

/// The text with a sign in place of everything that a terminal would obey, but for line ends, tabs and the program's own colours.
pub(crate) fn harmless(text: &str) -> Cow<'_, str> {
    if !text.contains(is_obeyed) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 16);
    let mut rest = text;
    while let Some(at) = rest.find(is_obeyed) {
        out.push_str(&rest[..at]);
        rest = &rest[at..];
        if let Some(own) = OWN.iter().find(|own| rest.starts_with(own.as_str())) {
            out.push_str(own);
            rest = &rest[own.len()..];
            continue;
        }
        let mut characters = rest.chars();
        if let Some(c) = characters.next() {
            out.extend(c.escape_default());
        }
        rest = characters.as_str();
    }
    out.push_str(rest);
    Cow::Owned(out)
}

/// Bytes of JSON that are looked through at once.
const BLOCK: usize = 1 << 16;

/// Writes JSON on, as [`harmless_json`] has it, while it is made. What is written at once has to be whole characters, and the end has to be flushed.
pub(crate) struct HarmlessJson<W> {
    out: W,
    held: Vec<u8>,
}

impl<W: io::Write> HarmlessJson<W> {
    pub(crate) fn new(out: W) -> Self {
        Self { out, held: Vec::with_capacity(2 * BLOCK) }
    }

    fn pass_on(&mut self) -> io::Result<()> {
        let held = std::str::from_utf8(&self.held);
        let text = held.map_err(|error| io::Error::new(io::ErrorKind::InvalidData, error))?;
        self.out.write_all(harmless_json(text).as_bytes())?;
        self.held.clear();
        Ok(())
    }
}

impl<W: io::Write> io::Write for HarmlessJson<W> {
    fn write(&mut self, json: &[u8]) -> io::Result<usize> {
        self.write_all(json).map(|()| json.len())
    }

    // A document has many pieces of a few bytes each.
    fn write_all(&mut self, json: &[u8]) -> io::Result<()> {
        self.held.extend_from_slice(json);
        if self.held.len() >= BLOCK { self.pass_on() } else { Ok(()) }
    }

    fn flush(&mut self) -> io::Result<()> {
        self.pass_on()?;
        self.out.flush()
    }
}

/// JSON in which such characters are escaped as JSON does it.
fn harmless_json(json: &str) -> Cow<'_, str> {
    if !json.contains(is_obeyed) {
        return Cow::Borrowed(json);
    }
    let mut out = String::with_capacity(json.len() + 16);
    for c in json.chars() {
        if is_obeyed(c) {
            // All of them lie below U+10000. Writing to a string cannot fail.
            let _ = write!(out, "\\u{:04x}", u32::from(c));
        } else {
            out.push(c);
        }
    }
    Cow::Owned(out)
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::{BLOCK, HarmlessJson, harmless};
    use crate::output::palette::HONEY;

    #[test]
    fn control_sequences_are_shown_and_own_colours_kept() {
        let style = HONEY.style();
        let painted = format!("{style}bees{style:#} and\thoney\n");
        assert_eq!(harmless(&painted), painted);
        for (hostile, shown) in [
            ("\u{1b}]52;c;aGl2ZQ==\u{7}", "\\u{1b}]52;c;aGl2ZQ==\\u{7}"),
            ("\u{1b}[31mred", "\\u{1b}[31mred"),
            ("\u{1b}", "\\u{1b}"),
            ("a\rb\u{8}\u{7f}\u{9b}2J", "a\\rb\\u{8}\\u{7f}\\u{9b}2J"),
            ("\u{202e}seeb", "\\u{202e}seeb"),
            ("plain \u{1f41d}", "plain \u{1f41d}"),
        ] {
            assert_eq!(harmless(hostile), shown);
        }
        // Decided once: shown text is not parsed again.
        assert_eq!(harmless(&harmless("\u{1b}[2J")), "\\u{1b}[2J");
    }

    #[test]
    fn json_stays_json() {
        let text = "a\u{7f}\u{9b}\u{202e}\u{1b}b";
        let long = text.repeat(BLOCK / 4);
        let (mut shown, mut whole) = (Vec::new(), Vec::new());
        for (text, shown) in [(text, &mut shown), (long.as_str(), &mut whole)] {
            let mut out = HarmlessJson::new(shown);
            serde_json::to_writer(&mut out, text).unwrap();
            out.flush().unwrap();
        }
        assert_eq!(serde_json::from_slice::<String>(&whole).unwrap(), long);
        let shown = String::from_utf8(shown).unwrap();
        assert!(!shown.chars().any(|c| c.is_control() || c == '\u{202e}'), "{shown}");
        assert_eq!(serde_json::from_str::<String>(&shown).unwrap(), text);
    }
}
