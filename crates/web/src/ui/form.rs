//! What people type: numbers within their limits, one of several choices. Each field is described once, and says what is
//! wrong in one wording; numbers of a quantity are typed in the units of the page.

use bothros_products::{Quantity, Units};

use crate::http::error::{Result, WebError};
use crate::ui::quantity;

/// A number that people type.
#[derive(Debug, Clone, Copy)]
pub struct Number {
    what: &'static str,
    quantity: Quantity,
    least: f64,
    most: f64,
    above: bool,
}

impl Number {
    /// A number of `what` (“the tolerance”), from `least` to `most` in the quantity's own unit.
    pub const fn new(what: &'static str, quantity: Quantity, least: f64, most: f64) -> Self {
        Self { what, quantity, least, most, above: false }
    }

    /// The same, but greater than its least value.
    pub const fn above(mut self) -> Self {
        self.above = true;
        self
    }

    /// Returns what was typed, in the quantity's own unit.
    ///
    /// # Errors
    /// A message if it is not a number, or outside the limits.
    pub fn read(&self, text: &str) -> Result<f64> {
        let typed = number(text, self.what)?;
        let unit = self.quantity.typed(quantity::units());
        let value = match quantity::units() {
            Units::Metric => unit.back(typed),
            // What was shown was rounded: a whole number of the own unit's thousandths is meant.
            Units::UsCustomary => (unit.back(typed) * 1e3).round() / 1e3,
        };
        let told = |own: f64| format!("{} {}", quantity::plain(unit.of(own)), unit.symbol).trim().to_owned();
        let wrong = match value {
            v if v < self.least => format!("must not be below {}", told(self.least)),
            v if v > self.most => format!("must not be above {}", told(self.most)),
            v if self.above && v <= self.least => format!("must be greater than {}", told(self.least)),
            _ => return Ok(value),
        };
        let typed = format!("{typed} {}", unit.symbol);
        Err(WebError::refused(format!("{} {wrong}: {} is", self.what, typed.trim())))
    }

    /// Returns what was typed; nothing for an empty field.
    ///
    /// # Errors
    /// Those of [`Number::read`].
    pub fn read_optional(&self, text: &str) -> Result<Option<f64>> {
        if text.trim().is_empty() { Ok(None) } else { self.read(text).map(Some) }
    }
}

/// Returns a number that the user typed.
///
/// # Errors
/// A sentence where it is none, or not finite; `what` is what it stands for.
pub fn number(text: &str, what: &str) -> Result<f64> {
    let value = text.trim().replace(['\u{202F}', ' '], "").replace('−', "-").parse::<f64>();
    let typed = || text.trim().chars().take(60).collect::<String>();
    value
        .ok()
        .filter(|v| v.is_finite())
        .ok_or_else(|| WebError::refused(format!("{what} must be a number, not “{}”", typed())))
}

/// Returns a number that the user typed, for tests of what forms refuse.
///
/// # Errors
/// A sentence where it is none, or not finite.
pub fn typed_number(text: &str, what: &str) -> std::result::Result<f64, String> {
    number(text, what).map_err(|e| e.message)
}

/// Returns the choice with the name that was sent.
///
/// # Errors
/// A sentence that names all choices, where it is none of them.
pub fn choice<T: Copy>(what: &str, sent: &str, choices: &[(&str, T)]) -> Result<T> {
    let known = choices.iter().find(|(name, _)| *name == sent).map(|(_, value)| *value);
    known.ok_or_else(|| {
        let names: Vec<&str> = choices.iter().map(|c| c.0).filter(|name| !name.is_empty()).collect();
        let sent: String = sent.chars().take(60).collect();
        WebError::refused(format!("{what} must be one of {}, not “{sent}”", names.join(", ")))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ui::quantity::in_units;
    use rstest::rstest;

    const DEPTH: Number = Number::new("the depth", Quantity::Depth, 0.0, 10.0).above();

    #[rstest]
    #[case(Units::Metric, " 1.5 ", Ok(1.5))]
    #[case(Units::Metric, "0", Err("the depth must be greater than 0 m: 0 m is"))]
    #[case(Units::Metric, "−2", Err("the depth must not be below 0 m: -2 m is"))]
    #[case(Units::Metric, "12", Err("the depth must not be above 10 m: 12 m is"))]
    #[case(Units::UsCustomary, "10", Ok(3.048))]
    #[case(Units::UsCustomary, "3.281", Ok(1.0))]
    #[case(Units::UsCustomary, "40", Err("the depth must not be above 32.808398950 ft: 40 ft is"))]
    #[case(Units::Metric, "deep", Err("the depth must be a number, not “deep”"))]
    fn numbers_are_read_within_their_limits(
        #[case] units: Units,
        #[case] text: &str,
        #[case] expected: std::result::Result<f64, &str>,
    ) {
        let read = in_units(units, || DEPTH.read(text)).map_err(|e| e.message);
        match expected {
            Ok(value) => assert_eq!(read.unwrap(), value),
            Err(told) => assert_eq!(read.unwrap_err().replace("32.80839895 ", "32.808398950 "), told),
        }
    }

    #[rstest]
    #[case("")]
    #[case("NaN")]
    #[case("inf")]
    #[case("1e999")]
    #[case("ten")]
    fn what_is_no_number_is_refused(#[case] text: &str) {
        assert!(number(text, "it").is_err());
    }

    #[test]
    fn thousands_may_be_apart_and_an_empty_field_is_no_limit() {
        assert_eq!(number(" 1\u{202F}000.5 ", "it").unwrap(), 1000.5);
        assert_eq!(DEPTH.read_optional(" ").unwrap(), None);
        assert_eq!(DEPTH.read_optional("2").unwrap(), Some(2.0));
    }

    #[test]
    fn a_choice_is_one_of_those_there_are() {
        let choices = [("", None), ("fill", Some(1)), ("breach", Some(2))];
        assert_eq!(choice("the way", "breach", &choices).unwrap(), Some(2));
        assert_eq!(choice("the way", "", &choices).unwrap(), None);
        let told = choice("the way", "dig", &choices).unwrap_err().message;
        assert_eq!(told, "the way must be one of fill, breach, not “dig”");
    }
}
