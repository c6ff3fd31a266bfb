//! Many clients at once, with faults: no request is lost, and none gets the text of another.

use std::collections::BTreeMap;
use std::sync::Mutex;
use std::thread;

use serde_json::{Value, json};

use super::client::{Client, Serving};
use crate::common::{Chance, number_from, workshop_with_demo};

/// A request by its number: seed, decoding, seed text and length all follow from it.
fn request(number: u64) -> Value {
    let texts = ["", "Maudry walked to", "The queen", "Hesper pottered to Foxgate."];
    let mut request = json!({
        "text": texts[(number % 4) as usize],
        "tokens": 1 + number % 23,
        "seed": number,
        "temperature": 0.5 + (number % 5) as f64 / 4.0,
        "past_end": number.is_multiple_of(3),
    });
    if number.is_multiple_of(7) {
        request["top_k"] = 12.into();
    }
    request
}

/// One client: requests one after another, some with faults. The result is the number of whole answers.
fn client(serving: &Serving, known: &BTreeMap<u64, Value>, chance: &mut Chance, requests: u64) -> u64 {
    let mut client = serving.client();
    let mut answered = 0;
    for _ in 0..requests {
        let number = chance.next() % known.len() as u64;
        let (mut asked, expected) = (request(number), &known[&number]);
        let stream = chance.below(2) == 0;
        asked["stream"] = stream.into();
        let bytes = Client::request("POST", "/models/demo/write", &[], Some(&asked));
        match chance.below(12) {
            // The client goes away: in the middle of what it says, or before or in the middle of the answer.
            0 => {
                client.send(&bytes[..chance.below(bytes.len())]);
                client = serving.client();
            }
            1 => {
                client.send(&bytes);
                client = serving.client();
            }
            2 if stream => {
                client.send(&bytes);
                client.head().unwrap();
                client.piece();
                client = serving.client();
            }
            // What it says is broken.
            3 => {
                client.send(&Client::request(
                    "POST",
                    "/models/demo/write",
                    &[],
                    Some(&json!({"tokens": "x"})),
                ));
                assert_eq!(client.answer(false).unwrap().status, 400);
            }
            4 => {
                let mut bytes = bytes.clone();
                let at = chance.below(bytes.len());
                bytes[at] = chance.next() as u8;
                client.send(&bytes);
                client = serving.client();
            }
            // Two at once.
            5 => {
                client.send(&[&bytes[..], &bytes[..]].concat());
                for _ in 0..2 {
                    let answer = client.answer(false).expect("an answer to each of two requests");
                    check(stream, &answer, expected, number);
                    answered += 1;
                }
            }
            _ => {
                client.send(&bytes);
                let answer = client.answer(false).unwrap_or_else(|| panic!("request {number} was lost"));
                check(stream, &answer, expected, number);
                answered += 1;
            }
        }
    }
    answered
}

fn check(stream: bool, answer: &super::client::Answer, expected: &Value, number: u64) {
    assert_eq!(answer.status, 200, "request {number}: {}", answer.text());
    let found = if stream { answer.events().pop().unwrap().1 } else { answer.json()["texts"][0].clone() };
    assert_eq!(found, *expected, "request {number}");
}

fn campaign(clients: u64, requests: u64) {
    let workshop = workshop_with_demo();
    let serving = Serving::demo(&workshop, "--log none --requests-per-client 1000");
    // The texts as they are when nothing else is asked.
    let alone =
        |number| (number, serving.post("/models/demo/write", &request(number)).ok()["texts"][0].clone());
    let known: BTreeMap<u64, Value> = (0..200).map(alone).collect();
    let answered = Mutex::new(0);
    let run = |turn: u64| {
        thread::scope(|scope| {
            for number in 0..clients {
                let (serving, known, answered) = (&serving, &known, &answered);
                scope.spawn(move || {
                    let mut chance = Chance::of(turn, number);
                    *answered.lock().unwrap() += client(serving, known, &mut chance, requests);
                });
            }
        });
    };
    // The first turns fill what is kept from request to request.
    let memory = [1, 2, 3].map(|turn| {
        run(turn);
        // Connections of clients that went away are kept for a moment; this question has one too.
        serving.wait_for("lalograph_connections", 1.0);
        serving.memory()
    });
    let answered = answered.into_inner().unwrap();
    let all = 3 * clients * requests;
    println!(
        "{all} requests of {clients} clients, {answered} answered as expected; memory after each turn in kB: {memory:?}"
    );
    assert!(answered > all / 2, "{answered}");
    serving.wait_for("lalograph_texts_being_written", 0.0);
    serving.wait_for("lalograph_queue", 0.0);
    let text = serving.get("/metrics").text();
    assert!(!text.contains("status=\"5"), "{text}");
    // Faults keep nothing: as much again needs no more memory, but for what the allocator keeps.
    assert!(memory[2] < memory[1] + 6144, "{memory:?}");
    assert_eq!(serving.stop().status, Some(0));
}

#[test]
fn many_clients_with_faults_get_their_own_texts() {
    campaign(8, 25);
}

/// The long form: `cargo test --release -p lalograph --test program many_more_clients -- --ignored --nocapture`.
#[test]
#[ignore = "thousands of requests"]
fn many_more_clients_with_faults_get_their_own_texts() {
    campaign(number_from("CLIENTS", 32), number_from("REQUESTS", 110));
}
