//! Layouts of vectors in a plane.

use lalograph_net::numbers::chance::stream;
use rand::RngExt;
use rayon::prelude::*;

use crate::error::VectorError;
use crate::linear::{Operator, leading};

/// Points in a plane, and the share of the spread that each axis has, if it is defined.
#[derive(Debug, Clone, PartialEq)]
pub struct Plane {
    /// One for each vector.
    pub points: Vec<[f64; 2]>,
    /// The share of the variance along each axis; none for layouts by neighbourhood.
    pub shares: Option<[f64; 2]>,
}

/// The two principal components of some vectors.
///
/// # Errors
/// Fewer than three vectors.
pub fn principal(vectors: &[&[f32]], seed: u64) -> Result<Plane, VectorError> {
    enough(vectors)?;
    let centred = Centred::of(vectors);
    let all: f64 = centred.0.iter().flatten().map(|x| x * x).sum();
    let (values, directions) = leading(&centred, 2, seed);
    let at = |axis: usize, row: usize| values.get(axis).map_or(0.0, |value| value * directions[axis][row]);
    let share =
        |axis: usize| values.get(axis).map_or(0.0, |value| value * value / all.max(f64::MIN_POSITIVE));
    Ok(Plane {
        points: (0..vectors.len()).map(|row| [at(0, row), at(1, row)]).collect(),
        shares: Some([share(0), share(1)]),
    })
}

/// Settings of a layout by neighbourhood.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Neighbourhood {
    /// About how many neighbours each point has.
    pub perplexity: f64,
    /// Steps.
    pub steps: usize,
    /// The seed of the first places.
    pub seed: u64,
}

impl Default for Neighbourhood {
    fn default() -> Self {
        Self { perplexity: 15.0, steps: 750, seed: 1 }
    }
}

/// Lays vectors of length 1 out so that those that are near stay near: t-distributed stochastic neighbour embedding (van der Maaten and Hinton, 2008), all pairs computed. `progress` is given the
/// steps made and stops the work by returning `false`. Runs on the threads of the current pool, and gives the same whatever their number.
///
/// # Errors
/// Fewer than three vectors; a perplexity that they cannot have; a stop.
pub fn neighbourhood(
    vectors: &[&[f32]],
    how: &Neighbourhood,
    mut progress: impl FnMut(usize) -> bool,
) -> Result<Plane, VectorError> {
    enough(vectors)?;
    let count = vectors.len();
    let most = (count - 1) as f64 / 3.0;
    if !(how.perplexity >= 1.0 && how.perplexity <= most.max(1.0)) {
        let value = how.perplexity.to_string();
        let must = "1 or above, and at most a third of the words";
        return Err(VectorError::Setting { setting: "the perplexity", value, must });
    }
    let near = joint_probabilities(vectors, how.perplexity);
    let start = principal(vectors, how.seed)?.points;
    let spread = start.iter().map(|point| point[0] * point[0]).sum::<f64>() / count as f64;
    let scale = 1e-4 / spread.sqrt().max(1e-12);
    let mut random = stream(how.seed, "map", &[]);
    // Equal vectors would never come apart.
    let mut points: Vec<[f64; 2]> =
        start.iter().map(|point| point.map(|x| x * scale + random.random_range(-1e-6..1e-6))).collect();
    let (mut speed, mut gain) = (vec![[0.0; 2]; count], vec![[1.0f64; 2]; count]);
    let rate = (count as f64 / 12.0).max(50.0);
    let early = how.steps / 3;
    for step in 0..how.steps {
        let (exaggeration, momentum) = if step < early { (12.0, 0.5) } else { (1.0, 0.8) };
        let rows: Vec<(f64, [f64; 2], [f64; 2])> = (0..count)
            .into_par_iter()
            .map(|i| {
                let (mut sum, mut pull, mut push) = (0.0, [0.0; 2], [0.0; 2]);
                for (j, point) in points.iter().enumerate() {
                    let apart = [points[i][0] - point[0], points[i][1] - point[1]];
                    let weight = 1.0 / (1.0 + apart[0] * apart[0] + apart[1] * apart[1]);
                    sum += if i == j { 0.0 } else { weight };
                    for axis in 0..2 {
                        pull[axis] += near[i * count + j] * weight * apart[axis];
                        push[axis] += weight * weight * apart[axis];
                    }
                }
                (sum, pull, push)
            })
            .collect();
        let all: f64 = rows.iter().map(|row| row.0).sum();
        for (i, (_, pull, push)) in rows.iter().enumerate() {
            for axis in 0..2 {
                let slope = 4.0 * (exaggeration * pull[axis] - push[axis] / all);
                let agrees = (slope > 0.0) == (speed[i][axis] > 0.0);
                gain[i][axis] = if agrees { gain[i][axis] * 0.8 } else { gain[i][axis] + 0.2 }.max(0.01);
                speed[i][axis] = momentum * speed[i][axis] - rate * gain[i][axis] * slope;
                points[i][axis] += speed[i][axis];
            }
        }
        if !progress(step + 1) {
            return Err(lalograph_text::TextError::Stopped.into());
        }
    }
    let middle = [0, 1].map(|axis| points.iter().map(|point| point[axis]).sum::<f64>() / count as f64);
    points.iter_mut().for_each(|point| {
        point[0] -= middle[0];
        point[1] -= middle[1];
    });
    Ok(Plane { points, shares: None })
}

fn enough(vectors: &[&[f32]]) -> Result<(), VectorError> {
    let (setting, must) = ("the number of words", "3 or more");
    if vectors.len() >= 3 {
        return Ok(());
    }
    Err(VectorError::Setting { setting, value: vectors.len().to_string(), must })
}

/// The joint probability that each of two vectors has the other for its neighbour, by a bell curve whose width gives each the wanted perplexity.
fn joint_probabilities(vectors: &[&[f32]], perplexity: f64) -> Vec<f64> {
    let count = vectors.len();
    let square = |a: &[f32], b: &[f32]| -> f64 {
        a.iter().zip(b).map(|(&a, &b)| (f64::from(a) - f64::from(b)).powi(2)).sum()
    };
    let rows: Vec<Vec<f64>> = (0..count)
        .into_par_iter()
        .map(|i| {
            let apart: Vec<f64> = vectors.iter().map(|other| square(vectors[i], other)).collect();
            let (mut low, mut high, mut sharpness) = (0.0, f64::INFINITY, 1.0);
            let mut row = vec![0.0; count];
            for _ in 0..100 {
                for (j, weight) in row.iter_mut().enumerate() {
                    *weight = if i == j { 0.0 } else { (-apart[j] * sharpness).exp() };
                }
                let sum: f64 = row.iter().sum::<f64>().max(f64::MIN_POSITIVE);
                row.iter_mut().for_each(|weight| *weight /= sum);
                let entropy: f64 = row.iter().filter(|&&p| p > 0.0).map(|p| -p * p.ln()).sum();
                if (entropy - perplexity.ln()).abs() < 1e-6 {
                    break;
                }
                if entropy > perplexity.ln() {
                    low = sharpness
                } else {
                    high = sharpness
                }
                sharpness = if high.is_finite() { f64::midpoint(low, high) } else { sharpness * 2.0 };
            }
            row
        })
        .collect();
    (0..count * count)
        .map(|at| (rows[at / count][at % count] + rows[at % count][at / count]) / (2 * count) as f64)
        .collect()
}

/// Vectors with their mean subtracted, a row each.
struct Centred(Vec<Vec<f64>>);

impl Centred {
    fn of(vectors: &[&[f32]]) -> Self {
        let count = vectors.len() as f64;
        let mut mean = vec![0.0; vectors[0].len()];
        for vector in vectors {
            mean.iter_mut().zip(*vector).for_each(|(mean, &x)| *mean += f64::from(x) / count);
        }
        let row = |vector: &&[f32]| vector.iter().zip(&mean).map(|(&x, mean)| f64::from(x) - mean).collect();
        Self(vectors.iter().map(row).collect())
    }
}

impl Operator for Centred {
    fn rows(&self) -> usize {
        self.0.len()
    }
    fn columns(&self) -> usize {
        self.0.first().map_or(0, Vec::len)
    }
    fn times(&self, block: &[Vec<f64>]) -> Vec<Vec<f64>> {
        let dot = |row: &Vec<f64>, vector: &[f64]| row.iter().zip(vector).map(|(a, b)| a * b).sum();
        block.iter().map(|vector| self.0.iter().map(|row| dot(row, vector)).collect()).collect()
    }
    fn transposed_times(&self, block: &[Vec<f64>]) -> Vec<Vec<f64>> {
        block
            .iter()
            .map(|vector| {
                let mut sum = vec![0.0; self.columns()];
                for (row, x) in self.0.iter().zip(vector) {
                    sum.iter_mut().zip(row).for_each(|(sum, value)| *sum += x * value);
                }
                sum
            })
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::{Neighbourhood, joint_probabilities, neighbourhood, principal};
    use lalograph_net::numbers::chance::stream;
    use rand::RngExt;

    fn clusters() -> Vec<Vec<f32>> {
        let mut random = stream(6, "test", &[]);
        (0..60)
            .map(|i| {
                (0..9)
                    .map(|axis| f32::from(u8::from(axis == i / 20)) * 3.0 + random.random_range(-0.3f32..0.3))
                    .collect()
            })
            .collect()
    }

    #[test]
    fn principal_components_of_points_on_a_line() {
        let vectors: Vec<Vec<f32>> = (0..9).map(|i| vec![i as f32 * 3.0, i as f32 * 4.0, 1.0]).collect();
        let plane = principal(&vectors.iter().map(Vec::as_slice).collect::<Vec<_>>(), 1).unwrap();
        assert!((plane.shares.unwrap()[0] - 1.0).abs() < 1e-9);
        for pair in plane.points.windows(2) {
            assert!(((pair[1][0] - pair[0][0]).abs() - 5.0).abs() < 1e-6 && pair[0][1].abs() < 1e-6);
        }
        assert!(principal(&[&[1.0, 2.0][..]; 2], 1).is_err());
    }

    #[test]
    fn neighbours_stay_neighbours() {
        let vectors = clusters();
        let vectors: Vec<&[f32]> = vectors.iter().map(Vec::as_slice).collect();
        let how = Neighbourhood { perplexity: 10.0, steps: 300, seed: 1 };
        let plane = neighbourhood(&vectors, &how, |_| true).unwrap();
        let apart = |a: [f64; 2], b: [f64; 2]| (a[0] - b[0]).hypot(a[1] - b[1]);
        for (i, &point) in plane.points.iter().enumerate() {
            let mut order: Vec<usize> = (0..60).filter(|&j| j != i).collect();
            order.sort_by(|&a, &b| apart(point, plane.points[a]).total_cmp(&apart(point, plane.points[b])));
            assert!(order[..10].iter().all(|j| j / 20 == i / 20), "{i}: {order:?}");
        }
        assert_eq!(neighbourhood(&vectors, &how, |_| true).unwrap(), plane);
        let pool = rayon::ThreadPoolBuilder::new().num_threads(3).build().unwrap();
        assert_eq!(pool.install(|| neighbourhood(&vectors, &how, |_| true)).unwrap(), plane);
        assert!(neighbourhood(&vectors, &Neighbourhood { perplexity: 40.0, ..how }, |_| true).is_err());
        assert!(neighbourhood(&vectors, &how, |_| false).is_err());
    }

    #[test]
    fn every_point_has_as_many_neighbours_as_were_wanted() {
        let vectors = clusters();
        let vectors: Vec<&[f32]> = vectors.iter().map(Vec::as_slice).collect();
        let near = joint_probabilities(&vectors, 7.0);
        let sum: f64 = near.iter().sum();
        assert!((sum - 1.0).abs() < 1e-9);
        assert!(
            (0..60).all(|i| near[i * 60 + i] == 0.0 && (0..60).all(|j| near[i * 60 + j] == near[j * 60 + i]))
        );
    }
}
