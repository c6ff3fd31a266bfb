//! Processes of one run. The first one carries out the command; the others wait until it enlists them for a training, and compute their lanes.

use std::any::Any;
use std::path::PathBuf;
use std::sync::Mutex;

use lalograph_lab::data::token_cache::TokenCache;
use lalograph_lab::measure::token_losses::follow_scoring;
use lalograph_lab::run::description::RunDescription;
use lalograph_lab::task::vectors::follow_vectors;
use lalograph_lab::{
    LabError, LanguageTask, Plan, PreparationEvent, PreparedClassifier, RunFolder, Running,
    follow_classifier, prepare_again, prepare_classifier_again,
};
use lalograph_net::step::exchange::{Exchange, OneProcess};
use lalograph_parallel::launched_processes;
use serde::{Deserialize, Serialize};

use crate::cli::{ClassifyCommand, Command, EmbedCommand};
use crate::commands::threads;
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::number::counted;
use crate::output::screen::Screen;

/// What the processes do together, until a training takes it.
static COMPANY: Mutex<Option<Box<dyn Exchange<f32>>>> = Mutex::new(None);

/// What ends when all of them have come to their end.
static MEETING: Mutex<Option<Box<dyn Any + Send>>> = Mutex::new(None);

/// What the other processes are enlisted for.
#[derive(Serialize, Deserialize)]
struct Enlistment {
    /// What the program is: the hash of its file.
    program: String,
    work: Work,
}

/// What all processes do together.
#[derive(Serialize, Deserialize)]
enum Work {
    Training(Box<Training>),
    /// They read documents of which process 0 sends them the tokens.
    Scoring,
    /// They learn word vectors from a text that process 0 sends.
    Vectors,
}

/// What the other processes need to know of a training.
#[derive(Serialize, Deserialize)]
struct Training {
    plan: String,
    description: RunDescription,
    /// The files of the run that say what its tokens are.
    files: Vec<(String, String)>,
    /// The folder of encoded corpora.
    tokens: Option<PathBuf>,
}

/// The threads asked for by a command that several processes carry out together; `None` for another command.
fn shared(command: &Command) -> Option<Option<u16>> {
    match command {
        Command::Train(args) => Some(args.run.threads),
        Command::Tune(args) if args.command.is_none() => Some(args.run.threads),
        Command::Resume(args) => Some(args.threads),
        Command::Classify { command: ClassifyCommand::Train(args) } => Some(args.run.threads),
        Command::Score(_) => Some(None),
        Command::Embed { command: EmbedCommand::Train(args) } => Some(args.threads),
        _ => None,
    }
}

/// Meets the processes that a launcher started together with this one. In the first one it returns `None`; in the others, once their part has ended.
pub(crate) fn join(command: &Command) -> Result<Option<()>, Failure> {
    // The processes of a sweep share its folder, and send each other no messages.
    if launched_processes() == 1 || matches!(command, Command::Sweep(_)) {
        return Ok(None);
    }
    let mut exchange = meet()?;
    let rank = exchange.rank();
    if rank.number == 0 {
        let shared = shared(command).is_some();
        *lock(&COMPANY) = Some(exchange);
        return if shared { Ok(None) } else { alone("this command") };
    }
    interrupt::listen();
    let asked = shared(command).flatten();
    let part = match follow(exchange.as_mut(), asked) {
        Ok(Some(enlisted)) => enlisted.follow(exchange, threads(asked)).map_err(Failure::from),
        Ok(None) => Ok(()),
        Err(failure) => Err(failure),
    };
    part.map(Some).map_err(|failure| failure.of_process(rank.number))
}

/// Refuses work that one process does, if others wait to take part.
pub(crate) fn alone<T: Default>(work: &str) -> Result<T, Failure> {
    if lock(&COMPANY).is_none() {
        return Ok(T::default());
    }
    Err(Failure::with_remedy(format!("{work} is done by one process"), "start it without a launcher"))
}

/// Lets the other processes go, if no training did.
pub(crate) fn dismiss() {
    drop(lock(&COMPANY).take());
}

/// Waits until all processes have come to their end. Without it, the launcher ends those that are left.
pub(crate) fn part() {
    drop(lock(&MEETING).take());
}

fn lock<T>(held: &'static Mutex<Option<T>>) -> std::sync::MutexGuard<'static, Option<T>> {
    held.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

#[cfg(not(feature = "mpi"))]
fn meet() -> Result<Box<dyn Exchange<f32>>, Failure> {
    Err(Failure::with_remedy(
        format!(
            "{} processes were started together, and this program cannot exchange messages",
            launched_processes()
        ),
        "build it with `cargo build --release --features mpi`, or start it without a launcher",
    ))
}

#[cfg(feature = "mpi")]
fn meet() -> Result<Box<dyn Exchange<f32>>, Failure> {
    use lalograph_net::step::processes::Processes;
    use lalograph_parallel::{Messages, launched_as};

    let met = Messages::meet(|gone| {
        // One of those that are left speaks.
        if launched_as() == usize::from(gone == 0) {
            crate::output::screen::write_err(&format!(
                "error: process {gone} is gone, and the training with it\ntry: `lalograph resume` continues from its last checkpoint, with any number of processes"
            ));
        }
        #[expect(clippy::disallowed_methods, reason = "the others can no longer be reached")]
        std::process::exit(1);
    });
    let (meeting, messages) = met.map_err(Failure::work)?;
    *lock(&MEETING) = Some(Box::new(meeting));
    Ok(Box::new(Processes::new(messages)))
}

/// Refuses more processes than there are lanes, before anything is made. `key` is the setting to raise.
pub(crate) fn check_lanes(lanes: usize, key: &str) -> Result<(), Failure> {
    let count = lock(&COMPANY).as_ref().map_or(1, |exchange| exchange.rank().count);
    if count <= lanes {
        return Ok(());
    }
    Err(Failure::with_remedy(
        format!("{count} processes for {}", counted(lanes as u64, "lane", "lanes")),
        format!("raise {key} (results depend on it through rounding), or start fewer processes"),
    ))
}

/// Lanes of a training.
pub(crate) fn lanes_of(plan: &Plan) -> usize {
    plan.training.lanes.min(plan.training.batch)
}

/// Has all processes train a run together: those that a launcher started, or only this one.
pub(crate) fn enlist(
    running: Running,
    plan: &Plan,
    files: Vec<(&'static str, String)>,
    screen: &Screen,
) -> Result<Running, Failure> {
    let Some(mut exchange) = lock(&COMPANY).take() else { return Ok(running) };
    let tokens = running.run.path().parent().map(|runs| runs.join(files::TOKENS));
    let training = Training {
        plan: plan.to_toml()?,
        description: running.description.clone(),
        files: files.into_iter().map(|(name, text)| (name.to_owned(), text)).collect(),
        tokens: tokens.map(|tokens| std::path::absolute(&tokens).unwrap_or(tokens)),
    };
    announce(exchange.as_mut(), Work::Training(Box::new(training)))?;
    let (count, of) = (exchange.rank().count, counted(lanes_of(plan) as u64, "lane", "lanes"));
    screen.note(&format!("{count} processes share the {of} of each batch"));
    Ok(Running { exchange, ..running })
}

/// Has all processes read documents for a score together; this process alone, if no others were started.
pub(crate) fn enlist_for_scoring(screen: &Screen) -> Result<Box<dyn Exchange<f32>>, Failure> {
    enlist_for(Work::Scoring, "documents", screen)
}

/// Has all processes learn word vectors together; this process alone, if no others were started.
pub(crate) fn enlist_for_vectors(screen: &Screen) -> Result<Box<dyn Exchange<f32>>, Failure> {
    enlist_for(Work::Vectors, "lanes", screen)
}

fn enlist_for(work: Work, of: &str, screen: &Screen) -> Result<Box<dyn Exchange<f32>>, Failure> {
    let Some(mut exchange) = lock(&COMPANY).take() else { return Ok(Box::new(OneProcess::default())) };
    announce(exchange.as_mut(), work)?;
    screen.note(&format!("{} processes share the {of}", exchange.rank().count));
    Ok(exchange)
}

/// Says what all do, and hears whether they can.
fn announce(exchange: &mut dyn Exchange<f32>, work: Work) -> Result<(), Failure> {
    let word = Enlistment { program: program()?, work };
    exchange.lead(&serde_json::to_vec(&word).map_err(Failure::work)?);
    let answers = exchange.gather(&[]);
    match answers.iter().enumerate().find(|(_, answer)| !answer.is_empty()) {
        Some((rank, answer)) => {
            Err(Failure::work(format!("process {rank}: {}", String::from_utf8_lossy(answer))))
        }
        None => Ok(()),
    }
}

/// Work that this process is ready for.
enum Enlisted {
    Language(Box<LanguageTask>),
    Classifier(Box<PreparedClassifier>),
    Scoring,
    Vectors,
}

impl Enlisted {
    fn follow(&self, mut exchange: Box<dyn Exchange<f32>>, threads: usize) -> Result<(), LabError> {
        let stops = &interrupt::asked;
        match self {
            Self::Language(task) => lalograph_lab::follow(task, exchange, threads, stops),
            Self::Classifier(task) => follow_classifier(task, exchange, threads, stops),
            Self::Scoring => follow_scoring(exchange, threads, stops),
            Self::Vectors => follow_vectors(exchange.as_mut(), threads, stops),
        }
    }
}

/// Waits until the first process enlists this one, and reads what it needs; `None` if there is none, or it cannot begin.
fn follow(exchange: &mut dyn Exchange<f32>, asked: Option<u16>) -> Result<Option<Enlisted>, Failure> {
    let Some(word) = exchange.follow() else { return Ok(None) };
    let enlisted = enlisted(&word, threads(asked));
    let answer = enlisted.as_ref().err().map(Failure::what).unwrap_or_default();
    let answers = exchange.gather(answer.as_bytes());
    // The first process says what is wrong, wherever it is.
    Ok(enlisted.ok().filter(|_| answers.iter().all(Vec::is_empty)))
}

/// The hash of the file of this program: other programs may add up in another order.
fn program() -> Result<String, Failure> {
    let mut hash = blake3::Hasher::new();
    std::io::copy(&mut std::fs::File::open(std::env::current_exe()?)?, &mut hash)?;
    Ok(hash.finalize().to_hex().to_string())
}

/// Gets ready for what the first process announces.
fn enlisted(word: &[u8], threads: usize) -> Result<Enlisted, Failure> {
    let own = program()?;
    let announced = serde_json::from_slice(word).ok().filter(|word: &Enlistment| word.program == own);
    match announced.map(|word| word.work) {
        None => Err(Failure::work("its program is another one than that of process 0")),
        Some(Work::Scoring) => Ok(Enlisted::Scoring),
        Some(Work::Vectors) => Ok(Enlisted::Vectors),
        Some(Work::Training(training)) => training.prepare(threads),
    }
}

impl Training {
    /// Reads what the first process trains.
    fn prepare(self, threads: usize) -> Result<Enlisted, Failure> {
        let Self { plan, description, files, tokens } = self;
        let folder = tempfile::tempdir()?;
        let text = serde_json::to_string(&description).map_err(Failure::work)?;
        let all =
            files.into_iter().chain([("run.json".to_owned(), text), ("plan.toml".to_owned(), plan.clone())]);
        for (name, text) in all {
            files::write(&folder.path().join(name), text.as_bytes(), lalograph_storage::Existing::Keep)?;
        }
        let run = RunFolder::open(folder.path())?;
        let plan = Plan::from_toml(&plan, &[])?;
        let base = description.working_folder.as_deref().filter(|base| base.is_dir());
        let storage = files::storage();
        let cache = tokens.as_deref().map(|path| TokenCache { storage: &*storage, path });
        let observer = &mut |_: &PreparationEvent<'_>| interrupt::flow();
        let enlisted = if description.task == PreparedClassifier::KIND {
            prepare_classifier_again(&run, &plan, base, threads, observer)
                .map(|task| Enlisted::Classifier(Box::new(task)))
        } else {
            prepare_again(&run, &plan, base, threads, cache, observer)
                .map(|task| Enlisted::Language(Box::new(task)))
        };
        // The folder of the run is one that only this process sees.
        enlisted.map_err(|error| match error {
            LabError::Changed { what, .. } => {
                Failure::work(format!("its {what} is another one than that of process 0"))
            }
            error => error.into(),
        })
    }
}
