//! First weights of a model from a file: word vectors, or another model.
//!
//! Word vectors share a large common part, which distinguishes no words, and their length grows with the word's frequency. With their mean subtracted
//! (Mu and Viswanath, 2018) and each scaled to the norm of the model's own first vectors, they start like those, but with similar words
//! close together: `docs/measurements.md` has both curves.

use std::io::ErrorKind;
use std::path::{Path, PathBuf};

use lalograph_net::Layout;
use lalograph_net::weights::layout::Tensor;
use lalograph_text::{Reserved, Vocabulary};
use lalograph_vectors::import::Imported;
use lalograph_vectors::{VectorError, VectorTable};

use super::growth::Growth;
use crate::artefact::container::Container;
use crate::artefact::model_file::KIND;
use crate::artefact::vectors::import;
use crate::error::LabError;
use crate::plan::StartPlan;
use crate::run::folder::model_in;

/// Files that initial weights come from.
#[derive(Debug, Default)]
pub(crate) struct Start {
    vectors: Option<Imported>,
    /// For each tensor of the layout its numbers, or those of its first rows; empty if the model has no tensor of that name.
    model: Option<Vec<Vec<f32>>>,
    /// Tokens of the vocabulary that the model does not have.
    growth: Option<Growth>,
    /// The missing file, if one that the plan names is missing.
    missing: Option<PathBuf>,
}

impl Start {
    /// Reads what a plan starts from, and checks that it fits.
    pub(crate) fn read(plan: &StartPlan, vocabulary: &Vocabulary, layout: &Layout) -> Result<Self, LabError> {
        let mut missing = None;
        let mut there = |path: &Option<PathBuf>| {
            let gone = path.clone().filter(|path| !path.exists());
            let found = path.clone().filter(|_| gone.is_none());
            missing = missing.take().or(gone);
            found
        };
        let vectors = match there(&plan.vectors) {
            Some(path) => Some(read_vectors(&path, vocabulary, layout)?),
            None => None,
        };
        let model = match there(&plan.model) {
            Some(path) => Some(read_model(&path, vocabulary, layout)?),
            None => None,
        };
        Ok(Self { vectors, model, missing, growth: None })
    }

    /// The same for a vocabulary with more tokens than the model has.
    pub(crate) fn grown_by(self, growth: Option<Growth>) -> Self {
        Self { growth, ..self }
    }

    /// The number of vocabulary words with a vector in the file, and the words without one, the most frequent first; `None` without a file.
    pub(crate) fn found(&self) -> Option<(usize, &[String])> {
        self.vectors.as_ref().map(|vectors| (vectors.table.words().len(), &vectors.missing[..]))
    }

    /// Refuses a start of which something is not there.
    pub(crate) fn check(&self) -> Result<(), LabError> {
        self.missing.as_ref().map_or(Ok(()), |path| Err(LabError::at(path)(ErrorKind::NotFound.into())))
    }

    /// Fills weights: first from the model, tensor by tensor, then token vectors from word vectors.
    pub(crate) fn fill(
        &self,
        layout: &Layout,
        weights: &mut [f32],
        vocabulary: &Vocabulary,
    ) -> Result<(), LabError> {
        self.check()?;
        for (own, numbers) in layout.tensors().iter().zip(self.model.iter().flatten()) {
            if !numbers.is_empty() {
                weights[own.range.start..own.range.start + numbers.len()].copy_from_slice(numbers);
            }
            if let Some(growth) =
                self.growth.as_ref().filter(|_| (1..own.range.len()).contains(&numbers.len()))
            {
                growth.fill(layout, &own.name, weights);
            }
        }
        if let Some(vectors) = &self.vectors {
            fill_embedding(layout, weights, vocabulary, &vectors.table)?;
        }
        Ok(())
    }
}

/// Reads the tensors of a model file, or of the model of a run's folder, that have the name of a tensor of the layout.
fn read_model(path: &Path, vocabulary: &Vocabulary, layout: &Layout) -> Result<Vec<Vec<f32>>, LabError> {
    let file = if path.is_dir() { model_in(path) } else { path.to_owned() };
    let unusable = |what: String| LabError::BadModel { path: file.clone(), what };
    let container = Container::open(&file, KIND, unusable)?;
    let text = container.asset("vocabulary").map_err(unusable)?;
    let found = Vocabulary::from_json(text).map_err(|error| unusable(error.to_string()))?;
    let unfit = |what: String| LabError::Start { path: path.to_owned(), what };
    if !vocabulary.continues(&found) {
        let what =
            "its vocabulary is another; set `vocabulary.file` of the plan to the vocabulary of its run";
        return Err(unfit(what.into()));
    }
    let added = vocabulary.len() - found.len();
    let mut tensors = Vec::new();
    for own in layout.tensors() {
        let Ok(shape) = container.shape(&own.name) else {
            tensors.push(Vec::new());
            continue;
        };
        if own.shape != shape && !is_grown(own, shape, added) {
            return Err(unfit(format!(
                "the shape of `{}` is {shape:?} there and {:?} here",
                own.name, own.shape
            )));
        }
        let numbers = container.numbers(&own.name, shape).map_err(unusable)?;
        if numbers.iter().any(|number| !number.is_finite()) {
            return Err(unusable(format!("the tensor `{}` has a number that is not finite", own.name)));
        }
        tensors.push(numbers.to_vec());
    }
    if tensors.iter().all(Vec::is_empty) {
        return Err(unfit("it has no tensor with a name of this model".into()));
    }
    Ok(tensors)
}

/// Whether a tensor is one of this shape with a row for each of so many tokens more.
fn is_grown(own: &Tensor, shape: &[usize], added: usize) -> bool {
    let (Some((rows, rest)), Some((own_rows, own_rest))) = (shape.split_first(), own.shape.split_first())
    else {
        return false;
    };
    own_rest == rest && *own_rows == rows + added
}

/// Reads vectors of the vocabulary's words.
fn read_vectors(path: &Path, vocabulary: &Vocabulary, layout: &Layout) -> Result<Imported, LabError> {
    let mut wanted = Vec::with_capacity(vocabulary.len());
    for index in Reserved::COUNT..vocabulary.len() as u32 {
        wanted.push(String::from_utf8_lossy(vocabulary.token(index)?).into_owned());
    }
    let imported = import(path, None, Some(&wanted), |_| {}, |_| true)?;
    let width = embedding_width(layout);
    match imported.table.dimensions() {
        found if found != width => Err(VectorError::Dimensions { found, wanted: width }.into()),
        _ => Ok(imported),
    }
}

/// Width of the token vectors.
fn embedding_width(layout: &Layout) -> usize {
    layout.tensor("embedding").and_then(|tensor| tensor.shape.get(1).copied()).unwrap_or(0)
}

/// Fills the token vectors: words that have a vector get it, minus the mean of those that are found, at the root mean square of the model's own first
/// values. Returns how many did; a vector that is the mean carries nothing, and its word begins as by default.
///
/// # Errors
/// Vectors of another width than the model's.
fn fill_embedding(
    layout: &Layout,
    weights: &mut [f32],
    vocabulary: &Vocabulary,
    table: &VectorTable,
) -> Result<usize, VectorError> {
    let wanted = embedding_width(layout);
    if table.dimensions() != wanted {
        return Err(VectorError::Dimensions { found: table.dimensions(), wanted });
    }
    let Some(tensor) = layout.tensor("embedding") else {
        return Ok(0);
    };
    let rows = &mut weights[tensor.range.clone()];
    let found: Vec<(usize, &[f32])> = (Reserved::COUNT..vocabulary.len() as u32)
        .filter_map(|index| {
            let word = std::str::from_utf8(vocabulary.token(index).ok()?).ok()?;
            Some((index as usize, table.at(table.exact_row(word)?)))
        })
        .collect();
    let count = found.len() as f64;
    let mut mean = vec![0.0; wanted];
    for (_, vector) in &found {
        mean.iter_mut().zip(*vector).for_each(|(mean, &x)| *mean += f64::from(x) / count);
    }
    let size = |numbers: &[f64]| (numbers.iter().map(|x| x * x).sum::<f64>() / numbers.len() as f64).sqrt();
    let own = size(&rows.iter().map(|&x| f64::from(x)).collect::<Vec<_>>());
    let mut filled = 0;
    for (index, vector) in found {
        let apart: Vec<f64> = vector.iter().zip(&mean).map(|(&x, mean)| f64::from(x) - mean).collect();
        let length = size(&apart);
        // Not what rounding leaves of a vector that is the mean.
        if length > 1e-6 * size(&mean) {
            let row = &mut rows[index * wanted..][..wanted];
            row.iter_mut().zip(apart).for_each(|(to, from)| *to = (own / length * from) as f32);
            filled += 1;
        }
    }
    Ok(filled)
}

#[cfg(test)]
mod tests {
    use lalograph_net::weights::first_values::first_values;
    use lalograph_net::{LanguageModel, Layout, Network};
    use lalograph_text::{Vocabulary, VocabularyBuilder};
    use lalograph_vectors::{VectorError, VectorTable};

    use super::fill_embedding;
    use crate::Plan;

    /// A model of two numbers a token over these words, and its first values.
    fn beginner(words: &str) -> (LanguageModel, Vocabulary, Vec<f32>) {
        let plan =
            Plan::from_toml("[model]\nembedding = 2\nhidden = 3\n[vocabulary]\nminimum_count = 1\n", &[])
                .unwrap();
        let mut builder = VocabularyBuilder::new(&plan.vocabulary.spec());
        builder.add(words);
        let vocabulary = builder.finish(1).unwrap();
        let model = LanguageModel::new(plan.shape(vocabulary.len())).unwrap();
        let weights = first_values(model.layout(), 1);
        (model, vocabulary, weights)
    }

    fn table(words: &[(&str, [f32; 2])]) -> VectorTable {
        let values = words.iter().flat_map(|(_, vector)| *vector).collect();
        VectorTable::new(words.iter().map(|(word, _)| (*word).to_owned()).collect(), 2, values).unwrap()
    }

    fn rows(layout: &Layout, weights: &[f32]) -> Vec<[f32; 2]> {
        let tensor = layout.tensors().iter().find(|tensor| tensor.name == "embedding").unwrap();
        weights[tensor.range.clone()].as_chunks().0.to_vec()
    }

    #[test]
    fn words_get_their_vectors_less_the_mean_at_the_size_of_first_values() {
        let (model, vocabulary, mut weights) = beginner("clover clover linden heather thyme");
        let first = rows(model.layout(), &weights);
        // The mean of those that are found is (10, 21).
        let given = table(&[
            ("linden", [16.0, 13.0]),
            ("juniper", [500.0, -90.0]),
            ("clover", [7.0, 25.0]),
            ("heather", [7.0, 25.0]),
        ]);
        assert_eq!(fill_embedding(model.layout(), &mut weights, &vocabulary, &given).unwrap(), 3);
        let now = rows(model.layout(), &weights);
        let place = |word: &str| vocabulary.index_of(word) as usize;
        let own = (first.iter().flatten().map(|x| x * x).sum::<f32>() / (2 * first.len()) as f32).sqrt();
        // Two numbers whose root mean square is one, in the direction from the mean.
        let unit = 2f32.sqrt();
        for (word, [x, y]) in [("clover", [-0.6, 0.8]), ("heather", [-0.6, 0.8]), ("linden", [0.6, -0.8])] {
            let [a, b] = now[place(word)];
            assert!(
                (a - own * unit * x).abs() < 1e-5 && (b - own * unit * y).abs() < 1e-5,
                "{word}: {a} {b}"
            );
        }
        let others =
            (0..now.len()).filter(|&at| ["clover", "heather", "linden"].iter().all(|word| place(word) != at));
        for other in others {
            assert_eq!(now[other], first[other]);
        }
    }

    #[test]
    fn useless_vectors_or_vectors_of_another_width_change_nothing() {
        let (model, vocabulary, weights) = beginner("clover linden");
        let mut filled = weights.clone();
        for same in [
            table(&[("clover", [0.1, -7.3])]),
            table(&[("clover", [0.1, -7.3]), ("linden", [0.1, -7.3])]),
            table(&[("clover", [0.0, 0.0]), ("linden", [0.0, 0.0])]),
            table(&[("juniper", [1.0, 2.0])]),
        ] {
            assert_eq!(fill_embedding(model.layout(), &mut filled, &vocabulary, &same).unwrap(), 0);
            assert_eq!(filled, weights);
        }
        let wide = VectorTable::new(vec!["clover".into()], 3, vec![1.0; 3]).unwrap();
        let refused = fill_embedding(model.layout(), &mut filled, &vocabulary, &wide);
        assert!(matches!(refused, Err(VectorError::Dimensions { found: 3, wanted: 2 })), "{refused:?}");
        assert_eq!(filled, weights);
    }
}
