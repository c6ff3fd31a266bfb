//! `embed` as it is typed.

use crate::common::{Workshop, files_below, workshop_with_demo};
use serde_json::Value;

fn json(text: &str) -> Value {
    serde_json::from_str(text).unwrap_or_else(|error| panic!("{error}: {text}"))
}

const TRAIN: &str = "embed train thornmere/diaries --document line --dimensions 24 --quiet";

#[test]
fn vectors_are_trained_and_repeatable_on_any_number_of_threads() {
    let workshop = workshop_with_demo();
    let words = format!("{TRAIN} --epochs 4 --probe June --probe vlorped");
    let done = workshop.run(&format!("{words} --output a.safetensors --threads 1").replace(" --quiet", ""));
    assert!(done.err.contains("`vlorped` is not in the vocabulary"), "{done:?}");
    assert!(done.err.contains("after 4.0 epochs") && done.err.contains("June: "), "{done:?}");
    let out = done.ok();
    assert!(out.contains("Nearest neighbours") && out.contains("July"), "{out}");
    workshop.run(&format!("{words} --output b.safetensors --threads 3")).ok();
    let read = |name: &str| std::fs::read(workshop.path(name)).unwrap();
    assert!(read("a.safetensors") == read("b.safetensors"), "the same bytes on one thread and on three");
    let lines =
        workshop.run(&format!("{words} --output c.safetensors --text-output c.txt --fast --json")).ok();
    let lines: Vec<Value> = lines.lines().map(json).collect();
    let of = |kind: &str| lines.iter().filter(|line| line["kind"] == kind).count();
    assert_eq!((of("outcome"), of("neighbours")), (1, of("progress")));
    assert!(lines.last().unwrap()["words_per_second"].as_f64().unwrap() > 0.0);
    // Text and safetensors hold the same.
    let near = |file: &str| {
        let found = json(&workshop.run(&format!("embed near {file} June Hesper --json")).ok());
        found["queries"].clone()
    };
    assert_eq!(near("c.safetensors"), near("c.txt"));
    workshop.run(&format!("{TRAIN} --output a.safetensors")).fails(1, &["exists already"]);
    for (flags, message) in [
        ("--dimensions 0", "`vectors.dimensions` is 0"),
        ("--window 0", "`vectors.window` is 0"),
        ("--learning-rate NaN", "`vectors.learning_rate`"),
        ("--pieces 5-3", "`vectors.pieces` is [5, 3]"),
        ("--pieces x", "two numbers of characters"),
        ("--fast --lanes 3", "cannot be used with"),
        ("--lanes 65", "`vectors.lanes` is 65"),
        ("--factorise --epochs 3", "cannot be used with"),
        ("--set vectors.factorise=true --fast", "--fast has no effect"),
        ("--piece-rows 9", "--piece-rows has no effect"),
        ("--set vectors.dimension=9", "did you mean `vectors.dimensions`?"),
    ] {
        let words = format!("embed train thornmere/diaries --document line --output bad.safetensors {flags}");
        workshop.run(&words).fails(2, &[message]);
    }
    workshop
        .run(&format!("{TRAIN} --learning-rate 1e30 --output bad.safetensors"))
        .fails(1, &["no longer finite", "lower --learning-rate"]);
    assert!(!workshop.path("bad.safetensors").exists());
    workshop.run("embed near a.safetensor June").fails(1, &["no such file", "did you mean `a.safetensors`?"]);
}

#[test]
fn vectors_are_trained_by_a_plan_and_swept() {
    let workshop = workshop_with_demo();
    workshop.run("plan new thornmere/diaries --document line --for word-vectors --output vectors.toml").ok();
    assert!(workshop.run("plan check vectors.toml").ok().contains("no problems"));
    let words = "--set vectors.epochs=1 --set vectors.dimensions=12";
    // A plan and flags say the same.
    workshop.run(&format!("embed train --plan vectors.toml {words} --quiet --output a.safetensors")).ok();
    workshop
        .run("embed train thornmere/diaries --document line --epochs 1 --dimensions 12 --quiet --output b.safetensors")
        .ok();
    let bytes = |file: &str| std::fs::read(workshop.path(file)).unwrap();
    assert!(bytes("a.safetensors") == bytes("b.safetensors"));
    for (command, other) in
        [("train", "embed train"), ("plan cost", "embed train"), ("classify train", "[classifier]")]
    {
        workshop.run(&format!("{command} --plan vectors.toml")).fails(2, &[other]);
    }

    let sweep =
        format!("sweep vectors.toml {words} --vary vectors.window=1,4 --vary vectors.negative_samples=2,6");
    workshop.run(&format!("{sweep} --name blind")).fails(2, &["vectors.similarity"]);
    let files =
        "--set vectors.similarity=thornmere/similarity.tsv --set vectors.analogies=thornmere/analogies.txt";
    for (more, message) in [
        ("--method racing", "cannot race"),
        ("--vary model.hidden=4,8", "word vectors do not use it"),
        ("--vary vectors.similarity=a.txt,b.txt", "compared by one file"),
        ("--vary vectors.piece_rows=10,20", "vectors.pieces"),
    ] {
        workshop.run(&format!("{sweep} {files} {more} --name wrong")).fails(2, &[message]);
    }
    let out = workshop.run(&format!("{sweep} {files} --jobs 2 --keep 1 --name night")).ok();
    assert!(out.contains("mean of similarity and analogies"), "{out}");
    let shown = json(&workshop.run("sweep show night --json").ok());
    let ranked = shown["ranked"].as_array().unwrap();
    assert_eq!((ranked.len(), &shown["figure"]), (4, &"word_tasks".into()));
    let means: Vec<f64> = ranked.iter().map(|one| one["mean"].as_f64().unwrap()).collect();
    assert!(means.windows(2).all(|pair| pair[0] >= pair[1]), "higher is better: {means:?}");
    // The vectors of the best setting are kept, are those of the best plan, and judge as the table says.
    let model = ranked[0]["model"].as_str().unwrap();
    assert!(ranked[1]["model"].is_null());
    let kept = files_below(&workshop.path("runs/night/trials"));
    assert_eq!(
        kept.keys().filter(|path| path.extension().is_some_and(|end| end == "safetensors")).count(),
        1
    );
    workshop.run("embed train --plan runs/night/best.toml --quiet --output best.safetensors").ok();
    assert!(bytes("best.safetensors") == bytes(model), "{model}");
    let judged = json(
        &workshop
            .run(&format!("embed judge {model} --similarity thornmere/similarity.tsv --analogies thornmere/analogies.txt --json"))
            .ok(),
    );
    assert!(judged[0]["similarity"]["spearman"].is_f64(), "{judged}");
    // One more go: everything is there.
    workshop.run("sweep runs/night --quiet").ok();
    workshop.write("bad.txt", "one two\n");
    workshop
        .run(&format!("{sweep} --set vectors.similarity=bad.txt --name bad"))
        .fails(1, &["bad.txt", "two words and a number"]);
}

#[test]
fn planted_likeness_and_relations_are_found_by_each_way_of_learning() {
    let workshop = workshop_with_demo();
    workshop
        .run("embed train thornmere/diaries --document line --epochs 20 --quiet --output w.safetensors")
        .ok();
    workshop
        .run("embed train thornmere/diaries --document line --epochs 20 --direction context-to-word --quiet --output c.safetensors")
        .ok();
    workshop
        .run("embed train thornmere/diaries --document line --factorise --quiet --output f.safetensors")
        .ok();
    let words = "embed judge w.safetensors c.safetensors f.safetensors thornmere/vectors.txt --similarity thornmere/similarity.tsv --analogies thornmere/analogies.txt";
    let judged = json(&workshop.run(&format!("{words} --json")).ok());
    for file in judged.as_array().unwrap() {
        let rho = file["similarity"]["spearman"].as_f64().unwrap();
        let [low, high] = [0, 1].map(|end| file["similarity"]["interval"][end].as_f64().unwrap());
        assert!(rho > 0.4 && low > 0.0 && low < rho && rho < high, "{file}");
        let sum = |name: &str| -> u64 {
            file["analogies"].as_array().unwrap().iter().map(|section| section[name].as_u64().unwrap()).sum()
        };
        // By chance one in 750 would be right.
        assert!(sum("right_among_five") * 4 > sum("known"), "{file}");
    }
    let table = workshop.run(&format!("{words} --method multiplicative")).ok();
    assert!(table.contains("keeper and greeting") && table.contains("95 % confidence"), "{table}");
    let relate = json(&workshop.run("embed relate w.safetensors Maudry whistled Hesper --json").ok());
    let first: Vec<&str> =
        relate["neighbours"].as_array().unwrap().iter().map(|near| near["word"].as_str().unwrap()).collect();
    assert!(first.contains(&"yawned"), "{first:?}");
    workshop
        .run("embed relate w.safetensors Maudry whistled Hespr")
        .fails(1, &["no vector for `Hespr`", "`Hesper`"]);
    workshop.run("embed judge w.safetensors").fails(2, &["no evaluation file given"]);
    workshop.write("bad.tsv", "June\tJuly\t3\nJune\tmuch\n");
    workshop.run("embed judge w.safetensors --similarity bad.tsv").fails(1, &["bad.tsv: line 2"]);
    workshop.write("bad.txt", "# one\nJune July May\n");
    workshop
        .run("embed judge w.safetensors --analogies bad.txt")
        .fails(1, &["bad.txt: line 2", "four words"]);
}

#[test]
fn neighbours_of_words_of_sums_and_of_texts() {
    let workshop = workshop_with_demo();
    let vectors = "thornmere/vectors.safetensors";
    let near = json(&workshop.run(&format!("embed near {vectors} June --count 4 --json")).ok());
    let found = near["queries"][0]["neighbours"].as_array().unwrap();
    let figures: Vec<f64> = found.iter().map(|near| near["cosine"].as_f64().unwrap()).collect();
    assert!(figures.len() == 4 && figures.windows(2).all(|pair| pair[0] >= pair[1]), "{near}");
    assert!(found.iter().any(|near| near["word"] == "July"), "{near}");
    let sum = workshop.run(&format!("embed near {vectors} yawned --minus Hesper --plus Maudry")).ok();
    assert!(sum.starts_with("Near yawned + Maudry - Hesper") && !sum.contains("\n  yawned "), "{sum}");
    workshop.write("many.txt", "June\nclover\n\nHesper\n");
    let many = json(&workshop.run(&format!("embed near {vectors} --words-from many.txt --json")).ok());
    assert_eq!(many["queries"].as_array().unwrap().len(), 3);
    let words = [
        "embed",
        "near",
        vectors,
        "--sentence",
        "Dead bees beneath the door.",
        "--sentence",
        "Few bees at the door",
        "--sentence",
        "Honey weighs fourteen kilos",
        "--distances",
        "--json",
    ];
    let texts = json(&workshop.run_words(&words).ok());
    let apart = |a: usize, b: usize| texts["distances"][a][b].as_f64().unwrap();
    assert!(apart(0, 0).abs() < 1e-6 && apart(0, 1) == apart(1, 0));
    assert!(apart(0, 1) < apart(0, 2) && apart(1, 0) < apart(1, 2), "{texts}");
    let shown = workshop.run_words(&words[..words.len() - 1]).ok();
    assert!(shown.contains("Distances between the texts") && shown.contains("Few bees"), "{shown}");
    workshop.run(&format!("embed near {vectors} Jun")).fails(1, &["no vector for `Jun`", "`June`"]);
    workshop
        .run(&format!("embed near {vectors} --sentence zzz"))
        .fails(1, &["no word of `zzz` has a vector"]);
    workshop.run(&format!("embed near {vectors}")).fails(2, &["no words given"]);
    workshop
        .run("embed near thornmere/vectors.txt --sentence bees --weigh frequency")
        .fails(2, &["needs the counts"]);
    workshop
        .run("embed near thornmere/runs/demo/demo.safetensors June")
        .fails(1, &["its format is `lalograph model`"]);
    workshop
        .run("sample thornmere/vectors.safetensors")
        .fails(1, &["its format is `lalograph word vectors`"]);
}

#[test]
fn unseen_words_have_vectors_from_pieces() {
    let workshop = workshop_with_demo();
    workshop.run(&format!("{TRAIN} --pieces 3-4 --piece-rows 5000 --epochs 10 --output p.safetensors")).ok();
    let near = json(&workshop.run("embed near p.safetensors Larkstones --json").ok());
    let found: Vec<&str> = near["queries"][0]["neighbours"]
        .as_array()
        .unwrap()
        .iter()
        .map(|near| near["word"].as_str().unwrap())
        .collect();
    assert!(found[..3].contains(&"Larkstone"), "{found:?}");
}

#[test]
fn vectors_are_imported_and_bad_files_reported() {
    let workshop = workshop_with_demo();
    workshop.write("v.txt", "June 1 0\nJuly 0.9 0.1\nshort 1\nJune 5 5\nbad x 1\nzebra 0 1\nnot NaN 1\n");
    let done = workshop
        .run("embed import v.txt --vocabulary-file thornmere/vocabulary.json --output v.safetensors --json");
    assert!(done.err.contains("line 3") && done.err.contains("line 7"), "{done:?}");
    let found = json(&done.ok());
    let figures = |name: &str| found[name].as_u64().unwrap();
    assert_eq!((figures("kept"), figures("duplicates"), figures("bad_lines"), figures("read")), (2, 1, 3, 4));
    let share = found["text_covered_share"].as_f64().unwrap();
    assert!(share > 0.0 && share < 0.1 && figures("missing") > 700, "{found}");
    let all = workshop.run("embed import v.txt --output all.safetensors").ok();
    assert!(all.contains("3 words") && all.contains("repeated"), "{all}");
    let near = workshop.run("embed near v.safetensors June").ok();
    assert!(near.contains("July"), "{near}");
    workshop.run("embed import v.txt --output v.safetensors").fails(1, &["exists already"]);
    workshop.write("none.txt", "zebra 0 1\n");
    workshop
        .run("embed import none.txt --vocabulary-file thornmere/vocabulary.json --output n.safetensors")
        .fails(1, &["for any of the"]);
    workshop.write("words.txt", "June\nJuly\n");
    workshop
        .run("embed import thornmere/runs/demo/demo.safetensors --words words.txt --tensor embedding --output n.safetensors")
        .fails(1, &["rows, and there are 2 words"]);
    let tokens = json(&workshop.run("vocab show thornmere/vocabulary.json --top 100000 --json").ok());
    let mut words: Vec<String> = ["p", "u", "s", "e"].map(|name| format!("reserved-{name}")).to_vec();
    words.extend(
        tokens["tokens"].as_array().unwrap().iter().map(|token| token["token"].as_str().unwrap().to_owned()),
    );
    workshop.write("words.txt", words.join("\n"));
    let model = "embed import thornmere/runs/demo/demo.safetensors --words words.txt";
    workshop.run(&format!("{model} --tensor embedding --output n.safetensors")).ok();
    let near = workshop.run("embed near n.safetensors June --count 3").ok();
    assert!(near.contains("Near June"), "{near}");
    workshop.run(&format!("{model} --tensor nowhere --output m.safetensors")).fails(1, &["it has "]);
    workshop.write("cut.safetensors", &std::fs::read(workshop.path("n.safetensors")).unwrap()[..900]);
    workshop.run("embed near cut.safetensors June").fails(1, &["not usable as word vectors"]);
}

#[test]
fn a_map_is_a_picture_and_a_page() {
    let workshop = workshop_with_demo();
    let out = workshop.run("embed map thornmere/vectors.safetensors --top 40 --output map --json").ok();
    let map = json(&out);
    let named = |map: &Value| -> Vec<String> {
        map["words"]
            .as_array()
            .unwrap()
            .iter()
            .map(|word| word["word"].as_str().unwrap().to_owned())
            .collect()
    };
    let content = named(&map);
    assert_eq!(content.len(), 40);
    assert!(map["left_out"].as_u64().unwrap() > 0 && !content.contains(&"the".to_owned()), "{map}");
    let all = workshop
        .run("embed map thornmere/vectors.safetensors --top 40 --function-words --output all --json")
        .ok();
    let all = json(&all);
    assert!(named(&all).contains(&"the".to_owned()) && named(&all).contains(&".".to_owned()), "{all}");
    assert_eq!((named(&all).len(), all["left_out"].as_u64()), (40, Some(0)));
    assert!(workshop.path("map.png").exists() && workshop.read("map.svg").contains("<svg"));
    let page = workshop.read("map.html");
    assert!(
        page.contains("<title>")
            && page.contains("near: ")
            && !page.contains("http://")
            && !page.contains("https://"),
        "{page}"
    );
    let words = "embed map thornmere/vectors.txt --word June --word July --word Hesper --word Maudry --output axes --layout principal";
    workshop.run(words).ok();
    assert!(workshop.read("axes.html").contains("of the spread"));
    workshop.run(words).fails(1, &["exists already"]);
    workshop.run(&format!("{words} --force --word Jun")).fails(1, &["no vector for `Jun`"]);
    workshop.run("embed map thornmere/vectors.txt --top 2 --output two").fails(2, &["3 or more"]);
    workshop
        .run("embed map thornmere/vectors.txt --top 20 --perplexity 50 --output two")
        .fails(2, &["a third"]);
}

#[test]
fn a_model_starts_from_word_vectors_and_can_freeze_them() {
    let workshop = workshop_with_demo();
    workshop.run(&format!("{TRAIN} --output w.safetensors --text-output w.txt")).ok();
    let train = "train thornmere/diaries --document line --embedding 24 --hidden 24 --steps 6 --quiet --vectors w.safetensors";
    workshop.run(&format!("{train} --name frozen --set groups.embedding_rate=0")).ok();
    workshop.run(&format!("{train} --name learnt")).ok();
    let tokens = json(&workshop.run("vocab show runs/frozen/vocabulary.json --top 100000 --json").ok());
    let mut words: Vec<String> = ["p", "u", "s", "e"].map(|name| format!("reserved-{name}")).to_vec();
    words.extend(
        tokens["tokens"].as_array().unwrap().iter().map(|token| token["token"].as_str().unwrap().to_owned()),
    );
    workshop.write("words.txt", words.join("\n"));
    let near = |run: &str| {
        let import = format!(
            "embed import runs/{run}/{run}.safetensors --words words.txt --tensor embedding --output {run}.safetensors"
        );
        workshop.run(&import).ok();
        json(&workshop.run(&format!("embed near {run}.safetensors June clover --count 6 --json")).ok())["queries"].clone()
    };
    let text = workshop.read("w.txt");
    let mut lines: Vec<(&str, Vec<f64>)> = text
        .lines()
        .map(|line| line.split_once(' ').unwrap())
        .filter(|(_, numbers)| numbers.split(' ').count() == 24)
        .map(|(word, numbers)| (word, numbers.split(' ').map(|x| x.parse().unwrap()).collect()))
        .collect();
    for place in 0..24 {
        let mean = lines.iter().map(|(_, numbers)| numbers[place]).sum::<f64>() / lines.len() as f64;
        lines.iter_mut().for_each(|(_, numbers)| numbers[place] -= mean);
    }
    let line = |(word, numbers): &(&str, Vec<f64>)| {
        numbers.iter().fold((*word).to_owned(), |line, number| format!("{line} {number}"))
    };
    workshop.write("centred.txt", lines.iter().map(line).collect::<Vec<_>>().join("\n"));
    workshop.run("embed import centred.txt --output centred.safetensors").ok();
    let own =
        json(&workshop.run("embed near centred.safetensors June clover --count 6 --json").ok())["queries"]
            .clone();
    let names = |found: &Value| -> Vec<String> {
        let all = found.as_array().unwrap().iter().flat_map(|query| query["neighbours"].as_array().unwrap());
        all.map(|near| near["word"].as_str().unwrap().to_owned()).collect()
    };
    // They begin less their mean: what is near what is as in a file that has lost it.
    let frozen = near("frozen");
    assert_eq!(names(&frozen), names(&own));
    assert_ne!(near("learnt"), frozen);
    workshop
        .run("train thornmere/diaries --document line --embedding 32 --steps 2 --vectors w.safetensors --name wide")
        .fails(1, &["24 dimensions, and 32 are needed", "--embedding"]);
    // The width is that of the file, of either form, and words that are not in it are named.
    let known: String = text
        .lines()
        .filter(|line| !line.starts_with("June ") && !line.starts_with("hive "))
        .map(|line| format!("{line}\n"))
        .collect();
    workshop.write("known.txt", known);
    for (file, name) in [("w.safetensors", "own"), ("known.txt", "known")] {
        let out = workshop.run(&format!("train thornmere/diaries --document line --hidden 8 --steps 2 --samples-every 0 --vectors {file} --name {name}")).ok();
        let output: String = out.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(output.contains("embedding 24,") && output.contains("words found in the file"), "{out}");
        let missing = output.contains("most frequent words without a vector:");
        assert!(missing == (name == "known") && output.contains("June") == missing, "{out}");
    }
    // Once started, a run needs the vectors no more; to start again it does.
    std::fs::remove_file(workshop.path("w.safetensors")).unwrap();
    workshop.run("resume runs/learnt --steps 8 --quiet").ok();
    workshop.run("resume runs/learnt --restart --quiet").fails(1, &["w.safetensors"]);
    let model = json(&workshop.run("runs show runs/learnt --json").ok());
    assert_eq!(model["steps"], 8, "the run is as it was");
}

#[test]
fn a_large_file_of_vectors_is_read_line_by_line() {
    let workshop = Workshop::new();
    let mut text = String::from("40000 20\n");
    for i in 0..40_000u32 {
        text.push_str(&format!("word{i}"));
        (0..20).for_each(|at| {
            text.push_str(&format!(" {:.4}", f64::from((i * 31 + at * 17) % 1000) / 500.0 - 1.0))
        });
        text.push('\n');
    }
    workshop.write("big.txt", &text);
    workshop.write("few.txt", "word7 word39999 word20000\n");
    workshop.run("vocab build few.txt --minimum-count 1 --output few.json --quiet").ok();
    let found = json(
        &workshop.run("embed import big.txt --vocabulary-file few.json --output few.safetensors --json").ok(),
    );
    assert_eq!((&found["read"], &found["kept"]), (&Value::from(40_000), &Value::from(3)));
}
