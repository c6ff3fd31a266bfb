//! A run of several processes: process 0 has the training loop, and tells the others what to do next.

use lalograph_net::Network;
use lalograph_net::step::bytes::u32_of;
use lalograph_net::step::exchange::Exchange;
use lalograph_text::tokens::TokenSequence;
use serde::{Deserialize, Serialize};

use super::settings::trainer_settings;
use super::trainer::Trainer;
use crate::error::LabError;
use crate::task::{Moment, Task};

/// What all processes do next.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) enum Command {
    /// Take over the position of process 0, which sends it.
    Begin,
    /// Compute the gradient of the next window.
    Learn,
    /// Start the mean of the weights after this step.
    Average(u64),
    /// Move the weights, at a learning rate of these bits.
    Apply(u64),
    /// Say whether anybody wants to stop.
    Agree,
    /// Read the validation part.
    Validate,
    /// Read the test part, under weights that process 0 sends.
    Test,
    /// Send the states of the lanes.
    States,
    /// Perform the duty of this number among those of the task.
    Perform(usize),
}

/// Tells the other processes what comes next.
pub(crate) fn lead(exchange: &mut dyn Exchange<f32>, command: Command) {
    if exchange.rank().count > 1 {
        exchange.lead(&serde_json::to_vec(&command).unwrap_or_default());
    }
}

/// Sends numbers to the other processes.
pub(crate) fn send(exchange: &mut dyn Exchange<f32>, numbers: &[f32]) {
    exchange.lead(bytemuck::cast_slice(numbers));
}

/// The next numbers that process 0 sends.
pub(crate) fn next_numbers(exchange: &mut dyn Exchange<f32>) -> Result<Vec<f32>, LabError> {
    let word = exchange.follow().ok_or(LabError::OtherProgram)?;
    Ok(word.chunks_exact(4).map(|bytes| bytes.try_into().map_or(0.0, f32::from_le_bytes)).collect())
}

/// The next text that process 0 sends, token by token.
pub(crate) fn next_tokens(exchange: &mut dyn Exchange<f32>) -> Result<TokenSequence, LabError> {
    let word = exchange.follow().ok_or(LabError::OtherProgram)?;
    Ok(TokenSequence::from_indices(word.chunks_exact(4).map(u32_of).collect()))
}

/// Does what process 0 of a run says, until it has ended. `stops` says whether somebody here wants the run to stop.
///
/// # Errors
/// The data cannot be read any more; a process that speaks another language.
pub fn follow<T: Task>(
    task: &T,
    exchange: Box<dyn Exchange<f32>>,
    threads: usize,
    stops: &(dyn Fn() -> bool + Sync),
) -> Result<(), LabError> {
    let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build()?;
    pool.install(|| Follower::new(task, exchange).run(stops))
}

struct Follower<'t, T: Task> {
    task: &'t T,
    trainer: Trainer<'t, T::Net>,
}

impl<'t, T: Task> Follower<'t, T> {
    fn new(task: &'t T, exchange: Box<dyn Exchange<f32>>) -> Self {
        let settings = trainer_settings(task.plan(), task.steps());
        let trainer = Trainer::new(task.net(), settings, task.windows(), exchange, task.shared());
        Self { task, trainer }
    }

    fn run(mut self, stops: &dyn Fn() -> bool) -> Result<(), LabError> {
        let rank = self.trainer.exchange().rank();
        let (mut validation, mut test) = (self.task.validation(rank), self.task.test(rank));
        let mut duties = self.task.duties();
        while let Some(word) = self.trainer.exchange().follow() {
            let command = serde_json::from_slice(&word).map_err(|_| LabError::OtherProgram)?;
            match command {
                Command::Begin => self.begin()?,
                Command::Learn => drop(self.trainer.learn()?),
                Command::Average(step) => self.trainer.optimiser_mut().average_after(step),
                Command::Apply(rate) => self.trainer.apply(f64::from_bits(rate)),
                Command::Agree => drop(self.trainer.agree(stops())),
                Command::Validate => {
                    if let Some(validation) = &mut validation {
                        self.trainer.evaluate(validation.as_mut(), None, &mut |_| true)?;
                    }
                }
                Command::Test => {
                    let weights = self.numbers()?;
                    if let Some(test) = &mut test {
                        self.trainer.evaluate(test.as_mut(), Some(&weights), &mut |_| true)?;
                    }
                }
                Command::States => drop(self.trainer.states()),
                Command::Perform(number) => {
                    if let Some(duty) = duties.get_mut(number) {
                        let trainer = &mut self.trainer;
                        duty.perform(Moment { trainer, validation: None, go_on: &mut || true })?;
                    }
                }
            }
        }
        Ok(())
    }

    fn numbers(&mut self) -> Result<Vec<f32>, LabError> {
        next_numbers(self.trainer.exchange())
    }

    fn begin(&mut self) -> Result<(), LabError> {
        let word = self.trainer.exchange().follow().ok_or(LabError::OtherProgram)?;
        let (step, optimiser_steps): (u64, u64) =
            serde_json::from_slice(&word).map_err(|_| LabError::OtherProgram)?;
        let weights = self.numbers()?;
        let memory = [self.numbers()?, self.numbers()?, self.numbers()?];
        let states = self.numbers()?;
        self.trainer.take_over(
            step,
            &weights,
            (optimiser_steps, memory.each_ref().map(Vec::as_slice)),
            &states,
        )
    }
}

/// Sends the position of process 0 to the others; `states` are those of all lanes, layer by layer, where there are any yet.
pub(crate) fn send_position<N: Network>(trainer: &mut Trainer<'_, N>, states: &[f32]) {
    if trainer.exchange().rank().count == 1 {
        return;
    }
    trainer.settle();
    let optimiser = trainer.optimiser();
    let word = serde_json::to_vec(&(trainer.step(), optimiser.steps())).unwrap_or_default();
    let memory = optimiser.memory().map(|(_, values)| values.to_vec());
    let weights = trainer.weights().to_vec();
    let exchange = trainer.exchange();
    lead(exchange, Command::Begin);
    exchange.lead(&word);
    send(exchange, &weights);
    memory.iter().for_each(|values| send(exchange, values));
    send(exchange, states);
}
