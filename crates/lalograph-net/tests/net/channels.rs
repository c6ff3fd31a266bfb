//! Channels between threads that stand for processes.

use std::sync::mpsc::{Receiver, Sender, channel};

use lalograph_net::step::processes::Link;

/// Channels from one thread to all others.
#[derive(Debug)]
pub(crate) struct Channels {
    rank: usize,
    out: Vec<Sender<Vec<u8>>>,
    into: Vec<Receiver<Vec<u8>>>,
}

impl Channels {
    /// The ends for so many threads.
    pub(crate) fn between(count: usize) -> Vec<Self> {
        let mut all: Vec<Self> =
            (0..count).map(|rank| Self { rank, out: Vec::new(), into: Vec::new() }).collect();
        for from in 0..count {
            for to in 0..count {
                let (sender, receiver) = channel();
                all[from].out.push(sender);
                all[to].into.push(receiver);
            }
        }
        all
    }
}

impl Link for Channels {
    fn rank(&self) -> usize {
        self.rank
    }

    fn count(&self) -> usize {
        self.out.len()
    }

    fn swap(&mut self, out: &[(usize, &[u8])], into: &mut [(usize, &mut [u8])]) {
        for &(to, bytes) in out {
            // A thread that has ended hears nothing any more.
            let _ = self.out[to].send(bytes.to_vec());
        }
        for (from, bytes) in into {
            let message = self.into[*from].recv().unwrap();
            assert_eq!(message.len(), bytes.len(), "from {from} to {}", self.rank);
            bytes.copy_from_slice(&message);
        }
    }

    fn add_up(&mut self, numbers: &mut [f32]) {
        let here = numbers.to_vec();
        let others: Vec<usize> = (0..self.count()).filter(|&other| other != self.rank).collect();
        let out: Vec<(usize, &[u8])> = others.iter().map(|&to| (to, bytemuck::cast_slice(&here))).collect();
        let mut all: Vec<Vec<f32>> = others.iter().map(|_| vec![0.0; here.len()]).collect();
        let mut into: Vec<(usize, &mut [u8])> = others
            .iter()
            .zip(&mut all)
            .map(|(&from, other)| (from, bytemuck::cast_slice_mut(other)))
            .collect();
        self.swap(&out, &mut into);
        all.insert(self.rank, here);
        // From the last to the first: not the order of the lanes.
        numbers.fill(0.0);
        for other in all.iter().rev() {
            numbers.iter_mut().zip(other).for_each(|(sum, x)| *sum += x);
        }
    }
}
