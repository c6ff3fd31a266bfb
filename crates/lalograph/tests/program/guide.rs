//! The guide: every command of its pages works on the demo as typed, and prints what the page shows.
//!
//! A block that begins with ` ```console` holds commands after `$ `, each with its output below. Outputs must be equal line by line; a line `…`
//! stands in for any number of lines. ` ```console varies` holds commands whose output depends on the machine or the time: they must succeed.
//! ` ```console fails` holds commands that must fail with the errors shown. With `UPDATE_PAGES=1` the outputs are written into the pages.

use std::fmt::Write as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use crate::common::{Workshop, demo, program};

/// Where the pages are.
fn folder() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/guide")
}

/// A part of a page.
enum Part {
    /// Lines that are no commands.
    Prose(String),
    /// The fence of a block, and its commands with the outputs that are shown.
    Block(String, Vec<(String, String)>),
}

fn parts(page: &str) -> Vec<Part> {
    let mut parts = vec![Part::Prose(String::new())];
    let mut inside = false;
    for line in page.lines() {
        if inside && line == "```" {
            inside = false;
            parts.push(Part::Prose(format!("{line}\n")));
        } else if line.starts_with("```console") {
            inside = true;
            parts.push(Part::Block(line.to_owned(), Vec::new()));
        } else {
            match parts.last_mut() {
                Some(Part::Block(_, commands)) => match (line.strip_prefix("$ "), commands.last_mut()) {
                    (Some(command), _) => commands.push((command.to_owned(), String::new())),
                    (None, Some((_, output))) => writeln!(output, "{line}").unwrap(),
                    (None, None) => panic!("output without a command: {line}"),
                },
                Some(Part::Prose(text)) => writeln!(text, "{line}").unwrap(),
                None => unreachable!("there is always a part"),
            }
        }
    }
    assert!(!inside, "a block has no end");
    parts
}

/// Whether an output is the one shown, in which a line `…` stands in for any number of lines.
fn is_as_shown(shown: &[&str], output: &[&str]) -> bool {
    match shown.split_first() {
        None => output.is_empty(),
        Some((&"…", rest)) => (0..=output.len()).any(|skipped| is_as_shown(rest, &output[skipped..])),
        Some((line, rest)) => {
            output.split_first().is_some_and(|(first, more)| first == line && is_as_shown(rest, more))
        }
    }
}

/// Runs a command line of the guide in a workshop; its status, standard output and standard error.
fn run(workshop: &Workshop, command: &str) -> (bool, String, String) {
    let path = format!("{}:{}", workshop.path("bin").display(), std::env::var("PATH").unwrap());
    let output = Command::new("sh")
        .args(["-c", command])
        .current_dir(workshop.path("."))
        .env("PATH", path)
        .stdin(Stdio::null())
        .output()
        .unwrap();
    let text = |bytes| String::from_utf8(bytes).unwrap();
    (output.status.success(), text(output.stdout), text(output.stderr))
}

/// A workshop with a copy of the demo, and the program on its path.
fn workshop() -> Workshop {
    let workshop = Workshop::new();
    let copied = Command::new("cp").arg("-a").arg(demo()).arg(workshop.path("thornmere")).status();
    assert!(copied.unwrap().success());
    std::fs::create_dir(workshop.path("bin")).unwrap();
    std::os::unix::fs::symlink(program(), workshop.path("bin/lalograph")).unwrap();
    workshop
}

/// Tries a page; gives it with the outputs that came.
fn tried(name: &str, page: &str, wrong: &mut Vec<String>) -> String {
    let workshop = workshop();
    let mut written = String::new();
    for part in parts(page) {
        let (fence, commands) = match part {
            Part::Prose(text) => {
                written.push_str(&text);
                continue;
            }
            Part::Block(fence, commands) => (fence, commands),
        };
        writeln!(written, "{fence}").unwrap();
        for (command, shown) in commands {
            let (done, out, err) = run(&workshop, &command);
            let (must_fail, varies) = (fence.ends_with(" fails"), fence.ends_with(" varies"));
            let output = if must_fail { &err } else { &out };
            let lines: Vec<&str> = output.trim_end().lines().map(str::trim_end).collect();
            let equal = is_as_shown(&shown.lines().collect::<Vec<_>>(), &lines);
            if done == must_fail || (!varies && !equal) || err.contains("panicked") {
                wrong.push(format!("{name}: $ {command}\n{out}{err}-- shown:\n{shown}"));
            }
            let kept = if equal || varies { shown } else { lines.join("\n") + "\n" };
            writeln!(written, "$ {command}").unwrap();
            written.push_str(if kept.trim().is_empty() { "" } else { &kept });
        }
    }
    written
}

#[test]
fn every_command_of_the_guide_works_as_typed() {
    let mut pages: Vec<PathBuf> =
        std::fs::read_dir(folder()).unwrap().map(|entry| entry.unwrap().path()).collect();
    pages.sort();
    let index = std::fs::read_to_string(folder().join("README.md")).unwrap();
    let mut wrong = Vec::new();
    let mut commands = 0;
    std::thread::scope(|scope| {
        let tries: Vec<_> = pages
            .iter()
            .filter(|path| !path.ends_with("README.md"))
            .map(|path| {
                let name = path.file_name().unwrap().to_str().unwrap().to_owned();
                assert!(index.contains(&format!("({name})")), "{name} is not in the index");
                scope.spawn(move || {
                    let page = std::fs::read_to_string(path).unwrap();
                    assert!(
                        page.lines()
                            .nth(2)
                            .is_some_and(|line| line.ends_with("?*") || line.ends_with("now?*")),
                        "{name} begins with its question"
                    );
                    let mut wrong = Vec::new();
                    let written = tried(&name, &page, &mut wrong);
                    if std::env::var_os("UPDATE_PAGES").is_some() && written != page {
                        std::fs::File::create(path)
                            .and_then(|mut file| std::io::Write::write_all(&mut file, written.as_bytes()))
                            .unwrap();
                    }
                    (page.lines().filter(|line| line.starts_with("$ ")).count(), wrong)
                })
            })
            .collect();
        for done in tries {
            let (of_page, of_page_wrong) = done.join().unwrap();
            commands += of_page;
            wrong.extend(of_page_wrong);
        }
    });
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
    assert!(commands > 60, "{commands} commands");
}

#[test]
fn every_command_of_the_readme_works_as_typed() {
    let page = std::fs::read_to_string(folder().join("../../README.md")).unwrap();
    let jobs = page.lines().filter(|line| line.starts_with("| ") && line.contains("(docs/guide/"));
    let workshop = workshop();
    let mut commands = 0;
    for job in jobs {
        let cells: Vec<&str> = job.split(" | ").collect();
        let spans = cells.get(1).copied().unwrap_or_default().split('`');
        // Names of commands alone are no command lines, and the machine is measured in a test of its own.
        for command in spans.filter(|span| span.starts_with("lalograph ") && *span != "lalograph gauge") {
            let (done, out, err) = run(&workshop, command);
            assert!(done && !err.contains("panicked"), "$ {command}\n{out}{err}");
            commands += 1;
        }
    }
    assert!(commands >= 18, "{commands} commands");
}

#[test]
fn every_hint_is_in_the_page_of_problems() {
    let page = std::fs::read_to_string(folder().join("problems.md")).unwrap();
    let source = std::fs::read_to_string(
        Path::new(env!("CARGO_MANIFEST_DIR")).join("../lalograph-lab/src/training/hints/hint.rs"),
    )
    .unwrap();
    let sentences = source.split_once("impl Display for Hint").unwrap().1;
    let begins: Vec<&str> = sentences
        .lines()
        .filter_map(|line| line.trim().strip_prefix('"'))
        .filter_map(|line| line.split_once(": ").map(|(begin, _)| begin))
        .filter(|begin| !begin.contains('{'))
        .collect();
    assert!(begins.len() >= 8, "{begins:?}");
    for begin in begins {
        assert!(page.contains(&format!("`{begin}`")), "{begin}");
    }
}

#[test]
fn an_ellipsis_line_matches_any_lines() {
    assert!(is_as_shown(&["a", "…", "d"], &["a", "b", "c", "d"]));
    assert!(is_as_shown(&["a", "…"], &["a"]) && is_as_shown(&[], &[]));
    assert!(!is_as_shown(&["a", "…", "d"], &["a", "b"]) && !is_as_shown(&["a"], &["a", "b"]));
}
