//! HTML taken out of a text.

use std::borrow::Cow;

use memchr::memchr2;

/// Elements whose content is no text.
pub(crate) const DROPPED: [&str; 6] = ["script", "style", "head", "template", "noscript", "svg"];

/// Elements that begin and end a line.
pub(crate) const BLOCKS: [&str; 38] = [
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

/// Elements of HTML besides these, of today and of before, by name; what is in angle brackets and none of them is text.
pub(crate) const OTHERS: [&str; 97] = [
    "a",
    "abbr",
    "acronym",
    "applet",
    "area",
    "audio",
    "b",
    "base",
    "basefont",
    "bdi",
    "bdo",
    "bgsound",
    "big",
    "blink",
    "button",
    "canvas",
    "center",
    "cite",
    "code",
    "col",
    "colgroup",
    "data",
    "datalist",
    "del",
    "dfn",
    "dialog",
    "dir",
    "em",
    "embed",
    "font",
    "frame",
    "frameset",
    "hgroup",
    "i",
    "iframe",
    "image",
    "img",
    "input",
    "ins",
    "isindex",
    "kbd",
    "keygen",
    "label",
    "legend",
    "link",
    "map",
    "mark",
    "marquee",
    "math",
    "menu",
    "menuitem",
    "meta",
    "meter",
    "nobr",
    "noembed",
    "noframes",
    "object",
    "optgroup",
    "option",
    "output",
    "param",
    "picture",
    "plaintext",
    "portal",
    "progress",
    "q",
    "rb",
    "rp",
    "rt",
    "rtc",
    "ruby",
    "s",
    "samp",
    "search",
    "select",
    "slot",
    "small",
    "source",
    "span",
    "strike",
    "strong",
    "sub",
    "sup",
    "tbody",
    "td",
    "textarea",
    "tfoot",
    "th",
    "thead",
    "time",
    "track",
    "tt",
    "u",
    "var",
    "video",
    "wbr",
    "xmp",
];

/// Attributes that may be without a value.
pub(crate) const BARE: [&str; 32] = [
    "allowfullscreen",
    "async",
    "autofocus",
    "autoplay",
    "checked",
    "compact",
    "controls",
    "declare",
    "default",
    "defer",
    "disabled",
    "formnovalidate",
    "hidden",
    "inert",
    "ismap",
    "itemscope",
    "loop",
    "multiple",
    "muted",
    "nohref",
    "nomodule",
    "noresize",
    "noshade",
    "novalidate",
    "nowrap",
    "open",
    "playsinline",
    "readonly",
    "required",
    "reversed",
    "scoped",
    "selected",
];

/// The longest entity, its ampersand and semicolon included (`&CounterClockwiseContourIntegral;`).
pub(crate) const LONGEST_ENTITY: usize = 33;

/// Takes tags and comments out, drops the content of scripts and styles, ends a line at every block element and decodes
/// entities. Addresses, comparisons and whatever else in angle brackets is no tag of HTML stay, and so does an `&` that begins no entity.
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
    let doctype = text.get(2..9).is_some_and(|word| word.eq_ignore_ascii_case("doctype"));
    if (text.starts_with("<!") && doctype) || text.starts_with("<?xml") {
        return text.find('>').map(|end| end + 1);
    }
    let name_end = inside.find(|c: char| !c.is_ascii_alphanumeric() && c != '-').unwrap_or(inside.len());
    let name = inside[..name_end].to_ascii_lowercase();
    let known = [&DROPPED[..], &BLOCKS, &OTHERS].iter().any(|names| names.contains(&name.as_str()));
    // Elements that a page makes up have a hyphen in their names.
    let own = name.starts_with(|c: char| c.is_ascii_alphabetic()) && name.contains('-');
    if !known && !own {
        return None;
    }
    let end = end_of_tag(text)?;
    let start = text.len() - inside.len() + name_end;
    if !are_attributes(text.get(start..end - 1)?) {
        return None;
    }
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

/// The position after the tag's `>`, ignoring any in quoted values.
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

/// Whether what is between the name of a tag and its end are attributes: names with values, or names that need none.
fn are_attributes(text: &str) -> bool {
    let mut rest = text.strip_suffix('/').unwrap_or(text);
    if !rest.is_empty() && !rest.starts_with(|c: char| c.is_ascii_whitespace()) {
        return false;
    }
    loop {
        rest = rest.trim_ascii_start();
        if rest.is_empty() {
            return true;
        }
        let name_end = rest.find(|c: char| c.is_ascii_whitespace() || c == '=').unwrap_or(rest.len());
        let (name, after) = rest.split_at(name_end);
        let is_name = name
            .starts_with(|c: char| c.is_alphabetic() || matches!(c, '_' | ':' | '@' | '*' | '['))
            && !name.contains(['"', '\'', '&', '/']);
        let Some(value) = after.trim_ascii_start().strip_prefix('=').map(str::trim_ascii_start) else {
            if !is_name || !BARE.contains(&name.to_ascii_lowercase().as_str()) {
                return false;
            }
            rest = after;
            continue;
        };
        let end = match value.as_bytes().first() {
            Some(quote @ (b'"' | b'\'')) => value[1..].find(char::from(*quote)).map(|end| end + 2),
            _ => Some(value.find(|c: char| c.is_ascii_whitespace()).unwrap_or(value.len())),
        };
        match end.filter(|_| is_name) {
            Some(end) => rest = &value[end..],
            None => return false,
        }
    }
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
            ("<my-list item=1>own</my-list><dl compact>x</dl><?xml version=\"1.0\"?>", "own\nx\n"),
            ("if (a<b && c>d) or a <b and c> d", "if (a<b && c>d) or a <b and c> d"),
            (
                "a vector<int> x; #include <stdio.h>; <T> <!x> <?php 1 ?>",
                "a vector<int> x; #include <stdio.h>; <T> <!x> <?php 1 ?>",
            ),
            ("<script>never closed", ""),
            ("<!-- never closed", ""),
            ("</", "</"),
            ("caf\u{e9} <i>tr\u{e8}s</i>", "caf\u{e9} tr\u{e8}s"),
        ] {
            assert_eq!(strip(Cow::Borrowed(html)), expected, "{html}");
        }
        assert!(matches!(strip(Cow::Borrowed("plain")), Cow::Borrowed(_)));
    }

    #[test]
    fn addresses_in_angle_brackets_stay() {
        let mail = "From: Joe Wick <joe@x.org>\nMessage-ID: <a17.b@hive.example>\nTo: <bees@hive.example>, <b@x.org>\n\n\
                    see <http://hive.example/a?b=1&c=2> and <ftp:x>, <grin>, <i.e. this>, x <- y -> z, 1<2>0, <a, b>\n> quoted <b@x.org>\n";
        assert_eq!(strip(Cow::Borrowed(mail)), mail);
        let with_tags = format!("<div class=mail>{mail}<br /><b>Joe</b></div>");
        assert_eq!(strip(Cow::Borrowed(&with_tags)), format!("{mail}Joe\n"));
    }

    proptest::proptest! {
        #[test]
        fn no_text_upsets_it(text in "[<>&;!/a-c\"'= \u{e9}-]{0,40}") {
            let _ = strip(Cow::Borrowed(&text));
        }
    }
}
