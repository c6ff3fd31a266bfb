//! The exponential function in single precision, in a form that compilers vectorise.

/// e^x: range reduction by ln 2 in two parts, a polynomial of degree 7 on [-ln 2 / 2, ln 2 / 2], and the
/// power of two put straight into the exponent. Clamped to [-87, 88], so never infinite and never subnormal; NaN stays NaN.
#[inline(always)]
pub fn exp_f32(x: f32) -> f32 {
    // Adding this pushes the fraction bits out: what is left in the low bits is the nearest whole number.
    const ROUND: f32 = 12_582_912.0;
    const LN_2_HIGH: f32 = 0.693_359_4;
    const LN_2_LOW: f32 = -2.121_944_4e-4;
    let clamped = if x < -87.0 { -87.0 } else { x };
    let clamped = if clamped > 88.0 { 88.0 } else { clamped };
    let shifted = clamped * std::f32::consts::LOG2_E + ROUND;
    let whole = shifted - ROUND;
    let r = (clamped - whole * LN_2_HIGH) - whole * LN_2_LOW;
    let p = 1.984_127e-4;
    let p = p * r + 1.388_888_9e-3;
    let p = p * r + 8.333_334e-3;
    let p = p * r + 4.166_666_8e-2;
    let p = p * r + 1.666_666_7e-1;
    let p = p * r + 0.5;
    let p = (p * r) * r + r + 1.0;
    let power = (shifted.to_bits().wrapping_sub(ROUND.to_bits()).wrapping_add(127)) << 23;
    p * f32::from_bits(power)
}
