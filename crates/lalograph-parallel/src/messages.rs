//! The link of an exchange over message passing.

use std::time::{Duration, Instant};

use lalograph_net::step::processes::Link;
use mpi::Threading;
use mpi::collective::{CommunicatorCollectives, SystemOperation};
use mpi::environment::Universe;
use mpi::request::{Request, scope};
use mpi::topology::SimpleCommunicator;
use mpi::traits::{Communicator, Destination, Source};

/// Why processes cannot speak with each other.
#[derive(Debug, thiserror::Error)]
pub enum MessagesError {
    /// The library was started already, or does not start.
    #[error("the message passing library does not start")]
    NoStart,
    /// The library of this machine lets only the main thread send messages.
    #[error("the message passing library of this machine does not support threads")]
    NoThreads,
}

/// The processes that were started together with this one.
pub struct Messages {
    rank: usize,
    count: usize,
    /// Where each process runs.
    places: Vec<Place>,
    /// Called with the number of a process that is gone; it ends this one.
    gone: Box<dyn Fn(usize) + Send>,
}

/// The machine that a process runs on, and its number there.
#[derive(Debug, PartialEq, Eq)]
struct Place {
    machine: String,
    process: u32,
}

/// The message passing library, from when it is started until this is dropped. Then every process waits until all others have dropped theirs: one that
/// ends by a failure leaves it alone, and the launcher ends the others.
pub struct Meeting(#[expect(dead_code, reason = "it is kept for its end")] Universe);

impl std::fmt::Debug for Messages {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "process {} of {}", self.rank, self.count)
    }
}

impl Messages {
    /// Meets them. `gone` is called with the number of a process on this machine that is found to be gone while something is expected of it, and ends this
    /// process. If one on another machine is gone, the launcher ends all others.
    ///
    /// # Errors
    /// The library does not start, or is without threads.
    pub fn meet(gone: impl Fn(usize) + Send + 'static) -> Result<(Meeting, Self), MessagesError> {
        let (universe, threading) =
            mpi::initialize_with_threading(Threading::Serialized).ok_or(MessagesError::NoStart)?;
        if threading < Threading::Serialized {
            return Err(MessagesError::NoThreads);
        }
        let world = universe.world();
        let (rank, count) = (world.rank() as usize, world.size() as usize);
        let machine = mpi::environment::processor_name().unwrap_or_default();
        let places = Vec::new();
        let mut messages = Self { rank, count, places, gone: Box::new(gone) };
        messages.places = messages.exchange_places(&machine);
        Ok((Meeting(universe), messages))
    }

    /// Tells the others where this process runs, and hears where they do.
    fn exchange_places(&mut self, machine: &str) -> Vec<Place> {
        /// Bytes of a name that are compared.
        const NAME: usize = 124;
        let mut here = [0; 4 + NAME];
        let name = &machine.as_bytes()[..machine.len().min(NAME)];
        here[..4].copy_from_slice(&std::process::id().to_le_bytes());
        here[4..4 + name.len()].copy_from_slice(name);
        let mut all = vec![here; self.count];
        let out: Vec<(usize, &[u8])> =
            (0..self.count).filter(|&to| to != self.rank).map(|to| (to, &here[..])).collect();
        let rank = self.rank;
        let others = all.iter_mut().enumerate().filter(|(from, _)| *from != rank);
        let mut into: Vec<(usize, &mut [u8])> = others.map(|(from, bytes)| (from, &mut bytes[..])).collect();
        self.swap(&out, &mut into);
        let place = |bytes: &[u8; 4 + NAME]| {
            let (process, name) = bytes.split_at(4);
            let process = process.try_into().map_or(0, u32::from_le_bytes);
            Place { machine: String::from_utf8_lossy(name).into_owned(), process }
        };
        all.iter().map(place).collect()
    }

    /// Whether a process was on this machine and is there no more.
    fn is_gone(&self, rank: usize) -> bool {
        let (Some(own), Some(other)) = (self.places.get(self.rank), self.places.get(rank)) else {
            return false;
        };
        own.machine == other.machine
            && !std::path::Path::new("/proc").join(other.process.to_string()).exists()
    }
}

/// Time between two looks at whether waiting is still wanted.
const LOOK: Duration = Duration::from_millis(100);

/// Time after which a process that waits lets others have its processor, and time after which it sleeps: another one may be reading a corpus.
const POLITE: [Duration; 2] = [Duration::from_micros(20), Duration::from_millis(20)];

/// The length of a sleep.
const NAP: Duration = Duration::from_micros(200);

impl Link for Messages {
    fn rank(&self) -> usize {
        self.rank
    }

    fn count(&self) -> usize {
        self.count
    }

    fn swap(&mut self, out: &[(usize, &[u8])], into: &mut [(usize, &mut [u8])]) {
        let world = SimpleCommunicator::world();
        let expected: Vec<usize> =
            into.iter().map(|(from, _)| *from).chain(out.iter().map(|(to, _)| *to)).collect();
        scope(|scope| {
            let mut arriving: Vec<_> = into
                .iter_mut()
                .map(|(from, bytes)| {
                    Some(world.process_at_rank(*from as i32).immediate_receive_into(scope, &mut **bytes))
                })
                .collect();
            let mut leaving: Vec<_> = out
                .iter()
                .map(|(to, bytes)| Some(world.process_at_rank(*to as i32).immediate_send(scope, *bytes)))
                .collect();
            self.wait(&expected, || still_open(&mut arriving) + still_open(&mut leaving) == 0);
        });
    }

    fn add_up(&mut self, numbers: &mut [f32]) {
        let world = SimpleCommunicator::world();
        let here = numbers.to_vec();
        // Of the library's two sums this is the quicker one. It cannot be waited for politely; if a process is gone, the launcher ends the others.
        world.all_reduce_into(&here[..], numbers, SystemOperation::sum());
    }
}

impl Messages {
    /// Waits until it is done, politely, and looks now and then whether those that it is expected of are still there.
    fn wait(&self, expected: &[usize], mut done: impl FnMut() -> bool) {
        let (start, mut looked) = (Instant::now(), Instant::now());
        while !done() {
            if looked.elapsed() >= LOOK {
                looked = Instant::now();
                if let Some(&rank) = expected.iter().find(|&&rank| self.is_gone(rank)) {
                    (self.gone)(rank);
                }
            }
            let waited = start.elapsed();
            if waited >= POLITE[1] {
                std::thread::sleep(NAP);
            } else if waited >= POLITE[0] {
                std::thread::yield_now();
            }
        }
    }
}

/// Requests that are not done yet.
fn still_open<'a, D: ?Sized, S: mpi::request::Scope<'a>>(
    requests: &mut [Option<Request<'a, D, S>>],
) -> usize {
    for request in requests.iter_mut() {
        *request = request.take().and_then(|request| request.test().err());
    }
    requests.iter().flatten().count()
}
