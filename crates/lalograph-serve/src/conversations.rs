//! Conversations: each a place in a text, by a name that nobody can guess.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use axum::http::StatusCode;
use lalograph_lab::writing::conversation::Mark;
use prometheus_client::metrics::gauge::Gauge;
use rand::RngExt;

use crate::fault::{Fault, RETRY_AFTER};
use crate::settings::Limits;

/// The turn that was taken last, so that it can be taken again.
#[derive(Debug, Clone)]
pub(crate) struct LastTurn {
    /// The place before it.
    pub(crate) before: Arc<Mark>,
    /// What the other side wrote.
    pub(crate) said: String,
    /// How often it was taken again.
    pub(crate) times: u64,
}

/// A conversation between its turns.
#[derive(Debug, Clone)]
pub(crate) struct Talk {
    pub(crate) model: String,
    pub(crate) mark: Arc<Mark>,
    pub(crate) turns: u64,
    pub(crate) last: Option<LastTurn>,
}

#[derive(Debug)]
struct Kept {
    /// None while a turn is taken.
    talk: Option<Talk>,
    model: String,
    turns: u64,
    used: Instant,
}

/// All conversations.
#[derive(Debug)]
pub(crate) struct Conversations {
    kept: Arc<Mutex<HashMap<String, Kept>>>,
    most: usize,
    time: Duration,
    gauge: Gauge,
}

/// A conversation that is being continued. Dropped, it is where it was before.
pub(crate) struct Turn {
    kept: Arc<Mutex<HashMap<String, Kept>>>,
    id: String,
    pub(crate) talk: Talk,
}

impl Turn {
    /// Goes on from another place.
    pub(crate) fn keep(mut self, talk: Talk) {
        self.talk = talk;
    }
}

impl Drop for Turn {
    fn drop(&mut self) {
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(kept) = kept.get_mut(&self.id) {
            kept.turns = self.talk.turns;
            kept.used = Instant::now();
            kept.talk = Some(self.talk.clone());
        }
    }
}

fn no_conversation() -> Fault {
    Fault::missing("there is no conversation of this name: it was ended, or forgotten after some time")
}

impl Conversations {
    pub(crate) fn new(limits: Limits, gauge: Gauge) -> Self {
        Self { kept: Arc::default(), most: limits.conversations, time: limits.conversation_time, gauge }
    }

    fn locked(&self) -> std::sync::MutexGuard<'_, HashMap<String, Kept>> {
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        let now = Instant::now();
        kept.retain(|_, kept| kept.talk.is_none() || now.duration_since(kept.used) < self.time);
        self.gauge.set(kept.len() as i64);
        kept
    }

    /// Begins a conversation; its name.
    pub(crate) fn begin(&self, model: &str, mark: Arc<Mark>) -> Result<String, Fault> {
        let id = format!("{:032x}", rand::rng().random::<u128>());
        let mut kept = self.locked();
        if kept.len() >= self.most {
            return Err(Fault::busy("there are too many conversations at the moment", RETRY_AFTER));
        }
        let talk = Talk { model: model.to_owned(), mark, turns: 0, last: None };
        let started = Kept { talk: Some(talk), model: model.to_owned(), turns: 0, used: Instant::now() };
        kept.insert(id.clone(), started);
        self.gauge.set(kept.len() as i64);
        Ok(id)
    }

    /// The model of a conversation, and the turns that were taken.
    pub(crate) fn look(&self, id: &str) -> Result<(String, u64), Fault> {
        self.locked().get(id).map(|kept| (kept.model.clone(), kept.turns)).ok_or_else(no_conversation)
    }

    /// Takes a conversation for a turn.
    pub(crate) fn take(&self, id: &str) -> Result<Turn, Fault> {
        let mut kept = self.locked();
        let found = kept.get_mut(id).ok_or_else(no_conversation)?;
        let talk = found.talk.take().ok_or_else(|| {
            Fault::new(StatusCode::CONFLICT, "another turn of this conversation is being taken")
                .with_remedy("wait for its end")
        })?;
        Ok(Turn { kept: Arc::clone(&self.kept), id: id.to_owned(), talk })
    }

    /// Ends a conversation.
    pub(crate) fn end(&self, id: &str) -> Result<(), Fault> {
        let mut kept = self.locked();
        kept.remove(id).ok_or_else(no_conversation)?;
        self.gauge.set(kept.len() as i64);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;
    use std::time::Duration;

    use lalograph_lab::writing::conversation::Mark;
    use prometheus_client::metrics::gauge::Gauge;

    use super::Conversations;
    use crate::settings::Limits;

    #[test]
    fn idle_conversations_are_forgotten_and_those_in_a_turn_are_not() {
        let time = Duration::from_millis(50);
        let limits = Limits { conversations: 2, conversation_time: time, ..Limits::default() };
        let all = Conversations::new(limits, Gauge::default());
        let begin = || all.begin("bees", Arc::new(Mark::default()));
        let (idle, speaking) = (begin().unwrap(), begin().unwrap());
        assert!(begin().is_err(), "there is no place for a third one");
        let turn = all.take(&speaking).unwrap();
        assert!(all.take(&speaking).is_err(), "one turn at a time");
        std::thread::sleep(2 * time);
        assert!(all.look(&idle).is_err() && all.look(&speaking).is_ok());
        let talk = super::Talk { turns: 1, ..turn.talk.clone() };
        turn.keep(talk);
        assert_eq!(all.look(&speaking).unwrap(), ("bees".to_owned(), 1));
        all.end(&speaking).unwrap();
        assert!(all.end(&speaking).is_err() && begin().is_ok());
    }
}
