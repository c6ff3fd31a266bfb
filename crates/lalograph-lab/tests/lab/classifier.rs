//! Classifiers as runs: what each network can learn, the same results on any number of threads and after any interruption.

use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

use lalograph_lab::explain::{explain, log_odds};
use lalograph_lab::run::description::RunStatus;
use lalograph_lab::run::shelf;
use lalograph_lab::training::resume::{Changes, Resumable};
use lalograph_lab::{
    LabError, Plan, PreparationEvent, PreparedClassifier, ReadyClassifier, RunFolder, Running, TrainingEvent,
    TrainingOutcome, follow_classifier, prepare_classifier, prepare_classifier_again, train_classifier,
};
use lalograph_net::numbers::chance::stream;
use lalograph_net::step::processes::Processes;
use lalograph_storage::{Disk, Existing};
use rand::RngExt;

use crate::channels::Channels;

/// Documents of 24 filler words with two markers, as CSV. `place` gives the class and the markers with their places.
fn write_documents(
    path: &Path,
    count: usize,
    mut place: impl FnMut(&mut dyn FnMut(usize) -> usize) -> (&'static str, [(usize, &'static str); 2]),
) {
    let mut random = stream(1, "documents", &[]);
    let mut draw = |below: usize| random.random_range(0..below);
    let mut text = String::from("text,class\n");
    for _ in 0..count {
        let mut words: Vec<String> = (0..24).map(|_| format!("leaf{}", draw(8))).collect();
        let (class, markers) = place(&mut draw);
        for (at, word) in markers {
            words[at] = word.to_owned();
        }
        text.push_str(&format!("{},{class}\n", words.join(" ")));
    }
    let file = lalograph_storage::WholeFile::create(&Disk, path, Existing::Replace).unwrap();
    let mut file = file;
    std::io::Write::write_all(&mut file, text.as_bytes()).unwrap();
    file.finish().unwrap();
}

/// Two markers side by side: their order decides.
fn order(draw: &mut dyn FnMut(usize) -> usize) -> (&'static str, [(usize, &'static str); 2]) {
    let at = draw(23);
    if draw(2) == 0 {
        ("rising", [(at, "amber"), (at + 1, "birch")])
    } else {
        ("falling", [(at, "birch"), (at + 1, "amber")])
    }
}

/// Two markers with six words or more between them, further apart than any filter reads, and none near an end, which a filter would notice: their
/// order decides.
fn distant(draw: &mut dyn FnMut(usize) -> usize) -> (&'static str, [(usize, &'static str); 2]) {
    let (first, last) = (4 + draw(4), 15 + draw(5));
    if draw(2) == 0 {
        ("rising", [(first, "amber"), (last, "birch")])
    } else {
        ("falling", [(first, "birch"), (last, "amber")])
    }
}

fn plan(corpus: &Path, settings: &[&str]) -> Plan {
    let base = [
        "corpus.label=class",
        "corpus.test_share=0.2",
        "model.embedding=12",
        "model.hidden=16",
        "classifier.filters=12",
        "training.dropout=0",
        "training.learning_rate=0.02",
        "training.epochs=12",
        "training.batch=16",
    ];
    let settings: Vec<String> = base.iter().chain(settings).map(|&s| s.to_owned()).collect();
    let mut plan = Plan::from_toml("[classifier]\n", &settings).unwrap();
    plan.corpus.paths = vec![corpus.to_owned()];
    plan
}

fn prepared(plan: Plan) -> Result<PreparedClassifier, LabError> {
    prepare_classifier(plan, 2, &mut |_: &PreparationEvent<'_>| ControlFlow::Continue(()))
}

fn begin(task: &PreparedClassifier, parent: &Path, name: &str) -> Running {
    let description = task.describe(name, "now".into(), "0", None).unwrap();
    let files = task.data().run_files().unwrap();
    let (run, claim, description) =
        shelf::create(&Disk, parent, &task.data().plan, description, &files, Existing::Keep).unwrap();
    Running::new(run, claim, description)
}

fn quiet(_: &TrainingEvent<'_, ()>) -> ControlFlow<()> {
    ControlFlow::Continue(())
}

fn trained(corpus: &Path, settings: &[&str]) -> TrainingOutcome {
    let folder = tempfile::tempdir().unwrap();
    let task = prepared(plan(corpus, settings)).unwrap();
    let running = begin(&task, folder.path(), "run");
    train_classifier(&task, running, 2, &mut quiet).unwrap()
}

fn accuracy(outcome: &TrainingOutcome) -> f64 {
    outcome.test.as_ref().and_then(|test| test.figure("accuracy")).unwrap()
}

#[test]
fn where_order_decides_filters_and_layers_learn_it_and_pooled_vectors_cannot() {
    let folder = tempfile::tempdir().unwrap();
    let corpus = folder.path().join("order.csv");
    write_documents(&corpus, 1200, order);
    for (settings, learns) in [
        (&["classifier.network=pooled", "classifier.dense=[16]"][..], false),
        (&["classifier.network=linear", "classifier.term_pairs=10"], false),
        (&["classifier.network=convolution"], true),
        (&["classifier.network=recurrent", "model.cell=gru"], true),
        (&["classifier.network=recurrent", "classifier.pooling=last", "model.directions=both"], true),
    ] {
        let found = accuracy(&trained(&corpus, settings));
        assert!(if learns { found > 0.97 } else { found < 0.65 }, "{settings:?}: {found}");
    }
}

#[test]
fn several_processes_leave_the_classifier_of_one() {
    let folder = tempfile::tempdir().unwrap();
    let corpus = folder.path().join("order.csv");
    write_documents(&corpus, 90, order);
    for settings in [
        &["classifier.network=pooled", "classifier.pooling=both"][..],
        &["classifier.network=convolution", "classifier.dense=[8]"],
        &["classifier.network=recurrent", "classifier.length=whole", "training.window=9"],
        &["classifier.network=recurrent", "model.cell=gru", "model.directions=both"],
    ] {
        let settings =
            [settings, &["training.lanes=5", "training.epochs=2", "training.dropout=0.1"]].concat();
        let task = prepared(plan(&corpus, &settings)).unwrap();
        let models: Vec<Vec<u8>> = (1..=3)
            .map(|count| {
                let parent = tempfile::tempdir().unwrap();
                let running = begin(&task, parent.path(), "run");
                let run = running.run.clone();
                let mut links = Channels::between(count).into_iter();
                let exchange = Box::new(Processes::new(links.next().unwrap()));
                std::thread::scope(|scope| {
                    for link in links {
                        let exchange = Box::new(Processes::new(link));
                        scope.spawn(|| follow_classifier(&task, exchange, 1, &|| false).unwrap());
                    }
                    let running = Running { exchange, ..running };
                    train_classifier(&task, running, 2, &mut quiet).unwrap()
                });
                std::fs::read(run.model()).unwrap()
            })
            .collect();
        assert!(models[1..].iter().all(|model| *model == models[0]), "{settings:?}");
    }
}

#[test]
fn where_distant_tokens_decide_recurrent_layers_learn_it_and_filters_alone_cannot() {
    let folder = tempfile::tempdir().unwrap();
    let corpus = folder.path().join("distant.csv");
    write_documents(&corpus, 1200, distant);
    let recurrent = ["classifier.network=recurrent", "classifier.pooling=last", "training.epochs=20"];
    let found = accuracy(&trained(&corpus, &recurrent));
    assert!(found > 0.97, "{found}");
    // In windows of twelve tokens the markers are in different windows: the carried state has the first.
    let windows = [&recurrent[..], &["training.window=12", "classifier.pooling=both"]].concat();
    let found = accuracy(&trained(&corpus, &windows));
    assert!(found > 0.9, "{found}");
    let found = accuracy(&trained(&corpus, &["classifier.network=convolution"]));
    assert!(found < 0.65, "{found}");
}

/// What a run leaves, but for times.
fn left(run: &RunFolder) -> (Vec<u8>, Vec<(u64, f64)>) {
    let history = lalograph_lab::run::history::RunHistory::read(run.clone()).unwrap();
    let metrics = history.metrics.iter().map(|record| (record.step(), record.loss())).collect();
    (std::fs::read(run.model()).unwrap(), metrics)
}

#[test]
fn each_network_gives_the_same_bytes_on_any_number_of_threads_and_after_interruptions() {
    let folder = tempfile::tempdir().unwrap();
    let corpus = folder.path().join("order.csv");
    write_documents(&corpus, 300, order);
    for (number, network) in ["pooled", "convolution", "recurrent"].into_iter().enumerate() {
        let settings = [
            format!("classifier.network={network}"),
            "training.dropout=0.2".to_owned(),
            "regularisation.dropout_words=0.1".to_owned(),
            "classifier.class_weights=balanced".to_owned(),
            "classifier.length=whole".to_owned(),
            "training.window=4".to_owned(),
            "training.epochs=3".to_owned(),
        ];
        let settings: Vec<&str> = settings.iter().map(String::as_str).collect();
        let task = prepared(plan(&corpus, &settings)).unwrap();
        let mut runs = Vec::new();
        for threads in [1, 3] {
            let running = begin(&task, folder.path(), &format!("{number}-{threads}"));
            let run = running.run.clone();
            train_classifier(&task, running, threads, &mut quiet).unwrap();
            runs.push(left(&run));
        }
        assert!(runs[0] == runs[1], "{network}");
        // Stopped after every seventh step, and read again from its folder.
        let running = begin(&task, folder.path(), &format!("{number}-stopped"));
        let run = running.run.clone();
        let mut next = Some(running);
        while let Some(running) = next.take() {
            let mut steps = 0;
            let outcome = train_classifier(&task, running, 2, &mut |event: &TrainingEvent<'_, ()>| {
                steps += u32::from(matches!(event, TrainingEvent::Step { .. }));
                if steps >= 7 { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
            });
            if outcome.unwrap().status == RunStatus::Interrupted {
                let resumable = Resumable::open(&Disk, run.path(), &Changes::default(), false).unwrap();
                let ignore = &mut |_: &PreparationEvent<'_>| ControlFlow::Continue(());
                let again = prepare_classifier_again(&run, resumable.plan(), None, 1, ignore).unwrap();
                next = Some(resumable.running(&again, "later".into(), |error| panic!("{error}")).unwrap());
            }
        }
        assert!(left(&run) == runs[0], "{network}");
    }
}

#[test]
fn a_linear_classifier_is_solved_to_the_same_bytes_on_any_number_of_threads_and_after_a_stop() {
    let folder = tempfile::tempdir().unwrap();
    let corpus = folder.path().join("planted.csv");
    // The class is told by one of two words, beside eight that tell nothing.
    write_documents(&corpus, 400, |draw| match draw(2) {
        0 => ("calm", [(draw(12), "amber"), (12 + draw(12), "cedar")]),
        _ => ("wild", [(draw(12), "birch"), (12 + draw(12), "cedar")]),
    });
    let settings = ["classifier.network=linear", "classifier.penalty=l1", "classifier.strengths=[0.1, 0.03]"];
    let task = prepared(plan(&corpus, &settings)).unwrap();
    let mut runs = Vec::new();
    for threads in [1, 3] {
        let running = begin(&task, folder.path(), &format!("threads-{threads}"));
        let run = running.run.clone();
        let outcome = train_classifier(&task, running, threads, &mut quiet).unwrap();
        assert_eq!(accuracy(&outcome), 1.0);
        assert_eq!(outcome.validation.unwrap().figure("solved"), Some(1.0));
        runs.push(left(&run));
    }
    assert!(runs[0] == runs[1]);
    let running = begin(&task, folder.path(), "stopped");
    let run = running.run.clone();
    let mut steps = 0;
    let outcome = train_classifier(&task, running, 2, &mut |event: &TrainingEvent<'_, ()>| {
        steps += u32::from(matches!(event, TrainingEvent::Step { .. }));
        if steps >= 3 { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    });
    assert_eq!(outcome.unwrap().status, RunStatus::Interrupted);
    assert!(ReadyClassifier::load(&run.model()).is_ok());
    let resumable = Resumable::open(&Disk, run.path(), &Changes::default(), false).unwrap();
    let ignore = &mut |_: &PreparationEvent<'_>| ControlFlow::Continue(());
    let again = prepare_classifier_again(&run, resumable.plan(), None, 1, ignore).unwrap();
    let running = resumable.running(&again, "later".into(), |error| panic!("{error}")).unwrap();
    train_classifier(&again, running, 2, &mut quiet).unwrap();
    assert!(left(&run) == runs[0]);

    // The planted words have weights, and no other word has.
    let ready = ReadyClassifier::load(&run.model()).unwrap();
    let (model, vocabulary) = (ready.linear().unwrap(), ready.input.vocabulary().unwrap());
    let terms = &model.form.terms.as_ref().unwrap().terms;
    let mut with_weight: Vec<(String, bool)> = Vec::new();
    for (place, &term) in terms.iter().enumerate() {
        let weights = model.class_weights(place);
        assert_eq!(weights[0], -weights[1]);
        if weights[0] != 0.0 {
            with_weight.push((vocabulary.shown(term).unwrap().into_owned(), weights[0] > 0.0));
        }
    }
    with_weight.sort();
    assert_eq!(with_weight, [("amber".to_owned(), true), ("birch".to_owned(), false)]);
    // What the tokens of a text add up to, with the bias, is its log-odds.
    let text = "leaf1 amber leaf2 amber cedar leaf3";
    let found = explain(&ready, &[text], 1, &mut |_| true).unwrap().remove(0);
    let bias = *model.parameters.last().unwrap();
    let parts: Vec<f64> = (0..6).map(|token| found.effect(token, 0).unwrap()).collect();
    assert!((parts.iter().sum::<f64>() - bias - log_odds(&found.logs, 0)).abs() < 1e-9);
    assert!(parts[1] > 0.0 && parts[1] == parts[3] && parts[0] == 0.0);
}

#[test]
fn terms_of_a_linear_classifier_are_chosen_as_asked() {
    let folder = tempfile::tempdir().unwrap();
    let corpus = folder.path().join("order.csv");
    write_documents(&corpus, 300, order);
    let terms = |settings: &[&str]| -> Result<Vec<String>, LabError> {
        let settings = [&["classifier.network=linear"], settings].concat();
        let PreparedClassifier::Linear(task) = prepared(plan(&corpus, &settings))? else {
            panic!("a network")
        };
        let vocabulary = task.data.input.vocabulary().unwrap();
        let form = task.form.terms.as_ref().unwrap();
        let mut terms: Vec<String> =
            form.terms.iter().map(|&term| vocabulary.shown(term).unwrap().into_owned()).collect();
        terms.extend(task.missing_terms.iter().map(|term| format!("no {term}")));
        Ok(terms)
    };
    assert_eq!(terms(&["classifier.term_choice=all"]).unwrap().len(), 10);
    let most = terms(&["classifier.term_choice=most_frequent", "classifier.terms=3"]).unwrap();
    assert!(most.len() == 3 && most.iter().all(|term| term.starts_with("leaf")), "{most:?}");
    let listed = r#"classifier.term_list=["birch", "nowhere", "amber"]"#;
    assert_eq!(terms(&["classifier.term_choice=listed", listed]).unwrap(), ["birch", "nowhere", "amber"]);
    assert!(terms(&["classifier.term_choice=listed", r#"classifier.term_list=["two words"]"#]).is_err());
    for bad in [
        &["classifier.term_choice=listed"][..],
        &[r#"classifier.term_list=["amber"]"#],
        &["classifier.strengths=[0.1, 0.2]"],
        &["classifier.tolerance=0"],
        &["classifier.dense=[8]"],
        &["classifier.terms=0"],
    ] {
        let settings: Vec<String> =
            bad.iter().chain(&["classifier.network=linear"]).map(|&s| s.to_owned()).collect();
        assert!(Plan::from_toml("[classifier]\n", &settings).is_err(), "{bad:?}");
    }
    // Products of pairs find what single terms cannot: the class is whether both words or neither are there.
    let both = folder.path().join("both.csv");
    write_documents(&both, 600, |draw| match (draw(2), draw(2)) {
        (0, 0) => ("alike", [(1, "leaf0"), (2, "leaf0")]),
        (1, 1) => ("alike", [(1, "amber"), (2, "birch")]),
        (0, _) => ("unlike", [(1, "amber"), (2, "leaf0")]),
        _ => ("unlike", [(1, "leaf0"), (2, "birch")]),
    });
    let linear = [
        "classifier.network=linear",
        "classifier.term_values=counts",
        "classifier.term_choice=listed",
        r#"classifier.term_list=["amber", "birch"]"#,
    ];
    assert!(accuracy(&trained(&both, &linear)) < 0.75);
    let paired = [&linear[..], &["classifier.term_pairs=2"]].concat();
    assert_eq!(accuracy(&trained(&both, &paired)), 1.0);
}

#[test]
fn a_model_file_predicts_as_the_run_validated() {
    let folder = tempfile::tempdir().unwrap();
    let corpus = folder.path().join("order.csv");
    write_documents(&corpus, 300, order);
    let task = prepared(plan(&corpus, &["classifier.network=convolution", "training.epochs=5"])).unwrap();
    let running = begin(&task, folder.path(), "run");
    let run = running.run.clone();
    let outcome = train_classifier(&task, running, 1, &mut quiet).unwrap();
    let ready = ReadyClassifier::load(&run.model()).unwrap();
    assert_eq!(ready.classes, ["falling", "rising"]);
    let text = std::fs::read_to_string(&corpus).unwrap();
    let documents: Vec<(&str, &str)> =
        text.lines().skip(1).map(|line| line.rsplit_once(',').unwrap()).collect();
    let (read, logs) = ready.reader().read(documents.iter().map(|(text, _)| *text)).unwrap();
    assert!(read.iter().all(|read| (read.tokens, read.read, read.unknown) == (24, 24, 0)));
    let mut right = 0;
    let mut held_out = 0;
    for ((text, class), logs) in documents.iter().zip(logs.chunks_exact(2)) {
        assert!((logs[0].exp() + logs[1].exp() - 1.0).abs() < 1e-9);
        if task.data().split.part_of(text, Some(class)) == lalograph_text::Part::Validation {
            held_out += 1;
            right += u32::from((logs[1] > logs[0]) == (*class == "rising"));
        }
    }
    let expected = outcome.validation.unwrap().figure("accuracy").unwrap();
    assert!((f64::from(right) / f64::from(held_out) - expected).abs() < 1e-9);
    // A reader of language models names the task.
    let error = lalograph_lab::ModelFile::load(&run.model()).err().unwrap().to_string();
    assert!(error.contains("another task: classifier"), "{error}");
}

#[test]
fn impossible_labels_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let write = |name: &str, text: &str| -> PathBuf {
        let path = folder.path().join(name);
        lalograph_storage::write_whole(&Disk, &path, text.as_bytes(), Existing::Replace).unwrap();
        path
    };
    let rows = |class: &dyn Fn(usize) -> &'static str| -> String {
        let row = |i: usize| format!("hive {i} hums,{}\n", class(i));
        format!("text,class\n{}", (0..60).map(row).collect::<String>())
    };
    let one = write("one.csv", &rows(&|_| "quiet"));
    assert!(matches!(prepared(plan(&one, &[])), Err(LabError::OneClass { .. })));
    // All documents of a class are held out by the split.
    let two = write("two.csv", &rows(&|i| if i == 7 { "loud" } else { "quiet" }));
    let split = r#"{"format":"lalograph split","version":1,"seed":1,"cutoffs":{"validation_below":0,"test_below":0},
        "class_cutoffs":{"loud":{"validation_below":9007199254740992,"test_below":9007199254740992}}}"#;
    let split = write("split.json", split);
    let mut by_split = plan(&two, &["corpus.test_share=0"]);
    by_split.corpus.split = Some(split);
    let found = prepared(by_split);
    assert!(matches!(&found, Err(LabError::ClassUnseen { class }) if class == "loud"), "{:?}", found.err());
    let mut unlabelled = plan(&two, &[]);
    unlabelled.corpus.label = None;
    assert!(matches!(prepared(unlabelled), Err(LabError::NoLabels)));
    let stranger = plan(&two, &["classifier.weights={ murmur = 2.0 }"]);
    assert!(matches!(prepared(stranger), Err(LabError::Plan(_))));
}

#[test]
fn rows_of_numbers_are_learnt_read_back_and_resumed() {
    let folder = tempfile::tempdir().unwrap();
    let corpus = folder.path().join("numbers.csv");
    let mut random = stream(3, "numbers", &[]);
    // Six steps of two features of very different sizes; whether the first feature rises or falls is the class.
    let heads: Vec<String> = (0..6).flat_map(|step| [format!("a{step}"), format!("b{step}")]).collect();
    let mut text = format!("{},class\n", heads.join(","));
    for row in 0..600 {
        let rises = row % 2 == 0;
        let noise: Vec<f64> = (0..12).map(|_| random.random_range(-0.2..0.2)).collect();
        let number = |step: usize, feature: usize| {
            let slope = if rises { step as f64 } else { 5.0 - step as f64 };
            if feature == 0 { slope / 5.0 + noise[step] } else { 5000.0 + 1000.0 * noise[6 + step] }
        };
        let numbers = (0..12).map(|at| format!("{:.4}", number(at / 2, at % 2)));
        text.push_str(&format!(
            "{},{}\n",
            numbers.collect::<Vec<_>>().join(","),
            if rises { "up" } else { "down" }
        ));
    }
    lalograph_storage::write_whole(&Disk, &corpus, text.as_bytes(), Existing::Replace).unwrap();
    for settings in [
        &["classifier.network=recurrent", "model.cell=gru"][..],
        &["classifier.network=convolution", "classifier.filter_widths=[2]"],
        &["classifier.network=linear", "classifier.penalty=l1"],
    ] {
        let settings = [settings, &["classifier.features=2"]].concat();
        let task = prepared(plan(&corpus, &settings)).unwrap();
        let running = begin(&task, folder.path(), settings[0]);
        let run = running.run.clone();
        let outcome = train_classifier(&task, running, 2, &mut quiet).unwrap();
        assert!(accuracy(&outcome) > 0.97, "{settings:?}: {outcome:?}");
        let ready = ReadyClassifier::load(&run.model()).unwrap();
        let rows: Vec<(String, &str)> = text
            .lines()
            .skip(1)
            .map(|line| line.rsplit_once(',').unwrap())
            .map(|(numbers, class)| (numbers.replace(',', "\n"), class))
            .collect();
        let (_, logs) = ready.reader().read(rows.iter().map(|(text, _)| text.as_str())).unwrap();
        let right = rows
            .iter()
            .zip(logs.chunks_exact(2))
            .filter(|((_, class), logs)| (logs[1] > logs[0]) == (*class == "up"));
        assert!(right.count() > 580);
        assert!(ready.reader().read(["1\n2\n3"]).is_err());
        if ready.linear().is_some() {
            continue;
        }
        let changes = Changes { epochs: Some(13), ..Changes::default() };
        let resumable = Resumable::open(&Disk, run.path(), &changes, false).unwrap();
        let ignore = &mut |_: &PreparationEvent<'_>| ControlFlow::Continue(());
        let again = prepare_classifier_again(&run, resumable.plan(), None, 1, ignore).unwrap();
        assert_eq!(again.data().training.steps(), task.data().training.steps());
        let running = resumable.running(&again, "later".into(), |error| panic!("{error}")).unwrap();
        train_classifier(&again, running, 1, &mut quiet).unwrap();
    }
    let wrong = plan(&corpus, &["classifier.features=2", "classifier.time_steps=5"]);
    assert!(matches!(prepared(wrong), Err(LabError::NumberColumns { columns: 12, .. })));
    let text = text.replacen("class\n0", "class\nlow", 1).replacen("class\n-0", "class\nlow", 1);
    lalograph_storage::write_whole(&Disk, &corpus, text.as_bytes(), Existing::Replace).unwrap();
    let error = prepared(plan(&corpus, &["classifier.features=2"])).err().unwrap().to_string();
    assert!(error.contains("line 2: column `a0` has `low"), "{error}");
}
