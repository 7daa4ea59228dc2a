//! The steps of routing: directions, accumulation, and the rasters of both and of the surfaces.

use std::path::Path;

use bothros_core::catchments::Holds;
use bothros_core::conditioning::Conditioned;
use bothros_core::routing::{
    DIRECTION_NODATA, MFD_EXPONENT, OUTLET, dinf_accumulation, dinf_directions, flow_accumulation,
    flow_directions_to_outlets, mfd_accumulation, mfd_shares, weighted_accumulation, with_least_fall,
};
use bothros_core::{Frame, Grid, Part};
use bothros_formats::Crs;
use bothros_products::{
    CONDITIONED, DIVIDED_ACCUMULATION, FLOW_ACCUMULATION, FLOW_ANGLE, FLOW_DIRECTION, FLOW_SHARES, GROUND,
    WEIGHTED_ACCUMULATION,
};
use rayon::prelude::*;

use super::{ROUTED, Run, write};
use crate::inputs;
use crate::{Error, Result, Routing, RoutingMethod};

/// D8 directions, and the accumulation that streams are drawn from.
pub(super) struct Routed {
    pub directions: Grid<u8>,
    /// of D8
    pub accumulation: Grid<u32>,
    /// of D-infinity or MFD
    pub divided: Option<Grid<f64>>,
    /// of D-infinity, until they are written
    pub angles: Option<Grid<f32>>,
}

impl Routed {
    /// Cells upstream and the cell itself.
    pub(super) fn contributing_cells(&self, index: usize) -> f64 {
        match &self.divided {
            Some(sums) => sums.values()[index] + 1.0,
            None => self.accumulation.values()[index].wrapping_add(1) as f64,
        }
    }
}

/// Where flow ends, and the most that comes together.
#[derive(Default)]
pub(super) struct Counted {
    pub outlets: u64,
    /// outlets that do not lie at the edge
    pub sinks: u64,
    /// largest number of cells upstream, with the cell itself
    pub largest: f64,
}

pub(super) fn counted(routed: &Routed, ground: &Grid<f32>) -> Counted {
    let one = |mut sum: Counted, (index, &code): (usize, &u8)| {
        if code == OUTLET {
            sum.outlets += 1;
            sum.sinks += u64::from(!ground.is_edge(index));
        }
        if code != DIRECTION_NODATA {
            sum.largest = sum.largest.max(routed.contributing_cells(index));
        }
        sum
    };
    let both = |a: Counted, b: Counted| Counted {
        outlets: a.outlets + b.outlets,
        sinks: a.sinks + b.sinks,
        largest: a.largest.max(b.largest),
    };
    let codes = routed.directions.values().par_iter().enumerate();
    codes.fold(Counted::default, one).reduce(Counted::default, both)
}

impl Run<'_> {
    /// Routes flow, but for what has been `routed` already.
    pub(super) fn route(
        &mut self,
        routed: Option<Routed>,
        done: &Conditioned,
        routing: &Routing,
        frame: &Frame,
        crs: &Crs,
        notes: &mut Vec<String>,
    ) -> Result<Routed> {
        let surface = done.routing_surface();
        let (directions, accumulation, already, angles) = match routed {
            Some(routed) => (routed.directions, routed.accumulation, routed.divided, routed.angles),
            None => {
                let directions = self.step("finding flow directions", 0.42, |part| {
                    Ok(flow_directions_to_outlets(surface, &done.open, part)?)
                })?;
                let sums =
                    self.step("accumulating flow", ROUTED, |part| Ok(flow_accumulation(&directions, part)?))?;
                (directions, sums, None, None)
            }
        };
        let weights = match &routing.weights {
            Some(path) => {
                let recipe = self.recipe;
                Some(self.step("reading weights", 0.48, |p| {
                    inputs::raster(recipe, ("routing.weights", path), Holds::Values, (frame, crs), notes, p)
                })?)
            }
            None => None,
        };
        let exponent = routing.exponent.unwrap_or(MFD_EXPONENT);
        let angles = match (routing.method, angles) {
            (RoutingMethod::Dinf, None) => Some(
                self.step("finding angles of fall", 0.5, |p| Ok(dinf_directions(surface, &directions, p)?))?,
            ),
            (_, angles) => angles,
        };
        let divided = |weights: Option<&Grid<f32>>, part: &Part<'_>| -> Result<Option<Grid<f64>>> {
            Ok(match (&angles, routing.method) {
                (Some(angles), _) => Some(dinf_accumulation(&directions, angles, weights, part)?),
                (None, RoutingMethod::Mfd) => {
                    Some(mfd_accumulation(surface, &directions, exponent, weights, part)?)
                }
                _ => None,
            })
        };
        let sums = match (routing.method, already) {
            (RoutingMethod::D8, _) => None,
            (_, Some(sums)) => Some(sums),
            _ => self.step("accumulating divided flow", 0.55, |part| divided(None, part))?,
        };
        if let Some(weights) = &weights {
            let dir = self.dir;
            self.step("accumulating weights", 0.58, |part| {
                let weighted = match divided(Some(weights), part)? {
                    Some(sums) => sums,
                    None => weighted_accumulation(&directions, weights, part)?,
                };
                write(dir, &WEIGHTED_ACCUMULATION, &weighted, frame, crs)
            })?;
        }
        if let Some(angles) = &angles {
            let dir = self.dir;
            self.step("writing angles of fall", 0.6, |_| write(dir, &FLOW_ANGLE, angles, frame, crs))?;
        }
        if routing.shares {
            let dir = self.dir;
            self.step("writing shares of flow", 0.62, |part| {
                for (k, product) in FLOW_SHARES.iter().enumerate() {
                    let part = &Part::new(part, k as f64 / 8.0, (k + 1) as f64 / 8.0);
                    write(dir, product, &mfd_shares(surface, &directions, exponent, k, part)?, frame, crs)?;
                }
                Ok(())
            })?;
        }
        Ok(Routed { directions, accumulation, divided: sums, angles: None })
    }

    pub(super) fn write_surfaces(
        &mut self,
        done: &mut Conditioned,
        routed: &Routed,
        routing: &Routing,
        frame: &Frame,
        crs: &Crs,
    ) -> Result<()> {
        let dir = self.dir;
        let conditioned = self.recipe.conditioning.is_some() || routing.flat_slope > 0.0;
        let falling = match routing.flat_slope {
            slope if slope > 0.0 => Some(self.step("letting flats fall", 0.64, |part| {
                Ok(with_least_fall(done.routing_surface(), &routed.directions, slope, frame, part)?)
            })?),
            _ => None,
        };
        let surfaces = || {
            write(dir, &GROUND, &done.ground, frame, crs)?;
            if conditioned {
                match falling.as_ref().or(done.routing.as_ref()) {
                    Some(surface) => write(dir, &CONDITIONED, surface, frame, crs)?,
                    // Where flow was routed on the ground itself, the two hold the same.
                    None => {
                        let [done_at, to] =
                            [GROUND.name, CONDITIONED.name].map(|name| dir.join(format!("{name}.tif")));
                        let written =
                            CONDITIONED.write_same(&to, (&done_at, &GROUND), &done.ground, frame, crs);
                        let name = format!("{}.tif", CONDITIONED.name);
                        written.map_err(|e| Error::write(Path::new(&name), e))?;
                    }
                }
            }
            Ok(())
        };
        let routes = || {
            write(dir, &FLOW_DIRECTION, &routed.directions, frame, crs)?;
            match &routed.divided {
                Some(sums) => write(dir, &DIVIDED_ACCUMULATION, sums, frame, crs),
                None => write(dir, &FLOW_ACCUMULATION, &routed.accumulation, frame, crs),
            }
        };
        // What writes one of them waits at times; both at once do not.
        self.step("writing surfaces, directions and accumulation", 0.78, |_| {
            std::thread::scope(|scope| {
                let surfaces = scope.spawn(surfaces);
                let routes = routes();
                surfaces.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)).and(routes)
            })
        })?;
        // It has been routed on and written.
        done.routing = None;
        Ok(())
    }
}

pub(super) fn method_name(routing: &Routing) -> &'static str {
    match routing.method {
        RoutingMethod::D8 => "d8",
        RoutingMethod::Dinf => "dinf",
        RoutingMethod::Mfd => "mfd",
    }
}
