//! A softmax over clusters of tokens by frequency (Grave et al., 2017): the most frequent tokens and one entry for each cluster of the rest
//! are in one table; a token of a cluster is then chosen within it, from a narrower vector. A token's probability is exact: that of its cluster
//! times that within it. Where most text is common words, most rows never meet the long lists.
//!
//! Indices must run from the most frequent token to the rarest, as those of word vocabularies do.

use std::ops::Range;

use super::scratch::Scratch;
use super::table::{Table, chunk_rows};
use crate::blocks::recurrent::start::StartingValues;
use crate::numbers::real::Real;
use crate::products::multiply::{multiply, multiply_packed};
use crate::products::pack::Workspace;
use crate::products::view::{Accumulation, Matrix, MatrixMut};
use crate::weights::gradient::Gradient;
use crate::weights::layout::{GroupId, Layout, PackId, ReadIn};
use crate::weights::packed::Parameters;

/// Division of tokens into clusters.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Clusters {
    /// End of the most frequent tokens, and of each cluster but the last: rising, the first above 0, all below the vocabulary's size.
    pub ends: Vec<usize>,
    /// Each cluster's vectors are narrower by this factor than those of the one before.
    pub shrink: usize,
}

impl Clusters {
    /// A good division of a vocabulary whose counts fall as a power: about 4 % most frequent tokens, at least 1,000, a cluster up to a quarter, and the rest.
    pub fn default_for(vocabulary: usize) -> Self {
        let frequent = (vocabulary / 25).max(1000);
        let middle = vocabulary / 4;
        let ends =
            [frequent, middle].into_iter().filter(|&end| end >= frequent && end < vocabulary).collect();
        Self { ends, shrink: 4 }
    }
}

#[derive(Debug, Clone)]
struct ClusterTable {
    tokens: Range<usize>,
    width: usize,
    projection: Range<usize>,
    forward: PackId,
    back: PackId,
    table: Table,
}

#[derive(Debug, Clone)]
pub(crate) struct Clustered {
    inputs: usize,
    frequent: Table,
    /// Number of most frequent tokens.
    common: usize,
    clusters: Vec<ClusterTable>,
}

impl Clustered {
    pub(crate) fn new(
        layout: &mut Layout,
        group: GroupId,
        (inputs, vocabulary): (usize, usize),
        (clusters, without): (&Clusters, &[u32]),
        start: StartingValues,
    ) -> Self {
        let ends: Vec<usize> = clusters.ends.iter().copied().chain([vocabulary]).collect();
        let common = ends[0];
        let excluded = |tokens: Range<usize>| -> Vec<u32> {
            let within = without.iter().filter(|token| tokens.contains(&(**token as usize)));
            within.map(|token| token - tokens.start as u32).collect()
        };
        let size = (inputs, common + ends.len() - 1);
        // A cluster of which nothing is left has no probability either.
        let empty = (common as u32..).zip(ends.windows(2));
        let empty = empty.filter(|(_, pair)| excluded(pair[0]..pair[1]).len() == pair[1] - pair[0]);
        let of_frequent: Vec<u32> =
            excluded(0..common).into_iter().chain(empty.map(|(entry, _)| entry)).collect();
        let frequent = Table::new(layout, "output.frequent", group, size, &of_frequent, start);
        let mut width = inputs;
        let clusters = ends.windows(2).enumerate().map(|(index, pair)| {
            width = (width / clusters.shrink).max(8).min(inputs);
            let name = format!("output.cluster.{}", index + 1);
            let spread = start.spread(1.0 / (inputs as f64).sqrt());
            let projection = layout.push(format!("{name}.projection"), &[inputs, width], group, spread);
            let forward = layout.pack(&projection, (inputs, width), 0..width, false, ReadIn::Every);
            let back = layout.pack(&projection, (inputs, width), 0..width, true, ReadIn::Backward);
            let size = (width, pair[1] - pair[0]);
            let table = Table::new(layout, &name, group, size, &excluded(pair[0]..pair[1]), start);
            ClusterTable { tokens: pair[0]..pair[1], width, projection, forward, back, table }
        });
        Self { inputs, frequent, common, clusters: clusters.collect() }
    }

    /// Operations of the products for one token, where so large a share of tokens falls into a cluster.
    pub(crate) fn operations(&self, share_of: &dyn Fn(Range<usize>) -> f64) -> f64 {
        let inputs = self.inputs as f64;
        let clusters = self.clusters.iter().map(|cluster| {
            let width = cluster.width as f64;
            share_of(cluster.tokens.clone()) * 2.0 * width * (inputs + cluster.table.outcomes() as f64)
        });
        2.0 * inputs * self.frequent.outcomes() as f64 + clusters.sum::<f64>()
    }

    /// Scores that a chunk may take.
    pub(crate) fn scratch(&self, rows: usize) -> usize {
        let tables =
            std::iter::once(&self.frequent).chain(self.clusters.iter().map(|cluster| &cluster.table));
        tables.map(|table| chunk_rows(table.outcomes(), rows) * table.outcomes()).max().unwrap_or(0)
    }

    /// Numbers that rows of one cluster take: their inputs, their gradients, and both again in the cluster's width.
    pub(crate) fn gathered(&self, rows: usize, training: bool) -> usize {
        let widest = self.clusters.iter().map(|cluster| cluster.width).max().unwrap_or(0);
        rows * (self.inputs + widest) * (1 + usize::from(training))
    }

    fn frequent_targets(&self, targets: &[u32], out: &mut Vec<u32>) {
        out.clear();
        out.extend(targets.iter().map(|&target| {
            if (target as usize) < self.common {
                return target;
            }
            let cluster = self
                .clusters
                .iter()
                .position(|cluster| cluster.tokens.contains(&(target as usize)))
                .unwrap_or(0);
            (self.common + cluster) as u32
        }));
    }

    /// ln p of every token, for each row.
    pub(crate) fn log_probabilities<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        x: &[T],
        vocabulary: usize,
        out: &mut [T],
        scratch: &mut Scratch<T>,
        work: &mut Workspace<T>,
    ) {
        for (x, out) in x.chunks_exact(self.inputs).zip(out.chunks_exact_mut(vocabulary)) {
            let frequent = &mut scratch.scores[..self.frequent.outcomes()];
            self.frequent.scores(weights, x, frequent, work);
            normalise(frequent);
            out[..self.common].copy_from_slice(&frequent[..self.common]);
            for (index, cluster) in self.clusters.iter().enumerate() {
                let of_cluster = scratch.scores[self.common + index];
                let projected = &mut scratch.gathered[..cluster.width];
                project(cluster, weights, x, 1, projected, work);
                let part = &mut out[cluster.tokens.clone()];
                cluster.table.scores(weights, projected, part, work);
                normalise(part);
                part.iter_mut().for_each(|p| *p += of_cluster);
            }
        }
    }

    pub(crate) fn losses<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        x: &[T],
        targets: &[u32],
        scratch: &mut Scratch<T>,
        losses: &mut [f64],
        work: &mut Workspace<T>,
    ) {
        let Scratch { scores, gathered, local, rows, own, .. } = scratch;
        self.frequent_targets(targets, local);
        self.frequent.losses(weights, x, local, scores, losses, work);
        for cluster in &self.clusters {
            let count = gather(cluster, self.inputs, x, targets, gathered, local, rows);
            let (inputs, rest) = gathered.split_at_mut(count * self.inputs);
            let projected = &mut rest[..count * cluster.width];
            project(cluster, weights, inputs, count, projected, work);
            own.clear();
            own.resize(count, 0.0);
            cluster.table.losses(weights, projected, local, scores, own, work);
            rows.iter().zip(own.iter()).for_each(|(&row, loss)| losses[row as usize] += loss);
        }
    }

    #[expect(clippy::too_many_arguments, reason = "inputs, outputs and scratch of one pass")]
    pub(crate) fn learn<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        x: &[T],
        targets: &[u32],
        scale: T,
        smoothing: f64,
        scratch: &mut Scratch<T>,
        gradient: &mut Gradient<'_, T>,
        d_x: &mut [T],
        losses: &mut [f64],
        work: &mut Workspace<T>,
    ) -> f64 {
        let Scratch { scores, gathered, local, rows, own, .. } = scratch;
        self.frequent_targets(targets, local);
        let frequent = &self.frequent;
        let mut added =
            frequent.learn(weights, x, local, scale, smoothing, scores, gradient, d_x, losses, work);
        for cluster in &self.clusters {
            let count = gather(cluster, self.inputs, x, targets, gathered, local, rows);
            let (inputs, rest) = gathered.split_at_mut(count * self.inputs);
            let (projected, rest) = rest.split_at_mut(count * cluster.width);
            let (d_inputs, rest) = rest.split_at_mut(count * self.inputs);
            let d_projected = &mut rest[..count * cluster.width];
            project(cluster, weights, inputs, count, projected, work);
            own.clear();
            own.resize(count, 0.0);
            let table = &cluster.table;
            added += table.learn(
                weights,
                projected,
                local,
                scale,
                smoothing,
                scores,
                gradient,
                d_projected,
                own,
                work,
            );
            let d_projected = Matrix::new(d_projected, count, cluster.width);
            let inputs = Matrix::new(inputs, count, self.inputs).transposed();
            let mut out = MatrixMut::new(gradient.part(&cluster.projection), self.inputs, cluster.width);
            multiply(inputs, d_projected, &mut out, Accumulation::Replace, work);
            let mut out = MatrixMut::new(d_inputs, count, self.inputs);
            multiply_packed(d_projected, weights.packed(cluster.back), &mut out, Accumulation::Replace, work);
            for ((&row, loss), d_input) in rows.iter().zip(own.iter()).zip(d_inputs.chunks_exact(self.inputs))
            {
                losses[row as usize] += loss;
                let start = row as usize * self.inputs;
                d_x[start..start + self.inputs].iter_mut().zip(d_input).for_each(|(d, &x)| *d += x);
            }
        }
        added
    }
}

/// The vectors of the rows whose target is in the cluster, side by side; their targets within it and their places.
fn gather<T: Real>(
    cluster: &ClusterTable,
    width: usize,
    x: &[T],
    targets: &[u32],
    gathered: &mut [T],
    local: &mut Vec<u32>,
    rows: &mut Vec<u32>,
) -> usize {
    local.clear();
    rows.clear();
    for (row, &target) in targets.iter().enumerate() {
        if cluster.tokens.contains(&(target as usize)) {
            let to = rows.len() * width;
            gathered[to..to + width].copy_from_slice(&x[row * width..(row + 1) * width]);
            local.push(target - cluster.tokens.start as u32);
            rows.push(row as u32);
        }
    }
    rows.len()
}

fn project<T: Real>(
    cluster: &ClusterTable,
    weights: Parameters<'_, T>,
    x: &[T],
    rows: usize,
    out: &mut [T],
    work: &mut Workspace<T>,
) {
    let x = Matrix::new(x, rows, x.len() / rows.max(1));
    if rows > 0 {
        let mut out = MatrixMut::new(out, rows, cluster.width);
        multiply_packed(x, weights.packed(cluster.forward), &mut out, Accumulation::Replace, work);
    }
}

/// Turns scores into ln p.
fn normalise<T: Real>(scores: &mut [T]) {
    let best = scores.iter().copied().fold(scores[0], |best, score| score.greater(best));
    let sum: f64 = scores.iter().map(|&score| (score - best).to_f64().exp()).sum();
    let shift = best + T::of(sum.ln());
    scores.iter_mut().for_each(|score| *score -= shift);
}
