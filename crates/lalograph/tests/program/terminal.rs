//! Hostile text in a terminal: whatever corpora, file names, labels, tokens and messages hold, the terminal obeys the program alone.

use std::fs::File;
use std::io::Read;
use std::os::unix::ffi::OsStrExt;
use std::process::Stdio;

use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};

use crate::common::Workshop;

/// Writes to the clipboard, rings, colours, asks for the cursor's place, starts a device string, goes back, and the same in one character.
const HOSTILE: &str = "\u{1b}]52;c;aGl2ZQ==\u{7}\u{1b}[31m\u{1b}[6n\u{1b}P1\u{8}\u{7f}\u{9b}2J\u{202e}";

/// The output of the program in a terminal, and its status.
fn in_terminal(workshop: &Workshop, words: &[&str]) -> (Vec<u8>, i32) {
    let master = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY).unwrap();
    grantpt(&master).unwrap();
    unlockpt(&master).unwrap();
    let name = ptsname(&master, Vec::new()).unwrap();
    let path = std::ffi::OsStr::from_bytes(name.as_bytes());
    let open = || Stdio::from(File::options().read(true).write(true).open(path).unwrap());
    let mut child = workshop
        .command()
        .args(words)
        .env("TERM", "xterm-256color")
        .stdin(Stdio::null())
        .stdout(open())
        .stderr(open())
        .spawn()
        .unwrap();
    let mut master = File::from(master);
    let reader = std::thread::spawn(move || {
        let (mut all, mut some) = (Vec::new(), [0; 4096]);
        // The last to close the other end makes this fail.
        while let Ok(count @ 1..) = master.read(&mut some) {
            all.extend_from_slice(&some[..count]);
        }
        all
    });
    let status = child.wait().unwrap().code().unwrap_or(-1);
    (reader.join().unwrap(), status)
}

/// What a terminal would obey and the program does not say by itself: the first, with what is around it.
fn obeyed(bytes: &[u8]) -> Option<String> {
    let text = String::from_utf8_lossy(bytes);
    let own = regex::Regex::new(
        r"^\x1b\[(\?2026[hl]|\?25[hl]|\d*[ABKJ]|[01]m|38;2;(201;123;0|0;95;107|176;78;140|122;114;102|184;58;30)m)",
    )
    .unwrap();
    let mut rest = &text[..];
    while let Some(at) =
        rest.find(|c: char| (c.is_control() && !matches!(c, '\n' | '\r' | '\t')) || c == '\u{202e}')
    {
        match own.find(&rest[at..]) {
            Some(found) => rest = &rest[at + found.end()..],
            None => return Some(rest[at..].chars().take(20).collect()),
        }
    }
    None
}

#[test]
fn nothing_from_outside_is_obeyed_in_any_command() {
    let workshop = Workshop::new();
    let word = HOSTILE;
    let lines: String =
        (0..240).map(|i| format!("the hive{} is {word} of {word}{i} today.\n", i % 7)).collect();
    let text = format!("{word}.txt");
    workshop.write(&text, &lines);
    let rows: String = (0..60).map(|i| format!("hive {i},{word}{}\n", i % 3)).collect();
    workshop.write("table.csv", format!("text,{word}\n{rows}"));
    workshop.write("broken.csv", format!("text,label\n\"{word}\n"));
    workshop.write("vectors.txt", format!("3 2\n{word} 1 2\nhive 2 1\nmill -1 3\n"));
    workshop.write("pairs.tsv", format!("{word}\thive\t3\nhive\tmill\t2\n"));
    workshop.write("questions.txt", format!("# {word}\nhive mill {word} hive\n"));
    workshop.write(
        "plan.toml",
        format!(
            "[model]\n\"{}\" = 3\n",
            word.escape_unicode().to_string().replace("\\u{", "\\U").replace('}', "")
        ),
    );
    let train = "--document line --encoding utf-8 --cell gru --embedding 4 --hidden 6 --steps 6 --batch 2 --window 8 --samples-tokens 20 --validate-every 3 --samples-every 3";
    let corpus = ["--document", "line", "--encoding", "utf-8"];
    let mut commands: Vec<Vec<&str>> = vec![
        [&["train", &text, "--name", "one"], &train.split(' ').collect::<Vec<_>>()[..]].concat(),
        [&["train", &text, "--name", "two", "--json"], &train.split(' ').collect::<Vec<_>>()[..]].concat(),
        [&["train", &text, "--name", word], &train.split(' ').collect::<Vec<_>>()[..]].concat(),
        [&["train", &text, "--name", "three", "--from", word], &train.split(' ').collect::<Vec<_>>()[..]]
            .concat(),
        [&["survey", &text], &corpus[..]].concat(),
        [&["survey", &text, "--json"], &corpus[..]].concat(),
        vec!["survey", "table.csv", "--encoding", "utf-8", "--text", "text", "--label", word],
        vec!["survey", "broken.csv"],
        vec!["survey", "table.csv", "--text", "nothing"],
        [&["survey", &text, "--show-cleaning", "3", "--lower-case"], &corpus[..]].concat(),
        [&["split", &text, "--output", "s.json"], &corpus[..]].concat(),
        vec![
            "split",
            "table.csv",
            "--encoding",
            "utf-8",
            "--text",
            "text",
            "--label",
            word,
            "--output",
            "t.json",
        ],
        [&["vocab", "build", &text, "--output", "words.json"], &corpus[..]].concat(),
        vec!["vocab", "show", "words.json"],
        vec!["vocab", "show", "words.json", "--json"],
        vec!["vocab", "encode", "words.json", word],
        vec!["vocab", "decode", "words.json", "4", "5", "6", "7", "8"],
        [&["vocab", "coverage", &text], &corpus[..]].concat(),
        [&["embed", "train", &text, "--output", "v.safetensors", "--dimensions", "4"], &corpus[..]].concat(),
        vec![
            "embed",
            "import",
            "vectors.txt",
            "--output",
            "i.safetensors",
            "--vocabulary-file",
            "words.json",
        ],
        vec!["embed", "near", "vectors.txt", word, "hive"],
        vec!["embed", "near", "vectors.txt", "nothing-like-it"],
        vec!["embed", "relate", "vectors.txt", word, "hive", "mill"],
        vec!["embed", "judge", "vectors.txt", "--similarity", "pairs.tsv", "--analogies", "questions.txt"],
        vec!["embed", "map", "vectors.txt", "--output", "map", "--layout", "principal"],
        vec![
            "tune",
            "one",
            "table.csv",
            "--encoding",
            "utf-8",
            "--prompt",
            "text",
            "--answer",
            word,
            "--steps",
            "2",
            "--new-tokens",
            "5",
            "--name",
            "tuned",
            "--batch",
            "2",
            "--window",
            "8",
        ],
        vec![
            "tune",
            "compare",
            "one",
            "tuned",
            "--pairs",
            "table.csv",
            "--prompt",
            "text",
            "--answer",
            word,
            "--first",
            "3",
            "--tokens",
            "8",
        ],
        vec!["converse", "tuned", "--turns", "2", "--from", word, "--tokens", "8"],
        vec!["plan", "check", "plan.toml"],
        vec!["plan", "new", word],
        vec!["plan", "cost", "--plan", "runs/one", "--no-measure"],
        vec!["resume", "one", "--steps", "8"],
        vec!["resume", word],
        vec!["runs", "list"],
        vec!["runs", "show", "one"],
        vec!["runs", "compare", "one", "two", "--output", "compared"],
        vec!["runs", "report", "one"],
        vec!["runs", "remove", word],
        vec!["sample", "runs/one", "--tokens", "30"],
        vec!["sample", "runs/one", "--tokens", "30", "--count", "3", "--temperatures", "0.5,1.0"],
        vec!["sample", "runs/one", "--from", word],
        vec!["sample", word],
        vec!["next", "runs/one", "the"],
        [&["score", "runs/one", &text, "--worst", "3"], &corpus[..]].concat(),
        [&["flow", "runs/one", &text], &corpus[..]].concat(),
        vec![word],
        vec!["train", word],
        vec!["train", "--set", word],
    ];
    commands.push(vec!["train", &text, "--split", word]);
    let (mut finished, mut refused) = (0, Vec::new());
    for words in commands {
        let (output, status) = in_terminal(&workshop, &words);
        let shown = String::from_utf8_lossy(&output);
        assert!((0..=2).contains(&status), "{words:?}: {status}\n{shown:?}");
        assert!(!shown.contains("panicked"), "{words:?}: {shown:?}");
        if let Some(found) = obeyed(&output) {
            panic!("{words:?}: {found:?}\n{shown:?}");
        }
        if status == 0 {
            finished += 1;
        } else {
            refused.push(shown.into_owned());
        }
    }
    assert!(finished > 30, "{finished} commands did something; refused were {refused:#?}");
    // Into a file text goes as it is.
    let written = workshop.run("vocab decode words.json 4 5 6 7 8 9 10").ok();
    assert!(written.contains('\u{1b}'), "{written:?}");
}
