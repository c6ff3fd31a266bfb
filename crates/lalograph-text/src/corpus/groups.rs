//! Rows of a table that are one document: those of one file that have the same value in the column of the group.

use std::collections::HashMap;

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

/// A row of a group.
pub(super) struct GroupRow {
    pub(super) order: Vec<u8>,
    pub(super) line: u64,
    pub(super) text: Vec<u8>,
    /// Bytes that close it.
    pub(super) closing: u64,
}

/// The document that the rows of a group are.
pub(super) struct GroupDocument {
    /// The line of each row, in the order of the rows.
    pub(super) lines: Vec<u64>,
    /// The first line of the group in the file.
    pub(super) line: u64,
    pub(super) text: Vec<u8>,
    pub(super) label: Option<Vec<u8>>,
    pub(super) kept: Vec<Vec<u8>>,
    pub(super) closing: u64,
}

impl Groups {
    /// Adds a row to its group. Rows of a group that has grown beyond the limit are counted and not kept.
    pub(super) fn add(
        &mut self,
        group: &[u8],
        row: GroupRow,
        (label, kept): (Option<&[u8]>, &[&[u8]]),
        limit: u64,
    ) {
        let number = *self.places.entry(group.to_vec()).or_insert_with(|| {
            self.groups.push(Group {
                rows: Vec::new(),
                bytes: 0,
                label: label.map(<[u8]>::to_vec),
                kept: kept.iter().map(|field| field.to_vec()).collect(),
                other_label: None,
            });
            self.groups.len() - 1
        });
        let group = &mut self.groups[number];
        if group.other_label.is_none() && group.label.as_deref() != label {
            group.other_label = Some(row.line);
        }
        group.bytes += row.text.len() as u64 + row.closing;
        if group.bytes > limit {
            group.rows.truncate(1);
        } else {
            group.rows.push(row);
        }
    }

    /// The documents of the file, in the order of their first rows; or the line and the reason why there is none.
    pub(super) fn finish(self, limit: u64) -> impl Iterator<Item = Result<GroupDocument, (u64, Reason)>> {
        self.groups.into_iter().map(move |group| group.finish(limit))
    }
}

impl Group {
    fn finish(mut self, limit: u64) -> Result<GroupDocument, (u64, Reason)> {
        let line = self.rows.first().map_or(0, |row| row.line);
        if let Some(other) = self.other_label {
            return Err((other, Reason::GroupLabels));
        }
        if self.bytes > limit {
            return Err((line, Reason::TooLong(limit)));
        }
        self.sort();
        let texts: Vec<&[u8]> = self.rows.iter().map(|row| &row.text[..]).collect();
        Ok(GroupDocument {
            text: texts.join(&b'\n'),
            lines: self.rows.iter().map(|row| row.line).collect(),
            line,
            closing: self.rows.last().map_or(0, |row| row.closing),
            label: self.label,
            kept: self.kept,
        })
    }

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
