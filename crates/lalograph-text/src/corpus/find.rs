//! From the paths that were named to the files that are read, in an order that does not change.

use std::collections::HashSet;
use std::fs;
use std::io::ErrorKind;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use walkdir::WalkDir;

use super::reading::{Reason, Skipped};
use super::spec::{CorpusSpec, Form};
use crate::error::TextError;

/// A file to be read.
#[derive(Debug, Clone)]
pub(super) struct Found {
    pub(super) path: PathBuf,
    pub(super) form: Form,
    /// The class that its folder gives it.
    pub(super) label: Option<String>,
}

/// All files of a corpus.
#[derive(Debug, Clone, Default)]
pub(super) struct Files {
    pub(super) found: Vec<Found>,
    /// Places that could not be looked into.
    pub(super) skipped: Vec<Skipped>,
    /// Sizes on disk together; standard input counts nothing.
    pub(super) bytes: u64,
    /// Folders that were looked into, by device and number: one that links lead to again is read once.
    folders: HashSet<(u64, u64)>,
}

pub(super) fn is_standard_input(path: &Path) -> bool {
    path.as_os_str() == "-"
}

impl Files {
    pub(super) fn find(spec: &CorpusSpec, go_on: &mut dyn FnMut() -> bool) -> Result<Self, TextError> {
        if spec.paths.is_empty() {
            return Err(TextError::NoPaths);
        }
        let mut files = Self::default();
        for path in &spec.paths {
            if is_standard_input(path) {
                files.found.push(Found { path: path.clone(), form: spec.form_of(path), label: None });
                continue;
            }
            match fs::metadata(path) {
                Ok(meta) if meta.is_dir() => files.folder(path, spec, go_on)?,
                Ok(meta) => files.file(path.clone(), meta.len(), spec, folder_of(path, spec)),
                Err(error) if error.kind() == ErrorKind::NotFound => files.pattern(path, spec, go_on)?,
                Err(source) => return Err(TextError::Io { path: path.clone(), source }),
            }
        }
        Ok(files)
    }

    fn file(&mut self, path: PathBuf, bytes: u64, spec: &CorpusSpec, label: Option<String>) {
        self.bytes += bytes;
        self.found.push(Found { form: spec.form_of(&path), path, label });
    }

    /// The files that a pattern such as `letters/*.txt` names, by name. A pattern that names nothing is an error.
    fn pattern(
        &mut self,
        path: &Path,
        spec: &CorpusSpec,
        go_on: &mut dyn FnMut() -> bool,
    ) -> Result<(), TextError> {
        let missing = || TextError::Missing(path.to_owned());
        let text = path.to_str().filter(|text| text.contains(['*', '?', '['])).ok_or_else(missing)?;
        // As in a shell, a star is no dot at the beginning of a name.
        let options = glob::MatchOptions { require_literal_leading_dot: true, ..Default::default() };
        let paths = glob::glob_with(text, options)
            .map_err(|error| TextError::BadGlob { pattern: text.to_owned(), what: error.msg.to_owned() })?;
        let mut any = false;
        for entry in paths {
            if !go_on() {
                return Err(TextError::Stopped);
            }
            any = true;
            match entry {
                Ok(path) => match fs::metadata(&path) {
                    Ok(meta) if meta.is_dir() => self.folder(&path, spec, go_on)?,
                    Ok(meta) if meta.is_file() => {
                        let label = folder_of(&path, spec);
                        self.file(path, meta.len(), spec, label);
                    }
                    Ok(_) => self.special(path),
                    Err(error) => self.unreadable(path, &error),
                },
                Err(error) => self.unreadable(error.path().to_owned(), error.error()),
            }
        }
        if any { Ok(()) } else { Err(missing()) }
    }

    fn unreadable(&mut self, path: PathBuf, error: &std::io::Error) {
        self.skipped.push(Skipped { path, line: None, reason: Reason::Unreadable(plain(error)) });
    }

    /// A pipe may never end, nor begin: it is read only if it is named itself.
    fn special(&mut self, path: PathBuf) {
        let reason = Reason::Unreadable("not a regular file (a pipe, a socket or a device)".into());
        self.skipped.push(Skipped { path, line: None, reason });
    }

    /// The files of a folder, by name; of the folders in it too where that was asked for, or where they are the classes.
    fn folder(
        &mut self,
        folder: &Path,
        spec: &CorpusSpec,
        go_on: &mut dyn FnMut() -> bool,
    ) -> Result<(), TextError> {
        let depth = match (spec.recursive, spec.folder_labels) {
            (true, _) => usize::MAX,
            (false, true) => 2,
            (false, false) => 1,
        };
        let before = (self.found.len(), self.skipped.len());
        // Those that were named before may be named again.
        self.folders.clear();
        let mut walk =
            WalkDir::new(folder).follow_links(true).max_depth(depth).sort_by_file_name().into_iter();
        while let Some(entry) = walk.next() {
            if !go_on() {
                return Err(TextError::Stopped);
            }
            let entry = match entry {
                Ok(entry) => entry,
                Err(error) => {
                    let path = error.path().unwrap_or(folder).to_owned();
                    let reason = match error.loop_ancestor() {
                        Some(ancestor) => {
                            Reason::Unreadable(format!("a link back to {}", ancestor.display()))
                        }
                        None => Reason::Unreadable(error.io_error().map_or_else(String::new, plain)),
                    };
                    self.skipped.push(Skipped { path, line: None, reason });
                    continue;
                }
            };
            if entry.file_type().is_dir() {
                let is_new = entry.metadata().is_ok_and(|meta| self.folders.insert((meta.dev(), meta.ino())));
                if !is_new && entry.depth() > 0 {
                    walk.skip_current_dir();
                    let reason = Reason::Unreadable("a folder that is also read by another path".into());
                    self.skipped.push(Skipped { path: entry.into_path(), line: None, reason });
                }
                continue;
            }
            if !spec.takes(entry.path()) {
                continue;
            }
            if !entry.file_type().is_file() {
                self.special(entry.into_path());
                continue;
            }
            let label = if spec.folder_labels { class_of(folder, entry.path()) } else { None };
            let bytes = entry.metadata().map_or(0, |meta| meta.len());
            self.file(entry.into_path(), bytes, spec, label);
        }
        if (self.found.len(), self.skipped.len()) == before {
            return Err(TextError::EmptyFolder {
                folder: folder.to_owned(),
                endings: if spec.form == Form::Mail { &[] } else { spec.form.endings() },
            });
        }
        Ok(())
    }
}

/// The folder that a file lies in that was named itself, where folders are classes.
fn folder_of(file: &Path, spec: &CorpusSpec) -> Option<String> {
    let folder = file.parent().filter(|_| spec.folder_labels)?;
    Some(folder.file_name()?.to_string_lossy().into_owned())
}

/// The folder just below `top` that the file lies in.
fn class_of(top: &Path, file: &Path) -> Option<String> {
    let mut parts = file.strip_prefix(top).ok()?.components();
    let first = parts.next()?;
    parts.next()?;
    Some(first.as_os_str().to_string_lossy().into_owned())
}

/// The system's message without the error number.
pub(super) fn plain(error: &std::io::Error) -> String {
    let text = error.to_string();
    match text.find(" (os error") {
        Some(at) => text[..at].to_lowercase(),
        None => text,
    }
}

impl Form {
    /// The endings of the files that a folder gives for this form.
    pub(super) fn endings(self) -> &'static [&'static str] {
        match self {
            Self::Auto | Self::Text => &["txt"],
            Self::Csv => &["csv"],
            Self::Tsv => &["tsv", "tab"],
            Self::JsonLines => &["jsonl", "ndjson", "json"],
            Self::Mail => &["eml", "mbox"],
        }
    }
}

impl CorpusSpec {
    fn takes(&self, path: &Path) -> bool {
        if self.form == Form::Mail {
            return path.file_name().is_some_and(|name| !name.as_encoded_bytes().starts_with(b"."));
        }
        ending(path).is_some_and(|ending| self.form.endings().contains(&ending.as_str()))
    }

    /// The form of a file: as requested, or by its name.
    fn form_of(&self, path: &Path) -> Form {
        if self.form != Form::Auto {
            return self.form;
        }
        let ending = ending(path).unwrap_or_default();
        [Form::Csv, Form::Tsv, Form::JsonLines, Form::Mail]
            .into_iter()
            .find(|form| form.endings().contains(&ending.as_str()))
            .unwrap_or(Form::Text)
    }
}

/// A name's ending in lower case, the endings of compressed files looked through.
fn ending(path: &Path) -> Option<String> {
    let ending = path.extension()?.to_string_lossy().to_ascii_lowercase();
    if matches!(ending.as_str(), "gz" | "zst" | "zstd") {
        let inner = path.file_stem().map(Path::new)?;
        return inner.extension().map(|ending| ending.to_string_lossy().to_ascii_lowercase());
    }
    Some(ending)
}
