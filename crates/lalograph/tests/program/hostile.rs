//! Damaged and hostile files of every kind, given to the program under a limit of memory: it answers each with a status and a sentence.
//!
//! The long form is part of the campaign (`docs/limits.md`): `LALOGRAPH_INPUTS` and `LALOGRAPH_SEED` change it.

use std::collections::BTreeMap;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use crate::common::{Chance, Workshop, files_below, number_from, program};

/// Kilobytes of memory that a command may have; a file that asks for more is to be refused, not obeyed.
const MEMORY: u64 = 3_000_000;
/// What takes longer hangs.
const LONGEST: Duration = Duration::from_secs(60);

/// What is in place of a number.
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
    /// The file that is damaged, from the workshop's folder; `*` represents a name that differs from time to time.
    file: &'static str,
    words: &'static str,
    /// What the command makes and is to be gone before it is called again.
    made: &'static [&'static str],
    /// What damage to a sealed file never changes: where the command succeeds this is as it would have been.
    sealed: Option<Sealed>,
}

/// What a command makes of a sealed file.
#[derive(Clone, Copy)]
enum Sealed {
    /// Its output.
    Output,
    /// A file that it writes.
    Written(&'static str),
}

impl Reader {
    const fn new(name: &'static str, file: &'static str, words: &'static str) -> Self {
        Self { name, file, words, made: &[], sealed: None }
    }

    const fn making(self, made: &'static [&'static str]) -> Self {
        Self { made, ..self }
    }

    const fn sealed(self, sealed: Sealed) -> Self {
        Self { sealed: Some(sealed), ..self }
    }
}

const RESUMED: Sealed = Sealed::Written("runs/one/one.safetensors");
const TRAINED: Sealed = Sealed::Written("runs/two/two.safetensors");

const READERS: [Reader; 44] = [
    Reader::new("plan", "plan.toml", "plan check plan.toml"),
    Reader::new("plan, cost", "plan.toml", "plan cost --plan plan.toml --no-measure"),
    Reader::new("plan of a run", "runs/one/plan.toml", "runs show one"),
    Reader::new("plan of a run, resumed", "runs/one/plan.toml", "resume one --steps 8 --quiet")
        .sealed(RESUMED),
    Reader::new("vocabulary", "words.json", "vocab show words.json"),
    Reader::new("vocabulary, merged", "merged.json", "vocab encode merged.json hive"),
    Reader::new("vocabulary, most probable pieces", "pieces.json", "vocab encode pieces.json hive"),
    Reader::new(
        "vocabulary, merged with another",
        "words.json",
        "vocab merge words.json few.json --output both.json",
    )
    .making(&["both.json"]),
    Reader::new("vocabulary of a run", "runs/one/vocabulary.json", "resume one --steps 8 --quiet")
        .sealed(RESUMED),
    Reader::new("split", "split.json", "split letters.txt --document line --apply split.json"),
    Reader::new("store", "runs/.tokens/*/training.tokens", TRAIN_AGAIN).making(&["runs/two"]).sealed(TRAINED),
    Reader::new("store of held-out text", "runs/.tokens/*/validation.tokens", TRAIN_AGAIN)
        .making(&["runs/two"])
        .sealed(TRAINED),
    Reader::new("description of a store", "runs/.tokens/*/encoded.json", TRAIN_AGAIN).making(&["runs/two"]),
    Reader::new("vocabulary of a store", "runs/.tokens/*/vocabulary.json", TRAIN_AGAIN)
        .making(&["runs/two"])
        .sealed(TRAINED),
    Reader::new("model", "runs/one/one.safetensors", "sample runs/one --tokens 5").sealed(Sealed::Output),
    Reader::new(
        "model, scored",
        "runs/one/one.safetensors",
        "score runs/one letters.txt --document line --first 5",
    )
    .sealed(Sealed::Output),
    Reader::new(
        "checkpoint",
        "runs/one/checkpoints/step-0000000006.safetensors",
        "resume one --steps 8 --quiet",
    )
    .sealed(RESUMED),
    Reader::new("model, exported", "runs/one/one.safetensors", "export runs/one --graph text --output one.onnx")
        .making(&["one.onnx"])
        .sealed(Sealed::Written("one.onnx")),
    Reader::new("archive of a run", "one.tar.zst", "runs import one.tar.zst --runs taken")
        .making(&["taken"])
        .sealed(Sealed::Written("taken/one/one.safetensors")),
    Reader::new(
        "tensors from elsewhere",
        "runs/one/one.safetensors",
        "import runs/one/one.safetensors --plan runs/one/plan.toml --vocabulary runs/one/vocabulary.json --output made.safetensors",
    )
    .making(&["made.safetensors"]),
    Reader::new("metrics", "runs/one/metrics.jsonl", "runs report one --output report").making(&["report"]),
    Reader::new("metrics, resumed", "runs/one/metrics.jsonl", "resume one --steps 8 --quiet"),
    Reader::new("samples", "runs/one/samples.jsonl", "runs show one"),
    Reader::new("flow", "runs/one/flow.jsonl", "runs report one --output report").making(&["report"]),
    Reader::new("description", "runs/one/run.json", "runs report one --output report").making(&["report"]),
    Reader::new("description, listed", "runs/one/run.json", "runs list"),
    Reader::new("vectors", "v.safetensors", "embed near v.safetensors hive"),
    Reader::new("vectors as text", "v.txt", "embed near v.txt hive"),
    Reader::new(
        "vectors to start from",
        "v.txt",
        "embed import v.txt --vocabulary-file words.json --output i.safetensors",
    )
    .making(&["i.safetensors"]),
    Reader::new("similarity", "pairs.tsv", "embed judge v.txt --similarity pairs.tsv"),
    Reader::new("analogies", "questions.txt", "embed judge v.txt --analogies questions.txt"),
    Reader::new("table", "table.csv", "survey table.csv --text text --label kind"),
    Reader::new("JSON Lines", "lines.jsonl", "survey lines.jsonl --text text --label kind"),
    Reader::new("text", "letters.txt", "survey letters.txt --document line"),
    Reader::new("text of two bytes a unit", "wide.txt", "survey wide.txt --document line"),
    Reader::new("gzip", "letters.txt.gz", "survey letters.txt.gz --document line"),
    Reader::new("Zstandard", "letters.txt.zst", "survey letters.txt.zst --document line"),
    Reader::new("classifier", "runs/sort/sort.safetensors", "classify predict runs/sort table.csv --json")
        .sealed(Sealed::Output),
    Reader::new(
        "linear classifier",
        "runs/line/line.safetensors",
        "classify predict runs/line table.csv --json",
    )
    .sealed(Sealed::Output),
    Reader::new("split of a classifier", "runs/sort/split.json", "resume sort --steps 8 --quiet")
        .sealed(Sealed::Written("runs/sort/sort.safetensors")),
    Reader::new("plan of a classifier", "runs/sort/plan.toml", "runs show sort"),
    Reader::new("labelled table", "table.csv", "classify score runs/sort table.csv --label kind"),
    Reader::new("ledger of a sweep", "runs/swept/ledger.jsonl", "sweep show swept --output swept")
        .making(&["swept"]),
    Reader::new("description of a sweep", "runs/swept/sweep.json", "sweep show swept --output swept")
        .making(&["swept"]),
];

/// A small run; its tokens are in the folder of runs already.
const TRAIN: &str = "--document line --embedding 4 --hidden 6 --steps 6 --batch 2 --window 8 --validate-every 3 --samples-tokens 5 --checkpoints-every 6 --flow-every 3 --quiet";
const TRAIN_AGAIN: &str = "train letters.txt --name two --document line --embedding 4 --hidden 6 --steps 6 --batch 2 --window 8 --validate-every 3 --samples-tokens 5 --checkpoints-every 6 --flow-every 3 --quiet";

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
    let wide: Vec<u8> =
        std::iter::once(0xfeff).chain(lines.encode_utf16()).flat_map(u16::to_le_bytes).collect();
    workshop.write("wide.txt", wide);
    workshop.run(&format!("train letters.txt --name one {TRAIN}")).ok();
    workshop.run("plan new --all --output plan.toml").ok();
    workshop
        .run("classify train table.csv --label kind --name sort --network pooled --embedding 4 --steps 6 --batch 4 --checkpoints-every 6 --quiet")
        .ok();
    workshop
        .run("classify train table.csv --label kind --name line --network linear --term-choice all --term-pairs 3 --quiet")
        .ok();
    workshop
        .run("sweep runs/one/plan.toml --vary model.hidden=2..9 --method random --trials 5 --seeds 2 --set training.steps=3 --name swept --quiet")
        .ok();
    workshop.run("runs export one --output one.tar.zst").ok();
    workshop.run("vocab build letters.txt --output words.json").ok();
    workshop.run("vocab build letters.txt --unit byte-pair --vocabulary-size 280 --output merged.json").ok();
    workshop.run("vocab build lines.jsonl --text text --output few.json").ok();
    workshop.run("vocab build letters.txt --unit unigram --vocabulary-size 300 --output pieces.json").ok();
    workshop.run("split letters.txt --document line --output split.json").ok();
    workshop.run("embed train letters.txt --document line --dimensions 4 --output v.safetensors").ok();
    workshop
}

/// A Zstandard frame of one raw block: "hive hive hive bees" and a line end.
const ZSTANDARD: &[u8] = &[
    0x28, 0xb5, 0x2f, 0xfd, 0x20, 20, 0xa1, 0, 0, b'h', b'i', b'v', b'e', b' ', b'h', b'i', b'v', b'e', b' ',
    b'h', b'i', b'v', b'e', b' ', b'b', b'e', b'e', b's', b'\n',
];

/// What a command under the limit came to.
#[derive(Debug)]
struct Answer {
    /// A signal is -1, and no answer in time -2.
    status: i32,
    out: String,
    err: String,
}

fn limited(workshop: &Workshop, words: &str) -> Answer {
    let mut command = Command::new("sh");
    command
        .args(["-c", &format!("ulimit -v {MEMORY}; exec \"$0\" \"$@\"")])
        .arg(program())
        .args(words.split(' '))
        .current_dir(workshop.path(""))
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped());
    let mut child = command.spawn().unwrap();
    fn reading(mut stream: impl Read + Send + 'static) -> std::thread::JoinHandle<String> {
        std::thread::spawn(move || {
            let mut output = Vec::new();
            // The output until it was killed is enough.
            let _ = stream.read_to_end(&mut output);
            String::from_utf8_lossy(&output).into_owned()
        })
    }
    let (out, err) = (reading(child.stdout.take().unwrap()), reading(child.stderr.take().unwrap()));
    let started_at = Instant::now();
    let status = loop {
        if let Some(status) = child.try_wait().unwrap() {
            break status.code().unwrap_or(-1);
        }
        if started_at.elapsed() > LONGEST {
            child.kill().unwrap();
            child.wait().unwrap();
            break -2;
        }
        std::thread::sleep(Duration::from_millis(1));
    };
    Answer { status, out: out.join().unwrap(), err: err.join().unwrap() }
}

/// A workshop in which files are damaged, one after the other, and put back.
struct Bench {
    workshop: Workshop,
    whole: BTreeMap<PathBuf, Vec<u8>>,
    /// What sealed files lead to where they are whole, by reader.
    sealed: Vec<Option<Vec<u8>>>,
}

impl Bench {
    fn new() -> Self {
        let workshop = workshop();
        let whole = files_below(&workshop.path(""));
        let mut bench = Self { workshop, whole, sealed: Vec::new() };
        bench.sealed = READERS.iter().map(|reader| bench.undamaged(reader)).collect();
        bench
    }

    /// Everything is as it was at first.
    fn put_back(&self) {
        let mut found = files_below(&self.workshop.path(""));
        for (path, bytes) in &self.whole {
            if found.remove(path).as_ref() != Some(bytes) {
                self.workshop.write(path.to_str().unwrap(), bytes);
            }
        }
        for path in found.keys() {
            std::fs::remove_file(self.workshop.path(path.to_str().unwrap())).unwrap();
        }
        // Folders that are empty now.
        for made in READERS.iter().flat_map(|reader| reader.made) {
            let _ = std::fs::remove_dir_all(self.workshop.path(made));
        }
    }

    fn made_of(&self, sealed: Sealed, answer: &Answer) -> Vec<u8> {
        match sealed {
            Sealed::Output => answer.out.clone().into_bytes(),
            Sealed::Written(path) => std::fs::read(self.workshop.path(path)).unwrap_or_default(),
        }
    }

    fn undamaged(&self, reader: &Reader) -> Option<Vec<u8>> {
        let answer = limited(&self.workshop, reader.words);
        assert_eq!(answer.status, 0, "{}: {answer:?}", reader.name);
        let made = reader.sealed.map(|sealed| self.made_of(sealed, &answer));
        self.put_back();
        made
    }

    /// The path of a reader's file from the workshop's folder.
    fn file_of(&self, reader: &Reader) -> &Path {
        let fits = |path: &&PathBuf| {
            let (parts, wanted) = (path.iter(), Path::new(reader.file).iter());
            parts.clone().count() == wanted.clone().count()
                && parts.zip(wanted).all(|(part, wanted)| wanted == "*" || part == wanted)
        };
        self.whole.keys().find(fits).unwrap()
    }

    /// Damages one file; what is wrong with the answer, and its status.
    fn try_one(&self, number: u64, seed: u64) -> (i32, Option<String>) {
        let which = (number % READERS.len() as u64) as usize;
        let reader = &READERS[which];
        let path = self.file_of(reader);
        let bytes = damaged(&self.whole[path], &mut Chance::of(seed, number));
        self.workshop.write(path.to_str().unwrap(), &bytes);
        let answer = limited(&self.workshop, reader.words);
        let spoken = answer.status == 0 || answer.err.contains("error: ");
        let altered = match (&self.sealed[which], reader.sealed) {
            (Some(expected), Some(sealed)) => {
                answer.status == 0 && self.made_of(sealed, &answer) != *expected
            }
            _ => false,
        };
        let fine = (0..=2).contains(&answer.status) && spoken && !altered && !answer.err.contains("panicked");
        let wrong = (!fine).then(|| {
            let kept = std::env::temp_dir().join(format!("lalograph-hostile-{seed}-{number}"));
            std::fs::File::create(&kept).unwrap().write_all(&bytes).unwrap();
            let what = if altered { "another result" } else { "a wrong answer" };
            format!("{}: {what}: {answer:?}; the file is {}", reader.name, kept.display())
        });
        self.put_back();
        (answer.status, wrong)
    }
}

/// Gives the program so many damaged files of every kind; what came of them, by kind and status.
fn campaign(inputs: u64, seed: u64) -> BTreeMap<(&'static str, i32), usize> {
    let workers = std::thread::available_parallelism().map_or(1, |count| count.get() as u64);
    let next = AtomicU64::new(0);
    let (counts, wrong) = (Mutex::new(BTreeMap::new()), Mutex::new(Vec::new()));
    std::thread::scope(|scope| {
        for _ in 0..workers {
            scope.spawn(|| {
                let bench = Bench::new();
                loop {
                    let number = next.fetch_add(1, Ordering::Relaxed);
                    if number >= inputs {
                        break;
                    }
                    let (status, found) = bench.try_one(number, seed);
                    let name = READERS[(number % READERS.len() as u64) as usize].name;
                    *counts.lock().unwrap().entry((name, status)).or_default() += 1;
                    if let Some(found) = found {
                        println!("{found}");
                        wrong.lock().unwrap().push(found);
                    }
                }
            });
        }
    });
    let (counts, wrong) = (counts.into_inner().unwrap(), wrong.into_inner().unwrap());
    assert!(wrong.is_empty(), "{} of {inputs}:\n{}", wrong.len(), wrong.join("\n"));
    counts
}

#[test]
fn damaged_files_of_every_kind_are_answered() {
    let counts = campaign(238, 1);
    assert!(counts.keys().any(|(_, status)| *status == 1), "{counts:?}");
}

#[test]
#[ignore = "part of the campaign: takes minutes"]
fn campaign_of_damaged_files() {
    let inputs = number_from("LALOGRAPH_INPUTS", 50_000);
    let counts = campaign(inputs, number_from("LALOGRAPH_SEED", 2));
    for ((name, status), count) in counts {
        println!("{name}: status {status}: {count}");
    }
    println!("{inputs} damaged files: no panic, abort, hang, wrong status or altered result");
}
