//! The rules of the page that comes with an exported model, implemented from the page, against the vocabulary itself.
#![allow(missing_docs, clippy::unwrap_used, clippy::panic, clippy::expect_used)]

mod cleaning;
mod html;
mod texts;
mod units;

use lalograph_text::vocabulary::VocabularySpec;
use lalograph_text::{Cleaning, CleaningStep, Unit, Vocabulary, VocabularyBuilder};

use self::units::Page;

fn vocabulary(unit: Unit, steps: &[CleaningStep], texts: &[String]) -> Vocabulary {
    let cleaning = Cleaning { steps: steps.to_vec() };
    let spec = VocabularySpec { unit, cleaning, size: Some(700), ..VocabularySpec::default() };
    let mut builder = VocabularyBuilder::new(&spec);
    // Half of the texts: the others have tokens that the vocabulary does not know.
    texts.iter().step_by(2).for_each(|text| builder.add(text));
    builder.finish(2).unwrap()
}

/// Sets of cleaning steps, so that every step that has a rule is in one.
fn sets() -> Vec<Vec<CleaningStep>> {
    use CleaningStep as Step;
    vec![
        vec![],
        vec![
            Step::StripHtml,
            Step::NormalFormC,
            Step::LowerCase,
            Step::SplitPunctuation,
            Step::CollapseSpace,
        ],
        vec![Step::NormalFormKd, Step::DropPunctuation, Step::FoldDigits, Step::PlainLineEnds],
        vec![
            Step::NormalFormKc,
            Step::LowerCase,
            Step::NormalFormD,
            "replace:(\\w)\\w+ing\\b=>$1$$".parse().unwrap(),
        ],
    ]
}

#[test]
fn the_pages_rules_give_the_same_indices_for_every_unit() {
    let texts = texts::all();
    assert!(texts.len() >= 10_000, "{}", texts.len());
    for unit in Unit::ALL {
        for steps in sets() {
            let vocabulary = vocabulary(unit, &steps, &texts[..2000]);
            let page = Page::new(&vocabulary.to_json().unwrap());
            let mut encoder = vocabulary.encoder();
            let mut wanted = Vec::new();
            for text in &texts {
                wanted.clear();
                encoder.encode_into(text, &mut wanted);
                assert_eq!(page.indices(text), wanted, "{unit:?} {steps:?} {text:?}");
            }
        }
    }
}

#[test]
fn every_step_but_those_of_mail_has_a_rule() {
    for step in CleaningStep::SIMPLE {
        assert_eq!(step.rule().is_none(), step.reads_mail(), "{step:?}");
    }
    for step in sets().concat() {
        assert!(step.rule().is_some_and(|rule| rule.len() > 30), "{step:?}");
    }
}
