//! Cleaning, from the page.

use regex::Regex;
use unicode_normalization::UnicodeNormalization;
use unicode_properties::{GeneralCategory, GeneralCategoryGroup, UnicodeGeneralCategory};

use super::html;

/// A step of the vocabulary's `cleaning`.
pub(crate) enum Step {
    Named(String),
    Replace(Regex, String),
}

impl Step {
    pub(crate) fn read(step: &serde_json::Value) -> Self {
        match step.as_str() {
            Some(name) => Self::Named(name.to_owned()),
            None => {
                let rule = |key: &str| step["replace"][key].as_str().unwrap();
                Self::Replace(Regex::new(rule("pattern")).unwrap(), rule("with").to_owned())
            }
        }
    }
}

pub(crate) fn clean(text: &str, step: &Step) -> String {
    let name = match step {
        Step::Replace(pattern, with) => return pattern.replace_all(text, with).into_owned(),
        Step::Named(name) => name.as_str(),
    };
    match name {
        "strip_html" => html::strip(text),
        "normal_form_c" => text.nfc().collect(),
        "normal_form_d" => text.nfd().collect(),
        "normal_form_kc" => text.nfkc().collect(),
        "normal_form_kd" => text.nfkd().collect(),
        "lower_case" => text.to_lowercase(),
        "split_punctuation" => punctuation(text, false),
        "drop_punctuation" => punctuation(text, true),
        "fold_digits" => {
            let zero = |c: char| if c.general_category() == GeneralCategory::DecimalNumber { '0' } else { c };
            text.chars().map(zero).collect()
        }
        "plain_line_ends" => text.replace("\r\n", "\n").replace('\r', "\n"),
        "collapse_space" => {
            text.split(char::is_whitespace).filter(|word| !word.is_empty()).collect::<Vec<_>>().join(" ")
        }
        other => panic!("{other}"),
    }
}

fn is_mark(c: char) -> bool {
    let group = c.general_category_group();
    if c.is_ascii() {
        return "!\"#$%&'()*+,-./:;<=>?@[\\]^_`{|}~".contains(c);
    }
    group == GeneralCategoryGroup::Punctuation || group == GeneralCategoryGroup::Symbol
}

fn punctuation(text: &str, drop: bool) -> String {
    let all: Vec<char> = text.chars().collect();
    let mut out = String::new();
    for (at, &c) in all.iter().enumerate() {
        let before = at.checked_sub(1).map(|at| all[at]);
        let after = all.get(at + 1).copied();
        let inner = match (before, after) {
            (Some(before), Some(after)) if !is_mark(before) && !is_mark(after) => match c {
                '\'' | '\u{2019}' | '-' | '\u{2010}' | '\u{2011}' => {
                    before.is_alphabetic() && after.is_alphabetic()
                }
                '.' | ',' => {
                    [before, after].iter().all(|c| c.general_category_group() == GeneralCategoryGroup::Number)
                }
                _ => false,
            },
            _ => false,
        };
        if !is_mark(c) || inner {
            out.push(c);
            continue;
        }
        let spaced = out.chars().last().is_some_and(char::is_whitespace);
        let more = after.is_some_and(|c| !c.is_whitespace());
        if drop {
            if before.is_some() && more && !out.is_empty() && !spaced {
                out.push(' ');
            }
            continue;
        }
        if before.is_some_and(|c| !c.is_whitespace()) && !spaced {
            out.push(' ');
        }
        out.push(c);
        if more {
            out.push(' ');
        }
    }
    out
}
