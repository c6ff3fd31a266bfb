//! Evaluation of vectors against known similarities and analogies.

use serde::{Deserialize, Serialize};

use crate::error::VectorError;
use crate::table::{Neighbour, VectorTable, cosine};

/// Formula that answers "a is to b as c is to ?".
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Method {
    /// The word nearest to b - a + c, all of them of length 1 (Mikolov, Yih and Zweig, 2013).
    #[default]
    Additive,
    /// The word with the greatest product of similarities to b and c over that to a (Levy and Goldberg, 2014).
    Multiplicative,
}

/// A question: `a` is to `b` as `c` is to what?
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Question {
    /// Rows of a, b and c.
    pub rows: [u32; 3],
}

/// Keeps the multiplicative method from dividing by nothing.
const LEAST: f32 = 1e-3;

/// Answers questions, many at once: the best `count` words for each, never one of the three that were given.
pub fn relate(
    table: &VectorTable,
    questions: &[Question],
    method: Method,
    count: usize,
) -> Vec<Vec<Neighbour>> {
    let without: Vec<&[u32]> = questions.iter().map(|question| &question.rows[..]).collect();
    match method {
        Method::Additive => {
            let vector = |question: &Question| {
                let [a, b, c] = question.rows.map(|row| table.direction(row));
                let numbers = a.iter().zip(b).zip(c).map(|((a, b), c)| b - a + c);
                numbers.collect::<Vec<f32>>()
            };
            let vectors: Vec<f32> = questions.iter().flat_map(vector).collect();
            table.nearest_of_all(&vectors, count, &without)
        }
        Method::Multiplicative => {
            let vectors: Vec<f32> = questions
                .iter()
                .flat_map(|question| question.rows.map(|row| table.direction(row).to_vec()))
                .flatten()
                .collect();
            table.best_of_all(&vectors, questions.len(), count, &without, |cosines, per| {
                let share = |cosine: f32| (1.0 + cosine) / 2.0;
                cosines
                    .chunks_exact(per)
                    .map(|three| share(three[1]) * share(three[2]) / (share(three[0]) + LEAST))
                    .collect()
            })
        }
    }
}

/// Two words and how alike people found them.
#[derive(Debug, Clone, PartialEq)]
pub struct Pair {
    /// The words.
    pub words: [String; 2],
    /// The similarity, on any scale.
    pub similarity: f64,
}

/// Rank correlation of cosines with given similarities.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Similarity {
    /// Pairs of the file.
    pub pairs: usize,
    /// Pairs of which both words have vectors.
    pub known: usize,
    /// Spearman's rank correlation over those; none for fewer than three, or where all are alike.
    pub spearman: Option<f64>,
    /// The ends of its 95 % confidence interval, by Fisher's transformation with the standard error of Bonett and Wright (2000); none for fewer than four pairs.
    pub interval: Option<[f64; 2]>,
}

/// Judges a table by pairs of words.
pub fn similarity(table: &VectorTable, pairs: &[Pair]) -> Similarity {
    let (mut given, mut found) = (Vec::new(), Vec::new());
    for pair in pairs {
        let [a, b] = pair.words.each_ref().map(|word| table.vector(word));
        if let (Ok(a), Ok(b)) = (a, b) {
            given.push(pair.similarity);
            found.push(cosine(&a, &b));
        }
    }
    let spearman = spearman(&given, &found);
    let count = given.len() as f64;
    let interval = spearman.filter(|rho| given.len() > 3 && rho.abs() < 1.0).map(|rho| {
        let error = ((1.0 + rho * rho / 2.0) / (count - 3.0)).sqrt();
        [-1.96, 1.96].map(|z| (rho.atanh() + z * error).tanh())
    });
    Similarity { pairs: pairs.len(), known: given.len(), spearman, interval }
}

/// Spearman's rank correlation; equal values share the mean of their ranks.
pub fn spearman(a: &[f64], b: &[f64]) -> Option<f64> {
    let (a, b) = (ranks(a), ranks(b));
    let count = a.len() as f64;
    let mean = |ranks: &[f64]| ranks.iter().sum::<f64>() / count;
    let (middle_a, middle_b) = (mean(&a), mean(&b));
    let sum = |f: &dyn Fn(f64, f64) -> f64| -> f64 {
        a.iter().zip(&b).map(|(x, y)| f(x - middle_a, y - middle_b)).sum()
    };
    let spread = (sum(&|x, _| x * x) * sum(&|_, y| y * y)).sqrt();
    (a.len() > 2 && spread > 0.0).then(|| sum(&|x, y| x * y) / spread)
}

fn ranks(values: &[f64]) -> Vec<f64> {
    let mut order: Vec<usize> = (0..values.len()).collect();
    order.sort_by(|&a, &b| values[a].total_cmp(&values[b]));
    let mut ranks = vec![0.0; values.len()];
    let mut first = 0;
    while first < order.len() {
        let same = order[first..].iter().take_while(|&&at| values[at] == values[order[first]]).count();
        let rank = first as f64 + (same as f64 + 1.0) / 2.0;
        order[first..first + same].iter().for_each(|&at| ranks[at] = rank);
        first += same;
    }
    ranks
}

/// Questions with their answers, under a heading.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Section {
    /// The heading.
    pub name: String,
    /// a, b, c and the answer.
    pub questions: Vec<[String; 4]>,
}

/// Right answers of a section.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct SectionScore {
    /// The heading.
    pub name: String,
    /// Questions of the file.
    pub questions: usize,
    /// Questions of which all four words have vectors.
    pub known: usize,
    /// Questions answered first.
    pub right: usize,
    /// Questions answered among the first five.
    pub right_among_five: usize,
}

/// Judges a table by questions.
pub fn analogies(table: &VectorTable, sections: &[Section], method: Method) -> Vec<SectionScore> {
    sections
        .iter()
        .map(|section| {
            let known = section.questions.iter().filter_map(|words| {
                let [a, b, c, answer] = words.each_ref().map(|word| table.row(word));
                Some((Question { rows: [a?, b?, c?] }, answer?))
            });
            let (questions, answers): (Vec<Question>, Vec<u32>) = known.unzip();
            let found = relate(table, &questions, method, 5);
            let right = |among: usize| {
                let right = |(found, answer): &(&Vec<Neighbour>, &u32)| {
                    found.iter().take(among).any(|neighbour| neighbour.row == **answer)
                };
                found.iter().zip(&answers).filter(right).count()
            };
            SectionScore {
                name: section.name.clone(),
                questions: section.questions.len(),
                known: questions.len(),
                right: right(1),
                right_among_five: right(5),
            }
        })
        .collect()
}

/// Reads pairs: two words and a number on every line, with tabs, commas or spaces between them. A line that begins with `#` says nothing; a first line whose third field is no number is a head.
///
/// # Errors
/// A line that is none of these.
pub fn read_pairs(text: &str) -> Result<Vec<Pair>, VectorError> {
    let mut pairs = Vec::new();
    for (number, line) in lines_of(text) {
        let fields = fields(line);
        let wrong = |what: String| VectorError::Line { line: number, what };
        let [a, b, similarity] = fields[..] else {
            return Err(wrong(format!("two words and a number are expected, not {} fields", fields.len())));
        };
        match similarity.parse::<f64>().ok().filter(|x| x.is_finite()) {
            Some(similarity) => pairs.push(Pair { words: [a.to_owned(), b.to_owned()], similarity }),
            None if pairs.is_empty() && number == 1 => {}
            None => return Err(wrong(format!("`{similarity}` is not a finite number"))),
        }
    }
    Ok(pairs)
}

/// Reads questions: four words on every line; a line that begins with `#` is the heading of those after it.
///
/// # Errors
/// A line of another number of words.
pub fn read_questions(text: &str) -> Result<Vec<Section>, VectorError> {
    let mut sections: Vec<Section> = Vec::new();
    for (number, line) in text.lines().enumerate().map(|(at, line)| (at as u64 + 1, line.trim())) {
        if let Some(name) = line.strip_prefix('#') {
            sections.push(Section { name: name.trim().to_owned(), questions: Vec::new() });
        } else if !line.is_empty() {
            let words = fields(line);
            let count = words.len();
            let question: [&str; 4] = words.try_into().map_err(|_| VectorError::Line {
                line: number,
                what: format!("four words are expected, not {count}"),
            })?;
            if sections.is_empty() {
                sections.push(Section { name: "all".to_owned(), questions: Vec::new() });
            }
            if let Some(section) = sections.last_mut() {
                section.questions.push(question.map(str::to_owned));
            }
        }
    }
    sections.retain(|section| !section.questions.is_empty());
    Ok(sections)
}

/// Lines with something to say, by their numbers.
fn lines_of(text: &str) -> impl Iterator<Item = (u64, &str)> {
    let numbered = text.lines().enumerate().map(|(at, line)| (at as u64 + 1, line.trim()));
    numbered.filter(|(_, line)| !line.is_empty() && !line.starts_with('#'))
}

fn fields(line: &str) -> Vec<&str> {
    let separator = ['\t', ';', ','].into_iter().find(|&separator| line.contains(separator));
    match separator {
        Some(separator) => line.split(separator).map(str::trim).collect(),
        None => line.split_whitespace().collect(),
    }
}

#[cfg(test)]
mod tests {
    use super::{Method, Question, analogies, read_pairs, read_questions, relate, similarity, spearman};
    use crate::VectorTable;
    use crate::table::cosine;
    use lalograph_net::numbers::chance::stream;
    use rand::RngExt;

    #[test]
    fn rank_correlations_worked_out_by_hand() {
        assert_eq!(spearman(&[1.0, 2.0, 3.0, 4.0], &[10.0, 20.0, 40.0, 30.0]), Some(0.8));
        // Ranks 1, 2.5, 2.5, 4 against 1, 2, 3, 4: 4.5 over the root of 4.5 times 5.
        let tied = spearman(&[0.0, 1.0, 1.0, 2.0], &[1.0, 2.0, 3.0, 4.0]).unwrap();
        assert!((tied - (4.5f64 / 5.0).sqrt()).abs() < 1e-12);
        assert_eq!(spearman(&[1.0, 1.0, 1.0], &[1.0, 2.0, 3.0]), None);
        assert_eq!(spearman(&[1.0, 2.0], &[1.0, 2.0]), None);
    }

    fn table() -> VectorTable {
        let mut random = stream(4, "test", &[]);
        let values = (0..60 * 8).map(|_| random.random_range(-1.0f32..1.0)).collect();
        VectorTable::new((0..60).map(|i| format!("w{i}")).collect(), 8, values).unwrap()
    }

    #[test]
    fn answers_are_those_of_the_formulas() {
        let table = table();
        let questions: Vec<Question> =
            (0..12).map(|i| Question { rows: [i, 3 * i + 1, 4 * i + 2] }).collect();
        for method in [Method::Additive, Method::Multiplicative] {
            for (question, found) in questions.iter().zip(relate(&table, &questions, method, 3)) {
                let [a, b, c] = question.rows;
                let figure = |row: u32| {
                    let of = |other: u32| cosine(table.at(row), table.at(other));
                    match method {
                        Method::Additive => of(b) - of(a) + of(c),
                        Method::Multiplicative => {
                            (1.0 + of(b)) / 2.0 * ((1.0 + of(c)) / 2.0) / ((1.0 + of(a)) / 2.0 + 1e-3)
                        }
                    }
                };
                let mut plain: Vec<u32> = (0..60).filter(|row| !question.rows.contains(row)).collect();
                plain.sort_by(|&x, &y| figure(y).total_cmp(&figure(x)));
                let rows: Vec<u32> = found.iter().map(|neighbour| neighbour.row).collect();
                assert_eq!(rows, plain[..3], "{method:?}");
            }
        }
        assert!(relate(&table, &[], Method::Additive, 3).is_empty());
    }

    #[test]
    fn files_are_read_and_wrong_lines_are_named() {
        let pairs = read_pairs("a\tb\tlikeness\nw1\tw2\t3.5\n\n# a comment\nw3\tw4\t1\nw5\tzz\t0\n").unwrap();
        assert_eq!(pairs.len(), 3);
        let found = similarity(&table(), &pairs);
        assert_eq!((found.pairs, found.known, found.spearman), (3, 2, None));
        assert!(read_pairs("w1 w2 3\nw1 w2 much\n").unwrap_err().to_string().contains("line 2"));
        assert!(read_pairs("w1 w2\n").unwrap_err().to_string().contains("2 fields"));
        let sections =
            read_questions("# one\nw1 w2 w3 w4\n# two words\nw5\tw6\tw7\tzz\n# nothing\n").unwrap();
        assert_eq!((sections.len(), sections[1].name.as_str()), (2, "two words"));
        let scores = analogies(&table(), &sections, Method::Additive);
        assert_eq!((scores[0].known, scores[1].known, scores[1].questions), (1, 0, 1));
        assert!(read_questions("a b c\n").unwrap_err().to_string().contains("line 1"));
    }

    #[test]
    fn planted_relations_are_found_and_likeness_has_an_interval() {
        // The second of each pair is the first and one step in a direction of its own.
        let mut random = stream(8, "test", &[]);
        let mut values = Vec::new();
        for _ in 0..6 {
            let base: Vec<f32> = (0..12).map(|_| random.random_range(-1.0f32..1.0)).collect();
            values.extend(base.iter().chain([0.0, 0.0].iter()));
            values.extend(base.iter().chain([1.0, 0.5].iter()));
        }
        let words: Vec<String> = (0..12).map(|i| format!("w{i}")).collect();
        let table = VectorTable::new(words, 14, values).unwrap();
        let mut text = String::from("# steps\n");
        for (a, c) in (0..6).flat_map(|a| (0..6).map(move |c| (a, c))).filter(|(a, c)| a != c) {
            text.push_str(&format!("w{} w{} w{} w{}\n", 2 * a, 2 * a + 1, 2 * c, 2 * c + 1));
        }
        for method in [Method::Additive, Method::Multiplicative] {
            let scores = analogies(&table, &read_questions(&text).unwrap(), method);
            assert_eq!((scores[0].known, scores[0].right_among_five), (30, 30));
            assert!(scores[0].right >= 27, "{method:?}: {scores:?}");
        }
        let pairs =
            (0..6).map(|i| format!("w{} w{} 9\nw{} w{} 1\n", 2 * i, 2 * i + 1, 2 * i, (2 * i + 4) % 12));
        let found = similarity(&table, &read_pairs(&pairs.collect::<String>()).unwrap());
        let [low, high] = found.interval.unwrap();
        let rho = found.spearman.unwrap();
        assert!(rho > 0.8 && low < rho && rho < high && high < 1.0, "{found:?}");
    }
}
