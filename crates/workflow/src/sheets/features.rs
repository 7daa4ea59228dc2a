//! Lines, areas and points on a sheet, as the map draws them.

use bothros_core::calibration::Side;
use bothros_core::terrain::contours;
use bothros_core::{Frame, Grid, Threshold};
use bothros_products::{Units, numbers};
use bothros_sheets::{Colour as Ink, Entry, Feature, Geometry, Label, Layer, Sample, Stroke};
use bothros_store::{LayerRole, RasterRole, Shape};
use serde_json::Value;

use super::compared::is_comparison;
use super::filled::{Looked, SheetSources};
use crate::study::style::{CATCHMENTS, CONTOURS, SUBBASINS};
use crate::{
    BASIN_COLOURS, BarrierFacts, CatchmentFacts, Colour, Fill, Result, TrialLine, VectorStyle, blocking,
    contour_interval, role_key, tolerance, vector_style,
};

const INK: Ink = Ink([0x22, 0x30, 0x2E]);
pub(super) const PAPER: Ink = Ink([0xFF, 0xFD, 0xF8]);
pub(super) const CLAY: Ink = Ink([0xB4, 0x53, 0x2A]);
const EXTRA: Ink = Ink([0xC7, 0x7B, 0x1B]);
const MISSED: Ink = Ink([0xA3, 0x26, 0x3B]);
pub(super) const WATER: Ink = Ink([0x0F, 0x5C, 0x63]);
/// What can be decided about a crossing, and its colour.
const DECIDED: [(&str, Ink); 4] = [
    ("breached", WATER),
    ("filled", Ink([0x5D, 0x6B, 0x68])),
    ("kept", Ink([0x5B, 0x7F, 0x3B])),
    ("not decided", CLAY),
];

/// What a layer of features adds to a map.
#[derive(Default)]
pub(super) struct Features {
    pub layers: Vec<Layer>,
    pub entries: Vec<Entry>,
}

pub(super) fn ink(Colour(rgb): Colour) -> Ink {
    Ink(rgb)
}

pub(super) fn stroke(colour: Ink, width_px: f64, dash_px: &[f64]) -> Stroke {
    Stroke { colour, width_px, dash_px: dash_px.to_vec() }
}

fn line_of(style: &VectorStyle) -> Stroke {
    stroke(ink(style.color), style.width, style.dash.pattern())
}

fn fill_of(style: &VectorStyle, colour: Ink) -> Option<(Ink, f64)> {
    (style.fill != Fill::None).then(|| (colour, style.fill.opacity()))
}

pub(super) fn label_of(style: &VectorStyle, text: String, matters: f64) -> Option<Label> {
    (!text.is_empty()).then_some(Label { text, size_px: style.size, colour: INK, matters })
}

pub(super) fn line(points: Vec<[f64; 2]>, stroke: Stroke, label: Option<Label>) -> Feature {
    Feature {
        geometry: Geometry::Lines(vec![points]),
        stroke: Some(stroke),
        fill: None,
        radius_px: 0.0,
        label,
    }
}

pub(super) fn entry(name: &str, words: impl Into<String>, group: &str, sample: Sample) -> Entry {
    Entry { name: name.into(), words: words.into(), group: group.into(), sample }
}

/// Whether the box around a line meets another.
pub(super) fn meets(line: &[[f64; 2]], [west, south, east, north]: [f64; 4]) -> bool {
    let span = |axis: usize| {
        line.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), p| (l.min(p[axis]), h.max(p[axis])))
    };
    let ((x0, x1), (y0, y1)) = (span(0), span(1));
    x0 <= east && x1 >= west && y0 <= north && y1 >= south
}

impl SheetSources<'_> {
    /// Draws a layer of features of a map; nothing where the study has not got it.
    pub(super) async fn layer(&self, key: &str, looked: &Looked, units: Units) -> Result<Features> {
        match key {
            "contours" => self.contours(looked, units).await,
            "streams" => self.streams(looked, units).await,
            "agreement" => self.agreement(looked).await,
            "catchments" => self.catchments(looked, units).await,
            "subbasins" => self.subbasins(looked, units).await,
            "features" => self.inputs(looked, units).await,
            "barriers" => self.crossings(looked).await,
            key if is_comparison(key) => self.comparison(key, looked, units).await,
            _ => Ok(Features::default()),
        }
    }

    async fn agreement(&self, looked: &Looked) -> Result<Features> {
        let facts = &looked.facts;
        let Some(found) = facts.network else { return Ok(Features::default()) };
        let m = tolerance(self.store, facts).await?.m;
        let told =
            self.calibration.comparison(self.store, self.grids, facts.study, found.threshold, m).await?;
        let ground = looked.view.ground();
        blocking(move || {
            let apart = told.shortfalls.iter().map(|s| (Some(s.side), 0, &s.line[..]));
            let both = told.matched.iter().map(|m| (None, 0, &m.line[..]));
            Ok(sides(both.chain(apart), ground))
        })
        .await
    }

    /// A trial in the place of the network.
    pub(super) async fn trial(&self, id: i64, looked: &Looked) -> Result<Features> {
        let lines: Vec<TrialLine> = self.store.trial_lines(looked.facts.study, id).await?;
        let ground = looked.view.ground();
        blocking(move || Ok(sides(lines.iter().map(|l| (l.side, l.order, &l.line[..])), ground))).await
    }

    async fn contours(&self, looked: &Looked, units: Units) -> Result<Features> {
        let facts = &looked.facts;
        let Some(terrain) = &facts.terrain else { return Ok(Features::default()) };
        let fine = looked.finely();
        let Some((window, of)) = self.window::<f32>(RasterRole::Dem, &fine, 0).await? else {
            return Ok(Features::default());
        };
        let here = of.frame(terrain.frame.unit_m);
        let styles = facts.settings.style.clone();
        blocking(move || Ok(contoured(&window, &here, &styles, units))).await
    }

    async fn catchments(&self, looked: &Looked, units: Units) -> Result<Features> {
        let facts = &looked.facts;
        if facts.routing.is_none() {
            return Ok(Features::default());
        }
        let Some(style) = vector_style(&facts.settings.style, CATCHMENTS) else {
            return Ok(Features::default());
        };
        let mut shown = Vec::new();
        for (at, point) in self.store.pour_points(facts.study).await?.into_iter().enumerate() {
            let Some(found) = bothros_store::kept::read_some::<CatchmentFacts>(&point.catchment)? else {
                continue;
            };
            shown.push(ShownCatchment {
                at,
                rings: rings_of(point.outline.as_ref()),
                name: point.name,
                area_km2: found.area_km2,
                at_edge: found.edge_cells > 0,
                given: (found.moved_m > 0.0).then_some([point.x, point.y]),
                outlet: [found.x, found.y],
            });
        }
        Ok(catchments_drawn(shown, &style, looked, units))
    }

    async fn subbasins(&self, looked: &Looked, units: Units) -> Result<Features> {
        let facts = &looked.facts;
        let (Some(terrain), Some(_)) = (&facts.terrain, facts.network) else {
            return Ok(Features::default());
        };
        let Some(style) = vector_style(&facts.settings.style, SUBBASINS) else {
            return Ok(Features::default());
        };
        let all = self.grids.subbasins(self.store, facts).await?;
        let lines = crate::Lines::Kind(facts.settings.subbasins.outline);
        let lines = self.grids.subbasin_lines(self.store, facts, lines).await?;
        let points: Vec<_> =
            crate::delineated(self.store, facts.study).await?.into_iter().map(|(p, _)| p).collect();
        let names = all.names(&facts.settings.subbasins, &points, &terrain.frame);
        let frame = terrain.frame;
        let shown = |(id, outline): &(u32, bothros_core::catchments::MultiPolygon)| {
            let at = *id as usize - 1;
            ShownSubbasin {
                id: *id,
                name: names[at].clone().unwrap_or_default(),
                rings: outline.iter().flatten().cloned().collect(),
                m2: frame.area_of(all.basins.found.own_cells[at]).as_m2(),
                colour: usize::from(all.colours[at]),
            }
        };
        Ok(subbasins_drawn(lines.iter().map(shown), &style, units))
    }

    /// Crossings with their breach lines, by what was decided about them.
    async fn crossings(&self, looked: &Looked) -> Result<Features> {
        let ground = looked.view.ground();
        let (mut lines, mut marks, mut known) = (Vec::new(), Vec::new(), [false; 4]);
        for row in self.store.barriers(looked.facts.study).await? {
            let of = BarrierFacts::of(&row)?;
            if !meets(&of.line, ground) {
                continue;
            }
            let at = match row.decision.as_deref() {
                Some("breach") => 0,
                Some("fill") => 1,
                Some("keep") => 2,
                _ => 3,
            };
            known[at] = true;
            let (_, colour) = DECIDED[at];
            let dash: &[f64] = if at == 0 { &[] } else { &[6.0, 4.0] };
            lines.push(line(of.line.clone(), stroke(PAPER, 5.0, &[]), None));
            lines.push(line(of.line, stroke(colour, 2.8, dash), None));
            marks.push(Feature {
                geometry: Geometry::Point(of.barrier.crest, 0),
                stroke: Some(stroke(colour, 2.4, &[])),
                fill: Some((PAPER, 0.8)),
                radius_px: 6.0,
                label: None,
            });
        }
        let told = |(at, (words, colour)): (usize, &(&str, Ink))| {
            let (fill, stroke) = (Some((PAPER, 0.8)), Some(stroke(*colour, 2.4, &[])));
            let sample = Sample::Point { corners: 0, fill, stroke, radius_px: 6.0 };
            known[at].then(|| entry(&format!("crossing-{at}"), *words, "Crossings", sample))
        };
        let entries = DECIDED.iter().enumerate().filter_map(told).collect();
        Ok(Features { layers: vec![Layer::Features(lines), Layer::Features(marks)], entries })
    }

    /// Layers as they were given or drawn, each role with its own entry of the key.
    async fn inputs(&self, looked: &Looked, units: Units) -> Result<Features> {
        let facts = &looked.facts;
        let mut out = Features::default();
        for layer in self.store.layers(facts.study).await? {
            if layer.role == LayerRole::Provisional {
                continue;
            }
            let Some(style) = vector_style(&facts.settings.style, &role_key(layer.role)) else { continue };
            let seen = self.layers.get(self.store, facts, &layer).await?;
            let here = seen.within(looked.view.ground());
            let shown = here.map(|(at, size)| {
                let of = &seen.features[at];
                ShownFeature { shape: &of.shape, name: of.name.as_deref(), elevation: of.elevation, size }
            });
            given_drawn(&mut out, layer.role, &style, shown, units);
        }
        Ok(out)
    }
}

/// A catchment as it is drawn.
pub(super) struct ShownCatchment {
    /// its place among all, from 0
    pub at: usize,
    pub name: String,
    /// its outline; none where it is not drawn
    pub rings: Vec<Vec<[f64; 2]>>,
    pub area_km2: f64,
    /// whether the edge of the DEM cuts it
    pub at_edge: bool,
    /// where its pour point was given, where it was moved
    pub given: Option<[f64; 2]>,
    pub outlet: [f64; 2],
}

/// Catchments with their pour points.
pub(super) fn catchments_drawn(
    all: Vec<ShownCatchment>,
    style: &VectorStyle,
    looked: &Looked,
    units: Units,
) -> Features {
    // Where something finer is drawn, their outlines are enough.
    let finer = looked.layers.iter().any(|l| l == "subbasins" || l.starts_with("divide") || is_comparison(l));
    let (mut areas, mut moves, mut points) = (Vec::new(), Vec::new(), Vec::new());
    for of in all {
        let at = of.at;
        let colour = ink(BASIN_COLOURS[at % BASIN_COLOURS.len()]);
        // One that the edge of the DEM cuts is told from the others.
        let dash: &[f64] = if of.at_edge { &[8.0, 5.0] } else { style.dash.pattern() };
        if !of.rings.is_empty() {
            areas.push((
                of.area_km2,
                Feature {
                    geometry: Geometry::Area(of.rings),
                    stroke: Some(stroke(ink(style.color), style.width, dash)),
                    fill: fill_of(style, colour).filter(|_| !finer),
                    radius_px: 0.0,
                    label: None,
                },
            ));
        }
        if let Some(given) = of.given {
            let to = [given, of.outlet];
            moves.push(line(to.into(), stroke(CLAY, 1.6, &[3.0, 3.0]), None));
        }
        let text = match style.label.as_str() {
            "name" => format!("{} {}", at + 1, of.name),
            "number" => (at + 1).to_string(),
            "area" => units.area(of.area_km2 * 1e6),
            _ => String::new(),
        };
        points.push(Feature {
            geometry: Geometry::Point(of.outlet, 4),
            stroke: Some(stroke(PAPER, 1.6, &[])),
            fill: Some((CLAY, 1.0)),
            radius_px: 8.0,
            // The largest labels matter most of all on a map.
            label: label_of(style, text, 1e15 + of.area_km2),
        });
    }
    // Larger ones lie below those that nest in them.
    areas.sort_by(|a, b| b.0.total_cmp(&a.0));
    let mut entries = Vec::new();
    if !areas.is_empty() {
        let fill = fill_of(style, ink(BASIN_COLOURS[0])).filter(|_| !finer);
        let sample = Sample::Area { fill, stroke: Some(line_of(style)) };
        entries.push(entry("catchments", "Catchments", "Catchments", sample));
    }
    if !points.is_empty() {
        let sample = Sample::Point {
            corners: 4,
            fill: Some((CLAY, 1.0)),
            stroke: Some(stroke(PAPER, 1.6, &[])),
            radius_px: 8.0,
        };
        entries.push(entry("points", "Pour points", "Catchments", sample));
    }
    let areas = areas.into_iter().map(|(_, area)| area).collect();
    Features {
        layers: vec![Layer::Features(areas), Layer::Features(moves), Layer::Features(points)],
        entries,
    }
}

/// A sub-basin as it is drawn.
pub(super) struct ShownSubbasin {
    pub id: u32,
    pub name: String,
    pub rings: Vec<Vec<[f64; 2]>>,
    pub m2: f64,
    /// number of its colour, from 0
    pub colour: usize,
}

/// Sub-basins.
pub(super) fn subbasins_drawn(
    all: impl Iterator<Item = ShownSubbasin>,
    style: &VectorStyle,
    units: Units,
) -> Features {
    let feature = |of: ShownSubbasin| {
        let text = match style.label.as_str() {
            "number" => of.id.to_string(),
            "name" => of.name,
            "area" => units.area(of.m2),
            _ => String::new(),
        };
        Feature {
            geometry: Geometry::Area(of.rings),
            stroke: Some(line_of(style)),
            fill: fill_of(style, ink(BASIN_COLOURS[of.colour % BASIN_COLOURS.len()])),
            radius_px: 0.0,
            label: label_of(style, text, of.m2),
        }
    };
    let areas: Vec<Feature> = all.map(feature).collect();
    let sample = Sample::Area { fill: fill_of(style, ink(BASIN_COLOURS[1])), stroke: Some(line_of(style)) };
    let entries = match areas.is_empty() {
        true => Vec::new(),
        false => vec![entry("subbasins", "Sub-basins", "Catchments", sample)],
    };
    Features { layers: vec![Layer::Features(areas)], entries }
}

/// A feature that was given or drawn.
pub(super) struct ShownFeature<'a> {
    pub shape: &'a Shape,
    pub name: Option<&'a str>,
    /// metres
    pub elevation: Option<f64>,
    /// the larger, the more its label matters
    pub size: f64,
}

/// A layer as it was given or drawn, with the entry of its role.
pub(super) fn given_drawn<'a>(
    out: &mut Features,
    role: LayerRole,
    style: &VectorStyle,
    all: impl Iterator<Item = ShownFeature<'a>>,
    units: Units,
) {
    let corners = if role == LayerRole::Culverts { 4 } else { 3 };
    let colour = ink(style.color);
    // Points have a light rim where they are filled.
    let rim = stroke(if style.fill == Fill::None { colour } else { PAPER }, 1.3, &[]);
    let mut features = Vec::new();
    let (mut some_points, mut some_lines, mut some_areas) = (false, false, false);
    for feature in all {
        let text = match style.label.as_str() {
            "elevation" => feature.elevation.map_or(String::new(), |z| units.height(z, 2)),
            "name" => feature.name.unwrap_or_default().to_owned(),
            _ => String::new(),
        };
        let label = label_of(style, text, feature.size);
        let (geometry, stroke, fill) = match feature.shape {
            Shape::Point(place) => {
                some_points = true;
                (Geometry::Point(*place, corners), rim.clone(), fill_of(style, colour))
            }
            Shape::Line(points) => {
                some_lines = true;
                (Geometry::Lines(vec![points.clone()]), line_of(style), None)
            }
            Shape::Polygons(all) => {
                some_areas = true;
                let rings = all.iter().flatten().cloned().collect();
                (Geometry::Area(rings), line_of(style), fill_of(style, colour))
            }
        };
        features.push(Feature { geometry, stroke: Some(stroke), fill, radius_px: 4.5 + style.width, label });
    }
    let name = role_key(role);
    let title = role.title();
    let known = |out: &Features, name: &str| out.entries.iter().any(|e| e.name == name);
    let samples = [
        (some_lines, name.clone(), Sample::Lines(vec![line_of(style)])),
        (
            some_areas,
            format!("{name}-area"),
            Sample::Area { fill: fill_of(style, colour), stroke: Some(line_of(style)) },
        ),
        (
            some_points,
            format!("{name}-point"),
            Sample::Point {
                corners,
                fill: fill_of(style, colour),
                stroke: Some(rim.clone()),
                radius_px: 4.5 + style.width,
            },
        ),
    ];
    for (there, name, sample) in samples {
        if there && !known(out, &name) {
            out.entries.push(entry(&name, title, "Layers", sample));
        }
    }
    out.layers.push(Layer::Features(features));
}

/// Contours of a window, as the map's styles draw them.
pub(super) fn contoured(window: &Grid<f32>, here: &Frame, styles: &Value, units: Units) -> Features {
    let Some(style) = vector_style(styles, CONTOURS) else { return Features::default() };
    let typed = styles[CONTOURS]["interval"].as_f64().filter(|i| *i > 0.0);
    let Some(interval) = contour_interval(window, typed) else { return Features::default() };
    let feature = |c: bothros_core::terrain::Contour| {
        let heavy = (c.elevation_m / interval).round() as i64 % 5 == 0;
        let width = if heavy { style.width * 2.1 } else { style.width };
        let drawn = stroke(ink(style.color), width, style.dash.pattern());
        let label = (heavy && !style.label.is_empty()).then(|| Label {
            text: units.height(c.elevation_m, if interval < 1.0 { 1 } else { 0 }),
            size_px: style.size,
            colour: ink(style.color),
            matters: 0.0,
        });
        line(c.points, drawn, label)
    };
    let lines = contours(window, here, interval).into_iter().filter(|c| c.points.len() > 3).map(feature);
    let words = format!("Contours every {}", units.size(interval));
    let entries = vec![entry("contours", words, "Ground", Sample::Lines(vec![line_of(&style)]))];
    Features { layers: vec![Layer::Features(lines.collect())], entries }
}

/// All rings of an outline as it is kept with a pour point.
pub(super) fn rings_of(outline: Option<&Value>) -> Vec<Vec<[f64; 2]>> {
    let polygons: Option<Vec<Vec<Vec<[f64; 2]>>>> =
        outline.and_then(|o| serde_json::from_value(o.clone()).ok());
    polygons.unwrap_or_default().into_iter().flatten().collect()
}

/// Matched, extra and missed, by colour and kind of line; a light edge keeps the last two apart from any ground.
fn sides<'a>(lines: impl Iterator<Item = (Option<Side>, u8, &'a [[f64; 2]])>, ground: [f64; 4]) -> Features {
    let (mut both, mut casing, mut apart) = (Vec::new(), Vec::new(), Vec::new());
    for (side, order, points) in lines.filter(|(_, _, line)| meets(line, ground)) {
        let drawn = of_side(side, order);
        match side {
            None => both.push(line(points.to_vec(), drawn, None)),
            Some(_) => {
                casing.push(line(points.to_vec(), stroke(PAPER, 4.5, &[]), None));
                apart.push(line(points.to_vec(), drawn, None));
            }
        }
    }
    let entries = [
        (None, "Matched", "matched"),
        (Some(Side::Extra), "Extra", "extra"),
        (Some(Side::Missed), "Missed", "missed"),
    ];
    let entries = entries.map(|(side, words, name)| {
        entry(name, words, "Network against the map", Sample::Lines(vec![of_side(side, 2)]))
    });
    Features { layers: [both, casing, apart].map(Layer::Features).into(), entries: entries.into() }
}

fn of_side(side: Option<Side>, order: u8) -> Stroke {
    match side {
        None => {
            let order = if order == 0 { 2 } else { order };
            stroke(WATER, 1.0 + 0.6 * f64::from(order - 1), &[])
        }
        Some(Side::Extra) => stroke(EXTRA, 2.4, &[9.0, 5.0]),
        Some(Side::Missed) => stroke(MISSED, 2.6, &[2.0, 4.0]),
    }
}

/// What a threshold is, as an area in words.
pub(super) fn threshold_told(threshold: Threshold, frame: &Frame, units: Units) -> String {
    let cells = numbers::whole(threshold.as_cells());
    format!("{} ({cells} cells)", units.area(threshold.as_area(frame).as_m2()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_drawn_over_the_ground_stands_out_from_its_rim() {
        // Contrast of graphics by WCAG 2.2, 1.4.11: at least 3 to 1 against the light rims that lines and marks have.
        let lines = [("extra", EXTRA), ("missed", MISSED), ("matched", WATER), ("pour point", CLAY)];
        for (what, colour) in lines.into_iter().chain(DECIDED) {
            let contrast = colour.contrast(PAPER);
            assert!(contrast >= 3.0, "{what}: {contrast:.2}");
        }
    }
}
