//! Which encoding a file is in, and its bytes as UTF-8.

use std::io::{self, BufRead, Read};

use chardetng::{EncodingDetector, Iso2022JpDetection, Utf8Detection};
use encoding_rs::{DecoderResult, Encoding, UTF_8, UTF_16BE, UTF_16LE};

/// Text encoding of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Detected {
    /// Not text at all.
    Binary,
    /// Text in an encoding, after so many bytes of byte-order mark.
    Text {
        encoding: &'static Encoding,
        mark_bytes: usize,
        /// Whether it was guessed and not given by a byte-order mark.
        guessed: bool,
    },
}

/// Judges by the first bytes of a file; `whole`: there are no more.
///
/// A byte-order mark decides. Without one, NUL bytes at every other place mean UTF-16, and bytes that are mostly UTF-8
/// mean UTF-8, damaged rows or not; only then is a legacy encoding guessed.
pub(super) fn detect(block: &[u8], whole: bool) -> Detected {
    let text = |encoding, mark_bytes, guessed| Detected::Text { encoding, mark_bytes, guessed };
    if let Some((encoding, mark_bytes)) = Encoding::for_bom(block) {
        return text(encoding, mark_bytes, false);
    }
    // Nearly all files are plain UTF-8, and a folder may hold very many of them.
    let sound = match std::str::from_utf8(block) {
        Ok(_) => true,
        Err(error) => error.error_len().is_none() && !whole,
    };
    let control = |block: &[u8]| block.iter().filter(|b| **b < 0x20 && !b.is_ascii_whitespace()).count();
    let start = &block[..block.len().min(1 << 12)];
    if sound && memchr::memchr(0, block).is_none() && control(start) * 10 <= start.len() {
        return text(UTF_8, 0, false);
    }
    let zeros = [0, 1].map(|odd| block.iter().skip(odd).step_by(2).filter(|&&byte| byte == 0).count());
    let pairs = block.len() / 2;
    for (zeros_here, zeros_there, encoding) in
        [(zeros[1], zeros[0], UTF_16LE), (zeros[0], zeros[1], UTF_16BE)]
    {
        if pairs >= 2 && zeros_here * 5 >= pairs * 2 && zeros_there * 20 <= pairs {
            return text(encoding, 0, true);
        }
    }
    let (mut valid, mut invalid) = (0usize, 0usize);
    for chunk in block.utf8_chunks() {
        valid += chunk.valid().chars().filter(|c| !c.is_ascii()).count();
        invalid += usize::from(!chunk.invalid().is_empty());
    }
    if (zeros[0] + zeros[1]) * 100 > block.len() || control(start) * 10 > start.len() {
        return Detected::Binary;
    }
    // A character may be cut at the block's end.
    if invalid <= usize::from(!whole) || valid > invalid {
        return text(UTF_8, 0, false);
    }
    if zeros[0] + zeros[1] > 0 {
        return Detected::Binary;
    }
    let mut detector = EncodingDetector::new(Iso2022JpDetection::Deny);
    detector.feed(block, whole);
    text(detector.guess(None, Utf8Detection::Deny), 0, true)
}

/// A reader's bytes as UTF-8. What cannot be decoded becomes the byte FF, which no UTF-8 text holds, so that the document
/// it is in is found out like any other that is not UTF-8.
pub(super) struct Decoding<R> {
    inner: R,
    decoder: encoding_rs::Decoder,
    out: Vec<u8>,
    at: usize,
    ended: bool,
}

impl<R: BufRead> Decoding<R> {
    pub(super) fn new(inner: R, encoding: &'static Encoding) -> Self {
        let decoder = encoding.new_decoder_without_bom_handling();
        Self { inner, decoder, out: Vec::new(), at: 0, ended: false }
    }

    fn fill(&mut self) -> io::Result<()> {
        self.out.clear();
        self.at = 0;
        while self.out.is_empty() && !self.ended {
            let source = self.inner.fill_buf()?;
            let last = source.is_empty();
            let room =
                self.decoder.max_utf8_buffer_length_without_replacement(source.len()).unwrap_or(1 << 20);
            self.out.resize(room.max(16), 0);
            let (result, read, written) =
                self.decoder.decode_to_utf8_without_replacement(source, &mut self.out, last);
            self.out.truncate(written);
            match result {
                DecoderResult::Malformed(..) => self.out.push(0xFF),
                DecoderResult::InputEmpty => self.ended = last,
                DecoderResult::OutputFull => {}
            }
            self.inner.consume(read);
        }
        Ok(())
    }
}

impl<R: BufRead> Read for Decoding<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.at == self.out.len() {
            self.fill()?;
        }
        let count = buffer.len().min(self.out.len() - self.at);
        buffer[..count].copy_from_slice(&self.out[self.at..self.at + count]);
        self.at += count;
        Ok(count)
    }
}

#[cfg(test)]
mod tests {
    use std::io::Read;

    use encoding_rs::{Encoding, SHIFT_JIS, UTF_8, UTF_16BE, UTF_16LE, WINDOWS_1252};

    use super::{Decoding, Detected, detect};

    fn name(bytes: &[u8]) -> Option<(&'static str, usize)> {
        match detect(bytes, true) {
            Detected::Binary => None,
            Detected::Text { encoding, mark_bytes, .. } => Some((encoding.name(), mark_bytes)),
        }
    }

    fn utf16(text: &str, little: bool) -> Vec<u8> {
        text.encode_utf16().flat_map(|u| if little { u.to_le_bytes() } else { u.to_be_bytes() }).collect()
    }

    #[test]
    fn marks_decide_and_without_one_the_bytes_do() {
        let text = "The bees of the upper meadow are quiet.";
        assert_eq!(name(b"\xef\xbb\xbfbee"), Some((UTF_8.name(), 3)));
        assert_eq!(name(&[b"\xff\xfe".to_vec(), utf16(text, true)].concat()), Some((UTF_16LE.name(), 2)));
        assert_eq!(name(&utf16(text, true)), Some((UTF_16LE.name(), 0)));
        assert_eq!(name(&utf16(text, false)), Some((UTF_16BE.name(), 0)));
        assert_eq!(name(text.as_bytes()), Some((UTF_8.name(), 0)));
        assert_eq!(name("na\u{ef}ve bees, tr\u{e8}s".as_bytes()), Some((UTF_8.name(), 0)));
        assert_eq!(name(b"une ann\xe9e tr\xe8s bonne, la for\xeat"), Some((WINDOWS_1252.name(), 0)));
        // One damaged row among many good ones does not change the encoding.
        let mixed = ["na\u{ef}ve \u{e9}t\u{e9}\n".as_bytes(), b"caf\xe9\n"].concat();
        assert_eq!(name(&mixed), Some((UTF_8.name(), 0)));
        assert_eq!(name(b"\x7fELF\0\0\x01\x02"), None);
        assert_eq!(name(b"\x01\x02\x03\x04\x05"), None);
        assert_eq!(name(b""), Some((UTF_8.name(), 0)));
    }

    fn decoded(bytes: &[u8], encoding: &'static Encoding) -> Vec<u8> {
        let mut out = Vec::new();
        Decoding::new(std::io::BufReader::with_capacity(3, bytes), encoding).read_to_end(&mut out).unwrap();
        out
    }

    #[test]
    fn decoding_works_across_any_cut_and_marks_invalid_bytes() {
        let text = "h\u{f6}ney \u{1f41d} \u{8702}\u{871c}";
        assert_eq!(decoded(&utf16(text, true), UTF_16LE), text.as_bytes());
        assert_eq!(decoded(&utf16(text, false), UTF_16BE), text.as_bytes());
        assert_eq!(decoded(b"caf\xe9", WINDOWS_1252), "caf\u{e9}".as_bytes());
        let lone = [utf16("a", true), vec![0x00, 0xd8], utf16("b", true)].concat();
        assert_eq!(decoded(&lone, UTF_16LE), b"a\xffb");
        assert_eq!(decoded(b"ok\x81", SHIFT_JIS), b"ok\xff");
    }
}
