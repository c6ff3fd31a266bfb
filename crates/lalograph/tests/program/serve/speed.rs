//! The speed of the service beside that of `gauge`, in turns; nothing is asserted of it.
//! `MODEL=runs/big cargo test --release -p lalograph --test program service_speed -- --ignored --nocapture`

use std::thread;
use std::time::{Duration, Instant};

use serde_json::{Value, json};

use super::client::{Client, Serving};
use crate::common::{number_from, workshop_with_demo};

const PATH: &str = "/models/model/write";

/// Tokens a second of clients that each have texts written one after another.
fn together(serving: &Serving, clients: u64, texts: u64, stream: bool) -> f64 {
    let start = Instant::now();
    let client = |number: u64| {
        let mut client = serving.client();
        let text = |text: u64| {
            let seed = number * 1000 + text;
            let asked =
                json!({"tokens": 100, "seed": seed, "temperature": 1.0, "past_end": true, "stream": stream});
            let answer = client.ask("POST", PATH, Some(&asked));
            match stream {
                true => answer.events().pop().unwrap().1["tokens"].as_u64().unwrap(),
                false => answer.ok()["texts"][0]["tokens"].as_u64().unwrap(),
            }
        };
        (0..texts).map(text).sum::<u64>()
    };
    let tokens: u64 = thread::scope(|scope| {
        let all: Vec<_> = (0..clients).map(|number| scope.spawn(move || client(number))).collect();
        all.into_iter().map(|one| one.join().unwrap()).sum()
    });
    tokens as f64 / start.elapsed().as_secs_f64()
}

/// Milliseconds to the first token: the median and the greatest of some requests.
fn first_token(serving: &Serving) -> (f64, f64) {
    let mut client = serving.client();
    let time = |seed: u64| {
        let asked = json!({"tokens": 2, "seed": seed, "stream": true});
        let start = Instant::now();
        client.send(&Client::request("POST", PATH, &[], Some(&asked)));
        client.head().unwrap();
        client.piece().unwrap();
        let time = 1e3 * start.elapsed().as_secs_f64();
        while client.piece().is_some() {}
        thread::sleep(Duration::from_millis(30));
        time
    };
    let mut times: Vec<f64> = (0..40).map(time).collect();
    times.sort_by(f64::total_cmp);
    (times[20], times[39])
}

#[test]
#[ignore = "measures this machine"]
fn service_speed_beside_gauge() {
    let workshop = workshop_with_demo();
    let model = std::env::var("MODEL").map_or_else(
        |_| "thornmere/runs/demo".to_owned(),
        |path| {
            std::path::absolute(std::env::current_dir().unwrap().join("../..").join(path))
                .unwrap()
                .display()
                .to_string()
        },
    );
    let serving = Serving::start(&workshop, &format!("model={model} --log none --connections 5000"));
    for _ in 0..number_from("ROUNDS", 3) {
        let gauge = format!("gauge --plan {model} --rounds 1 --seconds 2 --json");
        let gauge: Value = serde_json::from_str(&workshop.run(&gauge).ok()).unwrap();
        let alone = gauge["batch_sampling_tokens_per_second"]["median"].as_f64().unwrap();
        let (whole, streamed) = (together(&serving, 32, 4, false), together(&serving, 32, 4, true));
        let (median, greatest) = first_token(&serving);
        println!(
            "gauge, 32 texts on one thread: {alone:.0} tokens/s; 32 clients: {whole:.0} ({:.2}), streamed {streamed:.0} ({:.2}); \
             first token at rest: {median:.1} ms, at most {greatest:.1} ms",
            whole / alone,
            streamed / alone
        );
    }
    let before = serving.memory();
    let idle: Vec<Client> = (0..1000).map(|_| serving.client()).collect();
    serving.wait_for("lalograph_connections", 1001.0);
    println!("1,000 idle connections: {} kB beside {before} kB", serving.memory() - before);
    drop(idle);
}
