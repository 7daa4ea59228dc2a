//! Places where a long profile steepens at once.

/// A place where a long profile steepens abruptly.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Knickpoint {
    /// its place in the profile
    pub at: usize,
    /// mean slope over the stretch above it, m/m
    pub above: f64,
    /// mean slope over the stretch below it, m/m
    pub below: f64,
}

/// How many times steeper it is below a knickpoint than above.
const STEEPER: f64 = 2.0;
/// Fall beyond that of the stretch above, metres.
const LEAST_FALL_M: f64 = 1.0;

/// Finds knickpoints of a profile that runs downstream: places where the mean slope over `reach_m` below is at least twice that over
/// `reach_m` above, and by so much steeper that it makes a metre over that stretch; of those that lie within `reach_m` of each other
/// the one where slopes differ most (ours). `distance_m` rises; places without an elevation are passed over.
///
/// ```
/// use bothros_core::profile::knickpoints;
/// let distance: Vec<f64> = (0..100).map(|i| i as f64 * 10.0).collect();
/// // Falls by 1 % up to 500 m, by 8 % for 200 m, then by 1 % again.
/// let z: Vec<Option<f32>> = distance.iter().map(|&d| {
///     Some((100.0 - 0.01 * d - 0.07 * (d - 500.0).clamp(0.0, 200.0)) as f32)
/// }).collect();
/// let found = knickpoints(&distance, &z, 100.0);
/// assert_eq!(found.len(), 1);
/// assert_eq!(distance[found[0].at], 500.0);
/// ```
pub fn knickpoints(distance_m: &[f64], z: &[Option<f32>], reach_m: f64) -> Vec<Knickpoint> {
    let known: Vec<(usize, f64, f64)> = distance_m
        .iter()
        .zip(z)
        .enumerate()
        .filter_map(|(at, (&d, z))| z.map(|z| (at, d, f64::from(z))))
        .collect();
    // The elevation at a distance, between the places on both sides of it.
    let elevation = |d: f64| {
        let after = known.partition_point(|k| k.1 < d).clamp(1, known.len() - 1);
        let (a, b) = (known[after - 1], known[after]);
        let share = if b.1 > a.1 { ((d - a.1) / (b.1 - a.1)).clamp(0.0, 1.0) } else { 0.0 };
        a.2 + (b.2 - a.2) * share
    };
    if known.len() < 3 || reach_m.is_nan() || reach_m <= 0.0 {
        return Vec::new();
    }
    let (first, last) = (known[0].1, known[known.len() - 1].1);
    let mut found: Vec<Knickpoint> = known
        .iter()
        .filter(|k| k.1 - reach_m >= first && k.1 + reach_m <= last)
        .map(|k| Knickpoint {
            at: k.0,
            above: (elevation(k.1 - reach_m) - k.2) / reach_m,
            below: (k.2 - elevation(k.1 + reach_m)) / reach_m,
        })
        .filter(|k| k.below >= STEEPER * k.above.max(0.0) && (k.below - k.above) * reach_m >= LEAST_FALL_M)
        .collect();
    // Of those that differ by less than a thousandth the one farthest downstream, where it steepens.
    let thousandths = |k: &Knickpoint| ((k.below - k.above) * 1000.0).round();
    found.sort_by(|a, b| thousandths(b).total_cmp(&thousandths(a)).then(b.at.cmp(&a.at)));
    let mut kept: Vec<Knickpoint> = Vec::new();
    for knick in found {
        if kept.iter().all(|k| (distance_m[k.at] - distance_m[knick.at]).abs() > reach_m) {
            kept.push(knick);
        }
    }
    kept.sort_by_key(|k| k.at);
    kept
}

#[cfg(test)]
mod tests {
    use super::*;

    fn profile(z: impl Fn(f64) -> f64) -> (Vec<f64>, Vec<Option<f32>>) {
        let distance: Vec<f64> = (0..200).map(|i| f64::from(i) * 5.0).collect();
        let values = distance.iter().map(|&d| Some(z(d) as f32)).collect();
        (distance, values)
    }

    #[test]
    fn an_even_fall_and_one_that_eases_have_none() {
        let (d, z) = profile(|d| 200.0 - 0.05 * d);
        assert!(knickpoints(&d, &z, 50.0).is_empty());
        let (d, z) = profile(|d| 200.0 * (-d / 400.0).exp());
        assert!(knickpoints(&d, &z, 50.0).is_empty(), "a graded river is steep above and gentle below");
    }

    #[test]
    fn a_step_is_found_once_also_where_some_places_are_unknown() {
        let step = |d: f64| 100.0 - 0.002 * d - if d > 400.0 { 6.0 } else { 0.0 };
        let (d, mut z) = profile(step);
        z[30] = None;
        let found = knickpoints(&d, &z, 60.0);
        assert_eq!(found.len(), 1, "{found:?}");
        assert!((d[found[0].at] - 400.0).abs() <= 5.0 && found[0].below > 0.09, "{found:?}");
        // A small one is within what a DEM tells.
        let (d, z) = profile(|d| 100.0 - 0.002 * d - if d > 400.0 { 0.5 } else { 0.0 });
        assert!(knickpoints(&d, &z, 60.0).is_empty());
    }

    #[test]
    fn a_short_profile_has_none() {
        assert!(knickpoints(&[0.0, 5.0], &[Some(1.0), Some(0.0)], 10.0).is_empty());
        assert!(knickpoints(&[], &[], 10.0).is_empty());
        assert!(knickpoints(&[0.0, 5.0, 9.0], &[None; 3], 10.0).is_empty());
    }
}
