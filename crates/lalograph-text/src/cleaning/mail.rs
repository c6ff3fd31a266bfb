//! The text of e-mail messages: parts of several kinds, encodings that were declared or not, HTML. The standards are RFC 5322 (messages) and
//! RFC 2045 to 2047 (parts, encodings, encoded words); a crate parses them.

use std::borrow::Cow;

use encoding_rs::WINDOWS_1252;
use mail_parser::decoders::base64::base64_decode;
use mail_parser::decoders::quoted_printable::quoted_printable_decode;
use mail_parser::{Encoding, Message, MessageParser, PartType};

use super::html;

/// Headers that are kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Headers {
    /// None.
    Dropped,
    /// The subject, as the first line.
    Subject,
    /// All, a line each.
    All,
}

/// Headers by which a message is known from other text that begins with a word and a colon.
const KNOWN: [&str; 13] = [
    "from",
    "to",
    "cc",
    "subject",
    "date",
    "received",
    "message-id",
    "return-path",
    "delivered-to",
    "reply-to",
    "sender",
    "mime-version",
    "content-type",
];
/// Messages within messages are opened to this depth.
const DEPTH: usize = 8;
/// Soft line breaks and encoded bytes that a text has at least if it is quoted-printable without saying so.
const MARKS: usize = 3;
/// Characters of a text that is base64 without saying so, at least.
const SHORTEST_BASE64: usize = 60;

/// The text of a message. Text that is no message is taken for the body of one.
pub(super) fn text_of(text: Cow<'_, str>, headers: Headers) -> Cow<'_, str> {
    if !is_message(&text) {
        return match body(&text, false) {
            Cow::Borrowed(_) => text,
            Cow::Owned(changed) => Cow::Owned(changed),
        };
    }
    // The first line of a message in a mailbox is no header.
    let message = match text.strip_prefix("From ").and_then(|rest| rest.split_once('\n')) {
        Some((_, rest)) => rest,
        None => &text,
    };
    // The text was decoded already, whatever the parts say: letters that are not ASCII go round the parser.
    let ascii = escaped(message);
    let Some(parsed) = MessageParser::default().parse(ascii.as_bytes()) else { return text };
    let mut out = String::new();
    write_message(&parsed, headers, DEPTH, &mut out);
    Cow::Owned(unescaped(&out))
}

/// Whether a text begins with the headers of a message.
fn is_message(text: &str) -> bool {
    let mut lines = text.lines();
    if text.starts_with("From ") {
        lines.next();
    }
    let heads = lines.take_while(|line| !line.trim().is_empty());
    let mut known = false;
    for (number, line) in heads.enumerate() {
        if line.starts_with([' ', '\t']) {
            continue;
        }
        match line.split_once(':') {
            Some((name, _)) if !name.is_empty() && name.bytes().all(|byte| byte.is_ascii_graphic()) => {
                known |= KNOWN.contains(&name.to_ascii_lowercase().as_str());
            }
            // A damaged header among others.
            _ if number > 0 => {}
            _ => return false,
        }
    }
    known
}

const OPEN: char = '\u{1}';
const CLOSE: char = '\u{2}';

/// Every character that is not ASCII as its number between two control characters.
fn escaped(text: &str) -> Cow<'_, str> {
    if text.is_ascii() {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() * 2);
    for c in text.chars() {
        match c.is_ascii() {
            true => out.push(c),
            false => out.push_str(&format!("{OPEN}{:x}{CLOSE}", u32::from(c))),
        }
    }
    Cow::Owned(out)
}

fn unescaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some((before, after)) = rest.split_once(OPEN) {
        out.push_str(before);
        let found = after
            .split_once(CLOSE)
            .and_then(|(number, rest)| Some((char::from_u32(u32::from_str_radix(number, 16).ok()?)?, rest)));
        rest = match found {
            Some((c, rest)) => {
                out.push(c);
                rest
            }
            None => after,
        };
    }
    out.push_str(rest);
    out
}

fn write_message(message: &Message<'_>, headers: Headers, depth: usize, out: &mut String) {
    match headers {
        Headers::Dropped => {}
        Headers::Subject => push_line(message.subject().unwrap_or_default(), out),
        Headers::All => {
            for (name, raw) in message.headers_raw() {
                let parsed = message.header(name.to_owned()).and_then(|value| value.as_text());
                // Encoded words are decoded by the parser; other values are as they were written.
                let value = parsed.filter(|_| raw.contains("=?")).unwrap_or(raw);
                push_line(&format!("{name}: {}", one_line(value)), out);
            }
        }
    }
    for &id in &message.text_body {
        let Some(part) = message.parts.get(id as usize) else { continue };
        match &part.body {
            PartType::Text(text) => push_line(&body(text, part.encoding != Encoding::None), out),
            PartType::Html(text) => {
                let text = undeclared(text, part.encoding != Encoding::None);
                push_line(&html::strip(text), out);
            }
            _ => {}
        }
    }
    for part in &message.parts {
        if let (PartType::Message(inner), 1..) = (&part.body, depth) {
            write_message(inner, headers, depth - 1, out);
        }
    }
}

fn one_line(value: &str) -> String {
    value.split_whitespace().collect::<Vec<_>>().join(" ")
}

fn push_line(text: &str, out: &mut String) {
    let text = text.trim();
    if !text.is_empty() {
        if !out.is_empty() {
            out.push('\n');
        }
        out.push_str(text);
    }
}

/// The text of a body: decoded where its encoding was not declared, and without tags if it is HTML.
fn body(text: &str, declared: bool) -> Cow<'_, str> {
    let text = undeclared(text, declared);
    if is_html(&text) { html::strip(text) } else { text }
}

/// Whether a text is HTML that nothing declares as such.
fn is_html(text: &str) -> bool {
    let start: String = text.trim_start().chars().take(1000).collect::<String>().to_ascii_lowercase();
    start.starts_with("<!doctype html") || start.contains("<html") || start.contains("<body")
}

/// Undoes quoted-printable and base64 where the text has their form and its part does not declare them.
fn undeclared(text: &str, declared: bool) -> Cow<'_, str> {
    if declared {
        return Cow::Borrowed(text);
    }
    let decoded = if is_quoted_printable(text) {
        quoted_printable_decode(text.as_bytes())
    } else if is_base64(text) {
        base64_decode(text.as_bytes())
    } else {
        None
    };
    match decoded {
        Some(bytes) => Cow::Owned(match String::from_utf8(bytes) {
            Ok(text) => text,
            Err(error) => WINDOWS_1252.decode(error.as_bytes()).0.into_owned(),
        }),
        None => Cow::Borrowed(text),
    }
}

/// Whether nearly every equals sign of a text ends a line or begins an encoded byte.
fn is_quoted_printable(text: &str) -> bool {
    let (mut marks, mut others) = (0, 0);
    let bytes = text.as_bytes();
    for at in memchr::memchr_iter(b'=', bytes) {
        let digit = |at: usize| {
            bytes.get(at).is_some_and(|&byte| byte.is_ascii_digit() || (b'A'..=b'F').contains(&byte))
        };
        let ends_line = matches!(bytes.get(at + 1), Some(b'\n' | b'\r'));
        match ends_line || (digit(at + 1) && digit(at + 2)) {
            true => marks += 1,
            false => others += 1,
        }
    }
    marks >= MARKS && marks >= 10 * others
}

/// Whether a text is lines of equal length of base64's alphabet, the last one perhaps shorter, that decode to text.
fn is_base64(text: &str) -> bool {
    let text = text.trim();
    if text.len() < SHORTEST_BASE64 {
        return false;
    }
    let alphabet = |byte: u8| byte.is_ascii_alphanumeric() || matches!(byte, b'+' | b'/' | b'=');
    let lines: Vec<&str> = text.lines().map(str::trim_end).collect();
    let width = lines[0].len();
    let even = lines.iter().enumerate().all(|(number, line)| {
        line.bytes().all(alphabet)
            && (line.len() == width || (number + 1 == lines.len() && line.len() < width))
    });
    let Some(bytes) = Some(text)
        .filter(|_| even && width >= SHORTEST_BASE64)
        .and_then(|text| base64_decode(text.as_bytes()))
    else {
        return false;
    };
    !bytes.is_empty() && !bytes.contains(&0)
}

#[cfg(test)]
mod tests {
    use std::borrow::Cow;

    use super::{Headers, text_of};

    fn text(mail: &str) -> String {
        text_of(Cow::Borrowed(mail), Headers::Dropped).into_owned()
    }

    #[test]
    fn parts_are_decoded_html_is_stripped_and_attachments_are_left_out() {
        let mail = "From: Maudry <maudry@thornmere.example>\nSubject: =?utf-8?Q?K=C3=B6nigin?=\nMIME-Version: 1.0\n\
            Content-Type: multipart/mixed; boundary=\"b\"\n\n--b\nContent-Type: text/plain; charset=iso-8859-1\n\
            Content-Transfer-Encoding: quoted-printable\n\nThe K=F6nigin is la=\nying.\n--b\n\
            Content-Type: text/html\nContent-Transfer-Encoding: base64\n\nPHA+VHdvICZhbXA7IHRocmVlPC9wPg==\n--b\n\
            Content-Type: application/octet-stream\nContent-Transfer-Encoding: base64\n\nAAECAwQFBgc=\n--b--\n";
        assert_eq!(text(mail), "The K\u{f6}nigin is laying.\nTwo & three");
        let with = |headers| text_of(Cow::Borrowed(mail), headers).into_owned();
        assert!(with(Headers::Subject).starts_with("K\u{f6}nigin\nThe K"));
        let all = with(Headers::All);
        assert!(
            all.contains("From: Maudry <maudry@thornmere.example>") && all.contains("Subject: K\u{f6}nigin"),
            "{all}"
        );
        // The line of a mailbox in front changes nothing.
        assert_eq!(text(&format!("From maudry Mon Apr 1 2024\n{mail}")), text(mail));
    }

    #[test]
    fn encodings_that_nothing_declares_are_undone() {
        let quoted = "Subject: hives\n\nA line that is =\nbroken, a tab=09and caf=C3=A9.\n";
        assert_eq!(text(quoted), "A line that is broken, a tab\tand caf\u{e9}.");
        let latin = "Subject: hives\n\ncaf=E9 =\nand na=EFve th=F6rn\n";
        assert_eq!(text(latin), "caf\u{e9} and na\u{ef}ve th\u{f6}rn");
        let line = "VGhlIGJlZXMgYXJlIHF1aWV0IHRvbmlnaHQsIGFuZCB0aGUgcXVlZW4gaXMgbGF5aW5nIHdl";
        let base = format!("Subject: hives\n\n{line}\nbGwu\n");
        assert_eq!(text(&base), "The bees are quiet tonight, and the queen is laying well.");
        let page =
            "Subject: hives\nContent-Type: text/plain\n\n<html><body><p>Two</p><p>swarms</p></body></html>\n";
        assert_eq!(text(page), "Two\nswarms");
        // Sums and links are no encodings.
        let sums = "Subject: hives\n\nx=AB and y = 3, z=CDE, a link ?q=1&r=20 and more: w=EF.\n";
        assert!(text(sums).contains("x=AB and y = 3"));
    }

    #[test]
    fn letters_survive_whatever_charset_a_part_declares() {
        let mail = "Subject: h\nContent-Type: text/plain; charset=us-ascii\n\nK\u{f6}nigin, \u{1f41d}\n";
        assert_eq!(text(mail), "K\u{f6}nigin, \u{1f41d}");
    }

    #[test]
    fn text_that_is_no_message_stays() {
        for plain in
            ["the bees are quiet", "", "Note: the bees are quiet\n\nAnd so on.", "From here on: quiet"]
        {
            assert!(
                matches!(text_of(Cow::Borrowed(plain), Headers::All), Cow::Borrowed(same) if same == plain)
            );
        }
    }

    #[test]
    fn messages_within_messages_are_opened() {
        let inner = "Subject: inner\n\nThe old queen.\n";
        let mail = format!(
            "Subject: outer\nContent-Type: multipart/mixed; boundary=x\n\n--x\nContent-Type: text/plain\n\nSee below.\n--x\n\
             Content-Type: message/rfc822\n\n{inner}\n--x--\n"
        );
        let found = text_of(Cow::Owned(mail), Headers::Subject).into_owned();
        assert_eq!(found, "outer\nSee below.\ninner\nThe old queen.");
    }
}
