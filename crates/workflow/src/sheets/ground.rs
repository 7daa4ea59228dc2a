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

use super::dots::{Covering, Levels, Window, covering, picture};
use super::filled::{Lens, Looked, SheetSources};
use super::source::MapSource;
use crate::network::LandIndex;
use crate::{
    Dot, Facts, OUTER, PicturePlace, Ramp, Result, View as GroundView, blocking, colour, derived_tint, halo,
    index_tint, relief_dots, shade_dots, usual_light, view_dots,
};

/// What names of pictures behind the map begin with.
pub(super) const BACKDROP: &str = "backdrop-";

/// What names of pictures from map servers begin with.
pub(super) const SERVER: &str = "server-";
/// What keys of rasters from formulas begin with; their names follow.
pub(super) const DERIVED: &str = "derived-";
/// Edge of a picture that a map server is asked for, dots: larger ones are put together.
const ASKED: usize = 1024;
/// What names of probabilities of catchments begin with.
const DIVIDE: &str = "divide";

/// Name of the layer that shows the probability of a catchment, by its place among those that were looked at.
pub(super) fn divide_key(at: u8) -> String {
    match at {
        0 => DIVIDE.into(),
        at => format!("{DIVIDE}-{}", at + 1),
    }
}

fn divide_of(key: &str) -> Option<u8> {
    let number = key.strip_prefix(DIVIDE)?;
    match number {
        "" => Some(0),
        number => number.strip_prefix('-')?.parse::<u8>().ok()?.checked_sub(1),
    }
}

/// What a raster layer adds to a map.
pub(super) struct Drawn {
    pub picture: Picture,
    pub opacity: f64,
    pub entries: Vec<Entry>,
}

/// Reads the cells of a frame from a raster and colours them.
async fn read<T: CellValue>(
    from: &impl MapSource,
    role: RasterRole,
    looked: &Looked,
    rim: usize,
    colour: impl FnOnce(Grid<T>, Covering) -> Result<Grid<Dot>> + Send + 'static,
) -> Result<Option<Picture>> {
    let Some((cells, of)) = from.cells::<T>(role, looked, rim).await? else { return Ok(None) };
    let lens = looked.lens();
    let drawn = blocking(move || {
        let dots = colour(cells, of)?;
        Ok(picture(&Window { dots, left: of.left, top: of.top, cell: of.cell }, lens))
    });
    Ok(Some(drawn.await?))
}

/// A raster whose cells each have a colour.
async fn coloured<T: CellValue>(
    from: &impl MapSource,
    role: RasterRole,
    looked: &Looked,
    colour: impl Fn(T) -> Dot + Send + Sync + 'static,
) -> Result<Option<Picture>> {
    let all = move |cells: Grid<T>, _: Covering| {
        let dots = cells.values().par_iter().map(|&v| colour(v)).collect();
        Ok(Grid::from_vec(cells.rows(), cells.cols(), dots))
    };
    read(from, role, looked, 0, all).await
}

/// Values in memory, each dot as the cell under its middle.
pub(super) fn dotted(
    grid: &Grid<f32>,
    frame: &Frame,
    looked: &Lens,
    colour: impl Fn(f32) -> Dot + Sync,
) -> Picture {
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
    Picture { width, height, rgba: Arc::new(rgba) }
}

/// How a raster from a formula is drawn between two values, and what the key says of it.
pub(super) fn derived_look(
    name: &str,
    unit: &str,
    (low, high): (f32, f32),
    look: &RasterLook,
) -> (impl Fn(f32) -> Dot + Send + Sync + 'static, Vec<Entry>) {
    let ends =
        [low, high].map(|v| format!("{} {unit}", numbers::real(f64::from(v), 3)).trim_end().to_owned());
    let entries = look.entry(&format!("{DERIVED}{name}"), name, ends.into());
    (derived_tint(low, high, look.ramp.clone()), entries)
}

impl SheetSources<'_> {
    /// A raster of the DEM that a frame shows.
    pub(super) async fn meta(&self, role: RasterRole, looked: &Looked) -> Result<Option<RasterMeta>> {
        let Facts { study, aside, .. } = *looked.facts;
        Ok(self.store.rasters_of_dem(study, aside).await?.remove(&role))
    }

    /// The cells of a raster of the study that cover a frame.
    pub(super) async fn window<T: CellValue>(
        &self,
        role: RasterRole,
        looked: &Looked,
        rim: usize,
    ) -> Result<Option<(Grid<T>, Covering)>> {
        let Some(meta) = self.meta(role, looked).await? else { return Ok(None) };
        let Some(of) = covering(Levels::of(&meta), looked.lens()) else { return Ok(None) };
        let at = (of.row - rim as isize, of.col - rim as isize);
        let size = (of.rows + 2 * rim, of.cols + 2 * rim);
        Ok(Some((self.store.read_window::<T>(&meta, of.level, at, size).await?, of)))
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
        blocking(move || Ok(dotted(values(&of), &frame, &looked, colour))).await
    }

    /// What a map server shows of the ground of a frame; nothing where there is none, or it does not answer.
    async fn served(&self, at: usize, looked: &Looked) -> Result<Option<Picture>> {
        let (Some(maps), Some(terrain)) = (self.maps, &looked.facts.terrain) else { return Ok(None) };
        let lens = looked.lens();
        let ((width, height), [west, _, _, north], (across, down)) =
            (lens.dots(), lens.view.ground(), lens.step());
        let mut rgba = vec![0u8; width * height * 4];
        for top in (0..height).step_by(ASKED) {
            for left in (0..width).step_by(ASKED) {
                let size = ((width - left).min(ASKED), (height - top).min(ASKED));
                let x = |dots: usize| west + dots as f64 * across;
                let y = |dots: usize| north - dots as f64 * down;
                let extent = [x(left), y(top + size.1), x(left + size.0), y(top)];
                let piece = match maps.picture(at, &terrain.crs, extent, size).await {
                    Ok(piece) => piece,
                    Err(error) => {
                        tracing::warn!(%error, "a map server's picture is left out of a sheet");
                        return Ok(None);
                    }
                };
                for (row, line) in piece.chunks_exact(size.0 * 4).enumerate() {
                    let begin = ((top + row) * width + left) * 4;
                    rgba[begin..begin + line.len()].copy_from_slice(line);
                }
            }
        }
        Ok(Some(Picture { width, height, rgba: Arc::new(rgba) }))
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

    /// A raster layer that no raster of the study holds: a picture behind the map, or what is computed for the threshold.
    pub(super) async fn other(
        &self,
        key: &str,
        looked: &Looked,
        look: &RasterLook,
        units: Units,
    ) -> Result<Option<Drawn>> {
        let facts = &looked.facts;
        if let Some(id) = key.strip_prefix(BACKDROP).and_then(|id| id.parse().ok()) {
            let picture = self.backdrop(id, looked).await?;
            return Ok(picture.map(|picture| look.drawn(picture, Vec::new())));
        }
        if let Some(at) = key.strip_prefix(SERVER).and_then(|at| at.parse().ok()) {
            let picture = self.served(at, looked).await?;
            return Ok(picture.map(|picture| look.drawn(picture, Vec::new())));
        }
        if let Some(name) = key.strip_prefix(DERIVED) {
            return self.derived(name, looked, look).await;
        }
        let (Some(terrain), Some(network)) = (&facts.terrain, &facts.network) else { return Ok(None) };
        if key == "way" {
            let ways = self.grids.ways(self.store, facts, network.threshold).await?;
            let (_, most) = look.typed(0.0, ways.most_m as f32);
            let (most, own) = (most.max(1.0), look.ramp.clone());
            let tint = move |d: f32| own.pixel(d / most, 255);
            let drawn = self.in_memory(ways, |w| &w.far, terrain.frame, looked, tint).await?;
            let ends = vec![units.length(0.0), units.length(f64::from(most))];
            return Ok(Some(look.drawn(drawn, look.entry(key, "Overland flow length", ends))));
        }
        let Some(index) = LandIndex::from_name(key) else { return Ok(None) };
        let found = self.grids.land_index(self.store, facts, network.threshold, index).await?;
        let (low, high) = (found.low, found.high);
        let tint = index_tint(index, low, high, look.ramp.clone());
        let drawn = self.in_memory(found, |i| &i.values, terrain.frame, looked, tint).await?;
        let ends = match index {
            LandIndex::Aspect => vec!["north".into(), "by east, south, west".into()],
            LandIndex::HeightAboveStream => [low, high].map(|m| units.height(f64::from(m), 1)).into(),
            LandIndex::SpecificArea | LandIndex::StreamPower => {
                vec![units.length(f64::from(low)), units.length(f64::from(high))]
            }
            LandIndex::Wetness => vec![numbers::real(f64::from(low), 2), numbers::real(f64::from(high), 2)],
        };
        Ok(Some(look.drawn(drawn, look.entry(key, index.title(), ends))))
    }

    /// A raster from a formula, by its name; nothing where there is none any more.
    async fn derived(&self, name: &str, looked: &Looked, look: &RasterLook) -> Result<Option<Drawn>> {
        let facts = &looked.facts;
        let raster = facts.settings.rasters.iter().find(|r| r.name == name);
        let Some(formula) = raster.and_then(|r| r.formula.as_ref()) else { return Ok(None) };
        let found = self.grids.derived(self.store, facts, formula).await?;
        let ends = look.typed(found.low, found.high);
        let (tint, entries) = derived_look(name, &found.unit.to_string(), ends, look);
        let frame = found.frame;
        let drawn = self.in_memory(found, |d| &*d.values, frame, looked, tint).await?;
        Ok(Some(look.drawn(drawn, entries)))
    }
}

/// How a raster layer is drawn, by the styles of the map.
pub(super) struct RasterLook {
    pub style: Value,
    pub ramp: Ramp,
    opacity: f64,
}

impl RasterLook {
    fn of(styles: &Value, key: &str) -> Self {
        // Probabilities of all catchments look alike.
        let key = if divide_of(key).is_some() { DIVIDE } else { key };
        let style = styles[key].clone();
        let usual_opacity = match key {
            "way" => 0.8,
            "direction" | "divide" => 0.85,
            key if LandIndex::from_name(key).is_some() && key != "aspect" => 0.85,
            _ => 1.0,
        };
        Self {
            ramp: Ramp::of(
                if key.starts_with(DERIVED) { "derived" } else { key },
                style["ramp"].as_str(),
                style["reversed"].as_bool() == Some(true),
            ),
            opacity: style["opacity"].as_f64().unwrap_or(usual_opacity).clamp(0.0, 1.0),
            style,
        }
    }

    fn number(&self, name: &str) -> Option<f64> {
        self.style[name].as_f64()
    }

    /// The ends of the ramp: as typed, or these.
    pub fn typed(&self, low: f32, high: f32) -> (f32, f32) {
        let of = |name: &str, usual: f32| self.number(name).map_or(usual, |v| v as f32);
        (of("low", low), of("high", high))
    }

    fn light(&self) -> Light {
        Light {
            azimuth: self.number("azimuth").unwrap_or(usual_light().azimuth),
            altitude: self.number("altitude").unwrap_or(usual_light().altitude).clamp(1.0, 90.0),
            exaggeration: self.number("exaggeration").unwrap_or(usual_light().exaggeration).clamp(0.1, 50.0),
        }
    }

    fn entry(&self, key: &str, words: &str, ends: Vec<String>) -> Vec<Entry> {
        let tone = |i| self.ramp.pixel(i as f32 / 32.0, 255)[..3].try_into().unwrap_or([0; 3]);
        let colours = (0..=32).map(|i| Colour(tone(i)));
        vec![Entry {
            name: key.to_owned(),
            words: words.to_owned(),
            group: "Ground".into(),
            sample: Sample::Ramp { colours: colours.collect(), ends },
        }]
    }

    pub fn drawn(&self, picture: Picture, entries: Vec<Entry>) -> Drawn {
        Drawn { picture, opacity: self.opacity, entries }
    }
}

/// The colour of a share from 0 to 1; clear at 0.
fn share(ramp: &Ramp) -> impl Fn(f32) -> Dot + Send + Sync + 'static {
    let own = ramp.clone();
    move |p| if p > 0.0 { own.pixel(p, 230) } else { [0; 4] }
}

/// Draws a raster layer of a map; nothing where there is none.
pub(super) async fn raster(
    from: &impl MapSource,
    key: &str,
    looked: &Looked,
    units: Units,
) -> Result<Option<Drawn>> {
    let facts = &looked.facts;
    let Some(terrain) = &facts.terrain else { return Ok(None) };
    let unit_m = terrain.frame.unit_m;
    let look = RasterLook::of(&facts.settings.style, key);
    let ramp = look.ramp.clone();
    let height = |m: f32, decimals: usize| units.height(f64::from(m), decimals);
    let (picture, entries) = match key {
        "relief" => {
            let (low, high) = match look.number("outer") {
                Some(outer) => from.range(facts, None, None, outer).await?,
                None => (terrain.summary.percentile_2_m, terrain.summary.percentile_98_m),
            };
            let range = look.typed(low, high);
            let (light, own) = (look.light(), ramp.clone());
            let draw = move |cells: Grid<f32>, of: Covering| {
                Ok(relief_dots(&cells, range, of.cell * unit_m, of.cell * unit_m, light, &own))
            };
            let drawn = read::<f32>(from, RasterRole::Dem, looked, 1, draw).await?;
            (drawn, look.entry(key, "Elevation", vec![height(range.0, 0), height(range.1, 0)]))
        }
        "shade" => {
            let (light, four) = (look.light(), look.style["four_sides"].as_bool() == Some(true));
            let draw = move |cells: Grid<f32>, of: Covering| {
                Ok(shade_dots(&cells, of.cell * unit_m, of.cell * unit_m, light, four))
            };
            (read::<f32>(from, RasterRole::Dem, looked, 1, draw).await?, Vec::new())
        }
        "slope" | "curvature" | "near" | "far" => {
            let Some(view) = GroundView::from_name(key) else { return Ok(None) };
            let cell_m = terrain.frame.cell_m();
            let usual = match key {
                "near" => Some((10.0 * cell_m).round()),
                "far" => Some((75.0 * cell_m).round()),
                _ => None,
            };
            let radius = look.number("radius").or(usual);
            let outer = look.number("outer").unwrap_or(OUTER);
            let (low, high) = from.range(facts, Some(view), radius, outer).await?;
            let (low, high) = look.typed(low, high);
            let own = ramp.clone();
            // The rim depends on the level that is read.
            let Some(levels) = from.levels(RasterRole::Dem, looked).await? else { return Ok(None) };
            let Some(of) = covering(levels, looked.lens()) else { return Ok(None) };
            let (rim, _) = halo(view, radius, of.cell * unit_m);
            let draw = move |cells: Grid<f32>, of: Covering| {
                view_dots(&cells, view, of.cell * unit_m, radius, (low, high), &own)
            };
            let drawn = read::<f32>(from, RasterRole::Dem, looked, rim, draw).await?;
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
            (drawn, look.entry(key, words, ends))
        }
        "sinks" => {
            let deepest =
                facts.routing.as_ref().and_then(|r| r.sinks.deepest.as_ref()).map_or(1.0, |s| s.depth_m);
            let (_, most) = look.typed(0.0, deepest.max(0.01));
            let own = ramp.clone();
            // The square root shows shallow sinks too, as on the map.
            let tint = move |d: f32| if d.is_nan() { [0; 4] } else { own.pixel((d / most).sqrt(), 225) };
            let drawn = coloured::<f32>(from, RasterRole::FillDepth, looked, tint).await?;
            (drawn, look.entry(key, "Depth of sinks", vec!["shallow".into(), height(most, 1)]))
        }
        "change" => {
            let conditioned = facts.routing.as_ref().and_then(|r| r.conditioned.as_ref());
            let most =
                conditioned.map_or(1.0, |c| c.routing.deepest_cut_m.max(c.routing.highest_fill_m) as f32);
            let (_, most) = look.typed(0.0, most.max(0.01));
            let own = ramp.clone();
            let tint = move |c: f32| match c.is_nan() {
                true => [0; 4],
                false => own.pixel((1.0 + (c.abs() / most).sqrt().min(1.0).copysign(c)) / 2.0, 235),
            };
            let drawn = coloured::<f32>(from, RasterRole::CutFill, looked, tint).await?;
            let ends =
                vec![format!("cut {}", height(most, 1)), "0".into(), format!("fill {}", height(most, 1))];
            (drawn, look.entry(key, "Cut and fill", ends))
        }
        "direction" => {
            let drawn = coloured::<u8>(from, RasterRole::Direction, looked, colour::direction).await?;
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
            let drawn = coloured::<u32>(from, RasterRole::Accumulation, looked, tint).await?;
            let cell_m2 = terrain.frame.cell_area().as_m2();
            let ends = [low, high].map(|log| units.area(10f64.powf(f64::from(log)) * cell_m2));
            (drawn, look.entry(key, "Contributing area (logarithmic)", ends.into()))
        }
        "probable" => {
            let drawn = coloured::<f32>(from, RasterRole::StreamProbability, looked, share(&ramp)).await?;
            let ends = vec!["seldom stream".into(), "always".into()];
            (drawn, look.entry(key, "Probability of streams", ends))
        }
        key if divide_of(key).is_some() => {
            let at = divide_of(key).unwrap_or(0);
            let role = RasterRole::CatchmentProbability(at);
            let drawn = coloured::<f32>(from, role, looked, share(&ramp)).await?;
            let found = facts.uncertainty.as_ref().and_then(|found| found.catchments.get(usize::from(at)));
            let name = found.map_or(String::new(), |of| format!(" {}", of.name));
            let words = format!("Probability of catchment{name}");
            (drawn, look.entry(key, &words, vec!["seldom in it".into(), "always".into()]))
        }
        key => return from.other_raster(key, looked, &look, units).await,
    };
    Ok(picture.map(|picture| look.drawn(picture, entries)))
}
