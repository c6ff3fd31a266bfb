//! Driving the built program on files in a temporary folder.

use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::sync::OnceLock;

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

    /// It failed with this status and said each of these on standard error, without a panic.
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
        let mut command = Command::new(env!("CARGO_BIN_EXE_lalograph"));
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
