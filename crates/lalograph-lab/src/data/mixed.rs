//! Windows of a new text with some streams of an old text beside them.

use std::ops::Range;

use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::models::language::TokenWindow;
use lalograph_text::tokens::TokenSequence;

use super::filler::Filler;
use super::source::Windows;
use super::windows::TrainingWindows;
use crate::error::LabError;
use crate::plan::TrainingPlan;

/// Windows of which the first rows are those of a new text; the other rows are streams of an old text, read in order and again from the
/// beginning when they end. The new text decides how many windows make an epoch, and how long they are.
#[derive(Debug)]
pub(crate) struct MixedWindows<'t> {
    new: TrainingWindows<'t>,
    old: &'t TokenSequence,
    /// Rows of the new text, and all.
    rows: (usize, usize),
    filler: Filler,
    /// The rows of the new text.
    window: TokenWindow,
}

/// The rows of a batch that read old text, at this share of all.
pub(crate) fn old_rows(batch: usize, share: f64) -> usize {
    match share {
        0.0 => 0,
        share => ((batch as f64 * share).round() as usize).clamp(1, batch.max(2) - 1),
    }
}

impl<'t> MixedWindows<'t> {
    /// Windows of both texts; `old` has at least as many tokens as rows read it.
    pub(crate) fn new(
        new: &'t TokenSequence,
        old: &'t TokenSequence,
        plan: &TrainingPlan,
        share: f64,
    ) -> Self {
        let rows = plan.batch - old_rows(plan.batch, share);
        Self {
            new: TrainingWindows::new(new, &TrainingPlan { batch: rows, ..plan.clone() }),
            old,
            rows: (rows, plan.batch),
            filler: Filler {
                resets: TrainingWindows::resets_in(plan),
                at_documents: plan.reset_at_documents,
            },
            window: TokenWindow::default(),
        }
    }

    /// Writes a token of an old stream. `place` is how many steps the stream has made.
    fn push_old(&self, row: usize, place: u64, to: &mut TokenWindow) {
        let length = self.old.len() / (self.rows.1 - self.rows.0);
        let within = (place % length as u64) as usize;
        self.filler.push(self.old, (row - self.rows.0) * length + within, within == 0, true, to);
    }
}

impl Windows<TokenWindow> for MixedWindows<'_> {
    fn count(&self) -> usize {
        self.new.count()
    }

    fn extent(&self) -> Extent {
        Extent { rows: self.rows.1, ..self.new.extent() }
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
        let mut window = std::mem::take(&mut self.window);
        self.new.fill(epoch, index, &mut std::iter::once((0..self.rows.0, &mut window)))?;
        let steps = window.inputs.len() / self.rows.0;
        let before = self.new.steps_before(epoch, index);
        for (rows, to) in lanes {
            to.clear();
            for step in 0..steps {
                for row in rows.clone() {
                    if row >= self.rows.0 {
                        self.push_old(row, before + step as u64, to);
                        continue;
                    }
                    let at = step * self.rows.0 + row;
                    to.inputs.push(window.inputs[at]);
                    to.targets.push(window.targets[at]);
                    if self.filler.resets {
                        to.resets.push(window.resets[at]);
                    }
                }
            }
        }
        self.window = window;
        Ok(self.old.check()?)
    }

    fn go_to(&mut self, epoch: u64, index: usize) {
        self.new.go_to(epoch, index);
    }
}

#[cfg(test)]
mod tests {
    use lalograph_net::models::language::TokenWindow;
    use lalograph_text::Reserved;
    use lalograph_text::tokens::TokenSequence;

    use super::{MixedWindows, old_rows};
    use crate::data::source::Windows;
    use crate::data::windows::TrainingWindows;
    use crate::plan::{TrainingPlan, WindowKind};

    fn text(first: u32, documents: usize) -> TokenSequence {
        let document =
            |number: usize| (0..number % 7 + 1).map(move |at| first + at as u32).chain([Reserved::END]);
        TokenSequence::from_indices((0..documents).flat_map(document).collect())
    }

    #[test]
    fn a_share_of_the_rows_is_old_but_never_all() {
        assert_eq!([0.0, 0.01, 0.25, 0.9].map(|share| old_rows(16, share)), [0, 1, 4, 14]);
        assert_eq!([old_rows(2, 0.9), old_rows(3, 0.9)], [1, 2]);
    }

    #[test]
    fn new_rows_are_those_of_the_new_text_alone_and_old_streams_go_round() {
        let (new, old) = (text(10, 60), text(40, 9));
        for kind in [WindowKind::Carried, WindowKind::Independent, WindowKind::Documents] {
            let plan = TrainingPlan { batch: 4, window: 6, windows: kind, ..TrainingPlan::default() };
            let mut mixed = MixedWindows::new(&new, &old, &plan, 0.5);
            let mut alone = TrainingWindows::new(&new, &TrainingPlan { batch: 2, ..plan.clone() });
            assert_eq!(mixed.count(), alone.count());
            let mut read = vec![Vec::<u32>::new(); 2];
            for epoch in 0..2 {
                for index in 0..mixed.count() {
                    let mut lanes = [TokenWindow::default(), TokenWindow::default()];
                    let mut own = TokenWindow::default();
                    mixed.fill(epoch, index, &mut [0..3, 3..4].into_iter().zip(&mut lanes)).unwrap();
                    alone.fill(epoch, index, &mut std::iter::once((0..2, &mut own))).unwrap();
                    for (at, &target) in own.targets.iter().enumerate() {
                        let place = at / 2 * 3 + at % 2;
                        assert_eq!(
                            (lanes[0].inputs[place], lanes[0].targets[place]),
                            (own.inputs[at], target)
                        );
                        assert_eq!(lanes[0].resets[place], own.resets[at]);
                    }
                    read[0].extend(lanes[0].targets.iter().skip(2).step_by(3));
                    read[1].extend(&lanes[1].targets);
                }
            }
            let length = old.len() / 2;
            for (row, read) in read.iter().enumerate() {
                assert!(read.len() > length, "{kind:?}");
                for (at, &target) in read.iter().enumerate() {
                    assert_eq!(target, old.index(row * length + at % length), "{kind:?}");
                }
            }
            // The same from the middle of a later epoch.
            let mut again = MixedWindows::new(&new, &old, &plan, 0.5);
            let half = again.count() / 2;
            let (mut straight, mut resumed) = (TokenWindow::default(), TokenWindow::default());
            again.go_to(1, half);
            again.fill(1, half, &mut std::iter::once((0..4, &mut resumed))).unwrap();
            mixed.go_to(1, 0);
            for index in 0..=half {
                mixed.fill(1, index, &mut std::iter::once((0..4, &mut straight))).unwrap();
            }
            assert_eq!((straight.inputs, straight.targets), (resumed.inputs, resumed.targets));
        }
    }
}
