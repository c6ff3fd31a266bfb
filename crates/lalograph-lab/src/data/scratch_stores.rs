//! Stores of tokens for one run, in files that are gone when it ends.

use std::path::PathBuf;

use lalograph_storage::{Disk, Existing, Folder, WholeFile};
use lalograph_text::TextError;
use lalograph_text::store::StorePlace;
use tempfile::TempDir;

use crate::error::LabError;

/// Corpora of more bytes, as they lie on disk, are encoded into stores, so that memory does not grow with the text.
const IN_MEMORY: u64 = 64_000_000;

/// Whether a corpus of so many bytes is encoded into stores.
pub(crate) fn is_large(bytes: u64) -> bool {
    bytes > IN_MEMORY
}

/// A folder for temporary files, and in it the places of the three parts of a corpus. Stores that are open stay readable when the folder is
/// dropped, and then nothing is left of them but their contents.
///
/// # Errors
/// The folder or a file cannot be made.
pub(crate) fn scratch_stores() -> Result<(TempDir, [StorePlace; 3]), LabError> {
    let made = tempfile::Builder::new().prefix("lalograph-").tempdir().map_err(TextError::Scratch)?;
    let folder = Folder::open(&Disk, made.path())?;
    let place = |name: &str| -> Result<StorePlace, LabError> {
        let path: PathBuf = made.path().join(name);
        let file = Box::new(WholeFile::within(&folder, name.as_ref(), Existing::Keep)?);
        Ok(StorePlace { path, file })
    };
    let places = [place("training")?, place("validation")?, place("test")?];
    Ok((made, places))
}

#[cfg(test)]
mod tests {
    use lalograph_text::tokens::{HeldOut, Learnt, encode_corpus};
    use lalograph_text::vocabulary::VocabularySpec;
    use lalograph_text::{Corpus, CorpusSpec, Unit, VocabularyBuilder};

    use super::{is_large, scratch_stores};

    #[test]
    fn stores_have_the_tokens_and_classes_of_memory_and_outlive_their_folder() {
        let folder = tempfile::tempdir().unwrap();
        let rows =
            (0..90).map(|i| format!("bee {i} hums by the {} hive,{}\n", i % 7, ["low", "high"][i % 2]));
        let path = folder.path().join("rows.csv");
        let table = format!("text,class\n{}", rows.collect::<String>());
        lalograph_storage::write_whole(
            &lalograph_storage::Disk,
            &path,
            table.as_bytes(),
            lalograph_storage::Existing::Keep,
        )
        .unwrap();
        let spec = CorpusSpec { paths: vec![path], label: Some("class".into()), ..CorpusSpec::default() };
        let corpus = Corpus::find(&spec).unwrap();
        let unit = VocabularySpec { unit: Unit::Word, ..VocabularySpec::default() };
        let mut go_on = |_: u64| true;
        let (builder, _) = VocabularyBuilder::count(&unit, &corpus, 1, &mut go_on, |_| true).unwrap();
        let vocabulary = builder.finish(1).unwrap();
        let held_out = HeldOut::Share { seed: 1, share: 0.2, test: 0.2 };
        let classes = ["high".to_owned(), "low".to_owned()];
        let mut encoded = |stores| {
            encode_corpus(&corpus, &vocabulary, &held_out, Learnt::Classes(&classes), stores, 2, &mut go_on)
                .unwrap()
        };
        let memory = encoded(None);
        let (made, stores) = scratch_stores().unwrap();
        let stored = encoded(Some(stores));
        let place = made.path().to_owned();
        drop(made);
        assert!(!place.exists());
        let parts = [
            (&memory.training, &stored.training),
            (&memory.validation, &stored.validation),
            (&memory.test, &stored.test),
        ];
        for (memory, stored) in parts {
            assert!(!memory.is_empty() && memory.iter().eq(stored.iter()));
            let documents = memory.totals.documents;
            assert!((0..documents).all(|number| memory.label(number) == stored.label(number)));
            assert!((0..documents).all(|number| memory.document(number) == stored.document(number)));
            stored.check().unwrap();
        }
        assert!(is_large(100_000_000) && !is_large(1_000_000));
    }
}
