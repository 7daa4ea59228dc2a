//! The networks of two runs laid over each other: what both have, and what only one has.

use std::collections::HashSet;
use std::path::Path;

use bothros_formats::{Crs, Geometry, Wanted, inspect, read_features};
use bothros_store::{Run, Store};

use crate::{Error, Result, blocking, boxed};

/// A line, CRS units.
type Line = Vec<[f64; 2]>;

/// Streams of one kind.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct StreamsOf {
    /// their lines, in the CRS of the first run
    pub lines: Vec<Line>,
    /// their length, metres
    pub length_m: f64,
}

/// The networks of two runs laid over each other.
#[derive(Debug, Clone, PartialEq)]
pub struct NetworksCompared {
    /// streams of the first that the second has too
    pub both: StreamsOf,
    /// those of the first alone
    pub first: StreamsOf,
    /// those of the second alone
    pub second: StreamsOf,
    /// west, south, east and north of the first run's DEM
    pub extent: [f64; 4],
    /// its CRS
    pub crs: Crs,
    /// whether the runs lie on one grid; else streams are held for the same where they come within a cell of each other
    pub one_grid: bool,
}

/// A square grid: left, top, size of a cell.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Cells {
    left: f64,
    top: f64,
    size: f64,
}

impl Cells {
    fn of(&self, [x, y]: [f64; 2]) -> (i64, i64) {
        (((self.top - y) / self.size).floor() as i64, ((x - self.left) / self.size).floor() as i64)
    }

    /// Whether two grids have their cells in common where they overlap.
    fn agrees(&self, other: &Self) -> bool {
        let apart = |a: f64, b: f64| {
            let cells = (a - b) / self.size;
            (cells - cells.round()).abs() < 1e-6
        };
        (self.size - other.size).abs() < 1e-9 * self.size
            && apart(self.left, other.left)
            && apart(self.top, other.top)
    }
}

/// The network of a run, with where it lies.
struct Network {
    lines: Vec<Line>,
    cells: Cells,
    extent: [f64; 4],
    crs: Crs,
}

/// Takes the streams apart into those whose cells are among `others`, or within so many cells of them, and those that are not.
fn apart(
    lines: &[Line],
    cells: Cells,
    others: &HashSet<(i64, i64)>,
    near: i64,
    unit_m: f64,
) -> [StreamsOf; 2] {
    let has = |at: &[f64; 2]| {
        let (row, col) = cells.of(*at);
        (-near..=near).any(|r| (-near..=near).any(|c| others.contains(&(row + r, col + c))))
    };
    let mut out = [StreamsOf::default(), StreamsOf::default()];
    for line in lines {
        let there: Vec<bool> = line.iter().map(has).collect();
        let mut before: Option<usize> = None;
        for at in 1..line.len() {
            let kind = usize::from(!(there[at - 1] && there[at]));
            let of = &mut out[kind];
            let ([x0, y0], [x1, y1]) = (line[at - 1], line[at]);
            of.length_m += (x1 - x0).hypot(y1 - y0) * unit_m;
            match of.lines.last_mut().filter(|_| before == Some(kind)) {
                Some(last) => last.push(line[at]),
                None => of.lines.push(vec![line[at - 1], line[at]]),
            }
            before = Some(kind);
        }
    }
    out
}

impl NetworksCompared {
    fn of(first: &Network, second: &Network) -> Self {
        let one_grid = first.cells.agrees(&second.cells);
        let near = if one_grid { 0 } else { 1 };
        let cells = first.cells;
        let set = |lines: &[Line]| lines.iter().flatten().map(|at| cells.of(*at)).collect();
        let (in_first, in_second): (HashSet<_>, HashSet<_>) = (set(&first.lines), set(&second.lines));
        let unit_m = first.crs.unit_m;
        let [both, alone] = apart(&first.lines, cells, &in_second, near, unit_m);
        let [_, other] = apart(&second.lines, cells, &in_first, near, unit_m);
        let (extent, crs) = (first.extent, first.crs.clone());
        Self { both, first: alone, second: other, extent, crs, one_grid }
    }
}

/// Reads the network of a run from the files that it wrote; its lines in `to`, or its own CRS.
fn read(dir: &Path, number: i32, to: Option<&Crs>) -> Result<Network> {
    let name = format!("run {number}");
    let info = inspect(&dir.join("streams.tif"), &name)?;
    let own = info.crs.ok_or_else(|| Error::Refused(format!("{name} does not tell its CRS")))?;
    let crs = to.cloned().unwrap_or_else(|| own.clone());
    let [left, width, _, top, _, _] = info.geo_transform;
    let read = read_features(&dir.join("network.gpkg"), &name, Some("reaches"), Wanted::Lines, &crs)?;
    let line = |shape| match shape {
        Geometry::Line(line) => Some(line),
        _ => None,
    };
    Ok(Network {
        lines: read.features.into_iter().filter_map(|f| line(f.shape)).collect(),
        cells: Cells { left, top, size: width },
        extent: [left, top - info.rows as f64 * width, left + info.cols as f64 * width, top],
        crs: own,
    })
}

/// Lays the networks of two runs of a batch over each other.
///
/// # Errors
/// [`Error::Refused`] where a run has not ended or found no network; those of the store and of reading.
#[boxed]
pub async fn compare_networks(store: &Store, runs: [&Run; 2]) -> Result<NetworksCompared> {
    let dir = tempfile::tempdir()?;
    for run in runs {
        let own = dir.path().join(run.id.to_string());
        std::fs::create_dir_all(&own)?;
        let files = store.batch_files(run.batch_id, Some(run.id)).await?;
        for wanted in ["streams.tif", "network.gpkg"] {
            let file = files.iter().find(|file| file.name == wanted).ok_or_else(|| {
                Error::Refused(format!(
                    "run {} wrote no {wanted}: it is not done, or its recipe asks for no network",
                    run.number
                ))
            })?;
            store.fetch_batch_file(file.id, &own.join(wanted)).await?;
        }
    }
    let [(first, one), (second, two)] = runs.map(|run| (run.id, run.number));
    blocking(move || {
        let first = read(&dir.path().join(first.to_string()), one, None)?;
        let second = read(&dir.path().join(second.to_string()), two, Some(&first.crs))?;
        Ok(NetworksCompared::of(&first, &second))
    })
    .await
}

#[cfg(test)]
mod tests {
    use super::*;

    fn network(lines: Vec<Line>, cells: Cells) -> Network {
        let crs = Crs::parse("EPSG:32628").unwrap();
        Network { lines, cells, extent: [0.0, 0.0, 100.0, 100.0], crs }
    }

    #[test]
    fn what_both_have_is_told_from_what_one_has() {
        let cells = Cells { left: 0.0, top: 100.0, size: 10.0 };
        let down = |from: usize, to: usize, x: f64| -> Line {
            (from..to).map(|row| [x, 95.0 - 10.0 * row as f64]).collect()
        };
        let first = network(vec![down(0, 6, 25.0)], cells);
        // Begins lower, and has a branch of its own.
        let second = network(vec![down(2, 6, 25.0), down(0, 3, 65.0)], cells);
        let of = NetworksCompared::of(&first, &second);
        assert!(of.one_grid);
        assert_eq!((of.both.length_m, of.first.length_m, of.second.length_m), (30.0, 20.0, 20.0));
        assert_eq!((of.both.lines.len(), of.first.lines[0].len()), (1, 3));
        // On another grid a stream within a cell is the same.
        let shifted = Cells { left: 3.0, ..cells };
        let beside = network(vec![down(0, 6, 33.0)], shifted);
        let of = NetworksCompared::of(&first, &beside);
        assert!(!of.one_grid);
        assert_eq!((of.both.length_m, of.first.length_m, of.second.length_m), (50.0, 0.0, 0.0));
    }
}
