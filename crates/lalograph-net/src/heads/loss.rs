//! The loss of a forward pass, and the targets left out of it.

/// A target that is not scored: no loss, no gradient.
pub const IGNORED: u32 = u32::MAX;

/// Loss of a training step.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Loss {
    /// Sum of -ln p(target); against the sample, where training uses one.
    pub sum: f64,
    /// Sum of what training minimises besides.
    pub penalty: f64,
    /// Targets whose most probable outcome was right, if the head counts them.
    pub right: u64,
}
