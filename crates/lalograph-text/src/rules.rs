//! Cleaning and tokenising in words that are exact enough to implement, for readers who have a model and not this program.

use crate::cleaning::html::{BARE, BLOCKS, DROPPED, LONGEST_ENTITY, OTHERS};
use crate::{CleaningStep, Unit};

/// The Unicode version of word boundaries and grapheme clusters, and that of the properties of characters.
pub fn unicode_versions() -> [String; 2] {
    let (major, minor, update) = unicode_segmentation::UNICODE_VERSION;
    let (own_major, own_minor, own_update) = char::UNICODE_VERSION;
    [format!("{major}.{minor}.{update}"), format!("{own_major}.{own_minor}.{own_update}")]
}

/// The definition of marks, letters and digits that the rules for punctuation share.
const MARKS: &str = "A *mark* is one of the 32 ASCII punctuation characters, or a character beyond ASCII of the general categories P or S. A mark is *inner*, and is copied like a letter, if a character is before it and after it, neither of them is a mark, and either the mark is `'`, U+2019, `-`, U+2010 or U+2011 and both characters have the property Alphabetic, or the mark is `.` or `,` and both characters have a general category N. Go through the text from the first to the last character; characters that are no mark are copied.";

impl CleaningStep {
    /// What the step does, exactly; `None` for the steps of mail, which a parser of messages does.
    pub fn rule(&self) -> Option<String> {
        let form = |name: &str| {
            Some(format!("Bring the text to Unicode normalization form {name} (Standard Annex 15)."))
        };
        match self {
            Self::MailText | Self::MailTextWithSubject | Self::MailTextWithHeaders => None,
            Self::StripHtml => Some(strip_html()),
            Self::NormalFormC => form("C"),
            Self::NormalFormD => form("D"),
            Self::NormalFormKc => form("KC"),
            Self::NormalFormKd => form("KD"),
            Self::LowerCase => Some("Convert the text to lower case by the default algorithm of Unicode (the full mapping, with the final sigma by its context and no language's own rules).".into()),
            Self::SplitPunctuation => Some(format!(
                "{MARKS} For a mark that is not inner: write a space if a character is before the mark in the text, that character is not white space, and the last character written is not white space; write the mark; write a space if a character is after the mark and is not white space."
            )),
            Self::DropPunctuation => Some(format!(
                "{MARKS} For a mark that is not inner: write a space if a character is before the mark in the text, a character is after the mark and is not white space, something was written, and the last character written is not white space; do not write the mark."
            )),
            Self::FoldDigits => Some("Replace every character of the general category Nd by `0`.".into()),
            Self::PlainLineEnds => Some("Replace every CR LF by LF, then every CR by LF.".into()),
            Self::CollapseSpace => Some("Replace every run of characters with the property White_Space by one space; remove white space at the start and the end.".into()),
            Self::Replace(replacement) => Some(format!(
                "Replace every match of the regular expression `{}` (the syntax of the Rust crate `regex`: leftmost-first, Unicode, no look-around) by `{}`, where `$1` or `${{name}}` is what a group matched and `$$` a dollar sign.",
                replacement.pattern(),
                replacement.with()
            )),
        }
    }
}

fn strip_html() -> String {
    let list = |names: &[&str]| names.join(", ");
    format!(
        "Go through the text from the start. Everything is copied but what these rules remove; names are compared without regard to case.
   - `<!--`: remove all up to and with the next `-->`, or to the end of the text if there is none.
   - `<!` and `doctype`, or `<?xml`: remove all up to and with the next `>`; if there is none, copy the `<`.
   - Any other `<`, perhaps with a `/` after it: the *name* is the longest run of ASCII letters, digits and hyphens that follows. The name must be one of the lists below, or start with a letter and contain a hyphen. The tag ends at the first `>` outside of quoted values; a value is quoted by `\"` or `'` if the quote directly follows `=`. If a `<` comes first outside of quotes, or there is no such `>`, it is no tag. Between the name and the `>` (without one `/` at its end) are only attributes, each after white space at the start: a name that starts with a letter or one of `_ : @ * [`, has none of `\" ' & /`, and ends before white space or `=`; then, perhaps after white space, `=` and, perhaps after white space, a value (to the closing quote if it starts with one, else to the next white space). Only these names may be without a value: {}. If any of this fails, it is no tag: copy the `<` and go on after it.
   - A tag without `/` before its name and without `/` at its end, of one of {}: remove all up to and with the tag that closes it: the next `</` directly followed by the name, to the next `>` after that; to the end of the text if there is none.
   - A tag of one of {}: write LF if something was written and its last character is not LF. Then remove the tag.
   - Other tags are removed; for `</td>` and `</th>` write a space. Their names: {}.
   - `&`: if a `;` is among the {LONGEST_ENTITY} bytes from it, and the text to there is an entity of HTML (named, decimal or hexadecimal) that means something, write what it means, with a space for U+00A0. Else copy the `&`.",
        list(&BARE),
        list(&DROPPED),
        list(&BLOCKS),
        list(&OTHERS),
    )
}

/// How subwords cut a text before they are looked up.
const PIECES: &str = "First cut the text into *pieces*. Characters have classes: *space* (property White_Space), *letter* (Alphabetic), *digit* (a general category N), *joined* (a general category M, or U+200D), and *mark* (all others); in this order, so a character is of the first class that fits. A piece begins at the first character that is in no piece yet, which gives the piece its class; if that is a U+0020 and the next character is not a space, the next character belongs to the piece and gives the class. Further characters belong to the piece if they are of its class, or joined, or an apostrophe (U+0027) in a piece of letters that is directly followed by a letter. The piece ends before the first character that does not belong to it, or when it has 64 characters, where a space at its start with the character after it counts as one. If a piece of spaces has two characters or more, ends with U+0020, and is not at the end of the text, its last character is given to the next piece.";

impl Unit {
    /// How a cleaned text becomes indices, exactly. `vocabulary` says where the tokens are.
    pub fn rule(self, vocabulary: &str) -> String {
        let one_by_one = |tokens: &str| {
            format!(
                "{tokens} Each of them that is among `tokens` of {vocabulary} has the index given there; every other one has the index 1 (unknown)."
            )
        };
        match self {
            Self::Word => one_by_one(
                "Divide the text at the word boundaries of Unicode Standard Annex 29 (the default rules). Segments that consist of white space only are no tokens; all other segments are tokens.",
            ),
            Self::Character => {
                one_by_one("The tokens are the code points of the text, white space included.")
            }
            Self::Grapheme => one_by_one(
                "The tokens are the extended grapheme clusters of Unicode Standard Annex 29, white space included.",
            ),
            Self::Byte => "The index of a byte `b` of the text in UTF-8 is `4 + b`.".to_owned(),
            Self::BytePair => format!(
                "{PIECES} A piece becomes the bytes of its UTF-8, each byte `b` as the index `4 + b`. Then, as long as two neighbouring indices are a pair of `merges` of {vocabulary}: of all such pairs in the piece take the one that is first in `merges`, and replace each of its occurrences, from the left, by the index of the token whose bytes are the bytes of both."
            ),
            Self::Unigram => format!(
                "{PIECES} A piece is divided into parts whose scores have the greatest sum (in double precision). A part is a token of {vocabulary} with its fourth number as the score, or one character without such a token: that is given as the indices `4 + b` of its bytes, each with the lowest score of all tokens minus 2. Go through the starts of characters from left to right; at each, for every part that starts there, keep for the part's end the sum of the best way to its start and of its score if this is greater than what is kept there (an equal sum does not replace it; a character is tried as bytes after all tokens). The way kept for the end of the piece is the result. Tokens whose fourth entry is null are never parts by themselves."
            ),
        }
    }
}
