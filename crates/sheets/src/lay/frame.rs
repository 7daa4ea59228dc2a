//! A map: layers, grid, labels, rim.

use crate::fonts::{CAPITALS, POINT};
use crate::labels::{Placing, Spot, ToPlace, place};
use crate::{
    Anchor, Colour, Content, Feature, Frame, Geometry, Grid, GridStyle, Label, LabelPlace, Layer, Line, Mark,
    Rect, Result, Side, View, Weight, interval, width_mm,
};

/// Pixels of 1/96 inch, mm.
const PIXEL: f64 = 25.4 / 96.0;
/// Places nearer than this on paper are one, mm.
const SAME: f64 = 0.03;
/// Letters of the grid, mm.
const GRID_LETTERS: f64 = 6.5 * POINT;
/// Half the size of crosses, length of ticks, mm.
const CROSS: f64 = 1.5;
/// More labels than this are never read.
const MOST_LABELS: usize = 1500;

/// A map that was drawn.
pub(super) struct Drawn {
    pub marks: Vec<Mark>,
    pub labels: Vec<Spot>,
    pub complaints: Vec<String>,
}

/// A mark with corners, the first at the top; or a circle.
pub(super) fn point(
    at: [f64; 2],
    corners: u8,
    radius: f64,
    fill: Option<(Colour, f64)>,
    line: Option<Line>,
) -> Mark {
    if corners < 3 {
        return Mark::circle(at, radius, fill, line);
    }
    let corner = |i: u8| {
        let (sin, cos) = (std::f64::consts::TAU * f64::from(i) / f64::from(corners)).sin_cos();
        [at[0] + radius * sin, at[1] - radius * cos]
    };
    Mark::area((0..corners).map(corner).collect(), fill, line)
}

/// A line on paper, without places that fall together.
fn on_paper(view: &View, line: &[[f64; 2]]) -> Vec<[f64; 2]> {
    let mut out: Vec<[f64; 2]> = Vec::with_capacity(line.len());
    for (n, &ground) in line.iter().enumerate() {
        let at = view.on_paper(ground);
        let far = out.last().is_none_or(|last| (at[0] - last[0]).hypot(at[1] - last[1]) > SAME);
        if far {
            out.push(at);
        } else if n + 1 == line.len() && out.len() > 1 {
            out.pop();
            out.push(at);
        }
    }
    out
}

fn touches(frame: &Rect, line: &[[f64; 2]]) -> bool {
    let span = |axis: usize| {
        line.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), p| (l.min(p[axis]), h.max(p[axis])))
    };
    let ((x0, x1), (y0, y1)) = (span(0), span(1));
    x0 <= frame.x + frame.width && x1 >= frame.x && y0 <= frame.y + frame.height && y1 >= frame.y
}

fn holds(frame: &Rect, [x, y]: [f64; 2]) -> bool {
    x >= frame.x && y >= frame.y && x <= frame.x + frame.width && y <= frame.y + frame.height
}

/// The longest run of a line inside the frame.
fn seen(frame: &Rect, line: &[[f64; 2]]) -> Vec<[f64; 2]> {
    let length = |run: &[[f64; 2]]| -> f64 {
        run.windows(2).map(|w| (w[1][0] - w[0][0]).hypot(w[1][1] - w[0][1])).sum()
    };
    let runs = line.split(|&p| !holds(frame, p));
    runs.max_by(|a, b| length(a).total_cmp(&length(b))).map_or(Vec::new(), <[_]>::to_vec)
}

fn inside(rings: &[Vec<[f64; 2]>], [x, y]: [f64; 2]) -> bool {
    let crossed = |ring: &Vec<[f64; 2]>| {
        let mut odd = false;
        for (n, b) in ring.iter().enumerate() {
            let a = ring[(n + ring.len() - 1) % ring.len()];
            if (a[1] > y) != (b[1] > y) && x < (b[0] - a[0]) * (y - a[1]) / (b[1] - a[1]) + a[0] {
                odd = !odd;
            }
        }
        odd
    };
    rings.iter().filter(|ring| crossed(ring)).count() % 2 == 1
}

/// A place well inside an area, as far as it is seen.
fn heart(rings: &[Vec<[f64; 2]>], frame: &Rect) -> Option<[f64; 2]> {
    const ACROSS: usize = 16;
    let all = || rings.iter().flatten();
    let span = |axis: usize, low: f64, high: f64| {
        let (l, h) =
            all().fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), p| (l.min(p[axis]), h.max(p[axis])));
        (l.max(low), h.min(high))
    };
    let (x0, x1) = span(0, frame.x, frame.x + frame.width);
    let (y0, y1) = span(1, frame.y, frame.y + frame.height);
    let near = |at: [f64; 2]| all().map(|p| (p[0] - at[0]).hypot(p[1] - at[1])).fold(f64::INFINITY, f64::min);
    let tried = (0..ACROSS * ACROSS).map(|n| {
        let share = |n: usize| (n as f64 + 0.5) / ACROSS as f64;
        [x0 + (x1 - x0) * share(n % ACROSS), y0 + (y1 - y0) * share(n / ACROSS)]
    });
    tried.filter(|&at| inside(rings, at)).max_by(|&a, &b| near(a).total_cmp(&near(b)))
}

/// A label and how it is drawn.
struct Wanted<'a> {
    place: ToPlace,
    label: &'a Label,
    size: f64,
}

/// The marks of a map. `looked_at` is the map whose place this one shows, `free` what stands in front of it.
pub(super) fn marks(
    id: u32,
    frame: &Frame,
    content: &Content,
    looked_at: Option<&Content>,
    free: &[Rect],
) -> Result<Drawn> {
    let (view, at) = (&content.view, content.view.frame);
    let pixel = PIXEL * frame.ink;
    let line_of = |stroke: &crate::Stroke| Line {
        colour: stroke.colour,
        width: stroke.width_px * pixel,
        dash: stroke.dash_px.iter().map(|d| d * pixel).collect(),
        round: crate::lay::rounded(&stroke.dash_px),
    };
    let mut inner: Vec<Mark> = Vec::new();
    let mut wanted: Vec<Wanted> = Vec::new();
    let mut complaints = Vec::new();
    for layer in &content.layers {
        match layer {
            Layer::Picture { picture, opacity } => {
                inner.push(Mark::Image { at, picture: picture.clone(), opacity: *opacity });
            }
            Layer::Features(features) => {
                for feature in features {
                    let line = feature.stroke.as_ref().map(line_of);
                    let placing = drawn(feature, view, line, pixel, &mut inner);
                    if let (Some(label), Some(placing), true) = (&feature.label, placing, frame.labels.on) {
                        let size = label.size_px * pixel * frame.labels.size;
                        let halo = frame.labels.halo_mm;
                        let place = ToPlace {
                            placing,
                            width_mm: width_mm(&label.text, size, Weight::Bold) + 2.0 * halo,
                            height_mm: size * 0.95 + 2.0 * halo,
                            matters: label.matters,
                        };
                        wanted.push(Wanted { place, label, size });
                    }
                }
            }
        }
    }
    let mask = content.mask.as_ref().map(|rings| {
        rings.iter().map(|ring| on_paper(view, ring)).filter(|ring| ring.len() > 2).collect::<Vec<_>>()
    });
    if let Some(rings) = &mask {
        let rim = Line::solid(Colour::INK, 0.5);
        inner = vec![
            Mark::Clip { area: rings.clone(), marks: inner },
            Mark::Path { lines: rings.clone(), closed: true, fill: None, line: Some(rim) },
        ];
    }
    if let Some(other) = looked_at {
        let [w, s, e, n] = other.view.ground();
        let ring = [[w, n], [e, n], [e, s], [w, s]].map(|p| view.on_paper(p)).to_vec();
        inner.push(Mark::area(ring, None, Some(Line::solid(Colour::ALARM, 0.6))));
    }
    let mut outer = Vec::new();
    let mut kept: Vec<Rect> = free.to_vec();
    grid(frame, view, content.unit, &mut inner, &mut outer, &mut kept)?;

    wanted.sort_by(|a, b| b.place.matters.total_cmp(&a.place.matters));
    if wanted.len() > MOST_LABELS {
        complaints.push(format!(
            "Of {} labels on map {id} the {MOST_LABELS} of the largest are placed.",
            wanted.len()
        ));
        wanted.truncate(MOST_LABELS);
    }
    let room = Rect { x: at.x + 0.5, y: at.y + 0.5, width: at.width - 1.0, height: at.height - 1.0 };
    let all: Vec<ToPlace> = wanted.iter().map(|w| w.place.clone()).collect();
    let placed = place(&all, &room, &kept);
    for spot in &placed {
        let Wanted { label, size, .. } = &wanted[spot.label];
        let (sin, cos) = spot.at.turned.to_radians().sin_cos();
        // From the middle of the box down to the base line.
        let down = size * CAPITALS / 2.0;
        inner.push(Mark::Text {
            at: [spot.at.middle[0] - sin * down, spot.at.middle[1] + cos * down],
            anchor: Anchor::Middle,
            turned: spot.at.turned,
            size: *size,
            weight: Weight::Bold,
            colour: label.colour,
            halo: frame.labels.halo_mm,
            text: label.text.clone(),
        });
    }
    let mut marks = vec![Mark::Clip { area: vec![at.ring()], marks: inner }];
    if frame.rim {
        marks.push(Mark::rect(at, None, Some(Line { round: false, ..Line::solid(Colour::INK, 0.3) })));
    }
    marks.extend(outer);
    Ok(Drawn { marks, labels: placed.into_iter().map(|p| p.at).collect(), complaints })
}

/// Draws a feature; where its label belongs, as far as it is seen.
fn drawn(
    feature: &Feature,
    view: &View,
    line: Option<Line>,
    pixel: f64,
    out: &mut Vec<Mark>,
) -> Option<Placing> {
    let frame = &view.frame;
    match &feature.geometry {
        Geometry::Point(place, corners) => {
            let (at, radius) = (view.on_paper(*place), feature.radius_px * pixel);
            if !holds(frame, at) {
                return None;
            }
            out.push(point(at, *corners, radius, feature.fill, line));
            Some(Placing::At { point: at, away_mm: radius + 0.3 })
        }
        Geometry::Lines(lines) => {
            let lines: Vec<Vec<[f64; 2]>> =
                lines.iter().map(|l| on_paper(view, l)).filter(|l| touches(frame, l)).collect();
            let longest = lines.iter().map(|l| seen(frame, l)).max_by_key(Vec::len);
            if lines.is_empty() {
                return None;
            }
            out.push(Mark::Path { lines, closed: false, fill: None, line });
            longest.filter(|l| l.len() > 1).map(Placing::Along)
        }
        Geometry::Area(rings) => {
            let rings: Vec<Vec<[f64; 2]>> =
                rings.iter().map(|r| on_paper(view, r)).filter(|r| r.len() > 2).collect();
            if !rings.iter().any(|r| touches(frame, r)) {
                return None;
            }
            let heart = feature.label.as_ref().and_then(|_| heart(&rings, frame));
            out.push(Mark::Path { lines: rings, closed: true, fill: feature.fill, line });
            heart.map(Placing::Over)
        }
    }
}

/// Draws a grid and its labels; what labels in the map take is added to what is kept free.
fn grid(
    frame: &Frame,
    view: &View,
    unit: &str,
    inner: &mut Vec<Mark>,
    outer: &mut Vec<Mark>,
    kept: &mut Vec<Rect>,
) -> Result<()> {
    let choice = frame.grid;
    if choice.style == GridStyle::None || frame.locates.is_some() {
        return Ok(());
    }
    let usual = interval(view);
    let grid = Grid::over(view, choice.interval.map(|step| step.unwrap_or(usual)))?;
    let at = view.frame;
    let (right, low) = (at.x + at.width, at.y + at.height);
    let line = || Line { round: false, ..Line::solid(Colour::INK, 0.15) };
    match choice.style {
        GridStyle::None => {}
        GridStyle::Crosses => {
            for [x, y] in grid.crossings() {
                inner.push(Mark::line(vec![[x - CROSS, y], [x + CROSS, y]], line()));
                inner.push(Mark::line(vec![[x, y - CROSS], [x, y + CROSS]], line()));
            }
        }
        GridStyle::Lines | GridStyle::Ticks => {
            for one in &grid.lines {
                let (from, to) = match one.of {
                    Side::Easting => ([one.at_mm, at.y], [one.at_mm, low]),
                    Side::Northing => ([at.x, one.at_mm], [right, one.at_mm]),
                };
                if choice.style == GridStyle::Lines {
                    inner.push(Mark::line(vec![from, to], line()));
                    continue;
                }
                let short = |a: [f64; 2], b: [f64; 2]| {
                    let far = (b[0] - a[0]).hypot(b[1] - a[1]).max(1e-9);
                    vec![a, [a[0] + (b[0] - a[0]) / far * CROSS, a[1] + (b[1] - a[1]) / far * CROSS]]
                };
                inner.push(Mark::line(short(from, to), line()));
                inner.push(Mark::line(short(to, from), line()));
            }
        }
    }
    if choice.labels == LabelPlace::None {
        return Ok(());
    }
    let within = choice.labels == LabelPlace::Inside;
    let size = GRID_LETTERS;
    for one in &grid.lines {
        let told = match one.of {
            Side::Easting => format!("{} {unit} E", one.label),
            Side::Northing => format!("{} {unit} N", one.label),
        };
        let wide = width_mm(&told, size, Weight::Regular) + 1.0;
        // Middle of the label; those of northings stand upright along the side.
        let (middle, turned) = match (one.of, within) {
            (Side::Easting, true) => ([one.at_mm, low - size * 0.8], 0.0),
            (Side::Easting, false) => ([one.at_mm, low + size * 0.8], 0.0),
            (Side::Northing, true) => ([at.x + size * 0.8, one.at_mm], -90.0),
            (Side::Northing, false) => ([at.x - size * 0.8, one.at_mm], -90.0),
        };
        let (w, h) = if turned == 0.0 { (wide, size) } else { (size, wide) };
        let takes = Rect { x: middle[0] - w / 2.0, y: middle[1] - h / 2.0, width: w, height: h };
        let fits = takes.x >= at.x - size * 2.0
            && takes.y >= at.y - size * 2.0
            && match one.of {
                Side::Easting => takes.x >= at.x && takes.x + w <= right,
                Side::Northing => takes.y >= at.y && takes.y + h <= low,
            };
        if !fits || kept.iter().any(|k| k.meets(&takes)) {
            continue;
        }
        let base = match turned == 0.0 {
            true => [middle[0], middle[1] + size * CAPITALS / 2.0],
            false => [middle[0] + size * CAPITALS / 2.0, middle[1]],
        };
        let mark = Mark::Text {
            at: base,
            anchor: Anchor::Middle,
            turned,
            size,
            weight: Weight::Regular,
            colour: Colour::INK,
            halo: if within { 0.5 } else { 0.0 },
            text: told,
        };
        match within {
            true => {
                kept.push(takes);
                inner.push(mark);
            }
            false => outer.push(mark),
        }
    }
    Ok(())
}
