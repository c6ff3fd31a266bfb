//! Windows of text for the network.

use lalograph_net::output::IGNORED;
use lalograph_net::random::stream;
use lalograph_net::step::Batch;
use lalograph_text::Reserved;
use lalograph_text::tokens::TokenSequence;
use rand::seq::SliceRandom;

use crate::plan::{LossAt, TrainingPlan, WindowKind};

/// A window of a batch, step-major, in buffers that are used again and again.
#[derive(Debug, Default)]
pub(crate) struct WindowBuffer {
    inputs: Vec<u32>,
    targets: Vec<u32>,
    fresh: Vec<bool>,
    /// Whether rows may begin anew.
    begins: bool,
}

impl WindowBuffer {
    pub(crate) fn new(begins: bool) -> Self {
        Self { begins, ..Self::default() }
    }

    fn clear(&mut self) {
        self.inputs.clear();
        self.targets.clear();
        self.fresh.clear();
    }

    fn push(&mut self, input: u32, target: u32, fresh: bool) {
        self.inputs.push(input);
        self.targets.push(target);
        if self.begins {
            self.fresh.push(fresh);
        }
    }

    /// The window as the network reads it.
    pub(crate) fn batch(&self) -> Batch<'_> {
        Batch { inputs: &self.inputs, targets: &self.targets, fresh: self.begins.then_some(&self.fresh) }
    }

    /// How many of its tokens are predicted.
    pub(crate) fn scored(&self) -> u64 {
        self.targets.iter().filter(|&&target| target != IGNORED).count() as u64
    }
}

/// The training text as windows, pass after pass. Every pass has the same number of them.
#[derive(Debug)]
pub(crate) struct TrainingWindows<'t> {
    text: &'t TokenSequence,
    rows: usize,
    seed: u64,
    reset: bool,
    kind: Kind,
    /// The pass that `kind` is laid out for, if it is for one.
    pass: Option<u64>,
}

#[derive(Debug)]
enum Kind {
    /// `rows` streams of equal length, each read from left to right in windows of nearly equal length; fewer than `rows` tokens at
    /// the end of the text are left out. The bounds of all windows, in tokens of a stream.
    Carried { length: usize, window: usize, jitter: f64, bounds: Vec<usize> },
    /// Windows by themselves: how long, how far apart, how many; in this pass's order.
    Independent { window: usize, stride: usize, count: usize, last_only: bool, order: Vec<u32> },
    /// For each row its documents, each from one token to before another; in this pass's order.
    Documents { window: usize, longest: usize, rows: Vec<Vec<(u64, u64)>>, cursors: Vec<(usize, u64)> },
}

impl<'t> TrainingWindows<'t> {
    /// The windows that a plan asks for.
    pub(crate) fn new(text: &'t TokenSequence, plan: &TrainingPlan) -> Self {
        let (rows, window) = (plan.batch, plan.window);
        let kind = match plan.windows {
            WindowKind::Carried => {
                let length = text.len() / rows;
                Kind::Carried { length, window, jitter: plan.window_jitter, bounds: Vec::new() }
            }
            WindowKind::Independent => {
                let stride = plan.stride.unwrap_or(window);
                let count = if text.len() < window { 0 } else { (text.len() - window) / stride + 1 };
                let last_only = plan.loss_at == LossAt::Last;
                Kind::Independent { window, stride, count, last_only, order: (0..count as u32).collect() }
            }
            WindowKind::Documents => {
                let dealt = deal_documents(text, rows, plan.seed);
                let length = |row: &Vec<(u64, u64)>| row.iter().map(|(from, to)| to - from).sum::<u64>();
                let longest = dealt.iter().map(length).max().unwrap_or(0) as usize;
                Kind::Documents { window, longest, rows: dealt, cursors: vec![(0, 0); rows] }
            }
        };
        Self { text, rows, seed: plan.seed, reset: plan.reset_at_documents, kind, pass: None }
    }

    /// Windows in one pass over the text.
    pub(crate) fn windows(&self) -> usize {
        match &self.kind {
            Kind::Carried { length, window, .. } => length.div_ceil(*window),
            Kind::Independent { count, .. } => count.div_ceil(self.rows),
            Kind::Documents { window, longest, .. } => longest.div_ceil(*window),
        }
    }

    /// The most tokens that a row of a window has.
    pub(crate) fn most_steps(plan: &TrainingPlan) -> usize {
        match plan.windows {
            WindowKind::Carried => plan.window + 2 * reach(plan.window, plan.window_jitter),
            _ => plan.window,
        }
    }

    /// Whether rows begin anew inside windows of such a plan.
    pub(crate) fn begin_anew(plan: &TrainingPlan) -> bool {
        plan.reset_at_documents || plan.windows != WindowKind::Carried
    }

    /// Fills `buffer` with window `index` of pass `pass`. The windows of a pass are to be asked for in order, from any of them on.
    pub(crate) fn window(&mut self, pass: u64, index: usize, buffer: &mut WindowBuffer) {
        let windows = self.windows();
        if self.pass != Some(pass) {
            self.lay_out(pass, windows);
            self.pass = Some(pass);
        }
        buffer.clear();
        let text = self.text;
        match &mut self.kind {
            Kind::Carried { length, bounds, .. } => {
                for step in bounds[index]..bounds[index + 1] {
                    for row in 0..self.rows {
                        let at = row * *length + step;
                        let input = text.input(at);
                        // A pass begins with no state; elsewhere a document does, if it is to.
                        let fresh = step == 0 || (self.reset && input == Reserved::START);
                        buffer.push(input, text.index(at), fresh);
                    }
                }
            }
            Kind::Independent { window, stride, last_only, order, .. } => {
                let chosen = &order[index * self.rows..order.len().min((index + 1) * self.rows)];
                for step in 0..*window {
                    for row in 0..self.rows {
                        let Some(&which) = chosen.get(row) else {
                            buffer.push(Reserved::PADDING, IGNORED, step == 0);
                            continue;
                        };
                        let at = which as usize * *stride + step;
                        let input = text.input(at);
                        let scored = !*last_only || step + 1 == *window;
                        let target = if scored { text.index(at) } else { IGNORED };
                        buffer.push(input, target, step == 0 || (self.reset && input == Reserved::START));
                    }
                }
            }
            Kind::Documents { window, rows, cursors, .. } => {
                if index == 0 {
                    cursors.fill((0, 0));
                }
                for _ in 0..*window {
                    for (row, (document, done)) in rows.iter().zip(cursors.iter_mut()) {
                        let Some(&(from, to)) = row.get(*document) else {
                            buffer.push(Reserved::PADDING, IGNORED, false);
                            continue;
                        };
                        let at = (from + *done) as usize;
                        buffer.push(text.input(at), text.index(at), *done == 0);
                        *done += 1;
                        if from + *done == to {
                            (*document, *done) = (*document + 1, 0);
                        }
                    }
                }
            }
        }
    }

    /// Draws what differs from pass to pass.
    fn lay_out(&mut self, pass: u64, windows: usize) {
        match &mut self.kind {
            Kind::Carried { length, window, jitter, bounds } => {
                let mut random = stream(self.seed, "window edges", &[pass]);
                let reach = reach(*window, *jitter) as i64;
                bounds.clear();
                bounds.extend((0..=windows).map(|index| {
                    let even = index * *length / windows.max(1);
                    if reach == 0 || index == 0 || index == windows {
                        return even;
                    }
                    let moved = even as i64 + rand::RngExt::random_range(&mut random, -reach..=reach);
                    moved.clamp(0, *length as i64) as usize
                }));
            }
            Kind::Independent { order, count, .. } => {
                // From the order of the text, so that a pass does not depend on those before it.
                order.clear();
                order.extend(0..*count as u32);
                order.shuffle(&mut stream(self.seed, "window order", &[pass]));
            }
            Kind::Documents { rows, .. } => {
                for (index, row) in rows.iter_mut().enumerate() {
                    row.sort_unstable();
                    row.shuffle(&mut stream(self.seed, "document order", &[pass, index as u64]));
                }
            }
        }
    }

    /// Has window `index` of pass `pass` be the next to be asked for, as if those before it in its pass had been.
    pub(crate) fn go_to(&mut self, pass: u64, index: usize, buffer: &mut WindowBuffer) {
        self.pass = None;
        // Only rows of documents depend on the windows before.
        let from = if matches!(self.kind, Kind::Documents { .. }) { 0 } else { index };
        for index in from..index {
            self.window(pass, index, buffer);
        }
    }
}

/// How far an edge may be moved: less than half a window, so that none is lost.
fn reach(window: usize, jitter: f64) -> usize {
    ((window as f64 * jitter / 2.0) as usize).min(window.saturating_sub(1) / 2)
}

/// Deals all documents out to rows, each to the row that is shortest so far, from the longest document to the shortest.
fn deal_documents(text: &TokenSequence, rows: usize, seed: u64) -> Vec<Vec<(u64, u64)>> {
    let mut documents = Vec::new();
    let mut from = 0;
    for (at, index) in text.iter().enumerate() {
        if index == Reserved::END {
            documents.push((from, at as u64 + 1));
            from = at as u64 + 1;
        }
    }
    if from < text.len() as u64 {
        documents.push((from, text.len() as u64));
    }
    documents.shuffle(&mut stream(seed, "document order", &[]));
    documents.sort_by_key(|(from, to)| std::cmp::Reverse(to - from));
    let mut heap: std::collections::BinaryHeap<_> =
        (0..rows).map(|row| std::cmp::Reverse((0u64, row))).collect();
    let mut dealt = vec![Vec::new(); rows];
    for document in documents {
        if let Some(std::cmp::Reverse((length, row))) = heap.pop() {
            dealt[row].push(document);
            heap.push(std::cmp::Reverse((length + document.1 - document.0, row)));
        }
    }
    dealt
}

/// A text to be judged, cut into rows at ends of documents where there are any, so that no document is read without its
/// beginning. Every token is predicted exactly once.
#[derive(Debug)]
pub(crate) struct JudgedRows {
    /// Where each row begins, and the text's length.
    bounds: Vec<usize>,
    window: usize,
    /// Whether the state begins anew with every document.
    reset: bool,
}

impl JudgedRows {
    pub(crate) fn new(text: &TokenSequence, rows: usize, window: usize, reset: bool) -> Self {
        let mut bounds = vec![0];
        for row in 1..rows {
            let ideal = row * text.len() / rows;
            let from = bounds[bounds.len() - 1];
            // The end of the document that the ideal place falls into, unless that leaves a row out of proportion.
            let reach = (ideal + text.len() / rows / 2).min(text.len());
            let end = (ideal..reach).find(|&at| text.index(at) == Reserved::END).map(|at| at + 1);
            let cut = end.unwrap_or(ideal);
            if cut > from && cut < text.len() {
                bounds.push(cut);
            }
        }
        bounds.push(text.len());
        Self { bounds, window, reset }
    }

    pub(crate) fn rows(&self) -> usize {
        self.bounds.len() - 1
    }

    pub(crate) fn windows(&self) -> usize {
        let longest = self.bounds.windows(2).map(|pair| pair[1] - pair[0]).max().unwrap_or(0);
        longest.div_ceil(self.window)
    }

    /// Fills `buffer` with window `index`; rows that have ended are filled up with padding that is not scored.
    pub(crate) fn window(&self, text: &TokenSequence, index: usize, buffer: &mut WindowBuffer) {
        buffer.clear();
        for step in index * self.window..(index + 1) * self.window {
            for pair in self.bounds.windows(2) {
                let at = pair[0] + step;
                if at < pair[1] {
                    let input = text.input(at);
                    buffer.push(input, text.index(at), step == 0 || (self.reset && input == Reserved::START));
                } else {
                    buffer.push(Reserved::PADDING, IGNORED, false);
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::{JudgedRows, TrainingWindows, WindowBuffer};
    use crate::plan::{LossAt, TrainingPlan, WindowKind};
    use lalograph_net::output::IGNORED;
    use lalograph_text::Reserved;
    use lalograph_text::tokens::TokenSequence;
    use proptest::prelude::*;

    fn text(lengths: &[usize]) -> TokenSequence {
        let mut indices = Vec::new();
        for (document, &length) in lengths.iter().enumerate() {
            indices.extend((0..length).map(|i| 4 + ((document * 7 + i) % 50) as u32));
            indices.push(Reserved::END);
        }
        TokenSequence::from_indices(indices)
    }

    fn plan(kind: WindowKind, rows: usize, window: usize) -> TrainingPlan {
        TrainingPlan { windows: kind, batch: rows, window, ..TrainingPlan::default() }
    }

    /// All of a pass by row: input, target, whether it begins anew.
    fn read(windows: &mut TrainingWindows<'_>, rows: usize, pass: u64) -> Vec<Vec<(u32, u32, bool)>> {
        let mut buffer = WindowBuffer::new(true);
        let mut read = vec![Vec::new(); rows];
        for index in 0..windows.windows() {
            windows.window(pass, index, &mut buffer);
            let batch = buffer.batch();
            for (at, &target) in batch.targets.iter().enumerate() {
                read[at % rows].push((batch.inputs[at], target, batch.fresh.unwrap()[at]));
            }
        }
        read
    }

    proptest! {
        #[test]
        fn each_stream_is_read_once_and_in_order(
            lengths in prop::collection::vec(0usize..30, 1..40), rows in 1usize..6, window in 1usize..20,
            jitter in 0.0f64..0.5, reset: bool,
        ) {
            let text = text(&lengths);
            prop_assume!(text.len() >= rows);
            let plan = TrainingPlan { window_jitter: jitter, reset_at_documents: reset, ..plan(WindowKind::Carried, rows, window) };
            let mut windows = TrainingWindows::new(&text, &plan);
            let mut buffer = WindowBuffer::new(true);
            for index in 0..windows.windows() {
                windows.window(1, index, &mut buffer);
                prop_assert!(buffer.batch().targets.len() <= rows * TrainingWindows::most_steps(&plan));
                prop_assert!(buffer.scored() > 0);
            }
            let length = text.len() / rows;
            for (row, read) in read(&mut windows, rows, 0).iter().enumerate() {
                let expected: Vec<(u32, u32, bool)> = (row * length..(row + 1) * length)
                    .map(|at| {
                        let input = text.input(at);
                        let fresh = at == row * length || (reset && input == Reserved::START);
                        (input, text.index(at), fresh)
                    })
                    .collect();
                prop_assert_eq!(read, &expected);
            }
        }

        #[test]
        fn independent_windows_are_each_read_once_in_another_order_each_pass(
            lengths in prop::collection::vec(0usize..30, 1..40), rows in 1usize..6, window in 1usize..9,
            stride in 1usize..12, last: bool,
        ) {
            let text = text(&lengths);
            let loss_at = if last { LossAt::Last } else { LossAt::Every };
            let plan = TrainingPlan { stride: Some(stride), loss_at, ..plan(WindowKind::Independent, rows, window) };
            let mut windows = TrainingWindows::new(&text, &plan);
            let mut expected: Vec<Vec<(u32, u32)>> = (0..)
                .map(|which| which * stride)
                .take_while(|from| from + window <= text.len())
                .map(|from| (from..from + window).map(|at| (text.input(at), text.index(at))).collect())
                .collect();
            expected.sort();
            let mut orders = Vec::new();
            for pass in 0..2 {
                let mut found = Vec::new();
                for row in read(&mut windows, rows, pass) {
                    for one in row.chunks(window) {
                        prop_assert!(one[0].2);
                        let scored = one.iter().filter(|token| token.1 != IGNORED).count();
                        if scored > 0 {
                            prop_assert_eq!(scored, if last { 1 } else { window });
                            prop_assert!(one[window - 1].1 != IGNORED);
                            found.push(one.iter().map(|token| (token.0, token.1)).collect::<Vec<_>>());
                        }
                    }
                }
                orders.push(found.clone());
                prop_assert_eq!(found.len(), expected.len());
                if !last {
                    found.sort();
                    prop_assert_eq!(&found, &expected);
                }
            }
            let distinct = expected.iter().collect::<std::collections::BTreeSet<_>>().len();
            prop_assert!(distinct < 8 || orders[0] != orders[1]);
        }

        #[test]
        fn documents_are_read_whole_with_little_padding(
            lengths in prop::collection::vec(0usize..30, 1..60), rows in 1usize..6, window in 1usize..20,
        ) {
            let text = text(&lengths);
            let mut windows = TrainingWindows::new(&text, &plan(WindowKind::Documents, rows, window));
            let mut expected: Vec<Vec<u32>> = lengths
                .iter()
                .enumerate()
                .map(|(document, &length)| {
                    (0..length).map(|i| 4 + ((document * 7 + i) % 50) as u32).chain([Reserved::END]).collect()
                })
                .collect();
            let all = read(&mut windows, rows, 3);
            let padding: usize =
                all.iter().map(|row| row.iter().filter(|token| token.1 == IGNORED).count()).sum();
            // Rows differ by a document at most, and the last window is full.
            let longest = lengths.iter().max().unwrap() + 1;
            prop_assert!(padding <= rows * (longest + window), "{} of padding", padding);
            let mut found: Vec<Vec<u32>> = Vec::new();
            for row in &all {
                for &(input, target, fresh) in row.iter().filter(|token| token.1 != IGNORED) {
                    prop_assert_eq!(fresh, input == Reserved::START);
                    if fresh {
                        found.push(Vec::new());
                    }
                    found.last_mut().unwrap().push(target);
                }
            }
            expected.sort();
            found.sort();
            prop_assert_eq!(found, expected);
        }

        #[test]
        fn going_on_from_the_middle_of_a_pass_is_going_on(
            lengths in prop::collection::vec(0usize..30, 5..40), pass in 0u64..3, jitter in 0.0f64..0.5,
        ) {
            let text = text(&lengths);
            for kind in [WindowKind::Carried, WindowKind::Independent, WindowKind::Documents] {
                let plan = TrainingPlan { window_jitter: jitter, ..plan(kind, 2, 4) };
                let mut windows = TrainingWindows::new(&text, &plan);
                let whole = read(&mut windows, 2, pass);
                let mut again = TrainingWindows::new(&text, &plan);
                let mut buffer = WindowBuffer::new(true);
                let half = again.windows() / 2;
                again.go_to(pass, half, &mut buffer);
                let mut rest: Vec<(u32, u32)> = Vec::new();
                for index in half..again.windows() {
                    again.window(pass, index, &mut buffer);
                    let batch = buffer.batch();
                    rest.extend(batch.inputs.iter().copied().zip(batch.targets.iter().copied()));
                }
                let steps = whole[0].len() - rest.len() / 2;
                let expected: Vec<(u32, u32)> = (steps..whole[0].len())
                    .flat_map(|step| whole.iter().map(move |row| (row[step].0, row[step].1)))
                    .collect();
                prop_assert_eq!(rest, expected);
            }
        }

        #[test]
        fn a_judged_text_is_predicted_exactly_once(
            lengths in prop::collection::vec(0usize..30, 1..40), rows in 1usize..9, window in 1usize..20,
        ) {
            let text = text(&lengths);
            let judged = JudgedRows::new(&text, rows, window, true);
            let mut buffer = WindowBuffer::new(true);
            let mut read = vec![Vec::new(); judged.rows()];
            for index in 0..judged.windows() {
                judged.window(&text, index, &mut buffer);
                let batch = buffer.batch();
                for (at, &target) in batch.targets.iter().enumerate() {
                    if target != IGNORED {
                        prop_assert!(batch.inputs[at] != Reserved::START || batch.fresh.unwrap()[at]);
                        read[at % judged.rows()].push((batch.inputs[at], target));
                    }
                }
            }
            let expected: Vec<(u32, u32)> =
                (0..text.len()).map(|at| (text.input(at), text.index(at))).collect();
            prop_assert_eq!(read.concat(), expected);
        }
    }
}
