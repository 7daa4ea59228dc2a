//! Realisations of a DEM: each is conditioned, routed and looked at as the DEM itself was.

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::DemError;
use crate::calibration::{MappedStreams, Scores, agreement, by_agreement};
use crate::catchments::{Catchment, SnapTo, delineate, snap_to_cells};
use crate::conditioning::{Conditioning, condition};
use crate::monitor::check;
use crate::network::{Beginning, Flow};
use crate::routing::{
    ACCUMULATION_NODATA, Method, accumulate_by, flow_directions_to_outlets, single_threaded,
};
use crate::{Error, Frame, Grid, Monitor, Part, Result, Threshold};

/// A pour point as it was placed.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Place {
    /// easting and northing, CRS units
    pub at: (f64, f64),
    /// how far it may be moved, metres
    pub snap_m: f64,
    /// what it is moved to
    pub snap_to: SnapTo,
}

/// What realisations are made of, and what is looked at in each.
#[derive(Clone, Copy)]
pub struct Realisations<'a> {
    /// the prepared DEM, metres
    pub dem: &'a Grid<f32>,
    /// its place
    pub frame: &'a Frame,
    /// its error
    pub error: DemError,
    /// the seed that they belong to
    pub seed: u64,
    /// how each is conditioned
    pub how: &'a Conditioning,
    /// how flow is routed over each
    pub method: Method,
    /// what decides where streams begin, and from which value on
    pub beginning: &'a Beginning,
    /// that value
    pub threshold: Threshold,
    /// pour points: snapped anew in each, as they were
    pub places: &'a [Place],
    /// the mapped streams that each is held against, and the thresholds that are tried
    pub map: Option<(&'a MappedStreams<'a>, &'a [Threshold])>,
}

/// The figures of one realisation.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Realised {
    /// its number
    pub number: u64,
    /// contributing cells of each pour point; none where no stream lies near
    pub cells: Vec<Option<u64>>,
    /// length of its streams at the threshold, metres
    pub length_m: f64,
    /// agreement with the map at the threshold, from 0 to 1
    pub agreement: Option<f64>,
    /// the threshold that agrees best with the map, cells
    pub best: Option<Threshold>,
}

struct One {
    figures: Realised,
    streams: Grid<bool>,
    catchments: Vec<Option<Catchment>>,
}

impl Realisations<'_> {
    fn one(&self, number: u64, monitor: &dyn Monitor) -> Result<One> {
        check(monitor)?;
        let quiet = Cancels(monitor);
        let dem = self.error.realise(self.dem, self.frame, self.seed, number);
        let done = condition(&dem, self.frame, self.how, &quiet)?;
        drop(dem);
        let surface = done.routing_surface();
        let directions = flow_directions_to_outlets(surface, &done.open, &quiet)?;
        let areas = accumulate_by(self.method, surface, &directions, &quiet)?;
        let threads = match self.method.divides() {
            true => Some(single_threaded(&directions, &areas, &quiet)?),
            false => None,
        };
        let gathered = threads.as_ref().unwrap_or(&areas);
        let (ground, frame) = (&done.ground, self.frame);
        let flow = Flow { directions: &directions, accumulation: gathered, ground, frame };
        let begun = self.beginning.on(&flow, &quiet)?;
        drop(done);
        let streams = begun.as_ref().unwrap_or(gathered);
        let stream_at = |cell| self.threshold.is_stream(streams.values()[streams.index(cell)]);
        let nowhere = MappedStreams::everywhere(&[], 1.0);
        let (map, tried) = self.map.unwrap_or((&nowhere, &[]));
        let mut thresholds = tried.to_vec();
        thresholds.push(self.threshold);
        let scores: Vec<Scores> = agreement(&directions, streams, self.frame, map, &thresholds, &quiet)?;
        let own = scores.iter().find(|s| s.threshold == self.threshold);
        let mut catchments = Vec::new();
        for place in self.places {
            match snap_to_cells(&areas, self.frame, &stream_at, place.at, place.snap_m, place.snap_to) {
                Ok(cell) => catchments.push(Some(delineate(&directions, cell)?)),
                Err(Error::NoStreamNear { .. }) => catchments.push(None),
                Err(error) => return Err(error),
            }
        }
        let is_stream = |&a: &u32| a != ACCUMULATION_NODATA && self.threshold.is_stream(a);
        let streams = streams.values().par_iter().map(is_stream).collect();
        Ok(One {
            figures: Realised {
                number,
                cells: catchments.iter().map(|c| c.as_ref().map(|c| c.cells)).collect(),
                length_m: own.map_or(0.0, |s| s.length_m),
                agreement: own.filter(|_| self.map.is_some()).map(Scores::agreement),
                best: self.map.and_then(|_| by_agreement(&scores)).map(|s| s.best),
            },
            streams: Grid::from_vec(areas.rows(), areas.cols(), streams),
            catchments,
        })
    }
}

/// Passes cancellation on, and ignores progress: several work at once.
struct Cancels<'a>(&'a dyn Monitor);

impl Monitor for Cancels<'_> {
    fn progress(&self, _share: f64) {}
    fn is_cancelled(&self) -> bool {
        self.0.is_cancelled()
    }
}

/// What was counted over the realisations so far.
#[derive(Debug, Clone, PartialEq)]
pub struct Tally {
    /// for each cell in how many of them it was stream
    pub streams: Grid<u16>,
    /// for each pour point and cell in how many of them it drained to the pour point
    pub catchments: Vec<Grid<u16>>,
    /// the figures of each, in the order of their numbers
    pub figures: Vec<Realised>,
}

impl Tally {
    /// Nothing counted yet.
    pub fn new(of: &Realisations<'_>) -> Self {
        let none = || Grid::filled(of.dem.rows(), of.dem.cols(), 0u16);
        Self { streams: none(), catchments: of.places.iter().map(|_| none()).collect(), figures: Vec::new() }
    }

    /// Makes the next `count` realisations, so many of them at once, and counts them. Numbers go on from those that were counted; the result does not
    /// depend on how many are made at once.
    ///
    /// # Errors
    /// [`Error::TooManyRealisations`], [`Error::Cancelled`], those of conditioning and routing. What was counted before stays.
    pub fn go_on(
        &mut self,
        of: &Realisations<'_>,
        count: usize,
        at_once: usize,
        monitor: &dyn Monitor,
    ) -> Result<()> {
        let first = self.figures.len();
        if first + count > usize::from(u16::MAX) {
            return Err(Error::TooManyRealisations { most: u16::MAX });
        }
        let numbers: Vec<u64> = (first..first + count).map(|n| n as u64).collect();
        let mut done = 0;
        for batch in numbers.chunks(at_once.max(1)) {
            let part = Part::new(monitor, done as f64 / count as f64, 1.0);
            let all: Vec<One> = batch.par_iter().map(|&n| of.one(n, &part)).collect::<Result<_>>()?;
            for one in all {
                self.count(one);
            }
            done += batch.len();
            monitor.progress(done as f64 / count as f64);
        }
        Ok(())
    }

    fn count(&mut self, one: One) {
        let streams = one.streams.values();
        self.streams.values_mut().par_iter_mut().zip(streams).for_each(|(n, &is)| *n += u16::from(is));
        for (counts, catchment) in self.catchments.iter_mut().zip(&one.catchments) {
            let Some(found) = catchment else { continue };
            let (cols, mask) = (counts.cols(), &found.mask);
            let rows = counts.values_mut().par_chunks_mut(cols).skip(found.row).take(mask.rows());
            rows.zip(mask.values().par_chunks(mask.cols())).for_each(|(row, inside)| {
                for (n, &is) in row[found.col..].iter_mut().zip(inside) {
                    *n += u16::from(is);
                }
            });
        }
        self.figures.push(one.figures);
    }

    /// How many were counted.
    pub fn realisations(&self) -> u32 {
        self.figures.len() as u32
    }

    /// Shares of the realisations that were counted, from 0 to 1; `NaN` where the DEM has no elevation.
    pub fn shares(&self, counts: &Grid<u16>, dem: &Grid<f32>) -> Grid<f32> {
        let all = self.figures.len().max(1) as f32;
        let each = counts.values().par_iter().zip(dem.values());
        let share = each.map(|(&n, z)| if z.is_nan() { f32::NAN } else { f32::from(n) / all });
        Grid::from_vec(counts.rows(), counts.cols(), share.collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::network::Begins;

    fn all(of: &Realisations<'_>, count: usize, at_once: usize) -> Result<Tally> {
        let mut tally = Tally::new(of);
        tally.go_on(of, count, at_once, &Silent)?;
        Ok(tally)
    }

    const FRAME: Frame = Frame { rows: 40, cols: 61, left: 0.0, top: 400.0, cell_size: 10.0, unit_m: 1.0 };

    /// Two valleys that fall to the south, and a ridge of so many metres between them.
    fn two_valleys(ridge: f32) -> Grid<f32> {
        Grid::from_fn(40, 61, |c| {
            let side = (c.col as f32 - 30.0).abs();
            200.0 - c.row as f32 + ridge * (side - 15.0).abs() / 15.0
        })
    }

    fn with<'a>(
        dem: &'a Grid<f32>,
        how: &'a Conditioning,
        places: &'a [Place],
        sd_m: f64,
    ) -> Realisations<'a> {
        Realisations {
            dem,
            frame: &FRAME,
            error: DemError { sd_m, correlation_m: 40.0 },
            seed: 3,
            how,
            method: Method::D8,
            beginning: &BY_AREA,
            threshold: Threshold::cells(200),
            places,
            map: None,
        }
    }

    static BY_AREA: Beginning = Beginning { begins: Begins::Area, heads: Vec::new(), within_m: 0.0 };
    const MOUTH: Place = Place { at: (155.0, 25.0), snap_m: 60.0, snap_to: SnapTo::Largest };

    #[test]
    fn a_small_error_leaves_all_as_it_is_and_a_large_one_does_not() {
        let (dem, how, places) = (two_valleys(20.0), Conditioning::default(), [MOUTH]);
        let sure = all(&with(&dem, &how, &places, 0.001), 20, 2).unwrap();
        let open = all(&with(&dem, &how, &places, 3.0), 20, 2).unwrap();
        let undecided = |t: &Tally| t.catchments[0].values().iter().filter(|n| (1..20).contains(*n)).count();
        assert!(undecided(&sure) * 10 < undecided(&open), "{} {}", undecided(&sure), undecided(&open));
        assert_eq!(sure.realisations(), 20);
        // The sums of what was counted are those of the figures.
        for tally in [&sure, &open] {
            let counted: u64 = tally.catchments[0].values().iter().map(|&n| u64::from(n)).sum();
            assert_eq!(counted, tally.figures.iter().filter_map(|f| f.cells[0]).sum::<u64>());
        }
    }

    #[test]
    fn the_result_is_that_of_its_seed_however_many_are_made_at_once() {
        let (dem, how, places) = (two_valleys(20.0), Conditioning::default(), [MOUTH]);
        let of = with(&dem, &how, &places, 1.0);
        let one = all(&of, 9, 1).unwrap();
        assert_eq!(one, all(&of, 9, 4).unwrap());
        let mut parts = Tally::new(&of);
        parts.go_on(&of, 4, 2, &Silent).unwrap();
        parts.go_on(&of, 5, 2, &Silent).unwrap();
        assert_eq!(one, parts, "and in how many parts");
        assert_ne!(one, all(&Realisations { seed: 4, ..of }, 9, 2).unwrap());
    }

    #[test]
    fn streams_begin_where_they_are_asked_to() {
        let (dem, how) = (two_valleys(20.0), Conditioning::default());
        let heads = vec![[155.0, 205.0]];
        let surveyed = Beginning { begins: Begins::Surveyed, heads, within_m: 30.0 };
        let of = Realisations {
            beginning: &surveyed,
            threshold: Threshold::cells(1),
            ..with(&dem, &how, &[], 0.2)
        };
        let tally = all(&of, 6, 2).unwrap();
        // One stream of half the valley in each, and none in the other valley.
        assert!(tally.figures.iter().all(|f| (150.0..350.0).contains(&f.length_m)), "{:?}", tally.figures);
        let east = (0..dem.len()).filter(|i| i % 61 > 34);
        assert!(east.map(|i| tally.streams.values()[i]).all(|n| n == 0));
    }

    #[test]
    fn shares_are_of_all_that_were_counted() {
        let (mut dem, how) = (two_valleys(20.0), Conditioning::default());
        dem.values_mut()[5] = f32::NAN;
        let of = with(&dem, &how, &[], 0.5);
        let tally = all(&of, 8, 3).unwrap();
        let shares = tally.shares(&tally.streams, &dem);
        assert!(shares.values()[5].is_nan());
        let known = |s: &&f32| !s.is_nan();
        assert!(
            shares.values().iter().filter(known).all(|s| (0.0..=1.0).contains(s) && (s * 8.0).fract() == 0.0)
        );
        assert!(shares.values().iter().any(|&s| s > 0.5), "the valleys are stream in most");
    }

    #[test]
    fn the_map_is_held_against_each() {
        let (dem, how) = (two_valleys(20.0), Conditioning::default());
        let lines = vec![vec![[155.0, 395.0], [155.0, 5.0]], vec![[455.0, 395.0], [455.0, 5.0]]];
        let map = MappedStreams::everywhere(&lines, 15.0);
        let tried = [Threshold::cells(50), Threshold::cells(400)];
        let of = Realisations { map: Some((&map, &tried)), ..with(&dem, &how, &[], 0.5) };
        let tally = all(&of, 4, 2).unwrap();
        for found in &tally.figures {
            assert!(found.agreement.is_some_and(|a| a > 0.3), "{found:?}");
            assert!(found.best.is_some() && found.length_m > 100.0, "{found:?}");
        }
    }

    #[test]
    fn it_can_be_cancelled() {
        struct Stop;
        impl Monitor for Stop {
            fn progress(&self, _: f64) {}
            fn is_cancelled(&self) -> bool {
                true
            }
        }
        let (dem, how) = (two_valleys(20.0), Conditioning::default());
        let of = with(&dem, &how, &[], 0.5);
        let mut tally = Tally::new(&of);
        assert_eq!(tally.go_on(&of, 4, 2, &Stop), Err(Error::Cancelled));
        assert_eq!(tally.realisations(), 0);
    }
}
