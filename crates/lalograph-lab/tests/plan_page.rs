//! `docs/plan.md` is made from the plan's own documentation, and this test finds out when it is not.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::fmt::Write;

use lalograph_lab::Plan;

/// The page: each section's settings with their defaults and what the source says of them.
fn page() -> String {
    let source = include_str!("../src/plan.rs");
    let defaults: toml::Table = Plan::default().to_toml().parse().unwrap();
    let mut page = "# The plan\n\nA TOML file; `lalograph train --plan FILE` reads it, `--set section.key=value` overrides one value, and the \
                    resolved plan of every run is in its folder. What is not said has its default.\n"
        .to_owned();
    let mut section = String::new();
    let mut comment = String::new();
    for line in source.lines().map(str::trim) {
        if let Some(text) = line.strip_prefix("/// ") {
            comment.push_str(if comment.is_empty() { "" } else { " " });
            comment.push_str(text);
        } else if line.starts_with("pub struct ") && comment.starts_with("`[") {
            let (name, what) = comment.split_once("]`: ").unwrap();
            section = name.trim_start_matches("`[").to_owned();
            write!(page, "\n## `[{section}]`: {what}\n\n| setting | default | what it is |\n|---|---|---|\n")
                .unwrap();
            comment.clear();
        } else if line == "}" {
            section.clear();
            comment.clear();
        } else if let (Some(field), false) = (line.strip_prefix("pub "), section.is_empty()) {
            let key = field.split(':').next().unwrap();
            let default = defaults[&section].get(key).map_or("none".to_owned(), |value| format!("`{value}`"));
            writeln!(page, "| `{key}` | {default} | {comment} |").unwrap();
            comment.clear();
        } else if !line.starts_with('#') {
            comment.clear();
        }
    }
    page
}

#[test]
fn the_page_says_what_the_code_says() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/plan.md");
    let made = page();
    for (section, settings) in &Plan::default().to_toml().parse::<toml::Table>().unwrap() {
        assert!(made.contains(&format!("## `[{section}]`")), "{section}");
        for key in settings.as_table().unwrap().keys() {
            assert!(made.contains(&format!("| `{key}` |")), "{section}.{key}");
        }
    }
    if std::env::var_os("UPDATE_PAGES").is_some() {
        std::fs::File::create(path)
            .and_then(|mut file| std::io::Write::write_all(&mut file, made.as_bytes()))
            .unwrap();
    }
    let kept = std::fs::read_to_string(path).unwrap();
    assert!(kept == made, "docs/plan.md is out of date: run the tests once with UPDATE_PAGES=1");
}
