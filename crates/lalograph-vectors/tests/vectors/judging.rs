//! Judging, relating and reading against other ways to the same figures, on drawn input.

use lalograph_vectors::VectorTable;
use lalograph_vectors::import::read_text;
use lalograph_vectors::judge::{Method, Question, read_pairs, read_questions, relate, similarity, spearman};
use lalograph_vectors::sentence::{Weighing, distances, sentence};
use lalograph_vectors::table::cosine;
use proptest::prelude::*;

fn words(count: usize) -> Vec<String> {
    (0..count).map(|number| format!("word{number}")).collect()
}

/// A table of 6 to 12 words of three numbers, none of them zero.
fn tables() -> impl Strategy<Value = VectorTable> {
    let vector = prop::array::uniform3(-1.0f32..1.0)
        .prop_filter("vectors with a direction", |vector| vector.iter().any(|x| x.abs() > 0.1));
    prop::collection::vec(vector, 6..13)
        .prop_map(|vectors| VectorTable::new(words(vectors.len()), 3, vectors.concat()).unwrap())
}

fn dot(a: &[f64], b: &[f64]) -> f64 {
    a.iter().zip(b).map(|(a, b)| a * b).sum()
}

/// Ranks by counting who is below, half of those who are level among them; the correlation by its definition.
fn correlation_of_counted_ranks(a: &[f64], b: &[f64]) -> f64 {
    let ranks = |of: &[f64]| -> Vec<f64> {
        let rank = |x: &f64| {
            let below = of.iter().filter(|y| *y < x).count() as f64;
            let level = of.iter().filter(|y| *y == x).count() as f64;
            below + (level + 1.0) / 2.0
        };
        of.iter().map(rank).collect()
    };
    let centred = |of: Vec<f64>| -> Vec<f64> {
        let mean = of.iter().sum::<f64>() / of.len() as f64;
        of.iter().map(|x| x - mean).collect()
    };
    let (a, b) = (centred(ranks(a)), centred(ranks(b)));
    dot(&a, &b) / (dot(&a, &a) * dot(&b, &b)).sqrt()
}

proptest! {
    #[test]
    fn rank_correlations_are_those_of_counted_ranks(
        pairs in prop::collection::vec((0u8..6, -5.0f64..5.0), 4..30),
    ) {
        let (a, b): (Vec<f64>, Vec<f64>) = pairs.iter().map(|&(a, b)| (f64::from(a), b)).unzip();
        prop_assume!(a.iter().any(|x| *x != a[0]) && b.iter().any(|x| *x != b[0]));
        let rho = spearman(&a, &b).unwrap();
        prop_assert!((rho - correlation_of_counted_ranks(&a, &b)).abs() < 1e-9);
        prop_assert!((rho - spearman(&b, &a).unwrap()).abs() < 1e-12);
        // Only the order counts, and the other way round it is the opposite.
        let cubed: Vec<f64> = b.iter().map(|x| x * x * x + x).collect();
        let turned: Vec<f64> = b.iter().map(|x| -x).collect();
        prop_assert!((rho - spearman(&a, &cubed).unwrap()).abs() < 1e-12);
        prop_assert!((rho + spearman(&a, &turned).unwrap()).abs() < 1e-12);
    }

    #[test]
    fn answers_are_the_best_of_all_words_but_those_of_the_question(
        table in tables(),
        rows in prop::array::uniform3(0u32..6),
        count in 1usize..15,
    ) {
        let others: Vec<u32> = (0..table.words().len() as u32).filter(|row| !rows.contains(row)).collect();
        let unit = |row: u32| -> Vec<f64> {
            let vector: Vec<f64> = table.at(row).iter().map(|&x| f64::from(x)).collect();
            let length = dot(&vector, &vector).sqrt();
            vector.iter().map(|x| x / length).collect()
        };
        let [a, b, c] = rows.map(unit);
        let sum: Vec<f64> = (0..3).map(|at| b[at] - a[at] + c[at]).collect();
        let length = dot(&sum, &sum).sqrt();
        prop_assume!(length > 1e-2);
        for method in [Method::Additive, Method::Multiplicative] {
            let worth = |row: u32| {
                let word = unit(row);
                let share = |x: &[f64]| f64::midpoint(1.0, dot(x, &word));
                match method {
                    Method::Additive => dot(&sum, &word) / length,
                    Method::Multiplicative => share(&b) * share(&c) / (share(&a) + 1e-3),
                }
            };
            let found = relate(&table, &[Question { rows }], method, count).remove(0);
            prop_assert_eq!(found.len(), count.min(others.len()));
            let mut best: Vec<f64> = others.iter().map(|&row| worth(row)).collect();
            best.sort_by(|a, b| b.total_cmp(a));
            for (found, best) in found.iter().zip(best) {
                prop_assert!(others.contains(&found.row));
                let tolerance = 1e-3 * (1.0 + best.abs());
                prop_assert!((worth(found.row) - best).abs() < tolerance, "{method:?} {found:?} {best}");
                prop_assert!((f64::from(found.cosine) - best).abs() < tolerance, "{method:?} {found:?} {best}");
            }
        }
    }

    #[test]
    fn distances_are_those_of_directions(table in tables(), lengths in prop::collection::vec(0.1f32..9.0, 6)) {
        let texts: Vec<Vec<f32>> = (0..6)
            .map(|row| sentence(&table, &words(row + 1), Weighing::Mean, None).unwrap())
            .collect();
        prop_assume!(texts.iter().all(|text| text.iter().any(|x| x.abs() > 1e-3)));
        let longer: Vec<Vec<f32>> = texts
            .iter()
            .zip(&lengths)
            .map(|(text, factor)| text.iter().map(|x| x * factor).collect())
            .collect();
        let (apart, again) = (distances(&texts), distances(&longer));
        for a in 0..6 {
            prop_assert!(apart[a][a].abs() < 1e-6);
            for b in 0..6 {
                prop_assert!((apart[a][b] - apart[b][a]).abs() < 1e-9);
                prop_assert!((-1e-6..2.0 + 1e-6).contains(&apart[a][b]));
                prop_assert!((apart[a][b] - again[a][b]).abs() < 1e-5);
            }
        }
    }

    #[test]
    fn pairs_that_are_written_are_read(
        pairs in prop::collection::vec(("[a-z]{1,9}", "[a-z]{1,9}", -9.0f64..9.0), 1..20),
        separator in prop::sample::select(vec!["\t", ",", " "]),
    ) {
        let lines: Vec<String> =
            pairs.iter().map(|(a, b, x)| [a.clone(), b.clone(), x.to_string()].join(separator)).collect();
        let read = read_pairs(&format!("# as beekeepers judge\n{}\n", lines.join("\n"))).unwrap();
        prop_assert_eq!(read.len(), pairs.len());
        for (read, (a, b, similarity)) in read.iter().zip(&pairs) {
            prop_assert_eq!(&read.words, &[a.clone(), b.clone()]);
            prop_assert_eq!(read.similarity, *similarity);
        }
    }

    #[test]
    fn nothing_is_too_strange_to_be_read(text in ".{0,200}", lines in "([a-z0-9.,; \t#-]{0,20}\n){0,12}") {
        for text in [text, lines] {
            // Whether it can be read does not matter here, only that it is tried to the end.
            let _ = (read_pairs(&text), read_questions(&text));
            let mut bad = Vec::new();
            let read = read_text(text.as_bytes(), None, |line| bad.push(line.line), |_| true);
            if let Ok(read) = read {
                prop_assert!(read.table.values().iter().all(|x| x.is_finite()));
                prop_assert_eq!(read.table.words().len() as u64 + read.duplicates, read.vectors);
                prop_assert_eq!(read.bad_lines, bad.len() as u64);
            }
            prop_assert!(bad.is_sorted());
        }
    }
}

#[test]
fn impossible_figures_are_omitted() {
    assert_eq!(spearman(&[1.0, 1.0, 1.0], &[1.0, 2.0, 3.0]), None);
    assert_eq!(spearman(&[1.0, 2.0], &[1.0, 2.0]), None);
    let table = VectorTable::new(words(3), 2, vec![1.0, 0.0, 0.0, 1.0, 1.0, 1.0]).unwrap();
    let few = read_pairs("word0 word1 1\nword0 word2 2\nword1 word2 3\nword1 nowhere 4\n").unwrap();
    let found = similarity(&table, &few);
    assert_eq!((found.pairs, found.known, found.interval), (4, 3, None));
    assert_eq!(similarity(&table, &[]).spearman, None);
    assert!(cosine(&[1.0, 0.0], &[0.0, 0.0]).abs() < 1e-12);
    assert!(sentence(&table, &["nowhere".to_owned()], Weighing::Mean, None).is_err());
}
