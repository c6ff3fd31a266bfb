//! `converse`: a conversation with a model, or of two voices with each other.

mod dialogue;
mod lines;
mod orders;
mod voice;

use std::collections::VecDeque;

use dialogue::{Dialogue, Line, person_lines};
use lines::Lines;
use orders::{Order, Settings, order};
use voice::{Turn, Voice};

use crate::cli::ConverseArgs;
use crate::commands::input::say_unknown_words;
use crate::failure::Failure;
use crate::interrupt;
use crate::output::palette::ASH;
use crate::output::screen::Screen;

/// Runs the command.
pub(crate) fn run(args: &ConverseArgs, screen: &Screen) -> Result<(), Failure> {
    let settings = Settings::of(args);
    let dialogue = Dialogue::begin(args)?;
    match args.turns {
        Some(turns) => two_voices(args, turns, settings, dialogue, screen),
        None => with_a_person(args, settings, dialogue, screen),
    }
}

/// A person's lines and the model's turns.
fn with_a_person(
    args: &ConverseArgs,
    mut settings: Settings,
    mut dialogue: Dialogue,
    screen: &Screen,
) -> Result<(), Failure> {
    let mut voice = Voice::new(&args.model)?;
    settings.check(voice.vocabulary())?;
    let mut replayed: VecDeque<Line> = match &args.replay {
        Some(path) => person_lines(path)?.into(),
        None => VecDeque::new(),
    };
    let mut lines = Lines::new(args.replay.is_none(), screen);
    if lines.is_edited() {
        screen.note(&format!(
            "{}. Lines that begin with : are commands; :help lists them. Ctrl-D ends.",
            voice.what_it_does()
        ));
    }
    interrupt::listen();
    let mut turn = 0;
    if !args.from.is_empty() {
        replayed.push_front(Line::of_person(&args.from, &settings));
    }
    loop {
        let text = match replayed.pop_front() {
            Some(line) => {
                settings = line.settings.unwrap_or(settings);
                if !args.json {
                    screen.line(&screen.styled(ASH.style(), &line.text))?;
                }
                line.text
            }
            None if args.replay.is_some() => break,
            None => match lines.next()? {
                Some(text) => text,
                None => break,
            },
        };
        let again = match order(&text, &mut settings, voice.vocabulary()) {
            Order::Say => {
                dialogue.add(Line::of_person(&text, &settings))?;
                turn += 1;
                false
            }
            Order::Again if voice.has_spoken() => {
                dialogue.add(Line::of_person(&text, &settings))?;
                true
            }
            Order::Again => {
                screen.note("there is no answer to take again yet");
                continue;
            }
            Order::Forget => {
                voice.forget();
                dialogue.add(Line::of_person(&text, &settings))?;
                continue;
            }
            Order::Save(path) => {
                match dialogue.save_as(&path) {
                    Ok(()) => screen.note(&format!("written: {}", path.display())),
                    Err(failure) => screen.error(&failure.what()),
                }
                continue;
            }
            Order::Said(text) => {
                screen.note(&text);
                continue;
            }
            Order::End => break,
        };
        let said = if again {
            voice.again(&settings, turn, |piece| spoken(piece, args, screen))
        } else {
            voice.answer(&text, &settings, turn, |piece| spoken(piece, args, screen))
        }?;
        let line = Line::of_model(&voice.name, &said, &settings);
        finish_turn(&said, &line, args, screen)?;
        dialogue.add(line)?;
        if interrupt::asked() {
            break;
        }
    }
    ended(&dialogue)
}

/// Two voices that take turns.
fn two_voices(
    args: &ConverseArgs,
    turns: u64,
    settings: Settings,
    mut dialogue: Dialogue,
    screen: &Screen,
) -> Result<(), Failure> {
    let first = Voice::new(&args.model)?;
    let second = match &args.with {
        Some(path) => Voice::new(path)?,
        None => first.twin(),
    };
    let names: Vec<String> = match &args.names[..] {
        [] => vec!["first".into(), "second".into()],
        [one, other] if one != other => vec![one.clone(), other.clone()],
        _ => return Err(Failure::Usage("--names needs two different names, such as Ann,Ben".into())),
    };
    let others = settings.with_temperature(args.with_temperature.or(args.decoding.temperature));
    settings.check(first.vocabulary())?;
    others.check(second.vocabulary())?;
    interrupt::listen();
    let mut voices = [(first, settings), (second, others)];
    let mut said = args.from.clone();
    if !said.is_empty() {
        dialogue.add(Line::of_person(&said, &voices[0].1))?;
        if !args.json {
            screen.line(&said)?;
        }
    }
    for turn in 1..=turns {
        let number = usize::from(turn % 2 == 0);
        let (voice, settings) = &mut voices[number];
        if !args.json {
            screen.print(&format!("{} ", screen.styled(ASH.style(), &format!("{}:", names[number]))))?;
        }
        let spoke = voice.answer(&said, settings, turn, |piece| spoken(piece, args, screen))?;
        let line = Line::of_model(&names[number], &spoke, settings);
        finish_turn(&spoke, &line, args, screen)?;
        dialogue.add(line)?;
        said = spoke.text;
        if interrupt::asked() {
            break;
        }
    }
    ended(&dialogue)
}

/// Prints a piece of a turn as it comes; `false` stops the turn.
fn spoken(piece: &str, args: &ConverseArgs, screen: &Screen) -> bool {
    (args.json || screen.print(piece).is_ok()) && !interrupt::asked()
}

/// Ends the line of a turn, or prints it as JSON.
fn finish_turn(turn: &Turn, line: &Line, args: &ConverseArgs, screen: &Screen) -> Result<(), Failure> {
    if args.json {
        screen.json(line)?;
    } else {
        screen.print("\n")?;
    }
    say_unknown_words(&turn.unknown, screen);
    Ok(())
}

/// How a conversation ends: an interruption says where the dialogue is.
fn ended(dialogue: &Dialogue) -> Result<(), Failure> {
    if interrupt::asked() {
        let place = dialogue.path().map(|path| format!("; dialogue in {}", path.display()));
        return Err(Failure::Interrupted(format!("stopped{}", place.unwrap_or_default())));
    }
    Ok(())
}
