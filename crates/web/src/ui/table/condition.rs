//! Conditions on a column, as they are typed above it.

use bothros_formats::Value;
use bothros_products::{Column, Quantity, ShownUnit};

use super::number;
use crate::http::error::Result;
use crate::ui::form;

/// A condition on the values of a column.
#[derive(Debug, Clone, PartialEq)]
pub enum Condition {
    /// there is no value
    None,
    /// there is one
    Some,
    /// a number from here to there, both included or not, in the quantity's own unit
    Within {
        /// the least value, and whether it fits itself
        from: Option<(f64, bool)>,
        /// the greatest, and whether it fits itself
        to: Option<(f64, bool)>,
    },
    /// a text that holds this one, in small letters
    Holds(String),
    /// yes or no
    Is(bool),
}

impl Condition {
    /// Reads a condition in the unit of the column: `> 5`, `<= 5`, `2..8`, `5` (as it is shown), `none`, `some`; a part of a
    /// text; `yes`, `no`.
    ///
    /// # Errors
    /// A sentence for what is no number.
    pub fn read(text: &str, column: &Column, unit: &ShownUnit, decimals: usize) -> Result<Self> {
        let text = text.trim();
        match text.to_lowercase().as_str() {
            "none" if column.nullable => return Ok(Self::None),
            "some" if column.nullable => return Ok(Self::Some),
            _ => {}
        }
        let what = format!("the condition on “{}”", column.title);
        let typed = |text: &str| form::number(text, &what).map(|v| unit.back(v));
        Ok(match column.quantity {
            Quantity::Text => Self::Holds(text.to_lowercase()),
            Quantity::Flag => {
                Self::Is(form::choice(&what, &text.to_lowercase(), &[("yes", true), ("no", false)])?)
            }
            _ => {
                if let Some((from, to)) = text.split_once("..") {
                    let end = |text: &str| match text.trim() {
                        "" => Ok(None),
                        text => typed(text).map(|v| Some((v, true))),
                    };
                    Self::Within { from: end(from)?, to: end(to)? }
                } else if let Some(rest) = text.strip_prefix(">=").or(text.strip_prefix('≥')) {
                    Self::Within { from: Some((typed(rest)?, true)), to: None }
                } else if let Some(rest) = text.strip_prefix("<=").or(text.strip_prefix('≤')) {
                    Self::Within { from: None, to: Some((typed(rest)?, true)) }
                } else if let Some(rest) = text.strip_prefix('>') {
                    Self::Within { from: Some((typed(rest)?, false)), to: None }
                } else if let Some(rest) = text.strip_prefix('<') {
                    Self::Within { from: None, to: Some((typed(rest)?, false)) }
                } else {
                    // A number is meant as it is shown: all that round to it.
                    let value = typed(text.trim_start_matches('='))?;
                    let half = unit.back(0.5 * 10f64.powi(-(decimals as i32))) * (1.0 + 1e-9);
                    Self::Within { from: Some((value - half, true)), to: Some((value + half, true)) }
                }
            }
        })
    }

    /// Whether a value fits.
    pub fn holds(&self, value: &Value) -> bool {
        match (self, value) {
            (Self::None, value) => *value == Value::Null,
            (Self::Some, value) => *value != Value::Null,
            (Self::Holds(part), Value::Text(text)) => text.to_lowercase().contains(part),
            (Self::Is(wanted), Value::Boolean(is)) => wanted == is,
            (Self::Within { from, to }, value) => number(value).is_some_and(|v| {
                from.is_none_or(|(from, itself)| v > from || (itself && v == from))
                    && to.is_none_or(|(to, itself)| v < to || (itself && v == to))
            }),
            _ => false,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bothros_products::{CROSSINGS, SINKS, Units};
    use rstest::rstest;

    #[rstest]
    #[case("> 2", 2.0, false)]
    #[case("> 2", 2.01, true)]
    #[case(">= 2", 2.0, true)]
    #[case("≤2", 2.0, true)]
    #[case("<2", 2.0, false)]
    #[case("1..2", 1.0, true)]
    #[case("1..", 99.0, true)]
    #[case("..2", -1.0, true)]
    #[case("..2", 2.5, false)]
    #[case("2", 2.004, true)]
    #[case("= 2", 2.006, false)]
    fn numbers(#[case] text: &str, #[case] depth: f64, #[case] fits: bool) {
        let unit = Quantity::Depth.shown(Units::Metric, 10.0);
        let column = SINKS.column("depth_m").unwrap();
        let condition = Condition::read(text, column, &unit, 2).unwrap();
        assert_eq!(condition.holds(&depth.into()), fits, "{condition:?}");
        assert!(!condition.holds(&Value::Null));
    }

    #[test]
    fn numbers_are_in_the_unit_of_the_column() {
        let unit = Quantity::SmallArea.shown(Units::Metric, 50_000.0);
        let condition = Condition::read(">1", SINKS.column("area_m2").unwrap(), &unit, 3).unwrap();
        assert!(condition.holds(&10_001.0.into()) && !condition.holds(&9_999.0.into()), "hectares");
    }

    #[rstest]
    #[case("decision", "bre", Value::Text("Breach".into()), true)]
    #[case("decision", "fill", Value::Text("breach".into()), false)]
    #[case("decision", "none", Value::Null, true)]
    #[case("decision", "some", Value::Null, false)]
    #[case("found", "yes", Value::Boolean(true), true)]
    #[case("found", "no", Value::Boolean(true), false)]
    fn texts_and_flags(#[case] column: &str, #[case] text: &str, #[case] value: Value, #[case] fits: bool) {
        let unit = Quantity::Text.shown(Units::Metric, 0.0);
        let condition = Condition::read(text, CROSSINGS.column(column).unwrap(), &unit, 0).unwrap();
        assert_eq!(condition.holds(&value), fits);
    }
}
