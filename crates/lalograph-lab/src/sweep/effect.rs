//! Settings that a sweep would vary for nothing: they decide nothing about the result, or another setting decides in their place.

use lalograph_net::heads::softmax::Softmax;
use lalograph_net::learning::optimiser::Rule;

use crate::plan::{NetworkKind, Plan, Schedule, WindowKind};

/// Why varying a setting makes no difference to the result under a plan in which `varied` settings change; `None` if it may. `seeds` says whether
/// each setting is trained with several seeds.
pub(super) fn no_effect(key: &str, plan: &Plan, varied: &[&str], seeds: bool) -> Option<String> {
    let (section, name) = key.split_once('.')?;
    if matches!(section, "samples" | "checkpoints" | "expected")
        || matches!(key, "training.record_every" | "training.flow_every")
    {
        return Some("it does not change what is learnt".to_owned());
    }
    if key == "training.gradient_sum" {
        return Some("a trial is trained by one process".to_owned());
    }
    if key == "classifier.criterion" {
        return Some("it is the figure that trials are compared by".to_owned());
    }
    if key == "training.seed" && seeds {
        return Some("every setting is trained with several seeds already (--seeds)".to_owned());
    }
    if matches!(key, "corpus.split" | "corpus.split_seed" | "corpus.validation_share" | "corpus.test_share") {
        return Some("trials are compared on one validation text".to_owned());
    }
    if plan.vectors.is_some() {
        if matches!(key, "vectors.similarity" | "vectors.analogies") {
            return Some("trials are compared by one file".to_owned());
        }
        if matches!(
            section,
            "model"
                | "training"
                | "optimiser"
                | "regularisation"
                | "groups"
                | "start"
                | "classifier"
                | "tune"
        ) && key != "training.seed"
        {
            return Some("word vectors do not use it".to_owned());
        }
    }
    // What decides in its place, and whether it does so in this plan.
    let decided = decided_by(key, section, name, plan)?;
    (!varied.contains(&decided.0)).then(|| format!("`{}` {}", decided.0, decided.1))
}

/// The setting that makes another one idle in a plan, and a phrase that says how.
fn decided_by(key: &str, section: &str, name: &str, plan: &Plan) -> Option<(&'static str, &'static str)> {
    let training = &plan.training;
    let schedule = |used: &[Schedule]| {
        (!used.contains(&training.schedule)).then_some(("training.schedule", "has no use for it"))
    };
    let rule = |used: &[Rule]| {
        (!used.contains(&plan.optimiser.rule)).then_some(("optimiser.rule", "has no use for it"))
    };
    let softmax = |used: Softmax| {
        plan.model.softmax.is_some_and(|own| own != used).then_some(("model.softmax", "has no use for it"))
    };
    if let Some(found) = of_classifier(key, section, name, plan) {
        return Some(found);
    }
    let vectors = |used: bool, with: &'static str| (!used).then_some(("vectors.factorise", with));
    let own = plan.vectors.clone().unwrap_or_default();
    match key {
        "vectors.direction"
        | "vectors.fixed_window"
        | "vectors.subsample"
        | "vectors.learning_rate"
        | "vectors.epochs"
        | "vectors.pieces"
        | "vectors.lanes" => vectors(!own.factorise, "has no use for it"),
        "vectors.piece_rows" => {
            own.pieces.is_empty().then_some(("vectors.pieces", "is empty, so there are no rows of pieces"))
        }
        "training.epochs" => training.steps.map(|_| ("training.steps", "is set, and decides instead")),
        "training.schedule_factor" => schedule(&[Schedule::Step, Schedule::Exponential, Schedule::Plateau]),
        "training.schedule_steps" => {
            schedule(&[Schedule::Step, Schedule::Exponential, Schedule::InverseSquareRoot])
        }
        "training.schedule_end" => schedule(&[Schedule::Cosine, Schedule::OneCycle]),
        "training.schedule_patience" => schedule(&[Schedule::Plateau]),
        "training.stride" | "training.loss_at" => (training.windows != WindowKind::Independent)
            .then_some(("training.windows", "is not `independent`")),
        "training.window_jitter" => {
            (training.windows != WindowKind::Carried).then_some(("training.windows", "is not `carried`"))
        }
        "optimiser.momentum" => rule(&[Rule::Momentum, Rule::Nesterov]),
        "optimiser.beta1" => rule(&[Rule::Adam, Rule::Adamw]),
        "optimiser.beta2" | "optimiser.epsilon" => rule(&[Rule::Adam, Rule::Adamw, Rule::Rmsprop]),
        "model.clusters" | "model.cluster_shrink" => softmax(Softmax::Clustered),
        "model.softmax_samples" => softmax(Softmax::Sampled),
        "training.dropout" => {
            let own = &plan.regularisation;
            let all = [own.dropout_inputs, own.dropout_layers, own.dropout_output];
            all.iter().all(Option::is_some).then_some((
                "regularisation.dropout_inputs",
                "and its two neighbours are set, and decide instead",
            ))
        }
        _ if section == "vocabulary" && name != "file" => {
            plan.vocabulary.file.as_ref().map(|_| ("vocabulary.file", "is set, and decides instead"))
        }
        _ => None,
    }
}

/// The same for the settings of which a classifier's network uses some.
fn of_classifier(key: &str, section: &str, name: &str, plan: &Plan) -> Option<(&'static str, &'static str)> {
    let network = plan.classifier.as_ref()?.network;
    let recurrent = ["cell", "hidden", "layers", "directions", "layer_norm", "residual"];
    let linear = [
        "term_choice",
        "terms",
        "term_list",
        "term_values",
        "term_pairs",
        "penalty",
        "strengths",
        "tolerance",
        "iterations",
    ];
    let used = match section {
        "classifier" if linear.contains(&name) => network == NetworkKind::Linear,
        "classifier" if matches!(name, "filters" | "filter_widths") => network == NetworkKind::Convolution,
        "classifier" if name == "pooling" => matches!(network, NetworkKind::Pooled | NetworkKind::Recurrent),
        "classifier" if matches!(name, "dense" | "activation") => network != NetworkKind::Linear,
        "model" if recurrent.contains(&name) => network == NetworkKind::Recurrent,
        "model" | "optimiser" | "groups" => network != NetworkKind::Linear,
        "training" if key != "training.seed" => network != NetworkKind::Linear,
        _ => true,
    };
    (!used).then_some(("classifier.network", "has no use for it"))
}

#[cfg(test)]
mod tests {
    use super::no_effect;
    use crate::Plan;

    fn plan(settings: &[&str]) -> Plan {
        Plan::with_settings(settings).unwrap()
    }

    #[test]
    fn a_setting_that_another_decides_has_no_effect_unless_that_varies_too() {
        for (settings, key, other) in [
            (&["training.steps=10"][..], "training.epochs", "training.steps"),
            (&[], "training.schedule_factor", "training.schedule"),
            (&["training.schedule=constant"], "training.schedule_end", "training.schedule"),
            (&["optimiser.rule=sgd"], "optimiser.beta1", "optimiser.rule"),
            (&[], "optimiser.momentum", "optimiser.rule"),
            (&["model.softmax=full"], "model.softmax_samples", "model.softmax"),
            (&[], "training.stride", "training.windows"),
            (&["vocabulary.file=v.json"], "vocabulary.size", "vocabulary.file"),
            (&["vectors.factorise=true"], "vectors.subsample", "vectors.factorise"),
            (&["vectors.window=3"], "vectors.piece_rows", "vectors.pieces"),
            (&["classifier.network=pooled"], "model.hidden", "classifier.network"),
            (&["classifier.network=linear"], "training.learning_rate", "classifier.network"),
            (&["classifier.network=recurrent"], "classifier.filters", "classifier.network"),
        ] {
            let plan = plan(settings);
            let why =
                no_effect(key, &plan, &[key], false).unwrap_or_else(|| panic!("{key} with {settings:?}"));
            assert!(why.contains(other), "{key}: {why}");
            assert_eq!(no_effect(key, &plan, &[key, other], false), None, "{key}");
        }
    }

    #[test]
    fn settings_that_decide_something_have_an_effect() {
        let plain = plan(&[]);
        for key in [
            "training.epochs",
            "training.learning_rate",
            "training.schedule_end",
            "optimiser.beta2",
            "model.hidden",
            "vocabulary.size",
            "training.dropout",
            "regularisation.dropout_recurrent",
            "training.seed",
        ] {
            assert_eq!(no_effect(key, &plain, &[key], false), None, "{key}");
        }
        assert_eq!(no_effect("model.hidden", &plan(&["classifier.network=recurrent"]), &[], false), None);
        for idle in [
            "training.gradient_sum",
            "samples.every",
            "checkpoints.keep",
            "training.flow_every",
            "corpus.test_share",
        ] {
            assert!(no_effect(idle, &plain, &[idle], false).is_some(), "{idle}");
        }
        assert!(no_effect("training.seed", &plain, &["training.seed"], true).is_some());
        let vectors = plan(&["vectors.window=3"]);
        for idle in ["model.hidden", "training.epochs", "optimiser.rule", "vectors.similarity"] {
            assert!(no_effect(idle, &vectors, &[idle], false).is_some(), "{idle}");
        }
        for used in ["vectors.window", "training.seed", "vocabulary.minimum_count"] {
            assert_eq!(no_effect(used, &vectors, &[used], false), None, "{used}");
        }
    }
}
