//! The step `[[derived]]`: rasters from formulas.

use std::collections::BTreeMap;

use bothros_core::formula::{Raster, Unit, Values};
use bothros_core::terrain::slope;
use bothros_core::{Frame, Grid};
use bothros_formats::{Crs, RasterKind, write_cog};

use super::{Routed, Run};
use crate::derived::{formulas, given};
use crate::{Error, Result};

/// What formulas are computed from.
pub(super) struct Land<'a> {
    pub ground: &'a Grid<f32>,
    pub routed: &'a Routed,
    /// Strahler orders of stream cells, 0 elsewhere, 255 outside
    pub orders: Option<&'a Grid<u8>>,
    pub frame: &'a Frame,
    pub crs: &'a Crs,
}

/// Mark of cells outside among orders and among counts.
const OUTSIDE: u8 = 255;

impl Run<'_> {
    /// Computes and writes all rasters of formulas; returns what could not be computed.
    pub(super) fn derived(&mut self, land: &Land<'_>) -> Result<Vec<String>> {
        let (recipe, dir) = (self.recipe, self.dir);
        let checked = formulas(recipe)?;
        let units = given(recipe);
        let Land { ground, routed, frame, crs, .. } = *land;
        let named = |name: &str| checked.iter().any(|formula| formula.names.iter().any(|n| n == name));
        let inclines = match named("slope") {
            true => Some(self.step("finding slopes", 0.82, |part| Ok(slope(ground, frame.cell_m(), part)?))?),
            false => None,
        };
        // By D-infinity and MFD areas are parts of cells.
        let divided = routed.divided.as_ref().map(|sums| {
            let cells = |(&sum, &z): (&f64, &f32)| if z.is_nan() { f32::NAN } else { sum as f32 };
            let values = sums.values().iter().zip(ground.values()).map(cells).collect();
            Grid::from_vec(frame.rows, frame.cols, values)
        });
        let cell_m2 = frame.cell_area().as_m2();
        let areas = divided.as_ref().map(|cells: &Grid<f32>| {
            let values = cells.values().iter().map(|c| ((f64::from(*c) + 1.0) * cell_m2) as f32).collect();
            Grid::from_vec(frame.rows, frame.cols, values)
        });
        let counted = |plus: f64, times: f64| Values::U32 {
            values: routed.accumulation.values(),
            none: u32::MAX,
            plus,
            times,
        };
        let mut made: BTreeMap<&str, (Grid<f32>, Unit)> = BTreeMap::new();
        let mut told = Vec::new();
        for (asked, formula) in recipe.derived.iter().zip(&checked) {
            let raster = |name: &String| -> Result<Raster<'_>> {
                let missing = || Error::data("derived.formula", format!("there is no raster {name}"));
                if let Some((grid, unit)) = made.get(name.as_str()) {
                    return Ok(Raster { unit: unit.clone(), values: Values::F32(grid.values()) });
                }
                let values = match name.as_str() {
                    "elevation" => Values::F32(ground.values()),
                    "slope" => Values::F32(inclines.as_ref().ok_or_else(missing)?.values()),
                    "order" => Values::U8(land.orders.ok_or_else(missing)?.values(), OUTSIDE),
                    "contributing_area" => match &areas {
                        Some(areas) => Values::F32(areas.values()),
                        None => counted(1.0, cell_m2),
                    },
                    _ => match &divided {
                        Some(cells) => Values::F32(cells.values()),
                        None => counted(0.0, 1.0),
                    },
                };
                Ok(Raster { unit: units.get(name).cloned().unwrap_or_default(), values })
            };
            let rasters: Vec<Raster<'_>> = formula.names.iter().map(raster).collect::<Result<_>>()?;
            let step = format!("computing {}", asked.name);
            let (grid, odd) = self
                .step(&step, 0.82, |part| Ok(formula.compute(&rasters, (frame.rows, frame.cols), part)?))?;
            drop(rasters);
            for odd in odd {
                let (x, y) = frame.centre(odd.first);
                told.push(format!(
                    "derived {}: {} in {} cells, which are none; the first lies at {x:.1}, {y:.1}",
                    asked.name,
                    odd.kind.told(),
                    odd.cells
                ));
            }
            let name = format!("derived_{}.tif", asked.name);
            let (unit, path) = (formula.kind.unit(), dir.join(&name));
            write_cog(
                &path,
                &grid,
                frame,
                crs,
                f32::NAN,
                RasterKind::Mean,
                &asked.formula,
                &unit.to_string(),
            )
            .map_err(|e| Error::write(&path, e))?;
            made.insert(&asked.name, (grid, unit));
        }
        Ok(told)
    }
}
