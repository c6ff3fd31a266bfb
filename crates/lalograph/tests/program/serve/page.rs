//! The page, driven in a browser without a window (Debian's package `chromium`):
//! `cargo test -p lalograph --test program the_page -- --ignored --nocapture`. Pictures go to the folder that `PICTURES` names.

use std::collections::VecDeque;
use std::fs::File;
use std::io::{BufRead, BufReader, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::{Value, json};

use super::client::Serving;
use crate::common::{Workshop, workshop_with_demo};

/// A browser with one page.
struct Browser {
    child: Child,
    to: File,
    from: BufReader<File>,
    session: Option<String>,
    number: u64,
    /// What the page wrote on its console, and what went wrong in it.
    said: VecDeque<Value>,
}

impl Browser {
    fn open(workshop: &Workshop, url: &str, width: u64, dark: bool) -> Self {
        let mut browser = Self::at(workshop, url, width, dark);
        browser.wait("document.body?.dataset.ready === 'true'");
        browser
    }

    /// A browser at a page that asks for a token first.
    fn open_closed(workshop: &Workshop, url: &str) -> Self {
        let mut browser = Self::at(workshop, url, 900, false);
        browser.wait("document.querySelector('#entrance')?.hidden === false");
        browser
    }

    fn at(workshop: &Workshop, url: &str, width: u64, dark: bool) -> Self {
        let pipes = ["to", "from"].map(|name| workshop.path(&format!("browser-{name}-{width}-{dark}")));
        for pipe in &pipes {
            assert!(Command::new("mkfifo").arg(pipe).status().unwrap().success());
        }
        let profile = workshop.path(&format!("profile-{width}-{dark}"));
        let script = "exec chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --remote-debugging-pipe \
                      --user-data-dir=\"$2\" about:blank 3<\"$0\" 4>\"$1\"";
        let mut command = Command::new("sh");
        command.arg("-c").arg(script).args(&pipes).arg(profile);
        let child = command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let to = File::options().write(true).open(&pipes[0]).unwrap();
        let from = BufReader::new(File::open(&pipes[1]).unwrap());
        let mut browser = Self { child, to, from, session: None, number: 0, said: VecDeque::new() };
        let targets = browser.call("Target.getTargets", json!({}));
        let page =
            targets["targetInfos"].as_array().unwrap().iter().find(|one| one["type"] == "page").unwrap();
        let attach = json!({"targetId": page["targetId"], "flatten": true});
        browser.session =
            browser.call("Target.attachToTarget", attach)["sessionId"].as_str().map(str::to_owned);
        for domain in ["Page.enable", "Runtime.enable", "Log.enable"] {
            browser.call(domain, json!({}));
        }
        let size = json!({"width": width, "height": 900, "deviceScaleFactor": 1, "mobile": false});
        browser.call("Emulation.setDeviceMetricsOverride", size);
        browser.call("Emulation.setFocusEmulationEnabled", json!({"enabled": true}));
        let scheme = if dark { "dark" } else { "light" };
        let features = json!({"features": [{"name": "prefers-color-scheme", "value": scheme}]});
        browser.call("Emulation.setEmulatedMedia", features);
        browser.call("Page.navigate", json!({"url": url}));
        browser
    }

    fn call(&mut self, method: &str, parameters: Value) -> Value {
        self.number += 1;
        let mut message = json!({"id": self.number, "method": method, "params": parameters});
        if let Some(session) = &self.session {
            message["sessionId"] = session.as_str().into();
        }
        self.to.write_all(format!("{message}\0").as_bytes()).unwrap();
        loop {
            let mut bytes = Vec::new();
            self.from.read_until(0, &mut bytes).unwrap();
            let message: Value = serde_json::from_slice(bytes.strip_suffix(b"\0").unwrap()).unwrap();
            if message["id"] == self.number {
                assert!(message.get("error").is_none(), "{method}: {message}");
                return message["result"].clone();
            }
            let told = ["Runtime.consoleAPICalled", "Runtime.exceptionThrown", "Log.entryAdded"];
            if told.iter().any(|told| message["method"] == *told) {
                self.said.push_back(message);
            }
        }
    }

    /// The value of an expression in the page.
    fn value(&mut self, expression: &str) -> Value {
        let asked = json!({"expression": expression, "awaitPromise": true, "returnByValue": true});
        let found = self.call("Runtime.evaluate", asked);
        assert!(found.get("exceptionDetails").is_none(), "{expression}: {found}");
        found["result"]["value"].clone()
    }

    fn wait(&mut self, condition: &str) {
        let start = Instant::now();
        while self.value(condition) != Value::Bool(true) {
            assert!(start.elapsed() < Duration::from_secs(30), "never: {condition}");
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// Presses a key on what has the focus.
    fn press(&mut self, key: &str, code: u64) {
        for kind in ["keyDown", "keyUp"] {
            let event = json!({"type": kind, "key": key, "windowsVirtualKeyCode": code});
            self.call("Input.dispatchKeyEvent", event);
        }
    }

    fn picture(&mut self, folder: Option<&Path>, name: &str) {
        let Some(folder) = folder else { return };
        let shot = self.call("Page.captureScreenshot", json!({"format": "png"}));
        // The browser's own words for bytes: the tests have no other use for them.
        let decode = Command::new("base64").arg("-d").stdin(Stdio::piped()).stdout(Stdio::piped()).spawn();
        let mut decode = decode.unwrap();
        decode.stdin.take().unwrap().write_all(shot["data"].as_str().unwrap().as_bytes()).unwrap();
        let bytes = decode.wait_with_output().unwrap().stdout;
        File::create(folder.join(format!("{name}.png"))).unwrap().write_all(&bytes).unwrap();
    }

    /// The page said nothing on its console, and is not wider than its window.
    fn is_well(&mut self) {
        assert!(self.said.is_empty(), "{:?}", self.said);
        let wide = "document.documentElement.scrollWidth <= innerWidth";
        assert_eq!(self.value(wide), Value::Bool(true), "the page is wider than the window");
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

const FIND: &str = "const find = (selector) => document.querySelector(selector);";

fn set(field: &str, text: &str) -> String {
    format!(
        "find('{field}').value = {}; find('{field}').dispatchEvent(new Event('change'));",
        Value::from(text)
    )
}

/// Goes through all tabs as a person does.
fn visit(browser: &mut Browser, pictures: Option<&Path>, name: &str) {
    let act = |browser: &mut Browser, script: &str| {
        browser.value(&format!("{{ {FIND} {script} }}"));
    };
    let text = |of: &str| format!("document.querySelector('{of}').textContent");
    let shot = |browser: &mut Browser, what: &str| browser.picture(pictures, &format!("{name}-{what}"));
    // Write: the text grows, and is that of the same request at the command line.
    act(
        browser,
        &format!(
            "{} {} find('#write-go').click();",
            set("#write-text", "Maudry walked to"),
            set("#write-tokens", "30")
        ),
    );
    browser.wait("/30 tokens/.test(document.querySelector('#write-state').textContent)");
    let written = browser.value("document.querySelector('#write-text').value");
    let shown = browser.value(&text("#write-tokens-view"));
    assert_eq!(
        written,
        format!("Maudry walked to{}", shown.as_str().unwrap()),
        "what is shown token by token is the text"
    );
    // Another temperature, the same seed: another text.
    act(
        browser,
        &format!(
            "{} {} find('#write-go').click();",
            set("#write-text", "Maudry walked to"),
            set("#write-temperatures", "1.6")
        ),
    );
    browser.wait("/30 tokens/.test(document.querySelector('#write-state').textContent)");
    assert_ne!(browser.value("document.querySelector('#write-text').value"), written);
    // By the keyboard: to the third token, into its alternatives, and on from the second one there.
    act(browser, "find('#write-tokens-view span[tabindex]').focus();");
    browser.press("ArrowRight", 39);
    browser.press("ArrowRight", 39);
    assert_eq!(browser.value("document.querySelector('#peek').hidden"), Value::Bool(false));
    shot(browser, "write");
    let before = browser.value("document.querySelector('#write-text').value");
    let alternative = browser.value("document.querySelectorAll('#peek button')[1].textContent");
    act(browser, "document.querySelectorAll('#peek button')[1].click();");
    browser.wait("/tokens in/.test(document.querySelector('#write-state').textContent)");
    let after = browser.value("document.querySelector('#write-text').value");
    assert!(
        before != after && after.as_str().unwrap().contains(alternative.as_str().unwrap()),
        "{alternative} {after}"
    );
    act(browser, "find('#write-undo').click();");
    assert_eq!(browser.value("document.querySelector('#write-text').value"), before, "undo");
    // Several temperatures side by side, and a beam.
    act(browser, &format!("{} find('#write-go').click();", set("#write-temperatures", "0.4, 0.8, 1.2")));
    browser.wait("/3 texts/.test(document.querySelector('#write-state').textContent)");
    shot(browser, "temperatures");
    act(browser, &format!("{} find('#write-go').click();", set("#write-how", "beam")));
    browser.wait(
        "document.querySelectorAll('#write-columns .column h3')[2]?.textContent.includes('nats') ?? false",
    );
    browser.is_well();
    // What is wrong is said in words; the browser itself notes the refusal.
    act(
        browser,
        &format!(
            "{} {} find('#write-go').click();",
            set("#write-how", "sample"),
            set("#write-temperatures", "-1")
        ),
    );
    browser.wait("/above 0/.test(document.querySelector('#write-state').textContent)");
    browser.said.clear();
    act(
        browser,
        &format!(
            "find('#tab-next').click(); {} find('#next-go').click();",
            set("#next-text", "Maudry walked to")
        ),
    );
    browser.wait("document.querySelectorAll('#next .bars li').length === 15");
    shot(browser, "next");
    act(
        browser,
        &format!(
            "find('#tab-surprise').click(); {} find('#surprise-go').click();",
            set("#surprise-text", "Maudry walked to Foxgate. The bees sang loudly on the moon.")
        ),
    );
    browser.wait("document.querySelectorAll('#surprise .tokens span').length > 8");
    act(browser, "document.querySelectorAll('#surprise .tokens span')[3].focus();");
    shot(browser, "surprise");
    act(
        browser,
        &format!(
            "find('#tab-classify').click(); {} find('#classify-go').click();",
            set(
                "#classify-text",
                "Maudry walked to Foxgate. The queen was lost and the bees were cross; the combs were empty."
            )
        ),
    );
    browser.wait("document.querySelectorAll('#classify .bars li').length > 4");
    shot(browser, "classify");
    act(
        browser,
        &format!(
            "find('#tab-talk').click(); {} find('#talk-form .main').click();",
            set("#talk-text", "Maudry walked to")
        ),
    );
    browser.wait("document.querySelectorAll('#talk li').length === 2 && !document.querySelector('#talk-again').disabled");
    act(
        browser,
        &format!(
            "find('#talk details').open = true; {} {} find('#talk-two').click();",
            set("#talk-text", "The queen"),
            set("#talk-turns", "4")
        ),
    );
    browser.wait("document.querySelectorAll('#talk li').length === 7 && document.querySelector('#talk .state').textContent === ''");
    let lines = browser
        .value("[...document.querySelectorAll('#talk li span')].map((line) => line.textContent.length > 0)");
    assert!(lines.as_array().unwrap().iter().all(|line| line == true), "{lines}");
    shot(browser, "talk");
    act(
        browser,
        &format!(
            "find('#tab-vectors').click(); {} find('#vectors-form .main').click();",
            set("#vectors-word", "hive + queen")
        ),
    );
    browser.wait("document.querySelectorAll('#vectors .bars li').length === 12 && document.querySelectorAll('#vectors .word').length === 120");
    shot(browser, "vectors");
    act(browser, "find('#tab-runs').click();");
    browser.wait("document.querySelectorAll('#runs polyline').length === 2 && /finished/.test(document.querySelector('#runs-facts').textContent)");
    shot(browser, "runs");
    browser.is_well();
}

#[test]
#[ignore = "needs a browser"]
fn the_page_does_what_its_controls_say() {
    let pictures = std::env::var_os("PICTURES").map(PathBuf::from);
    let workshop = workshop_with_demo();
    let serving = Serving::demo(&workshop, "--log none");
    let url = format!("http://{}/", serving.address);
    for (width, dark) in [(1280, false), (400, false), (1280, true)] {
        let mut browser = Browser::open(&workshop, &url, width, dark);
        let name = format!("{width}-{}", if dark { "dark" } else { "light" });
        visit(&mut browser, pictures.as_deref(), &name);
    }
    // A run is seen as it trains.
    let live = Workshop::new();
    std::fs::create_dir(live.path("runs")).unwrap();
    let watching = Serving::start(
        &workshop,
        &format!("thornmere/runs/demo --runs {} --log none", live.path("runs").display()),
    );
    let corpus = workshop.path("thornmere/diaries.csv");
    let mut training = live
        .command()
        .args([
            "train",
            corpus.to_str().unwrap(),
            "--epochs",
            "6",
            "--hidden",
            "64",
            "--name",
            "later",
            "--quiet",
        ])
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    let start = Instant::now();
    while watching.get("/runs/later").status != 200 {
        assert!(start.elapsed() < Duration::from_secs(60), "no run");
        std::thread::sleep(Duration::from_millis(50));
    }
    let mut browser = Browser::open(&workshop, &format!("http://{}/#runs", watching.address), 1000, false);
    browser.wait("/running/.test(document.querySelector('#runs-facts').textContent)");
    browser.wait("/finished/.test(document.querySelector('#runs-facts').textContent)");
    assert!(training.wait().unwrap().success());
    browser.is_well();
    // With a token the page asks for it, and then works.
    workshop.write("tokens", "0123456789abcdefghij\n");
    let guarded = Serving::start(&workshop, "thornmere/runs/demo --log none --token-file tokens");
    let mut browser = Browser::open_closed(&workshop, &format!("http://{}/", guarded.address));
    browser.value(&format!(
        "{{ {FIND} {} find('#entrance button').click(); }}",
        set("#token", "0123456789abcdefghij")
    ));
    browser.wait("document.body.dataset.ready === 'true' && document.querySelector('#entrance').hidden");
}
