//! Punctuation and digits.

use std::borrow::Cow;

use unicode_properties::{GeneralCategory, GeneralCategoryGroup, UnicodeGeneralCategory};

/// Whether a character is a punctuation mark or a symbol.
pub(crate) fn is_mark(c: char) -> bool {
    if c.is_ascii() {
        return c.is_ascii_punctuation();
    }
    matches!(c.general_category_group(), GeneralCategoryGroup::Punctuation | GeneralCategoryGroup::Symbol)
}

/// Whether a mark belongs to the word around it: an apostrophe or a hyphen between letters, a full stop or a comma between
/// digits.
fn is_inner(before: Option<char>, mark: char, after: Option<char>) -> bool {
    let (Some(before), Some(after)) = (before, after) else {
        return false;
    };
    // Some symbols (squared letters) count as alphabetic; they are marks, which get parted themselves.
    if is_mark(before) || is_mark(after) {
        return false;
    }
    match mark {
        '\'' | '\u{2019}' | '-' | '\u{2010}' | '\u{2011}' => before.is_alphabetic() && after.is_alphabetic(),
        '.' | ',' => before.is_numeric() && after.is_numeric(),
        _ => false,
    }
}

fn has_outer_marks(text: &str) -> bool {
    text.chars().any(is_mark)
}

/// Puts a space on both sides of every mark that is not inside a word, where there is none.
pub(super) fn split(text: Cow<'_, str>) -> Cow<'_, str> {
    rewrite(text, |mark, before, after, out| {
        if before.is_some_and(|c| !c.is_whitespace()) && !out.ends_with(char::is_whitespace) {
            out.push(' ');
        }
        out.push(mark);
        if after.is_some_and(|c| !c.is_whitespace()) {
            out.push(' ');
        }
    })
}

/// Takes out every mark that is not inside a word; words that it parted stay apart.
pub(super) fn drop(text: Cow<'_, str>) -> Cow<'_, str> {
    rewrite(text, |_, before, after, out| {
        let parts = before.is_some() && after.is_some_and(|c| !c.is_whitespace());
        if parts && !out.ends_with(char::is_whitespace) && !out.is_empty() {
            out.push(' ');
        }
    })
}

/// Copies a text and leaves each outer mark to `write`, which is given the characters beside it.
fn rewrite(
    text: Cow<'_, str>,
    mut write: impl FnMut(char, Option<char>, Option<char>, &mut String),
) -> Cow<'_, str> {
    if !has_outer_marks(&text) {
        return text;
    }
    let mut out = String::with_capacity(text.len() + text.len() / 8);
    let mut before = None;
    let mut rest = text.chars();
    while let Some(c) = rest.next() {
        let after = rest.clone().next();
        if is_mark(c) && !is_inner(before, c, after) {
            write(c, before, after, &mut out);
        } else {
            out.push(c);
        }
        before = Some(c);
    }
    Cow::Owned(out)
}

/// Turns every decimal digit of every script into 0, so that numbers differ by their length alone.
pub(super) fn fold_digits(text: Cow<'_, str>) -> Cow<'_, str> {
    let is_digit = |c: char| {
        c.is_ascii_digit() || (!c.is_ascii() && c.general_category() == GeneralCategory::DecimalNumber)
    };
    if !text.chars().any(|c| is_digit(c) && c != '0') {
        return text;
    }
    Cow::Owned(text.chars().map(|c| if is_digit(c) { '0' } else { c }).collect())
}
