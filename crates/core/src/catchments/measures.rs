//! What is measured of a catchment: slopes, flow path, main stem, network, shape; elevations are in [`super::elevations`].

use rayon::prelude::*;

use super::elevations::elevations;
use super::longest::longest_within;
use super::{Catchment, Elevations, Flow, LongestPath, longest_flow_path};
use crate::network::main_stem_of_cells;
use crate::profile::distances_along;
use crate::terrain::slope_at;
use crate::{Cell, Frame, Grid, Result};

/// The grids that are measured on, of one shape.
#[derive(Clone, Copy)]
pub struct Measured<'a> {
    /// the ground surface, metres, `NaN` for nodata
    pub ground: &'a Grid<f32>,
    /// D8 codes without cycles
    pub directions: &'a Grid<u8>,
    /// cells upstream of each
    pub accumulation: &'a Grid<u32>,
    /// size and place
    pub frame: &'a Frame,
    /// whether a cell, by number in row order, is a stream cell
    pub is_stream: &'a (dyn Fn(usize) -> bool + Sync),
    /// Strahler order of a stream cell, by number in row order; asked where a stream enters a sub-basin
    pub order: &'a (dyn Fn(usize) -> u8 + Sync),
}

/// The stream that leads from the outlet upstream along the larger contributing area.
#[derive(Debug, Clone, PartialEq)]
pub struct Stem {
    /// its cells from its headwater to the outlet, by number in row order
    pub cells: Vec<u32>,
    /// length along the centres of its cells, m
    pub length_m: f64,
    /// fall from its headwater to the outlet, m
    pub drop_m: f64,
    /// slope between the points at 10 % and 85 % of its length from the outlet, m/m (Benson 1962, USGS Water-Supply Paper
    /// 1580-B); none for a stem of one cell
    pub slope_10_85: Option<f64>,
    /// distance along it from the outlet to the point nearest to the centroid, m (Snyder 1938)
    pub to_centroid_m: f64,
}

/// What is measured of a catchment.
#[derive(Debug, Clone, PartialEq)]
pub struct Measures {
    /// area of its cells, km²
    pub area_km2: f64,
    /// length of its divide along the edges of cells, km
    pub perimeter_km: f64,
    /// its elevations; none where no cell has one
    pub elevations: Option<Elevations>,
    /// mean slope of the ground (Horn 1981), m/m
    pub mean_slope: f64,
    /// longest flow path, from the divide to the outlet, km
    pub longest_path_km: f64,
    /// fall along it, m
    pub longest_path_drop_m: f64,
    /// its main stem; none where no stream reaches the outlet
    pub stem: Option<Stem>,
    /// centre of its area, CRS units
    pub centroid: [f64; 2],
    /// length of its streams, km
    pub stream_length_km: f64,
    /// number of its streams: reaches of one order in a row are one (Strahler 1957)
    pub streams: usize,
    /// share of its cells that are level: no neighbour within it lies higher or lower
    pub level_share: f64,
}

impl Measures {
    /// Difference of its highest and lowest elevation, m.
    pub fn relief_m(&self) -> Option<f64> {
        self.elevations.map(|e| e.most_m - e.least_m)
    }

    /// Length of streams over area, km/km² (Horton 1945).
    pub fn drainage_density(&self) -> f64 {
        self.stream_length_km / self.area_km2
    }

    /// Number of streams over area, 1/km² (Horton 1945).
    pub fn stream_frequency(&self) -> f64 {
        self.streams as f64 / self.area_km2
    }

    /// Area over the square of the longest flow path (Horton 1932); none for a catchment of one cell.
    pub fn form_factor(&self) -> Option<f64> {
        self.over_length(self.area_km2 / self.longest_path_km.powi(2))
    }

    /// Area over that of a circle of the same perimeter (Miller 1953).
    pub fn circularity(&self) -> f64 {
        4.0 * std::f64::consts::PI * self.area_km2 / self.perimeter_km.powi(2)
    }

    /// Diameter of a circle of the same area over the longest flow path (Schumm 1956); none for a catchment of one cell.
    pub fn elongation(&self) -> Option<f64> {
        self.over_length(2.0 * (self.area_km2 / std::f64::consts::PI).sqrt() / self.longest_path_km)
    }

    /// Perimeter over that of a circle of the same area (Gravelius 1914).
    pub fn compactness(&self) -> f64 {
        self.perimeter_km / (2.0 * (std::f64::consts::PI * self.area_km2).sqrt())
    }

    /// Relief over the longest flow path, m/m (Schumm 1956); none for a catchment of one cell.
    pub fn relief_ratio(&self) -> Option<f64> {
        self.over_length(self.relief_m()? / (1000.0 * self.longest_path_km))
    }

    /// Relief times drainage density, without a unit (Strahler 1958).
    pub fn ruggedness(&self) -> Option<f64> {
        Some(self.relief_m()? / 1000.0 * self.drainage_density())
    }

    /// Mean less lowest elevation over relief: the hypsometric integral (Pike and Wilson 1971); none on level ground.
    pub fn hypsometric_integral(&self) -> Option<f64> {
        let e = self.elevations.filter(|e| e.most_m > e.least_m)?;
        Some((e.mean_m - e.least_m) / (e.most_m - e.least_m))
    }

    /// Length of the main stem over what Hack's law gives for the area, L = 1.4 A^0.6 in miles (Hack 1957, USGS Professional Paper
    /// 294-B); none without a stem. Most streams lie between a half and two.
    pub fn hack_ratio(&self) -> Option<f64> {
        const MILE_KM: f64 = 1.609_344;
        let stem = self.stem.as_ref()?;
        let expected = 1.4 * (self.area_km2 / (MILE_KM * MILE_KM)).powf(0.6) * MILE_KM;
        Some(stem.length_m / 1000.0 / expected)
    }

    /// What the formulas for the time of concentration need; on conditioned ground the outlet is the lowest cell.
    pub fn flow(&self, curve_number: Option<f64>) -> Flow {
        Flow {
            area_km2: self.area_km2,
            length_km: self.longest_path_km,
            drop_m: self.longest_path_drop_m,
            mean_height_m: self.elevations.map_or(0.0, |e| e.mean_m - e.least_m),
            mean_slope: self.mean_slope,
            curve_number,
        }
    }

    fn over_length(&self, ratio: f64) -> Option<f64> {
        (self.longest_path_km > 0.0).then_some(ratio)
    }
}

/// Measures a catchment.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch), [`Error::OutsideFootprint`](crate::Error::OutsideFootprint).
///
/// ```
/// use bothros_core::catchments::{Measured, delineate, measure};
/// use bothros_core::{Cell, Frame, Grid};
/// // Three cells in a row that fall eastwards by 2 m each.
/// let directions = Grid::from_vec(1, 3, vec![1, 1, 0]);
/// let accumulation = Grid::from_vec(1, 3, vec![0, 1, 2]);
/// let ground = Grid::from_vec(1, 3, vec![14.0, 12.0, 10.0]);
/// let frame = Frame { rows: 1, cols: 3, left: 0.0, top: 100.0, cell_size: 100.0, unit_m: 1.0 };
/// let of = Measured {
///     ground: &ground, directions: &directions, accumulation: &accumulation, frame: &frame, is_stream: &|cell| cell > 0,
///     order: &|_| 1,
/// };
/// let found = measure(&of, &delineate(&directions, Cell { row: 0, col: 2 })?)?;
/// assert_eq!((found.area_km2, found.longest_path_km, found.longest_path_drop_m), (0.03, 0.2, 4.0));
/// assert_eq!(found.stem.unwrap().length_m, 100.0);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn measure(of: &Measured<'_>, catchment: &Catchment) -> Result<Measures> {
    measure_with(of, catchment, longest_flow_path(of.directions, of.frame, catchment.outlet)?)
}

/// As [`measure`], where the longest flow path is known already.
///
/// # Errors
/// Those of [`measure`].
pub fn measure_with(of: &Measured<'_>, catchment: &Catchment, path: LongestPath) -> Result<Measures> {
    measured(of, catchment, path, None)
}

/// Measures a sub-basin: land that others may drain into, whose water is not its own. Flow path, main stem and streams are
/// those within it; its streams run to the first cell of the next sub-basin, so that all of them add up to those of the
/// whole. `ids` has the numbers of the sub-basins, of which `id` is its own.
///
/// # Errors
/// Those of [`measure`].
pub fn measure_part(of: &Measured<'_>, piece: &Catchment, (ids, id): (&Grid<u32>, u32)) -> Result<Measures> {
    of.directions.same_shape(ids)?;
    let within = |index: usize| ids.values()[index] == id;
    let path = longest_within(of.directions, of.frame, piece.outlet, &within)?;
    measured(of, piece, path, Some(&within))
}

/// Measures a whole catchment, whose longest flow path is `path`, or a sub-basin of the cells that are `within`.
fn measured(
    of: &Measured<'_>,
    catchment: &Catchment,
    path: LongestPath,
    within: Option<&(dyn Fn(usize) -> bool + Sync)>,
) -> Result<Measures> {
    let is_part = within.is_some();
    let is_stream =
        |index: usize| (of.is_stream)(index) && within.as_ref().is_none_or(|within| within(index));
    let of = &Measured { is_stream: &is_stream, ..*of };
    let (ground, frame) = (of.ground, of.frame);
    ground.same_shape(of.directions)?;
    ground.same_shape(of.accumulation)?;
    // A catchment alone is measured on all cores; sub-basins are measured side by side.
    let ((mean_slope, level_share), (elevations, perimeter_m)) = rayon::join(
        || slopes(ground, frame, catchment),
        || rayon::join(|| elevations(ground, catchment), || catchment.perimeter_m(frame)),
    );
    let z = |cell: u32| f64::from(ground.values()[cell as usize]);
    let fall = |cells: &[u32]| match (cells.first(), cells.last()) {
        (Some(&first), Some(&last)) => z(first) - z(last),
        _ => 0.0,
    };
    let centroid = centroid(catchment, frame);
    let network = streams(of, catchment, is_part);
    let stem = main_stem_of_cells(of.directions, of.accumulation, of.is_stream, catchment.outlet)?;
    Ok(Measures {
        area_km2: catchment.area(frame).as_km2(),
        perimeter_km: perimeter_m / 1000.0,
        elevations,
        mean_slope,
        longest_path_km: path.length_m / 1000.0,
        longest_path_drop_m: fall(&path.cells),
        stem: (!stem.is_empty()).then(|| stem_of(stem, ground, frame, centroid)),
        centroid,
        stream_length_km: network.0 / 1000.0,
        streams: network.1,
        level_share,
    })
}

/// The cells of a catchment by row: number of the row's first mask cell in the whole grid, and the row of the mask.
fn rows(catchment: &Catchment, cols: usize) -> impl IndexedParallelIterator<Item = (usize, &[bool])> {
    let mask = &catchment.mask;
    let first = move |row: usize| (catchment.row + row) * cols + catchment.col;
    mask.values().par_chunks(mask.cols().max(1)).enumerate().map(move |(row, cells)| (first(row), cells))
}

/// Mean slope, m/m, and the share of level cells.
fn slopes(ground: &Grid<f32>, frame: &Frame, catchment: &Catchment) -> (f64, f64) {
    let of_row = |(row, cells): (usize, &[bool])| {
        let inside = cells.iter().enumerate().filter(|(_, inside)| **inside);
        let at = |(col, _)| slope_at(ground, catchment.row + row, catchment.col + col, frame.cell_m());
        inside.filter_map(at).fold((0.0, 0u64, 0u64), |(sum, level, count), s| {
            (sum + f64::from(s), level + u64::from(s == 0.0), count + 1)
        })
    };
    let parts: Vec<_> =
        catchment.mask.values().par_chunks(catchment.mask.cols()).enumerate().map(of_row).collect();
    let (sum, level, count) = parts.iter().fold((0.0, 0, 0), |a, b| (a.0 + b.0, a.1 + b.1, a.2 + b.2));
    let all = count.max(1) as f64;
    (sum / all, level as f64 / all)
}

fn centroid(catchment: &Catchment, frame: &Frame) -> [f64; 2] {
    let of_row = |(row, cells): (usize, &[bool])| {
        let inside = cells.iter().enumerate().filter(|(_, inside)| **inside);
        inside.fold((0u64, 0u64, 0u64), |(r, c, n), (col, _)| (r + row as u64, c + col as u64, n + 1))
    };
    let parts: Vec<_> =
        catchment.mask.values().par_chunks(catchment.mask.cols()).enumerate().map(of_row).collect();
    let (r, c, n) = parts.iter().fold((0, 0, 0), |a, b| (a.0 + b.0, a.1 + b.1, a.2 + b.2));
    let mean = |sum: u64| sum as f64 / n.max(1) as f64 + 0.5;
    let (row, col) = (catchment.row as f64 + mean(r), catchment.col as f64 + mean(c));
    [frame.left + col * frame.cell_size, frame.top - row * frame.cell_size]
}

/// Length of the streams of a catchment, metres, and their number. The step below the outlet of a whole one is not its own.
fn streams(of: &Measured<'_>, catchment: &Catchment, is_part: bool) -> (f64, usize) {
    let cols = of.directions.cols();
    let outlet = of.directions.index(catchment.outlet);
    let stream = |i: usize| (of.is_stream)(i);
    let step = |i: usize| of.frame.cell_m() * crate::routing::step(of.directions, i);
    let heads = |i: usize| !crate::routing::upstream(of.directions, i).any(stream);
    let of_row = |(first, cells): (usize, &[bool])| {
        let all = cells.iter().enumerate().filter(|(_, inside)| **inside).map(|(col, _)| first + col);
        all.filter(|&i| stream(i)).fold((0.0, Vec::new()), |(length, mut found), i| {
            if heads(i) {
                found.push(i);
            }
            (length + if i == outlet && !is_part { 0.0 } else { step(i) }, found)
        })
    };
    let parts: Vec<_> = rows(catchment, cols).map(of_row).collect();
    let length = parts.iter().map(|p| p.0).sum();
    let heads: Vec<usize> = parts.into_iter().flat_map(|p| p.1).collect();
    (length, count_streams(of, &heads, outlet))
}

/// The number of streams that begin at `heads` and gather to `outlet`: a stream goes on where the order does.
fn count_streams(of: &Measured<'_>, heads: &[usize], outlet: usize) -> usize {
    use std::collections::HashMap;
    // Orders meet at junctions: the highest there so far, how many have it, and how many streams are still to come.
    let mut waiting: HashMap<usize, (u32, u32, usize)> = HashMap::new();
    let mut streams = heads.len();
    let inflows =
        |i: usize| crate::routing::upstream(of.directions, i).filter(|&n| (of.is_stream)(n)).count();
    for &head in heads {
        // One that comes from elsewhere has its order already.
        let (mut at, mut order) = (head, u32::from((of.order)(head)).max(1));
        while at != outlet {
            let Some(next) = crate::routing::downstream(of.directions, at) else { break };
            let coming = inflows(next);
            if coming > 1 {
                let entry = waiting.entry(next).or_insert((0, 0, coming));
                match order.cmp(&entry.0) {
                    std::cmp::Ordering::Greater => (entry.0, entry.1) = (order, 1),
                    std::cmp::Ordering::Equal => entry.1 += 1,
                    std::cmp::Ordering::Less => {}
                }
                entry.2 -= 1;
                if entry.2 > 0 {
                    break;
                }
                order = entry.0;
                if entry.1 > 1 {
                    order += 1;
                    streams += 1;
                }
            }
            at = next;
        }
    }
    streams
}

fn stem_of(cells: Vec<u32>, ground: &Grid<f32>, frame: &Frame, centroid: [f64; 2]) -> Stem {
    let path: Vec<Cell> = cells.iter().map(|&c| ground.cell(c as usize)).collect();
    let along = distances_along(&path, frame);
    let length_m = along.last().copied().unwrap_or(0.0);
    let z: Vec<f64> = cells.iter().map(|&c| f64::from(ground.values()[c as usize])).collect();
    // Elevation at a share of the length from the outlet.
    let at = |share: f64| {
        let place = length_m * (1.0 - share);
        let after = along.partition_point(|&d| d < place).clamp(1, along.len() - 1);
        let part = (place - along[after - 1]) / (along[after] - along[after - 1]);
        z[after - 1] + (z[after] - z[after - 1]) * part
    };
    let slope_10_85 = (cells.len() > 1).then(|| (at(0.85) - at(0.10)) / (0.75 * length_m));
    let away = |cell: &Cell| {
        let (x, y) = frame.centre(*cell);
        (x - centroid[0]).hypot(y - centroid[1])
    };
    let nearest = (0..path.len()).min_by(|&a, &b| away(&path[a]).total_cmp(&away(&path[b]))).unwrap_or(0);
    let to_centroid_m = length_m - along.get(nearest).copied().unwrap_or(0.0);
    let drop_m = z.first().zip(z.last()).map_or(0.0, |(a, b)| a - b);
    Stem { cells, length_m, drop_m, slope_10_85, to_centroid_m }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catchments::delineate;
    use crate::conditioning::fill;
    use crate::network::extract;
    use crate::routing::{flow_accumulation, flow_directions};
    use crate::terrain::tests_support::any_terrain;
    use crate::{Silent, Threshold};
    use proptest::prelude::*;

    const CELL: f64 = 10.0;

    fn frame(rows: usize, cols: usize) -> Frame {
        Frame { rows, cols, left: 500.0, top: 900.0, cell_size: CELL, unit_m: 1.0 }
    }

    struct Routed {
        ground: Grid<f32>,
        directions: Grid<u8>,
        accumulation: Grid<u32>,
        frame: Frame,
    }

    impl Routed {
        fn of(dem: &Grid<f32>) -> Self {
            let ground = fill(dem, &Silent).unwrap();
            let directions = flow_directions(&ground, &Silent).unwrap();
            let accumulation = flow_accumulation(&directions, &Silent).unwrap();
            Self { frame: frame(dem.rows(), dem.cols()), ground, directions, accumulation }
        }

        fn measure(&self, threshold: u32, outlet: Cell) -> Measures {
            let is_stream = |i: usize| Threshold::cells(threshold).is_stream(self.accumulation.values()[i]);
            let of = Measured {
                ground: &self.ground,
                directions: &self.directions,
                accumulation: &self.accumulation,
                frame: &self.frame,
                is_stream: &is_stream,
                order: &|_| 1,
            };
            measure(&of, &delineate(&self.directions, outlet).unwrap()).unwrap()
        }

        fn largest(&self) -> Cell {
            let values = self.accumulation.values();
            let at = (0..values.len()).filter(|&i| values[i] != u32::MAX).max_by_key(|&i| values[i]).unwrap();
            self.accumulation.cell(at)
        }
    }

    #[test]
    fn a_plane_is_measured_as_geometry_says() {
        // Falls eastwards by a tenth, in strips: each row is a catchment of its own.
        let dem = Grid::from_fn(9, 21, |c| 100.0 - c.col as f32);
        let routed = Routed::of(&dem);
        let found = routed.measure(1, Cell { row: 4, col: 20 });
        assert!((found.area_km2 - 21.0 * 1e-4).abs() < 1e-12);
        assert!((found.perimeter_km - 0.44).abs() < 1e-12);
        let e = found.elevations.unwrap();
        assert_eq!((e.least_m, e.most_m, e.mean_m, e.median_m), (80.0, 100.0, 90.0, 90.0));
        // At both ends of a row there is ground on one side only, which halves the slope there.
        assert!((found.mean_slope - (19.0 * 0.1 + 2.0 * 0.05) / 21.0).abs() < 1e-6, "{}", found.mean_slope);
        assert_eq!((found.longest_path_km, found.longest_path_drop_m), (0.2, 20.0));
        assert_eq!(found.centroid, [605.0, 855.0]);
        let stem = found.stem.as_ref().unwrap();
        assert_eq!((stem.length_m, stem.drop_m, stem.to_centroid_m), (200.0, 20.0, 100.0));
        assert!((stem.slope_10_85.unwrap() - 0.1).abs() < 1e-6);
        assert_eq!((found.streams, found.level_share), (1, 0.0));
        // The shape of a strip: 0.0021 km² over 0.2 km squared; a circle of its perimeter; and so on, by hand.
        let near = |a: f64, b: f64| (a - b).abs() < 1e-4;
        assert!(near(found.form_factor().unwrap(), 0.0525));
        assert!(near(found.circularity(), 4.0 * std::f64::consts::PI * 0.0021 / 0.1936));
        assert!(near(found.elongation().unwrap(), 0.2585), "{:?}", found.elongation());
        assert!(near(found.compactness(), 2.7085), "{}", found.compactness());
        assert!(near(found.relief_ratio().unwrap(), 0.1) && near(found.hypsometric_integral().unwrap(), 0.5));
        assert!(near(found.drainage_density(), 0.2 / 0.0021));
        assert!(near(found.ruggedness().unwrap(), 0.02 * 0.2 / 0.0021));
    }

    #[test]
    fn a_catchment_of_one_cell_has_no_length_and_level_ground_no_integral() {
        let routed = Routed::of(&Grid::from_fn(9, 21, |c| 100.0 - c.col as f32));
        let found = routed.measure(1, Cell { row: 4, col: 0 });
        assert_eq!(
            (found.longest_path_km, found.form_factor(), found.elongation(), found.relief_ratio()),
            (0.0, None, None, None)
        );
        assert_eq!(found.hypsometric_integral(), None);
        assert_eq!(found.stem.unwrap().slope_10_85, None);
        let level = Routed::of(&Grid::filled(7, 7, 5.0));
        let found = level.measure(1000, level.largest());
        assert_eq!((found.mean_slope, found.level_share, found.stem), (0.0, 1.0, None));
        assert_eq!(found.streams, 0);
    }

    proptest! {
        #[test]
        fn figures_are_those_of_plain_sums_over_the_cells(dem in any_terrain(16), cells in 1u32..12) {
            let routed = Routed::of(&dem);
            prop_assume!(dem.values().iter().any(|z| !z.is_nan()));
            let outlet = routed.largest();
            let found = routed.measure(cells, outlet);
            let catchment = delineate(&routed.directions, outlet).unwrap();
            let inside: Vec<usize> = (0..dem.len()).filter(|&i| catchment.contains(dem.cell(i))).collect();
            let z: Vec<f64> = inside.iter().map(|&i| routed.ground.values()[i] as f64).collect();
            let e = found.elevations.unwrap();
            prop_assert!((e.mean_m - z.iter().sum::<f64>() / z.len() as f64).abs() < 1e-6);
            prop_assert_eq!(e.least_m, z.iter().copied().fold(f64::INFINITY, f64::min));
            prop_assert!(e.least_m <= e.median_m && e.median_m <= e.most_m);
            prop_assert!(found.longest_path_drop_m >= -1e-6);
            // The network of all reaches that lie in it.
            let network = extract(
                &routed.directions, &routed.accumulation, &routed.ground, &routed.frame, Threshold::cells(cells), &Silent,
            ).unwrap();
            let lies = |r: &&crate::network::Reach| catchment.contains(dem.cell(*r.cells.last().unwrap() as usize));
            let own = network.reaches.iter().filter(lies);
            let length: f64 = own.map(|r| r.length_m).sum();
            // A reach that ends at a junction holds the step into it.
            prop_assert!((found.stream_length_km * 1000.0 - length).abs() < 1e-6, "{} {length}", found.stream_length_km);
            if let Some(stem) = &found.stem {
                prop_assert!(stem.length_m <= found.longest_path_km * 1000.0 + 1e-6);
                prop_assert!(stem.to_centroid_m >= 0.0 && stem.to_centroid_m <= stem.length_m);
                let totals = crate::network::totals_by_order(&network);
                if network.reaches.iter().all(|r| r.cells.iter().all(|&c| catchment.contains(dem.cell(c as usize)))) {
                    prop_assert_eq!(found.streams, totals.iter().map(|t| t.streams as usize).sum::<usize>());
                }
            }
        }
    }
}
