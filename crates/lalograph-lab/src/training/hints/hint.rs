//! The hints and their sentences.

use std::fmt::{self, Display, Write};

use serde::Serialize;

use crate::plan::NetworkKind;

/// Something to know about a run.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[serde(tag = "hint", rename_all = "snake_case")]
pub enum Hint {
    /// Validation loss has risen while training loss fell.
    Overfitting {
        /// Step of the best validation.
        best_step: u64,
        /// Validation perplexity there.
        best_perplexity: f64,
        /// The last validation.
        step: u64,
        /// Validation perplexity there.
        perplexity: f64,
        /// Training perplexity there; none with a sampled softmax, whose loss is not the logarithm of a perplexity.
        training_perplexity: Option<f64>,
    },
    /// Gradients do not reach back.
    VanishingGradients {
        /// The layer, from 1.
        layer: usize,
        /// Tokens back where it has vanished.
        tokens_back: usize,
        /// Its norm there as a share of what it was.
        share: f64,
        /// When it was measured.
        step: u64,
        /// Whether the layers have gates.
        gated: bool,
    },
    /// Gradients grow on their way back, or from step to step.
    ExplodingGradients {
        /// Factor by which the norm has grown.
        times: f64,
        /// Tokens back where it has; none if it grew from step to step.
        tokens_back: Option<usize>,
        /// When it was measured.
        step: u64,
        /// Whether the layers have gates.
        gated: bool,
        /// Whether the norm of gradients is clipped.
        clipped: bool,
    },
    /// Training loss was driven up, or was no number any more.
    LearningRateTooHigh {
        /// The highest learning rate.
        learning_rate: f64,
        /// When.
        step: u64,
        /// The lowest training perplexity before; none if it was no number any more.
        from_perplexity: Option<f64>,
        /// Training perplexity then; none if it was no number any more.
        to_perplexity: Option<f64>,
    },
    /// The model never predicted as well as a unigram model does on the same text.
    WorseThanUnigram {
        /// Steps made.
        step: u64,
        /// Which text.
        text: Text,
        /// The lowest perplexity.
        perplexity: f64,
        /// Perplexity of the unigram model.
        unigram_perplexity: f64,
        /// The highest learning rate.
        learning_rate: f64,
        /// The cause that training loss points to.
        cause: Cause,
    },
    /// Validation perplexity is far above training perplexity.
    Gap {
        /// Step of the best validation.
        step: u64,
        /// Validation perplexity there.
        validation_perplexity: f64,
        /// Training perplexity there.
        training_perplexity: f64,
    },
    /// Much of the validation text is unknown to the vocabulary.
    ManyUnknownTokens {
        /// Its share of the tokens.
        share: f64,
    },
    /// Validation text has unknown tokens, and training text has none.
    UnknownNotLearnt {
        /// Their share of the validation tokens.
        share: f64,
    },
    /// Validation text was learnt from.
    ValidationSeenInTraining {
        /// The share of its documents.
        share: f64,
    },
    /// The validation loss of a classifier has risen while its training loss fell.
    ClassifierOverfitting {
        /// Step of the lowest validation loss.
        best_step: u64,
        /// Validation loss there.
        best_loss: f64,
        /// Validation accuracy there.
        best_accuracy: f64,
        /// The last validation.
        step: u64,
        /// Validation loss there.
        loss: f64,
        /// Validation accuracy there.
        accuracy: f64,
        /// Training loss there.
        training_loss: f64,
    },
    /// A classifier is no better than one that always predicts the most frequent class.
    NoBetterThanMajority {
        /// The highest validation accuracy.
        accuracy: f64,
        /// Share of the most frequent class.
        majority_share: f64,
        /// Whether the classifier predicts one class for every document.
        one_class: bool,
        /// Its network.
        network: NetworkKind,
        /// Whether it sees the last state of its layers alone.
        last_state: bool,
        /// Whether rare classes weigh more in its loss.
        balanced: bool,
    },
    /// Documents that evaluate a classifier are near copies of training documents.
    NearCopies {
        /// Whether they are test documents, and not validation documents.
        test: bool,
        /// Their number.
        documents: u64,
        /// Their share of the part.
        share: f64,
        /// Accuracy on the part.
        accuracy: f64,
        /// Accuracy on its other documents; none if all are near copies.
        accuracy_without: Option<f64>,
    },
    /// A class has few training documents.
    SmallClass {
        /// Training documents of the smallest class.
        documents: u64,
    },
    /// Many documents are longer than what is read of them.
    CutDocuments {
        /// Their share of the training documents.
        share: f64,
    },
    /// The accuracy on few validation documents is uncertain.
    FewValidationDocuments {
        /// Validation documents.
        documents: u64,
        /// Lower end of the 95 % interval of the last accuracy.
        low: f64,
        /// Its upper end.
        high: f64,
    },
    /// A classifier was still improving when its run ended.
    StillImproving {
        /// Share by which the validation loss fell over the second half of the run.
        fall: f64,
        /// Validation accuracy half way.
        before: f64,
        /// Validation accuracy at the end.
        accuracy: f64,
    },
    /// A tuned model predicts the text of its base worse than before.
    Forgetting {
        /// The step whose weights are kept.
        step: u64,
        /// Perplexity of the old text under the base.
        old_before: f64,
        /// Perplexity of the old text at that step.
        old_after: f64,
        /// Perplexity of the new text under the base.
        new_before: f64,
        /// Perplexity of the new text at that step.
        new_after: f64,
        /// Whether old text is mixed in.
        keeps_old: bool,
    },
    /// Tuning made too few or too small steps to change anything.
    HardlyTuned {
        /// Steps made.
        step: u64,
        /// Distance of the weights from those of the base, over the norm of those.
        moved: f64,
        /// Validation perplexity of the base.
        before: f64,
        /// The lowest validation perplexity since.
        after: f64,
    },
    /// No step of tuning was better than the base.
    BaseIsBetter {
        /// Steps made.
        step: u64,
        /// Validation perplexity of the base.
        base: f64,
        /// The lowest validation perplexity since.
        tuned: f64,
    },
    /// The run ended before any hint is possible.
    TooShort {
        /// Steps made.
        step: u64,
        /// Passes over the text.
        epochs: f64,
        /// By what share validation perplexity still fell in the last fifth of the run, if that is known.
        still_falling: Option<f64>,
    },
}

/// The text that a perplexity is of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Text {
    /// The training text.
    Training,
    /// The validation text.
    Validation,
}

/// Why a model may not have learnt.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Cause {
    /// Training loss goes up and down from line to line.
    LearningRateTooHigh,
    /// Training loss falls a little from line to line, or not at all.
    LearningRateTooLow,
    /// Neither.
    Unclear,
}

impl Hint {
    /// Its name in JSON.
    pub fn name(&self) -> &'static str {
        match self {
            Self::Overfitting { .. } => "overfitting",
            Self::VanishingGradients { .. } => "vanishing_gradients",
            Self::ExplodingGradients { .. } => "exploding_gradients",
            Self::LearningRateTooHigh { .. } => "learning_rate_too_high",
            Self::WorseThanUnigram { .. } => "worse_than_unigram",
            Self::Gap { .. } => "gap",
            Self::ManyUnknownTokens { .. } => "many_unknown_tokens",
            Self::UnknownNotLearnt { .. } => "unknown_not_learnt",
            Self::ValidationSeenInTraining { .. } => "validation_seen_in_training",
            Self::ClassifierOverfitting { .. } => "classifier_overfitting",
            Self::NoBetterThanMajority { .. } => "no_better_than_majority",
            Self::NearCopies { .. } => "near_copies",
            Self::SmallClass { .. } => "small_class",
            Self::CutDocuments { .. } => "cut_documents",
            Self::FewValidationDocuments { .. } => "few_validation_documents",
            Self::StillImproving { .. } => "still_improving",
            Self::Forgetting { .. } => "forgetting",
            Self::HardlyTuned { .. } => "hardly_tuned",
            Self::BaseIsBetter { .. } => "base_is_better",
            Self::TooShort { .. } => "too_short",
        }
    }
}

/// A perplexity to three figures.
struct Figure(f64);

impl Display for Figure {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        let places = if self.0 >= 100.0 {
            0
        } else if self.0 >= 10.0 {
            1
        } else {
            2
        };
        let digits = format!("{:.places$}", self.0);
        // Thousands apart, for people.
        let whole = digits.find('.').unwrap_or(digits.len());
        for (at, digit) in digits.char_indices() {
            let left = whole.saturating_sub(at);
            let separated = at > 0 && left > 0 && left % 3 == 0 && digits.as_bytes()[at - 1].is_ascii_digit();
            if separated {
                formatter.write_str(",")?;
            }
            formatter.write_char(digit)?;
        }
        Ok(())
    }
}

impl Display for Hint {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        match *self {
            Self::Overfitting { best_step, best_perplexity, step, perplexity, training_perplexity } => {
                write!(
                    formatter,
                    "overfitting: validation perplexity rose from {} at step {best_step} to {} at step {step} while ",
                    Figure(best_perplexity),
                    Figure(perplexity),
                )?;
                match training_perplexity {
                    Some(training) => write!(formatter, "training perplexity fell to {}", Figure(training))?,
                    None => write!(formatter, "training loss fell")?,
                }
                write!(formatter, "; the weights of step {best_step} are kept; use more dropout or more text")
            }
            Self::VanishingGradients { layer, tokens_back, share, step, gated } => {
                let advice = if gated {
                    "a higher `model.keep_bias`"
                } else {
                    "an LSTM, a GRU or a higher recurrent gain"
                };
                write!(
                    formatter,
                    "vanishing gradients: at step {step} the gradient of layer {layer} falls to {} of its norm within {tokens_back} tokens, so the model learns little from earlier text; try {advice}",
                    if share > 0.0 { format!("{share:.0e}") } else { "nothing".to_owned() }
                )
            }
            Self::ExplodingGradients { times, tokens_back: Some(tokens_back), step, gated, .. } => write!(
                formatter,
                "exploding gradients: at step {step} the gradient grows {} times over {tokens_back} tokens; try a lower recurrent gain{} or a \
                 shorter window",
                Figure(times),
                if gated { "" } else { ", an LSTM, a GRU" }
            ),
            Self::ExplodingGradients { times, tokens_back: None, step, clipped, .. } => write!(
                formatter,
                "exploding gradients: at step {step} the gradient norm is {} times its median; {}",
                Figure(times),
                if clipped { "lower `training.clip_norm`" } else { "clip it (`training.clip_norm`)" }
            ),
            Self::LearningRateTooHigh {
                learning_rate,
                step,
                from_perplexity: Some(from),
                to_perplexity: Some(to),
            } => write!(
                formatter,
                "the learning rate {learning_rate} looks too high: training perplexity rose from {} to {} at step {step}",
                Figure(from),
                Figure(to)
            ),
            Self::LearningRateTooHigh { learning_rate, step, .. } => write!(
                formatter,
                "the learning rate {learning_rate} looks too high: at step {step} the loss was no longer a finite number"
            ),
            Self::WorseThanUnigram { step, text, perplexity, unigram_perplexity, learning_rate, cause } => {
                let text = match text {
                    Text::Training => "training",
                    Text::Validation => "validation",
                };
                write!(
                    formatter,
                    "worse than a unigram model: after {step} steps the lowest {text} perplexity is {}, and a unigram model, which knows only the \
                     frequency of each token, has {} on the same text; ",
                    Figure(perplexity),
                    Figure(unigram_perplexity)
                )?;
                match cause {
                    Cause::LearningRateTooHigh => write!(
                        formatter,
                        "training loss rises and falls, so the learning rate {learning_rate} looks too high"
                    ),
                    Cause::LearningRateTooLow => {
                        write!(
                            formatter,
                            "training loss hardly falls, so the learning rate {learning_rate} looks too low"
                        )
                    }
                    Cause::Unclear => {
                        write!(formatter, "train for more steps, or change the learning rate {learning_rate}")
                    }
                }
            }
            Self::Gap { step, validation_perplexity, training_perplexity } => write!(
                formatter,
                "a gap between training and validation: at step {step} validation perplexity is {}, {:.1} times training perplexity ({}); use more \
                 dropout, more text or a smaller model",
                Figure(validation_perplexity),
                validation_perplexity / training_perplexity,
                Figure(training_perplexity)
            ),
            Self::ManyUnknownTokens { share } => write!(
                formatter,
                "many unknown tokens: {:.1} % of the validation tokens are not in the vocabulary, so perplexity looks better than it is; compare bits \
                 per byte, or use a larger vocabulary or subwords",
                share * 100.0
            ),
            Self::UnknownNotLearnt { share } => write!(
                formatter,
                "unknown tokens were not learnt: {:.1} % of the validation tokens are not in the vocabulary, and every token of the training text is, so \
                 the model gives an unknown token next to no probability; set `vocabulary.minimum_count = 2`, or use subwords",
                share * 100.0
            ),
            Self::ValidationSeenInTraining { share } => write!(
                formatter,
                "validation text seen in training: {:.1} % of its documents are also in the training text, so validation perplexity is too low; \
                 `lalograph split --near` keeps equal and nearly equal documents together",
                share * 100.0
            ),
            Self::ClassifierOverfitting {
                best_step,
                best_loss,
                best_accuracy,
                step,
                loss,
                accuracy,
                training_loss,
            } => {
                write!(
                    formatter,
                    "overfitting: validation loss rose from {best_loss:.3} at step {best_step} to {loss:.3} at step {step} (accuracy {:.1} % and {:.1} %) \
                     while training loss fell to {training_loss:.3}; the weights of step {best_step} have the lowest loss; use more dropout, more \
                     documents or a smaller network",
                    best_accuracy * 100.0,
                    accuracy * 100.0
                )
            }
            Self::NoBetterThanMajority {
                accuracy,
                majority_share,
                one_class,
                network,
                last_state,
                balanced,
            } => {
                write!(
                    formatter,
                    "no better than the most frequent class: the highest validation accuracy is {:.1} %, and {:.1} % of the validation documents are of \
                     the most frequent class",
                    accuracy * 100.0,
                    majority_share * 100.0
                )?;
                if one_class {
                    write!(formatter, "; the classifier predicts one class for every document")?;
                }
                let advice: Vec<&str> = [
                    (last_state, "`classifier.pooling` `mean` or `max` instead of `last`"),
                    (
                        network == NetworkKind::Recurrent,
                        "documents that are cut shorter at first (`classifier.length`)",
                    ),
                    (network != NetworkKind::Linear, "a higher learning rate or more epochs"),
                    (
                        network != NetworkKind::Linear,
                        "a `linear` network, which has no learning rate and shows whether the words tell the classes apart",
                    ),
                    (network == NetworkKind::Linear, "more terms, or other `classifier.term_values`"),
                    (!balanced, "`classifier.class_weights` `balanced`"),
                ]
                .into_iter()
                .filter_map(|(fits, advice)| fits.then_some(advice))
                .collect();
                write!(formatter, "; try {}", advice.join("; or "))
            }
            Self::NearCopies { test, documents, share, accuracy, accuracy_without } => {
                let part = if test { "test" } else { "validation" };
                write!(
                    formatter,
                    "near copies of training documents: {documents} of the {part} documents ({:.1} %) share at least 80 % of their five-token \
                     sequences with one; accuracy is {:.1} %",
                    share * 100.0,
                    accuracy * 100.0
                )?;
                match accuracy_without {
                    Some(without) => write!(formatter, " with them and {:.1} % without", without * 100.0)?,
                    None => write!(formatter, ", and there are no other documents")?,
                }
                write!(formatter, "; `classifier.near` keeps near copies in one part")
            }
            Self::SmallClass { documents } => write!(
                formatter,
                "a small class: the smallest class has {documents} training documents, too few to learn it; add documents, merge classes, or set \
                 `classifier.class_weights` to `balanced`"
            ),
            Self::CutDocuments { share } => write!(
                formatter,
                "cut documents: {:.0} % of the training documents are longer than what is read of them; raise `classifier.length`, set it to \
                 `whole`, or change `classifier.keep_part`",
                share * 100.0
            ),
            Self::FewValidationDocuments { documents, low, high } => write!(
                formatter,
                "few validation documents: with {documents} validation documents the accuracy is between {:.1} % and {:.1} % (95 % interval), so smaller \
                 differences between runs say little; hold out more documents",
                low * 100.0,
                high * 100.0
            ),
            Self::StillImproving { fall, before, accuracy } => write!(
                formatter,
                "training too short: over the second half of the run validation loss fell by {:.0} % and accuracy rose from {:.1} % to {:.1} %; \
                 train for more epochs, or with a higher learning rate",
                fall * 100.0,
                before * 100.0,
                accuracy * 100.0
            ),
            Self::Forgetting { step, old_before, old_after, new_before, new_after, keeps_old } => write!(
                formatter,
                "forgetting: at step {step} perplexity of the old text is {} ({} before tuning), while that of the new text is {} ({} before); {}, \
                 lower the learning rate, or freeze layers (`groups.layer_rates`)",
                Figure(old_after),
                Figure(old_before),
                Figure(new_after),
                Figure(new_before),
                if keeps_old { "raise `tune.keep_old`" } else { "mix old text in (`tune.keep_old`)" }
            ),
            Self::HardlyTuned { step, moved, before, after } => write!(
                formatter,
                "hardly changed: after {step} steps the weights have moved by {:.2} % of their norm, and validation perplexity is {after:.3} ({before:.3} before \
                 tuning); train for more epochs or with a higher learning rate",
                moved * 100.0
            ),
            Self::BaseIsBetter { step, base, tuned } => write!(
                formatter,
                "the base is better: in {step} steps validation perplexity did not fall below that of the base ({base:.3}; lowest since: {tuned:.3}), so the \
                 weights of the base are kept; lower the learning rate, or give more text",
            ),
            Self::TooShort { step, epochs, still_falling: Some(fall) } => write!(
                formatter,
                "training too short: after {step} steps ({epochs:.2} epochs) validation perplexity still fell by {:.0} % in the last fifth of the run; \
                 train for more epochs",
                fall * 100.0
            ),
            Self::TooShort { step, epochs, still_falling: None } => write!(
                formatter,
                "training too short: {step} steps, {epochs:.2} epochs; train for more epochs"
            ),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::Figure;

    #[test]
    fn figures_have_three_digits_and_thousands_apart() {
        let shown = |figure: f64| Figure(figure).to_string();
        assert_eq!([shown(1.239), shown(12.39), shown(123.9)], ["1.24", "12.4", "124"]);
        assert_eq!([shown(6800.4), shown(11_288.0), shown(1_234_567.0)], ["6,800", "11,288", "1,234,567"]);
        assert_eq!([shown(f64::INFINITY), shown(f64::NAN)], ["inf", "NaN"]);
    }
}
