//! Which values a plan may have.

use lalograph_net::heads::softmax::Softmax;

use super::error::PlanError;
use super::{
    ClassifierPlan, Directions, DocumentLength, LossAt, NetworkKind, NumberOrder, Plan, TermChoice,
    WindowKind,
};

impl Plan {
    /// Refuses values outside their range.
    ///
    /// # Errors
    /// [`PlanError::Range`] for the first one.
    pub fn check(&self) -> Result<(), PlanError> {
        self.out_of_range().into_iter().next().map_or(Ok(()), Err)
    }

    /// Every value that is outside its range, each a [`PlanError::Range`].
    pub fn out_of_range(&self) -> Vec<PlanError> {
        let Self {
            corpus,
            vocabulary,
            model,
            training,
            optimiser,
            regularisation,
            groups,
            samples,
            checkpoints,
            ..
        } = self;
        let tune = self.tune.clone().unwrap_or_default();
        let expected = self.expected.clone().unwrap_or_default();
        let vectors = self.vectors.clone().unwrap_or_default();
        let mut found = Vec::new();
        let mut range = |key, value: String, must| found.push(PlanError::Range { key, value, must });
        if let Some(delimiter) = corpus.delimiter.filter(|c| !c.is_ascii() || matches!(c, '\n' | '\r' | '"'))
        {
            range(
                "corpus.delimiter",
                format!("{delimiter:?}"),
                "one ASCII character that ends no line and no quotation",
            );
        }
        match (&corpus.prompt, &corpus.answer) {
            (Some(_), None) => range("corpus.answer", "not set".into(), "set with `corpus.prompt`"),
            (None, Some(_)) => range("corpus.prompt", "not set".into(), "set with `corpus.answer`"),
            (Some(_), Some(_)) => {
                let unused =
                    [("corpus.text", !corpus.text.is_empty()), ("corpus.group", corpus.group.is_some())];
                for (key, set) in unused {
                    if set {
                        range(key, "set".into(), "left out with `corpus.prompt` and `corpus.answer`");
                    }
                }
            }
            (None, None) => {}
        }
        if self.tune.is_some() && self.start.model.is_none() {
            range("start.model", "not set".into(), "set with `[tune]`");
        }
        if self.tune.is_some() && self.start.vectors.is_some() {
            range("start.vectors", "set".into(), "left out with `[tune]`");
        }
        if self.tune.is_some() && self.classifier.is_some() {
            range("tune", "set".into(), "left out of the plan of a classifier");
        }
        if self.vectors.is_some() {
            let others = [
                ("classifier", self.classifier.is_some()),
                ("tune", self.tune.is_some()),
                ("expected", self.expected.is_some()),
            ];
            for (section, _) in others.into_iter().filter(|(_, set)| *set) {
                range(section, "set".into(), "left out of the plan of word vectors");
            }
            let lengths = &vectors.pieces;
            if !(lengths.is_empty() || (lengths.len() == 2 && lengths[0] > 0 && lengths[0] <= lengths[1])) {
                let must = "empty, or two lengths above 0 in rising order";
                range("vectors.pieces", format!("{lengths:?}"), must);
            }
        }
        if tune.keep_old > 0.0 && training.batch < 2 {
            let must = "at least 2 with `tune.keep_old`: some streams read old text";
            range("training.batch", training.batch.to_string(), must);
        }
        if groups.layer_rates.len() > model.layers
            || groups.layer_rates.iter().any(|&rate| rate.is_nan() || rate < 0.0)
        {
            range(
                "groups.layer_rates",
                format!("{:?}", groups.layer_rates),
                "0 or above, at most as many as there are layers",
            );
        }
        let held_out = corpus.validation_share + corpus.test_share;
        if (0.0..=0.9).contains(&corpus.validation_share) && corpus.test_share >= 0.0 && held_out > 0.9 {
            let must = "at most 0.9 together with `corpus.validation_share`";
            range("corpus.test_share", corpus.test_share.to_string(), must);
        }
        if model.directions == Directions::Both && self.classifier.is_none() {
            let must = "`forward`: a layer that reads backwards has read the token that is to be predicted";
            range("model.directions", "`both`".into(), must);
        }
        let resets = training.reset_at_documents || training.windows != WindowKind::Carried;
        if model.learn_first_state && !resets && self.classifier.is_none() {
            let must = "false where windows are carried and `training.reset_at_documents` is off: no step would begin with it";
            range("model.learn_first_state", "true".into(), must);
        }
        if regularisation.label_smoothing > 0.0 && model.softmax == Some(Softmax::Sampled) {
            let must = "0 with a sampled softmax, which never sees the whole distribution";
            range("regularisation.label_smoothing", regularisation.label_smoothing.to_string(), must);
        }
        if training.loss_at == LossAt::Last && training.windows != WindowKind::Independent {
            let must = "`every` unless `training.windows` is `independent`";
            range("training.loss_at", "`last`".into(), must);
        }
        if training.stride.is_some() && training.windows != WindowKind::Independent {
            let must = "left out unless `training.windows` is `independent`";
            range("training.stride", "set".into(), must);
        }
        if training.window_jitter != 0.0 && training.windows != WindowKind::Carried {
            let must = "0 unless `training.windows` is `carried`";
            range("training.window_jitter", training.window_jitter.to_string(), must);
        }
        if let Some(classifier) = &self.classifier {
            for (key, fine) in self.unused_by_a_classifier() {
                if !fine {
                    range(key, "set".into(), "left out: a classifier does not use it");
                }
            }
            let widths = &classifier.filter_widths;
            if widths.is_empty() || !widths.is_sorted_by(|a, b| a < b) || widths[0] == 0 {
                range(
                    "classifier.filter_widths",
                    format!("{widths:?}"),
                    "whole numbers above 0 in rising order",
                );
            }
            if classifier.dense.contains(&0) {
                range("classifier.dense", format!("{:?}", classifier.dense), "widths above 0");
            }
            if classifier.weights.values().any(|&weight| !(weight > 0.0 && weight.is_finite())) {
                range("classifier.weights", format!("{:?}", classifier.weights), "above 0, each of them");
            }
            if classifier.near.is_some_and(|near| !(near > 0.0 && near <= 1.0)) {
                range(
                    "classifier.near",
                    classifier.near.unwrap_or_default().to_string(),
                    "above 0 and at most 1",
                );
            }
            if let Some(features) = classifier.features {
                let grouped = self.corpus.group.is_some();
                if grouped && classifier.order != NumberOrder::ByStep {
                    range(
                        "classifier.order",
                        "`by_feature`".into(),
                        "`by_step` with `corpus.group`, whose rows are steps",
                    );
                }
                if grouped && classifier.network == NetworkKind::Linear && classifier.time_steps.is_none() {
                    let must = "set for a linear network with `corpus.group`: it has a weight for each feature at each step";
                    range("classifier.time_steps", "not set".into(), must);
                }
                if !(1..=1 << 14).contains(&features) {
                    range("classifier.features", features.to_string(), "from 1 to 16,384");
                }
                let unused = [
                    ("start.vectors", self.start.vectors.is_some()),
                    ("start.model", self.start.model.is_some()),
                    ("vocabulary.file", vocabulary.file.is_some()),
                    ("regularisation.dropout_words", regularisation.dropout_words > 0.0),
                ];
                for (key, set) in unused {
                    if set {
                        range(key, "set".into(), "left out: rows of numbers have no tokens");
                    }
                }
                if classifier.length != DocumentLength::Most && !(grouped && classifier.time_steps.is_none())
                {
                    range(
                        "classifier.length",
                        classifier.length.to_string(),
                        "left out: rows of numbers are read whole",
                    );
                }
            } else if classifier.time_steps.is_some() {
                range("classifier.time_steps", "set".into(), "left out without `classifier.features`");
            }
            if classifier.time_steps == Some(0) {
                range("classifier.time_steps", "0".into(), "at least 1");
            }
            if classifier.network == NetworkKind::Linear {
                self.check_linear(classifier, &mut range);
            }
            if classifier.filters == 0 {
                range("classifier.filters", "0".into(), "at least 1");
            }
        }
        // Each kind of range once; then which setting must lie in which.
        type Ranged = (&'static str, f64, bool, &'static str);
        fn at_least_one(key: &'static str, value: u64) -> Ranged {
            (key, value as f64, value > 0, "at least 1")
        }
        fn within(key: &'static str, value: f64, (low, high): (f64, f64), must: &'static str) -> Ranged {
            (key, value, (low..=high).contains(&value), must)
        }
        fn share(key: &'static str, value: f64) -> Ranged {
            within(key, value, (0.0, 0.95), "from 0 to 0.95")
        }
        fn not_negative(key: &'static str, value: f64) -> Ranged {
            within(key, value, (0.0, f64::MAX), "0 or above")
        }
        fn limit(key: &'static str, value: f64) -> Ranged {
            within(key, value, (0.0, f64::MAX), "0 (no clipping) or above")
        }
        fn positive_number(key: &'static str, value: f64) -> Ranged {
            (key, value, value > 0.0 && value.is_finite(), "above 0")
        }
        let size = (1.0, 65_536.0);
        let ranges = [
            within(
                "corpus.longest_bytes",
                corpus.longest_bytes as f64,
                (1.0, (1u64 << 31) as f64),
                "from 1 to 2,147,483,648",
            ),
            at_least_one("corpus.expansion", corpus.expansion),
            within("corpus.validation_share", corpus.validation_share, (0.0, 0.9), "from 0 to 0.9"),
            within("corpus.test_share", corpus.test_share, (0.0, f64::MAX), "from 0 to 0.9"),
            at_least_one("vocabulary.size", vocabulary.size.unwrap_or(1) as u64),
            at_least_one("model.embedding", model.embedding.unwrap_or(1) as u64),
            at_least_one("model.hidden", model.hidden.unwrap_or(1) as u64),
            at_least_one("model.layers", model.layers as u64),
            at_least_one("model.cluster_shrink", model.cluster_shrink as u64),
            within("model.softmax_samples", model.softmax_samples as f64, (1.0, 1e6), "from 1 to 1,000,000"),
            not_negative("model.recurrent_gain", model.recurrent_gain),
            within("model.keep_bias", model.keep_bias.unwrap_or(0.0), (-100.0, 100.0), "from -100 to 100"),
            at_least_one("training.epochs", training.epochs.unwrap_or(1)),
            within("training.batch", training.batch as f64, size, "from 1 to 65,536"),
            within("training.window", training.window as f64, size, "from 1 to 65,536"),
            at_least_one("training.stride", training.stride.unwrap_or(1) as u64),
            within("training.window_jitter", training.window_jitter, (0.0, 0.5), "from 0 to 0.5"),
            at_least_one("training.record_every", training.record_every),
            at_least_one("training.lanes", training.lanes as u64),
            not_negative("training.validate_every_epochs", training.validate_every_epochs),
            within("training.validate_share", training.validate_share, (1e-6, 1.0), "above 0 and at most 1"),
            not_negative("training.minimum_gain", training.minimum_gain),
            not_negative("training.end_after_minutes", training.end_after_minutes),
            positive_number("training.learning_rate", training.learning_rate),
            within(
                "training.schedule_factor",
                training.schedule_factor,
                (1e-6, 1.0),
                "above 0 and at most 1",
            ),
            at_least_one("training.schedule_steps", training.schedule_steps),
            within("training.schedule_end", training.schedule_end, (0.0, 1.0), "from 0 to 1"),
            at_least_one("training.schedule_patience", training.schedule_patience),
            limit("training.clip_norm", training.clip_norm),
            limit("training.clip_value", training.clip_value),
            share("training.dropout", training.dropout.unwrap_or(0.0)),
            // A tuned model of no steps is the base, with the new tokens.
            at_least_one("training.steps", training.steps.unwrap_or(1).max(u64::from(self.tune.is_some()))),
            within("optimiser.momentum", optimiser.momentum, (0.0, 0.9999), "from 0 to 0.9999"),
            within("optimiser.beta1", optimiser.beta1, (0.0, 0.9999), "from 0 to 0.9999"),
            within("optimiser.beta2", optimiser.beta2, (0.0, 0.999_999), "from 0 to 0.999999"),
            positive_number("optimiser.epsilon", optimiser.epsilon),
            within(
                "optimiser.average_from",
                optimiser.average_from.unwrap_or(0.0),
                (0.0, 1.0),
                "from 0 to 1",
            ),
            not_negative("optimiser.weight_decay", optimiser.weight_decay),
            share("regularisation.dropout_inputs", regularisation.dropout_inputs.unwrap_or(0.0)),
            share("regularisation.dropout_layers", regularisation.dropout_layers.unwrap_or(0.0)),
            share("regularisation.dropout_output", regularisation.dropout_output.unwrap_or(0.0)),
            share("regularisation.dropout_recurrent", regularisation.dropout_recurrent),
            share("regularisation.dropout_words", regularisation.dropout_words),
            not_negative("regularisation.activation_penalty", regularisation.activation_penalty),
            not_negative("regularisation.temporal_penalty", regularisation.temporal_penalty),
            share("regularisation.label_smoothing", regularisation.label_smoothing),
            not_negative("groups.embedding_rate", groups.embedding_rate),
            not_negative("groups.layers_rate", groups.layers_rate),
            not_negative("groups.output_rate", groups.output_rate),
            within("vectors.dimensions", vectors.dimensions as f64, (1.0, 4096.0), "from 1 to 4,096"),
            within("vectors.window", vectors.window as f64, (1.0, 1000.0), "from 1 to 1,000"),
            within(
                "vectors.negative_samples",
                vectors.negative_samples as f64,
                (0.0, 1000.0),
                "at most 1,000",
            ),
            within("vectors.subsample", vectors.subsample, (0.0, 1.0), "from 0 to 1"),
            positive_number("vectors.learning_rate", vectors.learning_rate.unwrap_or(1.0)),
            at_least_one("vectors.epochs", vectors.epochs),
            at_least_one("vectors.piece_rows", u64::from(vectors.piece_rows)),
            within("vectors.lanes", vectors.lanes as f64, (1.0, 64.0), "from 1 to 64"),
            not_negative("expected.minutes", expected.minutes),
            not_negative("expected.lowest_perplexity", expected.lowest_perplexity),
            not_negative("expected.highest_perplexity", expected.highest_perplexity),
            within("tune.keep_old", tune.keep_old, (0.0, 0.9), "from 0 to 0.9"),
            at_least_one("tune.longest_prompt", tune.longest_prompt.unwrap_or(1) as u64),
            at_least_one("tune.longest_answer", tune.longest_answer.unwrap_or(1) as u64),
            limit("groups.embedding_clip_norm", groups.embedding_clip_norm),
            limit("groups.layers_clip_norm", groups.layers_clip_norm),
            limit("groups.output_clip_norm", groups.output_clip_norm),
            not_negative("samples.every_epochs", samples.every_epochs),
            at_least_one("samples.drawn_seed_tokens", samples.drawn_seed_tokens as u64),
            not_negative("checkpoints.minutes", checkpoints.minutes),
            at_least_one("checkpoints.keep", checkpoints.keep as u64),
        ];
        let temperatures = samples
            .temperatures
            .iter()
            .map(|&t| ("samples.temperatures", t, t > 0.0 && t.is_finite(), "above 0, each of them"));
        let wrong = ranges.into_iter().chain(temperatures).filter(|(_, _, fine, _)| !fine);
        found.extend(wrong.map(|(key, value, _, must)| PlanError::Range {
            key,
            value: value.to_string(),
            must,
        }));
        found
    }

    /// Refuses values of a linear network that are outside their range.
    fn check_linear(
        &self,
        classifier: &ClassifierPlan,
        range: &mut dyn FnMut(&'static str, String, &'static str),
    ) {
        if classifier.terms == 0 {
            range("classifier.terms", "0".into(), "at least 1");
        }
        if (classifier.term_choice == TermChoice::Listed) == classifier.term_list.is_empty() {
            let (value, must) = match classifier.term_list.len() {
                0 => ("empty", "a list of terms with `classifier.term_choice = \"listed\"`"),
                _ => ("set", "left out unless `classifier.term_choice` is `listed`"),
            };
            range("classifier.term_list", value.into(), must);
        }
        if classifier.term_pairs > 4096 {
            range("classifier.term_pairs", classifier.term_pairs.to_string(), "at most 4,096");
        }
        let strengths = &classifier.strengths;
        if !strengths.is_sorted_by(|a, b| a > b) || strengths.iter().any(|s| !(*s >= 0.0 && s.is_finite())) {
            range("classifier.strengths", format!("{strengths:?}"), "0 or above, in falling order");
        }
        if !(classifier.tolerance > 0.0 && classifier.tolerance < 1.0) {
            range("classifier.tolerance", classifier.tolerance.to_string(), "above 0 and below 1");
        }
        if classifier.iterations == 0 {
            range("classifier.iterations", "0".into(), "at least 1");
        }
        let unused = [
            ("start.vectors", self.start.vectors.is_some()),
            ("start.model", self.start.model.is_some()),
            ("classifier.dense", !classifier.dense.is_empty()),
        ];
        for (key, set) in unused {
            if set {
                range(key, "set".into(), "left out: a linear network has neither token vectors nor layers");
            }
        }
        if classifier.features.is_some() && (classifier.term_pairs > 0 || !classifier.term_list.is_empty()) {
            let must = "left out: rows of numbers have no terms";
            range("classifier.term_pairs", classifier.term_pairs.to_string(), must);
        }
    }

    /// Settings that only language models have, each with whether it is at its default.
    fn unused_by_a_classifier(&self) -> Vec<(&'static str, bool)> {
        let (default, Self { model, training, regularisation, .. }) = (Self::default(), self);
        let (of_model, of_training) = (&default.model, &default.training);
        vec![
            ("model.shared_vectors", model.shared_vectors == of_model.shared_vectors),
            ("model.softmax", model.softmax == of_model.softmax),
            ("training.windows", training.windows == of_training.windows),
            ("training.stride", training.stride == of_training.stride),
            ("training.loss_at", training.loss_at == of_training.loss_at),
            ("training.window_jitter", training.window_jitter == of_training.window_jitter),
            ("training.validate_share", training.validate_share == of_training.validate_share),
            ("training.flow_every", training.flow_every == of_training.flow_every),
            ("regularisation.activation_penalty", regularisation.activation_penalty == 0.0),
            ("regularisation.temporal_penalty", regularisation.temporal_penalty == 0.0),
            ("samples", self.samples == default.samples),
            ("expected", self.expected.is_none()),
        ]
    }
}
