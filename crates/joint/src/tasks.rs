//! Single tasks: a band in a phase, and bands that stay in memory from phase to phase.

use std::time::{Duration, Instant};

use bothros_core::conditioning::FillingBand;
use bothros_core::routing::{AccumulatingBand, RoutingBand};
use bothros_core::{Grid, Monitor, Rim};

use crate::error::Result;
use crate::joint::{Joint, Land};
use crate::phases::{Phase, task};
use crate::pieces::{BESIDE, numbered, steps};
use crate::rows;

/// So long a process leaves bands to those that have begun them, when it has nothing else to do.
const LEAVES_THEM: Duration = Duration::from_secs(2);
/// Bytes of memory that a cell takes of a band that is kept in memory between phases.
const HELD: u64 = 10;

/// What a process still has of a band that it worked on in the phase before.
pub(crate) enum Held {
    Filling(FillingBand),
    Filled(Grid<f32>),
    Routing(RoutingBand),
    Accumulating(AccumulatingBand),
}

impl Joint {
    /// Does one task of a phase that nobody does; whether there was one.
    pub(crate) fn work_on(
        &mut self,
        land: &Land,
        phase: Phase,
        bands: &[usize],
        monitor: &dyn Monitor,
    ) -> Result<bool> {
        // Each process begins elsewhere, so that they seldom want the same; what it has in memory goes first.
        let own = self
            .member
            .name()
            .bytes()
            .fold(0usize, |sum, byte| sum.wrapping_mul(31).wrapping_add(byte as usize));
        let mut bands: Vec<usize> = (0..bands.len()).map(|at| bands[(at + own) % bands.len()]).collect();
        bands.sort_by_key(|band| !self.held.contains_key(band));
        let alone = self.member.is_alone()?;
        for band in bands {
            if !alone && !self.may_take(phase, band) {
                continue;
            }
            let task = if phase.is_settling() { phase.name() } else { task(phase, band) };
            if !self.member.take(&task)? {
                continue;
            }
            self.idle = None;
            match phase {
                Phase::SettleSpills => self.settle_spills(land, monitor)?,
                Phase::SettleSteps(round) => self.settle_steps(land, round)?,
                Phase::SettleFlow => self.settle_flow(land, monitor)?,
                Phase::Spills => {
                    let filling = self.filling(land, band, monitor)?;
                    self.tell(&numbered("spills", band), &filling.spills(monitor)?)?;
                    self.hold(land, band, Held::Filling(filling));
                }
                Phase::Fill => {
                    let levels: Rim<f32> = self.told(&numbered("levels", band))?;
                    let filled = self.filling(land, band, monitor)?.fill(&levels, monitor)?;
                    self.put_band("filled", band, &filled)?;
                    self.hold(land, band, Held::Filled(filled));
                }
                Phase::Steps(round) => {
                    let last = self.last_done(land, round)?;
                    let routing = self.routing(land, &last, band, monitor)?;
                    self.tell(&steps(round, band), &routing.rim())?;
                    self.hold(land, band, Held::Routing(routing));
                }
                Phase::Flow => {
                    let last = self.last_done(land, self.last_round())?;
                    let codes = self.routing(land, &last, band, monitor)?.directions(monitor)?;
                    rows::put(&self.shelf, &numbered("codes", band), &codes)?;
                    let accumulating = AccumulatingBand::begin(codes, monitor)?;
                    self.tell(&numbered("flow", band), &accumulating.flow(monitor)?)?;
                    self.hold(land, band, Held::Accumulating(accumulating));
                }
                Phase::Accumulate => {
                    let inflow: Rim<u32> = self.told(&numbered("inflow", band))?;
                    let accumulating = match self.held.remove(&band) {
                        Some(Held::Accumulating(accumulating)) => accumulating,
                        _ => AccumulatingBand::begin(self.rows("codes", land, band)?, monitor)?,
                    };
                    let sums = accumulating.accumulate(&inflow, monitor)?;
                    rows::put(&self.shelf, &numbered("accumulation", band), &sums)?;
                }
            }
            self.shelf.put(&format!("done/{task}"), Vec::new())?;
            return Ok(true);
        }
        if self.idle.is_none_or(|(of, _)| of != phase) {
            self.idle = Some((phase, Instant::now()));
        }
        Ok(false)
    }

    /// Whether a band is to be taken: one that another process has in memory is left to it for a while.
    fn may_take(&self, phase: Phase, band: usize) -> bool {
        match phase {
            Phase::Spills => true,
            phase if phase.is_settling() => true,
            phase => {
                self.held.contains_key(&band)
                    || self.let_go.contains(&band)
                    || self.idle.is_some_and(|(of, since)| of == phase && since.elapsed() > LEAVES_THEM)
            }
        }
    }

    /// Keeps a band in memory for the next phase, if there is room.
    fn hold(&mut self, land: &Land, band: usize, what: Held) {
        let cells = |band: usize| (land.bands[band].len() * land.cols) as u64;
        let held: u64 = self.held.keys().copied().filter(|&other| other != band).map(cells).sum();
        if (held + cells(band)).saturating_mul(HELD) <= self.room {
            self.held.insert(band, what);
        } else {
            self.held.remove(&band);
            self.let_go.insert(band);
        }
    }

    /// A band that is being filled: as it is in memory, or from its elevations.
    fn filling(&mut self, land: &Land, band: usize, monitor: &dyn Monitor) -> Result<FillingBand> {
        match self.held.remove(&band) {
            Some(Held::Filling(filling)) => Ok(filling),
            _ => Ok(FillingBand::begin(self.band("dem", land, band, 1)?, monitor)?),
        }
    }

    /// A band whose directions are sought, with what was told beside it by what was done `last`: as it is in memory, or from the
    /// filled surface.
    fn routing(
        &mut self,
        land: &Land,
        last: &[Option<u32>],
        band: usize,
        monitor: &dyn Monitor,
    ) -> Result<RoutingBand> {
        let told = self.steps_beside(land, last, band)?;
        let mut routing = match self.held.remove(&band) {
            Some(Held::Routing(routing)) => routing,
            Some(Held::Filled(filled)) => {
                RoutingBand::begin(&self.with_rows_beside("filled", land, band, &filled, BESIDE)?, monitor)?
            }
            _ => RoutingBand::begin(&self.band("filled", land, band, BESIDE)?, monitor)?,
        };
        routing.count_on(&told, monitor)?;
        Ok(routing)
    }
}
