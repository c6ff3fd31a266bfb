//! Every path: what it answers is what the description says, and what the command line says.

use std::collections::BTreeSet;

use serde_json::{Value, json};

use super::client::{Answer, Serving};
use super::schema::{check, pattern};
use crate::common::{Workshop, workshop_with_demo};

const TEXT: &str = "Maudry walked to Foxgate. The queen was lost and the bees were cross.";

fn lines(text: &str) -> Vec<Value> {
    text.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

/// Holds an answer against the description.
fn described(document: &Value, method: &str, path: &str, answer: &Answer) -> (String, String) {
    let (pattern, operation) = pattern(document, method, path).unwrap_or_else(|| panic!("{method} {path}"));
    let responses = &operation["responses"];
    let response = responses.get(answer.status.to_string()).unwrap_or(&responses["default"]);
    let kind = answer.header("content-type").unwrap_or_default().split(';').next().unwrap_or_default();
    let schema =
        response["content"].get(kind).unwrap_or_else(|| panic!("{method} {path}: {kind} in {response}"));
    match kind {
        "application/json" | "application/problem+json" => {
            check(&schema["schema"], &answer.json(), document)
                .unwrap_or_else(|what| panic!("{method} {path}: {what}"));
        }
        "text/event-stream" => {
            for (name, data) in answer.events() {
                let all = schema["x-event-data"].as_array().unwrap();
                let fits = all.iter().any(|schema| check(schema, &data, document).is_ok());
                assert!(fits, "{path}: {name} {data}");
            }
        }
        _ => assert!(!answer.body.is_empty()),
    }
    (method.to_owned(), pattern.to_owned())
}

#[test]
fn every_path_answers_as_the_description_says() {
    let workshop = workshop_with_demo();
    let serving = Serving::demo(&workshop, "--log none");
    let document = serving.get("/openapi.json").ok();
    assert_eq!(document["openapi"], "3.1.0");
    let id = serving.post("/models/demo/conversations", &json!({})).ok()["id"].as_str().unwrap().to_owned();
    let turns = format!("/conversations/{id}/turns");
    let of_talk = format!("/conversations/{id}");
    let row: Vec<f64> = (0..48).map(f64::from).collect();
    let asked: Vec<(&str, &str, Option<Value>)> = vec![
        ("GET", "/models", None),
        ("GET", "/models/demo", None),
        ("GET", "/models/outcome", None),
        ("GET", "/models/scales", None),
        ("GET", "/models/words", None),
        ("GET", "/models/nobody", None),
        ("POST", "/models/demo/write", Some(json!({"text": TEXT, "tokens": 5, "count": 2}))),
        ("POST", "/models/demo/write", Some(json!({"tokens": 5, "beam": {"width": 3, "best": 2}}))),
        ("POST", "/models/demo/write", Some(json!({"tokens": 5, "stream": true, "alternatives": 2}))),
        ("POST", "/models/demo/write", Some(json!({"temperature": -1}))),
        ("POST", "/models/demo/next", Some(json!({"text": TEXT, "count": 3}))),
        ("POST", "/models/demo/score", Some(json!({"text": TEXT, "tokens": true, "most_probable": true}))),
        ("POST", "/models/outcome/classify", Some(json!({"texts": [TEXT, ""]}))),
        ("POST", "/models/scales/classify", Some(json!({"rows": [row]}))),
        ("POST", "/models/outcome/explain", Some(json!({"text": TEXT, "class": "failing"}))),
        ("POST", "/models/words/neighbours", Some(json!({"word": "hive", "count": 3}))),
        ("POST", "/models/words/neighbours", Some(json!({"sentence": TEXT}))),
        ("GET", "/models/words/map?words=5", None),
        ("POST", "/models/demo/conversations", Some(json!({}))),
        ("POST", &turns, Some(json!({"text": TEXT, "tokens": 4}))),
        ("POST", &turns, Some(json!({"again": true, "stream": true, "tokens": 4, "temperature": 1.0}))),
        ("GET", &of_talk, None),
        ("DELETE", &of_talk, None),
        ("GET", "/runs", None),
        ("GET", "/runs/demo", None),
        ("GET", "/runs/outcome", None),
        ("GET", "/runs/..%2F..", None),
        ("GET", "/health", None),
        ("GET", "/ready", None),
        ("GET", "/metrics", None),
        ("GET", "/openapi.json", None),
        ("GET", "/", None),
        ("GET", "/page.css", None),
        ("GET", "/page.js", None),
    ];
    let mut seen = BTreeSet::new();
    for (method, path, body) in &asked {
        let answer = serving.ask(method, path, body.as_ref());
        if let (Some(body), Some((_, operation))) = (body, pattern(&document, method, path)) {
            let schema = &operation["requestBody"]["content"]["application/json"]["schema"];
            check(schema, body, &document).unwrap_or_else(|what| panic!("{path}: {what}"));
        }
        if answer.status == 204 {
            seen.insert(((*method).to_owned(), pattern(&document, method, path).unwrap().0.to_owned()));
            continue;
        }
        seen.insert(described(&document, method, path, &answer));
    }
    // The stream of a run does not end by itself.
    let mut client = serving.client();
    client.send(&super::client::Client::request("GET", "/runs/demo/events", &[], None));
    let mut answer = client.head().unwrap();
    while !answer.text().contains("event: state") {
        answer.body.extend(client.piece().unwrap());
    }
    let events = answer.events();
    assert!(events.contains(&("state".to_owned(), json!({"state": "finished", "restarted": false}))));
    assert!(events.iter().any(|(name, data)| name == "sample" && data["temperature"].is_number()));
    seen.insert(("GET".to_owned(), "/runs/{name}/events".to_owned()));
    let all: BTreeSet<(String, String)> = document["paths"]
        .as_object()
        .unwrap()
        .iter()
        .flat_map(|(path, of_path)| {
            of_path.as_object().unwrap().keys().map(move |method| (method.to_uppercase(), path.clone()))
        })
        .collect();
    assert_eq!(seen, all, "a path that was not asked");
    assert_eq!(serving.stop().status, Some(0));
}

#[test]
fn the_same_seed_and_request_give_the_text_of_the_command_line() {
    let workshop = workshop_with_demo();
    let serving = Serving::demo(&workshop, "--log none");
    let cases = [
        ("--temperatures 0.8", json!({})),
        ("--greedy", json!({"greedy": true})),
        ("--temperatures 1.1 --top-k 9 --seed 7", json!({"temperature": 1.1, "top_k": 9, "seed": 7})),
        (
            "--temperatures 0.9 --top-p 0.7 --repeat-power 1.4",
            json!({"temperature": 0.9, "top_p": 0.7, "repeat_power": 1.4}),
        ),
        (
            "--temperatures 1.5 --unknown spell --past-end",
            json!({"temperature": 1.5, "unknown": "spell", "past_end": true}),
        ),
        ("--until-sentence --count 5", json!({"until_sentence": true, "count": 5})),
        ("--until-line --until hive --until bees", json!({"until_line": true, "until": ["hive", "bees"]})),
        (
            "--beam 6 --best 3 --length-power 0.5",
            json!({"beam": {"width": 6, "best": 3, "length_power": 0.5}}),
        ),
        (
            "--beam 5 --best 2 --random-beam --seed 4",
            json!({"beam": {"width": 5, "best": 2, "random": true}, "seed": 4}),
        ),
    ];
    for seed_text in ["", "Maudry walked to"] {
        for (flags, request) in &cases {
            let mut words: Vec<&str> = flags.split(' ').collect();
            words.splice(
                0..0,
                ["sample", "thornmere/runs/demo", "--json", "--tokens", "40", "--from", seed_text],
            );
            let expected = lines(&workshop.run_words(&words).ok());
            let mut request = request.clone();
            request["text"] = seed_text.into();
            request["tokens"] = 40.into();
            let found = serving.post("/models/demo/write", &request).ok();
            let found = found["texts"].as_array().unwrap();
            assert_eq!(found.len(), expected.len(), "{flags}");
            for (expected, found) in expected.iter().zip(found) {
                for key in ["text", "tokens", "ended_by", "token_log_probabilities", "score"] {
                    assert_eq!(expected.get(key), found.get(key), "{flags}, {key}");
                }
            }
            // Token by token it is the same text.
            request["stream"] = true.into();
            let events = serving.post("/models/demo/write", &request).events();
            for text in found {
                let of_text = |name: &str| -> Vec<&Value> {
                    let own =
                        |(event, data): &&(String, Value)| event == name && data["number"] == text["number"];
                    events.iter().filter(own).map(|(_, data)| data).collect()
                };
                assert_eq!(of_text("text"), [text], "{flags}");
                if request.get("beam").is_none() {
                    let pieces: String =
                        of_text("token").iter().map(|data| data["text"].as_str().unwrap()).collect();
                    assert_eq!(Some(pieces.as_str()), text["text"].as_str(), "{flags}");
                    assert_eq!(of_text("token").len() as u64, text["tokens"].as_u64().unwrap());
                }
            }
        }
    }
}

#[test]
fn what_is_read_and_judged_is_that_of_the_command_line() {
    let workshop = workshop_with_demo();
    let serving = Serving::demo(&workshop, "--log none");
    let next: Value = serde_json::from_str(
        &workshop.run_words(&["next", "thornmere/runs/demo", "Maudry walked to", "--json"]).ok(),
    )
    .unwrap();
    let found = serving.post("/models/demo/next", &json!({"text": "Maudry walked to"})).ok();
    for key in ["entropy_bits", "perplexity", "unknown_probability"] {
        assert_eq!(next[key], found[key]);
    }
    for (expected, found) in
        next["candidates"].as_array().unwrap().iter().zip(found["candidates"].as_array().unwrap())
    {
        assert_eq!((&expected["token"], &expected["probability"]), (&found["token"], &found["probability"]));
        assert_eq!(
            found["text"].as_str(),
            expected["token"].as_str().map(|token| format!(" {token}")).as_deref()
        );
    }
    // A text is one document.
    workshop.write("one.txt", TEXT);
    let score: Value =
        serde_json::from_str(&workshop.run("score thornmere/runs/demo one.txt --surprise --json").ok())
            .unwrap();
    let found = serving.post("/models/demo/score", &json!({"text": TEXT, "tokens": true})).ok();
    for key in ["loss", "perplexity", "bits_per_token", "bits_per_byte", "unknown_tokens"] {
        assert_eq!(score[key], found[key], "{key}");
    }
    let bits = |all: &Value| -> Vec<f64> {
        all.as_array().unwrap().iter().map(|token| token["surprise_bits"].as_f64().unwrap()).collect()
    };
    assert_eq!(bits(&score["tokens_by_surprise"]), bits(&found["tokens"]));
    let predicted = lines(&workshop.run("classify predict thornmere/runs/outcome one.txt --json").ok());
    let found = serving.post("/models/outcome/classify", &json!({"texts": [TEXT]})).ok();
    let found = &found["documents"][0];
    assert_eq!(
        (&predicted[0]["predicted"], &predicted[0]["probability"]),
        (&found["class"], &found["probability"]),
        "{predicted:?}"
    );
    let explained: Value =
        serde_json::from_str(&workshop.run("classify explain thornmere/runs/outcome one.txt --json").ok())
            .unwrap();
    let found = serving.post("/models/outcome/explain", &json!({"text": TEXT})).ok();
    let effects = |tokens: &Value| -> Vec<Value> {
        tokens.as_array().unwrap().iter().map(|token| token["effect"].clone()).collect()
    };
    assert_eq!(effects(&explained["documents"][0]["tokens"]), effects(&found["tokens"]));
    let near: Value = serde_json::from_str(
        &workshop
            .run("embed near thornmere/vectors.safetensors hive --plus queen --minus bees --count 6 --json")
            .ok(),
    )
    .unwrap();
    let sum = json!({"word": "hive", "plus": ["queen"], "minus": ["bees"], "count": 6});
    let found = serving.post("/models/words/neighbours", &sum).ok();
    assert_eq!(near["queries"][0]["neighbours"], found["neighbours"]);
}

#[test]
fn a_conversation_is_that_of_the_command_line() {
    let workshop = workshop_with_demo();
    let said = ["Maudry walked to", "zzz", "The queen"];
    let setting = |text: &str| {
        let settings = json!({"temperature": 0.9, "top_k": 20, "top_p": null, "repeat_power": 1.0,
                              "unknown": "leave_out", "tokens": 30, "seed": 5});
        json!({"speaker": "you", "text": text, "settings": settings}).to_string()
    };
    let replayed: Vec<String> = [said[0], ":again", said[1], said[2]].map(setting).to_vec();
    workshop.write("lines.jsonl", replayed.join("\n"));
    let expected = lines(&workshop.run("converse thornmere/runs/demo --replay lines.jsonl --json").ok());
    let serving = Serving::demo(&workshop, "--log none");
    let id = serving.post("/models/demo/conversations", &json!({})).ok()["id"].as_str().unwrap().to_owned();
    let turns = format!("/conversations/{id}/turns");
    let take = |mut request: Value, stream: bool| -> Value {
        for (key, value) in
            [("temperature", json!(0.9)), ("top_k", json!(20)), ("tokens", json!(30)), ("seed", json!(5))]
        {
            request[key] = value;
        }
        if !stream {
            return serving.post(&turns, &request).ok();
        }
        request["stream"] = true.into();
        let events = serving.post(&turns, &request).events();
        let (name, turn) = events.last().unwrap();
        let pieces: String = events
            .iter()
            .filter(|(name, _)| name == "token")
            .map(|(_, data)| data["text"].as_str().unwrap())
            .collect();
        assert_eq!((name.as_str(), turn["text"].as_str()), ("turn", Some(pieces.as_str())));
        turn.clone()
    };
    let found = [
        take(json!({"text": said[0]}), false),
        take(json!({"again": true}), true),
        take(json!({"text": said[1]}), true),
        take(json!({"text": said[2]}), false),
    ];
    for (expected, found) in expected.iter().zip(&found) {
        assert_eq!(
            (&expected["text"], &expected["tokens"], &expected["ended_by"]),
            (&found["text"], &found["tokens"], &found["ended_by"])
        );
    }
    assert_eq!(found[2]["unknown_tokens"], json!(["zzz"]));
    assert_eq!(serving.get(&format!("/conversations/{id}")).ok()["turns"], 3);
    assert_eq!(serving.ask("DELETE", &format!("/conversations/{id}"), None).status, 204);
    assert_eq!(serving.post(&turns, &json!({"text": "again"})).status, 404);
}

/// A run that is watched from its first step to its end.
#[test]
fn a_run_is_shown_as_it_trains() {
    let workshop = Workshop::new();
    let demo = workshop_with_demo();
    let runs = workshop.path("runs");
    std::fs::create_dir(&runs).unwrap();
    let serving = Serving::start(&demo, &format!("thornmere/runs/demo --runs {} --log none", runs.display()));
    assert_eq!(serving.get("/runs").ok(), json!({"runs": []}));
    let corpus = demo.path("thornmere/diaries.csv");
    let mut training = workshop
        .command()
        .args([
            "train",
            corpus.to_str().unwrap(),
            "--steps",
            "60",
            "--hidden",
            "16",
            "--name",
            "later",
            "--quiet",
        ])
        .args(["--samples-every", "20", "--seed", "3"])
        .spawn()
        .unwrap();
    let start = std::time::Instant::now();
    while serving.get("/runs/later").status != 200 {
        assert!(start.elapsed().as_secs() < 60, "no run");
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    let mut client = serving.client();
    client.send(&super::client::Client::request("GET", "/runs/later/events", &[], None));
    let mut answer = client.head().unwrap();
    while !answer.text().contains("\"finished\"") {
        answer.body.extend(client.piece().unwrap());
    }
    assert!(training.wait().unwrap().success());
    let events = answer.events();
    let points: Vec<Value> =
        events.iter().filter(|(name, _)| name == "point").map(|(_, data)| data.clone()).collect();
    let whole = serving.get("/runs/later").ok();
    assert_eq!(points, *whole["points"].as_array().unwrap(), "every line once and in order");
    assert_eq!(
        events.iter().filter(|(name, _)| name == "sample").count(),
        whole["samples"].as_array().unwrap().len()
    );
    assert_eq!(whole["run"]["state"], "finished");
}
