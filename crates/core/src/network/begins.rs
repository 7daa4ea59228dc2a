//! What decides where streams begin: contributing area, area and slope, land that converges, or heads that were surveyed.

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::calibration::{Surveyed, surveyed_heads};
use crate::routing::{ACCUMULATION_NODATA, DIRECTION_NODATA, carry_down, downstream, weighted_accumulation};
use crate::terrain::{Radius, curvatures, slope, topographic_position};
use crate::{Cell, Frame, Grid, Monitor, Part, Result, Threshold};

/// What decides where streams begin.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[serde(tag = "by", rename_all = "snake_case")]
pub enum Begins {
    /// the contributing area
    #[default]
    Area,
    /// the contributing area, weighed by slope to a power
    SlopeArea(SlopeArea),
    /// the area of converging land upstream
    Converging(Converging),
    /// heads that were surveyed; the threshold holds for the contributing area at a head
    Surveyed,
}

/// A channel begins where `area × (slope / at_slope)^exponent` reaches the threshold, so that steep land needs less area.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct SlopeArea {
    /// the exponent of slope
    pub exponent: f64,
    /// the slope at which the threshold holds as it is, m/m
    pub at_slope: f64,
}

/// Land converges where its contours are bent more than this, the hollow inside.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Converging {
    /// plan curvature beyond which land counts, 1/m
    pub curvature: f64,
    /// elevations are averaged over this radius first, metres; 0 for not at all
    pub over_m: f64,
}

/// The largest exponent of slope that is taken.
const STEEPEST_POWER: f64 = 5.0;

impl SlopeArea {
    /// Whether the figures mean something: an exponent of 0 to 5, a slope from 0.0001 to 10.
    pub fn is_sound(&self) -> bool {
        (0.0..=STEEPEST_POWER).contains(&self.exponent) && (1e-4..=10.0).contains(&self.at_slope)
    }
}

impl Converging {
    /// Whether the figures mean something: a curvature of 0 to 10 per metre, a radius of up to 1 km.
    pub fn is_sound(&self) -> bool {
        (0.0..=10.0).contains(&self.curvature) && (0.0..=1000.0).contains(&self.over_m)
    }
}

/// What streams begin by, with the heads that were surveyed.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Beginning {
    /// what decides
    pub begins: Begins,
    /// surveyed heads, `[x, y]` in CRS units
    pub heads: Vec<[f64; 2]>,
    /// how far the survey may be off, metres
    pub within_m: f64,
}

impl Beginning {
    /// As [`Flow::begun`], with heads found on the flow by [`surveyed_heads`].
    ///
    /// # Errors
    /// Those of [`Flow::begun`].
    pub fn on(&self, flow: &Flow<'_>, monitor: &dyn Monitor) -> Result<Option<Grid<u32>>> {
        let cells = match self.begins {
            Begins::Surveyed => self.found(flow)?.iter().filter_map(Surveyed::cell).collect(),
            _ => Vec::new(),
        };
        flow.begun(self.begins, &cells, monitor)
    }

    /// The surveyed heads on the flow.
    ///
    /// # Errors
    /// Those of [`surveyed_heads`].
    pub fn found(&self, flow: &Flow<'_>) -> Result<Vec<Surveyed>> {
        surveyed_heads(&self.heads, flow.accumulation, flow.ground, flow.frame, self.within_m)
    }
}

/// The surfaces that streams are sought on: `directions` holds D8 codes without cycles, `accumulation` the cells upstream (with one thread for each stream where flow is
/// divided), `ground` the conditioned ground, metres; all lie at `frame`.
#[derive(Clone, Copy)]
pub struct Flow<'a> {
    /// D8 codes
    pub directions: &'a Grid<u8>,
    /// cells upstream
    pub accumulation: &'a Grid<u32>,
    /// metres
    pub ground: &'a Grid<f32>,
    /// their place
    pub frame: &'a Frame,
}

impl Flow<'_> {
    /// What stands in place of the accumulation, so that [`Threshold::is_stream`] tells the streams that begin in this way; none where that is the accumulation itself.
    /// `heads` are the cells of surveyed heads. Along D8 it never falls, so that what is stream stays stream, and networks at rising thresholds stay nested.
    ///
    /// # Errors
    /// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch), [`Error::Cancelled`](crate::Error::Cancelled).
    ///
    /// # Source
    /// Area and slope: Montgomery and Dietrich 1992, Science 255, 826-830. Converging land: Tarboton and Ames 2001, World Water and Environmental Resources
    /// Congress, who accumulate the cells that a test of curvature marks; the curvature here is that of [`curvatures`].
    pub fn begun(&self, begins: Begins, heads: &[Cell], monitor: &dyn Monitor) -> Result<Option<Grid<u32>>> {
        self.directions.same_shape(self.accumulation)?;
        self.directions.same_shape(self.ground)?;
        Ok(match begins {
            Begins::Area => None,
            Begins::SlopeArea(by) => Some(self.by_slope(by, monitor)?),
            Begins::Converging(by) => Some(self.converging(by, monitor)?),
            Begins::Surveyed => Some(self.below(heads)),
        })
    }

    fn by_slope(&self, by: SlopeArea, monitor: &dyn Monitor) -> Result<Grid<u32>> {
        let slope = slope(self.ground, self.frame.cell_m(), &Part::new(monitor, 0.0, 0.5))?;
        let areas = self.accumulation.values();
        let largest = areas.par_iter().filter(|a| **a != ACCUMULATION_NODATA).max().copied().unwrap_or(0);
        let most = f64::from(Threshold::most(largest));
        let weigh = |(&cells, &steep): (&u32, &f32)| match cells {
            ACCUMULATION_NODATA => 0,
            cells => {
                let relative = f64::from(steep) / by.at_slope;
                let cells = f64::from(Threshold::most(cells)) * relative.powf(by.exponent);
                // No stream asks for more than the largest there is.
                cells.min(most) as u32
            }
        };
        let own = areas.par_iter().zip(slope.values()).map(weigh).collect();
        drop(slope);
        let carried = carry_down(self.directions, own, &Part::new(monitor, 0.6, 1.0))?;
        Ok(self.as_accumulation(|at| carried.values()[at]))
    }

    fn converging(&self, by: Converging, monitor: &dyn Monitor) -> Result<Grid<u32>> {
        let part = |from, to| Part::new(monitor, from, to);
        let cell_m = self.frame.cell_m();
        let plan = match by.over_m >= cell_m {
            false => curvatures(self.ground, cell_m, &part(0.0, 0.5))?.plan,
            true => {
                let radius = Radius::Metres(by.over_m);
                let mut mean = topographic_position(self.ground, self.frame, radius, &part(0.0, 0.25))?;
                mean.values_mut().par_iter_mut().zip(self.ground.values()).for_each(|(m, z)| *m = z - *m);
                curvatures(&mean, cell_m, &part(0.25, 0.5))?.plan
            }
        };
        let converges = |&bent: &f32| f32::from(u8::from(-f64::from(bent) > by.curvature));
        let counted =
            Grid::from_vec(plan.rows(), plan.cols(), plan.values().par_iter().map(converges).collect());
        drop(plan);
        let above = weighted_accumulation(self.directions, &counted, &part(0.5, 1.0))?;
        let (above, own) = (above.values(), counted.values());
        Ok(self.as_accumulation(|at| above[at].max(0.0) as u32 + own[at] as u32))
    }

    fn below(&self, heads: &[Cell]) -> Grid<u32> {
        let mut stream = vec![false; self.directions.len()];
        for &head in heads {
            let mut next = self.directions.get(head).map(|_| self.directions.index(head));
            while let Some(at) = next.filter(|&at| !stream[at]) {
                stream[at] = true;
                next = downstream(self.directions, at);
            }
        }
        let areas = self.accumulation.values();
        self.as_accumulation(|at| if stream[at] { Threshold::most(areas[at]) } else { 0 })
    }

    /// From the largest threshold, in cells, at which each cell is stream.
    fn as_accumulation(&self, most: impl Fn(usize) -> u32 + Sync) -> Grid<u32> {
        let codes = self.directions.values();
        let cells = (0..codes.len()).into_par_iter().map(|at| match codes[at] {
            DIRECTION_NODATA => ACCUMULATION_NODATA,
            // Nothing upstream of less than one cell is told as none, as where a stream was pruned.
            _ => most(at).wrapping_sub(1),
        });
        Grid::from_vec(self.directions.rows(), self.directions.cols(), cells.collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::fill;
    use crate::network::extract;
    use crate::routing::{flow_accumulation, flow_directions};
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    struct Routed {
        ground: Grid<f32>,
        directions: Grid<u8>,
        accumulation: Grid<u32>,
        frame: Frame,
    }

    impl Routed {
        fn of(dem: &Grid<f32>) -> Self {
            let frame = Frame {
                rows: dem.rows(),
                cols: dem.cols(),
                left: 0.0,
                top: 0.0,
                cell_size: 10.0,
                unit_m: 1.0,
            };
            let ground = fill(dem, &Silent).unwrap();
            let directions = flow_directions(&ground, &Silent).unwrap();
            let accumulation = flow_accumulation(&directions, &Silent).unwrap();
            Self { ground, directions, accumulation, frame }
        }
        fn flow(&self) -> Flow<'_> {
            let Self { ground, directions, accumulation, frame } = self;
            Flow { directions, accumulation, ground, frame }
        }
        fn begun(&self, begins: Begins, heads: &[Cell]) -> Grid<u32> {
            self.flow().begun(begins, heads, &Silent).unwrap().unwrap()
        }
    }

    /// Two planes side by side that fall south, one by 40 %, one by 10 %, with a wall between them.
    fn two_slopes() -> Grid<f32> {
        Grid::from_fn(40, 21, |c| match c.col {
            10 => 900.0,
            col if col < 10 => 200.0 - 4.0 * c.row as f32,
            _ => 200.0 - c.row as f32,
        })
    }

    #[test]
    fn steep_land_needs_less_area() {
        let land = Routed::of(&two_slopes());
        let by = |exponent| Begins::SlopeArea(SlopeArea { exponent, at_slope: 0.1 });
        let at = |grid: &Grid<u32>, row, col| grid.get(Cell { row, col }).copied().unwrap();
        let begun = land.begun(by(1.0), &[]);
        // The sixth cell down a column gathers six cells: at four times the slope they count as 24.
        assert_eq!((at(&land.accumulation, 5, 4), at(&begun, 5, 4)), (5, 23));
        assert_eq!((at(&land.accumulation, 5, 15), at(&begun, 5, 15)), (5, 5));
        // Four times the slope to the second power is sixteen times the area, up to the largest there is.
        assert_eq!(at(&land.begun(by(2.0), &[]), 1, 4), 31);
        assert_eq!(at(&land.begun(by(2.0), &[]), 30, 4), *land.accumulation.values().iter().max().unwrap());
        // Without an exponent it is the area.
        assert_eq!(land.begun(by(0.0), &[]), land.accumulation);
    }

    #[test]
    fn only_land_that_converges_counts() {
        // A valley of parabolic section that falls south: contours bend all over it; a plane beside has none that bend.
        let valley = Grid::from_fn(30, 41, |c| {
            let off = (c.col as f32 - 20.0).abs().min(10.0);
            300.0 - 2.0 * c.row as f32 + off * off * 0.2
        });
        let land = Routed::of(&valley);
        let begun = land.begun(Begins::Converging(Converging { curvature: 1e-3, over_m: 0.0 }), &[]);
        let outlet = Cell { row: 29, col: 20 };
        let (all, some) = (land.accumulation.get(outlet).unwrap(), begun.get(outlet).unwrap());
        assert!(some < all && *some > all / 3, "{some} of {all}");
        // On the plane nothing converges, so that nothing is stream at any threshold.
        let beside = *begun.get(Cell { row: 5, col: 1 }).unwrap();
        assert!(!Threshold::cells(1).is_stream(beside));
        // Beyond what the valley bends, nothing does.
        let none = land.begun(Begins::Converging(Converging { curvature: 5.0, over_m: 0.0 }), &[]);
        assert!(none.values().iter().all(|&a| !Threshold::cells(1).is_stream(a)));
        // Averaged over ten cells the floor of the valley is less bent than it was.
        let mean = land.begun(Begins::Converging(Converging { curvature: 1e-3, over_m: 60.0 }), &[]);
        assert!(Threshold::cells(1).is_stream(*mean.get(outlet).unwrap()));
    }

    #[test]
    fn surveyed_heads_and_what_lies_below_them_are_streams() {
        let land = Routed::of(&two_slopes());
        let heads = [
            Cell { row: 12, col: 3 },
            Cell { row: 20, col: 3 },
            Cell { row: 30, col: 16 },
            Cell { row: 99, col: 0 },
        ];
        let begun = land.begun(Begins::Surveyed, &heads);
        let network = |threshold| {
            let Routed { directions, ground, frame, .. } = &land;
            extract(directions, &begun, ground, frame, Threshold::cells(threshold), &Silent).unwrap()
        };
        // One of them lies on the way down from another.
        assert_eq!(network(1).headwaters(), 2);
        // The threshold is the least area of a head: the higher one gathers 13 cells, so that its stream begins further down.
        assert_eq!(network(20).stream_cells, 40 - 19 + 10);
        assert_eq!(network(400).reaches.len(), 0);
    }

    proptest! {
        /// What is stream stays stream downhill, at every threshold, and outside stays outside.
        #[test]
        fn nothing_falls_along_the_flow(dem in any_terrain(14), exponent in 0.0..3.0f64, curvature in 0.0..0.1f64) {
            let land = Routed::of(&dem);
            let heads: Vec<Cell> = (0..dem.len()).step_by(17).map(|at| dem.cell(at)).collect();
            for begins in [
                Begins::SlopeArea(SlopeArea { exponent, at_slope: 0.2 }),
                Begins::Converging(Converging { curvature, over_m: 0.0 }),
                Begins::Surveyed,
            ] {
                let begun = land.begun(begins, &heads);
                for at in 0..dem.len() {
                    let own = Threshold::most(begun.values()[at]);
                    if land.directions.values()[at] == DIRECTION_NODATA {
                        prop_assert_eq!(own, 0);
                    }
                    if let Some(next) = downstream(&land.directions, at) {
                        prop_assert!(Threshold::most(begun.values()[next]) >= own);
                    }
                }
            }
        }
    }
}
