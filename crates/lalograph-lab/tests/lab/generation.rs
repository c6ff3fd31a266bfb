//! Writing text: batches, beams and stops against plain ways of doing the same.

use std::sync::Arc;

use lalograph_lab::writing::batch::{Batch, Finished, Joining};
use lalograph_lab::writing::beam::Beam;
use lalograph_lab::writing::conversation::Conversation;
use lalograph_lab::writing::decoding::Decoding;
use lalograph_lab::writing::generator::{Ended, Generator, Request, Sample, Stop, Terms};
use lalograph_lab::{LabError, ModelFile, Plan, ReadyModel, Trained};
use lalograph_net::numbers::chance::stream;
use lalograph_net::weights::first_values::first_values;
use lalograph_net::{LanguageModel, Network};
use lalograph_text::{Reserved, VocabularyBuilder};

/// A small model of a few words that nobody trained: its distributions are uneven enough, and every text is possible.
fn model(words: &str, settings: &[&str]) -> ModelFile {
    let base = ["model.embedding=5", "model.hidden=6", "model.layers=2", "vocabulary.minimum_count=1"];
    let plan = Plan::with_settings(&[&base[..], settings].concat()).unwrap();
    let mut builder = VocabularyBuilder::new(&plan.vocabulary.spec());
    builder.add(words);
    let vocabulary = builder.finish(1).unwrap();
    let model = LanguageModel::new(plan.shape(vocabulary.len())).unwrap();
    // Larger than a model begins with, so that one token matters to the next.
    let weights = first_values::<f32>(model.layout(), 3).iter().map(|w| w * 3.0).collect();
    ModelFile { plan, vocabulary, trained: Trained::default(), model, weights }
}

fn with<R>(file: &ModelFile, work: impl FnOnce(&mut Generator) -> R) -> R {
    work(&mut Generator::new(Arc::new(ReadyModel::new(file.clone()))))
}

fn request(decoding: &Decoding, stop: &Stop, tokens: usize) -> Request<'static> {
    let terms = Terms { stop: stop.clone(), ..Terms::new(*decoding, tokens) };
    Request { seed_text: "the hive", terms }
}

fn search(file: &ModelFile, beam: &Beam, tokens: usize, seed: u64) -> Vec<(Sample, f64)> {
    let stop = Stop::default();
    with(file, |generator| {
        let mut random = stream(seed, "beam", &[]);
        generator
            .search(&request(&Decoding::GREEDY, &stop, tokens), beam, &mut random, &mut |_| true)
            .unwrap()
    })
}

const BEAM: Beam = Beam { width: 1, length_power: 0.0, best: 1, random: false };

/// Every text of at most so many tokens with its log-probability, one token at a time by `next` on the text so far; `admitted` has the tokens
/// that may be written share the whole of each distribution.
fn all_texts(file: &ModelFile, tokens: usize, admitted: bool) -> Vec<(Vec<u32>, f64)> {
    let words: Vec<String> = (Reserved::COUNT..file.vocabulary.len() as u32)
        .map(|index| String::from_utf8_lossy(file.vocabulary.token(index).unwrap()).into_owned())
        .collect();
    let mut found = Vec::new();
    let mut open = vec![(Vec::new(), "the hive".to_owned(), 0.0)];
    for step in 0..tokens {
        let mut next = Vec::new();
        for (indices, text, log) in &open {
            let mut next_tokens = with(file, |generator| generator.next(text).unwrap());
            next_tokens.retain(|token| token.index >= Reserved::END);
            let whole = if admitted { next_tokens.iter().map(|token| token.probability).sum() } else { 1.0 };
            for token in next_tokens {
                let mut indices: Vec<u32> = indices.clone();
                indices.push(token.index);
                let log = log + (token.probability / whole).ln();
                if token.index == Reserved::END || step + 1 == tokens {
                    found.push((indices, log));
                } else {
                    let word = &words[(token.index - Reserved::COUNT) as usize];
                    next.push((indices, format!("{text} {word}"), log));
                }
            }
        }
        open = next;
    }
    found
}

#[test]
fn a_beam_as_wide_as_all_texts_finds_the_best_of_them() {
    let file = model("the hive bee", &[]);
    let mut all = all_texts(&file, 4, false);
    // Three words and the end: with the reserved start, texts that end early and those that do not.
    assert_eq!(all.len(), 1 + 3 + 9 + 27 * 4);
    for length_power in [0.0, 0.7, 1.0] {
        let beam = Beam { width: 200, best: 200, length_power, ..BEAM };
        all.sort_by(|a, b| beam.score(b.1, b.0.len()).total_cmp(&beam.score(a.1, a.0.len())));
        let found = search(&file, &beam, 4, 1);
        assert_eq!(found.len(), all.len());
        for ((sample, score), (indices, log)) in found.iter().zip(&all) {
            assert_eq!(&sample.indices, indices);
            assert!((sample.log_probability() - log).abs() < 1e-4, "{} {log}", sample.log_probability());
            assert!((score - beam.score(*log, indices.len())).abs() < 1e-4);
        }
        // Fewer of the best are the first of them.
        let few = search(&file, &Beam { best: 3, ..beam }, 4, 1);
        assert_eq!(few[..], found[..3]);
    }
}

#[test]
fn a_beam_of_one_is_greedy_and_wider_ones_find_no_less_likely_texts() {
    let stop = Stop::default();
    for (cell, softmax) in [("lstm", "full"), ("gru", "clustered"), ("plain_tanh", "full")] {
        let cell = format!("model.cell={cell}");
        let settings = [cell.as_str(), &format!("model.softmax={softmax}"), "model.clusters=[6]"];
        let file = model("the hive bee queen drone comb smoke", &settings);
        let greedy = with(&file, |generator| {
            let random = stream(1, "sampling", &[]);
            generator.write(&request(&Decoding::GREEDY, &stop, 12), random, |_| true).unwrap()
        });
        let found = search(&file, &BEAM, 12, 1);
        assert_eq!(found[0].0.indices, greedy.indices, "{settings:?}");
        assert_eq!(found[0].0.text, greedy.text);
        let wide = search(&file, &Beam { width: 40, ..BEAM }, 12, 1);
        assert!(wide[0].1 >= found[0].1 - 1e-6, "{} {}", wide[0].1, found[0].1);
    }
}

/// The first text of a random beam is drawn as the model has it; all of them differ.
#[test]
fn random_beams_draw_without_drawing_twice() {
    let file = model("the hive bee", &[]);
    let all = all_texts(&file, 2, true);
    let beam = Beam { width: 4, best: 4, random: true, ..BEAM };
    let draws = 4000;
    let mut counts = vec![0u32; all.len()];
    for seed in 0..draws {
        let found = search(&file, &beam, 2, seed);
        for (at, (sample, _)) in found.iter().enumerate() {
            assert!(found[..at].iter().all(|(other, _)| other.indices != sample.indices), "drawn twice");
        }
        counts[all.iter().position(|(indices, _)| *indices == found[0].0.indices).unwrap()] += 1;
    }
    let statistic: f64 = all
        .iter()
        .zip(&counts)
        .map(|((_, log), &count)| {
            let expected = draws as f64 * log.exp();
            (f64::from(count) - expected).powi(2) / expected
        })
        .sum();
    // The 99.9 % point for 12 degrees of freedom.
    assert!(all.len() == 13 && statistic < 32.91, "{statistic}");
}

#[test]
fn texts_written_side_by_side_are_those_written_alone() {
    let stop = Stop::default();
    let mut ended_early = 0;
    for cell in ["lstm", "gru", "plain_relu"] {
        let file = model("the hive bee queen drone comb smoke clover", &[&format!("model.cell={cell}")]);
        let decoding = Decoding { top_k: Some(6), repeat_power: 1.2, ..Decoding::at_temperature(1.1) };
        for past_end in [false, true] {
            let mut request = request(&decoding, &stop, 25);
            request.terms.past_end = past_end;
            let random = |number: u64| stream(5, "sampling", &[number]);
            // More than are written side by side: places are taken over, and closed up at the end.
            let count = 80;
            let alone: Vec<Sample> = (0..count)
                .map(|n| with(&file, |generator| generator.write(&request, random(n), |_| true).unwrap()))
                .collect();
            let mut pieces = vec![String::new(); count as usize];
            let mut together = Vec::new();
            with(&file, |generator| {
                let mut each = |number: usize, piece: &str| {
                    pieces[number].push_str(piece);
                    true
                };
                let mut done = |sample| {
                    together.push(sample);
                    true
                };
                let random = |number: usize| random(number as u64);
                generator.write_many(&request, count as usize, &random, &mut each, &mut done).unwrap();
            });
            assert_eq!(together.len(), alone.len());
            ended_early += alone.iter().filter(|sample| sample.tokens() < 25).count();
            for ((a, b), piece) in alone.iter().zip(&together).zip(&pieces) {
                assert_eq!((&a.indices, &a.text, a.ended), (&b.indices, &b.text, b.ended), "{cell}");
                assert_eq!(piece, &b.text, "what came piece by piece is the whole");
                assert_eq!(a.log_probabilities, b.log_probabilities, "to the bit");
            }
        }
    }
    assert!(ended_early > 0, "texts of several lengths");
}

#[test]
fn no_text_begins_once_nobody_wants_more() {
    let file = model("the hive bee queen drone comb smoke clover", &[]);
    let (decoding, stop) = (Decoding::at_temperature(1.0), Stop::default());
    let mut numbers = Vec::new();
    let mut given = 0;
    with(&file, |generator| {
        let mut each = |number: usize, _: &str| {
            numbers.push(number);
            true
        };
        let mut done = |_| {
            given += 1;
            given < 3
        };
        let random = |number: usize| stream(5, "sampling", &[number as u64]);
        let mut request = request(&decoding, &stop, 6);
        request.terms.past_end = true;
        generator.write_many(&request, 500, &random, &mut each, &mut done).unwrap();
    });
    // The first are given in order; those that were under way come to their ends, and no others begin.
    assert!((32..70).contains(&given) && numbers.iter().all(|&number| number < 70), "{given}");
}

#[test]
fn a_text_stops_at_its_stop_string() {
    let file = model("the hive bee . queen went home", &[]);
    let write = |stop: &Stop, seed: u64, tokens: usize| {
        with(&file, |generator| {
            let decoding = Decoding::at_temperature(2.0);
            let mut pieces = String::new();
            let mut request = request(&decoding, stop, tokens);
            request.terms.past_end = true;
            let sample = generator
                .write(&request, stream(seed, "sampling", &[]), |piece| {
                    pieces.push_str(piece);
                    true
                })
                .unwrap();
            assert_eq!(pieces, sample.text);
            sample
        })
    };
    for seed in 0..30 {
        let whole = write(&Stop::default(), seed, 60);
        assert_eq!((whole.ended, whole.tokens()), (Ended::Limit, 60));
        let sentence = write(&Stop { sentence: true, ..Stop::default() }, seed, 60);
        assert!(whole.text.starts_with(&sentence.text));
        if sentence.ended == Ended::Sentence {
            assert!(
                sentence.text.ends_with('.') && sentence.text.matches('.').count() == 1,
                "{:?}",
                sentence.text
            );
        }
        let line = write(&Stop { line: true, ..Stop::default() }, seed, 60);
        assert_eq!(line.text, whole.text.lines().next().unwrap_or_default(), "{:?}", line.ended);
        let texts = vec!["queen".to_owned(), "bee hive".to_owned()];
        let stopped = write(&Stop { texts: texts.clone(), ..Stop::default() }, seed, 60);
        let first = texts.iter().filter_map(|text| whole.text.find(text.as_str())).min();
        assert_eq!(stopped.text, whole.text[..first.unwrap_or(whole.text.len())]);
        assert_eq!(stopped.ended == Ended::Text, first.is_some());
    }
}

#[test]
fn impossible_requests_are_refused_and_long_seed_texts_read_completely() {
    let file = model("the hive bee queen", &[]);
    let stop = Stop::default();
    with(&file, |generator| {
        let mut random = stream(1, "sampling", &[]);
        for wrong in [Decoding::at_temperature(f64::NAN), Decoding { top_k: Some(0), ..Decoding::GREEDY }] {
            let refused = generator.write(&request(&wrong, &stop, 5), random.clone(), |_| true);
            assert!(
                matches!(refused, Err(LabError::Temperature(_) | LabError::Decoding { .. })),
                "{refused:?}"
            );
        }
        for beam in
            [Beam { width: 0, ..BEAM }, Beam { best: 2, ..BEAM }, Beam { length_power: f64::NAN, ..BEAM }]
        {
            let refused =
                generator.search(&request(&Decoding::GREEDY, &stop, 5), &beam, &mut random, &mut |_| true);
            assert!(matches!(refused, Err(LabError::Decoding { .. })), "{beam:?}");
        }
        let long = "the hive bee ".repeat(5000);
        let distribution = |generator: &mut Generator, text: &str| -> Vec<f64> {
            let mut all = generator.next(text).unwrap();
            all.sort_by_key(|next| next.index);
            all.iter().map(|next| next.probability).collect()
        };
        let (a, b) = (distribution(generator, &format!("{long}queen")), distribution(generator, &long));
        assert!((a.iter().sum::<f64>() - 1.0).abs() < 1e-9);
        assert!(a.iter().zip(&b).any(|(x, y)| (x - y).abs() > 1e-6), "the last word makes a difference");
        assert!(matches!(generator.next("zzz yyy"), Err(LabError::SeedUnknown)));
        // Padding and start are not predicted.
        assert_eq!(distribution(generator, "").len(), file.vocabulary.len() - 2);
    });
}

#[test]
fn a_conversation_continues_from_its_own_state() {
    let ready = Arc::new(ReadyModel::new(model("the hive bee queen drone comb smoke", &[])));
    let terms = Terms { past_end: true, ..Terms::new(Decoding::at_temperature(1.3), 5) };
    let turn = |seed_text| Request { seed_text, terms: terms.clone() };
    let turns = ["the hive", "bee", "smoke the comb"];
    let alone = |seed: u64| -> Vec<Vec<u32>> {
        let mut one = Conversation::new(Arc::clone(&ready));
        let mut random = stream(seed, "sampling", &[]);
        turns.iter().map(|text| one.write(&turn(text), &mut random, |_| true).unwrap().indices).collect()
    };
    let expected = [alone(1), alone(2)];
    assert_ne!(expected[0], expected[1]);
    // Turn about, they say the same.
    let mut both = [1, 2].map(|seed| (Conversation::new(Arc::clone(&ready)), stream(seed, "sampling", &[])));
    for (number, text) in turns.iter().enumerate() {
        for (which, (conversation, random)) in both.iter_mut().enumerate() {
            let found = conversation.write(&turn(text), random, |_| true).unwrap();
            assert_eq!(found.indices, expected[which][number]);
        }
    }
    // A text that is read in parts is the text; the first turn is what a generator writes.
    let mut parts = Conversation::new(Arc::clone(&ready));
    for part in ["the hive", "bee queen", ""] {
        parts.read(part).unwrap();
    }
    let mut whole = Conversation::new(Arc::clone(&ready));
    whole.read("the hive bee queen").unwrap();
    assert_eq!(parts.tokens(), whole.tokens());
    assert!(parts.scores().iter().zip(whole.scores()).all(|(a, b)| (a - b).abs() < 1e-5));
    assert!(matches!(parts.read("zzz"), Err(LabError::SeedUnknown)));
    let random = stream(1, "sampling", &[]);
    let first = Generator::new(Arc::clone(&ready)).write(&turn(turns[0]), random, |_| true).unwrap();
    assert_eq!(first.indices, expected[0][0]);
}

/// Texts come and go at every token; each is what it is alone, to the bit, and so is the place where it ends.
#[test]
fn texts_that_join_and_leave_a_batch_are_those_written_alone() {
    for (cell, softmax) in [("lstm", "full"), ("gru", "clustered"), ("plain_tanh", "full")] {
        let settings = [format!("model.cell={cell}"), format!("model.softmax={softmax}")];
        let settings: Vec<&str> = settings.iter().map(String::as_str).chain(["model.clusters=[6]"]).collect();
        let ready = Arc::new(ReadyModel::new(model("the hive bee queen drone comb smoke clover", &settings)));
        let seeds = ["", "the hive", "bee queen drone", "smoke"];
        let of = |number: usize| {
            let decoding = match number % 3 {
                0 => Decoding::at_temperature(1.1),
                1 => Decoding { top_k: Some(5), repeat_power: 1.3, ..Decoding::at_temperature(0.9) },
                _ => Decoding::GREEDY,
            };
            let terms = Terms { past_end: number.is_multiple_of(2), ..Terms::new(decoding, number % 11) };
            (seeds[number % seeds.len()], terms, stream(7, "sampling", &[number as u64]))
        };
        let mut reader = Conversation::new(Arc::clone(&ready));
        let mut batch = Batch::new(&ready);
        let (mut ended, mut started): (Vec<Finished<usize>>, usize) = (Vec::new(), 0);
        for step in 0.. {
            // In waves of up to 40, so that rows come, go and give way.
            while started < 200 && batch.len() < 1 + (step * 7) % 40 {
                let (seed_text, terms, random) = of(started);
                reader.restart();
                reader.read(seed_text).unwrap();
                let joining = Joining {
                    terms,
                    random,
                    looked_into: started.is_multiple_of(5),
                    continued: started % 4 == 1,
                };
                batch.join(started, Arc::new(reader.mark()), joining).unwrap();
                started += 1;
            }
            let mut each = |number: &usize, drawn: lalograph_lab::writing::batch::Drawn<'_>| {
                let others = drawn.alternatives(3);
                assert_eq!(others.len(), if number.is_multiple_of(5) { 3 } else { 0 });
                assert!(others.windows(2).all(|pair| pair[0].probability >= pair[1].probability));
                let own = others.iter().find(|other| other.index == drawn.index);
                assert!(own.is_none_or(|own| (own.probability.ln() - drawn.log_probability).abs() < 1e-5));
                true
            };
            ended.extend(batch.draw(&mut each).unwrap());
            if batch.is_empty() && started == 200 {
                break;
            }
            batch.advance();
        }
        assert_eq!(ended.len(), 200);
        for Finished { key, sample, before_last } in ended {
            let (seed_text, terms, mut random) = of(key);
            let mut alone = Conversation::new(Arc::clone(&ready));
            let expected = alone.write(&Request { seed_text, terms }, &mut random, |_| true).unwrap();
            assert_eq!(sample, expected, "{cell}, {softmax}, text {key}");
            let last = sample.indices.last().copied();
            assert_eq!(before_last.is_some(), key % 4 == 1 && last.is_some());
            if let (Some(mark), Some(last)) = (before_last, last) {
                let mut continued = Conversation::new(Arc::clone(&ready));
                continued.return_to(&mark);
                continued.follow(last, ready.resets());
                assert_eq!(continued.mark(), alone.mark(), "the place after text {key}");
            }
        }
    }
}

#[test]
fn a_batch_refuses_impossible_decoding_and_stops_a_text_that_nobody_wants() {
    let ready = Arc::new(ReadyModel::new(model("the hive bee queen", &[])));
    let start = Arc::new(Conversation::new(Arc::clone(&ready)).mark());
    let joining = |decoding: Decoding| Joining {
        terms: Terms { past_end: true, ..Terms::new(decoding, 50) },
        random: stream(1, "sampling", &[]),
        looked_into: false,
        continued: false,
    };
    let mut batch = Batch::new(&ready);
    let refused =
        batch.join(0, Arc::clone(&start), joining(Decoding { top_k: Some(99), ..Decoding::GREEDY }));
    assert!(matches!(refused, Err(LabError::Decoding { .. })) && batch.is_empty());
    for number in 0..3 {
        batch.join(number, Arc::clone(&start), joining(Decoding::at_temperature(1.0))).unwrap();
    }
    let mut ended = Vec::new();
    while !batch.is_empty() {
        // The second one is stopped at its first token.
        ended.extend(batch.draw(&mut |number, _| *number != 1).unwrap());
        batch.advance();
    }
    let found: Vec<_> = ended.iter().map(|one| (one.key, one.sample.ended, one.sample.tokens())).collect();
    assert_eq!(found, [(1, Ended::Stopped, 1), (0, Ended::Limit, 50), (2, Ended::Limit, 50)]);
}
