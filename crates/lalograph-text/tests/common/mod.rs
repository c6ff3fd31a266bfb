//! Folders of made-up files, and what is read from them.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]
#![allow(dead_code, unreachable_pub, reason = "each test file uses a part of this")]

use std::fs;
use std::io::Write;
use std::ops::ControlFlow;
use std::path::Path;

use lalograph_text::{Corpus, CorpusSpec, Division, Reading, TextError};

pub struct Folder(tempfile::TempDir);

impl Folder {
    pub fn with(files: &[(&str, &[u8])]) -> Self {
        let folder = tempfile::tempdir().unwrap();
        for (name, bytes) in files {
            let path = folder.path().join(name);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::File::create(&path).unwrap().write_all(bytes).unwrap();
        }
        Self(folder)
    }

    pub fn path(&self) -> &Path {
        self.0.path()
    }

    /// The files of this folder that are named, read as their names say.
    pub fn files(&self, names: &[&str]) -> CorpusSpec {
        let paths = names.iter().map(|name| self.path().join(name)).collect();
        CorpusSpec { paths, ..CorpusSpec::default() }
    }

    pub fn spec(&self, division: Division) -> CorpusSpec {
        CorpusSpec {
            paths: vec![self.path().to_owned()],
            recursive: true,
            division: Some(division),
            ..CorpusSpec::default()
        }
    }
}

/// The documents with their lines, and what was left out.
pub fn read(spec: &CorpusSpec) -> Result<(Vec<(u64, String)>, Reading), TextError> {
    let mut seen = Vec::new();
    let reading = Corpus::find(spec)?.read(|document| {
        seen.push((document.line, document.text.to_owned()));
        ControlFlow::Continue(())
    })?;
    Ok((seen, reading))
}

pub fn texts(spec: &CorpusSpec) -> Vec<String> {
    read(spec).unwrap().0.into_iter().map(|(_, text)| text).collect()
}

/// The places that were left out, as they are said, without the folder's own path.
pub fn left_out(folder: &Folder, reading: &Reading) -> Vec<String> {
    let top = format!("{}/", folder.path().display());
    reading.skipped.iter().map(|skipped| skipped.to_string().replace(&top, "")).collect()
}

pub fn gzip(bytes: &[u8]) -> Vec<u8> {
    let mut writer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
    writer.write_all(bytes).unwrap();
    writer.finish().unwrap()
}

pub fn zstandard(bytes: &[u8]) -> Vec<u8> {
    zstd::encode_all(bytes, 1).unwrap()
}
