//! `tune MODEL`: the plan of a run that continues from a trained model, then the run.

use std::path::Path;

use lalograph_lab::data::token_cache::TokenCache;
use lalograph_lab::plan::{CorpusPlan, GroupsPlan, StartPlan, Texts, TunePlan};
use lalograph_lab::{Base, LanguageTask, ModelFile, Plan, RunFolder, prepare_tuned};
use lalograph_storage::Existing;
use lalograph_text::Corpus;

use crate::cli::TuneArgs;
use crate::commands::input::threads;
use crate::commands::lookup::{load_model, model_path};
use crate::commands::reading::{found, lay_over, refuse_idle};
use crate::commands::settings::{check_room, lay, lay_shares, lay_training};
use crate::commands::train::{begin, name_of_new_run};
use crate::commands::training::{carry_out, reading, render_start, say_outcome};
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::number::{count, counted};
use crate::output::screen::Screen;
use crate::output::training::Output;

/// Epochs of tuning by default.
const EPOCHS: u64 = 3;
/// Peak of the learning rate by default, as a share of the base's.
const RATE_SHARE: f64 = 0.5;

/// Prompts of the validation text that samples answer.
const SHOWN_PROMPTS: usize = 2;

/// Runs the command.
pub(super) fn run(args: &TuneArgs, model: &Path, screen: &Screen) -> Result<(), Failure> {
    let file = load_model(model)?;
    let mut plan = resolve(args, model, &file)?;
    let existing = Existing::replaced_if(args.run.force);
    let name = name_of_new_run(&plan, args.run.name.as_deref(), &args.run.runs, existing)?;
    interrupt::listen();
    refuse_idle(&args.reading, &found(&plan.corpus.spec())?)?;
    let base = base_of(&mut plan, file, screen)?;
    let (count, cache) = (threads(args.run.threads), args.run.runs.join(files::TOKENS));
    let storage = files::storage();
    let cache = Some(TokenCache { storage: &*storage, path: &cache });
    let prepared = reading(args.reading.left_out.as_deref(), existing, screen, |observer| {
        prepare_tuned(plan, base, count, cache, observer)
    })?;
    check_room(&prepared.plan, prepared.vocabulary.len())?;
    let output = if args.run.json { Output::Json } else { Output::Words };
    if output == Output::Words {
        screen.line(&render_start(&prepared, screen))?;
    }
    say_cuts(&prepared, screen);
    let running = begin(&prepared, &args.run.runs, &name, existing)?;
    let limit = args.training.minutes;
    let (run, outcome) = carry_out(&prepared, running, (count, limit), output, screen)?;
    say_outcome(&run, &prepared, &outcome, limit, output, screen)
}

/// The plan of the base for the new text, with the flags laid over it.
fn resolve(args: &TuneArgs, model: &Path, file: &ModelFile) -> Result<Plan, Failure> {
    for (flag, given, what) in [
        ("--unit", args.unit.is_some(), format!("its tokens are {}", file.vocabulary.unit().plural())),
        ("--cleaning", args.cleaning.is_some(), "it travels with the vocabulary".to_owned()),
    ] {
        if given {
            return Err(Failure::Usage(format!(
                "a tuned model keeps the unit, the cleaning and the vocabulary of its base, so {flag} cannot be set: {what}"
            )));
        }
    }
    let mut plan = Plan {
        corpus: CorpusPlan { paths: args.paths.clone(), ..CorpusPlan::default() },
        start: StartPlan { model: Some(model_path(model)), vectors: None },
        tune: Some(TunePlan::default()),
        groups: GroupsPlan::default(),
        ..file.plan.clone()
    };
    plan.vocabulary.file = None;
    plan.expected = None;
    // What follows from the size of the vocabulary is that of the base, whatever is added.
    plan.model.clusters.clone_from(&file.model.shape().softmax.clusters.ends);
    plan.training.steps = None;
    plan.training.warmup_steps = None;
    plan.training.epochs = Some(EPOCHS);
    plan.training.learning_rate *= RATE_SHARE;
    let fixed = (plan.model.clone(), plan.vocabulary.clone());
    let mut plan = Plan::from_toml(&plan.to_toml().map_err(usage)?, &args.run.settings).map_err(usage)?;
    if (&plan.model, &plan.vocabulary) != (&fixed.0, &fixed.1) {
        return Err(Failure::Usage(
            "a tuned model keeps the network and the vocabulary of its base, so [model] and [vocabulary] cannot be set".into(),
        ));
    }
    lay_over(&args.reading, &mut plan.corpus);
    if args.pair.prompt.is_some() {
        (plan.corpus.prompt, plan.corpus.answer) = (args.pair.prompt.clone(), args.pair.answer.clone());
        plan.training.reset_at_documents = true;
    }
    lay_shares(&args.shares, &mut plan.corpus);
    lay(&args.training.step.batch, &mut plan.training.batch);
    lay(&args.training.step.window, &mut plan.training.window);
    lay_training(&args.training, &args.samples, &mut plan);
    let held_out = plan.corpus.validation_share > 0.0 || plan.corpus.split.is_some();
    if plan.corpus.prompt.is_some()
        && args.samples.from.is_empty()
        && plan.samples.drawn_seeds == 0
        && held_out
    {
        // Samples show answers to prompts that were held out.
        plan.samples.from = Texts(Vec::new());
        plan.samples.drawn_seeds = SHOWN_PROMPTS;
    }
    lay_tune(args, &mut plan)?;
    plan.check().map_err(usage)?;
    Ok(plan)
}

fn usage(error: lalograph_lab::PlanError) -> Failure {
    Failure::Usage(error.to_string())
}

/// Lays the flags of tuning over a plan.
fn lay_tune(args: &TuneArgs, plan: &mut Plan) -> Result<(), Failure> {
    let mut tune = plan.tune.take().unwrap_or_default();
    lay(&args.new_tokens, &mut tune.new_tokens);
    lay(&args.new_vectors, &mut tune.new_vectors);
    lay(&args.loss_on, &mut tune.loss_on);
    lay(&args.keep_old, &mut tune.keep_old);
    tune.longest_prompt = args.longest_prompt.or(tune.longest_prompt);
    tune.longest_answer = args.longest_answer.or(tune.longest_answer);
    if !args.old_text.is_empty() {
        tune.old_text.clone_from(&args.old_text);
    }
    let of_pairs = [
        (args.loss_on.is_some(), "--loss-on"),
        (args.longest_prompt.is_some(), "--longest-prompt"),
        (args.longest_answer.is_some(), "--longest-answer"),
    ];
    if let Some((_, flag)) = of_pairs.iter().find(|(given, _)| *given && plan.corpus.prompt.is_none()) {
        return Err(Failure::Usage(format!(
            "{flag} has no effect: it is for pairs, which --prompt and --answer read"
        )));
    }
    plan.tune = Some(tune);
    for part in &args.freeze {
        freeze(part, plan)?;
    }
    Ok(())
}

/// Freezes a part of the network.
fn freeze(part: &str, plan: &mut Plan) -> Result<(), Failure> {
    let (groups, layers) = (&mut plan.groups, plan.model.layers);
    match part {
        "embedding" => groups.embedding_rate = 0.0,
        "layers" => groups.layers_rate = 0.0,
        "output" => groups.output_rate = 0.0,
        _ => {
            let number = part.strip_prefix("layer-").and_then(|number| number.parse::<usize>().ok());
            let Some(number) = number.filter(|number| (1..=layers).contains(number)) else {
                return Err(Failure::Usage(format!(
                    "--freeze has no part `{part}`; the parts of this model are embedding, layers, {}output",
                    (1..=layers).map(|layer| format!("layer-{layer}, ")).collect::<String>()
                )));
            };
            if groups.layer_rates.len() < number {
                groups.layer_rates.resize(number, 1.0);
            }
            groups.layer_rates[number - 1] = 0.0;
        }
    }
    Ok(())
}

/// The base with the plan of its text; if that is not to be found, forgetting is not measured.
fn base_of(plan: &mut Plan, file: ModelFile, screen: &Screen) -> Result<Base, Failure> {
    let run =
        plan.start.model.as_deref().and_then(Path::parent).and_then(|folder| RunFolder::open(folder).ok());
    let of_run = match &run {
        Some(run) => {
            let mut of_run = run.read_plan()?;
            let here = std::env::current_dir().ok();
            if let Some(folder) = run.description()?.working_folder.or(here) {
                of_run.start_paths_at(&folder);
            }
            Some(of_run)
        }
        None => None,
    };
    let Some(tune) = &mut plan.tune else { return Ok(Base { vocabulary: file.vocabulary, plan: of_run }) };
    let old_plan = match (of_run, tune.old_text.is_empty()) {
        (Some(of_run), _) => Some(of_run),
        (None, false) => Some(file.plan),
        (None, true) => None,
    };
    let missing = match &old_plan {
        None => Some("the base is not in the folder of a run".to_owned()),
        Some(of_run) if tune.old_text.is_empty() => {
            Corpus::find(&of_run.corpus.spec()).err().map(|error| error.to_string())
        }
        Some(_) => None,
    };
    if let Some(why) = missing {
        if tune.keep_old > 0.0 {
            return Err(Failure::with_remedy(
                format!("the text of the base cannot be read: {why}"),
                "give it with --old-text, or leave --keep-old out",
            ));
        }
        if tune.measure_old {
            screen.note(&format!("forgetting is not measured: {why}; --old-text gives the text of the base"));
            tune.measure_old = false;
        }
    }
    Ok(Base { vocabulary: file.vocabulary, plan: old_plan })
}

/// Reports pairs that were cut.
fn say_cuts(prepared: &LanguageTask, screen: &Screen) {
    let (cuts, rule) = (prepared.corpus.cuts, prepared.plan.pair_rule());
    let Some(rule) = rule else { return };
    let said = |number: u64, what, part, limit: Option<usize>| {
        if let Some(limit) = limit.filter(|_| number > 0) {
            let documents = prepared.corpus.reading.documents;
            screen.note(&format!(
                "{} of {} {what} have more than {}; {part} are kept",
                count(number),
                count(documents),
                counted(limit as u64, "token", "tokens"),
            ));
        }
    };
    said(cuts.prompts, "prompts", "the last ones", rule.longest_prompt);
    said(cuts.answers, "answers", "the first ones", rule.longest_answer);
}
