//! The step `[catchments]`: pour points from points and lines, sub-basins, sites, basins, a published boundary, measures.

use std::borrow::Cow;

use bothros_core::catchments::{
    AtLine, Catchment, Coverage, Divided, Labelled, Measured, Measures, SnapTo, Zonal, at_line, compare_with,
    concentration, delineate, divide, label, measure, measure_part, outlets_of_footprint, site,
    snap_to_cells, zonal, zonal_of_parts,
};
use bothros_core::formula::Unit;
use bothros_core::network::Network;
use bothros_core::routing::DIRECTION_NODATA;
use bothros_core::{Cell, Frame, Grid};
use bothros_formats::{Crs, Geometry, Layer, ReadFeature, Wanted};
use bothros_products::{
    Areas, CATCHMENT_IDS, CLASS_SHARES, Delineated, GivenRaster, MEASURES, Placed, RASTER_FIGURES, Row,
    SiteFound, Sourced, Table, ZonalRows, looked_up, measures_row, shares,
};
use rayon::prelude::*;

use super::handover::Given;
use super::{Routed, Run, inputs, write, write_package};
use crate::catchments::{Catchments, CurveNumber, ValueRaster, snapping};
use crate::summary::{BoundaryFacts, CatchmentFacts, MoreFacts, SiteFacts};
use crate::{Error, Handover, Result};

/// What catchments are found on.
pub(super) struct Land<'a> {
    pub settings: &'a Catchments,
    pub routed: &'a Routed,
    pub ground: &'a Grid<f32>,
    pub frame: &'a Frame,
    pub crs: &'a Crs,
    pub network: Option<&'a Network>,
    /// Strahler orders of stream cells, 0 or 255 elsewhere
    pub orders: Option<&'a Grid<u8>>,
    /// rasters from formulas
    pub derived: &'a std::collections::BTreeMap<String, (Grid<f32>, Unit)>,
}

/// What was found.
pub(super) struct Found {
    pub points: Vec<Placed>,
    pub found: Labelled,
    pub more: MoreFacts,
    /// what a package is made of, where one is asked for
    pub given: Option<Given>,
    /// layers and rows of measures, where pages are laid out
    pub shown: Option<(Vec<Layer>, Vec<Row>)>,
}

impl Found {
    /// What the summary tells of the catchments.
    pub fn facts(&self, frame: &Frame) -> Vec<CatchmentFacts> {
        let facts = self.points.iter().enumerate().map(|(at, point)| CatchmentFacts {
            catchment_id: at as u32 + 1,
            name: point.name.clone(),
            area_km2: frame.area_of(self.found.cells[at]).as_km2(),
            touches_edge: self.found.touches_edge[at],
            moved_m: point.moved_m,
        });
        facts.collect()
    }
}

/// Of the layers of catchments, those that a package has: the first.
const HANDED_OVER: usize = 3;

/// Inflows below this are not told apart where nothing else is asked for, km².
const LEAST_INFLOW_KM2: f64 = 0.01;

impl Land<'_> {
    fn order(&self, index: usize) -> u8 {
        self.orders.map_or(0, |o| o.values()[index]) % 255
    }

    fn is_stream(&self, index: usize) -> bool {
        self.order(index) > 0
    }

    fn divided<'b>(&'b self, points: &'b [Cell]) -> Divided<'b> {
        Divided {
            directions: &self.routed.directions,
            accumulation: &self.routed.accumulation,
            frame: self.frame,
            network: self.network,
            points,
        }
    }

    /// Keeps a pour point, unless another has its cell.
    fn place(&self, points: &mut Vec<Placed>, key: &str, called: &str, new: Placed) -> Result<()> {
        if let Some(same) = points.iter().find(|p| p.cell == new.cell) {
            let other = same.name.clone().unwrap_or_else(|| "an unnamed one".into());
            let what = format!(
                "pour points “{other}” and “{called}” snap to the same cell: remove one, or lower snap_m"
            );
            return Err(Error::data(key, what));
        }
        points.push(new);
        Ok(())
    }

    /// Snaps points from a file.
    fn snap_points(&self, given: Vec<ReadFeature>, points: &mut Vec<Placed>) -> Result<()> {
        let key = "catchments.pour_points";
        let (settings, frame) = (self.settings, self.frame);
        let is_stream = |cell: Cell| self.is_stream(frame.cols * cell.row + cell.col);
        for (feature, number) in given.into_iter().zip(1u32..) {
            let Geometry::Point([x, y]) = feature.shape else { continue };
            let called = feature.name.clone().unwrap_or_else(|| format!("number {number}"));
            let wrong = |what: &str| Error::data(key, format!("pour point “{called}” {what}"));
            let (snap_m, to) = snapping(&feature, (settings.snap_m, settings.snap_to)).map_err(wrong)?;
            if to == SnapTo::NearestStream && self.orders.is_none() {
                return Err(wrong("snaps to streams, and there are none: add [network]"));
            }
            let accumulation = &self.routed.accumulation;
            let cell =
                snap_to_cells(accumulation, frame, &is_stream, (x, y), snap_m, to).map_err(|e| match e {
                    bothros_core::Error::OutsideFootprint(_) => Error::data(
                        key,
                        format!("pour point “{called}” at {x:.1}, {y:.1} lies outside the DEM's footprint"),
                    ),
                    other => Error::data(key, format!("pour point “{called}”: {other}")),
                })?;
            let (cx, cy) = frame.centre(cell);
            let moved_m = (cx - x).hypot(cy - y) * frame.unit_m;
            // Where it is left, it stays in its cell and is not moved.
            let moved_m = if snap_m > 0.0 { moved_m } else { 0.0 };
            self.place(points, key, &called, Placed { name: feature.name, given: [x, y], cell, moved_m })?;
        }
        Ok(())
    }

    /// Places a point at the largest contributing area along each line.
    fn points_at_lines(
        &self,
        given: Vec<ReadFeature>,
        points: &mut Vec<Placed>,
        notes: &mut Vec<String>,
    ) -> Result<()> {
        let key = "catchments.lines";
        for (feature, number) in given.into_iter().zip(1u32..) {
            let Geometry::Line(line) = feature.shape else { continue };
            let called = feature.name.clone().unwrap_or_else(|| format!("line {number}"));
            let routed = self.routed;
            let found = at_line(&line, &routed.directions, &routed.accumulation, self.frame)?
                .ok_or_else(|| Error::data(key, format!("“{called}” passes no cell of the DEM")))?;
            notes.extend(self.warnings(&called, &found).into_iter().map(|what| format!("{key}: {what}")));
            let (x, y) = self.frame.centre(found.cell);
            let new = Placed { name: Some(called.clone()), given: [x, y], cell: found.cell, moved_m: 0.0 };
            self.place(points, key, &called, new)?;
        }
        Ok(())
    }

    /// What is doubtful about a pour point at a line.
    fn warnings(&self, called: &str, found: &AtLine) -> Vec<String> {
        let mut told = Vec::new();
        if self.orders.is_some() && !self.is_stream(self.frame.cols * found.cell.row + found.cell.col) {
            told.push(format!("“{called}” crosses no stream at this threshold"));
        }
        if found.at_end {
            told.push(format!("the largest contributing area along “{called}” lies at its end: it may stop short of the stream"));
        }
        if found.beyond > 0 {
            let area = self.frame.area_of(found.beyond).as_km2();
            told.push(format!("{area:.4} km² that drain to “{called}” come from beyond it"));
        }
        told
    }

    fn sites(
        &self,
        given: Vec<ReadFeature>,
    ) -> Result<Vec<(Option<String>, bothros_core::catchments::Site)>> {
        let least = self.settings.min_inflow_km2.unwrap_or(LEAST_INFLOW_KM2);
        let cells = (least / self.frame.cell_area().as_km2()).ceil().max(1.0) as u64;
        let mut found = Vec::new();
        for (feature, number) in given.into_iter().zip(1u32..) {
            let Geometry::Polygons(polygons) = feature.shape else { continue };
            let called = feature.name.clone().unwrap_or_else(|| format!("number {number}"));
            let routed = self.routed;
            let at = site(&polygons, cells, &routed.directions, &routed.accumulation, self.frame).map_err(
                |_| Error::data("catchments.sites", format!("site “{called}” covers no cell of the DEM")),
            )?;
            found.push((feature.name, at));
        }
        Ok(found)
    }

    /// What rasters hold inside catchments and sub-basins.
    fn inside(&self, all: &Delineated<'_>, rasters: &[Grid<f32>]) -> Result<ZonalRows> {
        let mut rows = ZonalRows::default();
        if rasters.is_empty() {
            return Ok(rows);
        }
        let catchments = all.points.iter().map(|p| delineate(&self.routed.directions, p.cell));
        let catchments = catchments.collect::<bothros_core::Result<Vec<_>>>()?;
        let catchment_of: Vec<_> = (0..all.subbasins.outlets.len()).map(|at| all.catchment_of(at)).collect();
        let of = Areas {
            catchments: &catchments,
            subbasins: all.subbasins,
            catchment_of: &catchment_of,
            frame: self.frame,
        };
        for (told, values) in self.settings.rasters.iter().zip(rasters) {
            let given = GivenRaster { name: &told.name, unit: &told.unit, holds: told.holds, values };
            rows.add(&given, &of)?;
        }
        Ok(rows)
    }

    /// Rows of measures: of catchments, then of sub-basins; and the measures of sub-basins.
    fn measures(&self, all: &Delineated<'_>, numbers: &Numbers<'_>) -> Result<(Vec<Row>, Vec<Measures>)> {
        let is_stream = |index: usize| self.is_stream(index);
        let order = |index: usize| self.order(index);
        let of = Measured {
            ground: self.ground,
            directions: &self.routed.directions,
            accumulation: &self.routed.accumulation,
            frame: self.frame,
            is_stream: &is_stream,
            order: &order,
        };
        let mut rows = Vec::new();
        for (point, number) in all.points.iter().zip(1u32..) {
            let catchment = delineate(&self.routed.directions, point.cell)?;
            let curve_number = numbers.of_catchment(&catchment)?;
            let found = measure(&of, &catchment)?;
            let estimates = concentration(&found.flow(curve_number));
            let name = point.name.clone();
            rows.push(measures_row((Some(number), None), name, &found, &estimates, curve_number));
        }
        let of_parts = numbers.of_parts(all)?;
        let pieces = all.subbasins.pieces(&self.routed.directions);
        let ids = &all.subbasins.found.ids;
        let measure = |(at, piece)| Ok(measure_part(&of, piece, (ids, at as u32 + 1))?);
        let measured: Vec<Measures> = pieces.par_iter().enumerate().map(measure).collect::<Result<_>>()?;
        for (at, found) in measured.iter().enumerate() {
            let estimates = concentration(&found.flow(of_parts[at]));
            let ids = (all.catchment_of(at), Some(at as u32 + 1));
            rows.push(measures_row(ids, all.name_of(at), found, &estimates, of_parts[at]));
        }
        Ok((rows, measured))
    }
}

/// Where curve numbers come from.
enum Numbers<'a> {
    Typed(Option<f64>),
    From(Cow<'a, Grid<f32>>),
}

impl<'a> Numbers<'a> {
    fn of(settings: &Catchments, rasters: &'a [Grid<f32>]) -> Self {
        match &settings.curve_number {
            None => Self::Typed(None),
            Some(CurveNumber::One(number)) => Self::Typed(Some(*number)),
            Some(CurveNumber::Raster(name)) => {
                let at = settings.rasters.iter().position(|r| r.name == *name);
                let of = |at: usize| match settings.rasters[at].lookup.as_slice() {
                    [] => Cow::Borrowed(&rasters[at]),
                    lookup => Cow::Owned(looked_up(&rasters[at], lookup, |c| c.curve_number)),
                };
                at.map_or(Self::Typed(None), |at| Self::From(of(at)))
            }
        }
    }

    fn of_catchment(&self, of: &Catchment) -> Result<Option<f64>> {
        match self {
            Self::Typed(number) => Ok(*number),
            Self::From(values) => {
                let inside = values.window(of.row, of.col, of.mask.rows(), of.mask.cols());
                Ok(zonal(&inside, of)?.mean())
            }
        }
    }

    fn of_parts(&self, all: &Delineated<'_>) -> Result<Vec<Option<f64>>> {
        let parts = all.subbasins.outlets.len();
        match self {
            Self::Typed(number) => Ok(vec![*number; parts]),
            Self::From(values) => {
                let found = zonal_of_parts(values, &all.subbasins.found.ids, parts)?;
                Ok(found.iter().map(Zonal::mean).collect())
            }
        }
    }
}

/// Impervious shares of sub-basins: of the raster that tells them, or else of the classes that curve numbers come from.
fn impervious(
    settings: &Catchments,
    handover: &Handover,
    rasters: &[Grid<f32>],
    subbasins: &bothros_core::catchments::SubBasins,
) -> Result<Vec<Sourced>> {
    let parts = subbasins.outlets.len();
    let find = |name: &String| settings.rasters.iter().position(|r| r.name == *name);
    let chosen = handover.model.as_ref().and_then(|m| m.impervious_raster.as_ref());
    let (values, source) = match (chosen, &settings.curve_number) {
        (Some(name), _) => {
            let key = "handover.model.impervious_raster";
            let at = find(name).ok_or_else(|| Error::key(key, format!("there is no raster “{name}”")))?;
            let percent = settings.rasters[at].unit == "%";
            let values = shares(&rasters[at], percent).map_err(|(odd, most)| {
                Error::data(key, format!("“{name}” holds {odd}: shares lie between 0 and {most}"))
            })?;
            (values, format!("mean of raster {name}"))
        }
        (None, Some(CurveNumber::Raster(name))) => match find(name) {
            Some(at) if !settings.rasters[at].lookup.is_empty() => {
                let values = looked_up(&rasters[at], &settings.rasters[at].lookup, |c| c.impervious);
                (values, format!("mean of what the classes of raster {name} stand for"))
            }
            _ => return Ok(vec![(None, None); parts]),
        },
        _ => return Ok(vec![(None, None); parts]),
    };
    let found = zonal_of_parts(&values, &subbasins.found.ids, parts)?;
    Ok(found.iter().map(|z| (z.mean(), z.mean().map(|_| source.clone()))).collect())
}

fn write_table(dir: &std::path::Path, of: &Table, csv: Vec<u8>) -> Result<()> {
    let path = dir.join(format!("{}.csv", of.name));
    std::fs::write(&path, csv).map_err(|e| Error::write(&path, e))
}

impl Run<'_> {
    fn read(
        &self,
        key: &str,
        path: &Option<std::path::PathBuf>,
        wanted: Wanted,
        crs: &Crs,
        notes: &mut Vec<String>,
    ) -> Result<Option<Vec<ReadFeature>>> {
        let read = |path| inputs::features(self.recipe, key, path, wanted, crs, notes);
        path.as_deref().map(read).transpose()
    }

    pub(super) fn catchments(&mut self, land: &Land<'_>, notes: &mut Vec<String>) -> Result<Found> {
        let (settings, frame, crs, dir) = (land.settings, land.frame, land.crs, self.dir);
        let directions = &land.routed.directions;
        let mut points: Vec<Placed> = Vec::new();
        let given = self.read("catchments.pour_points", &settings.pour_points, Wanted::Points, crs, notes)?;
        land.snap_points(given.unwrap_or_default(), &mut points)?;
        let given = self.read("catchments.lines", &settings.lines, Wanted::Lines, crs, notes)?;
        land.points_at_lines(given.unwrap_or_default(), &mut points, notes)?;
        let outlets: Vec<Cell> = points.iter().map(|p| p.cell).collect();
        let found =
            self.step("delineating catchments", 0.86, |part| Ok(label(directions, &outlets, part)?))?;
        let subbasins = self.step("delineating sub-basins", 0.9, |part| {
            let division = settings.subbasins.unwrap_or_default();
            let edits = settings.division_edits(frame, notes);
            Ok(divide(&land.divided(&outlets), division, &edits, part)?)
        })?;
        let names = settings.names_of(&subbasins, frame, notes);
        let coverage = self.step("drawing outlines", 0.92, |_| {
            Ok(Coverage::of(&subbasins.found.ids, frame).soft(settings.outline))
        })?;
        let all = Delineated {
            points: &points,
            catchments: &found,
            subbasins: &subbasins,
            names: &names,
            coverage: &coverage,
            frame,
        };
        let recipe = self.recipe;
        let rasters = self.step("reading rasters", 0.94, |part| {
            let read =
                |of: &ValueRaster| match (&of.path, of.derived.as_ref().and_then(|d| land.derived.get(d))) {
                    (_, Some((derived, _))) => Ok(derived.clone()),
                    (Some(path), None) => {
                        let key = ("catchments.rasters", path.as_path());
                        inputs::raster(recipe, key, of.holds, (frame, crs), notes, part)
                    }
                    (None, None) => Err(Error::key(
                        "catchments.rasters.derived",
                        format!(
                            "“{}” is the name of no raster of derived",
                            of.derived.as_deref().unwrap_or_default()
                        ),
                    )),
                };
            settings.rasters.iter().map(read).collect::<Result<Vec<_>>>()
        })?;
        let numbers = Numbers::of(settings, &rasters);
        let (measures, of_parts) =
            self.step("measuring catchments", 0.95, |_| land.measures(&all, &numbers))?;
        let inside = land.inside(&all, &rasters)?;
        let mut tables = vec![(&MEASURES, measures)];
        let inside = [(&RASTER_FIGURES, inside.figures), (&CLASS_SHARES, inside.classes)];
        tables.extend(inside.into_iter().filter(|(_, rows)| !rows.is_empty()));
        for (table, rows) in &tables {
            write_table(dir, table, table.csv(rows.iter().cloned())?)?;
        }
        let curve_numbers = numbers.of_parts(&all)?;
        drop(numbers);
        let impervious = match &recipe.handover {
            Some(handover) => impervious(settings, handover, &rasters, &subbasins)?,
            None => Vec::new(),
        };
        let sites = self.read("catchments.sites", &settings.sites, Wanted::Polygons, crs, notes)?;
        let sites = sites.map(|given| land.sites(given)).transpose()?;
        let boundary = self.read("catchments.boundary", &settings.boundary, Wanted::Polygons, crs, notes)?;
        let mut layers =
            vec![all.catchments()?, all.subbasins()?, bothros_products::pour_points(&points, &found, frame)?];
        let mut more = MoreFacts { subbasins: subbasins.outlets.len() as u64, ..MoreFacts::default() };
        if let Some(sites) = &sites {
            let told = sites.iter().zip(1u32..).map(|((name, site), id)| SiteFound {
                id,
                name: name.as_deref(),
                site,
            });
            let told: Vec<SiteFound<'_>> = told.collect();
            layers.push(bothros_products::inflows(&told, frame)?);
            more.sites = Some(told.iter().map(|s| SiteFacts::of(s, frame)).collect());
        }
        if settings.basins {
            layers.push(self.step("delineating basins", 0.96, |part| {
                let found = label(directions, &outlets_of_footprint(directions), part)?;
                let coverage = Coverage::of(&found.ids, frame).soft(settings.outline);
                Ok(bothros_products::basins(&found, &coverage, frame)?)
            })?);
        }
        if let Some(given) = boundary {
            let (layer, facts) = compared(&points, given, directions, frame)?;
            layers.push(layer);
            more.boundary = Some(facts);
        }
        self.step("writing catchments", 0.97, |_| {
            write(dir, &CATCHMENT_IDS, &found.ids, frame, crs)?;
            write_package(dir, "catchments.gpkg", crs, &layers)
        })?;
        let shown = self.recipe.has_pages().then(|| (layers.clone(), tables[0].1.clone()));
        let given = self.recipe.handover.is_some().then(|| {
            layers.truncate(HANDED_OVER);
            Given { subbasins, measures: of_parts, curve_numbers, impervious, tables, layers }
        });
        Ok(Found { points, found, more, given, shown })
    }
}

/// Compares a published boundary, in all its pieces, with the catchment that overlaps it most.
fn compared(
    points: &[Placed],
    given: Vec<ReadFeature>,
    directions: &Grid<u8>,
    frame: &Frame,
) -> Result<(Layer, BoundaryFacts)> {
    let key = "catchments.boundary";
    let published = inputs::polygons_of(given).concat();
    let known = |index: usize| directions.values()[index] != DIRECTION_NODATA;
    let mut best: Option<(u32, bothros_core::catchments::Agreement)> = None;
    for (point, id) in points.iter().zip(1u32..) {
        let ours = delineate(directions, point.cell)?;
        let found = compare_with(&ours, &published, frame, &known);
        // Where catchments nest, the one that agrees best.
        let better = |other: &bothros_core::catchments::Agreement| {
            let rank =
                |a: &bothros_core::catchments::Agreement| (a.both.as_m2(), a.intersection_over_union());
            rank(&found) > rank(other)
        };
        if found.both.as_m2() > 0.0 && best.as_ref().is_none_or(|(_, other)| better(other)) {
            best = Some((id, found));
        }
    }
    let (id, found) =
        best.ok_or_else(|| Error::data(key, "it overlaps no catchment: check its CRS and the pour points"))?;
    let facts = BoundaryFacts::of(id, &found);
    Ok((bothros_products::boundary_difference(id, &found, frame)?, facts))
}
