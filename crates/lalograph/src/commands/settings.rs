//! From flags to a plan, and from a plan to words.

use std::path::{Path, PathBuf};

use lalograph_lab::artefact::texts::read_vocabulary;
use lalograph_lab::measure::cost::cost;
use lalograph_lab::plan::{CorpusPlan, LossAt, Texts, TrainingPlan, WindowKind};
use lalograph_lab::{LabError, Plan};
use lalograph_net::heads::softmax::Softmax;
use lalograph_net::{Cell, LanguageModel, LanguageModelShape};
use lalograph_text::{Reserved, Unit};

use super::reading::lay_over;
use super::vocab::vocabularies::apply_token_args;
use crate::cli::{
    ModelArgs, PlanArgs, ReadingArgs, SamplesArgs, SharesArgs, StepArgs, TokenArgs, TrainingArgs,
};
use crate::company::{check_lanes, lanes_of};
use crate::failure::Failure;
use crate::output::number::{bytes, count};
use crate::room;

/// Refuses a plan whose training would need more memory than there is, or more lanes for its processes.
pub(super) fn check_room(plan: &Plan, indices: usize) -> Result<(), Failure> {
    let needed = cost(plan, indices, &|_| 0.0)?.bytes.total();
    room::check(
        needed,
        "training by this plan",
        "lower --hidden, --layers, --batch or --window; `lalograph plan cost --no-measure` shows the memory of each part",
    )?;
    check_lanes(lanes_of(plan), "training.lanes")
}

/// Different characters of a text that nobody has counted.
const CHARACTERS: usize = 120;

/// A plan and the size of its vocabulary.
pub(super) struct Sized {
    pub(super) plan: Plan,
    pub(super) indices: usize,
    /// Source of the size.
    pub(super) source: String,
}

/// Lays flags over a plan file, or over the plan of a run's folder.
pub(super) fn flagged_plan(args: &PlanArgs) -> Result<Plan, Failure> {
    let file =
        args.plan.as_ref().map(|path| if path.is_dir() { path.join("plan.toml") } else { path.clone() });
    let mut plan = read_plan(file.as_deref(), &args.settings)?;
    lay_model(&args.model, &args.step, &mut plan)?;
    plan.check().map_err(|error| Failure::Usage(error.to_string()))?;
    Ok(plan)
}

/// The same with the size of its vocabulary, if it is known without the text.
pub(super) fn sized_plan(args: &PlanArgs) -> Result<Sized, Failure> {
    size(args, flagged_plan(args)?)
}

/// A plan with the size of its vocabulary, if it is known without the text.
pub(super) fn size(args: &PlanArgs, plan: Plan) -> Result<Sized, Failure> {
    let run = args.plan.as_ref().filter(|path| path.is_dir());
    let of_run = run.map(|path| path.join("vocabulary.json")).filter(|path| path.is_file());
    let (indices, source) = match (args.indices, of_run.as_ref().or(plan.vocabulary.file.as_ref())) {
        (Some(indices), _) => (indices as usize, "given".to_owned()),
        (None, Some(path)) => (read_vocabulary(path)?.len(), format!("of {}", path.display())),
        (None, None) => {
            let (most, why) = match plan.vocabulary.unit {
                Unit::Byte => (256, "all bytes"),
                Unit::Character | Unit::Grapheme => (CHARACTERS, "a usual number for a text in one script"),
                Unit::Word | Unit::BytePair | Unit::Unigram => {
                    (plan.vocabulary.size.unwrap_or(20_000), "the plan's vocabulary size")
                }
            };
            let size = plan.vocabulary.size.map_or(most, |size| size.min(most));
            (
                size.saturating_add(Reserved::COUNT as usize),
                format!("{why}; set it with --indices, or give a text to count"),
            )
        }
    };
    // Sizes that no model has, before anything is computed for them.
    LanguageModel::new(plan.shape(indices)).map_err(LabError::from)?;
    Ok(Sized { plan, indices, source })
}

/// The text of a plan file.
pub(super) fn plan_text(path: &Path) -> Result<String, Failure> {
    /// Longest plan file; a longer file is something else.
    const LONGEST: u64 = 1 << 20;
    let size = std::fs::metadata(path).map_err(LabError::at(path))?.len();
    if size > LONGEST {
        return Err(Failure::Usage(format!("{}: {} is too long for a plan", path.display(), bytes(size))));
    }
    Ok(std::fs::read_to_string(path).map_err(LabError::at(path))?)
}

/// Reads a plan file, or begins with an empty one.
pub(super) fn read_plan(file: Option<&Path>, settings: &[String]) -> Result<Plan, Failure> {
    let text = match file {
        Some(path) => plan_text(path)?,
        None => String::new(),
    };
    Plan::from_toml(&text, settings).map_err(|error| match file {
        Some(path) => Failure::Usage(format!("{}: {error}", path.display())),
        None => Failure::Usage(error.to_string()),
    })
}

/// Refuses a plan that is not of a language model from its beginning, naming the command that it is for.
pub(super) fn refuse_other_plan(plan: &Plan) -> Result<(), Failure> {
    let (of, remedy) = match plan {
        Plan { classifier: Some(_), .. } => ("a classifier", "use `lalograph classify train --plan`"),
        Plan { vectors: Some(_), .. } => ("word vectors", "use `lalograph embed train --plan`"),
        Plan { tune: Some(_), .. } => {
            ("a tuned model", "use `lalograph tune MODEL PATH` with its settings as options")
        }
        _ => return Ok(()),
    };
    Err(Failure::Usage(format!("this is the plan of {of}; {remedy}")))
}

/// Lays a flag over a setting, if it was given.
pub(super) fn lay<T: Clone>(flag: &Option<T>, setting: &mut T) {
    if let Some(value) = flag {
        setting.clone_from(value);
    }
}

/// The same over a setting that need not have a value.
pub(super) fn lay_over_none<T: Clone>(flag: &Option<T>, setting: &mut Option<T>) {
    if flag.is_some() {
        setting.clone_from(flag);
    }
}

/// Lays the flags of model and step over a plan.
pub(super) fn lay_model(model: &ModelArgs, step: &StepArgs, plan: &mut Plan) -> Result<(), Failure> {
    lay(&model.cell, &mut plan.model.cell);
    lay_over_none(&model.hidden, &mut plan.model.hidden);
    lay_vectors((&model.vectors, &model.start_model, model.embedding), plan)?;
    lay(&model.layers, &mut plan.model.layers);
    lay_over_none(&model.softmax, &mut plan.model.softmax);
    lay_over_none(&model.shared_vectors, &mut plan.model.shared_vectors);
    lay(&step.batch, &mut plan.training.batch);
    lay(&step.window, &mut plan.training.window);
    Ok(())
}

/// Lays the flags of a corpus with held-out parts over a plan.
pub(super) fn lay_split_text(
    text: (&[PathBuf], &ReadingArgs),
    tokens: (&Option<PathBuf>, &TokenArgs),
    shares: &SharesArgs,
    plan: &mut Plan,
) -> Result<(), Failure> {
    lay_shares(shares, &mut plan.corpus);
    lay_text(text, tokens, plan)
}

/// Lays the paths of a corpus, the flags of its reading, its vocabulary file and the flags of its tokens over a plan.
pub(super) fn lay_text(
    (paths, reading): (&[PathBuf], &ReadingArgs),
    (vocabulary_file, tokens): (&Option<PathBuf>, &TokenArgs),
    plan: &mut Plan,
) -> Result<(), Failure> {
    if !paths.is_empty() {
        plan.corpus.paths = paths.to_vec();
    }
    lay_over(reading, &mut plan.corpus);
    lay_over_none(vocabulary_file, &mut plan.vocabulary.file);
    apply_token_args(tokens, &mut plan.vocabulary)
}

/// Lays the flags of held-out parts over a corpus.
pub(super) fn lay_shares(args: &SharesArgs, corpus: &mut CorpusPlan) {
    corpus.split = args.split.clone().or_else(|| corpus.split.take());
    lay(&args.validation_share, &mut corpus.validation_share);
    lay(&args.test_share, &mut corpus.test_share);
}

/// Lays the flags of training and samples over a plan, but for the size of a step.
pub(super) fn lay_training(args: &TrainingArgs, samples: &SamplesArgs, plan: &mut Plan) {
    if args.steps.is_some() {
        plan.training.steps = args.steps;
    } else if args.epochs.is_some() {
        plan.training.steps = None;
    }
    lay(&args.seed, &mut plan.training.seed);
    lay_over_none(&args.epochs, &mut plan.training.epochs);
    lay(&args.windows, &mut plan.training.windows);
    plan.training.stride = args.stride.or(plan.training.stride);
    lay(&args.loss_at, &mut plan.training.loss_at);
    plan.training.warmup_steps = args.warmup_steps.or(plan.training.warmup_steps);
    lay(&args.validate_share, &mut plan.training.validate_share);
    lay(&args.learning_rate, &mut plan.training.learning_rate);
    lay(&args.clip_norm, &mut plan.training.clip_norm);
    lay_over_none(&args.dropout, &mut plan.training.dropout);
    lay(&args.flow_every, &mut plan.training.flow_every);
    lay(&args.optimiser, &mut plan.optimiser.rule);
    lay(&args.schedule, &mut plan.training.schedule);
    lay_spans(
        (args.validate_every, args.validate_every_epochs),
        (&mut plan.training.validate_every, &mut plan.training.validate_every_epochs),
    );
    lay(&args.patience, &mut plan.training.patience);
    lay(&args.checkpoints_every, &mut plan.checkpoints.every);
    lay(&samples.temperatures, &mut plan.samples.temperatures);
    lay_spans(
        (samples.samples_every, samples.samples_every_epochs),
        (&mut plan.samples.every, &mut plan.samples.every_epochs),
    );
    lay(&samples.samples_tokens, &mut plan.samples.tokens);
    if !samples.from.is_empty() {
        plan.samples.from = Texts(samples.from.clone());
    }
}

/// Lays the flags of something that is repeated by steps, by epochs or by both over the plan. The flag of one alone turns the other off.
pub(super) fn lay_spans((steps, epochs): (Option<u64>, Option<f64>), plan: (&mut u64, &mut f64)) {
    if steps.is_some() || epochs.is_some() {
        (*plan.0, *plan.1) = (steps.unwrap_or(0), epochs.unwrap_or(0.0));
    }
}

/// Lays the files of first weights and the width of the token vectors over a plan.
pub(super) fn lay_vectors(
    (vectors, model, embedding): (&Option<PathBuf>, &Option<PathBuf>, Option<usize>),
    plan: &mut Plan,
) -> Result<(), Failure> {
    lay_over_none(&embedding, &mut plan.model.embedding);
    plan.start.vectors = vectors.clone().or_else(|| plan.start.vectors.take());
    plan.start.model = model.clone().or_else(|| plan.start.model.take());
    // Vectors that are named here bring their own width.
    if let (Some(vectors), None) = (vectors.as_ref().filter(|path| path.exists()), embedding) {
        plan.model.embedding = Some(lalograph_lab::artefact::vectors::width(vectors)?);
    }
    Ok(())
}

/// A cell in words.
pub(super) fn cell_name(cell: Cell) -> &'static str {
    match cell {
        Cell::PlainTanh => "plain tanh",
        Cell::PlainRelu => "plain rectified",
        Cell::Gru => "GRU",
        Cell::Lstm => "LSTM",
    }
}

/// A network in a line.
pub(super) fn describe(shape: &LanguageModelShape) -> String {
    let cell = cell_name(shape.cell);
    let mut parts =
        vec![format!("embedding {}", shape.embedding), format!("{cell} {} x {}", shape.layers, shape.hidden)];
    let extras = [
        (shape.layer_norm, "layers normalised"),
        (shape.residual, "residual"),
        (shape.learn_first_state, "initial state learnt"),
    ];
    parts.extend(extras.iter().filter(|(with, _)| *with).map(|(_, what)| (*what).to_owned()));
    let settings = &shape.softmax;
    let softmax = match settings.kind {
        Softmax::Full => "softmax".to_owned(),
        Softmax::Clustered => format!("softmax in {} clusters", settings.clusters.ends.len() + 1),
        Softmax::Sampled => format!("softmax trained on {} samples", count(settings.samples as u64)),
    };
    let tied = if shape.tied { ", shared with the embedding" } else { "" };
    parts.push(format!("{softmax} {}{tied}", count(shape.vocabulary as u64)));
    parts.join(", ")
}

/// Kind of windows, in a line.
pub(super) fn describe_windows(training: &TrainingPlan) -> String {
    let TrainingPlan { batch, window, .. } = training;
    match training.windows {
        WindowKind::Carried => {
            let reset = if training.reset_at_documents { ", reset at documents" } else { "" };
            format!(
                "{batch} streams x {window} tokens, state carried{reset}, gradients cut at the window's edge"
            )
        }
        WindowKind::Independent => {
            let stride = training.stride.unwrap_or(*window);
            let at = match training.loss_at {
                LossAt::Every => "every token predicted",
                LossAt::Last => "the last token predicted",
            };
            format!("{batch} independent windows x {window} tokens, stride {stride}, {at}")
        }
        WindowKind::Documents => {
            format!("{batch} rows of whole documents x {window} tokens, gradients cut at the window's edge")
        }
    }
}
