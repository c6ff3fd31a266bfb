//! Choices of the libraries as values of flags.

use std::ffi::OsStr;
use std::marker::PhantomData;
use std::time::Duration;

use clap::builder::{PossibleValue, PossibleValuesParser, TypedValueParser};
use clap::{Arg, Command, Error};
use jiff::SignedDuration;
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

/// A time with its units, such as `30min`, `2h` or `1h 30min`.
pub(crate) fn time(text: &str) -> Result<Duration, String> {
    let found = text.trim().parse::<SignedDuration>().ok().and_then(|time| Duration::try_from(time).ok());
    found.filter(|time| !time.is_zero()).ok_or_else(|| "must be a time such as 90s, 30min or 2h".to_owned())
}

#[cfg(test)]
mod tests {
    use super::time;

    #[test]
    fn a_time_has_units() {
        for (text, seconds) in
            [("90s", 90), ("30min", 1800), ("2h", 7200), ("1h 30min", 5400), ("0.5h", 1800)]
        {
            assert_eq!(time(text).unwrap().as_secs(), seconds, "{text}");
        }
        for wrong in ["", "30", "-5min", "0s", "soon", "3 fortnights"] {
            assert!(time(wrong).unwrap_err().contains("30min"), "{wrong}");
        }
    }
}
