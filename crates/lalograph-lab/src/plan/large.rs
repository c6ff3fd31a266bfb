//! Whole numbers above 2^63 - 1, for which TOML has no form: they are written as text.

use std::fmt;

use serde::de::{Error, Visitor};
use serde::{Deserializer, Serializer};

pub(super) fn serialize<S: Serializer>(number: &u64, serializer: S) -> Result<S::Ok, S::Error> {
    match i64::try_from(*number) {
        Ok(number) => serializer.serialize_i64(number),
        Err(_) => serializer.serialize_str(&number.to_string()),
    }
}

pub(super) fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<u64, D::Error> {
    struct Whole;

    impl Visitor<'_> for Whole {
        type Value = u64;

        fn expecting(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
            write!(formatter, "a whole number from 0 to {}", u64::MAX)
        }

        fn visit_u64<E: Error>(self, number: u64) -> Result<u64, E> {
            Ok(number)
        }

        fn visit_i64<E: Error>(self, number: i64) -> Result<u64, E> {
            u64::try_from(number).map_err(|_| E::invalid_value(serde::de::Unexpected::Signed(number), &self))
        }

        fn visit_str<E: Error>(self, text: &str) -> Result<u64, E> {
            text.parse().map_err(|_| E::invalid_value(serde::de::Unexpected::Str(text), &self))
        }
    }

    deserializer.deserialize_any(Whole)
}
