//! The page that comes with an exported model: how to get from a text to indices without this program, and what the graphs want.

use std::fmt::Write;

use lalograph_lab::DocumentInput;
use lalograph_lab::plan::{Keep, NumberOrder};
use lalograph_text::rules::unicode_versions;
use lalograph_text::{Reserved, Vocabulary};
use serde::Serialize;

use crate::model::{Form, OpenModel, VectorForm};

/// Texts that show what the rules do with unusual characters.
const TRICKY: [&str; 6] = [
    "The bees are quiet.",
    "Don't open hive 3 in the rain: it's 12.5 \u{b0}C, 1,000 m up!",
    "  Two  spaces,\ta tab\r\nand a line. ",
    "CAF\u{c9} na\u{ef}ve \u{2013} e\u{301}t\u{e9} \u{2116}\u{a0}7, \u{fb01}n\u{b2}",
    "<p>Warm &amp; <b>well-fed</b> bees</p>",
    "company,and \u{201c}so-called\u{201d} \u{1f41d}\u{200d}\u{2642}\u{fe0f} xylqz",
];

/// Worked examples of a page.
const EXAMPLES: usize = 10;

/// The page for a model, as Markdown.
pub fn readme(model: &OpenModel) -> String {
    let mut page = format!("# The exported {}\n\n", model.kind());
    let hash = model.content_hash().unwrap_or_default();
    let _ = writeln!(
        page,
        "For the exported model with `content_hash` {hash}. The entries named here are in the file's metadata.\n"
    );
    match &model.form {
        Form::Language(_) => {}
        Form::Classifier(form) => {
            let _ = writeln!(page, "Classes, in the order of `probabilities`: {}.\n", list(&form.classes));
        }
        Form::Vectors(form) => page.push_str(&of_vectors(form)),
    }
    if let Some(vocabulary) = model.vocabulary() {
        page.push_str(&text_to_indices(vocabulary));
        page.push_str(&reading(model, vocabulary));
        page.push_str(&examples(vocabulary));
    }
    if let Form::Classifier(form) = &model.form
        && let DocumentInput::Numbers(numbers) = &form.input
    {
        let order = match numbers.order {
            NumberOrder::ByStep => "all numbers of the first step come first, then those of the second",
            NumberOrder::ByFeature => {
                "the first number of all steps comes first, then the second of all steps"
            }
        };
        let steps = numbers.steps.map_or("any number of".to_owned(), |steps| steps.to_string());
        let _ = writeln!(
            page,
            "## From a row to steps\n\nA row has {steps} steps of {} numbers. In the data that the classifier was trained on, {order}; the graph wants `documents x steps x numbers`. The numbers are given as they are in the data: the graph standardises them.{}\n",
            numbers.features,
            cut(form.longest(), form.keep(), "steps")
        );
    }
    page
}

fn list(texts: &[String]) -> String {
    texts.iter().map(|text| format!("`{text}`")).collect::<Vec<_>>().join(", ")
}

/// The rules of cleaning and of the unit.
fn text_to_indices(vocabulary: &Vocabulary) -> String {
    let mut page = "## From a text to indices\n\n".to_owned();
    let [boundaries, properties] = unicode_versions();
    let _ = writeln!(
        page,
        "`vocabulary` is a JSON text. Its `tokens` are lists of an index, a token and a count; a token written `{{\"bytes\": ...}}` is given by its bytes in hexadecimal. Properties of characters are those of Unicode {properties}; boundaries of words and graphemes those of Unicode {boundaries}.\n"
    );
    let mut number = 1;
    for step in &vocabulary.cleaning().steps {
        let rule = step.rule().unwrap_or_else(|| {
            "This step takes the text out of an e-mail message and has no short rule: give texts that are out of their messages already, or use a parser for messages.".to_owned()
        });
        let _ = writeln!(page, "{number}. `{}`: {rule}", step.name());
        number += 1;
    }
    let unit = vocabulary.unit();
    let _ = writeln!(page, "{number}. Unit `{}`: {}\n", unit.name(), unit.rule("`vocabulary`"));
    let _ = writeln!(
        page,
        "There are {} indices. Indices 0 to 3 are padding, the unknown token, the start and the end of a text. No text contains them, except the unknown token.\n",
        vocabulary.len()
    );
    page
}

/// What a model reads beside the tokens of a text.
fn reading(model: &OpenModel, vocabulary: &Vocabulary) -> String {
    let mut page = String::new();
    match &model.form {
        Form::Language(file) => {
            page.push_str("## What the graphs want\n\n- `text` (whole texts): `tokens` are the indices of each text, then the end token (3) if the end of the text is to be predicted too, then padding (0) up to the longest text; `lengths` are the numbers of indices before the padding. The start token (2) is added by the graph.\n- `step` (one token at a time): begin with the start token (2) and `fresh` true; then give each token with `fresh` false and with the states that the step before gave as `next_...`. To write text, choose a token by `log_probabilities`, append it and give it to the next step; the end token (3) ends the text.\n\nThe padding and start tokens have probability 0. Leave the unknown token (1) out when choosing.\n\n");
            if !file.plan.training.reset_at_documents {
                page.push_str("In training the state was carried from document to document, so a text that follows another may be read without `fresh`.\n\n");
            }
            if let Some(turns) = vocabulary.turns() {
                let _ = writeln!(
                    page,
                    "The model was trained on prompts and answers: the tokens of a prompt, the index {} (end of the prompt), the tokens of the answer, the index {} (end of the answer). No text is encoded as one of these two.\n",
                    turns.prompt_end, turns.answer_end
                );
            }
        }
        Form::Classifier(form) => {
            let _ = writeln!(
                page,
                "## What the graph wants\n\n`tokens` are the indices of each document, then padding (0) up to the longest; `lengths` are the numbers of indices before the padding.{} A document without tokens is the end token (3) alone, with the length 1.\n",
                cut(form.longest(), form.keep(), "tokens")
            );
        }
        Form::Vectors(_) => {}
    }
    page
}

/// What is read of a document that is too long.
fn cut(longest: Option<usize>, keep: Keep, steps: &str) -> String {
    let Some(longest) = longest else { return String::new() };
    let part = match keep {
        Keep::Beginning => format!("keeps its first {longest} {steps}"),
        Keep::End => format!("keeps its last {longest} {steps}"),
        Keep::BothEnds => {
            format!("keeps its first {} and its last {} {steps}", longest.div_ceil(2), longest / 2)
        }
    };
    format!(" A document of more than {longest} {steps} {part}.")
}

fn of_vectors(form: &VectorForm) -> String {
    let mut page = format!(
        "`words` is a JSON list of {} words; the number of a word is its place in the list, from 0. `lookup` gives the vectors of words ({} numbers each), `neighbours` the words with the most similar vectors by the cosine; a word is its own nearest neighbour.\n\n",
        form.words.len(),
        form.dimensions
    );
    if form.pieces {
        page.push_str("Words that are not in the list have vectors made of pieces in the model file; the graphs do not have them.\n\n");
    }
    if form.vocabulary.is_some() {
        page.push_str("The words of a text are the tokens by the rules below. The number of a token is its place in `words`; the indices below are those of `vocabulary`, which the graphs do not use.\n\n");
    }
    page
}

/// A line of the examples.
#[derive(Serialize)]
struct Example<'e> {
    text: &'e str,
    cleaned: &'e str,
    tokens: &'e [String],
    indices: &'e [u32],
}

/// Texts with their cleaned form, their tokens and their indices: one JSON text a line.
fn examples(vocabulary: &Vocabulary) -> String {
    let mut page = "## Examples\n\nOne JSON text a line: a text, the text after cleaning, its tokens and its indices.\n\n```json\n".to_owned();
    let mut texts: Vec<String> = TRICKY.iter().map(|&text| text.to_owned()).collect();
    let (first, count) = (Reserved::COUNT as usize, vocabulary.len());
    // Tokens from all over the vocabulary.
    for number in 0..EXAMPLES - TRICKY.len() {
        let indices =
            (0..8).map(|at| first + (at * at * (number + 1) + 3 * at + number) % (count - first).max(1));
        let indices: Vec<u32> = indices.filter(|&index| index < count).map(|index| index as u32).collect();
        let text = vocabulary.decode(&indices).unwrap_or_default();
        texts.push(String::from_utf8_lossy(&text).into_owned());
    }
    for text in texts {
        let (tokens, indices): (Vec<String>, Vec<u32>) = vocabulary.encode(&text).into_iter().unzip();
        let cleaned = vocabulary.cleaning().apply(&text);
        let example = Example { text: &text, cleaned: &cleaned, tokens: &tokens, indices: &indices };
        let _ = writeln!(page, "{}", serde_json::to_string(&example).unwrap_or_default());
    }
    page.push_str("```\n");
    page
}
