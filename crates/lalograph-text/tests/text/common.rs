//! Folders of made-up files, and what is read from them.

use std::fs;
use std::io::Write;
use std::ops::ControlFlow;
use std::path::Path;

use lalograph_text::{Corpus, CorpusSpec, Division, Reading, TextError};

pub(crate) struct Folder(tempfile::TempDir);

impl Folder {
    pub(crate) fn with(files: &[(&str, &[u8])]) -> Self {
        let folder = tempfile::tempdir().unwrap();
        for (name, bytes) in files {
            let path = folder.path().join(name);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::File::create(&path).unwrap().write_all(bytes).unwrap();
        }
        Self(folder)
    }

    pub(crate) fn path(&self) -> &Path {
        self.0.path()
    }

    /// The files of this folder that are named, read as their names say.
    pub(crate) fn files(&self, names: &[&str]) -> CorpusSpec {
        let paths = names.iter().map(|name| self.path().join(name)).collect();
        CorpusSpec { paths, ..CorpusSpec::default() }
    }

    pub(crate) fn spec(&self, division: Division) -> CorpusSpec {
        CorpusSpec {
            paths: vec![self.path().to_owned()],
            recursive: true,
            division: Some(division),
            ..CorpusSpec::default()
        }
    }
}

/// The documents with their lines, and what was left out.
pub(crate) fn read(spec: &CorpusSpec) -> Result<(Vec<(u64, String)>, Reading), TextError> {
    let mut seen = Vec::new();
    let reading = Corpus::find(spec)?.read(|document| {
        seen.push((document.line, document.text.to_owned()));
        ControlFlow::Continue(())
    })?;
    Ok((seen, reading))
}

pub(crate) fn texts(spec: &CorpusSpec) -> Vec<String> {
    read(spec).unwrap().0.into_iter().map(|(_, text)| text).collect()
}

/// The messages of the places that were left out, without the folder's own path.
pub(crate) fn left_out(folder: &Folder, reading: &Reading) -> Vec<String> {
    let top = format!("{}/", folder.path().display());
    reading.skipped.iter().map(|skipped| skipped.to_string().replace(&top, "")).collect()
}

pub(crate) fn gzip(bytes: &[u8]) -> Vec<u8> {
    let mut writer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
    writer.write_all(bytes).unwrap();
    writer.finish().unwrap()
}

pub(crate) fn zstandard(bytes: &[u8]) -> Vec<u8> {
    zstd::encode_all(bytes, 1).unwrap()
}
