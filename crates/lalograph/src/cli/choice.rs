//! Choices of the libraries as values of flags.

use std::ffi::OsStr;
use std::marker::PhantomData;
use std::time::Duration;

use clap::builder::{PossibleValue, PossibleValuesParser, TypedValueParser};
use clap::{Arg, Command, Error};
use lalograph_net::Choice;

/// Takes the values of a choice by the names that plan files have for them, with `-` for `_` or as they are.
pub(crate) fn choice<C: Choice>() -> ChoiceParser<C> {
    ChoiceParser(PhantomData)
}

/// See [`choice`].
#[derive(Clone)]
pub(crate) struct ChoiceParser<C>(PhantomData<C>);

fn offered<C: Choice>() -> impl Iterator<Item = PossibleValue> {
    C::ALL.iter().map(|value| {
        let offered = PossibleValue::new(value.name().replace('_', "-")).help(value.about());
        if value.name().contains('_') { offered.alias(value.name()) } else { offered }
    })
}

impl<C: Choice> TypedValueParser for ChoiceParser<C> {
    type Value = C;

    fn parse_ref(&self, command: &Command, arg: Option<&Arg>, value: &OsStr) -> Result<C, Error> {
        let name = PossibleValuesParser::new(offered::<C>()).parse_ref(command, arg, value)?;
        C::named(&name.replace('-', "_")).ok_or_else(|| Error::new(clap::error::ErrorKind::InvalidValue))
    }

    fn possible_values(&self) -> Option<Box<dyn Iterator<Item = PossibleValue> + '_>> {
        Some(Box::new(offered::<C>()))
    }
}

/// Minutes above 0, with or without a fraction.
pub(crate) fn minutes(text: &str) -> Result<Duration, String> {
    let minutes = text.trim().parse::<f64>().ok().filter(|&minutes| minutes > 0.0);
    let limit = minutes.and_then(|minutes| Duration::try_from_secs_f64(minutes * 60.0).ok());
    limit.ok_or_else(|| "must be a number of minutes above 0".to_owned())
}
