//! The step `strip_html`, from the page: its lists are read from the rule itself.

use std::collections::BTreeSet;

use lalograph_text::CleaningStep;

/// The lists of names in the rule.
struct Names {
    bare: BTreeSet<String>,
    dropped: BTreeSet<String>,
    blocks: BTreeSet<String>,
    all: BTreeSet<String>,
}

impl Names {
    fn read() -> Self {
        let rule = CleaningStep::StripHtml.rule().unwrap();
        let between = |from: &str, to: &str| -> BTreeSet<String> {
            let start = rule.find(from).unwrap() + from.len();
            let end = start + rule[start..].find(to).unwrap();
            rule[start..end].split(", ").map(str::to_owned).collect()
        };
        let dropped = between("at its end, of one of ", ": remove");
        let blocks = between("A tag of one of ", ": write LF");
        let others = between("Their names: ", ".\n");
        let all = dropped.iter().chain(&blocks).chain(&others).cloned().collect();
        Self { bare: between("without a value: ", ". If any"), dropped, blocks, all }
    }
}

pub(crate) fn strip(text: &str) -> String {
    thread_local!(static NAMES: Names = Names::read());
    NAMES.with(|names| {
        let mut out = String::new();
        let mut at = 0;
        while let Some(c) = text[at..].chars().next() {
            let taken = match c {
                '<' => tag(&text[at..], names, &mut out),
                '&' => entity(&text[at..], &mut out),
                _ => None,
            };
            match taken {
                Some(length) => at += length,
                None => {
                    out.push(c);
                    at += c.len_utf8();
                }
            }
        }
        out
    })
}

fn entity(text: &str, out: &mut String) -> Option<usize> {
    let end = text.bytes().take(33).position(|byte| byte == b';')? + 1;
    let meaning = html_escape::decode_html_entities(&text[..end]).into_owned();
    if meaning == text[..end] {
        return None;
    }
    out.push_str(&meaning.replace('\u{a0}', " "));
    Some(end)
}

/// The length of what a `<` removes.
fn tag(text: &str, names: &Names, out: &mut String) -> Option<usize> {
    if let Some(comment) = text.strip_prefix("<!--") {
        return Some(comment.find("-->").map_or(text.len(), |at| 4 + at + 3));
    }
    let lower = text.to_ascii_lowercase();
    if lower.starts_with("<!doctype") || text.starts_with("<?xml") {
        return text.find('>').map(|at| at + 1);
    }
    let closing = text.starts_with("</");
    let from = if closing { 2 } else { 1 };
    let length =
        text[from..].bytes().take_while(|byte| byte.is_ascii_alphanumeric() || *byte == b'-').count();
    let name = &lower[from..from + length];
    let made_up = name.as_bytes().first().is_some_and(u8::is_ascii_alphabetic) && name.contains('-');
    if !names.all.contains(name) && !made_up {
        return None;
    }
    let mut quote = None;
    let mut end = None;
    for (at, byte) in text.bytes().enumerate().skip(1) {
        if let Some(open) = quote {
            if byte == open {
                quote = None;
            }
        } else if byte == b'>' {
            end = Some(at + 1);
            break;
        } else if byte == b'<' {
            break;
        } else if (byte == b'"' || byte == b'\'') && text.as_bytes()[at - 1] == b'=' {
            quote = Some(byte);
        }
    }
    let end = end?;
    if !attributes(&text[from + length..end - 1], names) {
        return None;
    }
    if !closing && !text[..end].ends_with("/>") && names.dropped.contains(name) {
        let mut at = end;
        while let Some(found) = lower[at..].find("</") {
            at += found + 2;
            if lower[at..].starts_with(name) {
                return Some(text[at..].find('>').map_or(text.len(), |found| at + found + 1));
            }
        }
        return Some(text.len());
    }
    if names.blocks.contains(name) && !out.is_empty() && !out.ends_with('\n') {
        out.push('\n');
    }
    if closing && (name == "td" || name == "th") {
        out.push(' ');
    }
    Some(end)
}

fn attributes(text: &str, names: &Names) -> bool {
    let text = text.strip_suffix('/').unwrap_or(text);
    let is_space = |c: char| c.is_ascii_whitespace();
    if !text.is_empty() && !text.starts_with(is_space) {
        return false;
    }
    let mut rest = text.trim_start_matches(is_space);
    while !rest.is_empty() {
        let length = rest.find(|c: char| is_space(c) || c == '=').unwrap_or(rest.len());
        let (name, after) = rest.split_at(length);
        let starts = name.starts_with(|c: char| c.is_alphabetic() || "_:@*[".contains(c));
        if !starts || name.contains(['"', '\'', '&', '/']) {
            return false;
        }
        let Some(value) = after.trim_start_matches(is_space).strip_prefix('=') else {
            if !names.bare.contains(&name.to_ascii_lowercase()) {
                return false;
            }
            rest = after.trim_start_matches(is_space);
            continue;
        };
        let value = value.trim_start_matches(is_space);
        let length = match value.chars().next() {
            Some(quote @ ('"' | '\'')) => match value[1..].find(quote) {
                Some(at) => at + 2,
                None => return false,
            },
            _ => value.find(is_space).unwrap_or(value.len()),
        };
        rest = value[length..].trim_start_matches(is_space);
    }
    true
}
