//! What every setting of a plan is: the documentation of its fields, taken from their source, for the reference page, for commented plans
//! and for the names of all keys.

use super::Plan;

/// The files that the sections are written in, in the order of the page.
const SOURCES: [&str; 4] = [
    include_str!("corpus.rs"),
    include_str!("model.rs"),
    include_str!("training.rs"),
    include_str!("keeping.rs"),
];

/// A section of the plan.
#[derive(Debug, Clone, PartialEq)]
pub struct Section {
    /// As it stands in brackets.
    pub name: String,
    /// What it is about.
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
    /// What it is.
    pub about: String,
}

/// All sections with their settings.
pub fn sections() -> Vec<Section> {
    let defaults = toml::Table::try_from(Plan::default()).unwrap_or_default();
    let mut sections: Vec<Section> = Vec::new();
    for source in SOURCES {
        let mut inside = false;
        let mut comment = String::new();
        for line in source.lines().map(str::trim) {
            if let Some(text) = line.strip_prefix("/// ") {
                comment.push_str(if comment.is_empty() { "" } else { " " });
                comment.push_str(text);
                continue;
            }
            if let Some((name, about)) = comment
                .strip_prefix("`[")
                .and_then(|rest| rest.split_once("]`: "))
                .filter(|_| line.starts_with("pub struct "))
            {
                sections.push(Section { name: name.into(), about: about.into(), settings: Vec::new() });
                inside = true;
            } else if line == "}" {
                inside = false;
            } else if let (Some(field), true, Some(section)) =
                (line.strip_prefix("pub "), inside, sections.last_mut())
            {
                let key = field.split(':').next().unwrap_or_default().to_owned();
                let default =
                    defaults.get(&section.name).and_then(|values| values.get(&key)).map(ToString::to_string);
                section.settings.push(Setting { key, default, about: std::mem::take(&mut comment) });
            }
            if !line.starts_with('#') {
                comment.clear();
            }
        }
    }
    sections
}

/// Whether there is a section of that name.
pub fn is_section(name: &str) -> bool {
    SOURCES.iter().any(|source| source.contains(&format!("/// `[{name}]`: ")))
}

/// The reference page, in Markdown.
pub fn page() -> String {
    let mut page = "# The plan\n\nA TOML file; `lalograph plan new` writes one to begin with, `lalograph plan check FILE` finds what is wrong in \
                    one, `lalograph train --plan FILE` carries it out, `--set section.key=value` overrides one value of it, and the resolved plan of every \
                    run is in its folder. What is not said has its default.\n"
        .to_owned();
    for Section { name, about, settings } in sections() {
        page.push_str(&format!(
            "\n## `[{name}]`: {about}\n\n| setting | default | what it is |\n|---|---|---|\n"
        ));
        for Setting { key, default, about } in settings {
            let default = default.map_or_else(|| "none".to_owned(), |value| format!("`{value}`"));
            page.push_str(&format!("| `{key}` | {default} | {about} |\n"));
        }
    }
    page
}
