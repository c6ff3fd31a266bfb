//! Bounds: of waiting, of each client, of conversations, of time; and texts that nobody waits for.

use std::time::{Duration, Instant};

use serde_json::json;

use super::client::{Client, Serving};
use crate::common::workshop_with_demo;

/// A text that takes a while.
fn long() -> serde_json::Value {
    json!({"tokens": 1000, "past_end": true, "stream": true, "alternatives": 20})
}

/// Clients that each have a long text streamed.
fn streams(serving: &Serving, count: usize, asked: &serde_json::Value) -> Vec<Client> {
    let begin = |_| {
        let mut client = serving.client();
        client.send(&Client::request("POST", "/models/demo/write", &[], Some(asked)));
        assert_eq!(client.head().unwrap().status, 200);
        client
    };
    (0..count).map(begin).collect()
}

#[test]
fn beyond_the_queue_requests_are_refused_and_others_go_on() {
    let workshop = workshop_with_demo();
    let serving =
        Serving::demo(&workshop, "--log none --threads 1 --side-by-side 2 --queue 1 --most-tokens 200000");
    let mut slow = long();
    slow["tokens"] = 200_000.into();
    let mut writing = streams(&serving, 3, &slow);
    let refused = serving.post("/models/demo/write", &json!({"tokens": 1}));
    assert_eq!((refused.status, refused.header("retry-after")), (503, Some("1")), "{}", refused.text());
    assert!(refused.json()["detail"].as_str().unwrap().contains("too many texts"));
    assert_eq!(serving.metric("lalograph_refused_requests_total"), 1.0);
    serving.wait_for("lalograph_texts_being_written", 2.0);
    assert_eq!(serving.metric("lalograph_queue"), 1.0);
    // Other work has a queue of its own; two texts that are too many are refused together.
    assert_eq!(serving.post("/models/demo/next", &json!({})).status, 200);
    // Who goes makes room at once.
    drop(writing.pop());
    drop(writing.pop());
    serving.wait_for("lalograph_stopped_texts_total", 2.0);
    assert_eq!(serving.post("/models/demo/write", &json!({"tokens": 5})).status, 200);
    drop(writing);
    serving.wait_for("lalograph_stopped_texts_total", 3.0);
    serving.wait_for("lalograph_texts_being_written", 0.0);
}

#[test]
fn a_long_text_does_not_hold_up_a_short_one() {
    let workshop = workshop_with_demo();
    let serving = Serving::demo(&workshop, "--log none --threads 1 --most-tokens 1000000");
    let short = json!({"text": "Maudry walked to", "tokens": 8, "seed": 2});
    let alone = serving.post("/models/demo/write", &short).ok();
    let mut asked = long();
    asked["tokens"] = 1_000_000.into();
    let mut client = serving.client();
    client.send(&Client::request("POST", "/models/demo/write", &[], Some(&asked)));
    client.head().unwrap();
    client.piece().unwrap();
    // One thread writes both; the short one joins, is what it is alone, and leaves.
    for _ in 0..5 {
        assert_eq!(serving.post("/models/demo/write", &short).ok(), alone);
        assert_eq!(serving.metric("lalograph_texts_being_written"), 1.0);
    }
}

#[test]
fn a_text_that_nobody_waits_for_is_stopped() {
    let workshop = workshop_with_demo();
    let serving = Serving::demo(&workshop, "--log none --most-tokens 1000000");
    let mut asked = long();
    asked["tokens"] = 1_000_000.into();
    for stream in [true, false] {
        let stopped = serving.metric("lalograph_stopped_texts_total");
        asked["stream"] = stream.into();
        asked.as_object_mut().unwrap().remove("alternatives");
        let mut client = serving.client();
        client.send(&Client::request("POST", "/models/demo/write", &[], Some(&asked)));
        serving.wait_for("lalograph_texts_being_written", 1.0);
        drop(client);
        serving.wait_for("lalograph_stopped_texts_total", stopped + 1.0);
        serving.wait_for("lalograph_texts_being_written", 0.0);
    }
    assert_eq!(serving.stop().status, Some(0));
}

#[test]
fn time_clients_and_conversations_are_bounded() {
    let workshop = workshop_with_demo();
    let serving = Serving::demo(
        &workshop,
        "--log none --time 3 --requests-per-client 2 --conversations 2 --most-tokens 10000000",
    );
    // A text whose time is over ends there, and is answered.
    let late = serving.post("/models/demo/write", &json!({"tokens": 10_000_000, "past_end": true})).ok();
    assert_eq!(late["texts"][0]["ended_by"], "time");
    assert!(late["texts"][0]["tokens"].as_u64().unwrap() > 0);
    let mut asked = long();
    asked["tokens"] = 10_000_000.into();
    let writing = streams(&serving, 2, &asked);
    let third = serving.post("/models/demo/write", &json!({"tokens": 1}));
    assert_eq!((third.status, third.header("retry-after")), (429, Some("1")), "{}", third.text());
    assert!(third.text().contains("2 requests open"), "{}", third.text());
    drop(writing);
    serving.wait_for("lalograph_texts_being_written", 0.0);
    // A request is open until its connection has noticed that the client is gone, a little after its text has ended.
    let begin = || {
        let deadline = Instant::now() + Duration::from_secs(30);
        loop {
            let answer = serving.post("/models/demo/conversations", &json!({}));
            if answer.status != 429 || Instant::now() >= deadline {
                return answer;
            }
            std::thread::sleep(Duration::from_millis(20));
        }
    };
    let [first, second, third] = [begin(), begin(), begin()];
    assert_eq!([first.status, second.status, third.status], [201, 201, 503]);
    assert_eq!(serving.metric("lalograph_conversations"), 2.0);
    let id = first.json()["id"].as_str().unwrap().to_owned();
    assert!(id.len() == 32 && id != second.json()["id"].as_str().unwrap());
    assert_eq!(serving.ask("DELETE", &format!("/conversations/{id}"), None).status, 204);
    assert_eq!(begin().status, 201);
}

#[test]
fn a_turn_that_is_broken_off_leaves_the_conversation_where_it_was() {
    let workshop = workshop_with_demo();
    let serving = Serving::demo(&workshop, "--log none --most-tokens 1000000");
    let id = serving.post("/models/demo/conversations", &json!({})).ok()["id"].as_str().unwrap().to_owned();
    let turns = format!("/conversations/{id}/turns");
    let first = serving.post(&turns, &json!({"text": "Maudry walked to", "tokens": 9})).ok();
    let asked = json!({"text": "The queen", "tokens": 9, "temperature": 1.0});
    // With a seed of words that never end a sentence, the turn goes on for long.
    let mut broken = asked.clone();
    broken["stream"] = true.into();
    let mut client = serving.client();
    client.send(&Client::request("POST", &turns, &[], Some(&broken)));
    client.head().unwrap();
    drop(client);
    // Whether it was taken or not, the conversation can be continued.
    let mut next = serving.post(&turns, &asked);
    while next.status == 409 {
        assert!(next.text().contains("another turn"));
        next = serving.post(&turns, &asked);
    }
    let turn = next.ok()["turns"].as_u64().unwrap();
    assert!(first["turns"] == 1 && (turn == 2 || turn == 3), "{turn}");
}
