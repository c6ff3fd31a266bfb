//! Hints: problems that the figures of a run show, in plain sentences, each with its figure.

mod classifier;
mod curves;
mod hint;
mod tuned;

pub use curves::{Evidence, Stage};
pub use hint::{Cause, Hint, Text};

use curves::{Curves, many_unknown, rate_too_high, seen, unknown_not_learnt};

/// A validation loss that is higher than the lowest by so much, and by this share of it, has risen.
const RISE: f64 = 0.02;
const RISE_SHARE: f64 = 0.01;
/// A gradient has vanished where its norm is this share of what it was at the token that is predicted...
const VANISHED: f64 = 1e-3;
/// ...within this many tokens.
const SOON: usize = 10;
/// A gradient explodes if its norm is at least this many times the median.
const EXPLODED: f64 = 10.0;
/// The norm of the whole gradient explodes at this many times its median.
const BURST: f64 = 50.0;
/// Training loss that changes by so much from line to line swings...
const SWING: f64 = 0.05;
/// ...and one that does not, where validation loss is so far above that of a unigram model, has not moved.
const ABOVE: f64 = 0.3;
/// Validation loss that is so far above training loss shows a gap: half as much perplexity again.
const GAP: f64 = 0.4;
/// Fewest steps before any hint.
const FEW_STEPS: u64 = 100;
/// A loss that still falls by so much in the last fifth of a run has not come to rest: perplexity by a twentieth.
const STILL_FALLING: f64 = 0.05;

/// Everything that the figures say.
pub fn hints(evidence: &Evidence<'_>) -> Vec<Hint> {
    if let Some(facts) = &evidence.text.classes {
        return classifier::hints(evidence, facts);
    }
    let curves = Curves::of(evidence.metrics);
    // A tuned model has learnt from its base's text what an unknown token is like, and is measured against its base; few steps may be enough.
    let is_tuned = evidence.plan.tune.is_some();
    let unknown = unknown_not_learnt(evidence.text).filter(|_| !is_tuned);
    let text = [unknown.or_else(|| many_unknown(evidence.text)), seen(evidence.text)];
    let rate = rate_too_high(evidence, &curves);
    let exploding = exploding(evidence, &curves);
    // Exploding gradients are cause enough: there is no hint about the learning rate then.
    let worse = worse_than_unigram(evidence, &curves, exploding.is_none()).filter(|_| rate.is_none());
    let short = too_short(evidence, &curves).filter(|_| rate.is_none() && worse.is_none() && !is_tuned);
    let fitted = overfitting(&curves).or_else(|| gap(evidence, &curves));
    let learning = [fitted, vanishing(evidence), exploding, rate, worse, short];
    let tuned = if is_tuned { tuned::hints(evidence) } else { Vec::new() };
    text.into_iter().chain(learning).flatten().chain(tuned).collect()
}

fn overfitting(curves: &Curves) -> Option<Hint> {
    let &(best_step, best) = curves.validation.iter().min_by(|a, b| a.1.total_cmp(&b.1))?;
    let &(step, loss) = curves.validation.last()?;
    // One validation that is worse may be chance: the rise is to last for two.
    let later = || curves.validation.iter().filter(|(step, _)| *step > best_step);
    let risen = |loss: f64| loss > best + RISE.max(RISE_SHARE * best);
    if later().count() < 2 || !later().rev().take(2).all(|(_, loss)| risen(*loss)) {
        return None;
    }
    let (before, training) = (curves.training_at(best_step)?, curves.training_at(step)?);
    (training < before).then(|| Hint::Overfitting {
        best_step,
        best_perplexity: best.exp(),
        step,
        perplexity: loss.exp(),
        training_perplexity: curves.exact.then(|| training.exp()),
    })
}

/// For runs that have ended, also if early stopping came before validation loss rose.
fn gap(evidence: &Evidence<'_>, curves: &Curves) -> Option<Hint> {
    let &(step, loss) = curves.validation.iter().min_by(|a, b| a.1.total_cmp(&b.1))?;
    let training = curves.training_at(step)?;
    let wide = evidence.stage == Stage::Ended && curves.exact && loss - training > GAP;
    wide.then(|| Hint::Gap { step, validation_perplexity: loss.exp(), training_perplexity: training.exp() })
}

fn vanishing(evidence: &Evidence<'_>) -> Option<Hint> {
    let record = evidence.flow?;
    record.by_distance.iter().enumerate().find_map(|(layer, norms)| {
        let near = *norms.first().filter(|norm| **norm > 0.0)?;
        let tokens_back = norms.iter().position(|norm| norm / near < VANISHED)?;
        // Not where it comes back further on.
        let gone = norms[tokens_back..].iter().all(|norm| norm / near < VANISHED);
        (gone && tokens_back <= SOON).then(|| Hint::VanishingGradients {
            layer: layer + 1,
            tokens_back,
            share: norms[tokens_back] / near,
            step: record.step,
            gated: evidence.gated(),
        })
    })
}

fn exploding(evidence: &Evidence<'_>, curves: &Curves) -> Option<Hint> {
    let (gated, clipped) = (evidence.gated(), evidence.clipped());
    let by_distance = evidence.flow.and_then(|record| {
        record.by_distance.iter().find_map(|norms| {
            let near = *norms.first().filter(|norm| **norm > 0.0)?;
            let (tokens_back, far) = norms.iter().enumerate().max_by(|a, b| a.1.total_cmp(b.1))?;
            let times = far / near;
            (times > EXPLODED).then_some(Hint::ExplodingGradients {
                times,
                tokens_back: Some(tokens_back),
                step: record.step,
                gated,
                clipped,
            })
        })
    });
    by_distance.or_else(|| {
        let mut norms: Vec<f64> = curves.training.iter().map(|line| line.norm).collect();
        norms.sort_by(f64::total_cmp);
        let median = *norms.get(norms.len() / 2).filter(|median| norms.len() >= 5 && **median > 0.0)?;
        let worst = curves.training.iter().max_by(|a, b| a.norm.total_cmp(&b.norm))?;
        let times = worst.norm / median;
        (times > BURST).then_some(Hint::ExplodingGradients {
            times,
            tokens_back: None,
            step: worst.step,
            gated,
            clipped,
        })
    })
}

/// Whether training loss swings from line to line instead of creeping down.
fn restless(curves: &Curves) -> bool {
    let swings = curves.training.windows(2).map(|pair| (pair[1].loss - pair[0].loss).abs());
    let mean = swings.sum::<f64>() / curves.training.len().saturating_sub(1).max(1) as f64;
    mean > SWING && !creeps(curves)
}

/// Whether nearly every line of training figures is a little lower than the one before.
fn creeps(curves: &Curves) -> bool {
    let falls = curves.training.windows(2).filter(|pair| pair[1].loss < pair[0].loss).count();
    falls * 5 >= curves.training.len().saturating_sub(1) * 4
}

/// The lowest loss, and that of a unigram model on the same text: of the validation text, or of the training text where nothing is held out and no
/// dropout raises the loss.
fn beside_unigram(evidence: &Evidence<'_>, curves: &Curves) -> Option<(Text, f64, f64)> {
    let validated = curves.validation.iter().map(|(_, loss)| *loss).min_by(f64::total_cmp);
    if let Some(loss) = validated {
        return Some((Text::Validation, loss, evidence.text.unigram_loss?));
    }
    let plain = curves.exact && !evidence.plan.regularisation().dropout.any();
    let loss = curves.training_at(curves.last_step()).filter(|_| plain)?;
    Some((Text::Training, loss, evidence.text.training_unigram_loss?))
}

fn worse_than_unigram(evidence: &Evidence<'_>, curves: &Curves, by_rate: bool) -> Option<Hint> {
    let (step, (text, loss, unigram)) = (curves.last_step(), beside_unigram(evidence, curves)?);
    if evidence.stage != Stage::Ended || step < FEW_STEPS || loss <= unigram {
        return None;
    }
    let readable = by_rate && curves.exact && curves.training.len() >= 5;
    let cause = if readable && restless(curves) {
        Cause::LearningRateTooHigh
    } else if readable && (creeps(curves) || loss > unigram + ABOVE) {
        Cause::LearningRateTooLow
    } else {
        Cause::Unclear
    };
    Some(Hint::WorseThanUnigram {
        step,
        text,
        perplexity: loss.exp(),
        unigram_perplexity: unigram.exp(),
        learning_rate: evidence.plan.training.learning_rate,
        cause,
    })
}

fn too_short(evidence: &Evidence<'_>, curves: &Curves) -> Option<Hint> {
    if evidence.stage != Stage::Ended {
        return None;
    }
    let step = curves.last_step();
    let epochs = step as f64 / evidence.text.steps_per_epoch.max(1) as f64;
    let short = |still_falling| Some(Hint::TooShort { step, epochs, still_falling });
    if step < FEW_STEPS {
        return short(None);
    }
    let (&(last_step, last), before) = curves.validation.split_last()?;
    // Records that were damaged can hold any number.
    let four_fifths = last_step - last_step.div_ceil(5);
    let &(earlier_step, earlier) = before.iter().rev().find(|(step, _)| *step <= four_fifths)?;
    // As if it had fallen evenly since then.
    let fall = (earlier - last) * (last_step as f64 / 5.0) / (last_step - earlier_step).max(1) as f64;
    if fall > STILL_FALLING { short(Some(1.0 - (-fall).exp())) } else { None }
}

#[cfg(test)]
mod tests {
    use super::{Cause, Evidence, Hint, Stage, Text, hints};
    use crate::plan::Plan;
    use crate::run::description::TextFacts;
    use crate::run::records::{Figures, FlowRecord, MetricsRecord};

    fn training(step: u64, loss: f64, norm: f64) -> MetricsRecord {
        MetricsRecord::Training {
            step,
            epoch: 0.0,
            tokens: 0,
            seconds: 0.0,
            loss,
            figures: Figures::of([("perplexity", loss.exp())]),
            learning_rate: 0.1,
            gradient_norm: norm,
            clipped_gradient_norm: norm,
            clipped_share: 0.0,
            tokens_per_second: 1.0,
        }
    }

    fn validation(step: u64, loss: f64) -> MetricsRecord {
        MetricsRecord::Validation {
            step,
            epoch: 0.0,
            seconds: 0.0,
            loss,
            figures: Figures::of([("perplexity", loss.exp()), ("bits_per_byte", 1.0)]),
            best: false,
        }
    }

    /// Ten lines of training figures and five validations of a run of 1,000 steps.
    fn run(training_losses: [f64; 10], validation_losses: [f64; 5]) -> Vec<MetricsRecord> {
        let lines =
            training_losses.iter().enumerate().map(|(i, &loss)| training(100 * (i as u64 + 1), loss, 1.0));
        let judged =
            validation_losses.iter().enumerate().map(|(i, &loss)| validation(200 * (i as u64 + 1), loss));
        lines.chain(judged).collect()
    }

    /// The same as if training were against a sample of the vocabulary.
    fn sampled(mut metrics: Vec<MetricsRecord>) -> Vec<MetricsRecord> {
        for record in &mut metrics {
            if let MetricsRecord::Training { figures, .. } = record {
                *figures = Figures::default();
            }
        }
        metrics
    }

    #[test]
    fn sampled_loss_is_not_reported_as_perplexity() {
        let (plan, text) = (Plan::default(), TextFacts { unigram_loss: Some(5.0), ..TextFacts::default() });
        let found = |metrics: &[MetricsRecord], stage| {
            let all = hints(&Evidence { plan: &plan, text: &text, metrics, flow: None, stage });
            all.iter().map(ToString::to_string).collect::<Vec<_>>()
        };
        let risen = sampled(run(FALLING, [3.0, 2.4, 2.5, 2.6, 2.8]));
        let shown = found(&risen, Stage::Ended);
        assert!(
            shown.iter().any(|hint| hint.contains("while training loss fell; the weights of step 400")),
            "{shown:?}"
        );
        let rising = [2.0, 1.5, 1.4, 2.5, 3.0, 3.2, 3.3, 3.3, 3.3, 3.3];
        let shown = found(&sampled(run(rising, [2.0; 5])), Stage::UnderWay);
        assert!(shown.iter().all(|hint| !hint.contains("training perplexity")), "{shown:?}");
    }

    const FALLING: [f64; 10] = [4.0, 3.0, 2.5, 2.2, 2.0, 1.9, 1.85, 1.8, 1.78, 1.77];
    const SETTLED: [f64; 5] = [3.0, 2.2, 1.95, 1.9, 1.89];
    const FACTS: TextFacts = TextFacts {
        training_tokens: 10_000,
        validation_tokens: 1000,
        test_tokens: 0,
        unknown_share: Some(0.01),
        training_unknown_share: Some(0.01),
        seen_share: Some(0.0),
        unigram_loss: Some(5.0),
        training_unigram_loss: Some(5.0),
        changed_share: None,
        steps_per_epoch: 100,
        classes: None,
    };

    fn hints_of(metrics: &[MetricsRecord], flow: &[FlowRecord], text: &TextFacts, stage: Stage) -> Vec<Hint> {
        let plan = Plan::default();
        let found = hints(&Evidence { plan: &plan, text, metrics, flow: flow.last(), stage });
        for hint in &found {
            let sentence = hint.to_string();
            assert!(sentence.chars().any(|c| c.is_ascii_digit()), "no figure: {sentence}");
            assert!(
                !sentence.contains("NaN") && !sentence.contains("inf") && !sentence.contains('\n'),
                "{sentence}"
            );
            let json = serde_json::to_value(hint).unwrap();
            assert_eq!(json["hint"], hint.name());
        }
        found
    }

    fn names(
        metrics: &[MetricsRecord],
        flow: &[FlowRecord],
        text: &TextFacts,
        stage: Stage,
    ) -> Vec<&'static str> {
        hints_of(metrics, flow, text, stage).iter().map(Hint::name).collect()
    }

    fn flow(norms: &[f64]) -> FlowRecord {
        FlowRecord { step: 200, by_distance: vec![norms.to_vec()], by_parameter: [].into() }
    }

    #[test]
    fn a_run_that_went_well_has_no_hints_and_neither_has_one_without_figures() {
        let gentle: Vec<f64> = (0..64).map(|d| 0.9f64.powi(d)).collect();
        for stage in [Stage::UnderWay, Stage::Ended] {
            assert!(names(&run(FALLING, SETTLED), &[flow(&gentle)], &FACTS, stage).is_empty());
        }
        assert!(names(&[], &[], &TextFacts::default(), Stage::UnderWay).is_empty());
        assert_eq!(names(&[], &[], &FACTS, Stage::Ended), ["too_short"]);
    }

    #[test]
    fn overfitting_is_a_lasting_rise_of_validation_while_training_falls() {
        let risen = [3.0, 1.9, 2.0, 2.2, 2.4];
        let found = hints_of(&run(FALLING, risen), &[], &FACTS, Stage::Ended);
        let [Hint::Overfitting { best_step: 400, step: 1000, perplexity, .. }] = found[..] else {
            panic!("{found:?}");
        };
        assert!((perplexity - 2.4f64.exp()).abs() < 1e-9);
        // One bad validation at the end, or validation that has only stopped falling.
        for fine in [[3.0, 2.2, 1.95, 1.9, 2.4], [3.0, 1.9, 1.905, 1.905, 1.91]] {
            assert!(names(&run(FALLING, fine), &[], &FACTS, Stage::Ended).is_empty(), "{fine:?}");
        }
        // Both rise: that is not overfitting.
        let both = run([2.0, 1.9, 1.8, 1.7, 1.8, 1.9, 1.95, 2.0, 2.0, 2.05], risen);
        assert!(!names(&both, &[], &FACTS, Stage::Ended).contains(&"overfitting"));
    }

    #[test]
    fn vanishing_and_exploding_gradients_are_reported_by_distance_or_step() {
        let metrics = run(FALLING, SETTLED);
        let fading: Vec<f64> = (0..30).map(|d| 0.3f64.powi(d)).collect();
        let found = hints_of(&metrics, &[flow(&fading)], &FACTS, Stage::Ended);
        assert!(
            matches!(found[..], [Hint::VanishingGradients { layer: 1, tokens_back: 6, .. }]),
            "{found:?}"
        );
        let growing: Vec<f64> = (0..30).map(|d| 1.2f64.powi(d)).collect();
        let found = hints_of(&metrics, &[flow(&growing)], &FACTS, Stage::Ended);
        assert!(matches!(found[..], [Hint::ExplodingGradients { tokens_back: Some(29), .. }]), "{found:?}");
        // The last measurement counts, and slow fading or zeros by chance are as they should be.
        for norms in [vec![1.0, 0.0, 0.5, 0.4], (0..64).map(|d| 0.6f64.powi(d)).collect(), vec![0.0, 0.0]] {
            assert!(
                names(&metrics, &[flow(&fading), flow(&norms)], &FACTS, Stage::Ended).is_empty(),
                "{norms:?}"
            );
        }
        let mut bursting = metrics;
        bursting[4] = training(500, 2.0, 80.0);
        assert_eq!(names(&bursting, &[], &FACTS, Stage::Ended), ["exploding_gradients"]);
    }

    #[test]
    fn a_learning_rate_is_too_high_if_the_loss_rises_or_never_falls() {
        let mut up = FALLING;
        up[6..9].copy_from_slice(&[2.6, 2.7, 2.6]);
        assert_eq!(names(&run(up, SETTLED), &[], &FACTS, Stage::UnderWay), ["learning_rate_too_high"]);
        let mut one_hard_window = FALLING;
        one_hard_window[6] = 2.5;
        assert!(names(&run(one_hard_window, SETTLED), &[], &FACTS, Stage::UnderWay).is_empty());
        let swinging = run([6.0, 5.4, 5.6, 5.3, 5.5, 5.6, 5.3, 5.6, 5.4, 5.5], [5.5, 5.4, 5.5, 5.5, 5.45]);
        let found = hints_of(&swinging, &[], &FACTS, Stage::Ended);
        assert!(
            matches!(
                found[..],
                [Hint::WorseThanUnigram { cause: Cause::LearningRateTooHigh, text: Text::Validation, .. }]
            ),
            "{found:?}"
        );
        assert!(names(&swinging, &[], &FACTS, Stage::UnderWay).is_empty());
        let found = hints_of(&[], &[], &FACTS, Stage::NotFinite(7));
        assert!(
            matches!(found[..], [Hint::LearningRateTooHigh { step: 7, to_perplexity: None, .. }]),
            "{found:?}"
        );
    }

    #[test]
    fn a_learning_rate_is_too_low_where_the_loss_creeps() {
        let creeping = run(std::array::from_fn(|i| 6.5 - 0.02 * i as f64), [6.5, 6.46, 6.42, 6.38, 6.34]);
        let still = run(std::array::from_fn(|i| 6.6 + 0.01 * (i % 2) as f64), [6.6, 6.6, 6.6, 6.6, 6.6]);
        for metrics in [&creeping, &still] {
            let found = hints_of(metrics, &[], &FACTS, Stage::Ended);
            assert!(
                matches!(found[..], [Hint::WorseThanUnigram { cause: Cause::LearningRateTooLow, .. }]),
                "{found:?}"
            );
            assert!(names(metrics, &[], &FACTS, Stage::UnderWay).is_empty());
        }
        // Where gradients explode, nothing is known of the rate.
        let growing: Vec<f64> = (0..30).map(|d| 1.2f64.powi(d)).collect();
        let found = hints_of(&still, &[flow(&growing)], &FACTS, Stage::Ended);
        assert!(
            matches!(
                found[..],
                [Hint::ExplodingGradients { .. }, Hint::WorseThanUnigram { cause: Cause::Unclear, .. }]
            ),
            "{found:?}"
        );
        let below = TextFacts { unigram_loss: Some(7.0), ..FACTS };
        assert!(names(&creeping, &[], &below, Stage::Ended).is_empty());
    }

    #[test]
    fn like_is_compared_with_like() {
        // With dropout training loss may stay above the unigram's of a validation text that the model predicts better than that.
        let learnt =
            run([6.3, 6.2, 6.1, 6.05, 6.0, 5.98, 5.96, 5.95, 5.94, 5.93], [6.2, 6.0, 5.9, 5.88, 5.87]);
        let text = TextFacts { unigram_loss: Some(5.9), training_unigram_loss: Some(5.8), ..FACTS };
        assert!(names(&learnt, &[], &text, Stage::Ended).is_empty());
        // Without validation only training loss without dropout can be compared.
        let alone: Vec<MetricsRecord> = learnt[..10].to_vec();
        let text = TextFacts { unigram_loss: None, ..text };
        let hints_of = |dropout: f64| {
            let mut plan = Plan::default();
            plan.training.dropout = Some(dropout);
            let evidence =
                Evidence { plan: &plan, text: &text, metrics: &alone, flow: None, stage: Stage::Ended };
            hints(&evidence)
        };
        assert!(hints_of(0.2).is_empty());
        assert!(matches!(hints_of(0.0)[..], [Hint::WorseThanUnigram { text: Text::Training, .. }]));
    }

    #[test]
    fn a_gap_is_reported_if_early_stopping_prevented_a_rise() {
        let far = [3.0, 2.6, 2.5, 2.45, 2.44];
        let found = hints_of(&run(FALLING, far), &[], &FACTS, Stage::Ended);
        assert!(matches!(found[..], [Hint::Gap { step: 1000, .. }]), "{found:?}");
        assert!(found[0].to_string().contains("11.5, 1.9 times training perplexity (5.95)"), "{}", found[0]);
        assert!(names(&run(FALLING, far), &[], &FACTS, Stage::UnderWay).is_empty());
    }

    #[test]
    fn advice_fits_the_cell_and_the_settings() {
        let fading: Vec<f64> = (0..30).map(|d| 0.3f64.powi(d)).collect();
        let growing: Vec<f64> = (0..30).map(|d| 1.2f64.powi(d)).collect();
        let mut bursting = run(FALLING, SETTLED);
        bursting[4] = training(500, 2.0, 80.0);
        let found = |cell: &str, flow: Option<&FlowRecord>, clip: f64| {
            let mut plan = Plan::default();
            plan.model.cell = serde_json::from_value(cell.into()).unwrap();
            plan.training.clip_norm = clip;
            let evidence =
                Evidence { plan: &plan, text: &FACTS, metrics: &bursting, flow, stage: Stage::UnderWay };
            hints(&evidence)[0].to_string()
        };
        let (fading, growing) = (flow(&fading), flow(&growing));
        assert!(found("plain_tanh", Some(&fading), 1.0).contains("an LSTM, a GRU"));
        assert!(!found("lstm", Some(&fading), 1.0).contains("an LSTM"));
        assert!(found("plain_tanh", Some(&growing), 1.0).contains("an LSTM"));
        assert!(!found("gru", Some(&growing), 1.0).contains("a GRU"));
        assert!(found("gru", None, 1.0).contains("lower `training.clip_norm`"));
        assert!(found("gru", None, 0.0).contains("clip it (`training.clip_norm`)"));
    }

    #[test]
    fn unknown_tokens_and_shared_documents_give_hints() {
        let text = TextFacts { unknown_share: Some(0.12), seen_share: Some(0.5), ..FACTS };
        let found = names(&[], &[], &text, Stage::UnderWay);
        assert_eq!(found, ["many_unknown_tokens", "validation_seen_in_training"]);
        let little = TextFacts { unknown_share: Some(0.05), seen_share: Some(0.01), ..FACTS };
        assert!(names(&[], &[], &little, Stage::UnderWay).is_empty());
        // Where the training text has none, few are enough, and more of them are no other fault.
        let of = |share, training| {
            let text =
                TextFacts { unknown_share: Some(share), training_unknown_share: Some(training), ..FACTS };
            names(&[], &[], &text, Stage::UnderWay)
        };
        assert_eq!(of(0.02, 0.0), ["unknown_not_learnt"]);
        assert_eq!(of(0.12, 0.0), ["unknown_not_learnt"]);
        assert_eq!(of(0.12, 0.08), ["many_unknown_tokens"]);
        assert!(of(0.009, 0.0).is_empty() && of(0.02, 0.01).is_empty());
    }

    #[test]
    fn a_run_is_too_short_while_validation_still_falls_fast() {
        let falling = [5.0, 4.0, 3.2, 2.6, 2.1];
        let found = hints_of(&run(FALLING, falling), &[], &FACTS, Stage::Ended);
        let [Hint::TooShort { step: 1000, still_falling: Some(fall), .. }] = found[..] else {
            panic!("{found:?}");
        };
        assert!((fall - (1.0 - (-0.5f64).exp())).abs() < 1e-9);
        let few = [training(20, 4.0, 1.0), validation(20, 3.9)];
        assert_eq!(names(&few, &[], &FACTS, Stage::Ended), ["too_short"]);
        assert!(names(&few, &[], &FACTS, Stage::UnderWay).is_empty());
    }

    #[test]
    fn numbers_of_damaged_records_are_no_trouble() {
        let far = [training(u64::MAX, 4.0, 1.0), validation(3, 1e300), validation(u64::MAX, 3.9)];
        for stage in [Stage::UnderWay, Stage::Ended] {
            hints(&Evidence { plan: &Plan::default(), text: &FACTS, metrics: &far, flow: None, stage });
        }
    }
}
