//! A run as one file: a tar archive, compressed with Zstandard, whose first entry lists all others with their hashes. `docs/formats/archive.md`
//! describes it.

use std::fs::{self, File};
use std::io::{self, Read, Write};
use std::path::{Component, Path, PathBuf};

use lalograph_storage::{Existing, Folder, Storage, StorageError, WholeFile};
use serde::{Deserialize, Serialize};

use super::archive_error::{ArchiveError, MOST_RATIO};
use super::claim::Claim;
use super::folder::{CHECKPOINTS, LOCK, RunFolder, model_in};
use super::shelf::place;
use crate::artefact::model_file;
use crate::artefact::tensor_file::TensorFile;
use crate::error::LabError;

const FORMAT: &str = "lalograph run archive";
const VERSION: u32 = 1;
/// The first entry.
const LIST: &str = "contents.json";
/// Lists beyond this are not read.
const LONGEST_LIST: u64 = 1 << 20;
/// Folders within folders.
const DEEPEST: usize = 4;
/// The level of compression: weights hardly get smaller at any.
const LEVEL: i32 = 6;

/// The list of an archive's files.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Contents {
    format: String,
    version: u32,
    /// The name of the run.
    run: String,
    files: Vec<Listed>,
}

/// A file of an archive.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Listed {
    /// Its path within the run, with `/` between the parts.
    path: String,
    bytes: u64,
    /// BLAKE3, in hexadecimal.
    hash: String,
}

/// What was packed or unpacked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct Packed {
    /// Files.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
}

/// Packs a run that no process is training, with the files of its report (`pages`, each with its path within the run). Checkpoints, from which it
/// could be continued, are packed if that is asked for. The same files give the same bytes.
///
/// # Errors
/// The run is being trained; a file cannot be read; `file` cannot be written.
pub fn pack(
    storage: &dyn Storage,
    run: &RunFolder,
    pages: &[(String, PathBuf)],
    checkpoints: bool,
    mut file: WholeFile,
) -> Result<Packed, LabError> {
    let _claim = Claim::of(storage, run)?;
    let mut all = Vec::new();
    gather(run.path(), "", checkpoints, &mut all)?;
    all.retain(|(path, _)| pages.iter().all(|(page, _)| page != path));
    all.extend(pages.iter().cloned());
    all.sort();
    let mut files = Vec::new();
    for (path, place) in &all {
        let mut hash = blake3::Hasher::new();
        let mut content = File::open(place).map_err(LabError::at(place))?;
        let bytes = io::copy(&mut content, &mut hash).map_err(LabError::at(place))?;
        files.push(Listed { path: path.clone(), bytes, hash: hash.finalize().to_hex().to_string() });
    }
    let packed = Packed { files: files.len() as u64, bytes: files.iter().map(|file| file.bytes).sum() };
    let contents = Contents { format: FORMAT.to_owned(), version: VERSION, run: run.name(), files };
    let list = serde_json::to_vec_pretty(&contents).map_err(|error| LabError::Write(error.to_string()))?;
    let target = file.path();
    let wrong = || LabError::at(&target);
    let mut archive = tar::Builder::new(zstd::Encoder::new(&mut file, LEVEL).map_err(wrong())?);
    let mut append = |path: &str, bytes: u64, from: &mut dyn Read| {
        let mut header = tar::Header::new_gnu();
        header.set_size(bytes);
        header.set_mode(0o644);
        archive.append_data(&mut header, path, from)
    };
    append(LIST, list.len() as u64, &mut &list[..]).map_err(wrong())?;
    for (listed, (path, place)) in contents.files.iter().zip(&all) {
        let mut from = File::open(place).map_err(LabError::at(place))?.take(listed.bytes);
        append(path, listed.bytes, &mut from).map_err(wrong())?;
    }
    archive.into_inner().and_then(zstd::Encoder::finish).map_err(wrong())?;
    file.finish()?;
    Ok(packed)
}

/// The files of a folder of a run, with their paths within it.
fn gather(
    folder: &Path,
    within: &str,
    checkpoints: bool,
    all: &mut Vec<(String, PathBuf)>,
) -> Result<(), LabError> {
    for entry in fs::read_dir(folder).map_err(LabError::at(folder))? {
        let entry = entry.map_err(LabError::at(folder))?;
        let (place, name) = (entry.path(), entry.file_name().to_string_lossy().into_owned());
        let kind = entry.file_type().map_err(LabError::at(&place))?;
        if name.starts_with('.')
            || (within.is_empty() && (name == LOCK || (name == CHECKPOINTS && !checkpoints)))
        {
            continue;
        }
        let path = format!("{within}{name}");
        if kind.is_dir() {
            gather(&place, &format!("{path}/"), checkpoints, all)?;
        } else if kind.is_file() {
            all.push((path, place));
        }
    }
    Ok(())
}

/// Unpacks an archive as a run in the folder `parent`, under its own name or another, and verifies all of it. The run is there whole, or not
/// at all.
///
/// # Errors
/// The archive cannot be read, or something is wrong with it; the place is taken; the file system refuses.
pub fn unpack(
    storage: &dyn Storage,
    archive: &Path,
    parent: &Path,
    name: Option<&str>,
    existing: Existing,
) -> Result<(RunFolder, Packed), LabError> {
    let bad = |what: ArchiveError| LabError::BadArchive { path: archive.to_owned(), what };
    let file = File::open(archive).map_err(LabError::at(archive))?;
    let size = file.metadata().map_err(LabError::at(archive))?.len();
    let broken = |error: io::Error| bad(ArchiveError::NotAnArchive(error.to_string()));
    let mut tar = tar::Archive::new(zstd::Decoder::new(file).map_err(broken)?);
    let mut entries = tar.entries().map_err(broken)?;
    let first = entries.next().ok_or_else(|| bad(ArchiveError::NotAnArchive("it is empty".into())))?;
    let contents = read_list(first.map_err(broken)?).map_err(bad)?;
    let bytes = contents.files.iter().fold(0u64, |sum, file| sum.saturating_add(file.bytes));
    if bytes > size.saturating_mul(MOST_RATIO) {
        return Err(bad(ArchiveError::TooLarge { bytes }));
    }
    let name = name.unwrap_or(&contents.run);
    let mut files = contents.files.iter();
    let path = place(storage, parent, name, existing, |folder| {
        for entry in entries {
            let mut entry = entry.map_err(broken)?;
            let path = plain_path(&entry).map_err(bad)?;
            let listed = files.next().filter(|listed| listed.path == path && listed.bytes == entry.size());
            let listed = listed.ok_or_else(|| bad(ArchiveError::NotListed(path.clone())))?;
            let hash = write_entry(folder, &path, &mut entry, &broken)?;
            if hash != listed.hash {
                return Err(bad(ArchiveError::Changed(path)));
            }
        }
        if let Some(missing) = files.next() {
            return Err(bad(ArchiveError::Missing(missing.path.clone())));
        }
        // What was packed is a run, and its model is whole.
        let run = RunFolder::open(folder.path())
            .map_err(|_| bad(ArchiveError::NotAnArchive("its files are not those of a run".into())))?;
        run.read_plan()?;
        let model = model_in(folder.path());
        if model.is_file() {
            TensorFile::open(&model, &[model_file::KIND])?;
        }
        Ok(())
    })?;
    Ok((RunFolder::open(&path)?, Packed { files: contents.files.len() as u64, bytes }))
}

fn read_list(mut entry: tar::Entry<'_, impl Read>) -> Result<Contents, ArchiveError> {
    let wrong = |what: String| ArchiveError::NotAnArchive(what);
    if plain_path(&entry)? != LIST || entry.size() > LONGEST_LIST {
        return Err(wrong(format!("its first entry is not {LIST}")));
    }
    let mut text = Vec::new();
    entry.read_to_end(&mut text).map_err(|error| wrong(error.to_string()))?;
    let contents: Contents =
        serde_json::from_slice(&text).map_err(|error| wrong(format!("its list of contents: {error}")))?;
    if contents.format != FORMAT || contents.version != VERSION {
        return Err(wrong(format!("its format is `{}`, version {}", contents.format, contents.version)));
    }
    Ok(contents)
}

/// The path of an entry that is a plain file and stays within the run.
fn plain_path(entry: &tar::Entry<'_, impl Read>) -> Result<String, ArchiveError> {
    let name = String::from_utf8_lossy(&entry.path_bytes()).into_owned();
    let path = Path::new(&name);
    let parts: Vec<Component<'_>> = path.components().collect();
    let within = parts.iter().all(|part| matches!(part, Component::Normal(_)));
    // As it is written: `a//b` and `./a` are no paths of ours.
    let plain = parts.iter().map(|part| part.as_os_str().to_string_lossy()).collect::<Vec<_>>().join("/");
    if !within || parts.is_empty() || parts.len() > DEEPEST || plain != name || name.contains('\0') {
        return Err(ArchiveError::ClimbsOut(name));
    }
    if !entry.header().entry_type().is_file() {
        return Err(ArchiveError::NotAFile(name));
    }
    Ok(name)
}

/// Writes an entry to its place; its hash. `broken` is the error of an archive that cannot be read.
fn write_entry(
    folder: &Folder,
    path: &str,
    entry: &mut impl Read,
    broken: &dyn Fn(io::Error) -> LabError,
) -> Result<String, LabError> {
    let mut parts: Vec<&str> = path.split('/').collect();
    let name = parts.pop().unwrap_or_default();
    let mut place = folder.clone();
    for part in parts {
        place = place.make_folder(part)?;
    }
    let mut file = WholeFile::within(&place, name.as_ref(), Existing::Keep)?;
    let at = file.path();
    let mut hash = blake3::Hasher::new();
    let mut block = vec![0; 1 << 16];
    loop {
        let read = entry.read(&mut block).map_err(broken)?;
        if read == 0 {
            break;
        }
        hash.update(&block[..read]);
        file.write_all(&block[..read]).map_err(StorageError::at(&at))?;
    }
    file.finish()?;
    Ok(hash.finalize().to_hex().to_string())
}
