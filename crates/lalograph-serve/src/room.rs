//! Room for work: so much at once and no more.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

/// A number of places.
#[derive(Debug)]
pub(crate) struct Room {
    taken: AtomicUsize,
    places: usize,
}

/// Places that were taken; they are free again when this is dropped.
#[derive(Debug)]
pub(crate) struct Ticket {
    room: Arc<Room>,
    count: usize,
}

impl Room {
    pub(crate) fn new(places: usize) -> Arc<Self> {
        Arc::new(Self { taken: AtomicUsize::new(0), places })
    }

    /// Takes places, or none if there are not so many.
    pub(crate) fn take(self: &Arc<Self>, count: usize) -> Option<Ticket> {
        let more = |taken: usize| (taken + count <= self.places).then_some(taken + count);
        let taken = self.taken.fetch_update(Ordering::Relaxed, Ordering::Relaxed, more);
        taken.ok().map(|_| Ticket { room: Arc::clone(self), count })
    }
}

impl Drop for Ticket {
    fn drop(&mut self) {
        self.room.taken.fetch_sub(self.count, Ordering::Relaxed);
    }
}

#[cfg(test)]
mod tests {
    use super::Room;

    #[test]
    fn places_are_given_back() {
        let room = Room::new(3);
        let (first, second) = (room.take(2).unwrap(), room.take(1).unwrap());
        assert!(room.take(1).is_none());
        drop(first);
        assert!(room.take(3).is_none());
        let third = room.take(2);
        assert!(third.is_some() && room.take(1).is_none());
        drop((second, third));
        assert!(room.take(3).is_some() && room.take(4).is_none());
    }
}
