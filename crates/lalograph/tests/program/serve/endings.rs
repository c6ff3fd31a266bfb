//! How a service ends, and what it writes into its log.

use serde_json::{Value, json};

use super::client::{Client, Serving};
use crate::common::workshop_with_demo;

#[test]
fn requests_under_way_finish_when_the_service_is_stopped() {
    let workshop = workshop_with_demo();
    let serving = Serving::demo(&workshop, "--log none --most-tokens 20000");
    let asked = json!({"tokens": 20_000, "past_end": true, "seed": 3});
    let expected = serving.post("/models/demo/write", &asked).ok()["texts"][0].clone();
    let streamed = json!({"tokens": 20_000, "past_end": true, "seed": 3, "stream": true});
    let mut whole = serving.client();
    whole.send(&Client::request("POST", "/models/demo/write", &[], Some(&asked)));
    let mut client = serving.client();
    client.send(&Client::request("POST", "/models/demo/write", &[], Some(&streamed)));
    let mut answer = client.head().unwrap();
    answer.body.extend(client.piece().unwrap());
    serving.wait_for("lalograph_texts_being_written", 2.0);
    // An idle connection and a stream of a run do not hold up the end.
    let _idle = serving.client();
    let mut watching = serving.client();
    watching.send(&Client::request("GET", "/runs/demo/events", &[], None));
    watching.head().unwrap();
    let address = serving.address;
    serving.signal();
    while let Some(piece) = client.piece() {
        answer.body.extend(piece);
    }
    assert_eq!(answer.events().last().unwrap(), &("text".to_owned(), expected.clone()));
    assert_eq!(whole.answer(false).unwrap().ok()["texts"][0], expected);
    let stopped = serving.ended();
    assert_eq!(stopped.status, Some(0), "{}", stopped.err);
    assert!(stopped.err.contains("all requests were answered"), "{}", stopped.err);
    assert!(std::net::TcpStream::connect(address).is_err(), "nobody listens any more");
}

#[test]
fn what_does_not_finish_in_time_is_cut_and_said() {
    let workshop = workshop_with_demo();
    let serving = Serving::demo(&workshop, "--log none --most-tokens 100000000 --grace 1");
    let mut client = serving.client();
    let asked = json!({"tokens": 100_000_000, "past_end": true, "stream": true});
    client.send(&Client::request("POST", "/models/demo/write", &[], Some(&asked)));
    client.head().unwrap();
    let stopped = serving.stop();
    assert_eq!(stopped.status, Some(0), "{}", stopped.err);
    assert!(stopped.err.contains("1 connection was cut after 1 seconds"), "{}", stopped.err);
}

#[test]
fn the_log_has_no_text_of_users_unless_asked() {
    let workshop = workshop_with_demo();
    let secret = "Maudry buried the honey under the pear trees";
    for (words, told) in [("--log json", false), ("--log json --log-texts", true), ("--log lines", false)] {
        let serving = Serving::demo(&workshop, words);
        serving.post("/models/demo/write", &json!({"text": secret, "tokens": 3})).ok();
        serving.post("/models/demo/score", &json!({"text": secret, "tokens": true})).ok();
        serving.get("/models/Maudry-buried/nowhere%1b[31m");
        serving.post("/models/demo/write", &json!({"text": secret, "hum": "buried"}));
        let log = serving.stop().err;
        assert_eq!(log.contains("buried the honey"), told, "{log}");
        assert!(!log.contains('\u{1b}') && !log.contains("Maudry-buried"), "{log}");
        let route = if words.contains("json") {
            "\"route\":\"/models/{name}/write\""
        } else {
            "route=/models/{name}/write"
        };
        assert!(log.contains(route) && log.contains("status"), "{log}");
        if words.contains("json") {
            let lines: Vec<Value> = log
                .lines()
                .filter(|line| line.starts_with('{'))
                .map(|line| serde_json::from_str(line).unwrap())
                .collect();
            let answered: Vec<&Value> = lines.iter().filter(|line| line["message"] == "answered").collect();
            assert_eq!(answered.iter().map(|line| &line["status"]).collect::<Vec<_>>(), [200, 200, 404, 400]);
        }
    }
    let silent = Serving::demo(&workshop, "--log none");
    silent.get("/models");
    assert!(!silent.stop().err.contains("route"));
}
