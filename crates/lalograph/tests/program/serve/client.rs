//! A service that was started, and a plain client.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::process::{Child, Stdio};
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process};
use serde_json::Value;

use crate::common::Workshop;

/// How long a test waits for anything at all.
const PATIENCE: Duration = Duration::from_secs(60);

/// A service on a free port.
pub(super) struct Serving {
    child: Child,
    pub(super) address: SocketAddr,
}

/// How a service ended.
#[derive(Debug)]
pub(super) struct Stopped {
    pub(super) status: Option<i32>,
    pub(super) err: String,
}

impl Serving {
    /// Starts it with these words, and waits until it listens.
    pub(super) fn start(workshop: &Workshop, words: &str) -> Self {
        let mut command = workshop.command();
        command.args(["serve", "--listen", "127.0.0.1:0"]).args(words.split_whitespace());
        Self::of(command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap())
    }

    /// A process that was started: waits until it listens.
    pub(super) fn of(mut child: Child) -> Self {
        let mut line = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
        let address = line.trim().trim_end_matches('/').rsplit('/').next().unwrap_or_default();
        let address: SocketAddr = address.parse().unwrap_or_else(|_| panic!("no address in {line:?}"));
        // One that listens everywhere is asked from here.
        let address = if address.ip().is_unspecified() {
            SocketAddr::from(([127, 0, 0, 1], address.port()))
        } else {
            address
        };
        Self { child, address }
    }

    /// The demo's models: a language model, two classifiers, word vectors, and its runs.
    pub(super) fn demo(workshop: &Workshop, words: &str) -> Self {
        Self::start(
            workshop,
            &format!(
                "thornmere/runs/demo thornmere/runs/outcome thornmere/runs/scales words=thornmere/vectors.safetensors \
                 --runs thornmere/runs {words}"
            ),
        )
    }

    pub(super) fn client(&self) -> Client {
        Client::new(self.address)
    }

    /// One request on a connection of its own.
    pub(super) fn ask(&self, method: &str, path: &str, body: Option<&Value>) -> Answer {
        self.client().ask(method, path, body)
    }

    pub(super) fn get(&self, path: &str) -> Answer {
        self.ask("GET", path, None)
    }

    pub(super) fn post(&self, path: &str, body: &Value) -> Answer {
        self.ask("POST", path, Some(body))
    }

    /// A figure of the metrics.
    pub(super) fn metric(&self, name: &str) -> f64 {
        figure(&self.get("/metrics").text(), name)
    }

    /// Waits until a figure is this.
    pub(super) fn wait_for(&self, name: &str, value: f64) {
        let start = Instant::now();
        let mut client = self.client();
        loop {
            let found = figure(&client.ask("GET", "/metrics", None).text(), name);
            if found == value {
                return;
            }
            assert!(start.elapsed() < PATIENCE, "{name} is {found}, and never {value}");
            std::thread::sleep(Duration::from_millis(10));
        }
    }

    /// Kilobytes of memory that it has.
    pub(super) fn memory(&self) -> u64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.child.id())).unwrap();
        let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap();
        line.trim().trim_end_matches(" kB").parse().unwrap()
    }

    /// Asks it to end.
    pub(super) fn signal(&self) {
        kill_process(Pid::from_raw(self.child.id() as i32).unwrap(), Signal::TERM).unwrap();
    }

    /// Asks it to end, and waits.
    pub(super) fn stop(self) -> Stopped {
        self.signal();
        self.ended()
    }

    /// Waits for its end.
    pub(super) fn ended(mut self) -> Stopped {
        let mut err = String::new();
        self.child.stderr.take().unwrap().read_to_string(&mut err).unwrap();
        let status = self.child.wait().unwrap().code();
        assert!(!err.contains("panicked"), "{err}");
        Stopped { status, err }
    }
}

impl Drop for Serving {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A figure in the text of metrics.
fn figure(text: &str, name: &str) -> f64 {
    let line = text.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix(' '));
    line.unwrap_or_else(|| panic!("no {name} in {text}")).parse().unwrap()
}

/// An answer.
#[derive(Debug, Clone)]
pub(super) struct Answer {
    pub(super) status: u16,
    pub(super) headers: Vec<(String, String)>,
    pub(super) body: Vec<u8>,
}

impl Answer {
    pub(super) fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(key, _)| key == name).map(|(_, value)| value.as_str())
    }

    pub(super) fn text(&self) -> String {
        String::from_utf8(self.body.clone()).unwrap()
    }

    pub(super) fn json(&self) -> Value {
        serde_json::from_slice(&self.body).unwrap_or_else(|error| panic!("{error}: {self:?}"))
    }

    /// It succeeded; its JSON.
    pub(super) fn ok(&self) -> Value {
        assert!((200..300).contains(&self.status), "{} {}", self.status, self.text());
        self.json()
    }

    /// The events of a stream: names and data.
    pub(super) fn events(&self) -> Vec<(String, Value)> {
        let text = self.text();
        let event = |part: &str| {
            let mut lines = part.lines();
            let name = lines.next()?.strip_prefix("event: ")?.to_owned();
            let data = lines.next()?.strip_prefix("data: ")?;
            Some((name, serde_json::from_str(data).unwrap()))
        };
        text.split("\n\n").filter_map(event).collect()
    }
}

/// A connection.
pub(super) struct Client {
    pub(super) stream: BufReader<TcpStream>,
}

impl Client {
    pub(super) fn new(address: SocketAddr) -> Self {
        let stream = TcpStream::connect(address).unwrap();
        stream.set_read_timeout(Some(PATIENCE)).unwrap();
        stream.set_nodelay(true).unwrap();
        Self { stream: BufReader::new(stream) }
    }

    /// Sends bytes as they are.
    pub(super) fn send(&mut self, bytes: &[u8]) {
        // The service may have closed the connection already, which its answer tells.
        let _ = self.stream.get_mut().write_all(bytes);
    }

    /// The bytes of a request.
    pub(super) fn request(
        method: &str,
        path: &str,
        headers: &[(&str, &str)],
        body: Option<&Value>,
    ) -> Vec<u8> {
        let mut head = format!("{method} {path} HTTP/1.1\r\nhost: localhost\r\n");
        for (name, value) in headers {
            head.push_str(&format!("{name}: {value}\r\n"));
        }
        let body = body.map(Value::to_string).unwrap_or_default();
        if !body.is_empty() {
            head.push_str(&format!("content-type: application/json\r\ncontent-length: {}\r\n", body.len()));
        }
        format!("{head}\r\n{body}").into_bytes()
    }

    pub(super) fn ask(&mut self, method: &str, path: &str, body: Option<&Value>) -> Answer {
        self.ask_with(method, path, &[], body)
    }

    pub(super) fn ask_with(
        &mut self,
        method: &str,
        path: &str,
        headers: &[(&str, &str)],
        body: Option<&Value>,
    ) -> Answer {
        self.send(&Self::request(method, path, headers, body));
        self.answer(method == "HEAD").unwrap_or_else(|| panic!("no answer to {method} {path}"))
    }

    /// Reads an answer; none if the connection ends before one.
    pub(super) fn answer(&mut self, is_head: bool) -> Option<Answer> {
        let mut answer = self.head()?;
        if is_head || answer.status == 204 {
            return Some(answer);
        }
        match answer.header("content-length") {
            Some(length) => {
                answer.body = vec![0; length.parse().unwrap()];
                self.stream.read_exact(&mut answer.body).ok()?;
            }
            None => {
                while let Some(piece) = self.piece() {
                    answer.body.extend(piece);
                }
            }
        }
        Some(answer)
    }

    /// Status and headers of an answer.
    pub(super) fn head(&mut self) -> Option<Answer> {
        let mut line = String::new();
        self.stream.read_line(&mut line).ok()?;
        let status = line.split(' ').nth(1)?.parse().ok()?;
        let mut headers = Vec::new();
        loop {
            let mut line = String::new();
            self.stream.read_line(&mut line).ok()?;
            match line.trim_end().split_once(": ") {
                Some((name, value)) => headers.push((name.to_lowercase(), value.to_owned())),
                None => return Some(Answer { status, headers, body: Vec::new() }),
            }
        }
    }

    /// The next chunk of a body; none at its end.
    pub(super) fn piece(&mut self) -> Option<Vec<u8>> {
        let mut line = String::new();
        self.stream.read_line(&mut line).ok()?;
        let length = usize::from_str_radix(line.trim(), 16).ok()?;
        let mut piece = vec![0; length + 2];
        self.stream.read_exact(&mut piece).ok()?;
        piece.truncate(length);
        (length > 0).then_some(piece)
    }
}
