//! Maps of what a recipe has computed, on sheets and in its report.

use std::any::Any;
use std::path::Path;

use bothros_core::catchments::below_edge;
use bothros_core::conditioning::SinkReport;
use bothros_core::routing::log_percentiles;
use bothros_core::terrain::{Quality, summarise};
use bothros_core::{Coarser, Grid, Silent};
use bothros_formats::{Geometry as Given, Layer, Value};
use bothros_products::{CATCHMENTS, SUBBASINS, Table, Units};
use bothros_recipe::Ran;
use bothros_sheets::{Fit, Laid, Picture, Sheet, What, Words};
use bothros_store::{CellValue, LayerRole, RasterRole, Shape};
use rayon::prelude::*;

use super::dots::{Covering, Levels, covering};
use super::features::{
    Features, ShownCatchment, ShownFeature, ShownSubbasin, catchments_drawn, contoured, given_drawn,
    subbasins_drawn, threshold_told,
};
use super::filled::{Looked, laid_from};
use super::ground::{DERIVED, Drawn, RasterLook, derived_look, dotted};
use super::source::{MapSource, Rings};
use super::streams::{StreamLook, Streams};
use super::template::SheetFile;
use crate::derived::spread;
use crate::drawing::{Look, ends};
use crate::study::style::{CATCHMENTS as CATCHMENT_STYLE, SUBBASINS as SUBBASIN_STYLE};
use crate::{
    ConditionedFacts, Error, Facts, NetworkFacts, Preparing, Result, RoutingFacts, Settings, TerrainFacts,
    View as GroundView, boxed, role_key, vector_style,
};

/// A run as maps show it. Pour points are numbered from 1, as its catchments are.
pub(crate) struct RunMaps<'a> {
    ran: &'a Ran<'a>,
    facts: Facts,
    below: Grid<bool>,
    /// pictures that sheets were given
    file: Option<&'a SheetFile>,
}

impl<'a> RunMaps<'a> {
    /// What maps need to know of a run beside its grids; `name` is what stands for a study's name.
    ///
    /// # Errors
    /// Those of the core.
    pub fn of(ran: &'a Ran<'a>, name: &str) -> Result<Self> {
        let summary = ran.summary;
        let conditioned = ConditionedFacts {
            ground: summary.cut_and_fill,
            routing: summary.cut_and_fill_routing,
            steps: summary.conditioning.clone(),
            remarks: summary.remarks.clone(),
            open: summary.sinks.kept_open as usize,
            ..ConditionedFacts::default()
        };
        let sinks = SinkReport {
            sinks: summary.sinks.before,
            cells_raised: summary.cut_and_fill.cells_filled,
            cells: summary.cells,
            volume_m3: summary.cut_and_fill.fill_m3,
            largest: Vec::new(),
            deepest: None,
            holding_most: None,
        };
        let network = ran.network.as_ref().zip(summary.network.as_ref()).map(|((threshold, found), told)| {
            NetworkFacts {
                threshold: *threshold,
                reaches: found.reaches.len(),
                headwaters: found.headwaters(),
                length_m: found.length_m(),
                highest_order: found.highest_order(),
                density_km: told.drainage_density,
                stream_cells: found.reaches.iter().map(|r| r.cells.len() as u64).sum(),
            }
        });
        let facts = Facts {
            study: 0,
            revision: 0,
            name: name.to_owned(),
            aside: None,
            source: None,
            terrain: Some(TerrainFacts {
                crs: ran.crs.clone(),
                frame: *ran.frame,
                summary: summarise(ran.ground, 1.0, &Silent)?,
                prepared: Preparing::default(),
                done: Vec::new(),
                quality: Quality::default(),
                full_rectangle: None,
            }),
            review: None,
            routing: Some(RoutingFacts {
                conditioned: Some(conditioned),
                sinks,
                method: Default::default(),
                largest_cells: 0,
                log_percentiles: log_percentiles(ran.accumulation),
                took_s: 0.0,
            }),
            network,
            uncertainty: None,
            settings: Settings::default(),
        };
        Ok(Self { ran, facts, below: below_edge(ran.directions), file: None })
    }

    /// What is known of the run as of a study.
    pub fn facts(&self) -> &Facts {
        &self.facts
    }

    /// The same, as a sheet's file draws it: in its styles, with its pictures.
    fn drawn_by(&self, file: &'a SheetFile) -> Self {
        let mut facts = self.facts.clone();
        facts.settings.style = file.style.clone();
        Self { ran: self.ran, facts, below: self.below.clone(), file: Some(file) }
    }

    /// The number of the pour point of a name.
    fn point(&self, name: &str) -> Option<i64> {
        let at = self.ran.points.iter().position(|p| p.name.as_deref() == Some(name))?;
        Some(at as i64 + 1)
    }

    /// Lays out the sheet of a file.
    ///
    /// # Errors
    /// [`Error::Sheets`] for a sheet that cannot be laid out.
    #[boxed]
    pub async fn sheet(&self, file: &'a SheetFile, dpi: f64) -> Result<Laid> {
        let own = self.drawn_by(file);
        let mut sheet = file.sheet.clone();
        let mut gone = Vec::new();
        for (_, frame) in sheet.frames() {
            let of = match frame.fit {
                Fit::Catchment { point } => Some(point),
                _ => None,
            };
            for id in of.into_iter().chain(frame.alone) {
                let name = file.catchments.get(&id).map_or("", String::as_str);
                if own.point(name).is_none() && !gone.contains(&name) {
                    gone.push(name);
                }
            }
        }
        super::kept::fit_to(&mut sheet, |id| own.point(file.catchments.get(&id)?));
        let mut laid = laid_from(&own, 0, &sheet, dpi).await?;
        let told = |name: &&str| match *name {
            "" => "A map looked at a catchment that the file does not name: it shows all land.".to_owned(),
            name => format!("There is no catchment “{name}”: a map that looked at it shows all land."),
        };
        laid.complaints.splice(0..0, gone.iter().map(told));
        let mut missing: Vec<&str> = Vec::new();
        for (_, frame) in sheet.frames() {
            for key in &frame.shown.layers {
                if !own.has(key) && !missing.contains(&key.as_str()) {
                    missing.push(key);
                }
            }
        }
        if !missing.is_empty() {
            laid.complaints.push(format!("A run has no layer {}: it is left out.", missing.join(", ")));
        }
        Ok(laid)
    }

    /// Lays out a sheet of the usual styles.
    ///
    /// # Errors
    /// As for [`RunMaps::sheet`].
    #[boxed]
    pub async fn plain(&self, sheet: &Sheet, dpi: f64) -> Result<Laid> {
        laid_from(self, 0, sheet, dpi).await
    }

    /// Whether maps can show a layer of this name.
    fn has(&self, key: &str) -> bool {
        match key {
            "relief" | "shade" | "slope" | "curvature" | "near" | "far" | "contours" | "change"
            | "direction" | "area" | "features" => true,
            "streams" => self.ran.network.is_some(),
            "catchments" | "subbasins" => !self.ran.layers.is_empty(),
            key => key.strip_prefix(DERIVED).is_some_and(|name| self.ran.derived.contains_key(name)),
        }
    }

    fn grid(&self, role: RasterRole) -> Option<(&dyn Any, Coarser)> {
        Some(match role {
            RasterRole::Dem => (self.ran.ground as &dyn Any, Coarser::Mean),
            RasterRole::CutFill => (self.ran.change, Coarser::Mean),
            RasterRole::Direction => (self.ran.directions, Coarser::First),
            RasterRole::Accumulation => (self.ran.accumulation, Coarser::Greatest),
            _ => return None,
        })
    }

    fn layer(&self, table: &Table) -> Option<&Layer> {
        self.ran.layers.iter().find(|l| l.name == table.name)
    }

    /// Values of a layer's features by the names of columns, with their outlines.
    fn rows<'b>(&'b self, table: &'b Table) -> impl Iterator<Item = (Rings, Row<'b>)> + 'b {
        let features = self.layer(table).into_iter().flat_map(|l| &l.features);
        features.map(move |(shape, values)| {
            let rings = match shape {
                Given::Polygons(all) => all.iter().flatten().cloned().collect(),
                _ => Vec::new(),
            };
            (rings, Row { table, values })
        })
    }
}

/// The name of a file without its folder.
pub(crate) fn file_name(path: &Path) -> String {
    path.file_name().map_or_else(String::new, |name| name.to_string_lossy().into_owned())
}

/// A row of a table.
struct Row<'a> {
    table: &'a Table,
    values: &'a [Value],
}

impl Row<'_> {
    fn of(&self, column: &str) -> &Value {
        let at = self.table.columns.iter().position(|c| c.name == column);
        at.and_then(|at| self.values.get(at)).unwrap_or(&Value::Null)
    }
    fn number(&self, column: &str) -> f64 {
        match self.of(column) {
            Value::Integer(n) => *n as f64,
            Value::Real(v) => *v,
            _ => 0.0,
        }
    }
    fn text(&self, column: &str) -> String {
        match self.of(column) {
            Value::Text(text) => text.clone(),
            _ => String::new(),
        }
    }
    fn flag(&self, column: &str) -> bool {
        matches!(self.of(column), Value::Boolean(true))
    }
}

/// A mean is taken over so many cells along each side at most, evenly spread.
const MEAN_OVER: usize = 4;

/// Cells of a level of a grid in memory, with `rim` more on each side; nodata beyond the grid.
fn coarser<T: CellValue>(grid: &Grid<T>, of: Covering, rim: usize, how: Coarser) -> Grid<T> {
    let (rows, cols) = (of.rows + 2 * rim, of.cols + 2 * rim);
    let edge = 1usize << of.level;
    let cell = |row: isize, col: isize| -> T {
        let (Ok(row), Ok(col)) = (usize::try_from(row), usize::try_from(col)) else { return T::NODATA };
        let (top, left) = (row * edge, col * edge);
        if top >= grid.rows() || left >= grid.cols() {
            return T::NODATA;
        }
        let (bottom, right) = ((top + edge).min(grid.rows()), (left + edge).min(grid.cols()));
        let at = |row: usize, col: usize| grid.values()[row * grid.cols() + col];
        match how {
            Coarser::First => at((top + bottom) / 2, (left + right) / 2),
            Coarser::Greatest => {
                let all = (top..bottom)
                    .flat_map(|r| &grid.values()[r * grid.cols()..][left..right])
                    .copied()
                    .filter(|v| !v.is_nodata());
                all.fold(T::NODATA, |most, v| if most.is_nodata() || v > most { v } else { most })
            }
            Coarser::Mean => {
                let step = edge.div_ceil(MEAN_OVER);
                let all = (top..bottom)
                    .step_by(step)
                    .flat_map(|r| (left..right).step_by(step).map(move |c| at(r, c)))
                    .filter(|v| !v.is_nodata());
                let (sum, count) = all.fold((0.0, 0u32), |(sum, count), v| (sum + v.into(), count + 1));
                if count > 0 { T::from_mean(sum / f64::from(count)) } else { T::NODATA }
            }
        }
    };
    let mut values = vec![T::NODATA; rows * cols];
    values.par_chunks_mut(cols.max(1)).enumerate().for_each(|(r, line)| {
        for (c, out) in line.iter_mut().enumerate() {
            *out = cell(of.row + r as isize - rim as isize, of.col + c as isize - rim as isize);
        }
    });
    Grid::from_vec(rows, cols, values)
}

impl MapSource for RunMaps<'_> {
    async fn levels(&self, role: RasterRole, _: &Looked) -> Result<Option<Levels>> {
        Ok(self.grid(role).map(|_| Levels::of_frame(self.ran.frame)))
    }

    async fn cells<T: CellValue>(
        &self,
        role: RasterRole,
        looked: &Looked,
        rim: usize,
    ) -> Result<Option<(Grid<T>, Covering)>> {
        let Some((grid, how)) = self.grid(role) else { return Ok(None) };
        let Some(grid) = grid.downcast_ref::<Grid<T>>() else { return Ok(None) };
        let of = covering(Levels::of_frame(self.ran.frame), looked.lens());
        Ok(of.map(|of| (coarser(grid, of, rim, how), of)))
    }

    async fn range(
        &self,
        facts: &Facts,
        view: Option<GroundView>,
        radius: Option<f64>,
        outer: f64,
    ) -> Result<(f32, f32)> {
        let frame = facts.terrain.as_ref().ok_or_else(Error::not_prepared)?.frame;
        let look = Look::of(&frame, view, radius);
        let size = look.size();
        let mut all = Vec::new();
        for (row, col) in look.places(&frame) {
            let of = Covering::at((row, col), size, &frame);
            all.extend(look.values(coarser(self.ran.ground, of, 0, Coarser::Mean))?);
        }
        ends(all, outer)
    }

    async fn other_raster(
        &self,
        key: &str,
        looked: &Looked,
        look: &RasterLook,
        _: Units,
    ) -> Result<Option<Drawn>> {
        let name = key.strip_prefix(DERIVED).unwrap_or_default();
        let Some((grid, unit)) = self.ran.derived.get(name) else { return Ok(None) };
        let (low, high) = spread(grid);
        let (tint, entries) = derived_look(name, &unit.to_string(), look.typed(low, high), look);
        Ok(Some(look.drawn(dotted(grid, self.ran.frame, &looked.lens(), tint), entries)))
    }

    async fn features(
        &self,
        key: &str,
        _trial: Option<i64>,
        looked: &Looked,
        units: Units,
    ) -> Result<Features> {
        let styles = &self.facts.settings.style;
        let frame = self.ran.frame;
        match key {
            "contours" => {
                let Some(of) = covering(Levels::of_frame(frame), looked.finely().lens()) else {
                    return Ok(Features::default());
                };
                let window = coarser(self.ran.ground, of, 0, Coarser::Mean);
                Ok(contoured(&window, &of.frame(frame.unit_m), styles, units))
            }
            "streams" => {
                let (Some((threshold, network)), Some(found)) = (self.ran.network, self.facts.network) else {
                    return Ok(Features::default());
                };
                let labels = looked.streams.as_deref();
                let Some(look) = StreamLook::of(styles, found.highest_order, labels) else {
                    return Ok(Features::default());
                };
                let ground = looked.view.ground();
                let shown = Streams { network, below: &self.below, frame: *frame, threshold, ground };
                Ok(shown.drawn(&look, None, units))
            }
            "catchments" => {
                let Some(style) = vector_style(styles, CATCHMENT_STYLE) else {
                    return Ok(Features::default());
                };
                let all = self.rows(&CATCHMENTS).zip(self.ran.points).enumerate();
                let shown = all.map(|(at, ((rings, row), point))| ShownCatchment {
                    at,
                    name: row.text("name"),
                    rings,
                    area_km2: row.number("area_km2"),
                    at_edge: row.flag("touches_edge"),
                    given: (point.moved_m > 0.0).then_some(point.given),
                    outlet: frame.centre(point.cell).into(),
                });
                Ok(catchments_drawn(shown.collect(), &style, looked, units))
            }
            "subbasins" => {
                let Some(style) = vector_style(styles, SUBBASIN_STYLE) else {
                    return Ok(Features::default());
                };
                let shown = self.rows(&SUBBASINS).map(|(rings, row)| ShownSubbasin {
                    id: row.number("subbasin_id") as u32,
                    name: row.text("name"),
                    rings,
                    m2: row.number("area_km2") * 1e6,
                    colour: (row.number("colour") as usize).saturating_sub(1),
                });
                Ok(subbasins_drawn(shown, &style, units))
            }
            "features" => self.given(units),
            _ => Ok(Features::default()),
        }
    }

    async fn facts(&self, _: i64) -> Result<Facts> {
        Ok(self.facts.clone())
    }

    async fn with_dem(&self, facts: Facts, _: i64) -> Result<Facts> {
        Ok(facts)
    }

    async fn words(&self, facts: &Facts, sheet: &Sheet, units: Units) -> Result<Words> {
        let fitted = sheet.frames().find_map(|(_, frame)| match (frame.fit, frame.alone) {
            (Fit::Catchment { point }, _) | (_, Some(point)) => Some(point),
            _ => None,
        });
        let row = fitted.and_then(|id| self.rows(&CATCHMENTS).nth(usize::try_from(id - 1).ok()?));
        let (name, area) = row.map_or_else(Default::default, |(_, row)| {
            (row.text("name"), units.area(row.number("area_km2") * 1e6))
        });
        let files: Vec<String> = self.ran.recipe.terrain.dem.iter().map(|path| file_name(path)).collect();
        let threshold =
            self.ran.network.map_or(String::new(), |(t, _)| threshold_told(t, self.ran.frame, units));
        Ok(Words {
            all: vec![
                ("study", facts.name.clone()),
                ("catchment", name),
                ("area", area),
                ("crs", self.ran.crs.label()),
                ("date", bothros_store::now().format("%-d %B %Y").to_string()),
                ("threshold", threshold),
                ("sources", format!("Elevations: {}.", files.join(", "))),
            ],
        })
    }

    async fn logo(&self, _: i64, sha256: &str) -> Result<Picture> {
        let none = || Error::Refused("the sheet’s file does not hold the picture of its logo".into());
        super::kept::picture(&self.file.ok_or_else(none)?.png(sha256)?)
    }

    async fn catchment(&self, _: i64, point: i64) -> Result<Option<Rings>> {
        let at = usize::try_from(point - 1).ok();
        let found = at.and_then(|at| self.rows(&CATCHMENTS).nth(at));
        Ok(found.map(|(rings, _)| rings).filter(|rings| !rings.is_empty()))
    }
}

impl RunMaps<'_> {
    /// Lines, areas and points that conditioning was given.
    fn given(&self, units: Units) -> Result<Features> {
        let mut out = Features::default();
        let all = self.ran.given().map_err(|e| Error::Refused(e.to_string()))?;
        for (key, features) in all {
            let role = match key {
                "breach_lines" => LayerRole::BreachLines,
                "walls" => LayerRole::Walls,
                "lakes" => LayerRole::Lakes,
                "closed_basins" => LayerRole::ClosedBasins,
                "rebuild.areas" => LayerRole::RebuildAreas,
                "rebuild.points" => LayerRole::ElevationPoints,
                "rebuild.contours" => LayerRole::ContourLines,
                _ => LayerRole::MappedStreams,
            };
            let Some(style) = vector_style(&self.facts.settings.style, &role_key(role)) else { continue };
            let shapes: Vec<Shape> = features
                .iter()
                .map(|f| match &f.shape {
                    Given::Point(at) => Shape::Point(*at),
                    Given::Line(line) => Shape::Line(line.clone()),
                    Given::Polygons(all) => Shape::Polygons(all.clone()),
                })
                .collect();
            let shown = features.iter().zip(&shapes).map(|(of, shape)| ShownFeature {
                shape,
                name: of.name.as_deref(),
                elevation: of.elevation,
                size: 0.0,
            });
            given_drawn(&mut out, role, &style, shown, units);
        }
        Ok(out)
    }
}

/// Whether a sheet needs a picture that its file does not hold.
pub(crate) fn check_pictures(file: &SheetFile) -> Result<()> {
    for part in &file.sheet.parts {
        if let What::Logo { sha256: Some(sha256) } = &part.what {
            file.png(sha256)?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use bothros_core::Frame;

    fn of(level: usize, rows: usize, cols: usize) -> Covering {
        let frame = Frame { rows, cols, left: 0.0, top: 8.0, cell_size: 1.0, unit_m: 1.0 };
        Covering { level, ..Covering::at((0, 0), (rows, cols), &frame) }
    }

    #[test]
    fn cells_under_a_dot_are_put_together_by_what_they_are() {
        let heights = Grid::from_vec(2, 4, vec![1.0f32, 3.0, f32::NAN, f32::NAN, 5.0, 7.0, f32::NAN, 2.0]);
        let mean = coarser(&heights, of(1, 1, 2), 0, Coarser::Mean);
        assert_eq!(mean.values(), &[4.0, 2.0]);
        let counts = Grid::from_vec(2, 4, vec![0u32, 9, u32::MAX, 1, 4, 2, u32::MAX, u32::MAX]);
        assert_eq!(coarser(&counts, of(1, 1, 2), 0, Coarser::Greatest).values(), &[9, 1]);
        let rimmed = coarser(&heights, of(0, 2, 4), 1, Coarser::Mean);
        assert_eq!((rimmed.rows(), rimmed.cols()), (4, 6));
        assert!(rimmed.values()[0].is_nan() && rimmed.values()[7] == 1.0 && rimmed.values()[23].is_nan());
    }
}
