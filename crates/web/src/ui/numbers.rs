//! Numbers as people read them: units, thousands, sensible digits.

/// A whole number with thin spaces between thousands.
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

/// A real number with `digits` significant digits, never in powers of ten.
pub fn real(value: f64, digits: i32) -> String {
    if value == 0.0 || !value.is_finite() {
        return if value == 0.0 { "0".into() } else { "–".into() };
    }
    let after = (digits - 1 - value.abs().log10().floor() as i32).clamp(0, 9) as usize;
    let text = format!("{:.after$}", value.abs());
    let (before, rest) = text.split_once('.').map_or((text.as_str(), ""), |(b, r)| (b, r));
    let sign = if value < 0.0 { "−" } else { "" };
    let before = whole(before.parse::<i128>().unwrap_or_default());
    if rest.is_empty() { format!("{sign}{before}") } else { format!("{sign}{before}.{rest}") }
}

/// A number as it is written into a form: no separators, no more digits than it needs.
pub fn plain(value: f64) -> String {
    format!("{}", (value * 1e9).round() / 1e9)
}

/// An area in m², ha or km², by its size.
pub fn area(m2: f64) -> String {
    if m2 < 10_000.0 {
        format!("{} m²", real(m2, 3))
    } else if m2 < 1e6 {
        format!("{} ha", real(m2 / 1e4, 3))
    } else {
        format!("{} km²", real(m2 / 1e6, 4))
    }
}

/// A length in m or km.
pub fn length(m: f64) -> String {
    if m < 1000.0 { format!("{} m", real(m, 3)) } else { format!("{} km", real(m / 1000.0, 4)) }
}

/// A volume in m³ or million m³.
pub fn volume(m3: f64) -> String {
    if m3 < 1e6 { format!("{} m³", real(m3, 3)) } else { format!("{} million m³", real(m3 / 1e6, 3)) }
}

/// An elevation or depth to the centimetre.
pub fn metres(m: impl Into<f64>) -> String {
    let m: f64 = m.into();
    format!("{}{:.2} m", if m < 0.0 { "−" } else { "" }, m.abs())
}

/// A unit of length as a CRS names it, in short.
pub fn unit(name: &str) -> &str {
    match name {
        "metre" | "meter" => "m",
        "US survey foot" | "foot" | "Foot_US" => "ft",
        other => other,
    }
}

/// A size of a file.
pub fn bytes(n: u64) -> String {
    match n {
        0..1_000 => format!("{n} B"),
        1_000..1_000_000 => format!("{} kB", real(n as f64 / 1e3, 3)),
        1_000_000..1_000_000_000 => format!("{} MB", real(n as f64 / 1e6, 3)),
        _ => format!("{} GB", real(n as f64 / 1e9, 3)),
    }
}

/// A duration in the unit that fits.
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

    #[test]
    fn areas_and_thousands() {
        assert_eq!(whole(1_234_567u64), "1\u{202F}234\u{202F}567");
        assert_eq!(whole(-999), "−999");
        assert_eq!(area(416.0), "416 m²");
        assert_eq!(area(350_000.0), "35.0 ha");
        assert_eq!(area(44_070_000.0), "44.07 km²");
        assert_eq!(length(12.34), "12.3 m");
        assert_eq!(length(48_211.0), "48.21 km");
        assert_eq!(metres(-1.005f64), "−1.00 m");
        assert_eq!(real(0.012345, 3), "0.0123");
        assert_eq!(duration(61_500), "1 min 1 s");
        assert_eq!(bytes(12_345_678), "12.3 MB");
    }
}
