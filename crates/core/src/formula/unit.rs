//! Units of what stands in formulas.

use std::collections::BTreeMap;

use super::{Error, Infix, Result, Span};

/// A unit: powers of what it is made of, in halves. Nothing for plain numbers such as slopes.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Unit {
    powers: BTreeMap<String, i32>,
}

impl Unit {
    /// That of plain numbers.
    pub fn none() -> Self {
        Self::default()
    }

    /// A unit by its sign, to a power: `m` and 2 for square metres.
    pub fn of(sign: &str, power: i32) -> Self {
        let powers = (power != 0).then(|| (sign.to_owned(), 2 * power));
        Self { powers: powers.into_iter().collect() }
    }

    /// A unit as it is written with a raster: `m`, `m2`, `m²`, `m/m`; anything else is a sign of its own.
    pub fn read(text: &str) -> Self {
        match text.trim() {
            "" | "-" | "1" | "m/m" => Self::none(),
            "m" => Self::of("m", 1),
            "m2" | "m²" => Self::of("m", 2),
            "m3" | "m³" => Self::of("m", 3),
            other => Self::of(other, 1),
        }
    }

    /// Whether it is that of plain numbers.
    pub fn is_none(&self) -> bool {
        self.powers.is_empty()
    }

    fn with(&self, other: &Self, sign: i32) -> Self {
        let mut powers = self.powers.clone();
        for (of, power) in &other.powers {
            *powers.entry(of.clone()).or_default() += sign * power;
        }
        powers.retain(|_, power| *power != 0);
        Self { powers }
    }

    /// The unit of a power; none where it would be one that has no name.
    fn to(&self, power: f64) -> Option<Self> {
        let mut powers = BTreeMap::new();
        for (of, own) in &self.powers {
            let new = f64::from(*own) * power;
            if new.fract() != 0.0 || new.abs() > 200.0 {
                return None;
            }
            powers.insert(of.clone(), new as i32);
        }
        powers.retain(|_, power| *power != 0);
        Some(Self { powers })
    }
}

impl std::fmt::Display for Unit {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let written = |of: &str, halves: i32| match halves {
            2 => of.to_owned(),
            4 => format!("{of}²"),
            6 => format!("{of}³"),
            halves if halves % 2 == 0 => format!("{of}^{}", halves / 2),
            halves => format!("{of}^{}", f64::from(halves) / 2.0),
        };
        let side = |above: bool| {
            let all = self.powers.iter().filter(move |(_, p)| (**p > 0) == above);
            all.map(|(of, p)| written(of, p.abs())).collect::<Vec<_>>().join("·")
        };
        match (side(true), side(false)) {
            (above, below) if below.is_empty() => f.write_str(&above),
            (above, below) if above.is_empty() => write!(f, "1/{below}"),
            (above, below) => write!(f, "{above}/{below}"),
        }
    }
}

/// What a part of a formula is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Kind {
    /// a number that was typed, or made of such: it takes the unit of what it stands beside
    Plain,
    /// a number with a unit
    Number(Unit),
    /// yes or no
    Condition,
}

impl Kind {
    /// In words.
    fn told(&self) -> String {
        match self {
            Self::Plain => "a plain number".into(),
            Self::Number(unit) if unit.is_none() => "a number without a unit".into(),
            Self::Number(unit) => format!("a number in {unit}"),
            Self::Condition => "a condition".into(),
        }
    }

    /// Its unit; that of plain numbers for what was typed.
    pub fn unit(&self) -> Unit {
        match self {
            Self::Number(unit) => unit.clone(),
            _ => Unit::none(),
        }
    }

    /// Refuses a condition.
    pub(super) fn number(self, span: Span, of: &str) -> Result<Self> {
        match self {
            Self::Condition => Err(Error::at(span, format!("{of} takes a number, and this is a condition"))),
            other => Ok(other),
        }
    }

    /// Refuses a number.
    pub(super) fn condition(self, span: Span, of: &str) -> Result<()> {
        match self {
            Self::Condition => Ok(()),
            other => Err(Error::at(
                span,
                format!("{of} takes a condition such as slope > 0.05, and this is {}", other.told()),
            )),
        }
    }

    /// What two must have in common to be added, compared or chosen from.
    pub(super) fn with(self, other: Self, span: Span, what: &str) -> Result<Self> {
        match (self, other) {
            (Self::Plain, other) | (other, Self::Plain) if other != Self::Condition => Ok(other),
            (a, b) if a == b => Ok(a),
            (a, b) => Err(Error::at(span, format!("{} and {} cannot be {what}", a.told(), b.told()))),
        }
    }

    /// A product or a quotient.
    pub(super) fn times(self, other: Self, sign: Infix) -> Self {
        match (self, other) {
            (Self::Plain, Self::Plain) => Self::Plain,
            (a, b) => Self::Number(a.unit().with(&b.unit(), if sign == Infix::Over { -1 } else { 1 })),
        }
    }

    /// To a power, whose number is known where it was typed.
    pub(super) fn to(self, power: Option<f64>, span: Span) -> Result<Self> {
        let unit = match self {
            Self::Number(unit) if !unit.is_none() => unit,
            other => return Ok(other),
        };
        let Some(power) = power else {
            let what = format!(
                "a number in {unit} can only be raised to a number that is typed: its unit would differ from cell to cell"
            );
            return Err(Error::at(span, what));
        };
        let what = || Error::at(span, format!("{unit} to the power of {power} is no unit"));
        Ok(Self::Number(unit.to(power).ok_or_else(what)?))
    }

    /// The argument of a function of angles, powers of e and the like.
    pub(super) fn without_unit(self, span: Span, of: &str) -> Result<Self> {
        match self {
            Self::Number(unit) if !unit.is_none() => {
                let what = format!(
                    "{of} takes a number without a unit, and this is in {unit}: divide it by one of that unit first"
                );
                Err(Error::at(span, what))
            }
            other => Ok(other),
        }
    }
}
