//! HTML taken out of a text.

use std::borrow::Cow;

use memchr::memchr2;

/// Elements whose content is no text.
const DROPPED: [&str; 6] = ["script", "style", "head", "template", "noscript", "svg"];

/// Elements that begin and end a line.
const BLOCKS: [&str; 38] = [
    "address",
    "article",
    "aside",
    "blockquote",
    "body",
    "br",
    "caption",
    "dd",
    "details",
    "div",
    "dl",
    "dt",
    "fieldset",
    "figcaption",
    "figure",
    "footer",
    "form",
    "h1",
    "h2",
    "h3",
    "h4",
    "h5",
    "h6",
    "header",
    "hr",
    "html",
    "li",
    "main",
    "nav",
    "ol",
    "p",
    "pre",
    "section",
    "summary",
    "table",
    "title",
    "tr",
    "ul",
];

/// The longest entity, its ampersand and semicolon included (`&CounterClockwiseContourIntegral;`).
const LONGEST_ENTITY: usize = 33;

/// Takes tags and comments out, drops the content of scripts and styles, ends a line at every block element and decodes
/// entities. A `<` that begins no tag and an `&` that begins no entity stay.
pub(super) fn strip(text: Cow<'_, str>) -> Cow<'_, str> {
    if memchr2(b'<', b'&', text.as_bytes()).is_none() {
        return text;
    }
    let mut out = String::with_capacity(text.len());
    let mut rest = &*text;
    while let Some(at) = memchr2(b'<', b'&', rest.as_bytes()) {
        out.push_str(&rest[..at]);
        rest = &rest[at..];
        let taken = if rest.starts_with('<') { tag(rest, &mut out) } else { entity(rest, &mut out) };
        rest = match taken {
            Some(length) => &rest[length..],
            None => {
                out.push_str(&rest[..1]);
                &rest[1..]
            }
        };
    }
    out.push_str(rest);
    Cow::Owned(out)
}

/// The bytes of the tag or comment that begins here, and of what goes with it; none if there is no such thing.
fn tag(text: &str, out: &mut String) -> Option<usize> {
    if let Some(comment) = text.strip_prefix("<!--") {
        return Some(comment.find("-->").map_or(text.len(), |end| 4 + end + 3));
    }
    let inside = text[1..].strip_prefix('/').unwrap_or(&text[1..]);
    if text.starts_with("<!") || text.starts_with("<?") {
        return text.find('>').map(|end| end + 1);
    }
    let name_end = inside.find(|c: char| !c.is_ascii_alphanumeric() && c != '-').unwrap_or(inside.len());
    let name = inside[..name_end].to_ascii_lowercase();
    if !name.starts_with(|c: char| c.is_ascii_alphabetic()) {
        return None;
    }
    let end = end_of_tag(text)?;
    let closing = text.starts_with("</");
    if !closing && !text[..end].ends_with("/>") && DROPPED.contains(&name.as_str()) {
        return Some(end + end_of_element(&text[end..], &name));
    }
    if BLOCKS.contains(&name.as_str()) && !out.is_empty() && !out.ends_with('\n') {
        out.push('\n');
    }
    // Cells of a row are words of their own.
    if closing && matches!(name.as_str(), "td" | "th") {
        out.push(' ');
    }
    Some(end)
}

/// Where the tag's `>` is, one outside of quoted values, and past it.
fn end_of_tag(text: &str) -> Option<usize> {
    let mut quote = None;
    for (at, byte) in text.bytes().enumerate().skip(1) {
        match (quote, byte) {
            (None, b'>') => return Some(at + 1),
            // Another tag begins: this was none.
            (None, b'<') => return None,
            (None, b'"' | b'\'') if text.as_bytes()[at - 1] == b'=' => quote = Some(byte),
            (Some(open), byte) if open == byte => quote = None,
            _ => {}
        }
    }
    None
}

/// Bytes up to and with the tag that closes the element; all of them if none does.
fn end_of_element(text: &str, name: &str) -> usize {
    let mut from = 0;
    while let Some(at) = text[from..].find("</") {
        let after = from + at + 2;
        let found = text.as_bytes().get(after..after + name.len());
        if found.is_some_and(|found| found.eq_ignore_ascii_case(name.as_bytes())) {
            return text[after..].find('>').map_or(text.len(), |end| after + end + 1);
        }
        from = after;
    }
    text.len()
}

/// The bytes of the entity that begins here, its meaning appended to `out`.
fn entity(text: &str, out: &mut String) -> Option<usize> {
    let reach = text.bytes().take(LONGEST_ENTITY).position(|byte| byte == b';')? + 1;
    let meaning = html_escape::decode_html_entities(&text[..reach]);
    if *meaning == text[..reach] {
        return None;
    }
    // A space that must not be broken is a space all the same.
    out.extend(meaning.chars().map(|c| if c == '\u{a0}' { ' ' } else { c }));
    Some(reach)
}

#[cfg(test)]
mod tests {
    use super::strip;
    use std::borrow::Cow;

    #[test]
    fn tags_go_blocks_end_lines_and_entities_are_decoded() {
        for (html, expected) in [
            ("<p>Quiet&nbsp;bees &amp; <b>honey</b></p><p>more</p>", "Quiet bees & honey\nmore\n"),
            ("a<br>b<br/>c", "a\nb\nc"),
            ("<script>if (a < b) { x(\"</p>\") }</script>after", "after"),
            ("<STYLE type='text/css'>p { }</Style >x", "x"),
            ("<!-- <p> not this --> this", " this"),
            ("<!doctype html><html><head><title>T</title></head><body>b</body></html>", "b\n"),
            ("<a href=\"x>y\" title='>'>link</a>", "link"),
            ("3 < 4 and 5 > 2, a<b", "3 < 4 and 5 > 2, a<b"),
            ("&lt;b&gt; &#39;&#x41;&eacute; &unknown; & &; AT&T;", "<b> 'A\u{e9} &unknown; & &; AT&T;"),
            ("<td>one</td><td>two</td>", "one two "),
            ("<ul><li>one</li><li>two</li></ul>", "one\ntwo\n"),
            ("ends <b", "ends <b"),
            ("<b <i>x</i>", "<b x"),
            ("<script>never closed", ""),
            ("<!-- never closed", ""),
            ("</", "</"),
            ("caf\u{e9} <i>tr\u{e8}s</i>", "caf\u{e9} tr\u{e8}s"),
        ] {
            assert_eq!(strip(Cow::Borrowed(html)), expected, "{html}");
        }
        assert!(matches!(strip(Cow::Borrowed("plain")), Cow::Borrowed(_)));
    }

    proptest::proptest! {
        #[test]
        fn no_text_upsets_it(text in "[<>&;!/a-c\"'= \u{e9}-]{0,40}") {
            let _ = strip(Cow::Borrowed(&text));
        }
    }
}
