//! The guide's page on serving: its requests are sent as they are written there, and answered in the form that is shown.

use std::process::{Command, Stdio};

use serde_json::Value;

use super::client::{Client, Serving};
use crate::common::{program, workshop_with_demo};

/// The words of a command line with single quotes.
fn words(line: &str) -> Vec<String> {
    let parts = line.split('\'').enumerate();
    parts
        .flat_map(|(number, part)| match number % 2 {
            1 => vec![part.to_owned()],
            _ => part.split_whitespace().map(str::to_owned).collect(),
        })
        .collect()
}

/// The names and kinds of a value, without its numbers and texts.
fn form(value: &Value) -> Value {
    match value {
        Value::Object(fields) => fields.iter().map(|(name, value)| (name.clone(), form(value))).collect(),
        Value::Array(items) => items.iter().map(form).collect(),
        Value::String(_) => "text".into(),
        Value::Number(_) => 0.into(),
        other => other.clone(),
    }
}

/// The JSON in a shown answer, or in the events of one.
fn shown(text: &str) -> Vec<Value> {
    let json = |line: &str| serde_json::from_str(line.strip_prefix("data: ").unwrap_or(line)).ok();
    text.lines().filter_map(json).collect()
}

#[test]
fn the_requests_of_the_guide_are_answered_as_shown() {
    let page = include_str!("../../../../../docs/guide/serving.md");
    let workshop = workshop_with_demo();
    let command = page.lines().find_map(|line| line.strip_prefix("lalograph serve ")).unwrap();
    let serving = Serving::start(&workshop, &format!("{command} --log none"));
    let blocks: Vec<&str> = page.split("```").skip(1).step_by(2).collect();
    let mut tried = 0;
    for pair in blocks.windows(2).filter(|pair| pair[0].starts_with("sh\ncurl ")) {
        let words = words(pair[0]);
        let url = words.iter().find_map(|word| word.strip_prefix("http://127.0.0.1:7463")).unwrap();
        let after = |flag: &str| words.iter().position(|word| word == flag).map(|at| words[at + 1].as_str());
        assert_eq!(after("-H"), Some("content-type: application/json"));
        let body: Value = serde_json::from_str(after("-d").unwrap()).unwrap();
        let answer = Client::new(serving.address).ask("POST", url, Some(&body));
        let (found, expected) = (shown(&answer.text()), shown(pair[1]));
        assert!(!expected.is_empty(), "{url} shows no answer");
        assert_eq!(
            found.iter().map(form).collect::<Vec<_>>(),
            expected.iter().map(form).collect::<Vec<_>>(),
            "{url}"
        );
        tried += 1;
    }
    assert!(tried >= 8, "{tried} requests of the guide");
    // Every path is in its table.
    let paths =
        serving.get("/openapi.json").ok()["paths"].as_object().unwrap().keys().cloned().collect::<Vec<_>>();
    for path in paths.iter().filter(|path| !path.starts_with("/page") && *path != "/") {
        let last = path.rsplit('/').find(|part| !part.starts_with('{')).unwrap();
        assert!(page.contains(&format!("/{last}")), "{path} is not in the guide");
    }
}

#[test]
fn the_examples_of_its_help_serve() {
    let workshop = workshop_with_demo();
    let help = workshop.run("serve --help").ok();
    let (_, examples) = help.split_once("Examples:\n").unwrap();
    let mut tried = 0;
    for example in examples.lines().map(str::trim).filter(|line| line.contains("lalograph serve")) {
        // On a free port, whatever the example's is.
        let example = if example.contains("--listen") {
            example.replace(":7463", ":0").replace(":7500", ":0")
        } else {
            format!("{example} --listen 127.0.0.1:0")
        };
        let example = example.replace("lalograph serve", &format!("exec {} serve", program().display()));
        let mut command = Command::new("sh");
        command.args(["-c", &example]).current_dir(workshop.path("."));
        let child =
            command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        let serving = Serving::of(child);
        assert_eq!(serving.get("/health").status, 200, "{example}");
        assert_eq!(serving.stop().status, Some(0));
        tried += 1;
    }
    assert_eq!(tried, 3);
}
