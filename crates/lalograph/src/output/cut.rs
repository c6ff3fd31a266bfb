//! Text cut to a number of columns.

use unicode_width::UnicodeWidthChar;

use super::live::shown_width;

/// A text on one line of at most `width` columns; an ellipsis marks the cut.
pub(crate) fn cut(text: &str, width: usize) -> String {
    // Most are short, and have no colour.
    if text.len() <= width || shown_width(text) <= width {
        return text.to_owned();
    }
    let mut out = String::new();
    let (mut used, mut colour) = (0, false);
    for c in text.chars() {
        if c == '\u{1b}' {
            colour = true;
        }
        if !colour {
            let columns = c.width().unwrap_or(0);
            if used + columns + 1 > width {
                break;
            }
            used += columns;
        }
        out.push(c);
        if colour && c == 'm' {
            colour = false;
        }
    }
    out.push('\u{2026}');
    out
}
