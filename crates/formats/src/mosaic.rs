//! Putting a DEM together from several files.
//!
//! The first file counts most: a later one only fills what the ones before it leave open. Files that lie on
//! one grid are put together cell by cell; otherwise all are warped onto one grid, and that is told.

use std::collections::BTreeMap;
use std::path::PathBuf;

use bothros_core::terrain::NO_PIECE;
use bothros_core::{Frame, Grid, Monitor, Part, Quiet};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::{
    Crs, CrsKind, Error, Placed, RasterInfo, Resampling, Result, Transform, VerticalUnit, frame_of,
    plan_warp, read_elevation, sensible_cell_size, utm_zone, warp_onto,
};

/// One of the files that a DEM is put together from.
#[derive(Debug, Clone, PartialEq)]
pub struct Piece {
    /// name as the user knows it
    pub name: String,
    /// where it lies
    pub path: PathBuf,
    /// what it says of itself
    pub info: RasterInfo,
    /// the CRS of its coordinates
    pub crs: Crs,
    /// the band that holds elevations, from 1
    pub band: usize,
    /// unit of the elevations
    pub unit: VerticalUnit,
}

/// How a mosaic is to be put together.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Wish {
    /// its CRS; that of the first file by default, or the UTM zone of its centre where files
    /// must be warped
    pub crs: Option<Crs>,
    /// edge of a cell, units of the CRS; that of the first file by default
    pub cell_size: Option<f64>,
    /// whether cells must be square
    pub square: bool,
}

/// The grid that several files are put together on.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct MosaicPlan {
    /// number of rows
    pub rows: usize,
    /// number of columns
    pub cols: usize,
    /// left, width of a cell, rotation, top, rotation, height of a cell
    pub geo_transform: [f64; 6],
    /// its CRS
    pub crs: Crs,
    /// whether all files lie on this grid, so that none is warped
    pub exact: bool,
}

impl MosaicPlan {
    /// The place of the grid, where its cells are square and its rows run east.
    pub fn frame(&self) -> Frame {
        let [left, width, _, top, _, _] = self.geo_transform;
        Frame { rows: self.rows, cols: self.cols, left, top, cell_size: width, unit_m: self.crs.unit_m }
    }
}

/// How two files agree where both have elevations.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Overlap {
    /// number of the file, from 0, that was laid under those before it
    pub piece: u32,
    /// cells that it shares with them
    pub cells: u64,
    /// mean of its elevation less theirs, metres
    pub mean_m: f64,
    /// root of the mean square of that difference, metres
    pub rms_m: f64,
}

/// A DEM put together.
pub struct Mosaic {
    /// elevations, metres
    pub values: Grid<f32>,
    /// number of the file, from 0, that each cell comes from, [`NO_PIECE`] where there is no elevation;
    /// none where nobody asked
    pub origin: Option<Grid<u16>>,
    /// how the files agree
    pub overlaps: Vec<Overlap>,
    /// what was done that nobody asked for by name
    pub notes: Vec<String>,
}

/// The most files that are put together.
pub const MOST_PIECES: usize = 20_000;
const _: () = assert!(MOST_PIECES <= NO_PIECE as usize);

/// Finds the grid that holds all pieces.
///
/// # Errors
/// [`Error::TooManyCells`], [`Error::CellSize`], [`Error::NotConvertible`], [`Error::TooManyFiles`].
pub fn plan_mosaic(pieces: &[Piece], wish: &Wish) -> Result<MosaicPlan> {
    if pieces.len() > MOST_PIECES {
        return Err(Error::TooManyFiles { files: pieces.len(), most: MOST_PIECES });
    }
    let first = pieces.first().ok_or(Error::TooManyFiles { files: 0, most: MOST_PIECES })?;
    let crs = wish.crs.as_ref().unwrap_or(&first.crs);
    if let Some(plan) = common_grid(pieces, crs, wish)? {
        return Ok(plan);
    }
    let crs = match (&wish.crs, first.crs.kind) {
        (Some(crs), _) => crs.clone(),
        (None, CrsKind::Projected) => first.crs.clone(),
        (None, _) => {
            let (x, y) = first.info.centre();
            let (lon, lat) = Transform::to_wgs84(&first.crs)?.point(x, y)?;
            utm_zone(lon, lat)?
        }
    };
    let mut extent = [f64::INFINITY, f64::INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY];
    let mut native = 0.0;
    for (at, piece) in pieces.iter().enumerate() {
        let info = &piece.info;
        let plan = plan_warp(info.rows, info.cols, info.geo_transform, &piece.crs, &crs)?;
        let [west, south, east, north] = plan.extent;
        extent = [extent[0].min(west), extent[1].min(south), extent[2].max(east), extent[3].max(north)];
        if at == 0 {
            let exact = piece.crs.same_as(&crs)? && info.is_square() && info.is_north_up();
            native = if exact { info.geo_transform[1] } else { sensible_cell_size(plan.native_cell_size) };
        }
    }
    let frame = frame_of(extent, wish.cell_size.unwrap_or(native), &crs)?;
    let geo_transform = [frame.left, frame.cell_size, 0.0, frame.top, 0.0, -frame.cell_size];
    Ok(MosaicPlan { rows: frame.rows, cols: frame.cols, geo_transform, crs, exact: false })
}

fn near(a: f64, b: f64, tolerance: f64) -> bool {
    (a - b).abs() <= tolerance
}

/// Returns the grid that holds all pieces, if they already share one and need no reprojection.
fn common_grid(pieces: &[Piece], crs: &Crs, wish: &Wish) -> Result<Option<MosaicPlan>> {
    let [left0, width, _, top0, _, height] = pieces[0].info.geo_transform;
    if wish.cell_size.is_some_and(|w| !near(w, width, 1e-6 * width)) {
        return Ok(None);
    }
    let (mut west, mut east, mut north, mut south) = (0.0f64, 0.0f64, 0.0f64, 0.0f64);
    for piece in pieces {
        let info = &piece.info;
        let square = !wish.square || info.is_square();
        if !piece.crs.same_as(crs)? || !info.is_north_up() || !square {
            return Ok(None);
        }
        let [left, w, _, top, _, h] = info.geo_transform;
        // In cells from the first one's corner.
        let (right, down) = ((left - left0) / width, (top - top0) / height);
        let aligned = near(right, right.round(), 1e-3) && near(down, down.round(), 1e-3);
        let cells = info.cols.max(info.rows) as f64;
        if !aligned || !near(w, width, 1e-9 * width * cells) || !near(h, height, 1e-9 * height.abs() * cells)
        {
            return Ok(None);
        }
        west = west.min(right.round());
        east = east.max(right.round() + info.cols as f64);
        north = north.min(down.round());
        south = south.max(down.round() + info.rows as f64);
    }
    let (rows, cols) = ((south - north) as usize, (east - west) as usize);
    if rows as f64 * cols as f64 >= u32::MAX as f64 {
        return Err(Error::TooManyCells { cells: rows as u64 * cols as u64 });
    }
    let geo_transform = [left0 + west * width, width, 0.0, top0 + north * height, 0.0, height];
    Ok(Some(MosaicPlan { rows, cols, geo_transform, crs: crs.clone(), exact: true }))
}

/// How files are laid under each other.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Laying {
    /// where files do not lie on the grid
    pub resampling: Resampling,
    /// whether each file is raised or lowered by its mean difference to those before it where they overlap (in ten cells at least)
    pub level: bool,
    /// whether it is to be told which cell comes from which file: two bytes a cell
    pub origin: bool,
}

/// Cells of files that are read side by side: more are read one after another, for the sake of memory.
const AT_ONCE: usize = 1 << 24;

/// Reads all pieces onto the grid of `plan`. Of files that must be warped only what they reach of the grid is worked on, and small
/// files are read side by side.
///
/// # Errors
/// Those of [`read_elevation`] and [`warp_onto`]; of several files the first in order.
pub fn read_mosaic(
    pieces: &[Piece],
    plan: &MosaicPlan,
    laying: Laying,
    monitor: &dyn Monitor,
) -> Result<Mosaic> {
    let mut whole = Whole::empty(plan, laying.origin);
    let (mut warped, mut fitted, mut overlaps) = (Vec::new(), Vec::new(), Vec::new());
    let share = 1.0 / pieces.len() as f64;
    let mut at = 0;
    while at < pieces.len() {
        let some = side_by_side(&pieces[at..]);
        let read: Vec<Result<Laid>> = if let [one] = some {
            let part = Part::new(monitor, at as f64 * share, (at + 1) as f64 * share);
            vec![read_piece(one, plan, laying.resampling, &part)]
        } else {
            some.par_iter().map(|piece| read_piece(piece, plan, laying.resampling, &Quiet(monitor))).collect()
        };
        for (piece, laid) in some.iter().zip(read) {
            let laid = laid?;
            warped.extend(laid.done.map(|done| (done, &*piece.name)));
            let overlap = whole.lay_under(&laid.values, laid.place, at, laying.level);
            if laying.level && overlap.cells >= LEAST_OVERLAP && overlap.mean_m != 0.0 {
                fitted.push((&*piece.name, overlap.mean_m));
            }
            overlaps.extend((overlap.cells > 0).then_some(overlap));
            at += 1;
        }
        monitor.progress(at as f64 * share);
    }
    let mut notes = told_of_units(pieces);
    notes.extend(told_of(&warped, &fitted, plan, laying.resampling));
    Ok(Mosaic { values: whole.values, origin: whole.origin, overlaps, notes })
}

/// The first files that may be read side by side, one at least.
fn side_by_side(pieces: &[Piece]) -> &[Piece] {
    let most = 2 * rayon::current_num_threads();
    let mut cells = 0usize;
    let few = pieces.iter().take(most).take_while(|piece| {
        cells = cells.saturating_add(piece.info.rows.saturating_mul(piece.info.cols));
        cells <= AT_ONCE
    });
    &pieces[..few.count().max(1)]
}

/// Elevations of one file as they lie on the grid of the mosaic.
struct Laid {
    values: Grid<f32>,
    /// row and column of the first of them
    place: (usize, usize),
    /// what was done to get them there
    done: Option<String>,
}

fn read_piece(
    piece: &Piece,
    plan: &MosaicPlan,
    resampling: Resampling,
    monitor: &dyn Monitor,
) -> Result<Laid> {
    let Piece { name, path, info, crs, band, unit } = piece;
    if plan.exact {
        let values = read_elevation(path, name, *band, *unit, monitor)?;
        return Ok(Laid { values, place: place_in(piece, plan), done: None });
    }
    let values = read_elevation(path, name, *band, *unit, &Part::new(monitor, 0.0, 0.5))?;
    let ((row, col), window) = window_of(piece, plan)?;
    let placed = Placed { values: &values, geo_transform: info.geo_transform, crs };
    let values = warp_onto(&placed, &plan.crs, &window, resampling, &Part::new(monitor, 0.5, 1.0))?;
    let done = match crs.same_as(&plan.crs)? {
        true => "resampled".to_owned(),
        false => format!("warped from {} to {}", crs.label(), plan.crs.label()),
    };
    Ok(Laid { values, place: (row, col), done: Some(done) })
}

/// What a file that must be warped reaches of the grid, with a margin: row and column of its first cell, and its place.
fn window_of(piece: &Piece, plan: &MosaicPlan) -> Result<((usize, usize), Frame)> {
    /// Cells beyond the extent that is reckoned from some points of the edge.
    const MARGIN: f64 = 4.0;
    let (info, frame) = (&piece.info, plan.frame());
    let reach = plan_warp(info.rows, info.cols, info.geo_transform, &piece.crs, &plan.crs)?;
    let [west, south, east, north] = reach.extent;
    // As casts do, what lies before the first cell becomes it.
    let from = |cells: f64| (cells.floor() - MARGIN) as usize;
    let to = |cells: f64, all: usize| ((cells.ceil() + MARGIN) as usize).min(all);
    let across = |x: f64| (x - frame.left) / frame.cell_size;
    let down = |y: f64| (frame.top - y) / frame.cell_size;
    let (row, col) = (from(down(north)).min(frame.rows - 1), from(across(west)).min(frame.cols - 1));
    let rows = to(down(south), frame.rows).saturating_sub(row).max(1);
    let cols = to(across(east), frame.cols).saturating_sub(col).max(1);
    Ok(((row, col), frame.window(row, col, rows, cols)))
}

/// That files differ in the unit of their elevations: which of them, against the first.
fn told_of_units(pieces: &[Piece]) -> Vec<String> {
    let Some(first) = pieces.first().map(|piece| piece.unit) else { return Vec::new() };
    let others = [VerticalUnit::Metre, VerticalUnit::Foot, VerticalUnit::UsSurveyFoot].map(|unit| {
        let names: Vec<&str> = pieces.iter().filter(|p| p.unit == unit).map(|p| &*p.name).collect();
        match &names[..] {
            _ if unit == first => None,
            [] => None,
            [name] => Some(format!("{name} is in {}", unit.name())),
            names => Some(format!("{} files from {} on are in {}", names.len(), names[0], unit.name())),
        }
    });
    let others: Vec<String> = others.into_iter().flatten().collect();
    if others.is_empty() {
        return Vec::new();
    }
    let alike = match pieces.iter().filter(|piece| piece.unit == first).count() {
        1 => pieces[0].name.clone(),
        _ => format!("{} and the rest", pieces[0].name),
    };
    let (all, name) = (others.join(", "), first.name());
    vec![format!("elevations: {all}, {alike} in {name}; all were brought to metres")]
}

/// What was done that nobody asked for by name: files to which the same was done are told together.
fn told_of(
    warped: &[(String, &str)],
    fitted: &[(&str, f64)],
    plan: &MosaicPlan,
    resampling: Resampling,
) -> Vec<String> {
    /// More files than this are not told by name.
    const NAMED: usize = 20;
    let mut notes = Vec::new();
    let cells = || format!("on cells of {} m ({})", plan.frame().cell_m(), resampling.code());
    if warped.len() <= NAMED {
        notes.extend(warped.iter().map(|(done, name)| format!("{name} was {done} {}", cells())));
    } else {
        let mut alike: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
        warped.iter().for_each(|(done, name)| alike.entry(done).or_default().push(name));
        notes.extend(alike.into_iter().map(|(done, names)| match &names[..] {
            [name] => format!("{name} was {done} {}", cells()),
            names => format!("{} files from {} on were {done} {}", names.len(), names[0], cells()),
        }));
    }
    if fitted.len() <= NAMED {
        notes.extend(fitted.iter().map(|&(name, by)| {
            let way = if by > 0.0 { "lowered" } else { "raised" };
            format!("{name} was {way} by {:.2} m to fit those before it", by.abs())
        }));
    } else {
        let (name, by) =
            fitted.iter().max_by(|a, b| a.1.abs().total_cmp(&b.1.abs())).copied().unwrap_or(("", 0.0));
        let (count, by) = (fitted.len(), by.abs());
        notes.push(format!(
            "{count} files were raised or lowered to fit those before them, {name} the most, by {by:.2} m"
        ));
    }
    notes
}

/// Fewer cells tell nothing of a difference.
const LEAST_OVERLAP: u64 = 10;

/// The row and column of a piece on the larger grid that it is aligned with.
fn place_in(piece: &Piece, plan: &MosaicPlan) -> (usize, usize) {
    let [left, width, _, top, _, height] = plan.geo_transform;
    let [own_left, _, _, own_top, _, _] = piece.info.geo_transform;
    (((own_top - top) / height).round() as usize, ((own_left - left) / width).round() as usize)
}

/// What has been put together so far.
struct Whole {
    values: Grid<f32>,
    origin: Option<Grid<u16>>,
}

impl Whole {
    fn empty(plan: &MosaicPlan, origin: bool) -> Self {
        let origin = origin.then(|| Grid::filled(plan.rows, plan.cols, NO_PIECE));
        Self { values: Grid::filled(plan.rows, plan.cols, f32::NAN), origin }
    }

    /// Takes values of a piece, whose first cell lies at a row and column, where there are none yet.
    fn lay_under(
        &mut self,
        piece: &Grid<f32>,
        (top, left): (usize, usize),
        number: usize,
        level: bool,
    ) -> Overlap {
        let (across, cols) = (self.values.cols(), piece.cols());
        // Where each of the piece's rows lies.
        let lines = || {
            let rows = piece.values().chunks(cols.max(1)).enumerate();
            rows.map(|(row, line)| ((top + row) * across + left, line))
        };
        let (mut cells, mut sum, mut squares) = (0u64, 0f64, 0f64);
        for (from, line) in lines() {
            for (a, b) in self.values.values()[from..from + cols].iter().zip(line) {
                let difference = (*b - *a) as f64;
                if !difference.is_nan() {
                    cells += 1;
                    sum += difference;
                    squares += difference * difference;
                }
            }
        }
        let n = cells.max(1) as f64;
        let overlap = Overlap { piece: number as u32, cells, mean_m: sum / n, rms_m: (squares / n).sqrt() };
        let shift = if level && cells >= LEAST_OVERLAP { overlap.mean_m as f32 } else { 0.0 };
        for (from, line) in lines() {
            let above = &mut self.values.values_mut()[from..from + cols];
            for (at, (above, &below)) in above.iter_mut().zip(line).enumerate() {
                if above.is_nan() && !below.is_nan() {
                    *above = below - shift;
                    if let Some(origin) = &mut self.origin {
                        origin.values_mut()[from + at] = number as u16;
                    }
                }
            }
        }
        overlap
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{inspect, write_cog};
    use bothros_core::{Cell, Coarser, Silent};

    const EDGE: usize = 4;

    /// A square of so many tiles, each over its neighbours by a cell to the south and east.
    fn tiles(dir: &std::path::Path, along: usize) -> Vec<Piece> {
        let crs = Crs::parse("EPSG:32628").unwrap();
        let mut pieces = Vec::new();
        for number in 0..along * along {
            let (row, col) = (number / along * EDGE, number % along * EDGE);
            let frame = Frame {
                rows: EDGE + 1,
                cols: EDGE + 1,
                left: 500_000.0 + 10.0 * col as f64,
                top: 4_760_000.0 - 10.0 * row as f64,
                cell_size: 10.0,
                unit_m: 1.0,
            };
            let values = Grid::from_fn(EDGE + 1, EDGE + 1, |c| ((row + c.row) * 1000 + col + c.col) as f32);
            let path = dir.join(format!("{number}.tif"));
            write_cog(&path, &values, &frame, &crs, f32::NAN, Coarser::Mean, "", "m").unwrap();
            let info = inspect(&path, "tile").unwrap();
            let name = number.to_string();
            pieces.push(Piece { name, path, info, crs: crs.clone(), band: 1, unit: VerticalUnit::Metre });
        }
        pieces
    }

    const AS_THEY_ARE: Laying = Laying { resampling: Resampling::Bilinear, level: false, origin: true };

    #[test]
    fn units_that_differ_are_told() {
        let dir = tempfile::tempdir().unwrap();
        let mut pieces = tiles(dir.path(), 2);
        assert!(told_of_units(&pieces).is_empty());
        pieces[2].unit = VerticalUnit::Foot;
        let plan = plan_mosaic(&pieces, &Wish::default()).unwrap();
        let mosaic = read_mosaic(&pieces, &plan, AS_THEY_ARE, &Silent).unwrap();
        let below = mosaic.values.get(Cell { row: EDGE + 1, col: 0 });
        assert_eq!(below, Some(&(((EDGE + 1) * 1000) as f32 * 0.3048)));
        assert_eq!(
            mosaic.notes,
            ["elevations: 2 is in feet, 0 and the rest in metres; all were brought to metres"]
        );
        pieces[0].unit = VerticalUnit::UsSurveyFoot;
        let told = told_of_units(&pieces);
        assert!(
            told[0].starts_with("elevations: 2 files from 1 on are in metres, 2 is in feet, 0 in US"),
            "{told:?}"
        );
        let told = told_of_units(&pieces[1..3]);
        assert_eq!(told, ["elevations: 2 is in feet, 1 in metres; all were brought to metres"]);
    }

    #[test]
    fn hundreds_of_files_are_put_together() {
        let dir = tempfile::tempdir().unwrap();
        let pieces = tiles(dir.path(), 17);
        let plan = plan_mosaic(&pieces, &Wish::default()).unwrap();
        assert!(plan.exact && (plan.rows, plan.cols) == (17 * EDGE + 1, 17 * EDGE + 1));
        let mosaic = read_mosaic(&pieces, &plan, AS_THEY_ARE, &Silent).unwrap();
        let expected = Grid::from_fn(plan.rows, plan.cols, |c| (c.row * 1000 + c.col) as f32);
        assert_eq!(mosaic.values, expected);
        // Of two files that share a cell the first has it.
        let tile = |at: usize| at.saturating_sub(1) / EDGE;
        let numbers = Grid::from_fn(plan.rows, plan.cols, |c| (tile(c.row) * 17 + tile(c.col)) as u16);
        assert_eq!(mosaic.origin.unwrap(), numbers);
        // All but the first share cells with those before them, and agree.
        assert_eq!(mosaic.overlaps.len(), pieces.len() - 1);
        assert!(mosaic.overlaps.iter().all(|overlap| overlap.mean_m == 0.0 && overlap.cells >= 5));
        let nobody_asked =
            read_mosaic(&pieces, &plan, Laying { origin: false, ..AS_THEY_ARE }, &Silent).unwrap();
        assert!(nobody_asked.origin.is_none() && nobody_asked.values == expected);
    }

    #[test]
    fn files_that_must_be_warped_are_worked_on_where_they_lie() {
        let dir = tempfile::tempdir().unwrap();
        let pieces = tiles(dir.path(), 5);
        let wish = Wish { crs: Some(Crs::parse("EPSG:3035").unwrap()), cell_size: Some(3.0), square: true };
        let plan = plan_mosaic(&pieces, &wish).unwrap();
        assert!(!plan.exact);
        let mosaic = read_mosaic(&pieces, &plan, AS_THEY_ARE, &Silent).unwrap();
        assert_eq!(mosaic.notes.len(), 1);
        assert!(mosaic.notes[0].starts_with("25 files from 0 on were warped from "), "{:?}", mosaic.notes);
        // Each file on the whole grid, one after another.
        let mut whole = Whole::empty(&plan, true);
        for (at, piece) in pieces.iter().enumerate() {
            let values = read_elevation(&piece.path, &piece.name, 1, piece.unit, &Silent).unwrap();
            let placed = Placed { values: &values, geo_transform: piece.info.geo_transform, crs: &piece.crs };
            let onto = warp_onto(&placed, &plan.crs, &plan.frame(), Resampling::Bilinear, &Silent).unwrap();
            whole.lay_under(&onto, (0, 0), at, false);
            let ((row, col), window) = window_of(piece, &plan).unwrap();
            assert!(window.cells() < plan.rows * plan.cols / 4);
            let reached = (0..onto.len()).filter(|&at| !onto.values()[at].is_nan()).map(|at| onto.cell(at));
            for cell in reached {
                assert!(
                    (row..row + window.rows).contains(&cell.row)
                        && (col..col + window.cols).contains(&cell.col)
                );
            }
        }
        assert_eq!(mosaic.origin, whole.origin);
        for (a, b) in mosaic.values.values().iter().zip(whole.values.values()) {
            // A hundredth of a cell, by which the library may err: a row's step is 1000 m in 10 m.
            assert!(a.is_nan() && b.is_nan() || (a - b).abs() < 10.0, "{a} {b}");
        }
    }

    #[test]
    fn of_many_files_the_one_that_is_broken_is_told() {
        let dir = tempfile::tempdir().unwrap();
        let pieces = tiles(dir.path(), 4);
        let plan = plan_mosaic(&pieces, &Wish::default()).unwrap();
        for broken in [11, 6] {
            std::fs::write(&pieces[broken].path, "no raster").unwrap();
        }
        let error = read_mosaic(&pieces, &plan, AS_THEY_ARE, &Silent).err().unwrap().to_string();
        assert!(error.contains('6') && !error.contains("11"), "{error}");
    }
}
