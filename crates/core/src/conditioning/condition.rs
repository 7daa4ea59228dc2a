//! How a DEM is conditioned, and what that did.

use serde::{Deserialize, Serialize};

use super::{
    BreachLimits, BreachLineOutcome, Burn, Changes, ClosedBasin, CutAndFill, Line, Polygons, Rebuild, Sink,
    before_sinks,
};
use crate::{Cell, Frame, Grid, Monitor, Part, Result};

/// Treatment of the sinks that remain after all other conditioning steps.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum TreatSinks {
    /// raise each to its spill level
    #[default]
    Fill,
    /// cut a path out of each, within the limits; leave the others
    Breach,
    /// cut paths within the limits, fill what is left
    BreachThenFill,
    /// leave all
    Keep,
}

/// How a DEM is to be conditioned. The default fills all sinks and does nothing else.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Conditioning {
    /// whether voids are filled from their rim; otherwise they are outside
    pub fill_voids: bool,
    /// areas whose ground is rebuilt
    pub rebuild: Vec<Rebuild>,
    /// lakes to be made level, each as its polygons
    pub lakes: Vec<Polygons>,
    /// mapped streams to be burned, and how
    pub burn: Option<(Vec<Line>, Burn)>,
    /// lines that no flow passes
    pub walls: Vec<Line>,
    /// lines along which the ground is lowered, drawn from upstream to downstream
    pub breach_lines: Vec<Line>,
    /// sinks to be kept
    pub closed_basins: Vec<ClosedBasin>,
    /// treatment of the remaining sinks
    pub sinks: TreatSinks,
    /// sinks deeper than this are kept, metres
    pub max_fill_depth_m: Option<f64>,
    /// limits of breaching
    pub breach_limits: BreachLimits,
    /// whether steps tell volumes only and no difference rasters, to save memory
    pub volumes_only: bool,
}

impl Default for BreachLimits {
    fn default() -> Self {
        Self::NONE
    }
}

/// One of the steps.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum StepKind {
    /// voids filled
    Voids,
    /// ground rebuilt
    Rebuild,
    /// lakes made level
    Lakes,
    /// streams burned; changes the routing surface only
    Burn,
    /// walls raised; changes the routing surface only
    Walls,
    /// ground lowered along breach lines
    BreachLines,
    /// paths cut out of sinks
    Breach,
    /// sinks filled
    Fill,
}

impl StepKind {
    /// What it did, in a few words.
    pub fn title(self) -> &'static str {
        match self {
            Self::Voids => "Voids filled",
            Self::Rebuild => "Ground rebuilt in areas",
            Self::Lakes => "Lakes made level",
            Self::Burn => "Streams burned (routing surface)",
            Self::Walls => "Walls raised (routing surface)",
            Self::BreachLines => "Breach lines lowered",
            Self::Breach => "Sinks breached",
            Self::Fill => "Sinks filled",
        }
    }
}

/// What a step did.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Step {
    /// which
    pub kind: StepKind,
    /// the ground it moved: of the routing surface for burning and walls, of the ground surface for
    /// all others
    pub moved: CutAndFill,
    /// the difference raster of the same surface, unless only volumes were wanted
    #[serde(skip)]
    pub changes: Option<Changes>,
    /// wall time, seconds
    pub seconds: f64,
}

/// A remark for the user. Numbers of lines, lakes and places count from 0
/// in the order in which they were given.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "remark")]
pub enum Remark {
    /// voids were filled
    VoidsFilled {
        /// cells
        cells: u64,
    },
    /// an area to be rebuilt lies outside the DEM
    RebuildOutside {
        /// which
        area: usize,
    },
    /// a breach line of an area that is rebuilt runs uphill, and was not followed
    RebuildUphill {
        /// which area
        area: usize,
        /// which of its lines
        line: usize,
    },
    /// a lake lies where there is no elevation
    LakeOutside {
        /// which
        lake: usize,
    },
    /// mapped streams lie where there is no elevation
    StreamsOutside,
    /// a wall lies where there is no elevation
    WallOutside {
        /// which
        wall: usize,
    },
    /// a breach line was not applied
    BreachLine {
        /// which
        line: usize,
        /// why
        outcome: BreachLineOutcome,
    },
    /// there is no sink where a closed basin was marked
    NoSinkThere {
        /// which
        basin: usize,
    },
    /// sinks deeper than the limit were kept
    DeepSinksKept {
        /// the sinks
        sinks: Vec<Sink>,
    },
    /// sinks that could not be breached within the limits, and were not filled
    SinksLeft {
        /// their bottoms
        bottoms: Vec<Cell>,
    },
}

/// A conditioned DEM.
#[derive(Debug, Clone, PartialEq)]
pub struct Conditioned {
    /// the ground surface: elevations in results come from it, metres
    pub ground: Grid<f32>,
    /// the routing surface, where it differs from the ground surface (burned streams or walls)
    pub routing: Option<Grid<f32>>,
    /// the bottoms that stay open: closed basins, and sinks kept for their depth; cell numbers in
    /// row order, ascending
    pub open: Vec<u32>,
    /// what each step did, in order
    pub steps: Vec<Step>,
    /// what should be known
    pub remarks: Vec<Remark>,
}

impl Conditioned {
    /// The surface that flow directions are taken from.
    pub fn routing_surface(&self) -> &Grid<f32> {
        self.routing.as_ref().unwrap_or(&self.ground)
    }
}

/// Runs the steps in their order: voids, local rebuilding, lakes, burning, walls, breach lines, closed
/// basins, then what sinks are left. Where a breach line crosses a wall, the breach line wins.
///
/// `dem` is elevation in metres at `frame`, `NaN` for nodata. Which sinks are closed basins, and
/// which are deeper than the limit, is decided on the ground surface and holds for both surfaces: a
/// burned trench must not make a sink too deep to be filled.
///
/// # Errors
/// [`Error::NoData`](crate::Error::NoData), [`Error::TooManyCells`](crate::Error::TooManyCells),
/// [`Error::Cancelled`](crate::Error::Cancelled).
///
/// ```
/// use bothros_core::{Frame, Grid, Silent, conditioning::{condition, Conditioning, TreatSinks}};
/// let dem = Grid::from_vec(3, 5, vec![
///     9.0, 9.0, 9.0, 9.0, 9.0,
///     9.0, 2.0, 5.0, 1.0, 0.0,
///     9.0, 9.0, 9.0, 9.0, 9.0f32]);
/// let frame = Frame { rows: 3, cols: 5, left: 0.0, top: 3.0, cell_size: 1.0, unit_m: 1.0 };
/// let how = Conditioning { sinks: TreatSinks::Breach, ..Default::default() };
/// let done = condition(&dem, &frame, &how, &Silent)?;
/// assert_eq!(&done.ground.values()[5..10], [9.0, 2.0, 1.5, 1.0, 0.0]);
/// assert_eq!(done.steps[0].moved.cut_m3, 3.5);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn condition(
    dem: &Grid<f32>,
    frame: &Frame,
    how: &Conditioning,
    monitor: &dyn Monitor,
) -> Result<Conditioned> {
    let mut unfilled = before_sinks(dem, frame, how, &Part::new(monitor, 0.0, 0.3))?;
    unfilled.breach(frame, how, &Part::new(monitor, 0.3, 0.7))?;
    unfilled.fill(frame, &Part::new(monitor, 0.7, 1.0))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::{bottoms, fill};
    use crate::routing::{OUTLET, flow_directions_to_outlets};
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    const FRAME: Frame = Frame { rows: 11, cols: 11, left: 0.0, top: 11.0, cell_size: 1.0, unit_m: 1.0 };

    /// A valley to the south with a bank across it in row 6.
    fn valley() -> Grid<f32> {
        Grid::from_fn(11, 11, |c| {
            let z = 20.0 - c.row as f32 + 2.0 * (c.col as f32 - 5.0).abs();
            if c.row == 6 { z.max(24.0) } else { z }
        })
    }

    #[test]
    fn a_breach_line_wins_over_a_wall() {
        let how = Conditioning {
            walls: vec![vec![[0.5, 4.5], [10.5, 4.5]]],
            breach_lines: vec![vec![[5.5, 5.5], [5.5, 3.5]]],
            ..Default::default()
        };
        let done = condition(&valley(), &FRAME, &how, &Silent).unwrap();
        let at = |g: &Grid<f32>, row: usize| g.values()[row * 11 + 5];
        assert_eq!(at(&done.ground, 6), 14.0, "cut to between 15 and 13");
        let routing = done.routing.as_ref().unwrap();
        assert_eq!(at(routing, 6), 14.0, "through the wall too");
        assert_eq!(routing.values()[6 * 11 + 4], 40.0, "which stands beside it");
        assert_eq!(done.ground.values()[6 * 11 + 4], 24.0, "but not on the ground");
        assert_eq!(
            done.steps.iter().map(|s| s.kind).collect::<Vec<_>>(),
            [StepKind::Walls, StepKind::BreachLines, StepKind::Fill]
        );
    }

    #[test]
    fn steps_tell_what_they_changed() {
        let mut how = Conditioning {
            breach_lines: vec![vec![[5.5, 5.5], [5.5, 3.5]]],
            closed_basins: vec![ClosedBasin::At([1.5, 5.5])],
            ..Default::default()
        };
        let mut dem = valley();
        dem.values_mut()[3 * 11 + 5] = 2.0;
        let done = condition(&dem, &FRAME, &how, &Silent).unwrap();
        let mut rebuilt = dem.clone();
        for step in &done.steps {
            let changes = step.changes.as_ref().unwrap();
            assert!(!changes.cells.is_empty());
            let volume: f64 = changes.change_m.iter().map(|&m| m as f64).sum();
            assert!((volume - (step.moved.fill_m3 - step.moved.cut_m3)).abs() < 1e-6);
            for (z, change) in rebuilt.values_mut().iter_mut().zip(changes.to_grid().values()) {
                *z += change;
            }
        }
        assert_eq!(rebuilt, done.ground, "one after the other they lead to the ground surface");
        how.volumes_only = true;
        assert!(condition(&dem, &FRAME, &how, &Silent).unwrap().steps.iter().all(|s| s.changes.is_none()));
    }

    #[test]
    fn burned_trenches_are_not_in_the_ground() {
        let streams = vec![vec![[5.5, 8.5], [5.5, 0.5]]];
        for method in [
            Burn::Trench { depth_m: 30.0 },
            Burn::Graded { depth_m: 30.0, buffer_m: 3.0, buffer_depth_m: 1.0 },
            Burn::Normalised,
            Burn::Carve,
        ] {
            let how = Conditioning {
                burn: Some((streams.clone(), method)),
                max_fill_depth_m: Some(20.0),
                ..Default::default()
            };
            let done = condition(&valley(), &FRAME, &how, &Silent).unwrap();
            assert_eq!(done.ground, fill(&valley(), &Silent).unwrap(), "{method:?}");
            let routing = done.routing.unwrap();
            assert!(bottoms(&routing, &Silent).unwrap().is_empty(), "{method:?}");
            let column: Vec<f32> = (2..11).map(|r| routing.values()[r * 11 + 5]).collect();
            assert!(column.windows(2).all(|w| w[1] <= w[0]), "{method:?}: {column:?}");
        }
    }

    #[test]
    fn what_does_not_fit_is_told() {
        let far = vec![[900.0, 900.0], [901.0, 901.0]];
        let how = Conditioning {
            fill_voids: true,
            lakes: vec![vec![vec![far.clone()]]],
            burn: Some((vec![far.clone()], Burn::Carve)),
            walls: vec![far.clone()],
            breach_lines: vec![vec![[5.5, 3.5], [5.5, 5.5]], far.clone()],
            closed_basins: vec![ClosedBasin::At([5.5, 0.5]), ClosedBasin::At([5.5, 5.5])],
            ..Default::default()
        };
        let done = condition(&valley(), &FRAME, &how, &Silent).unwrap();
        assert_eq!(
            done.remarks,
            [
                Remark::LakeOutside { lake: 0 },
                Remark::StreamsOutside,
                Remark::WallOutside { wall: 0 },
                Remark::BreachLine {
                    line: 0,
                    outcome: BreachLineOutcome::Uphill { upstream_m: 13.0, downstream_m: 15.0 }
                },
                Remark::BreachLine { line: 1, outcome: BreachLineOutcome::Outside },
                Remark::NoSinkThere { basin: 0 },
            ]
        );
        assert_eq!(done.open, [5 * 11 + 5], "the pond behind the bank was declared real");
    }

    proptest! {
        #[test]
        fn every_cell_has_a_way_out_or_down(dem in any_terrain(14), sinks in 0usize..2, x in 0.0f64..14.0, y in 0.0f64..14.0) {
            let frame = Frame { rows: dem.rows(), cols: dem.cols(), top: dem.rows() as f64, ..FRAME };
            let how = Conditioning {
                fill_voids: true,
                sinks: [TreatSinks::Fill, TreatSinks::BreachThenFill][sinks],
                breach_limits: BreachLimits { length_m: Some(6.0), depth_m: Some(20.0) },
                closed_basins: vec![ClosedBasin::At([x, y])],
                ..Default::default()
            };
            let done = condition(&dem, &frame, &how, &Silent).unwrap();
            let directions = flow_directions_to_outlets(&done.ground, &done.open, &Silent).unwrap();
            for i in 0..dem.len() {
                if directions.values()[i] == OUTLET {
                    prop_assert!(done.ground.is_edge(i) || done.open.contains(&(i as u32)));
                }
            }
        }
    }
}
