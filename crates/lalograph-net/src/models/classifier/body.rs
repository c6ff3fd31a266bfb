//! The body of a classifier: from the vectors of all steps of a document to one vector, and back.

use std::ops::Range;

use super::lane::{BodyLane, ClassifierLane, DocumentWindow, RecurrentLane};
use super::shape::{Body, ClassifierShape};
use crate::blocks::convolution::{Convolution, Documents};
use crate::blocks::dropout::{Dropout, apply as apply_mask, drop_out};
use crate::blocks::embedding;
use crate::blocks::pooling::{Pool, Pooling};
use crate::blocks::recurrent::window::{Extent, Window};
use crate::blocks::regularisation::LaneUse;
use crate::blocks::stack::{Penalties, Stack, StackRoom};
use crate::models::language::Operations;
use crate::models::network::LaneStep;
use crate::numbers::real::Real;
use crate::numbers::rooms::Rooms;
use crate::vectorised;
use crate::weights::gradient::{Gradient, GradientParts, RowGradient};
use crate::weights::layout::{GroupId, Layout};
use crate::weights::packed::Parameters;

/// Steps of documents that filters read together, unless one document has more.
const TOGETHER: usize = 2048;

/// The blocks of a body.
#[derive(Debug, Clone)]
enum Blocks {
    Pooled(Pool),
    Convolution(Vec<Convolution>),
    Recurrent {
        stack: Stack,
        pool: Pool,
        window: usize,
        /// The tensors of the layers.
        layers: Range<usize>,
    },
}

/// From the steps of documents to one vector each.
#[derive(Debug, Clone)]
pub(super) struct Encoder {
    /// Width of the vector of a step.
    width: usize,
    /// The table of token vectors; none for rows of numbers.
    embedding: Option<Range<usize>>,
    blocks: Blocks,
}

impl Encoder {
    /// Adds the tensors of a body to `layout`; `embedding` is the place of the token vectors, if there are tokens.
    pub(super) fn new(
        layout: &mut Layout,
        group: GroupId,
        shape: &ClassifierShape,
        embedding: Option<Range<usize>>,
    ) -> Self {
        Self { width: shape.input.width(), embedding, blocks: Blocks::new(layout, group, shape) }
    }
}

impl Blocks {
    fn new(layout: &mut Layout, group: GroupId, shape: &ClassifierShape) -> Self {
        let width = shape.input.width();
        match &shape.body {
            Body::Pooled { pooling } => {
                // The last vector is that of a token, and has little information on a document.
                let pooling = if *pooling == Pooling::Last { Pooling::Both } else { *pooling };
                Self::Pooled(Pool::new(pooling, width, width))
            }
            Body::Convolution { widths, filters } => {
                let one = |&read: &usize| {
                    let sizes = (read, width, *filters);
                    Convolution::new(layout, group, sizes, shape.activation, shape.start)
                };
                Self::Convolution(widths.iter().map(one).collect())
            }
            Body::Recurrent { stack: layers_of, pooling, window } => {
                let start = layout.len();
                let stack = Stack::new(layout, group, *layers_of);
                Self::Recurrent {
                    pool: Pool::new(*pooling, layers_of.outputs(), layers_of.hidden),
                    stack,
                    window: *window,
                    layers: start..layout.len(),
                }
            }
        }
    }
}

impl Encoder {
    /// Width of the pooled vector.
    pub(super) fn outputs(&self) -> usize {
        match &self.blocks {
            Blocks::Pooled(pool) | Blocks::Recurrent { pool, .. } => pool.outputs(),
            Blocks::Convolution(convolutions) => convolutions.iter().map(Convolution::filters).sum(),
        }
    }

    /// Matrix operations for one step of a document.
    pub(super) fn operations(&self) -> Operations {
        match &self.blocks {
            Blocks::Pooled(_) => Operations { forward: 0.0, training: 0.0 },
            Blocks::Convolution(convolutions) => {
                // The backward pass reads one place a filter and document.
                let forward = convolutions.iter().map(Convolution::operations).sum();
                Operations { forward, training: forward }
            }
            Blocks::Recurrent { stack, .. } => {
                let forward = stack.operations();
                Operations { forward, training: 3.0 * forward }
            }
        }
    }

    /// Tokens of a lane whose vectors can have a gradient, at most.
    pub(super) fn touched(&self, extent: Extent) -> usize {
        let steps = match &self.blocks {
            Blocks::Convolution(convolutions) => {
                let read = convolutions.iter().map(|filters| filters.width() * filters.filters()).sum();
                extent.steps.min(read)
            }
            _ => extent.steps,
        };
        extent.rows.saturating_mul(steps)
    }

    pub(super) fn lane<T: Real>(&self, extent: Extent, used_for: LaneUse, rooms: &mut Rooms) -> BodyLane<T> {
        let (training, rates) = (used_for.is_training(), used_for.regularisation().dropout);
        let (width, masked) = (self.width, rates.inputs > 0.0);
        match &self.blocks {
            Blocks::Pooled(pool) => {
                let numbers = extent.steps * width;
                BodyLane::Pooled {
                    tape: pool.tape(extent.rows, rooms),
                    x: rooms.zeros(numbers),
                    d_x: rooms.zeros_if(training, numbers),
                    mask: rooms.zeros_if(masked, numbers),
                }
            }
            Blocks::Convolution(convolutions) => {
                let steps = extent.steps.max(TOGETHER.min(extent.tokens()));
                BodyLane::Convolution {
                    tapes: convolutions
                        .iter()
                        .map(|filters| filters.tape(extent.rows, training, rooms))
                        .collect(),
                    x: rooms.zeros(steps * width),
                    d_x: rooms.zeros_if(training, steps * width),
                    mask: rooms.zeros_if(masked, steps * width),
                    touched: rooms.zeros_if(training, steps),
                    documents: rooms.list(extent.rows),
                }
            }
            Blocks::Recurrent { stack, pool, window, layers } => {
                let part = Extent { steps: extent.steps.min(*window), ..extent };
                let windows = extent.steps.div_ceil(*window);
                let resets = resets(stack);
                let room = StackRoom {
                    extent: part,
                    training,
                    resets,
                    dropout: rates.layers > 0.0,
                    recurrent_dropout: rates.recurrent > 0.0,
                };
                let numbers = part.tokens() * width;
                let widest = part.tokens() * width.max(stack.shape().outputs());
                let several = training && windows > 1;
                BodyLane::Recurrent(Box::new(RecurrentLane {
                    x: rooms.zeros(numbers),
                    mask: rooms.zeros_if(masked, numbers),
                    resets: rooms.zeros_if(resets, part.tokens()),
                    tape: stack.tape(room, rooms),
                    states: stack.states(extent.rows, rooms),
                    starts: (0..if several { windows } else { 0 })
                        .map(|_| stack.states(extent.rows, rooms))
                        .collect(),
                    pool: pool.tape(extent.rows, rooms),
                    d_out: rooms.zeros_if(training, widest),
                    d_in: rooms.zeros_if(training, widest),
                    d_layers: rooms.zeros_if(several, layers.len()),
                }))
            }
        }
    }
}

/// Documents that lie one after another, taken together up to a number of steps: their numbers, and their steps in the window.
struct Groups<'a> {
    lengths: &'a [usize],
    most: usize,
    first: usize,
    start: usize,
}

impl<'a> Groups<'a> {
    fn of(window: &'a DocumentWindow, most: usize) -> Self {
        Self { lengths: &window.lengths, most, first: 0, start: 0 }
    }
}

impl Iterator for Groups<'_> {
    type Item = (Range<usize>, Range<usize>);

    fn next(&mut self) -> Option<Self::Item> {
        let (first, start) = (self.first, self.start);
        let mut steps = *self.lengths.get(first)?;
        let mut last = first + 1;
        while let Some(&length) = self.lengths.get(last).filter(|&&length| steps + length <= self.most) {
            steps += length;
            last += 1;
        }
        (self.first, self.start) = (last, start + steps);
        Some((first..last, start..start + steps))
    }
}

impl Encoder {
    /// Writes the vectors of some steps of the window to `x` (steps x width), after dropout; `mask` is that of their numbers.
    fn vectors<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        window: &DocumentWindow,
        steps: Range<usize>,
        x: &mut [T],
        mask: &mut [T],
        dropout: Option<&mut Dropout>,
    ) {
        let width = self.width;
        match &self.embedding {
            Some(table) => embedding::forward(weights.part(table), width, &window.tokens[steps.clone()], x),
            None => {
                let numbers = &window.numbers[steps.start * width..steps.end * width];
                x.iter_mut().zip(numbers).for_each(|(x, &number)| *x = T::of(f64::from(number)));
            }
        }
        let Some(dropout) = dropout else { return };
        if dropout.rates.inputs > 0.0 {
            drop_out(x, &mut mask[..x.len()], dropout.rates.inputs, &mut dropout.random);
        }
        self.drop_words(&window.tokens, steps, x, dropout);
    }

    /// Drops whole words: their vectors in the forward pass, the gradients by them in the backward pass.
    fn drop_words<T: Real>(&self, tokens: &[u32], steps: Range<usize>, x: &mut [T], dropout: &Dropout) {
        if dropout.rates.words > 0.0 && self.embedding.is_some() {
            let rows = x.chunks_exact_mut(self.width);
            for (row, &token) in rows.zip(&tokens[steps]) {
                let factor = dropout.words.factor::<T>(token);
                row.iter_mut().for_each(|x| *x *= factor);
            }
        }
    }

    /// Fills the pooled vectors of a lane.
    pub(super) fn encode<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        window: &DocumentWindow,
        lane: &mut ClassifierLane<T>,
        step: Option<LaneStep>,
    ) {
        let outputs = self.outputs();
        let width = self.width;
        let changed = lane.used_for.regularisation().dropout;
        let plain = self.embedding.as_ref().filter(|_| changed.inputs == 0.0 && changed.words == 0.0);
        let masks = |lane: &ClassifierLane<T>, part: usize| lane.dropout(step, part as u64);
        match &self.blocks {
            Blocks::Pooled(pool) => {
                for (row, (documents, steps)) in Groups::of(window, 0).enumerate() {
                    let length = window.lengths[documents.start];
                    let mut dropout = masks(lane, row);
                    let BodyLane::Pooled { tape, x, mask, .. } = &mut lane.body else { return };
                    match plain {
                        // Without dropout the rows of the table are read where they are.
                        Some(table) => {
                            let table = weights.part(table);
                            let rows = window.tokens[steps].iter().map(|&token| token as usize * width);
                            pool.add(tape, row, (0, length), rows.map(|at| &table[at..at + width]));
                        }
                        None => {
                            let x = &mut x[..steps.len() * width];
                            self.vectors(weights, window, steps, x, mask, dropout.as_mut());
                            pool.add(tape, row, (0, length), x.chunks_exact(width));
                        }
                    }
                    pool.finish(tape, row, length, &mut lane.vectors[0][row * outputs..(row + 1) * outputs]);
                }
            }
            Blocks::Convolution(convolutions) => {
                for (part, (documents, steps)) in Groups::of(window, TOGETHER).enumerate() {
                    let mut dropout = masks(lane, part);
                    let ClassifierLane { body, vectors, work, .. } = &mut *lane;
                    let BodyLane::Convolution { tapes, x, mask, documents: bounds, .. } = body else {
                        return;
                    };
                    let x = &mut x[..steps.len() * width];
                    self.vectors(weights, window, steps, x, mask, dropout.as_mut());
                    fill_bounds(bounds, &window.lengths[documents.clone()]);
                    let read = Documents { x, bounds, first: documents.start };
                    let mut from = 0;
                    for (filters, tape) in convolutions.iter().zip(tapes) {
                        filters.forward(weights, read, tape, work);
                        for row in documents.clone() {
                            let out = &mut vectors[0][row * outputs + from..][..filters.filters()];
                            out.copy_from_slice(filters.best(tape, row));
                        }
                        from += filters.filters();
                    }
                }
            }
            Blocks::Recurrent { stack, pool, .. } => {
                let (documents, longest) = (window.lengths.len(), longest(window));
                let ClassifierLane { body, .. } = &mut *lane;
                let BodyLane::Recurrent(own) = body else { return };
                for (state, width) in own.states.iter_mut().zip(stack.state_widths()) {
                    state.resize(documents * width, T::ZERO);
                }
                stack.begin(weights, documents, &mut own.states);
                for part in 0..self.windows(longest) {
                    let ClassifierLane { body, .. } = &mut *lane;
                    let BodyLane::Recurrent(own) = body else { return };
                    if let Some(start) = own.starts.get_mut(part) {
                        start.clone_from(&own.states);
                    }
                    self.read_part(weights, window, lane, step, part);
                    let BodyLane::Recurrent(own) = &mut lane.body else { return };
                    let (from, to) = self.part_steps(part, longest);
                    let extent = Extent { steps: to - from, rows: documents };
                    let layer_width = stack.shape().outputs();
                    let outputs = stack.outputs(extent, &own.tape);
                    for (row, &length) in window.lengths.iter().enumerate() {
                        let steps = 0..length.min(to).saturating_sub(from);
                        let places = steps.map(|step| (step * documents + row) * layer_width);
                        let rows = places.map(|at| &outputs[at..at + layer_width]);
                        pool.add(&mut own.pool, row, (from, length), rows);
                    }
                }
                let BodyLane::Recurrent(own) = &lane.body else { return };
                for (row, &length) in window.lengths.iter().enumerate() {
                    let out = &mut lane.vectors[0][row * outputs..(row + 1) * outputs];
                    pool.finish(&own.pool, row, length, out);
                }
            }
        }
    }

    /// Windows over documents of up to `longest` steps.
    fn windows(&self, longest: usize) -> usize {
        match self.blocks {
            Blocks::Recurrent { window, .. } => longest.div_ceil(window),
            _ => 1,
        }
    }

    /// First step of a window, and the step after its last.
    fn part_steps(&self, part: usize, longest: usize) -> (usize, usize) {
        match self.blocks {
            Blocks::Recurrent { window, .. } => (part * window, ((part + 1) * window).min(longest)),
            _ => (0, longest),
        }
    }

    /// Runs the recurrent layers over one window of all documents, from the states in the lane.
    fn read_part<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        window: &DocumentWindow,
        lane: &mut ClassifierLane<T>,
        step: Option<LaneStep>,
        part: usize,
    ) {
        let Blocks::Recurrent { stack, .. } = &self.blocks else { return };
        let (documents, longest) = (window.lengths.len(), longest(window));
        let (from, to) = self.part_steps(part, longest);
        let extent = Extent { steps: to - from, rows: documents };
        let width = self.width;
        let mut dropout = lane.dropout(step, part as u64);
        let ClassifierLane { body, work, .. } = lane;
        let BodyLane::Recurrent(own) = body else { return };
        let x = &mut own.x[..extent.tokens() * width];
        let mut start = 0;
        for (row, &length) in window.lengths.iter().enumerate() {
            for step in from..to {
                let at = ((step - from) * documents + row) * width;
                let x = &mut x[at..at + width];
                if step < length {
                    let place = start + step;
                    self.vectors(weights, window, place..place + 1, x, &mut [], None);
                    if let Some(dropout) = &dropout {
                        self.drop_words(&window.tokens, place..place + 1, x, dropout);
                    }
                } else {
                    x.fill(T::ZERO);
                }
            }
            start += length;
        }
        if let Some(dropout) = dropout.as_mut().filter(|dropout| dropout.rates.inputs > 0.0) {
            drop_out(x, &mut own.mask[..x.len()], dropout.rates.inputs, &mut dropout.random);
        }
        if resets(stack) {
            let resets = &mut own.resets[..extent.tokens()];
            resets.fill(false);
            if part == 0 {
                // At the first step the state is the first state, which may be learnt.
                resets[..documents].fill(true);
            }
            for (row, &length) in window.lengths.iter().enumerate() {
                // A layer that reads from the end starts at the document's last step, not in the padding after it.
                if (from.max(1)..to).contains(&length) {
                    resets[(length - from) * documents + row] = true;
                }
            }
        }
        // What is dropped after the last layer is dropped from the pooled vector.
        if let Some(dropout) = &mut dropout {
            dropout.rates.output = 0.0;
        }
        let read = Window { extent, resets: resets_of(&own.resets, extent) };
        stack.forward(
            weights,
            read,
            &own.x[..extent.tokens() * width],
            &mut own.states,
            &mut own.tape,
            work,
            dropout.as_mut(),
        );
    }

    /// The backward pass from the gradient by the pooled vectors, which is in the first of the lane's two gradients.
    pub(super) fn encode_backward<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        window: &DocumentWindow,
        step: LaneStep,
        lane: &mut ClassifierLane<T>,
        gradient: &mut GradientParts<'_, T>,
    ) {
        let outputs = self.outputs();
        let width = self.width;
        let changed = lane.used_for.regularisation().dropout;
        let plain = self.embedding.as_ref().filter(|_| changed.inputs == 0.0 && changed.words == 0.0);
        match &self.blocks {
            Blocks::Pooled(pool) => {
                for (row, (documents, steps)) in Groups::of(window, 0).enumerate() {
                    let Some(rows) = gradient.tables.first_mut() else { return };
                    let length = window.lengths[documents.start];
                    let mut dropout = lane.dropout(Some(step), row as u64);
                    let ClassifierLane { body, d_vectors: [d, _], rows: sums, .. } = &mut *lane;
                    let BodyLane::Pooled { tape, x, d_x, mask } = body else { return };
                    if plain.is_some() {
                        let tokens = &window.tokens[steps];
                        let d = &d[row * outputs..(row + 1) * outputs];
                        let same = &mut d_x[..width];
                        pool.spread(tape, row, length, d, same, |step, index, d| {
                            sums.row(rows, tokens[step])[index] += d;
                        });
                        if pool.reaches_all() {
                            for &token in tokens {
                                let row = sums.row(rows, token);
                                vectorised!(row.iter_mut().zip(&*same).for_each(|(sum, &d)| *sum += d));
                            }
                        }
                        continue;
                    }
                    let d_x = &mut d_x[..length * width];
                    d_x.fill(T::ZERO);
                    let d = &d[row * outputs..(row + 1) * outputs];
                    pool.backward(tape, row, (0, length), length, d, |step| step * width, d_x);
                    if let Some(dropout) = &mut dropout {
                        // The masks of the forward pass, drawn again.
                        self.vectors(
                            weights,
                            window,
                            steps.clone(),
                            &mut x[..d_x.len()],
                            mask,
                            Some(dropout),
                        );
                        if dropout.rates.inputs > 0.0 {
                            apply_mask(&mask[..d_x.len()], d_x);
                        }
                        self.drop_words(&window.tokens, steps.clone(), d_x, dropout);
                    }
                    add_rows(sums, rows, &window.tokens[steps], d_x, width);
                }
            }
            Blocks::Convolution(convolutions) => {
                convolutions.iter().for_each(|filters| filters.clear(&mut gradient.dense));
                for (part, (documents, steps)) in Groups::of(window, TOGETHER).enumerate() {
                    let mut dropout = lane.dropout(Some(step), part as u64);
                    let ClassifierLane { body, d_vectors: [d, _], rows: sums, .. } = &mut *lane;
                    let BodyLane::Convolution { tapes, x, d_x, mask, touched, documents: bounds } = body
                    else {
                        return;
                    };
                    let (x, d_x) = (&mut x[..steps.len() * width], &mut d_x[..steps.len() * width]);
                    // One group fills `x`, and the next one fills it again.
                    self.vectors(weights, window, steps.clone(), x, mask, dropout.as_mut());
                    d_x.fill(T::ZERO);
                    let touched = &mut touched[..steps.len()];
                    touched.fill(false);
                    fill_bounds(bounds, &window.lengths[documents.clone()]);
                    let read = Documents { x, bounds, first: documents.start };
                    let mut from = 0;
                    for (filters, tape) in convolutions.iter().zip(tapes.iter_mut()) {
                        let to = from + filters.filters();
                        for row in documents.clone() {
                            filters.begin_backward(tape, row, &d[row * outputs + from..row * outputs + to]);
                        }
                        filters.backward(weights, read, tape, &mut gradient.dense, d_x, touched);
                        from = to;
                    }
                    if let Some(dropout) = &dropout {
                        if dropout.rates.inputs > 0.0 {
                            apply_mask(&mask[..d_x.len()], d_x);
                        }
                        self.drop_words(&window.tokens, steps.clone(), d_x, dropout);
                    }
                    if let Some(rows) = gradient.tables.first_mut() {
                        let tokens =
                            window.tokens[steps].iter().zip(d_x.chunks_exact(width)).zip(touched.iter());
                        for ((&token, d), _) in tokens.filter(|(_, touched)| **touched) {
                            sums.add(rows, token, d);
                        }
                    }
                }
            }
            Blocks::Recurrent { .. } => self.recurrent_backward(weights, window, step, lane, gradient),
        }
    }

    fn recurrent_backward<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        window: &DocumentWindow,
        step: LaneStep,
        lane: &mut ClassifierLane<T>,
        gradient: &mut GradientParts<'_, T>,
    ) {
        let Blocks::Recurrent { stack, pool, layers, .. } = &self.blocks else { return };
        let (outputs, width) = (pool.outputs(), self.width);
        let (documents, longest) = (window.lengths.len(), longest(window));
        let layer_width = stack.shape().outputs();
        let windows = self.windows(longest);
        let mut first = true;
        for part in (0..windows).rev() {
            let (from, to) = self.part_steps(part, longest);
            if !window.lengths.iter().any(|&length| pool.reaches((from, to), length)) {
                continue;
            }
            if part + 1 < windows {
                let BodyLane::Recurrent(own) = &mut lane.body else { return };
                own.states.clone_from(&own.starts[part]);
                self.read_part(weights, window, lane, Some(step), part);
            }
            let mut dropout = lane.dropout(Some(step), part as u64);
            let ClassifierLane { body, d_vectors: [d, _], rows: sums, work, .. } = &mut *lane;
            let BodyLane::Recurrent(own) = body else { return };
            let extent = Extent { steps: to - from, rows: documents };
            own.d_out[..extent.tokens() * layer_width].fill(T::ZERO);
            for (row, &length) in window.lengths.iter().enumerate() {
                let d = &d[row * outputs..(row + 1) * outputs];
                let place = |step: usize| ((step - from) * documents + row) * layer_width;
                pool.backward(&own.pool, row, (from, to), length, d, place, &mut own.d_out);
            }
            let read = Window { extent, resets: resets_of(&own.resets, extent) };
            let x = &own.x[..extent.tokens() * width];
            let none = Penalties::default();
            // A backward pass writes the gradient: the first window's to its place, that of any other beside it, to be added.
            if first {
                stack.backward(
                    weights,
                    read,
                    x,
                    none,
                    &mut own.d_out,
                    &mut own.d_in,
                    &mut own.tape,
                    &mut gradient.dense.unfinished(),
                    work,
                );
            } else {
                let mut beside = Gradient { data: &mut own.d_layers, offset: layers.start, handover: None };
                stack.backward(
                    weights,
                    read,
                    x,
                    none,
                    &mut own.d_out,
                    &mut own.d_in,
                    &mut own.tape,
                    &mut beside,
                    work,
                );
                drop(beside);
                let sum = gradient.dense.part(layers);
                sum.iter_mut().zip(&own.d_layers).for_each(|(sum, &d)| *sum += d);
            }
            first = false;
            let Some(rows) = gradient.tables.first_mut() else { continue };
            let d_x = &mut own.d_out[..extent.tokens() * width];
            if dropout.as_ref().is_some_and(|dropout| dropout.rates.inputs > 0.0) {
                apply_mask(&own.mask[..d_x.len()], d_x);
            }
            let mut start = 0;
            for (row, &length) in window.lengths.iter().enumerate() {
                for step in from..to.min(length) {
                    let at = ((step - from) * documents + row) * width;
                    let d_x = &mut d_x[at..at + width];
                    let place = start + step;
                    if let Some(dropout) = &mut dropout {
                        self.drop_words(&window.tokens, place..place + 1, d_x, dropout);
                    }
                    sums.add(rows, window.tokens[place], d_x);
                }
                start += length;
            }
        }
    }
}

/// The steps of documents of these lengths that lie one after another.
fn fill_bounds(bounds: &mut Vec<Range<usize>>, lengths: &[usize]) {
    bounds.clear();
    bounds.extend(lengths.iter().scan(0, |end, length| {
        let start = *end;
        *end += length;
        Some(start..*end)
    }));
}

/// Whether documents are reset inside a window.
fn resets(stack: &Stack) -> bool {
    stack.shape().both_directions || stack.shape().learn_first_state
}

/// The resets of a window, if it has any.
fn resets_of(resets: &[bool], extent: Extent) -> Option<&[bool]> {
    (!resets.is_empty()).then(|| &resets[..extent.tokens()])
}

/// Steps of the longest document.
fn longest(window: &DocumentWindow) -> usize {
    window.lengths.iter().copied().max().unwrap_or(0)
}

fn add_rows<T: Real>(
    sums: &mut embedding::RowSums,
    rows: &mut RowGradient<T>,
    tokens: &[u32],
    d_x: &[T],
    width: usize,
) {
    for (&token, d) in tokens.iter().zip(d_x.chunks_exact(width)) {
        sums.add(rows, token, d);
    }
}
