//! Numbers for people: thousands apart, rounded to what they are worth, with units.

/// A count with a comma between thousands.
pub(crate) fn count(n: impl TryInto<u64>) -> String {
    let digits = n.try_into().unwrap_or(u64::MAX).to_string();
    let mut out = String::with_capacity(digits.len() + digits.len() / 3);
    for (index, digit) in digits.chars().enumerate() {
        if index > 0 && (digits.len() - index).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

/// A count with its noun: `1 file`, `2,000 files`.
pub(crate) fn counted(n: u64, one: &str, many: &str) -> String {
    format!("{} {}", count(n), if n == 1 { one } else { many })
}

/// Bytes in the decimal unit that suits them.
pub(crate) fn bytes(n: u64) -> String {
    const UNITS: [&str; 4] = ["kB", "MB", "GB", "TB"];
    if n < 1000 {
        return format!("{n} bytes");
    }
    let mut value = n as f64 / 1000.0;
    let mut unit = 0;
    while value >= 999.95 && unit + 1 < UNITS.len() {
        value /= 1000.0;
        unit += 1;
    }
    let decimals = if value < 100.0 { 1 } else { 0 };
    format!("{value:.decimals$} {}", UNITS[unit])
}

/// A perplexity with four significant figures.
pub(crate) fn perplexity(p: f64) -> String {
    match p {
        p if !p.is_finite() => "-".into(),
        p if p < 10.0 => format!("{p:.3}"),
        p if p < 100.0 => format!("{p:.2}"),
        p if p < 1000.0 => format!("{p:.1}"),
        p => count(p.round() as u64),
    }
}

/// A figure of a task, whatever it measures: counts whole, shares to four places, very small numbers as powers of ten.
pub(crate) fn figure(value: f64) -> String {
    match value {
        v if v.fract() == 0.0 && (2.0..1e15).contains(&v) => count(v as u64),
        v if v != 0.0 && v.abs() < 1e-3 => format!("{v:.1e}"),
        v => format!("{v:.4}"),
    }
}

/// A share of the whole in percent.
pub(crate) fn percent(part: u64, whole: u64) -> String {
    format!("{:.1} %", 100.0 * part as f64 / whole.max(1) as f64)
}

/// A difference of shares in percentage points, with its sign.
pub(crate) fn points(difference: f64) -> String {
    format!("{:+.1}", 100.0 * difference)
}

/// The probability of a test.
pub(crate) fn p_value(p: f64) -> String {
    if p < 0.001 { "< 0.001".to_owned() } else { format!("{p:.3}") }
}

/// A share, 0 to 1, in percent.
pub(crate) fn percent_of(share: f64) -> String {
    format!("{:.1} %", 100.0 * share)
}

/// A span of time.
pub(crate) fn duration(seconds: f64) -> String {
    let whole = seconds.round() as u64;
    match whole {
        _ if seconds < 10.0 => format!("{seconds:.1} s"),
        0..60 => format!("{whole} s"),
        60..3600 => format!("{} min {:02} s", whole / 60, whole % 60),
        _ => format!("{} h {:02} min", whole / 3600, whole % 3600 / 60),
    }
}

/// A token as it can be seen: white space and control characters by name, spaces at its ends as dots.
pub(crate) fn visible(token: &str) -> String {
    match token {
        " " => "(space)".into(),
        "\n" => "(line end)".into(),
        "\t" => "(tab)".into(),
        other if other.chars().any(char::is_control) => other.escape_default().to_string(),
        other => {
            let inner = other.trim_matches(' ');
            let before = other.len() - other.trim_start_matches(' ').len();
            let after = other.len() - before - inner.len();
            format!("{}{inner}{}", "\u{b7}".repeat(before), "\u{b7}".repeat(after))
        }
    }
}

/// Reads a size such as `50kB`, `1.5 MB` or `2000000`.
pub(crate) fn parse_bytes(text: &str) -> Result<u64, String> {
    let text = text.trim();
    let end = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
    let (figure, unit) = text.split_at(end);
    let factor = match unit.trim().to_ascii_lowercase().as_str() {
        "" | "b" => 1.0,
        "kb" | "k" => 1e3,
        "mb" | "m" => 1e6,
        "gb" | "g" => 1e9,
        other => return Err(format!("`{other}` is no unit of size; use kB, MB or GB")),
    };
    match figure.parse::<f64>() {
        Ok(value) if value * factor < 1e15 => Ok((value * factor).round() as u64),
        _ => Err("a size is a number and a unit, such as 50kB or 1MB".into()),
    }
}

/// A number followed by one of these units.
fn measured(text: &str, units: &[(&str, f64)]) -> Option<f64> {
    let (unit, factor) = units.iter().find(|(unit, _)| text.ends_with(unit))?;
    let number: f64 = text.strip_suffix(unit)?.trim().parse().ok()?;
    (number.is_finite() && number > 0.0).then_some(number * factor)
}

/// The speed of a network in bits a second.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Bandwidth(pub(crate) f64);

/// Reads `800Mb` or `10Gb`.
pub(crate) fn parse_bandwidth(text: &str) -> Result<Bandwidth, String> {
    let found = measured(text, &[("Mb", 1e6), ("Gb", 1e9)]).map(Bandwidth);
    found.ok_or_else(|| "write bits a second as 800Mb or 10Gb".to_owned())
}

/// Seconds until a message arrives.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Latency(pub(crate) f64);

/// Reads `2us` or `0.1ms`.
pub(crate) fn parse_latency(text: &str) -> Result<Latency, String> {
    let found = measured(text, &[("us", 1e-6), ("ms", 1e-3)]).map(Latency);
    found.ok_or_else(|| "write it as 2us or 0.1ms".to_owned())
}

#[cfg(test)]
mod tests {
    use super::{bytes, count, duration, figure, parse_bytes, perplexity, visible};

    #[test]
    fn numbers_read_well() {
        let figures = [0.0, 0.93125, 1.0, 4596.0, 3e-7, -0.5].map(figure);
        assert_eq!(figures, ["0.0000", "0.9313", "1.0000", "4,596", "3.0e-7", "-0.5000"]);
        assert_eq!([0u64, 999, 1000, 1_234_567].map(count), ["0", "999", "1,000", "1,234,567"]);
        assert_eq!(
            [0, 999, 1000, 99_949, 250_000, 999_960, 1_048_576].map(bytes),
            ["0 bytes", "999 bytes", "1.0 kB", "99.9 kB", "250 kB", "1.0 MB", "1.0 MB"]
        );
        assert_eq!(
            [1.5, 59.6, 61.0, 3725.0].map(duration),
            ["1.5 s", "1 min 00 s", "1 min 01 s", "1 h 02 min"]
        );
        assert_eq!([1.6398, 25.5, 250.44, 1234.6].map(perplexity), ["1.640", "25.50", "250.4", "1,235"]);
    }

    #[test]
    fn tokens_can_be_seen() {
        let cases = [
            (" ", "(space)"),
            (" bee", "\u{b7}bee"),
            ("a b ", "a b\u{b7}"),
            ("   ", "\u{b7}\u{b7}\u{b7}"),
            ("\r\n", "\\r\\n"),
        ];
        for (token, expected) in cases {
            assert_eq!(visible(token), expected, "{token:?}");
        }
    }

    #[test]
    fn sizes_are_read_with_their_units() {
        for (text, expected) in [("50kB", 50_000), ("1.5 MB", 1_500_000), ("2GB", 2_000_000_000), ("77", 77)]
        {
            assert_eq!(parse_bytes(text), Ok(expected), "{text}");
        }
        for text in ["", "MB", "5 miles", "1.2.3kB", "-1kB", "9999999GB"] {
            assert!(parse_bytes(text).is_err(), "{text}");
        }
    }
}
