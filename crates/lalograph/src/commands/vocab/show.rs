//! `vocab show`: what is in a vocabulary.

use lalograph_text::vocabulary::Counted;
use lalograph_text::{Cleaning, Reserved, Unit, Vocabulary};
use serde::Serialize;

use super::vocabularies::{load, render_size};
use crate::cli::{TokenOrder, VocabShowArgs};
use crate::failure::Failure;
use crate::output::number::{count, percent, visible};
use crate::output::screen::Screen;
use crate::output::table::{Column, table};

/// A row of `vocab show`.
#[derive(Serialize)]
struct ShownToken {
    index: u32,
    token: String,
    count: u64,
}

/// `vocab show --json`.
#[derive(Serialize)]
struct Shown<'v> {
    unit: Unit,
    cleaning: &'v Cleaning,
    indices: u64,
    reserved: &'v Reserved,
    counted: Counted,
    tokens: Vec<ShownToken>,
}

/// Runs the command.
pub(super) fn run(args: &VocabShowArgs, screen: &Screen) -> Result<(), Failure> {
    let vocabulary = load(&args.file)?;
    let indices = chosen(args, &vocabulary)?;
    let shown = |index: u32| -> Result<ShownToken, Failure> {
        let position = index.checked_sub(Reserved::COUNT).map(|position| position as usize);
        let count = position.and_then(|position| vocabulary.tokens().get(position)).map_or(0, |t| t.count);
        Ok(ShownToken { index, token: vocabulary.shown(index)?.into_owned(), count })
    };
    let tokens = indices.into_iter().map(shown).collect::<Result<Vec<ShownToken>, Failure>>()?;
    if args.json {
        return screen.json(&Shown {
            unit: vocabulary.unit(),
            cleaning: vocabulary.cleaning(),
            indices: vocabulary.len() as u64,
            reserved: vocabulary.reserved(),
            counted: vocabulary.counted(),
            tokens,
        });
    }
    let total = vocabulary.counted().tokens;
    let plain =
        args.find.is_none() && args.order == TokenOrder::Index && args.at.is_empty() && args.token.is_empty();
    let reserved = (0..Reserved::COUNT).filter(|_| plain).map(|index| {
        let name = vocabulary.shown(index).unwrap_or_default().into_owned();
        vec![index.to_string(), String::new(), name, String::new(), String::new()]
    });
    let rows: Vec<Vec<String>> = reserved
        .chain(tokens.iter().map(|shown| {
            let rank = shown.index.checked_sub(Reserved::COUNT - 1).filter(|&rank| rank > 0);
            vec![
                shown.index.to_string(),
                rank.map(|rank| rank.to_string()).unwrap_or_default(),
                visible(&shown.token),
                count(shown.count),
                percent(shown.count, total),
            ]
        }))
        .collect();
    let heads = ["index", "rank", vocabulary.unit().noun(), "count", "share"];
    let columns = [Column::Number, Column::Number, Column::Text, Column::Number, Column::Number];
    let list = if rows.is_empty() {
        format!("  no token contains `{}`", args.find.as_deref().unwrap_or_default())
    } else {
        table(screen, &heads, &columns, &rows)
    };
    screen.line(&format!("{}\n{list}", render_size(&vocabulary, screen)))
}

/// The indices to be listed.
fn chosen(args: &VocabShowArgs, vocabulary: &Vocabulary) -> Result<Vec<u32>, Failure> {
    if !args.at.is_empty() {
        return Ok(args.at.clone());
    }
    if !args.token.is_empty() {
        return args
            .token
            .iter()
            .map(|token| match vocabulary.index_of(token) {
                Reserved::UNKNOWN => Err(Failure::with_remedy(
                    format!("the vocabulary has no token `{token}`"),
                    "to search inside tokens: --find TEXT. Cleaning is not applied to TOKEN",
                )),
                index => Ok(index),
            })
            .collect();
    }
    let mut indices: Vec<u32> = (Reserved::COUNT..vocabulary.len() as u32).collect();
    if let Some(part) = &args.find {
        indices.retain(|&index| vocabulary.shown(index).is_ok_and(|token| token.contains(part.as_str())));
    }
    let token = |index: u32| &vocabulary.tokens()[(index - Reserved::COUNT) as usize];
    match args.order {
        TokenOrder::Index => {}
        TokenOrder::Count => indices.sort_by_key(|&index| (std::cmp::Reverse(token(index).count), index)),
        TokenOrder::Token => indices.sort_by(|&a, &b| token(a).bytes.cmp(&token(b).bytes)),
        TokenOrder::Longest => indices.sort_by_key(|&index| {
            (std::cmp::Reverse(String::from_utf8_lossy(&token(index).bytes).chars().count()), index)
        }),
        TokenOrder::Rarest => indices.sort_by_key(|&index| (token(index).count, std::cmp::Reverse(index))),
    }
    indices.truncate(args.top);
    Ok(indices)
}
