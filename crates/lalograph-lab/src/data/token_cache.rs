//! Encoded corpora that are kept between runs, so that a corpus is read once and not before every run.
//!
//! An entry is a folder named by a hash of all that decides its content: the plan's corpus and vocabulary sections, the seed and the
//! split, and the name, size and time of change of every file. `docs/formats/tokens.md` describes it.

use std::fs;
use std::path::{Path, PathBuf};

use lalograph_text::store::{Store, StorePlace};
use lalograph_text::tokens::{EncodedCorpus, SplitKind, TokenSequence};
use lalograph_text::{Corpus, Reading, TextError, Vocabulary};
use serde::{Deserialize, Serialize};

use crate::error::LabError;
use crate::plan::Plan;
use crate::storage::files::{Existing, WholeFile, read_vocabulary, write_whole};

const FORMAT: &str = "lalograph encoded corpus";
const VERSION: u32 = 1;

/// `encoded.json`: written last, so that an entry that has it is whole.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Description {
    format: String,
    version: u32,
    files: u64,
    documents: u64,
    bytes: u64,
    text_hash: String,
}

/// The place of one encoded corpus.
#[derive(Debug)]
pub(crate) struct CacheEntry {
    folder: PathBuf,
    /// Folders that were made for it, from the inside out.
    made: Vec<PathBuf>,
}

impl CacheEntry {
    /// The entry of a plan and its corpus, which may or may not be there.
    pub(crate) fn of(cache: &Path, plan: &Plan, corpus: &Corpus) -> Result<Self, LabError> {
        let mut hash = blake3::Hasher::new();
        let mut add = |bytes: &[u8]| {
            hash.update(&(bytes.len() as u64).to_le_bytes());
            hash.update(bytes);
        };
        let relevant =
            Plan { corpus: plan.corpus.clone(), vocabulary: plan.vocabulary.clone(), ..Plan::default() };
        add(relevant.to_toml()?.as_bytes());
        add(&plan.training.seed.to_le_bytes());
        for path in [&plan.corpus.split, &plan.vocabulary.file].into_iter().flatten() {
            add(&fs::read(path).map_err(LabError::at(path))?);
        }
        for path in corpus.files() {
            let meta = fs::metadata(path).map_err(LabError::at(path))?;
            let changed =
                meta.modified().ok().and_then(|time| time.duration_since(std::time::UNIX_EPOCH).ok());
            add(path.as_os_str().as_encoded_bytes());
            add(&meta.len().to_le_bytes());
            add(&changed.unwrap_or_default().as_nanos().to_le_bytes());
        }
        let name: String = hash.finalize().to_hex().chars().take(24).collect();
        Ok(Self { folder: cache.join(name), made: Vec::new() })
    }

    pub(crate) fn folder(&self) -> &Path {
        &self.folder
    }

    /// Where the parts are stored, ready to be written; makes the folder.
    pub(crate) fn places(&mut self) -> Result<[StorePlace; 3], LabError> {
        let missing = self.folder.ancestors().take_while(|folder| !folder.exists());
        self.made = missing.map(Path::to_owned).collect();
        fs::create_dir_all(&self.folder).map_err(LabError::at(&self.folder))?;
        // What stands there is about to be replaced, and must not be taken for whole meanwhile.
        let description = self.description();
        if description.exists() {
            fs::remove_file(&description).map_err(LabError::at(&description))?;
        }
        let [training, validation, test] = self.stores().map(|path| {
            let file = Box::new(WholeFile::create(&path, Existing::Replace)?);
            Ok::<_, LabError>(StorePlace { path, file })
        });
        Ok([training?, validation?, test?])
    }

    fn stores(&self) -> [PathBuf; 3] {
        ["training.tokens", "validation.tokens", "test.tokens"].map(|name| self.folder.join(name))
    }

    fn description(&self) -> PathBuf {
        self.folder.join("encoded.json")
    }

    fn vocabulary(&self) -> PathBuf {
        self.folder.join("vocabulary.json")
    }

    /// Keeps what was encoded into [`CacheEntry::places`]. A corpus of which something was left out, or guessed, is not
    /// kept, so that this is said again before the next run.
    pub(crate) fn keep(&self, vocabulary: &Vocabulary, encoded: &EncodedCorpus) -> Result<(), LabError> {
        let reading = &encoded.reading;
        if reading.skipped_count + reading.guessed_count > 0 || encoded.split == SplitKind::Tail {
            self.discard();
            return Ok(());
        }
        write_whole(&self.vocabulary(), vocabulary.to_json().as_bytes(), Existing::Replace)?;
        let description = Description {
            format: FORMAT.into(),
            version: VERSION,
            files: reading.files,
            documents: reading.documents,
            bytes: reading.bytes,
            text_hash: encoded.text_hash.clone(),
        };
        let json =
            serde_json::to_vec_pretty(&description).map_err(|error| LabError::Write(error.to_string()))?;
        write_whole(&self.description(), &json, Existing::Replace)
    }

    /// Takes away the folders that were made for nothing: those with something in them stay.
    pub(crate) fn discard(&self) {
        for folder in &self.made {
            let _ = fs::remove_dir(folder);
        }
    }

    /// What was kept, if it was; an error if it is there and cannot be used.
    pub(crate) fn load(&self) -> Result<Option<(Vocabulary, EncodedCorpus)>, LabError> {
        let path = self.description();
        if !path.exists() {
            return Ok(None);
        }
        let text = fs::read(&path).map_err(LabError::at(&path))?;
        let unusable = |what: String| TextError::BadStore { path: path.clone(), what };
        let description: Description =
            serde_json::from_slice(&text).map_err(|error| unusable(error.to_string()))?;
        if description.format != FORMAT || description.version != VERSION {
            return Err(unusable("it is of another form or version".into()).into());
        }
        let vocabulary = read_vocabulary(&self.vocabulary())?;
        let open = |path: &PathBuf| Store::open(path, &vocabulary).map(TokenSequence::from_store);
        let [training, validation, test] = self.stores();
        let (training, validation, test) = (open(&training)?, open(&validation)?, open(&test)?);
        let Description { files, documents, bytes, text_hash, .. } = description;
        let reading = Reading { files, documents, bytes, ..Reading::default() };
        let encoded =
            EncodedCorpus { training, validation, test, split: SplitKind::Documents, reading, text_hash };
        Ok(Some((vocabulary, encoded)))
    }
}
