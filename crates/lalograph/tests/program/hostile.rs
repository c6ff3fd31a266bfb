//! Damaged and hostile files of every kind, given to the program under a limit of memory: it answers each with a status and a sentence.
//!
//! The long form: `LALOGRAPH_INPUTS=50000 cargo test --release -p lalograph --test program -- --ignored hostile --nocapture`; `LALOGRAPH_SEED`
//! chooses other damage.

use std::collections::BTreeMap;
use std::io::{Read, Write};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::common::Workshop;

/// Kilobytes of memory that a command may have; a file that asks for more is to be refused, not obeyed.
const MEMORY: u64 = 3_000_000;
/// What takes longer hangs.
const LONGEST: Duration = Duration::from_secs(60);

/// A stream of numbers (Steele, Lea and Flood, 2014).
struct Chance(u64);

impl Chance {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut x = self.0;
        x = (x ^ (x >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        x = (x ^ (x >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        x ^ (x >> 31)
    }

    fn below(&mut self, bound: usize) -> usize {
        (self.next() % bound.max(1) as u64) as usize
    }
}

/// What stands in place of a number.
const NUMBERS: [&str; 12] = [
    "0",
    "-1",
    "1e999",
    "9223372036854775808",
    "18446744073709551615",
    "99999999999999999999999",
    "0.1",
    "null",
    "\"\"",
    "[]",
    "{}",
    "4294967296",
];

/// A file with one to four things done to it.
fn damaged(whole: &[u8], chance: &mut Chance) -> Vec<u8> {
    let mut bytes = whole.to_vec();
    for _ in 0..=chance.below(4) {
        let at = chance.below(bytes.len());
        let length = chance.below(64).min(bytes.len().saturating_sub(at));
        match chance.below(9) {
            0 => bytes.truncate(at),
            1 if !bytes.is_empty() => bytes[at] ^= 1 << chance.below(8),
            2 if !bytes.is_empty() => bytes[at] = [0, 0xff, b'"', b'{', b'\n', 0x1b, b'-'][chance.below(7)],
            3 => drop(bytes.drain(at..at + length)),
            4 => {
                let part = bytes[at..at + length].to_vec();
                let to = chance.below(bytes.len() + 1);
                bytes.splice(to..to, part);
            }
            5 => {
                let noise: Vec<u8> = (0..length).map(|_| chance.next() as u8).collect();
                bytes.splice(at..at + length, noise);
            }
            6 | 7 => {
                // A number is another.
                let from = bytes[at..].iter().position(u8::is_ascii_digit).map(|found| at + found);
                if let Some(from) = from {
                    let end = bytes[from..]
                        .iter()
                        .position(|b| !b.is_ascii_digit())
                        .map_or(bytes.len(), |n| from + n);
                    bytes.splice(from..end, NUMBERS[chance.below(NUMBERS.len())].bytes());
                }
            }
            _ if bytes.len() >= 8 => {
                let from = at.min(bytes.len() - 8);
                bytes[from..from + 8].copy_from_slice(&[0xff; 8]);
            }
            _ => bytes.clear(),
        }
    }
    bytes
}

/// A file, and the command that reads it.
struct Reader {
    name: &'static str,
    /// The file that is damaged, from the workshop's folder; it is put back afterwards.
    file: &'static str,
    words: &'static str,
    /// What the command makes and is to be gone before it is called again.
    made: &'static [&'static str],
}

const READERS: [Reader; 23] = [
    Reader { name: "plan", file: "plan.toml", words: "plan check plan.toml", made: &[] },
    Reader { name: "plan of a run", file: "runs/one/plan.toml", words: "runs show one", made: &[] },
    Reader {
        name: "plan, cost",
        file: "plan.toml",
        words: "plan cost --plan plan.toml --no-measure",
        made: &[],
    },
    Reader { name: "vocabulary", file: "words.json", words: "vocab show words.json", made: &[] },
    Reader {
        name: "vocabulary, merged",
        file: "merged.json",
        words: "vocab encode merged.json hive",
        made: &[],
    },
    Reader {
        name: "split",
        file: "split.json",
        words: "split letters.txt --document line --by split.json",
        made: &[],
    },
    Reader {
        name: "model",
        file: "runs/one/one.safetensors",
        words: "sample runs/one --tokens 5",
        made: &[],
    },
    Reader {
        name: "model, scored",
        file: "runs/one/one.safetensors",
        words: "score runs/one letters.txt --document line --first 5",
        made: &[],
    },
    Reader {
        name: "checkpoint",
        file: "runs/one/checkpoints/step-0000000006.safetensors",
        words: "resume one --steps 6",
        made: &[],
    },
    Reader {
        name: "metrics",
        file: "runs/one/metrics.jsonl",
        words: "runs report one --output report",
        made: &["report"],
    },
    Reader { name: "samples", file: "runs/one/samples.jsonl", words: "runs show one", made: &[] },
    Reader {
        name: "flow",
        file: "runs/one/flow.jsonl",
        words: "runs report one --output report",
        made: &["report"],
    },
    Reader {
        name: "description",
        file: "runs/one/run.json",
        words: "runs report one --output report",
        made: &["report"],
    },
    Reader { name: "description, listed", file: "runs/one/run.json", words: "runs list", made: &[] },
    Reader { name: "vectors", file: "v.safetensors", words: "embed near v.safetensors hive", made: &[] },
    Reader { name: "vectors as text", file: "v.txt", words: "embed near v.txt hive", made: &[] },
    Reader {
        name: "similarity",
        file: "pairs.tsv",
        words: "embed judge v.txt --similarity pairs.tsv",
        made: &[],
    },
    Reader {
        name: "analogies",
        file: "questions.txt",
        words: "embed judge v.txt --analogies questions.txt",
        made: &[],
    },
    Reader {
        name: "table",
        file: "table.csv",
        words: "survey table.csv --text text --label kind",
        made: &[],
    },
    Reader {
        name: "JSON Lines",
        file: "lines.jsonl",
        words: "survey lines.jsonl --text text --label kind",
        made: &[],
    },
    Reader { name: "text", file: "letters.txt", words: "survey letters.txt --document line", made: &[] },
    Reader {
        name: "gzip",
        file: "letters.txt.gz",
        words: "survey letters.txt.gz --document line",
        made: &[],
    },
    Reader {
        name: "Zstandard",
        file: "letters.txt.zst",
        words: "survey letters.txt.zst --document line",
        made: &[],
    },
];

fn workshop() -> Workshop {
    let workshop = Workshop::new();
    let lines: String =
        (0..150).map(|i| format!("the hive {} hums {i} times, na\u{ef}vely.\n", i % 7)).collect();
    workshop.write("letters.txt", &lines);
    let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    packed.write_all(lines.as_bytes()).unwrap();
    workshop.write("letters.txt.gz", packed.finish().unwrap());
    workshop.write("letters.txt.zst", ZSTANDARD);
    let rows: String = (0..40).map(|i| format!("\"hive, {i}\",kind{}\n", i % 3)).collect();
    workshop.write("table.csv", format!("text,kind\n{rows}"));
    let objects: String =
        (0..40).map(|i| format!("{{\"text\": \"hive {i}\", \"kind\": \"k{}\"}}\n", i % 3)).collect();
    workshop.write("lines.jsonl", objects);
    workshop.write("v.txt", "4 3\nhive 1 2 3\nmill 3 2 1\nbee -1 0 1\nwax 0.5 0 2\n");
    workshop.write("pairs.tsv", "hive\tmill\t3.5\nbee\twax\t1\nhive\tbee\t2\n");
    workshop.write("questions.txt", "# kinds\nhive mill bee wax\nmill hive wax bee\n");
    let train = "--document line --embedding 4 --hidden 6 --steps 6 --batch 2 --window 8 --validate-every 3 --sample-tokens 5 --checkpoint-every 6";
    workshop.run(&format!("train letters.txt --name one {train}")).ok();
    workshop.run("plan new --all --output plan.toml").ok();
    workshop.run("vocab build letters.txt --output words.json").ok();
    workshop.run("vocab build letters.txt --unit byte-pair --vocab-size 280 --output merged.json").ok();
    workshop.run("split letters.txt --document line --output split.json").ok();
    workshop.run("embed train letters.txt --document line --dimensions 4 --output v.safetensors").ok();
    workshop
}

/// A Zstandard frame of one raw block: "hive hive hive bees" and a line end.
const ZSTANDARD: &[u8] = &[
    0x28, 0xb5, 0x2f, 0xfd, 0x20, 20, 0xa1, 0, 0, b'h', b'i', b'v', b'e', b' ', b'h', b'i', b'v', b'e', b' ',
    b'h', b'i', b'v', b'e', b' ', b'b', b'e', b'e', b's', b'\n',
];

/// Runs a command under the limit; its status and what it said, or none if it hangs.
fn limited(workshop: &Workshop, words: &str) -> Option<(i32, String)> {
    let mut command = Command::new("sh");
    command
        .args(["-c", &format!("ulimit -v {MEMORY}; exec \"$0\" \"$@\""), env!("CARGO_BIN_EXE_lalograph")])
        .args(words.split(' '))
        .current_dir(workshop.path(""))
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::piped());
    let mut child = command.spawn().unwrap();
    let mut stream = child.stderr.take().unwrap();
    let reader = std::thread::spawn(move || {
        let mut said = Vec::new();
        let _ = stream.read_to_end(&mut said);
        String::from_utf8_lossy(&said).into_owned()
    });
    let begun = Instant::now();
    let status = loop {
        if let Some(status) = child.try_wait().unwrap() {
            break status;
        }
        if begun.elapsed() > LONGEST {
            child.kill().unwrap();
            child.wait().unwrap();
            return None;
        }
        std::thread::sleep(Duration::from_millis(1));
    };
    // A signal is no answer.
    Some((status.code().unwrap_or(-1), reader.join().unwrap()))
}

/// Gives the program so many damaged files of every kind; what came of them, by kind and status.
fn campaign(inputs: usize, seed: u64) -> BTreeMap<(&'static str, i32), usize> {
    let workshop = workshop();
    let mut chance = Chance(seed);
    let mut counts = BTreeMap::new();
    let mut wrong = Vec::new();
    // A run that is gone on with changes: each damage is done to the run as it was.
    let runs = copied(&workshop.path("runs"));
    for number in 0..inputs {
        let reader = &READERS[number % READERS.len()];
        let path = workshop.path(reader.file);
        let whole = std::fs::read(&path).unwrap();
        let bytes = damaged(&whole, &mut chance);
        workshop.write(reader.file, &bytes);
        let answer = limited(&workshop, reader.words);
        let fine = answer.as_ref().is_some_and(|(status, said)| {
            let spoken = *status == 0 || said.contains("error:");
            (0..=2).contains(status) && spoken && !said.contains("panicked")
        });
        if !fine {
            let kept = std::env::temp_dir().join(format!("lalograph-hostile-{seed}-{number}"));
            std::fs::File::create(&kept).unwrap().write_all(&bytes).unwrap();
            wrong.push(format!("{}: {answer:?}; the file is {}", reader.name, kept.display()));
        }
        *counts.entry((reader.name, answer.map_or(-2, |(status, _)| status))).or_default() += 1;
        workshop.write(reader.file, &whole);
        for made in reader.made {
            let _ = std::fs::remove_dir_all(workshop.path(made));
        }
        if reader.file.starts_with("runs/") {
            put_back(&runs, &workshop.path("runs"));
        }
    }
    assert!(wrong.is_empty(), "{} of {inputs}:\n{}", wrong.len(), wrong.join("\n"));
    counts
}

/// All files below a folder.
fn copied(folder: &Path) -> BTreeMap<std::path::PathBuf, Vec<u8>> {
    let mut found = BTreeMap::new();
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            found.extend(copied(&path));
        } else {
            found.insert(path.clone(), std::fs::read(&path).unwrap());
        }
    }
    found
}

fn put_back(files: &BTreeMap<std::path::PathBuf, Vec<u8>>, folder: &Path) {
    std::fs::remove_dir_all(folder).unwrap();
    for (path, bytes) in files {
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::File::create(path).unwrap().write_all(bytes).unwrap();
    }
}

#[test]
fn damaged_files_of_every_kind_are_answered() {
    let counts = campaign(230, 1);
    assert!(counts.keys().any(|(_, status)| *status == 1), "{counts:?}");
}

#[test]
#[ignore = "takes minutes"]
fn hostile_files_by_the_thousand() {
    let number = |name: &str, usual: u64| {
        std::env::var(name).map_or(usual, |value| value.parse().unwrap_or_else(|_| panic!("{name}: {value}")))
    };
    let counts = campaign(number("LALOGRAPH_INPUTS", 5_000) as usize, number("LALOGRAPH_SEED", 2));
    for ((name, status), count) in counts {
        println!("{name}: status {status}: {count}");
    }
}
