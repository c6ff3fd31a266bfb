//! Driving the built program on files in a temporary folder.

use std::collections::{BTreeMap, BTreeSet};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::sync::OnceLock;
use std::time::{Duration, Instant};

/// The program: the one that was built with these tests, or the one that `LALOGRAPH_PROGRAM` names.
pub(crate) fn program() -> PathBuf {
    std::env::var_os("LALOGRAPH_PROGRAM")
        .map_or_else(|| env!("CARGO_BIN_EXE_lalograph").into(), PathBuf::from)
}

/// A folder of its own for one test, and the program run inside it.
pub(crate) struct Workshop {
    folder: tempfile::TempDir,
}

/// What the program did: its streams as text, and its status.
#[derive(Debug)]
#[must_use]
pub(crate) struct Done {
    pub(crate) out: String,
    pub(crate) err: String,
    pub(crate) status: i32,
}

impl Done {
    fn new(output: Output) -> Self {
        Self {
            out: String::from_utf8(output.stdout).unwrap(),
            err: String::from_utf8(output.stderr).unwrap(),
            status: output.status.code().unwrap_or(-1),
        }
    }

    /// It succeeded; gives what it printed.
    pub(crate) fn ok(self) -> String {
        assert_eq!(self.status, 0, "{self:?}");
        self.out
    }

    /// It failed with this status and printed each of these on standard error, without a panic.
    pub(crate) fn fails(self, status: i32, words: &[&str]) {
        assert_eq!(self.status, status, "{self:?}");
        for word in words {
            assert!(self.err.contains(word), "no `{word}` in {self:?}");
        }
        assert!(!self.err.contains("panicked"), "{self:?}");
    }
}

impl Workshop {
    pub(crate) fn new() -> Self {
        Self { folder: tempfile::tempdir().unwrap() }
    }

    /// A workshop with the same files, as old as they are here.
    pub(crate) fn copy(&self) -> Self {
        let copy = Self::new();
        let from = self.path(".");
        let done = Command::new("cp").arg("-a").arg(from).arg(copy.path("")).status();
        assert!(done.is_ok_and(|status| status.success()), "the workshop could not be copied");
        copy
    }

    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub(crate) fn write(&self, name: &str, bytes: impl AsRef<[u8]>) -> PathBuf {
        let path = self.path(name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::File::create(&path).unwrap().write_all(bytes.as_ref()).unwrap();
        path
    }

    pub(crate) fn read(&self, name: &str) -> String {
        std::fs::read_to_string(self.path(name)).unwrap()
    }

    pub(crate) fn command(&self) -> Command {
        let mut command = Command::new(program());
        command.current_dir(self.folder.path()).env_remove("NO_COLOR");
        command
    }

    /// Runs it with these words, split at spaces; use [`Workshop::run_words`] for words with spaces in them.
    pub(crate) fn run(&self, words: &str) -> Done {
        self.run_words(&words.split(' ').collect::<Vec<_>>())
    }

    pub(crate) fn run_words(&self, words: &[&str]) -> Done {
        Done::new(self.command().args(words).stdin(Stdio::null()).output().unwrap())
    }

    pub(crate) fn run_with_input(&self, words: &[&str], input: &str) -> Done {
        let mut child = self
            .command()
            .args(words)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
        Done::new(child.wait_with_output().unwrap())
    }

    /// Runs it with a file of the folder as its standard input, which may be longer than a pipe holds.
    pub(crate) fn run_with_file(&self, words: &[&str], input: &str) -> Done {
        let input = std::fs::File::open(self.path(input)).unwrap();
        Done::new(self.command().args(words).stdin(input).output().unwrap())
    }
}

/// One quick demo for all tests of a file: the corpus, the vocabulary and a trained run, to be read and never changed.
pub(crate) fn demo() -> &'static Path {
    static DEMO: OnceLock<(Workshop, String)> = OnceLock::new();
    let (workshop, _) = DEMO.get_or_init(|| {
        let workshop = Workshop::new();
        let out = workshop.run("demo --quick --dir thornmere").ok();
        (workshop, out)
    });
    Box::leak(workshop.path("thornmere").into_boxed_path())
}

/// A workshop with the demo's folder linked into it as `thornmere`.
pub(crate) fn workshop_with_demo() -> Workshop {
    let workshop = Workshop::new();
    std::os::unix::fs::symlink(demo(), workshop.path("thornmere")).unwrap();
    workshop
}

/// Numbers that look random and are the same every time (Steele, Lea and Flood, 2014).
pub(crate) struct Chance(u64);

impl Chance {
    /// The stream of a seed and a number in a campaign.
    pub(crate) fn of(seed: u64, number: u64) -> Self {
        let mut chance = Self(seed);
        chance.0 = chance.next() ^ number.wrapping_mul(0x9e37_79b9_7f4a_7c15);
        chance
    }

    pub(crate) fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut x = self.0;
        x = (x ^ (x >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        x = (x ^ (x >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        x ^ (x >> 31)
    }

    pub(crate) fn below(&mut self, bound: usize) -> usize {
        (self.next() % bound.max(1) as u64) as usize
    }

    /// From 0 to below 1.
    pub(crate) fn share(&mut self) -> f64 {
        (self.next() >> 11) as f64 / (1u64 << 53) as f64
    }
}

/// A number that a campaign is given in the environment, or the usual one.
pub(crate) fn number_from(name: &str, default: u64) -> u64 {
    std::env::var(name).map_or(default, |value| value.parse().unwrap_or_else(|_| panic!("{name}: {value}")))
}

/// Starts the program and kills it after so long, unless it has ended by itself; whether it was killed.
pub(crate) fn killed_after(workshop: &Workshop, words: &str, wait: Duration) -> bool {
    let mut command = workshop.command();
    command.args(words.split_whitespace()).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    let mut child = command.spawn().unwrap();
    let start = Instant::now();
    while start.elapsed() < wait {
        if child.try_wait().unwrap().is_some() {
            return false;
        }
        std::thread::sleep(Duration::from_micros(200));
    }
    child.kill().unwrap();
    child.wait().unwrap();
    true
}

/// All files below a folder with their contents, by their paths in it.
pub(crate) fn files_below(folder: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    let mut found = BTreeMap::new();
    let mut open = vec![folder.to_owned()];
    while let Some(inside) = open.pop() {
        for entry in std::fs::read_dir(&inside).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                open.push(path);
            } else {
                let bytes = std::fs::read(&path).unwrap();
                found.insert(path.strip_prefix(folder).unwrap().to_owned(), bytes);
            }
        }
    }
    found
}

/// What makes two runs the same: everything but what holds times, of which only the names count, what is kept to be quicker next time, and
/// the picture that a demo draws when its run is done.
pub(crate) fn without_times(files: BTreeMap<PathBuf, Vec<u8>>) -> BTreeMap<PathBuf, Vec<u8>> {
    let kept = |path: &Path| {
        !path.iter().any(|part| part == ".tokens")
            && ![".lalograph-lock", "learning.svg", "learning.png"].iter().any(|name| path.ends_with(name))
    };
    let timed = |path: &Path| {
        path.iter().any(|part| part == "checkpoints")
            || path.ends_with("run.json")
            || path.ends_with("metrics.jsonl")
            || path.ends_with("ledger.jsonl")
            || path.ends_with("sweep.json")
    };
    let files = files.into_iter().filter(|(path, _)| kept(path));
    files.map(|(path, bytes)| if timed(&path) { (path, Vec::new()) } else { (path, bytes) }).collect()
}

/// The files that are not the same.
pub(crate) fn differing<'f>(
    one: &'f BTreeMap<PathBuf, Vec<u8>>,
    other: &'f BTreeMap<PathBuf, Vec<u8>>,
) -> BTreeSet<&'f PathBuf> {
    one.keys().chain(other.keys()).filter(|path| one.get(*path) != other.get(*path)).collect()
}
