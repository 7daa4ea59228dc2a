//! Numbers as people read them: thousands apart, sensible digits.

/// Returns a whole number with thin spaces between thousands.
pub fn whole(value: impl TryInto<i128>) -> String {
    let value: i128 = value.try_into().unwrap_or_default();
    let digits = value.unsigned_abs().to_string();
    let mut out = String::from(if value < 0 { "−" } else { "" });
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            out.push('\u{202F}');
        }
        out.push(digit);
    }
    out
}

/// Returns a number of things with its noun: “1 sink”, “1 234 sinks”.
pub fn count(value: u64, one: &str, many: &str) -> String {
    format!("{} {}", whole(value), if value == 1 { one } else { many })
}

/// Returns a real number with `digits` significant digits, never in powers of ten.
pub fn real(value: f64, digits: i32) -> String {
    if value == 0.0 || !value.is_finite() {
        return if value == 0.0 { "0".into() } else { "–".into() };
    }
    fixed(value, (digits - 1 - value.abs().log10().floor() as i32).clamp(0, 9) as usize)
}

/// Returns a real number with so many decimals, thousands apart; "–" where it is not finite.
pub fn fixed(value: f64, decimals: usize) -> String {
    if !value.is_finite() {
        return "–".into();
    }
    let text = format!("{:.decimals$}", value.abs());
    let (before, rest) = text.split_once('.').map_or((text.as_str(), ""), |(b, r)| (b, r));
    let nothing = text.bytes().all(|b| matches!(b, b'0' | b'.'));
    let sign = if value < 0.0 && !nothing { "−" } else { "" };
    let before = whole(before.parse::<i128>().unwrap_or_default());
    if rest.is_empty() { format!("{sign}{before}") } else { format!("{sign}{before}.{rest}") }
}

/// Returns a number as it is written into a form: no separators, no more digits than it needs.
pub fn plain(value: f64) -> String {
    format!("{}", (value * 1e9).round() / 1e9)
}

/// Returns a share of one in percent.
pub fn percent(share: f64) -> String {
    format!("{} %", fixed(share * 100.0, 0))
}

/// Returns the size of a file in the unit that fits.
pub fn bytes(n: u64) -> String {
    match n {
        0..1_000 => format!("{n} B"),
        1_000..1_000_000 => format!("{} kB", real(n as f64 / 1e3, 3)),
        1_000_000..1_000_000_000 => format!("{} MB", real(n as f64 / 1e6, 3)),
        _ => format!("{} GB", real(n as f64 / 1e9, 3)),
    }
}

/// Returns a duration in the unit that fits.
pub fn duration(ms: i64) -> String {
    match ms {
        ..1_000 => format!("{ms} ms"),
        1_000..60_000 => format!("{:.1} s", ms as f64 / 1e3),
        _ => format!("{} min {} s", ms / 60_000, ms % 60_000 / 1000),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(whole(1_234_567u64), "1\u{202F}234\u{202F}567")]
    #[case(whole(-999), "−999")]
    #[case(real(0.012345, 3), "0.0123")]
    #[case(real(f64::NAN, 3), "–")]
    #[case(real(-1234.4, 3), "−1\u{202F}234")]
    #[case(fixed(-0.001, 2), "0.00")]
    #[case(fixed(f64::INFINITY, 2), "–")]
    #[case(count(1, "sink", "sinks"), "1 sink")]
    #[case(count(1200, "sink", "sinks"), "1\u{202F}200 sinks")]
    #[case(percent(0.925), "92 %")]
    #[case(plain(0.1 + 0.2), "0.3")]
    #[case(duration(61_500), "1 min 1 s")]
    #[case(bytes(12_345_678), "12.3 MB")]
    fn numbers_are_told_as_people_read_them(#[case] told: String, #[case] expected: &str) {
        assert_eq!(told, expected);
    }
}
