//! `docs/plan.md` is made from the plan's own documentation, and this test finds out when it is not.

use lalograph_lab::Plan;
use lalograph_lab::plan::reference::{page, sections};

/// The settings as the reader of plans knows them, and as their documentation does, are the same.
#[test]
fn every_setting_is_documented() {
    let plan = Plan {
        tune: Some(Default::default()),
        vectors: Some(Default::default()),
        expected: Some(Default::default()),
        ..Plan::for_classifier()
    };
    let written: toml::Table = plan.to_toml().unwrap().parse().unwrap();
    let sections = sections();
    let names: Vec<&str> = sections.iter().map(|section| section.name.as_str()).collect();
    assert!(written.keys().all(|name| names.contains(&name.as_str())), "{names:?}");
    for section in &sections {
        assert!(!section.about.is_empty());
        for key in written[&section.name].as_table().unwrap().keys() {
            assert!(section.settings.iter().any(|setting| setting.key == *key), "{}.{key}", section.name);
        }
        for setting in &section.settings {
            assert!(setting.about.ends_with('.'), "{}.{}: {}", section.name, setting.key, setting.about);
            // A key that is documented and does not exist would be refused.
            if let Some(default) = &setting.default {
                let text = format!("{}.{}={default}", section.name, setting.key);
                // A plan that tunes names its base.
                let base = "start.model=base".to_owned();
                let with = if section.name == "tune" { vec![text.clone(), base] } else { vec![text.clone()] };
                Plan::from_toml("", &with).unwrap_or_else(|error| panic!("{text}: {error}"));
            }
        }
    }
}

#[test]
fn the_page_matches_the_code() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/plan.md");
    let made = page();
    if std::env::var_os("UPDATE_PAGES").is_some() {
        std::fs::File::create(path)
            .and_then(|mut file| std::io::Write::write_all(&mut file, made.as_bytes()))
            .unwrap();
    }
    let kept = std::fs::read_to_string(path).unwrap();
    assert!(kept == made, "docs/plan.md is out of date: run the tests once with UPDATE_PAGES=1");
}
