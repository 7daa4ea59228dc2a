//! The ground along a line, drawn.

use bothros_core::profile::Profile;

/// The ground along a line as a drawing: before as a line over grey, the cut filled, after as a line.
pub fn profile_svg(p: &Profile, first: &str, last: &str) -> String {
    const WIDE: f64 = 350.0;
    const HIGH: f64 = 150.0;
    let (left, right, top, bottom) = (40.0, WIDE - 6.0, 10.0, HIGH - 24.0);
    let all = || p.before_m.iter().chain(&p.after_m).flatten().map(|&z| z as f64);
    let (low, high) = (all().fold(f64::INFINITY, f64::min), all().fold(f64::NEG_INFINITY, f64::max));
    if low > high {
        return "<p class=\"hint\">There is no elevation along this line.</p>".into();
    }
    let span = (high - low).max(0.5);
    let far = p.distance_m.last().copied().unwrap_or(0.0).max(1e-9);
    let x = |d: f64| left + d / far * (right - left);
    let y = |z: f64| bottom - (z - low) / span * (bottom - top);
    let points = |values: &[Option<f32>]| -> Vec<String> {
        let place = |(&d, z): (&f64, &Option<f32>)| z.map(|z| format!("{:.1},{:.1}", x(d), y(z as f64)));
        p.distance_m.iter().zip(values).filter_map(place).collect()
    };
    let (before, after) = (points(&p.before_m), points(&p.after_m));
    let back: Vec<String> = after.iter().rev().cloned().collect();
    let mut axis = String::new();
    let step = nice(span / 3.0);
    let mut level = (low / step).ceil() * step;
    while level <= high + 1e-9 {
        axis += &format!(
            r#"<line class="grid" x1="{left}" x2="{right}" y1="{0:.1}" y2="{0:.1}"/><text x="{1}" y="{2:.1}" text-anchor="end">{level:.1}</text>"#,
            y(level),
            left - 4.0,
            y(level) + 4.0
        );
        level += step;
    }
    let (before, after, back) = (before.join(" "), after.join(" "), back.join(" "));
    let (foot, middle) = (HIGH - 6.0, (left + right) / 2.0);
    format!(
        r#"<svg class="profile" viewBox="0 0 {WIDE} {HIGH}" role="img" aria-label="Ground along the breach line, before and after">{axis}<polygon class="cut" points="{before} {back}"/><polyline class="before" points="{before}"/><polyline class="after" points="{after}"/><text x="{left}" y="{foot}">{first}</text><text x="{middle}" y="{foot}" text-anchor="middle">{far:.0} m</text><text x="{right}" y="{foot}" text-anchor="end">{last}</text><text x="2" y="9">m</text></svg>"#
    )
}

/// A round number near a step.
fn nice(step: f64) -> f64 {
    let power = 10f64.powf(step.max(1e-9).log10().floor());
    let share = step / power;
    power
        * if share < 1.5 {
            1.0
        } else if share < 3.5 {
            2.0
        } else if share < 7.5 {
            5.0
        } else {
            10.0
        }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steps_of_axes_are_round() {
        assert_eq!([0.23, 1.1, 4.0, 80.0].map(nice), [0.2, 1.0, 5.0, 100.0]);
    }

    #[test]
    fn a_profile_is_drawn_with_its_cut() {
        let profile = Profile {
            distance_m: vec![0.0, 4.0, 8.0],
            before_m: vec![Some(10.0), Some(13.0), Some(9.0)],
            after_m: vec![Some(10.0), Some(9.5), Some(9.0)],
        };
        let svg = profile_svg(&profile, "a", "b");
        assert!(svg.contains("class=\"cut\"") && svg.contains("class=\"after\"") && svg.contains("8 m"));
        assert_eq!(svg.matches("points=").count(), 3);
        let nothing = Profile { before_m: vec![None; 3], after_m: vec![None; 3], ..profile };
        assert!(profile_svg(&nothing, "a", "b").contains("no elevation"));
    }
}
