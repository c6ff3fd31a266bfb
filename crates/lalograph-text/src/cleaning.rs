//! What is done to a text before it is cut into tokens.
//!
//! The steps are part of the vocabulary and travel in the model file, so that a text given to a model later goes through
//! exactly the same ones.

use std::borrow::Cow;

use serde::{Deserialize, Serialize};
use unicode_normalization::{IsNormalized, UnicodeNormalization, is_nfc_quick, is_nfkc_quick};

/// One step.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum CleaningStep {
    /// Unicode normal form C: letters and their marks as one character where there is one.
    NormalFormC,
    /// Unicode normal form KC: the same, and variants of a character (wide, ligature, superscript) replaced by the plain one.
    NormalFormKc,
    /// Lower case.
    LowerCase,
    /// Every run of white space becomes one space, and the ends are trimmed.
    CollapseSpace,
}

impl CleaningStep {
    /// All steps, in the order in which they usually stand.
    pub const ALL: [Self; 4] = [Self::NormalFormC, Self::NormalFormKc, Self::LowerCase, Self::CollapseSpace];

    /// The name used in plans and files.
    pub fn name(self) -> &'static str {
        match self {
            Self::NormalFormC => "normal_form_c",
            Self::NormalFormKc => "normal_form_kc",
            Self::LowerCase => "lower_case",
            Self::CollapseSpace => "collapse_space",
        }
    }

    fn apply<'t>(self, text: Cow<'t, str>) -> Cow<'t, str> {
        match self {
            Self::NormalFormC if is_nfc_quick(text.chars()) == IsNormalized::Yes => text,
            Self::NormalFormC => Cow::Owned(text.nfc().collect()),
            Self::NormalFormKc if is_nfkc_quick(text.chars()) == IsNormalized::Yes => text,
            Self::NormalFormKc => Cow::Owned(text.nfkc().collect()),
            Self::LowerCase if !text.chars().any(char::is_uppercase) => text,
            Self::LowerCase => Cow::Owned(text.to_lowercase()),
            Self::CollapseSpace => collapse_space(text),
        }
    }
}

fn collapse_space(text: Cow<'_, str>) -> Cow<'_, str> {
    let mut before = ' ';
    let settled = !text.ends_with(char::is_whitespace)
        && text.chars().all(|c| {
            let fine = !c.is_whitespace() || (c == ' ' && before != ' ');
            before = c;
            fine
        });
    if settled {
        return text;
    }
    let mut out = String::with_capacity(text.len());
    for word in text.split_whitespace() {
        if !out.is_empty() {
            out.push(' ');
        }
        out.push_str(word);
    }
    Cow::Owned(out)
}

/// Steps in the order in which they are applied.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Cleaning {
    /// The steps.
    pub steps: Vec<CleaningStep>,
}

impl Cleaning {
    /// Applies all steps; a text that needs none is not copied.
    ///
    /// ```
    /// use lalograph_text::{Cleaning, CleaningStep};
    /// let cleaning = Cleaning { steps: vec![CleaningStep::LowerCase, CleaningStep::CollapseSpace] };
    /// assert_eq!(cleaning.apply("  Two\tBees "), "two bees");
    /// ```
    pub fn apply<'t>(&self, text: &'t str) -> Cow<'t, str> {
        self.steps.iter().fold(Cow::Borrowed(text), |text, step| step.apply(text))
    }
}

#[cfg(test)]
mod tests {
    use super::{Cleaning, CleaningStep};
    use std::borrow::Cow;

    fn clean(step: CleaningStep, text: &str) -> String {
        Cleaning { steps: vec![step] }.apply(text).into_owned()
    }

    #[test]
    fn each_step_does_what_it_says() {
        assert_eq!(clean(CleaningStep::NormalFormC, "e\u{301}"), "\u{e9}");
        assert_eq!(clean(CleaningStep::NormalFormC, "\u{fb01}"), "\u{fb01}");
        assert_eq!(clean(CleaningStep::NormalFormKc, "\u{fb01}n\u{b2}"), "fin2");
        assert_eq!(clean(CleaningStep::LowerCase, "HIVE \u{c9}"), "hive \u{e9}");
        for (text, expected) in [
            ("", ""),
            (" ", ""),
            ("a", "a"),
            ("a  b", "a b"),
            ("a\nb ", "a b"),
            (" a", "a"),
            ("a\u{a0}b", "a b"),
        ] {
            assert_eq!(clean(CleaningStep::CollapseSpace, text), expected, "{text:?}");
        }
    }

    #[test]
    fn a_text_that_is_clean_already_is_not_copied() {
        let all = Cleaning { steps: CleaningStep::ALL.to_vec() };
        assert!(matches!(all.apply("the bees are quiet"), Cow::Borrowed(_)));
        assert!(matches!(all.apply("The bees"), Cow::Owned(_)));
    }

    #[test]
    fn names_are_those_of_the_files() {
        for step in CleaningStep::ALL {
            assert_eq!(serde_json::to_value(step).unwrap(), step.name());
        }
    }
}
