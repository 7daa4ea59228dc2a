//! Rasters on a sheet: drawn from their cells at the resolution of the page.

use std::sync::Arc;

use bothros_core::terrain::Light;
use bothros_core::{Cell, Frame, Grid};
use bothros_formats::{Crs, decode_png, lay_onto};
use bothros_products::{Units, numbers};
use bothros_sheets::{Colour, Entry, Picture, Sample};
use bothros_store::{CellValue, RasterMeta, RasterRole};
use rayon::prelude::*;
use serde_json::Value;

use super::filled::{Lens, Looked, SheetSources};
use crate::network::LandIndex;
use crate::{
    Dot, OUTER, PicturePlace, Ramp, Result, View as GroundView, blocking, colour, halo, index_tint, range,
    relief_dots, shade_dots, usual_light, view_dots,
};

/// What names of pictures behind the map begin with.
pub(super) const BACKDROP: &str = "backdrop-";

/// What a raster layer adds to a map.
pub(super) struct Drawn {
    pub picture: Picture,
    pub opacity: f64,
    pub entries: Vec<Entry>,
}

/// Dots of a picture in the place of cells: row and column of the first cell on its level, and colours.
struct Window {
    dots: Grid<Dot>,
    /// left edge of the first column and upper edge of the first row, CRS units
    left: f64,
    top: f64,
    cell: f64,
}

/// Cells of a level that cover a frame with so many cells around it.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Covering {
    level: usize,
    row: isize,
    col: isize,
    rows: usize,
    cols: usize,
    /// size of a cell, CRS units
    cell: f64,
    left: f64,
    top: f64,
}

/// A cell smaller than this share of a dot is told by the next coarser level.
const FINE: f64 = 0.7;

/// The window of the level whose cells come near the dots of a picture, cut to the raster; none where they do not meet.
fn covering(meta: &RasterMeta, looked: Lens) -> Option<Covering> {
    let dot = looked.step().0;
    let mut level = 0;
    while level + 1 < meta.levels && meta.cell_x * ((1u64 << level) as f64) < dot * FINE {
        level += 1;
    }
    let cell = meta.cell_x * (1u64 << level) as f64;
    let (rows, cols) = meta.size_of_level(level);
    let [west, south, east, north] = looked.view.ground();
    let within = |at: f64, most: usize| at.clamp(0.0, most as f64) as usize;
    // One cell more on each side: colours are mixed between neighbours.
    let col = within(((west - meta.left) / cell).floor() - 1.0, cols);
    let row = within(((meta.top - north) / cell).floor() - 1.0, rows);
    let to_col = within(((east - meta.left) / cell).ceil() + 1.0, cols);
    let to_row = within(((meta.top - south) / cell).ceil() + 1.0, rows);
    (to_col > col && to_row > row).then(|| Covering {
        level,
        row: row as isize,
        col: col as isize,
        rows: to_row - row,
        cols: to_col - col,
        cell,
        left: meta.left + col as f64 * cell,
        top: meta.top - row as f64 * cell,
    })
}

/// Cells this many dots wide are drawn as they are; smaller ones are mixed with their neighbours.
const SEEN: f64 = 1.5;

/// Where a dot lies among cells along one axis: its own cell, and for mixing the two whose middles it lies between, with the
/// share of the second. Cells beyond the window count as the nearest in it.
#[derive(Clone, Copy)]
struct Among {
    own: Option<usize>,
    two: [usize; 2],
    share: f32,
}

impl Among {
    fn of(at: f64, count: usize) -> Self {
        let inside = (0.0..count as f64).contains(&at);
        let between = at - 0.5;
        let within = |cell: f64| cell.clamp(0.0, count.saturating_sub(1) as f64) as usize;
        Self {
            own: inside.then_some(at as usize),
            two: [within(between.floor()), within(between.floor() + 1.0)],
            share: (between - between.floor()) as f32,
        }
    }
}

/// A picture of the frame from dots in the place of cells.
fn picture(window: &Window, looked: Lens) -> Picture {
    let (width, height) = looked.dots();
    let [west, _, _, north] = looked.view.ground();
    let (across, down) = looked.step();
    let mixed = window.cell < SEEN * across;
    let (rows, cols) = (window.dots.rows(), window.dots.cols());
    let along: Vec<Among> = (0..width)
        .map(|x| Among::of((west + (x as f64 + 0.5) * across - window.left) / window.cell, cols))
        .collect();
    let mut rgba = vec![0u8; width * height * 4];
    rgba.par_chunks_mut(width * 4).enumerate().for_each(|(y, line)| {
        let row = Among::of((window.top - (north - (y as f64 + 0.5) * down)) / window.cell, rows);
        let Some(own) = row.own else { return };
        let cells = |row: usize| &window.dots.values()[row * cols..(row + 1) * cols];
        let (here, two) = (cells(own), row.two.map(cells));
        for (col, out) in along.iter().zip(line.chunks_exact_mut(4)) {
            let Some(own) = col.own else { continue };
            let dot = here[own];
            // The rim of what is known stays where it is.
            out.copy_from_slice(&if mixed && dot[3] > 0 { mix(two, *col, row.share, dot) } else { dot });
        }
    });
    Picture { width, height, rgba: Arc::new(rgba) }
}

/// The colour between four cells; those that are clear count as the one that the dot lies in.
fn mix(rows: [&[Dot]; 2], col: Among, down: f32, here: Dot) -> Dot {
    let one = |row: &[Dot], col: usize| {
        let dot = row[col];
        if dot[3] == 0 { here } else { dot }
    };
    let [[a, b], [c, d]] = rows.map(|row| col.two.map(|col| one(row, col)));
    std::array::from_fn(|i| {
        let [a, b, c, d] = [a, b, c, d].map(|dot| f32::from(dot[i]));
        let (upper, lower) = (a + (b - a) * col.share, c + (d - c) * col.share);
        (upper + (lower - upper) * down + 0.5) as u8
    })
}

/// One picture over another.
pub(super) fn over(below: &mut Picture, above: &Picture, opacity: f64) {
    let share = (opacity.clamp(0.0, 1.0) * 256.0) as u32;
    let rgba = Arc::make_mut(&mut below.rgba);
    rgba.par_chunks_exact_mut(4).zip(above.rgba.par_chunks_exact(4)).for_each(|(b, a)| {
        let alpha = u32::from(a[3]) * share / 256;
        if alpha == 0 {
            return;
        }
        let under = u32::from(b[3]) * (255 - alpha) / 255;
        let all = alpha + under;
        for i in 0..3 {
            b[i] = ((u32::from(a[i]) * alpha + u32::from(b[i]) * under + all / 2) / all) as u8;
        }
        b[3] = all as u8;
    });
}

impl SheetSources<'_> {
    /// Reads the cells of a frame from a raster of the study and colours them.
    async fn read<T: CellValue>(
        &self,
        role: RasterRole,
        looked: &Looked,
        rim: usize,
        colour: impl FnOnce(Grid<T>, Covering) -> Result<Grid<Dot>> + Send + 'static,
    ) -> Result<Option<Picture>> {
        let Some(meta) = self.store.raster(looked.facts.study, role).await? else { return Ok(None) };
        let Some(of) = covering(&meta, looked.lens()) else { return Ok(None) };
        let at = (of.row - rim as isize, of.col - rim as isize);
        let size = (of.rows + 2 * rim, of.cols + 2 * rim);
        let cells = self.store.read_window::<T>(&meta, of.level, at, size).await?;
        let lens = looked.lens();
        let drawn = blocking(move || {
            let dots = colour(cells, of)?;
            Ok(picture(&Window { dots, left: of.left, top: of.top, cell: of.cell }, lens))
        });
        Ok(Some(drawn.await?))
    }

    /// A raster of the study whose cells each have a colour.
    async fn coloured<T: CellValue>(
        &self,
        role: RasterRole,
        looked: &Looked,
        colour: impl Fn(T) -> Dot + Send + Sync + 'static,
    ) -> Result<Option<Picture>> {
        let all = move |cells: Grid<T>, _: Covering| {
            let dots = cells.values().par_iter().map(|&v| colour(v)).collect();
            Ok(Grid::from_vec(cells.rows(), cells.cols(), dots))
        };
        self.read(role, looked, 0, all).await
    }

    /// A grid of values in memory.
    async fn in_memory<T: Send + Sync + 'static>(
        &self,
        of: Arc<T>,
        values: impl Fn(&T) -> &Grid<f32> + Send + Sync + 'static,
        frame: Frame,
        looked: &Looked,
        colour: impl Fn(f32) -> Dot + Send + Sync + 'static,
    ) -> Result<Picture> {
        let looked = looked.lens();
        blocking(move || {
            let grid = values(&of);
            let (width, height) = looked.dots();
            let [west, _, _, north] = looked.view.ground();
            let (across, down) = looked.step();
            let mut rgba = vec![0u8; width * height * 4];
            rgba.par_chunks_mut(width * 4).enumerate().for_each(|(y, line)| {
                for (x, out) in line.chunks_exact_mut(4).enumerate() {
                    let place = (west + (x as f64 + 0.5) * across, north - (y as f64 + 0.5) * down);
                    let cell = frame
                        .cell_at(place.0, place.1)
                        .map(|Cell { row, col }| grid.values()[row * grid.cols() + col]);
                    if let Some(v) = cell.filter(|v| !v.is_nan()) {
                        out.copy_from_slice(&colour(v));
                    }
                }
            });
            Ok(Picture { width, height, rgba: Arc::new(rgba) })
        })
        .await
    }

    /// A picture behind the map, laid onto the ground of a frame; nothing where it is gone or has no place.
    async fn backdrop(&self, id: i64, looked: &Looked) -> Result<Option<Picture>> {
        let all = self.store.backdrops(looked.facts.study).await?;
        let (Some(of), Some(terrain)) = (all.into_iter().find(|b| b.id == id), &looked.facts.terrain) else {
            return Ok(None);
        };
        let Some(place) = PicturePlace::of(&of)? else { return Ok(None) };
        let png = self.store.backdrop_picture(id).await?;
        let (to, looked) = (terrain.crs.clone(), looked.lens());
        let laid = blocking(move || {
            let (from, (width, height)) = (Crs::parse(&place.crs)?, looked.dots());
            let picture = decode_png(&png)?;
            let ground = looked.view.ground();
            let rgba = lay_onto(&picture, place.geo_transform, &from, &to, ground, (width, height))?;
            Ok(Picture { width, height, rgba: Arc::new(rgba) })
        });
        Ok(Some(laid.await?))
    }

    /// Draws a raster layer of a map; nothing where the study has not got it.
    pub(super) async fn raster(&self, key: &str, looked: &Looked, units: Units) -> Result<Option<Drawn>> {
        let facts = &looked.facts;
        let Some(terrain) = &facts.terrain else { return Ok(None) };
        let unit_m = terrain.frame.unit_m;
        let style = facts.settings.style[key].clone();
        let ramp = Ramp::of(key, style["ramp"].as_str(), style["reversed"].as_bool() == Some(true));
        let number = |name: &str| style[name].as_f64();
        let typed = |low: f32, high: f32| {
            (number("low").map_or(low, |v| v as f32), number("high").map_or(high, |v| v as f32))
        };
        let usual_opacity = match key {
            "way" => 0.8,
            "direction" | "divide" => 0.85,
            key if LandIndex::from_name(key).is_some() && key != "aspect" => 0.85,
            _ => 1.0,
        };
        let opacity = number("opacity").unwrap_or(usual_opacity).clamp(0.0, 1.0);
        let entry = |words: &str, ramp: &Ramp, ends: Vec<String>| {
            let colours =
                (0..=32).map(|i| Colour(ramp.pixel(i as f32 / 32.0, 255)[..3].try_into().unwrap_or([0; 3])));
            vec![Entry {
                name: key.to_owned(),
                words: words.to_owned(),
                group: "Ground".into(),
                sample: Sample::Ramp { colours: colours.collect(), ends },
            }]
        };
        let height = |m: f32, decimals: usize| units.height(f64::from(m), decimals);
        let light = |of: &Value| Light {
            azimuth: of["azimuth"].as_f64().unwrap_or(usual_light().azimuth),
            altitude: of["altitude"].as_f64().unwrap_or(usual_light().altitude).clamp(1.0, 90.0),
            exaggeration: of["exaggeration"].as_f64().unwrap_or(usual_light().exaggeration).clamp(0.1, 50.0),
        };
        let threshold = facts.network.as_ref().map(|n| n.threshold);
        if let Some(id) = key.strip_prefix(BACKDROP).and_then(|id| id.parse().ok()) {
            let picture = self.backdrop(id, looked).await?;
            return Ok(picture.map(|picture| Drawn { picture, opacity, entries: Vec::new() }));
        }
        let (picture, entries) = match key {
            "relief" => {
                let (low, high) = match number("outer") {
                    Some(outer) => range(self.store, facts, None, None, outer).await?,
                    None => (terrain.summary.percentile_2_m, terrain.summary.percentile_98_m),
                };
                let range = typed(low, high);
                let (light, own) = (light(&style), ramp.clone());
                let draw = move |cells: Grid<f32>, of: Covering| {
                    Ok(relief_dots(&cells, range, of.cell * unit_m, of.cell * unit_m, light, &own))
                };
                let drawn = self.read::<f32>(RasterRole::Dem, looked, 1, draw).await?;
                (drawn, entry("Elevation", &ramp, vec![height(range.0, 0), height(range.1, 0)]))
            }
            "shade" => {
                let (light, four) = (light(&style), style["four_sides"].as_bool() == Some(true));
                let draw = move |cells: Grid<f32>, of: Covering| {
                    Ok(shade_dots(&cells, of.cell * unit_m, of.cell * unit_m, light, four))
                };
                (self.read::<f32>(RasterRole::Dem, looked, 1, draw).await?, Vec::new())
            }
            "slope" | "curvature" | "near" | "far" => {
                let Some(view) = GroundView::from_name(key) else { return Ok(None) };
                let cell_m = terrain.frame.cell_m();
                let usual = match key {
                    "near" => Some((10.0 * cell_m).round()),
                    "far" => Some((75.0 * cell_m).round()),
                    _ => None,
                };
                let radius = number("radius").or(usual);
                let outer = number("outer").unwrap_or(OUTER);
                let (low, high) = range(self.store, facts, Some(view), radius, outer).await?;
                let (low, high) = typed(low, high);
                let own = ramp.clone();
                // The rim depends on the level that is read: that of the finest is the widest.
                let Some(meta) = self.store.raster(facts.study, RasterRole::Dem).await? else {
                    return Ok(None);
                };
                let Some(of) = covering(&meta, looked.lens()) else { return Ok(None) };
                let (rim, _) = halo(view, radius, of.cell * unit_m);
                let draw = move |cells: Grid<f32>, of: Covering| {
                    view_dots(&cells, view, of.cell * unit_m, radius, (low, high), &own)
                };
                let drawn = self.read::<f32>(RasterRole::Dem, looked, rim, draw).await?;
                let most = low.abs().max(high.abs());
                let plain = |v: f32| numbers::real(f64::from(v), 2).replace('-', "−");
                let (words, ends) = match key {
                    "slope" => ("Slope", vec![format!("{}°", plain(low)), format!("{}°", plain(high))]),
                    "curvature" => (
                        "Profile curvature, per 100 m",
                        vec![format!("hollow −{}", plain(most)), format!("convex {}", plain(most))],
                    ),
                    _ => (
                        "Height against its surroundings",
                        vec![format!("low −{}", height(most, 1)), format!("high {}", height(most, 1))],
                    ),
                };
                (drawn, entry(words, &ramp, ends))
            }
            "sinks" => {
                let deepest =
                    facts.routing.as_ref().and_then(|r| r.sinks.deepest.as_ref()).map_or(1.0, |s| s.depth_m);
                let (_, most) = typed(0.0, deepest.max(0.01));
                let own = ramp.clone();
                // The square root shows shallow sinks too, as on the map.
                let tint = move |d: f32| if d.is_nan() { [0; 4] } else { own.pixel((d / most).sqrt(), 225) };
                let drawn = self.coloured::<f32>(RasterRole::FillDepth, looked, tint).await?;
                (drawn, entry("Depth of sinks", &ramp, vec!["shallow".into(), height(most, 1)]))
            }
            "change" => {
                let conditioned = facts.routing.as_ref().and_then(|r| r.conditioned.as_ref());
                let most =
                    conditioned.map_or(1.0, |c| c.routing.deepest_cut_m.max(c.routing.highest_fill_m) as f32);
                let (_, most) = typed(0.0, most.max(0.01));
                let own = ramp.clone();
                let tint = move |c: f32| match c.is_nan() {
                    true => [0; 4],
                    false => own.pixel((1.0 + (c.abs() / most).sqrt().min(1.0).copysign(c)) / 2.0, 235),
                };
                let drawn = self.coloured::<f32>(RasterRole::CutFill, looked, tint).await?;
                let ends =
                    vec![format!("cut {}", height(most, 1)), "0".into(), format!("fill {}", height(most, 1))];
                (drawn, entry("Cut and fill", &ramp, ends))
            }
            "direction" => {
                let drawn = self.coloured::<u8>(RasterRole::Direction, looked, colour::direction).await?;
                let codes = (0..8).map(|i| {
                    let [r, g, b, _] = colour::direction(1 << i);
                    Colour([r, g, b])
                });
                let sample = Sample::Patches(codes.collect());
                let words = "Flow direction, clockwise from east".to_owned();
                (drawn, vec![Entry { name: key.into(), words, group: "Ground".into(), sample }])
            }
            "area" => {
                let logs = facts.routing.as_ref().map_or((0.0, 5.0), |r| r.log_percentiles);
                let (low, high) = (logs.0 as f32, logs.1 as f32);
                let own = ramp.clone();
                let span = (high - low).max(f32::MIN_POSITIVE);
                let tint = move |cells: u32| match cells {
                    u32::MAX => [0; 4],
                    cells => own.pixel(((cells as f32 + 1.0).log10() - low) / span, 255),
                };
                let drawn = self.coloured::<u32>(RasterRole::Accumulation, looked, tint).await?;
                let cell_m2 = terrain.frame.cell_area().as_m2();
                let ends = [low, high].map(|log| units.area(10f64.powf(f64::from(log)) * cell_m2));
                (drawn, entry("Contributing area (logarithmic)", &ramp, ends.into()))
            }
            "probable" | "divide" => {
                let role = match key {
                    "probable" => RasterRole::StreamProbability,
                    _ => RasterRole::CatchmentProbability(0),
                };
                let own = ramp.clone();
                let tint = move |p: f32| if p > 0.0 { own.pixel(p, 230) } else { [0; 4] };
                let drawn = self.coloured::<f32>(role, looked, tint).await?;
                let (words, first) = match key {
                    "probable" => ("Probability of streams", "seldom stream"),
                    _ => ("Probability of the catchment", "seldom in it"),
                };
                (drawn, entry(words, &ramp, vec![first.into(), "always".into()]))
            }
            "way" => {
                let Some(threshold) = threshold else { return Ok(None) };
                let ways = self.grids.ways(self.store, facts, threshold).await?;
                let (_, most) = typed(0.0, ways.most_m as f32);
                let (most, own) = (most.max(1.0), ramp.clone());
                let tint = move |d: f32| own.pixel(d / most, 255);
                let drawn = self.in_memory(ways, |w| &w.far, terrain.frame, looked, tint).await?;
                (
                    Some(drawn),
                    entry(
                        "Overland flow length",
                        &ramp,
                        vec![units.length(0.0), units.length(f64::from(most))],
                    ),
                )
            }
            key => {
                let (Some(index), Some(threshold)) = (LandIndex::from_name(key), threshold) else {
                    return Ok(None);
                };
                let found = self.grids.land_index(self.store, facts, threshold, index).await?;
                let (low, high) = (found.low, found.high);
                let tint = index_tint(index, low, high, ramp.clone());
                let drawn = self.in_memory(found, |i| &i.values, terrain.frame, looked, tint).await?;
                let ends = match index {
                    LandIndex::Aspect => vec!["north".into(), "by east, south, west".into()],
                    LandIndex::HeightAboveStream => vec![height(low, 1), height(high, 1)],
                    LandIndex::SpecificArea | LandIndex::StreamPower => {
                        vec![units.length(f64::from(low)), units.length(f64::from(high))]
                    }
                    LandIndex::Wetness => {
                        vec![numbers::real(f64::from(low), 2), numbers::real(f64::from(high), 2)]
                    }
                };
                (Some(drawn), entry(index.title(), &ramp, ends))
            }
        };
        Ok(picture.map(|picture| Drawn { picture, opacity, entries }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bothros_sheets::{Rect, View};

    /// A frame of 40 by 30 dots, each so many metres wide, over a window whose upper left corner is at 0, 30.
    fn looked(dot: f64) -> Lens {
        let inch = 25.4;
        let frame = Rect { x: 0.0, y: 0.0, width: 40.0 * inch / 100.0, height: 30.0 * inch / 100.0 };
        let (width, height) = (40.0 * dot, 30.0 * dot);
        let denominator = width / frame.width * 1000.0;
        let view = View { frame, x: width / 2.0, y: 30.0 - height / 2.0, denominator, unit_m: 1.0 };
        Lens { view, dpi: 100.0 }
    }

    fn window(cell: f64) -> Window {
        let of =
            |c: Cell| if (c.row + c.col).is_multiple_of(2) { [200, 100, 0, 255] } else { [100, 200, 0, 255] };
        let mut dots = Grid::from_fn(15, 20, of);
        let hole = dots.index(Cell { row: 5, col: 5 });
        dots.values_mut()[hole] = [0; 4];
        Window { dots, left: 0.0, top: 30.0, cell }
    }

    #[test]
    fn large_cells_are_drawn_as_they_are_and_small_ones_mixed() {
        // Cells of two dots: each dot has the colour of its cell.
        let drawn = picture(&window(2.0), looked(1.0));
        let dot = |p: &Picture, x: usize, y: usize| p.rgba[(y * p.width + x) * 4..][..4].to_vec();
        assert_eq!((drawn.width, drawn.height), (40, 30));
        for (x, y) in [(0, 0), (1, 1), (2, 0), (39, 29), (13, 2)] {
            let even = (x / 2 + y / 2) % 2 == 0;
            assert_eq!(
                dot(&drawn, x, y),
                if even { [200, 100, 0, 255] } else { [100, 200, 0, 255] },
                "{x}, {y}"
            );
        }
        assert_eq!(dot(&drawn, 10, 10)[3], 0, "a hole is clear");
        // Cells of one dot, seen from between four of them: half and half. What is known keeps its rim.
        let between = View { x: 20.5, ..looked(1.0).view };
        let shifted = Lens { view: View { y: 30.0 - 15.5, ..between }, ..looked(1.0) };
        let drawn = picture(&window(1.0), shifted);
        assert_eq!(dot(&drawn, 2, 2), [150, 150, 0, 255]);
    }

    #[test]
    fn a_picture_lies_over_another_with_its_opacity() {
        let of = |dot: Dot| Picture { width: 1, height: 1, rgba: Arc::new(dot.to_vec()) };
        let mut below = of([100, 100, 100, 255]);
        over(&mut below, &of([200, 0, 100, 255]), 0.5);
        assert!(below.rgba[0].abs_diff(150) <= 1 && below.rgba[1].abs_diff(50) <= 1 && below.rgba[3] == 255);
        let mut clear = of([0, 0, 0, 0]);
        over(&mut clear, &of([200, 10, 30, 255]), 1.0);
        assert_eq!(*clear.rgba, [200, 10, 30, 255]);
        over(&mut clear, &of([9, 9, 9, 0]), 1.0);
        assert_eq!(*clear.rgba, [200, 10, 30, 255]);
    }
}
