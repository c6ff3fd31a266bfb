//! A recurrent layer: cells, and the walk of any of them through a window.

pub mod cell;
mod gru;
mod lstm;
mod plain;
pub mod start;
pub mod walk;
pub mod window;

#[cfg(test)]
mod tests {
    use rand::RngExt;

    use super::{gru, lstm, plain};
    use crate::numbers::chance::{Stream, stream};

    const HIDDEN: usize = 40;

    /// Numbers of every magnitude that there is in single precision, and of both signs.
    fn numbers(count: usize, greatest: f32, random: &mut Stream) -> Vec<f32> {
        let number = |_| {
            let magnitude = greatest * 10.0f32.powf(-38.0 * random.random::<f32>());
            if random.random() { magnitude } else { -magnitude }
        };
        (0..count).map(number).collect()
    }

    #[test]
    fn saturated_gates_and_vanishing_gradients_leave_no_dust() {
        let mut random = stream(1, "test", &[]);
        for _ in 0..50 {
            let sums: Vec<f32> = (0..4 * HIDDEN).map(|_| random.random_range(-150.0..150.0)).collect();
            let [previous, d_out, d_next] = [1.0, 1e-3, 1e-3].map(|most| numbers(HIDDEN, most, &mut random));
            let (mut cells, mut kept, mut outputs) =
                (vec![0.0; HIDDEN], vec![0.0; HIDDEN], vec![0.0; HIDDEN]);
            let mut found = Vec::new();

            let mut gates = sums.clone();
            lstm::forward(HIDDEN, &mut gates, &previous, &mut cells, &mut kept, &mut outputs);
            found.extend([&gates[..], &cells, &outputs].concat());
            let mut d_cell = d_next.clone();
            lstm::backward(HIDDEN, &mut gates, &previous, &kept, &d_out, &d_next, &mut d_cell);
            found.extend([gates, d_cell].concat());

            let mut gates = sums[..3 * HIDDEN].to_vec();
            gru::forward(
                HIDDEN,
                &mut gates,
                &[0.0; 3 * HIDDEN],
                &[0.0; HIDDEN],
                &previous,
                &mut kept,
                &mut outputs,
            );
            let mut d_previous = d_next.clone();
            gru::backward(HIDDEN, &mut gates, &previous, &mut kept, &d_out, &mut d_previous);
            found.extend([gates, kept, d_previous].concat());

            for relu in [false, true] {
                let mut gates = sums[..HIDDEN].to_vec();
                plain::forward(relu, &gates, &mut outputs);
                plain::backward(relu, &mut gates, &outputs, &d_out, &d_next);
                found.extend(gates);
            }
            let dust = found.iter().find(|x| **x != 0.0 && x.abs() < 7.8e-31);
            assert!(dust.is_none(), "{dust:?}");
        }
    }
}
