//! Requests that are wrong: each gets what is wrong with it, and others are served meanwhile.

use std::io::{Read, Write};
use std::net::Shutdown;
use std::time::{Duration, Instant};

use serde_json::{Value, json};

use super::client::{Client, Serving};
use crate::common::workshop_with_demo;

#[test]
fn every_wrong_request_is_told_what_is_wrong() {
    let workshop = workshop_with_demo();
    let serving = Serving::demo(&workshop, "--log none");
    let cases: Vec<(&str, Value, u16, &str)> = vec![
        ("demo/write", json!({"temperature": 0}), 400, "a temperature must be above 0"),
        ("demo/write", json!({"temperature": -3}), 400, "above 0"),
        ("demo/write", json!({"temperature": "hot"}), 400, "invalid type: string"),
        ("demo/write", json!({"temperatur": 1}), 400, "did you mean `temperature`?"),
        ("demo/write", json!({"text": 4}), 400, "expected a string"),
        ("demo/write", json!({"top_k": 0}), 400, "top-k"),
        ("demo/write", json!({"top_k": 100_000}), 400, "at most the size of the vocabulary"),
        ("demo/write", json!({"top_p": 1.5}), 400, "top-p"),
        ("demo/write", json!({"repeat_power": 0.5}), 400, "repeat power"),
        ("demo/write", json!({"tokens": 0}), 400, "from 1 to 1000"),
        ("demo/write", json!({"tokens": 1001}), 400, "from 1 to 1000"),
        ("demo/write", json!({"tokens": -1}), 400, "expected usize"),
        ("demo/write", json!({"count": 17}), 400, "from 1 to 16"),
        ("demo/write", json!({"seed": 1.5}), 400, "expected u64"),
        ("demo/write", json!({"unknown": "hide"}), 400, "hide"),
        ("demo/write", json!({"text": "zzzz yyyy"}), 400, "no token of the seed text"),
        ("demo/write", json!({"greedy": true, "temperature": 1}), 400, "greedy decoding has no temperature"),
        ("demo/write", json!({"greedy": true, "top_k": 3}), 400, "`top_k` has no effect"),
        ("demo/write", json!({"alternatives": 3}), 400, "no effect without `stream`"),
        ("demo/write", json!({"stream": true, "alternatives": 21}), 400, "from 1 to 20"),
        ("demo/write", json!({"beam": {"width": 0}}), 400, "beam.width"),
        ("demo/write", json!({"beam": {"width": 3, "best": 4}}), 400, "beam.best"),
        ("demo/write", json!({"beam": {"width": 3}, "temperature": 1}), 400, "beam search draws no tokens"),
        (
            "demo/write",
            json!({"beam": {"width": 3, "random": true, "length_power": 1}}),
            400,
            "no effect on a random beam",
        ),
        ("demo/write", json!({"text": "bee ".repeat(20_000)}), 400, "at most 65536 are read"),
        ("demo/write", json!([]), 400, "expected"),
        ("demo/next", json!({"count": 0}), 400, "from 1 to"),
        ("demo/score", json!({}), 400, "the field `text` is missing"),
        ("demo/score", json!({"text": " "}), 400, "the text is empty"),
        ("demo/score", json!({"text": "a", "most_probable": true}), 400, "without `tokens`"),
        ("demo/classify", json!({"texts": ["a"]}), 404, "it takes a classifier"),
        ("outcome/write", json!({}), 404, "it takes a language model"),
        ("outcome/classify", json!({"texts": []}), 400, "`texts` is empty"),
        ("outcome/classify", json!({"rows": [[1]]}), 400, "reads `texts`"),
        ("outcome/classify", json!({"texts": vec!["a"; 201]}), 400, "at most 200"),
        ("outcome/explain", json!({"text": "a", "class": "lost"}), 400, "its classes are failing"),
        ("scales/classify", json!({"rows": [[1, 2]]}), 400, "row 1: it has 2 numbers"),
        ("scales/classify", json!({"texts": ["a"]}), 400, "reads `rows`"),
        ("scales/explain", json!({"text": "a"}), 400, "not explained"),
        ("words/neighbours", json!({"word": "hivee"}), 404, "words with vectors: hive"),
        ("words/neighbours", json!({}), 400, "give `word`"),
        ("words/neighbours", json!({"word": "hive", "sentence": "hive"}), 400, "not both"),
        ("nobody/write", json!({}), 404, "models: demo"),
        ("..%2Fdemo/write", json!({}), 404, "there is no model of this name"),
    ];
    let mut client = serving.client();
    for (path, body, status, detail) in &cases {
        let answer = client.ask("POST", &format!("/models/{path}"), Some(body));
        assert_eq!(answer.status, *status, "{path} {body} {}", answer.text());
        assert_eq!(answer.header("content-type"), Some("application/problem+json"));
        let problem = answer.json();
        assert_eq!(problem["status"].as_u64(), Some(u64::from(*status)));
        assert!(answer.text().contains(detail), "{path} {body}: {problem}, and not {detail}");
    }
    // One connection has served them all, and goes on.
    assert_eq!(client.ask("GET", "/health", None).status, 200);
    for (method, path, status) in [
        ("GET", "/nowhere", 404),
        ("GET", "/models/demo/write", 405),
        ("PUT", "/models", 405),
        ("BREW", "/models", 405),
        ("POST", "/conversations/abc/turns", 415),
        ("GET", "/conversations/abc", 404),
        ("DELETE", "/conversations/abc", 404),
        ("GET", "/runs/nobody", 404),
        ("GET", "/models/words/map?words=x", 400),
        ("GET", "/models/words/map?words=0", 400),
        ("GET", "/models/%FF", 400),
    ] {
        let answer = serving.ask(method, path, None);
        assert_eq!(answer.status, status, "{method} {path} {}", answer.text());
        assert!(answer.json()["detail"].is_string(), "{method} {path}");
    }
    assert_eq!(serving.stop().status, Some(0));
}

/// A request whose body is these bytes.
fn with_body(headers: &str, body: &[u8]) -> Vec<u8> {
    let mut request =
        format!("POST /models/demo/write HTTP/1.1\r\nhost: localhost\r\n{headers}\r\n").into_bytes();
    request.extend_from_slice(body);
    request
}

#[test]
fn what_is_no_request_is_refused_and_the_service_goes_on() {
    let workshop = workshop_with_demo();
    let serving = Serving::demo(&workshop, "--log none --body-bytes 5000");
    let json_of = |length: usize| format!("content-type: application/json\r\ncontent-length: {length}\r\n");
    let long_header = format!("GET /health HTTP/1.1\r\nhost: localhost\r\nx: {}\r\n\r\n", "a".repeat(40_000));
    let many_headers = format!("GET /health HTTP/1.1\r\nhost: localhost\r\n{}\r\n", "x: y\r\n".repeat(100));
    let cases: Vec<(Vec<u8>, u16, &str)> = vec![
        (with_body(&json_of(2), b"{]"), 400, "column 2"),
        (with_body(&json_of(0), b""), 400, "it ends too early"),
        (with_body(&json_of(13), b"{\"text\": \"\xff\"}"), 400, "not UTF-8: byte 11"),
        (with_body(&json_of(6), b"\0\x01\x02\x03\x04\x05"), 400, "expected value"),
        (with_body("content-length: 2\r\n", b"{}"), 415, "must be JSON"),
        (with_body("content-type: text/plain\r\ncontent-length: 2\r\n", b"{}"), 415, "must be JSON"),
        (with_body(&json_of(9_000_000_000), b"{"), 413, "more than 5000 bytes"),
        (with_body(&json_of(6000), &[b' '; 6000]), 413, "more than 5000 bytes"),
        (b"nonsense\r\n\r\n".to_vec(), 400, "no HTTP/1.1"),
        (b"\x16\x03\x01\x02\x00\x01\x00\x01\xfc\x03\x03".to_vec(), 400, "no HTTP/1.1"),
        (b"GET / HTTP/9.9\r\n\r\n".to_vec(), 400, "no HTTP/1.1"),
        (
            b"POST /models/demo/write HTTP/1.1\r\nhost: localhost\r\ncontent-length: no\r\n\r\n".to_vec(),
            400,
            "no HTTP/1.1",
        ),
        (long_header.into_bytes(), 431, "too long"),
        (many_headers.into_bytes(), 431, "too long"),
        (
            with_body("content-type: application/json\r\ntransfer-encoding: chunked\r\n", b"zz\r\n"),
            400,
            "not whole",
        ),
    ];
    for (bytes, status, detail) in cases {
        let mut client = serving.client();
        client.send(&bytes);
        let shown = String::from_utf8_lossy(&bytes[..bytes.len().min(90)]).into_owned();
        let answer = client.answer(false).unwrap_or_else(|| panic!("no answer to {shown}"));
        assert_eq!(answer.status, status, "{shown} {}", answer.text());
        assert_eq!(answer.json()["status"].as_u64(), Some(u64::from(status)));
        assert!(answer.text().contains(detail), "{shown}: {}", answer.text());
        assert_eq!(serving.get("/health").status, 200);
    }
    // A body that never ends is cut off where it is too long.
    let mut client = serving.client();
    client.send(&with_body("content-type: application/json\r\ntransfer-encoding: chunked\r\n", b""));
    let chunk = format!("400\r\n{}\r\n", " ".repeat(1024));
    (0..20).for_each(|_| client.send(chunk.as_bytes()));
    assert_eq!(client.answer(false).unwrap().status, 413);
    assert_eq!(serving.stop().status, Some(0));
}

#[test]
fn pipelined_and_half_closed_requests_are_answered() {
    let workshop = workshop_with_demo();
    let serving = Serving::demo(&workshop, "--log none");
    let write = |seed: u64| json!({"seed": seed, "tokens": 12});
    let expected: Vec<Value> =
        (0..5).map(|seed| serving.post("/models/demo/write", &write(seed)).ok()).collect();
    // Five requests at once: their answers come in order.
    let mut client = serving.client();
    let all: Vec<u8> = (0..5)
        .flat_map(|seed| Client::request("POST", "/models/demo/write", &[], Some(&write(seed))))
        .collect();
    client.send(&all);
    for expected in &expected {
        assert_eq!(client.answer(false).unwrap().json(), *expected);
    }
    // Whoever says nothing more after a request still hears the answer.
    let mut client = serving.client();
    client.send(&Client::request("POST", "/models/demo/write", &[], Some(&write(3))));
    client.stream.get_ref().shutdown(Shutdown::Write).unwrap();
    assert_eq!(client.answer(false).unwrap().json(), expected[3]);
    // A request that ends in the middle is none.
    let mut client = serving.client();
    client.send(&with_body("content-type: application/json\r\ncontent-length: 100\r\n", b"{\"seed\":"));
    client.stream.get_ref().shutdown(Shutdown::Write).unwrap();
    let answer = client.answer(false);
    assert!(answer.is_none_or(|answer| answer.status == 400));
    assert_eq!(serving.stop().status, Some(0));
}

#[test]
fn slow_and_silent_clients_are_let_go_and_hold_up_nobody() {
    let workshop = workshop_with_demo();
    let serving = Serving::demo(&workshop, "--log none --patience 1");
    let start = Instant::now();
    // One says nothing, one begins and stops, one begins a body and stops, one reads a byte now and then.
    let mut silent = serving.client();
    let mut begun = serving.client();
    begun.send(b"GET /health HTTP/1.1\r\nhos");
    let mut bodied = serving.client();
    bodied.send(&with_body("content-type: application/json\r\ncontent-length: 100\r\n", b"{"));
    let mut slow = serving.client();
    slow.send(&Client::request(
        "POST",
        "/models/demo/write",
        &[],
        Some(&json!({"tokens": 300, "past_end": true, "stream": true})),
    ));
    let mut byte = [0];
    for _ in 0..10 {
        slow.stream.get_mut().read_exact(&mut byte).unwrap();
        let before = Instant::now();
        assert_eq!(serving.post("/models/demo/write", &json!({"tokens": 20})).status, 200);
        assert!(before.elapsed() < Duration::from_secs(20), "others wait for the slow one");
    }
    assert_eq!(bodied.answer(false).unwrap().status, 408);
    let mut rest = Vec::new();
    assert!(silent.stream.read_to_end(&mut rest).is_ok() && rest.is_empty(), "{rest:?}");
    assert!(begun.stream.read_to_end(&mut rest).is_ok());
    assert!(start.elapsed() < Duration::from_secs(40));
    // Whoever takes nothing of a long answer is let go too.
    let mut deaf = serving.client();
    let body =
        json!({"text": "Maudry walked to Foxgate. ".repeat(2000), "tokens": true, "most_probable": true});
    for _ in 0..6 {
        deaf.send(&Client::request("POST", "/models/demo/score", &[], Some(&body)));
    }
    serving.wait_for("lalograph_texts_being_written", 0.0);
    let _ = deaf.stream.get_mut().write(b" ");
    assert_eq!(serving.stop().status, Some(0));
}
