//! The map that a network is held against: its streams, where it looks, how accurate it is.

use bothros_core::calibration::MappedStreams;
use bothros_core::{Frame, Grid, cells_within};
use bothros_store::{LayerRole, Store};
use serde_json::Value as Json;

use crate::conditioning::choices::{lines, polygons};
use crate::{Error, Facts, Result, boxed, layer_features};

/// The mapped streams of a study.
#[derive(Debug, Clone)]
pub(crate) struct StreamMap {
    /// lines in CRS units
    pub lines: Vec<Vec<[f64; 2]>>,
    /// cells that the map looks at; all where it is not told
    pub covers: Option<Grid<bool>>,
}

impl StreamMap {
    /// Reads it, on a grid.
    ///
    /// # Errors
    /// Those of the database.
    #[boxed]
    pub async fn of(store: &Store, facts: &Facts, frame: &Frame) -> Result<Self> {
        let lines = lines(layer_features(store, facts, LayerRole::MappedStreams).await?);
        let areas = polygons(layer_features(store, facts, LayerRole::MapCoverage).await?);
        if areas.is_empty() {
            return Ok(Self { lines, covers: None });
        }
        let mut covers = Grid::from_vec(frame.rows, frame.cols, vec![false; frame.cells()]);
        for cell in areas.iter().flat_map(|area| cells_within(area, frame)) {
            let index = covers.index(cell);
            covers.values_mut()[index] = true;
        }
        Ok(Self { lines, covers: Some(covers) })
    }

    /// Fails where the map looks at no cell of the grid.
    pub fn check(&self) -> Result<()> {
        match &self.covers {
            Some(covers) if !covers.values().contains(&true) => Err(Error::Refused(
                "the coverage of the map lies outside the DEM: give another, or remove it".into(),
            )),
            _ => Ok(()),
        }
    }

    /// As the core takes it.
    pub fn within(&self, tolerance_m: f64) -> MappedStreams<'_> {
        MappedStreams { lines: &self.lines, tolerance_m, covers: self.covers.as_ref() }
    }
}

/// Where a tolerance comes from.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum ToleranceFrom {
    /// typed
    Typed,
    /// the accuracy that the map states, metres
    Accuracy(f64),
    /// the map's scale, 1 to this
    Scale(f64),
    /// nothing is known of the map
    Assumed,
}

/// Within what distance network and map agree.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Tolerance {
    /// metres
    pub m: f64,
    /// where it comes from
    pub from: ToleranceFrom,
    /// whether it was raised to what cells can tell apart
    pub raised: bool,
}

/// A line is drawn on a map within so many metres on paper: half a millimetre. (Common practice, no source.)
const ON_PAPER_M: f64 = 0.0005;
/// Scale of a map of which nothing is known. (Ours; the tolerance says so.)
const ASSUMED_SCALE: f64 = 25_000.0;
/// A network lies within so many cells of where it would be on a finer DEM: half the diagonal of a cell on either side, rounded up. (Ours.)
pub(crate) const LEAST_CELLS: f64 = 1.5;

impl Tolerance {
    /// From what was typed, or from what layers of mapped streams say of their scale; cells are so many metres wide.
    fn of(typed: Option<f64>, told: impl Iterator<Item = Option<Told>>, cell_m: f64) -> Self {
        let (wanted, from) = match typed {
            Some(m) => (m, ToleranceFrom::Typed),
            // Of several maps the least accurate counts.
            None => told
                .flatten()
                .map(Told::tolerance)
                .max_by(|a, b| a.0.total_cmp(&b.0))
                .unwrap_or((ASSUMED_SCALE * ON_PAPER_M, ToleranceFrom::Assumed)),
        };
        let least = LEAST_CELLS * cell_m;
        Self { m: wanted.max(least), from, raised: wanted < least }
    }
}

/// Within what distance the network of a study and its map agree: as typed, or by the map's stated accuracy, or half a millimetre at its scale; a cell and a
/// half at least.
///
/// # Errors
/// Those of the database.
#[boxed]
pub async fn tolerance(store: &Store, facts: &Facts) -> Result<Tolerance> {
    let cell_m = facts.terrain.as_ref().map_or(1.0, |t| t.frame.cell_m());
    let layers = store.layers(facts.study).await?;
    let mapped = layers.iter().filter(|l| l.role == LayerRole::MappedStreams && l.features > 0);
    let told = mapped.map(|l| Told::read(l.provenance.get("scale").and_then(Json::as_str).unwrap_or("")));
    Ok(Tolerance::of(facts.settings.tolerance_m, told, cell_m))
}

/// What is written of a map's scale.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Told {
    Accuracy(f64),
    Scale(f64),
}

impl Told {
    fn tolerance(self) -> (f64, ToleranceFrom) {
        match self {
            Self::Accuracy(m) => (m, ToleranceFrom::Accuracy(m)),
            Self::Scale(to) => (to * ON_PAPER_M, ToleranceFrom::Scale(to)),
        }
    }

    /// “±5 m”, “accuracy 5 m” or “1:25,000”, in any text. A stated accuracy counts before a scale.
    fn read(text: &str) -> Option<Self> {
        let text = text.to_lowercase().replace("+/-", "±");
        let after = |sign: &str| text.split_once(sign).map(|(_, rest)| rest);
        let metres = ["±", "accuracy"].iter().find_map(|sign| {
            let (number, rest) = number(after(sign)?)?;
            let unit = rest.trim_start();
            let is_metres = unit.starts_with('m') && !unit.starts_with("mm") && !unit.starts_with("mi");
            (is_metres && number > 0.0 && number < 10_000.0).then_some(number)
        });
        if let Some(m) = metres {
            return Some(Self::Accuracy(m));
        }
        let (to, _) = number(after("1:").or_else(|| after("1 : "))?)?;
        (100.0..=100e6).contains(&to).then_some(Self::Scale(to))
    }
}

/// The number that a text begins with, thousands set apart as anybody does, and what follows it.
fn number(text: &str) -> Option<(f64, &str)> {
    let text = text.trim_start_matches(|c: char| c.is_whitespace() || c == ':' || c == '=');
    let mut digits = String::new();
    let mut rest = text;
    while let Some(first) = rest.chars().next() {
        let follows = &rest[first.len_utf8()..];
        let three = || {
            let mut next = follows.chars();
            let all = (0..3).all(|_| next.next().is_some_and(|c| c.is_ascii_digit()));
            all && !next.next().is_some_and(|c| c.is_ascii_digit())
        };
        match first {
            '0'..='9' => digits.push(first),
            // What parts thousands, and not a decimal.
            ',' | '.' | ' ' | '\'' | '’' | '\u{a0}' | '\u{202f}' if !digits.is_empty() && three() => {}
            '.' | ',' if !digits.is_empty() && !digits.contains('.') => digits.push('.'),
            _ => break,
        }
        rest = follows;
    }
    let number = digits.trim_end_matches('.').parse().ok()?;
    Some((number, rest))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn scales_and_accuracies_are_read_as_people_write_them() {
        for (text, expected) in [
            ("1:25,000", Some(Told::Scale(25_000.0))),
            ("1:25 000 (sheet 12)", Some(Told::Scale(25_000.0))),
            ("1:25.000", Some(Told::Scale(25_000.0))),
            ("scale 1 : 50\u{202f}000", Some(Told::Scale(50_000.0))),
            ("1:2'500'000", Some(Told::Scale(2_500_000.0))),
            ("1:10000", Some(Told::Scale(10_000.0))),
            ("1:10 000, ±4 m", Some(Told::Accuracy(4.0))),
            ("accuracy: 2.5 m", Some(Told::Accuracy(2.5))),
            ("+/- 12,5 m in plan", Some(Told::Accuracy(12.5))),
            ("accuracy 5 mm", None),
            ("large", None),
            ("1:", None),
            ("1:3", None),
            ("", None),
        ] {
            assert_eq!(Told::read(text), expected, "{text}");
        }
    }

    #[test]
    fn the_tolerance_is_the_map_s_and_a_cell_and_a_half_at_least() {
        let of =
            |typed, told: &[&str], cell_m| Tolerance::of(typed, told.iter().map(|t| Told::read(t)), cell_m);
        // Half a millimetre at 1:25,000 are 12.5 m.
        let by_scale = of(None, &["1:25,000"], 4.0);
        assert_eq!((by_scale.m, by_scale.raised), (12.5, false));
        assert_eq!(by_scale.from, ToleranceFrom::Scale(25_000.0));
        // The least accurate of several maps; a DEM of 30 m cannot tell 12.5 m.
        assert_eq!(of(None, &["±3 m", "1:50,000", ""], 4.0).m, 25.0);
        let coarse = of(None, &["1:25,000"], 30.0);
        assert_eq!((coarse.m, coarse.raised), (45.0, true));
        // Three cells of 800 m would find anything.
        assert_eq!(of(None, &[], 800.0).m, 1200.0);
        let unknown = of(None, &["by the water board"], 4.0);
        assert_eq!((unknown.m, unknown.from), (12.5, ToleranceFrom::Assumed));
        assert_eq!(of(Some(20.0), &["1:25,000"], 4.0).m, 20.0);
        assert_eq!(of(Some(2.0), &[], 4.0).m, 6.0);
    }
}
