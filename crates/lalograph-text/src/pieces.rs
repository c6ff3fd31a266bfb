//! Pieces: the parts of a text that subwords never reach across.
//!
//! A piece is a run of letters, of digits, of marks, or of white space; one space before a run of the first three belongs to it, so that
//! most words carry their space along. An apostrophe between two letters is a letter, and a combining mark belongs to what
//! it is on. No piece is longer than 64 characters. All pieces of a text, one after another, are the text.

use unicode_properties::{GeneralCategoryGroup, UnicodeGeneralCategory};

/// Characters of the longest piece.
const LONGEST: usize = 64;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Class {
    Space,
    Letter,
    Digit,
    Mark,
    /// Joined to the next piece.
    Combining,
}

const ASCII: [Class; 128] = {
    let mut class = [Class::Mark; 128];
    let mut byte = 0;
    while byte < 128 {
        class[byte] = match byte as u8 {
            b'\t'..=b'\r' | b' ' => Class::Space,
            b'A'..=b'Z' | b'a'..=b'z' => Class::Letter,
            b'0'..=b'9' => Class::Digit,
            _ => Class::Mark,
        };
        byte += 1;
    }
    class
};

/// The class of the character at `at`, and the bytes it takes up.
#[inline]
fn class_at(text: &str, at: usize) -> Option<(Class, usize)> {
    let byte = *text.as_bytes().get(at)?;
    if byte < 128 {
        return Some((ASCII[usize::from(byte)], 1));
    }
    let c = text[at..].chars().next()?;
    let class = match c {
        c if c.is_whitespace() => Class::Space,
        c if c.is_alphabetic() => Class::Letter,
        c if c.is_numeric() => Class::Digit,
        c if c.general_category_group() == GeneralCategoryGroup::Mark || c == '\u{200d}' => Class::Combining,
        _ => Class::Mark,
    };
    Some((class, c.len_utf8()))
}

/// Calls `each` with every piece, in order.
#[inline]
pub(crate) fn each_piece<'t>(text: &'t str, mut each: impl FnMut(&'t str)) {
    let bytes = text.as_bytes();
    let mut at = 0;
    while let Some((first, size)) = class_at(text, at) {
        let start = at;
        at += size;
        let mut class = first;
        if bytes[start] == b' '
            && let Some((next, size)) = class_at(text, at)
            && next != Class::Space
        {
            class = next;
            at += size;
        }
        let mut characters = 1;
        while let Some((next, size)) = class_at(text, at) {
            let inner = bytes[at] == b'\''
                && class == Class::Letter
                && matches!(class_at(text, at + 1), Some((Class::Letter, _)));
            if (next != class && next != Class::Combining && !inner) || characters == LONGEST {
                break;
            }
            at += size;
            characters += 1;
        }
        // The last space of several goes with what follows it.
        if class == Class::Space && at - start > 1 && bytes[at - 1] == b' ' && at < bytes.len() {
            at -= 1;
        }
        each(&text[start..at]);
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::{LONGEST, each_piece};

    fn pieces(text: &str) -> Vec<&str> {
        let mut pieces = Vec::new();
        each_piece(text, |piece| pieces.push(piece));
        pieces
    }

    #[test]
    fn pieces_are_runs_with_the_space_before_them() {
        let cases: [(&str, &[&str]); 6] = [
            ("The queen's cells, 14 kilos.", &["The", " queen's", " cells", ",", " 14", " kilos", "."]),
            ("a  b\n\n  c ", &["a", " ", " b", "\n\n ", " c", " "]),
            ("x2--y", &["x", "2", "--", "y"]),
            ("e\u{301}t\u{e9} \u{1f41d}\u{200d}!", &["e\u{301}t\u{e9}", " \u{1f41d}\u{200d}!"]),
            ("'tis don't'", &["'", "tis", " don't", "'"]),
            ("", &[]),
        ];
        for (text, expected) in cases {
            assert_eq!(pieces(text), expected, "{text:?}");
        }
        assert_eq!(pieces(&"a".repeat(130)).iter().map(|p| p.len()).collect::<Vec<_>>(), [64, 64, 2]);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(1000))]
        #[test]
        fn pieces_make_up_the_text(text in any::<String>()) {
            let pieces = pieces(&text);
            prop_assert_eq!(pieces.concat(), text.as_str());
            prop_assert!(pieces.iter().all(|piece| !piece.is_empty() && piece.chars().count() <= LONGEST + 2));
        }
    }
}
