//! Places as the user types them.

use bothros_formats::{Crs, Transform};

use crate::{Error, Facts, Result};

/// The form in which a place was typed, as it was recognised.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PlaceForm {
    /// latitude and longitude, decimal degrees
    Degrees,
    /// latitude and longitude with minutes, and seconds where there are some
    DegreesMinutes,
    /// easting and northing in the study's CRS
    Projected,
}

/// A place that was typed.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct AsTyped {
    /// the form
    pub form: PlaceForm,
    /// easting in the study's CRS
    pub x: f64,
    /// northing in the study's CRS
    pub y: f64,
}

/// How a place may be typed.
const HOW: &str =
    "give easting and northing in the study's CRS, or latitude and longitude such as 43.01 N, 16.95 W";

/// Two numbers that the user typed.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Typed {
    /// latitude and longitude, degrees
    Degrees(f64, f64),
    /// the same, where they were typed with minutes
    Minutes(f64, f64),
    /// easting and northing, CRS units
    Metric(f64, f64),
    /// what they are is not said
    Plain(f64, f64),
}

/// A number of up to three parts (degrees, minutes, seconds), with the letter that stands before or after it.
#[derive(Default)]
struct Part {
    letter: Option<char>,
    numbers: Vec<f64>,
}

impl Part {
    /// Degrees with minutes and seconds; `None` where these are none.
    fn value(&self) -> Option<f64> {
        let [whole, rest @ ..] = &self.numbers[..] else { return None };
        if rest.iter().any(|part| !(0.0..60.0).contains(part)) {
            return None;
        }
        let minutes = rest.first().copied().unwrap_or(0.0) + rest.get(1).copied().unwrap_or(0.0) / 60.0;
        (self.numbers.len() <= 3).then(|| whole + minutes.copysign(*whole) / 60.0)
    }
}

fn parse(text: &str) -> Option<Typed> {
    let mut parts: Vec<Part> = Vec::new();
    let (mut word, mut leading) = (String::new(), false);
    let mut plain = Vec::new();
    let text = text.trim().to_uppercase();
    // A letter ends a number even without a space: 43.01N.
    for c in text.chars().chain([' ']) {
        if c.is_ascii_digit() || matches!(c, '.' | '-' | '+' | '−') {
            word.push(if c == '−' { '-' } else { c });
            continue;
        }
        if !word.is_empty() {
            let number: f64 = word.parse().ok()?;
            word.clear();
            plain.push(number);
            match parts.last_mut() {
                // A letter before: what follows belongs to it. A letter after: it has closed the part.
                Some(part) if leading || part.letter.is_none() => part.numbers.push(number),
                _ => parts.push(Part { letter: None, numbers: vec![number] }),
            }
        }
        match c {
            'N' | 'S' | 'E' | 'W' => {
                leading |= parts.is_empty();
                match parts.last_mut() {
                    Some(part) if !leading && part.letter.is_none() => part.letter = Some(c),
                    _ if leading => parts.push(Part { letter: Some(c), numbers: Vec::new() }),
                    _ => return None,
                }
            }
            ' ' | ',' | ';' | '/' | '\t' | '°' | '\'' | '"' | '′' | '″' => {}
            _ => return None,
        }
    }
    if parts.iter().all(|part| part.letter.is_none()) {
        if let [first, second] = plain[..] {
            return Some(Typed::Plain(first, second));
        }
        // Degrees and minutes, or with seconds, without letters: latitude comes first.
        let half = plain.len() / 2;
        if plain.len() % 2 == 1 || !(2..=3).contains(&half) || !text.contains(['°', ',', ';']) {
            return None;
        }
        let part = |numbers: &[f64]| Part { letter: None, numbers: numbers.to_vec() }.value();
        let (lat, lon) = (part(&plain[..half])?, part(&plain[half..])?);
        return (lat.abs() <= 90.0 && lon.abs() <= 180.0).then_some(Typed::Minutes(lat, lon));
    }
    let [first, second] = &parts[..] else { return None };
    let (one, other) = (first.value()?, second.value()?);
    let northing = |part: &Part| matches!(part.letter, Some('N' | 'S'));
    let easting = |part: &Part| matches!(part.letter, Some('E' | 'W'));
    // Letters say which is which, whatever comes first.
    let ((lat, ns), (lon, ew)) =
        match (northing(first) && easting(second), easting(first) && northing(second)) {
            (true, _) => ((one, first.letter?), (other, second.letter?)),
            (_, true) => ((other, second.letter?), (one, first.letter?)),
            _ => return None,
        };
    let signed = |value: f64, negative: bool| if negative { -value.abs() } else { value };
    match lat.abs() > 90.0 || lon.abs() > 180.0 {
        // Nothing on the earth lies there in degrees: these are eastings and northings.
        true => ((ns, ew) == ('N', 'E')).then_some(Typed::Metric(lon, lat)),
        false => {
            let (lat, lon) = (signed(lat, ns == 'S'), signed(lon, ew == 'W'));
            Some(match parts.iter().any(|part| part.numbers.len() > 1) {
                true => Typed::Minutes(lat, lon),
                false => Typed::Degrees(lat, lon),
            })
        }
    }
}

/// Reads a place, and tells how it was understood: easting and northing in the study's CRS, or latitude and longitude. Two numbers without letters are
/// what lies in the DEM: easting and northing first.
///
/// # Errors
/// [`Error::Refused`] if it is not a place, and before the DEM is prepared.
pub fn read_place(facts: &Facts, text: &str) -> Result<AsTyped> {
    let refused = || {
        let said: String = text.trim().chars().take(60).collect();
        Error::Refused(format!("“{said}” is no place: {HOW}"))
    };
    let typed = parse(text).ok_or_else(refused)?;
    let terrain = facts.terrain.as_ref().ok_or_else(Error::not_prepared)?;
    let projected = |x, y| Ok(AsTyped { form: PlaceForm::Projected, x, y });
    let (form, lat, lon) = match typed {
        Typed::Metric(x, y) => return projected(x, y),
        Typed::Degrees(lat, lon) => (PlaceForm::Degrees, lat, lon),
        Typed::Minutes(lat, lon) => (PlaceForm::DegreesMinutes, lat, lon),
        Typed::Plain(x, y) => {
            if !(x.abs() <= 1e9 && y.abs() <= 1e9) {
                return Err(refused());
            }
            let degrees = x.abs() <= 90.0 && y.abs() <= 180.0 && terrain.frame.cell_at(x, y).is_none();
            if !degrees {
                return projected(x, y);
            }
            (PlaceForm::Degrees, x, y)
        }
    };
    let (x, y) = Transform::new(&Crs::parse("EPSG:4326")?, &terrain.crs)?.point(lon, lat)?;
    Ok(AsTyped { form, x, y })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("502340 4761200", Typed::Plain(502_340.0, 4_761_200.0))]
    #[case("502340, 4761200", Typed::Plain(502_340.0, 4_761_200.0))]
    #[case("43.01 -16.95", Typed::Plain(43.01, -16.95))]
    #[case("43.01 −16.95", Typed::Plain(43.01, -16.95))]
    #[case("43.01 N, 16.95 W", Typed::Degrees(43.01, -16.95))]
    #[case("43.01N 16.95W", Typed::Degrees(43.01, -16.95))]
    #[case("N 43.01 W 16.95", Typed::Degrees(43.01, -16.95))]
    #[case("n43.01 w16.95", Typed::Degrees(43.01, -16.95))]
    // Longitude first: letters decide, not the order.
    #[case("16.95 W, 43.01 N", Typed::Degrees(43.01, -16.95))]
    #[case("W 16.95 N 43.01", Typed::Degrees(43.01, -16.95))]
    #[case("16.95 E 43.01 S", Typed::Degrees(-43.01, 16.95))]
    // Degrees, minutes and seconds.
    #[case("43° 30' N, 16° 57' 0\" W", Typed::Minutes(43.5, -16.95))]
    #[case("43°30′36″N 16°57′W", Typed::Minutes(43.51, -16.95))]
    // Without letters latitude comes first.
    #[case("43 30 36, -16 57 0", Typed::Minutes(43.51, -16.95))]
    #[case("43° 30' −16° 57'", Typed::Minutes(43.5, -16.95))]
    // Eastings and northings with letters.
    #[case("E 502340 N 4761200", Typed::Metric(502_340.0, 4_761_200.0))]
    #[case("4761200 N 502340 E", Typed::Metric(502_340.0, 4_761_200.0))]
    fn places_are_read_as_they_are_typed(#[case] text: &str, #[case] expected: Typed) {
        let close = |a: f64, b: f64| (a - b).abs() < 1e-9;
        let found = parse(text).unwrap_or_else(|| panic!("{text} is a place"));
        let same = match (found, expected) {
            (Typed::Degrees(a, b), Typed::Degrees(c, d))
            | (Typed::Minutes(a, b), Typed::Minutes(c, d))
            | (Typed::Metric(a, b), Typed::Metric(c, d))
            | (Typed::Plain(a, b), Typed::Plain(c, d)) => close(a, c) && close(b, d),
            _ => false,
        };
        assert!(same, "{text}: {found:?}");
    }

    #[rstest]
    #[case("")]
    #[case("here")]
    #[case("43.01")]
    #[case("1 2 3")]
    #[case("1 2 3 4 5 6")]
    #[case("43 30 36, 16 75 0")]
    #[case("93 30 36, 16 5 0")]
    #[case("43.01 N 16.95")]
    #[case("43.01 N 16.95 N")]
    #[case("43.01 E 16.95 W")]
    #[case("N W 43.01 16.95")]
    #[case("43.01 N 16.95 W 5 E")]
    #[case("502340 W 4761200 N")]
    #[case("43° 75' N 16 W")]
    #[case("1-2 3")]
    #[case("43.01 Q 16.95 W")]
    fn what_is_no_place_is_refused(#[case] text: &str) {
        assert_eq!(parse(text), None, "{text}");
    }
}
