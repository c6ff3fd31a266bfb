//! An n-gram model: interpolated modified Kneser-Ney smoothing (Chen and Goodman, 1998).
//!
//! With h for the tokens before w, h' for h without its first token, and c for counts,
//!
//! ```text
//! p(w | h) = max(c(hw) - D(c(hw)), 0) / c(h.) + g(h) p(w | h'),   g(h) = (D1 N1(h) + D2 N2(h) + D3 N3+(h)) / c(h.)
//! ```
//!
//! where `c(h.)` sums over all w and `Nk(h)` counts the w that were seen k times after h. At the highest order, and for n-grams that begin with a document,
//! c is how often an n-gram was seen; below it is the number of different tokens that were seen before it. The last term, of no context at all, is uniform.
//! Discounts are those of the paper for each order: `Y = n1 / (n1 + 2 n2)`, `Dk = k - (k + 1) Y n(k+1) / nk`; where the text is so small that this
//! is not between 0 and k, half of k.

use foldhash::fast::FixedState;
use hashbrown::HashMap;
use lalograph_text::Reserved;
use lalograph_text::tokens::TokenSequence;

use super::{Predictor, predicted};
use crate::error::LabError;

/// The highest order that can be asked for.
const HIGHEST_ORDER: usize = 32;

/// The n-grams of one length.
#[derive(Debug, Default)]
struct Level {
    /// By the n-gram without its last token, and that token.
    numbers: HashMap<(u32, u32), u32, FixedState>,
    counts: Vec<u32>,
    discounts: [f64; 3],
}

/// Counts of the tokens after an n-gram.
#[derive(Debug, Clone, Copy, Default)]
struct Context {
    /// The sum of the counts of what follows.
    total: f64,
    /// The share that is left to the shorter context.
    left: f64,
}

/// An n-gram model of a training text. Its memory grows with the different n-grams of the text, about 30 bytes for each.
///
/// ```
/// use lalograph_lab::measure::baseline::{NgramModel, Predictor};
/// use lalograph_text::tokens::TokenSequence;
///
/// // Two documents: 4 5 and 4 6; 3 is the end of a document.
/// let text = TokenSequence::from_indices(vec![4, 5, 3, 4, 6, 3]);
/// let model = NgramModel::new(2, 7, &text, |_| true)?;
/// let first = model.reader().probability(4);
/// assert!(first > model.reader().probability(5));
/// # Ok::<(), lalograph_lab::LabError>(())
/// ```
#[derive(Debug)]
pub struct NgramModel {
    /// The n-grams of length n, at n - 1.
    levels: Vec<Level>,
    /// Of length n at n, from none at all.
    contexts: Vec<Vec<Context>>,
    uniform: f64,
}

/// A position in a text: the last n tokens as an n-gram, for every n below the order.
#[derive(Debug, Clone)]
struct Place {
    /// By length; none for an n-gram that was never seen.
    numbers: Vec<Option<u32>>,
    /// Tokens since the document began, the start token included, up to the longest context.
    known: usize,
}

impl NgramModel {
    /// Counts the n-grams of up to `order` tokens in a text over `size` indices. `progress` is given the share done and stops the work by returning `false`.
    ///
    /// # Errors
    /// An order of 0 or above 32; more n-grams of a length than can be numbered; a stop.
    pub fn new(
        order: usize,
        size: usize,
        text: &TokenSequence,
        mut progress: impl FnMut(f64) -> bool,
    ) -> Result<Self, LabError> {
        if !(1..=HIGHEST_ORDER).contains(&order) {
            return Err(LabError::Order { order, highest: HIGHEST_ORDER });
        }
        let mut model = Self {
            levels: (0..order).map(|_| Level::default()).collect(),
            contexts: Vec::new(),
            uniform: 1.0 / predicted(size) as f64,
        };
        let beginning = model.begin_counting()?;
        let mut place = beginning.clone();
        for (at, token) in text.iter().enumerate() {
            model.count(&mut place, token)?;
            if token == Reserved::END {
                place.clone_from(&beginning);
            }
            if at % (1 << 16) == 0 && !progress(at as f64 / text.len() as f64) {
                return Err(lalograph_text::TextError::Stopped.into());
            }
        }
        text.check()?;
        model.finish();
        Ok(model)
    }

    /// The order.
    pub fn order(&self) -> usize {
        self.levels.len()
    }

    /// Different n-grams of the highest order.
    pub fn ngrams(&self) -> usize {
        self.levels.last().map_or(0, |level| level.numbers.len())
    }

    /// The place of a document's beginning; the start token becomes an n-gram that was never predicted.
    fn begin_counting(&mut self) -> Result<Place, LabError> {
        let order = self.order();
        let mut numbers = vec![None; order];
        numbers[0] = Some(0);
        if order > 1 {
            numbers[1] = Some(self.levels[0].number(0, Reserved::START)?.0);
        }
        Ok(Place { numbers, known: usize::from(order > 1) })
    }

    fn count(&mut self, place: &mut Place, token: u32) -> Result<(), LabError> {
        let order = self.order();
        let mut longer_is_new = false;
        let mut next = vec![None; order];
        next[0] = Some(0);
        for length in (0..=place.known).rev() {
            // While counting, what was read was also numbered.
            let before = place.numbers[length].unwrap_or_default();
            let (number, new) = self.levels[length].number(before, token)?;
            // The longest is seen as often as it occurs; the others as often as something else came before them.
            if length == place.known || longer_is_new {
                self.levels[length].counts[number as usize] += 1;
            }
            longer_is_new = new;
            if length + 1 < order {
                next[length + 1] = Some(number);
            }
        }
        *place = Place { numbers: next, known: (place.known + 1).min(order - 1) };
        Ok(())
    }

    fn finish(&mut self) {
        let mut before = 1;
        for level in &mut self.levels {
            level.discounts = discounts(&level.counts);
            let mut sums = vec![(0u64, [0u64; 3]); before];
            for (&(context, _), &number) in &level.numbers {
                let count = level.counts[number as usize];
                if count > 0 {
                    let (total, kinds) = &mut sums[context as usize];
                    *total += u64::from(count);
                    kinds[count.min(3) as usize - 1] += 1;
                }
            }
            let context = |(total, kinds): (u64, [u64; 3])| {
                let taken: f64 =
                    kinds.iter().zip(level.discounts).map(|(&kind, discount)| kind as f64 * discount).sum();
                let total = total as f64;
                Context { total, left: if total > 0.0 { taken / total } else { 1.0 } }
            };
            self.contexts.push(sums.into_iter().map(context).collect());
            before = level.counts.len();
        }
    }

    /// Reads a text from the beginning of a document.
    pub fn reader(&self) -> NgramReader<'_> {
        let order = self.order();
        let mut numbers = vec![None; order];
        numbers[0] = Some(0);
        if order > 1 {
            numbers[1] = self.levels[0].numbers.get(&(0, Reserved::START)).copied();
        }
        let beginning = Place { numbers, known: usize::from(order > 1) };
        NgramReader { model: self, place: beginning.clone(), beginning }
    }
}

impl Level {
    /// The number of an n-gram, and whether it was given only now.
    fn number(&mut self, before: u32, token: u32) -> Result<(u32, bool), LabError> {
        let next = u32::try_from(self.counts.len()).map_err(|_| LabError::TooManyNgrams)?;
        let number = *self.numbers.entry((before, token)).or_insert(next);
        if number == next {
            self.counts.push(0);
        }
        Ok((number, number == next))
    }
}

/// D1, D2 and D3 of n-grams with these counts.
fn discounts(counts: &[u32]) -> [f64; 3] {
    let seen = |times: u32| counts.iter().filter(|&&count| count == times).count() as f64;
    let n = [seen(1), seen(2), seen(3), seen(4)];
    let y = n[0] / (n[0] + 2.0 * n[1]);
    [1, 2, 3].map(|k| {
        let most = k as f64;
        let discount = most - (most + 1.0) * y * n[k] / n[k - 1];
        // Not a number where nothing was seen so often.
        if discount > 0.0 && discount < most { discount } else { most / 2.0 }
    })
}

/// A text under an [`NgramModel`], token by token.
#[derive(Debug, Clone)]
pub struct NgramReader<'m> {
    model: &'m NgramModel,
    place: Place,
    beginning: Place,
}

impl NgramReader<'_> {
    /// The probability of a token, without continuing.
    pub fn of(&self, token: u32) -> f64 {
        let mut probability = self.model.uniform;
        let lengths = self.model.levels.iter().zip(&self.model.contexts).zip(&self.place.numbers);
        for ((level, contexts), number) in lengths.take(self.place.known + 1) {
            // Where a context was never seen, no longer one was.
            let Some(number) = *number else { break };
            let Context { total, left } = contexts[number as usize];
            if total > 0.0 {
                let count =
                    level.numbers.get(&(number, token)).map_or(0, |&number| level.counts[number as usize]);
                let discount = count.min(3).checked_sub(1).map_or(0.0, |kind| level.discounts[kind as usize]);
                probability = (f64::from(count) - discount) / total + left * probability;
            }
        }
        probability
    }

    /// Goes on by a token.
    pub fn read(&mut self, token: u32) {
        if token == Reserved::END {
            self.place.clone_from(&self.beginning);
            return;
        }
        let order = self.model.order();
        for length in (0..self.place.known.min(order.saturating_sub(2)) + 1).rev() {
            if length + 1 < order {
                let before = self.place.numbers[length];
                self.place.numbers[length + 1] = before
                    .and_then(|before| self.model.levels[length].numbers.get(&(before, token)).copied());
            }
        }
        self.place.known = (self.place.known + 1).min(order - 1);
    }
}

impl Predictor for NgramReader<'_> {
    fn probability(&mut self, token: u32) -> f64 {
        let probability = self.of(token);
        self.read(token);
        probability
    }
}
