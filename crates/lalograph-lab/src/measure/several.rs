//! The time of a step of several processes, predicted from its parts. Nothing here is measured between machines: it is a simulation.

use lalograph_net::step::processes::PIECE;
use serde::Serialize;

/// Short messages of a step, one after another, that all wait for: what comes next (three), rows, counts and sizes (five), whether to stop.
const SHORT_MESSAGES: f64 = 9.0;

/// Bytes of a number of the gradient.
const NUMBER: f64 = 4.0;

/// A network between processes.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Wire {
    /// Bytes a second that a process can send, and receive at the same time.
    pub bytes_per_second: f64,
    /// Seconds until the first byte of a message arrives.
    pub latency: f64,
}

/// A step of one process, in its parts.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct StepParts {
    /// Lanes of the plan.
    pub lanes: usize,
    /// Seconds of all lanes on the threads of one process, and of the addition of their gradients.
    pub lanes_seconds: f64,
    /// Seconds of what every process does for itself: filling the windows, packing the weights, clipping, the update.
    pub own_seconds: f64,
    /// Bytes of the gradient that is dense.
    pub dense_bytes: f64,
    /// Bytes of the rows of tables that one lane touches.
    pub row_bytes_per_lane: f64,
}

/// A step of several processes.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct SharedStep {
    /// Processes.
    pub processes: usize,
    /// Bytes that the busiest process sends in a step.
    pub bytes_sent: f64,
    /// Seconds of the exchange.
    pub exchange_seconds: f64,
    /// Seconds of the step.
    pub seconds: f64,
    /// The speed of one process for this one's.
    pub speed_up: f64,
}

impl StepParts {
    /// The step of `processes`, as many as there are lanes at most.
    ///
    /// A dense gradient of n pieces goes along the chain of p processes and back in n + 2 p - 3 turns, in each of which a process sends two pieces.
    pub fn shared(&self, processes: usize, wire: Wire) -> SharedStep {
        let processes = processes.clamp(1, self.lanes.max(1));
        let busiest = self.lanes.div_ceil(processes) as f64 / self.lanes.max(1) as f64;
        let alone = self.lanes_seconds + self.own_seconds;
        let (mut bytes_sent, mut exchange_seconds) = (0.0, 0.0);
        if processes > 1 {
            let pieces = (self.dense_bytes / (PIECE as f64 * NUMBER)).ceil();
            // At the ends of the chain a process has one neighbour, and of two processes both are at an end.
            let sends = if processes == 2 { 1.0 } else { 2.0 };
            let piece = self.dense_bytes / pieces.max(1.0);
            let turns = (pieces + 2.0 * processes as f64 - 3.0).max(pieces);
            let rows = self.row_bytes_per_lane * self.lanes.div_ceil(processes) as f64;
            let rows_sent = rows * (processes - 1) as f64;
            bytes_sent = sends * self.dense_bytes + rows_sent;
            exchange_seconds = turns * (wire.latency + sends * piece / wire.bytes_per_second)
                + rows_sent / wire.bytes_per_second
                + SHORT_MESSAGES * wire.latency;
        }
        let seconds = self.lanes_seconds * busiest + self.own_seconds + exchange_seconds;
        SharedStep { processes, bytes_sent, exchange_seconds, seconds, speed_up: alone / seconds }
    }

    /// The number of processes, at most `most`, with the shortest step: more of them do not pay.
    pub fn most_that_pay(&self, most: usize, wire: Wire) -> usize {
        let steps = (1..=most.min(self.lanes.max(1))).map(|count| self.shared(count, wire));
        steps.min_by(|a, b| a.seconds.total_cmp(&b.seconds)).map_or(1, |best| best.processes)
    }
}

#[cfg(test)]
mod tests {
    use super::{StepParts, Wire};

    /// Four pieces of the dense gradient.
    const PARTS: StepParts = StepParts {
        lanes: 8,
        lanes_seconds: 0.8,
        own_seconds: 0.1,
        dense_bytes: 4.0 * 262_144.0,
        row_bytes_per_lane: 1e5,
    };
    const WIRE: Wire = Wire { bytes_per_second: 262_144e3, latency: 1e-3 };

    #[test]
    fn the_parts_add_up_as_worked_out_by_hand() {
        let alone = PARTS.shared(1, WIRE);
        assert_eq!((alone.seconds, alone.speed_up, alone.bytes_sent), (0.9, 1.0, 0.0));
        // 5 turns of 1 ms and a piece of 1 ms, 4 lanes of rows for one other, 9 ms of short messages.
        let two = PARTS.shared(2, WIRE);
        let rows = 4e5 / 262_144e3;
        assert!((two.exchange_seconds - (5.0 * 0.002 + rows + 0.009)).abs() < 1e-12, "{two:?}");
        assert!((two.seconds - (0.4 + 0.1 + two.exchange_seconds)).abs() < 1e-12);
        // 9 turns of 1 ms and two pieces, 2 lanes of rows for three others.
        let four = PARTS.shared(4, WIRE);
        let rows = 6e5 / 262_144e3;
        assert!((four.exchange_seconds - (9.0 * 0.003 + rows + 0.009)).abs() < 1e-12, "{four:?}");
        assert!((four.bytes_sent - (8.0 * 262_144.0 + 6e5)).abs() < 1e-6);
        // Three processes have 2, 3 and 3 lanes: the busiest counts.
        let three = PARTS.shared(3, WIRE);
        assert!((three.seconds - (0.3 + 0.1 + three.exchange_seconds)).abs() < 1e-12);
        assert_eq!(PARTS.shared(20, WIRE).processes, 8);
    }

    #[test]
    fn processes_stop_to_pay_on_a_slow_wire_and_not_on_a_quick_one() {
        assert_eq!(PARTS.most_that_pay(256, Wire { bytes_per_second: 1e12, latency: 1e-9 }), 8);
        assert_eq!(PARTS.most_that_pay(256, Wire { bytes_per_second: 1e6, latency: 1e-3 }), 1);
    }
}
