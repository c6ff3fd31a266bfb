//! Groups of rows that are one document.

use std::ops::ControlFlow;

use lalograph_text::{Corpus, CorpusSpec};

use crate::common::{Folder, left_out, read};

const TABLE: &[u8] = b"hive,hour,note,state\n\
    a,10,ten,calm\n\
    b,1,one,swarm\n\
    a,9,nine,calm\n\
    c,1,alone,flow\n\
    b,2,two,swarm\n\
    b,2,again,swarm\n";

fn spec(folder: &Folder, file: &str, order: Option<&str>) -> CorpusSpec {
    CorpusSpec {
        text: vec!["note".into()],
        label: Some("state".into()),
        keep: vec!["hour".into()],
        group: Some("hive".into()),
        group_order: order.map(str::to_owned),
        ..folder.files(&[file])
    }
}

#[test]
fn rows_of_a_group_are_one_document_in_the_order_that_is_chosen() {
    let lines: String = std::str::from_utf8(TABLE)
        .unwrap()
        .lines()
        .skip(1)
        .map(|row| {
            let [hive, hour, note, state] = row.split(',').collect::<Vec<_>>()[..] else { panic!("{row}") };
            format!("{{\"hive\":\"{hive}\",\"hour\":{hour},\"note\":\"{note}\",\"state\":\"{state}\"}}\n")
        })
        .collect();
    let folder = Folder::with(&[("hours.csv", TABLE), ("hours.jsonl", lines.as_bytes())]);
    for (order, first) in [(None, "ten\nnine"), (Some("hour"), "nine\nten")] {
        for (file, before) in [("hours.csv", 1), ("hours.jsonl", 0)] {
            let mut seen = Vec::new();
            let reading = Corpus::find(&spec(&folder, file, order))
                .unwrap()
                .read(|document| {
                    let kept: Vec<String> = document.kept.values().map(str::to_owned).collect();
                    let lines: Vec<u64> = document.row_lines.iter().map(|line| line - before).collect();
                    seen.push((document.text.to_owned(), document.label.unwrap().to_owned(), lines, kept));
                    ControlFlow::Continue(())
                })
                .unwrap();
            let lines = if order.is_some() { vec![3, 1] } else { vec![1, 3] };
            let expected = [
                (first, "calm", lines, "10"),
                ("one\ntwo\nagain", "swarm", vec![2, 5, 6], "1"),
                ("alone", "flow", vec![4], "1"),
            ]
            .map(|(text, label, lines, kept)| {
                (text.to_owned(), label.to_owned(), lines, vec![kept.to_owned()])
            });
            assert_eq!(seen, expected, "{file} {order:?}");
            assert_eq!((reading.documents, reading.skipped_count), (3, 0));
        }
    }
}

#[test]
fn an_order_that_is_no_number_is_one_of_text_and_each_file_has_its_own_groups() {
    let table = b"hive,hour,note,state\na,2020-10-02,later,calm\na,2020-09-30,sooner,calm\n";
    let folder = Folder::with(&[("one.csv", table), ("two.csv", TABLE)]);
    let both = CorpusSpec {
        paths: vec![folder.path().to_owned()],
        form: lalograph_text::Form::Csv,
        ..spec(&folder, "one.csv", Some("hour"))
    };
    let texts: Vec<String> = read(&both).unwrap().0.into_iter().map(|(_, text)| text).collect();
    assert_eq!(texts, ["sooner\nlater", "nine\nten", "one\ntwo\nagain", "alone"]);
    let first = CorpusSpec { first: Some(2), ..both };
    assert_eq!(read(&first).unwrap().0.len(), 2);
}

#[test]
fn rows_without_a_group_and_groups_of_two_labels_are_left_out_by_name() {
    let table = b"hive,hour,note,state\na,1,x,calm\n,2,y,calm\nb,,z,calm\nb,2,z,calm\na,3,x,flow\nc,1, ,flow\nd,1,long one,flow\nd,2,long one,flow\n";
    let folder = Folder::with(&[("hours.csv", table)]);
    let mut spec = spec(&folder, "hours.csv", Some("hour"));
    spec.limits.document_bytes = 30;
    let (documents, reading) = read(&spec).unwrap();
    assert_eq!(documents, [(5, "z".to_owned()), (8, "long one\nlong one".to_owned())]);
    assert_eq!(
        left_out(&folder, &reading),
        [
            "hours.csv, line 3: no value in `hive`",
            "hours.csv, line 4: no value in `hour`",
            "hours.csv, line 7: no text",
            "hours.csv, line 6: another label than the first row of its group; the whole group is left out",
        ]
    );
    spec.limits.document_bytes = 16;
    let (_, reading) = read(&spec).unwrap();
    assert!(
        left_out(&folder, &reading)
            .contains(&"hours.csv, line 8: a document of more than 16 bytes".to_owned())
    );
}
