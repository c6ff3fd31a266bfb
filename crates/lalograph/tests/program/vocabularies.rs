//! Vocabularies of every unit and the tokens that are kept between runs, through the built program.

use crate::common::{Workshop, workshop_with_demo};
use lalograph_text::coverage::Coverage;
use lalograph_text::vocabulary::Comparison;
use serde_json::Value;

fn json(text: &str) -> Value {
    serde_json::from_str(text).unwrap()
}

#[test]
fn subwords_and_bytes_give_any_text_back_and_models_are_trained_on_them() {
    let workshop = workshop_with_demo();
    let text = "The qu\u{e9}en \u{1f41d}, \u{871c}\u{8702}\n\ttwice  spaced; \u{5d3}\u{5d1}\u{5e9} e\u{301}";
    for (unit, size) in [("byte", "256"), ("byte-pair", "500"), ("unigram", "500")] {
        let name = format!("{unit}.json");
        let build = format!(
            "vocab build thornmere/diaries --document line --unit {unit} --vocabulary-size {size} --cleaning none -o {name}"
        );
        let built = workshop.run(&build).ok();
        assert!(built.contains("+ 4 reserved"), "{built}");
        let indices = workshop.run_words(&["vocab", "encode", &name, "--indices", text]).ok();
        assert!(!indices.split_whitespace().any(|index| index == "1"), "{unit}: nothing is unknown");
        let back = workshop.run_with_input(&["vocab", "decode", &name, "-"], &indices).ok();
        assert_eq!(back, format!("{text}\n"), "{unit}");
        let shown = workshop.run_words(&["vocab", "encode", &name, "\u{871c}"]).ok();
        assert!(shown.contains("\u{2039}e8\u{203a}") && shown.contains("part of a character"), "{shown}");

        let run = format!(
            "train thornmere/diaries --document line --vocabulary-file {name} --steps 3 --hidden 8 --embedding 8 --name {unit} --quiet"
        );
        workshop.run(&run).ok();
        let score =
            json(&workshop.run(&format!("score runs/{unit} thornmere/diaries/volume-00001.txt --json")).ok());
        assert_eq!(score["unknown_tokens"], 0);
        let sample = workshop.run(&format!("sample runs/{unit} --tokens 30 --temperatures 2 --json")).ok();
        assert!(json(&sample)["tokens"].as_u64().unwrap() > 0);
    }
    let shown = workshop.run("vocab show byte-pair.json --order longest --top 3 --json").ok();
    let longest: Vec<usize> = json(&shown)["tokens"]
        .as_array()
        .unwrap()
        .iter()
        .map(|token| token["token"].as_str().unwrap().chars().count())
        .collect();
    assert!(longest.is_sorted_by(|a, b| a >= b) && longest[0] > 4, "{longest:?}");
    let rarest = json(&workshop.run("vocab show byte-pair.json --order rarest --top 1 --json").ok());
    assert_eq!(rarest["tokens"][0]["count"], 0);
    workshop
        .run("vocab build thornmere/diaries --unit unigram --vocabulary-size 9 -o x.json")
        .fails(1, &["257 or more"]);
    workshop
        .run("vocab build thornmere/diaries --unit byte-pair --include queen -o x.json")
        .fails(2, &["not subwords"]);
}

#[test]
fn indices_and_tokens_are_looked_up_both_ways() {
    let workshop = workshop_with_demo();
    let at = json(&workshop.run("vocab show thornmere/vocabulary.json --at 3,4 --json").ok());
    assert_eq!(
        (at["tokens"][0]["token"].as_str(), at["tokens"][1]["token"].as_str()),
        (Some("\u{2039}end\u{203a}"), Some("."))
    );
    let token = json(&workshop.run("vocab show thornmere/vocabulary.json --token . --json").ok());
    assert_eq!(token["tokens"][0]["index"], 4);
    workshop
        .run("vocab show thornmere/vocabulary.json --token vlorp")
        .fails(1, &["no token `vlorp`", "--find"]);
    workshop.run("vocab show thornmere/vocabulary.json --at 99999").fails(1, &["outside the vocabulary"]);
}

#[test]
fn tokens_are_listed_in_every_order() {
    let workshop = Workshop::new();
    workshop.write("old.txt", "bee bee bee comb");
    workshop.write("new.txt", "apiary apiary apiary apiary apiary");
    workshop.run("vocab build old.txt --minimum-count 1 --output old.json").ok();
    workshop.run("vocab extend old.json new.txt --output all.json").ok();
    let listed = |order: &str| -> Vec<String> {
        let shown = json(&workshop.run(format!("vocab show all.json --json {order}").trim()).ok());
        let tokens = shown["tokens"].as_array().unwrap();
        tokens.iter().map(|token| token["token"].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(listed(""), ["bee", "comb", "apiary"]);
    assert_eq!(listed("--order index"), listed(""));
    assert_eq!(listed("--order count"), ["apiary", "bee", "comb"]);
    assert_eq!(listed("--order token"), ["apiary", "bee", "comb"]);
    assert_eq!(listed("--order rarest"), ["comb", "bee", "apiary"]);
    assert_eq!(listed("--order longest"), ["apiary", "comb", "bee"]);
}

#[test]
fn words_are_forced_in_and_kept_out_and_reserved_ones_are_spelt_at_will() {
    let workshop = Workshop::new();
    workshop.write("a.txt", "the bee and the hive\n");
    workshop.write("wanted.txt", "moth\n\nwasp\n");
    workshop
        .run("vocab build a.txt --minimum-count 1 --include-from wanted.txt --exclude the --reserved _pad,_unk,_from,_to -o v.json")
        .ok();
    let shown = json(&workshop.run("vocab show v.json --json").ok());
    let tokens: Vec<&str> =
        shown["tokens"].as_array().unwrap().iter().map(|t| t["token"].as_str().unwrap()).collect();
    assert_eq!(tokens, ["and", "bee", "hive", "moth", "wasp"]);
    assert_eq!(shown["reserved"]["unknown"], "_unk");
    assert!(workshop.run_words(&["vocab", "decode", "v.json", "1 4"]).ok().contains("_unk and"));
    workshop.run("vocab build a.txt --include no-one -o w.json").fails(2, &["make no + - + one of it"]);
    workshop.run("vocab build a.txt --reserved a,b -o w.json").fails(2, &["four spellings"]);
    workshop
        .run("vocab build a.txt --minimum-count 1 --reserved bee,b,c,d -o w.json")
        .fails(1, &["also a reserved token"]);
    workshop.run("vocab build a.txt --include-from nowhere.txt -o w.json").fails(1, &["nowhere.txt"]);
    for command in ["vocab build a.txt -o w.json", "vocab coverage a.txt --document line"] {
        workshop
            .run(&format!("{command} --vocabulary-size 0"))
            .fails(2, &["`vocabulary.size` is 0", "at least 1"]);
    }
}

#[test]
fn vocabularies_are_merged_extended_and_compared() {
    let workshop = Workshop::new();
    workshop.write("a.txt", "bee bee hive");
    workshop.write("b.txt", "hive hive wasp wasp moth");
    workshop.run("vocab build a.txt --minimum-count 1 -o a.json").ok();
    workshop.run("vocab build b.txt --minimum-count 1 -o b.json").ok();
    workshop.run("vocab merge a.json b.json -o both.json").ok();
    assert!(workshop.read("both.json").contains("[4,\"hive\",3]"));
    workshop.run("vocab merge a.json b.json -o both.json").fails(1, &["exists already"]);
    let output = workshop.run("vocab extend a.json b.txt --add 1 -o more.json");
    assert!(output.err.contains("1 token added; 6 keep their indices"), "{output:?}");
    let more = workshop.read("more.json");
    assert!(
        more.contains("[4,\"bee\",2]") && more.contains("[5,\"hive\",3]") && more.contains("[6,\"wasp\",2]"),
        "{more}"
    );
    let compared: Comparison =
        serde_json::from_str(&workshop.run("vocab compare a.json b.json --json").ok()).unwrap();
    assert_eq!((compared.shared_tokens, compared.only_first.tokens, compared.only_second.tokens), (1, 1, 2));
    let shown = workshop.run("vocab compare a.json b.json").ok();
    assert!(shown.contains("Only in b.json: 2 tokens") && shown.contains("wasp"), "{shown}");
    workshop.run("vocab build a.txt --cleaning lower_case -o lower.json").ok();
    workshop.run("vocab merge a.json lower.json -o x.json").fails(2, &["cannot be combined", "cleaning"]);
}

#[test]
fn coverage_is_a_table_a_picture_and_json() {
    let workshop = workshop_with_demo();
    let words = workshop.run("vocab coverage thornmere/diaries --document line --sizes 50,200 --json").ok();
    let words: Coverage = serde_json::from_str(&words).unwrap();
    assert_eq!(words.points.iter().map(|point| point.size).take(2).collect::<Vec<_>>(), [50, 200]);
    assert!(words.points.is_sorted_by(|a, b| a.unknown_tokens >= b.unknown_tokens));
    let shown = workshop.run("vocab coverage thornmere/diaries --document line --pictures drawn").ok();
    assert!(shown.contains("Coverage by vocabulary size, in words") && shown.contains("unknown"), "{shown}");
    assert!(workshop.read("drawn/coverage.svg").contains("<svg"));
    workshop
        .run("vocab coverage thornmere/diaries --document line --pictures drawn")
        .fails(1, &["exists already"]);
    workshop.run("split thornmere/diaries --document line").ok();
    workshop.run("vocab coverage thornmere/diaries --document line --held-out-by split.json --unit unigram --vocabulary-size 400").ok();
    workshop
        .run("vocab coverage thornmere/diaries --held-out 0 --document line")
        .fails(1, &["held-out documents"]);
    workshop.run("vocab coverage thornmere/diaries --held-out 1.5 --document line").fails(2, &["--held-out"]);
}

#[test]
fn the_tokens_of_a_corpus_are_kept_and_used_again_only_while_they_fit() {
    let workshop = Workshop::new();
    let lines: String = (0..300).map(|n| format!("entry {n} of the hive was quiet\n")).collect();
    workshop.write("a.txt", &lines);
    let train = |name: &str, more: &str| {
        let words = format!(
            "train a.txt --document line --steps 4 --batch 4 --window 8 --hidden 8 --embedding 8 --name {name} {more}"
        );
        workshop.run(words.trim_end())
    };
    let model =
        |name: &str| std::fs::read(workshop.path(&format!("runs/{name}/{name}.safetensors"))).unwrap();
    let reused = "corpus unchanged";
    let entries = || -> Vec<std::path::PathBuf> {
        let mut entries: Vec<_> = std::fs::read_dir(workshop.path("runs/.tokens"))
            .unwrap()
            .map(|entry| entry.unwrap().path())
            .collect();
        entries.sort();
        entries
    };
    let first = train("one", "");
    assert!(!first.err.contains(reused), "{first:?}");
    first.ok();
    let second = train("two", "");
    assert!(second.err.contains(reused), "{second:?}");
    assert_eq!(model("one"), model("two"));
    assert_eq!(
        workshop.read("runs/one/run.json").replace("one", "two").lines().nth(5),
        workshop.read("runs/two/run.json").lines().nth(5)
    );
    let kept = entries();
    assert_eq!(kept.len(), 1);

    // Another vocabulary is another entry; its store in the place of the first is refused by name, and made again.
    assert!(!train("three", "--vocabulary-size 5").err.contains(reused));
    let other = entries().into_iter().find(|entry| *entry != kept[0]).unwrap();
    std::fs::copy(other.join("training.tokens"), kept[0].join("training.tokens")).unwrap();
    let swapped = train("four", "");
    assert!(
        swapped.err.contains(
            "training.tokens: the token store was made with another vocabulary; encoding the corpus again"
        ),
        "{swapped:?}"
    );
    assert_eq!(model("one"), model("four"));
    // So is one that was damaged or cut.
    let store = kept[0].join("validation.tokens");
    let mut bytes = std::fs::read(&store).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    std::fs::File::create(&store).and_then(|mut file| std::io::Write::write_all(&mut file, &bytes)).unwrap();
    let damaged = train("five", "");
    assert!(damaged.err.contains("not a usable token store"), "{damaged:?}");
    assert_eq!(model("one"), model("five"));
    assert!(train("six", "").err.contains(reused));

    // A corpus that changed is read again, and so is one of which something is left out.
    workshop.write("a.txt", format!("{lines}one more entry\n"));
    assert!(!train("seven", "").err.contains(reused));
    workshop.write("a.txt", [lines.as_bytes(), "\u{e9}t\u{e9}\n".as_bytes(), b"\xff broken\n"].concat());
    for name in ["eight", "nine"] {
        let output = train(name, "");
        assert!(output.err.contains("1 place left out") && !output.err.contains(reused), "{output:?}");
    }
}

#[test]
fn a_run_killed_while_it_encodes_leaves_nothing_that_is_taken_for_whole() {
    let workshop = Workshop::new();
    workshop.run("demo --corpus-only --size 12MB --no-tables --dir big --quiet").ok();
    let words = |name: &str| {
        format!(
            "train big/diaries --document line --steps 2 --batch 4 --window 8 --hidden 8 --embedding 8 --name {name} \
             --samples-tokens 2 --validation-share 0.01"
        )
    };
    // Killed as soon as a store is being written, which is before it is whole.
    let mut child = workshop
        .command()
        .args(words("killed").split_whitespace())
        .stdout(std::process::Stdio::null())
        .stderr(std::process::Stdio::null())
        .spawn()
        .unwrap();
    let writing = || {
        let entries = std::fs::read_dir(workshop.path("runs/.tokens")).into_iter().flatten().flatten();
        entries
            .filter_map(|entry| std::fs::read_dir(entry.path()).ok())
            .flatten()
            .flatten()
            .any(|file| file.file_name().to_string_lossy().starts_with(".lalograph-"))
    };
    while !writing() {
        assert!(child.try_wait().unwrap().is_none(), "it ended before it could be killed");
        std::thread::sleep(std::time::Duration::from_millis(1));
    }
    child.kill().unwrap();
    child.wait().unwrap();
    assert!(!workshop.path("runs/killed").exists());
    let again = workshop.run_words(&words("again").split_whitespace().collect::<Vec<_>>());
    assert!(!again.err.contains("corpus unchanged"), "{again:?}");
    again.ok();
    let third = workshop.run_words(&words("third").split_whitespace().collect::<Vec<_>>());
    assert!(third.err.contains("corpus unchanged"), "{third:?}");
    let model =
        |name: &str| std::fs::read(workshop.path(&format!("runs/{name}/{name}.safetensors"))).unwrap();
    assert_eq!(model("again"), model("third"));
}
