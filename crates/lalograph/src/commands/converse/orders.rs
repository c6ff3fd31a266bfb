//! Command words within a conversation, and the settings that they change.

use std::path::PathBuf;

use lalograph_lab::writing::decoding::{Decoding, UnknownTokens};
use lalograph_net::Choice;
use lalograph_text::Vocabulary;
use serde::{Deserialize, Serialize};

use crate::cli::ConverseArgs;
use crate::commands::input::refuse_idle_unknown;
use crate::failure::Failure;

/// Settings of a turn.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Settings {
    temperature: Option<f64>,
    top_k: Option<usize>,
    top_p: Option<f64>,
    repeat_power: f64,
    unknown: UnknownTokens,
    pub(super) tokens: usize,
    pub(super) seed: u64,
}

impl Settings {
    pub(super) fn of(args: &ConverseArgs) -> Self {
        let Decoding { temperature, top_k, top_p, repeat_power, unknown } = args.decoding.decoding();
        Self { temperature, top_k, top_p, repeat_power, unknown, tokens: args.tokens, seed: args.seed }
    }

    /// The same at another temperature.
    pub(super) fn with_temperature(self, temperature: Option<f64>) -> Self {
        Self { temperature, ..self }
    }

    pub(super) fn decoding(&self) -> Decoding {
        Decoding {
            temperature: self.temperature,
            top_k: self.top_k,
            top_p: self.top_p,
            repeat_power: self.repeat_power,
            unknown: self.unknown,
        }
    }

    /// Refuses settings that are impossible for a vocabulary, or that have no effect with it.
    pub(super) fn check(&self, vocabulary: &Vocabulary) -> Result<(), Failure> {
        let changed = Some(self.unknown).filter(|&unknown| unknown != UnknownTokens::default());
        refuse_idle_unknown(changed, vocabulary.unit())?;
        Ok(self.decoding().check(vocabulary.len())?)
    }

    fn shown(&self) -> String {
        let number = |value: Option<String>| value.unwrap_or_else(|| "off".to_owned());
        format!(
            "temperature {}, top-k {}, top-p {}, repeat power {}, unknown {}, at most {} tokens, seed {}",
            self.temperature.map_or_else(|| "off (greedy)".to_owned(), |t| t.to_string()),
            number(self.top_k.map(|k| k.to_string())),
            number(self.top_p.map(|p| p.to_string())),
            self.repeat_power,
            self.unknown.name().replace('_', "-"),
            self.tokens,
            self.seed
        )
    }
}

/// What a line of the person asks for.
#[derive(Debug, PartialEq)]
pub(super) enum Order {
    /// It is text for the model.
    Say,
    /// Take the last turn again.
    Again,
    /// Forget what was said.
    Forget,
    /// Write the dialogue there.
    Save(PathBuf),
    /// Nothing but this to be said to the person.
    Said(String),
    /// End.
    End,
}

const HELP: &str = "\
:temperature T    sample at temperature T; off for greedy decoding
:top-k K          sample from the K most probable tokens; off for all
:top-p P          sample from the tokens that cover the share P; off for all
:repeat-power X   raise the probability of tokens that are in the text to this power; 1 is off
:unknown HOW      treat unknown tokens so: leave-out, draw, spell
:tokens N         at most N tokens a turn
:seed N           random seed of the turns to come
:settings         show the settings
:again            take the last turn again
:forget           forget what was said: the next line begins a text
:save FILE        write the dialogue to FILE
:end              end, as Ctrl-D does";

/// The meaning of a line to a model of this vocabulary: a command word changes the settings or asks for something, anything else is text.
pub(super) fn order(line: &str, settings: &mut Settings, vocabulary: &Vocabulary) -> Order {
    let check = |changed: &Settings| match changed.check(vocabulary) {
        Ok(()) => None,
        Err(failure) => Some(failure.what()),
    };
    parse(line, settings, &check)
}

/// The same; `check` says what is wrong with settings.
fn parse(line: &str, settings: &mut Settings, check: &dyn Fn(&Settings) -> Option<String>) -> Order {
    let Some(words) = line.strip_prefix(':') else { return Order::Say };
    let (word, value) = words.split_once(char::is_whitespace).map_or((words, ""), |(a, b)| (a, b.trim()));
    let mut changed = *settings;
    let fine = match word {
        "help" => return Order::Said(HELP.to_owned()),
        "settings" => return Order::Said(settings.shown()),
        "again" => return Order::Again,
        "forget" => return Order::Forget,
        "end" => return Order::End,
        "save" if value.is_empty() => return Order::Said(":save needs the name of a file".to_owned()),
        "save" => return Order::Save(PathBuf::from(value)),
        "temperature" => optional(value, &mut changed.temperature),
        "top-k" => optional(value, &mut changed.top_k),
        "top-p" => optional(value, &mut changed.top_p),
        "repeat-power" => required(value, &mut changed.repeat_power),
        "unknown" => {
            UnknownTokens::named(&value.replace('-', "_")).map(|how| changed.unknown = how).is_some()
        }
        "tokens" => required(value, &mut changed.tokens),
        "seed" => required(value, &mut changed.seed),
        _ => return Order::Said(format!("no command :{word}; :help lists the commands")),
    };
    if !fine {
        return Order::Said(format!("`{value}` is no value for :{word}; :help lists the commands"));
    }
    match check(&changed) {
        Some(what) => Order::Said(what),
        None => {
            *settings = changed;
            Order::Said(changed.shown())
        }
    }
}

fn required<T: std::str::FromStr>(value: &str, setting: &mut T) -> bool {
    value.parse().map(|value| *setting = value).is_ok()
}

fn optional<T: std::str::FromStr>(value: &str, setting: &mut Option<T>) -> bool {
    if value == "off" {
        *setting = None;
        return true;
    }
    value.parse().map(|value| *setting = Some(value)).is_ok()
}

#[cfg(test)]
mod tests {
    use lalograph_lab::writing::decoding::UnknownTokens;

    use super::{Order, Settings, parse};

    #[test]
    fn command_words_change_settings_and_nothing_else_does() {
        let mut settings = Settings {
            temperature: None,
            top_k: None,
            top_p: None,
            repeat_power: 1.0,
            unknown: UnknownTokens::LeaveOut,
            tokens: 9,
            seed: 1,
        };
        let mut said = |line: &str| {
            let check = |settings: &Settings| settings.top_k.filter(|&k| k > 50).map(|_| "too many".into());
            (parse(line, &mut settings, &check), settings)
        };
        assert_eq!(said("where is the queen?").0, Order::Say);
        assert_eq!(said(":again").0, Order::Again);
        assert_eq!(said(":save my talk.jsonl").0, Order::Save("my talk.jsonl".into()));
        assert_eq!(said(":temperature 0.5").1.temperature, Some(0.5));
        assert_eq!(said(":temperature off").1.temperature, None);
        assert_eq!(said(":unknown spell").1.unknown, UnknownTokens::Spell);
        assert_eq!(said(":unknown leave-out").1.unknown, UnknownTokens::LeaveOut);
        assert_eq!(said(":tokens 30").1.tokens, 30);
        assert_eq!(said(":top-k 99"), (Order::Said("too many".into()), said(":settings").1));
        for wrong in [":tokens many", ":temperature", ":hum", ":save", ":unknown"] {
            let before = said(":settings").1;
            let (order, after) = said(wrong);
            assert!(matches!(order, Order::Said(_)) && after == before, "{wrong}");
        }
    }
}
