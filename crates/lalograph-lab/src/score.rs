//! Judging text: how surprised is a model by it?

use lalograph_net::LanguageModel;
use lalograph_net::model::Purpose;
use lalograph_net::parameters::Weights;
use lalograph_net::recurrent::Extent;
use lalograph_net::step::Team;
use lalograph_text::corpus::ReadObserver;
use lalograph_text::tokens::{HeldOut, TokenSequence, encode_corpus};
use lalograph_text::{Corpus, Reading};
use serde::{Deserialize, Serialize};

use crate::error::LabError;
use crate::model_file::ModelFile;
use crate::streams::{JudgedRows, WindowBuffer};

/// What a model makes of a text. Every document's end counts as a token to be predicted.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Score {
    /// Documents.
    pub documents: u64,
    /// Raw bytes of their text.
    pub bytes: u64,
    /// Tokens predicted.
    pub tokens: u64,
    /// How many of them are the unknown token, whose probability is counted as it stands.
    pub unknown_tokens: u64,
    /// Mean natural-log cross-entropy per token.
    pub loss: f64,
    /// e to the power of the loss.
    pub perplexity: f64,
    /// The loss over ln 2.
    pub bits_per_token: f64,
    /// All bits over all bytes: comparable between vocabularies.
    pub bits_per_byte: f64,
}

impl Score {
    /// The score of `text` at a summed loss.
    pub fn new(text: &TokenSequence, total_loss: f64) -> Self {
        let tokens = text.len() as f64;
        let loss = total_loss / tokens;
        Self {
            documents: text.documents,
            bytes: text.bytes,
            tokens: text.len() as u64,
            unknown_tokens: text.unknown,
            loss,
            perplexity: loss.exp(),
            bits_per_token: loss / std::f64::consts::LN_2,
            bits_per_byte: total_loss / std::f64::consts::LN_2 / text.bytes.max(1) as f64,
        }
    }
}

/// The summed loss of a text read in `rows` parallel parts, cut where documents end.
pub(crate) struct Judge {
    rows: JudgedRows,
    team: Team<f32>,
    buffer: WindowBuffer,
}

impl Judge {
    /// `reset` has the state begin anew with every document.
    pub(crate) fn new(
        model: &LanguageModel,
        text: &TokenSequence,
        (rows, window): (usize, usize),
        lanes: usize,
        reset: bool,
    ) -> Self {
        let rows = JudgedRows::new(text, rows, window, reset);
        let extent = Extent { steps: window, rows: rows.rows() };
        let team = Team::new(model, extent, lanes, Purpose::Reading, true);
        Self { rows, team, buffer: WindowBuffer::new(true) }
    }

    /// `progress` is told the share done and stops the work by returning `false`; the result is then `None`.
    pub(crate) fn total_loss(
        &mut self,
        model: &LanguageModel,
        weights: Weights<'_, f32>,
        text: &TokenSequence,
        mut progress: impl FnMut(f64) -> bool,
    ) -> Option<f64> {
        let windows = self.rows.windows();
        let mut total = 0.0;
        for index in 0..windows {
            self.rows.window(text, index, &mut self.buffer);
            total += self.team.judge(model, weights, self.buffer.batch());
            if !progress((index + 1) as f64 / windows as f64) {
                return None;
            }
        }
        Some(total)
    }
}

/// Steps of a window while scoring; no result depends on it.
const WINDOW: usize = 64;

/// Scores a corpus, encoded with `threads` threads, as one text read in order, the state carried from document to document
/// or begun anew, as in training.
///
/// # Errors
/// No text; a stop.
pub fn score(
    file: &ModelFile,
    corpus: &Corpus,
    threads: usize,
    observer: &mut dyn ReadObserver,
    mut progress: impl FnMut(f64) -> bool,
) -> Result<(Score, Reading), LabError> {
    let encoded = encode_corpus(corpus, &file.vocabulary, &HeldOut::Nothing, None, threads, observer)?;
    let text = &encoded.training;
    let reset = file.plan.training.reset_at_documents;
    let mut judge = Judge::new(&file.model, text, (1, WINDOW), 1, reset);
    let packed = file.model.packed_for_reading(&file.weights);
    let total = judge
        .total_loss(&file.model, packed.with(&file.weights), text, &mut progress)
        .ok_or(lalograph_text::TextError::Stopped)?;
    Ok((Score::new(text, total), encoded.reading))
}
