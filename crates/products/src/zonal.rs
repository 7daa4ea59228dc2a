//! What rasters hold inside catchments and sub-basins: figures of those with values, shares of those with classes.

use bothros_core::catchments::{
    Catchment, Classes, Holds, SubBasins, Zonal, classes, classes_of_parts, zonal, zonal_of_parts,
};
use bothros_core::{Frame, Grid};

use crate::Quantity::{Area, Count, Identifier, Ratio, Share, Text};
use crate::{Column, Result, Row, Table};

const CATCHMENT: Column = Column::new(
    "catchment_id",
    "Catchment",
    Identifier,
    "Number of the catchment, or of the one that holds the sub-basin.",
)
.nullable()
.of("catchments", "catchment_id");
const SUBBASIN: Column = Column::new(
    "subbasin_id",
    "Sub-basin",
    Identifier,
    "Number of the sub-basin; none in the row of a catchment.",
)
.nullable()
.of("subbasins", "subbasin_id");
const RASTER: Column = Column::new("raster", "Raster", Text, "Name of the raster.");

/// Figures of rasters inside catchments and sub-basins.
pub const RASTER_FIGURES: Table = Table {
    name: "raster_figures",
    title: "Rasters inside",
    meaning: "What a raster that was given holds inside a catchment or a sub-basin.",
    shape: None,
    columns: &[
        CATCHMENT,
        SUBBASIN,
        RASTER,
        Column::new("unit", "Unit", Text, "Unit of the raster's values, as it was given.").nullable(),
        Column::new("cells", "Cells", Count, "Cells of the DEM's grid with a value."),
        Column::new("with_value", "With a value", Share, "Share of the area's cells that have a value."),
        Column::new("mean", "Mean", Ratio, "Mean of the values, in their unit.").nullable(),
        Column::new("sum", "Sum", Ratio, "Sum of the values of cells, in their unit.").nullable(),
        Column::new("least", "Least", Ratio, "Least value, in its unit.").nullable(),
        Column::new("most", "Most", Ratio, "Greatest value, in its unit.").nullable(),
    ],
};

/// Shares of classes inside catchments and sub-basins.
pub const CLASS_SHARES: Table = Table {
    name: "class_shares",
    title: "Classes inside",
    meaning: "Which part of a catchment or a sub-basin a class of a raster takes.",
    shape: None,
    columns: &[
        CATCHMENT,
        SUBBASIN,
        RASTER,
        Column::new("class", "Class", Identifier, "Code of the class."),
        Column::new("area_km2", "Area", Area, "Area of its cells."),
        Column::new(
            "share",
            "Share",
            Share,
            "Share of the cells of the area, those without a class included.",
        ),
    ],
};

/// Numbers of the catchment and the sub-basin that a row is about.
type OfArea = (Option<u32>, Option<u32>);

/// A raster that was given.
#[derive(Debug, Clone, Copy)]
pub struct GivenRaster<'a> {
    /// its name
    pub name: &'a str,
    /// unit of its values; empty where they have none
    pub unit: &'a str,
    /// what its values are
    pub holds: Holds,
    /// the values on the DEM's grid; `NaN` where there is none
    pub values: &'a Grid<f32>,
}

/// What rasters are told of.
#[derive(Clone, Copy)]
pub struct Areas<'a> {
    /// the catchments, in the order of their numbers
    pub catchments: &'a [Catchment],
    /// the sub-basins
    pub subbasins: &'a SubBasins,
    /// for each sub-basin the catchment that holds it
    pub catchment_of: &'a [Option<u32>],
    /// size and place of the grid
    pub frame: &'a Frame,
}

/// What rasters hold inside areas, as rows of tables.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct ZonalRows {
    /// rows of [`RASTER_FIGURES`], of rasters with values
    pub figures: Vec<Row>,
    /// rows of [`CLASS_SHARES`], of rasters with classes
    pub classes: Vec<Row>,
}

impl ZonalRows {
    /// Adds the rows of a raster: of catchments, then of sub-basins.
    ///
    /// # Errors
    /// [`bothros_core::Error::ShapeMismatch`] where the raster does not lie on the grid of the areas.
    pub fn add(&mut self, raster: &GivenRaster<'_>, of: &Areas<'_>) -> Result<()> {
        let (name, unit, values) = (raster.name, raster.unit, raster.values);
        let (ids, parts) = (&of.subbasins.found.ids, of.subbasins.outlets.len());
        let part = |at: usize| -> OfArea { (of.catchment_of[at], Some(at as u32 + 1)) };
        let whole = of.catchments.iter().zip(1u32..).map(|(c, number)| (c, (Some(number), None)));
        let inside = |c: &Catchment| values.window(c.row, c.col, c.mask.rows(), c.mask.cols());
        match raster.holds {
            Holds::Values => {
                for (catchment, number) in whole {
                    let found = zonal(&inside(catchment), catchment)?;
                    self.figures.push(raster_figures_row(number, name, unit, &found));
                }
                let found = zonal_of_parts(values, ids, parts)?;
                let row = |(at, found)| raster_figures_row(part(at), name, unit, found);
                self.figures.extend(found.iter().enumerate().map(row));
            }
            Holds::Classes => {
                for (catchment, number) in whole {
                    let found = classes(&inside(catchment), catchment)?;
                    self.classes.extend(class_rows(number, name, &found, catchment.cells, of.frame));
                }
                for (at, found) in classes_of_parts(values, ids, parts)?.iter().enumerate() {
                    let cells = of.subbasins.found.own_cells[at];
                    self.classes.extend(class_rows(part(at), name, found, cells, of.frame));
                }
            }
        }
        Ok(())
    }
}

/// The row of a raster with values; `found` has all cells of the area.
fn raster_figures_row((catchment, subbasin): OfArea, raster: &str, unit: &str, found: &Zonal) -> Row {
    let cells = found.cells + found.nodata;
    let known = |value: f64| Some(value).filter(|_| found.cells > 0);
    vec![
        catchment.into(),
        subbasin.into(),
        raster.into(),
        Some(unit.to_owned()).filter(|u| !u.is_empty()).into(),
        (found.cells as i64).into(),
        (found.cells as f64 / cells.max(1) as f64).into(),
        found.mean().into(),
        known(found.sum).into(),
        known(found.least).into(),
        known(found.most).into(),
    ]
}

/// The rows of a raster with classes, the largest class first; `cells` is the size of the area.
fn class_rows(
    (catchment, subbasin): OfArea,
    raster: &str,
    found: &Classes,
    cells: u64,
    frame: &Frame,
) -> Vec<Row> {
    let mut classes: Vec<(i64, u64)> = found.iter().map(|(&class, &cells)| (class, cells)).collect();
    classes.sort_by_key(|&(class, cells)| (std::cmp::Reverse(cells), class));
    let row = |(class, of): (i64, u64)| {
        vec![
            catchment.into(),
            subbasin.into(),
            raster.into(),
            class.into(),
            frame.area_of(of).as_km2().into(),
            (of as f64 / cells.max(1) as f64).into(),
        ]
    };
    classes.into_iter().map(row).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_keep_to_their_tables() {
        let none = raster_figures_row((Some(1), None), "rain", "", &Zonal { nodata: 4, ..Zonal::default() });
        let some = Zonal { cells: 3, nodata: 1, sum: 210.0, least: 60.0, most: 80.0, above: 3, below: 0 };
        let some = raster_figures_row((Some(1), Some(2)), "rain", "mm", &some);
        let text = String::from_utf8(RASTER_FIGURES.csv([none, some]).unwrap()).unwrap();
        assert!(text.contains("1,,rain,,0,0.0000,,,,"), "{text}");
        assert!(text.contains("1,2,rain,mm,3,0.7500,70.0000,210.0000,60.0000,80.0000"), "{text}");
        let frame = Frame { rows: 2, cols: 2, left: 0.0, top: 0.0, cell_size: 500.0, unit_m: 1.0 };
        let found = Classes::from([(11, 1), (42, 2)]);
        let rows = class_rows((Some(1), None), "cover", &found, 4, &frame);
        let text = String::from_utf8(CLASS_SHARES.csv(rows).unwrap()).unwrap();
        assert!(text.contains("1,,cover,42,0.500000,0.5000\r\n1,,cover,11,0.250000,0.2500"), "{text}");
    }
}
