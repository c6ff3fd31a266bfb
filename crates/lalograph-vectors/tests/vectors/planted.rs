//! Structure that was planted in a text is found again by every way of learning, and is not in random numbers. Means over five seeds.

use lalograph_net::numbers::chance::stream;
use lalograph_text::Reserved;
use lalograph_text::tokens::TokenSequence;
use lalograph_vectors::VectorTable;
use lalograph_vectors::judge::{Method, Pair, Section, analogies, similarity};
use lalograph_vectors::pieces::Pieces;
use lalograph_vectors::pmi::{Factorising, factorise};
use lalograph_vectors::train::{Direction, Settings, train};
use rand::RngExt;

const KINDS: usize = 4;
const COMPANIONS: usize = 5;
const SEEDS: u64 = 5;
const COLOURS: [&str; KINDS] = ["black", "brown", "gold", "grey"];
const PLACES: [&str; KINDS] = ["croft", "heath", "marsh", "weir"];

/// Bees of four colours from four places. Companions of its colour are before a bee, companions of its place after it.
struct Planted {
    words: Vec<String>,
    text: TokenSequence,
}

fn bee(colour: usize, place: usize) -> String {
    format!("{}-{}", COLOURS[colour], PLACES[place])
}

fn planted(documents: usize) -> Planted {
    let mut words: Vec<String> = (0..Reserved::COUNT).map(|index| format!("reserved-{index}")).collect();
    let mut index = |word: String| {
        words.push(word);
        words.len() as u32 - 1
    };
    let bees: Vec<Vec<u32>> =
        (0..KINDS).map(|colour| (0..KINDS).map(|place| index(bee(colour, place))).collect()).collect();
    let mut companions = |names: [&str; KINDS]| {
        names.map(|name| (0..COMPANIONS).map(|at| index(format!("{name}{at}"))).collect::<Vec<u32>>())
    };
    let (before, after) = (companions(COLOURS), companions(PLACES));
    let mut random = stream(11, "planted text", &[]);
    let mut indices = Vec::new();
    for _ in 0..documents {
        let (colour, place) = (random.random_range(0..KINDS), random.random_range(0..KINDS));
        let mut one = |of: &[u32]| of[random.random_range(0..COMPANIONS)];
        indices.extend([one(&before[colour]), one(&before[colour]), bees[colour][place]]);
        indices.extend([one(&after[place]), one(&after[place]), Reserved::END]);
    }
    Planted { words, text: TokenSequence::from_indices(indices) }
}

/// Any two bees: alike by as much as they share.
fn pairs() -> Vec<Pair> {
    let all: Vec<[usize; 2]> =
        (0..KINDS).flat_map(|colour| (0..KINDS).map(move |place| [colour, place])).collect();
    let mut pairs = Vec::new();
    for (at, a) in all.iter().enumerate() {
        for b in &all[at + 1..] {
            let shared = usize::from(a[0] == b[0]) + usize::from(a[1] == b[1]);
            pairs.push(Pair { words: [bee(a[0], a[1]), bee(b[0], b[1])], similarity: shared as f64 });
        }
    }
    pairs
}

/// A bee is to one of its colour from elsewhere as one of another colour is to what?
fn questions() -> Vec<Section> {
    let mut section = Section { name: "colour and place".into(), questions: Vec::new() };
    for colour in 0..KINDS {
        for place in 0..KINDS {
            let (other, elsewhere) = ((colour + 1) % KINDS, (place + 1) % KINDS);
            let [a, b] = [bee(colour, place), bee(colour, elsewhere)];
            section.questions.push([a, b, bee(other, place), bee(other, elsewhere)]);
        }
    }
    vec![section]
}

/// Means over the seeds: rank correlation, and the shares of questions answered rightly by sums and by products.
fn judged(table: impl Fn(u64) -> VectorTable) -> [f64; 3] {
    let mut sums = [0.0; 3];
    for seed in 1..=SEEDS {
        let table = table(seed);
        let right = |method| {
            let score = &analogies(&table, &questions(), method)[0];
            assert_eq!((score.known, score.questions), (KINDS * KINDS, KINDS * KINDS));
            assert!(score.right <= score.right_among_five && score.right_among_five <= score.known);
            score.right as f64 / score.known as f64
        };
        let found = similarity(&table, &pairs());
        assert_eq!(found.known, 120);
        let ([low, high], rho) = (found.interval.unwrap(), found.spearman.unwrap());
        assert!(low < rho && rho < high);
        let figures = [rho, right(Method::Additive), right(Method::Multiplicative)];
        sums.iter_mut().zip(figures).for_each(|(sum, figure)| *sum += figure / SEEDS as f64);
    }
    sums
}

#[test]
fn every_training_method_finds_the_planted_structure_and_random_vectors_do_not() {
    let Planted { words, text } = planted(4000);
    let chance = judged(|seed| {
        let mut random = stream(seed, "random vectors", &[]);
        let values = (0..words.len() * 20).map(|_| random.random_range(-1.0..1.0)).collect();
        VectorTable::new(words.clone(), 20, values).unwrap()
    });
    assert!(chance[0].abs() < 0.2 && chance[1] < 0.2 && chance[2] < 0.2, "{chance:?}");
    let default = Settings { dimensions: 20, epochs: 6, subsample: 0.0, ..Settings::default() };
    let ways = [
        default.clone(),
        Settings { direction: Direction::ContextToWord, ..default.clone() },
        Settings { negative_samples: 0, epochs: 3, ..default.clone() },
        Settings { negative_samples: 0, epochs: 3, direction: Direction::ContextToWord, ..default.clone() },
        Settings { lanes: None, ..default.clone() },
        Settings { lanes: Some(4), fixed_window: true, ..default },
    ];
    for way in ways {
        let found = judged(|seed| {
            let settings = Settings { seed, ..way.clone() };
            train(&settings, &words, &text, &mut |_, _| true).unwrap().table(&words).unwrap()
        });
        assert!(found[0] > 0.6 && found[1] > 0.8 && found[2] > 0.8, "{way:?}: {found:?}");
    }
    let counted = judged(|seed| {
        let settings = Factorising { dimensions: 20, window: 5, shift: 1.0, seed };
        factorise(&settings, &words, &text, |_| true).unwrap()
    });
    assert!(counted[0] > 0.6 && counted[1] > 0.8 && counted[2] > 0.8, "{counted:?}");
}

#[test]
fn a_word_that_was_never_seen_is_near_those_that_it_is_spelt_like() {
    let Planted { words, text } = planted(4000);
    let pieces = Some(Pieces { shortest: 4, longest: 6, rows: 2000 });
    let settings = Settings { dimensions: 20, epochs: 6, subsample: 0.0, pieces, ..Settings::default() };
    let table = train(&settings, &words, &text, &mut |_, _| true).unwrap().table(&words).unwrap();
    for (colour, unseen) in ["blackish", "brownish", "goldish", "greyish"].iter().enumerate() {
        assert_eq!(table.exact_row(unseen), None);
        let near = table.nearest(&table.vector(unseen).unwrap(), 4, &[]);
        let near: Vec<&str> = near.iter().map(|near| table.word(near.row)).collect();
        let own = near.iter().filter(|word| word.starts_with(COLOURS[colour])).count();
        assert!(own >= 3, "{unseen}: {near:?}");
    }
}

#[test]
fn progress_reports_lead_to_the_result() {
    let Planted { words, text } = planted(300);
    for lanes in [Some(1), Some(3), None] {
        let settings = Settings { dimensions: 8, epochs: 4, lanes, ..Settings::default() };
        let (mut reports, mut last) = (Vec::new(), Vec::new());
        let learnt = train(&settings, &words, &text, &mut |progress, latest| {
            reports.push(*progress);
            last = latest().table(&words).unwrap().values().to_vec();
            true
        })
        .unwrap();
        let total = 4 * text.len() as u64;
        assert!(reports.iter().all(|progress| progress.total_tokens == total));
        assert!(reports.iter().filter_map(|progress| progress.loss).all(|loss| loss > 0.0 && loss < 20.0));
        if lanes.is_some() {
            assert!(reports.is_sorted_by_key(|progress| progress.tokens));
            assert_eq!(reports.last().unwrap().tokens, total);
            assert_eq!(learnt.table(&words).unwrap().values(), last);
        }
    }
}
