//! Finding a split for a corpus: by shares or by counts, balanced between classes, nearly equal documents together.

use std::collections::{BTreeMap, BTreeSet, BinaryHeap, HashMap};

use crate::corpus::{Batch, Corpus, Document, ReadObserver, Reading};
use crate::error::TextError;
use crate::near::{NearFinder, Signer};
use crate::split::{Cutoffs, Fingerprint, Part, PartCount, Split, TextKey, fingerprint};

/// Size of a part.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Amount {
    /// A share of the documents, 0 to 1.
    Share(f64),
    /// So many documents.
    Documents(u64),
}

/// Specification of a split.
#[derive(Debug, Clone, PartialEq)]
pub struct SplitSpec {
    /// The seed of the positions.
    pub seed: u64,
    /// Held out for validation during training.
    pub validation: Amount,
    /// Held out to be scored once, at the end.
    pub test: Amount,
    /// Labels whose documents are set aside.
    pub set_aside_labels: BTreeSet<String>,
    /// Documents of this estimated resemblance or more are in one part; none leaves only equal ones together.
    pub near: Option<f64>,
}

/// Makes the split of a corpus. `each` is given every document in order, with its part.
///
/// With shares, the part of a document depends on it and on the documents before it alone, so that documents added at the end
/// move none: within every class a part has its share of documents, to within one document or half a percent of the class, whichever is
/// more. With counts, the documents with the lowest positions are taken; documents added later may take their places if
/// the split is made again, and do not if the old one is used.
///
/// A near duplicate of earlier documents gets their part; if they are in several parts, it is set aside.
///
/// # Errors
/// As for [`Corpus::read`]; amounts that are more than there is; a temporary file that cannot be written; what `each` returns.
pub fn make(
    corpus: &Corpus,
    spec: &SplitSpec,
    threads: usize,
    observer: &mut dyn ReadObserver,
    mut each: impl FnMut(&Document<'_>, Part) -> Result<(), TextError>,
) -> Result<(Split, Reading), TextError> {
    let resembling = match spec.near {
        Some(threshold) => find_resembling(corpus, threshold, threads, observer)?,
        None => Resembling::default(),
    };
    let mut maker = match (spec.validation, spec.test) {
        (Amount::Share(validation), Amount::Share(test)) => {
            if !(0.0..=1.0).contains(&validation) || test < 0.0 || validation + test > 1.0 {
                return Err(TextError::Amounts(format!(
                    "the shares {validation} and {test} are above 1 together"
                )));
            }
            let split = Split::even(spec.seed, Cutoffs::shares(validation, test));
            Maker::new(split, Some([1.0 - validation - test, validation, test]), resembling)
        }
        _ => Maker::new(by_counts(corpus, spec, threads, observer)?, None, resembling),
    };
    maker.split.set_aside_labels.clone_from(&spec.set_aside_labels);
    let seed = spec.seed;
    let reading = with_fingerprints(corpus, seed, threads, observer, |document, fingerprint| {
        let part = maker.take(document, fingerprint);
        each(document, part)
    })?;
    Ok((maker.split, reading))
}

/// Counts the documents of a corpus by the parts of an existing split. `each` is given every document in order, with its part.
///
/// # Errors
/// As for [`Corpus::read`]; what `each` returns.
pub fn apply(
    mut split: Split,
    corpus: &Corpus,
    observer: &mut dyn ReadObserver,
    mut each: impl FnMut(&Document<'_>, Part) -> Result<(), TextError>,
) -> Result<(Split, Reading), TextError> {
    let mut counted: BTreeMap<Part, BTreeMap<String, PartCount>> = BTreeMap::new();
    let mut failure = None;
    let reading = corpus.read_through(observer, |document| {
        let part = split.part_of(document.parted_by(), document.label);
        let class = counted.entry(part).or_default();
        let sum = class.entry(document.label.unwrap_or_default().to_owned()).or_default();
        sum.documents += 1;
        sum.bytes += document.bytes;
        if failure.is_none() {
            failure = each(&document, part).err();
        }
    })?;
    split.counted = counted;
    failure.map_or(Ok((split, reading)), Err)
}

/// Reads the corpus through, every document with its fingerprint.
fn with_fingerprints(
    corpus: &Corpus,
    seed: u64,
    threads: usize,
    observer: &mut dyn ReadObserver,
    mut each: impl FnMut(&Document<'_>, Fingerprint) -> Result<(), TextError>,
) -> Result<Reading, TextError> {
    let work = |_: &mut (), batch: &Batch| -> Vec<Fingerprint> {
        batch.documents().map(|document| fingerprint(document.parted_by(), seed)).collect()
    };
    let (reading, _) = corpus.process(
        threads,
        observer,
        || (),
        work,
        |batch, fingerprints| {
            batch.documents().zip(fingerprints).try_for_each(|(document, of)| each(&document, of))
        },
    )?;
    Ok(reading)
}

/// For the later documents of pairs, the earlier ones that they resemble; and who is among the earlier ones.
#[derive(Default)]
struct Resembling {
    earlier: HashMap<u64, Vec<u64>>,
    named: BTreeSet<u64>,
}

fn find_resembling(
    corpus: &Corpus,
    threshold: f64,
    threads: usize,
    observer: &mut dyn ReadObserver,
) -> Result<Resembling, TextError> {
    let mut finder = NearFinder::new(threshold).map_err(TextError::Scratch)?;
    let work = |signer: &mut Signer, batch: &Batch| -> Vec<_> {
        batch.documents().map(|document| signer.sign(document.parted_by())).collect()
    };
    corpus.process(threads, observer, Signer::default, work, |batch, signatures| {
        batch
            .documents()
            .zip(&signatures)
            .try_for_each(|(document, signature)| finder.add(&document, signature))
            .map_err(TextError::Scratch)
    })?;
    let (pairs, _) = finder.finish().map_err(TextError::Scratch)?;
    let mut resembling = Resembling::default();
    for pair in pairs {
        let pair = pair.map_err(TextError::Scratch)?;
        resembling.earlier.entry(pair.later).or_default().push(pair.earlier);
        resembling.named.insert(pair.earlier);
    }
    Ok(resembling)
}

/// The cutoffs that give each class its share of documents.
fn by_counts(
    corpus: &Corpus,
    spec: &SplitSpec,
    threads: usize,
    observer: &mut dyn ReadObserver,
) -> Result<Split, TextError> {
    // For a share of a part beside a count, the documents have to be counted first.
    let most = |amount: Amount| match amount {
        Amount::Documents(count) => Some(count as usize),
        Amount::Share(_) => None,
    };
    let reach = match (most(spec.validation), most(spec.test)) {
        (Some(validation), Some(test)) => validation.saturating_add(test),
        _ => usize::MAX,
    };
    let mut classes: BTreeMap<String, (u64, BinaryHeap<u64>)> = BTreeMap::new();
    with_fingerprints(corpus, spec.seed, threads, observer, |document, fingerprint| {
        let label = document.label.unwrap_or_default();
        if spec.set_aside_labels.contains(label) {
            return Ok(());
        }
        if !classes.contains_key(label) {
            classes.insert(label.to_owned(), Default::default());
        }
        if let Some((documents, lowest)) = classes.get_mut(label) {
            *documents += 1;
            lowest.push(fingerprint.position);
            if lowest.len() > reach {
                lowest.pop();
            }
        }
        Ok(())
    })?;
    let sizes: Vec<u64> = classes.values().map(|(documents, _)| *documents).collect();
    let total: u64 = sizes.iter().sum();
    let count = |amount: Amount| match amount {
        Amount::Documents(count) => count,
        Amount::Share(share) => (share * total as f64).round() as u64,
    };
    let (validation, test) = (count(spec.validation), count(spec.test));
    if validation.saturating_add(test) > total {
        return Err(TextError::Amounts(format!(
            "{validation} and {test} documents for validation and test are more than the {total} of the corpus"
        )));
    }
    let mut split = Split::even(spec.seed, Cutoffs::shares(0.0, 0.0));
    let (of_validation, of_test) = (apportion(validation, &sizes), apportion(test, &sizes));
    for (((label, (_, lowest)), validation), test) in classes.into_iter().zip(of_validation).zip(of_test) {
        let lowest = lowest.into_sorted_vec();
        // Just above the last position that is taken; equal documents come along.
        let cut = |taken: u64| {
            taken.checked_sub(1).and_then(|last| lowest.get(last as usize)).map_or(0, |position| position + 1)
        };
        let validation_below = cut(validation);
        let cutoffs = Cutoffs { validation_below, test_below: cut(validation + test).max(validation_below) };
        if label.is_empty() {
            split.cutoffs = cutoffs;
        } else {
            split.class_cutoffs.insert(label, cutoffs);
        }
    }
    Ok(split)
}

/// Divides `count` in proportion to the sizes, whole numbers by largest remainders.
fn apportion(count: u64, sizes: &[u64]) -> Vec<u64> {
    let total = u128::from(sizes.iter().sum::<u64>().max(1));
    let exact = |size: u64| u128::from(count) * u128::from(size);
    let mut given: Vec<u64> = sizes.iter().map(|&size| (exact(size) / total) as u64).collect();
    let mut order: Vec<usize> = (0..sizes.len()).collect();
    order.sort_by_key(|&index| (std::cmp::Reverse(exact(sizes[index]) % total), index));
    let missing = count - given.iter().sum::<u64>();
    for &index in order.iter().take(missing as usize) {
        given[index] += 1;
    }
    given
}

/// Documents of a class so far, by part: training, validation, test.
type Balance = [u64; 3];

const BALANCED: [Part; 3] = [Part::Training, Part::Validation, Part::Test];

/// Gives documents their parts, in order.
struct Maker {
    split: Split,
    /// The shares to be kept within every class, where the amounts are shares.
    shares: Option<[f64; 3]>,
    classes: HashMap<String, Balance>,
    resembling: Resembling,
    /// The parts of the documents that later ones resemble.
    named: HashMap<u64, Part>,
    seen: Seen,
}

impl Maker {
    fn new(split: Split, shares: Option<[f64; 3]>, resembling: Resembling) -> Self {
        Self { split, shares, classes: HashMap::new(), resembling, named: HashMap::new(), seen: Seen::new() }
    }

    fn take(&mut self, document: &Document<'_>, of: Fingerprint) -> Part {
        let part = self.part(document, of);
        if self.resembling.named.contains(&document.number) {
            self.named.insert(document.number, part);
        }
        let label = document.label.unwrap_or_default();
        let counted = self.split.counted.entry(part).or_default();
        if !counted.contains_key(label) {
            counted.insert(label.to_owned(), PartCount::default());
        }
        if let Some(count) = counted.get_mut(label) {
            count.documents += 1;
            count.bytes += document.bytes;
        }
        part
    }

    fn part(&mut self, document: &Document<'_>, of: Fingerprint) -> Part {
        if document.label.is_some_and(|label| self.split.set_aside_labels.contains(label)) {
            return Part::SetAside;
        }
        let own = self.split.cutoffs_of(document.label).part(of.position);
        let seen = self.seen.insert(of.key);
        let part = match self.split.exceptions.get(&TextKey(of.key)) {
            Some(part) => *part,
            // A text that was somewhere before stays there; so does one that only may have.
            None if seen => own,
            None => {
                let part = match self.beside(document.number) {
                    Some(part) => part,
                    None => self.balanced(document.label, own),
                };
                if part != own {
                    self.split.exceptions.insert(TextKey(of.key), part);
                }
                part
            }
        };
        if let (Some(at), Some(_)) = (BALANCED.iter().position(|&p| p == part), self.shares) {
            self.class(document.label)[at] += 1;
        }
        part
    }

    fn class(&mut self, label: Option<&str>) -> &mut Balance {
        self.classes.entry(label.unwrap_or_default().to_owned()).or_default()
    }

    /// The part of an earlier near duplicate of this document, if there is one.
    fn beside(&self, number: u64) -> Option<Part> {
        let earlier = self.resembling.earlier.get(&number)?;
        let mut parts: Vec<Part> =
            earlier.iter().filter_map(|number| self.named.get(number).copied()).collect();
        // What is set aside is learnt from by nobody, so it may be beside anything.
        parts.retain(|&part| part != Part::SetAside);
        parts.sort_unstable();
        parts.dedup();
        match parts.as_slice() {
            [] => None,
            [one] => Some(*one),
            _ => Some(Part::SetAside),
        }
    }

    /// The part that the position gives, unless the class would be too far off its shares: then the one most behind.
    fn balanced(&mut self, label: Option<&str>, own: Part) -> Part {
        let Some(shares) = self.shares else {
            return own;
        };
        let counts = *self.class(label);
        let documents = counts.iter().sum::<u64>() as f64 + 1.0;
        let slack = (documents * 0.005).max(1.0);
        let behind = |at: usize| shares[at] * documents - counts[at] as f64;
        let off = (0..3).any(|at| {
            let after = behind(at) - f64::from(u8::from(BALANCED[at] == own));
            after.abs() > slack
        });
        if !off {
            return own;
        }
        let most = (0..3).max_by(|&a, &b| behind(a).total_cmp(&behind(b))).unwrap_or(0);
        BALANCED[most]
    }
}

/// Which texts have been met: surely not, or maybe (Bloom 1970). Its size is fixed; at ten million texts one in a few hundred
/// is mistaken for known, which only leaves that one where its position puts it.
struct Seen {
    bits: Vec<u64>,
}

const SEEN_BITS: u128 = 1 << 27;

impl Seen {
    fn new() -> Self {
        Self { bits: vec![0; (SEEN_BITS / 64) as usize] }
    }

    /// Marks a text; true if it may have been marked before.
    fn insert(&mut self, key: u128) -> bool {
        let mut known = true;
        for turn in 0..4 {
            let bit = (key >> (turn * 32)) % SEEN_BITS;
            let (word, mask) = ((bit / 64) as usize, 1u64 << (bit % 64));
            known &= self.bits[word] & mask != 0;
            self.bits[word] |= mask;
        }
        known
    }
}

#[cfg(test)]
mod tests {
    use super::apportion;

    #[test]
    fn counts_are_divided_by_largest_remainders() {
        assert_eq!(apportion(10, &[50, 30, 20]), [5, 3, 2]);
        assert_eq!(apportion(7, &[1, 1, 1]), [3, 2, 2]);
        assert_eq!(apportion(1, &[10, 11]), [0, 1]);
        assert_eq!(apportion(0, &[3]), [0]);
        assert_eq!(apportion(3, &[]).len(), 0);
    }
}
