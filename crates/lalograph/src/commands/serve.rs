//! `serve`: a service and a page.

use std::path::{Path, PathBuf};
use std::time::Duration;

use lalograph_lab::LabError;
use lalograph_serve::models::{Engine, ServedModel, Shelf};
use lalograph_serve::serve;
use lalograph_serve::settings::{Access, Limits, Settings};

use super::input::threads;
use super::lookup::{check_there, last_part, load_with};
use crate::cli::{LogForm, ServeArgs};
use crate::failure::Failure;
use crate::interrupt;
use crate::output::number::{count, counted};
use crate::output::screen::Screen;

/// Characters of a token of `--token-file`, at least: shorter ones are guessed.
const SHORTEST_TOKEN: usize = 16;

/// Runs the command.
pub(crate) fn run(args: &ServeArgs, screen: &Screen) -> Result<(), Failure> {
    let access = access(args)?;
    if let Some(folder) = &args.runs {
        check_there(folder, "give the folder that `--runs` of `lalograph train` names")?;
        if !folder.is_dir() {
            return Err(Failure::Usage(format!("{}: not a folder of runs", folder.display())));
        }
    }
    if let Some(wrong) = args.allow_origin.iter().find(|origin| !is_origin(origin)) {
        return Err(Failure::Usage(format!(
            "--allow-origin: `{wrong}` is no origin; give scheme and host, such as https://hives.example"
        )));
    }
    let mut shelf = Shelf::default();
    for given in &args.models {
        let (name, path) = named(given)?;
        let model = load_with(&path, |file| ServedModel::load(&name, file))?;
        if !shelf.add(model) {
            return Err(Failure::with_remedy(
                format!("two models have the name `{name}`"),
                "give one of them another name with NAME=PATH",
            ));
        }
    }
    interrupt::listen();
    let limits = Limits {
        body_bytes: args.body_bytes,
        text_bytes: args.text_bytes,
        tokens: args.most_tokens,
        time: Duration::from_secs(args.time),
        side_by_side: args.side_by_side,
        queue: args.queue,
        requests_per_client: args.requests_per_client,
        connections: args.connections,
        patience: Duration::from_secs(args.patience),
        conversations: args.conversations,
        conversation_time: Duration::from_secs(60 * args.conversation_time),
        grace: Duration::from_secs(args.grace),
        ..Limits::default()
    };
    let settings = Settings {
        listen: args.listen,
        access,
        tls: args.certificate.clone().zip(args.key.clone()),
        origins: args.allow_origin.clone(),
        runs: args.runs.clone(),
        threads: threads(args.threads),
        limits,
        log_texts: args.log_texts,
    };
    for model in shelf.all() {
        screen.note(&described(model));
    }
    start_log(args.log);
    let scheme = if settings.tls.is_some() { "https" } else { "http" };
    let mut failed = None;
    let mut listening = |address| {
        // Whoever started it may wait for this line.
        failed = screen.line(&format!("listening at {scheme}://{address}/")).err();
    };
    let ended = serve(shelf, settings, &mut listening, &interrupt::asked)?;
    if let Some(failure) = failed {
        return Err(failure);
    }
    match ended.cut {
        0 => screen.note("ended; all requests were answered"),
        cut => screen.warn(&format!(
            "ended; {} cut after {} seconds (see --grace)",
            counted(cut as u64, "connection was", "connections were"),
            args.grace
        )),
    }
    Ok(())
}

fn access(args: &ServeArgs) -> Result<Access, Failure> {
    let Some(path) = &args.token_file else {
        if !args.open && !args.listen.ip().is_loopback() {
            return Err(Failure::Usage(format!(
                "{} can be reached from other machines; use --token-file FILE, or --open to let in everybody",
                args.listen.ip()
            )));
        }
        return Ok(Access::Open);
    };
    let text = std::fs::read_to_string(path).map_err(LabError::at(path))?;
    let tokens: Vec<String> =
        text.lines().map(str::trim).filter(|line| !line.is_empty()).map(str::to_owned).collect();
    let unfit =
        |token: &String| token.len() < SHORTEST_TOKEN || !token.bytes().all(|byte| byte.is_ascii_graphic());
    let what = match (tokens.is_empty(), tokens.iter().position(unfit)) {
        (true, _) => "no token in it".to_owned(),
        (false, Some(number)) => {
            format!(
                "token {} is shorter than {SHORTEST_TOKEN} characters, or has others than ASCII",
                number + 1
            )
        }
        (false, None) => return Ok(Access::Tokens(tokens)),
    };
    Err(Failure::with_remedy(
        format!("{}: {what}", path.display()),
        "write one token a line, such as the output of `head -c 24 /dev/urandom | base64`",
    ))
}

fn is_origin(text: &str) -> bool {
    text.split_once("://").is_some_and(|(scheme, host)| {
        matches!(scheme, "http" | "https") && !host.is_empty() && !host.contains(['/', '*', ' '])
    })
}

/// The name and the path that an argument means.
fn named(given: &str) -> Result<(String, PathBuf), Failure> {
    let (name, path) = match given.split_once('=') {
        Some((name, path)) if !Path::new(given).exists() => (name.to_owned(), Path::new(path)),
        _ => {
            let part = last_part(Path::new(given));
            let name = part.rsplit_once('.').map_or(part.as_str(), |(name, _)| name);
            (name.to_owned(), Path::new(given))
        }
    };
    let fine = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_' | '.');
    if name.is_empty() || !name.chars().all(fine) {
        return Err(Failure::Usage(format!(
            "`{name}` is no name of a model: use letters, digits, `-`, `_` and `.`, as in bees={}",
            path.display()
        )));
    }
    Ok((name, path.to_owned()))
}

fn described(model: &ServedModel) -> String {
    let card = &model.card;
    let kind = match model.engine {
        Engine::Language(_) => "language model",
        Engine::Classifier(_) => "classifier",
        Engine::Vectors(_) => "word vectors",
    };
    format!("{}: {kind}, {}, {} parameters", card.name, card.network, count(card.parameters))
}

/// Starts the log on standard error.
fn start_log(form: LogForm) {
    let log = tracing_subscriber::fmt().with_writer(std::io::stderr).with_target(false);
    // Only the tests of this program start two in one process.
    let _ = match form {
        LogForm::None => Ok(()),
        LogForm::Lines => log.with_ansi(false).try_init(),
        LogForm::Json => log.json().flatten_event(true).try_init(),
    };
}

#[cfg(test)]
mod tests {
    use super::{is_origin, named};

    #[test]
    fn models_are_named_after_their_files_or_as_asked() {
        let name = |given: &str| named(given).map(|(name, path)| (name, path.display().to_string())).ok();
        let pair = |name: &str, path: &str| Some((name.to_owned(), path.to_owned()));
        assert_eq!(name("runs/demo"), pair("demo", "runs/demo"));
        assert_eq!(name("bees.safetensors"), pair("bees", "bees.safetensors"));
        assert_eq!(name("a=runs/demo"), pair("a", "runs/demo"));
        assert_eq!(name("a b=runs/demo"), None);
        assert_eq!(name("=runs/demo"), None);
    }

    #[test]
    fn origins_are_a_scheme_and_a_host() {
        assert!(is_origin("https://hives.example") && is_origin("http://localhost:81"));
        for wrong in
            ["*", "hives.example", "https://", "https://hives.example/", "ftp://a", "https://*.example"]
        {
            assert!(!is_origin(wrong), "{wrong}");
        }
    }
}
