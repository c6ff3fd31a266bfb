//! Vocabularies from flags and files, and their size in words.

use std::path::Path;

use lalograph_lab::artefact::texts::read_vocabulary;
use lalograph_lab::plan::VocabularyPlan;
use lalograph_lab::{LabError, ModelFile, Plan};
use lalograph_text::{Reserved, Vocabulary};

use crate::cli::TokenArgs;
use crate::commands::lookup::model_path;
use crate::commands::reading::cleaning_steps;
use crate::failure::Failure;
use crate::output::number::{self, count, percent};
use crate::output::screen::Screen;
use crate::output::table::facts;

/// Lays the flags over a vocabulary plan.
pub(crate) fn apply_token_args(args: &TokenArgs, plan: &mut VocabularyPlan) -> Result<(), Failure> {
    if let Some(unit) = args.unit {
        plan.unit = unit.into();
    }
    if let Some(size) = args.vocabulary_size {
        plan.size = Some(size);
    }
    plan.minimum_count = args.minimum_count.or(plan.minimum_count);
    if let Some(steps) = cleaning_steps(&args.cleaning)? {
        plan.cleaning = steps;
    }
    if let Some(reserved) = &args.reserved {
        plan.reserved.clone_from(reserved);
    }
    for (given, file, list) in [
        (&args.include, &args.include_from, &mut plan.include),
        (&args.exclude, &args.exclude_from, &mut plan.exclude),
    ] {
        list.extend_from_slice(given);
        if let Some(path) = file {
            list.extend(listed(path)?);
        }
    }
    Ok(())
}

/// The lines of a file with a list, without empty ones.
pub(crate) fn listed(path: &Path) -> Result<Vec<String>, LabError> {
    let text = std::fs::read_to_string(path).map_err(LabError::at(path))?;
    Ok(text.lines().map(str::trim).filter(|line| !line.is_empty()).map(str::to_owned).collect())
}

/// A plan's vocabulary as flags ask for it, of a command that has no plan.
pub(crate) fn vocabulary_of(args: &TokenArgs, mut base: VocabularyPlan) -> Result<VocabularyPlan, Failure> {
    apply_token_args(args, &mut base)?;
    let whole = Plan { vocabulary: base, ..Plan::default() };
    whole.check().map_err(|error| Failure::Usage(error.to_string()))?;
    Ok(whole.vocabulary)
}

/// Its size, stated exactly, and what was done to the text.
pub(crate) fn render_size(vocabulary: &Vocabulary, screen: &Screen) -> String {
    let counted = vocabulary.counted();
    let unit = vocabulary.unit();
    let own = vocabulary.tokens().len() as u64;
    let steps: Vec<&str> = vocabulary.cleaning().steps.iter().map(|step| step.name()).collect();
    let noun = if own == 1 { unit.noun() } else { unit.plural() };
    let rows = [
        (
            "indices",
            format!(
                "{} = {} {noun} + {} reserved",
                count(vocabulary.len() as u64),
                count(own),
                Reserved::COUNT
            ),
        ),
        ("cleaning", if steps.is_empty() { "none".to_owned() } else { steps.join(", then ") }),
        (
            "counted on",
            format!(
                "{} {} in {}, {} different ones",
                count(counted.tokens),
                unit.plural(),
                number::counted(counted.documents, "document", "documents"),
                count(counted.distinct_tokens)
            ),
        ),
        ("covers", format!("{} of them", percent(counted.tokens_covered, counted.tokens))),
    ];
    format!("{}\n{}", screen.heading("The vocabulary"), facts(screen, &rows))
}

/// Reads a vocabulary from its own file, or from a model's.
pub(crate) fn load(path: &Path) -> Result<Vocabulary, Failure> {
    let path = model_path(path);
    if path.extension().is_some_and(|extension| extension == "safetensors") {
        return Ok(ModelFile::load(&path)?.vocabulary);
    }
    Ok(read_vocabulary(&path)?)
}
