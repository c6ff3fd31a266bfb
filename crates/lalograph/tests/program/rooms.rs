//! The structure of the workspace's own sources: no file depends on itself by way of others, and no file is too long.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use regex::Regex;

/// The modules of a crate: the path of each, such as `plan::model`, and the source of its file.
struct Crate {
    sources: BTreeMap<String, String>,
    /// Names that a module re-exports from its children, and the child.
    handed_on: BTreeMap<String, BTreeMap<String, String>>,
}

fn files(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            files(&path, found);
        } else if path.extension().is_some_and(|extension| extension == "rs") {
            found.push(path);
        }
    }
}

/// Source without comments and without its tests.
fn code(source: &str) -> String {
    let end = source.find("#[cfg(test)]\nmod tests").unwrap_or(source.len());
    source[..end].lines().filter(|line| !line.trim_start().starts_with("//")).collect::<Vec<_>>().join("\n")
}

/// The paths of a use tree, each with its last name: `a::{b, c::D}` gives `a::b` and `a::c::D`.
fn leaves(tree: &str) -> Vec<String> {
    let tree = tree.trim();
    let Some((head, rest)) = tree.split_once('{') else {
        let name = tree.split(" as ").next().unwrap_or(tree).trim();
        return vec![name.strip_suffix("::self").unwrap_or(name).to_owned()];
    };
    let inner = rest.strip_suffix('}').unwrap_or(rest);
    let (mut parts, mut depth, mut from) = (Vec::new(), 0, 0);
    for (at, c) in inner.char_indices() {
        match c {
            '{' => depth += 1,
            '}' => depth -= 1,
            ',' if depth == 0 => {
                parts.push(&inner[from..at]);
                from = at + 1;
            }
            _ => {}
        }
    }
    parts.push(&inner[from..]);
    let parts = parts.into_iter().filter(|part| !part.trim().is_empty());
    parts.flat_map(|part| leaves(part).into_iter().map(|leaf| format!("{head}{leaf}"))).collect()
}

impl Crate {
    fn read(folder: &Path) -> Self {
        let src = folder.join("src");
        let mut found = Vec::new();
        files(&src, &mut found);
        let module = |path: &Path| {
            let inside = path.strip_prefix(&src).unwrap().with_extension("");
            let parts = inside.iter().map(|part| part.to_string_lossy().into_owned());
            let parts: Vec<String> =
                parts.filter(|part| part != "mod" && part != "lib" && part != "main").collect();
            parts.join("::")
        };
        let sources: BTreeMap<String, String> =
            found.iter().map(|path| (module(path), code(&std::fs::read_to_string(path).unwrap()))).collect();
        let handing = Regex::new(r"(?s)pub(?:\([a-z ]+\))? use ([^;]+);").unwrap();
        let mut handed_on: BTreeMap<String, BTreeMap<String, String>> = BTreeMap::new();
        for (module, source) in &sources {
            for found in handing.captures_iter(source) {
                for leaf in leaves(&found[1]) {
                    let Some((child, name)) = leaf.rsplit_once("::") else { continue };
                    let child =
                        if module.is_empty() { child.to_owned() } else { format!("{module}::{child}") };
                    if sources.contains_key(&child) {
                        handed_on.entry(module.clone()).or_default().insert(name.to_owned(), child);
                    }
                }
            }
        }
        Self { sources, handed_on }
    }

    /// The module that a path within the crate leads to: the longest that is one, and from there to where its name is passed on from.
    fn target(&self, path: &str) -> Option<String> {
        let parts: Vec<&str> = path.split("::").filter(|part| !part.is_empty()).collect();
        let longest =
            (0..=parts.len()).rev().find(|&length| self.sources.contains_key(&parts[..length].join("::")))?;
        let mut module = parts[..longest].join("::");
        let name = parts.get(longest).copied().unwrap_or_default();
        while let Some(child) = self.handed_on.get(&module).and_then(|names| names.get(name)) {
            module.clone_from(child);
        }
        Some(module)
    }

    /// Which modules each depends on.
    fn dependencies(&self) -> BTreeMap<String, BTreeSet<String>> {
        let using = Regex::new(r"(?s)(pub(?:\([a-z ]+\))? )?\buse ([^;]+);").unwrap();
        let inline = Regex::new(r"\b(?:crate|super)(?:::\w+)+").unwrap();
        let child = Regex::new(r"(?m)^\s*(?:pub(?:\([a-z ]+\))? )?mod (\w+);").unwrap();
        let mut all = BTreeMap::new();
        for (module, source) in &self.sources {
            let mut targets = BTreeSet::new();
            let mut add = |path: &str| {
                let mut base: Vec<&str> = module.split("::").filter(|part| !part.is_empty()).collect();
                let mut rest: Vec<&str> = path.split("::").map(str::trim).collect();
                if rest[0] == "crate" {
                    base.clear();
                    rest.remove(0);
                }
                while rest.first().is_some_and(|part| *part == "super" || *part == "self") {
                    if rest.remove(0) == "super" {
                        base.pop();
                    }
                }
                base.extend(rest);
                targets.extend(self.target(&base.join("::")).filter(|target| target != module));
            };
            for found in using.captures_iter(source) {
                // What is only passed on is no dependence.
                if found.get(1).is_some() {
                    continue;
                }
                for leaf in leaves(&found[2]) {
                    let first = leaf.split("::").next().unwrap_or_default().trim();
                    let is_child = child.captures_iter(source).any(|found| &found[1] == first);
                    if ["crate", "super", "self"].contains(&first) {
                        add(&leaf);
                    } else if is_child {
                        add(&format!("self::{leaf}"));
                    }
                }
            }
            inline.find_iter(source).for_each(|found| add(found.as_str()));
            for found in child.captures_iter(source) {
                let called = Regex::new(&format!(r"(?:^|[^:\w]){}::\w+", &found[1])).unwrap();
                // The match begins with the character before the name.
                let is_use = |call: regex::Match<'_>| source[..call.start()].ends_with("use");
                if called.find_iter(source).any(|call| !is_use(call)) {
                    add(&format!("self::{}", &found[1]));
                }
            }
            all.insert(module.clone(), targets);
        }
        all
    }
}

/// Modules that reach themselves by way of others, or one that does.
fn circle(dependencies: &BTreeMap<String, BTreeSet<String>>) -> Vec<String> {
    let mut left: BTreeMap<&String, BTreeSet<&String>> =
        dependencies.iter().map(|(module, on)| (module, on.iter().collect())).collect();
    loop {
        let free: Vec<&String> = left
            .iter()
            .filter(|(_, on)| on.iter().all(|on| !left.contains_key(on)))
            .map(|(m, _)| *m)
            .collect();
        if free.is_empty() {
            return left.into_iter().map(|(module, on)| format!("{module} -> {on:?}")).collect();
        }
        free.iter().for_each(|module| {
            left.remove(*module);
        });
    }
}

fn crates() -> Vec<PathBuf> {
    let folder = Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/.."));
    std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect()
}

#[test]
fn no_crate_has_a_circle_of_files() {
    let mut all = Vec::new();
    for folder in crates() {
        let found = circle(&Crate::read(&folder).dependencies());
        all.extend(found.into_iter().map(|line| format!("{}: {line}", folder.display())));
    }
    assert!(all.is_empty(), "in circles, or depending on one:\n{}", all.join("\n"));
}

#[test]
fn circles_would_be_found() {
    let of = |sources: [(&str, &str); 4]| Crate {
        sources: sources.into_iter().map(|(module, source)| (module.into(), source.into())).collect(),
        handed_on: [("a".to_owned(), [("Thing".to_owned(), "a::b".to_owned())].into())].into(),
    };
    let round = of([
        ("", "mod a;"),
        ("a", "mod b;\npub use b::Thing;"),
        ("a::b", "use crate::c::{D, e::F};"),
        ("c", "use crate::a::Thing;"),
    ]);
    let found = circle(&round.dependencies());
    assert_eq!(found.len(), 2, "two in a circle, and one that only passes a name on: {found:?}");
    let straight =
        of([("", "mod a;"), ("a", "mod b;\npub use b::Thing;"), ("a::b", ""), ("c", "use crate::a::Thing;")]);
    assert!(circle(&straight.dependencies()).is_empty());
    let by_call =
        of([("", ""), ("a", "mod b;\nfn run() { b::run() }"), ("a::b", "use super::helper;"), ("c", "")]);
    assert_eq!(circle(&by_call.dependencies()).len(), 2);
}

#[test]
fn no_file_is_over_eight_hundred_lines() {
    for folder in crates() {
        let mut found = Vec::new();
        files(&folder, &mut found);
        for path in found {
            let lines = std::fs::read_to_string(&path).unwrap().lines().count();
            assert!(lines <= 800, "{} has {lines} lines", path.display());
        }
    }
}
