//! Descriptions of every setting of a plan: for the reference page, commented plans and the list of all keys.

use super::section::Documented;
use super::{
    CheckpointsPlan, ClassifierPlan, CorpusPlan, ExpectedPlan, GroupsPlan, ModelPlan, OptimiserPlan, Plan,
    RegularisationPlan, SamplesPlan, StartPlan, TrainingPlan, TunePlan, VectorsPlan, VocabularyPlan,
};

/// A section of the plan.
#[derive(Debug, Clone, PartialEq)]
pub struct Section {
    /// Its name, as written in brackets.
    pub name: String,
    /// Description.
    pub about: String,
    /// Its settings, in order.
    pub settings: Vec<Setting>,
}

/// A setting of a section.
#[derive(Debug, Clone, PartialEq)]
pub struct Setting {
    /// Its name within the section.
    pub key: String,
    /// As TOML; none where nothing is the default.
    pub default: Option<String>,
    /// Description of the setting.
    pub about: String,
}

/// All sections with their settings, in the order of the page.
pub fn sections() -> Vec<Section> {
    vec![
        section_of::<CorpusPlan>(),
        section_of::<VocabularyPlan>(),
        section_of::<ModelPlan>(),
        section_of::<ClassifierPlan>(),
        section_of::<VectorsPlan>(),
        section_of::<StartPlan>(),
        section_of::<TunePlan>(),
        section_of::<TrainingPlan>(),
        section_of::<OptimiserPlan>(),
        section_of::<RegularisationPlan>(),
        section_of::<GroupsPlan>(),
        section_of::<SamplesPlan>(),
        section_of::<CheckpointsPlan>(),
        section_of::<ExpectedPlan>(),
    ]
}

/// The settings whose default differs in a plan with a `[classifier]` section, with that default.
pub fn classifier_defaults() -> Vec<(String, String)> {
    let tables =
        [Plan::default(), Plan::for_classifier()].map(|plan| toml::Table::try_from(plan).unwrap_or_default());
    let [language, classifier] = tables;
    let mut differing = Vec::new();
    for (section, values) in classifier.iter().filter(|(section, _)| language.contains_key(*section)) {
        for (key, value) in values.as_table().into_iter().flatten() {
            if language[section].get(key) != Some(value) {
                differing.push((format!("{section}.{key}"), value.to_string()));
            }
        }
    }
    differing
}

fn section_of<S: Documented>() -> Section {
    let words = |lines: &[&str]| lines.iter().map(|line| line.trim()).collect::<Vec<_>>().join(" ");
    let plan = Plan {
        classifier: Some(ClassifierPlan::default()),
        tune: Some(TunePlan::default()),
        vectors: Some(VectorsPlan::default()),
        expected: Some(ExpectedPlan::default()),
        ..Plan::default()
    };
    let defaults = toml::Table::try_from(plan).ok();
    let default_of = |key: &str| Some(defaults.as_ref()?.get(S::NAME)?.get(key)?.to_string());
    let settings = S::SETTINGS.iter().map(|(key, about)| Setting {
        key: (*key).to_owned(),
        default: default_of(key),
        about: words(about),
    });
    Section { name: S::NAME.to_owned(), about: words(&[S::ABOUT]), settings: settings.collect() }
}

/// Whether there is a section of that name.
pub fn is_section(name: &str) -> bool {
    sections().iter().any(|section| section.name == name)
}

/// The reference page, in Markdown.
pub fn page() -> String {
    let mut page = "# The plan\n\nA TOML file; `lalograph plan new` writes one to begin with, `lalograph plan check FILE` finds what is wrong in \
                    one, `lalograph train --plan FILE` trains by it, `--set section.key=value` overrides one value of it, and the resolved plan of every \
                    run is in its folder. Settings that are not given have their defaults.\n"
        .to_owned();
    let defaults: Vec<String> =
        classifier_defaults().iter().map(|(key, value)| format!("`{key}` {value}")).collect();
    page.push_str(&format!(
        "\nA plan with a `[classifier]` section is that of a classifier. In such a plan these settings have other defaults: {}.\n",
        defaults.join(", ")
    ));
    for Section { name, about, settings } in sections() {
        page.push_str(&format!(
            "\n## `[{name}]`: {about}\n\n| setting | default | meaning |\n|---|---|---|\n"
        ));
        for Setting { key, default, about } in settings {
            let default = default.map_or_else(|| "none".to_owned(), |value| format!("`{value}`"));
            page.push_str(&format!("| `{key}` | {default} | {about} |\n"));
        }
    }
    page
}
