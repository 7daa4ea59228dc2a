//! Drawing a chart to SVG.

use std::fmt::Write as _;

use crate::axis::{Fitted, Scale};
use crate::table::Numbers;
use crate::{Chart, Mark, Place, Series, Shape, Tone};

/// A chart that was drawn.
#[derive(Debug, Clone, PartialEq)]
pub struct Drawn {
    /// name for files
    pub name: &'static str,
    /// what it shows
    pub title: String,
    /// the picture; it stands by itself
    pub svg: String,
    /// the numbers behind it
    pub table: Numbers,
    /// where each row of the table lies in the picture, from left to right
    pub at: Vec<f64>,
    /// the plot within the picture: left, right, top, bottom
    pub plot: [f64; 4],
    /// ends of the axis to the right in the unit that is shown
    pub ends: (f64, f64),
    /// whether that axis is logarithmic
    pub logarithmic: bool,
    /// own units of that axis in one of the unit that is shown
    pub unit: f64,
}

/// Where a row of the table lies in the picture.
fn at(plot: &Plot, row: &[Option<(String, f64)>]) -> f64 {
    let value = row.first().and_then(|cell| cell.as_ref()).map_or(0.0, |cell| cell.1);
    let share = plot.x.share_of_shown(value).unwrap_or(0.0);
    ((plot.left + (plot.right - plot.left) * share) * 10.0).round() / 10.0
}

/// Height of a line of words, and the width of a letter on the average, in the picture's units.
const LINE: f64 = 14.0;
const LETTER: f64 = 5.4;

fn wide(text: &str) -> f64 {
    text.chars().count() as f64 * LETTER
}

/// The labels (middle, half of the width, text) that do not overlap: along a linear axis every second or third from the first on, the last one among
/// them where that comes out even; along a logarithmic one, where ticks are not evenly far from each other, each that has room beside the one before.
fn apart(labels: Vec<(f64, f64, String)>, scale: Scale) -> Vec<(f64, f64, String)> {
    let clear =
        |left: &(f64, f64, String), right: &(f64, f64, String)| left.0 + left.1 + 4.0 < right.0 - right.1;
    if scale == Scale::Logarithmic {
        return labels.into_iter().fold(Vec::new(), |mut kept, label| {
            if kept.last().is_none_or(|last| clear(last, &label)) {
                kept.push(label);
            }
            kept
        });
    }
    let every = |step: usize| labels.iter().step_by(step);
    let is_clear =
        |step: &usize| every(*step).zip(every(*step).skip(1)).all(|(left, right)| clear(left, right));
    let step = (1..labels.len()).find(is_clear).unwrap_or(labels.len().max(1));
    let even = (step..step + 2).find(|step| labels.len().saturating_sub(1).is_multiple_of(*step));
    every(even.unwrap_or(step)).cloned().collect()
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// The plot and its axes.
struct Plot {
    x: Fitted,
    y: Fitted,
    left: f64,
    right: f64,
    top: f64,
    bottom: f64,
}

impl Plot {
    fn px(&self, own: f64) -> Option<f64> {
        Some(self.left + (self.right - self.left) * self.x.share(own)?)
    }
    /// Values beyond the ends are drawn at them, a little outside.
    fn py(&self, own: f64) -> Option<f64> {
        Some(self.bottom - (self.bottom - self.top) * self.y.share(own)?.clamp(-0.03, 1.03))
    }
    fn places(&self, points: &[(f64, Option<f64>)]) -> Vec<Option<(f64, f64)>> {
        points.iter().map(|&(x, y)| Some((self.px(x)?, self.py(y?)?))).collect()
    }
}

/// A path through points, broken where there is none.
fn path(points: &[Option<(f64, f64)>]) -> String {
    let mut d = String::new();
    let mut pen_down = false;
    for point in points {
        match point {
            Some((x, y)) => {
                let _ = write!(d, "{}{x:.1} {y:.1}", if pen_down { " L" } else { " M" });
                pen_down = true;
            }
            None => pen_down = false,
        }
    }
    d.trim_start().to_owned()
}

fn stroke(tone: Tone) -> String {
    format!("class=\"line {}\" stroke=\"{}\" fill=\"none\"", tone.class(), tone.light())
}

fn fill(tone: Tone) -> String {
    format!("class=\"fill {}\" fill=\"{}\"", tone.class(), tone.light())
}

fn series(svg: &mut String, plot: &Plot, s: &Series) {
    let points = plot.places(&s.points);
    let dots = |svg: &mut String, radius: f64| {
        for (x, y) in points.iter().flatten() {
            let _ = write!(svg, "<circle {} cx=\"{x:.1}\" cy=\"{y:.1}\" r=\"{radius}\"/>", fill(s.tone));
        }
    };
    let line = |svg: &mut String, more: &str| {
        let d = path(&points);
        if !d.is_empty() {
            let _ = write!(svg, "<path {} stroke-width=\"1.6\"{more} d=\"{d}\"/>", stroke(s.tone));
        }
    };
    match &s.shape {
        Shape::Line => line(svg, ""),
        Shape::Dashed => line(svg, " stroke-dasharray=\"5 3\""),
        Shape::Dotted => line(svg, " stroke-dasharray=\"1.5 2.5\""),
        Shape::Points => dots(svg, 2.2),
        Shape::LineAndPoints => {
            line(svg, "");
            dots(svg, 3.0);
        }
        Shape::Bars { width } => {
            for &(x, y) in &s.points {
                let ends = (plot.px(x), plot.px(x + width), y.and_then(|y| plot.py(y)));
                if let (Some(from), Some(to), Some(at)) = ends {
                    let at = at.min(plot.bottom);
                    let _ = write!(
                        svg,
                        "<rect {} x=\"{:.1}\" y=\"{at:.1}\" width=\"{:.1}\" height=\"{:.1}\"/>",
                        fill(s.tone),
                        from + 0.5,
                        (to - from - 1.0).max(0.5),
                        plot.bottom - at
                    );
                }
            }
        }
        Shape::Between(others) => {
            let others: Vec<(f64, Option<f64>)> =
                s.points.iter().zip(others).map(|(&(x, _), &y)| (x, y)).collect();
            let back = plot.places(&others);
            // Each stretch in which both have values is one area.
            let mut run: Vec<usize> = Vec::new();
            let mut close = |run: &mut Vec<usize>| {
                if run.len() > 1 {
                    let there = run.iter().map(|&i| points[i]);
                    let outline: Vec<_> = there.chain(run.iter().rev().map(|&i| back[i])).collect();
                    let _ =
                        write!(svg, "<path {} opacity=\"0.35\" d=\"{}Z\"/>", fill(s.tone), path(&outline));
                }
                run.clear();
            };
            for i in 0..points.len() {
                if points[i].is_some() && back[i].is_some() {
                    run.push(i);
                } else {
                    close(&mut run);
                }
            }
            close(&mut run);
        }
    }
}

fn mark(svg: &mut String, plot: &Plot, m: &Mark) {
    let clamped = |own: f64| plot.px(own).map(|x| x.clamp(plot.left, plot.right));
    match m.place {
        Place::FromX(from, to) => {
            if let (Some(from), Some(to)) = (clamped(from), clamped(to)) {
                let _ = write!(
                    svg,
                    "<rect {} opacity=\"0.14\" data-mark=\"{}\" x=\"{from:.1}\" y=\"{:.1}\" width=\"{:.1}\" height=\"{:.1}\"/>",
                    fill(m.tone),
                    m.key,
                    plot.top,
                    (to - from).max(1.0),
                    plot.bottom - plot.top
                );
            }
        }
        Place::FromY(from, to) => {
            let clamped = |own: f64| plot.py(own).map(|y| y.clamp(plot.top, plot.bottom));
            if let (Some(from), Some(to)) = (clamped(from), clamped(to)) {
                let _ = write!(
                    svg,
                    "<rect {} opacity=\"0.14\" data-mark=\"{}\" x=\"{:.1}\" y=\"{to:.1}\" width=\"{:.1}\" height=\"{:.1}\"/>",
                    fill(m.tone),
                    m.key,
                    plot.left,
                    plot.right - plot.left,
                    (from - to).max(1.0)
                );
            }
        }
        Place::AtX(own) => {
            if let Some(x) = clamped(own) {
                let _ = write!(
                    svg,
                    "<line {} stroke-width=\"1.6\" data-mark=\"{}\" x1=\"{x:.1}\" x2=\"{x:.1}\" y1=\"{:.1}\" y2=\"{:.1}\"/>",
                    stroke(m.tone),
                    m.key,
                    plot.top - 4.0,
                    plot.bottom + 4.0
                );
            }
        }
        Place::AtY(own) => {
            if let Some(y) = plot.py(own) {
                let _ = write!(
                    svg,
                    "<line {} stroke-dasharray=\"2 3\" data-mark=\"{}\" x1=\"{:.1}\" x2=\"{:.1}\" y1=\"{y:.1}\" y2=\"{y:.1}\"/>",
                    stroke(m.tone),
                    m.key,
                    plot.left,
                    plot.right
                );
            }
        }
    }
}

fn word(svg: &mut String, x: f64, y: f64, anchor: &str, text: &str) {
    let _ = write!(
        svg,
        "<text class=\"word\" fill=\"{}\" x=\"{x:.1}\" y=\"{y:.1}\" text-anchor=\"{anchor}\">{}</text>",
        Tone::Muted.light(),
        escaped(text)
    );
}

fn rule(svg: &mut String, x: (f64, f64), y: (f64, f64)) {
    let _ = write!(
        svg,
        "<line class=\"rule\" stroke=\"#D8D0C2\" x1=\"{:.1}\" x2=\"{:.1}\" y1=\"{:.1}\" y2=\"{:.1}\"/>",
        x.0, x.1, y.0, y.1
    );
}

/// An entry of the legend: a swatch and its name.
fn swatch(svg: &mut String, x: f64, y: f64, shape: &Shape, tone: Tone) {
    let _ = match shape {
        Shape::Points => {
            write!(svg, "<circle {} cx=\"{:.1}\" cy=\"{:.1}\" r=\"3\"/>", fill(tone), x + 7.0, y - 4.0)
        }
        Shape::Bars { .. } | Shape::Between(_) => {
            let opacity = if matches!(shape, Shape::Between(_)) { " opacity=\"0.35\"" } else { "" };
            write!(
                svg,
                "<rect {}{opacity} x=\"{x:.1}\" y=\"{:.1}\" width=\"14\" height=\"9\"/>",
                fill(tone),
                y - 8.5
            )
        }
        _ => {
            let dash = match shape {
                Shape::Dashed => " stroke-dasharray=\"5 3\"",
                Shape::Dotted => " stroke-dasharray=\"1.5 2.5\"",
                _ => "",
            };
            write!(
                svg,
                "<path {} stroke-width=\"2\"{dash} d=\"M{x:.1} {1:.1} L{2:.1} {1:.1}\"/>",
                stroke(tone),
                y - 4.0,
                x + 14.0
            )
        }
    };
}

/// Entries of the legend from left to right, in as many lines as they need; returns the height of all.
fn legend(svg: &mut String, top: f64, width: f64, entries: &[(Shape, Tone, String)]) -> f64 {
    let (mut x, mut y) = (2.0, top + LINE);
    for (shape, tone, name) in entries {
        let need = 20.0 + wide(name) + 12.0;
        if x > 2.0 && x + need > width {
            (x, y) = (2.0, y + LINE);
        }
        swatch(svg, x, y, shape, *tone);
        let _ = write!(
            svg,
            "<text class=\"word\" fill=\"{}\" x=\"{:.1}\" y=\"{y:.1}\">{}</text>",
            Tone::Ink.light(),
            x + 19.0,
            escaped(name)
        );
        x += need;
    }
    if entries.is_empty() { 0.0 } else { y - top + 4.0 }
}

impl Chart {
    /// Draws the chart; nothing where no point has a place.
    pub fn draw(&self) -> Option<Drawn> {
        let values = |s: &Series| -> Vec<f64> {
            let others = match &s.shape {
                Shape::Between(others) => others.clone(),
                _ => Vec::new(),
            };
            s.points.iter().map(|p| p.1).chain(others).flatten().collect()
        };
        let xs = self.series.iter().flat_map(|s| {
            let width = if let Shape::Bars { width } = s.shape { width } else { 0.0 };
            s.points.iter().flat_map(move |p| [p.0, p.0 + width])
        });
        let x = self.x.fit(xs)?;
        let ys = self.series.iter().flat_map(values).chain(self.marks.iter().filter_map(|m| match m.place {
            Place::AtY(y) => Some(y),
            _ => None,
        }));
        let y = self.y.fit(ys)?.rounded(self.y.given());
        let (width, height) = self.size;
        let y_ticks = y.ticks(((height - 50.0) / 32.0).max(2.0));
        let left = y_ticks.iter().map(|t| wide(&t.1)).fold(14.0, f64::max) + 8.0;
        let top = if y.title.is_empty() { 8.0 } else { LINE + 6.0 };
        let foot = LINE + if x.title.is_empty() && self.ends.is_none() { 2.0 } else { LINE };
        let plot = Plot { x, y, left, right: width - 8.0, top, bottom: height - foot };
        let mut body = String::new();
        self.axes(&mut body, &plot, &y_ticks);
        let (bands, lines): (Vec<&Mark>, Vec<&Mark>) =
            self.marks.iter().partition(|m| matches!(m.place, Place::FromX(..) | Place::FromY(..)));
        bands.iter().for_each(|m| mark(&mut body, &plot, m));
        self.series.iter().for_each(|s| series(&mut body, &plot, s));
        lines.iter().for_each(|m| mark(&mut body, &plot, m));
        let mut entries: Vec<(Shape, Tone, String)> = Vec::new();
        if self.series.len() + self.marks.len() > 1 {
            entries.extend(self.series.iter().map(|s| (s.shape.clone(), s.tone, s.name.clone())));
            entries.extend(self.marks.iter().map(|m| {
                let shape = match m.place {
                    Place::FromX(..) | Place::FromY(..) => Shape::Between(Vec::new()),
                    Place::AtX(_) => Shape::Line,
                    Place::AtY(_) => Shape::Dashed,
                };
                (shape, m.tone, m.name.clone())
            }));
            entries.retain(|e| !e.2.is_empty());
        }
        let below = legend(&mut body, height, width, &entries);
        let svg = format!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" class=\"plot {}\" viewBox=\"0 0 {width} {:.0}\" role=\"img\" tabindex=\"0\" aria-label=\"{}\" \
             font-family=\"'Source Sans 3', sans-serif\" font-size=\"11\">{body}</svg>",
            self.name,
            height + below,
            escaped(&self.title)
        );
        let told: Vec<&Series> = self.series.iter().filter(|s| s.told).collect();
        let table = Numbers::of(&told, &self.behind, &plot.x, &plot.y);
        Some(Drawn {
            name: self.name,
            title: self.title.clone(),
            svg,
            at: table.rows.iter().map(|row| at(&plot, row)).collect(),
            table,
            plot: [plot.left, plot.right, plot.top, plot.bottom],
            ends: (plot.x.low, plot.x.high),
            logarithmic: plot.x.scale == Scale::Logarithmic,
            unit: plot.x.unit.size,
        })
    }

    fn axes(&self, svg: &mut String, plot: &Plot, y_ticks: &[(f64, String)]) {
        for (value, label) in y_ticks {
            if let Some(share) = plot.y.share_of_shown(*value) {
                let at = plot.bottom - (plot.bottom - plot.top) * share;
                rule(svg, (plot.left, plot.right), (at, at));
                word(svg, plot.left - 5.0, at + 3.8, "end", label);
            }
        }
        if !plot.y.title.is_empty() {
            word(svg, 2.0, LINE - 3.0, "start", &plot.y.title);
        }
        let mut labels = Vec::new();
        for (value, label) in plot.x.ticks((plot.right - plot.left) / 48.0) {
            let Some(share) = plot.x.share_of_shown(value) else { continue };
            let at = plot.left + (plot.right - plot.left) * share;
            rule(svg, (at, at), (plot.top, plot.bottom));
            let half = wide(&label) / 2.0;
            // Labels do not reach beyond the picture.
            labels.push((at.min(self.size.0 - half - 1.0), half, label));
        }
        for (middle, _, label) in apart(labels, plot.x.scale) {
            word(svg, middle, plot.bottom + LINE, "middle", &label);
        }
        let foot = plot.bottom + 2.0 * LINE;
        match &self.ends {
            Some((first, last)) => {
                word(svg, plot.left, foot, "start", first);
                word(svg, (plot.left + plot.right) / 2.0, foot, "middle", &plot.x.title);
                word(svg, plot.right, foot, "end", last);
            }
            None if !plot.x.title.is_empty() => word(svg, plot.right, foot, "end", &plot.x.title),
            None => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Axis;
    use bothros_products::{Quantity, Units};

    fn profile() -> Chart {
        let before = vec![(0.0, Some(10.0)), (4.0, Some(13.0)), (8.0, Some(9.0)), (12.0, None)];
        let after = vec![(0.0, Some(10.0)), (4.0, Some(9.5)), (8.0, Some(9.0)), (12.0, None)];
        let cut = Shape::Between(after.iter().map(|p| p.1).collect());
        Chart::new("ground", "Ground <along> the line")
            .x(Axis::of("distance", Quantity::Length, Units::Metric))
            .y(Axis::of("elevation", Quantity::Elevation, Units::Metric).at_least(0.5))
            .series(Series::new("cut", Tone::Clay, cut, before.clone()).untold())
            .series(Series::line("ground", Tone::Ink, before))
            .series(Series::line("after", Tone::Water, after))
            .ends("upstream", "downstream")
    }

    #[test]
    fn points_lie_where_their_values_say() {
        let drawn = profile().draw().unwrap();
        let [left, right, top, bottom] = drawn.plot;
        // From 0 to 12 m across, from 9 to 13 m upwards.
        let (x, y) = (left + (right - left) * 4.0 / 12.0, top);
        assert!(
            drawn.svg.contains(&format!("M{left:.1} {:.1} L{x:.1} {y:.1}", bottom - (bottom - top) * 0.25))
        );
        assert_eq!((drawn.ends, drawn.logarithmic), ((0.0, 12.0), false));
    }

    #[test]
    fn the_picture_is_escaped_and_named() {
        let svg = profile().draw().unwrap().svg;
        assert!(
            svg.contains("aria-label=\"Ground &lt;along&gt; the line\"") && svg.contains(">upstream</text>")
        );
        assert!(svg.starts_with("<svg xmlns=") && !svg.contains("NaN"));
    }

    #[test]
    fn numbers_are_those_of_the_points_and_lie_under_them() {
        let drawn = profile().draw().unwrap();
        assert_eq!(drawn.table.heads, ["distance, m", "ground, m", "after, m"]);
        assert_eq!(drawn.table.rows.len(), 4);
        assert_eq!(drawn.table.rows[1][2], Some(("9.50".into(), 9.5)));
        assert_eq!(drawn.table.rows[3][1], None);
        let [left, right, ..] = drawn.plot;
        assert!((drawn.at[1] - (left + (right - left) / 3.0)).abs() < 0.06);
    }

    #[test]
    fn bars_and_marks_have_their_places() {
        let bars = Shape::Bars { width: 1.0 };
        let chart = Chart::new("cells", "Cells by change")
            .x(Axis::plain("change"))
            .y(Axis::plain("cells").from(0.0))
            .series(Series::new("cells", Tone::Indigo, bars, vec![(-1.0, Some(4.0)), (0.0, Some(2.0))]))
            .mark("zero", "no change", Tone::Ink, Place::AtX(0.0));
        let drawn = chart.draw().unwrap();
        assert_eq!(drawn.svg.matches("<rect class=\"fill indigo\"").count(), 3, "two bars and their swatch");
        let middle = (drawn.plot[0] + drawn.plot[1]) / 2.0;
        assert!(drawn.svg.contains(&format!("data-mark=\"zero\" x1=\"{middle:.1}\"")), "{}", drawn.svg);
        // A bar stands for its middle.
        assert_eq!(drawn.table.rows[0][0].as_ref().unwrap().1, -0.5);
    }

    #[test]
    fn nothing_to_draw_draws_nothing() {
        assert!(Chart::new("none", "").draw().is_none());
        let empty = Series::line("a", Tone::Ink, vec![(0.0, None), (1.0, None)]);
        assert!(Chart::new("none", "").series(empty).draw().is_none());
    }

    #[test]
    fn the_whole_picture() {
        insta::assert_snapshot!(profile().draw().unwrap().svg.replace("><", ">\n<"));
    }

    #[test]
    fn labels_stay_apart_and_evenly() {
        let labels =
            |middles: &[f64]| middles.iter().map(|&at| (at, 10.0, at.to_string())).collect::<Vec<_>>();
        let kept = |middles: &[f64], scale| {
            apart(labels(middles), scale).into_iter().map(|label| label.0).collect::<Vec<_>>()
        };
        assert_eq!(kept(&[10.0, 40.0, 70.0], Scale::Linear), [10.0, 40.0, 70.0]);
        // The last has been moved into the picture, to the one before: every second, or every third where that ends with the last.
        assert_eq!(kept(&[10.0, 40.0, 70.0, 100.0, 120.0, 140.0], Scale::Linear), [10.0, 70.0, 120.0]);
        assert_eq!(kept(&[10.0, 40.0, 70.0, 90.0], Scale::Linear), [10.0, 90.0]);
        assert_eq!(kept(&[10.0, 40.0, 70.0, 100.0, 120.0], Scale::Linear), [10.0, 70.0, 120.0]);
        assert_eq!(kept(&[10.0, 40.0, 60.0, 70.0], Scale::Logarithmic), [10.0, 40.0, 70.0]);
        assert_eq!(kept(&[10.0, 12.0, 14.0], Scale::Linear), [10.0]);
        assert!(kept(&[], Scale::Linear).is_empty());
    }
}
