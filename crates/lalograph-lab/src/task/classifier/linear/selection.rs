//! The terms of a linear classifier.

use lalograph_net::models::classifier::DocumentWindow;
use lalograph_text::{Reserved, Vocabulary};

use super::form::TermForm;
use crate::data::documents::Documents;
use crate::plan::{ClassifierPlan, TermChoice};

/// Chooses the terms by the training documents. The listed terms that are no tokens of the vocabulary come back too.
pub(super) fn choose(
    own: &ClassifierPlan,
    vocabulary: &Vocabulary,
    training: &Documents,
    classes: usize,
) -> (TermForm, Vec<String>) {
    let found = Presence::of(training, vocabulary.len(), classes);
    let all = || (Reserved::COUNT..vocabulary.len() as u32).filter(|&term| found.documents(term) > 0);
    let mut missing = Vec::new();
    let terms: Vec<u32> = match own.term_choice {
        TermChoice::All => all().collect(),
        // The vocabulary is in falling order of frequency.
        TermChoice::MostFrequent => all().take(own.terms).collect(),
        TermChoice::MutualInformation => {
            let mut ranked: Vec<(f64, u32)> =
                all().map(|term| (found.mutual_information(term), term)).collect();
            ranked.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(&b.1)));
            ranked.into_iter().take(own.terms).map(|(_, term)| term).collect()
        }
        TermChoice::Listed => {
            let mut listed = Vec::new();
            for term in &own.term_list {
                match vocabulary.index_of(term) {
                    Reserved::UNKNOWN => missing.push(term.clone()),
                    index if !listed.contains(&index) => listed.push(index),
                    _ => {}
                }
            }
            listed
        }
    };
    let documents = terms.iter().map(|&term| found.documents(term)).collect();
    let training_documents = found.all.iter().sum();
    let form =
        TermForm { terms, documents, training_documents, values: own.term_values, pairs: own.term_pairs };
    (form, missing)
}

/// In how many documents of each class each token occurs.
struct Presence {
    /// Vocabulary x classes.
    counts: Vec<u32>,
    /// Documents of each class.
    all: Vec<u64>,
}

impl Presence {
    fn of(training: &Documents, vocabulary: usize, classes: usize) -> Self {
        let mut found = Self { counts: vec![0; vocabulary * classes], all: vec![0; classes] };
        let mut last_in = vec![u32::MAX; vocabulary];
        let mut window = DocumentWindow::default();
        for number in 0..training.count() {
            window.clear();
            training.put(number, &mut window);
            let class = training.class(number) as usize;
            found.all[class] += 1;
            for &token in &window.tokens {
                if std::mem::replace(&mut last_in[token as usize], number as u32) != number as u32 {
                    found.counts[token as usize * classes + class] += 1;
                }
            }
        }
        found
    }

    fn of_term(&self, term: u32) -> &[u32] {
        let classes = self.all.len();
        &self.counts[term as usize * classes..][..classes]
    }

    /// Documents that have a term.
    fn documents(&self, term: u32) -> u64 {
        self.of_term(term).iter().map(|&count| u64::from(count)).sum()
    }

    /// Mutual information of the presence of a term and the class, in nats (Cover and Thomas, 2006, section 2.3).
    fn mutual_information(&self, term: u32) -> f64 {
        let total = self.all.iter().sum::<u64>() as f64;
        let with = self.documents(term) as f64;
        let each = self.of_term(term).iter().zip(&self.all).map(|(&present, &class)| {
            let (present, class) = (f64::from(present), class as f64);
            let of = |both: f64, presence: f64| match both {
                0.0 => 0.0,
                both => both / total * (both * total / (presence * class)).ln(),
            };
            of(present, with) + of(class - present, total - with)
        });
        each.sum()
    }
}

#[cfg(test)]
mod tests {
    use super::Presence;

    #[test]
    fn mutual_information_is_that_worked_out_by_hand() {
        // Of 8 documents, 4 of each class: the first token is in all of one class, the second in two of each, the third in three of one.
        let found = Presence { counts: vec![4, 0, 2, 2, 3, 0], all: vec![4, 4] };
        assert!((found.mutual_information(0) - 2f64.ln()).abs() < 1e-12);
        assert!(found.mutual_information(1).abs() < 1e-12);
        // H(class) = ln 2; without the term one document of five is of the first class.
        let rest = -(0.2 * 0.2f64.ln() + 0.8 * 0.8f64.ln()) * 5.0 / 8.0;
        assert!((found.mutual_information(2) - (2f64.ln() - rest)).abs() < 1e-12);
    }
}
