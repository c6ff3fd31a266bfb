//! Parts that pages are made of.

use html_escape::encode_safe;
use lalograph_lab::run::records::SampleRecord;

/// Text as it may be between tags and in attributes.
pub(super) fn text(text: &str) -> String {
    encode_safe(text).into_owned()
}

/// Pages need nothing else: nothing is fetched from anywhere, and only scripts that are in the page itself may run.
const POLICY: &str = "default-src 'none'; img-src data:; style-src 'unsafe-inline'; script-src 'unsafe-inline'; base-uri 'none'; form-action 'none'";

/// A whole page around its body.
pub(super) fn page(title: &str, body: &str) -> String {
    let (title, style, version) = (text(title), include_str!("style.css"), env!("CARGO_PKG_VERSION"));
    format!(
        "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n\
         <meta http-equiv=\"Content-Security-Policy\" content=\"{POLICY}\">\n\
         <meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n<link rel=\"icon\" href=\"data:,\">\n\
         <title>{title}</title>\n<style>\n{style}</style>\n</head>\n<body>\n<main>\n{body}\n\
         <footer>Written by Lalograph {version}.</footer>\n</main>\n</body>\n</html>\n"
    )
}

/// A part of a page under a heading that can be linked to.
pub(super) fn section(id: &str, heading: &str, body: &str) -> String {
    format!("<section id=\"{id}\">\n<h2>{}</h2>\n{body}\n</section>\n", text(heading))
}

/// A picture in the page. `id` keeps its parts apart from those of others.
pub(super) fn figure(id: &str, svg: &str, caption: &str) -> String {
    let svg = svg.find("<svg").map_or(svg, |at| &svg[at..]);
    let svg = svg.replace("id=\"", &format!("id=\"{id}-")).replace("url(#", &format!("url(#{id}-"));
    let caption = text(caption);
    let labelled = svg.replacen("<svg", &format!("<svg role=\"img\" aria-label=\"{caption}\""), 1);
    format!(
        "<figure><div class=\"scroll\" tabindex=\"0\">{labelled}</div><figcaption>{caption}</figcaption></figure>\n"
    )
}

/// A cell of a table.
pub(super) enum Cell {
    Words(String),
    Number(String),
    Code(String),
}

impl Cell {
    fn html(&self) -> String {
        match self {
            Self::Words(words) => format!("<td>{}</td>", text(words)),
            Self::Number(number) => format!("<td class=\"number\">{}</td>", text(number)),
            Self::Code(code) => format!("<td><code>{}</code></td>", text(code)),
        }
    }
}

/// A table; rows may be marked.
pub(super) fn table(heads: &[&str], rows: &[(bool, Vec<Cell>)]) -> String {
    let numbers =
        |index: usize| rows.first().is_some_and(|(_, row)| matches!(row.get(index), Some(Cell::Number(_))));
    let heads = heads.iter().enumerate().map(|(index, head)| {
        let class = if numbers(index) { " class=\"number\"" } else { "" };
        format!("<th{class}>{}</th>", text(head))
    });
    let head: String = heads.collect();
    let body: String = rows
        .iter()
        .map(|(marked, row)| {
            let cells: String = row.iter().map(Cell::html).collect();
            format!("<tr{}>{cells}</tr>\n", if *marked { " class=\"changed\"" } else { "" })
        })
        .collect();
    let head = if head.is_empty() { String::new() } else { format!("<thead><tr>{head}</tr></thead>\n") };
    format!("<div class=\"scroll\" tabindex=\"0\"><table>\n{head}<tbody>\n{body}</tbody></table></div>\n")
}

/// Names and what they represent.
pub(super) fn pairs(rows: &[(&str, String)]) -> String {
    let rows: Vec<(bool, Vec<Cell>)> = rows
        .iter()
        .map(|(name, value)| (false, vec![Cell::Words((*name).to_owned()), Cell::Words(value.clone())]))
        .collect();
    table(&[], &rows)
}

/// A sample under a heading.
pub(super) fn sample(heading: &str, record: &SampleRecord) -> String {
    let end = if record.ended { "" } else { " \u{2026}" };
    format!(
        "<div class=\"sample\"><h4>{}</h4><p><span class=\"seed\">{}</span>{}{end}</p></div>\n",
        text(heading),
        text(&record.seed_text),
        text(&record.text)
    )
}

#[cfg(test)]
mod tests {
    use super::{Cell, figure, page, sample, table};
    use lalograph_lab::run::records::SampleRecord;

    #[test]
    fn text_of_documents_is_escaped_in_pages() {
        let wild = "<script>alert(\"bees\")</script> & 'more'";
        let record = SampleRecord {
            step: 1,
            validation_perplexity: None,
            temperature: 1.0,
            seed_text: wild.into(),
            text: wild.into(),
            tokens: 3,
            ended: false,
        };
        let rows =
            [(true, vec![Cell::Words(wild.into()), Cell::Code(wild.into()), Cell::Number(wild.into())])];
        let body = format!(
            "{}{}{}",
            sample(wild, &record),
            table(&[wild], &rows),
            figure("one", "<svg id=\"a\"></svg>", wild)
        );
        let made = page(wild, &body);
        assert!(!made.contains("<script"), "{made}");
        assert_eq!(made.matches("&lt;script&gt;").count(), 10, "{made}");
        assert!(made.contains("id=\"one-a\""));
        assert!(!made.contains("http://") && !made.contains("https://"));
    }
}
