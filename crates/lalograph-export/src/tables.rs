//! The parts of a model as plain tables: its tokens as tab-separated text, its weights as a file of NumPy.

use std::io::{self, Write};

use lalograph_text::Vocabulary;
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipWriter};

use crate::ExportError;
use crate::model::{Form, OpenModel};

/// Tensors of more bytes than this need the longer form of entries in a zip file.
const LARGE: u64 = u32::MAX as u64;

/// A text in one field of a line: backslash, tab and line ends are written as `\\`, `\t`, `\n`, `\r`.
fn field(text: &str) -> String {
    text.replace('\\', "\\\\").replace('\t', "\\t").replace('\n', "\\n").replace('\r', "\\r")
}

/// Writes the tokens, a line each after a header line: index, token, its bytes in hexadecimal, count; for a unigram vocabulary also the
/// natural logarithm of its probability. Without a vocabulary these are the words of word vectors, with their number in place of the index.
///
/// # Errors
/// The file cannot be written.
pub fn tokens(model: &OpenModel, out: &mut dyn Write) -> io::Result<()> {
    let hex = |bytes: &[u8]| bytes.iter().map(|byte| format!("{byte:02x}")).collect::<String>();
    if let Form::Vectors(form) = &model.form {
        writeln!(out, "number\tword")?;
        return form
            .words
            .iter()
            .enumerate()
            .try_for_each(|(at, word)| writeln!(out, "{at}\t{}", field(word)));
    }
    let Some(vocabulary) = model.vocabulary() else { return Ok(()) };
    let scores = vocabulary.log_probabilities();
    writeln!(out, "index\ttoken\tbytes\tcount{}", if scores.is_some() { "\tlog_probability" } else { "" })?;
    for (index, (name, token)) in (0..).zip(named(vocabulary)) {
        let (bytes, count) = token.map_or((String::new(), 0), |token| (hex(&token.bytes), token.count));
        write!(out, "{index}\t{}\t{bytes}\t{count}", field(&name))?;
        if let Some(scores) = scores {
            let own = (index as usize).checked_sub(vocabulary.len() - scores.len());
            let score = own.and_then(|own| scores[own]);
            write!(out, "\t{}", score.map(|score| score.to_string()).unwrap_or_default())?;
        }
        writeln!(out)?;
    }
    Ok(())
}

/// All indices with what they are shown as; reserved ones are no tokens.
fn named(
    vocabulary: &Vocabulary,
) -> impl Iterator<Item = (String, Option<&lalograph_text::vocabulary::Token>)> {
    let reserved = vocabulary.len() - vocabulary.tokens().len();
    let shown = move |index: u32| vocabulary.shown(index).map(|shown| shown.into_owned()).unwrap_or_default();
    let tokens = (reserved as u32..).zip(vocabulary.tokens());
    let tokens = tokens.map(move |(index, token)| (shown(index), Some(token)));
    (0..reserved as u32).map(move |index| (shown(index), None)).chain(tokens)
}

/// Writes the merges of a byte-pair vocabulary, a line each after a header line, in their order: the two indices and the index that they become.
/// The result is whether there are any.
///
/// # Errors
/// The file cannot be written.
pub fn merges(vocabulary: &Vocabulary, out: &mut dyn Write) -> io::Result<()> {
    writeln!(out, "left\tright\tmerged")?;
    for (left, right) in vocabulary.merges().unwrap_or_default() {
        let bytes = |index| vocabulary.token(index).unwrap_or_default();
        let merged = vocabulary.index_of([bytes(left), bytes(right)].concat());
        writeln!(out, "{left}\t{right}\t{merged}")?;
    }
    Ok(())
}

/// The beginning of an array in NumPy's own format (version 1.0): little-endian single precision, rows first, padded to a multiple of 64 bytes.
fn array_head(shape: &[usize]) -> Vec<u8> {
    let sizes: String = shape.iter().map(|size| format!("{size},")).collect();
    let text = format!("{{'descr': '<f4', 'fortran_order': False, 'shape': ({sizes}), }}");
    // Ten bytes come before the text, a line end after it.
    let length = (10 + text.len() + 1).next_multiple_of(64) - 10;
    let mut head = b"\x93NUMPY\x01\x00".to_vec();
    head.extend((length as u16).to_le_bytes());
    head.extend(text.as_bytes());
    head.resize(10 + length - 1, b' ');
    head.push(b'\n');
    head
}

/// Writes all tensors as one NumPy archive (`.npz`), each under its name, without compression.
///
/// # Errors
/// A file cannot be read or written.
pub fn weights(model: &OpenModel, out: impl Write) -> Result<(), ExportError> {
    let file = &model.file;
    let mut zip = ZipWriter::new_stream(out);
    let wrong = |error: zip::result::ZipError| ExportError::Write(error.into());
    for name in file.names() {
        let shape = file.shape(name).map_err(ExportError::Part)?;
        let bytes = 4 * shape.iter().product::<usize>() as u64;
        let options = SimpleFileOptions::default()
            .compression_method(CompressionMethod::Stored)
            .large_file(bytes >= LARGE);
        zip.start_file(format!("{name}.npy"), options).map_err(wrong)?;
        let mut all = || -> io::Result<()> {
            zip.write_all(&array_head(shape))?;
            file.read(name, |numbers| {
                let bytes: Vec<u8> = numbers.iter().flat_map(|number| number.to_le_bytes()).collect();
                zip.write_all(&bytes)
            })
        };
        all().map_err(ExportError::Write)?;
    }
    zip.finish().map_err(wrong)?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::{array_head, field};

    #[test]
    fn the_head_of_an_array_is_what_its_format_says() {
        for shape in [&[][..], &[3], &[2, 70_000, 1]] {
            let head = array_head(shape);
            assert!(head.len().is_multiple_of(64) && head.starts_with(b"\x93NUMPY\x01\x00"));
            assert_eq!(usize::from(u16::from_le_bytes([head[8], head[9]])), head.len() - 10);
            let text = std::str::from_utf8(&head[10..]).unwrap();
            assert!(text.ends_with('\n') && text.contains("'descr': '<f4'"), "{text}");
        }
        assert!(String::from_utf8_lossy(&array_head(&[4, 5])).contains("'shape': (4,5,)"));
    }

    #[test]
    fn a_field_is_one_field() {
        assert_eq!(field("a\tb\\\n\r"), "a\\tb\\\\\\n\\r");
    }
}
