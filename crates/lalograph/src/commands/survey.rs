//! `survey`: look before training.

use std::ops::ControlFlow;
use std::path::Path;

use lalograph_storage::{Existing, Folder};
use lalograph_text::survey::{Survey, SurveySpec, count, survey};
use lalograph_text::{Cleaning, Corpus};
use similar::{ChangeTag, TextDiff};

use super::input::threads;
use super::reading::{cleaning, find_corpus, paired, watched};
use crate::cli::SurveyArgs;
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::chart::write_pictures;
use crate::output::palette::{ASH, BRICK, HONEY};
use crate::output::screen::Screen;
use crate::output::survey_charts::survey_charts;
use crate::output::survey_text::{render, render_plain};
use crate::output::wrap::indented;

/// Runs the command.
pub(crate) fn run(args: &SurveyArgs, screen: &Screen) -> Result<(), Failure> {
    // Only showing documents needs no orderly end: Ctrl-C ends the program at once.
    if args.show_cleaning.is_none() {
        interrupt::listen();
    }
    let corpus = find_corpus(&args.corpus, &paired(&args.pair), &[])?;
    let cleaning = cleaning(&args.cleaning)?;
    if let Some(documents) = args.show_cleaning {
        return show_cleaning(&corpus, &cleaning, documents, screen);
    }
    let existing = Existing::replaced_if(args.force);
    let left_out = (args.corpus.reading.left_out.as_deref(), existing);
    if args.counts {
        let counts = watched(&corpus, "counting", left_out, screen, |observer| {
            Ok(count(&corpus, threads(None), observer)?)
        })?;
        return if args.json { screen.json(&counts) } else { screen.line(&render_plain(&counts, screen)) };
    }
    if let Some(folder) = &args.pictures {
        // Refused before the work, not after it.
        Folder::make(&*files::storage(), folder)?;
    }
    let spec = SurveySpec {
        cleaning,
        most_frequent: args.top,
        first_rows: args.rows,
        row_characters: 600,
        pattern: args.pattern.clone(),
        near: args.near,
        examples: args.examples,
    };
    let survey = look(&corpus, &spec, left_out, screen)?;
    if args.json {
        screen.json(&survey)?;
    } else {
        screen.line(&render(&survey, screen))?;
    }
    if let Some(folder) = &args.pictures {
        let charts: Vec<_> =
            survey_charts(&survey).into_iter().map(|(name, scene)| (folder.join(name), scene)).collect();
        let places: Vec<_> = charts.iter().flat_map(|(stem, _)| files::picture(stem)).collect();
        let mut set = files::begin("survey", &places, existing)?;
        let mut drawn = Vec::new();
        for (stem, scene) in charts {
            write_pictures(scene, &mut set, &stem)?;
            drawn.push(stem);
        }
        set.finish()?;
        for stem in drawn {
            screen.note(&format!("drawn: {}.png and .svg", stem.display()));
        }
    }
    Ok(())
}

/// Surveys with a progress bar.
pub(crate) fn look(
    corpus: &Corpus,
    spec: &SurveySpec,
    left_out: (Option<&Path>, Existing),
    screen: &Screen,
) -> Result<Survey, Failure> {
    watched(corpus, "surveying", left_out, screen, |observer| {
        Ok(survey(corpus, spec, threads(None), observer)?)
    })
}

/// Prints documents before and after their cleaning.
fn show_cleaning(
    corpus: &Corpus,
    cleaning: &Cleaning,
    documents: u64,
    screen: &Screen,
) -> Result<(), Failure> {
    let mut failure = None;
    let mut left = documents;
    let reading = corpus.read(|document| {
        if left == 0 {
            return ControlFlow::Break(());
        }
        left -= 1;
        let place = format!("{}, line {}", document.path.display(), document.line);
        let shown = side_by_side(document.text, &cleaning.apply(document.text), screen);
        let text = format!("{}\n{shown}\n", screen.styled(ASH.style(), &place));
        failure = screen.line(&text).err();
        if failure.is_some() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    })?;
    super::reading::say_reading(&reading, None, screen);
    failure.map_or(Ok(()), Err)
}

/// The text before and after, with brackets around what differs.
fn side_by_side(before: &str, after: &str, screen: &Screen) -> String {
    if before == after {
        return format!("  unchanged  {}", visible(before));
    }
    let diff = TextDiff::from_unicode_words(before, after);
    let side = |mine: ChangeTag, style: anstyle::Style| {
        let mut out = String::new();
        let mut changed = String::new();
        let close = |changed: &mut String, out: &mut String| {
            if !changed.is_empty() {
                out.push_str(&screen.styled(style, &format!("\u{27e6}{}\u{27e7}", visible(changed))));
                changed.clear();
            }
        };
        for change in diff.iter_all_changes() {
            if change.tag() == mine {
                changed.push_str(change.value());
            } else if change.tag() == ChangeTag::Equal {
                close(&mut changed, &mut out);
                let equal = visible(change.value());
                out.push_str(if change.value() == " " { " " } else { &equal });
            }
        }
        close(&mut changed, &mut out);
        out
    };
    let (old, new) = (side(ChangeTag::Delete, BRICK.style()), side(ChangeTag::Insert, HONEY.style().bold()));
    let wrapped = |text: &str| indented(text, screen.width().saturating_sub(9)).replace('\n', "\n       ");
    format!("  before {}\n  after  {}", wrapped(&old).trim_start(), wrapped(&new).trim_start())
}

/// Shows white space that would move the text as signs; spaces too if nothing else is there.
fn visible(text: &str) -> String {
    let spaces = text.chars().all(|c| c == ' ');
    let sign = |c: char| match c {
        '\n' => '\u{21b5}',
        '\r' => '\u{21e4}',
        '\t' => '\u{21e5}',
        ' ' if spaces => '\u{b7}',
        other => other,
    };
    text.chars().map(sign).collect()
}
