//! The settings of a sweep by rank, with what chance alone would do to them.

use super::figure::Figure;
use super::ledger::{Reached, Results};
use super::spec::{SweepSpec, Trial};

/// A setting whose seeds have all come to one rung.
#[derive(Debug, Clone, PartialEq)]
pub struct Ranked {
    /// The number of the setting, from 0.
    pub setting: usize,
    /// The rung that it came to, from 0.
    pub rung: usize,
    /// Its mean cost over the seeds, see [`Figure::cost`].
    pub cost: f64,
    /// The cost with each seed.
    pub costs: Vec<f64>,
    /// The 95 % interval of the mean, where there are several seeds.
    pub interval: Option<(f64, f64)>,
    /// How it differs from the best, where both came to the same rung and there are several seeds.
    pub difference: Option<Difference>,
    /// The seed with the lowest cost, from 0.
    pub best_seed: usize,
    /// Steps made, with the seed that made most.
    pub steps: u64,
    /// Seconds of training over all seeds.
    pub seconds: f64,
    /// Numbers that are learnt.
    pub parameters: u64,
}

/// The difference of two mean costs, seed by seed.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Difference {
    /// How much higher than that of the best.
    pub cost: f64,
    /// Half of its 95 % interval.
    pub half: f64,
}

impl Difference {
    /// Whether chance alone makes such differences.
    pub fn is_noise(&self) -> bool {
        self.cost <= self.half
    }
}

/// A setting that cannot be trained, with some seed.
#[derive(Debug, Clone, PartialEq)]
pub struct Excluded {
    /// The number of the setting, from 0.
    pub setting: usize,
    /// Why.
    pub reason: String,
}

/// All settings by rank.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Ranking {
    /// Those that can be compared: those that came furthest first, and of these the best.
    pub ranked: Vec<Ranked>,
    /// Those that failed.
    pub failed: Vec<Excluded>,
    /// How many are still without a result of all their seeds.
    pub waiting: usize,
}

/// Ranks the settings by what is known so far.
pub fn rank(spec: &SweepSpec, figure: Figure, results: &Results) -> Ranking {
    let mut ranking = Ranking::default();
    for setting in 0..spec.settings().len() {
        let states: Vec<_> =
            (0..spec.seeds()).map(|seed| results.trial(spec, Trial { setting, seed })).collect();
        if let Some(reason) = states.iter().find_map(|state| state.failed.clone()) {
            ranking.failed.push(Excluded { setting, reason });
            continue;
        }
        let common = (0..spec.rungs()).rev().find_map(|rung| {
            let reached: Option<Vec<&Reached>> = states.iter().map(|state| state.at(rung)).collect();
            Some((rung, reached?))
        });
        match common {
            Some((rung, reached)) => ranking.ranked.push(ranked(setting, rung, figure, &reached)),
            None => ranking.waiting += 1,
        }
    }
    ranking
        .ranked
        .sort_by(|a, b| b.rung.cmp(&a.rung).then(a.cost.total_cmp(&b.cost)).then(a.setting.cmp(&b.setting)));
    compare(&mut ranking.ranked);
    ranking
}

fn ranked(setting: usize, rung: usize, figure: Figure, reached: &[&Reached]) -> Ranked {
    let costs: Vec<f64> = reached.iter().map(|reached| figure.cost(&reached.evaluation)).collect();
    let best_seed = (0..costs.len()).min_by(|&a, &b| costs[a].total_cmp(&costs[b])).unwrap_or(0);
    Ranked {
        setting,
        rung,
        cost: costs.iter().sum::<f64>() / costs.len() as f64,
        interval: None,
        difference: None,
        best_seed,
        steps: reached.iter().map(|reached| reached.steps).max().unwrap_or(0),
        seconds: reached.iter().map(|reached| reached.seconds).sum(),
        parameters: reached.first().map_or(0, |reached| reached.parameters),
        costs,
    }
}

/// Intervals of means, and differences from the best. The variance is pooled over the better half of the settings that came as far: a few seeds
/// alone say little of it, and settings that hardly learn vary more than those that matter.
fn compare(ranked: &mut [Ranked]) {
    let Some(best) = ranked.first().map(|best| (best.rung, best.cost)) else { return };
    for peers in ranked.chunk_by_mut(|a, b| a.rung == b.rung) {
        let better = peers.len().div_ceil(2).max(2).min(peers.len());
        let costs: Vec<&[f64]> = peers[..better].iter().map(|one| &one.costs[..]).collect();
        let seeds = costs[0].len() as f64;
        let half = within_settings(&costs).map(|within| within.half(1.0 / seeds));
        let between = without_seeds(&costs).map(|between| between.half(2.0 / seeds));
        for one in peers {
            one.interval = half.map(|half| (one.cost - half, one.cost + half));
            let far = (one.rung == best.0).then_some(between).flatten();
            one.difference = far.map(|half| Difference { cost: one.cost - best.1, half });
        }
    }
}

/// A variance and its degrees of freedom.
struct Variance {
    value: f64,
    freedom: f64,
}

impl Variance {
    /// Half of the 95 % interval of what has `share` of this variance.
    fn half(&self, share: f64) -> f64 {
        t_quantile(self.freedom) * (self.value * share).sqrt()
    }
}

fn mean(values: &[f64]) -> f64 {
    values.iter().sum::<f64>() / values.len() as f64
}

/// How the seeds of a setting vary; `None` with one seed.
fn within_settings(costs: &[&[f64]]) -> Option<Variance> {
    let freedom = costs.iter().map(|seeds| seeds.len() - 1).sum::<usize>() as f64;
    let squares: f64 =
        costs.iter().map(|seeds| seeds.iter().map(|cost| (cost - mean(seeds)).powi(2)).sum::<f64>()).sum();
    (freedom > 0.0).then(|| Variance { value: squares / freedom, freedom })
}

/// The same without what a seed does to all settings alike: settings have the same seeds, so it is in no difference.
fn without_seeds(costs: &[&[f64]]) -> Option<Variance> {
    let seeds = costs.first()?.len();
    let freedom = ((costs.len() - 1) * (seeds - 1)) as f64;
    let all = mean(&costs.iter().map(|seeds| mean(seeds)).collect::<Vec<_>>());
    let by_seed = |seed: usize| costs.iter().map(|of| of[seed]).sum::<f64>() / costs.len() as f64;
    let squares: f64 = costs
        .iter()
        .map(|of| {
            let own = mean(of);
            (0..seeds).map(|seed| (of[seed] - own - by_seed(seed) + all).powi(2)).sum::<f64>()
        })
        .sum();
    (freedom > 0.0).then(|| Variance { value: squares / freedom, freedom })
}

/// The 97.5 % quantile of Student's t: exact for 1 and 2 degrees of freedom, else by the expansion 26.7.5 of Abramowitz and Stegun (1964), to
/// 0.3 % from 3 on.
fn t_quantile(freedom: f64) -> f64 {
    const NORMAL: f64 = 1.959_963_985;
    match freedom {
        f if f < 1.5 => 12.706_205,
        f if f < 2.5 => 4.302_653,
        f => {
            let z = NORMAL;
            let first = (z.powi(3) + z) / 4.0;
            let second = (5.0 * z.powi(5) + 16.0 * z.powi(3) + 3.0 * z) / 96.0;
            let third = (3.0 * z.powi(7) + 19.0 * z.powi(5) + 17.0 * z.powi(3) - 15.0 * z) / 384.0;
            let fourth =
                79.0 * z.powi(9) + 776.0 * z.powi(7) + 1482.0 * z.powi(5) - 1920.0 * z.powi(3) - 945.0 * z;
            z + first / f + second / f.powi(2) + third / f.powi(3) + fourth / 92_160.0 / f.powi(4)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::{Figure, rank, t_quantile};
    use crate::Plan;
    use crate::run::records::Evaluation;
    use crate::sweep::ledger::{Entry, Reached, Results};
    use crate::sweep::spec::{SweepSpec, Terms};

    fn results(spec: &SweepSpec, losses: &[f64]) -> Results {
        let mut results = Results::new(spec);
        for (trial, &loss) in losses.iter().enumerate() {
            results.add(Entry::Reached(Reached {
                trial,
                rung: 0,
                steps: 10,
                finished: true,
                evaluation: Evaluation { loss, ..Evaluation::default() },
                seconds: 1.5,
                tokens_per_second: 1.0,
                parameters: 3,
                time: 0.0,
            }));
        }
        results
    }

    fn spec(seeds: u64) -> SweepSpec {
        let terms = Terms { seeds, ..Terms::default() };
        SweepSpec::new(Plan::default(), &["model.hidden=1,2,3,4".into()], terms, None).unwrap()
    }

    #[test]
    fn quantiles_are_those_of_the_tables() {
        for (freedom, expected) in [
            (1.0, 12.706),
            (2.0, 4.303),
            (3.0, 3.182),
            (4.0, 2.776),
            (6.0, 2.447),
            (10.0, 2.228),
            (30.0, 2.042),
        ] {
            assert!(
                (t_quantile(freedom) / expected - 1.0).abs() < 4e-3,
                "{freedom}: {}",
                t_quantile(freedom)
            );
        }
    }

    #[test]
    fn settings_have_ranks_and_differences_that_chance_makes_are_called_so() {
        let spec = spec(3);
        // Seeds move all settings alike; only setting 4 is clearly worse than setting 2.
        let losses = [2.01, 2.11, 1.92, 2.0, 2.1, 1.9, 2.02, 2.1, 1.91, 2.5, 2.6, 2.4];
        let ranking = rank(&spec, Figure::Perplexity, &results(&spec, &losses));
        let order: Vec<usize> = ranking.ranked.iter().map(|one| one.setting).collect();
        assert_eq!(order, [1, 2, 0, 3]);
        let noise: Vec<bool> = ranking.ranked.iter().map(|one| one.difference.unwrap().is_noise()).collect();
        assert_eq!(noise, [true, true, true, false]);
        let best = &ranking.ranked[0];
        assert!((best.cost - 2.0).abs() < 1e-12 && best.best_seed == 2 && best.seconds == 4.5);
        // By hand: within the two best settings the squares are 0.02 and 0.0182 (rounded), with four degrees of freedom.
        let (low, high) = best.interval.unwrap();
        let expected = 2.776 * ((0.02 + 0.018_200) / 4.0 / 3.0f64).sqrt();
        assert!(((high - low) / 2.0 - expected).abs() < 2e-3, "{low} {high} {expected}");
        // The difference is much surer than the means.
        assert!(best.difference.unwrap().half < 0.5 * expected);
    }

    #[test]
    fn one_seed_has_no_interval_and_unfinished_settings_wait() {
        let one = spec(1);
        let mut found = results(&one, &[2.0, 1.0]);
        found.add(Entry::Failed { trial: 2, reason: "diverged".into(), time: 0.0 });
        let ranking = rank(&one, Figure::Perplexity, &found);
        assert_eq!(ranking.ranked.iter().map(|one| one.setting).collect::<Vec<_>>(), [1, 0]);
        assert!(ranking.ranked.iter().all(|one| one.interval.is_none() && one.difference.is_none()));
        assert_eq!((ranking.failed[0].setting, ranking.waiting), (2, 1));
        let two = spec(2);
        let ranking = rank(&two, Figure::Perplexity, &results(&two, &[2.0, 1.0, 1.5]));
        assert_eq!((ranking.ranked.len(), ranking.waiting), (1, 3), "a setting waits for all its seeds");
        assert!(ranking.ranked[0].interval.is_some() && ranking.ranked[0].difference.is_none());
    }
}
