//! Models and runs that leave the program and come back.

use std::fs::File;
use std::io::{Cursor, Read};

use safetensors::SafeTensors;
use safetensors::tensor::{Dtype, TensorView, serialize};
use serde_json::Value;

use crate::common::{Workshop, differing, files_below, workshop_with_demo};

fn json(text: &str) -> Value {
    serde_json::from_str(text).unwrap_or_else(|error| panic!("{error}: {text}"))
}

#[test]
fn a_model_is_exported_as_graphs_with_a_page_and_the_effect_of_fewer_bits() {
    let workshop = workshop_with_demo();
    let export = "export thornmere/runs/demo --output out/bees.onnx";
    let done = json(&workshop.run(&format!("{export} --readme out/bees.md --licence CC0-1.0 --json")).ok());
    assert_eq!((done["kind"].as_str(), done["opset"].as_u64()), (Some("language model"), Some(17)));
    let files = done["files"].as_array().unwrap();
    let paths: Vec<&str> = files.iter().map(|file| file["path"].as_str().unwrap()).collect();
    assert_eq!(paths, ["out/bees.step.onnx", "out/bees.text.onnx", "out/bees.md"]);
    for file in files {
        let found = std::fs::metadata(workshop.path(file["path"].as_str().unwrap())).unwrap().len();
        assert_eq!(file["bytes"].as_u64(), Some(found));
    }
    // The page's examples are what `vocab encode` says.
    let page = workshop.read("out/bees.md");
    let examples: Vec<Value> = page.lines().filter(|line| line.starts_with("{\"text\"")).map(json).collect();
    assert_eq!(examples.len(), 10);
    for example in &examples {
        let text = example["text"].as_str().unwrap();
        let found =
            workshop.run_words(&["vocab", "encode", "thornmere/vocabulary.json", "--json", text]).ok();
        let found = json(&found);
        let indices: Vec<&Value> =
            found["tokens"].as_array().unwrap().iter().map(|token| &token["index"]).collect();
        assert_eq!(indices, example["indices"].as_array().unwrap().iter().collect::<Vec<_>>(), "{text}");
    }
    assert!(page.contains(done["content_hash"].as_str().unwrap()), "{page}");
    // Nothing is replaced unless that is asked for; then the bytes are the same.
    let before = std::fs::read(workshop.path("out/bees.text.onnx")).unwrap();
    workshop.run(export).fails(1, &["bees.step.onnx exists", "--force"]);
    workshop.run(&format!("{export} --licence CC0-1.0 --force")).ok();
    assert_eq!(std::fs::read(workshop.path("out/bees.text.onnx")).unwrap(), before);
    // Fewer bits are smaller, and what they change is measured.
    let small = "export thornmere/runs/demo --graph text --output small.onnx --precision eight-bit";
    let done = json(&workshop.run(&format!("{small} --text thornmere/diaries.csv --json")).ok());
    let effect = &done["effect"]["perplexity"];
    let [single, exported] = ["single", "exported"].map(|name| effect[name].as_f64().unwrap());
    assert!(single != exported && (exported / single - 1.0).abs() < 0.01, "{effect}");
    assert!(std::fs::metadata(workshop.path("small.onnx")).unwrap().len() * 3 < before.len() as u64);
    let scored = json(&workshop.run("score thornmere/runs/demo thornmere/diaries.csv --json").ok());
    assert_eq!(scored["perplexity"].as_f64(), Some(single));
}

#[test]
fn classifiers_and_word_vectors_are_exported() {
    let workshop = workshop_with_demo();
    workshop
        .run("classify train thornmere/diaries.csv --label outcome --network pooled --steps 4 --name outcome --quiet")
        .ok();
    let words = workshop
        .run("export outcome --output outcome.onnx --readme outcome.md --precision half --text thornmere/diaries.csv")
        .ok();
    assert!(words.contains("outcome.onnx") && words.contains("same class"), "{words}");
    assert!(workshop.read("outcome.md").contains("Classes, in the order of `probabilities`"));
    let done = json(&workshop.run("export thornmere/vectors.safetensors --output near.onnx --json").ok());
    assert_eq!(done["files"][1]["path"], "near.neighbours.onnx");
    workshop
        .run("export thornmere/vectors.safetensors -o v.onnx --precision half --text thornmere/diaries.csv")
        .fails(2, &["--text has no effect"]);
}

#[test]
fn tables_hold_all_tokens_and_all_weights() {
    let workshop = workshop_with_demo();
    workshop.run("export thornmere/runs/demo --form tables --output bees.npz").ok();
    let vocabulary = json(&workshop.read("thornmere/vocabulary.json"));
    let table = workshop.read("bees.tsv");
    let lines: Vec<Vec<&str>> = table.lines().map(|line| line.split('\t').collect()).collect();
    assert_eq!(lines[0], ["index", "token", "bytes", "count"]);
    assert_eq!(lines.len(), 1 + 4 + vocabulary["tokens"].as_array().unwrap().len());
    for (line, token) in lines[5..].iter().zip(vocabulary["tokens"].as_array().unwrap()) {
        assert_eq!((line[0], line[1]), (token[0].to_string().as_str(), token[1].as_str().unwrap()));
    }
    // The archive by its own format: each entry an array with its head and its numbers.
    let model = std::fs::read(workshop.path("thornmere/runs/demo/demo.safetensors")).unwrap();
    let model = SafeTensors::deserialize(&model).unwrap();
    let mut zip = zip::ZipArchive::new(File::open(workshop.path("bees.npz")).unwrap()).unwrap();
    assert_eq!(zip.len(), model.names().len());
    for (name, tensor) in model.iter() {
        let mut bytes = Vec::new();
        zip.by_name(&format!("{name}.npy")).unwrap().read_to_end(&mut bytes).unwrap();
        let head = 10 + usize::from(u16::from_le_bytes([bytes[8], bytes[9]]));
        let shape: Vec<String> = tensor.shape().iter().map(|size| format!("{size},")).collect();
        let text = std::str::from_utf8(&bytes[10..head]).unwrap();
        assert!(text.contains(&format!("'shape': ({})", shape.concat())), "{text}");
        assert_eq!(&bytes[head..], tensor.data(), "{name}");
    }
    workshop
        .run("train thornmere/diaries --document line --unit byte-pair --vocabulary-size 300 --steps 1 --name pairs --quiet")
        .ok();
    workshop.run("export pairs --form tables --output pairs.npz").ok();
    assert_eq!(workshop.read("pairs.merges.tsv").lines().next(), Some("left\tright\tmerged"));
    assert_eq!(workshop.read("pairs.merges.tsv").lines().count(), 1 + 300 - 256);
}

#[test]
fn wrong_exports_are_refused_and_leave_nothing() {
    let workshop = workshop_with_demo();
    let before = files_below(&workshop.path(""));
    for (words, status, said) in [
        ("--opset 16", 2, "versions 17 to 22"),
        ("--graph classes", 2, "its graphs: `step`, `text`"),
        ("--form tables --precision half", 2, "--precision has no effect"),
        ("--precision single --text thornmere/diaries.csv", 2, "--text has no effect"),
        ("--precision half --text nowhere.txt", 1, "nowhere.txt"),
    ] {
        workshop.run(&format!("export thornmere/runs/demo --output x.onnx {words}")).fails(status, &[said]);
    }
    workshop.run("export thornmere/runs/demo --form tables --output x.tsv").fails(2, &["two files"]);
    workshop.run("export thornmere/runs/demo").fails(2, &["--output"]);
    for folder in ["./", "thornmere", "new/"] {
        workshop.run(&format!("export thornmere/runs/demo --output {folder}")).fails(2, &["is a folder"]);
    }
    workshop.run("export thornmere/diaries.csv --output x.onnx").fails(1, &["diaries.csv", "damaged"]);
    workshop.run("export nowhere --output x.onnx").fails(1, &["nowhere"]);
    assert!(differing(&files_below(&workshop.path("")), &before).is_empty());
    let checkpoint =
        std::fs::read_dir(workshop.path("thornmere/runs/demo/checkpoints")).unwrap().next().unwrap();
    let checkpoint = checkpoint.unwrap().path().display().to_string();
    workshop.run_words(&["export", &checkpoint, "--output", "x.onnx"]).fails(1, &["lalograph checkpoint"]);
    let mut damaged = std::fs::read(workshop.path("thornmere/runs/demo/demo.safetensors")).unwrap();
    let last = damaged.len() - 1;
    damaged[last] ^= 1;
    workshop.write("damaged.safetensors", &damaged);
    workshop.run("export damaged.safetensors --output x.onnx").fails(1, &["does not match its hash"]);
    workshop
        .run("export thornmere/runs/demo --graph step --force --output /dev/null")
        .fails(1, &["/dev/null is a device"]);
    assert!(!workshop.path("x.onnx").exists());
}

#[test]
fn a_run_scores_the_same_to_the_bit_after_export_and_import() {
    let workshop = workshop_with_demo();
    let done = json(&workshop.run("runs export thornmere/runs/demo --output demo.tar.zst --json").ok());
    assert!(done["files"].as_u64().unwrap() > 8, "{done}");
    // The same run gives the same bytes.
    workshop.run("runs export thornmere/runs/demo --output again.tar.zst").ok();
    assert_eq!(
        std::fs::read(workshop.path("demo.tar.zst")).unwrap(),
        std::fs::read(workshop.path("again.tar.zst")).unwrap()
    );
    workshop.run("runs export thornmere/runs/demo --output demo.tar.zst").fails(1, &["exists"]);
    let said = workshop.run("runs import demo.tar.zst --runs elsewhere").ok();
    assert!(said.contains("elsewhere/demo") && said.contains("all verified"), "{said}");
    for file in
        ["demo.safetensors", "plan.toml", "metrics.jsonl", "samples.jsonl", "run.json", "vocabulary.json"]
    {
        let [here, there] = ["thornmere/runs", "elsewhere"]
            .map(|runs| std::fs::read(workshop.path(&format!("{runs}/demo/{file}"))).unwrap());
        assert_eq!(here, there, "{file}");
    }
    assert!(workshop.read("elsewhere/demo/report/report.html").contains("<html"));
    let score = |run: &str| workshop.run(&format!("score {run} thornmere/diaries.csv --json")).ok();
    assert_eq!(score("thornmere/runs/demo"), score("elsewhere/demo"));
    assert!(!workshop.path("elsewhere/demo/checkpoints").exists());
    workshop.run("runs import demo.tar.zst --runs elsewhere").fails(1, &["exists"]);
    workshop.run("runs import demo.tar.zst --runs elsewhere --name other").ok();
    assert_eq!(score("elsewhere/other"), score("elsewhere/demo"));
    workshop.run("runs import demo.tar.zst --runs elsewhere --force").ok();
    workshop.run("runs import demo.tar.zst --name ../up").fails(2, &["cannot be the name"]);
    // With its checkpoints a run goes on elsewhere as it would here.
    workshop.run("runs export thornmere/runs/demo --checkpoints --output whole.tar.zst").ok();
    workshop.run("runs import whole.tar.zst --runs elsewhere --name whole").ok();
    workshop.run("resume elsewhere/whole --steps 450 --quiet").ok();
    // Metrics of several runs as one table.
    workshop.run("runs export thornmere/runs/demo elsewhere/other --metrics --output metrics.csv").ok();
    let table = workshop.read("metrics.csv");
    let heads: Vec<&str> = table.lines().next().unwrap().split(',').collect();
    assert_eq!(heads[..8], ["run", "kind", "step", "epoch", "tokens", "seconds", "loss", "bits_per_byte"]);
    let records = workshop.read("thornmere/runs/demo/metrics.jsonl").lines().count();
    assert_eq!(table.lines().count(), 1 + 2 * records);
    workshop
        .run("runs export thornmere/runs/demo elsewhere/other --output two.tar.zst")
        .fails(2, &["--metrics"]);
}

/// The entries of an archive: names and contents.
fn entries(workshop: &Workshop, archive: &str) -> Vec<(String, Vec<u8>)> {
    let file = zstd::Decoder::new(File::open(workshop.path(archive)).unwrap()).unwrap();
    let mut archive = tar::Archive::new(file);
    let entry = |entry: std::io::Result<tar::Entry<'_, _>>| {
        let mut entry = entry.unwrap();
        let mut bytes = Vec::new();
        entry.read_to_end(&mut bytes).unwrap();
        (entry.path().unwrap().display().to_string(), bytes)
    };
    archive.entries().unwrap().map(entry).collect()
}

/// An archive of such entries. A name is written as it is, wherever it leads.
fn archive(entries: &[(String, Vec<u8>)], kind: tar::EntryType) -> Vec<u8> {
    let mut builder = tar::Builder::new(zstd::Encoder::new(Vec::new(), 1).unwrap());
    for (number, (name, bytes)) in entries.iter().enumerate() {
        let mut header = tar::Header::new_gnu();
        header.set_size(bytes.len() as u64);
        header.set_mode(0o644);
        if number + 1 == entries.len() {
            header.set_entry_type(kind);
        }
        header.as_gnu_mut().unwrap().name[..name.len()].copy_from_slice(name.as_bytes());
        header.set_cksum();
        builder.append(&header, Cursor::new(bytes)).unwrap();
    }
    builder.into_inner().unwrap().finish().unwrap()
}

#[test]
fn archives_that_were_changed_or_lead_elsewhere_are_refused_and_leave_nothing() {
    let workshop = workshop_with_demo();
    workshop.run("runs export thornmere/runs/demo --output demo.tar.zst").ok();
    let whole = entries(&workshop, "demo.tar.zst");
    let plain = tar::EntryType::Regular;
    let refused = |name: &str, bytes: &[u8], said: &[&str]| {
        workshop.write("bad.tar.zst", bytes);
        workshop.run("runs import bad.tar.zst --runs new").fails(1, said);
        let left: Vec<String> = files_below(&workshop.path("new"))
            .into_keys()
            .map(|path| path.display().to_string())
            .filter(|path| !path.ends_with("lock"))
            .collect();
        assert!(left.is_empty(), "{name}: {left:?}");
    };
    // Each file in turn with one changed byte is named.
    for number in 1..whole.len() {
        let mut changed = whole.clone();
        let (name, bytes) = &mut changed[number];
        let at = bytes.len() / 2;
        bytes[at] ^= 1;
        let name = name.clone();
        refused(&name, &archive(&changed, plain), &[&format!("`{name}` does not match its hash")]);
    }
    // Entries that lead out of the run.
    for path in ["../out.txt", "/tmp/out.txt", "a/../../out.txt", "./plan.toml", "a//b", ".."] {
        let mut with = whole.clone();
        with.insert(1, (path.to_owned(), b"x".to_vec()));
        refused(path, &archive(&with, plain), &["leads out of the run"]);
    }
    let mut link = whole.clone();
    link.truncate(2);
    refused("link", &archive(&link, tar::EntryType::Symlink), &["not a plain file"]);
    let mut more = whole.clone();
    more.push(("extra.txt".to_owned(), b"x".to_vec()));
    refused("more", &archive(&more, plain), &["`extra.txt` is not what its list of contents says"]);
    let mut fewer = whole.clone();
    let (gone, _) = fewer.pop().unwrap();
    refused("fewer", &archive(&fewer, plain), &[&format!("`{gone}` is missing")]);
    // A bomb: a list that promises much, or entries that hold more than the list says.
    let mut list = json(std::str::from_utf8(&whole[0].1).unwrap());
    list["files"][0]["bytes"] = (1u64 << 50).into();
    let mut bomb = whole.clone();
    bomb[0].1 = list.to_string().into_bytes();
    refused("bomb", &archive(&bomb, plain), &["500 times the size of the archive"]);
    let mut bomb = whole.clone();
    bomb[1].1 = vec![0; 20 << 20];
    refused("large entry", &archive(&bomb, plain), &["is not what its list of contents says"]);
    let mut other = whole.clone();
    other[0].1 = b"{\"format\":\"x\"}".to_vec();
    refused("list", &archive(&other, plain), &["no archive of a run"]);
    // Cut short anywhere, or something else.
    let bytes = std::fs::read(workshop.path("demo.tar.zst")).unwrap();
    for cut in [0, 3, 40, bytes.len() / 2, bytes.len() - 5] {
        refused("cut", &bytes[..cut], &["bad.tar.zst"]);
    }
    refused("text", b"the bees are quiet", &["no archive of a run"]);
    workshop.run("runs import nowhere.tar.zst").fails(1, &["nowhere.tar.zst"]);
}

/// The tensors of a model file as another program would write them.
fn foreign(workshop: &Workshop, model: &str, change: impl Fn(&str, &mut Vec<usize>)) -> Vec<u8> {
    let bytes = std::fs::read(workshop.path(model)).unwrap();
    let file = SafeTensors::deserialize(&bytes).unwrap();
    let tensors = file.iter().map(|(name, tensor)| {
        let mut shape = tensor.shape().to_vec();
        change(name, &mut shape);
        (name.to_owned(), TensorView::new(Dtype::F32, shape, tensor.data()).unwrap())
    });
    serialize(tensors, None).unwrap()
}

#[test]
fn tensors_from_elsewhere_become_a_model() {
    let workshop = workshop_with_demo();
    workshop
        .write("weights.safetensors", foreign(&workshop, "thornmere/runs/demo/demo.safetensors", |_, _| {}));
    let import = "import weights.safetensors --plan thornmere/runs/demo/plan.toml --vocabulary thornmere/vocabulary.json --output made.safetensors";
    let done = json(&workshop.run(&format!("{import} --json")).ok());
    assert_eq!(
        (done["task"].as_str(), done["tensors"].as_u64().unwrap() > 5),
        (Some("language model"), true)
    );
    let score = |model: &str| workshop.run(&format!("score {model} thornmere/diaries.csv --json")).ok();
    assert_eq!(score("made.safetensors"), score("thornmere/runs/demo"));
    workshop.run(import).fails(1, &["exists"]);
    let import = import.replace("made.", "other.");
    workshop.run(&format!("{import} --set model.hidden=7")).fails(1, &["is expected", "layer.1.input"]);
    workshop.run(&format!("{import} --classes a,b")).fails(2, &["--classes has no effect"]);
    let turned = foreign(&workshop, "thornmere/runs/demo/demo.safetensors", |name, shape| {
        if name == "layer.1.input" {
            shape.reverse();
        }
    });
    workshop.write("weights.safetensors", turned);
    workshop.run(&import).fails(1, &["`layer.1.input`", "is it transposed?"]);
    workshop.write("weights.safetensors", b"no tensors");
    workshop.run(&import).fails(1, &["weights.safetensors", "damaged"]);
    workshop.run(&import.replace("plan.toml", "run.json")).fails(2, &["run.json"]);
    assert!(!workshop.path("other.safetensors").exists());
    // A classifier, with the labels of its classes.
    workshop
        .run("classify train thornmere/diaries.csv --label outcome --network convolution --steps 4 --name outcome --quiet")
        .ok();
    workshop.write("weights.safetensors", foreign(&workshop, "runs/outcome/outcome.safetensors", |_, _| {}));
    let bytes = std::fs::read(workshop.path("runs/outcome/outcome.safetensors")).unwrap();
    let (_, header) = SafeTensors::read_metadata(&bytes).unwrap();
    let labels: Vec<String> = serde_json::from_str(&header.metadata().as_ref().unwrap()["classes"]).unwrap();
    let import = format!(
        "import weights.safetensors --plan runs/outcome/plan.toml --vocabulary runs/outcome/vocabulary.json --output made-too.safetensors --classes {}",
        labels.join(",")
    );
    workshop.run(&import).ok();
    let predict = |model: &str| {
        workshop.run(&format!("classify predict {model} thornmere/diaries.csv --first 5 --json")).ok()
    };
    assert_eq!(predict("made-too.safetensors"), predict("outcome"));
    workshop.run(&import.replace("made-too", "x").replace(&labels.join(","), "b,a")).fails(2, &["ascending"]);
}
