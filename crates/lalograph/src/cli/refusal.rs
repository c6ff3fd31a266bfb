//! Errors of the command line in our own words: the error, the nearest name, and the command for help.

use clap::error::{ContextKind, ContextValue, ErrorKind};
use clap::{Command, Error};

/// The lines of an error of the argument parser about these words, without the program's name.
pub(crate) fn refusal<'w>(
    error: &Error,
    definition: &Command,
    words: impl IntoIterator<Item = &'w str>,
) -> String {
    let (command, path) = typed_command(definition, words);
    let mut lines = vec![what(error, &path)];
    if let Some(name) = longer_option(error, command)
        .or_else(|| nearest_command(error, command))
        .or_else(|| suggestion(error))
    {
        lines.push(format!("did you mean `{name}`?"));
    }
    lines.push(format!("help: `{path} --help`"));
    lines.join("\n")
}

/// An option whose first words are what was typed: `--test-share` for `--test`.
fn longer_option(error: &Error, command: &Command) -> Option<String> {
    let typed =
        text(error, ContextKind::InvalidArg).filter(|_| error.kind() == ErrorKind::UnknownArgument)?;
    let start = format!("{}-", typed.strip_prefix("--")?);
    let mut names = command.get_arguments().filter_map(|arg| arg.get_long());
    names.find(|name| name.starts_with(&start)).map(|name| format!("--{name}"))
}

/// The command that takes the fewest letters changed, added, left out or exchanged, if they are few.
fn nearest_command(error: &Error, command: &Command) -> Option<String> {
    let typed = text(error, ContextKind::InvalidSubcommand)?;
    let far = |name: &&str| strsim::damerau_levenshtein(&typed, name);
    let nearest = command.get_subcommands().map(Command::get_name).min_by_key(far)?;
    (far(&nearest) <= 2).then(|| nearest.to_owned())
}

fn text(error: &Error, kind: ContextKind) -> Option<String> {
    match error.get(kind)? {
        ContextValue::String(text) => Some(text.clone()),
        ContextValue::Strings(texts) => Some(texts.join(", ")),
        ContextValue::StyledStr(text) => Some(text.to_string()),
        ContextValue::StyledStrs(texts) => {
            Some(texts.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "))
        }
        ContextValue::Number(number) => Some(number.to_string()),
        _ => None,
    }
}

fn what(error: &Error, command: &str) -> String {
    let of = |kind| text(error, kind).unwrap_or_default();
    let argument = of(ContextKind::InvalidArg);
    let value = of(ContextKind::InvalidValue);
    match error.kind() {
        ErrorKind::UnknownArgument if argument.starts_with('-') => {
            format!("`{command}` has no option `{argument}`")
        }
        ErrorKind::UnknownArgument => format!("`{command}` has no use for `{argument}`"),
        ErrorKind::InvalidSubcommand => {
            format!("`{command}` has no command `{}`", of(ContextKind::InvalidSubcommand))
        }
        ErrorKind::MissingSubcommand => format!("`{command}` needs a command"),
        ErrorKind::InvalidValue if value.is_empty() => format!("`{argument}` needs a value"),
        ErrorKind::InvalidValue => {
            format!("`{value}` is no value of `{argument}`; its values are {}", of(ContextKind::ValidValue))
        }
        ErrorKind::ValueValidation => {
            let why = std::error::Error::source(error).map(ToString::to_string).unwrap_or_default();
            let why = match why.strip_prefix(&format!("{value} ")).unwrap_or(&why) {
                "invalid digit found in string" => "it must be a whole number".to_owned(),
                "invalid float literal" => "it must be a number".to_owned(),
                why => bounds(why).unwrap_or_else(|| why.to_owned()),
            };
            format!("`{value}` is no value of `{argument}`: {why}")
        }
        ErrorKind::MissingRequiredArgument => format!("`{command}` needs {argument}"),
        ErrorKind::ArgumentConflict if of(ContextKind::PriorArg) == argument => {
            format!("`{argument}` can be given only once")
        }
        ErrorKind::ArgumentConflict => {
            format!("`{argument}` cannot be used with {}", of(ContextKind::PriorArg))
        }
        ErrorKind::TooManyValues => format!("`{argument}` takes no value `{value}`"),
        ErrorKind::TooFewValues | ErrorKind::WrongNumberOfValues => {
            format!(
                "`{argument}` needs {} values, and {} were given",
                text(error, ContextKind::MinValues)
                    .or_else(|| text(error, ContextKind::ExpectedNumValues))
                    .unwrap_or_default(),
                of(ContextKind::ActualNumValues)
            )
        }
        ErrorKind::NoEquals => format!("`{argument}` takes its value after `=`"),
        ErrorKind::InvalidUtf8 => "an argument is not UTF-8".to_owned(),
        _ => error
            .render()
            .to_string()
            .trim_start_matches("error: ")
            .lines()
            .next()
            .unwrap_or_default()
            .to_owned(),
    }
}

/// The words for `is not in 1..=9`, if `why` is such.
fn bounds(why: &str) -> Option<String> {
    let (least, most) = why.strip_prefix("is not in ")?.split_once("..")?;
    Some(match most.strip_prefix('=') {
        Some(most) if most != u64::MAX.to_string() => format!("it must be from {least} to {most}"),
        _ => format!("it must be at least {least}"),
    })
}

fn suggestion(error: &Error) -> Option<String> {
    [ContextKind::SuggestedArg, ContextKind::SuggestedValue, ContextKind::SuggestedSubcommand]
        .into_iter()
        .find_map(|kind| text(error, kind))
        .map(|names| names.split(", ").next().unwrap_or_default().to_owned())
        .filter(|name| !name.is_empty())
}

/// The command that was typed, as far as there is such a command, and its whole name.
fn typed_command<'d, 'w>(
    definition: &'d Command,
    words: impl IntoIterator<Item = &'w str>,
) -> (&'d Command, String) {
    let (mut command, mut path) = (definition, definition.get_name().to_owned());
    for word in words {
        let Some(inner) = command.find_subcommand(word) else {
            continue;
        };
        path = format!("{path} {}", inner.get_name());
        command = inner;
    }
    (command, path)
}

#[cfg(test)]
mod tests {
    use super::refusal;
    use crate::cli::definition;

    fn refused(words: &str) -> String {
        let error = definition().try_get_matches_from(words.split(' ')).unwrap_err();
        refusal(&error, &definition(), words.split(' ').skip(1))
    }

    #[test]
    fn errors_name_the_problem_the_nearest_name_and_the_help() {
        for (words, expected) in [
            (
                "lalograph train x --hiden 3",
                "`lalograph train` has no option `--hiden`\ndid you mean `--hidden`?\nhelp: `lalograph train --help`",
            ),
            (
                "lalograph split x --test 5",
                "`lalograph split` has no option `--test`\ndid you mean `--test-share`?\nhelp: `lalograph split --help`",
            ),
            (
                "lalograph tran x",
                "`lalograph` has no command `tran`\ndid you mean `train`?\nhelp: `lalograph --help`",
            ),
            (
                "lalograph exprot m",
                "`lalograph` has no command `exprot`\ndid you mean `export`?\nhelp: `lalograph --help`",
            ),
            (
                "lalograph survay x",
                "`lalograph` has no command `survay`\ndid you mean `survey`?\nhelp: `lalograph --help`",
            ),
            ("lalograph next m", "`lalograph next` needs <TEXT>\nhelp: `lalograph next --help`"),
            (
                "lalograph sample m --count many",
                "`many` is no value of `--count <N>`: it must be a whole number\nhelp: `lalograph sample --help`",
            ),
            (
                "lalograph sample m --count 0",
                "`0` is no value of `--count <N>`: it must be at least 1\nhelp: `lalograph sample --help`",
            ),
            (
                "lalograph sample m --greedy --temperatures 1",
                "`--greedy` cannot be used with --temperatures <T,T,...>\nhelp: `lalograph sample --help`",
            ),
            (
                "lalograph vocab show m --at",
                "`--at <N,N,...>` needs a value\nhelp: `lalograph vocab show --help`",
            ),
        ] {
            assert_eq!(refused(words), expected, "{words}");
        }
        let cell = refused("lalograph train x --cell lsmt");
        assert!(
            cell.starts_with("`lsmt` is no value of `--cell <CELL>`; its values are plain-tanh, "),
            "{cell}"
        );
        assert!(cell.contains("did you mean `lstm`?"), "{cell}");
    }
}
