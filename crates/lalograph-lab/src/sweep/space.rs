//! The settings that a sweep varies, and the values that they take.

use lalograph_net::numbers::chance::stream;
use rand::RngExt;

use crate::plan::Plan;
use crate::plan::reference::{Section, sections};
use crate::sweep::error::SpaceError;

/// Values of a range in a grid, if their number is not given.
pub const GRID_POINTS: usize = 5;

/// A setting with the values that it takes in a sweep.
#[derive(Debug, Clone, PartialEq)]
pub struct Varied {
    /// The setting: `section.key`.
    pub key: String,
    /// The values as they were given.
    text: String,
    values: Values,
}

/// What a setting can be.
#[derive(Debug, Clone, PartialEq)]
pub enum Values {
    /// One of these, in TOML or as a bare word.
    Listed(Vec<String>),
    /// A number between two.
    Range(Range),
}

/// Numbers from `low` to `high`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Range {
    /// The least.
    pub low: f64,
    /// The greatest.
    pub high: f64,
    /// Equal ratios are equally likely, and not equal differences.
    pub by_ratio: bool,
    /// Whole numbers only.
    pub whole: bool,
    /// Values in a grid.
    pub points: usize,
}

impl Varied {
    /// Reads `key=a,b,c` or `key=low..high`, where `:even` or `:ratio` and the number of grid points can follow the range.
    ///
    /// # Errors
    /// No value; a range that is empty, or by ratio from a number that is not above 0; an unknown word after a range.
    ///
    /// ```
    /// use lalograph_lab::Plan;
    /// use lalograph_lab::sweep::space::Varied;
    ///
    /// let rate = Varied::read("training.learning_rate=0.001..0.01:ratio:3", &Plan::default())?;
    /// assert_eq!(rate.grid(), ["0.001", "0.003162", "0.01"]);
    /// # Ok::<(), lalograph_lab::sweep::error::SpaceError>(())
    /// ```
    pub fn read(text: &str, plan: &Plan) -> Result<Self, SpaceError> {
        let form = || SpaceError::Form(text.to_owned());
        let (key, values) = text.split_once('=').ok_or_else(form)?;
        let (key, values) = (key.trim().to_owned(), values.trim().to_owned());
        if key.is_empty() {
            return Err(form());
        }
        if !key.contains('.') {
            return Err(SpaceError::NoSection { meant: of_that_name(&key), key });
        }
        let read = match range(&values) {
            Some(parts) => Values::Range(parts.range(&key, &values, takes_real_numbers(&key, plan))?),
            None => {
                let listed = listed(&values);
                if listed.iter().any(String::is_empty) {
                    return Err(SpaceError::NoValue(key));
                }
                let mut different = listed.clone();
                different.sort();
                different.dedup();
                if different.len() < listed.len() {
                    return Err(SpaceError::Twice(key));
                }
                Values::Listed(listed)
            }
        };
        Ok(Self { key, text: values, values: read })
    }

    /// The values as they were given, which [`Varied::read`] reads after the key and `=`.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// What the setting can be.
    pub fn values(&self) -> &Values {
        &self.values
    }

    /// The values of a grid, in their order.
    pub fn grid(&self) -> Vec<String> {
        match &self.values {
            Values::Listed(listed) => listed.clone(),
            Values::Range(range) => {
                let share = |point: usize| point as f64 / (range.points.max(2) - 1) as f64;
                let mut values: Vec<String> = match range.points {
                    1 => vec![range.at(0.5)],
                    points => (0..points).map(|point| range.at(share(point))).collect(),
                };
                values.dedup();
                values
            }
        }
    }

    /// A value drawn at random, for the setting of this number in the draw of this number.
    pub fn draw(&self, seed: u64, draw: u64, setting: u64) -> String {
        let share: f64 = stream(seed, "sweep", &[draw, setting]).random();
        match &self.values {
            Values::Listed(listed) => {
                let at = (share * listed.len() as f64) as usize;
                listed[at.min(listed.len() - 1)].clone()
            }
            Values::Range(range) => range.drawn(share),
        }
    }

    /// The place of a value from 0 to 1 among all that the setting can be.
    pub fn place(&self, value: &str) -> f64 {
        match &self.values {
            Values::Listed(listed) => {
                let at = listed.iter().position(|other| other == value).unwrap_or(0);
                at as f64 / (listed.len() - 1).max(1) as f64
            }
            Values::Range(range) => value.parse().map_or(0.0, |value| range.place(value)),
        }
    }

    /// Different values; `None` for a range of numbers that need not be whole.
    pub fn count(&self) -> Option<u64> {
        match &self.values {
            Values::Listed(listed) => Some(listed.len() as u64),
            Values::Range(range) => range.whole.then_some((range.high - range.low) as u64 + 1),
        }
    }
}

impl Range {
    fn between(&self, share: f64) -> f64 {
        if self.by_ratio {
            self.low * (self.high / self.low).powf(share)
        } else {
            self.low + (self.high - self.low) * share
        }
    }

    /// The value at a share of the way from `low` to `high`.
    fn at(&self, share: f64) -> String {
        self.written(self.between(share))
    }

    /// The value of a number drawn from 0 to 1: whole numbers are equally likely, those at the ends too.
    fn drawn(&self, share: f64) -> String {
        match self.whole && !self.by_ratio {
            true => self.written((self.low + ((self.high - self.low + 1.0) * share).floor()).min(self.high)),
            false => self.at(share),
        }
    }

    /// Four significant digits tell settings apart and can be typed.
    fn written(&self, value: f64) -> String {
        if self.whole {
            return format!("{}", value.round());
        }
        let digits = 3 - value.abs().max(1e-300).log10().floor() as i32;
        let rounded = match digits {
            ..0 => value.round(),
            _ => format!("{value:.*}", digits.min(300) as usize).parse().unwrap_or(value),
        };
        let text = format!("{}", rounded.clamp(self.low, self.high));
        // A number, for TOML too, where the setting may be one that tells both apart.
        if text.contains('.') { text } else { format!("{text}.0") }
    }

    fn place(&self, value: f64) -> f64 {
        let place = if self.by_ratio {
            (value / self.low).ln() / (self.high / self.low).ln()
        } else {
            (value - self.low) / (self.high - self.low)
        };
        place.clamp(0.0, 1.0)
    }
}

/// The settings of a name, with their sections.
fn of_that_name(key: &str) -> Vec<String> {
    let sections = sections();
    let has = |section: &&Section| section.settings.iter().any(|setting| setting.key == key);
    sections.iter().filter(has).map(|section| format!("{}.{key}", section.name)).collect()
}

/// A range as it is written.
struct Parts {
    low: f64,
    high: f64,
    /// Both ends are written as whole numbers.
    whole: bool,
    after: Vec<String>,
}

/// Takes `low..high:...` apart; `None` for what is no range.
fn range(values: &str) -> Option<Parts> {
    let (low, rest) = values.split_once("..")?;
    let mut rest = rest.split(':');
    let (low, high) = (low.trim(), rest.next()?.trim());
    let number = |text: &str| text.replace('_', "").parse::<f64>().ok().filter(|number| number.is_finite());
    let whole = [low, high].iter().all(|text| text.replace('_', "").parse::<i64>().is_ok());
    let after = rest.map(|word| word.trim().to_owned()).collect();
    Some(Parts { low: number(low)?, high: number(high)?, whole, after })
}

impl Parts {
    fn range(&self, key: &str, text: &str, real: bool) -> Result<Range, SpaceError> {
        let Self { low, high, .. } = *self;
        let refuse =
            |what: &'static str| Err(SpaceError::Range { key: key.to_owned(), range: text.to_owned(), what });
        if low >= high {
            return refuse("is empty: its end must be above its start");
        }
        // Over a decade and more, it is ratios that make a difference.
        let mut by_ratio = low > 0.0 && high >= 10.0 * low;
        let mut points = GRID_POINTS;
        for word in &self.after {
            match (word.as_str(), word.parse::<usize>()) {
                ("even", _) => by_ratio = false,
                ("ratio", _) if low <= 0.0 => return refuse("by ratio must start above 0"),
                ("ratio", _) => by_ratio = true,
                (_, Ok(number)) if (1..=1000).contains(&number) => points = number,
                (_, Ok(_)) => return refuse("has a number of grid points that must be 1 to 1000"),
                _ => return refuse("can be followed by `:even`, `:ratio` and a number of grid points only"),
            }
        }
        Ok(Range { low, high, by_ratio, whole: self.whole && !real, points })
    }
}

/// Whether a setting takes numbers that need not be whole: `0..1` of dropout is not 0 or 1.
fn takes_real_numbers(key: &str, plan: &Plan) -> bool {
    let Some((section, name)) = key.split_once('.') else { return false };
    let set = toml::Table::try_from(plan).ok().and_then(|table| {
        let value = table.get(section)?.get(name)?;
        Some(value.is_float())
    });
    // A setting that is not set has no kind to be seen: it takes such numbers if it takes one of them.
    set.unwrap_or_else(|| {
        plan.to_toml().is_ok_and(|text| Plan::from_toml(&text, &[format!("{key}=0.25")]).is_ok())
    })
}

/// Values between commas that are outside brackets and quotation marks.
fn listed(values: &str) -> Vec<String> {
    let (mut depth, mut quoted) = (0i32, false);
    let mut all = vec![String::new()];
    for c in values.chars() {
        match c {
            '"' => quoted = !quoted,
            '[' | '{' if !quoted => depth += 1,
            ']' | '}' if !quoted => depth -= 1,
            ',' if !quoted && depth == 0 => {
                all.push(String::new());
                continue;
            }
            _ => {}
        }
        if let Some(last) = all.last_mut() {
            last.push(c);
        }
    }
    all.into_iter().map(|value| value.trim().to_owned()).collect()
}

#[cfg(test)]
mod tests {
    use super::{Values, Varied};
    use crate::Plan;
    use crate::sweep::error::SpaceError;

    fn read(text: &str) -> Result<Varied, SpaceError> {
        Varied::read(text, &Plan::default())
    }

    #[test]
    fn lists_keep_their_values_whole() {
        let grid = |text| read(text).unwrap().grid();
        assert_eq!(grid("model.hidden=64,128, 256"), ["64", "128", "256"]);
        assert_eq!(grid("model.cell=lstm,gru"), ["lstm", "gru"]);
        assert_eq!(grid("model.clusters=[100,1000],[],[5]"), ["[100,1000]", "[]", "[5]"]);
        assert_eq!(grid("samples.from=\"a, b\",\"c\""), ["\"a, b\"", "\"c\""]);
    }

    #[test]
    fn ranges_are_even_or_by_ratio_and_whole_where_the_setting_is() {
        let grid = |text| read(text).unwrap().grid();
        assert_eq!(grid("model.hidden=64..128:3"), ["64", "96", "128"]);
        assert_eq!(grid("model.hidden=32..512"), ["32", "64", "128", "256", "512"]);
        assert_eq!(grid("training.dropout=0..1:even:3"), ["0.0", "0.5", "1.0"]);
        assert_eq!(grid("training.learning_rate=0.001..0.1:3"), ["0.001", "0.01", "0.1"]);
        assert_eq!(grid("model.layers=1..3"), ["1", "2", "3"], "each whole number once");
        assert_eq!(grid("model.keep_bias=0..2:3"), ["0.0", "1.0", "2.0"], "a setting that is not set");
        let Values::Range(range) = read("model.hidden=1..50:even").unwrap().values else { panic!("a list") };
        assert!(range.whole && !range.by_ratio);
    }

    #[test]
    fn draws_fill_their_range_and_are_the_same_again() {
        let layers = read("model.layers=1..4").unwrap();
        let drawn: Vec<String> = (0..400).map(|n| layers.draw(7, n, 0)).collect();
        for value in ["1", "2", "3", "4"] {
            let share = drawn.iter().filter(|other| *other == value).count();
            assert!((60..140).contains(&share), "{value}: {share}");
        }
        assert_eq!(drawn, (0..400).map(|n| layers.draw(7, n, 0)).collect::<Vec<_>>());
        let rate = read("training.learning_rate=0.0001..0.01").unwrap();
        let places: Vec<f64> = (0..1000).map(|n| rate.place(&rate.draw(7, n, 1))).collect();
        let mean = places.iter().sum::<f64>() / 1000.0;
        assert!((mean - 0.5).abs() < 0.03, "{mean}: equal ratios are equally likely");
        assert!(places.iter().all(|place| (0.0..=1.0).contains(place)));
    }

    #[test]
    fn every_drawn_value_is_one_that_a_plan_takes() {
        for text in ["training.learning_rate=1e-5..1", "model.hidden=8..1000", "training.dropout=0..1:even"] {
            let varied = read(text).unwrap();
            for draw in 0..50 {
                let setting = format!("{}={}", varied.key, varied.draw(3, draw, 0));
                let value: f64 = varied.draw(3, draw, 0).parse().unwrap();
                let taken = Plan::from_toml("", std::slice::from_ref(&setting));
                assert!(taken.is_ok() || value > 0.95, "{setting}: {taken:?}");
            }
        }
    }

    #[test]
    fn mistakes_are_named() {
        for (text, expected) in [
            ("model.hidden", "`section.key=values`"),
            ("=1,2", "`section.key=values`"),
            ("hidden=1,2", "did you mean `model.hidden`?"),
            ("hiden=1,2", "has no section"),
            ("model.hidden=", "has no value"),
            ("model.hidden=1,,2", "has no value"),
            ("model.hidden=64,128,64", "twice"),
            ("model.hidden=8..8", "is empty"),
            ("training.dropout=0.5..0.1", "is empty"),
            ("training.dropout=0..0.5:ratio", "must start above 0"),
            ("training.dropout=0..0.5:often", "can be followed by"),
            ("training.dropout=0..0.5:0", "1 to 1000"),
        ] {
            let error = read(text).unwrap_err().to_string();
            assert!(error.contains(expected), "{text}: {error}");
        }
    }
}
