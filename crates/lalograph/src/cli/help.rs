//! The definition of all commands as people see it: every option states its default, in one form.

use clap::builder::StyledStr;
use clap::{Arg, Command};
use lalograph_lab::plan::reference::{Section, classifier_defaults, sections};

/// Commands whose options lie over a plan that has the default settings: there, the default of an option is that of the setting.
const BY_PLAN: [&[&str]; 10] = [
    &["survey"],
    &["split"],
    &["vocab", "build"],
    &["vocab", "coverage"],
    &["vocab", "extend"],
    &["embed", "train"],
    &["plan", "cost"],
    &["train"],
    &["classify", "train"],
    &["gauge"],
];

/// Options whose name is not that of their setting alone, which would say too little, or would be that of another one.
pub(crate) const NAMED_OTHERWISE: [(&str, &str); 11] = [
    ("vocabulary-file", "vocabulary.file"),
    ("vocabulary-size", "vocabulary.size"),
    ("start-model", "start.model"),
    ("optimiser", "optimiser.rule"),
    ("samples-every", "samples.every"),
    ("samples-every-epochs", "samples.every_epochs"),
    ("samples-tokens", "samples.tokens"),
    ("checkpoints-every", "checkpoints.every"),
    ("temperatures", "samples.temperatures"),
    ("from", "samples.from"),
    ("no-head", "corpus.head"),
];

/// Commands whose options lie over the plan of a trained model: there, the default of an option of training is what that model was trained with.
const BY_BASE: [&[&str]; 1] = [&["tune"]];
/// Sections that are the base's there.
const OF_BASE: [&str; 4] = ["training", "optimiser", "samples", "checkpoints"];

/// The same commands, every option with its default in its help.
pub(super) fn explained(command: Command) -> Command {
    with_defaults(command, &[])
}

/// The sections whose settings the options of a command can set.
fn sections_of(path: &[&str]) -> Vec<Section> {
    let mut sections = match path.first() {
        Some(&"classify") => sections_of_classifiers(),
        _ => sections(),
    };
    if path == ["embed", "train"] {
        // Of a network's training, word vectors have the seed alone.
        sections.retain(|section| {
            ["corpus", "vocabulary", "vectors", "training"].contains(&section.name.as_str())
        });
        let training = sections.iter_mut().filter(|section| section.name == "training");
        training.for_each(|section| section.settings.retain(|setting| setting.key == "seed"));
    } else {
        sections.retain(|section| section.name != "vectors");
    }
    sections
}

/// The sections with the defaults of a classifier's plan.
fn sections_of_classifiers() -> Vec<Section> {
    let other = classifier_defaults();
    let mut sections = sections();
    for section in &mut sections {
        for setting in &mut section.settings {
            let key = format!("{}.{}", section.name, setting.key);
            if let Some((_, value)) = other.iter().find(|(name, _)| *name == key) {
                setting.default = Some(value.clone());
            }
        }
    }
    sections
}

/// The setting of a plan that an option sets, as `section.key`.
pub(crate) fn setting_of(flag: &str, sections: &[Section]) -> Option<String> {
    if let Some((_, setting)) = NAMED_OTHERWISE.iter().find(|(name, _)| *name == flag) {
        return Some((*setting).to_owned());
    }
    let key = flag.replace('-', "_");
    let of = |section: &Section| section.settings.iter().any(|setting| setting.key == key);
    let mut found = sections.iter().filter(|section| of(section));
    match (found.next(), found.next()) {
        (Some(section), None) => Some(format!("{}.{key}", section.name)),
        _ => None,
    }
}

fn with_defaults(command: Command, path: &[&str]) -> Command {
    let by_base = BY_BASE.contains(&path);
    let by_plan = by_base || BY_PLAN.contains(&path);
    let sections = if by_plan { &sections_of(path)[..] } else { &[] };
    let command = command.mut_args(|arg| {
        let own = arg.get_long().and_then(default_of_tuning).filter(|_| by_base);
        match (own, arg.get_long().filter(|_| by_base).and_then(|flag| setting_of(flag, sections))) {
            (Some(own), _) => stating(arg, own),
            (None, Some(setting)) if is_of_base(&setting) => stating(arg, "as the base was trained"),
            _ => with_default(arg, by_plan, sections),
        }
    });
    let names: Vec<String> = command.get_subcommands().map(|inner| inner.get_name().to_owned()).collect();
    names.iter().fold(command, |command, name| {
        let path: Vec<&str> = path.iter().copied().chain([name.as_str()]).collect();
        command.mut_subcommand(name, |inner| with_defaults(inner, &path))
    })
}

/// The default of an option of tuning that differs from what its base was trained with.
fn default_of_tuning(flag: &str) -> Option<&'static str> {
    match flag {
        "epochs" => Some("3"),
        "learning-rate" => Some("half of the base's"),
        "steps" => Some("by epochs"),
        "warmup-steps" => Some("200, or a quarter of the steps if fewer than 800"),
        "from" => Some("as the base was trained; with --prompt, two prompts of the validation text"),
        _ => None,
    }
}

fn is_of_base(setting: &str) -> bool {
    setting.split_once('.').is_some_and(|(section, _)| OF_BASE.contains(&section))
}

/// An option whose help ends with this default.
fn stating(arg: Arg, default: &str) -> Arg {
    let help = arg.get_help().map(ToString::to_string).unwrap_or_default();
    // The default that the same option has in a new run gives way.
    let help = match (help.find(" (default: "), help.rfind(')')) {
        (Some(from), Some(to)) if to > from => format!("{}{}", &help[..from], &help[to + 1..]),
        _ => help,
    };
    let help = help.strip_suffix('.').unwrap_or(&help);
    arg.help(StyledStr::from(format!("{help} (default: {default})"))).hide_default_value(true)
}

/// An option with its default at the end of its help, unless its help states it already.
fn with_default(arg: Arg, by_plan: bool, sections: &[Section]) -> Arg {
    let help = arg.get_help().map(ToString::to_string).unwrap_or_default();
    let takes_value = arg.get_action().takes_values();
    let own = arg.get_default_values().iter().map(|value| value.to_string_lossy().into_owned());
    let own: Vec<String> = own.filter(|value| !value.is_empty()).collect();
    let of_plan = || {
        let setting = setting_of(arg.get_long().filter(|_| by_plan && takes_value)?, sections)?;
        let (section, key) = setting.split_once('.')?;
        let section = sections.iter().find(|found| found.name == section)?;
        section.settings.iter().find(|found| found.key == key)?.default.as_deref().and_then(as_typed)
    };
    let default = if own.is_empty() { of_plan() } else { Some(own.join(",")) };
    match default {
        Some(default) if takes_value && !help.contains("(default: ") => {
            let help = help.strip_suffix('.').unwrap_or(&help);
            arg.help(StyledStr::from(format!("{help} (default: {default})"))).hide_default_value(true)
        }
        _ if takes_value => arg.hide_default_value(true),
        _ => arg,
    }
}

/// A plan's value as typed after an option; `None` if it cannot be typed, such as an empty list.
fn as_typed(toml: &str) -> Option<String> {
    let items = toml.trim_start_matches('[').trim_end_matches(']').split(", ");
    let plain = |item: &str| match item.strip_prefix('"').and_then(|item| item.strip_suffix('"')) {
        // The names of choices.
        Some(text) if text.bytes().all(|byte| byte.is_ascii_lowercase() || byte == b'_') => {
            text.replace('_', "-")
        }
        Some(text) => text.to_owned(),
        None => item.strip_suffix(".0").unwrap_or(item).to_owned(),
    };
    let typed: Vec<String> = items.map(plain).collect();
    Some(typed.join(",")).filter(|typed| !typed.is_empty())
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use clap::Command;

    use super::{BY_PLAN, as_typed, sections_of, setting_of};
    use crate::cli::definition;

    /// Options of the commands that make plans and are no settings, each with its reason.
    const NO_SETTINGS: [(&str, &str); 41] = [
        ("output", "a place"),
        ("text-output", "a place"),
        ("probe", "shows words and changes no result"),
        ("fast", "not repeatable, so no plan has it"),
        ("for", "chooses a whole plan"),
        ("all", "a form of output"),
        ("time", "the plan follows from it"),
        ("aim", "the plan follows from it"),
        ("freeze", "sets rates of `groups`"),
        ("unit", "refused by `tune`"),
        ("cleaning", "refused by `tune`"),
        ("plan", "the plan itself"),
        ("set", "any setting"),
        ("name", "of the folder of a run, not of what it does"),
        ("runs", "a place"),
        ("force", "for files that exist"),
        ("threads", "changes no result"),
        ("json", "a form of output"),
        ("minutes", "stops the command and changes no result"),
        ("left-out", "a place"),
        ("split", "`corpus.split`"),
        ("include-from", "adds to `vocabulary.include`"),
        ("exclude-from", "adds to `vocabulary.exclude`"),
        ("term-list-from", "adds to `classifier.term_list`"),
        ("indices", "a size that is assumed"),
        ("training-tokens", "a size that is assumed"),
        ("processes", "machines that are assumed"),
        ("bandwidth", "a network that is assumed"),
        ("latency", "a network that is assumed"),
        ("no-measure", "leaves something out"),
        ("rounds", "of a measurement"),
        ("seconds", "of a measurement"),
        ("scale", "of a measurement"),
        ("pictures", "a place"),
        ("color", ""),
        ("quiet", ""),
        ("help", ""),
        ("version", ""),
        ("include", "`vocabulary.include`"),
        ("exclude", "`vocabulary.exclude`"),
        ("reserved", "`vocabulary.reserved`"),
    ];

    fn find<'c>(root: &'c Command, path: &[&str]) -> &'c Command {
        path.iter().fold(root, |command, name| command.find_subcommand(name).unwrap())
    }

    #[test]
    fn every_command_has_examples_also_one_with_commands_of_its_own() {
        fn check(command: &Command, path: &str) {
            for inner in command.get_subcommands().filter(|inner| inner.get_name() != "help") {
                let path = format!("{path} {}", inner.get_name());
                let examples = inner.get_after_help().map(ToString::to_string).unwrap_or_default();
                assert!(inner.is_hide_set() || examples.contains("Examples:"), "{path} has no examples");
                check(inner, &path);
            }
        }
        check(&definition(), "lalograph");
    }

    #[test]
    fn every_option_of_training_is_a_setting_of_the_plan_by_its_name() {
        let root = definition();
        let mut used = BTreeSet::new();
        for path in [
            &["train"][..],
            &["tune"],
            &["classify", "train"],
            &["embed", "train"],
            &["plan", "cost"],
            &["plan", "new"],
            &["gauge"],
        ] {
            let sections = sections_of(path);
            for arg in find(&root, path).get_arguments().filter(|arg| arg.get_long().is_some()) {
                let flag = arg.get_long().unwrap();
                let excused = NO_SETTINGS.iter().any(|(name, _)| *name == flag);
                assert!(excused || setting_of(flag, &sections).is_some(), "{path:?} --{flag}");
                used.insert(flag.to_owned());
            }
        }
        assert!(used.len() > 40, "{used:?}");
        for (name, reason) in NO_SETTINGS.iter().filter(|(_, reason)| !reason.is_empty()) {
            assert!(used.contains(*name), "--{name} ({reason}) is no option any more");
        }
    }

    /// Words of the help of every command and option, with its place.
    fn each_help(command: &Command, path: &str, out: &mut Vec<(String, String)>) {
        let place = format!("{path} {}", command.get_name());
        out.push((place.clone(), command.get_about().map(ToString::to_string).unwrap_or_default()));
        for arg in command.get_arguments() {
            let name = arg.get_long().map_or_else(|| arg.get_id().to_string(), |long| format!("--{long}"));
            out.push((
                format!("{place} {name}"),
                arg.get_help().map(ToString::to_string).unwrap_or_default(),
            ));
            for value in arg.get_possible_values() {
                let help = value.get_help().map(ToString::to_string).unwrap_or_default();
                out.push((format!("{place} {name} {}", value.get_name()), help));
            }
        }
        for inner in command.get_subcommands() {
            each_help(inner, &place, out);
        }
    }

    #[test]
    fn every_option_with_a_value_states_its_default_and_no_help_has_banned_words() {
        let mut all = Vec::new();
        each_help(&definition(), "", &mut all);
        let without = [
            "anew",
            "told",
            "stands",
            "begun",
            "handed on",
            "lay out",
            "as they were",
            "may be given again",
            "without it",
        ];
        for (place, help) in &all {
            let words = format!(" {} ", help.to_lowercase().replace(|c: char| !c.is_alphanumeric(), " "));
            for word in without {
                assert!(!words.contains(&format!(" {word} ")), "{place}: {help}");
            }
        }
        // What has a value is required, a list that may be empty, or says what holds without it.
        let root = definition();
        for path in BY_PLAN {
            for arg in find(&root, path).get_arguments() {
                let Some(flag) = arg.get_long().filter(|_| arg.get_action().takes_values()) else { continue };
                let help = arg.get_help().map(ToString::to_string).unwrap_or_default();
                let list = help.contains("can be repeated")
                    || [
                        "part",
                        "split",
                        "output",
                        "match",
                        "show-cleaning",
                        "pictures",
                        "cleaning",
                        "plan",
                        "left-out",
                        "include-from",
                        "exclude-from",
                        "files",
                        "apply",
                        "held-out-by",
                        "minutes",
                    ]
                    .contains(&flag);
                assert!(
                    help.contains("(default: ") || list || arg.is_required_set(),
                    "{path:?} --{flag}: {help}"
                );
            }
        }
        let help_of = |path: &str| all.iter().find(|(place, _)| place == path).unwrap().1.clone();
        assert_eq!(
            help_of(" lalograph train --hidden"),
            "Width of each recurrent layer (default: from the size of the training text)"
        );
        assert!(help_of(" lalograph train --temperatures").ends_with("(default: 0.3,0.7,1)"));
        assert!(!help_of(" lalograph resume --epochs").contains("10)"));
        assert_eq!(
            help_of(" lalograph classify train --hidden"),
            "Width of each recurrent layer, in each direction (default: 96)"
        );
    }

    #[test]
    fn values_are_shown_in_their_typed_form() {
        assert_eq!(as_typed("\"plain_tanh\"").as_deref(), Some("plain-tanh"));
        assert_eq!(as_typed("[0.3, 1.0]").as_deref(), Some("0.3,1"));
        assert_eq!((as_typed("[]"), as_typed("0.002").as_deref()), (None, Some("0.002")));
    }
}
