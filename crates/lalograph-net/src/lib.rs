//! Computation only: products, recurrent layers, heads, networks, optimisers.
//!
//! Nothing here reads files or clocks or prints. Everything is generic over [`Real`], so that training runs in `f32` and the same
//! code is checked against central differences in `f64`.
//!
//! The rooms, from the bottom up: [`numbers`] -> [`products`] -> [`weights`] -> [`blocks`] -> [`heads`] -> [`models`], and beside
//! them [`learning`] (clipping, optimisers), [`step`] (the lanes of a batch) and [`linear`] (classifiers that are solved, not trained by steps). A
//! training step of any [`Network`]:
//!
//! ```
//! use lalograph_net::blocks::regularisation::{LaneUse, Regularisation};
//! use lalograph_net::blocks::recurrent::window::Extent;
//! use lalograph_net::learning::clipping::{Clipping, GradientMeter};
//! use lalograph_net::learning::optimiser::{Optimiser, OptimiserSettings, Rule};
//! use lalograph_net::models::network::{Draw, LaneRoom};
//! use lalograph_net::step::{exchange::OneProcess, lanes::Lanes, team::Team};
//! use lalograph_net::weights::{first_values::first_values, packed::PackedWeights};
//! use lalograph_net::{Cell, LanguageModel, LanguageModelShape, Network};
//!
//! let model = LanguageModel::new(LanguageModelShape::new(20, 4, 8, Cell::Gru))?;
//! let mut weights: Vec<f32> = first_values(model.layout(), 1);
//! let room = LaneRoom {
//!     extent: Extent { steps: 3, rows: 2 },
//!     used_for: LaneUse::Training(Regularisation::default()),
//!     resets: false,
//! };
//! let lanes = Lanes::new(2, 1);
//! let mut team = Team::new(&model, room, lanes, 0..1, model.shared(Vec::new));
//! for (_, window) in team.windows_mut() {
//!     window.inputs = vec![1, 5, 6, 7, 8, 9];
//!     window.targets = vec![6, 7, 8, 9, 3, 3];
//! }
//! let mut optimiser = Optimiser::new(OptimiserSettings::new(Rule::Adam), model.layout());
//! let mut meter = GradientMeter::new(model.layout());
//! let mut losses = Vec::new();
//! for step in 0..20 {
//!     let packed = PackedWeights::training(model.layout(), &weights);
//!     let draw = Draw { seed: 1, step };
//!     let loss = team.learn(&model, packed.with(&weights), draw, &mut OneProcess::default()).loss;
//!     let clipped = meter.measure(team.gradient(), &Clipping::default());
//!     optimiser.step(&mut weights, team.gradient(), 0.05, clipped);
//!     losses.push(loss.sum);
//! }
//! assert!(losses[19] < losses[0]);
//! # Ok::<(), lalograph_net::models::language::ShapeError>(())
//! ```

pub mod blocks;
pub mod heads;
pub mod learning;
pub mod linear;
pub mod models;
pub mod numbers;
pub mod products;
pub mod step;
pub mod weights;

pub use blocks::recurrent::cell::Cell;
pub use models::language::{LanguageModel, LanguageModelShape};
pub use models::network::Network;
pub use numbers::choice::Choice;
pub use numbers::real::Real;
pub use weights::layout::{Layout, Tensor};
