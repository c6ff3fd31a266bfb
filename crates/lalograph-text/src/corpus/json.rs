//! Documents of a JSON Lines file: one an object, its fields named by paths such as `visit.notes.0`.

use std::fmt;
use std::io::{self, BufRead, Read};
use std::ops::ControlFlow;

use serde::Deserializer;
use serde::de::{DeserializeSeed, IgnoredAny, MapAccess, SeqAccess, Visitor};

use super::batch::{Intake, Row, RowKind};
use super::groups::Place;
use super::reading::Reason;
use super::{source, table};

/// Reads the documents of a JSON Lines text.
pub(super) fn read(lines: &mut dyn BufRead, intake: &mut Intake<'_>) -> ControlFlow<()> {
    let spec = intake.spec();
    let default = ["text".to_owned()];
    let pair: Vec<String> = spec.pair.iter().flat_map(|(p, a)| [p.clone(), a.clone()]).collect();
    let text: &[String] = match (&pair[..], &spec.text[..]) {
        ([], []) => &default,
        ([], text) => text,
        (pair, _) => pair,
    };
    let paths: Vec<Vec<&str>> = text
        .iter()
        .chain(&spec.label)
        .chain(&spec.keep)
        .chain(&spec.group)
        .chain(&spec.group_order)
        .map(|path| path.split('.').collect())
        .collect();
    let label = spec.label.as_ref().map(|_| text.len());
    let keep_from = text.len() + usize::from(label.is_some());
    let group_at = keep_from + spec.keep.len();
    let limit = spec.limits.document_bytes;
    let (mut line, mut joined) = (Vec::new(), Vec::new());
    let mut values: Vec<Option<String>> = vec![None; paths.len()];
    for number in 1u64.. {
        line.clear();
        let left_out = match next_line(lines, limit, &mut line) {
            Ok(false) => return ControlFlow::Continue(()),
            Err(error) => return intake.skip(Some(number), source::reason_of(&error)),
            Ok(true) if line.len() as u64 > limit => Some(Reason::TooLong(limit)),
            Ok(true) if line.trim_ascii().is_empty() => continue,
            Ok(true) => {
                values.fill(None);
                match pick(&line, &paths, &mut values) {
                    Err(error) => Some(reason(&error)),
                    Ok(()) => {
                        let missing = values[..text.len()].iter().position(Option::is_none);
                        missing.map(|at| Reason::NoField(text[at].clone()))
                    }
                }
            }
        };
        let flow = match left_out {
            Some(reason) => intake.skip(Some(number), reason),
            None => {
                let fields: Vec<&[u8]> =
                    values.iter().map(|value| value.as_deref().unwrap_or_default().as_bytes()).collect();
                let mut answer_at = None;
                let text_of_row = match &spec.pair {
                    Some(names) => match table::join_pair(names, [fields[0], fields[1]], &mut joined) {
                        Ok(at) => {
                            answer_at = Some(at);
                            &joined
                        }
                        Err(reason) => {
                            intake.skip(Some(number), reason)?;
                            continue;
                        }
                    },
                    None => table::join(fields[..text.len()].iter().copied(), &mut joined),
                };
                intake.take(Row {
                    kind: RowKind::Record,
                    line: number,
                    text: text_of_row,
                    answer_at,
                    label: label.map(|at| fields[at]),
                    kept: &fields[keep_from..group_at],
                    closing: 1,
                    place: spec.group.as_ref().map(|_| Place {
                        group: fields[group_at],
                        order: fields.get(group_at + 1).copied().unwrap_or_default(),
                    }),
                    lines: &[],
                })
            }
        };
        if flow.is_break() {
            return flow;
        }
    }
    ControlFlow::Continue(())
}

/// Reads a line; one over the limit is read to its end, and a little more than the limit is kept of it.
fn next_line(lines: &mut dyn BufRead, limit: u64, line: &mut Vec<u8>) -> io::Result<bool> {
    let read = lines.take(limit + 1).read_until(b'\n', line)?;
    if line.len() as u64 > limit && line.last() != Some(&b'\n') {
        lines.skip_until(b'\n')?;
    }
    Ok(read > 0)
}

fn reason(error: &serde_json::Error) -> Reason {
    let text = error.to_string();
    // The line is the file's, not the text's that the parser saw.
    let text = text.split(" at line ").next().unwrap_or(&text);
    Reason::BadJson(format!("{text}, column {}", error.column()))
}

/// Picks the values at the paths out of a record without building the rest of it.
fn pick(line: &[u8], paths: &[Vec<&str>], values: &mut [Option<String>]) -> serde_json::Result<()> {
    let mut parser = serde_json::Deserializer::from_slice(line);
    let wanted: Vec<(usize, &[&str])> = paths.iter().map(Vec::as_slice).enumerate().collect();
    Pick { wanted: &wanted, values }.deserialize(&mut parser)?;
    parser.end()
}

/// A value of which some parts are wanted: the rest of each path, with the place of its value.
struct Pick<'p> {
    wanted: &'p [(usize, &'p [&'p str])],
    values: &'p mut [Option<String>],
}

impl Pick<'_> {
    /// The value that this is, for those who want it itself.
    fn keep(self, value: impl fmt::Display) {
        for (at, rest) in self.wanted {
            if rest.is_empty() {
                self.values[*at] = Some(value.to_string());
            }
        }
    }
}

/// The wanted paths that continue inside the part called `name`.
fn inside<'p>(wanted: &[(usize, &'p [&'p str])], name: &str) -> Vec<(usize, &'p [&'p str])> {
    wanted
        .iter()
        .filter(|(_, rest)| rest.first() == Some(&name))
        .map(|(at, rest)| (*at, &rest[1..]))
        .collect()
}

impl<'de> DeserializeSeed<'de> for Pick<'_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Pick<'_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a JSON value")
    }

    fn visit_str<E>(self, value: &str) -> Result<(), E> {
        self.keep(value);
        Ok(())
    }

    fn visit_bool<E>(self, value: bool) -> Result<(), E> {
        self.keep(value);
        Ok(())
    }

    fn visit_i64<E>(self, value: i64) -> Result<(), E> {
        self.keep(value);
        Ok(())
    }

    fn visit_u64<E>(self, value: u64) -> Result<(), E> {
        self.keep(value);
        Ok(())
    }

    fn visit_f64<E>(self, value: f64) -> Result<(), E> {
        self.keep(value);
        Ok(())
    }

    /// A null is a value that is missing.
    fn visit_unit<E>(self) -> Result<(), E> {
        self.keep("");
        Ok(())
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<(), A::Error> {
        while let Some(key) = map.next_key::<std::borrow::Cow<'de, str>>()? {
            let wanted = inside(self.wanted, &key);
            if wanted.is_empty() {
                map.next_value::<IgnoredAny>()?;
            } else {
                map.next_value_seed(Pick { wanted: &wanted, values: self.values })?;
            }
        }
        Ok(())
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut sequence: A) -> Result<(), A::Error> {
        for index in 0usize.. {
            let wanted = inside(self.wanted, &index.to_string());
            let more = if wanted.is_empty() {
                sequence.next_element::<IgnoredAny>()?.is_some()
            } else {
                sequence.next_element_seed(Pick { wanted: &wanted, values: self.values })?.is_some()
            };
            if !more {
                break;
            }
        }
        Ok(())
    }
}
