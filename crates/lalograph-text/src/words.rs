//! Cutting a text into words, fast: the rules of Unicode Standard Annex 29 for ASCII in one table, and the crate that knows
//! them all for the rest.

use unicode_segmentation::UnicodeSegmentation;

const OTHER: u8 = 0;
const SPACE: u8 = 1;
const LETTER: u8 = 2;
const DIGIT: u8 = 3;
/// The low line, which joins the characters beside it.
const JOINER: u8 = 4;
/// Joins two letters or two digits: the full stop and the apostrophe.
const INNER: u8 = 5;
/// Joins two letters: the colon.
const INNER_LETTERS: u8 = 6;
/// Joins two digits: the comma and the semicolon.
const INNER_DIGITS: u8 = 7;
/// Not ASCII.
const HIGH: u8 = 8;

const CLASS: [u8; 256] = {
    let mut class = [OTHER; 256];
    let mut byte = 0;
    while byte < 256 {
        class[byte] = match byte as u8 {
            b'\t'..=b'\r' | b' ' => SPACE,
            b'A'..=b'Z' | b'a'..=b'z' => LETTER,
            b'0'..=b'9' => DIGIT,
            b'_' => JOINER,
            b'.' | b'\'' => INNER,
            b':' => INNER_LETTERS,
            b',' | b';' => INNER_DIGITS,
            0x80..=0xFF => HIGH,
            _ => OTHER,
        };
        byte += 1;
    }
    class
};

#[inline]
fn class(bytes: &[u8], at: usize) -> u8 {
    // The end of a text is like a control character: it joins nothing.
    bytes.get(at).map_or(OTHER, |&byte| CLASS[byte as usize])
}

/// Calls `each` with every word and every mark between words, in order; white space is skipped.
#[inline]
pub(crate) fn each_word<'t>(text: &'t str, mut each: impl FnMut(&'t str)) {
    let bytes = text.as_bytes();
    let mut at = 0;
    // Between two turns of the loop `at` is a boundary.
    while at < bytes.len() {
        match class(bytes, at) {
            SPACE => {
                let start = at;
                while class(bytes, at) == SPACE {
                    at += 1;
                }
                // A combining mark would join the space before it.
                if class(bytes, at) == HIGH {
                    at = beyond_ascii(text, start, at, &mut each);
                }
            }
            LETTER | DIGIT | JOINER => match end_of_word(bytes, at) {
                Ok(end) => {
                    each(&text[at..end]);
                    at = end;
                }
                Err(high) => at = beyond_ascii(text, at, high, &mut each),
            },
            HIGH => at = beyond_ascii(text, at, at, &mut each),
            _ if class(bytes, at + 1) == HIGH => at = beyond_ascii(text, at, at + 1, &mut each),
            _ => {
                each(&text[at..at + 1]);
                at += 1;
            }
        }
    }
}

/// The end of the word that begins at `at`, or the position of a character that is not ASCII and may belong to it.
#[inline]
fn end_of_word(bytes: &[u8], at: usize) -> Result<usize, usize> {
    let mut end = at + 1;
    loop {
        match class(bytes, end) {
            LETTER | DIGIT | JOINER => end += 1,
            HIGH => return Err(end),
            inner @ (INNER | INNER_LETTERS | INNER_DIGITS) => {
                let (before, after) = (class(bytes, end - 1), class(bytes, end + 1));
                if after == HIGH {
                    return Err(end + 1);
                }
                let joins = before == after
                    && ((before == LETTER && inner != INNER_DIGITS)
                        || (before == DIGIT && inner != INNER_LETTERS));
                if !joins {
                    return Ok(end);
                }
                end += 2;
            }
            _ => return Ok(end),
        }
    }
}

/// Cuts from the boundary at `start` up to the first white space after `high` that surely is a boundary; gives its place.
#[inline(never)]
fn beyond_ascii<'t>(text: &'t str, start: usize, high: usize, each: &mut impl FnMut(&'t str)) -> usize {
    let bytes = text.as_bytes();
    let mut end = high;
    loop {
        while end < bytes.len() && CLASS[bytes[end] as usize] != SPACE {
            end += 1;
        }
        // White space of other kinds may run on into this one.
        if !text[start..end].ends_with(char::is_whitespace) {
            break;
        }
        end += usize::from(end < bytes.len());
        if end == bytes.len() {
            break;
        }
    }
    for piece in text[start..end].split_word_bounds() {
        if !piece.chars().all(char::is_whitespace) {
            each(piece);
        }
    }
    end
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use unicode_segmentation::UnicodeSegmentation;

    use super::each_word;

    fn fast(text: &str) -> Vec<&str> {
        let mut words = Vec::new();
        each_word(text, |word| words.push(word));
        words
    }

    fn plain(text: &str) -> Vec<&str> {
        text.split_word_bounds().filter(|piece| !piece.chars().all(char::is_whitespace)).collect()
    }

    #[test]
    fn awkward_texts_are_cut_as_the_standard_defines() {
        for text in [
            "The queen's cells, 14 kilos.",
            "e.g. 3.5, 1,000;2 a:b a.b.c _x_ 'tis don''t a_1.2",
            " \u{301}a b\u{301} \u{301}\u{301}",
            "a \u{3000} b\u{2003} \u{2003}c",
            "na\u{ef}ve\u{2019}s caf\u{e9}.\u{e9} 3\u{ff0e}5",
            "\u{1f468}\u{200d}\u{1f33e} bees \u{1f1eb}\u{1f1f7}",
            "\u{e01}\u{e32}\u{e23} \u{8702}\u{871c}\u{8702}\u{871c}",
            "\u{5d0}\"\u{5d1} a\"b",
            "a\r\nb\rc\n\nd\u{85}e\u{2028}f\x0bg\x1ch",
            "x\u{200d} y\u{ad}z \u{feff}q",
            "",
            "\u{301}",
        ] {
            assert_eq!(fast(text), plain(text), "{text:?}");
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2000))]
        #[test]
        fn any_text_is_cut_as_the_standard_says(text in any::<String>()) {
            prop_assert_eq!(fast(&text), plain(&text));
        }

        #[test]
        fn mixtures_of_the_letters_that_matter_are_too(
            text in "[aB3_.,:;'\" \n\r\t\u{301}\u{e9}\u{3000}\u{2003}\u{200d}\u{5d0}\u{30a2}\u{1f41d}\u{660}\u{2019}-]{0,14}",
        ) {
            prop_assert_eq!(fast(&text), plain(&text));
        }
    }
}
