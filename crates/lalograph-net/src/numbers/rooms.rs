//! Memory that blocks ask for, made or only counted.

/// Makes zeroed memory and counts its bytes. A block states what it needs once, by asking for it; whether the memory is
/// then made or only counted is the caller's choice, so that an estimate cannot differ from what is made.
///
/// ```
/// use lalograph_net::numbers::rooms::Rooms;
/// let build = |rooms: &mut Rooms| rooms.zeros::<f32>(1000);
/// let mut counting = Rooms::counting();
/// assert!(build(&mut counting).is_empty());
/// assert_eq!(counting.bytes(), 4000);
/// assert_eq!(build(&mut Rooms::making()).len(), 1000);
/// ```
#[derive(Debug)]
pub struct Rooms {
    bytes: usize,
    making: bool,
}

impl Rooms {
    /// Makes what is asked for.
    pub fn making() -> Self {
        Self { bytes: 0, making: true }
    }

    /// Counts what is asked for, and makes nothing.
    pub fn counting() -> Self {
        Self { bytes: 0, making: false }
    }

    /// `count` zeros, or default values.
    pub fn zeros<X: Clone + Default>(&mut self, count: usize) -> Vec<X> {
        self.bytes = self.bytes.saturating_add(count.saturating_mul(size_of::<X>()));
        vec![X::default(); if self.making { count } else { 0 }]
    }

    /// The same, but empty if not `wanted`.
    pub fn zeros_if<X: Clone + Default>(&mut self, wanted: bool, count: usize) -> Vec<X> {
        self.zeros(if wanted { count } else { 0 })
    }

    /// An empty list with room for `count` values.
    pub fn list<X>(&mut self, count: usize) -> Vec<X> {
        self.bytes = self.bytes.saturating_add(count.saturating_mul(size_of::<X>()));
        Vec::with_capacity(if self.making { count } else { 0 })
    }

    /// Bytes asked for so far.
    pub fn bytes(&self) -> usize {
        self.bytes
    }
}
