//! One lane of a language model.

use crate::blocks::dropout::Dropout;
use crate::blocks::recurrent::window::Extent;
use crate::blocks::regularisation::LaneUse;
use crate::blocks::stack::StackTape;
use crate::heads::scratch::Scratch;
use crate::numbers::real::Real;
use crate::products::pack::Workspace;

/// A window of parallel streams of tokens, step-major: number `step * rows + row`.
#[derive(Debug, Clone, Default)]
pub struct TokenWindow {
    /// Input tokens.
    pub inputs: Vec<u32>,
    /// Targets, or [`IGNORED`](crate::heads::loss::IGNORED).
    pub targets: Vec<u32>,
    /// Before which tokens a row's state is reset; empty if nowhere.
    pub resets: Vec<bool>,
}

impl TokenWindow {
    /// Before which tokens a row's state is reset, if anywhere.
    pub fn resets(&self) -> Option<&[bool]> {
        (!self.resets.is_empty()).then_some(&self.resets)
    }

    /// Empties it, so that it can be filled again.
    pub fn clear(&mut self) {
        self.inputs.clear();
        self.targets.clear();
        self.resets.clear();
    }
}

/// One lane of a batch: some of its rows, with their state and the memory to work in.
pub struct LanguageLane<T> {
    pub(super) used_for: LaneUse,
    /// The window last read.
    pub(super) extent: Extent,
    pub(super) capacity: Extent,
    /// Rows that it was made for.
    pub(super) rows_made: usize,
    pub(super) resets: bool,
    pub(super) embedded: Vec<T>,
    pub(super) tape: StackTape<T>,
    pub(super) states: Vec<Vec<T>>,
    /// Parts of a row's state, each for all rows together: the output, and the memory if there is one.
    pub(super) state_parts: usize,
    pub(super) projected: Vec<T>,
    pub(super) head: Scratch<T>,
    pub(super) work: Workspace<T>,
    pub(super) d_outputs: Vec<T>,
    pub(super) d_inputs: Vec<T>,
    pub(super) dropped_words: Vec<T>,
}

impl<T: Real> LanguageLane<T> {
    /// The masks of one step, if the lane drops anything.
    pub(super) fn dropout(&self, seed: u64, step: u64, lane: u64) -> Option<Dropout> {
        let rates = self.used_for.regularisation().dropout;
        rates.any().then(|| Dropout::draw(rates, seed, step, lane))
    }

    /// The largest window that it has room for.
    pub fn capacity(&self) -> Extent {
        self.capacity
    }

    /// Rows that it was made for.
    pub fn rows_made(&self) -> usize {
        self.rows_made
    }

    /// Uses the lane for so many rows from now on. Their states have to be carried from elsewhere.
    ///
    /// # Panics
    /// If it was made for fewer.
    pub fn use_rows(&mut self, rows: usize) {
        assert!(rows <= self.rows_made, "rows of a lane");
        for states in &mut self.states {
            let width = states.len() / self.capacity.rows.max(1);
            states.resize(rows * width, T::ZERO);
        }
        self.capacity.rows = rows;
    }

    /// The carried state, one array a layer: rows x hidden outputs, then the memories if there are any.
    pub fn states(&self) -> &[Vec<T>] {
        &self.states
    }

    /// The carried state, to be set.
    pub fn states_mut(&mut self) -> &mut [Vec<T>] {
        &mut self.states
    }

    /// The carried state of one row, one array a layer.
    pub fn row_states(&self, row: usize) -> Vec<Vec<T>> {
        let of = |states: &Vec<T>| {
            let block = states.len() / self.state_parts / self.capacity.rows.max(1);
            let part = |part: usize| &states[(part * self.capacity.rows + row) * block..][..block];
            (0..self.state_parts).flat_map(part).copied().collect()
        };
        self.states.iter().map(of).collect()
    }

    /// Carries on from rows of other states: row r of this lane from row `parents[r]` of `states`, which have `rows` rows.
    ///
    /// # Panics
    /// If the states are of another model, or a parent is none of their rows.
    pub fn carry_from(&mut self, states: &[Vec<T>], rows: usize, parents: &[usize]) {
        assert!(parents.len() == self.capacity.rows, "a parent for each row");
        for (row, &parent) in parents.iter().enumerate() {
            self.carry_row(row, states, rows, parent);
        }
    }

    /// Carries one row on from row `parent` of other states, which have `rows` rows.
    ///
    /// # Panics
    /// If the states are of another model, or there is no such row.
    pub fn carry_row(&mut self, row: usize, states: &[Vec<T>], rows: usize, parent: usize) {
        let own_rows = self.capacity.rows;
        for (to, from) in self.states.iter_mut().zip(states) {
            let width = from.len() / rows.max(1);
            assert!(to.len() == width * own_rows, "states of another model");
            let block = width / self.state_parts;
            for part in 0..self.state_parts {
                let at = (part * own_rows + row) * block;
                let of = (part * rows + parent) * block;
                to[at..at + block].copy_from_slice(&from[of..of + block]);
            }
        }
    }
}
