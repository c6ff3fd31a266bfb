//! Errors as people read them: what was wrong, where, and what to do.

use std::fmt::Display;
use std::io::{Error, ErrorKind};
use std::path::Path;

use lalograph_demo::CorpusError;
use lalograph_export::ExportError;
use lalograph_lab::sweep::error::SweepError;
use lalograph_lab::{LabError, PlanError};
use lalograph_serve::ServeError;
use lalograph_storage::StorageError;
use lalograph_text::TextError;
use lalograph_vectors::VectorError;

use crate::nearest::nearest_name;
use crate::output::number::count;

/// Ways for a command to fail.
#[derive(Debug)]
pub(crate) enum Failure {
    /// The work failed. Exit status 1.
    Work {
        /// The problem and its place.
        what: String,
        /// Advice on what to do.
        remedy: Option<String>,
    },
    /// The command was used wrongly. Exit status 2.
    Usage(String),
    /// Somebody interrupted it. Exit status 130.
    Interrupted(String),
    /// Nobody reads the output any more: no failure.
    ClosedPipe,
}

impl Failure {
    /// The work failed.
    pub(crate) fn work(what: impl Display) -> Self {
        Self::Work { what: what.to_string(), remedy: None }
    }

    /// The problem and its place, for where work continues after it.
    pub(crate) fn what(&self) -> String {
        match self {
            Self::Work { what, .. } | Self::Usage(what) | Self::Interrupted(what) => what.clone(),
            Self::ClosedPipe => "the output is closed".to_owned(),
        }
    }

    /// The work failed, and this is what to do.
    pub(crate) fn with_remedy(what: impl Display, remedy: impl Into<String>) -> Self {
        Self::Work { what: what.to_string(), remedy: Some(remedy.into()) }
    }

    /// The same, of one of several processes.
    pub(crate) fn of_process(self, number: usize) -> Self {
        match self {
            Self::Work { what, remedy } => Self::Work { what: format!("process {number}: {what}"), remedy },
            other => other,
        }
    }

    /// The problem.
    pub(crate) fn words(&self) -> &str {
        match self {
            Self::Work { what, .. } | Self::Usage(what) | Self::Interrupted(what) => what,
            Self::ClosedPipe => "the reader of the output has closed it",
        }
    }
}

impl From<Error> for Failure {
    fn from(error: Error) -> Self {
        if error.kind() == ErrorKind::BrokenPipe { Self::ClosedPipe } else { Self::work(error) }
    }
}

/// What the system reports of a file or folder.
fn of_path(path: &Path, source: &Error) -> Failure {
    let (what, remedy) = match source.kind() {
        ErrorKind::BrokenPipe => return Failure::ClosedPipe,
        ErrorKind::NotFound => ("no such file or folder", "check the path"),
        ErrorKind::PermissionDenied => {
            ("permission denied", "check who may read and write it, and its folder")
        }
        ErrorKind::IsADirectory => ("a folder, not a file", "name a file"),
        ErrorKind::NotADirectory => ("a part of the path is a file, not a folder", "check the path"),
        ErrorKind::FileTooLarge => {
            ("larger than the disk or a limit allows", "write to another disk, or raise the limit")
        }
        ErrorKind::StorageFull => ("the disk is full", "make room, or write to another disk"),
        _ => return Failure::work(format!("{}: {source}", path.display())),
    };
    Failure::with_remedy(format!("{}: {what}", path.display()), remedy)
}

impl From<TextError> for Failure {
    fn from(error: TextError) -> Self {
        let remedy = match &error {
            TextError::Stopped => return Self::Interrupted("stopped; nothing was written".into()),
            TextError::NoPaths => return Self::Usage(error.to_string()),
            TextError::Missing(_) => {
                "check the path; `lalograph demo --corpus-only` writes a corpus for trying"
            }
            TextError::BadSplit(_) => "write a new split with `lalograph split`",
            TextError::Amounts(_) => "lower --validation-share or --test-share, or the number of documents",
            TextError::Scratch(_) => "make room in the folder for temporary files, or set TMPDIR to another",
            TextError::NoText { .. } => "a document needs at least one character that is not white space",
            TextError::EmptyVocabulary { .. } => {
                "lower --minimum-count, raise --vocabulary-size, or use more text"
            }
            TextError::BadStore { .. } | TextError::OtherVocabulary(_) => {
                "remove it; the corpus is encoded again when needed"
            }
            TextError::StoreLost { .. } => {
                "another program changed it, or the disk failed; start again, or continue from the last checkpoint with `lalograph resume`"
            }
            TextError::BadToken(_) | TextError::NotAlike(_) => return Self::Usage(error.to_string()),
            TextError::TooFewTokens { .. } => "raise --vocabulary-size",
            TextError::NothingHeldOut => {
                "raise --held-out, or use more documents (with --document line, each line is one)"
            }
            TextError::BadVocabulary(_) => "build a new one with `lalograph vocab build`",
            TextError::IndexOutside { .. } => "`lalograph vocab show` lists all indices",
            TextError::Io { path, source } => return of_path(path, source),
            TextError::NoColumn { .. } | TextError::NoEncoding(_) => {
                let remedy = corpus_remedy(&error).unwrap_or_default();
                return Self::Usage(format!("{error}; {remedy}"));
            }
            other => {
                return match corpus_remedy(other) {
                    Some(remedy) => Self::with_remedy(error, remedy),
                    None => Self::work(error),
                };
            }
        };
        Self::with_remedy(error, remedy)
    }
}

impl From<PlanError> for Failure {
    fn from(error: PlanError) -> Self {
        Self::Usage(format!("the plan: {error}"))
    }
}

impl From<ExportError> for Failure {
    fn from(error: ExportError) -> Self {
        match error {
            ExportError::Model(inner) => inner.into(),
            ExportError::Opset(_) => Self::Usage(format!("{error}")),
            ExportError::TooLarge { .. } => {
                Self::with_remedy(error, "use --precision half or eight-bit, or --form tables")
            }
            other => Self::work(other),
        }
    }
}

impl From<ServeError> for Failure {
    fn from(error: ServeError) -> Self {
        match error {
            ServeError::Listen { ref source, .. } if source.kind() == ErrorKind::AddrInUse => {
                Self::with_remedy(error, "give another port with --listen, or port 0 for a free one")
            }
            ServeError::Certificate { .. } => {
                Self::with_remedy(error, "give a chain of certificates and its key as PEM files")
            }
            other => Self::work(other),
        }
    }
}

impl From<StorageError> for Failure {
    fn from(error: StorageError) -> Self {
        LabError::from(error).into()
    }
}

impl From<LabError> for Failure {
    fn from(error: LabError) -> Self {
        let remedy = match error {
            LabError::Text(inner) => return inner.into(),
            LabError::Plan(inner) => return inner.into(),
            LabError::Io { ref path, ref source } => return of_path(path, source),
            LabError::Decoding { .. } | LabError::Order { .. } => return Self::Usage(error.to_string()),
            LabError::Temperature(value) => {
                return Self::Usage(format!(
                    "a temperature must be above 0, and {value} is not; for the most probable token each time, use greedy decoding (`sample --greedy`)"
                ));
            }
            LabError::Shape(_) => return Self::Usage(error.to_string()),
            LabError::Exists(_) => "use another name, or --force to replace it",
            LabError::NotAFile(_) => {
                "give the name of a file, or write to standard output where the command does so by default"
            }
            LabError::BadName(_) => return Self::Usage(error.to_string()),
            LabError::BadArchive { .. } => "make the archive again with `lalograph runs export`",
            LabError::NotARun(_) => "give the name or the folder of a run; `lalograph runs list` lists runs",
            LabError::Busy(_) => "wait until it has ended, or stop it there with Ctrl-C",
            LabError::Written(_) => "wait until it has ended",
            LabError::ForeignPlan(_) => {
                "restore the plan; to change settings, give options to `lalograph resume`"
            }
            LabError::FewerSteps { run, made, asked } => {
                let (made, asked) = (count(made), count(asked));
                let what = format!(
                    "{} has completed {made} steps, and {asked} were requested; steps count from the start of the run",
                    run.display()
                );
                return Self::with_remedy(
                    what,
                    "request more, or use --restart to start the run from its first step",
                );
            }
            LabError::ShortTime { .. } => "give more time with --time, or less text with --first",
            LabError::AllDone(_) => "raise --epochs or --steps",
            LabError::Changed { .. } => "restore the file, or train a new run",
            LabError::BadCheckpoint { .. } => "use --restart to start the run from its first step",
            LabError::BadRun { .. } => "restore the file; if you do not need this run, delete its folder",
            LabError::TooShort { tokens, rows, window, needed } => {
                let what = format!(
                    "{} training tokens; one batch ({} streams x {} tokens) needs {}",
                    count(tokens as u64),
                    count(rows as u64),
                    count(window as u64),
                    count(needed as u64)
                );
                return Self::with_remedy(what, "lower --batch or --window, or use more text");
            }
            LabError::NoValidation { .. } => {
                "raise --validation-share, or set it to 0 to train on all documents"
            }
            LabError::NoLabels => {
                "give the column of the label with --label, or --folder-labels if each class has a folder"
            }
            LabError::NoNumberColumns => "for text, leave --features out",
            LabError::NoColumnLike { .. } => "`*` matches any characters of a name; quote it in the shell",
            LabError::GroupColumns { .. } | LabError::NumberColumns { .. } => {
                "name the columns of numbers with --text, or correct --features and --time-steps"
            }
            LabError::NotNumbers { .. } => "correct the row, or name the columns of numbers with --text",
            LabError::OneClass { .. } => "use a corpus with documents of several classes",
            LabError::ClassUnseen { .. } => {
                "add documents of this class, lower --validation-share, or use --set-aside to leave the class out"
            }
            LabError::NotFinite { .. } | LabError::Diverged { .. } => {
                "lower --learning-rate or --clip-norm; the best model so far is in the run's folder"
            }
            LabError::OtherTask { needed, .. } => {
                let remedy = format!(
                    "this command reads a model of the task `{needed}`; `lalograph runs list` shows the task of each run"
                );
                return Self::with_remedy(error, remedy);
            }
            LabError::BadModel { .. } => {
                "give the folder of a run or a model file; a damaged model file must be copied or trained again"
            }
            LabError::BadFile { ref source, .. } => match source {
                TextError::BadSplit(_) => "write a new split with `lalograph split`",
                _ => "build a new one with `lalograph vocab build`",
            },
            LabError::SeedUnknown => "use words of the training text, or no seed text to start a document",
            LabError::Vectors(inner) => return inner.into(),
            LabError::BadVectors { .. } => {
                "vectors are a text file (a word and its numbers per line) or the safetensors file of `lalograph embed`"
            }
            LabError::BadWordTask { .. } => {
                "a similarity file has two words and a number on a line, a file of analogies four words"
            }
            LabError::OtherProgram => "start the same program everywhere, on the same files",
            LabError::NoOldText => "give the text with --old-text, or leave --keep-old out",
            LabError::Start { .. } => "use another model, or the same vocabulary and sizes",
            LabError::TooManyNgrams => "lower the order of --baselines",
            LabError::Write(_) | LabError::Threads(_) => return Self::work(error),
        };
        Self::with_remedy(error, remedy)
    }
}

impl From<SweepError> for Failure {
    fn from(error: SweepError) -> Self {
        match error {
            SweepError::Lab(inner) => inner.into(),
            SweepError::NotASweep(_) => Self::with_remedy(
                error,
                "give the folder of a sweep, or another --name for a new one; the folder was not changed",
            ),
            SweepError::Another { .. } => Self::with_remedy(
                error,
                "give the new sweep another --name, or use the same plan and options",
            ),
            SweepError::Bad { .. } => Self::with_remedy(error, "restore the file, or start a new sweep"),
            SweepError::Nothing => {
                Self::Usage(format!("{error}: give the values of a setting with --vary KEY=VALUES"))
            }
            SweepError::NoValidation => {
                Self::Usage(format!("{error}; raise corpus.validation_share, or give a split"))
            }
            SweepError::NoWordTask => {
                Self::Usage(format!("{error}; set vectors.similarity or vectors.analogies"))
            }
            SweepError::TooMany { .. } => {
                Self::Usage(format!("{error}; use --method random, or fewer values"))
            }
            SweepError::Tuned => Self::Usage(format!("{error}; use the plan of a new model")),
            SweepError::Rungs { .. } => Self::with_remedy(error, "use fewer --rungs otherwise"),
            SweepError::Plan(inner) => Self::Usage(inner.to_string()),
            SweepError::Crowded { .. } => Self::with_remedy(error, "lower --jobs"),
            SweepError::Memory(_) => Self::with_remedy(error, "lower the sizes of the plan"),
            SweepError::Space(_)
            | SweepError::File(_)
            | SweepError::Twice(_)
            | SweepError::NoEffect { .. }
            | SweepError::Unused(_)
            | SweepError::Number { .. } => Self::Usage(error.to_string()),
        }
    }
}

impl From<CorpusError> for Failure {
    fn from(error: CorpusError) -> Self {
        match error {
            CorpusError::Stopped => Self::Interrupted("stopped; the corpus is incomplete".into()),
            CorpusError::TooSmall(_) => Self::Usage(error.to_string()),
            CorpusError::Storage(inner @ StorageError::Exists(_)) => {
                Self::with_remedy(inner, "use another --dir, or move the folder")
            }
            CorpusError::Storage(inner) => inner.into(),
        }
    }
}

impl From<VectorError> for Failure {
    fn from(error: VectorError) -> Self {
        match error {
            VectorError::Text(inner) => inner.into(),
            VectorError::Setting { .. } => Self::Usage(error.to_string()),
            VectorError::Unknown { ref near, .. } if !near.is_empty() => {
                let near: Vec<String> = near.iter().map(|word| format!("`{word}`")).collect();
                Self::with_remedy(&error, format!("words with vectors: {}", near.join(", ")))
            }
            VectorError::Unknown { .. } => Self::with_remedy(
                error,
                "use a word of the vocabulary, or train vectors with --pieces, which have vectors for all words",
            ),
            VectorError::NothingKnown(_) => {
                Self::with_remedy(error, "use words of the text that the vectors were trained on")
            }
            VectorError::NotFinite => Self::with_remedy(error, "lower --learning-rate"),
            VectorError::TooLittle => {
                Self::with_remedy(error, "use more text, or a vocabulary that has its words")
            }
            VectorError::Dimensions { .. } => Self::with_remedy(
                error,
                "the width of the token vectors (--embedding) must be the width of the vectors in the file",
            ),
            VectorError::NoneFound(_) => Self::with_remedy(
                error,
                "compare the spelling of both: capitals, language, the unit of the vocabulary",
            ),
            VectorError::Line { .. } | VectorError::Io(_) => Self::work(error),
        }
    }
}

/// Advice for an error of a corpus; `None` if there is none.
fn corpus_remedy(error: &TextError) -> Option<String> {
    Some(match error {
        TextError::NoColumn { column, known, head, .. } => {
            let likest = nearest_name(column, known);
            let suggestion = likest.map_or_else(String::new, |name| format!("did you mean `{name}`? "));
            let hidden = match known.as_slice() {
                [only] => [';', '\t', '|'].into_iter().find(|c| only.contains(*c)),
                _ => None,
            };
            // Names that are all numbers are most likely data.
            let numbers = *head && known.iter().all(|name| name.parse::<f64>().is_ok());
            match hidden {
                None if numbers => format!(
                    "the first row, {}, was read as the header row; if the table has none, use --no-head, and its columns are 1, 2, ...",
                    known.join(", ")
                ),
                Some(c) => format!("--delimiter '{}', which is in the first row", c.escape_default()),
                None => format!("{suggestion}columns: {}", known.join(", ")),
            }
        }
        TextError::EmptyFolder { .. } => {
            "use --recursive for subfolders, --form for other files than .txt (`mail` takes all), or name the files".into()
        }
        TextError::NoEncoding(_) => {
            "names are utf-8, latin1, windows-1252, utf-16le, shift_jis and others".into()
        }
        TextError::LeftOut(_) => "correct it, or omit --strict to continue without it".into(),
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use std::io;
    use std::path::PathBuf;

    use lalograph_demo::CorpusError;
    use lalograph_lab::{LabError, PlanError};
    use lalograph_text::TextError;

    use super::Failure;

    /// Everything that a library may say, each with the exit status that it should lead to.
    #[test]
    fn each_error_has_its_kind_of_failure_and_its_remedy() {
        let denied = || io::Error::from(io::ErrorKind::PermissionDenied);
        let work: [Failure; 10] = [
            TextError::Missing(PathBuf::from("letters")).into(),
            TextError::NoText { files: 1, skipped: 1, first: None }.into(),
            TextError::IndexOutside { index: 9, last: 3 }.into(),
            LabError::Exists(PathBuf::from("runs/one")).into(),
            LabError::TooShort { tokens: 3, rows: 2, window: 4, needed: 9 }.into(),
            LabError::NotFinite { step: 4, parameter: "output.bias".into() }.into(),
            LabError::Diverged { step: 4, text: "training", parameter: "embedding".into(), greatest: 1e9 }
                .into(),
            LabError::BadModel { path: PathBuf::from("m"), what: "it is cut short".into() }.into(),
            LabError::SeedUnknown.into(),
            LabError::Text(TextError::EmptyVocabulary { unit: "word", minimum_count: 2 }).into(),
        ];
        for failure in work {
            assert!(matches!(failure, Failure::Work { remedy: Some(_), .. }), "{failure:?}");
        }
        let usage: [Failure; 5] = [
            TextError::NoPaths.into(),
            PlanError::Override("x".into()).into(),
            LabError::Temperature(0.0).into(),
            LabError::Plan(PlanError::Unknown { key: "a.b".into(), nearest: None }).into(),
            CorpusError::TooSmall(3).into(),
        ];
        for failure in usage {
            assert!(matches!(failure, Failure::Usage(_)), "{failure:?}");
        }
        for failure in [Failure::from(TextError::Stopped), CorpusError::Stopped.into()] {
            assert!(matches!(failure, Failure::Interrupted(_)), "{failure:?}");
        }
        assert!(matches!(Failure::from(denied()), Failure::Work { remedy: None, .. }));
    }

    #[test]
    fn what_the_system_says_of_a_file_is_said_in_words() {
        for (kind, part) in [
            (io::ErrorKind::NotFound, "plan.toml: no such file or folder"),
            (io::ErrorKind::PermissionDenied, "plan.toml: permission denied"),
            (io::ErrorKind::IsADirectory, "plan.toml: a folder, not a file"),
            (io::ErrorKind::StorageFull, "plan.toml: the disk is full"),
        ] {
            let failure = Failure::from(LabError::Io { path: "plan.toml".into(), source: kind.into() });
            assert_eq!(failure.words(), part);
            assert!(matches!(failure, Failure::Work { remedy: Some(_), .. }), "{failure:?}");
        }
        let other = TextError::Io { path: "notes".into(), source: io::Error::other("no answer") };
        assert_eq!(Failure::from(other).words(), "notes: no answer");
    }

    #[test]
    fn a_closed_pipe_is_no_failure() {
        let broken = || io::Error::from(io::ErrorKind::BrokenPipe);
        assert!(matches!(Failure::from(broken()), Failure::ClosedPipe));
        let inside = LabError::Io { path: PathBuf::from("-"), source: broken() };
        assert!(matches!(Failure::from(inside), Failure::ClosedPipe));
    }
}
