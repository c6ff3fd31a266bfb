//! Where the texts of a language model are written: side by side, in batches that others join and leave at any token.

use std::cell::Cell;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::Instant;

use axum::http::StatusCode;
use crossbeam_channel::{Receiver, Sender, unbounded};
use lalograph_lab::writing::batch::{Alternative, Batch, Drawn, Finished, Joining};
use lalograph_lab::writing::conversation::{Conversation, Mark};
use lalograph_lab::writing::generator::{Ended, Sample};
use lalograph_lab::{LabError, ReadyModel};
use tokio::sync::mpsc::{UnboundedReceiver, UnboundedSender, unbounded_channel};

use crate::fault::{Fault, RETRY_AFTER};
use crate::metrics::{Counted, Metrics};
use crate::room::{Room, Ticket};
use crate::settings::Settings;

/// A part of what becomes of an order.
pub(crate) enum Part {
    /// A token of a text.
    Token(DrawnToken),
    /// The end of a text.
    End(Box<Written>),
}

/// A token that was drawn.
pub(crate) struct DrawnToken {
    /// Whose it is: the number of its text.
    pub(crate) number: u64,
    pub(crate) index: u32,
    pub(crate) text: String,
    pub(crate) probability: f64,
    pub(crate) alternatives: Vec<Alternative>,
}

/// A text that was written.
pub(crate) struct Written {
    pub(crate) number: u64,
    pub(crate) sample: Sample,
    /// Whether its time was over.
    pub(crate) late: bool,
    pub(crate) before_last: Option<Mark>,
}

/// What is the same for all texts of a request.
#[derive(Clone)]
pub(crate) struct Wish {
    /// Whether tokens are sent one by one.
    pub(crate) by_token: bool,
    /// Alternatives of each token.
    pub(crate) alternatives: usize,
    /// When the request arrived.
    pub(crate) arrived: Instant,
    /// When it must be over.
    pub(crate) until: Instant,
}

/// A text to be written, and to whom.
struct Order {
    start: Arc<Mark>,
    joining: Joining,
    errand: Errand,
}

/// What goes with a text through the batch.
struct Errand {
    number: u64,
    wish: Wish,
    parts: UnboundedSender<Part>,
    started: Cell<bool>,
    late: Cell<bool>,
    waiting: Cell<Option<Counted>>,
    writing: Cell<Option<Counted>>,
}

impl Errand {
    /// Hands a token over; `false` if nobody wants more.
    fn token(&self, drawn: &Drawn<'_>, metrics: &Metrics) -> bool {
        metrics.tokens.inc();
        if !self.started.replace(true) {
            metrics.first_token(self.wish.arrived.elapsed());
        }
        if Instant::now() >= self.wish.until {
            self.late.set(true);
            return false;
        }
        if !self.wish.by_token {
            return !self.parts.is_closed();
        }
        let token = DrawnToken {
            number: self.number,
            index: drawn.index,
            text: drawn.text.to_owned(),
            probability: drawn.log_probability.exp(),
            alternatives: drawn.alternatives(self.wish.alternatives),
        };
        self.parts.send(Part::Token(token)).is_ok()
    }

    fn end(self, sample: Sample, before_last: Option<Mark>, metrics: &Metrics) {
        match sample.ended {
            Ended::Stopped => metrics.stopped_texts.inc(),
            _ => metrics.texts.inc(),
        };
        // Whoever has the answer sees the text as ended.
        self.writing.set(None);
        let written = Written { number: self.number, sample, late: self.late.get(), before_last };
        // Who has gone does not need it.
        let _ = self.parts.send(Part::End(Box::new(written)));
    }
}

/// The desk of one language model.
pub(crate) struct Desk {
    pub(crate) ready: Arc<ReadyModel>,
    /// The start of a document.
    pub(crate) blank: Arc<Mark>,
    /// Where texts are read, kept from one request to the next.
    readers: Arc<Mutex<Vec<Conversation>>>,
    orders: Sender<Order>,
    room: Arc<Room>,
    metrics: Arc<Metrics>,
}

impl Desk {
    /// Opens a desk with the threads of the settings.
    pub(crate) fn open(
        ready: Arc<ReadyModel>,
        settings: &Settings,
        metrics: &Arc<Metrics>,
    ) -> std::io::Result<Self> {
        let (sender, orders) = unbounded();
        let limits = settings.limits;
        for _ in 0..settings.threads {
            let (ready, orders, metrics) = (Arc::clone(&ready), orders.clone(), Arc::clone(metrics));
            thread::Builder::new()
                .name("writing".to_owned())
                .spawn(move || keep_writing(&ready, &orders, limits.side_by_side, &metrics))?;
        }
        let blank = Arc::new(Conversation::new(Arc::clone(&ready)).mark());
        let room = Room::new(settings.threads * limits.side_by_side + limits.queue);
        Ok(Self { ready, blank, readers: Arc::default(), orders: sender, room, metrics: Arc::clone(metrics) })
    }

    /// Conversations to read texts with.
    pub(crate) fn readers(&self) -> Readers {
        Readers { ready: Arc::clone(&self.ready), kept: Arc::clone(&self.readers) }
    }

    /// Takes places for so many texts.
    pub(crate) fn room_for(&self, texts: usize) -> Result<Ticket, Fault> {
        self.room.take(texts).ok_or_else(|| {
            self.metrics.refused.inc();
            Fault::busy("there are too many texts to write at the moment", RETRY_AFTER)
        })
    }

    /// Has texts written that continue from a place, numbered from 1. Dropping the receiver stops them.
    pub(crate) fn order(
        &self,
        start: &Arc<Mark>,
        texts: Vec<Joining>,
        wish: &Wish,
    ) -> Result<UnboundedReceiver<Part>, Fault> {
        let (parts, receiver) = unbounded_channel();
        for (number, joining) in (1..).zip(texts) {
            let errand = Errand {
                number,
                wish: wish.clone(),
                parts: parts.clone(),
                started: Cell::new(false),
                late: Cell::new(false),
                waiting: Cell::new(Some(Counted::new(&self.metrics.waiting))),
                writing: Cell::new(None),
            };
            let order = Order { start: Arc::clone(start), joining, errand };
            self.orders.send(order).map_err(|_| not_written())?;
        }
        Ok(receiver)
    }
}

/// Conversations that texts are read with.
pub(crate) struct Readers {
    pub(crate) ready: Arc<ReadyModel>,
    kept: Arc<Mutex<Vec<Conversation>>>,
}

impl Readers {
    /// The place that `read` comes to from another.
    pub(crate) fn place_after(
        &self,
        from: &Mark,
        read: impl FnOnce(&mut Conversation) -> Result<(), LabError>,
    ) -> Result<Arc<Mark>, LabError> {
        let kept = || self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        let mut conversation = kept().pop().unwrap_or_else(|| Conversation::new(Arc::clone(&self.ready)));
        conversation.return_to(from);
        let read = read(&mut conversation);
        let mark = Arc::new(conversation.mark());
        kept().push(conversation);
        read.map(|()| mark)
    }
}

/// The fault of a text that no thread writes.
pub(crate) fn not_written() -> Fault {
    Fault::new(StatusCode::INTERNAL_SERVER_ERROR, "the text could not be written")
}

/// Writes until the desk is closed. What goes wrong costs the texts of one batch.
fn keep_writing(ready: &ReadyModel, orders: &Receiver<Order>, most: usize, metrics: &Metrics) {
    loop {
        match catch_unwind(AssertUnwindSafe(|| write(ready, orders, most, metrics))) {
            Ok(Ok(())) => return,
            Ok(Err(error)) => tracing::error!(%error, "texts lost"),
            Err(_) => tracing::error!("a writing thread failed; texts lost"),
        }
    }
}

fn write(
    ready: &ReadyModel,
    orders: &Receiver<Order>,
    most: usize,
    metrics: &Metrics,
) -> Result<(), LabError> {
    let mut batch: Batch<'_, Errand> = Batch::new(ready);
    let join = |batch: &mut Batch<'_, Errand>, Order { start, joining, errand }: Order| {
        errand.waiting.set(None);
        errand.writing.set(Some(Counted::new(&metrics.writing)));
        batch.join(errand, start, joining)
    };
    loop {
        if batch.is_empty() {
            let Ok(order) = orders.recv() else { return Ok(()) };
            join(&mut batch, order)?;
        }
        while batch.len() < most {
            let Ok(order) = orders.try_recv() else { break };
            join(&mut batch, order)?;
        }
        let ended = batch.draw(&mut |errand, drawn| errand.token(&drawn, metrics))?;
        for Finished { key, sample, before_last } in ended {
            key.end(sample, before_last, metrics);
        }
        // Who waits for a place that is free now begins before the others go on.
        if batch.len() == most || orders.is_empty() {
            batch.advance();
        }
    }
}
