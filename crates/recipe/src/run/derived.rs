//! The step `[[derived]]`: rasters from formulas.

use std::collections::BTreeMap;

use bothros_core::formula::{FeatureShape, Features, Named, Raster, Unit, Values};
use bothros_core::network::Network;
use bothros_core::routing::{
    DIRECTION_NODATA, height_above_stream, specific_area, stream_power_index, wetness_index,
};
use bothros_core::terrain::{aspect, slope};
use bothros_core::{Coarser, Frame, Grid, Monitor};
use bothros_formats::{Crs, Geometry, ReadFeature, Wanted, write_cog};
use bothros_products::named::{STREAMS, identifier};

use super::{Routed, Run};
use crate::derived::{formulas, given};
use crate::{Error, Result, inputs};

/// What formulas are computed from.
pub(super) struct Land<'a> {
    /// the DEM as prepared, where a formula names it
    pub prepared: Option<&'a Grid<f32>>,
    pub ground: &'a Grid<f32>,
    pub routed: &'a Routed,
    pub network: Option<&'a Network>,
    /// Strahler orders of stream cells, 0 elsewhere, 255 outside
    pub orders: Option<&'a Grid<u8>>,
    pub frame: &'a Frame,
    pub crs: &'a Crs,
    /// layers that the recipe names
    pub layers: BTreeMap<String, Features>,
}

/// Mark of cells outside among orders and among counts.
const OUTSIDE: u8 = 255;

impl Land<'_> {
    /// Areas over a cell, or numbers of cells, where flow is divided.
    fn divided(&self, plus: f64, times: f64) -> Option<Grid<f32>> {
        let sums = self.routed.divided.as_ref()?;
        let cell = |(&sum, &z): (&f64, &f32)| match z.is_nan() {
            true => f32::NAN,
            // In single precision first, as the raster of accumulation is.
            false => ((f64::from(sum as f32) + plus) * times) as f32,
        };
        let values = sums.values().iter().zip(self.ground.values()).map(cell).collect();
        Some(Grid::from_vec(self.frame.rows, self.frame.cols, values))
    }

    /// What has to be computed before it can be named; nothing for what is there.
    fn found(&self, name: &str, monitor: &dyn Monitor) -> Result<Option<Grid<f32>>> {
        let Self { ground, routed, frame, .. } = *self;
        let inclines = || slope(ground, frame.cell_m(), monitor);
        Ok(match name {
            "slope" => Some(inclines()?),
            "aspect" => {
                let mut ways = aspect(ground, frame.cell_m(), monitor)?;
                for (way, &code) in ways.values_mut().iter_mut().zip(routed.directions.values()) {
                    if code == DIRECTION_NODATA {
                        *way = f32::NAN;
                    }
                }
                Some(ways)
            }
            "contributing_area" => self.divided(1.0, frame.cell_area().as_m2()),
            "accumulation" => self.divided(0.0, 1.0),
            "specific_area" => Some(specific_area(&routed.accumulation, frame)),
            "wetness_index" => Some(wetness_index(&routed.accumulation, &inclines()?, frame)?),
            "stream_power_index" => Some(stream_power_index(&routed.accumulation, &inclines()?, frame)?),
            "height_above_stream" => match self.network {
                Some(network) => {
                    Some(height_above_stream(&routed.directions, &network.cells(frame), ground, monitor)?)
                }
                None => None,
            },
            _ => None,
        })
    }

    /// The cells of a raster that is there without being computed.
    fn there(&self, name: &str) -> Option<Values<'_>> {
        let counted = |plus: f64, times: f64| Values::U32 {
            values: self.routed.accumulation.values(),
            none: u32::MAX,
            plus,
            times,
        };
        match name {
            "elevation" => Some(Values::F32(self.ground.values())),
            "prepared" => self.prepared.map(|dem| Values::F32(dem.values())),
            "order" => self.orders.map(|orders| Values::U8(orders.values(), OUTSIDE)),
            "contributing_area" => Some(counted(1.0, self.frame.cell_area().as_m2())),
            "accumulation" => Some(counted(0.0, 1.0)),
            _ => None,
        }
    }

    /// The features of a layer.
    fn layer(&self, name: &str) -> Option<Features> {
        if let Some(given) = self.layers.get(name) {
            return Some(given.clone());
        }
        let network = self.network.filter(|_| name == STREAMS)?;
        Some(Features {
            cells: network.reaches.iter().map(|reach| reach.cells.clone()).collect(),
            ..Features::default()
        })
    }
}

fn shape(feature: &ReadFeature) -> FeatureShape<'_> {
    match &feature.shape {
        Geometry::Point(at) => FeatureShape::Point(*at),
        Geometry::Line(line) => FeatureShape::Line(line),
        Geometry::Polygons(polygons) => FeatureShape::Areas(polygons),
    }
}

/// Features on the cells of a grid, with elevations and the numbers of fields.
fn on_cells(features: &[ReadFeature], fields: &[String], frame: &Frame) -> Features {
    let shapes: Vec<FeatureShape<'_>> = features.iter().map(shape).collect();
    let field = |asked: &String| {
        let of = |f: &ReadFeature| {
            let found = f.numbers.iter().find(|(name, _)| identifier(name) == *asked);
            found.map_or(f64::NAN, |(_, value)| *value)
        };
        (asked.clone(), features.iter().map(of).collect())
    };
    Features {
        values: features.iter().map(|f| f.elevation.unwrap_or(f64::NAN)).collect(),
        fields: fields.iter().map(field).collect(),
        ..Features::on(&shapes, frame)
    }
}

impl Run<'_> {
    /// Reads the layers that formulas may name.
    pub(super) fn layers(
        &mut self,
        (frame, crs): (&Frame, &Crs),
        notes: &mut Vec<String>,
    ) -> Result<BTreeMap<String, Features>> {
        let mut all = BTreeMap::new();
        for layer in &self.recipe.layers {
            let mut read = Vec::new();
            for path in &layer.path.0 {
                let key = "layers.path";
                read.extend(inputs::features(self.recipe, key, path, Wanted::All, crs, notes)?);
            }
            for field in &layer.fields {
                if !read.iter().any(|f| f.numbers.keys().any(|name| identifier(name) == *field)) {
                    let what = format!("no feature of {} has a number in a field {field}", layer.name);
                    return Err(Error::data("layers.fields", what));
                }
            }
            all.insert(layer.name.clone(), on_cells(&read, &layer.fields, frame));
        }
        Ok(all)
    }

    /// Computes and writes all rasters of formulas; returns them with what could not be computed.
    pub(super) fn derived(
        &mut self,
        land: &Land<'_>,
        notes: &mut Vec<String>,
    ) -> Result<BTreeMap<String, (Grid<f32>, Unit)>> {
        let (recipe, dir) = (self.recipe, self.dir);
        let checked = formulas(recipe)?;
        let units = given(recipe);
        let Land { frame, crs, .. } = *land;
        // Everything that is named, computed once.
        let mut made: BTreeMap<String, (Grid<f32>, Unit)> = BTreeMap::new();
        for name in checked.iter().flat_map(|formula| &formula.names) {
            let Some(Named::Raster(unit)) = units.get(name).filter(|_| !made.contains_key(name)) else {
                continue;
            };
            let rasters = recipe.catchments.iter().flat_map(|c| &c.rasters);
            let of_file = rasters
                .filter_map(|r| Some((r, r.path.as_ref()?)))
                .find(|(r, _)| identifier(&r.name) == *name);
            let found = self.step(&format!("finding {name}"), 0.82, |part| match of_file {
                Some((raster, path)) if land.there(name).is_none() => {
                    let key = ("catchments.rasters", path.as_path());
                    Ok(Some(inputs::raster(recipe, key, raster.holds, (frame, crs), notes, part)?))
                }
                _ => land.found(name, part),
            })?;
            if let Some(grid) = found {
                made.insert(name.clone(), (grid, unit.clone()));
            }
        }
        for (asked, formula) in recipe.derived.iter().zip(&checked) {
            let missing = |name: &str| Error::data("derived.formula", format!("there is no {name}"));
            let raster = |name: &String| -> Result<Raster<'_>> {
                if let Some((grid, unit)) = made.get(name) {
                    return Ok(Raster { unit: unit.clone(), values: Values::F32(grid.values()) });
                }
                let Some(Named::Raster(unit)) = units.get(name) else { return Err(missing(name)) };
                let values = land.there(name).ok_or_else(|| missing(name))?;
                Ok(Raster { unit: unit.clone(), values })
            };
            let rasters: Vec<Raster<'_>> = formula.names.iter().map(raster).collect::<Result<_>>()?;
            let layer = |name: &String| land.layer(name).ok_or_else(|| missing(name));
            let layers: Vec<Features> = formula.layers.iter().map(layer).collect::<Result<_>>()?;
            let step = format!("computing {}", asked.name);
            let (grid, odd) =
                self.step(&step, 0.82, |part| Ok(formula.compute(&rasters, &layers, frame, part)?))?;
            drop(rasters);
            for odd in odd {
                let (x, y) = frame.centre(odd.first);
                notes.push(format!(
                    "derived {}: {} in {} cells, which are none; the first lies at {x:.1}, {y:.1}",
                    asked.name,
                    odd.kind.told(),
                    odd.cells
                ));
            }
            let name = format!("derived_{}.tif", asked.name);
            let (unit, path) = (formula.kind.unit(), dir.join(&name));
            write_cog(&path, &grid, frame, crs, f32::NAN, Coarser::Mean, &asked.formula, &unit.to_string())
                .map_err(|e| Error::write(&path, e))?;
            made.insert(asked.name.clone(), (grid, unit));
        }
        let wanted = |name: &String| recipe.derived.iter().any(|d| d.name == *name);
        Ok(made.into_iter().filter(|(name, _)| wanted(name)).collect())
    }
}
