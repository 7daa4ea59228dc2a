//! What the evidence for a threshold says: its charts, and what each line of it suggests, in words.

mod curves;
mod drops;
mod heads;
mod slopes;
mod words;

pub use curves::{agreement, beside};
pub use drops::drops_chart;
pub use slopes::slope_chart;
pub use words::{Ground, against, in_words, suggestions, verdict};

use super::quantity;
use crate::{Tolerance, ToleranceFrom};

/// Where a tolerance comes from, in words.
pub fn tolerance_told(tolerance: &Tolerance) -> String {
    let from = match tolerance.from {
        ToleranceFrom::Typed => "As typed".to_owned(),
        ToleranceFrom::Accuracy(m) => format!("The map’s stated accuracy, {}", quantity::size(m)),
        ToleranceFrom::Scale(to) => format!("Half a millimetre on a map at 1:{}", quantity::whole(to as u64)),
        ToleranceFrom::Assumed => {
            "Half a millimetre on a map at 1:25\u{202F}000, as nothing is known of this one: type a tolerance, or the scale under its layer".to_owned()
        }
    };
    match tolerance.raised {
        true => format!("{from}; raised to a cell and a half, as cells tell no less apart."),
        false => format!("{from}."),
    }
}

#[cfg(test)]
pub(crate) mod tests_support {
    use super::*;
    use crate::Evidence;
    use bothros_core::network::Begins;

    /// Evidence of nothing.
    pub(crate) fn evidence() -> Evidence {
        Evidence {
            tolerance_m: 30.0,
            scores: Vec::new(),
            drops: Vec::new(),
            figures: Vec::new(),
            slopes: Vec::new(),
            bend: None,
            mapped_lines: 0,
            footprint_km2: 1.0,
            covered_km2: 1.0,
            burned: false,
            begins: Begins::Area,
            heads: None,
        }
    }

    #[test]
    fn a_tolerance_says_where_it_comes_from() {
        let of = |from, raised| tolerance_told(&Tolerance { m: 12.5, from, raised });
        assert_eq!(
            of(ToleranceFrom::Scale(25_000.0), false),
            "Half a millimetre on a map at 1:25\u{202F}000."
        );
        assert!(of(ToleranceFrom::Accuracy(4.0), false).contains("stated accuracy, 4 m"));
        assert!(of(ToleranceFrom::Typed, true).contains("raised to a cell and a half"));
        assert!(of(ToleranceFrom::Assumed, false).contains("nothing is known"));
    }
}
