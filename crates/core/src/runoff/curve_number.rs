//! Curve-number runoff: how much of the rain runs off.

/// Share of the potential retention that is retained before runoff begins (NRCS National Engineering Handbook 630, ch. 10).
pub const INITIAL_ABSTRACTION: f64 = 0.2;

/// Returns the potential maximum retention, mm, of a curve number above 0 and up to 100.
///
/// # Source
/// NRCS National Engineering Handbook 630, ch. 10: S = 25400 / CN - 254 mm.
pub fn retention_mm(curve_number: f64) -> f64 {
    25_400.0 / curve_number - 254.0
}

/// Returns the runoff depth, mm, of a rain depth, mm, on land of a curve number above 0 and up to 100.
///
/// # Source
/// NRCS National Engineering Handbook 630, ch. 10: Q = (P - 0.2 S)² / (P + 0.8 S) where P exceeds 0.2 S, otherwise 0.
///
/// ```
/// use bothros_core::runoff::runoff_mm;
/// assert_eq!(runoff_mm(40.0, 100.0), 40.0);
/// assert_eq!(runoff_mm(10.0, 60.0), 0.0);
/// ```
pub fn runoff_mm(rain_mm: f64, curve_number: f64) -> f64 {
    let s = retention_mm(curve_number);
    let excess = rain_mm - INITIAL_ABSTRACTION * s;
    if excess <= 0.0 { 0.0 } else { excess * excess / (rain_mm + (1.0 - INITIAL_ABSTRACTION) * s) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Rain, curve number and runoff in inches: table 2-1 of USDA SCS 1986, Urban Hydrology for Small Watersheds, TR-55, from
    /// memory.
    #[test]
    fn runoff_is_that_of_the_table() {
        const INCH_MM: f64 = 25.4;
        let table =
            [(2.0, 70.0, 0.24), (3.0, 80.0, 1.25), (4.0, 80.0, 2.04), (5.0, 70.0, 2.04), (6.0, 75.0, 3.28)];
        for (rain, number, runoff) in table {
            let found = runoff_mm(rain * INCH_MM, number) / INCH_MM;
            assert!((found - runoff).abs() < 0.006, "{rain} {number}: {found}");
        }
    }

    proptest! {
        #[test]
        fn more_rain_gives_more_runoff_and_never_more_than_the_rain(
            rain in 0.0..500.0f64,
            more in 0.0..50.0f64,
            number in 30.0..100.0f64,
        ) {
            let (a, b) = (runoff_mm(rain, number), runoff_mm(rain + more, number));
            prop_assert!((0.0..=rain + 1e-9).contains(&a) && a <= b + 1e-9);
        }
    }
}
