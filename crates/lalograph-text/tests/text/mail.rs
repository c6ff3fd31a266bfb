//! Messages and mailboxes.

use lalograph_text::corpus::Reason;
use lalograph_text::{CorpusSpec, Form};

use crate::common::{Folder, read, texts};

const TWO: &str = "From ann@apiary.example Thu Aug 22 12:36:23 2002\nSubject: frames\n\nFrom the hive: all well.\n\nFrom here to 2002 nothing new.\n\nFrom bob@apiary.example Fri Aug 23 09:01:00 2002 +0100\nSubject: wax\n\nSend wax.\n";

#[test]
fn a_mailbox_is_cut_before_its_messages_and_not_at_lines_that_only_begin_alike() {
    let folder = Folder::with(&[("letters.mbox", TWO.as_bytes())]);
    let (documents, reading) = read(&folder.files(&["letters.mbox"])).unwrap();
    let second = TWO.find("From bob").unwrap();
    assert_eq!(
        documents,
        [(1, TWO[..second].trim_end().to_owned()), (8, TWO[second..].trim_end().to_owned())]
    );
    assert_eq!((reading.skipped_count, reading.bytes), (0, TWO.len() as u64));
    // A separator inside a paragraph, and one that is cut short, are text.
    let text = TWO.replace("new.\n\nFrom", "new.\nFrom");
    let folder = Folder::with(&[("letters.mbox", text.as_bytes())]);
    assert_eq!(texts(&folder.files(&["letters.mbox"])).len(), 1);
}

#[test]
fn messages_in_folders_have_names_of_any_kind_and_their_folder_as_class() {
    let folder = Folder::with(&[
        ("good/0001.7c53336b", b"Subject: a\n\none"),
        ("good/.index", b"hidden"),
        ("bad/0002", b"Subject: b\n\ntwo"),
        ("bad/empty", b"\n\n"),
        ("bad/box", TWO.as_bytes()),
    ]);
    let spec = CorpusSpec {
        paths: vec![folder.path().to_owned()],
        form: Form::Mail,
        folder_labels: true,
        ..CorpusSpec::default()
    };
    let mut seen = Vec::new();
    let read_all = |spec: &CorpusSpec, seen: &mut Vec<String>| {
        lalograph_text::Corpus::find(spec)
            .unwrap()
            .read(|document| {
                seen.push(document.label.unwrap().to_owned());
                std::ops::ControlFlow::Continue(())
            })
            .unwrap()
    };
    let reading = read_all(&spec, &mut seen);
    assert_eq!(seen, ["bad", "bad", "bad", "good"]);
    // A file without text is no message.
    assert!(reading.skipped.iter().all(|skipped| skipped.reason == Reason::Blank), "{reading:?}");
    // The same files by a pattern: their class is the folder that they lie in.
    let mut by_pattern = Vec::new();
    read_all(&CorpusSpec { paths: vec![folder.path().join("*/*")], ..spec }, &mut by_pattern);
    by_pattern.sort();
    assert_eq!(by_pattern, seen);
}
