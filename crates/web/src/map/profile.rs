//! The ground along a line as a chart.

use bothros_core::profile::Profile;
use bothros_products::Quantity;

use crate::ui::chart::{Axis, Chart, Series, Shape, Tone, figure};
use crate::ui::quantity;

/// What a profile shows.
pub struct Along {
    /// name of the chart and its files
    pub name: &'static str,
    /// what it shows, in a sentence
    pub title: &'static str,
    /// words at its two ends
    pub ends: (&'static str, &'static str),
    /// names of the ground before and after
    pub grounds: (&'static str, &'static str),
}

/// Returns the ground along a line as a part of the page: before, after, and what lies between.
pub fn ground_along(p: &Profile, of: &Along) -> String {
    ground_along_with(p, of, Vec::new())
}

/// As [`ground_along`], with places marked on it.
pub fn ground_along_with(p: &Profile, of: &Along, more: Vec<Series>) -> String {
    let points = |values: &[Option<f32>]| -> Vec<(f64, Option<f64>)> {
        p.distance_m.iter().zip(values).map(|(&d, z)| (d, z.map(f64::from))).collect()
    };
    let (before, after) = (points(&p.before_m), points(&p.after_m));
    let mut chart = Chart::new(of.name, of.title)
        .x(Axis::of("distance", Quantity::Length, quantity::units()))
        .y(Axis::of("elevation", Quantity::Elevation, quantity::units()).at_least(0.5))
        .ends(of.ends.0, of.ends.1);
    if p.before_m != p.after_m {
        let between = Shape::Between(after.iter().map(|p| p.1).collect());
        chart = chart
            .series(Series::new("changed", Tone::Clay, between, before.clone()).untold())
            .series(Series::line(of.grounds.0, Tone::Muted, before))
            .series(Series::line(of.grounds.1, Tone::Water, after));
    } else {
        chart = chart.series(Series::line(of.grounds.0, Tone::Muted, before));
    }
    for series in more {
        chart = chart.series(series);
    }
    figure(&chart).unwrap_or_else(|| "<p class=\"hint\">There is no elevation along this line.</p>".into())
}

#[cfg(test)]
mod tests {
    use super::*;

    const LINE: Along =
        Along { name: "line", title: "A line", ends: ("a", "b"), grounds: ("as it is", "cut") };

    #[test]
    fn both_grounds_are_drawn_where_they_differ() {
        let profile = Profile {
            distance_m: vec![0.0, 4.0, 8.0],
            before_m: vec![Some(10.0), Some(13.0), Some(9.0)],
            after_m: vec![Some(10.0), Some(9.5), Some(9.0)],
        };
        let html = ground_along(&profile, &LINE);
        assert!(
            html.contains("fill clay") && html.contains("cut, m") && html.contains("as it is, m"),
            "{html}"
        );
        let same = Profile { after_m: profile.before_m.clone(), ..profile.clone() };
        assert!(!ground_along(&same, &LINE).contains("fill clay"));
        let nothing = Profile { before_m: vec![None; 3], after_m: vec![None; 3], ..profile };
        assert!(ground_along(&nothing, &LINE).contains("no elevation"));
    }
}
