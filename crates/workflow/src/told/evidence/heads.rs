//! What surveyed heads say, in words.

use crate::Evidence;
use bothros_core::calibration::{FEWEST_CELLS, SlopeFit};
use bothros_core::network::Begins;
use bothros_core::{Frame, Threshold};

use super::words::area;
use crate::told::quantity;

/// What surveyed heads say, and the threshold that they put it at.
pub(super) fn by_heads(e: &Evidence, frame: &Frame) -> Vec<(String, Option<u32>)> {
    let Some(heads) = e.heads else { return Vec::new() };
    let at = |t: Threshold| area(t, frame);
    let mut out = Vec::new();
    match heads.areas {
        None => out.push((
            "No surveyed head lies on a way of the flow: this line of evidence is silent.".into(),
            None,
        )),
        Some(a) if e.begins == Begins::Surveyed => {
            let text = format!(
                "Streams begin at the {} surveyed heads, so that these are no evidence for the threshold; {} gather at the smallest of them.",
                a.heads,
                at(a.least)
            );
            out.push((text, Some(a.least.as_cells())));
        }
        Some(a) => {
            let what = match e.begins {
                Begins::SlopeArea(_) => "area weighed by slope",
                Begins::Converging(_) => "area of converging land",
                _ => "contributing area",
            };
            let text = match a.heads {
                1 => format!(
                    "The surveyed head has a {what} of {}: one head alone is weak evidence.",
                    at(a.median)
                ),
                n => format!(
                    "At {n} surveyed heads the {what} is {} in the middle, and for half of them between {} and {}.",
                    at(a.median),
                    at(a.quarter),
                    at(a.three_quarters)
                ),
            };
            out.push((text, Some(a.median.as_cells())));
            if let Some(fit) = a.fit {
                out.push((of_slope(&fit), None));
            }
        }
    }
    let lost = |n: usize, place: &str| match n {
        0 => None,
        1 => Some((format!("1 surveyed head lies {place}"), None)),
        n => Some((format!("{n} surveyed heads lie {place}"), None)),
    };
    out.extend(lost(heads.outside, "outside the DEM."));
    let off = format!(
        "off any valley: fewer than {FEWEST_CELLS} cells drain to within {}. Where the survey may be farther off, say so below.",
        quantity::length(heads.within_m)
    );
    out.extend(lost(heads.off, &off));
    out
}

/// Whether area falls with slope from head to head.
fn of_slope(fit: &SlopeFit) -> String {
    let (power, error) = (quantity::real(fit.exponent, 2), quantity::real(fit.error, 2));
    // Twice its standard error from nothing. (Common practice.)
    match fit.exponent > 2.0 * fit.error && fit.exponent > 0.0 {
        true => format!(
            "From head to head, contributing area falls with slope to the power {power} (standard error {error}; slope explains {} of its scatter): a \
             threshold that weighs slope may fit better.",
            quantity::percent(fit.explained)
        ),
        false => format!(
            "From head to head, contributing area does not plainly fall with slope (power {power}, standard error {error}): nothing speaks for \
             a threshold that weighs slope."
        ),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Heads;
    use crate::told::evidence::tests_support::evidence;
    use bothros_core::calibration::HeadAreas;

    const FRAME: Frame = Frame { rows: 9, cols: 9, left: 0.0, top: 0.0, cell_size: 10.0, unit_m: 1.0 };

    fn with(areas: Option<HeadAreas>, outside: usize, off: usize) -> Evidence {
        Evidence { heads: Some(Heads { areas, outside, off, within_m: 15.0 }), ..evidence() }
    }

    fn areas(fit: Option<SlopeFit>) -> HeadAreas {
        let cells = Threshold::cells;
        HeadAreas {
            heads: 23,
            least: cells(40),
            quarter: cells(80),
            median: cells(120),
            three_quarters: cells(210),
            fit,
        }
    }

    fn fit(exponent: f64) -> Option<SlopeFit> {
        let at_area = Threshold::cells(100);
        Some(SlopeFit { exponent, error: 0.3, explained: 0.41, at_slope: 0.2, at_area, heads: 20 })
    }

    #[test]
    fn heads_tell_the_area_they_begin_at() {
        let said = by_heads(&with(Some(areas(None)), 0, 0), &FRAME);
        let text = "At 23 surveyed heads the contributing area is 1.20 ha in the middle, and for half of them between 8\u{202F}000 m² and 2.10 ha.";
        assert_eq!(said, [(text.to_owned(), Some(120))]);
        assert!(by_heads(&evidence(), &FRAME).is_empty());
        let begun = Evidence { begins: Begins::Surveyed, ..with(Some(areas(None)), 0, 0) };
        let said = by_heads(&begun, &FRAME);
        assert!(said[0].0.contains("no evidence for the threshold") && begun.by_heads().is_none());
    }

    #[test]
    fn whether_slope_counts_is_said_with_its_error() {
        let plain = by_heads(&with(Some(areas(fit(1.3))), 0, 0), &FRAME);
        assert!(
            plain[1].0.contains("to the power 1.3 (standard error 0.30; slope explains 41"),
            "{}",
            plain[1].0
        );
        let none = by_heads(&with(Some(areas(fit(0.4))), 0, 0), &FRAME);
        assert!(none[1].0.contains("does not plainly fall"), "{}", none[1].0);
    }

    #[test]
    fn heads_that_are_of_no_use_are_told() {
        let said = by_heads(&with(None, 2, 1), &FRAME);
        assert!(said[0].0.contains("silent"));
        assert_eq!(said[1].0, "2 surveyed heads lie outside the DEM.");
        assert!(
            said[2].0.starts_with("1 surveyed head lies off any valley: fewer than 4 cells"),
            "{}",
            said[2].0
        );
    }
}
