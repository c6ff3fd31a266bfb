//! Tokens that a tuned model has and its base has not: what their vectors start from.

use lalograph_net::Layout;
use lalograph_text::Reserved;
use lalograph_text::tokens::TokenSequence;

use crate::plan::NewVectors;

/// Tokens behind those of a base.
#[derive(Debug)]
pub(crate) struct Growth {
    /// Indices of the base.
    old: usize,
    vectors: NewVectors,
    /// For each new token, the old tokens beside it in the training text and how often.
    beside: Vec<Vec<(u32, u32)>>,
    /// For each new token the logarithm of its share of what was unknown; none for tokens that the text does not have.
    share: Vec<Option<f64>>,
}

impl Growth {
    /// The tokens from `old` on of a vocabulary of `all`, with their neighbours in a text. Marks of pairs among them (`marks`) have no neighbours.
    pub(crate) fn of(
        text: &TokenSequence,
        (old, all): (usize, usize),
        marks: &[u32],
        vectors: NewVectors,
    ) -> Self {
        let mut beside = vec![std::collections::BTreeMap::<u32, u32>::new(); all - old];
        let mut counts = vec![0u64; all - old];
        let mut unknown = 0;
        let known = |index: u32| index >= Reserved::COUNT && (index as usize) < old;
        let mut before = None;
        for (at, index) in text.iter().enumerate() {
            unknown += u64::from(index == Reserved::UNKNOWN);
            if let Some(new) = (index as usize).checked_sub(old).filter(|_| !marks.contains(&index)) {
                counts[new] += 1;
                let after = (at + 1 < text.len()).then(|| text.index(at + 1));
                for neighbour in before.into_iter().chain(after).filter(|&neighbour| known(neighbour)) {
                    *beside[new].entry(neighbour).or_default() += 1;
                }
            }
            before = Some(index);
        }
        let total = unknown + counts.iter().sum::<u64>();
        let share = counts.iter().map(|&count| (count > 0).then(|| (count as f64 / total as f64).ln()));
        Self {
            old,
            vectors,
            share: share.collect(),
            beside: beside.into_iter().map(|beside| beside.into_iter().collect()).collect(),
        }
    }

    /// Fills the rows of new tokens in a tensor of the layout that has a row for each of the vocabulary's last tokens; the rows of old tokens are there.
    /// Marks, and all tokens if vectors are random, keep their first values.
    pub(crate) fn fill(&self, layout: &Layout, name: &str, weights: &mut [f32]) {
        let Some(tensor) = layout.tensor(name).filter(|_| self.vectors != NewVectors::Random) else {
            return;
        };
        let all = self.old + self.share.len();
        let (rows, width) = (tensor.shape[0], tensor.shape.iter().skip(1).product::<usize>());
        // The index of the first row, if the tensor has the last tokens only.
        let first = all - rows;
        let own = &mut weights[tensor.range.clone()];
        let (old_rows, new_rows) = own.split_at_mut((self.old - first) * width);
        let row = |index: usize| index.checked_sub(first).map(|at| &old_rows[at * width..][..width]);
        let is_bias = tensor.shape.len() == 1;
        for (number, new) in new_rows.chunks_exact_mut(width).enumerate() {
            let Some(share) = self.share[number] else { continue };
            let unknown = row(Reserved::UNKNOWN as usize);
            let beside =
                self.beside[number].iter().filter_map(|&(old, count)| Some((row(old as usize)?, count)));
            match (unknown, is_bias || self.vectors == NewVectors::Unknown) {
                // What the unknown token was expected with is shared out.
                (Some(unknown), true) => {
                    let added = if is_bias { share as f32 } else { 0.0 };
                    new.iter_mut().zip(unknown).for_each(|(new, unknown)| *new = unknown + added);
                }
                _ => mean_into(new, beside),
            }
        }
    }
}

/// The mean of rows by their counts; without any row nothing changes.
fn mean_into<'r>(to: &mut [f32], rows: impl Iterator<Item = (&'r [f32], u32)>) {
    let (mut sum, mut count) = (vec![0.0f64; to.len()], 0.0);
    for (row, times) in rows {
        count += f64::from(times);
        sum.iter_mut().zip(row).for_each(|(sum, &x)| *sum += f64::from(x) * f64::from(times));
    }
    if count > 0.0 {
        to.iter_mut().zip(sum).for_each(|(to, sum)| *to = (sum / count) as f32);
    }
}

#[cfg(test)]
mod tests {
    use lalograph_net::Layout;
    use lalograph_net::weights::layout::Initial;
    use lalograph_text::tokens::TokenSequence;

    use super::Growth;
    use crate::plan::NewVectors;

    /// A table of seven rows of two numbers, its bias, and a table of the last four tokens; six tokens are old.
    fn layout() -> Layout {
        let mut layout = Layout::default();
        let group = layout.group("output");
        for (name, shape) in [("table", &[8, 2][..]), ("bias", &[8]), ("cluster", &[4, 1])] {
            layout.push(name, shape, group, Initial::Constant(0.0));
        }
        layout
    }

    fn filled(vectors: NewVectors) -> Vec<f32> {
        // The new tokens 6 and 7, the second a mark; 4 and 5 are words, 1 is unknown, 3 the end.
        let text = TokenSequence::from_indices(vec![4, 6, 5, 1, 6, 5, 7, 3, 6, 3]);
        let growth = Growth::of(&text, (6, 8), &[7], vectors);
        let layout = layout();
        let mut weights: Vec<f32> = (0..layout.len()).map(|at| at as f32).collect();
        for tensor in layout.tensors() {
            growth.fill(&layout, &tensor.name, &mut weights);
        }
        // Old tokens and the mark are as they were.
        for at in (0..12).chain(14..16).chain(16..22).chain([23, 24, 25, 27]) {
            assert_eq!(weights[at], at as f32, "{at}");
        }
        weights
    }

    #[test]
    fn new_rows_are_means_of_neighbours_or_the_unknown_tokens_and_biases_share_out_its_probability() {
        // Beside token 6: token 4 once, token 5 twice; it is three of the four tokens without an old index.
        let share = 0.75f32.ln();
        let beside = filled(NewVectors::Beside);
        assert_eq!(beside[12..14], [(8.0 + 2.0 * 10.0) / 3.0, (9.0 + 2.0 * 11.0) / 3.0]);
        assert!((beside[22] - (17.0 + share)).abs() < 1e-6);
        assert_eq!(beside[26], (24.0 + 2.0 * 25.0) / 3.0);
        let unknown = filled(NewVectors::Unknown);
        assert_eq!(unknown[12..14], [2.0, 3.0]);
        assert!((unknown[22] - (17.0 + share)).abs() < 1e-6);
        // A table without the unknown token takes the mean.
        assert_eq!(unknown[26], beside[26]);
        let random = filled(NewVectors::Random);
        assert!((0..28).all(|at| random[at] == at as f32));
    }
}
