//! Single tasks: a band in a phase, and bands that stay in memory from phase to phase.

use std::time::{Duration, Instant};

use bothros_core::conditioning::{BreachingBand, FillingBand, reach_of_breaching};
use bothros_core::routing::{AccumulatingBand, Divided, Division, RoutingBand};
use bothros_core::{Band, Grid, Monitor, Rim};

use crate::error::Result;
use crate::joint::{Joint, Land, SURFACE};
use crate::phases::{Exchange, Phase, task};
use crate::pieces::{BESIDE, numbered, told_in};
use crate::rows;

/// So long a process leaves bands to those that have begun them, when it has nothing else to do.
const LEAVES_THEM: Duration = Duration::from_secs(2);

/// What a process still has of a band that it worked on in the phase before.
pub(crate) enum Held {
    Breaching(BreachingBand),
    Filling(FillingBand),
    Filled(Grid<f32>),
    Routing(RoutingBand),
    Accumulating(AccumulatingBand),
}

impl Held {
    /// Bytes of memory that a cell takes.
    fn bytes_a_cell(&self) -> u64 {
        match self {
            Self::Breaching(_) => 36,
            _ => 10,
        }
    }
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
            if !alone && phase != Phase::first(land) && !self.may_take(phase, band) {
                continue;
            }
            let task = if phase.is_settling() { phase.name() } else { task(phase, band) };
            if !self.member.take(&task)? {
                continue;
            }
            self.idle = None;
            match phase {
                Phase::Breach(round) => {
                    let last = self.last_done(land, Exchange::Cuts, round)?;
                    let breaching = self.breaching(land, &last, band, monitor)?;
                    self.tell(&told_in(Exchange::Cuts, round, band), &breaching.lowered())?;
                    self.hold(land, band, Held::Breaching(breaching));
                }
                Phase::SettleBreach(round) => self.settle_cuts(land, round)?,
                Phase::Cut => {
                    let last = self.last_done(land, Exchange::Cuts, self.last_round(Exchange::Cuts))?;
                    let (ground, breaches) = self.breaching(land, &last, band, monitor)?.done();
                    self.put_band(land.unfilled(), band, &ground)?;
                    self.tell(&numbered("breaches", band), &breaches)?;
                }
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
                    let last = self.last_done(land, Exchange::Steps, round)?;
                    let routing = self.routing(land, &last, band, monitor)?;
                    self.tell(&told_in(Exchange::Steps, round, band), &routing.rim())?;
                    self.hold(land, band, Held::Routing(routing));
                }
                Phase::Flow => {
                    let last = self.last_done(land, Exchange::Steps, self.last_round(Exchange::Steps))?;
                    let codes = self.routing(land, &last, band, monitor)?.directions(monitor)?;
                    self.put_band("codes", band, &codes)?;
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
                Phase::Divide => {
                    if let Some(division) = land.ways.division {
                        self.divide(land, band, division, monitor)?;
                    }
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
            // Nobody has anything of it in memory.
            Phase::Spills | Phase::Divide => true,
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
        let bytes = |band: usize, what: &Held| cells(band).saturating_mul(what.bytes_a_cell());
        let others = self.held.iter().filter(|(other, _)| **other != band);
        let held: u64 = others.map(|(&other, what)| bytes(other, what)).sum();
        if held.saturating_add(bytes(band, &what)) <= self.room {
            self.held.insert(band, what);
        } else {
            self.held.remove(&band);
            self.let_go.insert(band);
        }
    }

    /// A band whose sinks are breached, with what was cut beside it by what was done `last`: as it is in memory, or from its
    /// elevations.
    fn breaching(
        &mut self,
        land: &Land,
        last: &[Option<u32>],
        band: usize,
        monitor: &dyn Monitor,
    ) -> Result<BreachingBand> {
        let told = self.cuts_beside(land, last, band)?;
        let mut breaching = match (self.held.remove(&band), land.breaches) {
            (Some(Held::Breaching(breaching)), _) => breaching,
            (_, limits) => {
                let (frame, limits) = limits.ok_or(bothros_core::Error::NoData)?;
                let beside = reach_of_breaching(limits, &frame).unwrap_or(0) + 1;
                let sinks: Vec<u32> = self.told(&numbered("sinks", band))?;
                let (row, open) = (land.bands[band].start, &land.ways.open[..]);
                let ground = self.band(SURFACE, land, band, beside)?;
                BreachingBand::begin(ground, row, (&sinks, open), &frame, limits)?
            }
        };
        breaching.breach(told, monitor)?;
        Ok(breaching)
    }

    /// A band that is being filled: as it is in memory, or from its elevations.
    fn filling(&mut self, land: &Land, band: usize, monitor: &dyn Monitor) -> Result<FillingBand> {
        match self.held.remove(&band) {
            Some(Held::Filling(filling)) => Ok(filling),
            _ => {
                let surface = self.band(land.unfilled(), land, band, 1)?;
                let open = open_in(land, &surface, band);
                Ok(FillingBand::begin(surface, open, monitor)?)
            }
        }
    }

    /// Divides the flow of a band as far as it can by itself.
    fn divide(&self, land: &Land, band: usize, division: Division, monitor: &dyn Monitor) -> Result<()> {
        let surface = self.band(land.routed(), land, band, BESIDE)?;
        let codes = self.band("codes", land, band, BESIDE)?;
        let Divided { angles, sums, waiting, mut leaving } =
            Divided::begin(division, &surface, &codes, monitor)?;
        if let Some(angles) = angles {
            rows::put(&self.shelf, &numbered("angles", band), &angles)?;
        }
        rows::put(&self.shelf, &numbered("sums", band), &sums)?;
        rows::put(&self.shelf, &numbered("waiting", band), &waiting)?;
        let first = (land.bands[band].start * land.cols) as u32;
        leaving.iter_mut().for_each(|at| *at += first);
        self.tell(&numbered("leaving", band), &leaving)
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
            held => {
                let what = land.routed();
                let surface = match held {
                    Some(Held::Filled(filled)) => self.with_rows_beside(what, land, band, &filled, BESIDE)?,
                    _ => self.band(what, land, band, BESIDE)?,
                };
                RoutingBand::begin(&surface, &open_in(land, &surface, band), monitor)?
            }
        };
        routing.count_on(&told, monitor)?;
        Ok(routing)
    }
}

/// Cells where water stays in a band and the rows beside it.
fn open_in(land: &Land, surface: &Band<f32>, band: usize) -> Vec<u32> {
    surface.numbers_of(&land.ways.open, land.bands[band].start)
}
