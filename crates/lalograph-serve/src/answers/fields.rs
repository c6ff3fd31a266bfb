//! Fields that several requests have, and their checks.

use lalograph_lab::ReadyModel;
use lalograph_lab::writing::decoding::{Decoding, UnknownTokens};
use lalograph_lab::writing::generator::Ended;
use lalograph_text::{Reserved, Vocabulary};
use schemars::JsonSchema;
use serde::Serialize;

use crate::desk::Wish;
use crate::fault::Fault;
use crate::settings::Limits;
use crate::visit::Arrived;

/// Alternatives of a token, at most.
const ALTERNATIVES: usize = 20;

/// Treatments of the unknown token, for the description.
#[derive(JsonSchema)]
#[serde(rename_all = "snake_case")]
#[expect(dead_code, reason = "only described")]
pub(crate) enum UnknownTreatment {
    /// Never draw it.
    LeaveOut,
    /// Draw it, and write its name.
    Draw,
    /// Draw it, and write a spelling of the vocabulary's spelling model.
    Spell,
}

/// Why a text ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub(crate) enum EndedBy {
    /// The document did.
    Document,
    /// An answer did.
    Answer,
    /// A sentence did.
    Sentence,
    /// A line did.
    Line,
    /// A text of `until` came.
    Text,
    /// It has as many tokens as were asked for.
    Limit,
    /// The request took longer than its time limit.
    Time,
    /// Nobody wanted more.
    Stopped,
}

impl EndedBy {
    pub(crate) fn of(ended: Ended, late: bool) -> Self {
        match ended {
            Ended::Document => Self::Document,
            Ended::Answer => Self::Answer,
            Ended::Sentence => Self::Sentence,
            Ended::Line => Self::Line,
            Ended::Text => Self::Text,
            Ended::Limit => Self::Limit,
            Ended::Stopped if late => Self::Time,
            Ended::Stopped => Self::Stopped,
        }
    }
}

/// A token and its probability.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub(crate) struct ProbableToken {
    /// The token as shown.
    pub(crate) token: String,
    /// Its index.
    pub(crate) index: u32,
    /// Its probability under the model.
    pub(crate) probability: f64,
    /// The text that it adds, with the space that it needs; empty for the end of the document.
    pub(crate) text: String,
}

/// Refuses a text that is too long.
pub(crate) fn check_text(field: &str, text: &str, limits: &Limits) -> Result<(), Fault> {
    let most = limits.text_bytes;
    match text.len() {
        length if length > most => {
            Err(Fault::field(field, format!("the text has {length} bytes, and at most {most} are read")))
        }
        _ => Ok(()),
    }
}

/// A number that must be between 1 and a bound, or its default.
pub(crate) fn check_count(
    field: &str,
    asked: Option<usize>,
    default: usize,
    most: usize,
) -> Result<usize, Fault> {
    match asked {
        None => Ok(default.min(most)),
        Some(count) if (1..=most).contains(&count) => Ok(count),
        Some(count) => {
            Err(Fault::field(field, format!("`{field}` must be from 1 to {most}, and {count} is not")))
        }
    }
}

/// Refuses decoding that is impossible or that would be taken and not used.
pub(crate) fn check_decoding(decoding: &Decoding, vocabulary: &Vocabulary) -> Result<(), Fault> {
    decoding.check(vocabulary.len())?;
    if decoding.temperature.is_none() && (decoding.top_k.is_some() || decoding.top_p.is_some()) {
        let field = if decoding.top_k.is_some() { "top_k" } else { "top_p" };
        return Err(Fault::field(field, format!("`{field}` has no effect on greedy decoding"))
            .with_remedy("give a temperature"));
    }
    if decoding.unknown != UnknownTokens::default() && vocabulary.unit().knows_everything() {
        return Err(Fault::field("unknown", "`unknown` has no effect: this vocabulary knows everything"));
    }
    Ok(())
}

/// A token as it is shown.
pub(super) fn shown(vocabulary: &Vocabulary, index: u32) -> String {
    match index {
        Reserved::END => "(end of document)".to_owned(),
        Reserved::UNKNOWN => "(unknown)".to_owned(),
        _ => vocabulary.shown(index).unwrap_or_default().into_owned(),
    }
}

/// The tokens of a text that a model does not know, in order.
pub(super) fn unknown_tokens(ready: &ReadyModel, text: &str) -> Vec<String> {
    let known = |(token, index): (String, u32)| (index == Reserved::UNKNOWN).then_some(token);
    ready.vocabulary().encode(text).into_iter().filter_map(known).collect()
}

/// How a request carries its texts.
pub(super) fn wish(
    stream: bool,
    alternatives: Option<usize>,
    arrived: Arrived,
    limits: &Limits,
) -> Result<Wish, Fault> {
    if alternatives.is_some() && !stream {
        return Err(Fault::field("alternatives", "`alternatives` has no effect without `stream`"));
    }
    let alternatives = check_count("alternatives", alternatives.filter(|&n| n > 0), 0, ALTERNATIVES)?;
    Ok(Wish { by_token: stream, alternatives, arrived: arrived.0, until: arrived.0 + limits.time })
}
