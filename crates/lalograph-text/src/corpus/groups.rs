//! Rows of a table that are one document: those of one file that have the same value in the column of the group.

use std::collections::HashMap;
use std::ops::ControlFlow;

use super::batch::{Intake, Row, RowKind};
use super::reading::Reason;

/// The group of a row, and the value by which it is ordered there; empty if rows are in the order of the file.
#[derive(Debug, Clone, Copy)]
pub(super) struct Place<'a> {
    pub(super) group: &'a [u8],
    pub(super) order: &'a [u8],
}

/// Rows gathered until the end of their file, since those of one group may be anywhere in it.
#[derive(Default)]
pub(super) struct Groups {
    places: HashMap<Vec<u8>, usize>,
    groups: Vec<Group>,
}

struct Group {
    rows: Vec<GroupRow>,
    bytes: u64,
    label: Option<Vec<u8>>,
    kept: Vec<Vec<u8>>,
    /// The first row with another label than the first.
    other_label: Option<u64>,
}

struct GroupRow {
    order: Vec<u8>,
    line: u64,
    text: Vec<u8>,
    closing: u64,
}

impl Groups {
    /// Adds a row to its group. Rows of a group that has grown beyond the limit are counted and not kept.
    pub(super) fn add(&mut self, place: Place<'_>, row: Row<'_>, limit: u64) {
        let number = *self.places.entry(place.group.to_vec()).or_insert_with(|| {
            self.groups.push(Group {
                rows: Vec::new(),
                bytes: 0,
                label: row.label.map(<[u8]>::to_vec),
                kept: row.kept.iter().map(|field| field.to_vec()).collect(),
                other_label: None,
            });
            self.groups.len() - 1
        });
        let group = &mut self.groups[number];
        if group.other_label.is_none() && group.label.as_deref() != row.label {
            group.other_label = Some(row.line);
        }
        group.bytes += row.text.len() as u64 + row.closing;
        if group.bytes > limit {
            group.rows.truncate(1);
            return;
        }
        group.rows.push(GroupRow {
            order: place.order.to_vec(),
            line: row.line,
            text: row.text.to_vec(),
            closing: row.closing,
        });
    }

    /// Passes on the documents of the file, in the order of their first rows.
    pub(super) fn finish(self, intake: &mut Intake<'_>) -> ControlFlow<()> {
        let limit = intake.spec().limits.document_bytes;
        for mut group in self.groups {
            let first = group.rows.first().map(|row| row.line);
            if let Some(line) = group.other_label {
                intake.skip(Some(line), Reason::GroupLabels)?;
                continue;
            }
            if group.bytes > limit {
                intake.skip(first, Reason::TooLong(limit))?;
                continue;
            }
            group.sort();
            let lines: Vec<u64> = group.rows.iter().map(|row| row.line).collect();
            let texts: Vec<&[u8]> = group.rows.iter().map(|row| &row.text[..]).collect();
            let kept: Vec<&[u8]> = group.kept.iter().map(Vec::as_slice).collect();
            intake.take(Row {
                kind: RowKind::Record,
                line: first.unwrap_or_default(),
                text: &texts.join(&b'\n'),
                label: group.label.as_deref(),
                kept: &kept,
                closing: group.rows.last().map_or(0, |row| row.closing),
                lines: &lines,
                place: None,
            })?;
        }
        ControlFlow::Continue(())
    }
}

impl Group {
    /// Sorts the rows by their order: as numbers if all are, and otherwise as text. Rows of equal order keep that of the file.
    fn sort(&mut self) {
        let number = |row: &GroupRow| {
            std::str::from_utf8(&row.order)
                .ok()
                .and_then(|order| order.trim().parse::<f64>().ok())
                .filter(|number| number.is_finite())
        };
        if self.rows.iter().all(|row| number(row).is_some()) {
            let key = |row: &GroupRow| number(row).unwrap_or_default();
            self.rows.sort_by(|a, b| key(a).total_cmp(&key(b)));
        } else {
            self.rows.sort_by(|a, b| a.order.cmp(&b.order));
        }
    }
}
