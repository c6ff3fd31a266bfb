//! Cleaning: steps on a text before tokenising.
//!
//! The steps are part of the vocabulary and are kept in the model file, so a text given to a model later is cleaned in
//! exactly the same way.

pub(crate) mod html;
mod mail;
pub(crate) mod marks;

use std::borrow::Cow;
use std::str::FromStr;

use regex::Regex;
use serde::{Deserialize, Serialize};
use unicode_normalization::{
    IsNormalized, UnicodeNormalization, is_nfc_quick, is_nfd_quick, is_nfkc_quick, is_nfkd_quick,
};

/// One step.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum CleaningStep {
    /// The text of an e-mail message: its parts decoded, HTML taken out, headers and attachments dropped.
    MailText,
    /// The same with the subject as the first line.
    MailTextWithSubject,
    /// The same with all headers, a line each.
    MailTextWithHeaders,
    /// HTML taken out: tags and comments go, so do scripts and styles with their content, block elements end a line, entities
    /// are decoded.
    StripHtml,
    /// Unicode normal form C: letters and their marks as one character where there is one.
    NormalFormC,
    /// Unicode normal form D: letters and their marks apart.
    NormalFormD,
    /// Unicode normal form KC: form C, and variants of a character (wide, ligature, superscript) replaced by the plain one.
    NormalFormKc,
    /// Unicode normal form KD: form D, and variants replaced by the plain one.
    NormalFormKd,
    /// Lower case.
    LowerCase,
    /// A space on both sides of every punctuation mark and symbol, except apostrophes and hyphens between letters and full stops and
    /// commas between digits.
    SplitPunctuation,
    /// Punctuation marks and symbols taken out, with the same exceptions.
    DropPunctuation,
    /// Every decimal digit becomes 0.
    FoldDigits,
    /// Line ends of other systems (CR LF, CR) become LF.
    PlainLineEnds,
    /// Every run of white space becomes one space, and the ends are trimmed.
    CollapseSpace,
    /// Whatever matches a regular expression is replaced.
    Replace(Replacement),
}

/// A regular expression and what takes the place of its matches.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(try_from = "ReplacementText", into = "ReplacementText")]
pub struct Replacement {
    pattern: Regex,
    with: String,
}

/// The same as it is written in plans and files.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct ReplacementText {
    pattern: String,
    with: String,
}

impl Replacement {
    /// Compiles it. In `with`, `$1` or `${name}` represent what a group of the pattern matched, `$$` for a dollar sign.
    ///
    /// # Errors
    /// A phrase that says what is wrong with the pattern.
    pub fn new(pattern: &str, with: &str) -> Result<Self, String> {
        let compiled = Regex::new(pattern).map_err(|error| {
            let text = error.to_string();
            let last = text.lines().last().unwrap_or_default().trim_start_matches("error: ");
            format!("invalid pattern `{pattern}`: {last}")
        })?;
        Ok(Self { pattern: compiled, with: with.to_owned() })
    }
}

impl Replacement {
    /// The regular expression.
    pub fn pattern(&self) -> &str {
        self.pattern.as_str()
    }

    /// What takes the place of its matches.
    pub fn with(&self) -> &str {
        &self.with
    }
}

impl PartialEq for Replacement {
    fn eq(&self, other: &Self) -> bool {
        self.pattern.as_str() == other.pattern.as_str() && self.with == other.with
    }
}

impl Eq for Replacement {}

impl TryFrom<ReplacementText> for Replacement {
    type Error = String;

    fn try_from(text: ReplacementText) -> Result<Self, String> {
        Self::new(&text.pattern, &text.with)
    }
}

impl From<Replacement> for ReplacementText {
    fn from(replacement: Replacement) -> Self {
        Self { pattern: replacement.pattern.as_str().to_owned(), with: replacement.with }
    }
}

impl CleaningStep {
    /// All steps without settings of their own, in the order in which they usually are.
    pub const SIMPLE: [Self; 14] = [
        Self::MailText,
        Self::MailTextWithSubject,
        Self::MailTextWithHeaders,
        Self::StripHtml,
        Self::NormalFormC,
        Self::NormalFormD,
        Self::NormalFormKc,
        Self::NormalFormKd,
        Self::LowerCase,
        Self::SplitPunctuation,
        Self::DropPunctuation,
        Self::FoldDigits,
        Self::PlainLineEnds,
        Self::CollapseSpace,
    ];

    /// The name used in plans and files.
    pub fn name(&self) -> &'static str {
        match self {
            Self::MailText => "mail_text",
            Self::MailTextWithSubject => "mail_text_with_subject",
            Self::MailTextWithHeaders => "mail_text_with_headers",
            Self::StripHtml => "strip_html",
            Self::NormalFormC => "normal_form_c",
            Self::NormalFormD => "normal_form_d",
            Self::NormalFormKc => "normal_form_kc",
            Self::NormalFormKd => "normal_form_kd",
            Self::LowerCase => "lower_case",
            Self::SplitPunctuation => "split_punctuation",
            Self::DropPunctuation => "drop_punctuation",
            Self::FoldDigits => "fold_digits",
            Self::PlainLineEnds => "plain_line_ends",
            Self::CollapseSpace => "collapse_space",
            Self::Replace(_) => "replace",
        }
    }

    /// Whether doing it twice is surely the same as doing it once. HTML may come out of entities, a message may hold
    /// another, and a replacement may match again.
    pub fn is_idempotent(&self) -> bool {
        !self.reads_mail() && !matches!(self, Self::StripHtml | Self::Replace(_))
    }

    /// Whether two texts that end and begin with an ASCII letter or digit and a space or line end between them are cleaned one by one as they would be together.
    pub(crate) fn is_local(&self) -> bool {
        !self.reads_mail() && !matches!(self, Self::StripHtml | Self::Replace(_) | Self::CollapseSpace)
    }

    /// Whether the step makes text of e-mail messages.
    pub fn reads_mail(&self) -> bool {
        matches!(self, Self::MailText | Self::MailTextWithSubject | Self::MailTextWithHeaders)
    }

    fn apply<'t>(&self, text: Cow<'t, str>) -> Cow<'t, str> {
        let normal = IsNormalized::Yes;
        match self {
            // All forms keep ASCII unchanged.
            Self::NormalFormC | Self::NormalFormD | Self::NormalFormKc | Self::NormalFormKd
                if text.is_ascii() =>
            {
                text
            }
            Self::NormalFormC if is_nfc_quick(text.chars()) == normal => text,
            Self::NormalFormC => Cow::Owned(text.nfc().collect()),
            Self::NormalFormD if is_nfd_quick(text.chars()) == normal => text,
            Self::NormalFormD => Cow::Owned(text.nfd().collect()),
            Self::NormalFormKc if is_nfkc_quick(text.chars()) == normal => text,
            Self::NormalFormKc => Cow::Owned(text.nfkc().collect()),
            Self::NormalFormKd if is_nfkd_quick(text.chars()) == normal => text,
            Self::NormalFormKd => Cow::Owned(text.nfkd().collect()),
            Self::LowerCase => lower_case(text),
            Self::MailText => mail::text_of(text, mail::Headers::Dropped),
            Self::MailTextWithSubject => mail::text_of(text, mail::Headers::Subject),
            Self::MailTextWithHeaders => mail::text_of(text, mail::Headers::All),
            Self::StripHtml => html::strip(text),
            Self::SplitPunctuation => marks::split(text),
            Self::DropPunctuation => marks::drop(text),
            Self::FoldDigits => marks::fold_digits(text),
            Self::PlainLineEnds if !text.contains('\r') => text,
            Self::PlainLineEnds => Cow::Owned(text.replace("\r\n", "\n").replace('\r', "\n")),
            Self::CollapseSpace => collapse_space(text),
            Self::Replace(replacement) => {
                match replacement.pattern.replace_all(&text, replacement.with.as_str()) {
                    Cow::Borrowed(_) => text,
                    Cow::Owned(replaced) => Cow::Owned(replaced),
                }
            }
        }
    }
}

/// Reads a step's name, with `-` for `_` if you like, or `replace:PATTERN=>WITH`.
impl FromStr for CleaningStep {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        if let Some(rule) = text.strip_prefix("replace:") {
            let (pattern, with) =
                rule.split_once("=>").ok_or("write a replacement as replace:PATTERN=>WITH")?;
            return Ok(Self::Replace(Replacement::new(pattern, with)?));
        }
        let name = text.trim().replace('-', "_");
        Self::SIMPLE.into_iter().find(|step| step.name() == name).ok_or_else(|| {
            let known: Vec<&str> = Self::SIMPLE.iter().map(Self::name).collect();
            format!("no cleaning step `{text}`; the steps are {} and replace:PATTERN=>WITH", known.join(", "))
        })
    }
}

fn lower_case(text: Cow<'_, str>) -> Cow<'_, str> {
    if text.is_ascii() {
        if !text.bytes().any(|byte| byte.is_ascii_uppercase()) {
            return text;
        }
        return Cow::Owned(text.to_ascii_lowercase());
    }
    // Titlecase letters change too, and are not upper case.
    if text.chars().all(|c| c.to_lowercase().eq([c])) {
        return text;
    }
    Cow::Owned(text.to_lowercase())
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
    /// Whether all steps look no further than the words beside a place.
    pub(crate) fn is_local(&self) -> bool {
        self.steps.iter().all(CleaningStep::is_local)
    }

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
    use std::borrow::Cow;

    use proptest::prelude::*;
    use unicode_normalization::UnicodeNormalization;

    use super::{Cleaning, CleaningStep};

    fn clean(step: CleaningStep, text: &str) -> String {
        Cleaning { steps: vec![step] }.apply(text).into_owned()
    }

    #[test]
    fn each_step_matches_its_description() {
        assert_eq!(clean(CleaningStep::NormalFormC, "e\u{301}"), "\u{e9}");
        assert_eq!(clean(CleaningStep::NormalFormC, "\u{fb01}"), "\u{fb01}");
        assert_eq!(clean(CleaningStep::NormalFormKc, "\u{fb01}n\u{b2}"), "fin2");
        assert_eq!(clean(CleaningStep::LowerCase, "HIVE \u{c9}"), "hive \u{e9}");
        assert_eq!(clean(CleaningStep::LowerCase, "\u{1c5}"), "\u{1c6}");
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
    fn punctuation_is_parted_or_dropped_but_not_inside_words() {
        let text = "\"The queen's cells,\" she said (14,5 kilos): well-fed; so--so. #3 \u{20ac}5\u{2026}";
        assert_eq!(
            clean(CleaningStep::SplitPunctuation, text),
            "\" The queen's cells , \" she said ( 14,5 kilos ) : well-fed ; so - - so . # 3 \u{20ac} 5 \u{2026}"
        );
        assert_eq!(
            clean(CleaningStep::DropPunctuation, text),
            "The queen's cells  she said 14,5 kilos  well-fed so so 3 5"
        );
        assert_eq!(clean(CleaningStep::DropPunctuation, "company,and"), "company and");
        // A squared letter is alphabetic and a symbol at once.
        assert_eq!(clean(CleaningStep::SplitPunctuation, "\u{1f130}'a"), "\u{1f130} ' a");
        assert_eq!(
            clean(CleaningStep::FoldDigits, "14.5 kilos, \u{664}\u{662}, \u{b2}"),
            "00.0 kilos, 00, \u{b2}"
        );
        assert_eq!(clean(CleaningStep::PlainLineEnds, "a\r\nb\rc\n"), "a\nb\nc\n");
    }

    #[test]
    fn replacements_use_groups_and_bad_ones_are_refused() {
        let step: CleaningStep = "replace:(\\d+) kilos=>$1 kg".parse().unwrap();
        assert_eq!(clean(step.clone(), "14 kilos and 3 kilos"), "14 kg and 3 kg");
        let json = serde_json::to_string(&step).unwrap();
        assert_eq!(json, r#"{"replace":{"pattern":"(\\d+) kilos","with":"$1 kg"}}"#);
        assert_eq!(serde_json::from_str::<CleaningStep>(&json).unwrap(), step);
        for (wrong, word) in
            [("replace:(=>x", "unclosed group"), ("replace:abc", "PATTERN=>WITH"), ("lower", "lower_case")]
        {
            let error = wrong.parse::<CleaningStep>().unwrap_err();
            assert!(error.contains(word), "{wrong}: {error}");
        }
        let error =
            serde_json::from_str::<CleaningStep>(r#"{"replace":{"pattern":"[","with":""}}"#).unwrap_err();
        assert!(error.to_string().contains("invalid pattern"), "{error}");
    }

    #[test]
    fn a_text_that_is_clean_already_is_not_copied() {
        let steps = CleaningStep::SIMPLE.to_vec();
        let all = Cleaning { steps };
        assert!(matches!(all.apply("the bees are quiet"), Cow::Borrowed(_)));
        assert!(matches!(all.apply("The bees"), Cow::Owned(_)));
    }

    #[test]
    fn names_are_those_of_the_files() {
        for step in CleaningStep::SIMPLE {
            assert_eq!(serde_json::to_value(&step).unwrap(), step.name());
            assert_eq!(step.name().replace('_', "-").parse::<CleaningStep>().unwrap(), step);
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(3000))]
        #[test]
        fn any_message_is_read(
            head in "(From x\n)?(Subject: |Content-Type: text/html; charset=|Content-Type: multipart/mixed; boundary=b\n|MIME-Version: )[ -~\u{e9}\n]{0,40}",
            body in "(--b\n|Content-Type: (text/plain|message/rfc822)\n|\n|=[0-9A-F]{2}|=\n|<html>|[A-Za-z0-9+/]{64}\n|\u{1}|\u{e9}|[ -~]){0,30}",
        ) {
            let mail = format!("{head}\n\n{body}");
            for step in [CleaningStep::MailText, CleaningStep::MailTextWithSubject, CleaningStep::MailTextWithHeaders] {
                clean(step, &mail);
            }
        }

        #[test]
        fn steps_that_claim_it_are_idempotent(
            text in prop_oneof![any::<String>(), "[aB3\u{1f130}\u{24b6}\u{130}\u{3a3}\u{664} .,;'\"<>&()\r\n\t\u{2019}\u{301}\u{fb01}\u{a0}-]{0,30}"],
        ) {
            for step in CleaningStep::SIMPLE.into_iter().filter(CleaningStep::is_idempotent) {
                let once = clean(step.clone(), &text);
                prop_assert_eq!(&clean(step.clone(), &once), &once, "{:?}", step);
            }
        }

        #[test]
        fn the_short_ways_change_nothing(text in "[ -~\u{e9}\u{c9}\u{301}]{0,30}") {
            prop_assert_eq!(clean(CleaningStep::LowerCase, &text), text.to_lowercase());
            prop_assert_eq!(clean(CleaningStep::NormalFormKd, &text), text.nfkd().collect::<String>());
        }
    }
}
