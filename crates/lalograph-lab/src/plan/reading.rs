//! Plans out of TOML, and what is wrong in them with its place.

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::error::{Place, PlanError};
use super::{Plan, reference};

/// Something wrong in a plan.
#[derive(Debug)]
pub struct Problem {
    /// Its place, if it is in the file.
    pub place: Option<Place>,
    /// The error.
    pub error: PlanError,
}

impl From<Problem> for PlanError {
    fn from(Problem { place, error }: Problem) -> Self {
        match (place, error) {
            // Its text draws the place.
            (_, error @ PlanError::Syntax(_)) | (None, error) => error,
            (Some(place), error) => Self::Placed { place, problem: Box::new(error) },
        }
    }
}

/// Everything that is wrong in a plan with `section.key=value` overrides: in the order of the file, then what the overrides bring. Only what is
/// no TOML hides the rest, since nothing is read past it.
pub fn problems(text: &str, overrides: &[String]) -> Vec<Problem> {
    read(text, overrides).err().unwrap_or_default()
}

impl Plan {
    /// Reads a plan, with `section.key=value` overrides applied in order. Settings that are not given have their defaults.
    ///
    /// # Errors
    /// The first [`PlanError`]: unknown keys with the nearest known one, wrong kinds, values out of range, with their place.
    pub fn from_toml(text: &str, overrides: &[String]) -> Result<Self, PlanError> {
        read(text, overrides).map_err(|problems| {
            problems.into_iter().next().map_or_else(|| PlanError::Syntax(String::new()), PlanError::from)
        })
    }

    /// The plan of these `section.key=value` settings, everything else as it is by default.
    ///
    /// # Errors
    /// As for [`from_toml`](Self::from_toml).
    pub fn with_settings(settings: &[&str]) -> Result<Self, PlanError> {
        let settings: Vec<String> = settings.iter().map(|&setting| setting.to_owned()).collect();
        Self::from_toml("", &settings)
    }

    /// The whole plan as TOML, every setting written out.
    ///
    /// # Errors
    /// [`PlanError::Unwritable`] for values that TOML has no form for, such as a path that is not UTF-8.
    pub fn to_toml(&self) -> Result<String, PlanError> {
        toml::to_string(self).map_err(|error| PlanError::Unwritable(error.to_string()))
    }
}

fn read(text: &str, overrides: &[String]) -> Result<Plan, Vec<Problem>> {
    let one = |place, error| vec![Problem { place, error }];
    let parsed = DeTable::parse(text).map_err(|error| one(place_of(&error, text), syntax(&error)))?;
    let keys = Keys::of(parsed.get_ref(), text);
    let mut found: Vec<Problem> = keys.unknown().collect();
    let mut table = table_of(parsed.get_ref());
    let known = known_keys();
    let mut overridden = Vec::new();
    for setting in overrides {
        match apply_override(&mut table, setting) {
            Ok(key) if known.contains(&key) => overridden.push(key),
            Ok(key) => found.push(Problem { place: None, error: unknown(&key, &known) }),
            Err(error) => found.push(Problem { place: None, error }),
        }
    }
    let place = |key: &str| {
        if overridden.iter().any(|other| other == key) { None } else { keys.place(key) }
    };
    let classifies = table.contains_key("classifier");
    let mut usable = usable(table, &known, &mut |key, error| {
        let place = place(&key);
        found.push(Problem { place, error: wrong_kind(key, error.message()) });
    });
    if classifies {
        usable = over_defaults(&Plan::for_classifier(), usable);
    }
    let plan: Plan = usable.try_into().map_err(|error: toml::de::Error| one(None, syntax(&error)))?;
    let outside = plan.out_of_range().into_iter().map(|error| {
        let place = match &error {
            PlanError::Range { key, .. } => place(key),
            _ => None,
        };
        Problem { place, error }
    });
    found.extend(outside);
    found.sort_by_key(|problem| (problem.place.is_none(), problem.place));
    if found.is_empty() { Ok(plan) } else { Err(found) }
}

/// Settings laid over the defaults of a task.
fn over_defaults(defaults: &Plan, settings: toml::Table) -> toml::Table {
    let mut table = toml::Table::try_from(defaults).unwrap_or_default();
    for (section, values) in settings {
        match (table.get_mut(&section), values) {
            (Some(toml::Value::Table(own)), toml::Value::Table(values)) => own.extend(values),
            (_, values) => drop(table.insert(section, values)),
        }
    }
    table
}

/// The settings that are known and of the right kind; `each` is called with every other known one. Each is read alone, so that none hides another.
fn usable(
    table: toml::Table,
    known: &[String],
    each: &mut dyn FnMut(String, toml::de::Error),
) -> toml::Table {
    let mut usable = toml::Table::new();
    for (section, value) in table {
        let toml::Value::Table(settings) = value else {
            continue;
        };
        let mut kept = toml::Table::new();
        for (key, value) in settings {
            let name = format!("{section}.{key}");
            if !known.contains(&name) {
                continue;
            }
            let inner = toml::Table::from_iter([(key.clone(), value.clone())]);
            let alone = toml::Table::from_iter([(section.clone(), toml::Value::Table(inner))]);
            match alone.try_into::<Plan>() {
                Ok(_) => drop(kept.insert(key, value)),
                Err(error) => each(name, error),
            }
        }
        if !kept.is_empty() {
            usable.insert(section, toml::Value::Table(kept));
        }
    }
    usable
}

/// Explains why a value is not of its setting's kind.
fn wrong_kind(key: String, message: &str) -> PlanError {
    let kinds = [
        ("expected usize", "a whole number, 0 or above"),
        ("expected u64", "a whole number, 0 or above"),
        ("expected u32", "a whole number, 0 or above"),
        ("expected f64", "a number"),
        ("expected a boolean", "true or false"),
        ("expected a string", "a text"),
        ("expected a sequence", "a list"),
        ("expected path string", "a path"),
    ];
    if let Some((value, choices)) =
        message.strip_prefix("unknown variant `").and_then(|rest| rest.split_once("`, expected "))
    {
        let names: Vec<String> = choices.split('`').skip(1).step_by(2).map(str::to_owned).collect();
        let nearest =
            nearest(value, &names).map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
        return PlanError::Kind { key, what: format!("is `{value}` and must be {choices}{nearest}") };
    }
    let is = message
        .strip_prefix("invalid type: ")
        .or_else(|| message.strip_prefix("invalid value: "))
        .and_then(|rest| rest.rsplit_once(", expected "))
        .map(|(is, _)| is);
    let must = kinds.iter().find(|(part, _)| message.ends_with(part)).map(|(_, must)| *must);
    let what = match (is, must) {
        (Some(is), Some(must)) => {
            format!("is {} and must be {must}", is.replace("floating point", "the number"))
        }
        _ => format!("cannot be used: {}", message.trim_end()),
    };
    PlanError::Kind { key, what }
}

fn syntax(error: &toml::de::Error) -> PlanError {
    PlanError::Syntax(error.to_string().trim_end().to_owned())
}

fn place_of(error: &toml::de::Error, text: &str) -> Option<Place> {
    error.span().map(|span| Place::of(text, span.start))
}

/// Converts the parsed table; whole numbers too large for a table become text.
fn table_of(parsed: &DeTable<'_>) -> toml::Table {
    parsed.iter().map(|(key, value)| (key.get_ref().to_string(), value_of(value.get_ref()))).collect()
}

fn value_of(parsed: &DeValue<'_>) -> toml::Value {
    match parsed {
        DeValue::String(text) => toml::Value::String(text.to_string()),
        DeValue::Integer(number) => {
            let (digits, radix) = (number.as_str(), number.radix());
            match (i64::from_str_radix(digits, radix), u64::from_str_radix(digits, radix)) {
                (Ok(number), _) => toml::Value::Integer(number),
                (Err(_), Ok(large)) => toml::Value::String(large.to_string()),
                (Err(_), Err(_)) => toml::Value::String(number.to_string()),
            }
        }
        // What is no number is not parsed as one.
        DeValue::Float(number) => toml::Value::Float(number.as_str().parse().unwrap_or(f64::NAN)),
        DeValue::Boolean(yes) => toml::Value::Boolean(*yes),
        DeValue::Datetime(time) => toml::Value::Datetime(*time),
        DeValue::Array(values) => {
            toml::Value::Array(values.iter().map(|value| value_of(value.get_ref())).collect())
        }
        DeValue::Table(table) => toml::Value::Table(table_of(table)),
    }
}

/// The keys that are in a file, as `section.key`, and where.
struct Keys(Vec<(String, Place)>);

impl Keys {
    fn of(table: &DeTable<'_>, text: &str) -> Self {
        let mut keys = Vec::new();
        for (section, value) in table {
            let place = |key: &Spanned<std::borrow::Cow<'_, str>>| Place::of(text, key.span().start);
            match value.get_ref() {
                DeValue::Table(inner) if reference::is_section(section.get_ref()) => {
                    let inside = inner
                        .iter()
                        .map(|(key, _)| (format!("{}.{}", section.get_ref(), key.get_ref()), place(key)));
                    keys.extend(inside);
                }
                _ => keys.push((section.get_ref().to_string(), place(section))),
            }
        }
        Self(keys)
    }

    fn unknown(&self) -> impl Iterator<Item = Problem> {
        let known = known_keys();
        let strangers = self.0.iter().filter(|(key, _)| !known.contains(key) && !reference::is_section(key));
        let mut strangers: Vec<_> = strangers.cloned().collect();
        strangers.sort_by_key(|(_, place)| *place);
        strangers
            .into_iter()
            .map(move |(key, place)| Problem { place: Some(place), error: unknown(&key, &known) })
    }

    fn place(&self, key: &str) -> Option<Place> {
        self.0.iter().find(|(found, _)| found == key).map(|(_, place)| *place)
    }
}

/// Every key that a plan may have, as `section.key`.
fn known_keys() -> Vec<String> {
    let sections = reference::sections();
    let keys = sections.iter().flat_map(|section| {
        section.settings.iter().map(|setting| format!("{}.{}", section.name, setting.key))
    });
    keys.collect()
}

fn unknown(key: &str, known: &[String]) -> PlanError {
    PlanError::Unknown { nearest: nearest(key, known), key: key.to_owned() }
}

/// The known key most like this one, of its own section if there is such a section; none if none is like it at all.
fn nearest(key: &str, known: &[String]) -> Option<String> {
    let last = |name: &str| name.rsplit('.').next().unwrap_or_default().to_owned();
    let section = key.split_once('.').map(|(section, _)| section).filter(|name| reference::is_section(name));
    known
        .iter()
        .filter(|known| section.is_none_or(|section| known.split('.').next() == Some(section)))
        .map(|k| (strsim::jaro_winkler(key, k).max(strsim::jaro_winkler(&last(key), &last(k))), k))
        .filter(|(similarity, _)| *similarity > 0.8)
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map(|(_, k)| k.clone())
}

/// Puts a value in and returns its key.
fn apply_override(table: &mut toml::Table, setting: &str) -> Result<String, PlanError> {
    let wrong = || PlanError::Override(setting.to_owned());
    let (path, value) = setting.split_once('=').ok_or_else(wrong)?;
    let path = path.trim();
    let (section, key) = path.split_once('.').ok_or_else(wrong)?;
    // What does not read as a TOML value is taken as text, so that quotes need not be quoted in a shell.
    let value = format!("value = {value}")
        .parse::<toml::Table>()
        .ok()
        .and_then(|mut parsed| parsed.remove("value"))
        .unwrap_or_else(|| toml::Value::String(value.trim().to_owned()));
    table
        .entry(section)
        .or_insert_with(|| toml::Value::Table(toml::Table::new()))
        .as_table_mut()
        .ok_or_else(wrong)?
        .insert(key.to_owned(), value);
    Ok(path.to_owned())
}

#[cfg(test)]
mod tests {
    use super::{Plan, PlanError, problems};

    fn read(text: &str, overrides: &[&str]) -> Result<Plan, PlanError> {
        let overrides: Vec<String> = overrides.iter().map(|&s| s.to_owned()).collect();
        Plan::from_toml(text, &overrides)
    }

    #[test]
    fn an_empty_plan_has_every_default_and_a_written_plan_reads_back() {
        let plan = read("", &[]).unwrap();
        assert_eq!(plan, Plan::default());
        assert_eq!(read(&plan.to_toml().unwrap(), &[]).unwrap(), plan);
    }

    #[test]
    fn seeds_are_any_number_of_64_bits_and_nothing_is_replaced_by_defaults() {
        for seed in [0, i64::MAX as u64, i64::MAX as u64 + 1, u64::MAX] {
            for text in [format!("seed = {seed}"), format!("seed = \"{seed}\""), format!("seed = {seed:#x}")]
            {
                let plan = read(&format!("[model]\nhidden = 7\n[training]\n{text}\n"), &[]).unwrap();
                assert_eq!((plan.training.seed, plan.model.hidden), (seed, Some(7)), "{text}");
                assert_eq!(read(&plan.to_toml().unwrap(), &[]).unwrap(), plan);
            }
            let overridden = read("[model]\nhidden = 7\n", &[&format!("training.seed={seed}")]).unwrap();
            assert_eq!((overridden.training.seed, overridden.model.hidden), (seed, Some(7)));
        }
        for wrong in
            ["seed = 18446744073709551616", "seed = -1", "seed = \"bees\"", "steps = 9223372036854775808"]
        {
            let text = format!("[training]\n{wrong}\n");
            assert!(read(&text, &[]).is_err(), "{wrong}");
        }
        for wrong in ["training.seed=18446744073709551616", "training.steps=9223372036854775808"] {
            assert!(read("", &[wrong]).is_err(), "{wrong}");
        }
    }

    #[test]
    fn overrides_win_over_the_file_and_may_be_bare_words() {
        let text = "[model]\nhidden = 12\n[training]\nseed = 5\n";
        let plan = read(text, &["model.hidden=99", "corpus.document=line", "samples.from=Old Pell"]).unwrap();
        assert_eq!((plan.model.hidden, plan.training.seed), (Some(99), 5));
        assert_eq!(plan.corpus.document, Some(lalograph_text::Division::Line));
        assert_eq!(plan.samples.from.0, ["Old Pell"]);
    }

    #[test]
    fn mistakes_are_named_with_a_remedy() {
        let cases: [(&str, &[&str], &str); 11] = [
            ("[model]\nhiden = 3\n", &[], "no setting `model.hiden`; did you mean `model.hidden`?"),
            ("", &["trainig.seed=3"], "did you mean `training.seed`?"),
            ("[oddity]\n", &[], "no setting `oddity`"),
            ("", &["model.hidden"], "section.key=value"),
            (
                "[model]\nhidden = \"wide\"\n",
                &[],
                "line 2, column 1: `model.hidden` is string \"wide\" and must be a whole number",
            ),
            ("[model\n", &[], "line 1"),
            ("[training]\ndropout = 1.0\n", &[], "`training.dropout` is 1 and must be from 0 to 0.95"),
            ("[samples]\ntemperatures = [0.5, 0.0]\n", &[], "`samples.temperatures` is 0"),
            ("[training]\nbatch = 0\n", &[], "`training.batch` is 0"),
            (
                "",
                &["training.windows=documents", "training.window_jitter=0.3"],
                "`training.window_jitter` is 0.3 and must be 0 unless `training.windows` is `carried`",
            ),
            ("", &["training.stride=5"], "left out unless `training.windows` is `independent`"),
        ];
        for (text, overrides, expected) in cases {
            let message = read(text, overrides).unwrap_err().to_string();
            assert!(message.contains(expected), "{text:?} {overrides:?}: {message}");
        }
    }

    #[test]
    fn every_range_holds_at_its_ends_and_ends_just_beyond_them() {
        let inside = [
            "corpus.validation_share=0",
            "corpus.validation_share=0.9",
            "training.batch=65536",
            "training.window=1",
            "training.clip_norm=0",
            "training.dropout=0.95",
            "training.validate_every=0",
            "training.warmup_steps=0",
            "samples.every=0",
            "samples.temperatures=[]",
            "samples.temperatures=[0.01,50]",
            "training.steps=1",
            "vocabulary.size=1",
            "corpus.first=0",
            "corpus.test_share=0.8",
            "training.patience=0",
            "training.validate_share=1.0",
            "checkpoints.minutes=0",
        ];
        for setting in inside {
            read("", &[setting]).unwrap_or_else(|error| panic!("{setting}: {error}"));
        }
        let outside = [
            "corpus.validation_share=-0.1",
            "corpus.validation_share=0.91",
            "model.embedding=0",
            "model.hidden=0",
            "model.layers=0",
            "training.epochs=0",
            "training.steps=0",
            "training.batch=65537",
            "training.window=0",
            "training.lanes=0",
            "training.record_every=0",
            "training.learning_rate=0.0",
            "training.learning_rate=-1.0",
            "training.learning_rate=inf",
            "training.clip_norm=-0.5",
            "training.clip_norm=nan",
            "training.dropout=0.96",
            "samples.temperatures=[1.0,-1.0]",
            "samples.temperatures=[nan]",
            "corpus.test_share=0.81",
            "corpus.test_share=-0.1",
            "training.validate_share=0.0",
            "training.validate_share=1.1",
            "training.validate_every_epochs=-1.0",
            "training.minimum_gain=-1.0",
            "training.end_after_minutes=-1.0",
            "checkpoints.keep=0",
            "checkpoints.minutes=-1.0",
            "samples.drawn_seed_tokens=0",
        ];
        for setting in outside {
            let error = read("", &[setting]).expect_err(setting);
            let key = setting.split('=').next().unwrap_or_default();
            assert!(
                matches!(error, PlanError::Range { key: found, .. } if found == key),
                "{setting}: {error}"
            );
        }
        for wrong in ["model.hidden=-3", "training.seed=1.5", "corpus.document=page", "model.cell=abacus"] {
            let key = wrong.split('=').next().unwrap_or_default();
            let error = read("", &[wrong]).expect_err(wrong);
            assert!(matches!(&error, PlanError::Kind { key: found, .. } if found == key), "{wrong}: {error}");
        }
    }

    #[test]
    fn every_error_is_reported_with_its_place() {
        let text = "[model]\nhiden = 3\n\n[training]\n  window = 0\n  batch = 0\n[samples]\nevry = 1\n";
        let places = |overrides: &[&str]| -> Vec<(Option<(usize, usize)>, String)> {
            let overrides: Vec<String> = overrides.iter().map(|&s| s.to_owned()).collect();
            problems(text, &overrides)
                .iter()
                .map(|problem| {
                    (problem.place.map(|place| (place.line, place.column)), problem.error.to_string())
                })
                .collect()
        };
        let found = places(&["samples.at=3", "oddity.x=1"]);
        let wheres: Vec<_> = found.iter().map(|(place, _)| *place).collect();
        let places = [Some((2, 1)), Some((5, 3)), Some((6, 3)), Some((8, 1)), None, None];
        assert_eq!(wheres, places, "{found:?}");
        assert!(found[3].1.contains("did you mean `samples.every`?"));
        assert_eq!(found[4].1, "no setting `oddity.x`");
        assert_eq!(found[5].1, "`samples.at` is integer `3` and must be a list");
        let text = text.replace("hiden", "hidden").replace("evry", "every");
        let found: Vec<_> = problems(&text, &["training.batch=0".to_owned()]);
        let wheres: Vec<_> =
            found.iter().map(|problem| problem.place.map(|place| place.to_string())).collect();
        assert_eq!(
            wheres,
            [Some("line 5, column 3".to_owned()), None],
            "an override is in no line: {found:?}"
        );
        let error = Plan::from_toml(&text, &[]).unwrap_err();
        assert_eq!(
            error.to_string(),
            "line 5, column 3: `training.window` is 0 and must be from 1 to 65,536"
        );
        // Wrong kinds, names and ranges are reported together, each with what is allowed.
        let text = "[model]\ncell = \"lsmt\"\nlayers = \"two\"\nshared_vectors = 1\n[training]\nbatch = 1.5\nlearning_rate = \"high\"\nwindow = 0\n\
                    epoch = 3\n[samples]\ntemperatures = [0.5, \"a\"]\nevery = -1\n";
        let found: Vec<String> =
            problems(text, &[]).iter().map(|problem| problem.error.to_string()).collect();
        for (part, at) in [
            ("`model.cell` is `lsmt` and must be one of `plain_tanh`", 0),
            ("did you mean `lstm`?", 0),
            ("`model.layers` is string \"two\" and must be a whole number, 0 or above", 1),
            ("`model.shared_vectors` is integer `1` and must be true or false", 2),
            ("`training.batch` is the number `1.5` and must be a whole number", 3),
            ("`training.learning_rate` is string \"high\" and must be a number", 4),
            ("`training.window` is 0 and must be from 1", 5),
            ("no setting `training.epoch`; did you mean `training.epochs`?", 6),
            ("`samples.temperatures` is string \"a\" and must be a number", 7),
            ("`samples.every` is integer `-1` and must be a whole number", 8),
        ] {
            assert!(found[at].contains(part), "{part}: {found:?}");
        }
        assert_eq!(found.len(), 9);
        let words = problems("[samples]\n# \u{1f41d}\nfrom = 3\n", &[]);
        assert_eq!(words[0].place.map(|place| place.line), Some(3));
        assert!(words[0].error.to_string().contains("a text or a list of texts"), "{words:?}");
        assert!(problems("", &[]).is_empty());
    }

    #[test]
    fn overrides_without_a_form_are_refused_and_the_last_of_two_wins() {
        for wrong in ["", "=", "model", "model=3", ".hidden=3", "model.hidden"] {
            assert!(read("", &[wrong]).is_err(), "{wrong:?}");
        }
        let plan = read("", &["model.hidden=3", "model.hidden=4"]).unwrap();
        assert_eq!(plan.model.hidden, Some(4));
        let spaced = read("", &["samples.from=Old = Pell"]).unwrap();
        assert_eq!(spaced.samples.from.0, ["Old = Pell"]);
        let several = read("[samples]\nfrom = [\"Hesper\", \"Old Pell\"]\n", &[]).unwrap();
        assert_eq!(several.samples.from.0, ["Hesper", "Old Pell"]);
        assert_eq!(read(&several.to_toml().unwrap(), &[]).unwrap(), several);
    }
}
