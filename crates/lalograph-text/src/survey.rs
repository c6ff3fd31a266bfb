//! Looking at a corpus before anything is trained on it.
//!
//! Everything is counted in one pass, and memory does not grow with the corpus: words that do not fit, and the hashes by which duplicates are
//! found, wait in temporary files.

mod lengths;
mod pairs;

use std::collections::{BTreeMap, HashMap};

use regex::Regex;
use serde::{Deserialize, Serialize};
use unicode_properties::{GeneralCategoryGroup, UnicodeGeneralCategory};

use crate::cleaning::Cleaning;
use crate::cleaning::marks::is_mark;
use crate::corpus::{Batch, Corpus, ReadObserver, Reading};
use crate::error::TextError;
use crate::near::{NearFinder, Signature, Signer};
use crate::scratch::{Sorter, place_bytes, place_from};
use crate::tally::{MostFrequent, Tally};
use crate::words::each_word;

use lengths::lengths;
pub use lengths::{Lengths, length_keeping};
pub use pairs::PairSurvey;
use pairs::{Empty, PairCounting};

/// The start of one of the first documents.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FirstRow {
    /// Its place.
    pub place: DocumentPlace,
    /// Its class, if labels were asked for.
    pub label: Option<String>,
    /// Its text, up to the survey's limit.
    pub text: String,
}

/// Place of a document.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DocumentPlace {
    /// The file.
    pub path: String,
    /// Its first line there, from 1.
    pub line: u64,
}

/// A point of the curve of counts over ranks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RankPoint {
    /// The rank, from 1 for the most frequent word.
    pub rank: u64,
    /// Count of the word of that rank.
    pub count: u64,
    /// The number of running words that are this word or a more frequent one.
    pub covered_words: u64,
}

/// A kind of character.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum CharacterKind {
    /// The letters A to Z, large and small.
    LatinLetter,
    /// All other letters and their marks.
    OtherLetter,
    /// Digits and numbers.
    Digit,
    /// Punctuation marks and symbols.
    Mark,
    /// White space.
    Space,
    /// Control characters and all others.
    Other,
}

impl CharacterKind {
    /// All kinds.
    pub const ALL: [Self; 6] =
        [Self::LatinLetter, Self::OtherLetter, Self::Digit, Self::Mark, Self::Space, Self::Other];

    /// The kind of a character, by its Unicode general category.
    pub fn of(c: char) -> Self {
        match c {
            'A'..='Z' | 'a'..='z' => Self::LatinLetter,
            '0'..='9' => Self::Digit,
            c if c.is_whitespace() => Self::Space,
            c if is_mark(c) => Self::Mark,
            c => match c.general_category_group() {
                GeneralCategoryGroup::Letter | GeneralCategoryGroup::Mark => Self::OtherLetter,
                GeneralCategoryGroup::Number => Self::Digit,
                _ => Self::Other,
            },
        }
    }
}

/// The share of a kind of character in a text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct KindCount {
    /// The kind.
    pub kind: CharacterKind,
    /// Characters of it.
    pub characters: u64,
    /// Their bytes in UTF-8.
    pub bytes: u64,
}

/// A class and its documents.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ClassCount {
    /// The label.
    pub label: String,
    /// Documents of the class.
    pub documents: u64,
    /// Words and punctuation marks in them.
    pub words: u64,
    /// Bytes of their text.
    pub bytes: u64,
    /// Documents of the class with a match of the pattern; none without a pattern.
    pub matching_documents: Option<u64>,
}

impl ClassCount {
    fn add(&mut self, other: &Self) {
        self.documents += other.documents;
        self.words += other.words;
        self.bytes += other.bytes;
        if let Some(matching) = other.matching_documents {
            *self.matching_documents.get_or_insert(0) += matching;
        }
    }
}

/// A document that a pattern matches.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct MatchExample {
    /// Its place.
    pub place: DocumentPlace,
    /// Some text before the first match.
    pub before: String,
    /// The match.
    pub found: String,
    /// Some text after it.
    pub after: String,
}

/// Matches of a pattern.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Matches {
    /// The regular expression.
    pub pattern: String,
    /// Documents with at least one match.
    pub documents: u64,
    /// The first of them.
    pub examples: Vec<MatchExample>,
}

/// A text that is in the corpus several times.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RepeatedText {
    /// Number of times.
    pub copies: u64,
    /// First place.
    pub place: DocumentPlace,
}

/// Documents that are the same to the byte, after cleaning.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Duplicates {
    /// Documents that repeat an earlier one.
    pub documents: u64,
    /// Distinct texts that occur more than once.
    pub repeated_texts: u64,
    /// The ones with the most copies.
    pub most_repeated: Vec<RepeatedText>,
}

/// Two documents that are nearly the same.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct NearExample {
    /// Share of five-word runs that they have in common.
    pub resemblance: f64,
    /// The earlier document.
    pub earlier: DocumentPlace,
    /// The later one.
    pub later: DocumentPlace,
}

/// Documents that nearly repeat an earlier one.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct NearDuplicates {
    /// The least resemblance that counts.
    pub least_resemblance: f64,
    /// Documents that resemble an earlier one that much; equal ones are among them.
    pub documents: u64,
    /// Some pairs that are not equal, in the order of the corpus.
    pub examples: Vec<NearExample>,
}

/// Counts of a corpus. All but `bytes` is counted after the cleaning.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Survey {
    /// Files looked at.
    pub files: u64,
    /// Files and rows left out.
    pub skipped: u64,
    /// Documents.
    pub documents: u64,
    /// Bytes of their text as read.
    pub bytes: u64,
    /// Unicode code points.
    pub characters: u64,
    /// Number of distinct characters.
    pub distinct_characters: u64,
    /// Words and punctuation marks, as the word tokeniser finds them.
    pub words: u64,
    /// Number of distinct words (case matters).
    pub distinct_words: u64,
    /// Number of words that occur once.
    pub words_seen_once: u64,
    /// Document lengths.
    pub lengths: Lengths,
    /// Number of documents of each length in words; only lengths that occur.
    pub length_counts: BTreeMap<u64, u64>,
    /// The most frequent words with their counts.
    pub most_frequent: Vec<(String, u64)>,
    /// Counts over ranks, at ranks that lie ever further apart.
    pub rank_frequency: Vec<RankPoint>,
    /// The most frequent characters with their counts.
    pub most_frequent_characters: Vec<(char, u64)>,
    /// Kinds of character.
    pub kinds: Vec<KindCount>,
    /// The classes, the largest first; empty without labels.
    pub classes: Vec<ClassCount>,
    /// Documents whose labels are more than can be distinguished here.
    pub documents_of_other_classes: u64,
    /// Matches of the pattern, if any.
    pub matches: Option<Matches>,
    /// Documents that are equal.
    pub duplicates: Duplicates,
    /// Documents that are nearly equal, if they were looked for.
    pub near_duplicates: Option<NearDuplicates>,
    /// Prompts and answers, if documents are pairs.
    pub pairs: Option<PairSurvey>,
    /// The first documents.
    pub first_rows: Vec<FirstRow>,
}

/// Settings of a survey.
#[derive(Debug, Clone, Default)]
pub struct SurveySpec {
    /// Cleaning of documents.
    pub cleaning: Cleaning,
    /// MostFrequent words and characters listed.
    pub most_frequent: usize,
    /// First documents kept.
    pub first_rows: usize,
    /// Characters kept of each of them, and around each match.
    pub row_characters: usize,
    /// A pattern to look for.
    pub pattern: Option<Regex>,
    /// The least resemblance of nearly equal documents, above 0 and at most 1; none looks for equal ones only.
    pub near: Option<f64>,
    /// Examples kept of matches and duplicates.
    pub examples: usize,
}

/// Classes that are counted one by one; more than this are no classes.
const CLASSES: usize = 10_000;

/// Counts of one thread.
struct Counting {
    tally: Tally,
    ascii: [[u64; 256]; 4],
    other: HashMap<char, u64>,
    lengths: HashMap<u64, u64>,
    matching_documents: u64,
    pairs: PairCounting,
    signer: Signer,
}

impl Counting {
    fn new() -> Self {
        Self {
            tally: Tally::new(),
            ascii: [[0; 256]; 4],
            other: HashMap::new(),
            lengths: HashMap::new(),
            matching_documents: 0,
            pairs: PairCounting::default(),
            signer: Signer::default(),
        }
    }

    fn characters(&mut self, text: &str) {
        if text.is_ascii() {
            // Four tables, since counting the same letter twice in a row would wait for itself.
            let (fours, rest) = text.as_bytes().as_chunks::<4>();
            for four in fours {
                for (table, byte) in self.ascii.iter_mut().zip(four) {
                    table[usize::from(*byte)] += 1;
                }
            }
            for byte in rest {
                self.ascii[0][usize::from(*byte)] += 1;
            }
            return;
        }
        for c in text.chars() {
            match u8::try_from(c) {
                Ok(byte) if byte.is_ascii() => self.ascii[0][usize::from(byte)] += 1,
                _ => *self.other.entry(c).or_default() += 1,
            }
        }
    }
}

/// Results of one batch.
#[derive(Default)]
struct Found {
    hashes: Vec<[u8; 16]>,
    signatures: Vec<Signature>,
    classes: BTreeMap<String, ClassCount>,
    examples: Vec<MatchExample>,
    words: u64,
}

fn look(spec: &SurveySpec, counting: &mut Counting, batch: &Batch) -> Found {
    let mut found = Found::default();
    for document in batch.documents() {
        let text = spec.cleaning.apply(document.text);
        let mut words = 0;
        each_word(&text, |word| {
            words += 1;
            counting.tally.add(word);
        });
        counting.characters(&text);
        *counting.lengths.entry(words).or_default() += 1;
        found.words += words;
        let first = spec.pattern.as_ref().map(|pattern| pattern.find(&text));
        if let Some(pair) = document.pair() {
            let count = |text: &str| {
                let mut words = 0;
                each_word(&spec.cleaning.apply(text), |_| words += 1);
                words
            };
            let matches = |pattern: &Regex| pattern.is_match(&spec.cleaning.apply(pair.answer));
            let answer_matches = spec.pattern.as_ref().is_some_and(matches);
            counting.pairs.add((count(pair.prompt), count(pair.answer)), answer_matches);
        }
        if let Some(label) = document.label {
            if !found.classes.contains_key(label) {
                found.classes.insert(label.to_owned(), ClassCount::default());
            }
            if let Some(class) = found.classes.get_mut(label) {
                class.add(&ClassCount {
                    label: String::new(),
                    documents: 1,
                    words,
                    bytes: document.bytes,
                    matching_documents: first.map(|first| u64::from(first.is_some())),
                });
            }
        }
        if let Some(first) = first.flatten() {
            counting.matching_documents += 1;
            if found.examples.len() < spec.examples {
                let place = place_of(document.path, document.line);
                found.examples.push(example(place, &text, first.range(), spec.row_characters));
            }
        }
        let hash = blake3::hash(text.as_bytes());
        found.hashes.push(hash.as_bytes().first_chunk().copied().unwrap_or_default());
        if spec.near.is_some() {
            found.signatures.push(counting.signer.sign(&text));
        }
    }
    found
}

fn place_of(path: &std::path::Path, line: u64) -> DocumentPlace {
    DocumentPlace { path: path.display().to_string(), line }
}

fn example(
    place: DocumentPlace,
    text: &str,
    found: std::ops::Range<usize>,
    characters: usize,
) -> MatchExample {
    let side = characters / 8;
    let before: Vec<char> = text[..found.start].chars().rev().take(side).collect();
    MatchExample {
        place,
        before: before.into_iter().rev().collect(),
        found: text[found.clone()].chars().take(characters).collect(),
        after: text[found.end..].chars().take(side).collect(),
    }
}

/// Reads the corpus once with `threads` threads.
///
/// # Errors
/// As for [`Corpus::read`]; a stop by the observer; temporary files that cannot be written.
pub fn survey(
    corpus: &Corpus,
    spec: &SurveySpec,
    threads: usize,
    observer: &mut dyn ReadObserver,
) -> Result<(Survey, Reading), TextError> {
    let mut empty = Empty::new(corpus.spec(), observer);
    let (mut pairs, mut prompts) = (PairCounting::default(), Sorter::new());
    let mut first_rows = Vec::new();
    let mut hashes: Sorter<28> = Sorter::new();
    let mut near = spec.near.map(NearFinder::new).transpose().map_err(TextError::Scratch)?;
    let mut classes: BTreeMap<String, ClassCount> = BTreeMap::new();
    let mut documents_of_other_classes = 0;
    let mut examples = Vec::new();
    let mut words = 0;
    let (reading, counted) = corpus.process(
        threads,
        &mut empty,
        Counting::new,
        |counting, batch| look(spec, counting, batch),
        |batch, found| {
            for document in batch.documents().take(spec.first_rows - first_rows.len()) {
                let text = spec.cleaning.apply(document.text);
                first_rows.push(FirstRow {
                    place: place_of(document.path, document.line),
                    label: document.label.map(str::to_owned),
                    text: text.chars().take(spec.row_characters).collect(),
                });
            }
            words += found.words;
            examples.extend(found.examples);
            examples.truncate(spec.examples);
            for (label, class) in found.classes {
                if classes.len() >= CLASSES && !classes.contains_key(&label) {
                    documents_of_other_classes += class.documents;
                    continue;
                }
                classes.entry(label).or_default().add(&class);
            }
            let mut signatures = found.signatures.iter();
            for (document, hash) in batch.documents().zip(&found.hashes) {
                let mut record = [0; 28];
                record[..16].copy_from_slice(hash);
                record[16..].copy_from_slice(&place_bytes(document.file, document.line));
                hashes.push(record).map_err(TextError::Scratch)?;
                if let Some(pair) = document.pair() {
                    let hash = blake3::hash(pair.prompt.as_bytes());
                    let hash = hash.as_bytes().first_chunk().copied().unwrap_or_default();
                    prompts.push(hash).map_err(TextError::Scratch)?;
                }
                if let (Some(near), Some(signature)) = (&mut near, signatures.next()) {
                    near.add(&document, signature).map_err(TextError::Scratch)?;
                }
            }
            Ok(())
        },
    )?;

    let mut length_counts: BTreeMap<u64, u64> = BTreeMap::new();
    let mut characters: BTreeMap<char, u64> = BTreeMap::new();
    let mut tallies = Vec::new();
    let mut matching_documents = 0;
    for counting in counted {
        for (length, count) in counting.lengths {
            *length_counts.entry(length).or_default() += count;
        }
        for (byte, c) in (0..=127u8).map(|byte| (usize::from(byte), char::from(byte))) {
            let count: u64 = counting.ascii.iter().map(|table| table[byte]).sum();
            if count > 0 {
                *characters.entry(c).or_default() += count;
            }
        }
        for (c, count) in counting.other {
            *characters.entry(c).or_default() += count;
        }
        matching_documents += counting.matching_documents;
        pairs.merge(counting.pairs);
        tallies.push(counting.tally);
    }
    let table = WordTable::from(tallies, spec.most_frequent).map_err(TextError::Scratch)?;
    let mut most_frequent_characters: Vec<(char, u64)> = characters.iter().map(|(c, n)| (*c, *n)).collect();
    most_frequent_characters.sort_by(|(a, m), (b, n)| n.cmp(m).then(a.cmp(b)));
    most_frequent_characters.truncate(spec.most_frequent);
    let files = corpus.files();
    let place = |(file, line): (u32, u64)| {
        files
            .get(file as usize)
            .map_or_else(|| DocumentPlace { path: String::new(), line }, |path| place_of(path, line))
    };
    let mut classes: Vec<ClassCount> =
        classes.into_iter().map(|(label, count)| ClassCount { label, ..count }).collect();
    classes.sort_by(|a, b| b.documents.cmp(&a.documents).then_with(|| a.label.cmp(&b.label)));
    let survey = Survey {
        files: reading.files,
        skipped: reading.skipped_count,
        documents: reading.documents,
        bytes: reading.bytes,
        characters: characters.values().sum(),
        distinct_characters: characters.len() as u64,
        words,
        distinct_words: table.distinct,
        words_seen_once: table.counts.get(&1).copied().unwrap_or(0),
        lengths: lengths(&length_counts),
        length_counts,
        most_frequent: table.most_frequent,
        rank_frequency: rank_frequency(&table.counts),
        most_frequent_characters,
        kinds: kinds(&characters),
        classes,
        documents_of_other_classes,
        matches: spec.pattern.as_ref().map(|pattern| Matches {
            pattern: pattern.as_str().to_owned(),
            documents: matching_documents,
            examples,
        }),
        duplicates: duplicates(hashes, spec.examples, place)?,
        near_duplicates: match near {
            Some(finder) => Some(near_duplicates(finder, spec, place)?),
            None => None,
        },
        pairs: match &corpus.spec().pair {
            Some(_) => Some(pairs.finish(prompts, &empty, spec.pattern.is_some())?),
            None => None,
        },
        first_rows,
    };
    Ok((survey, reading))
}

/// The plain counts of a corpus.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PlainCounts {
    /// Files looked at.
    pub files: u64,
    /// Files and rows left out.
    pub skipped: u64,
    /// Documents.
    pub documents: u64,
    /// Bytes of their text.
    pub bytes: u64,
    /// Words and punctuation marks.
    pub words: u64,
}

/// Counts documents, bytes and words, and nothing else.
///
/// # Errors
/// As for [`Corpus::read`]; a stop by the observer.
pub fn count(
    corpus: &Corpus,
    threads: usize,
    observer: &mut dyn ReadObserver,
) -> Result<(PlainCounts, Reading), TextError> {
    let mut words = 0;
    let work = |_: &mut (), batch: &Batch| {
        let mut words = 0u64;
        for document in batch.documents() {
            each_word(document.text, |_| words += 1);
        }
        words
    };
    let (reading, _) = corpus.process(
        threads,
        observer,
        || (),
        work,
        |_, found| {
            words += found;
            Ok(())
        },
    )?;
    let counts = PlainCounts {
        files: reading.files,
        skipped: reading.skipped_count,
        documents: reading.documents,
        bytes: reading.bytes,
        words,
    };
    Ok((counts, reading))
}

/// Statistics of all words.
struct WordTable {
    distinct: u64,
    most_frequent: Vec<(String, u64)>,
    /// Number of words by count.
    counts: BTreeMap<u64, u64>,
}

impl WordTable {
    fn from(tallies: Vec<Tally>, wanted: usize) -> std::io::Result<Self> {
        let mut most_frequent = MostFrequent::new(wanted);
        let mut table = Self { distinct: 0, most_frequent: Vec::new(), counts: BTreeMap::new() };
        Tally::merge(tallies, |word, count| {
            table.distinct += 1;
            *table.counts.entry(count).or_default() += 1;
            most_frequent.offer(word, count, |_, _| {});
        })?;
        table.most_frequent =
            most_frequent.ranked().into_iter().map(|(word, count)| (word.into(), count)).collect();
        Ok(table)
    }
}

/// Points of the curve, at every rank up to ten and then at ranks a tenth apart, powers of ten among them, and at the last.
fn rank_frequency(counts: &BTreeMap<u64, u64>) -> Vec<RankPoint> {
    let mut points = Vec::new();
    let (mut wanted, mut rank, mut covered_words) = (1, 0, 0);
    let last: u64 = counts.values().sum();
    for (&count, &words) in counts.iter().rev() {
        while wanted <= rank + words {
            let covered_words = covered_words + (wanted - rank) * count;
            points.push(RankPoint { rank: wanted, count, covered_words });
            if wanted == last {
                break;
            }
            let power = 10u64.pow(wanted.ilog10() + 1);
            wanted = (wanted + 1).max(wanted * 11 / 10).min(power).min(last);
        }
        rank += words;
        covered_words += words * count;
    }
    points
}

fn kinds(characters: &BTreeMap<char, u64>) -> Vec<KindCount> {
    let mut kinds = CharacterKind::ALL.map(|kind| KindCount { kind, characters: 0, bytes: 0 });
    for (&c, &count) in characters {
        let of = CharacterKind::of(c);
        if let Some(kind) = kinds.iter_mut().find(|kind| kind.kind == of) {
            kind.characters += count;
            kind.bytes += count * c.len_utf8() as u64;
        }
    }
    kinds.into_iter().filter(|kind| kind.characters > 0).collect()
}

fn duplicates(
    hashes: Sorter<28>,
    examples: usize,
    place: impl Fn((u32, u64)) -> DocumentPlace,
) -> Result<Duplicates, TextError> {
    let mut found = Duplicates::default();
    // The first of each run of equal hashes is first in the corpus.
    let mut run: Option<([u8; 28], u64)> = None;
    let mut most: Vec<(u64, (u32, u64))> = Vec::new();
    let mut close = |run: Option<([u8; 28], u64)>| {
        if let Some((record, copies)) = run.filter(|(_, copies)| *copies > 1) {
            found.documents += copies - 1;
            found.repeated_texts += 1;
            most.push((copies, place_from(&record[16..])));
            if most.len() > examples * 2 + 16 {
                keep_most(&mut most, examples);
            }
        }
    };
    for record in hashes.finish().map_err(TextError::Scratch)? {
        let record = record.map_err(TextError::Scratch)?;
        match &mut run {
            Some((first, copies)) if first[..16] == record[..16] => *copies += 1,
            _ => close(run.replace((record, 1))),
        }
    }
    close(run);
    keep_most(&mut most, examples);
    found.most_repeated =
        most.into_iter().map(|(copies, at)| RepeatedText { copies, place: place(at) }).collect();
    Ok(found)
}

fn keep_most(most: &mut Vec<(u64, (u32, u64))>, wanted: usize) {
    most.sort_by(|a, b| b.0.cmp(&a.0).then(a.1.cmp(&b.1)));
    most.truncate(wanted);
}

fn near_duplicates(
    finder: NearFinder,
    spec: &SurveySpec,
    place: impl Fn((u32, u64)) -> DocumentPlace,
) -> Result<NearDuplicates, TextError> {
    let (pairs, places) = finder.finish().map_err(TextError::Scratch)?;
    let mut found =
        NearDuplicates { least_resemblance: spec.near.unwrap_or(1.0), documents: 0, examples: Vec::new() };
    let mut last = None;
    for pair in pairs {
        let pair = pair.map_err(TextError::Scratch)?;
        if last.replace(pair.later) == Some(pair.later) {
            continue;
        }
        found.documents += 1;
        if pair.resemblance < 1.0 && found.examples.len() < spec.examples {
            let place = |number| places.place(number).map(&place).map_err(TextError::Scratch);
            found.examples.push(NearExample {
                resemblance: pair.resemblance,
                earlier: place(pair.earlier)?,
                later: place(pair.later)?,
            });
        }
    }
    Ok(found)
}
