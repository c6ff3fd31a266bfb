//! Scoring: documents side by side are read as they are alone.

use lalograph_lab::measure::score::token_losses;
use lalograph_lab::{ModelFile, TrainingEvent, prepare, train};
use lalograph_net::numbers::chance::stream;
use lalograph_storage::{Disk, Existing};
use lalograph_text::Reserved;
use lalograph_text::tokens::TokenSequence;
use rand::RngExt;

use crate::common::{created, letters, plan_of, quiet};

#[test]
fn documents_side_by_side_have_the_losses_that_they_have_alone() {
    let folder = tempfile::tempdir().unwrap();
    for cell in ["lstm", "gru", "plain_tanh"] {
        let cell = format!("model.cell={cell}");
        let settings =
            [&cell[..], "corpus.document=line", "model.embedding=6", "model.hidden=9", "training.steps=4"];
        let plan = plan_of(folder.path(), &letters(), &[&settings]);
        let prepared = prepare(plan, 1, None, &mut quiet).unwrap();
        let running = created(&Disk, folder.path(), &cell, &prepared, Existing::Keep).unwrap();
        let run = running.run.clone();
        train(&prepared, running, 1, &mut |_: &TrainingEvent<'_, _>| std::ops::ControlFlow::Continue(()))
            .unwrap();
        let file = ModelFile::load(&run.model()).unwrap();
        // Short and long documents; more of them than rows, fewer, and one that is longer than all others.
        let mut random = stream(1, "documents", &[]);
        let mut document = |most: usize| -> Vec<u32> {
            let tokens = random.random_range(1..most);
            let token = |_| Reserved::COUNT + random.random_range(0..8);
            (0..tokens).map(token).chain([Reserved::END]).collect()
        };
        for (count, most) in [(1, 90), (7, 200), (400, 30)] {
            let mut documents: Vec<Vec<u32>> = (0..count).map(|_| document(most)).collect();
            documents.insert(count / 2, document(2000));
            let alone: Vec<f64> = documents
                .iter()
                .flat_map(|document| token_losses(&file, &TokenSequence::from_indices(document.clone())))
                .collect();
            let together = token_losses(&file, &TokenSequence::from_indices(documents.concat()));
            assert_eq!(alone.len(), together.len());
            for (at, (alone, together)) in alone.iter().zip(&together).enumerate() {
                assert!(
                    (alone - together).abs() <= 1e-5 * alone,
                    "{cell}, {count}, {at}: {alone} {together}"
                );
            }
        }
    }
}
