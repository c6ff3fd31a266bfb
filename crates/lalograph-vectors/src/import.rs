//! Vectors from text: a word and its numbers on every line.

use std::collections::{HashMap, HashSet};
use std::io::{BufRead, Read};

use crate::error::VectorError;
use crate::table::VectorTable;

/// Bytes of the longest line that is read.
const LONGEST_LINE: u64 = 1 << 24;

/// A line that was left out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BadLine {
    /// Which, from 1.
    pub line: u64,
    /// The problem.
    pub what: String,
}

/// Vectors that were read.
#[derive(Debug)]
pub struct Imported {
    /// The vectors found: in the order of the wanted words, or of the file if all were wanted.
    pub table: VectorTable,
    /// Lines with a vector.
    pub vectors: u64,
    /// Words that came again; the first counts.
    pub duplicates: u64,
    /// Wanted words that were not there, in their order.
    pub missing: Vec<String>,
    /// Lines left out.
    pub bad_lines: u64,
}

/// Separator of the numbers in a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Separator {
    Space,
    One(u8),
}

impl Separator {
    /// A tab, a semicolon or a comma if the line has one between numbers; else white space.
    fn of(line: &str) -> Self {
        let parses = |separator: char| {
            let mut fields = line.rsplit(separator).map(str::trim).filter(|field| !field.is_empty());
            fields.next().is_some_and(|last| last.parse::<f32>().is_ok()) && fields.next().is_some()
        };
        [b'\t', b';', b','].into_iter().find(|&byte| parses(char::from(byte))).map_or(Self::Space, Self::One)
    }

    fn fields(self, line: &str) -> Vec<&str> {
        match self {
            Self::Space => line.split_whitespace().collect(),
            Self::One(byte) => {
                line.trim_end_matches(char::from(byte)).split(char::from(byte)).map(str::trim).collect()
            }
        }
    }
}

/// Reads vectors line by line; what is kept are those of `wanted` words, or all if none are given. The first line may say how many there are and of how many
/// numbers. `bad` is given every line that is left out, `progress` the bytes read, and stops the work by returning `false`.
///
/// # Errors
/// No vectors, or none that are wanted; a line of over 16 MiB; a reader that fails; a stop.
pub fn read_text(
    mut reader: impl BufRead,
    wanted: Option<&[String]>,
    mut bad: impl FnMut(&BadLine),
    mut progress: impl FnMut(u64) -> bool,
) -> Result<Imported, VectorError> {
    let rows: Option<HashMap<&str, usize>> =
        wanted.map(|wanted| wanted.iter().enumerate().map(|(row, word)| (word.as_str(), row)).collect());
    let mut found: Vec<Option<Vec<f32>>> = vec![None; wanted.map_or(0, <[String]>::len)];
    let (mut words, mut values, mut seen) = (Vec::new(), Vec::new(), HashSet::new());
    let (mut vectors, mut duplicates, mut bad_lines) = (0, 0, 0);
    let mut form: Option<(Separator, usize)> = None;
    let mut said_dimensions = None;
    let (mut buffer, mut number, mut bytes) = (Vec::new(), 0u64, 0u64);
    loop {
        buffer.clear();
        let read = (&mut reader).take(LONGEST_LINE).read_until(b'\n', &mut buffer)? as u64;
        if read == 0 {
            break;
        }
        (number, bytes) = (number + 1, bytes + read);
        if read == LONGEST_LINE {
            let what = "it is longer than 16 MiB, so this is not a file of vectors".into();
            return Err(VectorError::Line { line: number, what });
        }
        if number % 4096 == 0 && !progress(bytes) {
            return Err(lalograph_text::TextError::Stopped.into());
        }
        let mut refuse = |what: String| {
            bad_lines += 1;
            bad(&BadLine { line: number, what });
        };
        let Ok(line) = std::str::from_utf8(&buffer) else {
            refuse("it is not UTF-8".into());
            continue;
        };
        let line = line.trim_start_matches('\u{feff}').trim_end_matches(['\n', '\r', ' ']);
        if line.trim().is_empty() {
            continue;
        }
        if number == 1 {
            let counts: Vec<u64> = line.split_whitespace().map_while(|field| field.parse().ok()).collect();
            if let ([_, dimensions], 2) = (&counts[..], line.split_whitespace().count()) {
                said_dimensions = Some(*dimensions as usize);
                continue;
            }
        }
        let (separator, dimensions) = *form.get_or_insert_with(|| {
            let separator = Separator::of(line);
            (separator, said_dimensions.unwrap_or(separator.fields(line).len().saturating_sub(1)))
        });
        let fields = separator.fields(line);
        // What is before the numbers is the word, spaces and all.
        let Some(first) = fields.len().checked_sub(dimensions).filter(|&first| first > 0 && dimensions > 0)
        else {
            refuse(format!(
                "it has {} numbers, and the vectors here have {dimensions}",
                fields.len().saturating_sub(1)
            ));
            continue;
        };
        if first > 1 && separator != Separator::Space {
            refuse(format!("it has {} numbers, and the vectors here have {dimensions}", fields.len() - 1));
            continue;
        }
        let vector: Result<Vec<f32>, &str> = fields[first..]
            .iter()
            .map(|field| field.parse().ok().filter(|x: &f32| x.is_finite()).ok_or(*field))
            .collect();
        let vector = match vector {
            Ok(vector) => vector,
            Err(field) => {
                refuse(format!("`{}` is not a finite number", field.chars().take(40).collect::<String>()));
                continue;
            }
        };
        vectors += 1;
        let word = fields[..first].join(" ");
        match &rows {
            Some(rows) => match rows.get(word.as_str()) {
                Some(&row) if found[row].is_none() => found[row] = Some(vector),
                Some(_) => duplicates += 1,
                None => {}
            },
            None if seen.insert(word.clone()) => {
                words.push(word);
                values.extend(vector);
            }
            None => duplicates += 1,
        }
    }
    let dimensions = form.map_or(0, |(_, dimensions)| dimensions);
    if vectors == 0 {
        return Err(VectorError::Line { line: number.max(1), what: "no vector was found up to here".into() });
    }
    let mut missing = Vec::new();
    if let Some(wanted) = wanted {
        for (word, vector) in wanted.iter().zip(found) {
            match vector {
                Some(vector) => {
                    words.push(word.clone());
                    values.extend(vector);
                }
                None => missing.push(word.clone()),
            }
        }
        if words.is_empty() {
            return Err(VectorError::NoneFound(wanted.len()));
        }
    }
    let table = VectorTable::new(words, dimensions, values)?;
    Ok(Imported { table, vectors, duplicates, missing, bad_lines })
}

#[cfg(test)]
mod tests {
    use super::{BadLine, Imported, read_text};
    use crate::VectorError;

    fn read(text: &str, wanted: Option<&[&str]>) -> Result<(Imported, Vec<BadLine>), VectorError> {
        let wanted: Option<Vec<String>> =
            wanted.map(|wanted| wanted.iter().map(|&word| word.to_owned()).collect());
        let mut bad = Vec::new();
        let imported =
            read_text(text.as_bytes(), wanted.as_deref(), |line| bad.push(line.clone()), |_| true)?;
        Ok((imported, bad))
    }

    #[test]
    fn any_separator_with_and_without_a_line_of_counts() {
        for text in [
            "bee 1 2\nold hive 3 4.5e0\n",
            "2 2\nbee 1 2\nold hive 3 4.5\n",
            "\u{feff}bee\t1\t2\r\nold hive\t3\t4.5\r\n",
            "bee,1,2\nold hive,3,4.5",
            "bee; 1; 2\n\nold hive; 3; 4.5;\n",
            "bee  1   2 \nold hive 3  4.5\n",
        ] {
            let (imported, bad) = read(text, None).unwrap();
            // A word of two takes the place of a number only where spaces are all there is.
            assert_eq!(imported.table.words(), ["bee", "old hive"], "{text:?}");
            assert_eq!((imported.table.values(), bad.len()), (&[1.0, 2.0, 3.0, 4.5][..], 0), "{text:?}");
        }
    }

    #[test]
    fn only_wanted_words_are_kept_and_missing_or_bad_lines_are_reported() {
        let text = "a 1 2\nb 1\nc x 2\nd 1 NaN\na 9 9\ne 5 6\nf inf 1\n";
        let (imported, bad) = read(text, Some(&["e", "zz", "a"])).unwrap();
        assert_eq!(imported.table.words(), ["e", "a"]);
        assert_eq!(imported.table.values(), [5.0, 6.0, 1.0, 2.0]);
        assert_eq!((imported.duplicates, imported.missing), (1, vec!["zz".to_owned()]));
        let lines: Vec<u64> = bad.iter().map(|bad| bad.line).collect();
        assert_eq!(lines, [2, 3, 4, 7]);
        assert!(bad[0].what.contains("1 numbers") || bad[0].what.contains("0 numbers"), "{bad:?}");
        assert!(bad[2].what.contains("`NaN`"));
        assert!(matches!(read(text, Some(&["zz"])), Err(VectorError::NoneFound(1))));
        assert!(matches!(read("", None), Err(VectorError::Line { .. })));
        assert!(matches!(read("only words here\n", None), Err(VectorError::Line { .. })));
        let bytes: &[u8] = b"a 1 2\n\xff\xfe 1 2\n";
        let imported = read_text(bytes, None, |_| {}, |_| true).unwrap();
        assert_eq!((imported.vectors, imported.bad_lines), (1, 1));
    }
}
