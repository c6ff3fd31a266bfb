//! Windows of text for training.

use std::ops::Range;

use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::models::language::TokenWindow;
use lalograph_net::numbers::chance::stream;
use lalograph_text::Reserved;
use lalograph_text::tokens::TokenSequence;
use rand::seq::SliceRandom;

use super::filler::Filler;
use super::order::Order;
use super::source::Windows;
use crate::error::LabError;
use crate::plan::{LossAt, TrainingPlan, WindowKind};

/// The training text as windows, epoch after epoch. Every epoch has the same number of them.
#[derive(Debug)]
pub(crate) struct TrainingWindows<'t> {
    text: &'t TokenSequence,
    rows: usize,
    seed: u64,
    filler: Filler,
    kind: Kind,
    /// Steps of the longest window.
    most_steps: usize,
    /// The epoch whose order `kind` has, if it has one.
    epoch: Option<u64>,
}

#[derive(Debug)]
enum Kind {
    /// `rows` streams of equal length, each read from left to right in windows of nearly equal length; fewer than `rows` tokens at
    /// the end of the text are left out. The bounds of all windows, in tokens of a stream.
    Carried { length: usize, window: usize, jitter: f64, bounds: Vec<usize> },
    /// Windows by themselves: how long, how far apart, how many; this epoch's order.
    Independent { window: usize, stride: usize, count: usize, last_only: bool, order: Order },
    /// For each row its documents, each from one token to before another; in this epoch's order.
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
                let order = Order::draw(count as u64, &mut stream(plan.seed, "window order", &[]));
                Kind::Independent { window, stride, count, last_only, order }
            }
            WindowKind::Documents => {
                let dealt = deal_documents(text, rows, plan.seed);
                let length = |row: &Vec<(u64, u64)>| row.iter().map(|(from, to)| to - from).sum::<u64>();
                let longest = dealt.iter().map(length).max().unwrap_or(0) as usize;
                Kind::Documents { window, longest, rows: dealt, cursors: vec![(0, 0); rows] }
            }
        };
        let filler = Filler { resets: Self::resets_in(plan), at_documents: plan.reset_at_documents };
        let most_steps = Self::extent_of(plan).steps;
        Self { text, rows, seed: plan.seed, filler, kind, most_steps, epoch: None }
    }

    /// The size of the longest window of such a plan.
    pub(crate) fn extent_of(plan: &TrainingPlan) -> Extent {
        let steps = match plan.windows {
            WindowKind::Carried => plan.window + 2 * reach(plan.window, plan.window_jitter),
            _ => plan.window,
        };
        Extent { steps, rows: plan.batch }
    }

    /// Whether rows are reset inside windows of such a plan.
    pub(crate) fn resets_in(plan: &TrainingPlan) -> bool {
        plan.reset_at_documents || plan.windows != WindowKind::Carried
    }

    /// Steps that every row has made before window `index` of the epoch that was filled last.
    pub(crate) fn steps_before(&self, epoch: u64, index: usize) -> u64 {
        let (epoch_steps, before) = match &self.kind {
            Kind::Carried { length, bounds, .. } => (*length, bounds.get(index).copied().unwrap_or(0)),
            Kind::Independent { window, .. } | Kind::Documents { window, .. } => {
                (self.count() * window, index * window)
            }
        };
        epoch * epoch_steps as u64 + before as u64
    }

    /// Draws what differs from epoch to epoch.
    fn lay_out(&mut self, epoch: u64) {
        let windows = self.count();
        match &mut self.kind {
            Kind::Carried { length, window, jitter, bounds } => {
                let mut random = stream(self.seed, "window edges", &[epoch]);
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
                *order = Order::draw(*count as u64, &mut stream(self.seed, "window order", &[epoch]));
            }
            Kind::Documents { rows, .. } => {
                for (index, row) in rows.iter_mut().enumerate() {
                    row.sort_unstable();
                    row.shuffle(&mut stream(self.seed, "document order", &[epoch, index as u64]));
                }
            }
        }
    }
}

impl Windows<TokenWindow> for TrainingWindows<'_> {
    fn count(&self) -> usize {
        match &self.kind {
            Kind::Carried { length, window, .. } => length.div_ceil(*window),
            Kind::Independent { count, .. } => count.div_ceil(self.rows),
            Kind::Documents { window, longest, .. } => longest.div_ceil(*window),
        }
    }

    fn extent(&self) -> Extent {
        Extent { steps: self.most_steps, rows: self.rows }
    }

    fn resets(&self) -> bool {
        self.filler.resets
    }

    fn fill(
        &mut self,
        epoch: u64,
        index: usize,
        lanes: &mut dyn Iterator<Item = (Range<usize>, &mut TokenWindow)>,
    ) -> Result<(), LabError> {
        if self.epoch != Some(epoch) {
            self.lay_out(epoch);
            self.epoch = Some(epoch);
        }
        if let (0, Kind::Documents { cursors, .. }) = (index, &mut self.kind) {
            cursors.fill((0, 0));
        }
        for (rows, to) in lanes {
            to.clear();
            self.fill_lane(index, rows, to);
        }
        Ok(self.text.check()?)
    }

    fn go_to(&mut self, epoch: u64, index: usize) {
        self.lay_out(epoch);
        self.epoch = Some(epoch);
        // Only rows of documents depend on the windows before.
        if let Kind::Documents { window, rows, cursors, .. } = &mut self.kind {
            for (row, cursor) in rows.iter().zip(cursors) {
                *cursor = (0, 0);
                (0..index * *window).for_each(|_| advance(row, cursor));
            }
        }
    }
}

impl TrainingWindows<'_> {
    /// Writes the rows of one lane.
    fn fill_lane(&mut self, index: usize, rows: Range<usize>, to: &mut TokenWindow) {
        let (text, filler, all_rows) = (self.text, self.filler, self.rows);
        match &mut self.kind {
            Kind::Carried { length, bounds, .. } => {
                for step in bounds[index]..bounds[index + 1] {
                    for row in rows.clone() {
                        filler.push(text, row * *length + step, step == 0, true, to);
                    }
                }
            }
            Kind::Independent { window, stride, count, last_only, order } => {
                let places = rows.clone().map(|row| index * all_rows + row);
                let which = |place| (place < *count).then(|| order.at(place as u64) as usize);
                let chosen: Vec<Option<usize>> = places.map(which).collect();
                for step in 0..*window {
                    for which in &chosen {
                        let Some(which) = which else {
                            filler.pad(step == 0, to);
                            continue;
                        };
                        let scored = !*last_only || step + 1 == *window;
                        filler.push(text, which * *stride + step, step == 0, scored, to);
                    }
                }
            }
            Kind::Documents { window, rows: documents, cursors, .. } => {
                for _ in 0..*window {
                    for row in rows.clone() {
                        let cursor = &mut cursors[row];
                        let Some(&(from, _)) = documents[row].get(cursor.0) else {
                            filler.pad(false, to);
                            continue;
                        };
                        filler.push(text, (from + cursor.1) as usize, cursor.1 == 0, true, to);
                        advance(&documents[row], cursor);
                    }
                }
            }
        }
    }
}

/// Moves a row's place, a document and the tokens of it that are done, on by one token.
fn advance(documents: &[(u64, u64)], (document, done): &mut (usize, u64)) {
    if let Some(&(from, to)) = documents.get(*document) {
        *done += 1;
        if from + *done == to {
            (*document, *done) = (*document + 1, 0);
        }
    }
}

/// The largest shift of a window's edge: less than half a window, so that no window is lost.
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

#[cfg(test)]
mod tests {
    use super::TrainingWindows;
    use crate::data::reading_rows::ReadingRows;
    use crate::data::source::Windows;
    use crate::plan::{LossAt, TrainingPlan, WindowKind};
    use lalograph_net::heads::loss::IGNORED;
    use lalograph_net::models::language::TokenWindow;
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

    /// Fills the windows of two lanes of a batch, as uneven as they can be.
    fn fill(windows: &mut TrainingWindows<'_>, rows: usize, epoch: u64, index: usize) -> [TokenWindow; 2] {
        let mut lanes = [TokenWindow::default(), TokenWindow::default()];
        let cut = rows.min(1);
        let mut places = [0..cut, cut..rows].into_iter().zip(&mut lanes);
        windows.fill(epoch, index, &mut places).unwrap();
        lanes
    }

    /// Windows of an epoch from one on, by row: input, target, whether the row is reset before it.
    fn read_from(
        windows: &mut TrainingWindows<'_>,
        rows: usize,
        epoch: u64,
        first: usize,
    ) -> Vec<Vec<(u32, u32, bool)>> {
        let mut read = vec![Vec::new(); rows];
        for index in first..windows.count() {
            let lanes = fill(windows, rows, epoch, index);
            for (lane, range) in lanes.iter().zip([0..rows.min(1), rows.min(1)..rows]) {
                for (at, &target) in lane.targets.iter().enumerate() {
                    let reset = lane.resets.get(at).copied().unwrap_or(false);
                    read[range.start + at % range.len()].push((lane.inputs[at], target, reset));
                }
            }
        }
        read
    }

    fn read(windows: &mut TrainingWindows<'_>, rows: usize, epoch: u64) -> Vec<Vec<(u32, u32, bool)>> {
        read_from(windows, rows, epoch, 0)
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
            for index in 0..windows.count() {
                let tokens: usize = fill(&mut windows, rows, 1, index).iter().map(|lane| lane.targets.len()).sum();
                prop_assert!(tokens > 0 && tokens <= windows.extent().tokens());
            }
            let length = text.len() / rows;
            for (row, read) in read(&mut windows, rows, 0).iter().enumerate() {
                let expected: Vec<(u32, u32, bool)> = (row * length..(row + 1) * length)
                    .map(|at| {
                        let input = text.input(at);
                        let resets = reset && (at == row * length || input == Reserved::START);
                        (input, text.index(at), resets)
                    })
                    .collect();
                prop_assert_eq!(read, &expected);
            }
        }

        #[test]
        fn independent_windows_are_each_read_once_in_another_order_each_epoch(
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
            for epoch in 0..2 {
                let mut found = Vec::new();
                for row in read(&mut windows, rows, epoch) {
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
                for &(input, target, reset) in row.iter().filter(|token| token.1 != IGNORED) {
                    prop_assert_eq!(reset, input == Reserved::START);
                    if reset {
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
        fn going_on_from_the_middle_of_an_epoch_is_going_on(
            lengths in prop::collection::vec(0usize..30, 5..40), epoch in 0u64..3, jitter in 0.0f64..0.5,
        ) {
            let text = text(&lengths);
            for kind in [WindowKind::Carried, WindowKind::Independent, WindowKind::Documents] {
                let plan = TrainingPlan { window_jitter: jitter, ..plan(kind, 2, 4) };
                let mut windows = TrainingWindows::new(&text, &plan);
                let whole = read(&mut windows, 2, epoch);
                let mut again = TrainingWindows::new(&text, &plan);
                let half = again.count() / 2;
                again.go_to(epoch, half);
                let rest = read_from(&mut again, 2, epoch, half);
                for (whole, rest) in whole.iter().zip(&rest) {
                    prop_assert_eq!(&whole[whole.len() - rest.len()..], &rest[..]);
                }
            }
        }

        #[test]
        fn a_text_that_is_read_once_is_predicted_exactly_once(
            lengths in prop::collection::vec(0usize..30, 1..40), rows in 1usize..9, window in 1usize..20,
        ) {
            let text = text(&lengths);
            let all = ReadingRows::new(&text, rows, window, true);
            let mut lane = TokenWindow::default();
            let mut read = vec![Vec::new(); all.rows()];
            for index in 0..all.windows() {
                all.window(&text, index, 0..all.rows(), &mut lane);
                for (at, &target) in lane.targets.iter().enumerate() {
                    if target != IGNORED {
                        prop_assert!(lane.inputs[at] != Reserved::START || lane.resets[at]);
                        read[at % all.rows()].push((lane.inputs[at], target));
                    }
                }
            }
            let expected: Vec<(u32, u32)> =
                (0..text.len()).map(|at| (text.input(at), text.index(at))).collect();
            prop_assert_eq!(read.concat(), expected);
        }
    }

    #[test]
    fn targets_that_a_plane_masks_are_not_scored() {
        let text = text(&[3, 4]);
        let scored: Vec<bool> = (0..text.len()).map(|at| at % 3 == 1).collect();
        let text = text.with_scored(scored.clone());
        let mut windows = TrainingWindows::new(&text, &plan(WindowKind::Carried, 1, 4));
        let targets: Vec<u32> = read(&mut windows, 1, 0)[0].iter().map(|token| token.1).collect();
        for (at, (&target, scored)) in targets.iter().zip(scored).enumerate() {
            assert_eq!(target, if scored { text.index(at) } else { IGNORED });
        }
    }
}
