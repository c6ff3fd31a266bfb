//! Language models over all options, with random weights.

use std::path::PathBuf;

use lalograph_export::{GraphChoice, Precision};
use lalograph_lab::{ModelFile, Plan, ReadyModel, Trained};
use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::models::language::{LanguageLane, LanguageModel};
use lalograph_net::weights::packed::Parameters;
use lalograph_net::{Choice, Network};
use lalograph_storage::{Disk, Existing};
use lalograph_text::{Reserved, Vocabulary};
use rand::RngExt;

use super::cases::{Case, chance, exported, named, one_of, settings};
use super::tensor::{FLOAT, Tensor};

/// A vocabulary of so many indices.
pub(crate) fn vocabulary(indices: usize) -> Vocabulary {
    let tokens: Vec<String> = (4..indices).map(|index| format!("[{index},\"w{index}\",1]")).collect();
    let counted = format!(
        "{{\"documents\":1,\"tokens\":{0},\"distinct_tokens\":{0},\"tokens_covered\":{0}}}",
        indices - 4
    );
    Vocabulary::from_json(&format!(
        "{{\"format\":\"lalograph vocabulary\",\"version\":2,\"unit\":\"word\",\"cleaning\":[\"lower_case\"],\"reserved\":{{\"padding\":\"‹padding›\",\"unknown\":\"‹unknown›\",\"start\":\"‹start›\",\"end\":\"‹end›\"}},\"counted\":{counted},\"tokens\":[{}]}}",
        tokens.join(",")
    ))
    .unwrap()
}

/// A model with random options and weights, in a file.
pub(crate) struct Random {
    pub(crate) ready: ReadyModel,
    pub(crate) path: PathBuf,
    pub(crate) what: String,
    _folder: tempfile::TempDir,
}

pub(crate) fn random_model(number: u64) -> Random {
    let mut random = chance("language models", number);
    let random = &mut random;
    let vocabulary = vocabulary(random.random_range(12..40));
    let cell = ["plain_tanh", "plain_relu", "gru", "lstm"][number as usize % 4];
    let softmax = ["full", "clustered", "sampled"][(number as usize / 4) % 3];
    let embedding: usize = random.random_range(2..7);
    let hidden = if one_of(random, &[true, false]) { embedding } else { random.random_range(2..9) };
    let mut options = vec![
        format!("model.cell={cell}"),
        format!("model.softmax={softmax}"),
        format!("model.embedding={embedding}"),
        format!("model.hidden={hidden}"),
        format!("model.layers={}", random.random_range(1..4)),
    ];
    for option in ["layer_norm", "residual", "learn_first_state"] {
        options.push(format!("model.{option}={}", one_of(random, &[true, false])));
    }
    if softmax == "clustered" {
        let first = random.random_range(4..8);
        let second = random.random_range(first + 1..12);
        let ends =
            if one_of(random, &[true, false]) { format!("[{first}]") } else { format!("[{first},{second}]") };
        options.push(format!("model.clusters={ends}"));
    } else {
        options.push(format!("model.shared_vectors={}", one_of(random, &[true, false])));
    }
    let plan = Plan::from_toml("", &options).unwrap();
    let model = LanguageModel::new(plan.shape(vocabulary.len())).unwrap();
    let weights = (0..model.layout().len()).map(|_| random.random_range(-0.7f32..0.7)).collect();
    let file = ModelFile { plan, vocabulary, trained: Trained::default(), model, weights };
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("model.safetensors");
    file.save(&Disk, &path, Existing::Keep).unwrap();
    Random { ready: ReadyModel::new(file), path, what: options.join(" "), _folder: folder }
}

/// Reads tokens one at a time from the start of a text.
struct Reader<'m> {
    model: &'m LanguageModel,
    weights: Parameters<'m, f32>,
    lane: LanguageLane<f32>,
}

impl<'m> Reader<'m> {
    fn new(ready: &'m ReadyModel) -> Self {
        let (model, weights) = (ready.model(), ready.parameters());
        let mut lane = model.reading_lane(Extent { steps: 1, rows: 1 }, false);
        model.begin(weights, &mut lane);
        Self { model, weights, lane }
    }

    /// The log-probabilities of all tokens after this one.
    fn after(&mut self, token: u32) -> Vec<f32> {
        self.model.forward(self.weights, &[token], None, &mut self.lane, None);
        let mut scores = vec![0.0f32; self.model.shape().vocabulary];
        self.model.last_scores(self.weights, &mut self.lane, &mut scores);
        let best = scores.iter().copied().fold(f32::MIN, f32::max);
        let total = scores.iter().map(|&score| f64::from(score - best).exp()).sum::<f64>().ln() as f32;
        scores
            .iter()
            .map(|score| score - best - total)
            .map(|log| if log < -1e29 { f32::NEG_INFINITY } else { log })
            .collect()
    }

    /// Part of the states of all layers: the outputs, or the memories.
    fn states(&self, part: usize) -> Vec<Vec<f32>> {
        let hidden = self.model.shape().hidden;
        self.lane.states().iter().map(|state| state[part * hidden..(part + 1) * hidden].to_vec()).collect()
    }
}

fn text(random: &mut super::cases::Chance, ready: &ReadyModel, length: usize) -> Vec<u32> {
    (0..length).map(|_| random.random_range(3..ready.model().shape().vocabulary as u32)).collect()
}

/// Texts of several lengths, by the graph of whole texts.
pub(crate) fn text_case(number: u64) -> Case {
    let Random { ready, path, what, .. } = &random_model(number);
    let mut random = chance("texts", number);
    let rows = random.random_range(1..5);
    let texts: Vec<Vec<u32>> = (0..rows)
        .map(|_| {
            let length = random.random_range(1..9);
            text(&mut random, ready, length)
        })
        .collect();
    let longest = texts.iter().map(Vec::len).max().unwrap() + random.random_range(0..2);
    let (mut tokens, mut wanted) = (Vec::new(), Vec::new());
    for text in &texts {
        let mut reader = Reader::new(ready);
        let mut before = Reserved::START;
        for at in 0..longest {
            let token = text.get(at).copied();
            tokens.push(i64::from(token.unwrap_or(Reserved::PADDING)));
            wanted.push(token.map_or(0.0, |token| reader.after(before)[token as usize]));
            before = token.unwrap_or(before);
        }
    }
    let file = exported(path, GraphChoice::Text, &settings(Precision::Single));
    let lengths = texts.iter().map(|text| text.len() as i64);
    Case {
        name: format!("text {number}: {what}"),
        file,
        inputs: named([
            ("tokens", Tensor::integers(&[rows, longest], tokens)),
            ("lengths", Tensor::integers(&[rows], lengths)),
        ]),
        wanted: named([("log_probabilities", Tensor::floats(&[rows, longest], wanted))]),
    }
}

/// One step of several texts, some of which begin with it.
pub(crate) fn step_case(number: u64) -> Case {
    let Random { ready, path, what, .. } = &random_model(number);
    let shape = ready.model().shape();
    let mut random = chance("steps", number);
    let rows = random.random_range(1..5);
    let parts = shape.cell.state_parts();
    // By part, layer and row.
    let mut given = vec![vec![Vec::new(); shape.layers]; parts];
    let mut next = given.clone();
    let (mut tokens, mut fresh, mut wanted) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..rows {
        let mut reader = Reader::new(ready);
        let read = random.random_range(0..4);
        for token in text(&mut random, ready, read) {
            reader.after(token);
        }
        // The states that a text begins with are not read.
        let begins = read == 0;
        for (part, given) in given.iter_mut().enumerate() {
            for (given, state) in given.iter_mut().zip(reader.states(part)) {
                given.extend(if begins { vec![9.0; shape.hidden] } else { state });
            }
        }
        let token = if begins { Reserved::START } else { text(&mut random, ready, 1)[0] };
        tokens.push(i64::from(token));
        fresh.push(begins);
        wanted.extend(reader.after(token));
        for (part, next) in next.iter_mut().enumerate() {
            next.iter_mut().zip(reader.states(part)).for_each(|(next, state)| next.extend(state));
        }
    }
    let states = |all: &[Vec<f32>]| Tensor::floats(&[shape.layers, rows, shape.hidden], all.concat());
    let mut inputs = named([
        ("tokens", Tensor::integers(&[rows], tokens)),
        ("fresh", Tensor::truths(&[rows], fresh)),
        ("state", states(&given[0])),
    ]);
    let mut outputs = named([
        ("log_probabilities", Tensor::floats(&[rows, shape.vocabulary], wanted)),
        ("next_state", states(&next[0])),
    ]);
    if parts == 2 {
        inputs.insert("memory".to_owned(), states(&given[1]));
        outputs.insert("next_memory".to_owned(), states(&next[1]));
    }
    let file = exported(path, GraphChoice::Step, &settings(Precision::Single));
    Case { name: format!("step {number}: {what}"), file, inputs, wanted: outputs }
}

#[test]
fn fewer_bits_are_those_that_the_model_is_judged_with() {
    use lalograph_export::reduce;
    for number in 0..12 {
        for precision in [Precision::Half, Precision::Eight] {
            let Random { ready, path, .. } = &random_model(number);
            let mut file = ready.file().clone();
            reduce(file.model.layout(), &mut file.weights, precision);
            let reduced = ReadyModel::new(file);
            let (mut reader, mut whole) = (Reader::new(&reduced), Reader::new(ready));
            let tokens = [Reserved::START, 5, 7];
            let text: Vec<u32> = tokens[1..].to_vec();
            let pick = |reader: &mut Reader<'_>| -> Vec<f32> {
                tokens[..2]
                    .iter()
                    .zip(&text)
                    .map(|(&read, &next)| reader.after(read)[next as usize])
                    .collect()
            };
            let (wanted, exact) = (pick(&mut reader), pick(&mut whole));
            assert_ne!(wanted, exact, "{}", precision.name());
            let case = Case {
                name: format!("{} {number}", precision.name()),
                file: exported(path, GraphChoice::Text, &settings(precision)),
                inputs: named([
                    ("tokens", Tensor::integers(&[1, 2], text.iter().map(|&token| token.into()))),
                    ("lengths", Tensor::integers(&[1], [2])),
                ]),
                wanted: named([(
                    "log_probabilities",
                    Tensor::new(FLOAT, &[1, 2], wanted.iter().map(|&x| x.into()).collect()),
                )]),
            };
            let error = case.error();
            assert!(error < 1e-5, "{}: {error}", case.name);
        }
    }
}
