//! One voice of a conversation: a model and its state.

use std::path::Path;
use std::sync::Arc;

use lalograph_lab::ReadyModel;
use lalograph_lab::writing::conversation::{Conversation, Mark};
use lalograph_lab::writing::generator::{Ended, Request};
use lalograph_lab::writing::turn::{Heard, Spoken, chance_of_turn, heard, terms_of_turn};
use lalograph_text::Vocabulary;

use super::orders::Settings;
use crate::commands::lookup::{last_part, load_model};
use crate::failure::Failure;

/// A model that talks.
pub(super) struct Voice {
    /// Its name.
    pub(super) name: String,
    ready: Arc<ReadyModel>,
    conversation: Conversation,
    /// The state before the last turn, what was read then, and how often the turn was taken.
    before: Option<(Mark, String, u64)>,
}

/// A turn that was taken.
pub(super) struct Turn {
    pub(super) text: String,
    pub(super) tokens: u64,
    pub(super) ended: Ended,
    /// Words that the model was told and does not know.
    pub(super) unknown: Vec<String>,
}

impl Voice {
    pub(super) fn new(path: &Path) -> Result<Self, Failure> {
        let ready = Arc::new(ReadyModel::new(load_model(path)?));
        let name = last_part(path).trim_end_matches(".safetensors").to_owned();
        Ok(Self { name, conversation: Conversation::new(Arc::clone(&ready)), ready, before: None })
    }

    /// Another voice of the same model.
    pub(super) fn twin(&self) -> Self {
        let ready = Arc::clone(&self.ready);
        Self {
            name: self.name.clone(),
            conversation: Conversation::new(Arc::clone(&ready)),
            ready,
            before: None,
        }
    }

    /// Whether it was trained on prompts and answers.
    fn answers(&self) -> bool {
        self.ready.vocabulary().turns().is_some()
    }

    pub(super) fn what_it_does(&self) -> String {
        let what = if self.answers() { "answers every line" } else { "continues the text after every line" };
        format!("`{}` {what}", self.name)
    }

    pub(super) fn vocabulary(&self) -> &Vocabulary {
        self.ready.vocabulary()
    }

    /// Whether there is a turn that can be taken again.
    pub(super) fn has_spoken(&self) -> bool {
        self.before.is_some()
    }

    /// Forgets what was said.
    pub(super) fn forget(&mut self) {
        self.conversation.restart();
        self.before = None;
    }

    /// Reads a text and answers it, or continues it.
    pub(super) fn answer(
        &mut self,
        text: &str,
        settings: &Settings,
        turn: u64,
        each: impl FnMut(&str) -> bool,
    ) -> Result<Turn, Failure> {
        self.before = Some((self.conversation.mark(), text.to_owned(), 0));
        self.take(settings, turn, each)
    }

    /// Takes the last turn again, with other draws.
    pub(super) fn again(
        &mut self,
        settings: &Settings,
        turn: u64,
        each: impl FnMut(&str) -> bool,
    ) -> Result<Turn, Failure> {
        if let Some((mark, _, times)) = &mut self.before {
            self.conversation.return_to(mark);
            *times += 1;
        }
        self.take(settings, turn, each)
    }

    fn take(
        &mut self,
        settings: &Settings,
        turn: u64,
        each: impl FnMut(&str) -> bool,
    ) -> Result<Turn, Failure> {
        let Some((_, text, times)) = &self.before else {
            return Err(Failure::work("there is no turn to take again"));
        };
        let vocabulary = self.ready.vocabulary();
        let Heard { text: seed_text, unknown } = heard(vocabulary, text);
        let terms = terms_of_turn(vocabulary, settings.decoding(), settings.tokens);
        let mut random = chance_of_turn(settings.seed, turn, *times);
        let (mut spoken, mut each) = (Spoken::default(), each);
        let sample = self.conversation.write(&Request { seed_text, terms }, &mut random, |piece| {
            let piece = spoken.part(piece);
            piece.is_empty() || each(piece)
        })?;
        Ok(Turn {
            text: sample.text.trim_start().to_owned(),
            tokens: sample.tokens(),
            ended: sample.ended,
            unknown,
        })
    }
}
