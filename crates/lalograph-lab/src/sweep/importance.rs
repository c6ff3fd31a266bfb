//! Which settings mattered: the share of the variance of the results that each explains by itself.
//!
//! An additive model is fitted to the results by least squares: one step for each value of a setting with few values, and a line with a few
//! bends for a range. The variance of a setting's part is its share, after what noise alone would put there is taken off, as in an analysis of
//! variance (Fisher, 1925; omega squared: Hays, 1963). Its uncertainty comes from leaving out groups of settings in turn (the jackknife:
//! Tukey, 1958).

use super::course::mean_cost;
use super::figure::Figure;
use super::ledger::Results;
use super::space::Values;
use super::spec::SweepSpec;

/// Settings with at most so many values have a step for each of them.
const FEW: usize = 6;
/// Pieces of the line of a range at most.
const PIECES: usize = 4;
/// Groups that are left out in turn.
const GROUPS: usize = 20;

/// What explains the results.
#[derive(Debug, Clone, PartialEq)]
pub struct Importance {
    /// Results that it was computed from.
    pub settings: usize,
    /// The share of each setting, in the order in which they are varied.
    pub shares: Vec<Share>,
    /// What the seeds alone do, where there are several.
    pub seeds: Option<f64>,
    /// The rest: what settings do together, and with one seed also chance.
    pub rest: f64,
}

/// A share of the variance.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Share {
    /// From 0 to 1.
    pub share: f64,
    /// Its standard error.
    pub error: f64,
}

/// What explains the results at the first rung, which all trials come to; `None` if they are too few for what is varied, or do not differ.
pub fn importance(spec: &SweepSpec, figure: Figure, results: &Results) -> Option<Importance> {
    let found: Vec<(usize, f64)> = (0..spec.settings().len())
        .filter_map(|setting| Some((setting, mean_cost(spec, figure, results, setting, 0)?)))
        .filter(|(_, cost)| cost.is_finite())
        .collect();
    let columns = Columns::new(spec, &found)?;
    let groups = GROUPS.min(found.len());
    let mut moments = vec![Moments::new(columns.count()); groups];
    for (number, (setting, cost)) in found.iter().enumerate() {
        moments[number % groups].add(&columns.row(spec, *setting), *cost);
    }
    let mut whole = Moments::new(columns.count());
    moments.iter().for_each(|group| whole.join(group, 1.0));
    let shares = whole.shares(&columns.ranges)?;
    // Where a part is too small to be fitted, the uncertainty is not known: as large as can be.
    let without: Vec<Option<Vec<f64>>> = moments
        .iter()
        .map(|group| {
            let mut rest = whole.clone();
            rest.join(group, -1.0);
            rest.shares(&columns.ranges)
        })
        .collect();
    let error = |setting: usize| {
        let values: Option<Vec<f64>> = without.iter().map(|shares| Some(shares.as_ref()?[setting])).collect();
        let Some(values) = values else { return 1.0 };
        let mean = values.iter().sum::<f64>() / values.len() as f64;
        let squares: f64 = values.iter().map(|value| (value - mean).powi(2)).sum();
        ((groups - 1) as f64 / groups as f64 * squares).sqrt().min(1.0)
    };
    let seeds = seeds_share(spec, figure, results, &found, whole.variance());
    let explained: f64 = shares.iter().sum::<f64>() + seeds.unwrap_or(0.0);
    Some(Importance {
        settings: found.len(),
        shares: shares.iter().enumerate().map(|(at, &share)| Share { share, error: error(at) }).collect(),
        seeds,
        rest: (1.0 - explained).max(0.0),
    })
}

/// The share of the variance of the means that comes from the seeds.
fn seeds_share(
    spec: &SweepSpec,
    figure: Figure,
    results: &Results,
    found: &[(usize, f64)],
    variance: f64,
) -> Option<f64> {
    let seeds = spec.seeds();
    if seeds < 2 {
        return None;
    }
    let (mut squares, mut freedom) = (0.0, 0usize);
    for &(setting, mean) in found {
        for seed in 0..seeds {
            let state = results.trial(spec, super::spec::Trial { setting, seed });
            squares += (figure.cost(&state.at(0)?.evaluation) - mean).powi(2);
        }
        freedom += seeds - 1;
    }
    Some((squares / freedom as f64 / seeds as f64 / variance).clamp(0.0, 1.0))
}

/// The columns of the additive model.
struct Columns {
    /// For each setting, its columns.
    ranges: Vec<std::ops::Range<usize>>,
    bases: Vec<Basis>,
}

/// The columns of a setting.
enum Basis {
    /// One for each value but the first.
    Steps(Vec<String>),
    /// Hats with their tops at equal distances; the first is left out.
    Line(usize),
}

impl Columns {
    /// `None` if the model has too many columns for the results.
    fn new(spec: &SweepSpec, found: &[(usize, f64)]) -> Option<Self> {
        let room = found.len() / (3 * spec.varied.len());
        let basis = |at: usize| {
            let mut values: Vec<&String> =
                found.iter().map(|(setting, _)| &spec.settings()[*setting][at]).collect();
            values.sort();
            values.dedup();
            match spec.varied[at].values() {
                Values::Range(_) if values.len() > FEW => Basis::Line(room.clamp(1, PIECES)),
                _ => Basis::Steps(values.into_iter().skip(1).cloned().collect()),
            }
        };
        let bases: Vec<Basis> = (0..spec.varied.len()).map(basis).collect();
        let mut ranges = Vec::new();
        let mut end = 0;
        for basis in &bases {
            let width = match basis {
                Basis::Steps(values) => values.len(),
                Basis::Line(pieces) => *pieces,
            };
            ranges.push(end..end + width);
            end += width;
        }
        // The fit needs some results beyond those that it can follow exactly.
        (found.len() >= end + 2 + end / 4).then_some(Self { ranges, bases })
    }

    fn count(&self) -> usize {
        self.ranges.last().map_or(0, |range| range.end)
    }

    fn row(&self, spec: &SweepSpec, setting: usize) -> Vec<f64> {
        let mut row = Vec::with_capacity(self.count());
        for (at, basis) in self.bases.iter().enumerate() {
            let value = &spec.settings()[setting][at];
            match basis {
                Basis::Steps(values) => {
                    row.extend(values.iter().map(|one| f64::from(u8::from(one == value))))
                }
                Basis::Line(pieces) => {
                    let place = spec.varied[at].place(value) * *pieces as f64;
                    row.extend((1..=*pieces).map(|top| (1.0 - (place - top as f64).abs()).max(0.0)));
                }
            }
        }
        row
    }
}

/// Sums of products of columns and results.
#[derive(Clone)]
struct Moments {
    count: f64,
    columns: Vec<f64>,
    products: Vec<f64>,
    with_result: Vec<f64>,
    result: f64,
    squares: f64,
}

impl Moments {
    fn new(columns: usize) -> Self {
        Self {
            count: 0.0,
            columns: vec![0.0; columns],
            products: vec![0.0; columns * columns],
            with_result: vec![0.0; columns],
            result: 0.0,
            squares: 0.0,
        }
    }

    fn add(&mut self, row: &[f64], result: f64) {
        self.count += 1.0;
        self.result += result;
        self.squares += result * result;
        for (at, &value) in row.iter().enumerate() {
            self.columns[at] += value;
            self.with_result[at] += value * result;
            if value != 0.0 {
                let products = &mut self.products[at * row.len()..][..row.len()];
                products.iter_mut().zip(row).for_each(|(product, &other)| *product += value * other);
            }
        }
    }

    /// Adds another, `factor` times.
    fn join(&mut self, other: &Self, factor: f64) {
        let add = |own: &mut [f64], other: &[f64]| {
            own.iter_mut().zip(other).for_each(|(own, other)| *own += factor * other);
        };
        add(&mut self.columns, &other.columns);
        add(&mut self.products, &other.products);
        add(&mut self.with_result, &other.with_result);
        self.count += factor * other.count;
        self.result += factor * other.result;
        self.squares += factor * other.squares;
    }

    /// The variance of the results.
    fn variance(&self) -> f64 {
        (self.squares / self.count - (self.result / self.count).powi(2)).max(0.0)
    }

    /// The share of each range of columns in the variance; `None` if there is none, or no fit.
    fn shares(&self, ranges: &[std::ops::Range<usize>]) -> Option<Vec<f64>> {
        let (width, count, total) = (self.columns.len(), self.count, self.variance());
        let scale = (self.squares / count).max(f64::MIN_POSITIVE);
        if total <= 1e-12 * scale || count < width as f64 + 2.0 {
            return None;
        }
        let mean = |at: usize| self.columns[at] / count;
        let covariance = |a: usize, b: usize| self.products[a * width + b] / count - mean(a) * mean(b);
        let mut matrix: Vec<f64> = (0..width * width).map(|at| covariance(at / width, at % width)).collect();
        // A column that hardly varies explains nothing; without this it would have any coefficient.
        (0..width).for_each(|at| matrix[at * width + at] += 1e-9);
        let target: Vec<f64> =
            (0..width).map(|at| self.with_result[at] / count - mean(at) * self.result / count).collect();
        let fit = solve(matrix, &target)?;
        let explained: f64 = fit.iter().zip(&target).map(|(fit, target)| fit * target).sum();
        let noise = (total - explained).max(0.0) * count / (count - width as f64 - 1.0);
        let of = |range: &std::ops::Range<usize>| {
            let variance: f64 = range
                .clone()
                .flat_map(|a| range.clone().map(move |b| (a, b)))
                .map(|(a, b)| fit[a] * covariance(a, b) * fit[b])
                .sum();
            ((variance - noise * range.len() as f64 / count) / total).clamp(0.0, 1.0)
        };
        Some(ranges.iter().map(of).collect())
    }
}

/// Solves a symmetric positive definite system by Cholesky's factors; `None` if it is not one.
fn solve(mut matrix: Vec<f64>, target: &[f64]) -> Option<Vec<f64>> {
    let n = target.len();
    for row in 0..n {
        for column in 0..=row {
            let products: f64 = (0..column).map(|at| matrix[row * n + at] * matrix[column * n + at]).sum();
            let rest = matrix[row * n + column] - products;
            matrix[row * n + column] = match row == column {
                true if rest > 0.0 => rest.sqrt(),
                true => return None,
                false => rest / matrix[column * n + column],
            };
        }
    }
    let mut found = target.to_vec();
    for row in 0..n {
        let products: f64 = (0..row).map(|at| matrix[row * n + at] * found[at]).sum();
        found[row] = (found[row] - products) / matrix[row * n + row];
    }
    for row in (0..n).rev() {
        let products: f64 = (row + 1..n).map(|at| matrix[at * n + row] * found[at]).sum();
        found[row] = (found[row] - products) / matrix[row * n + row];
    }
    Some(found)
}

#[cfg(test)]
mod tests {
    use super::{Figure, Importance, importance, solve};
    use crate::Plan;
    use crate::run::records::Evaluation;
    use crate::sweep::ledger::{Entry, Reached, Results};
    use crate::sweep::spec::{Method, SweepSpec, Terms, Trial};
    use lalograph_net::numbers::chance::stream;
    use rand::RngExt;

    fn spec(vary: &[&str], terms: Terms) -> SweepSpec {
        let vary: Vec<String> = vary.iter().map(|&one| one.to_owned()).collect();
        SweepSpec::new(Plan::default(), &vary, terms, None).unwrap()
    }

    /// The importance where a trial's loss is a function of the places of its values, and of its seed.
    fn of(spec: &SweepSpec, loss: impl Fn(&[f64], Trial) -> f64) -> Option<Importance> {
        let mut results = Results::new(spec);
        for trial in spec.trials() {
            let values = &spec.settings()[trial.setting];
            let places: Vec<f64> =
                spec.varied.iter().zip(values).map(|(one, value)| one.place(value)).collect();
            results.add(Entry::Reached(Reached {
                trial: spec.number(trial),
                rung: 0,
                steps: 1,
                finished: true,
                evaluation: Evaluation { loss: loss(&places, trial), ..Evaluation::default() },
                seconds: 1.0,
                tokens_per_second: 1.0,
                parameters: 1,
                time: 0.0,
            }));
        }
        importance(spec, Figure::Perplexity, &results)
    }

    const THREE: [&str; 3] = [
        "training.learning_rate=0.0001..0.01",
        "training.dropout=0..0.8:even",
        "model.cell=lstm,gru,plain_tanh",
    ];

    #[test]
    fn the_shares_of_a_made_up_function_are_those_that_were_put_in() {
        let random = Terms { method: Method::Random, trials: Some(300), ..Terms::default() };
        let found = of(&spec(&THREE, random), |x, _| {
            // Variances: of a line 1/12, of 6(x - 1/2)^2 36 * 1/180, of three steps of 1/2 1/6.
            1.0 * x[0] + 6.0 * (x[1] - 0.5).powi(2) + x[2]
        })
        .unwrap();
        let parts = [1.0 / 12.0, 0.2, 1.0 / 6.0];
        let total: f64 = parts.iter().sum();
        for (share, part) in found.shares.iter().zip(parts) {
            let expected = part / total;
            assert!((share.share - expected).abs() < 0.06, "{share:?} {expected}");
            assert!((share.share - expected).abs() < 3.0 * share.error && share.error < 0.1, "{share:?}");
        }
        assert!(found.rest < 0.06 && found.seeds.is_none(), "{found:?}");
    }

    #[test]
    fn a_grid_has_the_shares_of_an_analysis_of_variance_and_combinations_are_the_rest() {
        let spec =
            spec(&["model.hidden=1,2,3,4", "model.cell=lstm,gru", "model.layers=1,2"], Terms::default());
        // Main effects: hidden 5/4 * 9 * ..., worked out below from the definition; cell 1/4; cell and layers together 1/4.
        let found = of(&spec, |x, _| 3.0 * x[0] + x[1] + 2.0 * (x[1] - 0.5) * (x[2] - 0.5)).unwrap();
        // Of 0, 1, 2, 3 the variance is 5/4; of 0, 1 it is 1/4; of a product of halves of both signs 1/16 * 4.
        let (hidden, cell, both) = (1.25, 0.25, 0.25);
        let total = hidden + cell + both;
        // What noise would add is taken off: the rest has 16 - 1 - 5 degrees of freedom.
        let noise = both * 16.0 / 10.0 / 16.0;
        let close =
            |found: f64, expected: f64| assert!((found - expected).abs() < 1e-6, "{found} {expected}");
        close(found.shares[0].share, (hidden - 3.0 * noise) / total);
        close(found.shares[1].share, (cell - noise) / total);
        close(found.shares[2].share, 0.0);
        assert!((found.rest - both / total).abs() < 0.1);
    }

    #[test]
    fn what_seeds_do_is_counted_apart() {
        let terms = Terms { method: Method::Random, trials: Some(200), seeds: 4, ..Terms::default() };
        let found = of(&spec(&THREE, terms), |x, trial| {
            let noise: f64 = stream(5, "noise", &[trial.setting as u64, trial.seed as u64]).random();
            x[0] + 2.0 * (noise - 0.5)
        })
        .unwrap();
        // The mean of four has a quarter of 4/12.
        let expected = (1.0 / 12.0) / (1.0 / 12.0 + 1.0 / 12.0);
        assert!((found.seeds.unwrap() - expected).abs() < 0.08, "{found:?}");
        assert!((found.shares[0].share - expected).abs() < 0.1 && found.shares[1].share < 0.05, "{found:?}");
    }

    #[test]
    fn too_few_results_or_equal_ones_say_nothing() {
        let few = Terms { method: Method::Random, trials: Some(4), ..Terms::default() };
        assert!(of(&spec(&THREE, few), |x, _| x[0]).is_none());
        let many = Terms { method: Method::Random, trials: Some(60), ..Terms::default() };
        assert!(of(&spec(&THREE, many), |_, _| 2.5).is_none());
    }

    #[test]
    fn systems_are_solved() {
        let found = solve(vec![4.0, 2.0, 2.0, 3.0], &[8.0, 8.0]).unwrap();
        assert!((found[0] - 1.0).abs() < 1e-12 && (found[1] - 2.0).abs() < 1e-12);
        assert!(solve(vec![1.0, 2.0, 2.0, 1.0], &[1.0, 1.0]).is_none());
    }
}
