//! Exported graphs against the models that they are of, by an evaluator written from the standard's text.
//!
//! `cargo test -p lalograph-export --test exchange -- --ignored` also runs the standard's own checker and reference evaluator; it needs Python 3 with
//! the standard's package (`pip install onnx`), and `LALOGRAPH_PYTHON` names a Python other than `python3`.
#![allow(missing_docs, clippy::unwrap_used, clippy::panic, clippy::expect_used)]

mod agreement;
mod cases;
mod classifiers;
mod evaluator;
mod language;
mod operators;
mod reading;
mod tensor;
