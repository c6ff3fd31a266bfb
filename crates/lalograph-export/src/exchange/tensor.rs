//! The constant tensors of a graph: where their numbers come from, and how they are written.

use std::io::{self, Write};

use lalograph_lab::artefact::tensor_file::TensorFile;

use super::precision::{Factors, to_half};

/// What a number is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Element {
    Float,
    Double,
    Half,
    Integer,
    Byte,
    Truth,
}

impl Element {
    /// Its number in the standard.
    pub(crate) fn number(self) -> i32 {
        match self {
            Self::Float => 1,
            Self::Byte => 3,
            Self::Integer => 7,
            Self::Truth => 9,
            Self::Half => 10,
            Self::Double => 11,
        }
    }

    fn bytes(self) -> usize {
        match self {
            Self::Byte | Self::Truth => 1,
            Self::Half => 2,
            Self::Float => 4,
            Self::Integer | Self::Double => 8,
        }
    }
}

/// Where numbers come from.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Source {
    Floats(Vec<f32>),
    Doubles(Vec<f64>),
    Integers(Vec<i64>),
    /// A tensor of the model file.
    Weights,
    /// The same with 16 bits.
    HalfWeights,
    /// The same with 8 bits.
    EightBitWeights,
    /// The factors of those.
    Factors {
        /// The tensor of the model file.
        of: String,
        /// Its shape.
        shape: Vec<usize>,
    },
    /// One over the lengths of the rows of a tensor of the model file, or 0 for rows of zeros.
    InverseLengths {
        /// The tensor of the model file.
        of: String,
    },
}

/// A constant tensor. One of the model file has the name that it has there.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Constant {
    /// Its name in the graph.
    pub(crate) name: String,
    /// The tensor of the model file, if it is one.
    pub(crate) of: String,
    pub(crate) shape: Vec<usize>,
    pub(crate) source: Source,
}

impl Constant {
    pub(crate) fn element(&self) -> Element {
        match self.source {
            Source::Floats(_) | Source::Weights | Source::Factors { .. } | Source::InverseLengths { .. } => {
                Element::Float
            }
            Source::Doubles(_) => Element::Double,
            Source::Integers(_) => Element::Integer,
            Source::HalfWeights => Element::Half,
            Source::EightBitWeights => Element::Byte,
        }
    }

    /// Bytes of its numbers.
    pub(crate) fn bytes(&self) -> usize {
        self.shape.iter().product::<usize>() * self.element().bytes()
    }

    /// Writes its numbers.
    pub(crate) fn write(&self, file: &TensorFile, out: &mut dyn Write) -> io::Result<()> {
        let mut bytes = Vec::new();
        let mut floats = |numbers: &[f32], out: &mut dyn Write| {
            bytes.clear();
            bytes.extend(numbers.iter().flat_map(|number| number.to_le_bytes()));
            out.write_all(&bytes)
        };
        match &self.source {
            Source::Floats(numbers) => floats(numbers, out),
            Source::Doubles(numbers) => {
                numbers.iter().try_for_each(|number| out.write_all(&number.to_le_bytes()))
            }
            Source::Integers(numbers) => {
                numbers.iter().try_for_each(|number| out.write_all(&number.to_le_bytes()))
            }
            Source::Weights => file.read(&self.of, |numbers| floats(numbers, out)),
            Source::HalfWeights => file.read(&self.of, |numbers| {
                let halves = numbers.iter().flat_map(|&number| to_half(number).to_le_bytes());
                out.write_all(&halves.collect::<Vec<u8>>())
            }),
            Source::EightBitWeights => {
                let seen = factors(file, &self.of, &self.shape)?;
                let factors = seen.all();
                let mut at = 0;
                file.read(&self.of, |numbers| {
                    let codes = seen.codes(&factors, at, numbers).map(|(code, _)| code as u8);
                    out.write_all(&codes.collect::<Vec<u8>>())?;
                    at += numbers.len();
                    Ok(())
                })
            }
            Source::Factors { of, shape } => floats(&factors(file, of, shape)?.all(), out),
            Source::InverseLengths { of } => floats(&inverse_lengths(file, of, self.shape[0])?, out),
        }
    }
}

fn factors(file: &TensorFile, of: &str, shape: &[usize]) -> io::Result<Factors> {
    let mut seen = Factors::new(of, shape);
    file.read(of, |numbers| {
        seen.see(numbers);
        Ok(())
    })?;
    Ok(seen)
}

fn inverse_lengths(file: &TensorFile, of: &str, rows: usize) -> io::Result<Vec<f32>> {
    let width = file.shape(of).map_err(io::Error::other)?.iter().product::<usize>() / rows.max(1);
    let mut squares = vec![0.0f64; rows];
    let mut at = 0;
    file.read(of, |numbers| {
        for &number in numbers {
            squares[at / width] += f64::from(number) * f64::from(number);
            at += 1;
        }
        Ok(())
    })?;
    Ok(squares.iter().map(|&square| if square > 0.0 { (1.0 / square.sqrt()) as f32 } else { 0.0 }).collect())
}
