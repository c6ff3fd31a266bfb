//! The spacing model: how likely white space is between two words.

use foldhash::fast::FixedState;
use hashbrown::HashMap;
use serde::Deserialize;

use crate::vocabulary::MOST_COUNTED;
use crate::words::each_word;

/// Line ends in a gap, at most, and spaces or tabs behind them, at most, for the gap to have a shape; others are spelt.
const LINES: u16 = 3;
const WIDTH: u16 = 40;
/// Numbers of shapes; the first beyond them represents those that are spelt.
const SHAPES: u16 = (2 * LINES + 1) * (2 * WIDTH + 1);
/// Code points that are white space, and the end of a gap that is spelt.
const SPELT: f64 = 26.0;

/// One side of a gap: the edge of the document, a letter, a digit, another character that is not ASCII, or the ASCII mark itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
struct Side(u8);

/// Values of a side, all below this.
const SIDES: usize = 128;

impl Side {
    const EDGE: Self = Self(0);
    const LETTER: Self = Self(b'a');
    const DIGIT: Self = Self(b'0');
    const OTHER: Self = Self(1);

    fn of(c: Option<char>) -> Self {
        match c {
            None => Self::EDGE,
            Some(c) if c.is_alphabetic() => Self::LETTER,
            Some(c) if c.is_numeric() => Self::DIGIT,
            Some(c) if c.is_ascii() && !c.is_ascii_control() => Self(c as u8),
            Some(_) => Self::OTHER,
        }
    }

    /// Its text in files.
    fn name(self) -> String {
        match self {
            Self::EDGE => String::new(),
            Self::OTHER => char::REPLACEMENT_CHARACTER.to_string(),
            Self(byte) => char::from(byte).to_string(),
        }
    }

    /// Reads what [`Side::name`] wrote.
    fn named(name: &str) -> Option<Self> {
        let mut characters = name.chars();
        let side = Self::of(characters.next());
        (characters.next().is_none() && side.name() == name).then_some(side)
    }
}

/// The number of a gap's shape, if it has one: up to three line ends of one kind, and up to 40 spaces or tabs behind them.
fn shape(gap: &str) -> Option<u16> {
    let (first, end) = if gap.starts_with('\r') { (LINES, "\r\n") } else { (0, "\n") };
    let (mut rest, mut lines) = (gap, 0);
    while lines < LINES
        && let Some(after) = rest.strip_prefix(end)
    {
        (rest, lines) = (after, lines + 1);
    }
    let (space, first_width) = if rest.starts_with('\t') { (b'\t', WIDTH) } else { (b' ', 0) };
    if rest.len() > WIDTH.into() || rest.bytes().any(|byte| byte != space) {
        return None;
    }
    let ends = if lines > 0 { first + lines } else { 0 };
    Some(ends * (2 * WIDTH + 1) + first_width + rest.len() as u16)
}

/// The gap of a shape.
fn gap_of(shape: u16) -> String {
    let (ends, width) = (shape / (2 * WIDTH + 1), shape % (2 * WIDTH + 1));
    let (end, lines) = if ends > LINES { ("\r\n", ends - LINES) } else { ("\n", ends) };
    let (space, width) = if width > WIDTH { ("\t", width - WIDTH) } else { (" ", width) };
    end.repeat(lines.into()) + &space.repeat(width.into())
}

/// The number of a gap's shape; [`SHAPES`] where it has none.
#[inline]
fn shape_number(gap: &str) -> u16 {
    match gap {
        "" => 0,
        " " => 1,
        _ => shape(gap).unwrap_or(SHAPES),
    }
}

/// White space in a text, with the word behind it; none at the end of the text.
pub(crate) struct Gap<'t> {
    before: Side,
    after: Side,
    text: &'t str,
    pub(crate) word: Option<&'t str>,
}

/// Calls `each` with every word and the white space before it, and with the white space at the end.
#[inline]
pub(crate) fn each_gap<'t>(text: &'t str, mut each: impl FnMut(Gap<'t>)) {
    let (mut end, mut before) = (0, Side::EDGE);
    each_word(text, |word| {
        let start = word.as_ptr().addr() - text.as_ptr().addr();
        let after = Side::of(word.chars().next());
        each(Gap { before, after, text: &text[end..start], word: Some(word) });
        end = start + word.len();
        before = Side::of(word.chars().next_back());
    });
    each(Gap { before, after: Side::EDGE, text: &text[end..], word: None });
}

/// Counts of gaps by the characters on both sides. The probability of a gap is interpolated with that of the gap anywhere, and this with
/// equal shares, each time with the weight that Witten and Bell give to what was not seen (1991); a gap without a shape is spelt besides,
/// with the same bits for every white space character and for its end. The probabilities of all gaps between two characters sum to at most one.
///
/// ```
/// use lalograph_text::spelling::SpacingModel;
///
/// let mut model = SpacingModel::default();
/// model.learn("a word and a word, and another one");
/// let costs = model.costs();
/// assert!(costs.bits("so, it is") < costs.bits("so , it is"));
/// ```
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(try_from = "Vec<Line>")]
pub struct SpacingModel {
    /// By [`key`].
    counts: HashMap<u32, u64, FixedState>,
}

/// A count in a file: the characters before and after the gap, and the gap, null if it has no shape.
pub(crate) type Line = (String, String, Option<String>, u64);

#[inline]
fn key(before: Side, after: Side, shape: u16) -> u32 {
    u32::from(before.0) << 24 | u32::from(after.0) << 16 | u32::from(shape)
}

fn unkeyed(key: u32) -> (Side, Side, u16) {
    (Side((key >> 24) as u8), Side((key >> 16) as u8), key as u16)
}

impl SpacingModel {
    /// Counts the gaps of a text.
    pub fn learn(&mut self, text: &str) {
        each_gap(text, |gap| self.count(&gap));
    }

    /// Counts one gap.
    #[inline]
    pub(crate) fn count(&mut self, gap: &Gap<'_>) {
        *self.counts.entry(key(gap.before, gap.after, shape_number(gap.text))).or_default() += 1;
    }

    /// Adds the counts of another.
    pub fn add(&mut self, other: &Self) {
        other.counts.iter().for_each(|(key, count)| *self.counts.entry(*key).or_default() += count);
    }

    /// Whether nothing was counted.
    pub fn is_empty(&self) -> bool {
        self.counts.is_empty()
    }

    /// The counts as they are written in files.
    pub(crate) fn lines(&self) -> Vec<Line> {
        let mut counts: Vec<(u32, u64)> = self.counts.iter().map(|(key, count)| (*key, *count)).collect();
        counts.sort_unstable();
        let line = |(key, count)| {
            let (before, after, shape) = unkeyed(key);
            (before.name(), after.name(), (shape < SHAPES).then(|| gap_of(shape)), count)
        };
        counts.into_iter().map(line).collect()
    }

    /// The bits of every gap.
    pub fn costs(&self) -> SpacingCosts {
        let shapes = usize::from(SHAPES) + 1;
        let mut anywhere = vec![0; shapes];
        let mut between: Vec<Vec<u64>> = vec![vec![0; shapes]];
        let mut rows = vec![0; SIDES * SIDES];
        for (&key, &count) in &self.counts {
            let (before, after, shape) = unkeyed(key);
            anywhere[usize::from(shape)] += count;
            let row: &mut u16 = &mut rows[SpacingCosts::place(before, after)];
            if *row == 0 {
                *row = between.len() as u16;
                between.push(vec![0; shapes]);
            }
            between[usize::from(*row)][usize::from(shape)] += count;
        }
        let even = vec![1.0 / shapes as f64; shapes];
        let anywhere = interpolated(&anywhere, &even);
        let bits = between
            .iter()
            .flat_map(|counts| interpolated(counts, &anywhere))
            .map(|probability| -probability.log2())
            .collect();
        SpacingCosts { rows, bits }
    }
}

/// Probabilities of counts, interpolated with others by the number of kinds that were seen.
fn interpolated(counts: &[u64], otherwise: &[f64]) -> Vec<f64> {
    let total: u64 = counts.iter().sum();
    let kinds = counts.iter().filter(|&&count| count > 0).count() as f64;
    if total == 0 {
        return otherwise.to_vec();
    }
    let all = total as f64 + kinds;
    counts.iter().zip(otherwise).map(|(&count, otherwise)| (count as f64 + kinds * otherwise) / all).collect()
}

impl TryFrom<Vec<Line>> for SpacingModel {
    type Error = String;

    fn try_from(lines: Vec<Line>) -> Result<Self, String> {
        let mut counts = HashMap::default();
        let mut total = 0u64;
        for (before, after, gap, count) in lines {
            let side =
                |name: &str| Side::named(name).ok_or_else(|| format!("`{name}` is not one side of a gap"));
            let shape = match &gap {
                None => SHAPES,
                Some(gap) => {
                    shape(gap).ok_or_else(|| format!("`{}` is no gap with a shape", gap.escape_debug()))?
                }
            };
            total = total.saturating_add(count);
            if total > MOST_COUNTED {
                return Err("the counts of gaps are larger than any text".to_owned());
            }
            if counts.insert(key(side(&before)?, side(&after)?, shape), count).is_some() || count == 0 {
                return Err(format!(
                    "the gap between `{before}` and `{after}` is counted twice, or not at all"
                ));
            }
        }
        Ok(Self { counts })
    }
}

/// The bits of every gap under a [`SpacingModel`].
#[derive(Debug, Clone)]
pub struct SpacingCosts {
    /// For both sides, the row of bits; the first where nothing was counted between them.
    rows: Vec<u16>,
    bits: Vec<f64>,
}

impl SpacingCosts {
    #[inline]
    fn place(before: Side, after: Side) -> usize {
        usize::from(before.0) * SIDES + usize::from(after.0)
    }

    /// The bits of a gap.
    #[inline]
    pub(crate) fn of(&self, gap: &Gap<'_>) -> f64 {
        let shape = shape_number(gap.text);
        let row = usize::from(self.rows[Self::place(gap.before, gap.after)]);
        let bits = self.bits[row * (usize::from(SHAPES) + 1) + usize::from(shape)];
        if shape < SHAPES { bits } else { bits + (gap.text.chars().count() + 1) as f64 * SPELT.log2() }
    }

    /// The bits of all gaps of a text.
    pub fn bits(&self, text: &str) -> f64 {
        let mut sum = 0.0;
        each_gap(text, |gap| sum += self.of(&gap));
        sum
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::{Gap, SHAPES, SPELT, Side, SpacingModel, each_gap, gap_of, shape_number};

    #[test]
    fn every_shape_has_a_number_of_its_own() {
        for number in 0..SHAPES {
            assert_eq!(shape_number(&gap_of(number)), number);
        }
        for other in ["\r", " \n", "\n\n\n\n", " \t", "\u{a0}", &" ".repeat(41)] {
            assert_eq!(shape_number(other), SHAPES, "{other:?}");
        }
    }

    #[test]
    fn gaps_by_hand() {
        let mut model = SpacingModel::default();
        model.learn("a b, c");
        // Gaps: the edge and a, a and b, b and the comma, the comma and c, c and the edge: two spaces in five, two kinds.
        let shapes = f64::from(SHAPES) + 1.0;
        let space = (2.0 + 2.0 / shapes) / 7.0;
        let between_letters = (1.0 + space) / 2.0;
        let gap = |text| Gap { before: Side::LETTER, after: Side::LETTER, text, word: None };
        let costs = model.costs();
        assert!((costs.of(&gap(" ")) + between_letters.log2()).abs() < 1e-12);
        // Nothing was counted between a digit and a letter; four white space characters are spelt with an end.
        let after_digit = Gap { before: Side::DIGIT, after: Side::LETTER, text: " \n \n", word: None };
        let spelt = (2.0 / shapes / 7.0).log2();
        assert!((costs.of(&after_digit) + spelt - 5.0 * SPELT.log2()).abs() < 1e-9);
    }

    proptest! {
        #[test]
        fn words_and_gaps_are_the_text(text in any::<String>()) {
            let mut whole = String::new();
            each_gap(&text, |gap| {
                whole.push_str(gap.text);
                whole.push_str(gap.word.unwrap_or_default());
                assert!(gap.text.chars().all(char::is_whitespace));
            });
            prop_assert_eq!(whole, text);
        }

        #[test]
        fn gaps_sum_to_one_between_any_two_sides(texts in prop::collection::vec("[ab1,.\u{e9} \n\t]{0,20}", 0..9)) {
            let mut model = SpacingModel::default();
            texts.iter().for_each(|text| model.learn(text));
            let costs = model.costs();
            for row in costs.bits.chunks(usize::from(SHAPES) + 1) {
                let sum: f64 = row.iter().map(|bits| (-bits).exp2()).sum();
                prop_assert!((sum - 1.0).abs() < 1e-9);
            }
            let json = serde_json::to_string(&model.lines()).unwrap();
            prop_assert_eq!(serde_json::from_str::<SpacingModel>(&json).unwrap(), model);
        }
    }

    #[test]
    fn damaged_counts_are_refused() {
        for bad in [
            r#"[["a", "b", " ", 1]]"#,
            r#"[["a", "a", " \n", 1]]"#,
            r#"[["a", "a", " ", 1], ["a", "a", " ", 2]]"#,
            r#"[["a", "a", " ", 0]]"#,
            r#"[["a", "a", " ", 18446744073709551615], ["a", "0", " ", 1]]"#,
        ] {
            serde_json::from_str::<SpacingModel>(bad).unwrap_err();
        }
    }
}
