//! The operators that the graphs use, from the standard's text, in double precision.

use std::collections::BTreeMap;

use super::reading::{Attribute, Node};
use super::tensor::{DOUBLE, FLOAT, INTEGER, TRUTH, Tensor, common, places};

/// What an operator makes of its inputs.
pub(crate) fn apply(node: &Node, inputs: &[Option<&Tensor>]) -> Vec<Tensor> {
    let x = |number: usize| inputs[number].unwrap();
    let settings = &node.attributes;
    let axis = |default: i64| settings.get("axis").map_or(default, |own| own.integer);
    let one = |tensor: Tensor| vec![tensor];
    match node.operator.as_str() {
        "Identity" => one(x(0).clone()),
        "Add" => one(pairs(x(0), x(1), |a, b| a + b)),
        "Sub" => one(pairs(x(0), x(1), |a, b| a - b)),
        "Mul" => one(pairs(x(0), x(1), |a, b| a * b)),
        "Div" if x(0).kind == INTEGER => one(pairs(x(0), x(1), |a, b| (a / b).trunc())),
        "Div" => one(pairs(x(0), x(1), |a, b| a / b)),
        "Max" => one(pairs(x(0), x(1), f64::max)),
        "Min" => one(pairs(x(0), x(1), f64::min)),
        "Less" => one(truth(pairs(x(0), x(1), |a, b| f64::from(u8::from(a < b))))),
        "Equal" => one(truth(pairs(x(0), x(1), |a, b| f64::from(u8::from(a == b))))),
        "Sqrt" => one(each(x(0), f64::sqrt)),
        "Relu" => one(each(x(0), |x| x.max(0.0))),
        "Tanh" => one(each(x(0), f64::tanh)),
        "Cast" => one(cast(x(0), settings["to"].integer as i32)),
        "Where" => {
            let shape = common(&[&x(0).shape, &x(1).shape, &x(2).shape]);
            let [which, yes, no] = [x(0), x(1), x(2)].map(|x| x.expanded(&shape).numbers);
            let chosen = which.iter().zip(yes.iter().zip(&no));
            let chosen = chosen.map(|(&which, (&yes, &no))| if which == 1.0 { yes } else { no });
            one(Tensor::new(x(1).kind, &shape, chosen.collect()))
        }
        "Shape" => {
            let sizes = x(0).shape.iter().map(|&size| size as i64);
            one(Tensor::integers(&[x(0).shape.len()], sizes))
        }
        "Range" => {
            let [from, to, step] = [x(0), x(1), x(2)].map(|x| x.list()[0]);
            assert_eq!(step, 1);
            one(Tensor::integers(&[(to - from) as usize], from..to))
        }
        "Reshape" => one(reshape(x(0), &x(1).list())),
        "Squeeze" => {
            let axes: Vec<usize> = x(1).list().iter().map(|&axis| x(0).axis(axis)).collect();
            assert!(axes.iter().all(|&axis| x(0).shape[axis] == 1), "{:?} {axes:?}", x(0).shape);
            let kept = (0..x(0).shape.len()).filter(|axis| !axes.contains(axis));
            let shape: Vec<usize> = kept.map(|axis| x(0).shape[axis]).collect();
            one(Tensor { shape, ..x(0).clone() })
        }
        "Unsqueeze" => {
            let mut shape = x(0).shape.clone();
            x(1).list().iter().for_each(|&axis| shape.insert(axis as usize, 1));
            one(Tensor { shape, ..x(0).clone() })
        }
        "Expand" => {
            let shape: Vec<usize> = x(1).list().iter().map(|&size| size as usize).collect();
            one(x(0).expanded(&common(&[&x(0).shape, &shape])))
        }
        "Transpose" => one(transpose(x(0), &settings["perm"].integers)),
        "Concat" => one(concat(&(0..inputs.len()).map(x).collect::<Vec<_>>(), axis(0))),
        "Slice" => {
            let axis = x(0).axis(inputs.get(3).map_or(0, |axes| axes.unwrap().list()[0]));
            one(slice(x(0), axis, x(1).list()[0], x(2).list()[0]))
        }
        "Gather" => one(gather(x(0), x(1), x(0).axis(axis(0)))),
        "GatherElements" => {
            let axis = x(0).axis(axis(0));
            let numbers = places(&x(1).shape).zip(x(1).list()).map(|(mut place, index)| {
                place[axis] = index as usize;
                at(x(0), &place)
            });
            one(Tensor::new(x(0).kind, &x(1).shape, numbers.collect()))
        }
        "ScatterElements" => {
            assert_eq!(settings["reduction"].text, "add");
            let (mut out, axis) = (x(0).clone(), x(0).axis(axis(0)));
            for ((mut place, index), add) in places(&x(1).shape).zip(x(1).list()).zip(&x(2).numbers) {
                place[axis] = index as usize;
                let at = offset(&out, &place);
                out.numbers[at] += add;
            }
            one(out)
        }
        "Pad" => one(pad(x(0), &x(1).list())),
        "ReverseSequence" => {
            let (time, batch) =
                (settings["time_axis"].integer as usize, settings["batch_axis"].integer as usize);
            let lengths = x(1).list();
            let numbers = places(&x(0).shape).map(|mut place| {
                let length = lengths[place[batch]] as usize;
                assert!(length <= x(0).shape[time]);
                if place[time] < length {
                    place[time] = length - 1 - place[time];
                }
                at(x(0), &place)
            });
            one(Tensor::new(x(0).kind, &x(0).shape, numbers.collect()))
        }
        "MatMul" => one(matmul(x(0), x(1))),
        "Gemm" => {
            let turned = settings.get("transB").is_some_and(|own| own.integer == 1);
            let right = if turned { transpose(x(1), &[1, 0]) } else { x(1).clone() };
            let product = matmul(x(0), &right);
            one(inputs.get(2).map_or(product.clone(), |bias| pairs(&product, bias.unwrap(), |a, b| a + b)))
        }
        "ReduceSum" => {
            let axis = x(0).axis(x(1).list()[0]);
            let (before, size, after) = x(0).around(axis);
            let sum = |at: usize| {
                (0..size).map(|own| x(0).numbers[(at / after * size + own) * after + at % after]).sum()
            };
            let mut shape = x(0).shape.clone();
            shape[axis] = 1;
            one(Tensor::new(x(0).kind, &shape, (0..before * after).map(sum).collect()))
        }
        "Softmax" | "LogSoftmax" => one(softmax(x(0), x(0).axis(axis(-1)), node.operator == "LogSoftmax")),
        "LayerNormalization" => one(norm(x(0), x(1), x(2), settings)),
        "GlobalMaxPool" => {
            let [rows, columns, steps, 1] = x(0).shape[..] else { panic!("{:?}", x(0).shape) };
            let best = x(0).numbers.chunks(steps).map(|all| all.iter().copied().fold(f64::MIN, f64::max));
            one(Tensor::new(x(0).kind, &[rows, columns, 1, 1], best.collect()))
        }
        "Conv" => one(convolution(x(0), x(1), x(2), &settings["pads"].integers)),
        "TopK" => top(x(0), x(1).list()[0] as usize),
        "DequantizeLinear" => {
            let axis = x(0).axis(axis(1));
            let (_, size, after) = x(0).around(axis);
            let numbers = x(0).numbers.iter().enumerate();
            let numbers = numbers.map(|(at, code)| code * x(1).numbers[at / after % size]);
            one(Tensor::new(FLOAT, &x(0).shape, numbers.collect()))
        }
        "RNN" | "GRU" | "LSTM" => recurrent(node, inputs),
        operator => panic!("{operator} is not an operator of this evaluator"),
    }
}

fn each(x: &Tensor, of: impl Fn(f64) -> f64) -> Tensor {
    Tensor { numbers: x.numbers.iter().map(|&x| of(x)).collect(), ..x.clone() }
}

fn pairs(a: &Tensor, b: &Tensor, of: impl Fn(f64, f64) -> f64) -> Tensor {
    assert_eq!(a.kind, b.kind, "numbers of one kind");
    let shape = common(&[&a.shape, &b.shape]);
    let (one, other) = (a.expanded(&shape), b.expanded(&shape));
    let numbers = one.numbers.iter().zip(&other.numbers).map(|(&a, &b)| of(a, b)).collect();
    Tensor::new(a.kind, &shape, numbers)
}

fn truth(x: Tensor) -> Tensor {
    Tensor { kind: TRUTH, ..x }
}

fn cast(x: &Tensor, to: i32) -> Tensor {
    let of = |x: f64| match to {
        FLOAT => f64::from(x as f32),
        DOUBLE => x,
        INTEGER => x.trunc(),
        kind => panic!("to kind {kind}"),
    };
    Tensor { kind: to, ..each(x, of) }
}

fn offset(x: &Tensor, place: &[usize]) -> usize {
    x.shape.iter().zip(place).fold(0, |at, (&size, &own)| {
        assert!(own < size, "{place:?} in {:?}", x.shape);
        at * size + own
    })
}

fn at(x: &Tensor, place: &[usize]) -> f64 {
    x.numbers[offset(x, place)]
}

fn reshape(x: &Tensor, sizes: &[i64]) -> Tensor {
    let known: i64 = sizes.iter().filter(|&&size| size > 0).product();
    let shape: Vec<usize> = sizes
        .iter()
        .map(|&size| {
            assert_ne!(size, 0);
            if size == -1 { x.numbers.len() / known as usize } else { size as usize }
        })
        .collect();
    Tensor::new(x.kind, &shape, x.numbers.clone())
}

fn transpose(x: &Tensor, order: &[i64]) -> Tensor {
    let shape: Vec<usize> = order.iter().map(|&axis| x.shape[axis as usize]).collect();
    let numbers = places(&shape).map(|place| {
        let mut of = vec![0; place.len()];
        order.iter().zip(&place).for_each(|(&axis, &own)| of[axis as usize] = own);
        at(x, &of)
    });
    Tensor::new(x.kind, &shape, numbers.collect())
}

fn concat(all: &[&Tensor], axis: i64) -> Tensor {
    let axis = all[0].axis(axis);
    let mut shape = all[0].shape.clone();
    shape[axis] = all.iter().map(|x| x.shape[axis]).sum();
    let (before, _, _) = all[0].around(axis);
    let mut numbers = Vec::new();
    for row in 0..before {
        for x in all {
            let (rows, size, after) = x.around(axis);
            assert_eq!(rows, before);
            numbers.extend_from_slice(&x.numbers[row * size * after..(row + 1) * size * after]);
        }
    }
    Tensor::new(all[0].kind, &shape, numbers)
}

fn slice(x: &Tensor, axis: usize, from: i64, to: i64) -> Tensor {
    let size = x.shape[axis] as i64;
    let bound = |at: i64| (if at < 0 { at + size } else { at }).clamp(0, size);
    let (from, to) = (bound(from), bound(to));
    let mut shape = x.shape.clone();
    shape[axis] = (to - from).max(0) as usize;
    let numbers = places(&shape).map(|mut place| {
        place[axis] += from as usize;
        at(x, &place)
    });
    Tensor::new(x.kind, &shape, numbers.collect())
}

fn gather(x: &Tensor, indices: &Tensor, axis: usize) -> Tensor {
    let (before, size, after) = x.around(axis);
    let mut numbers = Vec::new();
    for row in 0..before {
        for index in indices.list() {
            let index = usize::try_from(index).unwrap();
            assert!(index < size, "index {index} of {size}");
            let from = (row * size + index) * after;
            numbers.extend_from_slice(&x.numbers[from..from + after]);
        }
    }
    let shape = [&x.shape[..axis], &indices.shape, &x.shape[axis + 1..]].concat();
    Tensor::new(x.kind, &shape, numbers)
}

fn pad(x: &Tensor, pads: &[i64]) -> Tensor {
    let axes = x.shape.len();
    let shape: Vec<usize> =
        (0..axes).map(|axis| x.shape[axis] + (pads[axis] + pads[axes + axis]) as usize).collect();
    let numbers = places(&shape).map(|place| {
        let own: Option<Vec<usize>> = (0..axes)
            .map(|axis| place[axis].checked_sub(pads[axis] as usize).filter(|&at| at < x.shape[axis]))
            .collect();
        own.map_or(0.0, |own| at(x, &own))
    });
    Tensor::new(x.kind, &shape, numbers.collect())
}

fn matmul(a: &Tensor, b: &Tensor) -> Tensor {
    let (rows, inner) = (a.shape[a.shape.len() - 2], a.shape[a.shape.len() - 1]);
    let columns = b.shape[b.shape.len() - 1];
    assert_eq!(inner, b.shape[b.shape.len() - 2], "{:?} x {:?}", a.shape, b.shape);
    let (before_a, before_b) = (&a.shape[..a.shape.len() - 2], &b.shape[..b.shape.len() - 2]);
    let before = if before_a.is_empty() && before_b.is_empty() {
        Vec::new()
    } else {
        common(&[
            if before_a.is_empty() { &[1] } else { before_a },
            if before_b.is_empty() { &[1] } else { before_b },
        ])
    };
    let a = a.expanded(&[&before[..], &[rows, inner]].concat());
    let b = b.expanded(&[&before[..], &[inner, columns]].concat());
    let mut numbers = Vec::new();
    for (a, b) in a.numbers.chunks(rows * inner).zip(b.numbers.chunks(inner * columns)) {
        for row in a.chunks(inner) {
            for column in 0..columns {
                numbers.push(row.iter().enumerate().map(|(at, x)| x * b[at * columns + column]).sum());
            }
        }
    }
    Tensor::new(a.kind, &[&before[..], &[rows, columns]].concat(), numbers)
}

fn softmax(x: &Tensor, axis: usize, log: bool) -> Tensor {
    assert_eq!(axis + 1, x.shape.len());
    let mut numbers = Vec::new();
    for row in x.numbers.chunks(x.shape[axis]) {
        let best = row.iter().copied().fold(f64::MIN, f64::max);
        let total = best + row.iter().map(|x| (x - best).exp()).sum::<f64>().ln();
        numbers.extend(row.iter().map(|x| if log { x - total } else { (x - total).exp() }));
    }
    Tensor::new(x.kind, &x.shape, numbers)
}

fn norm(x: &Tensor, gain: &Tensor, bias: &Tensor, settings: &BTreeMap<String, Attribute>) -> Tensor {
    assert_eq!(settings["axis"].integer, -1);
    let width = x.shape[x.shape.len() - 1];
    let mut numbers = Vec::new();
    for row in x.numbers.chunks(width) {
        let mean = row.iter().sum::<f64>() / width as f64;
        let variance = row.iter().map(|x| (x - mean).powi(2)).sum::<f64>() / width as f64;
        let scale = 1.0 / (variance + f64::from(settings["epsilon"].number)).sqrt();
        let learnt = gain.numbers.iter().zip(&bias.numbers);
        numbers.extend(row.iter().zip(learnt).map(|(x, (gain, bias))| (x - mean) * scale * gain + bias));
    }
    Tensor::new(x.kind, &x.shape, numbers)
}

fn convolution(x: &Tensor, weights: &Tensor, bias: &Tensor, pads: &[i64]) -> Tensor {
    let x = pad(x, &[0, 0, pads[0], 0, 0, pads[1]]);
    let ([rows, channels, steps], [filters, _, width]) = (&x.shape[..], &weights.shape[..]) else {
        panic!("{:?} {:?}", x.shape, weights.shape)
    };
    let places_of = steps + 1 - width;
    let numbers = places(&[*rows, *filters, places_of]).map(|place| {
        let [row, filter, from] = place[..] else { unreachable!() };
        let sum: f64 = places(&[*channels, *width])
            .map(|own| at(&x, &[row, own[0], from + own[1]]) * at(weights, &[filter, own[0], own[1]]))
            .sum();
        sum + bias.numbers[filter]
    });
    Tensor::new(x.kind, &[*rows, *filters, places_of], numbers.collect())
}

fn top(x: &Tensor, count: usize) -> Vec<Tensor> {
    let width = x.shape[1];
    let (mut values, mut indices) = (Vec::new(), Vec::new());
    for row in x.numbers.chunks(width) {
        let mut order: Vec<usize> = (0..width).collect();
        order.sort_by(|&a, &b| row[b].total_cmp(&row[a]).then(a.cmp(&b)));
        values.extend(order[..count].iter().map(|&at| row[at]));
        indices.extend(order[..count].iter().map(|&at| at as i64));
    }
    let shape = [x.shape[0], count];
    vec![Tensor::new(x.kind, &shape, values), Tensor::integers(&shape, indices)]
}

fn sigmoid(x: f64) -> f64 {
    1.0 / (1.0 + (-x).exp())
}

/// RNN, GRU (with `linear_before_reset`) and LSTM in one direction: X is steps x rows x inputs, W 1 x gates x inputs, R 1 x gates x hidden, B both
/// biases; initial states 1 x rows x hidden.
fn recurrent(node: &Node, inputs: &[Option<&Tensor>]) -> Vec<Tensor> {
    let [x, w, r, b] = [0, 1, 2, 3].map(|at| inputs[at].unwrap());
    let hidden = node.attributes["hidden_size"].integer as usize;
    let [steps, rows, width] = x.shape[..] else { panic!("{:?}", x.shape) };
    let gates = w.shape[1];
    assert_eq!((&w.shape[..], &r.shape[..]), (&[1, gates, width][..], &[1, gates, hidden][..]));
    assert_eq!(b.shape, [1, 2 * gates]);
    assert!(inputs.get(4).is_none_or(Option::is_none), "lengths are not given");
    let first = |at: usize| {
        inputs.get(at).copied().flatten().map_or(vec![0.0; rows * hidden], |given| {
            assert_eq!(given.shape, [1, rows, hidden]);
            given.numbers.clone()
        })
    };
    let (mut h, mut c) = (first(5), first(6));
    let mut all = Vec::new();
    let product = |m: &Tensor, gate: usize, x: &[f64]| -> f64 {
        m.numbers[gate * x.len()..(gate + 1) * x.len()].iter().zip(x).map(|(m, x)| m * x).sum()
    };
    for step in 0..steps {
        let before = h.clone();
        for row in 0..rows {
            let x = &x.numbers[(step * rows + row) * width..][..width];
            let own = &before[row * hidden..(row + 1) * hidden];
            let from_x = |gate: usize| product(w, gate, x) + b.numbers[gate];
            let from_h = |gate: usize| product(r, gate, own) + b.numbers[gates + gate];
            let sum = |gate: usize| from_x(gate) + from_h(gate);
            for (unit, &last) in own.iter().enumerate() {
                let at = row * hidden + unit;
                let gate = |number: usize| number * hidden + unit;
                h[at] = match node.operator.as_str() {
                    "LSTM" => {
                        let [i, o, f, g] = [0, 1, 2, 3].map(|number| sum(gate(number)));
                        c[at] = sigmoid(f) * c[at] + sigmoid(i) * g.tanh();
                        sigmoid(o) * c[at].tanh()
                    }
                    "GRU" => {
                        assert_eq!(node.attributes["linear_before_reset"].integer, 1);
                        let (z, reset) = (sigmoid(sum(gate(0))), sigmoid(sum(gate(1))));
                        let new = (from_x(gate(2)) + reset * from_h(gate(2))).tanh();
                        (1.0 - z) * new + z * last
                    }
                    _ => match node.attributes["activations"].texts[0].as_str() {
                        "Relu" => sum(gate(0)).max(0.0),
                        "Tanh" => sum(gate(0)).tanh(),
                        other => panic!("{other}"),
                    },
                };
            }
        }
        all.extend_from_slice(&h);
    }
    let state = |numbers: Vec<f64>| Tensor::new(FLOAT, &[1, rows, hidden], numbers);
    vec![Tensor::new(FLOAT, &[steps, 1, rows, hidden], all), state(h), state(c)]
}
