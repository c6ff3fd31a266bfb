//! Who may ask, and what pages may do.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::sync::Arc;

use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName};
use rustls::{ClientConfig, ClientConnection, RootCertStore, StreamOwned};
use serde_json::json;

use super::client::Serving;
use crate::common::workshop_with_demo;

const TOKEN: &str = "0123456789abcdefghij";

#[test]
fn without_a_token_only_the_page_is_answered() {
    let workshop = workshop_with_demo();
    workshop.write("tokens", format!("\n{TOKEN}\nanother-token-of-the-hive\n"));
    let serving = Serving::demo(&workshop, "--log none --token-file tokens");
    for path in ["/models", "/models/demo", "/metrics", "/runs", "/nowhere"] {
        let answer = serving.get(path);
        assert_eq!((answer.status, answer.header("www-authenticate")), (401, Some("Bearer")), "{path}");
        assert!(!answer.text().contains("demo"), "{path} {}", answer.text());
    }
    for path in ["/", "/page.css", "/page.js", "/health", "/ready", "/openapi.json"] {
        assert_eq!(serving.get(path).status, 200, "{path}");
    }
    let with =
        |value: &str| serving.client().ask_with("GET", "/models", &[("authorization", value)], None).status;
    assert_eq!(with(&format!("Bearer {TOKEN}")), 200);
    assert_eq!(with("bearer another-token-of-the-hive"), 200);
    for wrong in ["Bearer", "Bearer ", &format!("Bearer {TOKEN}x"), &format!("Basic {TOKEN}"), TOKEN] {
        assert_eq!(with(wrong), 401, "{wrong}");
    }
}

#[test]
fn pages_of_other_origins_are_kept_out_unless_they_are_named() {
    let workshop = workshop_with_demo();
    let serving = Serving::demo(&workshop, "--log none --allow-origin https://hives.example");
    let ask =
        |method: &str, headers: &[(&str, &str)]| serving.client().ask_with(method, "/models", headers, None);
    let own = format!("http://{}", serving.address);
    let from = |origin: &str| ask("GET", &[("origin", origin)]);
    assert_eq!(from("https://elsewhere.example").status, 403);
    assert_eq!(from("null").status, 403);
    assert_eq!(from("http://localhost").status, 200, "the page itself, asked for as localhost");
    assert_eq!(from(&own).status, 403, "another name is another origin");
    let named = from("https://hives.example");
    assert_eq!(
        (named.status, named.header("access-control-allow-origin")),
        (200, Some("https://hives.example"))
    );
    let preflight =
        ask("OPTIONS", &[("origin", "https://hives.example"), ("access-control-request-method", "POST")]);
    assert_eq!(
        (preflight.status, preflight.header("access-control-allow-headers")),
        (204, Some("content-type, authorization"))
    );
    assert_eq!(ask("OPTIONS", &[("origin", "https://elsewhere.example")]).status, 403);
    // Every answer forbids frames and foreign scripts, also one that is an error.
    for path in ["/", "/models", "/nowhere"] {
        let answer = serving.get(path);
        let policy = answer.header("content-security-policy").unwrap();
        assert!(
            policy.contains("default-src 'none'") && policy.contains("frame-ancestors 'none'"),
            "{policy}"
        );
        assert!(!policy.contains("unsafe"), "{policy}");
        assert_eq!(answer.header("x-content-type-options"), Some("nosniff"));
        assert_eq!(answer.header("access-control-allow-origin"), None);
    }
    // The page names nothing outside.
    for path in ["/", "/page.css", "/page.js"] {
        let text = serving.get(path).text().replace("http://www.w3.org/2000/svg", "");
        assert!(
            !text.contains("http://") && !text.contains("https://") && !text.contains("@import"),
            "{path}"
        );
    }
    // A foreign name that leads to this machine is not served.
    let mut client = serving.client();
    client.send(b"GET /models HTTP/1.1\r\nhost: hives.example\r\n\r\n");
    assert_eq!(client.answer(false).unwrap().status, 421);
}

#[test]
fn what_would_be_open_or_is_wrong_is_refused_at_the_start() {
    let workshop = workshop_with_demo();
    let model = "serve thornmere/runs/demo";
    workshop.write("short", "secret\n");
    workshop.write("empty", "\n");
    let refused: [(&str, i32, &[&str]); 12] = [
        ("--listen 0.0.0.0:0", 2, &["can be reached from other machines", "--token-file", "--open"]),
        ("--token-file short", 1, &["token 1 is shorter than 16 characters"]),
        ("--token-file empty", 1, &["no token in it"]),
        ("--token-file nowhere", 1, &["nowhere"]),
        ("--token-file short --open", 2, &["cannot be used with"]),
        ("--allow-origin *", 2, &["is no origin"]),
        ("--certificate short", 2, &["--key"]),
        ("--certificate short --key short", 1, &["short:", "PEM files"]),
        ("--runs nowhere", 1, &["nowhere: no such file or folder"]),
        ("--listen hive", 2, &["--listen"]),
        ("thornmere/runs/demo", 1, &["two models have the name `demo`", "NAME=PATH"]),
        ("a/b=thornmere/runs/demo", 2, &["is no name of a model"]),
    ];
    for (words, status, said) in refused {
        workshop.run(&format!("{model} {words}")).fails(status, said);
    }
    workshop.run("serve thornmere/diaries.csv").fails(1, &["diaries.csv"]);
    workshop.run("serve nobody").fails(1, &["no such file or folder"]);
    workshop.run("serve").fails(2, &["<MODEL>"]);
    // A port that is taken.
    let taken = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let address = taken.local_addr().unwrap();
    workshop.run(&format!("{model} --listen {address}")).fails(1, &["cannot listen at", "--listen"]);
}

#[test]
fn certificates_make_it_tls() {
    let workshop = workshop_with_demo();
    // A certificate for localhost that nobody else trusts.
    workshop.write("chain.pem", include_str!("chain.pem"));
    workshop.write("key.pem", include_str!("key.pem"));
    let serving = Serving::demo(&workshop, "--log none --certificate chain.pem --key key.pem");
    let mut roots = RootCertStore::empty();
    roots.add(CertificateDer::from_pem_file(workshop.path("chain.pem")).unwrap()).unwrap();
    let config = ClientConfig::builder_with_provider(Arc::new(rustls::crypto::ring::default_provider()))
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_root_certificates(roots)
        .with_no_client_auth();
    let connection =
        ClientConnection::new(Arc::new(config), ServerName::try_from("localhost").unwrap()).unwrap();
    let mut stream = StreamOwned::new(connection, TcpStream::connect(serving.address).unwrap());
    let body = json!({"tokens": 3}).to_string();
    let head = "POST /models/demo/write HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\ncontent-type: application/json";
    stream.write_all(format!("{head}\r\ncontent-length: {}\r\n\r\n{body}", body.len()).as_bytes()).unwrap();
    let mut answer = String::new();
    let _ = stream.read_to_string(&mut answer);
    assert!(answer.starts_with("HTTP/1.1 200 OK") && answer.contains("\"tokens\":3"), "{answer}");
    // Plain words are no TLS, and harm nobody.
    let mut plain = TcpStream::connect(serving.address).unwrap();
    plain.write_all(b"GET /health HTTP/1.1\r\nhost: localhost\r\n\r\n").unwrap();
    let mut answer = Vec::new();
    let _ = plain.read_to_end(&mut answer);
    assert!(!answer.starts_with(b"HTTP"), "{answer:?}");
    assert_eq!(serving.stop().status, Some(0));
}
