//! Encoded corpora that are kept between runs, so that a corpus is read once and not before every run.
//!
//! An entry is a folder named by a hash of all that decides its content: the plan's corpus and vocabulary sections, the seed and the
//! split, and the name, size and time of change of every file. `docs/formats/tokens.md` describes it.

use std::ffi::OsStr;
use std::fs;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use lalograph_storage::{Existing, Folder, Storage, WholeFile};
use lalograph_text::pairs::PairCuts;
use lalograph_text::store::{Store, StorePlace};
use lalograph_text::tokens::{EncodedCorpus, SplitKind, TokenSequence};
use lalograph_text::{Corpus, Reading, TextError, Vocabulary};
use serde::{Deserialize, Serialize};

use crate::artefact::texts::read_vocabulary;
use crate::error::LabError;
use crate::plan::{CorpusPlan, Plan};

const FORMAT: &str = "lalograph encoded corpus";
const VERSION: u32 = 1;

/// `encoded.json`: written last, so an entry that has it is complete.
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

/// A store of encoded corpora.
#[derive(Debug, Clone, Copy)]
pub struct TokenCache<'c> {
    /// The storage that the files are written to.
    pub storage: &'c dyn Storage,
    /// The folder of all entries; made if it is missing.
    pub path: &'c Path,
}

/// Bytes of all encoded corpora that are kept: beyond this those that were not used for longest go.
const KEPT_BYTES: u64 = 20_000_000_000;

const DESCRIPTION: &str = "encoded.json";
const VOCABULARY: &str = "vocabulary.json";
const STORES: [&str; 3] = ["training.tokens", "validation.tokens", "test.tokens"];

/// The place of one encoded corpus.
#[derive(Debug)]
pub(crate) struct CacheEntry<'c> {
    storage: &'c dyn Storage,
    path: PathBuf,
    /// Folders that were made for it, from the inside out.
    made: Vec<PathBuf>,
}

impl<'c> CacheEntry<'c> {
    /// The entry of a plan and its corpus, which may or may not be there.
    pub(crate) fn of(cache: TokenCache<'c>, plan: &Plan, corpus: &Corpus) -> Result<Self, LabError> {
        let mut hash = blake3::Hasher::new();
        let mut add = |bytes: &[u8]| {
            hash.update(&(bytes.len() as u64).to_le_bytes());
            hash.update(bytes);
        };
        // The seed counts where it decides something, wherever it is set.
        let text = CorpusPlan { split_seed: None, ..plan.corpus.clone() };
        let relevant = Plan { corpus: text, vocabulary: plan.vocabulary.clone(), ..Plan::default() };
        add(relevant.to_toml()?.as_bytes());
        // Where nothing is held out by chance no seed makes a difference.
        if plan.corpus.split.is_none() && plan.corpus.validation_share + plan.corpus.test_share > 0.0 {
            add(&plan.split_seed().to_le_bytes());
        }
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
        Ok(Self { storage: cache.storage, path: cache.path.join(name), made: Vec::new() })
    }

    pub(crate) fn path(&self) -> &Path {
        &self.path
    }

    /// Makes the folder and returns the places of the three token stores.
    pub(crate) fn places(&mut self) -> Result<[StorePlace; 3], LabError> {
        let missing = self.path.ancestors().take_while(|folder| !folder.exists());
        self.made = missing.map(Path::to_owned).collect();
        let folder = Folder::make(self.storage, &self.path)?;
        // The old entry is about to be replaced, and must not be read as complete meanwhile.
        folder.remove_file(DESCRIPTION)?;
        folder.sync()?;
        let [training, validation, test] = STORES.map(|name| {
            let file = Box::new(WholeFile::within(&folder, name.as_ref(), Existing::Replace)?);
            Ok::<_, LabError>(StorePlace { path: self.path.join(name), file })
        });
        Ok([training?, validation?, test?])
    }

    /// Keeps what was encoded into [`CacheEntry::places`]. A corpus of which something was left out, or guessed, is not
    /// kept, so that the next run reports it again.
    pub(crate) fn keep(&self, vocabulary: &Vocabulary, encoded: &EncodedCorpus) -> Result<(), LabError> {
        let reading = &encoded.reading;
        if reading.skipped_count + reading.guessed_count > 0 || encoded.split == SplitKind::Tail {
            self.discard();
            return Ok(());
        }
        let folder = Folder::open(self.storage, &self.path)?;
        folder.write(VOCABULARY, vocabulary.to_json()?.as_bytes(), Existing::Replace)?;
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
        folder.write(DESCRIPTION, &json, Existing::Replace)?;
        if let (Some(cache), Some(own)) = (self.path.parent(), self.path.file_name()) {
            make_room(&Folder::open(self.storage, cache)?, own, KEPT_BYTES)?;
        }
        Ok(())
    }

    /// Takes away what was stored and not kept, and the folders that were made for it. What is being read stays readable.
    pub(crate) fn discard(&self) {
        let Ok(folder) = Folder::open(self.storage, &self.path) else { return };
        for name in STORES {
            let _ = folder.remove_file(name);
        }
        for path in &self.made {
            // Those with something in them stay.
            let _ = Folder::of(self.storage, path).and_then(|(parent, name)| parent.remove_folder(name));
        }
    }

    /// Loads the cached tokens, `None` if there are none; an error if they are there and unusable.
    pub(crate) fn load(&self) -> Result<Option<(Vocabulary, EncodedCorpus)>, LabError> {
        let path = self.path.join(DESCRIPTION);
        if !path.exists() {
            return Ok(None);
        }
        let text = fs::read(&path).map_err(LabError::at(&path))?;
        let unusable = |what: String| TextError::BadStore { path: path.clone(), what };
        let description: Description =
            serde_json::from_slice(&text).map_err(|error| unusable(error.to_string()))?;
        if description.format != FORMAT || description.version != VERSION {
            return Err(unusable("its format or version is another".into()).into());
        }
        // What was used last is kept longest. Without this mark nothing else goes wrong.
        let _ = fs::File::open(&path).and_then(|file| file.set_modified(SystemTime::now()));
        let vocabulary = read_vocabulary(&self.path.join(VOCABULARY))?;
        let open = |name| Store::open(&self.path.join(name), &vocabulary).map(TokenSequence::from_store);
        let [training, validation, test] = STORES.map(open);
        let (training, validation, test) = (training?, validation?, test?);
        let Description { files, documents, bytes, text_hash, .. } = description;
        let reading = Reading { files, documents, bytes, ..Reading::default() };
        let encoded = EncodedCorpus {
            training,
            validation,
            test,
            split: SplitKind::Documents,
            reading,
            text_hash,
            // Pairs are not kept.
            cuts: PairCuts::default(),
        };
        Ok(Some((vocabulary, encoded)))
    }
}

/// Removes entries until all together are no larger than `most`: those that were used longest ago, and never `own`. Whoever reads one of them
/// continues reading it.
fn make_room(cache: &Folder, own: &OsStr, most: u64) -> Result<(), LabError> {
    let mut entries = Vec::new();
    for (name, _) in cache.entries()? {
        let path = cache.path_of(&name);
        // What is not whole is being written, or is written again under the same name.
        let Ok(used) = fs::metadata(path.join(DESCRIPTION)).and_then(|meta| meta.modified()) else {
            continue;
        };
        let files = fs::read_dir(&path).into_iter().flatten().flatten();
        let bytes: u64 = files.filter_map(|file| file.metadata().ok()).map(|meta| meta.len()).sum();
        entries.push((used, name, bytes));
    }
    entries.sort();
    let mut total: u64 = entries.iter().map(|(.., bytes)| bytes).sum();
    for (_, name, bytes) in entries.into_iter().filter(|(_, name, _)| name != own) {
        if total <= most {
            break;
        }
        // Without its description the entry is not read as complete while it is removed.
        let entry = cache.folder(&name)?;
        entry.remove_file(DESCRIPTION)?;
        entry.sync()?;
        cache.remove_all(&name)?;
        total -= bytes;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use std::time::{Duration, SystemTime};

    use lalograph_storage::{Disk, Existing, Folder};

    use super::{DESCRIPTION, make_room};

    #[test]
    fn the_least_recently_used_entry_goes_first_and_the_own_entry_stays() {
        let parent = tempfile::tempdir().unwrap();
        let cache = Folder::open(&Disk, parent.path()).unwrap();
        for (name, age) in [("a", 30), ("b", 50), ("own", 90), ("c", 10)] {
            let entry = cache.make_folder(name).unwrap();
            entry.write("training.tokens", &[0; 1000], Existing::Keep).unwrap();
            entry.write(DESCRIPTION, b"{}", Existing::Keep).unwrap();
            let used = SystemTime::now() - Duration::from_secs(age);
            let file = std::fs::File::options().write(true).open(entry.path_of(DESCRIPTION)).unwrap();
            file.set_modified(used).unwrap();
        }
        // One that is being written has no description yet.
        cache
            .make_folder("unfinished")
            .unwrap()
            .write("training.tokens", &[0; 9000], Existing::Keep)
            .unwrap();
        let left = |most| {
            make_room(&cache, "own".as_ref(), most).unwrap();
            let names = cache.entries().unwrap().into_iter().map(|(name, _)| name.into_string().unwrap());
            names.collect::<Vec<_>>()
        };
        assert_eq!(left(5000), ["a", "b", "c", "own", "unfinished"]);
        assert_eq!(left(3500), ["a", "c", "own", "unfinished"]);
        assert_eq!(left(0), ["own", "unfinished"]);
    }
}
